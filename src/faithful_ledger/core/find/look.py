"""Looking for saves: by words in the name, time of the last change, size, and what usually is one.

Folders are walked without following symbolic links, so no loop holds it up; what may not be read is passed over. Only
names, sizes and times are looked at, never contents, so a million files take about as long as listing them.
"""

from __future__ import annotations

import os
import re
import stat
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

from faithful_ledger.core.errors import LedgerError, ValueRefused
from faithful_ledger.core.source import open_blocks

__all__ = ["SYNC_MARKERS", "Candidate", "CandidateSet", "content_of", "in_sets", "look", "parse_since", "usual_folders"]

MINUTE, HOUR, DAY = 60, 3600, 86_400
UNITS = {"s": 1, "sec": 1, "min": MINUTE, "m": MINUTE, "h": HOUR, "d": DAY, "day": DAY, "days": DAY, "w": 7 * DAY}
SAVE_WORDS = re.compile(r"sav(e|ed|es|egame|egames|ing)?|slot|profile|player|progress|world|career|checkpoint|harbour")
SAVE_ENDINGS = {"sav", "save", "slot", "dat", "bin", "json", "xml", "profile", "state", "bwk", "db", "cfg", "txt"}
LEFT_OUT = {
    *("png", "jpg", "jpeg", "gif", "bmp", "dds", "webp", "svg", "ico", "ttf", "otf", "mp3", "ogg", "wav", "flac"),
    *("mp4", "mkv", "avi", "webm", "exe", "dll", "so", "pyc", "pyo", "o", "a", "log", "tmp", "part", "lock", "pid"),
    *(
        "html",
        "css",
        "js",
        "map",
        "whl",
        "deb",
        "zip",
        "gz",
        "xz",
        "zst",
        "bz2",
        "lz4",
        "tar",
        "md",
        "po",
        "mo",
        "py",
        "h",
        "c",
    ),
}
PACKED = {"gz", "xz", "zst", "zip", "bz2", "lz4"}
# Files or folders that a synchronising program leaves in the top of what it watches.
SYNC_MARKERS = (".tether", ".sync", ".synced", ".sync-folder")
LEFT_OUT_FOLDERS = {
    "cache",
    "caches",
    "shadercache",
    "__pycache__",
    "node_modules",
    ".git",
    "thumbnails",
    "trash",
    "logs",
    *SYNC_MARKERS,
}
SMALL, LARGE = 1 << 20, 64 << 20
REPORTED_EVERY = 0.3  # seconds
BEGINNING, DENSE = 4096, 200  # of 512 dense bytes more than so many are different
TOGETHER, MOST_TOGETHER = 2.0, 60  # seconds apart; in a folder with more files than this nothing is said


class Candidate(NamedTuple):
    """A file that may be a save. `score` grows with what speaks for it, `reasons` says what that is."""

    path: Path
    size: int
    modified: float
    score: float
    reasons: tuple[str, ...]


class CandidateSet(NamedTuple):
    """Files that may be one save, the likeliest first; `folder` holds all of them. A file may be a set alone."""

    folder: Path
    files: tuple[Candidate, ...]

    @property
    def likeliest(self) -> Candidate:
        return self.files[0]


def in_sets(candidates: Iterable[Candidate], roots: Iterable[Path], *, chosen: bool = False) -> list[CandidateSet]:
    """Candidates folded into sets: files of one folder and of the folders below it are files of one game.

    A folder that was looked through (one of `roots`), or one that holds only folders, joins nothing; where somebody has
    `chosen` it, the files directly in it are joined. The order is that of the likeliest files.
    """
    found = list(candidates)
    tops = {root.absolute() for root in roots}
    holding = {candidate.path.parent for candidate in found} - tops
    sets: dict[Path, list[Candidate]] = {}
    for candidate in found:
        around = [folder for folder in candidate.path.parents if folder in holding]
        alone = candidate.path.parent if chosen and candidate.path.parent in tops else candidate.path
        sets.setdefault(around[-1] if around else alone, []).append(candidate)
    return [CandidateSet(files[0].path.parent if len(files) == 1 else key, tuple(files)) for key, files in sets.items()]


