"""What was played in one folder goes into another one: worlds with their registers, maps, devices; the game judges."""

from __future__ import annotations

import errno
import os
import shutil
from pathlib import Path

from faithful_ledger.core.book import Book
from faithful_ledger.core.carried import latest_carry, post_carry
from faithful_ledger.core.carry import Carry, Folders
from faithful_ledger.core.errors import AddressError, EntryError, FolderAway, LedgerError, Refused
from faithful_ledger.core.posting import refuse_blocked
from tests.support import Crash, FailingDisk, LedgerCase, PulledOut, dice, play


class HarbourCase(LedgerCase):
    def setUp(self) -> None:
        super().setUp()
        self.saves = self.folder / "saves"
        self.west, self.east = self.saves / "west-quay", self.saves / "east-pier"
        self.play("west-quay", 1, "start", "Maud")
        self.play("east-pier", 2, "start", "Ives & Sons")
        self.play("west-quay", 1, "sell", "brass lamp")

    def play(self, harbour: str, version: int, *action: str, saves: Path | None = None) -> str:
        whole = ("--edition", "atlas", "--harbour", harbour, "--map", str(version), *action)
        return play(saves or self.saves, *whole).text.partition("\n")[0]

    def folders(self, source: Path, target: Path) -> Folders:
        roots = {"harbours": self.saves, "registers": self.saves / "registers"}
        return Folders.recognised(source, target, self.library(), {}, roots)

    def post(self, made: Carry, book: Book | None = None) -> None:
        self.assertTrue(made.in_balance, made.findings)
        used = book or Book(self.folder / "book")
        post_carry(used.history, made, running=[])
        if book is None:
            used.close()


class WorldTest(HarbourCase):
    def test_a_session_goes_into_another_harbour_with_both_registers(self) -> None:
        self.assertEqual(len([path for path in self.west.rglob("*") if path.is_file()]), 25)
        before, book = self.tree(self.saves), Book(self.folder / "book")
        made = self.folders(self.west, self.east).carry()
        self.assertIn("then have the same mark of the session, ", made.findings[-1].message)
        self.assertEqual({line.path for line in made.lines}, {"register.mark", "register.marks", "marks_register.mark"})
        self.post(made, book)
        self.assertTrue(self.play("east-pier", 2, "show").startswith("Maud · slot 1"))
        self.assertTrue(self.play("west-quay", 1, "show").startswith("Maud · slot 1"))
        after = self.tree(self.saves)
        self.assertEqual(self.folders(self.west, self.east).listed[0].kind, "map")
        self.assertFalse([each for each in self.folders(self.west, self.east).listed if each.goes])
        (posting,) = book.history.postings()
        book.history.reverse(posting)
        self.assertEqual(self.tree(self.saves), before)
        self.post(self.folders(self.west, self.east).carry(), book)
        self.assertEqual(self.tree(self.saves), after)
        removal = self.folders(self.west, self.east)
        latest = latest_carry(book.history, removal.about, self.east)
        assert latest is not None
        self.assertEqual(latest.id, book.history.postings()[0].id)
        self.assertIsNone(latest_carry(book.history, removal.about, self.west))
        self.post(removal.removal(), book)
        self.assertFalse(self.west.exists())
        self.assertIn("there is no harbour west-quay", self.play("west-quay", 1, "show"))
        self.assertTrue(self.play("east-pier", 2, "dive", "Tamsin").startswith("Tamsin used"))
        book.close()

    def test_the_old_one_is_only_removed_where_the_other_has_what_was_played(self) -> None:
        nothing, empty = self.folder / "bad", self.folder / "empty"
        for folder in (nothing, empty):
            folder.mkdir()
        (nothing / "only.sav").write_bytes(b"the one copy")
        with self.assertRaisesRegex(Refused, "nothing that was played in bad is in west-quay; nothing was removed"):
            self.folders(nothing, self.west).removal()
        with self.assertRaisesRegex(Refused, "nothing that was played in bad is in empty; nothing was removed"):
            Folders(nothing, empty, None, {"*": False}).removal()
        self.post(self.folders(self.west, self.east).carry())
        (self.west / "diary.txt").write_text("mine", "utf-8")
        with self.assertRaisesRegex(Refused, "nothing says whether diary.txt goes along.*nothing was removed"):
            self.folders(self.west, self.east).removal()
        decided = self.folders(self.west, self.east)
        decided.decide(["diary.txt"], goes=False)
        self.assertIn("diary.txt", [write.path.name for write in decided.removal().removed])

    def test_what_people_do_by_hand_is_refused_by_the_game(self) -> None:
        for files, words in (
            ("session", "harbours.json has East Pier under the mark"),
            ("map", "is not of map 2: map 1 sheet 1"),
            ("sites", "low-chapel.site needs the add-on low-chapel.cht, which is not here"),
        ):
            with self.subTest(files):
                saves = self.folder / files
                shutil.copytree(self.saves, saves)
                shutil.copytree(saves / "west-quay" / files, saves / "east-pier" / files, dirs_exist_ok=True)
                shutil.rmtree(saves / "east-pier" / "cache")
                self.assertIn(words, self.play("east-pier", 2, "show", saves=saves))

    def test_mistakes_are_refused_by_name_and_nothing_is_written(self) -> None:
        before = self.tree(self.saves)
        with self.assertRaisesRegex(LedgerError, r"harbours.json is in the folder “harbours”.* grant it"):
            Folders.recognised(self.west, self.east, self.library(), {}, {}).carry()
        with self.assertRaisesRegex(AddressError, "is both sides of the carry; nothing was written"):
            self.folders(self.west, self.west)
        with self.assertRaisesRegex(AddressError, "nowhere is not a folder; nothing was written"):
            self.folders(self.west, self.saves / "nowhere")
        with self.assertRaisesRegex(Refused, "east-pier does not have session/.* nothing was removed"):
            self.folders(self.west, self.east).removal()
        register = self.saves / "harbours.json"
        register.write_text(register.read_text().replace('"East Pier"', '"East Jetty"'))
        with self.assertRaisesRegex(EntryError, r"it would not be read: .*harbours\[name=East Pier\]|East Pier"):
            self.folders(self.west, self.east).carry()
        self.assertEqual({**self.tree(self.saves), "harbours.json": before["harbours.json"]}, before)

    def test_a_stop_or_a_failure_at_any_step_leaves_all_old_or_all_new(self) -> None:
        before = self.tree(self.saves)
        self.post(self.folders(self.west, self.east).carry())
        after = self.tree(self.saves)
        for crash in (True, False):
            step, outcomes = 0, set()
            while True:
                step += 3 if crash else 5
                for path in self.east.rglob("*.cache"):
                    path.unlink()
                for name, data in before.items():
                    (self.saves / name).parent.mkdir(exist_ok=True)
                    (self.saves / name).write_bytes(data)
                place = self.folder / f"book-{crash}-{step}"
                disk = FailingDisk(step, crash=crash, error=errno.ENOSPC)
                book = Book(place, disk)
                try:
                    post_carry(book.history, self.folders(self.west, self.east).carry(), running=[])
                    finished = True
                except (Crash, LedgerError):
                    finished = False
                book.close()
                Book(place).close()
                with self.subTest(crash=crash, step=step):
                    present = self.tree(self.saves)
                    self.assertIn(present, (before, after), f"a mixture after {disk.done[-1]}")
                    outcomes.add(present == after)
                if finished and step > disk.count:
                    break
            self.assertEqual(outcomes, {True, False})


