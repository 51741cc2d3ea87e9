"""Readings of stress fields: equivalent and principal stress from components."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["equivalent_form", "equivalent_stress", "principal_stress"]

Floats = NDArray[Any]  # float64


def equivalent_form(width: int) -> Floats:
    """Matrix A with σ_eq² = σᵀ A σ (von Mises), for xx yy zz xy yz zx or, in plane stress, xx yy xy."""
    if width == 3:
        return np.array([[1.0, -0.5, 0.0], [-0.5, 1.0, 0.0], [0.0, 0.0, 3.0]])
    A = np.zeros((6, 6))
    A[:3, :3] = -0.5
    A[range(3), range(3)] = 1.0
    A[range(3, 6), range(3, 6)] = 3.0
    return A


def equivalent_stress(stress: Floats) -> Floats:
    """Equivalent stress of components in the last axis, shape (..., 3 or 6) to (...)."""
    x, y = stress[..., 0], stress[..., 1]
    if stress.shape[-1] == 3:
        return np.sqrt(np.maximum(x * x - x * y + y * y + 3.0 * stress[..., 2] ** 2, 0.0))
    z = stress[..., 2]
    shear = stress[..., 3] ** 2 + stress[..., 4] ** 2 + stress[..., 5] ** 2
    return np.sqrt(0.5 * ((x - y) ** 2 + (y - z) ** 2 + (z - x) ** 2) + 3.0 * shear)


def principal_stress(stress: Floats) -> Floats:
    """Principal stress of largest magnitude, with its sign, shape (..., 3 or 6) to (...)."""
    if stress.shape[-1] == 3:
        middle = (stress[..., 0] + stress[..., 1]) / 2.0
        radius = np.hypot((stress[..., 0] - stress[..., 1]) / 2.0, stress[..., 2])
        return np.where(middle >= 0, middle + radius, middle - radius)
    T = np.zeros((*stress.shape[:-1], 3, 3))
    for k, (i, j) in enumerate([(0, 0), (1, 1), (2, 2), (0, 1), (1, 2), (2, 0)]):
        T[..., i, j] = T[..., j, i] = stress[..., k]
    values = np.linalg.eigvalsh(T)
    return np.where(np.abs(values[..., 0]) > np.abs(values[..., 2]), values[..., 0], values[..., 2])
