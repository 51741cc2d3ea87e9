"""Response to base pulses and loads in time, by modes with static correction.

Motion relative to the support frame obeys q'' + 2ζω q' + ω² q = -Γ·a per mode, or coupled by dampers; how a channel is
read from it stands in `readout`. Peaks are those of the continuous history, found between rows too.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.errors import EventError, first_few
from holokine.excite.plausible import about_pulse
from holokine.findings import Finding
from holokine.progress import tell
from holokine.respond.decay import long_enough, longest_after, reached
from holokine.respond.direct import CoupledModes, FullModel, Scheme, SteppedModes, full_histories
from holokine.respond.meaning import PEAK, Meaning
from holokine.respond.oscillators import Oscillators, Trajectory
from holokine.respond.readout import Motion, Readout
from holokine.respond.reduced import ReducedModel, reading_noise
from holokine.sizes import available_memory

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.excite.pulse import BasePulse
    from holokine.gauges.readings import Reading
    from holokine.respond.contacts import Member, Run
    from holokine.system.loads import LoadField

__all__ = ["Followed", "History", "TimeResult", "answer_of_path", "respond_pulse"]

STEPS_PER_PERIOD = 16
DIRECT_STEPS = 40
MAX_ROWS = 2_000_000
MASS_THRESHOLD = 0.9
_KEPT = 20_000_000  # modal displacements that are held for all rows at once
_WIDE = 30_000  # channels of a field that are read at once
_FIRST = 600  # and to begin with, where a bound tells which may govern
_BLOCK = 4_000_000  # numbers held at once when peaks of many channels are searched


@dataclass(frozen=True)
class Followed:
    """What one-way members did.

    Attributes
    ----------
    members : tuple of Member
    run : Run
    linear : ndarray, shape (readings,)
        Peaks of the answer that holds them both ways.
    error : float
        Largest relative difference of peaks with steps half as long.
    """

    members: tuple[Member, ...]
    run: Run
    linear: Floats
    error: float


@dataclass(frozen=True)
class TimeResult:
    """Answer to a base pulse.

    Attributes
    ----------
    reduced : ReducedModel
    pulse : BasePulse
    time : ndarray, shape (rows,)
        Seconds; an instant given twice is a jump of the base acceleration.
    base : ndarray, shape (rows, 3)
        Base acceleration in m/s².
    peaks, peak_times : ndarray, shape (readings,)
        Value of largest magnitude, with its sign, and when in s; of the continuous history.
    lowest, highest : ndarray, shape (readings,)
        Extremes of the continuous history, SI.
    extreme_times : ndarray, shape (2, readings)
        When the lowest and the highest occur, in s.
    places : tuple of str
        For readings of a field: where the peak is.
    static : ndarray, shape (readings,)
        Static answer to the peak base acceleration of each direction held (NaN where it has no meaning).
    correction_share : ndarray, shape (readings,)
        Largest static correction over the peak.
    findings : tuple of Finding
    acting : tuple of LoadField
        Loads of the event beside the base motion.
    followed : Followed, or None
        What let go, hit and slid, where that was followed.
    beside : ndarray, shape (shapes, dofs), or None
        Static shapes that are coordinates after the modes.
    """

    reduced: ReducedModel
    name: str
    pulse: BasePulse
    time: Floats
    base: Floats
    peaks: Floats
    peak_times: Floats
    lowest: Floats
    highest: Floats
    places: tuple[str, ...]
    static: Floats
    correction_share: Floats
    findings: tuple[Finding, ...]
    reader: History
    extreme_times: Floats
    acting: tuple[LoadField, ...] = ()
    followed: Followed | None = None
    beside: Floats | None = None

    @property
    def meaning(self) -> Meaning:
        """Of `peaks`."""
        return PEAK

    def sizes(self, reading: Reading) -> Floats:
        """Largest of a reading at each of its places on the rows, shape (places,)."""
        lows, highs = _over_rows(self.reader, reading, np.arange(reading.count))
        return np.maximum(highs, -lows)

    @cached_property
    def noise(self) -> Floats:
        """What is rounding only in each reading, shape (readings,)."""
        return reading_noise(self.reduced.readings, self.peaks)

    @cached_property
    def rms(self) -> Floats:
        """Root of the mean square of each reading from the first row of the pulse to the end, shape (readings,), SI."""
        keep = self.time >= self.pulse.start
        t = self.time[keep]
        result = np.zeros(len(self.reduced.readings))
        for number in range(len(result)):
            y = self.history(number)[keep] ** 2
            result[number] = np.sqrt(np.sum(np.diff(t) * (y[1:] + y[:-1]) / 2.0) / (t[-1] - t[0]))
        return result

    def history(self, reading: int, thin: int = 1) -> Floats:
        """History of a reading on `time[::thin]`, SI; of a field, the channel that governs the peak."""
        derived = self.reduced.readings[reading]
        own = np.array(derived.at(self.reader.governing.get(reading, 0)))
        return derived.form.value(self.reader.rows(slice(None, None, thin), own))


class History:
    """Reads channels of a trajectory, on rows and between them."""

    def __init__(self, readout: Readout, path: Trajectory, pulse: BasePulse, oscillators: Oscillators) -> None:
        self.readout, self.path, self.oscillators = readout, path, oscillators
        self.governing: dict[int, int] = {}
        self._most: dict[int, Floats] = {}
        self._whole: tuple[Floats, Floats, Floats] | None = None
        self._frame: tuple[Floats, Floats] | None = None
        if readout.needs_frame:
            self._frame = pulse.base_motion(path.time, path.load)

    @property
    def correct(self) -> bool:
        """Whether left-out modes answer statically."""
        return self.readout.correct

    def rows(self, rows: Any, columns: Any) -> Floats:
        """Values at rows, shape (rows, columns)."""
        if self._whole is None and self.path.load.shape[0] * len(self.oscillators.omega) <= _KEPT:
            self._whole = self.oscillators.motion(self.path.state, self.path.load)
        if self._whole is not None:
            q, v, a = (x[rows] for x in self._whole)
        else:
            q, v, a = self.oscillators.motion(self.path.state[rows], self.path.load[rows])
        load = self.path.load[rows]
        frame = (None, None) if self._frame is None else (self._frame[0][rows], self._frame[1][rows])
        return self.readout.read(Motion(q, v, a, self.oscillators.balance(q, v, a, load), load, *frame), columns)

    def between(self, rows: Ints, tau: Floats, columns: Ints) -> Floats:
        """Values of own channels at `tau[k]` after `rows[k]`, shape (k, several) for columns of that shape."""
        state, load = self.oscillators.within(self.path, rows, tau)
        q, v, a = self.oscillators.motion(state, load)
        frame: tuple[Any, Any] = (None, None)
        if self._frame is not None:  # the frame's acceleration is straight between rows
            frame = self.base_between(rows, tau, load)
        return self.readout.read_each(Motion(q, v, a, self.oscillators.balance(q, v, a, load), load, *frame), columns)

    def base_between(self, rows: Ints, tau: Floats, load: Floats) -> tuple[Floats, Floats]:
        """Velocity and displacement of the base and of groups of supports at `tau` after rows, exactly."""
        assert self._frame is not None
        moving = self._frame[0].shape[1]
        before, now, t = self.path.load[rows][:, :moving], load[:, :moving], tau[:, None]
        speed, place = self._frame[0][rows], self._frame[1][rows]
        return speed + t * (before + now) / 2.0, place + t * speed + t**2 * (2.0 * before + now) / 6.0

    def base(self, rows: Any) -> Floats | None:
        """Displacement of the base and of groups of supports at rows, where groups move; else None."""
        return None if self._frame is None or self.readout.settled is None else self._frame[1][rows]

    @property
    def rest(self) -> Floats:
        """Modal displacements at rest under the last row's loads, shape (1, modes)."""
        own = self.readout.reduced
        return np.asarray(self.path.load[-1:] @ -own.participation.T / own.omega**2)

    @property
    def last_frame(self) -> tuple[Floats, Floats] | None:
        """Velocity and displacement of the base in the last row, (1, moving) each, where a reading needs them."""
        return None if self._frame is None else (self._frame[0][-1:], self._frame[1][-1:])

    def bound(self, reading: Reading) -> Floats | None:
        """What a reading cannot exceed at each place, shape (places,); None where no bound is at hand.

        By the triangle inequality over the modes and loads, each at its largest.
        """
        own, readout = reading.columns, self.readout
        which = np.unique(readout.which[own])
        if reading.form.quadratic(reading.width) is None or len(which) > 1 or readout.settled is not None:
            return None
        modal = np.abs(reading.form.value(reading.parts(readout.reduced.modal)))
        beside = np.abs(reading.form.value(readout.per_load(own).reshape(-1, reading.count, reading.width)))
        result = self._largest(int(which[0])) @ modal + np.abs(self.path.load).max(axis=0) @ beside
        if readout.damped[own].any():
            result = result + self._largest(1) @ np.abs(reading.form.value(reading.parts(readout.reduced.modal_damper)))
        return np.asarray(result)

    def _largest(self, kind: int) -> Floats:
        """Largest size of a modal coordinate over the rows, shape (modes,)."""
        if kind not in self._most:
            rows, step = len(self.path.time), max(1, _BLOCK // max(len(self.oscillators.omega), 1))
            largest = np.zeros(len(self.oscillators.omega))
            for a in range(0, rows, step):
                load = self.path.load[a : a + step]
                q, v, x = self.oscillators.motion(self.path.state[a : a + step], load)
                coordinate = Motion(q, v, x, self.oscillators.balance(q, v, x, load), load).coordinate(kind)
                largest = np.maximum(largest, np.abs(coordinate).max(axis=0))
            self._most[kind] = largest
        return self._most[kind]


class SampledHistory(History):
    """Reads channels whose histories are held on equal steps; cubics through four rows between them."""

    def __init__(self, readout: Readout, time: Floats, load: Floats, values: Floats) -> None:
        self.readout, self.values = readout, values
        self.path = Trajectory(time, load, np.zeros((len(time), 0), dtype=complex))
        self.governing = {}

    def bound(self, reading: Reading) -> Floats | None:
        return None

    def rows(self, rows: Any, columns: Any) -> Floats:
        return np.asarray(self.values[rows][:, columns])

    def between(self, rows: Ints, tau: Floats, columns: Ints) -> Floats:
        last = len(self.path.time) - 1
        h = self.path.time[1] - self.path.time[0]
        s = (tau / h)[:, None]
        y = [self.values[np.clip(rows + k, 0, last)[:, None], columns] for k in (-1, 0, 1, 2)]
        d0, d1 = (y[2] - y[0]) / 2.0, (y[3] - y[1]) / 2.0
        a, b = 2.0 * (y[1] - y[2]) + d0 + d1, 3.0 * (y[2] - y[1]) - 2.0 * d0 - d1
        return np.asarray(((a * s + b) * s + d0) * s + y[1])


def respond_pulse(
    reduced: ReducedModel,
    pulse: BasePulse,
    *,
    name: str = "pulse",
    ring_down: float | tuple[float] | None = None,
    step: float | None = None,
    static_correction: bool = True,
    method: str = "modes",
    coupling: Floats | None = None,
    high_frequency_damping: float = 0.2,
    full: FullModel | None = None,
) -> TimeResult:
    """Response of all gauges to a base pulse and loads in time, from rest under the loads before them.

    Parameters
    ----------
    ring_down : float or tuple of float, optional
        Seconds after the pulse, or what is then left of the slowest motion as a 1-tuple of a share; by default
        until no reading can exceed its peak any more (`decay`), a period of the lowest mode at least, and at most
        until that has decayed to 5 %, or 30 of its periods.
    step : float, optional
        Longest step in s; by default a sixteenth of the shortest period kept (a fortieth for direct integration).
        But for direct integration, steps never pass over a row of the pulse, and peaks are found between steps as well.
    static_correction : bool
        Add what the left-out modes answer statically.
    method : str
        modes (uncoupled, exact), coupled modes (exact), average acceleration or generalised alpha.
    coupling : ndarray, shape (modes, modes), optional
        Modal damping matrix of discrete dampers, Φ C Φᵀ; its diagonal is part of `reduced.damping`.
    high_frequency_damping : float
        1 - ρ of the generalised-α method.
    full : FullModel, optional
        Integrate the whole model instead of its modes.

    Raises
    ------
    EventError
        A step or ring-down that is not positive, or more than two million rows.
    """
    if step is not None and not step > 0:
        raise EventError(f'event "{name}": step must be greater than 0 s, got {step:g}', path=("events", name))
    if isinstance(ring_down, float | int) and not ring_down > 0:
        raise EventError(
            f'event "{name}": ring down must be greater than 0 s, got {ring_down:g}', path=("events", name)
        )
    direct = method in ("average acceleration", "generalised alpha")
    most = longest_after(reduced, ring_down)
    findings = _before(reduced, pulse, step, static_correction and full is None, direct)
    if direct and pulse.jumps:
        raise EventError(
            f'event "{name}": the velocity of the base jumps, which direct integration has no step for; take '
            "method: modes",
            path=("events", name),
        )
    shortest = 2.0 * np.pi / reduced.omega.max()
    per_period = DIRECT_STEPS if direct else STEPS_PER_PERIOD
    longest = step if step is not None else shortest / per_period
    scheme = (
        Scheme.average_acceleration() if method == "average acceleration"
        else Scheme.generalised_alpha(1.0 - high_frequency_damping)
    )  # fmt: skip
    oscillators = None if full is not None else _oscillators(reduced, method, coupling, scheme)

    def followed(after: float) -> History:
        _refuse_rows(name, (pulse.end - pulse.start + after) / longest)
        time, base = _grid(pulse, longest, after)
        if direct:
            count = int(np.ceil((time[-1] - time[0]) / longest))
            even = np.linspace(time[0], time[-1], count + 1)
            base = np.stack([np.interp(even, time, base[:, k]) for k in range(base.shape[1])], axis=1)
            time = even
        base = pulse.with_velocities(time, base)
        _refuse_rows(name, len(time))
        _refuse_memory(name, len(time), reduced, full is not None)
        if oscillators is None:
            assert full is not None
            values = full_histories(full, reduced, scheme, time, base, pulse.base_motion(time, base))
            return SampledHistory(Readout(reduced, False), time, base, values)
        if direct:
            path = oscillators.run(time, base, settled=True)
        else:
            path = oscillators.run(time, base, settled=True, jumps=pulse.jumps_on(time))
        return History(Readout(reduced, static_correction), path, pulse, oscillators)

    def extremes(reader: History) -> list[tuple[Reading, float, float]]:
        return reached(reader, _with_values(reader, reduced.readings))

    search = None if direct else ring_down is None
    reader, told = long_enough(followed, extremes, reduced, most, search)
    findings += [*told, *_impulses(reduced, pulse, reader)]
    findings += _method_words(method, full, longest, high_frequency_damping, reader)
    return answer_of_path(reader, reduced, pulse, name, tuple(findings))


def answer_of_path(
    reader: History, reduced: ReducedModel, pulse: BasePulse, name: str, findings: tuple[Finding, ...]
) -> TimeResult:
    """The answer that a history tells: extremes of all readings with their times and places."""
    time, base = reader.path.time, reader.path.load
    count = len(reduced.readings)
    lowest, highest = np.zeros(count), np.zeros(count)
    when = np.zeros((2, count))
    places = [""] * count
    for number, reading, known in _with_values(reader, reduced.readings):
        lo, hi, place = _extremes(reader, reading, known)
        (lowest[number], when[0, number]), (highest[number], when[1, number]) = lo, hi
        if reading.form.field:
            reader.governing[number], places[number] = place, reading.place(place)
    sizes = [(r.size(lowest[[n]])[0], r.size(highest[[n]])[0]) for n, r in enumerate(reduced.readings)]
    down = np.array([low > high for low, high in sizes], dtype=np.bool_)
    peaks, times = np.where(down, lowest, highest), np.where(down, when[0], when[1])
    static, share = _static(reduced, pulse, peaks, reader)
    return TimeResult(
        reduced, name, pulse, time, base, peaks, times, lowest, highest, tuple(places), static, share,
        findings, reader, when,
    )  # fmt: skip


def _refuse_memory(name: str, rows: int, reduced: ReducedModel, full: bool) -> None:
    """Raise where the states (or, of a full model, the gauges) at all rows would not fit."""
    need = rows * 8.0 * (len(reduced.channels) if full else 3.0 * reduced.count)
    free = available_memory()
    if free is not None and need > 0.8 * free:
        raise EventError(
            f'event "{name}": {rows:,} rows take {need / 1e9:.1f} GB and {free / 1e9:.1f} GB are free; give a longer '
            "step, a shorter ring down, or keep fewer modes (upto)",
            path=("events", name),
        )


def _oscillators(reduced: ReducedModel, method: str, coupling: Floats | None, scheme: Scheme) -> Oscillators:
    weights = -reduced.participation
    if method == "modes":
        return Oscillators(reduced.omega, reduced.damping, weights)
    C = np.diag(2.0 * reduced.damping * reduced.omega)
    if coupling is not None:  # its diagonal is in the ratios
        C = C + coupling - np.diag(np.diag(coupling))
    if method == "coupled modes":
        return CoupledModes(reduced.omega, reduced.damping, weights, C)
    return SteppedModes(reduced.omega, reduced.damping, weights, C, scheme)


def _before(reduced: ReducedModel, pulse: BasePulse, step: float | None, correct: bool, direct: bool) -> list[Finding]:
    """What is to be known of the excitation, the step and the modes."""
    findings = [*about_pulse(pulse), *(Finding("note", text) for text in pulse.notes)]
    shortest = 2.0 * np.pi / reduced.omega.max()
    if step is not None and step > shortest / 8:
        findings.append(Finding(
            "warning", f"the step of {1e3 * step:.4g} ms is coarse for the highest mode kept (period "
            f"{1e3 * shortest:.4g} ms): peaks may be missed; {1e3 * shortest / STEPS_PER_PERIOD:.3g} ms would do",
        ))  # fmt: skip
    rises = np.diff(pulse.time)
    rises = rises[(rises > 0) & (np.abs(np.diff(pulse.acceleration, axis=0)).max(axis=1) > 0.5 * pulse.peak.max())]
    if step is not None and len(rises) and step > rises.min():
        text = f"the step of {1e3 * step:.4g} ms is longer than the shortest rise of {1e3 * rises.min():.4g} ms"
        if direct:
            findings.append(Finding("warning", f"{text}, which direct integration may pass over: take a shorter step"))
        else:
            findings.append(Finding("note", f"{text}; rows of the pulse are kept, so that the rise is"))
    for d, axis in enumerate("xyz"):
        if pulse.moves[d] and reduced.captured[d] < MASS_THRESHOLD:
            cure = "the static correction answers for the rest" if correct else "add modes"
            findings.append(Finding(
                "warning", f"{axis}: the modes hold {100 * reduced.captured[d]:.1f} % of the free mass, below "
                f"{100 * MASS_THRESHOLD:.0f} %; {cure}",
            ))  # fmt: skip
    said = []
    for text, unit, factor, values in (
        ("the base moves on after the pulse", "m/s", 1.0, pulse.velocity_change),
        ("it is displaced at the end of the pulse", "mm", 1e3, pulse.end_displacement),
    ):
        moving = pulse.names[: pulse.moving]
        shown = ", ".join(f"{a} {factor * m:.4g} {unit}" for a, m in zip(moving, values, strict=True) if m != 0.0)
        if shown:
            said.append(f"{text}: {shown}")
    if said:
        findings.append(Finding("note", "; ".join(said).replace("it is", "it is" if len(said) > 1 else "the base is")))
    left = pulse.acceleration[-1, : pulse.moving]
    if left.any():
        findings.append(Finding("warning", "the base's acceleration does not end: its velocity grows without bound"))
    return findings


def _impulses(reduced: ReducedModel, pulse: BasePulse, reader: History) -> list[Finding]:
    """What the supports take in no time where the base velocity jumps, in N s."""
    found = []
    for d, axis in enumerate(pulse.names[: min(3, pulse.moving)]):
        most = max((abs(by) for _, column, by in pulse.jumps if column == d), default=0.0)
        if most == 0.0:
            continue
        held, lost = (
            m * most if m > 1e-9 * reduced.whole_mass[d] else 0.0
            for m in map(float, (reduced.whole_mass[d] - reduced.free_mass[d],
                                 reduced.free_mass[d] * (1.0 - reduced.captured[d])))
        )  # fmt: skip
        text = (
            f"{axis}: the velocity of the base jumps by up to {most:.4g} m/s, from which all that is free starts with "
            f"that velocity relative to the base; the supports take an impulse of {held + lost:.4g} N s in no time, "
            "where a force would be infinite"
        )
        if lost > 0.01 * (held + lost):
            text += f"; {lost:.4g} N s of it are of modes left out, which would take some time"
        found.append(Finding("note", text))
    own = reader.readout
    still = reduced.channels.is_balance
    told = []
    for reading in reduced.readings if pulse.jumps else ():
        if reading.form.field or not still[reading.channels[0]] or reading.dimension not in ("force", "moment"):
            continue
        columns = np.array(reading.channels)
        each = [float(reading.form.value(by * own.residual[column, columns][None])[0]) for _, column, by in pulse.jumps]
        size = max(abs(e) for e in each)
        if size > 0.0:
            told.append((size, f"{reading.label} {size:.4g} {'N s' if reading.dimension == 'force' else 'N m s'}"))
    told.sort(key=lambda pair: -pair[0])
    if told and told[0][0] > 0.0:
        kept = [words for size, words in told if size > 1e-6 * told[0][0]]
        found.append(Finding("note", f"largest impulses at jumps of the base velocity: {first_few(kept, 6)}"))
    return found


def _method_words(method: str, full: FullModel | None, step: float, high: float, reader: History) -> list[Finding]:
    if method == "modes":
        return []
    if method == "coupled modes":
        return [
            Finding("note", "dampers couple the modes: solved together, exactly, by complex modes of the kept ones")
        ]
    what = "all degrees of freedom of the model" if full is not None else "the modal equations"
    if full is not None and full.rayleigh is None:
        what += f" (described damping in the {len(full.omega)} modes kept, none above them)"
    scheme = method
    if method == "generalised alpha":
        scheme = f"the generalised-α method (a step leaves {100 * (1 - high):.0f} % of very fast motion)"
    rows = len(reader.path.time) - 1
    return [
        Finding(
            "note",
            f"direct integration of {what} by {scheme} in {rows:,} steps of {1e3 * step:.4g} ms; the error falls with "
            "the square of the step: halve it to see",
        )
    ]


def _refuse_rows(name: str, rows: float) -> None:
    if not rows <= MAX_ROWS:
        raise EventError(
            f'event "{name}": {rows:,.7g} rows would be needed, and {MAX_ROWS:,} are the most; give a longer '
            "step, a shorter ring down, or keep fewer modes (upto)",
            path=("events", name),
        )


def _grid(pulse: BasePulse, longest: float, ring_down: float) -> tuple[Floats, Floats]:
    """Rows from a tenth of the pulse before it, through its rows, to the end of the ring-down."""
    lead = 0.1 * max(pulse.end - pulse.start, longest)
    times, loads = [np.array([pulse.start - lead])], [pulse.resting[None]]
    if (pulse.resting != pulse.acceleration[0]).any():  # the load before the first row ends there
        times.append(pulse.time[:1])
        loads.append(pulse.resting[None])
    step = np.diff(pulse.time)
    pieces = np.maximum(1, np.ceil(step / longest - 1e-9)).astype(int)
    times.append(pulse.time[:1])
    loads.append(pulse.acceleration[:1])
    if (pieces == 1).all():
        times.append(pulse.time[1:])
        loads.append(pulse.acceleration[1:])
    else:
        first = np.repeat(np.arange(len(step)), pieces)
        offset = np.arange(len(first)) - np.repeat(np.cumsum(pieces) - pieces, pieces)
        share = (offset + 1) / pieces[first]
        times.append(pulse.time[first] + share * step[first])
        a0, a1 = pulse.acceleration[first], pulse.acceleration[first + 1]
        loads.append(a0 + share[:, None] * (a1 - a0))
    count = max(2, int(np.ceil(ring_down / longest)))
    times.append(pulse.end + ring_down * np.arange(1, count + 1) / count)
    loads.append(np.repeat(pulse.acceleration[-1:], count, axis=0))
    return np.concatenate(times), np.concatenate(loads)


def _with_values(reader: History, readings: tuple[Reading, ...]) -> Iterator[tuple[int, Reading, Floats | None]]:
    """Every reading with the history of its channels, read for many at once; None for fields."""
    rows = len(reader.path.time)
    plain = [i for i, r in enumerate(readings) if not r.form.field]
    most = max(1, _KEPT // rows)
    while plain:
        tell("histories of gauges", len(readings) - len(plain), len(readings), "readings")
        taken: list[int] = []
        columns: dict[int, int] = {}
        while plain and (not taken or len(columns) + len(readings[plain[0]].channels) <= most):
            taken.append(plain.pop(0))
            for c in readings[taken[-1]].channels:
                columns.setdefault(c, len(columns))
        table = np.empty((rows, len(columns)))
        chosen = np.array(list(columns), dtype=int)
        step = max(1, _BLOCK // max(len(reader.readout.reduced.omega), len(columns)))
        for a in range(0, rows, step):
            table[a : a + step] = reader.rows(slice(a, a + step), chosen)
        for i in taken:
            yield i, readings[i], table[:, [columns[c] for c in readings[i].channels]]
    for i, r in enumerate(readings):
        if r.form.field:
            tell(f"largest in time of {r.label}", i, len(readings), "readings")
            yield i, r, None


Extreme = tuple[float, float]


def _over_rows(reader: History, reading: Reading, places: Ints) -> tuple[Floats, Floats]:
    """Lowest and highest value on the rows at some places, shape (places,) each."""
    first, step = reading.channels.start, reading.channels.step
    columns = (first + step * (places[:, None] * reading.width + np.arange(reading.width))).ravel()
    lows, highs = np.full(len(places), np.inf), np.full(len(places), -np.inf)
    rows = max(1, _BLOCK // len(columns))
    for a in range(0, len(reader.path.time), rows):
        block = reader.rows(slice(a, a + rows), columns)
        values = reading.form.value(block.reshape(len(block), -1, reading.width))
        lows, highs = np.minimum(lows, values.min(axis=0)), np.maximum(highs, values.max(axis=0))
    return lows, highs


def _extremes(reader: History, reading: Reading, history: Floats | None) -> tuple[Extreme, Extreme, int]:
    """Lowest and highest value with their times, between rows too, and the place of the larger.

    Of a field, the places on the rows first, but for those that cannot exceed what others reach; the governing one is
    then refined between rows. The lowest value of one without a sign is that of its governing place.
    """
    form, time = reading.form, reader.path.time
    low, high, best = np.inf, -np.inf, 0
    if history is None:
        bound = reader.bound(reading)
        left = np.arange(reading.count) if bound is None else np.argsort(-bound, kind="stable")
        width = max(1, (_WIDE if bound is None else _FIRST) // reading.width)
        size = -np.inf
        while len(left):
            part, left = left[:width], left[width:]
            lows, highs = _over_rows(reader, reading, np.sort(part))
            sizes = np.maximum(highs, -lows if form.signed else highs)
            if float(sizes.max()) > size:
                size, best = float(sizes.max()), int(np.sort(part)[sizes.argmax()])
            low, high = min(low, float(lows.min())), max(high, float(highs.max()))
            width = max(1, _WIDE // reading.width)
            if bound is not None:
                reach = min(high, -low) if form.signed else high
                left = left[bound[left] >= reach]
        history = reader.rows(slice(None), np.array(reading.at(best)))
        if not form.signed:
            low = np.inf
    columns_of_best = np.array(reading.at(best))[None]
    values = form.value(history)
    hi = _refine(reader, values, columns_of_best, 1.0, form.value)
    lo = (float(values.min()), float(time[values.argmin()]))
    if form.signed:
        lo = _refine(reader, values, columns_of_best, -1.0, form.value)
    return (min(lo[0], low), lo[1]), (max(hi[0], high), hi[1]), best


def _refine(
    reader: History, values: Floats, columns: Ints, sign: float, form: Callable[[Floats], Floats]
) -> tuple[float, float]:
    """Largest value (times sign) of the continuous history, by ever finer looks around the largest rows."""
    time = reader.path.time
    v = sign * values
    inner = np.flatnonzero((v[1:-1] >= v[:-2]) & (v[1:-1] >= v[2:])) + 1
    candidates = np.unique(np.concatenate([inner[np.argsort(-v[inner])[:6]], [int(v.argmax())]]))
    best, when = float(v.max()), float(time[v.argmax()])
    before, after = np.maximum(candidates - 1, 0), np.minimum(candidates, len(time) - 2)
    still = time[1:] == time[:-1]  # an instant given twice: the cells beside it are one farther off
    before = np.maximum(before - still[before], 0)
    after = np.minimum(after + still[after], len(time) - 2)
    cells = np.unique(np.concatenate([before, after]))
    width = time[cells + 1] - time[cells]
    cells, width = cells[width > 0], width[width > 0]
    low, high = np.zeros(len(cells)), width.copy()
    share = np.linspace(0.0, 1.0, 9)
    for _ in range(7):
        if not len(cells):
            break
        tau = low[:, None] + (high - low)[:, None] * share
        flat = np.repeat(cells, 9)
        read = reader.between(flat, tau.ravel(), np.broadcast_to(columns, (len(flat), columns.shape[1])))
        found = sign * form(read)
        found = found.reshape(len(cells), 9)
        top = found.argmax(axis=1)
        each = np.arange(len(cells))
        highest = found[each, top]
        i = int(highest.argmax())
        if highest[i] > best:
            best, when = float(highest[i]), float(time[cells[i]] + tau[i, top[i]])
        # between nine points a smooth curve rises far less above them than they differ
        open_ = 2.0 * highest - found.min(axis=1) >= best
        low, high = tau[each, np.maximum(top - 1, 0)][open_], tau[each, np.minimum(top + 1, 8)][open_]
        cells = cells[open_]
    return sign * best, when


def _static(reduced: ReducedModel, pulse: BasePulse, peaks: Floats, reader: History) -> tuple[Floats, Floats]:
    """Largest answer if everything were slow, and the largest correction as a share of the peak."""
    static, share = np.full(len(reduced.readings), np.nan), np.zeros(len(reduced.readings))
    if pulse.jumps:  # an impulse has no size at rest
        return static, share
    rows = np.unique(pulse.acceleration, axis=0)
    if len(rows) > 20_000:
        rows = rows[:: len(rows) // 20_000 + 1]
    rows = np.vstack([rows, pulse.resting, pulse.acceleration[np.abs(pulse.acceleration).argmax(axis=0)]])
    varying = np.where(
        (pulse.acceleration == pulse.resting).all(axis=0), 0.0, np.maximum(pulse.peak, np.abs(pulse.resting))
    )
    readout = reader.readout
    for number, reading in enumerate(reduced.readings):
        own = np.array(reading.at(reader.governing.get(number, 0)))
        still = readout.static(own)
        if still is not None and readout.settled is None:
            static[number] = float(np.abs(reading.form.value(rows @ still)).max())
        if readout.has_correction(own):
            left = abs(float(reading.form.value((varying @ np.abs(readout.residual[:, own]))[None])[0]))
            share[number] = left / abs(peaks[number]) if peaks[number] else 0.0
    return static, share
