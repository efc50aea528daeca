"""What the first use of each stage would wait for, loaded in quiet moments after the window is there.

Imports go on in a thread; then one stage after the other is built while nothing else waits for the window. Whoever is
faster than this only waits as he would have without it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from importlib import import_module

from PySide6.QtCore import QObject, QTimer

from faithful_ledger.core.shelf import Shelf
from faithful_ledger.desk.background import Background

__all__ = ["Warming"]

MODULES = (
    "numpy",
    "faithful_ledger.core.book",
    "faithful_ledger.core.storage.readings",
    "faithful_ledger.core.goto",
    "faithful_ledger.core.profile",
    "faithful_ledger.core.search",
    "faithful_ledger.core.compare",
    "faithful_ledger.core.evidence",
    "faithful_ledger.core.pinned",
    "faithful_ledger.core.carry",
    "faithful_ledger.core.carried",
    "faithful_ledger.core.wrapping",
    "faithful_ledger.core.template.extend",
    "ruamel.yaml",
    "pydantic",
    "psutil",
    "html",
    "encodings.utf_16_le",
    "encodings.latin_1",
    "faithful_ledger.desk.stages.history",
    "faithful_ledger.desk.stages.edit",
    "faithful_ledger.desk.stages.describe",
    "faithful_ledger.desk.stages.gather",
    "faithful_ledger.desk.stages.locate",
    "faithful_ledger.desk.stages.carry",
    "faithful_ledger.desk.stages.compare",
    "faithful_ledger.desk.stages.posting",
)
PAUSE = 40  # milliseconds between two stages, so that a click comes through


class Warming(QObject):
    """Loads modules and templates, then calls each of `builders`, one at a time. `done` says that it is over."""

    def __init__(self, shelf: Shelf, builders: Iterable[Callable[[], object]], parent: QObject) -> None:
        super().__init__(parent)
        self._shelf, self._builders = shelf, list(builders)
        self._thread = Background(self)
        self.done = False

    def begin(self) -> None:
        self._thread.run(self._load, lambda *_: self._next())

    def close(self) -> None:
        """Stop: nothing more is built."""
        self._builders.clear()
        self._thread.close()

    def _next(self) -> None:
        if not self._builders:
            self.done = True
            return
        self._builders.pop(0)()
        QTimer.singleShot(PAUSE, self._next)

    def _load(self) -> None:
        for name in MODULES:
            import_module(name)
        self._shelf.library().templates()
