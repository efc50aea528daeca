"""Zip (APPNOTE 6.3) and tar (POSIX.1-2001 pax, ustar) archives: their members as layers.

An archive is read by its own tables. When a member changes, its entry is written anew and what says where the others
are follows; the other members, their order, times, comments and extra fields stay byte for byte.
"""

from __future__ import annotations

import struct
import zlib
from collections.abc import Iterator, Sequence
from typing import Any, NamedTuple

from faithful_ledger.core.budget import unpacked_allowance
from faithful_ledger.core.edits import Cause, Patched, Replacement
from faithful_ledger.core.errors import AddressError, TooMuch, ValueRefused
from faithful_ledger.core.source import Source

__all__ = ["ARCHIVES", "Member", "archive_of", "finish_zip", "members_of", "repacked", "unpacked"]

ARCHIVES = ("zip", "tar")
LOCAL, CENTRAL, END = b"PK\x03\x04", b"PK\x01\x02", b"PK\x05\x06"
LOCAL_HEAD = struct.Struct("<4s5H3I2H")
CENTRAL_HEAD = struct.Struct("<4s6H3I5H2I")
END_HEAD = struct.Struct("<4s4H2IH")
STORED, DEFLATED = 0, 8
ENCRYPTED, DESCRIBED, UTF8 = 1, 8, 0x800
MOST_MEMBERS = 20_000
BLOCK = 512


class Member(NamedTuple):
    """A member: its name, where its packed content is, and for a zip where its two headers are."""

    kind: str
    name: str
    start: int
    end: int
    size: int
    method: int = STORED
    head: int = 0
    central: int = 0
    flags: int = 0


def archive_of(data: bytes) -> str:
    """zip or tar, or empty where the bytes are neither."""
    end = data.rfind(END, max(len(data) - 65_557, 0))
    if end >= 0 and (data[:4] == LOCAL or _is_behind_header(data)):
        return "zip"
    if len(data) >= 2 * BLOCK and data[257:262] == b"ustar" and _tar_sum(data[:BLOCK]) == _octal(data[148:156]):
        return "tar"
    return ""


def members_of(data: bytes) -> list[Member]:
    """The members of an archive that hold something, in their order.

    Raises:
        AddressError: its tables contradict each other, or it is of a kind that is not read.
    """
    kind = archive_of(data)
    members = list(_zip_members(data) if kind == "zip" else _tar_members(data) if kind == "tar" else ())
    seen: set[str] = set()
    for member in members:
        parts = member.name.replace("\\", "/").split("/")
        if member.name.startswith(("/", "\\")) or ".." in parts or ":" in parts[0]:
            raise AddressError(
                f"the member “{member.name[:60]}” leads out of the archive", "nothing was read; the archive is not safe"
            )
        if member.name in seen:
            raise AddressError(
                f"the archive has two members “{member.name[:60]}”", "nothing was read; nobody knows which one counts"
            )
        seen.add(member.name)
    return members


def unpacked(data: bytes, member: Member, allowance: int | None = None) -> bytes:
    """The content of a member.

    Raises:
        AddressError: it is damaged, encrypted, or packed in a way that is not known.
        TooMuch: it unpacks to more than an archive of this size is worth.
    """
    packed = data[member.start : member.end]
    most = unpacked_allowance(len(data)) if allowance is None else allowance
    if member.flags & ENCRYPTED:
        raise AddressError(f"the member {member.name} is encrypted", "nothing was read; unlock it first")
    if member.method == STORED:
        return packed
    if member.method != DEFLATED:
        raise AddressError(f"the member {member.name} is packed by method {member.method}", "nothing was read")
    if member.size > most:
        raise TooMuch(f"the member {member.name} unpacks to {member.size >> 20} MiB", "nothing was read")
    try:
        unpacker = zlib.decompressobj(-15)
        content = unpacker.decompress(packed, member.size + 1)
    except zlib.error as error:
        raise AddressError(f"the member {member.name} is damaged ({error})", "nothing was read") from error
    if len(content) != member.size or not unpacker.eof:
        raise AddressError(f"the member {member.name} does not unpack to its {member.size} bytes", "nothing was read")
    return content


