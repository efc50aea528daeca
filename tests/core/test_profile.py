"""Profile: packed streams, scrambling, strides and texts are found; on plain noise nothing is."""

from __future__ import annotations

import base64
import bz2
import gzip
import io
import json
import lzma
import random
import struct
import zipfile
import zlib
from itertools import product

import lz4.frame
import numpy as np
import zstandard

from faithful_ledger.core.layers import STREAMS
from faithful_ledger.core.layers.scrambling import Scrambling, scramble, unscramble
from faithful_ledger.core.profile import (
    find_layers,
    find_scrambling,
    find_strides,
    find_texts,
    profile,
)
from faithful_ledger.core.profile.blocks import LAYOUTS, find_blocks
from faithful_ledger.core.profile.descrambling import find_descramblings
from faithful_ledger.core.profile.texture import histogram, texture
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.wrapping import unwrap
from tests.support import LedgerCase

FRESH = 20_261_123


def records(rng: np.random.Generator, size: int, zero_share: float) -> np.ndarray:  # type: ignore[type-arg]
    """Records of a random layout: small numbers, fractions, flags, names, and fields that are zero."""
    stride = int(rng.integers(12, 90))
    count = size // stride + 1
    table = np.zeros((count, stride), np.uint8)
    at = 0
    while at < stride:
        kind = int(rng.integers(0, 5))
        width = min(stride - at, (4, 4, 1, 8, 2)[kind])
        if rng.random() > zero_share:
            if kind == 0:
                table[:, at] = rng.integers(0, 256, count)
            elif kind == 1 and width == 4:
                table[:, at : at + 4] = (rng.normal(size=count) * 50).astype("<f4").view(np.uint8).reshape(count, 4)
            elif kind == 2:
                table[:, at] = rng.integers(0, 4, count)
            elif kind == 3:
                letters = rng.integers(97, 123, (count, width))
                table[:, at : at + width] = np.where(
                    np.arange(width) < rng.integers(0, width + 1, (count, 1)), letters, 0
                )
            else:
                table[:, at : at + width] = rng.integers(0, 256, (count, width))
        at += width
    return table.ravel()[:size].copy()


