"""Files on an image of a memory card: entries of a directory, each with a chain of blocks.

A template says how its card is laid out (`card`). What is added, removed or replaced is entered in the open image like
any other values, so that seals follow and every other byte stays. Blocks of a damaged chain are never written over.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from fnmatch import fnmatchcase
from functools import cached_property
from pathlib import Path
from typing import NamedTuple

from faithful_ledger.core.binding import FieldNode, GroupNode, RowsNode
from faithful_ledger.core.binding.lookup import number_at
from faithful_ledger.core.binding.spans import all_fields
from faithful_ledger.core.carry.chains import Chains, RecordChains, TableChains, emptied, saying
from faithful_ledger.core.carry.values import Fields
from faithful_ledger.core.entries import Entry
from faithful_ledger.core.errors import AddressError, EntryError, LedgerError, Refused, ValueRefused
from faithful_ledger.core.opening import save_of
from faithful_ledger.core.posting.files import new_file
from faithful_ledger.core.save import Save, value_entry
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.template import Library, Template
from faithful_ledger.core.template.carries import CardSpec
from faithful_ledger.core.template.model import FileSpec
from faithful_ledger.core.typed_bytes import bytes_entry

__all__ = ["Card", "CardEntry"]

IMPORTANT = ("title", "region")  # what a file and its card have in common, by what fields mean


class CardEntry(NamedTuple):
    """A file on a card: its record's number, and the numbers of its blocks. `problem` says what is wrong with these."""

    name: str
    size: int
    blocks: tuple[int, ...]
    record: int
    problem: str = ""
    icon: str = ""


