"""Evidence: what the game showed, and the places that explain it."""

from faithful_ledger.core.evidence.locate import Located, locate, locate_in_set, locate_shown
from faithful_ledger.core.evidence.place import Place
from faithful_ledger.core.evidence.sightings import Sighting, parse_sighting

__all__ = ["Located", "Place", "Sighting", "locate", "locate_in_set", "locate_shown", "parse_sighting"]
