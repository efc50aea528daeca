"""The slots of a game in a folder: which there are, what is in each, and what their files are called."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import suppress
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Literal, NamedTuple

from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.errors import EntryError, FileAccessError, LedgerError
from faithful_ledger.core.opening import NO_ROOTS, open_save, templates_in
from faithful_ledger.core.save import Save, SaveFile
from faithful_ledger.core.template import Library
from faithful_ledger.core.template.carries import SlotSpec
from faithful_ledger.core.template.model import FileSpec, Template

__all__ = ["How", "Slot", "Slots", "runs_of", "shown_in_words", "slots_in", "title_of"]

How = Literal["copy", "move", "swap"]

MOST_LISTED = 1000


class Slot(NamedTuple):
    """A slot: where its first file is or would be, what is in it, and what the file or folder is called whose name says
    it. `problem` says why it cannot be read.
    """

    slot: str
    path: Path
    title: str
    taken: bool
    problem: str = ""
    name: str = ""


class Slots:
    """The slots of a game in a folder.

    Raises:
        EntryError: the template does not say how a name says the slot.
    """

    def __init__(self, template: Template, folder: Path, roots: Mapping[str, Path] = NO_ROOTS) -> None:
        if template.slots is None or template.slots.rows:
            what = f"the template {template.id} does not say which slot a file is in"
            raise EntryError(what, "nothing was written; add a rule `named`, or `slots`, to the template")
        self.template, self.folder, self.roots = template, folder.absolute(), roots
        self.spec: SlotSpec = template.slots
        self.named = template.files[self.spec.file]

    @classmethod
    def around(cls, save: Save) -> Slots:
        """The slots where a save is."""
        if save.template is None:
            what = f"{save.path} is open without a template, which would say which slot it is in"
            raise EntryError(what, "nothing was written; describe the save first, or name a template")
        folder = save.main.path.parent
        is_folder = save.template.slots is not None and save.template.slots.of_folder
        return cls(save.template, folder.parent if is_folder else folder, save.roots)

    @classmethod
    def at(cls, save: Save, folder: Path) -> Slots:
        """The slots in a folder, for a save from elsewhere.

        Raises:
            FileAccessError: it is not a folder.
        """
        around = cls.around(save)
        if not folder.is_dir():
            raise FileAccessError(f"{folder} is not a folder", "nothing was written; name the folder of the slots")
        return cls(around.template, folder, save.roots)

    # names

    def said(self, path: Path) -> str | None:
        """The slot that the name of a file, or of its folder, says."""
        return self.spec.said_by(path)

    def of(self, save: Save) -> str | None:
        """The slot that the name of a save says."""
        file = save.files.get(self.spec.file)
        return self.said(file.path) if file is not None else None

    def known(self) -> dict[str, Path]:
        """The slots that are on disk, with the file or folder whose name says so."""
        found: dict[str, Path] = {}
        with suppress(OSError):
            for path in sorted(self.folder.iterdir()):
                if self.spec.of_folder:
                    said = self.said(path / self.named.file_name) if path.is_dir() else None
                else:
                    fits = path.is_file() and fnmatchcase(path.name, self.named.file_name)
                    said = self.said(path) if fits else None
                if said is not None:
                    found.setdefault(said, path)
        return found

    def spelled(self, slot: str) -> str:
        """A slot as names say it: with as many digits as those that are there, and one that is there as it is."""
        known = self.known()
        if slot in known or not slot.isdecimal():
            return slot
        same = next((said for said in known if said.isdecimal() and int(said) == int(slot)), None)
        width = max((len(said) for said in known if said.isdecimal() and said.startswith("0")), default=0)
        return same or str(int(slot)).zfill(width)

    def check(self, slot: str) -> str:
        """A slot as names say it.

        Raises:
            EntryError: there is no such slot.
        """
        first, last = self.spec.first, self.spec.last
        if first is not None and last is not None and not (slot.isdecimal() and first <= int(slot) <= last):
            raise EntryError(f"there is no slot {slot}", f"nothing was written; slots are {first} to {last}")
        slot = self.spelled(slot)
        name = self.spec.name_for(slot)
        if (
            not slot
            or name in ("", ".", "..")
            or "/" in name
            or "\0" in name
            or self.spec.said_by(self._named_path(name)) != slot
        ):
            what = f"no name of a {'folder' if self.spec.of_folder else 'file'} says slot “{slot}”"
            like = self.spec.pattern or ", ".join(self.spec.names)
            raise EntryError(what, f"nothing was written; names are like {like}")
        return slot

    def _named_path(self, name: str) -> Path:
        return self.folder / name / self.named.file_name if self.spec.of_folder else self.folder / name

    def main_path(self, slot: str) -> Path:
        """Where the first file of a slot is, or would be."""
        return self.paths(slot)[self.template.main.name]

    def paths(self, slot: str) -> dict[str, Path]:
        """Where the files are that belong to one slot alone, by their names in the template."""
        name = self.spec.name_for(slot)
        if self.spec.of_folder:
            folder = self.folder / name
            main = self.template.main.file_name
            if "*" in main and folder.is_dir():
                main = next((p.name for p in sorted(folder.iterdir()) if fnmatchcase(p.name, main)), main)
            return {each.name: folder / each.name_beside(self.template.main, main) for each in self.own_specs()}
        before, _, behind = self.named.file_name.partition("*")
        letters = name[len(before) : len(name) - len(behind)]
        found = {}
        for each in self.own_specs():
            base = self.roots.get(each.root_name, self.folder) if each.root_name else self.folder
            found[each.name] = base / each.file_name.replace("*", letters)
        return found

    def own_specs(self) -> list[FileSpec]:
        """The files that each slot has of its own."""
        on_disk = [each for each in self.template.files.values() if not each.inside]
        if self.spec.of_folder:
            return [each for each in on_disk if not each.root_name]
        return [each for each in on_disk if "*" in each.file_name or each is self.template.main]

    def shared(self) -> dict[str, tuple[FileSpec, Path]]:
        """The files that all slots share, by their names in the template."""
        own = {each.name for each in self.own_specs()}
        found = {}
        for name, spec in self.template.files.items():
            if not spec.inside and name not in own:
                base = self.roots.get(spec.root_name) if spec.root_name else self.folder
                if base is not None:
                    found[name] = (spec, base / spec.file_name)
        return found

    def own_files(self, save: Save) -> list[SaveFile]:
        """The described files of a save that its slot has of its own."""
        own = {each.name for each in self.own_specs()}
        return [file for file in save.on_disk if file.name in own]

    def other_files(self, save: Save) -> list[SaveFile]:
        """Where a slot is a folder: the files in it that no template describes."""
        if not self.spec.of_folder:
            return []
        return [file for file in save.on_disk if file.name not in self.template.files]

    @property
    def folders(self) -> tuple[Path, ...]:
        """Where files of slots may be."""
        return (self.folder, *self.roots.values())

    def filed_under(self, slot: str) -> Path:
        """What a save in a slot goes by in History."""
        path = self.main_path(slot)
        return path.parent if self.spec.of_folder else path

    # what is in them

    def opened(self, slot: str) -> Save:
        """The save in a slot. Raises LedgerError when it cannot be read."""
        path = self.main_path(slot)
        return open_save(path.parent if self.spec.of_folder else path, self.template, self.roots)

    def is_taken(self, slot: str) -> bool:
        """Whether any file of a slot is there."""
        return slot in self.known() or any(path.exists() for path in self.paths(slot).values())

    def listed(self) -> list[Slot]:
        """Every slot that is taken, and those that are free, as far as the template says which there are; else the
        next free one.
        """
        known = self.known()
        names = {self._order(slot): slot for slot in known}
        for slot in self.spec.names.values():  # each has a name, be it there or not
            names.setdefault(self._order(slot), self.spelled(slot))
        for number in self._numbers(known):
            names.setdefault((0, number, ""), self.spelled(str(number)))
        found = []
        for _, slot in sorted(names.items()):
            title, problem = self.title(slot) if self.is_taken(slot) else ("", "")
            name = self.spec.name_for(slot)
            found.append(Slot(slot, self.main_path(slot), title, self.is_taken(slot), problem, name))
        return found

    @staticmethod
    def _order(slot: str) -> tuple[int, int, str]:
        return (0, int(slot), "") if slot.isdecimal() else (1, 0, slot)

    def _numbers(self, known: Mapping[str, Path]) -> range:
        if self.spec.first is not None and self.spec.last is not None:
            return range(self.spec.first, min(self.spec.last + 1, self.spec.first + MOST_LISTED))
        taken = [int(slot) for slot in known if slot.isdecimal()]
        free = next((n for n in range(min(taken, default=1), max(taken, default=0) + 2) if n not in taken), None)
        is_numbered = bool(taken) and "{}" in self.spec.pattern and len(taken) == len(known)
        return range(free, free + 1) if is_numbered and free is not None else range(0)

    def title(self, slot: str) -> tuple[str, str]:
        """What is in a slot in a few words, and why it cannot be read."""
        try:
            save = self.opened(slot)
        except LedgerError as error:
            return "", error.what
        problem = save.problem
        return title_of(save, self.template), problem.what if problem is not None else ""


def slots_in(folder: Path, library: Library, roots: Mapping[str, Path] = NO_ROOTS) -> list[Slots]:
    """The slots of each game that has saves in a folder.

    Raises:
        EntryError: no template that fits one says which slot it is in.
        FileAccessError: the folder cannot be read.
    """
    fitting = templates_in(folder, library)
    found = [Slots(each, folder, roots) for each in fitting if each.slots is not None and not each.slots.rows]
    if not found:
        names = ", ".join(each.id for each in fitting) or "no template fits a file in it"
        raise EntryError(f"nothing says which slots there are in {folder} ({names})", "name a save, or a template")
    return found


def runs_of(slots: Sequence[str]) -> str:
    """Slots in a few words: numbers that follow each other as a run."""
    runs: list[list[str]] = []
    for slot in slots:
        follows = bool(runs) and slot.isdecimal() and runs[-1][-1].isdecimal() and int(slot) == int(runs[-1][-1]) + 1
        if follows:
            runs[-1].append(slot)
        else:
            runs.append([slot])
    return ", ".join(f"{run[0]} to {run[-1]}" if len(run) > 2 else ", ".join(run) for run in runs)


def title_of(save: Save, template: Template) -> str:
    """What the fields say by which people tell saves apart."""
    shows = template.slots.shows if template.slots is not None else ()
    parts = []
    for path in shows or template.identity:
        with suppress(LedgerError):
            for node in save.fields(path)[:1]:
                parts.append(shown_in_words(save, node))
    return " · ".join(filter(None, parts))


def shown_in_words(save: Save, node: FieldNode) -> str:
    """A text as it is, a number with its unit or its name."""
    text = save.text(node)
    if not text or isinstance(save.value(node), str):
        return text
    return f"{text} {node.spec.unit}" if node.spec.unit else f"{node.title.lower()} {text}"
