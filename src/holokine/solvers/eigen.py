"""Eigenpairs of K x = λ M x: dense for small problems, shifted block Lanczos with proof by inertia for larger ones.

The sparse way cuts the spectrum into slices (Grimes, Lewis & Simon 1994). A slice starts at a shift below which
everything is known. The iteration there runs until the eigenvalues of the slice are known well enough to place
the next shift in a gap above them. Its factorisation counts what lies below (Sylvester), and from the same
factor the unfinished vectors, which are the ones next to it, converge in a few steps. So two factorisations do
for a slice: both are used to iterate, the second is the proof.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
import scipy.linalg
from numpy.typing import NDArray
from scipy.sparse import csr_array

from holokine.errors import SolverError
from holokine.solvers.factor import Factor, Pencil
from holokine.solvers.lanczos import TOLERANCE, RitzPairs, block_lanczos
from holokine.solvers.memory import refuse_beyond_memory

__all__ = ["EigenPairs", "Progress", "Wish", "find_pairs", "lowest_pairs"]

Floats = NDArray[Any]  # float64
Progress = Callable[[str, int, int], None]
DENSE_SIZE = 600
SLICE = 120
LOOSE = 1e-4
_SLACK = 1.0 + 1e-5  # estimates are only so good; the bound itself is applied to the final values
SAME = 1e-6  # eigenvalues closer than this, relatively, are taken as one group


@dataclass(frozen=True)
class Wish:
    """Which eigenvalues are wanted.

    Attributes
    ----------
    count : int, optional
    upto, above : float, optional
        Bounds in rad²/s². With `count` and bounds: from the lower bound up, whichever comes first.
    near : float, optional
        The `count` eigenvalues nearest to it.
    """

    count: int | None = None
    upto: float | None = None
    above: float | None = None
    near: float | None = None


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
    exists : int or None
        Number of eigenvalues in the asked range up to the upper bound or the highest found (its repetitions
        included), by inertia; None where unknown.
    missing : int
        How many of those could not be found.
    below : int or None
        Number of eigenvalues below the lowest found; None where unknown.
    factorisations : int
    """

    values: Floats
    vectors: Floats
    residuals: Floats
    orthogonality: float
    method: str
    exists: int | None
    missing: int = 0
    below: int | None = 0
    factorisations: int = 0


@dataclass
class _Raw:
    values: Floats
    vectors: Floats  # columns
    method: str
    exists: int | None
    missing: int = 0
    below: int | None = 0
    factorisations: int = 0


def lowest_pairs(
    K: csr_array, M: csr_array, *, count: int | None, upto: float | None, rigid: Floats | None = None, seed: int = 0
) -> EigenPairs:
    """The lowest eigenpairs: `count` of them, all with λ <= `upto`, or what comes first of both."""
    return find_pairs(K, M, Wish(count=count, upto=upto), rigid=rigid, seed=seed)


def find_pairs(
    K: csr_array,
    M: csr_array,
    wish: Wish,
    *,
    rigid: Floats | None = None,
    seed: int = 0,
    progress: Progress | None = None,
) -> EigenPairs:
    """The wanted eigenpairs.

    Parameters
    ----------
    K, M : sparse array, shape (unknowns, unknowns)
        Symmetric, all entries stored; K and M positive semi-definite, M may be singular.
    rigid : ndarray, shape (unknowns, motions), optional
        Vectors with K x = 0: found exactly, and kept out of the iteration.
    progress : callable, optional
        Called with a phase in words, pairs converged, and pairs wanted in this phase.

    Raises
    ------
    SolverError
        No unknowns, no mass, not positive semi-definite, too large for memory, or no convergence.
    """
    n = K.shape[0]
    if n == 0:
        raise SolverError("nothing is free to move: every motion is held")
    diagonal_m = M.diagonal()
    if not (diagonal_m > 0).any():
        raise SolverError("nothing that is free to move has mass")
    free = np.zeros((n, 0)) if rigid is None or rigid.shape[1] == 0 else _orthonormal_rigid(M, rigid)
    if wish.count is not None:
        refuse_beyond_memory(32.0 * n * min(wish.count, n), n, f"keeping {wish.count:,} shapes")
    small = n <= DENSE_SIZE or (wish.count is not None and 2 * wish.count > n)
    if small:
        raw = _dense(K, M, wish, free)
    elif wish.near is not None:
        raw = _Sweep(K, M, free, seed, progress).around(wish.near, wish.count or 1)
    else:
        raw = _Sweep(K, M, free, seed, progress).upwards(wish)
    return _finished(K, M, raw)


