"""The template's outline with live values. Flat groups without a label leave no level of their own.

What a group or rows have is added as somebody scrolls down to it, so a million records cost what is looked at.
"""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import QAbstractItemModel, QModelIndex, QPersistentModelIndex, Qt, Signal
from PySide6.QtGui import QContextMenuEvent, QKeyEvent, QResizeEvent
from PySide6.QtWidgets import QAbstractItemView, QHeaderView, QMenu, QTreeView, QWidget

from faithful_ledger.core.binding import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.rules.audit import field_findings
from faithful_ledger.core.save import Save
from faithful_ledger.core.storage.lettering import visible
from faithful_ledger.desk.theme import BROKEN, HOLDS, OPEN, colours, mono, sans

__all__ = ["Outline", "OutlineModel"]

Index = QModelIndex | QPersistentModelIndex
PAGE = 100
PLAIN = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
EDITABLE = PLAIN | Qt.ItemFlag.ItemIsEditable
NARROW = 300  # pixels
HEAD = ("Field", "Now", "Stored as")


class _Item:
    __slots__ = ("children", "node", "parent", "row", "shown")

    def __init__(self, node: Node, parent: _Item | None, row: int) -> None:
        self.node, self.parent, self.row = node, parent, row
        self.shown = 0
        self.children: list[_Item | None] | None = None


