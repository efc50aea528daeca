"""Posting: plan, check, write, verify, reverse."""

from faithful_ledger.core.posting.checks import Check, run_checks, undecided_text
from faithful_ledger.core.posting.plan import Change, FilePlan, Plan
from faithful_ledger.core.posting.planning import make_plan
from faithful_ledger.core.posting.recover import Recovery, recover, refuse_blocked
from faithful_ledger.core.posting.write import Rewrite, replace_set

__all__ = [
    "Change",
    "Check",
    "FilePlan",
    "Plan",
    "Recovery",
    "Rewrite",
    "make_plan",
    "recover",
    "refuse_blocked",
    "replace_set",
    "run_checks",
    "undecided_text",
]
