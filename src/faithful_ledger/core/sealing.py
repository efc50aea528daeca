"""A seal that was found goes into a template, once a trial on a copy says that it holds and takes no other field."""

from __future__ import annotations

from typing import Any

from faithful_ledger.core.errors import EntryError
from faithful_ledger.core.pinning import opened_with
from faithful_ledger.core.save import Save
from faithful_ledger.core.seals.finder.finding import Finding
from faithful_ledger.core.storage import WRITTEN
from faithful_ledger.core.template.extend import with_free_name
from faithful_ledger.core.template.loader import dumped, round_trip

__all__ = ["seal_element", "try_seal", "with_seal"]


def seal_element(finding: Finding, size: int, name: str) -> dict[str, Any]:
    """The field of a template, for saves of which one has `size` bytes."""
    start, end, at = finding.spans(size)
    kind: dict[str, Any] = {"as": finding.form}
    if finding.form in WRITTEN:
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
    element = seal_element(finding, size, f"seal_{finding.stored.at(size):x}")
    with_free_name(element, layout)
    layout.append(element)
    return dumped(yaml, document), str(element["field"])


def try_seal(save: Save, text: bytes, name: str) -> None:
    """Open a copy of a save with the template.

    Raises:
        EntryError: the seal does not hold there, or another field has the same bytes.
    """
    remedy = "the template was not changed; look for seals again, or make the field that is there the seal"
    opened, node, _ = opened_with(save, text, name, remedy)
    if not any(state.holds for state in opened.seals if state.name == node.path):
        raise EntryError(f"the seal {name} does not hold in this save", remedy)
