"""All eigenpairs of K x = λ M x: by dense matrices, or by the flexibility between the few dofs that have mass.

Motions without mass follow the others statically (Guyan 1965, exact where there is no mass), so that a singular M
leaves exactly its finite eigenvalues, rank(M) of them. Low eigenvalues of a wide spectrum are taken from the inverse,
high ones from the matrix itself, so that both keep their digits.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
import scipy.linalg
from numpy.typing import NDArray
from scipy.sparse import csr_array

from holokine.errors import SolverError
from holokine.sizes import available_memory
from holokine.solvers.factor import factorise

if TYPE_CHECKING:
    from holokine.arrays import Floats

__all__ = ["LU", "NOT_DEFINITE", "IndefiniteError", "affordable", "all_pairs", "condensed", "polished"]


class IndefiniteError(SolverError):
    """K is not positive semi-definite: no other way would help."""


NOT_DEFINITE = "the stiffness matrix is not positive semi-definite: a preload beyond buckling?"
_ZERO = 1e-13  # of the mass of a motion: below, it is rounding
_ROUGH, _MOST = 1e-10, 100  # residual from which on a pair is polished, and how many are
_WIDE = 0.1  # lowest over largest eigenvalue, from which on the inverse is asked too


class LU:
    """A dense matrix by LAPACK's LU, which warns of nothing: `diagonal` tells how near to singular it is."""

    def __init__(self, A: Floats) -> None:
        self._factor = scipy.linalg.lapack.dgetrf(A)[:2]

    @property
    def diagonal(self) -> Floats:
        """Sizes of the pivots, shape (n,)."""
        return np.asarray(np.abs(np.diag(self._factor[0])))

    def solve(self, right: Floats) -> Floats:
        """Solve for one column, shape (n,), or several, shape (n, columns); not finite where singular."""
        with np.errstate(all="ignore"):
            return np.asarray(scipy.linalg.lapack.dgetrs(*self._factor, right)[0]).reshape(right.shape)


def affordable(n: int, most: int = 20_000) -> bool:
    """Whether dense matrices of this size fit into the memory that is free."""
    free = available_memory()
    return n <= most and (free is None or 56.0 * n * n < 0.8 * free)


def all_pairs(K: csr_array, M: csr_array, free: Floats) -> tuple[Floats, Floats]:
    """All finite eigenpairs, rising: values in rad²/s², vectors as columns.

    Parameters
    ----------
    free : ndarray, shape (unknowns, dofs)
        M-orthonormal vectors with K x = 0, which are given back as they are.

    Raises
    ------
    SolverError
        When K is not positive semi-definite, or dofs without mass are not held.
    """
    full, mass = K.toarray(), M.toarray()
    diagonal = np.diag(mass)
    massive = diagonal > _ZERO * diagonal.max()
    root = np.sqrt(diagonal[massive])
    scaled = mass[np.ix_(massive, massive)] / np.outer(root, root)
    weights = np.ones(len(root))
    back = np.zeros((len(diagonal), len(root)))  # u = back y + what has no mass
    try:  # triangular, so that motions far apart stay apart
        low = np.linalg.cholesky(scaled)
        sound = len(low) == 0 or float(np.diag(low).min()) > 1e-4
    except np.linalg.LinAlgError:
        sound = False
    if sound:
        back[massive] = scipy.linalg.solve_triangular(low, np.diag(1.0 / root), lower=True).T
    else:
        weights, turn = np.linalg.eigh(scaled)
        back[massive] = turn / root[:, None]
    if not sound and (pairs := _by_flexibility(full, mass, free, weights)) is not None:
        return pairs
    heavy = weights > _ZERO * max(float(weights.max()), 1.0) * len(weights)
    light = np.hstack([np.eye(len(diagonal))[:, ~massive], back[:, ~heavy]])
    heavier = back[:, heavy] / np.sqrt(weights[heavy])
    A, follow = heavier.T @ full @ heavier, np.zeros((light.shape[1], heavier.shape[1]))
    if light.shape[1]:
        size = np.sqrt(np.maximum(np.einsum("ij,ij->j", light, full @ light), 1e-300))
        light = light / size
        inner, cross = light.T @ full @ light, light.T @ full @ heavier
        try:
            follow = -scipy.linalg.cho_solve(scipy.linalg.cho_factor(inner), cross)
        except np.linalg.LinAlgError:
            raise SolverError(
                "degrees of freedom without mass are not held, or resist negatively: they have no frequency"
            ) from None
        A = A + cross.T @ follow
    A = (A + A.T) / 2.0
    r = free.shape[1]
    if r:  # rigid-body motions are moved above everything and dropped there
        Q = np.linalg.qr(heavier.T @ (mass @ free))[0]
        A -= Q @ (Q.T @ A)
        A -= (A @ Q) @ Q.T
        A += 3.0 * np.linalg.norm(A, 2) * (Q @ Q.T)
    values, Y = scipy.linalg.eigh((A + A.T) / 2.0, driver="evd")
    values, Y = _low_ones_refined(A, values, Y)
    values, Y = values[: len(values) - r], Y[:, : Y.shape[1] - r]
    X = heavier @ Y + light @ (follow @ Y)
    return np.concatenate([np.zeros(r), values]), np.hstack([free, X])


