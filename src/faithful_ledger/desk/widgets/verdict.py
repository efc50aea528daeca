"""What the game made of a posting, as the player says it."""

from __future__ import annotations

from functools import partial

from PySide6.QtWidgets import QWidget

from faithful_ledger.core.records import Posting
from faithful_ledger.desk.session import Session
from faithful_ledger.desk.theme import HOLDS
from faithful_ledger.desk.widgets.basics import button, clear, label, row

__all__ = ["Verdict"]


class Verdict(QWidget):
    """The question, and a link for each answer; the one that was given is marked."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.posting: Posting | None = None
        self.line = row(spacing=10)
        self.setLayout(self.line)

    def show_posting(self, posting: Posting, verdict: str) -> None:
        self.posting = posting
        clear(self.line)
        self.line.addWidget(label("The game:" if verdict else "What did the game make of it?", "quiet"))
        for name in ("accepted", "refused", "odd"):
            words = f"{HOLDS} {name}" if verdict == name else name
            self.line.addWidget(button(words, partial(self.judge, name), "link"))
        self.line.addStretch(1)

    def judge(self, verdict: str) -> None:
        if self.posting is not None:
            self.session.evidence.judge(self.posting, verdict)
