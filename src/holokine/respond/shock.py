"""Shock response spectra of records: what oscillators of many frequencies feel on a base that moves as recorded.

Ramp-invariant recurrences: exact for a base acceleration that is linear between samples (Smallwood, Shock and
Vibration Bulletin 51 (1981) part 1, 279-287; ISO 18431-4:2007). Before and after the record the base is at rest; the
residual spectrum is the largest of the free vibration after the last sample, in closed form.
"""

from __future__ import annotations

import os
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from holokine.errors import EventError
from holokine.modes.check import Finding
from holokine.respond.oscillators import cubic_extremes, phi_functions

__all__ = ["QUANTITIES", "SIDES", "ShockSpectrum", "broadened_values", "octave_frequencies", "shock_spectrum"]

Floats = NDArray[Any]  # float64
Quantity = Literal["absolute acceleration", "pseudo-acceleration", "pseudo-velocity", "relative displacement"]
Side = Literal["maximax", "positive", "negative", "primary", "residual"]
QUANTITIES: tuple[Quantity, ...] = (
    "absolute acceleration", "pseudo-acceleration", "pseudo-velocity", "relative displacement",
)  # fmt: skip
SIDES: tuple[Side, ...] = ("maximax", "positive", "negative", "primary", "residual")
SAMPLES_PER_PERIOD = 10.0
_SLOW = 2.5e-4  # radians per sample below which a filter of second order has lost more than eight digits
_CHUNK = 4096


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
    count = int(np.ceil(np.log2(high / low) * per_octave - 1e-9)) + 1
    return np.geomspace(low, high, count)


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
    if len(t) < 2 or len(t) != len(a):
        raise EventError(f"a record needs two samples at least, got {min(len(t), len(a))}")
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
        count = int(np.ceil((t[-1] - t[0]) / steps.min()))
        if count > 20_000_000:
            raise EventError(f"the steps are too uneven: {count:,} samples would be needed; resample the record")
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

    result = []
    whole = g[: len(g) // _CHUNK * _CHUNK].reshape(-1, _CHUNK)
    for sign in (1.0, -1.0):
        each = whole.max(axis=1) if sign > 0 else -whole.min(axis=1)
        rest = sign * g[whole.size :]
        best = max(float(each.max(initial=-np.inf)), float(rest.max(initial=-np.inf)))
        top = _tops(g, sign, best, each)
        if len(top):
            ends = np.stack([top, top + 1])
            values, slopes = sign * g[ends], sign * step * read(pole * state(ends) - a[ends])
            for k in range(len(top)):
                best = max(best, cubic_extremes(values[:, k], slopes[:, k])[1])
        result.append(sign * best)
    end = state(np.array([len(a) - 1]))[0]
    after_high, after_low = _free(float(read(end)), float(read(pole * end)), omega, zeta)
    return result[0], result[1], after_high, after_low


def _tops(g: Floats, sign: float, best: float, each: Floats) -> NDArray[np.int64]:
    """Cells beside the largest local maxima of sign · g: between samples any of these may be the highest.

    `each`: largest of every chunk, so that only those which can hold one are looked at.
    """
    edge = best - 0.05 * abs(best)
    found = [np.flatnonzero(sign * g[k * _CHUNK : (k + 1) * _CHUNK] >= edge) + k * _CHUNK
             for k in np.flatnonzero(each >= edge)]  # fmt: skip
    found.append(np.flatnonzero(sign * g[len(each) * _CHUNK :] >= edge) + len(each) * _CHUNK)
    near = np.concatenate(found)
    size = sign * g[near]
    if len(near) > 4000:
        keep = np.argpartition(-size, 4000)[:4000]
        near, size = near[keep], size[keep]
    i = int(near[size.argmax()])
    inner = near[(near > 0) & (near < len(g) - 1)]
    peaks = inner[(sign * g[inner] >= sign * g[inner - 1]) & (sign * g[inner] >= sign * g[inner + 1])]
    peaks = peaks[np.argsort(-sign * g[peaks], kind="stable")[:8]]
    return np.unique(np.concatenate([peaks - 1, peaks, [max(i - 1, 0), min(i, len(g) - 2)]]))


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
