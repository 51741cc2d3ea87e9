"""Comparing the modes of two runs: modal assurance criterion, pairs, frequency shifts, crossings and splits.

MAC = |φₐᵀ W φᵦ|² / (φₐᵀWφₐ φᵦᵀWφᵦ) (Allemang & Brown, Proc. 1st International Modal Analysis Conference, 1982,
110-116), weighted by mass, so that a heavy body counts as such though it is one node: with the whole mass matrix
where both runs have the same motions, else with the mass at the nodes that are compared.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import linear_sum_assignment
from scipy.spatial import cKDTree

from holokine.errors import SelectionError
from holokine.modes.extract import ModeSet

__all__ = ["Comparison", "assurance", "compare_modes"]

Floats = NDArray[Any]  # float64
Ints = NDArray[Any]  # int64
ALIKE = 0.5
PARTLY = 0.25


@dataclass(frozen=True)
class Comparison:
    """Two runs side by side.

    Attributes
    ----------
    before, after : ModeSet
    mac : ndarray, shape (modes before, modes after)
    partner : ndarray of int, shape (modes before,)
        Row of the mode after that belongs to each mode before; -1 for none.
    points : int
        Common points that the shapes were compared at.
    """

    before: ModeSet
    after: ModeSet
    mac: Floats
    partner: Ints
    points: int

    @property
    def shift(self) -> Floats:
        """Relative change of each frequency, NaN without a partner or for rigid-body modes."""
        result = np.full(self.before.count, np.nan)
        f, g = self.before.frequencies_hz, self.after.frequencies_hz
        has = (self.partner >= 0) & (f > 0)
        result[has] = g[self.partner[has]] / f[has] - 1.0
        return result

    def remark(self, row: int) -> str:
        """What happened to a mode before: crossed, split, mixed, lost; empty where nothing did."""
        numbers = self.after.numbers
        parts = np.flatnonzero(self.mac[row] >= PARTLY)
        mate = int(self.partner[row])
        shared = ", ".join(f"{numbers[p]} ({self.mac[row, p]:.2f})" for p in parts)
        if mate < 0:
            return f"no partner; parts of it in {shared}" if len(parts) else "no partner"
        words = []
        others = self.partner[:row]
        passed = np.flatnonzero(others > mate)
        if len(passed):
            words.append(f"crossed mode {', '.join(str(self.before.numbers[p]) for p in passed)}")
        later = self.partner[row + 1 :]
        passed = np.flatnonzero((later >= 0) & (later < mate)) + row + 1
        if len(passed):
            words.append(f"crossed by mode {', '.join(str(self.before.numbers[p]) for p in passed)}")
        if len(parts) > 1:
            words.append(f"shared between modes {shared}")
        return "; ".join(words)

    @property
    def new(self) -> Ints:
        """Rows of modes after that belong to none before."""
        return np.setdiff1d(np.arange(self.after.count), self.partner)


def assurance(a: Floats, b: Floats, weight: Any = None) -> Floats:
    """MAC of shapes, (modes, motions) each, shape (modes of a, modes of b); `weight`: symmetric, or a diagonal."""
    heavy = [x if weight is None else x * weight if weight.ndim == 1 else (weight @ x.T).T for x in (a, b)]
    top = np.abs(a @ heavy[1].T) ** 2
    size = np.einsum("ij,ij->i", a, heavy[0])[:, None] * np.einsum("ij,ij->i", b, heavy[1])
    return top / np.where(size > 0, size, 1.0)


def _common(before: ModeSet, after: ModeSet) -> tuple[Ints, Ints]:
    """Nodes of both runs at the same places; else nodes of the coarser mesh and the nearest of the finer."""
    a, b = before.system, after.system
    use = [np.flatnonzero(s.active.reshape(-1, 6)[:, :3].any(axis=1)) for s in (a, b)]
    places = [s.mesh.nodes[u] for s, u in zip((a, b), use, strict=True)]
    size = float(np.linalg.norm(np.ptp(places[0], axis=0)))
    swap = len(use[0]) > len(use[1])
    few, many = (1, 0) if swap else (0, 1)
    distance, nearest = cKDTree(places[many]).query(places[few])
    same = distance <= 1e-6 * max(size, 1e-9)
    chosen = same if same.sum() >= min(30, len(same)) else distance <= 0.02 * size
    picked = use[few][chosen], use[many][nearest[chosen]]
    return (picked[1], picked[0]) if swap else picked


def compare_modes(before: ModeSet, after: ModeSet) -> Comparison:
    """Pair the modes of two runs, each with at most one of the other, by the largest sum of MAC.

    Nodes at the same places are compared; of unlike meshes that share few, the nearest nodes within 2 % of the
    size.

    Raises
    ------
    SelectionError
        When the two have no place in common.
    """
    first, second = before.system, after.system
    if first.size == second.size and np.array_equal(first.mesh.nodes, second.mesh.nodes):
        mac = assurance(before.shapes, after.shapes, first.weighed)
        return _paired(before, after, mac, int(first.active.reshape(-1, 6).any(axis=1).sum()))
    i, j = _common(before, after)
    if len(i) == 0:
        raise SelectionError(
            "the two assemblies have no place in common: shapes can be compared only where both have nodes"
        )
    a, b = (
        m.shapes.reshape(m.count, -1, 6)[:, nodes, :3].reshape(m.count, -1) for m, nodes in ((before, i), (after, j))
    )
    weight = first.weighed.diagonal().reshape(-1, 6)[i, :3].ravel()
    if weight.max(initial=0.0) <= 0.0:
        weight = np.ones_like(weight)
    return _paired(before, after, assurance(a, b, np.maximum(weight, 1e-9 * weight.max())), len(i))


def _paired(before: ModeSet, after: ModeSet, mac: Floats, points: int) -> Comparison:
    rows, columns = linear_sum_assignment(-mac)
    partner = np.full(before.count, -1, dtype=np.int64)
    good = mac[rows, columns] >= ALIKE
    partner[rows[good]] = columns[good]
    return Comparison(before, after, mac, partner, points)
