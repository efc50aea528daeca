"""Values that a save says twice, of which an entry changes one: a game may show the other, or compare the two."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from math import log2

from faithful_ledger.core.binding import BoundFile, FieldNode
from faithful_ledger.core.binding.spans import field_at
from faithful_ledger.core.entries import Entry
from faithful_ledger.core.errors import place
from faithful_ledger.core.rules import Finding
from faithful_ledger.core.template.names import has_no_name

__all__ = ["twins"]

LARGEST = 4 << 20  # bytes of a file that is looked through
LEAST, LONGEST = 2, 256  # bytes of a value
BY_CHANCE = -5.0  # log2 of how often a value may stand somewhere else by chance
MOST_ENTRIES, MOST_TWINS = 16, 2


def twins(entries: Sequence[Entry], bound: BoundFile) -> Iterator[Finding]:
    """A word about each place of a binary file that says what an entry changes, is not described, and stays. Nothing is
    said of what chance may explain, by how often its bytes are in the file.
    """
    source = bound.source
    nodes = [(entry, entry.node) for entry in entries[:MOST_ENTRIES] if isinstance(entry.node, FieldNode)]
    nodes = [(entry, node) for entry, node in nodes if node.file == bound.spec.name and LEAST <= node.size <= LONGEST]
    if not nodes or bound.document.knows_ends or source.size > LARGEST:
        return
    data = bytes(source.read(0, source.size))
    shares = {byte: log2(data.count(byte) / len(data)) for byte in set().union(*(node.raw for _, node in nodes))}
    for entry, node in nodes:
        if node.record is not None or node.spec.storage.mask is not None or node.raw == entry.data:
            continue
        raw = node.raw
        often = log2(len(data)) + sum(shares[byte] for byte in raw)
        found = [at for at in _places(data, raw) if not node.start - len(raw) < at < node.end]
        if often > BY_CHANCE or not 1 <= len(found) <= MOST_TWINS or any(_is_described(bound, at) for at in found):
            continue
        where = " and ".join(map(place, found))
        text = f"the same value is at {where} of {bound.spec.name}, and stays as it is"
        yield Finding(entry.path, "warning", f"{text}; if the game shows or compares it, pin that place as well")


def _places(data: bytes, raw: bytes) -> Iterator[int]:
    at = data.find(raw)
    while at >= 0:
        yield at
        at = data.find(raw, at + 1)


def _is_described(bound: BoundFile, at: int) -> bool:
    node = field_at(bound.root, at)
    return node is not None and not node.spec.unknown and not has_no_name(node.spec.name)
