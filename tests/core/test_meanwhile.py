"""The second promise while others write: a game, another window, a damaged mine. Whatever they wrote last is kept."""

from __future__ import annotations

import json
import os
import threading
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from functools import cache
from pathlib import Path
from unittest import mock

from faithful_ledger.core import history
from faithful_ledger.core.book import Book
from faithful_ledger.core.disk import Disk
from faithful_ledger.core.errors import (
    Busy,
    ChangedMeanwhile,
    EntryError,
    JournalUnreadable,
    LedgerError,
    Refused,
    TemplateError,
)
from faithful_ledger.core.locks import locked
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.save import Save
from faithful_ledger.core.template import Template, parse_template
from tests.support import Crash, FailingDisk, LedgerCase

PAIR = """ledger: 1
id: pair
title: A pair with an index
files:
  save: {name: "*.sav", layout: [{field: marks, as: u32}, {field: debt, as: u32}]}
  account: {name: account.bin, layout: [{field: marks, as: u32}]}
companions: [{name: slots.idx}]
rules: [{equal: [marks, account.marks]}]
"""
OLD = {"a.sav": bytes(8), "account.bin": bytes(4), "slots.idx": b"old index"}
GAME = b"THE GAME'S NEWEST"


class MeddledDisk(FailingDisk):
    """A disk during whose operation number `at` the game writes one file, before or behind it."""

    def __init__(self, at: int, meddle: Callable[[], None], *, before: bool, swaps: bool = True) -> None:
        super().__init__(swaps=swaps)
        self.at, self.meddle, self.before = at, meddle, before

    def _step(self, name: str, half: Callable[[], object] | None = None) -> None:
        super()._step(name, half)
        if self.count == self.at + (0 if self.before else 1):
            self.meddle()


class MeanwhileCase(LedgerCase):
    def setUp(self) -> None:
        super().setUp()
        # Looking at all running programs takes longer than all the rest; other tests do.
        looking = mock.patch("faithful_ledger.core.find.programs.programs", return_value=[])
        looking.start()
        self.addCleanup(looking.stop)

    def pair(self, name: str = "saves") -> tuple[Path, Save]:
        folder = self.folder / name
        folder.mkdir(exist_ok=True)
        for path in folder.iterdir():
            path.unlink()
        for file, data in OLD.items():
            (folder / file).write_bytes(data)
            os.utime(folder / file, ns=(10**18, 10**18 + 1))  # long ago, so that the time of the next write is another
        return folder, self.entered(folder)

    def entered(self, folder: Path) -> Save:
        save = open_save(folder / "a.sav", self.template())
        save.enter("marks", "5")
        return save

    @staticmethod
    @cache
    def template() -> Template:
        return parse_template(PAIR.encode(), "pair.yaml")

    def new_set(self) -> dict[str, bytes]:
        return {"a.sav": b"\5" + bytes(7), "account.bin": b"\5" + bytes(3)}

    def visible(self, folder: Path) -> dict[str, bytes]:
        return {name: data for name, data in self.tree(folder).items() if not name.startswith(".")}

    @contextmanager
    def book(self, disk: Disk | None = None) -> Iterator[Book]:
        number = len(list(self.folder.glob("book-*")))
        mine = Book(self.folder / f"book-{number}", disk)
        try:
            yield mine
        finally:
            mine.close()


def in_place(path: Path) -> None:
    with path.open("r+b" if path.exists() else "wb") as file:
        file.truncate(0)
        file.write(GAME)


def by_rename(path: Path) -> None:
    temp = path.with_name("game.tmp")
    temp.write_bytes(GAME)
    temp.replace(path)


