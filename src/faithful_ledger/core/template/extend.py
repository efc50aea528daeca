"""Putting a place that was found into a template: as a new field of one that exists, or as the first of a new one."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any

from faithful_ledger.core.address import Address, parse_path, split_outside_quotes
from faithful_ledger.core.address.paths import TEXT
from faithful_ledger.core.errors import EntryError
from faithful_ledger.core.evidence.place import Bits, Guides, Mask, Place
from faithful_ledger.core.formats.document import BEHIND_LENGTH
from faithful_ledger.core.formats.json_leaves import IN_QUOTES
from faithful_ledger.core.layers import ENCLOSED, KEYED, STREAMS, LayerSpec
from faithful_ledger.core.search import TEXT_ENCODINGS
from faithful_ledger.core.storage import NUMBERS, SWITCHES
from faithful_ledger.core.template.fresh import Shared, new_template
from faithful_ledger.core.template.keyed_records import field_in_rows
from faithful_ledger.core.template.loader import dumped, round_trip
from faithful_ledger.core.template.model import PINNED, FileSpec
from faithful_ledger.core.template.names import field_name, free_name, has_no_name, unnamed_bits
from faithful_ledger.core.template.rewriting import Hex
from faithful_ledger.core.template.schema import ELEMENT_KINDS

__all__ = [
    "file_and_name",
    "layer_keys",
    "with_free_name",
    "with_place",
    "with_standing",
    "without_field",
    "without_value_in_list",
]

SWITCHED = "yes"  # what the switch of a quantity says when it is set
EXPLAINS = "explains "  # how the note of a pinned field begins
GUIDES = "other fields are found by it"  # at the end of their notes
LENGTH = "_length"  # how the name of the length in front of digits ends
HIDDEN = "_hidden"  # how the name of masked bytes ends
OF_ROWS = "[*].stream"  # how what packed streams unpack to is found where each is a record


def with_place(
    text: bytes | None,
    place: Place,
    name: str,
    save: Path,
    game: str,
    shared: Shared,
    other: Path | None = None,
    held: Sequence[FileSpec] = (),
    taken: Collection[str] = (),
) -> tuple[bytes, str]:
    """A template with one field more, and the path of that field. `text` is the template, None where there is none.

    Comments and everything else of the template stay. `save` and what its copies have in `shared` describe the file for
    a new template: a path that is relative names one file of a folder. `other` is the file the place is in, seen from
    the save's folder, where that is not the first one; it is added where the template does not know it. A place inside
    layers, or inside a text, gets its payload described as well; `held` says what the strings on its way hold, JSON
    where it is empty. A new template gets none of the ids that are `taken`.

    Raises:
        EntryError: the place moves and has no anchor, or is stored in a way templates do not know yet.
        TemplateError: the result would not be a template; nothing was changed.
    """
    element = _element(place, name)
    yaml = round_trip()
    document = yaml.load((text if text is not None else _new_for(place, save, game, shared, taken)).decode("utf-8"))
    files = document["files"]
    holder = _file_of(files, other, place) if other is not None else str(next(iter(files)))
    if place.route:
        if place.layers is None:
            kind = next(kind for kind in place.route if kind in KEYED)
            raise EntryError(
                f"the key of the {kind} scrambling differs from save to save",
                "the template is as it was; describe the field that holds the key, and name it as the layer's key_of",
            )
        if place.guides is not None and place.guides.around:
            _guided(files[holder]["layout"], place.guides)
        holder = _payload(files, holder, place.layers, place.format)
    if place.path is None and not place.guides and files[holder].get("format", "binary") != "binary":
        raise EntryError(
            f"this place has no path, and the template reads {holder} as {files[holder]['format']}",
            "the template is as it was; choose a place that has a path",
        )
    *texts, inner = split_outside_quotes(place.path or "", TEXT)
    for number, at in enumerate(texts):
        layers, kind = (held[number].layers, held[number].format) if number < len(held) else ((), "json")
        holder = _payload(files, f"{holder}.{_text_field(files[holder]['layout'], at)}", layers, kind)
    if place.path is not None:
        element["at"] = inner.removeprefix(".")
    with_free_name(element, files[holder]["layout"])
    if place.letters:
        element["encoding"] = _letters_for(document, place.letters)
    if place.guides is not None and not place.guides.around:
        _guided(files[holder]["layout"], place.guides)
    if place.mask is not None:
        holder = _hidden(files, holder, place, element)
    if place.end.prefix and element["as"] == place.stored_as:
        files[holder]["layout"].append(_length_of(place, element, files[holder]["layout"]))
    if place.records is not None:
        rows, within = field_in_rows(files[holder]["layout"], place.records, element)
        table = rows if holder == next(iter(files)) else f"{holder}.{rows}"
        if place.records.keys is not None:
            _show(document, table + within)
            return dumped(yaml, document), table + within
        sections = document.setdefault("sections", [])
        if not any(section.get("table") == table for section in sections):
            sections.append({"title": f"Records at 0x{place.records.start:X}", "table": table})
        return dumped(yaml, document), table + within
    if place.bits_in is not None:
        files[holder]["layout"].append(_in_bits(place, place.bits_in, element))
    else:
        files[holder]["layout"].append(element if place.end.align == 1 else _filled_up(place, element))
    path = str(element["field"]) if holder == next(iter(files)) else f"{holder}.{element['field']}"
    _show(document, path)
    return dumped(yaml, document), path


def _show(document: dict[str, Any], path: str) -> None:
    """Let a field be among the pinned ones of the Edit sheet."""
    sections = document.setdefault("sections", [])
    section = next((part for part in sections if part.get("title") == PINNED), None)
    if section is None:
        section = {"title": PINNED, "fields": []}
        sections.append(section)
    section.setdefault("fields", []).append(path)


def _letters_for(document: dict[str, Any], letters: Sequence[tuple[int, str]]) -> str:
    """The template's name for a character set of the game's own; what is new in it is added, or a set where one byte
    would be two letters.
    """
    known = document.setdefault("letters", {})
    for name, names in known.items():
        if all(names.get(code, letter) == letter for code, letter in letters):
            names.update(letters)
            return str(name)
    name = free_name(set(map(str, known)), "own")
    known[name] = dict(letters)
    return name


def _hidden(files: dict[str, Any], holder: str, place: Place, element: dict[str, Any]) -> str:
    """The template's name for what is in the bytes of a masked number, and the elements it is in; the field is its
    only one, and has no address any more.
    """
    assert place.mask is not None and place.address is not None
    layout, size = files[holder]["layout"], NUMBERS[place.stored_as].least_size
    taken = set(map(_name_of, layout))
    name = free_name(taken, f"{element['field']}{HIDDEN}")
    address = place.address.keys()
    for key in address:
        del element[key]
    layout.append({"unknown": name, "size": size, **address})
    layer: dict[str, Any] = {"layer": "xor"}
    if place.mask.key:
        layer["key"] = place.mask.key.hex(" ").upper()
    else:
        layer["key_of"] = _key_field(layout, place, place.mask, f"{element['field']}_key", size)
    inner = _file_name(files, f"{element['field']}_plain")
    files[inner] = {"inside": f"{holder}.{name}", "layers": [layer], "format": "binary", "layout": []}
    return inner


def _key_field(layout: list[dict[str, Any]], place: Place, mask: Mask, name: str, size: int) -> str:
    """The field that a number is XORed with, as others may be as well; it is added where it is not there."""
    by = mask.by
    if by is not None and by.guides is not None:
        _guided(layout, by.guides)
    address = by.address if by is not None else place.address.moved(mask.beside) if place.address is not None else None
    where = address.keys() if address is not None else {}
    for element in layout:
        if {**element, **where} == element and _holds(element, size):
            return str(element["field"])
    name = free_name(set(map(_name_of, layout)), name)
    layout.append({"field": name, "as": "bytes", "size": size, **where})
    return name


def _holds(element: Mapping[str, Any], size: int) -> bool:
    """Whether an element is the key of so many bytes, or of more."""
    return element.get("as") == "bytes" and int(element["size"]) >= size


def _in_bits(place: Place, bits: Bits, field: dict[str, Any]) -> dict[str, Any]:
    """The group of bits that a field is in, without its name; the bits around it are fields without a meaning."""
    assert place.address is not None
    address = place.address.keys()
    own = {key: value for key, value in field.items() if key not in address} | {"as": f"u{bits.width}"}
    behind = 8 * NUMBERS[place.stored_as].least_size - bits.low - bits.width
    name = str(field["field"])
    layout = [{"field": unnamed_bits(0, name), "as": f"u{bits.low}"}] if bits.low else []
    layout += [own, {"field": unnamed_bits(bits.low + bits.width, name), "as": f"u{behind}"}] if behind else [own]
    return {"group": f"{name}_bits", "word": place.stored_as, "flat": True, **address, "layout": layout}


def _filled_up(place: Place, field: dict[str, Any]) -> dict[str, Any]:
    """The group of a text and what fills it up to a multiple of some bytes, without its name."""
    keys = place.address.keys() if place.address is not None else {}
    address = {key: field[key] for key in keys}
    own = {key: value for key, value in field.items() if key not in address}
    behind = {"unknown": f"behind_{field['field']}", "size": 0, "align": place.end.align}
    return {"group": f"{field['field']}_filled", "flat": True, **address, "layout": [own, behind]}


def _guided(layout: list[dict[str, Any]], guides: Guides) -> None:
    """Describe the fields by which a place is found, if that was not done for another one."""
    known = set(map(_name_of, layout))
    for name, at, stored_as, note, size in guides.fields:
        if name not in known:
            kind = {"as": stored_as, **({"size": size} if size else {})}
            where = Hex(at) if isinstance(at, int) else at
            layout.append({"field": name, **kind, "at": where, "note": f"{note} ({GUIDES})", "standing": "fits"})


def _name_of(element: dict[str, Any]) -> str:
    return str(next((element[kind] for kind in ELEMENT_KINDS if kind in element), ""))


def with_free_name(element: dict[str, Any], layout: list[dict[str, Any]]) -> None:
    """Give a field another name where one of its layout has the same."""
    element["field"] = free_name({_name_of(part) for part in layout}, str(element["field"]))


def _file_name(files: dict[str, Any], wanted: str) -> str:
    """A name for a file that no file has and no field of the first one."""
    first = next(iter(files.values()))["layout"]
    return free_name({*map(str, files), *map(_name_of, first)}, wanted)


def _file_of(files: dict[str, Any], path: Path, place: Place) -> str:
    """The template's name for a file; one that it does not have yet is added."""
    known = next((name for name, keys in files.items() if keys.get("name") == path.as_posix()), None)
    if known is None:
        known = _file_name(files, field_name(path.stem))
        kind = place.format if not place.route else "binary"
        files[known] = {"name": path.as_posix(), "format": kind, "layout": []}
    return str(known)


