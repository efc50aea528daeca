"""Records of numbers around a value that is always in the one with the same number."""

from __future__ import annotations

import random
import struct

from faithful_ledger.core.in_front.elements import CountedRows
from faithful_ledger.core.in_front.walk import in_front
from faithful_ledger.core.storage import NUMBERS
from tests.support import LedgerCase

Saves = tuple[list[bytes], list[int], tuple[int, int]]


def carried(turn: random.Random, count_as: str, form: str, more: int, *, counted: bool = True) -> Saves:
    """Four saves with records of a number, how many there are of it and other bytes, of which some come and go; where
    those of the number 770 are, and the bytes of the first of them. The list is in a buffer of one size, or is not.
    """
    held = {number: turn.randrange(1, 99) for number in turn.sample(range(1, 3000), turn.randrange(20, 60))}
    is_sorted, in_buffer = turn.random() < 0.5, turn.random() < 0.5
    saves, places = [], []
    for _ in range(4):
        for number in turn.sample([each for each in held if each != 770], 3):
            del held[number]
        held.update({number: turn.randrange(1, 99) for number in turn.sample(range(1, 3000), turn.randrange(1, 7))})
        held[770] = turn.randrange(100, 900)
        numbers = sorted(held) if is_sorted else turn.sample(sorted(held), len(held))
        width = struct.calcsize(form) + more
        lots = b"".join(struct.pack(form, each, held[each]) + turn.randbytes(more) for each in numbers)
        count = struct.pack(count_as, len(numbers) if counted else turn.randrange(3000, 9000))
        head = b"BWIN" + turn.randbytes(6) + count
        places.append(len(head) + width * numbers.index(770) + struct.calcsize(form) // 2)
        saves.append(head + (lots.ljust(100 * width, b"\0") if in_buffer else lots) + b"END." + bytes(range(60)))
    return saves, places, (places[0], places[0] + struct.calcsize(form) // 2)


class KeyedRowsTest(LedgerCase):
    def test_the_list_around_a_value_is_found_and_none_where_nothing_counts_it(self) -> None:
        seed = random.randrange(1 << 32)
        turn = random.Random(seed)
        found = chance = 0
        kinds = [
            (count, form, more) for count in ("<H", "<I", ">H") for form in ("<HH", "<II", ">HH") for more in (0, 1, 4)
        ]
        for count_as, form, more in kinds:
            with self.subTest(seed=seed, count_as=count_as, form=form, more=more):
                saves, places, place = carried(turn, count_as, form, more)
                rows, _ = in_front(saves, [0] * 4, list(places), place)
                size = struct.calcsize(form)
                rows = [each for each in rows if isinstance(each, CountedRows) and each.key is not None]
                for each in rows:
                    begin = each.start + NUMBERS[each.count_as].least_size
                    self.assertEqual((each.record, begin), ((size + more,), 10 + struct.calcsize(count_as)))
                    assert each.key is not None
                    self.assertLessEqual(each.key[1], size // 2)
                counts = {save[10 : 10 + struct.calcsize(count_as)] for save in saves}
                found += bool(rows) or len(counts) == 1  # nothing shows what counts
            saves, places, place = carried(turn, count_as, form, more, counted=False)
            rows, _ = in_front(saves, [0] * 4, list(places), place)
            chance += any(isinstance(each, CountedRows) and each.key is not None for each in rows)
        self.assertGreaterEqual(found, len(kinds) - 2, f"with the seed {seed}")
        self.assertLessEqual(chance, 1, f"with the seed {seed}")
