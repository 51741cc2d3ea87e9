"""What a command was asked for, bundled."""

from __future__ import annotations

from contextvars import ContextVar
from dataclasses import dataclass
from pathlib import Path
from typing import Any

STATE: ContextVar[str | None] = ContextVar("state", default=None)
"""The state that --state asks for; "none" for the unloaded shape; None where it was not given."""

__all__ = ["GIF", "PLAIN", "Delivery", "FilmAsked", "LookAsked", "STATE", "ModesRange"]


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
class LookAsked:
    """From where pictures are drawn, and what of."""

    view: str | tuple[float, ...] | None = None
    only: tuple[str, ...] | None = None

    @property
    def keys(self) -> dict[str, Any]:
        """As keywords of the calls that draw, where anything was asked for."""
        return {k: v for k, v in (("view", self.view), ("only", self.only)) if v is not None}


PLAIN = LookAsked()


@dataclass(frozen=True)
class Delivery:
    """In which form, and into which folder, a command delivers."""

    as_json: bool = False
    as_csv: bool = False
    out: Path | None = None
    whole: bool = False


@dataclass(frozen=True)
class FilmAsked:
    """Format of films."""

    ending: str = "gif"
    pixels: tuple[int, int] = (1280, 800)
    rate: int | None = None

    @property
    def keys(self) -> dict[str, Any]:
        """For the calls that make films."""
        return {"pixels": self.pixels, **({} if self.rate is None else {"rate": self.rate})}


GIF = FilmAsked()
