"""A program that reads saves of a template, in Python and without anything but its standard library.

The layout becomes plain function calls, one for each element; expressions become Python. What the standard library
cannot unpack is asked for as the unwrapped payload. Texts other than JSON are not read.
"""

from __future__ import annotations

import ast
from collections.abc import Iterator
from inspect import getsource

from faithful_ledger.core.address import Expression, PathFormula, parse_path
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.layers import LayerSpec
from faithful_ledger.core.sharing import runtime
from faithful_ledger.core.storage import (
    BitRange,
    Checksum,
    Choice,
    Colour,
    Coordinates,
    Digits,
    DigitsBuffer,
    DosMoment,
    EndedText,
    FixedBytes,
    FixedText,
    Float,
    Formed,
    FreeText,
    Guid,
    Integer,
    JsonNumber,
    Leb128,
    ListedText,
    Moment,
    PackedDecimal,
    PrefixedText,
    RawBytes,
    Scaled,
    SizedNumber,
    Storage,
    Switches,
    UnpackedDecimal,
)
from faithful_ledger.core.storage.base import Wrapping
from faithful_ledger.core.storage.spelled import WholeInText
from faithful_ledger.core.template.model import ElementSpec, FieldSpec, FileSpec, GroupSpec, RowsSpec, Template

__all__ = ["LANGUAGES", "reader_for"]

LANGUAGES = ("python",)
STANDARD = {  # what Python's standard library undoes, where the payload is one stream
    "zlib": "zlib.decompressobj().decompress(data{at})",
    "gzip": "zlib.decompressobj(31).decompress(data{at})",
    "deflate": "zlib.decompressobj(-15).decompress(data{at})",
    "bzip2": "bz2.BZ2Decompressor().decompress(data{at})",
    "xz": "lzma.LZMADecompressor().decompress(data{at})",
    "lzma": "lzma.LZMADecompressor().decompress(data{at})",
    "base64": "of_base64(data{at})",
    "enclosed": "enclosed_json(data{at})",
    "hex": "bytes.fromhex(data{at}.decode('ascii'))",
}
HEAD = '''#!/usr/bin/env python3
"""Reads saves of {title} (template {id} {version}): python {file} SAVE prints their values as JSON.

It was made from the template and needs nothing but Python's standard library. It reads only.
"""
'''
IMPORTS = """\
from __future__ import annotations

import base64
import bz2
import json
import lzma
import os
import re
import struct
import sys
import uuid
import zlib
from collections.abc import Callable
from datetime import date, datetime
from fractions import Fraction
from typing import Any
"""
MAIN = '''

def main() -> int:
    """Read the save that the command line names, and what is beside it."""
    payloads = dict(given.split("=", 1) for given in sys.argv[2:] if "=" in given)
    if len(sys.argv) < 2:
        print("usage: python reader.py SAVE [FILE=PAYLOAD …]", file=sys.stderr)
        return 2
    try:
        print(printed(read_all(sys.argv[1], payloads)))
    except (NotSuchASave, NeedsPayload, OSError, UnicodeError, ValueError, LookupError) as error:
        print(f"error: {{sys.argv[1]}}: {{error}}; nothing was changed", file=sys.stderr)
        return 2
    return 0


if __name__ == "__main__":
    sys.exit(main())
'''


def reader_for(template: Template, file_name: str = "reader.py") -> str:
    """The program's text.

    Raises:
        LedgerError: the template describes no file that it could read.
    """
    made = _Program(template)
    files = [spec for spec in template.files.values() if spec.format in ("binary", "json")]
    if not files:
        kinds = ", ".join(dict.fromkeys(spec.format for spec in template.files.values()))
        raise LedgerError(
            f"readers read binary files and JSON, and {template.id} describes {kinds}", "nothing was written"
        )
    left = [name for name, spec in template.files.items() if spec not in files]
    for spec in files:
        made.file(spec)
    head = HEAD.format(title=template.title.replace('"', "'"), id=template.id, version=template.version, file=file_name)
    lines = [head, IMPORTS]
    lines.append(_runtime())
    lines += made.lines
    lines.append(_read_all(template, files, left))
    return "\n".join(lines) + MAIN.replace("{{", "{").replace("}}", "}")


