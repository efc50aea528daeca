"""XML (Extensible Markup Language 1.0, fifth edition) as a document.

An element is gone by its name, an attribute by `@name`, text beside attributes or elements by `#text`; the root is the
whole, so a path begins below it. Siblings of one name are distinguished by number, `item[2]`, or by what one of their
attributes says, `int[@name=gold]`. In a property list the values go by their keys.

Whether the text is well formed is decided by expat. A text that declares entities is refused: they can grow without
bound or reach other files.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from functools import cache, cached_property, partial
from typing import TYPE_CHECKING
from xml.parsers import expat

from faithful_ledger.core.errors import BindingError, ValueRefused
from faithful_ledger.core.formats.quoting import decoded_text, encoded_text
from faithful_ledger.core.formats.tree import ARRAY, OBJECT, PART, SCALAR, STRING, WORD, Builder, GrowingTree, Tree
from faithful_ledger.core.formats.tree_document import SMALL, TreeDocument
from faithful_ledger.core.formats.xml_markup import ASIDE, CDATA_CLOSE, CDATA_OPEN
from faithful_ledger.core.storage import Quoting

if TYPE_CHECKING:
    from faithful_ledger.core.formats.xml_index import Level, XmlIndex

__all__ = ["XmlDocument"]

MARKUP = re.compile(
    rb"<(?:(?P<leaf>[^\s/>\"'<!?]+)>(?P<text>[^<]*)</(?P=leaf)\s*>|(?P<aside>"
    + ASIDE
    + rb")|!\[CDATA\[(?P<cdata>.*?)\]\]>|/(?P<close>[^\s>]+)\s*>"
    rb"|(?P<name>[^\s/>\"'<!?]+)(?P<attributes>(?:[^>\"']|\"[^\"]*\"|'[^']*')*?)(?P<empty>/?)>)",
    re.DOTALL,
)
ATTRIBUTE = re.compile(rb"\s([^\s=\"'/]+)\s*=\s*(\"[^\"]*\"|'[^']*')")
DECLARED = re.compile(rb"<\?xml[^>]*?encoding\s*=\s*[\"']([A-Za-z0-9._-]+)[\"']")
REFERENCE = re.compile(r"&(?:#x([0-9A-Fa-f]{1,6})|#([0-9]{1,7})|([^;&\s<]{1,64}));|&")
NAMED = {"lt": "<", "gt": ">", "amp": "&", "quot": '"', "apos": "'"}
TEXT, ATTRIBUTE_VALUE, CDATA, EMPTY, PLIST_SWITCH = range(5)
SEVERAL_ROOTS = expat.errors.codes[expat.errors.XML_ERROR_JUNK_AFTER_DOC_ELEMENT]
PLIST = b"plist"
PLIST_HOLDERS = (b"array", b"dict")


class _SeveralRoots(Exception):
    """The text has more than one element at its outside, as pieces of XML have."""


class _Frame:
    """An element that is not closed yet."""

    def __init__(self, number: int, name: bytes, head: int, inside: int, *, attributes: bool) -> None:
        self.number, self.name, self.head, self.inside = number, name, head, inside
        self.has_attributes, self.has_elements = attributes, False
        self.texts: list[tuple[int, int, int]] = []  # start, end, style


class XmlDocument(TreeDocument):
    name = "xml"
    what = "the XML text"
    is_fragment = False

    @cached_property
    def declared(self) -> str:
        """The encoding the text says it has."""
        match = DECLARED.search(self.data[:200])
        name = match[1].decode() if match is not None else ""
        try:
            "".encode(name or "utf-8")
        except LookupError:
            return ""
        return name

    @cached_property
    def encoding(self) -> str:
        declared = self.declared
        return declared if declared and not declared.lower().startswith("utf-16") else "utf-8"

    def quoting(self, style: int) -> Quoting:
        return _QUOTINGS[style](self.encoding)

    @classmethod
    def quoting_of(cls, path: str, encoding: str) -> Quoting:
        last = path.rpartition(".")[2].rpartition("]")[2] or path.rpartition(".")[2]
        return (AttributeValue if last.lstrip('"').startswith("@") else ElementText)(encoding)

    def check(self) -> None:
        try:
            self._check(b"", b"")
        except _SeveralRoots:
            self._check(b"<r>", b"</r>")
            self.is_fragment = True

    def has_values(self) -> bool:
        return bool(len(self.tree))  # in an element there is at least its text

    def _check(self, before: bytes, after: bytes) -> None:
        """Raises BindingError where the text is not well formed between these two."""
        data = self.data
        plain = self.encoding.lower() in ("utf-8", "us-ascii", "ascii")
        parser = expat.ParserCreate("utf-8" if plain else "iso-8859-1")  # whatever is declared: it was transcoded
        found: list[int] = []

        def refuse(*_: object) -> None:
            found.append(max(data.rfind(b"<!ENTITY", 0, parser.CurrentByteIndex + 1), 0))
            raise ValueError

        parser.EntityDeclHandler = refuse
        try:
            parser.Parse(before, False)
            parser.Parse(data, not after)
            parser.Parse(after, True) if after else None
        except ValueError:
            what = "it declares entities, which may grow without bound or read other files"
            raise BindingError(self.what, found[0], what, "nothing was read; remove the declaration") from None
        except expat.ExpatError as error:
            if error.code == SEVERAL_ROOTS and not before and not data.lstrip().startswith((b"<?", b"<!DOCTYPE")):
                raise _SeveralRoots from None
            at = min(max(parser.ErrorByteIndex - len(before), 0), len(data))
            raise BindingError(self.what, at, _in_words(error, data)) from None
        finally:
            parser.EntityDeclHandler = None  # or the two would keep each other, and what was read, in memory

    @cached_property
    def _named(self) -> Callable[[bytes], str]:
        """A name as text, made once for each."""
        return cache(partial(str, encoding="utf-8", errors="replace"))

    def parse(self) -> Tree:
        self.check()
        tree = self._parsed(0, len(self.data))
        self.root_name, tree.names[0] = tree.names[0] or "", None
        return tree

    def _parsed(self, at: int, end_of_all: int) -> Tree:
        """The values of well-formed bytes: of the whole, or of one element."""
        data, builder = self.data, Builder(self.what)
        tree = builder.tree
        is_plist, is_piece = False, at > 0
        frames: list[_Frame] = []
        known = self._named
        if self.is_fragment:
            builder.begin(OBJECT, None, 0, 0)
        for match in MARKUP.finditer(data, at, end_of_all):
            kind, start, end = match.lastgroup, match.start(), match.end()
            if frames and at < start and data[at:start].strip():
                frames[-1].texts.append((at, start, TEXT))
            at = end
            if kind == "text":  # an element with a text and nothing else, as most are
                if frames:
                    frames[-1].has_elements = True
                name = match["leaf"]
                if is_plist and name in PLIST_HOLDERS:
                    number = builder.begin(OBJECT, known(name), start, start)
                    frame = _Frame(number, name, start, match.start("text"), attributes=False)
                    self._close(builder, frame, match.end("text"), end, is_plist=True)
                else:
                    begin, stop = match.span("text")
                    tree.add(SCALAR, known(name), start, begin, stop, end, TEXT)
            elif kind == "close":
                self._close(builder, frames.pop(), start, end, is_plist=is_plist)
            elif kind == "cdata":
                if frames:
                    frames[-1].texts.append((start, end, CDATA))
            elif kind == "empty":
                name = match["name"]
                if not frames:
                    is_plist = name == PLIST and not is_piece
                else:
                    frames[-1].has_elements = True
                number = builder.begin(OBJECT, known(name), start, start)
                self._add_attributes(tree, match)
                frame = _Frame(number, name, start, end, attributes=len(tree) > number + 1)
                if match["empty"]:
                    self._close(builder, frame, end, end, is_plist=is_plist)
                else:
                    frames.append(frame)
        if is_plist:
            self._whole_of_plist(tree)
        if self.is_fragment:
            builder.end(len(data))
        return tree

    def _add_attributes(self, tree: Tree, markup: re.Match[bytes]) -> None:
        begin, stop = markup.span("attributes")
        for each in ATTRIBUTE.finditer(self.data, begin, stop) if begin < stop else ():
            first, last = each.span(2)
            tree.add(SCALAR, self._named(b"@" + each[1]), each.start() + 1, first, last, last, ATTRIBUTE_VALUE)

    def grown(self) -> GrowingTree | None:
        self.check()
        if self.is_fragment:
            return None
        from faithful_ledger.core.formats.xml_index import XmlIndex  # it needs NumPy, which small texts do without

        index = XmlIndex(self.data, self.what)
        name = index.names(index.at[:1])[0]
        if name == PLIST or len(index.at) <= 2:
            return None
        tree = GrowingTree(lambda number: self._read(tree, index, number))
        self.root_name, head, tail = self._named(name), int(index.at[0]), index.end
        tree.unread(OBJECT, None, head, head, tail, tail)
        return tree

    def _read(self, tree: GrowingTree, index: XmlIndex, number: int) -> Sequence[int]:
        """Take in what is directly within an element of a large text; of a small element all at once."""
        head, tail = tree.heads[number], tree.tails[number]
        level = index.level(index.tag_at(head)) if tail - head > SMALL else None
        if level is None or not len(level.heads):
            return tree.take_in(self._parsed(head, tail))
        markup = MARKUP.match(self.data, head)
        assert markup is not None
        first = len(tree)
        self._add_attributes(tree, markup)
        self._add_elements(tree, index.names(level.heads), level)
        cdata = ((*span, CDATA) for span in level.asides if self.data.startswith(CDATA_OPEN, span[0]))
        for start, end, style in sorted([*((*span, TEXT) for span in level.texts), *cdata]):
            tree.add(SCALAR, "#text", start, start, end, end, style)
        return range(first, len(tree))

    def _add_elements(self, tree: GrowingTree, names: list[bytes], level: Level) -> None:
        import numpy as np

        kinds, styles = (np.full(len(names), value, np.uint8) for value in (OBJECT, TEXT))
        plain = ~(level.attributed | level.holding | level.aside)
        filled, hollow = plain & ~level.empty, plain & level.empty
        kinds[filled], kinds[hollow], styles[hollow] = SCALAR, STRING, EMPTY
        starts, ends = np.where(filled, level.insides, level.heads), np.where(filled, level.closes, level.tails)
        first = len(tree)
        tree.add_all(kinds, styles, list(map(self._named, names)), level.heads, (starts, ends), level.tails)
        for place in np.flatnonzero(level.aside & ~level.attributed & ~level.holding).tolist():
            tree.put(first + place, self._parsed(int(level.heads[place]), int(level.tails[place])))

    def scalar_text(self, number: int) -> str:
        tree = self.tree
        raw, style = self.data[tree.starts[number] : tree.ends[number]], tree.styles[number]
        if style == CDATA:
            raw = raw[len(CDATA_OPEN) : -len(CDATA_CLOSE)]
        elif style == ATTRIBUTE_VALUE:
            raw = raw[1:-1]
        return raw.decode("utf-8", "replace")

    def _close(self, builder: Builder, frame: _Frame, start: int, end: int, *, is_plist: bool) -> None:
        """Now it is known what an element holds. `start` and `end` are its closing tag, or both the end of an empty
        one.
        """
        tree, number = builder.tree, frame.number
        is_empty = start == end
        if not frame.has_elements and not frame.has_attributes and len(frame.texts) < 2:
            builder.end(end)
            tree.starts[number], tree.ends[number] = frame.head, end
            if is_empty:
                switch = is_plist and frame.name in (b"true", b"false")
                tree.kinds[number], tree.styles[number] = (WORD, PLIST_SWITCH) if switch else (STRING, EMPTY)
                return
            text = frame.texts[0] if frame.texts else (frame.inside, start, TEXT)
            if text[2] == TEXT:
                text = (frame.inside, start, TEXT) if not self.data[frame.inside : start].count(b"<") else text
            tree.starts[number], tree.ends[number], tree.styles[number] = text
            tree.kinds[number] = SCALAR
            if is_plist and frame.name == b"array":
                tree.kinds[number] = ARRAY
            return
        for text in frame.texts:
            builder.leaf(SCALAR, "#text", text[0], text[0], text[1], text[1], text[2])
        if not frame.texts and not frame.has_elements and not is_empty:
            builder.leaf(STRING, "#text", frame.inside, frame.inside, start, start, TEXT)
        builder.end(end)
        if is_plist and frame.name == b"dict":
            self._pair(tree, number)
        elif is_plist and frame.name == b"array":
            tree.kinds[number] = ARRAY

    def _pair(self, tree: Tree, number: int) -> None:
        """The values of a property list's dictionary go by the keys in front of them."""
        children = list(tree.children(number))
        for key, value in zip(children[::2], children[1::2], strict=False):
            if tree.names[key] == "key":
                raw = self.data[tree.starts[key] : tree.ends[key]]
                tree.names[value], tree.names[key] = ElementText(self.encoding).decode(raw), None
                tree.heads[value], tree.styles[key] = tree.heads[key], PART

    @staticmethod
    def _whole_of_plist(tree: Tree) -> None:
        """The whole of a property list is the one value in it."""
        inner = next((number for number in tree.children(0) if not (tree.names[number] or "").startswith("@")), None)
        if inner is not None:
            tree.names[inner] = "plist"

    def _items_of(self, number: int) -> list[int]:
        tree = self.tree
        return [
            child
            for child in tree.children(number)
            if not (tree.names[child] or "").startswith(("@", "#")) and tree.styles[child] != PART
        ]

    def _value_of(self, number: int) -> int:
        if self.tree.kinds[number] == OBJECT:
            texts = self.members(number).get("#text")
            if texts is not None and len(texts) == 1 and not self._items_of(number):
                return texts[0]
        return number


