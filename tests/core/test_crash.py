"""The second promise: a failure at every step leaves the old or the new set, and the vault whole."""

from __future__ import annotations

import errno
import hashlib
import json
import multiprocessing
import os
import shutil
import zlib
from collections.abc import Callable
from pathlib import Path
from unittest import mock

from faithful_ledger.core.book import Book
from faithful_ledger.core.disk import open_path
from faithful_ledger.core.errors import ChangedMeanwhile, FileAccessError, LedgerError, Refused, UnexplainedChange
from faithful_ledger.core.keeping import hash_early
from faithful_ledger.core.opening import find_save, open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.posting.files import has_bytes
from faithful_ledger.core.save import Save
from faithful_ledger.core.template import parse_template
from faithful_ledger.core.threads import WORTH_IT
from tests.support import Crash, FailingDisk, LedgerCase, PulledOut, play


class EveryStepTest(LedgerCase):
    """A posting to two files that also removes a companion is stopped at each operation on the disk."""

    FIRST_NAMED = "exchange account.json"
    LEAST_STEPS = 30

    def prepared(self, disk: FailingDisk) -> tuple[Book, Save, dict[str, bytes]]:
        saves = self.folder / "harbour"
        if saves.exists():
            for path in saves.iterdir():
                path.unlink()
            for name, content in self._pristine.items():
                (saves / name).write_bytes(content)
        else:
            self.harbour()
            self._pristine = self.tree(saves)
        number = len(list(self.folder.glob("book-*")))
        book = Book(self.folder / f"book-{number}", disk)
        save = self.opened(saves)
        save.enter("purse.marks", "5200")
        save.enter("crew[1].name", "Tamsin Bell")
        return book, save, self._pristine

    def new_set(self) -> dict[str, bytes]:
        """What the set is after a posting that nothing disturbs."""
        book, save, _ = self.prepared(FailingDisk())
        book.history.post(save, make_plan(save))
        book.close()
        return self.tree(save.main.path.parent)

    def steps(self, **how: bool) -> int:
        disk = FailingDisk(**how)
        book, save, _ = self.prepared(disk)
        book.history.post(save, make_plan(save))
        book.close()
        return disk.count

    def test_a_machine_that_stops_at_step_n_leaves_old_or_new(self) -> None:
        self._stopped_at_every_step(swaps=True)

    def test_so_does_a_file_system_that_cannot_swap_two_names(self) -> None:
        self._stopped_at_every_step(swaps=False)

    def _stopped_at_every_step(self, *, swaps: bool) -> None:
        new = self.new_set()
        outcomes = []
        steps = self.steps(swaps=swaps)
        self.assertGreater(steps, self.LEAST_STEPS)
        for number in range(1, steps + 1):
            disk = FailingDisk(number, swaps=swaps)
            book, save, old = self.prepared(disk)
            with self.subTest(step=number):
                with self.assertRaises(Crash):
                    book.history.post(save, make_plan(save))
                book.close()
                again = Book(book.folder)
                present = self.tree(save.main.path.parent)
                self.assertIn(present, (old, new), f"a mixture after {disk.done[-1]}")
                outcomes.append(present == new)
                self.assertEqual(again.keeping.store.check(), [], "the vault is whole")
                self.assertEqual(list(again.history.journal.glob("*")), [])
                self.assertEqual(len(again.history.postings()), int(present == new), "records say what happened")
                for posting in again.history.postings():
                    again.history.reverse(posting)
                    self.assertEqual(self.tree(save.main.path.parent), old)
                again.close()
        self.assertIn(True, outcomes)
        self.assertIn(False, outcomes)
        self.assertEqual(outcomes, sorted(outcomes), "old up to some step, new from there on")

    def test_a_disk_that_fails_at_step_n_is_put_back_at_once(self) -> None:
        new = self.new_set()
        for number in range(1, self.steps() + 1):
            for code in (errno.ENOSPC, errno.EIO):
                disk = FailingDisk(number, crash=False, error=code)
                book, save, old = self.prepared(disk)
                with self.subTest(step=number, error=errno.errorcode[code]):
                    try:
                        book.history.post(save, make_plan(save))
                        done = True
                    except FileAccessError as error:
                        done = False
                        self.assertRegex(str(error), "cannot be .*: the disk .*; the save is as it was; ")
                    present = self.tree(save.main.path.parent)
                    if done:  # an old file that could not be removed is left for the next opening
                        present = {name: data for name, data in present.items() if not name.startswith(".")}
                    self.assertEqual(present, new if done else old, disk.done[-1])
                    self.assertEqual(len(book.history.postings()), int(done))
                    self.assertEqual(book.keeping.store.check(), [])
                    self.assertEqual(list(book.keeping.store.folder.glob("*.part")), [])
                    if not done:
                        self.assertEqual(list(book.history.journal.glob("*")), [])
                book.close()
                again = Book(book.folder)
                self.assertEqual(self.tree(save.main.path.parent), new if done else old)
                self.assertEqual(
                    (list(again.history.journal.glob("*")), len(again.history.postings())), ([], int(done))
                )
                again.close()

    def test_a_stop_while_it_recovers_changes_nothing_about_that(self) -> None:
        new = self.new_set()
        first = self._step_of(self.FIRST_NAMED) + 1
        for second in range(1, 40):
            disk = FailingDisk(first)
            book, save, old = self.prepared(disk)
            with self.assertRaises(Crash):
                book.history.post(save, make_plan(save))
            book.close()
            try:
                Book(book.folder, FailingDisk(second)).close()
                finished = True
            except Crash:
                finished = False
            Book(book.folder).close()
            self.assertIn(self.tree(save.main.path.parent), (old, new))
            if finished:
                return
        self.fail("recovery never came to an end")

    def _step_of(self, name: str) -> int:
        disk = FailingDisk()
        book, save, _ = self.prepared(disk)
        book.history.post(save, make_plan(save))
        book.close()
        return disk.done.index(name)

    def test_a_game_that_wrote_in_the_meantime_is_left_alone(self) -> None:
        disk = FailingDisk(self._step_of(self.FIRST_NAMED) + 1)
        book, save, _ = self.prepared(disk)
        with self.assertRaises(Crash):
            book.history.post(save, make_plan(save))
        book.close()
        account = save.on_disk[-1].path
        account.write_text("the game was here")
        before = self.tree(account.parent)
        again = Book(book.folder)
        self.assertEqual([recovery.outcome for recovery in again.recovered], ["foreign"])
        after = self.tree(account.parent)
        self.assertEqual({n: c for n, c in before.items() if not n.endswith(".part")}, after)
        kinds = [snapshot.kind for snapshot in again.keeping.snapshots()]
        self.assertEqual(kinds.count("before posting"), 1, "the untouched copy is still there")
        again.close()

    def test_restoring_is_as_safe(self) -> None:
        for number in range(1, 60):
            book, save, old = self.prepared(FailingDisk())
            book.history.post(save, make_plan(save))
            book.close()
            new = self.tree(save.main.path.parent)
            disk = FailingDisk(number)
            failing = Book(book.folder, disk)
            snapshot = failing.keeping.snapshots()[0]
            try:
                failing.history.restore(snapshot)
                finished = True
            except Crash:
                finished = False
            failing.close()
            Book(book.folder).close()
            present = self.tree(save.main.path.parent)
            self.assertIn(present, (old, new), number)
            if finished:
                self.assertEqual(present, old)
                return
        self.fail("restoring never came to an end")


