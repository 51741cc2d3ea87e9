"""Answers to loads at rest."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import cached_property, partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.api.answer import Answer, Writer
from holokine.errors import EventError
from holokine.respond.static import StaticResult

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.deformed import Deformed

__all__ = ["StaticAnswer"]


class StaticAnswer(Answer[StaticResult]):
    """Values of every gauge at rest, the balance of loads and reactions, and the deformed assembly."""

    peak_word = "At rest"

    def peaks(self) -> pd.DataFrame:
        """Value of every gauge in display units; velocities and accelerations, which nothing has, are left out."""
        from holokine.show.static_tables import static_values

        return static_values(self.result)

    def lines(self) -> list[str]:
        """Loads and their balance."""
        from holokine.show.static_tables import static_lines

        return static_lines(self.result)

    def _can_tell(self, reading: int) -> bool:
        return bool(np.isfinite(self.result.peaks[reading]))

    @cached_property
    def _deformed(self) -> Deformed:
        from holokine.api.deformed import Deformed

        if self.result.state is not None:
            return Deformed.of_state(self.result.state)
        return Deformed(self.system, self.result.displacement, self.name)

    def deformed(self) -> Deformed:
        """The deformed assembly: shape, stress, member forces."""
        return self._deformed

    def points(self) -> pd.DataFrame:
        """Displacement of every named point in mm."""
        return self._deformed.points()

    @property
    def _stress(self) -> Any:
        return self._deformed._stress

    @property
    def _largest(self) -> NDArray[Any]:
        return np.abs(self.result.displacement)

    def write_vtu(self, path: str | Path) -> Path:
        """Write the displacement (m) and stress (Pa) as point data on the mesh, for a 3D viewer."""
        return self._deformed.write_vtu(path)

    def plot(self, gauge: str | None = None) -> Any:
        """Not there: loads at rest have pictures instead.

        Raises
        ------
        EventError
        """
        raise EventError("loads at rest have no figure; draw the deformed assembly: deformed().picture(...)")

    def tables(self) -> dict[str, pd.DataFrame]:
        """Values, limits, displacement of points, section forces of members, stress of parts."""
        shape = self._deformed
        more = {"points": shape.points(), "members": shape.members(), "parts": shape.stress()}
        return {**super().tables(), **{k: t for k, t in more.items() if len(t)}}

    def figures(self) -> dict[str, Callable[[], Any]]:
        """None."""
        return {}

    def files(self, look: Mapping[str, Any] | None = None) -> dict[str, Writer]:
        """Deformed shape as a mesh and as pictures."""
        found: dict[str, Writer] = {".vtu": self.write_vtu}
        for colour in ("displacement", "stress"):
            found[f"_{colour}.png"] = partial(self._deformed.picture, colour=colour, **(look or {}))
        return found
