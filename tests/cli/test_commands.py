"""The command line: the fixed JSON, the exit statuses, and one line for everything that is wrong."""

from __future__ import annotations

import csv
import gzip
import hashlib
import io
import json
import os
import random
import re
import shutil
import signal
import struct
import subprocess
import sys
import threading
import zlib
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path
from typing import Any
from unittest import mock

from faithful_ledger.cli.main import main
from faithful_ledger.cli.saves import split_setting
from faithful_ledger.core.disk import Disk
from faithful_ledger.core.errors import AddressError
from tests.support import LedgerCase, play


class CommandCase(LedgerCase):
    def setUp(self) -> None:
        super().setUp()
        places = {"XDG_DATA_HOME": str(self.folder / "xdg"), "XDG_CACHE_HOME": str(self.cache)}
        patch = mock.patch.dict(os.environ, places)
        patch.start()
        self.addCleanup(patch.stop)

    def run_command(self, *arguments: str | Path) -> tuple[int, str, str]:
        out, err = io.StringIO(), io.StringIO()
        with redirect_stdout(out), redirect_stderr(err):
            status = main([str(argument) for argument in arguments])
        return status, out.getvalue(), err.getvalue()

    def json_of(self, *arguments: str | Path, status: int = 0) -> Any:
        """The one JSON document of a command, which prints nothing else."""
        got, out, err = self.run_command(*arguments, "--json")
        self.assertEqual(got, status, err)
        return json.loads(out)

    def refused(self, status: int, *arguments: str | Path) -> str:
        """The one line a refused command prints; nothing goes to standard output."""
        got, out, err = self.run_command(*arguments)
        self.assertEqual((got, out), (status, ""), err)
        self.assertEqual(len(err.strip().splitlines()), 1, err)
        self.assertTrue(err.startswith("error: "), err)
        return err


class LookingTest(CommandCase):
    def test_seals_in_a_file_of_their_own(self) -> None:
        folders = [self.folder / f"slot-{number}" for number in range(3)]
        for number, folder in enumerate(folders):
            folder.mkdir()
            data = random.Random(number).randbytes(400)
            (folder / "quay.dat").write_bytes(data)
            (folder / "quay.md5").write_text(hashlib.md5(data).hexdigest())
        files = [folder / "quay.dat" for folder in folders]
        for names, stored in ((folders, "quay.md5"), (files, "the file ….md5")):
            found = self.json_of("find-seals", *names, "--algorithm", "md5")["seals"]
            self.assertEqual(
                [(f["algorithm"], f["layer"], f["from"], f["to"]) for f in found], [("md5", stored, 0, 400)]
            )
        mixed = self.refused(2, "find-seals", folders[0], files[1])
        self.assertIn("some of these are folders and some are files", mixed)
        (self.folder / "empty").mkdir()
        self.assertIn("do not have a file of one name", self.refused(2, "find-seals", self.folder / "empty"))

    def test_read(self) -> None:
        saves = self.harbour()
        document = self.json_of("read", saves / "harbour.bwk")
        self.assertEqual(set(document), {"file", "template", "size", "in_balance", "fields", "seals", "findings"})
        self.assertEqual((document["template"], document["in_balance"]), ("brinewick-desktop", True))
        fields = {field["path"]: field for field in document["fields"]}
        self.assertEqual(
            fields["purse.marks"],
            {"path": "purse.marks", "value": 1386, "offset": 69, "size": 4, "stored_as": "u32le", "file": "save"},
        )
        self.assertEqual(fields["crew[0].injuries"]["value"], ["burn", "tired"])
        self.assertEqual(fields["account.marks"]["stored_as"], "json-number")
        self.assertIsNone(fields["chart.depths"]["value"])
        data = (saves / "harbour.bwk").read_bytes()
        for field in document["fields"]:
            if field["file"] == "save" and field["stored_as"] in ("u16le", "u32le") and isinstance(field["value"], int):
                raw = data[field["offset"] : field["offset"] + field["size"]]
                self.assertEqual(int.from_bytes(raw, "little"), field["value"], field)
        self.assertEqual(set(document["seals"][0]), {"name", "algorithm", "holds", "stored", "computed"})

    def test_check_answers_with_its_status(self) -> None:
        saves = self.harbour()
        self.assertNotIn("fields", self.json_of("check", saves / "harbour.bwk"))
        account = saves / "account.json"
        account.write_text(account.read_text().replace("1386.00", "1385.00", 1))
        document = self.json_of("check", saves / "harbour.bwk", status=1)
        self.assertEqual([(f["path"], f["level"]) for f in document["findings"]], [("account.marks", "error")])
        status, out, _ = self.run_command("check", saves / "harbour.bwk")
        self.assertEqual(status, 1)
        self.assertIn("✕ out of balance", out)
        self.assertIn("they must be equal", out)

    def test_words_for_people(self) -> None:
        saves = self.harbour()
        for command in (["read"], ["check"], ["keep"], ["post", "--dry-run", "--set", "purse.marks=1"], ["snapshots"]):
            status, out, err = self.run_command(*command, saves / "harbour.bwk")
            self.assertEqual((status, err), (0, ""), command)
            self.assertGreater(len(out.splitlines()), 1, command)

    def test_a_folder_that_holds_one_save(self) -> None:
        saves = self.harbour()
        self.assertIn(
            "holds 2 saves (harbour-2.bwk, harbour.bwk); name the file itself", self.refused(2, "check", saves)
        )
        (saves / "harbour-2.bwk").unlink()
        self.assertEqual(self.json_of("check", saves)["file"], str(saves / "harbour.bwk"))

    def test_values_that_json_does_not_have(self) -> None:
        saves = self.harbour()
        self.json_of("post", saves / "harbour.bwk", "--set", "crew[0].x=nan", "--set", "crew[0].y=-inf")
        fields = {f["path"]: f["value"] for f in self.json_of("read", saves / "harbour.bwk")["fields"]}
        self.assertEqual((fields["crew[0].x"], fields["crew[0].y"]), ("nan", "-inf"))


