"""Zip and tar saves: members are edited as files of the save; everything else in the archive stays to the byte."""

from __future__ import annotations

import gzip
import io
import struct
import tarfile
import zipfile
from pathlib import Path

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.layers.archives import archive_of, members_of, unpacked
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.save import Save
from faithful_ledger.core.template import parse_template
from tests.support import LedgerCase

WORLD = b'{"marks": 1340, "sites": ["Old Wharf", "Bell Rock"]}'
TIDES = b"[pump]\nlevel = 7\nopen = yes\n"
NOISE = bytes(range(256)) * 9
TEMPLATE = """
ledger: 1
id: quill-zip
title: Quill in a zip
version: 1.0.0
game: Brinewick
recognise: [{name: "*.sav"}]
files:
  archive: {name: "*.sav", layout: [{unknown: all, size: 4}]}
  world: {inside: archive, format: json, layers: [{layer: zip, member: world.json}], layout: [{field: marks, as: number}]}
  tides:
    inside: archive
    format: keyed-lines
    layers: [{layer: zip, member: cfg/tides.cfg}]
    layout: [{field: level, as: number, at: pump.level}]
rules:
  - {equal: [world.marks, tides.level], why: in this story}
"""


class _Unseekable(io.BytesIO):
    """A file that zipfile cannot go back in, so that sizes stand behind the members."""

    def seekable(self) -> bool:
        return False

    def seek(self, *_: int) -> int:
        raise io.UnsupportedOperation

    def tell(self) -> int:
        raise io.UnsupportedOperation


def zipped(method: int = zipfile.ZIP_DEFLATED, *, streamed: bool = False) -> bytes:
    out = _Unseekable() if streamed else io.BytesIO()
    with zipfile.ZipFile(out, "w", method) as archive:
        archive.comment = b"the company's books"
        for name, data in (("world.json", WORLD), ("noise.bin", NOISE), ("cfg/tides.cfg", TIDES), ("cfg/", b"")):
            info = zipfile.ZipInfo(name, (2003, 4, 5, 6, 7, 8))
            info.compress_type, info.external_attr = method, 0o640 << 16
            info.extra, info.comment = struct.pack("<HH4s", 0xCAFE, 4, b"ours"), b"kept"
            archive.writestr(info, data)
    return out.getvalue()


def tarred(form: int = tarfile.USTAR_FORMAT) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w", format=form) as archive:
        for name, data in (("world.json", WORLD), ("noise.bin", NOISE), (f"{'cfg/' * 40}tides.cfg", TIDES)):
            info = tarfile.TarInfo(name if form != tarfile.USTAR_FORMAT else name[-89:])
            info.size, info.mtime, info.uname = len(data), 12345, "oriel"
            archive.addfile(info, io.BytesIO(data))
    return out.getvalue()


