"""The kinds of layers, by the names that templates, screens and the command line use. A new kind of stream is a module
with `STREAMS`, listed here.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from faithful_ledger.core.address import Expression
from faithful_ledger.core.layers import (
    base64_text,
    brotli_streams,
    bzip2,
    deflate,
    hex_text,
    lz4_blocks,
    lz4_frames,
    lz_string,
    lzf,
    lzo,
    lzss,
    number_lists,
    percent,
    runs,
    snappy,
    xz,
    zstd,
)
from faithful_ledger.core.layers.archives import ARCHIVES
from faithful_ledger.core.layers.ciphers import CIPHERS, IV_DERIVED, Derived, Padding, derivation_keys
from faithful_ledger.core.layers.enclosed import ENCLOSED
from faithful_ledger.core.layers.linked import LINKED
from faithful_ledger.core.layers.scrambling import KEYED, LOCAL, SCRAMBLINGS
from faithful_ledger.core.layers.sqlite_tables import SQLITE
from faithful_ledger.core.layers.stream import Stream
from faithful_ledger.core.layers.swapping import ARRANGEMENTS
from faithful_ledger.core.layers.tagged import TAGGED
from faithful_ledger.core.layers.transcoding import TRANSCODINGS

__all__ = [
    "ARRANGEMENTS",
    "CIPHERS",
    "ENCLOSED",
    "IN_LETTERS",
    "JOINED",
    "KEYED",
    "LAYERS",
    "LINKED",
    "LOCAL",
    "MASKED",
    "MASKED_FRACTIONS",
    "MASKINGS",
    "PADDED",
    "SCRAMBLINGS",
    "STREAMS",
    "STRINGS",
    "LayerSpec",
    "marked_kind",
]

MODULES = (
    base64_text,
    brotli_streams,
    bzip2,
    deflate,
    hex_text,
    lz4_blocks,
    lz4_frames,
    lz_string,
    lzf,
    lzo,
    lzss,
    number_lists,
    percent,
    runs,
    snappy,
    xz,
    zstd,
)
STREAMS: dict[str, Stream] = dict(sorted((stream.name, stream) for module in MODULES for stream in module.STREAMS))
IN_LETTERS = ("base64", "hex", "lz-string", "number-list", "percent")  # streams that are text themselves
PADDED = "padded"  # zeros behind a text
STRINGS = "strings"  # each of a text, hidden for itself
MASKED = "masked"  # numbers of a text, XORed with others beside them
MASKED_FRACTIONS = "masked-f32"  # the same with the four bytes that fractions have
MASKINGS = (MASKED, MASKED_FRACTIONS)
JOINED = "joined"  # what a text spells in several places
LAYERS = (
    *STREAMS,
    *SCRAMBLINGS,
    *CIPHERS,
    *ARRANGEMENTS,
    *TRANSCODINGS,
    *ARCHIVES,
    SQLITE,
    *TAGGED,
    PADDED,
    ENCLOSED,
    STRINGS,
    JOINED,
    *MASKINGS,
    *LINKED,
)


def marked_kind(data: bytes) -> str:
    """The kind of stream whose mark is at the beginning; empty where there is none."""
    kinds = (each for each in STREAMS.values() if any(data.startswith(mark, each.mark_at) for mark in each.marks))
    return next((each.name for each in kinds), "")


@dataclass(slots=True, frozen=True)
class LayerSpec:
    """One layer around a payload: all streams of a kind, or only that `at` an offset of the payload around; the text in
    another encoding; a `member` of an archive; or a scrambling of the whole, whose key is `key`, or what the field
    `key_of` of the file around says; or a cipher over `size` bytes with such a key, or one that is `derived` from it,
    and an initial vector: `iv`, or what is `iv_at` an offset of the payload around, or without both the first bytes.
    What is hidden in each of the strings of a text is reached `through` layers of its own; `parts` are the numbers of
    what is joined; each `number` of a text may be XORed with the `mask` beside it. Without `put_back` it is left off
    when the save is posted, and need not be there when it is opened.
    """

    kind: str
    key: bytes | None = None
    key_of: str = ""
    at: Expression | None = None
    put_back: bool = True
    member: str = ""
    iv: bytes | None = None
    padding: Padding = "pkcs7"
    tag_first: bool = False
    derived: Derived | None = None
    through: tuple[LayerSpec, ...] = ()
    parts: tuple[int, ...] = ()
    iv_at: int | None = None
    size: Expression | None = None
    number: str = ""
    mask: str = ""

    @property
    def has_key(self) -> bool:
        """Whether a key opens it, or what is in it."""
        return bool(self.key) or any(layer.has_key for layer in self.through)

    @property
    def cipher_keys(self) -> dict[str, Any]:
        """What a template says of a cipher beside its key and where it begins."""
        iv = "derived" if self.iv == IV_DERIVED else self.iv.hex(" ").upper() if self.iv else ""
        keys: dict[str, Any] = {"iv": iv} if iv else {"iv_at": self.iv_at} if self.iv_at is not None else {}
        keys |= {"padding": self.padding} if self.padding != "pkcs7" else {}
        keys |= {"tag": "first"} if self.tag_first else {}
        return keys | ({"derive": derivation_keys(self.derived)} if self.derived is not None else {})

    @property
    def step(self) -> str:
        """Its kind, and of an archive the member: what a route is made of."""
        return f"{self.kind}:{self.member}" if self.member else self.kind
