"""The kinds of layers, by the names that templates, screens and the command line use."""

from __future__ import annotations

from dataclasses import dataclass

__all__ = ["KEYED", "LAYERS", "SCRAMBLINGS", "STREAMS", "LayerSpec"]

STREAMS = ("base64", "bzip2", "deflate", "gzip", "lz4", "xz", "zlib", "zstd")
KEYED = ("add", "xor")
SCRAMBLINGS = (*KEYED, "xor-previous")
LAYERS = STREAMS + SCRAMBLINGS


@dataclass(slots=True, frozen=True)
class LayerSpec:
    """One layer around a payload. The key of a scrambling is `key`, or what the field `key_of` of the file around says;
    with neither of them it is looked for in each save.
    """

    kind: str
    key: bytes | None = None
    key_of: str = ""
