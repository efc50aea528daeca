"""Work on a save that takes long: it goes on beside the window, one piece at a time, and the save is busy meanwhile.

The banner says for how long; what only reads can be cancelled, and then nobody waits for it.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple, TypeVar

from PySide6.QtCore import QObject, QTimer, SignalInstance

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.source import WHOLE
from faithful_ledger.desk.background import Background

__all__ = ["AT_ONCE", "OPENED_AT_ONCE", "Beside", "Message", "is_short"]

AT_ONCE = 1 << 20  # bytes of a save that is planned or kept without leaving the handler
OPENED_AT_ONCE = 1 << 16  # bytes of one that is opened, unpacked: a tree of a megabyte takes seconds
T = TypeVar("T")


def is_short(size: int, at_once: int = AT_ONCE) -> bool:
    """Whether so many bytes are worked on in the handler: a few, or a very large file's, of which little is read."""
    return size <= at_once or size > WHOLE


class Message(NamedTuple):
    """Something to tell in the banner: `kind` is holds, open or broken; `action` and `act` offer a next step."""

    kind: str
    text: str
    action: str = ""
    act: Callable[[], object] | None = None


class Beside(QObject):
    """What opens or writes a save does not wait for a search: it has a thread of its own. `busy` says what goes on."""

    def __init__(self, reported: SignalInstance, parent: QObject) -> None:
        super().__init__(parent)
        self.busy = ""
        self._reported = reported
        self._thread = Background(self)
        self._asked, self._seconds = 0, 0
        self._cancel: Callable[[], object] | None = None
        self._clock = QTimer(self)
        self._clock.setInterval(1000)
        self._clock.timeout.connect(self._tick)

    def _tick(self) -> None:
        self._seconds += 1
        self._say()

    def _say(self) -> None:
        passed = f" {self._seconds} s" if self._seconds else ""
        action = "Cancel" if self._cancel is not None else ""
        self._reported.emit(Message("open", f"{self.busy}…{passed}", action, self._cancel))

    def _over(self) -> None:
        """All work is done: nothing is reported as going on."""
        self.busy, self._cancel = "", None
        self._clock.stop()
        self._reported.emit(None)

    def refuse(self) -> bool:
        """Whether nothing can be done with the save just now; then the banner says why."""
        if self.busy:
            self._reported.emit(Message("open", f"{self.busy}; wait until that is done"))
        return bool(self.busy)

    def run(
        self,
        size: int,
        doing: str,
        work: Callable[[], T],
        done: Callable[[T], object],
        failed: Callable[[LedgerError], object] | None = None,
        *,
        at_once: int = AT_ONCE,
        always: bool = False,
        dropped: Callable[[T], object] | None = None,
    ) -> bool:
        """Do something with so many bytes: up to `at_once` of them in the handler, and more beside the window.

        Work that looks at all running programs is `always` done beside it. Whether it is done, or was begun. Unless it
        was refused, `done` or `failed` is called; or, where work can be cancelled, `dropped` with what comes too late.
        """
        if self.refuse():
            return False
        tell = failed or (lambda error: self._reported.emit(Message("broken", str(error))))
        if not always and is_short(size, at_once):
            try:
                value = work()
            except LedgerError as error:
                tell(error)
                return False
            done(value)
            return True
        self._asked += 1
        asked, self.busy, self._seconds = self._asked, doing, 0

        def cancel() -> None:
            if asked == self._asked and self.busy:
                self._asked += 1
                self._over()

        self._cancel = cancel if dropped is not None else None
        self._say()
        self._clock.start()

        def finished(value: T | None, error: LedgerError | None) -> None:
            if asked != self._asked:
                if error is None and dropped is not None:
                    dropped(value)  # type: ignore[arg-type]
                return
            self._over()
            if error is not None:
                tell(error)
            else:
                done(value)  # type: ignore[arg-type]

        self._thread.run(work, finished)
        return True

    def wait(self) -> None:
        """Until the work is done; its result still arrives through the event loop."""
        self._thread.wait()

    def close(self) -> None:
        """Let the work come to its end; nothing more is reported."""
        self._thread.close()
