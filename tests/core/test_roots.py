"""Saves with files in several folders: granted once, then read, kept, posted and brought back together."""

from __future__ import annotations

import io
import json
import os
from contextlib import redirect_stderr, redirect_stdout
from unittest import mock

from faithful_ledger import scripting
from faithful_ledger.cli.main import main
from faithful_ledger.core.errors import LedgerError, RootNotGranted
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.template import parse_template
from tests.support import Crash, FailingDisk, LedgerCase

TEMPLATE = """ledger: 1
id: two-folders
title: Two folders
game: Two folders
recognise: [{name: "*.two"}]
roots: {index: the folder of the list of saves}
files:
  save:
    name: "*.two"
    layout: [{field: marks, as: u32}, {field: sum, as: u32, seal: {algorithm: crc-32, over: marks}}]
  list:
    name: list/saves.json
    root: index
    format: json
    layout: [{field: marks, as: number, at: "shown.marks"}]
rules: [{equal: [marks, list.marks], why: the list shows it}]
"""


class RootsTest(LedgerCase):
    def setUp(self) -> None:
        super().setUp()
        self.saves, self.index = self.folder / "saves", self.folder / "elsewhere"
        for folder in (self.saves, self.index / "list"):
            folder.mkdir(parents=True)
        self.path, self.list = self.saves / "a.two", self.index / "list" / "saves.json"
        self.path.write_bytes((1340).to_bytes(4, "little") + bytes.fromhex("7ED4F1F9")[:4])
        self.list.write_text('{"shown": {"marks": 1340}}')
        template = parse_template(TEMPLATE.encode(), "two.yaml")
        save = open_save(self.path, template, {"index": self.index})
        save.renew_broken = True
        save.enter("marks", "1341")  # the first posting makes the seal right
        for file in make_plan(save).written:
            file.file.path.write_bytes(bytes(file.patched.read(0, 999)))
        self.template = self.folder / "two.yaml"
        self.template.write_text(TEMPLATE)

    def states(self) -> tuple[int, int]:
        marks = int.from_bytes(self.path.read_bytes()[:4], "little")
        return marks, json.loads(self.list.read_text())["shown"]["marks"]

    def run_command(self, *arguments: str) -> tuple[int, dict[str, object], str]:
        out, err = io.StringIO(), io.StringIO()
        with redirect_stdout(out), redirect_stderr(err):
            status = main([*arguments, "--json", "--template", str(self.template)])
        return status, json.loads(out.getvalue()), err.getvalue()

    def test_the_folder_is_granted_once_and_both_files_are_posted_kept_and_brought_back(self) -> None:
        shelf = self.shelf()
        template = parse_template(TEMPLATE.encode(), "two.yaml")
        unknown = open_save(self.path, template)
        self.assertEqual(unknown.ungranted, ["index"])
        self.assertIsInstance(unknown.problem, RootNotGranted)
        self.assertRegex(
            str(unknown.problem), r"list/saves.json is in the folder “index” \(the folder of the list of saves\)"
        )
        with self.assertRaisesRegex(LedgerError, "grant it once: --root index=FOLDER"):
            unknown.enter("marks", "5")
        book = shelf.book_for(self.path, template)
        with self.assertRaisesRegex(LedgerError, "is not a folder; nothing was granted"):
            book.keeping.grant("index", self.folder / "nowhere")
        book.keeping.grant("index", self.index)
        save = open_save(self.path, template, shelf.open(book.name).keeping.roots)
        self.assertEqual([save.name_of(file) for file in save.on_disk], ["a.two", "index/list/saves.json"])
        save.enter("marks", "77")
        plan = make_plan(save)
        self.assertTrue(plan.in_balance)
        posting = book.history.post(save, plan, "both")
        self.assertEqual(self.states(), (77, 77))
        kept = book.keeping.snapshot(posting.kept)
        self.assertEqual({file.path for file in kept.files}, {self.path, self.list})
        archive = self.folder / "kept.zip"
        book.keeping.export(kept, archive)
        self.assertEqual(
            [file.path for file in book.keeping.take_in(archive, self.path).files],
            [self.path, self.list],
            "each where it was",
        )
        book.history.reverse(posting)
        self.assertEqual(self.states(), (1341, 1341))

    def test_a_stop_at_any_step_leaves_both_folders_old_or_both_new(self) -> None:
        template = parse_template(TEMPLATE.encode(), "two.yaml")
        step = 0
        while True:
            step += 1
            disk = FailingDisk(step)
            shelf = self.shelf(disk)
            book = shelf.book_for(self.path, template)
            save = open_save(self.path, template, {"index": self.index})
            before = self.states()
            save.enter("marks", str(before[0] + 1))
            try:
                book.history.post(save, make_plan(save))
            except (Crash, LedgerError):
                pass
            else:
                break
            finally:
                shelf.close()
            again = self.shelf()
            again.open(book.name)
            again.close()
            left, right = self.states()
            self.assertEqual(left, right, step)
            self.assertIn(left, (before[0], before[0] + 1))
            self.assertEqual(
                [p.name for f in (self.saves, self.list.parent) for p in f.iterdir()], ["a.two", "saves.json"]
            )
        self.assertGreater(step, 20)

    def test_a_link_out_of_the_granted_folder_is_not_followed(self) -> None:
        secret = self.folder / "secret.json"
        secret.write_text('{"shown": {"marks": 1341}}')
        self.list.unlink()
        self.list.symlink_to(secret)
        save = open_save(self.path, parse_template(TEMPLATE.encode(), "two.yaml"), {"index": self.index})
        self.assertRegex(str(save.problem), "leads out of .*elsewhere by a symbolic link")

    def test_by_command_and_from_scripts(self) -> None:
        home = {"XDG_DATA_HOME": str(self.folder / "data"), "XDG_CACHE_HOME": str(self.cache)}
        patch = mock.patch.dict(os.environ, home)
        patch.start()
        self.addCleanup(patch.stop)
        status, said, _ = self.run_command("read", str(self.path))
        self.assertEqual(status, 2)
        self.assertIn("--root index=FOLDER", str(said["remedy"]))
        status, said, _ = self.run_command("post", str(self.path), "--set", "marks=5", "--root", "index")
        self.assertEqual((status, said["error"]), (2, "--root “index” is not ROLE=FOLDER"))
        status, said, _ = self.run_command("post", str(self.path), "--set", "marks=5", "--root", f"index={self.index}")
        self.assertEqual((status, self.states()), (0, (5, 5)))
        status, said, _ = self.run_command("post", str(self.path), "--set", "marks=6")
        self.assertEqual((status, self.states()), (0, (6, 6)), "the book remembers the folder")
        out = self.folder / "out" / "b.two"
        out.parent.mkdir()
        status, said, _ = self.run_command("post", str(self.path), "--set", "marks=7", "--out", str(out))
        self.assertEqual((status, self.states()), (0, (6, 6)))
        self.assertTrue((out.parent / "index" / "list" / "saves.json").is_file())
        with scripting.open(self.path, str(self.template), roots={"index": self.index}, shelf=self.shelf()) as save:
            save["marks"] = 8
            save.post()
        self.assertEqual(self.states(), (8, 8))

    def test_mistakes_of_the_template(self) -> None:
        for old, new, words in (
            ("root: index", "root: indx", "“indx” is not one of the template's roots; did you mean “index”?"),
            (
                'name: "*.two"\n    layout',
                'name: "*.two"\n    root: index\n    layout',
                "the first file is the one people",
            ),
            ("name: list/saves.json", "name: ../saves.json", "leads elsewhere"),
        ):
            with self.subTest(words), self.assertRaisesRegex(LedgerError, words):
                parse_template(TEMPLATE.replace(old, new).encode(), "two.yaml")
