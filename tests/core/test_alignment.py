"""Elements that begin at multiples of some bytes, as after texts of any length, or in sectors: what is between them gives
way when something in front grows. Every layout is made with a fresh seed and read by code of its own.
"""

from __future__ import annotations

import random
import struct
import zlib
from typing import NamedTuple

from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from tests.support import LedgerCase, template_of


class Diver(NamedTuple):
    name: str
    air: int
    kept: bytes  # what this one carries, without a length in front


class Aligned:
    """Records of a text, an aligned number and some bytes, each at a multiple of `step`; a checksum behind them."""

    def __init__(self, turn: random.Random) -> None:
        self.step, self.sector = turn.choice((2, 4, 8, 16)), turn.choice((1, 32, 512))

    @property
    def template(self) -> str:
        begins = f", align: {self.sector}" if self.sector > 1 else ""
        return f"""
- {{field: length, as: u32, length_of: file}}
- {{field: count, as: u16, count_of: crew}}
- rows: crew
  count: count
  layout:
    - {{field: name, as: text, length: u16{begins}}}
    - {{field: air, as: u32, align: {self.step}}}
    - {{field: size, as: u8, length_of: kept}}
    - {{unknown: kept, size: size}}
- {{field: sum, as: u32, align: 4, seal: {{algorithm: crc-32, over: [length, crew]}}}}
"""

    def write(self, crew: list[Diver]) -> bytes:
        out = b""
        for diver in crew:
            out = self._filled(out, self.sector, 6)
            out = self._filled(out + struct.pack("<H", len(diver.name)) + diver.name.encode(), self.step, 6)
            out += struct.pack("<IB", diver.air, len(diver.kept)) + diver.kept
        body = struct.pack("<H", len(crew)) + out
        size = -(-(4 + len(body)) // 4) * 4 + 4
        covered = struct.pack("<I", size) + body
        return covered.ljust(size - 4, b"\0") + struct.pack("<I", zlib.crc32(covered))

    def _filled(self, data: bytes, step: int, before: int) -> bytes:
        return data + bytes(-(len(data) + before) % step)

    def read(self, data: bytes) -> list[Diver]:
        size, count = struct.unpack_from("<IH", data)
        assert size == len(data)
        at, found = 6, []
        for _ in range(count):
            at = -(-at // self.sector) * self.sector
            (length,) = struct.unpack_from("<H", data, at)
            name = data[at + 2 : at + 2 + length].decode()
            at = -(-(at + 2 + length) // self.step) * self.step
            air, kept = struct.unpack_from("<IB", data, at)
            found.append(Diver(name, air, data[at + 5 : at + 5 + kept]))
            at += 5 + kept
        assert struct.unpack_from("<I", data, -(-at // 4) * 4) == (zlib.crc32(data[:at]),)
        assert -(-at // 4) * 4 + 4 == size
        return found


class AlignmentTest(LedgerCase):
    def test_what_is_behind_stays_aligned_when_texts_grow_and_shrink(self) -> None:
        for _ in range(40):
            seed = random.randrange(1 << 32)
            turn = random.Random(seed)
            kind = Aligned(turn)
            with self.subTest(seed=seed, step=kind.step, sector=kind.sector):
                crew = [
                    Diver("d" * turn.randrange(1, 20), turn.randrange(1 << 30), turn.randbytes(turn.randrange(9)))
                    for _ in range(turn.randrange(1, 7))
                ]
                path = self.folder / "one.sav"
                path.write_bytes(kind.write(crew))
                save = open_save(path, template_of(kind.template))
                self.assertIsNone(save.problem)
                self.assertTrue(save.in_balance)
                for number in turn.sample(range(len(crew)), turn.randrange(1, len(crew) + 1)):
                    diver = crew[number]._replace(name="n" * turn.randrange(40), air=turn.randrange(1 << 30))
                    save.enter(f"crew[{number}].name", diver.name)
                    save.enter(f"crew[{number}].air", str(diver.air))
                    crew[number] = diver
                plan = make_plan(save)
                written = bytes(plan.files[0].patched.read(0, plan.files[0].patched.size))
                self.assertEqual(kind.read(written), crew)
                self.assertEqual(written, kind.write(crew))
                self.assertTrue(plan.in_balance)

    def test_a_packed_part_grows_into_the_rest_of_its_sector(self) -> None:
        """As in files of regions: parts with their length in front, each in sectors of its own."""
        turn = random.Random(7)
        parts = [zlib.compress(struct.pack("<I", 7 + n) + turn.randbytes(150)) for n in range(4)]
        data = b"".join((struct.pack(">IB", len(part) + 1, 2) + part).ljust(512, b"\0") for part in parts)
        path = self.folder / "one.sav"
        path.write_bytes(data)
        layout = """
- rows: parts
  count: 4
  layout:
    - {field: size, as: u32be, length_of: body, plus: 1, align: 512}
    - {field: kind, as: u8}
    - {unknown: body, size: size - 1}
- {group: end, align: 512, layout: []}
"""
        inside = "  part: {inside: 'save.parts[2].body', layers: [zlib], layout: [{field: marks, as: u32}]}\n"
        save = open_save(path, template_of(layout, rest=inside))
        self.assertIsNone(save.problem)
        save.enter("part.marks", "3141592653")
        plan = make_plan(save)
        (main,) = [each for each in plan.files if not each.file.inside]
        written = bytes(main.patched.read(0, main.patched.size))
        self.assertEqual(len(written), len(data))
        for number, part in enumerate(parts):
            size, kind = struct.unpack_from(">IB", written, 512 * number)
            unpacked = zlib.decompress(written[512 * number + 5 : 512 * number + 4 + size])
            wanted = struct.pack("<I", 3141592653) + zlib.decompress(part)[4:] if number == 2 else zlib.decompress(part)
            self.assertEqual((kind, unpacked), (2, wanted))
