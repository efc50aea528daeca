"""Saves that are folders, or have files beside them, with checksums of one file in another: from numbers that the game
showed to a folder that its own strict reader takes, also of another slot, and of another player.
"""

from __future__ import annotations

import hashlib
import json
import random
import struct
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple

from tests.cli.test_commands import CommandCase
from tests.cli.test_from_sightings import of_plain, plain, voyage

Files = dict[str, bytes]


class Listing(NamedTuple):
    """The file in which the others are listed, as it has to be for these."""

    name: str
    of: Callable[[Files], bytes]
    packed: bool = True


def of_texts(files: Files) -> bytes:
    listed = [{"name": n, "size": len(each), "sha256": hashlib.sha256(each).hexdigest()} for n, each in files.items()]
    return json.dumps({"version": 2, "files": listed}, indent=1).encode()


def of_lines(files: Files) -> bytes:
    return "".join(f"{hashlib.sha1(each).hexdigest()}  {name}\n" for name, each in files.items()).encode()


def of_numbers(files: Files) -> bytes:
    """With a checksum of its own at the end."""
    entries = (struct.pack("<16sII", name.encode(), len(each), zlib.crc32(each)) for name, each in files.items())
    body = b"BWIX" + struct.pack("<I", len(files)) + b"".join(entries)
    return body + struct.pack("<I", zlib.crc32(body))


LISTINGS = (
    Listing("manifest.json", of_texts),
    Listing("manifest.json", of_texts, packed=False),
    Listing("checksums.txt", of_lines),
    Listing("index.bin", of_numbers),
)


class ListingTest(CommandCase):
    def written(self, folder: Path, listing: Listing, value: dict[str, Any]) -> Path:
        folder.mkdir(parents=True)
        turn, body = random.Random(value["seed"]), plain(value)
        files = {
            "company.dat": zlib.compress(body) if listing.packed else body,
            "harbour.dat": bytes(turn.randrange(4) for _ in range(900)),
            "about.json": json.dumps({"name": value["name"], "day": value["day"]}).encode(),
        }
        for name, content in {**files, listing.name: listing.of(files)}.items():
            (folder / name).write_bytes(content)
        return folder

    def taken(self, folder: Path, listing: Listing) -> tuple[int, int, str]:
        """What the game reads, which compares every file with the listing."""
        files = {name: (folder / name).read_bytes() for name in ("company.dat", "harbour.dat", "about.json")}
        self.assertEqual((folder / listing.name).read_bytes(), listing.of(files))
        return of_plain(zlib.decompress(files["company.dat"]) if listing.packed else files["company.dat"])

    def test_a_value_of_one_file_is_changed_with_what_another_lists_of_it(self) -> None:
        for number, listing in enumerate(LISTINGS):
            seed = random.randrange(1 << 32)
            with self.subTest(listing.name, packed=listing.packed, seed=seed):
                self._changed(self.folder / f"game {number}", listing, voyage(random.Random(seed)))

    def _changed(self, game: Path, listing: Listing, moments: list[dict[str, Any]]) -> None:
        slots = [self.written(game / f"slot-{at}", listing, value) for at, value in enumerate(moments)]
        last, value = slots[-1], moments[-1]
        chosen = game / "place.json"
        seen = [f"--seen={slot}={now['marks']}" for slot, now in zip(slots, moments, strict=True)]
        chosen.write_text(json.dumps(self.json_of("locate", *seen)))
        path = self.json_of("pin", last, "--place", chosen, "--as", "Marks")["path"]
        accepted = self.json_of("find-seals", last, *slots[:-1], "--accept")["accepted"]
        self.assertGreaterEqual(len(accepted), 3)
        self.json_of("post", last, "--set", f"{path}={value['marks'] + 100_000}")
        self.assertEqual(self.taken(last, listing), (value["marks"] + 100_000, value["day"], value["name"]))
        # Another player's slot, of which the book knows nothing, and a game that only looks a little like it.
        theirs = {**value, "name": "Wren & Daughters", "marks": 41_234, "lots": value["lots"][:4], "seed": 5}
        another = self.written(game / "slot-9", listing, theirs)
        self.json_of("post", another, "--set", f"{path}=1700")
        self.assertEqual(self.taken(another, listing), (1700, value["day"], "Wren & Daughters"))
        other_game = game / "charts"
        other_game.mkdir()
        for name in ("company.dat", "sounds.bin", "pictures.bin", "notes.txt"):
            (other_game / name).write_bytes((another / "company.dat").read_bytes())
        self.assertIn("no template fits", self.refused(2, "read", other_game / "company.dat"))

    def test_a_checksum_in_a_file_that_is_called_after_the_save(self) -> None:
        for ending in (".sav.md5", ".md5"):
            seed = random.randrange(1 << 32)
            with self.subTest(ending, seed=seed):
                moments, game = voyage(random.Random(seed)), self.folder / f"beside{ending}"
                game.mkdir()
                saves = [game / f"{letter}.sav" for letter in "dabc"]
                for path, value in zip(saves, moments[::-1], strict=True):
                    path.write_bytes(plain(value))
                    (game / f"{path.stem}{ending}").write_text(hashlib.md5(path.read_bytes()).hexdigest())
                chosen = game / "place.json"
                seen = [f"--seen={path}={now['marks']}" for path, now in zip(saves[::-1], moments, strict=True)]
                chosen.write_text(json.dumps(self.json_of("locate", *seen)))
                path = self.json_of("pin", saves[0], "--place", chosen, "--as", "Marks")["path"]
                self.assertTrue(self.json_of("find-seals", *saves, "--accept")["accepted"])
                for save in saves[:2]:  # the other one has its own
                    self.json_of("post", save, "--set", f"{path}=77777")
                    self.assertEqual(of_plain(save.read_bytes())[0], 77_777)
                    said = (game / f"{save.stem}{ending}").read_text()
                    self.assertEqual(said, hashlib.md5(save.read_bytes()).hexdigest())
