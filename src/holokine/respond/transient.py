"""Response to base pulses in time, by modes with static correction.

Motion relative to the support frame obeys q'' + 2ζω q' + ω² q = -Γ·a per mode. Channels read it so:
elastic ones take q (and q' for dampers); balances take s = -(q'' + Γ·a)/ω² = q + 2ζ q'/ω, which keeps
reactions equal to inertia forces at every instant; accelerations take q'' and the base. What the left-out
modes answer is added statically (mode acceleration), except to velocities.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from holokine.elements.stress import equivalent_stress, principal_stress
from holokine.errors import EventError
from holokine.excite.pulse import BasePulse
from holokine.gauges.channels import Derived
from holokine.modes.check import Finding
from holokine.respond.direct import CoupledModes, FullModel, Scheme, SteppedModes, full_histories
from holokine.respond.oscillators import Oscillators, Trajectory
from holokine.respond.reduced import ReducedModel, reading_noise
from holokine.solvers.memory import available_memory

__all__ = ["PulseAnswer", "respond_pulse"]

Floats = NDArray[Any]  # float64
Ints = NDArray[Any]  # int64
STEPS_PER_PERIOD = 16
DIRECT_STEPS = 40
MAX_ROWS = 2_000_000
MASS_THRESHOLD = 0.9
_KEPT = 20_000_000  # modal displacements that are held for all rows at once
_BLOCK = 4_000_000  # numbers held at once when peaks of many channels are searched


@dataclass(frozen=True)
class PulseAnswer:
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
    places : tuple of str
        For readings of a field: where the peak is.
    static : ndarray, shape (readings,)
        Static answer to the peak base acceleration of each direction held (NaN where it has no meaning).
    correction_share : ndarray, shape (readings,)
        Largest static correction over the peak.
    findings : tuple of Finding
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
    reader: _Reader

    @property
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
        columns = np.array(derived.channels)
        if derived.how not in ("single", "magnitude"):
            place = self.reader.governing[reading]
            columns = columns[place * derived.width : (place + 1) * derived.width]
        values = self.reader.rows(np.arange(0, len(self.time), thin), columns)
        return _FORMS[derived.how](values)


class _Reader:
    """Reads channels of a trajectory, on rows and between them."""

    def __init__(
        self,
        reduced: ReducedModel,
        oscillators: Oscillators,
        path: Trajectory,
        pulse: BasePulse,
        correct: bool,
    ) -> None:
        self.reduced, self.oscillators, self.path = reduced, oscillators, path
        self.correct = correct
        self.residual = reduced.residual if correct else np.zeros_like(reduced.residual)
        self.balance = reduced.is_kind("balance")
        self.order = np.array([c.order if c.kind == "motion" else 0 for c in reduced.channels], dtype=int)
        self.absolute = reduced.is_absolute
        self.damped = (reduced.modal_damper != 0).any(axis=0) if reduced.count else np.zeros(0, dtype=bool)
        self.governing: dict[int, int] = {}
        self._whole: tuple[Floats, Floats, Floats] | None = None
        needs = bool((self.absolute & (self.order < 2)).any())
        self.base_v: Floats | None = None
        self.base_u: Floats | None = None
        if needs and path is not None:
            self.base_v, self.base_u = pulse.base_motion(path.time, path.load)

    def rows(self, rows: Ints, columns: Ints) -> Floats:
        """Values at rows, shape (rows, columns)."""
        if self._whole is None and self.path.load.shape[0] * self.reduced.count <= _KEPT:
            self._whole = self.oscillators.motion(self.path.state, self.path.load)
        if self._whole is not None:
            q, v, a = (x[rows] for x in self._whole)
        else:
            q, v, a = self.oscillators.motion(self.path.state[rows], self.path.load[rows])
        base = None
        if self.base_v is not None and self.base_u is not None:
            base = (self.base_v[rows], self.base_u[rows])
        return self._values(q, v, a, self.path.load[rows], base, columns)

    def between(self, rows: Ints, tau: Floats, columns: Ints) -> Floats:
        """Values of column k at `tau[k]` after `rows[k]`: shapes all (k,), or columns (k, several)."""
        state, load = self.oscillators.within(self.path, rows, tau)
        q, v, a = self.oscillators.motion(state, load)
        base = None
        if self.base_v is not None and self.base_u is not None:
            mean = (2.0 * self.path.load[rows] + load) / 6.0
            t = tau[:, None]
            mean = mean[:, :3]
            bv = self.base_v[rows] + t * (self.path.load[rows] + load)[:, :3] / 2.0
            base = (bv, self.base_u[rows] + t * self.base_v[rows] + t**2 * mean)
        r = self.reduced
        g, d = r.modal[:, columns], r.modal_damper[:, columns]  # (modes, k, several)
        coordinate = np.stack([q, v, a, self.oscillators.balance(q, v, a, load)])
        picked = coordinate[self._which[columns], np.arange(len(rows))[:, None]]  # (k, several, modes)
        values = np.einsum("kcm,mkc->kc", picked, g)
        if self.damped.any():
            values += np.einsum("km,mkc->kc", v, d)
        correct, rigid = self._per_load(columns)
        values += np.einsum("kd,dkc->kc", load, correct)
        if base is not None:
            for order, motion in ((1, base[0]), (0, base[1])):
                use = (self.absolute & (self.order == order))[columns]
                values += np.where(use, np.einsum("kd,dkc->kc", motion, rigid), 0.0)
        return values

    @property
    def _which(self) -> Ints:
        """Which coordinate a channel takes: 0 q, 1 q', 2 q'' (+ base), 3 s."""
        return np.where(self.balance, 3, self.order)

    def _per_load(self, columns: Ints) -> tuple[Floats, Floats]:
        """Weight of the loads on channels, shape (loads, ...): residual, or the rigid share of a base motion."""
        r = self.reduced
        accelerating = (self.order == 2) & self.absolute
        # absolute acceleration: Σ g q'' + rigid·a, in which the left-out modes ride with the base
        kept = np.where(accelerating, r.rigid if self.correct else r.rigid - r.residual, self.residual)
        return kept[:, columns], r.rigid[:3][:, columns]

    def _values(
        self, q: Floats, v: Floats, a: Floats, load: Floats, base: tuple[Floats, Floats] | None, columns: Ints
    ) -> Floats:
        r = self.reduced
        result = np.zeros((len(q), len(columns)))
        which = self._which[columns]
        for kind in range(4):
            use = which == kind
            if use.any():
                coordinate = (q, v, a)[kind] if kind < 3 else self.oscillators.balance(q, v, a, load)
                result[:, use] = coordinate @ r.modal[:, columns[use]]
        if self.damped[columns].any():
            result += v @ r.modal_damper[:, columns]
        correct, rigid = self._per_load(columns)
        result += load @ correct
        if base is not None:
            for order, motion in ((1, base[0]), (0, base[1])):
                use = self.absolute[columns] & (self.order[columns] == order)
                result[:, use] += motion @ rigid[:, use]
        return result


