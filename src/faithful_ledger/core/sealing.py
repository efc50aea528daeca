"""A seal that was found goes into a template, once a trial on a copy says that it holds and takes no other field."""

from __future__ import annotations

import re
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import replace
from functools import partial
from typing import Any, NamedTuple

from faithful_ledger.core.binding import BoundFile, GroupNode
from faithful_ledger.core.binding.followers import WorkedOut, followers, in_levels
from faithful_ledger.core.binding.spans import field_at
from faithful_ledger.core.describe.draft import Draft, changed
from faithful_ledger.core.describe.flow import drop_last_run, is_run, let_stand
from faithful_ledger.core.describe.leading import let_begin_with
from faithful_ledger.core.describe.placing import UNCHANGED
from faithful_ledger.core.describe.sealing import (
    covered,
    from_element,
    seal_keys,
    storage_keys,
)
from faithful_ledger.core.describe.sized import let_say_size
from faithful_ledger.core.errors import EntryError, LedgerError, place
from faithful_ledger.core.inside import layer_of_whole
from faithful_ledger.core.layers import ENCLOSED, LayerSpec
from faithful_ledger.core.placed_seals import Placed
from faithful_ledger.core.save import Save
from faithful_ledger.core.seal_parts import Part, Value, name_beside, text_of
from faithful_ledger.core.seal_search import Found
from faithful_ledger.core.sealing_rules import Rule, blocks_found
from faithful_ledger.core.seals.algorithms import COPY, LENGTH, Algorithm
from faithful_ledger.core.seals.finder import Edge, Finding
from faithful_ledger.core.seals.finder.finding import Said
from faithful_ledger.core.seals.finder.repeated import SealRow
from faithful_ledger.core.seals.finder.selection import Stored
from faithful_ledger.core.template.rewriting import YamlText
from faithful_ledger.core.wrapping import unwrap

__all__ = ["Accepted", "accepted", "format_for", "is_described", "seal_chosen", "seal_found", "turn"]


QUOTES = b" \t\"'"  # around a value of a text
NUMBERED = re.compile(r"\[\d+\]")


class Accepted(NamedTuple):
    """A template with what was found: the rules that are in it, in words, the paths of single seals, and what could not
    be put in, each with the reason.
    """

    text: bytes
    rules: list[str]
    seals: list[str]
    left: list[tuple[str, str]]


def to_accept(found: Found, *, is_placed: bool = False) -> list[Placed]:
    """Those of the seals found that go into a template: all that are sure, or the likeliest where none is and somebody
    knows its place.
    """
    return [each for each in found.seals if each.finding.sure] or list(found.seals[:1] if is_placed else ())


def accepted(text: bytes, save: Save, found: Found, chosen: Sequence[Placed]) -> Accepted:
    """Put rules that were found for saves, of which `save` is the first, and `chosen` seals into a template: rules
    first, then what these do not explain.
    """
    rules: list[str] = []
    seals: list[str] = []
    left: list[tuple[str, str]] = []
    apart: list[Placed] = []  # what is not a row, because some of its bytes are described otherwise
    every: list[Rule] = [*found.rows, *found.blocks, *found.directories, *found.streams]
    for rule in every:
        try:
            text = changed(text, save, partial(blocks_found, rule=rule))
            rules.append(rule.in_words)
        except LedgerError as error:
            if isinstance(rule, SealRow):
                apart += [Placed(each, found.files) for each in rule.each]
            else:
                left.append((rule.in_words, error.what))
    for placed in (*apart, *sorted(chosen, key=turn)):
        paths: list[str] = []
        try:
            text = changed(text, save, partial(_seal_left, placed=placed, paths=paths))
            seals += paths
        except LedgerError as error:
            left.append((placed.in_words, error.what))
    for part in found.texts if rules or seals else ():  # what was editable without a template stays so
        with suppress(LedgerError):
            text = changed(text, save, partial(_file_of, part=part))
    return Accepted(text, rules, seals, left)


def turn(placed: Placed) -> tuple[bool, bool]:
    """In which order seals go in: what is behind a header first, and lengths of that, which say where it ends."""
    is_behind = placed.held.header is not None
    return not is_behind, is_behind and placed.finding.algorithm != Algorithm(LENGTH)


