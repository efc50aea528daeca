"""What a key or a password opens, of which nobody knows how the game uses it.

A key is taken as it is or filled up with zeros, as hexadecimal or base64 spells it, as a digest of it, or as what is
derived from it (PBKDF1, PBKDF2, scrypt, or as OpenSSL does it) with a salt that is given or in front of what is hidden;
for each cipher in each mode, with the usual initial vectors, behind headers of usual sizes. Bytes that were opened are
not spread evenly over their values, as those of a wrong key are (Pearson's chi-squared test), or begin a packed stream.
"""

from __future__ import annotations

import binascii
import re
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from dataclasses import replace
from functools import cache, partial
from itertools import chain, product
from operator import xor
from typing import NamedTuple

import numpy as np

from faithful_ledger.core.address import Expression
from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.layers import STREAMS, LayerSpec
from faithful_ledger.core.layers.ciphers import (
    BLOCK,
    IV_DERIVED,
    KINDS,
    OPENSSL,
    SALT_SIZE,
    SALTED,
    Derived,
    Padding,
    Salt,
    derived_key,
)
from faithful_ledger.core.profile.entropy import unevenness
from faithful_ledger.core.profile.layers import stream_at
from faithful_ledger.core.wrapping import unwrap
from faithful_ledger.core.wrapping.strings import says_letters

__all__ = ["NO_KEYS", "Keys", "find_unlocking", "find_unlocking_each", "gained"]

LOOKED_AT = 1 << 12  # bytes that show whether a key is right
HEADERS = (0, *range(4, 65, 4))  # sizes of what is in front of what is hidden
SALTED_HEADERS = (0, 4, 8, 16)
OLD_ROUNDS = (100, 1000, 2, 1, 5, 10)  # of PBKDF1
USUAL_ROUNDS = (1000, 100)  # with which a salt may be behind a header
ROUNDS = (1, 10_000, 2, 10, 50, 256, 500, 512, 1024, 2000, 2048, 3000, 4096, 5000, 20_000, 65_536, 100_000)
FEW_ROUNDS = 1024  # up to which other digests are tried as well
SALTS: tuple[tuple[Salt, int], ...] = (("iv", 0), ("first", 16), ("first", 8), ("first", 32))
MODERN = frozenset(  # for which keys are derived
    kind for kind in KINDS if kind.startswith(("aes-", "chacha", "rijndael")) and kind not in ("aes-cfb8", "aes-ofb")
)
HASHES, RARE_HASHES = ("sha-1", "sha-256"), ("sha-512", "md5")
KEY_SIZES = (32, 16, 24)
MOST_EVEN = 14.0  # standard deviations of chi-squared by which what was opened is beyond chance
CLEARLY = 1.5  # times as much as the save itself
SURE = 1e9  # of a packed stream
LEAST, FIRST = 24, 16  # bytes that are opened, and of the first block
WHOLE = frozenset(("aes-gcm", "xxtea"))  # which are opened from the beginning to the end, or not at all
MOST_CHAINED = 1 << 15  # bytes under XXTEA behind a header or a derived key, as each try takes all of them
ALIGNED = 4  # bytes
GAPS = (4, 8, 16, 20, 32)  # bytes between a vector and what is hidden: a size, or a digest
LEAST_SALT = 8  # bytes of a password that is its own salt
MOST_FOUND, MOST_SAVES = 3, 4
LONGEST_VECTOR = 32
BEGINNING, PRICE, NOISE = 64, 1, 2  # bytes; and bits of one that is left out, or of noise
ENOUGH = 20  # bytes of letters that a wrong key hardly leaves
MARKS = tuple(mark for kind in STREAMS.values() for mark in kind.marks)
SPELLED = re.compile(rb"(?:[0-9A-Fa-f]{2}){4,}|[A-Za-z0-9+/]{22,43}={0,2}")


class Keys(NamedTuple):
    """What is known of how some saves are hidden: `ways` that are described already, as layers from the outside in, and
    a `secret` that is used nobody knows how, perhaps with a `salt` or an initial `vector`, each as somebody wrote it.
    """

    ways: tuple[tuple[LayerSpec, ...], ...] = ()
    secret: bytes = b""
    salt: bytes = b""
    vector: bytes = b""


