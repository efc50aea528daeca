"""The entries of a slot in files that all slots share: an account, an index, a list of saves.

Nothing has to be declared for them: an element whose address asks for the field that says the slot is in the entry of
that slot. In a text the entry is all that is found by it (`slots[slot={head.slot}]`), with the members nobody
described; in a binary file it is the element itself.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from faithful_ledger.core.address import Expression, PathFormula, Step
from faithful_ledger.core.binding import BoundFile, GroupNode, bind, settle
from faithful_ledger.core.binding.lookup import said_at
from faithful_ledger.core.carry.plan import difference
from faithful_ledger.core.edits import Cause, Patched, Replacement
from faithful_ledger.core.errors import AddressError, EntryError, LedgerError
from faithful_ledger.core.formats import DOCUMENTS, Document, Span
from faithful_ledger.core.source import Source
from faithful_ledger.core.template.model import FileSpec

__all__ = ["IndexMove", "entry_paths", "indexed", "removed_entry", "with_entries"]


class IndexMove(NamedTuple):
    """What happens in a shared file: the entry for slot `to` becomes that of slot `of` in `source`; without a source
    the entry for `to` is removed. `root` and `of_root` are the roots of the first files of saves in these slots.
    """

    to: int | str
    root: GroupNode
    of: int | str = 0
    of_root: GroupNode | None = None
    source: Source | None = None


def indexed(spec: FileSpec, path: str) -> bool:
    """Whether a file has entries that are found by the field at a path."""
    return any(path in element.address.names for element in spec.root.layout)


def entry_paths(spec: FileSpec, path: str) -> Iterator[PathFormula]:
    """The ways to the entries of a text, each once."""
    seen = set()
    for element in spec.root.layout:
        formula = element.address.path
        if formula is not None and path in formula.names:
            text = _to_entry(formula)
            if text not in seen:
                seen.add(text)
                yield PathFormula(text)


def _to_entry(formula: PathFormula) -> str:
    """The path up to the end of the step in which an expression stands."""
    text = ""
    for part in formula.parts:
        text += f"{{{part.text}}}" if isinstance(part, Expression) else part
        if isinstance(part, Expression):
            break
    rest = formula.text[len(text) :]
    if text.rpartition("[")[2].find("]") < 0 and "[" in text:
        return text + rest[: rest.index("]") + 1]
    ends = [at for at in (rest.find("."), rest.find("[")) if at >= 0]
    return text + rest[: min(ends)] if ends else text + rest


def with_entries(spec: FileSpec, name: str, old: Source, path: str, moves: list[IndexMove]) -> Source:
    """A shared file after moves, with its own seals and lengths put right. `name` is what it is called on disk, `path`
    the field that says the slot.

    Raises:
        LedgerError: it has no such entry, or cannot have one.
    """
    source = old
    for move in moves:
        source = _moved(spec, source, path, move, name)
    start, end, size = difference(old, source)
    if start == end and not size:
        return old
    change = Replacement(start, end, bytes(source.read(start, start + size)), (Cause("entry", f"of a slot in {name}"),))
    outer = moves[0].root
    return settle(bind(spec, old, outer), [change], outer=outer).patched


def removed_entry(file: BoundFile, main: BoundFile | None) -> Source | None:
    """A shared text without the entry that is found by a field of a save's first file; None where it has none."""
    if main is None or not file.document.knows_ends:
        return None
    source = file.source
    names = {name for element in file.spec.root.layout for name in element.address.names}
    for path in sorted(names):
        for formula in entry_paths(file.spec, path):
            document = DOCUMENTS[file.spec.format](source)
            steps = _steps(formula, path, said_at(main.root, path))
            if _found(document, steps) is not None:
                source = _applied(source, _removed(document, steps))
    return source


def _moved(spec: FileSpec, source: Source, path: str, move: IndexMove, name: str) -> Source:
    if DOCUMENTS[spec.format](source).knows_ends:
        for formula in entry_paths(spec, path):
            document = DOCUMENTS[spec.format](source)
            try:
                change = _text_change(document, formula, path, move)
            except LedgerError as error:
                raise EntryError(f"{name}: {error.what}", "nothing was written") from error
            source = _applied(source, change)
        return source
    return Patched(source, _binary_changes(spec, source, path, move, name))


def _text_change(document: Document, formula: PathFormula, path: str, move: IndexMove) -> Replacement | None:
    """The change of one entry of a text."""
    steps = _steps(formula, path, move.to)
    there = _found(document, steps)
    if move.source is None:
        return _removed(document, steps) if there is not None else None
    origin = type(document)(move.source)
    span = _found(origin, _steps(formula, path, move.of)) or _any_entry(origin, steps)
    if span is None:
        raise AddressError(f"there is no entry of slot {move.of} to copy")
    data = _with_key(origin, span, steps[-1])
    if there is not None:
        return Replacement(there.start, there.end, data)
    holder = _holder(document, steps, _depth(origin, steps, span))
    if holder is None or steps[-1].name is not None:
        raise AddressError(f"there is no entry for slot {move.to}, and one cannot be made here")
    items = document.items(holder)
    count = len(items.starts) if items is not None else 0
    if steps[-1].index is not None and steps[-1].index != count:
        raise AddressError(f"the entry for slot {move.to} would be number {steps[-1].index}, and there are {count}")
    return document.add(holder, _place(document, holder, steps[-1]), [data])


