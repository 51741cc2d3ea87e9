"""Signals as curves whose derivatives are known, so that a base velocity or displacement is differentiated exactly."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.arrays import Floats
from holokine.errors import EventError

if TYPE_CHECKING:
    from holokine.describe.events.signals import Chirp, PulseShape, Sine

__all__ = ["CYCLE_STEPS", "LOBE_STEPS", "Jumps", "Segment", "curve_of", "differentiated"]

Derivative = Callable[[int], Floats]
Jumps = tuple[tuple[float, float], ...]
_CANNOT_JUMP = "a displacement of the base cannot jump, it would need an infinite velocity"
LOBE_STEPS = 2000
"""Linear pieces of a half-sine, laid so that its area is kept (`_laid`)."""
CYCLE_STEPS = 2400
"""Linear pieces of a cycle, laid so that areas are kept: its part in the response is then right to about 1e-12."""
MAX_ROWS = 1_800_000


@dataclass(frozen=True)
class Segment:
    """A smooth stretch of a curve: instants in s, and values or derivatives at them by order (0, 1, 2)."""

    time: Floats
    derivative: Derivative


def _line(t0: float, t1: float, y0: float, y1: float) -> Segment:
    slope = (y1 - y0) / (t1 - t0)
    orders = {0: [y0, y1], 1: [slope, slope], 2: [0.0, 0.0]}
    return Segment(np.array([t0, t1]), lambda order: np.array(orders[order]))


def _polygon(times: list[float], values: list[float]) -> list[Segment]:
    rows = list(zip(times, values, strict=True))
    return [_line(*a[:1], *b[:1], a[1], b[1]) for a, b in pairwise(rows) if b[0] > a[0]]


def _wave(t: Floats, omega: float, phase: float = 0.0) -> Derivative:
    """sin(ω t + phase) and its derivatives."""
    return lambda order: omega**order * np.sin(omega * t + phase + order * np.pi / 2.0)


def _product(a: Derivative, b: Derivative) -> Derivative:
    """Leibniz' rule up to the second derivative."""

    def derivative(order: int) -> Floats:
        if order == 0:
            return a(0) * b(0)
        if order == 1:
            return a(1) * b(0) + a(0) * b(1)
        return a(2) * b(0) + 2.0 * a(1) * b(1) + a(0) * b(2)

    return derivative


def _polynomial(t: Floats, c0: float, c1: float) -> Derivative:
    return lambda order: [c0 + c1 * t, np.full(len(t), c1), np.zeros(len(t))][order]


def _hann(t: Floats, length: float) -> Derivative:
    """sin² (π t / length) = (1 - cos(2π t / length)) / 2."""
    wave = _wave(t, 2.0 * np.pi / length, -np.pi / 2.0)
    return lambda order: (0.5 if order == 0 else 0.0) + 0.5 * wave(order)


def _windowed(window: str, length: float, t: Floats) -> Derivative:
    if window == "hann":
        return _hann(t, length)
    if window == "half sine":
        return _wave(t, np.pi / length)
    return _polynomial(t, 1.0, 0.0)


def _sine(s: Sine) -> list[Segment]:
    omega, length = 2.0 * np.pi * s.frequency, s.cycles / s.frequency
    if s.window != "ramp":
        t = np.linspace(0.0, length, min(CYCLE_STEPS * s.cycles, MAX_ROWS) + 1)
        return [Segment(t, _product(_windowed(s.window, length, t), _wave(t, omega)))]
    rise = s.ramp / s.frequency
    result = []
    pieces = [(0.0, rise, 0.0, 1.0 / rise), (rise, length - rise, 1.0, 0.0),
              (length - rise, length, length / rise, -1.0 / rise)]  # fmt: skip
    for a, b, c0, c1 in pieces:
        if b - a > 1e-12 * length:
            t = np.linspace(a, b, max(2, round(min(CYCLE_STEPS, MAX_ROWS / s.cycles) * (b - a) * s.frequency) + 1))
            result.append(Segment(t, _product(_polynomial(t, c0, c1), _wave(t, omega))))
    return result


def _chirp(c: Chirp) -> list[Segment]:
    low, high = c.range
    cycles = c.duration * (
        (low + high) / 2.0 if c.sweep == "linear" else (high - low) / np.log(high / low)
    )  # fmt: skip
    if cycles > 5000:
        raise EventError(f"the chirp has {cycles:,.0f} cycles, more than 5,000: shorten it, or sweep less far")
    count = int(min(CYCLE_STEPS * cycles, MAX_ROWS)) + 1
    t = np.linspace(0.0, c.duration, count)
    if c.sweep == "linear":
        rate = (high - low) / c.duration
        phase = [2.0 * np.pi * (low * t + rate * t**2 / 2.0), 2.0 * np.pi * (low + rate * t),
                 np.full(count, 2.0 * np.pi * rate)]  # fmt: skip
    else:
        k = np.log(high / low) / c.duration
        grown = 2.0 * np.pi * low * np.exp(k * t)
        phase = [(grown - 2.0 * np.pi * low) / k, grown, k * grown]

    def carrier(order: int) -> Floats:
        sin, cos = np.sin(phase[0]), np.cos(phase[0])
        return [sin, phase[1] * cos, phase[2] * cos - phase[1] ** 2 * sin][order]

    return [Segment(t, _product(_windowed(c.window, c.duration, t), carrier))]


