"""Binding a JSON text: addresses lead to spans of values; the same nodes as for binary, so one engine edits both."""

from __future__ import annotations

from collections.abc import Callable

from faithful_ledger.core.binding.binary import BoundFile, number_at
from faithful_ledger.core.binding.nodes import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.errors import AddressError, BindingError, LedgerError
from faithful_ledger.core.formats import JsonNode, parse_json
from faithful_ledger.core.source import Source
from faithful_ledger.core.template.model import ElementSpec, FieldSpec, FileSpec, GroupSpec, PathFormula, RowsSpec

__all__ = ["LARGEST_TEXT", "bind_json"]

LARGEST_TEXT = 64 << 20
KINDS = {
    "object": "an object",
    "array": "a list",
    "string": "a text",
    "number": "a number",
    "word": "true, false or null",
}


def bind_json(spec: FileSpec, source: Source, outer: GroupNode | None = None) -> BoundFile:
    """Bind one JSON file. `outer` is the root of the save's first file, whose fields addresses may use."""
    root = GroupNode(spec.root, None, spec.name, 0)
    root.end = source.size
    bound = BoundFile(spec, source, root)
    try:
        if source.size > LARGEST_TEXT:
            raise BindingError(spec.name, 0, f"a JSON text of more than {LARGEST_TEXT >> 20} MiB is not read")
        data = bytes(source.read(0, source.size))
        document = _Document(spec.name, source, data, outer)
        document.group(root, parse_json(data))
        bound.missing, document.missing = document.missing or [], None  # what a record lacks is not missed
        if bound.missing and not root.children:
            raise bound.missing[0]
    except LedgerError as error:
        bound.problem = error
    return bound


class _Document:
    def __init__(self, file: str, source: Source, data: bytes, outer: GroupNode | None) -> None:
        self.file, self.source, self.data, self.outer = file, source, data, outer
        self.missing: list[BindingError] | None = []

    def group(self, node: GroupNode, place: JsonNode) -> None:
        for element in node.spec.layout:
            assert isinstance(element.at, PathFormula)

            def lookup(path: str) -> int:
                return number_at(node, path, self.outer)

            if element.when is not None and not element.when.evaluate(lookup):
                continue
            try:
                found = place.find(element.at.steps(lookup), self.data)
                node.add(self.element(element, node, found))
            except LedgerError as error:
                if self.missing is None:
                    continue
                path = f"{node.path}.{element.name}" if node.path else element.name
                self.missing.append(BindingError(path, place.start, error.what, error.remedy))

    def element(self, spec: ElementSpec, parent: GroupNode | RowsNode, found: JsonNode) -> Node:
        """Raises AddressError where a list or an object is something else."""
        wanted = {FieldSpec: found.kind, RowsSpec: "array", GroupSpec: "object"}[type(spec)]
        if found.kind != wanted:
            raise AddressError(f"it is {KINDS[found.kind]}, not {KINDS[wanted]}", "the template may mean another value")
        node: Node
        if isinstance(spec, FieldSpec):
            node = FieldNode(spec, parent, self.file, found.start, self.source)
            node.end = found.end
        elif isinstance(spec, RowsSpec):
            repeat = RowsNode(spec, parent, self.file, found.start, self.source, self._maker(found))
            repeat.count = len(found.items)
            repeat.end = found.end
            node = repeat
        else:
            assert isinstance(spec, GroupSpec)
            node = GroupNode(spec, parent, self.file, found.start)
            node.end = found.end
            self.group(node, found)
        return node

    def _maker(self, found: JsonNode) -> Callable[[RowsNode, int, int], Node]:
        def make(repeat: RowsNode, index: int, _: int) -> Node:
            node = self.element(repeat.spec.item, repeat, found.items[index])
            node.index = index
            return node

        return make
