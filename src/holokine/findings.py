"""What a look at an assembly or a result noticed: an error, a warning or a note."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any, Literal

__all__ = ["Finding", "Level"]

Level = Literal["error", "warning", "note"]


@dataclass(frozen=True)
class Finding:
    """Something that was noticed.

    Attributes
    ----------
    level : str
        error, warning or note.
    text : str
        The sentence for a reader; no program reads it.
    kind : str
        What is noticed, as one word for programs; empty where nothing decides by it.
    path : tuple
        What it is about: keys of the description, indices.
    numbers : dict
        What the sentence was printed from.
    """

    level: Level
    text: str
    kind: str = ""
    path: tuple[str | int, ...] = ()
    numbers: dict[str, Any] = field(default_factory=dict, hash=False)

    @property
    def data(self) -> dict[str, Any]:
        """For machines."""
        return {"level": self.level, "kind": self.kind, "path": list(self.path), "numbers": self.numbers,
                "text": self.text}  # fmt: skip
