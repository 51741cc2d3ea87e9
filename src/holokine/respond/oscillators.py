"""Exact response of uncoupled oscillators to a load that is linear between rows.

For q'' + 2ζω q' + ω² q = p the pair y = q' - s̄ q, with the poles s and s̄, obeys y' = s y + p, so that over a
step h with p linear
    y(h) = e^{sh} y(0) + h [(φ1 - φ2) p(0) + φ2 p(h)],  φ1 = (e^{sh} - 1)/(sh),  φ2 = (φ1 - 1)/(sh)
without any error of discretisation (the recurrence of Nigam & Jennings, Bull. Seism. Soc. Am. 59 (1969)
909-922, in one complex number per oscillator). Overdamped oscillators have two real poles and two such pairs.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    from holokine.arrays import Complex, Floats

__all__ = ["Oscillators", "Trajectory", "cubic_extremes", "phi_functions", "quintic", "recurrence"]

_MANY_RUNS = 200
_ROWS = 24  # of a block in which a recurrence is a product
_SPAN = 32768  # rows taken at once


_TERMS = [1.0 / math.factorial(k) for k in range(1, 13)]


def phi_functions(x: Any) -> tuple[Any, Any, Any]:
    """e^x, φ1 = (e^x - 1)/x and φ2 = (φ1 - 1)/x, without cancellation at small x."""
    grown = np.exp(x)
    small = np.abs(x) < 0.05
    safe = np.where(small, 1.0, x)
    phi1 = (grown - 1.0) / safe
    phi2 = (phi1 - 1.0) / safe
    if small.any():
        z = x[small]
        sum2 = np.full_like(z, _TERMS[8])
        for k in range(7, 0, -1):  # Σ x^{k-1} / (k+1)!, and φ1 = 1 + x φ2
            sum2 = sum2 * z + _TERMS[k]
        phi2[small] = sum2
        phi1[small] = 1.0 + z * sum2
    return grown, phi1, phi2


def recurrence(E: Complex, drive: Complex, start: Complex) -> Complex:
    """y_{n+1} = E y_n + d_n for many poles |E| ≤ 1 at once, shape (rows, poles); by blocks of rows.

    Within a block y is a product with the powers of E, so that only one step per block is taken one after the other.
    """
    rows, count = drive.shape
    blocks = -(-rows // _ROWS)
    padded = np.zeros((blocks * _ROWS, count), dtype=complex)
    padded[:rows] = drive
    powers = E[:, None] ** np.arange(_ROWS + 1)
    lag = np.arange(_ROWS)[:, None] - np.arange(_ROWS)
    kernel = np.where(lag >= 0, powers[:, np.maximum(lag, 0)], 0.0)  # (poles, row, row of the drive)
    inside = np.matmul(kernel, padded.reshape(blocks, _ROWS, count).transpose(2, 1, 0))  # (poles, rows, blocks)
    carry = np.empty((blocks, count), dtype=complex)
    y, last, whole = np.asarray(start, dtype=complex), inside[:, -1], powers[:, -1]
    for k in range(blocks):
        carry[k] = y
        y = whole * y + last[:, k]
    found = inside + powers[:, 1:, None] * carry.T[:, None]
    return np.ascontiguousarray(found.transpose(2, 1, 0).reshape(-1, count)[:rows])


@dataclass(frozen=True)
class Trajectory:
    """State of the oscillators on rows of time.

    Attributes
    ----------
    time : ndarray, shape (rows,)
    load : ndarray, shape (rows, loads)
        Base accelerations, linear between rows.
    state : ndarray of complex, shape (rows, oscillators, 1 or 2)
        The pairs y.
    """

    time: Floats
    load: Floats
    state: Complex


class Oscillators:
    """Uncoupled oscillators, driven by linear combinations of a few loads.

    Parameters
    ----------
    omega, damping : ndarray, shape (oscillators,)
        rad/s (greater than 0) and damping ratios. A ratio within 1e-6 of critical is moved off it by 1e-6.
    weights : ndarray, shape (oscillators, loads)
        Modal load p = weights @ load.
    """

    def __init__(self, omega: Floats, damping: Floats, weights: Floats) -> None:
        self.omega = np.asarray(omega, dtype=float)
        zeta = np.asarray(damping, dtype=float)
        zeta = np.where(np.abs(zeta - 1.0) < 1e-6, 1.0 - 1e-6, zeta)
        self.damping = zeta
        self.weights = np.asarray(weights, dtype=float)
        root = np.sqrt((zeta**2 - 1.0).astype(complex)) * self.omega
        self.over = zeta > 1.0
        s1 = -zeta * self.omega + root
        self.poles = np.stack([s1, s1 - 2.0 * root], axis=1)  # s and s̄ (or the second real pole)
        if not self.over.any():
            self.poles = self.poles[:, :1]
        self._gap = 2.0 * root

    def run(self, time: Floats, load: Floats, *, settled: bool = False, jumps: Floats | None = None) -> Trajectory:
        """March over all rows from rest; `settled`: from rest where the load of the first row holds it.

        `jumps`: integrals of loads that act in no time at rows, (rows, loads); a row's state is that after it.
        """
        rows, count = len(time), len(self.poles)
        state = np.zeros((rows, count, self.poles.shape[1]), dtype=complex)
        p = load @ self.weights.T
        if settled:
            state[0] = -p[0][:, None] / self.poles
        steps = np.diff(time)
        starts = _runs(steps)
        kicks: dict[int, Floats] = {}
        if jumps is not None:
            kicks = {int(row): self.weights @ jumps[row] for row in np.flatnonzero(jumps.any(axis=1))}
            starts = sorted({*starts, *(row for row in kicks if row < len(steps))})
        many = len(starts) > _MANY_RUNS
        ends = [*starts[1:], len(steps)]
        for a, b in zip(starts, ends, strict=True):
            if a in kicks:
                state[a] += kicks[a][:, None]
            if many:
                self._march(state, p, steps, a, b)
            else:
                self._filter(state, p, a, b, float(steps[a:b].mean()))
        return Trajectory(time, load, state)

    def _filter(self, state: Complex, p: Floats, a: int, b: int, h: float) -> None:
        """Rows a+1 .. b by one-pole recurrences, equal steps h."""
        if h == 0.0:
            state[a + 1 : b + 1] = state[a]
            return
        E, phi1, phi2 = phi_functions(self.poles * h)
        first, second = h * (phi1 - phi2), h * phi2
        for k in range(self.poles.shape[1]):
            for start in range(a, b, _SPAN):
                end = min(start + _SPAN, b)
                drive = first[:, k] * p[start:end] + second[:, k] * p[start + 1 : end + 1]
                state[start + 1 : end + 1, :, k] = recurrence(E[:, k], drive, state[start, :, k])

    def _march(self, state: Complex, p: Floats, steps: Floats, a: int, b: int) -> None:
        for n in range(a, b):
            h = steps[n]
            E, phi1, phi2 = phi_functions(self.poles * h)
            drive = h * ((phi1 - phi2) * p[n][:, None] + phi2 * p[n + 1][:, None])
            state[n + 1] = E * state[n] + drive

    def within(self, path: Trajectory, row: NDArray[np.int64], tau: Floats) -> tuple[Complex, Floats]:
        """State and load at `tau` seconds after rows, exactly; shapes (k, oscillators, ·) and (k, loads)."""
        last = len(path.time) - 1
        nxt = np.minimum(row + 1, last)
        h = path.time[nxt] - path.time[row]
        share = np.where(h > 0, tau / np.where(h > 0, h, 1.0), 0.0)
        load = path.load[row] + share[:, None] * (path.load[nxt] - path.load[row])
        E, phi1, phi2 = phi_functions(self.poles[None] * tau[:, None, None])
        p0, p1 = path.load[row] @ self.weights.T, load @ self.weights.T
        drive = tau[:, None, None] * ((phi1 - phi2) * p0[..., None] + phi2 * p1[..., None])
        return E * path.state[row] + drive, load

    def motion(self, state: Complex, load: Floats) -> tuple[Floats, Floats, Floats]:
        """q, q' and q'' from states; each of shape (k, oscillators)."""
        y = state[..., 0]
        gap = self._gap
        if state.shape[-1] == 1:
            q = y.imag / gap.imag * 2.0
            v = y.real - self.damping * self.omega * q
        else:
            z = state[..., 1]
            q = np.where(self.over, ((y - z) / gap).real, y.imag / np.where(self.over, 1.0, gap.imag) * 2.0)
            v = np.where(self.over, (y + self.poles[:, 1] * q).real, y.real - self.damping * self.omega * q)
        a = load @ self.weights.T - 2.0 * self.damping * self.omega * v - self.omega**2 * q
        return q, v, a

    def balance(self, q: Floats, v: Floats, a: Floats, load: Floats) -> Floats:
        """s = -(q'' - p)/ω² = q + 2ζ q'/ω: what elastic and damping forces are together, as a coordinate."""
        return np.asarray(q + 2.0 * self.damping / self.omega * v)

    def left(self, state: Complex, load: Floats, later: float) -> tuple[Floats, ...]:
        """Most that q, q', q'', the balance, and balance less q, (modes,) each, can be away from rest ever after.

        `later`: seconds of free motion under a load that stays, after a state.
        """
        y = np.abs(state + (self.weights @ load)[:, None] / self.poles) * np.exp(self.poles.real * later)
        q = y.sum(axis=1) / np.abs(self._gap) * (2.0 if y.shape[1] == 1 else 1.0)
        fast = np.abs(self.poles).max(axis=1)
        v = fast * q
        return q, v, fast**2 * q, q + 2.0 * self.damping / self.omega * v, 2.0 * self.damping / self.omega * v


