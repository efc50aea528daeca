"""What games hash of a text that has a checksum in it: objects and lists of JSON, and all of it but the checksum, as
they are and in other forms; and the elements of XML.
"""

from __future__ import annotations

import json
import re
from collections import Counter, deque
from collections.abc import Iterator, Sequence
from contextlib import suppress

from faithful_ledger.core.address import format_name
from faithful_ledger.core.errors import AddressError
from faithful_ledger.core.formats.document import TextLeaf
from faithful_ledger.core.formats.json_forms import FORMS, JsonNode, parsed, spelled
from faithful_ledger.core.formats.xml_document import XmlDocument
from faithful_ledger.core.formats.xml_markup import CONTENT, content_of
from faithful_ledger.core.seal_parts import SHORTEST, Part, Value, text_of
from faithful_ledger.core.seals.finder.cuts import Cut, cuts

__all__ = ["bare_span", "is_hash", "stored_values", "values_of"]

MOST_VALUES, DEEPEST_VALUE, MOST_HASHED = 6, 2, 3  # largest objects and lists of a text, and how deep; hashes in it
LARGEST_VALUES, LARGEST_FORMS = 4 << 20, 1 << 18  # bytes of all saves together, and those spelled in other forms
MOST_STORED = 12
NUMBER = re.compile(r"[0-9]{2,20}")
HASH = re.compile(r"(?:[0-9A-Fa-f]{2}[ :-]?){4,64}|[A-Za-z0-9+/_-]{11,88}={0,2}")


def stored_values(part: Part) -> list[list[tuple[int, int]]]:
    """Where the letters of what may be a checksum or a length are in each save: values of a text that all have, and
    that differ, wherever they are.
    """
    documents = [text_of(content) for content in part.contents]
    if None in documents or len(part.contents) < 2:
        return []
    leaves = [{leaf.path: leaf for leaf in document.leaves()} for document in documents if document is not None]
    found = []
    for path, first in leaves[0].items():
        may_be = is_hash(first) or NUMBER.fullmatch(first.text) is not None
        if may_be and all(path in each for each in leaves) and len({each[path].text for each in leaves}) > 1:
            found.append([bare_span(content, each[path]) for content, each in zip(part.contents, leaves, strict=True)])
        if len(found) == MOST_STORED:
            break
    return found


def bare_span(content: bytes, leaf: TextLeaf) -> tuple[int, int]:
    """The bytes of a value without quotes, if it has any."""
    quoted = content[leaf.start : leaf.start + 1] in (b'"', b"'") and leaf.end - leaf.start > 1
    return (leaf.start + 1, leaf.end - 1) if quoted else (leaf.start, leaf.end)


def values_of(part: Part) -> Iterator[Part]:
    """What games hash of a text that has something like a checksum in it: objects and lists of JSON, and all of it
    without the checksum, as they are and in other forms; and elements of XML.
    """
    if sum(map(len, part.contents)) > LARGEST_VALUES:
        return
    documents = [document for content in part.contents if (document := text_of(content)) is not None]
    if len(documents) < len(part.contents):
        return
    leaves = [{leaf.path: leaf for leaf in document.leaves()} for document in documents]
    hashed = [path for path, leaf in leaves[0].items() if is_hash(leaf) and all(path in each for each in leaves)]
    if not hashed:
        return
    if all(isinstance(document, XmlDocument) for document in documents):
        spans = [dict(_elements(document)) for document in documents if isinstance(document, XmlDocument)]
        for path, texts in _shared(part, spans):
            yield from _in_forms(part, texts, Value(path), f"the element {path}", ())
            within = f" of {part.words}" if part.words else ""
            words, value = f"the content of the element {path}{within}", Value(path, CONTENT)
            inside = list[bytes]()
            with suppress(AddressError):  # one without an end tag has none
                inside = list(map(content_of, texts))
            if inside:
                yield Part(tuple(inside), words, part.layers, "", part, value=value)
        return
    try:
        roots = [parsed(content) for content in part.contents]
    except AddressError:
        return
    if any(root.members is None for root in roots):
        return
    for path, texts in _shared(part, [dict(_containers(root)) for root in roots]):
        yield from _in_forms(part, texts, Value(path), f"the value {path}")
    for path in hashed[:MOST_HASHED]:
        for beside in _members_around(part.contents, [each[path] for each in leaves]):
            texts = []
            for content, each in zip(part.contents, leaves, strict=True):
                start, end = _letters(each[path])
                texts.append(content[: start - beside[0]] + content[end + beside[1] :])
            yield from _in_forms(part, texts, Value("", "", path, beside), f"the text without {path}")


def _shared(part: Part, spans: Sequence[dict[str, tuple[int, int]]]) -> Iterator[tuple[str, list[bytes]]]:
    """The largest parts that the texts of all saves have, by their paths, with their bytes in each."""
    common = [path for path in spans[0] if all(path in each for each in spans)]
    for path in sorted(common, key=lambda path: spans[0][path][0] - spans[0][path][1])[:MOST_VALUES]:
        yield path, [content[slice(*each[path])] for content, each in zip(part.contents, spans, strict=True)]


def _elements(document: XmlDocument) -> Iterator[tuple[str, tuple[int, int]]]:
    """The elements with others within them that have a name of their own, the outer ones first, by their paths."""
    document.check()
    tree = document.tree
    waiting = deque([("", 0)])
    while waiting:
        path, number = waiting.popleft()
        children = list(tree.children(number)) if path.count(".") < DEEPEST_VALUE else []
        names = Counter(tree.names[child] for child in children)
        for child in children:
            name = tree.names[child]
            start, end = tree.starts[child], tree.ends[child]
            is_element = tree.behind[child] > child + 1 and document.data[start : start + 1] == b"<"
            if name and names[name] == 1 and is_element and end - start >= SHORTEST:
                step = format_name(name)
                below = f"{path}.{step}" if path else step
                waiting.append((below, child))
                yield below, (start, end)


def _in_forms(
    part: Part, texts: Sequence[bytes], value: Value, words: str, every: Sequence[str] = FORMS
) -> Iterator[Part]:
    """As it is, and in each form that differs from that."""
    if len(set(texts)) < min(len(texts), 2):
        return
    seen = {tuple(texts)} if value.without else set()  # that is looked for elsewhere
    within = f"{words} of {part.words}" if part.words else words
    forms = every if sum(map(len, texts)) <= LARGEST_FORMS else ()
    nodes = [parsed(text) for text in texts] if forms else []
    for form in ("", *forms):
        made = tuple(spelled(node, form) for node in nodes) if form else tuple(texts)
        if made not in seen:
            seen.add(made)
            said = f"{within} as {form} JSON" if form else within
            yield Part(made, said, part.layers, "", part, value=value._replace(form=form))


def _containers(root: JsonNode) -> Iterator[tuple[str, tuple[int, int]]]:
    """The objects and lists of a text, the outer ones first, by their paths."""
    waiting = deque([("", root)])
    while waiting:
        path, node = waiting.popleft()
        for name, child in node.members or () if path.count(".") < DEEPEST_VALUE and not node.is_list else ():
            of_objects = not child.is_list or any(each.raw == b"{" for _, each in (child.members or ())[:1])
            if child.members is not None and of_objects and child.end - child.start >= SHORTEST:
                with suppress(ValueError):  # a name that is not spelled as JSON has it
                    step = format_name(json.loads(name))
                    below = f"{path}.{step}" if path else step
                    waiting.append((below, child))
                    yield below, (child.start, child.end)


def is_hash(leaf: TextLeaf) -> bool:
    """Whether a value of a text may be a checksum."""
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