NO_KEYS = Keys()


class _Key(NamedTuple):
    """A key as the cipher takes it, what follows it where it is derived, and how a template says it."""

    key: bytes
    following: bytes
    said: bytes
    how: Derived | None = None

    @property
    def how_by(self) -> str:
        return self.how.by if self.how is not None else ""


def find_unlocking(
    saves: Sequence[bytes], keys: Keys, end: Deadline = NEVER, *, as_it_is: bool = False
) -> list[LayerSpec]:
    """The layers through which the secret of `keys` opens all of some saves, the likeliest first; none where it opens
    nothing. A salt that is known is tried instead of those in the saves, and a vector as well as these. Taken only
    `as_it_is`, or as its digest, it takes a tenth of the time.
    """
    first = min(saves, key=len)
    least = max(MOST_EVEN, CLEARLY * _unevenness(first[:LOOKED_AT], FIRST))
    tried = list[tuple[float, LayerSpec]]()
    most = 0.0
    for way in _ways(first, keys, as_it_is=as_it_is):
        for layer, data in way:
            uneven = _unevenness(data, (KINDS[layer.kind].block if layer.kind in KINDS else 0) or FIRST)
            if uneven > least and len(data) >= LEAST:
                tried.append((gained(saves, layer), layer))
                most = max(most, uneven)
            elif _begins_stream(data) and _holds_stream(first, layer):
                tried.append((SURE, layer))
                most = SURE
        if end.over or most > 2 * least:
            break
    found, ends = list[LayerSpec](), set[tuple[str, bytes]]()
    for _, layer in sorted(tried, key=lambda each: -each[0]):
        end_of = layer.kind, unwrap(first, [layer])[-1].data[-LEAST:]
        # Initial vectors and headers change the beginning alone, of which the likeliest comes first.
        if end_of not in ends and (padded := _padded(saves, layer)) is not None:
            ends.add(end_of)
            found.append(padded)
    return found[:MOST_FOUND]


def find_unlocking_each(
    values: Sequence[bytes], keys: Keys, end: Deadline = NEVER, *, as_it_is: bool = False
) -> LayerSpec | None:
    """The layer through which the secret of `keys` opens most of some values, each for itself, to letters."""
    if sum(map(len, values)) < ENOUGH:
        return None
    longest = max(values, key=len)
    for way in _ways(longest, keys, as_it_is=as_it_is):
        for layer, data in way:
            if _begins_with_letters(data) and (found := _to_letters(values, layer)) is not None:
                return found
        if end.over:
            break
    return None


def _begins_with_letters(data: bytes) -> bool:
    """Whether what a key leaves may be a text and what pads it."""
    content = data.rstrip(b"\0")
    last = content[-1] if content else 0
    if content.endswith(bytes([last]) * last):
        content = content[: len(content) - last]
    return bool(content) and says_letters(content)


def _to_letters(values: Sequence[bytes], layer: LayerSpec) -> LayerSpec | None:
    """A layer with the padding under which it opens most of some values to letters."""
    for padding in _paddings(layer.kind):
        tried = replace(layer, padding=padding)
        opened = list[bytes]()
        for value in values:
            with suppress(LedgerError):
                opened.append(unwrap(value, [tried])[-1].data)
        opened = [each for each in opened if says_letters(each)]
        if sum(map(len, opened)) >= ENOUGH and 2 * len(opened) > len(values):
            return tried
    return None


def _ways(save: bytes, keys: Keys, *, as_it_is: bool) -> Iterator[Iterable[tuple[LayerSpec, bytes]]]:
    """Ways of using the key, of which each gives layers with the beginning of what they open."""
    vectors = _spellings(keys.vector)
    yield _as_it_is(save, keys.secret, vectors)
    for at, hows in chain(_quick_derivations(save), _derivations(save, keys) if not as_it_is else ()):
        yield chain.from_iterable(_by_derivation(save, at, keys.secret, how, vectors) for how in hows)