def quintic(s: Floats, h: Floats, first: Sequence[Floats], last: Sequence[Floats]) -> tuple[Floats, Floats, Floats]:
    """Value, slope and second derivative at shares `s` of steps `h`, by fifth-order curves through those at both ends.

    `first`, `last`: value, slope and second derivative at the ends, (steps, columns) each; s and h: (steps, 1).
    """
    (x0, v0, a0), (x1, v1, a1) = first, last
    rise = x1 - x0 - h * v0 - h**2 * a0 / 2.0
    turn = h * (v1 - v0) - h**2 * a0
    bend = h**2 * (a1 - a0)
    c3, c4, c5 = (
        10.0 * rise - 4.0 * turn + bend / 2.0,
        -15.0 * rise + 7.0 * turn - bend,
        6.0 * rise - 3.0 * turn + bend / 2.0,
    )
    some = np.where(h > 0.0, h, 1.0)
    x = x0 + s * (h * v0 + s * (h**2 * a0 / 2.0 + s * (c3 + s * (c4 + s * c5))))
    v = v0 + s * (h * a0 + s * (3.0 * c3 + s * (4.0 * c4 + s * 5.0 * c5)) / some)
    a = a0 + s * (6.0 * c3 + s * (12.0 * c4 + s * 20.0 * c5)) / some**2
    return x, v, a


