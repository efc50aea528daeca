"""What every benchmark needs: lines of the result, and times taken in turns."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable
from typing import NamedTuple

MIB = 1 << 20


class Line(NamedTuple):
    """One measurement: what, its value in words, the goal in words, and whether it is reached."""

    what: str
    value: str
    goal: str
    reached: bool


def timed(action: Callable[[], object]) -> float:
    began = time.perf_counter()
    action()
    return time.perf_counter() - began


def side_by_side(rounds: int, *actions: Callable[[], object]) -> list[float]:
    """The median seconds of each action, all of them in each round, after one round that does not count."""
    for action in actions:
        action()
    times = [[timed(action) for action in actions] for _ in range(rounds)]
    return [statistics.median(column) for column in zip(*times, strict=True)]
