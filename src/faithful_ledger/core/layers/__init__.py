"""How payloads are wrapped, and how they are wrapped again: packed streams and scrambling."""

from faithful_ledger.core.layers.kinds import KEYED, LAYERS, LINKED, LOCAL, PADDED, SCRAMBLINGS, STREAMS, LayerSpec

__all__ = ["KEYED", "LAYERS", "LINKED", "LOCAL", "PADDED", "SCRAMBLINGS", "STREAMS", "LayerSpec"]
