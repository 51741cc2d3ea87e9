"""Comparing the modes of two runs: modal assurance criterion, pairs, frequency shifts, crossings and splits.

MAC = |φₐᵀ W φᵦ|² / (φₐᵀWφₐ φᵦᵀWφᵦ) (Allemang & Brown, Proc. 1st International Modal Analysis Conference, 1982,
110-116), weighted by mass, so that a heavy body counts as such though it is one node: with the whole mass matrix
where both runs have the same motions, else with the mass at the nodes that are compared. A motion counts with the mass
that it has in both runs: a body that only one of them has moves as it likes in the other, and would drown the rest.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from scipy.sparse import csr_array, diags_array

from holokine.errors import SelectionError
from holokine.mesh.tree import nearest_tree

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.modes.mode_set import ModeSet

__all__ = ["Comparison", "assurance", "compare_modes"]

ALIKE = 0.5
PARTLY = 0.25
PREFERRED = 0.1


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
    """MAC of shapes, (modes, dofs) each, shape (modes of a, modes of b); `weight`: symmetric, or a diagonal."""
    heavy = [x if weight is None else x * weight if weight.ndim == 1 else (weight @ x.T).T for x in (a, b)]
    top = np.abs(a @ heavy[1].T) ** 2
    size = np.einsum("ij,ij->i", a, heavy[0])[:, None] * np.einsum("ij,ij->i", b, heavy[1])
    return top / np.where(size > 0, size, 1.0)


def _shared_mass(first: csr_array, second: csr_array) -> csr_array:
    """The first mass matrix with rows and columns scaled down to where the second has less; stays semi-definite."""
    own, others = first.diagonal(), second.diagonal()
    scale = np.sqrt(np.minimum(own, others) / np.where(own > 0.0, own, 1.0))
    if np.all(scale[own > 0.0] == 1.0) or not scale.any():
        return first
    by = diags_array(scale)
    return csr_array(by @ first @ by)


def _common(before: ModeSet, after: ModeSet) -> tuple[Ints, Ints]:
    """Nodes of both runs at the same places; else nodes of the coarser mesh and the nearest of the finer."""
    a, b = before.system, after.system
    use = [np.flatnonzero(s.active.reshape(-1, 6)[:, :3].any(axis=1)) for s in (a, b)]
    places = [s.mesh.nodes[u] for s, u in zip((a, b), use, strict=True)]
    size = float(np.linalg.norm(np.ptp(places[0], axis=0)))
    swap = len(use[0]) > len(use[1])
    few, many = (1, 0) if swap else (0, 1)
    distance, nearest = nearest_tree(places[many]).query(places[few])
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
        shared = _shared_mass(first.weighed, second.weighed)
        mac = assurance(before.shapes, after.shapes, shared)
        held = [_energy(m.shapes, shared) / _energy(m.shapes, m.system.weighed) for m in (before, after)]
        return _paired(before, after, mac, held, int(first.active.reshape(-1, 6).any(axis=1).sum()))
    i, j = _common(before, after)
    if len(i) == 0:
        raise SelectionError(
            "the two assemblies have no place in common: shapes can be compared only where both have nodes"
        )
    a, b = (
        m.shapes.reshape(m.count, -1, 6)[:, nodes, :3].reshape(m.count, -1) for m, nodes in ((before, i), (after, j))
    )
    own, others = (s.weighed.diagonal().reshape(-1, 6)[nodes, :3].ravel() for s, nodes in ((first, i), (second, j)))
    weight = np.minimum(own, others)
    if weight.max(initial=0.0) <= 0.0:
        weight = np.ones_like(weight)
    weight = np.maximum(weight, 1e-9 * weight.max())
    held = [(x**2 @ weight) / _energy(m.shapes, m.system.weighed) for x, m in ((a, before), (b, after))]
    return _paired(before, after, assurance(a, b, weight), held, len(i))


def _energy(shapes: Floats, mass: csr_array) -> Floats:
    """φᵀMφ of each shape, shape (modes,)."""
    size = np.einsum("ij,ij->i", shapes, (mass @ shapes.T).T)
    return np.where(size > 0.0, size, 1.0)


def _paired(before: ModeSet, after: ModeSet, mac: Floats, held: list[Floats], points: int) -> Comparison:
    """The best pairs; of shapes that are alike, those whose energy is in what both runs have (`held`) come first."""
    held = [np.clip(h, 0.0, 1.0) for h in held]
    from scipy.optimize import linear_sum_assignment

    rows, columns = linear_sum_assignment(-mac * (1.0 + PREFERRED * np.sqrt(np.outer(*held))))
    partner = np.full(before.count, -1, dtype=np.int64)
    good = mac[rows, columns] >= ALIKE
    partner[rows[good]] = columns[good]
    return Comparison(before, after, mac, partner, points)
