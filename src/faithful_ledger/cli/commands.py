"""What each command does: calls into the core, and the result as JSON or as words."""

from __future__ import annotations

import argparse
import json
import math
import sys
from collections.abc import Iterable
from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING, Any

from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.book import Book
from faithful_ledger.core.codecs import Value, parse_whole
from faithful_ledger.core.errors import AddressError, LedgerError, RecognitionError, ValueRefused
from faithful_ledger.core.posting import Plan, make_plan
from faithful_ledger.core.records import Snapshot
from faithful_ledger.core.save import Save, find_save, open_save
from faithful_ledger.core.shelf import Shelf
from faithful_ledger.core.source import open_source

if TYPE_CHECKING:
    from faithful_ledger.core.evidence import Place
    from faithful_ledger.core.find import SaveMoment

__all__ = [
    "check",
    "compare",
    "find",
    "keep",
    "locate",
    "post",
    "profile",
    "read",
    "restore",
    "search",
    "snapshots",
    "watch",
]

LONGEST_RAW = 64


def read(options: argparse.Namespace) -> int:
    """Every field, seal and finding of a save."""
    save = _opened(options)
    if options.json:
        _stream(_summary(save), "fields", map(_field, save.all_fields()))
        return 0
    _print_summary(save)
    rows = [(f.path, _shown(f), f"0x{f.start:X} · {f.start}", f.spec.codec.name) for f in save.all_fields()]
    _table("Fields", ("Field", "Value", "Offset", "Stored as"), rows)
    return 0


def check(options: argparse.Namespace) -> int:
    """Whether a save is in balance: status 0, else 1."""
    save = _opened(options)
    if options.json:
        _print_json(_summary(save))
    else:
        _print_summary(save)
    return 0 if save.in_balance else 1


def post(options: argparse.Namespace) -> int:
    """Enter values, plan, and write."""
    save = _opened(options)
    if not options.settings:
        raise AddressError("there is nothing to post", "say what with --set PATH=VALUE")
    for setting in options.settings:
        path, value = split_setting(setting)
        if value.startswith("@"):
            save.enter_structure(path, _structure(Path(value[1:])), anyway=options.anyway)
        else:
            save.enter(path, value, anyway=options.anyway)
    save.renew_broken = True if options.renew_broken else False if options.leave_broken else None
    plan = make_plan(save)
    book = _book(options, save.main.path, save)
    kept, written = None, False
    if options.out is not None and not options.dry_run:
        book.post_elsewhere(save, plan, Path(options.out))
        written = True
    elif not options.dry_run:
        if any(file.changes for file in plan.files):
            kept = book.post(save, plan, options.note, detach_links=options.detach_links).kept
            written = True
    else:
        for failed in (c for c in book.check(plan, detach_links=options.detach_links) if not c.ok):
            print(f"note: {failed.text}; {failed.remedy}", file=sys.stderr)
    if options.json:
        _print_json(_plan_json(plan, written, kept))
    else:
        _print_plan(plan, written, kept)
    return 0


def find(options: argparse.Namespace) -> int:
    """Look for files that may be saves; status 1 when there are none."""
    from datetime import UTC, datetime

    from faithful_ledger.core import find as finding

    folders = [Path(name) for name in options.folders]
    for folder in folders:
        if not folder.is_dir():
            raise AddressError(f"{folder} is no folder", "name folders to look in")
    since = finding.parse_since(options.since) if options.since is not None else None
    found = finding.look(
        folders or finding.usual_folders(), options.name, since, options.max_size, everything=options.everything
    )[: options.most]
    times = [datetime.fromtimestamp(c.modified, UTC).isoformat(timespec="seconds") for c in found]
    if options.json:
        told = [
            {"path": str(c.path), "size": c.size, "modified": when, "score": c.score, "reasons": list(c.reasons)}
            for c, when in zip(found, times, strict=True)
        ]
        _print_json({"candidates": told})
    else:
        rows = [(str(c.path), str(c.size), when, "; ".join(c.reasons)) for c, when in zip(found, times, strict=True)]
        _table("Files that may be saves", ("File", "Bytes", "Changed", "Why"), rows)
    return 0 if found else 1


