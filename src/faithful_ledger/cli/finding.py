"""Commands that find: saves, save moments, what a file is, values in it, places, differences."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Iterator
from itertools import islice
from pathlib import Path
from time import process_time
from typing import TYPE_CHECKING

from faithful_ledger.cli.keys import keys_given
from faithful_ledger.cli.opening import book_for, opened_or_bytes
from faithful_ledger.cli.output import print_json, print_table, say, shown, side_json, stream_json, warn
from faithful_ledger.core.deadline import Deadline
from faithful_ledger.core.errors import AddressError, LedgerError, RecognitionError
from faithful_ledger.core.opening import find_save, open_save
from faithful_ledger.core.save import Save
from faithful_ledger.core.shelf import Shelf
from faithful_ledger.core.source import MemorySource, Source, open_source
from faithful_ledger.core.storage import parse_whole

MOST_WIDTHS = 5
LARGEST_INSIDE, MOST_INNER_TEXTS, MOST_BLOCKS = 64 << 20, 5, 100
LONGEST_TEXT = 80
MOST_RANKED = 20_000  # hits among which the likeliest are found

if TYPE_CHECKING:
    from faithful_ledger.core.find import SaveMoment
    from faithful_ledger.core.inside import Payload
    from faithful_ledger.core.profile import Profile
    from faithful_ledger.core.unlocking import Keys

__all__ = ["compare", "find", "locate", "profile", "search", "split_seen", "watch"]

LOCATE_FOR, LOCATE_WITH_KEY_FOR = 10.0, 40.0  # seconds of work, if nothing else is said


def find(options: argparse.Namespace) -> int:
    """Look for files that may be saves; status 1 when there are none."""
    from datetime import UTC, datetime

    from faithful_ledger.core import find as finding

    folders = [Path(name) for name in options.folders]
    for folder in folders:
        if not folder.is_dir():
            raise AddressError(f"{folder} is not a folder", "name folders to look in")
    since = finding.parse_since(options.since) if options.since is not None else None
    own = Shelf()
    places = folders or finding.usual_folders()
    found = finding.look(
        places, options.name, since, options.max_size, everything=options.everything, but=(own.data, own.cache)
    )[: options.most]
    times = [datetime.fromtimestamp(c.modified, UTC).isoformat(timespec="seconds") for c in found]
    if options.json:
        listed = [
            {"path": str(c.path), "size": c.size, "modified": when, "score": c.score, "reasons": list(c.reasons)}
            for c, when in zip(found, times, strict=True)
        ]
        print_json({"candidates": listed})
    else:
        rows = [(str(c.path), str(c.size), when, "; ".join(c.reasons)) for c, when in zip(found, times, strict=True)]
        print_table("Files that may be saves", ("File", "Bytes", "Changed", "Why"), rows)
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
                print_json(line, lines=True)
            else:
                listed = ", ".join(f"{f.path.name} {f.change} ({f.delta:+d} bytes)" for f in moment.files)
                say(f"{when[11:19]}  {listed}{'  kept as ' + ', '.join(kept) if kept else ''}", at_once=True)
    except KeyboardInterrupt:
        return 0
    return 0 if count else 1


def _keep_moment(options: argparse.Namespace, moment: SaveMoment) -> list[str]:
    """Keep every save of a moment: sets that a template knows first, then what belongs to none of them alone."""
    shelf: Shelf = options.shelf
    library, folders = shelf.library(), shelf.folders()
    kept: list[str] = []
    known: set[Path] = set()
    alone: list[Path] = []

    def keep_save(save: Save) -> None:
        book = book_for(options, save.path, save)
        snapshot = book.keeping.keep(save, "save moment")
        kept.append(snapshot.id)
        known.update(file.path for file in snapshot.files)

    for file in moment.files:
        if file.change == "removed" or file.busy or file.path in known:
            continue
        try:
            if (folder := next((each for each in file.path.absolute().parents if each in folders), None)) is not None:
                keep_save(opened_or_bytes(options, folder))
                continue
            path, template = find_save(file.path, library)
            keep_save(open_save(path, template))
        except RecognitionError:
            alone.append(file.path)
        except LedgerError as error:
            warn(f"note: {file.path.name} was not kept: {error}")
    for path in alone:
        if path not in known:
            try:
                keep_save(open_save(path, None))
            except LedgerError as error:
                warn(f"note: {path.name} was not kept: {error}")
    return kept


def profile(options: argparse.Namespace) -> int:
    """What kind of bytes a file holds."""
    from faithful_ledger.core import profile as profiling

    source, _ = open_source(Path(options.file))
    keys = keys_given(options)
    found = profiling.profile(source)
    scrambling = found.scrambling
    if options.json:
        print_json(
            {
                "size": found.size,
                "entropy": found.entropy,
                "kind": found.kind,
                "encoding": found.encoding,
                "layers": [layer._asdict() for layer in found.layers],
                "scrambling": {"kind": scrambling.kind, "key": scrambling.key.hex()} if scrambling else None,
                "strides": [{"offset": s.offset, "stride": s.stride, "count": s.count} for s in found.strides],
                "texts": [text._asdict() for text in found.texts],
                "blocks": [block._asdict() for block in found.blocks],
                **({"opened": [_opened(each) for each in _payloads(source, keys)]} if keys.secret else {}),
            }
        )
        return 0
    say(f"{options.file}: {found.kind}, {found.size} bytes, {found.entropy:.2f} bits a byte; {found.reason}")
    if scrambling is not None:
        say(scrambling.words)
    for layer in found.layers:
        say(f"{layer.kind} at 0x{layer.offset:X} ({layer.offset}): {layer.size} bytes unpack to {layer.unpacked_size}")
    _say_blocks(found)
    _say_inside(source, found, keys)
    for stride in found.strides:
        say(f"records of {stride.stride} bytes from about 0x{stride.offset:X} on, about {stride.count} of them")
    rows = [(f"0x{t.offset:X} · {t.offset}", t.text, t.encoding, t.length_in_front or "") for t in found.texts[:100]]
    if rows:
        print_table("Texts", ("Offset", "Text", "Encoding", "Length in front"), rows)
    return 0


def _opened(payload: Payload) -> dict[str, object]:
    from faithful_ledger.core.template.extend import layer_keys

    layers = [layer_keys(layer) for layer in payload.layers]
    return {"layers": layers, "words": payload.layer, "size": len(payload.data)}


def _say_inside(source: Source, found: Profile, keys: Keys) -> None:
    """What is in the layers that open."""
    from faithful_ledger.core.profile import profile as look_at

    closed = not found.layers and found.scrambling is None and not keys.secret
    payloads = _payloads(source, keys) if not closed else []
    if keys.secret and not any(layer.has_key for payload in payloads for layer in payload.layers):
        say("the key opens nothing in a way that is known; its salt or initial vector may be missing (--salt, --iv)")
    for payload in payloads:
        inner = look_at(MemorySource(payload.data))
        say(
            f"inside {payload.layer}: {inner.kind}, {inner.size} bytes, {inner.entropy:.2f} bits a byte; {inner.reason}"
        )
        _say_blocks(inner)
        for text in inner.texts[:MOST_INNER_TEXTS]:
            say(f"  0x{text.offset:X} ({text.offset})  {text.text[:LONGEST_TEXT]}")


def _payloads(source: Source, keys: Keys) -> list[Payload]:
    """What is in a file, unless that is very large."""
    from faithful_ledger.core.inside import payloads_inside

    if source.size > LARGEST_INSIDE:
        return []
    return payloads_inside(bytes(source.read(0, source.size)), keys=keys)


def _say_blocks(found: Profile) -> None:
    """The named blocks of a list, or the members of an archive."""
    rows = [(b.name, f"0x{b.start:X} · {b.start}", str(b.size), b.checksum) for b in found.blocks[:MOST_BLOCKS]]
    if rows:
        print_table("Blocks", ("Name", "Content at", "Bytes", "Checksum"), rows)
    if len(found.blocks) > len(rows):
        say(f"and {len(found.blocks) - len(rows)} more blocks; --json lists all")


def search(options: argparse.Namespace) -> int:
    """Find something in a file; status 1 when it is not there."""
    from faithful_ledger.core import search as searching

    path = Path(options.file)
    find: Callable[[Source], Iterator[searching.Hit]]
    if options.number is not None:
        number = searching.parse_number(options.number)
        find = lambda source: searching.search_number(source, number)  # noqa: E731
    elif options.text is not None:
        find = lambda source: searching.search_text(source, options.text)  # noqa: E731
    elif options.numbers is not None:
        numbers = [parse_whole(part) for part in options.numbers.split(",")]
        find = lambda source: searching.search_group(source, numbers)  # noqa: E731
    else:
        find = lambda source: searching.search_bytes(source, options.bytes)  # noqa: E731
    sources = _files_of(path)
    every = ((n, hit) for n, source in sources.items() for hit in searching.search_everywhere(source, find))
    found = list(islice(every, MOST_RANKED))
    more = " or more" if len(found) == MOST_RANKED else ""
    found.sort(key=lambda pair: -searching.likelihood(pair[1], sources[pair[0]]))  # stable: in order of offsets
    hits = found[: max(options.most, 0)]
    if len(found) > len(hits):
        warn(
            f"note: these are the likeliest {len(hits)} of {len(found)}{more} hits; search for something rarer, or say "
            "--most"
        )
    if options.json:
        stream_json({}, "hits", (hit._asdict() | ({"file": name} if name else {}) for name, hit in hits))
    else:
        rows = [
            (
                f"{name}{' ' if name else ''}0x{h.offset:X} · {h.offset}",
                h.stored_as + (f", times {h.scale}" if h.scale > 1 else ""),
                str(h.size),
                h.path or h.layer or "",
            )
            for name, h in hits
        ]
        print_table("Hits", ("Offset", "Stored as", "Bytes", "Path, or the layers it is in"), rows)
    return 0 if hits else 1


def locate(options: argparse.Namespace) -> int:
    """Find where a quantity is stored; status 1 when no place explains what was seen."""
    from faithful_ledger.core import evidence
    from faithful_ledger.core.pinned import pinned_in
    from faithful_ledger.core.unwrapping import ways_in

    if not options.seen:
        raise AddressError("nothing was seen", "say --seen FILE=VALUE for each kept copy, in the order of time")
    pairs = [split_seen(text) for text in options.seen]
    newest = pairs[-1][0]
    save = opened_or_bytes(options, newest, whole=False)
    alone = lambda file: "" if file.path.samefile(newest) else str(file.path)  # noqa: E731
    pinned = pinned_in(save, save.name_of if newest.is_dir() else alone)
    keys = keys_given(options)._replace(ways=ways_in(save))
    usual = LOCATE_WITH_KEY_FOR if options.key else LOCATE_FOR
    end = Deadline(options.seconds if options.seconds is not None else usual, process_time)
    with end.cancelled_by_ctrl_c():
        sources, shown = zip(*((_files_of(path), value) for path, value in pairs), strict=True)
        found = evidence.locate_shown(sources, shown, options.most, end, pinned=pinned, keys=keys)
    if options.json:
        from faithful_ledger.core.evidence.exchange import places_by_spot

        print_json(
            {
                "places": places_by_spot(found.by_spot),
                "suggestion": found.suggestion,
                "tried": found.tried,
                "not_tried": [each._asdict() for each in found.not_tried],
            }
        )
    else:
        rows = [
            (
                f"{best.fits} of {best.of}",
                f"{best.file} {best.path or f'0x{best.offsets[0]:X} · {best.offsets[0]}'}".lstrip(),
                " ".join(dict.fromkeys(place.stored_as for place in (best, *others[:MOST_WIDTHS]))),
                f"{best.bits:.0f}",
                "; ".join(best.reasons),
            )
            for best, *others in found.by_spot
        ]
        print_table("Places", ("Fits", "At", "Stored as, likeliest first", "Bits", "Why"), rows)
        for each in found.not_tried:
            say(f"not tried: {each.what}: {each.why}")
        say(found.suggestion)
    if found.warning:
        warn(f"note: {found.warning}")
    return 0 if found.by_spot else 1


def compare(options: argparse.Namespace) -> int:
    """What differs between two saves; status 1 when anything does."""
    from faithful_ledger.core.compare import compare_sets, field_differences

    saves = [opened_or_bytes(options, Path(name)) for name in (options.a, options.b)]
    if all(save.folder is None for save in saves):
        pairs = [{"": save.main.source} for save in saves]
    else:
        pairs = [{s.name_of(file): file.source for file in s.on_disk} for s in saves]
    found = compare_sets(*pairs)
    bound = [save.bound for save in saves]
    fields = list(field_differences(*bound)) if all(save.template is not None for save in saves) else []
    same = not fields and all(file.same for file in found)
    outer = [file for file in found if not file.inside]
    equal, largest = sum(file.equal for file in outer), max(sum(file.largest for file in outer), 1)
    if options.json:
        whole = len(outer) == 1 and not outer[0].name
        changes = [
            {
                "kind": d.kind,
                "a": [d.a0, d.a1],
                "b": [d.b0, d.b1],
                **({} if whole else {"file": file.name}),
                **({"inside": file.inside} if file.inside else {}),
            }
            for file in found
            for d in file.differences
        ]
        print_json(
            {
                "same": same,
                "changed_share": round(1 - equal / largest, 6) if not same else 0,
                "aligned": equal,
                "changes": changes,
                "fields": [{"path": f.path, "a": side_json(f.a), "b": side_json(f.b)} for f in fields],
            }
        )
        return 0 if same else 1
    say("The same." if same else f"{equal} of {largest} bytes are the same at their aligned places.")
    for file in found:
        rows = [(d.kind, f"0x{d.a0:X} … 0x{d.a1:X}", f"0x{d.b0:X} … 0x{d.b1:X}") for d in file.differences]
        if rows or not file.name:
            title = " → ".join(part for part in (file.name, file.inside) if part)
            print_table(title or "Bytes", ("What", "In A", "In B"), rows)
    if fields:
        listed = [(f.path, shown(f.a) if f.a else "–", shown(f.b) if f.b else "–") for f in fields]
        print_table("Fields", ("Field", "A", "B"), listed)
    return 0 if same else 1


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
        raise AddressError(f"“{text[:60]}” is not a sighting", "write --seen FILE=VALUE")
    raise AddressError(f"{text[:first]} is not there", "write --seen FILE=VALUE with the name of a kept copy")


def _files_of(path: Path) -> dict[str, Source]:
    """The file at a path under no name; of a folder all files by their names."""
    if not path.is_dir():
        return {"": open_source(path)[0]}
    save = open_save(path, None)
    return {save.name_of(file): file.source for file in save.on_disk}
