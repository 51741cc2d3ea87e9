"""What a command was asked for, bundled."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

__all__ = ["Delivery", "ModesRange"]


@dataclass(frozen=True)
class ModesRange:
    """Which modes a command asks for."""

    count: int | None = None
    upto: str | None = None
    above: str | None = None
    near: str | None = None
    as_saved: bool = False

    @property
    def given(self) -> bool:
        """Whether any range was asked for."""
        return any(v is not None for v in (self.count, self.upto, self.above, self.near))


@dataclass(frozen=True)
class Delivery:
    """In which form, and into which folder, a command delivers."""

    as_json: bool = False
    as_csv: bool = False
    out: Path | None = None
    whole: bool = False
