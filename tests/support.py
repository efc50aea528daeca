"""What the tests share: a base that lets no warning pass, samples of the made-up game, and a disk that fails."""

from __future__ import annotations

import atexit
import io
import logging
import os
import random
import shutil
import tempfile
import unittest
import warnings
from collections.abc import Callable
from contextlib import redirect_stderr, redirect_stdout
from functools import cache
from pathlib import Path
from typing import Any, NamedTuple

from brinewick import desktop
from brinewick.__main__ import main as brinewick_main
from brinewick.harbour import Harbour
from faithful_ledger.core.disk import Disk
from faithful_ledger.core.opening import find_save, open_save
from faithful_ledger.core.save import Save
from faithful_ledger.core.shelf import Shelf
from faithful_ledger.core.template import Library, Template, parse_template
from tests import SEED, STANDING

__all__ = [
    "SHARED",
    "Crash",
    "FailingDisk",
    "LedgerCase",
    "Played",
    "company_bytes",
    "dice",
    "hexed",
    "play",
    "sample",
    "template_of",
]


class Played(NamedTuple):
    """What the game answered."""

    status: int
    text: str


def play(saves: Path, *action: str) -> Played:
    """One action of Brinewick, in this process for speed; the game shares no code with what is tested."""
    out = io.StringIO()
    with redirect_stdout(out), redirect_stderr(out):
        status = brinewick_main(["--saves", str(saves), *action])
    return Played(status, out.getvalue().strip())


SHARED = "LEDGER_TESTS_SHARED"  # a folder of all processes of one run: the sample, and templates that were validated


def dice() -> random.Random:
    """A source of chance of its own, the same in every run with the same seed."""
    return random.Random(random.getrandbits(64))


@cache
def sample() -> Path:
    """A played harbour, made once for all processes of a run."""
    shared = os.environ.get(SHARED)
    if shared is None:
        shared = tempfile.mkdtemp(prefix="ledger-tests-")
        atexit.register(shutil.rmtree, shared, ignore_errors=True)
    folder = Path(shared, "harbour")
    if folder.exists():
        return folder
    for action in (["start", "Oriel & Søn"], ["sell", "brass lamp"], ["dive", "Tamsin"], ["save", "2"]):
        assert play(folder, *action).status == 0, action
    return folder


def company_bytes(saves: Path, change: Callable[[Any], None], slot: int = 1) -> bytes:
    """The bytes the game itself would write for a company after `change`, without writing them."""
    company = Harbour(saves).load(slot)
    change(company)
    return desktop.build(company)


def hexed(text: str) -> bytes:
    """Bytes from commented hex: a field a line, everything behind # is a comment."""
    return bytes.fromhex(" ".join(line.partition("#")[0] for line in text.splitlines()))


def template_of(layout: str, *, order: str = "little", records: str = "", rest: str = "") -> Template:
    """A template of one binary file from the lines of its layout."""
    lines = "\n".join(f"      {line}" for line in layout.strip("\n").splitlines())
    text = f"""ledger: 1
id: sample
title: A sample
{records}
files:
  save:
    name: "*.bin"
    order: {order}
    layout:
{lines}
{rest}
"""
    return parse_template(text.encode(), "sample.yaml")


class LedgerCase(unittest.TestCase):
    """A test in a folder of its own, in which an unexpected warning or log line is a failure."""

    def setUp(self) -> None:
        random.seed(f"{os.environ.get(SEED, STANDING)} {self.id()}")
        self.folder = Path(tempfile.mkdtemp(prefix="ledger-test-"))
        self.addCleanup(shutil.rmtree, self.folder, ignore_errors=True)
        catcher = warnings.catch_warnings(record=True)
        self._warnings = catcher.__enter__()
        warnings.simplefilter("always")
        self.addCleanup(self._no_warnings)
        self.addCleanup(catcher.__exit__, None, None, None)
        self._log = _Listener()
        logging.getLogger().addHandler(self._log)
        self.addCleanup(logging.getLogger().removeHandler, self._log)

    def _no_warnings(self) -> None:
        told = [str(warning.message) for warning in self._warnings or ()] + self._log.lines
        self.assertEqual(told, [], "warnings or log lines nobody expected")

    @property
    def cache(self) -> Path:
        """One cache for all tests, so that the shipped templates are validated once."""
        return sample().with_name("cache")

    def shelf(self, disk: Disk | None = None) -> Shelf:
        return Shelf(self.folder / "data", self.cache, disk)

    def library(self) -> Library:
        return Library((), self.cache / "templates")

    def harbour(self) -> Path:
        """A fresh copy of a played harbour: two slots, account, options and index."""
        saves = self.folder / "harbour"
        shutil.copytree(sample(), saves)
        return saves

    def opened(self, saves: Path | None = None) -> Save:
        """Slot 1 of a harbour, open with the shipped template."""
        path, template = find_save((saves or self.harbour()) / "harbour.bwk", self.library())
        return open_save(path, template)

    def open_bytes(self, data: bytes, template: Template) -> Save:
        path = self.folder / "sample.bin"
        path.write_bytes(data)
        return open_save(path, template)

    def tree(self, folder: Path) -> dict[str, bytes]:
        """Every file below a folder with its content."""
        return {str(p.relative_to(folder)): p.read_bytes() for p in sorted(folder.rglob("*")) if p.is_file()}


