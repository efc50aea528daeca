"""Texts that hide values in their strings: each for itself, or with a vector and a tag in others."""

from __future__ import annotations

import base64
import json
from collections.abc import Callable, Sequence
from itertools import product
from typing import NamedTuple
from xml.sax.saxutils import escape

from hypothesis import given
from hypothesis import strategies as st

from faithful_ledger.core.edits import Cause, Patched, Replacement
from faithful_ledger.core.errors import AddressError, StreamGrows, TooMuch, ValueRefused
from faithful_ledger.core.evidence import locate, parse_sighting
from faithful_ledger.core.formats import recognised_text
from faithful_ledger.core.hidden_strings import find_hidden_strings, find_parts_under_key
from faithful_ledger.core.layers import LayerSpec
from faithful_ledger.core.layers.ciphers import Cipher, Derived
from faithful_ledger.core.masked_numbers import find_masked
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting import make_plan
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.unlocking import NO_KEYS, Keys
from faithful_ledger.core.wrapping import UNCOUNTED, Unwrapped, unwrap
from tests.support import LedgerCase, dice

CAUSE = Cause("entry", "marks")
KEY = b"slack water 1234"
WORDS = st.text("abcdefghijklmnopqrstuvwxyz 0123456789&'é", min_size=1, max_size=30).map(str.strip).filter(bool)
NAMES = ("name", "day", "marks", "crew", "note", "place")
VALUES = st.dictionaries(st.sampled_from(NAMES), WORDS, min_size=1)
LAYERS = (
    (LayerSpec("base64"),),
    (LayerSpec("hex"),),
    (LayerSpec("base64"), LayerSpec("xor", KEY)),
    (LayerSpec("hex"), LayerSpec("aes-ecb", KEY)),
)
SPELLINGS: tuple[Callable[[bytes], str], ...] = (bytes.hex, lambda part: base64.b64encode(part).decode())


def in_json(values: dict[str, str]) -> str:
    return json.dumps({"version": 3, "at": "the quay", **values, "of": [1.5, None]}, ensure_ascii=False)


def in_xml(values: dict[str, str]) -> str:
    inner = "".join(f"<{name}>{escape(text)}</{name}>" for name, text in values.items())
    return f"<save><version n='3'/><at>the quay</at>{inner}</save>"


def in_lines(values: dict[str, str]) -> str:
    return "[save]\nversion = 3\nat = the quay\n" + "".join(f"{name} = {text}\n" for name, text in values.items())


WAYS = (in_json, in_xml, in_lines)


def spelled(text: str, layers: Sequence[LayerSpec]) -> str:
    """A value as the game hides it."""
    content = text.encode()
    for layer in reversed(layers):
        if layer.kind == "xor":
            content = bytes(byte ^ KEY[number % len(KEY)] for number, byte in enumerate(content))
        elif layer.kind == "aes-ecb":
            content = Cipher("aes-ecb", KEY).closed(content, b"")
        else:
            content = (content.hex() if layer.kind == "hex" else base64.b64encode(content).decode()).encode()
    return content.decode()


def with_values(content: bytes, new: dict[str, str]) -> Patched:
    """A text in which values have other texts."""
    document = recognised_text(MemorySource(content))
    assert document is not None
    replaced = []
    for leaf in document.leaves():
        name = leaf.path.removesuffix(".#text").rpartition(".")[2]
        if name in new:
            (span,) = [document.whole._replace(start=leaf.start, end=leaf.end, kind="string")]
            data = document.value_storage(span).encode(new[name], leaf.raw)
            replaced.append(Replacement(leaf.start, leaf.end, data, (CAUSE,)))
    assert len(replaced) == len(new)
    return Patched(document.source, replaced)


def written(inside: Unwrapped, patched: Patched, outer: bytes) -> bytes:
    result = Patched(MemorySource(outer), inside.wrap(patched, CAUSE, UNCOUNTED))
    return bytes(result.read(0, result.size))


