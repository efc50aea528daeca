"""The payload inside of a file, taken out to be worked on elsewhere, and put back with everything that follows from it.

With a template the payload is the one it names, and lengths, seals and layers are put right as in a posting. Without
one it is what can be found by looking; then only the layers are put back, and a stream that would take another size
between bytes nobody understands is refused.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from faithful_ledger.core.edits import Cause, Patched, Replacement
from faithful_ledger.core.errors import AddressError, EntryError
from faithful_ledger.core.inside import Payload, payloads_inside
from faithful_ledger.core.layers import LayerSpec
from faithful_ledger.core.save import Save
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.typed_bytes import enter_bytes, enter_whole
from faithful_ledger.core.unlocking import NO_KEYS, Keys
from faithful_ledger.core.wrapping import UNCOUNTED, Unwrapped, unwrap

__all__ = ["Taken", "enter_payload", "payload_of", "put_back", "ways_in"]


class Taken(NamedTuple):
    """A payload: its name in the template, or the words for its layers; its bytes, and the kinds of its layers."""

    name: str
    data: bytes
    route: tuple[str, ...]


def ways_in(save: Save) -> tuple[tuple[LayerSpec, ...], ...]:
    """The layers that lead into the main file of a save by keys that its template gives."""
    files = save.template.files if save.template is not None else {}
    ways = list[tuple[LayerSpec, ...]]()
    for spec in files.values():
        layers, around = spec.layers, spec
        while around.inside and not around.held_by and files[around.inside].inside:
            around = files[around.inside]
            layers = (*around.layers, *layers)
        if around.inside and not around.held_by and any(layer.has_key for layer in layers):
            ways.append(layers)
    return tuple(ways)


def payload_of(save: Save, name: str = "", keys: Keys = NO_KEYS) -> Taken:
    """The payload of a save: that of a name, else the first one its template names, else the largest one found; with
    `keys`, which may open more.

    Raises:
        AddressError: nothing in it is packed or scrambled, or there is none of that name.
    """
    described = {file.name: file for file in save.files.values() if file.inside}
    if described:
        chosen = described.get(name) if name else next(iter(described.values()))
        if chosen is None:
            raise AddressError(f"there is no payload {name}", f"there are {', '.join(described)}")
        if chosen.problem is not None:
            raise chosen.problem
        bound = chosen.bound
        source = chosen.source
        route = bound.spec.route if bound is not None else ()
        return Taken(chosen.name, bytes(source.read(0, source.size)), route)
    found = _found(save, keys)
    wanted = [each for each in found if not name or each.layer == name]
    if not wanted:
        what = f"nothing in {save.main.path.name} is packed or scrambled in a way that is known"
        if found:
            what = f"no payload is called {name}; there are {'; '.join(each.layer for each in found)}"
        raise AddressError(what, "nothing was written; see profile for what kind of bytes it holds")
    best = max(wanted, key=lambda each: len(each.data))
    return Taken(best.layer, best.data, best.route)


def _found(save: Save, keys: Keys) -> Sequence[Payload]:
    source = save.main.source
    return payloads_inside(bytes(source.read(0, source.size)), keys=keys)


def enter_payload(save: Save, name: str, data: bytes) -> None:
    """Enter other bytes for a payload that the template names: the run that differs, or all of it where lengths or
    seals in it differ as well.

    Raises:
        LedgerError: they cannot be entered.
    """
    tape = list(save.tape)
    try:
        _enter_run(save, name, data)
    except EntryError:
        if len(list(save.tape)) != len(tape):
            save.tape.undo()
        enter_whole(save, name, data)


def _enter_run(save: Save, name: str, data: bytes) -> None:
    source = save.files[name].source
    old = bytes(source.read(0, source.size))
    start = 0
    shorter = min(len(old), len(data))
    while start < shorter and old[start] == data[start]:
        start += 1
    behind = 0
    while behind < shorter - start and old[-1 - behind] == data[-1 - behind]:
        behind += 1
    end = len(old) - behind
    new = data[start : len(data) - behind]
    common = min(len(new), end - start)
    if common:
        enter_bytes(save, name, start, start + common, new[:common])
    if end > start + common:
        enter_bytes(save, name, start + common, end, b"")
    elif len(new) > common:
        enter_bytes(save, name, end, end, new[common:])


def put_back(save: Save, data: bytes, name: str = "", keys: Keys = NO_KEYS) -> bytes:
    """The file of a save without a template, with other bytes as its payload; unwrapped again, it gives these.

    Raises:
        LedgerError: it cannot be put back.
    """
    found = [each for each in _found(save, keys) if not name or each.layer == name]
    if not found:
        payload_of(save, name, keys)
    best = max(found, key=lambda each: len(each.data))
    outer = save.main.source
    content = bytes(outer.read(0, outer.size))
    steps = unwrap(content, best.layers)
    inner = Unwrapped(steps)
    cause = Cause("entry", best.layer)
    patched = Patched(inner.source, [Replacement(0, inner.source.size, data, (cause,))])
    replaced = Patched(MemorySource(content), inner.wrap(patched, cause, UNCOUNTED))
    result = bytes(replaced.read(0, replaced.size))
    again = Unwrapped(unwrap(result, best.layers)).source
    if bytes(again.read(0, again.size)) != data:
        raise EntryError(f"the payload would not come out of {best.layer} again as it is", "nothing was written")
    return result
