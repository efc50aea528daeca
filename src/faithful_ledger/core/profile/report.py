"""The profile of a file: everything found about it, and what kind of bytes it is in one word."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from faithful_ledger.core.layers import IN_LETTERS
from faithful_ledger.core.layers.stream import Layer
from faithful_ledger.core.profile.blocks import Block, find_blocks
from faithful_ledger.core.profile.descrambling import Descrambling, find_descramblings
from faithful_ledger.core.profile.entropy import entropy, unevenness
from faithful_ledger.core.profile.layers import find_layers
from faithful_ledger.core.profile.strides import Stride, find_strides
from faithful_ledger.core.profile.texts import TextRun, find_texts
from faithful_ledger.core.source import WHOLE, Source, first_bytes

__all__ = ["Profile", "profile"]

LOOKED_AT, LOOKED_AT_LARGE = 64 << 20, 8 << 20
COUNTED, BLOCK = 1 << 20, 1 << 16
BEGINNING = 1 << 16
DENSE = 7.5
FEW, MANY, EVEN = 96, 1024, 3.0  # bytes; and standard deviations of chi-squared up to which a few may be noise
MOSTLY = 0.6
READABLE = 0.97


@dataclass(frozen=True, slots=True)
class Profile:
    """`entropy` is in bits a byte, from 0 to 8. `reason` says why it is of this kind."""

    size: int
    entropy: float
    kind: Literal["text", "binary", "packed", "scrambled"]
    reason: str
    encoding: str | None
    layers: list[Layer]
    scrambling: Descrambling | None
    strides: list[Stride]
    texts: list[TextRun]
    blocks: list[Block]


def profile(source: Source) -> Profile:
    """Look at the first 64 MiB of a file, or 8 MiB of one larger than 256 MiB, and say what it is."""
    data = first_bytes(source, LOOKED_AT if source.size <= WHOLE else LOOKED_AT_LARGE)
    bits = _entropy(data)
    encoding = _encoding(data)
    layers = find_layers(data)
    packed = sum(layer.size for layer in layers if layer.kind not in IN_LETTERS)
    scrambling = None
    blocks = find_blocks(data) if encoding is None else []
    kind: Literal["text", "binary", "packed", "scrambled"] = "binary"
    reason = "numbers and texts lie open"
    if encoding is not None:
        kind, reason = "text", f"nearly all of it can be read as {encoding}"
    elif data and packed >= MOSTLY * len(data):
        kind, reason = "packed", f"{', '.join(sorted({layer.kind for layer in layers}))} fills most of it"
    elif not blocks:  # names and sizes that lead to the end are not scrambled
        scrambling = next(iter(find_descramblings([data])), None)
        if scrambling is not None:
            kind, reason = "scrambled", scrambling.why
        elif _is_even(data, bits):
            kind, reason = (
                "packed",
                "every byte is as frequent as any other: encrypted, or packed by something unknown",
            )
    plain = kind == "binary"
    return Profile(
        source.size,
        round(bits, 4),
        kind,
        reason,
        encoding,
        layers,
        scrambling,
        find_strides(data) if plain else [],
        [text for text in find_texts(data) if not _is_packed(text, layers)] if kind in ("binary", "text") else [],
        blocks,
    )


def _is_even(data: bytes, bits: float) -> bool:
    """Whether no byte is more frequent than another one, as far as so many of them say."""
    if len(data) >= MANY:
        return bits > DENSE
    return len(data) >= FEW and unevenness(np.frombuffer(data, np.uint8)) < EVEN


def _is_packed(text: TextRun, layers: list[Layer]) -> bool:
    """Whether what looks like a text is packed bytes, and chance."""
    return any(
        layer.offset < text.offset < layer.offset + layer.size for layer in layers if layer.kind not in IN_LETTERS
    )


def _entropy(data: bytes) -> float:
    """Shannon's entropy of the bytes, in bits; of large files that of blocks spread over them."""
    if not data:
        return 0.0
    bytes_ = np.frombuffer(data, np.uint8)
    if bytes_.size > COUNTED:
        blocks = bytes_[: bytes_.size // BLOCK * BLOCK].reshape(-1, BLOCK)
        bytes_ = blocks[:: blocks.shape[0] * BLOCK // COUNTED].ravel()
    return entropy(bytes_)


def _encoding(data: bytes) -> str | None:
    """The encoding of a text, or None where it is none."""
    if not data:
        return None
    for name, mark in (("utf-8", b"\xef\xbb\xbf"), ("utf-16le", b"\xff\xfe"), ("utf-16be", b"\xfe\xff")):
        if data.startswith(mark):
            return name
    try:
        # The beginning alone tells a binary file; a letter that is cut off at its end is none.
        text = data[:BEGINNING].decode("utf-8", "strict" if len(data) <= BEGINNING else "ignore")
        if len(text.encode()) < min(len(data), BEGINNING) - 3:
            return None
        if sum(letter.isprintable() or letter in "\t\r\n" for letter in text) < READABLE * len(text):
            return None
        data.decode("utf-8")
    except UnicodeDecodeError:
        return None
    return "utf-8"
