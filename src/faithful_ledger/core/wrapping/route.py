"""From the names of layers to the steps that undo them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial

from faithful_ledger.core.address import Lookup
from faithful_ledger.core.errors import AddressError
from faithful_ledger.core.layers import (
    ARRANGEMENTS,
    CIPHERS,
    ENCLOSED,
    JOINED,
    KEYED,
    LINKED,
    MASKED_FRACTIONS,
    MASKINGS,
    PADDED,
    SCRAMBLINGS,
    STRINGS,
    LayerSpec,
)
from faithful_ledger.core.layers.archives import ARCHIVES
from faithful_ledger.core.layers.ciphers import Cipher, wrong_cipher
from faithful_ledger.core.layers.hex_text import HEX, is_hex
from faithful_ledger.core.layers.scrambling import Scrambling, wrong_key
from faithful_ledger.core.layers.sqlite_tables import SQLITE
from faithful_ledger.core.layers.stream import Layer
from faithful_ledger.core.layers.tagged import TAGGED
from faithful_ledger.core.layers.transcoding import TRANSCODINGS
from faithful_ledger.core.profile import find_layers
from faithful_ledger.core.profile.layers import stream_at
from faithful_ledger.core.source import MemorySource
from faithful_ledger.core.wrapping.joined import Joined
from faithful_ledger.core.wrapping.masked import with_masked
from faithful_ledger.core.wrapping.steps import (
    Archived,
    Enciphered,
    Enclosed,
    Hexed,
    Hidden,
    LeftOff,
    Linked,
    Padded,
    Step,
    Streams,
    Tables,
    Tagged,
    Transcoded,
)
from faithful_ledger.core.wrapping.strings import MOST_STRINGS, with_strings

__all__ = ["unwrap"]


def unwrap(
    data: bytes,
    route: Sequence[LayerSpec | str],
    key_of: Callable[[str], bytes] | None = None,
    number_of: Lookup | None = None,
    log: bytes = b"",
) -> list[Step]:
    """Undo layers, the outermost first; a kind alone is a layer without a key. `key_of` gives the bytes of a field of
    the file around, `number_of` its number. `log` is the write-ahead log of a database.

    Raises:
        AddressError: one of them is not there.
    """
    steps: list[Step] = []
    for each in route:
        layer = LayerSpec(each) if isinstance(each, str) else each
        step: Step
        if layer.kind in SCRAMBLINGS:
            step = Hidden.of(data, _scrambling(layer, key_of), _begins_at(layer, len(data), number_of))
        elif layer.kind in CIPHERS:
            step = Enciphered.of(data, _cipher(layer, key_of, number_of))
        elif layer.kind in ARRANGEMENTS:
            step = Enciphered.arranged(data, layer.kind)
        elif layer.kind == PADDED:
            step = Padded.of(data)
        elif layer.kind == ENCLOSED:
            step = Enclosed.of(data)
        elif layer.kind == STRINGS:
            through = partial(unwrap, route=layer.through, key_of=key_of, number_of=number_of)
            salted = [each.derived for each in layer.through if each.derived and each.derived.salt_from != "given"]
            step = with_strings(data, through, min((how.most_salts for how in salted), default=MOST_STRINGS))
        elif layer.kind in MASKINGS:
            are_fractions = layer.kind == MASKED_FRACTIONS
            step = with_masked(data, layer.number, layer.mask, layer.key or b"", are_fractions=are_fractions)
        elif layer.kind == JOINED:
            step = Joined.of(data, layer.parts)
        elif layer.kind in LINKED:
            step = Linked.of(data, layer.kind)
        elif layer.kind == SQLITE:
            step = Tables.of(data, log)
        elif layer.kind in TAGGED:
            step = Tagged.of(data, layer.kind)
        elif layer.kind in ARCHIVES:
            step = Archived.of(data, layer)
        elif layer.kind == HEX and layer.at is None and is_hex(data):
            step = Hexed.of(data)
        elif layer.kind in TRANSCODINGS:
            step = Transcoded.of(data, layer.kind)
        elif streams := _streams(data, layer, number_of):
            step = Streams.of(data, streams)
        elif layer.put_back:
            where = "" if layer.at is None else f" at {layer.at.text}"
            raise AddressError(f"no {layer.kind} stream was found{where}", "see Profile for what the file holds")
        else:
            step = LeftOff(MemorySource(data), data)
        steps.append(step if layer.put_back else LeftOff(step.outer, step.data))
        data = steps[-1].data
    return steps


def _streams(data: bytes, layer: LayerSpec, number_of: Lookup | None) -> list[Layer]:
    if layer.at is None:
        alone = stream_at(data, 0, layer.kind) if data else None
        if alone is not None and alone.size == len(data):  # whatever else it may look like
            return [alone]
        known = [found for found in find_layers(data) if found.kind == layer.kind]
        return known or ([alone] if alone is not None else [])  # one that is too small to be noticed in a file
    at = _begins_at(layer, len(data), number_of)
    found = stream_at(data, at, layer.kind) if 0 <= at < len(data) else None
    return [found] if found is not None else []


def _begins_at(layer: LayerSpec, size: int, number_of: Lookup | None) -> int:
    """The offset at which a layer begins in so many bytes."""
    if layer.at is None:
        return 0
    at = layer.at.constant if layer.at.constant is not None else layer.at.evaluate(number_of or _no_number)
    return at + size if at < 0 else at


def _no_number(name: str) -> int:
    raise AddressError(f"{name} is not known here", "the stream is not within a described file")


def _cipher(layer: LayerSpec, key_of: Callable[[str], bytes] | None, number_of: Lookup | None) -> Cipher:
    """A cipher with the key that the template gives, names, or derives."""
    key = key_of(layer.key_of) if layer.key_of and key_of is not None else layer.key or b""
    if wrong := wrong_cipher(layer.kind, key if layer.derived is None else None, layer.iv):
        where = f" (it is taken from {layer.key_of})" if layer.key_of else ""
        raise AddressError(f"{wrong}{where}", "write the key in the template, its key_of, or how it is derived")
    at = layer.at.evaluate(number_of or _no_number) if layer.at is not None else 0
    size = layer.size.evaluate(number_of or _no_number) if layer.size is not None else None
    return Cipher(layer.kind, key, layer.iv, layer.padding, layer.tag_first, at, layer.derived, layer.iv_at, size)


def _scrambling(layer: LayerSpec, key_of: Callable[[str], bytes] | None) -> Scrambling:
    """A scrambling with the key that the template gives or names."""
    kind = layer.kind
    key = key_of(layer.key_of) if layer.key_of and key_of is not None else layer.key
    if kind in KEYED and (wrong := wrong_key(kind, key or b"")):
        where = f" (it is taken from {layer.key_of})" if layer.key_of else ""
        raise AddressError(f"{wrong}{where}", "write its key in the template, or its key_of")
    return Scrambling(kind, key or b"", 0.0)