class GameWritesTest(MeanwhileCase):
    """Before each operation on the disk, in turn, the game writes one of the files, in two ways."""

    def test_while_posting_its_bytes_stay_and_the_others_are_all_old_or_all_new(self) -> None:
        self._meddled(lambda mine, folder: mine.history.post(self.entered(folder), make_plan(self.entered(folder))))

    def test_also_where_two_names_cannot_be_swapped(self) -> None:
        self._meddled(
            lambda mine, folder: mine.history.post(self.entered(folder), make_plan(self.entered(folder))), swaps=False
        )

    def test_while_a_snapshot_is_brought_back(self) -> None:
        def restore(mine: Book, folder: Path) -> None:
            mine.history.restore(mine.keeping.snapshots()[-1])

        def prepare(mine: Book, folder: Path) -> None:
            mine.keeping.keep(open_save(folder / "a.sav", self.template()), "first")
            for name in ("a.sav", "account.bin"):
                (folder / name).write_bytes(b"\7" * len(OLD[name]))

        self._meddled(restore, prepare)

    def _meddled(
        self,
        act: Callable[[Book, Path], object],
        prepare: Callable[[Book, Path], None] = lambda book, folder: None,
        *,
        swaps: bool = True,
    ) -> None:
        refused = 0
        for name in OLD:
            for write in (in_place, by_rename):
                for number in range(1, 200):
                    if number % 2 == (write is in_place):
                        continue
                    folder, _ = self.pair()
                    disk = MeddledDisk(0, lambda w=write, n=name, f=folder: w(f / n), before=True, swaps=swaps)
                    with self.subTest(name, how=write.__name__, step=number), self.book(disk) as mine:
                        prepare(mine, folder)
                        before = self.visible(folder)
                        disk.count, disk.at = 0, number
                        try:
                            act(mine, folder)
                            done = True
                        except (Refused, EntryError) as error:
                            done = False
                            refused += 1
                            self.assertRegex(str(error), "another program|changed")
                        if disk.count < number:
                            break
                        after = self.visible(folder)
                        if after.pop(name, None) != GAME:
                            kept = [mine.keeping.store.get(digest) for digest in mine.keeping.store.digests()]
                            # Where two names cannot be swapped, the moment of the rename itself is left open.
                            opened = not swaps and disk.done[number - 1] in (f"exchange {name}", f"replace {name}")
                            self.assertTrue(opened or GAME in kept, disk.done[number - 1])
                        others = {file: data for file, data in before.items() if file != name}
                        if not done:
                            self.assertEqual(after, others, f"not put back, after {disk.done[number - 1]}")
                    Book(mine.folder).close()
                    self.assertEqual([p.name for p in folder.iterdir() if p.name.startswith(".")], [])
                else:
                    self.fail("it never came to an end")
        self.assertGreater(refused, 10)

    def test_a_posting_that_lost_a_race_says_so_and_posts_when_it_is_opened_again(self) -> None:
        folder, save = self.pair()
        disk = MeddledDisk(10**9, lambda: by_rename(folder / "account.bin"), before=True)
        with self.book(disk) as mine:
            plan = make_plan(save)
            disk.at = self.steps().index("exchange account.bin") + 1
            with self.assertRaises(ChangedMeanwhile) as caught:
                mine.history.post(save, plan)
            self.assertEqual(
                str(caught.exception),
                "account.bin was written by another program in the meantime; its new bytes stay and nothing of yours was "
                "written; close the game, open the save again and try once more",
            )
            self.assertEqual(self.visible(folder), {**OLD, "account.bin": GAME})

    def steps(self) -> list[str]:
        """The operations of a posting that nothing disturbs."""
        _, save = self.pair("another")
        disk = FailingDisk()
        with self.book(disk) as mine:
            mine.history.post(save, make_plan(save))
        return disk.done

    def test_recovery_leaves_what_the_game_wrote_since(self) -> None:
        steps = len(self.steps())
        seen = set()
        for number in range(1, steps + 1):
            for name in OLD:
                folder, save = self.pair()
                with self.subTest(step=number, name=name), self.book(FailingDisk(number)) as mine:
                    with self.assertRaises(Crash):
                        mine.history.post(save, make_plan(save))
                    by_rename(folder / name)
                    again = Book(mine.folder)
                    after = self.visible(folder)
                    self.assertEqual(after.pop(name), GAME)
                    for file, data in after.items():
                        self.assertIn(data, (OLD[file], self.new_set().get(file)))
                    for recovery in again.recovered:
                        seen.add(recovery.outcome)
                        if recovery.outcome == "foreign":
                            self.assertIn(f"left as another program wrote it: {name}", str(recovery))
                    if all(data == OLD[file] for file, data in after.items() if file != "slots.idx"):
                        self.assertEqual(len(again.history.postings()), int(number == steps + 1))
                    self.assertEqual([p.name for p in folder.iterdir() if p.name.startswith(".")], [])
                    again.close()
        self.assertEqual(seen, {"new", "old", "foreign"})


class CompanionTest(MeanwhileCase):
    def test_one_that_is_a_file_of_the_save_is_refused(self) -> None:
        folder, _ = self.pair()
        (folder / "slots.idx").unlink()
        with self.assertRaisesRegex(TemplateError, "line 7: “account.bin” is a file of the save"):
            parse_template(PAIR.replace("slots.idx", "account.bin").encode(), "pair.yaml")
        for other in ("a.sav",):
            text = PAIR.replace("slots.idx", other)
            save = open_save(folder / "a.sav", parse_template(text.encode(), "pair.yaml"))
            save.enter("marks", "5")
            with (
                self.subTest(other),
                self.assertRaisesRegex(EntryError, f"{other} as a companion .*nothing was written"),
            ):
                make_plan(save)
        (folder / "slots.idx").symlink_to("account.bin")
        with self.assertRaisesRegex(EntryError, "slots.idx as a companion .*nothing was written"):
            make_plan(self.entered(folder))

    def test_one_that_comes_or_goes_after_planning_is_no_surprise(self) -> None:
        folder, save = self.pair()
        (folder / "slots.idx").unlink()
        plan = make_plan(save)
        (folder / "slots.idx").write_bytes(b"made since")
        with self.book() as mine:
            posting = mine.history.post(save, plan)
            self.assertFalse((folder / "slots.idx").exists(), "it repeats the old state")
            self.assertEqual(posting.record["removed"], [str(folder / "slots.idx")])
            mine.history.reverse(posting)
            self.assertEqual((folder / "slots.idx").read_bytes(), b"made since")
        folder, save = self.pair()
        plan = make_plan(save)
        (folder / "slots.idx").unlink()
        with self.book() as mine:
            self.assertEqual(mine.history.post(save, plan).record["removed"], [])