class PostingTest(CommandCase):
    def test_post_and_restore(self) -> None:
        saves = self.harbour()
        before = self.tree(saves)
        path = saves / "harbour.bwk"
        settings = (
            "--set",
            "purse.marks=5200",
            "--set",
            "crew[name=Tamsin].air=0x50",
            "--set",
            "crew[0].injuries=-burn",
        )
        dry = self.json_of("post", path, *settings, "--dry-run")
        self.assertEqual((dry["written"], dry["kept"], dry["in_balance"]), (False, None, True))
        self.assertEqual(self.tree(saves), before)
        document = self.json_of("post", path, *settings, "--note", "richer")
        self.assertEqual({**document, "kept": None, "written": False}, dry)
        self.assertTrue(document["written"])
        entries = {entry["path"]: (entry["old"], entry["new"]) for entry in document["entries"]}
        self.assertEqual(entries["crew[0].injuries"], (["burn", "tired"], ["tired"]))
        self.assertEqual(entries["account.marks"], (1386, 5200))
        self.assertEqual(set(document["changes"][0]), {"offset", "size", "cause", "file"})
        self.assertIn("marks 5200", play(saves, "show").text)
        (kept,) = self.json_of("snapshots", path)
        self.assertEqual((kept["id"], kept["label"]), (document["kept"], "richer"))
        self.assertEqual(
            [Path(file["path"]).name for file in kept["files"]], ["harbour.bwk", "account.json", "slots.idx"]
        )
        back = self.json_of("restore", kept["id"][:8])
        self.assertEqual(back["id"], kept["id"])
        self.assertEqual(self.tree(saves), before)
        self.assertEqual(len(self.json_of("snapshots")), 2)
        self.json_of("restore", back["kept"], "--to", self.folder / "away")
        self.assertIn("marks 5200", play(self.folder / "away", "show").text)

    def test_a_structure_from_a_file(self) -> None:
        saves = self.harbour()
        values = self.folder / "diver.json"
        values.write_text(json.dumps({"air": 90, "station": "lookout", "injuries": ["cut"]}))
        self.json_of("post", saves / "harbour.bwk", "--set", f"crew[name=Brock]=@{values}")
        self.assertIn("Brock: air 90, vigour 31, cut, at lookout", play(saves, "show").text)
        values.write_text("{")
        self.assertIn("is not JSON", self.refused(2, "post", saves / "harbour.bwk", "--set", f"crew[0]=@{values}"))
        self.assertIn(
            "/none.json is not there", self.refused(2, "post", saves / "harbour.bwk", "--set", "crew[0]=@/none.json")
        )

    def test_out_writes_elsewhere(self) -> None:
        saves = self.harbour()
        before = self.tree(saves)
        away = self.folder / "away"
        away.mkdir()
        document = self.json_of("post", saves / "harbour.bwk", "--set", "purse.marks=5200", "--out", away)
        self.assertEqual((document["written"], document["kept"]), (True, None))
        self.assertEqual(self.tree(saves), before)
        self.assertIn("marks 5200", play(away, "show").text)
        self.assertIn(
            "exists already", self.refused(3, "post", saves / "harbour.bwk", "--set", "purse.marks=1", "--out", away)
        )

    def test_a_broken_seal_asks(self) -> None:
        saves = self.harbour()
        path = saves / "harbour.bwk"
        data = bytearray(path.read_bytes())
        data[0x4A] ^= 0x10
        path.write_bytes(data)
        arguments = ("post", path, "--set", "purse.marks=5200")
        refusal = self.refused(3, *arguments)
        self.assertIn("did not hold when the save was opened", refusal)
        self.assertIn("--renew-broken", refusal)
        self.assertEqual(path.read_bytes(), data)
        self.assertFalse(self.json_of(*arguments, "--leave-broken")["in_balance"])
        self.json_of("restore", self.json_of("snapshots", path)[0]["id"])
        self.assertTrue(self.json_of(*arguments, "--renew-broken")["in_balance"])
        self.assertEqual(play(saves, "show").status, 0)

    def test_bounds_can_be_passed_on_purpose(self) -> None:
        path = self.harbour() / "harbour.bwk"
        told = self.refused(2, "post", path, "--set", "purse.marks=70000")
        self.assertIn("purse.marks: 70000 is above the bound", told)
        self.assertIn("or enter it anyway (--anyway)", told)
        self.assertTrue(self.json_of("post", path, "--set", "purse.marks=70000", "--anyway")["written"])

    def test_settings(self) -> None:
        for text, parts in (
            ("purse.marks=5", ("purse.marks", "5")),
            ("crew[name=A=B].name=C=D", ("crew[name=A=B].name", "C=D")),
            ("a=", ("a", "")),
        ):
            self.assertEqual(split_setting(text), parts)
        for text in ("purse.marks", "crew[name=5", ""):
            with self.assertRaises(AddressError):
                split_setting(text)

    def test_keep_a_file_no_template_fits(self) -> None:
        noise = self.folder / "noise.bin"
        noise.write_bytes(os.urandom(500))
        document = self.json_of("keep", noise, "--label", "first", "--book", "Mine")
        self.assertEqual(set(document), {"id", "label", "time", "files"})
        self.assertEqual(self.json_of("snapshots", "--book", "Mine")[0]["label"], "first")
        noise.unlink()
        self.json_of("restore", document["id"], "--book", "Mine")
        self.assertTrue(noise.exists())


