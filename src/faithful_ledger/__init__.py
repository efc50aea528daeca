"""Faithful Ledger: find, describe and edit what a saved game holds, so that the game still accepts it.

For scripts: `open`, `post_together`, `locate` and `LedgerError` (docs/scripting.md). They are loaded when they are
asked for, so that the command line answers in a blink.
"""

__version__ = "0.2.0"
__all__ = ["LedgerError", "locate", "open", "post_together"]


def __getattr__(name: str) -> object:
    if name in __all__:
        from faithful_ledger import scripting

        return getattr(scripting, name)
    raise AttributeError(f"faithful_ledger has no {name}")
