"""Mutated saves, texts, templates, packed streams, journals and archives against commands, plans and changes by hand.

    python benchmarks/fuzz.py [--minutes M] [--seed S] [--only KIND] [--write]

Reported are cases that were tried, exceptions that are not of the product's own family, files that changed although an
error was reported, bytes that were posted and read back otherwise, and cases that took more CPU time or memory than
their input is worth: 1 s and 200 MiB for up to 1 MiB, linear in the size above that. A case is repeated alone before it
counts as over the budget, because a first call loads modules. Cases that fail are kept under /tmp/faithful-fuzz with
their seeds. `--write` renews the figures in docs/reliability.md. The status is 1 if anything was found.
"""

from __future__ import annotations

import argparse
import gc
import gzip
import io
import json
import os
import random
import re
import shutil
import sqlite3
import sys
import tarfile
import tempfile
import time
import traceback
import zipfile
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import closing, redirect_stderr, redirect_stdout, suppress
from functools import partial
from pathlib import Path
from typing import Any, NamedTuple

from making import Corpus, mutated, mutated_text, some_json, some_packed, some_template

ROOT = Path(__file__).resolve().parents[1]
FAILED = Path("/tmp/faithful-fuzz")
CPU, MEMORY = 1.0, 200 << 20
MIB = 1 << 20


class Case(NamedTuple):
    """Something to do: `size` is how large its input is; `run` returns whether it reported an error."""

    kind: str
    size: int
    run: Callable[[], bool]
    watched: Path | None = None
    allowance: float = 0.0  # CPU seconds more, for what writes and syncs files or has a deadline of its own


# cases


def command(*arguments: str | Path) -> Callable[[], bool]:
    def run() -> bool:
        from faithful_ledger.cli.main import main

        with redirect_stdout(io.StringIO()), redirect_stderr(io.StringIO()) as err:
            status = main([str(argument) for argument in arguments])
        if status not in (0, 1, 2, 3):
            raise AssertionError(f"status {status}")
        if status in (2, 3) and "error: " not in err.getvalue():
            raise AssertionError(f"status {status} without an error: {err.getvalue()[:200]}")
        return status in (2, 3)

    return run


def in_family(action: Callable[[], object]) -> Callable[[], bool]:
    def run() -> bool:
        from faithful_ledger.core.errors import LedgerError

        try:
            action()
        except LedgerError as error:
            assert str(error)
            return True
        return False

    return run


def saves(rng: random.Random, corpus: Corpus, folder: Path) -> Iterator[Case]:
    """A game's files, some of them damaged, through the commands."""
    shutil.copytree(corpus.harbour, folder / "saves")
    for path in sorted((folder / "saves").iterdir()):
        if rng.random() < 0.6:
            path.write_bytes(mutated(rng, path.read_bytes()))
    path = folder / "saves" / "harbour.bwk"
    watched = folder / "saves"
    for words in (
        ("read", path, "--json"),
        ("check", path),
        ("post", path, "--set", f"purse.marks={rng.choice((5, 0, 60000, -1, 1 << 40, 'x'))}", "--dry-run"),
        ("post", path, "--set", "purse.marks=5200", "--leave-broken"),
        ("post", path, "--set", "crew[0].name=" + "N" * rng.choice((0, 3, 300))),
        ("keep", path),
        ("profile", path, "--json"),
        ("search", path, "--number", str(rng.choice((0, 1, 1386, 10**30))), "--json"),
        ("compare", path, corpus.harbour / "harbour.bwk", "--json"),
    ):
        yield Case("save", path.stat().st_size, command(*words), watched, 0.5)


