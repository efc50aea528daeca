"""Finding the files a game saves to."""

from faithful_ledger.core.find.look import Candidate, look, parse_since, usual_folders

__all__ = ["Candidate", "look", "parse_since", "usual_folders"]