def _spellings(given: bytes) -> list[bytes]:
    """What bytes are that somebody wrote: letters, also as .NET and Java keep them, hexadecimal or base64."""
    if not given:
        return []
    spelled = [given]
    with suppress(UnicodeDecodeError):
        spelled.append(given.decode().encode("utf-16-le"))
    with suppress(binascii.Error, ValueError):
        spelled.append(bytes.fromhex(given.decode().removeprefix("0x")))
    if SPELLED.fullmatch(given):
        with suppress(binascii.Error, ValueError):
            spelled.append(binascii.a2b_base64(given))
    return list(dict.fromkeys(spelled))


def _as_it_is(save: bytes, secret: bytes, vectors: Sequence[bytes]) -> Iterator[tuple[LayerSpec, bytes]]:
    keys = list(_plain_keys(secret))
    for at in HEADERS:
        yield LayerSpec("xor", secret, at=_offset(at)), _xored(save[at : at + LOOKED_AT], secret)
        for key in keys:
            yield from _by_ciphers(save, at, key, at, vectors)


def _by_derivation(
    save: bytes, at: int, secret: bytes, how: Derived, vectors: Sequence[bytes]
) -> Iterator[tuple[LayerSpec, bytes]]:
    begin, salt = at, how.salt
    if how.by == OPENSSL and how.salt_from == "given":
        begin = at + len(SALTED) + SALT_SIZE
        salt = save[begin - SALT_SIZE : begin]
    elif how.salt_from in ("first", "iv"):
        salt = save[at : at + (how.salt_size or BLOCK)]
        begin += how.salt_size
    with_salt = replace(how, salt=salt, size=max(KEY_SIZES))
    made = derived_key(secret, with_salt, LONGEST_VECTOR)
    for size in KEY_SIZES:
        if how.by == "pbkdf1":  # what follows is not what is left
            made = derived_key(secret, replace(with_salt, size=size), LONGEST_VECTOR)
        key = _Key(made[:size], made[size : size + LONGEST_VECTOR], secret, replace(how, size=size))
        yield from _by_ciphers(save, begin, key, at, vectors)


def _plain_keys(secret: bytes) -> Iterator[_Key]:
    """Keys that nothing is derived for: as they are, as they are spelled, filled up, cut off, and their digests."""
    seen = set[bytes]()
    for each in _spellings(secret):
        sized = (each.ljust(size, b"\0")[:size] for size in KEY_SIZES)
        for key in (each, *sized, each[:8].ljust(8, b"\0")):
            if key not in seen:
                seen.add(key)
                yield _Key(key, b"", key)
    letters = _spellings(secret)[:2]
    digests = ("md5", 16), ("sha-256", 32), ("sha-256", 16), ("sha-1", 16), ("sha-512", 32)
    for said, (name, size) in product(letters, digests):
        how = Derived("digest", hash=name, size=size)
        made = derived_key(said, how, 16)
        yield _Key(made[:size], made[size:], said, how)


def _quick_derivations(save: bytes) -> Iterator[tuple[int, list[Derived]]]:
    """As `_derivations`, those of one round."""
    for at in SALTED_HEADERS:
        if save[at : at + len(SALTED)] == SALTED:
            yield at, [Derived(OPENSSL, hash=name) for name in ("md5", "sha-256")]
    yield 0, [Derived(OPENSSL, hash=name, salt_from="none") for name in ("md5", "sha-256")]
    yield 0, [Derived(OPENSSL, hash=name, salt_from="first", salt_size=SALT_SIZE) for name in ("md5", "sha-256")]


def _derivations(save: bytes, keys: Keys) -> Iterator[tuple[int, list[Derived]]]:
    """Ways of deriving a key, and where what is hidden begins with its salt. Those whose salts may be the same are
    together: which of them is right shows in the first block.
    """
    known = _spellings(keys.salt) or [keys.secret] * (len(keys.secret) >= LEAST_SALT)
    stored = () if keys.salt else SALTS

    def salted(by: str, rounds: int, name: str) -> list[Derived]:
        given = [Derived(by, salt, rounds, name) for salt in known]
        return given + [Derived(by, b"", rounds, name, salt_from=where, salt_size=size) for where, size in stored]

    for rounds, name in product(OLD_ROUNDS, ("sha-1", "md5")):
        yield 0, [Derived("pbkdf1", salt, rounds, name) for salt in (b"", *known)]
    for rounds, name, at in product(USUAL_ROUNDS, HASHES, SALTED_HEADERS):
        yield at, salted("pbkdf2", rounds, name)
    yield 0, salted("scrypt", Derived("scrypt").rounds, Derived("scrypt").hash)
    for rounds, name in product(ROUNDS, HASHES):
        yield 0, salted("pbkdf2", rounds, name)
    for rounds, name in product((*USUAL_ROUNDS, *ROUNDS), RARE_HASHES):
        if rounds <= FEW_ROUNDS:
            yield 0, salted("pbkdf2", rounds, name)


