"""Eigenpairs of K x = λ M x: dense for small problems, sparse shift-and-invert for larger ones."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import scipy.linalg
from numpy.typing import NDArray
from scipy.sparse import csr_array
from scipy.sparse.linalg import ArpackNoConvergence, LinearOperator, eigsh

from holokine.errors import SolverError
from holokine.solvers.factor import factorise

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
    return values[:number], vectors, "dense LAPACK (small problem)", number


def _sparse(
    K: csr_array, M: csr_array, shift: float, count: int | None, upto: float | None, seed: int
) -> tuple[Floats, Floats, str, int | None]:
    n = K.shape[0]
    factor = factorise(csr_array(K - shift * M))
    below = None
    if upto is not None:
        below = factorise(csr_array(K - upto * M)).negative
    need = count if count is not None else (below if below is not None else 20)
    if below is not None:
        need = min(need, below)
    if need == 0:
        return np.zeros(0), np.zeros((0, n)), factor.method, 0
    start = np.random.default_rng(seed).standard_normal(n)
    operator = LinearOperator((n, n), matvec=factor.solve, dtype=float)
    while True:
        k = min(need + 2, n - 1)
        try:
            values, X = eigsh(K, k=k, M=M, sigma=shift, OPinv=operator, v0=start, ncv=min(n, 2 * k + 20))
        except ArpackNoConvergence as err:
            raise SolverError(
                f"the eigenvalue extraction did not converge: {len(err.eigenvalues)} of {k} modes found"
            ) from None
        order = np.argsort(values)
        values, X = values[order], X[:, order]
        enough = count is not None or below is not None or upto is None or values[-1] > upto
        if enough or k >= n - 1:
            break
        need *= 2
    number = _wanted(values, count, upto)
    method = f"shift-invert Lanczos (ARPACK), {factor.method}"
    return values[:number], X[:, :number].T, method, below


def _finished(
    K: csr_array, M: csr_array, values: Floats, vectors: Floats, method: str, exists: int | None
) -> EigenPairs:
    X = vectors.T
    KX, MX = K @ X, M @ X
    norm = np.sqrt(np.maximum(np.einsum("ij,ij->j", X, MX), 1e-300))
    X, KX, MX = X / norm, KX / norm, MX / norm
    size = np.linalg.norm(abs(K) @ np.abs(X), axis=0) + np.abs(values) * np.linalg.norm(abs(M) @ np.abs(X), axis=0)
    residuals = np.linalg.norm(KX - MX * values, axis=0) / np.maximum(size, 1e-300)
    gram = X.T @ MX
    loss = float(np.abs(gram - np.eye(len(values))).max(initial=0.0))
    return EigenPairs(values, np.ascontiguousarray(X.T), residuals, loss, method, exists)
