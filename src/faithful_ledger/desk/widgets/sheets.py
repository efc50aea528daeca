"""Pages of which one is shown."""

from __future__ import annotations

from PySide6.QtWidgets import QStackedWidget

__all__ = ["Sheets"]


class Sheets(QStackedWidget):
    """Takes the height that is left: asked for one that suits a width, every page would be laid out, hidden ones too,
    hundreds of times for one change of the window.
    """

    def hasHeightForWidth(self) -> bool:
        return False
