"""How bytes somebody selected may be stored, as the keys of a field, the most plausible first.

Numbers are judged as `evidence.plausible` does it, over all kept copies. Texts come first where letters stand in every
copy: with their length in front, up to a byte that ends them, or in a buffer that is filled up.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

from faithful_ledger.core.errors import EntryError, LedgerError, ValueRefused
from faithful_ledger.core.evidence.plausible import plausible_readings
from faithful_ledger.core.source import MemorySource, Source
from faithful_ledger.core.storage import (
    Checksum,
    CutOff,
    EndedText,
    FixedText,
    Float,
    Integer,
    Order,
    PackedDecimal,
    PrefixedText,
    Storage,
    UnpackedDecimal,
    VariableNumber,
    WholeNumber,
    number_storage,
)
from faithful_ledger.core.template.model import FieldSpec

__all__ = ["Proposal", "keys_for", "proposals"]

LEAST_LETTERS = 3
LONGEST_TEXT = 1 << 10
LARGEST_CONSTANT = 16
MARK = (3, 8)  # bytes
PREFIXES = ("u8", "uleb128", "u16", "u32")
WIDE = ("utf-16-le", "utf-16-be")
# Encodings of texts with a length in front, the bytes that it counts as one, and terminators within it.
ENCODED: tuple[tuple[str, int, bytes], ...] = (("utf-8", 1, b""), ("utf-8", 1, b"\0"))
ENCODED += tuple((wide, unit, end) for wide in WIDE for unit in (1, 2) for end in (b"", b"\0\0"))
VARIABLE = ("uleb128", "sleb128", "zigzag", "vlq", "sized-high", "sized-low", "sized-front")
Copies = Sequence[tuple[Source, int | None]]


class Proposal(NamedTuple):
    """One way to describe bytes: `keys` of an element without its name, the `size` it takes now, the value it gives and
    what it gives in each copy, – where it gives none.
    """

    words: str
    keys: dict[str, Any]
    size: int
    now: str
    before: list[str]


def proposals(source: Source, start: int, end: int, order: Order, copies: Copies = ()) -> list[Proposal]:
    """For the bytes [start, end) of a binary file whose numbers have an `order`; for a single byte also what begins
    there. `copies` are kept ones, each with the offset of the same place, or None.
    """
    size = end - start
    found = [each for each in _texts(source, start, end, copies) if size in (1, each.size)]
    has_text = bool(found)
    for plausible in plausible_readings(source, start, end, copies, order):
        storage = plausible.reading.storage
        if isinstance(storage, Integer | Float) and size in (1, storage.size):
            keys = {"as": _name(storage, order)}
            found.append(Proposal(storage.about, keys, storage.size, plausible.reading.text, plausible.before))
    of_several = (f"bcd{size}le", f"unpacked{size}", f"unpacked{size}le", *VARIABLE)
    for name in (f"bcd{size}", *(of_several if size > 1 else ()), "digits"):
        number = number_storage(name, order)
        each = _made(number, {"as": name}, source, start, copies) if number is not None else None
        found += [each] if each is not None and each.size == size else []
    raw = bytes(source.read(start, end))
    shown = raw[:8].hex(" ").upper()
    if not has_text and size > 1:
        found += list(_buffers(source, start, end, copies, least=0))[:1]
    found.append(Proposal("unknown bytes", {"unknown": "unknown", "size": size}, size, shown, []))
    if size <= LARGEST_CONSTANT:
        letters = raw.decode("latin-1")
        spelled = {"text": letters} if letters.isascii() and letters.isprintable() else {"bytes": raw.hex(" ").upper()}
        keys = {"constant": "constant", **spelled}
        held = [bytes(copy.read(at, at + size)) if at is not None else b"" for copy, at in copies]
        before = [each[:8].hex(" ").upper() for each in held]
        fixed = Proposal("the same bytes in every save", keys, size, shown, before)
        found.insert(0 if _is_mark(raw, start) and set(held) <= {raw} else len(found), fixed)
    return found


def _is_mark(raw: bytes, start: int) -> bool:
    """Whether bytes look like what formats begin with, or their parts: a few letters, capitals behind the beginning."""
    letters = sum(chr(byte).isalpha() and byte < 128 for byte in raw)
    return MARK[0] <= len(raw) <= MARK[1] and letters >= len(raw) - 1 and (start == 0 or raw.isupper())


def _name(storage: Integer | Float, order: Order) -> str:
    """The name of a number in a file of an order."""
    kind = "f" if isinstance(storage, Float) else "i" if storage.signed else "u"
    side = "" if storage.size == 1 or storage.order == order else "le" if storage.order == "little" else "be"
    return f"{kind}{8 * storage.size}{side}"


def keys_for(spec: FieldSpec, size: int) -> dict[str, Any]:
    """The keys that give a field of fixed size another size, with the same kind of storage.

    Raises:
        EntryError: that kind has no such size.
    """
    if spec.unknown:
        return {"size": size}
    if isinstance(spec.storage, FixedText | Checksum):
        return {"size": size}
    number = getattr(spec.storage, "number", spec.storage)
    kinds: tuple[tuple[type[WholeNumber | Float], Sequence[int], int], ...] = (
        (Integer, (1, 2, 3, 4, 8), 8),
        (Float, (4, 8), 8),
        (PackedDecimal, range(1, 9), 1),
        (UnpackedDecimal, range(1, 17), 1),
    )
    for kind, sizes, counted in kinds:  # names count bits, or bytes
        if isinstance(number, kind) and size in sizes:
            return {"as": re.sub("[0-9]+", str(counted * size), number.name, count=1)}
    what = f"{spec.name} ({spec.storage.about}) cannot take {size} bytes"
    raise EntryError(what, "the template was not changed; choose another storage first")


def _texts(source: Source, start: int, end: int, copies: Copies) -> Iterator[Proposal]:
    """Texts that are plausible: of at least a few letters, and with letters in every copy."""
    data = bytes(source.read(start, start + 4))
    for name in PREFIXES:
        alone = name in ("u8", "uleb128")
        for order in ("little", "big") if not alone else ("little",):
            prefix = number_storage(name, order)
            assert isinstance(prefix, Integer | VariableNumber)
            if not LEAST_LETTERS <= _number_at_start(prefix, data) <= LONGEST_TEXT:
                continue
            spelled = name if alone else f"{name}{'le' if order == 'little' else 'be'}"
            for encoding, unit, mark in ENCODED:
                keys: dict[str, Any] = {"as": "text", "length": spelled}
                keys |= {"encoding": encoding} if encoding != "utf-8" else {}
                keys |= ({"counts": "letters"} if unit > 1 else {}) | ({"ended_by": mark.hex().upper()} if mark else {})
                each = _made(PrefixedText(prefix, encoding, unit, end=mark), keys, source, start, copies)
                if each is not None and _is_text(each, least=LEAST_LETTERS):
                    yield each
    yield from _buffers(source, start, end, copies, least=LEAST_LETTERS)
    each = _made(EndedText("utf-8", b"\0"), {"as": "text", "ended_by": "00"}, source, start, copies)
    if each is not None and _is_text(each, least=LEAST_LETTERS):
        yield each


def _number_at_start(storage: Integer | VariableNumber, data: bytes) -> int:
    """The number that some bytes begin with; -1 where they do not."""
    try:
        return storage.decode(data[: storage.extent(MemorySource(data), 0, len(data))])
    except (CutOff, ValueRefused):
        return -1


def _buffers(source: Source, start: int, end: int, copies: Copies, *, least: int) -> Iterator[Proposal]:
    """Texts in buffers of the selected size."""
    size = end - start
    raw = bytes(source.read(start, end))
    for encoding in ("utf-8", *(WIDE if least else ()), "latin-1"):
        wide = encoding in WIDE
        if size < 2 or size > LONGEST_TEXT or (wide and size % 2):
            continue
        blanks = raw.endswith(b"  ") and not wide
        keys: dict[str, Any] = {"as": "text", "size": size}
        keys |= ({"encoding": encoding} if encoding != "utf-8" else {}) | ({"pad": "20"} if blanks else {})
        each = _made(FixedText(size, encoding, b" " if blanks else b"\0" * (1 + wide)), keys, source, start, copies)
        if each is not None and _is_text(each, least=least):
            yield each


def _made(storage: Storage, keys: dict[str, Any], source: Source, start: int, copies: Copies) -> Proposal | None:
    """A storage with what it gives here and in the copies; None where it gives nothing here."""
    now, size = _shown(storage, source, start)
    if now is None:
        return None
    before = [_shown(storage, copy, at)[0] if at is not None else None for copy, at in copies]
    return Proposal(storage.about, keys, size, now, ["–" if each is None else each for each in before])


def _shown(storage: Storage, source: Source, at: int) -> tuple[str | None, int]:
    try:
        size = storage.extent(source, at, source.size)
        if at + size > source.size:
            return None, 0
        return storage.to_text(storage.decode(bytes(source.read(at, at + size)))), size
    except (LedgerError, Exception) as error:
        if isinstance(error, LedgerError) or type(error).__name__ == "CutOff":
            return None, 0
        raise


def _is_text(each: Proposal, *, least: int) -> bool:
    """Whether letters stand here and in every copy that has the place."""
    shown = [each.now, *(text for text in each.before if text != "–")]
    return len(each.now) >= least and all(text.isprintable() and _is_of_one_script(text) for text in shown)


def _is_of_one_script(text: str) -> bool:
    """Whether the letters beyond ASCII are of one script, as in names; those of noise are of many."""
    scripts = {
        unicodedata.name(letter, "?").partition(" ")[0] for letter in text if letter.isalpha() and letter > "\x7f"
    }
    return len(scripts) <= 1
