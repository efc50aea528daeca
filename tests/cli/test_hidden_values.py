"""The same way through saves in which numbers are hidden under a key that is elsewhere in the save, are followed by
others that a game compares them with, or are packed as runs.
"""

from __future__ import annotations

import base64
import json
import random
import re
import struct
import zlib
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import numpy as np

from faithful_ledger.core.evidence.far_keys import far_keyed_places
from faithful_ledger.core.evidence.places import related_places
from faithful_ledger.core.evidence.shown import readings
from tests.cli.test_from_sightings import Format, SightingsCase, voyage
from tests.support import LedgerCase

Write = Callable[[dict[str, Any]], bytes]
Read = Callable[[bytes], tuple[int, int, str]]
WORD = (1 << 32) - 1


def name_in(raw: bytes) -> str:
    return raw.rstrip(b"\0").decode()


def holds(value: dict[str, Any]) -> bytes:
    """What is behind the numbers of a save, in buffers of one size."""
    crew = b"".join(diver["name"].encode().ljust(10, b"\0") + bytes([diver["air"], 0]) for diver in value["crew"])
    lots = b"".join(lot["item"].encode().ljust(7, b"\0") + bytes([lot["many"]]) for lot in value["lots"])
    return (crew.ljust(600, b"\0") + lots).ljust(1200, b"\0")


# under a key that is elsewhere


def under_key(order: str, behind: bool, of_player: bool) -> tuple[Write, Read]:
    """The key is drawn anew for each save, or for each player; also how many of each lot there are is under its half."""

    def write(value: dict[str, Any]) -> bytes:
        drawn = sum(value["name"].encode()) if of_player else value["seed"]
        key = random.Random(drawn).randrange(1 << 30, 1 << 32) | 0x010101
        lots = b"".join(
            lot["item"].encode().ljust(6, b"\0")[:6] + struct.pack(order + "H", lot["many"] ^ key & 0xFFFF)
            for lot in value["lots"]
        )
        body = holds({**value, "lots": []})[:700] + struct.pack(order + "I", value["marks"] ^ key) + lots
        stored = struct.pack(order + "I", key)
        body = body.ljust(1000, b"\0")
        head = struct.pack(order + "H26s", value["day"], value["name"].encode())
        whole = head + (body + stored if behind else stored + body)
        return whole + struct.pack(order + "I", zlib.crc32(whole))

    def read(content: bytes) -> tuple[int, int, str]:
        assert len(content) == 28 + 1004 + 4
        assert struct.unpack(order + "I", content[-4:])[0] == zlib.crc32(content[:-4])
        key_at, body_at = (1028, 28) if behind else (28, 32)
        (key,) = struct.unpack_from(order + "I", content, key_at)
        day, name = struct.unpack_from(order + "H26s", content)
        for at in range(body_at + 704, body_at + 704 + 8 * 2, 8):
            assert struct.unpack_from(order + "H", content, at + 6)[0] ^ key & 0xFFFF < 100
        return struct.unpack_from(order + "I", content, body_at + 700)[0] ^ key, day, name_in(name)

    return write, read


def sections_write(value: dict[str, Any]) -> bytes:
    """Two halves that take turns, of sections that change places; the key is in the first section, the number in the
    second one.
    """
    halves = []
    for older in (0, 1):
        turn = random.Random(value["seed"] - older)
        key, count = turn.randrange(1 << 30, 1 << 32) | 0x010101, value["day"] - older
        company = struct.pack("<24sI", value["name"].encode(), value["day"] - older) + turn.randbytes(99)
        lots = b"".join(struct.pack("<HH", at, lot["many"] ^ key & 0xFFFF) for at, lot in enumerate(value["lots"], 7))
        purse = turn.randbytes(300) + struct.pack("<I", (value["marks"] - 90 * older) ^ key) + lots
        bodies = (
            company + struct.pack("<I", key),
            purse + struct.pack("<HH", 0, key & 0xFFFF) * 9,
            turn.randbytes(700),
        )
        sections = [
            body.ljust(1012, b"\0") + struct.pack("<HHII", number, sum(body) & 0xFFFF, 0x42726E77, count)
            for number, body in enumerate((*bodies, turn.randbytes(400), b""))
        ]
        halves.append(b"".join(sections[-count % 5 :] + sections[: -count % 5]))
    return b"".join(halves if value["day"] % 2 else halves[::-1])


