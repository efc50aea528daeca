"""The template language: which keys there are, and what may stand behind them.

This is the reference the loader validates against (`docs/template-language.md` explains each key with an example).
Nothing here is needed to use a template that was validated before: see `loader`.
"""

from __future__ import annotations

from functools import cache
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Discriminator, Field, StringConstraints, Tag, TypeAdapter

from faithful_ledger.core.storage import Written

__all__ = ["ELEMENT_KINDS", "LANGUAGE_VERSION", "TemplateText", "all_keys", "element_keys", "json_schema"]

LANGUAGE_VERSION = 1
NAME_PATTERN = r"^[a-z][a-z0-9_]*$"
FILE_NAME, FILE_BELOW = r"^[^/\\\x00]+$", r"^[^/\\\x00]+(/[^/\\\x00]+)*$"
HEX_BYTES = r"^\s*([0-9A-Fa-f]{2}\s*){1,64}$"
SHA_256, IDENTIFIER = r"^[0-9a-f]{64}$", r"^[a-z0-9][a-z0-9-]*$"
PATTERNS = {
    NAME_PATTERN: "small letters, digits and _, with a letter first",
    FILE_NAME: "the name of a file in the same folder",
    FILE_BELOW: "the name of a file in the same folder, or in one below",
    HEX_BYTES: "up to 64 bytes in hexadecimal, as “41 0A”",
    SHA_256: "a SHA-256 of 64 hexadecimal digits",
    IDENTIFIER: "small letters, digits and -, with a letter or digit first",
}

Name = Annotated[str, StringConstraints(pattern=NAME_PATTERN, max_length=60)]
Words = Annotated[str, StringConstraints(max_length=400)]
PlainFileName = Annotated[str, StringConstraints(pattern=FILE_NAME, max_length=120)]
FileName = Annotated[str, StringConstraints(pattern=FILE_BELOW, max_length=200)]
HexBytes = Annotated[str, StringConstraints(pattern=HEX_BYTES)]
Formula = Annotated[int | str, Field(union_mode="left_to_right")]
Small = Annotated[int, Field(ge=-(1 << 63), le=1 << 63)]
Number = Annotated[int, Field(ge=-(1 << 64), le=1 << 64)] | Annotated[float, Field(allow_inf_nan=False)]
Layout = Annotated[list["Element"], Field(max_length=2000)]


Letter = Annotated[str, StringConstraints(max_length=16)]


class Part(BaseModel):
    model_config = ConfigDict(extra="forbid", strict=True)


Unsigned = Annotated[int, Field(ge=0, lt=1 << 64)]


class Bounds(Part):
    least: Number | None = None
    most: Number | None = None
    by: Name | None = None
    why: Words = ""


class SealSpan(Part):
    from_: Annotated[int | str, Field(alias="from", union_mode="left_to_right")] = 0
    behind: str | None = None
    to: int = 0


class CrcKeys(Part):
    width: Annotated[int, Field(ge=8, le=64)]
    polynomial: Unsigned
    start: Unsigned = 0
    reflected: bool = False
    reflected_out: bool | None = None
    xor_out: Unsigned = 0


class Seal(Part):
    algorithm: str
    over: str | Annotated[list[str], Field(min_length=2, max_length=64)] | SealSpan
    own: Literal["zeros", "left out"] | HexBytes | None = None
    beside: Annotated[list[Annotated[int, Field(ge=0, le=1 << 30)]], Field(min_length=2, max_length=2)] = [0, 0]
    unpacked: Annotated[list[Words], Field(max_length=6)] = []
    between: Annotated[str, Field(max_length=16)] | None = None
    named: Annotated[str, Field(max_length=16)] | None = None
    policy: Literal["renew", "leave"] = "renew"
    start: Unsigned | None = None
    unit: Annotated[int, Field(ge=1, le=1 << 24)] = 1
    multiplier: Annotated[int, Field(ge=1, lt=1 << 32)] | None = None
    changed: Literal["negated", "inverted"] | None = None
    key: HexBytes | None = None
    salt_before: HexBytes | None = None
    salt_behind: HexBytes | None = None
    crc: CrcKeys | None = None


class Common(Part):
    at: Formula | None = None
    behind: HexBytes | None = None
    before: HexBytes | None = None
    table: str | None = None
    entry: Formula | None = None
    align: Annotated[int, Field(ge=1, le=1 << 20)] | None = None
    when: Formula | None = None
    label: Words = ""
    note: Words = ""


