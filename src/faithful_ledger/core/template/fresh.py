"""A template without fields, for saves of which nothing is described yet, and what it recognises them by."""

from __future__ import annotations

import re
from collections.abc import Collection, Sequence
from itertools import count
from pathlib import Path
from typing import NamedTuple

__all__ = ["Shared", "new_template", "shared_by"]

# Letters of one case; a capital in front of a small letter begins something else: a name, perhaps.
MARK = re.compile(rb"[A-Z][A-Z0-9_]*(?![a-z])|[a-z][a-z0-9_]*|")
BEFORE_NAME = re.compile(rb"[A-Z][A-Z0-9_]+(?=[A-Z][a-z])")
IN_HEX = frozenset(b"0123456789ABCDEFabcdef")
LONGEST_MAGIC, LEAST_MAGIC = 4, 3
ENOUGH_SAVES = 2
NEW = """\
# The program changes this file only where it says so; comments, blanks and order stay as they are.
ledger: 1
id: {id}
title: {title}
version: "0.1"
game: {game}

recognise:
  - name: "{sign}"
    size: {{{size}}}{magic}

files:
  save:
    name: "{name}"
    format: {format}
    layout: []

sections: []
"""


class Shared(NamedTuple):
    """What all known saves of a game have in common: their sizes, and the bytes they begin with."""

    least: int
    most: int
    beginning: bytes = b""


def shared_by(contents: Sequence[bytes], sizes: Sequence[int], beside: Sequence[bytes] = ()) -> Shared:
    """What saves share, from their first bytes and their sizes: a mark at their beginning is one that is not all zeros,
    and of one save alone only letters of one case and digits that are not all hexadecimal, as those of a hash are;
    their size, where there are several and all have the same. `beside` are the first bytes of files that may be saves
    of the game: those that begin like the mark of one alone cut it.
    """
    same = 0
    shortest = min(map(len, contents), default=0)
    while same < min(shortest, LONGEST_MAGIC) and len({content[same] for content in contents}) == 1:
        same += 1
    beginning = contents[0][:same].rstrip(b"\0") if contents else b""
    if contents and (mark := (MARK if len(contents) == 1 else BEFORE_NAME).match(contents[0])) is not None:
        beginning = beginning[: len(mark[0])]
    if len(contents) == 1:
        beginning = b"" if IN_HEX.issuperset(beginning) else beginning
        for other in beside:
            same = next((n for n, (a, b) in enumerate(zip(beginning, other, strict=False)) if a != b), len(beginning))
            beginning = beginning[: same or None]
    several = len(sizes) >= ENOUGH_SAVES
    least = sizes[0] if several and len(set(sizes)) == 1 else min(min(sizes, default=1), max(len(beginning), 1))
    most = sizes[0] if several and len(set(sizes)) == 1 else 0
    return Shared(least, most, beginning if len(beginning) >= LEAST_MAGIC else b"")


def new_template(
    save: Path,
    game: str,
    shared: Shared,
    kind: str = "binary",
    *,
    binary: bool = True,
    taken: Collection[str] = (),
) -> bytes:
    """A template without fields, for files of a format `kind`, with an id that is not `taken`; what saves share is only
    looked for in `binary` ones.
    """
    import json

    pattern = f"*{save.suffix or save.name}"
    beginning = shared.beginning.hex(" ").upper() if binary else ""
    magic = f'\n    magic: {{at: 0, bytes: "{beginning}"}}' if beginning else ""
    size = f"least: {shared.least}, most: {shared.most}" if shared.most and binary else f"least: {min(shared.least, 1)}"
    return NEW.format(
        id=_free_id(re.sub(r"[^a-z0-9]+", "-", f"{game}-{save.suffix or save.name}".casefold()).strip("-"), taken),
        title=json.dumps(f"{game}, described here"),
        game=json.dumps(game),
        sign=pattern if save.is_absolute() else save.name,
        name=pattern if save.is_absolute() else save.as_posix(),
        size=size,
        magic=magic,
        format=kind,
    ).encode()


def _free_id(wanted: str, taken: Collection[str]) -> str:
    """An id of a template that no other one has."""
    every = (f"{wanted or 'save'}{f'-{number}' if number > 1 else ''}" for number in count(1))
    return next(each for each in every if each not in taken)
