"""The assembly deformed, at rest or at an instant, as a Python user holds it."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.errors import EventError

if TYPE_CHECKING:
    from collections.abc import Sequence

    import pandas as pd

    from holokine.state.about import AtRest, Reading
    from holokine.system.build import System

__all__ = ["Deformed"]


@dataclass(frozen=True)
class Deformed:
    """A deformed shape with what follows from it.

    Attributes
    ----------
    system : System
    displacement : ndarray, shape (dofs,)
        Relative to the frame, in m and rad.
    name : str
        For titles.
    time : float or None
        Instant in s; None at rest, and in steady vibration.
    when : str
        In words, where it is neither.
    growth : dict of str to float, optional
        Free strain of parts.
    reading : Reading, optional
        What stress and forces are taken from, where that is not the displacement.
    """

    system: System
    displacement: NDArray[Any]
    name: str
    time: float | None = None
    when: str = ""
    growth: dict[str, float] | None = None
    reading: Reading | None = None

    @classmethod
    def of_state(cls, state: AtRest) -> Deformed:
        """In a state."""
        found = state.equilibrium
        system = found.engaged if found.loaded.moved is not None else found.system
        return cls(system, state.displacement, state.name, growth=found.loaded.growth, reading=state.reading)

    @property
    def nodes(self) -> NDArray[Any]:
        """Displacement of the nodes in m, shape (nodes, 3)."""
        return self.displacement.reshape(-1, 6)[:, :3]

    def points(self) -> pd.DataFrame:
        """Displacement of every named point in mm."""
        from holokine.show.static_tables import moved_points_table

        return moved_points_table(self.system, self.nodes)

    @cached_property
    def _stress(self) -> Any:
        from holokine.system.recovery import field_stress

        if self.reading is None:
            return field_stress(self.system, self.displacement, self.growth)
        peaks, nodal = field_stress(self.reading.system, self.reading.displacement, self.growth)
        if self.reading.real is None:
            return peaks, nodal
        own = np.zeros(len(self.system.mesh.nodes))
        np.maximum.at(own, self.reading.real, nodal)
        return peaks, own

    def stress(self) -> pd.DataFrame:
        """Largest stress of every part in MPa, with the place."""
        from holokine.show.tables import part_peaks_table

        return part_peaks_table(self._stress[0])

    def members(self) -> pd.DataFrame:
        """Elastic section forces at both ends of every beam element, in the beam's axes, N and N m."""
        from holokine.show.static_tables import members_table

        source = self if self.reading is None else self.reading
        return members_table(source.system, source.displacement, self.growth)

    def picture(
        self,
        path: str | Path,
        *,
        colour: str = "displacement",
        share: float = 0.08,
        view: str | Sequence[float] | None = None,
        only: str | Sequence[str] | None = None,
    ) -> Path:
        """Picture of the deformed assembly over the undeformed one, coloured by displacement (mm) or stress (MPa).

        `view` and `only` as for `Check.picture`.

        Raises
        ------
        EventError
            For another word.
        """
        from holokine.show.geometry import Look
        from holokine.show.scene import picture_deformed

        if colour == "displacement":
            values, label = 1e3 * np.linalg.norm(self.nodes, axis=1), "displacement (mm)"
        elif colour == "stress":
            values, label = 1e-6 * self._stress[1], "stress (MPa)"
        else:
            raise EventError(f'colour: expected displacement or stress, got "{colour}"')
        when = self.when or ("at rest" if self.time is None else f"at {1e3 * self.time:.4g} ms")
        picture_deformed(self.system, self.nodes, values, label, f"{self.name} {when}", Path(path), share,
                         Look.of(self.system, view, only))  # fmt: skip
        return Path(path)

    def write_vtu(self, path: str | Path) -> Path:
        """Write displacement (m) and stress (Pa) as point data on the mesh, for a 3D viewer."""
        from holokine.mesh.files import write_mesh

        when = self.when or ("at rest" if self.time is None else f"at {self.time:.6g} s")
        data = {f"displacement {when} (m)": self.nodes, f"stress {when} (Pa)": self._stress[1]}
        write_mesh(Path(path), self.system.mesh, data)
        return Path(path)
