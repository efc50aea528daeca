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
from collections import OrderedDict
from functools import lru_cache
from pathlib import Path
from threading import Lock
from typing import Any, NamedTuple

from faithful_ledger import __version__
from faithful_ledger.core.errors import TemplateError
from faithful_ledger.core.source import Moment, moment_of, read_whole
from faithful_ledger.core.template.compile import Mistakes, Where, compile_signs, compile_template
from faithful_ledger.core.template.mistakes import mistakes_in
from faithful_ledger.core.template.model import Sign, Template
from faithful_ledger.core.template.parts import Beside, with_parts
from faithful_ledger.core.template.rewriting import Hex, spelled
from faithful_ledger.core.template.yaml_text import LARGEST_TEMPLATE, Document, put_at, read_yaml, value_at

__all__ = [
    "LARGEST_TEMPLATE",
    "dumped",
    "load_signs",
    "load_template",
    "parse_template",
    "read_template",
    "rewrite",
    "round_trip",
]

BESIDE = "beside"  # among what is remembered: the digests of files that the template names
MOST_MISTAKES = 40  # reported one by one
MOST_PASSED = 8
IN_RECORD = 3  # steps to an element of a record: “records”, its name, the number


class _Made(NamedTuple):
    """A template with the keys that it was made of."""

    template: Template
    keys: dict[str, Any]


class _Passed:
    """The latest texts that name nothing beside them, with what was made of them: while a template is changed by hand,
    each of its texts is asked for several times.
    """

    def __init__(self) -> None:
        self._all: OrderedDict[bytes, _Made] = OrderedDict()
        self._lock = Lock()

    def get(self, text: bytes) -> _Made | None:
        with self._lock:
            return self._all.get(text)

    def add(self, text: bytes, made: _Made) -> None:
        with self._lock:
            self._all[text] = made
            if len(self._all) > MOST_PASSED:
                self._all.popitem(last=False)


_PASSED = _Passed()


def load_template(path: Path, cache: Path | None = None) -> Template:
    """Read a template file; `cache` is a folder that remembers what passed.

    Raises:
        FileAccessError: it cannot be read.
        TemplateError: it has mistakes; all of them are reported, with their lines.
    """
    if path.is_file() and path.stat().st_size > LARGEST_TEMPLATE:
        raise TemplateError(path.name, [(0, f"it is larger than {LARGEST_TEMPLATE >> 20} MiB")])
    text, _ = read_whole(path)
    if (passed := _PASSED.get(text)) is not None:
        return passed.template
    remembered = _place(text, cache) if cache else None
    if remembered is not None and (known := _remembered(remembered, path.parent)) is not None:
        return known
    template, keys = _parse(text, path.name, path.parent)
    if remembered is not None:
        _remember(remembered, keys)
    return template


def load_signs(path: Path, cache: Path | None = None) -> tuple[str, list[Sign]]:
    """The id of a template, and what its files are recognised by. One that is remembered is not made for it. Errors as
    for `load_template`.
    """
    if cache is not None and path.is_file() and (moment := moment_of(path.stat())).size <= LARGEST_TEMPLATE:
        return _signs(path, cache, moment)
    template = load_template(path, cache)
    return template.id, template.signs


def parse_template(text: bytes, name: str, folder: Path | None = None) -> Template:
    """As `load_template`, from bytes in memory; `name` is used in messages, and `folder` is where the parts are that it
    shares with others.
    """
    return (_PASSED.get(text) or _parse(text, name, folder)).template


def read_template(path: Path) -> tuple[Template, bytes]:
    """A template of a file, with its text. Errors as for `load_template`."""
    text = read_whole(path)[0]
    return parse_template(text, path.name, path.parent), text


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
    yaml.representer.add_representer(Hex, lambda r, value: r.represent_scalar("tag:yaml.org,2002:int", spelled(value)))
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


