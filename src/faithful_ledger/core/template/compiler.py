"""From the validated keys of a template to the model the binder uses.

Every mistake that needs more than one key to see is found here: names that lead nowhere, storages and algorithms that
do not exist, expressions that are not allowed, records within themselves. All are gathered, none stops the others.
"""

from __future__ import annotations

import re
from fractions import Fraction
from itertools import islice
from typing import Any, NamedTuple, TypeAlias

from faithful_ledger.core.address import NEXT, Address, Expression, parse_path
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.layers import KEYED, LAYERS, STREAMS, LayerSpec
from faithful_ledger.core.seals.algorithms import ALGORITHMS
from faithful_ledger.core.storage import (
    BitRange,
    Choice,
    EndedText,
    FixedText,
    FreeText,
    Integer,
    JsonNumber,
    JsonSwitch,
    JsonText,
    Leb128,
    Number,
    Order,
    PrefixedText,
    RawBytes,
    Scaled,
    Storage,
    Switches,
    WholeNumber,
    number_storage,
    parse_fraction,
    text_encoding,
    unit_of,
)
from faithful_ledger.core.suggest import did_you_mean
from faithful_ledger.core.template.model import (
    Bounds,
    Companion,
    Derived,
    ElementSpec,
    EqualRule,
    FieldSpec,
    FileSpec,
    GroupSpec,
    RowsSpec,
    SealSpec,
    SectionSpec,
    Sign,
    Template,
    elements_of,
)

__all__ = ["Mistakes", "Where", "compile_template"]

Keys: TypeAlias = dict[str, Any]
Where: TypeAlias = tuple[str | int, ...]
Mistakes: TypeAlias = list[tuple[Where, str]]

BITS = re.compile(r"([ui])([0-9]{1,2})")
DEEPEST = 24
MOST_ELEMENTS = 20_000  # when every record that is named is put in its place
MOST_HINTS = 40
MOST_KNOWN = 2_000  # names that a mistyped one is compared with
HOLDING = (FixedText, FreeText, JsonText, PrefixedText, RawBytes)
JSON_STORAGES: dict[str, type[Storage]] = {"number": JsonNumber, "text": JsonText, "switch": JsonSwitch}


def ends_known(storage: Storage, size: Expression | None) -> bool:
    """Whether the beginning of a value can be worked out from its end."""
    return size is None and (storage.size is not None or isinstance(storage, PrefixedText | Leb128))


def compile_template(keys: Keys, mistakes: Mistakes) -> Template:
    """`keys` has passed the schema. Mistakes are appended to `mistakes` with the way to the key they are about; the
    result may only be used when there are none.
    """
    return _Compiler(keys, mistakes).template()


class _Compiled(NamedTuple):
    """A record that needs nothing from around it, shared by all rows of it; with how many elements it has."""

    record: GroupSpec
    elements: int


def _is_closed(record: GroupSpec) -> bool:
    """Whether all names that the elements of a record use are within the record."""
    for element in elements_of(*record.layout):
        names = list(element.address.names) + ([element.address.table] if element.address.table else [])
        formulas = [element.when, element.size if isinstance(element, FieldSpec | GroupSpec | RowsSpec) else None]
        formulas.append(element.count if isinstance(element, RowsSpec) else None)
        names += [name for formula in formulas if formula is not None for name in formula.names]
        if isinstance(element, FieldSpec) and element.derived is not None:
            names.append(element.derived.target)
        if isinstance(element, FieldSpec) and element.seal is not None:
            names += element.seal.over
        if not all(_is_within(record, element, name.partition(".")[0]) for name in names):
            return False
    return True


def _is_within(record: GroupSpec, element: ElementSpec, name: str) -> bool:
    """Whether a name is found when it is looked up outwards from an element, up to the record."""
    holder: ElementSpec | None = element.parent
    while holder is not None:
        if isinstance(holder, GroupSpec) and (holder.named(name) is not None or holder.name == name):
            return True
        holder = holder.parent if holder is not record else None
    return False