def _killed(folder: Path, save: Save, ready: Callable[[], object]) -> None:
    class Killing(FailingDisk):
        def exchange(self, source: Path, target: Path) -> bool:
            swapped = super().exchange(source, target)
            if target.name == "harbour.bwk":
                os._exit(9)
            return swapped

    book = Book(folder, Killing())
    ready()
    book.history.post(save, make_plan(save))


class PulledOutTest(LedgerCase):
    """The folder of a save goes away at each operation on the disk, and is there again later."""

    def test_a_posting_and_a_reversal_are_whole_when_it_is_back(self) -> None:
        saves, device, away = self.harbour(), self.folder / "device", self.folder / "pulled out"
        for undone in (False, True):
            step, outcomes = 0, set()
            while True:
                step += 1
                shutil.rmtree(device, ignore_errors=True)
                shutil.copytree(saves, device)
                place, save = self.folder / f"book {undone} {step}", self.opened(device)
                save.enter("purse.marks", "4321")
                before, disk, said = self.tree(device), PulledOut(step, device, away), ""
                if undone:
                    first = Book(place)
                    posting = first.history.post(save, make_plan(save))
                    first.close()
                    before = self.tree(device)
                book = Book(place, disk)
                try:
                    if undone:
                        book.history.reverse(posting)
                    else:
                        book.history.post(save, make_plan(save))
                except LedgerError as error:
                    said = str(error)
                book.close()
                if not disk.is_away:
                    after = self.tree(device)
                    break
                with self.subTest(undone=undone, step=step, after=disk.done[-1]):
                    Book(place).close()
                    away.rename(device)
                    Book(place).close()
                    self.assertRegex(said, "^$|device is not there: some|no longer there|is not there; check the name")
                    outcomes.add((is_old := self.tree(device) == before, frozenset(self.tree(device).items())))
                    self.assertTrue(said or not is_old)
            self.assertEqual(outcomes, {(True, frozenset(before.items())), (False, frozenset(after.items()))})