class StrangerTest(CommandCase):
    """What comes from a stranger's file reaches neither the terminal nor another command."""

    def template(self, layout: str, rest: str = "") -> Path:
        path = self.folder / "mine.yaml"
        text = "ledger: 1\nid: mine\ntitle: Mine\nrecognise: [{name: '*.sav'}]\nfiles:\n  save:\n    name: '*.sav'\n"
        path.write_text(f"{text}    layout: {layout}\n{rest}", "utf-8")
        return path

    def test_control_characters_are_escaped_in_words_and_in_json(self) -> None:
        path = self.folder / "a.sav"
        path.write_bytes(b"X\x1b]0;x\x07\xc2\x9b\xe2\x80\xae\x7f\n" + bytes(3))
        template = self.template('[{field: a, as: u8, names: {88: "x\\e]0;pwn\\a"}}, {field: b, as: text, size: 14}]')
        status, out, err = self.run_command("read", path, "--template", template)
        self.assertEqual((status, err), (0, ""))
        self.assertNotRegex(out, "[\x00-\x09\x0b-\x1f\x7f-\x9f\u202e]")
        self.assertIn("x\\x1b]0;pwn\\x07", out)
        document = self.run_command("read", path, "--template", template, "--json")[1]
        self.assertNotRegex(document, "[\x00-\x09\x0b-\x1f\x7f-\x9f\u202e]")
        values = {field["path"]: field["value"] for field in json.loads(document)["fields"]}
        self.assertEqual(values["b"], path.read_bytes()[1:14].decode())
        error = self.run_command("read", self.folder / "no\x1b[31m.sav")[2]
        self.assertNotIn("\x1b", error)

    def test_an_output_that_is_not_utf_8_and_a_name_that_is_not(self) -> None:
        path = Path(os.fsdecode(os.fsencode(self.folder) + b"/caf\xe9.sav"))
        path.write_bytes(bytes(4))
        template = self.template('[{field: a, as: u32, label: "Søn ≥ 1"}]')
        for encoding in ("ascii", "latin-1", "utf-8"):
            for extra in ([], ["--json"]):
                done = subprocess.run(
                    [
                        sys.executable,
                        "-m",
                        "faithful_ledger",
                        "read",
                        os.fsencode(path),
                        "--template",
                        template,
                        *extra,
                    ],
                    env={**os.environ, "PYTHONIOENCODING": encoding},
                    capture_output=True,
                    check=False,
                )
                self.assertEqual((done.returncode, done.stderr), (0, b""), encoding)
                if extra:
                    self.assertEqual(json.loads(done.stdout.decode(encoding))["fields"][0]["value"], 0)
        self.assertEqual(self.json_of("keep", path)["files"][0]["path"], str(path))

    def test_what_never_ends_is_not_read(self) -> None:
        saves = self.harbour()
        before = self.tree(saves)
        told = self.refused(2, "post", saves / "harbour.bwk", "--set", "crew=@/dev/zero")
        self.assertIn("/dev/zero is not a plain file", told)
        self.assertEqual(self.tree(saves), before)
        many = self.folder / "many"
        many.mkdir()
        for number in range(5100):
            (many / f"{number}.sav").touch()
        self.assertIn("has more than 5000 files", self.refused(2, "read", many))

    def test_errors_are_a_document_as_well(self) -> None:
        for arguments, status in ((["read", str(self.folder / "gone.sav")], 2), (["read"], 2), (["vault", "check"], 0)):
            got, out, _ = self.run_command(*arguments, "--json")
            self.assertEqual(got, status)
            document = json.loads(out)
            self.assertEqual(set(document) == {"error", "remedy"}, status != 0, document)

    def test_where_no_seal_is_known_nothing_is_called_in_balance(self) -> None:
        path = self.folder / "a.sav"
        path.write_bytes(bytes(4))
        out = self.run_command("check", path, "--template", self.template("[{field: a, as: u32}]"))[1]
        self.assertIn("no seal is known, so nothing says that the game will accept it", out)
        self.assertNotIn("in balance", out)
        self.assertNotIn("0 of 0", out)
        layout = "[{field: a, as: u8, length_of: b}, {unknown: b, size: a}]"
        path.write_bytes(b"\3abc")
        out = self.run_command("check", path, "--template", self.template(layout))[1]
        self.assertIn("no checksum is known, so nothing says that the game will accept it", out)
        self.assertIn("1 of 1 seals hold", out)

    def test_a_broken_template_of_the_user_stops_no_other_save(self) -> None:
        saves = self.harbour()
        folder = self.folder / "xdg" / "faithful-ledger" / "templates"
        folder.mkdir(parents=True)
        hostile = Path(__file__).parents[2].parent / "shared" / "reproductions" / "hostile"
        texts = [path.read_bytes() for path in sorted(hostile.glob("*.yaml"))] if hostile.is_dir() else []
        for number, text in enumerate([*texts, b"\xff\xfe", b"[" * 4000, b"- " * 5000, b"? {a: 1}\n: 2"]):
            (folder / f"{number}.yaml").write_bytes(text)
        self.assertEqual(self.run_command("check", saves / "harbour.bwk", "--template", "brinewick-desktop")[0], 0)

    def test_ctrl_c_says_what_was_written_before_it(self) -> None:
        saves = self.harbour()
        path = saves / "harbour.bwk"

        def interrupted(*arguments: object, **options: object) -> None:
            raise KeyboardInterrupt

        with mock.patch("faithful_ledger.cli.saves.make_plan", interrupted):
            status, _, err = self.run_command("post", path, "--set", "purse.marks=1")
        self.assertEqual((status, err), (130, "error: stopped; everything is as it was\n"))
        with mock.patch("faithful_ledger.cli.saves.print_plan", interrupted):
            status, _, err = self.run_command("post", path, "--set", "purse.marks=5200")
        self.assertEqual(status, 130)
        self.assertRegex(err, "^error: stopped after the posting .* was written; the untouched files are kept as ")
        self.assertIn("marks 5200", play(saves, "show").text)

        def by_signal(self: Disk, source: Path, target: Path) -> bool:
            os.kill(os.getpid(), signal.SIGINT)  # Ctrl+C between the two files of the set
            return exchange(self, source, target)

        exchange = Disk.exchange
        # A shell that runs the tests in its background has it ignored.
        self.addCleanup(signal.signal, signal.SIGINT, signal.signal(signal.SIGINT, signal.default_int_handler))
        with mock.patch.object(Disk, "exchange", by_signal):
            status, _, err = self.run_command("post", path, "--set", "purse.marks=5300")
        self.assertEqual(status, 130)
        self.assertIn("stopped after the posting", err)
        self.assertIn("marks 5300", play(saves, "show").text)

    def test_vault(self) -> None:
        saves = self.harbour()
        kept = self.json_of("keep", saves / "harbour.bwk", "--label", "one")
        listed = self.json_of("vault", "list")["snapshots"]
        self.assertEqual([(s["book"], s["id"], s["label"]) for s in listed], [("Brinewick", kept["id"], "one")])
        self.assertEqual(self.json_of("vault", "check")["damaged"], [])
        book = self.folder / "xdg" / "faithful-ledger" / "books" / "Brinewick"
        (victim,) = (book / "vault" / "objects").glob(f"??/{kept['files'][0]['sha256']}.zst")
        victim.unlink()
        report = self.json_of("vault", "check", status=1)
        self.assertEqual(
            [(d["snapshot"], d["path"]) for d in report["damaged"]], [(kept["id"], kept["files"][0]["path"])]
        )
        for path in book.glob("book.sqlite*"):
            path.unlink()
        _, out, err = self.run_command("snapshots", saves / "harbour.bwk")
        self.assertIn("1 snapshots were found again in its vault", err)
        self.assertIn(kept["id"], out)
        self.assertEqual(self.json_of("vault", "rebuild"), {"found": {"Brinewick": 0}})

    def test_a_long_copy_that_is_broken_is_said_in_words_and_json(self) -> None:
        path = self.folder / "twice.sav"
        path.write_bytes(b"\x7f" + bytes(range(250)) * 40 + bytes(10_001))
        seal = "{algorithm: copy, over: first}"
        layout = f"[{{unknown: first, size: 10001}}, {{field: second, as: checksum, size: 10001, seal: {seal}}}]"
        template = self.template(layout)
        status, out, err = self.run_command("read", path, "--template", template)
        self.assertEqual((status, err), (0, ""))
        self.assertIn("(copy) says 0 and should say 7F0001020304", out)
        (found,) = self.json_of("read", path, "--template", template)["seals"]
        self.assertEqual((found["stored"], found["computed"][:10]), (0, "0x7F000102"))


