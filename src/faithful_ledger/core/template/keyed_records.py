"""Records that change places as rows of a template, with a field in each of them."""

from __future__ import annotations

from typing import Any

from faithful_ledger.core.errors import EntryError
from faithful_ledger.core.evidence.place import KeyedRecords
from faithful_ledger.core.storage import NUMBERS
from faithful_ledger.core.template.names import free_name
from faithful_ledger.core.template.rewriting import Hex

__all__ = ["KEYED_NOTE", "KEY_NAME", "LIST_NOTE", "field_in_rows"]

KEY_NAME, KEY_LABEL = "id", "Id"
KEYED_NOTE = "the number in each tells it from the others, wherever it is"
LIST_NOTE = "one of two lists beside each other, of which one says what the numbers of the other are of"
UNKNOWN = "bytes"


def field_in_rows(layout: list[dict[str, Any]], records: KeyedRecords, field: dict[str, Any]) -> tuple[str, str]:
    """Put a field into the rows that some records are, which are described where they are not; a field that has its
    bytes already stays. Returns the name of the rows, and that of the field in them with the key of its record.

    Raises:
        EntryError: other fields have some of its bytes.
    """
    if records.keys is not None:
        return _in_lists(layout, records, records.keys, field)
    rows = next((each for each in layout if "rows" in each and _is_of(each, records)), None)
    if rows is None:
        rows = _new_rows(layout, records)
        layout.append(rows)
    step = (records.start - int(rows["at"])) % records.size
    start = step + records.within
    end = start + NUMBERS[str(field["as"])].least_size
    name = _put(rows["layout"], start, end, field)
    _, key = _key_of(rows["layout"])
    return str(rows["rows"]), f"[{key}={records.number}].{name}"


def _in_lists(layout: list[dict[str, Any]], records: KeyedRecords, keys: int, field: dict[str, Any]) -> tuple[str, str]:
    """The same of a list beside another one with the keys: rows with one field each."""
    number = {"field": KEY_NAME, "as": _stored_as(records), "label": KEY_LABEL, "standing": "guessed"}
    names = []
    for start, own in ((keys, number), (records.start, field)):
        size = NUMBERS[str(own["as"])].least_size
        rows = next((each for each in layout if _is_list(each, start, size, records.many)), None)
        if rows is None:
            taken = {str(next(iter(each.values()))) for each in layout}
            name = free_name(taken, f"{'ids' if own is number else 'list'}_{start:x}")
            rows = {"rows": name, "at": Hex(start), "count": records.many, "note": LIST_NOTE, "layout": [own]}
            layout.append(rows)
        names.append((str(rows["rows"]), str(rows["layout"][0]["field"])))
    (ids, _), (rows_name, field_name) = names
    return rows_name, f"[{ids}={records.number}].{field_name}"


def _is_list(rows: dict[str, Any], start: int, size: int, many: int) -> bool:
    """Whether rows are a list of numbers of so many bytes that has some in common with one from an offset on."""
    if rows.get("note") != LIST_NOTE or not isinstance(rows.get("at"), int):
        return False
    own, end = int(rows["at"]), int(rows["at"]) + size * int(rows["count"])
    return _size(rows["layout"][0]) == size and own - many * size < start < end and (start - own) % size == 0


def _stored_as(records: KeyedRecords) -> str:
    width = len(records.key)
    order = "" if width == 1 else "le" if records.order == "little" else "be"
    return f"u{8 * width}{order}"


def _is_of(rows: dict[str, Any], records: KeyedRecords) -> bool:
    """Whether rows at an offset that stays are these records."""
    at, many, parts = rows.get("at"), rows.get("count", records.many), rows.get("layout") or []
    if not isinstance(at, int) or not isinstance(many, int) or rows.get("note") != KEYED_NOTE:
        return False
    begins, key = _key_of(parts)
    is_there = at - records.size < records.start < at + many * records.size
    has_key = key != "" and (records.start + records.key_at - at - begins) % records.size == 0
    return has_key and is_there and sum(map(_size, parts)) == records.size


def _key_of(parts: list[dict[str, Any]]) -> tuple[int, str]:
    """Where the key begins in a record, and what it is called, which is nothing where none is labelled so."""
    at = 0
    for part in parts:
        if part.get("label") == KEY_LABEL:
            return at, str(part["field"])
        at += _size(part)
    return at, ""


def _new_rows(layout: list[dict[str, Any]], records: KeyedRecords) -> dict[str, Any]:
    name = free_name({str(next(iter(each.values()))) for each in layout}, f"rows_{records.start:x}")
    width = len(records.key)
    key = {"field": KEY_NAME, "as": _stored_as(records), "label": KEY_LABEL, "standing": "guessed"}
    parts: list[dict[str, Any]] = [{"unknown": f"{UNKNOWN}_0", "size": records.size}]
    _put(parts, records.key_at, records.key_at + width, key)
    return {
        "rows": name,
        "at": Hex(records.start),
        **({} if records.to_end else {"count": records.many}),
        "label": f"Records at 0x{records.start:X}",
        "note": KEYED_NOTE,
        "empty": {KEY_NAME: 0},
        "layout": parts,
    }


def _put(parts: list[dict[str, Any]], start: int, end: int, field: dict[str, Any]) -> str:
    """Put a field where unknown bytes are, or find the one that is there. Returns its name."""
    at = 0
    for number, part in enumerate(parts):
        behind = at + _size(part)
        if "unknown" in part and at <= start and end <= behind:
            pieces = [{"unknown": f"{UNKNOWN}_{at:x}", "size": start - at}] if start > at else []
            pieces.append(field)
            pieces += [{"unknown": f"{UNKNOWN}_{end:x}", "size": behind - end}] if behind > end else []
            parts[number : number + 1] = pieces
            return str(field["field"])
        if (at, behind) == (start, end) and "field" in part:
            return str(part["field"])
        at = behind
    what = f"other fields have some of the bytes {start} to {end} of each record"
    raise EntryError(what, "the template is as it was; remove or narrow what is there first")


def _size(part: dict[str, Any]) -> int:
    """The bytes of an element of such a record; more than any record has where it may vary."""
    if "unknown" in part:
        return int(part["size"])
    kind = str(part.get("as", ""))
    return NUMBERS[kind].least_size if kind in NUMBERS else 1 << 32
