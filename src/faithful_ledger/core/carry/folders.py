"""Files of a folder that go into another one: to a new version of a map, to another world, from a device and back.

A template sorts the files (`carries`): what was played goes along, what belongs to the map stays, what the game makes
anew is removed, and what an add-on brought goes where that add-on is. The user decides the rest, and the decision is
remembered. Registers in other folders follow what is carried: their entry is found by what stays, such as the name of
the world that it is carried into.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress
from dataclasses import dataclass, field
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Literal, NamedTuple

from faithful_ledger.core.carry.following import Files, judge, shared_after
from faithful_ledger.core.carry.index import removed_entry
from faithful_ledger.core.carry.plan import Carry, Line, Side, Write, change_between
from faithful_ledger.core.carry.values import LeftOut
from faithful_ledger.core.compare.fields import field_differences
from faithful_ledger.core.errors import AddressError, EntryError, LedgerError, Refused
from faithful_ledger.core.opening import NO_ROOTS, find_save, open_save
from faithful_ledger.core.rules import Finding
from faithful_ledger.core.save import Save
from faithful_ledger.core.source import Source, files_below, open_source, same_bytes
from faithful_ledger.core.template import Library, Template
from faithful_ledger.core.template.carries import CarryRule

__all__ = ["Folders", "ListedFile"]

MOST_FILES = 20_000
State = Literal["only here", "only there", "same", "differs"]


class ListedFile(NamedTuple):
    """A file of two folders: what kind it is (empty where nothing says so), how both sides compare, which one is
    `newer`, and whether it goes along, with the reason. `fields` are those in which both differ.
    """

    name: str
    kind: str
    state: State
    newer: Literal["", "here", "there"]
    goes: bool
    why: str
    fields: tuple[str, ...] = ()


@dataclass(slots=True)
class _Pair:
    """A file by its name in both folders, with what each side holds."""

    name: str
    here: Path | None = None
    there: Path | None = None
    sources: dict[str, Source] = field(default_factory=dict)

    def state(self) -> State:
        if self.here is None or self.there is None:
            return "only here" if self.there is None else "only there"
        if self.here.stat().st_size != self.there.stat().st_size:
            return "differs"
        return "same" if same_bytes(open_source(self.here)[0], open_source(self.there)[0]) else "differs"

    def newer(self) -> Literal["", "here", "there"]:
        if self.here is None or self.there is None:
            return ""
        one, other = self.here.stat().st_mtime_ns, self.there.stat().st_mtime_ns
        return "here" if one > other else "there" if other > one else ""


class Folders:
    """Two folders side by side. `decisions` says of patterns of names whether such files go along; it stands above what
    nothing else says, never above the template.

    Raises:
        AddressError: one is not a folder, they are one, or they hold too many files.
        FileAccessError: a file cannot be read.
    """

    def __init__(
        self,
        source: Path,
        target: Path,
        template: Template | None = None,
        decisions: Mapping[str, bool] | None = None,
        roots: Mapping[str, Path] = NO_ROOTS,
    ) -> None:
        self.source, self.target, self.template = source.absolute(), target.absolute(), template
        self.decisions, self.roots = dict(decisions or {}), dict(roots)
        for folder in (self.source, self.target):
            if not folder.is_dir():
                raise AddressError(f"{folder} is not a folder", "nothing was written; name two folders")
        if self.source.resolve() == self.target.resolve():
            raise AddressError(f"{source} is both sides of the carry", "nothing was written; name two folders")
        pairs: dict[str, _Pair] = {}
        for folder, side in ((self.source, "here"), (self.target, "there")):
            for path in files_below(folder):
                name = path.relative_to(folder).as_posix()
                setattr(pairs.setdefault(name, _Pair(name)), side, path)
        if len(pairs) > MOST_FILES:
            what = f"{source} and {target} have more than {MOST_FILES} files"
            raise AddressError(what, "nothing was read; name folders of saves")
        self.pairs = dict(sorted(pairs.items()))
        self.listed = [self._listed(pair) for pair in self.pairs.values()]

    @classmethod
    def recognised(
        cls, source: Path, target: Path, library: Library, decisions: Mapping[str, bool], roots: Mapping[str, Path]
    ) -> Folders:
        """With the template that a save in one of the folders is recognised by, or without one."""
        template = None
        for folder in (source, target):
            with suppress(LedgerError):
                template = template or find_save(folder, library)[1]
        return cls(source, target, template, decisions, roots)

    # what goes along

    def _rule(self, name: str) -> CarryRule | None:
        rules = self.template.carries if self.template is not None else ()
        return next((rule for rule in rules if any(fnmatchcase(name, each) for each in rule.patterns)), None)

    def _listed(self, pair: _Pair) -> ListedFile:
        state, newer, rule = pair.state(), pair.newer(), self._rule(pair.name)
        goes, why = self._decided(pair.name, rule, newer) if state in ("only here", "differs") else (False, "")
        return ListedFile(pair.name, rule.kind if rule is not None else "", state, newer, goes, why)

    def _decided(self, name: str, rule: CarryRule | None, newer: str) -> tuple[bool, str]:
        """Whether a file goes along, and why."""
        if rule is None:
            said = next((goes for pattern, goes in self.decisions.items() if fnmatchcase(name, pattern)), None)
            if said is None:
                return False, "nothing says whether it goes along"
            if said and newer == "there":
                return False, "the one there is newer"
            return said, "as you decided"
        why = f": {rule.why}" if rule.why else ""
        if rule.kind == "played":
            return True, f"the player did it{why}{'; the one there is newer' if newer == 'there' else ''}"
        if rule.kind == "map":
            return False, f"it belongs to the map, and stays{why}"
        if rule.kind == "made-anew":
            return False, f"the game makes it anew{why}"
        needed = self._needed(name, rule)
        if (self.target / needed).is_file():
            return True, f"its add-on is there ({needed})"
        return False, f"it needs {needed}, which is not there{why}"

    @staticmethod
    def _needed(name: str, rule: CarryRule) -> str:
        """The file of the add-on, where a `*` stands for what it is in the name of the file."""
        for pattern in rule.patterns:
            if fnmatchcase(name, pattern):
                before, star, behind = pattern.partition("*")
                return rule.needs.replace("*", name[len(before) : len(name) - len(behind)] if star else "*")
        return rule.needs

    def decide_again(self, decisions: Mapping[str, bool]) -> None:
        """Take what the user said before."""
        self.decisions = {**decisions, **self.decisions}
        self.listed = [self._listed(pair) for pair in self.pairs.values()]

    def decide(self, patterns: Iterable[str], *, goes: bool, over_newer: bool = False) -> None:
        """Say of files that nothing else decides about whether they go along.

        Raises:
            EntryError: no file is called so.
            Refused: the template says that it stays.
        """
        for pattern in patterns:
            names = [each for each in self.listed if fnmatchcase(each.name, pattern)]
            if not names:
                raise EntryError(f"no file in {self.source} is called {pattern}", "nothing was written")
            for each in names:
                if goes and each.kind and not each.goes and each.state in ("only here", "differs"):
                    raise Refused(f"{each.name}: {each.why}", "nothing was written; leave it where it is")
            self.decisions = {pattern: goes, **{k: v for k, v in self.decisions.items() if k != pattern}}
        self.listed = [self._listed(pair) for pair in self.pairs.values()]
        if over_newer:
            self.listed = [
                each._replace(goes=True, why="as you decided, over a newer one")
                if not each.kind and each.newer == "there" and self.decisions and each.why == "the one there is newer"
                else each
                for each in self.listed
            ]

    def with_fields(self) -> list[ListedFile]:
        """The list with the fields in which described files differ."""
        here, there = self._opened(self.source), self._opened(self.target)
        if here is None or there is None:
            return self.listed
        found: dict[str, list[str]] = {}
        inside = {name: file.path for name, file in there.files.items() if self.target in file.path.parents}
        names = {name: path.relative_to(self.target).as_posix() for name, path in inside.items()}
        for difference in field_differences(here.bound, there.bound):
            node = difference.b or difference.a
            if node is not None and node.file in names:
                found.setdefault(names[node.file], []).append(node.path)
        return [each._replace(fields=tuple(found.get(each.name, ()))) for each in self.listed]

    def _opened(self, folder: Path) -> Save | None:
        """The save that a folder is, by its main file."""
        if self.template is None:
            return None
        wanted = self.template.main.file_name
        main = next((path for path in sorted(folder.iterdir()) if fnmatchcase(path.name, wanted)), None)
        return open_save(main, self.template, self.roots) if main is not None else None

    # the carry

    def carry(self) -> Carry:
        """The plan of what goes along.

        Raises:
            EntryError: nothing goes along, the save there would not be read, or a register has no entry for it.
        """
        going = [each for each in self.listed if each.goes]
        if not going:
            what = f"nothing goes from {self.source} to {self.target}"
            raise EntryError(what, "nothing was written; both are the same, or nothing says what goes along (--take)")
        here, there = self._opened(self.source), self._opened(self.target)
        filed = there.path if there is not None else self.target
        carry = Carry(
            self.about, filed, self.template.id if self.template is not None else "", self._folders(self.target)
        )
        for each in going:
            pair = self.pairs[each.name]
            assert pair.here is not None
            new, old = open_source(pair.here)[0], open_source(pair.there)[0] if pair.there is not None else None
            mode = pair.here.stat().st_mode & 0o777
            write = Write(self.target / each.name, old, new, f"copy of {self.source.name}/{each.name}", mode)
            carry.writes.append(write)
            carry.add_whole(each.name, write)
        for each in self.listed:
            path = self.pairs[each.name].there
            if each.kind == "made-anew" and path is not None:
                carry.writes.append(Write(path, open_source(path)[0], None, "the game makes it anew"))
            elif each.state in ("only here", "differs") and not each.goes:
                carry.left_out.append(LeftOut(each.name, each.why))
        if self.template is not None:
            carry.add_companions(self.template, self.target)
        here_files = tuple((each.name, self.source / each.name) for each in going)
        carry.sides = [Side(here.path if here is not None else self.source, self.source.name, here_files)]
        there_files = tuple((name, pair.there) for name, pair in self.pairs.items() if pair.there is not None)
        if there_files:
            carry.sides.append(Side(carry.save, self.target.name, there_files))
        if there is not None and self.template is not None:
            self._follow(carry, here, there, self.template)
        return carry

    def _folders(self, folder: Path) -> tuple[Path, ...]:
        return (folder, *self.roots.values())

    def _follow(self, carry: Carry, here: Save | None, there: Save, template: Template) -> None:
        """What follows in registers, and whether the result is one that the game accepts."""
        contents = {write.path: write.new for write in carry.writes if write.new is not None}
        own: Files = {}
        known: Files = {}
        for file in there.on_disk:
            if file.problem is not None and file.moment is None and file.path not in contents:
                raise file.problem  # it is missing, or in a folder that was not granted
            if self.target in file.path.parents:
                own[file.name] = file.path, contents.get(file.path, file.source)
            else:
                known[file.name] = file.path, file.source
        shared = shared_after(template, own, known, self.roots)
        for register, old, new in shared.values():
            self._write_entry(carry, register, old, new, self.target.name)
        result = judge(carry, template, own, shared, self.roots)
        for each in field_differences(there.bound, result.bound):
            if each.a is not None and each.b is not None and each.b.file in shared:
                name = result.files[each.b.file].path.name
                carry.lines.append(Line(name, each.path, each.b.title, there.text(each.a), result.text(each.b)))
        if here is not None and here.problem is None:
            carry.findings += self._twins(here, result, template)

    def _twins(self, here: Save, result: Save, template: Template) -> Iterator[Finding]:
        """A warning where two worlds then say to be one."""
        for path in template.identity:
            with suppress(LedgerError):
                (mine,), (other,) = result.fields(path), here.fields(path)
                if result.text(mine) == here.text(other):
                    both = f"{self.source.name} and {self.target.name} then have the same"
                    said = f"{both} {mine.title.lower()}, {result.text(mine)}"
                    advice = "remove the old one when the game has accepted the new one"
                    yield Finding(path, "warning", f"{said}; {advice}")

    @staticmethod
    def _write_entry(carry: Carry, path: Path, old: Source, new: Source, name: str) -> None:
        """A register with other entries."""
        if not same_bytes(old, new):
            carry.writes.append(Write(path, old, new, f"entry of {name}"))
            carry.changes.append(change_between(path.name, old, new, f"entry of {name}"))

    @property
    def about(self) -> str:
        return f"{self.source.name} is carried to {self.target.name}"

    # removing the old one

    def removal(self) -> Carry:
        """The plan that removes everything in the source, and its entries in registers; all of it is kept first.

        Raises:
            Refused: what goes along is not in the target as it is here, or nothing says what does.
        """
        behind = [each.name for each in self.listed if each.goes]
        if behind:
            what = f"{self.target.name} does not have {behind[0]} as it is in {self.source.name}"
            raise Refused(what, "nothing was removed; carry it first, and let the game accept it")
        if not any(each.kind == "played" and each.state == "same" for each in self.listed):
            what = f"nothing that was played in {self.source.name} is in {self.target.name}"
            raise Refused(what, "nothing was removed; carry it first, and let the game accept it")
        for each in self.listed:
            decided = each.kind or any(fnmatchcase(each.name, pattern) for pattern in self.decisions)
            if not decided and each.state in ("only here", "differs"):
                what = f"nothing says whether {each.name} goes along, and only {self.source.name} has it as it is there"
                raise Refused(what, "nothing was removed; carry it, or say that it may stay behind (--leave)")
        save = self._opened(self.source)
        filed = save.path if save is not None else self.source
        id_ = self.template.id if self.template is not None else ""
        carry = Carry(f"{self.source.name} is removed", filed, id_, self._folders(self.source))
        files = tuple((name, pair.here) for name, pair in self.pairs.items() if pair.here is not None)
        carry.writes = [Write(path, open_source(path)[0], None, carry.about) for _, path in files]
        carry.sides = [Side(filed, self.source.name, files)]
        for file in save.on_disk if save is not None else ():
            if self.source not in file.path.parents and file.bound is not None and save is not None:
                new = removed_entry(file.bound, save.main.bound)
                if new is not None:
                    self._write_entry(carry, file.path, file.source, new, self.source.name)
        return carry
