"""Layers: packed streams and scrambling are undone, edited inside, and put back; pinned there, and accepted."""

from __future__ import annotations

import base64
import bz2
import gzip
import io
import json
import lzma
import random
import re
import struct
import subprocess
import sys
import zlib
from collections.abc import Callable
from functools import partial
from itertools import product
from pathlib import Path
from urllib.parse import quote, quote_plus

import brotli
import lz4.block
import lz4.frame
import zstandard
from hypothesis import given, settings
from hypothesis import strategies as st

from brinewick.deep import Depot
from faithful_ledger.core.book import Book
from faithful_ledger.core.edits import Patched, Replacement
from faithful_ledger.core.errors import (
    AddressError,
    EntryError,
    LedgerError,
    StreamGrows,
    TemplateError,
    ValueRefused,
)
from faithful_ledger.core.evidence import locate, parse_sighting
from faithful_ledger.core.inside import layer_of_whole, payloads_inside
from faithful_ledger.core.layers import KEYED, SCRAMBLINGS, LayerSpec
from faithful_ledger.core.layers import STREAMS as KINDS
from faithful_ledger.core.layers.deflate import _raw_tail
from faithful_ledger.core.layers.generators import Generator
from faithful_ledger.core.layers.lz_string import LOOKED_AT
from faithful_ledger.core.layers.scrambling import GENERATED, Scrambling, scramble, unscramble
from faithful_ledger.core.layers.stream import Allowance, Layer
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.profile import find_layers
from faithful_ledger.core.profile.layers import stream_at
from faithful_ledger.core.save import Save
from faithful_ledger.core.sharing.reader import reader_for
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.template import Library, parse_template
from faithful_ledger.core.wrapping import COUNTED, UNCOUNTED, Unwrapped, unwrap
from tests.support import LedgerCase, dice, play

ANYWHERE = COUNTED  # a length that the template describes covers the stream
NOWHERE = UNCOUNTED
CONTENT = b"".join(b"%d lots of lamp oil, kept for Tamsin; " % number for number in range(90)) + bytes(300)
WRITTEN = io.BytesIO()
with gzip.GzipFile("harbour.dat", "wb", fileobj=WRITTEN, mtime=1_700_000_000) as _file:
    _file.write(CONTENT)

# CONTENT as it was packed by liblzo2, in its quickest and its hardest way, and by a Snappy library.
LZO = base64.b85decode(
    "02nYJY;SaPAa7<MY+-G1Aa7}GEFf!TaC9JMZ*m}1VQq71ZaW|`AZ%}RK9K-"
    "2AOn#AGav(z05l*2kpMLy1CanWAOn#AHy{I%05~86kpMX$1CanRAO*<<F(3pi0U!j?1u-B5)devi1la{KAOzh7F(3rt1u-"
    "B5<pnVy1nC7aAO!6NG9U!)1u`H6?FBL*1nmVfAO!6NG9U!)1u`H6?FBL*1nmVfAO!6NG9U!)1u`H6?FBO+1nmVgAO!6NGav-"
    "*1v4N7?FBO+1nmVgAO!6NGav-*1v4N7?FBO+1nmVgAO!6NG#~`+1vDT8?FBR-1nmVhAO!6NG#~`+1vDT8?FBR-"
    "1nmVhAO!6NG#~`+1vDT8?FBU;1nmViAO!6NH6R4-1vMZ9?FBU;1nmViAO!6NH6R4-"
    "1vMZ9?FBU;1nmViAO!6NHXsD;1vVfA?FBX<1nmVjAO!6NHXsD;1vVfA?FBX<1nmVjAO!6NHXsD;1vVfA?FBa=1nmVkAO!6NHy{M<1velB?"
    "FBa=1nmVkAO!6NHy{M<1velB?FBa=1nmVkAO!6NI3NV=1vnrC?FBd>1nmVlAO!6NI3NV=1vnrC?FBd>1nmVlAO!6NI3NV=1vnrC?F9fJ`v"
    "3q80000000000000000000H000"
)
LZO_HARD = base64.b85decode(
    "H!vV<Z*+4YZ)PBDVQp|AZ)t2SAZulCbRcGLav)S;ZF6aEJ0LM21CanSAOn#AGav(z05l*2kpMLy1CanWAOn#AHy{I%05~86kpMX$1TY041"
    ";_;;1kD98AOz6`F(3rh1u-B5*#$8m1l<KOAOztBF(3rx1u-"
    "B5=>;($1nmVfAO!6NG9U%K3m^pT1u`H6?FBL*1nmVfAO!6NG9U!)1u`H6?FBL*1nmVfAO!6NGav-*1v4N7?FBO+1+Wny1nmVgAO!6NGav-"
    "*1v4N7?FBO+1nmVgAO!6NGav-*1vDT8?FBR-1nmVhAO!6NG#~|}7a#=f1vDT8?FBR-1nmVhAO!6NG#~`+1vDT8?FBU;1nmViAO!6NH6R4-"
    "1vMZ9?FBU;1(+Qm1nmViAO!6NH6R4-"
    "1vMZ9?FBU;1nmVjAO!6NHXsD;1vVfA?FBX<1nmVjAO!6NHXsFzBOnCr1vVfA?FBX<1nmVjAO!6NHy{M<1velB?FBa=1nmVkAO!6NHy{M<1"
    "velB?FBa=1%N3a1nmVkAO!6NHy{M<1vnrC?FBd>1nmVlAO!6NI3NV=1vnrC?FBd>1nmVlAO!6NI3NXdFCYZ%1vnrC?F9fJ01E&B5dZ)"
)
SNAPPY = base64.b85decode(
    "{v4PvAZ%}Rb0BYKAZ%f6a3F7KY%CyaWpH#LW^ZyJRAFs%X>L0pF(8U1001(MN&o;ejwJv9G>#<z05y&!001_QB>(_7jwJv9IF2O%06C5&0"
    "01$Ta{-"
    "cc0RS<QbpZe|l6C<AF_L!y05Oty0RS<Qc>w@1l6nCEF_L=$05Ot$0RS?Rd;tJ5l6(OGGLn1&05Xz%0RS?Rd;tJ5l6(OGGLn1&05Xz%0RS?"
    "Rd;tJ5l6(OGGm?A(05g(&0RS_Sd;tJ6l6(OGGm?A(05g(&0RS_Sd;tJ6l6(OGGm?A(05g(&0RS|Td;tJ7l6(OGG?IJ)05p<(0RS|Td;tJ7"
    "l6(OGG?IJ)05p<(0RS|Td;tJ7l6(OGHIjS*05y_)0RT0Ud;tJ8l6(OGHIjS*05y_)0RT0Ud;tJ8l6(OGHIjS*05y_)0RT3Vd;tJ9l6(OGH"
    "j;b+05+0*0RT3Vd;tJ9l6(OGHj;b+05+0*0RT3Vd;tJ9l6(OGH<Ek-05_6+0RT6Wd;tJAl6(OGH<Ek-05_6+0RT6Wd;tJAl6(OGH<Ek-"
    "05_6+0RT9Xd;tJBl6(OGIFft;063C-0RT9Xd;tJBl6(OGIFft;063C-0RT9Xd;tJBl6(OG0R900{s92~0Ra910IC51"
)

