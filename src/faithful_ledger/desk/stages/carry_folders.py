"""Two folders side by side: what was played goes along, the rest stays; what nothing sorts is decided once."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QFileDialog, QTableWidget, QWidget

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.desk.session import Session
from faithful_ledger.desk.theme import BROKEN, HOLDS, OPEN, colours
from faithful_ledger.desk.widgets.basics import button, column, label, row, swap
from faithful_ledger.desk.widgets.carry_plan import CarryPlan
from faithful_ledger.desk.widgets.tables import cell, plain_table
from faithful_ledger.desk.widgets.verdict import Verdict

if TYPE_CHECKING:
    from faithful_ledger.core.carry import Carry, Folders, ListedFile
    from faithful_ledger.core.posting import Check
    from faithful_ledger.core.records import Posting

__all__ = ["FoldersPane"]

HEAD = ("File", "Both sides", "Newer", "Goes along", "Differs in")
KINDS = {"played": "played", "map": "of the map", "made-anew": "made anew", "add-on": "of an add-on", "": ""}


class FoldersPane(QWidget):
    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.source: Path | None = None
        self.target: Path | None = None
        self.folders: Folders | None = None
        self.found: list[ListedFile] = []
        self.from_line, self.to_line = label("", wrap=True), label("", wrap=True)
        self.words = label("", "quiet", wrap=True)
        self.table: QTableWidget = plain_table(HEAD, [], "Files", ())
        self.plan = CarryPlan(with_left=False)  # the list above says so of each file
        self.plan.wanted.connect(self.write)
        self.remove = button("Remove the old one…", self.plan_removal, "link")
        self.verdict = Verdict(session)
        session.recorded.connect(self._judged)
        self.removing = False
        self.body = column(spacing=8)
        choose_from = button("Choose…", lambda: self.choose_source(), "link")
        choose_to = button("Choose…", lambda: self.choose_target(), "link")
        swapping = button("Swap sides", self.swap_sides, "link")
        for name, line, *links in (
            ("From", self.from_line, choose_from, swapping),
            ("To", self.to_line, choose_to, self.remove),
        ):
            quiet = label(name, "quiet")
            quiet.setFixedWidth(36)
            line_row = row(quiet, line, *links)
            line_row.setStretchFactor(line, 1)
            self.body.addLayout(line_row)
        self.body.addWidget(self.words)
        self.body.addWidget(self.verdict)
        self.body.addWidget(self.table, 3)
        self.body.addWidget(self.plan, 2)
        self.setLayout(self.body)

    def show_save(self) -> None:
        """The folder of the open save is the one that things come from, until the user says otherwise."""
        save = self.session.save
        if save is None:
            return
        here = save.folder or save.main.path.parent
        if self.source is None or here not in (self.source, self.target):
            self.source, self.target = here, None
        self.compare()

    def choose_source(self, name: str = "") -> None:
        chosen = self._chosen("The folder that files come from", name) or self.source
        self.source, self.target = chosen, self.source if chosen == self.target else self.target
        self.compare()

    def choose_target(self, name: str = "") -> None:
        """The folder that files go into; the one they came from until now is the other side then."""
        chosen = self._chosen("The folder that files go into", name) or self.target
        self.source, self.target = self.target if chosen == self.source else self.source, chosen
        self.compare()

    def _chosen(self, title: str, name: str) -> Path | None:
        start = str(self.source.parent if self.source is not None else Path.home())
        name = name or QFileDialog.getExistingDirectory(self, title, start)
        return Path(name) if name else None

    def swap_sides(self) -> None:
        self.source, self.target = self.target, self.source
        self.compare()

    def compare(self) -> None:
        """Look at both folders, and plan what goes along."""
        self.removing = False
        self.from_line.setText(str(self.source) if self.source is not None else "not chosen yet")
        self.to_line.setText(str(self.target) if self.target is not None else "not chosen yet")
        source, target, book = self.source, self.target, self.session.book
        self.remove.hide()
        self.verdict.hide()
        if source is None or target is None or book is None:
            self._say("Choose the folder that the files go into: a new version of the map, another world, a device.")
            return
        from faithful_ledger.core.carry import Folders

        library, roots = self.session.shelf.library(book), book.keeping.roots

        def work() -> tuple[Folders, list[ListedFile]]:
            found = Folders.recognised(source, target, library, {}, roots)
            return found, found.with_fields()

        def done(found: tuple[Folders, list[ListedFile]] | None, error: LedgerError | None) -> None:
            if found is None:
                self._say(f"{BROKEN} {error}")
                return
            self.folders, self.found = found
            id_ = self.folders.template.id if self.folders.template is not None else ""
            self.folders.decide_again(book.keeping.decisions(id_))
            self._lay_out()

        self._say("Looking at both folders…")
        self.session.looking.run(work, done)

    def _say(self, text: str) -> None:
        self.folders, self.found = None, []
        self.words.setText(text)
        self.words.show()
        self.table.hide()
        self.plan.show_words("")

    def _lay_out(self) -> None:
        """The list of both, with what goes along first."""
        folders = self.folders
        if folders is None:
            return
        fields = {each.name: each.fields for each in self.found}
        self.found = [each._replace(fields=fields.get(each.name, ())) for each in folders.listed]
        self.found.sort(key=_rank)
        newer = {"here": "from", "there": "to", "": ""}
        states = {"only here": "only from", "only there": "only to"}
        rows = [
            (each.name, states.get(each.state, each.state), newer[each.newer], "", ", ".join(each.fields[:4]))
            for each in self.found
        ]
        fresh = plain_table(HEAD, rows, "Files", (190, 84, 84, 250))
        for number, each in enumerate(self.found):
            item = cell(fresh, number, 3)
            decided = not each.kind and each.state in ("only here", "differs")
            if decided:
                item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
                item.setCheckState(Qt.CheckState.Checked if each.goes else Qt.CheckState.Unchecked)
            sign = "" if decided else f"{HOLDS if each.goes else OPEN} " if each.why else ""
            item.setText(f"{sign}{each.why}" if each.state in ("only here", "differs") else "")
            if each.goes:
                item.setForeground(colours()["holds"])
            elif each.state in ("same", "only there"):
                for place in range(len(HEAD)):
                    cell(fresh, number, place).setForeground(colours()["quiet"])
            item.setToolTip(f"{KINDS[each.kind]}: {each.why}" if each.kind else each.why)
        fresh.itemChanged.connect(lambda item: self._decide(item.row()))
        fresh.setMinimumHeight(100)
        self.table = swap(self.body, self.table, fresh)
        going = sum(each.goes for each in self.found)
        same = sum(each.state == "same" for each in self.found)
        sorted_by = (
            folders.template.title if folders.template is not None else "no template: every file is yours to decide"
        )
        self.words.setText(f"{len(self.found)} files, {same} the same, {going} go along ({sorted_by}).")
        self.words.show()
        if going:
            self.session.carrying.plan(folders.carry, self.plan.show_plan)
        else:
            self._show_carried()

    def _show_carried(self) -> None:
        """Both sides agree; the old one may go once the game has accepted the new one."""
        latest, verdict = self._latest()
        self.verdict.setVisible(latest is not None)
        if latest is not None:
            self.verdict.show_posting(latest, verdict)
        self.remove.setVisible(verdict == "accepted")
        text, tone = "What goes along is there already; both sides agree.", "holds"
        if verdict in ("refused", "odd"):
            text = "Both sides agree, but the game " + {"refused": "refused it", "odd": "is odd with it"}[verdict]
            text, tone = f"{text}; History says what to look at, and reverses it.", "broken"
        elif latest is not None and not verdict:
            text += " Start the game and look; once it has accepted it, the old one can be removed."
        self.plan.show_words(f"{HOLDS if tone == 'holds' else BROKEN} {text}", tone)

    def _latest(self) -> tuple[Posting | None, str]:
        """The posting that carried it, and what the game made of that."""
        from faithful_ledger.core.carried import latest_carry

        folders, book = self.folders, self.session.book
        if folders is None or folders.template is None or book is None:
            return None, ""
        latest = latest_carry(book.history, folders.about, folders.target)
        return latest, book.records.verdicts().get(latest.id, "") if latest is not None else ""

    def _judged(self) -> None:
        """What the player said of a carry, here or in History, decides whether the old one may go."""
        if not self.verdict.isHidden():
            self._show_carried()

    def _decide(self, number: int) -> None:
        """The user decides about a file, once and for all."""
        folders, book, each = self.folders, self.session.book, self.found[number]
        if folders is None or book is None:
            return
        goes = cell(self.table, number, 3).checkState() == Qt.CheckState.Checked
        if goes == each.goes:
            return
        id_ = folders.template.id if folders.template is not None else ""
        self.session.attempt(lambda: folders.decide([each.name], goes=goes, over_newer=True))
        book.keeping.decide(id_, folders.decisions)
        self._lay_out()

    def plan_removal(self) -> None:
        """Plan that the old one goes, after the game has accepted the new one."""
        if self.folders is not None:
            self.removing = True
            self.session.carrying.plan(self.folders.removal, self._show_removal)

    def _show_removal(self, carry: Carry | None, checks: list[Check], error: LedgerError | None) -> None:
        self.plan.show_plan(carry, checks, error)
        if carry is not None and self.source is not None:
            self.plan.button.setText(f"Remove {self.source.name}; it is kept first")

    def write(self) -> None:
        if self.plan.carry is not None:
            self.session.carrying.post(self.plan.carry, "", self._written)

    def _written(self) -> None:
        if self.removing:
            self.source, self.target = self.target, None
        self.plan.button.setText("Carry it")
        self.compare()


def _rank(each: ListedFile) -> tuple[int, str]:
    """What goes along first, then what the user decides, then what stays; what is the same, or only there, last."""
    if each.goes:
        return 0, each.name
    if each.state in ("same", "only there"):
        return (3 if each.state == "same" else 4), each.name
    return (2 if each.kind else 1), each.name
