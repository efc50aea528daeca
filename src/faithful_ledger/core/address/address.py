"""Where a value is: one type for the elements of templates, for places that were located, search hits and marks."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, Literal

from faithful_ledger.core.address.expressions import Expression, Said
from faithful_ledger.core.address.paths import Step, parse_path
from faithful_ledger.core.errors import AddressError, place

__all__ = ["NEXT", "Address", "Base", "PathFormula", "Said"]

Base = Literal["next", "start", "end", "behind", "before", "table", "path"]
BRACES = re.compile(r'"(?:[^"\\]|\\.)*+"|\{[^{}]*\}|[^"{}]+|["{}]', re.DOTALL)
PRINTABLE = re.compile(rb"([ -~]{3,})")


class PathFormula:
    """A path in a text with `{expression}` in places: `slots[slot={head.slot}].marks`. One that is only the name of a
    field may be a text as well: `worlds[name={name}].mark`.
    """

    def __init__(self, text: str) -> None:
        self.text = text

    @cached_property
    def parts(self) -> list[str | Expression]:
        pieces = BRACES.findall(self.text)
        return [Expression(piece[1:-1]) if piece.startswith("{") else piece for piece in pieces]

    @cached_property
    def names(self) -> tuple[str, ...]:
        """The fields it depends on."""
        return tuple(name for part in self.parts if isinstance(part, Expression) for name in part.names)

    @cached_property
    def fixed(self) -> tuple[Step, ...]:
        """Its steps with 0 for every field.

        Raises:
            AddressError: it is not a path.
        """
        return parse_path(self._joined(lambda _: 0))

    def steps(self, lookup: Said) -> tuple[Step, ...]:
        return parse_path(self._joined(lookup)) if self.names else self.fixed

    def _joined(self, lookup: Said) -> str:
        return "".join(part if isinstance(part, str) else _spelled(part, lookup) for part in self.parts)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, PathFormula) and self.text == other.text

    def __hash__(self) -> int:
        return hash(self.text)


def _spelled(part: Expression, lookup: Said) -> str:
    """What an expression says in a path."""
    if part.names == (part.text.strip(),):
        return re.sub(r"([\]\\])", r"\\\1", str(lookup(part.names[0])))

    def number(name: str) -> int:
        said = lookup(name)
        if not isinstance(said, int):
            raise AddressError(f"{name} says “{said[:40]}”, and {part.text} needs a number")
        return said

    return str(part.evaluate(number, lookup))


KEYS = frozenset(("at", "behind", "before", "table", "align"))


@dataclass(frozen=True, slots=True)
class Address:
    """Where a value begins, or with `before` where it ends.

    The base is: the place right behind the element before (`next`); the `start` or the `end` of the file, from which
    `offset` counts (it is negative from the end); the beginning of a `run` of bytes that occurs exactly once, `behind`
    or `before` which the value is; the number that is entry number `entry` of a `table` of offsets; or a `path` in a
    text. Then it is rounded up to a multiple of `align`.
    """

    base: Base = "next"
    offset: Expression | None = None
    run: bytes = b""
    path: PathFormula | None = None
    table: str = ""
    entry: Expression | None = None
    align: int = 1

    # made from what is known

    @classmethod
    def at(cls, offset: int) -> Address:
        """So many bytes from the start, or with a negative number from the end."""
        return cls("start" if offset >= 0 else "end", Expression(offset))

    @classmethod
    def from_end(cls, distance: int) -> Address:
        return cls("end", Expression(-distance))

    @classmethod
    def behind(cls, run: bytes, gap: int) -> Address:
        """`gap` bytes from the beginning of a run."""
        return cls("behind", Expression(gap), run)

    @classmethod
    def before(cls, run: bytes, gap: int) -> Address:
        """A value that ends `gap` bytes in front of a run."""
        return cls("before", Expression(-gap), run)

    @classmethod
    def by_path(cls, text: str) -> Address:
        """Raises AddressError or ExpressionError when `text` is not a path."""
        formula = PathFormula(text)
        _ = formula.fixed
        return cls("path", path=formula)

    @classmethod
    def by_known_path(cls, text: str) -> Address:
        """The same for a path that a text has itself; it is taken apart when that is needed."""
        return cls("path", path=PathFormula(text))

    @classmethod
    def from_keys(cls, keys: Mapping[str, Any]) -> Address:
        """From the keys of an element of a template for a binary file.

        Raises:
            LedgerError: an expression is not one, or the keys contradict each other.
        """
        if not KEYS & keys.keys():
            return NEXT
        given = [key for key in ("behind", "before", "table") if keys.get(key) is not None]
        if len(given) > 1:
            what = "an element is found behind bytes or before them, not both"
            raise AddressError(what if "table" not in given else f"an element has one of {' and '.join(given)}")
        at = keys.get("at")
        offset = Expression(at) if at is not None else None
        align = int(keys.get("align") or 1)
        if given == ["table"]:
            return cls("table", offset, table=str(keys["table"]), entry=Expression(keys.get("entry", 0)), align=align)
        if given:
            run = bytes.fromhex(str(keys[given[0]]))
            if offset is None:
                offset = Expression(len(run) if given == ["behind"] else 0)
            return cls("behind" if given == ["behind"] else "before", offset, run, align=align)
        if offset is None:
            return cls(align=align)
        from_end = offset.constant is not None and offset.constant < 0
        return cls("end" if from_end else "start", offset, align=align)

    # said again

    @property
    def names(self) -> tuple[str, ...]:
        """The fields it depends on."""
        parts = (self.offset, self.path, self.entry)
        return tuple(name for part in parts if part is not None for name in part.names)

    @property
    def is_found(self) -> bool:
        """Whether bytes of the file say where it is, which may be missing."""
        return self.base in ("behind", "before")

    def moved(self, by: int) -> Address:
        """The address so many bytes further on; that of a value that is found by its end stays.

        Raises:
            AddressError: it is a path.
        """
        if self.base == "before":
            return self
        if self.base == "path" or self.offset is None:
            raise AddressError(f"{self.in_words()} cannot be moved by {by} bytes", "name another place")
        if self.offset.constant is None:
            moved = Expression(f"({self.offset.text}) {'+' if by > 0 else '-'} {abs(by)}") if by else self.offset
            return replace(self, offset=moved)
        return replace(self, offset=Expression(self.offset.constant + by))

    def keys(self) -> dict[str, Any]:
        """The keys of a template that say the same: `Address.from_keys` reads them back."""
        keys: dict[str, Any] = {}
        if self.path is not None:
            return {"at": self.path.text}
        if self.run:
            keys["behind" if self.base == "behind" else "before"] = self.run.hex(" ").upper()
        if self.table:
            keys |= {"table": self.table, "entry": _plain(self.entry)}
        if self.offset is not None and not (self.base == "before" and self.offset.constant == 0):
            keys["at"] = _plain(self.offset)
        if self.align != 1:
            keys["align"] = self.align
        return keys

    def in_words(self) -> str:
        """As people read it."""
        gap = self.offset.constant if self.offset is not None and self.offset.constant is not None else None
        if self.base == "path":
            return self.path.text if self.path is not None else ""
        if self.base == "start":
            return place(gap) if gap is not None else f"at {self.offset.text if self.offset else 0}"
        if self.base == "end":
            return f"{-(gap or 0)} bytes before the end"
        if self.base == "before":
            return f"ends {f'{-gap} bytes' if gap else 'right'} in front of “{_readable(self.run)}”"
        if self.base == "behind":
            where = "behind the start of" if gap is None or gap > 0 else "in front of"
            return f"{abs(gap or 0)} bytes {where} “{_readable(self.run)}”"
        if self.base == "table":
            return f"at entry {self.entry.text if self.entry else 0} of {self.table}"
        return "right behind the element before"


NEXT = Address()


def _plain(expression: Expression | None) -> int | str:
    if expression is None:
        return 0
    return expression.constant if expression.constant is not None else expression.text


def _readable(run: bytes) -> str:
    """Bytes for people: letters where there are some in a row, else in hexadecimal."""
    parts = [part for part in PRINTABLE.split(run) if part]
    return " ".join(part.decode() if PRINTABLE.fullmatch(part) else part.hex(" ").upper() for part in parts)