class EachStringTest(LedgerCase):
    @given(VALUES, st.data())
    def test_values_change_in_place_as_the_game_would_hide_them(
        self, values: dict[str, str], data: st.DataObject
    ) -> None:
        layers, way = data.draw(st.sampled_from(LAYERS)), data.draw(st.sampled_from(WAYS))
        outer = way({name: spelled(text, layers) for name, text in values.items()}).encode()
        inside = Unwrapped(unwrap(outer, [LayerSpec("strings", through=layers)]))
        if way is in_json:
            self.assertEqual(json.loads(inside.steps[-1].data), json.loads(way(values)))
        new = {name: data.draw(WORDS) for name in values if data.draw(st.booleans())}
        after = written(inside, with_values(inside.steps[-1].data, new), outer)
        hidden_again = {name: spelled(text, layers) for name, text in (values | new).items()}
        self.assertEqual(after.decode(), way(hidden_again))

    def test_what_would_not_be_hidden_is_refused(self) -> None:
        outer = in_json({"name": spelled("Maud & Sons", LAYERS[0]), "marks": spelled("1340", LAYERS[0])}).encode()
        inside = Unwrapped(unwrap(outer, [LayerSpec("strings", through=LAYERS[0])]))
        content = inside.steps[-1].data
        at = content.index(b', "of"')
        for item in (Replacement(at, at, b', "day": "9"'), Replacement(12, at + 1, b' "x"')):
            with self.assertRaisesRegex(ValueRefused, "would not be.*nothing was written"):
                inside.wrap(Patched(MemorySource(content), [item]), CAUSE, UNCOUNTED)
        version = content.index(b"3")
        plain = Patched(MemorySource(content), [Replacement(version, version + 1, b"45")])
        self.assertEqual(written(inside, plain, outer), outer.replace(b": 3,", b": 45,"))
        first, last = content.index(b'"marks"'), at + 2
        gone = Patched(MemorySource(content), [Replacement(first, last, b"")])
        self.assertEqual(list(json.loads(written(inside, gone, outer))), ["version", "at", "name", "of"])
        for text in (b'{"marks": "1340"}', b"no text \x00 at all", b""):
            with self.assertRaisesRegex(AddressError, "no value of this text is hidden so"):
                unwrap(text, [LayerSpec("strings", through=LAYERS[0])])

    def test_without_a_template_they_are_values_to_type_over(self) -> None:
        values = {"name": "Maud & Sons", "marks": "1340", "note": "kept at the quay"}
        for layers, way in product(LAYERS[:2], WAYS):
            path = self.folder / "quay.sav"
            path.write_text(way({name: spelled(text, layers) for name, text in values.items()}))
            save = open_save(path, None)
            save.enter({in_json: "marks", in_xml: "save.marks", in_lines: "save.marks"}[way], "52000")
            (file,) = make_plan(save).written
            changed = {name: spelled(text, layers) for name, text in (values | {"marks": "52000"}).items()}
            self.assertEqual(bytes(file.patched.read(0, file.patched.size)).decode(), way(changed))

    def test_no_template_makes_the_program_derive_keys_forever(self) -> None:
        how = Derived("pbkdf2", rounds=1_000_000, salt_from="first", salt_size=8)
        layers = (LayerSpec("base64"), LayerSpec("aes-ecb", KEY, derived=how))
        outer = in_json({f"name{number}": spelled("Maud & Sons of the quay", LAYERS[0]) for number in range(40)})
        with self.assertRaisesRegex(TooMuch, "more strings of this text"):
            unwrap(outer.encode(), [LayerSpec("strings", through=layers)])

    def test_words_and_digits_are_not_taken_for_hidden_ones(self) -> None:
        turn = dice()
        for number in range(200):
            words = {f"{name}{n}": "".join(turn.choices("abcdehinorst", k=4 * n)) for n in (1, 2, 3) for name in NAMES}
            digits = {name: str(turn.randrange(10**7, 10**8)) for name in NAMES}
            for values in (words, digits, words | digits):
                content = in_json(values).encode()
                self.assertIsNone(find_hidden_strings([content]), content)
                if not number:
                    self.assertEqual(find_parts_under_key([content], Keys(secret=KEY)), (), content)
        self.assertEqual(find_parts_under_key([content], NO_KEYS), ())


