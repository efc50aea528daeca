"""One rule for a row of blocks: each has its length and its own checksum, and they follow one another to the end.

Lengths that lead from one to the next, at a constant distance, over the whole file are looked for first, from every
offset near the beginning. Then the checksum of each algorithm over the bytes from near the length to near the end that
it says is looked for beside the length, and behind that end. What holds in every block of every save is a rule.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import product
from typing import Any, Literal, TypeAlias

import numpy as np

from faithful_ledger.core.deadline import NEVER, Deadline
from faithful_ledger.core.seals.algorithms import ALGORITHMS, Algorithm

__all__ = ["BlockChain", "BlockRule", "chains_of_blocks", "find_block_rules"]

Array: TypeAlias = np.ndarray[Any, Any]
Order = Literal["little", "big"]
FIRST = 256  # offsets at which the first length may be
AROUND = 16  # bytes beside a length that belong to its header
LEAST, MOST = 3, 4096  # blocks
COVERED = 0.5  # the share of a file that the blocks have to be
LEAST_CONTENT = 8  # bytes of a block whose checksum is looked for first
MOST_CHAINS = 6
CHAIN_BYTES, BYTES_OF_A_CALL = 12_000_000, 200  # taken into checksums for one chain; what a call costs beside them
ORDERS: tuple[Order, ...] = ("little", "big")
TAILS = (16, 20, 32, 64, 4, 8, 12, 24, 28, 36, 48)  # bytes behind the last block, as a digest of all is


@dataclass(frozen=True)
class BlockChain:
    """Whole numbers of `width` bytes, the first at `first`: from each it is its value and `apart` bytes to the next.
    They lead to the end of the file, or to `tail` bytes before it.
    """

    first: int
    width: int
    order: Order
    apart: int
    tail: int = 0

    def end(self, content: bytes) -> int:
        return len(content) - self.tail

    def lengths(self, content: bytes) -> list[tuple[int, int]]:
        """Where each length is, and its value; nothing where they do not lead to the end."""
        found: list[tuple[int, int]] = []
        at, end = self.first, self.end(content)
        while at + self.width <= end and len(found) < MOST:
            value = int.from_bytes(content[at : at + self.width], self.order)
            following = at + value + self.apart
            if following <= at or following > end + AROUND:
                return []
            found.append((at, value))
            at = following
        return found if end - AROUND <= at else []


@dataclass(frozen=True)
class BlockRule:
    """In each block of a chain the `algorithm` over the bytes from `begin` behind the length's beginning to `end`
    behind where its value leads is stored at `stored`: from the length, or where it is `behind`, from the end of these
    bytes.
    """

    chain: BlockChain
    algorithm: Algorithm
    begin: int
    end: int
    stored: int
    behind: bool
    size: int
    order: Order
    count: int = 0  # of the first save
    is_counted: bool = False  # whether every save has so many
    holds_in: int = 0
    of: int = 0

    @property
    def form(self) -> str:
        end = "" if self.size == 1 else "le" if self.order == "little" else "be"
        return f"u{8 * self.size}{end}"

    # how a block is cut: what is between the end of one content and the next length is its header, but for a trailer

    @property
    def trailer(self) -> int:
        return self.stored + self.size if self.behind else 0

    @property
    def in_front(self) -> int:
        """Bytes of a block in front of its length."""
        return self.chain.apart - self.end - self.trailer

    @property
    def header(self) -> int:
        """Bytes in front of the content: the length, what is beside it, and a checksum that is there."""
        behind = self.stored + self.size if not self.behind and self.stored > 0 else 0
        return self.in_front + max(self.begin, self.chain.width, behind)

    @property
    def counted(self) -> int:
        """What a length says beyond the size of the content."""
        return self.header - self.in_front - self.end

    @property
    def start(self) -> int:
        """Where the first block begins."""
        return self.chain.first - self.in_front

    @property
    def over(self) -> str:
        if self.begin >= self.header - self.in_front:
            return "content"
        return "header and content" if self.begin <= -self.in_front else "from the length on"

    def spans(self, length: tuple[int, int]) -> tuple[int, int, int]:
        """Where what is covered of a block begins and ends, and where it is stored."""
        at, value = length
        end = at + value + self.end
        return at + self.begin, end, (end if self.behind else at) + self.stored

    def holds(self, content: bytes) -> bool:
        """Whether it is so in every block of a save."""
        lengths = self.chain.lengths(content)
        return bool(lengths) and all(self.holds_at(content, length) for length in lengths)

    def holds_at(self, content: bytes, length: tuple[int, int]) -> bool:
        begin, end, at = self.spans(length)
        if not 0 <= begin <= end <= len(content) or not 0 <= at <= len(content) - self.size:
            return False
        number = self.algorithm([memoryview(content)[begin:end]])
        return self.algorithm.cut(number, self.size).to_bytes(self.size, self.order) == content[at : at + self.size]

    @property
    def in_words(self) -> str:
        changed = f", {self.algorithm.changed}" if self.algorithm.changed else ""
        of = {"content": "the content of each", "from the length on": "each, from its length on,"}
        over = of.get(self.over, f"{self.over} of each")
        where = f"of {self.count} blocks from 0x{self.start:X} on; a block has a header of {self.header} bytes"
        return f"{self.algorithm.name}{changed} over {over} {where}, with the length of its content at {self.in_front}"


def chains_of_blocks(contents: Sequence[bytes], until: Deadline = NEVER, tail: int = 0) -> list[BlockChain]:
    """Chains that lead to the end of every save, or `tail` bytes before it, those of most blocks first."""
    first = contents[0]
    found: list[BlockChain] = []
    data = np.frombuffer(first[: len(first) - tail], np.uint8).astype(np.int64)
    for width, order in product((4, 2), ORDERS):
        if data.size < 2 * AROUND:
            break
        lanes = range(width) if order == "little" else range(width - 1, -1, -1)
        numbers = sum(data[lane : data.size - width + lane + 1] << 8 * rank for rank, lane in enumerate(lanes))
        for apart in range(-AROUND, 3 * AROUND):
            if until.over:
                return []
            for start in _starts(numbers, data.size, apart):
                chain = BlockChain(start, width, order, apart, tail)
                if all(_is_chain(chain, content) for content in contents):
                    found.append(chain)
    found.sort(key=lambda chain: (-len(chain.lengths(first)), -chain.width, chain.first))
    kept: list[BlockChain] = []
    for chain in found:
        same = {at + (chain.order == "big") * chain.width for at, _ in chain.lengths(first)}
        known = ({at + (k.order == "big") * k.width for at, _ in k.lengths(first)} for k in kept)
        if not any(same <= places for places in known):
            kept.append(chain)
    return kept[:MOST_CHAINS]


def _starts(numbers: Any, size: int, apart: int) -> list[int]:
    """The offsets from which lengths lead to the end, all of them at once."""
    place = np.arange(min(FIRST, numbers.size))
    begun = place.copy()
    steps = np.zeros(place.size, np.int64)
    done: list[int] = []
    for _ in range(MOST):
        ended = (place >= numbers.size) | (place > size - AROUND)
        fits = ended & (place >= size - AROUND) & (steps >= LEAST) & (size - begun >= COVERED * size)
        done += begun[fits].tolist()
        place, begun, steps = place[~ended], begun[~ended], steps[~ended]
        if not place.size:
            break
        following = place + numbers[place] + apart
        going = (following > place) & (following <= size + AROUND)
        steps = steps[going] + (numbers[place[going]] > 0)  # zeros lead through whatever is filled with them
        place, begun = following[going], begun[going]
    return sorted(done)


def _is_chain(chain: BlockChain, content: bytes) -> bool:
    lengths = chain.lengths(content)
    filled = sum(value > 0 for _, value in lengths)
    return filled >= LEAST and sum(value for _, value in lengths) >= COVERED * (chain.end(content) - chain.first)


def find_block_rules(contents: Sequence[bytes], until: Deadline = NEVER) -> list[BlockRule]:
    """Checksums that hold in every block of every save; where there are none, also if something is behind the last."""
    if found := _with_tail(contents, until, 0):
        return found
    for_tails = _Effort()
    for tail in TAILS:
        if until.over or for_tails.spent or min(map(len, contents)) <= tail + 2 * AROUND:
            break
        if found := _with_tail(contents, until, tail, for_tails):
            return found
    return []


def _with_tail(
    contents: Sequence[bytes], until: Deadline, tail: int, for_all: _Effort | None = None
) -> list[BlockRule]:
    found: list[BlockRule] = []
    for chain in chains_of_blocks(contents, until, tail):
        for rule in _rules(chain, contents[0], for_all or _Effort()):
            if until.over:
                return found
            if all(map(rule.holds, contents)) and not any(_is_part(rule, known, contents[0]) for known in found):
                is_counted = all(len(chain.lengths(content)) == rule.count for content in contents)
                found.append(replace(rule, is_counted=is_counted, holds_in=len(contents), of=len(contents)))
                break
    return found


def _is_part(rule: BlockRule, known: BlockRule, content: bytes) -> bool:
    """Whether most of a rule's places are explained by another one."""
    mine, theirs = ({each.spans(length)[2] for length in each.chain.lengths(content)} for each in (rule, known))
    return 2 * len(mine & theirs) >= len(mine)


