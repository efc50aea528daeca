"""Bytes in another order or among others, as a layer: the bytes of every word of 2, 4 or 8 the other way round, or all
of them; only every second byte, as a memory of eight bits on a bus of sixteen gives them; or each as a letter.
"""

from __future__ import annotations

from faithful_ledger.core.errors import AddressError

__all__ = ["ARRANGEMENTS", "BYTE_LETTERS", "HALVES", "REVERSED", "SWAPPINGS", "arranged", "rearranged", "swapped"]

SWAPPINGS = {"swap-bytes-2": 2, "swap-bytes-4": 4, "swap-bytes-8": 8}
HALVES = {"even-bytes": 0, "odd-bytes": 1}
REVERSED = "reversed"
BYTE_LETTERS = "byte-letters"  # of U+0000 to U+00FF
ARRANGEMENTS = (*SWAPPINGS, *HALVES, REVERSED, BYTE_LETTERS)
MARK = "\ufeff".encode()


def arranged(data: bytes, kind: str) -> bytes:
    """The payload of what is stored.

    Raises:
        AddressError: a letter is not a byte, or it is not a text.
    """
    if kind == BYTE_LETTERS:
        try:
            return data.removeprefix(MARK).decode("utf-8").encode("latin-1")
        except UnicodeError as error:
            raise AddressError(f"it is not a text of bytes ({error})", "another template may fit") from error
    if kind == REVERSED:
        return data[::-1]
    return swapped(data, kind) if kind in SWAPPINGS else data[HALVES[kind] :: 2]


def rearranged(content: bytes, kind: str, old: bytes) -> bytes:
    """How a payload is stored. The bytes between stay as in the `old` ones, or say the same as the payload where they
    did; more of them are like the last.
    """
    if kind == BYTE_LETTERS:
        return (MARK if old.startswith(MARK) else b"") + content.decode("latin-1").encode("utf-8")
    if kind == REVERSED:
        return content[::-1]
    if kind in SWAPPINGS:
        return swapped(content, kind)
    own = HALVES[kind]
    before, between = old[own::2], old[1 - own :: 2]
    size = len(between) + len(content) - len(before)
    if len(between) > 1 and between == before[: len(between)]:
        between = content[:size]
    else:
        between = between[:size] + between[-1:] * (size - len(between))
    out = bytearray(len(content) + size)
    out[own::2], out[1 - own :: 2] = content, between
    return bytes(out)


def swapped(data: bytes, kind: str) -> bytes:
    """The same with the bytes of every word turned round; what is left at the end stays. It undoes itself."""
    size = SWAPPINGS[kind]
    whole = len(data) // size * size
    turned = bytearray(data)
    for place in range(size):
        turned[place:whole:size] = data[size - 1 - place : whole : size]
    return bytes(turned)
