"""Numbers that look like lengths reaching over a place: up to the end of the file, or the size of the whole."""

from __future__ import annotations

from typing import Literal

import numpy as np

from faithful_ledger.core.scan import windows
from faithful_ledger.core.source import Source
from faithful_ledger.core.spellings import leb128

__all__ = ["suspected_lengths"]

LOOKED_AT = 1 << 16
MOST = 4
FORMS = (("<u4", "u32le"), (">u4", "u32be"), ("<u2", "u16le"), (">u2", "u16be"))
ORDERS: tuple[Literal["little", "big"], ...] = ("little", "big")
LEAST = 16  # smaller numbers say the rest of a file by chance
LEAD = 16  # what a length counts may begin so many bytes behind it: a checksum or another number lies between


def suspected_lengths(source: Source, at: int, size: int = 0) -> list[tuple[int, str]]:
    """Offsets in front of `at`, and how a number is stored there that says how much follows it or how long all is.

    With a `size` also what stands directly in front and says so many bytes.
    """
    data = bytes(source.read(0, min(at, LOOKED_AT)))
    found: list[tuple[int, str]] = []
    if size >= LEAST:
        before = bytes(source.read(max(at - LEAD, 0), at))
        spelled = [(size.to_bytes(n, o), f"u{8 * n}{o[0]}e") for n in (4, 2) for o in ORDERS if size < 256**n]
        spelled.append((leb128(size), "uleb128"))
        found += [(at - len(raw), name) for raw, name in spelled if before.endswith(raw)][:1]
    for kind, name in FORMS:
        values = windows(data, np.dtype(kind)).astype(np.int64)
        rest = source.size - np.dtype(kind).itemsize - np.arange(values.size) - values
        hits = np.flatnonzero((values >= LEAST) & ((values == source.size) | ((rest >= 0) & (rest <= LEAD))))
        known = {offset for offset, _ in found}
        found += [(offset, name) for offset in hits.tolist() if offset not in known]
    return sorted(found)[:MOST]
