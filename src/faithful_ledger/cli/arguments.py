"""What each command takes: its arguments, and examples for its help."""

from __future__ import annotations

import argparse
from collections.abc import Callable

__all__ = ["EXAMPLES", "add_arguments"]

SEARCH_MOST = 20_000  # hits; a common byte has as many as there are bytes
SEALS_FOR = 180.0  # seconds, if nothing else is said
WITHOUT_TEMPLATE = (
    "template",
    "snapshots",
    "restore",
    "reverse",
    "locate",
    "find",
    "search",
    "watch",
    "profile",
    "vault",
)
WITH_ROOTS = ("read", "check", "post", "keep", "compare", "slots", "carry")
WITHOUT_BOOK = (
    "template",
    "unwrap",
    "wrap",
    "read",
    "check",
    "locate",
    "compare",
    "find",
    "search",
    "profile",
)

EXAMPLES = {
    "post": """\
paths:
  purse.marks                 a field by its name, or a value of a text by its keys
  crew[2].air                 a record by its number, from 0
  crew[name=Tamsin].air       a record by what one of its fields says
  hold[*].wear                every record
  '"Purse"."max.air"'         names with dots or blanks, in quotation marks
  water(text).levels[0]       what a string of a text holds

examples:
  faithful-ledger post harbour.bwk --set purse.marks=5200 --dry-run
  faithful-ledger post harbour.bwk --set 'crew[name=Tamsin].injuries=-burn' --set company.day=12
  faithful-ledger post harbour.bwk --set purse.marks=70000 --anyway   (outside the template's bounds)
""",
    "find-seals": """\
examples:
  faithful-ledger find-seals a.sav b.sav c.sav d.sav
  faithful-ledger find-seals a.sav b.sav --algorithm crc-32 --stored-at 0x10
  faithful-ledger find-seals a.sav b.sav --key "62 72 69 6E"
  faithful-ledger find-seals a.sav b.sav c.sav d.sav --accept    into the book's own template
  faithful-ledger find-seals slot-1/ slot-2/ slot-3/    checksums of one file in another
""",
    "locate": """\
examples:
  faithful-ledger locate --seen a.sav=1340 --seen b.sav=1432 --seen c.sav=less
  faithful-ledger locate --seen a.sav=1340 --seen b.sav=1432 --json | faithful-ledger pin b.sav --place - --as Marks
""",
}


def add_arguments(command: argparse.ArgumentParser, name: str) -> None:
    """All that a command takes."""
    OWN.get(name, _one_file)(command)
    if name not in ("completion", "card", "carry", "kit"):
        _common(command, name)


def _common(command: argparse.ArgumentParser, name: str) -> None:
    """What most commands take."""
    add = command.add_argument
    if name not in ("open", "template"):
        add("--json", action="store_true", help="print one JSON document and nothing else")
    if name not in WITHOUT_TEMPLATE:
        add("--template", metavar="T", help="a template's id or file, or none; else the save is recognised")
        add("--format", metavar="F", help="the format of a text without a template; else it is recognised")
    if name in WITH_ROOTS:
        about = "a folder of the game's that the template names by its role; the book remembers it"
        add("--root", metavar="ROLE=FOLDER", action="append", default=[], dest="roots", help=about)
    if name not in WITHOUT_BOOK:
        add("--book", metavar="B", help="the book to use; else the one that knows the file")


def _one_file(command: argparse.ArgumentParser) -> None:
    command.add_argument("file", metavar="FILE", help="a save, or its folder")


def _any_file(command: argparse.ArgumentParser) -> None:
    command.add_argument("file", metavar="FILE", nargs="?", help="a save, or its folder")


def _keys(command: argparse.ArgumentParser) -> None:
    about = "a key or password that opens what is hidden, as text or in hexadecimal; how it is used is found out"
    command.add_argument("--key", metavar="FILE|TEXT", help=about)
    command.add_argument("--salt", metavar="TEXT", help="the salt of that password, where it is known")
    command.add_argument("--iv", metavar="TEXT", help="the initial vector, where it is known and not in the save")


