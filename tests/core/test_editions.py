"""Every edition of the game by its shipped template: what is opened, edited and posted, the game accepts."""

from __future__ import annotations

import random
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from brinewick import console, deep, pocket
from brinewick.company import Company, SaveRefused
from brinewick.harbour import Harbour
from faithful_ledger.core.arranging import insert_record, remove_records
from faithful_ledger.core.book import Book
from faithful_ledger.core.errors import EntryError, LedgerError, ValueRefused
from faithful_ledger.core.opening import find_save, open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.save import Save
from faithful_ledger.core.sharing.witnesses import fields_to_witness, tested, with_witness
from faithful_ledger.core.template import parse_template
from faithful_ledger.core.template.parts import self_contained
from tests.support import LedgerCase, play


class Edition(NamedTuple):
    """How an edition is played and read, and what its template calls the same things."""

    name: str
    file: str
    load: Callable[[Path], Company]
    company: str
    marks: str
    crew: str
    hold: str


EDITIONS = (
    Edition("desktop", "harbour.bwk", lambda at: Harbour(at).load(1), "company.name", "purse.marks", "crew", "hold"),
    Edition(
        "pocket",
        "pocket.bwp",
        lambda at: pocket.Pocket(at).load(),
        "slate.name",
        "slate.marks",
        "slate.crew",
        "slate.hold",
    ),
    Edition(
        "console",
        "voyage.bwx",
        lambda at: console.Export(at).load(),
        "body.company.name",
        "body.purse.marks",
        "body.crew",
        "body.hold",
    ),
    Edition(
        "deep",
        "company.bwd",
        lambda at: deep.Depot(at).load(),
        "company.name",
        "company.marks",
        "company.crew",
        "stores.hold",
    ),
)
SEALED = {"desktop": 24, "pocket": 6, "console": 25, "deep": 30}  # seals, lengths, counts and offsets, at least


