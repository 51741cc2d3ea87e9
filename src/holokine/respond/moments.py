"""Integrals of products of partial fractions over densities that are powers of the frequency, piece by piece.

With H = Σ r_k / (f - z_k) the product of two fractions is a difference of single ones,

    1 / ((f - z_k)(f - z̄_l)) = (1 / (f - z_k) - 1 / (f - z̄_l)) / (z_k - z̄_l),

so that all that is integrated is ∫ f^m / (f - z) df. Near a pole (f^m - z^m) / (f - z) is smooth and the rest a
logarithm; away from it the whole is smooth. What is smooth is taken by Gauss's rule over parts of an octave, to
rounding: there is no grid that a resonance could fall between.
"""

from __future__ import annotations

from itertools import pairwise
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from holokine.arrays import Complex, Floats
    from holokine.excite.density import PowerPieces

__all__ = ["FeatureSpace", "over_pole"]

_POINTS = 16
_PART = np.log(2.0) / 2.0  # of a piece, on the logarithm of the frequency
_NEAR = 1.0  # of a pole, on the same


def over_pole(pieces: PowerPieces, z: Complex, power: float = 0.0) -> Complex:
    """∫ S f^power / (f - z) df for every pole z (in Hz, off the axis), shape (poles,)."""
    x, w = np.polynomial.legendre.leggauss(_POINTS)
    result = np.zeros(len(z), dtype=complex)
    log_z = np.log(z.astype(complex))
    for a, b, level, m in zip(pieces.start, pieces.end, pieces.level, pieces.exponent, strict=True):
        parts = max(1, int(np.ceil(np.log(b / a) / _PART)))
        edges = a * (b / a) ** (np.arange(parts + 1) / parts)
        n = m + power
        for low, high in pairwise(edges):
            half = 0.5 * np.log(high / low)
            f = np.sqrt(low * high) * np.exp(half * x)
            weight = half * w * f  # df = f d(ln f)
            size = level * a**-m * f**n
            middle = np.log(np.sqrt(low * high))
            near = np.abs(log_z - middle) < _NEAR + half
            far = ~near
            if far.any():
                result[far] += (weight * size / (f - z[far, None])).sum(axis=1)
            if near.any():
                zn = z[near, None]
                at_pole = level * a**-m * np.exp(n * log_z[near, None])
                result[near] += (weight * (size - at_pole) / (f - zn)).sum(axis=1)
                zn = zn[:, 0]
                result[near] += at_pole[:, 0] * (np.log(high - zn) - np.log(low - zn))
    return result


class FeatureSpace:
    """Functions of frequency that answers are made of: fractions of poles, and powers f⁰, f⁻¹, f⁻².

    Parameters
    ----------
    poles : ndarray, shape (poles,)
        rad/s; in Hz z = s / 2πi.
    powers : tuple of int
        Exponents of the frequency beside them, at most 0.
    """

    def __init__(self, poles: Complex, powers: tuple[int, ...] = (0,)) -> None:
        self.z, self.powers = poles / (2j * np.pi), powers

    @property
    def count(self) -> int:
        """Number of features."""
        return len(self.z) + len(self.powers)

    def at(self, f: Floats) -> Complex:
        """Values at frequencies in Hz, shape (frequencies, features)."""
        beside = np.array([f.astype(float) ** p for p in self.powers]).T.reshape(len(f), -1)
        return np.hstack([1.0 / (f[:, None] - self.z), beside])

    def gram(self, pieces: PowerPieces, power: float = 0.0) -> Complex:
        """∫ S f^power φ_a φ̄_b df of all features, shape (features, features)."""
        z, n = self.z, len(self.z)
        G = np.empty((self.count, self.count), dtype=complex)
        own = over_pole(pieces, z, power)
        G[:n, :n] = (own[:, None] - own.conj()[None, :]) / (z[:, None] - z.conj()[None, :])
        plain = {p: pieces.moment(power + p) for p in range(2 * min(self.powers), 1)}
        for k, p in enumerate(self.powers):
            # 1 / (f^i (f - z)) = z^-i / (f - z) - Σ_j z^-(i-j+1) f^-j
            i = -p
            mixed = own / z**i - sum((plain[-j] / z ** (i - j + 1) for j in range(1, i + 1)), np.zeros(n))
            G[:n, n + k], G[n + k, :n] = mixed, mixed.conj()
            for kk, other in enumerate(self.powers):
                G[n + k, n + kk] = plain[p + other]
        return G