class _Effort:
    """What is left of the bytes that may go into checksums: chance makes chains of large blocks, which take long."""

    def __init__(self) -> None:
        self.left = CHAIN_BYTES

    @property
    def spent(self) -> bool:
        return self.left <= 0

    def take(self, size: int) -> bool:
        """Whether one more checksum over so many bytes may be computed."""
        self.left -= size + BYTES_OF_A_CALL
        return self.left > 0


def _rules(chain: BlockChain, content: bytes, effort: _Effort) -> Iterator[BlockRule]:
    """What holds in every block of one save: looked for in a small block, then held against the others. The commonest
    algorithms are tried over all ranges before the others are.
    """
    lengths = chain.lengths(content)
    large = [length for length in lengths if length[1] >= LEAST_CONTENT] or lengths
    at, value = min(large, key=lambda length: length[1])
    width = chain.width
    begins = [width, 0, -4, -1, -2, -8, *(width + more for more in (1, 2, 4, 8, 12))]
    ends = sorted(range(-AROUND, AROUND + width + 1), key=lambda end: (end not in (width, width + 4, 0), abs(end)))
    for algorithms, end, begin in product(_plain(), ends, begins):
        first, last = at + begin, at + value + end
        if not 0 <= first < last <= len(content) or end > chain.apart:
            continue
        covered = [memoryview(content)[first:last]]
        beside = content[max(at - AROUND, 0) : min(first, at) if begin <= 0 else first]
        after = content[last : last + 8]
        for algorithm in algorithms:
            if not effort.take(last - first):
                return
            raw = algorithm(covered).to_bytes(algorithm.bits // 8, "big")
            for order in ORDERS[: 1 if len(raw) == 1 else 2]:
                spelled = raw if order == "big" else raw[::-1]
                for stored, behind in _places(spelled, beside, after, at, width):
                    rule = BlockRule(chain, algorithm, begin, end, stored, behind, len(raw), order, len(lengths))
                    if rule.in_front >= 0 and rule.start >= 0 and _convinces(rule, content, lengths):
                        yield rule


def _places(spelled: bytes, beside: bytes, after: bytes, at: int, width: int) -> Iterator[tuple[int, bool]]:
    """Where a result stands beside the length at `at`, or behind what it covers."""
    low = max(at - AROUND, 0)
    place = beside.find(spelled)
    while place >= 0:
        stored = low + place - at
        if stored >= width or stored + len(spelled) <= 0:
            yield stored, False
        place = beside.find(spelled, place + 1)
    place = after.find(spelled)
    if place >= 0:
        yield place, True


def _convinces(rule: BlockRule, content: bytes, lengths: list[tuple[int, int]]) -> bool:
    """Whether it holds in every block, with values that are not all the same."""
    if not all(rule.holds_at(content, length) for length in lengths):
        return False
    stored = {content[rule.spans(length)[2] :][: rule.size] for length in lengths}
    return len(stored) * 8 * rule.size >= 24 and len(stored) > 1


def _plain() -> tuple[list[Algorithm], list[Algorithm]]:
    """Algorithms that are not digests: the commonest, and the others."""
    first = ("crc-32", "adler-32", "sum16", "sum32", "sum8", "crc-16-xmodem", "crc-16-arc", "xor8")
    others = [each for name, each in ALGORITHMS.items() if name not in first and not each.is_digest]
    return [ALGORITHMS[name] for name in first], others
