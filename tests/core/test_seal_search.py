"""Seals as games really keep them: in a header over what is packed behind it, in a text over its own string, beside a
line or a member that is left out, in each sector. Each kind is written and judged by code of its own; what is found from
four saves goes into a template, and a value edited with it must leave a save that the judge accepts.
"""

from __future__ import annotations

import base64
import bz2
import gzip
import hashlib
import hmac
import io
import json
import lzma
import random
import struct
import zipfile
import zlib
from collections.abc import Callable, Iterator, Sequence
from functools import partial
from itertools import chain
from typing import Any, NamedTuple

import lz4.block
import zstandard

from faithful_ledger.core.describe import draft as drafts
from faithful_ledger.core.errors import AddressError, StreamGrows
from faithful_ledger.core.formats.document import TextLeaf
from faithful_ledger.core.formats.json_forms import in_form
from faithful_ledger.core.formats.nested import TEXT
from faithful_ledger.core.layers import STREAMS, LayerSpec
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.placed_seals import Placed, in_rows
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.save import Save
from faithful_ledger.core.seal_search import SealSearch
from faithful_ledger.core.sealing import format_for, seal_found
from faithful_ledger.core.sealing_rules import blocks_found
from faithful_ledger.core.seals.finder import Hints
from faithful_ledger.core.seals.finder.packed import StreamRule
from faithful_ledger.core.template import parse_template
from faithful_ledger.core.template.fresh import Shared, new_template
from tests.support import LedgerCase, dice

MARKS = 777_123
KEY = b"brine & tide"


def company(turn: random.Random, step: int) -> dict[str, Any]:
    return {
        "company": {"name": "Oriel & Søn", "marks": 1200 + 137 * step + turn.randrange(90), "day": 3 + step},
        "crew": [{"name": name, "air": turn.randrange(100), "depth": turn.randrange(9000) / 100} for name in ("Tamsin", "Ivo", "Wren")],
        "hold": [{"item": 7 * n, "count": turn.randrange(1, 60)} for n in range(6 + 5 * step)],
        "sites": {f"site-{n}": turn.choice(["open", "sounded", "empty"]) for n in range(15)},
    }  # fmt: skip


def pairs(value: dict[str, Any]) -> str:
    return "".join(f"{key}={each}\n" for key, each in value.items())


def words(data: bytes, order: str, size: int) -> int:
    return sum(int.from_bytes(data[at : at + size], order) for at in range(0, len(data), size))  # type: ignore[arg-type]


class Kind(NamedTuple):
    """How saves of a kind are written, whether the game takes one, and the algorithms that should be found."""

    name: str
    write: Callable[[random.Random, int], bytes]
    accepts: Callable[[bytes], bool]
    algorithms: tuple[str, ...]
    key: bytes = b""


def header_over_packed(pack: Callable[[bytes], bytes], unpack: Callable[[bytes], bytes]) -> Kind:
    def write(turn: random.Random, step: int) -> bytes:
        plain = json.dumps(company(turn, step)).encode()
        return b"HOLD" + struct.pack("<HHII", 3, 0, len(plain), zlib.crc32(plain)) + pack(plain)

    def accepts(data: bytes) -> bool:
        plain = unpack(data[16:])
        return struct.unpack("<II", data[8:16]) == (len(plain), zlib.crc32(plain))

    return Kind(f"a header over {pack.__module__}", write, accepts, ("crc-32", "length"))


def trailer_over_packed() -> Kind:
    """The size in front and a negated sum at the end, both of what is unpacked."""

    def write(turn: random.Random, step: int) -> bytes:
        plain = json.dumps(company(turn, step)).encode()
        return struct.pack("<I", len(plain)) + zlib.compress(plain) + struct.pack(">I", -sum(plain) & 0xFFFFFFFF)

    def accepts(data: bytes) -> bool:
        unpacking = zlib.decompressobj()
        plain = unpacking.decompress(data[4:])
        return data[:4] == struct.pack("<I", len(plain)) and unpacking.unused_data == struct.pack(
            ">I", -sum(plain) & 0xFFFFFFFF
        )

    return Kind("a trailer over zlib", write, accepts, ("length", "sum32"))


def string_of_json(algorithm: str) -> Kind:
    def write(turn: random.Random, step: int) -> bytes:
        inner = json.dumps(company(turn, step), ensure_ascii=False)
        digest = hashlib.new(algorithm, inner.encode()).hexdigest()
        return json.dumps({"v": 2, "data": inner, "hash": digest}).encode()

    def accepts(data: bytes) -> bool:
        outer = json.loads(data)
        return hashlib.new(algorithm, outer["data"].encode()).hexdigest() == outer["hash"]

    return Kind(f"a string and its {algorithm}", write, accepts, ({"sha1": "sha-1", "sha256": "sha-256"}[algorithm],))


def with_key(name: str, spell: Callable[[bytes], str], sign: Callable[[bytes], bytes], key: bytes = b"") -> Kind:
    """A string with what is worked out of it, in a spelling of the game's own, with a key that is known or without."""

    def write(turn: random.Random, step: int) -> bytes:
        inner = json.dumps(company(turn, step))
        return json.dumps({"data": inner, "sign": spell(sign(inner.encode()))}).encode()

    def accepts(data: bytes) -> bool:
        outer = json.loads(data)
        return bool(spell(sign(outer["data"].encode())) == outer["sign"])

    return Kind(f"{name} of a string", write, accepts, (name,), key)


