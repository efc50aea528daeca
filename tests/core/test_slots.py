"""Saves that go into other slots: names, values inside and entries of shared files agree, and the game judges."""

from __future__ import annotations

import errno
import json
import random
import struct
import xml.etree.ElementTree as ET
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from faithful_ledger.core.book import Book
from faithful_ledger.core.carried import carry_hazards, post_carry
from faithful_ledger.core.carry import How, InnerSlots, Slots, carry_record, carry_slot, slots_in
from faithful_ledger.core.errors import ChangedMeanwhile, EntryError, LedgerError, Refused
from faithful_ledger.core.find import Program
from faithful_ledger.core.opening import find_save, open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.save import Save
from faithful_ledger.core.template import Template, parse_template
from tests.support import Crash, FailingDisk, LedgerCase, dice, play

EDITIONS = {
    "desktop": "harbour{}.bwk",
    "pocket": "pocket{}.bwp",
    "console": "voyage{}.bwx",
    "deep": "company{}.bwd",
    "quill": "voyage{}/world.json",
}


class SlotCase(LedgerCase):
    def carried(self, book: Book, save: Save, to: str, how: How = "copy", *, anyway: bool = False) -> None:
        made = carry_slot(save, to, how, anyway=anyway)
        self.assertTrue(made.in_balance, made.findings)
        post_carry(book.history, made, running=[])