class RealKillTest(LedgerCase):
    def test_a_process_killed_between_the_two_swaps_is_finished_by_the_next(self) -> None:
        saves, before = self._kill()
        self.assertEqual(play(saves, "show").status, 1, "the pair disagrees until it is recovered")
        self._finished_and_reversed(saves, before)

    def test_a_journal_of_an_older_version_is_finished_and_its_posting_reversed(self) -> None:
        """Which knew new bytes by their SHA-256."""
        saves, before = self._kill()
        (journal,) = (self.folder / "book" / "journal").glob("*.json")
        note = json.loads(journal.read_bytes())
        for entry in note["files"]:
            target, temporary = Path(entry["target"]), Path(entry["temporary"])
            new = target if has_bytes(target, entry["new"]) else temporary
            entry["new"] = hashlib.sha256(new.read_bytes()).hexdigest()
        journal.write_text(json.dumps(note))
        self._finished_and_reversed(saves, before)

    def _kill(self) -> tuple[Path, dict[str, bytes]]:
        """The saves of a posting that was killed, and their files as they were before it."""
        save = self.opened()
        saves = save.main.path.parent
        before = self.tree(saves)
        save.enter("purse.marks", "5200")
        process = multiprocessing.get_context("fork").Process(
            target=_killed, args=(self.folder / "book", save, lambda: None)
        )
        process.start()
        process.join()
        self.assertEqual(process.exitcode, 9)
        return saves, before

    def _finished_and_reversed(self, saves: Path, before: dict[str, bytes]) -> None:
        book = Book(self.folder / "book")
        self.addCleanup(book.close)
        self.assertEqual([recovery.outcome for recovery in book.recovered], ["new"])
        self.assertIn("marks 5200", play(saves, "show").text)
        (posting,) = book.history.postings()
        path = saves / "harbour.bwk"
        posted = path.read_bytes()
        path.write_bytes(posted[:-1] + bytes((posted[-1] ^ 1,)))
        with self.assertRaisesRegex(ChangedMeanwhile, "has changed since this posting"):
            book.history.reverse(posting)
        path.write_bytes(posted)
        book.history.reverse(posting)
        self.assertEqual(self.tree(saves), before)


