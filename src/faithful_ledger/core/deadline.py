"""How long a search may take. It is asked between steps, and what was found until then is kept."""

from __future__ import annotations

import signal
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

__all__ = ["NEVER", "Deadline"]


class Deadline:
    """Over once so many seconds have passed since it was made, or it was cancelled; with None only then. With the clock
    `thread_time` or `process_time` it counts what its thread, or all of them, work, so that what is found does not
    depend on what else is running.
    """

    def __init__(self, seconds: float | None, clock: Callable[[], float] = time.monotonic) -> None:
        self.seconds, self.clock = seconds, clock
        self._cancelled = threading.Event()
        self.begin()

    def begin(self) -> None:
        """Count from now: what waited for its turn has all its time."""
        self._end = self.clock() + self.seconds if self.seconds is not None else None

    @property
    def over(self) -> bool:
        return self._cancelled.is_set() or (self._end is not None and self.clock() >= self._end)

    @property
    def cancelled(self) -> bool:
        """Whether somebody no longer waits."""
        return self._cancelled.is_set()

    def share(self, of: int) -> Deadline:
        """One that is over with this one, and after one of so many parts of the time that is left."""
        left = None if self._end is None else max(self._end - self.clock(), 0.0) / of
        return _Share(self, left, self.clock)

    def limited(self, seconds: float, clock: Callable[[], float] = time.monotonic) -> Deadline:
        """One that is over with this one, and after so many seconds."""
        return _Share(self, seconds, clock)

    def cancel(self) -> None:
        """Nobody waits for more; may be called from any thread."""
        self._cancelled.set()

    @contextmanager
    def cancelled_by_ctrl_c(self) -> Iterator[None]:
        """Within this Ctrl+C cancels instead of stopping the program; a second one stops it."""
        before = signal.getsignal(signal.SIGINT)

        def cancel(*_: object) -> None:
            self.cancel()
            signal.signal(signal.SIGINT, before)

        signal.signal(signal.SIGINT, cancel)
        try:
            yield
        finally:
            signal.signal(signal.SIGINT, before)


class _Share(Deadline):
    def __init__(self, whole: Deadline, seconds: float | None, clock: Callable[[], float]) -> None:
        super().__init__(seconds, clock)
        self.whole = whole

    @property
    def over(self) -> bool:
        return self.whole.over or super().over


NEVER = Deadline(None)
