"""Values, records and kits carried by command between saves of Brinewick, which the game then accepts."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

from faithful_ledger.core.shelf import Shelf
from tests.cli.test_commands import CommandCase
from tests.support import play


class CarryTest(CommandCase):
    def setUp(self) -> None:
        super().setUp()
        self.one, self.two, self.deep = (self.folder / name for name in ("one", "two", "deep"))
        for saves, *edition in ((self.one,), (self.two,), (self.deep, "--edition", "deep")):
            saves.mkdir()
            self.assertEqual(play(saves, *edition, "start", "Maud").status, 0)
        self.source, self.target = self.one / "harbour.bwk", self.two / "harbour.bwk"
        self.edition = self.deep / "company.bwd"
        self.json_of("post", self.source, "--set", "purse.marks=4321", "--set", "crew[name=Tamsin].air=12")

    def left(self, document: Any) -> dict[str, str]:
        return {each["path"]: each["why"] for each in document["left_out"]}

    def test_values_go_where_they_belong_and_the_rest_is_listed(self) -> None:
        before = self.tree(self.one)
        take = ["purse.marks", "Crew", "head.body_crc", "head.slot"]
        done = self.json_of("carry", "values", self.source, self.target, "--take", *take)
        self.assertEqual([Path(path).name for path in done["written"]], ["harbour.bwk", "account.json"])
        self.assertEqual([each["path"] for each in done["entries"]], ["purse.marks", "crew[1].air", "account.marks"])
        left = self.left(done)
        self.assertIn("is a seal and is worked out when you post", left["head.body_crc"])
        self.assertIn("is locked", left["head.slot"])
        self.assertEqual(self.tree(self.one), before)
        shown = play(self.two, "show").text
        self.assertIn("marks 4321", shown)
        self.assertIn("Tamsin: air 12", shown)

    def test_another_edition(self) -> None:
        take = ["purse.marks", "crew[name=Tamsin].air", "company.day=purse.debt", "chart"]
        done = self.json_of("carry", "values", self.source, self.edition, "--take", *take)
        entries = {each["path"].rpartition(".")[2]: each["new"] for each in done["entries"]}
        self.assertEqual((entries["marks"], entries["air"]), (4321, 12))
        shown = play(self.deep, "--edition", "deep", "show").text
        self.assertIn("marks 4321", shown)
        self.assertIn("Tamsin: air 12", shown)

    def test_records_and_what_happens_where_one_is_there(self) -> None:
        hold = self.json_of("read", self.source, "hold[0].item")["fields"][0]["value"]
        done = self.json_of("carry", "rows", self.source, self.target, "--take", "hold[0]", "--on-clash", "add")
        self.assertEqual([(e["path"], e["old"], e["new"]) for e in done["entries"]], [("hold", 12, 13)])
        self.assertEqual(self.json_of("read", self.target, "hold[12].item")["fields"][0]["value"], hold)
        tamsin = "crew[name=Tamsin]"
        kept = self.json_of("carry", "rows", self.source, self.target, "--take", tamsin, status=1)
        self.assertEqual(self.left(kept), {tamsin: "Tamsin is there already, and is kept as it is"})
        twice = ("carry", "rows", self.source, self.target, "--take", tamsin, "--on-clash", "add")
        self.assertIn("two may not have one name", self.left(self.json_of(*twice, status=1))[tamsin])
        done = self.json_of("carry", "rows", self.source, self.target, "--take", tamsin, "--on-clash", "replace")
        self.assertEqual([(e["path"], e["new"]) for e in done["entries"]], [("crew[1].air", 12)])
        shown = play(self.two, "show").text
        self.assertIn("hold, 13 lots", shown)
        self.assertIn("Tamsin: air 12", shown)

    def test_a_kit_as_a_file_and_as_a_line(self) -> None:
        kit = self.folder / "purse.kit"
        made = self.json_of("kit", "take", self.source, "--fields", "purse.marks,crew[name=Tamsin].air", "-o", kit)
        self.assertEqual([each["path"] for each in made["values"]], ["purse.marks", "crew[name=Tamsin].air"])
        before = self.tree(self.two)
        dry = self.json_of("kit", "apply", kit, self.target, "--dry-run")
        self.assertEqual((dry["written"], self.tree(self.two)), ([], before))
        empty = self.left(self.json_of("kit", "apply", kit, self.target, "--only-empty", status=1))
        self.assertIn("purse.marks is not empty: it says 1340", empty["purse.marks"])
        self.json_of("kit", "apply", made["line"], self.target)
        self.assertIn("marks 4321", play(self.two, "show").text)
        after = self.tree(self.two)
        self.assertIn("is not complete", self.refused(2, "kit", "apply", made["line"][:-3], self.target))
        for wrong in ("", "[1]", json.dumps({"kit": 2, "values": []}), json.dumps({"kit": 1, "values": [{"path": 3}]})):
            kit.write_text(wrong, "utf-8")
            self.assertIn("kit", self.refused(2, "kit", "apply", kit, self.target))
        self.assertIn("is both sides", self.refused(2, "carry", "values", self.source, self.source, "--take", "purse"))
        self.assertEqual(self.tree(self.two), after)


class PlacesTest(CommandCase):
    """Saves that go elsewhere, with the fixed JSON, and each mistake as one line with nothing written."""

    def played(self, name: str, *words: str) -> Path:
        saves = self.folder / name
        self.assertEqual(play(saves, *words, "start", "Maud").status, 0)
        return saves

    def test_slots_are_listed_filled_and_reversed(self) -> None:
        saves = self.played("harbour")
        before = self.tree(saves)
        found = self.json_of("slots", saves)["slots"]
        first = {"slot": "1", "file": str(saves / "harbour.bwk"), "title": "Maud · marks 1340 · clock 0:00:00"}
        self.assertEqual(found[0], first | {"taken": True})
        self.assertEqual(found[1]["taken"], False)
        path = saves / "harbour.bwk"
        plan = self.json_of("carry", "slot", path, "--to", "4", "--dry-run")
        self.assertEqual((plan["written"], plan["kept"], plan["in_balance"]), ([], [], True))
        self.assertEqual(self.tree(saves), before)
        done = self.json_of("carry", "slot", path, "--to", "4")
        self.assertEqual([Path(name).name for name in done["written"]], ["harbour-4.bwk", "account.json"])
        self.assertEqual([Path(name).name for name in done["removed"]], ["slots.idx"])
        self.assertEqual([(e["path"], e["old"], e["new"]) for e in done["entries"]], [("head.slot", "1", "4")])
        self.assertEqual(len(done["kept"]), 2)
        self.assertIn("Maud · slot 4", play(saves, "--slot", "4", "show").text)
        self.assertIn("slot 4 is taken by Maud", self.refused(3, "carry", "slot", path, "--to", "4"))
        self.assertIn("there is no slot 0", self.refused(2, "carry", "slot", path, "--to", "0"))
        events = self.json_of("history", saves / "harbour-4.bwk")["events"]
        self.assertEqual((events[0]["kind"], events[0]["note"]), ("carry", "slot 1 is copied to slot 4"))
        self.json_of("reverse", events[0]["id"])
        self.assertEqual(self.tree(saves), before)
        self.assertIn("was reversed already", self.refused(2, "reverse", events[0]["id"]))
        self.assertIn("no posting has the id", self.refused(2, "reverse", "nothing"))

    def test_a_copy_for_others_goes_into_any_free_slot(self) -> None:
        saves, archive = self.played("harbour"), self.folder / "start.zip"
        self.json_of("keep", saves / "harbour.bwk", "--label", "a good start", "-o", archive)
        self.assertIn("say with --in where its slots are", self.refused(2, "carry", "slot", archive, "--to", "7"))
        self.json_of("carry", "slot", archive, "--to", "7", "--in", saves)
        self.assertIn("Maud · slot 7", play(saves, "--slot", "7", "show").text)
        kept = self.json_of("snapshots", saves / "harbour.bwk")[-1]["id"]
        self.json_of("carry", "slot", kept, "--to", "8")
        self.assertIn("Maud · slot 8", play(saves, "--slot", "8", "show").text)
        archive.write_bytes(archive.read_bytes()[:-40])
        self.refused(2, "carry", "slot", archive, "--to", "9", "--in", saves)

    def test_history_says_what_a_field_was(self) -> None:
        path = self.played("harbour") / "harbour.bwk"
        self.json_of("post", path, "--set", "purse.marks=55", "--note", "a gift")
        events = self.json_of("history", path, "--field", "purse.marks")["events"]
        self.assertEqual([(e["kind"], e["value"]) for e in events], [("posting", "55"), ("snapshot", 1340)])
        self.assertIn("there is no gold", self.refused(2, "history", path, "--field", "purse.gold"))
        self.assertEqual(self.json_of("history", self.folder / "nothing", status=1), {"events": []})

    def test_what_is_neither_a_file_nor_a_snapshot(self) -> None:
        for name, words in (
            ("none/voyage.bwx", "there is no file none/voyage.bwx"),
            ("abcd", "no book has a snapshot"),
        ):
            self.assertIn(words, self.refused(2, "carry", "slot", name, "--to", "2"))

    def test_owners_and_cards(self) -> None:
        own = self.played("own", "--edition", "console")
        whose = ("--edition", "console", "--region", "REEF", "--owner", "brock")
        theirs = self.played("theirs", *whose)
        play(theirs, *whose, "dive", "Tamsin")
        card = self.played("card", "--edition", "card") / "card.bwc"
        words = ("carry", "owner", theirs / "voyage.bwx", "--like", own / "voyage.bwx")
        self.assertIn("with --payload", self.refused(3, *words))
        done = self.json_of(*words, "--payload")
        self.assertEqual([Path(name).parent.name for name in done["written"]], ["own"] * len(done["written"]))
        found = self.json_of("card", "list", card)
        self.assertEqual([(e["name"], e["blocks"]) for e in found["entries"]], [("voyage.bwx", 1), ("voyage.bwy", 4)])
        self.assertEqual((found["free"], found["free_bytes"]), (178, 178 * 256))
        self.json_of("carry", "slot", own / "voyage.bwx", "--to", "3")
        half = ("card", "add", card, own / "voyage-3.bwx")
        self.assertIn("belongs together with voyage-3.bwy", self.refused(3, *half))
        added = self.json_of(*half, own / "voyage-3.bwy")
        self.assertEqual([e["name"] for e in added["entries"]][2:], ["voyage-3.bwx", "voyage-3.bwy"])
        self.assertIn("directory[2].name", [e["path"] for e in added["fields"]])
        icons = [self.json_of("read", card, f"directory[{n}].icon")["fields"][0]["value"] for n in (2, 3)]
        self.assertEqual(icons, ["a bell", "a crate"])
        self.json_of("card", "extract", card, "voyage-3.bwy", "-o", self.folder)
        self.assertEqual((self.folder / "voyage-3.bwx").read_bytes(), (own / "voyage-3.bwx").read_bytes())
        self.json_of("card", "remove", card, "voyage-3.bwx")
        self.assertEqual(len(self.json_of("card", "list", card)["entries"]), 2)

    def test_a_world_with_its_registers(self) -> None:
        saves = self.played("town", "--edition", "atlas")
        east = ("--edition", "atlas", "--harbour", "east-pier", "--map", "2")
        play(saves, *east, "start", "Ives")
        words = ("carry", "world", saves / "west-quay", saves / "east-pier")
        self.assertIn("grant it once: --root harbours=FOLDER", self.refused(2, *words))
        roots = ("--root", f"harbours={saves}", "--root", f"registers={saves / 'registers'}")
        done = self.json_of(*words, *roots)
        self.assertIn("harbours.json", [Path(name).name for name in done["written"]])
        self.assertIn({"path": "harbour.cfg", "why": "it belongs to the map, and stays"}, done["left_out"])
        self.assertEqual({e["state"] for e in done["files"]}, {"only here", "same", "differs"})
        self.assertTrue(play(saves, *east, "show").text.startswith("Maud"))
        book = Shelf().book_of_folder(saves / "east-pier")
        assert book is not None
        (posting,) = book.history.postings()
        book.records.judge(posting.id, "refused")
        verdict = "the game's verdict on east-pier is “refused”; nothing was removed"
        self.assertIn(verdict, self.refused(3, *words, "--remove-old"))
        book.records.judge(posting.id, "accepted")
        book.close()
        self.json_of(*words, "--remove-old")
        self.assertFalse((saves / "west-quay").exists())
        stays = ("carry", "files", saves / "east-pier", saves, "--take", "map/*")
        self.assertIn("map/sheet-01.map: it belongs to the map, and stays", self.refused(3, *stays))
