"""Excitation in time: accelerations of the support frame and factors on loads, piecewise linear between rows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from holokine.errors import EventError
from holokine.excite.curves import Jumps, curve_of, differentiated
from holokine.excite.tables import read_columns

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe.events import PulseShape, SignalTable
    from holokine.describe.files import Folder

__all__ = ["BasePulse", "build_pulse"]

_NOISE = 1e-7  # of what the base would do if its acceleration never changed sign
_ORDER = {"acceleration": 0, "velocity": 1, "displacement": 2}


@dataclass(frozen=True)
class BasePulse:
    """A base acceleration along x, y and z, and factors on loads.

    Attributes
    ----------
    time : ndarray, shape (rows,)
        Seconds, not falling; a time given twice is a jump. After the last row its values stay (zero unless a step
        or a ramp keeps them).
    acceleration : ndarray, shape (rows, loads)
        m/s² along x, y, z and of groups of supports, then factors on loads; linear between rows.
    names : tuple of str
        x, y, z, the groups with their directions, and the loads.
    before : ndarray, shape (loads,)
        Values before the first row, under which the assembly rests at the start.
    notes : tuple of str
        How tables of velocity or displacement were differentiated.
    jumps : tuple of (float, int, float)
        Instants in s, columns of the base or of groups, and by how many m/s their velocity jumps then; such an instant
        stands in two rows.
    """

    time: Floats
    acceleration: Floats
    names: tuple[str, ...] = ("x", "y", "z")
    before: Floats | None = None
    notes: tuple[str, ...] = ()
    jumps: tuple[tuple[float, int, float], ...] = ()
    moving: int = 3
    """How many of the columns are accelerations of the base or of groups of supports."""
    tabled: bool = False
    """Whether it is, or holds, a table of rows."""
    felt: tuple[tuple[int, int], ...] = ()
    """Columns that are the velocity of a moving one, which dampers feel: they are filled on the rows of an answer."""

    found: tuple[int, ...] = ()
    """Columns that an answer finds: forces of one-way members."""

    @property
    def loads(self) -> list[int]:
        """Columns of loads with signals of their own."""
        filled = {column for column, _ in self.felt} | set(self.found)
        return [k for k in range(self.moving, len(self.names)) if k not in filled]

    def with_velocities(self, time: Floats, rows: Floats) -> Floats:
        """Rows of `time` with the columns filled that are velocities (straight between rows)."""
        if not self.felt:
            return rows
        velocity = self.base_motion(time, rows)[0]
        result = rows.copy()
        for column, of in self.felt:
            result[:, column] = velocity[:, of]
        return result

    @property
    def start(self) -> float:
        """First instant in s."""
        return float(self.time[0])

    @property
    def end(self) -> float:
        """Last instant in s."""
        return float(self.time[-1])

    @property
    def resting(self) -> Floats:
        """Values before the first row, shape (loads,)."""
        return np.zeros(len(self.names)) if self.before is None else self.before

    @property
    def peak(self) -> Floats:
        """Largest absolute acceleration (m/s²) or factor by column, shape (loads,)."""
        return np.abs(self.acceleration).max(axis=0)

    @property
    def moves(self) -> NDArray[np.bool_]:
        """Which columns are ever other than zero, shape (loads,)."""
        result = self.peak > 0
        result[[column for _, column, _ in self.jumps]] = True
        return result

    @property
    def moves_base(self) -> bool:
        """Whether the base moves at all."""
        return bool(self.moves[: self.moving].any())

    def jumps_on(self, time: Floats) -> Floats | None:
        """Jumps of velocity at the rows of `time` that come after them, shape (rows, loads), m/s; None without any."""
        if not self.jumps:
            return None
        result = np.zeros((len(time), len(self.names)))
        for instant, column, by in self.jumps:
            result[np.searchsorted(time, instant, side="right") - 1, column] += by
        return result

    @property
    def velocity_change(self) -> Floats:
        """Velocity of the base and groups after the last row in m/s, shape (moving,); zero where it is rounding."""
        velocity = self.base_motion(self.time, self.acceleration)[0][-1]
        return np.where(np.abs(velocity) > _NOISE * self._impulse, velocity, 0.0)

    @property
    def end_displacement(self) -> Floats:
        """Displacement of the base and groups at the last row in m, shape (moving,); zero where it is rounding."""
        displacement = self.base_motion(self.time, self.acceleration)[1][-1]
        return np.where(np.abs(displacement) > _NOISE * self._impulse * (self.end - self.start), displacement, 0.0)

    @property
    def _impulse(self) -> Floats:
        """Area under the size of the base acceleration in m/s, shape (moving,)."""
        size = np.abs(self.acceleration[:, : self.moving])
        result = np.asarray((np.diff(self.time)[:, None] * (size[1:] + size[:-1]) / 2.0).sum(axis=0))
        for _, column, by in self.jumps:
            result[column] += abs(by)
        return result

    def base_motion(self, time: Floats, acceleration: Floats) -> tuple[Floats, Floats]:
        """Velocity (m/s) and displacement (m) of the base on rows of `time`, from rest; each (rows, moving)."""
        h = np.diff(time)[:, None]
        a0, a1 = acceleration[:-1, : self.moving], acceleration[1:, : self.moving]
        rest = np.zeros((1, self.moving))
        v = np.concatenate([rest, np.cumsum(h * (a0 + a1) / 2.0, axis=0)])
        jumps = self.jumps_on(time)
        if jumps is not None:
            v = v + np.cumsum(jumps[:, : self.moving], axis=0)
        step = h * v[:-1] + h**2 * (2.0 * a0 + a1) / 6.0
        return v, np.concatenate([rest, np.cumsum(step, axis=0)])


@dataclass(frozen=True)
class _Rows:
    """A signal: rows that begin (and, unless it holds, end) at zero."""

    time: Floats
    value: Floats
    hold: bool = False
    notes: tuple[str, ...] = ()
    jumps: Jumps = ()

    @classmethod
    def closed(cls, t: Floats, a: Floats, hold: bool, notes: tuple[str, ...] = (), jumps: Jumps = ()) -> _Rows:
        at = [instant for instant, _ in jumps]
        if a[0] != 0.0 or t[0] in at:  # from rest: a jump at the first instant
            t, a = np.concatenate([t[:1], t]), np.concatenate([[0.0], a])
        if not hold and (a[-1] != 0.0 or t[-1] in at):
            t, a = np.concatenate([t, t[-1:]]), np.concatenate([a, [0.0]])
        return cls(t, a, hold, notes, jumps)


def _rows(shape: PulseShape, folder: Folder | None, source: str, of_load: bool) -> _Rows:
    """Rows of a shape, as an acceleration of the base or as a factor on a load, scaled and delayed."""
    if shape.sum is not None:
        parts = [_rows(s, folder, f"{source}, term {i}", of_load) for i, s in enumerate(shape.sum, start=1)]
        found = _summed(parts)
    elif shape.table is not None or shape.file is not None:
        found = _tabled(shape, folder, source, of_load)
    else:
        p = getattr(shape, shape.shape)
        if p.peak is None and not of_load:
            raise EventError(f"{source}: give the peak of the base's acceleration (or of its velocity or displacement)")
        if of_load and p.peak is not None and p.peak.plain is None:
            raise EventError(f"{source}: the signal of a load is a plain factor; its peak has no unit")
        if not of_load and np.isnan(p.peak.value):
            raise EventError(f"{source}: the peak of a base motion is an acceleration, velocity or displacement")
        size = 1.0 if p.peak is None else p.peak.plain if of_load else p.peak.value
        what = "factor" if of_load else p.peak.of
        segments, hold = curve_of(shape)
        t, a, jumps = differentiated(segments, hold, 0 if of_load else _ORDER[what], size, source)
        if hold and not of_load and _ORDER[what]:
            hold = False  # a base that has come to a new place, or moves on evenly, has no acceleration
        found = _Rows.closed(p.start + t, _clean(a), hold, (), tuple((p.start + at, by) for at, by in jumps))
    jumps = tuple((at + shape.delay, by * shape.scale) for at, by in found.jumps)
    return _Rows(found.time + shape.delay, found.value * shape.scale, found.hold, found.notes, jumps)


def _clean(a: Floats) -> Floats:
    """Rounding at zeros of sines off."""
    return np.where(np.abs(a) < 1e-14 * np.abs(a).max(initial=0.0), 0.0, a)


def _tabled(shape: PulseShape, folder: Folder | None, source: str, of_load: bool) -> _Rows:
    if shape.table is not None:
        table: SignalTable = shape.table
        t: Floats
        what, t, y = table.column, np.array(table.time), np.array(getattr(table, table.column))
        if of_load and what != "factor":
            raise EventError(f"{source}: the table of a load's signal has columns time and factor, got {what}")
        if not of_load and what == "factor":
            raise EventError(f"{source}: a base motion is an acceleration, velocity or displacement, not a factor")
    else:
        assert shape.file is not None
        source = f"{source}, {Path(shape.file).name}"
        columns = read_columns(shape.file, folder, only=shape.column)
        wanted = ("factor",) if of_load else ("acceleration", "velocity", "displacement")
        present = [w for w in wanted if w in columns]
        if "time" not in columns or len(present) != 1:
            raise EventError(
                f"{source}: expected columns time and {' or '.join(wanted)} (one of them), got {', '.join(columns)}"
            )
        what = present[0]
        t, y = columns["time"], columns[what]
        if len(t) < 2:
            raise EventError(f"{source}: needs two rows at least")
        back = np.flatnonzero(np.diff(t) < 0)
        if len(back):
            raise EventError(f"{source}: the time goes back from {t[back[0]]:g} s to {t[back[0] + 1]:g} s")
    if what in ("acceleration", "factor"):
        return _Rows.closed(t, y, False)
    if (np.diff(t) <= 0).any():
        raise EventError(f"{source}: a {what} that jumps (a time given twice) needs an infinite acceleration")
    if what == "velocity":
        return _from_velocity(t, y, source)
    return _from_displacement(t, y, source)


def _from_velocity(t: Floats, v: Floats, source: str) -> _Rows:
    jumps = ((float(t[0]), float(v[0])),) if abs(v[0]) > 1e-9 * np.abs(v).max() else ()
    slope = np.diff(v) / np.diff(t)
    note = (
        f"{source}: the velocity is taken as straight between rows; its acceleration is constant between them and "
        f"jumps at them by up to {np.abs(np.diff(slope, prepend=0.0)).max():.3g} m/s²"
    )
    return _Rows.closed(np.repeat(t, 2)[1:-1], np.repeat(slope, 2), False, (note,), jumps)


def _from_displacement(t: Floats, u: Floats, source: str) -> _Rows:
    """By a cubic spline at rest at both ends, whose acceleration is linear between rows."""
    from scipy.interpolate import CubicSpline

    if len(t) < 5:
        raise EventError(f"{source}: a table of displacement needs five rows at least, got {len(t)}")
    a = CubicSpline(t, u, bc_type="clamped")(t, 2)
    thin = np.unique(np.append(np.arange(0, len(t), 2), len(t) - 1))
    rough = CubicSpline(t[thin], u[thin], bc_type="clamped")(t, 2)
    size = float(np.abs(a).max())
    off = float(np.abs(a - rough).max()) / size if size > 0 else 0.0
    note = (
        f"{source}: the displacement is taken as a cubic spline through its rows, at rest at both ends; the "
        f"acceleration from every second row only would differ by up to {100 * off:.2g} % of its peak of {size:.4g} "
        f"m/s², so that the error is about {100 * off / 4:.2g} %"
    )
    if abs(u[0]) > 1e-9 * float(np.ptp(u)):
        note += f"; it starts at {1e3 * u[0]:.4g} mm, from which it is counted"
    return _Rows.closed(t, a, False, (note,))


def _summed(parts: list[_Rows]) -> _Rows:
    times = _common_times([p.time for p in parts])
    after = np.concatenate([[False], times[1:] == times[:-1]])
    total = np.sum([np.where(after, _side(times, p, "right"), _side(times, p, "left")) for p in parts], axis=0)
    notes, jumps = tuple(n for p in parts for n in p.notes), tuple(j for p in parts for j in p.jumps)
    return _Rows(times, total, any(p.hold for p in parts), notes, jumps)


def build_pulse(
    shapes: Mapping[str, PulseShape],
    *,
    groups: Mapping[str, PulseShape] | None = None,
    felt: Sequence[str] = (),
    loads: Mapping[str, PulseShape] | None = None,
    stays: Sequence[str] = (),
    goes: str | None = None,
    folder: Folder | None = None,
    source: str = "pulse",
) -> BasePulse:
    """One excitation from shapes by direction (x, y, z), by group of supports and by load, put on common rows.

    Parameters
    ----------
    groups : dict of str to PulseShape, optional
        By column: a group's name and its direction.
    felt : list of str, optional
        Columns of groups whose velocity dampers feel; each has a column of its own for that.
    stays, goes : list of str, and str, optional
        Loads at full size from before the start: all the time, or until the first instant.

    Raises
    ------
    EventError
        Files and tables that cannot be used, an infinite acceleration, or an excitation that is zero throughout.
    """
    parts = [("xyz".index(axis), _rows(shape, folder, f"{source}, {axis}", False)) for axis, shape in shapes.items()]
    names = ["x", "y", "z"]
    for name, shape in (groups or {}).items():
        parts.append((len(names), _rows(shape, folder, f"{source}, {name}", False)))
        names.append(name)
    moving = len(names)
    pairs = tuple((moving + k, names.index(column)) for k, column in enumerate(felt))
    names += [f"{column}, dampers" for column in felt]
    for name, shape in (loads or {}).items():
        parts.append((len(names), _rows(shape, folder, f'{source}, load "{name}"', True)))
        names.append(name)
    if goes is None and all(not p.value.any() and not p.jumps for _, p in parts):
        what = "the base acceleration is" if not loads else "every signal is"
        raise EventError(f"{source}: {what} zero throughout")
    rows_of = [p.time for _, p in parts] or [np.zeros(2)]  # let go alone: at 0 s
    times = _common_times(rows_of) if len(parts) != 1 else parts[0][1].time
    before = np.zeros(len(names) + len(stays) + (goes is not None))
    if goes is not None and times[0] == times[min(1, len(times) - 1)]:
        times = np.concatenate([times[:1], times])
    after = np.concatenate([[False], times[1:] == times[:-1]])
    rows = np.zeros((len(times), len(before)))
    for column, p in parts:
        if len(parts) == 1 and len(times) == len(p.time):
            rows[:, column] = p.value
        else:
            rows[:, column] = np.where(after, _side(times, p, "right"), _side(times, p, "left"))
    for at_rest, value in (*((name, 1.0) for name in stays), (goes, 0.0)):
        if at_rest is not None:
            before[len(names)] = 1.0
            rows[:, len(names)] = value
            names.append(at_rest)
    notes = tuple(n for _, p in parts for n in p.notes)
    jumps = tuple((at, column, by) for column, p in parts for at, by in p.jumps)
    every = [*shapes.values(), *(groups or {}).values()]
    tabled = any(s.table is not None or s.file is not None for s in every)
    return BasePulse(times, rows, tuple(names), before, notes, jumps, moving, tabled, pairs)


def _common_times(tables: list[Floats]) -> Floats:
    """All instants, twice where any table jumps (or has its end)."""
    every = np.unique(np.concatenate(tables))
    double = np.unique(np.concatenate([t[1:][np.diff(t) == 0] for t in tables]))
    return np.sort(np.concatenate([every, double]))


def _side(times: Floats, rows: _Rows, side: str) -> Floats:
    """Values of one signal as a limit from the left or the right; zero before it, its last value or zero after it."""
    t, a = rows.time, rows.value
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
    last = a[-1] if rows.hold else 0.0
    if side == "right":
        value = np.where(times >= t[-1], last, value)
    else:
        value = np.where(times > t[-1], last, value)
    return value
