"""The whole of a template: its files and their layers, rules, sections and signs."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from itertools import islice
from typing import Literal

from faithful_ledger.core.address import Expression, name_parts, parse_path
from faithful_ledger.core.errors import AddressError, LedgerError
from faithful_ledger.core.formats import DOCUMENTS
from faithful_ledger.core.layers import (
    CIPHERS,
    JOINED,
    KEYED,
    LAYERS,
    MASKINGS,
    SCRAMBLINGS,
    STREAMS,
    STRINGS,
    LayerSpec,
)
from faithful_ledger.core.layers.archives import ARCHIVES
from faithful_ledger.core.layers.ciphers import HAS_NO_IV, IV_DERIVED, derived_from, iv_from, wrong_cipher
from faithful_ledger.core.layers.scrambling import wrong_key
from faithful_ledger.core.storage import (
    FixedText,
    FreeText,
    JsonText,
    PrefixedText,
    RawBytes,
    SpelledText,
    Switches,
)
from faithful_ledger.core.suggest import did_you_mean
from faithful_ledger.core.template.carries import NameRule
from faithful_ledger.core.template.compile.carrying import Carrying, naming
from faithful_ledger.core.template.compile.elements import Elements, named_element
from faithful_ledger.core.template.compile.mistakes import MOST_HINTS, MOST_KNOWN, Keys, Mistakes, Where
from faithful_ledger.core.template.model import (
    Companion,
    ElementSpec,
    EqualRule,
    FieldSpec,
    FileSpec,
    GroupSpec,
    RowRule,
    RowsSpec,
    SectionSpec,
    Setting,
    Sign,
    Steps,
    Template,
    UsualBytes,
    Witness,
)
from faithful_ledger.core.template.seal_spec import WHOLE_FILE

__all__ = ["compile_signs", "compile_template"]

OVER_ROWS: tuple[Literal["sum", "unique", "among"], ...] = ("sum", "unique", "among")
HOLDING = (FixedText, FreeText, JsonText, PrefixedText, RawBytes, SpelledText)


def compile_template(keys: Keys, mistakes: Mistakes) -> Template:
    """`keys` has passed the schema. Mistakes are appended to `mistakes` with the way to the key they are about; the
    result may only be used when there are none.
    """
    return _Files(keys, mistakes).template()


class _Files:
    def __init__(self, keys: Keys, mistakes: Mistakes) -> None:
        self.keys, self.mistakes = keys, mistakes
        self.elements = Elements(keys, mistakes)
        self.known: dict[str, FileSpec] = {}  # the files that come before

    def template(self) -> Template:
        files = self.files()
        self.elements.check_targets()
        self.check_elsewhere(files)
        template = Template(
            id=self.keys["id"],
            title=self.keys["title"],
            version=self.keys.get("version", "0"),
            game=self.keys.get("game", "") or self.keys["title"],
            about=self.keys.get("about", ""),
            signs=compile_signs(self.keys, self.mistakes),
            files=files,
            companions=[Companion(c["name"], c.get("why", "")) for c in self.keys.get("companions", [])],
            rules=[_equal_rule(rule) for rule in self.rules if rule.get("equal")],
            sections=[],
            roots=dict(self.keys.get("roots", {})),
            steps=_steps(self.keys.get("steps") or {}),
            identity=tuple(self.keys.get("identity", ())),
            name_rules=tuple(_name_rule(rule) for rule in self.rules if rule.get("named")),
            row_rules=tuple(made for rule in self.rules if (made := _row_rule(rule)) is not None),
            author=self.keys.get("author", ""),
            origin=self.keys.get("origin", ""),
            witnesses=tuple(_witness(keys) for keys in self.keys.get("witnesses", ())),
        )
        settings = [step.path for step in template.steps.before if isinstance(step, Setting)]
        for where, paths in (
            (("steps", "look_for"), template.steps.look_for),
            (("steps", "before"), settings),
            (("identity",), template.identity),
        ):
            for path in paths:
                self.whole_path(template, path, where)
        for number, companion in enumerate(template.companions):
            self.file_name(companion.name, ("companions", number, "name"))
            if companion.name in {spec.file_name for spec in files.values()}:
                text = f"“{companion.name}” is a file of the save, so it cannot be a companion that goes"
                self.mistakes.append((("companions", number, "name"), text))
        for number, rule in enumerate(self.rules):
            self.rule(template, rule, number)
        Carrying(self.keys, self.mistakes, template, self.whole_path).add()
        for number, each in enumerate(template.carries):
            for pattern in [*each.patterns, each.needs]:
                self.file_name(pattern, ("carries", number))
        for number, section in enumerate(self.keys.get("sections", [])):
            template.sections.append(self.section(template, section, ("sections", number)))
        return template

    def check_elsewhere(self, files: dict[str, FileSpec]) -> None:
        """Lengths and seals of other files: those are there, and what is named in them."""
        for where, name, path in self.elements.elsewhere:
            if name not in files:
                hint = did_you_mean(name, files) or f"there are {', '.join(files)}"
                self.mistakes.append((where, f"“{name}” is not a file here; {hint}"))
            elif path not in WHOLE_FILE and not self._names(files[name].root, path):
                self.mistakes.append((where, f"“{path}” leads to no element of {name}; “file” is the whole of it"))

    @property
    def rules(self) -> list[Keys]:
        return self.keys.get("rules") or []

    def rule(self, template: Template, keys: Keys, number: int) -> None:
        """What is wrong with a rule."""
        named = keys.get("named")
        given = [key for key in ("equal", "named", *OVER_ROWS) if keys.get(key)]
        if len(given) != 1:
            text = "a rule has one of `equal`, `named`, `sum`, `unique` and `among`"
            self.mistakes.append((("rules", number), text))
        elif given[0] in OVER_ROWS:
            self.row_rule(template, keys, given[0], ("rules", number, given[0]))
        elif keys.get("file") and keys["file"] not in template.files:
            hint = did_you_mean(keys["file"], template.files) or f"there are {', '.join(template.files)}"
            self.mistakes.append((("rules", number, "file"), f"“{keys['file']}” is not a file here; {hint}"))
        elif named and "{}" not in keys.get("pattern", "") and not keys.get("names"):
            self.mistakes.append((("rules", number), "say with `pattern` where in the name the value is: {}"))
        for path in keys.get("equal") or ([named] if named else ()):
            where = ("rules", number, "named" if named else "equal")
            found = self.whole_path(template, path, where)
            if "[*]" in path:
                self.mistakes.append((where, f"“{path}” is many fields; a rule is about single ones"))
            elif found is not None and not isinstance(found, FieldSpec):
                self.mistakes.append((where, f"“{path}” is not a field with a value"))

    def row_rule(self, template: Template, keys: Keys, kind: str, where: Where) -> None:
        """What is wrong with a rule over records."""
        column, *others = [keys[kind]] if kind == "unique" else keys[kind]
        found = self.whole_path(template, column, where)
        if "[*]" not in column or (found is not None and not isinstance(found, FieldSpec)):
            self.mistakes.append((where, f"“{column}” is not a field of every record; write it as hold[*].count"))
        for other in others:
            found = self.whole_path(template, other, where)
            is_column = isinstance(found, FieldSpec) and (kind == "sum") is ("[*]" not in other)
            if found is not None and not is_column and not (kind == "among" and isinstance(found, RowsSpec)):
                wanted = "a single field" if kind == "sum" else "rows, or a field of every record"
                self.mistakes.append((where, f"“{other}” is not {wanted}"))

    def files(self) -> dict[str, FileSpec]:
        files: dict[str, FileSpec] = {}
        first: str = next(iter(self.keys["files"].values())).get("name") or ""
        for name, file in self.keys["files"].items():
            where: Where = ("files", name)
            format_, order = file.get("format", "binary"), file.get("order", "little")
            if format_ not in DOCUMENTS:
                hint = did_you_mean(format_, DOCUMENTS) or f"there are {', '.join(DOCUMENTS)}"
                self.mistakes.append(((*where, "format"), f"“{format_}” is not a format of documents; {hint}"))
            root = GroupSpec(name if files else "", where=where)
            self.elements.file(file["layout"], root, format_, order, (*where, "layout"))
            spec = FileSpec(name, file.get("name", ""), format_, order, root)
            if (file.get("name") is None) == (file.get("inside") is None):
                self.mistakes.append((where, "a file has one of name and inside"))
            elif file.get("inside") is None:
                self.file_name(file["name"], (*where, "name"))
                if files and "*" in file["name"] and (file["name"].count("*"), first.count("*")) != (1, 1):
                    text = f"a “*” here stands for what it is in the first file's name, and {first} does not have one"
                    self.mistakes.append(((*where, "name"), text))
                self.root(spec, file.get("root") or "", is_first=not files, where=(*where, "root"))
            elif file.get("root") is not None:
                self.mistakes.append(((*where, "root"), "a payload is where the file around it is"))
            else:
                self.inside(spec, file, files, where)
            spec.keeps_size = file.get("keeps_size", False)
            if spec.keeps_size and spec.format != "binary":
                self.mistakes.append(((*where, "keeps_size"), "only a binary file can keep its size"))
            spec.usual = tuple(UsualBytes(each["at"], bytes.fromhex(each["bytes"])) for each in file.get("usual", ()))
            if spec.usual and spec.format != "binary":
                self.mistakes.append(((*where, "usual"), "only a binary file has usual bytes"))
            files[name] = self.known[name] = spec
            if len(files) > 1 and next(iter(files.values())).root.named(name):
                self.mistakes.append((where, f"“{name}” is a file and also a field of the first file; rename one"))
        return files

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
        spec.part_size = keys.get("part_size") or 0
        if spec.part_size and not spec.is_held_in_rows:
            text = "only what all records hold, as in save.blocks[*].body, has parts of a size"
            self.mistakes.append(((*where, "part_size"), text))
        spec.layers = self.layer_specs(keys.get("layers", ()), (*where, "layers"))
        if spec.inside not in files:
            hint = did_you_mean(spec.inside, files) or "name a file that stands before this one"
            self.mistakes.append(((*where, "inside"), f"“{spec.inside}” is not a file here; {hint}"))
            return
        if not spec.held_by and not spec.layers:
            self.mistakes.append((where, "it is inside a whole file, so say through which layers"))
        for number, layer in enumerate(spec.layers):
            self.layer(layer, files[spec.inside].root, (*where, "layers", number))
        found = self._holder(files[spec.inside].root, spec.held_by)
        if spec.held_by and not (isinstance(found, FieldSpec) and isinstance(found.storage, HOLDING)):
            what = "leads to no field" if not isinstance(found, FieldSpec) else "is neither a text nor unknown bytes"
            self.mistakes.append(((*where, "inside"), f"“{spec.held_by}” {what}"))

    def layer_specs(self, given: Sequence[str | Keys], where: Where) -> tuple[LayerSpec, ...]:
        keys = [{"layer": layer} if isinstance(layer, str) else layer for layer in given]
        return tuple(self.layer_spec(each, (*where, number)) for number, each in enumerate(keys))

    def layer_spec(self, keys: Keys, where: Where) -> LayerSpec:
        at, size = (self._formula(keys, key, where) for key in ("at", "size"))
        key = bytes.fromhex(keys["key"]) if keys.get("key") else None
        derive = keys.get("derive")
        if derive is not None and derive["by"] == "scrypt" and derive.get("cost", 2) & derive.get("cost", 2) - 1:
            self.mistakes.append(((*where, "derive", "cost"), "the cost of scrypt is a power of two"))
            derive = None
        if derive is not None and derive.get("salt") == "iv" and keys.get("iv") == "derived":
            text = "the initial vector cannot be its salt and be derived with it as well"
            self.mistakes.append(((*where, "derive", "salt"), text))
        if derive is not None and derive.get("salt_size") is not None and derive.get("salt") != "first":
            self.mistakes.append(((*where, "derive", "salt_size"), "only a salt that is first has a size of its own"))
        return LayerSpec(
            keys["layer"],
            key,
            keys.get("key_of") or "",
            at,
            keys.get("put_back", True),
            keys.get("member") or "",
            iv_from(keys["layer"], keys.get("iv")),
            keys.get("padding") or "pkcs7",
            keys.get("tag") == "first",
            derived_from(derive) if derive is not None else None,
            self.layer_specs(keys.get("through") or (), (*where, "through")),
            tuple(keys.get("parts") or ()),
            keys.get("iv_at"),
            size,
            keys.get("number") or "",
            keys.get("mask") or "",
        )

    def _formula(self, keys: Keys, key: str, where: Where) -> Expression | None:
        if keys.get(key) is None:
            return None
        try:
            return Expression(keys[key])
        except LedgerError as error:
            self.mistakes.append(((*where, key), str(error)))
            return None

    def layer(self, layer: LayerSpec, around: GroupSpec, where: Where) -> None:
        """A layer is one we know, and its key is where it says."""
        if layer.kind not in LAYERS:
            hint = did_you_mean(layer.kind, LAYERS) or f"there are {', '.join(LAYERS)}"
            self.mistakes.append((where, f"“{layer.kind}” is not a layer; {hint}"))
        elif bool(layer.through) is not (layer.kind == STRINGS):
            text = "say through which layers each string is read" if not layer.through else f"{layer.kind} has none"
            self.mistakes.append(((*where, "through") if layer.through else where, text))
        elif layer.kind in MASKINGS and (not layer.number or bool(layer.mask) is bool(layer.key)):
            text = "say which number is XORed with which mask (number: hidden, mask: key), or with which key"
            self.mistakes.append((where, text))
        elif layer.kind not in MASKINGS and (layer.number or layer.mask):
            self.mistakes.append((where, f"{layer.kind} has neither number nor mask"))
        elif bool(layer.parts) is not (layer.kind == JOINED):
            text = "say in which order its parts are: parts: [2, 1]" if not layer.parts else f"{layer.kind} has none"
            self.mistakes.append(((*where, "parts") if layer.parts else where, text))
        elif len(set(layer.parts)) < len(layer.parts):
            self.mistakes.append(((*where, "parts"), "each part is there once"))
        elif layer.kind in CIPHERS:
            self.cipher(layer, where)
        elif (layer.key_of or (layer.key is not None and layer.kind not in MASKINGS)) and layer.kind not in KEYED:
            self.mistakes.append((where, f"{layer.kind} has no key; only {', '.join((*KEYED, *CIPHERS))} have one"))
        elif bool(layer.member) is not (layer.kind in ARCHIVES):
            text = (
                f"say which member: {{layer: {layer.kind}, member: …}}"
                if not layer.member
                else f"{layer.kind} has none"
            )
            self.mistakes.append(((*where, "member") if layer.member else where, text))
        elif layer.key is not None and layer.key_of:
            self.mistakes.append((where, "a layer has one of key and key_of"))
        elif layer.kind in KEYED and layer.key is None and not layer.key_of:
            text = f"the key of {layer.kind} is not given: write {{layer: {layer.kind}, key: …}}, or key_of a field"
            self.mistakes.append((where, text))
        elif layer.key is not None and (wrong := wrong_key(layer.kind, layer.key)):
            self.mistakes.append(((*where, "key"), wrong))
        elif layer.size is not None or layer.iv_at is not None:
            key = "size" if layer.size is not None else "iv_at"
            self.mistakes.append(((*where, key), f"only a cipher has this, and {layer.kind} is none"))
        elif layer.at is not None and layer.kind not in STREAMS and layer.kind not in SCRAMBLINGS:
            self.mistakes.append((where, f"{layer.kind} covers the whole payload, so it has no at"))
        for number, inner in enumerate(layer.through if layer.kind == STRINGS else ()):
            self.layer(inner, around, (*where, "through", number))
        for key, formula in (("at", layer.at), ("size", layer.size)):
            for name in formula.names if formula is not None else ():
                if self._within_group(around, name) is None:
                    self.mistakes.append(((*where, key), f"“{name}” leads to no field of the file around"))
        found = self._within_group(around, layer.key_of)
        first, _, rest = layer.key_of.partition(".")
        if found is None and first in self.known:  # of another file, as a file that holds the key
            found = self._within_group(self.known[first].root, rest)
        if layer.key_of and not isinstance(found, FieldSpec):
            self.mistakes.append(((*where, "key_of"), f"“{layer.key_of}” leads to no field of the file around"))

    def cipher(self, layer: LayerSpec, where: Where) -> None:
        """A cipher has a key of the right size, or says where it is, and an initial vector that fits."""
        if layer.key is not None and layer.key_of:
            self.mistakes.append((where, "a layer has one of key and key_of"))
        elif layer.key is None and not layer.key_of:
            text = f"the key of {layer.kind} is not given: write {{layer: {layer.kind}, key: …}}, or key_of a field"
            self.mistakes.append((where, text))
        elif layer.iv_at is not None and (layer.iv or layer.kind in HAS_NO_IV):
            text = "a layer has one of iv and iv_at" if layer.iv else f"{layer.kind} has no initial vector"
            self.mistakes.append(((*where, "iv_at"), text))
        elif layer.iv == IV_DERIVED and layer.derived is None:
            self.mistakes.append(((*where, "iv"), "only with `derive` something derives an initial vector"))
        elif wrong := wrong_cipher(layer.kind, None if layer.derived is not None else layer.key, layer.iv):
            self.mistakes.append(((*where, "iv" if "vector" in wrong else "key"), wrong))

    @staticmethod
    def _names(root: GroupSpec, path: str) -> bool:
        """Whether an element of a file is called so."""
        try:
            first, *rest = name_parts(path)
        except AddressError:
            return False
        return named_element(root.named(first.name), [first, *rest]) is not None

    @staticmethod
    def _within_group(group: ElementSpec | None, path: str) -> ElementSpec | None:
        for step in path.split("."):
            group = group.named(step) if isinstance(group, GroupSpec) else None
        return group

    @staticmethod
    def _holder(root: GroupSpec, path: str) -> ElementSpec | None:
        """The field that holds a payload, of a record or of all where its path says so: `blocks[*].body`."""
        found: ElementSpec | None = root
        with suppress(AddressError):
            for step in parse_path(path):
                if step.name is not None:
                    found = found.named(step.name) if isinstance(found, GroupSpec) else None
                else:
                    found = found.item if isinstance(found, RowsSpec) else None
            return found
        return None

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
                columns = columns or found.item.columns
                for column in columns:
                    if found.item.named(column) is None:
                        text = f"the records of {table} have no field “{column}”"
                        self.mistakes.append(((*where, "columns"), text))
        if (switches := keys.get("switches")) is not None:
            found = self.whole_path(template, switches, (*where, "switches"))
            if found is not None and not (isinstance(found, FieldSpec) and isinstance(found.storage, Switches)):
                self.mistakes.append(((*where, "switches"), f"“{switches}” is not a field of switches"))
        return SectionSpec(
            keys["title"], tuple(keys.get("fields") or ()), keys.get("table"), columns, keys.get("switches")
        )


def compile_signs(keys: Keys, mistakes: Mistakes) -> list[Sign]:
    """What a template says its files are recognised by. Arguments as for `compile_template`."""
    return [_sign(sign, ("recognise", n), mistakes) for n, sign in enumerate(keys.get("recognise", []))]


def _sign(keys: Keys, where: Where, mistakes: Mistakes) -> Sign:
    magic, size = keys.get("magic") or {}, keys.get("size") or {}
    text, given = magic.get("text"), magic.get("bytes")
    if magic and (text is None) == (given is None):
        mistakes.append(((*where, "magic"), "a magic has one of bytes and text"))
    content = None if not magic else (bytes.fromhex(given) if given else (text or "").encode())
    if not keys.get("name") and content is None:
        mistakes.append((where, "a sign needs a name or a magic: size alone fits too many files"))
    return Sign(keys.get("name"), magic.get("at", 0), content, size.get("least", 0), size.get("most"))


def _steps(keys: Keys) -> Steps:
    before = [
        Setting(each["set"], _as_typed(each["to"]), each.get("why", "")) if isinstance(each, dict) else each
        for each in keys.get("before", ())
    ]
    return Steps(tuple(before), tuple(keys.get("after", ())), tuple(keys.get("look_for", ())))


def _as_typed(value: object) -> str:
    """A value of YAML as a person would type it."""
    return str(value).lower() if isinstance(value, bool) else str(value)


def _name_rule(keys: Keys) -> NameRule:
    return NameRule(path=keys["named"], file=keys.get("file") or "", why=keys.get("why", ""), **naming(keys))


def _witness(keys: Keys) -> Witness:
    return Witness(keys["sha256"], dict(keys["values"]), keys.get("note", ""))


def _row_rule(keys: Keys) -> RowRule | None:
    """A rule over records; None where it is none."""
    for kind in OVER_ROWS:
        if keys.get(kind):
            column, *others = [keys[kind]] if kind == "unique" else keys[kind]
            besides = tuple(map(str, keys.get("besides", ())))
            other = others[0] if others else ""
            return RowRule(kind, column, other, keys.get("first", 0), besides, keys.get("why", ""))
    return None


def _equal_rule(keys: Keys) -> EqualRule:
    left, right = keys["equal"]
    return EqualRule(left, right, keys.get("why", ""))
