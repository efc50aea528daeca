"""`slots`, `carry` and `kit`: saves that go elsewhere, and values and records that go into another save."""

from __future__ import annotations

import argparse
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from faithful_ledger.cli.opening import book_for, opened, roots_of
from faithful_ledger.cli.output import print_json, print_table, say, warn
from faithful_ledger.cli.saves import plan_json, posted, print_after, print_plan, split_paths, split_setting
from faithful_ledger.core.book import Book
from faithful_ledger.core.carried import Carried, carry_hazards, check_carry, latest_carry, post_carry
from faithful_ledger.core.carry import (
    Carry,
    Folders,
    How,
    InnerSlots,
    LeftOut,
    ListedFile,
    Slot,
    Slots,
    carry_owner,
    carry_payload,
    carry_record,
    carry_rows,
    carry_slot,
    kits,
    put_values,
    runs_of,
    slots_in,
    taken,
)
from faithful_ledger.core.errors import AddressError, Refused
from faithful_ledger.core.find import programs
from faithful_ledger.core.posting.files import new_file
from faithful_ledger.core.save import Save
from faithful_ledger.core.shelf import Shelf
from faithful_ledger.core.vault.archive import is_archive

__all__ = ["carry", "kit", "slots"]


def slots(options: argparse.Namespace) -> int:
    """The slots of a game; status 1 where there are none."""
    shelf: Shelf = options.shelf
    found = [each for group in _slots_at(options, shelf) for each in group.listed()]
    if options.json:
        print_json({"slots": [_slot_json(slot) for slot in found]})
    else:
        taken = [(s.slot, s.name, s.title or f"✕ {s.problem}") for s in found if s.taken]
        print_table("Slots", ("Slot", "File", "What is in it"), taken)
        if free := runs_of([each.slot for each in found if not each.taken]):
            say(f"Free: {free}")
    return 0 if found else 1


def _slot_json(slot: Slot) -> dict[str, Any]:
    known = {"slot": slot.slot, "file": str(slot.path), "title": slot.title, "taken": slot.taken}
    return known | ({"problem": slot.problem} if slot.problem else {})


def _slots_at(options: argparse.Namespace, shelf: Shelf) -> Sequence[Slots | InnerSlots]:
    """The slots around a save, or those of each game in a folder."""
    path = Path(options.file)
    if not path.is_dir() or options.template is not None:
        if options.template is not None and path.is_dir():
            return [Slots(shelf.library(None).get(options.template), path, roots_of(options))]
        save = opened(options, path, whole=False)
        spec = save.template.slots if save.template is not None else None
        return [InnerSlots(save) if spec is not None and spec.rows else Slots.around(save)]
    return slots_in(path, shelf.library(shelf.book_of(path)), roots_of(options))


def carry(options: argparse.Namespace) -> int:
    """A save, or a part of one, to another place."""
    return CARRIES[options.what](options)


def _slot(options: argparse.Namespace) -> int:
    """A save into another slot."""
    shelf: Shelf = options.shelf
    path = Path(options.file)
    how: How = "move" if options.move else "swap" if options.swap else "copy"
    if path.exists() and not is_archive(path):
        source = opened(options, path)
    elif path.exists():
        source = shelf.open_archive(path, options.template)
        if options.folder is None:
            raise AddressError(
                f"{path.name} is an exported copy", "nothing was written; say with --in where its slots are"
            )
    elif path.parent != Path() or path.suffix:
        raise AddressError(
            f"there is no file {path}", "nothing was written; name a save, an exported copy or a snapshot"
        )
    else:
        book, snapshot = shelf.find_snapshot(str(path))
        source = shelf.open_kept(book, snapshot, options.template)
    is_kept = not path.exists()
    if source.template is not None and source.template.slots is not None and source.template.slots.rows:
        return _inner_slot(options, source, how, is_kept=is_kept)
    home = Path(options.folder) if options.folder else Slots.around(source).folder if is_kept else None
    around = Slots.at(source, home) if home is not None else None
    made = carry_slot(source, options.to, how, around, anyway=options.replace)
    return _carried(options, made, book_for(options, source.path, source))


