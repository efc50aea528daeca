"""What will undo your work: programs and folders that bring the old save back after you have written a new one."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from faithful_ledger.core.find import Program, holders, programs, started_with
from faithful_ledger.core.find.look import SYNC_MARKERS
from faithful_ledger.core.posting.checks import Check

__all__ = ["hazards", "is_synced", "sync_folder"]


def hazards(
    paths: Iterable[Path], companions: Iterable[str] = (), synced: str = "", running: list[Program] | None = None
) -> list[Check]:
    """What stands in the way of a posting that lasts; each with what to do. `synced` is what the user said once:
    “yes”, “no” or nothing; `running` programs are looked for if not given.
    """
    running = programs() if running is None else running
    found = list(paths)
    folders = sorted({path.parent for path in found})
    checks = []
    held = holders(found, running)
    for path, names in held.items():
        text = f"{Path(path).name} is held open by {', '.join(names)}"
        checks.append(Check("open", False, text, "close the game: it would write its own state over yours"))
    started = [] if held else sorted({name for folder in folders for name in started_with(folder, running)})
    if started:
        text = f"{', '.join(started[:3])} runs with this folder"
        checks.append(Check("running", False, text, "if that is the game, close it before you post"))
    if not held and not started:
        checks.append(Check("open", True, "no program holds the save open, and none was started with its folder"))
    marker = next(filter(None, map(sync_folder, folders)), None)
    if is_synced(found, synced):
        where = (
            f"{marker.parent} is synchronised ({marker.name} is in it)" if marker else f"{folders[0]} is synchronised"
        )
        checks.append(Check("sync", False, where, "pause it, post, start the game once, then let it go on"))
    else:
        checks.append(Check("sync", True, "no sign that a program synchronises this folder"))
    stale = [name for name in companions if (found[0].parent / name).exists()]
    if stale:
        text = f"{', '.join(stale)} repeats the old state"
        checks.append(Check("companions", True, f"{text}; posting removes it, a copy is kept"))
    return checks


def is_synced(paths: Iterable[Path], said: str) -> bool:
    """Whether a program keeps the folder of a save the same on other devices, as it looks or as the user `said`."""
    return said != "no" and (said == "yes" or any(sync_folder(folder) for folder in {path.parent for path in paths}))


def sync_folder(folder: Path) -> Path | None:
    """The marker of a synchronising program in this folder or one above it, up to the home folder."""
    home = Path.home()
    for place in (folder.absolute(), *folder.absolute().parents):
        for name in SYNC_MARKERS:
            if (place / name).exists():
                return place / name
        if place == home:
            break
    return None