def _payload(files: dict[str, Any], inside: str, layers: Sequence[LayerSpec], kind: str) -> str:
    """The template's name for what is inside a file or one of its fields; it is added where it is not there."""
    keys_of_layers = [layer_keys(layer) for layer in layers]
    for name, keys in files.items():
        known = list(keys.get("layers") or [])
        within = str(keys.get("inside", ""))
        is_in = within == inside or (within.startswith(f"{inside}.") and within.endswith(OF_ROWS))
        if is_in and known == keys_of_layers[: len(known)] and (known or not layers):
            rest = layers[len(known) :]
            return _payload(files, str(name), rest, kind) if rest else str(name)
    if "." in inside:
        words = inside.rpartition(".")[2] + "_inside"
    elif layers[-1].member:
        words = field_name(Path(layers[-1].member).stem)
    else:
        kind_of_last = layers[-1].kind
        words = "unpacked" if kind_of_last in STREAMS else "text" if kind_of_last == ENCLOSED else "plain"
    name = _file_name(files, words)
    files[name] = {"inside": inside, **({"layers": keys_of_layers} if layers else {}), "format": kind, "layout": []}
    return name


def layer_keys(layer: LayerSpec) -> str | dict[str, Any]:
    """A layer as a template says it: its kind alone, or with what it needs."""
    keys: dict[str, Any] = {"layer": layer.kind}
    keys |= {"key": layer.key.hex(" ").upper()} if layer.key is not None else {}
    keys |= {"key_of": layer.key_of} if layer.key_of else {}
    if layer.at is not None:
        keys["at"] = Hex(layer.at.constant) if layer.at.constant is not None else layer.at.text
    if layer.size is not None:
        keys["size"] = layer.size.constant if layer.size.constant is not None else layer.size.text
    keys |= {"member": layer.member} if layer.member else {}
    keys |= {"number": layer.number} if layer.number else {}
    keys |= {"mask": layer.mask} if layer.mask else {}
    keys |= {"parts": list(layer.parts)} if layer.parts else {}
    keys |= {"through": [layer_keys(inner) for inner in layer.through]} if layer.through else {}
    keys |= layer.cipher_keys
    return layer.kind if len(keys) == 1 else keys


