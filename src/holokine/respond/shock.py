"""Shock response spectra of records: what oscillators of many frequencies feel on a base that moves as recorded.

Ramp-invariant recurrences: exact for a base acceleration that is linear between samples (Smallwood, Shock and
Vibration Bulletin 51 (1981) part 1, 279-287; ISO 18431-4:2007). Before and after the record the base is at rest; the
residual spectrum is the largest of the free vibration after the last sample, in closed form.
"""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from numpy.typing import NDArray

from holokine.errors import EventError
from holokine.findings import Finding
from holokine.respond.oscillators import phi_functions

if TYPE_CHECKING:
    from holokine.arrays import Floats

__all__ = [
    "QUANTITIES", "SIDES", "ShockSpectrum", "broadened_values", "fine_enough", "lost_between", "octave_frequencies",
    "shock_spectrum",
]  # fmt: skip

MOST_FREQUENCIES = 20_000
Quantity = Literal["absolute acceleration", "pseudo-acceleration", "pseudo-velocity", "relative displacement"]
Side = Literal["maximax", "positive", "negative", "primary", "residual"]
QUANTITIES: tuple[Quantity, ...] = (
    "absolute acceleration", "pseudo-acceleration", "pseudo-velocity", "relative displacement",
)  # fmt: skip
SIDES: tuple[Side, ...] = ("maximax", "positive", "negative", "primary", "residual")
SAMPLES_PER_PERIOD = 10.0
_SLOW = 2.5e-4  # radians per sample below which a filter of second order has lost more than eight digits
_CHUNK = 4096
_LOOKS = 8  # of every cell that may hold the largest value
_CELLS = 24  # and how many are followed to the top
_MISSED = 0.33  # off the peak by this share of the damping ratio, 5 % of it is missed
_MOST = 4000  # samples beside which it is looked for


@dataclass(frozen=True)
class ShockSpectrum:
    """Shock spectra of one record.

    Attributes
    ----------
    frequency_hz : ndarray, shape (frequencies,)
    damping : ndarray, shape (levels,)
        Damping ratios.
    positive, negative : ndarray, shape (levels, frequencies)
        Largest and (size of the) lowest value while the record lasts and after it.
    primary, residual : ndarray, shape (levels, frequencies)
        Largest size while the record lasts, and after it.
    quantity : str
        One of `QUANTITIES`; SI.
    findings : tuple of Finding
    """

    frequency_hz: Floats
    damping: Floats
    positive: Floats
    negative: Floats
    primary: Floats
    residual: Floats
    quantity: Quantity
    findings: tuple[Finding, ...]

    @property
    def maximax(self) -> Floats:
        """Largest size at any time, shape (levels, frequencies)."""
        return np.maximum(self.positive, self.negative)

    def side(self, name: Side) -> Floats:
        """One of maximax, positive, negative, primary, residual."""
        return np.asarray(getattr(self, name))


def octave_frequencies(low: float, high: float, per_octave: int = 12) -> Floats:
    """Frequencies in Hz from `low` to `high`, evenly on a logarithmic axis, both ends included.

    Raises
    ------
    EventError
        Bounds that do not rise, or no frequency per octave.
    """
    if not 0 < low < high or per_octave < 1:
        raise EventError(f"frequencies must rise from above 0, got {low:g} to {high:g} Hz, {per_octave} per octave")
    octaves = np.log2(high) - np.log2(low)
    if not octaves * per_octave < MOST_FREQUENCIES:
        raise EventError(
            f"{octaves:.4g} octaves at {per_octave:,} frequencies each are more than {MOST_FREQUENCIES:,} in all; take "
            "fewer, or a narrower range"
        )
    count = int(np.ceil(octaves * per_octave - 1e-9)) + 1
    return np.geomspace(low, high, count)


def fine_enough(damping: float) -> int:
    """Frequencies per octave at which a peak between two of them is at most 5 % high, 12 to 120.

    Half-way between neighbours d apart (in octaves) an oscillator of damping ζ on a steady motion of its own frequency
    reads 1/√(1 + (δ/ζ)²) of its peak, with δ = 2^(d/2) - 1.
    """
    if damping <= 0:
        return 120
    return int(np.clip(np.ceil(0.5 / np.log2(1.0 + _MISSED * damping)), 12, 120))


