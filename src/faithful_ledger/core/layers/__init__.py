"""How payloads are wrapped, and how they are wrapped again: packed streams and scrambling."""

from faithful_ledger.core.layers.kinds import (
    ARRANGEMENTS,
    CIPHERS,
    ENCLOSED,
    IN_LETTERS,
    JOINED,
    KEYED,
    LAYERS,
    LINKED,
    LOCAL,
    MASKED,
    MASKED_FRACTIONS,
    PADDED,
    SCRAMBLINGS,
    STREAMS,
    STRINGS,
    LayerSpec,
)

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
    "PADDED",
    "SCRAMBLINGS",
    "STREAMS",
    "STRINGS",
    "LayerSpec",
]
