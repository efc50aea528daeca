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
from faithful_ledger.core.keeping import hash_early
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
    if not options.dry_run:
        hash_early(*save.on_disk)
    if options.action == "add":
        found.add(_files(options.files))
    elif options.action == "remove":
        found.remove(found.with_partners(options.name))
    else:
        found.replace(options.name, [(name, read_whole(Path(name))[0]) for name in options.files])
    plan, kept, written = posted(options, save)
    after = Card(opened(options, Path(options.image)), found.library)
    if options.json:
        document = plan_json(plan, written, kept)
        print_json({**document, "fields": document["entries"], **_json(after)})
    else:
        print_plan(plan, written, kept, doubt=save.doubt)
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


def _extract(options: argparse.Namespace, found: Card) -> int:
    """An entry and its other half as new files."""
    written = [str(path) for path in found.write_out(options.name, Path(options.out))]
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
