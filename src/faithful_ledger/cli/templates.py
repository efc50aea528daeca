"""Commands about templates: what is wrong with one, what it makes of saves, and handing it on."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path
from typing import Any

from faithful_ledger.cli.opening import opened
from faithful_ledger.cli.output import print_json, print_table, safe, say
from faithful_ledger.cli.saves import split_paths
from faithful_ledger.core.disk import Disk, translated
from faithful_ledger.core.errors import AddressError, TemplateError
from faithful_ledger.core.posting.files import new_file, replace_file
from faithful_ledger.core.shelf import Shelf
from faithful_ledger.core.source import read_whole
from faithful_ledger.core.template import Template, parse_template, read_template

__all__ = ["template"]


def template(options: argparse.Namespace) -> int:
    """One of the actions on templates."""
    status: int = ACTIONS[options.action](options)
    return status


def _path(options: argparse.Namespace, name: str) -> Path:
    """The file of a template, given by its path or by its id.

    Raises:
        LedgerError: there is none.
    """
    shelf: Shelf = options.shelf
    if name.endswith((".yaml", ".yml")) or "/" in name:
        return Path(name)
    library = shelf.library(shelf.existing(options.book) if getattr(options, "book", None) else None)
    known = library.path_of(name)
    if known is None:
        broken = next((path for path in library.broken if path.stem == name), None)
        if broken is not None:
            return broken
        library.get(name)  # says what is known
    assert known is not None
    return known


def _read(options: argparse.Namespace, name: str) -> tuple[Template, bytes]:
    return read_template(_path(options, name))


def _check(options: argparse.Namespace) -> int:
    """All mistakes of a template, each with its line; status 1 where there are some."""
    path = _path(options, options.name)
    mistakes: list[tuple[int, str]] = []
    more = 0
    try:
        found, _ = read_template(path)
    except TemplateError as error:
        mistakes, more = error.mistakes, error.more
    if options.json:
        print_json({"mistakes": [{"line": line, "message": message} for line, message in mistakes]})
    elif not mistakes:
        say(f"{path.name}: no mistakes; {sum(1 for _ in found.elements())} elements")
    else:
        for line, message in mistakes:
            say(f"{path.name}:{line}: {message}")
        if more:
            say(f"and {more} more")
    return 1 if mistakes else 0


def _list(options: argparse.Namespace) -> int:
    """The templates at hand, with where they come from and how much of them is proven."""
    from faithful_ledger.core.sharing.exchange import listed

    shelf: Shelf = options.shelf
    library = shelf.library(shelf.existing(options.book) if options.book else None)
    found = listed(library)
    broken = [{"path": str(path), "error": str(error)} for path, error in library.broken.items()]
    if options.json:
        print_json({"templates": [_listed_json(each) for each in found], "broken": broken})
        return 0
    rows = [
        (e.template.id, e.template.version, e.template.title, e.origin, f"{e.proven} of {e.fields} proven", str(e.path))
        for e in found
    ]
    print_table("Templates", ("Id", "Version", "Title", "Origin", "Standing", "File"), rows)
    for each in broken:
        say(f"cannot be used: {each['error']}")
    return 0


def _listed_json(each: Any) -> dict[str, Any]:
    made = each.template
    return {
        "id": made.id,
        "title": made.title,
        "version": made.version,
        "game": made.game,
        "author": made.author,
        "origin": made.origin or each.origin,
        "path": str(each.path),
        "fields": each.fields,
        "proven": each.proven,
        "witnesses": len(made.witnesses),
    }


def _test(options: argparse.Namespace) -> int:
    """What a template makes of saves, and whether its witnesses agree; status 1 where one does not."""
    from faithful_ledger.core.sharing.witnesses import tested

    options.template = str(_path(options, options.name))
    documents, rows, good = [], [], True
    for name in options.files:
        result = tested(opened(options, Path(name), whole=False))
        good = good and result.fits and result.in_balance and result.witness is not False
        differs = [{"path": path, "witness": wanted, "read": read} for path, wanted, read in result.differs]
        documents.append(
            {
                "file": name,
                "fits": result.fits,
                "in_balance": result.in_balance,
                "witness": result.witness,
                "differs": differs,
                "problem": result.problem or None,
            }
        )
        says = {None: "none", True: "agrees", False: "differs"}[result.witness]
        detail = result.problem or "; ".join(f"{p}: {read}, should say {wanted}" for p, wanted, read in result.differs)
        yes = {True: "yes", False: "no"}
        rows.append((name, yes[result.fits], yes[result.in_balance], says, detail))
    if options.json:
        print_json({"saves": documents})
    else:
        print_table(options.name, ("Save", "Fits", "In balance", "Witness", ""), rows)
    return 0 if good else 1


def _witness(options: argparse.Namespace) -> int:
    """Let a save be a witness of a template: its hash, and the values it shows."""
    from faithful_ledger.core.sharing.witnesses import fields_to_witness, hash_of, with_witness

    path = _path(options, options.name)
    options.template = str(path)
    save = opened(options, Path(options.file))
    assert save.template is not None
    fields = split_paths(options.fields) if options.fields else fields_to_witness(save.template, save)
    text = with_witness(read_whole(path)[0], save, fields, options.note)
    parse_template(text, path.name, path.parent)
    _write(path, text)
    if options.json:
        print_json({"template": save.template.id, "sha256": hash_of(save.main.source), "fields": fields})
    else:
        say(f"{save.path.name} is a witness of {save.template.id} now, by {len(fields)} fields; the save stays yours.")
    return 0


def _sheet(options: argparse.Namespace) -> int:
    """A reference sheet, in Markdown or HTML; with a save also its offsets and values."""
    from faithful_ledger.core.sharing.sheet import Format, reference_sheet

    path = _path(options, options.name)
    options.template = str(path)
    save = opened(options, Path(options.save)) if options.save else None
    found = save.template if save is not None else _read(options, options.name)[0]
    assert found is not None
    style: Format = options.style or ("html" if (options.out or "").endswith((".html", ".htm")) else "markdown")
    text = reference_sheet(found, style, save)
    return _put_out(options, text, {"template": found.id, "format": style})


def _reader(options: argparse.Namespace) -> int:
    """A program that reads saves of a template by itself."""
    from faithful_ledger.core.sharing.reader import LANGUAGES, reader_for

    if options.language not in LANGUAGES:
        what = f"readers are made in {' and '.join(LANGUAGES)}, not in {options.language}"
        raise AddressError(what, "nothing was written; choose --language python")
    found, _ = _read(options, options.name)
    text = reader_for(found, Path(options.out).name if options.out else "reader.py")
    return _put_out(options, text, {"template": found.id, "language": options.language})


def _schema(options: argparse.Namespace) -> int:
    """The language as a JSON Schema, for editors."""
    from faithful_ledger.core.template.schema import json_schema

    return _put_out(options, json.dumps(json_schema(), indent=1) + "\n", {})


def _put_out(options: argparse.Namespace, text: str, about: dict[str, Any]) -> int:
    """Write a text to the file that was named, which is new, or print it."""
    if options.out is None:
        sys.stdout.write(text)
        return 0
    target = Path(options.out)
    new_file(target, text.encode("utf-8"))
    if options.json:
        print_json({**about, "written": str(target)})
    else:
        say(f"{target} is written.")
    return 0


def _write(target: Path, text: bytes) -> None:
    with translated(target, "written"):
        replace_file(target, text, Disk(), 0o644)


def _diff(options: argparse.Namespace) -> int:
    """What changed between two templates; status 1 where something did."""
    from faithful_ledger.core.sharing.differences import template_differences

    found = template_differences(_read(options, options.a), _read(options, options.b))
    if options.json:
        print_json({"changes": [each._asdict() for each in found]})
    else:
        for each in found:
            say(each.in_words())
        if not found:
            say("They say the same.")
    return 1 if found else 0


def _export(options: argparse.Namespace) -> int:
    """One file for others."""
    from faithful_ledger.core.sharing.exchange import export_template

    found = export_template(_path(options, options.name), Path(options.out))
    if options.json:
        print_json({"template": found.id, "written": options.out})
    else:
        say(f"{found.id} {found.version} is in {options.out}.")
    return 0


def _import(options: argparse.Namespace) -> int:
    """A template of somebody else's, checked, into your own folder or that of a book."""
    from faithful_ledger.core.sharing.exchange import import_template

    shelf: Shelf = options.shelf
    folder = (shelf.existing(options.book).folder if options.book else shelf.data) / "templates"
    found = import_template(Path(options.file), folder, Disk(), replace=options.replace)
    if options.json:
        before = str(found.before) if found.before is not None else None
        print_json({"template": found.template.id, "path": str(found.path), "replaced": before})
    else:
        kept = f"; the revision before it is {found.before}" if found.before is not None else ""
        say(f"{found.template.id} {found.template.version} is in {found.path}{kept}.")
    return 0


def _own(options: argparse.Namespace) -> int:
    """A copy of a template under an id of your own."""
    from faithful_ledger.core.sharing.exchange import make_own

    shelf: Shelf = options.shelf
    found = make_own(_path(options, options.name), shelf.data / "templates", options.id, Disk())
    if options.json:
        print_json({"template": found.template.id, "path": str(found.path)})
    else:
        say(f"{safe(found.template.id)} is yours, in {found.path}.")
    return 0


ACTIONS = {
    "check": _check,
    "list": _list,
    "test": _test,
    "witness": _witness,
    "sheet": _sheet,
    "reader": _reader,
    "schema": _schema,
    "diff": _diff,
    "export": _export,
    "import": _import,
    "own": _own,
}
