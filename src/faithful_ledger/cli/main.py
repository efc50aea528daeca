"""The command `faithful-ledger`: arguments in, one of the commands, one exit status out.

Status 0 done or yes, 1 no, 2 wrong use or bad input, 3 refused to protect data. Imports are made where they are used,
so that --version and --help answer in a blink.
"""

from __future__ import annotations

import sys

from faithful_ledger import __version__

__all__ = ["main"]

TYPE_CHECKING = False
if TYPE_CHECKING:
    import argparse
    from typing import NoReturn

USAGE, STOPPED = 2, 130
SEARCH_MOST = 20_000  # hits; a common byte has as many as there are bytes
LOCATE_FOR = 120.0  # seconds, if nothing else is said
FINDING = ("find", "watch", "profile", "search", "locate", "compare")


ABOUT = {
    "open": "open a save in the window",
    "read": "print every field, seal and finding of a save",
    "check": "say whether a save is in balance",
    "post": "write values into a save so that the game accepts it",
    "find": "look for files that may be saves",
    "watch": "tell each save moment while a game is played, and keep it with --keep",
    "profile": "tell what kind of bytes a file holds: text, numbers, packed, scrambled",
    "search": "find a number, a text, a group of numbers or a row of bytes in a file",
    "locate": "find where a quantity is stored, from what the game showed at several kept copies",
    "compare": "tell what differs between two saves: bytes, moved bytes, fields",
    "keep": "keep an untouched copy of a save",
    "snapshots": "list kept copies",
    "restore": "bring a kept copy back",
    "vault": "check that every kept copy is whole, list them, or rebuild the records from them",
}


def help_text() -> str:
    """What `--help` prints; made by hand, because argparse alone takes longer to load than all the rest."""
    lines = "".join(f"  {name:12}{about}\n" for name, about in ABOUT.items())
    return (
        "usage: faithful-ledger [--help] [--version] COMMAND …\n\n"
        "Find, describe and edit what a saved game holds, so that the game still accepts it.\n"
        "Without a command it opens the window; COMMAND --help tells more about one.\n\n"
        f"commands:\n{lines}\noptions:\n  --help      print this\n  --version   print the version\n"
    )


def parser() -> argparse.ArgumentParser:
    """All commands with their arguments."""
    import argparse

    class Parser(argparse.ArgumentParser):
        def error(self, message: str) -> NoReturn:
            raise WrongUse(message, f"see {self.prog} --help")

    top = Parser(prog="faithful-ledger")
    top.format_help = help_text  # type: ignore[method-assign]
    top.add_argument("--version", action="version", version=f"faithful-ledger {__version__}")
    commands = top.add_subparsers(dest="command", metavar="COMMAND", parser_class=Parser)
    for name, about in ABOUT.items():
        _add_arguments(commands.add_parser(name, help=about, description=about), name)
    return top


class WrongUse(Exception):
    """Arguments that do not make a command: what is wrong, and where it is explained."""


