"""What every generated reader begins with: how values are stored, and how elements find their places.

This text is copied into the readers as it is, so it imports nothing but the standard library.
"""

from __future__ import annotations

import base64
import json
import re
import struct
import sys
import uuid
from collections.abc import Callable
from datetime import date, datetime
from fractions import Fraction
from typing import Any

__all__ = ["Group", "NeedsPayload", "NotSuchASave", "Reader", "up_to", "walk"]

Storage = Callable[[bytes, int, int, "int | None"], "tuple[Any, int | None, int]"]
Number = Callable[["Group"], int]


class NotSuchASave(ValueError):
    """The bytes do not fit the template."""


class NeedsPayload(ValueError):
    """A file is packed in a way that Python's standard library cannot undo."""


class Group(dict[str, Any]):
    """The values of a group by name, with the whole numbers behind them for expressions."""

    def __init__(self, name: str, around: Group | None = None, flat: bool = False) -> None:
        super().__init__()
        self.name, self.around, self.flat = name, around, flat
        self.numbers: dict[str, int] = {}
        self.inner: dict[str, Any] = {}
        self.spans: dict[str, tuple[int, int]] = {}
        self.index: int | None = None  # of a record
        self.main: Group | None = around.main if around is not None else None

    def put(self, name: str, value: Any, number: int | None = None, span: tuple[int, int] | None = None) -> None:
        """Keep a value; the names of a flat group are those of the group around it."""
        holder = self
        holders = [self]
        while holder.flat and holder.around is not None:
            holder = holder.around
            holders.append(holder)
        for each in holders:
            each.inner.setdefault(name, value)
            if number is not None:
                each.numbers.setdefault(name, number)
            if span is not None:
                each.spans.setdefault(name, span)
        if not (isinstance(value, Group) and value.flat):
            holder[name] = value

    def bytes_of(self, path: str, data: bytes) -> bytes:
        """The bytes of a field in the file it is in."""
        return self.parts_of(path, data)[0]

    def parts_of(self, path: str, data: bytes) -> list[bytes]:
        """The bytes of a field, of those records that its path names."""
        parts: list[str] = []
        for part in path.split("."):
            if parts and parts[-1].count("[") > parts[-1].count("]"):  # a dot within brackets
                parts[-1] += f".{part}"
            else:
                parts.append(part)
        *groups, name = parts
        holders: list[Any] = [self]
        for group in groups:
            first, _, which = group.partition("[")
            holders = [holder.inner[first] for holder in holders]
            if which:
                key, _, value = which[:-1].partition("=")
                rows = [record for records in holders for record in records]
                holders = rows if key == "*" else rows[int(key) :][:1] if key.isdigit() else []
                holders = holders or [row for row in rows if str(row.get(key)) == value]
        return [data[slice(*holder.spans[name])] for holder in holders]

    def said(self, path: str) -> Any:
        """What the field says that a path names, looked up outwards."""
        first, *rest = path.split(".")
        holder: Group | None = self
        while holder is not None and first not in holder.inner:
            holder = holder.around
        found: Any = (holder or self.main or self).inner.get(first)
        for name in rest:
            found = found.inner.get(name) if isinstance(found, Group) else None
        return found

    @property
    def row(self) -> int | None:
        """The number of the record that this is in."""
        holder: Group | None = self
        while holder is not None and holder.index is None:
            holder = holder.around
        return holder.index if holder is not None else None

    def number(self, path: str) -> int:
        """The whole number that a path names, looked up outwards."""
        first = path.partition(".")[0].partition("[")[0]
        holder: Group | None = self
        while holder is not None:
            if first in holder.inner or first in holder.numbers or holder.name == first:
                return holder._number(path, self.row)
            holder = holder.around
        if self.main is not None and self.main is not self and first in self.main.inner:
            return self.main._number(path, self.row)
        if path == "row" and self.row is not None:
            return self.row
        raise NotSuchASave(f"{path} is not there")

    def _number(self, path: str, row: int | None) -> int:
        found: Any = self
        last, holder = "", self
        for part in path.split("."):
            name, _, index = part.partition("[")
            if not isinstance(found, Group):
                raise NotSuchASave(f"{path} is not there")
            itself = found if not last and found.name == name else None
            holder, last, found = found, name, found.inner.get(name, itself)
            if index and isinstance(found, list):
                found = found[record_number(index.rstrip("]"), row, len(found), path)]
        if isinstance(found, int) and path.endswith("]"):
            return found
        if last not in holder.numbers:
            raise NotSuchASave(f"{path} is not a whole number")
        return holder.numbers[last]