def _seal_left(draft: Draft, placed: Placed, paths: list[str]) -> None:
    """Put a seal in, and its path to the others, if no field that is worked out is there."""
    if not is_described(draft.save, placed):
        paths.append(seal_found(draft, _beside_value(draft.save, placed)))


def _beside_value(save: Save, placed: Placed) -> Placed:
    """A seal that is not stored in a value that the game showed: of a number and its copy, the copy is worked out.

    Raises:
        EntryError: it is stored in such a value.
    """
    value = _seen_value(save, placed)
    if value is None:
        return placed
    finding = placed.finding
    if finding.algorithm.name == COPY:
        start, end, at = finding.spans(len(placed.held.contents[0]))
        turned = replace(finding, start=Edge(at), end=Edge(at + finding.size), stored=Edge(start))
        made = placed._replace(finding=turned)
        if end - start == finding.size and _seen_value(save, made) is None:
            return made
    raise EntryError(f"{value} is a value that the game showed, and no checksum", UNCHANGED)


def _seen_value(save: Save, placed: Placed) -> str | None:
    """The path of the value that fits what the game showed, where a seal is stored."""
    at, end = (edge + placed.held.offset for edge in placed.stored)
    for bound in _bound(save, placed):
        field = field_at(bound.root, at)
        if field is not None and field.start < end and field.spec.standing != "guessed" and field.spec.seal is None:
            return field.path
    return None


def is_described(save: Save, placed: Placed) -> bool:
    """Whether the template has a field that is worked out where a seal is stored, in a file or in a payload."""
    at, end = (edge + placed.held.offset for edge in placed.stored)
    return any(WorkedOut(each.root).works_out(at, end) for each in _bound(save, placed))


def _bound(save: Save, placed: Placed) -> list[BoundFile]:
    """The files of the template in which a seal would be stored."""
    if placed.held.beside or save.template is None:
        return []
    if placed.held.around is None or placed.held.header is not None:
        names = [save.main.name]
    else:
        names = [
            name for name, spec in save.template.files.items() if spec.inside and _is_the_same(save, name, placed.held)
        ]
    return [bound for name in names if (bound := save.files[name].bound) is not None]


def seal_found(draft: Draft, placed: Placed) -> str:
    """Put a seal into a template, into the file or payload in which it is stored; what is not a file of the template
    yet is declared. Where no element is at its edges, offsets say what it covers, as they were found. Returns the path
    of its field.

    Raises:
        EntryError: it does not hold in the save, or other fields have some of its bytes.
    """
    finding = placed.finding
    draft.read_as(draft.save.main.name, format_for(placed))
    held = _file_of(draft, placed.held, "" if _is_value(placed) else "binary")
    if placed.over is not None and placed.over.value is not None:
        return _value_sealed(draft, placed, held, placed.over.value)
    if placed.header is not None:
        return _seal_behind(draft, placed, held)
    over = _file_of(draft, placed.over) if placed.over is not None else ""
    (start, end), (at, stored_end) = placed.covered, placed.stored
    if finding.said is not None:
        _range_said(draft, held, start, end, finding.said, keeps_size=len(set(map(len, placed.held.contents))) == 1)
    seal = seal_keys(finding.algorithm) | ({"own": finding.own} if finding.own is not None else {})
    seal |= {"beside": list(finding.beside)} if any(finding.beside) else {}
    last = -finding.end.offset if finding.end.from_end else end
    offsets = {"from": start} | ({"to": last} if last else {})
    whole = start == 0 and last == 0
    said, about = {**seal, "over": "file" if whole else offsets}, {"of_file": over} if over else {}
    kind = storage_keys(stored_end - at, finding.form)
    is_text = draft.is_text(held)
    if not is_text and not over and _is_of_next(finding) and (path := _length_of_next(draft, held, placed)):
        return path
    if is_text:
        path = draft.seal_value(held, (at, stored_end), finding.form, said, about)
    elif over:
        path = draft.seal(held, (at, stored_end), kind, said, about=about)
    else:
        path = draft.seal(held, (at, stored_end), kind, seal, (start, end), offsets)
    _check(draft, path, _note(finding), -finding.stored.offset if finding.stored.from_end and not is_text else None)
    if not is_text and not over and start < end:  # a text beside its checksum: its values stay within reach
        _declare_covered(draft, placed, held, start, end)
    return path


