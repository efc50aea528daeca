"""Commands about one save: read, check, post, keep, snapshots, restore; and about the vault."""

from __future__ import annotations

import argparse
import csv
import json
import shutil
import sys
import tempfile
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

from faithful_ledger.cli.opening import book_for, opened, opened_or_bytes
from faithful_ledger.cli.output import (
    field_json,
    json_value,
    plain,
    print_json,
    print_table,
    safe,
    say,
    shown,
    stream_json,
    warn,
)
from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.book import Book
from faithful_ledger.core.clock import local_time
from faithful_ledger.core.errors import AddressError, Refused, ValueRefused
from faithful_ledger.core.posting import Plan, make_plan, undecided_text
from faithful_ledger.core.records import Snapshot
from faithful_ledger.core.save import Save
from faithful_ledger.core.shelf import Shelf
from faithful_ledger.core.source import read_whole
from faithful_ledger.core.template.model import Setting

if TYPE_CHECKING:
    from faithful_ledger.core.carry import Carry

__all__ = ["check", "keep", "post", "read", "restore", "snapshots", "split_setting", "vault"]

LARGEST_STRUCTURE = 64 << 20


def read(options: argparse.Namespace) -> int:
    """Every field, seal and finding of a save."""
    save = _from_input(options) if options.file == "-" else opened(options, Path(options.file))
    fields = [field for path in options.paths for field in save.fields(path)] if options.paths else save.every_value()
    if options.csv:
        _print_csv(fields)
        return 0
    if options.json:
        stream_json(_summary(save), "fields", map(field_json, fields))
        return 0
    _print_summary(save)
    rows = [(f.path, shown(f), f"0x{f.start:X} · {f.start}", f.spec.storage.name) for f in fields]
    print_table("Fields", ("Field", "Value", "Offset", "Stored as"), rows)
    return 0


def _from_input(options: argparse.Namespace) -> Save:
    """The save that comes in on standard input.

    Raises:
        LedgerError: as for a file.
    """
    with tempfile.TemporaryDirectory(prefix="ledger-") as folder:
        path = Path(folder, "standard input")
        with path.open("wb") as file:
            shutil.copyfileobj(sys.stdin.buffer, file)
        return opened(options, path)


def _print_csv(fields: Iterable[FieldNode]) -> None:
    """A row for each field (RFC 4180)."""
    table = csv.writer(sys.stdout, lineterminator="\n")
    table.writerow(("path", "value", "offset", "size", "stored_as", "file"))
    for field in fields:
        value = json_value(field)
        value = " ".join(map(str, value)) if isinstance(value, list | tuple) else value
        cell = safe(value) if isinstance(value, str) else value
        table.writerow((safe(field.path), cell, field.start, field.size, field.spec.storage.name, field.file))


def check(options: argparse.Namespace) -> int:
    """Whether a save is in balance: status 0, else 1."""
    save = opened(options, Path(options.file))
    if options.json:
        print_json(_summary(save))
    else:
        _print_summary(save)
    return 0 if save.in_balance else 1


def post(options: argparse.Namespace) -> int:
    """Enter values, plan, and write."""
    save = opened(options, Path(options.file))
    if not options.settings:
        raise AddressError("there is nothing to post", "say what with --set PATH=VALUE")
    for setting in options.settings:
        path, value = split_setting(setting)
        if value.startswith("@"):
            save.enter_structure(path, _structure(Path(value[1:])), anyway=options.anyway)
        else:
            save.enter(path, value, anyway=options.anyway)
    plan, kept, written = posted(options, save)
    if options.json:
        print_json(plan_json(plan, written, kept))
    else:
        print_plan(plan, written, kept, doubt=save.doubt)
    return 0


def posted(options: argparse.Namespace, save: Save) -> tuple[Plan, str | None, bool]:
    """The plan of what was entered, which is written unless only asked for: the snapshot before, and whether it was.

    Raises:
        Refused: seals did not hold before, and nothing says what to do with them.
        LedgerError: it cannot be planned or written.
    """
    save.renew_broken = True if options.renew_broken else False if options.leave_broken else None
    plan = make_plan(save)
    concerned = {*save.files, *(entry.path for entry in plan.entries)}
    for finding in plan.findings:
        if finding.level == "warning" and finding.path in concerned:
            warn(f"note: {finding.path}: {finding.message}")
    if plan.undecided and not options.dry_run:
        raise Refused(
            f"nothing was written: {undecided_text(plan)}",
            "renew them with --renew-broken, or leave them as they are with --leave-broken",
        )
    book = book_for(options, save.path, save)
    kept, written = None, False
    if options.out is not None and not options.dry_run:
        book.history.post_elsewhere(save, plan, Path(options.out))
        written = True
    elif not options.dry_run:
        if any(file.changes for file in plan.files):
            kept = book.history.post(save, plan, options.note, detach_links=options.detach_links).kept
            written = True
    else:
        for failed in (c for c in book.history.check(plan, detach_links=options.detach_links) if not c.ok):
            warn(f"note: {failed.text}; {failed.remedy}")
    return plan, kept, written


