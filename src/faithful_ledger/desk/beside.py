"""Work on a save that takes long: it goes on beside the window, one piece at a time, and the save is busy meanwhile."""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple, TypeVar

from PySide6.QtCore import QObject, SignalInstance

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.source import WHOLE
from faithful_ledger.desk.background import Background

__all__ = ["AT_ONCE", "Beside", "Message"]

AT_ONCE = 1 << 20  # bytes of a save that is opened, planned or kept without leaving the handler
T = TypeVar("T")


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
        always: bool = False,
    ) -> bool:
        """Do something with so many bytes: few at once, and many beside the window.

        Work that looks at all running programs is `always` done beside it. Whether it is done, or was begun. Unless it
        was refused, `done` or `failed` is called.
        """
        if self.refuse():
            return False
        tell = failed or (lambda error: self._reported.emit(Message("broken", str(error))))
        if not always and (size <= AT_ONCE or size > WHOLE):  # of a very large file only a little is read
            try:
                value = work()
            except LedgerError as error:
                tell(error)
                return False
            done(value)
            return True
        self.busy = doing
        self._reported.emit(Message("open", f"{doing}…"))

        def finished(value: T | None, error: LedgerError | None) -> None:
            self.busy = ""
            self._reported.emit(None)
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
        """Let the work come to its end; nothing is reported any more."""
        self._thread.close()