def _locate(command: argparse.ArgumentParser) -> None:
    add = command.add_argument
    _keys(command)
    add(
        "--seen",
        metavar="FILE=VALUE",
        action="append",
        default=[],
        help="a number as the game shows it, a text, more, less, …",
    )
    add("--most", metavar="N", type=int, default=20, help="how many places to list at most")
    how_long = "seconds to look at most: 10, or 40 with a key"
    add("--for", metavar="SECONDS", type=float, dest="seconds", help=how_long)


def _find_seals(command: argparse.ArgumentParser) -> None:
    add = command.add_argument
    add("files", metavar="FILE", nargs="+", help="saves of one game, four of one size say most; or the folder of each")
    add("--most", metavar="N", type=int, default=20, help="how many seals to list at most")
    add("--algorithm", metavar="A", help="only this algorithm, or those whose names begin so")
    add("--over", metavar="FROM..TO", help="only over these offsets of the first file")
    add("--stored-at", metavar="OFFSET", help="only what is stored there in the first file")
    add(
        "--key", metavar="FILE|HEX", help="the key of an HMAC, or bytes that are hashed as well: a file, or hexadecimal"
    )
    add("--for", metavar="SECONDS", type=float, dest="seconds", default=SEALS_FOR, help="how long to look at most")
    add("--accept", action="store_true", help="put all that is sure into a template, or with --stored-at the likeliest")


def _find(command: argparse.ArgumentParser) -> None:
    add = command.add_argument
    add("folders", metavar="FOLDER", nargs="*", help="where to look; else the usual places")
    add("--name", metavar="WORDS", default="", help="words that are in the name or the path")
    add("--since", metavar="WHEN", help="changed since: 10min, 2h, today, just now, or a time")
    add("--max-size", metavar="N", type=int, help="not larger than so many bytes")
    add("--most", metavar="N", type=int, default=50, help="how many files to list at most")
    add("--everything", action="store_true", help="media, logs and caches as well")


def _watch(command: argparse.ArgumentParser) -> None:
    add = command.add_argument
    add("folders", metavar="FOLDER", nargs="+", help="folders to watch, with all below them")
    add("--for", metavar="SECONDS", type=float, dest="seconds", help="stop after so long; else with Ctrl+C")
    add("--keep", action="store_true", help="keep a copy at each save moment")


def _compare(command: argparse.ArgumentParser) -> None:
    add = command.add_argument
    add("a", metavar="A", help="the save before")
    add("b", metavar="B", help="the save after")


def _completion(command: argparse.ArgumentParser) -> None:
    command.add_argument("shell", metavar="SHELL", choices=("bash", "zsh", "fish"), help="bash, zsh or fish")


def _vault(command: argparse.ArgumentParser) -> None:
    actions = ("check", "list", "rebuild")
    command.add_argument("action", metavar="|".join(actions), choices=actions, help="what to do")


def _restore(command: argparse.ArgumentParser) -> None:
    command.add_argument("id", metavar="ID", help="a snapshot's id, or its beginning")
    command.add_argument("--to", metavar="PATH", help="write it there instead of where it was")


def _history(command: argparse.ArgumentParser) -> None:
    _one_file(command)
    command.add_argument("--field", metavar="PATH", help="what this field said at each of them")


def _reverse(command: argparse.ArgumentParser) -> None:
    command.add_argument("id", metavar="ID", help="the id of a posting or a carry, or its beginning")
    command.add_argument("--anyway", action="store_true", help="also where the game has written the save since")


