"""What a look at an assembly noticed: an error, a warning or a note, in words."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

__all__ = ["Finding", "Level"]

Level = Literal["error", "warning", "note"]


@dataclass(frozen=True)
class Finding:
    """Something that a check noticed: an error, a warning or a note, in words."""

    level: Level
    text: str
