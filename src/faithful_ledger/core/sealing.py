"""A seal that was found goes into a template, once a trial on a copy says that it holds and takes no other field."""

from __future__ import annotations

import io
from typing import Any

from faithful_ledger.core.binding.spans import fields_between
from faithful_ledger.core.errors import EntryError, LedgerError
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.save import Save
from faithful_ledger.core.seals.finder.finding import Finding
from faithful_ledger.core.template import parse_template
from faithful_ledger.core.template.loader import round_trip

__all__ = ["seal_element", "try_seal", "with_seal"]

FORMS = ("bytes", "hex", "HEX", "decimal", "base64")


def seal_element(finding: Finding, size: int, name: str) -> dict[str, Any]:
    """The field of a template, for saves of which one has `size` bytes."""
    start, end, at = finding.spans(size)
    kind: dict[str, Any] = {"as": finding.form}
    if finding.form in FORMS:
        kind = {"as": "checksum", "size": finding.size}
        kind |= {"written": finding.form} if finding.form != "bytes" else {}
    last = -finding.end.offset if finding.end.from_end else end
    over: dict[str, int] = {"from": start} | ({"to": last} if last else {})
    seal: dict[str, Any] = {"algorithm": finding.algorithm.name, "over": over}
    parameters = finding.parameters
    if finding.algorithm.crc is not None:
        own = parameters.pop("own", None)
        changed = parameters.pop("changed", None)
        seal["crc"] = {key: value for key, value in parameters.items() if key != "key"}
        parameters = {key: value for key, value in (("own", own), ("changed", changed)) if value is not None}
    seal |= parameters
    note = f"holds in {finding.holds_in} of {finding.of} copies; {finding.sureness_in_words}"
    place = -finding.stored.offset if finding.stored.from_end else at
    return {"field": name, "at": place, **kind, "seal": seal, "note": note, "standing": "fits"}


def with_seal(text: bytes, finding: Finding, size: int) -> tuple[bytes, str]:
    """A template with one seal more in its main file, and the path of its field. Comments and all else stay.

    Raises:
        TemplateError: the result would not be a template; nothing was changed.
    """
    yaml = round_trip()
    document = yaml.load(text.decode("utf-8"))
    layout = next(iter(document["files"].values()))["layout"]
    taken = {str(value) for element in layout for key, value in element.items() if key in ("field", "group", "rows")}
    wanted = f"seal_{finding.stored.at(size):x}"
    name, number = wanted, 2
    while name in taken:
        name, number = f"{wanted}_{number}", number + 1
    layout.append(seal_element(finding, size, name))
    out = io.BytesIO()
    yaml.dump(document, out)
    parse_template(out.getvalue(), f"{document['id']}.yaml")
    return out.getvalue(), name


def try_seal(save: Save, text: bytes, name: str) -> None:
    """Open a copy of a save with the template.

    Raises:
        EntryError: the seal does not hold there, or another field has the same bytes.
    """
    remedy = "the template was not changed"
    try:
        opened = open_save(save.path, parse_template(text, "the template"), save.roots)
        if opened.problem is not None:
            raise opened.problem
        (node,) = opened.fields(name)
        state = next(state for state in opened.seals if state.name == node.path)
    except (LedgerError, StopIteration) as error:
        what = error.what if isinstance(error, LedgerError) else "it is not there"
        raise EntryError(f"the seal {name} cannot be read in this save: {what}", remedy) from error
    root = opened.main.bound.root if opened.main.bound is not None else None
    others = [each for each in fields_between(root, node.start, node.end) if each is not node] if root else []
    described = [each.path for each in others if not each.spec.unknown and each.path != node.path]
    if described:
        what = f"{described[0]} has these bytes already"
        raise EntryError(what, f"{remedy}; make that field the seal, or take it out first")
    if not state.holds:
        raise EntryError(f"the seal {name} does not hold in this save", f"{remedy}; look for seals again")
