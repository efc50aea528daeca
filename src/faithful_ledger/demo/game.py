"""Playing Brinewick as a player would: from outside, one command at a time."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path
from typing import NamedTuple

__all__ = ["Answer", "Game"]


class Answer(NamedTuple):
    """What the game said: `accepted` is false when it refused."""

    accepted: bool
    text: str


class Game:
    """The game in its own process, with its saves in one folder."""

    def __init__(self, saves: Path, edition: str = "desktop") -> None:
        self.saves, self.edition = saves, edition

    def play(self, *action: str) -> Answer:
        command = [sys.executable, "-m", "brinewick", "--edition", self.edition, "--saves", str(self.saves), *action]
        done = subprocess.run(command, capture_output=True, text=True, check=False)
        return Answer(done.returncode == 0, (done.stdout + done.stderr).strip())
