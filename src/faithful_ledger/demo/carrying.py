"""The part of the example about carrying: slots, another edition, a kit, a device and back, owners, a card, and a world
with its registers.

Each move is also done the way it is done by hand, in a copy; the game refuses it and says why.
"""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QApplication

from faithful_ledger.demo.game import Answer, Game
from faithful_ledger.demo.hands import tick_what_differs
from faithful_ledger.desk.shell import CARRY, Shell
from faithful_ledger.desk.stages.carry import CARD, FOLDERS, SLOTS, VALUES

if TYPE_CHECKING:
    from faithful_ledger.demo.example import Example

__all__ = ["carry_saves"]


def carry_saves(example: Example, shell: Shell) -> None:
    """Every kind of carry, each judged by the game."""
    _slots(example, shell)
    _other_edition(example, shell)
    _kit(example, shell)
    _device(example, shell)
    _owners(example, shell)
    _card(example, shell)
    _world(example, shell)


def _open(example: Example, shell: Shell, path: Path, pane: int) -> None:
    shell.session.open(path)
    example.settle()
    shell.show_stage(CARRY)
    shell.carry.show_pane(pane)
    example.rest()


def _by_hand(example: Example, game: Game, do: Callable[[Path], object], *action: str) -> Answer:
    """What the game says where somebody moved files without the rest."""
    copy = Game(example.shelf.data / "by hand", game.edition)
    shutil.copytree(game.saves, copy.saves)
    do(copy.saves)
    answer = copy.play(*action)
    shutil.rmtree(copy.saves)
    return answer


def _slots(example: Example, shell: Shell) -> None:
    game = Game(example.shelf.data / "slots")
    for slot, *action in (("1", "start", "Maud & Daughters"), ("1", "dive", "Tamsin"), ("2", "start", "Ives & Sons")):
        game.play("--slot", slot, *action)

    def rename(saves: Path) -> None:
        shutil.copyfile(saves / "harbour.bwk", saves / "harbour-5.bwk")

    refused = _by_hand(example, game, rename, "--slot", "5", "show")
    example.step(f"A save that was only copied to another slot's name: {refused.text}", not refused.accepted)
    _open(example, shell, game.saves / "harbour.bwk", SLOTS)
    pane = shell.carry.slots
    pane.table.selectRow(1)
    pane.choose_how("swap")
    example.rest()
    example.picture("carry-slots")
    pane.write()
    example.rest()
    shown = [game.play("--slot", slot, "show").text.partition(" ·")[0] for slot in ("1", "2")]
    right = shown == ["Ives & Sons", "Maud & Daughters"]
    example.step(f"The two slots are swapped with all that has to agree; the game shows {' and '.join(shown)}", right)


def _other_edition(example: Example, shell: Shell) -> None:
    game, deep = Game(example.shelf.data / "slots"), Game(example.shelf.data / "another edition", "deep")
    for action in (("start", "Brock & Co"), ("hire", "Marit"), ("heal", "Oriel")):
        deep.play(*action)
    _open(example, shell, game.saves / "harbour.bwk", VALUES)
    pane = shell.carry.values
    pane.choose_file(str(deep.saves / "company.bwd"))
    pane.tick(["company.marks", "company.crew[name=Marit]", "company.crew[name=Oriel].air"])
    example.rest()
    example.picture("carry-values")
    pane.enter()
    example.rest()
    posted = example.write_entries()
    answer = game.play("show")
    right = posted and "marks 1190" in answer.text and "Marit" in answer.text
    example.step("Marks, Oriel's air and the diver Marit come from the deep edition; the game accepts them", right)


def _kit(example: Example, shell: Shell) -> None:
    game, other = Game(example.shelf.data / "slots"), Game(example.shelf.data / "kit")
    other.play("start", "Wren")
    _open(example, shell, other.saves / "harbour.bwk", VALUES)
    pane = shell.carry.values
    pane.choose_file(str(game.saves / "harbour.bwk"))
    example.rest()
    pane.tick(["purse.marks", "crew[name=Tamsin].air"])
    pane.copy_kit()
    line = QApplication.clipboard().text()
    pane.apply_line(line[:-3])
    message = shell.banner.message
    refused = message is not None and "not complete" in message.text and not shell.session.pending
    example.step(f"A kit of which the end was not copied: {message.text if message else '–'}", refused)
    pane.apply_line(line)
    example.rest()
    posted = example.write_entries()
    right = posted and "marks 1190" in other.play("show").text
    example.step("Pasted whole, its marks and air come into another save; the game accepts it", right)


