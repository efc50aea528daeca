"""A book's records in SQLite: which saves it knows, its snapshots and postings.

The database is in WAL mode with full synchronisation: a transaction that was committed survives a stop, another leaves
no trace. Every error of SQLite is translated here.
"""

from __future__ import annotations

import json
import os
import sqlite3
import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any, NamedTuple

from faithful_ledger.core.address import Address
from faithful_ledger.core.clock import now
from faithful_ledger.core.errors import VaultError
from faithful_ledger.core.source import name_within

__all__ = ["KeptFile", "Mark", "Member", "Posting", "Quantity", "Records", "Snapshot", "now"]

SCHEMA = """
create table if not exists saves (path text primary key, template text, opened text not null);
create table if not exists snapshots (
    id text primary key, number integer not null unique, time text not null, label text not null, kind text not null,
    save text not null, companions text not null, identity text not null default '');
create table if not exists snapshot_files (
    snapshot text not null references snapshots, role text not null, path text not null,
    size integer not null, sha256 text not null, mode integer not null, primary key (snapshot, path));
create table if not exists postings (
    id text primary key, time text not null, save text not null, kept text not null references snapshots,
    record text not null, reversed text);
create table if not exists quantities (
    id integer primary key, save text not null, name text not null, pinned text not null default '',
    unique (save, name));
create table if not exists sightings (
    quantity integer not null references quantities, snapshot text not null references snapshots,
    seen text not null, primary key (quantity, snapshot));
create table if not exists witness (
    quantity integer not null references quantities, snapshot text not null references snapshots,
    note text not null, primary key (quantity, snapshot));
create table if not exists verdicts (posting text primary key references postings, verdict text not null);
create table if not exists ticked (posting text not null, step text not null, primary key (posting, step));
create table if not exists marks (
    id integer primary key, save text not null, file text not null, start integer not null, end integer not null,
    note text not null);
create table if not exists members (
    save text not null, path text not null, role text not null, note text not null, primary key (save, path));
create table if not exists settings (name text primary key, value text not null);
create table if not exists pending (save text primary key, time text not null, entries text not null);
create index if not exists snapshots_of_save on snapshots (save, number);
create index if not exists postings_of_save on postings (save);
"""
OF_SAVE = {table: f"(select id from {table} where save = ?)" for table in ("snapshots", "postings", "quantities")}
BUSY = 15.0  # seconds to wait for another program's transaction
NAMED = 6  # files of a snapshot that are listed by name


class KeptFile(NamedTuple):
    """One file of a snapshot: its role in the save (a file's name in the template, or companion) and its content."""

    role: str
    path: Path
    size: int
    sha256: str
    mode: int


class Snapshot(NamedTuple):
    """A kept copy. `companions` are the names of files that must go when the save is brought back without them."""

    id: str
    time: str
    label: str
    kind: str
    save: Path
    companions: tuple[str, ...]
    files: tuple[KeptFile, ...]
    identity: str = ""  # whose save it was, see identity.py

    @property
    def is_folder(self) -> bool:
        """Whether the save is a folder with all that is in it."""
        return any(self.save in file.path.parents for file in self.files)

    @property
    def names(self) -> str:
        """Its files in a few words."""
        names = ", ".join(self.name_of(file) for file in self.files[:NAMED])
        return names if len(self.files) <= NAMED else f"{names} and {len(self.files) - NAMED} more"

    def name_of(self, file: KeptFile) -> str:
        """A file's name, seen from the save's folder; one that is elsewhere goes by its role."""
        base = self.save if self.is_folder else self.save.parent
        return name_within(file.path, base) if base in file.path.parents else f"{file.role}/{file.path.name}"


class Posting(NamedTuple):
    """Entries that were written. `record` says what and why; `reversed` says when it was, or is None."""

    id: str
    time: str
    save: Path
    kept: str
    record: dict[str, Any]
    reversed: str | None


class Quantity(NamedTuple):
    """Something the game shows. `seen` says what it showed, by snapshot; `pinned` is the path of its field, if any."""

    id: int
    name: str
    pinned: str
    seen: dict[str, str]


