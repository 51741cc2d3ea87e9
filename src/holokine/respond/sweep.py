"""Steady vibration over a range of frequencies: readings, their peaks, and what a magnitude reaches over the cycle.

All frequencies at once, on the reduced model, by one diagonalisation of the coupled modes (`modes.damped`). The largest
of several components over a cycle is the major half-axis of their ellipse: with complex amplitudes p and the quadratic
form Q of the reading, max over θ of |Re p e^(iθ)|² = (p* Q p + |pᵀ Q p|) / 2.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from numpy.typing import NDArray

from holokine.errors import EventError, first_few
from holokine.findings import Finding
from holokine.respond.curves import Extreme, Sampled, half_power, ranges, refined
from holokine.respond.meaning import PEAK, SHOWN, Meaning
from holokine.respond.reduced import ReducedModel, reading_noise
from holokine.respond.steady import SteadyModel, SteadyMotion, SteadyReadout
from holokine.respond.sweep_places import NUMBERS, governing_place, largest_together, over_cycle

if TYPE_CHECKING:
    from holokine.arrays import Complex, Floats, Ints
    from holokine.excite.harmonic import Excitation
    from holokine.gauges.readings import Reading
    from holokine.system.loads import LoadField

__all__ = [
    "FullCheck",
    "SweepReader",
    "SweepResult",
    "octave_rate",
    "over_cycle",
    "reached",
    "respond_sweep",
    "with_full",
]

NEARLY = 0.95  # of a peak, which a real sweep is to reach
OFF = 0.02  # of a peak, by which the whole model may differ before that is a warning
NEARLY_RATE = 0.82860063547  # bandwidths² per second, at which `reached` is NEARLY (a test finds the root)


class SweepReader:
    """Reads steady vibration at any frequency.

    Attributes
    ----------
    model : SteadyModel
    excitation : Excitation
    readout : SteadyReadout
    """

    def __init__(self, model: SteadyModel, excitation: Excitation, correct: bool = True) -> None:
        self.model, self.excitation, self.correct = model, excitation, correct
        self.readout = SteadyReadout(model, correct)

    @property
    def reduced(self) -> ReducedModel:
        """With static shapes beside the modes."""
        return self.model.reduced

    def motion(self, frequencies: Floats, load: Complex | None = None) -> SteadyMotion:
        """Complex amplitudes at frequencies in Hz, under what swings or under loads of their own, (rows, loads)."""
        f = np.asarray(frequencies, dtype=float)
        loads = self.reduced.loads
        load = self.excitation.at(f, loads) if load is None else self.excitation.with_felt(f, load, loads)
        omega = 2.0 * np.pi * f
        q = self.model.vibration.solve(omega, -self.reduced.participation, load)
        return SteadyMotion(q, load, omega, self.reduced)

    def rows(self, motion: SteadyMotion, columns: Any) -> Complex:
        """Complex amplitudes of channels, shape (rows, columns)."""
        return self.readout.read(motion, columns)


@dataclass(frozen=True)
class FullCheck:
    """The whole model solved at some frequencies, against the modes.

    Attributes
    ----------
    frequency_hz : ndarray, shape (frequencies,)
    full, modal : ndarray, shape (frequencies, readings)
        Largest over the cycle of each reading, SI; NaN where the full model does not tell it.
    """

    frequency_hz: Floats
    full: Floats
    modal: Floats


@dataclass(frozen=True)
class SweepResult:
    """Answer to a sweep.

    Attributes
    ----------
    reduced : ReducedModel
    name : str
    frequency_hz : ndarray, shape (points,)
    starts : ndarray of int
        First point of each range.
    reader : SweepReader
    motion : SteadyMotion
        On the sweep's frequencies.
    swing : ndarray, shape (readings,)
        Largest size over the sweep (and over the cycle), SI, of the continuous curve.
    together : ndarray, shape (readings,)
        With loads at rest beside: the largest of both together.
    peak_frequencies, phases : ndarray, shape (readings,)
        Hz; rad, NaN where several components make the reading.
    main : tuple of Extreme
        The highest peak of each reading with its half-power points.
    places : tuple of str
    governing : ndarray of int, shape (readings,)
        Place of fields that governs.
    static : ndarray, shape (readings,)
        Size of the static answer to what swings at that frequency.
    correction_share : ndarray, shape (readings,)
    steady : ndarray, shape (readings,), or None
        Reading under the loads at rest, SI, with sign; of fields at the governing place.
    sampled_error : float
        Largest share by which a point of the sweep misses the peak next to it.
    full : FullCheck or None
    acting : tuple of LoadField
    findings : tuple of Finding
    amplitudes : str
        peak, rms or peak to peak: how tables show sizes.
    """

    reduced: ReducedModel
    name: str
    frequency_hz: Floats
    starts: Ints
    reader: SweepReader
    motion: SteadyMotion
    together: Floats
    swing: Floats
    peak_frequencies: Floats
    phases: Floats
    main: tuple[Extreme, ...]
    places: tuple[str, ...]
    governing: Ints
    static: Floats
    correction_share: Floats
    steady: Floats | None
    sampled_error: float
    full: FullCheck | None
    acting: tuple[LoadField, ...]
    findings: tuple[Finding, ...]
    amplitudes: str = "peak"
    steady_channels: Floats | None = None
    model_findings: tuple[Finding, ...] = ()
    """Those of the modes and their damping alone."""

    @property
    def peaks(self) -> Floats:
        """What limits are held against: the largest of vibration and loads at rest together, however it is shown."""
        return self.together

    @property
    def meaning(self) -> Meaning:
        """Of `peaks`."""
        return PEAK

    @property
    def shown(self) -> Meaning:
        """How tables and figures show sizes of the vibration."""
        return SHOWN[self.amplitudes]

    def sizes(self, reading: Reading) -> Floats:
        """Largest of a reading over the cycle and the points, at each of its places, shape (places,)."""
        return governing_place(self.reader, self.motion, reading)[1]

    @cached_property
    def noise(self) -> Floats:
        """What is rounding only in each reading, shape (readings,)."""
        return reading_noise(self.reduced.readings, self.swing)

    def covers(self, places: Floats) -> NDArray[np.bool_]:
        """Whether frequencies in Hz lie within a range of the sweep."""
        return covered(self.frequency_hz, self.starts, places)

    def columns(self, reading: int) -> Ints:
        """Channels of a reading; of a field those of the place that governs."""
        derived = self.reduced.readings[reading]
        return np.array(derived.at(int(self.governing[reading])))

    def values(self, reading: int) -> Complex:
        """Complex amplitudes of a reading's components over the sweep, shape (points, width)."""
        return self.reader.rows(self.motion, self.columns(reading))

    def curve(self, reading: int) -> Floats:
        """Largest size over the cycle at every point of the sweep, shape (points,), SI."""
        return over_cycle(self.reduced.readings[reading], self.values(reading))

    def phase(self, reading: int) -> Floats | None:
        """Phase in rad at every point, unwrapped; None where several components make the reading."""
        if self.reduced.readings[reading].width > 1:
            return None
        return np.asarray(np.unwrap(np.angle(self.values(reading)[:, 0])))

    def extremes(self, reading: int) -> tuple[list[Extreme], list[Extreme]]:
        """All peaks of a reading (highest first) and its anti-resonances (by frequency)."""
        if reading not in self._extremes:
            sampled = Sampled(self.frequency_hz, self._sizes([reading]), self.starts)
            size = self.curve(reading) ** 2
            self._extremes[reading] = _extremes(sampled, size)
        return self._extremes[reading]

    @cached_property
    def _extremes(self) -> dict[int, tuple[list[Extreme], list[Extreme]]]:
        return {}

    def _sizes(self, readings: list[int]) -> Any:
        return _curve_sizes(self.reader, [(self.reduced.readings[n], self.columns(n)) for n in readings])

    def shares(self, reading: int, frequency: float | None = None) -> Floats:
        """Share of every mode in a reading at a frequency in Hz (its peak), shape (modes + 1,); they sum to 1.

        Of each component the part of a mode that lies in the direction of the whole in the complex plane, weighted by
        the component's own size; last what left-out modes, and the base itself, have.
        """
        f = self.peak_frequencies[reading] if frequency is None else frequency
        motion = self.reader.motion(np.array([f]))
        columns = self.columns(reading)
        whole = self.reader.rows(motion, columns)[0]
        readout, r = self.reader.readout, self.reduced
        each = np.zeros((r.count, len(columns)), dtype=complex)
        for c, column in enumerate(columns):
            each[:, c] = motion.coordinate(int(readout.which[column]))[0] * r.modal[:, column]
            if readout.which[column] == 3:  # of balance the load's own part is no mode's doing
                each[:, c] = motion.q[0] * r.modal[:, column]
            each[:, c] += readout.beside(motion, int(column))
        size = float(np.real(np.vdot(whole, whole))) or 1.0
        found = np.real(each @ np.conj(whole)) / size
        modes = found[: self.reader.model.modes]
        return np.append(modes, 1.0 - modes.sum())