class MapTest(HarbourCase):
    def test_only_what_the_player_did_goes_to_a_new_map(self) -> None:
        found = {each.name: each for each in self.folders(self.west, self.east).listed}
        self.assertEqual({each.kind for each in found.values() if each.goes}, {"played"})
        self.assertEqual(found["map/sheet-03.map"].why, "it belongs to the map, and stays")
        self.assertEqual(found["sites/low-chapel.site"].why, "it needs addons/low-chapel.cht, which is not there")
        self.assertEqual(found["cache/tiles.cache"].why, "the game makes it anew")
        (self.east / "addons").mkdir()
        shutil.copyfile(self.west / "addons" / "low-chapel.cht", self.east / "addons" / "low-chapel.cht")
        folders = self.folders(self.west, self.east)
        self.assertTrue(next(each for each in folders.listed if each.name == "sites/low-chapel.site").goes)
        self.post(folders.carry())
        self.assertTrue(self.play("east-pier", 2, "show").startswith("Maud"))

    def test_fields_that_differ_are_named(self) -> None:
        found = {each.name: each.fields for each in self.folders(self.west, self.east).with_fields()}
        self.assertIn("world.purse.marks", found["session/world.json"])
        self.assertEqual(found["harbour.cfg"], ("name", "map"))

    def test_the_template_is_not_overruled(self) -> None:
        folders = self.folders(self.west, self.east)
        for name, words in (
            ("map/sheet-01.map", "map/sheet-01.map: it belongs to the map, and stays; nothing was written"),
            ("sites/low*", "sites/low-chapel.site: it needs addons/low-chapel.cht, which is not there"),
            ("sites/nowhere.site", "no file in .* is called sites/nowhere.site"),
        ):
            with self.subTest(name), self.assertRaisesRegex(LedgerError, words):
                folders.decide([name], goes=True)

    def test_what_nobody_sorts_is_decided_once(self) -> None:
        (self.west / "sites" / "old-wharf.site").write_text("swept 6\n")
        os.utime(self.east / "sites" / "old-wharf.site", (1, 1))
        made = self.folders(self.west, self.east).carry()
        self.assertIn(("sites/old-wharf.site", "nothing says whether it goes along"), made.left_out)
        folders, book = self.folders(self.west, self.east), Book(self.folder / "book")
        folders.decide(["sites/old-*"], goes=True)
        book.keeping.decide("brinewick-atlas", folders.decisions)
        again = self.folders(self.west, self.east)
        again.decide_again(book.keeping.decisions("brinewick-atlas"))
        self.post(again.carry(), book)
        self.assertEqual((self.east / "sites" / "old-wharf.site").read_text(), "swept 6\n")
        book.close()