class MaskedTest(LedgerCase):
    def test_numbers_change_under_the_mask_that_they_have(self) -> None:
        turn = dice()
        for names in (("hidden", "currentKey"), ("value", "mask")):
            values = {name: turn.randrange(-9, 90_000) for name in NAMES}
            masks = {name: turn.randrange(-(1 << 31), 1 << 31) for name in NAMES}
            layer = LayerSpec("masked", number=names[0], mask=names[1])
            for way in (self._in_json, self._in_xml):
                outer = way(values, masks, names)
                if names[1] == "currentKey":
                    self.assertEqual(find_masked([outer]), layer)
                inside = Unwrapped(unwrap(outer, [layer]))
                self.assertEqual(inside.steps[-1].data, way(values, dict.fromkeys(NAMES, 0), names, shown=masks))
                new = {name: turn.randrange(10**7) for name in turn.sample(NAMES, 3)}
                document = recognised_text(inside.source)
                assert document is not None
                replaced = [
                    Replacement(leaf.start, leaf.end, (b'"%d"' if leaf.raw[:1] == b'"' else b"%d") % new[name])
                    for leaf in document.leaves()
                    for name in new
                    if leaf.path.startswith((f"{name}.{names[0]}", f"save.{name}.@{names[0]}", f"{name}.@{names[0]}"))
                ]
                self.assertEqual(len(replaced), len(new))
                after = written(inside, Patched(inside.source, replaced), outer)
                self.assertEqual(after, way(values | new, masks, names))

    def _in_json(
        self, values: dict[str, int], masks: dict[str, int], names: tuple[str, str], shown: dict[str, int] | None = None
    ) -> bytes:
        kept = masks if shown is None else shown
        groups = {name: {names[1]: kept[name], names[0]: values[name] ^ masks[name], "ok": True} for name in values}
        return json.dumps({"at": "the quay", **groups, "day": 12}).encode()

    def _in_xml(
        self, values: dict[str, int], masks: dict[str, int], names: tuple[str, str], shown: dict[str, int] | None = None
    ) -> bytes:
        kept = masks if shown is None else shown
        groups = (f'<{n} {names[0]}="{values[n] ^ masks[n]}" {names[1]}="{kept[n]}"/>' for n in values)
        return f"<save>{''.join(groups)}<day>12</day></save>".encode()

    def test_what_was_seen_is_found_where_it_is_plain(self) -> None:
        """Times agree in their highest bits as well."""
        copies = [
            json.dumps({"made": 1_700_000_000, "kept": 1_700_000_000 + 60 * number, "marks": 1340 + number}).encode()
            for number in range(4)
        ]
        sources = [MemorySource(copy) for copy in copies]
        for shown, path in ((range(1340, 1344), "marks"), (range(1_700_000_000, 1_700_000_240, 60), "kept")):
            found = locate(sources, [parse_sighting(str(number)) for number in shown])
            self.assertEqual((found.places[0].path, found.places[0].route), (path, ()))

    def test_what_cannot_be_masked_is_refused(self) -> None:
        layer = LayerSpec("masked", number="hidden", mask="key")
        inside = Unwrapped(unwrap(b'{"hidden": 5678, "key": 1234}', [layer]))
        at = inside.steps[-1].data.index(b"%d" % (5678 ^ 1234))
        refusals = {
            b'"many"': "is not a number",
            b"1.5": "1.5 cannot be XORed with 1234",
            b"9" * 21: "nothing was written",
        }
        for text, words in refusals.items():
            item = Replacement(at, at + 4, text)
            with self.assertRaisesRegex(ValueRefused, words):
                inside.wrap(Patched(inside.source, [item]), CAUSE, UNCOUNTED)
        for text in (b'{"hidden": "x", "key": 1234}', b'{"hidden": 5678}', b"\0\1\2"):
            with self.assertRaisesRegex(AddressError, "no value of this text is hidden so"):
                unwrap(text, [layer])


