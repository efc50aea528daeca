"""A posting that the game refused leads on: what in the file may know that something was changed."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

import numpy as np

from faithful_ledger.core.errors import place
from faithful_ledger.core.profile.lengths import suspected_lengths
from faithful_ledger.core.save import Save
from faithful_ledger.core.source import Source, same_bytes

__all__ = ["Lead", "leads", "restless"]

LOOKED_AT = 4096  # bytes at the beginning and at the end of a file, where checksums mostly are
SIZES = range(2, 65)  # of checksums, in bytes
NEARLY_ALWAYS = 0.7
BESIDE, CALM = 16, 0.3  # bytes on both sides, and how many of them may differ from copy to copy
LEAST_COPIES = 3
MOST = 4


class Lead(NamedTuple):
    """Something to look at next, in words, and the bytes [start, end) of a file it is about, if any."""

    text: str
    file: str = ""
    start: int = 0
    end: int = 0


def restless(copies: Sequence[Source]) -> list[tuple[int, int]]:
    """Runs of bytes that differ from each copy to the next, as a checksum does, as offsets and sizes in the last copy;
    near its beginning or its end. Longer runs, and those among others that differ, are content.
    """
    copies = [copy for n, copy in enumerate(copies) if not n or not same_bytes(copies[n - 1], copy)]
    if len(copies) < LEAST_COPIES:
        return []
    size = min(min(copy.size for copy in copies), LOOKED_AT)
    found: dict[int, int] = {}
    for from_end in (False, True):
        rows = [
            np.frombuffer(bytes(copy.read(*((copy.size - size, copy.size) if from_end else (0, size)))), np.uint8)
            for copy in copies
        ]
        differ = np.stack(rows)[1:] != np.stack(rows)[:-1]
        share = differ.mean(axis=0)
        always = np.concatenate([[False], share >= NEARLY_ALWAYS, [False]])
        base = copies[-1].size - size if from_end else 0
        for start, end in np.flatnonzero(always[1:] != always[:-1]).reshape(-1, 2).tolist():
            beside = np.concatenate([share[max(start - BESIDE, 0) : start], share[end : end + BESIDE]])
            if end - start in SIZES and beside.size >= BESIDE and beside.mean() <= CALM:
                found[base + start] = end - start
    return sorted(found.items())[:MOST]


def leads(
    save: Save, copies: Mapping[str, Sequence[Source]], changes: Sequence[tuple[str, int, int]]
) -> Iterator[Lead]:
    """Where to look after a refusal. `copies` are kept copies of each file, the oldest first; `changes` say by how many
    bytes a file grew at an offset.
    """
    if save.doubt:
        yield Lead("Nothing that is described checks this file: the game may compare a checksum that nobody knows yet.")
    known = [node for state in save.seals for node in save.nodes(state.name)]
    for name, sources in copies.items():
        shown = save.files[name].path.name if name in save.files else name
        for offset, size in restless(sources):
            if not any(node.file == name and node.start < offset + size and offset < node.end for node in known):
                text = f"{size} bytes at {place(offset)} of {shown} differ from each kept copy to the next"
                yield Lead(f"{text}, as a checksum does.", name, offset, offset + size)
    for name, offset, grown in changes:
        if grown and name in save.files and not save.files[name].inside:
            for at, stored_as in suspected_lengths(save.files[name].source, offset):
                text = f"{save.files[name].path.name} grew by {grown:+d} bytes at {place(offset)}"
                yield Lead(f"{text}; the {stored_as} at {place(at)} may count them.", name, at, at + 2)
