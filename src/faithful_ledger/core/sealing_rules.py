"""A rule for a row of parts goes into a template: blocks with a seal in each, the parts of a directory, or packed
streams with what is beside each.
"""

from __future__ import annotations

from contextlib import suppress
from typing import TypeAlias

from faithful_ledger.core.describe.blocks import are_different, hold_fields, let_be_blocks
from faithful_ledger.core.describe.draft import Draft
from faithful_ledger.core.describe.placing import UNCHANGED, free_name
from faithful_ledger.core.describe.sealing import (
    PARTS,
    STREAMS,
    block_keys,
    directory_keys,
    row_contents,
    row_keys,
    stream_keys,
)
from faithful_ledger.core.errors import EntryError
from faithful_ledger.core.layers import LayerSpec
from faithful_ledger.core.seal_parts import text_of
from faithful_ledger.core.seals.finder.blocks import BlockRule
from faithful_ledger.core.seals.finder.directories import DirectoryRule
from faithful_ledger.core.seals.finder.packed import Counted, StreamRule
from faithful_ledger.core.seals.finder.repeated import SealRow
from faithful_ledger.core.template.model import FileSpec

__all__ = ["Rule", "blocks_found"]

Rule: TypeAlias = BlockRule | DirectoryRule | SealRow | StreamRule


def blocks_found(draft: Draft, rule: Rule) -> None:
    """Describe a row of blocks with seals in each: of one size, or from where it begins to the end of the main file; or
    packed streams with what is beside each, and what they unpack to.

    Raises:
        EntryError: something describes some of these bytes, blocks do not end with the file, or nothing says how many
            streams there are, or how long they are.
    """
    if isinstance(rule, StreamRule):
        _streams_found(draft, rule)
        return
    source, name = draft.save.main.source, draft.save.main.name
    content = bytes(source.read(0, source.size))
    if isinstance(rule, SealRow):
        rule = rule.to_end_of(content)
        keys, end = row_keys(rule), rule.start + rule.count * rule.size
        if end == len(content):
            del keys["count"]
        draft.add(name, rule.start, end, keys, row_contents(rule, keys))
    elif isinstance(rule, DirectoryRule):
        _directory_found(draft, rule, content)
    else:
        if rule.chain.tail and not rule.is_counted:
            what = (
                f"{rule.chain.tail} bytes are behind the last block, and how many there are differs from save to save"
            )
            raise EntryError(what, f"{UNCHANGED}; describe their number, and make rows of them by hand")
        if are_different(rule, content) or hold_fields(draft.file(name).root, rule, content):
            let_be_blocks(draft, rule, content)
            return
        contents = [rule.spans(length)[:2] for length in rule.chain.lengths(content)]
        draft.add(name, rule.start, rule.chain.end(content), block_keys(rule, content), contents)


def _directory_found(draft: Draft, rule: DirectoryRule, content: bytes) -> None:
    count, name = rule.count_in(content), draft.save.main.name
    parts = rule.parts(content, count)
    counting = ""
    if rule.counted is not None:
        with suppress(EntryError):
            counting = _number_found(draft, rule.counted, "part_count")
    keys = directory_keys(rule, content, counting or count)
    draft.add(name, rule.start, parts[-1][1], keys, parts)
    if counting:
        draft.set(counting, {"count_of": PARTS})


def _streams_found(draft: Draft, rule: StreamRule) -> None:
    name, size = draft.save.main.name, draft.save.main.source.size
    if rule.end != size and rule.counted is None and not rule.ended_by:
        what = f"{size - rule.end} bytes are behind the last {rule.kind} stream, and how many there are is not known"
        raise EntryError(what, f"{UNCHANGED}; describe their number, and make rows of them by hand")
    counting = count = ""
    if rule.counted is not None and (rule.end != size or rule.tables):
        part = rule.counted.part
        counting = _number_found(draft, rule.counted, "unpacked_size" if part else "stream_count")
        count = f"({counting} + {part - 1}) // {part}" if part else counting
    totals = _number_found(draft, rule.total, "packed_size") if rule.total is not None else ""
    draft.add(name, rule.begins, rule.end + len(rule.ended_by), stream_keys(rule, count))
    if totals:
        draft.set(totals, {"length_of": STREAMS})
    if counting and rule.counted is not None and not rule.counted.part:
        draft.set(counting, {"count_of": STREAMS})
    held, payload = f"{name}.{STREAMS}[*].stream", ""
    for spec in [spec for spec in draft.template.files.values() if _is_of(spec, name, rule.kind)]:
        payload = payload or spec.name
        if not spec.held_by and spec.layers[0] == LayerSpec(rule.kind):
            draft.hold_in_rows(spec.name, held, rule.part)
    if not payload:
        text = text_of(b"".join(each.data for each in rule.streams))
        kind = text.name if text is not None else "binary"
        payload = draft.declare(held, (LayerSpec(rule.kind),), kind, rule.part)
    if rule.counted is not None and rule.counted.part and counting:
        draft.set(counting, {"length_of": "file", "of_file": payload})


def _number_found(draft: Draft, counted: Counted, wanted: str) -> str:
    """Describe a number in front of streams. Returns the name of its field."""
    main = draft.save.main.name
    name = free_name(draft.file(main).spec.root, wanted)
    draft.add(main, counted.at, counted.end, {"field": name, "as": counted.form})
    return name


def _is_of(spec: FileSpec, name: str, kind: str) -> bool:
    """Whether a file of a template is what streams of a kind in a file unpack to."""
    return spec.inside == name and kind in spec.route
