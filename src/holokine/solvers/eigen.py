"""Eigenpairs of K x = λ M x: dense for small problems, shifted block Lanczos with proof by inertia for larger ones.

The sparse way cuts the spectrum into slices (Grimes, Lewis & Simon 1994). A slice starts at a shift below which
everything is known. The iteration there runs until the pairs of the slice have converged and the next eigenvalue is
known roughly, so that the next shift lies in a gap above them. Its factorisation counts what lies below (Sylvester):
it is the proof, it brings in what is missing, and it starts the next slice. So two factorisations do for one slice.

What is said of the count is derived: a pair counts when its residual and its M-orthogonality to all others hold; an
Sturm counts when no pivot was changed, a trial solve holds, and the shift keeps away from every eigenvalue found.
Where any of that fails the problem is solved again, with other start vectors and wider blocks, or dense (`dense`) while
memory allows; what is still not proven then is said (`EigenPairs.doubt`). Where few dofs have mass, all modes come
from the flexibility between them (`dense.condensed`).
"""

from __future__ import annotations

from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
import scipy.linalg
from numpy.typing import NDArray
from scipy.sparse import csr_array, diags_array

from holokine.errors import OutOfMemoryError, SolverError
from holokine.sizes import refuse_beyond_memory
from holokine.solvers.dense import LU, NOT_DEFINITE, IndefiniteError, affordable, all_pairs, condensed, polished
from holokine.solvers.factor import Factor, Pencil, factorise
from holokine.solvers.lanczos import TOLERANCE, RitzPairs, block_lanczos
from holokine.solvers.pool import one_pool
from holokine.solvers.products import Symmetric, inner
from holokine.system.wide import Matrix, explicit, magnitude

if TYPE_CHECKING:
    from holokine.arrays import Floats

__all__ = [
    "EigenPairs", "Progress", "Wish", "backward_errors", "find_pairs", "lowest_pairs", "refuse_negative_mass",
]  # fmt: skip

