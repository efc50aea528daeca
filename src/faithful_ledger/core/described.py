"""The half of a book that describes: its own copies of templates, which grow with what is found out."""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

from faithful_ledger.core.address import Address
from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.disk import translated
from faithful_ledger.core.errors import EntryError, LedgerError
from faithful_ledger.core.formats.nested import IN_A_STRING, TEXT
from faithful_ledger.core.keeping import Keeping, absolute
from faithful_ledger.core.posting.files import replace_file
from faithful_ledger.core.records import Posting
from faithful_ledger.core.save import Save
from faithful_ledger.core.source import read_whole
from faithful_ledger.core.template import Library, parse_template
from faithful_ledger.core.template.model import FileSpec

if TYPE_CHECKING:
    from faithful_ledger.core.evidence import Place
    from faithful_ledger.core.seals.finder import Finding
    from faithful_ledger.core.template.extend import Shared

__all__ = ["BookTemplates"]

MOST_COMPARED = 12  # kept copies that say what saves of a game share
BEGINNING = 64  # bytes


class BookTemplates:
    """The templates in the folder of a book; they come before the user's and the shipped ones."""

    def __init__(self, book: Keeping) -> None:
        self.book = book

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
        from faithful_ledger.core.pinning import try_writing
        from faithful_ledger.core.template.extend import Shared, with_place

        present = template
        if present is None and save.template is not None:
            present = library.path_of(save.template.id)
        text = read_whole(present)[0] if present is not None else None
        main, base = absolute(save.main.path), absolute(save.folder or save.main.path.parent)
        holder = absolute(Path(place.file)) if place.file else main
        if base not in holder.parents:
            raise EntryError(f"{holder} is not in {base}", "templates only name files beside the save")
        alone = text is None and save.folder is not None
        first = holder.relative_to(base) if alone else main
        other = holder.relative_to(base) if holder != main and not alone else None
        held = _held_texts(save, holder, place)
        shared = self._shared(save) if text is None else Shared(1, 0)
        text, field = with_place(text, place, name, first, self.book.name, shared, other, held)
        try_writing(save, text, field, place)
        if template is not None:
            with translated(template, "written"):
                replace_file(template, text, self.book.disk)
            return field, parse_template(text, template.name).id
        written = self._write(text)
        self.book.remember(save.path, written)
        return field, written

    def add_seal(self, save: Save, library: Library, finding: Finding) -> str:
        """Put a seal that was found in the main file into this book's own copy of the save's template, or into a new
        one. Returns the field's path.

        Raises:
            EntryError: it does not hold in this save, or another field has the same bytes.
            LedgerError: the folder cannot be written.
        """
        from faithful_ledger.core.sealing import try_seal, with_seal
        from faithful_ledger.core.template.extend import new_template

        present = library.path_of(save.template.id) if save.template is not None else None
        main = absolute(save.main.path)
        text = read_whole(present)[0] if present is not None else new_template(main, self.book.name, self._shared(save))
        text, field = with_seal(text, finding, save.main.source.size)
        try_seal(save, text, field)
        self.book.remember(save.path, self._write(text))
        return field

    def _shared(self, save: Save) -> Shared:
        """What the main file has in common with its kept copies."""
        from faithful_ledger.core.template.extend import shared_by

        sources = [save.main.source]
        for snapshot in self.book.own_snapshots(save, MOST_COMPARED):
            kept = next((file for file in snapshot.files if file.path == absolute(save.main.path)), None)
            with suppress(LedgerError):
                sources += [self.book.kept_source(kept)] if kept is not None else []
        beginnings = [bytes(source.read(0, min(source.size, BEGINNING))) for source in sources]
        return shared_by(beginnings, [source.size for source in sources])

    def take_back(self, save: Save, library: Library, path: str) -> None:
        """Take a pinned field out of this book's own template again; a template without fields is removed.

        Raises:
            LedgerError: the field was not pinned, or the template cannot be written.
        """
        from faithful_ledger.core.template.extend import without_field

        present = library.path_of(save.template.id) if save.template is not None else None
        if present is None or present.parent != self.book.folder / "templates":
            raise EntryError(f"{path} is not in this book's own template", "nothing was changed")
        text = without_field(read_whole(present)[0], path)
        if text is not None:
            self._write(text)
            return
        with self.book.locked(), translated(present, "removed"):
            self.book.disk.remove(present)
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

    def judge(self, posting: Posting, verdict: str, template: Path | None) -> list[str]:
        """Write down what the game made of a posting. Accepted fields are proven from now on: their standing is set in
        this book's copy of the template. Returns their paths.

        Raises:
            LedgerError: the template cannot be read or written.
        """
        from faithful_ledger.core.template.extend import with_standing

        self.book.records.judge(posting.id, verdict)
        if verdict != "accepted" or template is None:
            return []
        text, proven = with_standing(read_whole(template)[0], [entry["path"] for entry in posting.record["entries"]])
        if proven:
            self._write(text)
        return proven

    def _write(self, text: bytes) -> str:
        """Put a template into this book's own, under its id, which is returned."""
        name = parse_template(text, "the template").id
        target = self.book.folder / "templates" / f"{name}.yaml"
        with self.book.locked(), translated(target, "written"):
            replace_file(target, text, self.book.disk, 0o644)
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
