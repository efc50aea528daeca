"""How likely a place is, in bits: how improbable it is that chance put these values there, and what speaks beside.

Counted are how rare the bytes of each value are in its snapshot (each value once), less what the storage, the scale and
the bias cost (how many others would have been believed as well); the agreement of the surroundings; a copy beside it,
or a maximum; the byte order of the save; and a label in front.
"""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Iterable, Sequence

import numpy as np

from faithful_ledger.core.evidence.carrying import Carrier
from faithful_ledger.core.evidence.content import UNIT, Content
from faithful_ledger.core.evidence.pinned import Described, Known, Pinned
from faithful_ledger.core.evidence.place import Place
from faithful_ledger.core.evidence.reading import STORAGES
from faithful_ledger.core.evidence.shown import OF_CLOCKS, OF_PERCENT
from faithful_ledger.core.evidence.sightings import Sighting
from faithful_ledger.core.layers import MASKED as MASKED_TEXT

__all__ = ["USUAL_SCALES", "copies_of", "into_spots", "is_clear", "judge", "reasons_for", "without_echoes"]

COSTS = {"u32": 0, "i32": 0.5, "u16": 0.3, "i16": 0.8, "u8": 1, "i8": 1.5, "u64": 5, "i64": 5.5, "f32": 2, "f64": 2}
COSTS |= {"u24": 4, "i24": 4.5, "digits": 3, "uleb128": 8, "sleb128": 9, "zigzag": 9, "vlq": 9}
COSTS |= {"sized-high": 10, "sized-low": 10, "sized-front": 10}
OTHER_STORAGE, BIG_ENDIAN, NEEDLESS = 6.0, 1.0, 60.0
SCALES = {1: 0, 10: 3, 100: 4, 0.1: 6, 0.01: 5, 256: 8, 65536: 9, 1 / 60: 8}
SCALES |= dict.fromkeys(map(float, (*OF_CLOCKS, *OF_PERCENT)), 8)
FREE_SCALE, MASKED, ANY_BIT, ANY_LETTERS, ANY_RECORD = 24.0, 10.0, 4.0, 24.0, 20.0
KEY_BYTE, MOST_HIDDEN = 1.5, 4  # for each byte of a key that hides something, up to so many
LEAST_COPIED, LEAST_LETTERS = 2, 4  # different numbers that copies have said; letters of a text
USUAL_SCALES = (1, 10, 100, 0.1, 0.01)
PER_RELATION = 1.0
SURELY = 2.0  # agreement around from which on a place that moved is not anywhere
SURROUNDINGS, MOST_SURROUNDINGS = 24.0, 240.0  # so many bits that agree count as one; and no more than so many
ORDER, ALIGNED, LABEL, TWIN, MAXIMUM, ALONE_IN_BYTE, MEASURED = 3.0, 1.0, 6.0, 6.0, 5.0, 3.0, 6.0
WIDE_TEXTS = frozenset(("utf-16le", "utf-16be"))
RESTLESS = 1.5  # for each other state of the byte a switch is in
STRAYED, MISSED, OVERLAP = 12.0, 30.0, 24.0
BY_PATH = 20.0
CHANCE_SAID = 0.5
CLEAR_CHANCE, CLEAR_LEAD = 0.01, 8.0
LOOKED_CLOSELY = 200
NEARLY = 1.5  # times as much agreement elsewhere makes a place a stray
ENOUGH = 64 * UNIT
CLOSE, LONGEST_NUMBER = 8, 10  # bytes, and of a number whose size varies
TELLING = 4  # different bytes of these
MUCH_CLOSER = 32 * UNIT


