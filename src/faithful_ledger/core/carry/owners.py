"""Somebody else's save under one's own owner number, or its payload in one's own wrapper.

A template says with `means` which fields are the `title`, the `region` and the `owner`. Title and region are compared
first: a game refuses a save of another region whoever owns it, so then only the payload can be carried.
"""

from __future__ import annotations

from typing import Literal

from faithful_ledger.core.binding import FieldNode
from faithful_ledger.core.entries import Entry
from faithful_ledger.core.errors import EntryError, Refused
from faithful_ledger.core.save import Save, value_entry
from faithful_ledger.core.typed_bytes import enter_whole
from faithful_ledger.core.unwrapping import payload_of

__all__ = ["carry_owner", "carry_payload"]

Meaning = Literal["title", "region", "owner"]


INSTEAD = "carry only its payload into your own wrapper"


def carry_owner(save: Save, own: Save, instead: str = INSTEAD) -> list[Entry]:
    """Enter the owner of `own` in a save; seals and signatures follow when it is posted. `instead` is what a user does
    where the regions differ.

    Raises:
        Refused: they are of different titles or regions.
        EntryError: the templates do not say who the owner is, or it is the same already.
    """
    _compare(save, own, "title", "they are of different games")
    _compare(save, own, "region", instead)
    wanted = _only(own, "owner")
    fields = _fields(save, "owner")
    entries = [value_entry(node, wanted.value) for node in fields]
    entries = [entry for entry in entries if entry.data != entry.node.raw]
    if not entries:
        raise EntryError(f"{save.path.name} has your owner already ({_text(wanted)})", "nothing was written")
    save.tape.put(entries)
    return entries


def carry_payload(save: Save, own: Save) -> None:
    """Enter the payloads of a save in one's `own`, which keeps its wrapper; what the wrapper repeats follows.

    Raises:
        Refused: they are of different titles.
        EntryError: the template has no payload, or both are the same already.
    """
    _compare(save, own, "title", "they are of different games")
    names = [file.name for file in save.files.values() if file.inside and not save.files[file.inside].inside]
    if not names:
        what = f"{save.path.name} has no payload that its template tells from its wrapper"
        raise EntryError(what, "nothing was written")
    for name in names:
        data, source = payload_of(save, name).data, own.files[name].source
        if data != bytes(source.read(0, source.size)):
            enter_whole(own, name, data)
    if not len(own.tape):
        raise EntryError(f"{own.path.name} has this payload already", "nothing was written")


def _compare(save: Save, own: Save, meaning: Meaning, remedy: str) -> None:
    if save.template is None or own.template is None or save.template.id != own.template.id:
        names = (each.template.id if each.template is not None else "no template" for each in (save, own))
        what = f"the two saves are described by {' and '.join(names)}"
        raise EntryError(what, "nothing was written; name two of one game")
    mine = {_text(node) for node in _fields(own, meaning, may_lack=True)}
    for node in _fields(save, meaning, may_lack=True) if mine else ():
        if _text(node) not in mine:
            what = f"{save.path} is of {meaning} {_text(node)}, and {own.path} of {', '.join(sorted(mine))}"
            raise Refused(what, f"nothing was written; {remedy}")


def _fields(save: Save, meaning: Meaning, *, may_lack: bool = False) -> list[FieldNode]:
    if save.problem is not None:
        raise save.problem
    found = [node for node in save.all_fields() if node.spec.means == meaning]
    if not found and not may_lack:
        id_ = save.template.id if save.template is not None else ""
        remedy = f"nothing was written; give a field of the template `means: {meaning}`"
        raise EntryError(f"the template {id_} does not say which field is the {meaning}", remedy)
    return found


def _only(save: Save, meaning: Meaning) -> FieldNode:
    """The field of a meaning; where there are several, they say the same.

    Raises:
        EntryError: they do not.
    """
    found = _fields(save, meaning)
    if len({_text(node) for node in found}) > 1:
        said = ", ".join(f"{node.path} says {_text(node)}" for node in found)
        raise EntryError(f"{save.path.name} has more than one {meaning}: {said}", "nothing was written")
    return found[0]


def _text(node: FieldNode) -> str:
    return node.spec.storage.to_text(node.value)
