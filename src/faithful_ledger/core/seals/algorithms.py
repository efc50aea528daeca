"""Checksum algorithms by name, with what a game may have changed about them.

A checksum is a whole number; a digest is its bytes read as one, the first byte highest, so that a field that is shorter
holds the first bytes of a digest and the lowest bits of a checksum.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import cached_property
from itertools import chain
from types import MappingProxyType
from typing import Literal

from faithful_ledger.core.seals.crc import CATALOGUE, Crc
from faithful_ledger.core.seals.hashes import DIGESTS, HASHES, Hash, digest, multiplied
from faithful_ledger.core.seals.sums import SUMS, Sum

__all__ = ["ALGORITHMS", "COPY", "CRC", "KEYED", "LENGTH", "TIMES", "Algorithm", "algorithm", "own_bytes"]

LENGTH = "length"  # no checksum, but stored and renewed as one: how many bytes there are
COPY = "copy"  # nor this: the same bytes again, as many as it is stored in
CRC = "crc"  # the name under which a CRC has its parameters with it
TIMES = "times"  # that of a hash that multiplies, with its multiplier
KEYED = "hmac-"
SECRETS = ("key", "salt_before", "salt_behind")
INVERTED = bytes(range(255, -1, -1))
DIGEST_BITS = {name: 8 * len(digest(name, ())) for name in DIGESTS}


@dataclass(frozen=True)
class Algorithm:
    """One algorithm. `start` is None for the usual one; `changed` is what is done to the result; `key` is an HMAC's;
    `unit` is how many bytes count as one for a length, and `multiplier` what `times` multiplies by; the salts are bytes
    that are hashed in front of the covered ones and behind them.
    """

    name: str
    start: int | None = None
    changed: Literal["", "negated", "inverted"] = ""
    crc: Crc | None = None
    key: bytes = b""
    unit: int = 1
    multiplier: int = 0
    salt_before: bytes = b""
    salt_behind: bytes = b""

    @cached_property
    def bits(self) -> int:
        """How wide its result is."""
        if self._crc is not None:
            return self._crc.width
        if self.is_digest:
            return DIGEST_BITS[self.name.removeprefix(KEYED)]
        if self.name in (LENGTH, COPY):
            return 64
        return self._known.bits

    @property
    def is_digest(self) -> bool:
        """Whether its result is bytes in an order of their own."""
        return self.name.removeprefix(KEYED) in DIGESTS

    @cached_property
    def _crc(self) -> Crc | None:
        if self.crc is not None or self.name not in CATALOGUE:
            return self.crc
        found = CATALOGUE[self.name][0]
        return found if self.start is None else found._replace(start=self.start)

    @property
    def word(self) -> int:
        """How many bytes it takes at once, so that what it covers is a multiple of that in every save of a game."""
        return SUMS[self.name].word if self.name in SUMS else self.unit

    def cut(self, number: int, size: int) -> int:
        """What of a result goes into so many bytes: the first ones of a digest, the lowest bits of a number."""
        if self.is_digest:
            return number >> max(self.bits - 8 * size, 0)
        return number & (1 << 8 * size) - 1

    @property
    def is_salted(self) -> bool:
        return bool(self.salt_before or self.salt_behind)

    @property
    def parameters(self) -> dict[str, int | bool | str]:
        """What a template says beside its name; those of a CRC one by one, and bytes in hexadecimal."""
        found: dict[str, int | bool | str] = {}
        if self.crc is not None:
            found |= {key: value for key, value in self.crc._asdict().items() if value or key == "width"}
        if self.start is not None:
            found["start"] = self.start
        if self.unit > 1:
            found["unit"] = self.unit
        if self.multiplier:
            found["multiplier"] = self.multiplier
        if self.changed:
            found["changed"] = self.changed
        for name in SECRETS:
            if data := getattr(self, name):
                found[name] = data.hex(" ").upper()
        return found

    @property
    def in_words(self) -> str:
        """Its name and its parameters, but for bytes that a game keeps to itself."""
        if self.name == LENGTH:
            what = f"count of records of {self.unit} bytes" if self.unit > 1 else LENGTH
            return f"{what}, and {self.start} more" if self.start else what
        salts = ("the key in front", self.salt_before), ("the key behind", self.salt_behind)
        return ", ".join([self.name, *self._said(False), *(words for words, salt in salts if salt)])

    @property
    def in_full(self) -> str:
        """Its name and all of its parameters, so that another program can compute it."""
        return self.in_words if self.name == LENGTH else ", ".join([self.name, *self._said(True)])

    def _said(self, all_of_them: bool) -> list[str]:
        known = {key: value for key, value in self.parameters.items() if all_of_them or key not in SECRETS}
        named = {key: key.replace("_", " ") for key in SECRETS}
        return [
            f"{key} {value:#x}" if type(value) is int else key if value is True
            else f"{named[key]} {value}" if key in named else str(value)
            for key, value in known.items()
        ]  # fmt: skip

    def __call__(self, chunks: Iterable[memoryview]) -> int:
        if self.is_salted:
            chunks = chain((memoryview(self.salt_before),), chunks, (memoryview(self.salt_behind),))
        if self.name == COPY:
            whole = b"".join(chunks)
            return int.from_bytes(whole.translate(INVERTED) if self.changed == "inverted" else whole, "big")
        number = self._plain(chunks)
        mask = (1 << self.bits) - 1
        return -number & mask if self.changed == "negated" else ~number & mask if self.changed else number

    def _plain(self, chunks: Iterable[memoryview]) -> int:
        if self._crc is not None:
            return self._crc(chunks)
        if self.is_digest:
            return int.from_bytes(digest(self.name.removeprefix(KEYED), chunks, self.key), "big")
        if self.name == LENGTH:
            return sum(map(len, chunks)) // self.unit + (self.start or 0)
        known = self._known
        return known.compute(chunks, known.start if self.start is None else self.start)

    @property
    def _known(self) -> Sum | Hash:
        if self.name == TIMES:
            return multiplied(self.multiplier)
        return SUMS[self.name] if self.name in SUMS else HASHES[self.name]


ALGORITHMS: Mapping[str, Algorithm] = MappingProxyType(
    {name: Algorithm(name) for name in (*SUMS, *CATALOGUE, *HASHES, *DIGESTS)}
)
"""Every algorithm that needs nothing but its name; `crc` and `times` with parameters and `hmac-…` with a key are
besides.
"""


def own_bytes(own: str, size: int) -> bytes:
    """What a seal sees in place of its own bytes: zeros, nothing where they are left out, or what fills them."""
    if own == "left out":
        return b""
    fill = bytes.fromhex("00" if own == "zeros" else own)
    return (fill * size)[:size]


def algorithm(name: str) -> Algorithm | None:
    """The algorithm of a name, or None."""
    if name.startswith(KEYED) and name.removeprefix(KEYED) in DIGESTS:
        return Algorithm(name)
    return Algorithm(name) if name in (LENGTH, COPY, TIMES) else ALGORITHMS.get(name)
