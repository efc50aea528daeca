"""Texts without a template: the first value found by its path, further ones, and the whole looked at."""

from __future__ import annotations

import json
import random
import tracemalloc
import xml.etree.ElementTree as ET
from collections.abc import Callable

from measure import MIB, Line, side_by_side

from faithful_ledger.core.address import parse_path
from faithful_ledger.core.formats import DOCUMENTS, Document
from faithful_ledger.core.source import MemorySource

JSON_ROWS, OTHER_ROWS = 360_000, 60_000


def _rows(count: int) -> list[dict[str, object]]:
    rng = random.Random(12)
    return [
        {"id": n, "name": f"lot {n}", "count": rng.randint(1, 99), "at": {"x": rng.random(), "y": rng.random()}}
        for n in range(count)
    ]


def texts(rounds: int) -> list[Line]:
    lines = _json(rounds)
    rows = _rows(OTHER_ROWS)
    xml = "".join(
        f'<row id="{row["id"]}"><name>{row["name"]}</name><count>{row["count"]}</count></row>\n' for row in rows
    )
    data = f"<save><rows>{xml}</rows></save>".encode()
    lines += _tree("xml", data, "rows.row[30000].count", lambda: ET.fromstring(data), "xml.etree", 0.8, rounds)
    keyed = "".join(f"[row {row['id']}]\nname = {row['name']}\ncount = {row['count']}\n" for row in rows).encode()
    by_lines = lambda: [line.partition(" = ") for line in keyed.decode().splitlines()]  # noqa: E731
    lines += _tree("keyed-lines", keyed, '"row 30000".count', by_lines, "reading by lines", 0.2, rounds)
    return lines


def _json(rounds: int) -> list[Line]:
    data = json.dumps({"rows": _rows(JSON_ROWS)}).encode()
    first = parse_path("rows[180000].count")
    known = DOCUMENTS["json"](MemorySource(data))
    known.at(known.whole, first)
    plain, found, further, checked = side_by_side(
        rounds,
        lambda: json.loads(data),
        lambda: _found(DOCUMENTS["json"](MemorySource(data)), first),
        lambda: known.at(known.whole, parse_path("rows[90000].name")),
        lambda: DOCUMENTS["json"](MemorySource(data)).check(),
    )
    what = f"JSON of {len(data) / MIB:.0f} MiB"
    return [
        Line(f"{what}: first value", f"{found / plain:.2f} × json.loads", "at most 0.3", found <= 0.3 * plain),
        Line(f"{what}: a further value", f"{further / plain:.2f} × json.loads", "at most 0.1", further <= 0.1 * plain),
        Line(f"{what}: full validation", f"{checked / plain:.2f} × json.loads", "at most 1.2", checked <= 1.2 * plain),
    ]


def _found(document: Document, steps: tuple[object, ...]) -> object:
    return document.at(document.whole, steps)  # type: ignore[arg-type]


def _tree(
    kind: str, data: bytes, path: str, unit: Callable[[], object], of: str, goal: float, rounds: int
) -> list[Line]:
    steps = parse_path(path)
    plain, found = side_by_side(rounds, unit, lambda: _found(DOCUMENTS[kind](MemorySource(data)), steps))
    tracemalloc.start()
    document = DOCUMENTS[kind](MemorySource(data))
    _found(document, steps)
    held = tracemalloc.get_traced_memory()[1] / len(data)
    tracemalloc.stop()
    what = f"{kind} of {len(data) / MIB:.0f} MiB"
    return [
        Line(f"{what}: first value", f"{found / plain:.1f} × {of}", f"at most {goal}", found <= goal * plain),
        Line(f"{what}: memory for it", f"{held:.1f} × the text", "at most 2.5", held <= 2.5),
    ]