def lost_between(frequencies: Floats, damping: float, duration: float) -> float:
    """Largest share of a narrow peak that may fall between two frequencies of a rising list.

    A record of finite length has no peak narrower than about 0.4 over its duration.
    """
    if len(frequencies) < 2:
        return 0.0
    middle = np.sqrt(frequencies[1:] * frequencies[:-1])
    width = np.maximum(damping, 0.4 / (duration * middle))
    offset = np.sqrt(frequencies[1:] / frequencies[:-1]) - 1.0
    return float((1.0 - 1.0 / np.sqrt(1.0 + (offset / width) ** 2)).max())


def shock_spectrum(
    time: Floats,
    acceleration: Floats,
    frequencies: Floats,
    damping: Floats | list[float],
    *,
    quantity: Quantity = "absolute acceleration",
    remove_offset: bool = False,
) -> ShockSpectrum:
    """Shock spectra of a base acceleration.

    Parameters
    ----------
    time, acceleration : ndarray, shape (samples,)
        s and m/s²; even steps (to 1 part in 1000 of a step; uneven records are put on the shortest step, linear
        between samples, which the filter takes exactly).
    frequencies : ndarray
        Hz, greater than 0.
    damping : list of float
        Ratios from 0 to below 1.
    remove_offset : bool
        Take the mean off first.

    Raises
    ------
    EventError
        Fewer than two samples, times that do not rise, numbers that are not finite, bad frequencies or damping, or
        steps that would need more than twenty million samples.
    """
    t, a = np.asarray(time, dtype=float), np.asarray(acceleration, dtype=float)
    f, zeta = np.asarray(frequencies, dtype=float), np.asarray(damping, dtype=float)
    if t.ndim != 1 or a.ndim != 1 or len(t) != len(a):
        raise EventError(f"a record has as many times as accelerations, got {t.size} and {a.size}")
    if len(t) < 2:
        raise EventError(f"a record needs two samples at least, got {len(t)}")
    if not (np.isfinite(t).all() and np.isfinite(a).all()):
        row = int(np.flatnonzero(~(np.isfinite(t) & np.isfinite(a)))[0])
        raise EventError(f"the record holds a value that is not a finite number in sample {row + 1}")
    back = np.flatnonzero(np.diff(t) <= 0)
    if len(back):
        i = int(back[0])
        raise EventError(f"the time does not rise from sample {i + 1} ({t[i]:g} s) to {i + 2} ({t[i + 1]:g} s)")
    if len(f) == 0 or not (f > 0).all():
        raise EventError("frequencies must be greater than 0 Hz")
    if len(zeta) == 0 or not ((zeta >= 0) & (zeta < 1)).all():
        raise EventError("damping ratios lie from 0 to below 1")
    findings: list[Finding] = []
    steps = np.diff(t)
    if np.ptp(steps) > 1e-3 * steps.min():
        samples = (t[-1] - t[0]) / steps.min()
        if not samples <= 20_000_000:
            raise EventError(f"the steps are too uneven: {samples:,.4g} samples would be needed; resample the record")
        count = int(np.ceil(samples))
        even = np.linspace(t[0], t[-1], count + 1)
        a = np.interp(even, t, a)
        t = even
        findings.append(Finding("note", f"uneven steps: put on {count:,} even ones, linear between samples"))
    step = float((t[-1] - t[0]) / (len(t) - 1))
    if remove_offset:
        findings.append(Finding("note", f"an offset of {a.mean():.4g} m/s² was taken off"))
        a = a - a.mean()
    findings += _record_findings(a, step, f)
    jobs = [(i, j) for i in range(len(zeta)) for j in range(len(f))]
    shape = (len(zeta), len(f))
    high, low, after_high, after_low = (np.empty(shape) for _ in range(4))

    def one(job: tuple[int, int]) -> None:
        i, j = job
        values = _extremes(a, step, 2.0 * np.pi * float(f[j]), float(zeta[i]), quantity)
        high[i, j], low[i, j], after_high[i, j], after_low[i, j] = values

    with ThreadPoolExecutor(os.cpu_count() or 1) as pool:
        list(pool.map(one, jobs))
    return ShockSpectrum(
        f, zeta, np.maximum(np.maximum(high, after_high), 0.0), np.maximum(np.maximum(-low, -after_low), 0.0),
        np.maximum(high, -low), np.maximum(after_high, -after_low), quantity, tuple(findings),
    )  # fmt: skip


