"""The window: head, spine, sheet, margin with the banner, tape, and the stages that go onto the sheet."""

from __future__ import annotations

from functools import cached_property, partial
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from PySide6.QtCore import QEvent, QSize, Qt
from PySide6.QtGui import QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence, QResizeEvent, QShortcut
from PySide6.QtWidgets import QFileDialog, QMainWindow, QWidget

from faithful_ledger import __version__
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.goto import Destination
from faithful_ledger.core.records import Posting, Quantity, Snapshot
from faithful_ledger.desk.changes import OpenFiles
from faithful_ledger.desk.lines import COMPARE, KEYS, TEMPLATES, balance_of, stage_lines
from faithful_ledger.desk.session import Message, Selection, Session
from faithful_ledger.desk.stages.welcome import Welcome
from faithful_ledger.desk.warming import Warming
from faithful_ledger.desk.widgets.banner import Banner
from faithful_ledger.desk.widgets.basics import column, row
from faithful_ledger.desk.widgets.head import Head
from faithful_ledger.desk.widgets.margin import Margin
from faithful_ledger.desk.widgets.sheets import Sheets
from faithful_ledger.desk.widgets.spine import Spine
from faithful_ledger.desk.widgets.tape import TapeBar

if TYPE_CHECKING:
    from faithful_ledger.core.evidence import Located, Place
    from faithful_ledger.core.refused import Lead
    from faithful_ledger.desk.stages.carry import CarryStage
    from faithful_ledger.desk.stages.compare import CompareSheet
    from faithful_ledger.desk.stages.describe import DescribeStage
    from faithful_ledger.desk.stages.edit import EditStage
    from faithful_ledger.desk.stages.gather import GatherStage
    from faithful_ledger.desk.stages.history import HistoryStage
    from faithful_ledger.desk.stages.locate import LocateStage
    from faithful_ledger.desk.stages.posting import PostingSheet
    from faithful_ledger.desk.stages.templates import TemplatesSheet

__all__ = ["Shell"]

Page = TypeVar("Page", bound=QWidget)

FRAME = (4, 40)  # pixels a window manager puts around a window, about
GATHER, LOCATE, DESCRIBE, EDIT, CARRY, HISTORY = range(6)
IDLE_STEPS = {  # what is sensible to do at a stage when nothing is pending
    DESCRIBE: "Select bytes or fields to say what they are; Seals shows which checksums cover them.",
    EDIT: "Type over a value; Post to save shows what will be written before it is.",
    CARRY: "Choose what comes along and where from; nothing is written before you have read the plan.",
    HISTORY: "Look into a kept copy, compare it with the one before, or bring it back.",
}
STAGES = ("gather", "locate", "describe", "edit", "carry", "history")


