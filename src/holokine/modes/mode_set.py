"""Natural frequencies and mode shapes with all that is known of them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from holokine.errors import UnknownNameError

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.findings import Finding
    from holokine.system.build import System
    from holokine.system.totals import MassTotals

__all__ = ["RITZ", "ModeSet", "unsure"]

DIGITS = 1e-5  # of a frequency: tables show four digits
RITZ = "load-dependent Ritz vectors"
"""Method of vectors that are not natural modes."""


def unsure(frequencies: Floats, errors: Floats) -> NDArray[np.bool_]:
    """Which frequencies are not known to the digits that tables show; NaN tells nothing."""
    return np.asarray((errors > DIGITS * frequencies) & (frequencies > 0.0))


@dataclass(frozen=True)
class ModeSet:
    """Natural frequencies and mode shapes.

    Attributes
    ----------
    build : callable
        Makes the system when something needs it (`system`).
    frequencies_hz : ndarray, shape (modes,)
        Rising; rigid-body modes are exactly 0.
    shapes : ndarray, shape (modes, dofs)
        Mass-normalised, the largest component (of equal ones the first) positive; dofs are x y z rx ry rz per node in
        m and rad.
    rigid : ndarray of bool, shape (modes,)
        Rigid-body modes.
    residuals : ndarray, shape (modes,)
        Relative residual of each pair (see `solvers.eigen`).
    errors_hz : ndarray, shape (modes,)
        Bound of the error of each frequency as one of these matrices: what the extraction left, and rounding (see
        `solvers.eigen`); not of what the mesh makes. NaN where it is not known.
    orthogonality : float
        Largest entry of |Φ M Φᵀ - I|.
    method : str
    exists : int or None
        Modes that exist in the asked range, up to its end or the highest kept, by inertia; None where not known.
    missing : int
        How many of those could not be found.
    below : int or None
        Modes below the lowest kept one (0 unless a range higher up was asked for); None where not known.
    searched : str
        The range asked for, in words.
    participation : ndarray, shape (modes, 6)
        Participation factors Γ = φᵀ M r; rotations about the centre of mass.
    totals : MassTotals
    whole_mass, free_mass : ndarray, shape (6,)
        Mass in kg (x y z) and inertia in kg m² (rx ry rz, about the centre of mass): all of it, and what is
        free to move, to which the effective masses of all modes sum.
    free_words : tuple of str
        Rigid-body motions that nothing holds.
    findings : tuple of Finding
    total : int or None
        How many modes there are at all, where all are known.
    upto_hz : float or None
        To where the count is proven, where that is above the highest mode kept: the range asked for holds no more.
    doubt : str
        What of all this is not proven, in words; empty where all is.
    """

    build: Callable[[], System]
    frequencies_hz: Floats
    shapes: Floats
    rigid: NDArray[np.bool_]
    residuals: Floats
    orthogonality: float
    method: str
    exists: int | None
    missing: int
    below: int | None
    searched: str
    participation: Floats
    totals: MassTotals
    whole_mass: Floats
    free_mass: Floats
    free_words: tuple[str, ...]
    findings: tuple[Finding, ...]
    total: int | None = None
    doubt: str = ""
    upto_hz: float | None = None
    errors_hz: Floats = field(default_factory=lambda: np.zeros(0))

    def __post_init__(self) -> None:
        if len(self.errors_hz) != self.count:
            object.__setattr__(self, "errors_hz", np.full(self.count, np.nan))
        for name in ("frequencies_hz", "shapes", "rigid", "residuals", "participation", "whole_mass", "free_mass",
                     "errors_hz"):  # fmt: skip
            getattr(self, name).setflags(write=False)  # shared by all that is made of them

    @cached_property
    def system(self) -> System:
        """The system that the modes are of."""
        return self.build()

    @property
    def count(self) -> int:
        """Number of modes."""
        return len(self.frequencies_hz)

    @property
    def numbers(self) -> NDArray[np.int64]:
        """Number of each mode, from 1 for the lowest of the assembly (from 1 here where that is not known)."""
        return np.arange(1, self.count + 1) + (self.below or 0)

    def index(self, mode: int) -> int:
        """Row of a mode by its number.

        Raises
        ------
        UnknownNameError
        """
        row = int(mode) - 1 - (self.below or 0)
        if not 0 <= row < self.count:
            raise UnknownNameError(
                f"there is no mode {mode}: modes {self.numbers[0]} to {self.numbers[-1]} were extracted"
            )
        return row

    @property
    def unsure(self) -> NDArray[np.bool_]:
        """Modes whose frequency is not known to the digits that tables show, shape (modes,)."""
        return unsure(self.frequencies_hz, self.errors_hz)

    @property
    def from_the_bottom(self) -> bool:
        """Whether the lowest mode of the assembly is the first one here."""
        return self.below == 0

    @property
    def omega(self) -> Floats:
        """Angular frequencies in rad/s, shape (modes,)."""
        return 2.0 * np.pi * self.frequencies_hz

    @property
    def effective_mass(self) -> Floats:
        """Γ², in kg (x y z) and kg m² (rx ry rz), shape (modes, 6)."""
        return self.participation**2

    def unit_maximum(self) -> Floats:
        """Shapes scaled so that the largest translation is 1, shape (modes, dofs)."""
        nodes = self.shapes.reshape(self.count, -1, 6)[:, :, :3]
        size = np.linalg.norm(nodes, axis=2).max(axis=1, initial=0.0)
        fallback = np.abs(self.shapes).max(axis=1, initial=0.0)
        size = np.where(size > 1e-9 * fallback, size, fallback)
        return self.shapes / size[:, None]

    def at_energy(self, energy: float) -> Floats:
        """Shapes at the deformation that holds so many J of strain energy, (modes, dofs); NaN for rigid-body modes."""
        omega = np.where(self.omega > 0, self.omega, np.nan)
        return np.asarray(self.shapes * (np.sqrt(2.0 * energy) / omega)[:, None])
