"""Long work beside the window: a callable runs in a thread, its result comes back in the window's own."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PySide6.QtCore import QObject, QRunnable, Qt, QThreadPool, Signal

from faithful_ledger.core.errors import LedgerError

__all__ = ["Background"]

Done = Callable[[Any, LedgerError | None], None]


class _Job(QRunnable):
    def __init__(self, owner: Background, work: Callable[[], Any], done: Done) -> None:
        super().__init__()
        self.setAutoDelete(False)
        self.owner, self.work, self.done = owner, work, done

    def run(self) -> None:
        value, failed = None, None
        try:
            value = self.work()
        except LedgerError as error:
            failed = error
        self.owner.finished.emit(self, value, failed)


class Background(QObject):
    """Runs work one piece after the other, so that two plans never read the same save at once."""

    finished = Signal(object, object, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = QThreadPool(self)
        self._pool.setMaxThreadCount(1)
        self._jobs: set[_Job] = set()
        self.finished.connect(self._finish, Qt.ConnectionType.QueuedConnection)

    def run(self, work: Callable[[], Any], done: Done) -> None:
        """`done(value, None)` or `done(None, error)` is called in the window's thread."""
        job = _Job(self, work, done)
        self._jobs.add(job)
        self._pool.start(job)

    def wait(self) -> None:
        """Until all work is done; the results still arrive through the event loop."""
        self._pool.waitForDone()

    def _finish(self, job: _Job, value: Any, error: LedgerError | None) -> None:
        self._jobs.discard(job)
        job.done(value, error)
