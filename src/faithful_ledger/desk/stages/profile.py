"""What kind of bytes is this? Found out beside the window, shown with how sure and why, and leading on."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFileDialog, QWidget

from faithful_ledger.core.deadline import Deadline
from faithful_ledger.core.errors import LedgerError, place
from faithful_ledger.core.inside import Payload, payloads_inside
from faithful_ledger.core.posting.files import new_file
from faithful_ledger.core.source import BlockSource, Source, read_whole
from faithful_ledger.desk.session import Message, Session
from faithful_ledger.desk.theme import BROKEN, HOLDS, OPEN, mono
from faithful_ledger.desk.widgets.basics import button, clear, column, label, row, scrolled, swap
from faithful_ledger.desk.widgets.flow import flow
from faithful_ledger.desk.widgets.layer_form import LayerForm
from faithful_ledger.desk.widgets.plots import HistogramPlot, TexturePlot
from faithful_ledger.desk.widgets.tables import cell, plain_table

if TYPE_CHECKING:
    from faithful_ledger.core.layers.broken import BrokenStream
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
    broken: list[BrokenStream]


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
        self._file = ""
        self._tried: dict[str, list[Payload]] = {}  # by the file they are in
        self.by_hand = LayerForm(session)
        self.by_hand.tried.connect(self._show_tried)
        session.opened.connect(self._tried.clear)
        self.by_hand_title = label("A layer by hand", "heading")
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
        self.body.addWidget(self.by_hand_title)
        self.body.addWidget(self.by_hand)
        self.body.addStretch(0)
        self.body.setContentsMargins(0, 2, 10, 6)
        page.setLayout(self.body)
        area = scrolled(page)
        self.setLayout(column(area))
        self.texture_plot.chosen.connect(lambda offset: self.chosen.emit(offset, offset + 1))

    def show_source(self, source: Source | None, file: str = "") -> None:
        """Look at a source, unless it is the one that was looked at last; `file` is its name."""
        self._file = self.by_hand.file = file
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
            from faithful_ledger.core.layers.broken import broken_streams
            from faithful_ledger.core.profile import profile
            from faithful_ledger.core.profile.texture import histogram, texture

            whole = bytes(apart.read(0, apart.size)) if apart.size <= LARGEST_UNWRAPPED else b""
            payloads = payloads_inside(whole, end)
            broken = broken_streams(whole) if not payloads else []
            return Looked(profile(apart), texture(apart), histogram(apart), payloads, broken)

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
        count = "1 text" if len(rows) == 1 else f"{len(rows)} texts{' or more' if len(rows) >= 2000 else ''}"
        self.texts_title.setText(count if rows else "")
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
        self._add_declared()
        for payload in [*self._tried.get(self._file, ()), *looked.payloads[:MOST_LAYERS]]:
            acts = [button("open unpacked", partial(self.unpacked.emit, payload), "link")]
            if self.session.describing.can_declare(self._file):
                acts.append(button("declare it", partial(self.session.describing.declare, payload, self._file), "link"))
            self._add(f"{HOLDS} {payload.layer}", f"unpacks to {len(payload.data)} bytes, to its own end", *acts)
        for stream in looked.broken:
            payload = Payload((), f"{stream.kind} at {place(stream.offset)}, broken", stream.data)
            act = button("show what came out", partial(self.unpacked.emit, payload), "link")
            why = f"it breaks within {stream.read} bytes; {len(stream.data)} bytes came out before"
            self._add(f"{BROKEN} a {stream.kind} stream at {place(stream.offset)} is broken", why, act)
        if found.kind == "packed" and not found.layers:
            self._add(f"{OPEN} nothing here unpacks it", "encrypted, or packed by something unknown")
        if not self.findings.count():
            self._add(f"{OPEN} no records, layers or scrambling found", "select bytes to see what they may mean")

    def _add_declared(self) -> None:
        """Payloads inside this file that the template describes."""
        save = self.session.save
        files = save.files.values() if save is not None and save.template is not None else ()
        for held in files:
            spec = held.bound.spec if held.bound is not None else None
            if spec is None or spec.inside != self._file or not spec.layers:
                continue
            left = not spec.layers[0].put_back
            words = "put it back when posting" if left else "leave it off when posting"
            acts = [button(words, partial(self.session.describing.leave_off, held.name, left=not left), "link")]
            if held.problem is None:
                acts.append(button("save it…", partial(self.save_payload, held.name), "link"))
                acts.append(button("put one back…", partial(self.put_back, held.name), "link"))
            why = (
                str(held.problem)
                if held.problem is not None
                else f"{held.source.size} bytes; {held.name} in the template"
            )
            self._add(f"{BROKEN if held.problem is not None else HOLDS} {' → '.join(spec.route)}, declared", why, *acts)

    def save_payload(self, name: str, to: str = "") -> None:
        """Write the unwrapped payload to a new file, to be worked on elsewhere."""
        to = to or QFileDialog.getSaveFileName(self, "Save the payload", f"{name}.bin")[0]
        save = self.session.save
        if to and save is not None:
            source = save.files[name].source
            data = bytes(source.read(0, source.size))
            if self.session.attempt(lambda: new_file(Path(to), data)):
                self.session.reported.emit(Message("holds", f"{len(data)} bytes of {name} are in {to}."))

    def put_back(self, name: str, source: str = "") -> None:
        """Enter what a file holds in place of a payload; posting packs it and puts right what follows."""
        from faithful_ledger.core.unwrapping import enter_payload

        source = source or QFileDialog.getOpenFileName(self, "The payload to put back")[0]
        save = self.session.save
        if not source or save is None:
            return

        def enter() -> bool:
            enter_payload(save, name, read_whole(Path(source))[0])
            return True

        if self.session.attempt(enter):
            self.session.tape_changed()

    def _show_tried(self, payloads: list[Payload]) -> None:
        """A layer that was undone by hand is listed like those that were found."""
        self._tried.setdefault(self._file, [])[:0] = payloads[::-1]
        self._show_looked()
        self.unpacked.emit(payloads[-1])

    def _add(self, text: str, why: str, *acts: QWidget) -> None:
        words = label(text, wrap=True)
        words.setToolTip(why)
        self.findings.addWidget(words)
        reason = row(label(why, "quiet", wrap=True), *(acts if len(acts) == 1 else ()))
        reason.setContentsMargins(INDENT, 0, 0, 0)
        self.findings.addLayout(reason)
        if len(acts) > 1:
            links = QWidget()
            links.setLayout(flow(*acts, spacing=10))
            inset = row(links)
            inset.setContentsMargins(INDENT, 0, 0, 0)
            self.findings.addLayout(inset)

    def _go_to_text(self, number: int) -> None:
        if self.looked is not None and 0 <= number < len(self.looked.profile.texts):
            text = self.looked.profile.texts[number]
            size = len(text.text.encode({"ascii": "ascii", "utf-8": "utf-8"}.get(text.encoding, "utf-16-le")))
            self.chosen.emit(text.offset, text.offset + size)
