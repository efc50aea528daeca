"""The margin: about what is selected, every reading of its bytes, and the next sensible step."""

from __future__ import annotations

from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import Qt, QUrl
from PySide6.QtGui import QDesktopServices
from PySide6.QtWidgets import QCheckBox, QFrame, QLayout, QLineEdit, QVBoxLayout, QWidget

from faithful_ledger.core.binding import FieldNode, GroupNode, Node, RowsNode
from faithful_ledger.core.binding.limits import bounds_at
from faithful_ledger.core.binding.spans import fields_between
from faithful_ledger.core.errors import LedgerError, place
from faithful_ledger.core.records import Mark, Quantity
from faithful_ledger.core.rules.audit import field_findings
from faithful_ledger.core.save import Save
from faithful_ledger.core.storage import Choice, Switches
from faithful_ledger.core.storage.lettering import visible
from faithful_ledger.core.storage.literals import bytes_typed
from faithful_ledger.desk.session import Selection, Session
from faithful_ledger.desk.theme import BROKEN, HOLDS, OPEN
from faithful_ledger.desk.widgets.basics import button, clear, column, label, pair, row, rule, scrolled
from faithful_ledger.desk.widgets.checksum_list import ChecksumList
from faithful_ledger.desk.widgets.element_form import ElementForm
from faithful_ledger.desk.widgets.field_models import bounds_text
from faithful_ledger.desk.widgets.new_element import NewElement, SeveralElements
from faithful_ledger.desk.widgets.reading_list import ReadingList
from faithful_ledger.desk.widgets.words import evidence_in_words, storage_in_words

if TYPE_CHECKING:
    from faithful_ledger.core.evidence import Located, Place

__all__ = ["MARGIN_WIDTH", "Margin"]

MARGIN_WIDTH, NARROW_WIDTH, NARROW_WINDOW = 292, 254, 1060
MOST_NOT_TRIED = 5
LEAST_COVERED = 4  # bytes whose checksums are worth a look
MOST_FILES = 12  # of a folder that are named
MOST_NAMES = 16  # of a choice
STANDINGS = {
    "proven": ("holds", f"{HOLDS} proven in the game"),
    "fits": ("open", f"{OPEN} fits the sightings"),
    "guessed": ("open", f"{OPEN} guessed"),
}


def open_in_file_manager(folder: Path) -> None:
    QDesktopServices.openUrl(QUrl.fromLocalFile(str(folder)))


