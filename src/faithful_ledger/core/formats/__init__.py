"""How an address becomes a span: the formats of payloads, one document each."""

from faithful_ledger.core.formats.binary import BinaryDocument
from faithful_ledger.core.formats.document import Document, Items, Place, Span, TextLeaf
from faithful_ledger.core.formats.json_document import JsonDocument
from faithful_ledger.core.formats.json_leaves import JsonLeaf, json_leaves, json_tree
from faithful_ledger.core.formats.json_text import JsonValues, json_values
from faithful_ledger.core.formats.recognise import looks_like_text, recognised_text, recognised_together, why_not_text
from faithful_ledger.core.formats.registry import DOCUMENTS

__all__ = [
    "DOCUMENTS",
    "BinaryDocument",
    "Document",
    "Items",
    "JsonDocument",
    "JsonLeaf",
    "JsonValues",
    "Place",
    "Span",
    "TextLeaf",
    "json_leaves",
    "json_tree",
    "json_values",
    "looks_like_text",
    "recognised_text",
    "recognised_together",
    "why_not_text",
]
