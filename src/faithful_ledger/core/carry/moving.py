"""A save that goes into another slot, and everything that has to agree with that.

The file's name says the slot, often a value inside says it as well, and files that all slots share have an entry for
each. The files under their new names are planned like a posting, so that values, lengths and seals follow; then the
entries of shared files are moved; in the end the result is read as a stranger would read it, and judged.
"""

from __future__ import annotations

from contextlib import suppress
from dataclasses import replace

from faithful_ledger.core.binding import GroupNode
from faithful_ledger.core.binding.lookup import said_at
from faithful_ledger.core.carry.following import Files, Shared, followed, judge
from faithful_ledger.core.carry.index import IndexMove, indexed, with_entries
from faithful_ledger.core.carry.plan import Carry, Side, Write, change_between, changes_of, lines_of
from faithful_ledger.core.carry.slots import How, Slots
from faithful_ledger.core.errors import EntryError, LedgerError, Refused
from faithful_ledger.core.opening import open_save, save_of
from faithful_ledger.core.posting import Plan, make_plan
from faithful_ledger.core.save import Save
from faithful_ledger.core.source import open_source, same_bytes
from faithful_ledger.core.template.model import FileSpec, Template

__all__ = ["carry_slot"]


def carry_slot(source: Save, to: str, how: How = "copy", slots: Slots | None = None, *, anyway: bool = False) -> Carry:
    """The carry of a save into another slot. `slots` are given where the save is not in one of them: a kept copy, or a
    save from elsewhere. With `anyway` a slot that is taken is replaced: what is there is kept first.

    Raises:
        Refused: the slot is taken.
        LedgerError: there is no such slot, or the save cannot be in it.
    """
    is_here = slots is None
    slots = slots or Slots.around(source)
    if source.problem is not None:
        raise source.problem
    if is_here and slots.spec.of_folder and source.folder is None:  # with the files that nothing describes
        source = open_save(source.main.path.parent, slots.template, slots.roots)
    slot, own = slots.check(to), slots.of(source) if is_here else None
    _refuse(slots, source, slot, own, how, anyway=anyway)
    other = slots.opened(slot) if how == "swap" else None
    if other is not None and other.problem is not None:
        raise other.problem
    there = other or _there(slots, slot)
    moved = [_Moved(slots, source, slot, there)]
    if other is not None and own is not None:
        moved.append(_Moved(slots, other, own, source))
    carry = Carry(_in_words(source, slot, own, how), slots.filed_under(slot), slots.template.id, slots.folders)
    for each in moved:
        each.write_own(carry)
    if how == "move":
        gone = [*slots.own_files(source), *slots.other_files(source)]
        carry.writes += [Write(file.path, file.source, None, f"moved to slot {slot}") for file in gone]
    shared = _shared(slots, moved, leaving=source if how == "move" else None)
    for name, (path, old, new) in shared.items():
        if not same_bytes(old, new):
            carry.writes.append(Write(path, old, new, f"entry of slot {slot} in {name}"))
            carry.changes.append(change_between(path.name, old, new, f"entry of slot {slot}"))
    for each in moved:
        judge(carry, slots.template, each.own, shared, slots.roots)
    carry.add_companions(slots.template, slots.main_path(slot).parent)
    for save, name in ((source if is_here else None, own or ""), (there, slot)):
        if save is not None:
            files = tuple((file.name, file.path) for file in save.on_disk if file.path.is_file())
            label = f"slot {name}" if name else save.path.name
            carry.sides.append(Side(save.path, label, files, tuple(save.companions)))
    return carry


def _refuse(slots: Slots, source: Save, slot: str, own: str | None, how: How, *, anyway: bool) -> None:
    """What keeps a save from going into a slot."""
    name = source.path.name
    disagrees = any(each.path == slots.spec.path and each.level == "error" for each in source.findings)
    if own == slot and not disagrees:
        raise EntryError(f"{name} is in slot {slot} already", "nothing was written; name another slot")
    if how != "copy" and own is None:
        what = f"{name} is in no slot, so it cannot be {'moved' if how == 'move' else 'swapped'}"
        raise EntryError(what, "nothing was written; copy it into one")
    taken = slots.is_taken(slot) and own != slot
    if how == "swap" and not taken:
        raise EntryError(f"slot {slot} is free, so there is nothing to swap", "nothing was written; move it there")
    if taken and how != "swap" and not anyway:
        title, _ = slots.title(slot)
        what = f"slot {slot} is taken{f' by {title}' if title else ''} ({slots.filed_under(slot).name})"
        raise Refused(what, "nothing was written; swap the two, or replace it: what is there is kept first")


