"""Sources and edits: bytes to read, and bytes with spans replaced."""

from __future__ import annotations

import os
import threading
from pathlib import Path

from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_ledger.core import source as source_module
from faithful_ledger.core.edits import Cause, Patched, Replacement
from faithful_ledger.core.errors import EntryError, FileAccessError
from faithful_ledger.core.source import BlockSource, MemorySource, moment_of, open_source, read_whole, same_bytes
from tests.support import LedgerCase


@st.composite
def patches(draw: st.DrawFn) -> tuple[bytes, list[Replacement]]:
    """Old bytes and replacements that do not overlap."""
    old = draw(st.binary(max_size=60))
    edges = sorted(draw(st.lists(st.integers(0, len(old)), max_size=8)))
    spans = list(zip(edges[::2], edges[1::2], strict=False))
    found, last = [], -1
    for start, end in spans:
        if start > last:
            found.append(Replacement(start, end, draw(st.binary(max_size=9)), (Cause("entry", f"at {start}"),)))
            last = end
    return old, found


class PatchedTest(LedgerCase):
    @settings(max_examples=300)
    @given(patches(), st.integers(0, 90), st.integers(0, 90))
    def test_reads_like_the_bytes_put_together(self, patch: tuple[bytes, list[Replacement]], a: int, b: int) -> None:
        old, replacements = patch
        expected = bytearray(old)
        for item in reversed(replacements):
            expected[item.start : item.end] = item.data
        patched = Patched(MemorySource(old), replacements)
        self.assertEqual(patched.size, len(expected))
        self.assertEqual(bytes(patched.read(0, patched.size)), expected)
        self.assertEqual(bytes(patched.read(min(a, b), max(a, b))), expected[min(a, b) : max(a, b)])
        self.assertEqual(b"".join(patched.chunks(min(a, b), max(a, b))), expected[min(a, b) : max(a, b)])

    @settings(max_examples=300)
    @given(patches())
    def test_every_old_byte_that_stays_is_found_where_moved_says(self, patch: tuple[bytes, list[Replacement]]) -> None:
        old, replacements = patch
        patched = Patched(MemorySource(old), replacements)
        for offset in range(len(old)):
            if not any(item.start <= offset < item.end for item in replacements):
                at = patched.moved(offset, behind=True)
                self.assertEqual(bytes(patched.read(at, at + 1)), old[offset : offset + 1])

    def test_overlapping_replacements_are_refused_with_both_causes(self) -> None:
        with self.assertRaisesRegex(EntryError, "entry b and entry a would both change the bytes at 0x2"):
            entries = (Cause("entry", "a"),), (Cause("entry", "b"),)
            Patched(MemorySource(bytes(8)), [Replacement(0, 4, b"x", entries[0]), Replacement(2, 3, b"y", entries[1])])

    @settings(max_examples=300)
    @given(patches(), st.data())
    def test_what_is_patched_again_reads_so_and_keeps_its_causes(
        self, patch: tuple[bytes, list[Replacement]], draw: st.DataObject
    ) -> None:
        old, replacements = patch
        patched = Patched(MemorySource(old), replacements)
        now = bytearray(patched.read(0, patched.size))
        named = {cause for item in replacements for cause in item.causes}
        for turn in range(draw.draw(st.integers(1, 3))):
            wanted = []
            for piece in patched.pieces:
                if draw.draw(st.booleans()):
                    start = draw.draw(st.integers(piece.start, piece.end))
                    end = draw.draw(st.integers(start, piece.end))
                    if not wanted or start > wanted[-1].end:
                        data = draw.draw(st.binary(max_size=5))
                        wanted.append(Replacement(start, end, data, (Cause("length", f"{turn} {start}"),)))
            for item in reversed(wanted):
                now[item.start : item.end] = item.data
            patched.patch(wanted)
            named |= {cause for item in wanted for cause in item.causes}
            self.assertEqual(bytes(patched.read(0, patched.size)), now)
        self.assertLessEqual({cause for item in patched.replacements for cause in item.causes}, named)
        self.assertEqual(sum(piece.end - piece.start for piece in patched.pieces), len(now))
        self.assertEqual(sum(piece.old_end - piece.old_start for piece in patched.pieces), len(old))
        again = bytearray(old)
        for item in reversed(patched.replacements):
            again[item.start : item.end] = item.data
        self.assertEqual(again, now)


class SourceTest(LedgerCase):
    def test_a_large_file_is_read_by_blocks_and_reads_the_same(self) -> None:
        path = self.folder / "large"
        content = os.urandom(1000) * 2700
        path.write_bytes(content)
        block = BlockSource(path, os.open(path, os.O_RDONLY), moment_of(path.stat()))
        for start, end in (
            (0, 10),
            (1048570, 1048580),
            (0, len(content)),
            (2_699_990, 2_800_000),
            (5, 5),
            (2_900_000, 2_900_001),
        ):
            self.assertEqual(bytes(block.read(start, end)), content[start:end])
        self.assertEqual(b"".join(block.chunks(100, 2_600_000)), content[100:2_600_000])
        self.assertTrue(same_bytes(block, MemorySource(content)))
        self.assertFalse(same_bytes(block, MemorySource(content[:-1])))
        self.assertFalse(same_bytes(block, MemorySource(content[:-1] + bytes([content[-1] ^ 1]))))

    def test_a_large_file_that_changes_is_told_and_never_mixed(self) -> None:
        path = self.folder / "large"
        path.write_bytes(bytes(3_000_000))
        block = BlockSource(path, os.open(path, os.O_RDONLY), moment_of(path.stat()))
        block.read(0, 10)
        path.write_bytes(b"\1" * 2_999_999)
        with self.assertRaisesRegex(FileAccessError, "was changed by another program while it was read; nothing was"):
            block.read(2_600_000, 2_600_001)

    def test_a_sparse_file_of_four_gib_opens_without_being_read(self) -> None:
        path = self.folder / "sparse"
        with path.open("wb") as file:
            file.write(b"begin")
            file.truncate(4 << 30)
        opened, _ = open_source(path)
        self.assertIsInstance(opened, BlockSource)
        self.assertEqual(bytes(opened.read(0, 6)), b"begin\0")
        self.assertEqual(bytes(opened.read((4 << 30) - 2, 5 << 30)), b"\0\0")

    def test_what_cannot_be_read_is_told_in_one_sentence(self) -> None:
        os.mkfifo(self.folder / "pipe")
        loop = self.folder / "loop"
        loop.symlink_to(loop)
        for path, sentence in (
            (self.folder / "missing", "is not there; check the name"),
            (self.folder, "is a folder; nothing was read; choose the save file itself"),
            (self.folder / "pipe", "is not a plain file; nothing was read"),
            (loop, "cannot be read"),
            (Path("a\0b"), "cannot be read"),
        ):
            with self.subTest(path=path), self.assertRaisesRegex(FileAccessError, sentence):
                open_source(path)

    def test_a_file_that_is_being_written_is_not_believed(self) -> None:
        path = self.folder / "busy"
        path.write_bytes(bytes(1000))
        grown = threading.Event()
        original = source_module._read_all

        def slow(descriptor: int, size: int) -> bytes:
            data = original(descriptor, size)
            path.write_bytes(bytes(path.stat().st_size + 1))
            grown.set()
            return data

        source_module._read_all = slow
        self.addCleanup(setattr, source_module, "_read_all", original)
        with self.assertRaisesRegex(FileAccessError, "is being written by another program and does not keep still"):
            read_whole(path)
        self.assertTrue(grown.is_set())
