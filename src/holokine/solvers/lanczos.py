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
        Eigenvalues of A that were wanted, in the order of wanting.
    vectors : ndarray, shape (unknowns, pairs)
        M-orthonormal.
    errors : ndarray, shape (pairs,)
        Bound of each error in θ, relative to θ.
    following : ndarray
        Unconverged estimates of further eigenvalues of A.
    guard : ndarray, shape (unknowns, some)
        Ritz vectors of the first of those.
    steps, solves : int
        Block steps, and columns solved for.
    converged : bool
        Whether all that were wanted came below the tolerance.
    """

    theta: Floats
    vectors: Floats
    errors: Floats
    following: Floats
    guard: Floats
    steps: int
    solves: int
    converged: bool = True


def block_lanczos(
    solve: Callable[[Floats], Floats],
    M: csr_array,
    wanted: Callable[[Floats], int],
    *,
    block: int,
    most: int,
    order: Callable[[Floats], Floats] | None = None,
    locked: Floats | None = None,
    start: Floats | None = None,
    seed: int = 0,
    tolerance: float = TOLERANCE,
    guard: int = 0,
    progress: Callable[[int, int], None] | None = None,
) -> RitzPairs:
    """Find eigenpairs of A = solve(M ·).

    Parameters
    ----------
    solve : callable
        (K - σM)⁻¹ on a block of columns.
    wanted : callable
        Given all Ritz values in their order, says how many of the first are wanted.
    block : int
        Columns per step; may shrink where directions run out.
    most : int
        Largest basis before a restart.
    order : callable, optional
        Keys by which Ritz values are wanted, smallest first; largest magnitude first when left out.
    locked : ndarray, shape (unknowns, found), optional
        M-orthonormal vectors to stay orthogonal to.
    start : ndarray, shape (unknowns, columns), optional
        Start vectors; random ones are added up to `block`.
    guard : int
        How many further Ritz vectors to return.
    progress : callable, optional
        Called with (converged, wanted) after every step.
    """
    n = M.shape[0]
    rng = np.random.default_rng(seed)
    L = locked if locked is not None else np.zeros((n, 0))
    room = n - L.shape[1]
    key = order if order is not None else _largest_first
    Q = np.zeros((n, 0)) if start is None else start
    if Q.shape[1] < block:
        Q = np.hstack([Q, rng.standard_normal((n, block - Q.shape[1]))])
    block = Q.shape[1]
    most = min(max(most, 3 * block), room)
    V = np.empty((n, most + block), order="F")
    T = np.zeros((most + block, most + block))
    Q, MQ, _, _ = _orthonormal(solve(M @ Q), M, L, V[:, :0])
    size, solves, steps = 0, block, 0
    last_converged, stalled = -1, 0
    while True:
        width = Q.shape[1]
        if width == 0:  # an invariant subspace: everything that these vectors can reach is found
            theta, S = _sorted_pairs(T[:size, :size], key)
            return _pairs(V, theta, S, size, None, np.zeros((0, size)), size, steps, solves, 0, True)
        V[:, size : size + width] = Q
        W = solve(MQ)
        solves += width
        steps += 1
        old, size = size, size + width
        Q, MQ, R, H = _orthonormal(W, M, L, V[:, :size])
        T[:size, old:size] = H
        T[old:size, :old] = H[:old].T
        T[old:size, old:size] = (H[old:] + H[old:].T) / 2.0
        theta, S = _sorted_pairs(T[:size, :size], key)
        rest = R @ S[old:size]
        errors = np.linalg.norm(rest, axis=0)
        good = errors <= tolerance * np.abs(theta)
        need = min(wanted(theta), room)
        converged = int(np.argmin(good)) if not good.all() else len(good)
        if progress is not None:
            progress(min(converged, need), need)
        exhausted = size >= room or Q.shape[1] == 0
        done = converged >= need and need <= size - min(width, 1)
        stalled = stalled + 1 if converged <= last_converged else 0
        last_converged = max(converged, last_converged)
        endless = solves > 16 * max(need, 1) + 80 * block  # ordinary problems take two or three columns per pair
        if done or exhausted or stalled > 60 or endless:
            have = need if done else min(need, size) if exhausted else converged
            return _pairs(V, theta, S, size, Q, rest, have, steps, solves, guard, done or exhausted)
        if size + Q.shape[1] > most:
            keep = max(min(max(need + block, (size + need) // 2), size - block), 1)
            V[:, :keep] = (S[:, :keep].T @ V[:, :size].T).T
            T[:] = 0.0
            T[range(keep), range(keep)] = theta[:keep]
            size = keep
            T[size : size + Q.shape[1], :size] = rest[:, :keep]
            T[:size, size : size + Q.shape[1]] = rest[:, :keep].T


def _largest_first(theta: Floats) -> Floats:
    return -np.abs(theta)


def _sorted_pairs(T: Floats, key: Callable[[Floats], Floats]) -> tuple[Floats, Floats]:
    # divide and conquer: the default driver can end in an internal error where eigenvalues repeat a hundred times
    theta, S = scipy.linalg.eigh((T + T.T) / 2.0, driver="evd")
    order = np.argsort(key(theta), kind="stable")
    return theta[order], S[:, order]


def _pairs(
    V: Floats, theta: Floats, S: Floats, size: int, Q: Floats | None, rest: Floats, count: int,
    steps: int, solves: int, guard: int, converged: bool,
) -> RitzPairs:  # fmt: skip
    total = min(count + guard, size)
    X = (S[:, :total].T @ V[:, :size].T).T
    if Q is not None and Q.shape[1]:
        safe = np.where(theta[:total] != 0.0, theta[:total], 1.0)
        X += ((rest[:, :total] / safe).T @ Q.T).T
    errors = np.linalg.norm(rest, axis=0)[:count] / np.maximum(np.abs(theta[:count]), 1e-300)
    return RitzPairs(
        theta[:count], X[:, :count], errors, theta[count:], X[:, count:], steps, solves, converged
    )  # fmt: skip


def _orthonormal(W: Floats, M: csr_array, L: Floats, V: Floats) -> tuple[Floats, Floats, Floats, Floats]:
    """Q, M Q, R and H with W = V H + Q R (what lies along locked vectors is dropped), QᵀMQ = 1, VᵀMQ = 0.

    Twice is enough (Parlett): the second pass takes away what rounding left of the first; a third follows where
    that was not small, or where the block was nearly dependent. Directions without length in M are dropped, so
    the block may shrink. Columns are contiguous throughout.
    """
    width = W.shape[1]
    H = np.zeros((V.shape[1], width))
    R = np.eye(width)
    largest, dependent = 0.0, False
    MW = _times(M, W)
    for turn in range(4):
        before = np.sqrt(np.maximum(np.einsum("ij,ij->j", W, MW), 1e-300))
        left = 0.0
        for basis in (L, V):
            if basis.shape[1]:
                part = basis.T @ MW
                W = W - (part.T @ basis.T).T
                left = max(left, float((np.abs(part) / before).max()))
                if basis is V:
                    H += part @ R
        if turn == 0 or left > 1e-13:
            MW = _times(M, W)
        if turn == 0 and (L.shape[1] or V.shape[1]):
            largest = float(before.max())
            continue
        G = W.T @ MW
        if largest == 0.0:
            largest = float(before.max())
        values, vectors = scipy.linalg.eigh((G + G.T) / 2.0, driver="evd")
        keep = values > max((1e-13 * largest) ** 2, 1e-300)
        if not keep.any():
            return W[:, :0], W[:, :0], np.zeros((0, width)), H
        root = np.sqrt(values[keep])
        dependent = values[keep][0] < 1e-8 * values[-1]
        change = (vectors[:, keep] / root).T
        W, MW = (change @ W.T).T, (change @ MW.T).T
        R = (vectors[:, keep] * root).T @ R
        largest = 1.0
        if not dependent and left < 1e-10:
            break
    return W, MW, R, H


def _times(M: csr_array, W: Floats) -> Floats:
    return np.asfortranarray(M @ np.ascontiguousarray(W))
