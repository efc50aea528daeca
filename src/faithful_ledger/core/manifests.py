"""A note beside the vault's objects for each snapshot, so that the vault can be read without the book's database.

    vault/snapshots/<id>.json   {"id", "time", "label", "kind", "save", "companions", "files": [{"role", "path", "size",
                                "sha256", "mode"}], "identity"}

A note is written after the snapshot's objects and before its record, so every recorded snapshot has one.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from faithful_ledger.core.disk import Disk, translated
from faithful_ledger.core.posting.files import replace_file
from faithful_ledger.core.records import KeptFile, Snapshot

__all__ = ["read_manifests", "write_manifest"]

DIGEST = re.compile(r"[0-9a-f]{64}")


def write_manifest(folder: Path, snapshot: Snapshot, disk: Disk) -> None:
    """Raises FileAccessError when the vault cannot be written."""
    noted = snapshot._asdict() | {"save": str(snapshot.save), "files": [_file(file) for file in snapshot.files]}
    with translated(folder, "written"):
        disk.make_folder(folder)
        replace_file(folder / f"{snapshot.id}.json", json.dumps(noted).encode(), disk)


def read_manifests(folder: Path) -> Iterator[Snapshot]:
    """Every snapshot that has a note which can be read, the oldest first."""
    found = (_read(path) for path in folder.glob("*.json"))
    yield from sorted((snapshot for snapshot in found if snapshot is not None), key=lambda snapshot: snapshot.time)


def _file(file: KeptFile) -> dict[str, Any]:
    return file._asdict() | {"path": str(file.path)}


def _read(path: Path) -> Snapshot | None:
    try:
        noted = json.loads(path.read_bytes())
        files = tuple(
            KeptFile(str(f["role"]), Path(f["path"]), int(f["size"]), f["sha256"], int(f["mode"]) & 0o7777)
            for f in noted["files"]
        )
        sound = noted["id"] == path.stem and all(DIGEST.fullmatch(file.sha256) for file in files)
        texts = [noted[key] for key in ("id", "time", "label", "kind", "save")]
        if not sound or not all(isinstance(text, str) for text in [*texts, *noted["companions"]]):
            return None
        id_, time, label, kind, save = texts
        return Snapshot(
            id_, time, label, kind, Path(save), tuple(noted["companions"]), files, str(noted.get("identity", ""))
        )
    except (OSError, ValueError, TypeError, KeyError, RecursionError):
        return None