def _seal_behind(draft: Draft, placed: Placed, name: str) -> str:
    """Put a seal into a file that is stored behind a header that is longer in some saves than in others, or covers what
    is behind it: what the header is made of is described first.
    """
    finding, over, header = placed.finding, placed.over, placed.header
    assert header is not None
    let_begin_with(draft, name, header)
    at, stored_end = (edge + placed.held.offset for edge in placed.stored)
    kind, seal = storage_keys(stored_end - at, finding.form), seal_keys(finding.algorithm)
    seal |= {"own": finding.own} if finding.own is not None else {}
    start, end = (edge + (over or placed.held).offset for edge in placed.covered)
    is_front = over is not None and over.is_front
    if over is not None and over.header is None:
        about = {"of_file": _file_of(draft, over)}
        path = draft.seal(name, (at, stored_end), kind, {**seal, "over": "file"}, about=about)
    elif finding.algorithm == Algorithm(LENGTH) and stored_end <= start and end < draft.save.main.source.size:
        keys = {"field": f"size_{at:x}", **kind}
        path = let_say_size(draft, name, (at, stored_end), (start, end), keys)
    else:
        names = _behind_in_names(draft, name, (start, end), goes_on=finding.end.from_end and not is_front)
        path = draft.seal(name, (at, stored_end), kind, {**seal, "over": names})
    _check(draft, path, _note(finding), -finding.stored.offset if finding.stored.from_end else None)
    return path


def _behind_in_names(draft: Draft, name: str, over: tuple[int, int], *, goes_on: bool) -> Any:
    """Bytes of a file by the elements that begin and end with them, as a seal says what it covers; `goes_on` says that
    they end as many bytes before the end of the file in all saves.

    Raises:
        EntryError: nothing says where they begin and end.
    """
    for edge in over[:1] if goes_on else over:
        draft.begin_run(name, edge)
    bound = draft.file(name)
    names: Any = covered(bound, None, over)
    if goes_on and over[1] < bound.source.size and (names is None or _is_plain_run(bound, *over)):
        names = from_element(bound, over)
    if names is None:
        what = f"nothing says where what is covered begins and ends, {place(over[0])} to {place(over[1])}"
        raise EntryError(what, f"{UNCHANGED}; describe what is there first")
    return names


def _is_plain_run(bound: BoundFile, start: int, end: int) -> bool:
    """Whether bytes are an unknown run of a known number, which would not grow with what is in it."""
    field = field_at(bound.root, start)
    return field is not None and (field.start, field.end) == (start, end) and bool(is_run(field) and field.spec.size)


def _is_of_next(finding: Finding) -> bool:
    """Whether it is the length of what is directly behind it, with something else behind that."""
    plain = finding.algorithm == Algorithm(LENGTH) and not finding.stored.from_end and finding.own is None
    behind = Edge(finding.stored.offset + finding.size)
    return plain and finding.start == behind and finding.end.from_end and finding.end.offset > 0


def _length_of_next(draft: Draft, held: str, placed: Placed) -> str:
    """Describe a number and the bytes behind it of which it is the length. Returns the path of the number; nothing
    where what is described there is in the way.
    """
    at, end, before = placed.stored, placed.covered[1], bytes(draft.text)
    keys = {"field": f"size_{at[0]:x}", **storage_keys(at[1] - at[0], placed.finding.form)}
    try:
        path = let_say_size(draft, held, at, (at[1], end), keys)
        _check(draft, path, _note(placed.finding))
    except LedgerError:
        draft.text = YamlText(before)
        draft.read_again()
        return ""
    return path