def usual_folders() -> list[Path]:
    """Where games keep saves: XDG data, config and state, hidden folders in home, and Windows prefixes within them."""
    home = Path.home()
    named = [os.environ.get("XDG_DATA_HOME"), os.environ.get("XDG_CONFIG_HOME"), os.environ.get("XDG_STATE_HOME")]
    usual = [home / ".local/share", home / ".config", home / ".local/state", home / "Documents", home / "Games"]
    found = [Path(name) for name in named if name] + usual
    with suppress(OSError):
        found += [entry for entry in home.iterdir() if entry.name.startswith(".") and entry.is_dir()]
    kept: list[Path] = []
    for folder in sorted(found, key=lambda folder: len(folder.parts)):
        if folder.is_dir() and not any(folder == other or other in folder.parents for other in kept):
            kept.append(folder)
    return kept


def content_of(path: Path) -> str:
    """What a file begins with: “text”, “packed”, “binary”, “empty”, or nothing where it cannot be read."""
    try:
        data = bytes(open_blocks(path).read(0, BEGINNING))
    except LedgerError:
        return ""
    if not data:
        return "empty"
    if b"\0" not in data and sum(byte < 32 and byte not in b"\t\r\n" for byte in data) == 0:
        return "text"
    different = len(set(data[-512:]))
    return "packed" if len(data) >= 512 and different > DENSE else "binary"


def parse_since(text: str, now: float | None = None) -> float:
    """A moment people mean: `10min`, `2h`, `3d`, `today`, `just now`, or a time such as 2026-11-23T08:00.

    Returns seconds since 1970.

    Raises:
        ValueRefused: it is none of these.
    """
    now = time.time() if now is None else now
    cleaned = text.strip().casefold()
    if cleaned in ("just now", "now"):
        return now - 3 * MINUTE
    if cleaned == "today":
        return datetime.fromtimestamp(now).replace(hour=0, minute=0, second=0, microsecond=0).timestamp()
    match = re.fullmatch(r"(\d+)\s*([a-z]+)", cleaned)
    if match and match[2] in UNITS:
        return now - int(match[1]) * UNITS[match[2]]
    try:
        return datetime.fromisoformat(text.strip()).timestamp()
    except ValueError as error:
        raise ValueRefused(f"“{text[:40]}” is not a time", "write 10min, 2h, today, or 2026-11-23T08:00") from error


def look(
    folders: Iterable[Path],
    words: str = "",
    since: float | None = None,
    most_size: int | None = None,
    *,
    everything: bool = False,
    but: Iterable[Path] = (),
    stop: Callable[[], bool] = lambda: False,
    tell: Callable[[int, list[Candidate]], None] | None = None,
) -> list[Candidate]:
    """Files that may be saves, the likeliest first. `words` must all be in the path; `everything` leaves none out,
    except what is in the folders `but`.

    `stop` is asked for every folder; when it says so, what was found until then is given. `tell` is called several
    times a second with how many files were looked at and what was found until then.
    """
    wanted = words.casefold().split()
    now = time.time()
    found: list[tuple[os.DirEntry[str], os.stat_result]] = []
    alike: dict[tuple[str, str], int] = {}
    reported, looked = time.monotonic(), 0
    for looked, entry in enumerate(_files(folders, everything, but, stop), 1):
        if tell is not None and looked % 256 == 0 and time.monotonic() - reported > REPORTED_EVERY:
            tell(looked, _ranked(found, wanted, alike, now))
            reported = time.monotonic()
        if wanted and not all(word in entry.path.casefold() for word in wanted):
            continue
        try:
            status = entry.stat(follow_symlinks=False)
        except OSError:
            continue
        if not stat.S_ISREG(status.st_mode) or (since is not None and status.st_mtime < since):
            continue
        if most_size is not None and status.st_size > most_size:
            continue
        found.append((entry, status))
        alike[_kind(entry)] = alike.get(_kind(entry), 0) + 1
    if tell is not None:
        tell(looked, [])
    return _ranked(found, wanted, alike, now)


def _ranked(
    found: list[tuple[os.DirEntry[str], os.stat_result]],
    wanted: list[str],
    alike: dict[tuple[str, str], int],
    now: float,
) -> list[Candidate]:
    """Candidates, the likeliest first; those that were written together say so."""
    candidates = [_judge(entry, status, wanted, alike[_kind(entry)], now) for entry, status in found]
    ranked = sorted(candidates, key=lambda c: (-c.score, -c.modified, str(c.path)))
    beside: dict[Path, list[Candidate]] = {}
    for candidate in ranked:
        beside.setdefault(candidate.path.parent, []).append(candidate)
    return [_with_company(candidate, beside[candidate.path.parent]) for candidate in ranked]