def _runtime() -> str:
    """The shared part, without its head."""
    text = getsource(runtime)
    return text[text.index("Storage = ") :].rstrip() + "\n"


class _Program:
    def __init__(self, template: Template) -> None:
        self.template = template
        self.lines: list[str] = []
        self.made: dict[int, str] = {}

    def file(self, spec: FileSpec) -> None:
        if spec.format == "json":
            self.json_file(spec)
            return
        layout = self.layout(spec.root, spec.name)
        self.lines += [
            "",
            f"def read_{spec.name}(data: bytes, main: Group | None) -> Group:",
            f'    """The values of {spec.name}."""',
            *(f"    warn_unless(data, {each.at}, {each.content!r}, {spec.name!r})" for each in spec.usual),
            f'    root = Group("{spec.root.name}")',
            "    root.main = main",
            f"    {layout}(Reader(data), root, 0, len(data))",
            "    return root",
            "",
        ]

    def layout(self, group: GroupSpec, name: str) -> str:
        """A function for the elements of a group; records that several rows share have one."""
        known = self.made.get(id(group.layout))
        if known is not None:
            return known
        function = f"layout_{name}"
        number = 2
        while function in self.made.values():
            function = f"layout_{name}_{number}"
            number += 1
        self.made[id(group.layout)] = function
        body: list[str] = []
        for element in group.layout:
            body += self.element(element, group)
        end = f"at + {group.word.size}" if group.word is not None else "at"
        self.lines += [
            "",
            f"def {function}(r: Reader, g: Group, at: int, limit: int) -> int:",
            *(f"    {line}" for line in body),
            f"    return {end}",
            "",
        ]
        return function

    def element(self, element: ElementSpec, group: GroupSpec) -> Iterator[str]:
        call = self.call(element, group)
        address = element.address
        flows = address.base == "next"
        place = "at"
        lines = []
        if address.base == "start":
            place = _python(address.offset)
        elif address.base == "end":
            place = f"len(r.data) + ({_python(address.offset)})"
        elif address.base == "behind":
            place = f"r.behind({address.run!r}, {_python(address.offset)})"
        elif address.base == "table":
            entry = f"g.number({address.table!r} + '[' + str({_python(address.entry)}) + ']')"
            place = f"{entry} + {_python(address.offset)}" if address.offset is not None else entry
        elif address.base == "before":
            lines.append(f"pass  # {element.name} is found by its end, which this reader cannot do")
            yield from lines
            return
        if address.align != 1:
            place = f"up_to({place}, {address.align})"
        target = "at = " if flows and group.word is None else ""
        limit = "limit" if flows or address.base == "table" else "len(r.data)"
        line = target + call.format(at=place, limit=limit)
        if element.when is not None:
            yield f"if {_python(element.when)}:"
            yield f"    {line}"
        else:
            yield line

    def call(self, element: ElementSpec, group: GroupSpec) -> str:
        """The call that reads an element, with its place and limit still to be filled in."""
        name = element.name
        if isinstance(element, GroupSpec):
            layout = self.layout(element, name)
            options = (f", size=lambda g: {_python(element.size)}" if element.size is not None else "") + (
                ", flat=True" if element.flat else ""
            )
            return f'r.group(g, "{name}", {{at}}, {{limit}}, {layout}{_braced(options)})'
        if isinstance(element, RowsSpec):
            item = self.layout(element.item, name) if isinstance(element.item, GroupSpec) else "None"
            options = ""
            if isinstance(element.item, FieldSpec):
                options += f", storage={_storage(element.item.storage)}"
            for key, formula in (("count", element.count), ("size", element.size)):
                options += f", {key}=lambda g: {_python(formula)}" if formula is not None else ""
            options += f", room={element.fixed_size}" if element.places is not None else ""
            options += f", until={element.ended_by!r}" if element.ended_by is not None else ""
            return f'r.rows(g, "{name}", {{at}}, {{limit}}, {item}{_braced(options)})'
        assert isinstance(element, FieldSpec)
        if element.constant is not None:
            return f'r.constant(g, "{name}", {{at}}, {{limit}}, {_braced(repr(element.constant))})'
        size = f", lambda g: {_python(element.size)}" if element.size is not None else ""
        return f'r.field(g, "{name}", {{at}}, {{limit}}, {_braced(_storage(element.storage) + size)})'

    # JSON

    def json_file(self, spec: FileSpec) -> None:
        self.lines += [
            "",
            f"def read_{spec.name}(data: bytes, main: Group | None) -> Group:",
            f'    """The values of {spec.name}."""',
            '    v = json.loads(data.decode("utf-8-sig"))',
            f'    g = root = Group("{spec.root.name}")',
            "    root.main = main",
            *(f"    {line}" for line in self.json_layout(spec.root, "g", "v")),
            "    return root",
            "",
        ]

    def json_layout(self, group: GroupSpec, g: str, v: str) -> Iterator[str]:
        for element in group.layout:
            path = element.address.path
            assert path is not None
            found = f"walk({v}, [{', '.join(_json_steps(path))}])"
            yield "try:"
            if isinstance(element, GroupSpec):
                inner = f"{g}_{len(g)}"
                yield f'    {inner}, {v}_ = Group("{element.name}", {g}, {element.flat}), {found}'
                yield f'    {g}.put("{element.name}", {inner})'
                for line in self.json_layout(element, inner, f"{v}_"):
                    yield f"    {line}"
            elif isinstance(element, RowsSpec):
                if element.holds_itself:
                    what = f"readers do not read records of a text that hold themselves, as {element.name} are, yet"
                    raise LedgerError(what, "nothing was written")
                inner = f"{g}_{len(g)}"
                yield f"    rows_{inner} = []"
                yield f"    for {v}_ in {found}:"
                if isinstance(element.item, GroupSpec):
                    yield f'        {inner} = Group("item", {g})'
                    for line in self.json_layout(element.item, inner, f"{v}_"):
                        yield f"        {line}"
                    yield f"        rows_{inner}.append({inner})"
                else:
                    yield f"        rows_{inner}.append({_json_value(element.item, f'{v}_')})"
                yield f'    {g}.put("{element.name}", rows_{inner})'
            else:
                assert isinstance(element, FieldSpec)
                yield f"    number = {f'spelled({found})' if _is_number(element.storage) else found}"
                whole = "number if isinstance(number, int) else None"
                yield f'    {g}.put("{element.name}", {_json_value(element, "number")}, {whole})'
            yield "except (LookupError, TypeError, StopIteration):"
            yield f"    pass  # {element.name} is not in this save"


