"""The books of one user, and which of them knows a save. Places follow the XDG folders."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from fnmatch import fnmatchcase
from itertools import islice
from pathlib import Path

from faithful_ledger.core.book import Book
from faithful_ledger.core.disk import Disk
from faithful_ledger.core.errors import AddressError, Busy, LedgerError, NoTemplateFits, RecognitionError
from faithful_ledger.core.formats import DOCUMENTS
from faithful_ledger.core.keeping import Rebuilt
from faithful_ledger.core.opening import WITHOUT, find_save, open_save, save_of, still_fits
from faithful_ledger.core.posting import Recovery
from faithful_ledger.core.records import Posting, Snapshot
from faithful_ledger.core.save import Save
from faithful_ledger.core.source import Source
from faithful_ledger.core.suggest import did_you_mean
from faithful_ledger.core.template import Library, Template
from faithful_ledger.core.together import Part, post_together, recover_together
from faithful_ledger.core.vault.archive import read_archive

__all__ = ["Shelf"]

COMMON_FOLDERS = {"save", "saves", "saved", "savegame", "savegames", "saved games", "slots", "profiles", "data", "user"}
MOST_COMPARED, LEAST_SAME = 200, 2  # names of files of two folders, and how many of them are the same


class Shelf:
    """All books in one folder; `data` and `cache` are given by tests, else they are the user's own.

    `recovered` gathers what opening books has finished, undone or found again; who reports it clears it. `unusable` are
    books that could not be opened while another one was looked for: they do not stand in the way.
    """

    def __init__(self, data: Path | None = None, cache: Path | None = None, disk: Disk | None = None) -> None:
        if data is None or cache is None:
            from platformdirs import PlatformDirs

            folders = PlatformDirs("faithful-ledger")
            data, cache = data or folders.user_data_path, cache or folders.user_cache_path
        self.data, self.cache, self.disk = data, cache, disk
        self.recovered: list[Recovery | Rebuilt] = []
        self.unusable: dict[str, LedgerError] = {}
        self.blocked: list[LedgerError] = []
        self._opened: list[Book] = []

    @property
    def books(self) -> Path:
        return self.data / "books"

    def library(self, book: Book | None = None) -> Library:
        """Templates of a book, then the user's, then the shipped ones."""
        folders = (book.folder / "templates",) if book is not None else ()
        return Library((*folders, self.data / "templates"), self.cache / "templates")

    def names(self) -> list[str]:
        """Books, the one used last first."""
        found: list[tuple[int, str]] = []
        for folder in self.books.glob("*/"):
            records = folder / "book.sqlite"
            if records.exists() or (folder / "vault").is_dir():
                found.append((-records.stat().st_mtime_ns if records.exists() else 0, folder.name))
        return [name for _, name in sorted(found)]

    def usable(self) -> Iterator[Book]:
        """Every book that can be opened, the one used last first; the others go to `unusable`."""
        for name in self.names():
            try:
                yield self.open(name)
            except LedgerError as error:
                self.unusable[name] = error

    def open(self, name: str) -> Book:
        """A book by its name; it is made where there is none.

        Raises:
            AddressError: this is not a name for a folder.
        """
        self.check_name(name)
        if any(self.journal.glob("*.json*")):
            self._recover()
        book = Book(self.books / name, self.disk)
        book.keeping.blocked += self.blocked
        self.recovered += book.recovered
        self._opened.append(book)
        return book

    @staticmethod
    def check_name(name: str) -> None:
        """Raises AddressError when this is not a name for a book."""
        if not re.fullmatch(r"[\w][\w .,'()-]{0,80}", name) or name.endswith((".", " ")):
            raise AddressError(f"“{name[:40]}” is not a name for a book", "use letters, digits, blanks and - . , ' ( )")

    @property
    def journal(self) -> Path:
        """Postings over several saves that are under way."""
        return self.data / "journal"

    def _recover(self) -> None:
        """Finish or undo postings over several saves, unless somebody is writing just now: then they are theirs."""
        books = {}
        try:
            for name in self.names():
                book = Book(self.books / name, self.disk)
                books[book.folder] = book
            with suppress(Busy):
                done, self.blocked = recover_together(self.journal, self.disk or Disk(), books)
                self.recovered += done
        finally:
            for book in books.values():
                book.close()

    def post_together(self, parts: Sequence[Part], note: str = "") -> list[Posting]:
        """Write plans of several saves as one: all of their files, or none.

        Raises:
            Refused: a check does not allow one of them; nothing was written.
            LedgerError: one could not be written; everything is as it was.
        """
        return post_together(parts, self.journal, self.disk or Disk(), note, self.blocked)

    def close(self) -> None:
        """Close every book that was opened from here."""
        for book in self._opened:
            book.close()

    def open_save(
        self,
        path: Path,
        template: str | None = None,
        *,
        whole: bool = True,
        roots: Mapping[str, Path] | None = None,
        text_format: str = "",
    ) -> Save:
        """The save at a path, with a template by its id or file, with none (`WITHOUT`), with the one that its book
        remembers, or the one that is recognised; `whole` asks that all of it fits. `roots` are folders granted now,
        beside those that its book knows.

        Raises:
            RecognitionError: no template fits, or several do.
            LedgerError: it cannot be read, or does not fit its template.
        """
        known = self.book_of(path)
        library = self.library(known)
        if text_format:
            return _text_save(path, text_format)
        remembered = known.keeping.template_of(path) if known is not None and template is None else None
        if WITHOUT in (template, remembered):
            return open_save(path, None)
        if template is not None:
            chosen = library.get(template)
        elif path.is_dir() and known is not None:  # a folder that was kept as one save, and has a template since
            if remembered is None:
                raise RecognitionError(f"no template describes the folder {path}", "name a file in it, or a template")
            chosen = library.get(remembered)
        elif remembered is not None and still_fits(path, remembered, library):
            chosen = library.get(remembered)
        else:
            try:
                path, chosen = self._recognised(path, known, library)
            except NoTemplateFits as error:
                return _text_save(path, why=error)
        save = open_save(path, chosen, (known.keeping.roots if known is not None else {}) | dict(roots or {}))
        if whole and save.problem is not None:
            raise save.problem
        return save

    def _recognised(self, path: Path, known: Book | None, library: Library) -> tuple[Path, Template]:
        """The save at a path and the template that fits it, if need be one of a book that knows others beside it, or
        in a folder beside its own, as each slot may have one.

        Raises:
            RecognitionError: none fits, or several do.
            AddressError: it is a folder, and the same holds of that.
        """
        try:
            return find_save(path, library)
        except (NoTemplateFits, AddressError):
            for beside in self._books_beside(path) if known is None else ():
                with suppress(NoTemplateFits, AddressError):
                    return find_save(path, self.library(beside))
            raise

    def open_kept(self, book: Book, snapshot: Snapshot, template: str | None = None) -> Save:
        """A kept copy as a save, with the template that its book remembers, or the one that is recognised.

        Raises:
            VaultError: it is damaged.
            RecognitionError: no template fits, or several do.
        """
        files = [(file.role, file.path, book.keeping.kept_source(file)) for file in snapshot.files]
        template = template or book.keeping.template_of(snapshot.save)
        return self._from_files(files, snapshot.save if snapshot.is_folder else None, template, book)

    def open_archive(self, path: Path, template: str | None = None) -> Save:
        """An exported copy as a save; its files have the names in it, as if they were beside it.

        Raises:
            VaultError: it is damaged, or not an exported copy.
            RecognitionError: no template fits, or several do.
        """
        files: list[tuple[str, Path, Source]] = []
        read_archive(path, lambda name, role, mode, source: files.append((role, path.parent / name, source)))
        return self._from_files(files, None, template, None)

    def _from_files(
        self, files: list[tuple[str, Path, Source]], folder: Path | None, name: str | None, book: Book | None
    ) -> Save:
        """A save from roles, paths and contents, the main file first."""
        library = self.library(book)
        _, path, source = files[0]
        template = library.get(name) if name and name != WITHOUT else library.recognise(path, source)
        known = {role: (path, source) for role, path, source in files if role != "companion"}
        if template.main.name not in known:  # it was kept before the template was there
            for spec in template.files.values():
                wanted = spec.name_beside(template.main, path.name) if spec is not template.main else spec.file_name
                fits = (pair for pair in known.items() if fnmatchcase(pair[1][0].name, Path(wanted).name))
                if not spec.inside and (found := next(fits, None)) is not None:
                    known[spec.name] = known.pop(found[0])
        missing = [spec.file_name for spec in template.files.values() if not spec.inside and spec.name not in known]
        if missing:
            what = f"the copy of {path.name} lacks {', '.join(missing)}"
            raise AddressError(what, f"nothing was written; {template.id} needs them")
        save = save_of(template, known, folder, book.keeping.roots if book is not None else {})
        if save.problem is not None:
            raise save.problem
        return save

    @property
    def done(self) -> list[str]:
        """What was written through the books of this shelf, a sentence each."""
        return [sentence for book in self._opened for sentence in book.history.done]

    def existing(self, name: str) -> Book:
        """Raises AddressError when there is no such book."""
        if name not in self.names():
            raise AddressError(f"there is no book “{name}”", f"there are {', '.join(self.names()) or 'none yet'}")
        return self.open(name)

    def book_of(self, path: Path) -> Book | None:
        """The book that knows a save."""
        for book in self.usable():
            try:
                if book.keeping.knows(path):
                    return book
            except LedgerError as error:
                self.unusable[book.name] = error
            book.close()
        return None

    def book_of_folder(self, *folders: Path) -> Book | None:
        """The book that knows a save in one of some folders."""
        wanted = {folder.absolute() for folder in folders}
        for book in self.usable():
            if any(wanted & {save, save.parent} for save, _ in book.records.saves()):
                return book
            book.close()
        return None

    def _books_beside(self, path: Path) -> Iterator[Book]:
        """The books that know saves in the folder of a save, or keep a folder beside its own, and like it, as one save.
        Folders of several saves are not slots: what is in the one may be of another game than what is in the other.
        """
        folder = path.absolute() if path.is_dir() else path.absolute().parent
        for book in self.usable():
            saves = [save for save, _ in book.records.saves()]
            in_one = any(path.absolute().parent in (save, save.parent) for save in saves)
            slots = (save for save in saves if save.parent == folder.parent and save.is_dir())
            if in_one or any(_are_alike(slot, folder) for slot in slots):
                yield book
            else:
                book.close()

    def folders(self) -> set[Path]:
        """All folders that some book keeps as one save."""
        found: set[Path] = set()
        for book in self.usable():
            found.update(book.keeping.folders())
            book.close()
        return found

    def book_for(self, path: Path, template: Template | None, name: str | None = None) -> Book:
        """The book of this name, else the one that knows a save, else one for its game (or its folder). It knows the
        save from now on.
        """
        book = self.book_of(path) if name is None else self.open(name)
        if book is None:
            name = template.game if template is not None else _name_of_folder(path)
            name = re.sub(r"[^\w .,'()-]", "-", name).strip(" .") or "Saves"
            book = self.open(name if template is not None else self._unlike_others(name, path))
        book.keeping.remember(path, template.id if template is not None else None)
        return book

    def _unlike_others(self, name: str, path: Path) -> str:
        """A name for the book of an unknown game: folders that are named alike are not one game."""
        number, wanted, known = 1, name, self.names()
        while wanted in known:
            book = self.open(wanted)
            folders = {save.parent for save, _ in book.records.saves()}
            book.close()
            if not folders or path.absolute().parent in folders:
                return wanted
            number += 1
            wanted = f"{name} {number}"
        return wanted

    def find_snapshot(self, name: str) -> tuple[Book, Snapshot]:
        """A snapshot of any book.

        Raises:
            AddressError: no book has it.
        """
        for book in self.usable():
            try:
                return book, book.keeping.snapshot(name)
            except AddressError:
                book.close()
        raise AddressError(f"no book has a snapshot “{name}”", "see the list with: faithful-ledger snapshots")


