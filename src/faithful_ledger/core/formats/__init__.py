"""How an address in a text becomes a span of its bytes."""

from faithful_ledger.core.formats.json_text import JsonNode, parse_json

__all__ = ["JsonNode", "parse_json"]
