"""A template that is being changed by hand, over the save that is open: text, template and bound trees belong together.

Nothing is written here. `changed` gives the new text once the save still fits: a change after which the save could not
be read as far as before is refused.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from types import MappingProxyType
from typing import Any

from faithful_ledger.core.address import Address, parse_path
from faithful_ledger.core.binding import BoundFile, FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.binding.lookup import named_from
from faithful_ledger.core.binding.spans import field_at
from faithful_ledger.core.describe import bits, grouping, layering, placing, shaping
from faithful_ledger.core.describe.copies import overlaps
from faithful_ledger.core.describe.ends import End, ends_of
from faithful_ledger.core.describe.links import Link, shortest_name
from faithful_ledger.core.describe.naming import NamedAs, set_naming
from faithful_ledger.core.errors import EntryError, LedgerError, TemplateError
from faithful_ledger.core.formats import Place
from faithful_ledger.core.formats.keyed_paths import KeyedPaths
from faithful_ledger.core.layers import LayerSpec
from faithful_ledger.core.opening import open_save
from faithful_ledger.core.save import Save
from faithful_ledger.core.template import Template, parse_template
from faithful_ledger.core.template.model import FieldSpec, GroupSpec, RowsSpec
from faithful_ledger.core.template.names import field_name
from faithful_ledger.core.template.rewriting import NotInText, YamlText

__all__ = ["Draft", "changed"]

NOTHING: Mapping[str, Any] = MappingProxyType({})
SWITCHES = "false", "true"


class Draft:
    """The template of a save as it is being changed. Offsets are those of the payload of a file."""

    def __init__(self, text: bytes, save: Save) -> None:
        self.text = YamlText(text)
        self._like, self._folder = save, save.template.folder if save.template is not None else None
        self.template: Template = parse_template(bytes(self.text), "the template", self._folder)
        # As it was opened, where the text says what its template says.
        known = save.template is self.template and not len(save.tape) and not save.changed_outside()
        self.save = save if known else open_save(save.path, self.template, save.roots)

    def read_again(self) -> None:
        """Lay what the text says now over the save."""
        self.template = parse_template(bytes(self.text), "the template", self._folder)
        self.save = open_save(self._like.path, self.template, self._like.roots)

    def file(self, name: str) -> BoundFile:
        """A file of the save, bound.

        Raises:
            EntryError: the template knows no such file.
        """
        held = self.save.files.get(name) or self.save.files.get(next(iter(self.template.files)))
        if held is None or held.bound is None or held.bound.spec.format != "binary":
            raise EntryError(f"{name} is not a binary file of this template", placing.UNCHANGED)
        return held.bound

    def is_text(self, file: str) -> bool:
        """Whether a file of the save is a text of the template, whose values have paths."""
        held = self.save.files.get(file)
        return held is not None and held.bound is not None and held.bound.document.knows_ends

    def read_as(self, file: str, kind: str) -> None:
        """Let a binary file without elements be a text of a format."""
        spec = self.template.files[file]
        if spec.format == "binary" and not spec.root.layout and kind != "binary":
            self.text.set(("files", file, "format"), kind)
            self.read_again()

    def text_file(self, file: str) -> BoundFile:
        """A text of the save, bound.

        Raises:
            EntryError: it is not one.
        """
        bound = self.save.files[file].bound if self.is_text(file) else None
        if bound is None:
            raise EntryError(f"{file} is not a text of this template", placing.UNCHANGED)
        return bound

    def node(self, path: str) -> Node:
        """Raises AddressError where a path leads nowhere."""
        return self.save.nodes(path)[0]

    def add(
        self, file: str, start: int, end: int, keys: Mapping[str, Any], free: Sequence[tuple[int, int]] = ()
    ) -> None:
        """Describe the bytes [start, end) by an element with these keys, which says nothing of those that are `free`:
        fields that are described there stay.
        """
        bound = self.file(file)
        placing.add_element(self.text, bound, start, end, keys, free)
        self.read_again()
        again = self.file(file)
        found = [node for node in _all(again, start) if (node.start, node.end) == (start, end)]
        if not found:
            self._refuse_problem(bound)
            raise EntryError(
                f"the element would not take exactly {end - start} {'byte' if end - start == 1 else 'bytes'}",
                placing.UNCHANGED,
            )

    def begin_run(self, file: str, at: int) -> None:
        """Let unknown bytes around an offset, of a known number or all that is left, be two runs, of which the second
        begins there.
        """
        bound = self.file(file)
        run = field_at(bound.root, at)
        if run is None or not (run.spec.unknown and run.start < at < run.end):
            return
        if run.spec.fixed_size is not None or run.spec.size is None:
            placing.divide_run(self.text, run, at)
            self.read_again()

    def add_value(self, file: str, path: str, name: str, value: object) -> str:
        """Describe the value at a path of a text by a field behind the others. Returns the field's path.

        Raises:
            EntryError: the file is not a text of this template.
        """
        root = self.text_file(file).spec.root
        kind = "switch" if isinstance(value, bool) else "text" if isinstance(value, str) else "number"
        keys: dict[str, Any] = {"field": placing.free_name(root, field_name(name)), "at": path, "as": kind}
        keys |= {"label": name} if name != keys["field"] else {}
        self.text.insert(root.layout_where, len(root.layout), keys)
        self.read_again()
        return f"{root.name}.{keys['field']}" if root.name else str(keys["field"])

    def add_bits(self, file: str, start: int, end: int, low: int, high: int, name: str) -> None:
        """Name the bits from `low` to `high` of the whole number that the bytes [start, end) are."""
        word = next((node for node in _all(self.file(file), start) if _is_word(node) and node.end == end), None)
        if word is not None:
            bits.name_bits(self.text, word, low, high, name)
        else:
            placing.add_element(self.text, self.file(file), start, end, bits.bit_word(name, end - start, low, high))

    def rename(self, path: str, name: str) -> None:
        shaping.set_name(self.text, self.template, self.node(path).spec, name)

    def name_text(self, path: str, name: str, keys: Mapping[str, Any]) -> None:
        """Give a text of records another name, and keys other values."""
        node = self.node(path)
        shaping.set_keys(self.text, node.spec, keys)
        self.read_again()
        shaping.set_name(self.text, self.template, self.node(path).spec, name)
        self.read_again()

    def set(self, path: str, keys: Mapping[str, Any]) -> None:
        """Give an element's keys other values; None takes one away."""
        shaping.set_keys(self.text, self.node(path).spec, keys)

    def remove(self, path: str) -> None:
        shaping.remove(self.text, self.template, self.node(path))

    def resize(self, path: str, start: int, end: int, keys: Mapping[str, Any]) -> None:
        """Let a field cover the bytes [start, end) instead, with the keys a storage of that size needs."""
        node = self.node(path)
        if not isinstance(node, FieldNode):
            raise EntryError(f"{path} is as large as its parts", f"{placing.UNCHANGED}; change these")
        shaping.resize(self.text, node, start, end, keys)

    def group(self, file: str, start: int, end: int, name: str) -> str:
        """Put the elements that are the bytes [start, end) into a group. Returns its path."""
        nodes = grouping.neighbours(self.file(file), start, end)
        return grouping.group(self.text, self.template, nodes, {"group": name})

    def ungroup(self, path: str) -> None:
        node = self.node(path)
        if not isinstance(node, GroupNode):
            raise EntryError(f"{path} is not a group", placing.UNCHANGED)
        grouping.ungroup(self.text, self.template, node)

    def repeat(self, file: str, start: int, end: int, name: str, ends: Mapping[str, Any]) -> str:
        """Make the elements that are the bytes [start, end) the record of rows, which end as `ends` says: `count`,
        `size` or `ended_by`; a count that is a field follows the rows when records are added. Returns their path.
        """
        nodes = grouping.neighbours(self.file(file), start, end)
        if len(nodes) == 1 and isinstance(nodes[0], RowsNode):
            path = nodes[0].path
        else:
            path = grouping.group(self.text, self.template, nodes, {"rows": name, "count": 1})
        self.read_again()
        grouping.repeat(self.text, self.file(file), path, ends, self._folder)
        count = ends.get("count")
        if isinstance(count, str):
            self.read_again()
            follows = self.node(path)
            field = follows.parent.scope(count) if follows.parent is not None else None
            if field is not None and getattr(field.spec, "derived", None) is None:
                shaping.set_keys(self.text, field.spec, {"count_of": follows.spec.name})
        return path

    def ends(self, file: str, start: int, end: int) -> list[End]:
        """How the elements that are the bytes [start, end) may go on as rows. The draft is of no other use then."""
        path = self.repeat(file, start, end, "rows", {"count": 1})
        self.read_again()
        rows = self.node(path)
        assert isinstance(rows, RowsNode)
        return ends_of(rows)

    def link(self, path: str, link: Link) -> None:
        """Make a number the length, count or offset of another element, and that element end or begin where it says."""
        node = self.node(path)
        target = named_from(node, link.target)
        if target is None:
            raise EntryError(f"{link.target} cannot be named from {path}", placing.UNCHANGED)
        spec = target.spec
        keys: dict[str, Any] = {f"{kind}_of": None for kind in ("length", "count", "offset")}
        keys |= {f"{link.kind}_of": link.target, "plus": link.plus or None}
        shaping.set_keys(self.text, node.spec, keys)
        said = shortest_name(target, node)
        if said is None or not target.follows(node):
            return
        said += f" - {link.plus}" if link.plus > 0 else f" + {-link.plus}" if link.plus else ""
        if link.kind == "offset" and spec.address.base == "start":
            shaping.set_keys(self.text, spec, {"at": said})
        elif isinstance(spec, RowsSpec) and (link.kind == "count" or spec.count is None):
            ends = {"count": None, "size": None, "ended_by": None}
            shaping.set_keys(self.text, spec, {**ends, "count" if link.kind == "count" else "size": said})
        elif isinstance(spec, GroupSpec) and link.kind == "length":
            shaping.set_keys(self.text, spec, {"size": said})

    def seal(
        self,
        file: str,
        at: tuple[int, int],
        kind: Mapping[str, Any],
        seal: Mapping[str, Any],
        over: tuple[int, int] | None = None,
        offsets: Mapping[str, int] = NOTHING,
        about: Mapping[str, Any] = NOTHING,
    ) -> str:
        """Make bytes a seal over others (see `sealing.put_seal`). Returns the path of its field."""
        from faithful_ledger.core.describe.sealing import put_seal, record_around

        if over is not None and record_around(self.file(file), at[0]) is not None:
            for edge in over:
                self.begin_run(file, edge)
        put_seal(self.text, self.file(file), at, kind, seal, over, offsets, about)
        self.read_again()
        bound = self.file(file)
        field = field_at(bound.root, at[0])
        if field is None or (field.start, field.end) != at:
            self._refuse_problem(bound)
            raise EntryError("the seal would not take exactly its bytes", placing.UNCHANGED)
        return field.path

    def seal_value(
        self, file: str, at: tuple[int, int], form: str, seal: Mapping[str, Any], about: Mapping[str, Any]
    ) -> str:
        """Make the value of a text that has these bytes a seal, whose keys say all that it covers. Returns the path of
        its field.

        Raises:
            EntryError: they are not in a value.
        """
        bound = self.text_file(file)
        leaf = next((each for each in bound.document.leaves() if each.start <= at[0] and at[1] <= each.end), None)
        if leaf is None:
            what = f"what is at {at[0]} of {file} is not a value of this text"
            raise EntryError(what, f"{placing.UNCHANGED}; describe the file as a binary one")
        name = self.value_at(file, leaf.path)
        as_number = leaf.kind == "number" and form == "decimal"
        kind = {"as": "number"} if as_number else {"as": "checksum"} | ({"written": form} if form != "hex" else {})
        root = self.text_file(file).spec.root
        spec = root.named(name)
        assert spec is not None
        shaping.set_keys(self.text, spec, {**kind, "seal": dict(seal), **about})
        self.read_again()
        return f"{root.name}.{name}" if root.name else name

    def value_at(self, file: str, path: str) -> str:
        """The name of the field for the value at a path of a text, which is made where there is none: in a record of a
        list by the key of that, if it has one.

        Raises:
            EntryError: there is no such value, or the file is not a text of this template.
        """
        bound = self.text_file(file)
        leaves = {leaf.path: leaf for leaf in bound.document.leaves()}
        if path not in leaves:
            raise EntryError(f"{file} has no value at {path}", placing.UNCHANGED)
        keyed = (way for way in KeyedPaths(leaves).of(path, moved=False) if _leads_to(bound, way, leaves[path].start))
        ways = [*keyed, path]
        for spec in bound.spec.root.layout:
            if spec.address.path is not None and spec.address.path.text in ways:
                return spec.name
        leaf, name = leaves[path], parse_path(path)[-1].name or path.rpartition(".")[2]
        is_switch = leaf.kind == "word" and leaf.text in SWITCHES
        value = leaf.value if leaf.kind == "number" else leaf.text == SWITCHES[1] if is_switch else leaf.text
        return self.add_value(file, ways[0], name, value).rpartition(".")[2]

    def container_at(self, file: str, path: str) -> str:
        """The name of the group or the rows for the object or list at a path of a text, which are made where there are
        none.

        Raises:
            EntryError: the file is not a text of this template.
        """
        bound = self.text_file(file)
        root = bound.spec.root
        for spec in root.layout:
            if not isinstance(spec, FieldSpec) and spec.address.path is not None and spec.address.path.text == path:
                return spec.name
        name = placing.free_name(root, field_name(parse_path(path)[-1].name or "value"))
        span = bound.document.find(Address.by_path(path), Place(bound.document.whole, 0, _no_number, _no_number))
        kind = "rows" if span.kind == "array" else "group"
        self.text.insert(root.layout_where, len(root.layout), {kind: name, "at": path, "layout": []})
        self.read_again()
        return name

    def declare(self, inside: str, layers: Sequence[LayerSpec], kind: str = "binary", part_size: int = 0) -> str:
        """Describe what is inside a file as a file of the template, in parts of a size. Returns its name.

        Raises:
            EntryError: the layers cannot be undone in this save.
        """
        return self._declared(layering.declare(self.text, self.template, inside, layers, kind, part_size))

    def declare_beside(self, name: str, kind: str = "binary") -> str:
        """Describe a file beside the main one, in whose name a `*` stands for the letters that it stands for there.
        Returns what it is called in the template.

        Raises:
            EntryError: it is not there, or not of the format.
        """
        return self._declared(layering.declare_beside(self.text, self.template, name, kind))

    def _declared(self, name: str) -> str:
        """The name of a file that the text has now, once the save has it as well."""
        self.read_again()
        problem = self.save.files[name].problem
        if problem is not None:
            raise EntryError(problem.what, placing.UNCHANGED)
        return name

    def hold_in_rows(self, name: str, held_by: str, part_size: int) -> None:
        """Say of a payload that was all streams of a kind that each record holds one of them, in parts of a size."""
        layering.hold_in_rows(self.text, name, held_by, part_size)
        self.read_again()

    def keep_size(self, file: str) -> None:
        """Say that a file has the same size in every save, whatever its elements take."""
        self.text.set(("files", file, "keeps_size"), True)

    def leave_off(self, name: str, *, left: bool) -> None:
        """Leave the outermost layer of a payload off when the save is posted, or put it back."""
        layering.leave_off(self.text, self.template, name, left=left)

    def name_after(self, path: str, naming: NamedAs | None) -> None:
        """Say that the name of the file, or of its folder, says a field; or that none does."""
        set_naming(self.text, self.template, path, naming)

    def show_in(self, path: str, title: str) -> None:
        """List a field in a section of the Edit sheet, which is made where it is not there; without a title in none."""
        node = self.node(path)
        shaping.drop_listed(self.text, self.template, node.spec, only="sections")
        if title:
            shaping.list_in(self.text, title, path)

    def _refuse_problem(self, before: BoundFile) -> None:
        problem = self.save.problem
        if problem is not None and before.problem is None:
            raise EntryError(f"the save would not fit the template any more: {problem.what}", placing.UNCHANGED)


