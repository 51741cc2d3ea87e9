"""What one-way members do, on the condensed stiffness: a linear complementarity problem, with Coulomb friction.

Every one-way member i has a force F_i and an opening s_i, none below zero and one of them zero; by the
equilibrium of all the rest F = F0 + H s with H symmetric and positive semi-definite. Feet with friction have two
slips w beside it, with F_t = F_t0 + H w, |F_t| at most μ F_n, and F_t = -μ F_n w / |w| where they slide.

Without friction the pattern is found by a primal-dual active set (Hintermüller, Ito & Kunisch, SIAM J. Optim. 13
(2002) 865-888), and by Lemke's pivoting where that does not settle: it ends after finitely many steps with a solution,
or with a ray along which the assembly moves away without end (Cottle, Pang & Stone, *The Linear Complementarity
Problem*, ch. 4). With friction statuses of feet are changed until all conditions hold (Alart & Curnier, CMAME 92 (1991)
353-375), from a start with limits of friction found in turns.
"""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import scipy.linalg
from numpy.typing import NDArray

from holokine.solvers.dense import LU

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints

__all__ = ["CycleError", "RayError", "Touch", "complementary", "with_friction"]

Flags = NDArray[np.bool_]
TOUCHING, OPEN, SLIDING = 0, 1, 2
MOST = 60  # patterns tried one after the other


class RayError(Exception):
    """No equilibrium: `motion`, shape (unknowns,), goes on without end."""

    def __init__(self, motion: Floats) -> None:
        super().__init__("no equilibrium")
        self.motion = motion


class CycleError(Exception):
    """No pattern settles; `restless` are the members that keep changing."""

    def __init__(self, restless: list[int]) -> None:
        super().__init__("no pattern settles")
        self.restless = restless


@dataclass(frozen=True)
class Touch:
    """Which unknowns belong together.

    Attributes
    ----------
    normal : ndarray of int, shape (members,)
        Unknown of each one-way member.
    across : ndarray of int, shape (members, 2)
        Unknowns of its slips; -1 where it has none.
    friction : ndarray, shape (members,)
        Coulomb's coefficient; 0 without.
    """

    normal: Ints
    across: Ints
    friction: Floats


def complementary(H: Floats, F0: Floats) -> Floats:
    """Openings s >= 0 with F = F0 + H s >= 0 and F s = 0, for H positive semi-definite.

    Raises
    ------
    RayError
        When there are none.
    """
    n = len(F0)
    if n == 0 or (F0 >= 0.0).all():
        return np.zeros(n)
    small = 1e-12 * float(np.abs(F0).max())
    open_ = -small > F0
    seen: set[bytes] = set()
    while open_.tobytes() not in seen:
        seen.add(open_.tobytes())
        s = np.zeros(n)
        if open_.any():
            try:
                factor = scipy.linalg.cho_factor(H[np.ix_(open_, open_)])
            except np.linalg.LinAlgError:
                break
            if np.abs(np.diag(factor[0])).min() ** 2 < 1e-11 * np.diag(H)[open_].max():
                break
            s[open_] = -scipy.linalg.cho_solve(factor, F0[open_])
        F = F0 + H @ s
        reach = 1e-12 * float(np.abs(s).max(initial=0.0))
        now = np.where(open_, s > reach, -small > F)
        if (now == open_).all():
            return s
        open_ = now
    return _lemke(H, F0)


def _lemke(H: Floats, F0: Floats) -> Floats:
    """Lemke's pivoting on F = F0 + H s + d z0."""
    n = len(F0)
    top = float(np.diag(H).max(initial=0.0))
    scale = np.sqrt(np.maximum(np.diag(H), 1e-14 * top)) if top > 0.0 else np.ones(n)
    M, q = H / np.outer(scale, scale), F0 / scale
    q = q / float(np.abs(q).max())
    size = float(np.abs(F0 / scale).max())
    cover = 1.0 + 0.1 * np.random.default_rng(3).random(n)  # uneven, so that ties do not cycle
    # columns: F (n), s (n), z0, right side
    table = np.hstack([np.eye(n), -M, -cover[:, None], q[:, None]])
    basis = np.arange(n)
    row = int(np.argmin(q / cover))
    entering, leaving = 2 * n, int(basis[row])
    for _ in range(50 * n + 100):
        pivot = table[row] / table[row, entering]
        column = table[:, entering].copy()
        column[row] = 0.0
        table -= np.outer(column, pivot)
        table[row] = pivot
        basis[row] = entering
        if leaving == 2 * n:
            s = np.zeros(n)
            for place, variable in enumerate(basis):
                if n <= variable < 2 * n:
                    s[variable - n] = table[place, -1]
            return np.maximum(s, 0.0) * size / scale
        entering = leaving + n if leaving < n else leaving - n
        down = table[:, entering] > 1e-10
        if not down.any():
            ray = np.zeros(n)
            if n <= entering < 2 * n:
                ray[entering - n] = 1.0
            for place, variable in enumerate(basis):
                if n <= variable < 2 * n:
                    ray[variable - n] = -table[place, entering]
            ray = ray / scale
            raise RayError(ray / float(np.abs(ray).max()))
        ratio = np.where(down, table[:, -1] / np.where(down, table[:, entering], 1.0), np.inf)
        least = ratio.min()
        ties = np.flatnonzero(ratio <= least + 1e-12 * max(abs(least), 1.0))
        out = [r for r in ties if basis[r] == 2 * n]
        row = int(out[0] if out else ties[np.argmax(table[ties, entering])])
        leaving = int(basis[row])
    raise CycleError(list(range(n)))


