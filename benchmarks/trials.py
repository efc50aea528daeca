"""How often Locate is right on made-up saves: `python benchmarks/trials.py [--count N] [--seed N] [--only NAME …]`.

Each kind of save has the difficulties of a family of games and is made anew from a seed, with decoys: values that were
the same some of the time, stale copies, counters and clocks. Printed are for each kind how often the true spot was
first, among the first three, how often a wrong one was called the only one left, and the CPU time of an answer.
"""

from __future__ import annotations

import argparse
import gzip
import json
import lzma
import random
import statistics
import struct
import time
import zlib
from collections.abc import Callable, Iterable, Sequence
from typing import NamedTuple

from measure import Line

from faithful_ledger.core.deadline import Deadline
from faithful_ledger.core.evidence import Located, Place, locate, parse_sighting
from faithful_ledger.core.source import MemorySource

AROUND = 12
WORDS = [
    "tin",
    "marks",
    "air",
    "depth",
    "lamp",
    "crew",
    "hold",
    "permit",
    "ledger",
    "gallery",
    "winch",
    "sump",
    "plumb",
    "drift",
    "seam",
    "bell",
    "cage",
    "stope",
]
SECONDS = 10.0


class Trial(NamedTuple):
    """Snapshots, what was seen at each, and the true spot in each: the bytes around it and how far in it begins."""

    saves: list[bytes]
    seen: list[str]
    truth: list[tuple[bytes, int, int]]


class Bytes:
    """A save being written; `mark` remembers where the quantity is."""

    def __init__(self) -> None:
        self.data = bytearray()
        self.at = -1
        self.width = 0

    def add(self, *parts: bytes) -> None:
        for part in parts:
            self.data += part

    def mark(self, raw: bytes) -> None:
        self.at, self.width = len(self.data), len(raw)
        self.data += raw

    def truth(self) -> tuple[bytes, int, int]:
        start = max(self.at - AROUND, 0)
        return bytes(self.data[start : self.at + self.width + AROUND]), self.at - start, self.width