class ScriptTest(CommandCase):
    """From `locate` to `pin` to `post`, and the table of `read`, without a word in between."""

    def test_from_a_place_to_a_posted_value(self) -> None:
        folder = self.folder / "deep"
        deep = ("--edition", "deep")
        self.assertEqual(play(folder, *deep, "start", "Oriel").status, 0)
        seen: list[str] = []
        for number in range(3):
            marks = re.search(r"marks (\d+)", play(folder, *deep, "show").text)
            assert marks is not None
            copy = self.folder / f"{number}.bwd"
            shutil.copy(folder / "company.bwd", copy)
            seen += ["--seen", f"{copy}={marks[1]}"]
            self.assertEqual(play(folder, *deep, "sell", "brass lamp").status, 0)
        document = self.json_of("locate", *seen)
        first = document["places"][0]
        self.assertEqual((first["route"][0]["kind"], len(first["offsets"]), first["fits"]), ("zstd", 3, 3))
        self.assertEqual(len({(tuple(p["offsets"]), p["path"]) for p in document["places"]}), len(document["places"]))
        for number, place in enumerate((json.dumps(document), json.dumps(first))):
            with mock.patch("sys.stdin", io.StringIO(place)):
                where = ("--place", "-" if number else place, "--as", "Marks", "--template", "none")
                pinned = self.json_of("pin", self.folder / "2.bwd", *where)
            self.assertEqual(str(pinned["value"]), seen[-1].rpartition("=")[2])
            self.assertEqual(self.run_command("read", self.folder / "2.bwd", pinned["path"])[0], 0)
            shutil.rmtree(self.folder / "xdg")
        where = ("--place", json.dumps(first), "--as", "Marks", "--template", "none")
        pinned = self.json_of("pin", self.folder / "2.bwd", *where)
        self.assertEqual(self.run_command("post", self.folder / "2.bwd", "--set", f"{pinned['path']}=4321")[0], 0)
        self.assertEqual(self.json_of("read", self.folder / "2.bwd", pinned["path"])["fields"][0]["value"], 4321)

    def test_of_places_that_are_alike_the_one_near_a_pinned_quantity_is_first(self) -> None:
        noise = random.Random(11).randbytes(3000)
        for number, (marks, air) in enumerate(((1340, 45_001), (1432, 45_321))):
            held = bytearray(noise)
            for at, value in ((2000, marks), (2010, air), (600, air)):
                held[at : at + 4] = value.to_bytes(4, "little")
            (self.folder / f"{number}.sav").write_bytes(held)
        asked = [
            ("locate", *(f"--seen={self.folder / f'{n}.sav'}={v}" for n, v in enumerate(pair)))
            for pair in (("1340", "1432"), ("45001", "45321"))
        ]
        self.assertEqual(self.json_of(*asked[1])["places"][0]["offset"], 600)
        marks = json.dumps(self.json_of(*asked[0]))
        self.json_of("pin", self.folder / "1.sav", "--place", marks, "--as", "Marks")
        first, second = self.json_of(*asked[1])["places"][:2]
        self.assertEqual((first["offset"], second["offset"]), (2010, 600))
        self.assertIn("6 bytes behind marks, which is pinned", self.run_command(*asked[1])[1])

    def test_a_place_goes_into_a_template_that_is_named(self) -> None:
        for number in (1, 2):
            (self.folder / f"{number}.sav").write_bytes(bytes(9) + bytes([200 + number, 1]) + bytes(9))
        template = self.folder / "own.yaml"
        template.write_text(
            "# mine\nledger: 1\nid: own\ntitle: Own\nfiles: {save: {name: '*.sav', layout: [{unknown: a, size: 4}]}}\n"
        )
        seen = [f"--seen={self.folder / '1.sav'}=457", f"--seen={self.folder / '2.sav'}=458"]
        (self.folder / "place.json").write_text(json.dumps(self.json_of("locate", *seen)))
        place = ("--place", self.folder / "place.json", "--as", "Marks", "--template", template)
        self.assertEqual(
            self.json_of("pin", self.folder / "2.sav", *place), {"template": "own", "path": "marks", "value": 458}
        )
        self.assertIn("# mine", template.read_text())
        for wrong in ("{}", "[]", "[1]", "{", '{"stored_as": "u8", "offsets": "x"}', '{"stored_as": 5, "offset": 3}'):
            before = template.read_text()
            got = self.run_command("pin", self.folder / "2.sav", "--place", wrong, *place[2:])[0]
            self.assertEqual((got, template.read_text()), (2, before), wrong)

    def test_some_fields_as_a_table_for_spreadsheets_also_from_the_input(self) -> None:
        text = "name = Oriel, of the quay\nmarks = 1340\n[crew]\nair = 5\n"
        path = self.folder / "a.cfg"
        path.write_text(text)
        for arguments in ((path, "--csv", "name", "crew.air"), (path, "name", "crew.air", "--csv")):
            status, out, _ = self.run_command("read", *arguments)
            rows = list(csv.DictReader(io.StringIO(out)))
            self.assertEqual((status, [row["value"] for row in rows]), (0, ["Oriel, of the quay", "5"]))
        stream = io.TextIOWrapper(io.BytesIO(text.encode()))
        with mock.patch("sys.stdin", stream):
            document = self.json_of("read", "-", "marks")
        self.assertEqual([(f["path"], f["value"]) for f in document["fields"]], [("marks", 1340)])
        self.assertIn("unrecognized arguments: marks", self.refused(2, "check", path, "marks"))

    def test_every_shell_gets_its_completion(self) -> None:
        for shell in ("bash", "zsh", "fish"):
            status, out, _ = self.run_command("completion", shell)
            self.assertEqual(status, 0)
            self.assertIn("--dry-run" if shell != "fish" else "dry-run", out)


