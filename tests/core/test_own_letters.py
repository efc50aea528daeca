"""Texts in letters of a game's own are found by how far their letters are apart, and their letters with them."""

from __future__ import annotations

import json
import random
import string
from pathlib import Path

import numpy as np

from faithful_ledger.core.own_letters import read_as, texts_in_own_letters
from faithful_ledger.core.search import search_text
from faithful_ledger.core.source import MemorySource
from tests.cli.test_commands import CommandCase

NAMES = ("Tamsin Vale", "Oriel & Sons", "Captain Wren", "Piran of Quay 12", "MAUD REED")
ALPHABETS = (string.ascii_uppercase, string.ascii_lowercase, string.digits)


def a_set(turn: random.Random, without: int = 255) -> dict[str, int]:
    """A character set: each alphabet in a row, these in any order and apart, and signs anywhere else; one byte is no
    letter.
    """
    letters: dict[str, int] = {}
    at = turn.randrange(1, 40)
    for alphabet in turn.sample(ALPHABETS, 3):
        letters |= {letter: at + number for number, letter in enumerate(alphabet)}
        at += len(alphabet) + turn.randrange(0, 30)
    if without in letters.values():
        return a_set(turn, without)
    free = [code for code in range(250) if code not in letters.values() and code != without]
    return letters | dict(zip(" &-!", turn.sample(free, 4), strict=True))


class OwnLettersTest(CommandCase):
    def test_a_text_in_any_set_is_found_with_its_letters(self) -> None:
        for _ in range(40):
            seed = random.randrange(1 << 32)
            turn = random.Random(seed)
            with self.subTest(seed=seed):
                letters, name, other = a_set(turn), *turn.sample(NAMES[:4], 2)
                raw = bytes(letters[letter] for letter in name)
                data = np.frombuffer(turn.randbytes(3000) + raw + turn.randbytes(5000), np.uint8)
                found = dict(texts_in_own_letters(data, name))
                self.assertIn(3000, found)
                there = np.frombuffer(bytes(letters[letter] for letter in other), np.uint8)
                known = read_as(found[3000], there, other)
                self.assertIsNotNone(known)
                self.assertTrue(all(letters.get(letter, code) == code for code, letter in (known or {}).items()))
                hits = [hit for hit in search_text(MemorySource(data.tobytes()), name) if hit.offset == 3000]
                self.assertEqual([(hit.stored_as, hit.size) for hit in hits], [("own-letters", len(name))])

    def test_what_is_no_text_of_a_set_is_not_found(self) -> None:
        turn = random.Random(7)
        noise = np.frombuffer(turn.randbytes(200_000), np.uint8)
        self.assertEqual([list(texts_in_own_letters(noise, name)) for name in NAMES[:4]], [[]] * 4)
        plain = np.frombuffer(b"\0\1" + NAMES[0].encode() + b"\0", np.uint8)
        self.assertEqual(list(texts_in_own_letters(plain, NAMES[0])), [])  # of ASCII, which was looked for
        self.assertEqual(list(texts_in_own_letters(noise, "Ox")), [])  # too short to say anything
        self.assertEqual(list(texts_in_own_letters(noise[:3], NAMES[0])), [])

    def test_a_name_is_pinned_and_entered_in_them(self) -> None:
        for end, pad in ((b"\xff", b"\xff"), (b"\x50", b"\x50"), (b"", b"\0")):
            seed = random.randrange(1 << 32)
            turn = random.Random(seed)
            with self.subTest(seed=seed, pad=pad):
                self.one_set(turn, a_set(turn, pad[0]), end, pad)

    def one_set(self, turn: random.Random, letters: dict[str, int], end: bytes, pad: bytes) -> None:
        folder = self.folder / pad.hex()
        folder.mkdir()

        def spelled(text: str) -> bytes:
            return (bytes(letters[letter] for letter in text) + end).ljust(20, pad)

        saves = [folder / f"{number}.sav" for number in range(3)]
        for path in saves:
            path.write_bytes(turn.randbytes(64) + spelled("Tamsin Vale") + turn.randbytes(200))
        located = self.json_of("locate", *(f"--seen={path}=Tamsin Vale" for path in saves))
        chosen = folder / "place.json"
        chosen.write_text(json.dumps(located))
        self.assertEqual((located["places"][0]["offset"], located["places"][0]["stored_as"]), (64, "own-letters"))
        self.json_of("pin", saves[0], "--place", chosen, "--as", "Captain")
        out = folder / "out.sav"
        self.json_of("post", saves[0], "--set", "captain=Maud", "--out", out)
        was, now = saves[0].read_bytes(), out.read_bytes()
        self.assertEqual(now[64:84], spelled("Maud"))
        self.assertEqual((now[:64], now[84:]), (was[:64], was[84:]))
        words = self.refused(2, "post", saves[0], "--set", "captain=Oriel ♥", "--out", folder / "no.sav")
        self.assertIn("“Oriel ♥” cannot be written in own", words)
        self.assertFalse(Path(folder / "no.sav").exists())