class LinksTest(MeanwhileCase):
    def test_a_link_leads_no_template_and_no_snapshot_out_of_the_saves_folder(self) -> None:
        outside = self.folder / "outside"
        outside.mkdir()
        (outside / "account.bin").write_bytes(bytes(4))
        text = PAIR.replace("name: account.bin", "name: sub/account.bin")
        template = parse_template(text.encode(), "pair.yaml")
        folder, _ = self.pair()
        for link, target in ((folder / "sub", outside), (folder / "sub" / "account.bin", outside / "account.bin")):
            link.parent.mkdir(exist_ok=True)
            link.symlink_to(target)
            save = open_save(folder / "a.sav", template)
            with self.subTest(link.name):
                self.assertIn("leads out of", str(save.problem))
                with self.assertRaises(LedgerError):
                    save.enter("account.marks", "5")
            link.unlink()
        (folder / "sub" / "account.bin").write_bytes(bytes(4))
        with self.book() as mine:
            snapshot = mine.keeping.keep(open_save(folder / "a.sav", template), "with a folder")
            aside = self.folder / "aside"
            aside.mkdir()
            (aside / "sub").symlink_to(outside)
            with self.assertRaisesRegex(Refused, "leads out of .*nothing was written"):
                mine.history.restore(snapshot, to=aside)
            self.assertEqual(self.tree(outside), {"account.bin": bytes(4)})
            (folder / "sub" / "account.bin").unlink()
            (folder / "sub").rmdir()
            (folder / "sub").symlink_to(outside)
            (folder / "a.sav").write_bytes(b"\1" * 8)
            with self.assertRaisesRegex(Refused, "leads out of .*nothing was written"):
                mine.history.restore(snapshot)
            self.assertEqual((folder / "a.sav").read_bytes(), b"\1" * 8)
            there = self.folder / "there"
            there.mkdir()
            mine.history.restore(snapshot, to=there)
            self.assertEqual(sorted(self.tree(there)), ["a.sav", "slots.idx", "sub/account.bin"])