class MomentKeys(Part):
    """A number that counts time since a date."""

    since: Annotated[str, StringConstraints(max_length=32)]
    unit: Literal["days", "hours", "minutes", "seconds", "milliseconds", "microseconds", "ticks", "nanoseconds"]


class ValueKeys(Part):
    """How one value is stored and what it means, for a field and for each of many values in a row."""

    as_: str = Field(alias="as")
    size: Formula | None = None
    length: str | None = None
    counts: Literal["bytes", "letters"] = "bytes"
    ended_by: HexBytes | None = None
    encoding: str = "utf-8"
    pad: HexBytes | None = None
    names: str | Annotated[dict[int, Words], Field(max_length=20_000)] | None = None
    switches: str | Annotated[dict[int, Words], Field(max_length=64)] | None = None
    scale: Number | str | None = None
    bias: Number | str | None = None
    rounding: Literal["floor", "nearest"] | None = None
    form: Literal["hex", "binary", "duration"] | None = None
    bounds: Bounds | None = None
    standing: Literal["guessed", "fits", "proven"] = "guessed"
    locked: Words | None = None
    unit: Annotated[str, StringConstraints(max_length=24)] = ""
    moment: str | MomentKeys | None = None
    means: Annotated[str, StringConstraints(max_length=40)] = ""
    written: Written | None = None


class EachKeys(ValueKeys):
    label: Words = ""
    note: Words = ""


class ListKeys(Part):
    """How strict a game is about a text that is a list."""

    mark: Annotated[str, StringConstraints(min_length=1, max_length=4)]
    blanks: bool = False
    empty: bool = False
    twice: bool = False


class FieldKeys(Common, ValueKeys):
    field: Name
    list_: ListKeys | None = Field(None, alias="list")
    length_of: str | None = None
    count_of: str | None = None
    offset_of: str | None = None
    of_file: Name | None = None
    plus: Small = 0
    seal: Seal | None = None


class ConstantKeys(Common):
    constant: Name
    bytes_: HexBytes | None = Field(None, alias="bytes")
    text: Words | None = None


class UnknownKeys(Common):
    unknown: Name
    size: Formula | None = None


class GroupKeys(Common):
    group: Name
    layout: Layout
    size: Formula | None = None
    flat: bool = False
    word: str | None = None


class RowsKeys(Common):
    rows: Name
    record: str | None = None
    layout: Layout | None = None
    each: EachKeys | None = None
    count: Formula | None = None
    size: Formula | None = None
    ended_by: HexBytes | None = None
    places: Annotated[int, Field(ge=1, le=1 << 20)] | None = None
    free: HexBytes | None = None
    empty: Annotated[dict[Name, int | Words], Field(max_length=20)] | None = None
    key: Name | None = None
    key_may_repeat: bool = False


ELEMENT_KINDS: dict[str, type[Common]] = {
    "field": FieldKeys,
    "constant": ConstantKeys,
    "unknown": UnknownKeys,
    "group": GroupKeys,
    "rows": RowsKeys,
}


def _kind_of(value: Any) -> str | None:
    keys = value if isinstance(value, dict) else getattr(value, "model_fields_set", ())
    return next((kind for kind in ELEMENT_KINDS if kind in keys), None)


Element = Annotated[
    Annotated[FieldKeys, Tag("field")]
    | Annotated[ConstantKeys, Tag("constant")]
    | Annotated[UnknownKeys, Tag("unknown")]
    | Annotated[GroupKeys, Tag("group")]
    | Annotated[RowsKeys, Tag("rows")],
    Discriminator(_kind_of),
]


class Magic(Part):
    at: Annotated[int, Field(ge=0, le=1 << 40)] = 0
    bytes_: HexBytes | None = Field(None, alias="bytes")
    text: Words | None = None


class UsualBytes(Part):
    at: Annotated[int, Field(ge=0, le=1 << 40)]
    bytes_: HexBytes = Field(alias="bytes")


class Size(Part):
    least: Annotated[int, Field(ge=0)] = 0
    most: Annotated[int, Field(ge=0)] | None = None


class Sign(Part):
    name: PlainFileName | None = None
    magic: Magic | None = None
    size: Size | None = None


