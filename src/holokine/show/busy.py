"""What goes on, told on a terminal's error stream or in a notebook while work lasts."""

from __future__ import annotations

import sys
import time
from typing import Any

__all__ = ["Busy"]


class Busy:
    """Tells on the error stream what goes on, how far it is and how long it will take, from the second second.

    `always`: in a notebook or into a pipe as well; else on a terminal only.
    """

    after = 1.0  # s
    tells = 3.0  # s of a phase from which on what is left of it is estimated

    def __init__(self, always: bool = False) -> None:
        self.begin = self._phase_began = time.monotonic()
        self.always = always
        self._status: Any = None
        self.phase = ""

    def __call__(self, phase: str, done: int = 0, of: int = 0, what: str = "") -> None:
        """Show a phase, and how much is done of how much; nothing more after an empty one."""
        now = time.monotonic()
        if not phase:
            self.clear()
            self.begin = now
            return
        if phase != self.phase:
            self.phase, self._phase_began = phase, now
        took = now - self.begin
        if not (self.always or sys.stderr.isatty()) or took < self.after:
            return
        if self._status is None:
            from rich.console import Console

            self._status = Console(stderr=True).status("")
            self._status.start()
        self._status.update(f"{phase}{self._count(done, of, what, now)} ({took:.0f} s)")

    def _count(self, done: int, of: int, what: str, now: float) -> str:
        if not of:
            return ""
        spent = now - self._phase_began
        left = f", about {spent * (of - done) / done:.0f} s left" if done and spent > self.tells else ""
        return f", {done:,} of {of:,} {what}".rstrip() + left

    def clear(self) -> None:
        """Take the line away, for what is printed next."""
        if self._status is not None:
            self._status.stop()
            self._status = None
