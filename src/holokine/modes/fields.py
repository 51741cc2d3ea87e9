"""Fields over the nodes in one mode: strain energy density and stress, for pictures."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from holokine.elements.beam import BeamElements
from holokine.elements.shell import ShellElements
from holokine.elements.stress import equivalent_stress
from holokine.modes.energy import element_energies
from holokine.modes.extract import ModeSet

__all__ = ["nodal_energy", "nodal_stress"]

Floats = NDArray[Any]  # float64


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
    system = modes.system
    shape = modes.unit_maximum()[modes.index(mode)]
    result = np.zeros(len(system.mesh.nodes))
    for block in system.elements:
        if isinstance(block, BeamElements):
            for side, A in enumerate(block.stress_maps(system.size)):
                value = np.abs(A @ shape).reshape(len(block.nodes), -1).max(axis=1)
                np.maximum.at(result, block.nodes[:, side], value)
            continue
        if isinstance(block, ShellElements):
            maps = [block.stress_map(system.size, "centre", side)[0] for side in ("top", "bottom")]
            width = 3
        else:
            maps, width = [block.stress_map(system.size, "centre")[0]], 6
        values = [equivalent_stress((A @ shape).reshape(-1, width)) for A in maps]
        value = np.max(values, axis=0)
        for column in block.nodes.T:
            np.maximum.at(result, column, value)
    return result