class EditionsTest(SlotCase):
    def played(self, edition: str) -> Path:
        """Maud in slot 1, and Ives & Sons, who have sold something, in slot 4."""
        saves = self.folder / edition
        for slot, *action in (("1", "start", "Maud"), ("4", "start", "Ives & Sons"), ("4", "sell", "brass lamp")):
            self.assertEqual(play(saves, "--edition", edition, "--slot", slot, *action).status, 0)
        return saves

    def shown(self, saves: Path, edition: str, slot: int) -> str:
        return play(saves, "--edition", edition, "--slot", f"{slot}", "show").text.partition("\n")[0].partition(" ·")[0]

    def opened_slot(self, saves: Path, edition: str, slot: int) -> Save:
        name = EDITIONS[edition].format("" if slot == 1 else f"-{slot}")
        return open_save(*find_save(saves / name, self.library()), roots={"registers": saves / "registers"})

    def test_the_game_accepts_every_move_and_reversing_one_brings_everything_back(self) -> None:
        nobody = "Brinewick refuses the save: there is no "
        for edition in EDITIONS:
            for how, to, expected in (
                ("copy", 7, {1: "Maud", 4: "Ives & Sons", 7: "Maud"}),
                ("move", 7, {1: nobody, 4: "Ives & Sons", 7: "Maud"}),
                ("swap", 4, {1: "Ives & Sons", 4: "Maud", 7: nobody}),
            ):
                with self.subTest(edition=edition, how=how):
                    saves = self.played(edition)
                    before, book = self.tree(saves), Book(self.folder / f"book-{edition}-{how}")
                    self.carried(book, self.opened_slot(saves, edition, 1), str(to), how)  # type: ignore[arg-type]
                    for slot, words in expected.items():
                        self.assertTrue(self.shown(saves, edition, slot).startswith(words), f"slot {slot}")
                    (posting,) = book.history.postings()
                    self.assertEqual(posting.record["note"], posting.record["carried"])
                    book.history.reverse(posting)
                    self.assertEqual(self.tree(saves), before)
                    book.close()

    def test_what_is_listed_is_what_the_game_shows(self) -> None:
        for edition in EDITIONS:
            with self.subTest(edition=edition):
                saves = self.played(edition)
                (slots,) = slots_in(saves, self.library(), {"registers": saves / "registers"})
                found = {each.slot: each for each in slots.listed()}
                self.assertEqual([slot for slot, each in found.items() if each.taken], ["1", "4"])
                self.assertEqual(len(found), 99)
                self.assertIn("Ives & Sons · marks 1386 · clock 0:05:", found["4"].title)
                self.assertEqual(found["9"].path, saves / EDITIONS[edition].format("-9"))
                found["4"].path.write_bytes(b"noise that no template fits")
                (damaged,) = [each for each in slots.listed() if each.slot == "4"]
                self.assertTrue(damaged.taken)
                self.assertTrue(damaged.problem)

    def test_a_taken_slot_is_kept_before_it_is_replaced(self) -> None:
        saves = self.played("desktop")
        book, before = Book(self.folder / "book"), self.tree(saves)
        with self.assertRaisesRegex(Refused, r"slot 4 is taken by Ives & Sons.*harbour-4.bwk.*nothing was written"):
            carry_slot(self.opened_slot(saves, "desktop", 1), "4")
        self.assertEqual(self.tree(saves), before)
        self.carried(book, self.opened_slot(saves, "desktop", 1), "4", anyway=True)
        self.assertEqual(self.shown(saves, "desktop", 4), "Maud")
        kept = [each for each in book.keeping.snapshots(saves / "harbour-4.bwk") if each.label.startswith("slot 4")]
        self.assertEqual(book.keeping.store.get(kept[0].files[0].sha256), before["harbour-4.bwk"])

    def test_a_kept_copy_and_an_exported_one_go_into_a_free_slot(self) -> None:
        saves, shelf = self.played("desktop"), self.shelf()
        save = self.opened_slot(saves, "desktop", 4)
        book = shelf.book_for(save.path, save.template)
        snapshot, archive = book.keeping.keep(save, "a good start"), self.folder / "start.zip"
        book.keeping.export(snapshot, archive)
        play(saves, "--slot", "4", "sell", "copper helm", "4")
        for number, kept in ((8, shelf.open_kept(book, snapshot)), (9, shelf.open_archive(archive))):
            made = carry_slot(kept, str(number), slots=Slots.at(kept, saves))
            post_carry(book.history, made, running=[])
            self.assertIn("marks 1386", play(saves, "--slot", str(number), "show").text)
        elsewhere = self.folder / "elsewhere"
        play(elsewhere, "start", "Oriel")
        kept = shelf.open_archive(archive)
        post_carry(book.history, carry_slot(kept, "2", slots=Slots.at(kept, elsewhere)), running=[])
        self.assertEqual(self.shown(elsewhere, "desktop", 2), "Ives & Sons")
        shelf.close()

    def test_a_file_that_was_renamed_by_hand_is_put_right_in_its_place(self) -> None:
        saves = self.played("pocket")
        (saves / "pocket.bwp").rename(saves / "pocket-3.bwp")
        self.assertIn("says it belongs in slot 1", play(saves, "--edition", "pocket", "--slot", "3", "show").text)
        self.carried(Book(self.folder / "book"), self.opened_slot(saves, "pocket", 3), "3")
        self.assertEqual(self.shown(saves, "pocket", 3), "Maud")

    def test_each_mistake_is_one_sentence_and_nothing_is_written(self) -> None:
        saves = self.played("console")
        before = self.tree(saves)
        save = self.opened_slot(saves, "console", 1)
        for to, how, words in (
            ("100", "copy", "there is no slot 100; nothing was written; slots are 1 to 99"),
            ("two", "copy", "there is no slot two"),
            ("../1", "copy", "there is no slot ../1"),
            ("1", "move", "voyage.bwx is in slot 1 already"),
            ("9", "swap", "slot 9 is free, so there is nothing to swap"),
        ):
            with self.subTest(to=to, how=how), self.assertRaisesRegex(EntryError, words):
                carry_slot(save, to, how)  # type: ignore[arg-type]
        (saves / "voyage.bwy").unlink()
        with self.assertRaisesRegex(LedgerError, r"voyage.bwy.*it belongs to the same save as voyage.bwx"):
            carry_slot(self.opened_slot(saves, "console", 1), "9")
        del before["voyage.bwy"]
        self.assertEqual(self.tree(saves), before)

    def test_a_stop_or_a_failure_at_any_step_leaves_all_old_or_all_new(self) -> None:
        first = self.played("desktop")
        before = self.tree(first)
        save = self.opened_slot(first, "desktop", 1)
        post_carry(Book(self.folder / "book").history, carry_slot(save, "4", "swap"), running=[])
        after = self.tree(first)
        for crash in (True, False):
            step, outcomes = 0, set()
            while True:
                step += 1
                for path in first.iterdir():
                    path.unlink()
                for name, data in before.items():
                    (first / name).write_bytes(data)
                folder = self.folder / f"book-{crash}-{step}"
                disk = FailingDisk(step, crash=crash, error=errno.ENOSPC)
                book = Book(folder, disk)
                try:
                    post_carry(book.history, carry_slot(self.opened_slot(first, "desktop", 1), "4", "swap"), running=[])
                    finished = True
                except (Crash, LedgerError):
                    finished = False
                book.close()
                again = Book(folder)
                with self.subTest(crash=crash, step=step):
                    present = self.tree(first)
                    self.assertIn(present, (before, after), f"a mixture after {disk.done[-1]}")
                    outcomes.add(present == after)
                    self.assertEqual(len(again.history.postings()), int(present == after))
                again.close()
                if finished and step > disk.count:
                    break
            self.assertEqual(outcomes, {True, False})

    def test_a_slot_that_the_running_game_uses(self) -> None:
        saves = self.played("desktop")
        made, book = carry_slot(self.opened_slot(saves, "desktop", 1), "4", "swap"), Book(self.folder / "book")
        before, slot = self.tree(saves), str(saves / "harbour-4.bwk")
        holding = Program("harbour-game", 7, ("harbour-game",), ((slot, False),))
        with self.assertRaisesRegex(Refused, r"harbour-4.bwk is held open by harbour-game \(7\).*close the game first"):
            post_carry(book.history, made, running=[holding])
        self.assertEqual(self.tree(saves), before)
        self.assertEqual(carry_hazards(book.history, made, [holding]), [], "that is what the refusal says already")
        started = Program("harbour-game", 7, ("harbour-game", str(saves)), ())
        (finding,) = carry_hazards(book.history, made, [started])
        self.assertIn("harbour-game (7) runs with this folder; if that is the game, close it", finding.message)
        post_carry(book.history, made, running=[started])
        self.assertEqual(self.shown(saves, "desktop", 4), "Maud")

    def test_what_the_game_writes_in_the_meantime_is_not_lost(self) -> None:
        saves = self.played("desktop")
        made = carry_slot(self.opened_slot(saves, "desktop", 1), "4", "swap")
        play(saves, "--slot", "4", "dive", "Tamsin")
        before = self.tree(saves)
        with self.assertRaisesRegex(ChangedMeanwhile, "harbour-4.bwk was changed by another program"):
            post_carry(Book(self.folder / "book").history, made, running=[])
        self.assertEqual(self.tree(saves), before)


