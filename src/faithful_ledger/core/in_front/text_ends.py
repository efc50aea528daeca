"""Where a text that was seen ends: by the length in front of it, with its buffer, or at what stands behind it."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from fractions import Fraction
from itertools import product
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.profile.lengths import TAG
from faithful_ledger.core.storage import NUMBERS, number_at

__all__ = ["FIXED", "LETTERS", "TextEnd", "length_in_front", "text_end"]

Array: TypeAlias = np.ndarray[Any, Any]
FIXED = ("u8", "u16le", "u32le", "u16be", "u32be")  # storages of a length in front
PREFIXES = (*FIXED, "uleb128", "sized-low", "sized-high", "sized-front")
HIGH, LOW_ENDS = "u32be", ("u8", "u16be")  # a length whose last bytes may look like one of fewer
BUFFERS = (8, 10, 12, 16, 20, 24, 30, 32, 36, 40, 48, 50, 60, 64, 80, 96, 100, 128, 256)  # bytes, as games choose them
AROUND = 256  # bytes that are looked at behind a text, and in front of it
HIGH_ZEROS = 3  # highest bytes of a number behind a buffer that may be zero
BLANKS = b"\t\n\r"
PADS = (0xFF, 0x20)  # what fills a buffer up, beside zeros
LEAST_PADS, LARGEST_PADDED = 3, 64  # letters; and bytes of a buffer up to which all of them count
QUOTED = re.compile(rb"[A-Za-z_]\w*[\"']?[ \t]?[:=][ \t]?([\"'])")  # what is in front of a text that a label names
WIDE, LEAST_LETTERS, LEAST_PADDED = 4, 3, 3  # bytes of a length with zeros behind its text; letters; and such texts
LETTERS = re.compile(rb"[A-Za-z\xC3-\xF4][\x20-\x7E\x80-\xF4]{2,}")
MANY_ZEROS = 8  # behind a text with its length in front, from which on it may be in a buffer


class TextEnd(NamedTuple):
    """The storage of the length directly in front, empty where there is none; whether it counts letters; how many bytes
    the buffer has, where the text is in one; the bytes that end the text, which a length in front counts as well;
    what fills the buffer up, where that is not zeros; and what the place of that behind the text is a multiple of.
    """

    prefix: str = ""
    in_letters: bool = False
    room: int | None = None
    ended_by: bytes = b""
    pad: bytes = b""
    align: int = 1

    @property
    def keys(self) -> dict[str, Any]:
        """As a template says it of a text."""
        keys: dict[str, Any] = {"size": self.room} if self.room is not None else {}
        keys |= {"pad": self.pad.hex(" ").upper()} if self.pad else {}
        keys |= {"ended_by": self.ended_by.hex(" ").upper()} if self.ended_by else {}
        keys |= {"length": self.prefix} if self.prefix else {}
        return keys | ({"counts": "letters"} if self.in_letters else {})


class _Seen(NamedTuple):
    """A text in a snapshot, with what is in front of it and behind it."""

    before: bytes
    raw: bytes
    behind: bytes

    def filled(self, pad: bytes = b"\0") -> int:
        """How many bytes it has with what fills it up behind it."""
        rest, size = self.behind, len(self.raw)
        while rest.startswith(pad):
            rest, size = rest[len(pad) :], size + len(pad)
        return size


def text_end(
    parts: Mapping[int, Array], where: Sequence[int], raws: Mapping[int, bytes], unit: int, filling: bytes = b""
) -> TextEnd:
    """How a text of letters of `unit` bytes ends, the same way in every snapshot that shows it. `filling` may fill its
    buffer up as well as what usually does.
    """
    seen = list(_seen(parts, where, raws))
    longest = max(len(each.raw) for each in seen)
    prefix = _prefix(seen, unit)
    if prefix.prefix in FIXED and min(each.filled() - len(each.raw) for each in seen) < MANY_ZEROS:
        wide = _prefix(seen, unit, (HIGH,)) if prefix.prefix in LOW_ENDS else prefix
        align = _alignment(parts, where, raws, wide) if wide.prefix else 1
        prefix = wide._replace(align=align) if align > 1 else prefix
    if prefix.ended_by or prefix.align > 1:
        return prefix
    alike, same_size = len({len(each.raw) for each in seen}) == 1, len({parts[j].size for j in raws}) == 1
    filled = min(each.filled() for each in seen)
    if prefix.prefix:
        width = NUMBERS[prefix.prefix].least_size
        is_buffer = (
            filled - longest >= MANY_ZEROS and filled in {size - more for size in BUFFERS for more in (0, width)}
            if alike
            else filled >= longest and same_size
        )
        return prefix._replace(room=_room(filled, longest, unit, width)) if is_buffer else prefix
    if filled > longest or (filled == longest and not alike):
        return TextEnd(room=_room(filled, longest, unit))
    if padded := _padded(seen, unit, longest, filling, alike=alike):
        return padded
    if unit == 1 and (end := _ending(seen)):
        return TextEnd(ended_by=end)
    if unit == 2 and (end := _ending(list(map(_narrow, seen)))):
        return TextEnd(ended_by=b"\0" + end if seen[0].raw.startswith(b"\0") else end + b"\0")
    return TextEnd(room=longest) if filled == longest else TextEnd()


def length_in_front(parts: Mapping[int, Array], where: Sequence[int], raws: Mapping[int, bytes]) -> TextEnd:
    """The same of digits, of which a length in front alone counts."""
    return _prefix(list(_seen(parts, where, raws)), 1)


def _alignment(parts: Mapping[int, Array], where: Sequence[int], raws: Mapping[int, bytes], end: TextEnd) -> int:
    """Of how many bytes the place of what is behind a text is a multiple, with zeros in front of it: where a tag and a
    length follow, as in front of the text, or where all texts of a save with such a length have it so.
    """
    width = NUMBERS[end.prefix].least_size
    wholes = {j: parts[j].tobytes() for j in raws} if width == WIDE else {}
    ends = {j: where[j] + len(raw) + len(end.ended_by) for j, raw in raws.items()}
    for multiple in (2, 4) if wholes else ():
        pads = {j: -at % multiple for j, at in ends.items()}
        if not any(pads.values()) or any(whole[ends[j] :][: pads[j]].strip(b"\0") for j, whole in wholes.items()):
            continue
        if all(
            TAG.match(whole, ends[j] + pads[j]) and TAG.match(whole, max(where[j] - 2 * width, 0))
            for j, whole in wholes.items()
        ):
            return multiple
    in_chunks = all(TAG.match(whole, max(where[j] - 2 * width, 0)) for j, whole in wholes.items())
    if wholes and in_chunks and all(_has_padded_chunks(whole, end.prefix) for whole in wholes.values()):
        return 2
    return WIDE if wholes and all(_are_aligned(whole, end.prefix) for whole in wholes.values()) else 1


def _has_padded_chunks(content: bytes, prefix: str) -> bool:
    """Whether chunks of an odd size, each behind its tag and its length, have a zero behind them, and none has not."""
    padded = 0
    for match in TAG.finditer(content):
        at = match.start() + 2 * WIDE
        size = number_at(content, at - WIDE, prefix) or 0
        end = at + size
        if size % 2 and end < len(content):
            if TAG.match(content, end):
                return False
            padded += content[end] == 0 and TAG.match(content, end + 1) is not None
    return padded >= LEAST_PADDED


def _are_aligned(content: bytes, prefix: str) -> bool:
    """Whether all texts of a save with their length in front begin at multiples of four, with zeros up to the next."""
    padded = 0
    for match in LETTERS.finditer(content):
        at = match.start()
        size = number_at(content, at - WIDE, prefix) or 0
        if not LEAST_LETTERS <= size <= len(match[0]):
            continue
        rest = content[at + size : at + size + -size % WIDE]
        if at % WIDE or rest.strip(b"\0"):
            return False
        padded += bool(rest)
    return padded >= LEAST_PADDED


def _seen(parts: Mapping[int, Array], where: Sequence[int], raws: Mapping[int, bytes]) -> Iterator[_Seen]:
    for j, raw in raws.items():
        at, end = where[j], where[j] + len(raw)
        yield _Seen(parts[j][max(at - AROUND, 0) : at].tobytes(), raw, parts[j][end : end + AROUND].tobytes())


def _padded(seen: Sequence[_Seen], unit: int, longest: int, filling: bytes, *, alike: bool) -> TextEnd | None:
    """The buffer of a text that is filled up with blanks or bytes of ones, the last of them before what differs."""
    wide_first = unit > 1 and seen[0].raw.startswith(b"\0")
    for byte in (*PADS, *filling):
        pad = bytes([byte]) * unit if byte == max(PADS) else bytes([byte]).rjust(unit, b"\0")
        pad = pad if wide_first else pad[::-1]
        sizes = {each.filled(pad) for each in seen}
        if min(sizes) - longest >= LEAST_PADS * unit or (len(sizes) == 1 and not alike):
            room = min(sizes) if min(sizes) <= LARGEST_PADDED else _room(min(sizes), longest, unit)
            return TextEnd(room=room, pad=pad)
    return None


def _narrow(text: _Seen) -> _Seen:
    """A text of two bytes a letter with the lower bytes alone, and what is around it as far as that is such letters."""
    low = text.raw.startswith(b"\0")
    before, behind = text.before[len(text.before) % 2 :], text.behind[: len(text.behind) // 2 * 2]

    def is_letter(pair: bytes) -> bool:
        return not pair[1 - low] and bool(pair[low])

    start = next((at for at in range(len(before), 0, -2) if not is_letter(before[at - 2 : at])), 0)
    end = next((at for at in range(0, len(behind), 2) if not is_letter(behind[at : at + 2])), len(behind))
    return _Seen(before[start:][low::2], text.raw[low::2], behind[:end][low::2])


def _prefix(seen: Sequence[_Seen], unit: int, names: Sequence[str] = PREFIXES) -> TextEnd:
    """The length directly in front; with a zero byte behind each text it may count that as well."""
    for (each, end), name in product([(1, b""), (unit, b"") if unit > 1 else (1, b"\0")], names):
        numbers = [NUMBERS[name].spell(Fraction((len(text.raw) + len(end)) // each)) for text in seen]
        if all(
            number is not None and text.before.endswith(number) and text.behind.startswith(end)
            for text, number in zip(seen, numbers, strict=True)
        ):
            return TextEnd(name, each > 1, ended_by=end)
    return TextEnd()


def _room(filled: int, longest: int, unit: int, width: int = 0) -> int:
    """How many bytes a buffer has of which so many are zero or text: a usual size, with or without the length in front
    of it; the largest where what is behind it begins there, and else the smallest, as more zeros may be something else.
    """
    usual = sorted({size - more for size in BUFFERS for more in (0, width) if longest <= size - more <= filled})
    usual = [size for size in usual if size % unit == 0 and (size > longest or size == filled)]
    if not usual:
        return longest
    return usual[-1] if filled - usual[-1] <= HIGH_ZEROS else usual[0]


def _ending(seen: Sequence[_Seen]) -> bytes:
    """What ends a text within text: the same sign in every snapshot, which is in none of them, behind another one."""
    end = seen[0].behind[:1]
    if not end or not end.isascii() or end.isalnum() or end == b" ":
        return b""
    for text in seen:
        around = (text.before + text.behind).translate(None, BLANKS)
        is_within_text = around.decode("latin-1").isprintable() and not text.before[-1:].isalnum()
        labels = [match for match in QUOTED.finditer(text.before) if match.end() == len(text.before)]
        is_quoted = any(match[1] == end for match in labels)
        if not (is_within_text or is_quoted) or not text.behind.startswith(end) or end in text.raw:
            return b""
    return end
