"""Ways in which games use a key: each is found from the key alone, and noise is opened by none."""

from __future__ import annotations

import gzip
import json
import random
from dataclasses import replace

from faithful_ledger.core.address import Expression
from faithful_ledger.core.layers import LayerSpec
from faithful_ledger.core.layers.ciphers import IV_DERIVED, Cipher, Derived, derivation_keys, derived_from
from faithful_ledger.core.layers.scrambling import Scrambling, scramble
from faithful_ledger.core.unlocking import Keys, find_unlocking
from faithful_ledger.core.wrapping import unwrap
from tests.cli.test_from_sightings import plain, voyage
from tests.support import LedgerCase

PASSWORD, KEY = b"slack water 42", bytes(range(40, 56))
BY_IV = Derived("pbkdf2", rounds=100, hash="sha-1", size=16, salt_from="iv")
BY_SALT = Derived("pbkdf2", rounds=1000, salt_from="first", salt_size=32)
OLD = Derived("pbkdf1", b"quay salt", rounds=100, hash="sha-1")
SALT, VECTOR = b"quay salt", b"a vector as text"  # which somebody knows besides

# The secret, the layer, and how many bytes are drawn anew in front of what is hidden.
WAYS = (
    (PASSWORD, LayerSpec("aes-cbc", PASSWORD, derived=BY_IV), 16),
    (PASSWORD, LayerSpec("aes-cbc", PASSWORD, derived=BY_SALT), 48),
    (PASSWORD, LayerSpec("aes-cbc", PASSWORD, iv=IV_DERIVED, at=Expression(8), derived=BY_SALT), 40),
    (PASSWORD, LayerSpec("aes-ecb", PASSWORD, iv=b"", derived=Derived("digest", hash="md5", size=16)), 0),
    (PASSWORD, LayerSpec("aes-cfb", PASSWORD, at=Expression(4), derived=Derived("digest")), 20),
    (PASSWORD, LayerSpec("aes-gcm", PASSWORD, derived=Derived("digest")), 12),
    (PASSWORD, LayerSpec("aes-cbc", PASSWORD, derived=Derived("openssl", hash="md5")), 0),
    (PASSWORD, LayerSpec("aes-cbc", PASSWORD, derived=Derived("scrypt", salt_from="first", salt_size=16)), 32),
    (KEY, LayerSpec("aes-cbc", KEY, iv=KEY), 0),
    (KEY, LayerSpec("aes-cbc", KEY, iv=bytes(16), padding="zeros"), 0),
    (KEY.hex().encode(), LayerSpec("aes-ctr", KEY, at=Expression(12)), 28),
    (KEY, LayerSpec("blowfish-ecb", KEY, iv=b"", at=Expression(4)), 4),
    (KEY[:8], LayerSpec("des-cbc", KEY[:8]), 8),
    (KEY, LayerSpec("rc4", KEY, iv=b""), 0),
    (PASSWORD, LayerSpec("xor", PASSWORD), 0),
    (KEY, LayerSpec("aes-cbc", KEY, iv=VECTOR), 0),
    (PASSWORD, LayerSpec("aes-cbc", PASSWORD, iv=VECTOR, derived=Derived("pbkdf2", SALT, hash="sha-1")), 0),
    (PASSWORD, LayerSpec("aes-cbc", PASSWORD, iv=IV_DERIVED, derived=OLD), 0),
    (PASSWORD, LayerSpec("aes-cbc", PASSWORD, derived=Derived("openssl", hash="md5", salt_from="none")), 0),
    (PASSWORD, LayerSpec("rijndael256-cbc", PASSWORD, derived=replace(BY_SALT, hash="sha-1")), 64),
    (KEY, LayerSpec("xxtea", KEY, padding="length", iv=b""), 0),
    (PASSWORD, LayerSpec("xxtea", PASSWORD.ljust(16, b"\0"), padding="length", iv=b"", at=Expression(4)), 4),
)


class UnlockingTest(LedgerCase):
    def test_each_usual_way_is_found(self) -> None:
        for secret, layer, drawn in WAYS:
            salt = SALT.hex(" ").encode() if layer.derived is not None and layer.derived.salt == SALT else b""
            seed = random.randrange(1 << 32)
            turn = random.Random(seed)
            moments = voyage(turn)
            for packing in (plain, lambda value: gzip.compress(json.dumps(value).encode())):
                contents = [packing(value) for value in moments]
                if layer.padding == "zeros":
                    contents = [content + bytes(-len(content) % 16) for content in contents]
                with self.subTest(layer.kind, derived=layer.derived, seed=seed):
                    saves = [self.hidden(layer, content, turn.randbytes(drawn)) for content in contents]
                    found = find_unlocking(saves, Keys((), secret, salt, VECTOR))
                    self.assertTrue(found)
                    opened = [unwrap(save, [found[0]])[-1].data for save in saves]
                    self.assertEqual(opened, contents)
                    if found[0].derived is not None:
                        self.assertEqual(derived_from(derivation_keys(found[0].derived)), found[0].derived)

    @staticmethod
    def hidden(layer: LayerSpec, content: bytes, front: bytes) -> bytes:
        if layer.kind == "xor":
            return scramble(content, Scrambling("xor", layer.key or b"", 0))
        if layer.derived and layer.derived.by == "openssl" and layer.derived.salt_from != "none":
            front = b"Salted__" + front.ljust(8, b"q")
        tag = bytes(16) if layer.kind == "aes-gcm" else b""
        at = layer.at.constant or 0 if layer.at is not None else 0
        key = layer.key or b""
        cipher = Cipher(layer.kind, key, layer.iv, layer.padding, layer.tag_first, at, layer.derived)
        return cipher.closed(content, front + tag)

    def test_noise_is_opened_by_no_key(self) -> None:
        """Nor is what repeats, which stays alike under a wrong key."""
        for number in range(2):
            seed = random.randrange(1 << 32)
            turn = random.Random(seed)
            block = turn.randbytes(16)
            data = turn.randbytes(turn.choice((48, 96, 512))) if number % 2 else block * 60 + turn.randbytes(640)
            with self.subTest(seed=seed):
                self.assertEqual(find_unlocking([data], Keys((), PASSWORD, SALT, VECTOR)), [])