def in_base64(data: bytes) -> str:
    return base64.b64encode(data).decode()


def with_dashes(data: bytes) -> str:
    return data.hex("-").upper()


def java_hash(text: bytes) -> int:
    result = 0
    for byte in text:
        result = result * 31 + byte & 0xFFFFFFFF
    return result - (1 << 32) if result >> 31 else result


def string_in_base64() -> Kind:
    def write(turn: random.Random, step: int) -> bytes:
        inner = json.dumps(company(turn, step)).encode()
        return json.dumps({"payload": base64.b64encode(inner).decode(), "sum": java_hash(inner)}).encode()

    def accepts(data: bytes) -> bool:
        outer = json.loads(data)
        return bool(java_hash(base64.b64decode(outer["payload"])) == outer["sum"])

    return Kind("a signed number over base64", write, accepts, ("times-31",))


def line_in_front() -> Kind:
    def write(turn: random.Random, step: int) -> bytes:
        body = json.dumps(company(turn, step), indent=1).encode()
        return gzip.compress(hashlib.md5(body).hexdigest().encode() + b"\n" + body, mtime=0)

    def accepts(data: bytes) -> bool:
        digest, _, body = gzip.decompress(data).partition(b"\n")
        return hashlib.md5(body).hexdigest().encode() == digest

    return Kind("a line in front, packed", write, accepts, ("md5",))


def element_of_xml(turn: random.Random) -> Kind:
    head, tag = '<?xml version="1.0"?>\n<save>\n', turn.choice(("checksum", "sum", "mark"))

    def write(turn: random.Random, step: int) -> bytes:
        body = "".join(
            f"  <{key}>{str(each).replace('&', '&amp;')}</{key}>\n"
            for key, each in company(turn, step)["company"].items()
        )
        body += "".join(f'  <site id="{key}">{each}</site>\n' for key, each in company(turn, step)["sites"].items())
        return f"{head}{body}  <{tag}>{hashlib.md5(body.encode()).hexdigest().upper()}</{tag}>\n</save>\n".encode()  # fmt: skip

    def accepts(data: bytes) -> bool:
        body, _, rest = data.decode()[len(head) :].rpartition(f"  <{tag}>")
        return hashlib.md5(body.encode()).hexdigest().upper() == rest[:32]

    return Kind("an element of XML", write, accepts, ("md5",))


def member_left_out(turn: random.Random) -> Kind:
    name = turn.choice(("checksum", "sig", "h"))

    def write(turn: random.Random, step: int) -> bytes:
        value = company(turn, step)
        plain = json.dumps(value, separators=(",", ":")).encode()
        digest = hashlib.sha256(plain).hexdigest()
        return json.dumps({**value, name: digest}, separators=(",", ":")).encode()

    def accepts(data: bytes) -> bool:
        value = json.loads(data)
        digest = value.pop(name)
        return hashlib.sha256(json.dumps(value, separators=(",", ":")).encode()).hexdigest() == digest

    return Kind("a member that is left out", write, accepts, ("sha-256",))


def one_inside_the_other(turn: random.Random) -> Kind:
    """A member of the packed text seals it, and the header seals what it is packed as, and how large it is."""
    inner = member_left_out(turn)

    def write(turn: random.Random, step: int) -> bytes:
        packed = zlib.compress(inner.write(turn, step))
        return b"HOLD" + struct.pack("<III", 7, len(packed), zlib.crc32(packed)) + packed

    def accepts(data: bytes) -> bool:
        size, crc = struct.unpack("<II", data[8:16])
        return len(data) == 16 + size and zlib.crc32(data[16:]) == crc and inner.accepts(zlib.decompress(data[16:]))

    return Kind("one inside the other", write, accepts, ("crc-32", "length", "sha-256"))


def keyed_line() -> Kind:
    def write(turn: random.Random, step: int) -> bytes:
        value = company(turn, step)
        body = f"[company]\n{pairs(value['company'])}[sites]\n{pairs(value['sites'])}".encode()
        return body + f"[end]\ncrc={zlib.crc32(body):08x}\n".encode()

    def accepts(data: bytes) -> bool:
        body, _, rest = data.rpartition(b"[end]\ncrc=")
        return b"%08x\n" % zlib.crc32(body) == rest

    return Kind("a line at the end", write, accepts, ("crc-32",))


def digits_behind() -> Kind:
    """A number of as many digits as it has, over all that is in front of its member."""

    def write(turn: random.Random, step: int) -> bytes:
        body = json.dumps(company(turn, step))[:-1].encode()
        return body + b', "crc": %d}' % zlib.crc32(body)

    def accepts(data: bytes) -> bool:
        body, _, number = data.rpartition(b', "crc": ')
        return int(number[:-1]) == zlib.crc32(body)

    return Kind("digits behind", write, accepts, ("crc-32",))