def _owner(options: argparse.Namespace) -> int:
    """The owner of one save in another one, or the payload of that in the wrapper of one's own."""
    theirs, own = opened(options, Path(options.file)), opened(options, Path(options.like))
    if options.payload:
        carry_payload(theirs, own)
    else:
        carry_owner(theirs, own, "carry only its payload into your own wrapper, with --payload")
    return _posted(options, own if options.payload else theirs, [])


def _inner_slot(options: argparse.Namespace, source: Save, how: How, *, is_kept: bool) -> int:
    """A record into another slot of one file; one of a kept copy into the save as it is now."""
    of = options.of or (options.to if is_kept else None)
    if of is None:
        raise AddressError(f"{source.path.name} has several slots", "nothing was written; say which with --from SLOT")
    save = opened(options, source.path) if is_kept else source
    carry_record(save, options.to, of, how, source if is_kept else None, anyway=options.replace)
    return _posted(options, save, [])


def _folders(options: argparse.Namespace) -> int:
    """What was played in one folder into another one; a world with its registers."""
    shelf: Shelf = options.shelf
    source, target = Path(options.source), Path(options.target)
    book, roots = shelf.book_of_folder(source, target), roots_of(options)
    roots = (book.keeping.roots if book is not None else {}) | roots
    if options.template is not None:
        found = Folders(source, target, shelf.library(book).get(options.template), roots=roots)
    else:
        found = Folders.recognised(source, target, shelf.library(book), {}, roots)
    if options.what == "world" and found.template is None:
        what = f"no template describes {source} or {target}"
        raise AddressError(what, "nothing was written; a template says what was played, and where its mark is")
    id_ = found.template.id if found.template is not None else ""
    book = book or shelf.book_for(target, found.template, options.book)
    found.decide_again(book.keeping.decisions(id_))
    for names, goes in ((options.take, True), (options.leave, False)):
        found.decide(names, goes=goes, over_newer=options.over_newer)
    removes = options.what == "world" and options.remove_old
    if removes:
        _refuse_unaccepted(book, found)
    made = found.removal() if removes else found.carry()
    if not options.dry_run:
        book.keeping.decide(id_, found.decisions)
        for name, folder in roots_of(options).items():
            book.keeping.grant(name, folder)
    listed = found.with_fields()
    status = _carried(options, made, book, listed)
    if not options.dry_run and not removes:
        again = Folders(source, target, found.template, found.decisions, roots)
        if behind := [each.name for each in again.listed if each.goes]:
            warn(f"note: {behind[0]} is not the same on both sides; look whether a program has written it")
    return status


def _refuse_unaccepted(book: Book, found: Folders) -> None:
    """Raises Refused where the book says that the game did not accept the new one, so that the old one must stay."""
    latest = latest_carry(book.history, found.about, found.target)
    verdict = book.records.verdicts().get(latest.id, "") if latest is not None else ""
    if verdict in ("refused", "odd"):
        what = f"the game's verdict on {found.target.name} is “{verdict}”"
        raise Refused(what, f"nothing was removed; reverse the carry, or let the game accept {found.target.name}")


def _carried(options: argparse.Namespace, made: Carry, book: Book, listed: Sequence[ListedFile] | None = None) -> int:
    """Write a carry, unless only asked for, and report it."""
    done, running = None, programs()
    if options.dry_run:
        for failed in (check for check in check_carry(book.history, made, running) if not check.ok):
            warn(f"note: {failed.text}; {failed.remedy}")
    else:
        done = post_carry(book.history, made, options.note, running)
    for finding in carry_hazards(book.history, made, running):
        warn(f"note: {finding.message}")
    if options.json:
        print_json(
            {
                "written": [str(write.path) for write in made.written] if done else [],
                "removed": [str(write.path) for write in made.removed] if done else [],
                "kept": done.kept if done else [],
                "entries": [{"path": e.path, "old": e.old, "new": e.new, "file": e.file} for e in made.lines],
                "changes": [change._asdict() for change in made.changes],
                "left_out": [each._asdict() for each in made.left_out],
                "in_balance": made.in_balance,
                **({"files": [each._asdict() for each in listed]} if listed is not None else {}),
            }
        )
    else:
        _print_carry(made, done)
    return 0


