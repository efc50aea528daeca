"""Records that change places as rows of a template, with a field in each of them."""

from __future__ import annotations

from typing import Any

from faithful_ledger.core.errors import EntryError
from faithful_ledger.core.evidence.place import Slots
from faithful_ledger.core.storage import NUMBERS
from faithful_ledger.core.template.rewriting import Hex

__all__ = ["KEY_NAME", "SLOTS_NOTE", "field_in_rows"]

KEY_NAME = "id"
SLOTS_NOTE = "the number in each tells it from the others, wherever it is"
UNKNOWN = "bytes"


def field_in_rows(layout: list[dict[str, Any]], slots: Slots, field: dict[str, Any]) -> tuple[str, str]:
    """Put a field into the rows that some records are, which are described where they are not; a field that has its
    bytes already stays. Returns the name of the rows, and that of the field in them with the key of its record.

    Raises:
        EntryError: other fields have some of its bytes.
    """
    rows = next((each for each in layout if "rows" in each and _is_of(each, slots)), None)
    if rows is None:
        rows = _new_rows(layout, slots)
        layout.append(rows)
    step = (slots.start - int(rows["at"])) % slots.size
    start = step + slots.within
    end = start + NUMBERS[str(field["as"])].least_size
    name = _put(rows["layout"], start, end, field)
    key = next(str(each["field"]) for each in rows["layout"] if each.get("label") == KEY_NAME.capitalize())
    return str(rows["rows"]), f"[{key}={slots.number}].{name}"


def _is_of(rows: dict[str, Any], slots: Slots) -> bool:
    """Whether rows at an offset that stays are these records."""
    at, many, parts = rows.get("at"), rows.get("count"), rows.get("layout") or []
    if not isinstance(at, int) or not isinstance(many, int) or rows.get("note") != SLOTS_NOTE:
        return False
    is_within = at - slots.size < slots.start < at + many * slots.size
    return (
        is_within
        and sum(map(_size, parts)) == slots.size
        and (slots.start + slots.key_at - at) % slots.size
        == sum(
            map(_size, parts[: next(n for n, each in enumerate(parts) if each.get("label") == KEY_NAME.capitalize())])
        )
    )


def _new_rows(layout: list[dict[str, Any]], slots: Slots) -> dict[str, Any]:
    taken = {str(next(iter(each.values()))) for each in layout}
    name, number = f"rows_{slots.start:x}", 2
    while name in taken:
        name, number = f"rows_{slots.start:x}_{number}", number + 1
    width = len(slots.key)
    order = "" if width == 1 else "le" if slots.order == "little" else "be"
    key = {"field": KEY_NAME, "as": f"u{8 * width}{order}", "label": KEY_NAME.capitalize(), "standing": "guessed"}
    parts: list[dict[str, Any]] = [{"unknown": f"{UNKNOWN}_0", "size": slots.size}]
    _put(parts, slots.key_at, slots.key_at + width, key)
    return {
        "rows": name,
        "at": Hex(slots.start),
        "count": slots.many,
        "label": f"Records at 0x{slots.start:X}",
        "note": SLOTS_NOTE,
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
