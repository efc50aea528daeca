"""What the window is about just now: the book, the save, the selection, and the plan for its entries.

The stages show what is here and call its methods; they do not know each other. Errors of the core become a message in
the banner (`reported`), in one place.
"""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import NamedTuple, TypeVar

from PySide6.QtCore import QObject, Signal

from faithful_ledger.core.arranging import enter_all
from faithful_ledger.core.binding import FieldNode, Node
from faithful_ledger.core.binding.spans import field_at
from faithful_ledger.core.book import Book
from faithful_ledger.core.errors import (
    AddressError,
    LedgerError,
    OutOfBounds,
    RecognitionError,
    RootNotGranted,
    ValueRefused,
)
from faithful_ledger.core.opening import WITHOUT, find_save, open_save, still_fits
from faithful_ledger.core.peek import size_unpacked
from faithful_ledger.core.posting import Plan, make_plan
from faithful_ledger.core.records import Snapshot
from faithful_ledger.core.save import Save
from faithful_ledger.core.shelf import Shelf
from faithful_ledger.core.source import WHOLE
from faithful_ledger.core.storage import Storage
from faithful_ledger.core.typed_bytes import enter_bytes
from faithful_ledger.desk.background import Background
from faithful_ledger.desk.beside import AT_ONCE, OPENED_AT_ONCE, Beside, Message, is_short
from faithful_ledger.desk.carry_work import CarryWork
from faithful_ledger.desk.describing import Describing
from faithful_ledger.desk.evidence import Evidence
from faithful_ledger.desk.history_work import HistoryWork
from faithful_ledger.desk.pending_entries import PendingEntries
from faithful_ledger.desk.sources import Sources

__all__ = ["Message", "Selection", "Session"]

RECENT = 400
T = TypeVar("T")


class Selection(NamedTuple):
    """Bytes [start, end) of one file, and the element they are, where it is one."""

    file: str
    start: int
    end: int
    node: Node | None