class WritingTest(LedgerCase):
    def posted(self, save: Save, **options: bool) -> Book:
        book = self.shelf().open("b")
        book.history.post(save, make_plan(save), **options)
        return book

    def test_owner_mode_and_extended_attributes_stay(self) -> None:
        save = self.opened()
        path = save.main.path
        path.chmod(0o640)
        if os.geteuid() == 0:
            os.chown(path, 1234, 1235)
        try:
            os.setxattr(path, "user.note", b"mine")
        except OSError:
            self.skipTest("this file system has no extended attributes")
        save = self.opened(path.parent)
        save.enter("purse.marks", "5200")
        self.posted(save)
        status = path.stat()
        self.assertEqual(status.st_mode & 0o7777, 0o640)
        if os.geteuid() == 0:
            self.assertEqual((status.st_uid, status.st_gid), (1234, 1235))
        self.assertEqual(os.getxattr(path, "user.note"), b"mine")

    def test_a_symbolic_link_stays_one_and_its_target_is_written(self) -> None:
        saves = self.harbour()
        real = self.folder / "elsewhere" / "real.bwk"
        real.parent.mkdir()
        (saves / "harbour.bwk").rename(real)
        (saves / "harbour.bwk").symlink_to(real)
        save = self.opened(saves)
        save.enter("purse.marks", "5200")
        self.posted(save)
        self.assertTrue((saves / "harbour.bwk").is_symlink())
        self.assertEqual([path.name for path in real.parent.iterdir()], ["real.bwk"])
        self.assertIn("marks 5200", play(saves, "show").text)

    def test_hard_links_are_refused_unless_allowed_and_then_keep_the_old_bytes(self) -> None:
        save = self.opened()
        path = save.main.path
        other = path.with_name("second-name")
        os.link(path, other)
        old = path.read_bytes()
        save = self.opened(path.parent)
        save.enter("purse.marks", "5200")
        with self.assertRaisesRegex(Refused, "has 2 names"):
            self.posted(save)
        self.assertEqual(path.read_bytes(), old)
        self.posted(save, detach_links=True)
        self.assertEqual(other.read_bytes(), old)
        self.assertNotEqual(path.read_bytes(), old)

    def test_only_one_module_opens_files_for_writing(self) -> None:
        """Everything that could change a user's file goes through core/disk.py."""
        core = Path(__file__).parents[2] / "src" / "faithful_ledger" / "core"
        writing = (
            ".write_bytes(",
            ".write_text(",
            'open("w',
            '"wb"',
            "os.write(",
            "os.open(",
            ".unlink(",
            ".rename(",
            ".replace(",
        )
        allowed = {
            "disk.py": "the operations themselves",
            "source.py": "opens for reading",
            "template/loader.py": "the cache of templates",
            "locks.py": "opens for locking",
            "opening.py": "opens for reading",
            "bundle.py": "a new file the user names, and a temporary copy",
            "vault/objects.py": "the vault's own unfinished objects",
        }
        for path in core.rglob("*.py"):
            name = str(path.relative_to(core))
            text = path.read_text("utf-8").replace("text.replace(", "").replace("name.replace(", "")
            found = [call for call in writing if call in text]
            if name.startswith("posting/"):
                found = [call for call in found if call != ".replace("]
            if name not in allowed and any(call not in (".replace(",) for call in found):
                self.fail(f"{name} uses {found}; give it a Disk")

    def test_an_error_keeps_what_caused_it(self) -> None:
        save = self.opened()
        save.enter("purse.marks", "5200")
        book = Book(self.folder / "book", FailingDisk(1, crash=False, error=errno.EROFS))
        with self.assertRaises(LedgerError) as caught:
            book.history.post(save, make_plan(save))
        self.assertIsInstance(caught.exception.__cause__, OSError)
        self.assertIn("the file system is read-only", str(caught.exception))
        book.close()


class EditionStepTest(EveryStepTest):
    """The same for a pair of files of which one seals the other, and for packed blocks and banks."""

    EDITION, FILE, ENTRIES = "console", "voyage.bwx", {"body.purse.marks": "5200", "body.crew[1].name": "Tamsin Bell"}
    FIRST_NAMED = "exchange voyage.bwy"
    LEAST_STEPS = 15

    def prepared(self, disk: FailingDisk) -> tuple[Book, Save, dict[str, bytes]]:
        saves = self.folder / "saves"
        if saves.exists():
            for name, content in self._pristine.items():
                (saves / name).write_bytes(content)
        else:
            self.assertEqual(play(saves, "--edition", self.EDITION, "start", "Oriel").status, 0)
            self._pristine = self.tree(saves)
        for path in saves.iterdir():
            if path.name not in self._pristine:
                path.unlink()
        number = len(list(self.folder.glob("book-*")))
        book = Book(self.folder / f"book-{number}", disk)
        save = open_save(*find_save(saves / self.FILE, self.library()))
        for path, text in self.ENTRIES.items():
            save.enter(path, text)
        return book, save, self._pristine


