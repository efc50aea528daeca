"""What the template says of the selected element, to be typed over: its name, meaning, storage, links and bounds.

A line is taken over with Return, or when it is left after something was typed; each change can be undone.
"""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from functools import partial
from typing import TYPE_CHECKING, Any

from PySide6.QtWidgets import QLineEdit, QWidget
from shiboken6 import isValid

from faithful_ledger.core.binding import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.errors import LedgerError, ValueRefused
from faithful_ledger.core.storage import (
    MOMENTS,
    BitRange,
    Choice,
    Float,
    Formed,
    Integer,
    Moment,
    Scaled,
    Switches,
    WholeNumber,
    is_moment,
    parse_whole,
)
from faithful_ledger.core.template.model import FieldSpec, GroupSpec
from faithful_ledger.desk.session import Selection, Session
from faithful_ledger.desk.widgets.basics import Chooser, button, column, label, row
from faithful_ledger.desk.widgets.new_element import captioned, line_of

if TYPE_CHECKING:
    from faithful_ledger.core.describe.links import Link
    from faithful_ledger.core.describe.proposals import Proposal

__all__ = ["ElementForm"]

STANDINGS = ("guessed", "fits", "proven")
MOST_LINKS, MOST_CODES = 12, 24
NO_SECTION = "not on the Edit sheet"
VALUE = "a value of its own"
SHOWN = (  # in words, `form`, `moment`
    ("as a number", "", ""),
    ("in hexadecimal", "hex", ""),
    ("in binary", "binary", ""),
    ("as a duration: 1:02:05", "duration", ""),
    ("as a moment: seconds since 1970", "", "unix"),
    ("as a moment: milliseconds since 1970", "", "unix-milliseconds"),
    ("as a moment: 100 ns since 1601", "", "filetime"),
)