class WrongTest(CommandCase):
    """One good save, one cut off, one empty, one of noise, one that is not there: a clear line each, nothing written."""

    def test_bad_saves_with_every_command(self) -> None:
        saves = self.harbour()
        good = (saves / "harbour.bwk").read_bytes()
        huge = self.folder / "huge.bwk"
        with huge.open("wb") as file:
            file.write(good[:24])
            file.truncate(4 << 30)
        cases = {
            "cut.bwk": (good[:900], "cut.bwk: body at 0x18 (24): its length says"),
            "empty.bwk": (b"", "no template fits this file"),
            "noise.bwk": (bytes(range(256)) * 9, "no template fits this file"),
            "missing.bwk": (None, "is not there; check the name"),
            "huge.bwk": (None, "huge.bwk: company.tag at 0x18 (24): should be 43 4F 4D 50 and is 00 00 00 00"),
        }
        for name, (content, _) in cases.items():
            if content is not None:
                (self.folder / name).write_bytes(content)
        before = {p.name: p.stat().st_mtime_ns for p in self.folder.glob("*.bwk")}
        for name, (_, words) in cases.items():
            for command in (["read"], ["check"], ["post", "--set", "purse.marks=1"]):
                with self.subTest(name=name, command=command):
                    self.assertIn(words, self.refused(2, *command, self.folder / name))
        self.assertEqual({p.name: p.stat().st_mtime_ns for p in self.folder.glob("*.bwk")}, before)

    def test_wrong_use(self) -> None:
        saves = self.harbour()
        path = saves / "harbour.bwk"
        before = self.tree(saves)
        for status, arguments, words in (
            (2, ["frobnicate"], "invalid choice: 'frobnicate'"),
            (2, ["read"], "the following arguments are required: FILE"),
            (2, ["post", path], "there is nothing to post; say what with --set PATH=VALUE"),
            (2, ["post", path, "--set", "purse.mark=1"], "there is no mark; did you mean “marks”?"),
            (2, ["post", path, "--set", "purse.marks"], "“purse.marks” is not an entry; write --set PATH=VALUE"),
            (2, ["post", path, "--set", "hold[*].count=70000"], "70000 does not fit u16le"),
            (2, ["post", path, "--set", "head.body_crc=1"], "is a seal and is worked out when you post"),
            (2, ["read", path, "--template", "brinewick-desktp"], "did you mean “brinewick-desktop”?"),
            (2, ["read", path, "--template", self.folder / "no.yaml"], "no.yaml is not there"),
            (2, ["restore", "feedface"], "no book has a snapshot “feedface”"),
            (2, ["snapshots", "--book", "Nowhere"], "there is no book “Nowhere”"),
            (2, ["keep", path, "--book", "../evil"], "is not a name for a book"),
            (2, ["check", self.folder / "\udcff"], ""),
        ):
            with self.subTest(arguments=arguments):
                self.assertIn(words, self.refused(status, *arguments))
        self.assertEqual(self.tree(saves), before)

    def test_a_full_disk_and_what_may_not_be_read(self) -> None:
        saves = self.harbour()
        before = self.tree(saves)
        path = saves / "harbour.bwk"
        with mock.patch("faithful_ledger.core.disk.os.write", side_effect=OSError(28, "No space left on device")):
            told = self.refused(2, "post", path, "--set", "purse.marks=1")
        self.assertIn("the disk is full; the save is as it was; make room and try again", told)
        self.assertEqual(self.tree(saves), before)
        with mock.patch("faithful_ledger.core.source.os.open", side_effect=PermissionError(13, "Permission denied")):
            self.assertIn("harbour.bwk may not be read by you; nothing was read", self.refused(2, "check", path))
        with mock.patch(
            "faithful_ledger.core.opening.os.scandir", side_effect=PermissionError(13, "Permission denied")
        ):
            self.assertIn("harbour may not be read by you", self.refused(2, "check", saves))
        records = self.folder / "xdg" / "faithful-ledger" / "books" / "Brinewick" / "book.sqlite"
        self.json_of("keep", path)
        for path_ in records.parent.glob("book.sqlite-*"):
            path_.unlink()
        records.write_bytes(b"no database" * 100)
        self.assertIn("cannot be opened (file is not a database)", self.refused(3, "keep", path))

    def test_a_template_with_mistakes_tells_all_of_them(self) -> None:
        path = self.harbour() / "harbour.bwk"
        template = self.folder / "mine.yaml"
        template.write_text("ledger: 1\nid: mine\nfiles:\n  save: {name: x, layuot: []}\n")
        told = self.refused(2, "read", path, "--template", template)
        self.assertIn("the template mine.yaml has 3 mistakes: line 1: “title” is missing", told)
        self.assertIn("line 4: “layuot” is not a key here; did you mean “layout”?", told)

    def test_a_machine_that_stopped_in_between_is_recovered_by_the_next_command(self) -> None:
        saves = self.harbour()
        code = """
import os, sys
from pathlib import Path
from faithful_ledger.core.disk import Disk
exchange = Disk.exchange
def stop(self, source, target):
    swapped = exchange(self, source, target)
    if target.name == "harbour.bwk":
        os._exit(9)
    return swapped
Disk.exchange = stop
from faithful_ledger.cli.main import main
main(["post", sys.argv[1], "--set", "purse.marks=5200"])
"""
        path = saves / "harbour.bwk"
        stopped = subprocess.run([sys.executable, "-c", code, str(path)], env={**os.environ}, check=False)
        self.assertEqual(stopped.returncode, 9)
        self.assertEqual(play(saves, "show").status, 1)
        status, _, told = self.run_command("snapshots", path)
        self.assertEqual(
            (status, told), (0, "note: an interrupted posting to harbour.bwk, account.json was finished\n")
        )
        self.assertIn("marks 5200", play(saves, "show").text)

    def test_help_version_and_a_closed_pipe(self) -> None:
        self.assertEqual(self.run_command("--version")[:2], (0, "faithful-ledger 0.2.0\n"))
        status, out, _ = self.run_command("--help")
        self.assertEqual(status, 0)
        for name in ("read", "check", "post", "keep", "snapshots", "restore", "open"):
            self.assertRegex(out, rf"\n  {name} +\w")
        for name in ("read", "post", "restore"):
            self.assertIn("--json", self.run_command(name, "--help")[1])
        path = self.harbour() / "harbour.bwk"
        command = f"{sys.executable} -m faithful_ledger read {path} --json | head -c 10"
        done = subprocess.run(
            ["/bin/sh", "-c", command], capture_output=True, text=True, env={**os.environ}, check=False
        )
        self.assertNotIn("Traceback", done.stderr)


