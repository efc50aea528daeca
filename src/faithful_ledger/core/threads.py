"""Work that goes on in a thread of its own."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, ParamSpec, TypeVar

if TYPE_CHECKING:
    from concurrent.futures import Future

P = ParamSpec("P")
R = TypeVar("R")

__all__ = ["WORTH_IT", "started"]

WORTH_IT = 1 << 20  # bytes, of which fewer are hashed or read back before a thread has begun


def started(work: Callable[P, R], *arguments: P.args, **named: P.kwargs) -> Future[R]:
    """Call a function in a thread of its own; the result, or what the function raised, is in the future."""
    from concurrent.futures import ThreadPoolExecutor

    pool = ThreadPoolExecutor(1)
    future = pool.submit(work, *arguments, **named)
    pool.shutdown(wait=False)
    return future
