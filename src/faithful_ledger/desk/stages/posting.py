"""The posting plan: everything that will be written, before it is. It takes the place of the sheet; no box."""

from __future__ import annotations

from contextlib import suppress

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QLineEdit, QVBoxLayout, QWidget

from faithful_ledger.core.book import Book
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.find import programs
from faithful_ledger.core.posting import Change, Check, FilePlan, Plan, undecided_text
from faithful_ledger.core.records import Posting
from faithful_ledger.core.template.model import Companion, Setting
from faithful_ledger.desk.session import Message, Session
from faithful_ledger.desk.theme import BROKEN, HOLDS, OPEN, mono
from faithful_ledger.desk.widgets.basics import button, clear, column, label, row, swap
from faithful_ledger.desk.widgets.tables import cell, plain_table

__all__ = ["PostingSheet"]

SHOWN_BYTES, SHOWN_LETTERS = 8, 20

SIGNS = str.maketrans({"\n": "⏎", "\r": "", "\t": "⇥"})  # what ends a line, in one


class PostingSheet(QWidget):
    """Signals: `left` when the user goes back, `checked` when it is known whether it may be written, `posted(posting)`
    when it is.
    """

    left = Signal()
    checked = Signal()
    posted = Signal(object)

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self.checks: list[Check] = []
        self.warnings: list[Check] = []
        self.checking = False
        self.steps: list[QCheckBox] = []  # what people do before; all are ticked before anything is written
        self._asked = 0
        self.note = QLineEdit()
        self.note.setPlaceholderText("A note for the history, if you like")
        self.note.setAccessibleName("Note")
        self.write_button = button("Write it", self._write, "main")
        self.detach = QCheckBox("Write this name only; its other names (hard links) keep the old bytes")
        self.detach.toggled.connect(lambda _: self.show_plan())
        self.summary = label("", wrap=True)
        self.changes = plain_table((), [], "Changed bytes", ())
        self.body = QVBoxLayout(self)
        self.body.setContentsMargins(16, 12, 16, 12)
        self.body.setSpacing(8)
        back = button("Back", self.left.emit)
        self.body.addLayout(row(label("What posting will write", "title"), None, back))
        self.body.addWidget(self.summary)
        self.body.addWidget(self.changes, 1)
        self.rest = column(spacing=4)
        self.body.addLayout(self.rest)
        self.body.addWidget(self.detach)
        self.body.addLayout(row(self.note, self.write_button))
        session.planned.connect(self._plan_changed)

    def show_plan(self) -> None:
        """Lay out the plan of the session and run the checks."""
        plan, book = self.session.plan, self.session.book
        if plan is None or book is None:
            return
        self._check(book, plan)
        total = sum(max(change.size, change.old_size) for file in plan.written for change in file.changes)
        files = [file.file.path.name for file in plan.written]
        entries = _counted(len(plan.entries), "entry", "entries")
        self.summary.setText(
            f"{entries} {'changes' if len(plan.entries) == 1 else 'change'} {_counted(total, 'byte', 'bytes')} in "
            f"{' and '.join(files)}. Each is listed with its cause; all other bytes stay as they are."
        )
        rows = [self._row(file, change) for file in plan.files for change in file.changes]
        head = ("File", "Offset", "Bytes", "Old", "New", "Because of")
        fresh = plain_table(head, rows, "Changed bytes", (104, 118, 74, 170, 170))
        for number in range(len(rows)):
            for place in (1, 3, 4):
                cell(fresh, number, place).setFont(mono(12))
        self.changes = swap(self.body, self.changes, fresh)
        clear(self.rest)
        self._show_rest(plan)

    def _check(self, book: Book, plan: Plan) -> None:
        """Look at the world beside the window; until that is done nothing can be written."""
        save, detach = self.session.save, self.detach.isChecked()
        self._asked += 1
        asked, self.checking = self._asked, True
        self.checks, self.warnings = [], []
        self.write_button.setEnabled(False)
        self.write_button.setText("checking…")

        def work() -> tuple[list[Check], list[Check]]:
            running = programs()
            checks = book.history.check(plan, detach_links=detach, running=running)
            return checks, book.history.hazards(save, running) if save is not None else []

        def done(found: tuple[list[Check], list[Check]] | None, error: LedgerError | None) -> None:
            if asked != self._asked:
                return
            self.checking = False
            self.write_button.setText("Write it")
            if found is None:
                self.session.reported.emit(Message("broken", str(error)))
                return
            self.checks, hazards = found
            failed_kinds = {check.kind for check in self.checks if not check.ok}
            self.warnings = [check for check in hazards if not check.ok and check.kind not in failed_kinds]
            self.detach.setVisible(any(check.kind == "links" for check in self.checks))
            self._allow()
            self.checked.emit()

        self.session.background.run(work, done)

    def _allow(self) -> None:
        """Writing is allowed when every check holds and every step before it is ticked."""
        ticked = all(box.isChecked() for box in self.steps)
        self.write_button.setEnabled(not self.checking and ticked and all(check.ok for check in self.checks))

    def _row(self, file: FilePlan, change: Change) -> tuple[str, ...]:
        is_text = file.file.bound is not None and file.file.bound.document.knows_ends
        shown, most = (_as_text, SHOWN_LETTERS) if is_text else (_as_bytes, SHOWN_BYTES)
        new = bytes(file.patched.read(change.offset, change.offset + min(change.size, most)))
        start = change.old_offset
        old = bytes(file.patched.old.read(start, start + min(change.old_size, most)))
        size = f"{change.size}" if change.size == change.old_size else f"{change.old_size} → {change.size}"
        more = ("", " …")
        return (
            self.session.sources.title(file.file.name),
            f"0x{change.offset:04X} · {change.offset}",
            size,
            shown(old) + more[change.old_size > most],
            shown(new) + more[change.size > most],
            change.cause,
        )

    def _show_steps(self, plan: Plan) -> None:
        """What is to be done before, to be ticked; and what comes after, for later."""
        ticked = {box.text() for box in self.steps if box.isChecked()}
        self.steps = []
        if plan.steps.before:
            self.rest.addWidget(label("Before you write it", "heading"))
        for step in plan.steps.before:
            box = QCheckBox(str(step).replace("&", "&&"))
            box.setChecked(box.text() in ticked)
            box.toggled.connect(lambda _: self._allow())
            self.steps.append(box)
            self.rest.addLayout(row(box, *self._offered(step, box), None))
        if plan.steps.after:
            self.rest.addWidget(label(f"After it: {' '.join(plan.steps.after)}", wrap=True))
        if plan.look_for:
            shown = ", ".join(f"{title} {value}" for title, value in plan.look_for)
            self.rest.addWidget(label(f"The game should then show: {shown}", wrap=True))

    def _offered(self, step: str | Setting, box: QCheckBox) -> list[QWidget]:
        """A setting that is a field can be entered here; one that is as it should be is ticked."""
        save = self.session.save
        if save is None or not isinstance(step, Setting):
            return []
        with suppress(LedgerError):
            (node,) = save.fields(step.path)
            if node.spec.storage.from_text(step.to) != save.value(node):
                return [button("Enter it", lambda: self.session.enter(node, step.to), "link")]
            box.setChecked(True)
            box.setEnabled(False)
        return []

    def _show_rest(self, plan: Plan) -> None:
        self._show_steps(plan)
        seals = [renewal.node.title for renewal in plan.renewals if renewal.kind == "seal"]
        others = [renewal.node.path for renewal in plan.renewals if renewal.kind != "seal"]
        if seals:
            self.rest.addWidget(label(f"Seals renewed, inner first: {', '.join(seals)}", wrap=True))
        if others:
            self.rest.addWidget(label(f"Lengths, counts and offsets put right: {', '.join(others)}", wrap=True))
        for entry in plan.followers:
            self.rest.addWidget(label(f"By a rule: {entry.path} {entry.old_text} → {entry.new_text}"))
        if self.session.save is not None and (doubt := self.session.save.doubt):
            text = f"{doubt[0].upper()}{doubt[1:]}. If it refuses it, say so in History."
            self.rest.addWidget(label(f"{OPEN} {text}", "open", wrap=True))
        for path in plan.companions:
            why = next((c.why for c in self._companions() if c.name == path.name), "")
            self.rest.addWidget(
                label(f"Removed, and kept with the copy: {path.name}{f' ({why})' if why else ''}", wrap=True)
            )
        if self.session.book is not None:
            self.rest.addWidget(
                label(f"The untouched copy goes to the vault of the book “{self.session.book.name}”", "quiet")
            )
        if plan.undecided:
            self.rest.addWidget(label(f"{BROKEN} {undecided_text(plan)}", "broken", wrap=True))
            renew = button("Renew them too", lambda: self.session.decide_broken(True))
            leave = button("Leave them as they are", lambda: self.session.decide_broken(False))
            self.rest.addLayout(row(label("The template may be wrong there, or the save damaged."), renew, leave, None))
        elif plan.left:
            self.rest.addWidget(label(f"{OPEN} left as they are: {', '.join(plan.left)}", "open", wrap=True))

    def _companions(self) -> list[Companion]:
        save = self.session.save
        return save.template.companions if save is not None and save.template is not None else []

    def _plan_changed(self) -> None:
        if not self.isVisible():
            return
        if self.session.plan is None and not self.session.pending_plan:
            self.left.emit()
        else:
            self.show_plan()

    def _write(self) -> None:
        self.write_button.setEnabled(False)
        self.session.history.post(self.note.text().strip(), self._written, detach_links=self.detach.isChecked())

    def _written(self, posting: Posting | None) -> None:
        if posting is not None:
            self.steps = []
            self.note.clear()
            self.posted.emit(posting)
        else:
            self.show_plan()

    def check_lines(self) -> list[tuple[str, str, str]]:
        """The checks for the margin: role, mark and text."""
        if self.checking:
            return [("", "", "Looking at the files, the disk and the programs that run…")]
        return [
            ("holds", HOLDS, check.text) if check.ok else ("broken", BROKEN, f"{check.text}; {check.remedy}")
            for check in self.checks
        ] + [("open", OPEN, f"{check.text}: {check.remedy}") for check in self.warnings]


def _as_bytes(data: bytes) -> str:
    return data.hex(" ").upper()


def _as_text(data: bytes) -> str:
    return data.decode("utf-8", "replace").translate(SIGNS)


def _counted(number: int, one: str, many: str) -> str:
    return f"{number} {one if number == 1 else many}"
