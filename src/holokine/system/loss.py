"""Hysteretic damping of members: Σ η_j K_j, of which i times is added to the stiffness of steady vibration."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from scipy.sparse import csr_array

from holokine.system.assemble import Accumulator, node_dofs

if TYPE_CHECKING:
    from holokine.system.build import System

__all__ = ["loss_matrix"]


def loss_matrix(system: System, losses: dict[str, float], uniform: float = 0.0) -> csr_array | None:
    """Σ η_j K_j over members, before constraints, shape (dofs, dofs); None where nothing is lost.

    Of the elastic stiffness: what stress adds loses nothing.

    Parameters
    ----------
    losses : dict of str to float
        Loss factors of parts, springs, bushings and joints.
    uniform : float
        Of stiffness that was given as a matrix.
    """
    if not losses and not uniform:
        return None
    values = set(losses.values())
    everything = {e.part for e in system.elements} | {c.name for c in system.connectors}
    if (
        system.added is None
        and everything <= set(losses)
        and len(values) == 1
        and (uniform in values or system.description.matrices is None)
    ):
        return csr_array(values.pop() * system.stiffness)
    total = Accumulator(system.size)
    for e in system.elements:
        eta = losses.get(e.part, 0.0)
        if eta:
            for nodes, index, k, _ in e.blocks():
                total.add_elements(nodes, e.motions, index, eta * k)
    for c in system.connectors:
        k = c.matrices()[0]
        if losses.get(c.name) and k.any():
            total.add(node_dofs(np.array(c.nodes))[None], (losses[c.name] * k)[None])
    result = total.result()
    if uniform and system.description.matrices is not None:
        result = csr_array(result + uniform * (system.stiffness - _own(system)))
    return result if result.nnz else None


def _own(system: System) -> csr_array:
    """Stiffness of what is described, beside the given matrices (connectors only)."""
    total = Accumulator(system.size)
    for c in system.connectors:
        total.add(node_dofs(np.array(c.nodes))[None], c.matrices()[0][None])
    return total.result()
