"""How one value lies in bytes. A codec knows no template and no save."""

from faithful_ledger.core.codecs.base import Codec, CutOff, Value, encoded
from faithful_ledger.core.codecs.choices import ChoiceCodec, SwitchesCodec
from faithful_ledger.core.codecs.numbers import FloatCodec, IntegerCodec, WholeCodec, number_codec, parse_whole
from faithful_ledger.core.codecs.spelled import JsonNumber, JsonSwitch, JsonText
from faithful_ledger.core.codecs.text import FixedText, FreeText, PrefixedText, RawBytes, text_encoding, unit_of
from faithful_ledger.core.codecs.varied import DigitsCodec, PackedCodec, VariableCodec, varied_codec

__all__ = [
    "ChoiceCodec",
    "Codec",
    "CutOff",
    "DigitsCodec",
    "FixedText",
    "FloatCodec",
    "FreeText",
    "IntegerCodec",
    "JsonNumber",
    "JsonSwitch",
    "JsonText",
    "PackedCodec",
    "PrefixedText",
    "RawBytes",
    "SwitchesCodec",
    "Value",
    "VariableCodec",
    "WholeCodec",
    "encoded",
    "number_codec",
    "parse_whole",
    "text_encoding",
    "unit_of",
    "varied_codec",
]
