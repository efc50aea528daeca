"""Speed and memory as ratios, measured side by side in one run: `python benchmarks/run.py [NAME …] [--write]`.

A NAME chooses what is measured: start, save, huge, handlers, describe, carry, plan, texts, search, places, trials,
seals, align, profile, look; without one, all.

Each line is the median of a measured time over the median of its unit, taken in turns so that other work on the machine
meets both alike. `--write` renews docs/benchmarks.md.
"""

from __future__ import annotations

import argparse
import os
import platform
import random
import shutil
import statistics
import subprocess
import sys
import tempfile
import zlib
from collections.abc import Callable
from pathlib import Path

from carrying import carrying
from describing import describing
from finding import aligning, looking, places, profiling, searching
from measure import MIB, Line, side_by_side, timed
from planning import planning
from seal_trials import any_ranges, any_sums, large, seals, unknown_crcs
from texts import texts
from trials import trials

ROOT = Path(__file__).resolve().parents[1]
COMMAND = [str(Path(sys.executable).with_name("faithful-ledger"))]

# The peak of this program alone; ru_maxrss would begin with the peak of the process that started it.
PEAK = """
def peak():
    with open("/proc/self/status") as status:
        return next(int(line.split()[1]) * 1024 for line in status if line.startswith("VmHWM:"))
"""

MEMORY = (
    PEAK
    + """
import sys
from pathlib import Path
from faithful_ledger.core.shelf import Shelf
from faithful_ledger.core.opening import find_save, open_save
import numpy
shelf = Shelf(Path(sys.argv[2]), Path(sys.argv[2]) / "cache")
shelf.library().templates()
before = peak()
path, template = find_save(Path(sys.argv[1]), shelf.library())
save = open_save(path, template)
assert save.problem is None
hold = save.nodes("hold")[0]
assert hold.count == 1_000_000 and int(hold.column("count").sum()) > 0
print(peak() - before)
"""
)

WINDOW = """
import os, sys
os.environ["QT_QPA_PLATFORM"] = "offscreen"
from pathlib import Path
from faithful_ledger.core.shelf import Shelf
from faithful_ledger.desk.application import application, make_shell
running = application()
shell = make_shell(Shelf(Path(sys.argv[2]), Path(sys.argv[2]) / "cache"))
shell.resize(1280, 800)
assert shell.session.open(Path(sys.argv[1]))
shell.show()
running.processEvents()
os._exit(0)
"""

# A window that has been there for a moment, as `run` leaves it.
WARM = """
import os, sys, time
os.environ["QT_QPA_PLATFORM"] = "offscreen"
from pathlib import Path
from faithful_ledger.core.shelf import Shelf
from faithful_ledger.desk.application import application, make_shell
running = application()
shell = make_shell(Shelf(Path(sys.argv[1]), Path(sys.argv[1]) / "cache"))
shell.resize(1280, 800)
shell.show()
shell.warming.begin()
while not shell.warming.done:
    running.processEvents()
    time.sleep(0.002)
"""

# The longest handler of the first save and of the first showing of each stage.
FIRST = (
    WARM
    + """
worst = 0.0
from faithful_ledger.desk.shell import STAGES
opening = lambda: shell.session.open(Path(sys.argv[2]))
for act in (opening, *(lambda n=n: shell.show_stage(n) for n in range(len(STAGES)))):
    began = time.perf_counter()
    act()
    worst = max(worst, time.perf_counter() - began)
    for _ in range(9):
        running.processEvents()
    shell.session.wait()
print(worst)
os._exit(0)
"""
)

