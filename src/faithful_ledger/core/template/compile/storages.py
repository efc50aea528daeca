"""How the value of a field is stored, from its keys."""

from __future__ import annotations

import re
from collections.abc import Callable
from fractions import Fraction
from typing import Any, TypeAlias

from faithful_ledger.core.address import Expression
from faithful_ledger.core.formats import DOCUMENTS
from faithful_ledger.core.formats.quoting import Counted
from faithful_ledger.core.seals.algorithms import COPY
from faithful_ledger.core.storage import (
    MOMENTS,
    BitRange,
    Checksum,
    ChecksumInText,
    Choice,
    Digits,
    DosMoment,
    EndedText,
    FixedBytes,
    FixedText,
    Float,
    FreeText,
    Integer,
    JsonNumber,
    Letters,
    Moment,
    Number,
    NumberInJson,
    Order,
    PackedDecimal,
    PrefixedText,
    RawBytes,
    Scaled,
    SpelledNumber,
    SpelledText,
    Storage,
    Switches,
    UnpackedDecimal,
    VariableNumber,
    WholeInText,
    WholeNumber,
    Written,
    form_of,
    moment_since,
    named_pattern,
    number_storage,
    parse_fraction,
    text_encoding,
    unit_of,
)
from faithful_ledger.core.suggest import did_you_mean
from faithful_ledger.core.template.compile.mistakes import Keys, Mistakes, Where
from faithful_ledger.core.template.model import (
    Catalogue,
    ElementSpec,
    FieldSpec,
    GroupSpec,
)

__all__ = ["Storages"]

MOST_CHECKSUM, MOST_COPY = 128, 1 << 24
MOST_BYTES = 1 << 16
SCALING = {"scale", "bias", "rounding"}
BITS = re.compile(r"([ui])([0-9]{1,2})")


def _catalogue(name: str, table: dict[int, Any]) -> Catalogue:
    """From what stands behind each code: a name, or a mapping."""
    entries = {code: entry if isinstance(entry, dict) else {"name": entry} for code, entry in table.items()}
    limited = {code: (each.get("least"), each.get("most")) for code, each in entries.items()}
    return Catalogue(
        name,
        {code: each["name"] for code, each in entries.items()},
        {code: each["group"] for code, each in entries.items() if each.get("group")},
        {code: limits for code, limits in limited.items() if limits != (None, None)},
    )


Formula: TypeAlias = Callable[[Keys, str, ElementSpec, Where], Expression | None]


