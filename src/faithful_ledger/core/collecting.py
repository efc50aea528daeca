"""When Python looks for cyclic garbage."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager

__all__ = ["collected_later"]


@contextmanager
def collected_later() -> Iterator[None]:
    """No cyclic garbage is looked for meanwhile: a plan, or a template that is laid over a save anew, makes many
    objects that stay and hardly any that go, and looking through all nodes of a large save again and again would cost
    more than the work itself.
    """
    collects = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if collects:
            gc.enable()
