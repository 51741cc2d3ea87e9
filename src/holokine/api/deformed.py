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
    import pandas as pd

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
        Instant in s; None at rest.
    """

    system: System
    displacement: NDArray[Any]
    name: str
    time: float | None = None

    @property
    def nodes(self) -> NDArray[Any]:
        """Displacement of the nodes in m, shape (nodes, 3)."""
        return self.displacement.reshape(-1, 6)[:, :3]

    def points(self) -> pd.DataFrame:
        """Displacement of every named point in mm."""
        import pandas as pd

        rows = []
        for point, node in self.system.mesh.points.items():
            u = 1e3 * self.nodes[node]
            rows.append({"point": point, "x_mm": u[0], "y_mm": u[1], "z_mm": u[2], "size_mm": float(np.linalg.norm(u))})
        return pd.DataFrame(rows)

    @cached_property
    def _stress(self) -> Any:
        from holokine.system.recovery import field_stress

        return field_stress(self.system, self.displacement)

    def stress(self) -> pd.DataFrame:
        """Largest stress of every part in MPa, with the place."""
        from holokine.show.tables import part_peaks_table

        return part_peaks_table(self._stress[0])

    def members(self) -> pd.DataFrame:
        """Elastic section forces at both ends of every beam element, in the beam's axes, N and N m."""
        import pandas as pd

        from holokine.system.recovery import beam_ends

        rows = []
        for beam in beam_ends(self.system, self.displacement):
            for e, (places, forces) in enumerate(zip(beam.places, beam.forces, strict=True), start=1):
                for side, word in enumerate(("start", "end")):
                    where = dict(zip(("x_mm", "y_mm", "z_mm"), 1e3 * places[side], strict=True))
                    names = ("N_n", "Vy_n", "Vz_n", "T_nm", "My_nm", "Mz_nm")
                    values = dict(zip(names, forces[side], strict=True))
                    rows.append({"part": beam.part, "element": e, "end": word, **where, **values})
        return pd.DataFrame(rows)

    def picture(self, path: str | Path, *, colour: str = "displacement", share: float = 0.08) -> Path:
        """Picture of the deformed assembly over the undeformed one, coloured by displacement (mm) or stress (MPa).

        Raises
        ------
        EventError
            For another word.
        """
        from holokine.show.scene import picture_deformed

        if colour == "displacement":
            values, label = 1e3 * np.linalg.norm(self.nodes, axis=1), "displacement (mm)"
        elif colour == "stress":
            values, label = 1e-6 * self._stress[1], "stress (MPa)"
        else:
            raise EventError(f'colour: expected displacement or stress, got "{colour}"')
        when = "at rest" if self.time is None else f"at {1e3 * self.time:.4g} ms"
        picture_deformed(self.system, self.nodes, values, label, f"{self.name} {when}", Path(path), share)
        return Path(path)

    def write_vtu(self, path: str | Path) -> Path:
        """Write displacement (m) and stress (Pa) as point data on the mesh, for a 3D viewer."""
        from holokine.mesh.files import write_mesh

        when = "at rest" if self.time is None else f"at {self.time:.6g} s"
        data = {f"displacement {when} (m)": self.nodes, f"stress {when} (Pa)": self._stress[1]}
        write_mesh(Path(path), self.system.mesh, data)
        return Path(path)
