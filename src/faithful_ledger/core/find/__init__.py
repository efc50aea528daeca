"""Finding the files a game saves to."""

from faithful_ledger.core.find.look import (
    Candidate,
    CandidateSet,
    content_of,
    in_sets,
    look,
    parse_since,
    usual_folders,
)
from faithful_ledger.core.find.programs import Program, holders, programs, started_with
from faithful_ledger.core.find.watch import FileChange, SaveMoment, watch

__all__ = [
    "Candidate",
    "CandidateSet",
    "FileChange",
    "Program",
    "SaveMoment",
    "content_of",
    "holders",
    "in_sets",
    "look",
    "parse_since",
    "programs",
    "started_with",
    "usual_folders",
    "watch",
]
