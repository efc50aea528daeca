"""Handing a template on: reference sheets, readers in other programs, witnesses, differences, one file to share."""
