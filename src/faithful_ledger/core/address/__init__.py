"""Where a value is: the address itself, expressions over other fields, and paths."""

from faithful_ledger.core.address.address import NEXT, Address, PathFormula, Said
from faithful_ledger.core.address.expressions import FUNCTIONS, Expression, Lookup
from faithful_ledger.core.address.names import ROW, NamePart, name_parts
from faithful_ledger.core.address.paths import (
    Step,
    format_name,
    format_path,
    name_in_text,
    parse_path,
    split_outside_quotes,
)

__all__ = [
    "FUNCTIONS",
    "NEXT",
    "ROW",
    "Address",
    "Expression",
    "Lookup",
    "NamePart",
    "PathFormula",
    "Said",
    "Step",
    "format_name",
    "format_path",
    "name_in_text",
    "name_parts",
    "parse_path",
    "split_outside_quotes",
]