def texts(rng: random.Random, corpus: Corpus, folder: Path) -> Iterator[Case]:
    """JSON texts, whole and damaged."""
    text = json.dumps(some_json(rng), ensure_ascii=rng.random() < 0.5, indent=rng.choice((None, 1)))
    if rng.random() < 0.2:
        text = rng.choice(
            ("[" * 3000, '{"a":' * 3000, '"' + "\\n" * 100_000, "[" + "1," * 200_000 + "1]", '"' + "a" * 900_000 + '"')
        )
    data = text.encode("utf-8", "surrogatepass")
    if rng.random() < 0.7:
        data = mutated(rng, data)
    path = folder / "world.json"
    path.write_bytes(data)
    template = folder / "t.yaml"
    template.write_text(
        "ledger: 1\nid: t\ntitle: T\nfiles: {save: {name: '*.json', format: json, layout: [{field: marks, as: number}, "
        "{rows: crew, layout: [{field: a, as: text}]}, {group: a, layout: [{field: b, as: number}]}]}}\n"
    )
    for words in (
        ("read", path, "--template", template, "--json"),
        ("post", path, "--template", template, "--set", f"marks={rng.choice((5, 1.5, '1e5', '9' * 500))}", "--dry-run"),
        ("search", path, "--number", "5", "--json"),
        ("locate", "--seen", f"{path}=5", "--for", "1", "--json"),
        ("profile", path),
    ):
        yield Case("text", len(data), command(*words), folder, 0.5 if words[0] == "locate" else 0.0)


def templates(rng: random.Random, corpus: Corpus, folder: Path) -> Iterator[Case]:
    """Templates of strangers, valid and not, over bytes that may fit them."""
    from faithful_ledger.core.template import parse_template

    text = rng.choice((rng.choice(corpus.templates), some_template(rng)))
    if rng.random() < 0.7:
        text = mutated_text(rng, text)
    data = text.encode("utf-8", "surrogatepass")
    if rng.random() < 0.1:
        data = mutated(rng, data)
    yield Case("template", len(data), in_family(lambda: parse_template(data, "fuzz.yaml")))
    template = folder / "fuzz.yaml"
    template.write_bytes(data)
    path = folder / "a.bin"
    path.write_bytes(
        rng.choice((rng.randbytes(rng.choice((0, 1, 40, 3000))), bytes(500), corpus.files[0].read_bytes()))
    )
    yield Case("template", len(data) + path.stat().st_size, command("check", path, "--template", template), folder)


def plans(rng: random.Random, corpus: Corpus, folder: Path) -> Iterator[Case]:
    """Layouts that are right over random bytes: entries of every kind, planned, posted, read back, reversed."""
    from faithful_ledger.core.opening import open_save
    from faithful_ledger.core.posting import make_plan
    from faithful_ledger.core.save import Save
    from faithful_ledger.core.shelf import Shelf
    from faithful_ledger.core.template import parse_template

    text = some_template(rng).encode()
    path = folder / "a.bin"
    noise = bytes(
        rng.choice((0, 1, 2, 3, 7, 0x41, 0x42, 255, rng.randrange(256))) for _ in range(rng.choice((30, 300, 5000)))
    )
    data = some_packed(rng)[: 1 << 20] if rng.random() < 0.2 else noise
    path.write_bytes(data)
    seed = rng.random()

    def enter(save: Save, choose: random.Random) -> None:
        from faithful_ledger.core.errors import LedgerError

        fields = [field for _, field in zip(range(400), save.all_fields(), strict=False)]
        for _ in range(choose.randint(1, 4)):
            field = choose.choice(fields)
            typed = choose.choice(
                ("0", "1", "77", "-3", "255", "1.5", "Tamsin", "", "none", "x" * 40, "00 FF", "+bit 1")
            )
            try:
                save.enter(field.path, typed, anyway=choose.random() < 0.5)
            except LedgerError:
                continue

    def act() -> None:
        choose = random.Random(seed)
        save = open_save(path, parse_template(text, "fuzz.yaml"))
        errors_before = {found.path for found in save.findings if found.level == "error"}
        if save.problem is not None or next(save.all_fields(), None) is None:
            return
        for field in (field for _, field in zip(range(300), save.all_fields(), strict=False)):
            shown = save.text(field)
            if shown and not field.spec.unknown and field.spec.locked is None and field.spec.derived is None:
                identity(save, field.path, shown)
        enter(save, choose)
        save.renew_broken = choose.choice((True, False))
        if not len(save.tape):
            return
        plan = make_plan(save)
        entries = {entry.path: entry.data for entry in plan.entries}
        if not plan.written or not plan.in_balance:
            return
        shelf = Shelf(folder / "data", folder / "cache")
        try:
            book = shelf.open("fuzz")
            posting = book.history.post(save, plan)
            again = open_save(path, parse_template(text, "fuzz.yaml"))
            broken = {state.name for state in again.broken_seals} - set(plan.left)
            assert not broken, f"planned to be in balance, and {broken} does not hold"
            errors = {found.path for found in again.findings if found.level == "error"}
            assert errors <= errors_before, f"an entry made a new error: {errors - errors_before}"
            for entered, raw in entries.items():
                (node,) = again.nodes(entered)
                assert node.raw == raw, f"{entered} was posted and reads back otherwise"  # type: ignore[union-attr]
            book.history.reverse(posting)
            assert path.read_bytes() == data, "reversed, and not the old bytes"
        finally:
            shelf.close()

    def identity(save: Save, where: str, shown: str) -> None:
        from faithful_ledger.core.errors import LedgerError

        try:
            (entry,) = save.enter(where, shown, anyway=True)
        except LedgerError:
            return
        assert entry.data == entry.node.raw, f"{where}: what is shown ({shown[:40]}) means other bytes"
        save.tape.clear()

    yield Case("plan", len(text) + len(data), in_family(act), None, 0.6)
    assert path.exists()


