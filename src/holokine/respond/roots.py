"""Where curves over a step come to zero: dips between its ends, and roots of series."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from holokine.arrays import Floats

__all__ = ["dips", "first_below", "root"]


def dips(m0: Floats, m1: Floats, d0: Floats, d1: Floats, h: float, noise: Floats) -> Floats:
    """Whether the cubic through values and slopes at both ends comes below zero between them."""
    result = (d0 < 0.0) & (d1 > 0.0)
    if result.any():
        a, b, c = 2.0 * (m0 - m1) + h * (d0 + d1), 3.0 * (m1 - m0) - h * (2.0 * d0 + d1), h * d0
        root = b + np.sqrt(np.maximum(b * b - 3.0 * a * c, 0.0))
        at = np.clip(np.where(root != 0.0, -c / np.where(root != 0.0, root, 1.0), 0.5), 0.0, 1.0)
        low = ((a * at + b) * at + c) * at + m0
        result &= low < 0.1 * (np.maximum(m0, m1) - low) - noise
    return result


def first_below(row: Floats, share: Floats, below: int) -> float:
    """Where a polynomial comes below zero, by the first of some places at which it is."""
    return 0.0 if below == 0 else root(row, share[below - 1], share[below], rising=False)


def root(row: Floats, low: float, high: float, rising: bool) -> float:
    """Where a polynomial passes zero between two places."""
    sign = 1.0 if rising else -1.0
    for _ in range(80):
        middle = 0.5 * (low + high)
        if middle in (low, high):
            break
        low, high = (middle, high) if sign * np.polynomial.polynomial.polyval(middle, row) < 0.0 else (low, middle)
    return high