def _extremes(
    a: Floats, step: float, omega: float, zeta: float, quantity: Quantity
) -> tuple[float, float, float, float]:
    """Highest and lowest value during the record, and after it.

    With y = q' - s̄ q and y' = s y - a every quantity is g = u Im y + v Re y. Where the frequency is not far below the
    sample rate g comes from a real filter of second order, which is fast; below, where that loses its digits, from the
    complex one of first order. The state next to the extremes follows from two neighbouring values.
    """
    from scipy.signal import lfilter

    damped = omega * np.sqrt(1.0 - zeta**2)
    pole = complex(-zeta * omega, damped)
    grown, phi1, phi2 = (complex(x[0]) for x in phi_functions(np.array([pole * step])))
    first, second = -step * (phi1 - phi2), -step * phi2
    if quantity == "absolute acceleration":
        u, v = (2.0 * zeta**2 - 1.0) * omega**2 / damped, -2.0 * zeta * omega
    else:
        u = {"relative displacement": 1.0, "pseudo-velocity": omega, "pseudo-acceleration": omega**2}[quantity] / damped
        v = 0.0

    def read(c: Any) -> Any:
        return u * np.imag(c) + v * np.real(c)

    back = grown.conjugate()
    if omega * step < _SLOW:
        drive = first * a[:-1] + second * a[1:]
        y = np.concatenate([[0.0], lfilter(np.array([1.0 + 0j]), np.array([1.0, -grown]), drive)])
        g = read(y)

        def state(i: Any) -> Any:
            return y[i]
    else:
        b = np.array([read(second), read(first - second * back), -read(first * back)])
        # at rest at the first sample, whatever the base does there
        begin = np.array([-b[0] * a[0], (read(first) - b[1]) * a[0]])
        g = lfilter(b, np.array([1.0, -2.0 * grown.real, abs(grown) ** 2]), a, zi=begin)[0]
        # g = u Im y + v Re y here, and a step later g' = u Im(e y) + v Re(e y) + drive
        matrix = np.array([[v, u], [v * grown.real + u * grown.imag, u * grown.real - v * grown.imag]])
        inverse = np.linalg.inv(matrix)

        def state(i: Any) -> Any:
            j = np.minimum(i, len(a) - 2)
            later = g[j + 1] - read(first * a[j] + second * a[j + 1])
            y = inverse[0, 0] * g[j] + inverse[0, 1] * later + 1j * (inverse[1, 0] * g[j] + inverse[1, 1] * later)
            return np.where(i == j, y, grown * y + first * a[j] + second * a[j + 1])

    def within(start: Any, a0: Any, rise: Any, tau: Any, functions: Any) -> tuple[Any, Any]:
        """State and base acceleration at tau after a sample, exactly."""
        E, phi1, phi2 = functions
        now = a0 + rise * tau
        return E * start - tau * ((phi1 - phi2) * a0 + phi2 * now), now

    result = []
    whole = g[: len(g) // _CHUNK * _CHUNK].reshape(-1, _CHUNK)
    inside = step * np.arange(1, _LOOKS) / _LOOKS
    looks = phi_functions(pole * inside)
    turn = omega * step
    unit = 1.0 if quantity == "absolute acceleration" else abs(u) * damped / omega**2
    size = max(float(g.max()), -float(g.min())) + unit * max(float(a.max()), -float(a.min()))
    reach = min(turn**2 / 7.0 + zeta * turn, 2.0) * size
    for sign in (1.0, -1.0):
        each = whole.max(axis=1) if sign > 0 else -whole.min(axis=1)
        rest = sign * g[whole.size :]
        best = max(float(each.max(initial=-np.inf)), float(rest.max(initial=-np.inf)))
        cells = _cells(g, sign, best, each, reach)
        if len(cells):
            start, a0, rise = state(cells), a[cells], (a[cells + 1] - a[cells]) / step
            moved, _ = within(start[:, None], a0[:, None], rise[:, None], inside, looks)
            seen = sign * read(moved)
            best = max(best, float(seen.max()))
            most = seen.max(axis=1)
            few = np.argsort(-most, kind="stable")[:_CELLS]
            few = few[most[few] >= best - 0.5 * (turn / _LOOKS) ** 2 * abs(best)]
            tau = inside[seen[few].argmax(axis=1)]
            low, high = np.maximum(tau - step / _LOOKS, 0.0), np.minimum(tau + step / _LOOKS, step)
            for _ in range(3):  # where the slope is zero: Newton's steps from the best look
                moved, now = within(start[few], a0[few], rise[few], tau, phi_functions(pole * tau))
                best = max(best, float((sign * read(moved)).max(initial=-np.inf)))
                rate = pole * moved - now
                slope, bend = read(rate), read(pole * rate - rise[few])
                tau = np.clip(tau - slope / np.where(bend != 0.0, bend, np.inf), low, high)
            moved, _ = within(start[few], a0[few], rise[few], tau, phi_functions(pole * tau))
            best = max(best, float((sign * read(moved)).max(initial=-np.inf)))
        result.append(sign * best)
    end = state(np.array([len(a) - 1]))[0]
    after_high, after_low = _free(float(read(end)), float(read(pole * end)), omega, zeta)
    return result[0], result[1], after_high, after_low


def _cells(g: Floats, sign: float, best: float, each: Floats, reach: float) -> NDArray[np.int64]:
    """Cells between samples in which sign · g may be highest: those beside samples next to the largest.

    Within a cell g rises above its samples by no more than `reach`, of order (ωh)²/8 of its size. `each`: largest
    of every chunk, so that only those which can hold one are looked at.
    """
    edge = best - reach
    found = [np.flatnonzero(sign * g[k * _CHUNK : (k + 1) * _CHUNK] >= edge) + k * _CHUNK
             for k in np.flatnonzero(each >= edge)]  # fmt: skip
    found.append(np.flatnonzero(sign * g[len(each) * _CHUNK :] >= edge) + len(each) * _CHUNK)
    near = np.concatenate(found)
    if len(near) > _MOST:
        near = near[np.argpartition(-sign * g[near], _MOST)[:_MOST]]
    cells = np.unique(np.concatenate([near - 1, near]))
    return np.asarray(cells[(cells >= 0) & (cells < len(g) - 1)])


def _free(value: float, slope: float, omega: float, zeta: float) -> tuple[float, float]:
    """Highest and lowest of a free vibration from a value and slope on."""
    damped = omega * np.sqrt(1.0 - zeta**2)
    A, B = value, (slope + zeta * omega * value) / damped
    values = [value]
    # slope zero where tan ω_d t = (B ω_d - ζω A) / (A ω_d + ζω B)
    base = np.arctan2(B * damped - zeta * omega * A, A * damped + zeta * omega * B)
    for k in range(-1, 4):
        phase = base + k * np.pi
        if phase > 0:
            values.append(np.exp(-zeta * omega * phase / damped) * (A * np.cos(phase) + B * np.sin(phase)))
    return float(max(values)), float(min(values))


def _record_findings(a: Floats, step: float, f: Floats) -> list[Finding]:
    found = []
    rate = 1.0 / step
    if rate < SAMPLES_PER_PERIOD * f.max():
        found.append(Finding(
            "warning", f"{rate:.4g} samples per second are few for {f.max():g} Hz: {rate / f.max():.1f} per period, "
            f"where {SAMPLES_PER_PERIOD:g} are wanted; above {rate / SAMPLES_PER_PERIOD:.4g} Hz peaks may be missed",
        ))  # fmt: skip
    duration = step * (len(a) - 1)
    velocity = step * float(np.sum((a[1:] + a[:-1]) / 2.0))
    size = step * float(np.sum(np.abs(a)))
    if size > 0 and abs(velocity) > 0.2 * size:
        found.append(
            Finding("note", f"the base ends up moving at {velocity:.4g} m/s: a pulse, or a drift of the record")
        )
    tail = a[-max(2, len(a) // 50) :]
    if np.abs(a).max() > 0 and abs(tail.mean()) > 0.02 * np.abs(a).max():
        found.append(Finding(
            "warning", f"the record does not end at rest (mean of its last part {tail.mean():.3g} m/s²): an offset or "
            "a drift, which falsifies low frequencies; take the offset off or cut the record",
        ))  # fmt: skip
    if f.min() * duration < 0.5:
        found.append(Finding("note", f"below {0.5 / duration:.4g} Hz the record is shorter than half a period"))
    return found


def broadened_values(frequencies: Floats, values: Floats, by: float) -> Floats:
    """Values held from (1 - by) f to (1 + by) f, on the same frequencies; shape (..., frequencies)."""
    result = np.empty_like(values)
    for i, x in enumerate(frequencies):
        inside = (frequencies >= x / (1.0 + by) * (1 - 1e-12)) & (frequencies <= x / (1.0 - by) * (1 + 1e-12))
        result[..., i] = values[..., inside].max(axis=-1)
    return result
