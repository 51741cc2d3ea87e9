"""Whole fields combined under a spectrum: displacement of all nodes, stress of all parts."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from holokine.elements.stress import StressField, equivalent_form, mapped, rows_of
from holokine.progress import tell
from holokine.respond.reduced import solve_static
from holokine.system.loads import LoadField, moved_supports
from holokine.system.recovery import BeamEnds, PartPeak, keep_worst, section_maps, stress_fields

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.modes.mode_set import ModeSet
    from holokine.respond.combine import SpectrumResult

__all__ = [
    "residual_displacement", "spectrum_acceleration", "spectrum_displacement", "spectrum_members", "spectrum_stress",
]  # fmt: skip

_BLOCK = 20_000


def _kept(answer: SpectrumResult, modes: ModeSet) -> Floats:
    """Shapes of the modes that the answer used (an event may have its own cut-off)."""
    return modes.shapes[: answer.reduced.count]


def residual_displacement(answer: SpectrumResult, modes: ModeSet) -> Floats:
    """What the left-out modes move, statically, under a unit base acceleration along each direction of the answer.

    Returns
    -------
    ndarray, shape (directions, dofs)
        In m per m/s², with the sign that it has beside the modes.
    """
    none = np.zeros(modes.system.size)
    columns = [answer.reduced.column(s) for s in answer.sources.names]
    rides = zip(answer.sources.names, influence(answer, modes), strict=True)
    whole = -solve_static(modes.system, [LoadField(name, none, r, none) for name, r in rides])
    shapes = _kept(answer, modes)
    gamma, omega = answer.reduced.participation[:, columns], answer.reduced.omega
    return whole - (gamma / (omega**2)[:, None]).T @ shapes


def _coordinates(answer: SpectrumResult) -> Floats:
    reduced = answer.reduced
    columns = [reduced.column(s) for s in answer.sources.names]
    coordinate = reduced.participation[:, columns] * answer.spectral / (reduced.omega**2)[:, None]
    return answer.sources.gathered(coordinate, 1)


def _rest(answer: SpectrumResult, modes: ModeSet) -> Floats:
    """Displacement of the missing mass, shape (directions, dofs)."""
    whole = residual_displacement(answer, modes) * answer.zero_period[:, None]
    return answer.sources.gathered(whole, 0)


def influence(answer: SpectrumResult, modes: ModeSet) -> Floats:
    """Motion of the assembly at rest under a unit motion of each source, shape (sources, dofs)."""
    system = modes.system
    rigid = system.rigid_motions(np.zeros(3))
    none = np.zeros(system.size)
    axes = dict(zip(answer.sources.names, answer.sources.axes, strict=True))
    if not answer.groups:
        return np.array([rigid["xyz".index(axis)] for axis in axes.values()])
    imposed = [moved_supports(system, answer.groups[name], {axis: 1.0}, name) for name, axis in axes.items()]
    return solve_static(system, [LoadField(name, none, none, u) for name, u in zip(axes, imposed, strict=True)])


def spectrum_displacement(answer: SpectrumResult, modes: ModeSet) -> Floats:
    """Combined largest displacement of every motion relative to the frame, shape (dofs,), in m and rad.

    In blocks of dofs, by the answer's rules, with the missing mass.
    """
    shapes, coordinate = _kept(answer, modes), _coordinates(answer)
    rest = _rest(answer, modes) if answer.zero_period.any() else None
    result = np.empty(shapes.shape[1])
    for a in range(0, shapes.shape[1], _BLOCK):
        part = slice(a, a + _BLOCK)
        values = coordinate[:, :, None] * shapes[:, None, part]
        missing = np.zeros(values.shape[1:]) if rest is None else rest[:, part]
        result[part] = answer.sources.over(answer.combination.combined(values, missing))
    still = _standing_apart(answer, modes)
    if still is not None:
        result = answer.with_settled(result, answer.sources.over_apart(np.abs(still)))
    return result


def spectrum_acceleration(answer: SpectrumResult, modes: ModeSet, dofs: Ints) -> Floats:
    """Combined largest absolute (pseudo-)acceleration of some motions, shape (dofs,), in m/s² and rad/s².

    The left-out mass rides with the base at the zero-period acceleration.
    """
    shapes = _kept(answer, modes)[:, dofs]
    columns = [answer.reduced.column(s) for s in answer.sources.names]
    omega2 = (answer.reduced.omega**2)[:, None]
    values = (_coordinates(answer) * omega2)[:, :, None] * shapes[:, None]
    ride = influence(answer, modes)[:, dofs] - answer.reduced.participation[:, columns].T @ shapes
    missing = answer.sources.gathered(ride * answer.zero_period[:, None], 0)
    return answer.sources.over(answer.combination.combined(values, missing))


def spectrum_members(answer: SpectrumResult, modes: ModeSet) -> tuple[BeamEnds, Floats]:
    """Combined largest elastic section forces at both ends of all beam elements, without sign."""
    shapes, coordinate = _kept(answer, modes), _coordinates(answer)
    rest = _rest(answer, modes) if answer.zero_period.any() else None
    still = _standing_apart(answer, modes)
    ends, forces = section_maps(modes.system)
    combined = np.empty(forces.shape[0])
    step = max(1, 5_000_000 // max(coordinate.size, 1))
    for a in range(0, len(combined), step):
        rows = rows_of(forces, a, a + step)
        values = coordinate[:, :, None] * mapped(rows, shapes).T[:, None]
        missing = np.zeros(values.shape[1:]) if rest is None else mapped(rows, rest).T
        largest = answer.sources.over(answer.combination.combined(values, missing))
        if still is not None:
            largest = answer.with_settled(largest, answer.sources.over_apart(np.abs(mapped(rows, still).T)))
        combined[a : a + step] = largest
    return ends, combined.reshape(-1, 2, 6)


def _standing_apart(answer: SpectrumResult, modes: ModeSet) -> Floats | None:
    """Displacement at rest of each source's group at its most, shape (sources, dofs); None where none moves apart."""
    if not any(answer.apart.values()):
        return None
    return influence(answer, modes) * np.array([[answer.apart.get(name, 0.0)] for name in answer.sources.names])


