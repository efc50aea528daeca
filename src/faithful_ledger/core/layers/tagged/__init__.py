"""Formats whose values say themselves what they are, as layers: inside is one JSON text with all of them."""

from __future__ import annotations

from functools import lru_cache

from faithful_ledger.core.edits import Cause, Replacement
from faithful_ledger.core.errors import AddressError
from faithful_ledger.core.layers.tagged.cbor import Cbor
from faithful_ledger.core.layers.tagged.msgpack import MessagePack
from faithful_ledger.core.layers.tagged.nrbf import NetObjects
from faithful_ledger.core.layers.tagged.pickles import Pickle
from faithful_ledger.core.layers.tagged.protobuf import Protobuf
from faithful_ledger.core.layers.tagged.ruby_marshal import RubyMarshal
from faithful_ledger.core.layers.tagged.tree import Codec, Malformed, Node, changes, text_of

__all__ = ["TAGGED", "json_of_tagged", "tagged_changes", "tagged_kind", "why_not_tagged"]

DAMAGED = "nothing was changed; it may be damaged, and an earlier copy be whole"

TAGGED: dict[str, Codec] = {
    codec.name: codec for codec in (RubyMarshal(), NetObjects(), Pickle(), MessagePack(), Cbor(), Protobuf())
}
LARGEST, KEPT = 16 << 20, 1 << 20  # bytes; and those of a payload whose values are kept for a while


def tagged_kind(data: bytes) -> str | None:
    """The format of which all of the bytes are one value that is hardly chance."""
    for name, codec in TAGGED.items():
        if len(data) <= LARGEST and codec.may_be(data):
            try:
                root = _parsed(data, name)
            except AddressError:
                continue
            if codec.is_telling(root):
                return name
    return None


def why_not_tagged(data: bytes) -> AddressError | None:
    """What is wrong with bytes that begin like one of the formats with a mark and are none; None for others."""
    for name, codec in TAGGED.items():
        if codec.has_mark and codec.may_be(data):
            try:
                _parsed(data, name)
            except AddressError as error:
                return AddressError(f"it begins like {name}, but {error.what.partition(': ')[2]}", DAMAGED)
    return None


def json_of_tagged(data: bytes, kind: str) -> bytes:
    """Raises AddressError where the bytes are not of the format."""
    return text_of(_parsed(data, kind))


def tagged_changes(data: bytes, kind: str, text: bytes, cause: Cause) -> list[Replacement]:
    """What differs where a changed JSON text is put back.

    Raises:
        ValueRefused: a value cannot be stored so.
    """
    return changes(TAGGED[kind], data, _parsed(data, kind), text, cause)


def _parsed(data: bytes, kind: str) -> Node:
    return _lately_parsed(data, kind) if len(data) <= KEPT else _read(data, kind)


def _read(data: bytes, kind: str) -> Node:
    try:
        return TAGGED[kind].parse(data)
    except (Malformed, ValueError, OverflowError, RecursionError) as error:
        raise AddressError(f"it is not {kind}: {error}", "see Profile for what the file holds") from error


_lately_parsed = lru_cache(maxsize=8)(_read)  # Profile, Locate and a posting ask for the same one after the other
