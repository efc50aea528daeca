"""The seals of the open save: what each says and should say; and the finder, from the save and its kept copies."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, TypeAlias

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QWidget

from faithful_ledger.core.clock import local_time
from faithful_ledger.core.deadline import Deadline
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.seal_list import SealReport, seal_reports
from faithful_ledger.core.storage.literals import bytes_typed
from faithful_ledger.desk.beside import Message
from faithful_ledger.desk.session import Session
from faithful_ledger.desk.theme import BROKEN, HOLDS, OPEN, colours, mono
from faithful_ledger.desk.widgets.basics import button, column, label, row, swap
from faithful_ledger.desk.widgets.new_element import line_of
from faithful_ledger.desk.widgets.seal_detail import SealDetail
from faithful_ledger.desk.widgets.tables import cell, plain_table

if TYPE_CHECKING:
    from faithful_ledger.core.placed_seals import Placed
    from faithful_ledger.core.save import Save
    from faithful_ledger.core.seal_search import Found
    from faithful_ledger.core.seals.finder.blocks import BlockRule
    from faithful_ledger.core.seals.finder.directories import DirectoryRule
    from faithful_ledger.core.seals.finder.packed import StreamRule
    from faithful_ledger.core.seals.finder.repeated import SealRow
    from faithful_ledger.core.unexplained import Unexplained

    Rule: TypeAlias = BlockRule | DirectoryRule | SealRow | StreamRule

__all__ = ["SealsPane"]

SECONDS = 120.0
MOST_COPIES = 8
LARGEST = 16 << 20
FEW = 3
MOST_NEARLY = 4


class SealsPane(QWidget):
    """Signal: `chosen(start, end)` of the file, where a seal is stored. `found_so_far(deadline, findings)` comes from
    the thread that looks.
    """

    chosen = Signal(object, object)
    found_so_far = Signal(object, object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.found: list[Placed] = []
        self.rules: list[Rule] = []
        self.nearly: list[str] = []
        self.left: list[Unexplained] = []
        self._looked_at = b""  # the save of which these are
        self.nearly_words = label("", "open", wrap=True, selectable=True)
        self.left_words = label("", "open", wrap=True, selectable=True)
        self.left_button = button("", self._show_left, "link")
        self.rule_words = label("", "holds", wrap=True, selectable=True)
        self.rule_button = button("Describe the blocks", self._accept_rule, "main")
        self._end: Deadline | None = None
        self.known_title = label("", "heading")
        self.known_title.setWordWrap(True)
        self.known = plain_table((), [], "Seals of this save", ())
        self.reports: list[SealReport] = []
        self.known_detail = SealDetail(session)
        self.find_button = button("Find the seals", self.look)
        self.key = line_of('with a key: 62 72, or "text"', "Key of the seals")
        self.key.setToolTip("Looks for an HMAC with this key, and for digests of the bytes with it in front or behind")
        self.key.returnPressed.connect(self.look)
        self.summary = label("", "quiet", wrap=True)
        self.table = plain_table((), [], "Seals that were found", ())
        self.detail = label("", wrap=True, selectable=True)
        self.accept_all = button("", lambda: self._put_in(self._sure))
        self.accept = button("Put it into the template", self._accept, "main")
        self.body = column(spacing=6)
        self.body.setContentsMargins(0, 2, 10, 6)
        self.body.addWidget(self.known_title)
        self.body.addWidget(self.known)
        self.body.addWidget(self.known_detail)
        self.body.addLayout(row(self.find_button, self.key, spacing=8))
        self.body.addWidget(self.summary)
        self.body.addWidget(self.rule_words)
        self.body.addLayout(row(None, self.rule_button))
        self.body.addWidget(self.nearly_words)
        self.body.addWidget(self.table)
        self.body.addWidget(self.detail)
        self.body.addLayout(row(None, self.accept_all, self.accept))
        self.body.addWidget(self.left_words)
        self.body.addLayout(row(self.left_button, None))
        self.body.addStretch(1)
        self.setLayout(self.body)
        self.found_so_far.connect(self._show_found, Qt.ConnectionType.QueuedConnection)
        self.show_save()

    def show_save(self) -> None:
        """The seals that the template knows; what was found for another state of the save is gone."""
        save = self.session.save
        self.stop()
        self._keep_found(save)
        self.reports = seal_reports(save) if save is not None and save.problem is None else []
        kept = [report.state for report in self.reports]
        held = sum(state.holds for state in kept)
        title = f"{held} of {len(kept)} checksums hold" if kept else "No checksum of this save is known yet"
        self.known_title.setText(title)
        rows = []
        labels = Counter(state.label for state in kept)
        for state in kept:
            stored = "–" if state.stored is None else state.in_digits(state.stored)
            mark = HOLDS if state.holds else BROKEN
            due = "" if state.holds else f" → {state.in_digits(state.computed)}"
            name = state.label if labels[state.label] == 1 else state.name  # the same in each record of rows
            rows.append((f"{mark} {name}", state.algorithm, f"{stored}{due}"))
        head = ("Seal", "Algorithm", "Stored → due" if held < len(kept) else "Stored")
        fresh = plain_table(head, rows, "Seals of this save", (136, 72))
        for number, state in enumerate(kept):
            cell(fresh, number, 0).setForeground(colours()["holds" if state.holds else "broken"])
            cell(fresh, number, 2).setFont(mono(12))
        fresh.itemSelectionChanged.connect(self._select_known)
        fresh.setMinimumHeight(36 + 26 * min(max(len(rows), 1), 9))
        fresh.setMaximumHeight(36 + 26 * min(max(len(rows), 1), 9))
        self.known = swap(self.body, self.known, fresh)
        fresh.setVisible(bool(rows))
        self.known_detail.show_report(None)
        self._show_rows()

    def _keep_found(self, save: Save | None) -> None:
        """What was found and is not in the template yet stays, as long as the save is the same."""
        same = save is not None and bool(self._looked_at) and save.main.source.size == len(self._looked_at)
        if save is None or not same or bytes(save.main.source.read(0, save.main.source.size)) != self._looked_at:
            self.found, self.rules, self.nearly, self.left = [], [], [], []
            self._looked_at = b""
            self.summary.setText("")
            return
        from faithful_ledger.core.sealing import is_described

        self.found = [each for each in self.found if not is_described(save, each)]
        left = len(self.found) + len(self.rules)
        self.summary.setText(f"{left} more found." if left else "All that was found is in the template.")

    def _select_known(self) -> None:
        number = self.known.currentRow()
        report = self.reports[number] if 0 <= number < len(self.reports) else None
        self.known_detail.show_report(report)
        if report is not None:
            self.session.select_node(report.node)

    # the finder

    @property
    def looking(self) -> bool:
        return self._end is not None

    def stop(self) -> None:
        """Nobody waits for what is looked for any more."""
        if self._end is not None:
            self._end.cancel()
            self._end = None
        self.find_button.setText("Find the seals")

    def look(self) -> None:
        """Look beside the window; a second press ends it with what is known."""
        book, save = self.session.book, self.session.save
        if self._end is not None:
            self._end.cancel()
            return
        if book is None or save is None:
            return
        if save.main.source.size > LARGEST:
            self.summary.setText(f"The file is larger than {LARGEST >> 20} MiB.")
            return
        typed = self.key.text()
        key = self.session.attempt(lambda: bytes_typed(typed)) if typed.strip() else b""
        if key is None:
            return
        end = self._end = Deadline(SECONDS)
        present = bytes(save.main.source.read(0, save.main.source.size))
        copies = self.session.kept_copies[:MOST_COPIES]
        path = save.main.path.absolute()
        self.find_button.setText("Stop looking")
        self.summary.setText(f"looking, in this save and {len(copies)} kept copies…")

        def work() -> tuple[Found, list[str]]:
            from faithful_ledger.core.seal_search import SealSearch
            from faithful_ledger.core.seals.finder import Hints
            from faithful_ledger.core.unlocking import Keys
            from faithful_ledger.core.unwrapping import ways_in

            end.begin()
            contents, names = [present], ["this save"]
            for snapshot, file in ((each, file) for each in copies for file in each.files if file.path == path):
                source = book.keeping.kept_source(file)
                contents.append(bytes(source.read(0, source.size)))
                names.append(
                    f"the copy “{snapshot.label}”" if snapshot.label else f"the copy of {local_time(snapshot.time)}"
                )
            search = SealSearch(contents, Hints(key=key), end, keys=Keys(ways_in(save)))
            return search.everything(lambda found: self.found_so_far.emit(end, list(found))), names

        def done(looked: tuple[Found, list[str]] | None, error: LedgerError | None) -> None:
            if self._end is not end:
                return
            self.stop()
            if error is not None:
                self.session.reported.emit(Message("broken", str(error)))
            self.found, self.rules, self.nearly, self.left = [], [], [], []
            if looked is not None:
                found, names = looked
                self._looked_at = present
                self.found, self.rules = found.seals, [*found.rows, *found.blocks, *found.directories, *found.streams]
                self.left = found.unexplained
                self.left_words.setText(f"{OPEN} {found.unexplained_in_words}; a key may be needed.")
                self.nearly = [
                    f"Nearly: {each.placed.nearly_in_words}, and not in {names[each.odd]}." for each in found.nearly
                ]
            self._show_rows()
            alone = len({snapshot.id for snapshot in copies}) + 1 < FEW
            count = len(self.found) + len(self.rules)
            words = f"{count} found" if count else "Nothing known explains bytes of this save"
            words = "Something holds in all but one" if self.nearly and not count else words
            more = "; keep copies after small steps: from three on any range is searched" if alone else ""
            self.summary.setText(f"{words}{more}.")

        self.session.looking.run(work, done)

    def _show_found(self, end: Deadline, found: list[Placed]) -> None:
        if self._end is end:
            self.found = found
            self._show_rows()

    def _show_rows(self) -> None:
        rows = []
        for placed in self.found:
            each = placed.finding
            part = placed.over or placed.held
            start, end = (edge + part.offset for edge in placed.covered)
            mark = HOLDS if each.sure else OPEN
            name = "count" if each.algorithm.unit > 1 else each.algorithm.name
            covers = placed.whole_in_words or f"0x{start:X} to 0x{end:X}"
            within = f" of {part.words}" if part.words and not placed.is_whole and part.header is None else ""
            within = ", behind the header" if part.header is not None and placed.over is None else within
            rows.append((f"{mark} 0x{placed.place_in_file:X}", name, f"{covers}{within}"))
        row_now = self.table.currentRow()
        fresh = plain_table(("Stored at", "Algorithm", "Covers"), rows, "Seals that were found", (86, 92))
        for number, placed in enumerate(self.found):
            cell(fresh, number, 0).setForeground(colours()["holds" if placed.finding.sure else "open"])
        fresh.itemSelectionChanged.connect(self._select)
        fresh.setMaximumHeight(36 + 26 * min(max(len(rows), 1), 9))
        self.table = swap(self.body, self.table, fresh)
        for widget in (fresh, self.accept, self.detail):
            widget.setVisible(bool(rows))
        self.accept_all.setVisible(len(self._sure) > 1)
        self.accept_all.setText(f"Put all {len(self._sure)} sure ones in")
        rule = self.rules[0] if self.rules else None
        self.rule_words.setText(f"{HOLDS} One rule: {rule.in_words}." if rule is not None else "")
        for widget in (self.rule_words, self.rule_button):
            widget.setVisible(rule is not None)
        self.nearly_words.setText("\n".join(self.nearly[:MOST_NEARLY]))
        self.nearly_words.setVisible(bool(self.nearly))
        self.left_words.setVisible(bool(self.left))
        in_file = sum(each.part.around is None for each in self.left)
        self.left_button.setText("Show the next one" if in_file > 1 else "Show it in the file")
        self.left_button.setVisible(in_file > 0)
        if rows:
            fresh.selectRow(min(max(row_now, 0), len(rows) - 1))

    @property
    def current(self) -> Placed | None:
        number = self.table.currentRow()
        return self.found[number] if 0 <= number < len(self.found) else None

    def _select(self) -> None:
        placed = self.current
        if placed is not None:
            self.detail.setText(f"{placed.in_words}.")
            if placed.held.around is None or placed.held.header is not None:  # an offset of the file itself
                self.chosen.emit(placed.place_in_file, placed.place_in_file + placed.finding.size)

    def _show_left(self) -> None:
        """What may be a checksum that nothing explains, one after the other."""
        here = next((each for each in self.left if each.part.around is None), None)
        if here is not None:
            self.left = [*(each for each in self.left if each is not here), here]
            self.chosen.emit(here.start, here.end)

    def _accept_rule(self) -> None:
        """The blocks, and the checksum in each, go into the template."""
        if self.rules:
            rule, *others = self.rules
            self.rules = others  # those that go in are shown without it
            if not self.session.describing.seal_blocks(rule):
                self.rules = [rule, *others]
                self._show_rows()

    @property
    def _sure(self) -> list[Placed]:
        return [placed for placed in self.found if placed.finding.sure]

    def _accept(self) -> None:
        if self.current is not None:
            self._put_in([self.current])

    def _put_in(self, found: list[Placed]) -> None:
        """Seals go into this book's template, and hold from now on; or it is said why not, and none goes in."""
        book, save = self.session.book, self.session.save
        if book is None or save is None:
            return
        if self.session.pending:
            self.session.entries.ask("Put it in without them", lambda: self._put_in(found))
            return
        library = self.session.shelf.library(book)
        file = self.session.template_file
        paths = self.session.attempt(lambda: book.templates.add_seals(save, library, found, file))
        if paths is None:
            return
        self.found = [each for each in self.found if each not in found]
        names = ", ".join(placed.finding.name_in_words for placed in found)
        text = f"{paths[0]} is a seal in the template now: {names} is renewed when you post."
        if len(paths) > 1:
            text = f"{len(paths)} seals are in the template now, and are renewed when you post: {names}."
        self.session.reopen(lambda: self.session.reported.emit(Message("holds", text)))
