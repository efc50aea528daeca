"""What a running program has open: the folders a game writes to while it runs."""

from __future__ import annotations

import os
from pathlib import Path
from typing import NamedTuple

__all__ = ["Program", "programs"]

LEFT_OUT = ("/proc", "/sys", "/dev", "/usr", "/lib", "/etc", "/run", "/snap", "/opt")
MOST_FOLDERS = 8


class Program(NamedTuple):
    """A program of the user's with the folders of the files it holds open, those it writes to first."""

    name: str
    pid: int
    folders: tuple[Path, ...]


def programs() -> list[Program]:
    """Running programs that hold files of the user's open, by name; only those you may look into."""
    import psutil

    found = []
    for process in psutil.process_iter(["pid", "name"]):
        if process.pid == os.getpid():
            continue
        try:
            files = process.open_files()
        except (psutil.Error, OSError):
            continue
        folders: dict[Path, bool] = {}
        for file in files:
            if not file.path.startswith(LEFT_OUT):
                writes = getattr(file, "mode", "r") != "r"
                folder = Path(file.path).parent
                folders[folder] = folders.get(folder, False) or writes
        if folders:
            ordered = sorted(folders, key=lambda folder: (not folders[folder], str(folder)))
            found.append(Program(str(process.info["name"]), process.pid, tuple(ordered[:MOST_FOLDERS])))
    return sorted(found, key=lambda program: (program.name.casefold(), program.pid))
