"""The part of the example about texts: a zip nobody has described, and a voyage over several files in two folders."""

from __future__ import annotations

import shutil
from typing import TYPE_CHECKING

from faithful_ledger.core.save import Save
from faithful_ledger.demo.game import Game
from faithful_ledger.desk.shell import DESCRIBE, EDIT, Shell
from faithful_ledger.desk.stages.describe import VALUES

if TYPE_CHECKING:
    from faithful_ledger.demo.example import Example

__all__ = ["edit_texts_without_a_template", "reopen_the_flooded_site"]

COUNTED = "Old Wharf;Bell Rock;Salt Nave;Kiln Stairs;Tin Arcade"
PLAYED = (("start", "Oriel & Sons"), ("sell", "brass lamp", "2"), ("dive", "Tamsin"))


def _save_of(shell: Shell) -> Save:
    assert shell.session.save is not None
    return shell.session.save


def _enter(shell: Shell, path: str, text: str) -> bool:
    return shell.session.enter(_save_of(shell).fields(path)[0], text)


def edit_texts_without_a_template(example: Example, shell: Shell) -> None:
    """The voyage in a zip: its values have paths, and the zip is put together again around the changed member."""
    game = Game(example.shelf.data / "voyage in a zip", "quill-zip")
    for action in PLAYED:
        game.play(*action)
    shell.session.open(game.saves / "voyage.qlz")
    example.settle()
    pane = shell.edit.values
    count = len(pane.model.fields) if pane is not None and pane.model is not None else 0
    example.step(f"A zip of texts that no template fits opens with its {count} values, each by its path", count > 100)
    path = '"yard/divers.xml".diver[@name=Oriel].@air'
    entered = _enter(shell, path, "100")
    shell.show_stage(DESCRIBE)
    shell.describe.show_pane(VALUES)
    shell.session.select_node(_save_of(shell).fields(path)[0])
    shell.show_stage(EDIT)
    example.settle()
    assert pane is not None
    pane.line.setText("oriel")
    example.step(f"{path} becomes 100, and only that member is packed anew", entered and example.write_entries())
    answer = game.play("show")
    example.step("Brinewick accepts the zip and shows Oriel with air 100", "Oriel: air 100" in answer.text)


def reopen_the_flooded_site(example: Example, shell: Shell) -> None:
    """Permit, water level and the foreman's tally are in three texts; one posting keeps them in agreement."""
    game = Game(example.shelf.data / "voyage", "quill")
    for action in PLAYED:
        game.play(*action)
    shell.session.open(game.saves / "voyage" / "world.json")
    example.settle()
    shell.session.grant("registers", game.saves / "registers")
    example.settle()
    entered = [
        _enter(shell, "tides.permits", '+"Salt Nave"'),
        _enter(shell, "water.levels.salt_nave", "0"),
        _enter(shell, "tally.open", COUNTED),
        _enter(shell, "tally.count", "5"),
    ]
    example.settle()
    plan = shell.session.plan
    files = sorted({file.file.path.name for file in plan.written}) if plan is not None else []
    example.step(f"The flooded Salt Nave is reopened over {', '.join(files)}", all(entered) and len(files) == 3)
    _half_of_it(example, game, shell)
    shell.show_posting()
    example.wait(lambda: not shell.posting.checking)
    waiting = not shell.posting.write_button.isEnabled()
    example.step(f"The plan asks first: {', '.join(box.text() for box in shell.posting.steps)}", waiting)
    example.step("It is ticked, and the three files are written as one", example.write_entries())
    answer = game.play("show")
    last = answer.text.splitlines()[-1]
    example.step(f"Brinewick accepts the voyage and shows {last}", answer.accepted and "Salt Nave" in last)


def _half_of_it(example: Example, game: Game, shell: Shell) -> None:
    """Only the first of the files that would be written: the game says what does not agree."""
    copy = Game(example.shelf.data / "half", "quill")
    shutil.copytree(game.saves, copy.saves)
    plan = shell.session.plan
    assert plan is not None
    file = next(file for file in plan.written if file.file.name == "tides")
    (copy.saves / "voyage" / file.file.path.name).write_bytes(bytes(file.patched.read(0, file.patched.size)))
    answer = copy.play("show")
    example.step(f"The permit alone: {answer.text.splitlines()[-1]}", not answer.accepted)
    shutil.rmtree(copy.saves)