class ArchiveTest(LedgerCase):
    def opened(self, data: bytes, name: str = "books.sav") -> Save:
        (self.folder / name).write_bytes(data)
        return open_save(self.folder / name, None)

    def posted(self, save: Save) -> bytes:
        patched = make_plan(save).files[0].patched
        return bytes(patched.read(0, patched.size))

    def test_a_changed_member_is_packed_anew_and_nothing_else_moves(self) -> None:
        kinds = {
            "deflated": zipped(),
            "stored": zipped(zipfile.ZIP_STORED),
            "streamed": zipped(streamed=True),
        }
        for kind, data in kinds.items():
            for marks in ("1", "1341", "52000000000"):
                with self.subTest(kind=kind, marks=marks):
                    save = self.opened(data)
                    save.enter("marks", marks)
                    save.enter('"cfg/tides.cfg".pump.level', "12")
                    changed = self.posted(save)
                    with zipfile.ZipFile(io.BytesIO(changed)) as now, zipfile.ZipFile(io.BytesIO(data)) as old:
                        self.assertIsNone(now.testzip())
                        self.assertEqual(now.comment, old.comment)
                        self.assertEqual(now.read("world.json"), WORLD.replace(b"1340", marks.encode()))
                        self.assertEqual(now.read("cfg/tides.cfg"), TIDES.replace(b"7", b"12"))
                        for mine, theirs in zip(now.infolist(), old.infolist(), strict=True):
                            for part in ("filename", "date_time", "extra", "comment", "external_attr", "flag_bits"):
                                self.assertEqual(getattr(mine, part), getattr(theirs, part))
                    for name in ("noise.bin",):
                        (mine,), (theirs,) = ([m for m in members_of(d) if m.name == name] for d in (changed, data))
                        head = 30 + len(name) + 8
                        self.assertEqual(
                            changed[mine.start - head : mine.end], data[theirs.start - head : theirs.end], "to the byte"
                        )

    def test_tar_also_packed(self) -> None:
        for form in (tarfile.USTAR_FORMAT, tarfile.GNU_FORMAT, tarfile.PAX_FORMAT):
            data = tarred(form)
            for pack, unpack in ((lambda d: d, lambda d: d), (gzip.compress, gzip.decompress)):
                with self.subTest(form=form):
                    save = self.opened(pack(data))
                    save.enter("marks", "7")
                    tides = next(node.path for node in save.all_fields() if node.path.endswith("pump.level"))
                    save.enter(tides, "1200")
                    changed = unpack(self.posted(save))
                    with (
                        tarfile.open(fileobj=io.BytesIO(changed)) as now,
                        tarfile.open(fileobj=io.BytesIO(data)) as old,
                    ):
                        contents = [archive.extractfile(m).read() for archive in (now,) for m in archive]  # type: ignore[union-attr]
                        self.assertEqual(contents, [WORLD.replace(b"1340", b"7"), NOISE, TIDES.replace(b"7", b"1200")])
                        for mine, theirs in zip(now.getmembers(), old.getmembers(), strict=True):
                            self.assertEqual(
                                (mine.name, mine.mtime, mine.uname), (theirs.name, theirs.mtime, theirs.uname)
                            )
                    self.assertEqual(len(changed), len(data))

    def test_members_are_described_and_kept_in_agreement_by_a_template(self) -> None:
        path = self.folder / "books.sav"
        path.write_bytes(zipped())
        save = open_save(path, parse_template(TEMPLATE.encode(), "zip.yaml"))
        self.assertIsNone(save.problem)
        save.enter("world.marks", "99")
        book = self.shelf().open("Quill")
        posting = book.history.post(save, make_plan(save))
        with zipfile.ZipFile(path) as now:
            self.assertEqual(now.read("world.json"), WORLD.replace(b"1340", b"99"))
            self.assertEqual(now.read("cfg/tides.cfg"), TIDES.replace(b"7", b"99"))
        book.history.reverse(posting)
        self.assertEqual(path.read_bytes(), zipped())

    def test_a_value_of_a_member_becomes_a_field_of_a_template(self) -> None:
        for data, path in ((zipped(), '"cfg/tides.cfg".pump.level'), (gzip.compress(tarred()), "marks")):
            with self.subTest(path=path):
                save = self.opened(data)
                shelf = self.shelf()
                book = shelf.open(f"Pinned {len(data)}")
                book.keeping.remember(save.path, None)
                field = book.templates.add_value(save, shelf.library(book), save.fields(path)[0], "Seen")  # type: ignore[arg-type]
                pinned = shelf.open_save(save.path)
                self.assertEqual(pinned.fields(field)[0].value, save.fields(path)[0].value)
                pinned.enter(field, "12")
                book.history.post(pinned, make_plan(pinned))
                self.assertEqual(open_save(save.path, None).fields(path)[0].value, 12)
                shelf.close()

    def test_damaged_and_hostile_archives_are_refused_with_a_reason(self) -> None:
        def named(*names: str) -> bytes:
            out = io.BytesIO()
            with zipfile.ZipFile(out, "w") as archive:
                for number, name in enumerate(names):
                    archive.writestr(name.replace("/", "_"), f"x = {number}\n")
            data = out.getvalue()
            for name in names:
                data = data.replace(name.replace("/", "_").encode(), name.encode())
            return data

        whole = zipped()
        locked = bytearray(whole)
        for mark, at in ((b"PK\x03\x04", 6), (b"PK\x01\x02", 8)):
            locked[locked.index(mark) + at] |= 1
        bomb = io.BytesIO()
        with zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("zeros", bytes(400 << 20))
        for data, told in (
            (named("../up.cfg"), "leads out of the archive"),
            (named("/root.cfg"), "leads out of the archive"),
            (named("a.cfg", "b.cfg").replace(b"b.cfg", b"a.cfg"), "has two members"),
            (whole[:100] + whole[whole.rindex(b"PK\x05\x06") :], "directory"),
        ):
            with self.assertRaisesRegex(LedgerError, told):
                members_of(data)
        for data, told in ((bytes(locked), "is encrypted"), (bomb.getvalue(), "unpacks to 400 MiB")):
            with self.assertRaisesRegex(LedgerError, told):
                unpacked(data, members_of(data)[0])
        for end in range(0, len(whole), 7):
            for data in (whole[:end], whole[end:], whole[:end] + b"\xff" + whole[end + 1 :]):
                try:
                    for member in members_of(data) if archive_of(data) else ():
                        unpacked(data, member)
                except LedgerError:
                    pass
        strays = named("../up.cfg", "b.cfg")
        save = self.opened(strays)
        self.assertIsNone(save.outline)
        self.assertEqual(Path(self.folder / "books.sav").read_bytes(), strays)