def _by_flexibility(K: Floats, M: Floats, free: Floats, weights: Floats) -> tuple[Floats, Floats] | None:
    """All finite pairs from M x = μ K x by Cholesky of K, which asks for no null space of M.

    None where K is not definite, or the finite ones do not stand clear of the rounding that the others become.
    """
    r = free.shape[1]
    carried = M @ free
    diagonal = np.diag(M)
    lifted = 4.0 * float(np.max(np.diag(K)[diagonal > 0] / diagonal[diagonal > 0], initial=0.0))
    full = K + lifted * (carried @ carried.T)
    size = np.sqrt(np.maximum(np.diag(full), 1e-300))
    try:
        low = np.linalg.cholesky(full / np.outer(size, size))
    except np.linalg.LinAlgError:
        return None
    W = scipy.linalg.solve_triangular(low, np.diag(1.0 / size), lower=True)  # Wᵀ W is the inverse
    mu, Z = scipy.linalg.eigh(W @ M @ W.T, driver="evd")
    mu, Z = mu[::-1], Z[:, ::-1]
    rank = int((weights > _ZERO * float(weights.max()) * len(weights)).sum())
    rest = float(np.abs(mu[rank:]).max(initial=0.0))
    if rank == 0 or mu[rank - 1] < 1e3 * rest:
        return None
    X = (W.T @ Z[:, :rank]) / np.sqrt(mu[:rank])
    elastic = np.ones(rank, dtype=bool)
    if r:
        elastic[np.argsort(-np.linalg.norm(carried.T @ X, axis=0), kind="stable")[:r]] = False
    values, X = 1.0 / mu[:rank][elastic], X[:, elastic]
    order = np.argsort(values, kind="stable")
    return np.concatenate([np.zeros(r), values[order]]), np.hstack([free, X[:, order]])


def polished(A: csr_array, B: csr_array, values: Floats, X: Floats, off: Floats) -> tuple[Floats, Floats]:
    """Pairs whose residual (`off`) is larger than it should be, by steps of inverse iteration at their eigenvalue.

    Parameters
    ----------
    A, B : sparse array
        Stiffness and mass.
    """
    bad = np.flatnonzero(off > _ROUGH)[:_MOST]
    if not len(bad):
        return values, X
    K, M = A.toarray(), B.toarray()
    values, X = values.copy(), X.copy()
    groups = np.split(bad, np.flatnonzero(np.diff(values[bad]) > 1e-6 * np.abs(values[bad][1:])) + 1)
    for group in groups:
        shift = float(values[group].mean()) * (1.0 + 1e-9)
        scale = np.sqrt(np.maximum(np.abs(np.diag(K)) + abs(shift) * np.diag(M), 1e-300))
        factor = LU((K - shift * M) / np.outer(scale, scale))
        for _ in range(2):
            Z = factor.solve((M @ X[:, group]) / scale[:, None]) / scale[:, None]
            if not np.isfinite(Z).all():
                break
            gram = Z.T @ (M @ Z)
            try:
                X[:, group] = scipy.linalg.solve_triangular(np.linalg.cholesky(gram), Z.T, lower=True).T
            except np.linalg.LinAlgError:
                break
        own = X[:, group]
        lam, turn = scipy.linalg.eigh(own.T @ (K @ own), driver="evd")
        values[group], X[:, group] = lam, own @ turn
    return values, X


