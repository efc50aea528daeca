"""What one seal covers, what it needs first, and what would break it, below the list of seals."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from faithful_ledger.core.seal_list import SealReport
from faithful_ledger.desk.session import Session
from faithful_ledger.desk.widgets.basics import button, column, label, row

__all__ = ["SealDetail"]

MOST_NAMED = 3


class SealDetail(QWidget):
    """Words about a seal, and links to the bytes it covers and to those it is stored in."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.session = session
        self.report: SealReport | None = None
        self.words = label("", wrap=True, selectable=True)
        self.covered = button("Show what it covers", self.show_covered, "link")
        self.stored = button("Show where it is stored", self.show_stored, "link")
        body = column(spacing=4)
        body.addWidget(self.words)
        body.addLayout(row(self.covered, self.stored, None))
        self.setLayout(body)
        self.setVisible(False)

    def show_report(self, report: SealReport | None) -> None:
        self.report = report
        self.setVisible(report is not None)
        if report is not None:
            self.words.setText("\n".join(_lines(report)))

    def show_covered(self) -> None:
        if self.report is not None:
            self.session.select(self.report.file, self.report.start, self.report.end)

    def show_stored(self) -> None:
        if self.report is not None:
            self.session.select_node(self.report.node)


def _lines(report: SealReport) -> list[str]:
    lines = [f"Covers {report.covered_in_words}."]
    if (seal := report.node.spec.seal) is not None and seal.algorithm.in_words != seal.algorithm.name:
        lines.append(f"Computed as {seal.algorithm.in_words}.")
    lines.append(f"A change in any of {report.broken_by_in_words} breaks it.")
    if not report.is_renewed:
        return [*lines, "It is left as it is when you post: the template says so."]
    names = ", ".join(state.label for state in report.after[:MOST_NAMED])
    more = f" and {len(report.after) - MOST_NAMED} more" if len(report.after) > MOST_NAMED else ""
    return [*lines, f"It is renewed when you post{f', after {names}{more}' if names else ''}."]
