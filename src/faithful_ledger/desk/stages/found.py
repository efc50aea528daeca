"""Files that may be saves, as Gather lists them: files of one game are one row that unfolds."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from pathlib import Path

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QTreeWidget, QTreeWidgetItem, QWidget

from faithful_ledger.core.find import Candidate, CandidateSet
from faithful_ledger.core.source import name_within
from faithful_ledger.desk.widgets.words import grouped

__all__ = ["FoundTree", "moment_text"]

HEAD = ("File", "Changed", "Bytes", "Content", "Why it is likely", "Folder")
WIDTHS = (180, 122, 64, 60, 246)
SIZE, WHY, FOLDER = 2, 4, 5
PATH = Qt.ItemDataRole.UserRole
RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter


class FoundTree(QTreeWidget):
    """Signal: `open_wanted(path)` for a file, or for a folder that is one save."""

    open_wanted = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setAccessibleName("Files that may be saves")
        self.setToolTip("Return or a double click opens the file; the arrow unfolds what is together with it")
        self.setHeaderLabels(list(HEAD))
        self.setUniformRowHeights(True)
        self.setIndentation(16)
        self.setAllColumnsShowFocus(True)
        self.setExpandsOnDoubleClick(False)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.header().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        self.header().setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        self.header().setStretchLastSection(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.headerItem().setTextAlignment(SIZE, Qt.AlignmentFlag.AlignRight)
        for place, width in enumerate(WIDTHS):
            self.setColumnWidth(place, width)
        self.itemActivated.connect(lambda item: self.open_wanted.emit(Path(item.data(0, PATH))))

    def show_sets(self, sets: list[CandidateSet], contents: Mapping[Path, str]) -> None:
        """Lay out what was found. What was unfolded before stays so."""
        unfolded = {item.data(0, PATH) for item in self.tops() if item.isExpanded()}
        self.clear()
        for found in sets:
            best = found.likeliest
            if len(found.files) == 1:
                self.addTopLevelItem(_row(best, best.path.name, contents))
                continue
            others = len(found.files) - 1
            top = _row(best, f"{best.path.name} and {others} more", contents)
            top.setText(FOLDER, _folder(found.folder))
            top.addChild(_whole(found))
            for file in found.files:
                top.addChild(_row(file, name_within(file.path, found.folder), contents))
            self.addTopLevelItem(top)
            top.setExpanded(str(best.path) in unfolded)

    def tops(self) -> list[QTreeWidgetItem]:
        """The rows that are not within another one."""
        return [item for n in range(self.topLevelItemCount()) if (item := self.topLevelItem(n)) is not None]


def moment_text(seconds: float) -> str:
    """A moment as tables show it, in the local time."""
    return datetime.fromtimestamp(seconds).strftime("%Y-%m-%d %H:%M:%S")


def _changed(seconds: float) -> str:
    """When a file was changed, in short."""
    moment = datetime.fromtimestamp(seconds)
    today = moment.date() == datetime.now().date()
    return moment.strftime("today %H:%M:%S" if today else "%Y-%m-%d %H:%M")


def _folder(path: Path) -> str:
    """The end of the way to a folder, which tells most."""
    return str(path) if len(path.parts) <= 3 else "…/" + "/".join(path.parts[-2:])


def _whole(found: CandidateSet) -> QTreeWidgetItem:
    """The row for all files of a set as one save."""
    size = grouped(sum(file.size for file in found.files))
    why = "the folder is opened and kept with all that is in it"
    item = QTreeWidgetItem([f"all {len(found.files)} as one save", "", size, "", why, _folder(found.folder)])
    item.setData(0, PATH, str(found.folder))
    item.setTextAlignment(SIZE, RIGHT)
    return item


def _row(candidate: Candidate, name: str, contents: Mapping[Path, str]) -> QTreeWidgetItem:
    why = "; ".join(candidate.reasons)
    texts = [name, _changed(candidate.modified), grouped(candidate.size), contents.get(candidate.path, ""), why]
    item = QTreeWidgetItem([*texts, _folder(candidate.path.parent)])
    item.setData(0, PATH, str(candidate.path))
    item.setTextAlignment(SIZE, RIGHT)
    for place, text in ((0, str(candidate.path)), (WHY, why), (FOLDER, str(candidate.path.parent))):
        item.setToolTip(place, text)
    return item
