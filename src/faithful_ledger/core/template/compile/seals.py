"""What a seal is, from its keys."""

from __future__ import annotations

from dataclasses import replace

from faithful_ledger.core.formats.json_forms import FORMS, STRING
from faithful_ledger.core.formats.xml_markup import CONTENT
from faithful_ledger.core.layers import ARRANGEMENTS, STREAMS
from faithful_ledger.core.layers.transcoding import TRANSCODINGS
from faithful_ledger.core.seals import ALGORITHMS, Algorithm, algorithm
from faithful_ledger.core.seals.algorithms import CRC, KEYED, LENGTH, TIMES
from faithful_ledger.core.seals.crc import Crc
from faithful_ledger.core.suggest import did_you_mean
from faithful_ledger.core.template.compile.mistakes import Keys, Mistakes, Where
from faithful_ledger.core.template.seal_spec import SealSpec

__all__ = ["seal_spec"]

SEEN = (*STREAMS, *ARRANGEMENTS, *TRANSCODINGS, *FORMS, STRING, CONTENT)
NONE = ALGORITHMS["crc-32"]  # in place of one that is not there; the template is refused


def seal_spec(keys: Keys, where: Where, mistakes: Mistakes) -> SealSpec:
    given = keys["over"]
    span: tuple[int, int] | None = None
    over: tuple[str, ...] = ("", "")
    before_end, behind_first, between = 0, False, keys.get("between")
    if isinstance(given, dict):
        first, last = given.get("behind") or given.get("from", 0), given.get("to", 0)
        if given.get("behind") and "from" in given:
            mistakes.append(((*where, "over"), "it begins with an element or behind one, not both"))
        if isinstance(first, str):
            over, before_end, behind_first = (first, "file"), -last, bool(given.get("behind"))
            if last > 0:
                text = "where an element says where it begins, zero or less says where it ends, from the end"
                mistakes.append(((*where, "over", "to"), text))
        else:
            span = first, last
            if first < 0 or 0 < last <= first:
                mistakes.append(((*where, "over"), f"from {first} to {last} covers nothing"))
    else:
        over = (given, given) if isinstance(given, str) else tuple(given)
        if between is None and len(over) > 2:
            text = "a range has a first and a last element; values are covered one by one with `between`"
            mistakes.append(((*where, "over"), text))
            over = over[:2]
    if between is not None and (not isinstance(given, list) or keys.get("own") or keys.get("unpacked")):
        text = "what is between values needs a list of them in `over`, and neither `own` nor `unpacked`"
        mistakes.append(((*where, "between"), text))
    if keys.get("named") is not None and between is None:
        mistakes.append(((*where, "named"), "only values that are joined, with `between`, have their names in front"))
    before, behind = keys.get("beside", (0, 0))
    if (before or behind) and keys.get("own") != "left out":
        mistakes.append(((*where, "beside"), "only with `own: left out` something beside it is left out"))
    unpacked = tuple(keys.get("unpacked") or ())
    for number, kind in enumerate(unpacked):
        if kind not in SEEN:
            hint = did_you_mean(kind, SEEN) or f"there are {', '.join(SEEN)}"
            mistakes.append(((*where, "unpacked", number), f"“{kind}” is not a layer that needs nothing else; {hint}"))
    if keys.get("own") and not set(unpacked).issubset(FORMS):
        mistakes.append(((*where, "own"), "a seal does not see itself in what its bytes unpack to"))
    found = _algorithm(keys, where, mistakes)
    own, policy = keys.get("own"), keys.get("policy", "renew")
    return SealSpec(
        found, over, own, policy, span, (before, behind), unpacked, before_end, behind_first, between, keys.get("named")
    )


def _algorithm(keys: Keys, where: Where, mistakes: Mistakes) -> Algorithm:
    name, crc = keys["algorithm"], keys.get("crc")
    if (name == CRC) is not (crc is not None):
        mistakes.append(((*where, "crc"), "the parameters `crc` belong to `algorithm: crc`, and to no other"))
        return NONE
    if crc is not None:
        both = crc.get("reflected", False)
        out = crc.get("reflected_out")
        parameters = crc["width"], crc["polynomial"], crc.get("start", 0), both, both if out is None else out
        return _changed(Algorithm(CRC, crc=Crc(*parameters, crc.get("xor_out", 0))), keys)
    found = algorithm(name)
    if found is None:
        hint = did_you_mean(name, ALGORITHMS) or f"there are {', '.join(ALGORITHMS)}"
        mistakes.append(((*where, "algorithm"), f"no algorithm “{name}”; {hint}"))
        return NONE
    if name.startswith(KEYED) is not (keys.get("key") is not None):
        mistakes.append(((*where, "key"), "an hmac has a key, and nothing else has one"))
    if keys.get("unit", 1) > 1 and name != LENGTH:
        mistakes.append(((*where, "unit"), "only a length is counted in units"))
    if (name == TIMES) is not (keys.get("multiplier") is not None):
        mistakes.append(((*where, "multiplier"), "`algorithm: times` has a multiplier, and nothing else has one"))
    return _changed(found, keys)


def _changed(found: Algorithm, keys: Keys) -> Algorithm:
    key, before, behind = (bytes.fromhex(keys.get(name) or "") for name in ("key", "salt_before", "salt_behind"))
    return replace(
        found,
        start=keys.get("start"),
        changed=keys.get("changed") or "",
        key=key,
        unit=keys.get("unit", 1),
        multiplier=keys.get("multiplier") or 0,
        salt_before=before,
        salt_behind=behind,
    )
