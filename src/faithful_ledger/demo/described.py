"""The part of the example about a save that is described by hand: from bytes to a template that others can use."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
from typing import TYPE_CHECKING

from PySide6.QtWidgets import QPushButton, QWidget

from faithful_ledger.core.binding import FieldNode
from faithful_ledger.demo.game import Game
from faithful_ledger.desk.shell import DESCRIBE, Shell
from faithful_ledger.desk.stages.describe import COPIES, TEMPLATE
from faithful_ledger.desk.widgets.checksum_list import ChecksumList
from faithful_ledger.desk.widgets.element_form import ElementForm
from faithful_ledger.desk.widgets.new_element import NewElement, SeveralElements

if TYPE_CHECKING:
    from faithful_ledger.demo.example import Example

__all__ = ["describe_by_hand"]

MOMENTS = ((("sell", "brass lamp"), "sold a lamp"), (("dive", "Oriel"), "Oriel dived"), (("buy", "air hose"), "a hose"))
HEAD = (("magic", "same bytes", 4), ("version", "2 bytes, low", 2), ("edition", "1 byte", 1), ("slot", "1 byte", 1),
        ("body length", "4 bytes, low", 4), ("hold at", "4 bytes, low", 4), ("body crc", "4 bytes, low", 4),
        ("times saved", "4 bytes, low", 4))  # fmt: skip
DIVER = (("air", "1 byte", 1), ("vigour", "1 byte", 1), ("injuries", "2 bytes, low", 2), ("station", "1 byte", 1),
         ("east", "fraction", 4), ("north", "fraction", 4), ("depth", "3 bytes, low", 3))  # fmt: skip


def describe_by_hand(example: Example, shell: Shell) -> None:
    """A save that no template fits: named, repeated, linked, sealed, tested on all copies, handed on, and posted."""
    hands = _Hands(example, shell)
    game = Game(example.shelf.data / "the-other-quay")
    game.play("start", "Oriel & Sons")
    path = example.shelf.data / "described game" / "tide.sav"
    path.parent.mkdir(parents=True)
    shutil.copyfile(game.saves / "harbour.bwk", path)
    shell.session.open(path)
    hands.work()
    for action, label in MOMENTS:
        shell.session.history.keep(label if action is not MOMENTS[0][0] else "start")
        game.play(*action)
        shutil.copyfile(game.saves / "harbour.bwk", path)
        shell.session.reopen()
        hands.work()
    shell.show_stage(DESCRIBE)
    data = path.read_bytes()
    at = 0
    for name, words, size in HEAD:
        at = hands.name(at, at + size, name, words)
    hands.together(0, at, "head")
    crew = data.index(b"CREW")
    hands.name(crew, crew + 4, "crew tag", "same bytes")
    hands.name(crew + 4, crew + 8, "crew length", "4 bytes, low")
    hands.name(crew + 8, crew + 10, "crew sum", "2 bytes, low")
    begin = at = hands.name(crew + 10, crew + 11, "crew count", "1 byte")
    at = hands.name(at, at + 1, "name", "length in front")
    for name, words, size in DIVER:
        at = hands.name(at, at + size, name, words)
    hands.select(begin, at)
    example.picture("by-hand")
    said = hands.together(begin, at, "crew", rows=True)
    divers = shell.session.save.nodes("crew")[0] if shell.session.save is not None else None
    example.step(f"A diver is described by hand, and repeated {said}", said == "as many as crew_count says: 4")
    assert divers is not None
    hands.together(begin - 1, divers.end, "crew content")
    said = hands.link("crew_length")
    example.step(f"crew_length is {said}", said == "the length of crew_content · 4 of 4")
    found = [hands.seal("crew_content"), hands.seal_over(24, len(data))]
    example.step(f"Every checksum of a selection is looked for: {' and '.join(found)}", len(found) == 2)
    save = shell.session.save
    assert save is not None
    example.step(f"{len(save.seals)} seals of it hold", bool(save.seals) and all(state.holds for state in save.seals))
    shell.describe.show_pane(COPIES)
    hands.work()
    copies = shell.describe.copies
    example.step(f"Laid over every copy: {copies.summary.text()}", copies.summary.text().startswith("3 of 3"))
    shell.session.select_node(save.nodes("crew_content")[0])
    hands.work()
    hands.look_for_checksums()
    example.picture("copies")
    shell.describe.show_pane(TEMPLATE)
    _hand_on(example, shell, hands)
    shell.session.enter(save_field(shell, "crew_content.crew[0].air"), "88")
    hands.work()
    shell.show_posting()
    hands.work()
    shell.posting.write_button.click()
    hands.work()
    shutil.copyfile(path, game.saves / "harbour.bwk")
    (game.saves / "slots.idx").unlink(missing_ok=True)
    shown = game.play("show")
    example.step(
        "The game accepts what was posted with it: Oriel has 88 air", shown.accepted and "air 88" in shown.text
    )


def _hand_on(example: Example, shell: Shell, hands: _Hands) -> None:
    """The list of templates, a sheet, and a reader that says the same."""
    save = shell.session.save
    assert save is not None
    folder = example.shelf.data / "handed on"
    folder.mkdir(exist_ok=True)
    shell.show_templates()
    shell.templates.test()
    hands.work()
    example.picture("templates")
    shell.templates.show_sheet()
    hands.work()
    example.picture("sheet")
    for name in ("sheet.html", "reader.py"):
        (folder / name).unlink(missing_ok=True)
    shell.templates.write_sheet(str(folder / "sheet.html"))
    shell.templates.write_reader(str(folder / "reader.py"))
    done = subprocess.run(
        [sys.executable, "-I", str(folder / "reader.py"), str(save.path)], capture_output=True, text=True, check=False
    )
    read = json.loads(done.stdout)["save"]["crew_content"]["crew"] if not done.returncode else []
    names = [diver["name"] for diver in read]
    example.step(f"A reader made from it says the same by itself: {', '.join(names)}", names[:1] == ["Oriel"])
    shell.leave_templates()


def save_field(shell: Shell, path: str) -> FieldNode:
    """The field at a path of the open save."""
    assert shell.session.save is not None
    return shell.session.save.fields(path)[0]


class _Hands:
    """What a person does in Describe."""

    def __init__(self, example: Example, shell: Shell) -> None:
        self.example, self.shell = example, shell

    def work(self) -> None:
        for _ in range(3):
            self.shell.session.wait()
            self.example.settle()

    def select(self, start: int, end: int) -> None:
        save = self.shell.session.save
        assert save is not None
        self.shell.session.select(save.main.name, start, end)
        self.work()

    def form(self, kind: type[QWidget]) -> QWidget:
        return next(each for each in self.shell.margin.findChildren(kind) if each.isVisible())

    def name(self, start: int, end: int, name: str, words: str) -> int:
        """Name bytes; returns where the field ends."""
        self.select(start, end)
        form = self.form(NewElement)
        assert isinstance(form, NewElement)
        form.stored.setCurrentIndex(next(n for n, each in enumerate(form.found) if words in each.words))
        form.name.setText(name)
        form.add.click()
        self.work()
        selection = self.shell.session.selection
        return selection.end if selection is not None else end

    def together(self, start: int, end: int, name: str, *, rows: bool = False) -> str:
        """Group elements, or repeat them as rows by the likeliest end, which is returned."""
        self.select(start, end)
        form = self.form(SeveralElements)
        assert isinstance(form, SeveralElements)
        form.name.setText(name)
        said = form.end.currentText()
        self.press("Repeat as rows" if rows else "Group them")
        return said

    def press(self, text: str) -> None:
        shown = [each for each in self.shell.margin.findChildren(QPushButton) if each.isVisible()]
        next(each for each in shown if each.text() == text).click()
        self.work()

    def link(self, path: str) -> str:
        """Choose the likeliest link of a number; returns it in words."""
        self.shell.session.select_node(save_field(self.shell, path))
        self.work()
        form = self.form(ElementForm)
        assert isinstance(form, ElementForm)
        said = form.links.itemText(1)
        form.links.setCurrentIndex(1)
        form.links.activated.emit(1)
        self.work()
        return said

    def look_for_checksums(self) -> ChecksumList:
        form = self.form(ChecksumList)
        assert isinstance(form, ChecksumList)
        form.look()
        self.work()
        return form

    def seal(self, path: str) -> str:
        save = self.shell.session.save
        assert save is not None
        self.shell.session.select_node(save.nodes(path)[0])
        return self._seal()

    def seal_over(self, start: int, end: int) -> str:
        self.select(start, end)
        return self._seal()

    def _seal(self) -> str:
        """Make the likeliest checksum of the selected bytes a seal; returns its algorithm."""
        self.work()
        self.look_for_checksums()
        self.press("Seal")
        save, selection = self.shell.session.save, self.shell.session.selection
        assert save is not None and selection is not None
        node = selection.node
        return next((state.algorithm for state in save.seals if node is not None and state.name == node.path), "none")