def watch(options: argparse.Namespace) -> int:
    """Tell each save moment, one JSON document a line; status 1 when there was none."""
    import time
    from datetime import UTC, datetime

    from faithful_ledger.core import find as finding

    end = time.monotonic() + options.seconds if options.seconds is not None else None
    count = 0
    try:
        for moment in finding.watch(
            [Path(name) for name in options.folders], lambda: end is not None and time.monotonic() >= end
        ):
            count += 1
            kept = _keep_moment(options, moment) if options.keep else []
            when = datetime.fromtimestamp(moment.time, UTC).isoformat(timespec="milliseconds")
            if options.json:
                files = [
                    {"path": str(f.path), "change": f.change, "size": f.size, "delta": f.delta} for f in moment.files
                ]
                line = {"time": when, "files": files, "kept": kept[0] if len(kept) == 1 else kept or None}
                print(json.dumps(line, ensure_ascii=False), flush=True)
            else:
                told = ", ".join(f"{f.path.name} {f.change} ({f.delta:+d} bytes)" for f in moment.files)
                print(f"{when[11:19]}  {told}{'  kept as ' + ', '.join(kept) if kept else ''}", flush=True)
    except KeyboardInterrupt:
        return 0
    return 0 if count else 1


def _keep_moment(options: argparse.Namespace, moment: SaveMoment) -> list[str]:
    """Keep every save of a moment: sets that a template knows first, then what belongs to none of them alone."""
    shelf: Shelf = options.shelf
    library = shelf.library()
    kept: list[str] = []
    known: set[Path] = set()
    alone: list[Path] = []

    def keep_save(save: Save) -> None:
        book = shelf.open(options.book) if options.book is not None else shelf.book_for(save.main.path, save.template)
        snapshot = book.keep(save, "save moment")
        kept.append(snapshot.id)
        known.update(file.path for file in snapshot.files)

    for file in moment.files:
        if file.change == "removed" or file.busy:
            continue
        try:
            path, template = find_save(file.path, library)
            keep_save(open_save(path, template))
        except RecognitionError:
            alone.append(file.path)
        except LedgerError as error:
            print(f"note: {file.path.name} was not kept: {error}", file=sys.stderr)
    for path in alone:
        if path not in known:
            try:
                keep_save(open_save(path, None))
            except LedgerError as error:
                print(f"note: {path.name} was not kept: {error}", file=sys.stderr)
    return kept


def profile(options: argparse.Namespace) -> int:
    """What kind of bytes a file holds."""
    from faithful_ledger.core import profile as profiling

    source, _ = open_source(Path(options.file))
    found = profiling.profile(source)
    scrambling = found.scrambling
    if options.json:
        _print_json(
            {
                "size": found.size,
                "entropy": found.entropy,
                "kind": found.kind,
                "encoding": found.encoding,
                "layers": [layer._asdict() for layer in found.layers],
                "scrambling": {"kind": scrambling.kind, "key": scrambling.key.hex()} if scrambling else None,
                "strides": [{"offset": s.offset, "stride": s.stride, "count": s.count} for s in found.strides],
                "texts": [text._asdict() for text in found.texts],
            }
        )
        return 0
    print(f"{options.file}: {found.kind}, {found.size} bytes, {found.entropy:.2f} bits a byte; {found.reason}")
    if scrambling is not None:
        print(f"XOR with {'the byte before' if not scrambling.key else 'the key ' + scrambling.key.hex(' ').upper()}")
    for layer in found.layers:
        print(
            f"{layer.kind} at 0x{layer.offset:X} ({layer.offset}): {layer.size} bytes unpack to {layer.unpacked_size}"
        )
    for stride in found.strides:
        print(f"records of {stride.stride} bytes from about 0x{stride.offset:X} on, about {stride.count} of them")
    rows = [(f"0x{t.offset:X} · {t.offset}", t.text, t.encoding, t.length_in_front or "") for t in found.texts[:100]]
    if rows:
        _table("Texts", ("Offset", "Text", "Encoding", "Length in front"), rows)
    return 0


