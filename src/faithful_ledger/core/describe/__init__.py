"""Describing by hand: changes to a template that are worked out from a save that is bound, and checked over all copies.

Each change works on the template's text (`YamlText`) and leaves every byte of it that it is not about.
"""
