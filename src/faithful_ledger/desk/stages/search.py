"""Searching the file on the strip: numbers in every storage, texts, groups, patterns; hits filtered while you look."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial
from itertools import islice

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QLineEdit, QWidget

from faithful_ledger.core.binding.spans import field_at
from faithful_ledger.core.errors import LedgerError, ValueRefused
from faithful_ledger.core.search import (
    Hit,
    is_behind_text,
    likelihood,
    parse_number,
    parse_pattern,
    search_bytes,
    search_everywhere,
    search_group,
    search_number,
    search_text,
)
from faithful_ledger.core.source import BlockSource, Source
from faithful_ledger.core.storage import parse_whole
from faithful_ledger.desk.session import Session
from faithful_ledger.desk.theme import mono
from faithful_ledger.desk.widgets.basics import Chooser, button, column, label, row, swap
from faithful_ledger.desk.widgets.tables import cell, plain_table
from faithful_ledger.desk.widgets.words import storage_in_brief

__all__ = ["SearchPane"]

MOST_HITS = 20_000
WIDE = 460  # pixels; in a narrower pane the bytes around a hit have no room
MOST_SHOWN = 500
HOW = {
    "a number": "1340, −3 or 12.5: in every storage, also times 10 and 100",
    "a text": "in UTF-8, UTF-16 and Latin-1",
    "a group": "12, 55, 31: in any order, at any constant distance",
    "bytes": "0A ?? FF: ?? stands for any byte",
}
EVERYWHERE, UNKNOWN, DIFFERING, ALIGNED, LABELLED = (
    "all hits",
    "only bytes no field describes",
    "only where kept copies differ",
    "only aligned ones",
    "only behind a text",
)


class SearchPane(QWidget):
    """Signal: `chosen(start, end)` of the file when a hit is selected."""

    chosen = Signal(object, object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.hits: list[Hit] = []
        self.shown: list[Hit] = []
        self._source: Source | None = None
        self._file = ""
        self._stopped = False
        self._differing: list[Source] | None = None
        self.kind = Chooser()
        self.kind.addItems(list(HOW))
        self.kind.setAccessibleName("What to search for")
        self.line = QLineEdit()
        self.line.setAccessibleName("Search for")
        self.act = button("Search", self.search)
        self.filter = Chooser()
        self.filter.addItems([EVERYWHERE, UNKNOWN, DIFFERING, ALIGNED, LABELLED])
        self.filter.setAccessibleName("Which hits to show")
        self.summary = label(HOW["a number"], "quiet", wrap=True)
        self.table = plain_table((), [], "Hits", ())
        self.body = column(spacing=6)
        self.body.setContentsMargins(0, 2, 10, 6)
        self.body.addLayout(row(self.kind, self.line, self.act))
        self.body.addLayout(row(self.filter, None))
        self.body.addWidget(self.summary)
        self.body.addWidget(self.table, 1)
        self.setLayout(self.body)
        self.line.returnPressed.connect(self.search)
        self.kind.currentTextChanged.connect(lambda name: self.summary.setText(HOW[name]))
        self.kind.currentTextChanged.connect(lambda name: self.line.setPlaceholderText(HOW[name].split(":")[0]))
        self.filter.currentTextChanged.connect(lambda _: self._show_hits())
        self._show_hits()

    def show_source(self, source: Source | None, file: str) -> None:
        """Search in this from now on."""
        if source is not self._source:
            self._source, self._file, self._differing = source, file, None
            self.hits = []
            self.summary.setText(HOW[self.kind.currentText()])
            self._show_hits()

    def _finder(self) -> Callable[[Source], Iterator[Hit]]:
        text, kind = self.line.text().strip(), self.kind.currentText()
        if kind == "a text":
            if not text:
                raise ValueRefused("the text is empty", "give at least one letter")
            return partial(search_text, text=text)
        if kind == "a group":
            numbers = [parse_whole(part) for part in text.split(",")]
            return partial(search_group, numbers=numbers)
        if kind == "bytes":
            parse_pattern(text)
            return partial(search_bytes, text=text)
        return partial(search_number, number=parse_number(text))

    def search(self) -> None:
        """Begin to search beside the window; a second press stops it."""
        source = self._source
        if self.act.text() == "Stop":
            self._stopped = True
            return
        find = self.session.attempt(self._finder)
        if source is None or find is None:
            return
        self._stopped = False
        self.act.setText("Stop")
        self.summary.setText("searching…")

        apart = source.again() if isinstance(source, BlockSource) else source

        def work() -> list[Hit]:
            hits: list[Hit] = []
            for hit in islice(search_everywhere(apart, find), MOST_HITS):
                if self._stopped:
                    break
                hits.append(hit)
            # The likeliest first, those alike in order of offsets.
            return sorted(hits, key=lambda hit: -likelihood(hit, apart))

        def done(found: list[Hit] | None, error: LedgerError | None) -> None:
            self.act.setText("Search")
            if source is not self._source:
                return
            self.hits = found or []
            self._show_hits()
            if error is not None:
                self.summary.setText(str(error))

        self.session.looking.run(work, done)

    # what is shown of the hits

    def _kept(self) -> list[Source]:
        """The last kept copies of the file, of the same size, to tell where they differ."""
        if self._differing is None:
            self._differing = []
            book, save = self.session.book, self.session.save
            if book is not None and save is not None and self._source is not None:
                for snapshot in book.keeping.own_snapshots(save, 8):
                    sources = self.session.attempt(partial(book.keeping.kept_sources, save, snapshot)) or {}
                    kept = sources.get(self._file)
                    self._differing += [kept] if kept is not None and kept.size == self._source.size else []
        return self._differing

    def _wanted(self, hit: Hit) -> bool:
        source, save = self._source, self.session.save
        name = self.filter.currentText()
        if name == EVERYWHERE or source is None:
            return True
        if name == ALIGNED:
            return hit.offset % max(hit.size, 1) == 0 if hit.size in (2, 4, 8) else True
        if hit.layer is not None:
            return False
        end = hit.offset + hit.size
        if name == UNKNOWN:
            bound = save.files[self._file].bound if save is not None and self._file in save.files else None
            node = field_at(bound.root, hit.offset) if bound is not None else None
            return node is None or node.spec.unknown
        if name == DIFFERING:
            now = bytes(source.read(hit.offset, end))
            return any(bytes(kept.read(hit.offset, end)) != now for kept in self._kept())
        return is_behind_text(source, hit.offset)

    def _show_hits(self) -> None:
        wanted = [hit for hit in self.hits if self._wanted(hit)]
        self.shown = wanted[:MOST_SHOWN]
        rows = [
            (
                f"0x{hit.offset:X} · {hit.offset}",
                _stored(hit),
                hit.path or hit.layer or self._field(hit),
                self._around(hit) if hit.layer is None else "",
            )
            for hit in self.shown
        ]
        fresh = plain_table(("At", "Stored as", "Where", "Bytes around"), rows, "Hits", (92, 118, 92))
        for number in range(len(rows)):
            cell(fresh, number, 0).setFont(mono(12))
            cell(fresh, number, 3).setFont(mono(12))
        fresh.setColumnHidden(2, not any(texts[2] for texts in rows))
        fresh.setColumnHidden(3, self.width() < WIDE)  # the strip beside shows them as well
        fresh.itemSelectionChanged.connect(lambda: self._go(fresh.currentRow()))
        self.table = swap(self.body, self.table, fresh)
        fresh.setVisible(bool(rows))
        if self.hits:
            count = f"{len(self.hits)}{' or more' if len(self.hits) == MOST_HITS else ''} hits"
            count += f", {len(wanted)} of them {self.filter.currentText()}" if len(wanted) < len(self.hits) else ""
            self.summary.setText(
                count + (f"; the likeliest {MOST_SHOWN} are shown" if len(wanted) > MOST_SHOWN else "")
            )
        elif self.summary.text() == "searching…":
            self.summary.setText("It is not there, in no storage and no encoding.")

    def _around(self, hit: Hit) -> str:
        if self._source is None:
            return ""
        return bytes(self._source.read(max(hit.offset - 2, 0), hit.offset + min(hit.size, 4) + 2)).hex(" ").upper()

    def _field(self, hit: Hit) -> str:
        save = self.session.save
        bound = save.files[self._file].bound if save is not None and self._file in save.files else None
        node = field_at(bound.root, hit.offset) if bound is not None else None
        return node.path if node is not None and not node.spec.unknown else ""

    def _go(self, number: int) -> None:
        if 0 <= number < len(self.shown) and self.shown[number].layer is None:
            hit = self.shown[number]
            self.chosen.emit(hit.offset, hit.offset + hit.size)


def _stored(hit: Hit) -> str:
    if hit.stored_as == "bytes":
        return f"{hit.size} bytes"
    return storage_in_brief(hit.stored_as) + (f", times {hit.scale}" if hit.scale > 1 else "")
