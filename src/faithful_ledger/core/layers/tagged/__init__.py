"""Formats whose values say themselves what they are, as layers: inside is one JSON text with all of them."""

from __future__ import annotations

import struct
from functools import lru_cache

from faithful_ledger.core.edits import Cause, Replacement
from faithful_ledger.core.errors import AddressError
from faithful_ledger.core.layers.tagged.amf import SharedObject
from faithful_ledger.core.layers.tagged.bplist import BinaryPropertyList
from faithful_ledger.core.layers.tagged.bson import Bson
from faithful_ledger.core.layers.tagged.cbor import Cbor
from faithful_ledger.core.layers.tagged.gvas import NamedProperties
from faithful_ledger.core.layers.tagged.java_objects import JavaObjects
from faithful_ledger.core.layers.tagged.keyed_archive import KeyedArchive
from faithful_ledger.core.layers.tagged.msgpack import MessagePack
from faithful_ledger.core.layers.tagged.nbt import NamedTags
from faithful_ledger.core.layers.tagged.nrbf import NetObjects
from faithful_ledger.core.layers.tagged.numbered_chunks import NumberedChunks
from faithful_ledger.core.layers.tagged.php_values import PhpValues
from faithful_ledger.core.layers.tagged.pickles import Pickle
from faithful_ledger.core.layers.tagged.protobuf import Protobuf
from faithful_ledger.core.layers.tagged.registry_export import RegistryExport
from faithful_ledger.core.layers.tagged.ruby_marshal import RubyMarshal
from faithful_ledger.core.layers.tagged.tree import LONGEST_MARK, Codec, Cursor, Malformed, Node, changes, text_of
from faithful_ledger.core.storage.leb128 import Leb128

__all__ = ["TAGGED", "json_of_tagged", "tagged_changes", "tagged_kind", "tagged_span", "why_not_tagged"]

DAMAGED = "nothing was changed; it may be damaged, and an earlier copy be whole"

TAGGED: dict[str, Codec] = {
    codec.name: codec
    for codec in (
        RegistryExport(),
        RubyMarshal(),
        NetObjects(),
        Pickle(),
        JavaObjects(),
        KeyedArchive(),
        BinaryPropertyList(),
        NamedProperties(),
        SharedObject(),
        PhpValues(),
        Bson(),
        NamedTags("big"),
        NamedTags("little"),
        MessagePack(),
        Cbor(),
        NumberedChunks("numbered-chunks", Leb128("vlq")),
        NumberedChunks("numbered-chunks-le", Leb128("uleb128")),
        Protobuf(),
    )
}
UNREADABLE = (Malformed, ValueError, IndexError, OverflowError, RecursionError, struct.error)
LARGEST, KEPT = 16 << 20, 1 << 20  # bytes; and those of a payload whose values are kept for a while


def tagged_kind(data: bytes) -> str | None:
    """The format of which all of the bytes are one value that is hardly chance."""
    return _kept_kind(data) if len(data) <= KEPT else _kind(data)


@lru_cache(maxsize=16)  # also of what is of no format, which is asked several times of each payload
def _kept_kind(data: bytes) -> str | None:
    return _kind(data)


def _kind(data: bytes) -> str | None:
    for name, codec in TAGGED.items():
        if len(data) <= LARGEST and codec.may_be(data):
            try:
                root = _parsed(data, name)
            except AddressError:
                continue
            if codec.is_telling(root):
                return name
    return None


@lru_cache(maxsize=16)  # payloads of at most 1 MiB, by `enclosed_span`, which is asked several times of each
def tagged_span(data: bytes, latest: int) -> tuple[int, int] | None:
    """Where a value that is hardly chance begins, at an offset up to `latest`, and where it ends by what it says
    itself; None where there is none. Of several that end behind one another the first that has parts of its own.
    """
    only: tuple[int, int] | None = None
    for at in range(min(latest, len(data) - 1) + 1):
        head = data[at : at + LONGEST_MARK]
        for codec in (each for each in TAGGED.values() if each.may_be(head)):
            cursor = Cursor(data, at)
            try:
                root = codec.value_at(cursor)
                while codec.has_mark and codec.may_be(data[cursor.at : cursor.at + LONGEST_MARK]):
                    codec.value_at(cursor)
            except UNREADABLE:
                continue
            if codec.is_telling(root):
                if len(root.parts) > 1 or codec.has_mark:
                    return at, cursor.at
                only = only or (at, cursor.at)  # the byte in front may by chance be one that makes it a list of one
    return only


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
    except UNREADABLE as error:
        raise AddressError(f"it is not {kind}: {error}", "see Profile for what the file holds") from error


_lately_parsed = lru_cache(maxsize=8)(_read)  # Profile, Locate and a posting ask for the same one after the other
