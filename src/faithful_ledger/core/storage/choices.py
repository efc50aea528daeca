"""Numbers that stand for names (a choice), and numbers that are rows of switches.

Every value has a text of its own that reads back to the same value. A name that is not clear by itself gets its number
behind it: one that several numbers have, one that reads like a number, like `none`, or like another switch's `bit 3`.
"""

from __future__ import annotations

import re
from abc import abstractmethod
from collections import Counter
from collections.abc import Mapping
from typing import TYPE_CHECKING

from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.storage.base import Value, Wrapping
from faithful_ledger.core.storage.numbers import WholeNumber, parse_whole
from faithful_ledger.core.storage.spelled import WholeInText
from faithful_ledger.core.suggest import did_you_mean

if TYPE_CHECKING:
    from faithful_ledger.core.storage.base import Array

__all__ = ["Choice", "Switches"]

BIT = re.compile(r"bit \d+", re.IGNORECASE)
# One switch of a list: an optional sign, and a name that is quoted where it holds a comma, a sign or a quotation mark.
WORD = re.compile(r'\s*([+-]?)\s*(?:"((?:[^"\\]|\\.)*)"|([^,"]*?(?=\s*(?:,|\s[+-]|$))))\s*(?:,|(?=[+-])|$)')
PLAIN = re.compile(r'[^,"+\-\s\\](?:[^,"\\]*[^,"\s\\])?')


class _Named(Wrapping[WholeNumber | WholeInText]):
    """A reading of a whole number, which is stored by a storage of its own."""

    def __init__(self, number: WholeNumber | WholeInText, names: Mapping[int, str]) -> None:
        super().__init__(number)
        self.dtype = number.dtype
        clear = {value: name.strip() for value, name in names.items()}
        while unclear := self._unclear_ones(clear):
            clear |= {value: f"{clear[value]} ({value})".strip() for value in unclear}
        self.names = clear
        self.numbers = {name: value for value, name in self.names.items()}
        self._by_name = {name.casefold(): value for name, value in self.numbers.items()}

    def _unclear_ones(self, names: dict[int, str]) -> list[int]:
        """The values whose names do not lead back to them."""
        times = Counter(name.casefold() for name in names.values())
        return [value for value, name in names.items() if not name or times[name.casefold()] > 1 or self._unclear(name)]

    @abstractmethod
    def _unclear(self, name: str) -> bool:
        """Whether a name could be read as something else than a name."""

    def whole(self, raw: bytes) -> int:
        return self.number.decode(raw)

    def column(self, data: Array, at: Array) -> tuple[Array, Array]:
        """The numbers, not the names."""
        if isinstance(self.number, WholeInText):
            raise TypeError("the values of a text are not a column")
        found = self.number.column(data, at)
        if found is None:
            raise TypeError(f"the values of {self.number.name} are not a column")
        return found


class Choice(_Named):
    """A whole number with a name for each value it takes. A value without a name stays a number."""

    @property
    def about(self) -> str:  # type: ignore[override]
        return f"choice of {len(self.names)} names in a {self.number.about}"

    def _unclear(self, name: str) -> bool:
        try:
            parse_whole(name)
        except ValueRefused:
            return False
        return True

    def decode(self, raw: bytes) -> str | int:
        value = self.number.decode(raw)
        return self.names.get(value, value)

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        if isinstance(value, str):
            value = self._number_of(value)
        return self.number.encode(value, old)

    def neutral(self, size: int | None) -> bytes:
        """The first of the names that have one."""
        return self.number.encode(min(self.names, default=0))

    def from_text(self, text: str, old: Value = None) -> str | int:
        value = self._number_of(text)
        self.number.encode(value)
        return self.names.get(value, value)

    def _number_of(self, text: str) -> int:
        known = self._by_name.get(text.strip().casefold())
        if known is not None:
            return known
        try:
            return parse_whole(text)
        except ValueRefused:
            hint = did_you_mean(text, self.numbers) or f"choose one of {', '.join(list(self.numbers)[:12])}"
            raise ValueRefused(f"“{text[:40]}” is not a name in this list", hint) from None


class Switches(_Named):
    """A whole number whose bits are switches. The value is the names of those that are on; others are `bit 9`."""

    @property
    def count(self) -> int:
        """How many bits there are to switch."""
        return self.number.digits

    @property
    def about(self) -> str:  # type: ignore[override]
        count = "1 switch" if len(self.names) == 1 else f"{len(self.names)} switches"
        return f"{count} in a {self.number.about}"

    def _unclear(self, name: str) -> bool:
        return name.casefold() == "none" or BIT.fullmatch(name) is not None

    def decode(self, raw: bytes) -> tuple[str, ...]:
        value = self.number.decode(raw)
        return tuple(self.names.get(bit, f"bit {bit}") for bit in range(self.count) if value >> bit & 1)

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        if not isinstance(value, tuple | list):
            raise ValueRefused(f"{value!r} is not a list of switches", "name the switches that are on")
        number = sum({1 << self._bit(name) for name in value})
        return self.number.encode(number if number <= self.number.most else number - (1 << self.count), old)

    def to_text(self, value: Value) -> str:
        return ", ".join(map(_spelled, value)) if isinstance(value, tuple | list) else str(value)

    def from_text(self, text: str, old: Value = None) -> tuple[str, ...]:
        """`burn, tired` sets exactly these; `+burn -tired` turns on and off and leaves the rest; `none` clears all.

        A name with a comma or a sign in it is put into quotation marks.
        """
        words = list(self._words(text))
        signed = [sign for sign, _ in words if sign]
        if signed and len(signed) != len(words):
            raise ValueRefused(f"“{text[:60]}” mixes names with + or - and names without", "use one way")
        on = {self._bit(name) for name in old} if signed and isinstance(old, tuple) else set()
        for sign, name in words:
            bit = self._bit(name)
            on = on - {bit} if sign == "-" else on | {bit}
        return tuple(self.names.get(bit, f"bit {bit}") for bit in sorted(on))

    def _words(self, text: str) -> list[tuple[str, str]]:
        """The switches that are named, each with its sign or none."""
        found: list[tuple[str, str]] = []
        at = 0
        while at < len(text):
            match = WORD.match(text, at)
            if match is None or match.end() == at:
                raise ValueRefused(f"“{text[:60]}” cannot be read as switches", "write names with commas between them")
            sign, quoted, plain = match.groups()
            name = re.sub(r"\\(.)", r"\1", quoted) if quoted is not None else (plain or "").strip()
            if quoted is not None or name.casefold() not in ("", "none"):
                found.append((sign, name))
            at = match.end()
        return found

    def _bit(self, name: str) -> int:
        known = self._by_name.get(name.casefold())
        if known is not None and known < self.count:
            return known
        if BIT.fullmatch(name) and len(name) < 12 and int(name[4:]) < self.count:
            return int(name[4:])
        hint = did_you_mean(name, self.numbers) or f"the switches are {', '.join(list(self.numbers)[:12])}"
        raise ValueRefused(f"“{name[:40]}” is not a switch here", hint)


def _spelled(name: str) -> str:
    """A switch's name as it is typed: in quotation marks where it would not be read as one name."""
    if PLAIN.fullmatch(name) and not re.search(r"\s[+-]", name):
        return name
    return '"' + re.sub(r'(["\\])', r"\\\1", name) + '"'
