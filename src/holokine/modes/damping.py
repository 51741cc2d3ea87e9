"""Damping ratio of each mode."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from holokine.describe.schema import Damping

__all__ = ["modal_damping"]

Floats = NDArray[Any]  # float64


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
    assert damping.rayleigh is not None
    (f1, z1), (f2, z2) = damping.rayleigh
    w = 2.0 * np.pi * np.array([f1, f2])
    alpha, beta = np.linalg.solve(np.column_stack([0.5 / w, 0.5 * w]), [z1, z2])
    omega = 2.0 * np.pi * np.maximum(f, 1e-12)
    return np.maximum(alpha / (2.0 * omega) + beta * omega / 2.0, 0.0)
