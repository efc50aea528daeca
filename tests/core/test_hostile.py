"""The third promise: what a stranger's template, save, text or archive asks for is bounded, and refused in one sentence."""

from __future__ import annotations

import errno
import hashlib
import io
import json
import os
import threading
import zipfile
from pathlib import Path
from unittest import mock

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from faithful_ledger.core.book import Book
from faithful_ledger.core.budget import Budget
from faithful_ledger.core.compare import compare_sources
from faithful_ledger.core.deadline import Deadline
from faithful_ledger.core.disk import Disk
from faithful_ledger.core.errors import FileAccessError, LedgerError, TemplateError, TooMuch, VaultError
from faithful_ledger.core.evidence import locate, parse_sighting
from faithful_ledger.core.formats import JsonDocument, binary, json_values
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.source import MemorySource, read_whole
from faithful_ledger.core.template import parse_template
from faithful_ledger.core.vault import archive
from tests.support import LedgerCase, template_of

HEAD = "ledger: 1\nid: t\ntitle: T\n"


def with_layout(layout: str, rest: str = "") -> bytes:
    return f"{HEAD}{rest}files: {{save: {{name: '*.sav', layout: [{layout}]}}}}\n".encode()


def doubling(depth: int) -> str:
    lines = [
        f"  r{n}: [{{rows: x, count: 2, record: r{n + 1}}}, {{rows: y, count: 2, record: r{n + 1}}}]"
        for n in range(depth)
    ]
    return "records:\n" + "\n".join([*lines, f"  r{depth}: [{{field: q, as: u8}}]"]) + "\n"


TEMPLATES = (
    (with_layout("{rows: r, count: 2, each: {as: [1]}}"), "“as” is a list of 1; it must be a text"),
    (
        with_layout("{rows: r, count: 2, each: {as: u8, nmaes: {0: a}}}"),
        "“nmaes” is not a key here; did you mean “names”?",
    ),
    (with_layout("{rows: r, count: 2, each: {as: u8, bounds: 5}}"), "“bounds” is 5; it must be a mapping"),
    (with_layout("{rows: r, count: 2, each: {as: u8, seal: x}}"), "“seal” is not a key here"),
    (with_layout("{rows: a, record: r0, count: 1}", doubling(25)), "more than 20000 elements"),
    (with_layout("{field: a, as: u8, at: 0x" + "F" * 6000 + "}"), "longer than 200 characters"),
    (with_layout("{field: a, as: u8, plus: 0x" + "F" * 6000 + "}"), "“plus” is the text “0xFFFF"),
    (with_layout("{field: a, as: u8, bounds: {least: 1e999}}"), "“least” is the text “1e999”; it must be a number"),
    (
        with_layout("{field: a, as: u8, switches: {1000000000: x, 5: y}}"),
        "1000000000 is outside the bits of u8 (0 to 7)",
    ),
    (with_layout("{field: a, as: u8, switches: {-1: x}}"), "-1 is outside the bits of u8"),
    (with_layout("{field: a, as: u8, names: {256: x}}"), "256 is outside the values of u8 (0 to 255)"),
    (with_layout("{field: a, as: u8, scale: 0}"), "“0” is not a scale"),
    (with_layout("{field: a, as: u8, scale: 1/0}"), "“1/0” is not a scale"),
    (
        with_layout("{rows: a, count: 3, layout: [{field: b, as: u8}]}", "rules: [{equal: ['a[*].b', 'a[0].b']}]\n"),
        "“a[*].b” is many fields; a rule is about single ones",
    ),
    (with_layout("{group: a, layout: []}", "rules: [{equal: [a, a]}]\n"), "“a” is not a field with a value"),
    (
        with_layout("{field: a, as: u8}").replace(b"title: T", b"title: !!bool foo"),
        "tags (tag:yaml.org,2002:bool) are not allowed",
    ),
    (
        with_layout("{field: a, as: u8}").replace(b"title: T", b"title: !!set {a}"),
        "tags (tag:yaml.org,2002:set) are not allowed",
    ),
    (b"? {? [a]: {? {z: 1}: 2}}\n: 1\n" + with_layout(""), "a key is a word or a number, not something with parts"),
    (with_layout(", ".join(f"{{feild: a{n}}}" for n in range(1900))), "has 1900 mistakes: "),
    (with_layout("[" * 100 + "]" * 100), "nested deeper than 60 levels"),
    (b"a: [" + b"x, " * 150_000 + b"x]", "more than 100000 parts"),
    (with_layout("{field: a, as: text, size: 8, encoding: zlib}"), "“zlib” is neither a text encoding of Python"),
)

