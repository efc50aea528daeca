"""The one family of errors. Each says what is wrong, where, and what to do; the class owns the sentence.

Callers catch `LedgerError` in one place and show `str(error)`: one sentence, without a traceback. `error.status`
is the exit status of the command line: 2 for wrong use or bad input, 3 for something refused in order to protect
data.
"""

from __future__ import annotations

from pathlib import Path

__all__ = [
    "AddressError",
    "BindingError",
    "Busy",
    "ChangedMeanwhile",
    "EntryError",
    "ExpressionError",
    "FileAccessError",
    "FolderAway",
    "JournalUnreadable",
    "LedgerError",
    "OutOfBounds",
    "RecognitionError",
    "Refused",
    "RootNotGranted",
    "StreamGrows",
    "TemplateError",
    "TooMuch",
    "UnexplainedChange",
    "ValueRefused",
    "VaultError",
    "place",
]


MOST_MISTAKES = 20  # of a template that one sentence names


def place(offset: int) -> str:
    """An offset as every message and screen spells it: hexadecimal, then decimal."""
    return f"0x{offset:X} ({offset})"


class LedgerError(Exception):
    """Something the user can read and act upon.

    `what` names the thing and what is wrong with it; `remedy` says what was not touched and what to do.
    """

    status = 2

    def __init__(self, what: str, remedy: str = "") -> None:
        super().__init__(f"{what}; {remedy}" if remedy else what)
        self.what = what
        self.remedy = remedy


class FileAccessError(LedgerError):
    """A file cannot be read or written: missing, forbidden, of the wrong kind, changing while it is read."""


class RootNotGranted(FileAccessError):
    """A file of a save is in a folder that the user has not granted yet; `root` is its role."""

    def __init__(self, root: str, about: str, file: str) -> None:
        meaning = f" ({about})" if about else ""
        super().__init__(
            f"{file} is in the folder “{root}”{meaning}, which is not known yet",
            f"nothing can be posted until you grant it once: --root {root}=FOLDER, or Gather in the window",
        )
        self.root = root


LONGEST_PATH = 160  # letters of a path in a sentence


class BindingError(LedgerError):
    """A save does not fit its template. `offset` is where in the payload."""

    def __init__(self, path: str, offset: int, what: str, remedy: str = "") -> None:
        shown = path if len(path) <= LONGEST_PATH else f"{path[: LONGEST_PATH // 2]} … {path[-LONGEST_PATH // 2 :]}"
        super().__init__(
            f"{shown} at {place(offset)}: {what}",
            remedy or "nothing was changed; the save may be damaged, or another template may fit it",
        )
        self.path = path
        self.offset = offset


class AddressError(LedgerError):
    """A path, an offset or a name leads nowhere."""


class ValueRefused(LedgerError):
    """A value that its field cannot hold."""


class OutOfBounds(ValueRefused):
    """A value the field could hold, but beyond what the template says the game accepts."""


class TooMuch(LedgerError):
    """A file or a template asks for more work or memory than its size is worth."""


class EntryError(LedgerError):
    """Entries that cannot be posted together."""


class StreamGrows(EntryError):
    """A packed stream, or a value, would take another size within a payload of which nobody knows the lengths."""


class ExpressionError(LedgerError):
    """An expression of a template that is not allowed, or has no result."""


class TemplateError(LedgerError):
    """A template with mistakes. `mistakes` holds all of them, each a (line, sentence) pair, in order of lines;
    there are `more` that are not among them.
    """

    def __init__(self, name: str, mistakes: list[tuple[int, str]], more: int = 0) -> None:
        self.mistakes = sorted(dict.fromkeys(mistakes))
        self.more = more
        shown = self.mistakes[:MOST_MISTAKES]
        lines = "; ".join(f"line {line}: {text}" if line else text for line, text in shown)
        total = len(mistakes) + more
        lines += "; and more of the kind" if total > len(shown) else ""
        counted = "1 mistake" if total == 1 else f"{total} mistakes"
        super().__init__(f"the template {name} has {counted}: {lines}", "mend the template and open the save again")


class RecognitionError(LedgerError):
    """No template, or more than one, fits a file."""


class NoTemplateFits(RecognitionError):
    """None of the known templates fits a file."""


class VaultError(LedgerError):
    """A kept copy is missing or damaged."""

    status = 3


class Refused(LedgerError):
    """Not done, in order to protect data."""

    status = 3


class Busy(Refused):
    """Somebody else is writing there just now."""


class ChangedMeanwhile(Refused):
    """Another program has written a file since it was read, or since it was posted."""


class JournalUnreadable(Refused):
    """An interrupted posting cannot be finished or undone, because its `journal` is damaged."""

    def __init__(self, journal: Path) -> None:
        super().__init__(
            f"the journal {journal} of an interrupted posting is damaged",
            "some files of that save may be new and others old, so nothing is written in this book; bring back the "
            "snapshot from before it (faithful-ledger restore), then remove the journal",
        )
        self.journal = journal


class FolderAway(Refused):
    """An interrupted posting cannot be finished or undone now, because a folder or mount of its `folders` is `away`."""

    def __init__(self, away: str, files: str, folders: tuple[Path, ...], journal: Path) -> None:
        super().__init__(
            f"a posting to {files} was interrupted, and {away} is not there: some of these files may be new and others "
            "old",
            "plug the device in again, or bring the folder back, and open the save: then the posting is finished or "
            f"undone; other saves are not affected; if it is gone for good, remove {journal}",
        )
        self.away, self.folders = away, folders


class UnexplainedChange(Refused):
    """A byte would differ without a cause: promise 1 forbids to write it."""

    def __init__(self, name: str, offset: int) -> None:
        super().__init__(
            f"{name}: the byte at {place(offset)} would change and no entry, length, count, offset or seal explains it",
            "nothing was written; please report this together with the template",
        )
