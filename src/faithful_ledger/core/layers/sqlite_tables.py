"""SQLite saves: the tables as a JSON text, one row on a line, and a changed text put back into a database.

Everything goes through SQLite itself, on a copy in a folder of its own: reading takes in what a write-ahead log beside
the file still holds, and changes are statements in one transaction. What SQLite makes of its pages is its business;
that the new database says what was asked for, and nothing else changed, is read again.

A blob is an object: `{"blob": "0A FF"}`, or `{"text": "…"}` where its bytes are a text, with the name of the encoding
in place of `text` where that is not UTF-8, as in `{"utf-16le": "…"}`.
"""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager, suppress
from pathlib import Path
from typing import Any

from faithful_ledger.core.disk import scratch
from faithful_ledger.core.errors import AddressError, ValueRefused
from faithful_ledger.core.layers.transcoding import TRANSCODINGS, transcoding_of
from faithful_ledger.core.source import Source, read_whole

__all__ = ["LOG", "LOG_INDEX", "SQLITE", "changed_database", "is_database", "log_beside", "tables_as_json"]

SQLITE = "sqlite"
LOG, LOG_INDEX = "-wal", "-shm"  # behind the name of a database: its write-ahead log, and the index of that
MAGIC = b"SQLite format 3\0"
COPY = "copy.db"
MOST_ROWS = 1_000_000
ROWID = "rowid"
ENCODINGS = {"text": "utf-8", **TRANSCODINGS}  # of blobs that are texts, by the names they are shown with
BLANKS = str.maketrans(dict.fromkeys("\t\n\r"))
Row = dict[str, Any]


def is_database(data: bytes) -> bool:
    return data[:16] == MAGIC


def log_beside(path: Path, source: Source) -> bytes:
    """What the write-ahead log of a database holds; nothing where it has none, or the file is not a database."""
    log = path.with_name(path.name + LOG)
    if not is_database(bytes(source.read(0, len(MAGIC)))) or not log.is_file():
        return b""
    return read_whole(log)[0]


def tables_as_json(data: bytes, log: bytes = b"") -> bytes:
    """The tables of a database; `log` is its write-ahead log.

    Raises:
        AddressError: it is damaged, encrypted, or holds more than a save would.
    """
    with _opened(data, log) as (database, _):
        return _dumped(database)


def changed_database(data: bytes, log: bytes, old: bytes, new: bytes) -> bytes:
    """The database with every value that differs between two texts of its tables.

    Raises:
        ValueRefused: a value cannot be stored so, or a rule of the database does not allow it.
    """
    before, after = json.loads(old), json.loads(new)
    if before.keys() != after.keys():
        raise ValueRefused("tables cannot be added or removed", "change rows and values")
    with _opened(data, log) as (database, path):
        try:
            for table, rows in after.items():
                if rows != before[table]:
                    _change(database, table, before[table], rows)
            database.commit()
            said = json.loads(_dumped(database))
            database.execute("pragma wal_checkpoint(truncate)").fetchall()
        except sqlite3.Error as error:
            raise ValueRefused(f"the database does not allow it ({error})", "nothing was written") from error
        if said != after:
            raise ValueRefused("the database changes other values with these", "nothing was written; change them too")
        database.close()
        return path.read_bytes()


@contextmanager
def _opened(data: bytes, log: bytes) -> Iterator[tuple[sqlite3.Connection, Path]]:
    """A copy of a database, in a folder of its own."""
    with scratch({COPY: data} | ({COPY + LOG: log} if log else {})) as folder:
        path = folder / COPY
        try:
            with closing(sqlite3.connect(path)) as database:
                database.execute("pragma trusted_schema = off")
                database.text_factory = lambda raw: raw.decode("utf-8", "surrogateescape")
                yield database, path
        except sqlite3.DatabaseError as error:
            raise AddressError(
                f"the database cannot be read ({error})", "nothing was changed; it may be damaged or encrypted"
            ) from error


def _name(text: str) -> str:
    return '"' + text.replace('"', '""') + '"'


