"""Starting the window."""

from __future__ import annotations

import sys
from pathlib import Path

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QApplication

from faithful_ledger.core.shelf import Shelf
from faithful_ledger.desk.session import Message, Session
from faithful_ledger.desk.shell import Shell
from faithful_ledger.desk.theme import apply_sheet, apply_theme

__all__ = ["application", "make_shell", "run", "tell_unexpected"]


# Seconds a thread may keep the interpreter while the window waits for it; Python's own 5 ms, at every call into Qt,
# would hold a frame up while something is searched.
SWITCH = 0.0002
AFTER_SHOWN = 150  # milliseconds after which what else will be needed is loaded


def application() -> QApplication:
    """The one application of this process, with its theme; made where there is none yet."""
    present = QApplication.instance()
    if isinstance(present, QApplication):
        return present
    sys.setswitchinterval(SWITCH)
    made = QApplication(sys.argv[:1])
    made.setApplicationName("Faithful Ledger")
    made.setDesktopFileName("faithful-ledger")
    hints = made.styleHints()
    apply_theme(made, dark=hints.colorScheme() == Qt.ColorScheme.Dark)
    hints.colorSchemeChanged.connect(lambda scheme: _apply_again(made, scheme))
    return made


def _apply_again(running: QApplication, scheme: Qt.ColorScheme) -> None:
    apply_theme(running, dark=scheme == Qt.ColorScheme.Dark)
    apply_sheet(running)


def make_shell(shelf: Shelf | None = None) -> Shell:
    """A window without a save; `application` was called before."""
    shell = Shell(Session(shelf or Shelf()))
    apply_sheet(application())
    return shell


def tell_unexpected(shell: Shell, error: BaseException) -> None:
    """A mistake of ours: the window stays, the tape stays, and the banner says where the details are."""
    import traceback

    path = shell.session.shelf.cache / "unexpected.log"
    details = "".join(traceback.format_exception(error))
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(details, "utf-8")
    except OSError:
        sys.stderr.write(details)
    text = f"Something went wrong in the program itself ({type(error).__name__}). No save was changed; see {path}"
    shell.session.reported.emit(Message("broken", text))


def run(file: str | None, template: str | None = None, book: str | None = None) -> int:
    """Open the window, with a save where one is named, until it is closed. Returns the exit status."""
    running = application()
    shell = make_shell()
    sys.excepthook = lambda kind, error, trace: tell_unexpected(shell, error)
    if file is None or not shell.session.open(Path(file), template, book):
        shell.welcome.show_recent()
    shell.show()
    QTimer.singleShot(AFTER_SHOWN, shell.warming.begin)
    return running.exec()
