"""Commands about seals: which checksum covers what, and where it is stored."""

from __future__ import annotations

import argparse
from collections.abc import Iterator, Sequence
from contextlib import nullcontext, suppress
from pathlib import Path
from typing import TYPE_CHECKING, Any

from faithful_ledger.cli.keys import key_bytes
from faithful_ledger.cli.opening import book_for, named_file, opened_or_bytes
from faithful_ledger.cli.output import print_json, print_table, say
from faithful_ledger.core.deadline import Deadline
from faithful_ledger.core.errors import AddressError, LedgerError, place
from faithful_ledger.core.source import open_source
from faithful_ledger.core.storage import parse_whole
from faithful_ledger.core.suggest import did_you_mean

if TYPE_CHECKING:
    from faithful_ledger.core.placed_seals import Placed
    from faithful_ledger.core.save import Save
    from faithful_ledger.core.seal_search import Found
    from faithful_ledger.core.sealing import Accepted
    from faithful_ledger.core.seals.finder import Hints
    from faithful_ledger.core.seals.finder.blocks import BlockRule
    from faithful_ledger.core.seals.finder.directories import DirectoryRule
    from faithful_ledger.core.seals.finder.packed import StreamRule
    from faithful_ledger.core.seals.finder.repeated import SealRow

__all__ = ["find_seals"]

LARGEST = 64 << 20
MOST_BESIDE, LARGEST_ENDING = 24, 1 << 16  # files beside a save that are looked at, and their bytes


def find_seals(options: argparse.Namespace) -> int:
    """Which algorithm over which bytes gives which stored ones; status 1 when nothing is found."""
    from faithful_ledger.core.seal_search import SealSearch
    from faithful_ledger.core.unlocking import NO_KEYS, Keys
    from faithful_ledger.core.unwrapping import ways_in

    save, keys = None, NO_KEYS
    with suppress(LedgerError) if not options.accept else nullcontext():  # or say why not at once
        save = opened_or_bytes(options, Path(options.files[0]), whole=options.accept)
        keys = Keys(ways_in(save))
    contents, beside, called = _files([Path(name) for name in options.files], save)
    end = Deadline(options.seconds)
    with end.cancelled_by_ctrl_c():
        found = SealSearch(contents, _hints(options), end, beside, called, keys).everything()
    accepted, template = _accepted(options, save, found) if save is not None and options.accept else (None, "")
    documents = list(_documents(found, contents, options))
    if options.json:
        added: dict[str, Any] = {}
        if accepted is not None:
            added = {"template": template or None, "accepted": [*accepted.rules, *accepted.seals]}
        print_json({"seals": documents, **added})
    else:
        _print_found(found, contents, options)
        if end.over:
            say("It was stopped before everything was tried.")
        if not documents:
            say("No known checksum explains bytes of these saves. More saves, kept after small changes, help.")
        elif found.seals and len(set(contents)) < 3:
            say("With three saves or more of one size any range is searched, and chance hits are ruled out.")
        if found.unexplained:
            say(f"{found.unexplained_in_words}; a key may be needed: --key.")
        if accepted is not None:
            _print_accepted(accepted, template)
            if options.stored_at is None and (accepted.rules or accepted.seals):
                _print_likely(found)
    return 0 if documents else 1


def _accepted(options: argparse.Namespace, save: Save, found: Found) -> tuple[Accepted, str]:
    """All that is sure in a template: of a file that is named, or the book's own. If nothing is, that is the likeliest
    at a place that is named.
    """
    book, is_placed = book_for(options, save.path, save), options.stored_at is not None
    return book.templates.accept(save, options.shelf.library(book), found, named_file(options), is_placed=is_placed)


def _print_accepted(accepted: Accepted, template: str) -> None:
    count = len(accepted.rules) + len(accepted.seals)
    if not count:
        say("Nothing of it is in a template now: only what is sure is put in, or with --stored-at the likeliest there.")
    for path in accepted.seals:
        say(f"{path} is a seal in the template {template} now, and is renewed when you post.")
    for words in accepted.rules:
        say(f"In the template {template} now: {words}.")
    for words, why in accepted.left:
        say(f"Not put in: {words}: {why}.")


def _print_likely(found: Found) -> None:
    """What else may be compared by the game, once a save with what was put in is called in balance."""
    likely = [placed for placed in found.seals if placed.finding.is_likely]
    if likely:
        first, more = likely[0], f" and {len(likely) - 1} more" if likely[1:] else ""
        what = f"{first.finding.name_in_words} at {place(first.place_in_file)}{more}"
        say(f"Likely, and not put in: {what}; accept one with --stored-at, or find them again with more saves.")