def repacked(outer: Source, member: Member, content: bytes, cause: Cause) -> list[Replacement]:
    """What has to change in an archive so that a member has another content; where the others are follows later.

    Raises:
        ValueRefused: the archive's tables cannot say its size.
    """
    if member.kind == "tar":
        return _tar_repacked(outer, member, content, cause)
    if member.method == STORED:
        packed = content
    else:
        packer = zlib.compressobj(6, zlib.DEFLATED, -15)
        packed = packer.compress(content) + packer.flush()
    if max(len(content), len(packed)) >= 0xFFFFFFFF:
        raise ValueRefused(f"{member.name} would be larger than a zip of this kind can hold", "nothing was written")
    sums = struct.pack("<3I", zlib.crc32(content), len(packed), len(content))
    replaced = [Replacement(member.start, member.end, packed, (cause,))]
    if member.flags & DESCRIBED:
        marked = bytes(outer.read(member.end, member.end + 4)) == b"PK\x07\x08"
        begin = member.end + (4 if marked else 0)
        replaced.append(Replacement(begin, begin + 12, sums, (cause,)))
    else:
        replaced.append(Replacement(member.head + 14, member.head + 26, sums, (cause,)))
    replaced.append(Replacement(member.central + 16, member.central + 28, sums, (cause,)))
    return replaced


def finish_zip(outer: Source, replaced: Sequence[Replacement], cause: Cause) -> list[Replacement]:
    """The offsets in the tables of a zip whose members were replaced."""
    data = bytes(outer.read(0, outer.size))
    patched = Patched(outer, replaced)
    tables = _zip_tables(data)
    found = [(at + 42, head[16]) for at, head in _zip_entries(data)]
    found.append((tables.end + 16, tables.first - tables.base))
    base = patched.moved(tables.base, behind=True) if tables.base else 0
    return [
        Replacement(at, at + 4, struct.pack("<I", now), (cause,))
        for at, old in found
        if (now := patched.moved(tables.base + old, behind=True) - base) != old
    ]


# zip


class _Tables(NamedTuple):
    """Where the last record of a zip is, where its central directory begins, how many members it has, and from where
    its offsets count: the beginning of the file, or of the archive behind a header.
    """

    end: int
    first: int
    members: int
    base: int


def _zip_tables(data: bytes) -> _Tables:
    end = data.rfind(END, max(len(data) - 65_557, 0))
    try:
        _, disk, start_disk, here, count, size, first, _ = END_HEAD.unpack_from(data, end)
    except struct.error as error:
        raise AddressError("the zip is cut off in its last record", "nothing was read") from error
    if disk or start_disk or here != count or count == 0xFFFF or first == 0xFFFFFFFF:
        raise AddressError("the zip is in several parts or of the 64-bit kind, which is not read", "nothing was read")
    if first + size > end or count > MOST_MEMBERS:
        raise AddressError("the zip's directory leads out of the file", "nothing was read; it may be cut off")
    base = end - size - first
    base = base if data[first : first + 4] != CENTRAL and data[base + first : base + first + 4] == CENTRAL else 0
    return _Tables(end, base + first, count, base)


def _is_behind_header(data: bytes) -> bool:
    """Whether the last record leads to a directory, and that to a member, behind a header of the game's own."""
    try:
        tables = _zip_tables(data)
        _, head = next(_zip_entries(data))
    except (AddressError, StopIteration):
        return False
    at: int = tables.base + head[16]
    return at > 0 and data[at : at + 4] == LOCAL


def _zip_entries(data: bytes) -> Iterator[tuple[int, tuple[Any, ...]]]:
    """Where each entry of the central directory is, and its numbers."""
    _, at, count, _ = _zip_tables(data)
    for _ in range(count):
        try:
            head = CENTRAL_HEAD.unpack_from(data, at)
        except struct.error as error:
            raise AddressError("the zip's directory is damaged", "nothing was read") from error
        if head[0] != CENTRAL:
            raise AddressError("the zip's directory is damaged", "nothing was read")
        yield at, head
        at += CENTRAL_HEAD.size + head[10] + head[11] + head[12]


