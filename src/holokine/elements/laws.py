"""Forces of springs over their elongation: tables and laws, with their slopes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, TypeVar

import numpy as np

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe.schema import Spring

__all__ = ["ForceLaw", "force_law"]

_Number = TypeVar("_Number", float, "Floats")


@dataclass(frozen=True)
class ForceLaw:
    """Force of a spring over its elongation, tension positive: straight between rows, or a polynomial.

    Attributes
    ----------
    rows : ndarray, shape (rows, 2)
        Elongation in m and force in N, rising; empty for a polynomial.
    terms : tuple of float
        Of the polynomial: N/m, N/m², N/m³.
    free_below, free_above : bool
        Whether the force is zero beyond that end (a table of one side), not unknown.
    held : bool
        Whether the last force is held beyond the ends.
    """

    rows: Floats
    terms: tuple[float, float, float] = (0.0, 0.0, 0.0)
    free_below: bool = False
    free_above: bool = False
    held: bool = False

    def force(self, e: float) -> float:
        """Force in N at an elongation in m; beyond the ends of a table the last slope goes on (see `beyond`)."""
        if not len(self.rows):
            return self.polynomial(e)[0]
        x, f = self.rows.T
        if e < x[0]:
            return 0.0 if self.free_below else float(f[0] + self.slope(e) * (e - x[0]))
        if e > x[-1]:
            return 0.0 if self.free_above else float(f[-1] + self.slope(e) * (e - x[-1]))
        return float(np.interp(e, x, f))

    def polynomial(self, e: _Number) -> tuple[_Number, _Number]:
        """Force of a polynomial at an elongation (or at many), and its slope."""
        a, b, c = self.terms
        return a * e + b * e**2 + c * e**3, a + 2.0 * b * e + 3.0 * c * e**2

    def energy(self, e: float) -> float:
        """Work in J of the force from no elongation to `e` in m; beyond the ends of a table as `force` goes on."""
        if not len(self.rows):
            a, b, c = self.terms
            return a * e**2 / 2.0 + b * e**3 / 3.0 + c * e**4 / 4.0
        inside = self.rows[(self.rows[:, 0] > min(e, 0.0)) & (self.rows[:, 0] < max(e, 0.0)), 0]
        at = np.concatenate([[0.0], inside if e > 0.0 else inside[::-1], [e]])
        force = np.array([self.force(float(x)) for x in at])
        return float(np.sum(np.diff(at) * (force[1:] + force[:-1]) / 2.0))

    def slope(self, e: float) -> float:
        """Stiffness in N/m at an elongation; at a row the mean of both sides."""
        if not len(self.rows):
            return self.polynomial(e)[1]
        x = self.rows[:, 0]
        slopes = np.diff(self.rows[:, 1]) / np.diff(x)
        first = 0.0 if self.free_below or self.held else float(slopes[0])
        last = 0.0 if self.free_above or self.held else float(slopes[-1])
        every = np.concatenate([[first], slopes, [last]])
        near = 1e-9 * float(x[-1] - x[0])
        before, after = np.searchsorted(x, e - near), np.searchsorted(x, e + near)
        return float((every[before] + every[after]) / 2.0)

    def piece(self, number: int) -> tuple[float, float, float, float]:
        """Of a straight piece of a table: stiffness, force at no elongation, and between which elongations it holds.

        Piece 0 lies below the first row, piece n beyond the n-th.
        """
        x = np.concatenate([[-np.inf], self.rows[:, 0], [np.inf]])
        low, high = float(x[number]), float(x[number + 1])
        wide = float(x[-2] - x[1])
        e = 0.5 * (max(low, float(x[1]) - wide) + min(high, float(x[-2]) + wide))
        k = self.slope(e)
        return k, self.force(e) - k * e, low, high

    def beyond(self, e: float) -> bool:
        """Whether an elongation lies beyond what is known."""
        if not len(self.rows) or self.held:
            return False
        return bool((e < self.rows[0, 0] and not self.free_below) or (e > self.rows[-1, 0] and not self.free_above))

    @property
    def steepest(self) -> float:
        """A stiffness in N/m, greater than 0, as large as any slope of the table, or as the terms at rest."""
        if not len(self.rows):
            a, b, c = self.terms
            return max(abs(a), 1e-3 * abs(b), 1e-6 * abs(c))
        return float(np.abs(np.diff(self.rows[:, 1]) / np.diff(self.rows[:, 0])).max())


def force_law(spring: Spring) -> ForceLaw | None:
    """The force of a spring whose stiffness is not one number; None of others."""
    if spring.law is not None:
        return ForceLaw(np.zeros((0, 2)), (spring.law.linear, spring.law.quadratic, spring.law.cubic))
    if spring.force is None:
        return None
    rows = np.array(spring.force)
    one_sided = rows[0, 0] == 0.0 or rows[-1, 0] == 0.0
    if one_sided and spring.mirrored:
        rows = np.concatenate([-rows[:0:-1], rows]) if rows[0, 0] == 0.0 else np.concatenate([rows, -rows[-2::-1]])
        one_sided = False
    below, above = one_sided and rows[0, 0] == 0.0, one_sided and rows[-1, 0] == 0.0
    return ForceLaw(rows, free_below=below, free_above=above, held=spring.beyond == "held")