LAYOUTS = (
    "- {rows: a, count: 4000000, layout: [{field: b, as: u8, when: 0}]}",
    "- {rows: a, count: 1000, layout: [{rows: b, count: 1000, layout: [{rows: c, count: 1000, layout: [{field: d, as: u8, when: 0}]}]}]}",
    "- {rows: a, count: 1 << 62, layout: []}",
    "- {rows: a, count: 100000, layout: [{field: z, as: u8, when: 0}, {field: b, as: u8, at: 0}, {field: c, as: u8, at: 0}]}",
)


class TemplateTest(LedgerCase):
    def test_what_a_template_may_not_ask_for(self) -> None:
        for text, words in TEMPLATES:
            with self.subTest(words), self.assertRaises(TemplateError) as caught:
                parse_template(text, "t.yaml")
            self.assertIn(words, str(caught.exception))
            self.assertLess(len(str(caught.exception)), 4000)

    def test_layouts_that_are_more_work_than_a_file_is_worth(self) -> None:
        for layout in LAYOUTS:
            with self.subTest(layout):
                save = self.open_bytes(b"x", template_of(layout))
                self.assertRegex(str(save.problem), "more work than 1 bytes are worth|bytes are left")

    def test_the_budget_grows_with_the_size_and_ends_when_a_file_is_bound(self) -> None:
        small, large = Budget(1000), Budget(50 << 20)
        self.assertGreater(large.left, 40 * small.left)
        with self.assertRaises(TooMuch):
            small.spend(int(small.left) + 1)
        small.lift()
        small.spend(1 << 60)
        save = self.open_bytes(bytes(1000), template_of("- {rows: a, count: 1000, layout: [{field: b, as: u8}]}"))
        for _ in range(2000):
            self.assertEqual(save.fields("a[7].b")[0].value, 0)

    def test_bytes_an_element_is_found_by_are_looked_for_once(self) -> None:
        layout = '- {rows: a, count: 3000, layout: [{field: z, as: u8}, {field: b, as: u8, behind: "DE AD BE EF"}]}'
        with mock.patch.object(binary, "offsets_of", wraps=binary.offsets_of) as looked:
            save = self.open_bytes(bytes(4000) + b"\xde\xad\xbe\xef\7", template_of(layout))
        self.assertIsNone(save.problem)
        self.assertEqual(looked.call_count, 1)

    VALUES = st.recursive(
        st.one_of(
            st.none(), st.booleans(), st.integers(), st.floats(), st.text(max_size=8), st.sampled_from(["u8", "*", "a"])
        ),
        lambda inner: st.one_of(st.lists(inner, max_size=3), st.dictionaries(st.text(max_size=6), inner, max_size=3)),
        max_leaves=6,
    )
    KEYS = st.sampled_from(
        [
            "as",
            "at",
            "size",
            "length",
            "count",
            "until",
            "key",
            "record",
            "each",
            "names",
            "switches",
            "when",
            "plus",
            "bounds",
            "seal",
            "scale",
            "pad",
        ]
    )

    @settings(max_examples=300, deadline=None, suppress_health_check=list(HealthCheck))
    @given(
        st.dictionaries(KEYS, VALUES, max_size=4),
        st.sampled_from(["field", "unknown", "constant", "group", "rows"]),
        VALUES,
    )
    def test_any_keys_of_an_element_are_a_template_or_a_list_of_mistakes(
        self, keys: dict[str, object], kind: str, other: object
    ) -> None:
        """A template that is right but for one element, so that every part of the reader is reached."""
        document = {
            "ledger": 1,
            "id": "t",
            "title": "T",
            "files": {"save": {"name": "*.bin", "layout": [{"field": "a", "as": "u8"}, {kind: "b", **keys}]}},
            "rules": [{"equal": ["a", "a"]}],
            "sections": [{"title": "S", "fields": ["a"]}],
        }
        try:
            template = parse_template(json.dumps(document).encode("utf-8", "surrogatepass"), "t.yaml")
        except TemplateError as error:
            self.assertTrue(error.mistakes)
            return
        path = self.folder / "any.bin"
        path.write_bytes(b"\1\2A\0\3" * 40)
        save = open_save(path, template)
        self.assertIsNotNone(save.findings)
        if save.problem is None:
            save.enter("a", "7", anyway=True)
            save.renew_broken = True
            try:
                make_plan(save)
            except LedgerError as error:
                self.assertTrue(error.remedy, str(error))