class Shell(QMainWindow):
    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.setWindowTitle("Faithful Ledger")
        room = self.screen().availableSize() - QSize(*FRAME)
        self.resize(QSize(1280, 800).boundedTo(room))
        self.setMinimumSize(820, 520)
        self.setAcceptDrops(True)
        self._asked_to_close = False
        self.changes = OpenFiles(session, self)
        self.head = Head(session)
        self.banner = Banner()
        self.stage: int | None = None
        self._opened_path: Path | None = None
        self.spine = Spine([name.capitalize() for name in STAGES])
        self.welcome = Welcome(session)
        self.sheet = Sheets()
        self.sheet.setObjectName("sheet")
        self.sheet.addWidget(self.welcome)
        self.margin = Margin(session)
        self.tape = TapeBar()
        middle = QWidget()
        aside = QWidget()
        aside.setLayout(column(self.margin, self.banner, spacing=0))
        line = row(self.spine, self.sheet, aside, spacing=0)
        line.setStretchFactor(self.sheet, 1)
        middle.setLayout(line)
        body = column(self.head, middle, self.tape, spacing=0)
        body.setStretchFactor(middle, 1)
        desk = QWidget()
        desk.setObjectName("desk")
        desk.setLayout(body)
        self.setCentralWidget(desk)
        # Compare and the plan are built when they are wanted: they are small.
        self.warming = Warming(session.shelf, [partial(getattr, self, name) for name in STAGES], self)
        self._connect()
        self._add_keys()
        self.show_state()

    def _connect(self) -> None:
        session = self.session
        self.spine.chosen.connect(self.show_stage)
        self.head.open_wanted.connect(self.choose_file)
        self.head.keys_wanted.connect(self.show_keys)
        self.head.about_wanted.connect(self.show_about)
        self.head.templates_wanted.connect(self.show_templates)
        self.welcome.open_wanted.connect(self.choose_file)
        self.head.went.connect(self.go)
        self.tape.withdrawn.connect(session.withdraw)
        self.tape.chosen.connect(self._choose_entry)
        self.tape.undone.connect(session.undo)
        self.tape.redone.connect(session.redo)
        self.tape.posting.connect(self.show_posting)
        session.reported.connect(self.banner.show_message)
        session.opened.connect(self._opened)
        session.changed.connect(self.show_entries)
        session.planned.connect(self.show_balance)
        session.selected.connect(self._show_selection)
        session.recorded.connect(self.show_lines)
        session.note_wanted.connect(self.margin.focus_note)
        session.name_wanted.connect(self.margin.focus_name)
        self.changes.changed.connect(self._look_outside)
        self.welcome.look_wanted.connect(lambda: self.show_stage(GATHER))

    def _add_keys(self) -> None:
        keys = {
            "Ctrl+O": self.choose_file,
            "Ctrl+K": self.head.focus_box,
            "Ctrl+Z": self.session.undo,
            "Ctrl+Shift+Z": self.session.redo,
            "Ctrl+Return": self.post_or_write,
            "Ctrl+S": self.keep_copy,
            "Ctrl+F": self.search,
            "Ctrl+D": self.session.name_wanted.emit,
            "F1": self.show_keys,
            "F5": self.read_again,
            "F3": lambda: self.compare.step(1) if self.comparing else None,
            "Shift+F3": lambda: self.compare.step(-1) if self.comparing else None,
            "Esc": self.step_back,
        }
        for number in range(len(STAGES)):
            keys[f"Ctrl+{number + 1}"] = partial(self.show_stage, number)
        for key, act in keys.items():
            QShortcut(QKeySequence(key), self).activated.connect(act)

    # opening

    def choose_file(self) -> None:
        present = self.session.save.path.parent if self.session.save is not None else Path.home()
        name, _ = QFileDialog.getOpenFileName(self, "Open a save", str(present))
        if name:
            self.session.open(Path(name))

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if any(url.isLocalFile() for url in event.mimeData().urls()):
            event.setDropAction(Qt.DropAction.CopyAction)  # a move would have the file manager remove it
            event.accept()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(url.toLocalFile()) for url in event.mimeData().urls() if url.isLocalFile()]
        if paths:
            event.setDropAction(Qt.DropAction.CopyAction)
            event.accept()
            self.session.open(paths[0])

    def _opened(self) -> None:
        save = self.session.save
        if save is None:
            self.stage = self._opened_path = None
            self.setWindowTitle("Faithful Ledger")
            self.welcome.show_recent()
            self.sheet.setCurrentWidget(self.welcome)
            self.show_state()
            return
        self.setWindowTitle(f"{save.path.name} – Faithful Ledger")
        editable = save.has_values
        stay = self.stage if self._opened_path == save.path or self.stage != GATHER else None
        stay = stay if editable or stay != EDIT else None
        self._opened_path = save.path
        self._turn_to(stay if stay is not None else EDIT if editable else DESCRIBE)
        if self.stage in (LOCATE, GATHER):  # on the others the margin follows with the entries
            self._show_beside()

    # Stages are made when they are first shown: the window opens with the one that is needed.

    @cached_property
    def gather(self) -> GatherStage:
        from faithful_ledger.desk.stages.gather import GatherStage

        made = GatherStage(self.session)
        made.watching.connect(self.show_lines)
        made.set.undone.connect(self._show_undoing)
        return self._added(made)

    @cached_property
    def locate(self) -> LocateStage:
        from faithful_ledger.desk.stages.locate import LocateStage

        made = LocateStage(self.session)
        made.about.connect(self._show_place)
        return self._added(made)

    @cached_property
    def describe(self) -> DescribeStage:
        from faithful_ledger.desk.stages.describe import DescribeStage

        return self._added(DescribeStage(self.session))

    @cached_property
    def edit(self) -> EditStage:
        from faithful_ledger.desk.stages.edit import EditStage

        return self._added(EditStage(self.session))

    @cached_property
    def carry(self) -> CarryStage:
        from faithful_ledger.desk.stages.carry import CarryStage

        made = CarryStage(self.session)
        made.about.connect(self._show_before_carrying)
        return self._added(made)

    @cached_property
    def history(self) -> HistoryStage:
        from faithful_ledger.desk.stages.history import HistoryStage

        made = HistoryStage(self.session)
        made.compare_wanted.connect(self.show_compare)
        made.show_wanted.connect(self._show_lead)
        made.seals_wanted.connect(self.find_seals)
        return self._added(made)

    @cached_property
    def compare(self) -> CompareSheet:
        from faithful_ledger.desk.stages.compare import CompareSheet

        made = CompareSheet(self.session)
        made.left.connect(lambda: self.show_stage(HISTORY))
        return self._added(made)

    @cached_property
    def templates(self) -> TemplatesSheet:
        from faithful_ledger.desk.stages.templates import TemplatesSheet

        made = TemplatesSheet(self.session)
        made.left.connect(self.leave_templates)
        return self._added(made)

    @cached_property
    def posting(self) -> PostingSheet:
        from faithful_ledger.desk.stages.posting import PostingSheet

        made = PostingSheet(self.session)
        made.left.connect(lambda: self.show_stage(EDIT))
        made.posted.connect(self._posted)
        made.checked.connect(self._show_checks)
        return self._added(made)

    def _added(self, page: Page) -> Page:
        self.sheet.addWidget(page)
        return page

    @property
    def at_rest(self) -> bool:
        """Whether nothing is left of what comes bit by bit or beside the window, but for what was searched."""
        made = self.__dict__
        edited = "edit" not in made or self.edit.laid_out
        return edited and not self.session.beside.busy and not ("posting" in made and self.posting.checking)

    @property
    def planning(self) -> bool:
        """Whether the plan of a posting is on the sheet."""
        return "posting" in self.__dict__ and self.sheet.currentWidget() is self.posting

    def show_stage(self, number: int) -> None:
        if self.session.save is None and number != GATHER:
            return
        self._turn_to(number)
        self._show_beside()
        self.show_lines()

    def _turn_to(self, number: int) -> None:
        self.stage = number
        self.margin.idle_step = IDLE_STEPS.get(number, "")
        self.sheet.setCurrentWidget(getattr(self, STAGES[number]))
        self.spine.show_stage(number)

    def _show_beside(self) -> None:
        """What belongs to the stage, in the margin."""
        if self.stage == LOCATE:
            self._show_place(self.locate.current, self._located(), self.locate.chosen)
        elif self.stage == GATHER and self.session.save is not None:
            self._show_undoing()
        else:
            self.margin.show_selection(self.session.selection)

    def keep_copy(self) -> None:
        """Keep a copy at once; a label that is typed in History goes with it."""
        if self.stage == HISTORY:
            self.history.keep()
        else:
            self.session.history.keep("")

    def read_again(self) -> None:
        """Read the save anew from the disk; entries that are pending are asked about first."""
        session = self.session
        if session.pending:
            session.entries.ask("Read it without them", self.read_again)
        elif session.save is not None:
            said = Message("holds", f"{session.save.path.name} was read again.")
            session.reopen(lambda: session.reported.emit(said))

    def search(self) -> None:
        """Go where the bytes are searched, with the cursor in the line."""
        if self.session.save is not None:
            from faithful_ledger.desk.stages.describe import SEARCH

            self.show_stage(DESCRIBE)
            self.describe.show_pane(SEARCH)

    def find_seals(self) -> None:
        """Go where seals are, and look for more."""
        from faithful_ledger.desk.stages.describe import SEALS

        self.show_stage(DESCRIBE)
        self.describe.show_pane(SEALS)
        if not self.describe.seals.looking:
            self.describe.seals.look()

    def show_compare(self, first: Snapshot, second: Snapshot | None) -> None:
        """Compare a snapshot with another one, or with the save now."""
        self.stage = HISTORY
        self.spine.show_stage(HISTORY)
        self.sheet.setCurrentWidget(self.compare)
        self.margin.show_lines("Compare", COMPARE)
        self.compare.show_pair(first, second)

    def show_templates(self) -> None:
        """List the templates at hand."""
        self.sheet.setCurrentWidget(self.templates)
        self.templates.show_all()
        self.margin.show_lines("Templates", TEMPLATES)

    def leave_templates(self) -> None:
        """Back to the stage that was shown, or to the start where no save is open."""
        if self.session.save is None:
            self.sheet.setCurrentWidget(self.welcome)
        else:
            self.show_stage(self.stage if self.stage is not None else DESCRIBE)

    @property
    def comparing(self) -> bool:
        return "compare" in self.__dict__ and self.sheet.currentWidget() is self.compare

    def show_posting(self) -> None:
        """Show the plan of what posting would write."""
        if self.session.plan is None:
            return
        self.stage = None
        self.sheet.setCurrentWidget(self.posting)
        self.posting.show_plan()
        self._show_checks()

    def post_or_write(self) -> None:
        if self.planning:
            if self.posting.write_button.isEnabled():
                self.posting.write_button.click()
        elif self.tape.post.isEnabled():
            self.show_posting()

    def step_back(self) -> None:
        if self.head.list.isVisible():
            self.head.list.hide()
        elif self.banner.isVisible():
            self.banner.show_message(None)
        elif self.planning:
            self.show_stage(EDIT)
        elif self.comparing:
            self.show_stage(HISTORY)
        elif "templates" in self.__dict__ and self.sheet.currentWidget() is self.templates:
            self.leave_templates()

    def _show_lead(self, lead: Lead) -> None:
        self.show_stage(DESCRIBE)
        self.session.select(lead.file, lead.start, lead.end)

    def go(self, destination: Destination) -> None:
        self.show_stage(DESCRIBE)
        self.session.select(destination.file, destination.start, destination.end, destination.node)
        self.describe.strip.setFocus()

    def show_keys(self) -> None:
        self.margin.show_lines("Keys", [("heading", key, about) for key, about in KEYS])

    def show_about(self) -> None:
        """The program, and where it keeps what."""
        shelf = self.session.shelf
        self.margin.show_lines(
            "About Faithful Ledger",
            [
                ("", "", f"Version {__version__}"),
                ("", "", "Finds, describes and edits what a saved game holds, so that the game still accepts it."),
                ("", "", f"Books, kept copies and your own templates are in {shelf.data}."),
                ("", "", "It is free software under the MIT License."),
            ],
        )

    # what is shown around the stages

    def show_state(self) -> None:
        for widget in (self.spine, self.tape):
            widget.setVisible(self.session.save is not None)
        self.margin.show_selection(self.session.selection)
        self.show_entries()
        self.show_balance()

    def show_entries(self) -> None:
        save = self.session.save
        for widget in (self.spine, self.tape):
            widget.setVisible(save is not None)
        if save is None:
            return
        named = [(save.title(entry.node), entry) for entry in save.tape]
        self._asked_to_close = False
        self.tape.show_entries(named, save.tape.can_undo, save.tape.can_redo)
        if self.stage not in (LOCATE, GATHER) and not self.session.selecting:
            self.margin.show_selection(self.session.selection)
        self.show_lines()

    def show_balance(self) -> None:
        """Whether posting will balance, or why not."""
        session, save = self.session, self.session.save
        if save is None:
            return
        if session.plan_error is not None and not session.pending_plan:
            self.banner.show_message(Message("broken", str(session.plan_error)))
        self.tape.show_balance(*balance_of(session, save))
        if self.planning:
            self._show_checks()

    def show_lines(self) -> None:
        """The live line under each stage."""
        if self.session.save is not None:
            for number, line in enumerate(stage_lines(self.session, self.session.save, watching=self.watching)):
                self.spine.show_line(number, line)

    @property
    def watching(self) -> bool:
        """Whether folders are watched just now."""
        return "gather" in self.__dict__ and self.gather.watcher.running

    def _show_selection(self, selection: Selection) -> None:
        if not self.planning and self.stage not in (LOCATE, GATHER):
            self.session.attempt(lambda: self.margin.show_selection(selection))

    def _located(self) -> Located | None:
        quantity = self.locate.current
        return self.locate.located.get(quantity.id) if quantity is not None else None

    def _show_place(self, quantity: Quantity | None, located: Located | None, place: Place | None) -> None:
        if self.stage == LOCATE:
            self.margin.show_place(quantity, located, place, self.locate.next_to_change)
            self.show_lines()

    def _show_undoing(self) -> None:
        if self.stage == GATHER and not self.planning:
            self.margin.show_lines("What will undo your work", self.gather.set.check_lines())

    def _show_before_carrying(self, title: str, lines: list[tuple[str, str, str]]) -> None:
        if self.stage == CARRY and not self.planning:
            self.margin.show_lines(title, lines)

    def _show_checks(self) -> None:
        if not self.planning:
            return
        self.margin.show_lines("Before you post", self.posting.check_lines())
        if not self.posting.note.hasFocus():
            self.posting.write_button.setFocus()

    def _choose_entry(self, path: str) -> None:
        save = self.session.save
        if save is None:
            return
        try:
            self.session.select_node(save.nodes(path)[0])
        except LedgerError as error:
            self.session.reported.emit(Message("broken", str(error)))

    def _posted(self, posting: Posting) -> None:
        self.show_stage(HISTORY)
        text = (
            f"Written, read back and compared: {', '.join(Path(name).name for name in posting.record['files'])}. "
            f"The untouched copy is kept."
        )
        if left := posting.record.get("left"):
            text += f" {', '.join(Path(name).name for name in left)} stays: another program has written it since."
        self.session.reported.emit(Message("holds", text, "Reverse it", lambda: self.session.history.reverse(posting)))

    def closeEvent(self, event: QCloseEvent) -> None:
        pending = self.session.pending
        if (pending or self.watching) and not self._asked_to_close:
            self._asked_to_close = True
            count = f"{pending} {'entry is' if pending == 1 else 'entries are'}"
            left = f"{count} pending and not written; close once more to leave without"
            watched = "The game is being watched, which ends with this window; close once more to end both"
            self.session.reported.emit(Message("open", left if pending else watched))
            event.ignore()
            return
        if pending:
            self.session.entries.forget()
        if self.watching:
            self.gather.watcher.stop()
        if "gather" in self.__dict__:
            self.gather.note.close()
        self.warming.close()
        if "locate" in self.__dict__:
            self.locate.stop()
        if "describe" in self.__dict__:
            self.describe.seals.stop()
        self.session.background.close()
        self.session.looking.close()
        self.session.beside.close()
        super().closeEvent(event)

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.margin.fit(self.width())

    def event(self, event: QEvent) -> bool:
        if event.type() == QEvent.Type.WindowActivate:
            self._look_outside()
        return super().event(event)

    def _look_outside(self) -> None:
        """When the user comes back from the game: has it written the save meanwhile?"""
        save = self.session.save
        if save is None or self.session.beside.busy or not save.changed_outside():
            return
        self.session.reported.emit(
            Message(
                "open",
                f"{save.path.name} was changed by another program since it was opened"
                f"{'; your entries are for the old one' if self.session.pending else ''}.",
                "Read it again",
                self.session.reopen,
            )
        )
