"""What is in an XML text besides elements: comments, CDATA sections, instructions and the document type."""

from __future__ import annotations

__all__ = ["ASIDE", "CDATA_CLOSE", "CDATA_OPEN"]

CDATA_OPEN, CDATA_CLOSE = b"<![CDATA[", b"]]>"
_SUBSET = rb"\[(?:<!--.*?-->|<\?.*?\?>|[^\]\"'<]|<(?!!--|\?)|\"[^\"]*\"|'[^']*')*+\]"
ASIDE = rb"!--.*?-->|\?.*?\?>|!DOCTYPE(?:[^\[>\"']|\"[^\"]*\"|'[^']*'|" + _SUBSET + rb")*+>"  # behind its `<`
