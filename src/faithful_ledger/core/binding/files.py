"""Binding all files of a save, and the payloads that lie inside of them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from types import MappingProxyType
from typing import TYPE_CHECKING

from faithful_ledger.core.address.paths import parse_path
from faithful_ledger.core.binding.binder import BoundFile, bind
from faithful_ledger.core.binding.lookup import number_at
from faithful_ledger.core.binding.nodes import FieldNode, GroupNode, find
from faithful_ledger.core.errors import BindingError, LedgerError
from faithful_ledger.core.formats import BinaryDocument
from faithful_ledger.core.source import MemorySource, Source, log_of, same_bytes
from faithful_ledger.core.template.model import FileSpec, Template

if TYPE_CHECKING:
    from faithful_ledger.core.wrapping import Step

__all__ = ["bind_files"]

LARGEST_WRAPPED = 256 << 20
NOTHING: Mapping[str, BoundFile] = MappingProxyType({})


def bind_files(
    template: Template, sources: Mapping[str, Source], settled: Mapping[str, BoundFile] = NOTHING
) -> dict[str, BoundFile]:
    """Lay a template over the payloads of its files; the first file's fields are known to all.

    `sources` are the files on disk; what is inside of them is unwrapped here. A payload that comes out as one that was
    `settled` before is not bound again, unless it reads fields of the first file.
    """
    outer: GroupNode | None = None
    bound: dict[str, BoundFile] = {}
    for name, spec in template.files.items():
        if not spec.inside:
            bound[name] = bind(spec, sources[name], outer)
        else:
            bound[name] = _bind_inside(spec, bound[spec.inside], outer, bound, settled.get(name))
        outer = outer or bound[name].root
    return bound


def _bind_inside(
    spec: FileSpec,
    around: BoundFile,
    outer: GroupNode | None,
    known: Mapping[str, BoundFile],
    settled: BoundFile | None,
) -> BoundFile:
    from faithful_ledger.core.wrapping import Unwrapped

    try:
        unwrapped = Unwrapped(_steps(spec, around, known))
    except LedgerError as error:
        problem = BindingError(spec.name, 0, error.what, error.remedy)
        nothing = MemorySource(b"")
        return BoundFile(spec, BinaryDocument(nothing), GroupNode(spec.root, None, spec.name, 0), problem)
    reads_outer = outer is not None and not spec.shaping.isdisjoint(outer.names)
    if settled is not None and not reads_outer and same_bytes(unwrapped.source, settled.source):
        bound = replace(settled, unwrapped=unwrapped)
    else:
        bound = bind(spec, unwrapped.source, outer)
        bound.unwrapped = unwrapped
    return bound


def _steps(spec: FileSpec, around: BoundFile, known: Mapping[str, BoundFile]) -> list[Step]:
    from faithful_ledger.core.binding.held import Held, HeldInRows
    from faithful_ledger.core.wrapping import unwrap

    if around.problem is not None:
        raise around.problem
    if around.source.size > LARGEST_WRAPPED:
        raise BindingError(spec.inside, 0, f"layers of files over {LARGEST_WRAPPED >> 20} MiB are not undone")

    def number_of(path: str) -> int:
        return number_at(around.root, path)

    def key_of(path: str) -> bytes:
        first = path.partition(".")[0]
        holder = known[first].root if first not in around.root.names and first in known else around.root
        (node,) = find(holder, parse_path(path)[holder is not around.root :], path)
        return node.raw if isinstance(node, FieldNode) else b""

    if not spec.held_by:
        data, log = bytes(around.source.read(0, around.source.size)), log_of(around.source)
        return unwrap(data, spec.layers, key_of, number_of, log)
    nodes = [node for node in find(around.root, parse_path(spec.held_by), spec.held_by) if isinstance(node, FieldNode)]

    def through(data: bytes) -> list[Step]:
        return unwrap(data, spec.layers, key_of, number_of)

    if spec.is_held_in_rows:
        return [HeldInRows.of(nodes, around.source, through, spec.part_size)]
    held = Held.of(nodes[0], around.source)
    return [held, *through(held.data)]
