"""Values and records of one save, put into another one: as entries, so that every carry is a posting."""

from faithful_ledger.core.carry.kits import Kit, read_kit
from faithful_ledger.core.carry.rows import carry_rows
from faithful_ledger.core.carry.values import Carried, LeftOut, put_values, taken

__all__ = ["Carried", "Kit", "LeftOut", "carry_rows", "put_values", "read_kit", "taken"]
