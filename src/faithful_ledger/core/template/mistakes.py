"""What is wrong with the keys of a template, in words: one sentence for each place, with what may be there instead."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from itertools import chain
from typing import Any

from faithful_ledger.core.suggest import did_you_mean
from faithful_ledger.core.template.yaml_text import Document, Where

__all__ = ["mistakes_in"]

NEAR = 0.75  # how alike a key of the same part is before keys of others are suggested
OR = " or "
SHOWN = 40  # letters of a value
# What keys were called before version 0.2, everywhere or in one part.
RENAMED: dict[str | tuple[str, str], str] = {"repeat": "rows", "until": "ended_by", ("section", "rows"): "fields"}
PARTS = {
    **{
        kind: kind
        for kind in ("field", "constant", "unknown", "group", "rows", "each", "bounds", "seal", "magic", "size")
    },
    **{"recognise": "sign", "files": "file", "rules": "rule", "companions": "companion", "sections": "section"},
    **{name: name for name in ("steps", "list", "moment", "derive")},
    **{"layers": "layer", "witnesses": "witness"},
}
KINDS = {
    "string_type": "a text",
    "int_type": "a whole number",
    "int_parsing": "a whole number",
    "int_from_float": "a whole number",
    "float_type": "a number",
    "finite_number": "a finite number",
    "bool_type": "true or false",
    "list_type": "a list",
    "dict_type": "a mapping of keys to values",
    "model_type": "a mapping of keys to values",
}
LIMITS = {
    "greater_than_equal": "at least {ge}",
    "less_than_equal": "at most {le}",
    "less_than": "less than {lt}",
    "string_too_long": "at most {max_length} letters long",
    "string_too_short": "at least {min_length} letters long",
    "too_long": "one of at most {max_length}",
    "too_short": "one of at least {min_length}",
    "literal_error": "{expected}",
}


def mistakes_in(errors: Iterable[dict[str, Any]], document: Document) -> list[tuple[Where, str]]:
    """Sentences for the errors that pydantic reports, each with its place.

    Where a value may be of several kinds, pydantic reports an error for each: those of the kind that was meant count,
    or, where none was, all of them are one sentence.
    """
    found: list[tuple[Where, str]] = []
    wrong_kind: dict[Where, list[dict[str, Any]]] = {}
    within: list[Where] = []
    for error in errors:
        loc = tuple(error["loc"])
        is_key = loc[-1:] == ("[key]",)
        where = tuple(step for _, step in document.walk(loc[:-1] if is_key else loc))
        if is_key:
            of = _name(where[:-1] if where[-1:] == loc[-2:-1] else where, document)
            found.append((where, f"a key of {of} is {_value(loc[-2])}; it must be {_expected([error])}"))
        elif error["type"] in KINDS or error["type"] in LIMITS or error["type"] == "string_pattern_mismatch":
            wrong_kind.setdefault(where, []).append(error)
            continue
        else:
            found.append((where, _in_words(error)))
        within.append((*where, loc[-1]) if error["type"] == "missing" else where)
    for where, several in wrong_kind.items():
        inner = (*within, *wrong_kind)
        if not any(len(each) > len(where) and each[: len(where)] == where for each in inner):
            given = _value(several[0]["input"], as_text=all(error["type"] in KINDS for error in several))
            found.append((where, f"{_name(where, document)} is {given}; it must be {_expected(several)}"))
    return found


def _in_words(error: dict[str, Any]) -> str:
    """An error that is not about the kind of a value."""
    from faithful_ledger.core.template.schema import ELEMENT_KINDS, all_keys

    where, kind = tuple(error["loc"]), str(error["type"])
    key = str(where[-1]) if where else ""
    if kind == "extra_forbidden":
        keys = all_keys()
        part = next((PARTS[step] for step in reversed(where[:-1]) if step in PARTS), "template")
        if (part, key) in RENAMED or key in RENAMED:
            return f"“{key}” is called “{RENAMED.get((part, key)) or RENAMED[key]}” now"
        parts = [name for name, known in keys.items() if key in known]
        if parts:
            return f"“{key}” is not a key here, only of {', '.join(parts)}"
        hint = did_you_mean(key, keys[part], NEAR) or did_you_mean(key, sorted({*chain.from_iterable(keys.values())}))
        return f"“{key}” is not a key here{'; ' + hint if hint else ''}"
    if kind == "missing":
        return f"“{key}” is missing"
    if kind in ("union_tag_not_found", "union_tag_invalid"):
        given = list(error["input"]) if isinstance(error["input"], dict) else []
        renamed = next((name for name in given if name in RENAMED), None)
        if renamed is not None:
            return f"“{renamed}” is called “{RENAMED[renamed]}” now"
        hint = next((h for name in given if (h := did_you_mean(str(name), ELEMENT_KINDS))), "")
        return f"an element begins with one of {', '.join(ELEMENT_KINDS)}{'; ' + hint if hint else ''}"
    if kind == "recursion_loop" or not error["msg"]:
        return f"“{key}” is nested too deep"
    return f"“{key}” cannot be {_value(error['input'])}: {error['msg'][0].lower()}{error['msg'][1:]}"


def _expected(errors: Sequence[dict[str, Any]]) -> str:
    """What a value must be to be of any of the kinds it was tried as; a limit counts more than another kind."""
    limits = [error for error in errors if error["type"] not in KINDS]
    if all(error["type"] == "literal_error" for error in limits):
        limits = [*errors]
    words = dict.fromkeys(chain.from_iterable(_one_expected(error).split(OR) for error in limits))
    if "a number" in words:
        words.pop("a whole number", None)
    *others, last = words
    return f"{', '.join(others)}{OR}{last}" if others else last


def _one_expected(error: dict[str, Any]) -> str:
    from faithful_ledger.core.template.schema import PATTERNS

    kind, about = error["type"], error.get("ctx", {})
    if kind == "string_pattern_mismatch":
        return PATTERNS.get(about["pattern"], f"as {about['pattern']} says")
    if kind in LIMITS:
        return LIMITS[kind].format(**about).replace("'", "").replace(", ", OR)
    return KINDS.get(kind, "something else")


def _name(where: Where, document: Document) -> str:
    """What a place is called: its key, or which entry of a list it is."""
    if not where:
        return "the template"
    holder, step = list(document.walk(where))[-1]
    if isinstance(holder, list):
        return f"entry {int(step) + 1} of {_name(where[:-1], document)}"
    return f"“{step}”" if isinstance(step, str) else f"“{step}” of {_name(where[:-1], document)}"


def _value(given: Any, *, as_text: bool = True) -> str:
    if given is None:
        return "empty"
    if isinstance(given, bool):
        return str(given).lower()
    if isinstance(given, list | dict):
        return f"a list of {len(given)}" if isinstance(given, list) else f"a mapping of {len(given)} keys"
    if isinstance(given, str):
        shown = f"“{given[:SHOWN]}{'…' if len(given) > SHOWN else ''}”"
        return f"the text {shown}" if as_text else shown
    return str(given)[:SHOWN]