def _orthonormal_rigid(M: csr_array, rigid: Floats) -> Floats:
    X = rigid / np.linalg.norm(rigid, axis=0)
    for _ in range(2):  # in their order: translations stay pure, turns come about the centre of mass
        try:
            low = np.linalg.cholesky(X.T @ (M @ X))
        except np.linalg.LinAlgError:
            raise SolverError("a rigid-body motion moves no mass") from None
        X = scipy.linalg.solve_triangular(low, X.T, lower=True).T
    return X


def _scale(K: csr_array, M: csr_array) -> float:
    m = M.diagonal()
    carrying = m > 0
    return max(float(np.max(K.diagonal()[carrying] / m[carrying], initial=1e-30)), 1e-20)


def _number(values: Floats, count: int | None, upto: float | None) -> int:
    """How many of the rising values are wanted."""
    number = len(values) if upto is None else int(np.searchsorted(values, upto * (1.0 + 1e-12), side="right"))
    return number if count is None else min(number, count)


def _group_end(values: Floats, number: int) -> int:
    """`number` and what repeats the last of them."""
    while 0 < number < len(values) and values[number] - values[number - 1] < SAME * abs(values[number]):
        number += 1
    return number


def _dense(K: csr_array, M: csr_array, wish: Wish, free: Floats) -> _Raw:
    """M may be singular: μ = 1 / (λ - σ) of M x = μ (K - σM) x, largest first."""
    B = M.toarray()
    shift = -1e-9 * _scale(K, M) if free.shape[1] else 0.0
    full = K.toarray()
    r = free.shape[1]
    for _ in range(2):
        try:
            mu, X = scipy.linalg.eigh(B, full - shift * B)
        except np.linalg.LinAlgError:
            raise SolverError(_NOT_DEFINITE) from None
        order = np.argsort(mu)[::-1]
        finite = order[mu[order] > 1e-14 * mu[order[0]]]
        values = 1.0 / mu[finite] + shift
        if not r or len(values) <= r:
            break
        shift = -0.5 * abs(float(values[r]))
    vectors = X[:, finite] / np.sqrt(mu[finite])
    values[:r], vectors[:, :r] = 0.0, free
    method = "dense LAPACK (small problem)"
    if wish.near is not None:
        chosen = np.sort(np.argsort(np.abs(values - wish.near), kind="stable")[: wish.count])
        first, last = int(chosen[0]), int(chosen[-1]) + 1
        return _Raw(values[first:last], vectors[:, first:last], method, last - first, 0, first)
    first = 0 if wish.above is None else int(np.searchsorted(values, wish.above * (1.0 - SAME)))
    values, vectors = values[first:], vectors[:, first:]
    number = _number(values, wish.count, wish.upto)
    exists = number if wish.count is None or number < wish.count else _group_end(values, number)
    return _Raw(values[:number], vectors[:, :number], method, exists, 0, first)


_NOT_DEFINITE = "the stiffness matrix is not positive semi-definite: a preload beyond buckling?"


