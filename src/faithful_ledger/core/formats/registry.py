"""Which formats there are. The module of one is imported when it is first needed: most saves need one or two."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from importlib import import_module

from faithful_ledger.core.formats.document import Document

__all__ = ["DOCUMENTS"]

# A new format is a class, named here with its module, and its name in the schema of templates.
CLASSES = {
    "binary": "binary.BinaryDocument",
    "json": "json_document.JsonDocument",
    "relaxed-json": "relaxed_json.RelaxedJson",
    "xml": "xml_document.XmlDocument",
    "keyed-lines": "keyed_lines.KeyedLines",
    "table": "tables.TableDocument",
    "yaml": "plain_yaml.PlainYaml",
    "indented": "indented.IndentedText",
    "keyed-tables": "bracketed.KeyedTables",
    "expressions": "bracketed.Expressions",
    "braces": "bracketed.BracedText",
    "pairs": "line_lists.PairList",
    "lines": "line_lists.LineList",
    "divided": "divided.DividedText",
}


class _Documents(Mapping[str, type[Document]]):
    def __getitem__(self, name: str) -> type[Document]:
        module, _, kind = CLASSES[name].partition(".")
        found: type[Document] = getattr(import_module(f"{__package__}.{module}"), kind)
        return found

    def __iter__(self) -> Iterator[str]:
        return iter(CLASSES)

    def __len__(self) -> int:
        return len(CLASSES)

    def __contains__(self, name: object) -> bool:
        return name in CLASSES


DOCUMENTS: Mapping[str, type[Document]] = _Documents()
