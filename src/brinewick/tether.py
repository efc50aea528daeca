"""Tether: a made-up service that keeps a folder of saves the same everywhere, and so undoes what others write there.

    python -m brinewick.tether FOLDER on        begin: the service remembers the saves as they are
    python -m brinewick.tether FOLDER pause     leave the folder alone for now
    python -m brinewick.tether FOLDER go-on     take the saves as they are now, and watch over them again

When the game starts it puts back every file that is not as the game left it, unless it is paused.
"""

from __future__ import annotations

import shutil
import sys
from pathlib import Path

__all__ = ["main", "pull", "push"]

FOLDER = ".tether"
PAUSED = "paused"


def pull(saves: Path) -> list[str]:
    """Put the remembered files back, as the service does when the game starts. Returns the names of the changed."""
    remote = saves / FOLDER
    if not remote.is_dir() or (remote / PAUSED).exists():
        return []
    changed = []
    for kept in sorted(path for path in remote.iterdir() if path.is_file()):
        local = saves / kept.name
        if not local.exists() or local.read_bytes() != kept.read_bytes():
            shutil.copyfile(kept, local)
            changed.append(kept.name)
    return changed


def push(saves: Path) -> None:
    """Remember the files as they are, as the service does when the game has saved."""
    remote = saves / FOLDER
    if not remote.is_dir() or (remote / PAUSED).exists():
        return
    for path in remote.iterdir():
        path.unlink()
    for path in saves.iterdir():
        if path.is_file():
            shutil.copyfile(path, remote / path.name)


def main(arguments: list[str] | None = None) -> int:
    words = sys.argv[1:] if arguments is None else arguments
    if len(words) != 2 or words[1] not in ("on", "pause", "go-on") or not Path(words[0]).is_dir():
        print(__doc__)
        return 2
    remote = Path(words[0]) / FOLDER
    remote.mkdir(exist_ok=True)
    if words[1] == "pause":
        (remote / PAUSED).touch()
    else:
        (remote / PAUSED).unlink(missing_ok=True)
        push(Path(words[0]))
    print({"on": "Tether watches over this folder", "pause": "Tether is paused", "go-on": "Tether goes on"}[words[1]])
    return 0


if __name__ == "__main__":
    sys.exit(main())
