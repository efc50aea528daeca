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
from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple

from faithful_ledger.core.errors import LedgerError, VaultError
from faithful_ledger.core.source import MemorySource, Source

__all__ = ["ArchivedFile", "is_archive", "read_archive", "write_archive"]

MOST_FILES = 2000
LARGEST, LARGEST_FILE, LARGEST_NOTE = 4 << 30, 1 << 30, 1 << 20  # bytes of all, of one file, of snapshot.json
LONGEST = 400  # letters of a label, a role or a name
ABOUT = "snapshot.json"


class ArchivedFile(NamedTuple):
    """One file of an archive with its bytes."""

    name: str
    role: str
    mode: int
    data: bytes


class About(NamedTuple):
    """What is known about an archived snapshot."""

    label: str
    companions: tuple[str, ...]


def write_archive(path: Path, about: dict[str, Any], files: list[ArchivedFile]) -> None:
    """Write a new zip file.

    Raises:
        OSError: it cannot be written, or is there already.
    """
    noted = [
        {"name": f.name, "role": f.role, "size": len(f.data), "sha256": _digest(f.data), "mode": f.mode} for f in files
    ]
    with zipfile.ZipFile(path, "x", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(ABOUT, json.dumps({"ledger": 1, **about, "files": noted}, ensure_ascii=False, indent=1))
        for file in files:
            archive.writestr(f"files/{file.name}", file.data)


def read_archive(path: Path, keep: Callable[[str, str, int, Source], None]) -> About:
    """What an archive says about its snapshot. `keep(name, role, mode, content)` is called for each file in turn, when
    all that is said about it was compared; only one is in memory at a time.

    Raises:
        VaultError: it is not such an archive, or damaged, or too large; nothing may be recorded then.
    """
    try:
        with zipfile.ZipFile(path) as archive:
            infos = {info.filename: info for info in archive.infolist()}
            total = sum(info.file_size for info in infos.values())
            if len(infos) != len(archive.infolist()):
                raise VaultError(f"{path.name} has two files of one name", "nothing was kept; export it again")
            about = infos.get(ABOUT)
            if len(infos) > MOST_FILES or total > LARGEST or about is None or about.file_size > LARGEST_NOTE:
                raise VaultError(f"{path.name} is not an exported snapshot, or too large for one", "nothing was kept")
            noted = json.loads(_content(archive, infos[ABOUT]))
            files = [_checked(path, file, infos) for file in noted["files"]]
            if not files:
                raise VaultError(f"{path.name} contains no file", "nothing was kept")
            if len({name.casefold() for name, *_ in files}) != len(files):
                raise VaultError(f"{path.name} names one file twice", "nothing was kept; export it again")
            for name, role, mode, digest in files:
                data = _content(archive, infos[f"files/{name}"])
                if _digest(data) != digest:
                    raise VaultError(f"{name} in {path.name} is damaged", "nothing was kept; export it again")
                keep(name, role, mode, MemorySource(data))
            names = tuple(str(name)[:LONGEST] for name in noted.get("companions", ()))
            label = noted.get("label", "")
            companions = tuple(name for name in names if name and Path(name).name == name)
            return About(label[:LONGEST] if isinstance(label, str) else "", companions[:MOST_FILES])
    except LedgerError:
        raise
    except (
        OSError,
        zipfile.BadZipFile,
        zlib.error,
        EOFError,
        LookupError,
        ValueError,
        TypeError,
        AttributeError,
        RuntimeError,
        RecursionError,
        MemoryError,
        NotImplementedError,
    ) as error:
        raise VaultError(f"{path.name} is not an exported snapshot ({error})", "nothing was kept") from error


def is_archive(path: Path) -> bool:
    """Whether a file looks like an exported snapshot."""
    try:
        with zipfile.ZipFile(path) as archive:
            return ABOUT in archive.namelist()
    except (OSError, zipfile.BadZipFile, ValueError):
        return False


def _checked(path: Path, noted: Any, infos: dict[str, zipfile.ZipInfo]) -> tuple[str, str, int, str]:
    """Name, role, mode and SHA-256 of a file, as the archive says."""
    name, role, mode, digest = noted["name"], noted["role"], noted["mode"], noted["sha256"]
    if not isinstance(name, str) or not isinstance(role, str) or not isinstance(digest, str) or type(mode) is not int:
        raise ValueError("a file is not described")
    parts = name.split("/")
    if {"", ".", ".."} & set(parts) or any(Path(part).name != part or "\0" in part for part in parts):
        raise VaultError(f"{path.name} names a file “{name[:60]}”, which leads elsewhere", "nothing was kept")
    if infos[f"files/{name}"].file_size > LARGEST_FILE:
        raise VaultError(f"{name[:60]} in {path.name} is larger than {LARGEST_FILE >> 20} MiB", "nothing was kept")
    return name, role[:LONGEST], mode & 0o777, digest


def _content(archive: zipfile.ZipFile, info: zipfile.ZipInfo) -> bytes:
    """The bytes of a member, of which there must be as many as it says: what it unpacks to is not trusted."""
    with archive.open(info) as member:
        data = member.read(info.file_size + 1)
    if len(data) != info.file_size:
        raise ValueError(f"{info.filename[:60]} does not have the size it says")
    return data


def _digest(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()