def sections_read(content: bytes) -> tuple[int, int, str]:
    halves: list[dict[int, bytes]] = [{}, {}]
    counts = [0, 0]
    for at in range(0, 10240, 1024):
        number, total, mark, counts[at // 5120] = struct.unpack_from("<HHII", content, at + 1012)
        halves[at // 5120][number] = body = content[at : at + 1012]
        assert (mark, total) == (0x42726E77, sum(body) & 0xFFFF)
    newer = halves[counts.index(max(counts))]
    assert len(newer) == 5
    name, day = struct.unpack_from("<24sI", newer[0])
    (key,), (hidden,) = struct.unpack_from("<I", newer[0], 127), struct.unpack_from("<I", newer[1], 300)
    return hidden ^ key, day, name_in(name)


# runs


def in_runs(zeros: bool) -> tuple[Write, Read]:
    """Only zeros as runs, or every byte with its count, behind the sizes of both."""

    def pack(run: re.Match[bytes]) -> bytes:
        byte, size = run[0][0], len(run[0])
        if not zeros:
            return bytes([size, byte])
        return run[0] if byte else bytes([0, size])

    def write(value: dict[str, Any]) -> bytes:
        plain = struct.pack("<IIH30s", value["marks"], value["seed"], value["day"], value["name"].encode())
        plain += holds(value)
        packed = re.sub(rb"(.)\1{0,254}", pack, plain, flags=re.DOTALL)
        return b"BWRN" + struct.pack("<II", len(packed), len(plain)) + packed

    def read(content: bytes) -> tuple[int, int, str]:
        packed, size = struct.unpack_from("<II", content, 4)
        assert packed == len(content) - 12
        if zeros:
            plain = re.sub(rb"\0(.)", lambda run: bytes(run[1][0]), content[12:], flags=re.DOTALL)
        else:
            plain = b"".join(content[at + 1 : at + 2] * content[at] for at in range(12, len(content), 2))
        assert len(plain) == size
        marks, _, day, name = struct.unpack_from("<IIH30s", plain)
        return marks, day, name_in(name)

    return write, read


def under_constant(spelled: Callable[[dict[str, Any]], bytes], packed: bool) -> tuple[Write, Read]:
    """Numbers of a text, XORed with one that the game keeps to itself."""

    def write(value: dict[str, Any]) -> bytes:
        text = spelled({**value, "marks": value["marks"] ^ 0x2F7B91, "day": value["day"] ^ 0x5A5A})
        return zlib.compress(text) if packed else text

    def read(content: bytes) -> tuple[int, int, str]:
        text = (zlib.decompress(content) if packed else content).decode()
        marks, day, name = (re.search(rf"\b{key}\W+([\w &]+)", text) for key in ("marks", "day", "company"))
        assert marks and day and name
        return int(marks[1]) ^ 0x2F7B91, int(day[1]) ^ 0x5A5A, name[1]

    return write, read


def as_json(value: dict[str, Any]) -> bytes:
    purse = {"marks": value["marks"], "day": value["day"]}
    return json.dumps({"company": value["name"], "purse": purse, "crew": value["crew"]}, indent=1).encode()


def as_settings(value: dict[str, Any]) -> bytes:
    lots = "".join(f"lot{number}={lot['many']}\n" for number, lot in enumerate(value["lots"]))
    return f"company={value['name']}\nday={value['day']}\nmarks={value['marks']}\n{lots}".encode()


def fraction(order: str, number: float) -> int:
    """The four bytes of a fraction, as a number with a sign."""
    return int(struct.unpack(order + "i", struct.pack(order + "f", number))[0])


def fractions(order: str, *, in_text: bool) -> tuple[Write, Read]:
    """A fraction, of which the bytes are XORed with a number that is beside them, and anew in each save."""

    def write(value: dict[str, Any]) -> bytes:
        key = random.Random(value["seed"]).randrange(100_000, 1 << 31)
        hidden = fraction(order, float(value["marks"])) ^ key
        if in_text:
            purse = {"key": key, "hidden": hidden, "begun": True}
            return json.dumps(
                {"company": value["name"], "day": value["day"], "purse": purse, "crew": value["crew"]}
            ).encode()
        return struct.pack(order + "H26sIi", value["day"], value["name"].encode(), key, hidden) + holds(value)

    def read(content: bytes) -> tuple[int, int, str]:
        if in_text:
            found = json.loads(content)
            key, hidden, _, day, name = *found["purse"].values(), found["day"], found["company"]
        else:
            day, raw, key, hidden = struct.unpack_from(order + "H26sIi", content)
            name = name_in(raw)
        return int(struct.unpack(order + "f", struct.pack(order + "i", hidden ^ key))[0]), day, name

    return write, read


def apart(times: int, constant: int, form: str) -> tuple[Write, Read]:
    """Only the rest to a number, or the number and something, is stored."""

    def write(value: dict[str, Any]) -> bytes:
        head = struct.pack(form, value["day"], value["name"].encode(), times * value["marks"] + constant)
        body = b"BWAP" + head + holds(value)
        return body + struct.pack("<I", zlib.crc32(body))

    def read(content: bytes) -> tuple[int, int, str]:
        assert zlib.crc32(content[:-4]) == int.from_bytes(content[-4:], "little")
        day, name, stored = struct.unpack_from(form, content, 4)
        return (stored - constant) * times, day, name_in(name)

    return write, read


def only_in_json(spell: Callable[[int], Any], of: Callable[[Any], int]) -> tuple[Write, Read]:
    """A number that is nowhere spelled as the game shows it."""

    def write(value: dict[str, Any]) -> bytes:
        kept = {key: value[key] for key in ("name", "day", "crew", "lots")}
        return json.dumps({"purse": spell(value["marks"]), **kept}).encode()

    def read(content: bytes) -> tuple[int, int, str]:
        found = json.loads(content)
        return of(found["purse"]), found["day"], found["name"]

    return write, read


def coded(number: int) -> str:
    return base64.b64encode(str(number).encode()).decode()


HIDDEN = (
    Format(
        "the rest to a number in JSON", *only_in_json(lambda marks: 9_999_999 - marks, lambda rest: 9_999_999 - rest)
    ),
    Format("seven times a number in JSON", *only_in_json(lambda marks: 7 * marks, lambda stored: stored // 7)),
    Format("hexadecimal digits in JSON", *only_in_json(lambda marks: f"0x{marks:08X}", lambda text: int(text, 16))),
    Format("digits in base64 in JSON", *only_in_json(coded, lambda text: int(base64.b64decode(text, validate=True)))),
    Format("the rest to a number alone", *apart(-1, 9_999_999, "<H26sI"), "crc-32"),
    Format("a number below zero alone", *apart(-1, 0, ">H26si"), "crc-32"),
    Format("a number and something alone", *apart(1, 770_123, ">H26sI"), "crc-32"),
    Format("a key in front, for each save", *under_key("<", behind=False, of_player=False), "crc-32"),
    Format("a key behind, for each player", *under_key(">", behind=True, of_player=True), "crc-32"),
    Format("a key in sections that change places", sections_write, sections_read, "sum16"),
    Format("runs of zeros", *in_runs(zeros=True), "length"),
    Format("every byte with its count", *in_runs(zeros=False), "length"),
    Format("JSON under a constant", *under_constant(as_json, packed=False)),
    Format("packed JSON under a constant", *under_constant(as_json, packed=True)),
    Format("settings under a constant", *under_constant(as_settings, packed=False)),
    Format("a fraction and its key", *fractions(">", in_text=False)),
    Format("a fraction and its key in JSON", *fractions("<", in_text=True)),
)


# followed by other numbers


def followed(others: Callable[[int, int], Sequence[int | float]], form: str) -> tuple[Write, Read]:
    """What follows the number is behind all the rest, which differs in size."""

    def write(value: dict[str, Any]) -> bytes:
        head = b"BWSH" + struct.pack("<IH26s", value["marks"], value["day"], value["name"].encode())
        lots = b"".join(lot["item"].encode().ljust(7, b"\0") + bytes([lot["many"]]) for lot in value["lots"])
        return head + lots + struct.pack(form, *others(value["marks"], value["seed"] * 2654435761 & WORD))

    def read(content: bytes) -> tuple[int, int, str]:
        marks, day, name = struct.unpack_from("<IH26s", content, 4)
        *_, last = stored = struct.unpack(form, content[-struct.calcsize(form) :])
        assert tuple(others(marks, last)) == stored, stored
        return marks, day, name_in(name)

    return write, read


def in_json(others: Callable[[int, int], dict[str, Any]]) -> tuple[Write, Read]:
    def write(value: dict[str, Any]) -> bytes:
        purse = others(value["marks"], value["seed"] * 31 & 0xFFFFFF)
        kept = {key: value[key] for key in ("name", "day", "crew", "lots")}
        return json.dumps({**kept, "purse": purse}).encode()

    def read(content: bytes) -> tuple[int, int, str]:
        found = json.loads(content)
        assert found["purse"] == others(found["purse"]["shown"], found["purse"].get("key", 0))
        return found["purse"]["shown"], found["day"], found["name"]

    return write, read


FOLLOWED = (
    Format("the rest to a maximum", *followed(lambda marks, _: (9_999_999 - marks,), "<I")),
    Format("it and something, negative, big-endian", *followed(lambda marks, _: (marks + 770_123, -marks), ">Ii")),
    Format("all of its bits inverted", *followed(lambda marks, _: (~marks & WORD,), "<I")),
    Format("hidden, and the key", *followed(lambda marks, key: (marks ^ key, key), "<II")),
    Format("as a fraction", *followed(lambda marks, _: (float(marks),), "<d")),
    Format("the rest in JSON", *in_json(lambda marks, _: {"shown": marks, "left": 9_999_999 - marks})),
    Format("hidden in JSON", *in_json(lambda marks, key: {"hidden": marks ^ key, "key": key, "shown": marks})),
)


class HiddenTest(SightingsCase):
    def test_what_the_game_showed_is_changed_so_that_it_takes_it(self) -> None:
        self.changed_in_each(HIDDEN)


class FollowedTest(SightingsCase):
    def pinned(self, name: str, seen: Sequence[tuple[Path, object]]) -> bool:
        given = [f"--seen={path}={shown}" for path, shown in seen]
        status, out, words = self.run_command("locate", *given, "--json")
        (chosen := seen[-1][0].with_suffix(".json")).write_text(out)
        if status or name != "Marks":
            return not status and not self.run_command("pin", seen[-1][0], "--place", chosen, "--as", name)[0]
        status, out, words = self.run_command("pin", seen[-1][0], "--place", chosen, "--as", name, "--copies")
        self.assertEqual(status, 0, words)
        self.assertRegex(out, r"marks_2.* the same, and will be kept equal to it")
        return True

    def test_a_number_is_changed_with_those_that_follow_it(self) -> None:
        self.changed_in_each(FOLLOWED)

    def test_without_them_it_is_said_that_they_stay(self) -> None:
        moments, each = voyage(random.Random(random.randrange(1 << 32))), FOLLOWED[0]
        saves = [self.folder / f"{letter}.sav" for letter in "abcd"]
        for path, value in zip(saves, moments, strict=True):
            path.write_bytes(each.write(value))
        given = [f"--seen={path}={value['marks']}" for path, value in zip(saves, moments, strict=True)]
        place = self.folder / "place.json"
        place.write_text(self.run_command("locate", *given, "--json")[1])
        self.assertIn("Another number follows it", self.run_command("locate", *given)[1])
        status, _, words = self.run_command("pin", saves[-1], "--place", place, "--as", "Marks")
        self.assertEqual(status, 0, words)
        self.assertRegex(words, r"note: 0x[0-9A-F]+ \(\d+\) followed it in every copy; --copies pins it as well")


class DecoyTest(LedgerCase):
    def test_no_key_is_found_where_nothing_is_hidden(self) -> None:
        turn = np.random.default_rng(random.randrange(1 << 32))
        for numbers in ((14183, 14696, 15191, 15345), (3, 5, 9, 12), (40_000, 41_000)):
            for _ in range(10):
                base = turn.integers(0, 256, 6000, np.uint8)
                ids = np.arange(4000, 5500, dtype="<u4").view(np.uint8)  # alike in their highest bytes
                clocks = [(1_700_000_000 + 977 * j + np.arange(200)).astype("<u4").view(np.uint8) for j in range(4)]
                saves = [
                    np.concatenate((base, ids, clock, turn.integers(0, 256, 900, np.uint8), np.zeros(2000, np.uint8)))
                    for clock in clocks[: len(numbers)]
                ]
                (seen, *_) = readings([str(number) for number in numbers])
                self.assertEqual(far_keyed_places(saves, seen), [])
                apart = [place for place in related_places(saves, seen) if place.scale == -1 or abs(place.bias) > 256]
                self.assertEqual(apart, [])