def with_friction(H: Floats, F0: Floats, touch: Touch) -> tuple[Floats, NDArray[np.int8]]:
    """Openings and slips y with all conditions of contact and friction, and the status of every member.

    Raises
    ------
    RayError, CycleError
        No equilibrium: everything that could stop a motion lets go; or no pattern settles.
    """
    friction = touch.friction > 0.0
    if not friction.any():
        s = np.zeros(len(F0))
        own = touch.normal
        s[own] = complementary(H[np.ix_(own, own)], F0[own])
        return s, np.where(s[own] > 0.0, OPEN, TOUCHING).astype(np.int8)
    for start in (_relaxed, _sticking):
        with suppress(CycleError, RayError, np.linalg.LinAlgError):
            return _settle(H, F0, touch, *start(H, F0, touch))
    return _settle(H, F0, touch, np.zeros(len(F0)), np.full(len(touch.normal), TOUCHING, dtype=np.int8))


def _sticking(H: Floats, F0: Floats, touch: Touch) -> tuple[Floats, NDArray[np.int8]]:
    """A start in which nothing slides: what touches and what is open then."""
    own, y = touch.normal, np.zeros(len(F0))
    y[own] = complementary(H[np.ix_(own, own)], F0[own])
    return y, np.where(y[own] > 0.0, OPEN, TOUCHING).astype(np.int8)