def _add_arguments(command: argparse.ArgumentParser, name: str) -> None:
    add = command.add_argument
    if name == "locate":
        add("--seen", metavar="FILE=VALUE", action="append", default=[], help="a number, a text, more, less, same, …")
        add("--most", metavar="N", type=int, default=20, help="how many places to tell at most")
        add("--for", metavar="SECONDS", type=float, dest="seconds", default=LOCATE_FOR, help="how long to look at most")
    elif name == "find":
        add("folders", metavar="FOLDER", nargs="*", help="where to look; else the usual places")
        add("--name", metavar="WORDS", default="", help="words that are in the name or the path")
        add("--since", metavar="WHEN", help="changed since: 10min, 2h, today, just now, or a time")
        add("--max-size", metavar="N", type=int, help="not larger than so many bytes")
        add("--most", metavar="N", type=int, default=50, help="how many files to tell at most")
        add("--everything", action="store_true", help="media, logs and caches as well")
    elif name == "watch":
        add("folders", metavar="FOLDER", nargs="+", help="folders to watch, with all below them")
        add("--for", metavar="SECONDS", type=float, dest="seconds", help="stop after so long; else with Ctrl+C")
        add("--keep", action="store_true", help="keep a copy at each save moment")
    elif name == "compare":
        add("a", metavar="A", help="the save before")
        add("b", metavar="B", help="the save after")
    elif name == "vault":
        add("action", metavar="check|list|rebuild", choices=("check", "list", "rebuild"), help="what to do")
    elif name == "restore":
        add("id", metavar="ID", help="a snapshot's id, or its beginning")
        add("--to", metavar="PATH", help="write it there instead of where it was")
    else:
        add("file", metavar="FILE", nargs="?" if name in ("open", "snapshots") else None, help="a save, or its folder")
    if name != "open":
        add("--json", action="store_true", help="print one JSON document and nothing else")
    if name not in ("snapshots", "restore", "locate", "find", "search", "watch", "profile", "vault"):
        add("--template", metavar="T", help="a template's id or file; else the save is recognised")
        add("--format", metavar="F", help="the format of a text without a template; else it is recognised")
    if name in ("read", "check", "post", "keep", "compare"):
        add(
            "--root",
            metavar="ROLE=FOLDER",
            action="append",
            default=[],
            dest="roots",
            help="a folder of the game's that the template names by its role; the book remembers it",
        )
    if name not in ("read", "check", "locate", "compare", "find", "search", "profile"):
        add("--book", metavar="B", help="the book to use; else the one that knows the file")
    if name == "search":
        add("--most", metavar="N", type=int, default=SEARCH_MOST, help="how many hits to list at most")
        one = command.add_mutually_exclusive_group(required=True)
        one.add_argument("--number", metavar="N", help="in every storage, also times 10 and 100")
        one.add_argument("--text", metavar="S", help="in every usual encoding")
        one.add_argument("--numbers", metavar="N,N,N", help="numbers at a constant distance, in any order")
        one.add_argument("--bytes", metavar="BYTES", help='bytes in hexadecimal, ?? for any: "0A ?? FF"')
    if name == "keep":
        add("--label", metavar="L", default="", help="what was done in the game")
    if name == "post":
        add(
            "--set",
            metavar="PATH=VALUE",
            action="append",
            default=[],
            dest="settings",
            help="an entry; may be repeated",
        )
        add("--out", metavar="OUT", help="write to this new file or folder and leave the save alone")
        add("--dry-run", action="store_true", help="show what would be written, and write nothing")
        add("--note", metavar="TEXT", default="", help="a note for the history")
        add("--anyway", action="store_true", help="allow values outside the template's bounds")
        add("--detach-links", action="store_true", help="allow a file with several names (hard links)")
        broken = command.add_mutually_exclusive_group()
        broken.add_argument("--renew-broken", action="store_true", help="also renew seals that did not hold before")
        broken.add_argument("--leave-broken", action="store_true", help="leave seals that did not hold before")


def main(arguments: list[str] | None = None) -> int:
    """Run one command; returns the exit status."""
    given = sys.argv[1:] if arguments is None else arguments
    if given == ["--version"]:
        print(f"faithful-ledger {__version__}")
        return 0
    if given in (["--help"], ["-h"]):
        print(help_text(), end="")
        return 0
    if not given:
        given = ["open"]
    for stream in (sys.stdout, sys.stderr):
        if hasattr(stream, "reconfigure"):  # what the encoding does not have is written as an escape
            stream.reconfigure(errors="backslashreplace")
    try:
        options = parser().parse_args(given)
    except SystemExit as stop:
        return int(stop.code or 0)
    except WrongUse as error:
        what, remedy = error.args
        return _failed(f"{what}; {remedy}", what, remedy, USAGE, as_json="--json" in given)
    return _run(options)


def _failed(line: str, what: str, remedy: str, status: int, *, as_json: bool) -> int:
    """Report an error: one line, and with --json a document on standard output."""
    from faithful_ledger.cli.output import print_json, warn

    warn(f"error: {line}")
    if as_json:
        print_json({"error": what, "remedy": remedy})
    return status


def _run(options: argparse.Namespace) -> int:
    import os
    from importlib import import_module

    from faithful_ledger.cli.output import warn
    from faithful_ledger.core.errors import LedgerError

    as_json = getattr(options, "json", False)
    shelf = None
    try:
        if options.command == "open":
            from faithful_ledger.desk.application import run

            return run(options.file, options.template, options.book)
        from faithful_ledger.core.shelf import Shelf

        room = "finding" if options.command in FINDING else "saves"
        commands = import_module(f"faithful_ledger.cli.{room}")

        options.shelf = shelf = Shelf()
        try:
            status: int = getattr(commands, options.command)(options)
        finally:
            shelf.close()
        sys.stdout.flush()
        for recovery in shelf.recovered:
            warn(f"note: {recovery}")
        for name, trouble in shelf.unusable.items():
            warn(f"note: the book {name} was passed over: {trouble}")
        return status
    except LedgerError as error:
        notes = "; ".join(getattr(error, "__notes__", ()))
        line = f"{error}{'; ' + notes if notes else ''}"
        return _failed(line, error.what, error.remedy, error.status, as_json=as_json)
    except KeyboardInterrupt:
        done = shelf.done if shelf is not None else []
        text = f"stopped after {'; '.join(done)}" if done else "stopped; everything is as it was"
        return _failed(text, text, "", STOPPED, as_json=as_json)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        return 0
    except OSError as error:
        text = f"{error.filename or ''} {error.strerror or error}".strip()
        return _failed(f"{text}; nothing was written", text, "nothing was written", USAGE, as_json=as_json)
    except MemoryError:
        text = "there is not enough memory for this file"
        return _failed(f"{text}; nothing was written", text, "nothing was written", USAGE, as_json=as_json)
