"""Work beside the window: it runs in threads, and its results come back in the window's own."""

from __future__ import annotations

import sys
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QRunnable, Qt, QThreadPool, Signal

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.find import watch

__all__ = ["Background", "Watcher"]

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
        except Exception as error:  # a mistake of ours, or no memory left: whoever waits for this must not wait on
            sys.excepthook(type(error), error, error.__traceback__)
            failed = LedgerError(
                f"Something went wrong in the program itself ({type(error).__name__})", "open it again"
            )
        self.owner.finished.emit(self, value, failed)


class Background(QObject):
    """Runs work one piece after the other, so that two plans never read the same save at once."""

    finished = Signal(object, object, object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._pool = QThreadPool(self)
        self._pool.setMaxThreadCount(1)
        self._jobs: set[_Job] = set()
        self._closed = False
        self.finished.connect(self._finish, Qt.ConnectionType.QueuedConnection)

    def run(self, work: Callable[[], Any], done: Done) -> None:
        """`done(value, None)` or `done(None, error)` is called in the window's thread."""
        job = _Job(self, work, done)
        self._jobs.add(job)
        self._pool.start(job)

    def wait(self) -> None:
        """Until all work is done; the results still arrive through the event loop."""
        self._pool.waitForDone()

    def close(self) -> None:
        """Let all work come to its end; nothing more is reported."""
        self._closed = True
        self._pool.waitForDone()

    def _finish(self, job: _Job, value: Any, error: LedgerError | None) -> None:
        self._jobs.discard(job)
        if not self._closed:
            job.done(value, error)


class Watcher(QObject):
    """Watches folders in a thread of its own. Signals: `moment(SaveMoment)`, `failed(LedgerError)`."""

    moment = Signal(object)
    failed = Signal(object)

    def __init__(self, parent: QObject | None = None) -> None:
        super().__init__(parent)
        self._stop = threading.Event()
        self._thread: threading.Thread | None = None
        self._ready = threading.Event()

    @property
    def ready(self) -> bool:
        """Whether it has begun: writes from now on are seen."""
        return self._ready.is_set()

    @property
    def running(self) -> bool:
        return self._thread is not None and self._thread.is_alive()

    def start(self, folders: list[Path]) -> None:
        """Begin to watch; what was watched before is let go."""
        self.stop()
        self._stop, self._ready = threading.Event(), threading.Event()
        self._thread = threading.Thread(target=self._run, args=(folders, self._stop, self._ready), daemon=True)
        self._thread.start()

    def stop(self) -> None:
        self._stop.set()
        if self._thread is not None:
            self._thread.join()
            self._thread = None

    def _run(self, folders: list[Path], stop: threading.Event, ready: threading.Event) -> None:
        def asked() -> bool:
            ready.set()
            return stop.is_set()

        try:
            for moment in watch(folders, asked):
                self.moment.emit(moment)
        except LedgerError as error:
            self.failed.emit(error)
