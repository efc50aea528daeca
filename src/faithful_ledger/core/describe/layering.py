"""Layers go into a template: what was found, or tried by hand, becomes a file of the template inside another one."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from faithful_ledger.core.describe.placing import UNCHANGED, free_name
from faithful_ledger.core.errors import EntryError
from faithful_ledger.core.layers import SCRAMBLINGS, STREAMS, LayerSpec
from faithful_ledger.core.template.extend import layer_keys
from faithful_ledger.core.template.model import Template
from faithful_ledger.core.template.names import field_name
from faithful_ledger.core.template.rewriting import YamlText

__all__ = ["declare", "declare_beside", "hold_in_rows", "leave_off"]


def declare(
    text: YamlText, template: Template, inside: str, layers: Sequence[LayerSpec], kind: str, part_size: int = 0
) -> str:
    """Describe what is inside a file, or a field of one, as a file of the template of a format; parts that records hold
    have a size. Returns its name.

    Raises:
        EntryError: it is described already.
    """
    files = text.value(("files",))
    spelled = [layer_keys(layer) for layer in layers]
    known = next(
        (n for n, keys in files.items() if keys.get("inside") == inside and keys.get("layers", []) == spelled), None
    )
    if known is not None:
        raise EntryError(f"{known} describes this payload already", UNCHANGED)
    name = free_name(template.main.root, _wanted_name(inside, layers), list(files))
    made: dict[str, Any] = {"inside": inside} | ({"part_size": part_size} if part_size else {})
    made |= {"layers": spelled} if layers else {}
    made |= {"format": kind} if kind != "binary" else {}
    # The way to another payload may lead through this one: both are put back together only if the template says so.
    through = [
        (other, keys["layers"][len(spelled) :])
        for other, keys in files.items()
        if spelled and keys.get("inside") == inside and keys.get("layers", [])[: len(spelled)] == spelled
    ]
    text.add_block(("files",), name, {**made, "layout": []}, before=through[0][0] if through else "")
    for other, rest in through:
        text.set(("files", other, "inside"), name)
        text.set(("files", other, "layers"), rest)
    return name


def declare_beside(text: YamlText, template: Template, name: str, kind: str) -> str:
    """Describe a file beside the main one, or another one of its folder, as a file of the template of a format. Returns
    what it is called there.
    """
    files = text.value(("files",))
    wanted = field_name(name.replace("*", "").strip(".").partition(".")[0] or name.rpartition(".")[2])
    called = free_name(template.main.root, wanted, list(files))
    made: dict[str, Any] = {"name": name} | ({"format": kind} if kind != "binary" else {})
    text.add_block(("files",), called, {**made, "layout": []})
    return called


def _wanted_name(inside: str, layers: Sequence[LayerSpec]) -> str:
    """What a payload is called: after the field that holds it, the member of an archive, or its last layer."""
    if not layers:
        return f"{inside.rpartition('.')[2]}_text"
    last = layers[-1]
    member = last.member.rpartition("/")[2].partition(".")[0] if last.member else ""
    if member.isidentifier() and (last.kind in STREAMS or member != "unpacked"):
        return member.lower()
    return "plain" if last.kind in SCRAMBLINGS else "unpacked" if last.kind in STREAMS else "inside"


def hold_in_rows(text: YamlText, name: str, held_by: str, part_size: int) -> None:
    """Say of a payload that was all streams of a kind that each record holds one of them, in parts of a size."""
    text.set(("files", name, "inside"), held_by)
    if part_size:
        text.set(("files", name, "part_size"), part_size)


def leave_off(text: YamlText, template: Template, name: str, *, left: bool) -> None:
    """Say of the outermost layer of a payload that it is left off when the save is posted, or put back."""
    spec = template.files[name]
    if not spec.layers:
        raise EntryError(f"{name} is in no layer", UNCHANGED)
    keys = layer_keys(spec.layers[0])
    made: dict[str, Any] = {"layer": keys} if isinstance(keys, str) else dict(keys)
    if left:
        made["put_back"] = False
    text.put(("files", name, "layers", 0), made if len(made) > 1 else made["layer"])