class EditionsTest(LedgerCase):
    def played(self, edition: Edition, *actions: list[str]) -> Path:
        """A fresh company of an edition."""
        saves = self.folder / edition.name
        for action in (["start", "Oriel & Søn"], ["dive", "Brock"], ["install-charter", "Mint Steps"], *actions):
            answer = play(saves, "--edition", edition.name, *action)
            self.assertEqual(answer.status, 0, answer.text)
        return saves

    def opened(self, edition: Edition) -> Save:
        path, template = find_save(self.folder / edition.name / edition.file, self.library())
        self.assertEqual(template.id, f"brinewick-{edition.name}")
        save = open_save(path, template)
        self.assertIsNone(save.problem)
        return save

    def post(self, save: Save) -> Book:
        plan = make_plan(save)
        self.assertTrue(plan.in_balance, [*plan.findings, *plan.undecided])
        book = Book(self.folder / f"book-{random.random()}")
        self.addCleanup(book.close)
        book.history.post(save, plan)
        return book

    def test_nothing_entered_changes_nothing_and_what_is_shown_means_its_bytes(self) -> None:
        for edition in EDITIONS:
            self.played(edition)
            save = self.opened(edition)
            with self.subTest(edition=edition.name):
                self.assertTrue(save.in_balance, save.findings)
                self.assertGreaterEqual(len(save.seals), SEALED[edition.name])
                self.assertEqual(make_plan(save).changes, [])
                for field in list(save.all_fields()):
                    worked_out = field.spec.derived or field.spec.seal or field.spec.locked
                    if not worked_out and field.size <= 64 and field.spec.constant is None:
                        (entry,) = save.enter(field.path, save.text(field), anyway=True)
                        self.assertEqual(entry.data, field.raw, field.path)
                        save.tape.clear()

    def test_the_game_loads_what_is_posted_and_a_reversal_gives_the_old_bytes_back(self) -> None:
        for edition in EDITIONS:
            saves = self.played(edition)
            before = self.tree(saves)
            for name, marks in (("O", "0"), ("Oriel, Ives & kin", "50000"), ("Brock", "123")):
                name = name[:16]
                with self.subTest(edition=edition.name, name=name):
                    save = self.opened(edition)
                    save.enter(edition.company, name)
                    save.enter(edition.marks, marks)
                    save.enter(f"{edition.crew}[name=Tamsin].name", "Tamsin Bell")
                    save.enter(f"{edition.crew}[name=Oriel].air", "100")
                    save.enter(f"{edition.hold}[*].wear", "7")
                    book = self.post(save)
                    company = edition.load(saves)
                    self.assertEqual((company.name, company.marks), (name, int(marks)))
                    self.assertEqual({diver.name: diver.air for diver in company.crew}["Oriel"], 100)
                    self.assertIn("Tamsin Bell", [diver.name for diver in company.crew])
                    self.assertEqual({lot.wear for lot in company.hold}, {7})
                    self.assertEqual(play(saves, "--edition", edition.name, "sell", "wax plug").status, 0)
                    for path, data in before.items():  # the game has saved; what was posted is put back by its bytes
                        (saves / path).write_bytes(data)
                    save = self.opened(edition)
                    save.enter(edition.marks, "77")
                    book = self.post(save)
                    book.history.reverse(book.history.postings()[0])
                    kept = {path: data for path, data in self.tree(saves).items() if path != "slots.idx"}
                    self.assertEqual(kept, {path: data for path, data in before.items() if path != "slots.idx"})

    def test_records_come_and_go_and_the_game_counts_them(self) -> None:
        for edition in EDITIONS:
            saves = self.played(edition)
            before = edition.load(saves)
            with self.subTest(edition=edition.name):
                save = self.opened(edition)
                insert_record(save, edition.hold, 1, like=0)
                insert_record(save, edition.hold, len(before.hold) + 1)
                remove_records(save, edition.hold, [3, 4, 6])
                self.post(save)
                after = edition.load(saves)
                self.assertEqual(len(after.hold), len(before.hold) - 1)
                self.assertEqual(after.hold[:2], [before.hold[0]] * 2)
                self.assertEqual(after.hold[3], before.hold[4])
                self.assertEqual([diver.name for diver in after.crew], [diver.name for diver in before.crew])
                save = self.opened(edition)
                values = [{"item": 1, "count": number} for number in range(3)]
                save.enter_structure(edition.hold, values)
                self.post(save)
                self.assertEqual([lot.count for lot in edition.load(saves).hold], [0, 1, 2])

    def test_places_that_are_all_taken_and_a_count_beyond_them(self) -> None:
        edition = EDITIONS[1]
        saves = self.played(edition)
        save = self.opened(edition)
        for number in range(4):
            insert_record(save, "slate.crew", 4 + number, like=0)
        with self.assertRaisesRegex(EntryError, "all 8 places of slate.crew are taken; remove a record first"):
            insert_record(save, "slate.crew", 0)
        with self.assertRaisesRegex(ValueRefused, "slate.log has 12 places, and 13 records are given"):
            save.enter_structure("slate.log", [{}] * 13)
        save.tape.clear()
        self.assertEqual(len(edition.load(saves).crew), 4)
        data = bytearray(pocket.slate_bytes(edition.load(saves)))
        data[pocket.HEAD.size - 3] = 9  # divers
        data += (sum(data) & 0xFFFF).to_bytes(2, "big")
        bank = pocket.bank_bytes(9, bytes(data), edition.load(saves))
        path = saves / edition.file
        path.write_bytes(path.read_bytes()[: pocket.FIRST] + bank * 2)
        with self.assertRaisesRegex(SaveRefused, "room for 8 divers, and counts 9"):
            edition.load(saves)
        path, template = find_save(path, self.library())
        self.assertRegex(str(open_save(path, template).problem), "the count says 9 records, and there are 8 places")

    def test_damage_is_named_and_nothing_can_be_posted(self) -> None:
        rng = random.Random(11)
        for edition in EDITIONS[1:]:
            saves = self.played(edition)
            for path in sorted(saves.iterdir()):
                whole = path.read_bytes()
                damaged = [whole[:cut] for cut in (0, 3, len(whole) // 2, len(whole) - 1)]
                damaged += [rng.randbytes(len(whole))]
                for number, data in enumerate(damaged):
                    path.write_bytes(data)
                    with self.subTest(edition=edition.name, file=path.name, number=number):
                        try:
                            save = self.opened(edition)
                        except (LedgerError, AssertionError):
                            continue  # not recognised, or with a problem, as `opened` reports
                        self.assertFalse(save.in_balance)
                path.write_bytes(whole)
            self.assertTrue(self.opened(edition).in_balance)

    def test_half_of_a_pair_is_named(self) -> None:
        saves = self.played(EDITIONS[2])
        (saves / "voyage.bwy").rename(saves / "other.bwy")
        path, template = find_save(saves / "voyage.bwx", self.library())
        save = open_save(path, template)
        self.assertRegex(str(save.problem), "voyage.bwy .*; it belongs to the same save as voyage.bwx")
        with self.assertRaisesRegex(LedgerError, "voyage.bwy is not there"):
            save.enter("body.purse.marks", "1")

    def test_a_second_slot_has_its_own_pair(self) -> None:
        saves = self.played(EDITIONS[2], ["save", "2"])
        first = (saves / "voyage.bwy").read_bytes()
        path, template = find_save(saves / "voyage-2.bwx", self.library())
        save = open_save(path, template)
        self.assertEqual(save.paths["data"], saves / "voyage-2.bwy")
        save.enter("body.purse.marks", "4711")
        self.post(save)
        self.assertEqual(console.Export(saves).load(2).marks, 4711)
        self.assertEqual((saves / "voyage.bwy").read_bytes(), first)

    def test_chunks_nobody_knows_are_carried_through(self) -> None:
        edition = EDITIONS[2]
        saves = self.played(edition)
        company = edition.load(saves)
        company.kept = [(b"tide", b"\x01\x02"), (b"note", b"")]
        console.Export(saves).save(company)
        save = self.opened(edition)
        self.assertEqual(len(save.nodes("body.others")[0]), 2)  # type: ignore[arg-type]
        save.enter("body.company.name", "Tamsin Bell")
        self.post(save)
        self.assertEqual(edition.load(saves).kept, company.kept)

    def test_a_save_is_a_witness_by_its_values_alone(self) -> None:
        for edition in EDITIONS:
            self.played(edition)
            save = self.opened(edition)
            assert save.template is not None
            path = self.library().path_of(save.template.id)
            assert path is not None
            with self.subTest(edition=edition.name):
                text = with_witness(self_contained(path), save, fields_to_witness(save.template, save))
                again = open_save(save.path, parse_template(text, "witnessed"))
                self.assertTrue(tested(again).witness)
                self.assertFalse(tested(again).differs)


class SealsTest(LedgerCase):
    """The game looks at every seal, also where all those around it are right."""

    def test_inside_of_right_wrappers(self) -> None:
        company = Company("Oriel", chart=bytes(range(12)), chart_width=4)
        company.crew = [deep.Diver("Oriel")]
        slate = bytearray(pocket.slate_bytes(company)) + b"\0\0"
        bank = pocket.bank_bytes(3, bytes(slate), company)
        head = (pocket.MAGIC + bytes([pocket.VERSION])).ljust(pocket.FIRST, b"\0")
        with self.assertRaisesRegex(SaveRefused, "the slate is damaged"):
            pocket.parse(head + bank * 2)
        with self.assertRaisesRegex(SaveRefused, "bank 1 is damaged"):
            pocket.parse(head + bank + bank[:-1] + bytes([bank[-1] ^ 1]))
        descriptor, data = console.build(company)
        self.assertEqual(console.parse(descriptor, data).name, "Oriel")
        with self.assertRaisesRegex(SaveRefused, "do not belong together"):
            console.parse(descriptor, data[:-1] + bytes([data[-1] ^ 1]))
        forged = data[:28] + bytes(32) + data[60:]
        with self.assertRaisesRegex(SaveRefused, "the signature is not the publisher's"):
            console.parse(descriptor[:28] + console.zlib.crc32(forged).to_bytes(4, "big") + descriptor[32:], forged)
        broken = {**console.CHUNKS}
        with self.assertRaisesRegex(SaveRefused, "chunk purs is damaged"):
            body = console.Reader(b"", "body")
            body.data = b"".join(
                console.chunk(tag, write(company))[: -4 if tag == b"purs" else None]
                + (bytes(4) if tag == b"purs" else b"")
                for tag, (write, _) in broken.items()
            )
            console.read_body(Company(""), body)

    def test_every_flipped_byte_and_every_cut_is_refused(self) -> None:
        for edition in EDITIONS[1:3]:
            saves = self.folder / edition.name
            self.assertEqual(play(saves, "--edition", edition.name, "start", "Oriel & Søn").status, 0)
            for path in sorted(saves.iterdir()):
                whole = path.read_bytes()
                for offset in range(0, len(whole), 1 if len(whole) < 2000 else 37):
                    path.write_bytes(whole[:offset] + bytes([whole[offset] ^ 1 << offset % 8]) + whole[offset + 1 :])
                    with self.assertRaises(SaveRefused, msg=(path.name, offset)):
                        edition.load(saves)
                    path.write_bytes(whole[:offset])
                    with self.assertRaises(SaveRefused, msg=(path.name, offset)):
                        edition.load(saves)
                path.write_bytes(whole)