def _text_save(path: Path, text_format: str = "", why: NoTemplateFits | None = None) -> Save:
    """A file without a template, where its values can be reached by paths; `why` no template fits.

    Raises:
        LedgerError: it is not a text, or a broken one.
    """
    if text_format and text_format not in DOCUMENTS:
        hint = did_you_mean(text_format, DOCUMENTS) or f"there are {', '.join(list(DOCUMENTS)[1:])}"
        raise AddressError(f"“{text_format}” is not a format of texts", hint)
    save = open_save(path, None, text_format=text_format)
    if save.outline is None:
        raise why or NoTemplateFits(f"{path} is not a text of this format", "choose another format")
    if save.outline.problem is not None:
        raise save.outline.problem
    return save


def _name_of_folder(path: Path) -> str:
    """The nearest folder whose name says which game it is."""
    names = [folder.name for folder in path.absolute().parents if folder.name]
    return next((name for name in names if name.casefold() not in COMMON_FOLDERS), names[0] if names else "")


def _are_alike(folder: Path, other: Path) -> bool:
    """Whether two folders may be slots of one game: most of several files have the same names, or all have, in folders
    of which the names differ in digits only.
    """
    try:
        one, two = ({each.name for each in islice(around.iterdir(), MOST_COMPARED)} for around in (folder, other))
    except OSError:
        return False
    same = len(one & two)
    if re.sub(r"\d+", "", folder.name) == re.sub(r"\d+", "", other.name) and one == two:
        return True
    return same >= LEAST_SAME and 2 * same >= max(len(one), len(two))