# (kind, a stream, how many of its first bytes say how it was packed and must stay)
STREAMS = (
    ("zlib", zlib.compress(CONTENT, 9), 2),
    ("zlib", zlib.compress(CONTENT, 1), 2),
    ("gzip", WRITTEN.getvalue(), 22),
    ("bzip2", bz2.compress(CONTENT, 3), 4),
    ("xz", lzma.compress(CONTENT, check=lzma.CHECK_SHA256), 8),
    ("zstd", zstandard.ZstdCompressor(write_checksum=True).compress(CONTENT), 5),
    ("zstd", zstandard.ZstdCompressor(write_content_size=False).compress(CONTENT), 5),
    ("lz4", lz4.frame.compress(CONTENT, content_checksum=True, store_size=False), 6),
    ("deflate", zlib.compress(CONTENT)[2:-4], 0),
    ("lzo", LZO, 0),
    ("lzo", LZO_HARD, 0),
    ("snappy", SNAPPY, 0),
    ("brotli", brotli.compress(CONTENT), 0),
    ("base64", base64.b64encode(CONTENT), 0),
)
DEEP = """\
ledger: 1
id: deep
title: The deep edition, described
recognise: [{name: "*.bwd"}]
files:
  save:
    name: "*.bwd"
    layout:
      - {constant: magic, bytes: 42 57 44 1B}
      - {field: version, as: u8}
      - {field: plays, as: u32}
      - {field: sum, as: u32, seal: {algorithm: adler-32, over: blocks}}
      - {field: first_at, as: u32, offset_of: blocks.first_length}
      - {field: second_at, as: u32, offset_of: blocks.second_length}
      - group: blocks
        layout:
          - {field: first_length, as: uleb128, length_of: first}
          - {unknown: first, size: first_length}
          - {field: second_length, as: uleb128, length_of: second}
          - {unknown: second, size: second_length}
  company:
    inside: save.blocks.first
    layers: [zstd]
    layout:
      - {field: name, as: text, length: u8}
      - {field: year, as: uleb128}
      - {field: month, as: uleb128}
      - {field: day, as: uleb128}
      - {field: clock, as: uleb128}
      - {field: seed, as: uleb128}
      - {field: marks, as: uleb128}
"""


def changed(data: bytes, at: int, new: bytes, end: int | None = None) -> Patched:
    return Patched(MemorySource(data), [Replacement(at, at if end is None else end, new, "entry")])


