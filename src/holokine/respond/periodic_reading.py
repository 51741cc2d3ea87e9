"""What gauges read of steady periodic motions: harmonics of their channels, and lowest and highest over the cycle."""

from __future__ import annotations

from abc import ABC, abstractmethod
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from holokine.respond.series import as_complex
from holokine.respond.steady import SteadyMotion, SteadyReadout
from holokine.respond.sweep_places import NUMBERS, bound_over_cycle

if TYPE_CHECKING:
    from collections.abc import Callable

    from holokine.arrays import Complex, Floats, Ints
    from holokine.gauges.readings import Reading
    from holokine.respond.following import Following
    from holokine.respond.periodic import Balance, Point
    from holokine.respond.steady import SteadyModel
    from holokine.respond.sweep import SweepReader

__all__ = ["LinearPoints", "PeriodicPoints", "SteadyPoints", "cycle_extremes", "cycle_values", "places_reach"]

_STILL = 1e-7  # of the frequency, at which a mean is read
_SAMPLES, _PER_HARMONIC = 128, 8
_CHUNK = 2000


class SteadyPoints(ABC):
    """Steady motions at points, each with its frequency.

    Attributes
    ----------
    omega : ndarray, shape (points,)
        rad/s.
    harmonics : int
    """

    omega: Floats
    harmonics: int

    @abstractmethod
    def motion(self, chosen: Ints) -> SteadyMotion:
        """Motion at some of the points."""

    @abstractmethod
    def series(self, motion: SteadyMotion, columns: Ints | slice) -> Complex:
        """Complex amplitudes of channels, the mean first, (points, 1 + harmonics, columns)."""

    @abstractmethod
    def fields(self, point: int) -> Complex:
        """Whole displacement beside the state, relative to the frame, the mean first, (1 + harmonics, dofs)."""


class LinearPoints(SteadyPoints):
    """Of a linear sweep."""

    def __init__(self, reader: SweepReader, frequencies: Floats, rest: Floats | None) -> None:
        self._reader, self._rest = reader, rest
        self.omega, self.harmonics = 2.0 * np.pi * frequencies, 1

    def motion(self, chosen: Ints) -> SteadyMotion:
        return self._reader.motion(self.omega[chosen] / (2.0 * np.pi))

    def series(self, motion: SteadyMotion, columns: Ints | slice) -> Complex:
        first = self._reader.rows(motion, columns)
        mean = np.zeros_like(first)
        if self._rest is not None:
            mean += self._rest[columns]
        return np.stack([mean, first], axis=1)

    def fields(self, point: int) -> Complex:
        first = self.motion(np.array([point])).q @ self._reader.model.shapes
        return np.concatenate([np.zeros_like(first), first])


