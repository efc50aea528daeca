"""Keys that a game draws anew for each save and stores in it, in front of what they hide or behind it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from faithful_ledger.core.evidence.place import Guide, Guides
from faithful_ledger.core.layers import KEYED, LayerSpec

__all__ = ["stored_key"]

LEAST = 3  # saves: in two any byte may be the key of one byte
NOTE = "the key of what is hidden in this save"


def stored_key(
    ways: Sequence[tuple[LayerSpec, ...]], contents: Sequence[bytes]
) -> tuple[tuple[LayerSpec, ...], Guides] | None:
    """The layers that lead into all of some saves, if they differ only in the key of the outermost one, and every save
    has that at one offset; with the field that the key is. None where that is not so.
    """
    first = [way[0] for way in ways]
    keys = [layer.key for layer in first]
    sizes = {len(key) for key in keys if key}
    same = {(replace(way[0], key=None), *way[1:]) for way in ways}
    if len(ways) < LEAST or len(same) > 1 or first[0].kind not in KEYED or len(sizes) != 1 or None in keys:
        return None
    (size,), shortest = sizes, min(map(len, contents))
    known = [key for key in keys if key is not None]
    at = contents[0].find(known[0])
    while 0 <= at <= shortest - size:
        if all(content[at : at + size] == key for content, key in zip(contents, known, strict=True)):
            guide = Guide(f"key_{at:x}", at, "bytes", NOTE, size)
            layer = replace(first[0], key=None, key_of=guide.name)
            return (layer, *ways[0][1:]), Guides((guide,), f"hidden under the key of {size} bytes at {at}", around=True)
        at = contents[0].find(known[0], at + 1)
    return None
