"""Tests of everything. How long an example of a property takes is not a failure: the machines are shared."""

from hypothesis import settings

settings.register_profile("shared", deadline=None)
settings.load_profile("shared")
