"""Seals planted into made-up saves, with fresh seeds: does a fresh edit, renewed by what was found, give what was
meant?
Any algorithm, over the whole, behind a header, before or behind the seal, or from anywhere to anywhere, stored raw, as
digits or base64, inverted or negated; four saves of 1 to 64 KiB, of one size or growing, with decoys that change.
"""

from __future__ import annotations

import random
import struct
import sys
import time
import zlib
from collections.abc import Sequence
from dataclasses import replace
from statistics import median
from typing import NamedTuple

import numpy as np
from measure import Line, side_by_side, timed

from faithful_ledger.core.deadline import Deadline
from faithful_ledger.core.seals import ALGORITHMS, Algorithm
from faithful_ledger.core.seals.crc import Crc
from faithful_ledger.core.seals.finder import Edge, Finding, find_seals
from faithful_ledger.core.seals.finder.places import Place, places
from faithful_ledger.core.seals.finder.ranges import Differences, any_range, chains
from faithful_ledger.core.seals.finder.rings import forget_powers
from faithful_ledger.core.seals.finder.sums import Further, Summing, any_sum, summings
from faithful_ledger.core.seals.finder.unknown import unknown_crc, with_own_start
from faithful_ledger.core.seals.hashes import HASHES
from faithful_ledger.core.seals.sums import SUMS

SIZES = (1024, 3000, 8192, 20_000, 65_536)
SAVES = 4
FIRST, ALL = 2.0, 20.0  # seconds
EDITS = 4
FOLLOWED = ("djb2", "times-31", "times-65599")


class Planted(NamedTuple):
    """Saves with a seal, as it was planted."""

    saves: list[bytes]
    seal: Finding


class Outcome(NamedTuple):
    """Whether what was found renews as it was planted; whether something wrong was called sure; seconds of CPU."""

    right: bool
    wrong_sure: int
    seconds: float
    first: float


