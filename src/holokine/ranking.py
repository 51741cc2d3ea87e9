"""The largest of some sizes, the same on every machine: what differs by rounding alone counts as equal.

Equal parts of symmetric assemblies reach the same size but for the last digits, which a different library, number of
threads or order of sums decides. Of equal ones the first is named.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints

__all__ = ["ALIKE", "EVEN", "first_largest", "leading_signs", "ranked"]

ALIKE = 1e-9  # of the largest
EVEN = 1e-6  # the same of components of shapes, which an iteration leaves less exact than energies and stresses


def first_largest(sizes: Floats, alike: float = ALIKE) -> int:
    """Index of the first of those that are the largest but for rounding; 0 where none of them is a number."""
    largest = np.fmax.reduce(sizes, axis=None)
    return int(np.argmax(sizes >= largest - alike * abs(largest)))


def leading_signs(shapes: Floats) -> Floats:
    """Sign of the first of the largest components of each shape, as 1.0 or -1.0, from shapes (count, dofs)."""
    return np.array([-1.0 if x[first_largest(np.abs(x), EVEN)] < 0 else 1.0 for x in shapes])


def ranked(sizes: Floats, alike: float = ALIKE) -> Ints:
    """Order of sizes, largest first; those that are equal but for rounding in the order in which they come."""
    order = np.argsort(-sizes, kind="stable")
    if not len(order):
        return order
    steps = -np.diff(sizes[order]) > alike * abs(sizes[order[0]])
    return order[np.lexsort((order, np.concatenate([[0], np.cumsum(steps)])))]
