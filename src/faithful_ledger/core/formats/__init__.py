"""How an address becomes a span: the formats of payloads, one document each."""

from faithful_ledger.core.formats.binary import BinaryDocument
from faithful_ledger.core.formats.bracketed import BracedText, Expressions, KeyedTables
from faithful_ledger.core.formats.document import Document, Items, Place, Span, TextLeaf
from faithful_ledger.core.formats.indented import IndentedText
from faithful_ledger.core.formats.json_document import JsonDocument
from faithful_ledger.core.formats.json_leaves import JsonLeaf, json_leaves, json_tree
from faithful_ledger.core.formats.json_text import JsonValues, json_values
from faithful_ledger.core.formats.keyed_lines import KeyedLines
from faithful_ledger.core.formats.line_lists import LineList, PairList
from faithful_ledger.core.formats.plain_yaml import PlainYaml
from faithful_ledger.core.formats.recognise import looks_like_text, recognised_text, why_not_text
from faithful_ledger.core.formats.relaxed_json import RelaxedJson
from faithful_ledger.core.formats.tables import TableDocument
from faithful_ledger.core.formats.xml_document import XmlDocument

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
    "why_not_text",
]

# A new format is a class here and its name in the schema of templates.
DOCUMENTS: dict[str, type[Document]] = {
    kind.name: kind
    for kind in (
        BinaryDocument,
        JsonDocument,
        RelaxedJson,
        XmlDocument,
        KeyedLines,
        TableDocument,
        PlainYaml,
        IndentedText,
        KeyedTables,
        Expressions,
        BracedText,
        PairList,
        LineList,
    )
}
