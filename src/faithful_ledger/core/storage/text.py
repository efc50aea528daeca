"""Text: of a fixed size with padding, with its length in front (also within a buffer of fixed size), up to a
terminator, or as long as the template says.
"""

from __future__ import annotations

import codecs
from contextlib import suppress

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.source import Source
from faithful_ledger.core.storage.base import CutOff, FixedSize, Sizer, Storage, Value
from faithful_ledger.core.storage.letters import Letters
from faithful_ledger.core.storage.numbers import Integer, VariableNumber

__all__ = ["EndedText", "FixedText", "FreeText", "PrefixedText", "RawBytes", "text_encoding", "unit_of"]

SLOW_ENCODINGS = {"idna", "punycode"}  # quadratic: a long text would stop the program


def text_encoding(name: str) -> str | None:
    """Python's own name of a text encoding, or None where `name` is none.

    Encodings that are not text encodings (zlib, bz2, …) could unpack to any size, so they do not count.
    """
    try:
        found = codecs.lookup(name)
        "".encode(name)
    except (LookupError, UnicodeError, ValueError):
        return None
    return None if found.name in SLOW_ENCODINGS else found.name


def unit_of(encoding: str | Letters) -> int:
    """How many bytes a unit of an encoding has; text of wide units is padded with wide zeros."""
    if isinstance(encoding, Letters):
        return 1
    name = encoding.replace("_", "-")
    return 2 if name.startswith("utf-16") else 4 if name.startswith("utf-32") else 1


class _Text(Storage):
    """What all texts share: the encoding, and text as text. The encoding is one of Python's, by its name, or a game's
    own letters.
    """

    def __init__(self, encoding: str | Letters) -> None:
        self.letters = encoding if isinstance(encoding, Letters) else None
        self.encoding = str(encoding)
        self.name = {"iso8859-1": "latin-1"}.get(self.encoding, self.encoding)

    def _decode(self, raw: bytes, encoding: str = "") -> str:
        """In its own encoding, or in another one."""
        try:
            if encoding or self.letters is None:
                return raw.decode(encoding or self.encoding)
            return self.letters.decode(raw)
        except UnicodeError as error:
            raise ValueRefused(
                f"the bytes {raw[:12].hex(' ')}{' …' if len(raw) > 12 else ''} are not {encoding or self.name} text",
                "the encoding in the template may be another",
            ) from error

    def _encode(self, value: Value, encoding: str = "") -> bytes:
        if not isinstance(value, str):
            raise ValueRefused(f"{value!r} is not a text", "enter one")
        try:
            if encoding or self.letters is None:
                return value.encode(encoding or self.encoding)
            return self.letters.encode(value)
        except UnicodeError as error:
            what = f"“{value[:40]}” cannot be written in {encoding or self.name}"
            raise ValueRefused(what, "use other letters") from error

    def from_text(self, text: str, old: Value = None) -> str:
        self.encode(text)
        return text

    def neutral(self, size: int | None) -> bytes:
        return self.encode("")


