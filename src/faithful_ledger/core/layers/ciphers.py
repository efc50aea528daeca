"""Ciphers whose key is known: AES (FIPS 197) in the modes ECB, CBC, CFB, CFB8, OFB, CTR (SP 800-38A) and GCM
(SP 800-38D), DES and triple DES (FIPS 46-3), Blowfish (Schneier, 1993), RC4 (RFC 6229), ChaCha20 (RFC 8439, its
counter in front of the nonce), and those of block_ciphers.py. Keys are derived by PBKDF1 or PBKDF2 (RFC 8018), scrypt
or HKDF (RFC 7914, 5869), by one digest, or as OpenSSL's `enc` does it, with the salt in front of what is hidden.

What was put in front, as an initial vector, stays as it was, so that bytes that do not change stay the same where the
mode allows it. The arithmetic is that of the library `cryptography`, where it has the cipher.
"""

from __future__ import annotations

import hashlib
import itertools
from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cache, lru_cache
from typing import Any, Literal, NamedTuple, cast

from faithful_ledger.core.errors import AddressError, place
from faithful_ledger.core.layers.swapping import swapped

__all__ = [
    "BLOCK",
    "CIPHERS",
    "HAS_NO_IV",
    "IV_DERIVED",
    "KINDS",
    "OPENSSL",
    "SALTED",
    "SALT_SIZE",
    "Cipher",
    "Derived",
    "Padding",
    "Salt",
    "cipher_in_words",
    "derivation_keys",
    "derived_from",
    "derived_key",
    "iv_from",
    "wrong_cipher",
]

BLOCK, TAG, WORD = 16, 16, 4
MOST_ROUNDS, MOST_COST = 2_000_000, 1 << 17
DERIVED_KEPT = 512  # keys that took long to derive, and are asked for again by other files and other tries
LEAST_XXTEA, MOST_XXTEA = 8, 8 << 20  # bytes of a message, which is one block
HASHES = {"sha-1": "SHA1", "sha-256": "SHA256", "sha-384": "SHA384", "sha-512": "SHA512", "md5": "MD5"}
OPENSSL, SALTED, SALT_SIZE = "openssl", b"Salted__", 8
XXTEA, RIJNDAEL = "XXTEA", "Rijndael"
Padding = Literal["pkcs7", "zeros", "length", "none"]
Salt = Literal["given", "first", "iv", "none"]


class _Kind(NamedTuple):
    """The algorithm and the mode by the library's names; `block` is what content is padded to, 0 where it is not;
    `turned` is how the bytes of what goes in and what comes out are, where that is not as published.
    """

    algorithm: str
    mode: str
    keys: tuple[int, ...]
    iv: int = 0
    block: int = 0
    turned: str = ""


AES, DES3, BYTES = (16, 24, 32), (8, 16, 24), tuple(range(5, 57))
KINDS = {
    "aes-ecb": _Kind("AES", "ECB", AES, block=16),
    "aes-cbc": _Kind("AES", "CBC", AES, 16, 16),
    "aes-cfb": _Kind("AES", "CFB", AES, 16),
    "aes-cfb8": _Kind("AES", "CFB8", AES, 16),
    "aes-ofb": _Kind("AES", "OFB", AES, 16),
    "aes-ctr": _Kind("AES", "CTR", AES, 16),
    "aes-gcm": _Kind("AES", "GCM", AES, 12),
    "des-ecb": _Kind("TripleDES", "ECB", DES3, block=8),
    "des-cbc": _Kind("TripleDES", "CBC", DES3, 8, 8),
    "blowfish-ecb": _Kind("Blowfish", "ECB", BYTES, block=8),
    "blowfish-cbc": _Kind("Blowfish", "CBC", BYTES, 8, 8),
    "blowfish-le-ecb": _Kind("Blowfish", "ECB", BYTES, block=8, turned="swap-bytes-4"),
    "blowfish-le-cbc": _Kind("Blowfish", "CBC", BYTES, 8, 8, "swap-bytes-4"),
    "rc4": _Kind("ARC4", "", (5, 7, 8, 10, 16, 20, 24, 32)),
    "chacha20": _Kind("ChaCha20", "", (32,), 16),
    "rijndael256-ecb": _Kind(RIJNDAEL, "ECB", AES, block=32),
    "rijndael256-cbc": _Kind(RIJNDAEL, "CBC", AES, 32, 32),
    "xxtea": _Kind(XXTEA, "", (16,), block=WORD),
}
CIPHERS = tuple(KINDS)
HAS_NO_IV = frozenset(name for name, kind in KINDS.items() if not kind.iv)