def cubic_extremes(value: Floats, slope: Floats) -> tuple[float, float]:
    """Lowest and highest of a curve, between rows too, by the cubics through values and slopes (per step).

    Only the cells that can hold an extreme are looked at; the error is of fourth order in the step.
    """
    result = []
    for sign in (-1.0, 1.0):
        v, d = sign * value, sign * slope
        best = float(v.max(initial=-np.inf))
        span = best - float(v.min(initial=0.0))
        cells = np.flatnonzero((np.maximum(v[:-1], v[1:]) > best - 0.2 * span) & (d[:-1] > 0) & (d[1:] < 0))
        if len(cells):
            v0, v1, d0, d1 = v[cells], v[cells + 1], d[cells], d[cells + 1]
            a, b = 2.0 * (v0 - v1) + d0 + d1, 3.0 * (v1 - v0) - 2.0 * d0 - d1
            root = np.sqrt(np.maximum(b**2 - 3.0 * a * d0, 0.0))
            s = np.clip(d0 / np.where(root - b != 0.0, root - b, 1.0), 0.0, 1.0)  # the maximum, without cancellation
            best = max(best, float((((a * s + b) * s + d0) * s + v0).max()))
        result.append(sign * best)
    return result[0], result[1]


def _runs(steps: Floats) -> list[int]:
    """First index of each run of equal steps."""
    if len(steps) == 0:
        return []
    change = np.abs(np.diff(steps)) > 1e-7 * np.maximum(np.abs(steps[1:]), np.abs(steps[:-1]))
    return [0, *(np.flatnonzero(change) + 1).tolist()]