def _by_ciphers(
    save: bytes, begin: int, key: _Key, at: int, vectors: Sequence[bytes]
) -> Iterator[tuple[LayerSpec, bytes]]:
    """What a key gives by each cipher that takes one of its size, with these initial vectors and the usual ones. What
    is hidden begins at an offset, and its layer `at` another one, where a salt is in front of it.
    """
    for kind, cipher in KINDS.items():
        if len(key.key) not in cipher.keys or (key.how is not None and key.how.by != "digest" and kind not in MODERN):
            continue
        for iv, first in _vectors(key, cipher.iv, save[begin : begin + cipher.iv], vectors):
            start = begin + (cipher.iv if iv is None and key.how_by != OPENSSL else 0)
            left = len(save) - start
            if left < max(cipher.block, 1) or (cipher.block and left % cipher.block):
                continue
            if kind == "xxtea" and left > MOST_CHAINED and (start or not _is_in_letters(key)):
                continue
            body = save[start : start + (left if kind in WHOLE else LOOKED_AT)]
            for tag_first in (False, True) if kind == "aes-gcm" else (False,):
                layer = partial(LayerSpec, kind, padding="none", tag_first=tag_first)
                with suppress(LedgerError):
                    data = unwrap(body, [layer(key.key, iv=first)])[-1].data
                    yield layer(key.said, at=_offset(at), iv=iv, derived=key.how), data[:LOOKED_AT]
        if cipher.iv and kind not in WHOLE and key.how_by in ("", "digest"):
            for iv_at, data in _by_vectors_apart(save, begin, key.key, kind):
                yield LayerSpec(kind, key.said, at=_offset(at), iv_at=iv_at, padding="none", derived=key.how), data


def _by_vectors_apart(save: bytes, begin: int, key: bytes, kind: str) -> Iterator[tuple[int, bytes]]:
    """What a key gives with the vectors that are not directly in front of what is hidden, by where they are. In CBC
    only the first block depends on the vector.
    """
    size, block = KINDS[kind].iv, KINDS[kind].block
    is_chained = KINDS[kind].mode == "CBC"
    opened = b""
    for iv_at, end in _vectors_apart(begin, size, len(save)):
        if end - begin < max(block, 1) or (end - begin) % (block or 1):
            continue
        vector, body = save[iv_at % len(save) :][:size], save[begin : min(end, begin + LOOKED_AT)]
        if not is_chained:
            if iv_at < 0 or begin - iv_at - size in GAPS:
                yield iv_at, unwrap(body, [LayerSpec(kind, key, iv=vector, padding="none")])[-1].data
            continue
        if not opened:
            opened = unwrap(body, [LayerSpec(kind, key, iv=bytes(size), padding="none")])[-1].data
            is_uneven = _unevenness(opened[block:], block) > MOST_EVEN
        first = bytes(map(xor, opened, vector))
        if is_uneven or _begins_stream(first):
            yield iv_at, first + opened[block:]


def _is_in_letters(key: _Key) -> bool:
    """Whether a key is what somebody wrote, cut off or filled up with zeros."""
    return key.how is None and key.key.rstrip(b"\0").isascii() and b"\0" not in key.key.rstrip(b"\0")


def _vectors_apart(begin: int, size: int, end: int) -> Iterator[tuple[int, int]]:
    """Where initial vectors may be that are not directly in front of what is hidden, and where that ends then: in the
    header, or at the end of the save.
    """
    yield from ((at, end) for at in range(0, min(begin, end) - size, ALIGNED))
    if end - size > begin:
        yield -size, end - size


