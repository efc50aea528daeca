"""One posting over several saves of several books, with renames: all or nothing, at every step."""

from __future__ import annotations

import errno
from pathlib import Path

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.save import Save
from faithful_ledger.core.shelf import Shelf
from faithful_ledger.core.together import Part
from tests.support import Crash, FailingDisk, LedgerCase, play, template_of

LAYOUT = "- {field: marks, as: u32}\n- {field: sum, as: u32, seal: {algorithm: crc-32, over: marks}}"


class TogetherTest(LedgerCase):
    def setUp(self) -> None:
        super().setUp()
        self.folders = [self.folder / name for name in ("one", "two", "three")]
        for folder in self.folders:
            folder.mkdir()
        self.template = template_of(LAYOUT)

    def fresh(self) -> None:
        """Three saves as they were at first; the third is only renamed."""
        for number, folder in enumerate(self.folders):
            for path in folder.iterdir():
                path.unlink()
            (folder / f"slot{number}.bin").write_bytes(bytes([number]) + bytes(3) + b"SUM" + bytes([number]))

    def parts(self, shelf: Shelf) -> list[Part]:
        found = []
        for number, folder in enumerate(self.folders):
            path = folder / f"slot{number}.bin"
            save = open_save(path, self.template)
            save.renew_broken = True
            if number < 2:
                save.enter("marks", str(500 + number))
            book = shelf.open(f"Game {number % 2}")
            book.keeping.remember(path, None)
            renames = ((path, path.with_name("slot9.bin")),) if number == 2 else ()
            found.append(Part(book, save, make_plan(save), renames))
        return found

    def state(self) -> list[dict[str, bytes]]:
        return [{path.name: path.read_bytes() for path in folder.iterdir()} for folder in self.folders]

    def test_saves_of_two_books_are_written_and_reversed_one_by_one(self) -> None:
        self.fresh()
        before = self.state()
        shelf = self.shelf()
        postings = shelf.post_together(self.parts(shelf), "moved")
        after = self.state()
        self.assertEqual([list(names) for names in after], [["slot0.bin"], ["slot1.bin"], ["slot9.bin"]])
        self.assertEqual(open_save(self.folders[1] / "slot1.bin", self.template).fields("marks")[0].value, 501)
        self.assertEqual(after[2]["slot9.bin"], before[2]["slot2.bin"])
        self.assertEqual({len(p.record["together"]) for p in postings}, {3})
        for posting, number in zip(postings, range(3), strict=True):
            shelf.open(f"Game {number % 2}").history.reverse(posting)
        self.assertEqual(self.state(), before)

    def test_a_stop_or_a_failure_at_any_step_leaves_all_old_or_all_new(self) -> None:
        self.fresh()
        before = self.state()
        shelf = self.shelf()
        shelf.post_together(self.parts(shelf))
        after = self.state()
        shelf.close()
        for crash in (True, False):
            step, outcomes = 0, set()
            while True:
                step += 1
                self.fresh()
                disk = FailingDisk(step, crash=crash, error=errno.ENOSPC)
                shelf = self.shelf(disk)
                try:
                    shelf.post_together(self.parts(shelf))
                    finished = True
                except (Crash, LedgerError):
                    finished = False
                finally:
                    shelf.close()
                with self.subTest(crash=crash, step=step):
                    again = self.shelf()
                    again.open("Game 0")
                    present = self.state()
                    self.assertIn(present, (before, after), f"a mixture after {disk.done[-1]}")
                    outcomes.add(present == after)
                    self.assertEqual(list(again.journal.glob("*")), [])
                    again.close()
                if finished and step > disk.count:
                    break
            self.assertEqual(outcomes, {True, False})
            self.assertGreater(step, 40)

    def test_what_cannot_be_done_together_is_refused_before_anything_is_written(self) -> None:
        self.fresh()
        before = self.state()
        shelf = self.shelf()
        parts = self.parts(shelf)
        stranger, taken = self.folder / "stranger.bin", self.folders[0] / "slot7.bin"
        stranger.write_bytes(b"x")
        for wrong, words in (
            ([parts[0], parts[0]], "slot0.bin would be changed twice"),
            ([parts[1]._replace(renames=((stranger, taken),))], "stranger.bin is not a file of the save slot1.bin"),
            ([parts[2]._replace(renames=((parts[2].save.path, stranger),))], "stranger.bin exists already"),
            ([parts[0]._replace(renames=((parts[0].save.path, taken),))], "slot0.bin would be changed twice"),
        ):
            with self.subTest(words), self.assertRaisesRegex(LedgerError, words):
                shelf.post_together(wrong)
            self.assertEqual(self.state(), before)
        self.folders[1].joinpath("slot1.bin").write_bytes(b"the game wrote in the meantime")
        with self.assertRaisesRegex(LedgerError, "slot1.bin was changed by another program"):
            shelf.post_together(parts)
        self.assertEqual(self.state()[0], before[0])

    def test_the_made_up_game_accepts_two_harbours_posted_together(self) -> None:
        saves: list[Save] = []
        shelf = self.shelf()
        for number in range(2):
            folder = self.folder / f"harbour{number}"
            self.assertEqual(play(folder, "start", f"Oriel {number}").status, 0)
            saves.append(self.opened(folder))
            saves[-1].enter("purse.marks", str(900 + number))
        parts = [
            Part(shelf.book_for(save.path, save.template, f"H{n}"), save, make_plan(save))
            for n, save in enumerate(saves)
        ]
        shelf.post_together(parts)
        for number in range(2):
            shown = play(Path(self.folder / f"harbour{number}"), "show")
            self.assertEqual(shown.status, 0, shown.text)
            self.assertIn(str(900 + number), shown.text)
