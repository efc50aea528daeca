"""The half of a book that describes: its own copies of templates, which grow with what is found out."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from dataclasses import replace
from functools import partial
from heapq import nsmallest
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from faithful_ledger.core.address import Address
from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.disk import translated
from faithful_ledger.core.errors import EntryError, LedgerError
from faithful_ledger.core.formats.nested import IN_A_STRING, TEXT
from faithful_ledger.core.keeping import Keeping, absolute
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.posting.files import replace_file
from faithful_ledger.core.records import Posting
from faithful_ledger.core.save import Save
from faithful_ledger.core.source import open_blocks, read_whole
from faithful_ledger.core.template import Library, Template, parse_template
from faithful_ledger.core.template.model import FileSpec
from faithful_ledger.core.template.parts import self_contained

if TYPE_CHECKING:
    from faithful_ledger.core.binding import BoundFile
    from faithful_ledger.core.describe.draft import Draft
    from faithful_ledger.core.evidence import Place
    from faithful_ledger.core.placed_seals import Placed
    from faithful_ledger.core.seal_search import Found
    from faithful_ledger.core.sealing import Accepted
    from faithful_ledger.core.template.fresh import Shared

__all__ = ["BookTemplates", "Revision", "Revisions"]

MOST_COMPARED = 12  # kept copies that say what saves of a game share
BEGINNING = 64  # bytes
MOST_BESIDE, LARGEST_BESIDE = 8, 1 << 20  # files in the folder of a save, and bytes of one


class Revision(NamedTuple):
    """One change of a template's file, in words; no bytes where the file did not exist before, or does not now."""

    file: Path
    about: str
    before: bytes | None
    after: bytes | None


class Revisions:
    """The changes of templates since the book was opened, to be undone and done again in their order."""

    def __init__(self) -> None:
        self._all: list[Revision] = []
        self._done = 0

    def add(self, revision: Revision) -> None:
        self._all[self._done :] = [revision]
        self._done = len(self._all)

    def clear(self) -> None:
        self._all, self._done = [], 0

    @property
    def to_undo(self) -> str:
        """What would be undone, in words; empty where there is nothing."""
        return self._all[self._done - 1].about if self._done else ""

    @property
    def to_redo(self) -> str:
        return self._all[self._done].about if self._done < len(self._all) else ""

    def undone(self) -> Revision:
        """Raises EntryError where there is nothing to undo."""
        if not self._done:
            raise EntryError("no change of a template is left to undo", "nothing was changed")
        return self._all[self._done - 1]

    def redone(self) -> Revision:
        """Raises EntryError where nothing was undone."""
        if self._done == len(self._all):
            raise EntryError("no change of a template was undone", "nothing was changed")
        return self._all[self._done]

    def moved(self, *, back: bool) -> None:
        self._done += -1 if back else 1


