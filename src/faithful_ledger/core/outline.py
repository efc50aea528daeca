"""Paths in a save that no template describes: every value of its texts can be read, entered and posted.

A text is a file of the save, what a file is packed as, or a string within a text. Each becomes a payload of the save
as a template would describe it, so entries, plans and postings know no difference.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from functools import cached_property
from typing import TYPE_CHECKING

from faithful_ledger.core.address import Address, Step, format_path, parse_path
from faithful_ledger.core.address.paths import split_outside_quotes
from faithful_ledger.core.binding import BoundFile, FieldNode, GroupNode, Node
from faithful_ledger.core.errors import AddressError, LedgerError
from faithful_ledger.core.formats import (
    DOCUMENTS,
    BinaryDocument,
    Document,
    Span,
    recognised_text,
    why_not_text,
)
from faithful_ledger.core.formats.nested import TEXT, NestedText
from faithful_ledger.core.layers import ENCLOSED, LayerSpec
from faithful_ledger.core.layers.sqlite_tables import SQLITE
from faithful_ledger.core.layers.tagged import TAGGED, why_not_tagged
from faithful_ledger.core.nesting import all_leaves, opened_string
from faithful_ledger.core.save import Save, SaveFile
from faithful_ledger.core.source import Source, log_of
from faithful_ledger.core.template.model import FieldSpec, FileSpec, GroupSpec

if TYPE_CHECKING:
    from faithful_ledger.core.wrapping import Unwrapped

__all__ = ["Outline", "outlined"]

LARGEST_UNWRAPPED = 64 << 20
MOST_EVERY = 100_000  # values that one [*] stands for


def outlined(save: Save, text_format: str = "") -> Save:
    """A save with the texts that are in it. Without a template they are recognised, or of the format that was chosen;
    where there are none it stays bytes.
    """
    outline = Outline(save)
    if save.template is not None:
        outline.take_in_described()
    else:
        outline.take_in_files(text_format)
    outline.text_format = text_format
    if outline.texts or outline.problem is not None:
        save.outline = outline
    return save


def _why_not_tagged(source: Source) -> LedgerError | None:
    return why_not_tagged(bytes(source.read(0, source.size))) if source.size <= LARGEST_UNWRAPPED else None


class Outline:
    """The texts of a save, by the names of its files; `problem` says why a file that begins like a text is none."""

    def __init__(self, save: Save) -> None:
        self.save = save
        self.texts: dict[str, Document] = {}
        self.problem: LedgerError | None = None
        self.text_format = ""  # as the user chose it

    def take_in_described(self) -> None:
        """The texts that a template describes, which may have more values than it names."""
        for name, file in self.save.files.items():
            if file.bound is not None and file.bound.document.knows_ends and file.problem is None:
                self.texts[name] = file.bound.document

    def take_in_files(self, text_format: str) -> None:
        """The texts of files that no template describes, recognised, or the first one of a format."""
        for name, file in list(self.save.files.items()):
            if text_format and file is self.save.main:
                self._take_in_as(name, text_format, file.source)
                continue
            document = recognised_text(file.source) if not self._is_layered(file) else None
            if document is not None:
                self._take_in(name, document, file.source)
            elif not self._packed(name, file):
                self.problem = self.problem or why_not_text(file.source) or _why_not_tagged(file.source)

    @property
    def formats(self) -> list[str]:
        """The names of the texts' formats, the outer ones first; that of the values which a text only shows."""
        return [self._format_of(name) for name in self.texts if not name.endswith(TEXT)]

    def _format_of(self, name: str) -> str:
        bound = self.save.files[name].bound
        shown = [layer.kind for layer in bound.spec.layers[-1:] if layer.kind in TAGGED] if bound is not None else []
        return shown[0] if shown else self.texts[name].name

    # what is there

    def _take_in(self, name: str, document: Document, source: Source, inside: str = "") -> BoundFile:
        spec = FileSpec(name, "", document.name, "little", GroupSpec(""), inside=inside)
        root = GroupNode(spec.root, None, name, 0)
        root.end = source.size
        bound = BoundFile(spec, document, root)
        self.texts[name] = document
        if not inside:
            self.save.files[name].bound = bound
        return bound

    def _take_in_as(self, name: str, text_format: str, source: Source) -> None:
        document = DOCUMENTS[text_format](source)
        try:
            document.check()
        except LedgerError as error:
            self.problem = error
        else:
            self._take_in(name, document, source)

    def _is_layered(self, file: SaveFile) -> bool:
        """Whether it is a text with a checksum beside it, or whose strings are hidden one by one, or one of values that
        say what they are: these are described as what is inside the file.
        """
        from faithful_ledger.core.hidden_strings import find_hidden_strings
        from faithful_ledger.core.inside import layer_of_whole

        size = file.source.size
        if size > LARGEST_UNWRAPPED:
            return False
        data = bytes(file.source.read(0, size))
        kind = layer_of_whole(data)
        return kind == ENCLOSED or kind in TAGGED or find_hidden_strings([data]) is not None

    def _packed(self, name: str, file: SaveFile) -> bool:
        """Take in the texts that a file is packed as; the first of each route."""
        if file.source.size > LARGEST_UNWRAPPED or not file.source.size:
            return False
        from faithful_ledger.core.inside import layer_of_whole, payloads_inside
        from faithful_ledger.core.wrapping import Unwrapped, unwrap

        data = bytes(file.source.read(0, file.source.size))
        found = False
        kind = layer_of_whole(data)
        if kind is not None:
            try:
                unwrapped = Unwrapped(unwrap(data, (LayerSpec(kind),), log=log_of(file.source)))
            except LedgerError as error:
                self.problem = error if kind == SQLITE else None
                return False
            document = recognised_text(unwrapped.source)
            if document is not None:
                self._add(name, (LayerSpec(kind),), document, unwrapped)
                return True
        for payload in payloads_inside(data):
            with suppress(LedgerError):
                unwrapped = Unwrapped(unwrap(data, payload.layers))
                document = recognised_text(unwrapped.source)
                if document is not None:
                    self._add(name, payload.layers, document, unwrapped)
                    found = True
        return found

    def _add(self, around: str, layers: tuple[LayerSpec, ...], document: Document, unwrapped: Unwrapped) -> None:
        files = self.save.files
        if files[around].bound is None:
            spec = FileSpec(around, "", "binary", "little", GroupSpec(""))
            root = GroupNode(spec.root, None, around, 0)
            root.end = files[around].source.size
            files[around].bound = BoundFile(spec, BinaryDocument(files[around].source), root)
        wanted = layers[-1].member or ("text" if layers[-1].kind == ENCLOSED else "unpacked")
        name = wanted if wanted not in files else f"{wanted} {len(files)}"
        bound = self._take_in(name, document, document.source, around)
        bound.spec.layers = layers
        bound.unwrapped = unwrapped
        files[name] = SaveFile(name, files[around].path, document.source, None, bound)

    # along paths

    def nodes(self, path: str) -> list[Node]:
        """What a path leads to: one value, or several with `[*]`.

        Raises:
            AddressError: it leads nowhere, or to something with parts.
        """
        if not self.texts:
            raise self.problem or AddressError(
                f"“{path}”: no text is in this save", "choose a template with --template"
            )
        first: LedgerError | None = None
        for name, rest in self._holders(path):
            try:
                return list(self._in_text(name, rest))
            except AddressError as error:
                first = first or error
        assert first is not None
        raise AddressError(f"“{path}”: {first.what}", first.remedy)

    def _holders(self, path: str) -> Iterator[tuple[str, str]]:
        """The texts a path may lead into, with the rest of it: one whose name it begins with, else each of them."""
        steps = parse_path(path.replace(TEXT, ""))
        first = steps[0].name or ""
        bound = self.save.files[first].bound if first in self.texts else None
        if bound is not None and len(steps) > 1 and (len(self.texts) > 1 or bound.root.spec.name == first):
            yield first, path.removeprefix(format_path(steps[:1])).removeprefix(".")
        for name in list(self.texts):
            if not name.endswith(TEXT):
                yield name, path

    def within(self, name: str, path: str) -> str:
        """A path of this outline as the text of this name counts it: without the name it may begin with."""
        return path.removeprefix(self._prefix(name)).removeprefix(".")

    def _prefix(self, name: str) -> str:
        """What the paths of a text begin with: nothing for the first one, and for what a template describes, which goes
        by its name already.
        """
        bound = self.save.files[name].bound
        alone = name == next(iter(self.texts)) or (bound is not None and bound.root.spec.name == name)
        return "" if alone else format_path((Step(name=name),))

    def held_texts(self, name: str, path: str) -> list[FileSpec]:
        """What the strings on the way of a path hold, one in the other: their layers and formats.

        Raises:
            AddressError: one of them does not hold a text.
        """
        *around, _ = split_outside_quotes(path, TEXT)
        prefix, found = self._prefix(name), []
        for part in around:
            prefix = f"{_joined(prefix, part)}{TEXT}"
            name = self._nested(name, part, prefix)
            bound = self.save.files[name].bound
            assert bound is not None
            found.append(bound.spec)
        return found

    def _in_text(self, name: str, path: str) -> Iterator[Node]:
        *around, last = split_outside_quotes(path, TEXT)
        prefix = self._prefix(name)
        for part in around:
            if described := self._described(name, part):
                name, prefix = described, self._prefix(described)
                continue
            prefix = f"{_joined(prefix, part)}{TEXT}"
            name = self._nested(name, part, prefix)
        document = self.texts[name]
        for steps in _expanded(document, parse_path(last.removeprefix("."))):
            span = document.at(document.whole, steps)
            if span.kind in ("object", "array"):
                inside = len(document.items(span) or ())
                what = f"{format_path(steps)} is {'an object' if span.kind == 'object' else 'a list'}"
                raise AddressError(what + " and has no value of its own", "name a value in it" if inside else "")
            yield self._node(name, document, span, _joined(prefix, format_path(steps)))

    @cached_property
    def _held(self) -> dict[tuple[str, tuple[Step, ...]], str]:
        """The files of the template that strings of a text are, by the text and the path of the string."""
        files = self.save.template.files if self.save.template is not None else {}
        found = {}
        for other, spec in files.items():
            holder = files[spec.inside].root.named(spec.held_by) if spec.inside and spec.held_by else None
            if holder is not None and holder.address.path is not None:
                with suppress(LedgerError):  # a path that is worked out from other fields
                    found[spec.inside, parse_path(holder.address.path.text)] = other
        return found

    def _described(self, name: str, path: str) -> str:
        """The file of the template that a string of a text is; empty where the template does not say what it holds."""
        other = self._held.get((name, parse_path(path.removeprefix("."))), "") if self._held else ""
        files = self.save.template.files if self.save.template is not None else {}
        while other and other not in self.texts:  # it is packed, and what is inside of it may be the text
            other = next((each.name for each in files.values() if each.inside == other and not each.held_by), "")
        return other

    def _nested(self, name: str, part: str, inner_name: str) -> str:
        """Take in the text that a string of a text holds as a payload of its own, which goes by its path."""
        document = self.texts[name]
        span = document.at(document.whole, parse_path(part.removeprefix(".")))
        if inner_name not in self.texts:
            step = NestedText(document.source, span, document.value_storage(span))
            found = opened_string(step.data.decode("utf-8", "surrogateescape"), [step])
            if found is None:
                raise AddressError(
                    f"{inner_name.removesuffix(TEXT)} does not hold a text with paths of its own",
                    "name the text itself",
                )
            inner = found.document
            bound = self._take_in(inner_name, inner, inner.source, name)
            bound.spec.layers = tuple(map(LayerSpec, found.layers))
            from faithful_ledger.core.wrapping import Unwrapped

            bound.unwrapped = Unwrapped(found.steps)
            path = self.save.files[name].path
            self.save.files[inner_name] = SaveFile(inner_name, path, inner.source, None, bound)
        return inner_name

    def _node(self, name: str, document: Document, span: Span, path: str) -> FieldNode:
        bound = self.save.files[name].bound
        assert bound is not None
        address = Address.by_known_path(path.rpartition(TEXT)[2].removeprefix("."))
        spec = FieldSpec(path, label=path, address=address)
        spec.storage = document.value_storage(span)
        node = FieldNode(spec, bound.root, name, span.start, document.source)
        node.end = span.end
        return node

    def fields(self) -> Iterator[FieldNode]:
        """Every value of every text, in their order."""
        names = [name for name in self.texts if not name.endswith(TEXT)]
        for name in names:
            document = self.texts[name]
            prefix = self._prefix(name)
            for leaf in all_leaves(document):
                path = _joined(prefix, leaf.path)
                if TEXT in leaf.path and self._described(name, leaf.path.partition(TEXT)[0]):
                    continue  # these values are those of another file
                if TEXT in leaf.path:
                    with suppress(LedgerError):
                        yield from (node for node in self.nodes(path) if isinstance(node, FieldNode))
                else:
                    yield self._node(name, document, Span(leaf.start, leaf.end, leaf.kind), path)


def _joined(prefix: str, path: str) -> str:
    path = path.removeprefix(".")
    return f"{prefix}{'' if not prefix or path.startswith('[') else '.'}{path}"


def _expanded(document: Document, steps: tuple[Step, ...]) -> Iterator[tuple[Step, ...]]:
    """A path with every `[*]` replaced by each number there is."""
    every = next((number for number, step in enumerate(steps) if step.every), None)
    if every is None:
        yield steps
        return
    for index in range(MOST_EVERY):
        chosen = (*steps[:every], Step(index=index))
        try:
            document.at(document.whole, chosen)
        except AddressError:
            if not index:
                raise
            return
        yield from _expanded(document, (*chosen, *steps[every + 1 :]))
