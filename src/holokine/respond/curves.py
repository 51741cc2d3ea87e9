"""Frequencies of a sweep, and peaks, anti-resonances and half-power points of curves over frequency.

A curve is known as a function that can be had at any frequency; its samples only say where to look.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from holokine.arrays import Floats, Ints

__all__ = ["Extreme", "Sampled", "gathered_points", "half_power", "ranges", "refined"]

Sizes = Callable[[Floats, Ints], Floats]
"""Squared size of curves at frequencies: (frequencies, which curve) to the same shape."""

_ANGLES = np.tan(np.radians(np.linspace(-87.0, 87.0, 41)))  # a resonance passed in equal steps of its phase
_PER_OCTAVE = 24
_ROUNDS = 12


@dataclass(frozen=True)
class Extreme:
    """A peak or an anti-resonance of one curve.

    Attributes
    ----------
    frequency, size : float
        Hz, and the curve there (SI).
    low, high : float
        Half-power frequencies in Hz, NaN where the curve does not fall that far before it rises again.
    inside : bool
        False at the ends of the sweep, where the curve may go on rising outside.
    """

    frequency: float
    size: float
    low: float = np.nan
    high: float = np.nan
    inside: bool = True

    @property
    def bandwidth(self) -> float:
        """Half-power bandwidth in Hz."""
        return self.high - self.low

    @property
    def amplification(self) -> float:
        """Frequency over bandwidth, Q."""
        return self.frequency / self.bandwidth if self.bandwidth > 0 else np.nan


def gathered_points(low: float, high: float, centres: Floats, widths: Floats, corners: Floats) -> Floats:
    """Frequencies in Hz from `low` to `high`: even on a logarithmic axis, and about every resonance by its bandwidth.

    Parameters
    ----------
    centres, widths : ndarray, shape (resonances,)
        Frequencies and half-power bandwidths in Hz.
    corners : ndarray
        More frequencies to be met.
    """
    count = max(int(np.ceil(np.log2(high / low) * _PER_OCTAVE)), 1) + 1
    near = (centres + 45.0 * widths > low) & (centres - 45.0 * widths < high) & (widths > 1e-9 * centres)
    spread = (centres[near, None] + 0.5 * widths[near, None] * _ANGLES).ravel()
    points = np.concatenate([np.geomspace(low, high, count), spread, corners])
    points = np.unique(points[(points > low) & (points < high)])
    points = np.concatenate([[low], points, [high]])
    keep = np.concatenate([[True], np.diff(points) > 1e-9 * points[1:]])
    keep[-1] = True
    return points[keep]


@dataclass(frozen=True)
class Sampled:
    """Sizes of curves on the sweep's frequencies, and the function that has them anywhere.

    Attributes
    ----------
    frequency : ndarray, shape (points,)
    at : callable
    starts : ndarray of int
        First point of each range of the sweep.
    """

    frequency: Floats
    at: Sizes
    starts: Ints

    def edges(self) -> NDArray[np.bool_]:
        """Whether a point begins or ends a range."""
        result = np.zeros(len(self.frequency), dtype=bool)
        result[self.starts] = True
        result[np.append(self.starts[1:], len(result)) - 1] = True
        return result

    def turns(self, size: Floats, sign: float) -> Ints:
        """Points at which a curve, shape (points,), is highest (sign 1) or lowest (-1) among its neighbours."""
        y = sign * size
        edge = self.edges()
        left = np.append(np.inf, y[:-1])
        right = np.append(y[1:], np.inf)
        inner = ~edge & (y > left) & (y >= right)
        if sign < 0:
            return np.flatnonzero(inner)
        start = np.zeros(len(y), dtype=bool)
        start[self.starts] = True
        end = edge & ~start
        outer = (start & ~(y < right)) | (end & ~(y < left))
        return np.flatnonzero(inner | (outer & (len(y) > 1)))


def ranges(starts: Ints, count: int) -> list[slice]:
    """Points of every range of a sweep."""
    return [slice(a, b) for a, b in pairwise([*starts.tolist(), count])]


def refined(sampled: Sampled, points: Ints, which: Ints, sign: float) -> tuple[Floats, Floats]:
    """Frequency and squared size at the top (sign 1) or bottom (-1) of the curve next to points.

    By parabolas, through 1/size² at a peak (which of a single resonance is one) and size² at a bottom, kept between the
    neighbours; at the ends of the sweep the points themselves.
    """
    f, edge = sampled.frequency, sampled.edges()[points]
    x = np.stack([f[np.maximum(points - 1, 0)], f[points], f[np.minimum(points + 1, len(f) - 1)]])
    inner = np.flatnonzero(~edge)
    place = f[points].astype(float)
    best = sampled.at(place, which)
    if len(inner) == 0:
        return place, best
    x, own = x[:, inner], which[inner]
    tiny = 1e-300

    def score(at: Floats) -> Floats:
        size = sampled.at(at, own)
        return 1.0 / np.maximum(size, tiny) if sign > 0 else size

    y = np.stack([score(row) for row in x])
    for turn in range(_ROUNDS):
        h0, h1 = x[1] - x[0], x[2] - x[1]
        s0, s1 = (y[1] - y[0]) / h0, (y[2] - y[1]) / h1
        curve = (s1 - s0) / (h0 + h1)
        slope = s0 + curve * h0
        step = np.where(curve > 0, -slope / np.where(curve > 0, 2.0 * curve, 1.0), 0.0)
        width = np.where(step >= 0, h1, h0)
        # when the parabola stays put, look beside: into the wider side first, by turns
        golden = 0.382 * np.where(h1 > h0, h1, -h0)
        step = np.where((np.abs(step) < 1e-9 * x[1]) | (np.abs(step) > width) | (turn % 4 == 3), golden, step)
        new = x[1] + step
        value = score(new)
        better = value < y[1]
        right = step >= 0
        a = np.where(better, np.where(right, x[1], x[0]), np.where(right, x[0], new))
        c = np.where(better, np.where(right, x[2], x[1]), np.where(right, new, x[2]))
        ya = np.where(better, np.where(right, y[1], y[0]), np.where(right, y[0], value))
        yc = np.where(better, np.where(right, y[2], y[1]), np.where(right, value, y[2]))
        x = np.stack([a, np.where(better, new, x[1]), c])
        y = np.stack([ya, np.where(better, value, y[1]), yc])
        if ((x[2] - x[0]) < 1e-12 * x[1]).all():
            break
    place[inner] = x[1]
    best[inner] = 1.0 / y[1] if sign > 0 else y[1]
    return place, best


def half_power(
    sampled: Sampled, size: Floats, peak: Floats, top: Floats, points: Ints, which: Ints
) -> tuple[Floats, Floats]:
    """Frequencies on both sides of peaks at which the curve has fallen to 1/√2, NaN where it does not before rising.

    Parameters
    ----------
    size : ndarray, shape (points, curves)
        Squared sizes on the sweep's frequencies.
    peak, top : ndarray, shape (peaks,)
        Frequencies and squared sizes of the peaks.
    points, which : ndarray of int, shape (peaks,)
        The point of each, and its curve.
    """
    f = sampled.frequency
    limits = np.append(sampled.starts, len(f))
    found = np.full((2, len(peak)), np.nan)
    for k, (point, curve) in enumerate(zip(points.tolist(), which.tolist(), strict=True)):
        y, half = size[:, curve], top[k] / 2.0
        block = int(np.searchsorted(limits, point, side="right")) - 1
        for side, step in ((0, -1), (1, 1)):
            i, last = point, y[point]
            end = limits[block] if step < 0 else limits[block + 1] - 1
            while i != end and last > half:
                i += step
                if y[i] > last * (1 + 1e-12) and i != point + step:
                    break
                last = y[i]
            if y[i] <= half:
                found[side, k] = f[i]
    for side in (0, 1):
        own = np.flatnonzero(np.isfinite(found[side]))
        if len(own) == 0:
            continue
        outer, inner, target = found[side, own], peak[own], top[own] / 2.0
        found[side, own] = _crossing(sampled, which[own], target, inner, outer)
    return found[0], found[1]


def _crossing(sampled: Sampled, which: Ints, target: Floats, inner: Floats, outer: Floats) -> Floats:
    """Where curves fall to a value between a place above it and one below: false position (Illinois)."""
    a, b = inner.copy(), outer.copy()
    up, down = sampled.at(a, which) - target, sampled.at(b, which) - target
    for _ in range(60):
        flat = up - down
        new = np.where(flat > 0, (a * -down + b * up) / np.where(flat > 0, flat, 1.0), (a + b) / 2.0)
        value = sampled.at(new, which) - target
        above = value > 0
        # the end that stays counts half, so that both close in
        down, up = np.where(above, down / 2.0, value), np.where(above, value, up / 2.0)
        a, b = np.where(above, new, a), np.where(above, b, new)
        if (np.abs(value) < 1e-12 * target).all() or (np.abs(b - a) < 1e-12 * np.abs(a)).all():
            break
    return new
