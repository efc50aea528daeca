"""What templates share: parts with catalogues, letters and records, and catalogues as CSV, in files beside a template.

They are named by a relative path and are in the folder of the template or below it; nothing else can be reached. A part
names no parts itself.
"""

from __future__ import annotations

import csv
import hashlib
import io
from contextlib import suppress
from pathlib import Path
from typing import Any

from faithful_ledger.core.errors import LedgerError, TemplateError
from faithful_ledger.core.source import read_whole, strays
from faithful_ledger.core.template.mistakes import mistakes_in
from faithful_ledger.core.template.rewriting import YamlText
from faithful_ledger.core.template.yaml_text import LARGEST_TEMPLATE, Where, read_yaml

__all__ = ["Beside", "self_contained", "with_parts"]

SHARED = ("catalogues", "letters", "records")
MOST_CODES = 20_000
CODE, NAME, GROUP = "code", "name", "group"
LIMITS = {"least", "most"}


class Beside:
    """The files beside a template that it names. `digests` are those that were read, with their SHA-256."""

    def __init__(self, folder: Path | None) -> None:
        self.folder = folder.absolute() if folder is not None else None
        self.digests: dict[str, str] = {}

    def read(self, name: str) -> bytes:
        """The bytes of a file.

        Raises:
            ValueError: it cannot be read, or is elsewhere; with the reason.
        """
        if self.folder is None:
            raise ValueError(f"{name} is read beside a template's file, and this template is not in one")
        path = self.folder / name
        if {".", ".."} & set(name.split("/")) or strays(path, self.folder):
            raise ValueError(f"{name} is not in the template's folder, nor below it")
        try:
            if path.stat().st_size > LARGEST_TEMPLATE:
                raise ValueError(f"{name} is larger than {LARGEST_TEMPLATE >> 20} MiB")
            data = read_whole(path)[0]
        except (LedgerError, OSError) as error:
            raise ValueError(f"{name} cannot be read beside the template") from error
        self.digests[name] = hashlib.sha256(data).hexdigest()
        return data

    def is_as_it_was(self, digests: dict[str, str]) -> bool:
        """Whether these files are what they were when they had these digests."""
        try:
            return all(hashlib.sha256(self.read(name)).hexdigest() == digest for name, digest in digests.items())
        except ValueError:
            return False


def with_parts(keys: dict[str, Any], beside: Beside) -> list[tuple[Where, str]]:
    """Put what a template's keys name beside it in their place. Returns what is wrong with that."""
    mistakes: list[tuple[Where, str]] = []
    for number, name in enumerate(keys.get("imports", ())):
        try:
            part = _part(name, beside)
        except ValueError as error:
            mistakes.append((("imports", number), str(error)))
            continue
        for key in SHARED:
            for title, value in part.get(key, {}).items():
                if title in keys.setdefault(key, {}):
                    text = f"{name} has {key} “{title}”, which are here already; rename one of them"
                    mistakes.append((("imports", number), text))
                else:
                    keys[key][title] = value
    for title, table in keys.get("catalogues", {}).items():
        if isinstance(table, str):
            try:
                keys["catalogues"][title] = _codes(table, beside.read(table))
            except ValueError as error:
                keys["catalogues"][title] = {}
                mistakes.append((("catalogues", title), str(error)))
    return mistakes


def _part(name: str, beside: Beside) -> dict[str, Any]:
    """The keys of a part.

    Raises:
        ValueError: it has mistakes; with all of them.
    """
    from pydantic import ValidationError

    from faithful_ledger.core.template.schema import PartText

    try:
        document = read_yaml(beside.read(name), name)
        PartText.model_validate(document.value)
    except TemplateError as error:
        raise ValueError("; ".join(f"{name}, line {line}: {text}" for line, text in error.mistakes)) from error
    except ValidationError as error:
        found = mistakes_in([dict(each) for each in error.errors(include_url=False)], document)
        lines = [f"{name}, line {document.line(where)}: {text}" for where, text in found]
        raise ValueError("; ".join(lines)) from error
    value: dict[str, Any] = document.value
    return value


def _codes(name: str, data: bytes) -> dict[int, Any]:
    """What a table says of each code: its name, or a mapping of name, group and limits. Its columns are code and name,
    and group, least and most as far as they are there; others are for people.

    Raises:
        ValueError: it is not such a table; with the line.
    """
    try:
        text = data.decode("utf-8-sig")
        first = text.partition("\n")[0]
        table = csv.DictReader(io.StringIO(text), delimiter=max(",;\t", key=first.count), strict=True)
        if not {CODE, NAME} <= set(table.fieldnames or ()):
            raise ValueError(f"{name}, line 1: the columns {CODE} and {NAME} are needed")
        found: dict[int, Any] = {}
        for row in table:
            where = f"{name}, line {table.line_num}"
            try:
                code = int(row[CODE] or "", 0)
            except ValueError as error:
                raise ValueError(f"{where}: “{row[CODE]}” is not a whole number") from error
            if code in found:
                raise ValueError(f"{where}: the code {code} is there twice")
            more: dict[str, Any] = {key: row.get(key) for key in (GROUP, *LIMITS) if row.get(key)}
            for key in LIMITS & more.keys():
                if (number := _number(more[key] or "")) is None:
                    raise ValueError(f"{where}: {key} is “{more[key]}”, which is not a number")
                more[key] = number
            found[code] = {NAME: row[NAME] or "", **more} if more else row[NAME] or ""
            if len(found) > MOST_CODES:
                raise ValueError(f"{name} has more than {MOST_CODES} codes")
    except UnicodeDecodeError as error:
        raise ValueError(f"{name} is not UTF-8 text") from error
    except csv.Error as error:
        raise ValueError(f"{name} is not a table of comma-separated values: {error}") from error
    return found


def _number(text: str) -> int | float | None:
    """A whole number, or one with a fraction; None for what is neither."""
    for kind in (int, float):
        with suppress(ValueError):
            number = kind(text)
            return number if abs(number) < float("inf") else None
    return None


def self_contained(path: Path) -> bytes:
    """The text of a template with all that it names beside it put into it, so that it can go anywhere.

    Raises:
        TemplateError: something of that cannot be read.
        FileAccessError: the template itself cannot be read.
    """
    data = read_whole(path)[0]
    if b"imports" not in data and b"catalogues" not in data:
        return data  # which also spares a large template its reading
    document = read_yaml(data, path.name)
    own = document.value.get("catalogues")
    names = [title for title, table in own.items() if isinstance(table, str)] if isinstance(own, dict) else []
    if not document.value.get("imports") and not names:
        return data
    keys = {key: dict(document.value.get(key) or {}) for key in SHARED} | {"imports": document.value.get("imports", ())}
    before = {key: set(keys[key]) for key in SHARED}
    mistakes = with_parts(keys, Beside(path.parent))
    if mistakes:
        raise TemplateError(path.name, [(document.line(where), text) for where, text in mistakes])
    text = YamlText(data)
    text.set(("imports",), None)
    for title in names:
        text.put(("catalogues", title), keys["catalogues"][title])
    for key in SHARED:
        added = {title: value for title, value in keys[key].items() if title not in before[key]}
        if added and not text.has((key,)):
            text.add_block((), key, added)
            continue
        for title, value in added.items():
            text.set((key, title), value)
    return bytes(text)