def _range_said(draft: Draft, held: str, start: int, end: int, said: Said, *, keeps_size: bool) -> None:
    """Describe the bytes that a number says the length of as a group, and the number; in saves of one size what is
    behind the group gives way. What followed one another is at offsets then.
    """
    let_stand(draft.text, draft.file(held))
    draft.read_again()
    draft.add(held, start, end, {"group": "content", "size": end - start, "layout": []}, [(start, end)])
    groups = (child for child in draft.file(held).root.children if isinstance(child, GroupNode))
    group = next((child for child in groups if (child.start, child.end) == (start, end)), None)
    if (field := field_at(draft.file(held).root, said.at)) is None:
        draft.add(held, said.at, said.at + said.width, {"field": "content_size", "as": said.form})
        field = field_at(draft.file(held).root, said.at)
    assert group is not None and field is not None
    more = start - said.behind
    draft.set(group.path, {"size": f"{field.spec.name} - {more}" if more else field.spec.name})
    draft.set(field.path, {"length_of": group.spec.name, **({"plus": more} if more else {})})
    if keeps_size:
        draft.keep_size(held)
    draft.read_again()


def _declare_covered(draft: Draft, placed: Placed, held: str, start: int, end: int) -> None:
    """Describe the text that a seal covers and that is all but the seal, if the template has nothing for it."""
    contents = placed.held.contents
    content = contents[0]
    if all(layer_of_whole(each) == ENCLOSED for each in contents):
        layers = (LayerSpec(ENCLOSED),)
        if not any(spec.inside == held and spec.layers == layers for spec in draft.template.files.values()):
            text = text_of(unwrap(content, layers)[-1].data)
            draft.declare(held, layers, text.name if text is not None else "binary")
    elif end == len(content) and placed.at < start and (text := text_of(content[start:])) is not None:
        draft.add(held, start, end, {"unknown": "body"})
        body = field_at(draft.file(held).root, start)
        assert body is not None
        draft.declare(f"{held}.{body.spec.name}", (), text.name)


def _value_sealed(draft: Draft, placed: Placed, held: str, value: Value) -> str:
    """A seal over a value of a JSON text, or over all of it but one, or over what several values say."""
    finding = placed.finding
    if value.paths:
        names = [draft.value_at(held, path) for path in value.paths]
        keys = {**seal_keys(finding.algorithm), "over": names, "between": value.between}
        keys |= {"named": value.named} if value.named is not None else {}
        path = draft.seal_value(held, placed.stored, finding.form, keys, {})
        _check(draft, path, _note(finding))
        return path
    described = draft.value_at if value.is_single else draft.container_at
    keys = {**seal_keys(finding.algorithm), "over": described(held, value.path) if value.path else "file"}
    keys |= {"own": "left out"} if value.without else {}
    keys |= {"beside": list(value.beside)} if any(value.beside) else {}
    keys |= {"unpacked": [value.form]} if value.form else {}
    path = draft.seal_value(held, placed.stored, finding.form, keys, {})
    _check(draft, path, _note(finding))
    return path


def _note(finding: Finding) -> str:
    return f"holds in {finding.holds_in} of {finding.of} copies; {finding.sureness_in_words}"


def format_for(placed: Placed) -> str:
    """The format of the main file in a new template for a seal: a text if the seal is a value of it, or covers one."""
    outermost = [placed.held, *placed.held.outer][-1]
    if outermost.beside:
        over = placed.over
        text = text_of(over.contents[0]) if over is not None and over.around is None and not over.beside else None
        return text.name if text is not None else "binary"
    wanted = placed.held.path if outermost is not placed.held else _is_value(placed)
    text = text_of(outermost.contents[0]) if wanted else None
    return text.name if text is not None else "binary"


def _is_value(placed: Placed) -> bool:
    """Whether what it is stored in is a text, and it is all of a value of it, in quotes or not."""
    content, (at, end) = placed.held.contents[0], placed.stored
    text = text_of(content)
    leaves = text.leaves() if text is not None else ()
    around = (content[leaf.start : at] + content[end : leaf.end] for leaf in leaves if leaf.start <= at < leaf.end)
    return any(not each.strip(QUOTES) for each in around)


