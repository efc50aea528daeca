"""The tape against the plainest tape there could be: one that keeps a copy of itself for every step."""

from __future__ import annotations

import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from faithful_ledger.core.binding import bind
from faithful_ledger.core.binding.spans import all_fields
from faithful_ledger.core.entries import Entry, Tape
from faithful_ledger.core.save import field_entry
from faithful_ledger.core.source import MemorySource
from tests.support import template_of

FIELDS = st.integers(0, 4)
NODES = list(
    all_fields(
        bind(template_of("\n".join(f"- {{field: f{n}, as: u8}}" for n in range(5))).main, MemorySource(bytes(5))).root
    )
)
STEPS = st.lists(
    st.one_of(
        st.tuples(st.just("put"), st.lists(st.tuples(FIELDS, st.integers(0, 3)), max_size=3), st.sets(FIELDS)),
        st.tuples(st.just("withdraw"), FIELDS, st.none()),
        st.tuples(st.sampled_from(["clear", "undo", "redo"]), st.none(), st.none()),
    ),
    max_size=25,
)


class Model:
    """All entries after each step, and which step is shown."""

    def __init__(self) -> None:
        self.steps: list[dict[str, Entry]] = [{}]
        self.at = 0

    def follow(self, entries: dict[str, Entry]) -> None:
        if entries != self.steps[self.at]:
            self.steps[self.at + 1 :] = [entries]
            self.at += 1

    def put(self, entries: list[Entry], instead_of: list[str]) -> None:
        last: dict[str, Entry] = {}
        for entry in entries:
            last.pop(entry.path, None)
            last[entry.path] = entry
        now = {
            path: entry
            for path, entry in self.steps[self.at].items()
            if last.get(path) == entry or path not in (*instead_of, *last)
        }
        for path, entry in last.items():
            if entry.data != entry.node.raw:
                now.setdefault(path, entry)
        self.follow(now)


class TapeTest(unittest.TestCase):
    @settings(max_examples=300)
    @given(STEPS)
    def test_every_step_is_undone_and_redone_exactly_order_included(self, steps: list[tuple[str, object, set[int]]]):
        tape, model = Tape(), Model()
        for act, given_, instead in steps:
            if act == "put":
                entries = [field_entry(NODES[field], bytes([value])) for field, value in given_]
                paths = [NODES[field].path for field in sorted(instead)]
                tape.put(entries, paths)
                model.put(entries, paths)
            elif act == "withdraw":
                path = NODES[given_].path
                tape.withdraw(path)
                model.follow({kept: entry for kept, entry in model.steps[model.at].items() if kept != path})
            elif act == "clear":
                tape.clear()
                model.follow({})
            elif act == "undo":
                self.assertEqual(tape.undo(), model.at > 0)
                model.at = max(model.at - 1, 0)
            else:
                self.assertEqual(tape.redo(), model.at + 1 < len(model.steps))
                model.at = min(model.at + 1, len(model.steps) - 1)
            shown = model.steps[model.at]
            self.assertEqual(list(tape), list(shown.values()))
            self.assertEqual((tape.can_undo, tape.can_redo), (model.at > 0, model.at + 1 < len(model.steps)))
            self.assertEqual([tape.get(node.path) for node in NODES], [shown.get(node.path) for node in NODES])
