"""Opening a save: one file, the files a template names, or a whole folder.

A folder that is a save as a whole goes by the folder's name. All plain files below it belong to it; those its template
describes are bound, the others are bytes that are kept and carried with it.
"""

from __future__ import annotations

import os
from collections.abc import Mapping
from contextlib import suppress
from fnmatch import fnmatchcase
from pathlib import Path
from types import MappingProxyType

from faithful_ledger.core.binding import bind_files
from faithful_ledger.core.collecting import collected_later
from faithful_ledger.core.errors import AddressError, FileAccessError, LedgerError, RootNotGranted
from faithful_ledger.core.layers.sqlite_tables import log_beside
from faithful_ledger.core.outline import outlined
from faithful_ledger.core.save import Save, SaveFile
from faithful_ledger.core.source import (
    LoggedSource,
    MemorySource,
    Source,
    files_below,
    name_within,
    open_source,
    strays,
    unreadable,
)
from faithful_ledger.core.template import Library, Template
from faithful_ledger.core.template.model import FileSpec

__all__ = ["WITHOUT", "find_save", "open_save", "save_of", "still_fits", "templates_in"]

WITHOUT = "none"  # in place of a template's id: the save is opened without one, whichever fits
BESIDE = frozenset((".log", ".txt", ".md", ".ini", ".cfg", ".png", ".jpg", ".jpeg", ".bmp", ".bak", ".old", ".tmp"))
MOST_FILES = 2000
NO_ROOTS: Mapping[str, Path] = MappingProxyType({})
MOST_LOOKED_AT = 5000  # names in a folder in which one save is looked for
MOST_NAMED = 8
MOST_BYTES = 4 << 30


def find_save(path: Path, library: Library) -> tuple[Path, Template]:
    """The main file of a save and its template; `path` may be a folder that holds one save.

    Raises:
        RecognitionError: no template fits, or several do.
        AddressError: the folder holds several saves, or none that a template fits.
        FileAccessError: it cannot be read.
    """
    if not path.is_dir():
        source, _ = open_source(path)
        return path, library.recognise(path, source)
    found, count = [], 0
    try:
        with os.scandir(path) as entries:
            for entry in entries:
                count += 1
                if entry.is_file():
                    found += _fitting(Path(entry.path), entry.stat().st_size, library)
                if count > MOST_LOOKED_AT:
                    break
    except (OSError, ValueError) as error:
        raise unreadable(path, error) from error
    if count > MOST_LOOKED_AT:
        what = f"the folder {path} has more than {MOST_LOOKED_AT} files"
        raise AddressError(what, "nothing was read; name the save itself")
    if len(found) == 1:
        return found[0]
    names = sorted(file.name for file, _ in found)
    what = ", ".join(names[:MOST_NAMED]) + (f" and {len(names) - MOST_NAMED} more" if len(names) > MOST_NAMED else "")
    what = what or "none that a template fits"
    raise AddressError(f"the folder {path} holds {len(found)} saves ({what})", "name the file itself")


def templates_in(folder: Path, library: Library) -> list[Template]:
    """The templates whose signs fit a file in a folder, or in one of the folders in it.

    Raises:
        FileAccessError: the folder cannot be read.
    """
    found: dict[str, Template] = {}
    waiting, count = [(folder, 0)], 0
    while waiting and count < MOST_LOOKED_AT:
        place, depth = waiting.pop(0)
        try:
            with os.scandir(place) as entries:
                for entry in entries:
                    count += 1
                    if entry.is_file():
                        for template in _signed(Path(entry.path), entry.stat().st_size, library):
                            found.setdefault(template.id, template)
                    elif entry.is_dir(follow_symlinks=False) and not depth:
                        waiting.append((Path(entry.path), depth + 1))
        except OSError as error:
            if not depth:
                raise unreadable(folder, error) from error
    return list(found.values())


def still_fits(path: Path, name: str, library: Library) -> bool:
    """Whether the signs of a template fit a file, as far as it can be read."""
    with suppress(OSError):
        return any(template.id == name for template in _signed(path, path.stat().st_size, library))
    return False


def _fitting(path: Path, size: int, library: Library) -> list[tuple[Path, Template]]:
    """A file with its template, if exactly one fits."""
    templates = _signed(path, size, library)
    return [(path, templates[0])] if len(templates) == 1 else []


def _signed(path: Path, size: int, library: Library) -> list[Template]:
    """The templates whose signs fit a file; no more of it is read than they ask for."""

    def read(start: int, end: int) -> bytes:
        descriptor = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
        try:
            return os.pread(descriptor, end - start, start)
        finally:
            os.close(descriptor)

    try:
        return library.fitting(path.name, size, read)
    except OSError:
        return []


def open_save(
    path: Path, template: Template | None, roots: Mapping[str, Path] = NO_ROOTS, text_format: str = ""
) -> Save:
    """Open a save. With no template it is a text of a recognised format, or of a `text_format` that was chosen, or
    bytes. A folder is opened with all that is in it. `roots` are the folders the user granted, by the roles the
    template gives them.

    A file that does not fit its template, or is missing beside the first one, does not stop the others: it has a
    `problem`, and nothing can be posted until it is gone.

    Raises:
        FileAccessError: the first file cannot be read.
        AddressError: the folder is empty, holds too much for a save, or nothing this template describes.
    """
    path = Path(path).absolute()
    if path.is_dir():
        return _open_folder(path, template, roots)
    if template is None:
        return outlined(Save(None, {"file": _open("file", path)}), text_format)
    files = {template.main.name: _open(template.main.name, path)}
    for name, spec in _others(template):
        files[name] = _open_other(template, spec, path.name, path.parent, roots)
    return _bound(Save(template, files, roots=dict(roots)))