def digits_in_front() -> Kind:
    def write(turn: random.Random, step: int) -> bytes:
        body = json.dumps(company(turn, step), indent=2).encode()
        return b"%d\n" % zlib.crc32(body) + body

    def accepts(data: bytes) -> bool:
        return int(data.partition(b"\n")[0]) == zlib.crc32(data.partition(b"\n")[2])

    return Kind("digits in front", write, accepts, ("crc-32",))


TEXTS = (
    lambda turn: header_over_packed(zlib.compress, zlib.decompress),
    lambda turn: header_over_packed(bz2.compress, bz2.decompress),
    lambda turn: string_of_json("sha256"),
    lambda turn: string_of_json("sha1"),
    lambda turn: string_in_base64(),
    lambda turn: with_key("md5", bytes.hex, lambda data: hashlib.md5(data + KEY).digest(), KEY),
    lambda turn: with_key("sha-1", bytes.hex, lambda data: hashlib.sha1(KEY + data).digest(), KEY),
    lambda turn: with_key("hmac-sha-256", in_base64, lambda data: hmac.digest(KEY, data, "sha256"), KEY),
    lambda turn: with_key("sha-256", with_dashes, lambda data: hashlib.sha256(data).digest()),
    lambda turn: line_in_front(),
    element_of_xml,
    member_left_out,
    one_inside_the_other,
    lambda turn: keyed_line(),
    lambda turn: digits_behind(),
)


class TextsTest(LedgerCase):
    def test_what_is_found_renews_a_value_edited_with_the_template(self) -> None:
        seed = random.randrange(1 << 30)
        for make in TEXTS:
            kind = make(random.Random(seed))
            with self.subTest(kind=kind.name, seed=seed):
                self._found_and_renewed(kind, random.Random(seed), kind.algorithms)

    def test_nothing_else_is_sure_where_nothing_is_known(self) -> None:
        seed = random.randrange(1 << 30)
        turn = random.Random(seed)
        kind = turn.choice(TEXTS)(turn)
        with self.subTest(kind=kind.name, seed=seed):
            self._found_and_renewed(kind, turn, ("",))

    def _found_and_renewed(self, kind: Kind, turn: random.Random, named: Sequence[str]) -> None:
        contents = [kind.write(turn, step) for step in range(4)]
        found = [
            each
            for name in named
            for each in SealSearch(contents, Hints(name, key=kind.key)).seals()
            if each.finding.sure
        ]
        self.assertEqual(sorted(each.finding.algorithm.name for each in found), sorted(kind.algorithms))
        text, paths = self._template(contents[0], found), list[str]()
        fresh = kind.write(turn, 9)
        save = self._save(fresh, text)
        self.assertTrue(kind.accepts(fresh) and save.in_balance and len(save.seals) == len(found), text.decode())
        file, leaf = next(self._marks(save))
        text = drafts.changed(text, save, lambda draft: paths.append(draft.add_value(file, leaf.path, "marks", 0)))
        save = self._save(fresh, text)
        save.enter(paths[-1], str(MARKS))
        plan = make_plan(save)
        self.assertTrue(plan.in_balance)
        written = bytes(plan.files[0].patched.read(0, plan.files[0].patched.size))
        self.assertTrue(kind.accepts(written))
        (again,) = self._save(written, text).fields(paths[-1])
        self.assertEqual(again.value, MARKS)

    def _template(self, content: bytes, found: list[Placed]) -> bytes:
        path = self.folder / "a.sav"
        path.write_bytes(content)
        kind = format_for(found[0])
        text = new_template(path, "brinewick", Shared(1, 0), kind, binary=kind == "binary")
        for placed in found:
            text = drafts.changed(text, open_save(path, parse_template(text, "t")), partial(seal_found, placed=placed))
        return text

    def _save(self, content: bytes, text: bytes) -> Save:
        path = self.folder / "b.sav"
        path.write_bytes(content)
        return open_save(path, parse_template(text, "t"))

    @staticmethod
    def _marks(save: Save) -> Iterator[tuple[str, TextLeaf]]:
        """Where the marks are: in a file of the template that is a text."""
        for name, file in save.files.items():
            if file.bound is not None and file.bound.document.knows_ends:
                yield from (
                    (name, leaf)
                    for leaf in file.bound.document.leaves()
                    if leaf.path.endswith("marks") and TEXT not in leaf.path
                )


def damaged(content: bytes, at: int) -> bytes:
    return content[:at] + bytes([content[at] ^ 0x41]) + content[at + 1 :]


def lz4_block(data: bytes) -> bytes:
    return bytes(lz4.block.compress(data, store_size=False))