def record_number(text: str, row: int | None, count: int, path: str) -> int:
    """Which record is meant: a number, or `row` with what is added to it."""
    more = text.replace("row", "").replace(" ", "")
    if text.startswith("row") and row is None:
        raise NotSuchASave(f"{path} counts from a record")
    number = int(more or "0") + (row or 0 if text.startswith("row") else 0)
    if not 0 <= number < count:
        raise NotSuchASave(f"{path} is not there")
    return number


def up_to(size: int, step: int) -> int:
    """The next multiple of a step."""
    return -(-size // step) * step


def whole(size: int, order: Any, signed: bool = False) -> Storage:
    def read(data: bytes, at: int, limit: int, _: int | None) -> tuple[Any, int | None, int]:
        number = int.from_bytes(taken(data, at, size, limit), order, signed=signed)
        return number, number, at + size

    return read


def fraction(size: int, order: str) -> Storage:
    def read(data: bytes, at: int, limit: int, _: int | None) -> tuple[Any, int | None, int]:
        form = ("<" if order == "little" else ">") + ("f" if size == 4 else "d")
        value = struct.unpack(form, taken(data, at, size, limit))[0]
        return shortest(value) if size == 4 else value, None, at + size

    return read


def shortest(value: float) -> float:
    """The number with the fewest digits that has the same four bytes."""
    for digits in range(1, 10):
        short = float(f"{value:.{digits}g}")
        if struct.pack("<f", short) == struct.pack("<f", value):
            return short
    return value


def packed(size: int, little: bool) -> Storage:
    def read(data: bytes, at: int, limit: int, _: int | None) -> tuple[Any, int | None, int]:
        raw = taken(data, at, size, limit)
        number = int((raw[::-1] if little else raw).hex())
        return number, number, at + size

    return read


def unpacked(size: int, little: bool) -> Storage:
    def read(data: bytes, at: int, limit: int, _: int | None) -> tuple[Any, int | None, int]:
        raw = taken(data, at, size, limit)
        number = int("".join(str(byte & 15) for byte in (raw[::-1] if little else raw)))
        return number, number, at + size

    return read


def leb128(kind: str) -> Storage:
    def read(data: bytes, at: int, limit: int, _: int | None) -> tuple[Any, int | None, int]:
        number, shift, end = 0, 0, at
        while True:
            byte = taken(data, end, 1, limit)[0]
            number = number << 7 | byte & 127 if kind == "vlq" else number | (byte & 127) << shift
            shift, end = shift + 7, end + 1
            if byte < 128:
                break
        if kind == "sleb128" and byte & 64:
            number -= 1 << shift
        if kind == "zigzag":
            number = (number >> 1) ^ -(number & 1)
        return number, number, end

    return read


def sized(kind: str) -> Storage:
    def read(data: bytes, at: int, limit: int, _: int | None) -> tuple[Any, int | None, int]:
        first = taken(data, at, 1, limit)[0]
        if kind == "sized-front":
            size = {253: 2, 254: 4, 255: 8}.get(first, 0)
            number = int.from_bytes(taken(data, at + 1, size, limit), "little") if size else first
            return number, number, at + 1 + size
        size = 1 << (first >> 6 if kind == "sized-high" else first & 3)
        raw = taken(data, at, size, limit)
        if kind == "sized-high":
            number = int.from_bytes(raw, "big") & (1 << 8 * size - 2) - 1
        else:
            number = int.from_bytes(raw, "little") >> 2
        return number, number, at + size

    return read


def digits(unit: int) -> Storage:
    def read(data: bytes, at: int, limit: int, _: int | None) -> tuple[Any, int | None, int]:
        end = at
        while end < limit and (data[end : end + 1].isdigit() or (end == at and data[end : end + 1] == b"-")):
            end += unit
        number = int(data[at:end].decode("utf-16-le" if unit == 2 else "ascii"))
        return number, number, end

    return read


def digits_in(size: int) -> Storage:
    def read(data: bytes, at: int, limit: int, _: int | None) -> tuple[Any, int | None, int]:
        number = int(taken(data, at, size, limit).decode("ascii").strip(" \0"))
        return number, number, at + size

    return read


def some_bits(size: int, order: Any, low: int, width: int, signed: bool) -> Storage:
    def read(data: bytes, at: int, limit: int, _: int | None) -> tuple[Any, int | None, int]:
        number = int.from_bytes(taken(data, at, size, limit), order) >> low & (1 << width) - 1
        number -= (1 << width) if signed and number >> (width - 1) else 0
        return number, number, at + size

    return read


def choice(inner: Storage, names: dict[int, str]) -> Storage:
    def read(data: bytes, at: int, limit: int, size: int | None) -> tuple[Any, int | None, int]:
        value, number, end = inner(data, at, limit, size)
        return names.get(value, value), number, end

    return read


def switches(inner: Storage, names: dict[int, str], bits: int) -> Storage:
    def read(data: bytes, at: int, limit: int, size: int | None) -> tuple[Any, int | None, int]:
        value, number, end = inner(data, at, limit, size)
        unsigned = value % (1 << bits)
        return [names.get(bit, f"bit {bit}") for bit in range(bits) if unsigned >> bit & 1], number, end

    return read


def scaled(inner: Storage, scale: str, bias: str, rounding: str | None) -> Storage:
    def read(data: bytes, at: int, limit: int, size: int | None) -> tuple[Any, int | None, int]:
        value, number, end = inner(data, at, limit, size)
        return unscaled(value, scale, bias, rounding), number, end

    return read


def unscaled(value: Any, scale: str, bias: str, rounding: str | None) -> Any:
    if value != value or abs(value) == float("inf"):
        return value
    shown = (Fraction(value) - Fraction(bias)) / Fraction(scale)
    if rounding is not None:
        return (shown if rounding == "floor" else shown + Fraction(1, 2)).__floor__()
    return int(shown) if shown.denominator == 1 else float(shown)


def fixed_text(size: int, encoding: Any, pad: bytes) -> Storage:
    def read(data: bytes, at: int, limit: int, _: int | None) -> tuple[Any, int | None, int]:
        raw, step = taken(data, at, size, limit), len(pad)
        if not any(pad):
            ends = (place for place in range(0, size, step) if raw[place : place + step] == pad)
            raw = raw[: next(ends, size)]
        else:
            while raw and raw.endswith(pad):
                raw = raw[:-step]
        return lettered(raw, encoding), None, at + size

    return read


def prefixed_text(
    length: Storage, encoding: Any, unit: int, room: int | None, end: bytes = b"", wide: str = ""
) -> Storage:
    def read(data: bytes, at: int, limit: int, _: int | None) -> tuple[Any, int | None, int]:
        count, _, begin = length(data, at, limit, None)
        size = count * unit if count >= 0 else -2 * count
        raw = taken(data, begin, size, limit)
        mark = end and b"\0\0" if count < 0 else end
        text = lettered(raw[: len(raw) - len(mark)] if raw.endswith(mark) else raw, wide if count < 0 else encoding)
        return text, None, begin + (size if room is None else room)

    return read


def lettered(raw: bytes, encoding: Any) -> str:
    """A text in one of Python's encodings, or in a game's own letters by byte."""
    if isinstance(encoding, str):
        return raw.decode(encoding)
    return "".join(encoding.get(byte, f"{{{byte:02X}}}") for byte in raw)


def ended_text(encoding: Any, unit: int, mark: bytes) -> Storage:
    def read(data: bytes, at: int, limit: int, _: int | None) -> tuple[Any, int | None, int]:
        end = data.find(mark, at, limit)
        while end >= 0 and (end - at) % unit:
            end = data.find(mark, end + 1, limit)
        if end < 0:
            raise NotSuchASave(f"a text at {at} has no end")
        return lettered(data[at:end], encoding), None, end + len(mark)

    return read


def free_text(encoding: Any) -> Storage:
    def read(data: bytes, at: int, limit: int, size: int | None) -> tuple[Any, int | None, int]:
        return lettered(taken(data, at, size or 0, limit), encoding), None, at + (size or 0)

    return read


def raw_bytes(data: bytes, at: int, limit: int, size: int | None) -> tuple[Any, int | None, int]:
    raw = taken(data, at, max(limit - at, 0) if size is None else size, limit)
    return (raw.hex(" ").upper() if len(raw) <= 64 else None), None, at + len(raw)


def checksum(size: int, written: str) -> Storage:
    def read(data: bytes, at: int, limit: int, _: int | None) -> tuple[Any, int | None, int]:
        raw = taken(data, at, size, limit)
        text = raw.hex().upper() if written == "bytes" else raw.decode("ascii", "replace").rstrip("\0")
        return text, None, at + size

    return read


def moment(inner: Storage, begin: str, step: str, is_float: bool) -> Storage:
    def read(data: bytes, at: int, limit: int, size: int | None) -> tuple[Any, int | None, int]:
        value, number, end = inner(data, at, limit, size)
        if is_float and (value != value or abs(value) > 1e15):
            return value, number, end
        seconds = Fraction(value) * Fraction(step)
        seconds = Fraction(round(seconds * 1000), 1000) if is_float else seconds
        return shown_moment(Fraction(begin) + seconds) or value, number, end

    return read


def shown_moment(seconds: Fraction) -> str | None:
    whole_, below = divmod(seconds, 1)
    day, rest = divmod(int(whole_), 86400)
    if not 1 <= day <= date.max.toordinal():
        return None
    text = f"{date.fromordinal(day).isoformat()} {rest // 3600:02}:{rest // 60 % 60:02}:{rest % 60:02}"
    nanoseconds = below * 10**9
    if nanoseconds.denominator != 1:
        return None
    return f"{text}.{int(nanoseconds):09}".rstrip("0") if below else text


def dos_moment(order: Any) -> Storage:
    def read(data: bytes, at: int, limit: int, _: int | None) -> tuple[Any, int | None, int]:
        number = int.from_bytes(taken(data, at, 4, limit), order)
        time, day = number & 0xFFFF, number >> 16
        try:
            found = datetime(1980 + (day >> 9), day >> 5 & 15, day & 31, time >> 11, time >> 5 & 63, (time & 31) * 2)
        except ValueError:
            return number, number, at + 4
        return found.isoformat(sep=" "), number, at + 4

    return read


def guid(little: bool) -> Storage:
    def read(data: bytes, at: int, limit: int, _: int | None) -> tuple[Any, int | None, int]:
        raw = taken(data, at, 16, limit)
        return str(uuid.UUID(bytes_le=raw) if little else uuid.UUID(bytes=raw)), None, at + 16

    return read


def colour(parts: str) -> Storage:
    def read(data: bytes, at: int, limit: int, _: int | None) -> tuple[Any, int | None, int]:
        raw = taken(data, at, len(parts), limit)
        shown = "rgba" if "a" in parts else "rgb"
        return "#" + "".join(f"{raw[parts.index(part)]:02X}" for part in shown), None, at + len(parts)

    return read


def coordinates(inner: Storage, axes: int) -> Storage:
    def read(data: bytes, at: int, limit: int, _: int | None) -> tuple[Any, int | None, int]:
        parts = []
        for _axis in range(axes):
            value, _number, at = inner(data, at, limit, None)
            parts.append(repr(value))
        return ", ".join(parts), None, at

    return read


def plain_bytes(size: int) -> Storage:
    def read(data: bytes, at: int, limit: int, _: int | None) -> tuple[Any, int | None, int]:
        return taken(data, at, size, limit).hex(" ").upper(), None, at + size

    return read


def unmixed(data: bytes, key: bytes) -> bytes:
    """What is under a key that repeats."""
    return bytes(byte ^ key[place % len(key)] for place, byte in enumerate(data))


def of_base64(data: bytes) -> bytes:
    """What the longest run of letters in base64 says, with the alphabet for addresses or without, also in lines."""
    runs = re.findall(rb"(?:[A-Za-z0-9+/]{32,128}\r?\n[ \t]*)*(?:[A-Za-z0-9+/_-]|%2[BbFf])+", data)
    letters = re.sub(rb"\s", b"", max(runs, key=len, default=b"")).translate(bytes.maketrans(b"-_", b"+/"))
    letters = re.sub(rb"%2[BbFf]", lambda mark: bytes.fromhex(mark[0][1:].decode()), letters)
    return base64.b64decode(letters + b"=" * (-len(letters) % 4))


def enclosed_json(data: bytes) -> bytes:
    """The JSON that is between other bytes."""
    text = data.decode("latin-1")
    for begin in re.finditer(r"[{\[]", text[:65]):
        try:
            return data[begin.start() : json.JSONDecoder(strict=False).raw_decode(text, begin.start())[1]]
        except ValueError:
            continue
    raise ValueError("no JSON is in it")


def taken(data: bytes, at: int, size: int, limit: int) -> bytes:
    """So many bytes from an offset.

    Raises:
        NotSuchASave: they are not there.
    """
    if not 0 <= at <= at + size <= limit:
        raise NotSuchASave(f"{size} bytes at {at} are needed, and {max(limit - at, 0)} are left")
    return data[at : at + size]


def warn_unless(data: bytes, at: int, usual: bytes, name: str) -> None:
    """Warn about a file that does not begin as those do from which it was described."""
    found = data[at : at + len(usual)]
    if found != usual:
        print(
            f"warning: {name} has {found.hex(' ')} at {at}, where the saves it was described from have "
            f"{usual.hex(' ')}; if this is another version of the game, values may be elsewhere",
            file=sys.stderr,
        )


class Reader:
    """Lays elements over the bytes of one binary file. Each method returns where its element ends."""

    def __init__(self, data: bytes) -> None:
        self.data = data

    def field(self, group: Group, name: str, at: int, limit: int, storage: Storage, size: Number | None = None) -> int:
        value, number, end = storage(self.data, at, limit, size(group) if size is not None else None)
        group.put(name, value, number, (at, end))
        return end

    def constant(self, group: Group, name: str, at: int, limit: int, wanted: bytes) -> int:
        found = taken(self.data, at, len(wanted), limit)
        if found != wanted:
            raise NotSuchASave(f"{name} at {at} should be {wanted.hex(' ')} and is {found.hex(' ')}")
        group.put(name, found.rstrip(b"\0").decode("latin-1"))
        return at + len(wanted)

    def group(
        self,
        around: Group,
        name: str,
        at: int,
        limit: int,
        layout: Callable[[Reader, Group, int, int], int],
        size: Number | None = None,
        flat: bool = False,
    ) -> int:
        made = Group(name, around, flat)
        around.put(name, made)
        if size is not None:
            limit = at + len(taken(self.data, at, size(made), limit))
        end = layout(self, made, at, limit)
        return limit if size is not None else end

    def rows(
        self,
        group: Group,
        name: str,
        at: int,
        limit: int,
        item: Callable[[Reader, Group, int, int], int] | None,
        storage: Storage | None = None,
        count: Number | None = None,
        size: Number | None = None,
        until: bytes | None = None,
        room: int | None = None,
    ) -> int:
        found: list[Any] = []
        start = at
        wanted = count(group) if count is not None else None
        if size is not None:
            limit = at + len(taken(self.data, at, size(group), limit))
        while wanted is None or len(found) < wanted:
            if until is not None and self.data[at : at + len(until)] == until:
                at += len(until)
                break
            if at >= limit and wanted is None:
                break
            if item is not None:
                record = Group("item", group)
                record.index = len(found)
                at = item(self, record, at, limit)
                found.append(record)
            elif storage is not None:
                value, _, at = storage(self.data, at, limit, None)
                found.append(value)
        group.put(name, found)
        return at if room is None else start + room

    def behind(self, run: bytes, offset: int) -> int:
        at = self.data.find(run)
        if at < 0 or self.data.find(run, at + 1) >= 0:
            raise NotSuchASave(f"the bytes {run.hex(' ')} do not stand exactly once in the file")
        return at + offset


def content_of(path: str) -> bytes:
    with open(path, "rb") as file:  # noqa: PTH123 - the reader imports little
        return file.read()


def walk(value: Any, steps: list[Any]) -> Any:
    """The value of a JSON document at a path: names, numbers, or (key, value) of an item of a list."""
    for step in steps:
        if isinstance(step, tuple):
            key, wanted = step
            value = next(item for item in value if str(item.get(key)) == wanted)
        else:
            value = value[step]
    return value


def spelled(value: Any) -> Any:
    """The number that a string of JSON spells: in digits, in hexadecimal, or the digits in base64."""
    if not isinstance(value, str):
        return value
    text = value.strip()
    if text[:2].lower() == "0x":
        return int(text, 16)
    try:
        number = float(text)
        return int(number) if number.is_integer() and "." not in text else number
    except ValueError:
        pass
    try:
        return int(base64.b64decode(text.rstrip("=") + "=" * (-len(text.rstrip("=")) % 4)).decode())
    except ValueError:
        return value


def shown_json(value: Any) -> Any:
    """What JSON has no word for, as a text."""
    if isinstance(value, dict):
        return {key: shown_json(part) for key, part in value.items()}
    if isinstance(value, list):
        return [shown_json(part) for part in value]
    if isinstance(value, float) and (value != value or abs(value) == float("inf")):
        return str(value)
    return value


def printed(values: dict[str, Any]) -> str:
    return json.dumps(shown_json(values), ensure_ascii=False, indent=1)