def search(options: argparse.Namespace) -> int:
    """Find something in a file; status 1 when it is not there."""
    from faithful_ledger.core import search as searching

    source, _ = open_source(Path(options.file))
    if options.number is not None:
        hits = list(searching.search_number(source, _fraction(options.number)))
    elif options.text is not None:
        hits = list(searching.search_text(source, options.text))
    elif options.group is not None:
        hits = list(searching.search_group(source, [parse_whole(part) for part in options.group.split(",")]))
    else:
        hits = list(searching.search_bytes(source, options.bytes))
    hits.sort()
    if options.json:
        _print_json({"hits": [hit._asdict() for hit in hits]})
    else:
        rows = [
            (f"0x{h.offset:X} · {h.offset}", h.stored_as + (f", times {h.scale}" if h.scale > 1 else ""), str(h.size))
            for h in hits
        ]
        _table("Hits", ("Offset", "Stored as", "Bytes"), rows)
    return 0 if hits else 1


def _fraction(text: str) -> Fraction:
    try:
        return Fraction(parse_whole(text)) if text.casefold().startswith("0x") else Fraction(text)
    except (ValueError, ZeroDivisionError) as error:
        raise ValueRefused(f"“{text[:40]}” is no number", "write it like 1340, -3, 12.5 or 0x53C") from error


def locate(options: argparse.Namespace) -> int:
    """Find where a quantity is stored; status 1 when no place explains what was seen."""
    from faithful_ledger.core import evidence

    if not options.seen:
        raise AddressError("nothing was seen", "say --seen FILE=VALUE for each kept copy, in the order of time")
    pairs = [split_seen(text) for text in options.seen]
    sources = [open_source(path)[0] for path, _ in pairs]
    found = evidence.locate(sources, [evidence.parse_sighting(value) for _, value in pairs], options.most)
    if options.json:
        _print_json({"places": [_place_json(place) for place in found.places], "suggestion": found.suggestion})
    else:
        rows = [
            (f"{p.fits} of {p.of}", p.path or f"0x{p.offsets[0]:X} · {p.offsets[0]}", p.stored_as, "; ".join(p.reasons))
            for p in found.places
        ]
        _table("Places", ("Fits", "At", "Stored as", "Why"), rows)
        print(found.suggestion)
    if found.warning:
        print(f"note: {found.warning}", file=sys.stderr)
    return 0 if found.places else 1


def compare(options: argparse.Namespace) -> int:
    """What differs between two saves; status 1 when anything does."""
    import numpy

    from faithful_ledger.core.compare import align, field_differences

    saves = [_opened_for_comparing(options, Path(name)) for name in (options.a, options.b)]
    a, b = (numpy.frombuffer(s.main.source.read(0, s.main.source.size), numpy.uint8) for s in saves)
    alignment = align(a, b)
    differences = alignment.differences()
    bound = [{name: file.bound for name, file in save.files.items() if file.bound is not None} for save in saves]
    fields = list(field_differences(*bound)) if all(save.template is not None for save in saves) else []
    same = not differences and a.size == b.size and not fields
    largest = max(a.size, b.size, 1)
    if options.json:
        _print_json(
            {
                "same": same,
                "changed_share": round(1 - alignment.equal / largest, 6) if not same else 0,
                "aligned": alignment.equal,
                "changes": [{"kind": d.kind, "a": [d.a0, d.a1], "b": [d.b0, d.b1]} for d in differences],
                "fields": [{"path": f.path, "a": _side(f.a), "b": _side(f.b)} for f in fields],
            }
        )
    else:
        print("The same." if same else f"{alignment.equal} of {largest} bytes are the same at their aligned places.")
        rows = [(d.kind, f"0x{d.a0:X} … 0x{d.a1:X}", f"0x{d.b0:X} … 0x{d.b1:X}") for d in differences]
        _table("Bytes", ("What", "In A", "In B"), rows)
        if fields:
            told = [(f.path, _shown(f.a) if f.a else "–", _shown(f.b) if f.b else "–") for f in fields]
            _table("Fields", ("Field", "A", "B"), told)
    return 0 if same else 1


def keep(options: argparse.Namespace) -> int:
    """Keep an untouched copy; a file no template fits is kept alone."""
    path = Path(options.file)
    try:
        save = _opened(options, whole=False)
    except LedgerError:
        if options.template is not None or path.is_dir():
            raise
        save = open_save(path, None)
    snapshot = _book(options, save.main.path, save).keep(save, options.label)
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
    _tell_snapshots([found for book in books for found in book.snapshots(path)], options.json)
    return 0


