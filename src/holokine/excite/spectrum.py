"""Response spectra: peak pseudo-acceleration of a one-degree oscillator against its natural frequency."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from holokine.describe.events import SpectrumTable
from holokine.errors import EventError
from holokine.excite.tables import read_columns

__all__ = ["ResponseSpectrum", "build_spectrum"]

Floats = NDArray[Any]  # float64


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
    outside : {"error", "hold"}
        Beyond the table: an error, or the end value of the pseudo-acceleration.
    source : str
        For messages and figures.
    """

    frequency_hz: Floats
    acceleration: Floats
    interpolate: Literal["log-log", "linear"] = "log-log"
    outside: Literal["error", "hold"] = "error"
    source: str = "spectrum"

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
            raise EventError(f"{self.source}: frequencies must rise; point {i + 1}, {f[i]:g} Hz, {word}")
        if (a < 0).any() or (self.interpolate == "log-log" and (a <= 0).any()):
            least = "greater than 0 for log-log interpolation" if self.interpolate == "log-log" else "at least 0"
            raise EventError(f"{self.source}: values must be {least}")

    def at(self, frequencies: Floats) -> Floats:
        """Pseudo-acceleration in m/s² at frequencies in Hz.

        Raises
        ------
        EventError
            A frequency outside the table, unless `outside` is "hold".
        """
        f = np.asarray(frequencies, dtype=float)
        beyond = (f < self.frequency_hz[0] * (1 - 1e-12)) | (f > self.frequency_hz[-1] * (1 + 1e-12))
        if self.outside == "error" and beyond.any():
            shown = ", ".join(f"{v:.4g}" for v in f[beyond][:5]) + (" ..." if beyond.sum() > 5 else "")
            raise EventError(
                f"{self.source}: {int(beyond.sum())} of the modes lie outside the table of "
                f"{self.frequency_hz[0]:g} to {self.frequency_hz[-1]:g} Hz: {shown} Hz. Extend the table, keep "
                "fewer modes (upto), or write outside: hold to use the end values"
            )
        if self.interpolate == "linear":
            return np.interp(f, self.frequency_hz, self.acceleration)
        logs = np.interp(np.log(f), np.log(self.frequency_hz), np.log(self.acceleration))
        return np.exp(logs)


def build_spectrum(
    table: SpectrumTable,
    *,
    folder: Path | None = None,
    interpolate: Literal["log-log", "linear"] = "log-log",
    outside: Literal["error", "hold"] = "error",
    source: str = "spectrum",
) -> ResponseSpectrum:
    """A spectrum from a described table or its CSV file.

    Velocity and displacement columns are pseudo quantities: acceleration = ω · velocity = ω² · displacement.
    """
    if table.file is not None:
        columns = read_columns(table.file, folder)
        source = f"{source}, {Path(table.file).name}"
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
        x, y = 1.0 / x[::-1], y[::-1]
    omega = 2.0 * np.pi * x
    power = {"acceleration": 0, "velocity": 1, "displacement": 2}[second]
    return ResponseSpectrum(x, y * omega**power * table.scale, interpolate, outside, source)
