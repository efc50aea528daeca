"""Putting a place that was found into a template: as a new field of one that exists, or as the first of a new one."""

from __future__ import annotations

import io
import re
from pathlib import Path
from typing import Any

from faithful_ledger.core.codecs import number_codec, varied_codec
from faithful_ledger.core.errors import EntryError
from faithful_ledger.core.evidence import Place
from faithful_ledger.core.paths import parse_path
from faithful_ledger.core.search import TEXT_ENCODINGS
from faithful_ledger.core.template.loader import parse_template, round_trip

__all__ = ["field_name", "with_place", "with_standing"]

SECTION = "Pinned"
NEW = """\
# Made from sightings; every field says how many of them it explains.
ledger: 1
id: {id}
title: {title}
version: "0.1"
game: {game}

recognise:
  - name: "*{suffix}"
    size: {{least: {size}}}

files:
  save:
    name: "*{suffix}"
    format: {format}
    layout: []

sections: []
"""


def field_name(name: str) -> str:
    """A name for a field out of any words: “Diver's air” becomes diver_s_air."""
    cleaned = re.sub(r"[^a-z0-9]+", "_", name.casefold()).strip("_")
    return cleaned if cleaned[:1].isalpha() else f"field_{cleaned}".rstrip("_")


def with_place(text: bytes | None, place: Place, name: str, save: Path, game: str, size: int) -> tuple[bytes, str]:
    """A template with one field more, and the path of that field. `text` is the template, None where there is none.

    Comments and everything else of the template stay. `save` and `size` describe the file for a new template.

    Raises:
        EntryError: the place moves and has no anchor, or is stored in a way templates do not know yet.
        TemplateError: the result would not be a template; nothing was changed.
    """
    element = _element(place, name)
    yaml = round_trip()
    document = yaml.load((text if text is not None else _new(place, save, game, size)).decode("utf-8"))
    main = next(iter(document["files"].values()))
    taken = {str(part.get("field") or part.get("group") or part.get("repeat")) for part in main["layout"]}
    number, wanted = 2, element["field"]
    while element["field"] in taken:
        element["field"] = f"{wanted}_{number}"
        number += 1
    main["layout"].append(element)
    sections = document.setdefault("sections", [])
    section = next((part for part in sections if part.get("title") == SECTION), None)
    if section is None:
        section = {"title": SECTION, "rows": []}
        sections.append(section)
    section["rows"].append(element["field"])
    out = io.BytesIO()
    yaml.dump(document, out)
    parse_template(out.getvalue(), f"{document['id']}.yaml")
    return out.getvalue(), str(element["field"])


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
    out = io.BytesIO()
    yaml.dump(document, out)
    parse_template(out.getvalue(), f"{document['id']}.yaml")
    return out.getvalue(), changed


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
        name = element.get("field") or element.get("group") or element.get("repeat")
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
    if place.anchor is not None and place.behind is None and place.from_end is None:
        raise EntryError(
            "this place moves and no anchor is near", "describe what lies in front of it, or sight it again"
        )
    if place.layer is not None:
        raise EntryError(
            f"this place lies inside {place.layer}, and templates cannot enter layers yet",
            "mark it in Describe, or unpack it there",
        )
    evidence = f"explains {place.fits} of {place.of} sightings"
    element: dict[str, Any] = {"field": field_name(name)}
    if place.path is not None:
        if "(text)" in place.path:
            raise EntryError("this place lies inside a text, and templates cannot enter texts yet", "")
        kind = "number" if place.stored_as.startswith("digits") else "text"
        element |= {"as": kind, "at": place.path}
    elif number_codec(place.stored_as, "little") is not None or varied_codec(place.stored_as) is not None:
        element |= {"as": place.stored_as, **_address(place, 0)}
    elif place.stored_as in TEXT_ENCODINGS:
        element |= _text(place)
    elif place.stored_as.startswith("bit"):
        element |= {"as": "u8", "switches": {int(place.stored_as[3:]): element["field"]}, **_address(place, 0)}
    else:
        raise EntryError(f"templates cannot store {place.stored_as} yet", "choose another place")
    if place.rounding is not None or place.scale != 1 or place.bias:
        how = {"floor": ", cut off", "nearest": ", rounded"}.get(place.rounding or "", "")
        evidence += f"; stored = shown × {place.scale:g}" + (f" + {place.bias:g}" if place.bias else "") + how
    element |= {"label": name, "note": evidence, "standing": "fits" if place.fits == place.of else "guessed"}
    return element


def _address(place: Place, step: int) -> dict[str, Any]:
    if place.from_end is not None:
        return {"at": step - place.from_end}
    if place.behind is None:
        return {"at": place.offsets[0] + step}
    run, gap = place.behind
    return {"behind": run.hex(" ").upper(), "at": gap + step}


def _text(place: Place) -> dict[str, Any]:
    encoding = TEXT_ENCODINGS[place.stored_as]
    if any("length stands directly in front" in reason for reason in place.reasons):
        return {"as": "text", "length": "u8", "encoding": encoding, **_address(place, -1)}
    longest = max(len(str(value).encode(encoding)) for value in place.values)
    return {"as": "text", "size": longest, "encoding": encoding, **_address(place, 0)}


def _new(place: Place, save: Path, game: str, size: int) -> bytes:
    import json

    return NEW.format(
        id=re.sub(r"[^a-z0-9]+", "-", f"{game}-{save.suffix or save.name}".casefold()).strip("-") or "save",
        title=json.dumps(f"{game}, from sightings"),
        game=json.dumps(game),
        suffix=save.suffix or save.name,
        size=min(size, 1),
        format="json" if place.path is not None else "binary",
    ).encode()