def _in_words(source: Save, slot: str, own: str | None, how: How) -> str:
    what = f"slot {own}" if own is not None else source.path.name
    if how == "swap":
        return f"{what} and slot {slot} are swapped"
    return f"{what} is {'moved' if how == 'move' else 'copied'} to slot {slot}"


def _there(slots: Slots, slot: str) -> Save | None:
    """What is in a slot now, as far as it can be opened."""
    if not slots.is_taken(slot):
        return None
    with suppress(LedgerError):
        return slots.opened(slot)
    return None


class _Moved:
    """A save as it will be in a slot: its own files under their names there, planned. `there` is what is there now."""

    def __init__(self, slots: Slots, save: Save, slot: str, there: Save | None) -> None:
        self.slots, self.save, self.slot, self.there = slots, save, slot, there
        base, folder = save.main.path.parent, slots.filed_under(slot)
        own = slots.own_files(save)
        if slots.spec.of_folder:
            paths = {file.name: folder / file.path.relative_to(base) for file in own}
            self.others = {folder / file.path.relative_to(base): file for file in slots.other_files(save)}
        else:
            paths, self.others = slots.paths(slot), {}
        template = slots.template
        files = {name: spec for name, spec in template.files.items() if _holder(template, spec) in paths}
        sources = {file.name: (paths[file.name], file.source) for file in own}
        made = save_of(replace(template, files=files, companions=[]), sources, roots=slots.roots)
        self.plan: Plan = make_plan(made)

    @property
    def own(self) -> Files:
        """The files as they will be, by their names in the template."""
        on_disk = (file for file in self.plan.files if not file.file.inside)
        return {file.file.name: (file.file.path, file.patched) for file in on_disk}

    @property
    def root(self) -> GroupNode:
        """Of the first file, bound as it will be."""
        bound = self.plan.files[0].bound or self.plan.files[0].file.bound
        assert bound is not None
        return bound.root

    @property
    def index_move(self) -> tuple[int | str, GroupNode, int | str, GroupNode]:
        """The slot inside as it will be and as it is, each with the root of the first file."""
        path, before = self.slots.spec.path, self.save.main.bound
        assert before is not None
        return said_at(self.root, path), self.root, said_at(before.root, path), before.root

    def write_own(self, carry: Carry) -> None:
        """Enter the files in a carry; those of a slot that was taken and are not written over are removed."""
        contents = {path: (source, self.save.files[name].path) for name, (path, source) in self.own.items()}
        contents |= {path: (file.source, file.path) for path, file in self.others.items()}
        for path, (new, origin) in contents.items():
            old = open_source(path)[0] if path.is_file() else None
            if old is not None and same_bytes(old, new):
                continue
            mode = origin.stat().st_mode & 0o777 if origin.exists() else 0o644
            write = Write(path, old, new, f"copy of {origin.name}", mode)
            carry.writes.append(write)
            carry.add_whole(path.name, write)
        there = self.there
        stale = [*self.slots.own_files(there), *self.slots.other_files(there)] if there is not None else []
        for file in stale:
            if file.path not in contents and file.path.is_file():
                carry.writes.append(Write(file.path, file.source, None, f"of what was in slot {self.slot}"))
        names = {name: path.name for name, (path, _) in self.own.items()}
        carry.lines += [line._replace(file=names.get(line.file, line.file)) for line in lines_of(self.plan)]
        carry.changes += changes_of(self.plan, names)


def _holder(template: Template, spec: FileSpec) -> str:
    """The file on disk that a payload is in."""
    while spec.inside:
        spec = template.files[spec.inside]
    return spec.name


# files that all slots share


def _shared(slots: Slots, moved: list[_Moved], leaving: Save | None) -> Shared:
    """Each shared file: where it is, as it is, and as it will be."""
    found: Shared = {}
    for name, (spec, path) in slots.shared().items():
        old = open_source(path)[0]
        new = old
        if slots.spec.path and indexed(spec, slots.spec.path):
            new = with_entries(spec, path.name, old, slots.spec.path, _index_moves(moved, leaving, name))
        found[name] = (path, old, new)
    for each in moved:
        found = followed(slots.template, each.own, found, slots.roots)
    return found


def _index_moves(moved: list[_Moved], leaving: Save | None, name: str) -> list[IndexMove]:
    moves = []
    for each in moved:
        to, root, of, of_root = each.index_move
        moves.append(IndexMove(to, root, of, of_root, each.save.files[name].source))
    if leaving is not None:
        _, _, of, of_root = moved[0].index_move
        moves.append(IndexMove(of, of_root))
    return moves
