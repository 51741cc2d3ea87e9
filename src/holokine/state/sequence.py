"""Natural frequencies at parts of a state's load: their squares fall along nearly straight lines towards buckling."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import linear_sum_assignment
from scipy.sparse import csr_array

from holokine.state.about import AtRest
from holokine.system.build import System

__all__ = ["FrequencyPath", "at_factor", "frequency_path"]

Floats = NDArray[Any]  # float64


@dataclass(frozen=True)
class FrequencyPath:
    """Frequencies of modes followed over load factors.

    Attributes
    ----------
    factors : ndarray, shape (factors,)
    frequencies_hz : ndarray, shape (factors, modes)
    zeros : ndarray, shape (modes,)
        Load factor at which the square of the frequency is zero by the last two factors; NaN where it does not fall.
    """

    factors: Floats
    frequencies_hz: Floats
    zeros: Floats


def at_factor(state: AtRest, factor: float) -> System:
    """The system with so much of what stress adds; what acts of one-way members stays as in the state."""
    elastic, added = state.elastic, csr_array(factor * state.added)
    return replace(
        elastic, stiffness=csr_array(elastic.stiffness + added), added=added,
        about=f"{state.name} times {factor:g}", kept={},
    )  # fmt: skip


def frequency_path(
    state: AtRest, factors: Floats, count: int, modes: Callable[[System, int], tuple[Floats, Floats]]
) -> FrequencyPath:
    """Follow modes over load factors by the modal assurance criterion.

    Parameters
    ----------
    modes : callable
        Frequencies in Hz and mass-normalised shapes (modes, dofs) of the lowest modes of a system.
    """
    rows, before = [], None
    for factor in factors:
        f, shapes = modes(at_factor(state, float(factor)), count + 4)
        if before is None:
            f, shapes = f[:count], shapes[:count]
        else:
            likeness = (before @ (state.elastic.mass @ shapes.T)) ** 2
            own = linear_sum_assignment(-likeness)[1]
            f, shapes = f[own], shapes[own]
        rows.append(f)
        before = shapes
    found = np.array(rows)
    zeros = np.full(found.shape[1], np.nan)
    if len(factors) > 1:
        a, b = found[-2] ** 2, found[-1] ** 2
        falls = b < a * (1 - 1e-9)
        zeros[falls] = factors[-1] + b[falls] * (factors[-1] - factors[-2]) / (a[falls] - b[falls])
    return FrequencyPath(np.asarray(factors, dtype=float), found, zeros)
