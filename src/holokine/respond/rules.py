"""Rules for combining the largest values of modes, and of directions.

Every rule works on modal values with their signs, quantity by quantity. Quadratic rules are matrices C in
R² = Σ_ij C_ij R_i R_j: the unit matrix (SRSS), the correlation of Der Kiureghian (CQC), or with |R_i R_j| the
double sum for a motion of finite duration (Rosenblueth & Elorduy, Proc. 4th World Conf. Earthquake Eng., 1969) and
the grouping of close modes (U.S. NRC Regulatory Guide 1.92, rev. 1, 1976). Largest plus SRSS of the rest: O'Hara &
Belsheim, NRL Report 6002, 1963. Rigid part of each mode, combined algebraically: Gupta, Response Spectrum Method
(1990), chapter 3; Regulatory Guide 1.92, rev. 3, 2012. Directions: SRSS, percentage rules (ASCE 4-16, section
4.2.2), or absolute.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from itertools import permutations
from typing import TYPE_CHECKING, Any, Literal

import numpy as np

if TYPE_CHECKING:
    from holokine.arrays import Floats

__all__ = [
    "DIRECTION_RULES",
    "RULES",
    "Beside",
    "Combination",
    "DirectionRule",
    "Rule",
    "cqc_correlation",
    "double_sum_correlation",
    "grouping",
    "over_directions",
    "rigid_share",
]

Rule = Literal["srss", "cqc", "absolute", "largest plus srss", "grouped", "double sum"]
Beside = Literal["absolute", "srss"]
DirectionRule = Literal["srss", "absolute", "100-30-30", "100-40-40"]
RULES: tuple[Rule, ...] = ("srss", "cqc", "double sum", "grouped", "largest plus srss", "absolute")
DIRECTION_RULES: tuple[DirectionRule, ...] = ("srss", "100-30-30", "100-40-40", "absolute")


def cqc_correlation(omega: Floats, damping: Floats) -> Floats:
    """Correlation of modes under wide-band excitation, shape (modes, modes).

    ρ_ij = 8 √(ζi ζj) (ζi + r ζj) r^{3/2} / ((1 - r²)² + 4 ζi ζj r (1 + r²) + 4 (ζi² + ζj²) r²), r = ωj / ωi
    (Der Kiureghian 1981, eq. 13).
    """
    r = omega[None, :] / omega[:, None]
    zi, zj = damping[:, None], damping[None, :]
    top = 8.0 * np.sqrt(zi * zj) * (zi + r * zj) * r**1.5
    bottom = (1.0 - r**2) ** 2 + 4.0 * zi * zj * r * (1.0 + r**2) + 4.0 * (zi**2 + zj**2) * r**2
    return top / bottom


def double_sum_correlation(omega: Floats, damping: Floats, duration: float) -> Floats:
    """ε_ij = 1 / (1 + ((ω'i - ω'j) / (ζ'i ωi + ζ'j ωj))²), ω' = ω √(1 - ζ²), ζ' = ζ + 2 / (t ω), shape (modes, modes).

    `duration`: t of the motion in s.
    """
    damped = omega * np.sqrt(np.maximum(1.0 - damping**2, 0.0))
    widened = (damping + 2.0 / (duration * omega)) * omega
    return 1.0 / (1.0 + ((damped[:, None] - damped) / (widened[:, None] + widened)) ** 2)


def grouping(omega: Floats, within: float = 0.1) -> Floats:
    """1 for modes of one group, else 0, shape (modes, modes).

    Groups from the lowest mode up: each takes the modes within 10 % of its first frequency.
    """
    group = np.zeros(len(omega), dtype=int)
    order = np.argsort(omega, kind="stable")
    number, first = -1, -np.inf
    for i in order:
        if omega[i] > first * (1.0 + within):
            number, first = number + 1, omega[i]
        group[i] = number
    return (group[:, None] == group).astype(float)


def rigid_share(frequencies: Floats, low: float, high: float) -> Floats:
    """Share α of each mode that moves in phase with the base: 0 up to `low` Hz, 1 from `high`, logarithmic between."""
    return np.clip(np.log(np.maximum(frequencies, 1e-300) / low) / np.log(high / low), 0.0, 1.0)


def over_directions(values: Floats, rule: DirectionRule) -> Floats:
    """Combine results of directions, shape (directions, ...), each at least zero.

    A percentage rule takes the largest sum over which direction counts in full; results of one direction are
    largest values without sign, so the permutation of signs that is largest adds them.
    """
    if rule == "absolute":
        return np.abs(values).sum(axis=0)
    if rule == "srss" or len(values) == 1:
        return np.sqrt((values**2).sum(axis=0))
    part = 0.3 if rule == "100-30-30" else 0.4
    size = np.abs(values)
    factors = [1.0, part, part][: len(values)]
    return np.max([np.tensordot(np.array(p), size, axes=1) for p in set(permutations(factors))], axis=0)


@dataclass(frozen=True)
class Sources:
    """Where a spectrum acts: columns, each along an axis, of the whole base or of one group of supports.

    Attributes
    ----------
    names : tuple of str
        Columns of the reduced model.
    axes : tuple of str
        x, y or z of each.
    supports : str
        Rule over groups of supports of one axis: absolute, srss, or algebraic (they move in phase; the modal values
        are then added with their signs before modes are combined).
    directions : str
        Rule over the axes.
    """

    names: tuple[str, ...]
    axes: tuple[str, ...]
    directions: DirectionRule = "srss"
    supports: str = "absolute"

    @property
    def results(self) -> tuple[str, ...]:
        """Names of what is combined over modes: the columns, or the axes where columns add algebraically."""
        return tuple(dict.fromkeys(self.axes)) if self.supports == "algebraic" else self.names

    def gathered(self, values: Floats, at: int) -> Floats:
        """Columns (axis `at` of the array) added up to `results`."""
        if self.supports != "algebraic":
            return values
        moved = np.moveaxis(values, at, 0)
        return np.moveaxis(self._by_axis(moved, np.sum), 0, at)

    def _by_axis(self, values: Floats, add: Any) -> Floats:
        axes = np.array(self.axes)
        return np.array([add(values[axes == a], axis=0) for a in dict.fromkeys(self.axes)])

    def over(self, values: Floats) -> Floats:
        """Combine combined results, shape (results, ...), over groups of supports and then over directions."""
        if len(values) == len(self.axes) and len(set(self.axes)) < len(self.axes):
            rule = "srss" if self.supports == "srss" else "absolute"
            values = self._by_axis(values, lambda v, axis: over_directions(v, rule))  # type: ignore[arg-type]
        return over_directions(values, self.directions)

    def over_apart(self, sizes: Floats) -> Floats:
        """Sizes of what each column strains at rest, (columns, ...): over groups absolutely, then over directions."""
        return replace(self, supports="absolute").over(sizes)


@dataclass(frozen=True)
class Combination:
    """A rule made ready for some modes.

    Attributes
    ----------
    rule : str
    matrix : ndarray, shape (modes, modes), or None
        C of a quadratic rule; None for the unit matrix and for rules that are none.
    rigid : ndarray, shape (modes, directions), or None
        Share of each mode that is combined algebraically, with the missing mass.
    beside : str
        How the rigid part (the missing mass) joins the combined modes: absolute or srss.
    duration : float
        Of the motion in s, for the double sum.
    """

    rule: Rule
    matrix: Floats | None = None
    rigid: Floats | None = None
    beside: Beside = "srss"
    duration: float = 10.0

    @classmethod
    def make(
        cls,
        rule: Rule,
        omega: Floats,
        damping: Floats,
        *,
        duration: float = 10.0,
        rigid: Floats | None = None,
        beside: Beside | None = None,
    ) -> Combination:
        """Of a rule; `duration` in s for the double sum; `beside` is absolute for the absolute sum, else srss."""
        matrix = None
        if rule == "cqc":
            matrix = cqc_correlation(omega, damping)
        elif rule == "double sum":
            matrix = double_sum_correlation(omega, damping, duration)
        elif rule == "grouped":
            matrix = grouping(omega)
        return cls(rule, matrix, rigid, beside or ("absolute" if rule == "absolute" else "srss"), duration)

    @property
    def signless(self) -> bool:
        """Whether cross terms count with their size, whatever the signs of the modes."""
        return self.rule in ("double sum", "grouped")

    def split(self, values: Floats, missing: Floats) -> tuple[Floats, Floats]:
        """Periodic part of every mode, and the rigid part of all with the missing mass, which adds algebraically.

        Parameters
        ----------
        values : ndarray, shape (modes, directions, ...)
        missing : ndarray, shape (directions, ...)
        """
        if self.rigid is None:
            return values, missing
        a = self.rigid.reshape(*self.rigid.shape, *([1] * (values.ndim - 2)))
        return values * np.sqrt(1.0 - a**2), (a * values).sum(axis=0) + missing

    def periodic(self, values: Floats) -> Floats:
        """Combine modal values, shape (modes, ...), over the modes; at least zero."""
        size = np.abs(values)
        if self.rule == "absolute":
            return size.sum(axis=0)
        if self.rule == "largest plus srss":
            most = size.max(axis=0)
            return most + np.sqrt(np.maximum((size**2).sum(axis=0) - most**2, 0.0))
        if self.matrix is None:
            return np.sqrt((size**2).sum(axis=0))
        flat = (size if self.signless else values).reshape(len(values), -1)
        total = np.einsum("ic,ic->c", flat, self.matrix @ flat)
        return np.sqrt(np.maximum(total, 0.0)).reshape(values.shape[1:])

    def combined(self, values: Floats, missing: Floats) -> Floats:
        """Modes and missing mass of each direction, shape (modes, directions, ...) to (directions, ...)."""
        periodic, rigid = self.split(values, missing)
        p = self.periodic(periodic)
        return p + np.abs(rigid) if self.beside == "absolute" else np.sqrt(p**2 + rigid**2)

    def form(self, values: Floats, missing: Floats, A: Floats) -> Floats:
        """√(σᵀ A σ) combined by the same rule, never from combined components, which have lost their signs.

        Parameters
        ----------
        values : ndarray, shape (modes, directions, places, components)
        missing : ndarray, shape (directions, places, components)

        Returns
        -------
        ndarray, shape (directions, places)
        """
        periodic, rigid = self.split(values, missing)
        rest = np.sqrt(np.maximum(np.einsum("dpi,ij,dpj->dp", rigid, A, rigid), 0.0))
        if self.rule in ("absolute", "largest plus srss"):
            each = np.sqrt(np.maximum(np.einsum("mdpi,ij,mdpj->mdp", periodic, A, periodic, optimize=True), 0.0))
            p = self.periodic(each)
        elif self.signless:
            assert self.matrix is not None
            p2 = np.zeros(rest.shape)
            for i in range(len(periodic)):
                near = np.flatnonzero(self.matrix[i] > 1e-6)
                product = np.abs(np.einsum("dpi,kdpi->kdp", periodic[i] @ A, periodic[near]))
                p2 += np.tensordot(self.matrix[i, near], product, axes=1)
            p = np.sqrt(p2)
        else:
            weighted = periodic if self.matrix is None else np.tensordot(self.matrix, periodic, axes=1)
            p = np.sqrt(np.maximum(np.einsum("mdpi,mdpi->dp", periodic @ A, weighted), 0.0))
        return p + rest if self.beside == "absolute" else np.sqrt(p**2 + rest**2)

    def shares(self, values: Floats, missing: Floats, A: Floats) -> tuple[Floats, float]:
        """Contributions of the modes, and of the missing mass, to the square of √(RᵀAR) summed over directions.

        By Euler's theorem on homogeneous functions: R_i ∂R/∂R_i, so that the contributions add up to the whole.

        Parameters
        ----------
        values : ndarray, shape (modes, directions, components)
        missing : ndarray, shape (directions, components)
        """
        periodic, rigid = self.split(values, missing)
        along = np.zeros(values.shape) if self.rigid is None else self.rigid[:, :, None] * values
        algebraic = np.einsum("mdi,ij,dj->md", along, A, rigid)
        left = np.einsum("di,ij,dj->d", missing, A, rigid)
        if self.rule in ("absolute", "largest plus srss"):
            size = np.sqrt(np.maximum(np.einsum("mdi,ij,mdj->md", periodic, A, periodic), 0.0))
            p = self.periodic(size)
            if self.rule == "absolute":
                mode = p * size
            else:
                mode = p * self._slope(size)
        elif self.signless:
            assert self.matrix is not None
            pair = np.abs(np.einsum("mdi,ij,kdj->dmk", periodic, A, periodic))
            mode = (pair * self.matrix).sum(axis=2).T
        else:
            weighted = periodic if self.matrix is None else np.tensordot(self.matrix, periodic, axes=1)
            mode = ((periodic @ A) * weighted).sum(axis=2)
        if self.beside == "absolute":  # R = p + r in place of R² = p² + r²
            p2, r2 = np.maximum(mode.sum(axis=0), 0.0), np.maximum(algebraic.sum(axis=0) + left, 0.0)
            p, r = np.sqrt(p2), np.sqrt(r2)
            mode = mode * (1.0 + r / np.where(p > 0, p, 1.0))
            more = 1.0 + p / np.where(r > 0, r, 1.0)
            algebraic, left = algebraic * more, left * more
        return (mode + algebraic).sum(axis=1), float(left.sum())

    @staticmethod
    def _slope(size: Floats) -> Floats:
        """R_i ∂R/∂R_i of the largest plus SRSS of the rest, shape (modes, directions)."""
        rest = np.sqrt(np.maximum((size**2).sum(axis=0) - size.max(axis=0) ** 2, 0.0))
        slope = size**2 / np.where(rest > 0, rest, 1.0)
        slope[size.argmax(axis=0), np.arange(size.shape[1])] = size.max(axis=0)
        return np.asarray(slope)
