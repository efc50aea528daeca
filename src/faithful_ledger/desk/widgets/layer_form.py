"""A layer named by hand: its kind, key, initial vector and offset; what it gives is laid on the strip."""

from __future__ import annotations

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from faithful_ledger.core.address import Expression
from faithful_ledger.core.errors import EntryError
from faithful_ledger.core.layers import CIPHERS, KEYED, STREAMS, SWAPPINGS, LayerSpec
from faithful_ledger.core.layers.ciphers import HAS_NO_IV
from faithful_ledger.core.storage import parse_whole
from faithful_ledger.core.storage.literals import bytes_typed
from faithful_ledger.desk.session import Session
from faithful_ledger.desk.widgets.basics import Chooser, button, column, row
from faithful_ledger.desk.widgets.new_element import captioned, line_of

__all__ = ["LayerForm"]


class LayerForm(QWidget):
    """Signal: `tried(payload)` when the layer could be undone."""

    tried = Signal(object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.file = ""
        self.kind = Chooser()
        self.kind.setAccessibleName("Kind of the layer")
        self.kind.addItems([*CIPHERS, *KEYED, *STREAMS, *SWAPPINGS])
        self.key = line_of('hexadecimal, or "text"', "Key of the layer")
        self.iv = line_of("the first bytes are it", "Initial vector of the layer")
        self.at = line_of("0", "Offset of the layer")
        self.key_line, self.iv_line = captioned("Key", self.key), captioned("IV", self.iv)
        self.at_line = captioned("From", self.at)
        lines = column(captioned("Layer", self.kind), self.key_line, self.iv_line, self.at_line, spacing=4)
        lines.addLayout(row(None, button("Undo it", self.undo_it)))
        self.setLayout(lines)
        self.kind.currentTextChanged.connect(lambda _: self._show_lines())
        self._show_lines()

    def _show_lines(self) -> None:
        kind = self.kind.currentText()
        self.key_line.setVisible(kind in CIPHERS or kind in KEYED)
        self.iv_line.setVisible(kind in CIPHERS and kind not in HAS_NO_IV)
        self.at_line.setVisible(kind in CIPHERS or kind in STREAMS)

    def layer(self) -> LayerSpec:
        """What was typed.

        Raises:
            LedgerError: it is not a key, or not an offset.
        """
        kind = self.kind.currentText()
        keyed = kind in CIPHERS or kind in KEYED
        if keyed and not self.key.text().strip():
            raise EntryError(f"{kind} needs its key", "type it in hexadecimal, or as a text in quotation marks")
        key = bytes_typed(self.key.text()) if keyed else None
        iv = b"" if kind in HAS_NO_IV else bytes_typed(self.iv.text()) if self.iv.text().strip() else None
        at = None
        if (kind in CIPHERS or kind in STREAMS) and self.at.text().strip():
            at = Expression(parse_whole(self.at.text()))
        return LayerSpec(kind, key, at=at, iv=iv)

    def undo_it(self) -> None:
        """Show what is inside, or say why it cannot be undone."""
        layer = self.session.attempt(self.layer)
        payload = self.session.describing.tried(self.file, layer) if layer is not None and self.file else None
        if payload is not None:
            self.tried.emit(payload)
