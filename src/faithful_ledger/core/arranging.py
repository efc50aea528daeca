"""Records added, copied and removed, and values entered in rows as they are then.

Rows that were rearranged have one entry on the tape, which gives all their bytes. What is entered in one of their
records afterwards goes into that entry; the rows that people then see are bound in the payload as it will be.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator

from faithful_ledger.core.binding import FieldNode, RowsNode, settle
from faithful_ledger.core.binding.compose import new_record
from faithful_ledger.core.edits import Patched, Replacement
from faithful_ledger.core.entries import Entry
from faithful_ledger.core.errors import EntryError
from faithful_ledger.core.formats import Span
from faithful_ledger.core.save import Save, SaveFile

__all__ = ["enter_all", "insert_record", "remove_records", "rows_now"]


def rows_now(save: Save, path: str) -> RowsNode:
    """The rows at a path with their entry, or that of rows they are in; as they are in the save where there is none.

    Raises:
        LedgerError: the path leads to no rows, or the payload would no longer fit its template with what was entered.
    """
    held = path if path in save.tape.rows else save.tape.rows_around(path)
    return _rows(_as_entered(save, save.tape.rows[held].node.file) if held else save, path)


def _rows(save: Save, path: str) -> RowsNode:
    node, *others = save.nodes(path)
    if others or not isinstance(node, RowsNode):
        raise EntryError(f"{path} has no records", "name rows of the template")
    return node


def _as_entered(save: Save, of_file: str) -> Save:
    """The save with one of its files as the entries make it, bound again."""
    version, name, known = save.rearranged or (-1, "", save)
    file = save.files[of_file]
    if (version, name) == (save.tape.version, file.name):
        return known
    assert file.bound is not None
    entries = [entry for entry in save.tape if entry.node.file == file.name]
    settled = settle(
        file.bound,
        [entry.replacement() for entry in entries],
        frozenset(state.name for state in save.broken_seals),
        save.tape.counts,
        save.root if file is not save.main else None,
    )
    files = dict(save.files)
    files[file.name] = SaveFile(file.name, file.path, settled.patched, None, settled.bound)
    save.rearranged = save.tape.version, file.name, Save(save.template, files, save.folder, save.roots)
    return save.rearranged[2]


def insert_record(save: Save, path: str, position: int, like: int | None = None, data: bytes | None = None) -> None:
    """Put a record in front of number `position` of rows: a copy of number `like`, one of such bytes, or a new one.

    Raises:
        LedgerError: these rows cannot have another record; nothing is entered.
    """
    now = _changeable(save, path)
    if like is not None:
        item = now.item(like)
        data = bytes(now.source.read(item.start, item.end))
    elif data is None:
        data = new_record(now)
    if now.document.knows_ends:
        change = now.document.add(Span(now.start, now.end, "array"), position, [data])
    else:
        behind = now.start + now.count * now.stride if now.stride else now.end - len(now.spec.ended_by or b"")
        at = now.item(position).start if position < now.count else behind
        change = Replacement(at, at, data)
    changes = [change]
    if now.places_left is not None:
        if not now.places_left:
            raise EntryError(f"all {now.spec.places} places of {path} are taken", "remove a record first")
        taken = Replacement(behind, behind + len(data), data if at == behind else b"")
        changes = [taken] if at == behind else [change, taken]
    _put(save, path, now, changes, now.count + 1)


def remove_records(save: Save, path: str, numbers: Collection[int]) -> None:
    """Take records out of rows.

    Raises:
        LedgerError: as for `insert_record`.
    """
    now = _changeable(save, path)
    changes = []
    for first, stop in _runs(sorted(set(numbers))):
        if now.document.knows_ends:
            changes.append(now.document.remove(Span(now.start, now.end, "array"), first, stop))
        else:
            changes.append(Replacement(now.item(first).start, now.item(stop - 1).end, b""))
            if now.places_left is not None:
                changes.append(Replacement(now.end, now.end, now.free_place * (stop - first)))
    _put(save, path, now, changes, now.count - len(set(numbers)))


def _changeable(save: Save, path: str) -> RowsNode:
    if save.problem is not None:
        raise EntryError(save.problem.what, save.problem.remedy or "nothing can be entered")
    if held := save.tape.rows_around(path):
        raise EntryError(f"{path} is in one of the records of {held}, which were rearranged", "post that first")
    now = _rows(save, path)
    if path in save.tape.rows or _inside(save, path):
        now = _rows(_as_entered(save, now.file), path)
    count = now.spec.count
    if count is not None and count.constant is not None:
        raise EntryError(f"{path} always has {count.constant} records", "change the values of one instead")
    return now


def _runs(numbers: list[int]) -> Iterator[tuple[int, int]]:
    """Numbers in a row as spans [first, stop)."""
    while numbers:
        stop = next((n for n in range(1, len(numbers)) if numbers[n] != numbers[0] + n), len(numbers))
        yield numbers[0], numbers[0] + stop
        numbers = numbers[stop:]


def _put(save: Save, path: str, now: RowsNode, changes: list[Replacement], count: int) -> None:
    """Write down what rows are after changes to what they are now; entries in their records go into it."""
    save.tape.put([_given_anew(save, path, now, changes, count)], _inside(save, path))


def _inside(save: Save, path: str) -> list[str]:
    """The paths of entries in records of these rows."""
    return [entry.path for entry in save.tape if entry.path.startswith(f"{path}[")]


def _given_anew(save: Save, path: str, now: RowsNode, changes: list[Replacement], count: int) -> Entry:
    """The entry that makes rows what they are now, with changes."""
    node = _rows(save, path)
    patched = Patched(now.source, changes)
    data = bytes(patched.read(now.start, now.end + patched.size - now.source.size))
    return Entry(node, path, node.count, count, data)


def _is_decided(node: FieldNode) -> bool:
    """Whether a choice beside a field decides its bounds, so that it is looked at first."""
    return node.spec.bounds is not None and bool(node.spec.bounds.by)


def enter_all(save: Save, values: Iterable[tuple[str, str]], *, anyway: bool = False) -> list[Entry]:
    """Write several entries down as one step, from paths and what a person typed; all of them or none.

    Raises:
        LedgerError: as for `Save.enter`.
    """
    plain: list[Entry] = []
    rearranged: dict[str, list[Entry]] = {}
    targets: list[tuple[str, Save, FieldNode, str]] = []
    for path, text in values:
        held = save.tape.rows_around(path)
        within = _as_entered(save, save.tape.rows[held].node.file) if held else save
        nodes: list[FieldNode] = within.fields(path)
        targets += [(held, within, node, text) for node in nodes]
    together: dict[str, Entry] = {}
    for held, within, node, text in sorted(targets, key=lambda each: _is_decided(each[2])):
        made = within.typed_entry(node, text, anyway=anyway, beside=together)
        together[node.path] = made
        (rearranged.setdefault(held, []) if held else plain).append(made)
    whole = []
    for path, entries in rearranged.items():
        now = rows_now(save, path)
        whole.append(_given_anew(save, path, now, [entry.replacement() for entry in entries], now.count))
    save.tape.put(plain + whole)
    return plain + whole
