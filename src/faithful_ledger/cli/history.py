"""`history` and `reverse`: what happened to a save, and a posting or carry that is taken back."""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

from faithful_ledger.cli.opening import opened_or_bytes
from faithful_ledger.cli.output import plain, print_json, print_table, say
from faithful_ledger.core.book import Book
from faithful_ledger.core.clock import local_time
from faithful_ledger.core.errors import AddressError, LedgerError
from faithful_ledger.core.opening import save_of
from faithful_ledger.core.records import Posting, Snapshot
from faithful_ledger.core.save import Save
from faithful_ledger.core.shelf import Shelf

__all__ = ["history", "reverse"]


def history(options: argparse.Namespace) -> int:
    """Snapshots, sightings, postings and carries of a save, the latest first; status 1 where there are none."""
    shelf: Shelf = options.shelf
    path = Path(options.file)
    book = shelf.existing(options.book) if options.book is not None else shelf.book_of(path)
    events: list[dict[str, Any]] = []
    if book is not None:
        save = opened_or_bytes(options, path, whole=False) if options.field and path.exists() else None
        if options.field and save is not None:
            save.fields(options.field)  # a path that leads nowhere is a mistake, not an empty history
        events = sorted(_events(book, path, save, options.field), key=lambda event: str(event["time"]), reverse=True)
    if options.json:
        print_json({"events": events})
    else:
        rows = [_row(event) for event in events]
        print_table("History", ("Id", "Time", "Kind", "Note", "Verdict", options.field or ""), rows)
    return 0 if events else 1


def _row(event: dict[str, Any]) -> tuple[str, ...]:
    value = "" if event["value"] is None else str(event["value"])
    return event["id"], local_time(event["time"]), event["kind"], event["note"], event["verdict"] or "", value


def _events(book: Book, path: Path, save: Save | None, field: str | None) -> Iterator[dict[str, Any]]:
    main = path.absolute()
    verdicts = book.records.verdicts()
    for posting in book.history.postings():
        record = posting.record
        if str(main) in (str(posting.save), *record["files"], *record["removed"]):
            entered = [e["new"] for e in [*record["entries"], *record["followers"]] if e["path"] == field]
            kind = "carry" if record.get("carried") else "posting"
            note = record["note"] + (" (reversed)" if posting.reversed else "")
            yield _event(
                posting.id, posting.time, kind, note, verdicts.get(posting.id), entered[0] if entered else None
            )
    snapshots = book.keeping.snapshots(main)
    for snapshot in snapshots:
        value = _kept_value(book, snapshot, save, field) if save is not None and field else None
        yield _event(snapshot.id, snapshot.time, "snapshot", snapshot.label or snapshot.kind, None, value)
    kept = {snapshot.id: snapshot for snapshot in snapshots}
    for quantity in book.records.quantities(main):
        for at, seen in quantity.seen.items():
            if at in kept:
                shown = seen if quantity.pinned == field else None
                yield _event(at, kept[at].time, "sighting", f"{quantity.name}: {seen}", None, shown)


def _event(id_: str, time: str, kind: str, note: str, verdict: str | None, value: object) -> dict[str, Any]:
    return {"id": id_, "time": time, "kind": kind, "note": note, "verdict": verdict, "value": value}


def _kept_value(book: Book, snapshot: Snapshot, save: Save, field: str) -> object:
    """What a field says in a kept copy; nothing where it cannot be read there."""
    with suppress(LedgerError, KeyError):
        sources = book.keeping.kept_sources(save, snapshot, inside=False)
        if save.template is None or not sources:
            return None
        held = save_of(save.template, {name: (save.files[name].path, source) for name, source in sources.items()})
        (node,) = held.fields(field)
        return plain(node.value)
    return None


def reverse(options: argparse.Namespace) -> int:
    """Bring back the bytes from before a posting or a carry; what is there now is kept first."""
    book, posting = _posting(options)
    if posting.reversed is not None:
        what = f"the posting {posting.id} was reversed already, at {local_time(posting.reversed)}"
        raise AddressError(what, "nothing was written; see history")
    gave_way = book.history.reverse(posting, anyway=options.anyway)
    if options.json:
        print_json({"reversed": posting.id, "kept": gave_way.id})
    else:
        say(f"{posting.record['note'] or posting.id}: the files have the bytes from before again.")
        say(f"What was there is kept as {gave_way.id}.")
    return 0


def _posting(options: argparse.Namespace) -> tuple[Book, Posting]:
    """The posting of an id, or of the beginning of one, in any book."""
    shelf: Shelf = options.shelf
    books = [shelf.existing(options.book)] if options.book is not None else list(shelf.usable())
    found = [
        (book, posting)
        for book in books
        for posting in book.history.postings()
        if options.id and posting.id.startswith(options.id)
    ]
    if len(found) != 1:
        what = f"{'more than one' if found else 'no'} posting has the id “{options.id}”"
        raise AddressError(what, "nothing was written; see the ids with: faithful-ledger history FILE")
    return found[0]
