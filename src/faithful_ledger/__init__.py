"""Faithful Ledger: find, describe and edit what a saved game holds, so that the game still accepts it."""

__version__ = "0.2.0"
