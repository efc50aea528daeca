"""Books: kept copies, restoring, reversing, and which book knows a save."""

from __future__ import annotations

import hashlib
import io
import json
import os
import subprocess
import sys
import zipfile
from contextlib import redirect_stdout
from pathlib import Path
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

from brinewick.harbour import Harbour
from brinewick.tether import main as tether
from faithful_ledger.core.book import Book
from faithful_ledger.core.books import move_save, remove_book, rename_book
from faithful_ledger.core.bundle import write_bundle
from faithful_ledger.core.errors import AddressError, EntryError, FileAccessError, LedgerError, Refused, VaultError
from faithful_ledger.core.opening import find_save, open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.records import Member, Snapshot
from faithful_ledger.core.shelf import Shelf
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.taking_in import take_in
from faithful_ledger.core.threads import WORTH_IT
from faithful_ledger.core.typed_bytes import enter_bytes
from faithful_ledger.core.vault import ObjectStore
from tests.support import LedgerCase, play, template_of


class EarlyTest(LedgerCase):
    def test_a_large_save_is_kept_with_its_first_entry_and_not_again(self) -> None:
        data = bytes(4) + os.urandom(3 << 20)
        path = self.folder / "large.bin"
        for lost in (False, True):
            path.write_bytes(data)
            book = self.shelf().open(f"Early {lost}")
            self.addCleanup(book.close)
            save = open_save(path, template_of("- {field: marks, as: u32}"))
            book.keeping.keep_early(save)
            (digest,) = book.keeping.store.digests()
            self.assertEqual(book.keeping.snapshots(), [], "no snapshot yet")
            save.enter("marks", "7")
            if lost:
                book.keeping.store.path_of(digest).unlink()
            with mock.patch.object(book.keeping.store, "put", wraps=book.keeping.store.put) as put:
                posting = book.history.post(save, make_plan(save))
            self.assertEqual(put.call_count, int(lost))
            book.history.reverse(posting)
            self.assertEqual(path.read_bytes(), data)


class ObjectStoreTest(LedgerCase):
    @settings(max_examples=40)
    @given(st.lists(st.binary(max_size=300), max_size=6))
    def test_what_is_kept_comes_back_and_equal_contents_are_stored_once(self, contents: list[bytes]) -> None:
        store = ObjectStore(self.folder / "objects")
        digests = [store.put(MemorySource(content)) for content in contents]
        for digest, content in zip(digests, contents, strict=True):
            self.assertEqual(store.get(digest), content)
        self.assertTrue(set(digests) <= set(store.digests()))
        self.assertEqual(store.check(), [])

    def test_damage_is_told_and_never_handed_on(self) -> None:
        store = ObjectStore(self.folder / "objects")
        digest = store.put(MemorySource(os.urandom(400)))
        other = store.put(MemorySource(b"other"))
        path = store.path_of(digest)
        content = path.read_bytes()
        path.chmod(0o644)
        for damaged in (content[:-3], b"", b"not zstd at all", content[:20] + bytes([content[20] ^ 1]) + content[21:]):
            path.write_bytes(damaged)
            with self.subTest(damaged=damaged[:12]), self.assertRaises(VaultError):
                store.get(digest)
            self.assertEqual(store.check(), [digest])
        path.write_bytes(store.path_of(other).read_bytes())
        with self.assertRaisesRegex(VaultError, "is damaged; look in a backup of the vault; nothing was restored"):
            store.get(digest)
        path.unlink()
        with self.assertRaisesRegex(VaultError, "is missing from"):
            store.get(digest)

    def test_an_object_is_never_written_twice(self) -> None:
        store = ObjectStore(self.folder / "objects")
        digest = store.put(MemorySource(b"x" * 5000))
        before = store.path_of(digest).stat()
        store.put(MemorySource(b"x" * 5000))
        self.assertEqual(store.path_of(digest).stat().st_mtime_ns, before.st_mtime_ns)
        self.assertEqual(before.st_mode & 0o222, 0, "objects are not for writing")