class OutlineModel(QAbstractItemModel):
    """Signal: `renamed(node, name)` when another name was typed."""

    renamed = Signal(object, str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._save: Save | None = None
        self._tops: list[_Item] = []

    def show_save(self, save: Save | None) -> None:
        self.beginResetModel()
        self._save = save
        roots = [file.bound.root for file in save.files.values() if file.bound is not None] if save is not None else []
        self._tops = [_Item(root, None, row) for row, root in enumerate(roots)]
        self.endResetModel()

    def index_of(self, node: Node) -> QModelIndex:
        """The index of a node, its parents loaded on the way."""
        chain: list[Node] = []
        holder: Node | None = node
        while holder is not None:
            chain.append(holder)
            holder = holder.parent
        level = self._tops
        item: _Item | None = None
        for wanted in reversed(chain):
            if item is not None:
                if _is_hidden(wanted):
                    continue
                found = self._child_for(item, wanted)
            else:
                found = next((top for top in level if top.node is wanted), None)
            if found is None:
                break
            item = found
        return self.createIndex(item.row, 0, item) if item is not None else QModelIndex()

    def _child_for(self, item: _Item, wanted: Node) -> _Item | None:
        if isinstance(item.node, RowsNode):
            number = wanted.index
            if number is None:
                return None
            if number >= len(self._children(item)):
                return None
            self._show_up_to(item, number)
            return self._child(item, number)
        for child in self._children(item):
            if child and child.node.spec is wanted.spec and child.node.start == wanted.start:
                self._show_up_to(item, child.row)
                return child
        return None

    def _show_up_to(self, item: _Item, row: int) -> None:
        if row >= item.shown:
            self.beginInsertRows(self.createIndex(item.row, 0, item), item.shown, row)
            item.shown = row + 1
            self.endInsertRows()

    def _children(self, item: _Item) -> list[_Item | None]:
        if item.children is None:
            node = item.node
            if isinstance(node, RowsNode):
                item.children = [None] * node.count
                item.shown = min(node.count, PAGE)
            elif isinstance(node, GroupNode):
                item.children = [_Item(child, item, row) for row, child in enumerate(_shown_children(node))]
                item.shown = min(len(item.children), PAGE)
            else:
                item.children = []
        return item.children

    def _child(self, item: _Item, row: int) -> _Item:
        children = self._children(item)
        child = children[row]
        if child is None:
            assert isinstance(item.node, RowsNode)
            child = children[row] = _Item(item.node.item(row), item, row)
        return child

    # QAbstractItemModel

    def index(self, row: int, column: int, parent: Index = QModelIndex()) -> QModelIndex:  # noqa: B008
        if not parent.isValid():
            return self.createIndex(row, column, self._tops[row]) if row < len(self._tops) else QModelIndex()
        return self.createIndex(row, column, self._child(parent.internalPointer(), row))

    def parent(self, index: Index) -> QModelIndex:  # type: ignore[override]
        holder = index.internalPointer().parent if index.isValid() else None
        return self.createIndex(holder.row, 0, holder) if holder is not None else QModelIndex()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        if not parent.isValid():
            return len(self._tops)
        if parent.column() > 0:
            return 0
        item = parent.internalPointer()
        self._children(item)
        return int(item.shown)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return len(HEAD)

    def hasChildren(self, parent: Index = QModelIndex()) -> bool:  # noqa: B008
        if not parent.isValid():
            return bool(self._tops)
        node = parent.internalPointer().node
        return parent.column() == 0 and (
            bool(node.count) if isinstance(node, RowsNode) else isinstance(node, GroupNode)
        )

    def canFetchMore(self, parent: Index) -> bool:
        return parent.isValid() and parent.internalPointer().shown < len(self._children(parent.internalPointer()))

    def fetchMore(self, parent: Index) -> None:
        item = parent.internalPointer()
        self._show_up_to(item, min(item.shown + PAGE, len(self._children(item))) - 1)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role == Qt.ItemDataRole.DisplayRole and orientation == Qt.Orientation.Horizontal:
            return HEAD[section]
        return None

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        node: Node = index.internalPointer().node
        column = index.column()
        if role == Qt.ItemDataRole.EditRole:
            return node.spec.name
        if role == Qt.ItemDataRole.DisplayRole:
            return (self._name, self._value, self._stored)[column](node)
        if role == Qt.ItemDataRole.ToolTipRole:
            return f"{node.path}\n{node.spec.note}".strip()
        if role == Qt.ItemDataRole.ForegroundRole:
            entered = isinstance(node, FieldNode) and self._save is not None and self._save.tape.get(node.path)
            wrong = column < 2 and isinstance(node, FieldNode) and _standing(node, self._save) == BROKEN
            return colours()["open" if entered else "broken" if wrong else "quiet" if column == 2 else "ink"]
        if role == Qt.ItemDataRole.FontRole:
            return mono(12) if column == 1 and isinstance(node, FieldNode) else sans(13 if column == 0 else 12)
        return None

    def has_name(self, node: Node | None) -> bool:
        """Whether an element can be renamed in the template, or removed from it."""
        if node is None or node.parent is None or node.index is not None or self._save is None:
            return False
        file = self._save.files.get(node.file)
        return self._save.template is not None and file is not None and file.bound is not None

    def flags(self, index: Index) -> Qt.ItemFlag:
        if not index.isValid():
            return Qt.ItemFlag.NoItemFlags
        return EDITABLE if index.column() == 0 and self.has_name(self.node(index)) else PLAIN

    def setData(self, index: Index, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        node, name = self.node(index), str(value).strip()
        if node is not None and name and name != node.spec.name:
            self.renamed.emit(node, name)
        return False  # the outline is laid out anew with the template

    def node(self, index: Index) -> Node | None:
        return index.internalPointer().node if index.isValid() else None

    def _name(self, node: Node) -> str:
        if node.index is not None:
            return f"[{node.index}] {_key_text(node, self._save)}".rstrip()
        if node.parent is None and self._save is not None:
            held = next((f for f in self._save.files.values() if f.bound and f.bound.root is node), None)
            return node.file if held is None or held.inside else self._save.name_of(held)
        if not isinstance(node, FieldNode):
            return node.title
        return f"{_standing(node, self._save)} {node.spec.name}"

    def _value(self, node: Node) -> str:
        if isinstance(node, RowsNode):
            return f"{node.count} records" if node.count != 1 else "1 record"
        if not isinstance(node, FieldNode) or self._save is None:
            return ""
        try:
            return visible(node.spec.storage.to_text(self._save.value(node))) or "–"
        except LedgerError:
            return f"{BROKEN} cannot be read"

    def _stored(self, node: Node) -> str:
        if not isinstance(node, FieldNode):
            return f"{node.size} bytes"
        spec = node.spec
        if spec.seal is not None:
            return f"{spec.storage.name} · {spec.seal.algorithm.name}"
        if spec.derived is not None:
            return f"{spec.storage.name} · {spec.derived.kind}"
        return spec.storage.name if not spec.unknown else f"{node.size} bytes"


def _shown_children(node: GroupNode) -> list[Node]:
    shown: list[Node] = []
    for child in node.children:
        if _is_hidden(child) and isinstance(child, GroupNode):
            shown += _shown_children(child)
        else:
            shown.append(child)
    return shown


def _is_hidden(node: Node) -> bool:
    return isinstance(node, GroupNode) and node.spec.flat and not node.spec.label and node.parent is not None


def _key_text(node: Node, save: Save | None) -> str:
    key = node.key_field if isinstance(node, GroupNode) else None
    return save.text(key) if key is not None and save is not None else ""


def _standing(node: FieldNode, save: Save | None) -> str:
    if node.spec.seal is not None and save is not None and any(s.name == node.path and not s.holds for s in save.seals):
        return BROKEN
    if any(finding.level != "note" for finding in field_findings(node)):
        return BROKEN
    return HOLDS if node.spec.standing == "proven" else OPEN


class Outline(QTreeView):
    """Signals: `chosen(node)` when the user selects an element; `renamed(node, name)`, `removed(node)` and
    `ungrouped(node)` when it is to be changed in the template.
    """

    chosen = Signal(object)
    renamed = Signal(object, str)
    removed = Signal(object)
    ungrouped = Signal(object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.outline = OutlineModel(self)
        self.setModel(self.outline)
        self.outline.renamed.connect(self.renamed)
        self.setUniformRowHeights(True)
        self.setIndentation(13)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.setEditTriggers(QAbstractItemView.EditTrigger.EditKeyPressed)
        self.setAccessibleName("Template")
        self.setAllColumnsShowFocus(True)
        self.header().setStretchLastSection(False)
        self.header().setDefaultAlignment(Qt.AlignmentFlag.AlignLeft)
        self.setTextElideMode(Qt.TextElideMode.ElideRight)
        self._quiet = False
        self.selectionModel().currentChanged.connect(self._current_changed)

    def show_save(self, save: Save | None) -> None:
        self.outline.show_save(save)
        self.header().setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        self.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.setColumnWidth(1, 100)
        self.setColumnWidth(2, 82)
        first = self.outline.index(0, 0)
        self.expand(first)
        for row in range(self.outline.rowCount(first)):
            child = self.outline.index(row, 0, first)
            node = self.outline.node(child)
            if isinstance(node, GroupNode) and len(node.children) <= 8 and not node.spec.flat:
                self.expand(child)
        if self.outline.rowCount() > 1:
            self.expand(self.outline.index(1, 0))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self.setColumnHidden(2, event.size().width() < NARROW)  # names and values are needed more

    def keyPressEvent(self, event: QKeyEvent) -> None:
        node = self.outline.node(self.currentIndex())
        if event.key() == Qt.Key.Key_Delete and self.outline.has_name(node):
            self.removed.emit(node)
        else:
            super().keyPressEvent(event)

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        index = self.indexAt(event.pos())
        node = self.outline.node(index)
        if not self.outline.has_name(node):
            return
        menu = QMenu(self)
        menu.addAction("Rename\tF2", lambda: self.edit(index.siblingAtColumn(0)))
        menu.addAction("Remove from the template\tDel", lambda: self.removed.emit(node))
        if isinstance(node, GroupNode) and node.spec.word is None:
            menu.addAction("Ungroup", lambda: self.ungrouped.emit(node))
        menu.popup(event.globalPos())

    def show_node(self, node: Node | None) -> None:
        """Select a node without telling so."""
        self._quiet = True
        try:
            index = self.outline.index_of(node) if node is not None else QModelIndex()
            self.setCurrentIndex(index)
            if index.isValid():
                self.scrollTo(index)
        finally:
            self._quiet = False

    def _current_changed(self, present: QModelIndex, before: QModelIndex) -> None:
        node = self.outline.node(present)
        if node is not None and not self._quiet:
            self.chosen.emit(node)
