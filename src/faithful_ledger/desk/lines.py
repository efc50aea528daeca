"""What is said around the stages: the live line under each, the balance at the tape, the lists in the margin."""

from __future__ import annotations

from typing import NamedTuple

from faithful_ledger.core.clock import local_time
from faithful_ledger.core.describe.copies import explained
from faithful_ledger.core.records import Snapshot
from faithful_ledger.core.save import Save, SaveFile
from faithful_ledger.desk.session import Session
from faithful_ledger.desk.theme import HOLDS, OPEN

__all__ = ["COMPARE", "KEYS", "TEMPLATES", "Balance", "balance_of", "explained_share", "kept_in_words", "stage_lines"]

LONGEST = 20  # letters in the second line of a stage
UNSEALED = ("open", "no seals known")  # the template knows none, so nobody can say that the game will accept it
UNCHECKED = ("open", "no checksum known")  # only lengths, counts, offsets and copies
COMPARE = [
    ("open", OPEN, "changed: other bytes at the place where they belong"),
    ("open", OPEN, "came in, went: bytes that only one of the two has"),
    ("holds", HOLDS, "moved: the same bytes elsewhere"),
    (
        "",
        "",
        "What is behind bytes that came in is not called different: both are laid side by side where they agree.",
    ),
    (
        "",
        "",
        "F3 goes to the next change, Shift+F3 to the one before. Two copies between which you did nothing tell what "
        "changes by itself: leave that out.",
    ),
]
TEMPLATES = [
    (
        "",
        "",
        "A template says what a save holds and where. One of a book counts before your own, and these before the "
        "shipped ones.",
    ),
    ("holds", HOLDS, "proven: the game accepted a posting of the field, or its maker says so"),
    ("open", OPEN, "the others fit the sightings, or are guessed"),
    (
        "",
        "",
        "A witness is the hash of a save with the values it must show: whoever has that save can prove the template.",
    ),
    ("", "", "Import checks a template before it is taken in; nothing in it can run code or reach another folder."),
]
KEYS = [
    ("Ctrl+O", "open a save"),
    ("Ctrl+1 … 6", "the stages Gather, Locate, Describe, Edit, Carry, History"),
    ("Ctrl+S", "keep a copy now; in History with the label that is typed there"),
    ("Ctrl+K", "go to an offset, field, number or text"),
    ("Ctrl+Z", "undo the last entry"),
    ("Ctrl+Shift+Z", "enter it again"),
    ("Ctrl+Return", "look at what posting will write; again to write it"),
    ("Esc", "back from the plan, or close a message"),
    ("F1", "this list"),
    ("F5", "read the save again from the disk"),
    ("F2 or Return", "change the value of a cell"),
    ("Space", "turn a switch"),
    ("Ins, Alt+Ins", "in a table of records: a new record below, a copy of this one"),
    ("Ctrl+Del", "remove the selected records"),
    ("Ctrl+C, Ctrl+V", "copy cells to a spreadsheet, paste from one"),
    ("Tab, arrows", "move; in the bytes with Shift to select more"),
    ("Return", "in the bytes: put the selected one into edit; again for its letter; Esc ends it"),
    ("0 … F", "then type over it; Ins inserts, Del removes, Ctrl+C copies"),
    ("Ctrl+F", "search in the bytes"),
    ("Ctrl+D", "name the selected bytes"),
    ("F2, Del", "in the template: rename, remove"),
    ("Ctrl+Alt+Z", "undo in the template; with Shift do it again"),
    ("F3, Shift+F3", "in Compare: the next change, the one before"),
]


class Balance(NamedTuple):
    """Whether posting will balance: a role, in a word, what will be done besides, and whether it can be posted."""

    role: str
    text: str
    details: str
    can_post: bool


def balance_of(session: Session, save: Save) -> Balance:
    """Whether posting will balance, or why not."""
    plan = session.plan
    if session.pending_plan:
        return Balance("open", "working it out…", "", False)
    if session.plan_error is not None:
        return Balance("broken", "cannot be posted", "", False)
    doubt = (UNCHECKED if save.knows_seals else UNSEALED) if save.doubt else None
    if plan is None:
        held = save.in_balance if save.template is not None and save.problem is None else None
        words = {True: ("holds", "in balance"), False: ("broken", "out of balance"), None: ("open", "not checked")}
        return Balance(*(doubt if held and doubt else words[held]), "", False)
    renewed = [renewal.kind for renewal in plan.renewals]
    seals, others = renewed.count("seal"), len(renewed) - renewed.count("seal")
    parts = [f"{seals} {'seal' if seals == 1 else 'seals'} to renew"] if seals else []
    parts += [f"{others} {'length' if others == 1 else 'lengths'} to adjust"] if others else []
    removed = len(plan.companions)
    parts += [f"{removed} {'file' if removed == 1 else 'files'} to remove"] if removed else []
    state = ("open", "asks about its seals") if plan.undecided else ("holds", "will balance")
    state = doubt if doubt and plan.in_balance and not plan.undecided else state
    state = state if plan.in_balance or plan.undecided else ("broken", "will not balance")
    return Balance(*state, "  ·  ".join(parts), True)


def explained_share(save: Save, around: SaveFile) -> float:
    """How much of a file is explained, with what is packed in it; 0 to 1."""
    within = {around.name}
    for name, file in save.files.items():
        within |= {name} if file.inside in within else set()
    known, size = explained({name: b for name in within if (b := save.files[name].bound) is not None})
    return known / max(size, 1)


def stage_lines(session: Session, save: Save, *, watching: bool) -> list[str]:
    """A line for each stage, in their order."""
    book = session.book
    quantities = book.records.quantities(save.path) if book is not None else []
    pinned = sum(bool(quantity.pinned) for quantity in quantities)
    kept = book.keeping.count_own(save) if book is not None else 0
    bound = save.main.bound
    share = explained_share(save, save.main)
    postings = book.history.own_postings(save) if book is not None else []
    count, open_ = len(postings), len(book.history.open_steps(postings)) if book is not None else 0
    described = f"{share:.0%} explained" if bound is not None and save.template is not None else "bytes only"
    if save.template is None and save.outline is not None and save.outline.formats:
        described = f"{save.outline.formats[0]}, by paths"
        described = described if len(described) <= LONGEST else save.outline.formats[0]
    return [
        "watching" if watching else f"{kept} kept",
        f"{pinned} of {len(quantities)} pinned" if quantities else "nothing watched",
        described,
        f"{len(save.tape)} pending" if len(save.tape) else "no entries",
        _carry_line(save),
        f"{count} posting{'' if count == 1 else 's'}" + (f", {open_} open" if open_ else ""),
    ]


def kept_in_words(snapshot: Snapshot) -> str:
    """A kept copy in a list to choose from."""
    return f"kept {local_time(snapshot.time)} · {snapshot.label or 'without a label'}"


def _carry_line(save: Save) -> str:
    """Where the save is, for the stage that carries it elsewhere."""
    template = save.template
    slots = template.slots if template is not None else None
    if slots is not None and slots.rows:
        return "slots in one file"
    if slots is not None and slots.file in save.files:
        said = slots.said_by(save.files[slots.file].path)
        return f"in slot {said}" if said is not None else "in no slot"
    return "a card" if template is not None and template.card is not None else "to another save"
