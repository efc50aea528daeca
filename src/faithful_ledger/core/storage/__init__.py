"""How one value is stored in bytes; nothing else knows it. A storage knows no template and no save."""

from faithful_ledger.core.storage.base import CutOff, Order, Sizer, Storage, Value, encoded
from faithful_ledger.core.storage.bits import BitRange
from faithful_ledger.core.storage.catalogue import NUMBERS, SWITCHES, Spelling, number_at, number_storage, spellings
from faithful_ledger.core.storage.checksum import WRITTEN, Checksum, ChecksumInText, Written
from faithful_ledger.core.storage.choices import Choice, Switches
from faithful_ledger.core.storage.digits import Digits, DigitsBuffer
from faithful_ledger.core.storage.forms import Formed, form_of
from faithful_ledger.core.storage.json_values import JsonNumber, JsonSwitch, JsonText, JsonWord
from faithful_ledger.core.storage.leb128 import Leb128
from faithful_ledger.core.storage.letters import Letters
from faithful_ledger.core.storage.listed import ListedText, ListRules
from faithful_ledger.core.storage.moments import MOMENTS, UNITS, DosMoment, Moment, is_moment, moment_since
from faithful_ledger.core.storage.numbers import Float, Integer, VariableNumber, WholeNumber, parse_decimal, parse_whole
from faithful_ledger.core.storage.packed import PackedDecimal, UnpackedDecimal
from faithful_ledger.core.storage.patterns import COLOURS, Colour, Coordinates, FixedBytes, Guid, named_pattern
from faithful_ledger.core.storage.scaled import Number, Scaled, parse_fraction
from faithful_ledger.core.storage.sized import SizedNumber
from faithful_ledger.core.storage.spelled import (
    NumberInJson,
    Quoting,
    SpelledNumber,
    SpelledSwitch,
    SpelledText,
    SpelledValue,
    WholeInText,
)
from faithful_ledger.core.storage.text import (
    EndedText,
    FixedText,
    FreeText,
    PrefixedText,
    RawBytes,
    text_encoding,
    unit_of,
)

__all__ = [
    "COLOURS",
    "MOMENTS",
    "NUMBERS",
    "SWITCHES",
    "UNITS",
    "WRITTEN",
    "BitRange",
    "Checksum",
    "ChecksumInText",
    "Choice",
    "Colour",
    "Coordinates",
    "CutOff",
    "Digits",
    "DigitsBuffer",
    "DosMoment",
    "EndedText",
    "FixedBytes",
    "FixedText",
    "Float",
    "Formed",
    "FreeText",
    "Guid",
    "Integer",
    "JsonNumber",
    "JsonSwitch",
    "JsonText",
    "JsonWord",
    "Leb128",
    "Letters",
    "ListRules",
    "ListedText",
    "Moment",
    "Number",
    "NumberInJson",
    "Order",
    "PackedDecimal",
    "PrefixedText",
    "Quoting",
    "RawBytes",
    "Scaled",
    "SizedNumber",
    "Sizer",
    "SpelledNumber",
    "SpelledSwitch",
    "SpelledText",
    "SpelledValue",
    "Spelling",
    "Storage",
    "Switches",
    "UnpackedDecimal",
    "Value",
    "VariableNumber",
    "WholeInText",
    "WholeNumber",
    "Written",
    "encoded",
    "form_of",
    "is_moment",
    "moment_since",
    "named_pattern",
    "number_at",
    "number_storage",
    "parse_decimal",
    "parse_fraction",
    "parse_whole",
    "spellings",
    "text_encoding",
    "unit_of",
]
