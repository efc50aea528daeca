"""How bytes were scrambled, judged over several saves of one game together.

Scrambling makes bytes more alike in frequency, so taking it off leaves a lower entropy (Shannon) in every save. All
kinds of core/layers/scrambling.py are tried: those of a repeating key by the commonest byte at each place of the key
(scrambling.py), the others one by one, where it matters behind each rotation of the bits; common generators with each
place where their seed usually is; where none of these fits, the keys of records (record_keys.py). Ways back that differ
only by the order of bits have the same entropy: how usual the bytes are that they leave ranks these, and all are
returned.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from itertools import pairwise, product
from math import log2
from typing import Any, NamedTuple, TypeAlias

import numpy as np

from faithful_ledger.core.address import Expression
from faithful_ledger.core.errors import place
from faithful_ledger.core.formats import recognised_text
from faithful_ledger.core.layers import CIPHERS, JOINED, MASKED_FRACTIONS, MASKINGS, STREAMS, STRINGS, LayerSpec
from faithful_ledger.core.layers.ciphers import cipher_in_words
from faithful_ledger.core.layers.generators import GENERATORS, Generator
from faithful_ledger.core.layers.scrambling import GENERATED, OF_RECORDS, Scrambling, in_words, unscramble
from faithful_ledger.core.profile.entropy import entropies, entropy
from faithful_ledger.core.profile.record_keys import find_record_keys
from faithful_ledger.core.profile.scrambling import find_scrambling, is_text, key_of_text
from faithful_ledger.core.source import MemorySource

__all__ = ["Descrambling", "find_descramblings", "step_in_words"]

Array: TypeAlias = np.ndarray[Any, Any]
Steps: TypeAlias = tuple[Scrambling, ...]

LOOKED_AT = 1 << 15
LOOKED_AT_FIRST, MOST_WAYS = 1 << 12, 12  # bytes of one save that choose so many ways for all
MOST_ZEROS, KEY_SAMPLE = 0.15, 1 << 13  # the share of zeros where a text is hidden, and bytes that show its key
LONGEST_HEADER = 64  # bytes in front of a text under a key
LEAST = 256  # bytes: in fewer any way back lowers the entropy
GAINED = 0.5  # bits a byte, on average over the saves; half as many in each
GAINED_BY_KEY = 0.45  # by a key of several bytes, less its own
SAID_AS_GAIN = 0.1  # a key of one byte changes no entropy
LEAST_WITH_WORDS, LONGEST_SHORT = 64, 1 << 15  # bytes of a save in which words may show a key
LEAST_WORDLIKE, FAR_MORE = 16.0, 1.4  # bits a save, and times as many as any other key leaves
SOME = 50  # one of so many bytes is a zero
# How frequent letters are in English, in 1/1000 (Lewand, Cryptological Mathematics, 2000), against all alike.
FREQUENT = dict(
    zip(
        "etaoinshrdlcumwfgypbvkjxqz",
        (127, 91, 82, 75, 70, 67, 63, 61, 60, 43, 40, 28, 28, 24, 24, 22, 20, 20, 19, 15, 10, 8, 2, 2, 1, 1),
        strict=True,
    )
)
LETTER_BITS = {ord(letter): log2(26 * share / 1000) for letter, share in FREQUENT.items()}
GAINED_MUCH = 1.0  # where zeros were hidden by what is before them
SLIGHT = 32
ALIKE = 0.05  # bits a byte by which a way back may be behind the best and is still said
MOST = 12
FACTORS = (1, 3, 5, 7, 11, 13, 17, 31, 37, 255, 253, 251)
PLAIN_ORDER = 0.25  # how much more usual it is that bits are in their order
PARTS, MOST_PARTS = 16, 0.8
SHOWN = 0.12  # the share of the commonest byte once zeros, or blanks, are no longer hidden
COMMON = 0.08  # the share of the commonest byte that is then taken for zero
LEAST_CHAIN = 1 << 10
EVEN = 0.06  # the share of the commonest byte where zeros are hidden by what is before them
WORD = re.compile(rb"[A-Za-z][a-z]{3,}")
WIDE_WORD = re.compile(rb"[A-Za-z]\x00(?:[a-z]\x00){3,}")
VOWELS = re.compile(rb"[AEIOUYaeiouy]")
DIFFERENT = 0.7  # the share of different letters in most words
BY_CHANCE = 12  # bytes
WORDY = 256  # bytes, of which one at least is in a word of its own
STORED_SIZES, STORED_WITHIN, SHOWS_TEXT = (4, 8, 16, 2), 33, 48  # bytes of a key in a save, of where, of a text
OPENING = (b"{", b"[", b"<")  # with what most texts begin
LETTERS = re.compile(
    rb"(?:[\t\n\r -~]|[\xc2-\xdf][\x80-\xbf]|[\xe0-\xef][\x80-\xbf]{2}|[\xf0-\xf4][\x80-\xbf]{3})*"
    rb"[\xc2-\xf4]?[\x80-\xbf]{0,2}"
)
IS_OF_LETTERS = np.isin(np.arange(256), [9, 10, 13, *range(32, 127), *range(0x80, 0xC0), *range(0xC2, 0xF5)])
SEEDED, GENERATED_LOOKED_AT = 32, 1 << 9  # a seed is in so many bytes; so many behind them choose the generator
SEEDS = (*((at, 4) for at in range(0, 16, 4)), *((at, 2) for at in range(0, 16, 2)))  # their offsets and sizes
PORTIONS = ((16, 1), (24, 1), (8, 1), (0, 1), (16, 2), (0, 4))  # which bytes of a number are used: shift, how many
OF_SHORT, LARGEST_SEED = ((16, 2), (16, 1), (24, 1)), 4  # the same where the seed is less than a number
OPEN = ("xor-plain-previous", "subtract-plain-previous", "add-plain-previous")  # under these, runs of zeros stay
ORDERLESS = ("xor", "xor-previous", "xor-plain-previous")  # these do the same to every bit
BEHIND_ROTATIONS = ("add-previous", "subtract-previous", "subtract-plain-previous", "add-plain-previous")


class Descrambling(NamedTuple):
    """`steps[j]` are the layers of save j, the outermost first; all have the same kinds. `gain` is in bits a byte."""

    steps: tuple[tuple[LayerSpec, ...], ...]
    gain: float

    @property
    def kind(self) -> str:
        """The kinds of its layers, as the command line says them."""
        return " ".join(step.kind for step in self.steps[0])

    @property
    def key(self) -> bytes:
        """The keys of the first save, one behind the other."""
        return b"".join(step.key or b"" for step in self.steps[0])

    @property
    def why(self) -> str:
        """What speaks for it."""
        if self.gain < SAID_AS_GAIN:
            return "reversing it leaves the zeros and words that saves have"
        return f"reversing it takes {self.gain:.1f} bits of entropy off each byte"

    @property
    def words(self) -> str:
        return ", then ".join(map(step_in_words, self.steps[0]))


def step_in_words(step: LayerSpec) -> str:
    """What was done in one step, and from where on."""
    begins = f" from {place(step.at.constant or 0)} on" if step.at is not None else ""
    if step.kind == STRINGS:
        return f"each string of the text: {' → '.join(map(step_in_words, step.through))}"
    if step.kind in STREAMS:
        return step.kind
    if step.kind in MASKINGS:
        bits = "the bits of " if step.kind == MASKED_FRACTIONS else ""
        by = f"the {step.mask} beside it" if step.mask else (step.key or b"").hex(" ").upper()
        return f"{bits}each {step.number} of the text XORed with {by}"
    if step.kind == JOINED:
        return f"parts {', '.join(map(str, step.parts))} of the text, joined"
    words = cipher_in_words(step.kind, step.derived) if step.kind in CIPHERS else in_words(step.kind, step.key)
    return f"{words}{begins}"


def find_descramblings(saves: Sequence[bytes], *, unpacked: bool = False) -> list[Descrambling]:
    """What undoes the scrambling of all `saves`, the likeliest first; several where they fit alike. What was `unpacked`
    is rarely scrambled: not if words in it would be lost.
    """
    samples = [save[:LOOKED_AT] for save in saves]
    if any(len(sample) < LEAST_WITH_WORDS for sample in samples):
        return []
    texts = list(map(is_text, samples))
    if all(texts):
        return []
    if (stored := _text_under_stored_key(saves)) is not None:
        return [stored]
    if any(texts):  # letters under a key may look like letters in one save, but hardly in all
        return []
    if any(len(sample) < LEAST for sample in samples):
        lettered = _key_of_words(saves)
        return [Descrambling(tuple(_layers((lettered,)) for _ in saves), 0.0)] if lettered is not None else []
    if (behind := _text_behind_header(saves)) is not None:
        return [behind]
    arrays = [np.frombuffer(sample, np.uint8) for sample in samples]
    plain = [entropy(array) for array in arrays]
    blank = all(map(_has_blanks_behind_words, samples))
    best: list[tuple[float, list[Steps]]] = []
    for each in (*_keyed(saves), *_chains(samples), *_generated(samples)):
        after = [
            entropy(np.frombuffer(_undone(sample, steps), np.uint8))
            for sample, steps in zip(samples, each, strict=True)
        ]
        gains = [before - now for before, now in zip(plain, after, strict=True)]
        gain = float(np.mean(gains)) - _cost(each, samples)
        # A key of one byte leaves the entropy as it is, and was found by the zeros; a longer one is worth its bits.
        keyed = not blank and each[0][0].share > 0 and (len(each[0][0].key) == 1 or gain >= GAINED_BY_KEY)
        keyed = keyed and not (_is_slight(each[0]) and any(map(_reads_worse, samples, each)))
        opened = any(step.kind in OPEN or step.kind == GENERATED for step in each[0])
        needed = GAINED if opened else GAINED_MUCH
        shows = opened or all(map(_has_zeros, samples, each))
        shows = shows and all(map(_gains_everywhere, samples, each))
        shows = shows and gain >= needed and min(gains) >= needed / 2
        if keyed or (shows and not (unpacked and any(map(_reads_worse, samples, each)))):
            best.append((gain, each))
    if not best:
        return _of_records(saves)
    most = max(gain for gain, _ in best)
    found = []
    ways = [(gain, turned) for gain, each in best if gain >= most - ALIKE for turned in _turned(each)]
    for gain, turned in _readable(samples, ways):
        usual = PLAIN_ORDER * (len(turned[0]) == len(_base(turned[0]))) + float(
            np.mean([_usual(_undone(s, steps)) for s, steps in zip(samples, turned, strict=True)])
        )
        found.append((usual, gain, turned))
    found.sort(key=lambda item: -item[0])
    plain_orders = [item for item in found[1:] if len(item[2][0]) == len(_base(item[2][0]))]
    found = [*found[:1], *plain_orders, *(item for item in found[1:] if item not in plain_orders)]
    seen: dict[bytes, Descrambling] = {}
    for _, gain, each in found:
        seen.setdefault(_undone(samples[0], each[0]), Descrambling(tuple(map(_layers, each)), gain))
    return list(seen.values())[:MOST]


def _of_records(saves: Sequence[bytes]) -> list[Descrambling]:
    """Where only parts of records are hidden, each under a key of its own."""
    return [
        Descrambling(tuple(tuple(LayerSpec(OF_RECORDS, each.key) for each in groups) for _ in saves), 0.0)
        for groups in find_record_keys(saves)
    ]


def _text_behind_header(saves: Sequence[bytes]) -> Descrambling | None:
    """A text under a repeating key, behind a header that is not hidden."""
    keys = []
    for save in saves:
        key = None if _hides_nothing(save) else key_of_text(_sample(save))
        if key is None:
            return None
        keys.append(key)
    if len(keys) > 1 and len({key.size for key in keys}) == 1:  # one save may show another letter at one place
        columns = np.stack(keys).T
        common = np.array([np.bincount(column).argmax() for column in columns], np.uint8)
        if (found := _behind_header(saves, [common] * len(saves))) is not None:
            return found
    return _behind_header(saves, keys)


def _text_under_stored_key(saves: Sequence[bytes]) -> Descrambling | None:
    """A text under a repeating key that is in front of it in every save, at the same offset."""
    least = min(map(len, saves))
    arrays = [np.frombuffer(save[: LONGEST_HEADER + SHOWS_TEXT], np.uint8) for save in saves]
    if any(map(_hides_nothing, saves)):
        return None
    for size, at in product(STORED_SIZES, range(STORED_WITHIN)):
        if at + size > LONGEST_HEADER or least < LONGEST_HEADER + SHOWS_TEXT:
            break
        keys = [array[at : at + size] for array in arrays]
        if not all(key.any() for key in keys) or len({key.tobytes() for key in keys}) < len(saves):
            continue  # a key of all saves is found by what is under it
        for turn in _lettered_turns(arrays[0], keys[0]):
            turned = [np.roll(key, turn) for key in keys]
            if all(_shows_letters(array, key) for array, key in zip(arrays, turned, strict=True)):
                known = [np.roll(key, -(LONGEST_HEADER % size)) for key in turned]
                if (found := _behind_header(saves, known, GAINED_BY_KEY)) is not None:
                    return found
    return None


def _lettered_turns(start: Array, key: Array) -> list[int]:
    """By how much a key may be turned so that it leaves bytes of letters behind where a header ends at the latest."""
    turned = key[(np.arange(LONGEST_HEADER, start.size) - np.arange(key.size)[:, None]) % key.size]
    turns: list[int] = np.flatnonzero(IS_OF_LETTERS[start[LONGEST_HEADER:] ^ turned].all(1)).tolist()
    return turns


def _sample(save: bytes) -> Array:
    """Bytes of which all may be hidden."""
    return np.frombuffer(save[LONGEST_HEADER : LONGEST_HEADER + KEY_SAMPLE], np.uint8)


def _hides_nothing(save: bytes) -> bool:
    """Whether there are as many zeros as no hidden text has: under a key of letters these would look like one."""
    sample = _sample(save)
    return int(np.count_nonzero(sample == 0)) > MOST_ZEROS * sample.size


def _shows_letters(start: Array, key: Array) -> bool:
    """Whether a key, as it is at the beginning of a file, leaves letters behind where a header ends at the latest."""
    shown = start ^ np.resize(key, start.size)
    return LETTERS.fullmatch(shown[LONGEST_HEADER:].tobytes()) is not None


def _behind_header(saves: Sequence[bytes], keys: Sequence[Array], least_gain: float = -8.0) -> Descrambling | None:
    """The same under known keys, as they are from where a header ends at the latest, that gain so many bits a byte. It
    ends where the letters of all saves begin, or little later: some of its bytes look like letters by chance.
    """
    texts = []
    for save, key in zip(saves, keys, strict=True):
        turned = np.roll(key, LONGEST_HEADER % key.size)  # as it is at the beginning of the file
        texts.append((np.frombuffer(save, np.uint8) ^ np.resize(turned, len(save))).tobytes())
    before, after = (np.mean([entropy(np.frombuffer(each, np.uint8)) for each in part]) for part in (saves, texts))
    if before - after < least_gain:
        return None
    least = max(next(at for at in range(LONGEST_HEADER + 1) if _all_letters(text, at)) for text in texts)
    every = range(least, min(least + BY_CHANCE, LONGEST_HEADER + 1))
    likely = [at for at in every if all(text[at : at + 1] in OPENING for text in texts)]
    for at in [*likely, *(at for at in every if at % 4 == 0)] if least else ():
        if all(recognised_text(MemorySource(text[at:])) is not None for text in texts):
            steps = [
                (LayerSpec("xor", np.roll(key, LONGEST_HEADER - at).tobytes(), at=Expression(at)),) for key in keys
            ]
            return Descrambling(tuple(steps), float(before - after))
    return None


def _all_letters(text: bytes, at: int) -> bool:
    """Whether there are only letters of a text in UTF-8 from an offset up to where a header ends at the latest."""
    return LETTERS.fullmatch(text[at:LONGEST_HEADER]) is not None


def _reads_worse(sample: bytes, steps: Steps) -> bool:
    """Whether more words can be read in bytes as they are than once the scrambling is undone: then they are not
    scrambled, but for the most part a picture or a curve, of which the differences say less.
    """
    return _fewer(_in_words(_undone(sample, steps)), _in_words(sample), len(sample))


def _is_slight(steps: Steps) -> bool:
    """Whether a key of one byte turns letters into letters for the most part, so that words tell which of them are."""
    key = steps[0].key
    return len(key) == 1 and min(key[0], 256 - key[0]) < SLIGHT


def _has_blanks_behind_words(sample: bytes) -> bool:
    """Whether blanks that fill up texts are the commonest byte: under a key of one byte they would look like zeros."""
    counts = np.bincount(np.frombuffer(sample, np.uint8), minlength=256)
    return int(counts.argmax()) == ord(" ") and _in_words(sample.lower()) > BY_CHANCE + len(sample) // WORDY


def _readable(samples: Sequence[bytes], ways: list[tuple[float, list[Steps]]]) -> list[tuple[float, list[Steps]]]:
    """Without the ways back after which far fewer words can be read than after another one."""
    words = [[_in_words(_undone(sample, steps[j])) for j, sample in enumerate(samples)] for _, steps in ways]
    most = [max(column) for column in zip(*words, strict=True)]
    return [
        way
        for way, each in zip(ways, words, strict=True)
        if not any(_fewer(here, best, len(s)) for here, best, s in zip(each, most, samples, strict=True))
    ]


def _fewer(words: int, others: int, size: int) -> bool:
    """Whether so many bytes in words are far fewer than others, and that not by chance."""
    return others > 2 * words + BY_CHANCE + size // 256


def _in_words(data: bytes) -> int:
    """How many bytes are in different words, also in those of two bytes a letter; letters that only go up or down are
    numbers that count, and digits whose bits are rotated are letters without a vowel.
    """
    words = {*WORD.findall(data), *(word.replace(b"\0", b"") for word in WIDE_WORD.findall(data))}
    words = {word for word in words if VOWELS.search(word)}
    return sum(len(word) for word in words if len({b > a for a, b in pairwise(word[1:])}) > 1)


def _base(steps: Steps) -> Steps:
    """Without what only changes the order of bits."""
    return tuple(step for step in steps if step.kind not in ("rotate", "swap-bits"))


def _layers(steps: Steps) -> tuple[LayerSpec, ...]:
    return tuple(LayerSpec(step.kind, step.key or None) for step in steps)


def _undone(data: bytes, steps: Steps) -> bytes:
    for step in steps:
        data = unscramble(data, step)
    return data


def _cost(each: list[Steps], samples: Sequence[bytes]) -> float:
    """A long key lowers the entropy of anything: as many bits as it has are taken off."""
    return max(8 * sum(len(s.key) for s in steps) / len(d) for steps, d in zip(each, samples, strict=True))


def _keyed(saves: Sequence[bytes]) -> Iterator[list[Steps]]:
    """Keys that repeat: one for all saves, or another one in each; also that under which zeros are bytes of ones, as in
    memory that is filled with these; and that of one byte which leaves most words.
    """
    together = find_scrambling(*saves) if len(saves) > 1 else None
    found = [together for _ in saves] if together is not None else [find_scrambling(save) for save in saves]
    known = [each for each in found if each is not None]
    is_plain = any(set(each.key) == {255} for each in known)  # memory that is filled with ones
    if len(known) == len(found) and len({each.kind for each in known}) == 1 and not is_plain:
        yield [(each,) for each in known]
        if known[0].kind in ("xor", "add") and all(len(each.key) == 1 for each in known):
            other = "add" if known[0].kind == "xor" else "xor"  # of one byte both leave the same zeros
            yield [(each._replace(kind=other),) for each in known]
        if known[0].kind in ("xor", "add"):
            yield [(each._replace(kind="xor", key=bytes(byte ^ 255 for byte in each.key)),) for each in known]
            yield [(each._replace(kind="add", key=bytes((byte + 1) & 255 for byte in each.key)),) for each in known]
    is_short = all(len(save) <= LONGEST_SHORT for save in saves) and not any(len(each.key) == 1 for each in known)
    if is_short and (lettered := _key_of_words(saves)) is not None:
        yield [(lettered,) for _ in saves]


def _key_of_words(saves: Sequence[bytes]) -> Scrambling | None:
    """The key of one byte that leaves most words, and far more than any other: in short saves so few bytes are zero
    that these alone do not show it. What leaves a letter as the commonest byte makes words of numbers.
    """
    samples = [save[:LOOKED_AT_FIRST] for save in saves]
    now = sum(map(_wordlike, samples))
    if now >= 2 * LEAST_WORDLIKE * len(samples):
        return None  # it can be read as it is
    joined = b"".join(samples)
    commonest = bytes([int(np.bincount(np.frombuffer(joined, np.uint8), minlength=256).argmax())])
    commonest += b"\0" if joined.count(0) * SOME > len(joined) else b""
    ways = [Scrambling(kind, bytes([key]), 1.0) for kind in ("xor", "add") for key in range(256)]
    ways += [Scrambling("rotate", bytes([bits]), 1.0) for bits in range(1, 8)]
    ways = [way for way in ways if not any(byte in LETTER_BITS for byte in unscramble(commonest, way).lower())]
    scored = sorted(((sum(_wordlike(unscramble(each, way)) for each in samples), way) for way in ways), reverse=True)
    best, others = scored[0], scored[1:]
    rival = max((score for score, way in others if way.key != best[1].key), default=0.0)
    is_clear = best[0] >= LEAST_WORDLIKE * len(samples) and best[0] > FAR_MORE * rival
    is_clear &= best[0] > 2 * now
    return best[1] if is_clear and any(best[1].key) else None


def _wordlike(data: bytes) -> float:
    """How much more the letters of different words look like a language than any others, in bits; what repeats few
    letters are numbers.
    """
    words = {word for word in map(bytes.lower, WORD.findall(data)) if len(set(word)) >= DIFFERENT * len(word)}
    return sum(LETTER_BITS[letter] for word in words for letter in word)


def _chains(samples: Sequence[bytes]) -> Iterator[list[Steps]]:
    """Every way back without a repeating key; a constant that stays over everything is taken off as well."""
    alone = [Scrambling(kind, b"", 0.0) for kind in ("xor-previous", "xor-plain-previous")]
    sums = [Scrambling(kind, b"", 0.0) for kind in BEHIND_ROTATIONS]
    positions = ("xor-position", "add-position")
    sums += [Scrambling(kind, bytes([factor]), 0.0) for kind in positions for factor in FACTORS]
    if any(len(sample) < LEAST_CHAIN for sample in samples):
        return
    ways: list[Steps] = [(step,) for step in alone]
    ways += [(*order, step) for step in sums for order in _orders()]
    even = all(_commonest(np.frombuffer(sample, np.uint8)) <= EVEN for sample in samples)
    ways = [way for way in ways if even or way[-1].kind in OPEN]
    short = samples[0][:LOOKED_AT_FIRST]
    ways.sort(key=lambda way: entropy(np.frombuffer(_undone(short, way), np.uint8)))
    for way in ways[:MOST_WAYS]:
        constant = "xor" if way[-1].kind.startswith("xor") else "add"
        each: list[Steps] = []
        for sample in samples:
            counts = np.bincount(np.frombuffer(_undone(sample, way), np.uint8), minlength=256)
            most = int(counts.argmax())
            each.append(
                (*way, Scrambling(constant, bytes([most]), 0.0)) if counts[most] >= COMMON * len(sample) else way
            )
        if any(steps[-1].key not in (b"", b"\0") for steps in each if len(steps) > len(way)):
            yield [steps if len(steps) > len(way) else (*way, Scrambling(constant, b"\0", 0.0)) for steps in each]
        else:
            yield [way for _ in samples]


def _generated(samples: Sequence[bytes]) -> Iterator[list[Steps]]:
    """The generator under which the first save is least even, if bytes look even now."""
    arrays = [np.frombuffer(sample, np.uint8) for sample in samples]
    if any(array.size < LEAST or _commonest(array) > EVEN for array in arrays):
        return
    head, sample = samples[0][:SEEDED], arrays[0][SEEDED : SEEDED + GENERATED_LOOKED_AT]
    best = (entropy(sample) - GAINED, b"")
    for numbers, (at, size), big, early in product(GENERATORS, SEEDS, (False, True), (False, True)):
        is_short, behind = size < LARGEST_SEED, at + size
        if is_short and early:
            continue
        generator = Generator(*numbers, seed_at=at, big_endian=big, first=behind, early=early, seed_size=size)
        stream = generator.numbers(generator.seed(head), SEEDED - behind + sample.size)
        likely = (behind, 16, 32) if is_short else (behind, at + 8, at + 12, 16, 32)
        firsts = sorted({first for first in likely if behind <= first <= SEEDED})
        ways = [generator._replace(shift=s, taken=taken) for s, taken in (OF_SHORT if is_short else PORTIONS)]
        portions = [each.portion(stream) for each in ways]
        masks = [each[SEEDED - first :][: sample.size] for each in portions for first in firsts]
        left = entropies(np.stack(masks) ^ sample)
        lowest = int(left.argmin())
        way, first = divmod(lowest, len(firsts))
        best = min(best, (float(left[lowest]), ways[way]._replace(first=firsts[first]).key))
    if best[1]:
        yield [(Scrambling(GENERATED, best[1], 0.0),) for _ in samples]


def _orders() -> Iterator[Steps]:
    """The orders of the bits within a byte."""
    yield ()
    for bits in range(1, 8):
        yield (Scrambling("rotate", bytes([bits]), 0.0),)
    yield (Scrambling("swap-bits", b"", 0.0),)


def _turned(each: list[Steps]) -> Iterator[list[Steps]]:
    """The same with every order of bits behind it, where XOR is all it is: it says nothing about their order."""
    if all(step.kind in ORDERLESS for step in each[0]):
        for order in _orders():
            yield [(*steps, *order) for steps in each]
    else:
        yield each


def _has_zeros(sample: bytes, steps: Steps) -> bool:
    """Whether one byte, which was zero or a blank, is frequent once the scrambling is undone."""
    return _commonest(np.frombuffer(_undone(sample, steps), np.uint8)) >= SHOWN


def _gains_everywhere(sample: bytes, steps: Steps) -> bool:
    """Whether the entropy falls in most parts: a series of numbers that are alike gains in its own part only."""
    before, after = np.frombuffer(sample, np.uint8), np.frombuffer(_undone(sample, steps), np.uint8)
    size = max(len(sample) // PARTS, LEAST // 2)
    starts = range(0, max(len(sample) - size // 2, 1), size)  # what is left behind them says too little
    gains = [entropy(before[at : at + size]) - entropy(after[at : at + size]) for at in starts]
    return sum(gain > 0 for gain in gains) >= MOST_PARTS * len(gains)


def _commonest(data: Array) -> float:
    return int(np.bincount(data, minlength=256).max()) / data.size


def _usual(data: bytes) -> float:
    """How usual bytes are in saves: small numbers, letters and digits, and 255, rather than anything else."""
    return float(USUAL[np.frombuffer(data, np.uint8)].mean())


USUAL = np.full(256, -1.0)
USUAL[:128] = 0.0
USUAL[0] = 1.0
USUAL[1:32] = np.linspace(3.0, 0.5, 31)
USUAL[97:123], USUAL[65:91], USUAL[48:58], USUAL[32] = 1.5, 0.8, 0.8, 1.0
USUAL[255], USUAL[63], USUAL[64], USUAL[128] = 1.0, 0.8, 0.6, 0.3
