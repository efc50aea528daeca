"""Where a text that was seen ends, by what is around it in the snapshots; and what stands behind it in a template."""

from __future__ import annotations

import struct
from pathlib import Path

import numpy as np

from faithful_ledger.core.describe.draft import Draft, changed
from faithful_ledger.core.describe.flow import let_follow, let_stand
from faithful_ledger.core.errors import EntryError
from faithful_ledger.core.in_front.text_ends import TextEnd, text_end
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.template import parse_template
from faithful_ledger.core.template.extend import without_field
from tests.support import LedgerCase

AROUND = b"\xd0\xd1\xd2\xd3\xd4\xd5\xd6\xd7"


class TextEndTest(LedgerCase):
    def test_it_is_said_by_what_is_around_it(self) -> None:
        """(before, texts, behind each, letters of so many bytes) and what comes out."""
        for before, texts, behind, unit, expected in (
            (b"\x05", ["Oriel"], AROUND, 1, TextEnd("u8")),
            (b"\x05", ["Oriel", "Wrens"], b"\0\0\0\0" + AROUND, 1, TextEnd("u8")),
            (b"\x05\0\0\0", ["Oriel"], AROUND, 1, TextEnd("u32le")),
            (b"\x06", ["Oriel"], b"\0" + AROUND, 1, TextEnd("u8", ended_by=b"\0")),
            (b"\x05\0", ["O\0r\0i\0e\0l\0"], AROUND, 2, TextEnd("u16le", in_letters=True)),
            (b"\x05", ["Oriel"], bytes(27) + AROUND, 1, TextEnd("u8", room=32)),
            (AROUND, ["Oriel"], bytes(19) + AROUND, 1, TextEnd(room=24)),
            (AROUND, ["Oriel"], bytes(21) + AROUND, 1, TextEnd(room=24)),  # the highest bytes of a number follow
            (AROUND, ["Oriel"], bytes(900), 1, TextEnd(room=8)),
            (AROUND, ["Oriel", "Ives\0"], bytes(3) + AROUND, 1, TextEnd(room=8)),
            (AROUND, ["Oriel"], AROUND, 1, TextEnd(room=5)),
            (b"|", ["Oriel", "Ives"], b";1340|9", 1, TextEnd(ended_by=b";")),
            (b"day ", ["Oriel"], b" 1340\r\n", 1, TextEnd(room=5)),
            (AROUND, ["Oriel"], b"\xff" * 11 + AROUND, 1, TextEnd(room=16, pad=b"\xff")),
            (AROUND, ["Oriel"], b" " * 7 + AROUND, 1, TextEnd(room=12, pad=b" ")),
            (AROUND, ["O\0r\0i\0e\0l\0"], b"\xff" * 6 + AROUND, 2, TextEnd(room=16, pad=b"\xff\xff")),
            (AROUND + b'"name": "', ["Oriel"], b'", ' + AROUND, 1, TextEnd(ended_by=b'"')),
        ):
            with self.subTest(before=before, texts=texts, behind=behind):
                contents = [before + text.encode("latin-1") + behind for text in texts]
                parts = {j: np.frombuffer(content, np.uint8) for j, content in enumerate(contents)}
                raws = {
                    j: text.rstrip("\0").encode("latin-1") if unit == 1 else text.encode()
                    for j, text in enumerate(texts)
                }
                self.assertEqual(text_end(parts, [len(before)] * len(texts), raws, unit), expected)