def _with_company(candidate: Candidate, others: list[Candidate]) -> Candidate:
    """Learns which files of its folder were written at the same moment: they may be one save."""
    if len(others) > MOST_TOGETHER:
        return candidate
    names = [c.path.name for c in others if c is not candidate and abs(c.modified - candidate.modified) <= TOGETHER]
    if not names:
        return candidate
    listed = ", ".join(names[:3]) + (" and others" if len(names) > 3 else "")
    return candidate._replace(reasons=(*candidate.reasons, f"written together with {listed}"))


def _files(
    folders: Iterable[Path], everything: bool, but: Iterable[Path], stop: Callable[[], bool]
) -> Iterator[os.DirEntry[str]]:
    queue = [os.fspath(folder) for folder in folders]
    visited: set[tuple[int, int]] = set()
    for folder_ in but:
        with suppress(OSError):
            status = folder_.stat()
            visited.add((status.st_dev, status.st_ino))
    while queue and not stop():
        folder = queue.pop()
        try:
            status = Path(folder).stat()
            if (status.st_dev, status.st_ino) in visited:
                continue
            visited.add((status.st_dev, status.st_ino))
            entries = list(os.scandir(folder))
        except OSError:
            continue
        for entry in entries:
            if entry.is_dir(follow_symlinks=False):
                if everything or entry.name.casefold() not in LEFT_OUT_FOLDERS:
                    queue.append(entry.path)
            elif everything or not _is_left_out(entry.name.casefold(), folder):
                yield entry


def _is_left_out(name: str, folder: str) -> bool:
    """Whether a file is of a kind that games do not save to. A packed one is, if it is called a save, is packed in an
    ending of saves, or is with an index in a folder for them.
    """
    rest, _, ending = name.rpartition(".")
    if ending not in PACKED:
        return ending in LEFT_OUT
    inner = rest.rpartition(".")[2] if "." in rest else ""
    in_saves = any(SAVE_WORDS.search(part) for part in Path(folder.casefold()).parts[-2:])
    return not (inner in SAVE_ENDINGS or SAVE_WORDS.search(rest) or in_saves)


def _kind(entry: os.DirEntry[str]) -> tuple[str, str]:
    """What siblings have in common: the folder, and the name without its digits."""
    return os.path.dirname(entry.path), re.sub(r"\d+", "#", entry.name)  # noqa: PTH120


def _judge(entry: os.DirEntry[str], status: os.stat_result, wanted: list[str], alike: int, now: float) -> Candidate:
    score, reasons = 0.0, []
    age = now - status.st_mtime
    for limit, points, words in ((5 * MINUTE, 5.0, "changed minutes ago"), (HOUR, 3.0, "changed within the hour")):
        if 0 <= age < limit:
            score += points
            reasons.append(words)
            break
    else:
        if 0 <= age < DAY:
            score += 1.5
            reasons.append("changed today")
    name = entry.name.casefold()
    if wanted and all(word in name for word in wanted):
        score += 2
        reasons.append("the words are in its name")
    if SAVE_WORDS.search(name.rpartition(".")[0] or name):
        score += 2
        reasons.append("named like a save")
    folders = Path(entry.path).parent.parts[-3:]
    if any(SAVE_WORDS.search(part.casefold()) for part in folders):
        score += 1.5
        reasons.append("is in a folder for saves")
    ending = name.rpartition(".")[2] if "." in name else ""
    if ending in SAVE_ENDINGS:
        score += 1
        reasons.append(f"saves often end in .{ending}")
    if status.st_size == 0:
        score -= 3
        reasons.append("empty")
    elif status.st_size <= SMALL:
        score += 1
        reasons.append("small")
    elif status.st_size > LARGE:
        score -= 1
    if alike > 1:
        score += 0.5
        reasons.append(f"one of {alike} alike")
    return Candidate(Path(entry.path), status.st_size, status.st_mtime, round(score, 2), tuple(reasons))