def spectrum_stress(answer: SpectrumResult, modes: ModeSet) -> tuple[list[PartPeak], Floats]:
    """Largest combined stress of every part, and at every node (the largest of the elements around it).

    Shells (both surfaces) and solids: equivalent stress at the centres of elements, by the quadratic form over pairs
    of modes with the answer's own correlation. Beams: normal stress of the extreme fibres at both ends, from the
    elastic forces. In blocks of places, so that memory stays bounded.

    Returns
    -------
    peaks : list of PartPeak
        In the order of the parts; parts without a readable stress are left out.
    nodal : ndarray, shape (nodes,)
        Pa.
    """
    system = modes.system
    shapes, coordinate = _kept(answer, modes), _coordinates(answer)
    rest = np.zeros((len(answer.directions), shapes.shape[1]))
    if answer.zero_period.any():
        rest = _rest(answer, modes)

    both = np.concatenate([shapes, rest])

    def combined(m: StressField) -> Floats:
        found, width = [], m.width
        step = max(1, 40_000_000 // (8 * m.per_element * max(coordinate.size, 1)))
        for a in range(0, len(m.cells), step):
            own = m.of(both, slice(a, a + step)).reshape(-1, len(both)).T
            values = coordinate[:, :, None] * own[: len(shapes), None]
            missing = own[len(shapes) :]
            if width == 1:
                each = answer.combination.combined(values, missing)
            else:
                shape = (*values.shape[:2], -1, width)
                each = answer.combination.form(
                    values.reshape(shape), missing.reshape(shape[1:]), equivalent_form(width)
                )  # fmt: skip
            found.append(answer.sources.over(each))
        return np.concatenate(found) if found else np.zeros(0)

    still = _standing_apart(answer, modes)
    found: list[tuple[StressField, Floats, Floats | None]] = []
    for m in stress_fields(system):
        tell(f"stress under the spectrum, {m.parts[0]}")
        stress = combined(m).reshape(len(m.cells), -1).max(axis=1)
        if still is not None:
            apart = m.of(still).reshape(-1, len(still)).T
            stress = answer.with_settled(stress, answer.sources.over_apart(m.size(apart)))
        found.append((m, stress, None))
    return keep_worst(system, found)