class BookTemplates:
    """The templates in the folder of a book; they come before the user's and the shipped ones."""

    def __init__(self, book: Keeping) -> None:
        self.book = book
        self.revisions = Revisions()

    def change(
        self,
        save: Save,
        library: Library,
        about: str,
        act: Callable[[Draft], object],
        file: Path | None = None,
        kind: str = "binary",
    ) -> str:
        """Change the template of a save by hand: `file` where it was named by its file, else this book's own copy of
        it, or a new one for files of a format `kind`. `about` says in words what is done. Returns the template's id.

        Raises:
            LedgerError: it cannot be made, or not be written; the template is as it was.
        """
        from faithful_ledger.core.describe.draft import changed

        return self._write(changed(self._text_for(save, library, file, kind), save, act), about, save, file)

    def draft(self, save: Save, library: Library, file: Path | None = None) -> Draft:
        """The template of a save, to try changes on.

        Raises:
            LedgerError: it cannot be read.
        """
        from faithful_ledger.core.describe.draft import Draft

        return Draft(self._text_for(save, library, file), save)

    def _text_for(self, save: Save, library: Library, file: Path | None = None, kind: str = "binary") -> bytes:
        """The text of a save's template, or that of a new one without fields."""
        from faithful_ledger.core.template.fresh import new_template

        present = file if file is not None else library.path_of(save.template.id) if save.template is not None else None
        if present is not None:
            return read_whole(present)[0] if file is not None else self_contained(present)
        path, binary = absolute(save.main.path), kind == "binary"
        return new_template(path, self.book.name, self._shared(save), kind, binary=binary, taken=self._ids())

    def _ids(self) -> set[str]:
        """The ids of the templates in this book's folder, which a new one must not replace."""
        return {path.stem for path in (self.book.folder / "templates").glob("*.yaml")}

    def step_back(self, save: Save) -> str:
        """Undo the latest change of a template of this book; in words what it was.

        Raises:
            LedgerError: the template was changed by somebody else since, or cannot be written.
        """
        return self._put(save, self.revisions.undone(), back=True)

    def step_forward(self, save: Save) -> str:
        """Do what was undone again. Errors as for `step_back`."""
        return self._put(save, self.revisions.redone(), back=False)

    def _put(self, save: Save, revision: Revision, *, back: bool) -> str:
        target, before, after = revision.file, revision.before, revision.after
        wanted, present = (before, after) if back else (after, before)
        now = read_whole(target)[0] if target.is_file() else None
        if now != present:
            self.revisions.clear()
            what = f"{target.name} was changed outside since"
            raise EntryError(what, "it is as it is; earlier changes can no longer be undone from here")
        if wanted is None:
            with self.book.locked(), translated(target, "removed"):
                self.book.disk.remove(target)
            self.book.remember(save.path, None)
        else:
            with self.book.locked(), translated(target, "written"):
                replace_file(target, wanted, self.book.disk, 0o644)
            self.book.remember(save.path, parse_template(wanted, target.name).id)
        self.revisions.moved(back=back)
        return revision.about

    def add_place(self, save: Save, library: Library, place: Place, name: str) -> str:
        """Put a place into this book's own copy of the save's template, or into a new one. Returns the field's path.
        Errors as for `add_place_to`.
        """
        return self.add_place_to(save, library, place, name)[0]

    def add_place_to(
        self, save: Save, library: Library, place: Place, name: str, template: Path | None = None
    ) -> tuple[str, str]:
        """Put a place into a template's file; without one into this book's own copy of the save's template, or into a
        new one. Returns the field's path, and the template's id.

        Raises:
            EntryError: templates cannot hold this place yet, or a trial on a copy did not come out as it should.
            LedgerError: the folder cannot be written.
        """
        from faithful_ledger.core.describe import pins
        from faithful_ledger.core.describe.banked import in_the_newest_bank
        from faithful_ledger.core.pinning import try_writing
        from faithful_ledger.core.template.extend import with_place
        from faithful_ledger.core.template.fresh import Shared

        present = template
        if present is None and save.template is not None:
            present = library.path_of(save.template.id)
        text = self_contained(present) if present is not None else None
        main, base = absolute(save.main.path), absolute(save.folder or save.main.path.parent)
        holder = base / place.file if place.file else main  # of a folder, a name in it
        if base not in holder.parents:
            raise EntryError(f"{holder} is not in {base}", "templates only name files beside the save")
        alone = text is None and save.folder is not None
        first = holder.relative_to(base) if alone else main
        other = holder.relative_to(base) if holder != main and not alone else None
        if text is not None and (named := pins.named_in_records(text, save, place, name)) is not None:
            return named[1], self._write(named[0], f"pin {name}", save, template)
        held = _held_texts(save, holder, place)
        if holder == main and text is not None:
            place = in_the_newest_bank(place, save.main.bound)
        text = pins.without_leading(text, save, place) if text is not None else None
        if text is not None and (named := pins.named_where_needed(text, save, place, name)) is not None:
            return named[1], self._write(named[0], f"pin {name}", save, template)
        shared = self._shared(save, holder if alone else main) if text is None else Shared(1, 0)
        into = partial(with_place, text, name=name, save=first, game=self.book.name, shared=shared)
        into = partial(into, other=other, held=held, taken=self._ids())
        here = None
        if holder == main and pins.stays_nowhere(place):
            here = place.offset_in(bytes(save.main.source.read(0, min(save.main.source.size, LARGEST_BESIDE))))
        text, field = into(place if here is None else replace(place, found_by=Address.at(here)))
        try_writing(save, text, field, place)
        others = self._others(save, text)
        flowing = pins.flowing(text, save, others, place if here is not None else None)
        path = pins.path_after(text, flowing, save, field) if flowing != text else field
        if here is not None and not pins.follows(flowing, save, path):
            into(place)  # which says why it cannot be found again
        return path, self._write(flowing, f"pin {name}", save, template)

    def add_copies(
        self, save: Save, library: Library, path: str, copies: Sequence[Place], name: str, template: Path | None = None
    ) -> list[str]:
        """Put places that say the same as a field of a save's template into that as well, with rules that keep all of
        them equal. Returns the paths of their fields.

        Raises:
            EntryError: templates cannot hold one of them; those before it stay.
            LedgerError: the folder cannot be written.
        """
        from faithful_ledger.core.describe.adding_rules import keep_equal

        added: list[str] = []
        for number, copy in enumerate(copies, 2):
            field, known = self.add_place_to(save, library, copy, f"{name} {number}", template)
            present = template or library.path_of(known)
            assert present is not None
            self._write(keep_equal(self_contained(present), path, field), f"keep {name} equal", save, template)
            added.append(field)
        return added

    def add_seals(self, save: Save, library: Library, found: Sequence[Placed], file: Path | None = None) -> list[str]:
        """Put seals that were found into this book's own copy of the save's template, or into a new one. Returns the
        paths of their fields.

        Raises:
            EntryError: one does not hold in this save, or another field has the same bytes; none is put in then.
            LedgerError: the folder cannot be written.
        """
        from faithful_ledger.core.sealing import format_for, seal_found, turn

        paths: list[str] = []

        def act(draft: Draft) -> None:
            paths.extend(seal_found(draft, placed) for placed in sorted(found, key=turn))

        about = "add a seal" if len(found) == 1 else f"add {len(found)} seals"
        self.change(save, library, about, act, file, format_for(found[0]))
        return paths

    def accept(
        self, save: Save, library: Library, found: Found, file: Path | None = None, *, is_placed: bool = False
    ) -> tuple[Accepted, str]:
        """Put all that is sure of what was found into this book's own copy of the save's template, or into a new one.
        If nothing is sure and its place is known, that is the likeliest. Returns what was put in, and the template's
        id, which is empty where nothing was.

        Raises:
            LedgerError: the template has mistakes, or the folder cannot be written.
        """
        from faithful_ledger.core.describe import pins
        from faithful_ledger.core.sealing import accepted, format_for, to_accept

        chosen = to_accept(found, is_placed=is_placed)
        before = self._text_for(save, library, file, format_for(chosen[0]) if chosen else "binary")
        made = accepted(before, save, found, chosen)
        count = len(made.rules) + len(made.seals)
        if count:
            made = made._replace(text=pins.flowing(made.text, save, self._others(save, made.text)))
        return made, self._write(made.text, f"add {count} seals", save, file) if count else ""

    def _shared(self, save: Save, path: Path | None = None) -> Shared:
        """What a file, or without a `path` the main one, has in common with its kept copies."""
        from faithful_ledger.core.template.fresh import shared_by

        path = path or absolute(save.main.path)
        sources = [file.source for file in save.on_disk if absolute(file.path) == path] or [save.main.source]
        for snapshot in self.book.own_snapshots(save, MOST_COMPARED):
            kept = next((file for file in snapshot.files if file.path == path), None)
            with suppress(LedgerError):
                sources += [self.book.kept_source(kept)] if kept is not None else []
        beginnings = [bytes(source.read(0, min(source.size, BEGINNING))) for source in sources]
        beside = _beginnings_of(_beside(path)) if len(sources) == 1 else ()
        return shared_by(beginnings, [source.size for source in sources], beside)

    def _others(self, save: Save, text: bytes) -> Iterator[dict[str, BoundFile]]:
        """The files of other saves that a template fits: those beside a save, and what was kept of it."""
        from faithful_ledger.core.binding import bind_files

        template = parse_template(text, "the template", save.template.folder if save.template is not None else None)
        for other in _opened(_beside(save.main.path), template):
            yield {name: file.bound for name, file in other.files.items() if file.bound is not None}
        first, *more = (name for name, spec in template.files.items() if not spec.inside)
        for snapshot in self.book.own_snapshots(save, MOST_BESIDE) if not more else ():
            kept = next((file for file in snapshot.files if file.path == absolute(save.main.path)), None)
            with suppress(LedgerError):
                source = self.book.kept_source(kept) if kept is not None else None
                if source is not None and source.size <= LARGEST_BESIDE:
                    bound = bind_files(template, {first: source})
                    yield {name: file for name, file in bound.items() if file.problem is None}

    def take_back(self, save: Save, library: Library, path: str) -> None:
        """Take a pinned field out of this book's own template again; a template without fields is removed.

        Raises:
            LedgerError: the field was not pinned, or the template cannot be written.
        """
        from faithful_ledger.core.describe import pins
        from faithful_ledger.core.template.extend import without_field, without_value_in_list
        from faithful_ledger.core.template.keyed_records import LIST_NOTE

        present = library.path_of(save.template.id) if save.template is not None else None
        if present is None or present.parent != self.book.folder / "templates":
            raise EntryError(f"{path} is not in this book's own template", "nothing was changed")
        before = read_whole(present)[0]
        text: bytes | None
        record = save.nodes(path)[0].record
        if record is not None and record.parent is not None and record.parent.spec.note == LIST_NOTE:
            text = without_value_in_list(before, path)
        elif record is not None:
            text = pins.without_name_in_records(before, save, path)
        else:
            text = without_field(pins.standing(pins.without_leading(before, save), save, path), path)
        if text is not None:
            self._write(pins.flowing(text, save, self._others(save, text)), f"take {path} out", save)
            return
        with self.book.locked(), translated(present, "removed"):
            self.book.disk.remove(present)
        self.revisions.add(Revision(present, f"take {path} out", before, None))
        self.book.remember(save.path, None)

    def add_value(self, save: Save, library: Library, node: FieldNode, name: str) -> str:
        """As `add_place`, for a value of a text that no template describes.

        Raises:
            LedgerError: as for `add_place`.
        """
        from faithful_ledger.core.evidence import Place

        value = node.value
        stored_as = "true or false" if isinstance(value, bool) else "utf-8" if isinstance(value, str) else "digits"
        file = save.files[node.file]
        while file.name.endswith(TEXT):
            file = save.files[file.inside]
        spec = file.bound.spec if file.bound is not None else None
        layers = spec.layers if spec is not None else ()
        place = Place(
            (node.start,),
            stored_as + (IN_A_STRING if TEXT in node.path else ""),
            0,
            0,
            found_by=Address.by_path(save.outline.within(file.name, node.path) if save.outline else node.path),
            layers=layers,
            route=tuple(layer.step for layer in layers),
            values=(value,) if isinstance(value, float | int | str) and not isinstance(value, bool) else (),
            file=str(file.path),
            format=spec.format if spec is not None else "json",
        )
        return self.add_place(save, library, place, name)

    def judge(self, posting: Posting, verdict: str, template: Path | None, save: Save | None = None) -> list[str]:
        """Write down what the game made of a posting. Accepted fields are proven from now on: their standing is set in
        this book's copy of the template, to which the version of the `save` that was posted is known then. Returns
        their paths.

        Raises:
            LedgerError: the template cannot be read or written.
        """
        from faithful_ledger.core.describe.draft import changed
        from faithful_ledger.core.describe.versions import let_be_known
        from faithful_ledger.core.template.extend import with_standing

        self.book.records.judge(posting.id, verdict)
        if verdict != "accepted" or template is None:
            return []
        text, proven = with_standing(self_contained(template), [entry["path"] for entry in posting.record["entries"]])
        known = text
        if save is not None:
            with suppress(LedgerError):
                known = changed(text, save, let_be_known)
        if proven or known != text:
            self._write(known, f"{', '.join(proven)} proven" if proven else "the version of this save is known")
        return proven

    def _write(self, text: bytes, about: str, save: Save | None = None, file: Path | None = None) -> str:
        """Put a template into a file, or into this book's own, under its id, which is returned. It is remembered as the
        template of a `save`.
        """
        name = parse_template(text, "the template", file.parent if file is not None else None).id
        target = file or self.book.folder / "templates" / f"{name}.yaml"
        before = read_whole(target)[0] if target.is_file() else None
        if before == text:
            return name
        with self.book.locked(), translated(target, "written"):
            replace_file(target, text, self.book.disk, *(() if file is not None else (0o644,)))
        self.revisions.add(Revision(target, about, before, text))
        if save is not None and file is None:
            self.book.remember(save.path, name)
        return name


