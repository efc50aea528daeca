"""Brinewick: a small made-up salvage game, played from the command line, one action at a time.

It knows its save formats by its own hand-written readers and writers and shares no code with the tool that edits
its saves, so it is an honest witness that an edited save is still valid.
"""