class ElementText:
    """The text of an element; a CDATA section stays one."""

    def __init__(self, encoding: str) -> None:
        self.encoding = encoding

    def decode(self, raw: bytes) -> str:
        text = decoded_text(raw, self.encoding)
        if raw.startswith(CDATA_OPEN) and raw.endswith(CDATA_CLOSE):
            return text[len(CDATA_OPEN) : -len(CDATA_CLOSE)]
        if raw.startswith(b"<") and raw.endswith(b"/>"):
            return ""
        return REFERENCE.sub(_letter, text)

    def encode(self, text: str, old: bytes) -> bytes:
        if any(letter < " " and letter not in "\t\r\n" for letter in text):
            raise ValueRefused("XML cannot hold control characters", "leave them out")
        if old.startswith(CDATA_OPEN) and old.endswith(CDATA_CLOSE):
            if "]]>" in text:
                raise ValueRefused("“]]>” cannot be in a CDATA section", "leave it out")
            return CDATA_OPEN + encoded_text(text, self.encoding) + CDATA_CLOSE
        if old.startswith(b"<") and old.endswith(b"/>"):
            tag = old[:-2].rstrip()
            name = tag[1:].split()[0]
            return tag + b">" + self.escaped(text, old) + b"</" + name + b">" if text else old
        return self.escaped(text, old)

    def escaped(self, text: str, old: bytes) -> bytes:
        text = text.replace("&", "&amp;").replace("<", "&lt;")
        text = text.replace(">", "&gt;") if b"&gt;" in old or "]]>" in text or b">" not in old else text
        text = text.replace('"', "&quot;") if b"&quot;" in old else text
        text = text.replace("'", "&apos;") if b"&apos;" in old else text
        return text.encode(self.encoding, "surrogateescape" if self.encoding == "utf-8" else "xmlcharrefreplace")


