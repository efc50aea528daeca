"""Changing a template's YAML by replacing spans of its text: what is not changed stays, byte for byte.

Comments, blank lines, quotes and the order of keys therefore need no care of their own. The spans are those that
libyaml's marks give; each change reads the text anew.
"""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from functools import cached_property
from typing import Any, NamedTuple

from faithful_ledger.core.template.yaml_text import Where, lately_read

__all__ = ["Hex", "YamlText", "spelled"]

LONGEST_LINE = 110
# What a value without quotation marks may look like and still be the same text when it is read again.
PLAIN = re.compile(r"[A-Za-z_][A-Za-z0-9_ ().*/+-]*[A-Za-z0-9_)*]|[A-Za-z_]")
WORDS = {"null", "true", "false", "yes", "no", "on", "off", "y", "n", "nan", "inf"}


class Hex(int):
    """A number that is written in hexadecimal."""


def spelled(value: Any) -> str:
    """A value on one line, in YAML's flow style."""
    if value is None:
        return "null"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, Hex):
        return f"0x{int(value):X}" if value >= 0 else str(int(value))
    if isinstance(value, int | float):
        return repr(value)
    if isinstance(value, str):
        plain = PLAIN.fullmatch(value) is not None and value.casefold() not in WORDS
        return value if plain else json.dumps(value, ensure_ascii=False)
    if isinstance(value, Mapping):
        return "{" + ", ".join(f"{spelled(key)}: {spelled(part)}" for key, part in value.items()) + "}"
    return "[" + ", ".join(map(spelled, value)) + "]"


def _lines(value: Any, indent: int) -> list[str]:
    """A value in block style, where it has parts that would not fit on one line; the first line has no indentation."""
    flat = spelled(value)
    has_layout = isinstance(value, Mapping) and any(isinstance(part, list) and part for part in value.values())
    if not isinstance(value, Mapping) or (len(flat) + indent <= LONGEST_LINE and not has_layout):
        return [flat]
    lines: list[str] = []
    for key, part in value.items():
        start = (" " * indent if lines else "") + spelled(key) + ":"
        if isinstance(part, list) and part and isinstance(part[0], Mapping):
            lines.append(start)
            for item in part:
                first, *rest = _lines(item, indent + 4)
                lines += [" " * (indent + 2) + "- " + first, *rest]
        else:
            lines.append(f"{start} {spelled(part)}")
    return lines


class NotInText(LookupError):
    """A place that a text does not have."""


class _Item(NamedTuple):
    """The lines of one item of a list as a text of their own, with a place within it."""

    text: YamlText
    where: Where
    start: int
    end: int


