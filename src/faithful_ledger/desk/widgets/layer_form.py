"""A layer named by hand: its kind, key, initial vector and offset, or a key alone of which nobody knows how it is used;
what it gives is laid on the strip.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QLineEdit, QWidget

from faithful_ledger.core.address import Expression
from faithful_ledger.core.errors import EntryError, LedgerError
from faithful_ledger.core.layers import ARRANGEMENTS, CIPHERS, KEYED, STREAMS, LayerSpec
from faithful_ledger.core.layers.ciphers import HAS_NO_IV
from faithful_ledger.core.storage import parse_whole
from faithful_ledger.core.storage.literals import bytes_typed
from faithful_ledger.core.unlocking import Keys
from faithful_ledger.desk.beside import Message
from faithful_ledger.desk.session import Session
from faithful_ledger.desk.widgets.basics import Chooser, button, column, row
from faithful_ledger.desk.widgets.new_element import captioned, line_of

if TYPE_CHECKING:
    from faithful_ledger.core.inside import Payload

__all__ = ["LayerForm"]


LARGEST = 64 << 20  # bytes of a file
BY_KEY = "whatever a key opens"
IF_KNOWN = "if it is known and not in the save"
OPENS_NOTHING = (
    "The key opens nothing here in a way that is known; nothing was changed. Its salt or initial vector may be missing."
)


class LayerForm(QWidget):
    """Signal: `tried(payloads)` when the layer could be undone; the innermost of several is the last."""

    tried = Signal(object)

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.file = ""
        self.kind = Chooser()
        self.kind.setAccessibleName("Kind of the layer")
        self.kind.addItems([BY_KEY, *CIPHERS, *KEYED, *STREAMS, *ARRANGEMENTS])
        self.key = line_of('hexadecimal, or "text"', "Key of the layer")
        self.salt = line_of(IF_KNOWN, "Salt of the password")
        self.iv = line_of("the first bytes are it", "Initial vector of the layer")
        self.at = line_of("0", "Offset of the layer")
        self.key_line, self.iv_line = captioned("Key", self.key), captioned("IV", self.iv)
        self.salt_line = captioned("Salt", self.salt)
        self.at_line = captioned("From", self.at)
        self.act = button("Undo it", self.undo_it)
        parts = captioned("Layer", self.kind), self.key_line, self.salt_line, self.iv_line, self.at_line
        lines = column(*parts, spacing=4)
        lines.addLayout(row(None, self.act))
        self.setLayout(lines)
        self.kind.currentTextChanged.connect(lambda _: self._show_lines())
        self._show_lines()

    def _show_lines(self) -> None:
        kind = self.kind.currentText()
        self.key_line.setVisible(kind == BY_KEY or kind in CIPHERS or kind in KEYED)
        self.key.setPlaceholderText("key or password" if kind == BY_KEY else 'hexadecimal, or "text"')
        self.salt_line.setVisible(kind == BY_KEY)
        self.iv_line.setVisible(kind == BY_KEY or (kind in CIPHERS and kind not in HAS_NO_IV))
        self.iv.setPlaceholderText(IF_KNOWN if kind == BY_KEY else "the first bytes are it")
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
        if self.kind.currentText() == BY_KEY:
            self._find()
            return
        layer = self.session.attempt(self.layer)
        payload = self.session.describing.tried(self.file, layer) if layer is not None and self.file else None
        if payload is not None:
            self.tried.emit([payload])

    def keys(self) -> Keys:
        """The key that was typed, of which nobody knows how it is used.

        Raises:
            LedgerError: there is none.
        """
        secret, salt, vector = map(_as_written, (self.key, self.salt, self.iv))
        if not secret:
            raise EntryError("nothing can be opened without a key", "type it as text or in hexadecimal")
        return Keys((), secret, salt, vector)

    def _find(self) -> None:
        """Try every usual way of using the key beside the window."""
        keys = self.session.attempt(self.keys)
        if keys is None or not self.file:
            return
        source, file = self.session.sources.of(self.file), self.file
        self.act.setEnabled(False)
        self.act.setText("Trying…")

        def work() -> list[Payload]:
            from faithful_ledger.core.inside import payloads_inside

            found = payloads_inside(bytes(source.read(0, min(source.size, LARGEST))), keys=keys)
            return [each for each in found if any(layer.has_key for layer in each.layers)]

        def done(found: list[Payload] | None, error: LedgerError | None) -> None:
            self.act.setEnabled(True)
            self.act.setText("Undo it")
            if self.file != file:
                return
            if error is not None:
                self.session.reported.emit(Message("broken", str(error)))
            elif not found:
                self.session.reported.emit(Message("broken", OPENS_NOTHING))
            else:
                self.tried.emit(found)

        self.session.looking.run(work, done)


def _as_written(line: QLineEdit) -> bytes:
    """What was typed, without quotation marks around it; what it spells is found out with the rest."""
    typed = line.text().strip()
    is_quoted = len(typed) > 1 and typed[0] == typed[-1] == '"'
    return bytes_typed(typed) if is_quoted else typed.encode()
