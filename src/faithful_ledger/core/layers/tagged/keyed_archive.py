"""Binary property lists in which a program has archived its objects: `$objects` are all of them, and each refers to
others by their numbers there. Shown is what the first one holds, with the objects in their places: those with keys and
values as maps, those with values alone as lists, and all others as their own fields.

Objects that are the same are stored once. Where one of several values that share one changes, it gets an object of its
own, as in any other property list. An object with parts is shown where it is referred to first.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from typing import Any

from faithful_ledger.core.edits import Cause, Replacement
from faithful_ledger.core.layers.tagged.bplist import (
    LIST,
    MARK,
    UID,
    Rewriting,
    Table,
    head_of,
    scalar_of,
)
from faithful_ledger.core.layers.tagged.tree import (
    Codec,
    Cursor,
    Malformed,
    Node,
    is_same,
    one_replacement,
    plain,
    refuse,
)

__all__ = ["KeyedArchive"]

ARCHIVER, TOP, OBJECTS, CLASS, NOTHING = "$archiver", "$top", "$objects", "$class", "$null"
KEYS, VALUES = "NS.keys", "NS.objects"


class KeyedArchive(Codec):
    name = "keyed-archive"
    has_mark = True

    def may_be(self, data: bytes) -> bool:
        return data.startswith(MARK) and ARCHIVER.encode() in data and OBJECTS.encode() in data

    def parse(self, data: bytes) -> Node:
        return _Archive(data).tree()

    def replaced(self, data: bytes, root: Node, new: Any, cause: Cause) -> list[Replacement]:
        if is_same(plain(root), new):
            return []
        archive = _Archive(data)
        own = archive.tree()  # the same, with the places that its numbers are of
        return one_replacement(data, _ArchiveRewriting(archive).with_tree(own, new), cause)


class _Archive:
    """The objects of an archive; a node's `form` is the place of the reference that led to it, by its number in
    `places`.
    """

    def __init__(self, data: bytes) -> None:
        self.data, self.table = data, Table(data)
        self.cursor = Cursor(data)
        self.top = self._map_of(self.table.top)
        if not {ARCHIVER, TOP, OBJECTS} <= set(self.top):
            raise Malformed("it is not an archive of objects")
        self.listed = self.top[OBJECTS][0]
        if self.table.count(self.listed)[0] != LIST:
            raise Malformed("its objects are not a list")
        self.objects = self.table.refs_of(self.listed)
        self.places: list[tuple[int, int]] = []  # of references: the object that has it, and its number there
        self.seen = set[int]()

    def tree(self) -> Node:
        roots = self._map_of(self.top[TOP][0])
        root = Node("map", len(MARK), self.table.end, form=-1)
        for name, (number, place) in roots.items():
            root.keys.append(name)
            root.parts.append(self._node(number, (self.top[TOP][0], place)))
        return root.parts[0] if len(root.parts) == 1 else root

    def _map_of(self, number: int) -> dict[str, tuple[int, int]]:
        """The values of a map by their names: their numbers, and which references of the map they are."""
        refs = self.table.refs_of(number)
        half = len(refs) // 2
        names = [str(self.table.node(key).value) for key in refs[:half]]
        return {name: (refs[half + at], half + at) for at, name in enumerate(names)}

    def _node(self, number: int, place: tuple[int, int]) -> Node:
        """What a reference leads to."""
        self.cursor.enter()
        self.cursor.depth += 1
        self.places.append(place)
        form = len(self.places) - 1
        if (index := self.index_of(number)) is not None:
            if index >= len(self.objects):
                raise Malformed("an object refers to one that is not there")
            number = self.objects[index]
        if self.table.has_parts(number):
            node = self._holder(number) if number not in self.seen else Node("other", 0, 0, value=f"object {number}")
        else:
            node = self.table.node(number)
            if index == 0 and node.value == NOTHING:
                node = Node("nothing", node.start, node.end)
        self.cursor.depth -= 1
        return replace(node, form=form)

    def _holder(self, number: int) -> Node:
        self.seen.add(number)
        start = self.table.starts[number]
        if self.table.count(number)[0] == LIST:
            return Node("list", start, start, parts=self._parts(number))
        fields = self._map_of(number)
        lists = {name: fields[name][0] for name in (KEYS, VALUES) if name in fields}
        if VALUES in lists and self.table.count(lists[VALUES])[0] == LIST:
            if KEYS not in lists:
                return Node("list", start, start, parts=self._parts(lists[VALUES]))
            keys = [str(self._named(key) or "") for key in self.table.refs_of(lists[KEYS])]
            if all(keys) and len(set(keys)) == len(keys) == len(self.table.refs_of(lists[VALUES])):
                return Node("map", start, start, keys=keys, parts=self._parts(lists[VALUES]))
        names = [name for name in fields if name != CLASS]
        parts = [self._node(fields[name][0], (number, fields[name][1])) for name in names]
        return Node("map", start, start, keys=names, parts=parts)

    def _parts(self, number: int) -> list[Node]:
        return [self._node(ref, (number, at)) for at, ref in enumerate(self.table.refs_of(number))]

    def _named(self, number: int) -> str | None:
        """The text that a key is, or refers to."""
        index = self.index_of(number)
        known = number if index is None else self.objects[index] if index < len(self.objects) else -1
        if known < 0 or self.table.has_parts(known):
            return None
        node = self.table.node(known)
        return str(node.value) if node.kind == "text" else None

    def index_of(self, number: int) -> int | None:
        """The number among `$objects` that an object refers to; None for one that is a value itself."""
        kind, count, at = self.table.count(number)
        return int.from_bytes(self.data[at : at + count + 1], "big") if kind == UID else None


class _ArchiveRewriting(Rewriting):
    """The objects of an archive as they will be."""

    def __init__(self, archive: _Archive) -> None:
        super().__init__(archive.table)
        self.archive = archive
        self.listed = list(archive.objects)
        self.referred: Counter[int] = Counter()  # how often each of `$objects` is referred to
        for number in range(len(archive.table.starts)):
            if (index := archive.index_of(number)) is not None:
                self.referred[index] += self.users[number]

    def with_tree(self, root: Node, new: Any) -> bytes:
        self._change(root, new)
        if len(self.listed) > len(self.archive.objects):
            self.objects[self.archive.listed] = head_of(LIST, len(self.listed))
            self.refs[self.archive.listed] = self.listed
        return self.written(self.table.top)

    def _change(self, node: Node, new: Any) -> None:
        if is_same(plain(node), new):
            return
        if node.kind == "list" and isinstance(new, list) and len(new) == len(node.parts):
            for part, value in zip(node.parts, new, strict=True):
                self._change(part, value)
        elif node.kind == "map" and isinstance(new, dict) and list(new) == node.keys:
            for part, value in zip(node.parts, new.values(), strict=True):
                self._change(part, value)
        elif node.parts or node.kind in ("other", "list", "map", "nothing") or isinstance(new, list | dict):
            raise refuse(new, "values that are there, as no object comes or goes")
        else:
            self._change_scalar(node, new)

    def _change_scalar(self, node: Node, new: Any) -> None:
        holder, place = self.archive.places[node.form]
        ref = self._refs(holder)[place]
        index = self.archive.index_of(ref)
        number = ref if index is None else self.listed[index]
        made = scalar_of(new, self.objects[number])
        if index is None:
            if self.users[number] == 1:
                self.objects[number] = made
            else:
                self._refer(holder, place, self.added(made))
        elif self.referred[index] == self.users[number] == 1:
            self.objects[number] = made
        else:
            self.listed.append(self.added(made))
            raw = _shortest(len(self.listed) - 1)
            self._refer(holder, place, self.added(bytes([UID << 4 | len(raw) - 1]) + raw))

    def _refs(self, holder: int) -> list[int]:
        return self.refs.get(holder) or self.table.refs_of(holder)

    def _refer(self, holder: int, place: int, number: int) -> None:
        """Let one of the references of an object lead to another one."""
        if holder not in self.refs:
            refs = self.table.refs_of(holder)
            self.refs[holder] = refs
            self.objects[holder] = self.objects[holder][: len(self.objects[holder]) - len(refs) * self.table.ref_size]
        self.refs[holder][place] = number


def _shortest(number: int) -> bytes:
    return number.to_bytes(max((number.bit_length() + 7) // 8, 1), "big")
