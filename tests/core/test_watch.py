"""Watching folders: what a save moment did, told once it has come to rest."""

from __future__ import annotations

import json
import os
import queue
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path

from faithful_ledger.core.errors import FileAccessError
from faithful_ledger.core.find import FileChange, SaveMoment, watch
from faithful_ledger.core.find.watch import BUSY, MANY, QUIET, _Busy, _moments, _states
from tests.support import LedgerCase, play

LONG_ENOUGH = 30.0


class WatchTest(LedgerCase):
    def moments(self, *acts: Callable[[], object]) -> list[SaveMoment]:
        """Watch the folder; each act is done after the moment of the one before was told."""
        found: list[SaveMoment] = []
        stop, ready = threading.Event(), threading.Event()

        def asked() -> bool:
            ready.set()
            return stop.is_set()

        thread = threading.Thread(target=lambda: found.extend(self._collect(asked, found_now)), daemon=True)
        found_now: list[SaveMoment] = []
        thread.start()
        self.assertTrue(ready.wait(LONG_ENOUGH))
        for number, act in enumerate(acts, 1):
            act()
            deadline = time.monotonic() + LONG_ENOUGH
            while len(found_now) < number and time.monotonic() < deadline:
                time.sleep(0.02)
            self.assertGreaterEqual(len(found_now), number, f"no save moment was seen within {LONG_ENOUGH} s")
        stop.set()
        thread.join(LONG_ENOUGH)
        return found_now

    def _collect(self, asked: Callable[[], bool], found: list[SaveMoment]) -> list[SaveMoment]:
        for moment in watch([self.folder], asked):
            found.append(moment)
        return []

    def told(self, moment: SaveMoment) -> list[tuple[str, str, int, int]]:
        return [(file.path.name, file.change, file.size, file.delta) for file in moment.files]

    def test_created_changed_replaced_removed_and_nothing_of_what_came_and_went(self) -> None:
        save, other = self.folder / "harbour.bwk", self.folder / "account.json"
        save.write_bytes(bytes(100))
        other.write_bytes(bytes(10))

        def by_rename() -> None:
            temporary = self.folder / "harbour.tmp"
            temporary.write_bytes(bytes(130))
            temporary.replace(save)

        def two_at_once() -> None:
            with save.open("r+b") as file:
                file.truncate(140)
            (self.folder / "new").mkdir()
            other.unlink()

        def later() -> None:
            (self.folder / "new" / "slot.dat").write_bytes(bytes(7))

        found = self.moments(by_rename, two_at_once, later)
        self.assertEqual(
            [self.told(moment) for moment in found],
            [
                [("harbour.bwk", "replaced", 130, 30)],
                [("account.json", "removed", 0, -10), ("harbour.bwk", "changed", 140, 10)],
                [("slot.dat", "created", 7, 7)],
            ],
        )

    def test_writes_that_belong_together_are_one_moment_told_after_they_rest(self) -> None:
        path = self.folder / "slow.sav"
        path.write_bytes(b"")
        sizes: list[int] = []

        def slowly() -> None:
            with path.open("ab", buffering=0) as file:
                for _ in range(8):
                    file.write(bytes(50))
                    time.sleep(QUIET / 12)
            sizes.append(path.stat().st_size)

        (moment,) = self.moments(slowly)
        self.assertEqual(self.told(moment), [("slow.sav", "changed", 400, 400)])
        self.assertEqual(sizes, [400])

    def test_files_that_are_written_all_the_time_are_told_once_and_then_left_out(self) -> None:
        busy = _Busy()
        log = FileChange(Path("run.log"), "changed", 10, 1)
        save = FileChange(Path("slot.sav"), "changed", 10, 1)
        told = [busy.tell([log], float(second)) for second in range(BUSY + 3)]
        self.assertEqual([len(files) for files in told], [1] * BUSY + [0] * 3)
        self.assertTrue(told[BUSY - 1][0].busy)
        self.assertEqual(busy.tell([log, save], 20.0), [save])
        rare = _Busy()
        self.assertTrue(all(rare.tell([save], second * 90.0) == [save] for second in range(20)))

    def test_after_very_many_writes_what_was_not_told_is_found_all_the_same(self) -> None:
        path = self.folder / "harbour.bwk"
        path.write_bytes(b"old")
        known = dict(_states([self.folder]))
        path.write_bytes(b"newer")
        for number, told in ((MANY + 1, [("changed", 2)]), (MANY - 1, [])):
            written: queue.SimpleQueue[str] = queue.SimpleQueue()
            for name in range(number):  # written and gone again; the kernel's queue ran over before the save's turn
                written.put(str(self.folder / f"gone-{name}"))
            until = time.monotonic() + QUIET + 0.5
            moments = _moments(
                written, dict(known), lambda until=until: time.monotonic() > until, lambda: dict(_states([self.folder]))
            )
            with self.subTest(number=number):
                self.assertEqual([(f.change, f.delta) for moment in moments for f in moment.files], told)

    def test_what_cannot_be_watched_is_told(self) -> None:
        with self.assertRaisesRegex(FileAccessError, "is not a folder; name a folder to watch"):
            list(watch([self.folder / "none"], lambda: True))

    def test_the_command_keeps_every_save_moment(self) -> None:
        saves = self.harbour()
        places = {"XDG_DATA_HOME": str(self.folder / "xdg"), "XDG_CACHE_HOME": str(self.cache)}
        command = [sys.executable, "-m", "faithful_ledger", "watch", str(saves), "--keep", "--json"]
        # A shell starts what it puts into the background with Ctrl+C ignored, and so would the command be.
        with subprocess.Popen(
            command,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            text=True,
            env={**os.environ, **places},
            preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),
        ) as process:
            assert process.stdout is not None
            lines: list[dict[str, object]] = []
            reader = threading.Thread(target=lambda: lines.extend(map(json.loads, process.stdout)), daemon=True)  # type: ignore[arg-type]
            reader.start()
            kept: list[bytes] = []
            deadline = time.monotonic() + LONG_ENOUGH
            while len(kept) < 2 and time.monotonic() < deadline:
                self.assertEqual(play(saves, "sell", "wax plug").status, 0)
                kept.append((saves / "harbour.bwk").read_bytes())
                wanted = time.monotonic() + 3 * QUIET + 1
                while len(lines) < len(kept) and time.monotonic() < wanted:
                    time.sleep(0.05)
                kept = kept[-len(lines) :] if lines else []
            process.send_signal(signal.SIGINT)
            self.assertEqual(process.wait(LONG_ENOUGH), 0)
            reader.join(LONG_ENOUGH)
        self.assertGreaterEqual(len(lines), 2)
        self.assertEqual(set(lines[0]), {"time", "files", "kept"})
        self.assertIsInstance(lines[-1]["kept"], str, "the set of two files and the index are one snapshot")
        book = self.folder / "xdg" / "faithful-ledger" / "books" / "Brinewick"
        self.assertTrue((book / "book.sqlite").exists())
        self.assertTrue(list((book / "vault").rglob("*.zst")))
