"""Commands that describe: a place goes into a template; what a shell needs to complete the commands."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path

from faithful_ledger.cli.opening import book_for, named_file, opened_or_bytes
from faithful_ledger.cli.output import json_value, print_json, say, shown, warn
from faithful_ledger.core.errors import AddressError
from faithful_ledger.core.errors import place as offset_in_words
from faithful_ledger.core.evidence.exchange import place_from, places_from
from faithful_ledger.core.evidence.judging import copies_of
from faithful_ledger.core.shelf import Shelf
from faithful_ledger.core.source import read_whole

__all__ = ["completion", "pin"]

LARGEST_PLACE = 64 << 20


def pin(options: argparse.Namespace) -> int:
    """Put a place that `locate` found into a template, after a trial on a copy."""
    shelf: Shelf = options.shelf
    document = _document(options.place)
    place = place_from(document)
    copies = copies_of(place, places_from(document))
    save = opened_or_bytes(options, Path(options.file))
    book = book_for(options, save.path, save)
    into = named_file(options)
    field, name = book.templates.add_place_to(save, shelf.library(book), place, options.as_name, into)
    known_as = name if into is None else str(into)
    pinned = shelf.open_save(Path(options.file), known_as)
    if options.copies and copies:
        also = book.templates.add_copies(pinned, shelf.library(book), field, copies, options.as_name, into)
        say(f"{', '.join(also)} {'says' if len(also) == 1 else 'say'} the same, and will be kept equal to it.")
        pinned = shelf.open_save(Path(options.file), known_as)
    elif copies:
        where = ", ".join(copy.path or offset_in_words(copy.offsets[0]) for copy in copies)
        follows = "said the same" if all(copy.values == place.values for copy in copies) else "followed it"
        warn(f"note: {where} {follows} in every copy; --copies pins it as well, and keeps both equal")
    (node,) = pinned.fields(field)
    if options.json:
        print_json({"template": name, "path": field, "value": json_value(node)})
    else:
        say(f"{field} is in the template {name}{node.of_records}; it says {shown(node)} in {save.path.name}.")
    return 0


def _document(given: str) -> object:
    """The JSON of a place: given as it is, in a file, or on standard input (-).

    Raises:
        AddressError: it is not JSON.
    """
    if given == "-":
        text = sys.stdin.read(LARGEST_PLACE)
    elif given.lstrip().startswith(("{", "[")):
        text = given
    else:
        text = read_whole(Path(given))[0].decode("utf-8", "replace")
    try:
        return json.loads(text)
    except (ValueError, RecursionError) as error:
        raise AddressError(f"the place is not JSON ({error})", "give one as `locate --json` prints it") from error


def completion(options: argparse.Namespace) -> int:
    """What a shell needs to complete the commands and their options."""
    import shtab

    from faithful_ledger.cli.main import parser

    print(shtab.complete(parser(), options.shell))
    return 0