def _no_number(path: str) -> int:
    raise EntryError(f"{path} is not known here", placing.UNCHANGED)


def _all(bound: BoundFile, at: int) -> list[Node]:
    """Every element that begins at an offset, whatever is around it."""
    found: list[Node] = []
    stack: list[Node] = [bound.root]
    while stack:
        node = stack.pop()
        if node.start == at:
            found.append(node)
        if isinstance(node, GroupNode):
            stack += [child for child in node.children if child.start <= at < max(child.end, child.start + 1)]
        elif isinstance(node, RowsNode) and (index := node.index_at(at)) is not None:
            stack.append(node.item(index))
    return found


def _is_word(node: Node) -> bool:
    return isinstance(node, GroupNode) and node.spec.word is not None


def changed(text: bytes, save: Save, act: Callable[[Draft], object]) -> bytes:
    """A template after a change by hand.

    Raises:
        EntryError: the change cannot be made, or the result would not be a template, or the save would fit less than
            before, or two fields would overlap.
        TemplateError: the template has mistakes already.
    """
    draft = Draft(text, save)
    before = draft.save.problem
    lapped = _overlapping(draft.save)
    try:
        act(draft)
        draft.read_again()
    except NotInText as error:
        what = "this is described in a part that several templates share"
        raise EntryError(
            what, f"{placing.UNCHANGED}; change the file of the part, or make the template yours"
        ) from error
    except TemplateError as error:
        raise EntryError("; ".join(sentence for _, sentence in error.mistakes), placing.UNCHANGED) from error
    after = draft.save.problem
    if after is not None and (before is None or str(after) != str(before)):
        raise EntryError(f"the save would not fit the template any more: {after.what}", placing.UNCHANGED)
    fresh = [pair for pair in _overlapping(draft.save) if pair not in lapped]
    if fresh:
        what = f"{fresh[0][1]} would overlap {fresh[0][0]}"
        raise EntryError(what, f"{placing.UNCHANGED}; narrow one of them first")
    return bytes(draft.text)


def _leads_to(bound: BoundFile, path: str, start: int) -> bool:
    """Whether a path of a text leads to the value at an offset."""
    with suppress(LedgerError):
        return bound.document.at(bound.document.whole, parse_path(path)).start == start
    return False


def _overlapping(save: Save) -> list[tuple[str, str]]:
    found = []
    for file in save.files.values():
        if file.bound is not None and file.bound.spec.format == "binary":
            found += [(each.one.path, each.other.path) for each in overlaps(file.bound.root)]
    return found
