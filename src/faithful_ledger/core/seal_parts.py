"""What of saves can be searched for seals: the files themselves, what is packed or scrambled inside them, and the long
strings of texts.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Sequence
from contextlib import suppress
from typing import NamedTuple

from faithful_ledger.core.address import format_name
from faithful_ledger.core.deadline import Deadline
from faithful_ledger.core.errors import AddressError, LedgerError
from faithful_ledger.core.formats import Document, recognised_text
from faithful_ledger.core.formats.document import TextLeaf
from faithful_ledger.core.formats.json_forms import FORMS, JsonNode, parsed, spelled
from faithful_ledger.core.inside import look_inside
from faithful_ledger.core.layers import LayerSpec
from faithful_ledger.core.layers.archives import ARCHIVES
from faithful_ledger.core.nesting import spelled_as
from faithful_ledger.core.profile import find_layers
from faithful_ledger.core.seals.finder.cuts import Cut, cuts
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.wrapping import unwrap

__all__ = ["Part", "Value", "parts_inside", "streams_of", "text_of", "values_of"]

MOST_STRINGS, SHORTEST = 12, 16  # strings of a text that are looked at, the longest first; letters of one
LARGEST_TEXT = 16 << 20
MOST_VALUES, DEEPEST_VALUE, MOST_HASHED = 6, 2, 3  # largest objects and lists of a text, and how deep; hashes in it
LARGEST_VALUES, LARGEST_FORMS = 4 << 20, 1 << 18  # bytes of all saves together, and those spelled in other forms
HASH = re.compile(r"(?:[0-9A-Fa-f]{2}[ :-]?){4,64}|[A-Za-z0-9+/_-]{11,88}={0,2}")
UNMARKED = ("deflate", "lz4-block", "base64")  # what chance may look like, and what is letters


class Value(NamedTuple):
    """The object or list at `path` of a JSON text, or all of the text without the member that is at `without`, of which
    so many bytes before and behind its letters are left out (`beside`); in a `form`, or as it is.
    """

    path: str = ""
    form: str = ""
    without: str = ""
    beside: tuple[int, int] = (0, 0)


class Part(NamedTuple):
    """Bytes of each save that can be searched: the files, or a payload inside another part, which is reached through
    `layers`, or is the string at `path` of a text with the layers it is in; or the files `beside` them that have this
    name; or a `value` of the text around. `words` say it for people.
    """

    contents: tuple[bytes, ...]
    words: str = ""
    layers: tuple[LayerSpec, ...] = ()
    path: str = ""
    around: Part | None = None
    beside: str = ""
    value: Value | None = None

    @property
    def is_member(self) -> bool:
        """Whether it is a member of an archive."""
        return bool(self.layers) and not self.path and self.layers[-1].kind in ARCHIVES

    @property
    def outer(self) -> Iterator[Part]:
        """What it is in, the nearest first."""
        part = self.around
        while part is not None:
            yield part
            part = part.around


def streams_of(contents: Sequence[bytes], kind: str = "") -> list[list[tuple[int, int]]]:
    """Where the packed streams of each content are, of those kinds that show where they begin or are checked, and of
    one kind more.
    """
    found = []
    for content in contents:
        layers = [layer for layer in find_layers(content) if layer.kind == kind or layer.kind not in UNMARKED]
        found.append([(layer.offset, layer.offset + layer.size) for layer in layers])
    return found


def parts_inside(files: Part, end: Deadline) -> list[Part]:
    """Every payload inside the files, and the strings of texts, also of texts inside."""
    known: dict[tuple[str, ...], Part] = {(): files}
    found: list[Part] = []
    for payloads in look_inside(files.contents, end=end):
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


def _strings(part: Part) -> Iterator[Part]:
    """The long strings that a text has in every save, without quotes and escapes, and what is base64 or hexadecimal in
    them.
    """
    documents = [text_of(content) for content in part.contents]
    if None in documents:
        return
    leaves = [_long_leaves(document) for document in documents if document is not None]
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


def _long_leaves(document: Document) -> dict[str, TextLeaf]:
    return {
        leaf.path: leaf for leaf in document.leaves() if leaf.kind == "string" and leaf.end - leaf.start >= SHORTEST
    }


def values_of(part: Part) -> Iterator[Part]:
    """What games hash of a JSON text that has something like a checksum in it: its objects and lists, and all of it
    without the checksum, as they are and in other forms.
    """
    if sum(map(len, part.contents)) > LARGEST_VALUES:
        return
    try:
        roots = [parsed(content) for content in part.contents]
    except AddressError:
        return
    documents = [text_of(content) for content in part.contents]
    if None in documents or any(root.members is None for root in roots):
        return
    leaves = [{leaf.path: leaf for leaf in document.leaves()} for document in documents if document is not None]
    hashed = [path for path, leaf in leaves[0].items() if _is_hash(leaf) and all(path in each for each in leaves)]
    if not hashed:
        return
    spans = [dict(_containers(root)) for root in roots]
    common = [path for path in spans[0] if all(path in each for each in spans)]
    for path in sorted(common, key=lambda path: spans[0][path][0] - spans[0][path][1])[:MOST_VALUES]:
        texts = [content[slice(*each[path])] for content, each in zip(part.contents, spans, strict=True)]
        yield from _in_forms(part, texts, Value(path), f"the value {path}")
    for path in hashed[:MOST_HASHED]:
        for beside in _members_around(part.contents, [each[path] for each in leaves]):
            texts = []
            for content, each in zip(part.contents, leaves, strict=True):
                start, end = _letters(each[path])
                texts.append(content[: start - beside[0]] + content[end + beside[1] :])
            yield from _in_forms(part, texts, Value("", "", path, beside), f"the text without {path}")


def _in_forms(part: Part, texts: Sequence[bytes], value: Value, words: str) -> Iterator[Part]:
    """As it is, if it is no more than that, and in each form that is another one."""
    if len(set(texts)) < min(len(texts), 2):
        return
    seen = {tuple(texts)} if value.without else set()  # that is looked for elsewhere
    within = f"{words} of {part.words}" if part.words else words
    forms = FORMS if sum(map(len, texts)) <= LARGEST_FORMS else ()
    nodes = [parsed(text) for text in texts] if forms else []
    for form in ("", *forms):
        made = tuple(spelled(node, form) for node in nodes) if form else tuple(texts)
        if made not in seen:
            seen.add(made)
            said = f"{within} as {form} JSON" if form else within
            yield Part(made, said, part.layers, "", part, value=value._replace(form=form))


def _containers(root: JsonNode) -> Iterator[tuple[str, tuple[int, int]]]:
    """The objects and lists of a text, the outer ones first, by their paths."""
    waiting: list[tuple[str, JsonNode]] = [("", root)]
    while waiting:
        path, node = waiting.pop(0)
        for name, child in node.members or () if path.count(".") < DEEPEST_VALUE and not node.is_list else ():
            of_objects = not child.is_list or any(each.raw == b"{" for _, each in (child.members or ())[:1])
            if child.members is not None and of_objects and child.end - child.start >= SHORTEST:
                step = format_name(json.loads(name))
                below = f"{path}.{step}" if path else step
                yield below, (child.start, child.end)
                waiting.append((below, child))


def _is_hash(leaf: TextLeaf) -> bool:
    text = leaf.text
    if leaf.kind == "number":
        return text.lstrip("-").isdigit() and len(text) >= 7
    return leaf.kind == "string" and HASH.fullmatch(text) is not None and any(map(str.isdigit, text))


def _letters(leaf: TextLeaf) -> tuple[int, int]:
    """The bytes of a value without its quotes."""
    return (leaf.start + 1, leaf.end - 1) if leaf.kind == "string" else (leaf.start, leaf.end)


def _members_around(contents: Sequence[bytes], leaves: Sequence[TextLeaf]) -> Iterator[tuple[int, int]]:
    """What may be left out with the letters of a value so that what stays is JSON, the same in all saves: nothing, of a
    string, and the first that is its member.
    """
    yield from [(0, 0)] if leaves[0].kind == "string" else []
    for cut in cuts(contents[0], *_letters(leaves[0])):
        if any(cut) and all(_stays_json(content, leaf, cut) for content, leaf in zip(contents, leaves, strict=True)):
            yield cut.before, cut.behind
            return


def _stays_json(content: bytes, leaf: TextLeaf, cut: Cut) -> bool:
    start, end = _letters(leaf)
    with suppress(AddressError):
        left = parsed(content[: start - cut.before] + content[end + cut.behind :])
        return left.members is not None and _count(left) < _count(parsed(content))
    return False


def _count(node: JsonNode) -> int:
    """How many single values there are."""
    return 1 if node.members is None else sum(_count(child) for _, child in node.members)