HANDLERS = (
    WARM
    + """
import random, struct
from faithful_ledger.desk.shell import DESCRIBE, GATHER, LOCATE, HISTORY
from faithful_ledger.desk.stages.describe import PROFILE, SEARCH
session, path = shell.session, Path(sys.argv[2])
def work():
    for _ in range(9):
        session.wait(); running.processEvents()
    until = time.monotonic() + 20
    while session.pending and session.plan is None and time.monotonic() < until:  # what posting needs
        session.wait(); running.processEvents(); time.sleep(0.002)
def spent(act):
    began = time.thread_time(); act(); return time.thread_time() - began
session.open(path); work(); session.history.keep("one"); work()
with path.open("r+b") as file: file.seek(5_000_000); file.write(struct.pack("<I", 81_253))
session.reopen(); work(); session.history.keep("two"); work()
shell.show_stage(DESCRIBE); stage = shell.describe; work()
acts = {
    "select": lambda: session.select("file", 40_000_000 + random.randrange(99), 40_000_200),
    "profile": lambda: stage.show_pane(PROFILE),
    "search": lambda: (stage.show_pane(SEARCH), stage.search.line.setText("81253"), stage.search.search()),
    "lanes": lambda: (stage.lanes.setCurrentIndex(1), stage._show_lanes()),
    "type": lambda: session.type_bytes("file", 77, 78, bytes([random.randrange(256)])),
    "go": lambda: shell.head._look("81253"),
    "compare": lambda: shell.show_compare(*session.kept_copies[1::-1]),
    "gather": lambda: shell.show_stage(GATHER),
    "locate": lambda: shell.show_stage(LOCATE),
    "history": lambda: shell.show_stage(HISTORY),
    "keep": lambda: session.history.keep("three"),
    "post": lambda: session.plan is not None and session.history.post("", lambda posting: None),
    "reverse": lambda: session.history.reverse(session.book.history.postings()[0], anyway=True),
    "reopen": lambda: (session.save.tape.clear(), session.reopen()),
    "open": lambda: session.open(path),
    "scroll": lambda: stage.strip.scroll_to(random.randrange(60 << 20)),
}
worst = ("none", 0.0)
for name, act in acts.items():
    act(); work()
    tries = []
    for _ in range(6):
        longest = spent(act)
        for _ in range(4):
            session.wait()
            longest = max(longest, spent(running.processEvents))
        tries.append(longest)
    worst = max(worst, (name, min(tries)), key=lambda each: each[1])
print(*worst)
os._exit(0)
"""
)

HUGE = (
    PEAK
    + WARM
    + """
shell.session.open(Path(sys.argv[2]))
running.processEvents()
before = peak()
began = time.perf_counter()
shell.session.open(Path(sys.argv[3]))
running.processEvents()
shown = time.perf_counter() - began
strip, frames = shell.describe.strip, []
for step in range(400):
    began = time.perf_counter()
    strip.scroll_to(step * (4 << 30) // 400)
    strip.viewport().repaint()
    frames.append(time.perf_counter() - began)
grown = peak() - before
print(shown, grown, sorted(frames)[len(frames) // 2], max(frames))
os._exit(0)
"""
)


def main() -> int:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("names", nargs="*", metavar="NAME", choices=[*GROUPS, []], help=", ".join(GROUPS))
    options.add_argument("--write", action="store_true", help="renew docs/benchmarks.md")
    options.add_argument("--rounds", type=int, default=7)
    given = options.parse_args()
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    with tempfile.TemporaryDirectory(prefix="ledger-bench-") as name:
        folder = Path(name)
        run(sys.executable, "-m", "brinewick", "--saves", str(folder / "small"), "start", "Oriel")()
        lines = [line for group in given.names or GROUPS for line in GROUPS[group](folder, given.rounds)]
    width = max(len(line.what) for line in lines)
    for line in lines:
        print(f"{line.what:{width}}  {line.value:>28}  goal {line.goal:24}  {'reached' if line.reached else 'MISSED'}")
    if given.write and not given.names:
        write(lines)
    return 0 if all(line.reached for line in lines) else 1


def run(*command: str) -> Callable[[], None]:
    environment = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}

    def act() -> None:
        subprocess.run(command, check=True, stdout=subprocess.DEVNULL, env=environment)

    return act