def _documents(found: Found, contents: Sequence[bytes], options: argparse.Namespace) -> Iterator[dict[str, Any]]:
    """All that was found, as the contract has it: rows of blocks, single seals, rules; `differs_in` names the one save
    in which what nearly holds does not.
    """
    from faithful_ledger.core.placed_seals import Placed
    from faithful_ledger.core.seal_parts import Part

    files = Part(tuple(contents))
    in_rows = [_row_document(row, Placed(each, files)) for row in found.rows for each in row.seals]
    yield from in_rows
    yield from map(_document, found.seals[: max(options.most - len(in_rows), 0)])
    for placed, odd in found.nearly[: options.most]:
        yield {**_document(placed), "differs_in": options.files[odd]}
    yield from (_rule_document(rule, contents[0]) for rule in found.blocks)
    for directory in found.directories:
        yield from _directory_documents(directory, contents[0])
    for rule in found.streams:
        yield from _stream_documents(rule)


def _print_found(found: Found, contents: Sequence[bytes], options: argparse.Namespace) -> None:
    for row in found.rows:
        say(f"One rule: {row.in_words}.")
    for rule in found.blocks:
        say(f"One rule: {rule.in_words}, stored as {rule.form}; holds in {rule.holds_in} of {rule.of}.")
    for directory in found.directories:
        say(f"One rule: {directory.in_words}; holds in {directory.of} of {directory.of}.")
    for each in found.streams:
        say(f"One rule: {each.in_words}; holds in {each.of} of {each.of}.")
    for placed, odd in found.nearly[: options.most]:
        say(f"Nearly: {placed.nearly_in_words}, and not in {options.files[odd]}.")
    rows = [_row(placed) for placed in found.seals[: max(options.most - sum(len(row.seals) for row in found.rows), 0)]]
    if rows:
        print_table("Seals", ("Stored at", "As", "Algorithm", "Covers", "Holds in", "How sure"), rows)


def _stream_documents(rule: StreamRule) -> Iterator[dict[str, Any]]:
    """As other seals, with the places of the first stream; `streams` says which there are, whether a seal is over
    what they unpack to, and with a `stride` that it is in a table, as many bytes in front of that of the next one.
    """
    first = rule.streams[0]
    for each in rule.every:
        start = {"start": each.algorithm.start} if each.algorithm.start else {}
        yield {
            "algorithm": each.algorithm.name,
            "parameters": start,
            "from": 0 if each.unpacked else first.start,
            "to": len(first.data) if each.unpacked else first.end,
            "to_from_end": None,
            "stored_at": each.place(first),
            "stored_at_from_end": None,
            "stored_as": each.form,
            "holds_in": rule.of,
            "of": rule.of,
            "streams": {
                "kind": rule.kind,
                "start": rule.start,
                "count": len(rule.streams),
                "header": rule.header,
                "trailer": rule.trailer,
                "unpacked": each.unpacked,
                "stride": each.stride or None,
            },
        }


def _directory_documents(rule: DirectoryRule, content: bytes) -> Iterator[dict[str, Any]]:
    """The sizes and the checksums of the parts, with the places of the first one, and how the directory is laid out."""
    (start, end), *_ = rule.parts(content, rule.count)
    for column in rule.columns:
        if column.says in ("size", "sum"):
            yield {
                "algorithm": column.algorithm.name if column.algorithm is not None else "length",
                "parameters": {},
                "from": start,
                "to": end,
                "to_from_end": None,
                "stored_at": rule.start + column.at,
                "stored_at_from_end": None,
                "stored_as": column.form,
                "holds_in": rule.of,
                "of": rule.of,
                "directory": {"start": rule.start, "count": rule.count, "stride": rule.stride, "align": rule.align},
            }


def _row_document(row: SealRow, placed: Placed) -> dict[str, Any]:
    """As other seals, with the places of the first block, and how blocks are laid out."""
    return {**_document(placed), "blocks": {"start": row.start, "count": row.count, "size": row.size}}


def _rule_document(rule: BlockRule, content: bytes) -> dict[str, Any]:
    """As other seals, with the places of the first block, and how blocks are laid out."""
    chain = rule.chain
    start, end, at = rule.spans(chain.lengths(content)[0])
    length = f"u{8 * chain.width}{'le' if chain.order == 'little' else 'be'}"
    return {
        "algorithm": rule.algorithm.name,
        "parameters": {"changed": rule.algorithm.changed} if rule.algorithm.changed else {},
        "from": start,
        "to": end,
        "to_from_end": None,
        "stored_at": at,
        "stored_at_from_end": None,
        "stored_as": rule.form,
        "holds_in": rule.holds_in,
        "of": rule.of,
        "blocks": {
            "start": rule.start,
            "count": rule.count,
            "header": rule.header,
            "length_at": rule.in_front,
            "length_as": length,
            "counted": rule.counted,
            "trailer": rule.trailer,
            "over": rule.over,
        },
    }