class AttributeValue(ElementText):
    """The value of an attribute, with its quotation marks."""

    def decode(self, raw: bytes) -> str:
        return super().decode(raw[1:-1]) if raw[:1] in (b'"', b"'") else super().decode(raw)

    def encode(self, text: str, old: bytes) -> bytes:
        mark = old[:1] if old[:1] in (b'"', b"'") else b'"'
        if any(letter < " " and letter not in "\t\r\n" for letter in text):
            raise ValueRefused("XML cannot hold control characters", "leave them out")
        inner = self.escaped(text, old)
        inner = inner.replace(mark, b"&quot;" if mark == b'"' else b"&apos;")
        for letter, reference in ((b"\n", b"&#10;"), (b"\r", b"&#13;"), (b"\t", b"&#9;")):
            inner = inner.replace(letter, reference)
        return mark + inner + mark


class PlistSwitch:
    """`<true/>` or `<false/>`."""

    def __init__(self, encoding: str) -> None:
        self.encoding = encoding

    def decode(self, raw: bytes) -> str:
        return raw.strip(b"</> \t\r\n").decode("ascii", "replace")

    def encode(self, text: str, old: bytes) -> bytes:
        if text not in ("true", "false"):
            raise ValueRefused(f"“{text[:40]}” is neither true nor false", "enter true or false")
        return old.replace(self.decode(old).encode(), text.encode()) if old else f"<{text}/>".encode()


