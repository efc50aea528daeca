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
ROOMS = {
    "describing": ("pin", "completion"),
    "finding": ("find", "watch", "profile", "search", "locate", "compare"),
    "sealing": ("find-seals",),
    "templates": ("template",),
    "layering": ("unwrap", "wrap"),
    "carding": ("card",),
    "history": ("history", "reverse"),
    "carrying": ("carry", "kit", "slots"),
}


ABOUT = {
    "open": "open a save in the window",
    "read": "print every field, seal and finding of a save",
    "check": "say whether a save is in balance",
    "post": "write values into a save so that the game accepts it",
    "find": "look for files that may be saves",
    "watch": "report each save moment while a game is played, and keep it with --keep",
    "profile": "say what kind of bytes a file holds: text, numbers, packed, scrambled",
    "search": "find a number, a text, a group of numbers or a row of bytes in a file",
    "locate": "find where a quantity is stored, from what the game showed at several kept copies",
    "pin": "put a place that locate found into a template",
    "find-seals": "find which checksum covers which bytes, and where it is stored",
    "template": "check, list, test and hand on templates: sheets, readers, witnesses, differences",
    "unwrap": "write the payload of a packed or scrambled file to a new one",
    "wrap": "put a payload back into a file like the one it came from",
    "compare": "show what differs between two saves: bytes, moved bytes, fields",
    "slots": "list the slots of a game in a folder, with what is in each",
    "carry": "carry a save into another slot, or values and records into another save",
    "card": "list, add, extract, remove or replace files on an image of a memory card",
    "kit": "take values of a save as a small file or line of text, or apply one",
    "keep": "keep an untouched copy of a save",
    "snapshots": "list kept copies",
    "restore": "bring a kept copy back",
    "history": "list what happened to a save: kept copies, sightings, postings, carries",
    "reverse": "bring back the bytes from before a posting or a carry",
    "vault": "check that every kept copy is whole, list them, or rebuild the records from them",
    "completion": "print what a shell needs to complete the commands",
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

    from faithful_ledger.cli.arguments import EXAMPLES, add_arguments

    class Parser(argparse.ArgumentParser):
        def error(self, message: str) -> NoReturn:
            raise WrongUse(message, f"see {self.prog} --help")

    top = Parser(prog="faithful-ledger")
    top.format_help = help_text  # type: ignore[method-assign]
    top.add_argument("--version", action="version", version=f"faithful-ledger {__version__}")
    commands = top.add_subparsers(dest="command", metavar="COMMAND", parser_class=Parser)
    for name, about in ABOUT.items():
        shape = argparse.RawDescriptionHelpFormatter
        command = commands.add_parser(
            name, help=about, description=about, epilog=EXAMPLES.get(name), formatter_class=shape
        )
        add_arguments(command, name)
    return top


class WrongUse(Exception):
    """Arguments that do not make a command: what is wrong, and where it is explained."""


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
        options = _parsed(given)
    except SystemExit as stop:
        return int(stop.code or 0)
    except WrongUse as error:
        what, remedy = error.args
        return _failed(f"{what}; {remedy}", what, remedy, USAGE, as_json="--json" in given)
    return _run(options)


def _parsed(given: list[str]) -> argparse.Namespace:
    """The options; the paths of `read` may also stand behind them.

    Raises:
        WrongUse: they make no command.
    """
    options, rest = parser().parse_known_args(given)
    if rest and (options.command != "read" or any(word.startswith("-") for word in rest)):
        raise WrongUse(
            f"unrecognized arguments: {' '.join(rest)}",
            f"see faithful-ledger {f'{options.command} ' if options.command else ''}--help",
        )
    if rest:
        options.paths = [*options.paths, *rest]
    return options


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

        command = options.command
        room = next((name for name, commands in ROOMS.items() if command in commands), "saves")
        commands = import_module(f"faithful_ledger.cli.{room}")

        options.shelf = shelf = Shelf()
        try:
            status: int = getattr(commands, command.replace("-", "_"))(options)
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
        remedy = error.remedy
        if hasattr(options, "anyway"):
            remedy = remedy.replace("anyway", "anyway (--anyway)")
        line = "; ".join(part for part in (error.what, remedy, notes) if part)
        return _failed(line, error.what, remedy, error.status, as_json=as_json)
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