class Index(NamedTuple):
    """How a made-up game keeps the entries of its slots: how they are written, read, and described."""

    name: str
    write: Callable[[dict[int, tuple[str, int]]], bytes]
    read: Callable[[bytes], dict[int, tuple[str, int]]]
    layout: str


def _json(entries: dict[int, tuple[str, int]]) -> bytes:
    rows = [{"id": n, "extra": [n] * 3, "who": who, "coins": coins} for n, (who, coins) in entries.items()]
    return json.dumps({"made": 3, "list": rows}, indent=1).encode()


def _from_json(data: bytes) -> dict[int, tuple[str, int]]:
    return {row["id"]: (row["who"], row["coins"]) for row in json.loads(data)["list"]}


def _xml(entries: dict[int, tuple[str, int]]) -> bytes:
    rows = "".join(f'  <slot n="{n}" coins="{c}"><who>{w}</who></slot>\n' for n, (w, c) in entries.items())
    return f"<all>\n{rows}</all>\n".encode()


def _from_xml(data: bytes) -> dict[int, tuple[str, int]]:
    return {int(e.attrib["n"]): (e[0].text or "", int(e.attrib["coins"])) for e in ET.fromstring(data)}


ENTRY = struct.Struct("<8sI")


def _binary(entries: dict[int, tuple[str, int]]) -> bytes:
    body = b"".join(
        ENTRY.pack(*(entries[n][0].encode(), entries[n][1]) if n in entries else (b"", 0)) for n in range(20)
    )
    return b"IX" + struct.pack("<I", zlib.crc32(body)) + body


def _from_binary(data: bytes) -> dict[int, tuple[str, int]]:
    assert struct.unpack("<I", data[2:6])[0] == zlib.crc32(data[6:])
    rows = {n: ENTRY.unpack_from(data, 6 + 12 * n) for n in range(20)}
    return {n: (who.rstrip(b"\0").decode(), coins) for n, (who, coins) in rows.items() if who.rstrip(b"\0")}


INDEXES = (
    Index(
        "index.json",
        _json,
        _from_json,
        """format: json
    layout:
      - {field: who, at: "list[id={slot}].who", as: text}
      - {field: coins, at: "list[id={slot}].coins", as: number}""",
    ),
    Index(
        "index.xml",
        _xml,
        _from_xml,
        """format: xml
    layout:
      - {field: who, at: 'all.slot["@n"={slot}].who', as: text}
      - {field: coins, at: 'all.slot["@n"={slot}]."@coins"', as: number}""",
    ),
    Index(
        "index.dat",
        _binary,
        _from_binary,
        """layout:
      - {constant: magic, text: IX}
      - {field: sum, as: u32, seal: {algorithm: crc-32, over: entries}}
      - {unknown: entries, size: 240}
      - group: entry
        flat: true
        at: "6 + 12 * slot"
        layout: [{field: who, as: text, size: 8}, {field: coins, as: u32}]""",
    ),
)


