"""The kinds of layers, by the names that templates, screens and the command line use."""

from __future__ import annotations

__all__ = ["LAYERS", "SCRAMBLINGS", "STREAMS"]

STREAMS = ("base64", "bzip2", "deflate", "gzip", "lz4", "xz", "zlib", "zstd")
SCRAMBLINGS = ("add", "xor", "xor-previous")
LAYERS = STREAMS + SCRAMBLINGS