def _text_field(layout: list[dict[str, Any]], at: str) -> str:
    """The field of a JSON file that holds the text at a path; it is added where it is not there."""
    at = at.removeprefix(".")
    for element in layout:
        if element.get("field") and str(element.get("at", element["field"])) == at:
            return str(element["field"])
    name = next((step.name for step in reversed(parse_path(at)) if step.name), "text")
    element = {"field": field_name(name), "as": "text", "at": at, "note": "it holds a text itself"}
    with_free_name(element, layout)
    layout.append(element)
    return str(element["field"])


def with_standing(text: bytes, paths: list[str], standing: str = "proven") -> tuple[bytes, list[str]]:
    """A template in which the fields of these paths have another standing, and the paths that changed."""
    yaml = round_trip()
    document = yaml.load(text.decode("utf-8"))
    changed = []
    for path in paths:
        element = _described_at(document, [step.name for step in parse_path(path) if step.name])
        if element is not None and element.get("standing", "guessed") != standing:
            element["standing"] = standing
            changed.append(path)
    if not changed:
        return text, []
    return dumped(yaml, document), changed


def _described_at(document: dict[str, Any], names: list[str]) -> dict[str, Any] | None:
    """The element of a template that a path of names leads to; records that are named elsewhere are followed."""
    for file_name, file in document["files"].items():
        steps = names[1:] if names and names[0] == file_name else names
        found = _inside_layout(file["layout"], steps, document.get("records") or {})
        if found is not None:
            return found
    return None