class DeviceTest(LedgerCase):
    def test_folders_without_a_template_with_files_nobody_chose(self) -> None:
        source = dice()
        seed = source.randrange(1 << 30)
        source.seed(seed)
        for turn in range(6):
            here, there = self.folder / f"here{turn}", self.folder / f"there{turn}"
            here.mkdir()
            there.mkdir()
            expected: dict[str, bytes] = {}
            for number in range(12):
                name = source.choice(["a/", "", "b/c/"]) + f"f{number}{source.choice(['.sav', '.bin', ''])}"
                on = source.choice(["here", "there", "both", "same"])
                data = [source.randbytes(source.randrange(1, 400)) for _ in range(2)]
                newer = source.choice([0, 1])  # which side
                for side, folder in enumerate((here, there)):
                    if on in (folder.name.rstrip("0123456789"), "both", "same"):
                        path = folder / name
                        path.parent.mkdir(parents=True, exist_ok=True)
                        path.write_bytes(data[0] if on == "same" else data[side])
                        os.utime(path, (1000 + (newer == side), 1000 + (newer == side)))
                kept_there = on == "there" or (on == "both" and newer == 1)
                expected[name] = data[1] if kept_there else data[0]
            with self.subTest(seed=seed, turn=turn):
                folders = Folders(here, there)
                self.assertFalse([each for each in folders.listed if each.goes])
                folders.decide(["*"], goes=True)
                left = {each.name for each in folders.listed if each.why == "the one there is newer"}
                if not any(each.goes for each in folders.listed):
                    continue
                made, book = folders.carry(), Book(self.folder / f"book{turn}")
                self.assertEqual({each.path for each in made.left_out}, left)
                post_carry(book.history, made, running=[])
                self.assertEqual(self.tree(there), expected)
                over = Folders(here, there)
                over.decide(["*"], goes=True, over_newer=True)
                if left:
                    post_carry(book.history, over.carry(), running=[])
                self.assertEqual({**self.tree(there), **self.tree(here)}, self.tree(there))
                book.close()

    def test_one_that_is_pulled_out_at_any_step_has_all_old_or_all_new_files_when_it_is_back(self) -> None:
        here, device, away = (self.folder / name for name in ("here", "device", "pulled out"))
        here.mkdir()
        for name in ("harbour.bwk", "slots.idx", "notes/log.txt"):
            (here / name).parent.mkdir(exist_ok=True)
            (here / name).write_bytes(b"new " + name.encode())
        mine = self.tree(here)
        old = {"harbour.bwk": b"old harbour", "slots.idx": b"old index"}
        step, outcomes = 0, set()
        while True:
            step += 1
            shutil.rmtree(device, ignore_errors=True)
            device.mkdir()
            for name, data in old.items():
                (device / name).write_bytes(data)
            disk = PulledOut(step, device, away)
            place = self.folder / f"book{step}"
            book = Book(place, disk)
            folders = Folders(here, device)
            folders.decide(["*"], goes=True, over_newer=True)
            made, said = folders.carry(), ""
            try:
                post_carry(book.history, made, running=[])
            except LedgerError as error:
                said = str(error)
            book.close()
            if not disk.is_away:
                self.assertEqual((said, self.tree(device)), ("", mine))
                break
            with self.subTest(step=step, after=disk.done[-1]):
                waiting = Book(place)  # while it is still away
                with waiting.history.writing({here}):
                    pass
                for error in waiting.blocked:
                    self.assertIsInstance(error, FolderAway)
                    with self.assertRaisesRegex(FolderAway, "device is not there"):
                        refuse_blocked(waiting.blocked, {here, device})
                waiting.close()
                away.rename(device)
                Book(place).close()
                self.assertIn(self.tree(device), (old, mine), said)
                self.assertEqual(self.tree(here), mine)
                is_new = self.tree(device) == mine
                self.assertRegex(said or f"{is_new}", "^True$|device is not there: some|is no longer there")
                outcomes.add((is_new, said.startswith("a posting to harbour.bwk, log.txt, slots.idx was interrupted")))
        self.assertEqual(outcomes, {(False, False), (False, True), (True, True), (True, False)})
