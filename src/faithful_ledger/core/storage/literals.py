"""Bytes as text to paste elsewhere."""

from __future__ import annotations

from collections.abc import Callable

from faithful_ledger.core.errors import ValueRefused

__all__ = ["LITERALS", "bytes_typed"]

IN_A_ROW = 16


def _hex(data: bytes) -> str:
    return data.hex(" ").upper()


def _text(data: bytes) -> str:
    return data.decode("utf-8", "replace").replace("\0", "")


def _c(data: bytes) -> str:
    rows = [", ".join(f"0x{byte:02X}" for byte in data[at : at + IN_A_ROW]) for at in range(0, len(data), IN_A_ROW)]
    return "{ " + ",\n  ".join(rows) + " }"


def _python(data: bytes) -> str:
    return repr(data)


LITERALS: dict[str, Callable[[bytes], str]] = {
    "hex": _hex,
    "text": _text,
    "C literal": _c,
    "Python literal": _python,
}


def bytes_typed(text: str) -> bytes:
    """Bytes as people type them: in hexadecimal, or a text in quotation marks.

    Raises:
        ValueRefused: it is neither.
    """
    cleaned = text.strip()
    if len(cleaned) >= 2 and cleaned[0] == cleaned[-1] == '"':
        return cleaned[1:-1].encode("utf-8")
    try:
        return bytes.fromhex(cleaned)
    except ValueError as error:
        raise ValueRefused(
            f"“{cleaned[:40]}” is not bytes in hexadecimal", 'type 0A FF 00, or a text as "Oriel"'
        ) from error