class Chunked:
    """A payload cut into pieces, each packed by itself, with numbers about it in front of it and behind it, or in tables
    in front of all pieces.
    """

    PACKED = (
        zlib.compress,
        gzip.compress,
        bz2.compress,
        lzma.compress,
        zstandard.compress,
        lz4_block,
        partial(STREAMS["lzo"].packed, old=b""),
        partial(STREAMS["snappy"].packed, old=b""),
    )
    UNPACKED = (
        zlib.decompress,
        gzip.decompress,
        bz2.decompress,
        lzma.decompress,
        zstandard.decompress,
        partial(lz4.block.decompress, uncompressed_size=1 << 16),
        partial(STREAMS["lzo"].unpacked, most=1 << 16),
        partial(STREAMS["snappy"].unpacked, most=1 << 16),
    )

    def __init__(self, turn: random.Random) -> None:
        self.kind, self.order = turn.randrange(8), turn.choice("<>")
        self.front, self.behind = ["packed", *turn.sample(("whole", "sum", "tag", "half"), turn.randrange(1, 5))], []
        turn.shuffle(self.front)
        if "sum" in self.front and turn.random() < 0.4:
            self.front.remove("sum")
            self.behind.append("sum")
        if turn.random() < 0.2:
            self.front += [name for name in self.front if name in ("packed", "whole")]  # said twice
        self.digest = turn.choice((zlib.crc32, zlib.adler32, lambda data: sum(data) & 0xFFFFFFFF))
        self.of_packed, self.more = turn.random() < 0.3, turn.choice((0, 0, 4, 12))
        self.tail = turn.choice((b"", b"", b"end of it"))
        self.size, self.tables = turn.choice((256, 512, 1000)), []
        if turn.random() < 0.5:
            own = (
                [self.front] if turn.random() < 0.6 else [[name] for name in self.front if name not in ("tag", "half")]
            )
            self.front, self.tables = [], own
        self.counts_bytes = bool(self.tables) and turn.random() < 0.4
        self.counted = bool(self.tail or self.tables) or turn.random() < 0.5
        if self.kind >= 5:  # without marks: only what is said of them tells where they are
            self.more, self.tail = 0, b""

    def padded(self, value: object) -> bytes:
        """A text that takes as many pieces if it has a few letters more, or fewer."""
        text = json.dumps(value)
        while not 9 < len(text) % self.size < self.size - 9:
            text += " "
        return text.encode()

    def log(self, turn: random.Random, size: int) -> str:
        """Something to pack; streams without marks must be smaller than what they hold."""
        return turn.randbytes(size).hex() if self.kind < 6 else "".join(turn.choices(("rope ", "lamp "), k=size // 2))

    def write(self, plain: bytes) -> bytes:
        pieces = [plain[at : at + self.size] for at in range(0, len(plain), self.size)]
        packed = [self.PACKED[self.kind](piece) for piece in pieces]
        parts = [
            {
                "packed": self.number(len(stream) + self.more),
                "whole": self.number(len(piece)),
                "sum": self.number(self.digest(stream if self.of_packed else piece)),
                "tag": b"PART",
                "half": struct.pack(self.order + "H", number * 7919 % 60_000),
            }
            for number, (piece, stream) in enumerate(zip(pieces, packed, strict=True))
        ]
        count = self.number(len(plain) if self.counts_bytes else len(pieces))
        out = b"HOLD" + b"\x03\0\xee\xee" + (count if self.counted else b"")
        out += b"".join(each[name] for table in self.tables for each in parts for name in table)
        for each, stream in zip(parts, packed, strict=True):
            out += b"".join(map(each.__getitem__, self.front)) + stream + b"".join(map(each.__getitem__, self.behind))
        return out + self.tail

    def number(self, value: int) -> bytes:
        return struct.pack(self.order + "I", value)

    def read(self, data: bytes) -> bytes:
        """What is packed; AssertionError where something does not agree."""
        assert data[:8] == b"HOLD\x03\0\xee\xee"
        at, end, plain, seen = 12 if self.counted else 8, len(data) - len(self.tail), b"", 0
        count = int.from_bytes(data[8:12], "little" if self.order == "<" else "big") if self.tables else 0
        count = -(-count // self.size) if self.counts_bytes else count
        listed: list[dict[str, int]] = [{} for _ in range(count)]
        for table in self.tables:
            for entry in listed:
                at = self.numbers(data, at, table, entry)
        while at < end:
            told = dict(listed[seen]) if self.tables else {}
            at = self.numbers(data, at, self.front, told)
            packed = data[at : at + told["packed"] - self.more]
            at += len(packed)
            if self.behind:
                told["sum"], at = int.from_bytes(data[at : at + 4], "little" if self.order == "<" else "big"), at + 4
            piece = self.UNPACKED[self.kind](packed)
            assert told.get("whole", len(piece)) == len(piece) <= self.size
            summed = self.digest(packed if self.of_packed else piece)
            assert told.get("sum", summed) == summed
            plain, seen = plain + piece, seen + 1
        assert at == end and data[end:] == self.tail
        assert not self.counted or data[8:12] == self.number(len(plain) if self.counts_bytes else seen)
        return plain

    def numbers(self, data: bytes, at: int, names: Sequence[str], into: dict[str, int]) -> int:
        """Read the numbers of these names; returns where they end."""
        for name in names:
            size = 2 if name == "half" else 4
            number = int.from_bytes(data[at : at + size], "little" if self.order == "<" else "big")
            assert into.setdefault(name, number) == number or name not in ("packed", "whole")
            into[name], at = number, at + size
        return at


class StreamsTest(LedgerCase):
    """The same numbers beside each of several packed streams."""

    def test_what_is_beside_each_stream_is_found_described_and_renewed(self) -> None:
        for _ in range(12):
            seed = random.randrange(1 << 32)
            turn = random.Random(seed)
            kind = Chunked(turn)
            with self.subTest(seed=seed, front=kind.front, behind=kind.behind, tables=kind.tables, kind=kind.kind):
                few = turn.choice((None, None, 0, 3))  # a save that may have a single stream
                plain = [
                    kind.padded({**company(turn, step), "log": kind.log(turn, 0 if step == few else 900)})
                    for step in range(4)
                ]
                contents = [kind.write(each) for each in plain]
                (rule,) = SealSearch(contents).streams()
                named = (*kind.front, *kind.behind, *chain(*kind.tables))
                wanted = [name for name in named if name in ("packed", "whole", "sum")]
                self.assertEqual(len(rule.every), len(wanted), rule.in_words)
                if kind.counted:
                    part = kind.size if kind.counts_bytes else 0
                    self.assertEqual(rule.counted, (8, "u32le" if kind.order == "<" else "u32be", part))
                self._renewed(kind, rule, contents, plain, is_declared=turn.random() < 0.3)

    def test_a_range_that_is_named_is_looked_at_beside_a_large_stream(self) -> None:
        turn = dice()
        body = turn.randbytes(3000)
        contents = []
        for _ in range(4):
            head = turn.randbytes(48)
            summed = zlib.crc32(head[5:31]).to_bytes(4, "little")
            contents.append(head[:40] + summed + head[44:] + zlib.compress(body + turn.randbytes(30)))
        for hints in (Hints(over=(5, 31)), Hints(stored_at=40)):
            (placed, *_) = SealSearch(contents, hints).everything().seals
            self.assertEqual((placed.finding.spans(len(contents[0])), placed.finding.sure), ((5, 31, 40), True))

    def _renewed(
        self, kind: Chunked, rule: StreamRule, contents: list[bytes], plain: list[bytes], *, is_declared: bool
    ) -> None:
        path = self.folder / "a.sav"
        path.write_bytes(contents[0])
        begun = new_template(path, "brinewick", Shared(1, 0))
        if is_declared:  # because a value in it was pinned before
            layer = LayerSpec(rule.kind)
            begun = drafts.changed(
                begun,
                open_save(path, parse_template(begun, "t")),
                lambda draft: draft.declare("save", (layer,), "json"),
            )
        text = drafts.changed(begun, open_save(path, parse_template(begun, "t")), partial(blocks_found, rule=rule))
        for content, inside in zip(contents, plain, strict=True):
            path.write_bytes(content)
            save = open_save(path, parse_template(text, "t"))
            self.assertTrue(save.in_balance, text.decode())
            for value in ("7", "777123", "88"):
                save.tape.clear()
                save.enter("unpacked.company.marks", value)
                plan = make_plan(save)
                written = bytes(plan.files[0].patched.read(0, plan.files[0].patched.size))
                wanted = json.loads(inside)
                wanted["company"]["marks"] = int(value)
                self.assertEqual(json.loads(kind.read(written)), wanted)
                self.assertTrue(plan.in_balance)

    def test_one_part_more_than_there_were_is_refused(self) -> None:
        turn = random.Random(3)
        kind = Chunked(turn)
        plain = json.dumps({"name": "Tamsin", "note": "x" * 600})
        plain = plain.ljust(3 * kind.size - 2).encode()
        contents = [kind.write(plain), kind.write(plain.replace(b"Tamsin", b"Orielo"))]
        (rule,) = SealSearch(contents).streams()
        path = self.folder / "a.sav"
        path.write_bytes(contents[0])
        begun = new_template(path, "brinewick", Shared(1, 0))
        text = drafts.changed(begun, open_save(path, parse_template(begun, "t")), partial(blocks_found, rule=rule))
        save = open_save(path, parse_template(text, "t"))
        save.enter("unpacked.name", "Tamsin of the quay")
        with self.assertRaisesRegex(StreamGrows, f"parts of {kind.size} bytes, and would take 4 of them in place of 3"):
            make_plan(save)

    def test_noise_and_one_stream_have_no_rule(self) -> None:
        turn = dice()
        one = [turn.randbytes(20) + zlib.compress(turn.randbytes(90) * 9) + turn.randbytes(9) for _ in range(3)]
        two = [part + other for part, other in zip(one, reversed(one), strict=True)]
        for contents in (one, two, [turn.randbytes(4000) for _ in range(2)], [b"", b""]):
            self.assertEqual(SealSearch(contents).streams(), [])


class BesideTest(LedgerCase):
    """Checksums that are not in the file they cover, but in one beside it."""

    def test_what_covers_another_file_is_found_in_the_file_beside_it(self) -> None:
        turn = dice()
        seed = turn.randrange(1 << 32)
        turn.seed(seed)
        saves: list[bytes] = []
        beside: dict[str, list[bytes]] = {"a.sum": [], "list.json": [], "other.bin": []}
        for step in range(3):
            plain = json.dumps(company(turn, step)).encode() * 3
            saves.append(b"QUAY" + turn.randbytes(4) + zlib.compress(plain))
            beside["other.bin"].append(turn.randbytes(turn.randrange(300, 500)))
            beside["a.sum"].append(f"{hashlib.sha256(saves[-1]).hexdigest()}  a.sav\n".encode())
            listed = {
                "day": step,
                "plain": hashlib.md5(plain).hexdigest(),
                "other": zlib.crc32(beside["other.bin"][-1]),
            }
            beside["list.json"].append(json.dumps(listed).encode())
        with self.subTest(seed=seed):
            found = {
                (each.held.words, each.over.words, each.finding.algorithm.name)
                for each in SealSearch(saves, beside=beside, called="a.sav").seals()
                if each.finding.sure and each.over is not None
            }
            self.assertLessEqual(
                {
                    ("a.sum", "a.sav", "sha-256"),
                    ("list.json", "zlib at 0x8 (8)", "md5"),
                    ("list.json", "other.bin", "crc-32"),
                },
                found,
            )
            self.assertEqual({held for held, _, _ in found}, {"a.sum", "list.json"})


class MembersTest(LedgerCase):
    """A list of checksums in an archive, over what else is in it."""

    def test_what_covers_another_member_is_found_and_renewed(self) -> None:
        seed = random.randrange(1 << 32)
        turn, packing = random.Random(seed), random.choice((zipfile.ZIP_DEFLATED, zipfile.ZIP_STORED))
        digest = turn.choice((hashlib.sha1, hashlib.sha256, hashlib.md5))

        def write(step: int) -> bytes:
            plain, world = json.dumps(company(turn, step)).encode(), turn.randbytes(turn.randrange(200, 900))
            sums = {"company": digest(plain).hexdigest(), "world": zlib.crc32(world)}
            made = io.BytesIO()
            with zipfile.ZipFile(made, "w", packing) as archive:
                for name, data in (
                    ("company.json", plain),
                    ("world.bin", world),
                    ("sums.json", json.dumps(sums).encode()),
                ):
                    archive.writestr(name, data)
            return made.getvalue()

        def accepts(data: bytes) -> bool:
            with zipfile.ZipFile(io.BytesIO(data)) as archive:
                plain, world, sums = map(archive.read, ("company.json", "world.bin", "sums.json"))
            return json.loads(sums) == {"company": digest(plain).hexdigest(), "world": zlib.crc32(world)}

        contents = [write(step) for step in range(3)]
        with self.subTest(seed=seed, packing=packing):
            found = [each for each in SealSearch(contents).seals() if each.finding.sure]
            covered = sorted((each.over.words if each.over else "", each.finding.algorithm.name) for each in found)
            name = {hashlib.sha1: "sha-1", hashlib.sha256: "sha-256", hashlib.md5: "md5"}[digest]
            self.assertEqual(covered, [("zip member company.json", name), ("zip member world.bin", "crc-32")])
            path = self.folder / "a.sav"
            path.write_bytes(contents[0])
            text = new_template(path, "brinewick", Shared(1, 0))
            for placed in found:
                text = drafts.changed(
                    text, open_save(path, parse_template(text, "t")), partial(seal_found, placed=placed)
                )
            save = open_save(path, parse_template(text, "t"))
            self.assertEqual(
                [state.holds for state in save.seals if state.algorithm != "length"], [True] * 2, text.decode()
            )
            inside = next(
                name for name, spec in save.template.files.items() if spec.layers and "company" in spec.layers[0].member
            )
            save.enter(f"{inside}.company.marks", str(MARKS))
            plan = make_plan(save)
            written = bytes(plan.files[0].patched.read(0, plan.files[0].patched.size))
            self.assertTrue(accepts(written), text.decode())
            with zipfile.ZipFile(io.BytesIO(written)) as archive:
                self.assertEqual(json.loads(archive.read("company.json"))["company"]["marks"], MARKS)

    def test_a_header_in_letters_over_the_stream_as_it_is_packed(self) -> None:
        turn = dice()
        contents = []
        for step in range(4):
            packed = zlib.compress(json.dumps(company(turn, step)).encode() * 6)
            head = json.dumps({"slot": step, "md5": hashlib.md5(packed).hexdigest()}).encode()
            contents.append(struct.pack("<I", len(head)) + head + packed)
        found = [each for each in SealSearch(contents).seals() if each.finding.sure]
        self.assertEqual([each.finding.algorithm.name for each in found], ["md5"])
        self.assertEqual(found[0].covered, (len(contents[0]) - len(packed_in(contents[0])), len(contents[0])))

    def test_the_length_of_a_stream_with_something_behind_it(self) -> None:
        turn = dice()
        more, tail = turn.choice((0, 8)), turn.choice((12, 30))

        def write(step: int) -> bytes:
            plain = json.dumps(company(turn, step)).encode()
            packed = zlib.compress(plain)
            head = b"HOLD" + struct.pack("<III", 3, len(packed) + more, len(plain))
            return head + packed + turn.randbytes(tail) + struct.pack("<I", zlib.crc32(plain))

        def plain_of(data: bytes) -> bytes:
            _, packed, whole = struct.unpack("<III", data[4:16])
            plain = zlib.decompress(data[16 : 16 + packed - more])
            assert len(plain) == whole and len(data) == 16 + packed - more + tail + 4
            assert struct.unpack("<I", data[-4:]) == (zlib.crc32(plain),)
            return plain

        contents = [write(step) for step in range(4)]
        found = [each for each in SealSearch(contents).seals() if each.finding.sure]
        stored = {each.at: each for each in found}
        self.assertEqual(set(stored), {8, 12, len(contents[0]) - 4})
        self.assertEqual(stored[8].covered, (16, len(contents[0]) - tail - 4))
        path = self.folder / "a.sav"
        path.write_bytes(contents[0])
        text = new_template(path, "brinewick", Shared(1, 0))
        for placed in found:
            text = drafts.changed(text, open_save(path, parse_template(text, "t")), partial(seal_found, placed=placed))
        for content in contents:
            path.write_bytes(content)
            save = open_save(path, parse_template(text, "t"))
            save.enter("unpacked.company.name", "Oriel & Søn of the outer quay, " * 4)
            plan = make_plan(save)
            written = bytes(plan.files[0].patched.read(0, plan.files[0].patched.size))
            self.assertIn("outer quay", json.loads(plain_of(written))["company"]["name"])


SPELLED: dict[str, dict[str, Any]] = {
    "compact": {"separators": (",", ":")},
    "spaced": {},
    "indented-2": {"indent": 2},
    "indented-4": {"indent": 4},
    "indented-tab": {"indent": "\t"},
}


class FormsTest(LedgerCase):
    """A hash in a JSON text over one of its values, or over all but itself, as the game's library writes that."""

    def test_every_form_is_that_of_a_library(self) -> None:
        turn = dice()
        for step in range(4):
            value = company(turn, step) | {"empty": [{}, [], ""], "odd": [1.5e9, -0.25, None, True, 'a "b" ø']}
            held = json.dumps(value, indent=turn.choice((None, 1, 3)), ensure_ascii=turn.random() < 0.5)
            for form, how in SPELLED.items():
                for sorts in (False, True):
                    wanted = json.dumps(value, **how, sort_keys=sorts, ensure_ascii=held.isascii()).encode()
                    self.assertEqual(in_form(held.encode(), f"sorted-{form}" if sorts else form), wanted)
        for wrong in (b"", b"{", b'{"a"}', b'{"a": 1,}', b"[1 2]", b"1 2", b"[" * 300, b'{"a": }', b"{1: 2}"):
            with self.assertRaises(AddressError):
                in_form(wrong, "compact")

    def test_what_is_hashed_in_another_form_is_found_and_renewed(self) -> None:
        for _ in range(6):
            seed = random.randrange(1 << 32)
            turn = random.Random(seed)
            form, sorts, held_in = turn.choice(list(SPELLED)), turn.random() < 0.4, turn.choice(list(SPELLED))
            whole, digest = turn.random() < 0.5, turn.choice((hashlib.md5, hashlib.sha256, zlib.crc32))
            first = turn.random() < 0.5

            def hashed(value: Any, form: str = form, sorts: bool = sorts, digest: Any = digest) -> str:
                data = json.dumps(value, **SPELLED[form], sort_keys=sorts).encode()
                return f"{digest(data):08x}" if digest is zlib.crc32 else str(digest(data).hexdigest())

            def write(
                step: int, turn: random.Random = turn, whole: bool = whole, how: str = held_in, first: bool = first
            ) -> bytes:
                inner = company(turn, step)
                value = inner if whole else {"version": 3, "data": inner}
                sealed = {"hash": hashed(inner)}
                return json.dumps(sealed | value if first else value | sealed, **SPELLED[how]).encode()

            def accepts(data: bytes, whole: bool = whole) -> bool:
                value = json.loads(data)
                stored = value.pop("hash")
                return bool(stored == hashed(value if whole else value["data"]))

            with self.subTest(seed=seed, form=form, sorts=sorts, held_in=held_in, whole=whole, first=first):
                contents = [write(step) for step in range(4)]
                found = [each for each in SealSearch(contents).seals() if each.finding.sure]
                self.assertEqual(len(found), 1, [each.in_words for each in found])
                path = self.folder / "a.json"
                path.write_bytes(contents[0])
                text = new_template(path, "brinewick", Shared(1, 0), "json")
                save = open_save(path, parse_template(text, "t"))
                text = drafts.changed(text, save, partial(seal_found, placed=found[0]))
                for content in contents:
                    path.write_bytes(content)
                    save = open_save(path, parse_template(text, "t"))
                    self.assertTrue(save.in_balance, text.decode())
                    save.enter("company.marks" if whole else "data.company.marks", str(MARKS))
                    plan = make_plan(save)
                    written = bytes(plan.files[0].patched.read(0, plan.files[0].patched.size))
                    self.assertTrue(accepts(content) and accepts(written), text.decode())
                    self.assertIn(str(MARKS).encode(), written)


def packed_in(content: bytes) -> bytes:
    return content[4 + struct.unpack("<I", content[:4])[0] :]


class BlocksTest(LedgerCase):
    def test_each_slot_has_its_sum_and_the_inverse_of_it(self) -> None:
        turn, size, count = dice(), random.choice((0x400, 0x800)), 3
        plain = [turn.randbytes(size - 4) for _ in range(count)]
        contents = []
        for _ in range(4):
            content = b""
            for number, slot in enumerate(plain):
                changed = bytearray(slot)
                for _ in range(25):
                    changed[turn.randrange(200)] = turn.randrange(256)
                total = words(bytes(changed), "little", 2) & 0xFFFF
                content += struct.pack("<HH", total, total ^ 0xFFFF) + changed
                plain[number] = bytes(changed)
            contents.append(content)
        found = {each.at: each for each in SealSearch(contents, Hints("sum16")).seals() if each.finding.sure}
        wanted = {at for number in range(count) for at in (number * size, number * size + 2)}
        self.assertEqual(set(found), wanted)
        for at, placed in found.items():
            start = at // size * size + 4
            self.assertEqual(placed.covered, (start, start + size - 4))
            self.assertEqual(placed.finding.algorithm.changed, "inverted" if at % size else "")
        self._one_rule(list(found.values()), contents, size, count, 2)

    def test_each_sector_has_a_folded_sum_in_its_footer(self) -> None:
        turn, count = dice(), 12
        order = turn.choice(("little", "big"))
        contents = []
        for step in range(4):
            content = b""
            for number in range(count):
                data = bytearray(random.Random(number).randbytes(700) + bytes(0x400 - 712))
                for _ in range(20):
                    data[turn.randrange(700)] = turn.randrange(256)
                total = words(bytes(data), order, 4) & 0xFFFFFFFF
                folded = (total >> 16) + (total & 0xFFFF) & 0xFFFF
                content += data + struct.pack("<HH" if order == "little" else ">HH", number + 1, folded)
                content += struct.pack("<II", 0x42726E77, 50 + step)
            contents.append(content)
        found = SealSearch(contents, Hints(f"sum16-of-u32{order[0]}e-folded")).seals()
        sure = {each.at: each for each in found if each.finding.sure}
        self.assertEqual(set(sure), {0x400 * number + 0x3F6 for number in range(count)})
        for at, placed in sure.items():
            self.assertEqual(placed.covered, (at - 0x3F6, at - 2))
            self.assertFalse(placed.finding.holds(damaged(contents[0], at - 300)))
        some = turn.sample(list(sure.values()), 9)  # three in a row are among them, from which the others are known
        self._one_rule(some, contents, 0x400, count, 1)

    def _one_rule(self, found: list[Placed], contents: list[bytes], size: int, count: int, seals: int) -> None:
        """The same seals in each block are one rule, and rows of the template."""
        (row,), rest = in_rows(found)
        self.assertEqual((row.start, row.size, row.count, len(row.seals), rest), (0, size, count, seals, []))
        path = self.folder / "card.sav"
        path.write_bytes(contents[0])
        begun = new_template(path, "brinewick", Shared(1, 0))
        save = open_save(path, parse_template(begun, "t"))
        text = drafts.changed(begun, save, partial(blocks_found, rule=row))
        for content in contents:
            path.write_bytes(content)
            save = open_save(path, parse_template(text, "t"))
            self.assertEqual([state.holds for state in save.seals], [True] * count * seals, text.decode())
        path.write_bytes(damaged(contents[0], size + 100))
        broken = [state.name for state in open_save(path, parse_template(text, "t")).broken_seals]
        self.assertEqual(len(broken), seals)
        self.assertTrue(all(name.startswith("blocks[1].") for name in broken))

    def test_a_checksum_within_a_stream_is_that_of_the_stream(self) -> None:
        turn = dice()
        contents = [gzip.compress(json.dumps(company(turn, step)).encode()) for step in range(4)]
        self.assertEqual(
            [each.in_words for each in SealSearch(contents, Hints("crc-32")).seals() if each.finding.sure], []
        )

    def test_a_trailer_stays_at_the_end_of_a_file_of_another_size(self) -> None:
        turn, kind = dice(), trailer_over_packed()
        contents = [kind.write(turn, step) for step in range(5)]
        found = [
            each for name in kind.algorithms for each in SealSearch(contents, Hints(name)).seals() if each.finding.sure
        ]
        self.assertEqual(sorted(each.finding.algorithm.name for each in found), sorted(kind.algorithms))
        path = self.folder / "a.sav"
        path.write_bytes(contents[0])
        text = new_template(path, "brinewick", Shared(1, 0))
        for placed in found:
            text = drafts.changed(text, open_save(path, parse_template(text, "t")), partial(seal_found, placed=placed))
        for content in (*contents, kind.write(turn, 30)):
            path.write_bytes(content)
            save = open_save(path, parse_template(text, "t"))
            self.assertEqual([state.holds for state in save.seals], [True, True], text.decode())

    def test_a_number_in_front_may_have_more_digits_than_it_had(self) -> None:
        turn, kind = dice(), digits_in_front()
        contents = [kind.write(turn, step) for step in range(5)]
        (placed,) = (each for each in SealSearch(contents, Hints("crc-32")).seals() if each.finding.sure)
        while len((fresh := kind.write(turn, 9)).partition(b"\n")[0]) != 9:
            continue
        self.assertTrue(placed.finding.holds(fresh) and not placed.finding.holds(damaged(fresh, 60)))

    def test_noise_in_texts_explains_nothing(self) -> None:
        turn = dice()
        contents = []
        for step in range(4):
            value = {**company(turn, step), "token": turn.randbytes(16).hex(), "stamp": turn.randrange(1 << 32)}
            contents.append(json.dumps({"data": json.dumps(value), "hash": turn.randbytes(20).hex()}).encode())
        sure = [
            each.in_words
            for name in ("md5", "sha", "crc-32")
            for each in SealSearch(contents, Hints(name)).seals()
            if each.finding.sure
        ]
        self.assertEqual(sure, [])
