"""Bytes XORed with the numbers of a linear congruential generator (Lehmer, 1949) that is seeded from the bytes
themselves: x becomes (multiplier × x + increment) modulo 2³² or another number.

The n-th number is a linear function of the seed, so all of them are computed together, by doubling.
"""

from __future__ import annotations

import struct
from functools import lru_cache
from typing import TYPE_CHECKING, Any, NamedTuple, TypeAlias

if TYPE_CHECKING:
    import numpy as np

    Array: TypeAlias = np.ndarray[Any, Any]

__all__ = ["GENERATORS", "KEY_SIZES", "Generator", "under_generator"]

_KEY = struct.Struct(">IIIBBBBBBB")
KEY_SIZES = (_KEY.size - 1, _KEY.size)  # without the last byte the seed has four bytes
BLOCK = 1 << 15  # numbers computed at once
# Multiplier, increment and modulus (0 is 2³²), as the C standard prints them and common run-time libraries have them.
GENERATORS = (
    (1_103_515_245, 12_345, 0),
    (1_103_515_245, 12_345, 1 << 31),
    (1_103_515_245, 24_691, 0),
    (214_013, 2_531_011, 0),
    (1_664_525, 1_013_904_223, 0),
    (22_695_477, 1, 0),
    (69_069, 1, 0),
    (134_775_813, 1, 0),
    (16_807, 0, (1 << 31) - 1),
    (48_271, 0, (1 << 31) - 1),
)


class Generator(NamedTuple):
    """`modulus` 0 is 2³². Of each number, shifted right by `shift` bits, `taken` bytes are used, the lowest first.
    The seed is a number of `seed_size` bytes at `seed_at`; what is in front of `first` stays as it is. With `early` the
    seed itself is the first number used.
    """

    multiplier: int
    increment: int
    modulus: int = 0
    shift: int = 16
    taken: int = 1
    seed_at: int = 0
    big_endian: bool = False
    first: int = 4
    early: bool = False
    seed_size: int = 4

    @property
    def key(self) -> bytes:
        """As templates write it: multiplier, increment and modulus in four bytes each, then the others in one each."""
        return _KEY.pack(*self)

    @classmethod
    def of(cls, key: bytes) -> Generator:
        """Raises ValueError where a key has another size, or says what cannot be."""
        if len(key) not in KEY_SIZES:
            raise ValueError(f"a generator's key has {' or '.join(map(str, KEY_SIZES))} bytes, not {len(key)}")
        found = cls(*_KEY.unpack(key.ljust(_KEY.size, b"\4")))
        if not 1 <= found.seed_size <= 4 or found.first < found.seed_at + found.seed_size:
            raise ValueError("a generator's seed has 1 to 4 bytes, in front of the first byte it hides")
        if not 1 <= found.taken <= 4 or found.shift > 24:
            raise ValueError("a generator gives 1 to 4 bytes of a number, shifted by at most 24 bits")
        return found._replace(big_endian=bool(found.big_endian), early=bool(found.early))

    @property
    def words(self) -> str:
        return (
            f"XOR with the generator × {self.multiplier} + {self.increment}, seeded at offset {self.seed_at}, "
            f"from offset {self.first} on"
        )

    def numbers(self, seed: int, count: int) -> Array:
        """The first `count` numbers it gives, as unsigned 32-bit ones."""
        import numpy as np

        factors, terms = _steps(self.multiplier, self.increment, self.modulus)
        found = np.empty(count, np.uint32)
        now = np.uint64(seed) if self.early else self._next(np.uint64(seed))
        for start in range(0, count, BLOCK):
            part = _reduced(factors[: count - start] * now + terms[: count - start], self.modulus)
            found[start : start + BLOCK] = part
            now = self._next(part[-1])
        return found

    def _next(self, number: Any) -> Any:
        import numpy as np

        return _reduced(number * np.uint64(self.multiplier) + np.uint64(self.increment), self.modulus)

    def stream(self, head: bytes, size: int) -> Array:
        """`size` bytes to XOR with what begins at `first`; `head` holds the seed."""
        return self.portion(self.numbers(self.seed(head), -(-size // self.taken)))[:size]

    def seed(self, head: bytes) -> int:
        seed = head[self.seed_at : self.seed_at + self.seed_size]
        return int.from_bytes(seed, "big" if self.big_endian else "little")

    def portion(self, numbers: Array) -> Array:
        """The bytes that are used of its numbers."""
        taken: Array = (numbers >> self.shift).astype("<u4").view("u1").reshape(-1, 4)[:, : self.taken].ravel()
        return taken


def under_generator(data: Array, key: bytes) -> Array:
    """The same there and back."""
    generator = Generator.of(key)
    changed = data.copy()
    if data.size > generator.first:
        changed[generator.first :] ^= generator.stream(data[: generator.first].tobytes(), data.size - generator.first)
    return changed


def _reduced(numbers: Array, modulus: int) -> Array:
    import numpy as np

    reduced: Array = numbers % np.uint64(modulus or 1 << 32)
    return reduced


@lru_cache(maxsize=16)
def _steps(multiplier: int, increment: int, modulus: int) -> tuple[Array, Array]:
    """Factors and terms of 0, 1, 2 … steps: x after n steps is factor n × x + term n."""
    import numpy as np

    factors, terms = np.ones(BLOCK, np.uint64), np.zeros(BLOCK, np.uint64)
    a, c = np.uint64(multiplier), np.uint64(increment)
    done = 1
    while done < BLOCK:  # the next `done` steps are the first ones behind as many
        factor, term = _reduced(factors[done - 1] * a, modulus), _reduced(terms[done - 1] * a + c, modulus)
        factors[done : 2 * done] = _reduced(factors[:done] * factor, modulus)
        terms[done : 2 * done] = _reduced(factors[:done] * term + terms[:done], modulus)
        done *= 2
    return factors, terms
