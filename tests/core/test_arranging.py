"""Records added, copied and removed: what rows are then is what the same steps make of a plain list."""

from __future__ import annotations

import json
import random
import struct
from pathlib import Path

from faithful_ledger.core.arranging import enter_all, insert_record, remove_records, rows_now
from faithful_ledger.core.binding import FieldNode, GroupNode, RowsNode
from faithful_ledger.core.errors import EntryError, LedgerError, OutOfBounds
from faithful_ledger.core.opening import find_save, open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.save import Save
from faithful_ledger.core.template import Template, parse_template
from tests.support import LedgerCase, play

HEAD = "ledger: 1\nid: t\ntitle: T\nfiles: {{save: {{name: '*.sav', format: {0}, layout: [{1}]}}}}\n"
FIXED = "{field: n, as: u8, count_of: r}, {rows: r, count: n, layout: [{field: id, as: u8}, {field: v, as: u16}]}"
VARYING = (
    "{field: size, as: u16, length_of: r}, {rows: r, size: size, layout: [{field: id, as: text, length: u8}, "
    "{field: v, as: u16}]}, {field: crc, as: u32, seal: {algorithm: crc-32, over: r}}"
)
IN_TEXT = "{rows: r, at: %s, layout: [{field: id, as: %s, at: %s}, {field: v, as: number, at: %s}]}"
ROWS = [(1, 10), (2, 20), (3, 30), (4, 40)]


def fixed(rows: list[tuple[int, int]]) -> bytes:
    return bytes([len(rows)]) + b"".join(struct.pack("<BH", *row) for row in rows) + b"tail"


def varying(rows: list[tuple[int, int]]) -> bytes:
    import zlib

    body = b"".join(bytes([len(str(a))]) + str(a).encode() + struct.pack("<H", b) for a, b in rows)
    return struct.pack("<H", len(body)) + body + struct.pack("<I", zlib.crc32(body)) + b"tail"


def xml(rows: list[tuple[int, int]]) -> bytes:
    return ("<s><r>\n" + "".join(f'  <lot id="{a}"><v>{b}</v></lot>\n' for a, b in rows) + "</r></s>\n").encode()


KINDS = (
    ("binary", FIXED, fixed),
    ("binary", VARYING, varying),
    ("json", IN_TEXT % ("r", "number", "id", "v"), lambda rows: json.dumps({"r": [{"id": a, "v": b} for a, b in rows]}).encode()),
    ("xml", IN_TEXT % ("r", "number", "'\"@id\"'", "v"), xml),
)  # fmt: skip


