"""Eigenpairs of K x = λ M x: dense for small problems, shifted block Lanczos with proof by inertia for larger ones."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
import scipy.linalg
from numpy.typing import NDArray
from scipy.sparse import csr_array

from holokine.errors import SolverError
from holokine.solvers.factor import Factor, factorise
from holokine.solvers.lanczos import RitzPairs, block_lanczos

__all__ = ["EigenPairs", "lowest_pairs"]

Floats = NDArray[Any]  # float64
DENSE_SIZE = 1500


@dataclass(frozen=True)
class EigenPairs:
    """Eigenpairs with rising eigenvalues.

    Attributes
    ----------
    values : ndarray, shape (pairs,)
        λ in rad²/s².
    vectors : ndarray, shape (pairs, unknowns)
        Rows with xᵀ M x = 1.
    residuals : ndarray, shape (pairs,)
        Backward error ‖K x - λ M x‖ / (‖ |K| |x| ‖ + |λ| ‖ |M| |x| ‖).
    orthogonality : float
        Largest entry of |Xᵀ M X - I|.
    method : str
        Which solver ran and why.
    exists_below : int or None
        Number of eigenvalues below the upper bound or the highest found, by inertia; None where unknown.
    """

    values: Floats
    vectors: Floats
    residuals: Floats
    orthogonality: float
    method: str
    exists_below: int | None


def lowest_pairs(
    K: csr_array, M: csr_array, *, count: int | None, upto: float | None, rigid: int = 0, seed: int = 0
) -> EigenPairs:
    """The lowest eigenpairs: `count` of them, all with λ <= `upto`, or what comes first of both.

    `rigid`: how many rigid-body modes (λ = 0) are expected; K is then factorised with a negative shift of the
    size of the first elastic eigenvalue.

    Raises
    ------
    SolverError
        No unknowns, no mass, or no convergence.
    """
    n = K.shape[0]
    if n == 0:
        raise SolverError("nothing is free to move: every motion is held")
    diagonal_m = M.diagonal()
    if not (diagonal_m > 0).any():
        raise SolverError("nothing that is free to move has mass")
    scale = float(np.max(K.diagonal()[diagonal_m > 0] / diagonal_m[diagonal_m > 0], initial=1e-30))
    shift = 0.0
    if rigid:
        solve = _dense if n <= DENSE_SIZE else _sparse
        rough, *_ = solve(K, M, -1e-9 * max(scale, 1e-20), min(rigid + 1, n), None, seed)
        elastic = rough[rigid:]
        shift = -0.5 * float(elastic[0]) if len(elastic) and elastic[0] > 0 else -1e-9 * max(scale, 1e-20)
    if n <= DENSE_SIZE:
        values, vectors, method, exists = _dense(K, M, shift, count, upto, seed)
    else:
        values, vectors, method, exists = _sparse(K, M, shift, count, upto, seed)
    return _finished(K, M, values, vectors, method, exists)


def _wanted(values: Floats, count: int | None, upto: float | None) -> int:
    number = len(values) if upto is None else int(np.searchsorted(values, upto, side="right"))
    return number if count is None else min(number, count)


def _dense(
    K: csr_array, M: csr_array, shift: float, count: int | None, upto: float | None, seed: int
) -> tuple[Floats, Floats, str, int | None]:
    """M may be singular: μ = 1 / (λ - σ) of M x = μ (K - σM) x, largest first."""
    A = (K - shift * M).toarray()
    B = M.toarray()
    try:
        mu, X = scipy.linalg.eigh(B, A)
    except np.linalg.LinAlgError:
        raise SolverError("the stiffness matrix is not positive semi-definite: a preload beyond buckling?") from None
    order = np.argsort(mu)[::-1]
    finite = order[mu[order] > 1e-14 * mu[order[0]]]
    values = 1.0 / mu[finite] + shift
    number = _wanted(values, count, upto)
    vectors = X[:, finite[:number]].T / np.sqrt(mu[finite[:number]])[:, None]
    exists = number
    while 0 < exists < len(values) and values[exists] - values[exists - 1] < 1e-6 * abs(values[exists]):
        exists += 1  # repeated ones that the count cuts off
    return values[:number], vectors, "dense LAPACK (small problem)", exists


def _sparse(
    K: csr_array, M: csr_array, shift: float, count: int | None, upto: float | None, seed: int
) -> tuple[Floats, Floats, str, int | None]:
    """Shifted block Lanczos, then the inertia above the highest pair as proof; repairs what is missing."""
    n = K.shape[0]
    factor = factorise(csr_array(K - shift * M))
    if factor.negative and shift <= 0.0:
        raise SolverError(
            f"the stiffness matrix is not positive semi-definite ({factor.negative} negative pivots): "
            "a preload beyond buckling?"
        )
    exists = None
    if upto is not None:
        exists = factorise(csr_array(K - upto * (1.0 + 1e-12) * M)).negative
        if exists == 0:
            return np.zeros(0), np.zeros((0, n)), factor.method, 0
    goal = count if exists is None else exists if count is None else min(count, exists)

    def wanted(theta: Floats) -> int:
        """One more than asked for, so that the next one is known and a repeated one is not cut."""
        if goal is not None:
            return goal if goal == exists else goal + 1
        limit = 1.0 / (upto - shift) if upto is not None else 0.0
        return int((theta > limit).sum()) + 1

    size = goal if goal is not None else 20
    # a solve for sixteen columns costs little more than one for eight where the factor is large
    block = 16 if n > 20_000 else int(np.clip(size // 3, 4, 16))
    most = max(2 * size + 6 * block, size + 60)
    found = _iterate(factor, M, wanted, block, most, seed)
    values, X = _ascending(found, shift)
    method = f"shifted block Lanczos, {factor.method}"
    known: int | None
    for attempt in range(4):
        number = _wanted(values, goal, upto)
        if exists is not None and (goal == exists or goal is None):
            known, limit = exists, number
        else:
            known, limit = _count_above(K, M, values, number)
        if known is None or known <= limit:
            break
        # some are missing: look again, orthogonal to all that is known, from other start vectors
        missing = known - limit
        more = block_lanczos(
            factor.solve, M, partial(_always, missing), block=max(4, missing), most=most, locked=X,
            seed=seed + 1 + attempt,
        )  # fmt: skip
        again, Y = _ascending(more, shift)
        values, X = np.concatenate([values, again]), np.concatenate([X, Y], axis=1)
        order = np.argsort(values)
        values, X = values[order], X[:, order]
    else:
        method += f"; {missing} modes that exist were not found"
    exists = known
    number = _wanted(values, goal, upto)
    return values[:number], X[:, :number].T, method, exists


def _always(number: int, _theta: Floats) -> int:
    return number


def _iterate(
    factor: Factor, M: csr_array, wanted: Callable[[Floats], int], block: int, most: int, seed: int
) -> RitzPairs:
    try:
        return block_lanczos(factor.solve, M, wanted, block=block, most=most, seed=seed)
    except RuntimeError as err:
        found: RitzPairs = err.args[1]
        raise SolverError(
            f"the eigenvalue extraction did not converge: {len(found.theta)} modes found after {found.steps} steps"
        ) from None


def _ascending(found: RitzPairs, shift: float) -> tuple[Floats, Floats]:
    values = shift + 1.0 / found.theta
    order = np.argsort(values)
    return values[order], found.vectors[:, order]


def _count_above(K: csr_array, M: csr_array, values: Floats, number: int) -> tuple[int | None, int]:
    """Modes below a shift in the gap above the wanted ones, by inertia, and how many of `values` lie there.

    The shift lies in the first gap at or after the last wanted pair that is wide enough to be told apart.
    """
    top = number
    while top < len(values) and values[top] - values[top - 1] < 1e-6 * abs(values[top]):
        top += 1
    if top < len(values):
        place = (values[top - 1] + values[top]) / 2.0
    else:
        place = values[top - 1] * (1.0 + 1e-6)
    for nudge in (0.0, 1e-7, 3e-7):
        factor = factorise(csr_array(K - place * (1.0 + nudge) * M))
        if factor.perturbed == 0:
            return factor.negative, top
    return None, top


def _finished(
    K: csr_array, M: csr_array, values: Floats, vectors: Floats, method: str, exists: int | None
) -> EigenPairs:
    X = vectors.T
    MX = M @ X
    norm = np.sqrt(np.maximum(np.einsum("ij,ij->j", X, MX), 1e-300))
    X, MX = X / norm, MX / norm
    gram = X.T @ MX
    if len(values) and np.abs(gram - np.eye(len(values))).max() > 1e-13:
        # from the lowest up (Cholesky): what rounding did to the highest of many modes is taken from them alone
        try:
            X = scipy.linalg.solve_triangular(np.linalg.cholesky(gram), X.T, lower=True).T
            MX = M @ X
        except np.linalg.LinAlgError:
            pass  # reported below as loss of orthogonality
    KX = K @ X
    size = np.linalg.norm(abs(K) @ np.abs(X), axis=0) + np.abs(values) * np.linalg.norm(abs(M) @ np.abs(X), axis=0)
    residuals = np.linalg.norm(KX - MX * values, axis=0) / np.maximum(size, 1e-300)
    gram = X.T @ MX
    loss = float(np.abs(gram - np.eye(len(values))).max(initial=0.0))
    return EigenPairs(values, np.ascontiguousarray(X.T), residuals, loss, method, exists)