class Session(QObject):
    """Signals: `opened` another save; `changed` the tape; `planned` what posting would do is known; `selected`;
    `recorded` snapshots or postings; `marked` bytes; `note_wanted` and `name_wanted` for the bytes selected; `reported`
    a message, or None to clear it.
    """

    opened = Signal()
    changed = Signal()
    planned = Signal()
    selected = Signal(object)
    recorded = Signal()
    marked = Signal()
    note_wanted = Signal()
    name_wanted = Signal()
    root_wanted = Signal(str)
    reported = Signal(object)

    def __init__(self, shelf: Shelf, background: Background | None = None) -> None:
        super().__init__()
        self.shelf = shelf
        self.background = background or Background(self)  # what reads the open save, one piece after the other
        self.looking = Background(self)  # what looks at kept copies and folders, and may take long
        self.beside = Beside(self.reported, self)
        self.evidence = Evidence(self)
        self.describing = Describing(self)
        self.book: Book | None = None
        self.save: Save | None = None
        self.selection: Selection | None = None
        self.selecting = False  # a selection follows at once: what is said without one need not be shown
        self.plan: Plan | None = None
        self.plan_error: LedgerError | None = None
        self.pending_plan = False
        self.sources = Sources(self)
        self.history = HistoryWork(self)
        self.carrying = CarryWork(self)
        self._template_file: str | None = None  # a template that was named by its file, and may be in no library
        self._generation = 0
        self._kept_early: Save | None = None
        self.entries = PendingEntries(self)

    # opening

    def use_shelf(self, shelf: Shelf) -> None:
        """Work with other books from now on, as with those of the demo."""
        if self.book is not None:
            self.book.close()
            self.book = None
        self.shelf = shelf

    def open(self, path: Path, template: str | None = None, book: str | None = None) -> bool:
        """Open a save. One that no template fits opens as bytes, and the banner says why.

        While entries are pending the user is asked first, because they belong to the save that is open.
        """
        if self.pending:
            self.entries.ask("Open it without them", lambda: self.open(path, template, book))
            return False
        size = _weight_of(path)
        load = partial(self._load, path, template, book, looks=not is_short(size, OPENED_AT_ONCE))

        def show(loaded: tuple[Book, Save, Message | None]) -> None:
            self._template_file = template if template is not None and Path(template).is_file() else None
            self._show(*loaded)

        return self.beside.run(size, f"{path.name} is opened", load, show, at_once=OPENED_AT_ONCE, dropped=self._let_go)

    @property
    def pending(self) -> int:
        """How many entries are on the tape."""
        return len(self.save.tape) if self.save is not None else 0

    def _load(
        self, path: Path, template_name: str | None, book_name: str | None, *, looks: bool = False
    ) -> tuple[Book, Save, Message | None]:
        """Open a save in its book; `looks` also collects its findings and seals, which take seconds for many fields."""
        known = self.shelf.book_of(path) if book_name is None else self.shelf.open(book_name)
        library = self.shelf.library(known)
        message: Message | None = None
        template = None
        try:
            if template_name is None and known is not None:
                template_name = self._remembered(known, path)
            if template_name == WITHOUT:
                message = Message("open", "It is open without a template; Templates in the menu of the book has them.")
            elif template_name is not None:
                template = library.get(template_name)
            elif not (path.is_dir() and known is not None):
                path, template = find_save(path, library)
        except (RecognitionError, AddressError) as error:
            if isinstance(error, AddressError) and not path.is_dir():
                raise
            how = "the folder is open as one save" if path.is_dir() else "it is open as bytes"
            message = Message("open", f"{error.what}; {how}")
        chosen = known.records.setting(f"format:{path.absolute()}") if known is not None and template is None else ""
        save = open_save(path, template, known.keeping.roots if known is not None else {}, chosen)
        if message is not None and template is None and save.outline is not None and not path.is_dir():
            problem = save.outline.problem
            kinds = ", ".join(save.outline.formats)
            text = f"No template fits; every value of this text ({kinds}) has its path, and can be typed over in Edit."
            message = Message("broken", str(problem)) if problem is not None else Message("open", text)
        book = known if known is not None else self.shelf.book_for(path, template)
        none = WITHOUT if template_name == WITHOUT else None
        book.keeping.remember(path, template.id if template is not None else none)
        if save.problem is None:
            book.keeping.identify(save)
        else:
            message = Message("broken", str(save.problem))
            if isinstance(save.problem, RootNotGranted):
                ask = partial(self.root_wanted.emit, save.problem.root)
                text = f"{save.problem.what}; choose it once, and the book remembers it."
                message = Message("open", text, f"Choose the folder “{save.problem.root}”…", ask)
        if looks:
            _ = save.findings, save.seals
        return book, save, message

    def _remembered(self, book: Book, path: Path) -> str | None:
        """The template that a book knows a save by; for a file only where its signs still fit."""
        name = book.keeping.template_of(path)
        if name in (None, WITHOUT) or path.is_dir():
            return name
        return name if still_fits(path, name, self.shelf.library(book)) else None

    def grant(self, root: str, folder: Path) -> None:
        """Let files of the save be read and written in a folder of the game's, and read the save anew with them."""
        book = self.book
        if book is not None:
            self.attempt(lambda: book.keeping.grant(root, folder))
            self.reopen()

    def _show(self, book: Book, save: Save, message: Message | None) -> None:
        if self.book is not None and self.book is not book:
            self.book.close()
        message = self._another_character(book, save) or message
        self.book, self.save, self.selection = book, save, None
        self.describing.remember(book)
        self.sources.payloads.clear()
        message = self.entries.offer() or message
        notes = [*map(str, self.shelf.recovered), *map(str, book.blocked)]
        notes += [f"the book {name} was passed over: {error}" for name, error in self.shelf.unusable.items()]
        if notes:
            message = Message("broken" if book.blocked else "open", "; ".join(notes))
            self.shelf.recovered.clear()
            self.shelf.unusable.clear()
        self.opened.emit()
        self.tape_changed(keep=False)
        self.reported.emit(message)

    def _another_character(self, book: Book, save: Save) -> Message | None:
        """What is said when a file name that is known holds the save of somebody else."""
        identities = book.keeping.identities
        name, before = identities.of(save), ""
        if save.problem is not None or not name:
            return None
        if self.save is not None and self.save.path == save.path and self.save.problem is None:
            before = identities.of(self.save)
        own = identities.same(save)
        if before in own and (latest := book.keeping.snapshots(save.path, 1)):
            before = latest[0].identity
        if before in own:
            return None
        count = sum(book.keeping.others(save).values())
        kept = f"{'1 snapshot of another' if count == 1 else f'{count} snapshots of others'} under this name"
        text = f"This is the save of {name}, not of {before}: it has a history of its own, apart from {kept}."

        def join() -> None:
            identities.join(save, before, name)
            self.recorded.emit()
            self.reported.emit(Message("holds", f"{name} and {before} have one history."))

        return Message("open", text, "It is the same one", join)

    def reopen(self, then: Callable[[], object] = lambda: None, *, by_any: bool = False) -> None:
        """Read the save anew, as after a posting; `then` is called when it is there. It keeps its template, or is
        recognised `by_any`, where the one it had may be gone.
        """
        save = self.save
        if save is None:
            return
        name = save.template.id if save.template is not None and not by_any else None
        self._read_anew(save, self._template_file or name, None, then)

    def reopen_with(self, template: str, then: Callable[[], object] = lambda: None, *, selects: bool = False) -> None:
        """Read the save anew with a template, by its id or its file; `selects` says that `then` selects something."""
        if self.save is not None:
            self._read_anew(self.save, template, None, then, selects=selects)

    @property
    def template_file(self) -> Path | None:
        """The file of the template, where it was named by its file."""
        return Path(self._template_file) if self._template_file is not None else None

    def read_from(self, book: str, then: Callable[[], object]) -> None:
        """Read the open save anew, as it is known to another book."""
        if self.save is not None:
            self._read_anew(self.save, self._template_file, book, then)

    def _read_anew(
        self, save: Save, template: str | None, book: str | None, then: Callable[[], object], *, selects: bool = False
    ) -> None:
        def show(found: tuple[Book, Save, Message | None]) -> None:
            self.selecting = selects
            try:
                self._show(*found)
            finally:
                self.selecting = False
            then()
            if selects and self.selection is None:
                self.changed.emit()

        at_once = AT_ONCE if selects else OPENED_AT_ONCE  # describing goes on at once with what was selected
        load = partial(self._load, save.path, template, book, looks=not selects and not is_short(self.size, at_once))
        self.beside.run(self.size, f"{save.path.name} is read again", load, show, at_once=at_once, dropped=self._let_go)

    def _let_go(self, loaded: tuple[Book, Save, Message | None]) -> None:
        """Somebody cancelled before the save was there."""
        if loaded[0] is not self.book:
            loaded[0].close()

    def close_save(self) -> None:
        """No save is open any more."""
        if self.book is not None:
            self.book.close()
        self.book = self.save = self.selection = self.plan = None
        self.opened.emit()

    def choose_format(self, name: str) -> None:
        """Read the open save as a text of a format from now on, or with no name as what it is recognised as."""
        if self.pending:
            self.entries.ask("Read it without them", lambda: self.choose_format(name))
        elif self.book is not None and self.save is not None:
            self.book.records.set_setting(f"format:{self.save.path.absolute()}", name)
            self.reopen()

    def choose_identity(self, path: str, *, chosen: bool) -> None:
        """Say of a field that it tells whose save this is; the snapshots of others are then apart."""
        book, save = self.book, self.save
        if book is None or save is None:
            return

        def choose() -> None:
            book.keeping.identities.choose(save, path, chosen=chosen)
            book.keeping.identify(save)

        self.attempt(choose)
        self.recorded.emit()

    def use_book_template(self) -> None:
        """From now on the book's own copy of the template counts, because a field went into it."""
        self._template_file = None

    @property
    def size(self) -> int:
        """Of the open save, in bytes; more for one that is as much work as a larger one is."""
        if self.save is None or self.save.size > WHOLE:
            return self.save.size if self.save is not None else 0
        return min(self.save.weight, WHOLE)

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

    @property
    def kept_copies(self) -> list[Snapshot]:
        """Snapshots of the open save that the user or a watch made, the latest first; of the last 400 of all kinds."""
        if self.book is None or self.save is None:
            return []
        return [s for s in self.book.keeping.own_snapshots(self.save, RECENT) if s.kind == "kept"]

    def select_node(self, node: Node) -> None:
        self.select(node.file if self.save and node.file in self.save.files else "file", node.start, node.end, node)

    # entries

    def enter(self, node: FieldNode, text: str, *, anyway: bool = False) -> bool:
        """Write an entry down from what was typed. A value outside the bounds can be entered after a second word."""
        save = self.save
        if save is None or self.beside.refuse():
            return False
        try:
            enter_all(save, [(node.path, text)], anyway=anyway)
        except ValueRefused as error:
            message = Message("broken", str(error))
            if isinstance(error, OutOfBounds):
                message = Message("broken", str(error), "Enter it anyway", lambda: self.enter(node, text, anyway=True))
            self.reported.emit(message)
            return False
        except LedgerError as error:
            self.reported.emit(Message("broken", str(error)))
            return False
        self.reported.emit(None)
        self.tape_changed()
        return True

    def enter_all(self, values: list[tuple[str, str]], *, anyway: bool = False) -> bool:
        """Write several entries down as one step, all of them or none."""
        save = self.save
        if save is None or self.beside.refuse():
            return False
        try:
            enter_all(save, values, anyway=anyway)
        except OutOfBounds as error:
            again = partial(self.enter_all, values, anyway=True)
            self.reported.emit(Message("broken", str(error), "Enter them anyway", again))
            return False
        except LedgerError as error:
            self.reported.emit(Message("broken", f"{error}; none of the {len(values)} values was entered"))
            return False
        self.reported.emit(None)
        self.tape_changed()
        return True

    def arrange(self, change: Callable[[Save], object]) -> bool:
        """Let records come in or go."""
        save = self.save
        if save is None or self.beside.refuse():
            return False
        before = save.tape.version
        self.attempt(lambda: change(save))
        if save.tape.version == before:
            return False
        self.reported.emit(None)
        self.tape_changed()
        return True

    def type_bytes(self, file: str, start: int, end: int, data: bytes, typed_as: Storage | None = None) -> bool:
        """Write bytes down that give way to others, come in, or go; `typed_as` a number where they were."""
        save = self.save
        if save is None or file not in save.files or self.beside.refuse():
            return False
        entry = self.attempt(lambda: enter_bytes(save, file, start, end, data, typed_as))
        if entry is None:
            return False
        self.reported.emit(None)
        self.tape_changed()
        return True

    def withdraw(self, path: str) -> None:
        if self.save is not None and not self.beside.refuse():
            self.save.tape.withdraw(path)
            self.tape_changed()

    def undo(self) -> None:
        if self.save is not None and not self.beside.refuse() and self.save.tape.undo():
            self.tape_changed()

    def redo(self) -> None:
        if self.save is not None and not self.beside.refuse() and self.save.tape.redo():
            self.tape_changed()

    def decide_broken(self, renew: bool) -> None:
        """Whether seals that did not hold when the save was opened are renewed or left."""
        if self.save is not None and not self.beside.refuse():
            self.save.renew_broken = renew
            self.tape_changed()

    def tape_changed(self, *, keep: bool = True) -> None:
        """Let the book `keep` the entries, and work out what posting would do with them now."""
        if keep:
            self.entries.keep()
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
                    self.reported.emit(Message("open", moving[0].message))

        self._keep_early(save)
        if self.size <= AT_ONCE:
            try:
                done(make_plan(save), None)
            except LedgerError as error:
                done(None, error)
        else:
            self.planned.emit()
            self.background.run(lambda: make_plan(save), done)

    def _keep_early(self, save: Save) -> None:
        """With the first entry a large save is put into the vault, beside the window: posting need not wait for it."""
        book = self.book
        if book is None or self.size <= AT_ONCE or save is self._kept_early:
            return
        self._kept_early = save
        # What is wrong with the vault, a posting says.
        self.background.run(lambda: book.keeping.keep_early(save), lambda _, error: None)

    def wait(self) -> None:
        """Until all that goes on beside the window is done; its results still arrive through the event loop."""
        for each in (self.beside, self.background, self.looking):
            each.wait()

    def attempt(self, action: Callable[[], T]) -> T | None:
        """Do something that may fail; the banner reports the failure."""
        try:
            return action()
        except LedgerError as error:
            self.reported.emit(Message("broken", str(error)))
            return None


def _weight_of(path: Path) -> int:
    """How large a file is, or what it holds, packed, if that is more; nothing where it is none."""
    try:
        size = path.stat().st_size
    except (OSError, ValueError):
        return 0
    return size_unpacked(path) if size <= OPENED_AT_ONCE and path.is_file() else size
