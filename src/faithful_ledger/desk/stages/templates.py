"""The list of templates: where each comes from, how much of it is proven, and what can be done with it."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QTimer, Signal
from PySide6.QtWidgets import QFileDialog, QInputDialog, QTextBrowser, QWidget

from faithful_ledger.core.disk import Disk
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.opening import WITHOUT
from faithful_ledger.core.posting.files import new_file
from faithful_ledger.core.template import read_template
from faithful_ledger.desk.beside import Message
from faithful_ledger.desk.session import Session
from faithful_ledger.desk.theme import BROKEN, HOLDS, OPEN, colours, sans
from faithful_ledger.desk.widgets.basics import button, column, label, row, swap
from faithful_ledger.desk.widgets.flow import flow
from faithful_ledger.desk.widgets.tables import cell, plain_table

if TYPE_CHECKING:
    from faithful_ledger.core.save import Save
    from faithful_ledger.core.sharing.exchange import Listed

__all__ = ["TemplatesSheet"]

MOST_TESTED = 60  # kept copies
YAML = "Templates (*.yaml *.yml)"


class TemplatesSheet(QWidget):
    """Signal: `left` when the user is done."""

    left = Signal()

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.found: list[Listed] = []
        self.table = plain_table((), [], "Templates", ())
        self.about = label("", wrap=True, selectable=True)
        self.acts = QWidget()
        self.buttons = {
            name: button(name, act)
            for name, act in (
                ("Read the save with it", self.use),
                ("Test it on all copies", self.test),
                ("Make it mine…", lambda: self.make_own()),
                ("Reference sheet", self.show_sheet),
                ("Write the sheet…", lambda: self.write_sheet()),
                ("Reader in Python…", lambda: self.write_reader()),
                ("Export…", lambda: self.export()),
                ("What changed since…", lambda: self.compare()),
            )
        }
        self.acts.setLayout(flow(*self.buttons.values(), spacing=6))
        self.result_title = label("", "heading")
        self.result = QTextBrowser()
        self.result.setOpenLinks(False)
        self.result.setTabChangesFocus(True)
        self.result.setFont(sans(13))
        self.result.setAccessibleName("What came of it")
        self.body = column(spacing=8)
        self.body.setContentsMargins(16, 14, 16, 10)
        title = label("Templates", "title")
        self.without = button("Read the save without one", self.use_none)
        taking_in = button("Import…", lambda: self.take_in())
        self.body.addLayout(row(title, None, self.without, taking_in, button("Back", self.left.emit)))
        self.body.addWidget(self.table, 3)
        self.body.addWidget(self.about)
        self.body.addWidget(self.acts)
        self.body.addWidget(self.result_title)
        self.body.addWidget(self.result, 40)
        self.body.addStretch(1)
        self.setLayout(self.body)
        self._show_result("", [])
        session.opened.connect(lambda: self.show_all() if self.isVisible() else None)

    def show_all(self, chosen: str = "") -> None:
        """List the templates at hand; one of an id, or that of the open save, is selected."""
        from faithful_ledger.core.sharing.exchange import listed

        save = self.session.save
        self.without.setVisible(save is not None and save.template is not None)
        chosen = chosen or (save.template.id if save is not None and save.template is not None else "")
        library = self.session.shelf.library(self.session.book)
        self.found = listed(library)
        rows = []
        for each in self.found:
            made = each.template
            standing = f"{HOLDS if each.proven else OPEN} {each.proven} of {each.fields} proven"
            witnesses = str(len(made.witnesses)) if made.witnesses else "–"
            rows.append((made.id, made.title, made.version, made.origin or each.origin, standing, witnesses))
        for path, error in library.broken.items():
            rows.append((path.stem, f"{BROKEN} {error.what}", "", "", "", ""))
        head = ("Template", "Title", "Version", "Origin", "Standing", "Witnesses")
        fresh = plain_table(head, rows, "Templates", (150, 200, 62, 130, 150))
        for number, each in enumerate(self.found):
            cell(fresh, number, 4).setForeground(colours()["holds" if each.proven else "open"])
        fresh.itemSelectionChanged.connect(self._show_about)
        fresh.setMaximumHeight(40 + 26 * min(max(len(rows), 3), 14))
        fresh.setMinimumHeight(40 + 26 * min(max(len(rows), 3), 6))
        self.table = swap(self.body, self.table, fresh)
        number = next((n for n, each in enumerate(self.found) if each.template.id == chosen), 0)
        if self.found:
            fresh.selectRow(number)
            QTimer.singleShot(0, fresh, lambda: fresh.scrollTo(fresh.currentIndex()))  # once it has its size

    @property
    def current(self) -> Listed | None:
        number = self.table.currentRow()
        return self.found[number] if 0 <= number < len(self.found) else None

    def _show_about(self) -> None:
        each = self.current
        self.acts.setEnabled(each is not None)
        self.buttons["Read the save with it"].setVisible(self.session.save is not None)
        self.buttons["Test it on all copies"].setVisible(self.session.save is not None)
        if each is None:
            self.about.setText("It has mistakes: mend its file, and it is listed again.")
            return
        made = each.template
        author = f"; by {made.author}" if made.author else ""
        files = ", ".join(spec.file_name or f"inside {spec.inside}" for spec in made.files.values())
        self.about.setText(f"{made.about}\nDescribes {files}{author}.\n{each.path}".strip())

    def _show_result(self, title: str, lines: list[str]) -> None:
        self.result_title.setText(title)
        self.result.setPlainText("\n".join(lines))
        self.result.setVisible(bool(title))
        self.result_title.setVisible(bool(title))

    # what can be done

    def use_none(self) -> None:
        """Read the open save as bytes, or by the paths of its text, whichever template fits it."""
        if self.session.pending:
            self.session.entries.ask("Read it without them", self.use_none)
        else:
            self.session.reopen_with(WITHOUT, self.left.emit)

    def use(self) -> None:
        """Read the open save with the chosen template from now on."""
        each, session = self.current, self.session
        if each is None or session.save is None:
            return
        if session.pending:
            session.entries.ask("Read it without them", self.use)
            return
        session.use_book_template()
        name = each.template.id
        session.reopen_with(name, lambda: session.reported.emit(Message("holds", f"The save is read with {name}.")))

    def test(self) -> None:
        """Lay the template over the save and all its kept copies, and compare witnesses."""
        each, session = self.current, self.session
        book, save = session.book, session.save
        if each is None or book is None or save is None:
            return
        from faithful_ledger.core.describe.copies import report
        from faithful_ledger.core.opening import open_save
        from faithful_ledger.core.sharing.witnesses import tested

        def work() -> list[str]:
            opened = open_save(save.path, each.template, save.roots)
            now = tested(opened)
            words = {None: "no witness", True: f"{HOLDS} its witness agrees", False: f"{BROKEN} its witness differs"}
            fits = f"{HOLDS} fits" if now.fits else f"{BROKEN} {now.problem}"
            balance = f"{HOLDS} in balance" if now.in_balance else f"{BROKEN} out of balance"
            lines = [f"{save.path.name}, now: {fits}; {balance}; {words[now.witness]}"]
            lines += [f"    {path} says {read}, and the witness {wanted}" for path, wanted, read in now.differs]
            for snapshot in session.kept_copies[:MOST_TESTED]:
                try:
                    bound = opened.laid_over(book.keeping.kept_sources(opened, snapshot, inside=False))
                except LedgerError as error:
                    lines.append(f"{snapshot.label or snapshot.time}: {BROKEN} {error.what}")
                    continue
                said = report(snapshot.label or snapshot.time, bound)
                fits = f"{BROKEN} {said.problem}" if said.problem else f"{HOLDS} fits"
                lines.append(f"{said.name}: {fits}, {said.share:.0%} explained")
            return lines

        def done(lines: list[str] | None, error: LedgerError | None) -> None:
            if error is not None:
                session.reported.emit(Message("broken", str(error)))
            self._show_result(f"{each.template.id} on this save and its copies", lines or [])

        session.looking.run(work, done)

    def make_own(self, id_: str = "") -> None:
        """Copy the chosen template under an id of one's own."""
        from faithful_ledger.core.sharing.exchange import make_own

        each = self.current
        if each is None:
            return
        if not id_:
            words = "The id of your own copy: small letters, digits and dashes"
            id_, sure = QInputDialog.getText(self, "Make it mine", words, text=f"my-{each.template.id}")
            if not sure:
                return
        folder = self.session.shelf.data / "templates"
        taken = self.session.attempt(lambda: make_own(each.path, folder, id_.strip(), Disk()))
        if taken is not None:
            self.show_all(taken.template.id)
            self.session.reported.emit(Message("holds", f"{taken.template.id} is yours, in {taken.path}."))

    def take_in(self, name: str = "", *, replace: bool = False) -> None:
        """Check a template of somebody else's and take it in."""
        from faithful_ledger.core.sharing.exchange import import_template

        name = name or QFileDialog.getOpenFileName(self, "A template to take in", str(Path.home()), YAML)[0]
        if not name:
            return
        folder = self.session.shelf.data / "templates"
        try:
            taken = import_template(Path(name), folder, Disk(), replace=replace)
        except LedgerError as error:
            action = "Replace it; keep the old one beside it" if "already" in error.what else ""
            again = partial(self.take_in, name, replace=True) if action else None
            self.session.reported.emit(Message("broken", str(error), action, again))
            return
        kept = f"; the revision before is in {taken.before}" if taken.before is not None else ""
        self.show_all(taken.template.id)
        self.session.reported.emit(Message("holds", f"{taken.template.id} is taken in{kept}."))

    def export(self, name: str = "") -> None:
        from faithful_ledger.core.sharing.exchange import export_template

        self._write("Export", ".yaml", name, lambda each, to: export_template(each.path, to))

    def show_sheet(self) -> None:
        """The reference sheet, with the offsets and values of the open save where it is read with the template."""
        from faithful_ledger.core.sharing.sheet import reference_sheet

        each = self.current
        if each is None:
            return
        page = self.session.attempt(lambda: reference_sheet(each.template, "html", self._own_save(each)))
        if page is not None:
            self._show_result(f"Reference sheet of {each.template.id}", [" "])
            self.result.setHtml(page)

    def _own_save(self, each: Listed) -> Save | None:
        """The open save, where it is read with a template."""
        save = self.session.save
        same = save is not None and save.template is not None and save.template.id == each.template.id
        return save if same and save is not None and save.problem is None else None

    def write_sheet(self, name: str = "") -> None:
        """The same into a file: HTML, or Markdown by its name."""
        from faithful_ledger.core.sharing.sheet import Format, reference_sheet

        def write(each: Listed, to: Path) -> None:
            style: Format = "markdown" if to.suffix in (".md", ".markdown", ".txt") else "html"
            new_file(to, reference_sheet(each.template, style, self._own_save(each)).encode("utf-8"))

        self._write("Reference sheet", ".html", name, write)

    def write_reader(self, name: str = "") -> None:
        from faithful_ledger.core.sharing.reader import reader_for

        self._write(
            "Reader", ".py", name, lambda each, to: new_file(to, reader_for(each.template, to.name).encode("utf-8"))
        )

    def _write(self, title: str, ending: str, name: str, act: Callable[[Listed, Path], object]) -> None:
        each = self.current
        if each is None:
            return
        suggested = str(Path.home() / f"{each.template.id}{ending}")
        name = name or QFileDialog.getSaveFileName(self, title, suggested)[0]
        if not name:
            return

        def write() -> bool:
            act(each, Path(name))
            return True

        if self.session.attempt(write):
            self.session.reported.emit(Message("holds", f"{title}: {name} is written."))

    def compare(self, name: str = "") -> None:
        """What changed from another revision, a file, to the chosen template."""
        from faithful_ledger.core.sharing.differences import template_differences

        each = self.current
        if each is None:
            return
        name = name or QFileDialog.getOpenFileName(self, "The revision before", str(Path.home()), YAML)[0]
        if not name:
            return

        def work() -> list[str]:
            pair = read_template(Path(name)), read_template(each.path)
            return [difference.in_words() for difference in template_differences(*pair)]

        lines = self.session.attempt(work)
        if lines is not None:
            self._show_result(f"From {Path(name).name} to {each.template.id}", lines or ["They say the same."])
