"""The number of the game's version that saves may begin with, so that those of another version are not read as if
nothing had changed.

Nothing in a save says which of its bytes that is. It is taken to be the first small number, or the first digits, that
all saves have behind the letters they begin with; it may as well be a number of something else that has not changed
yet, so that a save in which it differs is read all the same, with a warning.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from typing import Literal

from faithful_ledger.core.balance import unusual
from faithful_ledger.core.binding import BoundFile
from faithful_ledger.core.describe.draft import Draft
from faithful_ledger.core.template.model import UsualBytes

__all__ = ["let_be_known", "let_expect", "version_in"]

ENOUGH_SAVES = 2
HEADER = 32  # bytes
UNIT, HALF = 4, 2  # bytes
ORDERS: tuple[Literal["little", "big"], ...] = ("little", "big")
MARK = re.compile(rb"[A-Za-z_]{3,}|")
DIGITS = frozenset(b"0123456789.")
WIDE_LETTERS = re.compile(rb"([ -~]\0){2}|(\0[ -~]){2}")
LARGEST_PART = 999  # of two numbers of two bytes, which one of four bytes is as well
DAYS = range(1990_01_01, 2100_01_01)  # a date as a version


def let_expect(draft: Draft, others: Iterable[Mapping[str, BoundFile]]) -> None:
    """Let binary files without usual bytes have the number of a version that all saves have, if there are several and
    nothing is described there. Of those that they have already what not all saves have any more goes.
    """
    described = {
        name: file.bound
        for name, file in draft.save.files.items()
        if file.bound is not None and file.bound.spec.format == "binary" and file.bound.root.children
    }
    saves = list(others) if described else []
    for name, bound in described.items():
        headers = [_header(each) for each in (bound, *(save[name] for save in saves if name in save))]
        found = bound.spec.usual or version_in(headers)
        left = [each for each in found if _is_usual(each, headers) and not _is_described(each, bound)]
        if left != list(bound.spec.usual):
            usual = [{"at": each.at, "bytes": each.content.hex(" ").upper()} for each in left]
            draft.text.set(("files", name, "usual"), usual or None)


def _header(bound: BoundFile) -> bytes:
    last = max([HEADER, *(each.at + len(each.content) for each in bound.spec.usual)])
    return bytes(bound.source.read(0, min(bound.source.size, last)))


def _is_usual(usual: UsualBytes, headers: Sequence[bytes]) -> bool:
    return all(header.startswith(usual.content, usual.at) for header in headers)


def _is_described(usual: UsualBytes, bound: BoundFile) -> bool:
    end = usual.at + len(usual.content)
    return any(child.start < end and usual.at < child.end for child in bound.root.children)


def let_be_known(draft: Draft) -> None:
    """Let the version of a save, which the game took, be one that is known: what it does not have is not usual."""
    for name, file in draft.save.files.items():
        if file.bound is not None and any(unusual(file.bound)):
            draft.text.set(("files", name, "usual"), None)


def version_in(headers: Sequence[bytes]) -> tuple[UsualBytes, ...]:
    """What may be the version in what different saves begin with, if anything is."""
    if len(set(headers)) < ENOUGH_SAVES:
        return ()
    begin = min(MARK.match(header).end() for header in headers)  # type: ignore[union-attr]
    if begin and len({header[:begin] for header in headers}) > 1:
        return ()
    begin += begin % 2 and headers[0][begin : begin + 1] == b"\0"  # which ends the letters
    for at in range(begin, min(map(len, headers)) - UNIT + 1, UNIT):
        units = {header[at : at + UNIT] for header in headers}
        halves = {unit[:HALF] for unit in units}
        if len(units) == 1 and any(unit := units.pop()):
            return (UsualBytes(at, unit),) if _is_version(unit) else ()
        # The high half of a number of four bytes is what stays the same where its high byte comes first.
        if len(units) > 1 and len(halves) == 1 and (half := halves.pop())[0] and half[1] <= LARGEST_PART >> 8:
            return (UsualBytes(at, half),)
    return ()


def _is_version(unit: bytes) -> bool:
    if DIGITS.issuperset(unit):
        return True
    if WIDE_LETTERS.fullmatch(unit):
        return False
    for order in ORDERS:
        parts = [int.from_bytes(unit[at : at + HALF], order) for at in (0, HALF)]
        if max(parts) <= LARGEST_PART or int.from_bytes(unit, order) in DAYS:
            return True
    return False
