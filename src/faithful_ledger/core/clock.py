"""Times as records keep them, and as people read them."""

from __future__ import annotations

from datetime import UTC, datetime

__all__ = ["local_time", "now"]


def now() -> str:
    """The time as records keep it: UTC, ISO 8601, milliseconds."""
    return datetime.now(UTC).isoformat(timespec="milliseconds")


def local_time(time: str) -> str:
    """A record's time on the clock of the user."""
    return datetime.fromisoformat(time).astimezone().strftime("%Y-%m-%d %H:%M:%S")
