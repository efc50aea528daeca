"""From a template's YAML to a template, with all mistakes reported at once.

The text is bounded while it is read (yaml_text). Keys are validated by pydantic, which takes a third of a second to
import, so a template that passed once is remembered, as JSON in the cache folder under the SHA-256 of its text, and
needs neither. Rewriting goes through ruamel.yaml, which keeps comments, quotes and order.
"""

from __future__ import annotations

import hashlib
import io
import json
import os
from functools import lru_cache
from pathlib import Path
from typing import Any

from faithful_ledger import __version__
from faithful_ledger.core.errors import TemplateError
from faithful_ledger.core.source import read_whole
from faithful_ledger.core.suggest import did_you_mean
from faithful_ledger.core.template.compile import Mistakes, Where, compile_template
from faithful_ledger.core.template.model import Template
from faithful_ledger.core.template.yaml_text import LARGEST_TEMPLATE, read_yaml

__all__ = ["LARGEST_TEMPLATE", "dumped", "load_template", "parse_template", "rewrite", "round_trip"]

NEAR = 0.75  # how alike a key of the same part is before keys of others are suggested
MOST_MISTAKES = 40  # reported one by one
# What keys were called before version 0.2, everywhere or in one part.
RENAMED: dict[str | tuple[str, str], str] = {"repeat": "rows", "until": "ended_by", ("section", "rows"): "fields"}
PARTS = {
    **{
        kind: kind
        for kind in ("field", "constant", "unknown", "group", "rows", "each", "bounds", "seal", "magic", "size")
    },
    **{"recognise": "sign", "files": "file", "rules": "rule", "companions": "companion", "sections": "section"},
    **{
        "layers": "layer",
        "steps": "steps",
        "list": "list",
        "witnesses": "witness",
        "moment": "moment",
        "derive": "derive",
    },
}


def load_template(path: Path, cache: Path | None = None) -> Template:
    """Read a template file; `cache` is a folder that remembers what passed.

    Raises:
        FileAccessError: it cannot be read.
        TemplateError: it has mistakes; all of them are reported, with their lines.
    """
    if path.is_file() and path.stat().st_size > LARGEST_TEMPLATE:
        raise TemplateError(path.name, [(0, f"it is larger than {LARGEST_TEMPLATE >> 20} MiB")])
    text, _ = read_whole(path)
    remembered = cache / f"{hashlib.sha256(__version__.encode() + text).hexdigest()}.json" if cache else None
    if remembered is not None and (known := _remembered(remembered)) is not None:
        return known
    template, keys = _parse(text, path.name)
    if remembered is not None:
        _remember(remembered, keys)
    return template


def parse_template(text: bytes, name: str) -> Template:
    """As `load_template`, from bytes in memory; `name` is used in messages."""
    return _parse(text, name)[0]


def rewrite(text: bytes, changes: dict[Where, Any]) -> bytes:
    """The same template with some values changed, every comment and blank kept.

    `changes` maps the way to a key, as ("files", "save", "layout", 0, "label"), to its new value.
    """
    yaml = round_trip()
    document = yaml.load(text.decode("utf-8"))
    for where, value in changes.items():
        holder = document
        for step in where[:-1]:
            holder = holder[step]
        holder[where[-1]] = value
    out = io.BytesIO()
    yaml.dump(document, out)
    return out.getvalue()


def round_trip() -> Any:
    """A reader and writer of YAML that keeps comments, quotes and order."""
    from ruamel.yaml import YAML

    yaml = YAML(typ="rt", pure=True)
    yaml.preserve_quotes = True
    yaml.width = 4096
    yaml.indent(mapping=2, sequence=4, offset=2)
    yaml.allow_duplicate_keys = False
    return yaml


def dumped(yaml: Any, document: Any) -> bytes:
    """A document that was changed, as the text of a template.

    Raises:
        TemplateError: it would not be one.
    """
    out = io.BytesIO()
    yaml.dump(document, out)
    parse_template(out.getvalue(), f"{document['id']}.yaml")
    return out.getvalue()


def _parse(text: bytes, name: str) -> tuple[Template, dict[str, Any]]:
    document = read_yaml(text, name)
    from pydantic import ValidationError

    from faithful_ledger.core.template.schema import TemplateText

    mistakes: Mistakes = []
    try:
        checked = TemplateText.model_validate(document.value)
    except ValidationError as error:
        found = error.errors(include_url=False, include_context=False)
        mistakes += [(tuple(each["loc"]), _told(dict(each))) for each in found[:MOST_MISTAKES]]
        lines = [(document.line(where), text) for where, text in mistakes]
        for each in found:
            if each["type"] == "extra_forbidden":
                holder, step = list(document.walk(each["loc"]))[-1]
                holder.pop(step, None)
        try:  # without the unknown keys the rest may make sense, and its mistakes can be reported as well
            checked = TemplateText.model_validate(document.value)
        except ValidationError:
            raise TemplateError(name, lines, max(len(found) - MOST_MISTAKES, 0)) from error
    keys = checked.model_dump(mode="json", by_alias=True, exclude_defaults=True)
    keys = _with_whole_keys(json.loads(json.dumps(keys)))
    template = compile_template(keys, mistakes)
    if mistakes:
        raise TemplateError(name, [(document.line(where), text) for where, text in mistakes])
    return template, keys


def _told(error: dict[str, Any]) -> str:
    from faithful_ledger.core.template.schema import ELEMENT_KINDS, all_keys

    where, kind = tuple(error["loc"]), str(error["type"])
    key = str(where[-1]) if where else ""
    if kind == "extra_forbidden":
        keys = all_keys()
        part = next((PARTS[step] for step in reversed(where[:-1]) if step in PARTS), "template")
        if (part, key) in RENAMED or key in RENAMED:
            return f"“{key}” is called “{RENAMED.get((part, key)) or RENAMED[key]}” now"
        near = keys[part]
        hint = did_you_mean(key, near, NEAR) or did_you_mean(
            key, sorted({name for names in keys.values() for name in names})
        )
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
    return f"“{key}” cannot be {str(error['input'])[:40]!r}: {error['msg'][0].lower()}{error['msg'][1:]}"


@lru_cache(maxsize=64)
def _made(text: bytes) -> Template | None:
    """The template made from what is remembered of it; nobody changes a template that was made."""
    mistakes: Mistakes = []
    template = compile_template(_with_whole_keys(json.loads(text)), mistakes)
    return template if not mistakes else None


def _remembered(path: Path) -> Template | None:
    text = _recall(path)
    return _made(text) if text is not None else None


def _recall(path: Path) -> bytes | None:
    """What is remembered at a path, if it is as it was written."""
    try:
        digest, _, text = path.read_bytes().partition(b"\n")
    except OSError:
        return None
    return text if hashlib.sha256(text).hexdigest().encode() == digest else None


def _with_whole_keys(keys: dict[str, Any]) -> dict[str, Any]:
    for part in ("catalogues", "letters"):
        tables = keys.get(part, {}).items()
        keys[part] = {name: {int(number): text for number, text in table.items()} for name, table in tables}
    return keys


def _remember(path: Path, keys: dict[str, Any]) -> None:
    """A cache that cannot be written is only slower."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        unfinished = path.with_suffix(f".{os.getpid()}")
        text = json.dumps(keys).encode()
        unfinished.write_bytes(hashlib.sha256(text).hexdigest().encode() + b"\n" + text)
        unfinished.replace(path)
    except OSError:
        path.with_suffix(f".{os.getpid()}").unlink(missing_ok=True)