def described(rng: random.Random, corpus: Corpus, folder: Path) -> Iterator[Case]:
    """Templates that are changed by hand over a save, as in the window, and then handed on."""
    from faithful_ledger.core.describe.draft import Draft, changed
    from faithful_ledger.core.errors import LedgerError
    from faithful_ledger.core.opening import open_save
    from faithful_ledger.core.template import parse_template

    template, path = folder / "fuzz.yaml", folder / "a.bin"
    template.write_text(some_template(rng))
    path.write_bytes(
        rng.randbytes(rng.choice((30, 300, 3000)))
        if rng.random() < 0.3
        else bytes(rng.choices((0, 1, 2, 65, 255), (20, 3, 1, 1, 1), k=400))
    )
    seed = rng.random()

    def act() -> None:
        choose = random.Random(seed)
        text = template.read_bytes()
        save = open_save(path, parse_template(text, "fuzz.yaml"))
        for _ in range(choose.randint(1, 6)):
            before = text
            with suppress(LedgerError):
                text = changed(text, save, partial(some_change, choose, save))
            save = open_save(path, parse_template(text, "fuzz.yaml"))
            assert text == before or save.problem is None or "fit" not in save.problem.what
        template.write_bytes(text)

    def some_change(choose: random.Random, save: Any, draft: Draft) -> None:
        nodes = [node for _, node in zip(range(200), save.all_fields(), strict=False)]
        start = choose.randrange(path.stat().st_size)
        end = start + choose.choice((1, 2, 4, 8, 30))
        if nodes and choose.random() < 0.7:
            node = choose.choice(nodes)
            start, end, place = node.start, node.end, node.path
        else:
            place = choose.choice(("nowhere", "f00", "f01[0]"))
        ends = choose.choice(({"count": 3}, {"count": "f00"}, {"size": 12}, {"ended_by": "FF"}, {}))
        keys = choose.choice(
            ({"as": "u16"}, {"as": "text", "size": 4}, {"as": "u8", "names": {1: "x: #"}}, {"note": "a\nb"})
        )
        name = choose.choice(("marks", "air", "crew", "hold", "f00", "Ümlaut", "yes", "x" * 70))
        match choose.randrange(11):
            case 0:
                draft.add("save", start, end, {"field": name, **keys})
            case 1:
                draft.add("save", start, end, {"unknown": name, "size": end - start})
            case 2:
                draft.add_bits("save", start, end, 1, choose.choice((2, 6, 40)), name)
            case 3:
                draft.rename(place, name)
            case 4:
                draft.set(place, keys)
            case 5:
                draft.remove(place)
            case 6:
                draft.resize(place, start, end + choose.choice((-1, 1, 2)), {"as": choose.choice(("u8", "u32"))})
            case 7:
                draft.group("save", start, end + choose.choice((0, 4)), name)
            case 8:
                draft.repeat("save", start, end, name, ends)
            case 9:
                for end_of_rows in draft.ends("save", start, end):
                    assert end_of_rows.records >= 0
            case _:
                draft.ungroup(place.rpartition(".")[0] or place)

    yield Case("describe", template.stat().st_size, in_family(act), None, 2.0)
    for words in (
        ("template", "check", template),
        ("template", "sheet", template),
        ("template", "reader", template),
        ("template", "witness", template, path),
        ("template", "diff", template, template),
    ):
        yield Case("describe", template.stat().st_size, command(*words), None, 0.5)


