"""The assembly deformed, at rest or at an instant, as a Python user holds it."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.api.result import Result, table, writes
from holokine.errors import EventError

if TYPE_CHECKING:
    from collections.abc import Sequence

    import pandas as pd

    from holokine.state.about import AtRest, Reading
    from holokine.system.build import System

__all__ = ["Deformed"]


@dataclass(frozen=True, repr=False)
class Deformed(Result):
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
    rows = "points"

    @classmethod
    def of_state(cls, state: AtRest) -> Deformed:
        """In a state."""
        found = state.equilibrium
        system = found.engaged if found.loaded.moved is not None else found.system
        return cls(system, state.displacement, state.name, growth=found.loaded.growth, reading=state.reading)

    @property
    def title(self) -> str:
        """Of what, and when."""
        return f"{self.name} {self._instant(1e3, 'ms')}"

    def _instant(self, factor: float, unit: str) -> str:
        return self.when or ("at rest" if self.time is None else f"at {factor * self.time:.4g} {unit}")

    @property
    def nodes(self) -> NDArray[Any]:
        """Displacement of the nodes in m, shape (nodes, 3)."""
        return self.displacement.reshape(-1, 6)[:, :3]

    @table("points", "Displacement of points")
    def _points(self) -> pd.DataFrame:
        """Displacement of every named point in mm."""
        import pandas as pd

        points = self.system.mesh.points
        u = 1e3 * self.nodes[list(points.values())].reshape(-1, 3)
        columns = {f"{a}_mm": u[:, d] for d, a in enumerate("xyz")}
        return pd.DataFrame({"point": list(points), **columns, "size_mm": np.linalg.norm(u, axis=1)})

    @cached_property
    def nodal_stress(self) -> Any:
        """Largest stress by part, and at every node in Pa."""
        from holokine.system.recovery import field_stress

        if self.reading is None:
            return field_stress(self.system, self.displacement, self.growth)
        peaks, nodal = field_stress(self.reading.system, self.reading.displacement, self.growth)
        if self.reading.real is None:
            return peaks, nodal
        own = np.zeros(len(self.system.mesh.nodes))
        np.maximum.at(own, self.reading.real, nodal)
        return peaks, own

    @table("stress", "Largest stress of parts")
    def _stress(self) -> pd.DataFrame:
        """Largest stress of every part in MPa, with the place."""
        from holokine.show.tables import part_peaks_table

        return part_peaks_table(self.nodal_stress[0])

    @table("members")
    def _members(self) -> pd.DataFrame:
        """Elastic section forces at both ends of every beam element, in the beam's axes, N and N m."""
        from holokine.show.tables import section_table
        from holokine.system.recovery import beam_ends

        source = self if self.reading is None else self.reading
        return section_table(*beam_ends(source.system, source.displacement, self.growth))

    @writes(".png")
    def _drawn(
        self,
        path: Path,
        *,
        colour: str = "displacement",
        share: float = 0.08,
        view: str | Sequence[float] | None = None,
        only: str | Sequence[str] | None = None,
    ) -> None:
        """The deformed assembly over the undeformed one, coloured by displacement (mm) or stress (MPa).

        `share`: largest displacement drawn, as a share of the diagonal. `view` and `only` as of a check.

        Raises
        ------
        EventError
            Another colour.
        """
        from holokine.show.geometry import Look
        from holokine.show.scene import picture_deformed

        if colour == "displacement":
            values, label = 1e3 * np.linalg.norm(self.nodes, axis=1), "displacement (mm)"
        elif colour == "stress":
            values, label = 1e-6 * self.nodal_stress[1], "stress (MPa)"
        else:
            raise EventError(f'colour: expected displacement or stress, got "{colour}"')
        picture_deformed(self.system, self.nodes, values, label, self.title, path, share,
                         Look.of(self.system, view, only))  # fmt: skip

    @writes(".vtu")
    def _mesh(self, path: Path) -> None:
        """Displacement (m) and stress (Pa) as point data on the mesh, for a 3D viewer."""
        from holokine.mesh.files import write_mesh

        when = self.when or ("at rest" if self.time is None else f"at {self.time:.6g} s")
        data = {f"displacement {when} (m)": self.nodes, f"stress {when} (Pa)": self.nodal_stress[1]}
        write_mesh(path, self.system.mesh, data)