class AlikeTest(LedgerCase):
    """Large objects of which only what differs from another one is kept."""

    def setUp(self) -> None:
        super().setUp()
        self.store = ObjectStore(self.folder / "objects")
        self.first = os.urandom(WORTH_IT + 1000)
        self.name = self.store.put(MemorySource(self.first))

    def size_of(self, name: str) -> int:
        return self.store.path_of(name).stat().st_size

    def damage(self, name: str, at: int) -> None:
        path = self.store.path_of(name)
        data = bytearray(path.read_bytes())
        data[at] ^= 1
        path.chmod(0o644)
        path.write_bytes(data)

    @settings(max_examples=30)
    @given(st.data())
    def test_what_is_nearly_the_same_takes_little_room_and_comes_back(self, data: st.DataObject) -> None:
        content, last = bytearray(self.first), self.name
        for _ in range(data.draw(st.integers(1, 3))):
            for _ in range(data.draw(st.integers(0, 4))):
                at = data.draw(st.integers(0, len(content) - 1))
                content[at : at + data.draw(st.integers(1, 9000))] = data.draw(st.binary(max_size=9000))
                if data.draw(st.booleans()):
                    content += bytes(len(self.first) - len(content) % 5000)
                content = content[: len(self.first) + data.draw(st.integers(-5000, 70_000))]
            last = self.store.put(MemorySource(content), like=last)
            self.assertEqual(last, hashlib.sha256(content).hexdigest())
            self.assertEqual(self.store.get(last), content)
        self.assertEqual(self.store.get(self.name), self.first)
        self.assertEqual(self.store.check(), [])

    def test_the_room_it_takes(self) -> None:
        like = self.name
        for number in range(5):  # each differs from the first one, also where the one before is such an object
            content = bytearray(self.first)
            content[50_000 * number] ^= 1
            like = self.store.put(MemorySource(content), like=like)
            self.assertLess(self.size_of(like), 100_000)
        before = self.store.path_of(self.name).stat().st_mtime_ns
        self.assertEqual(self.store.put(MemorySource(self.first), like=like), self.name)
        self.assertEqual(self.store.path_of(self.name).stat().st_mtime_ns, before, "what others differ from stays")
        other = self.store.put(MemorySource(os.urandom(WORTH_IT)), like=self.name)
        self.assertGreater(self.size_of(other), WORTH_IT, "nothing in common")
        self.assertEqual(self.store.put(MemorySource(content)), like)
        self.assertGreater(self.size_of(like), WORTH_IT, "without a likeness it is kept whole")
        self.assertEqual(self.store.check(), [])

    def test_damage_is_never_relied_on(self) -> None:
        content = self.first[:-1] + b"!"
        for at in (100, WORTH_IT // 2, -100, -30):  # in the frame, and in what is said about it
            with self.subTest(at=at):
                self.damage(self.name, at)
                name = self.store.put(MemorySource(content), like=self.name)
                self.assertGreater(self.size_of(name), WORTH_IT)
                self.assertEqual(self.store.get(name), content)
                self.store.put(MemorySource(self.first))
                self.assertEqual(self.store.get(self.name), self.first)

    def test_what_differs_from_a_lost_or_damaged_object_is_named_until_that_is_kept_again(self) -> None:
        name = self.store.put(MemorySource(self.first[:-1] + b"!"), like=self.name)
        self.damage(self.name, WORTH_IT // 2)
        self.assertEqual(sorted(self.store.check()), sorted([self.name, name]))
        self.store.path_of(self.name).unlink()
        self.assertFalse(self.store.has(name))
        with self.assertRaisesRegex(VaultError, f"the kept copy {self.name[:12]}… is missing from"):
            self.store.get(name)
        self.store.put(MemorySource(self.first))
        self.assertTrue(self.store.has(name))
        self.assertEqual(self.store.check(), [])

    def test_what_is_said_about_differences_is_not_trusted(self) -> None:
        content = bytearray(self.first)
        content[7000] ^= 1
        content[90_000] ^= 1
        name = self.store.put(MemorySource(content), like=self.name)
        good = self.store.path_of(name).read_bytes()
        self.store.path_of(name).chmod(0o644)
        for at in range(64):
            for value in {0, 1, 0x7F, 0xFF} - {good[at]}:
                self.store.path_of(name).write_bytes(good[:at] + bytes([value]) + good[at + 1 :])
                with self.subTest(at=at, value=value), self.assertRaises(VaultError):
                    self.store.get(name)
        self.store.path_of(name).write_bytes(good[:8] + bytes.fromhex(name) + good[40:])
        with self.assertRaisesRegex(VaultError, "it differs from one that differs from another, and so on"):
            self.store.get(name)

    def test_copies_made_on_demand_are_whole_and_those_before_postings_are_not(self) -> None:
        path = self.folder / "large.sav"
        path.write_bytes(self.first)
        book, template = self.shelf().open("b"), template_of("- {field: marks, as: u32}")
        sizes = []
        for number in range(4):
            save = open_save(path, template)
            save.enter("marks", str(number))
            if number == 3:
                book.keeping.keep(save, "on demand")
            posting = book.history.post(save, make_plan(save))
            kept = book.keeping.snapshot(posting.record["kept"]).files[0].sha256
            sizes.append(book.keeping.store.path_of(kept).stat().st_size > WORTH_IT)
        self.assertEqual(sizes, [True, False, False, True])
        for posting in book.history.postings():
            book.history.reverse(posting)
        self.assertEqual(path.read_bytes(), self.first)
        self.assertTrue(book.keeping.check_vault().sound)


class BookTest(LedgerCase):
    def test_a_snapshot_holds_the_whole_set_and_its_companion(self) -> None:
        save = self.opened()
        book = self.shelf().open("Brinewick")
        snapshot = book.keeping.keep(save, "a label")
        self.assertEqual(
            [(file.role, file.path.name) for file in snapshot.files],
            [("save", "harbour.bwk"), ("account", "account.json"), ("companion", "slots.idx")],
        )
        for file in snapshot.files:
            self.assertEqual(bytes(book.keeping.kept_source(file).read(0, file.size)), file.path.read_bytes())
        (listed,) = book.keeping.snapshots(save.main.path)
        self.assertEqual(listed, snapshot)
        self.assertEqual(book.keeping.snapshots(Path("/elsewhere")), [])
        self.assertEqual(book.keeping.snapshot(snapshot.id[:6]), snapshot)

    def test_posting_and_reversing_bring_back_every_byte_and_the_companion(self) -> None:
        save = self.opened()
        saves = save.main.path.parent
        before = self.tree(saves)
        book = self.shelf().open("b")
        save.enter("purse.marks", "5200")
        posting = book.history.post(save, make_plan(save), "richer")
        self.assertNotIn("slots.idx", self.tree(saves))
        self.assertIn("marks 5200", play(saves, "show").text)
        self.assertEqual(posting.record["note"], "richer")
        self.assertEqual(posting.record["removed"], [str(saves / "slots.idx")])
        self.assertEqual([entry["new"] for entry in posting.record["entries"]], ["5200"])
        gave_way = book.history.reverse(posting)
        self.assertEqual(self.tree(saves), before)
        self.assertIsNotNone(book.history.postings()[0].reversed)
        book.history.restore(gave_way)
        self.assertIn("marks 5200", play(saves, "show").text)

    def test_a_posting_is_not_reversed_over_what_the_game_wrote_since(self) -> None:
        save = self.opened()
        saves = save.main.path.parent
        book = self.shelf().open("b")
        save.enter("purse.marks", "5200")
        posting = book.history.post(save, make_plan(save))
        self.assertEqual(play(saves, "sell", "wax plug").status, 0)
        played = self.tree(saves)
        with self.assertRaisesRegex(Refused, "has changed since this posting; nothing was written; reverse anyway"):
            book.history.reverse(posting)
        self.assertEqual(self.tree(saves), played)
        gave_way = book.history.reverse(posting, anyway=True)
        self.assertIn("marks 1386", play(saves, "show").text)
        book.history.restore(gave_way)
        self.assertEqual(self.tree(saves), played, "what gave way was kept, the game's index included")

    def test_a_stale_companion_goes_when_a_snapshot_without_it_comes_back(self) -> None:
        save = self.opened()
        saves = save.main.path.parent
        (saves / "slots.idx").unlink()
        book = self.shelf().open("b")
        snapshot = book.keeping.keep(save)
        play(saves, "sell", "wax plug")
        self.assertTrue((saves / "slots.idx").exists())
        book.history.restore(snapshot)
        self.assertFalse((saves / "slots.idx").exists())
        self.assertEqual(play(saves, "show").status, 0)

    def test_restoring_what_was_removed_or_elsewhere(self) -> None:
        save = self.opened()
        saves = save.main.path.parent
        before = self.tree(saves)
        book = self.shelf().open("b")
        snapshot = book.keeping.keep(save)
        for name in ("harbour.bwk", "account.json"):
            (saves / name).unlink()
        book.history.restore(snapshot)
        self.assertEqual(self.tree(saves), before)
        away = self.folder / "away"
        self.assertIsNone(book.history.restore(snapshot, to=away))
        kept = {file.path.name for file in snapshot.files}
        self.assertEqual(self.tree(away), {name: before[name] for name in kept})
        with self.assertRaisesRegex(Refused, "exists already; nothing was written; name another place"):
            book.history.restore(snapshot, to=away)

    def test_a_damaged_copy_stops_restoring_before_anything_is_written(self) -> None:
        save = self.opened()
        saves = save.main.path.parent
        book = self.shelf().open("b")
        snapshot = book.keeping.keep(save)
        play(saves, "sell", "wax plug")
        played = self.tree(saves)
        damaged = book.keeping.store.path_of(snapshot.files[1].sha256)
        damaged.chmod(0o644)
        damaged.write_bytes(b"?")
        with self.assertRaises(VaultError):
            book.history.restore(snapshot)
        self.assertEqual(self.tree(saves), played)

    def test_post_elsewhere_leaves_the_save_alone(self) -> None:
        save = self.opened()
        saves = save.main.path.parent
        before = self.tree(saves)
        save.enter("purse.marks", "5200")
        book = self.shelf().open("b")
        away = self.folder / "away"
        away.mkdir()
        written = book.history.post_elsewhere(save, make_plan(save), away)
        self.assertEqual([path.name for path in written], ["harbour.bwk", "account.json"])
        self.assertEqual(self.tree(saves), before)
        self.assertIn("marks 5200", play(away, "show").text)
        with self.assertRaisesRegex(Refused, "exists already"):
            book.history.post_elsewhere(save, make_plan(save), away)

    def test_a_file_without_a_template_is_kept_and_restored(self) -> None:
        path = self.folder / "noise"
        path.write_bytes(os.urandom(3000))
        content = path.read_bytes()
        book = self.shelf().open("b")
        snapshot = book.keeping.keep(open_save(path, None))
        path.write_bytes(b"other")
        book.history.restore(snapshot)
        self.assertEqual(path.read_bytes(), content)

    def test_a_book_that_cannot_be_used_is_told(self) -> None:
        folder = self.folder / "book"
        folder.mkdir()
        (folder / "book.sqlite").write_bytes(b"this is no database, whatever its name says" * 40)
        with self.assertRaisesRegex(VaultError, "cannot be opened"):
            Book(folder)
        with self.assertRaises(FileAccessError):
            Book(Path("/dev/null/book"))

    def test_a_snapshot_goes_out_as_a_zip_and_comes_in_again(self) -> None:
        saves = self.harbour()
        book, save = self.shelf().open("Brinewick"), self.opened(saves)
        first = book.keeping.keep(save, "before the dive")
        archive = self.folder / "out.zip"
        book.keeping.export(first, archive)
        with self.assertRaisesRegex(FileAccessError, "exists already; nothing was written"):
            book.keeping.export(first, archive)
        second = Book(self.folder / "another")
        taken = second.keeping.take_in(archive, save.main.path)
        self.assertEqual((taken.label, taken.files, taken.companions), (first.label, first.files, first.companions))
        for file in taken.files:
            source = second.keeping.kept_source(file)
            self.assertEqual(bytes(source.read(0, source.size)), file.path.read_bytes())
        self.assertTrue(second.keeping.check_vault().sound)
        whole = archive.read_bytes()
        for name, content in (
            ("noise", os.urandom(500)),
            ("cut", whole[:-40]),
            ("flipped", whole[:600] + bytes([whole[600] ^ 1]) + whole[601:]),
            ("no files", zipped({"snapshot.json": json.dumps({"files": []})})),
            ("a path", zipped({"snapshot.json": json.dumps({"files": [{"name": "../x", "role": "", "mode": 0}]})})),
            (
                "other bytes",
                zipped(
                    {
                        "snapshot.json": json.dumps({"files": [{"name": "x", "sha256": "0", "role": "", "mode": 0}]}),
                        "files/x": "y",
                    }
                ),
            ),
        ):
            damaged = self.folder / f"{name}.zip"
            damaged.write_bytes(content)
            with self.subTest(name), self.assertRaisesRegex(VaultError, "nothing was kept"):
                second.keeping.take_in(damaged, save.main.path)
        self.assertEqual(len(second.keeping.snapshots()), 1)

    def test_damaged_copies_are_named_with_their_snapshots(self) -> None:
        saves = self.harbour()
        book, save = self.shelf().open("Brinewick"), self.opened(saves)
        snapshot = book.keeping.keep(save, "one")
        path = book.keeping.store.path_of(snapshot.files[0].sha256)
        path.chmod(0o644)
        path.write_bytes(b"rot")
        book.keeping.store.path_of(snapshot.files[1].sha256).unlink()
        self.assertEqual(book.keeping.check_vault().damaged, [(snapshot, file) for file in snapshot.files[:2]])

    def test_files_that_the_user_says_belong_to_a_save_are_kept_with_it(self) -> None:
        saves = self.harbour()
        book, save = self.shelf().open("Brinewick"), self.opened(saves)
        options = saves / "options.cfg"
        book.records.set_member(save.main.path, Member(options, "options", "bell and lamp"))
        kept = {file.path.name: file.role for file in book.keeping.keep(save, "set").files}
        self.assertEqual(kept["options.cfg"], "options")
        book.records.set_member(save.main.path, Member(options, "", ""))
        self.assertEqual(book.records.members(save.main.path), [])

    def test_ten_thousand_snapshots_are_listed_at_once(self) -> None:
        saves = self.harbour()
        book, save = self.shelf().open("Brinewick"), self.opened(saves)
        one = book.keeping.keep(save, "one")
        book.records._db.execute("begin")
        for number in range(10_000):
            book.records._db.execute(
                "insert into snapshots values (?, ?, ?, ?, 'kept', ?, '[]', '')",
                (f"{number:012x}", number + 2, one.time, f"save {number}", str(one.save)),
            )
            book.records._db.executemany(
                "insert into snapshot_files values (?, ?, ?, ?, ?, ?)",
                [(f"{number:012x}", f.role, str(f.path), f.size, f.sha256, f.mode) for f in one.files],
            )
        book.records._db.execute("commit")
        self.assertEqual(len(book.keeping.snapshots(save.main.path)), 10_001)

    def test_what_the_game_made_of_a_posting_is_evidence(self) -> None:
        saves = self.harbour()
        shelf = self.shelf()
        book, save = shelf.open("Brinewick"), self.opened(saves)
        save.enter("crew[1].depth", "1300")
        posting = book.history.post(save, make_plan(save))
        template = self.library().path_of("brinewick-desktop")
        assert template is not None
        self.assertEqual(book.templates.judge(posting, "odd", template), [])
        self.assertEqual(book.templates.judge(posting, "accepted", template), ["crew[1].depth"])
        self.assertEqual(book.records.verdicts(), {posting.id: "accepted"})
        own = (book.folder / "templates" / "brinewick-desktop.yaml").read_text("utf-8")
        self.assertIn("{field: depth, as: u24, standing: proven,", own)
        self.assertIn("# ", own, "comments stay")
        again = open_save(saves / "harbour.bwk", shelf.library(book).get("brinewick-desktop"))
        self.assertEqual(again.fields("crew[0].depth")[0].spec.standing, "proven")

    def test_what_will_undo_the_work_is_told(self) -> None:
        saves = self.harbour()
        book, save = self.shelf().open("Brinewick"), self.opened(saves)
        kinds = {check.kind: check for check in book.history.hazards(save)}
        self.assertTrue(all(check.ok for check in kinds.values()), kinds)
        self.assertIn("slots.idx repeats the old state", kinds["companions"].text)
        self.assertEqual(quietly([str(saves), "on"]), 0)
        found = {check.kind: check for check in book.history.hazards(save)}["sync"]
        self.assertFalse(found.ok)
        self.assertIn("is synchronised (.tether is in it)", found.text)
        self.assertIn("pause it", found.remedy)
        book.records.set_setting("synced", "no")
        self.assertTrue({check.kind: check for check in book.history.hazards(save)}["sync"].ok)
        with (saves / "harbour.bwk").open("rb"):
            game = subprocess.Popen(
                [
                    sys.executable,
                    "-c",
                    "import sys,time; f=open(sys.argv[1],'rb'); print(flush=True); time.sleep(60)",
                    str(saves / "harbour.bwk"),
                ],
                stdout=subprocess.PIPE,
            )
            try:
                assert game.stdout is not None
                game.stdout.readline()
                self.assertFalse(book.history.hazards(save)[0].ok)
            finally:
                game.kill()
                game.communicate()

    def test_the_trap_of_a_folder_that_is_kept_the_same_elsewhere(self) -> None:
        saves = self.harbour()
        quietly([str(saves), "on"])
        for pause, marks in ((False, None), (True, 777)):
            book, save = self.shelf().open("Brinewick"), self.opened(saves)
            before = Harbour(saves).load(1).marks
            quietly([str(saves), "pause"]) if pause else None
            save.enter("purse.marks", "777")
            book.history.post(save, make_plan(save))
            answer = play(saves, "show")
            self.assertIn(f"marks {marks or before} ", answer.text)
            self.assertEqual("Tether put back its own harbour.bwk." in answer.text, not pause)


def quietly(words: list[str]) -> int:
    with redirect_stdout(io.StringIO()):
        return tether(words)


def zipped(contents: dict[str, str]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for name, content in contents.items():
            archive.writestr(name, content)
    return out.getvalue()


class FilledCase(LedgerCase):
    """A book with a kept copy, a posting, a verdict, a sighting and a mark."""

    def filled(self) -> tuple[Shelf, Path, bytes]:
        shelf = self.shelf()
        path = self.harbour() / "harbour.bwk"
        found, template = find_save(path, shelf.library())
        book = shelf.book_for(found, template)
        save = open_save(found, template)
        before = path.read_bytes()
        book.keeping.keep(save, "before")
        save.enter("purse.marks", "5200")
        posting = book.history.post(save, make_plan(save), "more")
        book.templates.judge(posting, "accepted", None)
        book.records.add_quantity(path, "Marks")
        (quantity,) = book.records.quantities(path)
        book.records.sight(quantity, book.keeping.snapshots()[-1].id, "1386")
        book.records.add_mark(path, "save", 4, 8, "why?")
        book.records.set_setting(f"format:{path}", "")
        book.close()
        return shelf, path, before


class BooksTest(FilledCase):
    """Books get other names, hand saves over, and are removed; nothing that was kept is lost."""

    def two_books(self, shelf: Shelf, path: Path) -> tuple[Book, Book, list[Snapshot]]:
        """The book that is filled, an empty one, and what is kept of the save."""
        old, new = shelf.open("Brinewick"), shelf.open("Harbour")
        self.addCleanup(old.close)
        self.addCleanup(new.close)
        return old, new, old.keeping.snapshots(path)

    def test_a_save_moves_with_all_that_is_known_about_it(self) -> None:
        shelf, path, before = self.filled()
        old, new, kept = self.two_books(shelf, path)
        seen, marks = [q.seen for q in old.records.quantities(path)], [m[1:] for m in old.records.marks(path)]
        move_save(path, old, new)
        self.assertEqual(new.keeping.snapshots(path), kept)
        self.assertEqual([q.seen for q in new.records.quantities(path)], seen)
        self.assertEqual([m[1:] for m in new.records.marks(path)], marks)
        (posting,) = new.history.postings(path)
        self.assertEqual(new.records.verdicts(), {posting.id: "accepted"})
        self.assertEqual((old.keeping.snapshots(), old.history.postings(), old.keeping.knows(path)), ([], [], False))
        self.assertEqual(old.keeping.rebuild(), 0, "nor does it come back from the notes in the vault")
        new.history.reverse(posting)
        self.assertEqual(path.read_bytes(), before)
        self.assertEqual(shelf.book_of(path).name, "Harbour")  # type: ignore[union-attr]
        old.keeping.remember(path, None)
        old.keeping.keep(open_save(path, None), "again")
        with self.assertRaisesRegex(EntryError, "has kept copies of harbour.bwk already"):
            move_save(path, old, new)

    def test_a_damaged_copy_stays_where_it_is(self) -> None:
        shelf, path, _ = self.filled()
        old, new, kept = self.two_books(shelf, path)
        damaged = old.keeping.store.path_of(kept[0].files[0].sha256)
        damaged.chmod(0o644)
        damaged.write_bytes(b"rot")
        with self.assertRaises(VaultError):
            move_save(path, old, new)
        self.assertEqual((old.keeping.snapshots(path), new.keeping.snapshots()), (kept, []))

    def test_another_name_and_removal(self) -> None:
        shelf, path, _ = self.filled()
        for name, words in (("Brinewick", "already"), ("../x", "is not a name"), ("", "already|is not a name")):
            with self.assertRaisesRegex(AddressError, words):
                rename_book(shelf, "Brinewick", name)
        rename_book(shelf, "Brinewick", "The Harbour")
        self.assertEqual(shelf.names(), ["The Harbour"])
        book = shelf.book_of(path)
        assert book is not None
        count = len(book.keeping.snapshots(path))
        book.close()
        place = remove_book(shelf, "The Harbour")
        self.assertEqual(shelf.names(), [])
        kept = Book(place)
        self.assertEqual(len(kept.keeping.snapshots(path)), count)
        kept.close()

    def test_folders_that_are_named_alike_are_not_one_game(self) -> None:
        shelf = self.shelf()
        names = []
        for game in ("one", "two", "one"):
            path = self.folder / game / "deep thing" / f"{len(names)}.bin"
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(bytes(9))
            book = shelf.book_for(path, None)
            names.append(book.name)
            book.close()
        self.assertEqual(names, ["deep thing", "deep thing 2", "deep thing"])


class BundleTest(FilledCase):
    """What the author of a template gets has no name of a person, and all that is needed to see the problem."""

    def test_a_problem_bundle(self) -> None:
        shelf, path, _ = self.filled()
        book = shelf.open("Brinewick")
        self.addCleanup(book.close)
        library = shelf.library(book)
        save = open_save(path, library.get("brinewick-desktop"))
        company = "Oriel & Søn"
        self.assertEqual(book.keeping.identities.of(save), company)
        before = self.tree(path.parent)
        bundled = write_bundle(self.folder / "problem.zip", save, book, library, ["crew[0].name"])
        self.assertEqual(self.tree(path.parent), before)
        with zipfile.ZipFile(bundled.path) as archive:
            content = {name: archive.read(name) for name in archive.namelist()}
        about = json.loads(content["bundle.json"])
        self.assertEqual(about["template"]["id"], "brinewick-desktop")
        self.assertEqual([p["verdict"] for p in about["postings"]], ["accepted"])
        self.assertIn("template/brinewick-desktop.yaml", content)
        for name, data in content.items():
            if not name.startswith("template/"):
                self.assertNotIn(company.encode(), data, name)
        (self.folder / "again").mkdir()
        again = self.folder / "again" / "harbour.bwk"
        for name in ("harbour.bwk", "account.json"):
            (again.parent / name).write_bytes(content[f"files/{name}"])
        opened = open_save(again, library.get("brinewick-desktop"))
        self.assertIsNone(opened.problem, "it still fits")
        self.assertEqual([seal.name for seal in opened.broken_seals], ["log_sum"], "where only the name was blanked")
        self.assertEqual(about["blanked_elsewhere"], bundled.elsewhere)
        with self.assertRaisesRegex(FileAccessError, "exists already"):
            write_bundle(self.folder / "problem.zip", save, book, library)

    def test_a_damaged_save_is_handed_on_as_it_is(self) -> None:
        shelf, path, _ = self.filled()
        path.write_bytes(path.read_bytes()[:900])
        book = shelf.open("Brinewick")
        self.addCleanup(book.close)
        library = shelf.library(book)
        save = open_save(path, library.get("brinewick-desktop"))
        bundled = write_bundle(self.folder / "cut.zip", save, book, library)
        with zipfile.ZipFile(bundled.path) as archive:
            self.assertIn("its length says", json.loads(archive.read("bundle.json"))["problem"])
            self.assertEqual(archive.read("files/harbour.bwk"), path.read_bytes())
        self.assertEqual(bundled.blanked, [])


class TakingInTest(LedgerCase):
    """Copies somebody kept by hand become snapshots, in order of time."""

    def copy(self, path: Path, data: bytes, moment: int) -> Path:
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
        os.utime(path, (moment, moment))
        return path

    def test_files_folders_and_zip_files(self) -> None:
        path = self.folder / "now" / "a.sav"
        self.copy(path, b"now!", 9_000_000)
        book = self.shelf().open("By hand")
        self.addCleanup(book.close)
        save = open_save(path, None)
        exported = self.folder / "exported.zip"
        book.keeping.export(book.keeping.keep(save, "kept"), exported)
        late = self.copy(self.folder / "later.bak", b"late", 8_000_000)
        self.copy(self.folder / "old" / "first.sav", b"old1", 1_000_000)
        self.copy(self.folder / "old" / "deep" / "second.sav", b"old2", 2_000_000)
        self.copy(self.folder / "old" / "notes.txt", b"no copy", 3_000_000)
        with zipfile.ZipFile(self.folder / "z.zip", "w") as archive:
            archive.writestr(zipfile.ZipInfo("x/third.sav", (1990, 5, 5, 5, 5, 6)), b"old3")
        paths = [late, self.folder / "z.zip", self.folder / "old", exported]
        taken = take_in(book.keeping, save, paths)
        labels = ["first.sav", "deep/second.sav", "later.bak", "x/third.sav", "kept"]
        self.assertEqual([snapshot.label for snapshot in taken.snapshots], labels)
        held = [bytes(book.keeping.kept_source(s.files[0]).read(0, 9)) for s in taken.snapshots]
        self.assertEqual(held, [b"old1", b"old2", b"late", b"old3", b"now!"])
        self.assertTrue(all(s.files[0].path == path for s in taken.snapshots), "each is the save as it was then")
        again = take_in(book.keeping, save, paths[:3])
        self.assertEqual((again.snapshots, len(again.known)), ([], 4))
        book.history.restore(taken.snapshots[0])
        self.assertEqual(path.read_bytes(), b"old1")

    def test_a_folder_that_is_one_save(self) -> None:
        world = self.folder / "world"
        self.copy(world / "level" / "one.dat", b"now", 9_000_000)
        book = self.shelf().open("Worlds")
        self.addCleanup(book.close)
        save = open_save(world, None)
        self.copy(self.folder / "copy" / "level" / "one.dat", b"then", 1_000_000)
        with zipfile.ZipFile(self.folder / "w.zip", "w") as archive:
            archive.writestr(zipfile.ZipInfo("world/level/one.dat", (1999, 1, 1, 1, 1, 2)), b"1999")
        taken = take_in(book.keeping, save, [self.folder / "w.zip", self.folder / "copy"])
        held = [[(f.path, bytes(book.keeping.kept_source(f).read(0, 9))) for f in s.files] for s in taken.snapshots]
        self.assertEqual(held, [[(world / "level" / "one.dat", data)] for data in (b"then", b"1999")])

    def test_what_is_no_copy_is_refused_and_nothing_is_kept(self) -> None:
        path = self.copy(self.folder / "a.sav", b"now!", 9)
        book = self.shelf().open("Refused")
        self.addCleanup(book.close)
        save = open_save(path, None)
        (self.folder / "empty").mkdir()
        with zipfile.ZipFile(self.folder / "out.zip", "w") as archive:
            archive.writestr("../a.sav", b"x")
        (self.folder / "cut.zip").write_bytes((self.folder / "out.zip").read_bytes()[:-9] + b"PK\5\6" + bytes(18))
        for wrong, words in (
            (self.folder / "empty", "contains no copy of a.sav"),
            (self.folder / "out.zip", "names a file “../a.sav”"),
            (self.folder / "missing.sav", "missing.sav"),
        ):
            with self.subTest(wrong=wrong), self.assertRaisesRegex(LedgerError, words):
                take_in(book.keeping, save, [path, wrong])
        self.assertEqual(book.keeping.snapshots(), [])


class TypedBytesTest(LedgerCase):
    def test_bytes_of_a_field_are_an_entry_of_the_field(self) -> None:
        save = self.opened(self.harbour())
        (node,) = save.fields("purse.marks")
        entry = enter_bytes(save, node.file, node.start, node.start + 1, b"\x07")
        self.assertEqual((entry.path, entry.data), ("purse.marks", b"\x07" + node.raw[1:]))
        enter_bytes(save, node.file, node.start + 1, node.start + 2, b"\x00")
        self.assertEqual(save.value(node), 7)
        self.assertTrue(make_plan(save).in_balance)
        for path in (save.seals[0].name, save.seals[-1].name):
            (sealed,) = save.fields(path)
            with self.assertRaisesRegex(EntryError, "worked out when you post"):
                enter_bytes(save, sealed.file, sealed.start, sealed.start + 1, b"\xff")

    def test_bytes_without_a_template_are_typed_over_inserted_and_removed(self) -> None:
        path = self.folder / "unknown.sav"
        body = bytes(range(64))
        path.write_bytes(b"HEAD" + len(body).to_bytes(4, "little") + body)
        for start, end, data, expected in (
            (10, 11, b"\xff", body[:2] + b"\xff" + body[3:]),
            (12, 12, b"new", body[:4] + b"new" + body[4:]),
            (12, 20, b"", body[:4] + body[12:]),
        ):
            with self.subTest(start=start, end=end):
                path.write_bytes(b"HEAD" + len(body).to_bytes(4, "little") + body)
                save = open_save(path, None)
                enter_bytes(save, "file", start, end, data)
                plan = make_plan(save)
                self.assertEqual([c.cause for c in plan.changes], [f"entry {next(iter(save.tape)).path}"])
                moved = [finding.message for finding in plan.findings]
                self.assertEqual(len(moved), 1 if len(data) != end - start else 0)
                if moved:
                    self.assertIn("0x4 (4) (u32le)", moved[0])
                book = self.shelf().open("Brinewick")
                posting = book.history.post(save, plan)
                self.assertEqual(path.read_bytes()[8:], expected)
                book.history.reverse(posting)
                self.assertEqual(path.read_bytes()[8:], body)

    def test_neighbouring_bytes_become_one_entry_and_can_be_undone(self) -> None:
        path = self.folder / "unknown.sav"
        path.write_bytes(bytes(40))
        save = open_save(path, None)
        for at, byte in ((5, 1), (7, 3), (6, 2), (6, 9)):
            enter_bytes(save, "file", at, at + 1, bytes([byte]))
        (entry,) = save.tape
        self.assertEqual((entry.node.start, entry.data), (5, b"\1\x09\3"))
        enter_bytes(save, "file", 5, 8, bytes(3))
        self.assertEqual(len(save.tape), 0)


class ShelfTest(LedgerCase):
    def test_the_book_that_knows_a_save_is_found_again(self) -> None:
        shelf = self.shelf()
        save = self.opened()
        self.assertIsNone(shelf.book_of(save.main.path))
        book = shelf.book_for(save.main.path, save.template)
        self.assertEqual(book.name, "Brinewick")
        known = shelf.book_of(save.main.path)
        self.assertIsNotNone(known)
        self.assertEqual(known and known.records.saves(), [(save.main.path, "brinewick-desktop")])
        mine = shelf.open("My second company")
        mine.keeping.remember(save.main.path.with_name("harbour-2.bwk"), "brinewick-desktop")
        found = shelf.book_of(save.main.path.with_name("harbour-2.bwk"))
        self.assertEqual(found and found.name, "My second company")
        self.assertEqual(sorted(shelf.names()), ["Brinewick", "My second company"])

    def test_names_that_are_no_names_for_a_book(self) -> None:
        shelf = self.shelf()
        for name in ("", "..", "../x", "a/b", ".hidden", "x" * 200, "a\0b", "end."):
            with self.subTest(name=name), self.assertRaises(AddressError):
                shelf.open(name)
        with self.assertRaisesRegex(AddressError, "there is no book “x”; there are none yet"):
            shelf.existing("x")

    def test_a_snapshot_is_found_in_whichever_book_it_is(self) -> None:
        shelf = self.shelf()
        save = self.opened()
        shelf.open("first").close()
        snapshot = shelf.open("second").keeping.keep(save)
        book, found = shelf.find_snapshot(snapshot.id)
        self.assertEqual((book.name, found), ("second", snapshot))
        with self.assertRaisesRegex(AddressError, "no book has a snapshot “nothing”"):
            shelf.find_snapshot("nothing")

    def test_a_save_that_vanishes_between_two_steps(self) -> None:
        save = self.opened()
        save.enter("purse.marks", "1")
        book = self.shelf().open("b")
        plan = make_plan(save)
        save.main.path.unlink()
        for act in (lambda: book.history.post(save, plan), lambda: book.keeping.keep(save)):
            with self.assertRaises((FileAccessError, Refused)) as caught:
                act()
            self.assertIn("there", str(caught.exception))
        self.assertIsInstance(caught.exception, LedgerError)
