"""The plan of a carry that moves files: what happens to each, which values change, what is left out."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QWidget

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.desk.theme import BROKEN, HOLDS, OPEN
from faithful_ledger.desk.widgets.basics import button, column, label, restyle, row, swap
from faithful_ledger.desk.widgets.tables import plain_table

if TYPE_CHECKING:
    from faithful_ledger.core.carry import Carry
    from faithful_ledger.core.posting import Check

__all__ = ["CarryPlan"]

LEAST_ROWS, MOST_ROWS = 3, 9
QWIDGETSIZE_MAX = (1 << 24) - 1  # of Qt, which does not export it to Python
HEAD = ("File", "What happens", "Was", "Becomes", "Because of")


class CarryPlan(QWidget):
    """Signal: `wanted` when the carry is to be written; `checked(lines)` for the margin when a plan is shown."""

    wanted = Signal()
    checked = Signal(object)

    def __init__(self, *, with_left: bool = True) -> None:
        super().__init__()
        self.with_left = with_left
        self.carry: Carry | None = None
        self.summary = label("", "heading", wrap=True)
        self.why = label("", "quiet", wrap=True)
        self.table = plain_table(HEAD, [], "Plan", ())
        self.left_title = label("Left out", "heading")
        self.left = plain_table((), [], "Left out", ())
        self.button = button("Carry it", self.wanted.emit, "main")
        head = row(self.summary, self.button)
        head.setStretchFactor(self.summary, 1)
        self.body = column(spacing=6)
        self.body.addLayout(head)
        for widget in (self.why, self.table, self.left_title, self.left):
            self.body.addWidget(widget)
        self.setLayout(self.body)
        self.show_words("")

    def show_words(self, text: str, role: str = "quiet") -> None:
        """No plan, and why."""
        self.carry = None
        self.summary.hide()
        for widget in (self.table, self.left_title, self.left, self.button):
            widget.hide()
        self.why.setText(text)
        restyle(self.why, role)
        self.why.setVisible(bool(text))
        self.setMaximumHeight(60)
        self.checked.emit([])

    def show_plan(self, carry: Carry | None, checks: list[Check], error: LedgerError | None) -> None:
        """A plan, and what stands in its way; or why there is none."""
        if carry is None:
            self.show_words(f"{BROKEN} {error}" if error is not None else "", "broken")
            return
        self.carry = carry
        failed = [check for check in checks if not check.ok]
        self.summary.setText(f"{carry.about[:1].upper()}{carry.about[1:]}.")
        self.summary.show()
        warnings = [finding.message for finding in carry.findings if finding.level == "warning"]
        words = [f"{BROKEN} {check.text}; {check.remedy}" for check in failed] + [f"{OPEN} {text}" for text in warnings]
        words = words or [f"{HOLDS} Everything it writes over is kept first; it is written as a whole or not at all."]
        self.why.setText("\n".join(words))
        restyle(self.why, "broken" if failed else "open" if warnings else "holds")
        self.why.show()
        rows = [
            (write.path.name, write.in_word, _size(write.old), _size(write.new), write.cause) for write in carry.writes
        ]
        rows += [(line.file, line.label or line.path, line.old, line.new, line.path) for line in carry.lines]
        self.table = swap(self.body, self.table, plain_table(HEAD, rows, "Plan", (150, 150, 130, 130)))
        self.table.setMinimumHeight(34 + 26 * 2)
        self.table.setMaximumHeight(34 + 26 * min(max(len(rows), LEAST_ROWS), MOST_ROWS))
        left = [(each.path, each.why) for each in carry.left_out]
        self.left = swap(self.body, self.left, plain_table(("What", "Why"), left, "Left out", (260,)))
        self.left.setMaximumHeight(34 + 26 * min(max(len(left), 1), 5))
        for widget in (self.left_title, self.left):
            widget.setVisible(bool(left) and self.with_left)
        self.setMaximumHeight(QWIDGETSIZE_MAX)
        self.button.setEnabled(not failed)
        self.button.show()
        self.checked.emit(_lines(carry, checks))


def _size(source: object) -> str:
    size = getattr(source, "size", None)
    return f"{size} bytes" if size is not None else "–"


def _lines(carry: Carry, checks: list[Check]) -> list[tuple[str, str, str]]:
    """What the margin says before a carry."""
    lines = [("open", OPEN, f"{step}") for step in carry.steps.before]
    lines += [("broken", BROKEN, f"{check.text}; {check.remedy}") for check in checks if not check.ok]
    if len(lines) == len(carry.steps.before):
        count = len(carry.writes)
        files = "the file" if count == 1 else f"all {count} files"
        lines.append(("holds", HOLDS, f"no program holds one of them open, {files} may be written, and there is room"))
    lines += [("open", OPEN, f"Afterwards: {step}") for step in carry.steps.after]
    return [*lines, *(("", "", f"The game should show: {title} {value}") for title, value in carry.look_for)]