def _own(slot: int, who: str, coins: int) -> bytes:
    body = struct.pack("<HI8s", slot, coins, who.encode())
    return body + struct.pack("<H", sum(body) & 0xFFFF)


class MadeUpTest(SlotCase):
    def template(self, index: Index, rule: str, name: str) -> Template:
        return parse_template(
            f"""ledger: 1
id: made-up
title: Made up
files:
  save:
    name: "{name}"
    layout:
      - group: body
        flat: true
        layout:
          - {{field: slot, as: u16, locked: it is in the name}}
          - {{field: coins, as: u32}}
          - {{field: who, as: text, size: 8}}
      - {{field: sum, as: u16, seal: {{algorithm: sum16, over: body}}}}
  index:
    name: {index.name}
    {index.layout}
rules:
  - {{named: slot, {rule}, why: the game looks there}}
  - {{equal: [who, index.who]}}
  - {{equal: [coins, index.coins]}}
slots: {{shows: [who, coins]}}
""".encode(),
            "made-up.yaml",
        )

    def test_entries_of_shared_files_in_every_format_with_numbers_nobody_chose(self) -> None:
        source = dice()
        seed = source.randrange(1 << 30)
        source.seed(seed)
        for index in INDEXES:
            for rule, name, spelled in (
                ("pattern: 'sv{}.bin'", "sv*.bin", "sv{}.bin"),
                ("pattern: 'sv{}.bin'", "sv*.bin", "sv{:03}.bin"),
            ):
                for how in ("copy", "move", "swap"):
                    with self.subTest(index=index.name, spelled=spelled, how=how, seed=seed):
                        self.moved(index, self.template(index, rule, name), spelled, how, source)  # type: ignore[arg-type]

    def moved(self, index: Index, template: Template, spelled: str, how: How, source: random.Random) -> None:
        folder = self.folder / str(source.random())
        folder.mkdir()
        one, two, other, free = source.sample(range(1, 20), 4)
        entries = {
            n: (source.choice(["Ada", "Bo", "Cy"]) + str(n), source.randrange(1 << 30)) for n in (one, two, other)
        }
        entries = dict(sorted(entries.items()))
        for slot, (who, coins) in entries.items():
            (folder / spelled.format(slot)).write_bytes(_own(slot, who, coins))
        (folder / index.name).write_bytes(index.write(entries))
        to = two if how == "swap" else free
        book = Book(folder / "book")
        self.carried(book, open_save(folder / spelled.format(one), template), str(to), how)
        book.close()
        expected = dict(entries)
        if how == "swap":
            expected[one], expected[two] = entries[two], entries[one]
        else:
            expected[free] = entries[one]
            if how == "move":
                del expected[one]
        found = index.read((folder / index.name).read_bytes())
        if how == "move" and index.name == "index.dat":  # nothing says what a free entry looks like, so it stays
            self.assertEqual(found.pop(one), entries[one])
        self.assertEqual(found, expected)
        files = {path.name: path.read_bytes() for path in folder.glob("sv*.bin")}
        self.assertEqual(files, {spelled.format(n): _own(n, *entry) for n, entry in expected.items()})

    def test_a_slot_that_is_a_folder_goes_with_everything_in_it(self) -> None:
        template = parse_template(
            b"""ledger: 1
id: made-up
title: Made up
files:
  save: {name: game.dat, layout: [{field: slot, as: u8, locked: no}, {field: coins, as: u32}]}
  notes: {name: sub/notes.txt, format: keyed-lines, layout: [{field: slot, as: number}]}
rules:
  - {named: slot, of: folder, pattern: "Slot {}"}
  - {equal: [slot, notes.slot]}
""",
            "made-up.yaml",
        )
        for number in (1, 2):
            folder = self.folder / f"Slot {number}" / "sub"
            folder.mkdir(parents=True)
            folder.parent.joinpath("game.dat").write_bytes(struct.pack("<BI", number, 100 + number))
            folder.joinpath("notes.txt").write_text(f"slot={number}\n")
            folder.joinpath(f"thumb{number}.png").write_bytes(bytes([number]) * 9)
        before = self.tree(self.folder)
        book = Book(self.folder / "book")
        self.carried(book, open_save(self.folder / "Slot 1" / "game.dat", template), "2", "swap")
        two = self.folder / "Slot 2"
        self.assertEqual((two / "game.dat").read_bytes(), struct.pack("<BI", 2, 101))
        self.assertEqual((two / "sub" / "notes.txt").read_text(), "slot=2\n")
        self.assertEqual([path.name for path in (two / "sub").glob("*.png")], ["thumb1.png"])
        self.carried(book, open_save(two / "game.dat", template), "7", "move")
        self.assertFalse(two.exists())
        for posting in book.history.postings():
            book.history.reverse(posting)
        book.close()
        now = {name: data for name, data in self.tree(self.folder).items() if not name.startswith("book")}
        self.assertEqual(now, before)


