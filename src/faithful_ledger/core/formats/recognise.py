"""Which format a text is of: the first whose document takes it whole and finds values in it, likeliest first."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from contextlib import suppress

from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.formats.document import BOM, Document
from faithful_ledger.core.formats.registry import DOCUMENTS
from faithful_ledger.core.source import Source
from faithful_ledger.core.storage.spelled import is_number

__all__ = ["looks_like_text", "recognised_text", "recognised_together", "why_not_text"]

SAMPLE = 1 << 16
MOST_LINES = 2000
BASE64 = re.compile(rb"\s*[A-Za-z0-9+/_-]{24,}(?:\s[A-Za-z0-9+/_-]{16,})*={0,2}\s*")
DIVIDING, FEWEST_DIVIDING = (b"|", b"~", b";", b","), 6  # marks between values without names, and those of a line
SECTION = re.compile(rb"\[[^\]\r\n\"{}\[]*[A-Za-z][^\]\r\n\"{}\[,]*\][ \t]*(?:[#;].*)?\r?\n")


def looks_like_text(data: bytes) -> bool:
    """Whether bytes may be text of an encoding that extends ASCII: no control characters but those of lines."""
    sample = data[:SAMPLE]
    if not sample.strip() or BASE64.fullmatch(sample):
        return False
    if re.search(rb"[\x00-\x08\x0e-\x1a\x1c-\x1f\x7f]", sample):
        return False
    try:
        data.decode("utf-8") if len(data) <= SAMPLE else None
        sample[: -4 if len(sample) == SAMPLE else None].decode("utf-8")
    except UnicodeDecodeError:
        high = sum(byte > 127 for byte in sample)
        return high * 3 < len(sample)
    return True


def recognised_text(source: Source) -> Document | None:
    """The document of a text, or None where it is not one of a known format with values in it."""
    sample = bytes(source.read(0, min(source.size, SAMPLE)))
    if not looks_like_text(sample):
        return None
    for name in _likely(sample):
        document = DOCUMENTS[name](source)
        try:
            if document.has_values():
                return document
        except (LedgerError, RecursionError):
            continue
    return None


def recognised_together(sources: Sequence[Source]) -> list[Document]:
    """The documents of texts that are all of one format, of which one alone may look like another; none where they are
    not.
    """
    found = [document for source in sources if (document := recognised_text(source)) is not None]
    names = {document.name for document in found}
    if len(found) < len(sources) or len(names) < 2:
        return found if len(found) == len(sources) else []
    for name in sorted(names):
        documents = [DOCUMENTS[name](source) for source in sources]
        with suppress(LedgerError, RecursionError):
            if all(document.has_values() for document in documents):
                return documents
    return []


def why_not_text(source: Source) -> LedgerError | None:
    """What is wrong with a text that begins like JSON, XML or a section of keyed lines and is none; None for others."""
    start = bytes(source.read(0, min(source.size, SAMPLE)))
    begun = start.removeprefix(BOM).lstrip()
    kind = {b"<": "xml", b"{": "json", b"[": "json"}.get(begun[:1])
    kind = "keyed-lines" if SECTION.match(begun) else kind
    if kind is None or not looks_like_text(start):
        return None
    try:
        DOCUMENTS[kind](source).check()
    except (LedgerError, RecursionError) as error:
        return error if isinstance(error, LedgerError) else None
    return None


def _likely(sample: bytes) -> Iterator[str]:
    """The names of the formats a text may be of, by its first bytes and lines."""
    start = sample.removeprefix(BOM).lstrip()
    first = start[:1]
    lines = [line for line in sample.splitlines() if line.strip()][:MOST_LINES]
    if first == b"<":
        yield "xml"
        return
    if first in (b"{", b"[") and not SECTION.match(start):
        yield "json"
        yield "relaxed-json"
        if b"=" in start and first == b"{":
            yield "keyed-tables"
            yield "braces"
        return
    from faithful_ledger.core.formats.keyed_lines import KEYED, separators_of
    from faithful_ledger.core.formats.relaxed_json import ASSIGNED, PREFIXED

    if PREFIXED.match(start):
        yield "relaxed-json"
    if b"\n" in start and start.split(b"\n", 1)[1].lstrip()[:1] in (b"{", b"[") and first != b"[":
        yield "relaxed-json"
    if start.startswith((b"//", b"/*")):
        yield "relaxed-json"
    if re.match(rb"[A-Za-z_]?\w*\(\s*\w+\s*:", start):
        yield "relaxed-json"
    if re.match(rb"(?:;[^\n]*\n|\s)*\(", start):
        yield "expressions"
    if re.match(rb"(?:return\s*\{|(?:local\s+)?[A-Za-z_]\w*\s*=\s*\{)", start) or b"--[[" in start[:100]:
        yield "keyed-tables"
    if ASSIGNED.match(start):
        yield "relaxed-json"
    if start.startswith((b"---", b"%YAML")):
        yield "yaml"
    from faithful_ledger.core.formats.line_tables import without_tables

    body = [line for line in without_tables(lines) if not line.lstrip().startswith((b"#", b";", b"//", b"["))]
    found = separators_of(body)
    deeper = any(line[:1] in (b" ", b"\t") for line in body[1:])
    is_yaml = found[b":"] >= 0.4 * len(body) and (deeper or any(line.lstrip().startswith(b"- ") for line in body))
    if is_yaml and found[b":"] > found[b"="]:
        yield "yaml"
    braced = sum(line.count(b"{") for line in lines)
    if braced and braced >= len(lines) * 0.02:
        if _braces_by_lines(lines):
            yield "keyed-lines"
        yield "braces"
        yield "keyed-tables"
    sections = any(SECTION.match(line + b"\n") for line in lines)
    yield "pairs"
    if found[b"="] >= 0.75 * len(body) or (sections and found[b"="] > 1):
        yield "keyed-lines"
    if _pairs_by_tabs(body):
        yield "keyed-lines"
    yield "table"
    if sum(map(sample.count, DIVIDING)) >= FEWEST_DIVIDING * max(len(lines), 1):
        yield "divided"
    if found[b":"] >= 0.75 * len(body):
        yield "yaml"
        yield "keyed-lines"
    if deeper and found[b"="] < 0.5 * len(body) and not sections:
        yield "yaml"
        yield "indented"
    if body and any(found[mark] >= 0.75 * len(body) for mark in KEYED):
        yield "keyed-lines"
    yield "lines"
    yield "divided"


def _pairs_by_tabs(body: list[bytes]) -> bool:
    """Whether every line is a key and a value with a tab between, and the first is not the names of two columns."""
    pairs = [line.split(b"\t") for line in body]
    if not pairs or any(len(pair) != 2 for pair in pairs):
        return False
    numbers = [is_number(value.decode("latin-1")) for _, value in pairs]
    return numbers[0] or not any(numbers)


def _braces_by_lines(lines: list[bytes]) -> bool:
    """Whether every brace opens at the end of a line, or closes alone on one."""
    return all(
        line.rstrip().endswith(b"{") or line.strip() in (b"}", b"},", b"};")
        for line in lines
        if b"{" in line or b"}" in line
    )
