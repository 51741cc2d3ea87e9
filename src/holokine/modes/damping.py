"""Damping ratio of each mode."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from holokine.describe.references import group_members
from holokine.describe.schema import Damping
from holokine.modes.energy import Energies
from holokine.modes.extract import ModeSet

__all__ = ["composite_damping", "damper_share", "modal_damping", "rayleigh_factors"]

Floats = NDArray[Any]  # float64


def damper_share(modes: ModeSet) -> tuple[Floats, float]:
    """What discrete dampers add to the damping ratios, and how much they couple the modes.

    With c = Φ C Φᵀ the ratios grow by c_ii / (2 ω_i). The coupling is the largest |c_ij| / √(c_ii c_jj) between
    modes whose frequencies lie within half of one another, which the diagonal leaves out.

    Returns
    -------
    ratios : ndarray, shape (modes,)
    coupling : float
    """
    C = modes.system.damping
    if C.nnz == 0:
        return np.zeros(modes.count), 0.0
    c = modes.shapes @ (C @ modes.shapes.T)
    omega = np.where(modes.omega > 0, modes.omega, np.inf)
    diagonal = np.maximum(np.diag(c), 0.0)
    root = np.sqrt(np.outer(diagonal, diagonal))
    ratio = np.abs(c) / np.where(root > 0, root, 1.0)
    near = np.abs(modes.omega[:, None] - modes.omega) < 0.5 * np.maximum(modes.omega[:, None], modes.omega)
    active = diagonal / (2.0 * omega) > 1e-4
    ratio[~(near & np.outer(active, active))] = 0.0
    np.fill_diagonal(ratio, 0.0)
    return diagonal / (2.0 * omega), float(ratio.max(initial=0.0))


def composite_damping(modes: ModeSet, ratios: dict[str, float], energies: Energies) -> Floats:
    """Σ ζ_j s_j over members j with shares s_j of the strain energy, shape (modes,).

    A member takes its own ratio, else that of a group it is in (the first named), else its material's, else
    ``default`` (0). Roesset, Whitman & Dobry, J. Struct. Div. ASCE 99 (1973) 399-416.
    """
    d = modes.system.description
    groups = {name: group_members(d, name) for name in ratios if name in d.groups}
    chosen = np.zeros(len(energies.members))
    for i, member in enumerate(energies.members):
        options = [member, *(g for g, own in groups.items() if member in own)]
        if member in d.parts:
            options.append(d.parts[member].material.removesuffix(f" of {member}"))
        chosen[i] = next((ratios[o] for o in options if o in ratios), ratios.get("default", 0.0))
    return chosen @ energies.shares("strain")


def modal_damping(damping: Damping, frequencies: Floats) -> Floats:
    """Damping ratios at frequencies in Hz, shape (modes,).

    One value; a table, linear between its rows and held outside; or Rayleigh damping C = αM + βK through two
    points, ζ = α / (2ω) + βω / 2.
    """
    f = np.asarray(frequencies, dtype=float)
    if damping.ratio is not None:
        return np.full(len(f), damping.ratio)
    if damping.table is not None:
        table = np.array(damping.table)
        return np.interp(f, table[:, 0], table[:, 1])
    if damping.composite is not None:
        raise ValueError("composite damping needs energies: composite_damping")
    assert damping.rayleigh is not None
    alpha, beta = rayleigh_factors(*damping.rayleigh)
    omega = 2.0 * np.pi * np.maximum(f, 1e-12)
    return np.maximum(alpha / (2.0 * omega) + beta * omega / 2.0, 0.0)


def rayleigh_factors(first: tuple[float, float], second: tuple[float, float]) -> tuple[float, float]:
    """α and β of C = αM + βK from two pairs of frequency in Hz and damping ratio."""
    w = 2.0 * np.pi * np.array([first[0], second[0]])
    alpha, beta = np.linalg.solve(np.column_stack([0.5 / w, 0.5 * w]), [first[1], second[1]])
    return float(alpha), float(beta)