def _depth(document: Document, steps: tuple[Step, ...], entry: Span) -> int:
    """How many steps lead to the span whose items the entries are; 0 where none does. In XML the last two name them."""
    for depth in (len(steps) - 1, len(steps) - 2):
        holder = _holder(document, steps, depth)
        items = document.items(holder) if holder is not None else None
        if items is not None and entry.start in map(int, items.starts):
            return depth
    return -1


def _holder(document: Document, steps: tuple[Step, ...], depth: int) -> Span | None:
    if depth < 0:
        return None
    return _found(document, steps[:depth]) if depth else document.whole


def _steps(formula: PathFormula, path: str, slot: int | str) -> tuple[Step, ...]:
    def said(name: str) -> int | str:
        if name != path:
            raise AddressError(f"{name} is not known for another slot")
        return slot

    return formula.steps(said)


def _found(document: Document, steps: tuple[Step, ...]) -> Span | None:
    try:
        return document.at(document.whole, steps)
    except AddressError:
        return None


def _any_entry(document: Document, steps: tuple[Step, ...]) -> Span | None:
    """The last entry there is, in whose style a new one is written."""
    for depth in (len(steps) - 1, len(steps) - 2):
        holder = _holder(document, steps, depth)
        items = document.items(holder) if holder is not None and steps[-1].key is not None else None
        for start, end in reversed(list(zip(items.starts, items.ends, strict=True)) if items is not None else []):
            span = document.span(int(start), int(end))
            if _key(document, span, steps[-1]) is not None:
                return span
    return None


def _with_key(document: Document, entry: Span, last: Step) -> bytes:
    """The bytes of an entry, where its key says what the last step of a path asks for."""
    data = bytes(document.source.read(entry.start, entry.end))
    if last.key is None:
        return data
    key = document.at(entry, (Step(name=last.key),))
    storage = document.value_storage(key)
    old = data[key.start - entry.start : key.end - entry.start]
    new = storage.encode(storage.from_text(last.value or "", storage.decode(old)), old)
    return data[: key.start - entry.start] + new + data[key.end - entry.start :]


def _place(document: Document, holder: Span, last: Step) -> int:
    """In front of which entry a new one belongs: behind the last smaller key where the keys are in order."""
    items = document.items(holder)
    if items is None:
        return 0
    spans = [document.span(int(start), int(end)) for start, end in zip(items.starts, items.ends, strict=True)]
    keys = [(number, key) for number, span in enumerate(spans) if (key := _key(document, span, last)) is not None]
    wanted = _ordered(last.value or "")
    if not keys or [key for _, key in keys] != sorted(key for _, key in keys):
        return keys[-1][0] + 1 if keys else len(spans)
    return next((number for number, key in keys if key > wanted), keys[-1][0] + 1)


def _key(document: Document, entry: Span, last: Step) -> tuple[int, str] | None:
    """What the key of an entry says, in the order of keys; None where it has none."""
    try:
        key = document.at(entry, (Step(name=last.key),))
        storage = document.value_storage(key)
        return _ordered(storage.to_text(storage.decode(bytes(document.source.read(key.start, key.end)))))
    except LedgerError:
        return None


def _ordered(key: str) -> tuple[int, str]:
    """Numbers by their size, and before texts."""
    return (int(key), "") if key.isdecimal() else (1 << 64, key)


def _removed(document: Document, steps: tuple[Step, ...]) -> Replacement:
    entry = _found(document, steps)
    depth = _depth(document, steps, entry) if entry is not None and steps[-1].name is None else -1
    holder = _holder(document, steps, depth)
    items = document.items(holder) if holder is not None else None
    if items is None or entry is None or holder is None:
        raise AddressError(f"the entry of slot {steps[-1].value or steps[-1].index or ''} cannot be removed")
    number = [int(start) for start in items.starts].index(entry.start)
    if steps[-1].index is not None and number != len(items.starts) - 1:
        raise AddressError("the entries go by their numbers, so one between others cannot be removed")
    return document.remove(holder, number, number + 1)


def _binary_changes(spec: FileSpec, source: Source, path: str, move: IndexMove, file: str) -> Iterator[Replacement]:
    """The changes of the elements of a binary file that are found by the slot."""
    if move.source is None:
        return  # nothing says what an entry that is free looks like
    here, there = _elements(spec, source, path, move.root), _elements(spec, move.source, path, move.of_root)
    for name, (start, end) in here.items():
        low, high = there.get(name, (0, -1))
        if high - low != end - start:
            what = f"{file}: the entry {name} of slot {move.of} has another size than that of slot {move.to}"
            raise EntryError(what, "nothing was written")
        yield Replacement(start, end, bytes(move.source.read(low, high)))


def _elements(spec: FileSpec, source: Source, path: str, root: GroupNode | None) -> dict[str, tuple[int, int]]:
    """Where the elements are that are found by a slot, by their names."""
    bound = bind(spec, source, root)
    if bound.problem is not None:
        raise bound.problem
    found = [node for node in bound.root.children if path in node.spec.address.names]
    return {node.spec.name: (node.start, node.end) for node in found}


def _applied(source: Source, change: Replacement | None) -> Source:
    return source if change is None else Patched(source, [change])