def curve_of(shape: PulseShape) -> tuple[list[Segment], bool]:
    """Segments of a shape with a peak of 1, from 0 s, and whether its last value stays; not of tables and sums."""
    p: Any = getattr(shape, shape.shape)
    kind = shape.shape
    if kind == "half_sine":
        t = np.linspace(0.0, p.duration, LOBE_STEPS + 1)
        return [Segment(t, _wave(t, np.pi / p.duration))], False
    if kind == "versed_sine":
        t = np.linspace(0.0, p.duration, CYCLE_STEPS + 1)
        return [Segment(t, _hann(t, p.duration))], False
    if kind in ("rectangle", "triangle", "terminal_peak_sawtooth", "initial_peak_sawtooth"):
        D = p.duration
        corners = {
            "rectangle": ([0.0, D], [1.0, 1.0]),
            "triangle": ([0.0, 0.5 * D, D], [0.0, 1.0, 0.0]),
            "terminal_peak_sawtooth": ([0.0, D], [0.0, 1.0]),
            "initial_peak_sawtooth": ([0.0, D], [1.0, 0.0]),
        }[kind]
        return _polygon(*corners), False
    if kind == "trapezoid":
        return _polygon([0.0, p.rise, p.duration - p.fall, p.duration], [0.0, 1.0, 1.0, 0.0]), False
    if kind == "sine":
        return _sine(p), False
    if kind == "chirp":
        return _chirp(p), False
    if kind == "ramp":
        return [_line(0.0, p.rise, 0.0, 1.0)], True
    if kind == "step":
        if p.rise == 0.0:
            return [], True
        t = np.linspace(0.0, p.rise, LOBE_STEPS + 1)
        return [Segment(t, _hann(t, 2.0 * p.rise))], True
    assert kind == "decaying_sine"
    cycles = min(np.log(1e3) / (2.0 * np.pi * p.damping), 1000.0)
    half = int(np.ceil(2.0 * cycles))
    t = np.linspace(0.0, half / 2.0, min(CYCLE_STEPS * half // 2, MAX_ROWS) + 1) / p.frequency
    pole = 2.0 * np.pi * p.frequency * complex(-p.damping, 1.0)
    return [Segment(t, lambda order: (pole**order * np.exp(pole * t)).imag)], False


def differentiated(
    segments: list[Segment], hold: bool, order: int, scale: float, where: str
) -> tuple[Floats, Floats, Jumps]:
    """Rows (time, value) of a derivative of a curve, instants twice where it jumps; and jumps of its integral.

    Parameters
    ----------
    order : int
        How often to differentiate.

    Returns
    -------
    time, value : ndarray, shape (rows,)
    jumps : tuple of (float, float)
        Instants in s at which the derivative before jumps, and by how much: where a base velocity does.

    Raises
    ------
    EventError
        Where the derivative before that one jumps: a displacement cannot.
    """
    if not segments:
        if order > 1:
            raise EventError(f"{where}: {_CANNOT_JUMP}; give the step a rise")
        if order:
            return np.zeros(2), np.zeros(2), ((0.0, scale),)
        return np.zeros(2), np.array([0.0, scale]), ()
    size = max(float(np.abs(s.derivative(0)).max()) for s in segments)
    jumps: list[tuple[float, float]] = []
    span = segments[-1].time[-1] - segments[0].time[0]
    for low in range(order):
        ends = [(segments[0].time[0], 0.0, segments[0].derivative(low)[0])]
        ends += [(a.time[-1], a.derivative(low)[-1], b.derivative(low)[0]) for a, b in pairwise(segments)]
        last = segments[-1].derivative(low)[-1]
        ends.append((segments[-1].time[-1], last, last if hold and low == 0 else 0.0))
        most = max([size / span**low, *(float(np.abs(s.derivative(low)).max()) for s in segments)])
        found = [(float(t), scale * float(b - a)) for t, a, b in ends if abs(b - a) > 1e-9 * most]
        if found and low < order - 1:
            raise EventError(f"{where}: {_CANNOT_JUMP}; take a smoother shape, or one of the velocity")
        jumps += found
    time = np.concatenate([s.time for s in segments])
    return time, scale * np.concatenate([_laid(s.derivative(order)) for s in segments]), tuple(jumps)


def _laid(value: Floats) -> Floats:
    """Rows of straight pieces that keep the area under a smooth curve, given on even steps.

    Chords cut off h³ f''/12 of a piece: with rows at f - h² f''/12 what is left is of fourth order. The ends stay.
    """
    rows = value.copy()
    rows[1:-1] -= (value[:-2] - 2.0 * value[1:-1] + value[2:]) / 12.0
    return rows
