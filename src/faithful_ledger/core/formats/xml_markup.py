"""What is in an XML text besides elements: comments, CDATA sections, instructions and the document type; and what is
between the tags of one.
"""

from __future__ import annotations

import re

from faithful_ledger.core.errors import AddressError

__all__ = ["ASIDE", "CDATA_CLOSE", "CDATA_OPEN", "CONTENT", "content_of"]

CONTENT = "content"  # what is between the start tag and the end tag of an element
START_TAG = re.compile(rb"""<[^<>"'/!?](?:[^<>"']|"[^"]*"|'[^']*')*+(?<!/)>""")

CDATA_OPEN, CDATA_CLOSE = b"<![CDATA[", b"]]>"
_SUBSET = rb"\[(?:<!--.*?-->|<\?.*?\?>|[^\]\"'<]|<(?!!--|\?)|\"[^\"]*\"|'[^']*')*+\]"
ASIDE = rb"!--.*?-->|\?.*?\?>|!DOCTYPE(?:[^\[>\"']|\"[^\"]*\"|'[^']*'|" + _SUBSET + rb")*+>"  # behind its `<`


def content_of(data: bytes) -> bytes:
    """Raises AddressError where it is not an element with two tags."""
    start, end = START_TAG.match(data), data.rfind(b"</")
    if start is None or end < start.end():
        raise AddressError("it is not an element with a start and an end tag")
    return data[start.end() : end]
