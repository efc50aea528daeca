"""SQLite saves: rows and values by paths, through SQLite itself; the log beside a database is taken in and taken care of."""

from __future__ import annotations

import random
import shutil
import sqlite3
from contextlib import closing
from pathlib import Path

from faithful_ledger.core.errors import ChangedMeanwhile, LedgerError, ValueRefused
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from tests.support import LedgerCase

SCHEMA = """
create table purse (owner text primary key, marks integer check (marks >= 0), rate real);
create table hold (item text, count integer, note blob);
create table pair (a integer, b integer, primary key (a, b)) without rowid;
create view rich as select * from purse where marks > 1000;
create index by_marks on purse (marks);
"""


class DatabaseTest(LedgerCase):
    def made(self, *, log: bool = False, more: str = "") -> Path:
        """A save in a database; with a `log` some of it is still in the write-ahead log, as while a game runs."""
        path = self.folder / "made.db"
        with closing(sqlite3.connect(path)) as database:
            if log:
                database.execute("pragma journal_mode = wal")
            database.executescript(SCHEMA + more)
            database.execute("insert into purse values ('Oriel & Søn', 1340, 1.5), ('Ives', 5, null)")
            database.execute(
                "insert into hold values ('brass lamp', 2, ?), ('rope', 7, ?)", (b'{"wear": 7}', b"\0\xff")
            )
            wide = '{"wear":\r\n 9}'.encode("utf-16-le")
            database.execute("insert into hold values ('bell', 1, ?)", (wide,))
            database.execute("insert into pair values (1, 2), (3, 4)")
            database.commit()
            saves = self.folder / f"saves{len(list(self.folder.iterdir()))}"
            saves.mkdir()
            for each in self.folder.glob("made.db*"):
                shutil.copy(each, saves / each.name.replace("made", "slot"))
        for each in self.folder.glob("made.db*"):
            each.unlink()
        return saves / "slot.db"

    @staticmethod
    def said(path: Path, query: str) -> list[tuple[object, ...]]:
        with closing(sqlite3.connect(path)) as database:
            return database.execute(query).fetchall()

    def test_values_are_read_posted_and_reversed_also_out_of_a_log(self) -> None:
        for log in (False, True):
            with self.subTest(log=log):
                path = self.made(log=log)
                before = {each.name: each.read_bytes() for each in path.parent.iterdir()}
                self.assertEqual(any(name.endswith("-wal") for name in before), log)
                save = open_save(path, None)
                self.assertEqual(save.fields("purse[owner=Oriel & Søn].marks")[0].value, 1340)
                save.enter("purse[owner=Oriel & Søn].marks", "5200")
                save.enter("purse[owner=Ives].rate", "0.5")
                save.enter("hold[0].note.text(text).wear", "12")
                save.enter("hold[1].note.blob", "00 FE 01")
                save.enter("hold[2].note.utf-16le(text).wear", "100")
                save.enter("pair[1].b", "9")
                book = self.shelf().open(f"Databases {log}")
                plan = make_plan(save)
                self.assertEqual({entry.path for entry in plan.entries} & {"pair[1].b"}, {"pair[1].b"})
                posting = book.history.post(save, plan)
                self.assertFalse(path.with_name("slot.db-wal").exists())
                self.assertEqual(self.said(path, "pragma integrity_check"), [("ok",)])
                self.assertEqual(
                    self.said(path, "select * from purse order by marks"),
                    [("Ives", 5, 0.5), ("Oriel & Søn", 5200, 1.5)],
                )
                self.assertEqual(
                    self.said(path, "select note from hold"),
                    [(b'{"wear": 12}',), (b"\0\xfe\1",), ('{"wear":\r\n 100}'.encode("utf-16-le"),)],
                )
                self.assertEqual(self.said(path, "select * from pair"), [(1, 2), (3, 9)])
                for left in path.parent.glob("slot.db-*"):
                    left.unlink()
                book.history.reverse(posting, anyway=True)
                self.assertEqual({each.name: each.read_bytes() for each in path.parent.iterdir()}, before)

    def test_what_the_database_does_not_allow_is_refused_and_nothing_is_written(self) -> None:
        more = "create trigger tax after update of rate on purse begin update purse set marks = marks - 1; end;"
        path = self.made(more=more)
        before = path.read_bytes()
        for field, value, told in (
            ("purse[owner=Ives].marks", "-1", "CHECK constraint failed"),
            ("purse[owner=Ives].owner", "Oriel & Søn", "UNIQUE constraint failed"),
            ("purse[owner=Ives].rate", "2.5", "changes other values with these"),
            ("hold[1].note.blob", "0G", "is not bytes in hexadecimal"),
        ):
            save = open_save(path, None)
            save.enter(field, value)
            with self.assertRaisesRegex(ValueRefused, told):
                make_plan(save)
        self.assertEqual(path.read_bytes(), before)

    def test_a_game_that_wrote_to_the_log_meanwhile_is_noticed(self) -> None:
        path = self.made(log=True)
        save = open_save(path, None)
        save.enter("purse[owner=Ives].marks", "6")
        log = path.with_name("slot.db-wal")
        log.write_bytes(log.read_bytes() + bytes(24))
        with self.assertRaisesRegex(ChangedMeanwhile, "the game has written to slot.db meanwhile"):
            self.shelf().open("Databases").history.post(save, make_plan(save))

    def test_damaged_and_cut_off_databases_say_so(self) -> None:
        whole = self.made().read_bytes()
        turn = random.Random(7)
        for number in range(40):
            data = bytearray(whole[: turn.randrange(16, len(whole))] if number % 2 else whole)
            for _ in range(number % 7):
                data[turn.randrange(16, len(data))] = turn.randrange(256)
            path = self.folder / "damaged.db"
            path.write_bytes(data)
            try:
                save = open_save(path, None)
                for node in list(save.all_fields())[:4]:
                    self.assertEqual(bytes(node.raw), node.raw)
            except LedgerError:
                pass
            self.assertEqual(path.read_bytes(), data)
        path.write_bytes(whole[:16] + bytes(200))
        outline = open_save(path, None).outline
        assert outline is not None and outline.problem is not None
        self.assertIn("the database cannot be read", outline.problem.what)