def _file_of(draft: Draft, part: Part, kind: str = "") -> str:
    """The file of the template that a part is, which is declared where it is not there: of a format `kind`, or of the
    one that its bytes show.
    """
    if part.around is None or part.header is not None:
        return _file_beside(draft, part, kind) if part.beside else draft.save.main.name
    for name, spec in draft.template.files.items():
        if spec.inside and _is_the_same(draft.save, name, part):
            return name
    around = next(each for each in part.outer if not part.path or each.path != part.path)
    holder, layers = _file_of(draft, around), part.layers[len(around.layers) :]
    strings = [each for each in part.outer if part.path and each.path == part.path]
    if strings and (described := _string_file(draft, holder, part.path)):
        holder, layers = described, part.layers[len(strings[-1].layers) :]
    elif part.path:
        holder = f"{holder}.{draft.value_at(holder, part.path)}"
    for name, spec in draft.template.files.items():
        inside = f"{spec.inside}.{spec.held_by}" if spec.held_by else spec.inside
        if inside == holder and [each.step for each in spec.layers] == [each.step for each in layers]:
            return name
    text = text_of(part.contents[0])
    return draft.declare(holder, layers, kind or (text.name if text is not None else "binary"))


def _file_beside(draft: Draft, part: Part, kind: str) -> str:
    """The file of the template that another file is, by its name in a folder, or by what is behind the main one's."""
    main = draft.save.main.path
    name = name_beside(part.beside, main)
    for called, file in draft.save.files.items():
        if called in draft.template.files and not file.inside and file.path == main.with_name(name):
            return called
    own = str(draft.text.value(("files", draft.save.main.name, "name")))
    if "*" in own and name.startswith(main.stem):  # the other saves have one as well
        name = own.partition("*")[0] + "*" + name.removeprefix(main.stem)
    text = text_of(part.contents[0])
    return draft.declare_beside(name, kind or (text.name if text is not None else "binary"))


def _string_file(draft: Draft, holder: str, path: str) -> str:
    """The file of the template that the string at a path of a text is as it is; empty where there is none."""
    root = draft.template.files[holder].root
    for name, spec in draft.template.files.items():
        field = root.named(spec.held_by) if spec.inside == holder and spec.held_by and not spec.layers else None
        if field is not None and field.address.path is not None and field.address.path.text == path:
            return name
    return ""


def _is_the_same(save: Save, name: str, part: Part) -> bool:
    """Whether a payload of the template is a part, whichever way leads to it."""
    bound = save.files[name].bound
    if bound is None or bound.problem is not None or bound.source.size != len(part.contents[0]):
        return False
    return bytes(bound.source.read(0, bound.source.size)) == part.contents[0]


def seal_chosen(draft: Draft, stored: Stored, over: tuple[int, int], file: str = "") -> str:
    """Put a checksum of chosen bytes into a file of a template. Returns the path of its field."""
    note = f"holds in {stored.holds_in} of {stored.of} copies"
    at = stored.at, stored.at + stored.size
    to_end = over[1] == draft.save.main.source.size
    offsets = {"from": over[0]} | ({} if to_end else {"to": over[1]})
    kind, seal = storage_keys(stored.size, stored.form), seal_keys(stored.algorithm)
    path = draft.seal(file or draft.save.main.name, at, kind, seal, over, offsets)
    _check(draft, path, note)
    return path


def _check(draft: Draft, path: str, note: str, from_end: int | None = None) -> None:
    """Give a seal that was put in its note, and an offset from the end of the file where it is counted from there.

    Raises:
        EntryError: it does not hold in the save, or needs a seal that needs it.
    """
    keys: dict[str, Any] = {"note": note, "standing": "fits"}
    node = draft.node(path)
    if from_end is not None and node.spec.address.base in ("start", "next"):
        keys["at"] = from_end
    draft.set(path, keys)
    draft.read_again()
    if "at" in keys and node.spec.address.base == "next":
        drop_last_run(draft.text, draft.file(node.file))
        draft.read_again()
    in_rows = [state for state in draft.save.seals if NUMBERED.sub("[*]", state.name) == NUMBERED.sub("[*]", path)]
    broken = next((state.name for state in in_rows if not state.holds), path if not in_rows else "")
    if broken:
        what = f"the seal {broken} does not hold in this save"
        raise EntryError(what, f"{UNCHANGED}; look for seals again")
    if (bound := draft.save.files[node.file].bound) is not None:
        for _ in in_levels(list(followers(bound.root, measured=False))):
            pass  # raises where they are in a circle