def start(folder: Path, rounds: int) -> list[Line]:
    saves = folder / "small"
    window = run(sys.executable, "-c", WINDOW, str(saves / "harbour.bwk"), str(folder / "data"))
    nothing = run(sys.executable, "-c", "pass")
    unit, version, help_, shown = side_by_side(
        rounds * 2, nothing, run(*COMMAND, "--version"), run(*COMMAND, "--help"), window
    )
    return [
        Line(
            "faithful-ledger --version", f"{version / unit:.2f} × python -c pass", "at most 2.5", version <= 2.5 * unit
        ),
        Line("faithful-ledger --help", f"{help_ / unit:.2f} × python -c pass", "at most 2.5", help_ <= 2.5 * unit),
        Line(
            "the window shows the demo save", f"{shown / unit:.1f} × python -c pass", "at most 30", shown <= 30 * unit
        ),
    ]


def make_large(saves: Path) -> Path:
    """A save of 64 MiB with 1,000,000 lots, written by the game's own writer."""
    from brinewick.company import Lot
    from brinewick.harbour import Harbour
    from brinewick.play import start as new_company

    rng = random.Random(1)
    company = new_company("Oriel & Søn")
    company.hold = [
        Lot(1 + n % 12, rng.randrange(65_536), n % 101, n % 5, n % 365, f"B-{n % 1000}", rng.randrange(1 << 32))
        for n in range(1_000_000)
    ]
    company.chart_width = 10_000
    company.chart = rng.randbytes(10_000 * ((64 * MIB - 24_000_000) // 10_000))
    Harbour(saves).save(company)
    return saves / "harbour.bwk"


def large_save(folder: Path, rounds: int) -> list[Line]:
    path = make_large(folder / "large")
    data = str(folder / "data")
    os.environ["XDG_DATA_HOME"], os.environ["XDG_CACHE_HOME"] = data, data
    size = path.stat().st_size
    content = path.read_bytes()
    copy = path.with_name("copy")

    def copied() -> None:
        subprocess.run(["cp", str(path), str(copy)], check=True)
        subprocess.run(["sync", "-f", str(copy)], check=True)

    crc, check = side_by_side(rounds, lambda: zlib.crc32(content), run(*COMMAND, "check", str(path)))
    ratio = (check - 1) / crc
    memory = subprocess.run([sys.executable, "-c", MEMORY, str(path), data], check=True, capture_output=True, text=True)
    held = int(memory.stdout) / size
    at_once, early = PostOnce(path, folder, early=False), PostOnce(path, folder, early=True)
    cp, _, _ = side_by_side(rounds, copied, at_once, early)
    post, later = (statistics.median(act.seconds[1:]) for act in (at_once, early))
    return [
        Line(
            f"check of {size / MIB:.0f} MiB, 1,000,000 lots",
            f"{check:.2f} s; crc32 {crc * 1000:.0f} ms",
            "6 × crc32 + 1 s",
            ratio <= 6,
        ),
        Line("memory that binding holds", f"{held:.2f} × the file", "at most 1.5", held <= 1.5),
        Line("post of 64 MiB, vault included", f"{post / cp:.2f} × cp and sync", "at most 4", post <= 4 * cp),
        Line("the same from the window", f"{later / cp:.2f} × cp and sync", "at most 2.5", later <= 2.5 * cp),
    ]


class PostOnce:
    """A posting of a save that is open and planned, then written; each time with a fresh vault. In the window the old
    bytes are in the vault `early`, since the first entry.

    `seconds` are those of the posting alone, from the press of the button until it is written, read back and recorded.
    """

    def __init__(self, path: Path, folder: Path, *, early: bool) -> None:
        self.path, self.folder, self.early = path, folder, early
        self.seconds: list[float] = []

    def __call__(self) -> None:
        from faithful_ledger.core.opening import find_save, open_save
        from faithful_ledger.core.posting import make_plan
        from faithful_ledger.core.shelf import Shelf

        number = len(self.seconds) + 1
        shelf = Shelf(self.folder / f"shelf-{self.early}-{number}", self.folder / "cache")
        opened, template = find_save(self.path, shelf.library())
        save = open_save(opened, template)
        save.enter("purse.marks", str(2 * number + self.early))
        plan = make_plan(save)
        book = shelf.open("Brinewick")
        if self.early:
            book.keeping.keep_early(save)
        self.seconds.append(timed(lambda: book.history.post(save, plan)))
        book.close()
        shutil.rmtree(shelf.data)


def huge_file(folder: Path, rounds: int) -> list[Line]:
    path = folder / "huge.bin"
    with path.open("wb") as file:
        file.write(b"begin")
        file.truncate(4 << 30)
    small = folder / "small" / "harbour.bwk"
    done = subprocess.run(
        [sys.executable, "-c", HUGE, str(folder / "data"), str(small), str(path)],
        check=True,
        capture_output=True,
        text=True,
    )
    shown, grown, frame, worst = map(float, done.stdout.split())
    first = subprocess.run(
        [sys.executable, "-c", FIRST, str(folder / "data"), str(small)], check=True, capture_output=True, text=True
    )
    longest = float(first.stdout)
    return [
        Line("first save, first showing of each stage", f"{longest * 1000:.0f} ms", "under 50 ms", longest < 0.05),
        Line("4 GiB file: first bytes in the strip", f"{shown:.3f} s", "under 0.5 s", shown < 0.5),
        Line("4 GiB file: growth while scrolling", f"{grown / MIB:.0f} MiB", "under 100 MiB", grown < 100 * MIB),
        Line(
            "4 GiB file: a scrolled frame",
            f"{frame * 1000:.0f} ms, worst {worst * 1000:.0f} ms",
            "under 50 ms",
            worst < 0.05,
        ),
    ]


def handlers(folder: Path, rounds: int) -> list[Line]:
    """The thread time of the window's handlers with a save of 64 MiB; the least of six tries of each counts."""
    path = folder / "handled.dat"
    path.write_bytes(random.Random(3).randbytes(MIB) * 64)
    done = subprocess.run(
        [sys.executable, "-c", HANDLERS, str(folder / "data"), str(path)], capture_output=True, text=True
    )
    if done.returncode:
        raise RuntimeError(done.stderr)
    name, spent = done.stdout.split()
    return [
        Line(
            "64 MiB: the longest handler", f"{float(spent) * 1000:.0f} ms ({name})", "under 50 ms", float(spent) < 0.05
        )
    ]


GROUPS = {
    "start": start,
    "save": large_save,
    "huge": huge_file,
    "handlers": handlers,
    "describe": lambda folder, rounds: describing(rounds),
    "carry": lambda folder, rounds: carrying(folder, max(rounds // 2, 1)),
    "plan": lambda folder, rounds: planning(max(rounds // 2, 1)),
    "texts": lambda folder, rounds: texts(max(rounds // 2, 1)),
    "search": lambda folder, rounds: searching(max(rounds // 2, 1)),
    "places": lambda folder, rounds: places(max(rounds // 2, 1)),
    "trials": lambda folder, rounds: trials(),
    "seals": lambda folder, rounds: [
        *seals(),
        *large(),
        *unknown_crcs(),
        *any_ranges(max(rounds // 2, 1)),
        *any_sums(1),
    ],
    "align": lambda folder, rounds: aligning(max(rounds // 2, 1)),
    "profile": lambda folder, rounds: profiling(max(rounds // 2, 1)),
    "look": lambda folder, rounds: looking(folder, max(rounds // 2, 1)),
}


def write(lines: list[Line]) -> None:
    rows = "".join(
        f"| {line.what} | {line.value} | {line.goal} | {'yes' if line.reached else 'no'} |\n" for line in lines
    )
    machine = f"{os.cpu_count()} cores, Python {platform.python_version()}, {platform.machine()}"
    (ROOT / "docs" / "benchmarks.md").write_text(
        "# Speed and memory\n\n"
        "Ratios, measured in turns with their units in one run; `python benchmarks/run.py --write` renews this page.\n"
        f"Last run on {machine}. "
        "Places are tried form by form, so the goal of a form is its own with those before it added.\n\n"
        f"| what | measured | goal | reached |\n|---|---|---|---|\n{rows}",
        "utf-8",
    )


if __name__ == "__main__":
    sys.exit(main())
