"""Places as documents, so that a script can go from `locate` to `pin`."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from faithful_ledger.core.address import Address, Expression
from faithful_ledger.core.errors import AddressError, LedgerError
from faithful_ledger.core.evidence.place import Bits, Guide, Guides, KeyedRecords, Mask, Place
from faithful_ledger.core.in_front.text_ends import TextEnd
from faithful_ledger.core.layers import CIPHERS, KEYED, LayerSpec
from faithful_ledger.core.layers.ciphers import derived_from, iv_from

__all__ = ["place_from", "places_by_spot", "places_from"]


def places_by_spot(spots: Iterable[list[Place]]) -> list[dict[str, Any]]:
    """A document for each spot; other storages that fit there are in `also_as`."""
    documents = []
    for best, *others in spots:
        document = _document(best)
        document["also_as"] = [name for name in dict.fromkeys(o.stored_as for o in others) if name != best.stored_as]
        documents.append(document)
    return documents


def _document(place: Place) -> dict[str, Any]:
    address = place.address
    return {
        "offset": place.offsets[0],
        "offsets": list(place.offsets),
        "path": place.path,
        "anchor": place.anchor,
        "layer": place.layer,
        "route": [_step(place, number) for number in range(len(place.route))],
        "address": address.keys() if address is not None else None,
        "stored_as": place.stored_as,
        "also_as": [],
        "fits": place.fits,
        "of": place.of,
        "scale": place.scale,
        "bias": place.bias,
        "rounding": place.rounding,
        "bits": round(place.bits, 1),
        "by_chance": place.by_chance,
        "values": list(place.values),
        "format": place.format,
        "prefix": place.end.prefix,
        "room": place.end.room,
        **{key: value for key, value in place.end.keys.items() if key in ("counts", "ended_by", "pad")},
        **({"align": place.end.align} if place.end.align > 1 else {}),
        **({"letters": {f"{code:02X}": letter for code, letter in place.letters}} if place.letters else {}),
        **({"lead": place.lead} if place.lead else {}),
        **({"mask": _mask_document(place.mask)} if place.mask is not None else {}),
        **({"bits_in": place.bits_in._asdict()} if place.bits_in is not None else {}),
        **({"guides": _guides_document(place.guides)} if place.guides is not None else {}),
        **(
            {"records": {**place.records._asdict(), "key": place.records.key.hex()}}
            if place.records is not None
            else {}
        ),
        **({"file": place.file} if place.file else {}),
    }


def _mask_document(mask: Mask) -> dict[str, Any]:
    if mask.by is not None:
        return {"by": _document(mask.by)}
    return {"key": mask.key.hex()} if mask.key else {"beside": mask.beside}


def _mask(document: Mapping[str, Any] | None) -> Mask | None:
    if not document:
        return None
    by = _place(document["by"]) if "by" in document else None
    return Mask(bytes.fromhex(document.get("key", "")), int(document.get("beside", 0)), by)


def _guides_document(guides: Guides) -> dict[str, Any]:
    fields = [each._asdict() for each in guides.fields]
    return {"words": guides.words, "fields": fields, "around": guides.around}


def _guides(document: Mapping[str, Any] | None) -> Guides | None:
    if not document:
        return None
    fields = (
        Guide(str(each["name"]), _at(each["at"]), str(each["stored_as"]), str(each["note"]), int(each.get("size", 0)))
        for each in document["fields"]
    )
    return Guides(tuple(fields), str(document["words"]), bool(document.get("around")))


def _records(document: Mapping[str, Any] | None) -> KeyedRecords | None:
    if not document:
        return None
    numbers = (int(document[name]) for name in ("start", "size", "many", "within", "key_at"))
    order = "big" if document.get("order") == "big" else "little"
    keys = document.get("keys")
    apart, to_end = None if keys is None else int(keys), document.get("to_end") is True
    return KeyedRecords._make((*numbers, bytes.fromhex(document["key"]), order, apart, to_end))


def _at(given: object) -> int | str:
    """An offset, or a path."""
    return given if isinstance(given, int) else str(given)


def _step(place: Place, number: int) -> dict[str, Any]:
    """One layer; a key that differs from copy to copy is null, and `at` is there where it begins at a known offset."""
    kind, _, member = place.route[number].partition(":")
    return _layer_document(place.layers[number] if place.layers is not None else LayerSpec(kind, member=member))


def _layer_document(layer: LayerSpec) -> dict[str, Any]:
    at = layer.at.constant if layer.at is not None else None
    return {
        "kind": layer.kind,
        "key": layer.key.hex() if layer.key is not None else None,
        **({"key_of": layer.key_of} if layer.key_of else {}),
        **({"at": at} if at is not None else {}),
        **({"member": layer.member} if layer.member else {}),
        **({"size": layer.size.constant} if layer.size is not None else {}),
        **({"number": layer.number} if layer.number else {}),
        **({"mask": layer.mask} if layer.mask else {}),
        **({"parts": list(layer.parts)} if layer.parts else {}),
        **({"through": [_layer_document(inner) for inner in layer.through]} if layer.through else {}),
        **layer.cipher_keys,
    }


def place_from(document: object) -> Place:
    """The place of such a document, or the first of a list of them, as `locate` prints it.

    Raises:
        AddressError: it is none.
    """
    if isinstance(document, Mapping) and isinstance(document.get("places"), list):
        document = document["places"]
    if isinstance(document, list):
        document = document[0] if document else None
    try:
        assert isinstance(document, Mapping)
        return _place(document)
    except (AssertionError, KeyError, TypeError, ValueError, AttributeError, LedgerError) as error:
        what = "this is not a place" if not isinstance(error, LedgerError) else f"this is not a place: {error.what}"
        raise AddressError(what, "give one as `locate --json` prints it; nothing was pinned") from error


def places_from(document: object) -> list[Place]:
    """All places of such a document, which has one at least."""
    if isinstance(document, Mapping) and isinstance(document.get("places"), list):
        document = document["places"]
    return [place_from(each) for each in document] if isinstance(document, list) else [place_from(document)]


def _place(document: Mapping[str, Any]) -> Place:
    address, path = document.get("address"), document.get("path")
    offsets = tuple(int(offset) for offset in document.get("offsets") or [document["offset"]])
    found = Address.by_path(path) if path is not None else None
    if found is None and address is not None and address != {"at": offsets[0]}:
        found = Address.from_keys(address)
    steps = [_layer(step) for step in document.get("route") or ()]
    known = all(layer.key is not None or layer.key_of for layer in steps if layer.kind in KEYED)
    rounding = document.get("rounding")
    return Place(
        offsets,
        str(document["stored_as"]),
        int(document.get("fits", 0)),
        int(document.get("of", 0)),
        float(document.get("scale", 1)),
        float(document.get("bias", 0)),
        str(rounding) if rounding is not None else None,
        found,
        how=str(document.get("anchor") or ("" if address is not None else "it moves")),
        layer=document.get("layer"),
        route=tuple(layer.step for layer in steps),
        layers=tuple(steps) if known else None,
        values=tuple(value if isinstance(value, str) else float(value) for value in document.get("values") or ()),
        file=str(document.get("file", "")),
        end=_end(document),
        lead=int(document.get("lead", 0)),
        format=str(document.get("format", "binary")),
        letters=tuple((int(code, 16), str(letter)) for code, letter in (document.get("letters") or {}).items()),
        mask=_mask(document.get("mask")),
        guides=_guides(document.get("guides")),
        records=_records(document.get("records")),
        bits_in=Bits(int(part["low"]), int(part["width"])) if (part := document.get("bits_in")) else None,
    )


def _end(document: Mapping[str, Any]) -> TextEnd:
    room = document.get("room")
    ended_by, pad = (bytes.fromhex(document.get(key, "")) for key in ("ended_by", "pad"))
    in_letters = document.get("counts") == "letters"
    prefix, align = str(document.get("prefix", "")), int(document.get("align", 1))
    return TextEnd(prefix, in_letters, int(room) if room is not None else None, ended_by, pad, align)


def _layer(step: Mapping[str, Any]) -> LayerSpec:
    key, at = step.get("key"), step.get("at")
    return LayerSpec(
        step["kind"],
        bytes.fromhex(key) if key is not None else None,
        step.get("key_of", ""),
        at=Expression(int(at)) if at is not None else None,
        member=step.get("member", ""),
        iv=iv_from(step["kind"], step.get("iv")) if step["kind"] in CIPHERS else None,
        padding=step.get("padding", "pkcs7"),
        tag_first=step.get("tag") == "first",
        derived=derived_from(step["derive"]) if step.get("derive") else None,
        iv_at=int(step["iv_at"]) if step.get("iv_at") is not None else None,
        size=Expression(int(step["size"])) if step.get("size") is not None else None,
        number=step.get("number", ""),
        mask=step.get("mask", ""),
        parts=tuple(map(int, step.get("parts") or ())),
        through=tuple(map(_layer, step.get("through") or ())),
    )
