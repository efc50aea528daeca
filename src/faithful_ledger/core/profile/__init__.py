"""What kind of bytes a file holds: text, numbers, packed, scrambled; and how that is known."""

from faithful_ledger.core.profile.layers import find_layers
from faithful_ledger.core.profile.report import Profile, profile
from faithful_ledger.core.profile.scrambling import find_scrambling
from faithful_ledger.core.profile.strides import Stride, find_strides
from faithful_ledger.core.profile.texts import TextRun, find_texts

__all__ = [
    "Profile",
    "Stride",
    "TextRun",
    "find_layers",
    "find_scrambling",
    "find_strides",
    "find_texts",
    "profile",
]
