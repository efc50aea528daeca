"""Values that are carried: taken from a save as people read them, and entered in another one where they belong.

A field of the other save is the one at the same path; in a save of another edition or version the one that means the
same, or has the same name. Records are distinguished by their keys. What cannot be carried is listed with the reason.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from fractions import Fraction
from typing import NamedTuple

from faithful_ledger.core.address import Step, format_path
from faithful_ledger.core.arranging import enter_all
from faithful_ledger.core.binding import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.binding.spans import all_fields
from faithful_ledger.core.errors import EntryError, LedgerError, OutOfBounds
from faithful_ledger.core.save import Save, refuse_dependent
from faithful_ledger.core.storage import parse_decimal

__all__ = ["Carried", "Fields", "LeftOut", "carried", "in_unit", "is_value", "keyed_path", "put_values", "taken"]

MOST_CARRIED = 100_000
# Units of one kind, each in the smallest of them.
UNITS: tuple[dict[str, Fraction], ...] = (
    {"mm": Fraction(1), "cm": Fraction(10), "m": Fraction(1000), "km": Fraction(1_000_000)},
    {"ms": Fraction(1), "s": Fraction(1000), "min": Fraction(60_000), "h": Fraction(3_600_000)},
    {"g": Fraction(1), "kg": Fraction(1000), "t": Fraction(1_000_000)},
)


class Carried(NamedTuple):
    """One value: its `path` in the save that it comes from, with records by their keys; what it says; and what is
    known of its field.
    """

    path: str
    text: str
    name: str
    label: str = ""
    means: str = ""
    unit: str = ""


class LeftOut(NamedTuple):
    """What was not carried, and why."""

    path: str
    why: str


# taking


def taken(save: Save, paths: Iterable[str]) -> list[Carried]:
    """The values that paths lead to: of fields, of all fields of groups, records and rows, and of sections of the Edit
    sheet by their titles. What is worked out when you post is only among them where its own path is named.

    Raises:
        LedgerError: a path leads nowhere, or a value cannot be read.
    """
    found: dict[str, Carried] = {}
    known: dict[str, str] = {}
    for path in paths:
        for node in _nodes(save, path):
            for field in [node] if isinstance(node, FieldNode) else filter(is_value, _fields_of(node)):
                value = carried(save, field, known)
                found[value.path] = value
                if len(found) > MOST_CARRIED:
                    raise EntryError(f"{path} has more than {MOST_CARRIED} values", "nothing was carried; name fewer")
    return list(found.values())


def carried(save: Save, field: FieldNode, known: dict[str, str] | None = None) -> Carried:
    """A field's value as it is carried; `known` as for `keyed_path`.

    Raises:
        ValueRefused: its bytes cannot be read.
    """
    value, spec = save.value(field), field.spec
    is_plain = isinstance(value, int | float) and not isinstance(value, bool)
    text = str(value) if is_plain else spec.storage.to_text(value)
    return Carried(keyed_path(save, field, known), text, spec.name, spec.label, spec.means, spec.unit)


def keyed_path(save: Save, node: Node, known: dict[str, str] | None = None) -> str:
    """The path of a node, with records by their keys where these tell them apart. `known` remembers the paths of
    records from one call to the next, because a record has many fields.
    """
    record = node.record
    if record is None:
        return node.path
    known = {} if known is None else known
    if record.path not in known:
        known[record.path] = _path_of_record(save, record, known)
    return known[record.path] + node.path.removeprefix(record.path)


def _path_of_record(save: Save, record: Node, known: dict[str, str]) -> str:
    assert record.parent is not None
    rows = keyed_path(save, record.parent, known)
    key = record.key_field if isinstance(record, GroupNode) else None
    if key is not None:
        named = rows + format_path((Step(key=key.spec.name, value=save.text(key)),))
        with suppress(LedgerError):  # a key that cannot be written in a path, or leads elsewhere
            same = save.nodes(named)
            if len(same) == 1 and same[0].start == record.start:
                return named
    return f"{rows}[{record.index}]"


def _nodes(save: Save, path: str) -> list[Node]:
    sections = save.template.sections if save.template is not None else []
    named = next((each for each in sections if each.title.casefold() == path.strip().casefold()), None)
    if named is None:
        return save.nodes(path)
    wanted = [*named.fields, *([named.table] if named.table else []), *([named.switches] if named.switches else [])]
    return [node for each in wanted for node in save.nodes(each)]


def _fields_of(node: Node) -> Iterator[FieldNode]:
    if isinstance(node, RowsNode):
        for item in node.items():
            if not node.is_empty(item):
                yield from [item] if isinstance(item, FieldNode) else all_fields(item)
    else:
        yield from all_fields(node)


def is_value(field: FieldNode) -> bool:
    """Whether a field says something of its own that people may want elsewhere."""
    spec = field.spec
    derived = spec.derived is not None or spec.seal is not None
    return not (spec.unknown or spec.constant is not None or derived or spec.locked)


# putting


class Fields:
    """The fields of a save in which values may belong, without those of records."""

    def __init__(self, save: Save) -> None:
        self.save = save
        self.singles: list[FieldNode] = []
        self.rows: list[RowsNode] = []
        stack: list[Node] = [file.bound.root for file in save.files.values() if file.bound is not None]
        while stack:
            node = stack.pop()
            if isinstance(node, GroupNode):
                stack += node.children
            elif isinstance(node, RowsNode):
                self.rows.append(node)
            elif isinstance(node, FieldNode) and not node.spec.unknown and node.spec.constant is None:
                self.singles.append(node)

    def at(self, value: Carried) -> FieldNode:
        """Where a value belongs.

        Raises:
            EntryError: there is no such field, or several may be meant.
        """
        rows, bracket, rest = value.path.partition("[")
        alike = [each.path for each in self.rows if bracket and each.spec.name == rows.rpartition(".")[2]]
        for path in (value.path, *(f"{each}[{rest}" for each in alike if len(alike) == 1)):
            try:
                found = self.save.nodes(path)
            except LedgerError:
                continue
            if len(found) == 1 and isinstance(found[0], FieldNode):
                return found[0]
        if bracket:
            raise EntryError(_no_record(self.save, f"{alike[0]}[{rest}" if len(alike) == 1 else value.path))
        return self._alike(value)

    def _alike(self, value: Carried) -> FieldNode:
        """A single field that means the same, or has the same name."""
        by_meaning = [field for field in self.singles if value.means and field.spec.means == value.means]
        by_name = [field for field in self.singles if field.spec.name == value.name]
        for alike, what in ((by_meaning, f"means {value.means}"), (by_name, f"is called {value.name}")):
            leading = [field for field in alike if not self._follows(field, alike)]
            if len(leading) == 1:
                return leading[0]
            if alike:
                names = ", ".join(field.path for field in alike[:4])
                raise EntryError(f"more than one field {what}: {names}")
        raise EntryError("no field has this path, means the same, or has its name")

    def _follows(self, field: FieldNode, others: Sequence[FieldNode]) -> bool:
        """Whether a rule keeps a field equal to another one of these, which then says what it says."""
        rules = self.save.template.rules if self.save.template is not None else ()
        paths = {each.path for each in others}
        return any(rule.right == field.path and rule.left in paths for rule in rules)


def _no_record(save: Save, path: str) -> str:
    """Why a path into a record leads nowhere."""
    try:
        save.nodes(path)
    except LedgerError as error:
        return error.what
    return "it is not a single field here"


def put_values(
    save: Save,
    values: Sequence[Carried],
    *,
    only_empty: bool = False,
    anyway: bool = False,
    into: Mapping[str, str] | None = None,
) -> list[LeftOut]:
    """Enter values in a save. `into` says of paths they come from where they go. Returns what was left out."""
    fields, chosen = Fields(save), into or {}
    entered: list[tuple[str, str]] = []
    left: list[LeftOut] = []
    for value in values:
        try:
            node = fields.at(value._replace(path=chosen.get(value.path, value.path)))
            refuse_dependent(node)
            if only_empty and not _is_empty(save, node):
                raise EntryError(f"{node.path} is not empty: it says {save.text(node)}")
            text = in_unit(value, node)
            entry = save.typed_entry(node, text, anyway=anyway)
            if entry.new != entry.old:  # of rows that were rearranged, records are known by their keys only
                entered.append((keyed_path(save, node) if save.tape.rows_around(node.path) else node.path, text))
        except OutOfBounds as error:
            left.append(LeftOut(value.path, f"{error.what}; it can be carried anyway"))
        except LedgerError as error:
            left.append(LeftOut(value.path, error.what))
    enter_all(save, entered, anyway=anyway)
    return left


def _is_empty(save: Save, node: FieldNode) -> bool:
    """Whether nothing is there yet: in a record as the template says what holds nothing, else nothing, or zero."""
    record = node.record
    rows = record.parent if record is not None else None
    if record is not None and isinstance(rows, RowsNode) and rows.spec.empty:
        return rows.is_empty(record)
    value = save.value(node)
    return value in ("", (), 0) and value is not False


def in_unit(value: Carried, node: FieldNode) -> str:
    """What a value says in the unit of another field.

    Raises:
        EntryError: one cannot be had from the other.
    """
    text, here = value.text, node.spec.unit
    number = parse_decimal(text)
    if value.unit and here and value.unit != here:
        kind = next((units for units in UNITS if value.unit in units and here in units), None)
        if kind is None or number is None:
            raise EntryError(f"it is counted in {value.unit} there and in {here} here")
        number = number * kind[value.unit] / kind[here]
        text = str(float(number))
    return str(number.numerator) if number is not None and number.denominator == 1 and "." in text else text