class Card:
    """The files on an open image.

    Raises:
        EntryError: its template does not say how it holds files.
        LedgerError: the image does not fit its template.
    """

    def __init__(self, save: Save, library: Library) -> None:
        template = save.template
        if template is None or template.card is None:
            what = f"no template says how {save.path.name} holds files"
            raise EntryError(what, "nothing was written; name the template of the card, with a part `card`")
        if save.problem is not None:
            raise save.problem
        self.save, self.library = save, library
        self.spec: CardSpec = template.card
        self.name = save.path.name
        root = save.root
        assert root is not None
        self.directory = self._rows(self.spec.entries)
        field = self.spec.next.removeprefix(f"{self.spec.entries}[*].")
        if field != self.spec.next:
            self.chains: Chains = RecordChains(self.spec, self.directory, field)
        else:
            self.chains = TableChains(self.spec, self._rows(self.spec.next))
        self.block_size = self.spec.block_size.evaluate(lambda path: number_at(root, path))
        self.at = self.spec.at.evaluate(lambda path: number_at(root, path))
        count = len(self.chains.following)
        if self.block_size < 1 or self.at < 0 or self.at + count * self.block_size > save.main.source.size:
            what = f"{self.name}: {count} blocks of {self.block_size} bytes do not fit into it"
            raise EntryError(what, "nothing was written; the image is cut off, or its template is wrong")

    def _rows(self, path: str) -> RowsNode:
        (node,) = self.save.nodes(path)
        assert isinstance(node, RowsNode)
        return node

    # reading

    @cached_property
    def entries(self) -> list[CardEntry]:
        """What is on the card, in the order of the directory."""
        found: list[CardEntry] = []
        owners: dict[int, str] = {}
        for record in self.directory.items():
            if isinstance(record, GroupNode) and self._begins(record):
                entry = self._entry(record)
                for block in entry.blocks:
                    if block in owners and not entry.problem:
                        entry = entry._replace(problem=f"block {block} belongs to {owners[block]} as well")
                    owners.setdefault(block, entry.name)
                found.append(entry)
        return found

    def _begins(self, record: GroupNode) -> bool:
        """Whether a record is an entry, and neither free nor a further block of one."""
        if self.directory.is_empty(record):
            return False
        return not isinstance(self.chains, RecordChains) or self.chains.is_first(record.index or 0)

    def _entry(self, record: GroupNode) -> CardEntry:
        name = self._text(record, self.spec.name)
        try:
            size = self._number(record, self.spec.size) if self.spec.size else -1
            count = self._number(record, self.spec.count) if self.spec.count else -(-max(size, 1) // self.block_size)
            first = self._number(record, self.spec.first) if self.spec.first else record.index or 0
        except LedgerError as error:
            return CardEntry(name, 0, (), record.index or 0, error.what)
        blocks, problem = self.chains.chain(first, count)
        size = size if size >= 0 else count * self.block_size
        icon = self._text(record, self.spec.icon) if self.spec.icon else ""
        return CardEntry(name, size, tuple(blocks), record.index or 0, problem, icon)

    @property
    def free(self) -> list[int]:
        """The numbers of the blocks that are nobody's; those that a damaged chain leads to are not among them."""
        return self.chains.free_among({block for entry in self.entries for block in entry.blocks})

    def entry(self, name: str) -> CardEntry:
        """The entry of a name.

        Raises:
            AddressError: there is none, or more than one.
            Refused: its chain is damaged.
        """
        found = [entry for entry in self.entries if entry.name == name]
        if len(found) != 1:
            what = f"{self.name} has {len(found) or 'no'} entries “{name}”"
            names = ", ".join(entry.name for entry in self.entries) or "nothing is on it"
            raise AddressError(what, f"nothing was written; there are {names}")
        if found[0].problem:
            raise Refused(f"{name} on {self.name} is damaged: {found[0].problem}", "nothing was written")
        return found[0]

    def content(self, entry: CardEntry) -> bytes:
        """What an entry holds."""
        source = self.save.main.source
        parts = (source.read(start, start + self.block_size) for start in map(self._start, entry.blocks))
        return b"".join(map(bytes, parts))[: entry.size]

    def _start(self, block: int) -> int:
        return self.at + block * self.block_size

    def with_partners(self, name: str) -> list[CardEntry]:
        """An entry with those that are nothing without it.

        Raises:
            LedgerError: as for `entry`.
        """
        names = [name, *(partner for partner in self.partners(name) if self._has(partner))]
        return [self.entry(each) for each in dict.fromkeys(names)]

    def partners(self, name: str) -> Iterator[str]:
        """The names that a file needs beside it."""
        for one, other in self.spec.pairs:
            for mine, theirs in ((one, other), (other, one)):
                if fnmatchcase(name, mine):
                    before, star, behind = mine.partition("*")
                    letters = name[len(before) : len(name) - len(behind)] if star else ""
                    yield theirs.replace("*", letters)

    def _has(self, name: str) -> bool:
        return any(entry.name == name for entry in self.entries)

    def write_out(self, name: str, folder: Path) -> list[Path]:
        """Write an entry, and what belongs to it, as new files of a folder; returns their paths.

        Raises:
            AddressError: it is not a folder, a file is there already, or a name is not one for a file.
        """
        if not folder.is_dir():
            raise AddressError(f"{folder} is not a folder", "nothing was written; name the folder for the files")
        contents = {folder / entry.name: self.content(entry) for entry in self.with_partners(name)}
        for path in contents:
            if path.parent != folder or path.name in ("", ".", ".."):
                raise AddressError(f"“{path.relative_to(folder)}” is not a name for a file", "nothing was written")
            if path.exists():
                raise AddressError(f"{path} exists", "nothing was written; name another folder")
        for path, data in contents.items():
            new_file(path, data)
        return list(contents)

    # writing

    def add(self, files: Mapping[str, bytes], instead_of: Iterable[CardEntry] = ()) -> None:
        """Enter files by their names, in place of entries that go.

        Raises:
            Refused: half of a pair is missing, a name is there already, a file is of another title or region, entries
                exclude each other, or there is no room.
            ValueRefused: a name does not fit into the directory.
        """
        gone = list(instead_of)
        self._refuse(files, {entry.name for entry in self.entries} - {entry.name for entry in gone})
        free = [*sorted(block for entry in gone for block in entry.blocks), *self.free]
        places = [entry.record for entry in gone]
        taken = set(places)
        places += [n for n, item in enumerate(self.directory.items()) if self.directory.is_empty(item)]
        needed = sum(self._count(data) for data in files.values())
        if needed > len(free):
            what = f"{', '.join(files)} need {needed} blocks of {self.block_size} bytes, and {len(free)} are free"
            raise Refused(f"{self.name} is full: {what}", "nothing was written; remove something first")
        if len(files) > len(places):
            what = f"{self.name} is full: its directory has room for {self.directory.count} entries"
            raise Refused(what, "nothing was written; remove something first")
        entries = [e for entry in gone for e in self.chains.freed(entry.blocks)]
        writes: list[tuple[int, bytes]] = []
        left = len(free) - needed
        for number, (name, data) in enumerate(files.items()):
            count = self._count(data)
            blocks, free = free[:count], free[count:]
            place = blocks[0] if isinstance(self.chains, RecordChains) else places[number]
            fresh = place not in taken
            entries += [*self._record(place, name, len(data), blocks, fresh=fresh), *self.chains.linked(blocks)]
            writes += [(block, data[n * self.block_size :][: self.block_size]) for n, block in enumerate(blocks)]
        if not isinstance(self.chains, RecordChains):
            entries += [e for place in places[len(files) : len(gone)] for e in self._emptied(place)]
        self._enter(entries, writes, left)

    def replace(self, name: str, files: Sequence[tuple[str, bytes]]) -> None:
        """Enter other bytes for an entry, and for what belongs to it where several files are given: of these, each goes
        to the entry whose name ends like its own.

        Raises:
            AddressError: there is no such entry, or there is not one file for each.
            Refused: as for `add`.
        """
        entries = [self.entry(name)] if len(files) == 1 else self.with_partners(name)
        ends = {Path(entry.name).suffix: entry for entry in entries} if len(files) > 1 else {}
        chosen = [ends.get(Path(file).suffix, entry) for (file, _), entry in zip(files, entries, strict=False)]
        if len(files) != len(entries) or len({entry.name for entry in chosen}) != len(entries):
            what = f"{len(files)} files are given for {', '.join(entry.name for entry in entries)}"
            raise AddressError(what, "nothing was written; give one file for each")
        self.add({entry.name: data for entry, (_, data) in zip(chosen, files, strict=True)}, chosen)

    def _count(self, data: bytes) -> int:
        """How many blocks a file needs."""
        return -(-max(len(data), 1) // self.block_size)

    def remove(self, entries: Sequence[CardEntry]) -> None:
        """Enter that files go: their records and blocks are free; what was in the blocks stays."""
        gone = [e for entry in entries for e in self.chains.freed(entry.blocks)]
        gone += [e for entry in entries for e in self._emptied(entry.record)]
        self._enter(gone, [], len(self.free) + sum(len(entry.blocks) for entry in entries))

    def _enter(self, entries: list[Entry], writes: list[tuple[int, bytes]], free: int) -> None:
        """Write entries down as one step; of two about one field the later one counts. `free` blocks are left then."""
        found = {entry.path: entry for entry in entries}
        if self.spec.free_count:
            (node,) = self.save.fields(self.spec.free_count)
            found[node.path] = value_entry(node, free)
        changed = [entry for entry in found.values() if entry.data != entry.node.raw]
        changed += [twin for entry in changed for twin in self._twins(entry)]
        for run in _runs(writes, self.block_size):
            start, (first, last) = self._start(run[0][0]), (run[0][0], run[-1][0])
            data = b"".join(part for _, part in run)
            blocks = f"Block {first}" if first == last else f"Blocks {first} to {last}"
            entry = bytes_entry(self.save, self.save.main.name, start, start + len(data), data, blocks)
            changed += [entry] if entry.data != entry.node.raw else []
        self.save.tape.put(changed)

    def _twins(self, entry: Entry) -> Iterator[Entry]:
        """The same bytes in the copies that the card keeps of its directory and its table."""
        for path, other in self.spec.copies:
            (one,), (two,) = self.save.nodes(path), self.save.nodes(other)
            if one.start <= entry.node.start and entry.node.end <= one.end:
                start = two.start + entry.node.start - one.start
                end = start + entry.node.size
                label = f"Copy of {entry.path}"
                yield bytes_entry(self.save, self.save.main.name, start, end, entry.data, label)

    def _record(self, place: int, name: str, size: int, blocks: list[int], *, fresh: bool) -> Iterator[Entry]:
        """What a record says of a file; a `fresh` one has nothing of the file that was in its place before."""
        record = self.directory.item(place)
        values = {field: value for pattern, field, value in reversed(self.spec.fill) if fnmatchcase(name, pattern)}
        values[self.spec.name] = name
        values |= {self.spec.first: str(blocks[0])} if self.spec.first else {}
        values |= {key: str(value) for key, value in ((self.spec.size, size), (self.spec.count, len(blocks))) if key}
        for node in _fields(record):
            if node.spec.name in values:
                yield self._typed(node, values[node.spec.name])
            elif node.spec.means in self.meanings:
                yield self._typed(node, self.meanings[node.spec.means])
            elif fresh and node.spec.is_free and any(node.raw):
                with suppress(ValueRefused):  # nothing is not a value there
                    yield value_entry(node, node.spec.storage.decode(bytes(len(node.raw))))

    def _emptied(self, place: int) -> Iterator[Entry]:
        return emptied(self.directory, self.directory.item(place))

    def _typed(self, node: FieldNode, text: str) -> Entry:
        try:
            return saying(node, text)
        except ValueRefused as error:
            raise ValueRefused(f"{text} on {self.name}: {error.what}", error.remedy) from error

    # what may be on a card

    def _refuse(self, files: Mapping[str, bytes], there: set[str]) -> None:
        """What keeps files from being on the card with those that stay."""
        after = there | set(files)
        for name in files:
            if name in there:
                what = f"{name} is on {self.name} already"
                raise Refused(what, "nothing was written; replace it, or rename the file")
            for partner in self.partners(name):
                if partner not in after:
                    what = f"{name} belongs together with {partner}, which is neither given nor on {self.name}"
                    raise Refused(what, "nothing was written; give both")
            for one, other in self.spec.apart:
                for mine, theirs in ((one, other), (other, one)):
                    clash = [each for each in sorted(after) if fnmatchcase(each, theirs) and each != name]
                    if fnmatchcase(name, mine) and clash:
                        raise Refused(f"{name} and {clash[0]} cannot be on one card", "nothing was written; remove one")
        self._refuse_strangers(files)

    def _refuse_strangers(self, files: Mapping[str, bytes]) -> None:
        """Files of another title or region than the card; and pairs of which one half is not that of the other."""
        mine = self.meanings
        for save in self._saves(files):
            name = save.main.path.name
            for node in Fields(save).singles:
                meaning = node.spec.means
                if meaning in IMPORTANT and meaning in mine and _said(node) != mine[meaning]:
                    what = f"{name} is of {meaning} {_said(node)}, and {self.name} of {mine[meaning]}"
                    raise Refused(what, "nothing was written; a console refuses it on this card")
            if save.problem is not None or not save.in_balance:
                errors = [each.message for each in save.findings if each.level == "error"]
                broken = [f"{state.label} does not hold" for state in save.broken_seals]
                why = save.problem.what if save.problem is not None else (errors + broken)[0]
                names = ", ".join(file.path.name for file in save.on_disk)
                raise Refused(f"{names} do not belong together, or are damaged: {why}", "nothing was written")

    def _saves(self, files: Mapping[str, bytes]) -> Iterator[Save]:
        """The files as saves, with those on the card that they need, as far as a template fits them."""
        on_card = {entry.name: entry for entry in self.entries if not entry.problem}

        def data_of(name: str) -> bytes | None:
            return files[name] if name in files else self.content(on_card[name]) if name in on_card else None

        main = dict.fromkeys(each for name in files for each in (name, *self.partners(name)))
        for name in main:
            data = data_of(name)
            if name in files:
                self._refuse_nameless(name, files[name])
            with suppress(LedgerError):
                if data is not None:
                    template = self.library.recognise(Path(name), MemorySource(data))
                    needed = {s.name: s.name_beside(template.main, name) for s in _on_disk(template)}
                    needed[template.main.name] = name
                    found = {key: (Path(each), data_of(each)) for key, each in needed.items()}
                    known = {key: (path, MemorySource(held)) for key, (path, held) in found.items() if held is not None}
                    if len(known) == len(needed):
                        yield save_of(template, known)

    def _refuse_nameless(self, name: str, data: bytes) -> None:
        """A file that is called like a save of the card's game, and is none."""
        game = self.save.template.game if self.save.template is not None else ""
        for template in self.library.templates().values() if game else ():
            called = template.game == game and fnmatchcase(name, template.main.file_name)
            if called and not self.library.fitting(name, len(data), MemorySource(data).read):
                what = f"{name} is called like a save of {template.title}, and what it holds is not one"
                raise Refused(what, "nothing was written; give the file that belongs there")

    @cached_property
    def meanings(self) -> dict[str, str]:
        """What the card says of itself, by what its fields mean."""
        return {node.spec.means: _said(node) for node in Fields(self.save).singles if node.spec.means}

    @staticmethod
    def _text(record: GroupNode, name: str) -> str:
        node = record.names[name]
        assert isinstance(node, FieldNode)
        return _said(node)

    @staticmethod
    def _number(record: GroupNode, name: str) -> int:
        node = record.names[name]
        assert isinstance(node, FieldNode)
        return node.number


def _on_disk(template: Template) -> list[FileSpec]:
    return [spec for spec in template.files.values() if not spec.inside]


def _said(node: FieldNode) -> str:
    return node.spec.storage.to_text(node.value)


def _fields(record: object) -> Iterator[FieldNode]:
    assert isinstance(record, GroupNode)
    yield from all_fields(record)


def _runs(writes: list[tuple[int, bytes]], block_size: int) -> Iterator[list[tuple[int, bytes]]]:
    """Blocks that follow each other on the card, together; one that is not full is the last."""
    run: list[tuple[int, bytes]] = []
    for block, data in sorted(writes):
        if run and (block != run[-1][0] + 1 or len(run[-1][1]) != block_size):
            yield run
            run = []
        run.append((block, data))
    if run:
        yield run