def _files(paths: list[Path], first: Save | None) -> tuple[list[bytes], dict[str, list[bytes]], str]:
    """The saves, the files that each of them has beside it, by name, and what the saves are called: of folders the file
    that the template of the first one is about, or the largest that all have, and the others; else those that are
    called after the save.
    """
    from faithful_ledger.core.seal_parts import CALLED_AFTER

    if any(path.is_dir() for path in paths):
        if not all(path.is_dir() for path in paths):
            raise AddressError("some of these are folders and some are files", "name either files or folders")
        names = [{each.name: each.stat().st_size for each in path.iterdir() if each.is_file()} for path in paths]
        common = sorted(set(names[0]).intersection(*names[1:]), key=lambda name: (-names[0][name], name))
        common = [name for name in common if all(each[name] for each in names)][:MOST_BESIDE]
        if not common:
            raise AddressError("these folders do not have a file of one name", "name folders of the same kind of save")
        described = first.main.path.name if first is not None and first.template is not None else ""
        main = described if described in common else common[0]
        contents = {name: [_content(path / name) for path in paths] for name in common}
        return contents.pop(main), contents, main
    endings = [_endings(path) for path in paths]
    common = sorted(set(endings[0]).intersection(*endings[1:]))[:MOST_BESIDE]
    beside = {f"{CALLED_AFTER}{ending}": [_content(each[ending]) for each in endings] for ending in common}
    return [_content(path) for path in paths], beside, "the save"


def _endings(path: Path) -> dict[str, Path]:
    """The small files that are called after a save, by what is behind its name: a.sav.md5, a.md5."""
    if not path.is_file():
        return {}
    beginnings = dict.fromkeys((path.name, path.stem))
    found: dict[str, Path] = {}
    for each in path.parent.iterdir():
        ending = next((each.name.removeprefix(name) for name in beginnings if each.name.startswith(f"{name}.")), "")
        if ending and each != path and each.is_file() and 0 < each.stat().st_size <= LARGEST_ENDING:
            found.setdefault(ending, each)
    return found


def _content(path: Path) -> bytes:
    source, _ = open_source(path)
    if not source.size:
        raise AddressError(f"{path} is empty", "name a save with something in it")
    if source.size > LARGEST:
        raise AddressError(
            f"{path} is larger than {LARGEST >> 20} MiB", "name smaller files, or the payload that matters"
        )
    return bytes(source.read(0, source.size))


def _hints(options: argparse.Namespace) -> Hints:
    """Raises AddressError where one cannot be read, or no checksum is called so."""
    from faithful_ledger.core.seals.algorithms import ALGORITHMS, CRC, KEYED, LENGTH, TIMES
    from faithful_ledger.core.seals.finder import Hints

    named, known = options.algorithm or "", (*ALGORITHMS, CRC, TIMES, LENGTH, KEYED)
    if not any(name.startswith(named) or (name == KEYED and named.startswith(name)) for name in known):
        hint = did_you_mean(named, known) or f"there are {', '.join(known)}"
        raise AddressError(f"no checksum has a name that begins with “{named}”", hint)

    over = None
    if options.over:
        first, dots, last = options.over.partition("..")
        try:
            over = (parse_whole(first), parse_whole(last)) if dots else None
        except LedgerError:
            over = None
        if over is None or not 0 <= over[0] < over[1]:
            raise AddressError(f"“{options.over}” is not a range", "write --over FROM..TO, as in --over 0x10..0x400")
    at = parse_whole(options.stored_at) if options.stored_at is not None else None
    return Hints(options.algorithm or "", over, at, key_bytes(options.key) if options.key else b"")


def _document(placed: Placed) -> dict[str, Any]:
    """As the contract has it; `…_from_end` is null where an edge is counted from the beginning. `layer` is the payload
    in which it is stored, `over` another one that the range is in; `to_said` is there where a number says where the
    range ends, and `header_ends`, of each save, where offsets move with a header.
    """
    finding = placed.finding
    (start, end), said = placed.covered, finding.said
    base, header = (placed.over or placed.held).offset, placed.header
    return {
        "algorithm": finding.algorithm.name,
        "parameters": finding.parameters,
        "from": base + start,
        "to": base + end,
        "to_from_end": finding.end.offset if finding.end.from_end else None,
        "stored_at": placed.place_in_file,
        "stored_at_from_end": finding.stored.offset if finding.stored.from_end else None,
        "stored_as": finding.form,
        "size": finding.size,
        "holds_in": finding.holds_in,
        "of": finding.of,
        "bits": round(finding.bits, 1),
        "sure": finding.sure,
        "freedom": finding.freedom,
        "layer": (placed.held.words or None) if placed.held.header is None else None,
        "over": placed.over.words if placed.over is not None else None,
        **({"header_ends": header.ends} if header is not None else {}),
        **({"to_said": {"at": said.at, "stored_as": said.form, "from": said.behind}} if said is not None else {}),
    }


def _row(placed: Placed) -> tuple[str, ...]:
    finding, held = placed.finding, placed.held
    within = f" of {held.words}" if held.words and placed.over is not None and held.header is None else ""
    return (
        f"0x{placed.place_in_file:X} · {placed.place_in_file}{within}",
        f"{finding.form}, {finding.size} bytes",
        finding.name_in_words,
        placed.covers_in_words(),
        f"{finding.holds_in} of {finding.of}",
        finding.sureness_in_words,
    )
