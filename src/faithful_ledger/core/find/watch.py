"""Watching folders while a game is played: writes that belong together are one save moment.

The kernel tells of writes (inotify, through watchdog). A moment begins with the first and ends when nothing was
written for a while, so a file is looked at only after it has come to rest. What a moment did is read off the files'
states before and after it: a temporary file that came and went leaves no trace, a file renamed over another one is
reported as replaced. Files that are written all the time, such as logs, are reported once and then skipped.
"""

from __future__ import annotations

import os
import queue
import stat
import time
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Any, Literal, NamedTuple

from faithful_ledger.core.errors import FileAccessError
from faithful_ledger.core.source import Moment, moment_of

__all__ = ["FileChange", "SaveMoment", "watch"]

QUIET = 0.7  # seconds without a write after which a moment is over
LONGEST = 30.0  # a moment that never comes to rest is reported after so many seconds
BUSY = 6  # a file that was alone in so many moments within a minute is written all the time
MINUTE = 60.0
MANY = 8000


class FileChange(NamedTuple):
    """What a moment did to one file. `delta` is how much it grew, `busy` that it is written all the time."""

    path: Path
    change: Literal["created", "changed", "replaced", "removed"]
    size: int
    delta: int
    busy: bool = False


class SaveMoment(NamedTuple):
    """Writes that belong together; `time` is when the last of them came, in seconds since 1970."""

    time: float
    files: tuple[FileChange, ...]


def watch(folders: Iterable[Path], stop: Callable[[], bool] = lambda: False) -> Iterator[SaveMoment]:
    """Save moments as they happen, until `stop` says so (it is asked several times a second).

    Raises:
        FileAccessError: a folder is not there or cannot be watched.
    """
    import logging

    from watchdog.events import FileSystemEventHandler
    from watchdog.observers import Observer

    # When the kernel's queue runs over, it says so in the log of the program; we look at everything instead.
    logging.getLogger("watchdog").setLevel(logging.CRITICAL)

    written: queue.SimpleQueue[str] = queue.SimpleQueue()

    class Listener(FileSystemEventHandler):
        def on_any_event(self, event: Any) -> None:
            if event.event_type in ("created", "modified", "closed", "moved", "deleted") and not event.is_directory:
                written.put(os.fsdecode(event.src_path))
                if event.event_type == "moved":
                    written.put(os.fsdecode(event.dest_path))

    places = [folder.resolve() for folder in folders]
    observer = Observer()
    for folder in places:
        if not folder.is_dir():
            raise FileAccessError(f"{folder} is not a folder", "name a folder to watch")
        try:
            observer.schedule(Listener(), str(folder), recursive=True)
        except OSError as error:
            raise FileAccessError(
                f"{folder} cannot be watched ({error})", "raise fs.inotify.max_user_watches"
            ) from error
    known = dict(_states(places))
    observer.start()
    try:
        yield from _moments(written, known, stop, lambda: dict(_states(places)))
    finally:
        observer.stop()
        observer.join()


def _moments(
    written: queue.SimpleQueue[str],
    known: dict[str, Moment],
    stop: Callable[[], bool],
    states: Callable[[], dict[str, Moment]],
) -> Iterator[SaveMoment]:
    busy = _Busy()
    touched: set[str] = set()
    began = last = 0.0
    while True:
        try:
            touched.add(written.get(timeout=0.1))
            last = time.monotonic()
            began = began or last
            continue
        except queue.Empty:
            pass
        now = time.monotonic()
        ending = stop()
        if len(touched) > MANY and now - last >= QUIET:
            touched |= states().keys() | known.keys()  # so many writes at once that some may not have been reported
        if touched and (ending or now - last >= QUIET or now - began >= LONGEST):
            changes = [change for path in sorted(touched) if (change := _change(path, known)) is not None]
            touched.clear()
            began = 0.0
            reported = busy.tell(changes, now)
            if reported:
                yield SaveMoment(time.time(), tuple(reported))
        if ending:
            return


class _Busy:
    """Remembers which files are written all the time: reported once as such, then left out."""

    def __init__(self) -> None:
        self._alone: dict[Path, list[float]] = {}
        self._told: set[Path] = set()

    def tell(self, changes: list[FileChange], now: float) -> list[FileChange]:
        if len(changes) == 1:
            times = self._alone.setdefault(changes[0].path, [])
            times[:] = [*(moment for moment in times if now - moment < MINUTE), now]
        reported = []
        for change in changes:
            if len(self._alone.get(change.path, ())) < BUSY:
                reported.append(change)
            elif change.path not in self._told:
                self._told.add(change.path)
                reported.append(change._replace(busy=True))
        return reported


def _states(folders: Iterable[Path]) -> Iterator[tuple[str, Moment]]:
    for folder in folders:
        for place, _, names in os.walk(folder):
            for name in names:
                path = os.path.join(place, name)  # noqa: PTH118
                state = _state(path)
                if state is not None:
                    yield path, state


def _state(path: str) -> Moment | None:
    try:
        status = Path(path).lstat()
    except OSError:
        return None
    return moment_of(status) if stat.S_ISREG(status.st_mode) else None


def _change(path: str, known: dict[str, Moment]) -> FileChange | None:
    """What happened to a file since it was last looked at; None where nothing did."""
    before, now = known.get(path), _state(path)
    if now is None:
        known.pop(path, None)
        return FileChange(Path(path), "removed", 0, -before.size) if before is not None else None
    known[path] = now
    if before is None:
        return FileChange(Path(path), "created", now.size, now.size)
    if before == now:
        return None
    kind: Literal["replaced", "changed"] = "replaced" if now.inode != before.inode else "changed"
    return FileChange(Path(path), kind, now.size, now.size - before.size)
