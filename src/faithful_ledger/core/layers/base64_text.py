"""Base64 text (RFC 4648), also with the alphabet for addresses, without padding, in letters that an address may hold
(`%2B`, RFC 3986), and broken into lines of one length (RFC 2045, 6.8), with blanks in front of each as in XML. It has
no mark: Profile looks for long runs of its letters.
"""

from __future__ import annotations

import binascii
import re

from faithful_ledger.core.layers.stream import Allowance, Layer, Stream

__all__ = ["BASE64", "ESCAPED", "STREAMS"]

BASE64 = "base64"
PADDING = rb"(?:(?:%3[Dd]){1,2}|={0,2})"
FOR_ADDRESSES = rb"(?=[A-Za-z0-9]*+[-_])[A-Za-z0-9_-]++"  # the first mark decides
RUN = re.compile(FOR_ADDRESSES + PADDING + rb"|(?:[A-Za-z0-9+/]|%2[BbFf])++" + PADDING)
BREAK = re.compile(rb"\r?\n[ \t]*")
LINES = range(32, 129, 4)  # letters of a line, where there are several
ESCAPED = re.compile(rb"%(?:2[BbFf]|3[Dd])")
TO_PLAIN, TO_ADDRESS = bytes.maketrans(b"-_", b"+/"), bytes.maketrans(b"+/", b"-_")


class Base64(Stream):
    name = BASE64

    def read(self, data: bytes, offset: int, allowance: Allowance) -> Layer | None:
        run = _run(data, offset)
        unpacked = len(_decoded(run)) if run else 0
        allowance.left -= unpacked
        return Layer(self.name, offset, len(run), unpacked) if unpacked and allowance.left >= 0 else None

    def unpacked(self, packed: bytes, most: int) -> bytes:
        return _decoded(packed)[:most]

    def packed(self, data: bytes, old: bytes) -> bytes:
        """In the letters of the old text. Where that has no padding as it needs none, there is some, but for the
        alphabet for addresses: most of what uses it leaves the padding off.
        """
        letters = binascii.b2a_base64(data, newline=False)
        if (broken := BREAK.search(old)) is not None:
            at = broken.start()
            return broken[0].join(letters[start : start + at] for start in range(0, len(letters), at))
        plain = _plain(old)
        for_addresses = b"-" in plain or b"_" in plain
        if b"=" not in plain and (len(plain) % 4 or for_addresses):
            letters = letters.rstrip(b"=")
        if for_addresses or (len(plain) % 4 and b"+" not in plain and b"/" not in plain):
            letters = letters.translate(TO_ADDRESS)
        if (escaped := ESCAPED.search(old)) is None:
            return letters
        form = b"%%%02X" if escaped[0] == escaped[0].upper() else b"%%%02x"
        return re.sub(rb"[+/=]", lambda letter: form % letter[0][0], letters)


def _run(data: bytes, offset: int) -> bytes:
    """The longest text in base64 at an offset; empty where there is none. What is left of a run behind a multiple of
    four letters is something else if it cannot be the end of a text without padding.
    """
    match = RUN.match(data, offset)
    run = match[0] if match is not None else b""
    if len(run) in LINES and (lines := _lines(data, offset, len(run))):
        return lines
    if _decoded(run) or not run:
        return run
    run = run[: len(run) // 4 * 4]
    return run if _decoded(run) else b""


def _lines(data: bytes, offset: int, length: int) -> bytes:
    """The text in lines of a length that begins at an offset; empty where there is but one line, and where more follow
    a shorter one, so that each is a text by itself.
    """
    broken = BREAK.match(data, offset + length)
    if broken is None:
        return b""
    line = re.compile(re.escape(broken[0]) + rb"([A-Za-z0-9+/]{2,%d}+={0,2})(?![^\s<\"')\]-])" % length)
    whole = end = offset + length  # the end of the lines that are full, which are such a text whatever follows
    while (match := line.match(data, end)) and len(match[1]) % 4 == 0:
        end = match.end()
        if len(match[1]) != length or match[1].endswith(b"="):
            if line.match(data, end):
                return b""
            break
        whole = end
    end = end if _decoded(data[offset:end]) else whole
    return data[offset:end] if end > offset + length else b""


def _plain(packed: bytes) -> bytes:
    """The letters without escapes and breaks."""
    packed = BREAK.sub(b"", packed) if b"\n" in packed else packed
    return ESCAPED.sub(lambda escape: bytes([int(escape[0][1:], 16)]), packed) if b"%" in packed else packed


def _decoded(packed: bytes) -> bytes:
    """Empty where it is not base64."""
    letters = _plain(packed).translate(TO_PLAIN)
    letters += b"=" * (-len(letters) % 4) if b"=" not in letters else b""
    try:
        decoded = binascii.a2b_base64(letters, strict_mode=True)
    except binascii.Error:
        return b""
    is_whole = binascii.b2a_base64(decoded[-1 - (len(decoded) - 1) % 3 :], newline=False) == letters[-4:]
    return decoded if is_whole else b""  # else bits are left over, and it is something else


STREAMS: tuple[Stream, ...] = (Base64(),)
