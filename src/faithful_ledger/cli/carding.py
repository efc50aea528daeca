"""`card`: files on an image of a memory card."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from faithful_ledger.cli.opening import opened
from faithful_ledger.cli.output import print_json, print_table, say
from faithful_ledger.cli.saves import plan_json, posted, print_plan
from faithful_ledger.core.carry import Card
from faithful_ledger.core.errors import AddressError
from faithful_ledger.core.posting.files import new_file
from faithful_ledger.core.shelf import Shelf
from faithful_ledger.core.source import read_whole

__all__ = ["card"]


def card(options: argparse.Namespace) -> int:
    """What is on a card, and what goes on it or off it."""
    shelf: Shelf = options.shelf
    save = opened(options, Path(options.image))
    found = Card(save, shelf.library(shelf.book_of(save.path)))
    if options.action == "list":
        return _listed(options, found)
    if options.action == "extract":
        return _extract(options, found)
    if options.action == "add":
        found.add(_files(options.files))
    elif options.action == "remove":
        found.remove(found.with_partners(options.name))
    else:
        _replace(found, options.name, options.files)
    plan, kept, written = posted(options, save)
    after = Card(opened(options, Path(options.image)), found.library)
    if options.json:
        document = plan_json(plan, written, kept)
        print_json({**document, "fields": document["entries"], **_json(after)})
    else:
        print_plan(plan, written, kept, knows_seals=save.knows_seals)
        if written:
            _print(after)
    return 0


def _files(names: list[str]) -> dict[str, bytes]:
    """Files by their names, with what they hold."""
    found: dict[str, bytes] = {}
    for path in map(Path, names):
        if path.name in found:
            raise AddressError(f"{path.name} is named twice", "nothing was written")
        found[path.name] = read_whole(path)[0]
    return found


def _replace(found: Card, name: str, names: list[str]) -> None:
    """Other bytes for an entry, and for the other half of its pair where two files are given."""
    files = [read_whole(Path(each))[0] for each in names]
    entries = [found.entry(name)] if len(files) == 1 else found.with_partners(name)
    if len(files) != len(entries):
        what = f"{len(files)} files are given for {', '.join(entry.name for entry in entries)}"
        raise AddressError(what, "nothing was written; give one file for each")
    suffixes = [Path(each).suffix for each in names]
    if len(files) > 1:  # in whichever order they are given
        order = {Path(entry.name).suffix: entry for entry in entries}
        entries = [order.get(suffix, entry) for suffix, entry in zip(suffixes, entries, strict=True)]
    found.add({entry.name: data for entry, data in zip(entries, files, strict=True)}, entries)


def _extract(options: argparse.Namespace, found: Card) -> int:
    """An entry and its other half as new files."""
    entries, folder = found.with_partners(options.name), Path(options.out)
    if not folder.is_dir():
        raise AddressError(f"{folder} is not a folder", "nothing was written; name the folder for the files")
    if taken := [folder / entry.name for entry in entries if (folder / entry.name).exists()]:
        raise AddressError(f"{taken[0]} exists", "nothing was written; name another folder with -o")
    for entry in entries:
        if Path(entry.name).name != entry.name:
            raise AddressError(f"“{entry.name}” is not a name for a file", "nothing was written")
    for entry in entries:
        new_file(folder / entry.name, found.content(entry))
    written = [str(folder / entry.name) for entry in entries]
    if options.json:
        print_json({"written": written, **_json(found)})
    else:
        say(f"Written: {', '.join(written)}.")
    return 0


def _listed(options: argparse.Namespace, found: Card) -> int:
    """Status 1 where a chain is damaged."""
    if options.json:
        print_json(_json(found))
    else:
        _print(found)
    return 1 if any(entry.problem for entry in found.entries) else 0


def _json(found: Card) -> dict[str, Any]:
    entries = [
        {"name": entry.name, "size": entry.size, "blocks": len(entry.blocks), "chain": list(entry.blocks)}
        | ({"icon": entry.icon} if found.spec.icon else {})
        | ({"problem": entry.problem} if entry.problem else {})
        for entry in found.entries
    ]
    return {"entries": entries, "free": len(found.free), "free_bytes": len(found.free) * found.block_size}


def _print(found: Card) -> None:
    rows = [
        (e.name, f"{e.size}", f"{len(e.blocks)}", e.icon, f"✕ {e.problem}" if e.problem else "◆") for e in found.entries
    ]
    print_table(found.name, ("Entry", "Bytes", "Blocks", "Icon", ""), rows)
    say(f"{len(found.free)} blocks of {found.block_size} bytes are free.")