def _inside_layout(layout: list[dict[str, Any]], names: list[str], records: dict[str, Any]) -> dict[str, Any] | None:
    for element in layout:
        name = element.get("field") or element.get("group") or element.get("rows")
        inner = element.get("layout") or records.get(str(element.get("of") or element.get("record") or ""))
        inner = inner.get("layout") if isinstance(inner, dict) else inner
        if name == names[0] and len(names) == 1:
            return element if "field" in element else None
        if isinstance(inner, list):
            deeper = names[1:] if name == names[0] else names if element.get("flat") else []
            found = _inside_layout(inner, deeper, records) if deeper else None
            if found is not None:
                return found
    return None


def _element(place: Place, name: str) -> dict[str, Any]:
    """The keys of a field for a place: its address and its storage, as they were found."""
    address = Address.at(0) if place.records is not None else place.address
    if address is None:
        if len(ends := sorted(set(place.offsets))) == 2:
            raise EntryError(
                f"this place is at {ends[0]} in some copies and at {ends[1]} in others, as in two banks of which the "
                "newer one counts",
                "nothing was pinned; describe the counter of each bank, and a group with "
                f"at: {ends[1]} if second > first else {ends[0]}",
            )
        raise EntryError("this place moves and no anchor is near", "describe what is in front of it, or sight it again")
    element: dict[str, Any] = {"field": field_name(name)}
    if place.path is not None:
        stored_as = place.stored_as.removesuffix(" in a string").removesuffix(BEHIND_LENGTH)
        kind = {"digits": "number", IN_QUOTES: "number", "true or false": "switch"}.get(stored_as, "text")
        element |= {"as": kind, **address.keys()}
        element |= {"length": "digits"} if BEHIND_LENGTH in place.stored_as else {}
    elif place.stored_as in TEXT_ENCODINGS or place.letters:
        element |= _text(place, address)
    elif place.stored_as in SWITCHES:
        bit = SWITCHES[place.stored_as].low
        element |= {"as": "u8", "switches": {bit: SWITCHED}, **address.keys()}
    elif place.stored_as == "digits" and place.end.room:
        element |= {"as": f"digits{place.end.room}", **address.moved(-place.lead).keys()}
    elif place.stored_as == "digits" and place.end.prefix and address.base == "before":
        element |= {"as": "text", **place.end.keys, **address.keys()}  # as whose length tells where it begins
    elif place.stored_as in NUMBERS:
        element |= {"as": place.stored_as, **address.keys()}
    else:
        raise EntryError(f"templates cannot store {place.stored_as} yet", "choose another place")
    if place.rounding is not None or place.scale != 1 or place.bias:
        element |= _as_shown(place)
    evidence = f"{EXPLAINS}{place.fits} of {place.of} sightings" if place.of else "picked in the text"
    if place.records is not None:
        del element["at"]
    standing = "fits" if place.of and place.fits == place.of else "guessed"
    element |= {"label": name, "note": evidence, "standing": standing}
    return element


