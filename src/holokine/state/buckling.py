"""Load factors of buckling: K + λ G has a direction without stiffness (K elastic, G from stress at λ = 1)."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import scipy.linalg
from scipy.sparse import csr_array

from holokine.errors import EquilibriumError, SolverError
from holokine.ranking import leading_signs
from holokine.solvers.factor import Factor, Pencil
from holokine.solvers.lanczos import block_lanczos
from holokine.system.wide import Matrix, explicit

if TYPE_CHECKING:
    from holokine.arrays import Floats

__all__ = ["FARTHEST", "Buckling", "buckling_factors"]

FARTHEST = 1000.0
"""Load factors beyond which none is looked for."""
_DENSE = 600


@dataclass(frozen=True)
class Buckling:
    """Load factors and shapes.

    Attributes
    ----------
    positive, negative : ndarray
        Load factors of the loads as given, lowest first; of loads the other way round, nearest to zero first.
    shapes, negative_shapes : ndarray, shape (factors, dofs)
        Largest translation 1.
    exist : int or None
        How many positive factors lie at or below the highest one given, by inertia; None where it is not known.
    all_positive, all_negative : bool
        Whether there is none beside those given within `FARTHEST`.
    """

    positive: Floats
    negative: Floats
    shapes: Floats
    negative_shapes: Floats
    exist: int | None
    all_positive: bool
    all_negative: bool


def buckling_factors(K: Matrix, G: Matrix, T: csr_array, count: int, *, base: float = 0.0) -> Buckling:
    """Lowest load factors.

    Parameters
    ----------
    K, G : sparse arrays, shape (independent, independent)
        Stiffness at the load factor `base`, positive definite, and what a unit of the factor adds to it.
    T : sparse array, shape (dofs, independent)
        Motions of the whole.
    count : int
        How many of either sign at most.
    base : float
        0, or 1 where the elastic stiffness alone is singular and `K` is that of the state.

    Raises
    ------
    EquilibriumError
        K is not positive definite.

    Notes
    -----
    K⁻¹ (-G) is self-adjoint in the inner product of K; its eigenvalue θ is 1 / (λ - base).
    """
    pencil = Pencil(K, G)
    factor = pencil.at(0.0, keep=True)
    if factor.negative:
        raise EquilibriumError(
            f"the stiffness that the load factor starts from has {factor.negative} negative directions: what is "
            "constant is beyond buckling by itself"
        )
    found = {}
    for sign in (1.0, -1.0):
        span = FARTHEST - base if sign > 0 else FARTHEST + base
        there = pencil.at(-sign * span).negative
        if base and there is not None and sign < 0:  # between the state and no load lie those of no load itself
            there -= pencil.at(base * (1.0 + 1e-9)).negative or 0
        wanted = count if there is None else min(count, there)
        theta, vectors = _pairs(K, G, factor, sign, wanted, base)
        found[sign] = base + 1.0 / theta if len(theta) else np.zeros(0), vectors, there
    positive, vectors, there = found[1.0]
    exist: int | None = len(positive)
    if len(positive) and there is not None and there > len(positive):
        exist = pencil.at(base - float(positive[-1]) * (1.0 + 1e-7)).negative
    if exist is not None and exist > len(positive) > 0:
        close = np.abs(positive / positive[-1] - 1.0) < 1e-6
        if exist > len(positive) + int(close.sum()):
            raise SolverError(f"{exist - len(positive)} load factors below {positive[-1]:.6g} were not found")
    negative, others, below = found[-1.0]
    return Buckling(
        positive, negative, _shapes(T, vectors), _shapes(T, others), None if there is None else exist,
        there == len(positive), below == len(negative),
    )  # fmt: skip


def _pairs(K: Matrix, G: Matrix, factor: Factor, sign: float, wanted: int, base: float) -> tuple[Floats, Floats]:
    """θ of largest size with a sign, and vectors as columns."""
    n = K.shape[0]
    if wanted <= 0:
        return np.zeros(0), np.zeros((n, 0))
    beyond = -1.0 + 1e-9 if base and sign < 0 else -np.inf  # θ = -1 / base is no load at all
    if n <= _DENSE:
        try:
            values, vectors = scipy.linalg.eigh(-explicit(G).toarray(), explicit(K).toarray())
        except np.linalg.LinAlgError:
            raise EquilibriumError(
                "the stiffness that the load factor starts from does not hold everything: what hangs by its stress "
                "alone has load factors only if none of its loads is constant"
            ) from None
        order = np.argsort(-sign * values)
        order = order[(sign * values[order] > 0.0) & (values[order] > beyond)][:wanted]
        return values[order], vectors[:, order]

    def solve(right: Floats) -> Floats:
        return np.asarray(factor.solve(np.ascontiguousarray(-(G @ np.asarray(factor.solve(right))))))

    extra = 12 if np.isfinite(beyond) else 0
    pairs = block_lanczos(
        solve, K, lambda theta: wanted + extra, block=min(4, n), most=max(40, 4 * (wanted + extra)),
        order=lambda theta: -sign * theta,
    )  # fmt: skip
    keep = np.flatnonzero((sign * pairs.theta > 0.0) & (pairs.theta > beyond))[:wanted]
    if len(keep) < wanted:
        raise SolverError(f"{wanted - len(keep)} of {wanted} load factors did not converge; ask for fewer")
    return pairs.theta[keep], pairs.vectors[:, keep]


def _shapes(T: csr_array, vectors: Floats) -> Floats:
    """Shapes of all dofs, their largest translation (else rotation) 1."""
    whole = np.asarray((T @ vectors).T)
    if not len(whole):
        return whole
    moving = np.linalg.norm(whole.reshape(len(whole), -1, 6)[:, :, :3], axis=2).max(axis=1)
    turning = np.abs(whole).max(axis=1)
    size = np.where(moving > 1e-9 * turning, moving, turning)
    return whole * (leading_signs(whole) / size)[:, None]
