"""Whose save it is: another character under the same file name has a history of its own."""

from __future__ import annotations

import json
import shutil
import sqlite3
from pathlib import Path

from faithful_ledger.core.book import Book
from faithful_ledger.core.errors import TemplateError
from faithful_ledger.core.opening import find_save, open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.save import Save
from faithful_ledger.core.template import parse_template
from tests.support import LedgerCase, play

TEXT = "owner = {0}\nmarks = {1}\n"


class IdentityTest(LedgerCase):
    def setUp(self) -> None:
        super().setUp()
        self.saves = self.harbour()
        other = self.folder / "other"
        self.assertEqual(play(other, "start", "Kestrel Salvage").status, 0)
        self.other, self.mine = other, self.folder / "mine"
        shutil.copytree(self.saves, self.mine)
        self.book = self.shelf().open("Brinewick")
        self.addCleanup(self.book.close)

    def harbour_of(self, folder: Path) -> Save:
        """The open save after the game has written the files of another company, or of the first one."""
        for path in folder.iterdir():
            shutil.copy(path, self.saves)
        path, template = find_save(self.saves / "harbour.bwk", self.shelf().library())
        return open_save(path, template)

    def labels(self, book: Book, save: Save) -> list[str]:
        return [snapshot.label for snapshot in book.keeping.own_snapshots(save)]

    def test_another_company_in_the_slot_has_its_own_snapshots_and_postings(self) -> None:
        keeping, history = self.book.keeping, self.book.history
        first = self.harbour_of(self.mine)
        keeping.keep(first, "one")
        first.enter("purse.marks", "77")
        posting = history.post(first, make_plan(first))
        second = self.harbour_of(self.other)
        keeping.keep(second, "two")
        self.assertEqual(self.labels(self.book, second), ["two"])
        self.assertEqual((keeping.count_own(second), keeping.others(second)), (1, {"Oriel & Søn": 2}))
        self.assertEqual(history.own_postings(second), [])
        again = self.harbour_of(self.mine)
        self.assertEqual(self.labels(self.book, again), ["", "one"])
        self.assertEqual(history.own_postings(again), [posting])
        self.assertEqual(keeping.others(again), {"Kestrel Salvage": 1})

    def test_what_is_kept_while_another_one_is_on_disk_is_the_other_ones(self) -> None:
        first = self.harbour_of(self.mine)
        second = self.harbour_of(self.other)
        self.assertEqual(self.book.keeping.keep(first, "by the watch").identity, "Kestrel Salvage")
        self.assertEqual((self.labels(self.book, first), self.labels(self.book, second)), ([], ["by the watch"]))

    def test_a_name_given_by_a_posting_is_no_other_character(self) -> None:
        save = self.harbour_of(self.mine)
        self.book.keeping.keep(save, "one")
        save.enter("company.name", "Oriel Vant")
        posting = self.book.history.post(save, make_plan(save))
        path, template = find_save(save.main.path, self.shelf().library())
        renamed = open_save(path, template)
        self.assertEqual(self.book.keeping.identities.of(renamed), "Oriel Vant")
        self.assertEqual(self.labels(self.book, renamed), ["", "one"])
        self.book.history.reverse(posting)
        self.assertEqual(len(self.labels(self.book, open_save(path, template))), 3)

    def test_the_user_says_of_a_text_whose_it_is(self) -> None:
        path = self.folder / "text.sav"
        saves = []
        for owner, marks in (("Ives", 3), ("Ives", 4), ("Tamsin", 5)):
            path.write_text(TEXT.format(owner, marks))
            saves.append(open_save(path, None))
            self.book.keeping.keep(saves[-1], str(marks))
        keeping = self.book.keeping
        self.assertEqual(self.labels(self.book, saves[0]), ["5", "4", "3"], "nobody has said yet")
        for chosen, seen in ((True, ["4", "3"]), (False, ["5", "4", "3"]), (True, ["4", "3"])):
            keeping.identities.choose(saves[0], "owner", chosen=chosen)
            keeping.identify(saves[0])
            self.assertEqual(self.labels(self.book, saves[0]), seen)
        keeping.identities.choose(saves[0], "marks", chosen=True)
        keeping.identify(saves[0])
        self.assertEqual(keeping.identities.of(saves[0]), "Ives · 3")
        self.assertEqual(self.labels(self.book, saves[0]), ["3"])
        keeping.identities.join(saves[0], "Ives · 3", "Ives · 4")
        self.assertEqual(self.labels(self.book, saves[1]), ["4", "3"])

    def test_a_book_from_before_and_notes_in_the_vault(self) -> None:
        first = self.harbour_of(self.mine)
        self.book.keeping.keep(first, "one")
        second = self.harbour_of(self.other)
        self.book.keeping.keep(second, "two")
        self.book.close()
        folder = self.book.folder
        with sqlite3.connect(folder / "book.sqlite") as db:
            db.execute("alter table snapshots drop column identity")
        db.close()
        old = Book(folder)
        self.assertEqual(self.labels(old, second), ["two", "one"])
        old.keeping.identify(second)
        self.assertEqual(self.labels(old, second), ["two"])
        old.close()
        for name in ("book.sqlite", "book.sqlite-wal", "book.sqlite-shm"):
            (folder / name).unlink(missing_ok=True)
        rebuilt = Book(folder)
        self.addCleanup(rebuilt.close)
        self.assertEqual(self.labels(rebuilt, first), ["one"])
        notes = [json.loads(path.read_text())["identity"] for path in (folder / "vault" / "snapshots").iterdir()]
        self.assertEqual(sorted(notes), ["Kestrel Salvage", "Oriel & Søn"])

    def test_an_identity_that_leads_nowhere_is_a_mistake(self) -> None:
        text = (
            "ledger: 1\nid: x\ntitle: X\nidentity: [owner]\nfiles: {save: {name: x, layout: [{field: name, as: u8}]}}"
        )
        with self.assertRaisesRegex(TemplateError, "“owner” leads to no field"):
            parse_template(text.encode(), "x.yaml")