class YamlText:
    """The text of a YAML document. Places in it are given as the way to them: `("files", "save", "layout", 3)`."""

    def __init__(self, text: bytes) -> None:
        self.text = text.decode("utf-8-sig")
        self._is_item = False

    def __bytes__(self) -> bytes:
        return self.text.encode("utf-8")

    def value(self, where: Where) -> Any:
        """The plain value at a place."""
        import yaml

        if (item := self._item(where)) is not None:
            return item.text.value(item.where)
        return yaml.SafeLoader("").construct_document(self._node(where))

    def has(self, where: Where) -> bool:
        if (item := self._item(where)) is not None:
            return item.text.has(item.where)
        try:
            self._node(where)
        except NotInText:
            return False
        return True

    def set(self, where: Where, value: Any) -> None:
        """Give a key of a mapping a value, or with None take it away; the mapping is there."""
        if (item := self._item(where)) is not None:
            item.text.set(item.where, value)
            self._splice(item.start, item.end, item.text.text)
            return
        mapping = self._node(where[:-1])
        found = next(((key, part) for key, part in mapping.value if _scalar(key) == where[-1]), None)
        if value is None:
            if found is not None:
                self._remove_key(mapping, *found)
        elif found is not None:
            self.put(where, value)
        elif not mapping.value:
            self._splice(mapping.start_mark.index, _end(mapping), spelled({where[-1]: value}))
        elif mapping.flow_style:
            end = _end(mapping.value[-1][1])
            self._splice(end, end, f", {spelled(where[-1])}: {spelled(value)}")
        else:
            self._add_key(mapping, str(where[-1]), value)

    def put(self, where: Where, value: Any) -> None:
        """Another value in the place of one that is there, of a key or of a list."""
        node = self._node(where)
        self._splice(node.start_mark.index, _end(node), spelled(value))

    def insert(self, where: Where, index: int, item: Mapping[str, Any]) -> None:
        """Put an item into a list; comments that stand above the present one stay with it."""
        items = self._node(where)
        if not items.value:
            self._fill(where, items, item)
        elif items.flow_style:
            before = items.value[index] if index < len(items.value) else None
            at = before.start_mark.index if before is not None else _end(items.value[-1])
            self._splice(at, at, f"{spelled(item)}, " if before is not None else f", {spelled(item)}")
        else:
            column = items.start_mark.column
            first, *rest = _lines(item, column + 2)
            text = "\n".join([" " * column + "- " + first, *rest]) + "\n"
            if index < len(items.value):
                at = self._above(self._line_start(items.value[index].start_mark.index), column)
            else:
                at = self._line_end(_end(items.value[-1]))
                text = text if self.text[at - 1 : at] == "\n" else "\n" + text
            self._splice(at, at, text)

    def remove(self, where: Where, index: int) -> None:
        """Take an item out of a list; comments above it stay."""
        items = self._node(where)
        item = items.value[index]
        if len(items.value) == 1:
            start = items.start_mark.index if items.flow_style else self._key_end(where)
            self._splice(start, _end(items), "[]" if items.flow_style else " []")
        elif items.flow_style:
            others = items.value
            if index:
                self._splice(_end(others[index - 1]), _end(item), "")
            else:
                self._splice(item.start_mark.index, others[1].start_mark.index, "")
        else:
            self._splice(self._line_start(item.start_mark.index), self._line_end(_end(item)), "")

    def replace(self, where: Where, item: Mapping[str, Any]) -> None:
        """Another item in the place of one of a list."""
        *holder, index = where
        assert isinstance(index, int)
        self.insert(tuple(holder), index + 1, item)
        self.remove(tuple(holder), index)

    def wrap(self, where: Where, first: int, behind: int, head: Mapping[str, Any]) -> None:
        """Make some items of a list the `layout` of one new item, with the keys of `head` in front; comments between
        them go along.
        """
        items = self._node(where)
        if items.flow_style:
            inner = [self.value((*where, number)) for number in range(first, behind)]
            for _ in inner:
                if len(self._node(where).value) > 1:
                    self.remove(where, first)
                else:
                    self.replace((*where, 0), {**head, "layout": inner})
                    return
            self.insert(where, first, {**head, "layout": inner})
            return
        column = items.start_mark.column
        start = self._line_start(items.value[first].start_mark.index)
        end = self._line_end(_end(items.value[behind - 1]))
        inside = self.text[start:end].splitlines(keepends=True)
        blank = " " * column
        lines = [f"{spelled(key)}: {spelled(value)}\n" for key, value in head.items()] + ["layout:\n"]
        text = blank + "- " + (blank + "  ").join(lines)
        self._splice(start, end, text + "".join("    " + line if line.strip() else line for line in inside))

    def add_block(self, where: Where, key: str, value: Mapping[str, Any], before: str = "") -> None:
        """Add a key to a mapping in block style, with the keys of its value on lines of their own; `before` another key
        of it, or behind all.
        """
        mapping = self._node(where)
        column = mapping.value[0][0].start_mark.column
        blank = " " * column
        lines = [
            f"{blank}{spelled(key)}:",
            *(f"{blank}  {spelled(name)}: {spelled(part)}" for name, part in value.items()),
        ]
        at = self._line_end(_end(mapping))
        if before:
            follower = next(key for key, _ in mapping.value if _scalar(key) == before)
            at = follower.start_mark.index - follower.start_mark.column
        text = "\n".join(lines) + "\n"
        self._splice(at, at, text if self.text[at - 1 : at] == "\n" else "\n" + text)

    def set_key(self, where: Where, old: str, new: str) -> None:
        """Give a key of a mapping another name."""
        mapping = self._node(where)
        key = next(key for key, _ in mapping.value if _scalar(key) == old)
        self._splice(key.start_mark.index, _end(key), spelled(new))

    # nodes and places

    def _item(self, where: Where) -> _Item | None:
        """The innermost item that a place is in, where that is known without reading the whole text."""
        document = lately_read(self.text) if not self._is_item else None
        found = document.item_at(where) if document is not None else None
        if document is None or found is None:
            return None
        block, number = found
        start, end = document.span(block, number)
        item = YamlText(self.text[start:end].encode())
        item._is_item = True
        return _Item(item, (0, *where[len(block.where) + 1 :]), start, end)

    @cached_property
    def _root(self) -> Any:
        import yaml

        return yaml.compose(self.text, Loader=getattr(yaml, "CSafeLoader", yaml.SafeLoader))

    def _node(self, where: Where) -> Any:
        node = self._root
        for step in where:
            if isinstance(step, int):
                node = node.value[step]
            else:
                found = next((part for key, part in node.value if _scalar(key) == step), None)
                if found is None:
                    raise NotInText(step)
                node = found
        return node

    def _splice(self, start: int, end: int, text: str) -> None:
        self.text = self.text[:start] + text + self.text[end:]
        self.__dict__.pop("_root", None)

    def _line_start(self, at: int) -> int:
        return self.text.rfind("\n", 0, at) + 1

    def _line_end(self, at: int) -> int:
        """The place behind the line break of the line where something ends."""
        if at and self.text[at - 1] == "\n":
            return at
        end = self.text.find("\n", at)
        return len(self.text) if end < 0 else end + 1

    def _above(self, at: int, column: int) -> int:
        """The beginning of the comments that stand right above a line, as far in as it is."""
        mark = " " * column + "#"
        while at and self.text.startswith(mark, start := self._line_start(at - 1)):
            at = start
        return at

    def _key_end(self, where: Where) -> int:
        """The place right behind the colon of a key."""
        mapping = self._node(where[:-1])
        key = next(key for key, _ in mapping.value if _scalar(key) == where[-1])
        return self.text.index(":", _end(key)) + 1

    def _fill(self, where: Where, items: Any, item: Mapping[str, Any]) -> None:
        """The first item of an empty list, in block style where the list is the value of a key on its own line."""
        mapping = self._node(where[:-1])
        if mapping.flow_style:
            self._splice(items.start_mark.index, _end(items), f"[{spelled(item)}]")
            return
        column = mapping.value[0][0].start_mark.column + 2
        first, *rest = _lines(item, column + 2)
        text = "\n" + "\n".join([" " * column + "- " + first, *rest])
        start = items.start_mark.index
        while self.text[start - 1] == " ":
            start -= 1
        self._splice(start, _end(items), text)

    def _add_key(self, mapping: Any, key: str, value: Any) -> None:
        """A line more, behind the last key that has no lines of its own."""
        simple = [part for _, part in mapping.value if not _is_block(part)]
        column = mapping.value[0][0].start_mark.column
        line = f"{' ' * column}{spelled(key)}: {spelled(value)}"
        if simple:
            at = self._line_end(_end(simple[-1]))
            self._splice(at, at, line + "\n" if self.text[at - 1 : at] == "\n" else "\n" + line)
        else:  # every value has lines of its own: behind the last
            at = self._line_end(_end(mapping))
            self._splice(at, at, line + "\n" if self.text[at - 1 : at] == "\n" else "\n" + line)

    def _remove_key(self, mapping: Any, key: Any, part: Any) -> None:
        number = next(number for number, (each, _) in enumerate(mapping.value) if each is key)
        if mapping.flow_style and number:
            self._splice(_end(mapping.value[number - 1][1]), _end(part), "")
        elif mapping.flow_style:
            following = mapping.value[1][0].start_mark.index if len(mapping.value) > 1 else _end(part)
            self._splice(key.start_mark.index, following, "")
        else:
            self._splice(self._line_start(key.start_mark.index), self._line_end(_end(part)), "")


def _scalar(node: Any) -> Any:
    """What a key says; whole numbers are keys as well."""
    text = str(node.value)
    if node.tag.endswith(":int"):
        return int(text, 0) if text[:2] in ("0x", "0o") else int(text)
    return text


def _is_block(node: Any) -> bool:
    return not isinstance(node.value, str) and not node.flow_style


def _end(node: Any) -> int:
    """Where the content of a node ends; libyaml puts the end of a block behind the blanks and comments after it."""
    if isinstance(node.value, str) or node.flow_style or not node.value:
        return int(node.end_mark.index)
    last = node.value[-1]
    return _end(last[1] if isinstance(last, tuple) else last)