def restore(options: argparse.Namespace) -> int:
    """Bring a kept copy back; what is there now is kept first."""
    shelf: Shelf = options.shelf
    if options.book is not None:
        book = shelf.existing(options.book)
        snapshot = book.snapshot(options.id)
    else:
        book, snapshot = shelf.find_snapshot(options.id)
    gave_way = book.restore(snapshot, to=Path(options.to) if options.to is not None else None)
    if options.json:
        _print_json({**_snapshot_json(snapshot), "kept": gave_way.id if gave_way is not None else None})
    else:
        where = options.to or snapshot.save
        print(f"Snapshot {snapshot.id} of {snapshot.time} is back in {where}.")
        if gave_way is not None:
            print(f"What was there is kept as {gave_way.id}.")
    return 0


def split_setting(text: str) -> tuple[str, str]:
    """`PATH=VALUE` at the first equals sign outside brackets.

    Raises:
        AddressError: there is none.
    """
    depth = 0
    for at, letter in enumerate(text):
        depth += (letter == "[") - (letter == "]")
        if letter == "=" and depth == 0:
            return text[:at].strip(), text[at + 1 :]
    raise AddressError(f"“{text[:60]}” is no entry", "write --set PATH=VALUE")


def split_seen(text: str) -> tuple[Path, str]:
    """`FILE=VALUE` at the equals sign in front of which a file's name ends.

    Raises:
        AddressError: there is none.
    """
    at = first = text.find("=")
    while at >= 0:
        if Path(text[:at]).exists():
            return Path(text[:at]), text[at + 1 :]
        at = text.find("=", at + 1)
    if first < 0:
        raise AddressError(f"“{text[:60]}” is no sighting", "write --seen FILE=VALUE")
    raise AddressError(f"{text[:first]} is not there", "write --seen FILE=VALUE with the name of a kept copy")


def _opened_for_comparing(options: argparse.Namespace, path: Path) -> Save:
    """A save with its template, or as bytes where none fits."""
    try:
        options.file = str(path)
        return _opened(options)
    except LedgerError:
        if options.template is not None or path.is_dir():
            raise
        return open_save(path, None)


def _opened(options: argparse.Namespace, *, whole: bool = True) -> Save:
    """The save a command is about; `whole` asks that all of it fits its template."""
    shelf: Shelf = options.shelf
    path = Path(options.file)
    known = shelf.book_of(path)
    library = shelf.library(known)
    if options.template is not None:
        template = library.get(options.template)
    else:
        path, template = find_save(path, library)
    save = open_save(path, template)
    if whole and save.problem is not None:
        raise save.problem
    return save


def _book(options: argparse.Namespace, path: Path, save: Save) -> Book:
    shelf: Shelf = options.shelf
    if options.book is None:
        return shelf.book_for(path, save.template)
    book = shelf.open(options.book)
    book.remember(path, save.template.id if save.template is not None else None)
    return book


def _structure(path: Path) -> Any:
    try:
        return json.loads(path.read_bytes())
    except (ValueError, RecursionError) as error:
        raise ValueRefused(f"{path} is no JSON ({error})", "nothing was written; mend the file") from error


# JSON


def _summary(save: Save) -> dict[str, Any]:
    assert save.template is not None
    return {
        "file": str(save.main.path),
        "template": save.template.id,
        "size": save.main.source.size,
        "in_balance": save.in_balance,
        "seals": [
            {"name": s.name, "algorithm": s.algorithm, "holds": s.holds, "stored": s.stored, "computed": s.computed}
            for s in save.seals
        ],
        "findings": [{"path": f.path, "level": f.level, "message": f.message} for f in save.findings],
    }


def _field(node: FieldNode) -> dict[str, Any]:
    return {
        "path": node.path,
        "value": _json_value(node),
        "offset": node.start,
        "size": node.size,
        "stored_as": node.spec.codec.name,
        "file": node.file,
    }


def _json_value(node: FieldNode) -> Value | list[str]:
    if node.spec.unknown:
        return node.raw.hex(" ").upper() if node.size <= LONGEST_RAW else None
    try:
        value = node.value
    except ValueRefused:
        return None
    if isinstance(value, tuple):
        return list(value)
    return str(value) if isinstance(value, float) and not math.isfinite(value) else value


def _place_json(place: Place) -> dict[str, Any]:
    return {
        "offset": place.offsets[0],
        "path": place.path,
        "anchor": place.anchor,
        "layer": None,
        "stored_as": place.stored_as,
        "fits": place.fits,
        "of": place.of,
        "scale": place.scale,
        "bias": place.bias,
        "rounding": place.rounding,
    }


