"""From a template's YAML to a template, with all mistakes told at once.

YAML is read by ruamel.yaml, which keeps line numbers and comments. A stranger's file is bounded first: its size, its
depth, and no aliases at all, so that it cannot grow in memory (docs/template-language.md). Keys are validated by
pydantic. Both take a third of a second to import, so a template that passed once is remembered, as JSON in the cache
folder under the SHA-256 of its text, and needs neither.
"""

from __future__ import annotations

import hashlib
import io
import json
import os
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path
from typing import Any

from faithful_ledger import __version__
from faithful_ledger.core.errors import TemplateError
from faithful_ledger.core.source import read_whole
from faithful_ledger.core.suggest import did_you_mean
from faithful_ledger.core.template.compiler import Mistakes, Where, compile_template
from faithful_ledger.core.template.model import Template

__all__ = ["LARGEST_TEMPLATE", "load_template", "parse_template", "rewrite", "round_trip"]

LARGEST_TEMPLATE = 2 << 20
DEEPEST = 60
PARTS = {
    **{kind: kind for kind in ("field", "constant", "unknown", "group", "repeat", "bounds", "seal", "magic", "size")},
    **{"recognise": "sign", "files": "file", "rules": "rule", "companions": "companion", "sections": "section"},
}


def load_template(path: Path, cache: Path | None = None) -> Template:
    """Read a template file; `cache` is a folder that remembers what passed.

    Raises:
        FileAccessError: it cannot be read.
        TemplateError: it has mistakes; all of them are told, with their lines.
    """
    text, _ = read_whole(path)
    if len(text) > LARGEST_TEMPLATE:
        raise TemplateError(path.name, [(0, f"it is larger than {LARGEST_TEMPLATE >> 20} MiB")])
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


def _parse(text: bytes, name: str) -> tuple[Template, dict[str, Any]]:
    document = _read_yaml(text, name)
    from pydantic import ValidationError

    from faithful_ledger.core.template.schema import TemplateText

    mistakes: Mistakes = []
    plain = _plain(document)
    try:
        checked = TemplateText.model_validate(plain)
    except ValidationError as error:
        mistakes += [(tuple(found["loc"]), _told(dict(found))) for found in error.errors()]
        for found in error.errors():
            if found["type"] == "extra_forbidden":
                _leave_out(plain, found["loc"])
        try:  # without the unknown keys the rest may make sense, and its mistakes can be told in the same breath
            checked = TemplateText.model_validate(plain)
        except ValidationError:
            raise TemplateError(name, _with_lines(mistakes, document)) from error
    keys = checked.model_dump(mode="json", by_alias=True, exclude_defaults=True)
    keys = _with_whole_keys(json.loads(json.dumps(keys)))
    template = compile_template(keys, mistakes)
    if mistakes:
        raise TemplateError(name, _with_lines(mistakes, document))
    return template, keys


def _leave_out(document: Any, where: Where) -> None:
    """Remove the key at `where`."""
    holder, step = list(_walk(document, where))[-1]
    holder.pop(step)


def _walk(document: Any, where: Where) -> Iterator[tuple[Any, str | int]]:
    """Each container on the way and the step taken from it.

    pydantic puts the alternative it tried into the way (“field”, “group”); that is no key of the document, though a key
    of the same name may stand there with a plain value.
    """
    for number, step in enumerate(where):
        last = number == len(where) - 1
        known = isinstance(step, int) and step < len(document) if isinstance(document, list) else step in document
        if known and (last or isinstance(document[step], dict | list)):
            yield document, step
            document = document[step]
            if not isinstance(document, dict | list):
                return


def _read_yaml(text: bytes, name: str) -> Any:
    from ruamel.yaml import events
    from ruamel.yaml.error import MarkedYAMLError, YAMLError

    try:
        decoded = text.decode("utf-8")
    except UnicodeDecodeError as error:
        line = text[: error.start].count(b"\n") + 1
        raise TemplateError(name, [(line, "this is no UTF-8 text")]) from error
    try:
        depth = 0
        for event in round_trip().parse(decoded):
            line = event.start_mark.line + 1
            if isinstance(event, events.AliasEvent):
                raise TemplateError(name, [(line, "aliases (*name) are not allowed; use records")])
            depth += isinstance(event, events.CollectionStartEvent)
            depth -= isinstance(event, events.CollectionEndEvent)
            if depth > DEEPEST:
                raise TemplateError(name, [(line, f"it is nested deeper than {DEEPEST} levels")])
        document = round_trip().load(decoded)
    except MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        problem = " ".join(str(error.problem or error.context).split())
        raise TemplateError(name, [(mark.line + 1 if mark else 0, f"this is no YAML: {problem}")]) from error
    except (YAMLError, ValueError, RecursionError) as error:
        raise TemplateError(name, [(0, f"this is no YAML: {error}")]) from error
    if not isinstance(document, dict):
        raise TemplateError(name, [(1, "a template is a mapping that begins with “ledger: 1”")])
    return document


def _plain(value: Any) -> Any:
    """Plain containers and scalars for pydantic; ruamel's own types keep comments."""
    if isinstance(value, dict):
        return {_plain(key): _plain(item) for key, item in value.items()}
    if isinstance(value, list):
        return [_plain(item) for item in value]
    if isinstance(value, bool) or value is None:
        return value
    for kind in (int, float, str):
        if isinstance(value, kind):
            return kind(value)
    return str(value)


def _with_lines(mistakes: Mistakes, document: Any) -> list[tuple[int, str]]:
    return list(dict.fromkeys((_line(where, document), text) for where, text in mistakes))


def _line(where: Where, document: Any) -> int:
    """The line of a key, or of the nearest thing around it that has one."""
    line = 1
    for holder, step in _walk(document, where):
        places = holder.lc  # ruamel.yaml's line and column of each part
        line = (places.item(step) if isinstance(step, int) else places.key(step))[0] + 1
    return line


def _told(error: dict[str, Any]) -> str:
    from faithful_ledger.core.template.schema import ELEMENT_KINDS, all_keys

    where, kind = tuple(error["loc"]), str(error["type"])
    key = str(where[-1]) if where else ""
    if kind == "extra_forbidden":
        keys = all_keys()
        near = keys[next((PARTS[step] for step in reversed(where[:-1]) if step in PARTS), "template")]
        hint = did_you_mean(key, near) or did_you_mean(key, sorted({name for names in keys.values() for name in names}))
        return f"“{key}” is no key here{'; ' + hint if hint else ''}"
    if kind == "missing":
        return f"“{key}” is missing"
    if kind in ("union_tag_not_found", "union_tag_invalid"):
        given = list(error["input"]) if isinstance(error["input"], dict) else []
        hint = next((h for name in given if (h := did_you_mean(str(name), ELEMENT_KINDS))), "")
        return f"an element begins with one of {', '.join(ELEMENT_KINDS)}{'; ' + hint if hint else ''}"
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
    keys["catalogues"] = {
        name: {int(number): text for number, text in entries.items()}
        for name, entries in keys.get("catalogues", {}).items()
    }
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
