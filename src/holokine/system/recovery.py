"""What a field of displacement means inside the parts: stress at places, forces at the ends of beams."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_array

if TYPE_CHECKING:
    from holokine.elements.stress import StressField
    from holokine.system.build import System

__all__ = ["BeamEnds", "PartPeak", "beam_ends", "field_stress", "keep_worst", "section_maps", "stress_fields"]

Floats = NDArray[Any]  # float64


@dataclass(frozen=True)
class PartPeak:
    """Largest stress of a part in Pa, where it is (m), and when (s; of a sweep the frequency in Hz)."""

    part: str
    stress: float
    place: Floats
    where: str
    time: float | None = None


def stress_fields(system: System) -> Iterator[StressField]:
    """Shells on both surfaces and solids at the centres of elements; extreme fibres of beams at both ends."""
    for kind in dict.fromkeys(type(block) for block in system.elements):
        yield from kind.joined_fields([b for b in system.elements if type(b) is kind], system.size)


def keep_worst(system: System, found: list[tuple[StressField, Floats, Floats | None]]) -> tuple[list[PartPeak], Floats]:
    """Largest value of each part, and at every node, from values (and times) of elements, map by map."""
    nodal = np.zeros(len(system.mesh.nodes))
    peaks: dict[str, PartPeak] = {}
    for one, stress, times in found:
        ends = [*one.starts[1:], len(stress)]
        for part, start, end in zip(one.parts, one.starts, ends, strict=True):
            best = start + int(stress[start:end].argmax())
            if part not in peaks or stress[best] > peaks[part].stress:
                middle = system.mesh.nodes[one.cells[best]].mean(axis=0)
                spot = middle if one.spots is None else one.spots[best]
                when = None if times is None else float(times[best])
                where = f"element {best - start + 1}{one.side(best)}"
                peaks[part] = PartPeak(part, float(stress[best]), spot, where, when)
        for column in one.nodes.T:
            np.maximum.at(nodal, column, stress)
    return [peaks[p] for p in system.description.parts if p in peaks], nodal


def field_stress(
    system: System, displacement: Floats, growth: Mapping[str, float] | None = None
) -> tuple[list[PartPeak], Floats]:
    """Largest stress of every part and at every node, in Pa, for one field of displacement, shape (dofs,).

    Beams: normal stress of the extreme fibres, from the elastic forces; shells and solids: equivalent stress.
    `growth`: free strain of parts.
    """
    found: list[tuple[StressField, Floats, Floats | None]] = []
    for m in stress_fields(system):
        values = np.asarray(m.matrix @ displacement)
        for part, a, b in zip(m.parts, m.starts, [*m.starts[1:], len(m.cells)], strict=True):
            strain = (growth or {}).get(part, 0.0)
            if strain:
                own = slice(a * m.per_element, b * m.per_element)
                free = system.element_blocks(part)[0].free_stress() if m.free is None else m.free
                values[own] -= strain * np.tile(free, (own.stop - own.start) // len(free))
        found.append((m, m.size(values), None))
    return keep_worst(system, found)


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


def section_maps(system: System) -> Iterator[tuple[str, Floats, csr_array]]:
    """By beam part: ends of its elements in m, (elements, 2, 3), and their section forces as a map of displacement."""
    for block in system.elements:
        found = block.section_map(system.size)
        if found is not None and block.run_ends is not None:
            yield block.part, block.run_ends, found


def beam_ends(system: System, displacement: Floats, growth: Mapping[str, float] | None = None) -> list[BeamEnds]:
    """Section forces at both ends of all beam elements for one field of displacement, with free strain of parts."""
    found = []
    for block in system.elements:
        forces = block.section_map(system.size)
        if forces is None or block.run_ends is None:
            continue
        values = (forces @ displacement).reshape(-1, 2, 6)
        strain = (growth or {}).get(block.part, 0.0)
        if strain:
            sign = np.array([-1.0, 1.0])[:, None]
            still = np.zeros(system.size)
            values = values + sign * block.resultants(still, strain).reshape(-1, 2, 6)
        found.append(BeamEnds(block.part, block.run_ends, values))
    return found