def _search(command: argparse.ArgumentParser) -> None:
    _one_file(command)
    add = command.add_argument
    add("--most", metavar="N", type=int, default=SEARCH_MOST, help="how many hits to list at most")
    one = command.add_mutually_exclusive_group(required=True)
    one.add_argument("--number", metavar="N", help="in every storage, also times 10 and 100")
    one.add_argument("--text", metavar="S", help="in every usual encoding")
    one.add_argument("--numbers", metavar="N,N,N", help="numbers at a constant distance, in any order")
    one.add_argument("--bytes", metavar="BYTES", help='bytes in hexadecimal, ?? for any: "0A ?? FF"')


def _profile(command: argparse.ArgumentParser) -> None:
    _one_file(command)
    _keys(command)


def _pin(command: argparse.ArgumentParser) -> None:
    _one_file(command)
    add = command.add_argument
    add("--place", metavar="JSON", required=True, help="as locate --json prints it; its file; or - for standard input")
    add("--as", metavar="NAME", required=True, dest="as_name", help="what the game calls it")
    add("--copies", action="store_true", help="also the other places that said the same, kept equal to it from now on")


def _read(command: argparse.ArgumentParser) -> None:
    add = command.add_argument
    add("file", metavar="FILE", help="a save, or its folder; - for standard input")
    add("paths", metavar="PATH", nargs="*", help="only these fields, as post --set takes them")
    add("--csv", action="store_true", help="print a table for spreadsheets: path, value, offset, size, stored_as")


def _keep(command: argparse.ArgumentParser) -> None:
    _one_file(command)
    command.add_argument("--label", metavar="L", default="", help="what was done in the game")
    command.add_argument("-o", "--out", metavar="OUT", help="also write it as one file, for others")


def _post(command: argparse.ArgumentParser) -> None:
    _one_file(command)
    add = command.add_argument
    add(
        "--set",
        metavar="PATH=VALUE",
        action="append",
        default=[],
        dest="settings",
        help="an entry; may be repeated",
    )
    add("--out", metavar="OUT", help="write to this new file or folder and leave the save alone")
    _posting(command)


def _posting(command: argparse.ArgumentParser) -> None:
    """What every command takes that posts."""
    add = command.add_argument
    add("--dry-run", action="store_true", help="show what would be written, and write nothing")
    add("--note", metavar="TEXT", default="", help="a note for the history")
    add("--anyway", action="store_true", help="allow values outside the template's bounds")
    add("--detach-links", action="store_true", help="allow a file with several names (hard links)")
    broken = command.add_mutually_exclusive_group()
    broken.add_argument("--renew-broken", action="store_true", help="also renew seals that did not hold before")
    broken.add_argument("--leave-broken", action="store_true", help="leave seals that did not hold before")


