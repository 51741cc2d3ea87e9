"""Response spectra: peak pseudo-acceleration of a one-degree oscillator against its natural frequency."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.errors import EventError
from holokine.excite.tables import parse_columns, read_columns

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe.events.spectrum_event import Corners, Interpolation, Outside, SpectrumTable
    from holokine.describe.files import Folder

__all__ = ["ResponseSpectrum", "broadened", "build_spectrum", "enveloped", "from_corners"]


@dataclass(frozen=True)
class ResponseSpectrum:
    """A response spectrum.

    Attributes
    ----------
    frequency_hz : ndarray, shape (points,)
        Rising.
    acceleration : ndarray, shape (points,)
        Pseudo-acceleration in m/s².
    interpolate : {"log-log", "linear"}
        Between points.
    outside : {"error", "hold", "zero"}
        Beyond the table: an error, the end value, or nothing.
    powers : tuple of int
        What is held below and above the table: acceleration times that power of the angular frequency is constant (0
        of pseudo-acceleration, 1 of pseudo-velocity, 2 of displacement), as the table is in it.
    damping : float, optional
        Damping ratio that the table is for.
    levels : tuple of ResponseSpectrum
        The same at other damping ratios, rising, this one included; between them log-log in damping, held outside.
    source : str
        For messages and figures.
    """

    frequency_hz: Floats
    acceleration: Floats
    interpolate: Interpolation = "log-log"
    outside: Outside = "error"
    source: str = "spectrum"
    damping: float | None = None
    levels: tuple[ResponseSpectrum, ...] = ()
    powers: tuple[int, int] = (0, 0)

    def __post_init__(self) -> None:
        f, a = self.frequency_hz, self.acceleration
        if len(f) < 2 or len(f) != len(a):
            raise EventError(f"{self.source}: needs two points at least, and as many values as frequencies")
        if not (np.isfinite(f).all() and np.isfinite(a).all()):
            raise EventError(f"{self.source}: holds values that are not finite numbers")
        if (f <= 0).any():
            raise EventError(f"{self.source}: frequencies must be greater than 0")
        back = np.flatnonzero(np.diff(f) <= 0)
        if len(back):
            i = int(back[0])
            word = "appears twice" if f[i] == f[i + 1] else f"is followed by {f[i + 1]:g} Hz"
            swapped = "; are the columns swapped?" if (np.diff(a) > 0).all() else ""
            raise EventError(f"{self.source}: frequencies must rise; point {i + 1}, {f[i]:g} Hz, {word}{swapped}")
        if (a < 0).any() or (self.interpolate != "linear" and (a <= 0).any()):
            least = "greater than 0 for logarithmic interpolation" if self.interpolate != "linear" else "at least 0"
            raise EventError(f"{self.source}: values must be {least}")

    def held(self) -> ResponseSpectrum:
        """The same with end values held outside the table."""
        return replace(self, outside="hold", levels=tuple(replace(level, outside="hold") for level in self.levels))

    def at(self, frequencies: Floats, damping: Floats | None = None) -> Floats:
        """Pseudo-acceleration in m/s² at frequencies in Hz, for damping ratios where there are several levels.

        Raises
        ------
        EventError
            A frequency outside the table, unless `outside` is "hold".
        """
        f = np.asarray(frequencies, dtype=float)
        if self.levels and damping is not None:
            return self._between_levels(f, np.broadcast_to(np.asarray(damping, dtype=float), f.shape))
        beyond = (f < self.frequency_hz[0] * (1 - 1e-12)) | (f > self.frequency_hz[-1] * (1 + 1e-12))
        if self.outside == "error" and beyond.any():
            shown = ", ".join(f"{v:.4g}" for v in f[beyond][:5]) + (" ..." if beyond.sum() > 5 else "")
            higher = bool((f > self.frequency_hz[-1]).any()) and not bool((f < self.frequency_hz[0]).any())
            fewer = " keep fewer modes (upto)," if higher else ""
            raise EventError(
                f"{self.source}: {int(beyond.sum())} of the modes lie outside the table of "
                f"{self.frequency_hz[0]:g} to {self.frequency_hz[-1]:g} Hz: {shown} Hz. Extend the table,{fewer} or "
                "write outside: hold to use the end values"
            )
        if self.interpolate == "linear":
            values = np.interp(f, self.frequency_hz, self.acceleration)
        elif self.interpolate == "semi-log":  # frequency on a logarithmic axis, values on a linear one
            values = np.interp(np.log(f), np.log(self.frequency_hz), self.acceleration)
        else:
            values = np.exp(np.interp(np.log(f), np.log(self.frequency_hz), np.log(self.acceleration)))
        if self.outside == "zero":
            return np.where(beyond, 0.0, values)
        low, high = self.frequency_hz[0], self.frequency_hz[-1]
        below, above = self.powers
        return values * np.minimum(f / low, 1.0) ** below * np.maximum(f / high, 1.0) ** above

    def _between_levels(self, f: Floats, damping: Floats) -> Floats:
        ratios = np.log([max(float(level.damping or 0.0), 1e-4) for level in self.levels])
        values = np.stack([np.log(np.maximum(level.at(f), 1e-300)) for level in self.levels])
        z = np.clip(np.log(np.maximum(damping, 1e-4)), ratios[0], ratios[-1])
        k = np.clip(np.searchsorted(ratios, z, side="right") - 1, 0, len(ratios) - 2)
        share = (z - ratios[k]) / (ratios[k + 1] - ratios[k])
        columns = np.arange(len(f))
        return np.exp((1.0 - share) * values[k, columns] + share * values[k + 1, columns])


def build_spectrum(
    table: SpectrumTable,
    *,
    folder: Folder | None = None,
    interpolate: Interpolation = "log-log",
    outside: Outside = "error",
    source: str = "spectrum",
) -> ResponseSpectrum:
    """A spectrum from what the description says: a table, a CSV file, corners, an envelope, or damping levels.

    Velocity and displacement columns are pseudo quantities: acceleration = ω · velocity = ω² · displacement.
    Broadening, scale and floor are applied in this order.

    Raises
    ------
    EventError
        Tables and files that cannot be used, damping levels that repeat.
    """
    keys: dict[str, Any] = {"folder": folder, "interpolate": interpolate, "outside": outside}
    if table.levels is not None:
        parts = []
        for ratio, other in sorted(table.levels.items()):
            part = build_spectrum(other, source=f"{source}, {100 * ratio:.4g} %", **keys)
            parts.append(replace(_shaped(part, table), damping=ratio))
        middle = parts[0]
        return replace(middle, levels=tuple(parts), source=source)
    if table.envelope is not None:
        members = [build_spectrum(t, source=f"{source}, member {i}", **keys) for i, t in enumerate(table.envelope, 1)]
        return replace(_shaped(enveloped(members, source), table), damping=table.damping)
    if table.corners is not None:
        return replace(_shaped(from_corners(table.corners, interpolate, outside, source), table), damping=table.damping)
    plain = _from_table(table, folder, interpolate, outside, source)
    return replace(_shaped(plain, table), damping=table.damping)


def _shaped(spectrum: ResponseSpectrum, table: SpectrumTable) -> ResponseSpectrum:
    """Broadened, scaled, and raised to the floor."""
    if table.broaden:
        spectrum = broadened(spectrum, table.broaden)
    values = spectrum.acceleration * table.scale
    if table.floor:
        values = np.maximum(values, table.floor)
    return replace(spectrum, acceleration=values)


def from_corners(
    corners: Corners, interpolate: Interpolation = "log-log", outside: Outside = "error", source: str = "spectrum"
) -> ResponseSpectrum:
    """Constant displacement, then velocity, then acceleration: S = min(ω² D, ω V, A); exact with log-log."""
    low, high = corners.range
    D, V, A = corners.displacement, corners.velocity, corners.acceleration
    places = [low, high]
    if D is not None and V is not None:
        places.append(V / D / (2.0 * np.pi))
    if V is not None and A is not None:
        places.append(A / V / (2.0 * np.pi))
    if D is not None and A is not None and V is None:
        places.append(np.sqrt(A / D) / (2.0 * np.pi))
    f = np.unique([p for p in places if low <= p <= high])
    omega = 2.0 * np.pi * f
    given = [(v, p) for v, p in ((D, 2), (V, 1), (A, 0)) if v is not None]
    limits = np.array([v * omega**p for v, p in given])
    below, above = (given[int(limits[:, end].argmin())][1] for end in (0, -1))
    return ResponseSpectrum(f, limits.min(axis=0), interpolate, outside, source, powers=(below, above))


def enveloped(members: list[ResponseSpectrum], source: str = "envelope") -> ResponseSpectrum:
    """The largest of several spectra at every frequency that any of them names; each counts within its own table."""
    f = np.unique(np.concatenate([m.frequency_hz for m in members]))
    pairs = [(a, b) for i, a in enumerate(members) for b in members[i + 1 :]]
    crossings = [c for a, b in pairs for c in _crossings(f, a, b)]
    f = np.unique(np.concatenate([f, crossings]))
    each = np.array([replace(m, outside="zero").at(f) for m in members])
    below, above = members[int(each[:, 0].argmax())].powers[0], members[int(each[:, -1].argmax())].powers[1]
    return ResponseSpectrum(
        f, each.max(axis=0), members[0].interpolate, members[0].outside, source, powers=(below, above)
    )  # fmt: skip


def _crossings(f: Floats, a: ResponseSpectrum, b: ResponseSpectrum) -> list[float]:
    """Where two spectra cross between rows, so that the envelope has a corner there."""
    va, vb = (np.log(np.maximum(replace(m, outside="hold", powers=(0, 0)).at(f), 1e-300)) for m in (a, b))
    gap = va - vb
    found = []
    for i in np.flatnonzero(gap[:-1] * gap[1:] < 0):
        share = gap[i] / (gap[i] - gap[i + 1])
        found.append(float(np.exp(np.log(f[i]) + share * (np.log(f[i + 1]) - np.log(f[i])))))
    return found


def broadened(spectrum: ResponseSpectrum, by: float) -> ResponseSpectrum:
    """Every value held from (1 - by) f to (1 + by) f: the largest of the spectrum moved to both sides."""
    moved = [replace(spectrum, frequency_hz=spectrum.frequency_hz * k, levels=()) for k in (1.0 - by, 1.0, 1.0 + by)]
    f = np.unique(np.concatenate([m.frequency_hz for m in moved]))
    # between the moved copies of a peak the value stays: a running largest over the window
    fine = np.unique(np.concatenate([f, np.geomspace(f[0], f[-1], 20 * len(f))]))
    base = replace(spectrum, outside="hold", powers=(0, 0))
    values = np.empty(len(fine))
    for i, x in enumerate(fine):
        low, high = x / (1.0 + by), x / (1.0 - by)
        inside = spectrum.frequency_hz[(spectrum.frequency_hz > low) & (spectrum.frequency_hz < high)]
        values[i] = base.at(np.concatenate([[low, high], inside])).max()
    keep = (fine >= spectrum.frequency_hz[0]) & (fine <= spectrum.frequency_hz[-1])
    return replace(spectrum, frequency_hz=fine[keep], acceleration=values[keep])


def _from_table(
    table: SpectrumTable, folder: Folder | None, interpolate: Interpolation, outside: Outside, source: str
) -> ResponseSpectrum:
    if table.file is not None or table.text is not None:
        if table.file is not None:
            columns = read_columns(table.file, folder, time="period")
            source = f"{source}, {Path(table.file).name}"
        else:
            columns = parse_columns(str(table.text).splitlines(), f"{source}, text", time="period")
        firsts = [n for n in ("frequency", "period") if n in columns]
        seconds = [n for n in ("acceleration", "velocity", "displacement") if n in columns]
        if len(firsts) != 1 or len(seconds) != 1:
            raise EventError(
                f"{source}: expected one column of frequency or period and one of acceleration, velocity or "
                f"displacement, got {', '.join(columns)}"
            )
        first, second = firsts[0], seconds[0]
        x, y = columns[first], columns[second]
    else:
        first = "frequency" if table.frequency is not None else "period"
        second = next(n for n in ("acceleration", "velocity", "displacement") if getattr(table, n) is not None)
        x, y = np.array(getattr(table, first)), np.array(getattr(table, second))
    if first == "period":
        if (x <= 0).any():
            raise EventError(f"{source}: periods must be greater than 0")
        x = 1.0 / x
    if len(x) > 1 and (np.diff(x) < 0).all():  # as rising periods, or a table that falls
        x, y = x[::-1], y[::-1]
    omega = 2.0 * np.pi * x
    power = {"acceleration": 0, "velocity": 1, "displacement": 2}[second]
    return ResponseSpectrum(x, y * omega**power, interpolate, outside, source, powers=(power, power))
