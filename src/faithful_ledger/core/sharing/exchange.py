"""Templates that come from others and go to them: one file each, checked before it is taken in.

Nothing of a template is lost when another revision comes: the one before is put beside it, in the folder `earlier`.
"""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import NamedTuple

from faithful_ledger.core.disk import Disk, translated
from faithful_ledger.core.errors import EntryError
from faithful_ledger.core.posting.files import new_file, replace_file
from faithful_ledger.core.source import read_whole
from faithful_ledger.core.template import Library, Template, parse_template
from faithful_ledger.core.template.library import SHIPPED
from faithful_ledger.core.template.model import FieldSpec
from faithful_ledger.core.template.parts import self_contained
from faithful_ledger.core.template.rewriting import YamlText

__all__ = ["Listed", "TakenIn", "export_template", "import_template", "listed", "make_own"]

EARLIER = "earlier"


class Listed(NamedTuple):
    """A template that is known here: where it comes from (shipped, yours, or a book), and how much of it is proven."""

    template: Template
    path: Path
    origin: str
    fields: int
    proven: int


class TakenIn(NamedTuple):
    """A template that was taken in, and where the revision it replaces is now, if there was one."""

    template: Template
    path: Path
    before: Path | None


def listed(library: Library) -> list[Listed]:
    """All templates of a library that can be used: those of the book, the user's own, the shipped ones."""
    found = []
    for template in library.templates().values():
        path = library.path_of(template.id)
        assert path is not None
        fields = [e for e in template.elements() if isinstance(e, FieldSpec) and not e.unknown and e.constant is None]
        proven = sum(field.standing == "proven" for field in fields)
        found.append(Listed(template, path, _origin(path), len(fields), proven))
    return found


def _origin(path: Path) -> str:
    if path.parent == SHIPPED:
        return "shipped"
    return f"book {path.parent.parent.name}" if path.parent.parent.parent.name == "books" else "yours"


def export_template(path: Path, to: Path) -> Template:
    """Write a template into one file that others can take in.

    Raises:
        EntryError: there is a file of that name.
        LedgerError: it has mistakes, or cannot be read or written.
    """
    text = self_contained(path)
    template = parse_template(text, path.name)
    new_file(to, text)
    return template


def import_template(path: Path, folder: Path, disk: Disk, *, replace: bool = False) -> TakenIn:
    """Take a template of somebody else's into a folder of templates, after it was checked.

    Raises:
        TemplateError: it has mistakes.
        EntryError: another revision of it is there already, and `replace` is not wanted.
        LedgerError: it cannot be read or written.
    """
    text = read_whole(path)[0]
    template = parse_template(text, path.name)
    target = folder / f"{template.id}.yaml"
    before: Path | None = None
    if target.is_file():
        old = read_whole(target)[0]
        if old == text:
            return TakenIn(template, target, None)
        if not replace:
            what = f"another revision of {template.id} is in {folder} already"
            raise EntryError(what, "nothing was written; compare them with `template diff`, then import with --replace")
        before = _set_aside(target, old, disk)
    with translated(target, "written"):
        disk.make_folder(folder)
        replace_file(target, text, disk, 0o644)
    return TakenIn(template, target, before)


def _set_aside(target: Path, old: bytes, disk: Disk) -> Path:
    name = f"{target.stem}.{hashlib.sha256(old).hexdigest()[:8]}.yaml"
    kept = target.parent / EARLIER / name
    with translated(kept, "written"):
        disk.make_folder(kept.parent)
        replace_file(kept, old, disk, 0o644)
    return kept


def make_own(path: Path, folder: Path, id_: str, disk: Disk) -> TakenIn:
    """Copy a template under an id of one's own, to be changed without touching the other one.

    Raises:
        EntryError: there is one of that id.
        TemplateError: the id is none.
    """
    text = YamlText(self_contained(path))
    old = str(text.value(("id",)))
    text.put(("id",), id_)
    text.set(("origin",), f"made from {old} {text.value(('version',)) if text.has(('version',)) else ''}".strip())
    template = parse_template(bytes(text), f"{id_}.yaml")
    target = folder / f"{id_}.yaml"
    if target.exists():
        raise EntryError(f"{target} exists", "nothing was written; choose another id")
    with translated(target, "written"):
        disk.make_folder(folder)
        replace_file(target, bytes(text), disk, 0o644)
    return TakenIn(template, target, None)