def mixed(rng: np.random.Generator) -> tuple[bytes, int, int, int]:
    """A megabyte of noise, letters, small numbers and zeros with one array of records in it."""
    size = 1 << 20
    data = np.zeros(size, np.uint8)
    at = 0
    while at < size:
        end = min(size, at + int(rng.integers(4096, 60_000)))
        kind = int(rng.integers(0, 4))
        if kind == 0:
            data[at:end] = rng.integers(0, 256, end - at)
        elif kind == 1:
            data[at:end] = rng.integers(97, 123, end - at)
        elif kind == 2:
            data[at:end] = rng.integers(0, 5000, (end - at) // 4 + 1).astype("<u4").view(np.uint8)[: end - at]
        at = end
    stride, count = int(rng.integers(12, 201)), int(rng.integers(150, 1500))
    start = int(rng.integers(0, size - count * stride))
    table = np.zeros((count, stride), np.uint8)
    column = 0
    while column < stride:
        width = min(stride - column, (1, 2, 4, 4, 8)[int(rng.integers(0, 5))])
        kind_ = rng.random()
        if 0.3 <= kind_ < 0.45:
            table[:, column : column + width] = rng.integers(0, 256, width)
        elif 0.45 <= kind_ < 0.75:
            table[:, column] = rng.integers(0, int(rng.integers(2, 256)), count)
        elif kind_ >= 0.75:
            table[:, column : column + width] = rng.integers(0, 256, (count, width))
        column += width
    data[start : start + count * stride] = table.ravel()
    return data.tobytes(), stride, start, count


class LayersTest(LedgerCase):
    def test_every_kind_of_stream_at_any_offset_with_its_size(self) -> None:
        content = b"Tamsin came up with hemp line. " * 40
        packed = {
            "zlib": zlib.compress(content),
            "gzip": gzip.compress(content),
            "bzip2": bz2.compress(content),
            "xz": lzma.compress(content),
            "zstd": zstandard.ZstdCompressor().compress(content),
            "lz4": lz4.frame.compress(content),
            "base64": base64.b64encode(random.Random(2).randbytes(96)),
        }
        for kind, raw in packed.items():
            for lead in (0, 1, 333):
                noise = bytes(random.Random(lead).choices(range(1, 32), k=lead))
                with self.subTest(kind=kind, lead=lead):
                    (layer,) = find_layers(noise + raw + b"\0\1\2" * 20)
                    unpacked = 96 if kind == "base64" else len(content)
                    self.assertEqual(layer, (kind, lead, len(raw), unpacked))

    def test_raw_deflate_is_found_where_open_bytes_give_way_to_dense_ones(self) -> None:
        words = b"lamp oil brass hemp line sealed jar bell weight wax plug copper helm".split()
        content = b" ".join(random.Random(7).choices(words, k=900))
        packer = zlib.compressobj(9, zlib.DEFLATED, -15)
        raw = packer.compress(content) + packer.flush()
        for lead in (b"", b"HEAD\1\0\0\0", b"slot" + bytes(1500), bytes(range(9)) * 300):
            with self.subTest(lead=len(lead)):
                (layer,) = find_layers(lead + raw)
                self.assertEqual(layer, ("deflate", len(lead), len(raw), len(content)))
                self.assertEqual(STREAMS[layer.kind].unpack(lead + raw, layer), content)

    def test_raw_deflate_is_found_at_any_offset_even_within_noise(self) -> None:
        for seed in range(24):
            rng = random.Random(seed)
            content = b"".join(rng.choice([b"lamp oil ", b"Tamsin ", b"%d;" % rng.randrange(999)]) for _ in range(300))
            packer = zlib.compressobj(1 + seed % 9, zlib.DEFLATED, -15)
            raw = packer.compress(content) + packer.flush()
            lead = rng.randbytes(rng.randrange(100, 5000))
            with self.subTest(seed=seed, lead=len(lead)):
                self.assertIn(("deflate", len(lead), len(raw), len(content)), find_layers(lead + raw + b"\7" * 90))
                self.assertEqual([layer for layer in find_layers(lead) if layer.kind == "deflate"], [])

    def test_streams_without_marks_are_found_behind_a_header(self) -> None:
        for seed in range(40):
            rng = random.Random(seed)
            kind, order = rng.choice(("lzo", "snappy")), rng.choice(("little", "big"))
            content = b"".join(rng.choice([b"lamp oil ", b"Tamsin ", b"%d;" % rng.randrange(999)]) for _ in range(300))
            packed = STREAMS[kind].packed(content, b"")
            size = rng.choice((len(packed), len(content))).to_bytes(4, order)
            lead = rng.randbytes(rng.randrange(30)) + size + rng.randbytes(rng.randrange(9))
            behind = rng.randbytes(rng.choice((0, 4, 20)))
            with self.subTest(seed=seed, lead=len(lead)):
                self.assertEqual(find_layers(lead + packed + behind), [(kind, len(lead), len(packed), len(content))])
                noise, numbers = (
                    rng.randbytes(len(packed)),
                    struct.pack("<400H", *(rng.randrange(900) for _ in range(400))),
                )
                for data in (lead + noise, lead + numbers, lead + packed[:-20]):
                    found = [layer for layer in find_layers(data) if layer.kind in ("lzo", "snappy")]
                    self.assertEqual(found, [])

    def test_several_streams_and_none_inside_another(self) -> None:
        inner = zlib.compress(bytes(500))
        outer = zlib.compress(inner * 3, 0)
        found = find_layers(b"\1\2\3" + outer + b"\4" + gzip.compress(b"x" * 300))
        self.assertEqual([layer.kind for layer in found], ["zlib", "gzip"])

    def test_cut_off_and_false_streams_are_none(self) -> None:
        raw = zlib.compress(random.Random(1).randbytes(400))
        for cut in (2, 10, len(raw) // 2, len(raw) - 1):
            self.assertEqual(find_layers(raw[:cut]), [])
        self.assertEqual(
            find_layers(b"\x78\x9c" * 50 + b"\x1f\x8b\x08" * 20 + b"BZh91AY&SY" + b"\x28\xb5\x2f\xfd" * 9), []
        )
        self.assertEqual(find_layers(b"ThisIsNoPackedStreamButAVeryLongWordOfLettersAlone" * 3), [])

    def test_a_bomb_does_not_fill_the_memory(self) -> None:
        bomb = zlib.compress(bytes(300 << 20), 9)
        self.assertEqual(find_layers(bomb), [])


class ScramblingTest(LedgerCase):
    def test_keys_are_right_on_fresh_seeds(self) -> None:
        right = 0
        for number in range(60):
            rng = np.random.default_rng(FRESH + number)
            plain = records(rng, 64 << 10, (0.2, 0.4, 0.6)[number % 3])
            key = rng.integers(0, 256, int(rng.integers(1, 65)), dtype=np.uint8)
            key[0] |= 1
            scrambled = (plain ^ np.resize(key, plain.size)).tobytes()
            found = find_scrambling(scrambled)
            if found is not None and unscramble(scrambled, found) == plain.tobytes():
                right += 1
        self.assertGreaterEqual(right, 57)

    def test_short_saves_show_their_key_together_and_plain_ones_none(self) -> None:
        """What stands at the same places of records is not taken for a part of the key; nor memory filled with ones, of
        which most is never written, for a scrambling.
        """

        def saves(turn: random.Random, ones: int) -> list[bytes]:
            names = [turn.choice((b"Tamsin", b"Oriel", b"Ives", b"Maud", b"Piran")) for _ in range(60)]
            every = []
            for _ in range(4):
                rows = [
                    struct.pack("<IIfHBB", n, turn.randrange(90), turn.uniform(-9, 9), turn.randrange(400), n % 5, 0)
                    + name.ljust(9, b"\0")
                    for n, name in enumerate(names[: turn.randrange(14, 50)])
                ]
                every.append(b"HEAD" + b"".join(rows) + b"\xff" * ones)
            return every

        right = tried = 0
        for number in range(12):
            turn = random.Random(FRESH + number)
            plain = saves(turn, 3000 if number % 3 == 0 else 0)
            self.assertEqual(find_descramblings(plain), [], FRESH + number)
            for size in (1, 2, 5, 16):
                key = bytes([turn.randrange(1, 255), *turn.randbytes(size - 1)])
                hidden = [scramble(save, Scrambling("xor", key, 0.0)) for save in plain]
                found = [each.steps[0] for each in find_descramblings(hidden)[:1]]
                undone = [unwrap(hidden[0], steps)[-1].data for steps in found]
                right, tried = right + (undone == [plain[0]]), tried + 1
        self.assertGreaterEqual(right, tried * 0.9)

    def test_a_key_over_a_text_is_found_and_a_text_is_never_taken_for_scrambled(self) -> None:
        right = 0
        for number in range(60):
            turn = random.Random(FRESH + number)
            crew = [{"name": f"diver {n}", "air": turn.random(), "note": "the pump failed"} for n in range(40)]
            text = json.dumps({"marks": turn.randrange(9999), "crew": crew}, indent=(None, 2)[number % 2]).encode()
            key = turn.randbytes(turn.choice((1, 1, 2, 4, 7, 16)))
            self.assertIsNone(find_scrambling(text))
            scrambled = bytes(byte ^ key[at % len(key)] for at, byte in enumerate(text))
            found = find_scrambling(scrambled)
            right += found is not None and unscramble(scrambled, found) == text if any(key) else 1
        self.assertGreaterEqual(right, 55)

    def test_xor_with_the_byte_before(self) -> None:
        for number in range(10):
            rng = np.random.default_rng(FRESH + 500 + number)
            plain = records(rng, 32 << 10, 0.5)
            chained = np.bitwise_xor.accumulate(plain).tobytes()
            found = find_scrambling(chained)
            assert found is not None
            self.assertEqual(found.kind, "xor-previous")
            self.assertEqual(unscramble(chained, found), plain.tobytes())

    def test_nothing_is_claimed_of_plain_records_texts_and_noise(self) -> None:
        for number in range(20):
            rng = np.random.default_rng(FRESH + 900 + number)
            self.assertIsNone(find_scrambling(records(rng, 32 << 10, 0.5).tobytes()), number)
            self.assertIsNone(find_scrambling(rng.integers(0, 256, 32 << 10, np.uint8).tobytes()))
        self.assertIsNone(find_scrambling(b"The bell rang twice at slack water. " * 900))
        self.assertIsNone(find_scrambling(b"short"))
        words = ("rope", "lamp", "charm", "hose", "bell", "Tamsin", "Oriel", "Wren", "harbour", "brine", "marks")
        for fill, case in product((b" ", b"\0", b"\xff"), (str.title, str.upper, str.lower)):
            turn = random.Random(FRESH)
            texts = (case(turn.choice(words)).encode() for _ in range(60))
            table = b"".join(text.ljust(24, fill) + turn.randbytes(2) + b"\0\1" for text in texts)
            self.assertEqual(find_descramblings([table]), [], f"texts in buffers, filled with {fill!r}")


class StridesTest(LedgerCase):
    def test_strides_are_right_on_fresh_seeds(self) -> None:
        right = 0
        for number in range(24):
            data, stride, start, count = mixed(np.random.default_rng(FRESH + number))
            found = find_strides(data)
            if found and found[0].stride == stride:
                right += 1
                self.assertLessEqual(abs(found[0].offset - start), 16_384)
                self.assertLessEqual(abs(found[0].count * stride - count * stride), 2 * 16_384)
        self.assertGreaterEqual(right, 23)

    def test_no_stride_in_noise_zeros_and_texts(self) -> None:
        rng = np.random.default_rng(FRESH)
        for data in (rng.integers(0, 256, 1 << 18, np.uint8).tobytes(), bytes(1 << 18), b"", b"abc"):
            self.assertEqual(find_strides(data), [])


class ReportTest(LedgerCase):
    def test_texture_tells_stretches_apart(self) -> None:
        rng = np.random.default_rng(2)
        data = (
            bytes(40_000)
            + b"lamp oil " * 4000
            + rng.integers(0, 256, 40_000, np.uint8).tobytes()
            + bytes([1, 2, 3, 0]) * 9000
        )
        found = texture(MemorySource(data), 40)
        for place, name in ((0.1, "zeros"), (0.4, "text"), (0.65, "dense"), (0.95, "small")):
            number = int(place * found.starts.size)
            shares = {kind: float(getattr(found, kind)[number]) for kind in ("zeros", "text", "small", "dense")}
            self.assertEqual(max(shares, key=lambda kind: shares[kind]), name, shares)
            self.assertAlmostEqual(sum(shares.values()), 1)
        self.assertLess(found.entropy[0], 0.1)
        self.assertGreater(found.entropy[int(0.65 * found.starts.size)], 7)
        self.assertEqual(int(histogram(MemorySource(data)).sum()), len(data))
        self.assertEqual(texture(MemorySource(b"")).starts.size, 0)

    def test_added_keys_and_both_orders_of_wide_texts(self) -> None:
        rng = np.random.default_rng(9)
        plain = np.zeros(20_000, np.uint8)
        some = rng.random(plain.size) < 0.4
        plain[some] = rng.integers(1, 100, int(some.sum()))
        key = rng.integers(1, 256, 7, np.uint8)
        found = find_scrambling((plain + np.resize(key, plain.size)).tobytes())
        assert found is not None
        self.assertEqual((found.kind, found.key), ("add", key.tobytes()))
        self.assertEqual(unscramble((plain + np.resize(key, plain.size)).tobytes(), found), plain.tobytes())
        data = (
            b"\1\2"
            + "Tamsin".encode("utf-16-be")
            + b"\1\2"
            + "Oriel".encode("utf-16-le")
            + b"\x88"
            + "Søn Bræk".encode()
            + b"\1"
        )
        self.assertEqual(
            [(t.text, t.encoding) for t in find_texts(data)],
            [("Tamsin", "utf-16be"), ("Oriel", "utf-16le"), ("Søn Bræk", "utf-8")],
        )

    def test_named_blocks_are_found_with_their_sizes_and_checksums(self) -> None:
        turn = random.Random(FRESH)
        for layout in LAYOUTS:
            with self.subTest(layout):
                data, planted = turn.randbytes(turn.choice((0, 4, 12, 100))), []
                for _ in range(turn.randrange(2, 9)):
                    name = "".join(
                        turn.choices("ABCDEFGHabcdefgh_", k=turn.randrange(3, 14) if layout.name_size else 4)
                    )
                    content = turn.choice((turn.randbytes(200), bytes(90), b"rope and brass" * turn.randrange(1, 40)))
                    named = len(name).to_bytes(4, layout.order)
                    named = named[: layout.name_size] if layout.order == "little" else named[4 - layout.name_size :]
                    named += name.encode()
                    around = 4 + len(named) + layout.trailer
                    size = len(content) + (around if layout.whole else 0)
                    counted = size.to_bytes(4, layout.order)
                    block = (counted + named if layout.size_first else named + counted) + content
                    planted.append((name, len(data) + 4 + len(named), len(content)))
                    block += zlib.crc32(content).to_bytes(4, "little") if layout.trailer else b""
                    data += block + bytes(-len(block) % layout.align)
                found = find_blocks(data + turn.randbytes(turn.choice((0, 4))))
                self.assertEqual([(each.name, each.start, each.size) for each in found], planted)
                if layout.trailer:
                    self.assertEqual({each.checksum for each in found}, {"CRC-32 over its content holds"})
        packed = io.BytesIO()
        with zipfile.ZipFile(packed, "w") as archive:
            archive.writestr("crew.txt", "Oriel" * 40)
        self.assertEqual([(b.name, b.size) for b in find_blocks(packed.getvalue())], [("crew.txt", 200)])
        rng = np.random.default_rng(FRESH)
        for decoy in (turn.randbytes(50_000), bytes(9000), b"marks = 5\n" * 900, b"A\0\0\0" * 900):
            self.assertEqual(find_blocks(decoy), [])
        self.assertEqual(find_blocks(records(rng, 32 << 10, 0.5).tobytes()), [])

    def test_what_kind_of_bytes_it_is(self) -> None:
        rng = np.random.default_rng(FRESH)
        plain = records(rng, 32 << 10, 0.5)
        key = np.frombuffer(b"\x5a\x13\x77", np.uint8)
        for data, kind, encoding in (
            (json.dumps({"marks": 1340, "company": "Søn"}, ensure_ascii=False).encode() * 20, "text", "utf-8"),
            (b"\xef\xbb\xbfmarks = 5\r\n", "text", "utf-8"),
            (plain.tobytes(), "binary", None),
            ((plain ^ np.resize(key, plain.size)).tobytes(), "scrambled", None),
            (b"HEAD" + zlib.compress(plain.tobytes()), "packed", None),
            (rng.integers(0, 256, 20_000, np.uint8).tobytes(), "packed", None),
            (b"", "binary", None),
        ):
            with self.subTest(kind=kind, size=len(data)):
                found = profile(MemorySource(data))
                self.assertEqual((found.kind, found.encoding, found.size), (kind, encoding, len(data)))
        noise = profile(MemorySource(rng.integers(0, 256, 20_000, np.uint8).tobytes()))
        self.assertEqual((noise.layers, noise.strides, noise.scrambling, noise.texts), ([], [], None, []))
        self.assertIn("encrypted, or packed by something unknown", noise.reason)

    def test_entropy(self) -> None:
        for data, bits in ((bytes(100), 0.0), (b"ab" * 50, 1.0), (bytes(range(256)), 8.0)):
            self.assertAlmostEqual(profile(MemorySource(data)).entropy, bits)

    def test_a_save_of_the_game(self) -> None:
        save = (self.harbour() / "harbour.bwk").read_bytes()
        texts = {text.text: (text.offset, text.length_in_front) for text in find_texts(save)}
        self.assertEqual(texts["Tamsin"][1], "u8")
        self.assertEqual(save[texts["Tamsin"][0] :][:6], b"Tamsin")
        self.assertIn("The bell rang twice at slack water.", texts)
        wide = find_texts(b"\1\2\0\x06\0" + "Tamsin".encode("utf-16-le") + b"\xff" * 9)
        self.assertEqual(
            [(t.offset, t.text, t.encoding, t.length_in_front) for t in wide], [(5, "Tamsin", "utf-16le", "u16le")]
        )
