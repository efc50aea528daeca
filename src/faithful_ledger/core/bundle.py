"""A problem bundle: what the author of a template needs to see why it does not fit, or why a game refused a posting.

It is a zip file with the files of the save, the template, and `bundle.json`: versions, what is wrong, the seals, and
the last postings with what the game made of them. Fields that say whose save it is are blanked, their text wherever it
stands; seals over fields that were blanked are put right again. Nothing else about a person is looked for.
"""

from __future__ import annotations

import json
import platform
import tempfile
import zipfile
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any, NamedTuple

from faithful_ledger import __version__
from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.book import Book
from faithful_ledger.core.disk import translated
from faithful_ledger.core.errors import FileAccessError, LedgerError
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.save import Save
from faithful_ledger.core.source import Source, read_whole
from faithful_ledger.core.template import Library

__all__ = ["Bundled", "write_bundle"]

MOST_POSTINGS = 5
LEAST_LETTERS = 3  # a shorter text stands in a file by chance
ENCODINGS = ("utf-8", "utf-16-le", "utf-16-be")
LARGEST = 256 << 20


class Bundled(NamedTuple):
    """`blanked` are the fields that were; `elsewhere` is how often their text was blanked in other places."""

    path: Path
    blanked: list[str]
    elsewhere: int


def write_bundle(to: Path, save: Save, book: Book, library: Library, also: Sequence[str] = ()) -> Bundled:
    """Write a bundle as a new file. `also` are further paths to blank.

    Raises:
        FileAccessError: the file is there already, or cannot be written; or the save is too large to hand on.
    """
    if to.exists():
        raise FileAccessError(f"{to} exists already", "nothing was written; name another file")
    if save.size > LARGEST:
        raise FileAccessError(f"{save.path.name} is larger than {LARGEST >> 20} MiB", "nothing was written")
    paths = [*book.keeping.identities.paths(save), *also]
    contents = {save.name_of(file): _all(file.source) for file in save.on_disk}
    texts = [text for path in paths if (text := _text_at(save, path))]
    elsewhere = 0
    for name, content in contents.items():
        contents[name], count = _without(content, texts)
        elsewhere += count
    contents, blanked = _blanked(contents, save, paths)
    about = _about(save, book, texts) | {"blanked": blanked, "blanked_elsewhere": elsewhere}
    own = library.path_of(save.template.id) if save.template is not None else None
    with translated(to, "written"), zipfile.ZipFile(to, "x", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("bundle.json", json.dumps(about, ensure_ascii=False, indent=1))
        for name, content in contents.items():
            archive.writestr(f"files/{name}", content)
        if own is not None:
            archive.writestr(f"template/{own.name}", read_whole(own)[0])
    return Bundled(to, blanked, elsewhere)


def _blanked(contents: dict[str, bytes], save: Save, paths: Sequence[str]) -> tuple[dict[str, bytes], list[str]]:
    """The files with neutral values at some paths and their seals put right, as a posting would write them, and the
    paths; as they are where they cannot be opened.
    """
    if not paths or save.problem is not None:
        return contents, []
    with tempfile.TemporaryDirectory() as name, suppress(LedgerError, OSError):
        folder, blanked = Path(name), []
        for file, content in contents.items():
            target = folder / file
            if folder not in target.resolve().parents:
                return contents, []
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes(content)
        copy = open_save(folder if save.folder is not None else folder / save.name_of(save.main), save.template)
        copy.renew_broken = True
        for path in paths:
            for node in copy.fields(path):
                copy.enter(node.path, _neutral(node), anyway=True)
                blanked.append(node.path)
        changed = {copy.name_of(each.file): _all(each.patched) for each in make_plan(copy).written}
        return contents | changed, blanked
    return contents, []


def _neutral(node: FieldNode) -> str:
    value = node.value
    return "-" * max(len(value), 1) if isinstance(value, str) else "0"


def _all(source: Source) -> bytes:
    return bytes(source.read(0, source.size))


def _text_at(save: Save, path: str) -> str:
    try:
        value = save.fields(path)[0].value
    except (LedgerError, IndexError):
        return ""
    return value if isinstance(value, str) else ""


def _without(content: bytes, texts: Sequence[str]) -> tuple[bytes, int]:
    """Some bytes without these texts, each made as many x; and how often that was."""
    count = 0
    for text in texts:
        for encoding in ENCODINGS if len(text) >= LEAST_LETTERS else ():
            raw = text.encode(encoding)
            count += content.count(raw)
            content = content.replace(raw, ("x" * len(text)).encode(encoding)[: len(raw)].ljust(len(raw), b"x"))
    return content, count


def _about(save: Save, book: Book, texts: Sequence[str]) -> dict[str, Any]:
    template = save.template
    verdicts = book.records.verdicts()

    def plain(words: object) -> str:
        said = str(words)
        for text in texts:
            said = said.replace(text, "x" * len(text)) if len(text) >= LEAST_LETTERS else said
        return said

    postings = [
        {
            "time": posting.time,
            "verdict": verdicts.get(posting.id, ""),
            "reversed": posting.reversed is not None,
            "entries": [
                {key: plain(entry[key]) for key in ("path", "old", "new")} for entry in posting.record["entries"]
            ],
        }
        for posting in book.history.own_postings(save)[:MOST_POSTINGS]
    ]
    return {
        "ledger": 1,
        "program": __version__,
        "system": platform.platform(),
        "save": save.path.name,
        "files": [{"name": save.name_of(file), "size": file.source.size} for file in save.on_disk],
        "template": {"id": template.id, "version": template.version, "title": template.title} if template else None,
        "problem": plain(save.problem) if save.problem is not None else None,
        "seals": [{"path": seal.name, "algorithm": seal.algorithm, **seal.numbers} for seal in save.seals],
        "postings": postings,
    }