class _Sweep:
    """Slices of the spectrum, each with its proof."""

    def __init__(self, K: csr_array, M: csr_array, free: Floats, seed: int, progress: Progress | None) -> None:
        self.K, self.M, self.free, self.seed = K, M, free, seed
        self.pencil = Pencil(K, M)
        self.progress = progress
        self.factorisations = 0
        # wide enough for solves by blocks to pay, narrow enough not to need many more columns
        self.block = 4 if self.pencil.method == "superlu" else 6

    def _say(self, phase: str, done: int = 0, of: int = 0) -> None:
        if self.progress is not None:
            self.progress(phase, done, of)

    def _factor(self, *places: float) -> tuple[Factor, float]:
        """Factorise at the first of the places where no pivot had to be changed."""
        for place in places:
            self._say(f"factorising at {_hertz(place)}")
            factor = self.pencil.at(place)
            self.factorisations += 1
            if factor.perturbed == 0 and self._solves(factor, place):
                break
        return factor, place

    def _solves(self, factor: Factor, place: float) -> bool:
        """Whether a solve gives back a vector: not so next to an eigenvalue, or after bad pivots."""
        x = np.random.default_rng(self.seed).standard_normal(self.K.shape[0])
        b = self.K @ x - place * (self.M @ x)
        error = factor.solve(b) - x
        return bool(np.isfinite(error).all() and np.linalg.norm(error) < 1e-2 * np.linalg.norm(x)) or place <= 0.0

    def _iterate(self, factor: Factor, phase: str, wanted: Callable[[Floats], int], **keys: Any) -> RitzPairs:
        def tell(done: int, of: int) -> None:
            self._say(phase, done, of)

        return block_lanczos(factor.solve, self.M, wanted, progress=tell if self.progress else None, **keys)

    def _first(self) -> tuple[Factor, float]:
        """A factor at a shift below every elastic eigenvalue, negative where rigid-body modes are."""
        if not self.free.shape[1]:
            factor, shift = self._factor(0.0)
        else:
            factor, shift = self._factor(-1e-9 * _scale(self.K, self.M))
            if not factor.negative:
                rough = self._iterate(
                    factor, "looking for the first elastic mode", lambda _: 1, block=self.block,
                    most=8 * self.block, locked=self.free, seed=self.seed, tolerance=1e-3,
                )  # fmt: skip
                lowest = shift + 1.0 / float(rough.theta[0])
                if lowest > 0.0 and not 1e-7 * lowest < -shift < 2.0 * lowest:
                    factor, shift = self._factor(-0.5 * lowest)
        if factor.negative:
            raise SolverError(f"{_NOT_DEFINITE} ({factor.negative} negative pivots)")
        return factor, shift

    def upwards(self, wish: Wish) -> _Raw:
        """From the bottom, or a lower bound, up."""
        count, upto = wish.count, wish.upto
        below: int | None = 0
        X, values = self.free, np.zeros(self.free.shape[1])
        if wish.above is not None and wish.above > 0.0:
            start = wish.above * (1.0 - SAME)
            factor, shift = self._factor(start, start * (1.0 - 1e-5), start * (1.0 - 3e-5))
            below = factor.negative
            X, values = X[:, :0], values[:0]
        else:
            factor, shift = self._first()
            shift = min(shift, 0.0)
        slices = 1 if count is None else max(1, -(-count // SLICE))
        chunk = SLICE if count is None else -(-count // slices)
        missing = 0
        proven = True
        while True:
            done = len(values)
            room = self.K.shape[0] - done
            goal = min(chunk, room) if count is None else max(1, min(chunk, count - done))
            found, nexts = self._loosely(factor, shift, X, goal, upto)
            top, places, over = _place(found, nexts, goal, upto, shift)
            if over and top == 0 and upto is not None:
                places = (upto * (1.0 + 1e-9), *places)
            factor, after = self._factor(*places)
            counted = factor.negative
            if counted is not None and below is not None:
                need: int | None = counted - below - done
            else:
                need, proven = None, False
            values, X, short = self._tighten(factor, after, shift, values, X, found, need, top)
            missing += short
            shift = after
            last = _number(values, count, upto)
            ended = over or (count is not None and last >= count) or len(values) >= self.K.shape[0] or top == 0
            if ended:
                break
        # a lower bound next to an eigenvalue was moved down: what lies under it is not asked for
        if wish.above is not None and below is not None:
            under = int((values < wish.above * (1.0 - SAME)).sum())
            below, values, X = below + under, values[under:], X[:, under:]
        number = _number(values, count, upto)
        exists: int | None = None
        if proven:
            exists = (number if count is None or number < count else _group_end(values, number)) + missing
        return _Raw(
            values[:number], X[:, :number], self._words(), exists, missing, below, self.factorisations
        )  # fmt: skip

    def _words(self) -> str:
        return f"shifted block Lanczos, {self.pencil.method_words()}, {self.factorisations} factorisations"

    def _loosely(
        self, factor: Factor, shift: float, X: Floats, goal: int, upto: float | None
    ) -> tuple[RitzPairs, Floats]:
        """The next `goal` pairs above the floor (those up to `upto`), and one more, to a loose tolerance."""

        def order(theta: Floats) -> Floats:
            """By rising λ from the shift up; what lies below it, or is rounding (θ ≈ 0), comes last."""
            values = shift + 1.0 / np.where(theta == 0.0, 1e-300, theta)
            return np.where(values > shift, values, np.inf)

        def wanted(theta: Floats) -> int:
            values = order(theta)
            within = int((values <= (np.finfo(float).max if upto is None else upto * _SLACK)).sum())
            return min(within, goal) + 1

        most = max(2 * goal + 4 * self.block, goal + 60)
        phase = f"iterating from {_hertz(shift)}"
        found = self._iterate(
            factor, phase, wanted, block=self.block, most=most, order=order, locked=X, seed=self.seed,
            tolerance=LOOSE, guard=self.block // 2,
        )  # fmt: skip
        if not found.converged and len(found.theta) == 0:
            raise SolverError(f"the eigenvalue extraction did not converge within {found.steps} steps")
        following = shift + 1.0 / np.where(found.following == 0.0, 1e-300, found.following)
        last = shift + 1.0 / found.theta[-1] if len(found.theta) else shift
        return found, np.sort(following[following > last])

    def _tighten(
        self, factor: Factor, after: float, shift: float, values: Floats, X: Floats, found: RitzPairs,
        need: int | None, top: int,
    ) -> tuple[Floats, Floats, int]:  # fmt: skip
        """All pairs between the last shift and the new one, to the full tolerance, and how many are missing."""
        good = found.errors <= TOLERANCE
        lead = np.arange(len(found.theta)) < top
        estimate = shift + 1.0 / np.where(found.theta == 0.0, 1e-300, found.theta)
        locked = lead & good & (estimate < after)
        X = np.hstack([X, found.vectors[:, locked]])
        values = np.concatenate([values, estimate[locked]])
        total = need if need is not None else top
        start = np.hstack([found.vectors[:, ~locked], found.guard])
        short = max(total - int(locked.sum()), 0)
        for attempt in range(4):
            if short == 0:
                break

            def order(theta: Floats) -> Floats:
                """Those below the shift first, from it downwards: θ < 0, largest magnitude first."""
                return np.where(theta < 0.0, theta, np.inf)

            def wanted(_theta: Floats, number: int = short) -> int:
                return number

            width = min(max(start.shape[1], 4 if self.pencil.method == "superlu" else 8), self.K.shape[0] - X.shape[1])
            again = self._iterate(
                factor, f"finishing below {_hertz(after)}", wanted, block=width, most=max(4 * width, short + 4 * width),
                order=order, locked=X, start=start[:, :width], seed=self.seed + attempt + 1,
            )  # fmt: skip
            fresh = again.theta < 0.0
            lam = after + 1.0 / np.where(fresh, again.theta, -1e-300)
            fresh &= lam > shift - 1e-6 * abs(shift)
            X = np.hstack([X, again.vectors[:, fresh]])
            values = np.concatenate([values, lam[fresh]])
            short -= int(fresh.sum())
            # what is still missing hid from these vectors: others are taken
            start = np.zeros((self.K.shape[0], 0))
        order_all = np.argsort(values, kind="stable")
        return values[order_all], X[:, order_all], max(short, 0)

    def around(self, near: float, count: int) -> _Raw:
        """The `count` eigenvalues nearest to `near`, the number between them proven at both ends."""
        factor, shift = self._factor(near, near * (1.0 + 1e-6) + 1e-12, near * (1.0 - 1e-6) - 1e-12)
        most = max(2 * count + 6 * self.block, count + 60)
        X = np.zeros((self.K.shape[0], 0))
        values = np.zeros(0)
        exists: int | None = None
        missing = 0
        short = count + 1
        for attempt in range(4):

            def wanted(_theta: Floats, number: int = short) -> int:
                return number

            found = self._iterate(
                factor, f"iterating around {_hertz(shift)}", wanted, block=self.block, most=most,
                locked=X if X.shape[1] else None, seed=self.seed + attempt,
            )  # fmt: skip
            values = np.concatenate([values, shift + 1.0 / found.theta])
            X = np.hstack([X, found.vectors])
            nearest = np.argsort(np.abs(values - shift), kind="stable")
            inside, outside = nearest[:count], nearest[count:]
            radius = float(np.abs(values[inside] - shift).max())
            limit = float(np.abs(values[outside] - shift).min()) if len(outside) else radius * (1.0 + 1e-3)
            reach = (radius + limit) / 2.0
            above, _ = self._factor(shift + reach, shift + reach * (1.0 + 1e-7))
            up = above.negative
            lower = shift - reach
            down: int | None = 0
            if lower > 0.0 or self.free.shape[1]:
                under, _ = self._factor(lower, lower - 1e-7 * reach)
                down = under.negative
            if up is None or down is None:
                break
            exists = up - down
            missing = max(exists - int((np.abs(values - shift) < reach).sum()), 0)
            if missing == 0 or attempt == 3:
                break
            short = missing
            factor, shift = self._factor(shift)
        rising = inside[np.argsort(values[inside])]
        return _Raw(values[rising], X[:, rising], self._words(), exists, missing, down, self.factorisations)


def _hertz(value: float) -> str:
    return f"{np.sign(value) * np.sqrt(abs(value)) / (2.0 * np.pi):.5g} Hz"


def _place(
    found: RitzPairs, nexts: Floats, goal: int, upto: float | None, shift: float
) -> tuple[int, tuple[float, ...], bool]:
    """How many of the found lie below the next shift, where it may lie, and whether the upper bound is reached.

    The shift lies in the first gap at or after the last wanted pair that is wide enough to be told apart, and
    does not go past the upper bound by more than it must.
    """
    values = np.concatenate([shift + 1.0 / found.theta, nexts])
    within = len(values) if upto is None else int((values <= upto * _SLACK).sum())
    over = upto is not None and within < len(values) and within <= goal
    top = min(within, goal) if over else min(goal, len(values))
    while 0 < top < len(values) and values[top] - values[top - 1] < 1e-4 * abs(values[top]):
        top += 1
    low = values[top - 1] if top else max(shift, 0.0)
    high = values[top] if top < len(values) else low + 2e-3 * abs(low)
    if over and upto is not None:  # the count must take in everything up to the bound, found or not
        low = max(low, upto * (1.0 + 1e-12))
        high = min(high, low * (1.0 + 4e-4)) if high > low else low * (1.0 + 4e-4)
    places = tuple(low + part * (high - low) for part in (0.5, 0.35, 0.65))
    return top, places, over


def _finished(K: csr_array, M: csr_array, raw: _Raw) -> EigenPairs:
    values, X = raw.values, raw.vectors
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
    return EigenPairs(
        values, np.ascontiguousarray(X.T), residuals, loss, raw.method, raw.exists, raw.missing, raw.below,
        raw.factorisations,
    )  # fmt: skip
