"""Moving values, records, files and whole saves from one save to another. What goes into an open save is entered in it,
so that it is posted like everything else; what moves files is a plan of its own, a `Carry`.
"""

from faithful_ledger.core.carry.cards import Card, CardEntry
from faithful_ledger.core.carry.folders import Folders, ListedFile
from faithful_ledger.core.carry.inside import InnerSlots, carry_record
from faithful_ledger.core.carry.kits import Kit, read_kit
from faithful_ledger.core.carry.matching import Match, matches
from faithful_ledger.core.carry.moving import carry_slot
from faithful_ledger.core.carry.owners import carry_owner, carry_payload
from faithful_ledger.core.carry.plan import Carry
from faithful_ledger.core.carry.rows import carry_rows
from faithful_ledger.core.carry.slots import How, Slot, Slots, runs_of, slots_in
from faithful_ledger.core.carry.values import Carried, LeftOut, put_values, taken

__all__ = [
    "Card",
    "CardEntry",
    "Carried",
    "Carry",
    "Folders",
    "How",
    "InnerSlots",
    "Kit",
    "LeftOut",
    "ListedFile",
    "Match",
    "Slot",
    "Slots",
    "carry_owner",
    "carry_payload",
    "carry_record",
    "carry_rows",
    "carry_slot",
    "matches",
    "put_values",
    "read_kit",
    "runs_of",
    "slots_in",
    "taken",
]
