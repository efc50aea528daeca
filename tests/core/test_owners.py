"""Saves of other owners and regions, and files on memory cards; the made-up console judges."""

from __future__ import annotations

import random
import struct
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Literal, NamedTuple

from brinewick import card as game_card
from faithful_ledger.core.book import Book
from faithful_ledger.core.carry import Card, carry_owner, carry_payload, carry_slot
from faithful_ledger.core.errors import AddressError, EntryError, LedgerError, Refused, TemplateError
from faithful_ledger.core.opening import find_save, open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.save import Save
from faithful_ledger.core.template import Template, parse_template
from tests.support import LedgerCase, dice, play


class ConsoleCase(LedgerCase):
    def console(self, name: str, *whose: str, edition: str = "console") -> Path:
        saves = self.folder / name
        for action in (("start", name), ("dive", "Tamsin")):
            self.assertEqual(play(saves, "--edition", edition, *whose, *action).status, 0)
        return saves

    def voyage(self, saves: Path, name: str = "voyage.bwx") -> Save:
        return open_save(*find_save(saves / name, self.library()))

    def post(self, save: Save) -> None:
        plan = make_plan(save)
        self.assertTrue(plan.in_balance, plan.findings)
        book = Book(self.folder / "book")
        book.history.post(save, plan)
        book.close()


class OwnerTest(ConsoleCase):
    def test_a_save_of_somebody_else_becomes_ones_own(self) -> None:
        own, theirs = self.console("Own"), self.console("Theirs", "--owner", "brock")
        self.assertIn("belongs to owner 0041000071DE0310", play(theirs, "--edition", "console", "show").text)
        save = self.voyage(theirs)
        entries = carry_owner(save, self.voyage(own))
        self.assertEqual([entry.path for entry in entries], ["owner", "data.owner"])
        self.post(save)
        self.assertTrue(play(theirs, "--edition", "console", "show").text.startswith("Theirs · slot 1"))
        with self.assertRaisesRegex(EntryError, "has your owner already"):
            carry_owner(self.voyage(theirs), self.voyage(own))

    def test_only_the_payload_goes_over_regions(self) -> None:
        own, theirs = self.console("Own"), self.console("Theirs", "--region", "REEF", "--owner", "tamsin")
        before = self.tree(self.folder)
        with self.assertRaisesRegex(
            Refused, r"is of region REEF, and .* of MOLE; nothing was written; carry only its payload"
        ):
            carry_owner(self.voyage(theirs), self.voyage(own))
        mine = self.voyage(own)
        carry_payload(self.voyage(theirs), mine)
        self.assertEqual(self.tree(self.folder), before)
        self.post(mine)
        self.assertTrue(play(own, "--edition", "console", "show").text.startswith("Theirs · slot 1"))
        with self.assertRaisesRegex(EntryError, "has this payload already"):
            carry_payload(self.voyage(theirs), self.voyage(own))

    def test_another_title_and_another_game_are_refused(self) -> None:
        own, theirs = self.console("Own"), self.console("Theirs")
        data = bytearray((theirs / "voyage.bwx").read_bytes())
        data[8:12] = b"\x07\x07\x07\x07"
        (theirs / "voyage.bwx").write_bytes(data)
        with self.assertRaisesRegex(Refused, "is of title 0x07070707, and .* they are of different games"):
            carry_payload(self.voyage(theirs), self.voyage(own))
        with self.assertRaisesRegex(EntryError, "are described by brinewick-desktop and brinewick-console"):
            carry_owner(self.opened(), self.voyage(own))