def _json_steps(path: PathFormula) -> Iterator[str]:
    """The steps of a path as Python; expressions in it are worked out when it is walked."""
    formulas = [part for part in path.parts if isinstance(part, Expression)]
    marks = iter(range(len(formulas)))
    joined = "".join(part if isinstance(part, str) else f"@{next(marks)}@" for part in path.parts)
    codes = {f"@{number}@": f"str({_python(formula)})" for number, formula in enumerate(formulas)}
    for step in parse_path(joined):
        if step.name is not None:
            yield codes.get(step.name, repr(step.name))
        elif step.index is not None:
            yield repr(step.index)
        else:
            yield f"({step.key!r}, {codes.get(step.value or '', repr(step.value))})"


def _is_number(storage: Storage) -> bool:
    """Whether a value of a text is a number, however it is shown."""
    while isinstance(storage, Wrapping):
        storage = storage.number
    return isinstance(storage, JsonNumber)


def _json_value(spec: FieldSpec, value: str) -> str:
    storage = spec.storage.number if isinstance(spec.storage, Formed) else spec.storage
    if isinstance(storage, Choice):
        return f"{dict(storage.names)!r}.get({value}, {value})"
    if isinstance(storage, Switches):
        names = dict(storage.names)
        return f"[{names!r}.get(bit, f'bit {{bit}}') for bit in range({value}.bit_length()) if {value} >> bit & 1]"
    if isinstance(storage, Scaled):
        return f"unscaled({value}, '{storage.scale}', '{storage.bias}', {storage.rounding!r})"
    return value


def _braced(text: str) -> str:
    """A part of a call that is not to be filled in."""
    return text.replace("{", "{{").replace("}", "}}")


