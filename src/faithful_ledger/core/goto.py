"""One box to go anywhere: offsets, fields, numbers and texts."""

from __future__ import annotations

import re
from collections.abc import Iterator
from fractions import Fraction
from itertools import islice
from typing import NamedTuple

from faithful_ledger.core.binding import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.errors import LedgerError, place
from faithful_ledger.core.save import Save, SaveFile
from faithful_ledger.core.search import TEXT_ENCODINGS
from faithful_ledger.core.source import Source, offsets_of
from faithful_ledger.core.storage import NUMBERS, Integer, Order, spellings

__all__ = ["Destination", "destinations", "number_in_words"]

MOST_FIELDS, MOST_HITS = 12, 8
LOOKED_INTO = 64 << 20
LOOKED_RECORDS = 400
LOOKED_FOR = (2, 4, 8)  # bytes of numbers: single bytes are everywhere
ORDERS: tuple[Order, ...] = ("little", "big")


class Destination(NamedTuple):
    """A place to go: bytes [start, end) of a file, and the element there where one was asked for by name."""

    text: str
    file: str
    start: int
    end: int
    node: Node | None


def destinations(save: Save, wanted: str, file: str, here: int = 0) -> list[Destination]:
    """Where somebody who typed `wanted` may want to go, the likeliest first. `file` is the one in sight.

    An offset with a sign counts from `here`.
    """
    wanted = wanted.strip()
    if not wanted:
        return []
    source = save.files[file].source
    found = list(_path(save, wanted))
    found += _offset(source, wanted, file, here)
    found += islice(_named(save, wanted, {d.node.path for d in found if d.node is not None}), MOST_FIELDS)
    found += islice(_number(save.files[file], wanted, file), MOST_HITS)
    found += islice(_text(save.files[file], wanted, file), MOST_HITS)
    return found


def _path(save: Save, wanted: str) -> Iterator[Destination]:
    try:
        node = save.nodes(wanted)[0]
    except (LedgerError, IndexError):
        return
    yield _to_node(save, node)


def _to_node(save: Save, node: Node) -> Destination:
    kind, shown = "part", ""
    if isinstance(node, FieldNode):
        kind = "field"
        try:
            shown = f" = {node.spec.storage.to_text(save.value(node))}"
        except LedgerError:
            shown = ""
    return Destination(f"{kind} {node.path}{shown}", node.file, node.start, node.end, node)


def number_in_words(wanted: str) -> str:
    """A number in hexadecimal, decimal and bits, and its bytes in both orders; empty where it is none."""
    number = _whole(wanted)
    if number is None:
        return ""
    size = next(size for size in (1, 2, 4, 8) if abs(number) < 1 << 8 * size - (number < 0))
    storages = [Integer(size, number < 0, order) for order in ORDERS]
    low, high = (storage.encode(number).hex(" ").upper() for storage in storages)
    bits = " ".join(f"{byte:08b}" for byte in storages[1].encode(number)) if size < 4 else ""
    parts = [f"{number} = {number:#X}".replace("X", "x", 1), bits, f"bytes {low}" if size == 1 else f"{low} low first"]
    return " · ".join(filter(None, [*parts, f"{high} high first" if size > 1 else ""]))


def _whole(wanted: str) -> int | None:
    if not re.fullmatch(r"[+-]?(0[xX][0-9a-fA-F]{1,15}|\d{1,18})", wanted):
        return None
    return int(wanted, 0) if "x" in wanted.casefold() else int(wanted)


def _offset(source: Source, wanted: str, file: str, here: int) -> list[Destination]:
    number = _whole(wanted)
    if number is None:
        return []
    offset = here + number if wanted[0] in "+-" else number
    if not 0 <= offset < source.size:
        return []
    words = f"offset {place(offset)}" + (f", {number:+d} from here" if wanted[0] in "+-" else "")
    return [Destination(words, file, offset, offset + 1, None)]


def _named(save: Save, wanted: str, known: set[str]) -> Iterator[Destination]:
    """Elements whose name or label begins with or holds what was typed; of long rows the first records."""
    word = wanted.casefold()
    later: list[Node] = []
    for node in _elements(save):
        names = (node.spec.name.casefold(), node.title.casefold())
        if node.path in known or not node.path:
            continue
        if any(name.startswith(word) for name in names):
            yield _to_node(save, node)
        elif any(word in name for name in names):
            later.append(node)
    for node in later:
        yield _to_node(save, node)


def _elements(save: Save) -> Iterator[Node]:
    stack: list[Node] = [file.bound.root for file in reversed(save.files.values()) if file.bound is not None]
    while stack:
        node = stack.pop()
        yield node
        if isinstance(node, GroupNode):
            stack += reversed(node.children)
        elif isinstance(node, RowsNode):
            stack += [node.item(index) for index in reversed(range(min(node.count, LOOKED_RECORDS)))]


def _number(file: SaveFile, wanted: str, name: str) -> Iterator[Destination]:
    if not re.fullmatch(r"-?\d{1,18}", wanted):
        return
    number = int(wanted)
    for name_of, raw in spellings(Fraction(number)):
        storage = NUMBERS[name_of]
        if (
            not isinstance(storage, Integer)
            or storage.size not in LOOKED_FOR
            or (storage.size == 2 and -256 < number < 256)
        ):
            continue
        for at in islice(offsets_of(file.source, raw, LOOKED_INTO), 3):
            words = "low" if storage.order == "little" else "high"
            text = f"number {number} at {place(at)}, {storage.size} bytes, {words} byte first"
            yield Destination(text, name, at, at + storage.size, None)


def _text(file: SaveFile, wanted: str, name: str) -> Iterator[Destination]:
    for encoding in TEXT_ENCODINGS.values():
        try:
            raw = wanted.encode(encoding)
        except UnicodeEncodeError:
            continue
        if len(raw) < 2 or (encoding == "latin-1" and wanted.isascii()):
            continue
        for at in islice(offsets_of(file.source, raw, LOOKED_INTO), 4):
            yield Destination(f"text “{wanted}” at {place(at)}, {encoding}", name, at, at + len(raw), None)
