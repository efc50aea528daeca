"""How an address becomes a span: the formats of payloads."""

from faithful_ledger.core.formats.json_leaves import JsonLeaf, json_leaves, json_tree
from faithful_ledger.core.formats.json_text import JsonNode, parse_json

__all__ = ["JsonLeaf", "JsonNode", "json_leaves", "json_tree", "parse_json"]
