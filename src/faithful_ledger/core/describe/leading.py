"""Texts with their length in front that come before what is described at an offset: a longer one moves it.

Saves of one player say the same in these texts, so that everything behind them seems to stay in its place.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from itertools import islice, product
from typing import Any, NamedTuple

import numpy as np

from faithful_ledger.core.binding import BoundFile, FieldNode
from faithful_ledger.core.describe.draft import Draft
from faithful_ledger.core.describe.flow import has_offset
from faithful_ledger.core.describe.placing import free_name
from faithful_ledger.core.evidence.place import Place
from faithful_ledger.core.evidence.text_ends import TextEnd, text_end
from faithful_ledger.core.save import Save
from faithful_ledger.core.storage import NUMBERS
from faithful_ledger.core.template.rewriting import Hex

__all__ = ["leading", "let_lead"]

NOTE = "its length is in front of it, and what is behind it moves when it is longer"
ENCODINGS = {1: "utf-8", 2: "utf-16-le"}
RUNS = {
    1: re.compile(rb"[A-Za-z\xC3-\xF4][\x20-\x7E\x80-\xF4]{2,}"),
    2: re.compile(rb"[A-Za-z]\0(?:[\x20-\x7E]\0){2,}"),
}
# Storages of a length, the bytes of what it counts, and whether it counts a zero at the end.
FORMS = tuple(product(("u8", "u16le", "u32le", "u16be", "u32be"), (1, 2), (0, 1)))
ASCII, LATIN = "\x7e", "\u024f"  # the last letters of scripts, as most texts have them
ENDS_OF_LINES, LINE_ENDS = (9, 10, 13), "\t\n\r"  # which are no lengths between lines
LEAST_ALNUM = 0.6  # of a text; the rest may be blanks and signs
LEAST_BEHIND_WIDE = 3  # letters behind a length of several bytes
LEAST_LETTERS, LEAST_ALONE = 4, 6  # letters behind a length of one byte, where other saves agree, and in one save alone
LONGEST, MOST_TEXTS, FARTHEST = 256, 12, 1 << 16  # bytes of a text; more texts are a list; bytes that are looked at


class _Leading(NamedTuple):
    """A text behind its length: where that begins, how the text ends, and how many bytes both take."""

    start: int
    encoding: str
    end: TextEnd
    size: int


def let_lead(draft: Draft, others: Iterable[Mapping[str, BoundFile]]) -> None:
    """Describe the texts with their length in front that come before elements at an offset, where other saves do not
    say something else.
    """
    behind = {
        name: (file.bound, last)
        for name, file in draft.save.files.items()
        if file.bound is not None and (last := _last_offset(file.bound)) is not None
    }
    saves = list(others) if behind else []  # which are only bound then
    for name, (bound, last) in behind.items():
        files = [bound, *(save[name] for save in saves if name in save)]
        contents = [bytes(each.source.read(0, min(each.source.size, FARTHEST))) for each in files]
        found = list(islice(_texts(contents, last), MOST_TEXTS + 1))
        if len(found) <= MOST_TEXTS:
            for each in found:
                _describe(draft, bound, each)
    if behind:
        draft.read_again()


def leading(save: Save, place: Place | None = None) -> str | None:
    """The path of a text that was described only because others follow it: of the first one, or of that at a place."""
    for file in save.files.values():
        for node in file.bound.root.children if file.bound is not None else ():
            if not isinstance(node, FieldNode) or node.spec.note != NOTE:
                continue
            if place is None or (node.start < place.offsets[0] < node.end and node.value in place.values):
                return f"{file.name}.{node.spec.name}" if file is not save.main else node.spec.name
    return None


def _last_offset(bound: BoundFile) -> int | None:
    """Where the last element begins of a binary file whose elements are at offsets, not far from its beginning; None
    for any other file.
    """
    children = bound.root.children
    if (
        bound.spec.format != "binary"
        or bound.spec.keeps_size
        or any(node.spec.address.base == "next" for node in children)
    ):
        return None
    last = max((node.start for node in children if has_offset(node)), default=FARTHEST)
    return last if last < FARTHEST else None


def _describe(draft: Draft, bound: BoundFile, found: _Leading) -> None:
    if any(node.start < found.start + found.size and found.start < node.end for node in bound.root.children):
        return
    keys: dict[str, Any] = {
        "field": free_name(bound.root.spec, f"text_{found.start:x}"),
        "as": "text",
        "encoding": found.encoding,
        "length": found.end.prefix,
        **({"counts": "letters"} if found.end.in_letters else {}),
        **({"ended_by": found.end.ended_by.hex(" ").upper()} if found.end.ended_by else {}),
        "at": Hex(found.start),
        "label": f"Text at 0x{found.start:X}",
        "note": NOTE,
        "standing": "guessed",
    }
    draft.text.insert(bound.root.spec.layout_where, len(bound.root.spec.layout), keys)


def _texts(contents: Sequence[bytes], last: int) -> Iterator[_Leading]:
    """Texts in front of an offset of the first of some contents that are in all of them, one behind the other."""
    first, shifts, behind = contents[0], [0] * len(contents), 0
    parts = {j: np.frombuffer(content, np.uint8) for j, content in enumerate(contents)}
    for at, unit in _beginnings(first[:last]):
        where = [at + shift for shift in shifts]
        for prefix, each, zeros in FORMS if at >= behind else ():
            if each > unit:
                continue
            raws = [
                _text(content, here, prefix, each, zeros * unit) for content, here in zip(contents, where, strict=True)
            ]
            if not all(raws) or at + len(raws[0]) > last or not _convinces(contents, where, raws, prefix, unit):
                continue
            end = text_end(parts, where, dict(enumerate(raws)), unit)
            if not end.prefix or end.room is not None:
                continue
            width = NUMBERS[end.prefix].least_size
            yield _Leading(at - width, ENCODINGS[unit], end, width + len(raws[0]) + len(end.ended_by))
            shifts = [shift + len(raw) - len(raws[0]) for shift, raw in zip(shifts, raws, strict=True)]
            behind = at + len(raws[0])
            break


def _beginnings(data: bytes) -> list[tuple[int, int]]:
    """Where a text may begin, and the bytes of each of its letters."""
    runs = [(match.start(), unit) for unit, run in RUNS.items() for match in run.finditer(data)]
    return sorted(runs)


def _text(content: bytes, at: int, prefix: str, each: int, zeros: int) -> bytes:
    """The text at an offset, as long as the number in front of it says; empty where that is none."""
    storage = NUMBERS[prefix]
    start = at - storage.least_size
    if start < 0:
        return b""
    size = int(storage.decode(content[start:at])) * each - zeros
    raw = content[at : at + size] if 0 < size <= LONGEST else b""
    return raw if len(raw) == size and content[at + size : at + size + zeros] == bytes(zeros) else b""


def _convinces(contents: Sequence[bytes], where: Sequence[int], raws: Sequence[bytes], prefix: str, unit: int) -> bool:
    """Whether texts can be read, end where their length says, and are too long to be chance."""
    try:
        texts = [raw.decode(ENCODINGS[unit]) for raw in raws]
    except UnicodeDecodeError:
        return False
    if not all(text.isprintable() and sum(map(str.isalnum, text)) >= LEAST_ALNUM * len(text) for text in texts):
        return False
    ends = [(at, at + len(raw)) for at, raw in zip(where, raws, strict=True)]
    behind = [_letter(content, end, unit) for content, (_, end) in zip(contents, ends, strict=True)]
    width = NUMBERS[prefix].least_size
    if NUMBERS[prefix].decode(contents[0][where[0] - width : where[0]]) in ENDS_OF_LINES:
        before = _letter(contents[0], where[0] - width - unit, unit)
        if before.isprintable() and (unit > 1 or behind[0] in LINE_ENDS):
            return False
    is_cut = len(set(texts)) > 1 and any(a != b and a.startswith(b) for a in texts for b in texts)
    script = ASCII if unit == 1 else LATIN
    stops = any(not _goes_on(text, letter, script) for text, letter in zip(texts, behind, strict=True))
    begins = width > 1 and all(
        text[-1].islower() and letter.isupper() for text, letter in zip(texts, behind, strict=True)
    )
    least = LEAST_BEHIND_WIDE if width > 1 else LEAST_LETTERS if len(contents) > 1 else LEAST_ALONE
    return (stops or begins) and not is_cut and min(map(len, texts)) >= least


def _goes_on(text: str, letter: str, script: str) -> bool:
    """Whether a letter may belong to a text in front of it: one beyond the last of its script hardly does."""
    return letter.isprintable() and (letter <= script or max(text) > script)


def _letter(content: bytes, at: int, unit: int) -> str:
    """The letter at an offset; a zero where there is none."""
    return (content[max(at, 0) : max(at, 0) + unit] or b"\0").decode("latin-1" if unit == 1 else "utf-16-le", "replace")