Progress = Callable[[str, int, int], None]
DENSE_SIZE = 600
SLICE = 120
REACH = 3.0  # slices (of the width, or the number, of the one before) below a slice that it is kept orthogonal to
LOOSE = 1e-3  # of the pair beyond a slice, which only places the shift that proves it
_SLACK = 1.0 + 1e-5  # estimates are only so good; the bound itself is applied to the final values
SAME = 1e-6  # eigenvalues closer than this, relatively, are taken as one group
EDGE = 1e-9  # a bound takes in what lies so close to it
CLEAR = 1e-9  # a shift that counts keeps so far, relatively, from every eigenvalue
RESIDUAL, ORTHOGONAL = 1e-9, 1e-8  # beyond these a pair is not taken as found
FEW_MASSES = 400  # motions with mass up to which all modes are taken from their flexibility
_TRIES = 12  # rounds in which what is missing next to a place is looked for
_BESIDE = (0.0, 1e-6, -1e-6, 1e-4, -1e-4, 1e-3, -3e-3)  # where else a shift may lie, relatively
FAINT = 1e-7  # of the largest value of the inverse: below, rounding is felt
NEGATIVE_MASS = "the mass matrix is not positive semi-definite"
MASS_NOISE = 1e-8  # of a matrix of unit diagonal: what a file with eight digits may have below zero
UNSURE = 1e-7  # of an eigenvalue: a bound of its error beyond this, and beyond rounding, asks for another way
ROUNDING = 2.0**-52  # of every product that is summed up
_ABREAST = 16  # shapes whose residuals are worked out together
MANY = 60  # missing in a slice, that is at one place: dense matrices find them sooner
REPAIR = 6000  # unknowns up to which what could not be proven is solved dense


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
    errors, rounding : ndarray, shape (pairs,)
        Bound of the error of λ in rad²/s², and what of it is rounding in products with K and M, whatever the solver.
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
    total : int or None
        Number of finite eigenvalues that there are at all, where all are known.
    doubt : str
        What is not proven, in words; empty where all is.
    """

    values: Floats
    vectors: Floats
    residuals: Floats
    errors: Floats
    rounding: Floats
    orthogonality: float
    method: str
    exists: int | None
    missing: int = 0
    below: int | None = 0
    factorisations: int = 0
    total: int | None = None
    doubt: str = ""


@dataclass
class _Raw:
    values: Floats
    vectors: Floats  # columns
    method: str
    exists: int | None
    missing: int = 0
    below: int | None = 0
    factorisations: int = 0
    total: int | None = None
    doubt: str = ""


def lowest_pairs(
    K: Matrix, M: Matrix, *, count: int | None, upto: float | None, rigid: Floats | None = None, seed: int = 0
) -> EigenPairs:
    """The lowest eigenpairs: `count` of them, all with λ <= `upto`, or what comes first of both."""
    return find_pairs(K, M, Wish(count=count, upto=upto), rigid=rigid, seed=seed)


def find_pairs(
    K: Matrix,
    M: Matrix,
    wish: Wish,
    *,
    rigid: Floats | None = None,
    seed: int = 0,
    progress: Progress | None = None,
    pencil: Pencil | None = None,
    lowest: float | None = None,
) -> EigenPairs:
    """The wanted eigenpairs.

    Parameters
    ----------
    K, M : sparse array, shape (unknowns, unknowns)
        Symmetric, all entries stored; K and M positive semi-definite, M may be singular.
    rigid : ndarray, shape (unknowns, dofs), optional
        Vectors with K x = 0: found exactly, and kept out of the iteration.
    progress : callable, optional
        Called with a phase in words, pairs converged, and pairs wanted in this phase.
    pencil : Pencil, optional
        Of K and M, if there is one already; a factor that it keeps is used.
    lowest : float, optional
        About the lowest eigenvalue above those of `rigid`, where that is known; it saves a factorisation.

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
    massive = np.flatnonzero(diagonal_m > 0)
    most = wish.count is not None and 3 * wish.count > min(n, 2 * len(massive))
    if n <= DENSE_SIZE or (most and affordable(n)):
        return _finished(K, M, _dense(K, M, free, wish, "small problem"))
    doubts = []
    if len(massive) <= min(FEW_MASSES, n // 4):
        values, X = condensed(explicit(K), explicit(M), free, massive)
        pairs = _finished(K, M, _chosen(values, X, wish, "flexibility of the few degrees of freedom with mass"))
        if not (doubt := _doubt(pairs)):
            return pairs
        doubts.append(doubt)
    best: EigenPairs | None = None
    for attempt, widen in enumerate((1, 3)):
        try:
            with one_pool():
                sweep = _Sweep(K, M, free, seed + 100 * attempt, progress, widen, pencil, lowest)
                raw = sweep.around(wish) if wish.near is not None else sweep.upwards(wish)
                pairs = _finished(K, M, raw, sweep.last)
                sweep.pencil.release()
        except IndefiniteError:
            raise
        except SolverError as err:
            doubts.append(str(err))
        else:
            doubt = _doubt(pairs)
            if not doubt or (pairs.exists is None and not pairs.doubt and not affordable(n, REPAIR)):
                return pairs
            doubts.append(doubt)
            best = pairs if best is None or len(pairs.values) > len(best.values) else best
        if affordable(n, REPAIR):
            if progress is not None:
                progress("solving dense, which needs no proof", 0, 0)
            return _finished(K, M, _dense(K, M, free, wish, f"the sparse way left {doubts[-1]}"))
    if best is None:
        raise SolverError(doubts[-1])
    return _only_certain(best, doubts[-1])


def _doubt(pairs: EigenPairs) -> str:
    """Why these pairs, or what is said of their number, may not be relied on; empty where they may."""
    if pairs.doubt:
        return pairs.doubt
    worst = float(pairs.residuals.max(initial=0.0))
    if worst > RESIDUAL:
        return f"a residual of {worst:.1e}"
    if pairs.orthogonality > ORTHOGONAL:
        return f"a loss of M-orthogonality of {pairs.orthogonality:.1e}"
    if pairs.exists is None:
        return "an inertia that the factorisation cannot tell"
    if pairs.missing:
        return f"{pairs.missing} of {pairs.exists} eigenvalues that were not found"
    size = np.abs(pairs.values)
    unsure = np.flatnonzero((size > 0.0) & (pairs.errors - pairs.rounding > np.maximum(UNSURE * size, pairs.rounding)))
    if len(unsure):
        worst = int(unsure[np.argmax(pairs.errors[unsure] / size[unsure])])
        return f"an eigenvalue at {_hertz(pairs.values[worst])} that is known to {pairs.errors[worst]:.1e} rad²/s² only"
    return ""


def _only_certain(pairs: EigenPairs, doubt: str) -> EigenPairs:
    """Pairs whose residual holds, with what is not proven of them."""
    good = pairs.residuals <= RESIDUAL
    if not good.any():
        raise SolverError(f"the eigenvalue extraction did not get through: {doubt}")
    exists = pairs.exists if pairs.missing or good.all() else None
    return replace(pairs, values=pairs.values[good], vectors=pairs.vectors[good], residuals=pairs.residuals[good],
                   errors=pairs.errors[good], rounding=pairs.rounding[good], exists=exists, doubt=doubt)  # fmt: skip


def refuse_negative_mass(M: csr_array, row_words: Callable[[int], str]) -> None:
    """Raise where a mass matrix from elsewhere is not positive semi-definite; `row_words` calls a row by its name.

    Raises
    ------
    SolverError
        With how many directions have negative mass, and the row where one is seen.
    """
    diagonal = M.diagonal()
    if (diagonal < 0.0).any():
        worst = int(diagonal.argmin())
        raise SolverError(f"{NEGATIVE_MASS}: {row_words(worst)} has {diagonal[worst]:.4g} on its diagonal")
    own = np.repeat(diagonal, np.diff(M.indptr))
    if (bare := np.flatnonzero((own == 0.0) & (M.data != 0.0))).size:
        row = int(np.searchsorted(M.indptr, bare[0], side="right")) - 1
        raise SolverError(f"{NEGATIVE_MASS}: {row_words(row)} has nothing on its diagonal, and numbers beside it")
    by = diags_array(1.0 / np.sqrt(np.where(diagonal > 0.0, diagonal, 1.0)))
    scaled = csr_array(by @ M @ by + diags_array(np.where(diagonal > 0.0, MASS_NOISE, 1.0)))
    negative = factorise(scaled).negative
    if negative is None:  # by a factorisation that cannot tell: what is lowest
        from scipy.sparse.linalg import eigsh

        negative = int((eigsh(scaled, k=1, which="SA", return_eigenvectors=False) < 0.0).sum())
    if negative:
        words = "direction" if negative == 1 else "directions"
        raise SolverError(f"{NEGATIVE_MASS}: {negative} {words} of it with less than none")


def _orthonormal_rigid(M: Matrix, rigid: Floats) -> Floats:
    X = rigid / np.linalg.norm(rigid, axis=0)
    for _ in range(2):  # in their order: translations stay pure, turns come about the centre of mass
        try:
            low = np.linalg.cholesky(X.T @ (M @ X))
        except np.linalg.LinAlgError:
            raise SolverError("a rigid-body motion moves no mass") from None
        X = scipy.linalg.solve_triangular(low, X.T, lower=True).T
    return X


def _scale(K: Matrix, M: Matrix) -> float:
    m = M.diagonal()
    carrying = m > 0
    return max(float(np.max(K.diagonal()[carrying] / m[carrying], initial=1e-30)), 1e-20)


def _number(values: Floats, count: int | None, upto: float | None) -> int:
    """How many of the rising values are wanted."""
    number = len(values) if upto is None else int(np.searchsorted(values, upto * (1.0 + EDGE), side="right"))
    return number if count is None else min(number, count)


def _group_end(values: Floats, number: int) -> int:
    """`number` and what repeats the last of them."""
    while 0 < number < len(values) and values[number] - values[number - 1] <= SAME * abs(values[number]):
        number += 1
    return number


def _chosen(values: Floats, vectors: Floats, wish: Wish, method: str) -> _Raw:
    """The wanted ones of all eigenpairs that there are."""
    total = len(values)
    if wish.near is not None:
        return replace(_nearest(values, vectors, wish, 0, method), total=total)
    first = 0 if wish.above is None else int(np.searchsorted(values, wish.above * (1.0 - EDGE)))
    number = _number(values[first:], wish.count, wish.upto)
    exists = number if wish.count is None or number < wish.count else _group_end(values[first:], number)
    last = first + number
    return _Raw(values[first:last], vectors[:, first:last], method, exists, 0, first, 0, total)


def _dense(K: Matrix, M: Matrix, free: Floats, wish: Wish, why: str) -> _Raw:
    """The wanted pairs by dense matrices."""
    K, M = explicit(K), explicit(M)
    raw = _chosen(*all_pairs(K, M, free), wish, f"dense LAPACK ({why})")
    off = backward_errors(K, M, raw.values, raw.vectors)
    values, X = polished(K, M, raw.values, raw.vectors, off)
    return replace(raw, values=values, vectors=X)


def _nearest(values: Floats, vectors: Floats, wish: Wish, below: int, method: str) -> _Raw:
    """Those next to a place, of all eigenpairs in a range that holds them; `below` it lie so many others."""
    assert wish.near is not None
    count = min(wish.count or 1, len(values))
    ends = np.maximum(wish.near - values[: len(values) - count + 1], values[count - 1 :] - wish.near)
    first = int(np.argmin(ends)) if count else 0
    last = first + count
    begin, end = first, _group_end(values, last)
    while begin > 0 and values[begin] - values[begin - 1] <= SAME * abs(values[begin]):
        begin -= 1
    return _Raw(values[first:last], vectors[:, first:last], method, end - begin, 0, below + first)


class _Sweep:
    """Slices of the spectrum, each with its proof."""

    def __init__(
        self, K: Matrix, M: Matrix, free: Floats, seed: int, progress: Progress | None, widen: int = 1,
        pencil: Pencil | None = None, lowest: float | None = None,
    ) -> None:  # fmt: skip
        self.lowest = lowest
        self.K, self.M, self.free, self.seed = K, M, free, seed
        self.pencil = pencil or Pencil(K, M)
        self.product = Symmetric(M)
        self.progress = progress
        self.factorisations = 0
        self.widen = widen
        self.doubt = ""
        self.last: tuple[Factor, float] | None = None

    def _say(self, phase: str, done: int = 0, of: int = 0) -> None:
        if self.progress is not None:
            self.progress(phase, done, of)

    def _factor(self, *places: float) -> tuple[Factor, float]:
        """Factorise at the first of the places where no pivot had to be changed and a trial solve holds.

        Raises
        ------
        SolverError
            When none of them will do.
        """
        why = ""
        for place in places:
            if not self.pencil.held(place):
                self._say(f"factorising at {_hertz(place)}")
            self.factorisations += 1
            try:
                factor = self.pencil.at(place)
            except OutOfMemoryError:
                raise
            except SolverError as err:
                why = str(err)
                continue
            if factor.perturbed == 0 and self._solves(factor, place):
                self.last = factor, place
                return factor, place
            why = "pivots were perturbed" if factor.perturbed else "a trial solve did not hold"
        raise SolverError(f"no factorisation at or beside {_hertz(places[0])} holds ({why})")

    def _width(self, factor: Factor) -> int:
        """Columns of a step of the iteration."""
        return self.widen * factor.block

    def _solves(self, factor: Factor, place: float) -> bool:
        """Whether a solve gives back a vector: not so next to an eigenvalue, or after bad pivots.

        By the residual, and by the vector itself as far as the condition of K lets it.
        """
        x = np.random.default_rng(self.seed).standard_normal(self.K.shape[0])
        b = self.K @ x - place * (self.M @ x)
        try:
            y = factor.solve(b)
        except SolverError:
            return False
        if not np.isfinite(y).all():
            return False
        off = np.linalg.norm(self.K @ y - place * (self.M @ y) - b) / max(float(np.linalg.norm(b)), 1e-300)
        return bool(off < 1e-8 and (place <= 0.0 or np.linalg.norm(y - x) < 1e-2 * np.linalg.norm(x)))

    def _iterate(self, factor: Factor, phase: str, wanted: Callable[[Floats], int], **keys: Any) -> RitzPairs:
        def tell(done: int, of: int) -> None:
            self._say(phase, done, of)

        with np.errstate(over="ignore", invalid="ignore"):  # looked for there, and refused
            return block_lanczos(factor.solve, self.product, wanted, progress=tell if self.progress else None, **keys)

    def _first(self) -> tuple[Factor, float]:
        """A factor at a shift below every elastic eigenvalue, negative where rigid-body modes are."""
        if not self.free.shape[1]:
            scale = _scale(self.K, self.M)
            factor, shift = self._factor(0.0, -1e-12 * scale, -1e-9 * scale)
        elif self.lowest is not None and self.lowest > 0.0:
            factor, shift = self._factor(-0.01 * self.lowest, -0.5 * self.lowest)
        else:
            factor, shift = self._factor(*(-f * _scale(self.K, self.M) for f in (1e-9, 1e-7)))
            if not factor.negative:
                block = self._width(factor)
                rough = self._iterate(
                    factor, "looking for the first elastic mode", lambda _: 1, block=block, most=8 * block,
                    locked=self.free, seed=self.seed, tolerance=1e-3,
                )  # fmt: skip
                lowest = shift + 1.0 / float(rough.theta[0])
                if lowest > 0.0 and not 1e-7 * lowest < -shift < 2.0 * lowest:
                    factor, shift = self._factor(-0.5 * lowest)
        if factor.negative:
            raise IndefiniteError(f"{NOT_DEFINITE} ({factor.negative} negative pivots)")
        return factor, shift

    def upwards(self, wish: Wish) -> _Raw:
        """From the bottom, or a lower bound, up."""
        count, upto = wish.count, wish.upto
        below: int | None = 0
        X, values = self.free, np.zeros(self.free.shape[1])
        if wish.above is not None and wish.above > 0.0:
            factor, shift = self._factor(*(wish.above * (1.0 - SAME * k) for k in (1.0, 1.7, 11.0, 31.0)))
            below = factor.negative
            X, values = X[:, :0], values[:0]
        else:
            factor, shift = self._first()
            shift = min(shift, 0.0)
        slices = 1 if count is None else max(1, -(-count // SLICE))
        chunk = SLICE if count is None else -(-count // slices)
        missing = 0
        proven = True
        before = -np.inf
        under = 0  # of those found, below the bound, which the shift next to it lies under
        while True:
            done = len(values)
            room = self.K.shape[0] - done
            goal = min(chunk, room) if count is None else max(1, min(chunk, count + under - done))
            # what lies far below a slice is far down in its order too, and need not be kept out
            far = (values < shift - REACH * (shift - before)) & (np.arange(done) < done - REACH * chunk)
            try:
                found, nexts, far = self._slice(factor, shift, values, X, far, goal, upto)
                goal = min(goal, max(_told_apart(found.theta), 1))
                top, places, over = _place(found, nexts, goal, upto, shift)
                factor, after = self._factor(*places)
                if not after > shift:
                    raise SolverError("nothing more is found above the last shift")
            except SolverError as err:
                if not len(values):
                    raise
                self.doubt = f"above {_hertz(shift)} the extraction did not get on: {err}"
                break
            counted = factor.negative
            if counted is not None and below is not None:
                need: int | None = counted - below - done
            else:
                need, proven = None, False
            own, Y, short = self._tighten(factor, after, shift, values[~far], X[:, ~far], found, need, top)
            values, X = np.concatenate([values[far], own]), np.hstack([X[:, far], Y])
            missing += short
            self._refuse_touching(values, after)
            before, shift = shift, after
            if wish.above is not None:
                under = int((values < wish.above * (1.0 - EDGE)).sum())
            last = _number(values[under:], count, upto)
            ended = over or (count is not None and last >= count) or len(values) >= self.K.shape[0] or top == 0
            if ended:
                break
        below, values, X = None if below is None else below + under, values[under:], X[:, under:]
        number = _number(values, count, upto)
        exists: int | None = None
        if proven:
            exists = (number if count is None or number < count else _group_end(values, number)) + missing
        return _Raw(
            values[:number], X[:, :number], self._words(), exists, missing, below, self.factorisations, None, self.doubt
        )  # fmt: skip

    def _refuse_touching(self, values: Floats, *shifts: float) -> None:
        """Doubt a count whose shift lies on one of the eigenvalues."""
        for shift in shifts:
            distance = float(np.abs(values - shift).min(initial=np.inf))
            if distance < CLEAR * abs(shift):
                self.doubt = f"an inertia at {_hertz(shift)}, where an eigenvalue lies"

    def _words(self) -> str:
        return f"shifted block Lanczos, {self.pencil.method_words()}, {self.factorisations} factorisations"

    def _slice(
        self,
        factor: Factor,
        shift: float,
        values: Floats,
        X: Floats,
        far: NDArray[np.bool_],
        goal: int,
        upto: float | None,
    ) -> tuple[RitzPairs, Floats, NDArray[np.bool_]]:
        """`_loosely`, kept out of what is not `far`; of all, unless that is farther off than all that is found."""
        try:
            found, nexts = self._loosely(factor, shift, X[:, ~far], goal, upto)
        except SolverError:
            if not far.any():
                raise
        else:
            distance = shift - values[far].max(initial=-np.inf)
            apart = distance * np.abs(found.theta[-1:]).min(initial=np.inf) > 1.0
            if (found.converged and apart) or not far.any():
                return found, nexts, far
        return (*self._loosely(factor, shift, X, goal, upto), np.zeros_like(far))

    def _loosely(
        self, factor: Factor, shift: float, X: Floats, goal: int, upto: float | None
    ) -> tuple[RitzPairs, Floats]:
        """The next `goal` pairs above the floor (those up to `upto`), and one more that is known roughly."""

        def order(theta: Floats) -> Floats:
            """By rising λ from the shift up; what lies below it, or is rounding (θ ≈ 0), comes last."""
            values = shift + 1.0 / np.where(theta == 0.0, 1e-300, theta)
            return np.where(values > shift, values, np.inf)

        def wanted(theta: Floats) -> int:
            values = order(theta)
            within = int((values <= (np.finfo(float).max if upto is None else upto * _SLACK)).sum())
            return min(within, goal, max(_told_apart(theta), 1)) + 1

        block = self._width(factor)
        most = max(2 * goal + 8 * block, goal + 60)
        phase = f"iterating from {_hertz(shift)}"
        found = self._iterate(
            factor, phase, wanted, block=block, most=most, order=order, locked=X, seed=self.seed,
            last=LOOSE, guard=block // 2,
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
        locked = lead & good & (estimate < after) & self._hold(estimate, found.vectors)
        X = np.hstack([X, found.vectors[:, locked]])
        values = np.concatenate([values, estimate[locked]])
        total = need if need is not None else top
        start = np.hstack([found.vectors[:, ~locked], found.guard])
        short = max(total - int(locked.sum()), 0)
        if short > max(MANY, top) and affordable(self.K.shape[0], REPAIR):
            raise SolverError(f"{short} eigenvalues below {_hertz(after)} are nearly equal")
        attempt, idle = -1, 0
        while short > 0 and idle < 4:
            attempt += 1

            def order(theta: Floats) -> Floats:
                """Those below the shift first, from it downwards: θ < 0, largest magnitude first."""
                return np.where(theta < 0.0, theta, np.inf)

            def wanted(_theta: Floats, number: int = short) -> int:
                return number

            least = 4 if self.pencil.method == "superlu" else 8
            if attempt:  # what hides, or repeats itself more often than the block is wide, wants a wider one
                least = max(least, min(2 * self._width(factor) + short, 48))
            width = min(max(start.shape[1], least), self.K.shape[0] - X.shape[1])
            again = self._iterate(
                factor, f"finishing below {_hertz(after)}", wanted, block=width, most=max(4 * width, short + 4 * width),
                order=order, locked=X, start=start[:, :width], seed=self.seed + attempt + 1,
            )  # fmt: skip
            fresh = again.theta < 0.0
            lam = after + 1.0 / np.where(fresh, again.theta, -1e-300)
            fresh &= (lam > shift) & (again.errors <= 1e-6)
            holds, vectors = self._quieted(factor, after, lam, again.vectors)
            fresh &= holds
            fresh &= np.cumsum(fresh) <= short
            idle = 0 if fresh.any() else idle + 1
            X = np.hstack([X, vectors[:, fresh]])
            values = np.concatenate([values, lam[fresh]])
            short -= int(fresh.sum())
            # what is still missing hid from these vectors: others are taken
            start = np.zeros((self.K.shape[0], 0))
        if need is not None and short < 0:
            self.doubt = "more eigenvalues than the Sturm count"
        order_all = np.argsort(values, kind="stable")
        return values[order_all], X[:, order_all], max(short, 0)

    def _hold(self, values: Floats, X: Floats) -> NDArray[np.bool_]:
        """Which pairs fulfil K x = λ M x to the residual that counts as found."""
        if X.shape[1] == 0:
            return np.zeros(0, dtype=bool)
        return backward_errors(self.K, self.M, values, X) <= RESIDUAL

    def _quieted(self, factor: Factor, place: float, values: Floats, X: Floats) -> tuple[NDArray[np.bool_], Floats]:
        """Which pairs hold, some of them after one more solve, which takes far higher shapes out of the rounding."""
        holds = self._hold(values, X)
        rest = np.flatnonzero(~holds)
        if len(rest):
            again = np.asarray(factor.solve(np.asarray(self.M @ np.ascontiguousarray(X[:, rest]))))
            size = np.sqrt(np.maximum(np.einsum("ij,ij->j", again, self.M @ again), 1e-300))
            X = X.copy()
            X[:, rest] = again / size * np.sign(values[rest] - place)
            holds[rest] = self._hold(values[rest], X[:, rest])
        return holds, X

    def around(self, wish: Wish) -> _Raw:
        """The eigenvalues nearest to a place, the number between them proven at both ends."""
        near, count = wish.near or 0.0, wish.count or 1
        scale = _scale(self.K, self.M)
        if near > 1e-9 * scale or not self.free.shape[1]:
            places = [near * (1.0 + k) for k in _BESIDE] if near > 0.0 else [-1e-12 * scale]
            factor, _ = self._factor(*places)
            below = factor.negative
        else:
            below = self.free.shape[1]
        if below is not None and below <= 2 * count + 60:  # as near from the bottom, where odd places do no harm
            raw = self.upwards(Wish(count=below + count + 1))
            found = _nearest(raw.values, raw.vectors, wish, 0, raw.method)
            short = raw.exists is None or raw.missing > 0
            exists = None if short else found.exists
            return replace(found, exists=exists, doubt=raw.doubt, factorisations=self.factorisations)
        return self._beside(near, count)

    def _beside(self, near: float, count: int) -> _Raw:
        """The `count` eigenvalues nearest to `near`, the number between them proven at both ends."""
        factor, shift = self._factor(*(near * (1.0 + k) for k in _BESIDE))
        block = self._width(factor)
        most = max(2 * count + 6 * block, count + 60)
        X = np.zeros((self.K.shape[0], 0))
        values = np.zeros(0)
        exists: int | None = None
        missing = 0
        short = count + 1
        down: int | None = 0
        for attempt in range(_TRIES):

            def wanted(_theta: Floats, number: int = short) -> int:
                return number

            found = self._iterate(
                factor, f"iterating around {_hertz(shift)}", wanted, block=block, most=most,
                locked=X if X.shape[1] else None, seed=self.seed + attempt,
            )  # fmt: skip
            lam = shift + 1.0 / np.where(found.theta == 0.0, 1e-300, found.theta)
            holds, vectors = self._quieted(factor, shift, lam, found.vectors)
            if not holds.any():  # the shift lies too near to one of them
                away = _BESIDE[3 + attempt :] or (3e-3,)
                factor, shift = self._factor(*(near * (1.0 + k) for k in away))
                continue
            values, X = np.concatenate([values, lam[holds]]), np.hstack([X, vectors[:, holds]])
            if len(values) < count:
                short = count + 1 - len(values)
                continue
            # the range takes in whole groups of equal ones, so that its ends lie in gaps
            distance = np.sort(np.abs(values - near))
            steps = np.flatnonzero(np.diff(distance) > SAME * near) + 1
            last = int(steps[np.searchsorted(steps, count)]) if len(steps) and steps[-1] >= count else len(distance)
            if last == len(distance) and attempt < _TRIES - 1:
                short = max(2 * block, len(values) // 2)
                continue
            radius = float(distance[last - 1])
            limit = float(distance[last]) if last < len(distance) else radius + 1e-3 * near
            gap = limit - radius
            reach = (radius + limit) / 2.0
            above, over = self._factor(*(near + reach + k * gap for k in (0.0, 0.2, -0.2)))
            up = above.negative
            self._refuse_touching(values, over)
            lower = near - (over - near)
            down = 0
            if lower > 0.0 or self.free.shape[1]:
                under, lower = self._factor(lower, lower - 0.05 * gap, lower + 0.05 * gap)
                down = under.negative
                self._refuse_touching(values, lower)
            if up is None or down is None:
                break
            exists = up - down
            within = (values > lower) & (values < over)
            missing = max(exists - int(within.sum()), 0)
            if int(within.sum()) > exists:
                self.doubt = "more eigenvalues than the Sturm count"
            if missing == 0 or attempt == _TRIES - 1:
                break
            short = missing
            factor, shift = self._factor(shift)
        if len(values) < count:
            raise SolverError(f"only {len(values)} eigenvalues next to {_hertz(near)} converged")
        order = np.argsort(values, kind="stable")
        kept = order[(values[order] > lower) & (values[order] < over)] if exists is not None else order
        found_ = _nearest(values[kept], X[:, kept], Wish(count=count, near=near), down or 0, self._words())
        exact = None if exists is None else (found_.exists if not missing else exists)
        return replace(found_, exists=exact, missing=missing, doubt=self.doubt, factorisations=self.factorisations,
                       below=None if exists is None else found_.below)  # fmt: skip


def _told_apart(theta: Floats) -> int:
    """How many of the first values of A stand clear of the rounding of the largest; others want a nearer shift."""
    size = np.abs(theta)
    clear = size > FAINT * size.max(initial=0.0)
    return int(np.argmin(clear)) if not clear.all() else len(theta)


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
        low = max(low, upto * (1.0 + EDGE))
        high = min(high, low * (1.0 + 4e-4)) if high > low else low * (1.0 + 4e-4)
    wide = min(high - low, max(4.0 * (low - shift), 1e-6 * high))  # no further than what is unfinished can be told from
    places = tuple(low + part * wide for part in (0.5, 0.35, 0.65, 0.8, 0.2))
    return top, places, over


def _finished(K: Matrix, M: Matrix, raw: _Raw, at: tuple[Factor, float] | None = None) -> EigenPairs:
    """Normalised, with what is known of the error; by the factor at a shift, or one that is made for it."""
    values, X = raw.values, np.ascontiguousarray(raw.vectors.T)  # rows from here on
    times = Symmetric(M)
    MX = times(X)
    norm = np.sqrt(np.maximum(np.einsum("ij,ij->i", X, MX), 1e-300))[:, None]
    X, MX = X / norm, MX / norm
    gram = inner(X, MX)
    loss = np.abs(gram - np.eye(len(values))).max(initial=0.0)
    if loss > 1e-13:
        # from the lowest up (Cholesky): what rounding did to the highest of many modes is taken from them alone
        try:
            X = np.ascontiguousarray(scipy.linalg.solve_triangular(np.linalg.cholesky(gram), X, lower=True))
            loss = np.abs(inner(X, times(X)) - np.eye(len(values))).max(initial=0.0)
        except np.linalg.LinAlgError:
            pass  # reported as loss of orthogonality
    held = at is not None and getattr(at[0], "there", True)
    factor, shift = at if at is not None and held else _solver_beside(K, M, values)
    residuals, rounding, off, far = _judged(K, M, values, X.T, factor, shift)
    # the Rayleigh quotient is nearer, where the next eigenvalue is known to be farther away (Temple 1928, Kato 1949)
    below = np.array([-np.inf]) if raw.below == 0 else values[:1]  # what lies beyond a band is not known
    gap = np.minimum(np.diff(values, prepend=below), np.diff(values, append=values[-1:]))
    apart = gap > 2.0 * far
    near = off + np.where(apart, far, 0.0) ** 2 / np.where(apart, gap - far, 1.0)
    errors = rounding + np.where(apart, np.minimum(far, near), far)
    return EigenPairs(
        values, X, residuals, errors, rounding, float(loss), raw.method, raw.exists, raw.missing, raw.below,
        raw.factorisations, raw.total, raw.doubt,
    )  # fmt: skip


class _DenseSolve:
    """K - σM by LAPACK, for pairs that were found without a sparse factor."""

    def __init__(self, K: Matrix, M: Matrix, shift: float) -> None:
        A = (explicit(K) - shift * explicit(M)).toarray()
        self._scale = 1.0 / np.sqrt(np.maximum(np.abs(np.diag(A)), 1e-300))[:, None]
        self._factor = LU(self._scale * A * self._scale.T)

    def solve(self, right: Floats) -> Floats:
        return self._scale * self._factor.solve(self._scale * right)


def _solver_beside(K: Matrix, M: Matrix, values: Floats) -> tuple[Factor | _DenseSolve | None, float]:
    """What solves with K - σM at no shift, or below zero where there are rigid-body motions; None where none holds."""
    elastic = values[values > 1e-9 * np.abs(values).max(initial=0.0)]
    shift = 0.0 if len(elastic) == len(values) else -0.5 * float(elastic[0]) if len(elastic) else -_scale(K, M)
    if K.shape[0] > DENSE_SIZE:
        with suppress(SolverError):
            factor = Pencil(K, M).at(shift)
            if not factor.perturbed:
                return factor, shift
    return (_DenseSolve(K, M, shift) if affordable(K.shape[0], REPAIR) else None), shift


def backward_errors(K: Matrix, M: Matrix, values: Floats, X: Floats) -> Floats:
    """‖K x - λ M x‖ / (‖ |K| |x| ‖ + |λ| ‖ |M| |x| ‖) of every column."""
    return _judged(K, M, values, X)[0]


def _judged(
    K: Matrix, M: Matrix, values: Floats, X: Floats, factor: Factor | _DenseSolve | None = None, shift: float = 0.0
) -> tuple[Floats, Floats, Floats, Floats]:
    """Of columns with xᵀ M x = 1: backward errors, rounding of λ, how far λ is from the Rayleigh quotient, and how far
    it may be from an eigenvalue by its residual r.

    With s = (K - σM)⁻¹ r there is an eigenvalue within |λ - σ| ‖s‖ / (1 - ‖s‖) of λ, ‖s‖² = sᵀ M s: the residual of
    1 / (λ - σ) in the norm in which that operator is self-adjoint (Parlett, *The Symmetric Eigenvalue Problem*, 4.5).
    """
    k, m = Symmetric(K), Symmetric(M)
    errors, rounding, off, far = np.empty((4, X.shape[1]))
    for a in range(0, X.shape[1], _ABREAST):
        span = slice(a, a + _ABREAST)
        block = np.array(X[:, span], order="C")
        lam = np.abs(values[span])
        stiff, heavy = magnitude(K, block), magnitude(M, block)
        size = np.maximum(_norms(stiff) + lam * _norms(heavy), 1e-300)
        rounding[span] = ROUNDING * np.einsum("ij,ij->j", np.abs(block), stiff + lam * heavy)
        rest = k.columns(block) - values[span] * m.columns(block)
        errors[span], off[span] = _norms(rest) / size, np.abs(np.einsum("ij,ij->j", block, rest))
        far[span] = np.inf
        if factor is not None:
            s = np.ascontiguousarray(factor.solve(rest))
            long = np.sqrt(np.maximum(np.einsum("ij,ij->j", s, m.columns(s)), 0.0))
            near = long < 0.5  # not so for numbers that are not finite
            own = np.where(near, long, 0.0)
            far[span] = np.where(near, np.abs(values[span] - shift) * own / (1.0 - own), np.inf)
    return errors, rounding, off, far


def _norms(columns: Floats) -> Floats:
    return np.sqrt(np.einsum("ij,ij->j", columns, columns))
