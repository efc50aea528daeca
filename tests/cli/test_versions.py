"""A save of another version of the game, in which what was pinned may be elsewhere: it is read with a warning."""

from __future__ import annotations

import struct
import subprocess
import sys
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from faithful_ledger.core.describe.versions import version_in
from tests.cli.test_commands import CommandCase
from tests.support import dice

WARNING = "if this is another version of the game"


class Header(NamedTuple):
    """What is in front of the number of things, by version; and how a warning says two of them."""

    name: str
    write: Callable[[int], bytes]
    shown: Callable[[int], str]
    packed: bool = False


HEADERS = (
    Header("four bytes", lambda version: b"BRNK" + struct.pack("<I", version), str),
    Header("four bytes, high first", lambda version: b"BRNK" + struct.pack(">I", version), str),
    Header("two bytes behind a long mark", lambda version: b"BRINEWICK\0" + struct.pack("<H", version), str),
    Header("no mark", lambda version: struct.pack("<II", version, 64), str),
    Header("letters", lambda version: b"BRINE1.%02d\0\0\0" % version, lambda version: f"“1.{version:02}”"),
    Header("a date", lambda version: b"HOLD" + struct.pack("<I", 2026_11_00 + version), lambda v: str(2026_11_00 + v)),
    Header("behind a checksum", lambda version: b"HOLD" + dice().randbytes(4) + struct.pack("<I", version), str),
    Header("in a packed file", lambda version: b"BRNK" + struct.pack("<I", version), str, packed=True),
)