def sealed(rng: random.Random, corpus: Corpus, folder: Path) -> Iterator[Case]:
    """Seals looked for in saves, rows of blocks, noise and streams that break."""
    first = rng.choice((corpus.files[0].read_bytes(), rng.randbytes(rng.choice((0, 7, 900))), bytes(5000)))
    if rng.random() < 0.4:
        size = rng.choice((0, 1, 300))
        block = size.to_bytes(4, rng.choice(("little", "big"))) + rng.randbytes(size)
        first = rng.randbytes(8) + block * rng.choice((3, 60))
    paths = [folder / f"{number}.bin" for number in range(rng.choice((1, 3, 4)))]
    for path in paths:
        path.write_bytes(mutated(rng, first) if rng.random() < 0.8 else first)
    size = sum(path.stat().st_size for path in paths)
    words: tuple[str | Path, ...] = ("find-seals", *paths, "--for", "1", "--json")
    for more in rng.sample((("--over", "4..20"), ("--stored-at", "0"), ("--algorithm", "crc"), ("--key", "00FF")), 2):
        yield Case("seal", size, command(*words, *more), folder, 2.5)
    stream = some_packed(rng)
    paths[0].write_bytes(mutated(rng, stream))
    out = folder / "out.bin"
    yield Case("seal", len(stream), command("unwrap", paths[0], "--out", out), None, 1.0)


def packed(rng: random.Random, corpus: Corpus, folder: Path) -> Iterator[Case]:
    """Packed streams, also hostile ones."""
    data = some_packed(rng)
    if rng.random() < 0.6:
        data = mutated(rng, data)
    path = folder / "packed.bin"
    path.write_bytes(data)
    kind = rng.choice(("zlib", "gzip", "bzip2", "xz", "lzma", "zstd", "lz4", "deflate", "base64", "hex", "xor", "add"))
    template = folder / "t.yaml"
    template.write_text(
        "ledger: 1\nid: t\ntitle: T\nfiles:\n  save: {name: '*.bin', layout: []}\n"
        f"  inner: {{inside: save, layers: [{kind}], layout: [{{field: a, as: u32}}, {{field: b, as: u8}}]}}\n"
    )
    for words, more in (
        (("profile", path, "--json"), 1.0),
        (("check", path, "--template", template), 1.0),
        (("post", path, "--template", template, "--set", "inner.a=77", "--dry-run"), 2.0),
        (("search", path, "--number", "77", "--json"), 2.0),
        (("locate", "--seen", f"{path}=77", "--for", "1", "--json"), 1.5),
    ):
        yield Case("packed", len(data), command(*words), folder, more)


def journals(rng: random.Random, corpus: Corpus, folder: Path) -> Iterator[Case]:
    """A journal of an interrupted posting, damaged, beside a save: no command may lose a byte of it."""
    from faithful_ledger.core.book import Book

    path = folder / "saves" / "a.bin"
    path.parent.mkdir()
    path.write_bytes(b"old bytes")
    entry = {"target": str(path), "temporary": str(path.with_name(".a.bin.1.part")), "old": "0" * 64, "new": "1" * 64}
    note = {"state": rng.choice(("ready", "writing")), "record": {"id": "1"}, "files": [entry], "removals": []}
    journal = folder / "book" / "journal" / "1.json"
    journal.parent.mkdir(parents=True)
    text = json.dumps(note)
    journal.write_bytes(
        mutated(rng, text.encode()) if rng.random() < 0.5 else mutated_text(rng, text).encode("utf-8", "replace")
    )
    yield Case("journal", 1000, in_family(lambda: Book(folder / "book").close()), path.parent, 0.5)
    if path.read_bytes() != b"old bytes":
        raise AssertionError("the save changed")