def judge(
    places: list[Place],
    contents: Sequence[Content],
    carriers: dict[int, Carrier],
    first: int,
    seen: Sequence[Sighting],
    pinned: Sequence[Known] = (),
    *,
    closely: bool = True,
) -> None:
    """Give each place its bits, and sort them, the likeliest first. `carriers` lead from snapshot `first`; `closely`
    asks whether they would lead elsewhere. `pinned` are what is known of the same payload.
    """
    around = _surroundings(places, carriers, first)
    for place, agreed in zip(places, around, strict=True):
        value_bits = _value_bits(place, contents, seen)
        cost = _relation_cost(place)
        if place.moves and place.path is None and place.records is None:
            # Where little around agrees, it might be anywhere.
            anywhere = math.log2(contents[first].data.size + 2)
            cost += anywhere * (len(place.offsets) - 1) * max(1 - agreed / SURELY, 0)
        if place.path is None:
            place.by_chance = contents[first].data.size * 2.0 ** min(cost - value_bits, 60)
        else:
            place.by_chance = 2.0 ** -min(value_bits, 60)
        place.strayed = False
        place.bits = value_bits - cost - _storage_cost(place) + agreed - MISSED * (place.of - place.fits)
        place.bits += BY_PATH if place.path is not None else 0
        place.bits += MEASURED if place.end.prefix else 0
        if place.stored_as in WIDE_TEXTS:
            place.bits += ALIGNED if place.offsets[0] % 2 == 0 else 0
        storage = STORAGES.get(place.stored_as)
        is_number = storage is not None and storage.family in ("whole", "signed", "fraction") and not place.bits_in
        if storage is not None and storage.least_size > 1 and is_number:
            place.bits += ALIGNED if place.offsets[0] % storage.least_size == 0 else 0
            order = contents[first].order
            place.bits += ORDER * (1 if place.stored_as.endswith(order) else -1) if order else 0
    places.sort(key=_rank)
    likely = places[:LOOKED_CLOSELY]
    for place in likely:
        place.beside.clear()
        if place.path is None:
            _look_beside(place, contents)
        _look_around(place, pinned)
    if closely:
        _strays(likely, carriers, first)
    places.sort(key=_rank)


def _rank(place: Place) -> tuple[float, int, str]:
    return -place.bits, place.offsets[0], place.stored_as


def _surroundings(places: list[Place], carriers: dict[int, Carrier], first: int) -> list[float]:
    found = np.zeros(len(places))
    if not carriers:
        return [0.0] * len(places)
    by_width: defaultdict[int, list[int]] = defaultdict(list)
    for number, place in enumerate(places):
        if place.path is None:
            by_width[_width(place)].append(number)
    for width, numbers in by_width.items():
        here = np.array([places[number].offsets[first] for number in numbers])
        for j, carrier in carriers.items():
            there = np.array([places[number].offsets[j] for number in numbers])
            found[numbers] += carrier.agreement(here, there, width)
    agreed = found / UNIT / len(carriers)
    values: list[float] = (np.minimum(agreed, MOST_SURROUNDINGS) / SURROUNDINGS).tolist()
    return values


def _width(place: Place) -> int:
    return max(place.size(j, b"") for j in range(len(place.offsets)))


def _value_bits(place: Place, contents: Sequence[Content], seen: Sequence[Sighting]) -> float:
    """How improbable the values are there."""
    storage = STORAGES.get(place.stored_as)
    if storage is not None and storage.family == "switch":
        return float(len(place.values))
    if place.mask is not None:
        return _masked_bits(place, seen)
    if place.bits_in is not None:
        known = {each.number for each in seen if each.number is not None}
        return float(len(known) * max(int(number).bit_length() for number in known))
    total, once, tails = 0.0, set[float | str](), set[bytes]()
    for j, (content, at, value) in enumerate(zip(contents, place.offsets, place.values, strict=True)):
        kind = seen[j].kind
        if j == place.doubts or kind == "any":
            continue
        if kind not in ("number", "text"):
            total += PER_RELATION
        elif value not in once:
            once.add(value)
            held = content.data[at : at + _size_in(place, j, content)]
            if storage is not None and storage.family == "variable":
                # What is behind the first byte may be another field, which says the same in all of them.
                held = held[:1] if held[1:].tobytes() in tails else held
                tails.add(held[1:].tobytes())
            bits = float(content.rarity[held].sum()) / UNIT
            if place.rounding is not None and seen[j].number is not None:
                bits = min(bits, 4 + math.log2(abs(float(seen[j].number or 0)) / seen[j].unit + 2))
            total += bits
    if place.path is not None:
        return float(sum(math.log2(abs(v) + 2) if not isinstance(v, str) else 4.0 * len(v) + 4 for v in once)) or total
    # A free scale or a bias is fitted to the first of the values, which then says nothing any more.
    fitted = place.bias or place.scale not in SCALES
    return total * (1 - 1 / max(len(once), 1)) if fitted and once else total


def _size_in(place: Place, number: int, content: Content) -> int:
    """How many bytes its value takes in a snapshot."""
    at = place.offsets[number]
    return place.size(number, content.data[at : at + LONGEST_NUMBER].tobytes())


