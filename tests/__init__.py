"""Tests of everything. How long an example of a property takes is not a failure: the machines are shared."""

import os

from hypothesis import settings

SEED = "LEDGER_TESTS_SEED"  # in the environment: a number, from which every test draws what it makes by chance
STANDING = "0"

settings.register_profile("shared", deadline=None, derandomize=os.environ.get(SEED, STANDING) == STANDING)
settings.load_profile("shared")
