"""The sizes of files that are listed beside their checksums, as in a manifest: by itself a small number says little,
but beside a sure checksum of the same file it is its size.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import islice, product

from faithful_ledger.core.placed_seals import Placed
from faithful_ledger.core.seal_parts import text_of
from faithful_ledger.core.seals.algorithms import LENGTH, Algorithm
from faithful_ledger.core.seals.finder import Edge, Finding
from faithful_ledger.core.seals.finder.finding import SURE
from faithful_ledger.core.storage import NUMBERS

__all__ = ["with_listed_sizes"]

FORMS = tuple(f"u{width}{order}" for width in (32, 64, 16) for order in ("le", "be"))
NEAR = 8  # bytes between a checksum and the size


def with_listed_sizes(found: Sequence[Placed]) -> list[Placed]:
    """What was found, with the sizes that are listed beside sure checksums of all of another part."""
    listed = [
        size
        for each in found
        if each.finding.sure and each.is_whole and each.finding.algorithm.name != LENGTH and len(each.held.contents) > 1
        for size in islice((_in_bytes if text_of(each.held.contents[0]) is None else _in_text)(each), 1)
    ]
    known = {(each.held, each.stored) for each in listed}
    return [*(each for each in found if (each.held, each.stored) not in known), *listed]


def _in_text(checksum: Placed) -> Iterator[Placed]:
    """The values of a text beside a checksum that say how long the same part is in every save."""
    documents = [text_of(content) for content in checksum.held.contents]
    if any(document is None for document in documents):
        return
    leaves = [{leaf.path: leaf for leaf in document.leaves()} for document in documents if document is not None]
    start, end = checksum.stored
    own = next((path for path, leaf in leaves[0].items() if leaf.start <= start and end <= leaf.end), None)
    if own is None:
        return
    around = own.rpartition(".")[0]
    beside = [path for path in leaves[0] if path != own and path.rpartition(".")[0] == around and around]
    for path in beside:
        said = [
            content[each[path].start : each[path].end].strip(b" \t\"'") if path in each else b""
            for content, each in zip(checksum.held.contents, leaves, strict=True)
        ]
        if said == [str(size).encode() for size in _sizes(checksum)]:
            begin = checksum.held.contents[0].index(said[0], leaves[0][path].start)
            yield _placed(checksum, begin, len(said[0]), "decimal")


def _in_bytes(checksum: Placed) -> Iterator[Placed]:
    """The same of whole numbers near a checksum, at the same distance."""
    places = [checksum.finding.place_in(content) for content in checksum.held.contents]
    size = places[0][1] - places[0][0]
    for form, gap, is_behind in product(FORMS, range(0, NEAR + 1, 2), (False, True)):
        storage = NUMBERS[form]
        away = size + gap if is_behind else -gap - storage.least_size
        said = [
            int(storage.decode(content[at + away : at + away + storage.least_size]))
            if 0 <= at + away <= len(content) - storage.least_size
            else -1
            for content, (at, _) in zip(checksum.held.contents, places, strict=True)
        ]
        if said == _sizes(checksum):
            yield _placed(checksum, places[0][0] + away, storage.least_size, form)


def _sizes(checksum: Placed) -> list[int]:
    """How long what it covers is in every save."""
    return list(map(len, checksum.over.contents)) if checksum.over is not None else []


def _placed(checksum: Placed, at: int, size: int, form: str) -> Placed:
    count = len(checksum.held.contents)
    length, whole = Algorithm(LENGTH), (Edge(0), Edge(0, True))
    finding = Finding(length, *whole, Edge(at), size, form, bits=SURE, holds_in=count, of=count)
    return Placed(finding, checksum.held, checksum.over)
