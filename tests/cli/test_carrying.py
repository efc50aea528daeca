"""Values, records and kits carried by command between saves of Brinewick, which the game then accepts."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

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