class PeriodicPoints(SteadyPoints):
    """Of members that are followed: every harmonic is read as steady vibration of its own frequency.

    Parameters
    ----------
    model : SteadyModel
        With the columns of `own.fields`.
    own : Following
    balance : Balance
    points : list of Point
    acting : callable
        Complex amplitude of the base and loads at an angular frequency, (loads,).
    rest : ndarray, shape (channels,), optional
        What stays on beside: readings of the state.
    """

    def __init__(
        self, model: SteadyModel, own: Following, balance: Balance, points: list[Point],
        acting: Callable[[float], Complex], rest: Floats | None,
    ) -> None:  # fmt: skip
        self.balance, self.points = balance, points
        self._model, self._own, self._acting, self._rest = model, own, acting, rest
        self._readout = SteadyReadout(model)
        self.omega, self.harmonics = np.array([p.omega for p in points]), balance.harmonics

    @cached_property
    def _all(self) -> tuple[Complex, Complex, Floats]:
        """Coordinates and loads of every harmonic of every point, and its angular frequency."""
        balance, own, q = self.balance, self._own, self._model.reduced.count
        H1 = 1 + self.harmonics
        coordinates = np.array([balance.coordinates(p) for p in self.points])  # (points, 1 + H, coordinates)
        omega = self.omega[:, None] * np.concatenate([[_STILL], np.arange(1, H1)])
        acts = np.zeros((len(self.points), H1, len(own.loads)), dtype=complex)
        acts[:, 1] = [self._acting(w) for w in self.omega]
        feet = -(omega**2)[:, :, None] * coordinates[:, :, q:]
        members = np.array([self._members(p) for p in self.points])
        loads = np.concatenate([acts[:, :, :3], feet, acts[:, :, 3:], members], axis=2)
        return coordinates[:, :, :q], loads, omega

    def _members(self, p: Point) -> Complex:
        """Forces of members beside what the stiffness about the state says of them, then of dampers beside those that
        act both ways, (1 + harmonics, columns)."""
        balance, own = self.balance, self._own
        forces, speeds = balance.forces(p), p.omega * (p.place @ balance.cycle.D.T)
        dampers = {j: balance.damper_force(j, p.place, p.omega) for j, m in enumerate(balance.few.members) if m.damping}
        found = []
        for j, k in own.pushing:
            if k:
                found.append(-forces[balance.across[j][k - 1]])
                continue
            d = balance.normal[j]
            found.append(forces[d] - own.places[j].stiffness * p.place[d] - dampers.get(j, 0.0))
        for j in own.damped:
            found.append(dampers[j] - own.places[j].damping * speeds[balance.normal[j]])
        return as_complex(np.array(found).reshape(len(found), -1)).T

    def motion(self, chosen: Ints) -> SteadyMotion:
        q, load, omega = (x[chosen] for x in self._all)
        return SteadyMotion(
            q.reshape(-1, q.shape[-1]), load.reshape(-1, load.shape[-1]), omega.ravel(), self._model.reduced
        )

    def series(self, motion: SteadyMotion, columns: Ints | slice) -> Complex:
        values = self._readout.read(motion, columns)
        found = values.reshape(-1, 1 + self.harmonics, values.shape[-1])
        found[:, 0] = found[:, 0].real
        if self._rest is not None:
            found[:, 0] += self._rest[columns]
        return np.asarray(found)

    def fields(self, point: int) -> Complex:
        shapes = self._own.coordinates(self._model.shapes)
        return np.asarray(self.balance.coordinates(self.points[point]) @ shapes)


def cycle_values(reading: Reading, series: Complex) -> Floats:
    """A reading over the cycle, (..., samples), from its channels' amplitudes (..., 1 + harmonics, width)."""
    H = series.shape[-2] - 1
    count = max(_SAMPLES, _PER_HARMONIC * H)
    turns = np.exp(2j * np.pi * np.outer(np.arange(count), np.arange(H + 1)) / count)
    return np.asarray(reading.form.value(np.real(turns @ series)))


def cycle_extremes(values: Floats) -> tuple[Floats, Floats]:
    """Lowest and highest of samples of a cycle, between them by a parabola, (...,) each."""
    return -_tops(-values), _tops(values)


def _tops(values: Floats) -> Floats:
    best = values.argmax(axis=-1)[..., None]
    count = values.shape[-1]
    y0, y1, y2 = (np.take_along_axis(values, (best + k) % count, axis=-1)[..., 0] for k in (-1, 0, 1))
    bend = y0 - 2.0 * y1 + y2
    return np.asarray(y1 - np.where(bend < 0, (y2 - y0) ** 2 / (8.0 * np.where(bend < 0, bend, -1.0)), 0.0))


def _sizes(reading: Reading, series: Complex) -> Floats:
    low, high = cycle_extremes(cycle_values(reading, series))
    return high if reading.one_sided else np.maximum(np.abs(low), np.abs(high))


def places_reach(points: SteadyPoints, motion: SteadyMotion, reading: Reading, *, every: bool) -> tuple[int, Floats]:
    """The place of a field that reaches most over the points and the cycle, and what places reach, (places,).

    What cannot govern by the sum of what its harmonics do not exceed is left out (and is NaN), unless `every` is asked
    for.
    """
    rows, width = len(motion.omega), reading.width
    step = max(1, NUMBERS // (rows * width))
    reach = np.full(reading.count, np.nan)
    best, where = -np.inf, 0
    for a in range(0, reading.count, step):
        places = min(step, reading.count - a)
        first = reading.channels.start + a * width
        values = points.series(motion, slice(first, first + places * width))
        values = values.reshape(*values.shape[:2], places, width)
        bound = bound_over_cycle(reading, values).sum(axis=1).max(axis=0)  # (places,)
        for p in np.argsort(-bound, kind="stable"):
            if not every and bound[p] <= best:
                break
            reach[a + p] = float(_sizes(reading, values[:, :, p]).max())
            if reach[a + p] > best:
                best, where = float(reach[a + p]), a + int(p)
    return where, reach
