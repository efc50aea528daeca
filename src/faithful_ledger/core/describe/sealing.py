"""A seal goes into a template: a field that is there becomes it, or one is made for its bytes, and what it covers is
named where elements begin and end with it, so that it holds when they grow.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from itertools import pairwise
from typing import TYPE_CHECKING, Any

from faithful_ledger.core.address import ROW
from faithful_ledger.core.binding import BoundFile, FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.binding.spans import field_at
from faithful_ledger.core.describe import placing, shaping
from faithful_ledger.core.describe.flow import is_run
from faithful_ledger.core.describe.links import shortest_name
from faithful_ledger.core.errors import EntryError, place
from faithful_ledger.core.seals.finder.directories import tag_of
from faithful_ledger.core.storage import WRITTEN
from faithful_ledger.core.template.names import free_name
from faithful_ledger.core.template.rewriting import YamlText

if TYPE_CHECKING:
    from faithful_ledger.core.seals.algorithms import Algorithm
    from faithful_ledger.core.seals.finder.blocks import BlockRule
    from faithful_ledger.core.seals.finder.directories import DirectoryRule
    from faithful_ledger.core.seals.finder.packed import Beside, StreamRule
    from faithful_ledger.core.seals.finder.repeated import SealRow

TAG = 4
STREAMS, PARTS, ENTRIES = "streams", "parts", ("sizes", "more_sizes", *(f"table_{number}" for number in range(2, 16)))
OF_A_VALUE = ("length_of", "count_of", "offset_of", "plus", "names", "switches", "bounds", "length", "size")

__all__ = [
    "PARTS",
    "STREAMS",
    "block_keys",
    "covered",
    "covered_in_words",
    "directory_keys",
    "from_element",
    "put_seal",
    "record_around",
    "row_contents",
    "row_keys",
    "seal_keys",
    "storage_keys",
    "stream_keys",
]


def storage_keys(size: int, form: str) -> dict[str, Any]:
    """The keys of a field in which a checksum is stored."""
    if form not in WRITTEN:
        return {"as": form}
    return {"as": "checksum", "size": size} | ({"written": form} if form != "bytes" else {})


def put_seal(
    text: YamlText,
    bound: BoundFile,
    at: tuple[int, int],
    kind: Mapping[str, Any],
    seal: Mapping[str, Any],
    over: tuple[int, int] | None,
    fallback: Mapping[str, int],
    about: Mapping[str, Any],
) -> None:
    """Make the bytes [at) a seal over the bytes [over): `kind` are the keys of its storage, `seal` those of the seal
    without what it covers, which is `fallback` where no elements begin and end with it. Without `over`, which is of the
    same file, `seal` says what it covers; `about` are more keys of the field.

    Raises:
        EntryError: other fields have some of its bytes.
    """
    field = field_at(bound.root, at[0])
    is_new = field is None or field.spec.unknown
    seal = {"algorithm": seal["algorithm"], "over": "", **seal}
    record = record_around(bound, at[0])
    if over is not None and record is not None:
        seal["over"] = _covered_in(record, over)
    elif over is not None:
        seal["over"] = covered(bound, None if is_new else field, over) or dict(fallback)
    kind = {**kind, "as": str(kind["as"]).removesuffix("le" if bound.spec.order == "little" else "be")}
    if field is None or is_new:
        name = placing.free_name(bound.root.spec, f"seal_{at[0]:x}")
        placing.add_element(text, bound, *at, {"field": name, **kind, "seal": seal, **about})
        return
    if (field.start, field.end) != at:
        what = f"the seal at {place(at[0])} would overlap {field.path} ({place(field.start)}, {field.size} bytes)"
        raise EntryError(what, f"{placing.UNCHANGED}; let that field cover exactly the bytes of the seal")
    shaping.set_keys(text, field.spec, {**dict.fromkeys(OF_A_VALUE), **kind, "seal": seal, **about})


def block_keys(rule: BlockRule, content: bytes) -> dict[str, Any]:
    """The rows that a rule for blocks describes, as a template says them: header, length, checksum, content."""
    chain, front = rule.chain, rule.in_front
    number = f"u{8 * chain.width}{'le' if chain.order == 'little' else 'be'}"
    plus = {"plus": rule.counted} if rule.counted else {}
    seal = {**seal_keys(rule.algorithm), "over": "content"}
    checksum = {"field": "sum", "as": rule.form, "seal": seal}
    placed: list[tuple[int, int, dict[str, Any]]] = []
    placed += [(front, chain.width, {"field": "length", "as": number, "length_of": "content", **plus})]
    placed += [] if rule.behind else [(front + rule.stored, rule.size, checksum)]
    tags = [content[at - front : at - front + TAG] for at, _ in chain.lengths(content)]
    if min(at for at, _, _ in placed) >= TAG and all(tag.isascii() and tag.decode().isprintable() for tag in tags):
        placed.append((0, TAG, {"field": "tag", "as": "text", "size": TAG, "encoding": "latin-1", "pad": "20"}))
    layout = _filled(sorted(placed, key=lambda part: part[0]), rule.header, "header")
    if rule.over != "content":
        first = "length" if rule.over == "from the length on" else str(next(iter(layout[0].values())))
        seal["over"] = [first, "content"]
    size = f"length - {rule.counted}" if rule.counted > 0 else f"length + {-rule.counted}" if rule.counted else "length"
    layout.append({"group": "content", "size": size, "layout": []})
    layout += _filled([(rule.stored, rule.size, checksum)] if rule.behind else [], rule.trailer, "trailer")
    return {"rows": "blocks", **({"count": rule.count} if chain.tail else {}), "layout": layout}


def row_keys(row: SealRow) -> dict[str, Any]:
    """The rows that blocks of one size with the same seals are: the seals, and what is between their edges."""
    placed = {each.stored.offset - row.start: each for each in row.seals}
    edges = {0, row.size}
    for at, each in placed.items():
        edges |= {at, at + each.size, each.start.offset - row.start, each.end.offset - row.start}
    within = {inside for at, each in placed.items() for inside in edges if at < inside < at + each.size}
    cuts = sorted(edges - within)
    names = {low: f"sum_{low:x}" if low in placed else f"part_{low:x}" for low in cuts[:-1]}
    layout: list[dict[str, Any]] = []
    for low, high in pairwise(cuts):
        if low not in placed:
            layout.append({"unknown": names[low], "size": high - low})
            continue
        each = placed[low]
        start, end = each.start.offset - row.start, each.end.offset - row.start
        first, last = names[start], names[max(cut for cut in cuts if cut < end)]
        seal: dict[str, Any] = seal_keys(each.algorithm)
        seal["over"] = first if first == last else [first, last]
        seal |= {"own": each.own} if each.own is not None else {}
        layout.append({"field": names[low], **storage_keys(each.size, each.form), "seal": seal})
    return {"rows": "blocks", "count": row.count, "layout": layout}


def row_contents(row: SealRow, keys: Mapping[str, Any]) -> list[tuple[int, int]]:
    """Where, in every block, the bytes are of which the layout of `keys` says nothing."""
    unknown: list[tuple[int, int]] = []
    at = 0
    sizes = iter([each.size for each in row.seals])
    for each in keys["layout"]:
        size = each["size"] if "unknown" in each else next(sizes)
        unknown += [(at, at + size)] if "unknown" in each else []
        at += size
    starts = range(row.start, row.start + row.count * row.size, row.size)
    return [(start + low, start + high) for start in starts for low, high in unknown]


def directory_keys(rule: DirectoryRule, content: bytes, count: int | str) -> dict[str, Any]:
    """The rows that a directory and the parts that it lists are, as one group.

    Raises:
        EntryError: it says where each part ends, which no field of a template follows.
    """
    if rule.columns_of_places[1].says != "size":
        what = "the directory says where each part ends, which no field of a template follows"
        raise EntryError(what, placing.UNCHANGED)
    body = f"{PARTS}[{ROW}].body"
    placed: list[tuple[int, int, dict[str, Any]]] = []
    for column in rule.columns:
        keys: dict[str, Any] = {"field": column.says, **storage_keys(column.width, column.form)}
        if column.says == "start":
            keys |= {"offset_of": body} | ({"plus": -rule.base} if rule.base else {})
        elif column.says == "size":
            keys |= {"length_of": body}
        else:
            assert column.algorithm is not None
            name = free_name([str(each["field"]) for _, _, each in placed], "sum")
            keys |= {"field": name, "seal": {**seal_keys(column.algorithm), "over": body}}
        placed.append((column.at, column.width, keys))
    if (tag := tag_of(rule, content)) is not None:
        placed.append((tag, TAG, {"field": "tag", "as": "text", "size": TAG, "encoding": "latin-1", "pad": "20"}))
    layout = _filled(sorted(placed, key=lambda part: part[0]), rule.stride, "entry")
    part: dict[str, Any] = {"group": "body", "size": f"directory[{ROW}].size", "layout": []}
    part |= {"align": rule.align} if rule.align > 1 else {}
    elements: list[dict[str, Any]] = [{"rows": "directory", "count": count, "layout": layout}]
    between = rule.first - rule.end
    elements += [{"unknown": "between", "size": between}] if between and rule.align == 1 else []
    elements.append({"rows": PARTS, "count": count, "layout": [part]})
    return {"group": "listed", "flat": True, "layout": elements}


def stream_keys(rule: StreamRule, count: str) -> dict[str, Any]:
    """The rows that a rule for packed streams describes: what is beside each, and the stream; with tables in front of
    them a group of all. `count` is how many there are, or nothing where they go on to the end of what they are in.

    Raises:
        EntryError: nothing says how long each is, or how many there are.
    """
    packed = rule.packed_length
    if packed is None:
        what = f"nothing in front of each {rule.kind} stream says how long it is, so they cannot be described as rows"
        raise EntryError(what, placing.UNCHANGED)
    if rule.tables and not count:
        what = f"nothing in front of the {rule.kind} streams says how many there are, so their table has no known end"
        raise EntryError(what, f"{placing.UNCHANGED}; describe their number, and make rows of them by hand")
    counted: dict[str, Any] = {"count": count} if count else {}
    if rule.ended_by and not count:
        counted = {"ended_by": rule.ended_by.hex(" ").upper()}
    plus = packed.algorithm.start or 0
    size = "packed" if not packed.stride else f"{ENTRIES[rule.table_of(packed)]}[{ROW}].packed"
    size += f" {'-' if plus > 0 else '+'} {abs(plus)}" if plus else ""
    layout = _numbers(rule, [each for each in rule.numbers if not each.behind], rule.header, "header", "stream")
    layout.append({"unknown": "stream", "size": size})
    layout += _numbers(rule, [each for each in rule.numbers if each.behind], rule.trailer, "trailer", "stream")
    streams: dict[str, Any] = {"rows": STREAMS, **counted, "layout": layout}
    if not rule.tables:
        return streams
    elements: list[dict[str, Any]] = []
    at = rule.tables[0].start
    for number, table in enumerate(rule.tables):
        elements += [{"unknown": f"between_{number}", "size": table.start - at}] if table.start > at else []
        entries = _numbers(rule, table.numbers, table.stride, "entry", f"{STREAMS}[{ROW}].stream", table.start)
        elements.append({"rows": ENTRIES[number], **counted, "layout": entries})
        at = table.end(len(rule.streams))
    elements += [{"unknown": "between", "size": rule.start - at}] if rule.start > at else []
    return {"group": "packed", "flat": True, "layout": [*elements, streams]}


def _numbers(
    rule: StreamRule, numbers: Sequence[Beside], size: int, name: str, stream: str, first: int = 0
) -> list[dict[str, Any]]:
    """The fields of what is beside a stream, or of an entry about one, with unknown bytes between them; the first entry
    begins at `first`.
    """
    placed: list[tuple[int, int, dict[str, Any]]] = []
    taken: list[str] = []
    for each in numbers:
        kind = storage_keys(each.size, each.form)
        if each == rule.packed_length:
            plus = each.algorithm.start
            keys = {"field": "packed", **kind, "length_of": stream} | ({"plus": plus} if plus else {})
        else:
            called = free_name(taken, "length" if each.is_length else "sum")
            seal = {**seal_keys(each.algorithm), "over": stream}
            seal |= {"unpacked": [rule.kind]} if each.unpacked else {}
            keys = {"field": called, **kind, "seal": seal}
            taken.append(called)
        at = each.at if each.behind else each.at + size
        if each.stride:
            at = each.place(rule.streams[0]) - first
        placed.append((at, each.size, keys))
    return _filled(placed, size, name)


def seal_keys(algorithm: Algorithm) -> dict[str, Any]:
    """An algorithm as a template says it, with what a game changed about it."""
    keys: dict[str, Any] = {"algorithm": algorithm.name}
    if algorithm.crc is not None:
        crc = algorithm.crc._asdict()
        out = crc.pop("reflected_out")
        keys["crc"] = {key: value for key, value in crc.items() if value or key == "width"}
        keys["crc"] |= {"reflected_out": out} if out != algorithm.crc.reflected else {}
    return keys | replace(algorithm, crc=None).parameters


def _filled(placed: Sequence[tuple[int, int, dict[str, Any]]], size: int, name: str) -> list[dict[str, Any]]:
    """Fields at their offsets, with unknown bytes between them."""
    found: list[dict[str, Any]] = []
    at = 0
    for start, width, keys in placed:
        if start > at:
            found.append({"unknown": f"{name}_{at:x}", "size": start - at})
        found.append(keys)
        at = start + width
    if at < size:
        found.append({"unknown": f"{name}_{at:x}", "size": size - at})
    return found


def covered(bound: BoundFile, field: FieldNode | None, over: tuple[int, int]) -> str | list[str] | None:
    """Bytes as the names of the elements that begin and end with them; of the whole file as `file`."""
    if over == (0, bound.source.size):
        return "file"
    starts, ends, whole = [], [], []
    for node in _elements(bound.root):
        if node.start == over[0] and node.end == over[1]:
            whole.append(node)
        if node.start == over[0] and node.end <= over[1]:
            starts.append(node)
        if node.end == over[1] and node.start >= over[0]:
            ends.append(node)
    for node in whole:
        if (name := _named(bound, field, node)) is not None:
            return name
    for first in starts:
        for last in ends:
            names = _named(bound, field, first), _named(bound, field, last)
            if None not in names:
                return [str(name) for name in names]
    return None


def from_element(bound: BoundFile, over: tuple[int, int]) -> dict[str, Any] | None:
    """Bytes from where an element begins or ends up to so many before the end of the file, as a template says it; None
    where none does. An unknown run may be divided later, so that another element is better.
    """
    found = []
    for node in _elements(bound.root):
        key = {node.start: "from", node.end: "behind"}.get(over[0])
        if key is not None and (name := _named(bound, None, node)) is not None:
            found.append((is_run(node), key, name))
    _, key, name = min(found, key=lambda each: each[0], default=(False, "", ""))
    return {key: name, "to": over[1] - bound.source.size} if name else None


def record_around(bound: BoundFile, at: int) -> GroupNode | None:
    """The innermost record that holds a byte."""
    field = field_at(bound.root, at)
    record = field.record if field is not None else None
    return record if isinstance(record, GroupNode) else None


def _covered_in(record: GroupNode, over: tuple[int, int]) -> str | list[str]:
    """Bytes of a record as the names of its elements, the same for every record.

    Raises:
        EntryError: no elements of it begin and end there.
    """
    starts = [child.spec.name for child in record.children if child.start == over[0] and child.size]
    ends = [child.spec.name for child in record.children if child.end == over[1] and child.size]
    if not starts or not ends:
        what = f"{place(over[0])} to {place(over[1])} is not what elements of {record.path} cover"
        raise EntryError(what, f"{placing.UNCHANGED}; describe what is there in each record first")
    return starts[0] if starts[0] == ends[-1] else [starts[0], ends[-1]]


def covered_in_words(bound: BoundFile, over: tuple[int, int]) -> str:
    """What the bytes of a range are, for people."""
    found = covered(bound, None, over)
    if isinstance(found, list):
        return " to ".join(found)
    return found or f"{place(over[0])} to {place(over[1])}"


def _named(bound: BoundFile, field: FieldNode | None, target: Node) -> str | None:
    """The name of an element, seen from a field, or from the root of the file."""
    if field is not None:
        return shortest_name(field, target)
    first = next(iter(bound.root.children), None)
    return shortest_name(first, target) if first is not None else None


def _elements(root: GroupNode) -> Iterator[Node]:
    """Every element outside of records that takes bytes, the outermost first."""
    queue: list[Node] = [root]
    while queue:
        node = queue.pop(0)
        if node is not root and node.size and not (isinstance(node.parent, GroupNode) and node.parent.spec.word):
            yield node
        if isinstance(node, GroupNode) and not isinstance(node, RowsNode):
            queue += node.children
