"""The face for people's own scripts; the examples of docs/scripting.md are run as they are."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from contextlib import chdir
from pathlib import Path
from unittest import mock

import faithful_ledger
from faithful_ledger.core.shelf import Shelf
from tests.support import LedgerCase, play

PAGE = Path(__file__).parents[2] / "docs" / "scripting.md"


class ScriptingTest(LedgerCase):
    def setUp(self) -> None:
        super().setUp()
        self.saves = self.harbour()
        self.before = self.tree(self.saves)
        self.path = self.saves / "harbour.bwk"

    def open(self) -> object:
        return faithful_ledger.open(self.path, shelf=Shelf(self.folder / "data", self.cache))

    def test_the_examples_of_the_page_run(self) -> None:
        places = {"XDG_DATA_HOME": str(self.folder / "xdg"), "XDG_CACHE_HOME": str(self.cache)}
        examples = re.findall(r"```python\n(.*?)```", PAGE.read_text("utf-8"), re.DOTALL)
        self.assertGreaterEqual(len(examples), 5)
        with mock.patch.dict(os.environ, places), chdir(self.saves):
            for number, example in enumerate(examples):
                with self.subTest(number), mock.patch("builtins.print"):
                    exec(compile(example, f"example {number}", "exec"), {"faithful_ledger": faithful_ledger})
        self.assertEqual(play(self.saves, "show").status, 0)

    def test_values_are_read_and_set_as_python_has_them(self) -> None:
        with faithful_ledger.open(self.path, shelf=Shelf(self.folder / "data", self.cache)) as save:
            crew = save["crew"]
            self.assertEqual([diver["name"] for diver in crew], save["crew[*].name"])
            self.assertEqual(save["crew[0]"]["air"], save["crew[0].air"])
            self.assertEqual(list(save.column("hold[*].count")), save["hold[*].count"])
            self.assertIn("purse.marks", list(save))
            self.assertEqual(save.as_dict()["purse.marks"], save["purse.marks"])
            save["crew[0].injuries"] = ["burn", "chill"]
            save["purse"] = {"marks": 5200, "debt": 1}
            save["crew[1].station"] = "pump"
            self.assertEqual(save["crew[0].injuries"], ("burn", "chill"))
            self.assertEqual(save.pending["purse.debt"], 1)
            for path, value in (("purse.marks", 70000), ("purse.gold", 1), ("purse.marks", "x"), ("head.body_crc", 1)):
                with self.assertRaises(faithful_ledger.LedgerError):
                    save[path] = value
            posting = save.post("from a script")
            self.assertEqual((save.pending, save.in_balance), ({}, True))
            self.assertIn("marks 5200", play(self.saves, "show").text)
            save.reverse(posting)
        after = {name: data for name, data in self.tree(self.saves).items() if name in self.before}
        self.assertEqual(after, self.before)

    def test_the_package_alone_loads_nothing_heavy(self) -> None:
        code = "import sys, faithful_ledger; print(faithful_ledger.__version__, 'numpy' in sys.modules, 'pathlib' in sys.modules)"
        done = subprocess.run(
            [sys.executable, "-S", "-c", f"import sys; sys.path.insert(0, {str(PAGE.parents[1] / 'src')!r}); {code}"],
            capture_output=True,
            text=True,
            check=True,
        )
        self.assertEqual(done.stdout.split()[1:2], ["False"])
        with self.assertRaises(AttributeError):
            _ = faithful_ledger.nothing  # type: ignore[attr-defined]