def archives(rng: random.Random, corpus: Corpus, folder: Path) -> Iterator[Case]:
    """Exported snapshots of a stranger."""
    from faithful_ledger.core.book import Book

    out = io.BytesIO()
    name = rng.choice(("harbour.bwk", "../x", "a/b", "/etc/passwd", "", "con\0"))
    content = bytes(rng.choice((10, 5 << 20)))
    about = {
        "ledger": 1,
        "label": rng.choice(("x", 5, None, "y" * 5000)),
        "files": [{"name": name, "role": "save", "sha256": "0" * 64, "mode": 420}],
    }
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(
            "snapshot.json", mutated_text(rng, json.dumps(about)) if rng.random() < 0.5 else json.dumps(about)
        )
        archive.writestr(f"files/{name or 'x'}", content)
    path = folder / "in.zip"
    path.write_bytes(mutated(rng, out.getvalue()) if rng.random() < 0.5 else out.getvalue())

    def act() -> None:
        book = Book(folder / "book")
        try:
            book.keeping.take_in(path, folder / "a.bin")
        finally:
            book.close()

    yield Case("archive", path.stat().st_size, in_family(act), None, 0.5)


OUTLINED = [
    b'// ours\n{marks: 5, name: "x", crew: [1, 2,], /* c */ n: null}\n',
    b'{"marks": 5}\n{"marks": 6}\n',
    b"<?xml version='1.0'?><s v='3'><marks>5</marks><l><i id='1' n='2'/><i id='2'/></l><t><![CDATA[<5>]]></t></s>",
    b"<plist><dict><key>marks</key><integer>5</integer><key>on</key><true/></dict></plist>",
    b'; c\n[Purse]\nmarks=5\nname = "x"   ; ours\n[a.b]\nc[0]=3\nlist=1;2;3\n',
    b"[unit]\n id=5\n [status]\n  hp=5\n [/status]\n[/unit]\n",
    b"ship {\n name = x\n inner {\n  marks = 5\n }\n}\n",
    b'name,marks\nTamsin,5\n"B""o",6\n',
    b"marks: 5\ncrew:\n  - name: x\n    air: 5\nflow: {a: 1, b: [1, x]}\ntext: |\n  one\n  two\n",
    b'ship "x"\n\tmass 5\n\toutfit "a b" 2\n',
    b'return { marks = 5, ["a"] = { 1, 2 }, -- c\n b = "x" }',
    b'(save (marks 5) (name "x") (at 1 2))',
    b'date="1"\nplayer={ name="x" marks=5 list={ 1 2 } }\n',
]


def outlined(rng: random.Random, corpus: Corpus, folder: Path) -> Iterator[Case]:
    """Texts of every format, archives and databases without a template, whole and damaged: read, searched, posted."""
    data = rng.choice(OUTLINED)
    if rng.random() < 0.1:
        deep = rng.choice((b"<a>", b"{a:[", b"(a ", b"a={", b"{ a = {", b"- - "))
        data = deep * rng.choice((150, 3000)) + data
    way = rng.choice(("plain", "plain", "plain", "zip", "tar", "gzip", "utf-16", "sqlite", "string"))
    if rng.random() < 0.6:
        data = mutated(rng, data, 3)
    data = wrapped_so(way, data, folder)
    if rng.random() < 0.3:
        data = mutated(rng, data, 3)
    path = folder / "a.sav"
    path.write_bytes(data)
    known = (
        "marks",
        "Purse.marks",
        "unit[0].status.hp",
        "ship.inner.marks",
        "[0].marks",
        "player.marks",
        "[*]",
        "l.i[*].@n",
    )
    field = rng.choice(known)
    for words in (
        ("read", path, "--json"),
        ("post", path, "--set", f"{field}={rng.choice((7, 'y', '1e5', '<&>', 'a,b;c'))}", "--dry-run"),
        ("post", path, "--set", f"{field}=77"),
        ("search", path, "--number", "5", "--json"),
        ("locate", "--seen", f"{path}=5", "--for", "1", "--json"),
    ):
        yield Case("outline", len(data), command(*words), folder, 1.0)


