"""How payloads are wrapped, and how they are wrapped again: packed streams and scrambling."""

from faithful_ledger.core.layers.kinds import (
    CIPHERS,
    ENCLOSED,
    IN_LETTERS,
    JOINED,
    KEYED,
    LAYERS,
    LINKED,
    LOCAL,
    MASKED,
    PADDED,
    SCRAMBLINGS,
    STREAMS,
    STRINGS,
    SWAPPINGS,
    LayerSpec,
)

__all__ = [
    "CIPHERS",
    "ENCLOSED",
    "IN_LETTERS",
    "JOINED",
    "KEYED",
    "LAYERS",
    "LINKED",
    "LOCAL",
    "MASKED",
    "PADDED",
    "SCRAMBLINGS",
    "STREAMS",
    "STRINGS",
    "SWAPPINGS",
    "LayerSpec",
]