def _carry(command: argparse.ArgumentParser) -> None:
    actions = command.add_subparsers(dest="what", metavar="WHAT", required=True, parser_class=type(command))

    def action(name: str, about: str, *files: tuple[str, str, str]) -> argparse.ArgumentParser:
        made: argparse.ArgumentParser = actions.add_parser(name, help=about, description=about)
        for key, metavar, what in files:
            made.add_argument(key, metavar=metavar, help=what)
        return made

    source = ("source", "FROM", "the save that they come from; it stays as it is")
    target = ("target", "TO", "the save that they go into")
    for name, about in (("values", "single values into another save"), ("rows", "whole records into another save")):
        one = action(name, about, source, target)
        where = "a field, group, rows, record or section; PATH=PATH where it goes to another field"
        one.add_argument("--take", metavar="PATH", nargs="+", action="extend", required=True, help=where)
        clash = "where a record has this key already: keep it (if nothing is said), replace its values, or add one"
        one.add_argument("--on-clash", choices=("keep", "replace", "add"), default="keep", help=clash)
        one.add_argument("--only-empty", action="store_true", help="only where nothing is there yet")
    slot = action(
        "slot", "a save into another slot", ("file", "FILE", "a save, a kept copy by its id, or an exported one")
    )
    slot.add_argument("--to", metavar="SLOT", required=True, help="the slot it goes into")
    how = slot.add_mutually_exclusive_group()
    how.add_argument("--move", action="store_true", help="its own slot is free afterwards")
    how.add_argument("--swap", action="store_true", help="what is in that slot goes into its own")
    slot.add_argument(
        "--replace", action="store_true", help="also where the slot is taken; what is there is kept first"
    )
    slot.add_argument("--from", metavar="SLOT", dest="of", help="the slot it comes from, where all are in one file")
    slot.add_argument(
        "--in", metavar="FOLDER", dest="folder", help="the folder of the slots, for a copy from elsewhere"
    )
    here = ("source", "FROM", "the folder that the files come from; it stays as it is")
    there = ("target", "TO", "the folder that they go into")
    files = action("files", "what was played, from one folder of a game to another one", here, there)
    world = action("world", "what was played in one world into another one, with its registers", here, there)
    for each in (files, world):
        for option, does in (("--take", "go along"), ("--leave", "stay")):
            about = f"names of files, also with *, that {does}; remembered"
            each.add_argument(option, metavar="NAME", nargs="+", action="extend", default=[], help=about)
        each.add_argument("--over-newer", action="store_true", help="also over files that are newer there")
    world.add_argument("--remove-old", action="store_true", help="remove FROM, once the game has accepted TO")
    theirs = ("file", "FILE", "somebody else's save, which gets your owner")
    owner = action("owner", "somebody else's save under your own owner number", theirs)
    owner.add_argument("--like", metavar="OWN", required=True, help="a save of your own")
    about = "put only the payload of FILE into the wrapper of OWN, also from another region"
    owner.add_argument("--payload", action="store_true", help=about)
    for each in actions.choices.values():
        _posting(each)
        each.set_defaults(out=None)
        _common(each, "carry")


def _card(command: argparse.ArgumentParser) -> None:
    actions = command.add_subparsers(dest="action", metavar="ACTION", required=True, parser_class=type(command))
    for name, about in (
        ("list", "what is on a card, and how much room is left"),
        ("add", "put files on a card; a pair together"),
        ("extract", "write an entry, and what belongs to it, to new files"),
        ("remove", "take an entry off a card, and what belongs to it"),
        ("replace", "put other bytes in the place of an entry"),
    ):
        one: argparse.ArgumentParser = actions.add_parser(name, help=about, description=about)
        one.add_argument("image", metavar="IMAGE", help="the image of the card")
        if name == "add":
            one.add_argument("files", metavar="FILE", nargs="+", help="the files, by whose names they are on it")
        elif name != "list":
            one.add_argument("name", metavar="NAME", help="the name of the entry")
        if name == "replace":
            one.add_argument("files", metavar="FILE", nargs="+", help="what is in it then; of a pair both")
        if name == "extract":
            one.add_argument("-o", "--out", metavar="FOLDER", default=".", help="where to; else the current folder")
        if name in ("add", "remove", "replace"):
            _posting(one)
            one.set_defaults(out=None)
        _common(one, "card")


def _kit(command: argparse.ArgumentParser) -> None:
    actions = command.add_subparsers(dest="action", metavar="ACTION", required=True, parser_class=type(command))
    take = actions.add_parser("take", help="take values of a save")
    take.add_argument("file", metavar="FILE", help="a save, or its folder")
    about = "fields, groups, rows, records or sections, with commas between them"
    take.add_argument("--fields", metavar="PATH,…", nargs="+", action="extend", required=True, help=about)
    take.add_argument("-o", "--out", metavar="K", help="the new file; else a line to paste is printed")
    apply = actions.add_parser("apply", help="enter the values of a kit in a save, and post")
    apply.add_argument("kit", metavar="K", help="the file of a kit, or its line")
    apply.add_argument("file", metavar="FILE", help="a save, or its folder")
    apply.add_argument("--only-empty", action="store_true", help="only where nothing is there yet")
    _posting(apply)
    apply.set_defaults(out=None)
    for each in (take, apply):
        _common(each, "kit")


