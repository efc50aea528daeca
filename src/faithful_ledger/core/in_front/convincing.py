"""What makes bytes behind a length look like a text: letters that people write, enough of them, up to where the length
says and no further.
"""

from __future__ import annotations

import math
import re
from collections.abc import Sequence

from faithful_ledger.core.in_front.records import RUNS, Form
from faithful_ledger.core.storage import NUMBERS

__all__ = ["beginnings", "convinces"]

ASCII, LATIN = "\x7e", "\u024f"  # the last letters of scripts, as most texts have them
ENDS_OF_LINES, LINE_ENDS = (9, 10, 13), "\t\n\r"  # which are not lengths between lines
LEAST_ALNUM = 0.6  # of a text; the rest may be blanks and signs
LEAST_BEHIND_WIDE = 3  # letters behind a length of several bytes
LEAST_LETTERS, LEAST_ALONE = 4, 6  # letters behind a length of one byte, where other saves agree, and in one save alone
FEW_BY_CHANCE, LETTER_BITS = 1024, 1.4  # bytes of noise; and bits that a letter says in it
STREAM = re.compile(rb"x[\x01\x5E\x9C\xDA]|\(\xB5/\xFD|BZh[1-9]")  # marks that begin with a letter


def beginnings(data: bytes) -> list[tuple[int, int]]:
    """Where a text may begin, and the bytes of each of its letters."""
    runs = [(match.start(), unit) for unit, run in RUNS.items() for match in run.finditer(data)]
    return sorted(runs)


def convinces(contents: Sequence[bytes], where: Sequence[int], raws: Sequence[bytes], form: Form) -> bool:
    """Whether texts can be read, end where their length says, and are too long to be chance."""
    try:
        texts = [raw.decode(form.encoding) for raw in raws]
    except UnicodeDecodeError:
        return False
    if not all(text.isprintable() and sum(map(str.isalnum, text)) >= LEAST_ALNUM * len(text) for text in texts):
        return False
    unit, width = form.unit, form.width
    ends = [at + len(raw) for at, raw in zip(where, raws, strict=True)]
    behind = [_letter(content, end, unit) for content, end in zip(contents, ends, strict=True)]
    if NUMBERS[form.prefix].decode(contents[0][where[0] - width : where[0]]) in ENDS_OF_LINES:
        before = _letter(contents[0], where[0] - width - unit, unit)
        if before.isprintable() and (unit > 1 or behind[0] in LINE_ENDS):
            return False
    going_on = [_goes_on(text, letter) for text, letter in zip(texts, behind, strict=True)]
    if len(set(map(len, texts))) > 1:  # a length that is short of one letter in each of them is hardly one
        nexts = [_letter(content, end + unit, unit) for content, end in zip(contents, ends, strict=True)]
        going_on = [on and _goes_on(text, letter) for on, text, letter in zip(going_on, texts, nexts, strict=True)]
    cut = [text for text, on in zip(texts, going_on, strict=True) if on]
    is_cut = any(a != b and a.startswith(b) for a in texts for b in cut)
    stops = not all(going_on)
    begins = width > 1 and all(
        text[-1].islower() and letter.isupper() for text, letter in zip(texts, behind, strict=True)
    )
    least: float = LEAST_BEHIND_WIDE if width > 1 else LEAST_LETTERS if len(contents) > 1 else LEAST_ALONE
    few = FEW_BY_CHANCE << 4 * (width > 1)
    least += math.log2(max(where[0] / few, 1.0)) / LETTER_BITS  # the more bytes, the more look like a text
    return (stops or begins) and not is_cut and min(map(len, texts)) >= least


def _goes_on(text: str, letter: str) -> bool:
    """Whether a letter may belong to a text in front of it: one beyond the last of its script hardly does."""
    script = next((last for last in (ASCII, LATIN) if max(text) <= last), letter)
    return letter.isprintable() and letter <= script


def _letter(content: bytes, at: int, unit: int) -> str:
    """The letter at an offset; a zero where there is none, or a packed stream begins."""
    if STREAM.match(content, max(at, 0)):
        return "\0"
    return (content[max(at, 0) : max(at, 0) + unit] or b"\0").decode("latin-1" if unit == 1 else "utf-16-le", "replace")
