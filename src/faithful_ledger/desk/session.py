"""What the window is about just now: the book, the save, the selection, and the plan for its entries.

The stages show what is here and call its methods; they do not know each other. Errors of the core become a message in
the banner (`told`), in one place.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple, TypeVar

from PySide6.QtCore import QObject, Signal

from faithful_ledger.core.binding import FieldNode, Node
from faithful_ledger.core.binding.spans import field_at
from faithful_ledger.core.book import Book
from faithful_ledger.core.edits import Patched, Replacement
from faithful_ledger.core.errors import AddressError, EntryError, LedgerError, RecognitionError, ValueRefused
from faithful_ledger.core.opening import find_save, open_save
from faithful_ledger.core.posting import Plan, make_plan
from faithful_ledger.core.records import Mark, Posting, Quantity, Snapshot
from faithful_ledger.core.save import Save
from faithful_ledger.core.shelf import Shelf
from faithful_ledger.core.source import WHOLE, MemorySource, Source
from faithful_ledger.core.typed_bytes import enter_bytes
from faithful_ledger.desk.background import Background

if TYPE_CHECKING:
    from faithful_ledger.core.evidence import Place
    from faithful_ledger.core.inside import Payload

__all__ = ["Message", "Selection", "Session"]

PLANNED_AT_ONCE = 1 << 20  # bytes of a save whose plan, copy or posting is made without leaving the handler
RECENT = 400
T = TypeVar("T")


class Selection(NamedTuple):
    """Bytes [start, end) of one file, and the element they are, where it is one."""

    file: str
    start: int
    end: int
    node: Node | None


class Message(NamedTuple):
    """Something to tell in the banner: `kind` is holds, open or broken; `action` and `act` offer a next step."""

    kind: str
    text: str
    action: str = ""
    act: Callable[[], object] | None = None


class Session(QObject):
    """Signals: `opened` another save; `changed` the tape; `planned` what posting would do is known; `selected`;
    `recorded` snapshots or postings; `marked` bytes; `note_wanted` for the bytes selected; `told` a message, or None to
    clear it.
    """

    opened = Signal()
    changed = Signal()
    planned = Signal()
    selected = Signal(object)
    recorded = Signal()
    marked = Signal()
    note_wanted = Signal()
    told = Signal(object)

    def __init__(self, shelf: Shelf, background: Background | None = None) -> None:
        super().__init__()
        self.shelf = shelf
        self.background = background or Background(self)
        self.writer = Background(self)  # what writes or opens a large save does not wait for a search
        self.busy = ""
        self.book: Book | None = None
        self.save: Save | None = None
        self.selection: Selection | None = None
        self.plan: Plan | None = None
        self.plan_error: LedgerError | None = None
        self.pending_plan = False
        self.payloads: dict[str, Source] = {}
        self._generation = 0

    # opening

    def open(self, path: Path, template: str | None = None, book: str | None = None) -> bool:
        """Open a save. One that no template fits opens as bytes, and the banner says why.

        While entries are pending the user is asked first, because they belong to the save that is open.
        """
        if self.pending:
            self._ask_about_entries("Open it without them", lambda: self.open(path, template, book))
            return False
        load = partial(self._load, path, template, book)
        return self._beside(_size_of(path), f"{path.name} is opened", load, lambda loaded: self._show(*loaded))

    @property
    def pending(self) -> int:
        """How many entries are on the tape."""
        return len(self.save.tape) if self.save is not None else 0

    def _ask_about_entries(self, action: str, act: Callable[[], object]) -> None:
        """Tell that entries would be lost; the action strikes them and goes on."""

        def strike_and_go_on() -> None:
            if self.save is not None:
                self.save.tape.clear()
            act()

        count = f"{self.pending} {'entry is' if self.pending == 1 else 'entries are'}"
        text = f"{count} pending for {self.save.path.name if self.save else ''}; post or strike first"
        self.told.emit(Message("open", text, action, strike_and_go_on))

    def _load(self, path: Path, template_name: str | None, book_name: str | None) -> tuple[Book, Save, Message | None]:
        known = self.shelf.book_of(path) if book_name is None else self.shelf.open(book_name)
        library = self.shelf.library(known)
        message: Message | None = None
        template = None
        try:
            if template_name is None and path.is_dir() and known is not None:
                template_name = known.template_of(path)
            if template_name is not None:
                template = library.get(template_name)
            elif not (path.is_dir() and known is not None):
                path, template = find_save(path, library)
        except (RecognitionError, AddressError) as error:
            if isinstance(error, AddressError) and not path.is_dir():
                raise
            whole = "; the folder is open as one save" if path.is_dir() else ""
            message = Message("open", f"{error.what}{whole}" if whole else str(error))
        save = open_save(path, template)
        book = known or self.shelf.book_for(path, template)
        book.remember(path, template.id if template is not None else None)
        if save.problem is not None:
            message = Message("broken", str(save.problem))
        return book, save, message

    def _show(self, book: Book, save: Save, message: Message | None) -> None:
        if self.book is not None and self.book is not book:
            self.book.close()
        self.book, self.save, self.selection = book, save, None
        self.payloads.clear()
        if self.shelf.recovered:
            message = Message("open", "; ".join(map(str, self.shelf.recovered)))
            self.shelf.recovered.clear()
        self.opened.emit()
        self.told.emit(message)
        self._tape_changed()

    def reopen(self, then: Callable[[], object] = lambda: None) -> None:
        """Read the save anew, as after a posting; `then` is called when it is there."""
        save = self.save
        if save is None:
            return
        name = save.template.id if save.template is not None else None
        load = partial(self._load, save.path, name, None)
        self._beside(self._size, f"{save.path.name} is read again", load, lambda found: (self._show(*found), then()))

    # work that takes long with a large save

    @property
    def _size(self) -> int:
        return self.save.size if self.save is not None else 0

    def _beside(
        self,
        size: int,
        doing: str,
        work: Callable[[], T],
        done: Callable[[T], object],
        failed: Callable[[LedgerError], object] | None = None,
        *,
        always: bool = False,
    ) -> bool:
        """Do something with so many bytes: few at once, and many beside the window, which is busy meanwhile.

        Work that looks at all running programs is `always` done beside it. Whether it is done, or was begun. Unless it
        was refused, `done` or `failed` is called.
        """
        if self._refuse():
            return False
        tell = failed or (lambda error: self.told.emit(Message("broken", str(error))))
        if not always and (size <= PLANNED_AT_ONCE or size > WHOLE):  # of a very large file only a little is read
            try:
                value = work()
            except LedgerError as error:
                tell(error)
                return False
            done(value)
            return True
        self.busy = doing
        self.told.emit(Message("open", f"{doing}…"))

        def finished(value: T | None, error: LedgerError | None) -> None:
            self.busy = ""
            self.told.emit(None)
            if error is not None:
                tell(error)
            else:
                done(value)  # type: ignore[arg-type]

        self.writer.run(work, finished)
        return True

    # selection

    def select(self, file: str, start: int, end: int, node: Node | None = None) -> None:
        """Select bytes; the field they are is found where none is given."""
        if self.save is None:
            return
        bound = self.save.files[file].bound if file in self.save.files else None
        if node is None and bound is not None and end > start:
            found = field_at(bound.root, start)
            node = found if found is not None and end <= found.end else None
        self.selection = Selection(file, start, end, node)
        self.selected.emit(self.selection)

    # what can lie on the strip: the files of the save, and what was unpacked from them

    @property
    def source_names(self) -> list[str]:
        return [*(self.save.files if self.save is not None else ()), *self.payloads]

    def source_title(self, name: str) -> str:
        file = self.save.files.get(name) if self.save is not None else None
        if file is None or self.save is None:
            return name
        return f"{file.path.name} → {name}" if file.inside else self.save.name_of(file)

    def source(self, name: str) -> Source:
        """The bytes of a file as they were opened, or of something unpacked."""
        if name in self.payloads:
            return self.payloads[name]
        assert self.save is not None
        return self.save.files[name].source

    def shown_source(self, name: str) -> Source:
        """The same with the entries that change bytes in their place."""
        source, save = self.source(name), self.save
        spans = [
            Replacement(entry.node.start, entry.node.end, entry.data, entry.path)
            for entry in (save.tape if save is not None else ())
            if entry.node.file == name and not entry.moves and name not in self.payloads
        ]
        try:
            return Patched(source, spans) if spans else source
        except LedgerError:
            return source  # two entries over the same bytes; the plan says so

    def add_payload(self, payload: Payload) -> str:
        """Something unpacked, to be looked at; its name among the sources."""
        self.payloads.setdefault(payload.layer, MemorySource(payload.data))
        return payload.layer

    @property
    def kept_copies(self) -> list[Snapshot]:
        """Snapshots of the open save that the user or a watch made, the latest first; of the last 400 of all kinds."""
        if self.book is None or self.save is None:
            return []
        return [s for s in self.book.snapshots(self.save.path, RECENT) if s.kind == "kept"]

    # marks

    def marks(self, file: str) -> list[Mark]:
        if self.book is None or self.save is None:
            return []
        return [mark for mark in self.book.records.marks(self.save.path.absolute()) if mark.file == file]

    def mark(self, file: str, start: int, end: int, note: str) -> None:
        """Mark bytes with a note."""
        book, save = self.book, self.save
        if book is not None and save is not None:
            self.attempt(lambda: book.records.add_mark(save.path.absolute(), file, start, end, note))
            self.marked.emit()

    def unmark(self, mark: Mark) -> None:
        book = self.book
        if book is not None:
            self.attempt(lambda: book.records.remove_mark(mark))
            self.marked.emit()

    def select_node(self, node: Node) -> None:
        self.select(node.file if self.save and node.file in self.save.files else "file", node.start, node.end, node)

    # entries

    def enter(self, node: FieldNode, text: str, *, anyway: bool = False) -> bool:
        """Write an entry down from what was typed. A value outside the bounds can be entered after a second word."""
        save = self.save
        if save is None or self._refuse():
            return False
        try:
            save.enter(node.path, text, anyway=anyway)
        except ValueRefused as error:
            outside = not anyway and node.spec.bounds is not None and "bound" in error.what
            message = Message("broken", str(error))
            if outside:
                message = Message("broken", str(error), "Enter it anyway", lambda: self.enter(node, text, anyway=True))
            self.told.emit(message)
            return False
        except LedgerError as error:
            self.told.emit(Message("broken", str(error)))
            return False
        self.told.emit(None)
        self._tape_changed()
        return True

    def type_bytes(self, file: str, start: int, end: int, data: bytes) -> bool:
        """Write bytes down that give way to others, come in, or go."""
        save = self.save
        if save is None or file not in save.files or self._refuse():
            return False
        entry = self.attempt(lambda: enter_bytes(save, file, start, end, data))
        if entry is None:
            return False
        self.told.emit(None)
        self._tape_changed()
        return True

    def _refuse(self) -> bool:
        """Whether nothing can be entered just now, because the save is being written or read."""
        if self.busy:
            self.told.emit(Message("open", f"{self.busy}; wait until that is done"))
        return bool(self.busy)

    def strike(self, path: str) -> None:
        if self.save is not None and not self._refuse():
            self.save.tape.strike(path)
            self._tape_changed()

    def undo(self) -> None:
        if self.save is not None and not self._refuse() and self.save.tape.undo():
            self._tape_changed()

    def redo(self) -> None:
        if self.save is not None and not self._refuse() and self.save.tape.redo():
            self._tape_changed()

    def decide_broken(self, renew: bool) -> None:
        """Whether seals that did not hold when the save was opened are renewed or left."""
        if self.save is not None and not self._refuse():
            self.save.renew_broken = renew
            self._tape_changed()

    def _tape_changed(self) -> None:
        self.changed.emit()
        self._generation += 1
        generation, save = self._generation, self.save
        self.plan, self.plan_error = None, None
        self.pending_plan = bool(save is not None and len(save.tape))
        if save is None or not self.pending_plan:
            self.planned.emit()
            return

        def done(plan: Plan | None, error: LedgerError | None) -> None:
            if generation == self._generation:
                self.plan, self.plan_error, self.pending_plan = plan, error, False
                self.planned.emit()
                moving = [finding for finding in plan.findings if finding.level == "warning"] if plan else []
                if moving:
                    self.told.emit(Message("open", moving[0].message))

        if self._size <= PLANNED_AT_ONCE:
            try:
                done(make_plan(save), None)
            except LedgerError as error:
                done(None, error)
        else:
            self.planned.emit()
            self.background.run(lambda: make_plan(save), done)

    # records

    def post(self, note: str, then: Callable[[Posting | None], object], *, detach_links: bool = False) -> None:
        """Write the plan, and read the save anew; `then` gets the posting, or None where nothing was written."""
        if self.book is None or self.save is None or self.plan is None:
            return
        book, save, plan = self.book, self.save, self.plan

        self._beside(
            self._size,
            f"{save.path.name} is written",
            lambda: book.post(save, plan, note, detach_links=detach_links),
            lambda posting: self.reopen(lambda: (self.recorded.emit(), then(posting))),
            self._failed(then),
            always=True,
        )

    def _failed(self, then: Callable[[None], object]) -> Callable[[LedgerError], object]:
        """What tells a failure in the banner and hands on that there is no result."""
        return lambda error: (self.told.emit(Message("broken", str(error))), then(None))

    def keep(self, label: str, then: Callable[[Snapshot | None], object] = lambda snapshot: None) -> None:
        """Keep a copy; `then` gets the snapshot, or None where nothing was kept."""
        if self.book is None or self.save is None:
            return
        book, save = self.book, self.save

        def done(snapshot: Snapshot) -> None:
            self.recorded.emit()
            self.told.emit(Message("holds", f"A copy is kept: {label or snapshot.id}."))
            then(snapshot)

        self._beside(self._size, "A copy is kept", lambda: book.keep(save, label), done, self._failed(then))

    def take_in(self, archive: Path) -> Snapshot | None:
        """Keep what was exported from this or another book as a snapshot of the open save."""
        book, save = self.book, self.save
        if book is None or save is None:
            return None
        snapshot = self.attempt(lambda: book.take_in(archive, save.path))
        if snapshot is not None:
            self.recorded.emit()
            self.told.emit(Message("holds", f"{archive.name} is kept as “{snapshot.label}”."))
        return snapshot

    def reverse(self, posting: Posting, *, anyway: bool = False) -> bool:
        book = self.book
        if book is None:
            return False
        if self.pending:
            self._ask_about_entries("Reverse without them", lambda: self.reverse(posting, anyway=anyway))
            return False

        def done(_: Snapshot) -> None:
            text = "The posting is reversed: the save has its old bytes again."
            self.reopen(lambda: (self.recorded.emit(), self.told.emit(Message("holds", text))))

        def failed(error: LedgerError) -> None:
            again = (lambda: self.reverse(posting, anyway=True)) if "since this posting" in error.what else None
            self.told.emit(Message("broken", str(error), "Reverse it anyway" if again else "", again))

        work = partial(book.reverse, posting, anyway=anyway)
        return self._beside(self._size, "The posting is reversed", work, done, failed, always=True)

    def restore(self, snapshot: Snapshot) -> bool:
        book = self.book
        if self.pending:
            self._ask_about_entries("Restore without them", lambda: self.restore(snapshot))
            return False
        if book is None:
            return False
        text = f"The snapshot of {snapshot.time[:16].replace('T', ' ')} is back in its place."
        return self._beside(
            self._size,
            "The snapshot is brought back",
            lambda: book.restore(snapshot),
            lambda _: self.reopen(lambda: (self.recorded.emit(), self.told.emit(Message("holds", text)))),
            always=True,
        )

    def restore_elsewhere(self, snapshot: Snapshot, folder: Path) -> None:
        """Write the files of a snapshot into a folder in which none of their names is taken."""
        book = self.book
        if book is None:
            return
        text = f"The files of “{snapshot.label or snapshot.id}” are in {folder}; the save is as it was."
        self._beside(
            sum(file.size for file in snapshot.files),
            "The snapshot is written",
            lambda: (book.restore(snapshot, to=folder), folder)[1],
            lambda _: self.told.emit(Message("holds", text)),
        )

    # evidence

    def judge(self, posting: Posting, verdict: str) -> None:
        """What the game made of a posting is evidence: accepted fields are proven from now on."""
        book, save = self.book, self.save
        if book is None or save is None:
            return
        library = self.shelf.library(book)
        path = library.path_of(save.template.id) if save.template is not None else None
        proven = self.attempt(lambda: book.judge(posting, verdict, path))
        if proven is None:
            return
        if proven and not self.pending:
            self.reopen()
        self.recorded.emit()
        said = f"; proven from now on: {', '.join(proven)}" if proven else ""
        self.told.emit(Message("holds" if verdict == "accepted" else "open", f"The game: {verdict}{said}."))

    def pin(self, quantity: Quantity, place: Place) -> bool:
        """Accept a place: its field goes into the template, and strip, Edit and tape know it at once."""
        book, save = self.book, self.save
        if book is None or save is None:
            return False
        if self.pending:
            self._ask_about_entries("Pin it without them", lambda: self.pin(quantity, place))
            return False
        path = self._described(save, place)
        if path is None:
            try:
                path = book.add_place(save, self.shelf.library(book), place, quantity.name)
            except EntryError as error:
                return self._pin_in_book(quantity, place, error)
            except LedgerError as error:
                self.told.emit(Message("broken", str(error)))
                return False
        book.records.pin(quantity, path)
        self.reopen()
        if self.save is not None and (nodes := self.attempt(lambda: self.save.nodes(path))):  # type: ignore[union-attr]
            self.select_node(nodes[0])
        self.told.emit(Message("holds", f"{quantity.name} is pinned: {path} is in the template now."))
        return True

    def _pin_in_book(self, quantity: Quantity, place: Place, why: EntryError) -> bool:
        """Where a template cannot find a place again, the book remembers it all the same."""
        book = self.book
        if book is None:
            return False
        inside = f", inside {' → '.join(place.route)}" if place.route else ""
        where = f"0x{place.offsets[-1]:X}, {place.stored_as}{inside}"
        book.records.pin(quantity, where)
        self.recorded.emit()
        text = f"{quantity.name} is pinned in the book only, as {where}: {why}"
        self.told.emit(Message("open", text))
        return True

    @staticmethod
    def _described(save: Save, place: Place) -> str | None:
        """The field that describes a place already."""
        if save.template is None or (place.path is not None and "(text)" in place.path):
            return None
        lies_in = Path(place.file) if place.file else save.main.path.absolute()
        held = next((file for file in save.on_disk if file.path.absolute() == lies_in), None)
        if held is not None and place.route:
            inside = [file for file in save.files.values() if file.inside == held.name and file.bound is not None]
            held = next((f for f in inside if f.bound and f.bound.spec.layers == place.route), None)
        node = field_at(held.bound.root, place.offsets[-1]) if held is not None and held.bound is not None else None
        if node is None or node.spec.unknown:
            return None
        fits = node.start == place.offsets[-1] and node.spec.codec.name == place.stored_as
        text = place.stored_as in ("utf-8", "latin-1") and node.start == place.offsets[-1] - 1
        return node.path if fits or text else None

    def attempt(self, action: Callable[[], T]) -> T | None:
        """Do something that may fail; the failure is told in the banner."""
        try:
            return action()
        except LedgerError as error:
            self.told.emit(Message("broken", str(error)))
            return None


def _size_of(path: Path) -> int:
    """How large a file is; nothing where it is none."""
    try:
        return path.stat().st_size
    except (OSError, ValueError):
        return 0