def _masked_bits(place: Place, seen: Sequence[Sighting]) -> float:
    """A key for all of them is fitted to the first; what stands beside a number hides all of its bits."""
    numbers = list(dict.fromkeys(int(each.number) for each in seen if each.number is not None))
    assert place.mask is not None
    if not place.mask.key:
        return 8.0 * STORAGES[place.stored_as].least_size * len(numbers)
    return float(sum((number ^ numbers[0]).bit_length() for number in numbers[1:]))


def _storage_cost(place: Place) -> float:
    storage = STORAGES.get(place.stored_as)
    if place.path is not None or storage is None or storage.family == "switch":
        return 0.0
    plain = place.stored_as.removesuffix("le").removesuffix("be")
    # A key hides every byte of a number, also those that are always zero.
    hidden = min(sum(map(bool, place.mask.key)), MOST_HIDDEN) if place.mask is not None else 0
    largest = max((abs(value) for value in place.values if not isinstance(value, str)), default=0)
    if plain in ("u64", "i64") and place.mask is None and largest < 1 << 31:
        return NEEDLESS  # its high bytes may be another number, which is zero by now
    return COSTS.get(plain, OTHER_STORAGE) + (BIG_ENDIAN if place.stored_as.endswith("be") else 0) - KEY_BYTE * hidden


def _relation_cost(place: Place) -> float:
    cost = SCALES.get(place.scale, FREE_SCALE) + (MASKED if place.mask is not None else 0)
    cost += ANY_BIT if place.bits_in is not None else 0
    cost += ANY_LETTERS if place.letters else 0
    cost += ANY_RECORD if place.records is not None else 0
    if place.path is not None:
        return cost
    cost += 3 + math.log2(abs(place.bias) + 1) if place.bias else 0
    return cost + (4 if place.rounding is not None else 0)


