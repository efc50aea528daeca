"""Running programs: what they have open, and what they were started with. One walk answers all questions."""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path
from typing import NamedTuple

__all__ = ["Program", "holders", "programs", "started_with"]

LEFT_OUT = ("/proc", "/sys", "/dev", "/usr", "/lib", "/etc", "/run", "/snap", "/opt")
MOST_FOLDERS = 8


class Program(NamedTuple):
    """A running program: its command line, and the files it holds open with whether it may write to them."""

    name: str
    pid: int
    words: tuple[str, ...]
    files: tuple[tuple[str, bool], ...]

    def __str__(self) -> str:
        return f"{self.name} ({self.pid})"

    @property
    def folders(self) -> list[Path]:
        """The folders of the user's files it holds open, those it writes to first; at most eight."""
        writes: dict[Path, bool] = {}
        for path, writing in self.files:
            if not path.startswith(LEFT_OUT):
                folder = Path(path).parent
                writes[folder] = writes.get(folder, False) or writing
        return sorted(writes, key=lambda folder: (not writes[folder], str(folder)))[:MOST_FOLDERS]


def programs(holding: set[str] | None = None) -> list[Program]:
    """All programs but this one that you may look into, by name; or those that hold one of some files open."""
    import psutil

    found = []
    for process in psutil.process_iter():
        if process.pid == os.getpid():
            continue
        try:
            files = tuple((file.path, getattr(file, "mode", "r") != "r") for file in process.open_files())
            if holding is None or not holding.isdisjoint(path for path, _ in files):
                found.append(Program(process.name(), process.pid, tuple(process.cmdline()), files))
        except (psutil.Error, OSError):
            continue
    return sorted(found, key=lambda program: (program.name.casefold(), program.pid))


OURS = frozenset(("faithful-ledger", "faithful_ledger"))  # another window of this program is not the game


def holders(paths: Iterable[Path], running: Iterable[Program] | None = None) -> dict[str, list[str]]:
    """Programs that hold one of these files open, by file."""
    wanted = {os.path.realpath(path) for path in paths}
    found: dict[str, list[str]] = {}
    for program in programs(wanted) if running is None else running:
        for path in {path for path, _ in program.files} & wanted:
            found.setdefault(path, []).append(str(program))
    return found


def started_with(folder: Path, running: Iterable[Program] | None = None) -> list[str]:
    """Programs that were started with this folder, or something in it, in their command line."""
    wanted = str(folder.absolute())
    return [
        str(program)
        for program in (programs() if running is None else running)
        if program.pid != os.getppid()
        and OURS.isdisjoint(Path(word).name for word in program.words[:3])
        and any(word == wanted or word.startswith(wanted + os.sep) for word in program.words[1:])
    ]