def _curve_sizes(reader: SweepReader, curves: list[tuple[Reading, Ints]]) -> Any:
    """Squared sizes of curves at frequencies of their own, (frequencies, which)."""
    widths = np.array([r.width for r, _ in curves])

    def at(frequencies: Floats, which: Ints) -> Floats:
        which = np.broadcast_to(which, frequencies.shape)
        result = np.zeros(len(frequencies))
        step = max(1, NUMBERS // (6 * reader.reduced.count + 1))
        for a in range(0, len(frequencies), step):
            rows = slice(a, a + step)
            motion = reader.motion(frequencies[rows])
            own = which[rows]
            for width in np.unique(widths[own]):
                use = np.flatnonzero(widths[own] == width)
                part = SteadyMotion(motion.q[use], motion.load[use], motion.omega[use], reader.reduced)
                columns = np.array([curves[k][1] for k in own[use]])
                values = reader.readout.read_each(part, columns)
                hows = np.array([curves[k][0].how for k in own[use]])
                for how in np.unique(hows):
                    chosen = hows == how
                    example = curves[own[use][np.flatnonzero(chosen)[0]]][0]
                    result[a + use[chosen]] = over_cycle(example, values[chosen]) ** 2
        return result

    return at


def _extremes(sampled: Sampled, size: Floats) -> tuple[list[Extreme], list[Extreme]]:
    tops, bottoms = sampled.turns(size, 1.0), sampled.turns(size, -1.0)
    none = np.zeros(len(tops), dtype=np.int64)
    place, top = refined(sampled, tops, none, 1.0)
    low, high = half_power(sampled, size[:, None], place, top, tops, none)
    edge = sampled.edges()
    peaks = [
        Extreme(float(p), float(np.sqrt(t)), float(a), float(b), not bool(edge[k]))
        for p, t, a, b, k in zip(place, top, low, high, tops, strict=True)
    ]
    peaks.sort(key=lambda e: -e.size)
    f, least = refined(sampled, bottoms, np.zeros(len(bottoms), dtype=np.int64), -1.0)
    return peaks, [Extreme(float(p), float(np.sqrt(max(s, 0.0)))) for p, s in zip(f, least, strict=True)]


def respond_sweep(
    reader: SweepReader,
    frequencies: Floats,
    starts: Ints,
    *,
    name: str,
    acting: tuple[LoadField, ...] = (),
    steady: Floats | None = None,
    amplitudes: str = "peak",
    octaves_per_minute: float | None = None,
) -> SweepResult:
    """Peaks of all readings over a sweep.

    Parameters
    ----------
    frequencies : ndarray, shape (points,)
        Hz, rising within each range.
    starts : ndarray of int
        First point of each range.
    steady : ndarray, shape (channels,), optional
        All channels under loads at rest.

    Raises
    ------
    EventError
        A mode without damping that the sweep excites: its answer is infinite.
    """
    refuse_undamped(reader, frequencies, starts)
    reduced = reader.reduced
    motion = reader.motion(frequencies)
    count = len(reduced.readings)
    governing = np.zeros(count, dtype=np.int64)
    rough = np.zeros(count, dtype=np.int64)
    sizes = np.zeros((len(frequencies), count))
    most: dict[int, Floats] = {}
    for number, reading in enumerate(reduced.readings):
        if reading.count > 1:
            governing[number], most[number] = governing_place(reader, motion, reading)
    curves = [(r, np.array(r.at(int(governing[n])))) for n, r in enumerate(reduced.readings)]
    for block in _blocks(curves, len(frequencies)):  # read together
        values = reader.rows(motion, np.concatenate([curves[n][1] for n in block]))
        at = 0
        for n in block:
            reading, columns = curves[n]
            sizes[:, n] = over_cycle(reading, values[:, at : at + len(columns)]) ** 2
            rough[n] = sizes[:, n].argmax()
            at += len(columns)
    sampled = Sampled(frequencies, _curve_sizes(reader, curves), starts)
    which = np.arange(count)
    place, top = refined(sampled, rough, which, 1.0) if count else (np.zeros(0), np.zeros(0))
    at_points = sizes[rough, which]
    better = top >= at_points
    place, top = np.where(better, place, frequencies[rough]), np.maximum(top, at_points)
    low, high = half_power(sampled, sizes, place, top, rough, which)
    edge = sampled.edges()[rough]
    main = tuple(
        Extreme(float(p), float(np.sqrt(t)), float(a), float(b), not bool(e))
        for p, t, a, b, e in zip(place, top, low, high, edge, strict=True)
    )
    swing = np.sqrt(top)
    noise = reading_noise(reduced.readings, swing)
    loud = swing > noise
    with np.errstate(divide="ignore", invalid="ignore"):
        missed = np.where(loud & ~edge, 1.0 - np.sqrt(at_points) / np.where(swing > 0, swing, 1.0), 0.0)
    phases, static, share = _beside(reader, curves, place, swing)
    own = None if steady is None else np.array([float(r.form.value(steady[c])) for r, c in curves])
    together = swing
    if steady is not None:
        bounds = [most.get(n, np.sqrt(sizes[:, n].max(initial=0.0, keepdims=True))) for n in range(count)]
        together = np.array([
            largest_together(reader, motion, r, steady, bounds[n], (float(place[n]), float(swing[n])))
            for n, r in enumerate(reduced.readings)
        ])  # fmt: skip
    findings = _findings(reader, main, loud, octaves_per_minute)
    return SweepResult(
        reduced, name, frequencies, starts, reader, motion, together, swing, place, phases, main,
        tuple(r.place(int(g)) for r, g in zip(reduced.readings, governing, strict=True)), governing, static, share, own,
        float(missed.max(initial=0.0)), None, acting, tuple(findings), amplitudes, steady,
    )  # fmt: skip


def _blocks(curves: list[tuple[Reading, Ints]], rows: int) -> Iterator[list[int]]:
    """Numbers of readings, so many at a time that their values stay within bounds."""
    most = max(1, NUMBERS // max(rows, 1))
    block: list[int] = []
    width = 0
    for n, (_, columns) in enumerate(curves):
        if block and width + len(columns) > most:
            yield block
            block, width = [], 0
        block.append(n)
        width += len(columns)
    if block:
        yield block


def _beside(
    reader: SweepReader, curves: list[tuple[Reading, Ints]], place: Floats, swing: Floats
) -> tuple[Floats, Floats, Floats]:
    """Phase, static answer and share of the static correction of every reading at its peak."""
    phases, static, share = np.full((3, len(curves)), np.nan)
    if not curves:
        return phases, static, share
    motion = reader.motion(place)
    for n, (reading, columns) in enumerate(curves):
        row = SteadyMotion(motion.q[[n]], motion.load[[n]], motion.omega[[n]], reader.reduced)
        value = reader.rows(row, columns)[0]
        if reading.width == 1:
            phases[n] = np.angle(value[0])
        still = reader.readout.static(columns)
        if still is not None:
            slow = row.load[0] @ still
            if reader.readout.settled is not None:
                slow = slow + row.base_displacement[0] @ reader.readout.settled[:, columns]
            static[n] = float(over_cycle(reading, slow))
        if reader.readout.has_correction(columns) and swing[n] > 0:
            left = row.load[0] @ reader.readout.residual[:, columns]
            share[n] = float(over_cycle(reading, left)) / swing[n]
    return phases, static, share


def covered(frequencies: Floats, starts: Ints, places: Floats) -> NDArray[np.bool_]:
    """Whether frequencies lie within a range of a sweep."""
    inside = np.zeros(len(places), dtype=bool)
    for own in ranges(starts, len(frequencies)):
        inside |= (places >= frequencies[own][0]) & (places <= frequencies[own][-1])
    return inside


def refuse_undamped(reader: SweepReader, frequencies: Floats, starts: Ints) -> None:
    """Raise where a mode without damping lies in the sweep and what swings drives it."""
    poles = reader.model.vibration.poles
    f = poles.imag / (2.0 * np.pi)
    still = np.flatnonzero(covered(frequencies, starts, f) & (-poles.real < 1e-9 * np.abs(poles)))
    if not len(still):
        return
    shape = reader.model.vibration.pole_shapes()[:, still]
    force = reader.excitation.at(f[still], reader.reduced.loads) @ reader.reduced.participation.T
    driven = np.abs(np.einsum("nk,kn->k", shape, force)) > 1e-9 * np.maximum(
        np.linalg.norm(shape, axis=0) * np.linalg.norm(force, axis=1), 1e-300
    )
    if driven.any():
        shown = first_few([f"{x:.4g} Hz" for x in np.sort(f[still][driven])], 6)
        raise EventError(
            f"the sweep passes {int(driven.sum())} {'modes' if driven.sum() > 1 else 'mode'} without damping, whose "
            f"answer is infinite: {shown}. Give a damping (damping:, loss factors, dampers), or another range"
        )


def reached(rate: float) -> float:
    """Share of a resonance's steady peak that a sweep through it reaches.

    Parameters
    ----------
    rate : float
        Speed of the sweep in Hz/s over the square of the half-power bandwidth in Hz.

    The envelope of an oscillator obeys c' = -c + exp(i s τ²/2) in its time constants τ, with s = 2 rate / π. Its
    solution is a complementary error function of complex argument, of which the largest size over τ is taken.
    """
    from scipy.special import wofz

    s = 2.0 * rate / np.pi
    if s < 1e-4:
        return 1.0
    root = np.sqrt(s / 2.0) * np.exp(-0.25j * np.pi)
    tau = np.linspace(0.0, 12.0 / np.sqrt(s) + 2.0, 8001)
    return float(np.abs(np.sqrt(np.pi) / (2.0 * root) * wofz(1j * (1.0 + 1j * s * tau) / (2.0 * root))).max())


def octave_rate(rate: float, frequency: float, bandwidth: float) -> float:
    """Octaves per minute of a logarithmic sweep that passes a resonance at `rate` bandwidths² per second."""
    return 60.0 * rate * bandwidth**2 / (frequency * np.log(2.0))


def _findings(
    reader: SweepReader, main: tuple[Extreme, ...], loud: NDArray[np.bool_], given: float | None
) -> list[Finding]:
    found = []
    labels = [r.label for r in reader.reduced.readings]
    ends = [n for n, e in enumerate(main) if loud[n] and not e.inside]
    if ends:
        names = first_few([labels[n] for n in ends], 6)
        found.append(Finding(
            "note", f"largest at an end of the sweep, not at a peak within it: {names}. Outside it may be larger",
        ))  # fmt: skip
    narrow = [(octave_rate(NEARLY_RATE, e.frequency, e.bandwidth), n) for n, e in enumerate(main)
              if loud[n] and e.bandwidth > 0]  # fmt: skip
    if not narrow:
        return found
    least, n = min(narrow)
    text = (
        f"steady answers: a real sweep reaches {100 * NEARLY:.0f} % of every peak when it runs at no more than "
        f"{least:.2g} octaves per minute (narrowest: {labels[n]} at {main[n].frequency:.4g} Hz, bandwidth "
        f"{main[n].bandwidth:.3g} Hz)"
    )
    if given is None:
        return [*found, Finding("note", text)]
    speed = given * main[n].frequency * np.log(2.0) / 60.0 / main[n].bandwidth ** 2
    share = reached(speed)
    level: Literal["note", "warning"] = "warning" if share < NEARLY else "note"
    return [*found, Finding(level, f"{text}; at {given:g} octaves per minute it reaches {100 * share:.0f} % there")]


def with_full(result: SweepResult, frequencies: Floats, channels: Complex) -> SweepResult:
    """The answer with the whole model beside it, from all channels at some frequencies, (rows, channels)."""
    modal = result.reader.motion(frequencies)
    readings = result.reduced.readings
    full, own = np.full((2, len(frequencies), len(readings)), np.nan)
    for n, reading in enumerate(readings):
        columns = result.columns(n)
        full[:, n] = over_cycle(reading, channels[:, columns])
        own[:, n] = over_cycle(reading, result.reader.rows(modal, columns))
    check = FullCheck(frequencies, full, own)
    off = np.abs(full - own) / np.where(result.swing > 0, result.swing, 1.0)
    off = np.where(result.swing > result.noise, off, 0.0)
    finding: list[Finding] = []
    if np.isfinite(off).any():
        row, n = divmod(int(np.nanargmax(off)), off.shape[1])
        level: Literal["note", "warning"] = "warning" if off[row, n] > OFF else "note"
        places = "one frequency" if len(frequencies) == 1 else f"{len(frequencies)} frequencies"
        finding.append(Finding(
            level, f"the whole model, solved at {places}, differs from its modes by up to "
            f"{100 * off[row, n]:.2g} % of a reading's peak ({readings[n].label} at {frequencies[row]:.4g} Hz)"
            + ("; keep more modes" if level == "warning" else ""),
        ))  # fmt: skip
    return replace(result, full=check, findings=(*result.findings, *finding))