class Mark(NamedTuple):
    """Bytes [start, end) of a file of a save that the user marked, and the note about them."""

    id: int
    file: str
    start: int
    end: int
    note: str

    @property
    def address(self) -> Address:
        """Where it begins."""
        return Address.at(self.start)


class Member(NamedTuple):
    """A file that belongs to a save, as the user says: its role (account, options, slot, index, …) and a note."""

    path: Path
    role: str
    note: str


def text_of(path: Path) -> str | bytes:
    """A path as SQLite keeps it: text, or its bytes where it is not UTF-8."""
    try:
        name = str(path)
        name.encode("utf-8")
        return name
    except UnicodeEncodeError:
        return os.fsencode(path)


def path_of(text: str | bytes) -> Path:
    return Path(os.fsdecode(text))


def _storable(name: str) -> str:
    """The name of a setting, in which there may be a path that is not UTF-8."""
    return name.encode("utf-8", "backslashreplace").decode()


def _about(save: Path) -> str:
    """The condition for settings that are about a save: their names end with its path."""
    return f"substr(name, -{len(str(save)) + 1}) = ?"


class Records:
    """The records in one file, for any number of threads. Paths are absolute.

    Raises:
        VaultError: from every method, when the database cannot be read or written.
    """

    def __init__(self, path: Path) -> None:
        self.path = path
        with self._translated("opened"):
            self._db = sqlite3.connect(path, BUSY, isolation_level=None, check_same_thread=False)
            self._one_at_a_time = threading.RLock()
            self._listed: tuple[tuple[int, int], dict[object, list[Snapshot]]] = ((-1, -1), {})
            self._db.execute("pragma journal_mode = wal")
            self._db.execute("pragma synchronous = full")
            self._db.executescript(SCHEMA)
            columns = {name for _, name, *_ in self._db.execute("pragma table_info(snapshots)")}
            if "identity" not in columns:  # a book from before it was noted
                self._db.execute("alter table snapshots add column identity text not null default ''")

    def close(self) -> None:
        self._db.close()

    @property
    def is_empty(self) -> bool:
        """Whether nothing was ever kept or opened here."""
        return not self._rows("select 1 from saves union all select 1 from snapshots limit 1")

    # saves

    def remember(self, save: Path, template: str | None) -> None:
        self._change(
            "insert into saves values (?, ?, ?) on conflict (path) do update set template = excluded.template, "
            "opened = excluded.opened",
            (text_of(save), template, now()),
        )

    def saves(self) -> list[tuple[Path, str | None]]:
        """Saves with their template's id, the one opened last first."""
        rows = self._rows("select path, template from saves order by opened desc, rowid desc")
        return [(path_of(path), template) for path, template in rows]

    def knows(self, save: Path) -> bool:
        return bool(self._rows("select 1 from saves where path = ?", (text_of(save),)))

    # snapshots

    def add_snapshot(self, snapshot: Snapshot) -> None:
        with self._in_one_step():
            self._db.execute(
                "insert into snapshots (id, number, time, label, kind, save, companions, identity) "
                "select ?, coalesce(max(number), 0) + 1, ?, ?, ?, ?, ?, ? from snapshots",
                (*snapshot[:4], text_of(snapshot.save), json.dumps(snapshot.companions), snapshot.identity),
            )
            self._db.executemany(
                "insert into snapshot_files values (?, ?, ?, ?, ?, ?)",
                [(snapshot.id, f.role, text_of(f.path), f.size, f.sha256, f.mode) for f in snapshot.files],
            )

    def snapshots(
        self, save: Path | None = None, beginning: str = "", most: int = -1, identities: Sequence[str] | None = None
    ) -> list[Snapshot]:
        """Snapshots, of one save or of all, whose id begins so; the latest first, at most so many (−1 is all). With
        `identities` those of one of these.
        """
        wanted = "where (?1 is null or save = ?1) and substr(id, 1, length(?2)) = ?2 and (?4 is null or identity in "
        wanted += "(select value from json_each(?4))) order by number desc limit ?3"
        chosen = json.dumps(list(identities)) if identities is not None else None
        values = (text_of(save) if save is not None else None, beginning, most, chosen)
        with self._one_at_a_time:
            now = self._version()
            if self._listed[0] != now:
                self._listed = now, {}
            known = self._listed[1]
            if values not in known:
                known[values] = self._snapshots(wanted, values)
            return list(known[values])

    def _version(self) -> tuple[int, int]:
        """Another one after each change, of this connection or of another one."""
        with self._translated("read"):
            return self._db.total_changes, int(self._db.execute("pragma data_version").fetchone()[0])

    def _snapshots(self, wanted: str, values: tuple[object, ...]) -> list[Snapshot]:
        files: dict[str, list[KeptFile]] = {}
        for snapshot, role, path, size, sha256, mode in self._rows(
            "select snapshot, role, path, size, sha256, mode from snapshot_files "
            f"where snapshot in (select id from snapshots {wanted}) order by rowid",
            values,
        ):
            files.setdefault(snapshot, []).append(KeptFile(role, path_of(path), size, sha256, mode))
        rows = self._rows(f"select id, time, label, kind, save, companions, identity from snapshots {wanted}", values)
        return [
            Snapshot(id_, time, label, kind, path_of(path), tuple(json.loads(names)), tuple(files.get(id_, ())), whose)
            for id_, time, label, kind, path, names, whose in rows
        ]

    def count_snapshots(self, save: Path) -> dict[str, int]:
        """How many snapshots of a save there are of each identity, the latest one's first."""
        rows = self._rows(
            "select identity, count(*) from snapshots where save = ? group by identity order by max(number) desc",
            (text_of(save),),
        )
        return {str(identity): int(count) for identity, count in rows}

    def forget_identities(self, save: Path) -> None:
        """Forget whose the snapshots of a save are."""
        self._change("update snapshots set identity = '' where save = ?", (text_of(save),))

    def identify(self, snapshot: Snapshot, identity: str) -> None:
        """Note whose save a snapshot is of, which was not known when it was made."""
        self._change("update snapshots set identity = ? where id = ?", (identity, snapshot.id))

    # postings

    def add_posting(self, record: dict[str, Any]) -> None:
        """`record` has the posting's id, time, save and kept beside all the rest; once more does no harm."""
        self._change(
            "insert or replace into postings values (?, ?, ?, ?, ?, null)",
            (record["id"], record["time"], text_of(Path(record["save"])), record["kept"], json.dumps(record)),
        )

    def postings(self, save: Path | None = None) -> list[Posting]:
        """Postings, of one save or of all; the latest first."""
        rows = self._rows(
            "select id, time, save, kept, record, reversed from postings where ?1 is null or save = ?1 "
            "order by rowid desc",
            (text_of(save) if save is not None else None,),
        )
        return [Posting(i, time, path_of(path), kept, json.loads(rec), rev) for i, time, path, kept, rec, rev in rows]

    def mark_reversed(self, posting: Posting) -> None:
        self._change("update postings set reversed = ? where id = ?", (now(), posting.id))

    # sightings

    def add_quantity(self, save: Path, name: str) -> None:
        self._change("insert or ignore into quantities (save, name) values (?, ?)", (text_of(save), name))

    def rename_quantity(self, quantity: Quantity, name: str) -> None:
        self._change("update or ignore quantities set name = ? where id = ?", (name, quantity.id))

    def remove_quantity(self, quantity: Quantity) -> None:
        self._change("delete from sightings where quantity = ?", (quantity.id,))
        self._change("delete from witness where quantity = ?", (quantity.id,))
        self._change("delete from quantities where id = ?", (quantity.id,))

    def sight(self, quantity: Quantity, snapshot: str, seen: str) -> None:
        """Write down what the game showed; an empty text takes it back."""
        if seen:
            self._change("insert or replace into sightings values (?, ?, ?)", (quantity.id, snapshot, seen))
        else:
            self._change("delete from sightings where quantity = ? and snapshot = ?", (quantity.id, snapshot))

    def witness(self, quantity: Quantity, snapshot: str, note: str) -> None:
        """What the eye-witness says about a sighting; an empty note takes it back."""
        if note:
            self._change("insert or replace into witness values (?, ?, ?)", (quantity.id, snapshot, note))
        else:
            self._change("delete from witness where quantity = ? and snapshot = ?", (quantity.id, snapshot))

    def witnessed(self, quantity: Quantity) -> dict[str, str]:
        """The notes on a quantity's sightings, by snapshot."""
        rows = self._rows("select snapshot, note from witness where quantity = ?", (quantity.id,))
        return {str(snapshot): str(note) for snapshot, note in rows}

    def judge(self, posting: str, verdict: str) -> None:
        """What the game made of a posting: accepted, refused or odd."""
        self._change("insert or replace into verdicts values (?, ?)", (posting, verdict))

    def verdicts(self) -> dict[str, str]:
        return {str(posting): str(verdict) for posting, verdict in self._rows("select posting, verdict from verdicts")}

    def tick(self, posting: str, step: str, *, done: bool) -> None:
        """A step after a posting is done, or not after all."""
        if done:
            self._change("insert or ignore into ticked values (?, ?)", (posting, step))
        else:
            self._change("delete from ticked where posting = ? and step = ?", (posting, step))

    def ticked(self) -> set[tuple[str, str]]:
        """The postings and their steps that are done."""
        return {(str(posting), str(step)) for posting, step in self._rows("select posting, step from ticked")}

    def pin(self, quantity: Quantity, path: str) -> None:
        self._change("update quantities set pinned = ? where id = ?", (path, quantity.id))

    def quantities(self, save: Path) -> list[Quantity]:
        """The quantities of a save, in the order in which they were named."""
        seen: dict[int, dict[str, str]] = {}
        for quantity, snapshot, text in self._rows("select quantity, snapshot, seen from sightings"):
            seen.setdefault(quantity, {})[snapshot] = text
        rows = self._rows("select id, name, pinned from quantities where save = ? order by id", (text_of(save),))
        return [Quantity(id_, name, pinned, seen.get(id_, {})) for id_, name, pinned in rows]

    # marks, members of a set, settings

    def add_mark(self, save: Path, file: str, start: int, end: int, note: str) -> None:
        self._change(
            "insert into marks (save, file, start, end, note) values (?, ?, ?, ?, ?)",
            (text_of(save), file, start, end, note),
        )

    def remove_mark(self, mark: Mark) -> None:
        self._change("delete from marks where id = ?", (mark.id,))

    def marks(self, save: Path) -> list[Mark]:
        rows = self._rows(
            "select id, file, start, end, note from marks where save = ? order by start", (text_of(save),)
        )
        return [Mark(*row) for row in rows]

    def set_member(self, save: Path, member: Member) -> None:
        """Say that a file belongs to a save; without a role it belongs to it no more."""
        if member.role:
            self._change(
                "insert or replace into members values (?, ?, ?, ?)",
                (text_of(save), text_of(member.path), member.role, member.note),
            )
        else:
            self._change("delete from members where save = ? and path = ?", (text_of(save), text_of(member.path)))

    def members(self, save: Path) -> list[Member]:
        rows = self._rows("select path, role, note from members where save = ? order by rowid", (text_of(save),))
        return [Member(path_of(path), role, note) for path, role, note in rows]

    # entries that were not posted yet

    def set_pending(self, save: Path, entries: str) -> None:
        """Remember the tape of a save as a JSON text; an empty one forgets it."""
        if entries:
            self._change("insert or replace into pending values (?, ?, ?)", (text_of(save), now(), entries))
        else:
            self._change("delete from pending where save = ?", (text_of(save),))

    def pending(self, save: Path) -> str:
        rows = self._rows("select entries from pending where save = ?", (text_of(save),))
        return str(rows[0][0]) if rows else ""

    def setting(self, name: str) -> str:
        """What was said once for this book; empty where nothing was."""
        rows = self._rows("select value from settings where name = ?", (_storable(name),))
        return str(rows[0][0]) if rows else ""

    def settings(self, beginning: str) -> dict[str, str]:
        """All settings whose names begin so, without that beginning."""
        rows = self._rows("select name, value from settings where substr(name, 1, ?) = ?", (len(beginning), beginning))
        return {str(name)[len(beginning) :]: str(value) for name, value in rows}

    def set_setting(self, name: str, value: str) -> None:
        self._change("insert or replace into settings values (?, ?)", (_storable(name), value))

    # from one book to another

    def take_over(self, other: Records, save: Path) -> None:
        """Add all that other records say about a save, in one step."""
        key = (text_of(save),)

        def held(what: str, where: str) -> list[tuple[Any, ...]]:
            return other._rows(f"select {what} from {where}", key)

        with self._in_one_step():
            self._insert("saves", held("*", "saves where path = ?"))
            (first,) = self._db.execute("select coalesce(max(number), 0) from snapshots").fetchone()
            snapshots = held("*", "snapshots where save = ? order by number")
            self._insert("snapshots", [(row[0], first + n, *row[2:]) for n, row in enumerate(snapshots, 1)])
            self._insert(
                "snapshot_files", held("*", f"snapshot_files where snapshot in {OF_SAVE['snapshots']} order by rowid")
            )
            self._insert("postings", held("*", "postings where save = ?"))
            for table in ("verdicts", "ticked"):
                self._insert(table, held("*", f"{table} where posting in {OF_SAVE['postings']}"))
            for id_, *quantity in held("id, save, name, pinned", "quantities where save = ?"):
                made = self._db.execute("insert into quantities (save, name, pinned) values (?, ?, ?)", quantity)
                for table in ("sightings", "witness"):
                    rows = other._rows(f"select * from {table} where quantity = ?", (id_,))
                    self._insert(table, [(made.lastrowid, *row[1:]) for row in rows])
            self._insert(
                "marks", [(None, *mark) for mark in held("save, file, start, end, note", "marks where save = ?")]
            )
            for table in ("members", "pending"):
                self._insert(table, held("*", f"{table} where save = ?"))
            self._insert("settings", other._rows(f"select * from settings where {_about(save)}", (f":{save}",)))

    def _insert(self, table: str, rows: Sequence[Sequence[Any]]) -> None:
        for row in rows:
            self._db.execute(f"insert or replace into {table} values ({', '.join('?' * len(row))})", row)

    def forget(self, save: Path) -> None:
        """Know nothing about a save any more, in one step."""
        key = (text_of(save),)
        with self._in_one_step():
            for table, column, owner in (
                ("sightings", "quantity", "quantities"),
                ("witness", "quantity", "quantities"),
                ("verdicts", "posting", "postings"),
                ("ticked", "posting", "postings"),
                ("snapshot_files", "snapshot", "snapshots"),
            ):
                self._db.execute(f"delete from {table} where {column} in {OF_SAVE[owner]}", key)
            for table in ("quantities", "postings", "snapshots", "marks", "members", "pending"):
                self._db.execute(f"delete from {table} where save = ?", key)
            self._db.execute("delete from saves where path = ?", key)
            self._db.execute(f"delete from settings where {_about(save)}", (f":{save}",))

    # SQLite

    def _rows(self, statement: str, values: Sequence[object] = ()) -> list[tuple[Any, ...]]:
        with self._translated("read"), self._one_at_a_time:
            return self._db.execute(statement, values).fetchall()

    def _change(self, statement: str, values: Sequence[object]) -> None:
        with self._translated("written"), self._one_at_a_time:
            self._db.execute(statement, values)

    @contextmanager
    def _in_one_step(self) -> Iterator[None]:
        with self._translated("written"), self._one_at_a_time:
            self._db.execute("begin immediate")
            try:
                yield
                self._db.execute("commit")
            except BaseException:
                self._db.rollback()
                raise

    @contextmanager
    def _translated(self, doing: str) -> Iterator[None]:
        try:
            yield
        except sqlite3.Error as error:
            raise VaultError(
                f"the records {self.path} cannot be {doing} ({error})", "no save was changed; check the disk"
            ) from error