def keep(options: argparse.Namespace) -> int:
    """Keep an untouched copy, and with --out write it as one file for others; a file no template fits is kept alone."""
    save = opened_or_bytes(options, Path(options.file), whole=False)
    keeping = book_for(options, save.path, save).keeping
    snapshot = keeping.keep(save, options.label)
    if options.out is not None:
        keeping.export(snapshot, Path(options.out))
    keeping.identify(save)
    if others := keeping.others(save):
        count = sum(others.values())
        warn(f"note: this is the save of {snapshot.identity}; {count} snapshots of others under its name stay apart")
    _tell_snapshots([snapshot], options.json, one=True)
    return 0


def snapshots(options: argparse.Namespace) -> int:
    """Kept copies of a save, of a book, or of all books."""
    shelf: Shelf = options.shelf
    path = Path(options.file) if options.file is not None else None
    books: list[Book]
    if options.book is not None:
        books = [shelf.existing(options.book)]
    elif path is not None:
        known = shelf.book_of(path)
        books = [known] if known is not None else []
    else:
        books = [shelf.open(name) for name in shelf.names()]
    _tell_snapshots([found for book in books for found in book.keeping.snapshots(path)], options.json)
    return 0


def restore(options: argparse.Namespace) -> int:
    """Bring a kept copy back; what is there now is kept first."""
    shelf: Shelf = options.shelf
    if options.book is not None:
        book = shelf.existing(options.book)
        snapshot = book.keeping.snapshot(options.id)
    else:
        book, snapshot = shelf.find_snapshot(options.id)
    gave_way = book.history.restore(snapshot, to=Path(options.to) if options.to is not None else None)
    if options.json:
        print_json({**_snapshot_json(snapshot), "kept": gave_way.id if gave_way is not None else None})
    else:
        where = options.to or snapshot.save
        say(f"Snapshot {snapshot.id} of {local_time(snapshot.time)} is back in {where}.")
        if gave_way is not None:
            say(f"What was there is kept as {gave_way.id}.")
    return 0


def vault(options: argparse.Namespace) -> int:
    """List what is kept, check that all of it is whole (status 1 if not), or enter again what the records lack."""
    shelf: Shelf = options.shelf
    books = [shelf.existing(options.book)] if options.book is not None else list(shelf.usable())
    if options.action == "rebuild":
        found = {book.name: book.keeping.rebuild() for book in books}
        if options.json:
            print_json({"found": found})
        for name, count in found.items() if not options.json else ():
            say(f"{name}: {count} snapshots were put back into the records")
        return 0
    if options.action == "list":
        kept = [(book.name, snapshot) for book in books for snapshot in book.keeping.snapshots()]
        if options.json:
            print_json({"snapshots": [{"book": name, **_snapshot_json(snapshot)} for name, snapshot in kept]})
        else:
            rows = [
                (name, s.id, local_time(s.time), s.label, str(sum(f.size for f in s.files)), s.names)
                for name, s in kept
            ]
            print_table("Kept copies", ("Book", "Id", "Time", "Label", "Bytes", "Files"), rows)
        return 0
    return _check_vaults(books, as_json=options.json)


def _check_vaults(books: list[Book], *, as_json: bool) -> int:
    reports = [(book.name, book.keeping.check_vault()) for book in books]
    if as_json:
        print_json(
            {
                "objects": sum(report.objects for _, report in reports),
                "damaged": [
                    {"book": name, "snapshot": snapshot.id, "path": str(file.path), "sha256": file.sha256}
                    for name, report in reports
                    for snapshot, file in report.damaged
                ],
                "unlisted": [{"book": name, "snapshot": s.id} for name, report in reports for s in report.unlisted],
                "journals": [{"book": name, "error": str(e)} for name, report in reports for e in report.journals],
            }
        )
        return 0 if all(report.sound for _, report in reports) else 1
    for name, report in reports:
        for snapshot, file in report.damaged:
            say(f"✕ {name}: {file.path.name} of snapshot {snapshot.id} ({snapshot.label}) is damaged or missing")
        for snapshot in report.unlisted:
            say(f"✕ {name}: snapshot {snapshot.id} is in the vault and not in the records; see vault rebuild")
        for error in report.journals:
            say(f"✕ {name}: {error}")
        say(f"{'◆' if report.sound else '✕'} {name}: {report.objects} kept contents were read again")
    return 0 if all(report.sound for _, report in reports) else 1


def split_setting(text: str) -> tuple[str, str]:
    """`PATH=VALUE` at the first equals sign outside brackets.

    Raises:
        AddressError: there is none.
    """
    at = next(_outside(text, "="), None)
    if at is None:
        raise AddressError(f"“{text[:60]}” is not an entry", "write --set PATH=VALUE")
    return text[:at].strip(), text[at + 1 :]


def split_paths(text: str) -> list[str]:
    """Paths with commas between them."""
    ends = [*_outside(text, ","), len(text)]
    parts = [text[start:end].strip() for start, end in zip([0, *(at + 1 for at in ends)], ends, strict=False)]
    return [path for path in parts if path]


