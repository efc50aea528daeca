"""The window: shows what the core knows, and calls it. Nothing here knows how a save is made."""