ONE_FILE = """ledger: 1
id: one-file
title: One file
files:
  save:
    name: "*.mem"
    order: big
    layout:
      - {constant: magic, text: MEM}
      - rows: slots
        count: 4
        empty: {used: 0}
        layout:
          - group: body
            flat: true
            layout:
              - {field: number, as: u8, locked: it is the place's}
              - {field: used, as: u8}
              - {field: coins, as: u32}
              - {field: who, as: text, size: 6}
          - {field: sum, as: u16, seal: {algorithm: sum16, over: body}}
slots: {rows: slots, keep: [number], shows: [who, coins]}
"""


class InnerTest(SlotCase):
    """Slots that are records of one file, each with a sum of its own."""

    def setUp(self) -> None:
        super().setUp()
        self.template = parse_template(
            ONE_FILE.encode(),
            "one-file.yaml",
        )
        self.path = self.folder / "a.mem"
        self.write({1: (b"Maud", 7), 3: (b"Ives", 9)})

    def write(self, entries: dict[int, tuple[bytes, int]]) -> None:
        self.path.write_bytes(self.made(entries))

    @staticmethod
    def made(entries: dict[int, tuple[bytes, int]], freed: dict[int, tuple[bytes, int]] | None = None) -> bytes:
        whole = b"MEM"
        for number in range(1, 5):
            who, coins = (entries | (freed or {})).get(number, (b"", 0))
            body = struct.pack(">BBI6s", number, number in entries, coins, who)
            whole += body + struct.pack(">H", sum(body))
        return whole

    def test_a_record_is_copied_moved_and_swapped_with_its_own_number_and_sum(self) -> None:
        maud, ives = (b"Maud", 7), (b"Ives", 9)
        for how, to, expected in (
            ("copy", "2", self.made({1: maud, 2: maud, 3: ives})),
            ("move", "4", self.made({3: ives, 4: maud}, {1: maud})),
            ("swap", "3", self.made({1: ives, 3: maud})),
        ):
            with self.subTest(how=how):
                self.write({1: maud, 3: ives})
                save = open_save(self.path, self.template)
                carry_record(save, to, "1", how)  # type: ignore[arg-type]
                plan = make_plan(save)
                self.assertTrue(plan.in_balance, plan.findings)
                book = Book(self.folder / f"book-{how}")
                book.history.post(save, plan)
                book.close()
                self.assertEqual(self.path.read_bytes(), expected)

    def test_what_is_there_and_what_cannot_be_done(self) -> None:
        save = open_save(self.path, self.template)
        found = [(each.slot, each.title) for each in InnerSlots(save).listed()]
        self.assertEqual(found, [("1", "Maud · coins 7"), ("2", ""), ("3", "Ives · coins 9"), ("4", "")])
        for to, of, how, words in (
            ("3", "1", "copy", "slot 3 is taken by Ives · coins 9; nothing was written"),
            ("2", "4", "copy", "slot 4 is free; nothing was written"),
            ("5", "1", "copy", "there is no slot 5; nothing was written; slots are 1 to 4"),
            ("2", "1", "swap", "slot 2 is free, so there is nothing to swap"),
            ("1", "1", "move", "slot 1 is where it is already"),
        ):
            with self.subTest(words), self.assertRaisesRegex(LedgerError, words):
                carry_record(save, to, of, how)  # type: ignore[arg-type]
            self.assertEqual(list(save.tape), [])

    def test_a_record_of_a_kept_copy_comes_back_into_another_slot(self) -> None:
        shelf = self.shelf()
        save = open_save(self.path, self.template)
        book = shelf.open("One")
        (book.folder / "templates" / "one-file.yaml").write_text(ONE_FILE)
        snapshot = book.keeping.keep(save)
        self.write({2: (b"Cy", 1)})
        now = open_save(self.path, self.template)
        carry_record(now, "4", "3", source=shelf.open_kept(book, snapshot, "one-file"))
        book.history.post(now, make_plan(now))
        self.assertEqual(self.path.read_bytes(), self.made({2: (b"Cy", 1), 4: (b"Ives", 9)}))
        shelf.close()
