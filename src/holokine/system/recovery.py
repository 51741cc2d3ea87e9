"""What a field of displacement means inside the parts: stress at places, forces at the ends of beams."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_array, vstack

from holokine.ranking import ALIKE, first_largest

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.elements.kinds import ElementKind
    from holokine.elements.stress import StressField
    from holokine.system.build import System

__all__ = ["BeamEnds", "PartPeak", "beam_ends", "field_stress", "keep_worst", "section_maps", "stress_fields"]


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
    for kind, blocks in _by_kind(system.elements):
        yield from kind.joined_fields(blocks, system.size)


def _by_kind(elements: Sequence[ElementKind]) -> list[tuple[type[ElementKind], list[ElementKind]]]:
    """Sets of elements, those of one kind together."""
    kinds = dict.fromkeys(type(block) for block in elements)
    return [(kind, [b for b in elements if type(b) is kind]) for kind in kinds]


def keep_worst(system: System, found: list[tuple[StressField, Floats, Floats | None]]) -> tuple[list[PartPeak], Floats]:
    """Largest value of each part, and at every node, from values (and times) of elements, map by map."""
    nodal = np.zeros(len(system.mesh.nodes))
    peaks: dict[str, PartPeak] = {}
    for one, stress, times in found:
        ends = [*one.starts[1:], len(stress)]
        for part, start, end in zip(one.parts, one.starts, ends, strict=True):
            best = start + first_largest(stress[start:end])
            if part not in peaks or stress[best] > (1.0 + ALIKE) * peaks[part].stress:
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
        values = m.of(displacement[None]).ravel()
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
    """Both ends of every beam element, part after part.

    Attributes
    ----------
    parts : tuple of str
    starts : tuple of int
        First element of each part.
    places : ndarray, shape (elements, 2, 3)
        m; start and end of each element.
    """

    parts: tuple[str, ...]
    starts: tuple[int, ...]
    places: Floats

    @property
    def counts(self) -> NDArray[np.int64]:
        """Elements of each part."""
        return np.diff([*self.starts, len(self.places)])


def section_maps(system: System) -> tuple[BeamEnds, csr_array]:
    """Ends of all beam elements, and the section forces there as one map of displacement, (elements * 12, dofs).

    By element its start, then its end: N, Vy, Vz in N; T, My, Mz in N m; in the beam's own axes, on the positive side
    of a cut.
    """
    parts, places = [], [np.zeros((0, 2, 3))]
    maps = [csr_array((0, system.size))]
    for kind, blocks in _by_kind(system.elements):
        maps.append(kind.section_map(blocks, system.size))
        for block in blocks:
            if (ends := block.run_ends) is not None:
                parts.append(block.part)
                places.append(ends)
    starts = np.cumsum([len(p) for p in places[:-1]])
    return BeamEnds(tuple(parts), tuple(starts.tolist()), np.concatenate(places)), csr_array(vstack(maps))


def beam_ends(
    system: System, displacement: Floats, growth: Mapping[str, float] | None = None
) -> tuple[BeamEnds, Floats]:
    """Section forces (elements, 2, 6) at both ends of all beam elements for one field of displacement.

    `growth`: free strain of parts.
    """
    ends, forces = section_maps(system)
    values = (forces @ displacement).reshape(-1, 2, 6)
    beams = [b for _, blocks in _by_kind(system.elements) for b in blocks if b.run_ends is not None]
    for block, start, count in zip(beams, ends.starts, ends.counts, strict=True):
        strain = (growth or {}).get(block.part, 0.0)
        if strain:
            sign = np.array([-1.0, 1.0])[:, None]
            values[start : start + count] += sign * block.resultants(np.zeros(system.size), strain).reshape(-1, 2, 6)
    return ends, values