@dataclass(slots=True, frozen=True)
class Derived:
    """How a key is made from another one: `by` pbkdf1, pbkdf2, scrypt, hkdf, digest or openssl. The salt is `given`, or
    it is the `first` bytes of what is hidden, `salt_size` of them, or the same as the initial vector (`iv`). With
    `openssl` the salt is in front of what is hidden if it is not given, or there is `none`.
    """

    by: str
    salt: bytes = b""
    rounds: int = 1000
    hash: str = "sha-256"
    size: int = 32
    cost: int = 1 << 14
    info: bytes = b""
    salt_from: Salt = "given"
    salt_size: int = 0

    @property
    def most_salts(self) -> int:
        """For how many salts keys may be derived for one file."""
        return max(MOST_COST // self.cost if self.by == "scrypt" else MOST_ROUNDS // max(self.rounds, 1), 1)


def derived_from(keys: Mapping[str, Any]) -> Derived:
    """How a key is made, from the keys of a template; what they do not say is as usual."""
    given = {name: keys[name] for name in ("rounds", "hash", "size", "cost") if keys.get(name) is not None}
    salt, info = str(keys.get("salt") or ""), bytes.fromhex(str(keys.get("info") or ""))
    if salt == "first":
        return Derived(keys["by"], info=info, salt_from="first", salt_size=keys.get("salt_size") or BLOCK, **given)
    if salt in ("iv", "none"):
        return Derived(keys["by"], info=info, salt_from=cast(Salt, salt), **given)
    return Derived(keys["by"], bytes.fromhex(salt), info=info, **given)


def derivation_keys(how: Derived) -> dict[str, Any]:
    """The keys of a template that say the same: `derived_from` reads them back."""
    usual, keys = Derived(how.by), dict[str, Any](by=how.by)
    salt = how.salt.hex(" ").upper() if how.salt_from == "given" else how.salt_from
    keys |= {"salt": salt} if salt else {}
    keys |= {"salt_size": how.salt_size} if how.salt_from == "first" else {}
    keys |= {
        name: getattr(how, name)
        for name in ("rounds", "hash", "size", "cost")
        if getattr(how, name) != getattr(usual, name)
    }
    return keys | ({"info": how.info.hex(" ").upper()} if how.info else {})


IV_DERIVED = b"derived"  # in place of an initial vector: what the derivation gives behind the key


@dataclass(slots=True, frozen=True)
class Cipher:
    """A cipher over `size` bytes of a payload from `at` on, or to its end. `iv` is None where the first bytes there are
    it, or those `iv_at` an offset, from the end where that is negative: then what is hidden ends before it. The tag of
    GCM is at the end, or with `tag_first` behind the initial vector. `how` is set where the key is made from `key`.
    """

    kind: str
    key: bytes
    iv: bytes | None = None
    padding: Padding = "pkcs7"
    tag_first: bool = False
    at: int = 0
    how: Derived | None = None
    iv_at: int | None = None
    size: int | None = None

    def span(self, outer: bytes) -> tuple[int, int]:
        """Where what is hidden begins and ends, with what belongs to it in front.

        Raises:
            AddressError: there are not as many bytes.
        """
        end = len(outer) if self.size is None else self.at + self.size
        if self.iv_at is not None and self.iv_at < 0:
            end = min(end, len(outer) + self.iv_at)
        if not 0 <= self.at <= end <= len(outer):
            what = f"it should be at {place(self.at)} to {place(end)}, and there are {len(outer)} bytes"
            raise AddressError(f"the {self.kind} layer cannot be undone: {what}", "it may be cut off")
        return self.at, end

    def opened(self, outer: bytes) -> bytes:
        """What is inside.

        Raises:
            AddressError: the key is another one, or the payload is damaged, as far as that can be seen.
        """
        parts, block = self._parts(outer), KINDS[self.kind].block
        if block and len(parts.body) % block:
            what = f"{len(parts.body)} bytes are not a multiple of the block size ({block})"
            raise AddressError(f"the {self.kind} layer cannot be undone: {what}", "another key or offset may fit")
        return self._unpadded(self._run(parts, seal=False))

    def closed(self, content: bytes, outer: bytes) -> bytes:
        """The payload with another content, everything around it as it was."""
        parts = self._parts(outer)
        sealed = self._run(parts._replace(body=self._padded(content, len(parts.body))), seal=True)
        if self.kind == "aes-gcm" and self.tag_first:
            sealed = sealed[-TAG:] + sealed[:-TAG]
        return parts.head + sealed + parts.tail

    def _parts(self, outer: bytes) -> _Parts:
        """What is in front, the key and the initial vector, what is hidden, and the tag."""
        kind = KINDS[self.kind]
        at, key, made = self._keyed(outer)
        if wrong := wrong_cipher(self.kind, key, None):
            raise AddressError(f"the {self.kind} layer cannot be undone: {wrong}", "another size of the key may fit")
        end = self.span(outer)[1]
        if self.iv_at is not None:
            begin = self.iv_at if self.iv_at >= 0 else len(outer) + self.iv_at
            iv = outer[max(begin, 0) : max(begin, 0) + kind.iv]
        else:
            iv = made or (self.iv if self.iv is not None else outer[at : at + kind.iv])
            at += kind.iv if self.iv is None and not made else 0
        body, tag = outer[at:end], b""
        if self.kind == "aes-gcm":
            tag, body = (body[:TAG], body[TAG:]) if self.tag_first else (body[-TAG:], body[:-TAG])
        if len(iv) != kind.iv or (self.kind == "aes-gcm" and len(tag) != TAG):
            raise AddressError(f"the {self.kind} layer cannot be undone: the payload is too short", "it may be cut off")
        return _Parts(outer[:at], key, iv, body, tag, outer[end:])

    def _keyed(self, outer: bytes) -> tuple[int, bytes, bytes]:
        """Where what is hidden begins, behind a salt; the key; and an initial vector that is derived with it."""
        how, at = self.how, self.at
        if how is None:
            return at, self.key, b""
        if how.by == OPENSSL and not how.salt and how.salt_from == "given":
            if outer[at : at + len(SALTED)] != SALTED:
                what = f"there is no “{SALTED.decode()}” with a salt at its beginning"
                raise AddressError(f"the {self.kind} layer cannot be undone: {what}", "give the salt, if it has one")
            at += len(SALTED) + SALT_SIZE
            how = replace(how, salt=outer[at - SALT_SIZE : at])
        elif how.salt_from == "first":
            at += how.salt_size
            how = replace(how, salt=outer[at - how.salt_size : at])
        elif how.salt_from == "iv":
            how = replace(how, salt=self.iv if self.iv else outer[at : at + KINDS[self.kind].iv])
        wanted = KINDS[self.kind].iv if self.iv == IV_DERIVED or how.by == OPENSSL else 0
        made = derived_key(self.key, how, wanted)
        return at, made[: len(made) - wanted], made[len(made) - wanted :]

    def _run(self, parts: _Parts, *, seal: bool) -> bytes:
        kind = KINDS[self.kind]
        if kind.algorithm in (RIJNDAEL, XXTEA):
            return self._run_here(parts, seal=seal)
        if self.kind == "aes-gcm":
            return self._run_gcm(parts, seal=seal)
        engine, algorithm, mode = _library(kind.algorithm, kind.mode)
        if kind.algorithm == "ChaCha20":
            cipher = engine(algorithm(parts.key, parts.iv), None)
        else:
            key = (parts.key * 3)[:24] if kind.algorithm == "TripleDES" else parts.key  # also DES, and of two keys
            vector = swapped(parts.iv, kind.turned) if kind.turned else parts.iv
            cipher = engine(algorithm(key), mode and (mode(vector) if kind.iv else mode()))
        run = cipher.encryptor() if seal else cipher.decryptor()
        if kind.turned:
            return swapped(run.update(swapped(parts.body, kind.turned)) + run.finalize(), kind.turned)
        return bytes(run.update(parts.body) + run.finalize())

    def _run_gcm(self, parts: _Parts, *, seal: bool) -> bytes:
        from cryptography.exceptions import InvalidTag
        from cryptography.hazmat.primitives.ciphers.aead import AESGCM

        if seal:
            return AESGCM(parts.key).encrypt(parts.iv, parts.body, None)
        try:
            return AESGCM(parts.key).decrypt(parts.iv, parts.body + parts.tag, None)
        except InvalidTag as error:
            what = "the tag does not match: the key is another one, or the payload is damaged"
            raise AddressError(f"the {self.kind} layer cannot be undone: {what}", "nothing was changed") from error

    def _run_here(self, parts: _Parts, *, seal: bool) -> bytes:
        """As `_run`, by what the library does not have."""
        from faithful_ledger.core.layers.block_ciphers import rijndael, xxtea

        if KINDS[self.kind].algorithm == RIJNDAEL:
            return rijndael(parts.body, parts.key, parts.iv, seal=seal)
        if not LEAST_XXTEA <= len(parts.body) <= MOST_XXTEA:
            what = f"{len(parts.body)} bytes are too {'few' if len(parts.body) < LEAST_XXTEA else 'many'}"
            raise AddressError(f"the {self.kind} layer cannot be undone: {what}", "another layer may fit")
        return xxtea(parts.body, parts.key, seal=seal)

    def _padded(self, content: bytes, before: int) -> bytes:
        block = KINDS[self.kind].block
        if not block:
            return content
        over = -len(content) % block
        if self.padding == "pkcs7":
            return content + bytes([over or block]) * (over or block)
        if self.padding == "zeros":
            return content + bytes(over)
        if self.padding == "length":
            return content + bytes(over) + len(content).to_bytes(WORD, "little")
        if over:
            what = (
                f"{len(content)} bytes are not a multiple of the block size ({block}), and nothing says how to pad them"
            )
            raise AddressError(what, "nothing was written; enter as many bytes as before, or give the layer a padding")
        return content

    def _unpadded(self, content: bytes) -> bytes:
        block = KINDS[self.kind].block
        if block and self.padding == "length":
            said = int.from_bytes(content[-WORD:], "little")
            if not 0 <= len(content) - WORD - said < block:
                what = "its last word is not the length of what is in it: the key is another one, or the padding is"
                raise AddressError(f"the {self.kind} layer cannot be undone: {what}", "nothing was changed")
            return content[:said]
        if not block or self.padding != "pkcs7":
            return content
        count = content[-1] if content else 0
        if not 0 < count <= block or content[-count:] != bytes([count]) * count:
            what = "its padding is not PKCS #7: the key is another one, or the padding is"
            raise AddressError(f"the {self.kind} layer cannot be undone: {what}", "nothing was changed")
        return content[:-count]


@cache
def _library(algorithm: str, mode: str) -> tuple[Any, Any, Any]:
    """What runs a cipher, the algorithm and the mode, of a library that is loaded only where it is needed."""
    from cryptography.hazmat.decrepit.ciphers import algorithms as old_algorithms
    from cryptography.hazmat.decrepit.ciphers import modes as old_modes
    from cryptography.hazmat.primitives.ciphers import Cipher as Engine
    from cryptography.hazmat.primitives.ciphers import algorithms, modes

    made = getattr(old_algorithms, algorithm, None) or getattr(algorithms, algorithm)
    return Engine, made, getattr(old_modes, mode, None) or getattr(modes, mode) if mode else None


class _Parts(NamedTuple):
    head: bytes
    key: bytes
    iv: bytes
    body: bytes
    tag: bytes
    tail: bytes


def cipher_in_words(kind: str, how: Derived | None) -> str:
    """What was done, as screens say it."""
    if how is None:
        return f"{kind} under a key"
    rounds = f" in {how.rounds} rounds" if how.by.startswith("pbkdf") else ""
    return f"{kind} under a key by {how.by}{f' with {how.hash}' if how.by != 'scrypt' else ''}{rounds}"


def wrong_cipher(kind: str, key: bytes | None, iv: bytes | None) -> str:
    """What is wrong with a key or an initial vector in a few words; empty where nothing is."""
    known = KINDS[kind]
    if key is not None and len(key) not in known.keys:
        any_of_many = known.keys == BYTES
        sizes = f"{BYTES[0]} to {BYTES[-1]}" if any_of_many else " or ".join(map(str, known.keys))
        return f"a key of {kind} has {sizes} bytes, not {len(key)}"
    if iv is not None and iv != IV_DERIVED and len(iv) != known.iv:
        return f"the initial vector of {kind} has {known.iv} bytes, not {len(iv)}"
    return ""


def iv_from(kind: str, given: str | None) -> bytes | None:
    """The initial vector that a template gives; None where the first bytes are it."""
    if kind in HAS_NO_IV:
        return b""
    return IV_DERIVED if given == "derived" else bytes.fromhex(given) if given not in (None, "first") else None


@lru_cache(maxsize=DERIVED_KEPT)
def derived_key(secret: bytes, how: Derived, more: int = 0) -> bytes:
    """A key made from a secret, and so many bytes more. The work is bounded: a template from a stranger cannot stop the
    program.

    Raises:
        AddressError: it asks for more than is allowed.
    """
    from cryptography.hazmat.primitives import hashes
    from cryptography.hazmat.primitives.kdf.hkdf import HKDF
    from cryptography.hazmat.primitives.kdf.pbkdf2 import PBKDF2HMAC
    from cryptography.hazmat.primitives.kdf.scrypt import Scrypt

    if how.rounds > MOST_ROUNDS or how.cost > MOST_COST:
        raise AddressError("the derivation of the key asks for too much work", "the template may be wrong")
    if how.by == "digest":
        digest = _digest(how.hash, secret + how.salt)
        return digest[: how.size] + _digest(how.hash, digest)[:more]
    size = how.size + more
    if how.by == OPENSSL:
        return _as_openssl(secret, how, size)
    if how.by == "pbkdf1":
        return _by_pbkdf1(secret, how, more)
    kind = getattr(hashes, HASHES[how.hash])()
    maker: Any
    if how.by == "pbkdf2":
        maker = PBKDF2HMAC(kind, size, how.salt, how.rounds)
    elif how.by == "scrypt":
        maker = Scrypt(how.salt, size, how.cost, 8, 1)
    else:
        maker = HKDF(kind, size, how.salt, how.info)
    return bytes(maker.derive(secret))


def _digest(name: str, data: bytes) -> bytes:
    return hashlib.new(name.replace("-", ""), data, usedforsecurity=False).digest()


def _by_pbkdf1(secret: bytes, how: Derived, more: int) -> bytes:
    """PBKDF1, extended as .NET's `PasswordDeriveBytes` does it: further digests have their number in front. What is
    left of those for the key is not taken as it is for what follows, but from where there is as much in front of it.
    """
    base = secret + how.salt
    for _ in range(how.rounds - 1):
        base = _digest(how.hash, base)
    blocks = (_digest(how.hash, (str(number).encode() if number else b"") + base) for number in itertools.count())
    made = b""
    while len(made) < how.size:
        made += next(blocks)
    left = len(made) - how.size
    following = made[how.size :] if left >= more else made[left : 2 * left]
    while len(following) < more:
        following += next(blocks)
    return made[: how.size] + following[:more]


def _as_openssl(secret: bytes, how: Derived, size: int) -> bytes:
    """Digests one after the other, each over the one before, the secret and the salt (EVP_BytesToKey of OpenSSL)."""
    made = last = b""
    while len(made) < size:
        last = _digest(how.hash, last + secret + how.salt)
        made += last
    return made[:size]