class PartsTest(LedgerCase):
    def test_parts_in_any_order_are_joined_and_put_back(self) -> None:
        """Whatever stands between them, and however long the content becomes."""
        turn = dice()
        for between in (":", ".", "|", ";\n", ""):
            for spelling in SPELLINGS:
                for order in ((2, 1), (1, 3), (3, 1, 2), (2, 3, 1)):
                    parts = [turn.randbytes(size) for size in (turn.choice((8, 12, 32)), 16, turn.randrange(40, 90))]
                    content = [parts[number - 1] for number in order]
                    turn.shuffle(parts)
                    order = tuple(parts.index(part) + 1 for part in content)
                    outer = self._text(parts, spelling, between)
                    inside = Unwrapped(unwrap(outer, [LayerSpec("joined", parts=order)]))
                    self.assertEqual(inside.steps[-1].data, b"".join(content))
                    longest = max(range(len(content)), key=lambda number: len(content[number]))
                    new = [turn.randbytes(len(part) + (number == longest) * 20) for number, part in enumerate(content)]
                    whole = Replacement(0, inside.source.size, b"".join(new))
                    after = written(inside, Patched(inside.source, [whole]), outer)
                    for number, part in zip(order, new, strict=True):
                        parts[number - 1] = part
                    self.assertEqual(
                        after.replace(b"\\", b""), self._text(parts, spelling, between).replace(b"\\", b"")
                    )

    def _text(self, parts: Sequence[bytes], spelling: Callable[[bytes], str], between: str) -> bytes:
        texts = list(map(spelling, parts))
        in_strings = json.dumps(dict(zip(("first", "second", "third"), texts, strict=True))).replace("/", "\\/")
        return (between.join(texts) if between else in_strings).encode()

    def test_what_cannot_be_joined_is_refused(self) -> None:
        turn = dice()
        vector, body = turn.randbytes(16), turn.randbytes(48)
        outer = f"{vector.hex()}:{body.hex()}".encode()
        for text, parts in ((outer, (1, 3)), (b"quay", (1, 2)), (b"\0" * 99, (1,))):
            with self.assertRaisesRegex(AddressError, "belong together, and there are"):
                unwrap(text, [LayerSpec("joined", parts=parts)])
        counted = f"{vector.hex()}:48;{body.hex()}".encode()
        inside = Unwrapped(unwrap(counted, [LayerSpec("joined", parts=(1, 2))]))
        grown = Patched(inside.source, [Replacement(64, 64, b"0123456789abcdef")])
        with self.assertRaisesRegex(StreamGrows, "the number 48 at 0x21 .* looks like its length"):
            inside.wrap(grown, CAUSE, UNCOUNTED)


class Layered(NamedTuple):
    """Keys of a template's layer, and what is wrong with them."""

    layer: str
    wrong: str


MISTAKES = (
    Layered("{layer: strings}", "say through which layers each string is read"),
    Layered("{layer: strings, through: [base65]}", "“base65” is not a layer"),
    Layered("{layer: strings, through: [{layer: aes-ecb}]}", "the key of aes-ecb is not given"),
    Layered("{layer: base64, through: [hex]}", "base64 has none"),
    Layered("joined", "say in which order its parts are"),
    Layered("{layer: joined, parts: [1, 1]}", "each part is there once"),
    Layered("{layer: zlib, parts: [1]}", "zlib has none"),
    Layered("{layer: zlib, size: 20}", "only a cipher has this, and zlib is none"),
    Layered("{layer: aes-ecb, key: '00', iv_at: 4}", "aes-ecb has no initial vector"),
    Layered("{layer: aes-cbc, key: '00', iv: '00', iv_at: 4}", "a layer has one of iv and iv_at"),
    Layered("{layer: aes-cbc, key: '00', size: length}", "“length” leads to no field of the file around"),
    Layered("{layer: masked, number: hidden}", "say which number is XORed with which mask"),
    Layered("{layer: hex, number: hidden, mask: key}", "hex has neither number nor mask"),
    Layered("{layer: joined, parts: [0]}", "it must be at least 1"),
)


class TemplateTest(LedgerCase):
    def test_mistakes_in_a_template_are_named(self) -> None:
        for layer, wrong in MISTAKES:
            with self.subTest(layer):
                self.assertIn(wrong, self.mistakes_of(layer))

    def mistakes_of(self, layer: str) -> str:
        from faithful_ledger.core.errors import TemplateError
        from faithful_ledger.core.template import parse_template

        text = f"""ledger: 1
id: of-strings
title: Of strings
files:
  save: {{name: "*.sav", format: json, layout: []}}
  plain: {{inside: save, layers: [{layer}], format: json, layout: []}}
"""
        with self.assertRaises(TemplateError) as raised:
            parse_template(text.encode(), "of-strings.yaml")
        return str(raised.exception)