def wrapped_so(way: str, data: bytes, folder: Path) -> bytes:
    """A text in an archive, a database, another encoding, or a string."""
    out = io.BytesIO()
    if way == "zip":
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("a.txt", data)
            archive.writestr("b.bin", bytes(99))
        return out.getvalue()
    if way == "tar":
        with tarfile.open(fileobj=out, mode="w") as tar:
            info = tarfile.TarInfo("a.txt")
            info.size = len(data)
            tar.addfile(info, io.BytesIO(data))
        return out.getvalue()
    if way == "utf-16":
        return data.decode("latin-1").encode("utf-16")
    if way == "string":
        return json.dumps({"a": data.decode("latin-1"), "marks": 5}).encode()
    if way == "sqlite":
        path = folder / "made.db"
        with closing(sqlite3.connect(path)) as database:
            database.execute("create table marks (marks integer primary key, body text, raw blob)")
            database.execute("insert into marks values (5, ?, ?)", (data.decode("latin-1"), data))
            database.commit()
        made = path.read_bytes()
        path.unlink()
        return made
    return gzip.compress(data) if way == "gzip" else data


def carried(rng: random.Random, corpus: Corpus, folder: Path) -> Iterator[Case]:
    """Slots, folders and cards, some of them damaged, by shipped templates and by mutated ones."""
    saves = folder / "saves"
    shutil.copytree(corpus.carried, saves)
    for path in sorted(saves.rglob("*")):
        if path.is_file() and rng.random() < 0.15:
            path.write_bytes(mutated(rng, path.read_bytes()))
    card, slot, west, east = saves / "card.bwc", saves / "harbour.bwk", saves / "west-quay", saves / "east-pier"
    chosen: tuple[str | Path, ...] = ()
    if rng.random() < 0.4:
        text = rng.choice(
            [each for each in corpus.templates if "card:" in each or "slots:" in each or "carries:" in each]
        )
        template = folder / "fuzz.yaml"
        template.write_bytes(mutated_text(rng, text).encode("utf-8", "surrogatepass"))
        chosen = ("--template", template)
    roots = ("--root", f"harbours={saves}", "--root", f"registers={saves / 'registers'}")
    pair = [saves / "voyage.bwx", saves / "voyage.bwy"]
    to = rng.choice(("2", "7", "99", "0", "../1", "-3", "x", ""))
    for words in (
        ("slots", saves, "--json"),
        ("slots", slot, *chosen),
        ("carry", "slot", slot, "--to", to, *rng.choice(((), ("--move",), ("--swap",), ("--replace",))), *chosen),
        ("card", "list", card, "--json", *chosen),
        ("card", "add", card, *pair[: rng.choice((1, 2, 2))], *chosen),
        ("card", "remove", card, "voyage-2.bwx", *chosen),
        ("card", "replace", card, "voyage-3.bwy", rng.choice(pair), *chosen),
        ("carry", "files", west, east, "--take", "sites/*", *roots, *chosen),
        ("carry", "world", west, east, *roots, *rng.choice(((), ("--remove-old",)))),
        ("carry", "owner", pair[0], "--like", saves / "voyage-2.bwx", *rng.choice(((), ("--payload",)))),
        ("carry", "values", slot, saves / "harbour-2.bwk", "--take", "purse", "crew", "--dry-run"),
    ):
        yield Case("carry", 200_000, command(*words), saves, 1.5)


KINDS = {
    "carry": carried,
    "outline": outlined,
    "save": saves,
    "text": texts,
    "template": templates,
    "plan": plans,
    "describe": described,
    "seal": sealed,
    "packed": packed,
    "journal": journals,
    "archive": archives,
}


# measuring


def resident(what: str) -> int:
    with open("/proc/self/status", encoding="ascii") as status:
        return next(int(line.split()[1]) * 1024 for line in status if line.startswith(what))


def measured(case: Case) -> tuple[bool, float, int]:
    """Whether an error was reported, CPU seconds, and how far memory grew at its peak."""
    gc.collect()
    with open("/proc/self/clear_refs", "w", encoding="ascii") as refs:
        refs.write("5")
    before, began = resident("VmRSS:"), time.process_time()
    failed = case.run()
    return failed, time.process_time() - began, resident("VmHWM:") - before


def tree(folder: Path) -> dict[str, bytes]:
    return {
        str(path): path.read_bytes()
        for path in sorted(folder.rglob("*"))
        if path.is_file() and path.suffix != ".json.new"
    }


class Found(NamedTuple):
    kind: str
    what: str
    seed: str


