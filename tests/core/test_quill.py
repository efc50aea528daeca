"""A flooded site is reopened: one posting over texts in two folders, which the game accepts whole and refuses in part."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

from brinewick.__main__ import main as brinewick_main
from brinewick.company import SITES
from brinewick.quill import Quill
from faithful_ledger.core.errors import RootNotGranted, ValueRefused
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.save import Save
from faithful_ledger.core.template import Library
from tests.support import LedgerCase, Played

REOPENED = ("Old Wharf", "Bell Rock", "Salt Nave", "Kiln Stairs", "Tin Arcade")
STORY = {
    "tides.permits": '+"Salt Nave"',
    "water.levels.salt_nave": "0",
    "tally.open": ";".join(REOPENED),
    "tally.count": f"{len(REOPENED)}",
}


class QuillTest(LedgerCase):
    def played(self, kind: str = "quill") -> Path:
        folder = self.folder / kind
        for action in (["start", "Oriel & Søn"], ["sell", "brass lamp"], ["dive", "Tamsin"]):
            self.assertEqual(self.play(folder, kind, *action).status, 0)
        return folder

    def play(self, folder: Path, kind: str, *action: str) -> Played:
        import io
        from contextlib import redirect_stderr, redirect_stdout

        out = io.StringIO()
        with redirect_stdout(out), redirect_stderr(out):
            status = brinewick_main(["--saves", str(folder), "--edition", kind, *action])
        return Played(status, out.getvalue().strip())

    def opened(self, folder: Path) -> Save:
        template = Library((), None).get("brinewick-quill")
        return open_save(folder / "voyage" / "world.json", template, {"registers": folder / "registers"})

    def test_the_site_is_reopened_over_three_files_and_half_of_it_is_refused(self) -> None:
        folder = self.played()
        untouched = self.folder / "untouched"
        shutil.copytree(folder, untouched)
        save = self.opened(folder)
        self.assertIsNone(save.problem)
        for path, value in STORY.items():
            save.enter(path, value)
        save.enter("voyage", "Oriel & Daughters")
        plan = make_plan(save)
        self.assertEqual([entry.path for entry in plan.followers], ["tides.voyage", "register.name", "voyages.name"])
        self.assertEqual({file.file.name for file in plan.written}, {"world", "tally", "tides", "register", "voyages"})
        self.assertEqual(plan.steps.before, ("Close the game.",))
        self.assertIn(("Sites permitted", ", ".join(REOPENED)), plan.look_for)
        nested = [change for change in plan.changes if "water" in change.cause]
        self.assertEqual([(change.old_size, change.size) for change in nested], [(3, 1), (3, 1)], "only the number")
        book = self.shelf().open("Quill")
        posting = book.history.post(save, plan, "reopened")
        shown = self.play(folder, "quill", "show")
        self.assertEqual(shown.status, 0, shown.text)
        self.assertIn("Oriel & Daughters", shown.text)
        self.assertTrue(shown.text.endswith(f"sites: {', '.join(REOPENED)}"))
        self.assertEqual(posting.record["after"], ["Start the game and load the voyage."])
        book.history.reverse(posting)
        for path in untouched.rglob("*.*"):
            self.assertEqual((folder / path.relative_to(untouched)).read_bytes(), path.read_bytes())
        for left_out in STORY:
            part = self.opened(folder)
            for path, value in STORY.items():
                if path != left_out:
                    part.enter(path, value)
            book.history.post(part, make_plan(part))
            answer = self.play(folder, "quill", "show")
            self.assertEqual(answer.status, 1, f"without {left_out}")
            self.assertRegex(answer.text, "Salt Nave|the foreman says")
            book.history.reverse(book.history.postings()[0], anyway=True)

    def test_the_folder_of_the_registers_is_asked_for_and_files_that_disagree_are_reported(self) -> None:
        folder = self.played()
        template = Library((), None).get("brinewick-quill")
        self.assertIsInstance(open_save(folder / "voyage" / "world.json", template).problem, RootNotGranted)
        register = folder / "voyage" / "register.txt"
        register.write_text(register.read_text("utf-8").replace("1386", "1"), "utf-8")
        found = [finding for finding in self.opened(folder).findings if finding.level == "error"]
        self.assertEqual([finding.path for finding in found], ["register.marks"])
        register.unlink()
        problem = self.opened(folder).problem
        assert problem is not None
        self.assertIn("it belongs to the same save as world.json", problem.what)

    def test_a_list_that_breaks_the_games_syntax_is_refused_and_pointed_at(self) -> None:
        folder = self.played()
        for text, told, mended in (
            ("Old Wharf; Bell Rock", "item 2 of the list, at letter 11, has a blank", "Old Wharf;Bell Rock"),
            ("Old Wharf;;Bell Rock", "item 2 of the list, at letter 11, is empty", "Old Wharf;Bell Rock"),
            ("Old Wharf;Bell Rock;", "item 3 of the list, at letter 21, is empty", "Old Wharf;Bell Rock"),
            ("Bell Rock;Bell Rock", "item 2 of the list, at letter 11, is “Bell Rock” once more", "Bell Rock"),
        ):
            with self.assertRaisesRegex(ValueRefused, f"{told}.*; write {mended}$"):
                self.opened(folder).enter("tally.open", text)
            tally = folder / "voyage" / "tally.txt"
            before = tally.read_bytes()
            tally.write_bytes(
                before.replace(b"open=Old Wharf;Bell Rock;Kiln Stairs;Tin Arcade", f"open={text}".encode())
            )
            (finding,) = [each for each in self.opened(folder).findings if each.path == "tally.open"]
            self.assertIn(told, finding.message)
            self.assertEqual((finding.level, finding.suggested), ("error", mended))
            self.assertEqual(self.play(folder, "quill", "show").status, 1)
            tally.write_bytes(before)

    def test_the_zip_and_the_database_edition_without_a_template(self) -> None:
        for kind, where in (("quill-zip", ""), ("quill-db", "papers[name={}].body(text)")):
            with self.subTest(kind):
                folder = self.played(kind)
                save = open_save(Quill(folder, kind).path, None)

                def at(name: str, path: str, where: str = where) -> str:
                    return f"{where.format(name)}.{path}" if where else f'"{name}".{path}'

                levels = save.fields(at("world.json", "water"))[0].value
                self.assertEqual(json.loads(str(levels))["levels"]["Salt Nave"], 317)
                save.enter(at("world.json", 'water(text).levels."Salt Nave"'), "0")
                if kind == "quill-zip":
                    permits = sum(1 << SITES.index(name) for name in REOPENED)
                    save.enter(at("tides.cfg", "permits"), f"{permits}")
                    save.enter(at("tally.txt", "open"), STORY["tally.open"])
                    save.enter(at("tally.txt", "count"), "5")
                    save.enter('"yard/divers.xml".diver[@name=Oriel].@air', "100")
                book = self.shelf().open(kind)
                book.history.post(save, make_plan(save))
                answer = self.play(folder, kind, "show")
                if kind == "quill-zip":
                    self.assertEqual(answer.status, 0, answer.text)
                    self.assertIn("Oriel: air 100", answer.text)
                    self.assertTrue(answer.text.endswith(f"sites: {', '.join(REOPENED)}"))
                else:
                    self.assertIn("Salt Nave is dry and has no permit", answer.text)
