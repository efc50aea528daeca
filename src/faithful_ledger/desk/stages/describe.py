"""Describe: the template's outline with live values beside the bytes."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QSplitter, QWidget

from faithful_ledger.core.binding import FieldNode, GroupNode, Node, RepeatNode
from faithful_ledger.core.binding.spans import explained_bytes, fields_between, record_at
from faithful_ledger.core.save import SaveFile
from faithful_ledger.desk.session import Selection, Session
from faithful_ledger.desk.stages.seen import WhenSeen
from faithful_ledger.desk.widgets.band import BandPart, FileBand
from faithful_ledger.desk.widgets.basics import Chooser, column, label, row
from faithful_ledger.desk.widgets.outline import Outline
from faithful_ledger.desk.widgets.strip import ByteStrip

__all__ = ["DescribeStage", "band_parts"]

MOST_PARTS = 400
ROWS = {"Row: fitted": 0, "Row: 8": 8, "Row: 16": 16, "Row: 24": 24, "Row: 32": 32, "Row: one record": -1}


class DescribeStage(QWidget):
    """The sheet of the stage Describe."""

    title = "Describe"

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.session = session
        self.seen = WhenSeen(self, session, self.show_save)
        self._file = ""
        self.heading = label("Template", "title")
        self.version = label("", "quiet")
        self.outline = Outline()
        self.files = Chooser()
        self.files.setAccessibleName("File")
        self.rows = Chooser()
        self.rows.addItems(list(ROWS))
        self.rows.setAccessibleName("Bytes in a row")
        self.base = Chooser()
        self.base.addItems(["hex", "decimal", "bits"])
        self.base.setAccessibleName("Numbers as")
        self.share = label("", "quiet")
        self.band = FileBand()
        self.strip = ByteStrip()

        left, right = QWidget(), QWidget()
        left_column = column(spacing=4)
        left_column.setContentsMargins(14, 12, 0, 8)
        left_column.addLayout(row(self.heading, self.version, None))
        left_column.addWidget(self.outline, 1)
        left.setLayout(left_column)
        right_column = column(spacing=8)
        right_column.setContentsMargins(14, 12, 12, 8)
        right_column.addLayout(row(self.files, self.rows, self.base, None))
        right_column.addWidget(self.share)
        right_column.addWidget(self.band)
        right_column.addWidget(self.strip, 1)
        right.setLayout(right_column)
        splitter = QSplitter(Qt.Orientation.Horizontal)
        splitter.addWidget(left)
        splitter.addWidget(right)
        splitter.setStretchFactor(1, 1)
        splitter.setSizes([336, 520])
        splitter.setChildrenCollapsible(False)
        self.splitter, self.left = splitter, left
        whole = column(splitter)
        self.setLayout(whole)

        self.outline.chosen.connect(session.select_node)
        self.strip.picked.connect(lambda start, end: session.select(self._file, start, end))
        self.strip.moved.connect(self.band.show_window)
        self.band.chosen.connect(self._point)
        self.files.activated.connect(lambda number: self.show_file(list(session.save.files)[number]))
        self.rows.activated.connect(lambda _: self._set_row_width())
        self.base.currentTextChanged.connect(self.strip.set_base)
        self.seen.follow(session.selected, self.show_selection)
        self.seen.follow(session.changed, self.show_entries)

    def show_save(self) -> None:
        save = self.session.save
        if save is None:
            return
        template = save.template
        self.left.setVisible(template is not None)
        self.version.setText(f"{template.id} {template.version}" if template is not None else "")
        self.outline.show_save(save)
        self.files.clear()
        self.files.addItems([file.path.name for file in save.files.values()])
        self.files.setVisible(len(save.files) > 1)
        self.rows.setCurrentIndex(0)
        self.strip.set_row_width(0)
        self.show_file(next(iter(save.files)))

    def show_file(self, name: str) -> None:
        """Lay another file of the save on the strip."""
        save = self.session.save
        if save is None:
            return
        self._file = name
        file = save.files[name]
        self.files.setCurrentIndex(list(save.files).index(name))
        root = file.bound.root if file.bound is not None else None
        self.strip.show_source(file.source, lambda a, b: fields_between(root, a, b) if root is not None else ())
        self.band.show_parts(file.source.size, band_parts(file))
        size = f"{file.source.size:,}".replace(",", "\u202f")
        known = f"{explained_bytes(root) / max(file.source.size, 1):.0%} of " if root is not None else ""
        self.share.setText(f"{known}{size} bytes{' explained; hatched: not yet' if known else ''}")
        self.show_entries()

    def show_selection(self, selection: Selection) -> None:
        if selection.file != self._file:
            self.show_file(selection.file)
        self.strip.select(selection.start, selection.end)
        self.band.show_selection(selection.start, selection.end)
        self.outline.show_node(selection.node)

    def show_entries(self) -> None:
        """Mark the bytes that entries will change, and the new values in the outline."""
        save = self.session.save
        if save is None or not self._file:
            return
        spans = {}
        for entry in save.tape:
            if entry.node.file == self._file and len(entry.data) == entry.node.size:
                raw = entry.node.raw
                spans |= {
                    entry.node.start + i: entry.data[i : i + 1] for i in range(len(raw)) if raw[i] != entry.data[i]
                }
        self.strip.show_pending(spans)
        self.outline.viewport().update()

    def _point(self, offset: int) -> None:
        self.strip.scroll_to(offset)

    def _set_row_width(self) -> None:
        width = ROWS[self.rows.currentText()]
        if width >= 0:
            self.strip.set_row_width(width)
            return
        save, selection = self.session.save, self.session.selection
        bound = save.files[self._file].bound if save is not None else None
        repeat = None
        if bound is not None:
            repeat = record_at(bound.root, selection.start) if selection is not None else _first_array(bound.root)
            repeat = repeat or _first_array(bound.root)
        if repeat is None or not repeat.stride:
            self.rows.setCurrentIndex(0)
            self.strip.set_row_width(0)
            return
        self.strip.set_row_width(repeat.stride, repeat.start)
        self.strip.scroll_to(repeat.start)


def _first_array(root: Node) -> RepeatNode | None:
    stack: list[Node] = [root]
    while stack:
        node = stack.pop()
        if isinstance(node, RepeatNode) and node.stride and node.stride > 1 and node.count:
            return node
        if isinstance(node, GroupNode):
            stack += reversed(node.children)
    return None


def band_parts(file: SaveFile) -> list[BandPart]:
    """The runs of a file for its band; a repeat is one run."""
    parts: list[BandPart] = []
    stack: list[Node] = [file.bound.root] if file.bound is not None else []
    while stack and len(parts) < MOST_PARTS:
        node = stack.pop()
        if isinstance(node, GroupNode):
            stack += reversed(node.children)
        elif isinstance(node, RepeatNode):
            parts.append(BandPart(node.start, node.end, "proven", f"{node.title}: {node.count} records"))
        elif isinstance(node, FieldNode):
            kind = "seal" if node.spec.seal is not None else "unknown" if node.spec.unknown else "described"
            kind = "proven" if kind == "described" and node.spec.standing == "proven" else kind
            parts.append(BandPart(node.start, node.end, kind, node.title))
    return parts
