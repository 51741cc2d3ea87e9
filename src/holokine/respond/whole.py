"""Whole fields: displacement and stress combined under a spectrum, displacement at an instant of a pulse answer."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_array

from holokine.elements.beam import BeamElements
from holokine.elements.shell import ShellElements
from holokine.elements.stress import equivalent_form
from holokine.modes.extract import ModeSet
from holokine.respond.combine import SpectrumAnswer
from holokine.respond.rules import over_directions
from holokine.respond.transient import PulseAnswer
from holokine.solvers import factorise

__all__ = ["PartPeak", "residual_displacement", "spectrum_displacement", "spectrum_stress", "transient_displacement"]

Floats = NDArray[Any]  # float64
_BLOCK = 20_000


def _kept(answer: SpectrumAnswer | PulseAnswer, modes: ModeSet) -> Floats:
    """Shapes of the modes that the answer used (an event may have its own cut-off)."""
    return modes.shapes[: answer.reduced.count]


@dataclass(frozen=True)
class PartPeak:
    """Largest combined stress of a part in Pa, and where it is (m)."""

    part: str
    stress: float
    place: Floats
    where: str


def residual_displacement(answer: SpectrumAnswer, modes: ModeSet) -> Floats:
    """What the left-out modes move, statically, under a unit base acceleration along each direction of the answer.

    Returns
    -------
    ndarray, shape (directions, dofs)
        In m per m/s², with the sign that it has beside the modes.
    """
    system = modes.system
    columns = ["xyz".index(d) for d in answer.directions]
    T = system.constraints.reduce
    R = system.rigid_motions(np.zeros(3))[columns]
    load = T.T @ (system.mass @ R.T)
    whole = (T @ factorise(system.reduced_stiffness).solve(np.asarray(load))).T
    shapes = _kept(answer, modes)
    gamma, omega = answer.reduced.participation[:, columns], answer.reduced.omega
    return whole - (gamma / (omega**2)[:, None]).T @ shapes


def _coordinates(answer: SpectrumAnswer) -> Floats:
    columns = ["xyz".index(d) for d in answer.directions]
    reduced = answer.reduced
    return reduced.participation[:, columns] * answer.spectral / (reduced.omega**2)[:, None]


def spectrum_displacement(answer: SpectrumAnswer, modes: ModeSet) -> Floats:
    """Combined largest displacement of every motion relative to the frame, shape (dofs,), in m and rad.

    In blocks of motions, by the answer's rules, with the missing mass.
    """
    shapes, coordinate = _kept(answer, modes), _coordinates(answer)
    rest = residual_displacement(answer, modes) * answer.zero_period[:, None] if answer.zero_period.any() else None
    result = np.empty(shapes.shape[1])
    for a in range(0, shapes.shape[1], _BLOCK):
        part = slice(a, a + _BLOCK)
        values = coordinate[:, :, None] * shapes[:, None, part]
        missing = np.zeros(values.shape[1:]) if rest is None else rest[:, part]
        result[part] = over_directions(answer.combination.combined(values, missing), answer.direction_rule)
    return result


def spectrum_stress(answer: SpectrumAnswer, modes: ModeSet) -> tuple[list[PartPeak], Floats]:
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
        rest = residual_displacement(answer, modes) * answer.zero_period[:, None]
    nodal = np.zeros(len(system.mesh.nodes))
    peaks: dict[str, PartPeak] = {}

    def combined(A: csr_array, width: int) -> Floats:
        found = []
        step = max(1, 40_000_000 // (8 * width * max(coordinate.size, 1))) * width
        for a in range(0, A.shape[0], step):
            rows = A[a : a + step]
            values = coordinate[:, :, None] * (rows @ shapes.T).T[:, None]
            missing = (rows @ rest.T).T
            if width == 1:
                each = answer.combination.combined(values, missing)
            else:
                shape = (*values.shape[:2], -1, width)
                each = answer.combination.form(
                    values.reshape(shape), missing.reshape(shape[1:]), equivalent_form(width)
                )  # fmt: skip
            found.append(over_directions(each, answer.direction_rule))
        return np.concatenate(found) if found else np.zeros(0)

    for block in system.elements:
        centres = system.mesh.nodes[block.nodes].mean(axis=1)
        if isinstance(block, BeamElements):
            maps = [(A, 1, w) for A, w in zip(block.stress_maps(system.size), (", start", ", end"), strict=False)]
        elif isinstance(block, ShellElements):
            maps = [(block.stress_map(system.size, "centre", s)[0], 3, f", {s}") for s in ("top", "bottom")]
        else:
            maps = [(block.stress_map(system.size, "centre")[0], 6, "")]
        for A, width, where in maps:
            stress = combined(A, width)
            if isinstance(block, BeamElements):
                stress = stress.reshape(len(block.nodes), -1).max(axis=1)
            best = int(stress.argmax())
            if block.part not in peaks or stress[best] > peaks[block.part].stress:
                peaks[block.part] = PartPeak(
                    block.part, float(stress[best]), centres[best], f"element {best + 1}{where}"
                )
            for column in block.nodes.T:
                np.maximum.at(nodal, column, stress)
    return [peaks[p] for p in system.description.parts if p in peaks], nodal


def transient_displacement(answer: PulseAnswer, modes: ModeSet) -> Callable[[float], tuple[float, Floats]]:
    """A function of time in s that gives the nearest row's time and the displacement there, shape (dofs,), in m."""
    shapes = _kept(answer, modes)

    def at(time: float) -> tuple[float, Floats]:
        row = int(np.abs(answer.time - time).argmin())
        path = answer.reader.path
        q, _, _ = answer.reader.oscillators.motion(path.state[[row]], path.load[[row]])
        return float(answer.time[row]), (q @ shapes)[0]

    return at