def _held_texts(save: Save, holder: Path, place: Place) -> list[FileSpec]:
    """What the strings hold that the path of a place goes through; empty where that is not known."""
    if save.outline is None or TEXT not in (place.path or ""):
        return []
    for file in save.files.values():
        layers = file.bound.spec.layers if file.bound is not None and file.inside else ()
        if absolute(file.path) == holder and tuple(layers) == tuple(place.layers or ()):
            with suppress(LedgerError):
                return save.outline.held_texts(file.name, place.path or "")
    return []


def _beside(path: Path) -> list[Path]:
    """Other files of its folder with the same ending."""
    with suppress(OSError):
        others = (each for each in path.parent.iterdir() if each.suffix == path.suffix and each != path)
        return nsmallest(MOST_BESIDE, others)
    return []


def _opened(paths: Sequence[Path], template: Template) -> Iterator[Save]:
    """Those of some files that a template fits, if they are not large."""
    for path in paths:
        with suppress(OSError, LedgerError):
            if path.stat().st_size <= LARGEST_BESIDE and (save := open_save(path, template)).problem is None:
                yield save


def _beginnings_of(paths: Sequence[Path]) -> list[bytes]:
    """What files begin with; those that cannot be read are skipped."""
    found = []
    for path in paths:
        with suppress(LedgerError):
            source = open_blocks(path)
            found.append(bytes(source.read(0, min(source.size, BEGINNING))))
    return found