class StreamContract(LedgerCase):
    """What every kind of stream keeps, on samples of several packers."""

    def test_edited_inside_and_put_back(self) -> None:
        for kind, stream, head in STREAMS:
            with self.subTest(kind=kind, size=len(stream)):
                before, behind = b"\x01\x02 HEAD <", b"> \x00tail"
                outer = MemorySource(before + stream + behind)
                steps = unwrap(bytes(outer.read(0, outer.size)), (kind,))
                self.assertEqual(steps[0].data, CONTENT)
                way = Unwrapped(steps)
                self.assertEqual(
                    way.wrap(Patched(way.source, []), "x", ANYWHERE), [], "nothing changed, nothing packed again"
                )
                for new in (changed(CONTENT, 40, b"Tamsin Bell"), changed(CONTENT, 40, b"", 61)):
                    (part,) = way.wrap(new, "layer", ANYWHERE)
                    self.assertEqual((part.start, part.end), (len(before), len(before) + len(stream)))
                    self.assertEqual(part.data[:head], stream[:head], "what the stream says about itself stays")
                    again = Patched(outer, [part])
                    data = bytes(again.read(0, again.size))
                    self.assertTrue(data.startswith(before) and data.endswith(behind))
                    self.assertEqual(unwrap(data, (kind,))[0].data, bytes(new.read(0, new.size)))

    def test_a_stream_that_is_cut_off_is_no_stream(self) -> None:
        for kind, stream, _ in STREAMS[:-1]:
            for size in (0, 3, len(stream) // 2, len(stream) - 1):
                with self.subTest(kind=kind, size=size), self.assertRaisesRegex(AddressError, f"no {kind} stream was"):
                    unwrap(b"HEAD" + stream[:size], (kind,))

    def test_of_joined_streams_only_the_changed_one_is_packed_again(self) -> None:
        parts = [CONTENT[at : at + 500] for at in range(0, 2000, 500)]
        data = b"\x05".join(zlib.compress(part) for part in parts)
        (step,) = unwrap(data, ("zlib",))
        way = Unwrapped([step])
        for at, which in ((0, 0), (499, 0), (500, 1), (1700, 3), (2000, 3)):
            with self.subTest(at=at):
                new = changed(CONTENT[:2000], at, b"more")
                (part,) = way.wrap(new, "layer", ANYWHERE)
                begins = sum(len(zlib.compress(piece)) + 1 for piece in parts[:which])
                self.assertEqual((part.start, part.end), (begins, begins + len(zlib.compress(parts[which]))))
                again = Patched(MemorySource(data), [part])
                data_again = bytes(again.read(0, again.size))
                self.assertEqual(unwrap(data_again, ("zlib",))[0].data, bytes(new.read(0, new.size)))
        both = changed(CONTENT[:2000], 480, b"over the border", 520)
        self.assertEqual(len(way.wrap(both, "layer", ANYWHERE)), 2)

    @given(st.binary(min_size=1, max_size=400), st.binary(min_size=1, max_size=9), st.sampled_from(SCRAMBLINGS))
    def test_scrambling_is_undone_and_done_again(self, data: bytes, key: bytes, kind: str) -> None:
        key = Generator(69_069, 1, first=9).key if kind == GENERATED else key
        found = Scrambling(kind, key if kind in KEYED else b"", 0.5)
        self.assertEqual(scramble(unscramble(data, found), found), data)
        self.assertEqual(unscramble(scramble(data, found), found), data)

    def test_fitted_into_the_bytes_it_had(self) -> None:
        """Contents that pack a little better than the old one: padded to the old size, as every reader skips it."""
        for kind, stream, head in STREAMS:
            if kind == "base64":
                continue
            fitted = missed = 0
            for gone in range(0, 300, 12):
                content = CONTENT[: 400 + gone] + b"l" * gone + CONTENT[400 + 2 * gone :]
                packed = KINDS[kind].pack_into(content, stream)
                if packed is None:
                    missed += len(KINDS[kind].pack(content, stream)) <= len(stream) - 16
                    continue
                fitted += 1
                self.assertEqual(len(packed), len(stream))
                self.assertEqual(packed[:head], stream[:head])
                self.assertEqual(KINDS[kind].unpack(packed, Layer(kind, 0, len(packed), len(content))), content)
                found = [layer for layer in find_layers(b"\1\2" + packed + b"\3tail") if layer.kind == kind]
                self.assertEqual([(layer.offset, layer.unpacked_size) for layer in found], [(2, len(content))])
            with self.subTest(kind):
                self.assertGreater(fitted, -1 if kind in ("bzip2", "zlib") else 0)
                if kind not in ("bzip2", "xz"):  # these can only be padded by chance, or by four bytes
                    self.assertEqual(missed, 0, "16 bytes of room are enough")

    def test_empty_blocks_of_deflate_have_any_size_but_a_few(self) -> None:
        begun = zlib.compressobj(wbits=-15)
        head = begun.compress(b"Tamsin") + begun.flush(zlib.Z_SYNC_FLUSH)
        sizes = [size for size in range(1, 120) if (tail := _raw_tail(size)) is not None and len(tail) == size]
        self.assertEqual(sorted(set(range(1, 120)) - set(sizes)), [1, 3, 4, 6])
        for size in sizes:
            reader = zlib.decompressobj(-15)
            self.assertEqual(reader.decompress(head + (_raw_tail(size) or b"") + b"rest"), b"Tamsin")
            self.assertEqual((reader.eof, reader.unused_data), (True, b"rest"), size)

    def test_what_unpacks_to_more_than_a_file_is_worth_is_left_alone(self) -> None:
        many = zlib.compress(bytes(40 << 20), 9) * 9
        found = find_layers(many)
        self.assertEqual(len(found), 1, "the second one would pass 64 MiB")
        self.assertEqual(len(payloads_inside(many)), 1)
        for data in (many, zlib.compress(bytes(80 << 20), 9)):
            path = self.folder / "bomb.sav"
            path.write_bytes(data)
            text = DEEP[: DEEP.index("    layout:")].replace("bwd", "sav")
            text += "    layout: []\n  inner: {inside: save, layers: [zlib], layout: [{field: a, as: u8}]}\n"
            save = open_save(path, parse_template(text.encode(), "a.yaml"))
            self.assertEqual(save.problem is None, data is many)

    def test_a_frame_of_lz4_that_ends_with_the_file_is_found(self) -> None:
        frame = lz4.frame.compress(CONTENT)
        self.assertEqual([layer[:3] for layer in find_layers(frame)], [("lz4", 0, len(frame))])
        self.assertEqual([layer[:3] for layer in find_layers(b"xx" + frame)], [("lz4", 2, len(frame))])

    @settings(max_examples=40)
    @given(st.integers(0, 900), st.integers(0, 60), st.binary(max_size=30), st.sampled_from(["xor", "add"]))
    def test_layers_in_layers_give_back_any_edit(self, at: int, removed: int, new: bytes, kind: str) -> None:
        packed = b"BWK0" + (bytes(5) + bytes(range(1, 60))) * 99 + bytes(9000) + zlib.compress(CONTENT) + bytes(4000)
        hidden = scramble(packed, Scrambling(kind, b"\x51\x07\xee", 0.5))  # type: ignore[arg-type]
        layers = (LayerSpec(kind, b"\x51\x07\xee"), LayerSpec("zlib"))
        way = Unwrapped(unwrap(hidden, layers))
        inner = changed(CONTENT, at, new, at + removed)
        try:
            parts = way.wrap(inner, "layer", ANYWHERE)
        except EntryError as error:  # 4000 bytes are behind the stream, and no template describes a scrambled payload
            self.assertRegex(str(error), "would take .* bytes in place of .*; nothing was written")
            return
        outer = Patched(MemorySource(hidden), parts)
        found = unwrap(bytes(outer.read(0, outer.size)), layers)[-1].data
        self.assertEqual(found, bytes(inner.read(0, inner.size)))


# Made by a coder of its own, bit by bit.
LZ_STRINGS = (
    ('{"marks":1340,"name":"Oriel & Sons"}', "N4IgtghgTg1gziAXARgMwBYAMAaEA7CMAUyRAHkoBLIgGwAIAyOgZQHs8EBfIA=="),
    ("anananananananan", "IYO17SKA"),
    ("Türme, ☺ 中中中", "CoH4TgtgpgNABILjI6Fo5VQ="),
)
WIDE_STRINGS = (  # the same in letters of fifteen bits
    (
        '{"marks":1340,"name":"Oriel & Sons"}',
        "\u1be1\u084d\u412c\u0500\u6b26\u38a0\u2e22\u182c\u602b,\xf0\u405b\u0480\u0552\u2220\u7948\u0279\u0826\u6021R\u1d23\u1427\u5a00\u407f\u1020 ",
    ),
    ("anananananananan", "\u10e1\u6d9b\u2470 "),
    ("Türme, ☺ 中中中", "\u0560\u7e33\u418c\u0a80\u1a20\u122b\u4667\u2188\u72ca  "),
)
AS_ADDRESSES = base64.urlsafe_b64encode


class LetteredTest(LedgerCase):
    """Bytes that are written as letters keep the way in which they were written."""

    def test_what_another_coder_wrote_is_read_and_written_alike(self) -> None:
        for text, letters in LZ_STRINGS:
            packed = letters.encode()
            self.assertEqual(KINDS["lz-string"].unpack(packed, stream(packed, "lz-string")).decode(), text)
            self.assertEqual(KINDS["lz-string"].pack(text.encode(), packed), packed)
            cut = stream_at(packed.rstrip(b"=")[:-2], 0, "lz-string")
            self.assertIsNone(cut, "its end is missing")

    def test_the_same_in_wide_letters(self) -> None:
        for text, letters in WIDE_STRINGS:
            packed = letters.encode()
            self.assertEqual(KINDS["lz-string"].unpack(packed, stream(packed, "lz-string")).decode(), text)
            self.assertEqual(KINDS["lz-string"].pack(text.encode(), packed), packed)
            self.assertIsNone(stream_at(letters.rstrip(" ")[:-2].encode(), 0, "lz-string"), "its end is missing")

    @given(st.text(st.characters(exclude_categories=["Cs"]), min_size=1, max_size=200), st.integers(1, 9))
    def test_any_text(self, text: str, times: int) -> None:
        for old in ("====", WIDE_STRINGS[0][1]):
            packed = KINDS["lz-string"].pack((text * times).encode(), old.encode())
            if old.isascii() or len(packed) > 2 * LOOKED_AT:  # a short text may have letters of either kind
                self.assertEqual(
                    KINDS["lz-string"].unpack(packed, stream(packed, "lz-string")), (text * times).encode()
                )

    def test_base64_in_every_spelling(self) -> None:
        turn = dice()
        spellings: tuple[Callable[[bytes], bytes], ...] = (
            base64.b64encode,
            AS_ADDRESSES,
            lambda data: AS_ADDRESSES(data).rstrip(b"="),
            lambda data: base64.b64encode(data).rstrip(b"="),
            lambda data: quote(base64.b64encode(data).decode(), safe="").encode(),
        )
        for number in range(200):
            spell = spellings[number % len(spellings)]
            old, new = (turn.randbytes(turn.randrange(60, 90) // 3 * 3 + 1) for _ in range(2))
            letters = spell(old)
            if not {*b"+/"} & {*base64.b64encode(old)} or not {*b"+/"} & {*base64.b64encode(new)}:
                continue  # one alphabet is as good as the other
            whole = b'{"slot": 1, "data": "' + letters + b'", "end": true}'
            (found,) = (layer for layer in find_layers(whole) if layer.kind == "base64")
            with self.subTest(letters=letters):
                self.assertEqual(whole[found.offset :][: found.size], letters)
                self.assertEqual(KINDS["base64"].unpack(whole, found), old)
                self.assertEqual(KINDS["base64"].pack(new, letters), spell(new))

    def test_base64_in_lines(self) -> None:
        """As others write it, with the same bytes in front of each line; a value of another length is broken alike."""
        turn = dice()
        for line, between, behind in product(
            (64, 68, 76), (b"\n", b"\r\n", b"\n\t"), (b"", b"\n</data>", b"</data>", b'"')
        ):
            old, new = (turn.randbytes(turn.randrange(60, 900)) for _ in range(2))

            def spell(data: bytes, line: int = line, between: bytes = between) -> bytes:
                letters = base64.b64encode(data)
                return between.join(letters[at : at + line] for at in range(0, len(letters), line))

            letters = spell(old)
            whole = b"<data>" + letters + behind
            with self.subTest(letters=letters, behind=behind):
                (found,) = find_layers(whole)
                self.assertEqual((found.kind, found.offset, found.size), ("base64", 6, len(letters)))
                self.assertEqual(KINDS["base64"].unpack(whole, found), old)
                self.assertEqual(KINDS["base64"].pack(new, letters), spell(new))

    def test_texts_with_escapes_of_addresses(self) -> None:
        spellings: tuple[Callable[[str], str], ...] = (
            quote,
            partial(quote, safe=""),
            partial(quote, safe="!~*'()"),
            quote_plus,
            lambda text: re.sub("%..", lambda escape: escape[0].lower(), quote(text, safe="")),
        )
        turn = dice()
        for spell in spellings:
            old, new = (
                json.dumps({"name": f"Søn & {turn.choice('abc')} (a/b)+c!", "marks": turn.randrange(10**9)})
                for _ in range(2)
            )
            letters = spell(old).encode()
            whole = b"save = '" + letters + b"'\n"
            (found,) = find_layers(whole)
            with self.subTest(letters=letters):
                self.assertEqual((found.kind, whole[found.offset :][: found.size]), ("percent", letters))
                self.assertEqual(KINDS["percent"].unpack(whole, found).decode(), old)
                self.assertEqual(KINDS["percent"].pack(new.encode(), letters), spell(new).encode())

    def test_bytes_listed_as_numbers(self) -> None:
        turn = dice()
        old, new = (zlib.compress(turn.randbytes(size)) for size in (300, 340))
        ways: tuple[Callable[[bytes], str], ...] = (
            lambda data: json.dumps(list(data)),
            lambda data: json.dumps(list(data), separators=(",", ":")),
            lambda data: json.dumps(list(data), indent=2),
            lambda data: json.dumps([byte - 256 if byte > 127 else byte for byte in data]),
            lambda data: "{" + "; ".join(map(str, data)) + "}",
            lambda data: f"{len(data) + 1000}\n=" + " ".join(map(str, data)),
        )
        for spell in ways:
            whole, wanted = spell(old).encode(), spell(new).encode()
            with self.subTest(whole=whole[:20]):
                (found,) = find_layers(whole)
                self.assertEqual((found.kind, found.unpacked_size), ("number-list", len(old)))
                self.assertEqual(KINDS["number-list"].unpack(whole, found), old)
                letters = whole[found.offset :][: found.size]
                packed = KINDS["number-list"].pack(new, letters)
                begin, end = whole[: found.offset], whole[found.offset + found.size :]
                self.assertEqual((begin + packed + end).replace(b"1%d" % len(old), b"1%d" % len(new)), wanted)
                self.assertEqual(KINDS["number-list"].pack(old, letters), letters)
                self.assertEqual(KINDS["number-list"].pack(old[:1], letters), b"%d" % old[0])
        large = zlib.compress(turn.randbytes(1_000_000))  # more text than is looked at for lists
        whole = json.dumps({"data": list(large), "slot": 3}).encode()
        (found,) = find_layers(whole)
        self.assertEqual((found.kind, found.offset, found.unpacked_size), ("number-list", 10, len(large)))
        self.assertEqual(whole[found.offset + found.size :], b'], "slot": 3}')
        for wrong in (b"12", b"12,", b"a1,2", b"300,2", b"-129,5", b"-4,200", b"01,2", b""):
            self.assertIsNone(stream_at(wrong, 0, "number-list") if wrong else None, wrong)
        self.assertEqual(stream_at(b"1,2,3.5", 0, "number-list"), Layer("number-list", 0, 3, 2))

    def test_lists_of_values_are_not_bytes_of_something(self) -> None:
        turn = dice()
        heights = [turn.randrange(256)]
        for _ in range(2000):
            heights.append(min(max(heights[-1] + turn.randrange(-9, 10), 0), 255))
        for name, values in {
            "ages": [turn.randrange(60, 100) for _ in range(400)],
            "letters of a name": list(b"ABCDEFGHIJKLMNOPQRSTUVWXYZ" * 5),
            "tiles": [turn.randrange(12) for _ in range(2000)],
            "heights": heights,
            "rolled": [turn.randrange(1, 101) for _ in range(500)],
            "mostly zero": [turn.choice((0, 0, 0, 255)) for _ in range(500)],
            "larger ones": [turn.randrange(300) for _ in range(500)],
            "few": list(zlib.compress(b"Oriel"))[:63],
        }.items():
            with self.subTest(name):
                self.assertEqual(find_layers(json.dumps({name: values}).encode()), [])

    def test_what_only_begins_like_letters_costs_what_it_holds(self) -> None:
        """Such runs are looked at again from each place where one may begin: the allowance for all of them counts."""
        allowance = Allowance(1 << 20)
        self.assertIsNone(KINDS["percent"].read(b"%5B" * 100, 3, allowance))
        self.assertEqual(allowance.left, (1 << 20) - 297)
        for kind in ("lzo", "snappy"):  # a few bytes announce millions
            allowance = Allowance(1000)
            self.assertIsNone(KINDS[kind].read(b"\xff\xff\xff\x07" * (kind == "snappy") + bytes(1 << 18), 0, allowance))
            self.assertGreater(allowance.left, -100, kind)
        line = base64.b64encode(bytes(range(57)))
        for last in (b"AB", b"ABC=D", b"=", line[:-1]):
            found = stream_at(b"\n".join([line] * 4 + [last]), 0, "base64")
            self.assertEqual(found, Layer("base64", 0, 4 * 77 - 1, 4 * 57), "what comes behind full lines is not of it")
        for raw in (b"\xe0\x80\x80" * 40, b"\xed\xa0\x80" * 40, b"\xf0\x9f\x98\x80" * 40, "中".encode() * 40):
            self.assertIsNone(stream_at(raw, 0, "lz-string"))

    def test_letters_that_only_look_like_it_are_nothing(self) -> None:
        turn = dice()
        for _ in range(300):
            letters = base64.b64encode(turn.randbytes(60))
            self.assertIsNone(stream_at(letters, 0, "lz-string"))
        for text in (b"the-quick_diver-of-Brinewick_harbour-2", b"6F9619FF-8B86-D011-B42D-00CF4FC964FF" * 2):
            self.assertEqual(find_layers(b"name = " + text + b"\n"), [])


class EnclosedTest(LedgerCase):
    """A text with a checksum beside it is reached as what is inside, and may grow."""

    TEXTS = (b'{"marks": 12, "purse": {"a": [1, "}"]}}', b"[1, 2, [3]]", b'<save a=">"><m>5</m><!-- </save> --></save>')

    def test_it_ends_where_its_brackets_or_tags_do(self) -> None:
        turn = dice()
        for text in self.TEXTS:
            for _ in range(40):
                head, tail = turn.randbytes(turn.randrange(9)), turn.randbytes(turn.randrange(1, 9))
                whole = head + text + b"\0" + tail
                if turn.random() < 0.2:  # a checksum may end with any byte, the text's own bracket too
                    tail = tail[:-1] + text[-1:]
                    head, whole = b"", text + b"\0" + tail
                with self.subTest(whole=whole):
                    (step,) = unwrap(whole, ["enclosed"])
                    self.assertEqual(step.data, text)
                    grown = step.wrap(changed(text, 1, b" " * 9), (), ANYWHERE)
                    self.assertEqual(
                        bytes(Patched(MemorySource(whole), grown).read(0, len(whole) + 9)),
                        head + text[:1] + b" " * 9 + text[1:] + b"\0" + tail,
                    )

    def test_only_what_may_hold_a_checksum_makes_it_one(self) -> None:
        text = self.TEXTS[0]
        for whole, kind in (
            (text, None),
            (b"\xef\xbb\xbf" + text + b"\n", None),
            (b"save = " + text + b";\n", None),
            (text + b"\n" + text, None),
            (b"d41d8cd98f00b204e9800998ecf8427e" + text, "enclosed"),
            (text + b"#3735928559", "enclosed"),
            (struct.pack("<I", len(text)) + text, "enclosed"),
            (b"", None),
            (random.randbytes(400), None),
        ):
            with self.subTest(whole=whole[:60]):
                self.assertEqual(layer_of_whole(whole), kind)

    def test_a_length_in_front_that_nobody_described_is_not_left_stale(self) -> None:
        text = self.TEXTS[0]
        (step,) = unwrap(struct.pack("<I", len(text)) + text, ["enclosed"])
        with self.assertRaisesRegex(StreamGrows, "u32le at 0x0 .0. looks like its length"):
            step.wrap(changed(text, 1, b" "), (), NOWHERE)
        for order, numbers in product("<>", ((4, len(text)), (len(text), 4), (4, 4 + len(text)))):
            entry = b"name" + struct.pack(f"{order}II", *numbers)
            (step,) = unwrap(b"HEAD" + text + entry + bytes(9), ["enclosed"])
            with (
                self.subTest(numbers=numbers),
                self.assertRaisesRegex(StreamGrows, "look like its entry in a directory"),
            ):
                step.wrap(changed(text, 1, b" "), (), NOWHERE)
        with self.assertRaisesRegex(AddressError, "no text is between other bytes"):
            unwrap(b"neither", ["enclosed"])


def stream(packed: bytes, kind: str) -> Layer:
    found = stream_at(packed, 0, kind)
    assert found is not None and found.size == len(packed)
    return found


class DescribedTest(LedgerCase):
    def test_the_deep_edition_is_edited_inside_its_blocks_and_the_game_accepts(self) -> None:
        folder = self.folder / "deep"
        self.assertEqual(play(folder, "--edition", "deep", "start", "Oriel & Sons").status, 0)
        path, template = Depot(folder).path, parse_template(DEEP.encode(), "deep.yaml")
        book = Book(self.folder / "book")
        self.addCleanup(book.close)
        for name, marks in (("Oriel, Ives and kin", "7"), ("O", "60000"), ("Oriel & Sons", "1250")):
            save = open_save(path, template)
            self.assertTrue(save.in_balance, save.findings)
            save.enter("company.name", name)
            save.enter("company.marks", marks)
            plan = make_plan(save)
            self.assertTrue(plan.in_balance)
            self.assertEqual([finding.message for finding in plan.findings if finding.level == "warning"][1:], [])
            causes = {change.cause for change in plan.changes if change.file == "save"}
            self.assertTrue({"layer around company", "seal sum"} <= causes, causes)
            second = bytes(save.fields("blocks.second")[0].raw)
            posting = book.history.post(save, plan)
            company = Depot(folder).load()
            self.assertEqual((company.name, str(company.marks)), (name, marks))
            self.assertIn(second, path.read_bytes(), "the block nobody changed has its old bytes")
            self.assertEqual(posting.record["files"], [str(path)])
            self.assertIn("company.bwd → company", {change["file"] for change in posting.record["changes"]})
        before = book.keeping.snapshot(posting.kept)
        book.history.reverse(posting)
        self.assertEqual(bytes(book.keeping.kept_source(before.files[0]).read(0, 1 << 20)), path.read_bytes())

    def test_opening_and_posting_nothing_changes_no_byte(self) -> None:
        folder = self.folder / "deep"
        play(folder, "--edition", "deep", "start", "Oriel & Sons")
        save = open_save(Depot(folder).path, parse_template(DEEP.encode(), "deep.yaml"))
        for file in make_plan(save).files:
            self.assertEqual(file.changes, [])
            self.assertEqual(bytes(file.patched.read(0, 1 << 20)), bytes(file.file.source.read(0, 1 << 20)))

    def test_what_is_damaged_or_does_not_fit_is_said(self) -> None:
        folder = self.folder / "deep"
        play(folder, "--edition", "deep", "start", "Oriel & Sons")
        whole = Depot(folder).path.read_bytes()
        template = parse_template(DEEP.encode(), "deep.yaml")
        damaged = self.folder / "damaged.bwd"
        damaged.write_bytes(whole.replace(b"\x28\xb5\x2f\xfd", b"\x28\xb5\x2f\xfe", 1))
        save = open_save(damaged, template)
        self.assertRegex(str(save.problem), r"damaged.bwd: company at 0x0 .0.: no zstd stream was found")
        with self.assertRaises(EntryError):
            make_plan(save)
        for cut in range(0, len(whole), 41):
            damaged.write_bytes(whole[:cut])
            self.assertIsNotNone(open_save(damaged, template).problem)

    def within(self, before: bytes, packed: bytes, behind: bytes, layout: str = "[]") -> Save:
        """A save with a packed stream of zlib in it, of which the template describes what is given."""
        path = self.folder / "a.sav"
        path.write_bytes(before + packed + behind)
        text = DEEP[: DEEP.index("    layout:")].replace("bwd", "sav")
        text += (
            f"    layout: {layout}\n  inner: {{inside: save, layers: [zlib], layout: [{{unknown: all, size: 3000}}]}}\n"
        )
        return open_save(path, parse_template(text.encode(), "a.yaml"))

    def with_noise(self, save: Save, size: int) -> Save:
        """An entry of bytes that cannot be packed."""
        raw = bytearray(save.fields("inner.all")[0].raw)
        raw[100 : 100 + size] = random.Random(size).randbytes(size)
        save.enter("inner.all", raw.hex(" "))
        return save

    def test_a_stream_that_would_grow_within_a_file_is_refused_unless_somebody_counts_it(self) -> None:
        packed = zlib.compress(CONTENT, 9)
        size = struct.pack("<I", len(packed))
        why = "no length that the template describes says where the 4 bytes behind it begin"
        number = "the u32le at 0x4 (4) looks like its length, which the template does not describe"
        for before, behind, layout, words in (
            (b"HEAD" + size, b"tail", "[]", why),
            (b"HEAD" + size, b"", "[]", number),
            (b"HEAD\0\0\0\0", b"", "[]", ""),
            (b"", b"", "[]", ""),
            (
                b"HEAD" + size,
                b"tail",
                "[{unknown: head, size: 4}, {field: n, as: u32, length_of: body}, {unknown: body, size: n}]",
                "",
            ),
        ):
            with self.subTest(words=words, layout=layout):
                save = self.with_noise(self.within(before, packed, behind, layout), 600)
                if words:
                    with self.assertRaises(EntryError) as caught:
                        make_plan(save)
                    self.assertIn(words, str(caught.exception))
                    self.assertIn("nothing was written", str(caught.exception))
                    continue
                plan = make_plan(save)
                self.assertTrue(plan.in_balance)
                warned = [finding.message for finding in plan.findings]
                self.assertEqual(bool(warned), before == b"HEAD\0\0\0\0", warned)

    def test_a_stream_whose_content_changes_keeps_its_place_and_size(self) -> None:
        packer = zlib.compressobj(strategy=zlib.Z_HUFFMAN_ONLY)
        packed = packer.compress(CONTENT) + packer.flush()
        save = self.with_noise(self.within(b"HEAD" + struct.pack("<I", len(packed)), packed, b"tail"), 20)
        (plan,) = make_plan(save).written
        self.assertEqual(plan.patched.size, save.main.source.size)
        self.assertEqual(bytes(plan.patched.read(plan.patched.size - 4, plan.patched.size)), b"tail")

    def test_a_stream_at_an_address_and_a_layer_that_is_left_off(self) -> None:
        text = """ledger: 1
id: at
title: At
files:
  save:
    name: "*.sav"
    layout:
      - {field: at, as: u16}
      - {field: size, as: u16, length_of: packed}
      - {unknown: gap, size: at - 4}
      - {unknown: packed, size: size}
      - {unknown: rest, size: 20}
  inner: {inside: save, layers: [{layer: KIND, at: at}], layout: [{field: gold, as: u32}, {unknown: x, size: 96}]}
"""
        content = struct.pack("<I", 1340) + bytes(range(96))
        other = zlib.compress(b"another stream of the same kind" * 3)
        self.assertEqual(stream_at(b"..AAEC/w==..", 2, "base64"), Layer("base64", 2, 8, 4))
        self.assertIsNone(stream_at(b"..AAEC/w==..", 1, "base64"))
        for kind, packed in (("zlib", zlib.compress(content)), ("deflate", zlib.compress(content)[2:-4])):
            with self.subTest(kind=kind):
                path = self.folder / f"{kind}.sav"
                head = struct.pack("<HH", 4 + len(other), len(packed))
                path.write_bytes(head + other + packed + bytes(20))
                save = open_save(path, parse_template(text.replace("KIND", kind).encode(), "a.yaml"))
                self.assertEqual(save.fields("inner.gold")[0].value, 1340, save.problem)
                save.enter("inner.gold", "70000")
                (plan,) = make_plan(save).written
                new = bytes(plan.patched.read(0, 9999))
                self.assertEqual(new[4 : 4 + len(other)], other)
                stream = new[4 + len(other) : -20]
                back = zlib.decompress(stream) if kind == "zlib" else zlib.decompress(stream, -15)
                self.assertEqual(back, struct.pack("<I", 70000) + bytes(range(96)))
                self.assertEqual(int.from_bytes(new[2:4], "little"), len(stream))
        text = """ledger: 1
id: off
title: Off
files:
  save: {name: "*.sav", layout: []}
  inner: {inside: save, layers: [{layer: gzip, put_back: false}], layout: [{field: gold, as: u32}, {unknown: x, size: 96}]}
"""
        template = parse_template(text.encode(), "o.yaml")
        path = self.folder / "off.sav"
        path.write_bytes(gzip.compress(content))
        for value in (77, 78):  # the second time the save is without its layer already
            save = open_save(path, template)
            save.enter("inner.gold", str(value))
            (plan,) = make_plan(save).written
            expected = struct.pack("<I", value) + bytes(range(96))
            self.assertEqual(bytes(plan.patched.read(0, 9999)), expected)
            path.write_bytes(expected)

    def test_a_scrambling_whose_key_is_said_depends_on_no_guess(self) -> None:
        key = b"\x5a\x13\x99"
        dense = random.Random(7).randbytes(180)  # nothing in it shows a key
        text = """ledger: 1
id: hidden
title: Hidden
files:
  save:
    name: "*.sav"
    layout: [{unknown: key, size: 3}, {unknown: body, size: 184}]
  inner:
    inside: save.body
    layers: LAYERS
    layout: [{field: gold, as: u32}]
"""
        path = self.folder / "a.sav"
        for kind in ("xor", "add"):
            hidden = scramble(struct.pack("<I", 1340) + dense, Scrambling(kind, key, 0))  # type: ignore[arg-type]
            path.write_bytes(key + hidden)
            for layers in (f'[{{layer: {kind}, key: "5A 13 99"}}]', f"[{{layer: {kind}, key_of: key}}]"):
                with self.subTest(layers):
                    save = open_save(path, parse_template(text.replace("LAYERS", layers).encode(), "h.yaml"))
                    self.assertEqual(save.fields("inner.gold")[0].value, 1340)
                    save.enter("inner.gold", "77")
                    (plan,) = make_plan(save).written
                    new = bytes(plan.patched.read(3, 999))
                    self.assertEqual(unscramble(new, Scrambling(kind, key, 0)), struct.pack("<I", 77) + dense)  # type: ignore[arg-type]
        for layers, words in (
            ("[xor]", "the key of xor is not given: write {layer: xor, key: …}, or key_of a field"),
            ("[{layer: swap-bytes-2, at: 4}]", "swap-bytes-2 covers the whole payload, so it has no at"),
            ("[{layer: zlib, at: size}]", "“size” leads to no field of the file around"),
            (
                "[{layer: zlib, key: '00'}]",
                "zlib has no key; only add, add-position, rotate, xor, xor-generator, xor-position, ",
            ),
            ("[{layer: rotate, key: '0102'}]", "the key of rotate is one byte, not 2"),
            ("[{layer: xor-generator, key: '0102'}]", "a generator's key has 18 or 19 bytes, not 2"),
            ("[{layer: xor, key: '00', key_of: key}]", "a layer has one of key and key_of"),
            ("[{layer: xor, key_of: keys}]", "“keys” leads to no field of the file around"),
            ("[{layer: xoor}]", "“xoor” is not a layer; did you mean “xor”?"),
        ):
            with self.subTest(layers), self.assertRaises(TemplateError) as caught:
                parse_template(text.replace("LAYERS", layers).encode(), "h.yaml")
            self.assertIn(words, str(caught.exception))

    def test_json_in_a_text_is_edited_and_the_rest_keeps_its_spelling(self) -> None:
        inner = '{ "tide" :  7.50, "list": [ 1,2 ], "who": "S\\u00f8n" }'
        outer = '{"a" : 1,\n "clock": ' + json.dumps(inner) + ', "z": [ ] }'
        path = self.folder / "world.json"
        path.write_text(outer, "utf-8")
        text = """ledger: 1
id: world
title: World
files:
  save: {name: "*.json", format: json, layout: [{field: clock, as: text}]}
  clock_inside: {inside: save.clock, format: json, layout: [{field: tide, as: number}, {field: who, as: text}]}
"""
        save = open_save(path, parse_template(text.encode(), "world.yaml"))
        save.enter("clock_inside.tide", "12.25")
        (plan,) = make_plan(save).written
        self.assertEqual(bytes(plan.patched.read(0, 999)).decode(), outer.replace("7.50", "12.25"))
        save.tape.clear()
        save.enter("clock_inside.who", "Ives “the Elder”")
        (plan,) = make_plan(save).written
        self.assertEqual(json.loads(json.loads(bytes(plan.patched.read(0, 999)))["clock"])["who"], "Ives “the Elder”")
        save.enter("clock", "{}")
        with self.assertRaisesRegex(EntryError, "would both change the bytes"):
            make_plan(save)

    def test_a_text_of_fixed_size_refuses_what_grew(self) -> None:
        path = self.folder / "a.bin"
        path.write_bytes(b'{"n": 5}' + bytes(2))
        text = """ledger: 1
id: a
title: A
files:
  save: {name: "*.bin", layout: [{field: notes, as: text, size: 10}]}
  notes_inside: {inside: save.notes, format: json, layout: [{field: n, as: number}]}
"""
        save = open_save(path, parse_template(text.encode(), "a.yaml"))
        save.enter("notes_inside.n", "500")
        (plan,) = make_plan(save).written
        self.assertEqual(bytes(plan.patched.read(0, 10)), b'{"n": 500}')
        save.enter("notes_inside.n", "5000")
        with self.assertRaises(ValueRefused):
            make_plan(save)

    def test_what_one_chunk_holds_is_reached_by_its_tag(self) -> None:
        text = """ledger: 1
id: tagged
title: Tagged
files:
  save:
    name: "*.bin"
    layout:
      - rows: chunks
        layout:
          - {field: tag, as: text, size: 4}
          - {field: size, as: u32, length_of: body}
          - {field: whole, as: u32, seal: {algorithm: length, over: body, unpacked: [zlib]}, when: tag == "HOLD"}
          - {unknown: body, size: size}
          - {field: sum, as: u32, seal: {algorithm: crc-32, over: [tag, body]}}
  company: {inside: "save.chunks[tag=HOLD].body", layers: [zlib], format: json, layout: [{field: marks, as: number}]}
"""

        def chunk(tag: bytes, body: bytes, more: bytes = b"") -> bytes:
            made = tag + struct.pack("<I", len(body)) + more + body
            return made + struct.pack("<I", zlib.crc32(made))

        def save_of(marks: int) -> bytes:
            plain = json.dumps({"name": "Tamsin", "marks": marks}).encode()
            packed = zlib.compress(plain)
            held = chunk(b"HOLD", packed, struct.pack("<I", len(plain)))
            return chunk(b"HEAD", b"one") + chunk(b"MAPS", bytes(range(40))) + held + chunk(b"TAIL", b"")

        path = self.folder / "a.bin"
        path.write_bytes(save_of(1250))
        template = parse_template(text.encode(), "tagged.yaml")
        save = open_save(path, template)
        self.assertTrue(save.in_balance, list(save.findings))
        save.enter("company.marks", "7012345")
        (plan,) = make_plan(save).written
        self.assertEqual(bytes(plan.patched.read(0, 999)), save_of(7_012_345))
        reader = self.folder / "reader.py"
        reader.write_text(reader_for(template), "utf-8")
        said = subprocess.run([sys.executable, str(reader), str(path)], capture_output=True, text=True, check=True)
        self.assertEqual(json.loads(said.stdout)["company"], {"marks": 1250})
        path.write_bytes(save_of(1)[:60])
        self.assertIsNotNone(open_save(path, template).problem)
        path.write_bytes(chunk(b"HEAD", b"one"))
        problem = open_save(path, template).problem
        self.assertIsNotNone(problem)
        self.assertIn("HOLD", str(problem))

    def test_mistakes_about_payloads_are_told(self) -> None:
        for keys, words in (
            ("inside: sav, layers: [zlib]", "“sav” is not a file here; did you mean “save”?"),
            ("inside: save", "it is inside a whole file, so say through which layers"),
            ("inside: save, layers: [zip]", "say which member: {layer: zip, member: …}"),
            ("inside: save, layers: [gzp]", "“gzp” is not a layer; did you mean “gzip”?"),
            ("inside: save.version, layers: [zlib]", "“version” is neither a text nor unknown bytes"),
            ("inside: save.nothing, layers: [zlib]", "“nothing” leads to no field"),
            ('inside: "save.version[*].body", layers: [zlib]', "“version[*].body” leads to no field"),
            ('inside: "save.version[", layers: [zlib]', "“version[” leads to no field"),
            ("inside: inner, layers: [zlib]", "“inner” is not a file here"),
            ("name: a, inside: save, layers: [zlib]", "a file has one of name and inside"),
            ("layers: [zlib]", "a file has one of name and inside"),
        ):
            text = DEEP[: DEEP.index("  company:")] + "  inner: {" + keys + ", layout: []}\n"
            with self.subTest(keys=keys), self.assertRaises(LedgerError) as caught:
                parse_template(text.encode(), "x.yaml")
            self.assertIn(words, str(caught.exception))


class PinnedInsideTest(LedgerCase):
    """What was located inside layers goes into the template, and is posted from there."""

    def setUp(self) -> None:
        super().setUp()
        self.place = self.folder / "place"

    def pinned(self, name: str, saves: list[bytes], seen: list[str], quantity: str = "Marks") -> tuple[Path, str]:
        path = self.place / name
        path.parent.mkdir(exist_ok=True)
        path.write_bytes(saves[-1])
        found = locate([MemorySource(data) for data in saves], [parse_sighting(text) for text in seen])
        book = Book(self.place / "book")
        self.addCleanup(book.close)
        library = Library((book.folder / "templates",), None)
        present = sorted((book.folder / "templates").glob("*.yaml"))
        template = library.get(present[0].stem) if present else None
        field = book.templates.add_place(open_save(path, template), library, found.places[0], quantity)
        return path, field

    def reopened(self, path: Path) -> tuple[Path, object]:
        (text,) = (self.place / "book" / "templates").glob("*.yaml")
        return text, open_save(path, parse_template(text.read_bytes(), text.name))

    def test_through_layers_joined_chunks_and_texts(self) -> None:
        values = ["1410", "1520", "1333"]
        plain = [bytes(90) + struct.pack("<I", int(value)) + bytes(range(90)) for value in values]
        chunks = [[data[:80] + bytes(40), data[80:] + bytes(30)] for data in plain]
        document = [json.dumps({"w": json.dumps({"purse": {"marks": int(value)}})}) for value in values]
        for number, (name, saves, route, where) in enumerate(
            (
                ("a.sav", [b"HEAD" + zlib.compress(data) for data in plain], ["zlib"], "unpacked.marks"),
                (
                    "b.sav",
                    [b"".join(b"\x07" + gzip.compress(part) for part in parts) for parts in chunks],
                    ["gzip"],
                    "unpacked.marks",
                ),
                (
                    "c.sav",
                    [base64.b64encode(zlib.compress(data)) for data in plain],
                    ["base64", "zlib"],
                    "unpacked.marks",
                ),
                ("d.json", [text.encode() for text in document], [], "w_inside.marks"),
                ("e.sav", [zlib.compress(text.encode()) for text in document], ["zlib"], "w_inside.marks"),
            )
        ):
            with self.subTest(name=name):
                self.place = self.folder / str(number)
                path, field = self.pinned(name, saves, values)
                self.assertEqual(field, where)
                _, save = self.reopened(path)
                self.assertEqual(
                    save.template.files[field.split(".")[0]].route, tuple(route) if "w_" not in field else ()
                )  # type: ignore[attr-defined]
                (node,) = save.fields(field)  # type: ignore[attr-defined]
                self.assertEqual(node.value, 1333)
                save.enter(field, "7001")  # type: ignore[attr-defined]
                book = Book(self.place / "book")
                book.history.post(save, make_plan(save))  # type: ignore[arg-type]
                book.close()
                _, again = self.reopened(path)
                self.assertEqual(again.fields(field)[0].value, 7001)  # type: ignore[attr-defined]

    def test_a_second_place_goes_into_the_same_payload(self) -> None:
        saves = [
            zlib.compress(bytes(90) + struct.pack("<IHH", a, b, 0) + bytes(60)) for a, b in ((900, 311), (805, 777))
        ]
        path, first = self.pinned("a.sav", saves, ["900", "805"])
        _, second = self.pinned("a.sav", saves, ["311", "777"], "Debt")
        self.assertEqual((first, second), ("unpacked.marks", "unpacked.debt"))
        text, save = self.reopened(path)
        self.assertEqual(list(save.files), ["save", "unpacked"])  # type: ignore[attr-defined]
        self.assertIn("unpacked.debt", text.read_text())


class CipherTest(LedgerCase):
    """Ciphers with a key in the template, in a field, in a file of its own, or derived."""

    TEMPLATE = """ledger: 1
id: hidden
title: Hidden
files:
  save: {name: "*.sav", layout: [{unknown: all, size: SIZE}]}
  KEYFILE
  body: {inside: save, layers: [LAYER], layout: [{field: marks, as: u32}, {field: name, as: text, length: u8}]}
"""
    BODY = struct.pack("<I", 1386) + b"\x05Oriel" + bytes(range(22))

    def hidden(self, layer: str, data: bytes, key_file: str = "") -> Save:
        path = self.folder / "one.sav"
        path.write_bytes(data)
        text = self.TEMPLATE.replace("LAYER", layer).replace("SIZE", str(len(data))).replace("KEYFILE", key_file)
        return open_save(path, parse_template(text.encode(), "hidden"))

    def edited(self, save: Save, entries: dict[str, str]) -> bytes:
        """The file after a posting, which reads back as it was meant."""
        self.assertIsNone(save.problem)
        for path, text in entries.items():
            save.enter(path, text)
        plan = make_plan(save)
        self.assertEqual([finding for finding in plan.findings if finding.level == "error"], [])
        patched = plan.files[0].patched
        return bytes(patched.read(0, patched.size))

    def test_every_mode_is_undone_and_put_back(self) -> None:
        from cryptography.hazmat.primitives.ciphers import Cipher as Engine
        from cryptography.hazmat.primitives.ciphers import algorithms, modes
        from cryptography.hazmat.primitives.ciphers.aead import AESGCM

        key, iv = bytes(range(16)), bytes(range(100, 116))
        spelled, started = key.hex(" "), iv.hex(" ")
        body = self.BODY

        def run(mode: object, content: bytes, algorithm: object = None) -> bytes:
            engine = Engine(algorithm or algorithms.AES(key), mode).encryptor()  # type: ignore[arg-type]
            return engine.update(content) + engine.finalize()

        padded = body + bytes([16 - len(body) % 16]) * (16 - len(body) % 16)
        long = key * 2
        chacha = algorithms.ChaCha20(long, iv)
        for layer, data, grown in (
            (f'{{layer: aes-ecb, key: "{spelled}"}}', run(modes.ECB(), padded), None),
            (f'{{layer: aes-cbc, key: "{spelled}", iv: first}}', iv + run(modes.CBC(iv), padded), None),
            (f'{{layer: aes-cbc, key: "{spelled}", iv: "{started}"}}', run(modes.CBC(iv), padded), None),
            (f'{{layer: aes-ctr, key: "{spelled}", iv: "{started}"}}', run(modes.CTR(iv), body), None),
            (f'{{layer: aes-ctr, key: "{spelled}", at: 4}}', b"HEAD" + iv + run(modes.CTR(iv), body), b"HEAD"),
            (f'{{layer: aes-gcm, key: "{spelled}"}}', iv[:12] + AESGCM(key).encrypt(iv[:12], body, None), None),
            (f'{{layer: chacha20, key: "{long.hex()}", iv: "{started}"}}', run(None, body, chacha), None),
        ):
            with self.subTest(layer=layer):
                save = self.hidden(layer, data)
                self.assertEqual(save.text(save.fields("body.name")[0]), "Oriel")
                written = self.edited(save, {"body.marks": "5200"})
                self.assertEqual(len(written), len(data))
                if "first" in layer:
                    self.assertEqual(written[:16], iv)
                again = self.hidden(layer, written)
                self.assertEqual(
                    [again.text(again.fields(f"body.{n}")[0]) for n in ("marks", "name")], ["5200", "Oriel"]
                )
                if grown is not None:
                    self.assertTrue(written.startswith(grown))
        swapped = (
            b"".join(body[at : at + 4][::-1] for at in range(0, len(body) // 4 * 4, 4)) + body[len(body) // 4 * 4 :]
        )
        save = self.hidden("swap-bytes-4", swapped)
        written = self.edited(save, {"body.marks": "5200"})
        self.assertEqual(written, struct.pack(">I", 5200) + swapped[4:])

    def test_keys_from_a_file_and_derived_ones(self) -> None:
        import hashlib

        from cryptography.hazmat.primitives.ciphers import Cipher as Engine
        from cryptography.hazmat.primitives.ciphers import algorithms, modes

        secret = b"the quay at noon"
        (self.folder / "game.key").write_bytes(secret)
        key_file = "secret: {name: game.key, layout: [{unknown: key, size: 16}]}"
        made = hashlib.pbkdf2_hmac("sha256", secret, b"bwk", 500, 32)
        for layer, key in (
            ("{layer: aes-ctr, key_of: secret.key, iv: first}", secret),
            ('{layer: aes-ctr, key_of: secret.key, derive: {by: pbkdf2, salt: "62 77 6B", rounds: 500}}', made),
        ):
            engine = Engine(algorithms.AES(key), modes.CTR(bytes(16))).encryptor()
            data = bytes(16) + engine.update(self.BODY)
            with self.subTest(layer=layer):
                save = self.hidden(layer, data, key_file)
                self.assertEqual(save.text(save.fields("body.marks")[0]), "1386")
                (self.folder / "game.key").unlink()
                missing = self.hidden(layer, data, key_file)
                self.assertIn("game.key", str(missing.problem))
                (self.folder / "game.key").write_bytes(secret)

    def test_another_key_a_damaged_payload_and_absurd_demands(self) -> None:
        key = bytes(16).hex()
        for layer, data, words in (
            (f'{{layer: aes-ecb, key: "{key}"}}', bytes(32), "PKCS #7"),
            (f'{{layer: aes-cbc, key: "{key}"}}', bytes(37), "not a multiple of the block size (16)"),
            (f'{{layer: aes-gcm, key: "{key}"}}', bytes(60), "the tag does not match"),
            (f'{{layer: aes-gcm, key: "{key}"}}', bytes(9), "too short"),
        ):
            with self.subTest(words=words):
                save = self.hidden(layer, data)
                self.assertIn(words, str(save.problem))
        for layer, words in (
            ('{layer: aes-cbc, key: "00"}', "has 16 or 24 or 32 bytes, not 1"),
            (f'{{layer: aes-cbc, key: "{key}", iv: "00 01"}}', "has 16 bytes, not 2"),
            ("{layer: aes-cbc}", "the key of aes-cbc is not given"),
            (f'{{layer: zlib, key: "{key}"}}', "zlib has no key"),
            (f'{{layer: aes-ctr, key: "{key}", derive: {{by: pbkdf2, rounds: 99999999}}}}', "rounds"),
            (f'{{layer: aes-ctr, key: "{key}", derive: {{by: scrypt, cost: 1000}}}}', "power of two"),
            ("{layer: aes-ctr, key_of: nothing.here}", "leads to no field"),
        ):
            with self.subTest(words=words), self.assertRaises(TemplateError) as caught:
                self.hidden(layer, bytes(32))
            self.assertIn(words, str(caught.exception))


class Lz4BlockTest(LedgerCase):
    """Blocks without a frame, behind a header that says to how many bytes they unpack."""

    TEMPLATE = """\
ledger: 1
id: block
title: Block
files:
  save:
    name: "*.sav"
    layout:
      - {constant: magic, text: SAVE}
      - {field: unpacked, as: u32LENGTH}
      - {unknown: packed}
  body:
    inside: save.packed
    layers: [lz4-block]
    layout: [{field: marks, as: u32}, {field: name, as: text, length: u8}, {unknown: rest}]
"""

    def saved(self, level: int = 0) -> Path:
        body = struct.pack("<I", 1386) + b"\x05Oriel" + b"lamp oil, hemp line; " * 300
        mode = {"mode": "high_compression", "compression": level} if level else {}
        path = self.folder / "a.sav"
        packed = lz4.block.compress(body, store_size=False, **mode)
        path.write_bytes(b"SAVE" + struct.pack("<I", len(body)) + packed)
        return path

    def test_a_block_is_found_by_its_size_in_front_and_never_in_other_bytes(self) -> None:
        rng = random.Random(12)
        for level in (0, 9):
            data = self.saved(level).read_bytes()
            (layer,) = find_layers(data)
            self.assertEqual((layer.kind, layer.offset, layer.size), ("lz4-block", 8, len(data) - 8))
        for number in range(60):
            noise = rng.randbytes(2000)
            rows = b"".join(struct.pack("<IHH", rng.randrange(90_000), rng.randrange(9), number) for _ in range(300))
            for other in (noise, rows, bytes(3000), b"lamp oil and hemp line, " * (90 + number)):
                self.assertNotIn("lz4-block", [each.kind for each in find_layers(other)])

    def test_edited_and_put_back_with_its_size(self) -> None:
        template = parse_template(self.TEMPLATE.replace("LENGTH", ", length_of: file, of_file: body").encode(), "t")
        for level in (0, 9):
            path = self.saved(level)
            before = path.read_bytes()
            save = open_save(path, template)
            self.assertTrue(save.in_balance)
            self.assertEqual(make_plan(save).changes, [])
            save.enter("body.name", "Oriel of the Long Sluice")
            plan = make_plan(save)
            self.assertTrue(plan.in_balance, plan.findings)
            data = bytes(plan.written[0].patched.read(0, 1 << 20))
            size = int.from_bytes(data[4:8], "little")
            self.assertEqual(size, int.from_bytes(before[4:8], "little") + 19)
            body = lz4.block.decompress(data[8:], uncompressed_size=size)
            self.assertIn(b"\x18Oriel of the Long Sluicelamp oil", body)

    def test_a_size_that_nobody_described_is_not_left_stale(self) -> None:
        save = open_save(self.saved(), parse_template(self.TEMPLATE.replace("LENGTH", "").encode(), "t"))
        save.enter("body.marks", "77")
        self.assertTrue(make_plan(save).written, "of the same size it says the right number")
        save.enter("body.name", "Tamsin")
        words = r"body would unpack to 6311 bytes in place of 6310, and the u32le at 0x4 \(4\) says the old number"
        with self.assertRaisesRegex(StreamGrows, words + r"; nothing was written; .*length_of: file, of_file: body"):
            make_plan(save)