def _vectors(key: _Key, size: int, first: bytes, known: Sequence[bytes]) -> Iterator[tuple[bytes | None, bytes]]:
    """Initial vectors as a template says them, and their bytes."""
    if not size:
        yield b"", b""
        return
    if key.how_by == OPENSSL:
        yield None, key.following[:size]
        return
    yield None, first
    if key.how is not None and key.how.salt_from == "iv":
        return
    for each in (*known, bytes(size)):
        if len(each) == size:
            yield each, each
    if len(key.following) >= size:
        yield IV_DERIVED, key.following[:size]
    if len(key.key) >= size:
        yield key.key[:size], key.key[:size]


@cache
def _offset(at: int) -> Expression | None:
    return Expression(at) if at else None


def _xored(data: bytes, key: bytes) -> bytes:
    if not key or not data:
        return data
    hidden = np.frombuffer(data, np.uint8)
    return bytes((hidden ^ np.resize(np.frombuffer(key, np.uint8), hidden.size)).tobytes())


def gained(saves: Sequence[bytes], layer: LayerSpec) -> float:
    """How many bits fewer than noise takes what a layer leaves of some saves: by how frequent its bytes are behind the
    beginning, where a wrong initial vector would show, and by those that are the same in all: a first block in which
    none is counts as noise. What is left out has its price, so that only noise is.
    """
    try:
        contents = [np.frombuffer(unwrap(save, [layer])[-1].data, np.uint8) for save in saves[:MOST_SAVES]]
    except LedgerError:
        return 0.0
    counts = np.bincount(np.concatenate([content[BEGINNING:] for content in contents]), minlength=256)
    bits = 8 + np.log2((counts + 0.5) / (counts.sum() + 128))
    shared = np.stack([content[: min(each.size for each in contents)] for content in contents])
    same = (shared == shared[0]).all(axis=0)
    alike = 8 * (len(contents) - 1) * int(same.sum())
    block = KINDS[layer.kind].block if layer.kind in KINDS else 0
    noise = NOISE * block * len(contents) if len(contents) > 1 and not same[:block].any() else 0
    left_out = sum(len(save) - content.size for save, content in zip(saves, contents, strict=False))
    return float(sum(bits[content].sum() for content in contents)) + alike - noise - PRICE * left_out


def _unevenness(data: bytes, block: int) -> float:
    """That of the blocks that differ: those that are alike may stay alike under a wrong key."""
    plainly = unevenness(np.frombuffer(data, np.uint8))
    if plainly <= MOST_EVEN:  # as most are
        return plainly
    different = b"".join(dict.fromkeys(data[at : at + block] for at in range(0, len(data), block)))
    return unevenness(np.frombuffer(different, np.uint8))


def _begins_stream(data: bytes) -> bool:
    return data.startswith(MARKS)


def _holds_stream(save: bytes, layer: LayerSpec) -> bool:
    """Whether a layer leaves a packed stream from the first byte on."""
    with suppress(LedgerError):
        data = unwrap(save, [layer])[-1].data
        for kind, stream in STREAMS.items():
            if any(data.startswith(mark) for mark in stream.marks):
                found = stream_at(data, 0, kind)
                if found is not None and found.size * 2 >= len(data):
                    return True
    return False


def _paddings(kind: str) -> tuple[Padding, ...]:
    """How content may be padded under a layer, the likeliest first."""
    if kind not in KINDS or not KINDS[kind].block:
        return ("pkcs7",)
    usual: tuple[Padding, ...] = ("pkcs7", "zeros", "none")
    return ("length", *usual) if kind == "xxtea" else usual


def _padded(saves: Sequence[bytes], layer: LayerSpec) -> LayerSpec | None:
    """A layer with the padding under which it opens all saves; None where it opens not all."""
    for padding in _paddings(layer.kind):
        tried = replace(layer, padding=padding)
        try:
            contents = [unwrap(save, [tried])[-1].data for save in saves]
        except LedgerError:
            continue
        if padding != "zeros" or all(each.endswith(b"\0") for each in contents):
            return tried
    return None