class DeriveKeys(Part):
    """How the key of a cipher is made from what `key` or `key_of` says."""

    by: Literal["pbkdf1", "pbkdf2", "scrypt", "hkdf", "digest", "openssl"]
    salt: HexBytes | Literal["first", "iv", "none"] | None = None
    salt_size: Annotated[int, Field(ge=1, le=64)] | None = None
    rounds: Annotated[int, Field(ge=1, le=2_000_000)] = 1000
    hash: Literal["md5", "sha-1", "sha-256", "sha-384", "sha-512"] = "sha-256"
    size: Annotated[int, Field(ge=1, le=64)] = 32
    cost: Annotated[int, Field(ge=2, le=1 << 17)] = 1 << 14
    info: HexBytes | None = None


class LayerKeys(Part):
    """A layer with what is needed to undo it."""

    layer: Words
    key: HexBytes | None = None
    key_of: Words | None = None
    at: Formula | None = None
    put_back: bool = True
    iv: HexBytes | Literal["first", "derived"] | None = None
    padding: Literal["pkcs7", "zeros", "length", "none"] | None = None
    tag: Literal["first", "last"] | None = None
    derive: DeriveKeys | None = None
    member: Words | None = None
    iv_at: int | None = None
    size: Formula | None = None
    number: Words | None = None
    mask: Words | None = None
    parts: Annotated[list[Annotated[int, Field(ge=1, le=8)]], Field(min_length=1, max_length=8)] | None = None
    through: Annotated[list[Words | LayerKeys], Field(max_length=4)] | None = None


class File(Part):
    name: FileName | None = None
    root: Name | None = None
    inside: Words | None = None
    part_size: Annotated[int, Field(ge=1, le=1 << 30)] | None = None
    keeps_size: bool = False
    usual: Annotated[list[UsualBytes], Field(max_length=8)] = []
    layers: Annotated[list[Words | LayerKeys], Field(max_length=6)] = []
    format: Words = "binary"
    order: Literal["little", "big"] = "little"
    layout: Layout


class Companion(Part):
    name: PlainFileName
    why: Words = ""


class SettingStep(Part):
    """A setting of the game that is a field of a file, and what it has to say before a posting."""

    set_: Words = Field(alias="set")
    to: int | float | bool | Words
    why: Words = ""


class Steps(Part):
    """What people do around a posting, and what the game should show then."""

    before: Annotated[list[Words | SettingStep], Field(max_length=20)] = []
    after: Annotated[list[Words], Field(max_length=20)] = []
    look_for: Annotated[list[Words], Field(max_length=20)] = []


class Rule(Part):
    equal: Annotated[list[str], Field(min_length=2, max_length=2)] | None = None
    sum: Annotated[list[str], Field(min_length=2, max_length=2)] | None = None
    unique: Words | None = None
    among: Annotated[list[str], Field(min_length=2, max_length=2)] | None = None
    first: Annotated[int, Field(ge=0, le=1 << 32)] = 0
    besides: Annotated[list[int | Words], Field(max_length=100)] = []
    named: Words | None = None
    pattern: Words = ""
    of: Literal["file", "folder"] = "file"
    file: Name | None = None
    names: dict[Words, int | Words] = {}
    why: Words = ""


class Slots(Part):
    """Which slots a game has, how a name says which one a save is in, and what shows what is in one."""

    first: Annotated[int, Field(ge=0, le=1 << 32)] | None = None
    last: Annotated[int, Field(ge=0, le=1 << 32)] | None = None
    shows: Annotated[list[Words], Field(max_length=8)] = []
    rows: Words | None = None
    keep: Annotated[list[Name], Field(max_length=8)] = []
    pattern: Words = ""
    of: Literal["file", "folder"] = "file"
    names: dict[Words, int | Words] = {}


Pair = Annotated[list[Words], Field(min_length=2, max_length=2)]


class Card(Part):
    """How an image of a card holds files, in chains of blocks."""

    entries: Words
    name: Name
    first: Name | None = None
    next: Words
    block_size: Formula
    at: Formula = 0
    size: Name | None = None
    count: Name | None = None
    free: Annotated[int, Field(ge=0, lt=1 << 32)] = 0
    last: Annotated[int, Field(ge=0, lt=1 << 32)] = 0xFFFF
    state: Name | None = None
    states: Annotated[list[int | Words], Field(min_length=3, max_length=3)] | None = None
    free_count: Words | None = None
    icon: Name | None = None
    copies: Annotated[list[Pair], Field(max_length=8)] = []
    fill: dict[Name, int | Words | Annotated[dict[Words, int | Words], Field(min_length=1, max_length=50)]] = {}
    pairs: Annotated[list[Pair], Field(max_length=50)] = []
    apart: Annotated[list[Pair], Field(max_length=50)] = []


