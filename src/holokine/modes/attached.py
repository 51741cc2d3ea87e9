"""What modes leave out under the forces of dampers: static shapes that are added to them.

A discrete damper (or a spring with a loss factor) pushes at a few places only. Modes up to a cut-off answer such a push
too stiffly; with the static answers of the assembly to these pushes beside them, freed of the modes and made normal to
one another, the coupled equations converge with few modes (residual attachment modes: Rubin, AIAA Journal 13 (1975)
995-1006).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import scipy.linalg
from numpy.typing import NDArray
from scipy.sparse import csr_array

from holokine.state.rest import rest_factor
from holokine.system.assemble import node_dofs

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.modes.mode_set import ModeSet
    from holokine.system.build import System

__all__ = ["MOST", "Attached", "attached_shapes", "damper_pushes"]

MOST = 300
"""Pushes beyond which none is added; modes alone then stand for the motion."""
_QUICK = 1e-8  # of the highest mode's squared period, from which a shape without mass counts as that of a quick motion


@dataclass(frozen=True)
class Attached:
    """Static shapes beside modes, normal to them and to one another in mass and stiffness.

    Attributes
    ----------
    omega : ndarray, shape (shapes,)
        rad/s, by their Rayleigh quotient.
    shapes : ndarray, shape (shapes, dofs)
        Mass-normalised.
    pushes, answers : ndarray, shape (pushes, dofs)
        Unit forces, and the assembly at rest under them.
    mix : ndarray, shape (shapes, pushes)
        Shares of the answers in the shapes.
    modal : ndarray, shape (pushes, modes)
        φᵀ push / ω², what the modes have of the answers.
    """

    omega: Floats
    shapes: Floats
    pushes: Floats
    answers: Floats
    mix: Floats
    modal: Floats


def damper_pushes(system: System, lossy: set[str]) -> Floats:
    """Unit forces of every damper, and of springs that lose, shape (pushes, dofs), those on held dofs left out."""
    rows: list[Floats] = []

    def push(dofs: NDArray[np.int64], values: Floats) -> None:
        row = np.zeros(system.size)
        row[dofs] = values
        if np.abs(system.constraints.reduce.T @ row).max(initial=0.0) > 1e-12 * np.abs(row).max(initial=1e-300):
            rows.append(row)

    named = np.zeros(system.size, dtype=bool)
    for c in system.connectors:
        dofs = node_dofs(np.array(c.nodes))
        for k in range(6):
            if c.damping[k] > 0 or (c.name in lossy and c.stiffness[k] > 0):
                push(dofs, c.stretch[k])
                named[dofs] |= c.stretch[k] != 0
    if system.description.matrices is not None:
        given = np.flatnonzero((np.diff(csr_array(system.damping).indptr) > 0) & ~named)
        for dof in given[: MOST + 1]:
            push(np.array([dof]), np.ones(1))
    return np.array(rows).reshape(-1, system.size)


def attached_shapes(modes: ModeSet, shapes: Floats, omega: Floats, pushes: Floats) -> Attached:
    """Static shapes for pushes that modes (`shapes` of angular frequencies `omega`) leave out."""
    system = modes.system
    T = system.constraints.reduce
    factor = rest_factor(system)
    answers = np.asarray((T @ np.asarray(factor.solve(np.ascontiguousarray(T.T @ pushes.T)))).T)
    modal = (pushes @ shapes.T) / omega**2
    rest = answers - modal @ shapes
    stiff = pushes @ rest.T  # restᵀ K rest, since the modes are normal to it
    stiff = (stiff + stiff.T) / 2.0
    whole = np.einsum("pi,pi->p", pushes, answers)
    size = np.sqrt(np.maximum(np.diag(stiff), 0.0))
    kept = size**2 > 1e-12 * np.maximum(whole, 1e-300)  # what the modes hold already is rounding
    scale = np.where(kept, 1.0 / np.where(kept, size, 1.0), 0.0)
    values, vectors = np.linalg.eigh(stiff * scale[:, None] * scale)
    strong = values > 1e-10
    basis = (scale[:, None] * vectors[:, strong] / np.sqrt(values[strong])).T  # rows: stiffness 1
    own = basis @ rest
    mass = own @ (system.mass @ own.T)
    slow, turn = scipy.linalg.eigh((mass + mass.T) / 2.0) if len(own) else (np.zeros(0), np.zeros((0, 0)))
    quick = _QUICK / float(omega.max()) ** 2
    w = 1.0 / np.sqrt(np.maximum(slow, quick))
    mix = w[:, None] * (turn.T @ basis)
    return Attached(w, mix @ rest, pushes, answers, mix, modal)
