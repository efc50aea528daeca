"""Finding the files a game saves to."""

from faithful_ledger.core.find.look import Candidate, look, parse_since, usual_folders
from faithful_ledger.core.find.watch import FileChange, SaveMoment, watch

__all__ = ["Candidate", "FileChange", "SaveMoment", "look", "parse_since", "usual_folders", "watch"]
