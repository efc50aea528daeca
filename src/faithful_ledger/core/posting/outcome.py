"""What is wrong with a result: it is bound as a stranger would bind it, and what does not hold there is gathered."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress

from faithful_ledger.core.balance import name_findings, rule_findings, seal_states, states_elsewhere, unusual
from faithful_ledger.core.binding import BoundFile, FieldNode, GroupNode, Node, RowsNode, bind_files
from faithful_ledger.core.binding.followers import SealState, WorkedOut, followers
from faithful_ledger.core.binding.spans import field_at
from faithful_ledger.core.edits import Cause, Replacement
from faithful_ledger.core.errors import AddressError, EntryError, LedgerError, StreamGrows, place
from faithful_ledger.core.formats import looks_like_text
from faithful_ledger.core.layers.archives import ARCHIVES
from faithful_ledger.core.layers.sqlite_tables import SQLITE
from faithful_ledger.core.outline import outlined
from faithful_ledger.core.posting.plan import FilePlan, Plan
from faithful_ledger.core.posting.twins import twins
from faithful_ledger.core.rules import Finding, audit, double_keys, keyed_rows
from faithful_ledger.core.rules.over_rows import row_findings
from faithful_ledger.core.save import Save, SaveFile
from faithful_ledger.core.source import Source, same_bytes
from faithful_ledger.core.storage import NUMBERS, FixedText, PrefixedText, Value
from faithful_ledger.core.template import Template

__all__ = ["check_result", "shown_then"]

ENTERED = ("entry", "rule")  # kinds of causes: what was typed, and what rules make follow
NEAR = 16  # bytes in front of a text and behind it
FEW = 64  # changed spans, around which alone keys are compared
WIDE, FIRST, HEADER = 4, 16, 64  # bytes of a number, and offsets at which shorter ones and these are lengths
LARGE = 1 << 12  # a number that is hardly anything else
MOST_SHOWN = 8  # values that one path to look for stands for


def _moving(plan: Plan) -> Iterator[Finding]:
    """A word about bytes that came in or went without a field: what is behind them moves, and numbers may tell where.

    Those are bytes that were typed, and packed streams that take more or fewer bytes than before.
    """
    typed = {Cause("entry", entry.path) for entry in plan.entries if entry.is_bytes}
    for file in plan.files:
        if _finds_its_places(file, plan):
            continue
        root = file.file.bound.root if file.file.bound is not None else None
        for part in file.patched.replacements:
            if not part.grown:
                continue
            whole = (part.start, part.end) == (0, file.file.source.size)
            entered = next((cause for cause in part.causes if cause in typed), None)
            packed = any(cause.kind == "layer" for cause in part.causes)
            layer = packed and not WorkedOut(root).has_length_over(part.start, part.end)
            if not whole and (entered is not None or layer):
                suspects = _suspects(file, part)
                if entered is None and not suspects and part.end == file.file.source.size:
                    continue  # nothing is behind it, and what is in front is renewed
                text = f"everything behind {place(part.start)} moves by {part.grown:+d}{suspects}"
                yield Finding(entered.about if entered is not None else file.file.name, "warning", text)


def _refuse_stale(plan: Plan) -> None:
    """Refuse a value that takes another size where a number in front looks like the length of what it is in, or like an
    offset behind it, and no field says what that number is.

    Raises:
        StreamGrows: there is one.
    """
    typed = {entry.path for entry in plan.entries if entry.is_bytes}
    for file in plan.files:
        bound = file.file.bound
        if not file.patched.moves or (bound is not None and bound.spec.keeps_size):
            continue
        if bound is None or bound.document.knows_ends:
            _refuse_stale_head(file)
        if bound is None or _finds_its_places(file, plan):
            continue
        for part in file.patched.replacements:
            path = next((cause.about for cause in part.causes if cause.kind in ENTERED), "")
            if not path or not part.grown or path in typed:
                continue
            streams = [start for _, _, starts in _packed_in(file, plan) for start in starts if start >= part.end]
            for at, name, words in _looks_stale(bound, part, streams):
                grown = f"{abs(part.grown)} bytes {'more' if part.grown > 0 else 'less'}"
                raise StreamGrows(
                    f"{path} would take {grown}, and the {name} at {place(at)} looks like {words}, which the template "
                    "does not describe",
                    "nothing was written; find the seals, describe it (length_of, offset_of), or enter a value as long "
                    "as the old one",
                )
            for inside, at, name in _counting_from(file, part, plan):
                raise StreamGrows(
                    f"{path} would take another size, and the {name} at {place(at)} of {inside} behind it looks like "
                    f"an offset that counts from the beginning of {file.file.name}",
                    "nothing was written; enter a value as long as the old one",
                )


def _refuse_stale_head(file: FilePlan) -> None:
    """Refuse a text that takes another size where its first line says the present one.

    Raises:
        StreamGrows: it does.
    """
    from faithful_ledger.core.profile.lengths import length_in_head

    found = length_in_head(file.file.source)
    if found is not None and not any(
        part.start < found[1] and found[0] < part.end for part in file.patched.replacements
    ):
        raise StreamGrows(
            f"{file.file.path.name} would take another size, and the number at {place(found[0])} in its first line "
            "looks like its length",
            "nothing was written; enter a value as long as the old one",
        )


def _counting_from(file: FilePlan, part: Replacement, plan: Plan) -> Iterator[tuple[str, int, str]]:
    """Offsets in packed payloads behind a replaced span that count from the beginning of the file around: in which of
    them, where, and how stored.
    """
    from faithful_ledger.core.profile.lengths import offsets_within

    for name, source, starts in _packed_in(file, plan):
        found = offsets_within(source, starts[0]) if part.end <= starts[0] else None
        if found is not None:
            yield name, *found


def _packed_in(file: FilePlan, plan: Plan) -> Iterator[tuple[str, Source, list[int]]]:
    """What is packed in streams of a file: what it is called, its bytes, and where each of its streams begins."""
    from faithful_ledger.core.wrapping import Streams

    for other in plan.files:
        bound = other.file.bound
        if bound is None or bound.unwrapped is None or other.file.inside != file.file.name:
            continue
        step = bound.unwrapped.steps[0]
        if isinstance(step, Streams):
            yield other.file.name, bound.source, [stream.offset for stream in step.streams]


def _refuse_left_behind(plan: Plan, bound: Mapping[str, BoundFile]) -> None:
    """Refuse a value that takes another size where a field behind it is described at an offset that stays: it would be
    read from other bytes, or a seal written over them.

    Raises:
        StreamGrows: there is one.
    """
    put_right = {renewal.node.path for file in plan.files for renewal in file.renewals}
    put_right |= {entry.path for entry in (*plan.entries, *plan.followers)}
    for file in plan.files:
        before, after = file.file.bound, bound.get(file.file.name)
        parts = [part for part in file.patched.replacements if part.grown]
        if before is None or after is None or not parts or before.document.knows_ends:
            continue
        now = {node.path: node for node in after.root.children if isinstance(node, FieldNode)}
        for node in before.root.children:
            if not isinstance(node, FieldNode) or node.spec.unknown or node.path not in now:
                continue
            span = node.spec.seal.span if node.spec.seal is not None and not node.spec.of_file else None
            if span is not None and any(_is_entered(part) and part.end <= span[0] for part in parts):
                raise StreamGrows(
                    f"{node.path} covers what is from {place(span[0])} on, and other bytes would be there",
                    "nothing was written; describe what is between, so that the seal covers elements, or enter a value "
                    "as long as the old one",
                )
            in_front = (cause for part in parts if part.end <= node.start for cause in part.causes)
            path = next((cause.about for cause in in_front if cause.kind in ENTERED), "")
            if not path:
                continue
            if node.spec.seal is not None:
                stays = now[node.path].start != file.patched.moved(node.start, behind=True)
            else:
                stays = node.path not in put_right and now[node.path].value != node.value
            if stays:
                raise StreamGrows(
                    f"{path} would take another size, and {node.path} at {place(node.start)} is described at an offset "
                    "that stays: other bytes would be there",
                    "nothing was written; describe what is between them, so that it follows, or enter one as long as "
                    "the old one",
                )


def _refuse_zeros_in_text(plan: Plan) -> None:
    """Refuse a shorter text that zeros would fill up where there is nothing but letters around it: it is not in a
    buffer, and what says how long it is, is not described.

    Raises:
        EntryError: there is one.
    """
    for entry in plan.entries:
        node = entry.node
        if not isinstance(node, FieldNode) or not isinstance(node.spec.storage, FixedText):
            continue
        source = node.source
        around = bytes(source.read(max(node.start - NEAR, 0), node.start))
        around += bytes(source.read(node.end, min(node.end + NEAR, source.size)))
        is_text = len(around) >= NEAR and looks_like_text(around) and b"\0" not in around
        if is_text and entry.data.endswith(b"\0") and not node.raw.endswith(b"\0"):
            raise EntryError(
                f"{entry.path} is shorter than the {node.size} bytes there, and zeros would come into a text",
                "nothing was written; describe what says how long it is, or enter one as long as the old one",
            )


def _is_entered(part: Replacement) -> bool:
    return any(cause.kind in ENTERED for cause in part.causes)


def _refuse_uneven(changed: list[FilePlan], bound: Mapping[str, BoundFile]) -> None:
    """Refuse a value that takes another size where a seal counts words, or sums them, and what it covers would no
    longer be a multiple of one.

    Raises:
        StreamGrows: there is such a seal.
    """
    for file in changed:
        before, after = file.file.bound, bound.get(file.file.name)
        if before is None or after is None or not file.patched.moves:
            continue
        was = {each.node.path: each.needs for each in followers(before.root) if each.kind == "seal"}
        for each in followers(after.root):
            seal = each.node.spec.seal if each.kind == "seal" else None
            if seal is None or seal.algorithm.word == 1 or seal.unpacked or each.node.path not in was:
                continue
            word, (start, end), (low, high) = seal.algorithm.word, each.needs, was[each.node.path]
            if (end - start) % word and not (high - low) % word:
                raise StreamGrows(
                    f"{each.node.path} counts in words of {word} bytes, and {end - start} bytes are not a multiple of "
                    "that",
                    "nothing was written; enter a value whose size differs by whole words",
                )


def _says_something(node: Node) -> bool:
    """Whether an element describes its bytes and those between its parts: no unknown run, and no mere frame."""
    if isinstance(node, FieldNode):
        return not node.spec.unknown
    return isinstance(node, RowsNode) or (isinstance(node, GroupNode) and not node.spec.is_frame)


def _known_spans(holder: GroupNode) -> Iterator[tuple[int, int]]:
    """Where the elements of a group are that say something, also of those within it that only frame others."""
    for child in holder.children:
        if isinstance(child, GroupNode) and child.spec.flat:
            yield from _known_spans(child)
        elif _says_something(child):
            yield child.start, child.end


def _looks_stale(bound: BoundFile, part: Replacement, streams: Sequence[int]) -> Iterator[tuple[int, str, str]]:
    """Numbers in front of a replaced span that would have to change with its size, as it is in front of packed
    `streams`: where, how stored, and what they look like. Those that a field describes are known to be something else,
    or put right.
    """
    from faithful_ledger.core.profile.enclosing import lengths_around, lengths_up_to, offsets_to, text_around
    from faithful_ledger.core.profile.lengths import (
        container_of,
        entry_of,
        is_flatbuffer,
        offsets_behind,
        said_turned,
        suspected_lengths,
    )

    known = list(_known_spans(bound.root))

    def is_known(start: int, end: int) -> bool:
        return any(low < end and start < high for low, high in known)

    for at, name in suspected_lengths(bound.source, part.start):
        size = NUMBERS[name].least_size
        value = NUMBERS[name].decode(bytes(bound.source.read(at, at + size)))
        near = at % 2 == 0 if at < FIRST else at % size == 0 and size >= WIDE and at < HEADER
        if not is_known(at, at + size) and (near or (size >= WIDE and value >= LARGE)):
            yield at, name, "the length of what it is in"
    text = field_at(bound.root, part.start)
    if text is not None and isinstance(text.spec.storage, PrefixedText):
        turned = said_turned(bound.source, text.start, len(text.raw) - text.spec.storage.least_size)
        if turned is not None and not is_known(turned[0], text.start):
            yield *turned, "its length with all bits turned"
    if is_flatbuffer(bound.source) and not is_known(0, WIDE):
        yield 0, "u32le", "the first offset of a FlatBuffer"
    offsets = offsets_behind(bound.source, part.start)
    if offsets and not is_known(offsets[0][0], offsets[-1][0] + WIDE):
        yield *offsets[0], "the first of some offsets"
    elif offsets and (unknown := next((each for each in offsets if not is_known(each[0], each[0] + WIDE)), None)):
        yield *unknown, "one of some offsets"
    container = container_of(bound.source, part.start, part.end)
    if container is not None and not is_known(container[0], container[0] + 4):
        yield *container, "the length of the container it is in"
    begins = [start for each in followers(bound.root) if each.kind == "seal" and (start := each.needs[0]) >= part.end]
    begins += streams
    for at, name in offsets_to(bound.source, part.start, begins):
        if not is_known(at, at + NUMBERS[name].least_size):
            yield at, name, "the offset of what is behind it"
    for at, name in lengths_up_to(bound.source, part.start, begins, known):
        if not is_known(at, at + NUMBERS[name].least_size):
            yield at, name, "the length of what is in front of what a seal covers"
    for at, name in lengths_around(bound.source, part.start, part.end):
        if not is_known(at, at + 1):
            yield at, name, "the length of the block it is in"
    around = text_around(bound.source, part.start, part.end)
    if around is not None and not is_known(around[0], around[0] + NUMBERS[around[1]].least_size):
        yield *around, "the length of the text it is in"
    entry = entry_of(bound.source, part.start, part.end)
    if entry is not None and not is_known(*entry[:2]):
        yield entry[0], entry[2], "part of the entry of a directory"


def _finds_its_places(file: FilePlan, plan: Plan) -> bool:
    """Whether nothing in a file says where other bytes are but what is put right: a text, an archive, a database, a
    format whose values say themselves what they are.
    """
    from faithful_ledger.core.layers.tagged import TAGGED

    bound = file.file.bound
    if bound is not None and bound.document.knows_ends:
        return True
    inside = (f.file.bound for f in plan.files if f.file.inside == file.file.name and f.changes)
    kinds = {each.spec.layers[0].kind for each in inside if each is not None and each.spec.layers}
    return bool(kinds) and kinds <= {*ARCHIVES, SQLITE, *TAGGED}


def _lost(save: Save, result: Save) -> Iterator[Finding]:
    """Elements that are found now, by bytes that an entry changes."""
    known = {error.path for error in save.missing}
    for error in result.missing:
        if error.path not in known:
            yield Finding(error.path, "warning", f"it would not be found again: {error.what}")


def _new_errors(save: Save, result: Save, changed: list[FilePlan]) -> Iterator[Finding]:
    """Values that make no sense then and are not wrong now: after an entry that steers which elements are there."""
    before = {finding.path for finding in save.findings if finding.level == "error"}
    for file in changed:
        after = result.files[file.file.name].bound
        for finding in audit(after.root) if after is not None else ():
            if finding.level == "error" and finding.path not in before:
                yield finding


def _doubled(save: Save, result: Save, changed: list[FilePlan], *, anywhere: bool) -> Iterator[Finding]:
    """Records that entries give the same key as another one; those that had it before are not the entries' mistake.
    They are around the changed bytes, or `anywhere`.
    """
    for file in changed:
        before, after = file.file.bound, result.files[file.file.name].bound
        if before is None or after is None:
            continue
        parts = file.patched.replacements
        old = [(item.start, item.end) for item in parts]
        new = [(at, at + len(item.data)) for item, at in zip(parts, file.patched.starts, strict=True)]
        is_near = not anywhere and len(parts) <= FEW
        known = {each for rows in keyed_rows(before.root, old if is_near else None) for each in double_keys(rows)}
        for rows_node in keyed_rows(after.root, new if is_near else None):
            yield from (finding._replace(level="error") for finding in double_keys(rows_node) if finding not in known)


def _suspects(file: FilePlan, part: Replacement) -> str:
    """Which numbers look like lengths over a replaced span and are not renewed."""
    from faithful_ledger.core.profile.lengths import suspected_lengths

    renewed = {offset for renewal in file.renewals for offset in range(renewal.node.start, renewal.node.end)}
    found = suspected_lengths(file.file.source, part.start, part.end - part.start)
    suspects = [f"{place(at)} ({name})" for at, name in found if at not in renewed]
    if suspects:
        return (
            f"; these numbers look like lengths that reach over it and no template renews them: {', '.join(suspects)}"
        )
    return "" if renewed else "; no template knows which lengths and offsets follow"


def _came_out(file: FilePlan, again: BoundFile) -> bool:
    """Whether a payload that was put back into its layers comes out of them as it went in."""
    from faithful_ledger.core.wrapping.in_place import InPlace
    from faithful_ledger.core.wrapping.steps import Hidden

    before = file.file.bound.unwrapped if file.file.bound is not None else None
    if before is not None and again.unwrapped is not None:
        text, after = before.steps[-1], again.unwrapped.steps[-1]
        if isinstance(text, InPlace) and isinstance(after, InPlace):
            return text.agrees(file.patched, after)
        if isinstance(text, Hidden) and isinstance(after, Hidden) and text.is_of_records:
            of_records = [step for step in before.steps if isinstance(step, Hidden) and step.is_of_records]
            return all(step.agrees(file.patched, after) for step in of_records)
    return same_bytes(again.source, file.patched)


def check_result(save: Save, plan: Plan) -> None:
    """Bind what will be written, as a stranger would, and gather what does not hold there."""
    changed = [file for file in plan.files if file.changes]
    plan.findings = list(_moving(plan))
    _refuse_stale(plan)
    if changed and save.template is None and save.outline is not None:
        _check_texts(save, plan)
    if not changed or save.template is None:
        return
    bound = _bound_result(save.template, plan)
    files = {}
    for file in plan.files:
        again = bound.get(file.file.name)
        if again is not None and again.problem is not None:
            raise EntryError(
                f"{file.file.path.name} would no longer fit its template: {again.problem.what}",
                "nothing was written; undo the last entry",
            )
        if again is not None and file.file.inside and not _came_out(file, again):
            raise EntryError(
                f"{file.file.name} would not come out of its layers as it went in",
                "nothing was written; the layers in the template are not those of the game",
            )
        source = again.source if again is not None else file.patched
        files[file.file.name] = SaveFile(file.file.name, file.file.path, source, None, again)
    result = outlined(Save(save.template, files, save.folder, save.roots))
    entries = [*plan.entries, *plan.followers]
    sealed = [renewal.node for file in changed for renewal in file.renewals if renewal.node.spec.seal is not None]
    steered = {node.spec.name for node in (*sealed, *(entry.node for entry in entries))}
    is_rebuilt, is_shaped = (any(map(test, steered)) for test in (save.template.steers, save.template.shapes))
    for entry in entries:
        # What moves nothing is where it was, and reads back as it was made, if nothing steers the elements.
        if entry.is_bytes or not (entry.moves or is_rebuilt):
            continue
        if lost := next((error for error in result.missing if error.path == entry.path), None):
            raise EntryError(f"{entry.path} would not be found again: {lost.what}", "nothing was written")
        (node,) = result.nodes(entry.path)
        if not isinstance(node, FieldNode | RowsNode) or not entry.holds(node):
            raise EntryError(
                f"{entry.path} would not read back as {entry.new_text}",
                "the template does not say what this value's size depends on; nothing was written",
            )
    _refuse_zeros_in_text(plan)
    _refuse_left_behind(plan, bound)
    _refuse_uneven(changed, bound)
    plan.steps, plan.look_for = save.template.steps, list(shown_then(save.template, result))
    plan.findings += rule_findings(save.template, result.fields)
    plan.findings += name_findings(save.template, result.fields, result.paths)
    plan.findings += row_findings(save.template.row_rules, result.nodes)
    plan.findings += _lost(save, result)
    for file in changed:
        if file.file.bound is not None:
            plan.findings += twins(plan.entries, file.file.bound)
            plan.findings += unusual(file.file.bound)
    anywhere = is_shaped or any(entry.is_bytes for entry in entries)
    plan.findings += _doubled(save, result, changed, anywhere=anywhere)
    if is_shaped:
        plan.findings += _new_errors(save, result, changed)
    if save.renew_broken is True:
        _check_seals(save, plan, bound)


def _check_texts(save: Save, plan: Plan) -> None:
    """Read the texts of a save without a template anew from what will be written."""
    files = {
        file.file.name: SaveFile(file.file.name, file.file.path, file.patched, None, None)
        for file in plan.files
        if not file.file.inside
    }
    chosen = save.outline.text_format if save.outline is not None else ""
    result = outlined(Save(None, files, save.folder, save.roots), chosen)
    if result.outline is None or result.outline.problem is not None:
        why = result.outline.problem.what if result.outline is not None and result.outline.problem is not None else ""
        raise EntryError(
            f"{save.path.name} would no longer be a text of its format{f': {why}' if why else ''}",
            "nothing was written; withdraw the last entry",
        )
    for entry in plan.entries:
        if entry.is_bytes:
            continue
        try:
            (node,) = result.nodes(entry.path)
        except AddressError as error:
            raise EntryError(f"{entry.path} would not be found again: {error.what}", "nothing was written") from error
        if not isinstance(node, FieldNode) or not _says(node, entry.new, entry.new_text):
            raise EntryError(f"{entry.path} would not read back as {entry.new_text}", "nothing was written")


def shown_then(template: Template, result: Save) -> Iterator[tuple[str, str]]:
    """What the game should show after the posting: the titles of fields and their values."""
    for path in template.steps.look_for:
        with suppress(LedgerError):
            for node in result.fields(path)[:MOST_SHOWN]:
                yield result.title(node), node.spec.storage.to_text(node.value)


def _says(node: FieldNode, value: Value, text: str) -> bool:
    """Whether a value of a text says what was entered."""
    now = node.value
    if isinstance(now, int | float) and isinstance(value, int | float):
        return now == value or float(now) == float(value)
    return now == value or node.spec.storage.to_text(now) == text


def _bound_result(template: Template, plan: Plan) -> dict[str, BoundFile]:
    """The save as it will be, bound. One file alone was bound when it was settled; of several, what is inside of others
    is unwrapped again, as a game would, and names may lead from one to another.
    """
    settled = {file.file.name: file.bound for file in plan.files if file.bound is not None}
    if len(template.files) == 1 and settled:
        return settled
    sources = {file.file.name: file.patched for file in plan.files if not file.file.inside}
    return bind_files(template, sources, settled)


def _check_seals(save: Save, plan: Plan, bound: dict[str, BoundFile]) -> None:
    """Seals that were broken and are to be renewed hold now, unless no change reaches them; and where something moved,
    so do all others.
    """
    broken = {state.name for state in save.broken_seals}
    changed = {file.file.name: file for file in plan.files if file.changes and file.file.bound is not None}
    states = [
        state
        for name, file in changed.items()
        if broken or file.patched.moves
        for state in seal_states(bound[name])
        if state.name in broken or file.patched.moves
    ]
    if broken:
        states += [
            state for _, state in states_elsewhere(bound) if isinstance(state, SealState) and state.name in broken
        ]
    for state in states:
        if not state.holds and state.policy == "renew" and state.name not in (*plan.left, *plan.undecided):
            text = f"{state.algorithm} says {state.says} and should say {state.should_say}"
            plan.findings.append(Finding(state.name, "error", text))
