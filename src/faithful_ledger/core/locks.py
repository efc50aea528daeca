"""Locks between programs: a save is written by one at a time, whichever book the writer belongs to.

A lock is an advisory flock(2) on a folder or a file that exists already, so nothing is left beside the save. Every lock
opens its own descriptor: threads of one program exclude each other like two programs. A file system without flock (some
network mounts) gives no lock; the comparison before each rename is then all there is.
"""

from __future__ import annotations

import errno
import fcntl
import os
import time
from collections.abc import Iterable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

from faithful_ledger.core.disk import UNSUPPORTED, translated
from faithful_ledger.core.errors import Busy

__all__ = ["WAIT", "locked"]

WAIT = 10.0  # seconds
PAUSE = 0.02
NO_LOCKS = (*UNSUPPORTED, errno.ENOLCK, errno.EBADF)


@contextmanager
def locked(paths: Iterable[Path], what: str, *, wait: float = WAIT, shared: bool = False) -> Iterator[None]:
    """Hold all of these folders or files; `what` names them in the message.

    Raises:
        Busy: somebody else still held one after `wait` seconds.
    """
    end = time.monotonic() + wait
    with ExitStack() as held:
        opened: dict[tuple[int, int], int] = {}
        for path in paths:
            with translated(path, "locked"):
                descriptor = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
            held.callback(os.close, descriptor)
            status = os.fstat(descriptor)
            opened.setdefault((status.st_dev, status.st_ino), descriptor)
        for _, descriptor in sorted(opened.items()):  # one order for all, so that two writers cannot wait in a circle
            _take(descriptor, what, end, fcntl.LOCK_SH if shared else fcntl.LOCK_EX)
        yield


def _take(descriptor: int, what: str, end: float, kind: int) -> None:
    while True:
        try:
            fcntl.flock(descriptor, kind | fcntl.LOCK_NB)
            return
        except BlockingIOError as error:
            if time.monotonic() >= end:
                raise Busy(
                    f"another program or window is writing {what}", "nothing was written; wait until it is done"
                ) from error
            time.sleep(PAUSE)
        except OSError as error:
            if error.errno in NO_LOCKS:
                return
            raise
