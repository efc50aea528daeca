"""Plans of many entries and seals, and templates of many fields, against the least that could be done for them."""

from __future__ import annotations

import io
import json
import random
import tempfile
import tracemalloc
import zlib
from pathlib import Path

from measure import Line, side_by_side

from faithful_ledger.core.address import parse_path
from faithful_ledger.core.binding import GroupNode, RowsNode, bind
from faithful_ledger.core.edits import Patched, Replacement
from faithful_ledger.core.entries import Tape
from faithful_ledger.core.formats import JsonDocument
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.save import Save
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.template import loader, parse_template
from faithful_ledger.core.template.loader import load_template, round_trip

HEAD = "ledger: 1\nid: bench\ntitle: Bench\n"


def opened(folder: Path, layout: str, data: bytes) -> Save:
    path = folder / "a.sav"
    path.write_bytes(data)
    text = HEAD + f"files: {{save: {{name: '*.sav', layout: [{layout}]}}}}\n"
    return open_save(path, parse_template(text.encode(), "bench.yaml"))


def planning(rounds: int) -> list[Line]:
    with tempfile.TemporaryDirectory(prefix="ledger-bench-") as name:
        folder = Path(name)
        parts = (_entries, _seals, _template, _rows, _json)
        return [line for part in parts for line in part(folder, rounds)]


def _entries(folder: Path, rounds: int) -> list[Line]:
    count = 100_000
    layout = f"{{rows: r, count: {count}, layout: [{{field: x, as: u32}}, {{field: y, as: u32}}]}}"
    small, large = (opened(folder, layout, bytes(8 * count)) for _ in range(2))

    def enter(save: Save, number: int) -> None:
        save.tape = Tape()
        for index in range(0, count, count // number):
            save.enter(f"r[{index}].x", "7")

    def decode() -> None:
        for index in range(0, count, 5):
            large.value(large.fields(f"r[{index}].x")[0])

    entering, all_entered = side_by_side(rounds, lambda: enter(small, 2000), lambda: enter(large, 20_000))
    few, many, plain = side_by_side(rounds, lambda: make_plan(small), lambda: make_plan(large), decode)
    return [
        Line(
            "entering 20,000 values one by one",
            f"{all_entered / entering:.1f} × entering 2,000",
            "at most 12",
            all_entered <= 12 * entering,
        ),
        Line("plan of 20,000 entries", f"{many / plain:.1f} × decoding these fields", "at most 4", many <= 4 * plain),
        Line("plan of 20,000 entries", f"{many / few:.1f} × a plan of 2,000", "at most 11", many <= 11 * few),
    ]


def _seals(folder: Path, rounds: int) -> list[Line]:
    count, size = 2000, 4096
    body = b"".join(bytes(size) + zlib.crc32(bytes(size)).to_bytes(4, "little") for _ in range(count))
    parts = f"{{group: g, layout: [{{field: x, as: u32}}, {{unknown: u, size: {size - 4}}}]}}"
    seal = "{field: s, as: u32, seal: {algorithm: crc-32, over: g}}"
    save = opened(folder, f"{{rows: r, count: {count}, layout: [{parts}, {seal}]}}", body)
    save.enter("r[*].g.x", "3")

    def compute() -> None:
        for index in range(count):
            node = save.nodes(f"r[{index}].g")[0]
            zlib.crc32(save.main.source.read(node.start, node.end))

    plan, plain = side_by_side(rounds, lambda: make_plan(save), compute)
    return [Line("2,000 changed seals", f"{plan / plain:.1f} × computing each once", "at most 3", plan <= 3 * plain)]


def _template(folder: Path, rounds: int) -> list[Line]:
    fields = "\n".join(f"      - {{field: f{n}, as: u32, label: Field {n}, note: one of many}}" for n in range(2000))
    text = (HEAD + f"files:\n  save:\n    name: '*.sav'\n    layout:\n{fields}\n").encode()
    path = folder / "many.yaml"
    path.write_bytes(text)
    load_template(path, folder / "cache")

    def anew() -> None:
        """As in a process that has not seen this text."""
        loader._PASSED = loader._Passed()
        loader._made.cache_clear()

    def remembered() -> None:
        anew()
        load_template(path, folder / "cache")

    def parsed() -> None:
        anew()
        parse_template(text, "many.yaml")

    plain, read, again = side_by_side(
        max(rounds // 3, 1),
        lambda: round_trip().load(io.BytesIO(text)),
        parsed,
        remembered,
    )
    return [
        Line(
            "template of 2,000 fields",
            f"{read / plain:.2f} × a load by ruamel.yaml",
            "at most 1.5",
            read <= 1.5 * plain,
        ),
        Line(
            "the same, remembered",
            f"{again / plain:.3f} × a load by ruamel.yaml",
            "at most 0.15",
            again <= 0.15 * plain,
        ),
    ]


def _rows(folder: Path, rounds: int) -> list[Line]:
    """A million records of varying size: bound, and bound again after an entry in the middle."""
    rng, count = random.Random(5), 1_000_000
    rows = b"".join(bytes([size]) + bytes(size) + b"\x07" for size in (rng.randint(0, 9) for _ in range(count)))
    layout = "{field: n, as: u32, count_of: r}, {rows: r, count: n, layout: [{field: t, as: text, length: u8}, "
    layout += "{field: k, as: uleb128}]}"
    text = HEAD + f"files: {{save: {{name: '*.sav', layout: [{layout}]}}}}\n"
    spec = parse_template(text.encode(), "bench.yaml").main
    source = MemorySource(count.to_bytes(4, "little") + rows)
    before = bind(spec, source)
    node = before.root.names["r"]
    assert isinstance(node, RowsNode)
    item = node.item(count // 2)
    assert isinstance(item, GroupNode)
    at = item.names["t"].start
    patched = Patched(source, [Replacement(at, at + 1 + rows[at - 4], b"\x0c" + bytes(12))])
    first, again = side_by_side(rounds, lambda: bind(spec, source), lambda: bind(spec, patched, None, before))
    share = again / first
    return [
        Line("a million records after an entry", f"{share:.1%} of the first walk", "at most 5 %", share <= 0.05),
    ]


def _json(folder: Path, rounds: int) -> list[Line]:
    """JSON of 10 MiB: a path found by a key, and the text with its value replaced."""
    rng = random.Random(6)
    crew = [
        {"name": f"diver {n}", "air": rng.randint(0, 99), "gear": [1, 2, 3], "at": {"x": rng.random()}, "note": "a\nb"}
        for n in range(90_000)
    ]
    text = json.dumps({"head": {"version": 1}, "crew": crew, "tail": {"marks": 5}}).encode()
    steps = parse_path("crew[name=diver 45000].at.x")

    def found() -> Patched:
        document = JsonDocument(MemorySource(text))
        span = document.at(document.whole, steps)
        return Patched(document.source, [Replacement(span.start, span.end, b"0.5")])

    plain, path = side_by_side(rounds, lambda: json.loads(text), found)
    tracemalloc.start()
    found()
    held = tracemalloc.get_traced_memory()[1] / len(text)
    tracemalloc.stop()
    size = f"JSON of {len(text) / (1 << 20):.0f} MiB"
    return [
        Line(f"{size}: a value by its path", f"{path / plain:.2f} × json.loads", "at most 0.5", path <= 0.5 * plain),
        Line(f"{size}: memory for it", f"{held:.2f} × the text", "at most 1.5", held <= 1.5),
    ]