class _SampledReader(_Reader):
    """Reads channels whose histories are held on equal steps; cubics through four rows between them."""

    def __init__(self, reduced: ReducedModel, time: Floats, load: Floats, values: Floats) -> None:
        self.reduced, self.values = reduced, values
        self.path = Trajectory(time, load, np.zeros((len(time), 0), dtype=complex))
        self.correct = False
        self.residual = np.zeros_like(reduced.residual)
        self.governing = {}

    def rows(self, rows: Ints, columns: Ints) -> Floats:
        return self.values[np.ix_(rows, columns)]

    def between(self, rows: Ints, tau: Floats, columns: Ints) -> Floats:
        last = len(self.path.time) - 1
        h = self.path.time[1] - self.path.time[0]
        s = (tau / h)[:, None]
        y = [self.values[np.clip(rows + k, 0, last)[:, None], columns] for k in (-1, 0, 1, 2)]
        d0, d1 = (y[2] - y[0]) / 2.0, (y[3] - y[1]) / 2.0
        a, b = 2.0 * (y[1] - y[2]) + d0 + d1, 3.0 * (y[2] - y[1]) - 2.0 * d0 - d1
        return np.asarray(((a * s + b) * s + d0) * s + y[1])


def _only(values: Floats) -> Floats:
    return values[:, 0]


def _size(values: Floats) -> Floats:
    return np.linalg.norm(values, axis=1)