def _python(formula: Expression | None) -> str:
    """An expression as Python, with names looked up outwards from the group `g`."""
    if formula is None:
        return "0"
    if formula.constant is not None:
        return str(formula.constant)
    texts = formula.texts

    class Names(ast.NodeTransformer):
        def visit_Compare(self, node: ast.Compare) -> ast.AST:
            if {ast.unparse(node.left), ast.unparse(node.comparators[0])} & texts:
                sides = [node.left, *node.comparators]
                node.left, *node.comparators = (_said(each) if ast.unparse(each) in texts else each for each in sides)
                return node
            return self.generic_visit(node)

        def visit_Name(self, node: ast.Name) -> ast.AST:
            return _lookup(node.id)

        def visit_Attribute(self, node: ast.Attribute) -> ast.AST:
            return _lookup(ast.unparse(node))

        def visit_Subscript(self, node: ast.Subscript) -> ast.AST:
            return _lookup(ast.unparse(node))

        def visit_Call(self, node: ast.Call) -> ast.AST:
            node.args = [self.visit(argument) for argument in node.args]
            return node

    return ast.unparse(Names().visit(ast.parse(formula.text, mode="eval")))


def _lookup(path: str) -> ast.AST:
    return ast.parse(f"g.number({path!r})", mode="eval").body


def _said(path: ast.expr) -> ast.expr:
    return ast.parse(f"g.said({ast.unparse(path)!r})", mode="eval").body


def _storage(storage: Storage) -> str:
    """The call of the shared part that reads a storage."""
    match storage:
        case Choice():
            return f"choice({_storage(_inner(storage))}, {dict(storage.names)!r})"
        case Switches():
            return f"switches({_storage(_inner(storage))}, {dict(storage.names)!r}, {storage.count})"
        case Scaled():
            return f"scaled({_storage(storage.number)}, '{storage.scale}', '{storage.bias}', {storage.rounding!r})"
        case Formed():
            return _storage(storage.number)
        case Coordinates():
            return f"coordinates({_storage(storage.number)}, {len(storage.axes)})"
        case Moment():
            inner = _storage(storage.number)
            return f"moment({inner}, '{storage.begin}', '{storage.step}', {isinstance(storage.number, Float)})"
        case DosMoment():
            return f"dos_moment('{storage.number.order}')"
        case Guid():
            return f"guid({storage.little})"
        case Colour():
            return f"colour('{storage.name}')"
        case FixedBytes():
            return f"plain_bytes({storage.size})"
        case ListedText():
            return _storage(storage.text)
        case BitRange():
            word = storage.word
            return f"some_bits({word.size}, '{word.order}', {storage.low}, {storage.bits}, {storage.signed})"
        case Integer():
            return f"whole({storage.size}, '{storage.order}'{', True' if storage.signed else ''})"
        case Float():
            return f"fraction({storage.size}, '{storage.order}')"
        case PackedDecimal():
            return f"packed({storage.size}, {storage.little})"
        case UnpackedDecimal():
            return f"unpacked({storage.size}, {storage.little})"
        case Leb128():
            return f"leb128('{storage.name}')"
        case SizedNumber():
            return f"sized('{storage.name}')"
        case DigitsBuffer():
            return f"digits_in({storage.size})"
        case Digits():
            return f"digits({2 if storage.wide else 1})"
        case FixedText():
            return f"fixed_text({storage.size}, {_encoding(storage)}, {storage.pad!r})"
        case PrefixedText():
            wide = f", {storage.end!r}, {storage.wide!r}" if storage.end or storage.wide else ""
            length, letters = _storage(storage.length), _encoding(storage)
            return f"prefixed_text({length}, {letters}, {storage.unit}, {storage.room}{wide})"
        case EndedText():
            return f"ended_text({_encoding(storage)}, {storage.unit}, {storage.end!r})"
        case FreeText():
            return f"free_text({_encoding(storage)})"
        case Checksum():
            return f"checksum({storage.size}, '{storage.written}')"
        case RawBytes():
            return "raw_bytes"
    raise LedgerError(f"readers cannot read {storage.about} yet", "nothing was written")


def _encoding(storage: FixedText | PrefixedText | EndedText | FreeText) -> str:
    """The name of an encoding, or a game's own letters by byte."""
    return repr(storage.encoding if storage.letters is None else storage.letters.by_byte)


def _inner(storage: Choice | Switches) -> Storage:
    number = storage.number
    assert not isinstance(number, WholeInText)
    return number