def _body(turn: random.Random, size: int) -> bytearray:
    kind = turn.choice(["records", "records", "records", "noise", "text"])
    if kind == "noise":
        return bytearray(turn.randbytes(size))
    if kind == "text":
        words = [b"brass lamp", b"hemp line", b"bell", b"Oriel", b"Tamsin", b"\n", b" = ", b"1340"]
        return bytearray(b" ".join(turn.choices(words, k=size // 4))[:size].ljust(size, b" "))
    rows = (struct.pack("<IHHf", turn.randrange(900), n % 50, turn.randrange(3), n / 7) for n in range(size // 12 + 1))
    return bytearray(b"".join(rows)[:size])


def plant(turn: random.Random, sizes: Sequence[int] = SIZES) -> Planted:
    """Four saves of one game."""
    size = turn.choice(sizes)
    name = turn.choice(sorted(ALGORITHMS))
    algorithm = ALGORITHMS[name]
    grows = turn.random() < 0.25
    anywhere = (
        not grows
        and algorithm.bits >= 16
        and not algorithm.is_digest
        and (name not in HASHES or name in FOLLOWED)
        and (name not in SUMS or SUMS[name].kind != "folded")
        and turn.random() < 0.5
    )
    if not algorithm.is_digest and turn.random() < 0.15:
        algorithm = replace(algorithm, changed=turn.choice(["inverted", "negated"] if name in SUMS else ["inverted"]))
    width = algorithm.bits // 8
    form, taken = _form(turn, algorithm, width)
    header = turn.choice([8, 12, 16, 20, 24, 32, 40, 64])
    at = Edge(turn.choice([0, 4, 8, 12])) if turn.random() < 0.5 else Edge(taken, True)
    word = SUMS[name].word if name in SUMS else 1
    behind = at.offset + taken
    own: str | None = None
    if anywhere:
        start, end = turn.randrange(behind, size // 3), size - taken - turn.randrange(size // 3)
        first, last = Edge(start), Edge(end - (end - start) % word)
        at = Edge(turn.choice([8, size - taken]))
        first = first._replace(offset=max(first.offset, 8 + taken))
        last = Edge(last.offset - (last.offset - first.offset) % word)
    elif turn.random() < 0.3:
        first, last = Edge(0), Edge(0, True)
        own = turn.choice(["zeros", "zeros", "left out", "FF"]) if word == 1 else "zeros"
    elif at.from_end:
        first, last = Edge(turn.choice([0, header])), at
    else:
        first, last = Edge(turn.choice([behind, max(header, behind)])), Edge(0, True)
    seal = Finding(algorithm, first, last, at, taken, form, own)
    base = _body(turn, size)
    saves = []
    for _ in range(SAVES):
        save = bytearray(base)
        for _ in range(turn.randrange(4, 60)):
            where, count = turn.randrange(size - 4), turn.choice([1, 1, 2, 4])
            save[where : where + count] = turn.randbytes(count)
        if grows:
            more = turn.randrange(0, 200) // 12 * 12
            save[size // 2 : size // 2] = turn.randbytes(more)
        spot = seal.stored.at(len(save))
        save[spot : spot + taken] = b"AAAAAA==" if form == "base64" else bytes(taken)
        for _ in range(2):
            written = seal.written(bytes(save))
            assert written is not None
            save[spot : spot + taken] = written
        saves.append(bytes(save))
    return Planted(saves, seal)


def _form(turn: random.Random, algorithm: Algorithm, width: int) -> tuple[str, int]:
    """How it is stored, and in how many bytes."""
    if algorithm.is_digest:
        return turn.choice([("bytes", width), ("bytes", width), ("hex", 2 * width)])
    spelled = turn.random()
    if spelled < 0.1 and width in (2, 4, 8):
        return turn.choice(["hex", "HEX"]), 2 * width
    if spelled < 0.14 and width == 4:
        return "base64", 8
    order = turn.choice(["le", "le", "be"])
    return (f"u{8 * width}{order}" if width > 1 else "u8"), width


def outcome(planted: Planted, turn: random.Random, seconds: float = 60.0) -> Outcome:
    """What the finder makes of it."""
    begun = time.process_time()
    first = [0.0]

    def report(found: Sequence[Finding]) -> None:
        first[0] = first[0] or time.process_time() - begun

    found = find_seals(planted.saves, end=Deadline(seconds), report=report)
    spent = time.process_time() - begun
    seal = planted.seal
    size = len(planted.saves[0])
    there = seal.stored.at(size)
    near = [
        each for each in found if each.stored.at(size) < there + seal.size and there < each.stored.at(size) + each.size
    ]
    right = bool(near) and _renews(near[0], seal, planted.saves[0], turn)
    wrong = sum(each.sure and not (each in near and _renews(each, seal, planted.saves[0], turn)) for each in found)
    return Outcome(right, wrong, spent, first[0])


def _renews(found: Finding, seal: Finding, save: bytes, turn: random.Random) -> bool:
    """Whether edits of what is covered are renewed as the game would."""
    low, high, at = seal.spans(len(save))
    free = [n for n in (turn.randrange(low, high) for _ in range(60)) if not at - 1 <= n <= at + seal.size]
    for where in free[:EDITS]:
        edited = bytearray(save)
        edited[where] ^= turn.randrange(1, 256)
        wanted = bytearray(edited)
        wanted[at : at + seal.size] = seal.written(bytes(edited)) or b""
        got = bytearray(edited)
        there = found.stored.at(len(save))
        got[there : there + found.size] = found.written(bytes(edited)) or b""
        if got != wanted:
            return False
    return True


def seals(count: int = 40) -> list[Line]:
    """The lines for docs/benchmarks.md, on seeds that are new in each run."""
    outcomes = main(count, random.SystemRandom().randrange(1 << 20))
    right, wrong = sum(each.right for each in outcomes), sum(each.wrong_sure for each in outcomes)
    times, firsts = [each.seconds for each in outcomes], [each.first for each in outcomes if each.first]
    return [
        Line(f"seals renewed, of {count} planted", f"{right / count:.0%}", "at least 95 %", right >= 0.95 * count),
        Line("wrong ones called sure", f"{wrong}", "at most 1 %", wrong <= 0.01 * count),
        Line("half of the first findings", f"{median(firsts):.1f} s", "within 2 s", median(firsts) <= FIRST),
        Line("the whole catalogue, four saves", f"{max(times):.1f} s", "within 20 s", max(times) <= ALL),
    ]


def any_ranges(rounds: int) -> list[Line]:
    """A CRC-32 from anywhere to anywhere, over saves that differ all over, beside sorting twice as many numbers."""
    (chain,) = (each for each in chains("crc-32") if any(way.name == "crc-32" for way, _, _ in each.known))
    lines = []
    for size, count, goal in ((1 << 20, 2, 12), (1 << 20, 3, 12), (16 << 20, 3, 8)):
        turn = random.Random(f"{size} {count}")
        start, end = turn.randrange(16, size // 3), size - turn.randrange(size // 3)
        saves = []
        for _ in range(count):
            save = bytearray(turn.randbytes(size))
            save[4:8] = zlib.crc32(save[start:end]).to_bytes(4, "little")
            saves.append(bytes(save))
        values = tuple(int.from_bytes(save[4:8], "little") for save in saves)
        place = Place(Edge(4), 4, "u32le", 32, values, mixed=True, restless=True)
        keys = np.random.default_rng(size).integers(0, 1 << 32, 2 * size, dtype=np.uint32)

        def search(saves: list[bytes] = saves, place: Place = place, span: tuple[int, int] = (start, end)) -> None:
            forget_powers()
            found = any_range(Differences(saves), place, chain)
            assert span in {each.spans(len(saves[0]))[:2] for each in found}

        unit, spent = side_by_side(rounds, lambda keys=keys: np.sort(keys), search)
        what = f"any range of {size >> 20} MiB, {count} saves that differ all over"
        lines.append(Line(what, f"{spent / unit:.0f} × numpy.sort", f"at most {goal}", spent <= goal * unit))
    return lines


def any_sums(rounds: int) -> list[Line]:
    """Sums, XORs and sums of sums from anywhere to anywhere, in every alignment, beside the same sorting: the slowest
    kind.
    """
    size = 1 << 20
    keys = np.random.default_rng(size).integers(0, 1 << 32, 2 * size, dtype=np.uint32)
    ways: dict[str, list[Summing]] = {}
    for way in summings():
        ways.setdefault(way.name, []).append(way)
    turn = random.Random(9)
    slowest, ratio = "", 0.0
    for name, alignments in ways.items():
        algorithm, width = Algorithm(name), ALGORITHMS[name].bits // 8
        saves = []
        for _ in range(5 if name == "fletcher-16" else 3):  # sums of eight bits say little
            save = bytearray(turn.randbytes(size))
            save[4 : 4 + width] = algorithm([memoryview(save)[4096 : size - 8192]]).to_bytes(width, "little")
            saves.append(bytes(save))
        values = tuple(int.from_bytes(save[4 : 4 + width], "little") for save in saves)
        place = Place(Edge(4), width, f"u{8 * width}le", 8 * width, values, mixed=True, restless=True)

        def search(saves: list[bytes] = saves, place: Place = place, alignments: list[Summing] = alignments) -> None:
            found = Differences(saves)
            every = [each for way in alignments for each in any_sum(found, place, way, Further())]
            assert any(each.spans(size)[:2] == (4096, size - 8192) for each in every)

        unit, spent = side_by_side(rounds, lambda: np.sort(keys), search)
        slowest, ratio = (name, spent / unit) if spent / unit > ratio else (slowest, ratio)
    what = f"any range of 1 MiB, {len(ways)} sums, XORs and sums of sums, every alignment"
    return [Line(what, f"{ratio:.0f} × numpy.sort ({slowest})", "at most 40", ratio <= 40)]


def unknown_crcs(count: int = 100) -> list[Line]:
    """CRCs with parameters that nobody published, from eight saves that differ in less than 512 bytes: all of one size,
    or two of another one, which gives the start and the final XOR.
    """
    turn = random.Random(random.SystemRandom().randrange(1 << 32))
    right, ratios = 0, []
    for number in range(count):
        width, size, grown = turn.choice((16, 32, 32, 64)), turn.choice((3000, 20_000, 65_536)), number % 2 == 1
        reflected = turn.random() < 0.5
        crc = Crc(
            width, turn.getrandbits(width) | 1, turn.getrandbits(width), reflected, reflected, turn.getrandbits(width)
        )
        form = f"u{width}{turn.choice(('le', 'be'))}"
        seal = Finding(Algorithm("crc", crc=crc), Edge(32), Edge(0, True), Edge(8), width // 8, form)
        base, at = bytearray(turn.randbytes(size)), turn.randrange(400, size - 600)
        saves = []
        for each in range(8):
            save = bytearray(base)
            for _ in range(turn.randrange(8, 40)):
                save[at + turn.randrange(500)] = turn.randrange(256)
            if grown and each > 5:
                save[at + 550 : at + 550] = turn.randbytes(7)
            save[8 : 8 + width // 8] = seal.written(bytes(save)) or b""
            saves.append(bytes(save))
        alone = [save for save in saves if len(save) == size]
        place = next(each for each in places(alone) if each.edge.at(size) == 8 and each.form == form)
        began = time.process_time()
        found = max(unknown_crc(Differences(alone), place), key=lambda each: each.bits, default=None)
        solved = with_own_start(found, saves) if found is not None and grown else found
        spent = time.process_time() - began
        if solved is not None and _renews(solved, seal, saves[-1], turn):
            right += 1
        if size == 65_536 and width == 32:
            unit = min(timed(lambda saves=saves: [zlib.crc32(save) for save in saves]) for _ in range(5))
            ratios.append(spent / unit)
    ratio = median(ratios)
    return [
        Line(f"unknown CRCs renewed, of {count}", f"{right}", "at least 98 %", right >= 0.98 * count),
        Line("an unknown CRC-32 of 64 KiB", f"{ratio:.0f} × crc32 over all eight", "at most 100", ratio <= 100),
    ]


def large(seconds: float = 180.0) -> list[Line]:
    """The whole catalogue over four saves of 1 MiB."""
    turn = random.Random(random.SystemRandom().randrange(1 << 32))
    planted = plant(turn, (1 << 20,))
    began = time.process_time()
    find_seals(planted.saves)
    spent = time.process_time() - began
    return [Line("the whole catalogue, four saves of 1 MiB", f"{spent:.0f} s", "within 180 s", spent <= seconds)]


def main(count: int, seed: int) -> list[Outcome]:
    outcomes = []
    for number in range(count):
        turn = random.Random(f"{seed} {number}")
        planted = plant(turn)
        each = outcome(planted, turn)
        outcomes.append(each)
        if not each.right or each.wrong_sure:
            seal, size = planted.seal, len(planted.saves[0])
            sizes = len({len(save) for save in planted.saves})
            what = "wrong sure" if each.wrong_sure else "missed"
            where = f"{seal.spans(size)} of {size} ({sizes} sizes) {seal.form} own {seal.own}"
            print(f"{number}: {what} {seal.algorithm.name} {seal.algorithm.changed} {where} {each.seconds:.1f} s")
    right = sum(each.right for each in outcomes)
    slowest = max(each.seconds for each in outcomes)
    half = sorted(each.seconds for each in outcomes)[len(outcomes) // 2]
    print(f"{right} of {count} renewed, {sum(each.wrong_sure for each in outcomes)} wrong ones called sure; "
          f"half within {half:.1f} s, all within {slowest:.1f} s")  # fmt: skip
    return outcomes


if __name__ == "__main__":
    given = [int(word) for word in sys.argv[1:]]
    main(given[0] if given else 200, given[1] if len(given) > 1 else random.randrange(1 << 30))
