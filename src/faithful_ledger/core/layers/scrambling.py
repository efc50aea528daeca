"""Scrambling that hides bytes without packing them, each kind with the way there and back.

A key that repeats is XORed or added; a byte is XORed with, added to or taken from the one before it, as stored or as it
was plain; the position times a factor is XORed or added; the numbers of a generator are XORed (generators.py), or the
keys that records have of their own (record_keys.py); bits are rotated or put in reverse order. Kinds are layers:
several of them, one in the other, undo what a game did at once.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any, NamedTuple, TypeAlias

from faithful_ledger.core.bit_order import mirrored_bytes
from faithful_ledger.core.layers.generators import Generator, under_generator
from faithful_ledger.core.layers.record_keys import RecordKeys, under_record_keys

if TYPE_CHECKING:
    import numpy as np

    Array: TypeAlias = np.ndarray[Any, Any]
    Change: TypeAlias = Callable[[Array, bytes], Array]

__all__ = [
    "GENERATED",
    "KEYED",
    "LOCAL",
    "OF_RECORDS",
    "SCRAMBLINGS",
    "Scrambling",
    "hidden_parts",
    "in_words",
    "scramble",
    "unscramble",
    "wrong_key",
]


class Scrambling(NamedTuple):
    """`key` is empty for kinds that have none. `share` is how many bytes are zero after it is undone, from 0 to 1."""

    kind: str
    key: bytes
    share: float


class _Kind(NamedTuple):
    """`local` if a byte depends on no other one."""

    undo: Change
    redo: Change
    local: bool
    keyed: bool
    words: str


def _repeated(data: Array, key: bytes) -> Array:
    import numpy as np

    return np.tile(np.frombuffer(key, np.uint8), -(-data.size // len(key)))[: data.size]


def _positions(data: Array, key: bytes) -> Array:
    import numpy as np

    return (np.arange(data.size, dtype=np.uint32) * key[0]).astype(np.uint8)


def _rotated(data: Array, bits: int) -> Array:
    turned: Array = data << (bits & 7) | data >> (-bits & 7) if bits & 7 else data.copy()
    return turned


def _before(data: Array) -> Array:
    shifted = data.copy()
    shifted[1:], shifted[:1] = data[:-1], 0
    return shifted


def _alternating(data: Array) -> Array:
    """p[i] = s[i] - p[i-1], modulo 256: sums of the bytes with alternating signs."""
    signed = data.copy()
    signed[1::2] = -signed[1::2]
    summed: Array = signed.cumsum(dtype="uint8")
    summed[1::2] = -summed[1::2]
    return summed


def _summed(data: Array, _: bytes) -> Array:
    summed: Array = data.cumsum(dtype="uint8")
    return summed


def _chained(data: Array, _: bytes) -> Array:
    import numpy as np

    chained: Array = np.bitwise_xor.accumulate(data)
    return chained


def _reversed_bits(data: Array, _: bytes) -> Array:
    import numpy as np

    return np.frombuffer(mirrored_bytes(data.tobytes()), np.uint8)


_KINDS: dict[str, _Kind] = {
    "add": _Kind(lambda d, k: d - _repeated(d, k), lambda d, k: d + _repeated(d, k), True, True, "{key} added"),
    "add-plain-previous": _Kind(
        lambda d, _: _alternating(d), lambda d, _: d + _before(d), False, False, "the plain byte before added"
    ),
    "add-position": _Kind(
        lambda d, k: d - _positions(d, k), lambda d, k: d + _positions(d, k), True, True, "position × {key} added"
    ),
    "add-previous": _Kind(lambda d, _: d - _before(d), _summed, False, False, "the byte before added"),
    "rotate": _Kind(
        lambda d, k: _rotated(d, -k[0]), lambda d, k: _rotated(d, k[0]), True, True, "bits rotated left by {key}"
    ),
    "subtract-plain-previous": _Kind(
        _summed, lambda d, _: d - _before(d), False, False, "the plain byte before subtracted"
    ),
    "subtract-previous": _Kind(
        lambda d, _: d + _before(d), lambda d, _: _alternating(d), False, False, "the byte before subtracted"
    ),
    "swap-bits": _Kind(_reversed_bits, _reversed_bits, True, False, "bits in reverse order"),
    "xor": _Kind(lambda d, k: d ^ _repeated(d, k), lambda d, k: d ^ _repeated(d, k), True, True, "XOR with {key}"),
    "xor-generator": _Kind(under_generator, under_generator, False, True, ""),
    "xor-plain-previous": _Kind(_chained, lambda d, _: d ^ _before(d), False, False, "XOR with the plain byte before"),
    "xor-position": _Kind(
        lambda d, k: d ^ _positions(d, k), lambda d, k: d ^ _positions(d, k), True, True, "XOR with position × {key}"
    ),
    "xor-previous": _Kind(lambda d, _: d ^ _before(d), _chained, False, False, "XOR with the byte before"),
    "xor-records": _Kind(under_record_keys, under_record_keys, False, True, ""),
}
GENERATED, OF_RECORDS = "xor-generator", "xor-records"
SAID_BY_KEY: dict[str, type[Generator] | type[RecordKeys]] = {GENERATED: Generator, OF_RECORDS: RecordKeys}
OF_ONE_BYTE = ("rotate", "xor-position", "add-position")
SCRAMBLINGS = tuple(_KINDS)
KEYED = tuple(name for name, kind in _KINDS.items() if kind.keyed)
LOCAL = tuple(name for name, kind in _KINDS.items() if kind.local)


def unscramble(data: bytes, found: Scrambling) -> bytes:
    """The bytes as they were before."""
    return _changed(data, _KINDS[found.kind].undo, found.key)


def scramble(data: bytes, found: Scrambling) -> bytes:
    """The bytes hidden again, as `unscramble` found them."""
    return _changed(data, _KINDS[found.kind].redo, found.key)


def hidden_parts(data: bytes, found: Scrambling) -> bytes:
    """Of bytes with records that have keys of their own, those that are hidden."""
    import numpy as np

    known = RecordKeys.of(found.key)
    return known.rows(np.frombuffer(data, np.uint8))[:, known.first : known.end].tobytes()


def wrong_key(kind: str, key: bytes) -> str:
    """What is wrong with a key; empty where nothing is."""
    if kind in SAID_BY_KEY:
        try:
            SAID_BY_KEY[kind].of(key)
        except ValueError as error:
            return str(error)
    if kind in OF_ONE_BYTE and len(key) != 1:
        return f"the key of {kind} is one byte, not {len(key)}"
    return "" if key else f"the key of {kind} is empty"


def _changed(data: bytes, change: Change, key: bytes) -> bytes:
    import numpy as np

    return change(np.frombuffer(data, np.uint8), key).tobytes()


def in_words(kind: str, key: bytes | None) -> str:
    """What was done, as screens say it."""
    if kind in SAID_BY_KEY:
        return SAID_BY_KEY[kind].of(key or b"").words
    return _KINDS[kind].words.format(key=(key or b"").hex(" ").upper())