class _Compiler:
    def __init__(self, keys: Keys, mistakes: Mistakes) -> None:
        self.keys, self.mistakes = keys, mistakes
        self.catalogues: dict[str, dict[int, str]] = keys.get("catalogues", {})
        self.records: dict[str, list[Keys]] = keys.get("records", {})
        self.format = "binary"
        self.order: Order = "little"
        self.main: GroupSpec | None = None
        self.later: list[tuple[Where, ElementSpec, str]] = []
        self.elements = self.depth = 0
        self.compiled: dict[str, _Compiled] = {}

    def template(self) -> Template:
        files: dict[str, FileSpec] = {}
        for name, file in self.keys["files"].items():
            where: Where = ("files", name)
            self.format, self.order = file.get("format", "binary"), file.get("order", "little")
            root = GroupSpec(name if files else "")
            self.main = self.main or root
            self.layout(file["layout"], root, (*where, "layout"), ())
            spec = FileSpec(name, file.get("name", ""), self.format, self.order, root)
            if (file.get("name") is None) == (file.get("inside") is None):
                self.mistakes.append((where, "a file has one of name and inside"))
            elif file.get("inside") is None:
                self.file_name(file["name"], (*where, "name"))
                self.root(spec, file.get("root") or "", is_first=not files, where=(*where, "root"))
            elif file.get("root") is not None:
                self.mistakes.append(((*where, "root"), "a payload is where the file around it is"))
            else:
                self.inside(spec, file, files, where)
            files[name] = spec
            if len(files) > 1 and self.main.named(name):
                self.mistakes.append((where, f"“{name}” is a file and also a field of the first file; rename one"))
        for where, element, path in self.later:
            if not self._leads_to(element, path):
                self.mistakes.append((where, f"“{path}” leads to no field or group{self._hint(path, element)}"))
        template = Template(
            id=self.keys["id"],
            title=self.keys["title"],
            version=self.keys.get("version", "0"),
            game=self.keys.get("game", "") or self.keys["title"],
            about=self.keys.get("about", ""),
            signs=[self.sign(sign, ("recognise", n)) for n, sign in enumerate(self.keys.get("recognise", []))],
            files=files,
            companions=[Companion(c["name"], c.get("why", "")) for c in self.keys.get("companions", [])],
            rules=[
                EqualRule(rule["equal"][0], rule["equal"][1], rule.get("why", ""))
                for rule in self.keys.get("rules", [])
            ],
            sections=[],
            roots=dict(self.keys.get("roots", {})),
        )
        for number, companion in enumerate(template.companions):
            self.file_name(companion.name, ("companions", number, "name"))
            if companion.name in {spec.file_name for spec in files.values()}:
                text = f"“{companion.name}” is a file of the save, so it cannot be a companion that goes"
                self.mistakes.append((("companions", number, "name"), text))
        for number, rule in enumerate(template.rules):
            for path in (rule.left, rule.right):
                found = self.whole_path(template, path, ("rules", number, "equal"))
                if "[*]" in path:
                    self.mistakes.append((("rules", number, "equal"), f"“{path}” is many fields; a rule is about two"))
                elif found is not None and not isinstance(found, FieldSpec):
                    self.mistakes.append((("rules", number, "equal"), f"“{path}” is not a field with a value"))
        for number, section in enumerate(self.keys.get("sections", [])):
            template.sections.append(self.section(template, section, ("sections", number)))
        return template

    def root(self, spec: FileSpec, name: str, *, is_first: bool, where: Where) -> None:
        """The folder of a file, by the role it has for the game."""
        roots = self.keys.get("roots", {})
        if name and is_first:
            self.mistakes.append((where, "the first file is the one people open, so its folder is known"))
        elif name and name not in roots:
            hint = did_you_mean(name, roots) or f"roots has {', '.join(roots) or 'none'}"
            self.mistakes.append((where, f"“{name}” is not one of the template's roots; {hint}"))
        spec.root_name = name

    def inside(self, spec: FileSpec, keys: Keys, files: dict[str, FileSpec], where: Where) -> None:
        """Where a payload inside another one comes from."""
        spec.inside, _, spec.held_by = keys["inside"].partition(".")
        given = [{"layer": layer} if isinstance(layer, str) else layer for layer in keys.get("layers", ())]
        spec.layers = tuple(self.layer_spec(each, (*where, "layers", number)) for number, each in enumerate(given))
        if spec.inside not in files:
            hint = did_you_mean(spec.inside, files) or "name a file that stands before this one"
            self.mistakes.append(((*where, "inside"), f"“{spec.inside}” is no file here; {hint}"))
            return
        if not spec.held_by and not spec.layers:
            self.mistakes.append((where, "it is inside a whole file, so say through which layers"))
        for number, layer in enumerate(spec.layers):
            self.layer(layer, files[spec.inside].root, (*where, "layers", number))
        found = self._within_group(files[spec.inside].root, spec.held_by)
        if spec.held_by and not (isinstance(found, FieldSpec) and isinstance(found.storage, HOLDING)):
            what = "leads to no field" if not isinstance(found, FieldSpec) else "is neither a text nor unknown bytes"
            self.mistakes.append(((*where, "inside"), f"“{spec.held_by}” {what}"))

    def layer_spec(self, keys: Keys, where: Where) -> LayerSpec:
        at: Expression | None = None
        if keys.get("at") is not None:
            try:
                at = Expression(keys["at"])
            except LedgerError as error:
                self.mistakes.append(((*where, "at"), str(error)))
        key = bytes.fromhex(keys["key"]) if keys.get("key") else None
        return LayerSpec(keys["layer"], key, keys.get("key_of") or "", at, keys.get("put_back", True))

    def layer(self, layer: LayerSpec, around: GroupSpec, where: Where) -> None:
        """A layer is one we know, and its key is where it says."""
        if layer.kind not in LAYERS:
            hint = did_you_mean(layer.kind, LAYERS) or f"there are {', '.join(LAYERS)}"
            self.mistakes.append((where, f"“{layer.kind}” is no layer; {hint}"))
        elif (layer.key is not None or layer.key_of) and layer.kind not in KEYED:
            self.mistakes.append((where, f"{layer.kind} has no key; only {' and '.join(KEYED)} have one"))
        elif layer.key is not None and layer.key_of:
            self.mistakes.append((where, "a layer has one of key and key_of"))
        elif layer.kind in KEYED and layer.key is None and not layer.key_of:
            text = f"the key of {layer.kind} is not given: write {{layer: {layer.kind}, key: …}}, or key_of a field"
            self.mistakes.append((where, text))
        elif layer.at is not None and layer.kind not in STREAMS:
            self.mistakes.append((where, f"{layer.kind} covers the whole payload, so it has no at"))
        for name in layer.at.names if layer.at is not None else ():
            if self._within_group(around, name) is None:
                self.mistakes.append(((*where, "at"), f"“{name}” leads to no field of the file around"))
        found = self._within_group(around, layer.key_of)
        if layer.key_of and not isinstance(found, FieldSpec):
            self.mistakes.append(((*where, "key_of"), f"“{layer.key_of}” leads to no field of the file around"))

    @staticmethod
    def _within_group(group: ElementSpec | None, path: str) -> ElementSpec | None:
        for step in path.split("."):
            group = group.named(step) if isinstance(group, GroupSpec) else None
        return group

    # elements

    def layout(self, elements: list[Keys], parent: GroupSpec, where: Where, within: tuple[str, ...]) -> None:
        if self.depth >= DEEPEST:
            self.mistakes.append((where, f"groups and records are nested deeper than {DEEPEST} levels"))
            return
        self.depth += 1
        for number, keys in enumerate(elements):
            if not self.count_elements(1, where):
                break
            self.element(keys, parent, (*where, number), within)
        self.depth -= 1

    def count_elements(self, more: int, where: Where) -> bool:
        """Whether there are not too many; those of shared records count at each place, because they are bound there."""
        before, self.elements = self.elements, self.elements + more
        if before <= MOST_ELEMENTS < self.elements:
            text = f"with its records put in their places the template has more than {MOST_ELEMENTS} elements"
            self.mistakes.append((where, text))
        return self.elements <= MOST_ELEMENTS

    def element(self, keys: Keys, parent: GroupSpec, here: Where, within: tuple[str, ...]) -> None:
        kind = next(kind for kind in ("field", "constant", "unknown", "group", "rows") if kind in keys)
        if self._holder(parent).named(keys[kind]) is not None:
            self.mistakes.append(((*here, kind), f"“{keys[kind]}” stands here twice; names in a group differ"))
        if parent.word is not None and (kind != "field" or keys.get("at") is not None or keys.get("when") is not None):
            self.mistakes.append((here, "the parts of a whole number are fields, one behind the other"))
        element: ElementSpec
        if kind == "group":
            element = GroupSpec(keys[kind], flat=keys.get("flat", False))
        elif kind == "rows":
            element = RowsSpec(keys[kind], key=keys.get("key"), key_may_repeat=keys.get("key_may_repeat", False))
        else:
            element = FieldSpec(keys[kind])
        element.parent = parent
        element.label, element.note = keys.get("label", ""), keys.get("note", "")
        element.when = self.formula(keys, "when", element, here)
        element.address = self.address(keys, element, here)
        if isinstance(element, GroupSpec):
            parent.add(element)
            element.size = self.formula(keys, "size", element, here)
            if keys.get("word") is not None:
                self.word(element, keys["word"], (*here, "word"))
            self.layout(keys["layout"], element, (*here, "layout"), within)
        elif isinstance(element, RowsSpec):
            self.rows(element, keys, here, within)
            parent.add(element)
        else:
            assert isinstance(element, FieldSpec)
            getattr(self, kind)(element, keys, here)
            parent.add(element)
        if element.address.base == "before" and not (
            isinstance(element, FieldSpec) and ends_known(element.storage, element.size)
        ):
            text = "only a field of fixed size, a LEB128 number or a text with its length in front has a known end"
            self.mistakes.append(((*here, "before"), text))

    def address(self, keys: Keys, element: ElementSpec, where: Where) -> Address:
        """Where an element says it is."""
        try:
            if self.format == "binary":
                address = Address.from_keys(keys)
                if address == NEXT:
                    return NEXT
            else:
                address = Address.by_path(str(keys.get("at", element.name)))
                given = next((key for key in ("behind", "before", "table", "align") if keys.get(key) is not None), None)
                if given is not None:
                    self.mistakes.append(((*where, given), "in a text an element is found by its path"))
        except LedgerError as error:
            key = next((key for key in ("before", "behind", "table") if keys.get(key) is not None), "at")
            self.mistakes.append(((*where, "at" if keys.get("at") is not None and key == "at" else key), str(error)))
            return NEXT
        self._check_names(address.names, element, (*where, "at" if keys.get("at") is not None else "entry"))
        if address.table and not self._leads_to(element, address.table):
            self.mistakes.append(((*where, "table"), f"“{address.table}” is no table that comes before"))
        return address

    def rows(self, element: RowsSpec, keys: Keys, where: Where, within: tuple[str, ...]) -> None:
        item = GroupSpec("item", parent=element)
        element.item = item
        given = [key for key in ("record", "layout", "each") if keys.get(key) is not None]
        if len(given) != 1:
            self.mistakes.append((where, "rows have one of record, layout and each"))
        elif given == ["record"]:
            name = keys["record"]
            if name in within:
                self.mistakes.append(((*where, "record"), f"the record “{name}” would hold itself"))
            elif name not in self.records:
                hint = did_you_mean(name, self.records)
                self.mistakes.append(((*where, "record"), f"there is no record “{name}”{'; ' + hint if hint else ''}"))
            elif (known := self.compiled.get(name)) is not None:
                item.layout, item.names = known.record.layout, known.record.names
                self.count_elements(known.elements, (*where, "record"))
            else:
                before = self.elements
                self.layout(self.records[name], item, ("records", name), (*within, name))
                if _is_closed(item):
                    self.compiled[name] = _Compiled(item, self.elements - before)
        elif given == ["layout"]:
            self.layout(keys["layout"], item, (*where, "layout"), within)
        else:
            single = FieldSpec("item", parent=element)
            single.label, single.note = keys["each"].get("label", ""), keys["each"].get("note", "")
            self.field(single, {"field": "item", **keys["each"]}, (*where, "each"))
            element.item = single
        if self.format == "json":
            return
        ends = [key for key in ("count", "size", "ended_by") if keys.get(key) is not None]
        if len(ends) != 1:
            self.mistakes.append((where, "rows have one of count, size and ended_by, which say where they end"))
        element.count = self.formula(keys, "count", element, where)
        element.size = self.formula(keys, "size", element, where)
        element.ended_by = bytes.fromhex(keys["ended_by"]) if keys.get("ended_by") else None
        if element.key and (not isinstance(element.item, GroupSpec) or element.item.named(element.key) is None):
            self.mistakes.append(((*where, "key"), f"the record has no field “{element.key}”"))

    def constant(self, element: FieldSpec, keys: Keys, where: Where) -> None:
        given = keys.get("bytes")
        text: str | None = keys.get("text")
        if (given is None) == (text is None):
            self.mistakes.append((where, "a constant has one of bytes and text"))
            return
        element.constant = bytes.fromhex(given) if given is not None else (text or "").encode("utf-8")
        element.storage = FixedText(len(element.constant), "latin-1", b"\0")
        element.locked = "it is the same in every save"
        element.standing = "proven"

    def unknown(self, element: FieldSpec, keys: Keys, where: Where) -> None:
        element.storage, element.unknown = RawBytes(), True
        element.size = self.formula(keys, "size", element, where)

    def field(self, element: FieldSpec, keys: Keys, where: Where) -> None:
        element.storage = self.storage(element, keys, where)
        element.standing, element.locked = keys.get("standing", "guessed"), keys.get("locked")
        if bounds := keys.get("bounds"):
            element.bounds = Bounds(bounds.get("least"), bounds.get("most"), bounds.get("why", ""))
        derived = [kind for kind in ("length", "count", "offset") if keys.get(f"{kind}_of") is not None]
        seal = keys.get("seal")
        if len(derived) + (seal is not None) > 1:
            self.mistakes.append((where, "a field is worked out in one way: length_of, count_of, offset_of or seal"))
        elif (derived or seal) and not isinstance(
            element.storage, (WholeNumber if derived else Integer) if self.format == "binary" else JsonNumber
        ):
            self.mistakes.append((where, "only a whole number can be worked out"))
        elif derived:
            key = f"{derived[0]}_of"
            element.derived = Derived(derived[0], keys[key], keys.get("plus", 0))  # type: ignore[arg-type]
            self.later.append(((*where, key), element, keys[key]))
        elif seal:
            over = (seal["over"],) * 2 if isinstance(seal["over"], str) else tuple(seal["over"])
            element.seal = SealSpec(seal["algorithm"], over, seal.get("own"), seal.get("policy", "renew"))
            self.later += [((*where, "seal", "over"), element, path) for path in dict.fromkeys(over) if path != "file"]
            if seal["algorithm"] not in ALGORITHMS:
                hint = did_you_mean(seal["algorithm"], ALGORITHMS) or f"there are {', '.join(ALGORITHMS)}"
                self.mistakes.append(((*where, "seal", "algorithm"), f"no algorithm “{seal['algorithm']}”; {hint}"))

    def storage(self, element: FieldSpec, keys: Keys, where: Where) -> Storage:
        name: str = keys.get("as", "")
        if self.format == "json":
            if name not in JSON_STORAGES:
                self.mistakes.append(((*where, "as"), f"in JSON a value is number, text or switch, not “{name}”"))
                return JsonNumber()
            made = JSON_STORAGES[name]()
            return self.scaled(made, keys, where) if isinstance(made, JsonNumber) else made
        if name == "text":
            return self.text(element, keys, where)
        if isinstance(element.parent, GroupSpec) and element.parent.word is not None:
            number: Number | BitRange | None = self.bits(element.parent.word, element.parent, name, (*where, "as"))
        else:
            number = number_storage(name, self.order)
        if number is None:
            whole = ("u8", "u16", "u24", "u32", "u64", "i8", "i16", "i24", "i32", "i64", "f32", "f64")
            hint = did_you_mean(name, ("text", *whole, "bcd2", "bcd4", "uleb128", "sleb128", "zigzag", "digits"))
            self.mistakes.append(((*where, "as"), f"“{name}” is no kind of value{'; ' + hint if hint else ''}"))
            return Integer(1, False, "little")
        for key, wrapped in (("names", Choice), ("switches", Switches)):
            if keys.get(key) is not None and isinstance(number, Integer | BitRange):
                names = self.names(keys[key], (*where, key))
                self.within(names, number, key, (*where, key))
                return wrapped(number, names)
        if any(keys.get(key) is not None for key in ("names", "switches")):
            self.mistakes.append((where, "only whole numbers have names or switches"))
        return self.scaled(number, keys, where)

    def bits(self, word: Integer, parent: GroupSpec, name: str, where: Where) -> BitRange | None:
        """The next bits of a whole number, from the lowest up; as many as `u5` or `i5` says."""
        used = sum(part.storage.bits or 0 for part in parent.layout if isinstance(part, FieldSpec))
        match = BITS.fullmatch(name)
        if match is None or not 0 < int(match[2]) <= word.bits - used:
            left = word.bits - used
            text = f"“{name}” is not a number of bits; {word.name} has {left} left, so write u1 to u{left}"
            self.mistakes.append((where, text if left else f"all bits of {word.name} are used by the fields before"))
            return BitRange(word, 0, 1)
        return BitRange(word, used, int(match[2]), match[1] == "i")

    def word(self, element: GroupSpec, name: str, where: Where) -> None:
        """A group that is one whole number."""
        found = number_storage(name, self.order)
        if self.format != "binary" or not isinstance(found, Integer) or found.signed:
            self.mistakes.append(
                (where, f"“{name}” is not a whole number without a sign, such as u16, of a binary file")
            )
            return
        element.word = found
        if element.size is not None:
            self.mistakes.append((where, "a group has one of word and size"))

    def within(self, names: dict[int, str], number: Integer | BitRange, key: str, where: Where) -> None:
        """Every name stands for a value or a bit that the number has."""
        least, most = (0, number.bits - 1) if key == "switches" else (number.least, number.most)
        outside = [value for value in names if not least <= value <= most]
        if outside:
            what = "bits" if key == "switches" else "values"
            self.mistakes.append((where, f"{outside[0]} is outside the {what} of {number.name} ({least} to {most})"))

    def scaled(self, number: Number, keys: Keys, where: Where) -> Storage:
        """The number as the game shows it, where it is shown otherwise than stored."""
        given = {key: str(keys[key]) for key in ("scale", "bias") if keys.get(key) is not None}
        if not given and keys.get("rounding") is None:
            return number
        found = {key: parse_fraction(text) for key, text in given.items()}
        for key, value in found.items():
            if value is None or (key == "scale" and not value):
                text = f"“{given[key][:40]}” is not a {key}; write a number such as 100, 0.1 or 1/3"
                self.mistakes.append(((*where, key), text))
        scale, bias = found.get("scale") or Fraction(1), found.get("bias") or Fraction(0)
        return Scaled(number, scale, bias, keys.get("rounding"))

    def text(self, element: FieldSpec, keys: Keys, where: Where) -> Storage:
        encoding = text_encoding(keys.get("encoding", "utf-8"))
        if encoding is None:
            self.mistakes.append(((*where, "encoding"), f"“{keys['encoding']}” is no text encoding of Python"))
            encoding = "utf-8"
        size, length, end = keys.get("size"), keys.get("length"), keys.get("ended_by")
        if end is not None and (size is not None or length is not None):
            self.mistakes.append((where, "a text up to ended_by has neither size nor length"))
        elif end is not None:
            return EndedText(encoding, bytes.fromhex(end))
        elif size is None and length is None:
            self.mistakes.append((where, "a text has a size, a length, or both, or ended_by"))
            return FreeText(encoding)
        formula = self.formula(keys, "size", element, where)
        constant = formula.constant if formula is not None else None
        if constant is not None and not 0 < constant <= 1 << 20:
            self.mistakes.append(((*where, "size"), "a text has between 1 byte and 1 MiB"))
            return FreeText(encoding)
        if length is not None:
            prefix = number_storage(length, self.order)
            if not isinstance(prefix, Integer) or prefix.signed:
                self.mistakes.append(((*where, "length"), f"“{length}” is not a whole number without a sign"))
                prefix = Integer(1, False, "little")
            if formula is not None and constant is None:
                self.mistakes.append(((*where, "size"), "a text with a length in front is in a buffer of fixed size"))
            return PrefixedText(prefix, encoding, room=constant)
        if constant is not None:
            return FixedText(constant, encoding, bytes.fromhex(keys.get("pad") or "00" * unit_of(encoding)))
        element.size = formula
        return FreeText(encoding)

    def names(self, given: str | dict[int, str], where: Where) -> dict[int, str]:
        if isinstance(given, str):
            if given not in self.catalogues:
                hint = did_you_mean(given, self.catalogues)
                self.mistakes.append((where, f"there is no catalogue “{given}”{'; ' + hint if hint else ''}"))
            return self.catalogues.get(given, {})
        return {int(number): name for number, name in given.items()}

    # names and expressions

    def formula(self, keys: Keys, key: str, element: ElementSpec, where: Where) -> Expression | None:
        if keys.get(key) is None:
            return None
        try:
            expression = Expression(keys[key])
        except LedgerError as error:
            self.mistakes.append(((*where, key), str(error)))
            return None
        self._check_names(expression.names, element, (*where, key))
        return expression

    def _check_names(self, names: tuple[str, ...], element: ElementSpec, where: Where) -> None:
        for name in names:
            if not self._leads_to(element, name):
                text = f"“{name}” is no field that comes before{self._hint(name, element)}"
                self.mistakes.append((where, text))

    @staticmethod
    def _holder(group: GroupSpec) -> GroupSpec:
        """The group whose names a flat group shares."""
        while group.flat and isinstance(group.parent, GroupSpec):
            group = group.parent
        return group

    def _scopes(self, element: ElementSpec) -> list[GroupSpec]:
        scopes: list[GroupSpec] = []
        parent = element.parent
        while parent is not None:
            if isinstance(parent, GroupSpec):
                scopes.append(parent)
            parent = parent.parent
        if self.main is not None and self.main not in scopes:
            scopes.append(self.main)
        return scopes

    def _leads_to(self, element: ElementSpec, path: str) -> bool:
        names = path.split(".")
        for scope in self._scopes(element):
            found: ElementSpec | None = scope.named(names[0])
            if found is not None or scope.name == names[0]:
                found = found or scope
                for name in names[1:]:
                    found = found.named(name) if isinstance(found, GroupSpec) else None
                return found is not None
        return False

    def _hint(self, path: str, element: ElementSpec) -> str:
        known = [e.name for scope in self._scopes(element) for e in scope.layout]
        hint = did_you_mean(path, known[:MOST_KNOWN]) if len(self.mistakes) < MOST_HINTS else ""
        return f"; {hint}" if hint else ""

    def whole_path(self, template: Template, path: str, where: Where) -> ElementSpec | None:
        """The element a path from outside leads to, as rules and sections write it."""
        try:
            steps = parse_path(path)
        except LedgerError as error:
            self.mistakes.append((where, str(error)))
            return None
        first = steps[0].name or ""
        found: ElementSpec | None = template.main.root.named(first)
        if found is None and first in template.files:
            found = template.files[first].root
        for step in steps[1:]:
            if isinstance(found, RowsSpec):
                found = found.item if step.name is None else None
            elif isinstance(found, GroupSpec) and step.name:
                found = found.named(step.name)
            else:
                found = None
        if found is None:
            known = [e.name for e in islice(template.elements(), MOST_KNOWN)]
            hint = did_you_mean(path.rsplit(".")[-1], known) if len(self.mistakes) < MOST_HINTS else ""
            self.mistakes.append((where, f"“{path}” leads to no field{'; ' + hint if hint else ''}"))
        return found

    # the rest

    def file_name(self, name: str, where: Where) -> None:
        if {".", ".."} & set(name.split("/")):
            text = f"“{name}” leads elsewhere; a template only names files beside the save and in folders below"
            self.mistakes.append((where, text))

    def section(self, template: Template, keys: Keys, where: Where) -> SectionSpec:
        given = [key for key in ("fields", "table", "switches") if keys.get(key) is not None]
        if len(given) != 1:
            self.mistakes.append((where, "a section has one of fields, table and switches"))
        for path in keys.get("fields") or []:
            self.whole_path(template, path, (*where, "fields"))
        columns: tuple[str, ...] = tuple(keys.get("columns") or ())
        if (table := keys.get("table")) is not None:
            found = self.whole_path(template, table, (*where, "table"))
            if found is not None and not (isinstance(found, RowsSpec) and isinstance(found.item, GroupSpec)):
                self.mistakes.append(((*where, "table"), f"“{table}” is not rows of records"))
            elif isinstance(found, RowsSpec) and isinstance(found.item, GroupSpec):
                columns = columns or tuple(e.name for e in found.item.layout if isinstance(e, FieldSpec))
                for column in columns:
                    if found.item.named(column) is None:
                        text = f"the records of {table} have no field “{column}”"
                        self.mistakes.append(((*where, "columns"), text))
        if (switches := keys.get("switches")) is not None:
            found = self.whole_path(template, switches, (*where, "switches"))
            if found is not None and not (isinstance(found, FieldSpec) and isinstance(found.storage, Switches)):
                self.mistakes.append(((*where, "switches"), f"“{switches}” is no field of switches"))
        return SectionSpec(
            keys["title"], tuple(keys.get("fields") or ()), keys.get("table"), columns, keys.get("switches")
        )

    def sign(self, keys: Keys, where: Where) -> Sign:
        magic, size = keys.get("magic") or {}, keys.get("size") or {}
        text, given = magic.get("text"), magic.get("bytes")
        if magic and (text is None) == (given is None):
            self.mistakes.append(((*where, "magic"), "a magic has one of bytes and text"))
        content = None if not magic else (bytes.fromhex(given) if given else (text or "").encode())
        if not keys.get("name") and content is None:
            self.mistakes.append((where, "a sign needs a name or a magic: size alone fits too many files"))
        return Sign(keys.get("name"), magic.get("at", 0), content, size.get("least", 0), size.get("most"))