class Storages:
    """Makes storages for the fields of one file after the other; `formula` reads an expression of an element."""

    def __init__(
        self,
        catalogues: dict[str, dict[int, Any]],
        letters: dict[str, dict[int, str]],
        mistakes: Mistakes,
        formula: Formula,
    ) -> None:
        self.letters = {name: Letters(name, table) for name, table in letters.items()}
        self.catalogues = {name: _catalogue(name, table) for name, table in catalogues.items()}
        self.mistakes, self.formula = mistakes, formula
        self.format = "binary"
        self.order: Order = "little"

    def storage(self, element: FieldSpec, keys: Keys, where: Where) -> Storage:
        name: str = keys.get("as", "")
        if self.format != "binary" and name == "checksum":
            return self.checksum_in_text(keys, where)
        if self.format != "binary":
            path = element.address.path.text if element.address.path is not None else ""
            made = DOCUMENTS[self.format].storage(name, path, keys.get("encoding", "utf-8"))
            if made is None:
                self.mistakes.append(
                    ((*where, "as"), f"in a text a value is number, text, switch or checksum, not “{name}”")
                )
                return NumberInJson()
            if keys.get("length") is not None:
                self.counted(made, keys, where)
            if not isinstance(made, JsonNumber | SpelledNumber):
                return made
            return self.named(WholeInText(made), keys, where) or self.shown(made, keys, where)
        if name == "text":
            return self.text(element, keys, where)
        if (pattern := named_pattern(name, self.order)) is not None:
            return pattern
        if name == "bytes":
            return self.bytes(element, keys, where)
        if name == "checksum":
            size = keys.get("size")
            is_copy = (keys.get("seal") or {}).get("algorithm") == COPY
            what, most = ("a copy", MOST_COPY) if is_copy else ("a checksum", MOST_CHECKSUM)
            if not isinstance(size, int) or not 0 < size <= most:
                self.mistakes.append(((*where, "size"), f"{what} has between 1 and {most} bytes"))
                size = 4
            return Checksum(size, keys.get("written") or "bytes")
        if isinstance(element.parent, GroupSpec) and element.parent.word is not None:
            number: Number | BitRange | None = self.bits(element.parent.word, element.parent, name, (*where, "as"))
        else:
            number = number_storage(name, self.order)
        if number is None:
            whole = ("u8", "u16", "u24", "u32", "u64", "i8", "i16", "i24", "i32", "i64", "f32", "f64")
            others: tuple[str, ...] = ("bcd2", "bcd4", "unpacked5", "uleb128", "sleb128", "zigzag", "vlq", "digits")
            others += ("sized-high", "sized-low", "sized-front")
            hint = did_you_mean(name, ("text", *whole, *others))
            self.mistakes.append(((*where, "as"), f"“{name}” is not a kind of value{'; ' + hint if hint else ''}"))
            return Integer(1, False, "little")
        if keys.get("moment") is not None:
            return self.moment(number, keys, where)
        if isinstance(number, WholeNumber) and (named := self.named(number, keys, where)):
            return named
        if keys.get("names") is not None or keys.get("switches") is not None:
            self.mistakes.append((where, "only whole numbers have names or switches"))
        return self.shown(number, keys, where)

    def checksum_in_text(self, keys: Keys, where: Where) -> Storage:
        """It is as long as it is."""
        written: Written = keys.get("written") or "hex"
        if written == "bytes":
            self.mistakes.append(
                (
                    (*where, "written"),
                    "in a text a checksum is written in letters: hex, HEX, dashes, decimal, signed or base64",
                )
            )
            written = "hex"
        return ChecksumInText(written)

    def bytes(self, element: FieldSpec, keys: Keys, where: Where) -> Storage:
        """Bytes as they are, as many as the template says."""
        formula = self.formula(keys, "size", element, where)
        if formula is None:
            self.mistakes.append((where, "bytes have a size"))
        elif formula.constant is not None:
            if 0 < formula.constant <= MOST_BYTES:
                return FixedBytes(formula.constant)
            self.mistakes.append(((*where, "size"), f"a field of bytes has between 1 and {MOST_BYTES} of them"))
        else:
            element.size = formula
        return RawBytes()

    def moment(self, number: Storage, keys: Keys, where: Where) -> Storage:
        """A number that counts time."""
        given = keys["moment"]
        here = (*where, "moment")
        if given == "dos":
            if isinstance(number, Integer) and number.size == 4:
                return DosMoment(number.order)
            self.mistakes.append((here, "a moment as FAT stores it has 4 bytes: as: u32"))
            return number
        if not isinstance(number, Integer | Float):
            self.mistakes.append((here, "only a whole number or a fraction counts time"))
            return number
        if isinstance(given, str) and given not in MOMENTS:
            hint = did_you_mean(given, (*MOMENTS, "dos")) or f"there are {', '.join((*MOMENTS, 'dos'))}"
            self.mistakes.append((here, f"“{given}” is not a moment; {hint}"))
            return number
        since, unit = MOMENTS[given] if isinstance(given, str) else (given["since"], given["unit"])
        if moment_since(since) is None:
            self.mistakes.append(((*here, "since"), f"“{since}” is not a date; write one as 1970-01-01"))
            return number
        return Moment(number, since, unit)

    def counted(self, made: Storage, keys: Keys, where: Where) -> None:
        """A value of a text that has its own length in front."""
        if keys["length"] == "digits" and isinstance(made, SpelledText | SpelledNumber):
            made.quoting = Counted(made.quoting, keys.get("encoding", "utf-8"))
        else:
            self.mistakes.append(((*where, "length"), "in a text the length in front of a value is `digits`"))

    def named(self, number: WholeNumber | WholeInText, keys: Keys, where: Where) -> Storage | None:
        """A whole number with names, or as a row of switches; None where the keys say neither."""
        for key, wrapped in (("names", Choice), ("switches", Switches)):
            if keys.get(key) is not None:
                names = self.names(keys[key], (*where, key))
                self.within(names, number, key, (*where, key))
                return wrapped(number, names)
        return None

    def bits(self, word: Integer, parent: GroupSpec, name: str, where: Where) -> BitRange | None:
        """The next bits of a whole number, from the lowest up; as many as `u5` or `i5` says."""
        used = sum(part.storage.bits or 0 for part in parent.layout if isinstance(part, FieldSpec))
        match = BITS.fullmatch(name)
        if match is None or not 0 < int(match[2]) <= word.bits - used:
            left = word.bits - used
            text = f"“{name}” is not a number of bits; {word.name} has {left} left, so write u1 to u{left}"
            self.mistakes.append((where, text if left else f"all bits of {word.name} are used by the fields before"))
            return BitRange(word, 0, 1)
        return BitRange(word, used, int(match[2]), match[1] == "i")

    def word(self, element: GroupSpec, name: str, where: Where) -> None:
        """A group that is one whole number."""
        found = number_storage(name, self.order)
        if self.format != "binary" or not isinstance(found, Integer) or found.signed:
            self.mistakes.append(
                (where, f"“{name}” is not a whole number without a sign, such as u16, of a binary file")
            )
            return
        element.word = found
        if element.size is not None:
            self.mistakes.append((where, "a group has one of word and size"))

    def within(self, names: dict[int, str], number: WholeNumber | WholeInText, key: str, where: Where) -> None:
        """Every name stands for a value or a bit that the number has."""
        decimal = isinstance(number, PackedDecimal | UnpackedDecimal | Digits)
        if key == "switches" and (decimal or number.name in ("sleb128", "zigzag")):
            self.mistakes.append((where, f"{number.name} does not have bits to switch; u8, u16 and their like have"))
            return
        least, most = (0, number.digits - 1) if key == "switches" else (number.least, number.most)
        outside = [value for value in names if not least <= value <= most]
        if outside:
            what = "bits" if key == "switches" else "values"
            self.mistakes.append((where, f"{outside[0]} is outside the {what} of {number.name} ({least} to {most})"))

    def shown(self, number: Number, keys: Keys, where: Where) -> Storage:
        """The number in the form in which it is shown."""
        scaled, form = self.scaled(number, keys, where), keys.get("form")
        if form is None:
            return scaled
        found = form_of(scaled, form)
        if found is None:
            words = "hexadecimal" if form == "hex" else form
            text = f"only a whole number of whole bytes, without a scale, can be shown in {words}"
            self.mistakes.append(((*where, "form"), text))
        return found or scaled

    def scaled(self, number: Number, keys: Keys, where: Where) -> Number | Scaled:
        """The number as the game shows it, where it is shown otherwise than stored."""
        if not SCALING & keys.keys():
            return number
        given = {key: str(keys[key]) for key in ("scale", "bias") if keys.get(key) is not None}
        if not given and keys.get("rounding") is None:
            return number
        found = {key: parse_fraction(text) for key, text in given.items()}
        for key, value in found.items():
            if value is None or (key == "scale" and not value):
                text = f"“{given[key][:40]}” is not a {key}; write a number such as 100, 0.1 or 1/3"
                self.mistakes.append(((*where, key), text))
        scale, bias = found.get("scale") or Fraction(1), found.get("bias") or Fraction(0)
        return Scaled(number, scale, bias, keys.get("rounding"))

    def text(self, element: FieldSpec, keys: Keys, where: Where) -> Storage:
        name = keys.get("encoding", "utf-8")
        encoding: str | Letters | None = self.letters.get(name) or text_encoding(name)
        if encoding is None:
            text = f"“{name}” is neither a text encoding of Python nor one of `letters`"
            self.mistakes.append(((*where, "encoding"), text))
            encoding = "utf-8"
        size, length, end = keys.get("size"), keys.get("length"), keys.get("ended_by")
        if keys.get("counts") and length is None:
            self.mistakes.append(((*where, "counts"), "only a text with its length in front says what that counts"))
        if end is not None and size is not None:
            self.mistakes.append((where, "a text up to ended_by does not have a size"))
        elif end is not None and length is None:
            return EndedText(encoding, bytes.fromhex(end))
        elif size is None and length is None:
            self.mistakes.append((where, "a text has a size, a length, or both, or ended_by"))
            return FreeText(encoding)
        formula = self.formula(keys, "size", element, where)
        constant = formula.constant if formula is not None else None
        if constant is not None and not 0 < constant <= 1 << 20:
            self.mistakes.append(((*where, "size"), "a text has between 1 byte and 1 MiB"))
            return FreeText(encoding)
        if length is not None:
            prefix = number_storage(length, self.order)
            is_short = isinstance(prefix, Integer) and prefix.signed and prefix.size == 1
            if not isinstance(prefix, Integer | VariableNumber) or is_short or prefix.name in ("sleb128", "zigzag"):
                text = f"“{length}” is not a whole number without a sign, or one of at least two bytes with one"
                self.mistakes.append(((*where, "length"), text))
                prefix = Integer(1, False, "little")
            if formula is not None and (constant is None or prefix.size is None):
                text = "a buffer of fixed size has a length of fixed size in front"
                self.mistakes.append(((*where, "size"), text))
                constant = None
            unit = unit_of(encoding) if keys.get("counts") == "letters" else 1
            return PrefixedText(prefix, encoding, unit, constant, bytes.fromhex(end or ""))
        if constant is not None:
            return FixedText(constant, encoding, bytes.fromhex(keys.get("pad") or "00" * unit_of(encoding)))
        element.size = formula
        return FreeText(encoding)

    def names(self, given: str | dict[int, str], where: Where) -> dict[int, str]:
        if isinstance(given, str):
            if given not in self.catalogues:
                hint = did_you_mean(given, self.catalogues)
                self.mistakes.append((where, f"there is no catalogue “{given}”{'; ' + hint if hint else ''}"))
            return self.catalogues[given].names if given in self.catalogues else {}
        return {int(number): name for number, name in given.items()}
