"""Mass, centre of mass and inertia of the whole and of its members."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from scipy.sparse import csr_array

from holokine.system.assemble import node_dofs

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.system.build import System

__all__ = ["MassTotals", "mass_totals", "member_masses", "rigid_mass"]


@dataclass(frozen=True)
class MassTotals:
    """Mass in kg, centre of mass in m (global axes), inertia about it in kg m² (3 by 3 tensor)."""

    mass: float
    centre: Floats
    inertia: Floats


def rigid_mass(system: System, mass: csr_array | None = None) -> Floats:
    """Rigid-body mass matrix Rᵀ M R, shape (6, 6), about the origin."""
    R = system.rigid_motions(np.zeros(3))
    M = system.weighed if mass is None else mass
    return R @ (M @ R.T)


def _from_rigid(rigid: Floats) -> MassTotals:
    mass = float(np.trace(rigid[:3, :3]) / 3.0)
    if mass <= 0:
        return MassTotals(0.0, np.zeros(3), np.zeros((3, 3)))
    # the coupling block of a body is m S(c) with S(c) t = t × c
    couple = rigid[:3, 3:] / mass
    centre = np.array([couple[1, 2] - couple[2, 1], couple[2, 0] - couple[0, 2], couple[0, 1] - couple[1, 0]])
    centre = centre / 2.0
    inertia = rigid[3:, 3:] - mass * ((centre @ centre) * np.eye(3) - np.outer(centre, centre))
    return MassTotals(mass, centre, (inertia + inertia.T) / 2.0)


def mass_totals(system: System) -> MassTotals:
    """Mass, centre of mass and inertia of the whole, supports included."""
    return _from_rigid(rigid_mass(system))


def member_masses(system: System) -> dict[str, MassTotals]:
    """The same for each part and each point mass by itself; kept."""
    if "member masses" not in system.kept:
        system.kept["member masses"] = _member_masses(system)
    return dict(system.kept["member masses"])


def _member_masses(system: System) -> dict[str, MassTotals]:
    result: dict[str, MassTotals] = {}
    R = system.rigid_motions(np.zeros(3))
    for part in system.description.parts:
        rigid = np.zeros((6, 6))
        for block in system.element_blocks(part):
            for dofs, _, mass in block.chunks():
                local = np.moveaxis(R[:, dofs], 0, 1)  # (elements, 6, motions)
                rigid += (local @ mass @ np.swapaxes(local, 1, 2)).sum(axis=0)
        result[part] = _from_rigid(rigid)
    for body in system.masses:
        local = R[:, node_dofs(np.array([body.node]))]
        result[body.name] = _from_rigid(local @ body.matrix() @ local.T)
    return result
