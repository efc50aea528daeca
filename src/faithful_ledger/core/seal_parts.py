"""What of saves can be searched for seals: the files themselves, what is packed or scrambled inside them, and the long
strings of texts.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

from faithful_ledger.core.deadline import Deadline
from faithful_ledger.core.errors import LedgerError, place
from faithful_ledger.core.formats import Document, recognised_text
from faithful_ledger.core.formats.document import TextLeaf
from faithful_ledger.core.in_front.elements import Header
from faithful_ledger.core.in_front.walk import headers_of
from faithful_ledger.core.inside import look_inside
from faithful_ledger.core.layers import ARRANGEMENTS, IN_LETTERS, LayerSpec
from faithful_ledger.core.layers.archives import ARCHIVES
from faithful_ledger.core.layers.sqlite_tables import SQLITE
from faithful_ledger.core.layers.stream import Layer
from faithful_ledger.core.layers.tagged import TAGGED
from faithful_ledger.core.nesting import spelled_as
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.unlocking import NO_KEYS, Keys
from faithful_ledger.core.wrapping import unwrap

__all__ = [
    "CALLED_AFTER",
    "SHORTEST",
    "UNMARKED",
    "Part",
    "Value",
    "name_beside",
    "parts_behind",
    "parts_inside",
    "text_of",
]

MOST_STRINGS, SHORTEST = 12, 16  # strings of a text that are looked at, the longest first; letters of one
LARGEST_TEXT = 16 << 20
MOST_NAMED = 32  # values in a sentence
CALLED_AFTER = "the file …"  # in front of the ending of a file that is called after the save
UNMARKED = ("deflate", "lz4-block", "lzo", "snappy", *IN_LETTERS)  # what chance may look like, and what is letters


class Value(NamedTuple):
    """The object or list at `path` of a JSON text, or a single value of any text (`is_single`), or all of the text
    without the member that is at `without`, of which so many bytes before and behind its letters are left out
    (`beside`); in a `form`, or as it is. Or what single values at `paths` say, one behind the other with something
    `between` two; each with its name and something behind that in front of it, if it is `named`.
    """

    path: str = ""
    form: str = ""
    without: str = ""
    beside: tuple[int, int] = (0, 0)
    is_single: bool = False
    paths: tuple[str, ...] = ()
    between: str = ""
    named: str | None = None

    @property
    def joined_in_words(self) -> str:
        names = ", ".join(self.paths) if len(self.paths) <= MOST_NAMED else f"all {len(self.paths)} fields"
        blank = {"": "with nothing between them", "\n": "by line breaks", " ": "by blanks"}
        with_names = f" with their names and “{self.named}”" if self.named is not None else ""
        return f"the values of {names}{with_names}, joined {blank.get(self.between, f'by “{self.between}”')}"


class Part(NamedTuple):
    """Bytes of each save that can be searched: the files, or a payload inside another part, which is reached through
    `layers`, or is the string at `path` of a text with the layers it is in; or the files `beside` them that have this
    name; or a `value` of the text around; or what is behind a `header` of the files, which ends elsewhere in each, or
    with `is_front` what is in front of something behind it. `words` say it for people.
    """

    contents: tuple[bytes, ...]
    words: str = ""
    layers: tuple[LayerSpec, ...] = ()
    path: str = ""
    around: Part | None = None
    beside: str = ""
    value: Value | None = None
    header: Header | None = None
    is_front: bool = False

    @property
    def offset(self) -> int:
        """Where it begins in the file that is the first save, if it is a piece of it; else 0."""
        return self.header.ends[0] if self.header is not None and not self.is_front else 0

    @property
    def is_member(self) -> bool:
        """Whether it is a member of an archive."""
        return bool(self.layers) and not self.path and self.layers[-1].kind in ARCHIVES

    @property
    def is_arranged(self) -> bool:
        """Whether it is the bytes of what it is in, in another order."""
        return self.is_unpacked and self.layers[-1].kind in ARRANGEMENTS

    @property
    def is_view(self) -> bool:
        """Whether it is only what the tables of a database or values of another format say, as JSON."""
        return self.is_unpacked and self.layers[-1].kind in (SQLITE, *TAGGED)

    @property
    def is_unpacked(self) -> bool:
        """Whether layers lead from what it is in to it."""
        return self.around is not None and len(self.layers) > len(self.around.layers)

    @property
    def is_same(self) -> bool:
        """Whether it is the same in all of several saves, so that these say no more of it than one."""
        return len(set(self.contents)) < 2 <= len(self.contents)

    @property
    def outer(self) -> Iterator[Part]:
        """What it is in, the nearest first."""
        part = self.around
        while part is not None:
            yield part
            part = part.around


def name_beside(words: str, main: Path) -> str:
    """The name of a file that a part is, beside the main one of its save."""
    if not words.startswith(CALLED_AFTER):
        return words
    ending = words.removeprefix(CALLED_AFTER)
    names = (f"{main.name}{ending}", f"{main.stem}{ending}")
    return next((name for name in names if main.with_name(name).is_file()), names[0])


def parts_inside(files: Part, streams: Sequence[list[Layer]], end: Deadline, keys: Keys = NO_KEYS) -> list[Part]:
    """Every payload inside the files, of which the packed `streams` and the `keys` are known, and the strings of texts,
    also of texts inside.
    """
    known: dict[tuple[str, ...], Part] = {(): files}
    found: list[Part] = []
    for payloads in look_inside(files.contents, streams, end=end, keys=keys):
        first = payloads[0]
        outer = next(known[first.route[:n]] for n in range(len(first.route) - 1, -1, -1) if first.route[:n] in known)
        part = Part(tuple(each.data for each in payloads), first.layer, first.layers, "", outer)
        known.setdefault(first.route, part)
        found.append(part)
    parts: list[Part] = []
    through: dict[tuple[bytes, ...], Part] = {}  # strings, which can grow where a stream in the bytes of a text cannot
    moved: dict[int, Part] = {}

    def add(part: Part) -> None:
        strings = list(_strings(part))
        parts.extend(strings)
        through.update((string.contents, string) for string in strings)

    add(files)
    for part in found:
        if part.contents in through:
            moved[id(part)] = through[part.contents]
        else:
            around = moved.get(id(part.around)) if part.around is not None else None
            if part.around is not None and around is not None:
                layers = (*around.layers, *part.layers[len(part.around.layers) :])
                moved[id(part)] = part = part._replace(around=around, layers=layers, path=around.path)
            parts.append(part)
        add(moved.get(id(part), part))
    return parts


def parts_behind(files: Part, lasts: Sequence[int | None]) -> Iterator[tuple[Part, list[Part]]]:
    """What is behind a header of the files that ends elsewhere in each, in front of a place that is known in each or in
    none; and what is in front of that, and of the place.
    """
    for header in headers_of(files.contents, lasts):
        behind = tuple(content[end:] for content, end in zip(files.contents, header.ends, strict=True))
        known = [ends for ends in (header.ends, lasts) if None not in ends]
        in_front = []
        for ends in dict.fromkeys(map(tuple, known)):
            front = tuple(content[:end] for content, end in zip(files.contents, ends, strict=True))
            words = f"what is in front of {place(len(front[0]))} in the first save"
            in_front.append(Part(front, words, around=files, header=header, is_front=True))
        yield Part(behind, "what is behind the header", around=files, header=header), in_front


def _strings(part: Part) -> Iterator[Part]:
    """The long strings that a text has in every save, without quotes and escapes, and what is base64 or hexadecimal in
    them.
    """
    documents = [text_of(content) for content in part.contents]
    if None in documents:
        return
    known = [document for document in documents if document is not None]
    every = list(known[0].leaves())
    first = _long(every)
    if not first or len(every) == 1:  # a mark and all the rest, which is not a text of a known format
        return
    leaves = [first, *(_long(document.leaves()) for document in known[1:])]
    common = [path for path in leaves[0] if all(path in each for each in leaves)]
    common.sort(key=lambda path: -len(leaves[0][path].raw))
    for path in common[:MOST_STRINGS]:
        texts = tuple(each[path].text.encode("utf-8", "surrogateescape") for each in leaves)
        if len(set(texts)) < min(len(texts), 2):
            continue
        words = f"{part.words} → the text {path}" if part.words else f"the text {path}"
        string = Part(texts, words, part.layers, path, part)
        yield string
        (kind, *others) = {spelled_as(each[path].text) for each in leaves}
        if kind and not others:
            with suppress(LedgerError):
                data = tuple(unwrap(text, (kind,))[-1].data for text in texts)
                yield Part(data, f"{words} → {kind}", (*part.layers, LayerSpec(kind)), path, string)


def text_of(content: bytes) -> Document | None:
    """The document of a text; None for what is not one, or too large to look into."""
    return recognised_text(MemorySource(content)) if len(content) <= LARGEST_TEXT else None


def _long(leaves: Iterable[TextLeaf]) -> dict[str, TextLeaf]:
    """The long strings among the values of a text, by their paths."""
    return {leaf.path: leaf for leaf in leaves if leaf.kind == "string" and leaf.end - leaf.start >= SHORTEST}
