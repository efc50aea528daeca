"""Python's pickle, protocols 2 to 5 (PEP 307, 3154, 574), read as a list of steps and never carried out.

Each step puts a value on a stack or makes one of those on it. What classes would make of their parts is not asked: an
object is a group of its attributes and items. No value may come in or go; a changed number or text is written as the
step it was. Several pickles behind one another are a list.
"""

from __future__ import annotations

import json
import struct
from bisect import bisect_right
from typing import Any

from faithful_ledger.core.edits import Cause, Replacement
from faithful_ledger.core.layers.tagged.tree import Codec, Cursor, Malformed, Node, plain, put, refuse

__all__ = ["Pickle"]

PROTO, FRAME, STOP, MARK = 0x80, 0x95, ord("."), ord("(")
FRAME_HEAD = 9
SIZED = {ord("X"): 4, ord("T"): 4, ord("U"): 1, 0x8C: 1, 0x8D: 8}  # texts
BLOBS = {ord("B"): 4, ord("C"): 1, 0x8E: 8, 0x96: 8}
WHOLE = {ord("K"): (1, False), ord("M"): (2, False), ord("J"): (4, True)}
LONGS = {0x8A: 1, 0x8B: 4}
EMPTY = {ord("}"): "map", ord("]"): "list", ord(")"): "list", 0x8F: "list"}
TUPLES = {0x85: 1, 0x86: 2, 0x87: 3}
ARGUMENTS = {ord("q"): 1, ord("r"): 4}  # of steps that only remember
TUPLE = ord("t")
RECALLED = {ord("h"): 1, ord("j"): 4}