class _Listener(logging.Handler):
    def __init__(self) -> None:
        super().__init__(logging.WARNING)
        self.lines: list[str] = []

    def emit(self, record: logging.LogRecord) -> None:
        self.lines.append(record.getMessage())


class Crash(BaseException):
    """The machine stops. Not an Exception: nothing may tidy up after it."""


class FailingDisk(Disk):
    """A disk on which operation number `fail_at` (from 1) goes wrong.

    With `crash` the machine stops there: half a write has happened, and every later operation stops as well, so that
    no clean-up runs. Without it the operation raises `error` once and the disk goes on working. Without `swaps` it is
    a file system that cannot exchange two names, and knows no files without one.
    """

    def __init__(
        self, fail_at: int | None = None, *, crash: bool = True, error: int | None = None, swaps: bool = True
    ) -> None:
        self.fail_at, self.crash, self.error, self.swaps = fail_at, crash, error, swaps
        self.count = 0
        self.stopped = False
        self.done: list[str] = []

    def _step(self, name: str, half: Callable[[], object] | None = None) -> None:
        if self.stopped:
            raise Crash(name)
        self.count += 1
        self.done.append(name)
        if self.count != self.fail_at:
            return
        if half is not None:
            half()
        if self.crash:
            self.stopped = True
            raise Crash(name)
        raise OSError(self.error, os.strerror(self.error or 0))

    def create(self, path: Path, mode: int = 0o600) -> int:
        self._step(f"create {path.name}")
        return super().create(path, mode)

    def create_unnamed(self, folder: Path, mode: int) -> int | None:
        self._step(f"create_unnamed in {folder.name}")
        return super().create_unnamed(folder, mode) if self.swaps else None

    def name(self, descriptor: int, path: Path) -> None:
        self._step(f"name {path.name}")
        super().name(descriptor, path)

    def write(self, descriptor: int, data: bytes | memoryview) -> None:
        self._step("write", lambda: os.write(descriptor, memoryview(data)[: len(data) // 2]))
        super().write(descriptor, data)

    def sync(self, descriptor: int) -> None:
        self._step("sync")
        super().sync(descriptor)

    def close(self, descriptor: int) -> None:
        if self.stopped:
            os.close(descriptor)
            raise Crash("close")
        super().close(descriptor)

    def copy_attributes(self, descriptor: int, like: os.stat_result, source: Path) -> None:
        self._step("copy_attributes")
        super().copy_attributes(descriptor, like, source)

    def exchange(self, source: Path, target: Path) -> bool:
        self._step(f"exchange {target.name}")
        return super().exchange(source, target) if self.swaps else False

    def place(self, source: Path, target: Path) -> None:
        self._step(f"place {target.name}")
        super().place(source, target)

    def replace(self, source: Path, target: Path) -> None:
        self._step(f"replace {target.name}")
        super().replace(source, target)

    def remove(self, path: Path) -> None:
        self._step(f"remove {path.name}")
        super().remove(path)

    def make_folder(self, path: Path, *, parents: bool = True) -> None:
        self._step(f"make_folder {path.name}")
        super().make_folder(path, parents=parents)

    def sync_folder(self, path: Path) -> None:
        self._step(f"sync_folder {path.name}")
        super().sync_folder(path)


class PulledOut(FailingDisk):
    """A disk of which one folder is not there any more from an operation on."""

    def __init__(self, at: int, device: Path, away: Path) -> None:
        super().__init__()
        self.at, self.device, self.away, self.is_away = at, device, away, False

    def _step(self, name: str, half: Callable[[], object] | None = None) -> None:
        super()._step(name, half)
        if self.count == self.at:
            self.device.rename(self.away)
            self.is_away = True