class EvidenceTest(CommandCase):
    def test_compare_looks_into_what_is_packed(self) -> None:
        a, b = (self.folder / f"{name}.sav.gz" for name in "ab")
        for path, marks in ((a, 1340), (b, 1341)):
            path.write_bytes(gzip.compress(b"crew " * 300 + struct.pack("<I", marks) + b" hold" * 300, mtime=0))
        document = self.json_of("compare", a, b, status=1)
        inside = [change for change in document["changes"] if "inside" in change]
        told = [(change["kind"], change["a"], change["inside"]) for change in inside]
        self.assertEqual(told, [("replaced", [1500, 1501], "gzip at 0x0 (0)")])

    def test_hits_come_in_the_order_of_their_likelihood(self) -> None:
        path = self.folder / "many.bin"
        noise = random.Random(3).randbytes(40_000).replace(b"\x3c\x05", b"\x3c\x06")
        path.write_bytes(b"\x3c\x05\x91" * 40 + noise + b"marks\0\0\0" + struct.pack("<I", 1340) + noise)
        status, out, err = self.run_command("search", path, "--number", "1340", "--most", "3", "--json")
        first = json.loads(out)["hits"][0]
        self.assertEqual((status, first["offset"], first["stored_as"]), (0, 40_128, "u32le"))
        self.assertRegex(err, r"the likeliest 3 of \d+ hits")

    def test_find_does_not_hide_packed_saves_nor_offers_its_own_files(self) -> None:
        for name in ("slot1.sav.gz", "saves/index.json", "saves/a.xz", "other/archive.gz", "other/a.png"):
            path = self.folder / "game" / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(b"x" * 900)
        self.run_command("keep", self.folder / "game" / "saves" / "index.json")
        found = {Path(c["path"]).name for c in self.json_of("find", self.folder)["candidates"]}
        self.assertTrue({"slot1.sav.gz", "index.json", "a.xz"} <= found)
        self.assertFalse({"archive.gz", "a.png", "book.sqlite"} & found)

    def test_locate(self) -> None:
        folder = self.folder / "played"
        seen = []
        for number, actions in enumerate(
            (
                [["start", "Oriel"]],
                [["sell", "brass lamp"]],
                [["rename", "Ives", "Ives the Younger"], ["dive", "Oriel"]],
            )
        ):
            for action in actions:
                play(folder, *action)
            copy = self.folder / f"copy-{number}=x.bwk"
            copy.write_bytes((folder / "harbour.bwk").read_bytes())
            air = next(line for line in play(folder, "show").text.splitlines() if "Oriel: air" in line)
            seen += ["--seen", f"{copy}={air.split('air ')[1].split(',')[0]}"]
        document = self.json_of("locate", *seen)
        self.assertEqual(set(document), {"places", "suggestion", "tried", "not_tried"})
        best = document["places"][0]
        fixed = {"offset", "path", "anchor", "layer", "stored_as", "fits", "of", "scale", "bias", "rounding"}
        self.assertLessEqual(fixed | {"offsets", "route", "address", "also_as"}, set(best))
        data = (self.folder / "copy-0=x.bwk").read_bytes()
        self.assertEqual(data[best["offset"] - 6 : best["offset"] + 1], b"\x05Oriel\x17")
        self.assertEqual((best["fits"], best["of"], best["scale"], best["layer"]), (3, 3, 1.0, None))
        status, out, _ = self.run_command("locate", *seen)
        self.assertEqual(status, 0)
        self.assertIn("3 of 3", out)
        nothing = self.json_of("locate", "--seen", f"{copy}=123456789", status=1)
        self.assertEqual(nothing["places"], [])

    def test_what_cannot_be_located(self) -> None:
        path = self.harbour() / "harbour.bwk"
        for arguments, words in (
            ([], "nothing was seen; say --seen FILE=VALUE"),
            (["--seen", "nothing"], "“nothing” is not a sighting; write --seen FILE=VALUE"),
            (["--seen", "none.bwk=5"], "none.bwk is not there"),
            (["--seen", f"{path}="], "a sighting is empty"),
            (["--seen", f"{path}=any"], "nothing was seen that tells one place from another"),
            (["--seen", f"{path}=5", "--seen", f"{path}=Oriel"], "is a text and others are numbers"),
        ):
            with self.subTest(arguments=arguments):
                self.assertIn(words, self.refused(2, "locate", *arguments))

    def test_compare(self) -> None:
        saves = self.harbour()
        before = self.folder / "before.bwk"
        (self.folder / "account.json").write_bytes((saves / "account.json").read_bytes())
        before.write_bytes((saves / "harbour.bwk").read_bytes())
        same = self.json_of("compare", before, saves / "harbour.bwk")
        self.assertEqual((same["same"], same["changes"], same["fields"], same["changed_share"]), (True, [], [], 0))
        play(saves, "rename", "Ives", "Ives the Younger")
        document = self.json_of("compare", before, saves / "harbour.bwk", status=1)
        self.assertEqual(set(document), {"same", "changed_share", "aligned", "changes", "fields"})
        inserted = [change for change in document["changes"] if change["kind"] == "inserted"]
        self.assertIn(12, [change["b"][1] - change["b"][0] for change in inserted])
        self.assertLess(document["changed_share"], 0.1)
        fields = {field["path"]: (field["a"], field["b"]) for field in document["fields"]}
        self.assertEqual(fields["crew[3].name"], ("Ives", "Ives the Younger"))
        noise = self.folder / "noise.bin"
        noise.write_bytes(os.urandom(400))
        self.assertEqual(self.json_of("compare", before, noise, status=1)["fields"], [])
        self.assertIn("is not there", self.refused(2, "compare", before, self.folder / "none"))
        status, out, _ = self.run_command("compare", before, saves / "harbour.bwk")
        self.assertEqual(status, 1)
        self.assertIn("Ives the Younger", out)

    def test_find_and_search(self) -> None:
        saves = self.harbour()
        document = self.json_of("find", saves, "--since", "today", "--name", "harbour", "--most", "2")
        self.assertEqual({Path(c["path"]).name for c in document["candidates"]}, {"harbour.bwk", "harbour-2.bwk"})
        self.assertEqual(set(document["candidates"][0]), {"path", "size", "modified", "score", "reasons"})
        self.assertEqual(self.json_of("find", saves, "--name", "nothing like it", status=1)["candidates"], [])
        path = saves / "harbour.bwk"
        hits = self.json_of("search", path, "--number", "1386")["hits"]
        self.assertIn((69, "u32le", 4, 1), [(h["offset"], h["stored_as"], h["size"], h["scale"]) for h in hits])
        self.assertEqual(self.json_of("search", path, "--text", "Tamsin")["hits"][0]["offset"], 113)
        self.assertEqual(self.json_of("search", path, "--bytes", "50 55 ?? 53")["hits"][0]["offset"], 59)
        self.assertTrue(self.json_of("search", path, "--numbers", "23,55")["hits"])
        self.assertEqual(self.json_of("search", path, "--text", "no such text", status=1)["hits"], [])
        for arguments, words in (
            (["find", saves / "none"], "is not a folder; name folders to look in"),
            (["find", saves, "--since", "soon"], "“soon” is not a time; write 10min, 2h, today"),
            (["search", path], "one of the arguments --number --text --numbers --bytes is required"),
            (["search", path, "--number", "x"], "“x” is not a number"),
            (["search", path, "--bytes", "zz"], "“zz” is not bytes in hexadecimal; write it like 0A ?? FF"),
            (["profile", self.folder], "is a folder; nothing was read; choose the save file itself"),
        ):
            with self.subTest(arguments=arguments):
                self.assertIn(words, self.refused(2, *arguments))
        for command in (["find", saves], ["search", path, "--number", "1386"]):
            self.assertEqual(self.run_command(*command)[0], 0)

    def test_seals_are_found_and_hints_narrow_the_search(self) -> None:
        turn = random.Random(12)
        base = b"".join(struct.pack("<IHHf", turn.randrange(900), n % 50, 0, n / 7) for n in range(60))
        paths = []
        for number in range(4):
            save = bytearray(b"BRNE" + bytes(8) + base)
            for _ in range(9):
                save[turn.randrange(12, len(save))] = turn.randrange(256)
            save[4:8] = zlib.crc32(save[12:]).to_bytes(4, "big")
            paths.append(self.folder / f"{number}.sav")
            paths[-1].write_bytes(save)
        (found,) = self.json_of("find-seals", *paths, "--stored-at", "4")["seals"]
        wanted = {"algorithm": "crc-32", "parameters": {}, "from": 12, "to": 732, "to_from_end": 0, "stored_at": 4}
        wanted |= {"stored_at_from_end": None, "stored_as": "u32be", "holds_in": 4, "of": 4, "sure": True}
        self.assertEqual({key: found[key] for key in wanted}, wanted)
        status, out, _ = self.run_command("find-seals", *paths[:2], "--algorithm", "crc-32")
        self.assertEqual(status, 0)
        self.assertIn("0xC to 0x2DC (the end)", out)
        self.assertIn("With three saves or more of one size any range is searched", out)
        self.assertEqual(self.run_command("find-seals", *paths, "--algorithm", "md5")[0], 1)
        for wrong, words in (
            (("--over", "9..3"), "is not a range"),
            (("--over", "x"), "is not a range"),
            (("--key", "zz"), "is neither a file nor a key in hexadecimal"),
            (("--stored-at", "one"), "is not"),
            (("--algorithm", "md6"), "did you mean “md5”"),
        ):
            self.assertIn(words, self.refused(2, "find-seals", *paths, *wrong))
        (self.folder / "empty.sav").write_bytes(b"")
        self.assertIn("empty.sav is empty", self.refused(2, "find-seals", str(self.folder / "empty.sav")))

    def test_profile(self) -> None:
        path = self.harbour() / "harbour.bwk"
        document = self.json_of("profile", path)
        self.assertEqual(
            set(document), {"size", "entropy", "kind", "encoding", "layers", "scrambling", "strides", "texts", "blocks"}
        )
        self.assertEqual((document["kind"], document["layers"], document["scrambling"]), ("binary", [], None))
        scrambled = self.folder / "scrambled.bin"
        plain = b"".join(bytes([k, 0, 0, 7 * k % 256, 0, 0, k % 3]) + bytes(9 + k % 5) for k in range(200))
        scrambled.write_bytes(bytes(byte ^ b"\x5a\x13"[n % 2] for n, byte in enumerate(plain)))
        self.assertEqual(self.json_of("profile", scrambled)["scrambling"], {"kind": "xor", "key": "5a13"})
        for name in (path, scrambled):
            self.assertEqual(self.run_command("profile", name)[0], 0)
        self.assertIn("is not there", self.refused(2, "profile", self.folder / "none"))