class VersionsTest(CommandCase):
    def write(self, path: Path, header: Header, version: int, marks: int, *, later: bool = False) -> Path:
        """A save; in a later version the marks are four bytes further."""
        turn = dice()
        front = header.write(version)
        if header.name == "behind a checksum":
            front = front[:4] + turn.randbytes(4) + front[8:]
        moved = struct.pack("<I", turn.randrange(50_000)) if later else b""
        content = front + turn.randbytes(4) + moved + struct.pack("<I", marks) + turn.randbytes(60)
        path.write_bytes(zlib.compress(content) if header.packed else content)
        return path

    def pinned(self, folder: Path, header: Header, versions: tuple[int, ...]) -> list[Path]:
        turn, seen = dice(), []
        folder.mkdir()
        for letter, version in zip("abcd", versions, strict=False):
            marks = turn.randrange(10_000, 60_000)
            seen.append((self.write(folder / f"{letter}.sav", header, version, marks), marks))
        chosen = folder / "place.json"
        chosen.write_text(self.run_command("locate", *(f"--seen={path}={shown}" for path, shown in seen), "--json")[1])
        self.assertEqual(self.run_command("pin", seen[-1][0], "--place", chosen, "--as", "Marks")[0], 0)
        return [path for path, _ in seen]

    def warnings(self, path: Path) -> list[str]:
        findings = self.json_of("check", path)["findings"]
        return [finding["message"] for finding in findings if finding["level"] == "warning"]

    def test_a_save_of_another_version_is_read_and_posted_with_a_warning(self) -> None:
        for number, header in enumerate(HEADERS):
            with self.subTest(header.name):
                folder = self.folder / f"quay{number}"
                self.pinned(folder, header, (3, 3, 3))
                same = self.write(folder / "same.sav", header, 3, 4_100)
                self.assertEqual(self.warnings(same), [])
                later = self.write(folder / "later.sav", header, 4, 4_100, later=True)
                before = later.read_bytes()
                (warning,) = self.warnings(later)
                self.assertTrue(warning.startswith(header.shown(4)), warning)
                self.assertIn(f"where the saves it was described from have {header.shown(3)};", warning)
                self.assertIn(WARNING, warning)
                (field,) = self.json_of("read", later)["fields"]
                status, _, said = self.run_command("post", later, "--set", f"{field['path']}=7", "--dry-run")
                self.assertEqual((status, said.count(WARNING)), (0, 1), said)
                self.assertEqual(later.read_bytes(), before)
                status, _, said = self.run_command("post", same, "--set", f"{field['path']}=7")
                self.assertEqual((status, said), (0, ""))

    def test_it_goes_along_with_a_warning_where_values_are_carried_and_in_a_reader(self) -> None:
        header, folder = HEADERS[0], self.folder / "quay"
        self.pinned(folder, header, (3, 3, 3))
        (template,) = (self.folder / "xdg").rglob("quay-sav.yaml")
        same, later = folder / "same.sav", folder / "later.sav"
        self.write(same, header, 3, 4_100)
        self.write(later, header, 4, 5_200, later=True)
        (field,) = self.json_of("read", later)["fields"]
        kit, reader = self.folder / "marks.kit", self.folder / "reader.py"
        status, _, said = self.run_command("template", "reader", template, "--out", reader)
        self.assertEqual(status, 0, said)
        for source, warned in ((later, 1), (same, 0)):
            with self.subTest(source.name):
                kit.unlink(missing_ok=True)
                taken = ("carry", "values", source, folder / "a.sav", "--take", field["path"], "--dry-run")
                kept = ("kit", "take", source, "--fields", field["path"], "--out", kit)
                for words in (taken, kept):
                    status, _, said = self.run_command(*words)
                    self.assertEqual((status, said.count(f"warning: {source.name}: ")), (0, warned), said)
                    self.assertEqual(said.count(WARNING), warned, said)
                done = subprocess.run([sys.executable, reader, source], capture_output=True, text=True, timeout=60)
                self.assertEqual((done.returncode, done.stderr.count(WARNING)), (0, warned), done.stderr)
                self.assertIn(str(self.json_of("read", source)["fields"][0]["value"]), done.stdout)

    def test_what_differs_between_copies_is_not_taken_for_a_version(self) -> None:
        self.pinned(self.folder / "quay", HEADERS[0], (3, 3, 4))
        self.assertEqual(self.warnings(self.write(self.folder / "quay" / "z.sav", HEADERS[0], 5, 4_100)), [])
        # One that comes to the copies later takes it out at the next pin.
        other = self.folder / "other"
        paths = self.pinned(other, HEADERS[0], (3, 3, 3))
        later = self.write(other / "later.sav", HEADERS[0], 4, 4_100)
        self.assertEqual(len(self.warnings(later)), 1)
        number = int.from_bytes(paths[-1].read_bytes()[20:24], "little")
        place = other / "number.json"
        seen = [f"--seen={path}={int.from_bytes(path.read_bytes()[20:24], 'little')}" for path in paths]
        place.write_text(self.run_command("locate", *seen, "--json")[1])
        self.assertEqual(self.run_command("pin", paths[-1], "--place", place, "--as", "Number")[0], 0, number)
        self.assertEqual(self.warnings(later), [])

    def test_what_was_written_by_hand_stays_as_long_as_all_saves_have_it(self) -> None:
        folder = self.folder / "quay"
        paths = self.pinned(folder, HEADERS[0], (3, 3, 3))
        (template,) = (self.folder / "xdg").rglob("quay-sav.yaml")
        text = template.read_text()
        by_hand = 'usual: [{at: 0, bytes: "42 52"}, {at: 4, bytes: "03"}, {at: 5, bytes: "00 00 00"}]  # mine'
        self.assertEqual(text.count('usual: [{at: 4, bytes: "03 00 00 00"}]'), 1, text)
        template.write_text(text.replace('usual: [{at: 4, bytes: "03 00 00 00"}]', by_hand))
        numbers = [int.from_bytes(path.read_bytes()[16:20], "little") for path in paths]
        chosen = folder / "place.json"
        for name, others in (("First", ()), ("Second", (4,))):
            for version in others:
                self.write(folder / f"{version}.sav", HEADERS[0], version, 4_100)
            seen = [f"--seen={path}={number}" for path, number in zip(paths, numbers, strict=True)]
            chosen.write_text(self.run_command("locate", *seen, "--json")[1])
            self.assertEqual(self.run_command("pin", paths[-1], "--place", chosen, "--as", name)[0], 0)
            text = template.read_text()
            if not others:
                self.assertIn(by_hand, text)
            else:
                self.assertIn('usual: [{at: 0, bytes: "42 52"}, {at: 5, bytes: "00 00 00"}]', text)
            numbers = [int.from_bytes(path.read_bytes()[20:24], "little") for path in paths]

    def test_other_bytes_are_not_taken_for_a_version(self) -> None:
        turn = dice()
        for name, headers in {
            "one save": [b"BRNK\3\0\0\0" + turn.randbytes(8)],
            "a name": [b"BRNKOriel" + turn.randbytes(8) for _ in range(3)],
            "letters of two bytes": [b"\xff\xfe\x01\x80" + "Maud".encode("utf-16-le") + bytes([n]) * 8 for n in (1, 2)],
            "a number that nothing small is": [b"BRNK" + b"\x91\x42\xa0\x3b" + turn.randbytes(8) for _ in range(3)],
            "zeros": [b"BRNK" + bytes(20) + turn.randbytes(8) for _ in range(3)],
            "the high half of a larger number": [struct.pack(">I", 200_000 + n) + bytes(8) for n in (900, 1_000)],
        }.items():
            with self.subTest(name):
                self.assertEqual(version_in(headers), ())

    def test_mistakes_in_a_template_are_reported(self) -> None:
        template = self.folder / "t.yaml"
        for layout, wanted in {
            "format: json, usual: [{at: 4, bytes: '03'}], layout: [{field: a, at: a, as: digits}]": "only a binary file",
            "usual: [{at: 4}], layout: []": "bytes",
            "usual: [{at: -4, bytes: '03'}], layout: []": "must be at least 0",
            "usual: [{at: 4, bytes: 'no'}], layout: []": "bytes",
        }.items():
            with self.subTest(layout):
                template.write_text(f"ledger: 1\nid: q\ntitle: Q\nfiles: {{save: {{name: '*.sav', {layout}}}}}\n")
                self.assertIn(wanted, self.run_command("template", "check", template)[1])
