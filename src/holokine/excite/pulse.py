"""Base pulses: an acceleration of the support frame in time, piecewise linear between rows."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from holokine.describe.events import PulseShape
from holokine.errors import EventError
from holokine.excite.tables import read_columns

__all__ = ["BasePulse", "build_pulse"]

Floats = NDArray[Any]  # float64
HALF_SINE_STEPS = 2000
"""Linear pieces of a half-sine; its area is then low by (π/2000)²/12, 2e-7 of it."""


@dataclass(frozen=True)
class BasePulse:
    """A base acceleration along x, y and z.

    Attributes
    ----------
    time : ndarray, shape (rows,)
        Seconds, not falling; a time given twice is a jump. Zero before the first and after the last row.
    acceleration : ndarray, shape (rows, 3)
        m/s², linear between rows.
    """

    time: Floats
    acceleration: Floats

    @property
    def start(self) -> float:
        """First instant in s."""
        return float(self.time[0])

    @property
    def end(self) -> float:
        """Last instant in s."""
        return float(self.time[-1])

    @property
    def peak(self) -> Floats:
        """Largest absolute acceleration by direction in m/s², shape (3,)."""
        return np.abs(self.acceleration).max(axis=0)

    @property
    def velocity_change(self) -> Floats:
        """Velocity of the base after the pulse in m/s, shape (3,)."""
        step = np.diff(self.time)[:, None]
        return np.sum(step * (self.acceleration[1:] + self.acceleration[:-1]) / 2.0, axis=0)

    def base_motion(self, time: Floats, acceleration: Floats) -> tuple[Floats, Floats]:
        """Velocity (m/s) and displacement (m) of the base on rows of `time`, from rest; each (rows, 3)."""
        h = np.diff(time)[:, None]
        a0, a1 = acceleration[:-1], acceleration[1:]
        v = np.concatenate([np.zeros((1, 3)), np.cumsum(h * (a0 + a1) / 2.0, axis=0)])
        step = h * v[:-1] + h**2 * (2.0 * a0 + a1) / 6.0
        return v, np.concatenate([np.zeros((1, 3)), np.cumsum(step, axis=0)])


def _rows(shape: PulseShape, folder: Path | None, source: str) -> tuple[Floats, Floats]:
    if shape.half_sine is not None:
        p = shape.half_sine
        t = np.linspace(0.0, 1.0, HALF_SINE_STEPS + 1)
        a = np.sin(np.pi * t)
        a[-1] = 0.0
        return p.start + p.duration * t, p.peak * a
    if shape.rectangle is not None:
        p = shape.rectangle
        t = p.start + np.array([0.0, 0.0, p.duration, p.duration])
        return t, p.peak * np.array([0.0, 1.0, 1.0, 0.0])
    if shape.triangle is not None:
        p = shape.triangle
        return p.start + p.duration * np.array([0.0, 0.5, 1.0]), p.peak * np.array([0.0, 1.0, 0.0])
    if shape.versed_sine is not None:
        p = shape.versed_sine
        t = np.linspace(0.0, 1.0, HALF_SINE_STEPS + 1)
        return p.start + p.duration * t, p.peak * 0.5 * (1.0 - np.cos(2.0 * np.pi * t))
    if shape.terminal_peak_sawtooth is not None:
        p = shape.terminal_peak_sawtooth
        return p.start + p.duration * np.array([0.0, 1.0, 1.0]), p.peak * np.array([0.0, 1.0, 0.0])
    if shape.initial_peak_sawtooth is not None:
        p = shape.initial_peak_sawtooth
        return p.start + p.duration * np.array([0.0, 0.0, 1.0]), p.peak * np.array([0.0, 1.0, 0.0])
    if shape.trapezoid is not None:
        z = shape.trapezoid
        corners = np.array([0.0, z.rise, z.duration - z.fall, z.duration])
        return z.start + corners, z.peak * np.array([0.0, 1.0, 1.0, 0.0])
    if shape.sine is not None:
        s = shape.sine
        x = np.linspace(0.0, s.cycles, HALF_SINE_STEPS * s.cycles + 1)
        windows = {"none": 1.0, "half sine": np.sin(np.pi * x / s.cycles), "hann": np.sin(np.pi * x / s.cycles) ** 2}
        a = np.sin(2.0 * np.pi * x) * windows[s.window]
        a[-1] = 0.0
        return s.start + x / s.frequency, s.peak * a
    if shape.decaying_sine is not None:
        d = shape.decaying_sine
        omega = 2.0 * np.pi * d.frequency
        cycles = min(np.log(1e3) / (2.0 * np.pi * d.damping), 1000.0)
        x = np.linspace(0.0, np.ceil(2.0 * cycles) / 2.0, int(HALF_SINE_STEPS * np.ceil(2.0 * cycles) / 2.0) + 1)
        t = x / d.frequency
        return d.start + t, d.peak * np.exp(-d.damping * omega * t) * np.sin(omega * t)
    if shape.sum is not None:
        parts = [_placed(s, folder, source) for s in shape.sum]
        times = _common_times([t for t, _ in parts])
        after = np.concatenate([[False], times[1:] == times[:-1]])
        total = np.sum(
            [np.where(after, _side(times, t, a, "right"), _side(times, t, a, "left")) for t, a in parts], axis=0
        )
        return times, total
    if shape.table is not None:
        return np.array(shape.table.time), np.array(shape.table.acceleration)
    assert shape.file is not None
    columns = read_columns(shape.file, folder)
    if "time" not in columns or "acceleration" not in columns:
        raise EventError(
            f"{source}, {Path(shape.file).name}: expected columns time and acceleration, got {', '.join(columns)}"
        )
    t, a = columns["time"], columns["acceleration"]
    if len(t) < 2:
        raise EventError(f"{source}, {Path(shape.file).name}: needs two rows at least")
    back = np.flatnonzero(np.diff(t) < 0)
    if len(back):
        raise EventError(
            f"{source}, {Path(shape.file).name}: the time goes back from {t[back[0]]:g} s to {t[back[0] + 1]:g} s"
        )
    return t, a


def _placed(shape: PulseShape, folder: Path | None, source: str) -> tuple[Floats, Floats]:
    """Rows of a shape, scaled, that begin and end at zero."""
    t, a = _rows(shape, folder, source)
    a = a * shape.scale
    if a[0] != 0.0:  # the base starts from rest: a jump at the first instant
        t, a = np.concatenate([t[:1], t]), np.concatenate([[0.0], a])
    if a[-1] != 0.0:
        t, a = np.concatenate([t, t[-1:]]), np.concatenate([a, [0.0]])
    return t, a


def build_pulse(shapes: dict[str, PulseShape], *, folder: Path | None = None, source: str = "pulse") -> BasePulse:
    """One pulse from shapes by direction (x, y, z), put on common rows.

    Raises
    ------
    EventError
        Files and tables that cannot be used, or a pulse that is zero throughout.
    """
    parts = []
    for axis, shape in shapes.items():
        t, a = _placed(shape, folder, f"{source}, {axis}")
        parts.append(("xyz".index(axis), t, a))
    if all(not a.any() for _, _, a in parts):
        raise EventError(f"{source}: the base acceleration is zero throughout")
    if len(parts) == 1:
        d, t, a = parts[0]
        rows = np.zeros((len(t), 3))
        rows[:, d] = a
        return BasePulse(t, rows)
    times = _common_times([t for _, t, _ in parts])
    rows = np.zeros((len(times), 3))
    jump_after = np.concatenate([[False], times[1:] == times[:-1]])
    for d, t, a in parts:
        rows[:, d] = np.where(jump_after, _side(times, t, a, "right"), _side(times, t, a, "left"))
    return BasePulse(times, rows)


def _common_times(tables: list[Floats]) -> Floats:
    """All instants, twice where any table jumps (or has its end)."""
    every = np.unique(np.concatenate(tables))
    double = np.unique(np.concatenate([t[1:][np.diff(t) == 0] for t in tables]))
    return np.sort(np.concatenate([every, double]))


def _side(times: Floats, t: Floats, a: Floats, side: str) -> Floats:
    """Values of one table as a limit from the left or the right; zero outside it."""
    if side == "left":
        i = np.searchsorted(t, times, side="left") - 1  # row before the instant
    else:
        i = np.searchsorted(t, times, side="right") - 1
    j = np.clip(i, 0, len(t) - 2)
    h = t[j + 1] - t[j]
    share = np.where(h > 0, (times - t[j]) / np.where(h > 0, h, 1.0), 0.0)
    value = a[j] + np.clip(share, 0.0, 1.0) * (a[j + 1] - a[j])
    at_start = (i < 0) & (times == t[0])
    value = np.where(i < 0, np.where(at_start, a[0], 0.0), value)
    if side == "right":
        value = np.where(times >= t[-1], 0.0, value)
    else:
        value = np.where(times > t[-1], 0.0, value)
    return value
