"""Reading forward through bytes, for every edition that stores them."""

from __future__ import annotations

from brinewick.company import SaveRefused


class ByteReader:
    """Reads forward through bytes and refuses to pass their end; `what` names them to the player."""

    def __init__(self, data: bytes, what: str) -> None:
        self.data, self.at, self.what = data, 0, what

    def take(self, size: int) -> bytes:
        if self.at + size > len(self.data):
            raise SaveRefused(f"the {self.what} ends too early")
        self.at += size
        return self.data[self.at - size : self.at]

    def letters(self, size: int) -> str:
        try:
            return self.take(size).decode("utf-8")
        except UnicodeDecodeError as error:
            raise SaveRefused(f"a text in the {self.what} cannot be read") from error

    def end(self) -> None:
        if self.at != len(self.data):
            raise SaveRefused(f"the {self.what} holds {len(self.data) - self.at} bytes too many")
