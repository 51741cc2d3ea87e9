"""What a field of displacement means inside the parts: stress at places, forces at the ends of beams."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_array

from holokine.elements.beam import BeamElements
from holokine.elements.shell import ShellElements
from holokine.elements.stress import equivalent_stress
from holokine.system.build import Elements, System

__all__ = ["BeamEnds", "PartPeak", "StressMap", "beam_ends", "field_stress", "keep_worst", "stress_maps"]

Floats = NDArray[Any]  # float64


@dataclass(frozen=True)
class PartPeak:
    """Largest stress of a part in Pa, where it is (m), and in time when (s)."""

    part: str
    stress: float
    place: Floats
    where: str
    time: float | None = None


@dataclass(frozen=True)
class StressMap:
    """A linear map from displacement to stress components, place by place, element by element.

    Attributes
    ----------
    width : int
        Components of each place: 1 (fibres of beams), 3 (shells) or 6 (solids).
    where : str
        End or surface.
    nodes : ndarray, shape (elements, ...)
        Nodes that the value of each element is shown at.
    """

    block: Elements
    matrix: csr_array
    width: int
    where: str
    nodes: NDArray[Any]

    @property
    def per_element(self) -> int:
        """Components of each element."""
        return int(self.matrix.shape[0]) // len(self.block.nodes)

    def size(self, components: Floats) -> Floats:
        """Largest size in each element from components of all elements, or of some: (..., rows) to (..., elements)."""
        shape = components.shape[:-1]
        if self.width == 1:
            return np.abs(components).reshape(*shape, -1, self.per_element).max(axis=-1)
        return equivalent_stress(components.reshape(*shape, -1, self.width))


def stress_maps(system: System) -> Iterator[StressMap]:
    """Shells on both surfaces and solids at the centres of elements; extreme fibres of beams at both ends."""
    for block in system.elements:
        if isinstance(block, BeamElements):
            for side, A in enumerate(block.stress_maps(system.size)):
                yield StressMap(block, A, 1, (", start", ", end")[side], block.nodes[:, [side]])
        elif isinstance(block, ShellElements):
            for surface in ("top", "bottom"):
                A = block.stress_map(system.size, "centre", surface)[0]
                yield StressMap(block, A, 3, f", {surface}", block.nodes)
        else:
            yield StressMap(block, block.stress_map(system.size, "centre")[0], 6, "", block.nodes)


def keep_worst(system: System, found: list[tuple[StressMap, Floats, Floats | None]]) -> tuple[list[PartPeak], Floats]:
    """Largest value of each part, and at every node, from values (and times) of elements, map by map."""
    nodal = np.zeros(len(system.mesh.nodes))
    peaks: dict[str, PartPeak] = {}
    for one, stress, times in found:
        best = int(stress.argmax())
        part = one.block.part
        if part not in peaks or stress[best] > peaks[part].stress:
            centre = system.mesh.nodes[one.block.nodes[best]].mean(axis=0)
            when = None if times is None else float(times[best])
            peaks[part] = PartPeak(part, float(stress[best]), centre, f"element {best + 1}{one.where}", when)
        for column in one.nodes.T:
            np.maximum.at(nodal, column, stress)
    return [peaks[p] for p in system.description.parts if p in peaks], nodal


def field_stress(system: System, displacement: Floats) -> tuple[list[PartPeak], Floats]:
    """Largest stress of every part and at every node, in Pa, for one field of displacement, shape (dofs,).

    Beams: normal stress of the extreme fibres, from the elastic forces; shells and solids: equivalent stress.
    """
    return keep_worst(system, [(m, m.size(m.matrix @ displacement), None) for m in stress_maps(system)])


@dataclass(frozen=True)
class BeamEnds:
    """Elastic section forces of the elements of one beam part.

    Attributes
    ----------
    places : ndarray, shape (elements, 2, 3)
        m; start and end of each element.
    forces : ndarray, shape (elements, 2, 6)
        N, Vy, Vz in N; T, My, Mz in N m; in the beam's own axes, on the positive side of a cut.
    """

    part: str
    places: Floats
    forces: Floats


def beam_ends(system: System, displacement: Floats) -> list[BeamEnds]:
    """Section forces at both ends of all beam elements for one field of displacement, shape (dofs,)."""
    result = []
    for block in system.elements:
        if not isinstance(block, BeamElements):
            continue
        own = np.einsum("eij,ejk,ek->ei", block.local_stiffness, block.to_local, displacement[block.dofs])
        forces = own.reshape(-1, 2, 6) * np.array([-1.0, 1.0])[:, None]
        result.append(BeamEnds(block.part, system.mesh.nodes[block.nodes], forces))
    return result