class DamagedBookTest(MeanwhileCase):
    def test_a_damaged_copy_is_not_relied_on(self) -> None:
        folder, save = self.pair()
        with self.book() as mine:
            snapshot = mine.keeping.keep(save)
            for file in snapshot.files:
                path = mine.keeping.store.path_of(file.sha256)
                path.chmod(0o644)
                path.write_bytes(path.read_bytes()[:-3] + b"\0\0\0")
            posting = mine.history.post(save, make_plan(save))
            self.assertTrue(mine.keeping.check_vault().sound, "the copies were made anew")
            mine.history.reverse(posting)
            self.assertEqual(self.visible(folder), OLD)

    def test_a_journal_that_cannot_be_read_stops_writing_and_stays(self) -> None:
        good = {
            "state": "ready",
            "record": {"id": "1"},
            "files": [{"target": "/x/a", "temporary": "/x/b", "old": "0", "new": "1"}],
            "removals": [],
        }
        for text in (
            "",
            "[]",
            "5",
            "{}",
            '{"state": "ready"}',
            json.dumps(good)[:40],
            json.dumps(good | {"files": 5}),
            json.dumps(good | {"record": {}}),
            json.dumps(good | {"files": [{"target": "/x/a", "temporary": "/etc/b", "old": "0", "new": "1"}]}),
            json.dumps(good | {"record": {"id": "1", "entries": []}}),
            "[" * 5000,
        ):
            folder, save = self.pair()
            with self.book() as mine:
                snapshot = mine.keeping.keep(save, "before")
                mine.history.journal.mkdir(exist_ok=True)
                journal = mine.history.journal / "1.json"
                journal.write_text(text)
                again = Book(mine.folder)
                with self.subTest(text[:60]):
                    self.assertEqual(len(again.keeping.snapshots()), 1)
                    with self.assertRaisesRegex(
                        JournalUnreadable, "1.json of an interrupted posting is damaged; .*restore"
                    ):
                        again.history.post(save, make_plan(save))
                    self.assertEqual(self.visible(folder), OLD)
                    self.assertTrue(journal.exists())
                    self.assertFalse(again.keeping.check_vault().sound)
                    (folder / "a.sav").write_bytes(b"half")
                    again.history.restore(snapshot)
                    self.assertEqual(self.visible(folder), OLD)
                    self.assertFalse(journal.exists(), "set aside once the snapshot from before it is back")
                    self.assertTrue(again.keeping.check_vault().sound)
                again.close()

    def test_records_that_are_gone_are_found_again_in_the_vault(self) -> None:
        for how in ("missing", "empty"):
            _, save = self.pair()
            with self.book() as mine:
                kept = [mine.keeping.keep(save, label) for label in ("one", "two")]
                mine.close()
                for path in mine.folder.glob("book.sqlite*"):
                    path.unlink()
                if how == "empty":
                    (mine.folder / "book.sqlite").touch()
                again = Book(mine.folder)
                with self.subTest(how):
                    self.assertIn("2 snapshots were found again", str(again.recovered[0]))
                    self.assertEqual(again.keeping.snapshots(), kept[::-1])
                    self.assertTrue(again.keeping.knows(save.path))
                    again.history.restore(kept[0])
                again.close()

    def test_a_damaged_book_of_another_game_is_not_in_the_way(self) -> None:
        _, save = self.pair()
        shelf = self.shelf()
        shelf.open("Broken").close()
        (shelf.books / "Broken" / "book.sqlite").write_bytes(os.urandom(5000))
        for path in (shelf.books / "Broken").glob("book.sqlite-*"):
            path.unlink()
        shelf.open("Mine").keeping.remember(save.path, None)
        found = shelf.book_of(save.path)
        self.assertEqual(found.name if found else None, "Mine")
        shelf.folders()
        with self.assertRaises(LedgerError):
            shelf.find_snapshot("0")
        self.assertEqual(list(shelf.unusable), ["Broken"])
        with self.assertRaisesRegex(LedgerError, "Broken.*no save was changed"):
            shelf.open("Broken")


class TogetherTest(MeanwhileCase):
    def test_two_books_that_post_to_one_save_do_not_meet(self) -> None:
        _, save = self.pair()
        with locked([save.path.parent], "this save"), self.book() as mine:
            with self.assertRaises(Busy) as caught, _waiting(0.2):
                mine.history.post(save, make_plan(save))
            self.assertEqual(
                str(caught.exception),
                "another program or window is writing this save; nothing was written; wait until it is done",
            )
            self.assertEqual(mine.keeping.snapshots(), [])

    def test_threads_on_one_book_wait_for_each_other(self) -> None:
        _, save = self.pair()
        errors: list[BaseException] = []
        with self.book() as mine:

            def keep(name: str) -> None:
                try:
                    for number in range(12):
                        mine.keeping.keep(save, f"{name}{number}")
                except BaseException as error:
                    errors.append(error)

            threads = [threading.Thread(target=keep, args=(name,)) for name in "abc"]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join(60)
            self.assertEqual((errors, len(mine.keeping.snapshots())), ([], 36))

    def test_a_copy_that_is_being_kept_is_not_swept_away_by_another_program(self) -> None:
        folder, _ = self.pair()
        (folder / "a.sav").write_bytes(os.urandom(2 << 20))
        save = open_save(folder / "a.sav", None)
        inside, go_on = threading.Event(), threading.Event()

        class Slow(Disk):
            def sync(self, descriptor: int) -> None:
                super().sync(descriptor)
                if "/new-" in str(Path(f"/proc/self/fd/{descriptor}").readlink()):
                    inside.set()
                    go_on.wait(20)

        with self.book(Slow()) as mine:
            kept: list[object] = []
            thread = threading.Thread(target=lambda: kept.append(mine.keeping.keep(save, "slow")))
            thread.start()
            self.assertTrue(inside.wait(20))
            mine.history.journal.mkdir(exist_ok=True)
            (mine.history.journal / "1.json.new").write_text("x")
            Book(mine.folder).close()  # finds a journal and may not sweep while somebody keeps
            go_on.set()
            thread.join(20)
            self.assertEqual(len(kept), 1)
            self.assertTrue(mine.keeping.check_vault().sound)


@contextmanager
def _waiting(seconds: float) -> Iterator[None]:
    """Wait less long for a lock than people would."""
    real = history.locked

    def impatient(paths: Iterable[Path], what: str, *, wait: float = seconds, shared: bool = False) -> object:
        return real(paths, what, wait=min(wait, seconds), shared=shared)

    with mock.patch.object(history, "locked", impatient):
        yield