class ElementForm(QWidget):
    """For one field, group or rows of a binary file, or of a text: that says itself how its values are stored."""

    def __init__(self, session: Session, node: Node, parent: QWidget | None = None, *, in_text: bool = False) -> None:
        super().__init__(parent)
        self.session, self.node, self.in_text = session, node, in_text
        self.lines = column(spacing=4)
        self.setLayout(self.lines)
        spec = node.spec
        inside = node.index is None  # the record of rows has no name of its own
        if inside and node.parent is not None:
            self._text("Name", spec.name, "Name of the element", lambda text: session.describing.rename(node, text))
            self._key("Label", "label", spec.label, "what people call it")
        if isinstance(node, FieldNode) and not node.spec.unknown:
            self._field(node, node.spec)
        self._key("Note", "note", spec.note, "anything worth knowing")
        if isinstance(node, FieldNode) and not spec_is_bits(node) and not in_text:
            self._borders(node)
        if inside and node.parent is not None:
            self._buttons(node)

    # lines

    def _text(self, caption: str, text: str, name: str, act: Callable[[str], object], hint: str = "") -> QLineEdit:
        line = line_of(hint, name, text)

        def leave() -> None:
            if line.isModified() and line.text().strip() != text:
                line.setModified(False)
                act(line.text().strip())

        line.editingFinished.connect(leave)
        self.lines.addWidget(captioned(caption, line))
        return line

    def _key(self, caption: str, key: str, text: str, hint: str) -> None:
        node = self.node
        name = f"{caption} of {node.spec.name}"
        self._text(
            caption, text, name, lambda typed: self.session.describing.set(node, {key: typed or None}, key), hint
        )

    def _chooser(
        self, caption: str, name: str, items: list[str], present: int, act: Callable[[int], object]
    ) -> Chooser:
        box = Chooser()
        box.setAccessibleName(name)
        box.setSizeAdjustPolicy(Chooser.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        box.setMinimumContentsLength(8)
        box.addItems(items)
        box.setCurrentIndex(present)
        box.activated.connect(lambda number: act(number) if number not in (present, -1) else None)
        self.lines.addWidget(captioned(caption, box))
        return box

    # a field

    def _field(self, node: FieldNode, spec: FieldSpec) -> None:
        if spec.constant is not None:
            return
        describing = self.session.describing
        bits = spec_is_bits(node) or self.in_text
        if not bits and spec.seal is None:
            self._storages(node)
        whole = isinstance(spec.storage, WholeNumber | Choice | Switches)
        if whole and not bits and spec.seal is None:
            self.links = self._chooser("Is", f"What {spec.name} is", [_said(spec)], 0, lambda _: None)
            self.session.background.run(partial(describing.links, node), partial(self._show_links, node, spec))
        self._key("Unit", "unit", spec.unit, "as m, %, gold")
        if spec.derived is None and spec.seal is None:
            if not self.in_text:
                self._shown(node, spec)
            self._bounds(node, spec)
            self._sections(node)
            self._naming(node)
        self._chooser(
            "Standing",
            f"Standing of {spec.name}",
            list(STANDINGS),
            STANDINGS.index(spec.standing),
            lambda number: describing.set(node, {"standing": STANDINGS[number]}, "standing"),
        )
        if (
            isinstance(spec.storage, Integer | BitRange | Choice | Switches)
            and spec.derived is None
            and spec.seal is None
        ):
            self._codes(node, spec)

    def _storages(self, node: FieldNode) -> None:
        """Other ways to read the same bytes."""
        selection = Selection(node.file, node.start, node.end, node)
        found = [p for p in self.session.describing.proposals(selection, []) if "as" in p.keys and p.size == node.size]
        inner: Any = node.spec.storage
        while hasattr(inner, "number"):
            inner = inner.number
        present = next((n for n, each in enumerate(found) if each.words == getattr(inner, "about", "")), -1)
        items = [f"{each.words} · {each.now[:18]}" for each in found]
        if present < 0:
            items.insert(0, node.spec.storage.about)
            found.insert(0, found[0] if found else None)  # type: ignore[arg-type]
            present = 0
        choose = partial(self._store_as, node, found)
        self._chooser("As", f"How {node.spec.name} is stored", items, present, choose)

    def _store_as(self, node: FieldNode, found: list[Proposal], number: int) -> None:
        keys: dict[str, Any] = dict.fromkeys(("size", "length", "ended_by", "encoding", "pad"))
        if found[number].keys["as"][:1] not in "ui":
            keys |= dict.fromkeys(("names", "switches", "scale", "bias", "rounding", "form", "moment"))
        self.session.describing.set(node, keys | found[number].keys, "storage")

    def _show_links(self, node: FieldNode, spec: FieldSpec, found: list[Link] | None, _: LedgerError | None) -> None:
        if not isValid(self) or not found:
            return
        shown: list[Link | None] = [*found[:MOST_LINKS]]
        if spec.derived is not None:
            shown = [
                each for each in shown if each and (each.kind, each.target) != (spec.derived.kind, spec.derived.target)
            ]
            shown.append(None)
        choices = [spec, *shown]
        self.links.clear()
        self.links.addItems([_said(spec), *(_link_in_words(each) for each in shown)])
        describing = self.session.describing
        self.links.activated.connect(lambda n: describing.link(node, choices[n]) if n else None)  # type: ignore[arg-type]

    def _shown(self, node: FieldNode, spec: FieldSpec) -> None:
        """How a number is shown: in which form, and by which scale."""
        storage = spec.storage
        form = storage.form if isinstance(storage, Formed) else ""
        inner = storage.number if isinstance(storage, Formed | Moment) else storage
        number = inner.number if isinstance(inner, Scaled) else inner
        if not isinstance(number, Integer | Float):
            return
        shown = [each for each in SHOWN if each[1] == "duration" or isinstance(number, Integer) or not each[1]]
        if isinstance(inner, Scaled):
            shown = [each for each in shown if each[1] in ("", "duration") and not each[2]]
        moment = next((name for name, each in MOMENTS.items() if is_moment(storage, *each)), "")
        if isinstance(storage, Moment) and not moment:
            shown = [(f"as a {storage.about}", "", ""), *shown]  # since another day, or counted in something else
        present = next((n for n, each in enumerate(shown) if each[1:] == (form, moment)), 0)

        def choose(number: int) -> None:
            _, form, moment = shown[number]
            self.session.describing.set(node, {"form": form or None, "moment": moment or None}, "form")

        self._chooser("Shown", f"How {spec.name} is shown", [each[0] for each in shown], present, choose)
        if isinstance(storage, Moment):
            return
        scale, bias = (inner.scale, inner.bias) if isinstance(inner, Scaled) else (Fraction(1), Fraction(0))
        texts = (str(scale) if scale != 1 else "", str(bias) if bias else "")
        self._pair(
            "Scale",
            [
                line_of("× 1", f"Scale of {spec.name}", texts[0]),
                line_of("+ 0", f"Bias of {spec.name}", texts[1]),
            ],
            lambda typed: self.session.describing.set(
                node, dict(zip(("scale", "bias"), map(_factor, typed), strict=True)), "scale"
            ),
        )

    def _pair(self, caption: str, boxes: list[QLineEdit], act: Callable[[list[str]], object]) -> None:
        """Two lines that are taken over together."""

        def leave() -> None:
            if any(box.isModified() for box in boxes):
                for box in boxes:
                    box.setModified(False)
                act([box.text().strip() for box in boxes])

        for box in boxes:
            box.editingFinished.connect(leave)
        pair = QWidget()
        pair.setLayout(row(*boxes, spacing=4))
        self.lines.addWidget(captioned(caption, pair))

    def _bounds(self, node: FieldNode, spec: FieldSpec) -> None:
        present = spec.bounds
        least = "" if present is None or present.least is None else str(present.least)
        most = "" if present is None or present.most is None else str(present.most)

        def take(typed: list[str]) -> None:
            numbers = [self.session.attempt(partial(_number, text)) for text in typed]
            named = zip(("least", "most"), numbers, strict=True)
            keys: dict[str, Any] = {key: number for key, number in named if number is not None}
            keys |= {"by": present.by} if present is not None and present.by else {}
            keys |= {"why": present.why} if present is not None and present.why and keys else {}
            self.session.describing.set(node, {"bounds": keys or None}, "bounds")

        boxes = [line_of("least", f"Least value of {spec.name}", least), line_of("most", f"Most of {spec.name}", most)]
        self._pair("Bounds", boxes, take)

    def _sections(self, node: FieldNode) -> None:
        save = self.session.save
        if save is None or save.template is None or "[" in node.path:
            return
        titles = [section.title for section in save.template.sections if section.table is None and not section.switches]
        present = next((s.title for s in save.template.sections if node.path in s.fields), "")
        choices = ["", *dict.fromkeys([*titles, present] if present else titles)]
        box = self._chooser(
            "Edit",
            f"Section of {node.spec.name}",
            [NO_SECTION, *choices[1:]],
            choices.index(present),
            lambda number: self.session.describing.put_into_section(
                node, choices[number] if 0 <= number < len(choices) else ""
            ),
        )
        box.setEditable(True)
        box.setInsertPolicy(Chooser.InsertPolicy.NoInsert)
        box.setToolTip("A section of the Edit sheet; type a name for a new one")
        line = box.lineEdit()
        if line is not None:
            line.setAccessibleName(f"Section of {node.spec.name}")
            line.returnPressed.connect(
                lambda: (
                    self.session.describing.put_into_section(node, line.text().strip())
                    if line.text().strip() not in (present, NO_SECTION)
                    else None
                )
            )

    def _naming(self, node: FieldNode) -> None:
        """Whether the name of the file says the same, as that of a slot does."""
        from faithful_ledger.core.describe.naming import named_now, namings

        save = self.session.save
        if save is None or save.template is None or "[" in node.path:
            return
        now = named_now(save.template, node.path)
        found = list(dict.fromkeys([*([now] if now is not None else []), *namings(save, node)]))
        if not found:
            return
        items = ["no name says it", *map(str, found)]
        box = self._chooser(
            "Slot",
            f"Name that says {node.spec.name}",
            items,
            0 if now is None else 1,
            lambda number: self.session.describing.name_after(node, found[number - 1] if number else None),
        )
        box.setToolTip("What says which slot the save is in: it follows when the save is carried to another one")

    def _codes(self, node: FieldNode, spec: FieldSpec) -> None:
        """Names of values: those that are named, and codes that the save and its copies show."""
        storage = spec.storage
        if spec.catalogue is not None:
            text = f"Its {len(spec.catalogue.names)} names are those of the catalogue {spec.catalogue.name}."
            self.lines.addWidget(label(text, "quiet", wrap=True))
            return
        known = dict(storage.names) if isinstance(storage, Choice | Switches) else {}
        kind = "switches" if isinstance(storage, Switches) else "names"
        if not isinstance(storage, Choice | Switches):
            link = button("Name its values…", lambda: self._name_codes(node, "names", {}), "link")
            switches = button("Name its bits…", lambda: self._name_codes(node, "switches", {}), "link")
            self.lines.addLayout(row(link, switches, None))
            return
        self._name_codes(node, kind, known)

    def _name_codes(self, node: FieldNode, kind: str, known: dict[int, str]) -> None:
        codes = sorted({*known, *self.session.describing.codes(node, switches=kind == "switches")})[:MOST_CODES]
        boxes: dict[int, QLineEdit] = {}
        other = line_of("another", "Another code")
        named = line_of("its name", "Name of another code")

        def keep() -> None:
            names = {code: box.text().strip() for code, box in boxes.items() if box.text().strip()}
            names |= {code: name for code, name in known.items() if code not in boxes}
            if other.text().strip() and named.text().strip():
                code = self.session.attempt(lambda: parse_whole(other.text().strip()))
                names |= {code: named.text().strip()} if code is not None else {}
            keys = {"names": None, "switches": None} | {kind: names or None}
            self.session.describing.set(node, keys, "names")

        for code in codes:
            box = line_of("its name", f"Name of {code}", known.get(code, ""))
            box.returnPressed.connect(keep)
            boxes[code] = box
            self.lines.addWidget(captioned(f"bit {code}" if kind == "switches" else str(code), box))
        both = QWidget()
        other.setFixedWidth(58)
        both.setLayout(row(other, named, spacing=4))
        named.returnPressed.connect(keep)
        self.lines.addWidget(captioned("and", both))
        self.lines.addLayout(row(None, button("Keep these names", keep)))

    def _borders(self, node: FieldNode) -> None:
        start, size = (
            line_of("", f"Offset of {node.spec.name}", f"0x{node.start:X}"),
            line_of("", "Size", str(node.size)),
        )

        def leave() -> None:
            if not (start.isModified() or size.isModified()):
                return
            for box in (start, size):
                box.setModified(False)
            at, count = (self.session.attempt(partial(parse_whole, box.text().strip())) for box in (start, size))
            if at is not None and count is not None and count > 0:
                self.session.describing.move(node, at, at + count)

        for box in (start, size):
            box.editingFinished.connect(leave)
        size.setFixedWidth(58)
        both = QWidget()
        both.setLayout(row(start, size, spacing=4))
        both.setToolTip("Offset and size in bytes; the ends of its bracket can be dragged as well")
        self.lines.addWidget(captioned("Bytes", both))

    # groups and rows

    def _buttons(self, node: Node) -> None:
        describing = self.session.describing
        parts = [button("Remove from the template", lambda: describing.remove(node), "link")]
        if isinstance(node, GroupNode) and node.spec.word is None and not self.in_text:
            parts.append(button("Ungroup", lambda: describing.ungroup(node), "link"))
        if isinstance(node, RowsNode) and isinstance(node.spec.item, GroupSpec):
            fields = [part.name for part in node.spec.item.layout if isinstance(part, FieldSpec) and not part.unknown]
            present = fields.index(node.spec.key) + 1 if node.spec.key in fields else 0
            self._chooser(
                "Key",
                f"Key of {node.spec.name}",
                ["none: by number", *fields],
                present,
                lambda number: describing.set(node, {"key": fields[number - 1] if number else None}, "key"),
            )
        self.lines.addLayout(row(*parts, None))


def spec_is_bits(node: FieldNode) -> bool:
    """Whether a field is some bits of a word."""
    return isinstance(node.parent, GroupNode) and node.parent.spec.word is not None


def _said(spec: FieldSpec) -> str:
    """What a number is, as the template says."""
    if spec.derived is None:
        return VALUE
    bias = f" {spec.derived.plus:+d}" if spec.derived.plus else ""
    return f"the {spec.derived.kind} of {spec.subject(spec.derived.target)}{bias}"


def _link_in_words(link: Link | None) -> str:
    if link is None:
        return VALUE
    bias = f" {link.plus:+d}" if link.plus else ""
    return f"the {link.kind} of {link.target}{bias} · {link.holds_in} of {link.of}"


def _factor(text: str) -> int | str | None:
    """A scale or a bias as a template says it: fractions are written as texts."""
    return int(text) if text.removeprefix("-").isdigit() else text or None


def _number(text: str) -> int | float | None:
    """Raises ValueRefused where it is not a number; nothing where nothing is typed."""
    typed = text.strip().replace("−", "-")
    if not typed:
        return None
    try:
        return int(typed, 0) if not any(sign in typed for sign in ".eE") or typed[:2] == "0x" else float(typed)
    except ValueError as error:
        raise ValueRefused(f"“{text}” is not a number", "the bounds are as they were") from error
