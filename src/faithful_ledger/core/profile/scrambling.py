"""A key that repeats, XORed or added, and XOR with the byte before: found because saves are full of zeros.

Under a key of length L the bytes at equal places modulo L show the key wherever the save held a zero, so the most
frequent byte of each place is the key. The shortest length that explains nearly as much as the best is taken. Nothing
is claimed unless reversing it leaves far more zeros than before; nor where it leaves nothing but zeros, because then
the file only says one thing again and again. XOR and addition of the same key show alike in the zeros; the bytes that
are not zero tell them apart: small numbers and letters are many in saves, numbers above 127 few.
"""

from __future__ import annotations

from collections.abc import Sequence
from math import gcd
from typing import Any, TypeAlias

import numpy as np

from faithful_ledger.core.layers.scrambling import Scrambling

__all__ = ["LONGEST_KEY", "find_scrambling", "is_text", "key_of_text"]

Array: TypeAlias = np.ndarray[Any, Any]
LONGEST_KEY = 64
LOOKED_AT = 1 << 16
NEARLY = 0.93
LEAST_ZEROS = 0.2
GAINED = 0.15
NOTHING_LEFT = 0.999
SAMPLE, SAMPLES = 1024, 8  # bytes of each sample, and how many
SPREAD = 0.05  # so much less may be seen in the samples
OPEN_ZEROS = 0.35  # so many zeros are hidden by no key
NEARLY_AS_GOOD = 0.55
LOWER = 0.1
LEAST_TIMES = 12  # that a key is repeated
NEAR, LEAST_MORE = 8, 0.08  # other lengths of a key, and the share that one must explain more than these
TEXT = 0.995  # so many bytes of a text are printable
LEAST_ROWS = 48  # of a key over a text: fewer bytes at each of its places are a text by chance
LEAST_REPEATS, REPEATED = 4, 0.6  # how often, and in which share, a shorter key shows within one
LEAST_WORTH, BETTER = 1.4, 0.2  # on average a letter, and so much more than the bytes as they are
LONGEST_OVER_TEXT = 32  # a longer key may make a text of anything
MOST_ALIKE = 0.6  # the share of one byte at a place of the key
IN_RECORDS = 0.65  # of what records explain together with a key
LEAST_ALIKE, MORE_ALIKE = 0.4, 0.25  # of the bytes of a key, and beyond chance
LETTERS_SAMPLE = 1 << 12  # bytes that show the key of a text in UTF-16
WIDE = 0.85  # the share of letters in UTF-16 that are below 256
PLAIN = 0.97  # the share of a text that is printable ASCII
LETTERS = 0.15  # the share of small letters in a text
USUAL = b' etaoinsrhldcumfpgwybvk0123456789".,:'
PRINTABLE = np.zeros(256, bool)
PRINTABLE[32:127] = True
PRINTABLE[[9, 10, 13]] = True


def find_scrambling(*saves: bytes) -> Scrambling | None:
    """The scrambling over a whole file, or over several with the same key, or None."""
    arrays = [np.frombuffer(save[:LOOKED_AT], np.uint8) for save in saves]
    bytes_ = np.concatenate(arrays)
    if bytes_.size < 4 * LONGEST_KEY:
        return None
    plain = _zeros(bytes_)
    if plain > OPEN_ZEROS:
        return None
    wide_key = _key_of_wide_text(arrays[0][:LETTERS_SAMPLE])
    if wide_key is not None and all(_hides_wide(wide_key, each) for each in arrays):
        return Scrambling("xor", wide_key.tobytes(), 1.0)
    if (text_key := key_of_text(*arrays)) is not None:
        return Scrambling("xor", text_key.tobytes(), 1.0)
    if _printable(bytes_) >= TEXT:
        return None
    if not any(_may_hide(each, _zeros(each)) for each in arrays):
        return None
    key = _key(arrays)
    undone = np.concatenate([each ^ np.resize(key, each.size) for each in arrays])
    added = np.concatenate([each - np.resize(key, each.size) for each in arrays])
    keyed = Scrambling("xor", key.tobytes(), _zeros(undone))
    if _low(added) > _low(undone) + LOWER:
        keyed = keyed._replace(kind="add")
    chained = Scrambling("xor-previous", b"", _zeros(np.concatenate([each[1:] ^ each[:-1] for each in arrays])))
    # Rows of one byte look as if each were XORed with the one before; a true chain shows no key.
    best = keyed if any(key) and keyed.share >= NEARLY_AS_GOOD * chained.share else chained
    repeats = best.share > NOTHING_LEFT and len(best.key) > 1
    return best if best.share >= LEAST_ZEROS and best.share >= plain + GAINED and not repeats else None