class CardTest(ConsoleCase):
    def card(self, saves: Path) -> Card:
        return Card(open_save(*find_save(saves / "card.bwc", self.library())), self.library())

    def pair(self, saves: Path, stem: str) -> dict[str, bytes]:
        return {f"{stem}.{end}": (saves / f"{stem}.{end}").read_bytes() for end in ("bwx", "bwy")}

    def in_slot(self, saves: Path, slot: int) -> dict[str, bytes]:
        """An exported voyage, carried into a slot."""
        save = self.voyage(saves)
        made = carry_slot(save, str(slot))
        return {write.path.name: bytes(write.new.read(0, write.new.size)) for write in made.written if write.new}

    def shown(self, saves: Path, slot: int) -> str:
        return play(saves, "--edition", "card", "--slot", str(slot), "show").text.partition(" · ")[0]

    def test_what_is_added_replaced_and_removed_is_what_the_console_then_reads(self) -> None:
        saves, other = self.console("Card", edition="card"), self.console("Other")
        play(saves, "--edition", "card", "save", "2")
        third = self.in_slot(other, 3)
        card = self.card(saves)
        card.add(third)
        self.post(card.save)
        self.assertEqual([self.shown(saves, slot) for slot in (1, 2, 3)], ["Card", "Card", "Other"])
        card = self.card(saves)
        self.assertEqual(dict(card_files(card)), game_card.parse(card_bytes(card), b"MOLE"))
        second = self.in_slot(other, 2)
        card.add(second, card.with_partners("voyage-2.bwy"))
        self.post(card.save)
        self.assertEqual(self.shown(saves, 2), "Other")
        card = self.card(saves)
        card.remove(card.with_partners("voyage.bwy"))
        self.post(card.save)
        self.assertIn("no save in slot 1 on the card", self.shown(saves, 1))
        self.assertEqual([self.shown(saves, slot) for slot in (2, 3)], ["Other", "Other"])

    def test_other_bytes_for_an_entry_whatever_the_files_are_called(self) -> None:
        saves, other = self.console("Card", edition="card"), self.console("Other")
        given = {name: (other / name).read_bytes() for name in ("voyage.bwx", "voyage.bwy")}
        before = (saves / "card.bwc").read_bytes()
        for names in (("a.bwx", "b.bwy"), ("b.bwy", "a.bwx"), ("one.bin", "two.bin")):
            (saves / "card.bwc").write_bytes(before)
            card = self.card(saves)
            files = [
                (name, given["voyage.bwy" if name.endswith("y") or name == "two.bin" else "voyage.bwx"])
                for name in names
            ]
            with self.subTest(names):
                card.replace("voyage.bwx", files)
                self.post(card.save)
                self.assertEqual(dict(card_files(self.card(saves))), given)
        card = self.card(saves)
        for files in ([("a.bwx", b""), ("b.bwx", b"")], [("a", b"")] * 3):
            with self.assertRaisesRegex(
                AddressError, "files are given for voyage.bwx, voyage.bwy; .* one file for each"
            ):
                card.replace("voyage.bwx", files)
        called = "voyage.bwx is called like a save of .*, and what it holds is not one; nothing was written"
        for noise in (b"", random.Random(4).randbytes(64), given["voyage.bwx"][:20]):
            with self.assertRaisesRegex(Refused, called):
                card.replace("voyage.bwx", [("noise.bin", noise)])
        self.assertFalse(len(card.save.tape))

    def test_everything_else_stays_byte_for_byte(self) -> None:
        saves, other = self.console("Card", edition="card"), self.console("Other")
        image = bytearray((saves / "card.bwc").read_bytes())
        image[60 * 256 : 61 * 256] = random.Random(5).randbytes(256)  # what a removed file left in a free block
        (saves / "card.bwc").write_bytes(image)
        card = self.card(saves)
        card.add(self.in_slot(other, 3))
        self.post(card.save)
        after = (saves / "card.bwc").read_bytes()
        changed = {at // 256 for at, (old, new) in enumerate(zip(image, after, strict=True)) if old != new}
        taken = {block for entry in self.card(saves).entries if "-3" in entry.name for block in entry.blocks}
        self.assertLessEqual(changed, taken | {0, 1, 3})

    def test_mistakes_are_refused_by_name(self) -> None:
        saves, other = self.console("Card", edition="card"), self.console("Other")
        reef = self.console("Reef", "--region", "REEF")
        third, first, strange = self.in_slot(other, 3), self.pair(other, "voyage"), self.in_slot(reef, 4)
        half = {name: data for name, data in third.items() if name.endswith("bwx")}
        mixed = half | {"voyage-3.bwy": strange["voyage-4.bwy"]}
        trial = {name.replace("voyage", "trial"): data for name, data in first.items()}
        large = {f"note{number}": bytes(256 * 25) for number in range(8)}
        before = self.tree(saves)
        for files, words in (
            (first, r"voyage.bwx is on card.bwc already; nothing was written"),
            (half, r"voyage-3.bwx belongs together with voyage-3.bwy, which is neither given nor on card.bwc"),
            (strange, r"voyage-4.bwx is of region REEF, and card.bwc of MOLE"),
            (mixed, r"is of region REEF|voyage-3.bwx, voyage-3.bwy do not belong together"),
            (trial, r"trial.bwx and voyage.bwx cannot be on one card"),
            (large, r"card.bwc is full: .* need 200 blocks of 256 bytes, and 177 are free"),
            ({f"{n}": b"" for n in range(47)}, r"card.bwc is full: its directory has room for 48 entries"),
            ({"a name with too many letters": b"x"}, r"a name with too many letters on card.bwc"),
        ):
            card = self.card(saves)
            with self.subTest(words), self.assertRaisesRegex(LedgerError, words):
                card.add(files)
            self.assertEqual(list(card.save.tape), [])
        with self.assertRaisesRegex(AddressError, "card.bwc has no entries “gone.bwx”; nothing was written; there are"):
            self.card(saves).entry("gone.bwx")
        with self.assertRaisesRegex(EntryError, "no template says how harbour.bwk holds files"):
            Card(self.opened(), self.library())
        self.assertEqual(self.tree(saves), before)

    def test_a_template_that_describes_a_card_wrongly(self) -> None:
        path = self.library().path_of("brinewick-card")
        assert path is not None
        text = path.read_text("utf-8")
        for old, new, words in (
            ("  name: name", "  name: label", "the records of directory have no field “label”"),
            (
                "fill: {state: taken, icon",
                "fill: {state: taken, picture",
                "the records of directory have no field “picture”",
            ),
            ('"*.bwx": a bell, "*.bwy": a crate', "", "icon"),
            ("  next: table", "  next: directory", "“directory” is not rows of single numbers"),
            ("  size: size\n", "", "an entry says with `size` how many bytes it has, or with `count` how many blocks"),
            ("        empty: {state: 0}\n", "", "say with `empty` at these rows which entries are free"),
        ):
            with self.subTest(new or old):
                self.assertIn(old, text)
                with self.assertRaises(TemplateError) as caught:
                    parse_template(text.replace(old, new).encode(), "card.yaml")
                self.assertIn(words, str(caught.exception.mistakes))

    def test_damaged_chains_are_shown_and_never_written_over(self) -> None:
        other, damaged = self.console("Other"), self.folder / "damaged"
        damaged.mkdir()
        for number, words in (
            (10, "its chain leads in a circle, back to block 10"),
            (999, "its chain leads to block 999, and the card has 192"),
            (40, "its chain leads to block 40, which is free"),
            (0xFFFF, "its chain has 3 blocks, and its size needs 5"),
            (9, "block 9 belongs to voyage.bwx as well|has more than|has 4 blocks"),
        ):
            with self.subTest(words):
                saves = self.console(f"Card {number}", edition="card")
                image = bytearray((saves / "card.bwc").read_bytes())
                image[256 + 24 : 256 + 26] = number.to_bytes(2, "big")  # behind the third block of the data
                struct.pack_into(">I", image, 20, zlib.crc32(image[256 : 9 * 256]))
                (saves / "card.bwc").write_bytes(image)
                card = self.card(saves)
                problems = {entry.name: entry.problem for entry in card.entries}
                self.assertRegex(problems["voyage.bwy"] or "", words)
                chain = next(entry.blocks for entry in card.entries if entry.name == "voyage.bwy")
                self.assertFalse(set(card.free) & set(chain))
                with self.assertRaisesRegex(Refused, "voyage.bwy on card.bwc is damaged"):
                    card.with_partners("voyage.bwx")
                card.add(self.in_slot(other, 3))
                self.post(card.save)
                after = (saves / "card.bwc").read_bytes()
                for block in chain:
                    self.assertEqual(after[block * 256 :][:256], bytes(image[block * 256 :][:256]))

    def test_cards_of_other_makes_with_numbers_nobody_chose(self) -> None:
        source = dice()
        seed = source.randrange(1 << 30)
        source.seed(seed)
        for make in (table_card, record_card, doubled_card) * 4:
            made = make(source)
            with self.subTest(seed=seed, make=make.__name__, size=made.size):
                self.used(made, source)

    def used(self, made: OtherCard, source: random.Random) -> None:
        """Files put on a card and taken off it, compared with what its own reader finds."""
        path = self.folder / "a.img"
        path.write_bytes(made.image)
        expected: dict[str, bytes] = {}
        for step in range(12):
            card = Card(open_save(path, made.template), self.library())
            name = f"f{step}"
            if expected and source.random() < 0.4:
                name = source.choice(sorted(expected))
                card.remove(card.with_partners(name))
                del expected[name]
            else:
                data = source.randbytes(source.randrange(1, 4) * made.size // source.choice([1, 1, made.part]))
                if -(-len(data) // made.size) > len(card.free) or len(expected) == made.room:
                    continue
                card.add({name: data})
                expected[name] = data
            self.post(card.save)
            card = Card(open_save(path, made.template), self.library())
            self.assertEqual(dict(card_files(card)), expected)
            self.assertEqual(made.read(path.read_bytes()), expected)
            self.assertEqual([entry.problem for entry in card.entries], [""] * len(expected))


class OtherCard(NamedTuple):
    """A make of cards: its template, an empty image, a reader of its own, and how many files there is room for."""

    template: Template
    image: bytes
    read: Callable[[bytes], dict[str, bytes]]
    size: int
    room: int
    part: int


def described(layout: str, order: str, card: str) -> Template:
    text = f"ledger: 1\nid: other-card\ntitle: Another\nfiles:\n  card:\n    name: '*.img'\n    order: {order}\n    layout:\n"
    lines = "".join(f"      {line}\n" for line in layout.strip().splitlines())
    return parse_template(f"{text}{lines}card: {card}\n".encode(), "other-card.yaml")


def table_card(source: random.Random) -> OtherCard:
    """A table of any width, and a directory with sizes in bytes or in blocks."""
    order: Literal["little", "big"] = "little" if source.random() < 0.5 else "big"
    size, blocks = source.choice([64, 128, 512]), source.randrange(8, 60)
    wide, free, last = source.choice([2, 4]), source.choice([0, 0xFFF0]), source.choice([0xFFFF, blocks + 3])
    head, by_count = source.randrange(40), source.random() < 0.5
    record = 1 + 4 + wide + 12 + 1
    at = head + blocks * wide + 9 * record
    fields = f"{{field: used, as: u8}}, {{field: length, as: u32}}, {{field: start, as: u{8 * wide}}}, {{field: name, as: text, size: 12}}, {{field: mood, as: u8}}"
    template = described(
        f"""- {{unknown: head, size: {head}}}
- {{rows: chain, each: {{as: u{8 * wide}}}, count: {blocks}}}
- {{rows: names, count: 9, empty: {{used: 0}}, layout: [{fields}]}}
- {{unknown: data}}""",
        order,
        f"""{{entries: names, name: name, first: start, {"count" if by_count else "size"}: length, next: chain, at: {at},
  block_size: {size}, free: {free}, last: {last}, fill: {{used: 7}}}}""",
    )

    def number(data: bytes, place: int, width: int) -> int:
        return int.from_bytes(data[place : place + width], order)

    def read(data: bytes) -> dict[str, bytes]:
        found = {}
        for n in range(9):
            base = head + blocks * wide + n * record
            if data[base]:
                length, block, content = number(data, base + 1, 4), number(data, base + 5, wide), b""
                while block != last:
                    content += data[at + block * size : at + (block + 1) * size]
                    block = number(data, head + block * wide, wide)
                assert not data[base + record - 1], "a new entry keeps what the one before it said"
                name = data[base + 5 + wide : base + record - 1].rstrip(b"\0").decode()
                found[name] = content[: length * size if by_count else length]
        return found

    image = (
        source.randbytes(head)
        + free.to_bytes(wide, order) * blocks
        + b"".join(bytes(record - 1) + source.randbytes(1) for _ in range(9))
        + source.randbytes(blocks * size)
    )
    return OtherCard(template, image, read, size, 9, 1 if by_count else size // 16)


def record_card(source: random.Random) -> OtherCard:
    """Each frame of the directory is a block, with a state, a link, and a sum of its own."""
    size, blocks = source.choice([256, 1024]), source.randrange(6, 20)
    first, middle, last, free = source.sample(range(1, 256), 4)
    template = described(
        f"""- rows: frames
  count: {blocks}
  empty: {{state: {free}}}
  layout:
    - group: body
      flat: true
      layout: [{{field: state, as: u8}}, {{field: size, as: u32}}, {{field: link, as: u16}}, {{field: name, as: text, size: 20}}]
    - {{field: sum, as: u8, seal: {{algorithm: xor8, over: body}}}}
- {{unknown: data}}""",
        "little",
        f"""{{entries: frames, name: name, size: size, next: "frames[*].link", state: state, states: [{first}, {middle}, {last}],
  at: {28 * blocks}, block_size: {size}}}""",
    )

    def read(data: bytes) -> dict[str, bytes]:
        found = {}
        frames = [struct.unpack_from("<BIH20sB", data, 28 * n) for n in range(blocks)]
        for n, frame in enumerate(frames):
            total = 0
            for byte in data[28 * n : 28 * n + 27]:
                total ^= byte
            assert total == frame[4], n
        for n, (state, length, _, name, _) in enumerate(frames):
            if state == first:
                content, block, states = b"", n, []
                while block != 0xFFFF:
                    states.append(frames[block][0])
                    content += data[28 * blocks + block * size :][:size]
                    block = frames[block][2]
                assert states == [first, *[middle] * (len(states) - 2), *([last] if len(states) > 1 else [])], states
                found[name.rstrip(b"\0").decode()] = content[:length]
        return found

    frame = struct.pack("<BIH20s", free, 0, 0xFFFF, b"")
    return OtherCard(
        template, (frame + bytes([free])) * blocks + source.randbytes(blocks * size), read, size, blocks, 3
    )


def doubled_card(source: random.Random) -> OtherCard:
    """A directory and a table that are there twice, each with a sum, and a count of the free blocks in the table."""
    size, blocks, room = source.choice([128, 512]), source.randrange(9, 40), 8
    entry = (
        "{field: used, as: u8}, {field: blocks, as: u16}, {field: first, as: u16}, {field: name, as: text, size: 16}"
    )
    layout = ""
    for copy in ("", "b_"):
        layout += f"- {{field: {copy}dsum, as: u16, seal: {{algorithm: sum16, over: {copy}names}}}}\n"
        layout += f"- {{rows: {copy}names, count: {room}, empty: {{used: 0}}, layout: [{entry}]}}\n"
    for copy in ("", "b_"):
        layout += f"- {{field: {copy}tsum, as: u16, seal: {{algorithm: sum16, over: {copy}table}}}}\n"
        layout += f"- group: {copy}table\n  layout:\n    - {{field: {copy}left, as: u16}}\n"
        layout += f"    - {{rows: {copy}links, each: {{as: u16}}, count: {blocks}}}\n"
    names, table = room * 21, 2 + 2 * blocks
    at = 2 * (2 + names) + 2 * (2 + table)
    template = described(
        layout + "- {unknown: data}",
        "big",
        f"""{{entries: names, name: name, first: first, count: blocks, next: table.links, free_count: table.left, fill: {{used: 1}},
  copies: [[names, b_names], [table, b_table]], at: {at}, block_size: {size}, free: 0, last: 65535}}""",
    )

    def read(data: bytes) -> dict[str, bytes]:
        one, two = data[: 2 + names], data[2 + names : 2 * (2 + names)]
        tables = [data[2 * (2 + names) + n * (2 + table) :][: 2 + table] for n in range(2)]
        assert one == two
        assert tables[0] == tables[1]
        for block in (one, tables[0]):
            assert int.from_bytes(block[:2], "big") == sum(block[2:]) & 0xFFFF
        left, *links = struct.unpack(f">{1 + blocks}H", tables[0][2:])
        assert left == sum(link == 0 for link in links[1:]), (left, links)
        found = {}
        for n in range(room):
            used, count, block, name = struct.unpack_from(">BHH16s", one, 2 + 21 * n)
            if used:
                content = b""
                for _ in range(count):
                    content += data[at + block * size :][:size]
                    block = links[block]
                assert block == 65535
                found[name.rstrip(b"\0").decode()] = content
        return found

    empty = bytes(names)
    free_table = (blocks - 1).to_bytes(2, "big") + bytes(2 * blocks)
    tsum = (sum(free_table) & 0xFFFF).to_bytes(2, "big")
    image = (bytes(2) + empty) * 2 + (tsum + free_table) * 2
    return OtherCard(template, image + source.randbytes(blocks * size), read, size, room, 1)


def card_files(card: Card) -> list[tuple[str, bytes]]:
    return [(entry.name, card.content(entry)) for entry in card.entries]


def card_bytes(card: Card) -> bytes:
    source = card.save.main.source
    return bytes(source.read(0, source.size))
