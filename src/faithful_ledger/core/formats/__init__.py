"""How an address becomes a span: the formats of payloads, one document each."""

from faithful_ledger.core.formats.binary import BinaryDocument
from faithful_ledger.core.formats.document import Document, Items, Opener, Place, Span
from faithful_ledger.core.formats.json_document import JsonDocument
from faithful_ledger.core.formats.json_leaves import JsonLeaf, json_leaves, json_tree
from faithful_ledger.core.formats.json_text import JsonValues, json_values

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
    "json_leaves",
    "json_tree",
    "json_values",
]

# A new format is a class here and its name in the schema of templates.
DOCUMENTS: dict[str, Opener] = {"binary": BinaryDocument, "json": JsonDocument}