def is_text(data: bytes) -> bool:
    """Whether bytes are a text as they are, which is never scrambled."""
    return _printable(np.frombuffer(data, np.uint8)) >= TEXT


def _printable(bytes_: Array) -> float:
    """The share of bytes that a text in UTF-8 has, at most a third of them beyond ASCII."""
    shown = np.count_nonzero(PRINTABLE[bytes_])
    high = int(np.count_nonzero(bytes_ > 127))
    return (int(shown) + min(high, bytes_.size // 3)) / bytes_.size


def _is_utf8(text: Array) -> bool:
    """Whether bytes are UTF-8, but for a letter cut off at their end."""
    try:
        text[: max(text.size - 3, 0)].tobytes().decode("utf-8")
    except UnicodeDecodeError as error:
        return error.end >= text.size - 3
    return True


def key_of_text(*arrays: Array) -> Array | None:
    """The shortest repeating key that hides texts, by the letters that these are made of: at each place of the
    key the byte is taken that leaves most of them. None where the bytes are a text as they are.
    """
    worth = np.where(PRINTABLE, 1.0, -4.0)
    worth[np.frombuffer(USUAL, np.uint8)] += 1.0
    values = np.arange(256)
    worths = worth[values[:, None] ^ values[None, :]]
    bytes_ = np.concatenate(arrays)
    least = max(LEAST_WORTH, float(worth[bytes_].mean()) + BETTER)
    found: list[tuple[float, Array]] = []
    for length in range(1, LONGEST_OVER_TEXT + 1):
        counts = _counted(arrays, length)
        rows = int(counts[0].sum())
        if rows < LEAST_ROWS:
            break
        if np.median(counts.max(axis=1)) > MOST_ALIKE * rows:
            continue  # what is always the same becomes any letter under some key
        scores = counts @ worths
        score = float(scores.max(axis=1).sum()) / (rows * length)
        if score < least:
            continue
        key: Array = scores.argmax(axis=1).astype(np.uint8)
        texts = [each ^ np.resize(key, each.size) for each in arrays]
        text = np.concatenate(texts)
        letters = np.count_nonzero((text >= 97) & (text <= 122))
        plain = np.count_nonzero(PRINTABLE[text])
        enough = plain >= PLAIN * text.size and letters >= LETTERS * text.size
        if key.any() and enough and all(map(_is_utf8, texts)):
            found.append((score, key))
    best = max((score for score, _ in found), default=0.0)  # a short key may leave letters, but not words
    return next((key for score, key in found if score >= NEARLY * best), None)


def _counted(arrays: Sequence[Array], length: int) -> Array:
    """How often each byte is at each place of a key of some length, over all arrays: an array of length × 256."""
    places = np.arange(length, dtype=np.int64) * 256
    total = np.zeros((length, 256), np.int64)
    for each in arrays:
        rows = each[: each.size // length * length].reshape(-1, length)
        found = np.bincount((places[None, :] + rows).ravel(), minlength=256 * length)
        total += found.reshape(length, 256)
    return total


def _key_of_wide_text(bytes_: Array) -> Array | None:
    """The shortest key that hides a text in UTF-16: the zeros between its letters show it, all of it where its length
    is odd, else every second byte, and the letters the others.
    """
    for zero in (1, 0):
        zeros, letters = bytes_[zero::2], bytes_[1 - zero :: 2]
        counted: dict[int, Array] = {}
        for length in range(1, LONGEST_OVER_TEXT + 1):
            period = length if length % 2 else length // 2
            if zeros.size < LEAST_ROWS * period:
                break
            if period not in counted:
                counted[period] = _counted([zeros], period)
            counts = counted[period]
            shown = counts.argmax(axis=1).astype(np.uint8)
            if counts.max(axis=1).sum() < WIDE * counts.sum() or not shown.any():
                continue
            key = np.zeros(length, np.uint8)
            key[(np.arange(period) * 2 + zero) % length] = shown
            if length % 2 == 0:
                if (other := key_of_text(letters)) is None or period % other.size:
                    continue
                key[1 - zero :: 2] = np.resize(other, period)
            text = letters ^ np.resize(key, bytes_.size)[1 - zero :: 2]
            if np.count_nonzero(PRINTABLE[text]) >= PLAIN * text.size:
                return key
    return None


def _hides_wide(key: Array, bytes_: Array) -> bool:
    """Whether a key hides a text in UTF-16, of which nearly all letters are below 256."""
    text = bytes_ ^ np.resize(key, bytes_.size)
    return any(np.count_nonzero(text[zero::2] == 0) >= WIDE * text[zero::2].size for zero in (0, 1))


def _zeros(bytes_: Array) -> float:
    return float(np.count_nonzero(bytes_ == 0)) / bytes_.size


def _low(bytes_: Array) -> float:
    """The share of the bytes that are not zero which lie below 128."""
    some = bytes_[bytes_ != 0]
    return int(np.count_nonzero(some < 128)) / max(int(some.size), 1)


def _may_hide(bytes_: Array, plain: float) -> bool:
    """Whether a sample leaves it open that a key, or the byte before, hides enough zeros; most files end here."""
    least = max(LEAST_ZEROS, plain + GAINED) - SPREAD
    if _zeros(bytes_[1:] ^ bytes_[:-1]) >= least:
        return True
    starts = np.arange(0, bytes_.size - SAMPLE + 1, max(bytes_.size // SAMPLES, SAMPLE))
    places = (starts[:, None] + np.arange(SAMPLE)).ravel()
    sample = bytes_[places]
    for length in range(1, LONGEST_KEY + 1):
        counts = np.bincount(places % length * 256 + sample, minlength=256 * length).reshape(length, 256)
        if counts.max(axis=1).sum() >= least * sample.size:
            return True
    return False


def _key(arrays: Sequence[Array]) -> Array:
    """The shortest key that shows nearly as many zeros as the one that shows most."""
    size = sum(each.size for each in arrays)
    longest = min(LONGEST_KEY, size // LEAST_TIMES)
    scores, shares = np.zeros(longest + 1), np.zeros(longest + 1)
    keys: dict[int, Array] = {}
    for length in range(1, longest + 1):
        counts = _counted(arrays, length)
        whole = int(counts.sum())
        keys[length] = counts.argmax(axis=1).astype(np.uint8)
        # With few rows the most frequent byte is frequent by chance: about three deviations are taken off.
        shares[length] = counts.max(axis=1).sum() / whole
        scores[length] = shares[length] - 3.5 * np.sqrt(1 / 256 / (whole / length))
    best = int(scores[1:].argmax()) + 1
    for length in range(1, longest + 1):
        enough = IN_RECORDS if _repeats(keys[best], keys[length]) else NEARLY
        if scores[length] >= enough * scores[best]:
            break
    if not _stands_out(shares, length):
        return np.zeros(1, np.uint8)
    key = keys[length]
    for period in range(1, length):
        if length % period == 0 and (shorter := _within_key(key.reshape(-1, period))) is not None:
            return shorter
    return key


def _repeats(key: Array, shorter: Array) -> bool:
    """Whether a key repeats a shorter one, but for what always stands at the same places of records: then their size
    is its length. Where that is not a multiple, only how much the shorter one explains says so.
    """
    if key.size % shorter.size:
        return True
    alike = np.count_nonzero(key == np.resize(shorter, key.size))
    by_chance = shorter.size / key.size  # the shorter one takes its bytes from some of its places in the longer one
    return bool(key.size > shorter.size and alike >= max(LEAST_ALIKE, by_chance + MORE_ALIKE) * key.size)


def _stands_out(shares: Array, length: int) -> bool:
    """Whether a length explains more than others near it, which share no part with it: with few rows any length does
    as well, whatever the bytes are.
    """
    near = range(max(length - NEAR, 1), min(length + NEAR, shares.size - 1) + 1)
    others = [shares[each] for each in near if length > 1 and gcd(each, length) == 1]
    return not others or bool(shares[length] - np.median(others) >= LEAST_MORE)


def _within_key(rows: Array) -> Array | None:
    """The shorter key that `rows` repeat, also where what always stands at the same place of a record is mixed into
    some of them.
    """
    if (rows == rows[0]).all():
        first: Array = rows[0]
        return first
    if rows.shape[0] < LEAST_REPEATS:
        return None
    counts = np.stack([np.bincount(column, minlength=256) for column in rows.T])
    mostly = counts.max(axis=1) >= REPEATED * rows.shape[0]
    key: Array = counts.argmax(axis=1).astype(np.uint8)
    return key if mostly.all() else None
