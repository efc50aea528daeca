"""The elements of layouts: fields, groups, rows, and the names by which they refer to each other."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from typing import NamedTuple

from faithful_ledger.core.address import NEXT, ROW, Address, Expression, NamePart, name_parts
from faithful_ledger.core.errors import AddressError, LedgerError
from faithful_ledger.core.seals.algorithms import LENGTH
from faithful_ledger.core.storage import (
    Checksum,
    ChecksumInText,
    Choice,
    EndedText,
    FixedText,
    FreeText,
    Integer,
    JsonNumber,
    JsonText,
    Leb128,
    ListedText,
    ListRules,
    Order,
    PrefixedText,
    RawBytes,
    SpelledNumber,
    SpelledText,
    Storage,
    VariableNumber,
    WholeNumber,
)
from faithful_ledger.core.suggest import did_you_mean
from faithful_ledger.core.template.compile.mistakes import MOST_HINTS, MOST_KNOWN, Keys, Mistakes, Where
from faithful_ledger.core.template.compile.seals import seal_spec
from faithful_ledger.core.template.compile.storages import Storages
from faithful_ledger.core.template.model import (
    Bounds,
    Derived,
    ElementSpec,
    FieldSpec,
    GroupSpec,
    RowsSpec,
    elements_of,
)
from faithful_ledger.core.template.seal_spec import WHOLE_FILE

__all__ = ["Elements", "named_element"]

DEEPEST = 24
MOST_ELEMENTS = 20_000  # when every record that is named is put in its place


def says_text(storage: Storage) -> bool:
    """Whether a value is a text, or may be shown as one."""
    storage = storage.text if isinstance(storage, ListedText) else storage
    return isinstance(storage, FixedText | EndedText | FreeText | PrefixedText | JsonText | SpelledText | Choice)


def first_name(path: str) -> str:
    """The name with which one begins, for looking it up; nothing for what is not a name."""
    try:
        return name_parts(path)[0].name
    except AddressError:
        return ""


def named_element(found: ElementSpec | None, parts: Sequence[NamePart]) -> ElementSpec | None:
    """What a name leads to, of which the first part is `found`; `sizes[row]` is the record of rows."""
    for number, part in enumerate(parts):
        if number:
            found = found.named(part.name) if isinstance(found, GroupSpec) else None
        if part.number is not None:
            found = found.item if isinstance(found, RowsSpec) else None
    return found


def is_in_rows(element: ElementSpec) -> bool:
    """Whether it is of a record, or a record itself."""
    holder: ElementSpec | None = element.parent
    while holder is not None and not isinstance(holder, RowsSpec):
        holder = holder.parent
    return holder is not None


def ends_known(storage: Storage, size: Expression | None) -> bool:
    """Whether the beginning of a value can be worked out from its end."""
    return size is None and (storage.size is not None or isinstance(storage, PrefixedText | Leb128))


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
        if not all(_is_within(record, element, first_name(name)) for name in names):
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


class Elements:
    """Compiles the layouts of one file after the other."""

    def __init__(self, keys: Keys, mistakes: Mistakes) -> None:
        self.mistakes = mistakes
        self.records: dict[str, list[Keys]] = keys.get("records", {})
        self.storages = Storages(keys.get("catalogues", {}), keys.get("letters", {}), mistakes, self.formula)
        self.main: GroupSpec | None = None
        self.later: list[tuple[Where, ElementSpec, str]] = []
        self.elsewhere: list[tuple[Where, str, str]] = []  # what lengths and seals of other files are about
        self.count = self.depth = 0
        self.compiled: dict[str, _Compiled] = {}
        self.open: dict[str, GroupSpec] = {}  # the records that are being compiled
        self.keyed: list[tuple[Where, RowsSpec]] = []
        self.limited: list[tuple[Where, FieldSpec]] = []

    def file(self, layout: list[Keys], root: GroupSpec, format_: str, order: Order, where: Where) -> None:
        """Fill in the root of a file; the first file's fields are known to all."""
        self.main = self.main or root
        self.storages.format, self.storages.order = format_, order
        self.layout(layout, root, where)

    def check_targets(self) -> None:
        """When all is compiled: keys, and what lengths, counts, offsets and seals are about, are there."""
        for where, rows in self.keyed:
            if not isinstance(rows.item, GroupSpec) or rows.item.named(rows.key or "") is None:
                self.mistakes.append((where, f"the record has no field “{rows.key}”"))
        for where, field in self.limited:
            by = field.bounds.by if field.bounds is not None else ""
            decides = self.find(field, by)
            if not isinstance(decides, FieldSpec) or decides.catalogue is None or not decides.catalogue.limits:
                text = f"“{by}” is not a choice beside it, from a catalogue with `least` or `most`"
                self.mistakes.append((where, text))
        for where, element, path in self.later:
            if not self.leads_to(element, path):
                self.mistakes.append((where, f"“{path}” leads to no field or group{self.hint(path, element)}"))
            else:
                self._check_row(path, element, where)

    def layout(self, elements: list[Keys], parent: GroupSpec, where: Where) -> None:
        if self.depth >= DEEPEST:
            self.mistakes.append((where, f"groups and records are nested deeper than {DEEPEST} levels"))
            return
        self.depth += 1
        parent.layout_where = where
        for number, keys in enumerate(elements):
            if not self.count_elements(1, where):
                break
            self.element(keys, parent, (*where, number))
        self.depth -= 1

    def count_elements(self, more: int, where: Where) -> bool:
        """Whether there are not too many; those of shared records count at each place, because they are bound there."""
        before, self.count = self.count, self.count + more
        if before <= MOST_ELEMENTS < self.count:
            text = f"with its records put in their places the template has more than {MOST_ELEMENTS} elements"
            self.mistakes.append((where, text))
        return self.count <= MOST_ELEMENTS

    def element(self, keys: Keys, parent: GroupSpec, here: Where) -> None:
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
        element.parent, element.where = parent, here
        element.label, element.note = keys.get("label", ""), keys.get("note", "")
        element.when = self.formula(keys, "when", element, here)
        element.address = self.address(keys, element, here)
        if isinstance(element, GroupSpec):
            parent.add(element)
            element.size = self.formula(keys, "size", element, here)
            if keys.get("word") is not None:
                self.storages.word(element, keys["word"], (*here, "word"))
            self.layout(keys["layout"], element, (*here, "layout"))
        elif isinstance(element, RowsSpec):
            self.rows(element, keys, here)
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
            if self.storages.format == "binary":
                address = Address.from_keys(keys)
                if address is NEXT or address == NEXT:
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
        if address.table and not self.leads_to(element, address.table):
            self.mistakes.append(((*where, "table"), f"“{address.table}” is not a table that comes before"))
        return address

    def rows(self, element: RowsSpec, keys: Keys, where: Where) -> None:
        item = GroupSpec("item", parent=element, where=where)
        element.item = item
        given = [key for key in ("record", "layout", "each") if keys.get(key) is not None]
        if len(given) != 1:
            self.mistakes.append((where, "rows have one of record, layout and each"))
        elif given == ["record"]:
            name = keys["record"]
            if name in self.open:  # it holds itself
                around = self.open[name]
                element.holds_itself = True
                item.layout, item.names, item.layout_where = around.layout, around.names, around.layout_where
            elif name not in self.records:
                hint = did_you_mean(name, self.records)
                self.mistakes.append(((*where, "record"), f"there is no record “{name}”{'; ' + hint if hint else ''}"))
            elif (known := self.compiled.get(name)) is not None:
                item.layout, item.names = known.record.layout, known.record.names
                item.layout_where = known.record.layout_where
                self.count_elements(known.elements, (*where, "record"))
            else:
                before = self.count
                self.open[name] = item
                self.layout(self.records[name], item, ("records", name))
                del self.open[name]
                if _is_closed(item):
                    self.compiled[name] = _Compiled(item, self.count - before)
        elif given == ["layout"]:
            self.layout(keys["layout"], item, (*where, "layout"))
        else:
            single = FieldSpec("item", parent=element, where=(*where, "each"))
            single.label, single.note = keys["each"].get("label", ""), keys["each"].get("note", "")
            self.field(single, {"field": "item", **keys["each"]}, (*where, "each"))
            element.item = single
        if self.storages.format != "binary":
            return
        ends = [key for key in ("count", "size", "ended_by") if keys.get(key) is not None]
        if len(ends) > 1:
            self.mistakes.append((where, "rows have one of count, size and ended_by, which say where they end"))
        element.count = self.formula(keys, "count", element, where)
        element.size = self.formula(keys, "size", element, where)
        element.ended_by = bytes.fromhex(keys["ended_by"]) if keys.get("ended_by") else None
        self.places(element, keys, where)
        if element.key:
            self.keyed.append(((*where, "key"), element))

    def places(self, element: RowsSpec, keys: Keys, where: Where) -> None:
        """Room for records that are not there yet."""
        element.places = keys.get("places")
        if keys.get("free"):
            element.free = bytes.fromhex(keys["free"])
        for name, value in (keys.get("empty") or {}).items():
            if not isinstance(element.item, GroupSpec) or not isinstance(element.item.named(name), FieldSpec):
                self.mistakes.append(((*where, "empty"), f"the record has no field “{name}”"))
            element.empty += ((name, str(value)),)
        if element.places is None:
            if keys.get("free"):
                self.mistakes.append(((*where, "free"), "only rows with `places` have free ones"))
        elif element.count is None or element.count.constant is not None:
            self.mistakes.append(((*where, "places"), "say with `count` how many of the places are taken, as a field"))
        elif self.mistakes:  # a field with one may be of no size
            return
        elif not (stride := element.item.fixed_size):
            self.mistakes.append(((*where, "places"), "only records of a fixed size have places"))
        elif stride % len(element.free):
            what = f"a place of {stride} bytes is not filled by whole repeats of {len(element.free)} bytes"
            self.mistakes.append(((*where, "free"), what))

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
        element.storage = self.storages.storage(element, keys, where)
        if keys.get("list") and keys.get("as") == "text":
            element.storage = ListedText(element.storage, ListRules(**keys["list"]))
        elif keys.get("list"):
            self.mistakes.append(((*where, "list"), "only a text is a list"))
        element.standing, element.locked = keys.get("standing", "guessed"), keys.get("locked")
        element.unit, element.means = keys.get("unit", ""), keys.get("means", "")
        if bounds := keys.get("bounds"):
            by = bounds.get("by") or ""
            element.bounds = Bounds(bounds.get("least"), bounds.get("most"), bounds.get("why", ""), by)
            if by:
                self.limited.append(((*where, "bounds", "by"), element))
        if isinstance(keys.get("names"), str):
            element.catalogue = self.storages.catalogues.get(keys["names"])
        derived = [kind for kind in ("length", "count", "offset") if keys.get(f"{kind}_of") is not None]
        seal = keys.get("seal")
        if len(derived) + (seal is not None) > 1:
            self.mistakes.append((where, "a field is worked out in one way: length_of, count_of, offset_of or seal"))
        elif (derived or seal) and not isinstance(element.storage, self._can_hold(seal)):
            self.mistakes.append((where, "only a whole number can be worked out"))
        elif isinstance(element.storage, Checksum | ChecksumInText) and not seal:
            self.mistakes.append((where, "a checksum is a seal; say of what"))
        elif derived:
            key = f"{derived[0]}_of"
            element.derived = Derived(derived[0], keys[key], keys.get("plus", 0))  # type: ignore[arg-type]
            self.about(element, keys, (*where, key), [keys[key]])
        elif seal:
            element.seal = seal_spec(seal, (*where, "seal"), self.mistakes)
            if element.seal.between is not None:
                self._check_values(element, element.seal.over, where)
            self.about(element, keys, (*where, "seal", "over"), element.seal.over)
        if keys.get("of_file") and not element.of_file:
            self.mistakes.append(((*where, "of_file"), "only a length or a seal is about another file"))

    def _check_values(self, element: FieldSpec, over: Collection[str], where: Where) -> None:
        """Whether a seal can cover what these say."""
        if self.storages.format == "binary":
            self.mistakes.append(((*where, "seal", "between"), "only in a text a seal covers what values say"))
        if element.name in over or set(over) & set(WHOLE_FILE):
            text = "a seal covers what other values say, neither itself nor the whole file"
            self.mistakes.append(((*where, "seal", "over"), text))

    def _can_hold(self, seal: Mapping[str, object] | None) -> tuple[type[Storage], ...]:
        """In what a seal can be stored, or, where there is none, a length, a count or an offset."""
        if self.storages.format == "binary":
            if not seal:
                return (WholeNumber,)
            return (Integer, Checksum, VariableNumber) if seal.get("algorithm") == LENGTH else (Integer, Checksum)
        return (ChecksumInText, JsonNumber, SpelledNumber) if seal else (JsonNumber, SpelledNumber)

    def about(self, element: FieldSpec, keys: Keys, where: Where, paths: Iterable[str]) -> None:
        """What a dependent field is about, to be looked for when all is compiled."""
        wanted = list(dict.fromkeys(paths))
        if not keys.get("of_file"):
            takes_whole = element.seal is not None or (element.derived is not None and element.derived.kind == "length")
            self.later += [(where, element, path) for path in wanted if not takes_whole or path not in WHOLE_FILE]
        elif element.seal is not None or (element.derived is not None and element.derived.kind == "length"):
            element.of_file = keys["of_file"]
            self.elsewhere += [(where, element.of_file, path) for path in wanted]

    def formula(self, keys: Keys, key: str, element: ElementSpec, where: Where) -> Expression | None:
        if keys.get(key) is None:
            return None
        try:
            expression = Expression(keys[key])
        except LedgerError as error:
            self.mistakes.append(((*where, key), str(error)))
            return None
        self._check_names(expression.names, element, (*where, key))
        for name in sorted(expression.texts):
            found = self.find(element, name)
            if found is not None and not (isinstance(found, FieldSpec) and says_text(found.storage)):
                self.mistakes.append(((*where, key), f"“{name}” is not a text, so it is compared with a number"))
        return expression

    def _check_names(self, names: tuple[str, ...], element: ElementSpec, where: Where) -> None:
        for name in names:
            if self.leads_to(element, name):
                self._check_row(name, element, where)
            elif name != ROW or not is_in_rows(element):
                text = f"“{name}” is not a field that comes before{self.hint(name, element)}"
                self.mistakes.append((where, text))

    def _check_row(self, name: str, element: ElementSpec, where: Where) -> None:
        """A name that counts from the record in which it stands does stand in one."""
        is_relative = any(part.number is not None and part.number.is_relative for part in name_parts(name))
        if is_relative and not is_in_rows(element):
            text = f"“{name}” counts from the record in which it stands, and is not in a record of rows"
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

    def find(self, element: ElementSpec, path: str) -> ElementSpec | None:
        """What a path leads to that is looked up outwards from an element."""
        try:
            first, *rest = name_parts(path)
        except AddressError:
            return None
        for scope in self._scopes(element):
            found: ElementSpec | None = scope.named(first.name)
            if found is not None or scope.name == first.name:
                return named_element(found or scope, [first, *rest])
        return None

    def leads_to(self, element: ElementSpec, path: str) -> bool:
        return self.find(element, path) is not None

    def hint(self, path: str, element: ElementSpec) -> str:
        known = [e.name for scope in self._scopes(element) for e in scope.layout]
        hint = did_you_mean(path, known[:MOST_KNOWN]) if len(self.mistakes) < MOST_HINTS else ""
        return f"; {hint}" if hint else ""
