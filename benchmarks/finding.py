"""How fast values, places, moved bytes and layers are found, on made-up data that looks like a save."""

from __future__ import annotations

import os
import struct
import subprocess
import sys
import time
import zlib
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path
from typing import Any, TypeAlias

import numpy as np
from measure import MIB, Line, side_by_side

from faithful_ledger.core.compare import align
from faithful_ledger.core.evidence import Sighting, locate, parse_sighting
from faithful_ledger.core.evidence.searching import Search
from faithful_ledger.core.profile import profile
from faithful_ledger.core.profile.scrambling import find_scrambling
from faithful_ledger.core.profile.strides import find_strides
from faithful_ledger.core.search import search_number
from faithful_ledger.core.source import MemorySource

Array: TypeAlias = np.ndarray[Any, Any]
CHUNK = 1 << 18


def save_like(rng: np.random.Generator, size: int, block: int = 1 << 20) -> Array:
    """Blocks of dense bytes, small numbers, fractions, digits and zeros in turn."""
    data = np.zeros(size, np.uint8)
    for number, at in enumerate(range(0, size, block)):
        part = data[at : at + block]
        if number % 5 == 0:
            part[:] = rng.integers(0, 256, part.size, dtype=np.uint8)
        elif number % 5 == 1:
            part[:] = rng.integers(0, 1000, part.size // 4, dtype=np.uint32).view(np.uint8)
        elif number % 5 == 2:
            part[:] = (rng.normal(size=part.size // 4) * 100).astype("f4").view(np.uint8)
        elif number % 5 == 3:
            part[:] = rng.integers(48, 58, part.size, dtype=np.uint8)
    return data


def ratio(what: str, unit: float, found: float, name: str, most: float) -> Line:
    return Line(what, f"{found / unit:.2f} × {name}", f"at most {most:g}", found <= most * unit)


def searching(rounds: int) -> list[Line]:
    data = save_like(np.random.default_rng(5), 256 * MIB)
    data[123_456_789:123_456_793] = np.frombuffer(struct.pack("<I", 81_253), np.uint8)
    content = data.tobytes()
    source = MemorySource(content)

    def search() -> None:
        hits = {hit.offset for hit in search_number(source, Fraction(81_253)) if hit.stored_as == "u32le"}
        assert 123_456_789 in hits

    unit, found = side_by_side(rounds, lambda: content.find(b"\x5a\xc3\x91\xe7\x05\x88"), search)
    return [ratio("one value in every storage, 256 MiB", unit, found, "one bytes.find", 3)]


def snapshots(kind: str, count: int = 5, size: int = 64 * MIB) -> list[Array]:
    """Five saves one after the other: `hostile` are all unlike, `usual` differ in one byte of two hundred a step."""
    rng = np.random.default_rng(11)
    if kind == "hostile":
        return [rng.integers(0, 256, size, dtype=np.uint8) for _ in range(count)]
    found = [save_like(rng, size, 1 << 16)]
    for _ in range(count - 1):
        following = found[-1].copy()
        following[rng.integers(0, size, size // 200)] = rng.integers(0, 256, size // 200, dtype=np.uint8)
        found.append(following)
    return found


MARKS = [81_253, 81_311, 68_234, 71_002, 70_003]


def places(rounds: int) -> list[Line]:
    """The forms are tried one after the other, so each goal is that of its form with those before it added."""
    lines = []
    for kind in ("usual", "hostile"):
        data = snapshots(kind)
        out = np.empty(CHUNK, bool)

        def unit(data: list[Array] = data, out: Array = out) -> None:
            for part in data:
                for at in range(0, part.size, CHUNK):
                    np.equal(part[at : at + CHUNK], 7, out=out)

        for what, write, seen, wanted, most in (
            ("known values", lambda v: struct.pack("<I", v), MARKS, ("u32le", 1.0, 0.0), 2.5),
            ("a free bias", lambda v: struct.pack("<I", v + 17), MARKS, ("u32le", 1.0, 17.0), 4.5),
            ("a free scale", lambda v: struct.pack("<I", v * 37), MARKS, ("u32le", 37.0, 0.0), 7.5),
            ("fractions, free scale", lambda v: struct.pack("<f", v * 0.37), MARKS, ("f32le", 0.37, 0.0), 15.5),
            (
                "relations only",
                lambda v: struct.pack("<I", v),
                ["any", "more", "less", "more", "less"],
                ("u32le", 1.0, 0.0),
                20,
            ),
        ):
            if kind == "hostile" and most > 8:
                continue  # where every byte differs, nothing can be thinned out: not what these are for
            for part, value in zip(data, MARKS, strict=True):
                part[3_000_001:3_000_005] = np.frombuffer(write(value), np.uint8)
            sightings = [parse_sighting(str(value)) for value in seen]
            payloads = [part.tobytes() for part in data]

            def engine(
                payloads: list[bytes] = payloads,
                seen: list[Sighting] = sightings,
                wanted: tuple[str, float, float] = wanted,
            ) -> None:
                search = Search(payloads, seen)
                search.run()
                places = [place for place in search.found if place.offsets[0] == 3_000_001]
                told = {(place.stored_as, round(place.scale, 4), place.bias) for place in places}
                assert not told or seen[0].kind == "any" or wanted in told, (told, wanted)
                assert told or seen[0].kind == "any", wanted

            spent, found = side_by_side(rounds, unit, engine)
            lines.append(ratio(f"places in 5 × 64 MiB, {kind}: {what}", spent, found, "one == pass", most))
    return [*lines, *small_places(rounds)]


def small_places(rounds: int) -> list[Line]:
    data = snapshots("usual", size=1 << 16)
    for part, value in zip(data, MARKS, strict=True):
        part[30_001:30_005] = np.frombuffer(struct.pack("<I", value), np.uint8)
    sources = [MemorySource(part.tobytes()) for part in data]
    seen = [parse_sighting(str(value)) for value in MARKS]

    def engine() -> None:
        assert locate(sources, seen).places[0].offsets[0] == 30_001

    (spent,) = side_by_side(rounds * 2, engine)
    return [Line("places in 5 × 64 KiB", f"{spent:.3f} s", "within 0.2 s", spent <= 0.2)]


def shifted(rng: np.random.Generator, data: Array, insertions: int, largest: int) -> tuple[Array, int]:
    """The same bytes with 2000 changed and runs inserted and removed; and how many bytes are as they were."""
    edited = data.copy()
    edited[rng.integers(0, data.size, 2000)] ^= rng.integers(1, 256, 2000, dtype=np.uint8)
    places_ = np.sort(rng.choice(data.size // 8192 - 2, insertions, replace=False) + 1) * 8192
    parts, equal, at = [], 0, 0
    for place in places_.tolist():
        if place < at:
            continue
        parts.append(edited[at:place])
        equal += int(np.count_nonzero(edited[at:place] == data[at:place]))
        size = int(rng.integers(1, largest))
        if rng.random() < 0.5:
            parts.append(rng.integers(0, 256, size, dtype=np.uint8))
            at = place
        else:
            at = place + size
    parts.append(edited[at:])
    equal += int(np.count_nonzero(edited[at:] == data[at:]))
    return np.concatenate(parts), equal


def aligning(rounds: int) -> list[Line]:
    lines = []
    rng = np.random.default_rng(31)
    alike = save_like(rng, 64 * MIB, 1 << 16)
    noise = rng.integers(0, 256, 64 * MIB, dtype=np.uint8)
    moved = np.concatenate([noise[: 8 * MIB], noise[16 * MIB :], noise[8 * MIB : 16 * MIB]])
    for what, a, (b, equal) in (
        ("200 insertions, save-like", alike, shifted(rng, alike, 200, 2000)),
        ("200 insertions, dense", noise, shifted(rng, noise, 200, 2000)),
        ("insertions of a megabyte", noise, shifted(rng, noise, 12, 2 * MIB)),
        ("a block of 8 MiB moved", noise, (moved, noise.size)),
    ):
        unit, found = side_by_side(
            rounds, lambda a=a, b=b: (zlib.crc32(a), zlib.crc32(b)), lambda a=a, b=b: align(a, b)
        )
        got = align(a, b).equal
        reached = found <= 3 * unit and got >= equal
        value = f"{found / unit:.2f} × crc32, {got - equal:+d} equal bytes"
        lines.append(Line(f"alignment of 64 MiB: {what}", value, "at most 3, none fewer than planted", reached))
    return lines


def profiling(rounds: int) -> list[Line]:
    data = save_like(np.random.default_rng(3), 64 * MIB, 1 << 16).tobytes()
    source = MemorySource(data)
    unit, found = side_by_side(rounds, lambda: zlib.crc32(data), lambda: profile(source))
    keys, strides = 0, 0
    for seed in range(100):
        keys += key_found(np.random.default_rng(1000 + seed))
        strides += stride_found(np.random.default_rng(2000 + seed))
    return [
        ratio("profile of 64 MiB", unit, found, "crc32", 10),
        Line("XOR keys found exactly", f"{keys} of 100", "at least 98", keys >= 98),
        Line("strides found exactly", f"{strides} of 100", "at least 98", strides >= 98),
    ]


def key_found(rng: np.random.Generator) -> bool:
    """A key of 1 to 64 bytes over 64 KiB of records with half to three quarters of zeros."""
    plain = np.zeros(1 << 16, np.uint8)
    rows = plain.reshape(-1, 64)
    rows[:, : int(rng.integers(12, 32))] = rng.integers(0, 256, (rows.shape[0], 1), dtype=np.uint8)
    some = rng.random(plain.size) < 0.15
    plain[some] = rng.integers(0, 256, int(some.sum()), dtype=np.uint8)
    key = rng.integers(0, 256, int(rng.integers(1, 65)), dtype=np.uint8)
    if not key.any():
        key[0] = 1
    found = find_scrambling((plain ^ np.resize(key, plain.size)).tobytes())
    period = next(n for n in range(1, key.size + 1) if (np.resize(key[:n], key.size) == key).all())
    return found is not None and found.kind == "xor" and found.key == key[:period].tobytes()


def stride_found(rng: np.random.Generator) -> bool:
    """Records of 12 to 200 bytes somewhere in a mixed file of 1 MiB."""
    data = save_like(rng, MIB, 1 << 16)
    stride = int(rng.integers(12, 201))
    count = int(rng.integers(150_000, 300_000)) // stride
    record = np.zeros((count, stride), np.uint8)
    record[:] = rng.integers(0, 256, stride, dtype=np.uint8) * (rng.random(stride) < 0.5)
    for _ in range(max(stride // 4, 2)):
        record[:, int(rng.integers(stride))] = rng.integers(0, 256, count, dtype=np.uint8)
    at = int(rng.integers(0, data.size - record.size))
    data[at : at + record.size] = record.ravel()
    found = find_strides(data.tobytes())
    return bool(found) and found[0].stride == stride


def looking(folder: Path, rounds: int) -> list[Line]:
    """Looking for saves among a million files, beside `find -newermt`."""
    root = folder / "many"
    old = time.time() - 10 * 24 * 3600
    for number in range(2000):
        inner = root / f"folder-{number:04d}"
        inner.mkdir(parents=True)
        for name in range(500):
            path = inner / f"file-{name:03d}.bin"
            path.touch()
            os.utime(path, (old, old))
    (root / "folder-0100" / "harbour.bwk").write_bytes(b"a save")

    def run(*command: str) -> Callable[[], None]:
        return lambda: subprocess.run(command, check=True, stdout=subprocess.DEVNULL) and None

    command = str(Path(sys.executable).with_name("faithful-ledger"))
    plain = run("find", str(root), "-newermt", "@" + str(int(time.time() - 3600)))
    ours = run(command, "find", str(root), "--since", "1h", "--json")
    nothing = run(command, "--version")
    unit, found, start = side_by_side(rounds, plain, ours, nothing)
    return [ratio("find among a million files, start taken off", unit, found - start, "find -newermt", 3)]
