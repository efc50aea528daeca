"""How payloads are wrapped, and how they are wrapped again: packed streams and scrambling."""

from faithful_ledger.core.layers.kinds import LAYERS, SCRAMBLINGS, STREAMS

__all__ = ["LAYERS", "SCRAMBLINGS", "STREAMS"]