class ArrangingTest(LedgerCase):
    def template(self, kind: str, layout: str) -> Template:
        return parse_template(HEAD.format(kind, layout).encode(), "t.yaml")

    def listed(self, save: Save) -> list[tuple[int, int]]:
        found = []
        for item in rows_now(save, "r").items():
            assert isinstance(item, GroupNode)
            key, value = (save.value(node) for node in item.names.values() if isinstance(node, FieldNode))
            found.append((int(str(key)), int(str(value))))
        return found

    def posted(self, save: Save) -> bytes:
        plan = make_plan(save)
        self.assertTrue(plan.in_balance, plan.findings)
        patched = plan.files[0].patched
        return bytes(patched.read(0, patched.size))

    def test_steps_in_any_order(self) -> None:
        turn = random.Random(7)
        for number, (kind, layout, written) in enumerate(KINDS):
            for _ in range(25):
                with self.subTest(kind=kind, layout=layout[:20]):
                    path = self.folder / f"{number}.sav"
                    path.write_bytes(written(ROWS))
                    save = open_save(path, self.template(kind, layout))
                    model = list(ROWS)
                    for _ in range(turn.randrange(1, 9)):
                        self.step(save, model, turn)
                        self.assertEqual(self.listed(save), model)
                    data = self.posted(save) if len(save.tape) else written(ROWS)
                    self.assertEqual(data, written(model))
                    while save.tape.undo():
                        pass
                    self.assertEqual(self.listed(save), ROWS)

    def step(self, save: Save, model: list[tuple[int, int]], turn: random.Random) -> None:
        """One thing that people do, to the save and to the list."""
        at = turn.randrange(len(model)) if model else 0
        what = turn.choice(["copy", "remove", "enter", "enter"]) if model else ""
        fresh = max((key for key, _ in model), default=0) + 1
        if what == "copy":
            to = turn.randrange(len(model) + 1)
            insert_record(save, "r", to, like=at)
            model.insert(to, model[at])
            enter_all(save, [(f"r[{to}].id", str(fresh))])
            model[to] = fresh, model[to][1]
        elif what == "remove" and len(model) > 1:
            numbers = turn.sample(range(len(model)), turn.randrange(1, len(model)))
            remove_records(save, "r", numbers)
            model[:] = [row for n, row in enumerate(model) if n not in numbers]
        elif what:
            value = turn.randrange(1000)
            enter_all(save, [(f"r[{at}].v", str(value))])
            model[at] = model[at][0], value

    def test_a_new_record_says_nothing(self) -> None:
        for number, (kind, layout, written) in enumerate(KINDS):
            path = self.folder / f"{number}.sav"
            path.write_bytes(written(ROWS))
            save = open_save(path, self.template(kind, layout))
            enter_all(save, [("r[1].v", "77")])
            insert_record(save, "r", 1)
            enter_all(save, [("r[1].id", "9"), ("r[1].v", "5"), ("r[0].v", "11")])
            self.assertEqual(self.posted(save), written([(1, 11), (9, 5), (2, 77), (3, 30), (4, 40)]))
            save.tape.undo()
            save.tape.undo()
            self.assertEqual(self.listed(save)[1], (2, 77))

    def test_a_list_in_a_record_is_rearranged_by_itself_or_with_it(self) -> None:
        path = self.folder / "a.sav"
        path.write_bytes(bytes([2, 1, 5, 2, 6, 7]) + b"tail")
        inner = "{field: m, as: u8, count_of: s}, {rows: s, count: m, layout: [{field: v, as: u8}]}"
        head = f"{{field: n, as: u8, count_of: r}}, {{rows: r, count: n, layout: [{inner}]}}"
        save = open_save(path, self.template("binary", head))
        remove_records(save, "r[1].s", [0])
        self.assertEqual(self.posted(save), bytes([2, 1, 5, 1, 7]) + b"tail")
        remove_records(save, "r", [0])
        self.assertEqual(self.posted(save), bytes([1, 1, 7]) + b"tail")
        self.assertEqual(rows_now(save, "r[0].s").count, 1)
        with self.assertRaisesRegex(EntryError, r"r\[0\].s is in one of the records of r, which were rearranged"):
            insert_record(save, "r[0].s", 0)
        enter_all(save, [("r[0].s[0].v", "9")])
        self.assertEqual(self.posted(save), bytes([1, 1, 9]) + b"tail")

    def test_a_list_given_anew_keeps_what_nothing_describes(self) -> None:
        """In a block that says how many bytes it has, in one of a size of its own, and in one without elements."""

        def block(name: str, rest: bytes) -> bytes:
            body = bytes([len(name)]) + name.encode() + rest
            return bytes([len(body)]) + body

        def room(name: str, rest: bytes) -> bytes:
            return (bytes([len(name)]) + name.encode()).ljust(9, b"\0") + rest[:4]

        text = "{field: id, as: text, length: u8}"
        for layout, write in (
            (f"{{field: size, as: u8, length_of: b}}, {{group: b, size: size, layout: [{text}]}}", block),
            (f"{{group: b, size: 9, layout: [{text}]}}, {{group: c, size: 4, layout: []}}", room),
        ):
            head = f"{{field: n, as: u8, count_of: r}}, {{rows: r, count: n, layout: [{layout}]}}"
            path, rests = self.folder / "a.sav", (b"\1\2\3\4\5", b"four", b"\0\0\7\0")
            path.write_bytes(b"\3" + b"".join(write(f"d{n}", rest) for n, rest in enumerate(rests)) + b"tail")
            save = open_save(path, self.template("binary", head))
            save.enter_structure("r", [{}, {"b": {"id": "longer"}}, {}, {"b": {"id": "new"}}])
            new = write("new", b"") if write is block else write("new", bytes(4))
            listed = [write("d0", rests[0]), write("longer", rests[1]), write("d2", rests[2]), new]
            self.assertEqual(self.posted(save), b"\4" + b"".join(listed) + b"tail")
        before = path.read_bytes()
        for name in ("far too long", "a \N{SNOWMAN} fits not"):
            with self.assertRaisesRegex(LedgerError, "has room for 9 bytes"):
                open_save(path, self.template("binary", head)).enter_structure("r", [{"b": {"id": name}}])
        self.assertEqual(path.read_bytes(), before)

    def test_what_cannot_be_is_refused_and_nothing_is_entered(self) -> None:
        path = self.folder / "a.sav"
        path.write_bytes(bytes(9))
        layout = "{rows: r, count: 3, layout: [{field: id, as: u8, bounds: {most: 5}}, {field: v, as: u16}]}"
        save = open_save(path, self.template("binary", layout))
        for act in (lambda: insert_record(save, "r", 0), lambda: remove_records(save, "r", [0])):
            with self.assertRaisesRegex(EntryError, "r always has 3 records"):
                act()
        with self.assertRaises(OutOfBounds):
            enter_all(save, [("r[0].v", "5"), ("r[1].id", "6")])
        with self.assertRaises(LedgerError):
            insert_record(save, "r[0].v", 0)
        self.assertEqual(len(save.tape), 0)

    def test_the_game_takes_the_lots(self) -> None:
        saves = self.harbour()
        path, template = find_save(saves / "harbour.bwk", self.shelf().library())
        save = open_save(path, template)
        (hold,) = save.nodes("hold")
        assert isinstance(hold, RowsNode)
        insert_record(save, "hold", hold.count, like=0)
        enter_all(save, [(f"hold[{hold.count}].count", "3")])
        remove_records(save, "hold", [1, 2])
        book = self.shelf().open("Brinewick")
        self.addCleanup(book.close)
        plan = make_plan(save)
        self.assertTrue(plan.in_balance, plan.findings)
        book.history.post(save, plan)
        shown = play(saves, "show")
        self.assertEqual(shown.status, 0, shown.text)
        (again,) = open_save(Path(path), template).nodes("hold")
        assert isinstance(again, RowsNode)
        self.assertEqual(again.count, hold.count - 1)