def _tables(database: sqlite3.Connection) -> list[str]:
    found = database.execute(
        "select name from sqlite_master where type = 'table' and name not like 'sqlite!_%' escape '!' "
        "and sql not like 'create virtual%' order by rootpage"
    )
    return [name for (name,) in found]


def _keys(database: sqlite3.Connection, table: str) -> list[str]:
    """The columns that tell rows from each other; none where only SQLite's own row number does."""
    columns = database.execute(f"pragma table_info({_name(table)})").fetchall()
    return [name for _, name, *_, place in sorted(columns, key=lambda column: column[5]) if place]


def _rows(database: sqlite3.Connection, table: str) -> list[Row]:
    keys = _keys(database, table)
    wanted = "*" if keys else f"{ROWID}, *"
    cursor = database.execute(f"select {wanted} from {_name(table)} order by {', '.join(map(_name, keys)) or ROWID}")
    names = [column[0] for column in cursor.description]
    rows = [dict(zip(names, map(_shown, row), strict=True)) for row in cursor.fetchmany(MOST_ROWS + 1)]
    if len(rows) > MOST_ROWS:
        raise AddressError(f"the table {table} has more than {MOST_ROWS:,} rows", "nothing was changed")
    return rows


def _dumped(database: sqlite3.Connection) -> bytes:
    parts = []
    for table in _tables(database):
        rows = ",\n  ".join(json.dumps(row, ensure_ascii=False) for row in _rows(database, table))
        name = json.dumps(table, ensure_ascii=False)
        parts.append(f"{name}: [\n  {rows}\n ]" if rows else f"{name}: []")
    return ("{\n " + ",\n ".join(parts) + "\n}\n").encode("utf-8", "surrogateescape")


def _shown(value: object) -> object:
    if not isinstance(value, bytes):
        return value
    name = transcoding_of(value) or "text"
    with suppress(UnicodeDecodeError):
        text = value.decode(ENCODINGS[name])
        if text and text.translate(BLANKS).isprintable():
            return {name: text}
    return {"blob": value.hex(" ").upper()}


def _stored(value: object) -> object:
    if isinstance(value, dict):
        name = next(iter(value), "") if len(value) == 1 else ""
        if name in ENCODINGS:
            return str(value[name]).encode(ENCODINGS[name])
        if value.keys() == {"blob"}:
            try:
                return bytes.fromhex(value["blob"])
            except (TypeError, ValueError) as error:
                raise ValueRefused(f"“{value['blob']}” is not bytes in hexadecimal", "write them like 0A FF") from error
    if isinstance(value, dict | list):
        raise ValueRefused("a database cannot hold a list in a column", "enter a number or a text")
    return value


def _change(database: sqlite3.Connection, table: str, before: list[Row], after: list[Row]) -> None:
    """The statements that make a table's rows others."""
    keys = _keys(database, table) or [ROWID]
    where = " and ".join(f"{_name(key)} is ?" for key in keys)
    known = {tuple(str(row[key]) for key in keys): row for row in before}
    paired = zip(before, after, strict=True) if len(before) == len(after) else _by_keys(known, keys, after)
    kept = set()
    for old, new in paired:
        if old is None:
            columns = [name for name in new if not (name == ROWID and new[name] is None)]
            marks = ", ".join("?" * len(columns))
            database.execute(
                f"insert into {_name(table)} ({', '.join(map(_name, columns))}) values ({marks})",
                [_stored(new[name]) for name in columns],
            )
            continue
        kept.add(id(old))
        changed = [name for name in new if new[name] != old.get(name) or type(new[name]) is not type(old.get(name))]
        if changed:
            database.execute(
                f"update {_name(table)} set {', '.join(f'{_name(name)} = ?' for name in changed)} where {where}",
                [*(_stored(new[name]) for name in changed), *(_stored(old[key]) for key in keys)],
            )
    for row in before:
        if id(row) not in kept:
            database.execute(f"delete from {_name(table)} where {where}", [_stored(row[key]) for key in keys])


def _by_keys(known: dict[tuple[str, ...], Row], keys: list[str], after: list[Row]) -> Iterator[tuple[Row | None, Row]]:
    for row in after:
        yield known.get(tuple(str(row.get(key)) for key in keys)), row
