"""Natural frequencies at parts of a state's load: their squares fall along nearly straight lines towards buckling."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
from scipy.optimize import linear_sum_assignment
from scipy.sparse import csr_array

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.state.about import AtRest
    from holokine.system.build import System

__all__ = ["FrequencyPath", "at_factor", "frequency_path"]

MORE = 40  # modes looked through beside those that are followed


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
    state: AtRest, factors: Floats, count: int, modes: Callable[[System, int], tuple[Floats, Floats]],
    shape: Floats | None = None,
) -> FrequencyPath:  # fmt: skip
    """Follow the modes that are lowest under the highest load factor, down to the others, by the modal assurance.

    The one that buckles (most alike to `shape` there) is among them, however high it lies without load. A mode that is
    not found again (its likeness below one half) is NaN from there on.

    Parameters
    ----------
    factors : ndarray
        Rising.
    modes : callable
        Frequencies in Hz and mass-normalised shapes (modes, dofs) of the lowest modes of a system.
    shape : ndarray, shape (dofs,), optional
        Of the lowest load factor.
    """
    f, before = modes(at_factor(state, float(factors[-1])), count + (0 if shape is None else MORE))
    chosen = np.arange(min(count, len(f)))
    if shape is not None:
        mass = state.elastic.mass
        alike = (before @ (mass @ shape)) ** 2 / max(float(shape @ (mass @ shape)), 1e-300)
        best = int(alike.argmax())
        if best not in chosen and alike[best] > 0.05:
            chosen[-1] = best
    before = before[chosen]
    found = np.full((len(factors), len(chosen)), np.nan)
    found[-1] = f[chosen]
    for row in range(len(factors) - 2, -1, -1):
        f, shapes = modes(at_factor(state, float(factors[row])), count + MORE)
        likeness = (before @ (state.elastic.mass @ shapes.T)) ** 2
        mine, own = linear_sum_assignment(-likeness)
        sure = likeness[mine, own] > 0.5
        found[row, mine[sure]] = f[own[sure]]
        before = before.copy()
        before[mine[sure]] = shapes[own[sure]]
    first = np.where(np.isnan(found), -np.inf, found)[0]
    found = found[:, np.argsort(np.where(np.isfinite(first), first, np.inf), kind="stable")]
    zeros = np.full(found.shape[1], np.nan)
    if len(factors) > 1:
        a, b = found[-2] ** 2, found[-1] ** 2
        falls = b < a * (1 - 1e-9)
        zeros[falls] = factors[-1] + b[falls] * (factors[-1] - factors[-2]) / (a[falls] - b[falls])
    return FrequencyPath(np.asarray(factors, dtype=float), found, zeros)