def _as_shown(place: Place) -> dict[str, Any]:
    """How the game shows what is stored."""
    keys: dict[str, Any] = {}
    for key, number, plain in (("scale", place.scale, 1), ("bias", place.bias, 0)):
        exact = Fraction(repr(number)) if len(repr(number)) < 12 else Fraction(number).limit_denominator(10_000)
        if exact != plain:
            keys[key] = exact.numerator if exact.denominator == 1 else _decimal(exact)
    if place.rounding is not None:
        keys["rounding"] = place.rounding
    return keys


def _decimal(exact: Fraction) -> float | str:
    return float(exact) if Fraction(repr(float(exact))) == exact else str(exact)


def _length_of(place: Place, element: Mapping[str, Any], layout: list[dict[str, Any]]) -> dict[str, Any]:
    """The keys of the length that is in front of a number in digits."""
    keys: dict[str, Any] = {
        "field": f"{element['field']}{LENGTH}",
        "as": place.end.prefix,
        "length_of": element["field"],
    }
    keys |= {"plus": 1} if place.end.ended_by else {}
    if place.address is not None:
        keys |= place.address.moved(-NUMBERS[place.end.prefix].least_size).keys()
    with_free_name(keys, layout)
    return keys


def _text(place: Place, address: Address) -> dict[str, Any]:
    end = place.end
    if end.prefix:
        address = address.moved(-NUMBERS[end.prefix].least_size)
    elif end.room is None and not end.ended_by:
        raise EntryError(
            "nothing says where this text ends: no length is in front of it and shorter ones are not filled with zeros",
            "describe what is around it in the template first",
        )
    return {"as": "text", "encoding": TEXT_ENCODINGS.get(place.stored_as, "own"), **end.keys, **address.keys()}


def _new_for(place: Place, save: Path, game: str, shared: Shared, taken: Collection[str]) -> bytes:
    kind = place.format if not place.route else "binary"
    shared = shared._replace(beginning=b"") if place.guides is not None else shared  # another save begins with others
    return new_template(save, game, shared, kind, binary=not place.path or bool(place.route), taken=taken)


def file_and_name(path: str, files: Collection[str]) -> tuple[str, str]:
    """The file of a template that a pinned field is in, and its name there; it is the first file where none is said."""
    if path.partition(".")[0] not in files:
        return next(iter(files)), path
    holder, _, name = path.rpartition(".")
    return holder, name