def run(minutes: float, seed: int, only: str | None) -> tuple[Counter[str], list[Found], float, int]:
    """Try cases until the time is up."""
    tried: Counter[str] = Counter()
    found: list[Found] = []
    worst_cpu, worst_memory = 0.0, 0
    home = Path(tempfile.mkdtemp(prefix="faithful-fuzz-"))
    os.environ.update(XDG_DATA_HOME=str(home / "xdg"), XDG_CACHE_HOME=str(home / "cache"), HOME=str(home))
    from faithful_ledger.core.find import programs

    programs.programs = lambda: []  # type: ignore[attr-defined]  # looking at every process is not what is measured
    corpus = Corpus(home / "corpus")
    until = time.monotonic() + 60 * minutes
    number = 0
    while time.monotonic() < until:
        number += 1
        kind = only or list(KINDS)[number % len(KINDS)]
        name = f"{seed}-{number}-{kind}"
        rng = random.Random(name)
        folder = home / "case"
        shutil.rmtree(folder, ignore_errors=True)
        shutil.rmtree(home / "xdg", ignore_errors=True)
        folder.mkdir()
        try:
            for case in KINDS[kind](rng, corpus, folder):
                before = tree(case.watched) if case.watched is not None else {}
                failed, cpu, memory = measured(case)
                tried[case.kind] += 1
                worth = max(case.size / MIB, 1.0)
                most_cpu, most_memory = CPU * worth + case.allowance, max(MEMORY, 3 * case.size)
                if cpu > most_cpu or memory > most_memory:
                    _, cpu, memory = measured(case)
                if cpu > most_cpu:
                    found.append(Found(case.kind, f"{cpu:.2f} s of CPU for {case.size} bytes", name))
                if memory > most_memory:
                    found.append(Found(case.kind, f"{memory >> 20} MiB for {case.size} bytes", name))
                worst_cpu, worst_memory = max(worst_cpu, (cpu - case.allowance) / worth), max(worst_memory, memory)
                if failed and case.watched is not None and tree(case.watched) != before:
                    found.append(Found(case.kind, "a file changed although an error was reported", name))
        except Exception:
            found.append(Found(kind, traceback.format_exc(limit=-3).strip().replace("\n", " | ")[-400:], name))
        for each in found[-1:]:
            if each.seed == name:
                print(f"{each.kind} {each.seed}: {each.what}", flush=True)
                FAILED.mkdir(exist_ok=True)
                shutil.copytree(folder, FAILED / name, dirs_exist_ok=True)
    shutil.rmtree(home, ignore_errors=True)
    return tried, found, worst_cpu, worst_memory


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--minutes", type=float, default=1.0)
    parser.add_argument("--seed", type=int, default=None)
    parser.add_argument("--only", choices=KINDS)
    parser.add_argument("--write", action="store_true")
    options = parser.parse_args()
    seed = options.seed if options.seed is not None else int.from_bytes(os.urandom(4), "little")
    tried, found, cpu, memory = run(options.minutes, seed, options.only)
    counts = ", ".join(f"{count} {kind}" for kind, count in sorted(tried.items()))
    by_kind = Counter(
        "budget" if " for " in each.what else "bytes" if "changed" in each.what else "other" for each in found
    )
    lines = [
        f"seed {seed}, {options.minutes:g} minutes: {sum(tried.values())} cases tried ({counts})",
        f"foreign exceptions and broken promises {by_kind['other']}, files changed on an error {by_kind['bytes']}, "
        f"over the budget {by_kind['budget']}",
        f"the most CPU time {cpu:.2f} s a MiB, the most memory {memory >> 20} MiB",
    ]
    print("\n".join(lines))
    if options.write:
        page = ROOT / "docs" / "reliability.md"
        begin, end = "<!-- fuzz -->", "<!-- /fuzz -->"
        text = page.read_text("utf-8")
        inside = "\n".join(f"- {line}" for line in lines)
        page.write_text(re.sub(f"{begin}.*{end}", f"{begin}\n{inside}\n{end}", text, flags=re.DOTALL), "utf-8")
    return 1 if found else 0


if __name__ == "__main__":
    sys.path.insert(0, str(ROOT / "src"))
    sys.exit(main())
