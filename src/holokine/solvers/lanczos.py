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
from typing import TYPE_CHECKING

import numpy as np
import scipy.linalg

from holokine.errors import SolverError
from holokine.solvers.products import Symmetric, inner, subtract
from holokine.system.wide import magnitude

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.system.wide import Matrix

__all__ = ["RitzPairs", "block_lanczos"]

TOLERANCE = 1e-10
_STALE, _SMALL = 1e-14, 1e-9  # parts taken off from which M W is worked out anew, and from which a pass follows
_DEPENDENT, _ROUNDING = 1e-13, 1e-13  # of the longest of a block, and squared of its numbers: shorter ones are none
_SELDOM = 100  # vectors from which the projected problem is solved at every other step, and so on
_STRIP = 8192


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
    M: Matrix | Symmetric,
    wanted: Callable[[Floats], int],
    *,
    block: int,
    most: int,
    order: Callable[[Floats], Floats] | None = None,
    locked: Floats | None = None,
    start: Floats | None = None,
    seed: int = 0,
    tolerance: float = TOLERANCE,
    last: float | None = None,
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
    last : float, optional
        A looser tolerance for the last one wanted.
    guard : int
        How many further Ritz vectors to return.
    progress : callable, optional
        Called with (converged, wanted) after every step.
    """
    n = M.shape[0]
    times = M if isinstance(M, Symmetric) else Symmetric(M)
    rng = np.random.default_rng(seed)
    L = np.zeros((0, n)) if locked is None else np.ascontiguousarray(locked.T)
    room = n - len(L)
    key = order if order is not None else _largest_first
    Q = np.zeros((0, n)) if start is None else start.T
    if len(Q) < block:
        Q = np.vstack([Q, rng.standard_normal((block - len(Q), n))])
    block = len(Q)
    most = min(max(most, 3 * block), room)
    V = np.empty((most + block, n))
    T = np.zeros((most + 2 * block, most + 2 * block))
    Q, MQ, _, _ = _orthonormal(_rows(solve(times(Q).T)), times, L, V[:0])
    size, solves, steps, looked, wait = 0, block, 0, 0, 0
    last_converged, stalled = -1, 0
    while True:
        width = len(Q)
        if width == 0:  # an invariant subspace: everything that these vectors can reach is found
            theta, S = _sorted_pairs(T[:size, :size], key)
            return _pairs(V, theta, S, size, None, np.zeros((0, size)), size, steps, solves, 0, True)
        V[size : size + width] = Q
        W = _rows(solve(MQ.T))
        solves += width
        steps += 1
        old, size = size, size + width
        # what the recurrence says of W is taken off first: the block before (or all kept ones), and the block itself
        H = np.zeros((size, width))
        H[:old] = T[:old, old:size]
        H[old:] = inner(MQ, W)
        begin = int(np.argmax(H.any(axis=1)))
        subtract(W, H[begin:], V[begin:size])
        Q, MQ, R, part = _orthonormal(W, times, L, V[:size], float(np.sqrt((H * H).sum(axis=0).max())))
        H += part
        T[:size, old:size] = H
        T[old:size, :old] = H[:old].T
        T[old:size, old:size] = (H[old:] + H[old:].T) / 2.0
        T[size : size + len(Q), old:size] = R
        T[old:size, size : size + len(Q)] = R.T
        exhausted = size >= room or len(Q) == 0
        full = size + len(Q) > most
        # the projected problem grows with the square of the basis: it is not solved at every step of a large one
        if not (full or exhausted or steps - looked > max(size // _SELDOM, wait)):
            continue
        passed, looked = steps - looked, steps
        theta, S = _sorted_pairs(T[:size, :size], key)
        rest = R @ S[old:size]
        errors = np.linalg.norm(rest, axis=0)
        good = errors <= tolerance * np.abs(theta)
        need = min(wanted(theta), room)
        converged = int(np.argmin(good)) if not good.all() else len(good)
        wait = max(need - converged, 0) // (2 * width)  # no step brings more pairs than it has vectors
        if progress is not None:
            progress(min(converged, need), need)
        found = converged >= need or (
            last is not None and converged == min(need, size) - 1 and errors[converged] <= last * abs(theta[converged])
        )
        done = found and need <= size - min(width, 1)
        stalled = stalled + passed if converged <= last_converged else 0
        last_converged = max(converged, last_converged)
        endless = solves > 16 * max(need, 1) + 80 * block  # ordinary problems take two to four columns per pair
        if done or exhausted or stalled > 60 or endless:
            have = need if done else min(need, size) if exhausted else converged
            return _pairs(V, theta, S, size, Q, rest, have, steps, solves, guard, done or exhausted)
        if full:
            keep = max(min(max(need + block, (size + need) // 2), size - block), 1)
            for a in range(0, n, _STRIP):
                V[:keep, a : a + _STRIP] = S[:, :keep].T @ V[:size, a : a + _STRIP]
            T[:] = 0.0
            T[range(keep), range(keep)] = theta[:keep]
            size = keep
            T[size : size + len(Q), :size] = rest[:, :keep]
            T[:size, size : size + len(Q)] = rest[:, :keep].T


def _rows(columns: Floats) -> Floats:
    """Columns of a solution as rows that may be changed."""
    return np.ascontiguousarray(columns.T)


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
    X = np.zeros((total, V.shape[1]))
    subtract(X, -S[:, :total], V[:size])
    if Q is not None and len(Q):
        safe = np.where(theta[:total] != 0.0, theta[:total], 1.0)
        subtract(X, -rest[:, :total] / safe, Q)
    errors = np.linalg.norm(rest, axis=0)[:count] / np.maximum(np.abs(theta[:count]), 1e-300)
    return RitzPairs(
        theta[:count], X[:count].T, errors, theta[count:], X[count:].T, steps, solves, converged
    )  # fmt: skip


def _orthonormal(
    W: Floats, times: Symmetric, L: Floats, V: Floats, taken: float = 0.0
) -> tuple[Floats, Floats, Floats, Floats]:
    """Q, M Q, R and H with W = V H + Q R (what lies along locked vectors is dropped), QᵀMQ = 1, VᵀMQ = 0.

    Rows are vectors; W is used up. Twice is enough (Parlett): what a pass takes away is counted, and another follows
    where that was not small, or where the block was nearly dependent. Directions without length in M are dropped, so
    the block may shrink; so are those that are rounding of `taken`, what was taken off before.

    Raises
    ------
    SolverError
        Where numbers are not finite.
    """
    width = len(W)
    H = np.zeros((len(V), width))
    R = np.eye(width)
    largest, dependent = 0.0, False
    MW = times(W)
    for _ in range(5):
        before = np.sqrt(np.maximum(np.einsum("ij,ij->i", W, MW), 1e-300))
        if not np.isfinite(before).all():
            raise SolverError("the iteration met numbers that are not finite")
        largest = largest or float(before.max())
        left = 0.0
        for basis in (L, V):
            if len(basis):
                part = inner(basis, MW)
                subtract(W, part, basis)
                left = max(left, float((np.abs(part) / before).max()))
                if basis is V:
                    H += part @ R
        if left > _STALE:
            MW = times(W)
        if left > _SMALL:
            continue
        G = inner(W, MW)
        values, vectors = scipy.linalg.eigh((G + G.T) / 2.0, driver="evd")
        keep = values > max((_DEPENDENT * largest) ** 2, 1e-300)
        if values[0] < (_SMALL * taken) ** 2:  # perhaps nothing but rounding, of dofs without mass
            X = W.T @ vectors
            keep &= values > _ROUNDING * np.einsum("ij,ij->j", np.abs(X), magnitude(times.matrix, X))
        if not keep.any():
            return W[:0], W[:0], np.zeros((0, width)), H
        root = np.sqrt(values[keep])
        dependent = values[keep][0] < 1e-8 * values[-1]
        change = (vectors[:, keep] / root).T
        W, MW = change @ W, change @ MW
        R = (vectors[:, keep] * root).T @ R
        largest = 1.0
        if not dependent:
            break
    return W, MW, R, H