def save_of(
    template: Template,
    files: Mapping[str, tuple[Path, Source]],
    folder: Path | None = None,
    roots: Mapping[str, Path] = NO_ROOTS,
) -> Save:
    """A save from bytes: of each file on disk, by its name in the template, the path and what it holds."""
    made = {name: SaveFile(name, path, source, None, None) for name, (path, source) in files.items()}
    return _bound(Save(template, made, folder, dict(roots)))


def _open_folder(folder: Path, template: Template | None, roots: Mapping[str, Path]) -> Save:
    paths = {name_within(path, folder): path for path in files_below(folder)}
    if not paths:
        raise AddressError(f"the folder {folder} has no files", "name the save itself")
    total = sum(path.stat().st_size for path in paths.values()) if len(paths) <= MOST_FILES else 0
    if len(paths) > MOST_FILES or total > MOST_BYTES:
        what = f"{len(paths)} files" if len(paths) > MOST_FILES else f"{total >> 20} MiB"
        raise AddressError(f"the folder {folder} holds {what}, too much for one save", "name the folder of one save")
    files: dict[str, SaveFile] = {}
    if template is not None:
        main = next((name for name in paths if fnmatchcase(name, template.main.file_name)), None)
        if main is None:
            raise AddressError(f"no file in {folder} is named {template.main.file_name}", "choose another template")
        files[template.main.name] = _open(template.main.name, paths.pop(main))
        for name, spec in _others(template):
            files[name] = _open_other(template, spec, main, folder, roots)
            if not spec.root_name:
                paths.pop(spec.name_beside(template.main, main), None)
    for name, path in sorted(paths.items(), key=lambda each: (_is_beside(each[1]), each[0])):
        files[name if name not in files else f"./{name}"] = _open(name, path)
    return _bound(Save(template, files, folder, dict(roots)))


def _is_beside(path: Path) -> bool:
    """Whether a file is usually beside a save rather than the save: a log, a picture, a setting, a copy."""
    return path.suffix.casefold() in BESIDE or path.name.endswith("~")


def _others(template: Template) -> list[tuple[str, FileSpec]]:
    """The files on disk beside the first one."""
    return [(name, spec) for name, spec in list(template.files.items())[1:] if not spec.inside]


def _open(name: str, path: Path) -> SaveFile:
    source, moment = open_source(path)
    if isinstance(source, MemorySource) and (log := log_beside(path, source)):
        source = LoggedSource(bytes(source.read(0, source.size)), log)
    return SaveFile(name, path, source, moment, None)


def _open_other(template: Template, spec: FileSpec, main: str, folder: Path, roots: Mapping[str, Path]) -> SaveFile:
    """A file beside the first one, or in a folder of its own."""
    name = spec.name_beside(template.main, main)
    if spec.root_name and spec.root_name not in roots:
        problem = RootNotGranted(spec.root_name, template.roots.get(spec.root_name, ""), name)
        return SaveFile(spec.name, folder / name, MemorySource(b""), None, None, problem)
    base = roots[spec.root_name].absolute() if spec.root_name else folder
    return _open_beside(spec, base / name, main, base)


def _open_beside(spec: FileSpec, path: Path, main: str, base: Path) -> SaveFile:
    if strays(path, base):
        problem: LedgerError = FileAccessError(
            f"{path} leads out of {base} by a symbolic link, and a template only reaches the folders it was given",
            "nothing was read there and nothing can be posted; remove the link",
        )
        return SaveFile(spec.name, path, MemorySource(b""), None, None, problem)
    try:
        return _open(spec.name, path)
    except FileAccessError as error:
        problem = FileAccessError(
            f"{error.what}; it belongs to the same save as {main}", "nothing can be posted until it is back"
        )
        return SaveFile(spec.name, path, MemorySource(b""), None, None, problem)


def _bound(save: Save) -> Save:
    """Lay the template over the files, and add the payloads inside of them, each behind its file."""
    if save.template is None:
        return outlined(save)
    with collected_later():
        bound = bind_files(save.template, {name: file.source for name, file in save.files.items()})
    files: dict[str, SaveFile] = {}
    for name, around in bound.items():
        file = save.files.get(name) or SaveFile(name, files[around.spec.inside].path, around.source, None, None)
        file.bound = around
        file.problem = file.problem or _with_name(file.path, around.problem)
        files[name] = file
    save.files = files | save.files
    return outlined(save)


def _with_name(path: Path, problem: LedgerError | None) -> LedgerError | None:
    """The same problem with the file's name in front, for people with several files."""
    if problem is None:
        return None
    named = type(problem).__new__(type(problem))
    LedgerError.__init__(named, f"{path.name}: {problem.what}", problem.remedy)
    named.__dict__.update({key: value for key, value in problem.__dict__.items() if key not in named.__dict__})
    return named