class FolderTest(CommandCase):
    """A folder as one save, by every command that takes one."""

    def setUp(self) -> None:
        super().setUp()
        self.world = self.folder / "world"
        (self.world / "region").mkdir(parents=True)
        self.write(1410)

    def write(self, marks: int) -> None:
        (self.world / "head.dat").write_bytes(b"WRLD" + bytes(20) + marks.to_bytes(4, "little") + bytes(9))
        (self.world / "region" / "r0.dat").write_bytes(b"REGN" + bytes(60))

    def test_kept_compared_searched_located_and_brought_back(self) -> None:
        first = self.json_of("keep", self.world, "--label", "first")
        self.assertEqual(
            [Path(file["path"]).relative_to(self.world).as_posix() for file in first["files"]],
            ["head.dat", "region/r0.dat"],
        )
        before = self.tree(self.world)
        copy = self.folder / "copy"
        self.run_command("restore", first["id"], "--to", copy)
        self.assertEqual(self.tree(copy), before)
        self.write(1502)
        document = self.json_of("compare", copy, self.world, status=1)
        self.assertEqual({change["file"] for change in document["changes"]}, {"head.dat"})
        self.assertEqual(self.json_of("compare", copy, copy)["changes"], [])
        hits = self.json_of("search", self.world, "--number", "1502")["hits"]
        self.assertIn(("head.dat", 24, "u32le"), [(hit["file"], hit["offset"], hit["stored_as"]) for hit in hits])
        places = self.json_of("locate", "--seen", f"{copy}=1410", "--seen", f"{self.world}=1502")["places"]
        self.assertEqual(
            {(p["file"], p["offset"]) for p in places if "u32le" in (p["stored_as"], *p["also_as"])}, {("head.dat", 24)}
        )
        self.assertEqual(len(self.json_of("snapshots", self.world)), 1)
        self.run_command("restore", first["id"])
        self.assertEqual(self.tree(self.world), before)
        for command in (["compare", copy, self.world], ["search", self.world, "--number", "1410"], ["snapshots"]):
            self.assertEqual(self.run_command(*command)[0], 0)

    def test_what_needs_a_template_says_so(self) -> None:
        self.assertIn("holds 0 saves (none that a template fits)", self.refused(2, "read", self.world))
        self.run_command("keep", self.world)
        self.assertIn("no template describes the folder", self.refused(2, "read", self.world))
        (self.folder / "empty").mkdir()
        self.assertIn("has no files", self.refused(2, "keep", self.folder / "empty"))

    def test_a_template_for_the_folder(self) -> None:
        template = self.folder / "world.yaml"
        template.write_text(
            """ledger: 1
id: world
title: A world
files:
  head: {name: head.dat, layout: [{constant: magic, text: WRLD}, {unknown: all, size: 20}, {field: marks, as: u32}]}
  region: {name: region/r0.dat, layout: [{constant: magic, text: REGN}, {field: lots, as: u16}]}
"""
        )
        document = self.json_of("read", self.world, "--template", template)
        fields = {field["path"]: field["value"] for field in document["fields"]}
        self.assertEqual((document["file"], fields["marks"], fields["region.lots"]), (str(self.world), 1410, 0))
        posted = self.json_of("post", self.world, "--template", template, "--set", "marks=7", "--set", "region.lots=3")
        self.assertTrue(posted["written"])
        self.assertEqual((self.world / "head.dat").read_bytes()[24], 7)
        self.assertEqual((self.world / "region" / "r0.dat").read_bytes()[4], 3)
        (self.world / "region" / "r0.dat").unlink()
        self.assertIn(
            "it belongs to the same save as head.dat", self.refused(2, "check", self.world, "--template", template)
        )

    def test_each_save_moment_keeps_the_whole_folder(self) -> None:
        self.run_command("keep", self.world)
        writer = threading.Timer(1.0, self.write, (1502,))
        writer.start()
        status, out, err = self.run_command("watch", self.world, "--for", "3", "--keep", "--json")
        writer.join()
        self.assertEqual(status, 0, err)
        (kept,) = {json.loads(line)["kept"] for line in out.splitlines()}
        found = {snapshot["id"]: snapshot for snapshot in self.json_of("snapshots", self.world)}
        self.assertEqual(len(found[kept]["files"]), 2)