def _numbers(turn: random.Random, count: int) -> list[int]:
    """What somebody sees one after the other: a purse that grows and shrinks."""
    now = turn.choice([turn.randrange(20, 250), turn.randrange(300, 9000), turn.randrange(10_000, 400_000)])
    found = [now]
    while len(found) < count:
        now = max(now + turn.choice([-1, 1]) * turn.randrange(1, max(now // 3, 9)), 1)
        if now not in found:
            found.append(now)
    if found == sorted(found):  # else the largest number so far is the number
        found[-2:] = [found[-1], found[-2]]
    return found


def _spelling(turn: random.Random, values: list[int]) -> Callable[[int], bytes]:
    """How this game stores it: usual widths, either order, a fraction, times ten or a hundred."""
    order = turn.choice("<<<>")
    kind = turn.choice(["I", "I", "I", "i", "H", "Q", "f", "d", "scaled"])
    if kind == "H" and max(values) >= 65536:
        kind = "I"
    if kind == "scaled":
        scale = turn.choice([10, 100])
        return lambda value: struct.pack(order + "I", value * scale)
    return lambda value: struct.pack(order + kind, value)


class Quantity(NamedTuple):
    """What somebody sees at each moment, how it is stored, and for each moment runs with a wrong answer."""

    values: list[int]
    spell: Callable[[int], bytes]
    decoys: list[list[bytes]]


def _quantity(turn: random.Random, count: int = 3) -> Quantity:
    values = _numbers(turn, count)
    spell = _spelling(turn, values)
    return Quantity(values, spell, _decoys(turn, values, spell))


def _word(turn: random.Random) -> bytes:
    return (turn.choice(WORDS) + turn.choice(WORDS)).encode()


def _record(turn: random.Random, number: int) -> bytearray:
    name = _word(turn)
    body = struct.pack("<IHH", number, turn.randrange(90), len(name)) + name
    body += struct.pack("<3f", *(turn.uniform(-90, 90) for _ in range(3))) + bytes(turn.randrange(3, 12))
    body += struct.pack("<IIBB", turn.randrange(4000), 100, turn.randrange(9), turn.randrange(2))
    return bytearray(body)


def _changed(turn: random.Random, records: list[bytearray], share: float) -> None:
    """Other things happen too: positions, counters, single switches."""
    for record in records:
        if turn.random() < share:
            at = turn.randrange(8, len(record))
            record[at] = turn.randrange(256)


def _decoys(turn: random.Random, values: list[int], spell: Callable[[int], bytes]) -> list[list[bytes]]:
    """For each snapshot runs that hold a wrong answer: what was true before, what agrees in all but one copy."""
    rows: list[list[bytes]] = []
    wrong = turn.randrange(len(values))
    for j, value in enumerate(values):
        stale = values[max(j - 1, 0)]
        nearly = value if j != wrong else value + turn.randrange(1, 5)
        rows.append([b"last" + spell(stale), b"most" + spell(max(values[: j + 1])), b"near" + spell(nearly)])
    return rows


def growing(turn: random.Random) -> Trial:
    """Records in front of the value come, go and change their order."""
    values, spell, decoys = _quantity(turn, turn.choice([3, 3, 4]))
    before = [_record(turn, n) for n in range(turn.randrange(600, 2400))]
    behind = [_record(turn, 90_000 + n) for n in range(turn.randrange(300, 1500))]
    own = _record(turn, 77_777)
    saves, truth = [], []
    for j, value in enumerate(values):
        for _ in range(turn.randrange(1, 9)):
            before.insert(turn.randrange(len(before)), _record(turn, 10_000 + turn.randrange(60_000)))
        del before[turn.randrange(len(before))]
        turn.shuffle(before[: len(before) // 3])
        some = before[: len(before) // 3]
        turn.shuffle(some)
        before[: len(some)] = some
        _changed(turn, [*before, *behind], 0.1)
        out = Bytes()
        out.add(b"SLV1", struct.pack("<II", len(before), turn.randrange(1 << 30)))
        out.add(*map(bytes, before))
        out.add(*decoys[j], bytes(own[:-6]))
        out.mark(spell(value))
        out.add(bytes(own[-6:]), *map(bytes, behind))
        saves.append(bytes(out.data))
        truth.append(out.truth())
    return Trial(saves, list(map(str, values)), truth)


def swapping(turn: random.Random) -> Trial:
    """Levels lie in the order of the last visit; the value is in one that moved, with a maximum beside it."""
    values, spell, decoys = _quantity(turn)
    levels = [[_record(turn, 1000 * k + n) for n in range(turn.randrange(200, 900))] for k in range(4)]
    own = turn.randrange(4)
    at = turn.randrange(20, 150)
    maximum = spell(max(values) + turn.choice([0, 10, 100]))
    saves, truth = [], []
    for j, value in enumerate(values):
        order = list(range(4))
        turn.shuffle(order)
        if turn.random() < 0.5:
            levels[order[0]].append(_record(turn, turn.randrange(1 << 20)))
        out = Bytes()
        out.add(b"LVLS", struct.pack("<I", 4))
        for k in order:
            _changed(turn, levels[k], 0.05)
            out.add(b"level\0", struct.pack("<II", k, len(levels[k])))
            for n, record in enumerate(levels[k]):
                if k == own and n == at:
                    out.add(bytes(record[:9]))
                    out.mark(spell(value))
                    out.add(maximum)
                out.add(bytes(record))
            if k == 0:
                out.add(*decoys[j])
        saves.append(bytes(out.data))
        truth.append(out.truth())
    return Trial(saves, list(map(str, values)), truth)


def chained(turn: random.Random) -> Trial:
    """A container of blocks of a fixed size, linked by (length, next); long streams run over several, old ones stay."""
    values, spell, decoys = _quantity(turn)
    block = turn.choice([512, 1024, 4096])
    order = turn.choice("<>")
    parts = [[_record(turn, 1000 * k + n) for n in range(turn.randrange(30, 300))] for k in range(9)]
    own = turn.randrange(9)
    holder = parts[own][turn.randrange(5, 25)]
    free: list[bytes] = []
    saves, truth = [], []
    for j, value in enumerate(values):
        blocks: list[bytes] = [b""]
        heads = []
        marked = Bytes()
        old = list(free)
        free = []
        for k, part in enumerate(parts):
            _changed(turn, part, 0.1)
            if turn.random() < 0.3:
                part.insert(turn.randrange(3), _record(turn, turn.randrange(1 << 20)))
            out = Bytes()
            out.add(struct.pack("<II", k, len(part)))
            for record in part:
                if record is holder:
                    out.add(bytes(record[:9]))
                    out.mark(spell(value))
                out.add(bytes(record))
            if k == own:
                marked = out
            if k == (own + 1) % 9:
                out.add(*decoys[j])
            packed = zlib.compress(bytes(out.data), 6)
            if k == own:
                free.append(packed)
            room = block - 8
            pieces = [packed[s : s + room] for s in range(0, len(packed), room)]
            heads.append(len(blocks))
            for n, piece in enumerate(pieces):
                if old and len(blocks) % 5 == 3:
                    stale = old.pop()
                    stale = stale[: block - 8]
                    blocks.append((struct.pack(order + "II", len(stale), 0) + stale).ljust(block, b"\0"))
                last = n == len(pieces) - 1
                here = len(blocks)
                follows = here + 1 + (1 if old and (here + 1) % 5 == 3 else 0)
                head = struct.pack(order + "II", len(piece), 0 if last else follows * block)
                blocks.append((head + piece).ljust(block, b"\0"))
        index = struct.pack(order + "9I", *(head * block for head in heads))
        blocks[0] = (b"BLKS" + struct.pack(order + "I", block) + index).ljust(block, b"\0")
        saves.append(b"".join(blocks))
        truth.append(marked.truth())
    return Trial(saves, list(map(str, values)), truth)


def _dump(turn: random.Random) -> Callable[[int, bytes, list[bytes]], Bytes]:
    """Structures as a game has them in memory: many zeros, fractions, pointers; one holds the value."""
    count = turn.randrange(800, 3000)
    rows = [
        bytearray(struct.pack("<QIIffffI", 0x7F00_0000_0000 + 64 * n, n % 7, 0, 0, 0, 1, 1, turn.randrange(99)))
        for n in range(count)
    ]
    own = turn.randrange(count)

    def dump(_: int, raw: bytes, decoys: list[bytes]) -> Bytes:
        _changed(turn, rows, 0.03)
        for row in rows:
            if turn.random() < 0.1:
                struct.pack_into("<ff", row, 16, turn.uniform(-50, 50), turn.uniform(-50, 50))
        out = Bytes()
        for n, row in enumerate(rows):
            out.add(bytes(row))
            if n == own:
                out.add(bytes(4 if len(raw) < 8 else 8))
                out.mark(raw)
                out.add(bytes(4))
            if n == 5:
                out.add(*decoys)
        return out

    return dump


def packed_dump(turn: random.Random) -> Trial:
    """A dump of structures, packed with gzip."""
    values, spell, decoys = _quantity(turn)
    dump = _dump(turn)
    outs = [dump(j, spell(value), decoys[j]) for j, value in enumerate(values)]
    saves = [gzip.compress(bytes(out.data), mtime=j) for j, out in enumerate(outs)]
    return Trial(saves, list(map(str, values)), [out.truth() for out in outs])


def shown_rounded(turn: random.Random) -> Trial:
    """What the game shows is a fraction, rounded or cut off, or a share in percent."""
    start = turn.uniform(40, 900)
    exact = [start, start - turn.uniform(2, 9), start - turn.uniform(12, 30), start + turn.uniform(3, 20)]
    how = turn.choice(["round", "floor", "percent"])
    shown = [int(value + 0.5) if how != "floor" else int(value) for value in exact]
    order = turn.choice("<<>")
    dump = _dump(turn)
    stored = [value / 100 if how == "percent" else value for value in exact]
    decoys = [[b"last" + struct.pack(order + "f", shown[max(j - 1, 0)])] for j in range(4)]
    outs = [dump(j, struct.pack(order + "f", value), decoys[j]) for j, value in enumerate(stored)]
    return Trial([bytes(out.data) for out in outs], list(map(str, shown)), [out.truth() for out in outs])


def scrambled(turn: random.Random) -> Trial:
    """Chained to the byte before, by position, rotated, under a key or a generator; base64 by chance in one copy."""
    values, spell, decoys = _quantity(turn)
    dump = _dump(turn)
    outs = [dump(j, spell(value), decoys[j]) for j, value in enumerate(values)]
    sums = ["chain", "chain-plain", "minus", "add", "position", "position-times"]
    kind = turn.choice([*sums, "key", "rotated-key", "generator"])
    factor = turn.choice([3, 5, 7, 13])
    rotation = turn.choice([0, 0, 1, 3, 4])
    key = turn.randbytes(turn.choice([1, 4, 7, 16]))
    multiplier, increment = turn.choice([(1_103_515_245, 12_345), (214_013, 2_531_011), (1_664_525, 1_013_904_223)])
    shift = turn.choice([16, 24])
    saves = []
    for j, out in enumerate(outs):
        plain = bytearray(out.data)
        if kind == "generator":
            saves.append(_generated(plain, multiplier, increment, shift))
            continue
        hidden = bytearray()
        before = stored = 0
        for n, byte in enumerate(plain):
            if kind == "chain":
                now = byte ^ stored
            elif kind == "chain-plain":
                now = byte ^ before
            elif kind == "minus":
                now = (byte - before) & 255
            elif kind == "add":
                now = (byte + stored) & 255
            elif kind == "position":
                now = byte ^ (n & 255)
            elif kind == "position-times":
                now = (byte + n * factor) & 255
            else:
                now = byte ^ key[n % len(key)]
            before, stored = byte, now
            turned = rotation if kind != "key" else 0
            hidden.append((now << turned | now >> (8 - turned)) & 255)
        if j == 1 and kind in ("chain", "key"):
            hidden += b"QmVzdCBzZWVuIGZyb20gdGhlIGdhbGxlcnkgYXQgZHVzazEyMzQ1"
        saves.append(bytes(hidden))
    return Trial(saves, list(map(str, values)), [out.truth() for out in outs])


def _generated(plain: bytearray, multiplier: int, increment: int, shift: int) -> bytes:
    """XORed with a generator that is seeded from the file's first four bytes."""
    number, hidden = int.from_bytes(plain[:4], "little"), plain[:4]
    for byte in plain[4:]:
        number = (number * multiplier + increment) & 0xFFFFFFFF
        hidden.append(byte ^ (number >> shift) & 255)
    return bytes(hidden)


def packed_text(turn: random.Random) -> Trial:
    """A text packed with xz; lists in front grow, the same number stands under other keys."""
    values = _numbers(turn, 3)
    keys = list({f"{turn.choice(WORDS)}_{turn.choice(WORDS)}" for _ in range(40)})
    things = [
        {"id": n, "kind": turn.choice(WORDS), "wear": turn.randrange(100)} for n in range(turn.randrange(100, 900))
    ]
    saves, truth = [], []
    for j, value in enumerate(values):
        for _ in range(turn.randrange(1, 6)):
            things.insert(0, {"id": turn.randrange(1 << 20), "kind": turn.choice(WORDS), "wear": turn.randrange(100)})
        held = {key: turn.randrange(500) if n % 3 else values[max(j - 1, 0)] for n, key in enumerate(keys[1:])}
        tree = {"version": 3, "things": things, "stats": held, "purse": {"crew": 3, keys[0]: value}, "clock": j * 977}
        text = json.dumps(tree, indent=turn.choice([1])).encode()
        at = text.rindex(f'"{keys[0]}": {value}'.encode()) + len(keys[0]) + 4
        out = Bytes()
        out.add(text[:at])
        out.mark(str(value).encode())
        out.add(text[at + out.width :])
        saves.append(lzma.compress(text))
        truth.append(out.truth())
    return Trial(saves, list(map(str, values)), truth)


def small_numbers(turn: random.Random) -> Trial:
    """A number below 20 in one byte, among records that move; seen at five moments."""
    values = [turn.randrange(1, 20) for _ in range(5)]
    records = [_record(turn, n) for n in range(turn.randrange(300, 1200))]
    own = turn.randrange(40, 200)
    holder = records[own]
    at = len(holder) - 9
    saves, truth = [], []
    for j, value in enumerate(values):
        _changed(turn, [record for record in records if record is not holder], 0.05)
        if j:
            records.insert(turn.randrange(30), _record(turn, 5000 + j))
        out = Bytes()
        out.add(b"HLD0", struct.pack("<I", len(records)))
        for record in records:
            if record is holder:
                out.add(bytes(record[:at]))
                out.mark(bytes([value]))
                out.add(bytes(record[at + 1 :]))
            else:
                out.add(bytes(record))
        saves.append(bytes(out.data))
        truth.append(out.truth())
    return Trial(saves, list(map(str, values)), truth)


def only_relations(turn: random.Random) -> Trial:
    """Nothing but more, less and same is known, at ten moments; the file grows in front of the value."""
    values = [turn.randrange(200, 90_000)]
    said = ["any"]
    for _ in range(9):
        step = turn.choice([-1, -1, 1, 1, 0])
        values.append(max(values[-1] + step * turn.randrange(3, 199), 1))
        said.append("more" if values[-1] > values[-2] else "less" if values[-1] < values[-2] else "same")
    dump = _dump(turn)
    front = [_record(turn, n) for n in range(30)]
    outs = []
    for j, value in enumerate(values):
        front.append(_record(turn, 100 + j))
        body = dump(j, struct.pack("<I", value), [])
        out = Bytes()
        out.add(*map(bytes, front))
        out.add(bytes(body.data[: body.at]))
        out.mark(bytes(body.data[body.at : body.at + 4]))
        out.add(bytes(body.data[body.at + 4 :]))
        outs.append(out)
    return Trial([bytes(out.data) for out in outs], said, [out.truth() for out in outs])


def text_in_sections(turn: random.Random) -> Trial:
    """A binary head, then sections packed with zlib, each with its size in front; the value is in a text in one."""
    values = _numbers(turn, 3)
    names = [_word(turn).decode() + str(n) for n in range(12)]
    own = turn.randrange(12)
    parts = [
        "\n".join(f"{turn.choice(WORDS)}.{n}={turn.randrange(9000)}" for n in range(turn.randrange(40, 300)))
        for _ in names
    ]
    saves, truth = [], []
    for j, value in enumerate(values):
        body, marked = b"", Bytes()
        order = list(range(12))
        turn.shuffle(order)
        for k in order:
            parts[k] += f"\n{turn.choice(WORDS)}.{j}{k}={turn.choice(values)}"
            text = f"[{names[k]}]\n".encode()
            out = Bytes()
            out.add(text)
            if k == own:
                out.add(b"purse.marks=")
                out.mark(str(value).encode())
                out.add(b"\n")
                marked = out
            out.add(parts[k].encode(), b"\n")
            packed = zlib.compress(bytes(out.data), 9)
            body += struct.pack("<II", len(packed), len(out.data)) + packed
        head = b"SECT" + struct.pack("<IId", 12, j, turn.random()) + turn.randbytes(16)
        saves.append(head + body)
        truth.append(marked.truth())
    return Trial(saves, list(map(str, values)), truth)


def large_and_noisy(turn: random.Random) -> Trial:
    """A few MiB: maps that change little, noise that is new each time, and the value in a block behind both."""
    values, spell, decoys = _quantity(turn)
    world = bytearray(turn.randbytes(1 << 12) * 300)
    records = [_record(turn, n) for n in range(900)]
    holder = records[turn.randrange(900)]
    saves, truth = [], []
    for j, value in enumerate(values):
        for _ in range(2000):
            world[turn.randrange(len(world))] = turn.randrange(256)
        _changed(turn, records, 0.2)
        out = Bytes()
        out.add(
            b"WRLD", struct.pack("<II", len(world), j), bytes(world), turn.randbytes(turn.randrange(200_000, 400_000))
        )
        for record in records:
            out.add(bytes(record))
            if record is holder:
                out.mark(spell(value))
        out.add(*decoys[j])
        saves.append(bytes(out.data))
        truth.append(out.truth())
    return Trial(saves, list(map(str, values)), truth)


def named(turn: random.Random) -> Trial:
    """A name the player gives, with its length in front or in a field of fixed size; old letters stay behind it."""
    names = [turn.choice(WORDS).title() + turn.choice(["", " the Elder", "-" + turn.choice(WORDS)]) for _ in range(4)]
    names = list(dict.fromkeys(names))
    while len(names) < 3:
        names.append(turn.choice(WORDS).title() + str(turn.randrange(99)))
    fixed = turn.random() < 0.5
    codec = turn.choice(["utf-8", "utf-16-le"])
    records = [_record(turn, n) for n in range(turn.randrange(100, 700))]
    before = [_record(turn, 3000 + n) for n in range(80)]
    room = bytearray(64)
    saves, truth = [], []
    for j, name in enumerate(names):
        before.insert(0, _record(turn, 9000 + j))
        _changed(turn, [*before, *records], 0.1)
        raw = name.encode(codec)
        out = Bytes()
        out.add(*map(bytes, before))
        if fixed:
            room[: len(raw) + 2] = raw + b"\0\0"
            out.mark(raw)
            out.add(bytes(room[len(raw) :]))
        else:
            out.add(struct.pack("<I", len(raw)))
            out.mark(raw)
        out.add(*map(bytes, records))
        saves.append(bytes(out.data))
        truth.append(out.truth())
    return Trial(saves, names, truth)


KINDS = {
    "growing records": growing,
    "levels that swap": swapping,
    "chained blocks": chained,
    "packed dump": packed_dump,
    "shown rounded": shown_rounded,
    "scrambled": scrambled,
    "packed text": packed_text,
    "small numbers": small_numbers,
    "only relations": only_relations,
    "text in sections": text_in_sections,
    "large and noisy": large_and_noisy,
    "names": named,
}


def is_true(place: Place, found: Located, trial: Trial) -> bool:
    """Whether a place is where the value really is, in every snapshot."""
    inner = found.payloads_of(place)
    contents = [bytes(s.read(0, s.size)) for s in inner] if inner is not None else trial.saves
    for content, offset, (around, lead, width) in zip(contents, place.offsets, trial.truth, strict=True):
        if not any(
            content[at : at + len(around)] == around
            for at in range(max(offset - lead - width + 1, 0), offset - lead + 1)
        ):
            return False
    return True


class Answer(NamedTuple):
    """The rank of the true spot, how many spots there were, whether a wrong one was called settled, CPU seconds."""

    rank: int | None
    spots: int
    misled: bool
    spent: float


def answer(kind: str, seed: int) -> Answer:
    """Ask about one save."""
    trial = KINDS[kind](random.Random(f"{kind} {seed}"))
    seen = list(map(parse_sighting, trial.seen))
    began = time.process_time()
    found = locate([MemorySource(save) for save in trial.saves], seen, end=Deadline(SECONDS))
    spent = time.process_time() - began
    right = [any(is_true(place, found, trial) for place in spot) for spot in found.by_spot]
    rank = right.index(True) + 1 if True in right else None
    return Answer(rank, len(right), found.settled and rank != 1, spent)


def ask_all(count: int, seed: int, kinds: Iterable[str]) -> list[Answer]:
    """Ask about so many saves of each kind, and say what came out."""
    every: list[Answer] = []
    for kind in kinds:
        answers = [answer(kind, seed * 1000 + number) for number in range(count)]
        for number, each in enumerate(answers):
            if each.rank != 1:
                print(f"    {kind} {seed * 1000 + number}: {each.rank} of {each.spots} spots")
        print(f"{kind:18}", summary(answers), flush=True)
        every += answers
    print("all               ", summary(every))
    return every


def summary(answers: Sequence[Answer]) -> str:
    """The figures of some answers in a line."""
    first = sum(each.rank == 1 for each in answers) / len(answers)
    three = sum(each.rank is not None and each.rank <= 3 for each in answers) / len(answers)
    misled = sum(each.misled for each in answers)
    times = [each.spent for each in answers]
    return (
        f"first {first:4.0%}, among three {three:4.0%}, misled {misled}; "
        f"half within {statistics.median(times):.1f} s, all within {max(times):.1f} s"
    )


def trials() -> list[Line]:
    """The lines for docs/benchmarks.md, on seeds that are new in each run."""
    every = ask_all(8, random.SystemRandom().randrange(1 << 20), KINDS)
    first = sum(each.rank == 1 for each in every) / len(every)
    three = sum(each.rank is not None and each.rank <= 3 for each in every) / len(every)
    times = [each.spent for each in every]
    half, slowest = statistics.median(times), max(times)
    return [
        Line("true spot first, of 96 made-up saves", f"{first:.0%}", "at least 90 %", first >= 0.9),
        Line("true spot among three", f"{three:.0%}", "at least 98 %", three >= 0.98),
        Line("half of the answers", f"{half:.1f} s", "within 2 s", half <= 2),
        Line("every answer", f"{slowest:.1f} s", "within 10 s", slowest <= SECONDS),
    ]


if __name__ == "__main__":
    parser = argparse.ArgumentParser()
    parser.add_argument("--count", type=int, default=10)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", nargs="*", default=[])
    options = parser.parse_args()
    ask_all(options.count, options.seed, options.only or KINDS)