class Carries(Part):
    """What kind of files some are that are in a folder of saves."""

    files: Words | Annotated[list[Words], Field(min_length=1, max_length=100)]
    kind: Literal["played", "map", "made-anew", "add-on"]
    needs: FileName | None = None
    why: Words = ""


class Section(Part):
    title: Words
    fields: list[str] | None = None
    table: str | None = None
    columns: list[Name] | None = None
    switches: str | None = None


class WitnessKeys(Part):
    """A save by its hash, and the values it must show."""

    sha256: Annotated[str, StringConstraints(pattern=SHA_256)]
    size: Annotated[int, Field(ge=0)] | None = None
    note: Words = ""
    values: Annotated[dict[Words, Annotated[str, StringConstraints(max_length=4000)]], Field(max_length=500)]


class CatalogueEntry(Part):
    """A code of a catalogue with more than its name."""

    name: Words
    group: Words = ""
    least: Number | None = None
    most: Number | None = None


Catalogue = Annotated[dict[int, Words | CatalogueEntry], Field(max_length=20_000)]


class PartText(Part):
    """What several templates share, in a file beside them."""

    about: Annotated[str, StringConstraints(max_length=4000)] = ""
    catalogues: dict[Name, Catalogue] = {}
    letters: Annotated[dict[Name, Annotated[dict[int, Letter], Field(max_length=256)]], Field(max_length=20)] = {}
    records: Annotated[dict[Name, Layout], Field(max_length=500)] = {}


class TemplateText(PartText):
    """The whole of a template."""

    ledger: Literal[1]
    id: Annotated[str, StringConstraints(pattern=IDENTIFIER, max_length=80)]
    title: Words
    version: str = "0"
    game: Words = ""
    recognise: list[Sign] = []
    imports: Annotated[list[FileName], Field(max_length=20)] = []
    catalogues: dict[Name, Catalogue | FileName] = {}  # type: ignore[assignment]
    roots: Annotated[dict[Name, Words], Field(max_length=8)] = {}
    files: Annotated[dict[Name, File], Field(min_length=1, max_length=20)]
    companions: list[Companion] = []
    rules: list[Rule] = []
    slots: Slots | None = None
    card: Card | None = None
    carries: Annotated[list[Carries], Field(max_length=200)] = []
    steps: Steps | None = None
    identity: Annotated[list[Words], Field(max_length=8)] = []
    sections: list[Section] = []
    author: Words = ""
    origin: Words = ""
    witnesses: Annotated[list[WitnessKeys], Field(max_length=500)] = []


for _kind in (GroupKeys, RowsKeys, File, PartText, TemplateText):
    _kind.model_rebuild()


@cache
def _element() -> TypeAdapter[Any]:
    return TypeAdapter(Element)


def element_keys(value: Any) -> dict[str, Any]:
    """The keys of one element of a layout, without those that say what goes without saying.

    Raises:
        ValidationError: it is not one.
    """
    made = _element().validate_python(value)
    keys: dict[str, Any] = _element().dump_python(made, mode="json", by_alias=True, exclude_defaults=True)
    return keys


def json_schema() -> dict[str, Any]:
    """The language as a JSON Schema (draft 2020-12), so that editors complete and check templates."""
    schema = TemplateText.model_json_schema(by_alias=True)
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **schema}


def all_keys() -> dict[str, list[str]]:
    """Every key of the language, by the part it belongs to."""
    parts: list[type[Part]] = [
        TemplateText,
        PartText,
        Sign,
        Magic,
        Size,
        File,
        Companion,
        Rule,
        Slots,
        Card,
        Carries,
        Steps,
        Section,
        *ELEMENT_KINDS.values(),
        EachKeys,
    ]
    parts += [Bounds, CatalogueEntry, MomentKeys, Seal, LayerKeys, DeriveKeys, ListKeys, SettingStep, WitnessKeys]
    return {
        part.__name__.removesuffix("Keys").removesuffix("Text").lower(): [
            field.alias or name for name, field in part.model_fields.items()
        ]
        for part in parts
    }
