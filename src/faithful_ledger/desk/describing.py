"""Describing by hand in the window: each change goes into the template's file, and the save is read again with it."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import suppress
from functools import partial
from itertools import chain
from pathlib import Path
from typing import TYPE_CHECKING, Any

from faithful_ledger.core.address import Step, parse_path
from faithful_ledger.core.binding import FieldNode, Node, RowsNode, find
from faithful_ledger.core.binding.spans import field_at
from faithful_ledger.core.collecting import collected_later
from faithful_ledger.core.deadline import Deadline
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.desk.beside import Message

if TYPE_CHECKING:
    from faithful_ledger.core.binding import BoundFile
    from faithful_ledger.core.book import Book
    from faithful_ledger.core.describe.draft import Draft
    from faithful_ledger.core.describe.ends import End
    from faithful_ledger.core.describe.links import Link
    from faithful_ledger.core.describe.naming import NamedAs
    from faithful_ledger.core.describe.proposals import Proposal
    from faithful_ledger.core.described import Revisions
    from faithful_ledger.core.inside import Payload
    from faithful_ledger.core.layers import LayerSpec
    from faithful_ledger.core.seals.finder.blocks import BlockRule
    from faithful_ledger.core.seals.finder.directories import DirectoryRule
    from faithful_ledger.core.seals.finder.packed import StreamRule
    from faithful_ledger.core.seals.finder.repeated import SealRow
    from faithful_ledger.core.seals.finder.selection import Stored
    from faithful_ledger.core.source import Source
    from faithful_ledger.desk.session import Selection, Session

__all__ = ["Describing"]

Act = Callable[["Draft"], object]
MOST_COPIES = 40


class Describing:
    """Of the save that is open in a session."""

    def __init__(self, session: Session) -> None:
        self._session = session
        self._revisions: dict[Path, Revisions] = {}

    def remember(self, book: Book) -> None:
        """Let a book that was opened again go on with the changes of its templates that can be undone."""
        book.templates.revisions = self._revisions.setdefault(book.folder, book.templates.revisions)

    # what can be said

    def can_describe(self, file: str) -> bool:
        """Whether the bytes of a file can be described: it is a binary one, and on disk or in the template."""
        save = self._session.save
        held = save.files.get(file) if save is not None else None
        if held is None or save is None:
            return False
        if held.bound is None:
            return save.template is None and held is save.main
        return not held.bound.document.knows_ends and save.template is not None

    def is_described_text(self, node: Node | None) -> bool:
        """Whether an element of a text stands in the template, so that what it says there can be changed."""
        save = self._session.save
        held = save.files.get(node.file) if save is not None and node is not None else None
        if held is None or held.bound is None or save is None or save.template is None or node is None:
            return False
        return held.bound.document.knows_ends and bool(node.spec.where)

    def can_declare(self, file: str) -> bool:
        """Whether a payload inside a file can become a file of the template."""
        save = self._session.save
        held = save.files.get(file) if save is not None else None
        return held is not None and save is not None and (save.template is None or held.bound is not None)

    def proposals(self, selection: Selection, copies: list[tuple[Any, int | None]]) -> list[Proposal]:
        """How the selected bytes may be stored."""
        from faithful_ledger.core.describe.proposals import proposals

        save = self._session.save
        bound = save.files[selection.file].bound if save is not None else None
        order = bound.spec.order if bound is not None else "little"
        source = self._session.sources.of(selection.file)
        return proposals(source, selection.start, selection.end, order, copies)

    def links(self, node: Node) -> list[Link]:
        """What a number may be the length, count or offset of, in the save and its kept copies."""
        from faithful_ledger.core.describe.links import links

        save = self._session.save
        if save is None:
            return []
        here = save.files[node.file].bound
        if here is None:
            return []
        copies = (each[node.file].root for each in self.bound_copies() if node.file in each)
        return links(chain([here.root], copies), node.path)

    def bound_copies(self) -> Iterator[dict[str, BoundFile]]:
        """The template over the latest kept copies, one by one."""
        book, save = self._session.book, self._session.save
        if book is None or save is None or save.template is None:
            return
        for snapshot in self._session.kept_copies[:MOST_COPIES]:
            with suppress(LedgerError):  # a copy that is damaged proves nothing; the vault reports it
                bound = save.laid_over(book.keeping.kept_sources(save, snapshot, inside=False))
                if bound is not None:
                    yield bound

    def codes(self, node: FieldNode, *, switches: bool) -> list[int]:
        """The values that a whole number has in the save and its copies, or the bits of it that are ever set."""
        save = self._session.save
        here = save.files[node.file].bound if save is not None and node.file in save.files else None
        every = [here, *(each.get(node.file) for each in self.bound_copies())]
        numbers: set[int] = set()
        for bound in every:
            with suppress(LedgerError):
                nodes = find(bound.root, own_steps(bound, node), node.path) if bound is not None else []
                numbers |= {each.number for each in nodes if isinstance(each, FieldNode)}
        if switches:
            return [bit for bit in range(64) if any(number >> bit & 1 for number in numbers)]
        return sorted(numbers)

    def ends(self, selection: Selection) -> list[End]:
        """How far the selected elements may go on as rows; nothing where they are not the elements of one layout."""
        book, save = self._session.book, self._session.save
        if book is None or save is None or save.template is None:
            return []
        library = self._session.shelf.library(book)
        try:
            draft = book.templates.draft(save, library, self._session.template_file)
            return draft.ends(selection.file, selection.start, selection.end)
        except LedgerError:
            return []

    def checksums(self, selection: Selection, until: Deadline) -> list[Stored]:
        """Every checksum of the selected bytes that is stored in the file, judged over the kept copies as well. For
        another thread.
        """
        from faithful_ledger.core.seals.finder.selection import Chosen, checksums_of

        until.begin()
        save = self._session.save
        if save is None:
            return []
        start, end = selection.start, selection.end
        here = self._session.sources.of(selection.file)
        saves = [Chosen(bytes(here.read(0, here.size)), start, end)]
        for copy, span in self._same_bytes(selection):
            saves.append(Chosen(bytes(copy.read(0, copy.size)), *span))
        return checksums_of(list(dict.fromkeys(saves)), until)

    def _same_bytes(self, selection: Selection) -> Iterator[tuple[Source, tuple[int, int]]]:
        """The selected bytes in each kept copy: those of the same element, or what was carried there."""
        node, size = selection.node, selection.end - selection.start
        if node is not None and (node.start, node.end) == (selection.start, selection.end):
            for bound in self.bound_copies():
                file = bound.get(selection.file)
                with suppress(LedgerError):
                    found = find(file.root, own_steps(file, node), node.path) if file is not None else []
                    if file is not None and found:
                        yield file.source, (found[0].start, found[0].end)
            return
        for copy, at in self._session.sources.in_copies(selection.file, selection.start, size):
            if at is not None:
                yield copy, (at, at + size)

    # changes

    def seal_blocks(self, rule: BlockRule | DirectoryRule | SealRow | StreamRule) -> bool:
        """Describe a row of blocks with a checksum in each."""
        from faithful_ledger.core.sealing_rules import blocks_found

        save = self._session.save
        file, start = (save.main.name if save is not None else ""), rule.start
        shown = partial(self._select_rows, file, start)
        return self._change("describe the blocks", lambda draft: blocks_found(draft, rule), shown)

    def seal(self, selection: Selection, stored: Stored) -> bool:
        """Make a checksum of the selected bytes a seal."""
        act = partial(_seal, stored=stored, over=(selection.start, selection.end), file=selection.file)
        at = stored.at
        return self._change("add a seal", act, partial(self._select, selection.file, at, at + stored.size))

    def add(self, selection: Selection, keys: Mapping[str, Any], size: int) -> bool:
        """Describe bytes from the beginning of a selection on by an element."""
        file, start = selection.file, selection.start
        name = str(next(iter(keys.values())))
        act = partial(_add, file=file, start=start, end=start + size, keys=keys)
        return self._change(f"name {name}", act, partial(self._select, file, start, start + size))

    def add_value(self, node: FieldNode, name: str) -> bool:
        """Describe a value of a text, which has only its path yet, by a field of the template."""
        save = self._session.save
        if save is None or save.outline is None or not name.strip():
            return False
        within, paths = save.outline.within(node.file, node.spec.name), list[str]()

        def act(draft: Draft) -> None:
            paths.append(draft.add_value(node.file, within, name.strip(), node.value))

        def shown() -> None:
            now = self._session.save
            nodes = self._session.attempt(lambda: now.nodes(paths[-1])) if now is not None else None
            if nodes:
                self._session.select_node(nodes[0])

        return self._change(f"name {name.strip()}", act, shown)

    def add_bits(self, selection: Selection, low: int, high: int, name: str) -> bool:
        file, start, end = selection.file, selection.start, selection.end
        shown = partial(self._select, file, start, end)
        return self._change(f"name {name}", lambda draft: draft.add_bits(file, start, end, low, high, name), shown)

    def set(self, node: Node, keys: Mapping[str, Any], about: str) -> bool:
        """Give an element's keys other values."""
        return self._change(f"{about} of {node.spec.name}", lambda draft: draft.set(node.path, keys), self._show(node))

    def name_after(self, node: Node, naming: NamedAs | None) -> bool:
        """Say that the name of the file, or of its folder, says a field; or that none does."""
        about = f"slot {node.spec.name}" if naming is not None else f"no slot {node.spec.name}"
        return self._change(about, lambda draft: draft.name_after(node.path, naming), self._show(node))

    def rename(self, node: Node, name: str) -> bool:
        act = partial(_rename, path=node.path, name=name)
        return self._change(f"rename {node.spec.name}", act, self._show(node))

    def remove(self, node: Node) -> bool:
        return self._change(f"remove {node.spec.name}", lambda draft: draft.remove(node.path), self._show(node))

    def resize(self, node: Node, start: int, end: int, keys: Mapping[str, Any]) -> bool:
        """Let a field cover other bytes."""
        shown = partial(self._select, node.file, start, end)
        return self._change(
            f"borders of {node.spec.name}", lambda draft: draft.resize(node.path, start, end, keys), shown
        )

    def move(self, node: FieldNode, start: int, end: int) -> bool:
        """Let a field cover other bytes, with a storage of the same kind and the new size."""
        from faithful_ledger.core.describe.proposals import keys_for

        keys = self._session.attempt(lambda: keys_for(node.spec, end - start)) if end - start != node.size else {}
        return keys is not None and self.resize(node, start, end, keys)

    def group(self, selection: Selection, name: str) -> bool:
        file, start, end = selection.file, selection.start, selection.end
        return self._change(
            f"group {name}",
            lambda draft: draft.group(file, start, end, name),
            partial(self._select, file, start, end),
        )

    def ungroup(self, node: Node) -> bool:
        return self._change(f"ungroup {node.spec.name}", lambda draft: draft.ungroup(node.path), self._show(node))

    def repeat(self, selection: Selection, name: str, ends: Mapping[str, Any]) -> bool:
        """Make rows of the selected elements."""
        file, start, end = selection.file, selection.start, selection.end
        return self._change(
            f"rows {name}",
            lambda draft: draft.repeat(file, start, end, name, ends),
            partial(self._select_rows, file, start),
        )

    def link(self, node: Node, link: Link | None) -> bool:
        """Make a number the length, count or offset of something, or with None a value of its own."""
        if link is None:
            keys = {"length_of": None, "count_of": None, "offset_of": None, "plus": None}
            return self.set(node, keys, "link")
        return self._change(f"link of {node.spec.name}", lambda draft: draft.link(node.path, link), self._show(node))

    def put_into_section(self, node: Node, title: str) -> bool:
        """Show a field in a section of the Edit sheet, or with no title in none."""
        act = partial(_section, path=node.path, title=title)
        return self._change(f"section of {node.spec.name}", act, self._show(node))

    def declare(self, payload: Payload, file: str) -> bool:
        """Make a payload that was found, or tried, a file of the template; it is on the strip then."""
        from faithful_ledger.core.formats import DOCUMENTS, recognised_text
        from faithful_ledger.core.source import MemorySource

        text = recognised_text(MemorySource(payload.data))
        kind = next((name for name, made in DOCUMENTS.items() if text is not None and made is type(text)), "binary")
        names: list[str] = []

        def act(draft: Draft) -> None:
            inside = file if file in draft.save.files else draft.save.main.name
            names.append(draft.declare(inside, payload.layers, kind))

        return self._change(f"declare {payload.layer}", act, lambda: self._session.select(names[0], 0, 0))

    def leave_off(self, name: str, *, left: bool) -> bool:
        """Leave a layer off when the save is posted, or put it back."""
        about = f"{'leave off' if left else 'put back'} the layer of {name}"
        return self._change(about, lambda draft: draft.leave_off(name, left=left), lambda: None)

    def tried(self, file: str, layer: LayerSpec) -> Payload | None:
        """What a layer gives that somebody named by hand, with its key; the banner says why it gives nothing."""
        from faithful_ledger.core.inside import Payload
        from faithful_ledger.core.wrapping import Unwrapped, unwrap

        source = self._session.sources.of(file)

        def work() -> bytes:
            inner = Unwrapped(unwrap(bytes(source.read(0, source.size)), [layer])).source
            return bytes(inner.read(0, inner.size))

        data = self._session.attempt(work)
        return Payload((layer,), f"{layer.kind}, by hand", data) if data is not None else None

    # undo

    @property
    def to_undo(self) -> str:
        book = self._session.book
        return book.templates.revisions.to_undo if book is not None else ""

    @property
    def to_redo(self) -> str:
        book = self._session.book
        return book.templates.revisions.to_redo if book is not None else ""

    def undo(self) -> None:
        """Undo the latest change of the template, also a pin or an accepted seal."""
        self._step(back=True)

    def redo(self) -> None:
        self._step(back=False)

    def _step(self, *, back: bool) -> None:
        session, book, save = self._session, self._session.book, self._session.save
        if book is None or save is None:
            return
        if session.pending:
            session.entries.ask("Do it without them", partial(self._step, back=back))
            return
        selection = session.selection
        step = book.templates.step_back if back else book.templates.step_forward
        about = session.attempt(lambda: step(save))
        if about is None:
            return

        def shown() -> None:
            if selection is not None:
                self._select(selection.file, selection.start, selection.end)
            session.reported.emit(Message("holds", f"{'Undone' if back else 'Done again'}: {about}."))

        session.reopen(shown, by_any=True)

    # how a change is made

    def _change(self, about: str, act: Act, shown: Callable[[], object]) -> bool:
        session, book, save = self._session, self._session.book, self._session.save
        if book is None or save is None:
            return False
        if session.pending:
            session.entries.ask("Describe without them", partial(self._change, about, act, shown))
            return False
        library = session.shelf.library(book)
        file = session.template_file
        with collected_later():
            template = session.attempt(lambda: book.templates.change(save, library, about, act, file))
            if template is None:
                return False
            session.reopen_with(template if file is None else str(file), shown, selects=True)
        return True

    def _select(self, file: str, start: int, end: int) -> None:
        """Select bytes again; the main file may be called otherwise since it has a template, or has none any more."""
        save = self._session.save
        if save is not None:
            self._session.select(file if file in save.files else save.main.name, start, end)

    def _select_rows(self, file: str, start: int) -> None:
        """Select the outermost rows that begin at an offset."""
        save = self._session.save
        bound = save.files[file].bound if save is not None and file in save.files else None
        node: Node | None = field_at(bound.root, start) if bound is not None else None
        while node is not None and not isinstance(node, RowsNode):
            node = node.parent
        if node is not None:
            self._session.select_node(node)

    def _show(self, node: Node) -> Callable[[], None]:
        return partial(self._select, node.file, node.start, node.end)


def own_steps(bound: BoundFile, node: Node) -> tuple[Step, ...]:
    """The path of a field from the root of its file, through all records where it is in one."""
    steps = parse_path(node.path)
    if bound.root.spec.name and steps[0].name == bound.root.spec.name:
        steps = steps[1:]
    return tuple(Step(every=True) if step.name is None else step for step in steps)


def _add(draft: Draft, *, file: str, start: int, end: int, keys: Mapping[str, Any]) -> None:
    draft.add(file, start, end, keys)


def _rename(draft: Draft, *, path: str, name: str) -> None:
    """What was typed becomes the name; where that is not how names are written, it is the label as well."""
    from faithful_ledger.core.template.names import field_name

    draft.rename(path, field_name(name))
    if field_name(name) != name:
        draft.read_again()
        holder = path.rpartition(".")[0]
        draft.set(f"{holder}.{field_name(name)}" if holder else field_name(name), {"label": name})


def _seal(draft: Draft, *, stored: Stored, over: tuple[int, int], file: str) -> None:
    from faithful_ledger.core.sealing import seal_chosen

    seal_chosen(draft, stored, over, file if file in draft.save.files else draft.save.main.name)


def _section(draft: Draft, *, path: str, title: str) -> None:
    draft.show_in(path, title)
