"""Shifted block Lanczos iteration with M-inner product, full reorthogonalisation, thick restart and locking.

For K x = λ M x the operator A = (K - σM)⁻¹ M is self-adjoint in the M-inner product, with eigenvalues
θ = 1 / (λ - σ) that are largest for λ next to σ (Grimes, Lewis & Simon, SIAM J. Matrix Anal. Appl. 15 (1994)
228-272; thick restart after Wu & Simon, same journal 22 (2000) 602-616). A block finds repeated eigenvalues at
once. Start vectors lie in the range of A, and so does all that follows, which is what singular M needs;
Ritz vectors are purified with the next block (Nour-Omid, Parlett, Ericsson & Jensen 1987).
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import scipy.linalg
from numpy.typing import NDArray
from scipy.sparse import csr_array

__all__ = ["RitzPairs", "block_lanczos"]

Floats = NDArray[Any]  # float64
TOLERANCE = 1e-10


@dataclass(frozen=True)
class RitzPairs:
    """What the iteration found.

    Attributes
    ----------
    theta : ndarray, shape (pairs,)
        Converged eigenvalues of A, largest magnitude first.
    vectors : ndarray, shape (unknowns, pairs)
        M-orthonormal.
    following : ndarray
        Unconverged estimates of further eigenvalues of A.
    steps, solves : int
        Block steps, and columns solved for.
    """

    theta: Floats
    vectors: Floats
    following: Floats
    steps: int
    solves: int


def block_lanczos(
    solve: Callable[[Floats], Floats],
    M: csr_array,
    wanted: Callable[[Floats], int],
    *,
    block: int,
    most: int,
    locked: Floats | None = None,
    start: Floats | None = None,
    seed: int = 0,
    tolerance: float = TOLERANCE,
    progress: Callable[[int, int], None] | None = None,
) -> RitzPairs:
    """Find eigenpairs of A = solve(M ·) of largest magnitude.

    Parameters
    ----------
    solve : callable
        (K - σM)⁻¹ on a block of columns.
    wanted : callable
        Given all Ritz values, largest magnitude first, says how many of the first are wanted.
    block : int
        Columns per step; may shrink where directions run out.
    most : int
        Largest basis before a restart.
    locked : ndarray, shape (unknowns, found), optional
        M-orthonormal vectors to stay orthogonal to.
    start : ndarray, shape (unknowns, block), optional
        Start vectors; random with `seed` when left out.
    progress : callable, optional
        Called with (converged, wanted) after every step.

    Raises
    ------
    RuntimeError
        When it does not converge; carries what did in ``args[1]``.
    """
    n = M.shape[0]
    rng = np.random.default_rng(seed)
    L = locked if locked is not None else np.zeros((n, 0))
    ML = M @ L
    room = n - L.shape[1]
    most = min(most, room)
    V = np.empty((n, most + block), order="F")
    MV = np.empty_like(V)  # kept beside V: products with M would otherwise cost more than the solves
    T = np.zeros((most + block, most + block))
    Q = start if start is not None else rng.standard_normal((n, block))
    Q = solve(M @ Q)
    Q, MQ, _ = _orthonormal(Q, M, L, ML, V[:, :0], MV[:, :0])
    size, solves, steps = 0, block, 0
    last_converged, stalled = -1, 0
    while True:
        width = Q.shape[1]
        if width == 0:  # an invariant subspace: everything that these vectors can reach is found
            theta, S = _sorted_pairs(T[:size, :size])
            return _pairs(V, theta, S, size, None, None, len(theta), steps, solves)
        V[:, size : size + width], MV[:, size : size + width] = Q, MQ
        W = solve(MQ)
        solves += width
        steps += 1
        old, size = size, size + width
        H = MV[:, :size].T @ W
        W -= V[:, :size] @ H
        T[:size, old:size] = H
        T[old:size, :old] = H[:old].T
        T[old:size, old:size] = (H[old:] + H[old:].T) / 2.0
        Q, MQ, R = _orthonormal(W, M, L, ML, V[:, :size], MV[:, :size])
        theta, S = _sorted_pairs(T[:size, :size])
        error = np.linalg.norm(R @ S[old:size], axis=0)
        good = error <= tolerance * np.abs(theta)
        need = min(wanted(theta), room)
        converged = int(np.argmin(good)) if not good.all() else len(good)
        if progress is not None:
            progress(min(converged, need), need)
        if converged >= need and need <= size - min(width, 1):
            return _pairs(V, theta, S, size, Q, R[:, :width] @ S[old:size], need, steps, solves)
        if size >= room or Q.shape[1] == 0:
            return _pairs(V, theta, S, size, None, None, min(need, len(theta)), steps, solves)
        stalled = stalled + 1 if converged <= last_converged else 0
        last_converged = max(converged, last_converged)
        if stalled > 60:
            found = _pairs(V, theta, S, size, Q, R @ S[old:size], converged, steps, solves)
            raise RuntimeError("no convergence", found)
        if size + Q.shape[1] > most:
            keep = min(max(need + block, (size + need) // 2), size - block)
            coupling = R @ S[old:size, :keep]
            V[:, :keep] = V[:, :size] @ S[:, :keep]
            MV[:, :keep] = MV[:, :size] @ S[:, :keep]
            T[:] = 0.0
            T[range(keep), range(keep)] = theta[:keep]
            size = keep
            T[size : size + Q.shape[1], :size] = coupling
            T[:size, size : size + Q.shape[1]] = coupling.T


def _sorted_pairs(T: Floats) -> tuple[Floats, Floats]:
    theta, S = scipy.linalg.eigh((T + T.T) / 2.0)
    order = np.argsort(-np.abs(theta), kind="stable")
    return theta[order], S[:, order]


def _pairs(
    V: Floats, theta: Floats, S: Floats, size: int, Q: Floats | None, rest: Floats | None, count: int,
    steps: int, solves: int,
) -> RitzPairs:  # fmt: skip
    X = V[:, :size] @ S[:, :count]
    if Q is not None and rest is not None and Q.shape[1]:
        X = X + Q @ (rest[:, :count] / theta[:count])
    return RitzPairs(theta[:count], X, theta[count:], steps, solves)


def _orthonormal(
    W: Floats, M: csr_array, L: Floats, ML: Floats, V: Floats, MV: Floats
) -> tuple[Floats, Floats, Floats]:
    """M-orthonormal basis Q of W after removing locked and basis vectors, M Q, and R with W = Q R (kept part).

    Twice is enough (Parlett): the second pass takes away what rounding left of the first. Directions without
    length in M are dropped, so the block may shrink.
    """
    R = np.eye(W.shape[1])
    largest = 0.0
    for turn in range(2):
        if L.shape[1]:
            W = W - L @ (ML.T @ W)
        if V.shape[1]:
            W = W - V @ (MV.T @ W)
        MW = M @ W
        G = W.T @ MW
        if turn == 0:
            largest = float(np.sqrt(max(G.diagonal().max(initial=0.0), 0.0)))
        values, vectors = scipy.linalg.eigh((G + G.T) / 2.0)
        keep = values > max((1e-13 * largest) ** 2, 1e-300)
        if not keep.any():
            return W[:, :0], W[:, :0], np.zeros((0, R.shape[1]))
        root = np.sqrt(values[keep])
        W, MW = W @ (vectors[:, keep] / root), MW @ (vectors[:, keep] / root)
        R = (vectors[:, keep] * root).T @ R
        largest = 1.0
    return W, MW, R