class DeepStepTest(EditionStepTest):
    EDITION, FILE, ENTRIES = "deep", "company.bwd", {"company.marks": "5200", "company.crew[1].name": "Tamsin Bell"}
    FIRST_NAMED = "exchange company.bwd"


class PocketStepTest(EditionStepTest):
    EDITION, FILE, ENTRIES = "pocket", "pocket.bwp", {"slate.marks": "5200", "slate.crew[1].name": "Tamsin Bell"}
    FIRST_NAMED = "exchange pocket.bwp"


class LargeStepTest(EditionStepTest):
    """The same for a file that is hashed early, and read back while it is synced."""

    FIRST_NAMED = "exchange hold.sav"
    TEMPLATE = """
ledger: 1
id: large
title: A large hold
files:
  save:
    name: "*.sav"
    layout:
      - {field: sum, as: u32le, seal: {algorithm: crc-32, over: [marks, last]}}
      - {field: marks, as: u32le}
      - {field: last, as: bytes, size: 12}
"""

    def prepared(self, disk: FailingDisk) -> tuple[Book, Save, dict[str, bytes]]:
        saves = self.folder / "saves"
        saves.mkdir(exist_ok=True)
        for path in saves.iterdir():
            path.unlink()
        held = bytes(range(16))
        pristine = {"hold.sav": zlib.crc32(held).to_bytes(4, "little") + held + bytes(WORTH_IT)}
        (saves / "hold.sav").write_bytes(pristine["hold.sav"])
        folder = self.folder / f"book-{len(list(self.folder.glob('book-*')))}"
        self.keep_before(folder, saves / "hold.sav")
        book = Book(folder, disk)
        save = open_save(saves / "hold.sav", parse_template(self.TEMPLATE.encode(), "large.yaml"))
        hash_early(*save.on_disk)
        save.enter("marks", "5200")
        return book, save, pristine

    def keep_before(self, folder: Path, path: Path) -> None:
        """What the book has already."""

    def test_a_disk_that_writes_something_else_is_noticed(self) -> None:
        class Wrong(FailingDisk):
            def write(self, descriptor: int, data: bytes | memoryview) -> None:
                wrong = bytearray(data)
                if open_path(descriptor).readlink().parent.name == "saves":
                    wrong[-1] ^= len(wrong) > 1000
                super().write(descriptor, wrong)

        book, save, old = self.prepared(Wrong())
        with self.assertRaises(UnexplainedChange):
            book.history.post(save, make_plan(save))
        self.assertEqual((self.tree(save.path.parent), book.history.postings()), (old, []))
        book.close()

    def test_what_was_written_ahead_is_gone_where_it_was_not_used(self) -> None:
        disk = FailingDisk()
        book, save, old = self.prepared(disk)
        changed = ChangedMeanwhile("the game was here", "open it again")
        opened = len(list(Path("/proc/self/fd").iterdir()))
        with (
            mock.patch.object(book.keeping, "keep_opened", side_effect=changed),
            self.assertRaises(ChangedMeanwhile),
        ):
            book.history.post(save, make_plan(save))
        self.assertIn("create_unnamed in saves", disk.done)
        self.assertFalse([step for step in disk.done if step.startswith("name ")])
        self.assertEqual((self.tree(save.path.parent), book.history.postings()), (old, []))
        self.assertEqual(len(list(Path("/proc/self/fd").iterdir())), opened)
        book.close()


class AlikeStepTest(LargeStepTest):
    """The same for a file of which the vault has nearly all bytes already."""

    def keep_before(self, folder: Path, path: Path) -> None:
        pristine = path.read_bytes()
        path.write_bytes(pristine[:-WORTH_IT] + b"as it was yesterday".ljust(WORTH_IT, b"\0"))
        book = Book(folder)
        book.keeping.keep(open_save(path, parse_template(self.TEMPLATE.encode(), "large.yaml")))
        book.close()
        path.write_bytes(pristine)