def _unwrap(command: argparse.ArgumentParser) -> None:
    _one_file(command)
    command.add_argument("-o", "--out", metavar="OUT", required=True, help="the new file for the payload")
    _keys(command)
    command.add_argument("--layer", metavar="NAME", help="which payload, where there are several")


def _wrap(command: argparse.ArgumentParser) -> None:
    add = command.add_argument
    _keys(command)
    add("payload", metavar="PAYLOAD", help="the bytes to put in")
    add("--like", metavar="FILE", required=True, help="the file whose layers it goes into; it stays as it is")
    add("-o", "--out", metavar="OUT", required=True, help="the new file")
    add("--layer", metavar="NAME", help="which payload, where there are several")


def _template(command: argparse.ArgumentParser) -> None:
    """An action, and what it takes."""
    actions = command.add_subparsers(dest="action", metavar="ACTION", required=True, parser_class=type(command))

    def action(name: str, about: str) -> Callable[..., object]:
        made = actions.add_parser(name, help=about, description=about)
        made.add_argument("--json", action="store_true", help="print one JSON document and nothing else")
        made.add_argument("--book", metavar="B", help="a book whose own templates count as well")
        return made.add_argument

    known = "a template's id or file"
    add = action("check", "say what is wrong with a template, line by line")
    add("name", metavar="T", help=known)
    action("list", "list the templates at hand, with their origin and standing")
    add = action("test", "say whether saves fit a template, are in balance, and agree with its witnesses")
    add("name", metavar="T", help=known)
    add("files", metavar="SAVE", nargs="+", help="a save, or its folder")
    add = action("witness", "let a save prove a template: its hash, and values it must show")
    add("name", metavar="T", help=known)
    add("file", metavar="SAVE", help="a save that the game accepts")
    add("--fields", metavar="PATH,…", help="which fields; else those of the Edit sheet")
    add("--note", metavar="TEXT", default="", help="what this save is")
    add = action("sheet", "print a reference sheet: offsets, storages, meanings, standing")
    add("name", metavar="T", help=known)
    add("--save", metavar="FILE", help="a save whose offsets and values are shown")
    add("--style", choices=("markdown", "html"), help="else by the name of OUT; Markdown where it is printed")
    add("-o", "--out", metavar="OUT", help="a new file; else it is printed")
    add = action("reader", "make a program that reads such saves by itself")
    add("name", metavar="T", help=known)
    add("--language", metavar="L", default="python", help="python")
    add("-o", "--out", metavar="OUT", help="a new file; else it is printed")
    add = action("schema", "print a JSON Schema of the template language, for editors")
    add("-o", "--out", metavar="OUT", help="a new file; else it is printed")
    add = action("diff", "say what changed between two templates")
    add("a", metavar="A", help="the revision before")
    add("b", metavar="B", help="the revision after")
    add = action("export", "write a template into one file for others")
    add("name", metavar="T", help=known)
    add("-o", "--out", metavar="OUT", required=True, help="the new file")
    add = action("import", "check a template of somebody else's and take it in")
    add("file", metavar="FILE", help="the template's file")
    add("--replace", action="store_true", help="in the place of another revision, which is kept beside it")
    add = action("own", "copy a template under an id of your own")
    add("name", metavar="T", help=known)
    add("--id", metavar="ID", required=True, help="the new id")


OWN: dict[str, Callable[[argparse.ArgumentParser], None]] = {
    "card": _card,
    "carry": _carry,
    "compare": _compare,
    "completion": _completion,
    "find": _find,
    "find-seals": _find_seals,
    "history": _history,
    "keep": _keep,
    "kit": _kit,
    "locate": _locate,
    "open": _any_file,
    "pin": _pin,
    "post": _post,
    "profile": _profile,
    "read": _read,
    "restore": _restore,
    "reverse": _reverse,
    "search": _search,
    "snapshots": _any_file,
    "template": _template,
    "unwrap": _unwrap,
    "vault": _vault,
    "watch": _watch,
    "wrap": _wrap,
}
