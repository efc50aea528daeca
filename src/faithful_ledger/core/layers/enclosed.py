"""A text between other bytes: a header in front of it, a checksum or a signature behind it, or both; or values that say
themselves what they are.

JSON ends with the bracket of its first one (RFC 8259), XML with the end of its root element, values with the last one.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from contextlib import suppress
from itertools import chain, islice
from xml.parsers import expat

from faithful_ledger.core.layers.tagged import tagged_span

__all__ = ["ENCLOSED", "enclosed_span", "holds_checksum"]

ENCLOSED = "enclosed"
LONGEST_HEAD, LONGEST_TAIL = 64, 256  # bytes in front of the text and behind it
FARTHEST, MOST_BEGUN, LEAST_BEHIND = 4 << 20, 256, 64  # bytes of a binary part in front; tries; and bytes behind that
BOM, BRACKET = b"\xef\xbb\xbf", ord("<")
BEGINNING = re.compile(rb"[{\[]|<(?=[?!A-Za-z])")
FAR_BEGINNING = re.compile(rb"(?=\{\s*\"|\[\s*[\[{\"]|<\?xml)")  # of which the byte in front may be another one
LAST_OF_TEXT = re.compile(rb"[\t\n\r -~\x80-\xff]{8}[}\]>]")
DIGEST = (
    rb"(?:(?=[A-Fa-f]*\d)[0-9A-Fa-f]{8,}|\d{5,}|(?=[^\n]*\d)(?=[^\n]*[a-z])(?=[^\n]*[A-Z])[A-Za-z0-9+/]{22,}={0,2})"
)
DIGESTS = re.compile(rb"(?<![A-Za-z0-9+/])" + DIGEST)
LARGE = 1 << 20  # bytes
IN_NO_TEXT = re.compile(rb"[\x00-\x08\x0e-\x1f\x7f]")
PRINTED = frozenset(b"\t\r\n" + bytes(range(32, 127)))


def enclosed_span(data: bytes) -> tuple[int, int] | None:
    """Where a text, or values, begin and end in a payload that holds little else; None where there is none, or nothing
    else.
    """
    ends = data.removeprefix(BOM).lstrip()[:1] + data.rstrip()[-1:]
    if ends in (b"{}", b"[]", b"<>") and _is_text(data[-LONGEST_TAIL:]):
        return None
    latin = ""  # in Latin-1 every byte is a letter, so that offsets stay those of bytes
    near = BEGINNING.finditer(data, 0, LONGEST_HEAD + 1)
    for found in chain(near, islice(_begun_behind_binary(data), MOST_BEGUN)):
        start = found.start()
        if len(data) > LARGE and IN_NO_TEXT.search(data, start, start + LONGEST_TAIL):
            continue  # chance, and not worth another copy of all of it
        latin = latin or data.decode("latin-1")
        end = _end_of_xml(data, start) if data[start] == BRACKET else _end_of_json(latin, start)
        if end is not None and len(data) - end <= LONGEST_TAIL:
            return start, end
    values = tagged_span(data, LONGEST_HEAD) if len(data) <= LARGE else None
    around = len(data) - values[1] + values[0] if values is not None else 0
    return values if 0 < around <= min(LONGEST_TAIL, len(data) // 2) else None


def _begun_behind_binary(data: bytes) -> Iterator[re.Match[bytes]]:
    """Where a text may begin that is the last part of a save, behind a picture, or records."""
    if LAST_OF_TEXT.search(data, max(len(data) - LONGEST_TAIL - LEAST_BEHIND, 0)) is None:
        return
    last = max(min(len(data) - LEAST_BEHIND, FARTHEST), 0)
    binary = IN_NO_TEXT.search(data, 0, last)
    if binary is not None:
        yield from FAR_BEGINNING.finditer(data, max(LONGEST_HEAD + 1, binary.end()), last)


def holds_checksum(head: bytes, tail: bytes) -> bool:
    """Whether what is around a text may be a checksum or another number, and not only words and marks."""
    return any(
        DIGESTS.search(part) is not None or any(byte not in PRINTED for byte in part)
        for part in (head.removeprefix(BOM), tail.rstrip(b"\0"))
    )


def _is_text(tail: bytes) -> bool:
    """Whether the last bytes are letters, and no checksum whose last byte happens to be a bracket."""
    with suppress(UnicodeDecodeError):
        while tail and tail[0] & 0xC0 == 0x80:  # a letter that began before
            tail = tail[1:]
        return bool(tail.decode()) and IN_NO_TEXT.search(tail) is None
    return False


def _end_of_json(text: str, start: int) -> int | None:
    try:
        return json.JSONDecoder(strict=False).raw_decode(text, start)[1]
    except (ValueError, RecursionError):
        return None


def _end_of_xml(data: bytes, start: int) -> int | None:
    depth, ends = 0, []

    def begun(_name: str, _attributes: object) -> None:
        nonlocal depth
        depth += 1

    def ended(_name: str) -> None:
        nonlocal depth
        depth -= 1
        if not depth:
            ends.append(parser.CurrentByteIndex)

    parser = expat.ParserCreate()
    parser.DefaultHandler = lambda _: None  # entities are not resolved
    parser.StartElementHandler, parser.EndElementHandler = begun, ended
    with suppress(expat.ExpatError):
        parser.Parse(data[start:], True)
    return data.find(b">", start + ends[0]) + 1 if ends else None