def _settle(
    H: Floats, F0: Floats, touch: Touch, y: Floats, status: NDArray[np.int8]
) -> tuple[Floats, NDArray[np.int8]]:
    """Change statuses until all hold; with the slips of each pattern by Newton's method."""
    seen: dict[bytes, int] = {}
    history: list[NDArray[np.int8]] = []
    size = float(np.abs(F0).max(initial=0.0)) or 1.0
    while status.tobytes() not in seen and len(history) < MOST:
        seen[status.tobytes()] = len(history)
        history.append(status.copy())
        y = _of_pattern(H, F0, touch, y, status)
        F = F0 + H @ y
        now = status.copy()
        reach = float(np.abs(y).max(initial=0.0))
        for m, n in enumerate(touch.normal):
            t = touch.across[m][touch.across[m] >= 0]
            force, tangent = F[n], F[t]
            if status[m] == OPEN:
                if y[n] < -1e-11 * reach:
                    now[m] = TOUCHING
            elif force < -1e-11 * size:
                now[m] = OPEN
            elif touch.friction[m] > 0.0 and len(t):
                limit = touch.friction[m] * force
                if status[m] == TOUCHING and float(np.linalg.norm(tangent)) > limit + 1e-11 * size:
                    now[m] = SLIDING
                elif status[m] == SLIDING and float(tangent @ y[t]) > 1e-11 * size * reach:
                    now[m] = TOUCHING  # friction would push it on
        if (now == status).all():
            return y, status
        status = now
    first = seen.get(status.tobytes(), len(history) // 2)
    loop = np.array(history[first:])
    raise CycleError([int(m) for m in np.flatnonzero((loop != loop[0]).any(axis=0))])


def _of_pattern(H: Floats, F0: Floats, touch: Touch, y: Floats, status: NDArray[np.int8]) -> Floats:
    """Openings and slips under given statuses."""
    free: list[int] = []
    sliding: list[tuple[int, Ints, float]] = []
    for m, n in enumerate(touch.normal):
        t = touch.across[m][touch.across[m] >= 0]
        if status[m] == OPEN:
            free += [int(n), *map(int, t)]
        elif status[m] == SLIDING:
            free += list(map(int, t))
            sliding.append((int(n), t, float(touch.friction[m])))
    result = np.zeros(len(F0))
    if not free:
        return result
    index = np.array(free)
    place = {k: i for i, k in enumerate(free)}
    y = np.where(np.isin(np.arange(len(F0)), index), y, 0.0)
    start = F0 + H @ y
    directions = {}
    for n, t, _ in sliding:
        size = float(np.linalg.norm(y[t]))
        push = float(np.linalg.norm(start[t]))
        directions[n] = y[t] / size if size > 0 else -start[t] / push if push > 0 else np.eye(len(t))[0]
    for step in range(60):
        F = F0 + H @ y
        residual, J = F[index].copy(), H[np.ix_(index, index)].copy()
        for n, t, mu in sliding:
            own = [place[int(k)] for k in t]
            d = directions[n]
            residual[own] += mu * F[n] * d
            J[own] += mu * np.outer(d, H[n, index])
            size = float(np.linalg.norm(y[t]))
            if size > 0.0 and len(t) > 1 and step > 0:
                J[np.ix_(own, own)] += mu * max(F[n], 0.0) / size * (np.eye(len(t)) - np.outer(d, d))
        factor = LU(J)
        if factor.diagonal.min() < 1e-11 * factor.diagonal.max():
            _, s, v = np.linalg.svd(J)
            loose = np.zeros(len(F0))
            null = v[s < max(1e-11 * s[0], 1.001 * s[-1])]
            along = -null.T @ (null @ residual)  # the way in which it is pushed
            loose[index] = along if np.abs(along).max() > 1e-9 * np.abs(residual).max() else null[-1]
            raise RayError(loose)
        change = -factor.solve(residual)
        y = y.copy()
        y[index] += change
        done = float(np.abs(change).max()) <= 1e-13 * max(float(np.abs(y).max()), 1e-300)
        turned = 0.0
        for n, t, _ in sliding:
            size = float(np.linalg.norm(y[t]))
            if size > 0.0:
                d = y[t] / size
                if float(d @ directions[n]) > 0.0 or step == 0:
                    turned = max(turned, float(np.abs(d - directions[n]).max()))
                    directions[n] = d
        if done and turned < 1e-12:
            break
    return y


def _relaxed(H: Floats, F0: Floats, touch: Touch, most: int = 200) -> tuple[Floats, NDArray[np.int8]]:
    """A start near the answer: limits of friction from the forces before, and feet under these limits, in turns.

    With limits that are given the problem is convex; a semi-smooth Newton method on all feet at once solves it (Alart &
    Curnier), held back where what is missed would grow.
    """
    n = len(F0)
    K = np.eye(n + 1)  # one unknown more, at rest, for slips that a member has not
    K[:n, :n] = H
    f0 = np.append(F0, 0.0)
    t = np.where(touch.across < 0, n, touch.across)
    own = touch.normal
    rough = touch.friction > 0.0
    pull = float(np.median(np.diag(H)[np.diag(H) > 0.0])) if (np.diag(H) > 0.0).any() else 1.0
    size = float(np.abs(F0).max(initial=0.0)) or 1.0
    y, F = np.zeros(n + 1), f0.copy()
    limits = touch.friction * np.maximum(F[own], 0.0)

    def missed(y: Floats, F: Floats) -> tuple[Floats, Floats, Flags, Flags]:
        r = y * pull
        closed = F[own] - pull * y[own] > 0.0
        r[own] = np.where(closed, pull * y[own], F[own])
        trial = F[t] - pull * y[t]
        reach = np.linalg.norm(trial, axis=1)
        sticks = closed & (reach <= limits)
        unit = trial / np.where(reach > 0.0, reach, 1.0)[:, None]
        slip = np.where(closed[:, None], F[t] - limits[:, None] * unit, F[t])
        r[t[rough]] = np.where(sticks[:, None], pull * y[t], slip)[rough]
        r[n] = 0.0
        return r, trial, closed, sticks

    for _ in range(most):
        for _ in range(60):
            r, trial, closed, sticks = missed(y, F)
            off = float(np.abs(r).max())
            if off < 1e-11 * size:
                break
            J = np.eye(n + 1) * pull
            J[own[~closed]] = K[own[~closed]]
            for m in np.flatnonzero(rough & ~sticks):
                rows = t[m]
                if not closed[m]:
                    J[rows] = K[rows]
                    continue
                reach = float(np.linalg.norm(trial[m]))
                unit = trial[m] / reach
                bend = limits[m] / reach * (np.eye(2) - np.outer(unit, unit))
                moved = K[rows].copy()
                moved[:, rows] -= pull * np.eye(2)
                J[rows] = K[rows] - bend @ moved
            J[n] = 0.0
            J[n, n] = 1.0
            step = np.linalg.lstsq(J, -r, rcond=1e-13)[0] if n < 40 else np.linalg.solve(J, -r)
            share = 1.0
            while share > 1e-3:
                tried = y + share * step
                if float(np.abs(missed(tried, f0 + K @ tried)[0]).max()) < off:
                    break
                share /= 2.0
            y = y + share * step
            F = f0 + K @ y
        now = touch.friction * np.maximum(F[own], 0.0)
        change = float(np.abs(now - limits).max(initial=0.0))
        limits = now
        if change < 1e-9 * size:
            break
    _, trial, closed, sticks = missed(y, F)
    status = np.where(closed, np.where(rough & ~sticks, SLIDING, TOUCHING), OPEN).astype(np.int8)
    y[own[status != OPEN]] = 0.0
    y[t[rough & (status == TOUCHING)]] = 0.0
    return y[:n], status
