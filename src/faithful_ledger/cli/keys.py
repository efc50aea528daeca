"""Keys as people give them: a file, bytes in hexadecimal, or the words of a password."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from faithful_ledger.core.errors import AddressError
from faithful_ledger.core.source import open_source

if TYPE_CHECKING:
    from faithful_ledger.core.unlocking import Keys

__all__ = ["key_bytes", "keys_given"]

LONGEST_KEY = 1 << 16


def keys_given(options: argparse.Namespace) -> Keys:
    """What the options say of how something is hidden."""
    from faithful_ledger.core.unlocking import NO_KEYS, Keys

    if not options.key:
        for name, given in (("a salt", options.salt), ("an initial vector", options.iv)):
            if given:
                raise AddressError(f"{name} says nothing without its key", "give the key or password with --key")
        return NO_KEYS
    secret = _of_file(options.key)
    salt, vector = ((given or "").encode() for given in (options.salt, options.iv))
    return Keys((), options.key.encode() if secret is None else secret, salt, vector)


def key_bytes(given: str) -> bytes:
    """The bytes of a file, or what is given in hexadecimal."""
    known = _of_file(given)
    if known is not None:
        return known
    try:
        return bytes.fromhex(given.removeprefix("0x"))
    except ValueError as error:
        what = f"“{given}” is neither a file nor a key in hexadecimal"
        raise AddressError(what, "write it as 0A FF 00") from error


def _of_file(given: str) -> bytes | None:
    """The bytes of a file; None where there is none of that name."""
    path = Path(given)
    if not path.is_file():
        return None
    source, _ = open_source(path)
    if source.size > LONGEST_KEY:
        raise AddressError(f"{path} is too large for a key", "name a smaller file, or the key itself")
    return bytes(source.read(0, source.size))
