"""Answers to static loads."""

from __future__ import annotations

from dataclasses import replace
from functools import cached_property, partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.api.answer import Answer
from holokine.api.deformed import Deformed
from holokine.api.result import Writer, table, writes
from holokine.gauges.resting_gauges import LETS_GO
from holokine.respond.static import StaticResult
from holokine.show.numbers import number_text as n
from holokine.show.tables import peaks_table
from holokine.show.text import resultant_words, vector_words

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["StaticAnswer"]


class StaticAnswer(Answer[StaticResult]):
    """Values of every gauge at rest, the balance of loads and reactions, and the deformed assembly."""

    @property
    def lines(self) -> list[str]:
        """Loads and their balance; of a state of its own what is known of that."""
        answer = self.result
        if answer.state is not None:
            from holokine.api.state import state_lines

            return state_lines(answer.state)
        loads = ", ".join(name if k == 1 else f"{n(k)} times {name}" for name, k in answer.loads.items())
        applied = "" if answer.total is None else resultant_words(replace(answer.total, force=answer.applied))
        rows = (("total reaction", answer.reactions), ("springs to ground", answer.ground))
        return [
            f"loads at rest: {loads}",
            *([f"total applied load: {applied}"] if applied else []),
            *(f"{word}: {vector_words(v, 'N')}" for word, v in rows if v.any()),
        ]

    @table("peaks", "At rest")
    def _peaks(self) -> pd.DataFrame:
        """Value of every gauge in display units; velocities and accelerations, which nothing has, are left out."""
        answer = self.result
        return peaks_table(
            answer, "value", lambda number, _: {"place": answer.places[number]},
            lambda number: not np.isfinite(answer.peaks[number])
            or (answer.state is not None and answer.reduced.readings[number].component == LETS_GO),
        )  # fmt: skip

    def _can_tell(self, reading: int) -> bool:
        return bool(np.isfinite(self.result.peaks[reading]))

    @cached_property
    def deformed(self) -> Deformed:
        """The deformed assembly: shape, stress, member forces."""
        if self.result.state is not None:
            return Deformed.of_state(self.result.state)
        return Deformed(self.system, self.result.displacement, self.name)

    @table("points", "Named points", most=12, by="size_mm")
    def _points(self) -> pd.DataFrame:
        """Displacement of every named point in mm."""
        return self.deformed.table("points")

    @table("members")
    def _members(self) -> pd.DataFrame:
        """Elastic section forces at both ends of every beam element, in the beam's axes, N and N m."""
        return self.deformed.table("members")

    @table("stress", "Largest stress of parts")
    def _stress_table(self) -> pd.DataFrame:
        """Largest stress of every part in MPa, with the place."""
        return super()._stress_table()

    @property
    def _stress(self) -> Any:
        return self.deformed.nodal_stress

    @property
    def _largest(self) -> NDArray[Any]:
        return np.abs(self.result.displacement)

    @writes(".png")
    def _drawn(self, path: Path, **look: Any) -> None:
        """The deformed assembly over the undeformed one."""
        self.deformed.picture(path, **look)

    @writes(".vtu")
    def _mesh(self, path: Path) -> None:
        """Displacement (m) and stress (Pa) as point data on the mesh, for a 3D viewer."""
        self.deformed.save(path)

    def files(self, **draw: Any) -> dict[str, Writer]:
        """Deformed shape as a mesh and as pictures."""
        found: dict[str, Writer] = {".vtu": self.save}
        return found | {f"_{c}.png": partial(self.picture, **{"colour": c, **draw}) for c in ("displacement", "stress")}
