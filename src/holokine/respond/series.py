"""Fourier series as real coefficients, and what an assembly about its state answers in them.

Coefficients of a series: mean, real parts, imaginary parts of the complex amplitudes of e^(+ihωt).
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from holokine.arrays import Complex, Floats

_SAMPLES = 512  # of a cycle, at least
_PER_HARMONIC = 16

__all__ = ["Cycle", "Linear", "as_complex", "as_real", "padded"]


def as_complex(series: Floats) -> Complex:
    """Complex amplitudes (mean first) from real coefficients, shape (..., 1 + harmonics)."""
    h = series.shape[-1] // 2
    return np.concatenate([series[..., :1] + 0j, series[..., 1 : h + 1] + 1j * series[..., h + 1 :]], axis=-1)


def as_real(series: Complex) -> Floats:
    """Real coefficients from complex amplitudes."""
    return np.concatenate([series[..., :1].real, series[..., 1:].real, series[..., 1:].imag], axis=-1)


def padded(series: Floats, harmonics: int) -> Floats:
    """Coefficients with more harmonics, which are zero (or with fewer)."""
    old = as_complex(series)
    new = np.zeros((*series.shape[:-1], harmonics + 1), dtype=complex)
    count = min(new.shape[-1], old.shape[-1])
    new[..., :count] = old[..., :count]
    return as_real(new)


class Cycle:
    """One cycle: samples of series, and what lies between angles of it.

    Parameters
    ----------
    harmonics : int

    Attributes
    ----------
    V : ndarray, shape (samples, coefficients)
        Samples of a series.
    W : ndarray, shape (coefficients, samples)
        The series of samples.
    D : ndarray, shape (coefficients, coefficients)
        Of what changes with the angle.
    """

    def __init__(self, harmonics: int) -> None:
        self.harmonics = harmonics
        N = max(_SAMPLES, 1 << int(np.ceil(np.log2(_PER_HARMONIC * max(harmonics, 1)))))
        angle = 2.0 * np.pi * np.arange(N) / N
        k = np.arange(1, harmonics + 1)
        self.angle = angle
        self.V = self.basis(angle)
        self.W = self.V.T * 2.0 / N
        self.W[0] /= 2.0
        self.D = np.zeros((2 * harmonics + 1, 2 * harmonics + 1))  # of a speed per ω and place
        self.D[k, k + harmonics] = -k
        self.D[k + harmonics, k] = k
        self.orders = np.concatenate([[0], k, -k])
        half = np.eye(harmonics) / 2.0
        none = np.zeros((1, harmonics))
        self.to_complex = np.block([  # amplitudes by order from real coefficients
            [np.ones((1, 1)), none, none], [none.T, half, 1j * half], [none.T, half, -1j * half],
        ])  # fmt: skip
        self.to_real = np.linalg.inv(self.to_complex)

    def basis(self, angles: Floats) -> Floats:
        """What each coefficient adds at angles of the cycle, shape (angles, coefficients)."""
        turned = np.outer(angles, np.arange(1, self.harmonics + 1))
        return np.hstack([np.ones((len(angles), 1)), np.cos(turned), -np.sin(turned)])

    def values(self, series: Floats, angles: Floats) -> Floats:
        """Of series (..., coefficients) at angles of the cycle, shape (..., angles)."""
        return np.asarray(series @ self.basis(angles).T)

    def breaks(self, margins: Floats) -> Floats:
        """Angles at which any of several series, (margins, coefficients), passes zero, rising; with 0 and 2π."""
        y = margins @ self.V.T
        over = y > 0.0
        which, at = np.nonzero(over != np.roll(over, -1, axis=1))
        ends = np.array([0.0, 2.0 * np.pi])
        if not len(at):
            return ends
        first, after = y[which, at], y[which, (at + 1) % len(self.angle)]
        low = self.angle[at]
        high = low + 2.0 * np.pi / len(self.angle)
        x = low + (high - low) * np.abs(first) / (np.abs(first) + np.abs(after))
        both = np.stack([margins[which], margins[which] @ self.D.T])
        for _ in range(40):
            f, slope = (both * self.basis(x)).sum(axis=2)
            ahead = (f > 0.0) == (first > 0.0)
            low, high = np.where(ahead, x, low), np.where(ahead, high, x)
            better = x - f / np.where(slope == 0.0, 1e-300, slope)
            better = np.where((better > low - 1e-13) & (better < high + 1e-13), better, (low + high) / 2.0)
            moved = float(np.abs(better - x).max())
            x = better
            if moved < 1e-14:
                break
        return np.unique(np.concatenate([ends, np.mod(x, 2.0 * np.pi)]))

    def over(self, ends: list[tuple[float, float]]) -> Floats:
        """What of a series lies between angles, as a series: exact integrals, (coefficients, coefficients)."""
        d = self.orders[None, :] - self.orders[:, None]
        total = np.zeros(d.shape, dtype=complex)
        safe = np.where(d == 0, 1, d)
        for a, b in ends:
            total += np.where(d == 0, b - a, (np.exp(1j * d * b) - np.exp(1j * d * a)) / (1j * safe))
        return np.asarray((self.to_real @ (total / (2.0 * np.pi)) @ self.to_complex).real)


class Linear:
    """The assembly about its state at one frequency: what directions answer to what acts, and to their own forces."""

    def __init__(
        self, matrices: tuple[Floats, Floats, Floats, Floats], rows: Floats, harmonics: int, omega: float,
        push: Complex, rate: Complex,
    ) -> None:  # fmt: skip
        M, C, K, L = matrices  # the last: what loss factors make imaginary
        n, count, H = len(M), len(rows), harmonics
        self.shapes = np.zeros((H + 1, n, count), dtype=complex)
        self.receptance, self.slope = np.zeros((2, H + 1, count, count), dtype=complex)
        self.pushed = np.zeros(n, dtype=complex)
        self.place, self.place_rate = np.zeros((2, count), dtype=complex)
        for h in range(H + 1):
            w = h * omega
            Z = K + (1j * L if h else 0.0) + 1j * w * C - w**2 * M
            right = rows.T if h != 1 else np.column_stack([rows.T, push, rate])
            found = np.linalg.solve(Z, right)
            X = self.shapes[h] = found[:, :count]
            self.receptance[h] = rows @ X
            turned = 1j * h * C - 2.0 * h**2 * omega * M
            self.slope[h] = -X.T @ turned @ X  # Z is symmetric
            if h == 1:
                self.pushed = found[:, count]
                self.place = rows @ self.pushed
                self.place_rate = rows @ found[:, count + 1] - X.T @ (turned @ self.pushed)

    def at(self, force: Floats) -> tuple[Floats, Floats]:
        """Places of the directions under forces, and how they change with the frequency."""
        u = as_complex(force).T[:, :, None]
        x = -(self.receptance @ u)[:, :, 0]
        dx = -(self.slope @ u)[:, :, 0]
        x[1] += self.place
        dx[1] += self.place_rate
        return as_real(x.T), as_real(dx.T)

    def coordinates(self, force: Floats) -> Complex:
        """Complex amplitudes of the coordinates, (1 + harmonics, coordinates)."""
        x = -(self.shapes @ as_complex(force).T[:, :, None])[:, :, 0]
        x[1] += self.pushed
        return np.asarray(x)

    def matrix(self) -> Floats:
        """Real coefficients of places per force's, (directions, coefficients, directions, coefficients)."""
        H1, D, _ = self.receptance.shape
        H = H1 - 1
        full = np.zeros((D, 2 * H + 1, D, 2 * H + 1))
        full[:, 0, :, 0] = self.receptance[0].real
        k = np.arange(1, H + 1)
        p, q = self.receptance[1:].real, self.receptance[1:].imag
        full[:, k, :, k] = p
        full[:, k + H, :, k + H] = p
        full[:, k, :, k + H] = -q
        full[:, k + H, :, k] = q
        return full