_QUOTINGS: dict[int, type[ElementText] | type[PlistSwitch]] = {
    TEXT: ElementText,
    ATTRIBUTE_VALUE: AttributeValue,
    CDATA: ElementText,
    EMPTY: ElementText,
    PLIST_SWITCH: PlistSwitch,
    PART: ElementText,
}


def _letter(match: re.Match[str]) -> str:
    hexadecimal, decimal, name = match.groups()
    code = int(hexadecimal, 16) if hexadecimal else int(decimal) if decimal else -1
    if 0 <= code <= 0x10FFFF:
        return chr(code)
    if name in NAMED:
        return NAMED[name]
    raise ValueRefused(f"{match[0][:40]} is not a reference that XML knows", "mend it in the text")


def _in_words(error: expat.ExpatError, data: bytes) -> str:
    said = expat.ErrorString(error.code) or "not well formed"
    words = {
        "mismatched tag": "this tag closes another element than the one that is open",
        "no element found": "the text ends before its last element is closed"
        if data.strip()
        else "there is no element",
        "junk after document element": "the text goes on after its one element",
        "unclosed token": "this tag or comment does not end",
        "not well-formed (invalid token)": "this is not well-formed XML (a bare & or <, or a letter in a wrong place)",
        "duplicate attribute": "this tag has the same attribute twice",
        "undefined entity": "this reference is not one that XML knows",
        "XML or text declaration not at start of entity": "something is in front of the XML declaration",
        "unclosed CDATA section": "this CDATA section does not end",
    }
    return f"line {error.lineno}: {words.get(said, said)}"