class FileTest(LedgerCase):
    def test_a_file_that_grows_all_the_time_is_said_to(self) -> None:
        path = self.folder / "log.sav"
        path.write_bytes(bytes(1000))
        stop = threading.Event()

        def grow() -> None:
            with path.open("ab", buffering=0) as file:
                while not stop.is_set():
                    file.write(bytes(64))

        thread = threading.Thread(target=grow)
        thread.start()
        try:
            for _ in range(20):
                try:
                    read_whole(path)
                except FileAccessError as error:
                    self.assertIn("does not keep still", str(error))
        finally:
            stop.set()
            thread.join(20)

    def test_a_file_system_without_owners_and_modes_is_written(self) -> None:
        path = self.folder / "a.bin"
        path.write_bytes(bytes(4))
        path.chmod(0o640)
        if os.geteuid() == 0:
            os.chown(path, 1234, 1235)
        for code in (errno.EPERM, errno.ENOTSUP, errno.ENOSYS):
            refuse = mock.Mock(side_effect=OSError(code, os.strerror(code)))
            calls = ("fchmod", "fchown", "listxattr")
            patches = [mock.patch(f"faithful_ledger.core.disk.os.{call}", refuse) for call in calls]
            for patch in patches:
                patch.start()
            try:
                save = open_save(path, template_of("- {field: a, as: u32}"))
                save.enter("a", str(code))
                book = Book(self.folder / f"book-{code}")
                book.history.post(save, make_plan(save))
                book.close()
            finally:
                for patch in patches:
                    patch.stop()
            self.assertEqual(path.read_bytes()[0], code)
        self.assertTrue(refuse.called)
        with (
            mock.patch("faithful_ledger.core.disk.os.fchmod", side_effect=OSError(errno.EIO, "no")),
            self.assertRaises(OSError),
        ):
            descriptor = os.open(path, os.O_WRONLY)
            try:
                Disk().copy_attributes(descriptor, path.stat(), path)
            finally:
                os.close(descriptor)

    def test_large_files_are_compared_in_pieces(self) -> None:
        with (
            mock.patch("faithful_ledger.core.compare.large.WHOLE", 4 << 20),
            mock.patch("faithful_ledger.core.compare.large.CHUNK", 1 << 16),
        ):
            base = bytearray(os.urandom(1 << 16) * 128)
            base[69_999] = base[70_000] = 0  # the inserted text fits in one place only
            other = bytearray(base)
            other[100], other[5_000_000:5_000_004] = other[100] ^ 1, bytes(x ^ 255 for x in other[5_000_000:5_000_004])
            for a, b, expected in (
                (base, base, []),
                (base, other, [(100, 101, 100, 101), (5_000_000, 5_000_004, 5_000_000, 5_000_004)]),
                (base, base + b"tail", [(len(base), len(base), len(base), len(base) + 4)]),
                (base, base[:70_000] + b"new" + base[70_000:], [(70_000, 70_000, 70_000, 70_003)]),
            ):
                equal, found = compare_sources(MemorySource(a), MemorySource(b))
                self.assertEqual([difference[1:] for difference in found], expected)
                gone = sum(d.a1 - d.a0 for d in found if d.kind != "inserted")
                self.assertEqual(equal, len(a) - gone)

    def test_a_search_ends_when_its_time_is_up(self) -> None:
        data = [os.urandom(300_000) for _ in range(3)]
        located = locate(
            [MemorySource(part) for part in data],
            [parse_sighting(t) for t in ("more", "more", "less")],
            end=Deadline(0),
        )
        self.assertIn("The time of 0 s was up before everything was tried.", located.suggestion)

    def test_texts_of_any_shape(self) -> None:
        for text in (
            b'"' + b"\\n" * 200_000 + b'"',
            b"[" + b"1," * 100_000 + b"1]",
            b'{"a":' * 150 + b"1" + b"}" * 150,
        ):
            document = JsonDocument(MemorySource(text))
            document.check()
            self.assertEqual((document.whole.end, json_values(text).ends[0]), (len(text), len(text)))
        for text in (
            b"[" * 5000,
            b'{"a":' * 5000,
            b'"' + b"a" * 100_000,
            b"[" + b"1," * 5000,
            b"9" * 400 + b"e" + b"9" * 400 + b"x",
        ):
            with self.assertRaises(LedgerError):
                JsonDocument(MemorySource(text)).check()


