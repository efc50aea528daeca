"""The made-up game: what it writes it reads, and what is damaged it refuses with a reason."""

from __future__ import annotations

import random
import zlib
from pathlib import Path

from brinewick import deep, desktop
from brinewick import play as actions
from brinewick.company import Company, Diver, SaveRefused
from brinewick.deep import Depot
from brinewick.harbour import Harbour
from tests.support import LedgerCase, play


class GameTest(LedgerCase):
    def test_every_action_leaves_a_save_the_game_reads_back(self) -> None:
        saves = self.folder / "saves"
        for action in (
            ["start", "Oriel & Søn"],
            ["sell", "brass lamp", "2"],
            ["buy", "oyster knife", "3"],
            ["dive", "Brock"],
            ["heal", "Oriel"],
            ["rename", "Ives", "Ives the Younger"],
            ["hire", "Marit"],
            ["save", "7"],
            ["show"],
        ):
            with self.subTest(action=action):
                answer = play(saves, *action)
                self.assertEqual(answer.status, 0, answer.text)
                company = Harbour(saves).load(1)
                data = (saves / "harbour.bwk").read_bytes()
                self.assertEqual(desktop.build(company), data)
        text = play(saves, "--slot", "7", "show").text
        for words in ("slot 7", "Ives the Younger", "Marit", "well, at ashore"):
            self.assertIn(words, text)
        self.assertTrue((saves / "harbour-7.bwk").exists())

    def test_the_deep_edition_reads_back_what_it_writes_and_refuses_the_rest(self) -> None:
        saves = self.folder / "deep"
        for action in (
            ["start", "Oriel & Søn"],
            ["sell", "wax plug", "7"],
            ["dive", "Brock"],
            ["hire", "Marit"],
            ["show"],
        ):
            answer = play(saves, "--edition", "deep", *action)
            self.assertEqual(answer.status, 0, answer.text)
            self.assertEqual(deep.build(Depot(saves).load()), Depot(saves).path.read_bytes())
        self.assertIn("Marit", answer.text)
        self.assertEqual(play(saves, "--edition", "atlas", "start", "Maud").status, 0)
        self.assertEqual(play(saves, "--edition", "atlas", "save", "2").status, 2)
        data = Depot(saves).path.read_bytes()
        for offset in set(range(len(data))) - set(range(5, 9)):  # how often it was saved is under no seal
            damaged = bytearray(data)
            damaged[offset] ^= 1 << offset % 8
            with self.assertRaises(SaveRefused, msg=offset):
                deep.parse(bytes(damaged))
        for cut in range(len(data)):
            with self.assertRaises(SaveRefused, msg=cut):
                deep.parse(data[:cut])

    def test_saves_differ_in_length_and_in_noise(self) -> None:
        saves = self.folder / "saves"
        play(saves, "start", "A")
        first = (saves / "harbour.bwk").read_bytes()
        play(saves, "rename", "Ives", "Ivesson")
        second = (saves / "harbour.bwk").read_bytes()
        self.assertEqual(len(second), len(first) + 3)
        company = desktop.parse(second)
        self.assertNotEqual(company.seed, desktop.parse(first).seed)
        self.assertNotEqual([lot.tag for lot in company.hold], [lot.tag for lot in desktop.parse(first).hold])

    def test_what_is_not_possible_is_told_and_changes_nothing(self) -> None:
        saves = self.harbour()
        before = self.tree(saves)
        for action in (
            ["sell", "brass lamp", "99"],
            ["sell", "moonlight"],
            ["buy", "copper helm", "500"],
            ["dive", "Nobody"],
            ["rename", "Nobody", "X"],
            ["rename", "Ives", "x" * 30],
            ["rename", "Ives", "Brock"],
            ["save", "0"],
            ["--slot", "100", "show"],
            ["start", ""],
        ):
            with self.subTest(action=action):
                answer = play(saves, *action)
                self.assertIn(answer.status, (1, 2))
                self.assertTrue(answer.text.startswith(("Brinewick", "brinewick")), answer.text)
                self.assertEqual(self.tree(saves), before)

    def test_every_flipped_byte_and_every_cut_is_refused_with_a_reason(self) -> None:
        saves = self.harbour()
        data = (saves / "harbour.bwk").read_bytes()
        free = set(range(20, 24))  # how often it was saved stands outside every seal
        for offset in set(range(len(data))) - free:
            damaged = bytearray(data)
            damaged[offset] ^= 1 << offset % 8
            with self.assertRaises(SaveRefused, msg=offset):
                company = desktop.parse(bytes(damaged))
                if company.slot != 1:
                    raise SaveRefused("slot")
        for cut in range(len(data)):
            with self.assertRaises(SaveRefused):
                desktop.parse(data[:cut])

    def test_an_edit_with_only_the_outer_seals_renewed_is_refused(self) -> None:
        saves = self.harbour()
        data = bytearray((saves / "harbour.bwk").read_bytes())
        at = data.index(b"PURS") + 10
        data[at : at + 4] = (5200).to_bytes(4, "little")
        data[16:20] = zlib.crc32(data[24:]).to_bytes(4, "little")
        with self.assertRaisesRegex(SaveRefused, "the section 'purs' is damaged: its sum does not match"):
            desktop.parse(bytes(data))

    def test_the_pair_and_the_index_must_agree(self) -> None:
        for name, old, new, words in (
            ("account.json", "1386.00", "1387.00", "the account says 1387 marks, the save says 1386"),
            ("account.json", "1386.00", "1386", "marks are written with two decimals"),
            ("account.json", "Oriel", "Uriel", "the account belongs to"),
            ("account.json", '"slot" :1', '"slot" :5', "the account knows no slot 1"),
            ("account.json", "{", "[", "the account cannot be read"),
            ("slots.idx", "\n1 ", "\n1 f", "the cached index knows another save"),
            ("slots.idx", "BWKIDX", "BWKIDY", "the index of slots cannot be read"),
        ):
            saves = self.folder / f"saves-{len(list(self.folder.iterdir()))}"
            self.harbour().rename(saves)
            path = saves / name
            path.write_text(path.read_text("utf-8").replace(old, new, 1), "utf-8")
            with self.subTest(words=words):
                answer = play(saves, "show")
                self.assertEqual(answer.status, 1)
                self.assertIn(words, answer.text)
        (saves / "slots.idx").unlink()
        self.assertEqual(play(saves, "show").status, 0, "without an index it is made anew")

    def test_rules_of_the_game(self) -> None:
        for change, words in (
            (lambda c: setattr(c, "marks", 60_001), "the purse bursts"),
            (lambda c: setattr(c.crew[0], "air", 101), "more air"),
            (lambda c: setattr(c.crew[0], "station", 9), "no known station"),
            (lambda c: setattr(c.crew[0], "name", "Ives"), "two divers of one name"),
            (lambda c: setattr(c.hold[0], "item", 99), "unknown thing"),
            (lambda c: setattr(c.hold[0], "kept_for", 9), "kept for nobody"),
            (lambda c: setattr(c, "route", [2]), "not open"),
            (lambda c: c.crew.clear(), "without a crew"),
        ):
            company = actions.start("A")
            change(company)
            with self.subTest(words=words), self.assertRaisesRegex(SaveRefused, words):
                desktop.build(company)
        weak = Company("A", crew=[Diver("Oriel", vigour=140)])
        self.assertIn("vigour 40", actions.show(desktop.parse(desktop.build(weak))))

    def test_noise_is_refused(self) -> None:
        rng = random.Random(5)
        for size in (0, 1, 23, 24, 25, 500):
            path = self.folder / "harbour.bwk"
            path.write_bytes(rng.randbytes(size))
            with self.assertRaises(SaveRefused):
                Harbour(Path(self.folder)).load(1)
