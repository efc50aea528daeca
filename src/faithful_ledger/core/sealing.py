"""A seal that was found goes into a template, once a trial on a copy says that it holds and takes no other field."""

from __future__ import annotations

from typing import Any

from faithful_ledger.core.describe.draft import Draft
from faithful_ledger.core.describe.sealing import block_keys, storage_keys
from faithful_ledger.core.errors import EntryError
from faithful_ledger.core.seals.algorithms import Algorithm
from faithful_ledger.core.seals.finder.blocks import BlockRule
from faithful_ledger.core.seals.finder.finding import Finding
from faithful_ledger.core.seals.finder.selection import Stored

__all__ = ["blocks_found", "seal_chosen", "seal_found"]


def seal_found(draft: Draft, finding: Finding) -> str:
    """Put a seal into the main file of a template; where no element is at its edges, offsets say what it covers, as
    they were found. Returns the path of its field.
    """
    size = draft.save.main.source.size
    start, end, at = finding.spans(size)
    last = -finding.end.offset if finding.end.from_end else end
    over = {"from": start} | ({"to": last} if last else {})
    seal = _seal_keys(finding.algorithm) | ({"own": finding.own} if finding.own is not None else {})
    note = f"holds in {finding.holds_in} of {finding.of} copies; {finding.sureness_in_words}"
    place = -finding.stored.offset if finding.stored.from_end else None
    return _put(draft, (at, at + finding.size), finding.form, seal, (start, end), over, note, place)


def seal_chosen(draft: Draft, stored: Stored, over: tuple[int, int], file: str = "") -> str:
    """Put a checksum of chosen bytes into a file of a template. Returns the path of its field."""
    note = f"holds in {stored.holds_in} of {stored.of} copies"
    at = stored.at, stored.at + stored.size
    to_end = over[1] == draft.save.main.source.size
    offsets = {"from": over[0]} | ({} if to_end else {"to": over[1]})
    return _put(draft, at, stored.form, _seal_keys(stored.algorithm), over, offsets, note, None, file)


def blocks_found(draft: Draft, rule: BlockRule) -> None:
    """Describe a row of blocks with a seal in each, from where it begins to the end of the main file.

    Raises:
        EntryError: something describes some of these bytes, or blocks do not end with the file.
    """
    source = draft.save.main.source
    content = bytes(source.read(0, source.size))
    keys = block_keys(rule, content)
    draft.add(draft.save.main.name, rule.start, len(content), keys)


def _put(
    draft: Draft,
    at: tuple[int, int],
    form: str,
    seal: dict[str, Any],
    over: tuple[int, int],
    offsets: dict[str, int],
    note: str,
    from_end: int | None,
    file: str = "",
) -> str:
    """Raises EntryError where the seal does not hold in the save."""
    path = draft.seal(file or draft.save.main.name, at, storage_keys(at[1] - at[0], form), seal, over, offsets)
    keys: dict[str, Any] = {"note": note, "standing": "fits"}
    node = draft.node(path)
    if from_end is not None and node.spec.address.base == "start":
        keys["at"] = from_end
    draft.set(path, keys)
    draft.read_again()
    if not any(state.holds for state in draft.save.seals if state.name == path):
        what = f"the seal {path} does not hold in this save"
        raise EntryError(what, "the template was not changed; look for seals again")
    return path


def _seal_keys(algorithm: Algorithm) -> dict[str, Any]:
    keys: dict[str, Any] = {"algorithm": algorithm.name}
    if algorithm.crc is not None:
        crc = algorithm.crc._asdict()
        out = crc.pop("reflected_out")
        keys["crc"] = {key: value for key, value in crc.items() if value or key == "width"}
        keys["crc"] |= {"reflected_out": out} if out != algorithm.crc.reflected else {}
    if algorithm.start is not None:
        keys["start"] = algorithm.start
    if algorithm.unit > 1:
        keys["unit"] = algorithm.unit
    if algorithm.changed:
        keys["changed"] = algorithm.changed
    if algorithm.key:
        keys["key"] = algorithm.key.hex(" ").upper()
    return keys
