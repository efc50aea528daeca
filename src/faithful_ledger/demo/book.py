"""The demo book: made anew each time, in a folder of its own in the user's data folder."""

from __future__ import annotations

import shutil
from pathlib import Path

from faithful_ledger.core.opening import find_save, open_save
from faithful_ledger.core.shelf import Shelf
from faithful_ledger.demo.game import Game

__all__ = ["COMPANY", "demo_shelf", "make_demo_book"]

COMPANY = "Oriel & Søn"
PLAYED = (
    (("start", COMPANY), "a new company"),
    (("sell", "brass lamp", "1"), "sold a brass lamp"),
    (("dive", "Tamsin"), "Tamsin dived once"),
    (("save", "2"), "saved in slot 2 as well"),
)


def demo_shelf(shelf: Shelf | None = None) -> Shelf:
    """A shelf beside the user's own, so that the demo touches none of their books."""
    own = shelf or Shelf()
    return Shelf(own.data / "demo", own.cache)


def make_demo_book(shelf: Shelf) -> Path:
    """Play a little Brinewick and keep each step; returns the save. What an earlier demo left is removed."""
    if shelf.data.name == "demo" and shelf.data.exists():
        shutil.rmtree(shelf.data)
    game = Game(shelf.data / "harbour")
    path = game.saves / "harbour.bwk"
    for action, label in PLAYED:
        answer = game.play(*action)
        if not answer.accepted:
            raise RuntimeError(f"Brinewick did not play {action}: {answer.text}")
        found, template = find_save(path, shelf.library())
        book = shelf.book_for(found, template)
        book.keeping.keep(open_save(found, template), label)
        book.close()
    return path
