"""Ciphers whose key is known: AES (FIPS 197) in the modes ECB, CBC, CTR (SP 800-38A) and GCM (SP 800-38D), and
ChaCha20 (RFC 8439, its counter in front of the nonce); keys derived by PBKDF2, scrypt or HKDF (RFC 8018, 7914, 5869).

What was put in front, as an initial vector, stays as it was, so that bytes that do not change stay the same where the
mode allows it. The arithmetic is that of the library `cryptography`.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

from faithful_ledger.core.errors import AddressError

__all__ = ["BLOCK", "CIPHERS", "Cipher", "Derived", "Padding", "derived_key", "wrong_cipher"]

CIPHERS = ("aes-ecb", "aes-cbc", "aes-ctr", "aes-gcm", "chacha20")
BLOCK, TAG = 16, 16
IV_SIZES = {"aes-ecb": 0, "aes-cbc": 16, "aes-ctr": 16, "aes-gcm": 12, "chacha20": 16}
KEY_SIZES = dict.fromkeys(CIPHERS, (16, 24, 32)) | {"chacha20": (32,)}
MOST_ROUNDS, MOST_COST = 2_000_000, 1 << 17
HASHES = {"sha-1": "SHA1", "sha-256": "SHA256", "sha-384": "SHA384", "sha-512": "SHA512", "md5": "MD5"}
Padding = Literal["pkcs7", "zeros", "none"]


@dataclass(slots=True, frozen=True)
class Derived:
    """How a key is made from another one: `by` pbkdf2, scrypt or hkdf."""

    by: str
    salt: bytes = b""
    rounds: int = 1000
    hash: str = "sha-256"
    size: int = 32
    cost: int = 1 << 14
    info: bytes = b""


@dataclass(slots=True, frozen=True)
class Cipher:
    """A cipher over a payload from `at` on. `iv` is None where the first bytes there are it; the tag of GCM is at the
    end, or with `tag_first` behind the initial vector.
    """

    kind: str
    key: bytes
    iv: bytes | None = None
    padding: Padding = "pkcs7"
    tag_first: bool = False
    at: int = 0

    def opened(self, outer: bytes) -> bytes:
        """What is inside.

        Raises:
            AddressError: the key is another one, or the payload is damaged, as far as that can be seen.
        """
        iv, body, tag = self._parts(outer)
        if self.kind in ("aes-ecb", "aes-cbc") and len(body) % BLOCK:
            what = f"{len(body)} bytes are not a multiple of the block size ({BLOCK})"
            raise AddressError(f"the {self.kind} layer cannot be undone: {what}", "another key or offset may fit")
        return self._unpadded(self._run(body, iv, tag, seal=False))

    def closed(self, content: bytes, outer: bytes) -> bytes:
        """The payload with another content, everything around it as it was."""
        iv, body, _ = self._parts(outer)
        head = outer[: self.at] + (iv if self.iv is None else b"")
        sealed = self._run(self._padded(content, len(body)), iv, b"", seal=True)
        if self.kind != "aes-gcm":
            return head + sealed
        return head + (sealed[-TAG:] + sealed[:-TAG] if self.tag_first else sealed)

    def _parts(self, outer: bytes) -> tuple[bytes, bytes, bytes]:
        """The initial vector, what is hidden, and the tag."""
        body = outer[self.at :]
        size = IV_SIZES[self.kind]
        iv = self.iv if self.iv is not None else body[:size]
        body = body if self.iv is not None else body[size:]
        tag = b""
        if self.kind == "aes-gcm":
            tag, body = (body[:TAG], body[TAG:]) if self.tag_first else (body[-TAG:], body[:-TAG])
        if len(iv) != size or (self.kind == "aes-gcm" and len(tag) != TAG):
            raise AddressError(f"the {self.kind} layer cannot be undone: the payload is too short", "it may be cut off")
        return iv, body, tag

    def _run(self, body: bytes, iv: bytes, tag: bytes, *, seal: bool) -> bytes:
        from cryptography.exceptions import InvalidTag
        from cryptography.hazmat.primitives.ciphers import Cipher as Engine
        from cryptography.hazmat.primitives.ciphers import algorithms, modes
        from cryptography.hazmat.primitives.ciphers.aead import AESGCM

        if self.kind == "aes-gcm":
            if seal:
                return AESGCM(self.key).encrypt(iv, body, None)
            try:
                return AESGCM(self.key).decrypt(iv, body + tag, None)
            except InvalidTag as error:
                what = "the tag does not match: the key is another one, or the payload is damaged"
                raise AddressError(f"the {self.kind} layer cannot be undone: {what}", "nothing was changed") from error
        engine: Any
        if self.kind == "chacha20":
            engine = Engine(algorithms.ChaCha20(self.key, iv), None)
        else:
            mode: Any = {"aes-ecb": modes.ECB, "aes-cbc": modes.CBC, "aes-ctr": modes.CTR}[self.kind]
            engine = Engine(algorithms.AES(self.key), mode(iv) if iv else mode())
        run = engine.encryptor() if seal else engine.decryptor()
        return bytes(run.update(body) + run.finalize())

    def _padded(self, content: bytes, before: int) -> bytes:
        if self.kind not in ("aes-ecb", "aes-cbc"):
            return content
        over = -len(content) % BLOCK
        if self.padding == "pkcs7":
            return content + bytes([over or BLOCK]) * (over or BLOCK)
        if self.padding == "zeros":
            return content + bytes(over)
        if over:
            what = (
                f"{len(content)} bytes are not a multiple of the block size ({BLOCK}), and nothing says how to pad them"
            )
            raise AddressError(what, "nothing was written; enter as many bytes as before, or give the layer a padding")
        return content

    def _unpadded(self, content: bytes) -> bytes:
        if self.kind not in ("aes-ecb", "aes-cbc") or self.padding != "pkcs7":
            return content
        count = content[-1] if content else 0
        if not 0 < count <= BLOCK or content[-count:] != bytes([count]) * count:
            what = "its padding is not PKCS #7: the key is another one, or the padding is"
            raise AddressError(f"the {self.kind} layer cannot be undone: {what}", "nothing was changed")
        return content[:-count]


def wrong_cipher(kind: str, key: bytes | None, iv: bytes | None) -> str:
    """What is wrong with a key or an initial vector in a few words; empty where nothing is."""
    if key is not None and len(key) not in KEY_SIZES[kind]:
        sizes = " or ".join(map(str, KEY_SIZES[kind]))
        return f"a key of {kind} has {sizes} bytes, not {len(key)}"
    if iv is not None and len(iv) != IV_SIZES[kind]:
        return f"the initial vector of {kind} has {IV_SIZES[kind]} bytes, not {len(iv)}"
    return ""


def derived_key(secret: bytes, how: Derived) -> bytes:
    """A key made from a secret. The work is bounded: a template from a stranger cannot stop the program.

    Raises:
        AddressError: it asks for more than is allowed.
    """
    from cryptography.hazmat.primitives import hashes
    from cryptography.hazmat.primitives.kdf.hkdf import HKDF
    from cryptography.hazmat.primitives.kdf.pbkdf2 import PBKDF2HMAC
    from cryptography.hazmat.primitives.kdf.scrypt import Scrypt

    if how.rounds > MOST_ROUNDS or how.cost > MOST_COST:
        raise AddressError("the derivation of the key asks for too much work", "the template may be wrong")
    kind = getattr(hashes, HASHES[how.hash])()
    maker: Any
    if how.by == "pbkdf2":
        maker = PBKDF2HMAC(kind, how.size, how.salt, how.rounds)
    elif how.by == "scrypt":
        maker = Scrypt(how.salt, how.size, how.cost, 8, 1)
    else:
        maker = HKDF(kind, how.size, how.salt, how.info)
    return bytes(maker.derive(secret))
