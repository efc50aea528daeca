"""A folder as one save: opened, kept, restored, carried as zip, compared, sighted, pinned, posted."""

from __future__ import annotations

import json
import os
import struct
from pathlib import Path

from faithful_ledger.core.book import Book
from faithful_ledger.core.compare import compare_sets
from faithful_ledger.core.errors import AddressError, LedgerError, Refused, VaultError
from faithful_ledger.core.evidence import locate_in_set, parse_sighting
from faithful_ledger.core.find import in_sets, look
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.save import Save
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.template import Library
from tests.support import FailingDisk, LedgerCase


class FolderCase(LedgerCase):
    """A world in a folder: a head with the marks, two regions below, and a text."""

    def setUp(self) -> None:
        super().setUp()
        self.world = self.folder / "world"
        (self.world / "region").mkdir(parents=True)
        self.write(1410)
        self.book = Book(self.folder / "book")
        self.addCleanup(self.book.close)

    def write(self, marks: int, lots: int = 5) -> None:
        (self.world / "head.dat").write_bytes(b"WRLD" + bytes(range(20)) + struct.pack("<I", marks) + bytes(9))
        (self.world / "region" / "r0.dat").write_bytes(b"REGN" + bytes(64) + struct.pack("<H", lots) + bytes(30))
        (self.world / "region" / "r1.dat").write_bytes(b"REGN" + bytes(99))
        (self.world / "about.json").write_text(json.dumps({"day": (marks * marks) % 9973}))

    def opened(self, saves: Path | None = None) -> Save:
        template = self.book.keeping.template_of(self.world)
        library = Library((self.book.folder / "templates",), None)
        return open_save(saves or self.world, library.get(template) if template else None)


class FolderTest(FolderCase):
    def test_opened_kept_changed_and_brought_back_exactly(self) -> None:
        save = self.opened()
        self.assertEqual(list(save.files), ["about.json", "head.dat", "region/r0.dat", "region/r1.dat"])
        self.assertEqual(
            (save.path, save.template, save.size), (self.world, None, sum(map(len, self.tree(self.world).values())))
        )
        before = self.tree(self.world)
        first = self.book.keeping.keep(save, "first")
        self.assertEqual([first.name_of(file) for file in first.files], list(save.files))
        self.assertFalse(save.changed_outside())
        self.write(1500)
        (self.world / "region" / "r1.dat").unlink()
        (self.world / "region" / "r2.dat").write_bytes(b"came in later")
        self.assertTrue(save.changed_outside())
        later = self.tree(self.world)
        second = self.book.keeping.keep(self.opened(), "second")
        gave_way = self.book.history.restore(first)
        self.assertEqual(self.tree(self.world), before, "what came in since goes, what went is back")
        assert gave_way is not None
        self.assertIn("region/r2.dat", [gave_way.name_of(file) for file in gave_way.files], "and it is kept first")
        self.book.history.restore(second)
        self.assertEqual(self.tree(self.world), later)
        self.book.history.restore(first, to=self.folder / "elsewhere")
        self.assertEqual(self.tree(self.folder / "elsewhere"), before)
        with self.assertRaisesRegex(Refused, "exists already"):
            self.book.history.restore(first, to=self.folder / "elsewhere")

    def test_a_stop_at_every_step_of_bringing_it_back_leaves_old_or_new(self) -> None:
        old = self.book.keeping.keep(self.opened(), "old")
        before = self.tree(self.world)
        self.write(1500)
        (self.world / "region" / "r9.dat").write_bytes(b"new")
        later = self.tree(self.world)
        self.book.close()
        for step in range(1, 200):
            disk = FailingDisk(step)
            book = Book(self.folder / "book", disk)
            try:
                book.history.restore(old)
            except BaseException:
                book.close()
                Book(self.folder / "book").close()
                self.assertIn(self.tree(self.world), (before, later), disk.done[-3:])
                self._put(later)
                continue
            book.close()
            break
        self.assertGreater(step, 20)
        self.assertEqual(self.tree(self.world), before)

    def _put(self, tree: dict[str, bytes]) -> None:
        for path in [path for path in self.world.rglob("*") if path.is_file()]:
            path.unlink()
        for name, content in tree.items():
            (self.world / name).write_bytes(content)

    def test_as_a_zip_file_and_back(self) -> None:
        kept = self.book.keeping.keep(self.opened(), "carried")
        archive = self.folder / "world.zip"
        self.book.keeping.export(kept, archive)
        other = Book(self.folder / "other")
        self.addCleanup(other.close)
        (self.folder / "away").mkdir()
        taken = other.keeping.take_in(archive, self.folder / "away")
        self.assertTrue(taken.is_folder)
        other.history.restore(taken)
        self.assertEqual(self.tree(self.folder / "away"), self.tree(self.world))
        import zipfile

        for name in ("../out.dat", "/etc/out", "region/../../out", "a//b", "."):
            bad = self.folder / "bad.zip"
            with zipfile.ZipFile(archive) as whole, zipfile.ZipFile(bad, "w") as changed:
                about = whole.read("snapshot.json").replace(b"region/r1.dat", name.encode())
                changed.writestr("snapshot.json", about)
                for info in whole.infolist()[1:]:
                    changed.writestr(info.filename.replace("region/r1.dat", name), whole.read(info))
            with self.subTest(name=name), self.assertRaisesRegex(VaultError, "which leads elsewhere|nothing was kept"):
                other.keeping.take_in(bad, self.folder / "away")

    def test_what_is_no_save_is_said(self) -> None:
        (self.folder / "empty").mkdir()
        many = self.folder / "many"
        many.mkdir()
        for number in range(2001):
            (many / f"{number}").write_bytes(b"")
        for folder, words in (
            (self.folder / "empty", "has no files"),
            (many, "holds 2001 files, too much for one save"),
        ):
            with self.assertRaisesRegex(AddressError, words):
                open_save(folder, None)
        (self.world / "loop").symlink_to(self.world)
        os.mkfifo(self.world / "pipe")
        self.assertEqual(len(self.opened().files), 4, "links and pipes are no part of it")
        closed = self.world / "region"
        closed.chmod(0)
        self.addCleanup(closed.chmod, 0o755)
        if os.geteuid():
            with self.assertRaisesRegex(LedgerError, "may not be read by you"):
                self.opened()

    def test_files_are_compared_one_by_one(self) -> None:
        self.book.keeping.keep(self.opened())
        before = {name: MemorySource(data) for name, data in self.tree(self.world).items()}
        self.write(1417)
        (self.world / "region" / "r1.dat").unlink()
        after = {name: MemorySource(data) for name, data in self.tree(self.world).items()}
        found = {file.name: file for file in compare_sets(before, after)}
        self.assertEqual(
            {name for name, file in found.items() if not file.same}, {"about.json", "head.dat", "region/r1.dat"}
        )
        self.assertEqual([d.kind for d in found["region/r1.dat"].differences], ["removed"])
        self.assertTrue(all(file.same for file in compare_sets(after, after)))