class Pickle(Codec):
    name = "pickle"
    has_mark = True

    def may_be(self, data: bytes) -> bool:
        return len(data) > 2 and data[0] == PROTO and 2 <= data[1] <= 5

    def value_at(self, cursor: Cursor) -> Node:
        if cursor.data[cursor.at : cursor.at + 1] != bytes([PROTO]):
            raise Malformed("something is behind its end")
        return _Machine(cursor).run()

    def scalar(self, value: int | float | str | bool | bytes | None, like: Node | None) -> bytes:
        if value is None or isinstance(value, bool):
            return b"N" if value is None else bytes([0x88 if value else 0x89])
        if isinstance(value, float) or (like is not None and like.form == ord("G") and isinstance(value, int)):
            return b"G" + struct.pack(">d", value)
        if isinstance(value, int):
            for step, (size, signed) in WHOLE.items():
                if (-(1 << 31) if signed else 0) <= value < 1 << 8 * size - signed:
                    return bytes([step]) + value.to_bytes(size, "little", signed=signed)
            raw = value.to_bytes(value.bit_length() // 8 + 1, "little", signed=True)
            return bytes([0x8A, len(raw)]) + raw
        sizes = SIZED if isinstance(value, str) else BLOBS
        raw = value.encode("utf-8", "surrogatepass") if isinstance(value, str) else value
        if like is None or like.form not in sizes:
            raise refuse(value, "a text that was one before")
        step = like.form
        if len(raw) >= 1 << 8 * sizes[step]:
            step = {ord("U"): ord("T"), 0x8C: ord("X"), ord("C"): ord("B")}.get(step, step)
        return bytes([step]) + len(raw).to_bytes(sizes[step], "little") + raw

    def replaced(self, data: bytes, root: Node, new: Any, cause: Cause) -> list[Replacement]:
        found = super().replaced(data, root, new, cause)
        return _followed(self, data, found) if found else []


def _followed(codec: Pickle, data: bytes, replaced: list[Replacement]) -> list[Replacement]:
    """What was replaced, with what keeps the other values as they are: a text that is changed where it is said first is
    said again where it was only recalled, and frames have the lengths of their steps.
    """
    cursor, machines = Cursor(data), list[_Machine]()
    while cursor.at < len(data):
        machines.append(_Machine(cursor))
        machines[-1].run()
    changed = {item.start for item in replaced}
    again = [
        Replacement(start, end, codec.scalar(text.value, text), replaced[0].causes)
        for machine in machines
        for start, end, text in machine.recalled
        if text.start in changed and start not in changed
    ]
    replaced = sorted([*replaced, *again], key=lambda item: item.start)
    frames = [frame for machine in machines for frame in machine.frames]
    starts = [start for start, _ in frames]
    grown = dict.fromkeys(starts, 0)
    for item in replaced:
        number = bisect_right(starts, item.start) - 1
        if number >= 0 and item.end <= frames[number][1]:
            grown[starts[number]] += len(item.data) - (item.end - item.start)
    more = [
        Replacement(start - 8, start, struct.pack("<Q", end - start + grown[start]), replaced[0].causes)
        for start, end in frames
        if grown[start]
    ]
    return sorted([*replaced, *more], key=lambda item: item.start)


class _Machine:
    """The steps of one pickle. `frames` are where each begins and ends, `recalled` where a text is said again by its
    number, with the one that was said first.
    """

    def __init__(self, cursor: Cursor) -> None:
        self.cursor = cursor
        self.stack: list[Node] = []
        self.marks: list[int] = []
        self.known: dict[int, Node] = {}
        self.frames: list[tuple[int, int]] = []
        self.recalled: list[tuple[int, int, Node]] = []

    def run(self) -> Node:
        """The value that is left."""
        try:
            while (step := self.cursor.byte()) != STOP:
                self.cursor.enter()
                self._do(step)
        except IndexError as error:
            raise Malformed("a step needs more values than there are") from error
        if len(self.stack) != 1 or self.marks:
            raise Malformed("its steps leave more than one value")
        return self.stack[0]

    def _do(self, step: int) -> None:
        cursor, start = self.cursor, self.cursor.at - 1
        if step == PROTO:
            cursor.take(1)
        elif step == FRAME:
            size = cursor.number(8, "little")
            self.frames.append((cursor.at, cursor.at + size))
        elif step == MARK:
            self.marks.append(len(self.stack))
        elif step in ARGUMENTS:
            self.known[cursor.number(ARGUMENTS[step], "little")] = self.stack[-1]
        elif step == 0x94:
            self.known[len(self.known)] = self.stack[-1]
        elif step in RECALLED:
            self._recall(start, cursor.number(RECALLED[step], "little"))
        elif not self._puts(step, start):
            self._makes(step, start)

    def _put(self, node: Node) -> None:
        node.end = self.cursor.at
        self.stack.append(node)

    def _recall(self, start: int, number: int) -> None:
        """A text that comes again is one of its own if it is changed; a group is only said to be the same."""
        known = self.known.get(number)
        if known is None:
            raise Malformed("a value is recalled that was never stored")
        if known.kind in ("text", "blob"):
            self.recalled.append((start, self.cursor.at, known))
            self._put(Node(known.kind, start, start, known.value, known.form))
        elif known.form == TUPLE:
            self._put(self._shared(known, start))
        else:
            self._put(Node("other", start, start, f"the same as value {number}"))

    def _shared(self, node: Node, start: int) -> Node:
        """What a row that comes again says. Each part counts: a few steps may say a row of rows any number of times."""
        self.cursor.enter()
        parts = [self._shared(part, start) for part in node.parts]
        return Node(node.kind, start, self.cursor.at, node.value, node.form, parts, list(node.keys), shared=True)

    def _puts(self, step: int, start: int) -> bool:
        """Whether a step puts a value on the stack that is in it."""
        cursor, node = self.cursor, Node("number", start, start, form=step)
        if step in WHOLE:
            size, signed = WHOLE[step]
            node.value = cursor.number(size, "little", signed=signed)
        elif step in LONGS:
            node.value = cursor.number(cursor.number(LONGS[step], "little"), "little", signed=True)
        elif step == ord("G"):
            node.value = struct.unpack(">d", cursor.take(8))[0]
        elif step in SIZED:
            raw = cursor.take(cursor.number(SIZED[step], "little"))
            try:
                node.kind, node.value = "text", raw.decode("utf-8", "surrogatepass")
            except UnicodeDecodeError:
                node.kind, node.value = "blob", raw
        elif step in BLOBS:
            node.kind, node.value = "blob", cursor.take(cursor.number(BLOBS[step], "little"))
        elif step in (0x88, 0x89):
            node.kind, node.value = "switch", step == 0x88
        elif step == ord("N"):
            node.kind = "nothing"
        elif step in EMPTY:
            node.kind = "map" if EMPTY[step] == "map" else "list"
        elif step == ord("c"):
            end = cursor.data.index(b"\n", cursor.data.index(b"\n", cursor.at) + 1) + 1
            node.kind, node.value = "other", " ".join(cursor.take(end - cursor.at).decode("latin-1").split("\n")[:2])
        else:
            return False
        self._put(node)
        return True

    def _makes(self, step: int, start: int) -> None:
        """A step that makes something of values on the stack."""
        stack = self.stack
        if step == ord("0"):
            stack.pop()
        elif step == ord("1"):
            del stack[self.marks.pop() :]
        elif step == ord("2"):
            self._put(self._shared(stack[-1], start))
        elif step in TUPLES:
            self._made(start, TUPLES[step])
        elif step in b"tl" or step == 0x91:
            self._made(start, self._to_mark())
        elif step == ord("d"):
            pairs = self._taken(self._to_mark())
            self._put(Node("map", start, start))
            self._items(stack[-1], pairs)
        elif step == ord("s"):
            self._items(stack[-3], self._taken(2))
        elif step == ord("u"):
            self._items_to_mark()
        elif step == ord("a"):
            (part,) = self._taken(1)
            self._append(stack[-1], [part])
        elif step == ord("e") or step == 0x90:
            parts = self._taken(self._to_mark())
            self._append(stack[-1], parts)
        elif step in (ord("R"), 0x81):
            _, arguments = self._taken(2)
            self._object(start, arguments)
        elif step == 0x92:
            _, arguments, _ = self._taken(3)
            self._object(start, arguments)
        elif step == 0x93:
            module, name = self._taken(2)
            self._put(Node("other", start, start, f"{plain(module)} {plain(name)}"))
        elif step == ord("b"):
            (state,) = self._taken(1)
            self._state(stack[-1], state)
        elif step == ord("Q"):
            (said,) = self._taken(1)
            self._put(Node("other", start, start, str(plain(said))))
        else:
            raise Malformed("a step is unknown")

    def _to_mark(self) -> int:
        """How many values are behind the last mark, which is used up."""
        return len(self.stack) - self.marks.pop()

    def _taken(self, count: int) -> list[Node]:
        if count > len(self.stack) - (self.marks[-1] if self.marks else 0):
            raise Malformed("a step needs more values than there are")
        found = self.stack[len(self.stack) - count :]
        del self.stack[len(self.stack) - count :]
        return found

    def _made(self, start: int, count: int) -> None:
        parts = self._taken(count)
        self._put(Node("list", start, start, form=TUPLE, parts=parts))

    def _object(self, start: int, arguments: Node) -> None:
        """An object of some class; what it was made from is kept, where there is something."""
        node = Node("map", start, start)
        if arguments.parts:
            node.keys, node.parts = ["made from"], [arguments]
        self._put(node)

    def _items_to_mark(self) -> None:
        pairs = self._taken(self._to_mark())
        self._items(self.stack[-1], pairs)

    def _items(self, holder: Node, pairs: list[Node]) -> None:
        if len(pairs) % 2 or holder.kind != "map":
            raise Malformed("items are put into a value without items")
        known = set(holder.keys)
        for key, part in zip(pairs[::2], pairs[1::2], strict=True):
            said = str(key.value) if key.kind == "text" else json.dumps(plain(key))
            put(holder, known, said, part)

    def _append(self, holder: Node, parts: list[Node]) -> None:
        """To a list; to an object that is one, behind its name."""
        if holder.kind == "map":
            if "items" not in holder.keys:
                holder.keys.append("items")
                holder.parts.append(Node("list", holder.start, holder.start))
            holder = holder.parts[holder.keys.index("items")]
        holder.parts += parts

    def _state(self, holder: Node, state: Node) -> None:
        """The attributes of an object."""
        for part in state.parts if state.kind == "list" else [state]:
            if part.kind == "map" and holder.kind == "map":
                known = set(holder.keys)
                for key, each in zip(part.keys, part.parts, strict=True):
                    holder.keys.append(key if key not in known else f"{key} 2")
                    holder.parts.append(each)
            elif part.kind != "nothing" and holder.kind == "map":
                holder.keys.append(f"state {len(holder.keys)}")
                holder.parts.append(part)