class FixedText(FixedSize, _Text):
    """Text in a fixed number of bytes. A text padded with zeros ends at the first; other padding is cut at the end."""

    def __init__(self, size: int, encoding: str | Letters, pad: bytes) -> None:
        super().__init__(encoding)
        self.bits = size * 8
        self.pad, self.least_size = pad, size
        self.about = f"text in {size} bytes, {self.name}"

    @property
    def reads_any_bytes(self) -> bool:
        if self.letters is not None:
            return True
        try:
            bytes(range(256)).decode(self.encoding)
        except UnicodeError:
            return False
        return True

    @property
    def extends_ascii(self) -> bool:
        """Whether bytes below 128 are always letters of ASCII, which can be read."""
        return self.encoding in ("utf-8", "ascii") or self.encoding.startswith(("iso8859", "cp125"))

    def decode(self, raw: bytes) -> str:
        step = len(self.pad)
        if not any(self.pad):
            for at in range(0, len(raw), step):
                if raw[at : at + step] == self.pad:
                    return self._decode(raw[:at])
            return self._decode(raw)
        end = len(raw)
        while end >= step and raw[end - step : end] == self.pad:
            end -= step
        return self._decode(raw[:end])

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        raw = self._encode(value)
        room = self.size - len(raw)
        if room < 0:
            raise ValueRefused(
                f"“{str(value)[:40]}” takes {len(raw)} bytes and {self.size} are there", "enter a shorter text"
            )
        filled = raw + (self.pad * (room // len(self.pad) + 1))[:room]
        if len(filled) != self.size or self.decode(filled) != value:
            raise ValueRefused(f"“{str(value)[:40]}” would not read back the same", "leave out padding characters")
        return filled


class PrefixedText(_Text):
    """Text with its length, in bytes or in units of `unit` bytes, stored in front as a whole number.

    With `room` the text is in a buffer of so many bytes behind its length; what is behind the end of the text there
    stays as it was, as games leave it. The length includes the terminator `end`, where there is one; a text without
    letters may have none. A length with a sign is below zero for a text in UTF-16, of which it counts the units.
    """

    def __init__(
        self,
        length: Integer | VariableNumber,
        encoding: str | Letters,
        unit: int = 1,
        room: int | None = None,
        end: bytes = b"",
    ) -> None:
        super().__init__(encoding)
        self.length, self.unit, self.room, self.end = length, unit, room, end
        self.wide = (
            f"utf-16-{'be' if getattr(length, 'order', 'little') == 'big' else 'le'}" if length.least < 0 else ""
        )
        self.least_size = length.least_size + (room or 0)
        self.bits = None if room is None else (length.least_size + room) * 8
        buffer = "" if room is None else f" in a buffer of {room} bytes"
        counted = "its length" if unit == 1 else "its number of letters"
        ended = f" and {end.hex(' ').upper()} at its end" if end else ""
        self.about = f"text with {counted} in front ({length.name}){ended}{buffer}, {self.name}"

    def _bytes_of(self, number: int) -> int:
        """How many bytes a length stands for; -1 where it stands for none."""
        return number * self.unit if number >= 0 else -2 * number if self.wide else -1

    def extent(self, source: Source, at: int, limit: int) -> int:
        if self.room is not None:
            return super().extent(source, at, limit)
        width = self.length.extent(source, at, limit)
        try:
            size = self._bytes_of(self.length.decode(bytes(source.read(at, at + width))))
        except ValueRefused as error:
            raise CutOff(width + 1) from error
        if size < 0 or at + width + size > limit:
            raise CutOff(width + size)
        return width + size

    def sizer(self) -> Sizer | None:
        if self.room is not None:
            return super().sizer()
        width, unit, number, bytes_of = self.length.size, self.unit, self.length, self._bytes_of
        head = number.sizer()

        def by_byte(data: bytes, at: int, limit: int) -> int:
            if at >= limit:
                return -1
            end = at + 1 + data[at] * unit
            return end if end <= limit else -1

        def by_number(data: bytes, at: int, limit: int) -> int:
            begin = head(data, at, limit) if head is not None else -1
            if begin < 0:
                return -1
            try:
                size = bytes_of(number.decode(data[at:begin]))
            except ValueRefused:
                return -1
            return begin + size if size >= 0 and begin + size <= limit else -1

        return by_byte if width == 1 and not self.wide else by_number

    def size_before(self, data: bytes) -> int | None:
        """The shortest readable text of the right length."""
        if self.room is not None:
            return self.size
        for size in range(1, len(data)):
            begin = len(data) - size
            width = self.length.size_before(data[:begin]) or 0
            if not 0 < width <= begin:
                continue
            with suppress(ValueRefused):
                number = self.length.decode(data[begin - width : begin])
                if self._bytes_of(number) == size and self._said(data[begin:], number).isprintable():
                    return width + size
        return None

    def _width(self, raw: bytes) -> int:
        """How many bytes of a value are its length."""
        return self.length.size_in(raw) if isinstance(self.length, VariableNumber) else self.length.size or len(raw)

    def _said(self, raw: bytes, number: int) -> str:
        """What the bytes behind a length say."""
        end = self.end and b"\0\0" if number < 0 else self.end
        if end and raw:
            if not raw.endswith(end):
                raise ValueRefused("the terminator of the text is missing", "the template may mean another value")
            raw = raw[: -len(end)]
        return self._decode(raw, self.wide if number < 0 else "")

    def decode(self, raw: bytes) -> str:
        width = self._width(raw)
        number = self.length.decode(raw[:width])
        if self.room is None:
            return self._said(raw[width:], number)
        size = self._bytes_of(number)
        if not 0 <= size <= self.room:
            what = f"the length says {size} bytes and the buffer has {self.room}"
            raise ValueRefused(what, "the length or the size in the template may be another")
        return self._said(raw[width : width + size], number)

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        width = self._width(old)
        had_nothing = 0 < width <= len(old) and not any(old[:width])
        is_wide = bool(self.wide) and isinstance(value, str) and not value.isascii()
        end = b"" if not value and had_nothing else self.end and b"\0\0" if is_wide else self.end
        raw = self._encode(value, self.wide if is_wide else "") + end
        units, rest = divmod(len(raw), 2 if is_wide else self.unit)
        if self.room is not None and len(raw) > self.room:
            what = f"“{str(value)[:40]}” takes {len(raw)} bytes and the buffer has {self.room}"
            raise ValueRefused(what, "enter a shorter text")
        if rest or units > self.length.most:
            raise ValueRefused(
                f"“{str(value)[:40]}” takes {len(raw)} bytes and its length ({self.length.name}) counts up to "
                f"{self.length.most * self.unit}",
                "enter a shorter text",
            )
        text = self.length.encode(-units if is_wide else units) + raw
        return text if self.size is None else text + old.ljust(self.size, b"\0")[len(text) : self.size]


class EndedText(_Text):
    """Text up to a terminator, which is zero unless the template says otherwise; `size` of it is part of the value."""

    def __init__(self, encoding: str | Letters, end: bytes) -> None:
        super().__init__(encoding)
        self.end, self.unit = end, unit_of(encoding)
        self.least_size = len(end)
        self.about = f"text up to {end.hex(' ').upper()}, {self.name}"

    def _end_of(self, data: bytes, at: int, limit: int) -> int:
        """The offset behind the terminator, -1 without one."""
        found = data.find(self.end, at, limit)
        while found >= 0 and (found - at) % self.unit:
            found = data.find(self.end, found + 1, limit)
        return found + len(self.end) if found >= 0 else -1

    def extent(self, source: Source, at: int, limit: int) -> int:
        reach = 256
        while True:
            data = bytes(source.read(at, min(at + reach, limit)))
            end = self._end_of(data, 0, len(data))
            if end >= 0:
                return end
            if at + reach >= limit:
                raise CutOff(len(data) + len(self.end))
            reach *= 16

    def sizer(self) -> Sizer:
        return self._end_of

    def decode(self, raw: bytes) -> str:
        if self._end_of(raw, 0, len(raw)) != len(raw):
            raise ValueRefused("the terminator of the text is missing", "the template may mean another value")
        return self._decode(raw[: -len(self.end)])

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        raw = self._encode(value) + self.end
        if self._end_of(raw, 0, len(raw)) != len(raw):
            raise ValueRefused(f"“{str(value)[:40]}” holds the terminator itself", "leave it out")
        return raw


class FreeText(_Text):
    """Text whose size the template works out from other fields."""

    least_size = 0

    def __init__(self, encoding: str | Letters) -> None:
        super().__init__(encoding)
        self.about = f"text, {self.name}"

    def sizer(self) -> Sizer | None:
        return None

    def decode(self, raw: bytes) -> str:
        return self._decode(raw)

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        return self._encode(value)


class RawBytes(Storage):
    """Bytes nobody has understood yet, shown and typed in hexadecimal; an entry keeps their number."""

    name = "bytes"
    about = "bytes, not understood yet"
    least_size = 0

    def extent(self, source: Source, at: int, limit: int) -> int:
        return max(limit - at, 0)  # up to the end of what is around, where a template gives no size

    def sizer(self) -> Sizer | None:
        return None

    def decode(self, raw: bytes) -> str:
        return raw[:64].hex(" ").upper() + (f" … ({len(raw)} bytes)" if len(raw) > 64 else "")

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        try:
            raw = bytes.fromhex(str(value))
        except ValueError as error:
            raise ValueRefused(f"“{str(value)[:40]}” is not bytes in hexadecimal", "type them as 0A FF 00") from error
        if len(raw) != len(old):
            raise ValueRefused(f"{len(raw)} bytes are entered in place of {len(old)}", "enter as many")
        return raw

    def from_text(self, text: str, old: Value = None) -> str:
        return text
