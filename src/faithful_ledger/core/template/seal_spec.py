"""What a template says of a seal: its algorithm, what it covers, and what it sees there."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from faithful_ledger.core.seals import Algorithm

__all__ = ["WHOLE_FILE", "SealSpec"]

WHOLE_FILE = ("", "file")  # what names a file, not an element of it


@dataclass(slots=True, frozen=True)
class SealSpec:
    """`over` names the first and the last element covered, or `span` says from which offset to which; one that is not
    positive counts from the end. With `between` it names values of a text, which are joined with these letters, each
    behind its name and what is behind that if they are `named`. `own` is what the seal sees in its own bytes: zeros,
    left out, or bytes in hexadecimal that fill them; so many bytes in front of them and behind them are left out with
    them (`beside`). With `unpacked` it covers what its bytes are when these layers are undone, the outermost first, or
    as JSON in another form, or what is between the tags of XML. Where the last element is `file`, it goes on to so many
    bytes `before_end`; with `behind_first` it begins behind the first.
    """

    algorithm: Algorithm
    over: tuple[str, ...]
    own: str | None
    policy: Literal["renew", "leave"]
    span: tuple[int, int] | None = None
    beside: tuple[int, int] = (0, 0)
    unpacked: tuple[str, ...] = ()
    before_end: int = 0
    behind_first: bool = False
    between: str | None = None
    named: str | None = None

    @property
    def elements_in_words(self) -> str:
        """From which element to which it goes, or to how many bytes before the end of the file; or which values."""
        if self.between is not None:
            mark = f"by “{self.between}”" if self.between else "with nothing between them"
            names = f" with their names and “{self.named}”" if self.named is not None else ""
            return f"the values of {', '.join(self.over)}{names}, joined {mark}"
        first, last = self.over
        if first == last:
            return first
        end = f"{self.before_end} bytes before the end" if self.before_end else "the end"
        begin = f"what is behind {first}" if self.behind_first else first
        return f"{begin} to {last if last not in WHOLE_FILE else end}"

    @property
    def unpacked_in_words(self) -> str:
        """How what it covers is unpacked, to be put behind its name; empty where it is not."""
        return f", seen as {', '.join(self.unpacked)}" if self.unpacked else ""

    @property
    def own_in_words(self) -> str:
        """What it sees of itself, as a sentence without its point; empty where nothing is said."""
        if self.own is None:
            return ""
        known = {"zeros": "its own bytes count as zeros", "left out": "its own bytes are left out"}
        words = known.get(self.own, f"its own bytes count as {self.own}")
        before, behind = self.beside
        return f"{words}, with {before} before and {behind} behind them" if before or behind else words
