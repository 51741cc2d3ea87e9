"""Fields over the nodes in one mode: strain energy density and stress, for pictures."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from holokine.modes.energy import element_energies
from holokine.system.recovery import field_stress

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.modes.mode_set import ModeSet

__all__ = ["nodal_energy", "nodal_stress"]


def nodal_energy(modes: ModeSet, mode: int) -> Floats:
    """Strain energy density at the nodes, mean of the elements around, largest = 1; shape (nodes,)."""
    total = np.zeros(len(modes.system.mesh.nodes))
    count = np.zeros_like(total)
    for block, density in element_energies(modes, mode):
        for column in block.nodes.T:
            np.add.at(total, column, density)
            np.add.at(count, column, 1.0)
    mean = total / np.maximum(count, 1.0)
    return mean / max(float(mean.max(initial=0.0)), 1e-300)


def nodal_stress(modes: ModeSet, mode: int) -> Floats:
    """Equivalent stress (beams: normal stress of the extreme fibre) in Pa per m of the largest displacement.

    The largest of the elements around each node, at their centres (beams: at their ends); shape (nodes,).
    """
    shape = modes.unit_maximum()[modes.index(mode)]
    return field_stress(modes.system, shape)[1]
