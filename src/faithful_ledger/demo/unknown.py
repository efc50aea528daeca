"""The part of the example about games nobody has described: gathered, sighted, pinned; one packs its saves."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from faithful_ledger.core.opening import WITHOUT
from faithful_ledger.demo.game import Game
from faithful_ledger.desk.shell import DESCRIBE, EDIT, GATHER, LOCATE, Shell
from faithful_ledger.desk.stages.describe import PROFILE, SEARCH
from faithful_ledger.desk.stages.gather import GatherStage
from faithful_ledger.desk.widgets.tables import cell

if TYPE_CHECKING:
    from faithful_ledger.demo.example import Example

__all__ = ["compare_and_search", "locate_in_the_deep", "locate_unknown"]

VOYAGE = (
    ((("start", "Oriel & Sons"),), "start"),
    ((("sell", "brass lamp", "2"),), "sold lamps"),
    ((("dive", "Tamsin"),), "dived once"),
    ((("rename", "Oriel", "Oriel the Elder"), ("buy", "air hose")), "bought a hose"),
    ((("rename", "Brock", "Brockwell"), ("sell", "oyster knife"), ("heal", "Tamsin")), "healed"),
)

DEEP = (
    ((("start", "Oriel & Sons"),), "start"),
    ((("sell", "brass lamp", "2"), ("dive", "Tamsin")), "dived"),
    ((("rename", "Oriel", "Oriel the Elder"), ("buy", "air hose")), "bought a hose"),
    ((("heal", "Tamsin"), ("sell", "oyster knife")), "healed"),
    ((("rename", "Brock", "Brockwell"), ("buy", "bell weight", "3")), "bought weights"),
    ((("dive", "Tamsin"), ("sell", "wax plug", "9")), "dived again"),
)


def locate_unknown(example: Example, shell: Shell) -> None:
    """A save nobody has described: played for five moments, kept, sighted, pinned, and changed."""
    game = Game(example.shelf.data / "behind-the-curtain")
    save = example.shelf.data / "unknown game" / "saves" / "voyage.dat"
    save.parent.mkdir(parents=True)
    for name in ("intro.ogg", "engine.log", "saves/options.cfg"):
        (save.parent.parent / name).write_bytes(b"lamp_light = 7\n" * 40)
    shown: list[tuple[str, str, str]] = []
    gather = shell.gather
    for number, (actions, label) in enumerate(VOYAGE):
        for action in actions:
            game.play(*action)
        save.write_bytes((game.saves / "harbour.bwk").read_bytes())
        shown.append(_seen_on_the_quay(game.play("show").text))
        if not number:
            shell.session.open(save)
            shell.session.history.keep(label)
            shell.show_stage(GATHER)
            gather.folder.setText(str(save.parent.parent))
            gather.toggle_watch()
            example.wait(lambda: gather.watcher.ready)
        else:
            example.wait(partial(_has_moments, gather, number))
    gather.look()
    shell.session.wait()
    example.settle()
    likely = [[file.path.name for file in found.files] for found in gather.sets]
    example.step(
        f"Gather looks for saves; one set is likely: {', '.join(likely[0])}", likely == [["voyage.dat", "options.cfg"]]
    )
    gather.found.tops()[0].setExpanded(True)
    shell.session.reported.emit(None)
    example.picture("gather")
    kept = [kept for _, kept in reversed(gather.moments)]
    example.step(
        f"While the game is played, every save moment is kept: {', '.join(kept)}", len(kept) == len(VOYAGE) - 1
    )
    gather.toggle_watch()
    shell.show_stage(LOCATE)
    stage = shell.locate
    for row, name in enumerate(("Marks", "Tamsin's air", "Third diver")):
        cell(stage.sheet, row, 0).setText(name)
        for place, moment in enumerate(shown, 1):
            cell(stage.sheet, row, place).setText(moment[row])
        shell.session.wait()
        example.settle()
        standing = cell(stage.sheet, row, stage.sheet.columnCount() - 1).text()
        seen = ", ".join(moment[row] for moment in shown)
        example.step(f"{name} was seen as {seen}: {standing}", standing in ("◆ 1 place left", "◇ 1 likely place"))
    stage.sheet.setCurrentCell(1, 1)
    example.settle()
    chosen = stage.chosen
    example.step(
        f"The air moves from save to save: {chosen.anchor if chosen else '–'}",
        chosen is not None and bool(chosen.anchor),
    )
    example.picture("locate")
    _pin_all(example, shell)
    opened = shell.session.save
    assert opened is not None
    texts = {q.name: opened.text(opened.fields(q.pinned)[0]) for q in stage.quantities}
    said = ", ".join(f"{name} {text}" for name, text in texts.items())
    example.step(
        f"All three are pinned: a template was made, and Edit shows {said}", tuple(texts.values()) == shown[-1]
    )


def _has_moments(gather: GatherStage, number: int) -> bool:
    return len(gather.moments) >= number


def compare_and_search(example: Example, shell: Shell) -> None:
    """The same save: two kept copies compared, kept copies as lanes, and a search."""
    book, save = shell.session.book, shell.session.save
    assert book is not None and save is not None
    kept = [snapshot for snapshot in book.keeping.snapshots(save.path) if snapshot.kind == "kept"]
    shell.session.reported.emit(None)
    shell.show_compare(kept[2], kept[0])
    _work(example, shell)
    sheet = shell.compare
    kinds = {cell(sheet.table, row, 0).text() for row in range(sheet.table.rowCount())}
    example.step(f"Two kept copies compared: {sheet.summary.text()}", "came in" in kinds and len(kinds) > 1)
    example.picture("compare")
    shell.show_stage(DESCRIBE)
    stage = shell.describe
    stage.lanes.setCurrentIndex(stage.lanes.count() - 1)
    stage.lanes.activated.emit(stage.lanes.currentIndex())
    stage.show_pane(SEARCH)
    stage.search.line.setText("1410")
    stage.search.search()
    _work(example, shell)
    found = [hit.offset for hit in stage.search.shown]
    example.step(f"1410 is searched in every storage: {len(found)} hits", 69 in found)
    stage.search.table.selectRow(found.index(69))
    _work(example, shell)


def locate_in_the_deep(example: Example, shell: Shell) -> None:
    """An edition that packs its saves and shuffles its records: the engine alone pins four things in it."""
    game = Game(example.shelf.data / "below", "deep")
    save = example.shelf.data / "deep game" / "saves" / "company.bwd"
    save.parent.mkdir(parents=True)
    shown: list[tuple[str, ...]] = []
    gather = shell.gather
    for number, (actions, label) in enumerate(DEEP):
        for action in actions:
            game.play(*action)
        text = game.play("show").text
        save.write_bytes((game.saves / "company.bwd").read_bytes())
        tired = "yes" if "tired" in text.splitlines()[3] else "no"
        shown.append((*_seen_on_the_quay(text), tired))
        if not number:
            shell.session.open(save, WITHOUT)  # as if nobody had described it yet
            shell.session.history.keep(label)
            shell.show_stage(GATHER)
            gather.watched.clear()
            gather.moments.clear()
            gather.toggle_watch()
            example.wait(lambda: gather.watcher.ready)
        else:
            example.wait(partial(_has_moments, gather, number))
    gather.toggle_watch()
    example.step(
        f"Another edition: six save moments are kept of {save.name}", len(shell.session.kept_copies) == len(DEEP)
    )
    shell.session.reported.emit(None)
    shell.show_stage(DESCRIBE)
    shell.describe.show_pane(PROFILE)
    _work(example, shell)
    example.step(f"Profile: {shell.describe.profile.summary.text()}", "packed" in shell.describe.profile.summary.text())
    example.picture("profile")
    shell.show_stage(LOCATE)
    stage = shell.locate
    for row, name in enumerate(("Marks", "Tamsin's air", "Third diver", "Tamsin tired")):
        cell(stage.sheet, row, 0).setText(name)
        for place, moment in enumerate(shown, 1):
            cell(stage.sheet, row, place).setText(moment[row])
        _work(example, shell)
        standing = cell(stage.sheet, row, stage.sheet.columnCount() - 1).text()
        seen = ", ".join(moment[row] for moment in shown)
        found = stage.located[stage.quantities[row].id]
        if not found.places:
            example.step(f"{name} was seen as {seen}: {standing}. {found.suggestion}", False)
        best = found.places[0]
        if name != "Tamsin tired":
            example.step(f"{name} was seen as {seen}: {standing}", standing in ("◆ 1 place left", "◇ 1 likely place"))
            continue
        air = stage.located[stage.quantities[1].id].places[0]
        right = best.stored_as == "bit1" and [b - a for a, b in zip(air.offsets, best.offsets, strict=True)] == [2] * 6
        example.step(f"{name} was seen as {seen}: {standing}, the likeliest is the right one", right)
    stage.sheet.setCurrentCell(1, 1)
    example.settle()
    chosen = stage.chosen
    example.step(
        f"Tamsin's air is inside {chosen.layer if chosen else '–'}", chosen is not None and chosen.layer is not None
    )
    _pin_all(example, shell)
    opened = shell.session.save
    assert opened is not None
    pinned = [quantity.pinned for quantity in stage.quantities]
    texts = {path: opened.text(opened.fields(path)[0]) for path in pinned}
    said = [*(texts[path] for path in pinned[:3]), "no" if texts[pinned[3]] == "none" else texts[pinned[3]]]
    example.step(
        f"All are pinned in the template: {', '.join(f'{path} = {text}' for path, text in texts.items())}",
        said == list(shown[-1]),
    )
    _change_in_the_layer(example, shell, pinned[0])


def _change_in_the_layer(example: Example, shell: Shell, path: str) -> None:
    """An entry inside the layer is planned down to the file's bytes: the stream is packed into the bytes it had."""
    save = shell.session.save
    assert save is not None
    shell.show_stage(EDIT)
    shell.session.enter(save.fields(path)[0], "1777")
    _work(example, shell)
    plan = shell.session.plan
    changed = {change.file for change in plan.changes} if plan is not None else set()
    moves = plan is None or any(file.patched.size != file.file.source.size for file in plan.written)
    example.step(
        f"1777 marks, written down inside the layer, change {' and '.join(sorted(changed))}", len(changed) == 2
    )
    example.step("The stream is packed into the bytes it had, so nothing behind it moves", not moves)
    shell.session.select_node(save.fields(path)[0])
    example.picture("layers")
    shell.session.withdraw(path)
    example.settle()


def _pin_all(example: Example, shell: Shell) -> None:
    """Accept the best place of every quantity, as with the button in the margin."""
    stage = shell.locate
    for row in range(len(stage.quantities)):
        stage.sheet.setCurrentCell(row, 1)
        example.settle()
        quantity, place = stage.current, stage.chosen
        assert quantity is not None and place is not None
        shell.session.evidence.pin(quantity, place)
        _work(example, shell)


def _work(example: Example, shell: Shell) -> None:
    for _ in range(3):
        shell.session.wait()
        example.settle()


def _seen_on_the_quay(text: str) -> tuple[str, str, str]:
    """What a player notes: the marks, Tamsin's air, and the third diver's name."""
    lines = text.splitlines()
    marks = lines[1].split()[1]
    air = lines[3].split("air ")[1].split(",")[0]
    return marks, air, lines[4].strip().partition(":")[0]