class FlowTest(LedgerCase):
    TEMPLATE = """\
ledger: 1
id: flow
title: Flow
files:
  save:
    name: "*.sav"
    layout:
      - {field: version, as: u32}
      # the purse
      - {field: marks, as: u32, at: 12}
      - {field: name, as: text, length: u8, at: 6}
      - {field: within, as: u8, at: 8}
      - {field: last, as: u32, at: -4}
"""

    def save_at(self, text: str) -> tuple[Path, bytes]:
        path = self.folder / "a.sav"
        path.write_bytes(struct.pack("<IH", 1, 9) + b"\x05Oriel" + struct.pack("<I", 1340) + bytes(8))
        save = open_save(path, parse_template(text.encode(), "flow"))

        def act(draft: Draft) -> None:
            let_follow(draft.text, draft.file("save"))

        return path, changed(text.encode(), save, act)

    def test_what_is_behind_a_text_moves_with_it_and_what_overlaps_stays(self) -> None:
        path, text = self.save_at(self.TEMPLATE)
        self.assertIn(b"# the purse\n", text)
        self.assertIn(b"{field: within, as: u8, at: 8}", text)
        self.assertIn(b"at: -4}", text)
        save = open_save(path, parse_template(text, "flow"))
        self.assertEqual(save.text(save.fields("marks")[0]), "1340")
        save.enter("name", "Oriel of the Long Sluice")
        patched = make_plan(save).files[0].patched
        path.write_bytes(bytes(patched.read(0, patched.size)))
        again = open_save(path, parse_template(text, "flow"))
        self.assertEqual(
            [again.text(again.fields(name)[0]) for name in ("marks", "name")], ["1340", "Oriel of the Long Sluice"]
        )

    def test_what_followed_a_field_that_goes_stands_where_it_is(self) -> None:
        path, text = self.save_at(self.TEMPLATE)
        save = open_save(path, parse_template(text, "flow"))

        def act(draft: Draft) -> None:
            let_stand(draft.text, draft.file("save"), "name")
            draft.read_again()
            draft.remove("name")

        alone = changed(text, save, act)
        self.assertIn(b"at: 0xC", alone)
        again = open_save(path, parse_template(alone, "flow"))
        self.assertEqual(again.text(again.fields("marks")[0]), "1340")

    def test_a_number_in_digits_goes_with_the_length_in_front_of_it(self) -> None:
        text = self.TEMPLATE.replace(
            "{field: name, as: text, length: u8, at: 6}",
            "{unknown: unknown_0, size: 6}\n      - {field: marks_length, as: u8, length_of: marks}",
        )
        text = text.replace(
            "{field: marks, as: u32, at: 12}", "{field: marks, as: digits, at: 7, note: explains 4 of 4}"
        )
        for name in ("version", "within", "last"):
            text = "".join(line for line in text.splitlines(True) if f"field: {name}," not in line)
        self.assertIsNone(without_field(text.encode(), "marks"))

    def test_without_anything_behind_it_the_template_stays(self) -> None:
        alone = self.TEMPLATE.replace("      - {field: marks, as: u32, at: 12}\n", "")
        self.assertEqual(self.save_at(alone)[1], alone.encode())


class KeptSizeTest(LedgerCase):
    """A file that has the same size in every save."""

    TEMPLATE = """\
ledger: 1
id: kept
title: Kept
files:
  save:
    name: "*.sav"
    keeps_size: true
    layout:
      - {field: size, as: u32, length_of: body}
      - {group: body, size: size, layout: [{field: name, as: text, length: u8}, {field: marks, as: u32}]}
      - {field: version, as: u32, at: -4}
"""

    def test_what_is_behind_gives_way_and_what_does_not_fit_is_refused(self) -> None:
        path = self.folder / "a.sav"
        data = struct.pack("<I", 10) + b"\x05Oriel" + struct.pack("<I", 1340) + bytes(10) + b"VERS"
        path.write_bytes(data)
        template = parse_template(self.TEMPLATE.encode(), "kept")
        for name, left in (("Oriel & Sons", 3), ("Bo", 13), ("Oriel and Ives.", 0)):
            save = open_save(path, template)
            save.enter("body.name", name)
            (file,) = make_plan(save).written
            body = bytes((len(name),)) + name.encode() + struct.pack("<I", 1340)
            expected = struct.pack("<I", len(body)) + body + bytes(left) + b"VERS"
            self.assertEqual(bytes(file.patched.read(0, 99)), expected)
        save = open_save(path, template)
        save.enter("body.name", "Oriel and Ives..")
        with self.assertRaises(EntryError) as caught:
            make_plan(save)
        self.assertIn("the file keeps its size, and 11 bytes more do not fit: 10 are left", str(caught.exception))
