"""A value that is the same in all banks of a save, as a name is, belongs to the bank that counts: what is described by
the counters of the banks already says which one that is.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace

from faithful_ledger.core.address import Address, Expression
from faithful_ledger.core.binding import BoundFile, FieldNode
from faithful_ledger.core.evidence.place import Place

__all__ = ["in_the_newest_bank"]

OF_TWO = re.compile(r"(?P<high>\d+) if (?P<newer>\w+ > \w+) else (?P<low>\d+)")
OF_MANY = re.compile(
    r"(?P<newest>\(?max\([\w, ]+\)(?: \+ \d+\))?) % (?P<many>\d+) \* (?P<step>\d+)(?: \+ (?P<low>\d+))?"
)
OF_SECTIONS = re.compile(
    r"\((?P<half>\d+) if (?P<newer>\w+ > \w+) else 0\) \+ "
    r"\(\d+ - \((?P<second>\w+) if \w+ > \w+ else (?P<first>\w+)\)\) % (?P<many>\d+) \* (?P<size>\d+)(?: \+ \d+)?"
)
SECTION = re.compile(r"\((?P<number>\d+) - \w+\) % (?P<many>\d+) \* (?P<size>\d+)(?P<within> \+ \d+)?")


def in_the_newest_bank(place: Place, bound: BoundFile | None) -> Place:
    """The same place in the bank that counts, where it is in one of those by which something of a file is found, and
    says the same in the others.
    """
    if bound is None or place.path is not None or place.route or bound.spec.format != "binary":
        return place
    data = bytes(bound.source.read(0, bound.source.size))
    at = place.offset_in(data) if place.found_by is not None else place.offsets[-1]
    size = place.size(len(place.offsets) - 1, data[at:]) if at is not None else 0
    for said in _described(bound) if at is not None and size else ():
        found = _of_sections(place, said) or _of_banks(place, said, data, at or 0, size)
        if found:
            return replace(place, found_by=Address("start", Expression(found)), guides=None)
    return place


def _described(bound: BoundFile) -> Iterator[str]:
    """How the fields of a file are found, where that is not at one offset."""
    for node in bound.root.children:
        offset = node.spec.address.offset if node.spec.address.base == "start" else None
        if isinstance(node, FieldNode) and offset is not None and offset.constant is None:
            yield offset.text


def _of_banks(place: Place, said: str, data: bytes, at: int, size: int) -> str:
    """Where it is in the newest of two or more banks; empty where it stays, or is not the same in all of them."""
    two = OF_TWO.fullmatch(said)
    known = two or OF_MANY.fullmatch(said)
    if known is None or place.found_by is not None:
        return ""
    many = 2 if two is not None else int(known["many"])
    step = int(two["high"]) - int(two["low"]) if two is not None else int(known["step"])
    field = int(known["low"] or 0)
    first = field - min(field, step - 1)
    low = first + (at - first) % step
    offsets = [low + number * step for number in range(many)]
    if at > offsets[-1] or len({data[each : each + size] for each in offsets}) > 1:
        return ""
    if two is not None:
        return f"{offsets[1]} if {known['newer']} else {offsets[0]}"
    return f"{known['newest']} % {many} * {step}{f' + {low}' if low else ''}"


def _of_sections(place: Place, said: str) -> str:
    """Where it is in a section of the newer half, where it is known in which section of the first half it is."""
    known = OF_SECTIONS.fullmatch(said)
    found = place.found_by.offset if place.found_by is not None and place.found_by.base == "start" else None
    mine = SECTION.fullmatch(found.text) if found is not None else None
    if known is None or mine is None or (known["many"], known["size"]) != (mine["many"], mine["size"]):
        return ""
    number = f"({known['second']} if {known['newer']} else {known['first']})"
    where = f"({mine['number']} - {number}) % {mine['many']} * {mine['size']}{mine['within'] or ''}"
    return f"({known['half']} if {known['newer']} else 0) + {where}"
