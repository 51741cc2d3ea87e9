"""Linear constraints C u = 0 and their elimination u = T v.

Every constraint is a row of C: a support holds one motion, a rigid link makes a motion of a node follow the
rigid motion of its point. Explicit rows (one dependent motion each) are substituted into one another until
only independent dofs are left; rows whose motion is already dependent are solved for what remains by a
rank-revealing QR factorisation. The constraint forces are recovered from the unbalanced forces
f = K u + M ü = Cᵀ λ, by λ = (C Cᵀ)⁻¹ C f.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
import scipy.linalg
from numpy.typing import NDArray
from scipy.sparse import csc_array, csr_array, diags_array, eye_array, vstack
from scipy.sparse.csgraph import connected_components

from holokine.errors import ConstraintError
from holokine.sizes import narrow
from holokine.system.wide import Following, Matrix

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints

__all__ = ["Constraints", "Equation", "eliminate"]

_CHAIN_LIMIT = 60
WIDE = 60  # motions that one follows, from which it may be kept apart
MOST_DENSE = 20_000  # numbers that are summed up all the same
MOST_APART = 200  # motions that follow and are kept apart


@dataclass
class Equation:
    """Rows u[dependent] - A u = 0 that one owner (link, support) asks for.

    Attributes
    ----------
    owner : str
        For messages: ``link "fan feet"``.
    dependent : ndarray of int, shape (rows,)
    masters : sparse array, shape (rows, dofs)
        The matrix A.
    """

    owner: str
    dependent: Ints
    masters: csr_array


@dataclass(frozen=True)
class Constraints:
    """All constraints of a system.

    Attributes
    ----------
    rows : sparse array, shape (constraints, dofs)
        C.
    reduce : sparse array, shape (dofs, independent)
        T with u = T v.
    owner_rows : dict of str to slice
        Rows of each owner.
    independent : ndarray of int, shape (independent,)
        Which motions v are.
    redundant : tuple of str
        Owners of rows that repeat what others hold already (their forces are shared out by least norm).
    """

    rows: csr_array
    reduce: csr_array
    owner_rows: dict[str, slice]
    independent: Ints
    redundant: tuple[str, ...] = ()

    @cached_property
    def _parts(self) -> tuple[csr_array, csr_array] | None:
        """What a matrix is multiplied by on either side, and which rows are kept apart; None for a plain product.

        The first has columns for the independent dofs, and behind them for those that follow many of them.
        """
        kept = np.zeros(self.reduce.shape[0], dtype=bool)
        kept[self.independent] = True
        reach = np.diff(self.reduce.indptr)
        if (reach[self.independent] != 1).any():
            return None
        wide = np.flatnonzero(~kept & (reach > WIDE))
        if int((reach[wide].astype(np.int64) ** 2).sum()) < MOST_DENSE or len(wide) > MOST_APART:
            return None
        n, size = len(self.independent), self.reduce.shape[0]
        narrow_ = np.ones(size)
        narrow_[wide] = 0.0
        apart = csr_array((np.ones(len(wide)), (wide, n + np.arange(len(wide)))), shape=(size, n + len(wide)))
        both = csr_array(diags_array(narrow_) @ self.reduce)
        both = csr_array((both.data, both.indices, both.indptr), shape=(size, n + len(wide)))
        return csr_array(both + apart), narrow(csr_array(self.reduce[wide]))

    def reduced(self, matrix: csr_array) -> Matrix:
        """Tᵀ A T of a symmetric matrix, shape (independent, independent).

        What follows many dofs is kept apart in large models (`system.wide`): a mass on an averaging link, or a node
        that the mean of others decides.
        """
        if self._parts is None:
            return narrow(_congruent(matrix, self.reduce, self.independent))
        left, rows = self._parts
        n = rows.shape[1]
        following = np.flatnonzero(np.diff(csr_array(left[:, n:]).indptr))
        if not np.diff(matrix.indptr)[following].any():
            plain = csr_array(left[:, :n])
            return narrow(_congruent(matrix, plain, self.independent))
        order = np.argsort(left[following].indices)
        places = np.concatenate([self.independent, following[order]])
        return Following(narrow(_congruent(matrix, left, places)), rows)

    def __getstate__(self) -> dict[str, Any]:
        """Without its factorisation, which cannot be copied."""
        return {name: value for name, value in self.__dict__.items() if name != "_normal"}

    @cached_property
    def _normal(self) -> Any:
        from scipy.sparse.linalg import splu

        gram = (self.rows @ self.rows.T).tocsc()
        ridge = 1e-10 * float(gram.diagonal().max()) if self.redundant else 0.0
        if ridge:
            gram = gram + ridge * eye_array(gram.shape[0], format="csc")
        return splu(csc_array(gram)), ridge

    def forces(self, unbalanced: Floats) -> Floats:
        """Multipliers λ with Cᵀ λ = f, for f of shape (dofs,) or (dofs, columns), in N and N m."""
        if self.rows.shape[0] == 0:
            return np.zeros((0, *unbalanced.shape[1:]))
        factor, ridge = self._normal
        right = self.rows @ unbalanced
        result = factor.solve(right)
        for _ in range(3 if ridge else 1):  # refinement; with a ridge it converges to the least norm
            result = result + factor.solve(right - self.rows @ (self.rows.T @ result))
        return result

    def enforced(self, values: Floats) -> Floats:
        """A motion u with C u = values, of least norm: shape (constraints,) to (dofs,).

        Any such motion serves as the part that supports impose; the independent dofs answer for the rest.
        """
        return np.asarray(self.rows.T @ self._solved(values))

    def _solved(self, values: Floats) -> Floats:
        factor, ridge = self._normal
        result = factor.solve(values)
        for _ in range(6 if ridge else 1):
            result = result + factor.solve(values - self.rows @ (self.rows.T @ result))
        return np.asarray(result)


def _congruent(matrix: csr_array, T: csr_array, own: Ints) -> csr_array:
    """Tᵀ A T, where T has a single 1 in the rows `own`, one for each column: these keep their numbers."""
    kept = np.zeros(T.shape[0], dtype=bool)
    kept[own] = True
    rows = np.diff(T.indptr)
    if (rows[own] != 1).any():
        return csr_array(T.T @ matrix @ T)
    result = csr_array(csr_array(matrix[own])[:, own])
    result.sort_indices()
    following = np.flatnonzero(~kept & (rows > 0))
    if len(following) == 0:
        return result
    D = csr_array(T[following])
    across = csr_array(matrix[following])
    coupled = csr_array(D.T @ across[:, own])
    among = csr_array(D.T @ across[:, following] @ D)
    return csr_array(result + (coupled + coupled.T + (among + among.T) * 0.5))


def eliminate(size: int, active: NDArray[np.bool_], equations: list[Equation]) -> Constraints:
    """Eliminate dependent dofs.

    Raises
    ------
    ConstraintError
        When explicit rows depend on one another in a circle.
    """
    owners: dict[str, slice] = {}
    all_rows: list[csr_array] = []
    first: list[NDArray[np.int64]] = []
    explicit: list[csr_array] = []
    later: list[csr_array] = []
    later_owner: list[str] = []
    owner_of = np.full(size, -1)
    taken = np.zeros(size, dtype=bool)
    count = 0
    for number, eq in enumerate(equations):
        n = len(eq.dependent)
        own = csr_array((np.ones(n), (np.arange(n), eq.dependent)), shape=(n, size))
        row = csr_array(own - eq.masters)
        all_rows.append(row)
        owners[eq.owner] = slice(count, count + n)
        count += n
        clash = taken[eq.dependent]
        if n and len(np.unique(eq.dependent)) < n:
            seen = np.zeros(n, dtype=bool)
            seen[np.unique(eq.dependent, return_index=True)[1]] = True
            clash |= ~seen
        if clash.any():
            later.append(row[np.flatnonzero(clash)])
            later_owner += [eq.owner] * int(clash.sum())
        good = np.flatnonzero(~clash)
        taken[eq.dependent[good]] = True
        owner_of[eq.dependent[good]] = number
        first.append(eq.dependent[good])
        explicit.append(csr_array(eq.masters[good]))
    C = csr_array(vstack(all_rows)) if all_rows else csr_array((0, size))
    dependent = np.concatenate(first) if first else np.zeros(0, dtype=np.int64)
    A = csr_array(vstack(explicit)) if explicit else csr_array((0, size))
    A = _resolve_chains(size, dependent, A, owner_of, equations)
    base = diags_array((active & ~taken).astype(float)).tocsr()
    place = csr_array((np.ones(len(dependent)), (dependent, np.arange(len(dependent)))), (size, len(dependent)))
    T = csr_array(base + place @ A)
    redundant: tuple[str, ...] = ()
    if later:
        T, redundant = _solve_remaining(T, csr_array(vstack(later)), later_owner, active & ~taken)
        kept = np.asarray(abs(T).sum(axis=0)).ravel() > 0
    else:
        kept = active & ~taken
    independent = np.flatnonzero(kept)
    T = csr_array(T.tocsc()[:, independent])
    T.eliminate_zeros()
    return Constraints(narrow(C), narrow(T), owners, independent, redundant)


def _resolve_chains(size: int, dependent: Ints, A: csr_array, owner_of: Ints, equations: list[Equation]) -> csr_array:
    """Substitute dependent dofs into one another until only independent ones are on the right."""
    if A.shape[0] == 0:
        return A
    chained = np.zeros(size, dtype=bool)
    chained[dependent] = True
    link = csr_array((np.ones(len(dependent)), (dependent, np.arange(len(dependent)))), (size, len(dependent)))
    for _ in range(_CHAIN_LIMIT):
        used = np.unique(A.indices[A.data != 0.0])
        used = used[chained[used]]
        if len(used) == 0:
            return A
        stay = A @ diags_array((~chained).astype(float))
        through = A @ diags_array(chained.astype(float))
        A = csr_array(stay + through @ (link @ A))
        A.eliminate_zeros()
    graph = csr_array((size, size)) + link @ A
    _, label = connected_components(graph, directed=True, connection="strong")
    counts = np.bincount(label[dependent], minlength=label.max() + 1)
    loop = dependent[counts[label[dependent]] > 1]
    names = sorted({equations[owner_of[d]].owner for d in (loop if len(loop) else dependent)})
    raise ConstraintError(
        f"these connections go round in a circle, each following the next: {', '.join(names)}. "
        "Turn one of them round, or leave one out"
    )


def _solve_remaining(
    T: csr_array, rows: csr_array, owners: list[str], independent: NDArray[np.bool_]
) -> tuple[csr_array, tuple[str, ...]]:
    """Impose rows that fall on dofs already dependent; returns the new T and owners of redundant rows."""
    G = csr_array(rows @ T)
    G.data[np.abs(G.data) < 1e-12] = 0.0
    G.eliminate_zeros()
    columns = np.unique(G.indices)
    if len(columns) == 0:
        return T, tuple(dict.fromkeys(owners))
    dense = G[:, columns].toarray()
    size = np.linalg.norm(dense, axis=1, keepdims=True)
    dense = dense / np.where(size > 0, size, 1.0)
    _, R, pivots = scipy.linalg.qr(dense, mode="economic", pivoting=True)
    diagonal = np.abs(np.diag(R))
    rank = int((diagonal > 1e-9 * max(diagonal[0], 1e-300)).sum())
    gone, stay = columns[pivots[:rank]], columns[pivots[rank:]]
    weights = -scipy.linalg.solve_triangular(R[:rank, :rank], R[:rank, rank:])
    weights[np.abs(weights) < 1e-13] = 0.0
    total = T.shape[1]
    keep = independent.astype(float)
    keep[gone] = 0.0
    gone_to_stay = csr_array((weights.ravel(), (np.repeat(gone, len(stay)), np.tile(stay, rank))), shape=(total, total))
    step = diags_array(keep).tocsr() + gone_to_stay
    redundant: tuple[str, ...] = ()
    if rank < len(owners):
        _, _, row_pivots = scipy.linalg.qr(dense.T, mode="economic", pivoting=True)
        redundant = tuple(dict.fromkeys(owners[i] for i in sorted(row_pivots[rank:])))
    return csr_array(T @ step), redundant