def _parse(text: bytes, name: str, folder: Path | None) -> _Made:
    document = read_yaml(text, name)
    mistakes: Mistakes = []
    beside = Beside(folder)
    keys = _keys_like_before(document) or _keys(document, name, beside, mistakes)
    template = compile_template(keys, mistakes)
    if mistakes:
        raise TemplateError(name, lines_of(document, mistakes))
    template.folder = beside.folder if beside.digests else None
    if not beside.digests:
        _PASSED.add(text, _Made(template, keys))
    return _Made(template, keys | {BESIDE: beside.digests})


def _keys(document: Document, name: str, beside: Beside, mistakes: Mistakes) -> dict[str, Any]:
    """What a template says, validated, with what it names beside it. Keys that are not known are left out, and are
    among the `mistakes`.
    """
    from pydantic import ValidationError

    from faithful_ledger.core.template.schema import TemplateText

    try:
        checked = TemplateText.model_validate(document.value)
    except ValidationError as error:
        found = error.errors(include_url=False)
        mistakes += mistakes_in([dict(each) for each in found], document)
        lines = lines_of(document, mistakes[:MOST_MISTAKES])
        rest = document.copy()
        for each in found:
            if each["type"] == "extra_forbidden":
                holder, step = list(rest.walk(each["loc"]))[-1]
                holder.pop(step, None)
        try:  # without the unknown keys the rest may make sense, and its mistakes can be reported as well
            checked = TemplateText.model_validate(rest.value)
        except ValidationError:
            raise TemplateError(name, lines, max(len(mistakes) - MOST_MISTAKES, 0)) from error
    keys = checked.model_dump(mode="json", by_alias=True, exclude_defaults=True)
    if missing := with_parts(keys, beside):
        raise TemplateError(name, lines_of(document, [*mistakes, *missing]))
    return _with_whole_keys(json.loads(json.dumps(keys)))


def _keys_like_before(document: Document) -> dict[str, Any] | None:
    """What a template says that differs in one element from one that passed lately; None for any other, and where the
    element does not pass.
    """
    text, where = document.like or ("", ())
    before = _PASSED.get(text.encode())
    if before is None or not (where[-2] == "layout" or (where[0] == "records" and len(where) == IN_RECORD)):
        return None
    from pydantic import ValidationError

    from faithful_ledger.core.template.schema import element_keys

    try:
        made = json.loads(json.dumps(element_keys(value_at(document.value, where))))
    except ValidationError:
        return None
    keys: dict[str, Any] = put_at(before.keys, where, made)
    return keys


def lines_of(document: Document, mistakes: Mistakes) -> list[tuple[int, str]]:
    return [(document.line(where), text) for where, text in mistakes]


@lru_cache(maxsize=64)
def _made(text: bytes, folder: Path) -> tuple[Template, dict[str, str]] | None:
    """The template made from what is remembered of it, and the digests of what it shares with others; nobody changes a
    template that was made.
    """
    mistakes: Mistakes = []
    keys = json.loads(text)
    digests: dict[str, str] = keys.pop(BESIDE, {})
    template = compile_template(_with_whole_keys(keys), mistakes)
    template.folder = folder if digests else None
    return (template, digests) if not mistakes else None


@lru_cache(maxsize=64)
def _signs(path: Path, cache: Path, moment: Moment) -> tuple[str, list[Sign]]:
    """The id and the signs of a template as it was at a moment."""
    known = _recall(_place(read_whole(path)[0], cache))
    if known is None:
        template = load_template(path, cache)
        return template.id, template.signs
    keys = json.loads(known)
    return keys["id"], compile_signs(keys, [])


def _place(text: bytes, cache: Path) -> Path:
    """Where it is remembered what a text of a template says."""
    return cache / f"{hashlib.sha256(__version__.encode() + text).hexdigest()}.json"


def _remembered(path: Path, folder: Path) -> Template | None:
    text = _recall(path)
    made = _made(text, folder.absolute()) if text is not None else None
    return made[0] if made is not None and (not made[1] or Beside(folder).is_as_it_was(made[1])) else None


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
