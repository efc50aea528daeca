"""Carries beside the plain work of the file system: an entry put on a large card, and the plan of two large folders."""

from __future__ import annotations

import hashlib
import os
import random
import shutil
import threading
from pathlib import Path
from statistics import median
from typing import TYPE_CHECKING

from measure import MIB, Line, side_by_side, timed

if TYPE_CHECKING:
    from faithful_ledger.core.save import Save

BLOCK, BLOCKS, ENTRIES = 8192, 2043, 127
CARD = f"""ledger: 1
id: large-card
title: A large card
files:
  card:
    name: "*.img"
    order: big
    layout:
      - {{field: sum, as: u32, seal: {{algorithm: crc-32, over: [table, directory]}}}}
      - {{rows: table, each: {{as: u16}}, count: {BLOCKS}}}
      - rows: directory
        count: {ENTRIES}
        empty: {{used: 0}}
        layout:
          - {{field: used, as: u8}}
          - {{field: first, as: u16}}
          - {{field: size, as: u32}}
          - {{field: name, as: text, size: 32}}
      - {{unknown: data}}
card:
  {{entries: directory, name: name, first: first, size: size, next: table, block_size: {BLOCK}, at: {5 * BLOCK},
    fill: {{used: 1}}}}
"""
FILES = 5000


def carrying(folder: Path, rounds: int) -> list[Line]:
    return [*_card(folder, rounds), *_folders(folder, rounds)]


def _card(folder: Path, rounds: int) -> list[Line]:
    """From opening the image until the new one is on the disk, kept copy and all, and what is on it now was read again,
    beside copying it; and from the window, where the old bytes are kept while somebody reads the plan.
    """
    from faithful_ledger.core.book import Book
    from faithful_ledger.core.carry import Card
    from faithful_ledger.core.keeping import hash_early
    from faithful_ledger.core.opening import open_save
    from faithful_ledger.core.posting import make_plan
    from faithful_ledger.core.template import Library, parse_template

    template, library, rng = (
        parse_template(CARD.encode(), "large-card.yaml"),
        Library((), folder / "cache"),
        random.Random(5),
    )
    image, book = folder / "card.img", Book(folder / "card-book")
    head = bytearray(4 + 2 * BLOCKS + ENTRIES * 39)
    image.write_bytes(bytes(head.ljust(5 * BLOCK, b"\0")) + rng.randbytes(BLOCKS * BLOCK))
    numbers = iter(range(1_000_000))

    posting: list[float] = []

    def change(*, by_command: bool = False) -> Save:
        card = Card(open_save(image, template), library)
        if by_command:
            hash_early(*card.save.on_disk)
        card.save.renew_broken = True
        if len(card.entries) > 100:
            card.remove([card.entries[0]])
        else:
            card.add({f"entry {next(numbers)}": rng.randbytes(10 * BLOCK)})
        return card.save

    def by_command() -> None:
        save = change(by_command=True)
        book.history.post(save, make_plan(save))
        assert Card(open_save(image, template), library).entries  # what the command prints then
        at_rest()

    def at_rest() -> None:
        """A command ends when its threads have."""
        for thread in threading.enumerate():
            if thread is not threading.current_thread():
                thread.join()

    def from_the_window() -> None:
        save = change()
        plan = make_plan(save)
        book.keeping.keep_early(save)
        posting.append(timed(lambda: book.history.post(save, plan)))
        at_rest()

    def copy() -> None:
        target = folder / "copy.img"
        shutil.copyfile(image, target)
        with target.open("rb") as file:
            os.fsync(file.fileno())

    ours, _, copying = side_by_side(rounds, by_command, from_the_window, copy)
    size, later = image.stat().st_size / MIB, median(posting[1:])
    return [
        Line(what, f"{seconds / copying:.1f} × copy and sync", "at most 3", seconds <= 3 * copying)
        for what, seconds in (
            (f"a file put on a card of {size:.0f} MiB, vault included", ours),
            ("the same from the window, from the press of the button", later),
        )
    ]


def _folders(folder: Path, rounds: int) -> list[Line]:
    """The list of what goes along, beside the SHA-256 of every file of both folders."""
    from faithful_ledger.core.carry import Folders

    rng = random.Random(6)
    here, there = folder / "here", folder / "there"
    for side in (here, there):
        for number in range(FILES):
            path = side / f"part-{number // 100:02}" / f"file-{number:04}.dat"
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(
                random.Random(number).randbytes(3000 + number) if rng.random() < 0.8 else rng.randbytes(4000)
            )

    def hashing() -> None:
        for side in (here, there):
            for path in side.rglob("*.dat"):
                hashlib.sha256(path.read_bytes()).digest()

    ours, theirs = side_by_side(rounds, lambda: Folders(here, there), hashing)
    ratio = ours / theirs
    what = f"the plan of two folders of {FILES} files, beside hashing them"
    return [Line(what, f"{ratio:.2f} times ({ours * 1000:.0f} ms)", "at most 3 times", ratio <= 3)]