_FORMS = {
    "single": _only,
    "largest": _only,
    "magnitude": _size,
    "equivalent": equivalent_stress,
    "principal": principal_stress,
}


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
) -> PulseAnswer:
    """Response of all gauges to a base pulse and loads in time, from rest under the loads before them.

    Parameters
    ----------
    ring_down : float or tuple of float, optional
        Seconds after the pulse, or what is then left of the slowest motion as a 1-tuple of a share; by default
        until the lowest mode has decayed to 5 %, at most 30 of its periods.
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
        raise EventError(f"{name}: step must be greater than 0 s, got {step:g}")
    if isinstance(ring_down, float | int) and not ring_down > 0:
        raise EventError(f"{name}: ring down must be greater than 0 s, got {ring_down:g}")
    direct = method in ("average acceleration", "generalised alpha")
    findings = _before(reduced, pulse, step, static_correction and full is None, direct)
    shortest = 2.0 * np.pi / reduced.omega.max()
    per_period = DIRECT_STEPS if direct else STEPS_PER_PERIOD
    longest = step if step is not None else shortest / per_period
    time, base = _grid(pulse, longest, _after(reduced, ring_down))
    if direct:
        lead = time[0]
        count = int(np.ceil((time[-1] - lead) / longest))
        even = np.linspace(lead, time[-1], count + 1)
        base = np.stack([np.interp(even, time, base[:, k]) for k in range(base.shape[1])], axis=1)
        time = even
    if len(time) > MAX_ROWS:
        raise EventError(
            f"{name}: {len(time):,} rows would be needed; give a longer step, a shorter ring down, or keep "
            "fewer modes (upto)"
        )
    _refuse_memory(name, len(time), reduced, full is not None)
    scheme = (
        Scheme.average_acceleration() if method == "average acceleration"
        else Scheme.generalised_alpha(1.0 - high_frequency_damping)
    )  # fmt: skip
    reader: _Reader
    if full is not None:
        motion = pulse.base_motion(time, base)
        values = full_histories(full, reduced, scheme, time, base, motion)
        reader = _SampledReader(reduced, time, base, values)
    else:
        oscillators = _oscillators(reduced, method, coupling, scheme)
        reader = _Reader(reduced, oscillators, oscillators.run(time, base, settled=True), pulse, static_correction)
    findings += _method_words(method, full, longest, high_frequency_damping, reader)
    count = len(reduced.readings)
    lowest, highest = np.zeros(count), np.zeros(count)
    when = np.zeros((2, count))
    places = [""] * count
    for number, reading, known in _with_values(reader, reduced.readings):
        lo, hi, places[number] = _extremes(reader, number, reading.how, np.array(reading.channels), known)
        (lowest[number], when[0, number]), (highest[number], when[1, number]) = lo, hi
    down = np.abs(lowest) > np.abs(highest)
    peaks, times = np.where(down, lowest, highest), np.where(down, when[0], when[1])
    static, share = _static(reduced, pulse, peaks, reader)
    return PulseAnswer(
        reduced, name, pulse, time, base, peaks, times, lowest, highest, tuple(places), static, share,
        tuple(findings), reader,
    )  # fmt: skip


def _refuse_memory(name: str, rows: int, reduced: ReducedModel, full: bool) -> None:
    """Raise where the states (or, of a full model, the gauges) at all rows would not fit."""
    need = rows * 8.0 * (len(reduced.channels) if full else 3.0 * reduced.count)
    free = available_memory()
    if free is not None and need > 0.8 * free:
        raise EventError(
            f"{name}: {rows:,} rows take {need / 1e9:.1f} GB and {free / 1e9:.1f} GB are free; give a longer step, a "
            "shorter ring down, or keep fewer modes (upto)"
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
    findings = [Finding("note", text) for text in pulse.notes]
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
        if pulse.peak[d] > 0 and reduced.captured[d] < MASS_THRESHOLD:
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
        shown = ", ".join(f"{a} {factor * m:.4g} {unit}" for a, m in zip("xyz", values, strict=True) if abs(m) > 1e-9)
        if shown:
            said.append(f"{text}: {shown}")
    if said:
        findings.append(Finding("note", "; ".join(said).replace("it is", "it is" if len(said) > 1 else "the base is")))
    left = pulse.acceleration[-1, :3]
    if left.any():
        findings.append(Finding("warning", "the base's acceleration does not end: its velocity grows without bound"))
    return findings


def _after(reduced: ReducedModel, ring_down: float | tuple[float] | None) -> float:
    """How long the answer is followed after the pulse, in s."""
    if isinstance(ring_down, float | int):
        return float(ring_down)
    left = 0.05 if ring_down is None else ring_down[0]
    rates = reduced.damping * reduced.omega
    period = 2.0 * np.pi / reduced.omega.min()
    if ring_down is None:
        slow = rates[int(np.argmin(reduced.omega))]
        return float(min(-np.log(left) / slow if slow > 0 else np.inf, 30.0 * period))
    if rates.min() <= 0:
        raise EventError(f"ring down to {100 * left:g} %: a mode without damping never decays; give a time")
    return float(-np.log(left) / rates.min())


def _method_words(method: str, full: FullModel | None, step: float, high: float, reader: _Reader) -> list[Finding]:
    if method == "modes":
        return []
    if method == "coupled modes":
        return [
            Finding("note", "dampers couple the modes: solved together, exactly, by complex modes of the kept ones")
        ]
    what = "all motions of the model" if full is not None else "the modal equations"
    if full is not None and full.rayleigh is None:
        what += f" (described damping in the {len(full.omega)} modes kept, none above them)"
    scheme = method
    if method == "generalised alpha":
        scheme = f"the generalised-α method (a step leaves {100 * (1 - high):.0f} % of very fast motions)"
    rows = len(reader.path.time) - 1
    return [
        Finding(
            "note",
            f"direct integration of {what} by {scheme} in {rows:,} steps of {1e3 * step:.4g} ms; the error falls with "
            "the square of the step: halve it to see",
        )
    ]


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


def _with_values(reader: _Reader, readings: tuple[Derived, ...]) -> Iterator[tuple[int, Derived, Floats | None]]:
    """Every reading with the history of its channels, read for many at once; None for fields."""
    rows = len(reader.path.time)
    plain = [i for i, r in enumerate(readings) if r.how in ("single", "magnitude")]
    most = max(1, _KEPT // rows)
    while plain:
        taken: list[int] = []
        columns: dict[int, int] = {}
        while plain and (not taken or len(columns) + len(readings[plain[0]].channels) <= most):
            taken.append(plain.pop(0))
            for c in readings[taken[-1]].channels:
                columns.setdefault(c, len(columns))
        table = np.empty((rows, len(columns)))
        chosen = np.array(list(columns), dtype=int)
        step = max(1, _BLOCK // max(reader.reduced.count, len(columns)))
        for a in range(0, rows, step):
            part = np.arange(a, min(a + step, rows))
            table[part] = reader.rows(part, chosen)
        for i in taken:
            yield i, readings[i], table[:, [columns[c] for c in readings[i].channels]]
    for i, r in enumerate(readings):
        if r.how not in ("single", "magnitude"):
            yield i, r, None


def _extremes(
    reader: _Reader, number: int, how: str, columns: Ints, history: Floats | None = None
) -> tuple[tuple[float, float], tuple[float, float], str]:
    """Lowest and highest value with their times, between rows too, and the place of the larger."""
    rows = len(reader.path.time)
    if history is None and how in ("single", "magnitude"):
        history = reader.rows(np.arange(rows), columns)
    if how == "magnitude":
        assert history is not None
        values = np.linalg.norm(history, axis=1)
        hi = _refine(reader, values, columns[None], 1.0, _size)
        return (float(values.min()), float(reader.path.time[values.argmin()])), hi, ""
    if how in ("equivalent", "principal"):
        return _stress_extremes(reader, number, how, columns)
    if how != "largest":
        values = history[:, 0] if history is not None else reader.rows(np.arange(rows), columns)[:, 0]
        lo = _refine(reader, values, columns[None], -1.0, _only)
        hi = _refine(reader, values, columns[None], 1.0, _only)
        return lo, hi, reader.reduced.channels[columns[0]].place
    low, high = np.full(len(columns), np.inf), np.full(len(columns), -np.inf)
    width = max(1, _BLOCK // max(len(columns), 1))
    for a in range(0, rows, width):
        block = reader.rows(np.arange(a, min(a + width, rows)), columns)
        low, high = np.minimum(low, block.min(axis=0)), np.maximum(high, block.max(axis=0))
    best = int(np.maximum(-low, high).argmax())
    reader.governing[number] = best
    lo, hi, _ = _extremes(reader, number, "single", columns[[best]])
    places = reader.reduced.readings[number].places
    lo = min(lo, (float(low.min()), lo[1]))
    hi = max(hi, (float(high.max()), hi[1]))
    return lo, hi, places[best] if places else reader.reduced.channels[columns[best]].place


def _stress_extremes(
    reader: _Reader, number: int, how: str, columns: Ints
) -> tuple[tuple[float, float], tuple[float, float], str]:
    """Extremes of the equivalent or principal stress of a field; the governing place refined between rows."""
    reading = reader.reduced.readings[number]
    rows, width = len(reader.path.time), reading.width
    count = len(columns) // width
    form = equivalent_stress if how == "equivalent" else principal_stress
    low, high = np.full(count, np.inf), np.full(count, -np.inf)
    step = max(1, _BLOCK // max(len(columns), 1))
    for a in range(0, rows, step):
        block = form(reader.rows(np.arange(a, min(a + step, rows)), columns).reshape(-1, count, width))
        low, high = np.minimum(low, block.min(axis=0)), np.maximum(high, block.max(axis=0))
    best = int(np.maximum(np.abs(low), np.abs(high)).argmax())
    reader.governing[number] = best
    own = columns[best * width : (best + 1) * width]
    values = form(reader.rows(np.arange(rows), own))
    hi = _refine(reader, values, own[None], 1.0, form)
    lo = (float(values.min()), float(reader.path.time[values.argmin()]))
    if how == "principal":
        lo = _refine(reader, values, own[None], -1.0, form)
    return (min(lo[0], float(low.min())), lo[1]), (max(hi[0], float(high.max())), hi[1]), reading.places[best]


def _refine(
    reader: _Reader, values: Floats, columns: Ints, sign: float, form: Callable[[Floats], Floats]
) -> tuple[float, float]:
    """Largest value (times sign) of the continuous history, by ever finer looks around the largest rows."""
    time = reader.path.time
    v = sign * values
    inner = np.flatnonzero((v[1:-1] >= v[:-2]) & (v[1:-1] >= v[2:])) + 1
    candidates = np.unique(np.concatenate([inner[np.argsort(-v[inner])[:6]], [int(v.argmax())]]))
    best, when = float(v.max()), float(time[v.argmax()])
    cells = np.unique(np.concatenate([np.maximum(candidates - 1, 0), np.minimum(candidates, len(time) - 2)]))
    width = time[cells + 1] - time[cells]
    cells, width = cells[width > 0], width[width > 0]
    low, high = np.zeros(len(cells)), width.copy()
    for _ in range(7):
        share = np.linspace(0.0, 1.0, 9)
        tau = low[:, None] + (high - low)[:, None] * share
        flat = np.repeat(cells, 9)
        read = reader.between(flat, tau.ravel(), np.broadcast_to(columns, (len(flat), columns.shape[1])))
        found = sign * form(read)
        found = found.reshape(len(cells), 9)
        top = found.argmax(axis=1)
        i = int(found.max(axis=1).argmax()) if len(cells) else 0
        if len(cells) and found[i, top[i]] > best:
            best, when = float(found[i, top[i]]), float(time[cells[i]] + tau[i, top[i]])
        low, high = (
            np.take_along_axis(tau, np.maximum(top - 1, 0)[:, None], 1)[:, 0],
            np.take_along_axis(tau, np.minimum(top + 1, 8)[:, None], 1)[:, 0],
        )
    return sign * best, when


def _static(reduced: ReducedModel, pulse: BasePulse, peaks: Floats, reader: _Reader) -> tuple[Floats, Floats]:
    """Largest answer if everything were slow, and the largest correction as a share of the peak."""
    static, share = np.full(len(reduced.readings), np.nan), np.zeros(len(reduced.readings))
    rows = np.unique(pulse.acceleration, axis=0)
    if len(rows) > 20_000:
        rows = rows[:: len(rows) // 20_000 + 1]
    rows = np.vstack([rows, pulse.resting, pulse.acceleration[np.abs(pulse.acceleration).argmax(axis=0)]])
    varying = np.where(
        (pulse.acceleration == pulse.resting).all(axis=0), 0.0, np.maximum(pulse.peak, np.abs(pulse.resting))
    )
    for number, reading in enumerate(reduced.readings):
        columns = list(reading.channels)
        channel = reduced.channels[columns[0]]
        if number in reader.governing:
            place = reader.governing[number]
            columns = columns[place * reading.width : (place + 1) * reading.width]
        if channel.kind != "motion" or channel.order == 0 or (channel.order == 2 and not channel.relative):
            if not (channel.kind == "motion" and channel.order == 0 and not channel.relative):
                static[number] = float(np.abs(_FORMS[reading.how](rows @ reduced.static[:, columns])).max())
            left = abs(float(_FORMS[reading.how]((varying @ np.abs(reader.residual[:, columns]))[None])[0]))
            share[number] = left / abs(peaks[number]) if peaks[number] else 0.0
    return static, share
