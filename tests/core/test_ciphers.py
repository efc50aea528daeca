"""Ciphers by what their standards publish, and keys that are made from a secret."""

from __future__ import annotations

import hashlib
from typing import cast

from faithful_ledger.core.errors import AddressError
from faithful_ledger.core.layers.ciphers import IV_DERIVED, Cipher, Derived, Padding
from tests.support import LedgerCase, dice


class PublishedCiphersTest(LedgerCase):
    """Ciphers over what their standards publish."""

    def test_each_gives_what_is_published(self) -> None:
        key, iv = bytes.fromhex("2b7e151628aed2a6abf7158809cf4f3c"), bytes(range(16))
        blocks = bytes.fromhex("6bc1bee22e409f96e93d7e117393172aae2d8a571e03ac9c9eb76fac45af8e51")
        for kind, secret, start, plain, hidden in (
            # SP 800-38A: F.3.13, F.3.7, F.4.1
            ("aes-cfb", key, iv, blocks, "3b3fd92eb72dad20333449f8e83cfb4ac8a64537a0b3a93fcde3cdad9f1ce58b"),
            ("aes-cfb8", key, iv, blocks[:18], "3b79424c9c0dd436bace9e0ed4586a4f32b9"),
            ("aes-ofb", key, iv, blocks, "3b3fd92eb72dad20333449f8e83cfb4a7789508d16918f03f53c52dac54ed825"),
            # DES as in SP 800-17's kin, Schneier's vectors of Blowfish, RFC 6229
            ("des-ecb", bytes.fromhex("133457799bbcdff1"), b"", bytes.fromhex("0123456789abcdef"), "85e813540f0ab405"),
            ("blowfish-ecb", b"\xff" * 8, b"", b"\xff" * 8, "51866fd5b85ecb8a"),
            ("blowfish-ecb", bytes.fromhex("0123456789abcdef"), b"", b"\x11" * 8, "61f9c3802281b096"),
            ("blowfish-le-ecb", b"\xff" * 8, b"", b"\xff" * 8, "d56f86518acb5eb8"),
            ("rc4", bytes(range(1, 6)), b"", bytes(16), "b2396305f03dc027ccc3524a0a1118a8"),
            # Rijndael's submission, for keys and blocks of 256 bits; XXTEA with zeros
            (
                "rijndael256-ecb",
                bytes(32),
                b"",
                bytes(32),
                "c6227e7740b7e53b5cb77865278eab0726f62366d9aabad908936123a1fc8af3",
            ),
            ("xxtea", bytes(16), b"", bytes(8), "ab043705808c5d57"),
        ):
            with self.subTest(kind=kind, hidden=hidden):
                cipher = Cipher(kind, secret, start, "none")
                self.assertEqual(cipher.opened(bytes.fromhex(hidden)), plain)
                self.assertEqual(cipher.closed(plain, bytes.fromhex(hidden)).hex(), hidden)
                longer = cipher.closed(plain * 3, bytes.fromhex(hidden))
                self.assertEqual(cipher.opened(longer), plain * 3)

    def test_a_cipher_over_a_part_leaves_what_is_around_it(self) -> None:
        """With its vector in front of it, in a header, or at the end of all."""
        turn, key = dice(), bytes(range(16))
        for iv_at, size in ((None, 96), (4, 96), (-16, None), (20, None)):
            outer = turn.randbytes(40 + 96 + 16)
            cipher = Cipher("aes-cbc", key, None, "none", at=40, iv_at=iv_at, size=size)
            start, end = cipher.span(outer)
            content = cipher.opened(outer)
            changed = cipher.closed(content[:-1] + bytes([content[-1] ^ 1]), outer)
            first = start if iv_at is not None else start + 16
            self.assertEqual(len(content), end - first)
            self.assertEqual((changed[: end - 16], changed[end:]), (outer[: end - 16], outer[end:]))
            self.assertEqual(cipher.closed(content, changed), outer)
        with self.assertRaisesRegex(AddressError, r"should be at 0x28 \(40\) to 0x88 \(136\), and there are 100 bytes"):
            Cipher("aes-cbc", key, None, at=40, size=96).opened(outer[:100])

    def test_rijndael_with_the_blocks_of_aes_is_aes(self) -> None:
        from faithful_ledger.core.layers.block_ciphers import rijndael

        turn = dice()
        for size in (16, 24, 32):
            key, iv, data = turn.randbytes(size), turn.randbytes(16), turn.randbytes(160)
            sealed = Cipher("aes-cbc", key, iv, "none").closed(data, b"")
            self.assertEqual(rijndael(data, key, iv, seal=True, size=16), sealed)
            self.assertEqual(rijndael(sealed, key, iv, seal=False, size=16), data)

    def test_a_message_of_any_length_is_padded_so_that_it_comes_out_again(self) -> None:
        turn, key = dice(), bytes(range(16))
        for kind, padding in (("xxtea", "length"), ("rijndael256-cbc", "pkcs7"), ("aes-cbc", "pkcs7")):
            iv = b"" if kind == "xxtea" else None
            front = b"" if kind == "xxtea" else turn.randbytes(32 if kind.startswith("rijndael") else 16)
            for size in range(1, 70):
                cipher, content = Cipher(kind, key, iv, cast(Padding, padding)), turn.randbytes(size)
                self.assertEqual(cipher.opened(cipher.closed(content, front)), content)
        for data, words in ((bytes(4), "4 bytes are too few"), (bytes(40), "not the length of what is in it")):
            with self.assertRaises(AddressError) as caught:
                Cipher("xxtea", key, b"", "length").opened(data)
            self.assertIn(words, str(caught.exception))

    def test_a_secret_becomes_a_key_and_an_initial_vector(self) -> None:
        """As OpenSSL's `enc` does it, with the salt in front; as one digest; and PBKDF2 for both."""
        from cryptography.hazmat.primitives.ciphers import Cipher as Engine
        from cryptography.hazmat.primitives.ciphers import algorithms, modes

        secret, salt, body = b"slack water", b"8 bytes!", b"Oriel has 1386 marks."
        padded = body + bytes((11,)) * 11
        chain = [b""]
        for _ in range(3):
            chain.append(hashlib.md5(chain[-1] + secret + salt).digest())
        both = hashlib.pbkdf2_hmac("sha1", secret, salt, 1000, 48)
        digest = hashlib.sha256(secret).digest()
        base = secret + salt
        for _ in range(99):
            base = hashlib.sha1(base).digest()
        old = [hashlib.sha1(number + base).digest() for number in (b"", b"1", b"2")]
        first = old[0] + old[1]
        bare = [hashlib.md5(secret).digest()]
        for _ in range(2):
            bare.append(hashlib.md5(bare[-1] + secret).digest())
        for how, iv, key, start, head in (
            (Derived("openssl", hash="md5"), None, chain[1] + chain[2], chain[3], b"Salted__" + salt),
            (Derived("pbkdf2", salt, 1000, "sha-1"), IV_DERIVED, both[:32], both[32:], b""),
            (Derived("digest"), bytes(16), digest, bytes(16), b""),
            (Derived("openssl", hash="md5", salt_from="none"), None, bare[0] + bare[1], bare[2], b""),
            (Derived("pbkdf1", salt, 100, "sha-1"), IV_DERIVED, first[:32], first[8:16] + old[2][:8], b""),
            (
                Derived("pbkdf1", salt, 100, "sha-1", 16),
                IV_DERIVED,
                old[0][:16],
                old[0][4:8] + old[1][:12],
                b"",
            ),
            (Derived("pbkdf1", salt, 100, "sha-1", 24), IV_DERIVED, first[:24], first[24:], b""),
        ):
            with self.subTest(how=how.by):
                engine = Engine(algorithms.AES(key), modes.CBC(start)).encryptor()
                outer = head + engine.update(padded) + engine.finalize()
                cipher = Cipher("aes-cbc", secret, iv, how=how)
                self.assertEqual(cipher.opened(outer), body)
                self.assertEqual(cipher.closed(body, outer), outer)
        with self.assertRaises(AddressError) as caught:
            Cipher("aes-cbc", secret, how=Derived("openssl")).opened(bytes(32))
        self.assertIn("there is no “Salted__” with a salt at its beginning", str(caught.exception))