def _look_beside(place: Place, contents: Sequence[Content]) -> None:
    """A twin that always says the same, a constant maximum, a label; of a switch, whether its byte is its own."""
    storage = STORAGES.get(place.stored_as)
    held = list(zip(contents, place.offsets, strict=True))
    if storage is not None and storage.family == "switch":
        mask = ~(1 << int(place.stored_as[3:]))
        others = len({int(content.data[at]) & mask for content, at in held})
        place.bits -= RESTLESS * (others - 1)
        if others == 1:
            place.bits += ALONE_IN_BYTE
            place.beside.append("nothing else in its byte changes")
    elif storage is not None and storage.family in ("whole", "signed", "fraction") and place.bits_in is None:
        width = storage.least_size
        raws = [content.data[at : at + width].tobytes() for content, at in held]
        largest = raws[max(range(len(raws)), key=lambda j: place.values[j])]
        best = 0.0
        for step in (width, -width, 2 * width, -2 * width):
            near = [content.data[at + step : at + step + width].tobytes() for content, at in held if at + step >= 0]
            if len(set(raws)) < 2 or len(near) < len(held) or any(len(each) < width for each in near):
                continue
            if near == raws and best < TWIN:
                best = TWIN
                place.beside.append(f"the same stands {abs(step)} bytes {'behind' if step > 0 else 'before'}")
            elif set(near) == {largest} and best < MAXIMUM:
                best = MAXIMUM
                place.beside.append(f"its largest value stands {abs(step)} bytes {'behind' if step > 0 else 'before'}")
        place.bits += best
    elif storage is not None and storage.family == "variable":
        behind = {content.data[at + 1 : at + 1 + CLOSE // 2].tobytes() for content, at in held}
        sizes = [_size_in(place, j, content) for j, content in enumerate(contents)]
        ends = {c.data[at + size : at + size + CLOSE // 2].tobytes() for (c, at), size in zip(held, sizes, strict=True)}
        if len(behind) < len(ends):
            place.bits -= STRAYED
            place.beside.append("what is behind it does not move where it takes another byte")
    label = _label(contents[0], place.offsets[0])
    if label and all(_label(content, at) == label for content, at in held[1:]):
        place.bits += LABEL
        place.beside.append(f"behind the text “{label}”")


def _look_around(place: Place, known: Sequence[Known]) -> None:
    """Whether a quantity that is pinned already is close in the newest snapshot, or a number is in bytes of a field."""
    start, end = place.offsets[-1], place.offsets[-1] + place.size(-1, b"")
    far = [(each.distance(start, end), each) for each in known if isinstance(each, Pinned)]
    distance, nearest = min(far, key=lambda pair: abs(pair[0]), default=(0, None))
    if nearest is not None and (bits := nearest.bits(distance)):
        place.bits += bits
        between = f"{abs(distance)} bytes" if distance else "directly"
        place.beside.append(f"{between} {'before' if distance < 0 else 'behind'} {nearest.name}, which is pinned")
    is_number = place.path is None and not any(isinstance(value, str) for value in place.values)
    names = (each.overlapped(start, end) for each in known if isinstance(each, Described) and is_number)
    for name in filter(None, names):
        place.bits -= OVERLAP
        place.beside.append(f"some of its bytes are in {name}, which is described")


def _strays(places: list[Place], carriers: dict[int, Carrier], first: int) -> None:
    """Mark places whose surroundings, near and far, agree far better with another spot of some snapshot."""
    # Around a value that takes another size from time to time nothing stays in its place.
    bytes_ = [p for p in places if p.path is None and p.records is None]
    bytes_ = [p for p in bytes_ if len({p.size(j, b"") for j in range(len(p.offsets))}) == 1]
    if not bytes_:
        return
    here = np.array([place.offsets[first] for place in bytes_])
    for j, carrier in carriers.items():
        there = np.array([place.offsets[j] for place in bytes_])
        elsewhere, best = carrier.carried(here, CLOSE, None)
        elsewhere = np.maximum(elsewhere, 0)
        near = (
            carrier.agreement(here, elsewhere, CLOSE, CLOSE)
            > carrier.agreement(here, there, CLOSE, CLOSE) + MUCH_CLOSER
        )
        strayed = (best > ENOUGH) & (best > NEARLY * carrier.agreement(here, there, CLOSE)) & near
        anywhere = carrier.there.data.size
        for number in np.flatnonzero(strayed & (elsewhere != there)).tolist():
            if _is_beside_the_same(carrier, int(here[number]), int(there[number]), _width(bytes_[number])):
                continue  # on this side something came in or went
            bytes_[number].bits -= math.log2(anywhere + 2) + (0 if bytes_[number].strayed else STRAYED)
            bytes_[number].by_chance *= anywhere
            bytes_[number].strayed = True


def _is_beside_the_same(carrier: Carrier, here: int, there: int, width: int) -> bool:
    """Whether what is directly in front of a place, or directly behind it, is the same, and says something."""
    for start in (-CLOSE, width):
        mine = carrier.here.data[max(here + start, 0) : here + start + CLOSE]
        theirs = carrier.there.data[max(there + start, 0) : there + start + CLOSE]
        if mine.size == CLOSE and np.array_equal(mine, theirs) and np.unique(mine).size >= TELLING:
            return True
    return False


def without_echoes(places: list[Place]) -> list[Place]:
    """Without those that only read a plainer place with bytes too many, as the same times 256 or 65536."""
    plain = {(place.offsets, place.fits) for place in places if place.scale == 1 and not place.rounding}
    kept = []
    for place in places:
        storage = STORAGES.get(place.stored_as)
        steps = range(storage.least_size) if storage is not None and place.scale not in USUAL_SCALES else range(0)
        if not any((tuple(at + step for at in place.offsets), place.fits) in plain for step in steps):
            kept.append(place)
    return kept


def is_clear(places: Sequence[Place]) -> bool:
    """Whether the first of places in order fits all, hardly by chance, and no other spot comes near."""
    if not places or places[0].fits < places[0].of or places[0].by_chance > CLEAR_CHANCE or places[0].strayed:
        return False
    rival = next((place for place in places[1:] if not _same_spot(places[0], place)), None)
    return rival is None or places[0].bits - rival.bits >= CLEAR_LEAD


def copies_of(place: Place, places: Iterable[Place]) -> list[Place]:
    """Other places, one at each spot, that are stored as a place is and said the same in every snapshot, or follow it
    in another way: a game may compare them, or read only one of them.
    """
    said = set(place.values)
    is_chance = len(said) < LEAST_COPIED and not all(
        isinstance(each, str) and len(each) >= LEAST_LETTERS for each in said
    )
    if place.fits < place.of or is_chance:
        return []
    found: dict[tuple[int, ...], Place] = {}
    for other in places:
        is_beside = other.file == place.file and (other.route == place.route or _is_unmasked(other))
        is_same = (other.stored_as, other.values) == (place.stored_as, place.values) and place.path is None
        if not is_beside or not (is_same or _is_shadow(other, place)) or other.fits < other.of:
            continue
        if is_same or not any(_same_spot(each, other) for each in (place, *found.values())):
            found.setdefault(other.offsets, other)
    return [each for each in found.values() if each.offsets != place.offsets]


def _is_unmasked(place: Place) -> bool:
    """Whether a place is in a text in which hidden numbers say what they mean."""
    return any(layer.kind == MASKED_TEXT for layer in place.layers or ())


def _is_shadow(other: Place, place: Place) -> bool:
    """Whether a place says in a way of its own what a plain number says."""
    is_plain = (place.scale, place.bias, place.mask, place.bits_in) == (1, 0, None, None)
    if not is_plain or abs(other.scale) != 1 or other.rounding or other.bits_in:
        return False
    seen = [value for value in place.values if not isinstance(value, str)]
    stored = [value for value in other.values if not isinstance(value, str)]
    return len(seen) == len(stored) > 0 and stored == [other.scale * value + other.bias for value in seen]


def into_spots(places: list[Place]) -> list[list[Place]]:
    """The places, in their order, by spots: those that overlap in every snapshot are one."""
    spots: list[list[Place]] = []
    near: defaultdict[tuple[object, ...], list[int]] = defaultdict(list)
    for place in places:
        key = place.file, place.within, place.path, place.offsets[0] >> 4
        around = [(*key[:3], key[3] + step) for step in (-1, 0, 1)]
        found = next((n for each in around for n in near[each] if _same_spot(spots[n][0], place)), None)
        if found is None:
            near[key].append(len(spots))
            spots.append([place])
        else:
            spots[found].append(place)
    return spots


def _same_spot(one: Place, other: Place) -> bool:
    if (one.file, one.within, one.path) != (other.file, other.within, other.path):
        return False
    steps = {b - a for a, b in zip(one.offsets, other.offsets, strict=True)}
    if len(steps) != 1:
        return False
    step = steps.pop()
    return -_width(other) < step < _width(one)


def reasons_for(place: Place) -> list[str]:
    """Why a place is likely, or not."""
    reasons: list[str] = []
    if place.fits < place.of:
        which = f"all but copy {place.doubts + 1}" if place.doubts is not None else f"{place.fits} of {place.of}"
        reasons.append(f"fits {which}: a stale copy, or a mistyped number?")
    if place.path is not None:
        reasons.append(f"by its path {place.path}")
    storage = STORAGES.get(place.stored_as)
    if storage is not None and storage.least_size > 1 and place.offsets[0] % storage.least_size == 0:
        reasons += ["aligned"] if storage.family in ("whole", "signed", "fraction") and not place.bits_in else []
    if storage is not None and storage.family == "switch":
        reasons.append(f"bit {place.stored_as[3:]} of its byte, the lowest is 0")
    reasons += [f"its length is directly in front ({place.end.prefix})"] if place.end.prefix else []
    if place.letters:
        code, letter = next((pair for pair in place.letters if pair[1].isalnum()), place.letters[0])
        reasons.append(f"in letters of the game's own: {letter} is 0x{code:02X}, and so on")
    reasons += place.beside
    if place.by_chance >= CHANCE_SAID:
        reasons.append(f"by chance about {place.by_chance:.2g} places of its kind would fit as well")
    if place.strayed:
        reasons.append("what surrounds it is elsewhere in another snapshot: chance?")
    if place.anchor is not None:
        reasons.append(f"moves: {place.anchor}" if place.moves else f"found {place.anchor}")
    if place.rounding is not None:
        how = "cut off" if place.rounding == "floor" else "rounded"
        times = f"what was seen is it divided by {place.scale:g}, {how}"
        reasons.append(times if place.scale != 1 else f"shown {how}")
    elif place.scale == -1:
        reasons.append(f"what is stored and what was seen are {place.bias:,g} together")
    elif place.scale != 1:
        reasons.append(f"stored times {place.scale:g}")
    if place.bias and place.scale != -1:
        reasons.append(f"stored {'plus' if place.bias > 0 else 'minus'} {abs(place.bias):g}")
    reasons += [hidden.words for hidden in (place.mask, place.bits_in, place.guides) if hidden is not None]
    if place.layer is not None:
        reasons.append(f"inside {place.layer.partition(';')[0]}")
    return reasons


def _label(content: Content, offset: int) -> str:
    """A word that ends at most ten bytes in front."""
    before = content.data[max(offset - 24, 0) : offset].tobytes()
    trimmed = before.rstrip(bytes(range(32)) + b"\"':= \xff")
    if len(before) - len(trimmed) > 10:
        return ""
    word = b""
    for byte in reversed(trimmed):
        if not (chr(byte).isalnum() or byte == 95) or byte > 126:
            break
        word = bytes([byte]) + word
    return word.decode() if len(word) >= 3 and word.isascii() and word.decode().isalpha() else ""