class ArchiveTest(LedgerCase):
    def packed(self, about: object, files: list[tuple[str, bytes]]) -> Path:
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
            made.writestr("snapshot.json", json.dumps(about))
            for name, data in files:
                made.writestr(name, data)
        path = self.folder / "in.zip"
        path.write_bytes(out.getvalue())
        return path

    def test_an_archive_is_checked_and_bounded(self) -> None:
        data = b"save"
        good = {"name": "a.sav", "role": "save", "sha256": hashlib.sha256(data).hexdigest(), "mode": 0o644}
        book = Book(self.folder / "book")
        self.addCleanup(book.close)
        for about, files, words in (
            ({"files": [good | {"name": "../a.sav"}]}, [("files/../a.sav", data)], "leads elsewhere"),
            ({"files": [good | {"name": "/etc/passwd"}]}, [("files//etc/passwd", data)], "leads elsewhere"),
            ({"files": [good, good]}, [("files/a.sav", data)], "names one file twice"),
            (
                {"files": [good, good | {"name": "A.SAV"}]},
                [("files/a.sav", data), ("files/A.SAV", data)],
                "names one file twice",
            ),
            ({"files": [good | {"mode": "x"}]}, [("files/a.sav", data)], "not an exported snapshot"),
            ({"files": [good | {"name": 5}]}, [("files/a.sav", data)], "not an exported snapshot"),
            ({"files": [good]}, [("files/a.sav", b"other")], "is damaged"),
            ({"files": []}, [], "contains no file"),
            ({"files": 5}, [], "not an exported snapshot"),
            ([1], [], "not an exported snapshot"),
        ):
            with self.subTest(words=words, about=str(about)[:60]), self.assertRaises(VaultError) as caught:
                book.keeping.take_in(self.packed(about, files), self.folder / "a.sav")
            self.assertIn(words, str(caught.exception))
            self.assertIn("nothing was kept", str(caught.exception))
            self.assertEqual(book.keeping.snapshots(), [])
        with mock.patch.object(archive, "LARGEST_FILE", 1000), self.assertRaisesRegex(VaultError, "larger than"):
            book.keeping.take_in(self.packed({"files": [good]}, [("files/a.sav", bytes(2000))]), self.folder / "a.sav")
        path = self.packed({"files": [good]}, [("files/a.sav", bytes(3 << 20))])
        raw = bytearray(path.read_bytes())
        at = raw.rindex(b"files/a.sav") - 46 + 24  # the size the directory says, in bytes
        raw[at : at + 4] = (10).to_bytes(4, "little")
        path.write_bytes(raw)
        with self.assertRaisesRegex(VaultError, "nothing was kept"):
            book.keeping.take_in(path, self.folder / "a.sav")
        kept = book.keeping.take_in(
            self.packed({"files": [good], "label": "x" * 9000, "companions": ["../y", "idx"]}, [("files/a.sav", data)]),
            self.folder / "a.sav",
        )
        self.assertEqual((len(kept.label), kept.companions), (400, ("idx",)))
