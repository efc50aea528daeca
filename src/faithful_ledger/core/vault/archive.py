"""A snapshot as a zip file: the files as they were, and `snapshot.json` with what is known about them.

    snapshot.json   {"ledger": 1, "label", "time", "companions", "files": [{"name", "role", "size", "sha256", "mode"}]}
    files/NAME      one for each of them

Reading trusts nothing: names lead nowhere else, sizes are bounded, and every content is compared with its SHA-256.
"""

from __future__ import annotations

import hashlib
import json
import zipfile
import zlib
from pathlib import Path
from typing import Any, NamedTuple

from faithful_ledger.core.errors import VaultError

__all__ = ["ArchivedFile", "read_archive", "write_archive"]

MOST_FILES = 1000
LARGEST = 4 << 30
ABOUT = "snapshot.json"


class ArchivedFile(NamedTuple):
    """One file of an archive with its bytes."""

    name: str
    role: str
    mode: int
    data: bytes


def write_archive(path: Path, about: dict[str, Any], files: list[ArchivedFile]) -> None:
    """Write a new zip file.

    Raises:
        OSError: it cannot be written, or is there already.
    """
    told = [
        {"name": f.name, "role": f.role, "size": len(f.data), "sha256": _digest(f.data), "mode": f.mode} for f in files
    ]
    with zipfile.ZipFile(path, "x", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(ABOUT, json.dumps({"ledger": 1, **about, "files": told}, ensure_ascii=False, indent=1))
        for file in files:
            archive.writestr(f"files/{file.name}", file.data)


def read_archive(path: Path) -> tuple[dict[str, Any], list[ArchivedFile]]:
    """What an archive says about its snapshot, and its files.

    Raises:
        VaultError: it is none, or damaged; nothing was kept.
    """
    try:
        with zipfile.ZipFile(path) as archive:
            sizes = {info.filename: info.file_size for info in archive.infolist()}
            if len(sizes) > MOST_FILES or sum(sizes.values()) > LARGEST or sizes.get(ABOUT, LARGEST) > 1 << 20:
                raise VaultError(f"{path.name} is too large for a snapshot", "nothing was kept")
            about = json.loads(archive.read(ABOUT))
            files = []
            for told in about["files"]:
                name = str(told["name"])
                parts = name.split("/")
                if {"", ".", ".."} & set(parts) or any(Path(part).name != part for part in parts):
                    raise VaultError(
                        f"{path.name} names a file “{name[:60]}”, which leads elsewhere", "nothing was kept"
                    )
                data = archive.read(f"files/{name}")
                if _digest(data) != told["sha256"]:
                    raise VaultError(f"{name} in {path.name} is damaged", "nothing was kept; export it again")
                files.append(ArchivedFile(name, str(told["role"]), int(told["mode"]) & 0o777, data))
    except (OSError, zipfile.BadZipFile, zlib.error, KeyError, ValueError, TypeError, RuntimeError) as error:
        raise VaultError(f"{path.name} is no snapshot that was exported ({error})", "nothing was kept") from error
    if not files:
        raise VaultError(f"{path.name} holds no file", "nothing was kept")
    return about, files


def _digest(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()