def _print_carry(made: Carry, done: Carried | None) -> None:
    say(f"{made.about}." if done else f"Plan: {made.about}.")
    files = [(write.path.name, write.in_word, write.cause) for write in made.writes]
    print_table("Files", ("File", "Is", "Because of"), files)
    print_table("Values", ("File", "Field", "Was", "Becomes"), [(e.file, e.path, e.old, e.new) for e in made.lines])
    if made.left_out:
        print_table("Left out", ("What", "Why"), [(each.path, each.why) for each in made.left_out])
    for step in made.steps.before if not done else ():
        say(f"Before you carry: {step}")
    print_after(made)
    for finding in made.findings:
        say(f"{'✕' if finding.level == 'error' else '◇'} {finding.path}: {finding.message}")
    say("◆ in balance" if made.in_balance else "✕ out of balance")
    say(f"Written. Kept before: {', '.join(done.kept)}." if done else "Nothing was written.")


def _into_save(options: argparse.Namespace) -> int:
    """Values or records of one save into another; status 1 where nothing could be carried."""
    source, target = (opened(options, Path(name)) for name in (options.source, options.target))
    if source.path.absolute() == target.path.absolute():
        raise AddressError(f"{source.path} is both sides of the carry", "nothing was changed; name two saves")
    _warn_of_version(source)
    into = dict(_both(each) for each in options.take)
    ids = [each.template.id if each.template is not None else "" for each in (source, target)]
    keeping = book_for(options, target.path, target).keeping
    said = {path: where for path, where in into.items() if where != path}
    if options.what == "rows":
        left = carry_rows(source, target, into, options.on_clash)
    else:
        values, known = taken(source, into), keeping.mapping(ids[0], ids[1]) | said
        left = put_values(target, values, only_empty=options.only_empty, anyway=options.anyway, into=known)
        if said and not options.dry_run:
            keeping.map(ids[0], ids[1], said)
    return _posted(options, target, left)


def _warn_of_version(source: Save) -> None:
    """What is carried was read where another version of the game may have something else."""
    for finding in source.of_another_version:
        warn(f"warning: {source.path.name}: {finding.message}")


def kit(options: argparse.Namespace) -> int:
    """Take values of a save as a kit, or apply one."""
    if options.action == "take":
        return _take(options)
    given = options.kit
    found = kits.kit_of_text(given) if given.startswith(kits.LINE) else kits.read_kit(Path(given))
    save = opened(options, Path(options.file))
    left = put_values(save, found.values, only_empty=options.only_empty, anyway=options.anyway)
    return _posted(options, save, left)


def _take(options: argparse.Namespace) -> int:
    save = opened(options, Path(options.file))
    _warn_of_version(save)
    template = save.template
    values = taken(save, [path for each in options.fields for path in split_paths(each)])
    if not values:
        raise AddressError("nothing was named that has a value", "no kit was made; say what with --fields PATH,…")
    made = kits.Kit(template.game if template else "", template.id if template else "", tuple(values))
    if options.out is not None:
        new_file(Path(options.out), made.file())
    if options.json:
        print_json({"written": options.out, "line": made.line(), **made.document()})
        return 0
    print_table("Kit", ("Field", "Value"), [(each.path, each.text) for each in values])
    say(f"Written to {options.out}." if options.out is not None else made.line())
    return 0


def _posted(options: argparse.Namespace, save: Save, left: list[LeftOut]) -> int:
    plan, kept, written = posted(options, save)
    document = plan_json(plan, written, kept)
    if options.json:
        files = [str(file.file.path) for file in plan.files if file.changes] if written else []
        document |= {"written": files, "kept": [kept] if kept else []}
        print_json({**document, "left_out": [each._asdict() for each in left]})
    else:
        print_plan(plan, written, kept, doubt=save.doubt)
        if left:
            print_table("Left out", ("Field", "Why"), [(each.path, each.why) for each in left])
    return 0 if plan.entries or not left else 1


def _both(given: str) -> tuple[str, str]:
    """A path, and where its value goes: the same path where nothing else is said."""
    try:
        path, where = split_setting(given)
    except AddressError:
        return given.strip(), given.strip()
    return path, where.strip()


CARRIES: dict[str, Callable[[argparse.Namespace], int]] = {
    "files": _folders,
    "owner": _owner,
    "rows": _into_save,
    "slot": _slot,
    "values": _into_save,
    "world": _folders,
}
