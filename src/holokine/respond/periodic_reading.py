"""What gauges read of steady periodic motions: harmonics of their channels, and lowest and highest over the cycle."""

from __future__ import annotations

from abc import ABC, abstractmethod
from functools import cached_property
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from holokine.respond.series import as_complex
from holokine.respond.steady import SteadyMotion, SteadyReadout
from holokine.respond.sweep_places import NUMBERS, bound_over_cycle

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

    from holokine.arrays import Complex, Floats, Ints
    from holokine.gauges.readings import Reading
    from holokine.respond.following import Following
    from holokine.respond.periodic import Balance, Point
    from holokine.respond.steady import SteadyModel
    from holokine.respond.sweep import SweepReader

__all__ = ["Chosen", "LinearPoints", "PeriodicPoints", "SteadyPoints", "cycle_extremes", "places_reach", "size_of"]

_STILL = 1e-7  # of the frequency, at which a mean is read
_SAMPLES, _PER_HARMONIC = 256, 16
_SMOOTH = 0.5  # by which curvatures of samples next to one another may differ, but for a kink or a jump


class Chosen(NamedTuple):
    """Some of the points, with their motion."""

    points: Ints
    motion: SteadyMotion


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

    @cached_property
    def angles(self) -> Floats:
        """Of samples of the cycle, rad."""
        count = max(_SAMPLES, _PER_HARMONIC * self.harmonics)
        return np.asarray(2.0 * np.pi * np.arange(count) / count)

    @abstractmethod
    def at(self, chosen: Ints) -> Chosen:
        """Motion at some of the points."""

    @abstractmethod
    def series(self, chosen: Chosen, columns: Ints | slice) -> Complex:
        """Complex amplitudes of channels, the mean first, (points, 1 + harmonics, columns)."""

    def beside(self, chosen: Chosen, columns: Ints | slice) -> Floats | None:
        """What forces of members add to channels at samples beyond their harmonics, (points, samples, columns)."""
        return None

    def beside_at_most(self, chosen: Chosen, columns: Ints | slice) -> Floats:
        """What that does not exceed, (points, columns)."""
        return np.zeros((1, 1))

    def values(self, reading: Reading, chosen: Chosen, place: int) -> Floats:
        """A reading at one place over the cycle, (points, samples)."""
        columns = np.array(reading.at(place))
        found = self.over_cycle(self.series(chosen, columns))
        more = self.beside(chosen, columns)
        return np.asarray(reading.form.value(found if more is None else found + more))

    def over_cycle(self, series: Complex) -> Floats:
        """Samples of amplitudes (..., 1 + harmonics, columns), (..., samples, columns)."""
        turns = np.exp(1j * np.outer(self.angles, np.arange(series.shape[-2])))
        return np.asarray(np.real(turns @ series))

    @abstractmethod
    def fields(self, point: int) -> Complex:
        """Whole displacement beside the state, relative to the frame, the mean first, (1 + harmonics, dofs)."""


