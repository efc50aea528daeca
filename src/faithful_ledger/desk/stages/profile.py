"""What kind of bytes is this? Found out beside the window, shown with how sure and why, and leading on."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING, NamedTuple

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from faithful_ledger.core.deadline import Deadline
from faithful_ledger.core.errors import LedgerError, place
from faithful_ledger.core.inside import Payload, payloads_inside
from faithful_ledger.core.source import BlockSource, Source
from faithful_ledger.desk.session import Session
from faithful_ledger.desk.theme import HOLDS, OPEN, mono
from faithful_ledger.desk.widgets.basics import button, clear, column, label, row, scrolled, swap
from faithful_ledger.desk.widgets.plots import HistogramPlot, TexturePlot
from faithful_ledger.desk.widgets.tables import cell, plain_table

if TYPE_CHECKING:
    from faithful_ledger.core.profile import Profile
    from faithful_ledger.core.profile.texture import Array, Texture

__all__ = ["ProfilePane"]

LARGEST_UNWRAPPED = 64 << 20
MOST_LAYERS = 12
INDENT = 16  # pixels before the reason for a finding
KINDS = {
    "text": "It is text",
    "binary": "It is not packed",
    "packed": "It is packed",
    "scrambled": "It is scrambled",
}


class Looked(NamedTuple):
    """All that was found out about a source."""

    profile: Profile
    texture: Texture
    counts: Array
    payloads: list[Payload]


class ProfilePane(QWidget):
    """Signals: `chosen(start, end)` of the file, `rows_wanted(width, start)`, `unpacked(payload)` to be shown."""

    chosen = Signal(object, object)
    rows_wanted = Signal(int, object)
    unpacked = Signal(object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.looked: Looked | None = None
        self._source: Source | None = None
        self._end: Deadline | None = None
        self.stop_button = button("Stop looking", self._stop, "link")
        self.summary = label("", "heading", wrap=True)
        self.why = label("", "quiet", wrap=True)
        self.texture_plot = TexturePlot()
        self.histogram = HistogramPlot()
        self.findings = column(spacing=5)
        self.texts_title = label("", "heading")
        self.texts = plain_table((), [], "Texts", ())
        page = QWidget()
        page.setObjectName("page")
        self.body = column(self.summary, self.stop_button, self.why, self.texture_plot, self.histogram, spacing=6)
        self.body.addLayout(self.findings)
        self.body.addWidget(self.texts_title)
        self.body.addWidget(self.texts, 1)
        self.body.addStretch(0)
        self.body.setContentsMargins(0, 2, 10, 6)
        page.setLayout(self.body)
        area = scrolled(page)
        self.setLayout(column(area))
        self.texture_plot.chosen.connect(lambda offset: self.chosen.emit(offset, offset + 1))

    def show_source(self, source: Source | None) -> None:
        """Look at a source, unless it is the one that was looked at last."""
        if source is self._source:
            return
        self._let_go()
        self._source, self.looked = source, None
        self.summary.setText("Looking at the bytes…")
        self.why.setText("")
        self._show_looked()
        if source is None or not source.size:
            self.summary.setText("There are no bytes.")
            return

        end = self._end = Deadline(None)
        self.stop_button.show()
        apart = source.again() if isinstance(source, BlockSource) else source

        def work() -> Looked:
            from faithful_ledger.core.profile import profile
            from faithful_ledger.core.profile.texture import histogram, texture

            whole = bytes(apart.read(0, apart.size)) if apart.size <= LARGEST_UNWRAPPED else b""
            return Looked(profile(apart), texture(apart), histogram(apart), payloads_inside(whole, end))

        def done(found: Looked | None, error: LedgerError | None) -> None:
            if self._end is end:
                self._let_go()
                self.looked = found
                self.summary.setText(str(error) if error is not None else "")
                self._show_looked()

        self.session.looking.run(work, done)

    def _let_go(self) -> None:
        """Nobody waits for what is looked for any more."""
        if self._end is not None:
            self._end.cancel()
        self._end = None
        self.stop_button.hide()

    def _stop(self) -> None:
        self._let_go()
        self._source = None  # it is looked at again when it is shown again
        self.summary.setText("Stopped; choose Profile again to look once more.")

    def _show_looked(self) -> None:
        looked = self.looked
        self.texture_plot.show_texture(looked.texture if looked else None, self._source.size if self._source else 0)
        self.histogram.show_counts(looked.counts if looked else None)
        clear(self.findings)
        rows: list[tuple[str, ...]] = []
        if looked is not None:
            found = looked.profile
            kind = KINDS[found.kind] if found.layers or found.kind != "packed" else "It is dense"
            self.summary.setText(f"{kind}: {found.reason}")
            self.why.setText(f"{found.entropy:.2f} of 8 bits of entropy a byte")
            self._add_findings(looked)
            rows = [(f"0x{t.offset:X} · {t.offset}", t.text, t.encoding, t.length_in_front or "") for t in found.texts]
        self.texts_title.setText(f"{len(rows)} texts{' or more' if len(rows) >= 2000 else ''}" if rows else "")
        fresh = plain_table(("At", "Text", "In", "Length"), rows, "Texts", (98, 116, 56))
        for number in range(len(rows)):
            cell(fresh, number, 0).setFont(mono(12))
        fresh.setMinimumHeight(180)
        fresh.itemSelectionChanged.connect(lambda: self._go_to_text(fresh.currentRow()))
        self.texts = swap(self.body, self.texts, fresh)
        fresh.setVisible(bool(rows))

    def _add_findings(self, looked: Looked) -> None:
        found = looked.profile
        for stride in found.strides:
            text = f"{HOLDS} records of {stride.stride} bytes, about {stride.count}, from {place(stride.offset)} on"
            act = button(
                f"rows of {stride.stride} bytes", partial(self.rows_wanted.emit, stride.stride, stride.offset), "link"
            )
            self._add(text, "bytes so far apart are equal more often than others", act)
        if found.scrambling is not None:
            self._add(f"{HOLDS} {found.scrambling.words}", found.reason)
        for block in found.blocks[:MOST_LAYERS]:
            act = button("show it", partial(self.chosen.emit, block.start, block.start + block.size), "link")
            why = block.checksum or f"block at {place(block.offset)}, found by its name and size"
            self._add(f"{HOLDS} {block.name}, {block.size} bytes at {place(block.start)}", why, act)
        if len(found.blocks) > MOST_LAYERS:
            self._add(
                f"{HOLDS} {len(found.blocks) - MOST_LAYERS} more blocks", "their sizes lead to the end of the file"
            )
        for payload in looked.payloads[:MOST_LAYERS]:
            act = button("open unpacked", partial(self.unpacked.emit, payload), "link")
            self._add(f"{HOLDS} {payload.layer}", f"unpacks to {len(payload.data)} bytes, to its own end", act)
        if found.kind == "packed" and not found.layers:
            self._add(f"{OPEN} nothing here unpacks it", "encrypted, or packed by something unknown")
        if not self.findings.count():
            self._add(f"{OPEN} no records, layers or scrambling found", "select bytes to see what they may mean")

    def _add(self, text: str, why: str, act: QWidget | None = None) -> None:
        words = label(text, wrap=True)
        words.setToolTip(why)
        self.findings.addWidget(words)
        reason = row(label(why, "quiet", wrap=True), *([act] if act else []))
        reason.setContentsMargins(INDENT, 0, 0, 0)
        self.findings.addLayout(reason)

    def _go_to_text(self, number: int) -> None:
        if self.looked is not None and 0 <= number < len(self.looked.profile.texts):
            text = self.looked.profile.texts[number]
            size = len(text.text.encode({"ascii": "ascii", "utf-8": "utf-8"}.get(text.encoding, "utf-16-le")))
            self.chosen.emit(text.offset, text.offset + size)