class PinnedInFolderTest(FolderCase):
    def test_a_place_is_found_in_the_right_file_pinned_and_posted(self) -> None:
        sets, seen = [], {"marks": [], "lots": [], "day": []}
        for marks, lots in ((1410, 611), (1502, 320), (1377, 298), (1600, 299)):
            self.write(marks, lots)
            self.book.keeping.keep(self.opened(), str(marks))
            sets.append({str(self.world / name): MemorySource(data) for name, data in self.tree(self.world).items()})
            for name, value in (("marks", marks), ("lots", lots), ("day", (marks * marks) % 9973)):
                seen[name].append(parse_sighting(str(value)))
        library = Library((self.book.folder / "templates",), None)
        paths = {}
        for name, file in (("marks", "head.dat"), ("lots", "region/r0.dat"), ("day", "about.json")):
            found = locate_in_set(sets, seen[name])
            self.assertEqual(Path(found.full[0].file), self.world / file, found.full[:3])
            self.assertEqual(found.spots, 1)
            save = self.opened()
            paths[name] = self.book.templates.add_place(save, library, found.full[0], name)
        self.assertEqual(paths, {"marks": "marks", "lots": "r0.lots", "day": "about.day"})
        save = self.opened()
        self.assertEqual([save.fields(path)[0].value for path in paths.values()], [1600, 299, 1600 * 1600 % 9973])
        self.assertEqual(len(save.on_disk), 4, "files nobody described belong to it as well")
        before = self.tree(self.world)
        for path, value in zip(paths.values(), ("7", "12", "3"), strict=True):
            save.enter(path, value)
        posting = self.book.history.post(save, make_plan(save))
        now = self.tree(self.world)
        self.assertEqual(
            {name for name in now if now[name] != before[name]}, {"head.dat", "region/r0.dat", "about.json"}
        )
        self.assertEqual([self.opened().fields(path)[0].value for path in paths.values()], [7, 12, 3])
        self.book.history.post_elsewhere(self.opened(), make_plan(self.opened()), self.folder / "copy")
        self.assertEqual(self.tree(self.folder / "copy"), now)
        self.book.history.reverse(posting)
        self.assertEqual(self.tree(self.world), before)

    def test_a_file_that_did_not_change_holds_nothing_that_did(self) -> None:
        same = MemorySource(bytes(40) + struct.pack("<I", 1410) + bytes(40))
        other = [MemorySource(bytes(9) + struct.pack("<I", value)) for value in (1410, 1500)]
        seen = [parse_sighting("1410"), parse_sighting("1500")]
        found = locate_in_set([{"a": same, "b": part} for part in other], seen)
        self.assertEqual({place.file for place in found.places}, {"b"})
        nothing = locate_in_set([{"a": same}, {"a": same}], seen)
        self.assertIn("hold the same bytes, but 1410 was seen at one and 1500 at the other", nothing.suggestion)
        self.assertEqual(locate_in_set([{"a": same}, {"b": same}], seen).places, [], "no file is in both")


class SetsTest(LedgerCase):
    def test_files_of_one_game_are_one_set(self) -> None:
        for name in ("deep/one.sav", "deep/two.sav", "deep/region/r0.dat", "lone/x.sav", "loose.sav", "loose.cfg"):
            path = self.folder / "games" / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(b"x" * 30)
        root = self.folder / "games"
        found = look([root])
        for chosen, expected in (
            (
                False,
                [{"deep/one.sav", "deep/two.sav", "deep/region/r0.dat"}, {"lone/x.sav"}, {"loose.sav"}, {"loose.cfg"}],
            ),
            (
                True,
                [{"deep/one.sav", "deep/two.sav", "deep/region/r0.dat"}, {"lone/x.sav"}, {"loose.sav", "loose.cfg"}],
            ),
        ):
            sets = in_sets(found, [root], chosen=chosen)
            told = [{file.path.relative_to(root).as_posix() for file in each.files} for each in sets]
            self.assertCountEqual(told, expected)
            self.assertEqual(
                [each.likeliest for each in sets], sorted([each.likeliest for each in sets], key=found.index)
            )
            self.assertTrue(all(each.folder in file.path.parents for each in sets for file in each.files))
