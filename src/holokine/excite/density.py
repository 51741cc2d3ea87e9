"""Densities over frequency: straight pieces on logarithmic axes, integrated exactly."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.describe.events.random_event import Density, LoadDensity
from holokine.errors import EventError
from holokine.excite.tables import parse_columns, read_columns

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe.files import Folder

__all__ = ["PowerPieces", "build_density", "crossed"]

MOST_SPREAD = 1e30  # highest over lowest density
OCTAVE = 10.0 * np.log10(2.0)  # dB of a density that goes with the frequency, per octave


@dataclass(frozen=True)
class PowerPieces:
    """A density made of pieces S = level (f / from)^exponent, one after the other.

    Attributes
    ----------
    start, end : ndarray, shape (pieces,)
        Hz.
    level : ndarray, shape (pieces,)
        At the start of each.
    exponent : ndarray, shape (pieces,)
    """

    start: Floats
    end: Floats
    level: Floats
    exponent: Floats

    @classmethod
    def through(cls, frequency: Floats, density: Floats) -> PowerPieces:
        """Straight on logarithmic axes through rows; a frequency twice is a step; beside a row of 0 is nothing."""
        wide = np.diff(frequency) > 0
        some = (density[:-1] > 0) & (density[1:] > 0)
        log = np.log(np.where(density > 0, density, 1.0))
        slope = np.where(some, np.diff(log), 0.0)[wide] / np.diff(np.log(frequency))[wide]
        return cls(frequency[:-1][wide], frequency[1:][wide], np.where(some, density[:-1], 0.0)[wide], slope)

    def at(self, f: Floats) -> Floats:
        """Values at frequencies; nothing outside."""
        k = np.clip(np.searchsorted(self.end, f, side="left"), 0, len(self.end) - 1)
        inside = (f >= self.start[0]) & (f <= self.end[-1])
        value = self.level[k] * (np.maximum(f, 1e-300) / self.start[k]) ** self.exponent[k]
        return np.where(inside, value, 0.0)

    def moment(self, power: float = 0.0) -> float:
        """∫ f^power S df, exactly."""
        m = self.exponent + power + 1.0
        log = np.log(self.end / self.start)
        flat = np.abs(m * log) < 1e-8  # (e^x - 1) / x near nothing
        safe = np.where(flat, 1.0, m)
        grown = np.where(flat, log * (1.0 + 0.5 * m * log), np.expm1(m * log) / safe)
        return float((self.level * self.start ** (power + 1.0) * grown).sum())

    @property
    def rms(self) -> float:
        """Overall RMS."""
        return float(np.sqrt(self.moment()))


def crossed(one: PowerPieces, other: PowerPieces) -> PowerPieces | None:
    """√(S₁ S₂) where both are; None where they do not meet."""
    low, high = max(one.start[0], other.start[0]), min(one.end[-1], other.end[-1])
    if low >= high:
        return None
    edges = np.unique(np.concatenate([one.start, one.end, other.start, other.end]))
    edges = edges[(edges >= low) & (edges <= high)]
    start, middle = edges[:-1], np.sqrt(edges[:-1] * edges[1:])
    found = []
    for d in (one, other):
        k = np.clip(np.searchsorted(d.end, middle, side="left"), 0, len(d.end) - 1)
        found.append((d.level[k] * (start / d.start[k]) ** d.exponent[k], d.exponent[k]))
    (a, m), (b, n) = found
    return PowerPieces(start, edges[1:], np.sqrt(a * b), 0.5 * (m + n))


def build_density(given: Density, folder: Folder | None, source: str, reach: tuple[float, float]) -> PowerPieces:
    """A density as the description says it; `reach`: where one that is held goes to, in Hz.

    Raises
    ------
    EventError
        Files and tables that cannot be used.
    """
    own: Any = given
    if given.frequency is not None:
        f = np.array(given.frequency)
        if own.density is not None:
            values = np.array(own.density)
        else:
            steps = np.array(own.slopes) / OCTAVE * np.diff(np.log(f))
            with np.errstate(over="ignore"):  # looked at below
                values = np.exp(np.concatenate([[0.0], np.cumsum(steps)]))
            at = given.frequency[0] if given.at is None else given.at
            values *= own.level / values[given.frequency.index(at)]
    else:
        if given.file is not None:
            source = f"{source}, {Path(given.file).name}"
            columns = read_columns(given.file, folder)
        else:
            columns = parse_columns(str(given.pasted).strip().splitlines(), f"{source}, pasted")
        wanted = "factor density" if isinstance(given, LoadDensity) else "density"
        if "frequency" not in columns or wanted not in columns:
            unit = "density_per_hz" if wanted == "factor density" else "density_g2_hz"
            raise EventError(f"{source}: expected the columns frequency_hz and {unit}, got {', '.join(columns)}")
        f, values = columns["frequency"], columns[wanted]
        if len(f) < 2 or (f <= 0).any() or (np.diff(f) < 0).any() or f[0] == f[-1] or (values < 0).any():
            raise EventError(f"{source}: needs two rows at least, frequencies that rise, and densities of at least 0")
    values = values * given.scale
    some = values > 0
    if not some.any():
        raise EventError(f"{source}: its densities are all 0")
    if not np.isfinite(values).all() or values.max() > MOST_SPREAD * values[some].min():
        raise EventError(
            f"{source}: its densities range over more than {np.log10(MOST_SPREAD):.0f} powers of ten, which no "
            "vibration does: look at slopes (dB per octave; usual are 3 to 24) and units"
        )
    if given.outside == "hold":
        low, high = reach
        if low < f[0]:
            f, values = np.concatenate([[low], f]), np.concatenate([values[:1], values])
        if high > f[-1]:
            f, values = np.concatenate([f, [high]]), np.concatenate([values, values[-1:]])
    pieces = PowerPieces.through(f, values)
    if not pieces.level.any():
        raise EventError(f"{source}: beside a row of 0 there is nothing, and so there is between all of its rows")
    return pieces
