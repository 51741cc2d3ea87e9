"""Vectors that a stiffness matrix does not resist."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from scipy.sparse import csr_array, diags_array, eye_array

from holokine.solvers.factor import Factor, factorise
from holokine.system.wide import Matrix, explicit, magnitude

if TYPE_CHECKING:
    from holokine.arrays import Floats

__all__ = ["all_resisted", "unresisted"]

_SHIFT = 1e-11
_NOISE = 3e-14
_NEAR = 1e-11
_BARE = 5e-15  # of the largest number on the diagonal: what is smaller may be all that rounding left
_NOTHING = 1e-17  # of a matrix of unit diagonal: what a null vector keeps where nothing cancels


def unresisted(K: Matrix, *, most: int = 12, seed: int = 0) -> tuple[Floats, Floats]:
    """Vectors x with K x = 0 to rounding, at most `most` of them, and others that K resists little.

    Block inverse iteration on D K D with D = diag(K)^-1/2, followed by a Rayleigh-Ritz step; a vector counts
    when its energy xᵀ K x is rounding noise against |x|ᵀ |K| |x|.

    Returns
    -------
    free, others : ndarray, shape (vectors, unknowns)
    """
    n = K.shape[0]
    if n == 0:
        return np.zeros((0, 0)), np.zeros((0, 0))
    K = explicit(K)
    diagonal = K.diagonal()
    top = float(diagonal.max(initial=0.0))
    if top <= 0.0:
        return np.eye(n)[:most], np.zeros((0, n))
    bare = diagonal <= _BARE * top
    root = np.sqrt(np.where(bare, top, diagonal))
    D = diags_array(1.0 / root)
    A = csr_array(D @ K @ D)
    factor = factorise(csr_array(A + _SHIFT * eye_array(n)))
    count = min(most, n)
    X = np.linalg.qr(np.random.default_rng(seed).standard_normal((n, count)))[0]
    for _ in range(4):
        X = np.linalg.qr(factor.solve(X))[0]
    X = X @ np.linalg.eigh(X.T @ (A @ X))[1]
    size = np.einsum("ij,ij->j", np.abs(X), magnitude(A, X))
    energy = np.einsum("ij,ij->j", X, A @ X)
    free = np.abs(energy) <= np.maximum(_NOISE * size, _NOTHING)
    return (D @ X[:, free]).T, (D @ X[:, ~free]).T


def all_resisted(K: Matrix, factor: Factor, *, columns: int = 4, seed: int = 0) -> bool:
    """Whether K resists every vector, by its own factor and one step of inverse iteration.

    A vector that nothing resists (energy below 3e-14 of |x|ᵀ |K| |x|) outgrows in this step all whose energy is a
    thousand times larger; False means that `unresisted` has to look closer.
    """
    diagonal = K.diagonal()
    if K.shape[0] == 0 or factor.perturbed or factor.negative:
        return False
    if not (diagonal > _BARE * diagonal.max()).all():
        return False
    scale = 1.0 / np.sqrt(diagonal)[:, None]
    X = np.random.default_rng(seed).standard_normal((K.shape[0], min(columns, K.shape[0])))
    X = np.asarray(factor.solve(X / scale)) / scale
    if not np.isfinite(X).all():
        return False
    X = np.linalg.qr(X)[0] * scale
    X = X @ np.linalg.eigh(X.T @ (K @ X))[1]
    size = np.einsum("ij,ij->j", np.abs(X), magnitude(K, X))
    return bool((np.einsum("ij,ij->j", X, K @ X) > _NEAR * size).all())