def _side(node: FieldNode | None) -> Any:
    return _json_value(node) if node is not None else None


def _plan_json(plan: Plan, written: bool, kept: str | None) -> dict[str, Any]:
    return {
        "written": written,
        "kept": kept,
        "entries": [
            {"path": e.path, "old": _plain(e.old), "new": _plain(e.new)} for e in [*plan.entries, *plan.followers]
        ],
        "changes": [{"offset": c.offset, "size": c.size, "cause": c.cause, "file": c.file} for c in plan.changes],
        "in_balance": plan.in_balance,
    }


def _plain(value: Value) -> Any:
    return list(value) if isinstance(value, tuple) else value


def _snapshot_json(snapshot: Snapshot) -> dict[str, Any]:
    return {
        "id": snapshot.id,
        "label": snapshot.label,
        "time": snapshot.time,
        "files": [{"path": str(f.path), "size": f.size, "sha256": f.sha256} for f in snapshot.files],
    }


def _print_json(document: Any) -> None:
    print(json.dumps(document, ensure_ascii=False, indent=1))


def _stream(head: dict[str, Any], key: str, items: Iterable[dict[str, Any]]) -> None:
    """One JSON object whose last member is a long list, written as it comes."""
    sys.stdout.write(json.dumps(head, ensure_ascii=False)[:-1] + f', "{key}": [')
    for number, item in enumerate(items):
        sys.stdout.write((",\n" if number else "\n") + json.dumps(item, ensure_ascii=False))
    sys.stdout.write("\n]}\n")


# words


def _shown(node: FieldNode) -> str:
    try:
        return node.spec.codec.to_text(node.value)
    except ValueRefused:
        return "▲ cannot be read"


def _print_summary(save: Save) -> None:
    assert save.template is not None
    state = "◆ in balance" if save.in_balance else "▲ out of balance"
    print(f"{save.main.path}: {save.template.title} {save.template.version}, {save.main.source.size} bytes, {state}")
    for seal in save.seals:
        if not seal.holds:
            print(f"▲ {seal.name} ({seal.algorithm}) says {seal.stored} and should say {seal.computed}")
    for finding in save.findings:
        print(f"{'▲' if finding.level != 'note' else '◇'} {finding.path}: {finding.message}")
    print(f"{sum(s.holds for s in save.seals)} of {len(save.seals)} seals hold")


def _print_plan(plan: Plan, written: bool, kept: str | None) -> None:
    entries = [(e.path, e.old_text, e.new_text) for e in plan.entries]
    entries += [(f"{e.path} (by a rule)", e.old_text, e.new_text) for e in plan.followers]
    _table("Entries", ("Field", "Was", "Becomes"), entries)
    rows = [(c.file, f"0x{c.offset:X} · {c.offset}", str(c.size), c.cause) for c in plan.changes]
    _table("Changed bytes", ("File", "Offset", "Bytes", "Because of"), rows)
    for path in plan.companions:
        print(f"{path} {'was' if kept else 'would be'} removed; the game makes it anew.")
    print("◆ in balance" if plan.in_balance else "▲ out of balance")
    print(
        f"Written. The untouched files are kept as {kept}."
        if kept
        else "Written."
        if written
        else "Nothing was written."
    )


def _tell_snapshots(found: list[Snapshot], as_json: bool, *, one: bool = False) -> None:
    if as_json:
        documents = [_snapshot_json(snapshot) for snapshot in found]
        _print_json(documents[0] if one else documents)
        return
    rows = [(s.id, s.time, s.kind, s.label, ", ".join(f.path.name for f in s.files)) for s in found]
    _table("Snapshots", ("Id", "Time", "Kind", "Label", "Files"), rows)


def _table(title: str, head: tuple[str, ...], rows: Iterable[tuple[str, ...]]) -> None:
    from rich.console import Console
    from rich.markup import escape
    from rich.table import Table

    table = Table(title=title, title_justify="left", box=None, pad_edge=False)
    for column in head:
        table.add_column(column, overflow="fold")
    for row in rows:
        table.add_row(*map(escape, row))
    Console(soft_wrap=not sys.stdout.isatty(), width=None if sys.stdout.isatty() else 160).print(table)