class Margin(QFrame):
    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("aside")
        self.setFixedWidth(MARGIN_WIDTH)
        self.session = session
        self.idle_step = ""  # what is sensible to do at the stage that is shown
        self.entry_line: QLineEdit | None = None
        self.note_line: QLineEdit | None = None
        self.new_element: NewElement | None = None
        page = QFrame()
        page.setObjectName("asidepage")
        self.paper = QVBoxLayout(page)
        self.paper.setContentsMargins(14, 14, 12, 12)
        self.paper.setSpacing(6)
        area = scrolled(page)
        area.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setLayout(column(area))

    def fit(self, window: int) -> None:
        """Take less room in a narrow window."""
        self.setFixedWidth(MARGIN_WIDTH if window >= NARROW_WINDOW else NARROW_WIDTH)

    def show_lines(self, title: str, lines: list[tuple[str, str, str]]) -> None:
        """A heading and lines, each a role, a mark (or a key) in that role, and a text."""
        self._begin(title)
        for role, mark, text in lines:
            words = label(text, wrap=True, selectable=True)
            if not mark:
                self.paper.addWidget(words)
                continue
            sign = label(mark, role)
            sign.setAlignment(Qt.AlignmentFlag.AlignTop)
            line = row(sign, words, spacing=6)
            line.setStretchFactor(words, 1)
            self.paper.addLayout(line)
        self.paper.addStretch(1)

    def show_selection(self, selection: Selection | None) -> None:
        save = self.session.save
        if save is None or selection is None:
            self._show_save(save)
            return
        node = selection.node
        if isinstance(node, FieldNode):
            self._show_field(save, node)
        elif node is not None:
            self._show_part(save, node)
        else:
            size = selection.end - selection.start
            self._begin(f"{size} byte{'s' if size != 1 else ''} selected")
            self._add(pair("begins", place(selection.start)), pair("ends before", place(selection.end)))
            bound = save.files[selection.file].bound if selection.file in save.files else None
            if bound is not None and next(fields_between(bound.root, selection.start, selection.end), None) is None:
                self._add(label(f"{OPEN} no field describes {'it' if size == 1 else 'them'} yet", "open", wrap=True))
        self._show_describing(save, selection)
        file = save.files.get(selection.file)
        if file is None or file.bound is None or not file.bound.document.knows_ends:
            self._show_readings(selection)  # a text says what it is
        self.paper.addStretch(1)

    def _show_describing(self, save: Save, selection: Selection) -> None:
        """What the template says of the selection, to be changed; or how the bytes may be described."""
        node, describing = selection.node, self.session.describing
        if node is not None and describing.is_described_text(node):
            self._add(label("In the template", "heading"), rule(), ElementForm(self.session, node, in_text=True))
            return
        if selection.end <= selection.start or not describing.can_describe(selection.file):
            return
        unknown = node is None or (isinstance(node, FieldNode) and node.spec.unknown)
        bound = save.files[selection.file].bound
        over = fields_between(bound.root, selection.start, selection.end) if bound is not None else iter(())
        is_free = all(field.spec.unknown for field in over)
        if not unknown and node is not None:
            self._add(label("In the template", "heading"), rule(), ElementForm(self.session, node))
        is_run = node is not None and unknown
        if unknown and not is_run and (ends := describing.ends(selection)):
            self._add(label("These elements together", "heading"), rule())
            self._add(SeveralElements(self.session, selection, ends, single=False))
        elif isinstance(node, GroupNode) and node.index is None and (ends := describing.ends(selection)):
            self._add(label("Repeat this group", "heading"), rule())
            self._add(SeveralElements(self.session, selection, ends, single=True))
        elif unknown and is_free:
            self._add(label("Describe these bytes", "heading"), rule())
            self.new_element = NewElement(self.session, selection)
            self._add(self.new_element)

    def show_place(
        self, quantity: Quantity | None, located: Located | None, place: Place | None, following: str = ""
    ) -> None:
        """About a quantity and the place that is selected, and what to do in the game next."""
        self._begin(quantity.name if quantity is not None else "Sightings")
        if quantity is None:
            self._add(
                label("Name something the game shows: money, a life bar, a name. Then write what you saw.", wrap=True)
            )
        if place is not None and quantity is not None:
            where = place.path or f"0x{place.offsets[0]:X} ({place.offsets[0]})"
            self._add(pair("place", where), pair("stored as", storage_in_words(place.stored_as)))
            self._add(
                pair("fits", f"{place.fits} of {place.of} snapshots", "holds" if place.fits == place.of else "open")
            )
            self._add(pair("evidence", evidence_in_words(place.bits, place.by_chance)))
            if place.layer is not None:
                self._add(pair("inside", place.layer))
            if place.file and located is not None and len({each.file for each in located.places}) > 1:
                self._add(pair("file", Path(place.file).name))
            if place.anchor is not None:
                self._add(pair("moves", place.anchor))
            for reason in place.reasons:
                if not reason.startswith(("moves", "inside")):
                    self._add(pair("why", reason))
            if quantity.pinned:
                self._add(pair("pinned", quantity.pinned, "holds"))
                self._add(row(button("Take the pin back", lambda: self.session.evidence.unpin(quantity), "link"), None))
            else:
                self.paper.addWidget(
                    button(
                        "Pin it in the template",
                        lambda: self.session.evidence.pin(quantity, place),
                        "main",
                    )
                )
                copies = located.copies_of(place) if located is not None else []
                if copies:
                    every = "both" if len(copies) == 1 else f"all {len(copies) + 1}"
                    where = ", ".join(each.path or f"0x{each.offsets[0]:X}" for each in copies)
                    is_same = all(each.values == place.values and each.mask is None for each in copies)
                    self._add(pair("the same at" if is_same else "follow it at", where))
                    self.paper.addWidget(
                        button(
                            f"Pin {every}, and keep them equal",
                            lambda: self.session.evidence.pin(quantity, place, copies),
                        )
                    )
        if located is not None:
            if located.warning:
                self._add(label(f"{BROKEN} {located.warning}", "broken", wrap=True))
            self._add(label("Next best sighting", "heading"), rule(), label(located.suggestion, wrap=True))
            if following:
                self._add(label(following, wrap=True))
            if located.not_tried:
                self._add(label("Not looked into", "heading"), rule())
                for each in located.not_tried[:MOST_NOT_TRIED]:
                    self._add(label(f"{OPEN} {each.what}: {each.why}", "quiet", wrap=True))
        self.paper.addStretch(1)

    def _begin(self, title: str) -> None:
        self.entry_line = self.note_line = self.new_element = None
        clear(self.paper)
        heading = label(title, "heading", wrap=True, selectable=True)
        self.paper.addWidget(heading)
        self.paper.addWidget(rule())

    def _add(self, *parts: object) -> None:
        for part in parts:
            if isinstance(part, QWidget):
                self.paper.addWidget(part)
            else:
                self.paper.addLayout(part)  # type: ignore[arg-type]

    def _show_save(self, save: Save | None) -> None:
        if save is None:
            self.show_lines("Start here", [("", "", "Open a save: Ctrl+O, or drop the file on this window.")])
            return
        self._begin(save.path.name)
        if save.template is None and save.outline is not None and save.outline.problem is None:
            self._add(pair("template", "none"), pair("text", ", ".join(save.outline.formats)))
            steps = (
                "Edit lists every value with its path; type over what shall change.",
                "Describe shows the same values beside the text.",
                "Select a value to keep it as a field of a template.",
            )
            self._add(label("Next step", "heading"), rule(), *(label(f"{OPEN} {step}", wrap=True) for step in steps))
        elif save.template is None:
            self._add(label("No template fits this file. Select bytes to see every way to read them.", wrap=True))
            steps = (
                "Profile, in Describe, says what kind of bytes these are.",
                "Gather watches the game and keeps a copy at every save.",
                "Locate finds a value from what the game showed at these copies.",
            )
            self._add(label("Next step", "heading"), rule(), *(label(f"{OPEN} {step}", wrap=True) for step in steps))
        else:
            self._add(pair("template", f"{save.template.title} {save.template.version}"))
            self._show_where(save.template.id)
            held = sum(state.holds for state in save.seals)
            role, mark = ("holds", HOLDS) if held == len(save.seals) else ("broken", BROKEN)
            seals = pair("seals", f"{mark} {held} of {len(save.seals)} hold", role)
            self._add(
                seals
                if save.seals
                else pair("seals", f"{OPEN} none {'in this save' if save.knows_seals else 'known'}", "open")
            )
            for state in save.broken_seals[:8]:
                text = f"{BROKEN} {state.label}: {state.algorithm} says {state.says}, should say {state.should_say}"
                self._add(label(text, "broken", wrap=True))
            self._add(pair("files", "\n".join(save.name_of(file) for file in save.on_disk[:MOST_FILES])))
            if save.template.about:
                self._add(pair("about", save.template.about))
            self._add(label("Next step", "heading"), rule())
            self._add(label(self._next_step(save), wrap=True))
        self.paper.addStretch(1)

    def _next_step(self, save: Save) -> str:
        """What is sensible to do now, from what was done last."""
        book = self.session.book
        latest = next(iter(book.history.own_postings(save)), None) if book is not None else None
        if len(save.tape):
            return "Look at what posting will write: Ctrl+Return."
        if book is not None and latest is not None and latest.reversed is None:
            verdict = book.records.verdicts().get(latest.id)
            if verdict is None:
                return "Start the game and look. Then say in History what it made of it: accepted, refused or odd."
            if verdict == "refused":
                return "The game refused the last posting: History says what to look at, and puts the old bytes back."
        return self.idle_step or "Change a value in Edit, or select bytes or fields in Describe."

    def _show_where(self, template: str) -> None:
        """Where a template is, with a link that opens its folder in the file manager."""
        library = self.session.shelf.library(self.session.book)
        path = library.path_of(template)
        if path is not None:
            open_folder = button("show its file", partial(open_in_file_manager, path.parent), "link")
            open_folder.setToolTip(str(path))
            self._add(pair("is", path.name), row(open_folder, None))

    def _show_part(self, save: Save, node: Node) -> None:
        file = save.files[node.file]
        whole = "the whole payload" if file.inside else "the whole file"
        self._begin(node.path or node.title or (file.name if file.inside else file.path.name))
        what = f"{node.count} records" if isinstance(node, RowsNode) else whole if node.parent is None else "group"
        if isinstance(node, RowsNode) and node.stride:
            what += f" of {node.stride} bytes"
        self._add(pair("is", what), pair("begins", place(node.start)), pair("size", f"{node.size} bytes"))
        if node.spec.note:
            self._add(pair("note", node.spec.note))

    def _show_field(self, save: Save, node: FieldNode) -> None:
        spec = node.spec
        self._begin(node.path)
        try:
            now = visible(spec.storage.to_text(save.value(node)))
        except LedgerError:
            now = f"{BROKEN} cannot be read"
        self._add(pair("now", now or "–", "open" if save.tape.get(node.path) else "heading"))
        entry = save.tape.get(node.path)
        if entry is not None:
            self._add(pair("was", entry.old_text or "–"))
        self._add(pair("begins", place(node.start)), pair("size", f"{node.size} byte{'s' if node.size != 1 else ''}"))
        self._add(pair("stored as", spec.storage.about))
        if spec.bounds is not None:
            self._add(pair("bounds", bounds_text(bounds_at(node, save.value))))
        if not spec.unknown and save.template is not None:
            role, text = STANDINGS[spec.standing]
            self._add(pair("standing", text, role))
        for state in save.seals:
            if state.name == node.path:
                text = f"{HOLDS} holds" if state.holds else f"{BROKEN} should say {state.should_say}"
                self._add(pair("seal", f"{state.algorithm}: {text}", "holds" if state.holds else "broken"))
        for rule_ in save.template.rules if save.template is not None else ():
            if node.path in (rule_.left, rule_.right):
                other = rule_.right if node.path == rule_.left else rule_.left
                self._add(pair("rule", f"equal to {other}"))
        for finding in field_findings(node):
            self._add(label(f"{BROKEN} {finding.message}", "broken", wrap=True))
        if spec.note:
            self._add(pair("note", spec.note))
        if isinstance(spec.storage, Choice | Switches):
            names = [name for _, name in sorted(spec.storage.names.items())]
            more = f" and {len(names) - MOST_NAMES} more" if len(names) > MOST_NAMES else ""
            self._add(pair("names", ", ".join(names[:MOST_NAMES]) + more))
        self._entry(node, now)
        self._whose(save, node)
        if save.template is None or node.spec.parent is None:  # what has only its path belongs to no layout
            self._describe(save, node)

    def _whose(self, save: Save, node: FieldNode) -> None:
        """Whether this field tells the saves of one character from those of another; the user can say so."""
        book, spec = self.session.book, node.spec
        is_one_of_many = "[" in node.path
        if book is None or node.parent is None or is_one_of_many or spec.unknown or spec.seal or spec.derived:
            return
        if save.template is not None and node.path in save.template.identity:
            self._add(pair("says", "whose save this is"))
            return
        box = QCheckBox("says whose save this is")
        box.setToolTip("Another one under the same file name then has a history and sightings of its own")
        box.setChecked(node.path in book.keeping.identities.paths(save))
        box.toggled.connect(lambda chosen: self.session.choose_identity(node.path, chosen=chosen))
        self._add(box)

    def _describe(self, save: Save, node: FieldNode) -> None:
        """A value of a text that no template describes can become a field of one."""
        line = QLineEdit()
        line.setPlaceholderText("its name in the game")
        line.setAccessibleName(f"Name for {node.path}")

        def keep() -> None:
            if save.template is None:
                self.session.evidence.describe(node, line.text())
            else:
                self.session.describing.add_value(node, line.text())

        line.returnPressed.connect(keep)
        self._add(label(f"Keep as a field of {'a' if save.template is None else 'this'} template", "heading"), rule())
        self._add(row(label("Name", "quiet"), line, button("Keep", keep)))

    def _entry(self, node: FieldNode, now: str) -> None:
        spec = node.spec
        if spec.derived is not None or spec.seal is not None:
            self._add(label("It is worked out when you post.", "quiet", wrap=True))
            return
        if spec.locked is not None:
            self._add(label(f"Locked: {spec.locked}.", "quiet", wrap=True))
            return
        line = QLineEdit(now)
        line.setAccessibleName(f"Enter {node.path}")
        line.returnPressed.connect(lambda: self.session.enter(node, line.text()))
        self.entry_line = line
        caption = [label("Enter", "quiet")] if self.width() >= MARGIN_WIDTH else []
        self._add(row(*caption, line, button("Write down", lambda: self.session.enter(node, line.text()))))

    def _show_readings(self, selection: Selection) -> None:
        """How the bytes read, and a line to type over them."""
        if selection.end <= selection.start:
            return
        session = self.session
        self._add(label("These bytes read as", "heading"), rule(), ReadingList(session, selection))
        if session.save is not None and selection.file in session.save.files:
            self._add(self._typing(selection))
        if selection.end - selection.start >= LEAST_COVERED and session.describing.can_describe(selection.file):
            self._add(ChecksumList(session, selection))
        self._show_marks(selection)

    def _typing(self, selection: Selection) -> QLayout:
        """A line for the bytes themselves: in hexadecimal, or a text in quotation marks."""
        line = QLineEdit()
        line.setPlaceholderText('0A FF or "text"')
        line.setAccessibleName("Type bytes over the selected ones")

        def enter() -> None:
            data = self.session.attempt(lambda: bytes_typed(line.text()))
            if data:
                self.session.type_bytes(selection.file, selection.start, selection.start + len(data), data)

        line.returnPressed.connect(enter)
        return row(label("bytes", "quiet"), line, button("Type over", enter))

    def _show_marks(self, selection: Selection) -> None:
        session = self.session
        marks = [
            m for m in session.sources.marks(selection.file) if m.start < selection.end and selection.start < m.end
        ]
        for mark in marks:
            words = label(
                f"{OPEN} {mark.note or 'marked'} · {mark.address.in_words()}, {mark.end - mark.start} bytes", wrap=True
            )
            line = row(words, button("remove", partial(self._unmark, mark, selection), "link"), spacing=4)
            line.setStretchFactor(words, 1)
            self._add(line)
        self.note_line = QLineEdit()
        self.note_line.setPlaceholderText("a note about these bytes")
        self.note_line.setAccessibleName("Note for the selected bytes")
        self.note_line.returnPressed.connect(lambda: self._mark(selection))
        self._add(row(label("mark", "quiet"), self.note_line, button("Mark", lambda: self._mark(selection))))

    def _mark(self, selection: Selection) -> None:
        if self.note_line is not None:
            note = self.note_line.text().strip()
            self.session.sources.mark(selection.file, selection.start, selection.end, note)
            self.show_selection(selection)

    def _unmark(self, mark: Mark, selection: Selection) -> None:
        self.session.sources.unmark(mark)
        self.show_selection(selection)

    def focus_name(self) -> None:
        """Put the cursor into the name of what the selected bytes are to be."""
        if self.new_element is not None:
            self.new_element.name.setFocus()

    def focus_note(self) -> None:
        """Put the cursor into the note about the selected bytes."""
        if self.note_line is not None:
            self.note_line.setFocus()