def _zip_members(data: bytes) -> Iterator[Member]:
    base = _zip_tables(data).base
    for at, head in _zip_entries(data):
        begin = base + head[16]
        if begin + LOCAL_HEAD.size > len(data) or data[begin : begin + 4] != LOCAL:
            raise AddressError("the zip's directory leads to no member", "nothing was read")
        local = LOCAL_HEAD.unpack_from(data, begin)
        flags, method, packed, size = head[3], head[4], head[8], head[9]
        raw = data[at + CENTRAL_HEAD.size : at + CENTRAL_HEAD.size + head[10]]
        name = raw.decode("utf-8" if flags & UTF8 else "cp437", "replace")
        start = begin + LOCAL_HEAD.size + local[9] + local[10]
        if start + packed > len(data):
            raise AddressError(f"the member {name} leads out of the zip", "nothing was read; it may be cut off")
        if not name.endswith("/"):
            yield Member("zip", name, start, start + packed, size, method, begin, at, flags)


# tar


def _octal(field: bytes) -> int:
    if field[:1] == b"\x80":  # a number too large for octal digits, in base 256
        return int.from_bytes(field[1:], "big")
    text = field.strip(b" \0")
    return int(text, 8) if text and all(48 <= digit < 56 for digit in text) else 0 if not text else -1


def _tar_sum(head: bytes) -> int:
    return sum(head[:148]) + 8 * 32 + sum(head[156:BLOCK])


def _tar_members(data: bytes) -> Iterator[Member]:
    at, long_name = 0, ""
    while at + BLOCK <= len(data):
        head = data[at : at + BLOCK]
        if not any(head):
            return
        size = _octal(head[124:136])
        if size < 0 or _octal(head[148:156]) != _tar_sum(head) or at + BLOCK + size > len(data):
            raise AddressError("the tar is damaged or cut off", "nothing was read")
        kind, start = head[156:157], at + BLOCK
        content = data[start : start + size]
        if kind == b"L":
            long_name = content.rstrip(b"\0").decode("utf-8", "replace")
        elif kind == b"x":
            long_name = _pax_path(content) or long_name
        elif kind in (b"0", b"\0", b"7"):
            prefix = head[345:500].split(b"\0", 1)[0].decode("utf-8", "replace")
            name = head[:100].split(b"\0", 1)[0].decode("utf-8", "replace")
            whole = long_name or (f"{prefix}/{name}" if prefix and head[257:263] == b"ustar\0" else name)
            yield Member("tar", whole, start, start + size, size, head=at)
            long_name = ""
        at = start + -(-size // BLOCK) * BLOCK


def _pax_path(content: bytes) -> str:
    at, path = 0, ""
    while at < len(content):
        blank = content.find(b" ", at)
        size = int(content[at:blank]) if blank > at and content[at:blank].isdigit() else 0
        if not size:
            break
        key, _, value = content[blank + 1 : at + size - 1].partition(b"=")
        path = value.decode("utf-8", "replace") if key == b"path" else path
        at += size
    return path


def _tar_repacked(outer: Source, member: Member, content: bytes, cause: Cause) -> list[Replacement]:
    head = bytearray(outer.read(member.head, member.head + BLOCK))
    if len(content) >= 8**11:
        raise ValueRefused(f"{member.name} would be larger than a tar of this kind can hold", "nothing was written")
    old_end = member.start + -(-member.size // BLOCK) * BLOCK
    padded = content + bytes(-len(content) % BLOCK)
    replaced = [Replacement(member.start, old_end, padded, (cause,))]
    if len(content) != member.size:
        ending = bytes(head[135:136])
        head[124:136] = f"{len(content):011o}".encode() + (ending if ending in (b"\0", b" ") else b"\0")
        check = f"{_tar_sum(bytes(head)):06o}".encode()
        old = bytes(head[148:156])
        head[148:156] = check + (old[6:8] if old[6:8] in (b"\0 ", b" \0") else b"\0 ")
        for start, end in ((124, 136), (148, 156)):
            at = member.head + start
            replaced.append(Replacement(at, member.head + end, bytes(head[start:end]), (cause,)))
    return replaced