def _device(example: Example, shell: Shell) -> None:
    """From a device's folder and back under the same name; in between the save is edited."""
    device, here = Game(example.shelf.data / "device"), example.shelf.data / "fetched"
    for action in (("start", "Ives"), ("sell", "brass lamp")):
        device.play(*action)
    here.mkdir()
    _carry_save(example, shell, device.saves, here)
    shell.session.open(here / "harbour.bwk")
    example.settle()
    save = shell.session.save
    assert save is not None
    shell.session.enter(save.fields("purse.marks")[0], "4321")
    example.rest()
    edited = example.write_entries()
    _carry_save(example, shell, here, device.saves)
    right = edited and "marks 4321" in device.play("show").text
    example.step("Fetched from a device, edited and put back under its name; the game there shows marks 4321", right)


def _carry_save(example: Example, shell: Shell, source: Path, target: Path) -> None:
    """Carry the save and its index from one folder to the other; nothing describes these folders, so it is ticked."""
    _open(example, shell, source / "harbour.bwk", FOLDERS)
    pane = shell.carry.folders
    pane.choose_target(str(target))
    example.rest()
    tick_what_differs(pane, example.rest)
    pane.write()
    example.rest()


def _owners(example: Example, shell: Shell) -> None:
    own, theirs = (Game(example.shelf.data / name, "console") for name in ("my console", "a friend's console"))
    own.play("start", "Maud")
    for action in (("start", "Reef Company"), ("dive", "Brock")):
        theirs.play("--region", "REEF", "--owner", "brock", *action)
    answer = theirs.play("show")
    example.step(f"A friend's save on this console: {answer.text}", not answer.accepted)
    _open(example, shell, own.saves / "voyage.bwx", VALUES)
    pane = shell.carry.values
    pane.choose_file(str(theirs.saves / "voyage.bwx"))
    pane.enter_owner(payload=False)
    message = shell.banner.message
    refused = message is not None and "region" in message.text
    example.step(f"Its owner cannot just be changed: {message.text if message else '–'}", refused)
    pane.enter_owner(payload=True)
    example.rest()
    posted = example.write_entries()
    shown = own.play("show")
    right = posted and shown.text.startswith("Reef Company")
    example.step("Only its payload goes into a wrapper of one's own, signed anew; the game shows Reef Company", right)


def _card(example: Example, shell: Shell) -> None:
    game, export = Game(example.shelf.data / "card", "card"), Game(example.shelf.data / "exported", "console")
    for action in (("start", "Maud"), ("save", "2")):
        game.play(*action)
    for action in (("start", "Ives"), ("save", "3")):
        export.play(*action)
    _open(example, shell, game.saves / "card.bwc", CARD)
    pane = shell.carry.card
    pane.add([str(export.saves / "voyage-3.bwx")])
    message = shell.banner.message
    half = message is not None and "belongs together" in message.text
    example.step(f"Half of a voyage does not go on a card: {message.text if message else '–'}", half)
    pane.add([str(export.saves / f"voyage-3.{end}") for end in ("bwx", "bwy")])
    example.rest()
    example.picture("carry-card")
    posted = example.write_entries()
    shown = game.play("--slot", "3", "show")
    right = posted and shown.text.startswith("Ives")
    example.step("Both halves go on it together, in free blocks; the console shows Ives in slot 3", right)


def _world(example: Example, shell: Shell) -> None:
    game = Game(example.shelf.data / "harbours", "atlas")
    east = ("--harbour", "east-pier", "--map", "2")
    for action in (("start", "Maud"), (*east, "start", "Ives & Sons"), ("sell", "brass lamp")):
        game.play(*action)

    def copy_session(saves: Path) -> None:
        shutil.copytree(saves / "west-quay" / "session", saves / "east-pier" / "session", dirs_exist_ok=True)
        shutil.rmtree(saves / "east-pier" / "cache")

    def copy_all(saves: Path) -> None:
        shutil.copytree(saves / "west-quay", saves / "east-pier", dirs_exist_ok=True)

    for what, do in (("the session", copy_session), ("the whole folder", copy_all)):
        refused = _by_hand(example, game, do, *east, "show")
        example.step(f"Copying {what} to another harbour by hand: {refused.text}", not refused.accepted)
    west = game.saves / "west-quay" / "harbour.cfg"
    shell.session.open(west)
    example.settle()
    for root, folder in (("harbours", game.saves), ("registers", game.saves / "registers")):
        shell.session.grant(root, folder)
        example.settle()
    _open(example, shell, west, FOLDERS)
    pane = shell.carry.folders
    pane.choose_target(str(game.saves / "east-pier"))
    example.rest()
    example.picture("carry-folders")
    pane.write()
    example.rest()
    shown = game.play(*east, "show")
    right = shown.text.startswith("Maud")
    example.step("Carried: what was played, and its mark in both registers; the game shows Maud at East Pier", right)
    pane.verdict.judge("accepted")
    example.rest()
    pane.plan_removal()
    example.rest()
    pane.write()
    example.rest()
    gone = not west.exists() and game.play(*east, "show").accepted
    example.step("The game has accepted it, so the old harbour is removed; a copy of it is kept", gone)