def _outside(text: str, mark: str) -> Iterator[int]:
    """Where a letter is outside of brackets and quotation marks."""
    depth, quoted = 0, False
    for at, letter in enumerate(text):
        if letter == '"' and text[at - 1 : at] != "\\":
            quoted = not quoted
        depth += 0 if quoted else (letter == "[") - (letter == "]")
        if letter == mark and depth == 0 and not quoted:
            yield at


def _structure(path: Path) -> Any:
    size = path.stat().st_size if path.is_file() else 0
    if size > LARGEST_STRUCTURE:
        raise ValueRefused(f"{path} is larger than {LARGEST_STRUCTURE >> 20} MiB", "nothing was written; name another")
    data, _ = read_whole(path)
    try:
        return json.loads(data)
    except (ValueError, RecursionError) as error:
        raise ValueRefused(f"{path} is not JSON ({error})", "nothing was written; mend the file") from error


def _summary(save: Save) -> dict[str, Any]:
    return {
        "file": str(save.path),
        "template": save.template.id if save.template is not None else None,
        "size": save.size if save.folder is not None else save.main.source.size,
        "in_balance": save.in_balance,
        "seals": [
            {"name": seal.name, "algorithm": seal.algorithm, "holds": seal.holds, **seal.numbers} for seal in save.seals
        ],
        "findings": [{"path": f.path, "level": f.level, "message": f.message} for f in save.findings],
    }


def plan_json(plan: Plan, written: bool, kept: str | None) -> dict[str, Any]:
    return {
        "written": written,
        "kept": kept,
        "entries": [
            {"path": e.path, "old": plain(e.old), "new": plain(e.new)} for e in [*plan.entries, *plan.followers]
        ],
        "changes": [{"offset": c.offset, "size": c.size, "cause": c.cause, "file": c.file} for c in plan.changes],
        "in_balance": plan.in_balance,
    }


def _snapshot_json(snapshot: Snapshot) -> dict[str, Any]:
    return {
        "id": snapshot.id,
        "label": snapshot.label,
        "time": snapshot.time,
        "files": [{"path": str(f.path), "size": f.size, "sha256": f.sha256} for f in snapshot.files],
        **({"identity": snapshot.identity} if snapshot.identity else {}),
    }


def _print_summary(save: Save) -> None:
    state = _state(save.in_balance, save.doubt)
    what = f"{save.template.title} {save.template.version}" if save.template is not None else _texts(save)
    say(f"{save.path}: {what}, {save.main.source.size} bytes, {state}")
    for seal in save.seals:
        if not seal.holds:
            say(f"✕ {seal.name} ({seal.algorithm}) says {seal.says} and should say {seal.should_say}")
    for finding in save.findings:
        say(f"{'✕' if finding.level != 'note' else '◇'} {finding.path}: {finding.message}")
    if save.knows_seals:
        say(f"{sum(s.holds for s in save.seals)} of {len(save.seals)} seals hold")


def _texts(save: Save) -> str:
    """The texts of a save without a template, in words."""
    kinds = save.outline.formats if save.outline is not None else []
    return f"no template; {', '.join(kinds) or 'bytes'}"


def _state(in_balance: bool, doubt: str) -> str:
    if not in_balance:
        return "✕ out of balance"
    return f"◇ {doubt}" if doubt else "◆ in balance"


def print_after(plan: Plan | Carry) -> None:
    """What a person does when it is written, and what the game should show then."""
    for step in plan.steps.after:
        say(f"After it: {step}")
    for title, value in plan.look_for:
        say(f"The game should show: {title} {value}")


def print_plan(plan: Plan, written: bool, kept: str | None, *, doubt: str) -> None:
    entries = [(e.path, e.old_text, e.new_text) for e in plan.entries]
    entries += [(f"{e.path} (by a rule)", e.old_text, e.new_text) for e in plan.followers]
    print_table("Entries", ("Field", "Was", "Becomes"), entries)
    rows = [(c.file, f"0x{c.offset:X} · {c.offset}", str(c.size), c.cause) for c in plan.changes]
    print_table("Changed bytes", ("File", "Offset", "Bytes", "Because of"), rows)
    for step in plan.steps.before if not written else ():
        offered = f" (--set '{step.path}={step.to}' enters it)" if isinstance(step, Setting) else ""
        say(f"Before you post: {step}{offered}")
    print_after(plan)
    for path in plan.companions:
        say(f"{path} {'was' if kept else 'would be'} removed; the game makes it anew.")
    say(_state(plan.in_balance, doubt))
    say(
        f"Written. The untouched files are kept as {kept}."
        if kept
        else "Written."
        if written
        else "Nothing was written."
    )


def _tell_snapshots(found: list[Snapshot], as_json: bool, *, one: bool = False) -> None:
    if as_json:
        documents = [_snapshot_json(snapshot) for snapshot in found]
        print_json(documents[0] if one else documents)
        return
    rows = [(s.id, local_time(s.time), s.kind, s.label, s.identity, s.names) for s in found]
    print_table("Snapshots", ("Id", "Time", "Kind", "Label", "Of", "Files"), rows)