def _low_ones_refined(A: Floats, values: Floats, Y: Floats) -> tuple[Floats, Floats]:
    """Eigenpairs of a wide spectrum: below the geometric middle from A⁻¹ = Wᵀ W, as Wᵀ z with W Wᵀ z = z / λ."""
    if not len(values) or values[0] > _WIDE * values[-1]:
        return values, Y
    size = np.sqrt(np.maximum(np.diag(A), 1e-300))
    try:
        low = np.linalg.cholesky(A / np.outer(size, size))
    except np.linalg.LinAlgError:
        if values[0] < -1e-12 * values[-1]:
            raise IndefiniteError(NOT_DEFINITE) from None
        return values, Y
    W = scipy.linalg.solve_triangular(low, np.diag(1.0 / size), lower=True)
    inverse, Z = scipy.linalg.eigh(W @ W.T, driver="evd")
    inverse, Z = inverse[::-1], Z[:, ::-1]
    middle = 1.0 / np.sqrt(inverse[0] / max(float(values[-1]), 1e-300))
    part = int((1.0 / np.maximum(inverse, 1e-300) < middle).sum())
    values, Y = values.copy(), Y.copy()
    values[:part] = 1.0 / inverse[:part]
    Y[:, :part] = (W.T @ Z[:, :part]) / np.sqrt(inverse[:part])
    order = np.argsort(values, kind="stable")
    return values[order], Y[:, order]


def condensed(K: csr_array, M: csr_array, free: Floats, massive: NDArray[Any]) -> tuple[Floats, Floats]:
    """All finite eigenpairs where few dofs have mass, from K⁻¹ between them, rising.

    With x = (K - σM)⁻¹ M x / θ, λ = σ + 1/θ, only the columns of the motions with mass are solved for.
    """
    n, r = K.shape[0], free.shape[1]
    diagonal = M.diagonal()
    scale = float(np.max(K.diagonal()[massive] / diagonal[massive], initial=1e-30))
    shift = -1e-9 * scale if r else 0.0
    factor = factorise(csr_array(K - shift * M))
    if factor.negative:
        raise IndefiniteError(f"{NOT_DEFINITE} ({factor.negative} negative pivots)")
    unit = np.zeros((n, len(massive)))
    unit[massive, np.arange(len(massive))] = 1.0
    flexible = np.asarray(factor.solve(unit))
    mass = M[massive][:, massive].toarray()
    weights, turn = np.linalg.eigh(mass)
    heavy = weights > _ZERO * len(weights) * float(weights.max())
    L = turn[:, heavy] * np.sqrt(weights[heavy])
    F = L.T @ flexible[massive] @ L
    if r:
        Q = np.linalg.qr(L.T @ free[massive])[0]
        F -= Q @ (Q.T @ F)
        F -= (F @ Q) @ Q.T
    theta, Y = scipy.linalg.eigh((F + F.T) / 2.0, driver="evd")
    theta, Y = theta[::-1], Y[:, ::-1]
    theta, Y = theta[: len(theta) - r], Y[:, : Y.shape[1] - r]
    X = flexible @ (L @ Y)
    X /= np.sqrt(np.maximum(np.einsum("ij,ij->j", X, M @ X), 1e-300))
    return np.concatenate([np.zeros(r), shift + 1.0 / theta]), np.hstack([free, X])