def without_field(text: bytes, path: str) -> bytes | None:
    """A template without a field that was pinned, whatever else was added since; None where no field is left.

    Raises:
        EntryError: there is no such field, or it was not pinned.
        TemplateError: the result would not be a template.
    """
    yaml = round_trip()
    document = yaml.load(text.decode("utf-8"))
    files = document["files"]
    first = next(iter(files))
    holder, name = file_and_name(path, files)
    layout = files[holder]["layout"] if holder in files else []
    element = next((element for element in layout if name in _named_in(element)), None)
    if element is None or not str(_named_in(element)[name].get("note", "")).startswith(EXPLAINS):
        raise EntryError(f"{path} was not pinned", "the template is as it was")
    if len(_named_in(element)) > 1:
        _unname(element["layout"], name)
    else:
        layout.remove(element)
    _leave_runs(layout, name)
    for section in document.get("sections") or []:
        if path in (section.get("fields") or []):
            section["fields"].remove(path)
    document["sections"] = [s for s in document.get("sections") or [] if s.get("fields") != []]
    for inner in reversed(list(files)):
        used = any(str(keys.get("inside", "")).partition(".")[0] == inner for keys in files.values())
        if inner != first and not files[inner]["layout"] and not used:
            _leave_open(files, files.pop(inner))
    layers = [layer for keys in files.values() for layer in keys.get("layers") or [] if isinstance(layer, dict)]
    for keys in files.values():
        _leave_guides(keys["layout"], " ".join(str(layer.get("key_of", "")) for layer in layers))
    if len(files) == 1 and not files[first]["layout"]:
        return None
    return dumped(yaml, document)


def without_value_in_list(text: bytes, path: str) -> bytes | None:
    """A template without a value that was pinned in a list beside another one; without both lists, if it was the only
    one. None where nothing is left.
    """
    yaml = round_trip()
    document = yaml.load(text.decode("utf-8"))
    files = document["files"]
    around, _, step = path.partition("[")
    holder, rows = file_and_name(around, files)
    shown = [section.get("fields") or [] for section in document.get("sections") or []]
    for fields in shown:
        if path in fields:
            fields.remove(path)
    if not any(each.startswith(f"{around}[") for fields in shown for each in fields):
        lists = {rows, step.partition("=")[0]}
        files[holder]["layout"] = [each for each in files[holder]["layout"] if each.get("rows") not in lists]
    document["sections"] = [s for s in document.get("sections") or [] if s.get("fields") != []]
    return dumped(yaml, document) if any(keys["layout"] for keys in files.values()) else None


def _named_in(element: dict[str, Any]) -> dict[str, dict[str, Any]]:
    """An element that is a field, or the fields with a name of a number's bits, by their names."""
    fields = element["layout"] if element.get("word") else [element]
    return {str(each["field"]): each for each in fields if "field" in each and not has_no_name(str(each["field"]))}


def _unname(bits: list[dict[str, Any]], name: str) -> None:
    """Leave the bits of a field without a name, so that those behind them stay in their places."""
    number = next(number for number, each in enumerate(bits) if each["field"] == name)
    first = sum(int(str(each["as"])[1:]) for each in bits[:number])
    other = next(str(each["field"]) for each in bits if each["field"] != name and not has_no_name(str(each["field"])))
    bits[number] = {"field": unnamed_bits(first, other), "as": bits[number]["as"]}


def _leave_open(files: dict[str, Any], taken_out: dict[str, Any]) -> None:
    """Take out what was described for a masked number only: its bytes, and what hid them."""
    holder, _, name = str(taken_out.get("inside", "")).partition(".")
    if not name.endswith(HIDDEN) or holder not in files:
        return
    keys = {layer.get("key_of") for layer in taken_out.get("layers") or [] if isinstance(layer, dict)}
    layout = files[holder]["layout"]
    for element in [each for each in layout if _name_of(each) in {name, *keys}]:
        layout.remove(element)


def _leave_runs(layout: list[dict[str, Any]], name: str) -> None:
    """Take out the length that was in front of a number in digits, and unknown runs with nothing else around them."""
    for element in [each for each in layout if each.get("field") == name + LENGTH and each.get("length_of") == name]:
        layout.remove(element)
    if all(str(each.get("unknown", "")).startswith("unknown_") for each in layout):
        layout.clear()


def _leave_guides(layout: list[dict[str, Any]], keys: str) -> None:
    """Take out the fields that no element is found by any more; `keys` are those of the layers."""
    guides = [each for each in layout if f"({GUIDES})" in str(each.get("note", ""))]
    others = " ".join(str(each.get("at", "")) for each in layout)
    for element in guides:
        if str(element["field"]) not in f"{others} {keys}":
            layout.remove(element)
