"""`python -m tests [--fresh | --seed N] [NAME …]`: every test, or those named, in parallel processes; the last line
counts them. What tests make by chance is the same in every run, so that a result is about the tree; with `--fresh` it is
drawn anew, and `--seed` repeats such a run.

Each module's classes are dealt out to as many processes as there are processors, the longest first; a process ends after
its class, so that tests share no state by accident. A name is a module, a class or a test.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from tests import SEED, STANDING
from tests.support import SHARED, sample

HERE = Path(__file__).parent
LIMIT = 600  # seconds one class may take; a test that waits for ever fails then
ROOM = 4 << 30
MARK = "tests-result: "
DURATIONS = HERE.parent / ".test-durations.json"


def names_of(suite: unittest.TestSuite) -> Iterator[str]:
    """The classes of a suite, or what could not be loaded."""
    for part in suite:
        if isinstance(part, unittest.TestSuite):
            yield from names_of(part)
        else:
            yield part.id() if type(part).__module__ == "unittest.loader" else part.id().rpartition(".")[0]


def run_here(name: str) -> int:
    """Run one name in this process; the last line says what came out."""
    suite = unittest.defaultTestLoader.loadTestsFromName(name)
    result = unittest.TextTestRunner(verbosity=1, stream=sys.stdout).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = len(result.skipped) + len(result.expectedFailures)
    print(MARK + json.dumps([result.testsRun, failed, skipped]), flush=True)
    return 1 if failed else 0


def run_apart(name: str) -> tuple[str, list[int], str, float]:
    """Run one name in a process of its own."""
    began = time.monotonic()
    command = [sys.executable, *(["-X", "dev"] if sys.flags.dev_mode else []), "-m", "tests", "--here", name]
    try:
        done = subprocess.run(
            command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, errors="replace", timeout=LIMIT
        )
        out = done.stdout
    except subprocess.TimeoutExpired as expired:
        out = f"{(expired.stdout or b'').decode(errors='replace')}\n{name} did not end within {LIMIT} s"
    said, _, counted = out.rpartition(MARK)
    try:
        counts = json.loads(counted)
    except ValueError:
        said, counts = out, [1, 1, 0]
    return name, counts, said, time.monotonic() - began


def main(names: list[str]) -> int:
    loader = unittest.defaultTestLoader
    suite = loader.loadTestsFromNames(names) if names else loader.discover(str(HERE), top_level_dir=str(HERE.parent))
    wanted = (
        names if any(name.rpartition(".")[2].startswith("test_") and not _is_module(name) for name in names) else []
    )
    classes = wanted or list(dict.fromkeys(names_of(suite)))
    try:
        known = json.loads(DURATIONS.read_text())
    except (OSError, ValueError):
        known = {}
    classes.sort(key=lambda name: -known.get(name, LIMIT))
    memory = Path("/dev/shm")  # the tests sync many small files; a disk would be waited for
    if "TMPDIR" not in os.environ and os.access(memory, os.W_OK) and shutil.disk_usage(memory).free > ROOM:
        os.environ["TMPDIR"] = str(memory)
    with tempfile.TemporaryDirectory(prefix="ledger-tests-") as shared:
        os.environ[SHARED] = shared
        sample()
        return deal_out(classes, known, whole=not names)


def deal_out(classes: list[str], known: dict[str, float], *, whole: bool) -> int:
    ran = failed = skipped = 0
    with ThreadPoolExecutor(max(os.cpu_count() or 2, 2)) as pool:
        for name, (count, bad, left), said, seconds in pool.map(run_apart, classes):
            ran, failed, skipped = ran + count, failed + bad, skipped + left
            known[name] = round(seconds, 1)
            if bad:
                print(said, flush=True)
            print(f"{name}: {count} run, {bad} failed, {seconds:.1f} s", flush=True)
    if whole:
        DURATIONS.write_text(json.dumps(known, indent=0, sort_keys=True))
    print(f"{max(ran - failed - skipped, 0)} passed, {failed} failed, {skipped} skipped", flush=True)
    return 1 if failed or not ran else 0


def _is_module(name: str) -> bool:
    return (HERE.parent / (name.replace(".", "/") + ".py")).exists()


def _arguments() -> argparse.Namespace:
    parser = argparse.ArgumentParser(prog="./test", description="Run every test, or those named.")
    seeds = parser.add_mutually_exclusive_group()
    seeds.add_argument("--fresh", action="store_true", help="draw anew what tests make by chance")
    seeds.add_argument("--seed", type=int, default=int(os.environ.get(SEED, STANDING)), help="repeat such a run")
    parser.add_argument("--here", action="store_true", help=argparse.SUPPRESS)
    parser.add_argument("names", nargs="*", metavar="NAME", help="a module, a class or a test")
    return parser.parse_args()


if __name__ == "__main__":
    options = _arguments()
    if options.here:
        sys.exit(run_here(options.names[0]))
    seed = random.randrange(1, 1 << 32) if options.fresh else options.seed
    os.environ[SEED] = os.environ["PYTHONHASHSEED"] = str(seed)
    print(f"seed {seed}", flush=True)
    sys.exit(main(options.names))
