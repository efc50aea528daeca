"""What the trials of bad input are made of: bytes and texts that are changed, templates, streams and saves."""

from __future__ import annotations

import bz2
import gzip
import io
import json
import lzma
import random
import re
import zlib
from collections.abc import Callable
from contextlib import redirect_stdout
from pathlib import Path

import lz4.frame
import zstandard

ROOT = Path(__file__).resolve().parents[1]


def mutated(rng: random.Random, data: bytes, most: int = 6) -> bytes:
    """Bytes flipped, set, removed, repeated, inserted, or overwritten with numbers at the edges of their types."""
    out = bytearray(data)
    for _ in range(rng.randint(1, most)):
        size = len(out)
        at = rng.randrange(size + 1)
        match rng.randrange(9):
            case 0 if size:
                out[at % size] ^= 1 << rng.randrange(8)
            case 1 if size:
                out[at % size] = rng.choice((0, 1, 0x7F, 0x80, 0xFF, rng.randrange(256)))
            case 2:
                del out[at : at + rng.choice((1, 2, 4, 30, size // 3 + 1))]
            case 3:
                out[at:at] = out[at : at + rng.choice((1, 4, 64))] * rng.choice((1, 2, 50))
            case 4:
                out[at:at] = rng.randbytes(rng.choice((1, 3, 16, 200)))
            case 5:
                number = rng.choice((0, 1, 0x7FFF, 0xFFFF, 0x7FFFFFFF, 0xFFFFFFFF, 1 << 63, (1 << 64) - 1, size))
                width = rng.choice((1, 2, 4, 8))
                out[at : at + width] = (number & ((1 << 8 * width) - 1)).to_bytes(width, rng.choice(("little", "big")))
            case 6:
                del out[at:]
            case 7 if size:
                other = rng.randrange(size)
                out[at : at + 40] = out[other : other + 40]
            case _:
                out += rng.randbytes(rng.randrange(20))
    return bytes(out)


NAMES = """
ledger id title files save name layout field as u8 u16 i64be f32 text digits uleb128 size length count until key rows
each record records group flat constant unknown at behind before when bounds least most seal over crc-32 sum8 file
length_of count_of offset_of plus names switches scale bias rounding format json inside layers unit means moment unix
filetime dos since guid guid-le rgba bytes letters table align entry witnesses author origin sections derive pbkdf2
scrypt rounds key key_of iv tag padding aes-cbc aes-gcm chacha20 swap-bytes-4 leave_off renew seals follows where
"""
MARKS = r"""
-1 0 1e999 0xFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFFF
99999999999999999999 '*' ~ true [ ] { } : , - &a *a !!set !!bool ? "\ud800" \ ' " # | > --- [*] //
"""
WORDS = [*NAMES.split(), *MARKS.split(), ": ", ", ", "- ", "? ", "\n", "\t", "\u2028", "\ufeff"]


def mutated_text(rng: random.Random, text: str) -> str:
    """Words and lines changed, doubled, or put elsewhere, so that much of a text stays what it was."""
    for _ in range(rng.randint(1, 5)):
        lines = text.split("\n")
        parts = re.findall(r"\w+|\W", text) or [""]
        at = rng.randrange(len(parts))
        match rng.randrange(7):
            case 0:
                parts[at] = rng.choice(WORDS)
            case 1:
                parts.insert(at, rng.choice(WORDS))
            case 2:
                del parts[at : at + rng.choice((1, 3, 20))]
            case 3:
                parts[at:at] = parts[at : at + rng.choice((1, 5, 40))] * rng.choice((1, 2, 60))
            case 4:
                parts[at] = rng.choice(parts)
            case 5:
                lines.insert(rng.randrange(len(lines)), rng.choice(lines))
                parts = ["\n".join(lines)]
            case _:
                parts[at] = str(rng.choice((0, -1, 1 << 31, 1 << 64, 1 << 200, 255, 65536, 10**400)))
        text = "".join(parts)[: 1 << 20]
    return text


NUMBERS = ("u8", "u16", "u32be", "i16", "i64", "f32", "f64be", "bcd2", "uleb128", "sleb128", "digits")
MOMENTS = ("unix", "unix-milliseconds", "filetime", "dos", {"since": "1899-12-30", "unit": "days"})
UNDONE = ("zlib", "gzip", "hex", "lz4-block", "swap-bytes-4", "utf-16le", "xor")
POCKET = {0: "A", 1: "B", 2: "\u00e9", 0x41: "x", 255: " "}


def some_layout(rng: random.Random, depth: int = 0, names: list[str] | None = None) -> list[dict[str, object]]:
    """A layout that is right for the most part: fields, lengths, counts, seals, repeats within repeats."""
    names = names if names is not None else []
    texts: list[str] = []
    layout: list[dict[str, object]] = []
    for number in range(rng.randint(1, 6)):
        name = f"f{depth}{number}"
        kind = rng.choice(
            ("number", "number", "text", "fixed", "whole", "unknown", "group", "rows", "seal", "constant")
        )
        number_type = rng.choice(NUMBERS)
        element: dict[str, object]
        if kind == "number":
            element = {"field": name, "as": number_type}
            if number_type in ("u16", "u32be", "i64") and rng.random() < 0.3:
                element |= {"moment": rng.choice(MOMENTS)}
            if number_type in ("u8", "u16") and rng.random() < 0.3:
                element |= {rng.choice(("names", "switches")): dict(enumerate(rng.sample(WORDS, 4)))}
            elif rng.random() < 0.2:
                element |= {"scale": rng.choice((10, "1/3", 0.5)), "bounds": {"least": 0, "most": 100}}
            elif number_type == "u8" and rng.random() < 0.2:
                element |= {"names": "item"}
            elif rng.random() < 0.1:
                element |= {"bounds": {"most": 100, "by": rng.choice((*names, name))}}
        elif kind == "text":
            element = {
                "field": name,
                "as": "text",
                "length": rng.choice(("u8", "u16", "u32", "i16", "i32be", "uleb128")),
            }
            element |= rng.choice(({}, {}, {"ended_by": "00"}, {"encoding": "utf-16-le", "counts": "letters"}))
            texts.append(name)
        elif kind == "fixed":
            element = {
                "field": name,
                "as": "text",
                "size": rng.choice((1, 4, 16)),
                "encoding": rng.choice(("utf-8", "latin-1", "utf-16-le", "pocket")),
            }
        elif kind == "whole":
            element = {"field": name, "as": rng.choice(("guid", "guid-le", "rgb", "rgba", "argb"))}
            if rng.random() < 0.3:
                element = {"field": name, "as": "bytes", "size": rng.choice((1, 7, rng.choice(names) if names else 4))}
        elif kind == "unknown":
            element = {"unknown": name, "size": rng.choice((1, 3, rng.choice(names) if names else 2, "1 << 40"))}
        elif kind == "constant":
            element = {"constant": name, "bytes": rng.choice(("00", "FF", "41 42"))}
        elif kind == "group" and depth < 4:
            element = {"group": name, "layout": some_layout(rng, depth + 1, list(names)), "flat": rng.random() < 0.2}
        elif kind == "rows" and depth < 4:
            inner = (
                {"each": {"as": number_type}}
                if rng.random() < 0.4
                else {"record": "tree"}
                if rng.random() < 0.4
                else {"layout": some_layout(rng, depth + 1, list(names))}
            )
            ends = rng.choice(
                (
                    {"count": rng.choice(names) if names else 3},
                    {"count": rng.choice((2, 1000, 5_000_000))},
                    {"ended_by": "FF"},
                    {"size": 12},
                    {},
                )
            )
            element = {"rows": name, **inner, **ends}
            if "layout" in inner and rng.random() < 0.3:
                element["key"] = "f00"
        elif kind == "seal" and layout:
            other = rng.choice(layout)
            over = next(str(other[key]) for key in ("field", "unknown", "group", "rows", "constant") if key in other)
            element = {"field": name, "as": rng.choice(("u32", "i16", "u8"))}
            element |= rng.choice(
                (
                    {"seal": {"algorithm": rng.choice(("crc-32", "sum8", "xor8")), "over": over}},
                    {"seal": {"algorithm": "length", "over": over, "unit": rng.choice((1, 7, 1 << 24)), "start": 3}},
                    {"seal": {"algorithm": "crc-32", "over": over, "unpacked": [rng.choice(UNDONE)]}},
                    {"length_of": over},
                    {"offset_of": over},
                )
            )
        else:
            element = {
                "field": name,
                "as": "u8",
                rng.choice(("at", "when")): rng.choice((0, 1, -1, names[0] if names else 5)),
            }
        if texts and texts[-1] != name and rng.random() < 0.15:
            element["when"] = rng.choice((f'{texts[-1]} == "x"', f'{texts[-1]} not in ("x", "")', f'{name} != "x"'))
        if rng.random() < 0.05:
            element["behind"] = rng.choice(("41 42", "00 00 00"))
        layout.append(element)
        if element.get("as") in ("u8", "u16") and "names" not in element and "switches" not in element:
            names.append(name)
    return layout


def some_template(rng: random.Random) -> str:
    document: dict[str, object] = {"ledger": 1, "id": "fuzz", "title": "Fuzz", "recognise": [{"name": "*.bin"}]}
    document["letters"] = {"pocket": POCKET}
    document["catalogues"] = {
        "item": {1: "rope", 2: {"name": "lamp", "group": "light", "most": rng.choice((5, -1, 2.5))}}
    }
    document["records"] = {"tree": some_tree(rng)}
    document["files"] = {"save": {"name": "*.bin", "order": rng.choice(("little", "big")), "layout": some_layout(rng)}}
    held = [
        f"save.{element['rows']}[{which}].{part.get('field', part.get('unknown', 'f10'))}"
        for element in document["files"]["save"]["layout"]  # type: ignore[index]
        if isinstance(element.get("layout"), list)
        for part in element["layout"][:2]
        for which in ("*", "0", "f10=1")
        if "rows" in element
    ]
    if rng.random() < (0.8 if held else 0.2):
        document["files"]["inner"] = {  # type: ignore[index]
            "inside": rng.choice(("save", *held)),
            "layers": [some_layer(rng) for _ in range(rng.choice((1, 1, 2)))],
            "layout": some_layout(rng),
        }
    return re.sub(r'"(\d+)": ', r"\1: ", json.dumps(document))  # as numbers, which JSON has not as keys


def some_tree(rng: random.Random) -> list[dict[str, object]]:
    """A record that may hold itself, with an end or without."""
    holds: dict[str, object] = {"rows": "inner", "record": "tree"}
    holds |= rng.choice(({"ended_by": "00"}, {"count": "many"}, {"count": 1}, {"count": 2}, {"size": "many"}, {}))
    holds |= rng.choice(({}, {"when": "many < 9"}, {"key": "many"}))
    return [{"field": "many", "as": rng.choice(("u8", "uleb128"))}, *some_layout(rng, 3), holds]


def some_layer(rng: random.Random) -> str | dict[str, object]:
    """A layer of any kind; keys of ciphers are given, stored, derived, or of the wrong size."""
    if rng.random() < 0.6:
        return rng.choice(("zlib", "gzip", "zstd", "xor", "lz4", "lzma", "base64", "deflate", "hex", "swap-bytes-4"))
    kind = rng.choice(("aes-ecb", "aes-cbc", "aes-ctr", "aes-gcm", "chacha20"))
    layer: dict[str, object] = {"layer": kind}
    layer |= rng.choice(({"key": "00" * rng.choice((16, 32, 5))}, {"key_of": "f00"}, {"key_of": "nowhere.f00"}))
    if rng.random() < 0.3:
        by = rng.choice(("pbkdf2", "scrypt", "hkdf"))
        layer["derive"] = {"by": by, "salt": "62 77", "size": rng.choice((16, 32, 1 << 30))}
        most = {
            "pbkdf2": {"rounds": rng.choice((1, 4096, 1 << 40))},
            "scrypt": {"cost": rng.choice((2, 1 << 14, 1 << 40))},
        }
        layer["derive"] |= most.get(by, {})  # type: ignore[operator]
    layer |= rng.choice(({}, {"iv": "00" * 16}, {"padding": "none"}, {"at": 4}, {"put_back": False}))
    return layer


def some_json(rng: random.Random, depth: int = 0) -> object:
    if depth > 5 or rng.random() < 0.4:
        return rng.choice(
            (
                0,
                -1,
                1e300,
                12.50,
                1 << 70,
                "Oriel",
                "S\u00f8n \ud83d\ude00",
                "",
                True,
                None,
                '{"a": [1, {"b": 2}]}',
                "\ud800",
                "x" * 300,
            )
        )
    if rng.random() < 0.5:
        return [some_json(rng, depth + 1) for _ in range(rng.randint(0, 6))]
    keys = ("marks", "player.gold", " odd ", "a", "b", "[0]", "", '"', "crew")
    return {rng.choice(keys): some_json(rng, depth + 1) for _ in range(rng.randint(0, 6))}


def some_packed(rng: random.Random) -> bytes:
    """Streams with records, noise or far too many zeros in them."""
    packers: list[Callable[[bytes], bytes]] = [
        zlib.compress,
        gzip.compress,
        bz2.compress,
        lzma.compress,
        lz4.frame.compress,
    ]
    packers.append(zstandard.ZstdCompressor().compress)
    content = rng.choice(
        (bytes(rng.choice((100, 1 << 20, 40 << 20))), rng.randbytes(3000), b"Oriel\0\1\2\3marks" * 300)
    )
    data = rng.choice(packers)(content)
    if rng.random() < 0.3 and len(data) < 1 << 20:
        data = rng.choice(packers)(data)
    data = rng.randbytes(rng.choice((0, 4, 100))) + data * rng.choice((1, 1, 3, 20)) + rng.randbytes(rng.choice((0, 4)))
    if rng.random() < 0.3:
        key = rng.randbytes(rng.choice((1, 3, 4)))
        data = bytes(byte ^ key[n % len(key)] for n, byte in enumerate(data[:200_000]))
    return data[: 4 << 20]


class Corpus:
    """Saves of the made-up game to start from."""

    def __init__(self, folder: Path) -> None:
        from brinewick.__main__ import main as play

        self.harbour, self.deep = folder / "harbour", folder / "deep"
        with redirect_stdout(io.StringIO()):
            for action in (["start", "Oriel & Søn"], ["sell", "brass lamp"], ["dive", "Tamsin"]):
                assert play(["--saves", str(self.harbour), *action]) == 0
            assert play(["--saves", str(self.deep), "--edition", "deep", "start", "Oriel & Søn"]) == 0
            self.carried = folder / "carried"
            for words, *actions in (
                (("--edition", "desktop"), ("start", "Maud"), ("save", "2")),
                (("--edition", "console"), ("start", "Maud"), ("save", "2")),
                (("--edition", "card"), ("start", "Ives"), ("save", "2"), ("save", "3")),
                (("--edition", "atlas"), ("start", "Maud"), ("sell", "brass lamp")),
                (("--edition", "atlas", "--harbour", "east-pier", "--map", "2"), ("start", "Ives")),
            ):
                for action in actions:
                    assert play(["--saves", str(self.carried), *words, *action]) == 0
        self.files = [path for place in (self.harbour, self.deep) for path in sorted(place.iterdir())]
        self.templates = [
            path.read_text("utf-8") for path in sorted((ROOT / "src/faithful_ledger/templates").glob("*.yaml"))
        ]