class LinearPoints(SteadyPoints):
    """Of a linear sweep."""

    def __init__(self, reader: SweepReader, frequencies: Floats, rest: Floats | None) -> None:
        self._reader, self._rest = reader, rest
        self.omega, self.harmonics = 2.0 * np.pi * frequencies, 1

    def at(self, chosen: Ints) -> Chosen:
        return Chosen(chosen, self._reader.motion(self.omega[chosen] / (2.0 * np.pi)))

    def series(self, chosen: Chosen, columns: Ints | slice) -> Complex:
        first = self._reader.rows(chosen.motion, columns)
        mean = np.zeros_like(first)
        if self._rest is not None:
            mean += self._rest[columns]
        return np.stack([mean, first], axis=1)

    def fields(self, point: int) -> Complex:
        first = self.at(np.array([point])).motion.q @ self._reader.model.shapes
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
        return as_complex(np.array(found).reshape(len(found), p.force.shape[1])).T

    @cached_property
    def _beyond(self) -> Floats:
        """Forces of members that yield, as `_members`, less their harmonics, (points, samples, columns).

        What touches a damper is pushed at once: harmonics alone would ring about that.
        """
        balance, own = self.balance, self._own
        found = np.zeros((len(self.points), len(self.angles), len(own.pushing) + len(own.damped)))
        V, places, loads = balance.cycle.basis(self.angles), np.array([p.place for p in self.points]), self._all[1]
        yields = [(i, j, False) for i, (j, k) in enumerate(own.pushing) if k == 0]
        yields += [(len(own.pushing) + i, j, True) for i, j in enumerate(own.damped)]
        for column, j, damper in yields:
            m, d = balance.few.members[j], balance.normal[j]
            if m.rigid:
                continue
            x = places[:, d] @ V.T
            v = self.omega[:, None] * (places[:, d] @ balance.cycle.D.T @ V.T)
            elastic, damping = m.acting(x, v)
            if damper:
                whole = damping - own.places[j].damping * v
            else:
                whole = elastic - m.force - own.places[j].stiffness * x
            found[:, :, column] = whole - self.over_cycle(loads[:, :, [column - found.shape[2]]])[:, :, 0]
        return found

    def _weights(self, chosen: Chosen, columns: Ints | slice) -> Iterator[tuple[Ints, Floats]]:
        """What channels read of that, (forces, columns), for some of the points each: it is quicker than all harmonics,
        so that slow modes take it by their inertia, and quick ones as at rest."""
        r, count = self._model.reduced, self._beyond.shape[2]
        if not count:
            return
        first = len(r.loads) - count
        which, modal, gamma = self._readout.which[columns], r.modal[:, columns], r.participation[:, first:]
        left_out = self._readout.per_load(columns)[first:]
        slow = (r.omega <= ((1 + self.harmonics) * self.omega[chosen.points])[:, None]).sum(axis=1)
        order = np.argsort(r.omega, kind="stable")
        for number in np.unique(slow):
            light, heavy = order[:number], order[number:]
            inertia = gamma[light].T @ modal[light]
            rest = (gamma[heavy] / (r.omega[heavy] ** 2)[:, None]).T @ modal[heavy]
            yield (
                np.flatnonzero(slow == number),
                (left_out - np.where(which == 2, inertia, 0.0) - np.where((which == 0) | (which == 3), rest, 0.0)),
            )

    def beside(self, chosen: Chosen, columns: Ints | slice) -> Floats | None:
        found = None
        for own, weights in self._weights(chosen, columns):
            if found is None:
                found = np.zeros((len(chosen.points), len(self.angles), weights.shape[1]))
            found[own] = self._beyond[chosen.points[own]] @ weights
        return found

    def beside_at_most(self, chosen: Chosen, columns: Ints | slice) -> Floats:
        most = np.abs(self._beyond[chosen.points]).max(axis=1)
        found = np.zeros((1, 1))
        for own, weights in self._weights(chosen, columns):
            if not found.any():
                found = np.zeros((len(chosen.points), weights.shape[1]))
            found[own] = most[own] @ np.abs(weights)
        return found

    def at(self, chosen: Ints) -> Chosen:
        q, load, omega = (x[chosen] for x in self._all)
        return Chosen(chosen, SteadyMotion(
            q.reshape(-1, q.shape[-1]), load.reshape(-1, load.shape[-1]), omega.ravel(), self._model.reduced
        ))  # fmt: skip

    def series(self, chosen: Chosen, columns: Ints | slice) -> Complex:
        values = self._readout.read(chosen.motion, columns)
        found = values.reshape(-1, 1 + self.harmonics, values.shape[-1])
        found[:, 0] = found[:, 0].real
        if self._rest is not None:
            found[:, 0] += self._rest[columns]
        return np.asarray(found)

    def fields(self, point: int) -> Complex:
        shapes = self._own.coordinates(self._model.shapes)
        return np.asarray(self.balance.coordinates(self.points[point]) @ shapes)


def cycle_extremes(values: Floats) -> tuple[Floats, Floats]:
    """Lowest and highest of samples of a cycle, between them by a parabola, (...,) each."""
    return -_tops(-values), _tops(values)


def _tops(values: Floats) -> Floats:
    best, count = values.argmax(axis=-1)[..., None], values.shape[-1]
    near = np.concatenate([np.take_along_axis(values, (best + k) % count, axis=-1) for k in range(-2, 3)], axis=-1)
    bend = np.diff(near, 2, axis=-1)
    middle = bend[..., 1]
    smooth = (middle < 0.0) & (np.abs(bend - middle[..., None]).max(axis=-1) < -_SMOOTH * middle)
    slope = near[..., 3] - near[..., 1]
    return np.asarray(near[..., 2] - np.where(smooth, slope**2 / (8.0 * np.where(smooth, middle, -1.0)), 0.0))


def size_of(reading: Reading, low: Floats, high: Floats) -> Floats:
    """Largest size of a reading from its lowest and highest values."""
    return high if reading.one_sided else np.maximum(np.abs(low), np.abs(high))


def _bound(reading: Reading, points: SteadyPoints, chosen: Chosen, columns: slice) -> Floats:
    """What a reading does not exceed at places over points and cycle: harmonics added up, (places,)."""
    series = points.series(chosen, columns)
    parts = series.reshape(*series.shape[:2], -1, reading.width)
    bound = bound_over_cycle(reading, parts).sum(axis=1)
    more = points.beside_at_most(chosen, columns)
    if more.any():
        form = reading.form.quadratic(reading.width)
        factor = 2.0 if form is None else float(np.linalg.eigvalsh(form).max())
        bound = bound + np.linalg.norm(more.reshape(len(more), -1, reading.width), axis=2) * factor**0.5
    return np.asarray(bound.max(axis=0))


def places_reach(points: SteadyPoints, chosen: Chosen, reading: Reading, *, every: bool) -> tuple[int, Floats]:
    """The place of a field that reaches most over the points and the cycle, and what places reach, (places,).

    What cannot govern by its bound is left out (and is NaN), unless `every` is asked for.
    """
    rows, width = len(chosen.motion.omega), reading.width
    step = max(1, NUMBERS // (rows * width))
    reach = np.full(reading.count, np.nan)
    best, where = -np.inf, 0
    for a in range(0, reading.count, step):
        first = reading.channels.start + a * width
        bound = _bound(reading, points, chosen, slice(first, first + min(step, reading.count - a) * width))
        for p in np.argsort(-bound, kind="stable"):
            if not every and bound[p] <= best:
                break
            values = points.values(reading, chosen, a + int(p))
            reach[a + p] = size_of(reading, *cycle_extremes(values)).max()
            if reach[a + p] > best:
                best, where = float(reach[a + p]), a + int(p)
    return where, reach