def _read_all(template: Template, files: list[FileSpec], left: list[str]) -> str:
    """The function that reads the first file, those beside it, and payloads inside of them."""
    lines = [
        "",
        "def read_all(path: str, payloads: dict[str, str]) -> dict[str, Any]:",
        '    """The values of each file of a save by its name. `payloads` are files that hold what was unwrapped."""',
    ]
    lines += [f"    # not read: {', '.join(left)}"] if left else []
    lines += ["    found: dict[str, Any] = {}", "    contents: dict[str, bytes] = {}", "    main = None"]
    for number, spec in enumerate(files):
        name = spec.name
        lines.append(f"    if {name!r} in payloads:")
        lines += [
            f"        with open(payloads[{name!r}], 'rb') as file:",
            f"            contents[{name!r}] = file.read()",
        ]
        if spec.inside:
            around = template.files[spec.inside].name
            lines.append(f"    elif {around!r} in contents:")
            lines += [f"        {line}" for line in _unwrapping(template, spec, around)]
        elif number == 0:
            lines += [
                "    else:",
                "        with open(path, 'rb') as file:",
                f"            contents[{name!r}] = file.read()",
            ]
        else:
            beside = f"os.path.join(os.path.dirname(path), {_name_beside(spec, template.main)})"
            lines.append(f"    elif os.path.isfile({beside}):")
            lines.append(f"        contents[{name!r}] = content_of({beside})")
        lines.append(f"    if {name!r} in contents:")
        lines.append(f"        found[{name!r}] = read_{name}(contents[{name!r}], main)")
        lines.append(f"        main = main or found[{name!r}]")
    return "\n".join([*lines, "    return found", ""])


def _name_beside(spec: FileSpec, first: FileSpec) -> str:
    """What a file is called, in Python; a `*` stands for the same letters as in the name of the first one."""
    if "*" not in spec.file_name:
        return repr(spec.file_name)
    before, _, behind = first.file_name.partition("*")
    name = "os.path.basename(path)"
    return f"{spec.file_name!r}.replace('*', {name}[{len(before)} : len({name}) - {len(behind)}])"


def _unwrapping(template: Template, spec: FileSpec, around: str) -> Iterator[str]:
    """How a payload is reached; what cannot be done here is asked for."""
    what = f"{spec.name} is packed in a way this reader does not know: unwrap it, and give {spec.name}=FILE"
    need = f"raise NeedsPayload({what!r})"
    indent = ""
    if spec.is_held_in_rows:
        yield "parts = []"
        yield f"for data in found[{around!r}].parts_of({spec.held_by!r}, contents[{around!r}]):"
        indent = "    "
    elif spec.held_by and template.files[around].format == "binary":
        yield f"data = found[{around!r}].bytes_of({spec.held_by!r}, contents[{around!r}])"
    elif spec.held_by:
        path = spec.held_by.split(".")
        value = f"found[{around!r}]" + "".join(f"[{name!r}]" for name in path)
        yield f"data = str({value}).encode('utf-8')"
    else:
        yield f"data = contents[{around!r}]"
    for layer in spec.layers:
        line = _undone(layer, around)
        if line is None:
            yield f"{indent}{need}"
            return
        yield f"{indent}try:"
        yield f"{indent}    data = {line}"
        yield f"{indent}except (ValueError, OSError, EOFError, zlib.error, lzma.LZMAError) as error:"
        yield f"{indent}    {need} from error"
    if indent:
        yield f"{indent}parts.append(data)"
        yield "data = b''.join(parts)"
    yield f"contents[{spec.name!r}] = data"


def _undone(layer: LayerSpec, around: str) -> str | None:
    """A layer as Python; None where the standard library has nothing for it."""
    at = f"[{_python(layer.at).replace('g.number', f'found[{around!r}].number')}:]" if layer.at is not None else ""
    if layer.kind in STANDARD:
        return STANDARD[layer.kind].format(at=at)
    if layer.kind != "xor" or not (layer.key or layer.key_of):
        return None
    key = repr(layer.key) if layer.key else f"found[{around!r}].bytes_of({layer.key_of!r}, contents[{around!r}])"
    return f"unmixed(data{at}, {key})"
