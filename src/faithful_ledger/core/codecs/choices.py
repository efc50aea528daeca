"""Numbers that stand for names (a choice), and numbers that are rows of switches."""

from __future__ import annotations

from collections.abc import Mapping

from faithful_ledger.core.codecs.base import Value
from faithful_ledger.core.codecs.numbers import IntegerCodec, parse_whole
from faithful_ledger.core.errors import ValueRefused
from faithful_ledger.core.source import Source
from faithful_ledger.core.suggest import did_you_mean

__all__ = ["ChoiceCodec", "SwitchesCodec"]


class _Wrapped:
    """A reading of a whole number; the number's own codec does the bytes."""

    def __init__(self, number: IntegerCodec, names: Mapping[int, str]) -> None:
        self.number, self.names = number, dict(names)
        self.numbers = {name: value for value, name in self.names.items()}
        self.name, self.size = number.name, number.size

    def extent(self, source: Source, at: int, limit: int) -> int:
        return self.number.extent(source, at, limit)


class ChoiceCodec(_Wrapped):
    """A whole number with a name for each value it takes. A value without a name stays a number."""

    @property
    def about(self) -> str:
        return f"choice of {len(self.names)} names in a {self.number.about}"

    def decode(self, raw: bytes) -> str | int:
        value = self.number.decode(raw)
        return self.names.get(value, value)

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        if isinstance(value, str):
            value = self._number_of(value)
        return self.number.encode(value)

    def to_text(self, value: Value) -> str:
        return str(value)

    def from_text(self, text: str, old: Value = None) -> str | int:
        value = self._number_of(text)
        self.number.encode(value)
        return self.names.get(value, value)

    def _number_of(self, text: str) -> int:
        by_name = {name.casefold(): value for name, value in self.numbers.items()}
        if text.strip().casefold() in by_name:
            return by_name[text.strip().casefold()]
        try:
            return parse_whole(text)
        except ValueRefused:
            hint = did_you_mean(text, self.numbers) or f"choose one of {', '.join(list(self.numbers)[:12])}"
            raise ValueRefused(f"“{text[:40]}” is no name in this list", hint) from None


class SwitchesCodec(_Wrapped):
    """A whole number whose bits are switches. The value is the names of those that are on; others are `bit 9`."""

    @property
    def about(self) -> str:
        count = "1 switch" if len(self.names) == 1 else f"{len(self.names)} switches"
        return f"{count} in a {self.number.about}"

    def decode(self, raw: bytes) -> tuple[str, ...]:
        value = int.from_bytes(raw, self.number.order)
        return tuple(self.names.get(bit, f"bit {bit}") for bit in range(self.size * 8) if value >> bit & 1)

    def encode(self, value: Value, old: bytes = b"") -> bytes:
        if not isinstance(value, tuple | list):
            raise ValueRefused(f"{value!r} is no list of switches", "name the switches that are on")
        return sum({1 << self._bit(name) for name in value}).to_bytes(self.size, self.number.order)

    def to_text(self, value: Value) -> str:
        return ", ".join(value) if isinstance(value, tuple | list) else str(value)

    def from_text(self, text: str, old: Value = None) -> tuple[str, ...]:
        """`burn, tired` sets exactly these; `+burn -tired` turns on and off and leaves the rest; `none` clears all."""
        words = [word.strip() for word in text.replace("+", ",+").replace(",-", ", -").replace(" -", ",-").split(",")]
        words = [word for word in words if word and word.casefold() != "none"]
        relative = [word for word in words if word[0] in "+-"]
        if relative and len(relative) != len(words):
            raise ValueRefused(f"“{text[:60]}” mixes names with + or - and names without", "use one way")
        on = {self._bit(name) for name in old} if relative and isinstance(old, tuple) else set()
        for word in words:
            bit = self._bit(word.lstrip("+-").strip())
            on = on - {bit} if word[0] == "-" else on | {bit}
        return tuple(self.names.get(bit, f"bit {bit}") for bit in sorted(on))

    def _bit(self, name: str) -> int:
        by_name = {known.casefold(): bit for bit, known in self.names.items()}
        by_name.update({f"bit {bit}": bit for bit in range(self.size * 8)})
        if name.casefold() not in by_name:
            hint = did_you_mean(name, self.numbers) or f"the switches are {', '.join(self.numbers)}"
            raise ValueRefused(f"“{name[:40]}” is no switch here", hint)
        return by_name[name.casefold()]
