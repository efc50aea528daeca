"""What a pin changes in a template beside the field that it puts in, and what goes with it when it is taken back.

What cannot be done is left as it is: a template in which less follows is as good for the save that was pinned.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from contextlib import suppress
from functools import partial
from itertools import chain, tee

from faithful_ledger.core.binding import BoundFile, FieldNode, GroupNode, RowsNode
from faithful_ledger.core.describe.covering import let_cover
from faithful_ledger.core.describe.draft import Draft, changed
from faithful_ledger.core.describe.embedded import let_be_in_texts
from faithful_ledger.core.describe.filling import let_keep_size
from faithful_ledger.core.describe.flow import let_follow, let_stand, varies
from faithful_ledger.core.describe.leading import KEY_NAME, counted_by, leading, let_belong, let_lead, text_in_records
from faithful_ledger.core.describe.placing import free_name
from faithful_ledger.core.describe.shaping import sections_of
from faithful_ledger.core.describe.versions import let_expect
from faithful_ledger.core.errors import LedgerError
from faithful_ledger.core.evidence.place import Place
from faithful_ledger.core.save import Save
from faithful_ledger.core.template.extend import file_and_name
from faithful_ledger.core.template.model import PINNED, ElementSpec, FieldSpec, GroupSpec
from faithful_ledger.core.template.names import field_name

__all__ = [
    "flowing",
    "follows",
    "named_in_records",
    "named_where_needed",
    "path_after",
    "path_by_key",
    "standing",
    "stays_nowhere",
    "without_leading",
]


def flowing(text: bytes, save: Save, others: Iterable[Mapping[str, BoundFile]], place: Place | None = None) -> bytes:
    """A template in which what is behind elements whose size varies moves with them, where that can be said, and where
    `others`, the files of other saves that it fits, do not say something else. The last element is at a `place` that
    moves.
    """
    # Bound once, where one of them asks for them.
    for_texts, for_lead, for_runs, for_size, for_version = tee(others, 5)

    def within(draft: Draft) -> None:
        let_be_in_texts(draft, for_texts)

    def lead(draft: Draft) -> None:
        let_lead(draft, for_lead, place)

    def belong(draft: Draft) -> None:
        let_belong(draft, for_runs)

    def follow(draft: Draft) -> None:
        for file in draft.save.files.values():
            if file.bound is not None and file.bound.spec.format == "binary":
                let_follow(draft.text, file.bound)
        let_keep_size(draft, for_size)

    def expect(draft: Draft) -> None:
        let_expect(draft, for_version)

    for act in (within, lead, belong, follow, let_cover, expect):
        with suppress(LedgerError):
            text = changed(text, save, act)
    return text


def without_leading(text: bytes, save: Save, place: Place | None = None) -> bytes:
    """A template without the texts that were only described because others follow them, or that at a place."""
    with suppress(LedgerError):
        while (path := leading(Draft(text, save).save, place)) is not None:
            text = changed(standing(text, save, path), save, partial(_remove, path=path))
    return text


def _remove(draft: Draft, path: str) -> None:
    """Remove an element, with the table of records on the Edit sheet; their number says nothing of them any more."""
    sections = sections_of(draft.text)
    for number in reversed([number for number, section in enumerate(sections) if section.get("table") == path]):
        draft.text.remove(("sections",), number)
        draft.read_again()
    node = draft.node(path)
    counted = counted_by(node)
    if counted is not None and counted.constant is None:
        draft.set(counted.text, {"count_of": None} if isinstance(node, RowsNode) else {"length_of": None})
        draft.read_again()
    draft.remove(path)


def stays_nowhere(place: Place) -> bool:
    """Whether a place of a binary file moves, and nothing near it stays."""
    return place.address is None and place.records is None and not place.route and place.format == "binary"


def follows(text: bytes, save: Save, path: str) -> bool:
    """Whether a field is found by where what is in front of it ends."""
    (node,) = Draft(text, save).save.fields(path)
    return node.record is not None or node.spec.address.base == "next"


def named_in_records(text: bytes, save: Save, place: Place, name: str) -> tuple[bytes, str] | None:
    """A template in which the text of records that is at a place has a name, and its path; None where none is there."""
    found = text_in_records(Draft(text, save).save, place)
    if found is None:
        return None
    named = field_name(name)

    def act(draft: Draft) -> None:
        draft.name_text(found.path, named, {"label": name, "standing": "fits"})

    return changed(text, save, act), f"{found.path.rpartition('.')[0]}.{named}"


def named_where_needed(text: bytes, save: Save, place: Place, name: str) -> tuple[bytes, str] | None:
    """A template in which the text at a place that something needs has a name, and its path; None where none is there
    that could not go.
    """
    path = leading(Draft(text, save).save, place)
    if path is None:
        return None
    named = field_name(name)

    def act(draft: Draft) -> None:
        draft.name_text(path, named, {"label": name, "standing": "fits"})
        draft.show_in(named, PINNED)

    return changed(text, save, act), named


def without_name_in_records(text: bytes, save: Save, path: str) -> bytes | None:
    """A template in which a field of records is what it was before it was pinned, a text without a name, or unknown;
    None where nothing is left that has one.
    """

    def act(draft: Draft) -> None:
        node = draft.node(path)
        if varies(node) and node.parent is not None and isinstance(holder := node.parent.spec, GroupSpec):
            draft.name_text(path, free_name(holder, "text_1"), {"label": None, "standing": None})
        else:
            draft.remove(path)

    left = without_leading(changed(text, save, act), save)
    described = (file.root.layout for file in Draft(left, save).template.files.values())
    return left if any(map(_is_named, chain.from_iterable(described))) else None


def _is_named(spec: ElementSpec) -> bool:
    return not isinstance(spec, FieldSpec) or not spec.unknown


def path_after(before: bytes, after: bytes, save: Save, path: str) -> str:
    """The path of a field after a change of the template: one that became part of records has another one, by their key
    if they have one, and may be narrower; one that became part of a text is in another file.
    """
    (node,) = Draft(before, save).save.fields(path)
    changed_save = Draft(after, save).save
    with suppress(LedgerError):
        if [(each.spec.name, each.start) for each in changed_save.fields(path)] == [(node.spec.name, node.start)]:
            return path
    there = [each for each in changed_save.all_fields() if each.spec.name == node.spec.name]
    within = (path_by_key(each) for each in there if node.start <= each.start and each.end <= node.end)
    inside = (each.path for each in there if each.spec.note == node.spec.note and each.file != node.file)
    return next(chain(within, inside), path)


def path_by_key(node: FieldNode) -> str:
    """The path of a field; in a record by the number that tells it from all others."""
    record = node.parent
    members = record.children if isinstance(record, GroupNode) else []
    key = next((each for each in members if each.spec.name == KEY_NAME), None)
    if record is None or not isinstance(key, FieldNode) or key is node or not record.path.endswith("]"):
        return node.path
    return f"{record.path.rpartition('[')[0]}[{KEY_NAME}={key.value}].{node.spec.name}"


def standing(text: bytes, save: Save, path: str) -> bytes:
    """A template in which nothing is found by the end of a field, which may go then."""

    def act(draft: Draft) -> None:
        file, name = file_and_name(path, draft.template.files)
        if not draft.is_text(file):
            let_stand(draft.text, draft.file(file), name)

    with suppress(LedgerError):
        return changed(text, save, act)
    return text
