"""Modes coupled by damping: steady vibration by one diagonalisation, and damped (complex) modes.

    q'' + C q' + (Λ + i D) q = p

with Λ the squared frequencies, C viscous (modal ratios and discrete dampers) and D hysteretic (Σ η Φᵀ K Φ). In first
order, with the state (q, q'), all of it is one complex matrix (Foss, J. Appl. Mech. 25 (1958) 361-364), whose
eigenvectors answer all frequencies at once. i D has a meaning for e^(+iωt), ω > 0, only.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from holokine.errors import SolverError

if TYPE_CHECKING:
    from holokine.arrays import Complex, Floats, Ints

__all__ = ["CoupledVibration", "DampedModes", "damped_modes"]

_DIAGONAL = 1e-10  # of the diagonal, below which two modes are not coupled
_ROWS = 256  # frequencies that are worked on at once
_ILL = 1e9  # condition of the eigenvectors from which each frequency is solved by itself


class CoupledVibration:
    """Modal equations under damping of any kind.

    Parameters
    ----------
    omega : ndarray, shape (modes,)
        rad/s.
    viscous : ndarray, shape (modes, modes)
        C.
    hysteretic : ndarray, shape (modes, modes), optional
        D.
    """

    def __init__(self, omega: Floats, viscous: Floats, hysteretic: Floats | None = None) -> None:
        self.omega, self.viscous = omega, viscous
        self.hysteretic = np.zeros_like(viscous) if hysteretic is None else hysteretic
        self.coupled = any(_couples(m) for m in (viscous, self.hysteretic))

    @property
    def _stiffness(self) -> Complex:
        return np.diag(self.omega**2) + 1j * self.hysteretic

    @cached_property
    def _state(self) -> tuple[Complex, Complex, Complex, float]:
        """Eigenvalues of the state matrix, displacement rows of its eigenvectors, weights of forces, condition."""
        n = len(self.omega)
        A = np.zeros((2 * n, 2 * n), dtype=complex)
        A[:n, n:] = np.eye(n)
        A[n:, :n], A[n:, n:] = -self._stiffness, -self.viscous
        least = 1e-3 * float(self.omega.max(initial=0.0)) or 1.0
        scale = np.concatenate([np.maximum(self.omega, least), np.ones(n)])  # ω q and q' are alike in size
        scaled = A * scale[:, None] / scale
        if not self.hysteretic.any():
            scaled = scaled.real  # so that poles come in exact pairs
        values, V = np.linalg.eig(scaled)
        values, V = values.astype(complex), V.astype(complex)
        try:
            inverse = np.linalg.inv(V)
            condition = float(np.linalg.norm(V, 1) * np.linalg.norm(inverse, 1))
        except np.linalg.LinAlgError:  # two poles in one
            inverse, condition = np.zeros_like(V), np.inf
        return values, (V / scale[:, None])[:n], inverse[:, n:], condition

    @property
    def poles(self) -> Complex:
        """Eigenvalues in rad/s, shape (2 modes,)."""
        if self.coupled:
            return self._state[0]
        c, k = np.diag(self.viscous), self.omega**2 + 1j * np.diag(self.hysteretic)
        root = np.sqrt(np.asarray(c**2 / 4.0 - k, dtype=complex))
        return np.concatenate([-c / 2.0 + root, -c / 2.0 - root])

    def resonances(self) -> tuple[Floats, Floats]:
        """Frequency and half-power bandwidth in Hz of every pole that swings; creeping ones have none."""
        poles = self.poles
        poles = poles[poles.imag > 1e-6 * np.abs(poles)]
        return poles.imag / (2.0 * np.pi), -poles.real / np.pi

    def pole_shapes(self) -> Complex:
        """Modal coordinates of each pole's shape, columns as `poles`, shape (modes, 2 modes)."""
        if self.coupled:
            return self._state[1]
        eye = np.eye(len(self.omega), dtype=complex)
        return np.hstack([eye, eye])

    def fractions(self, weights: Floats) -> tuple[Complex, Complex]:
        """Poles, and what each holds of the modal displacements: q(s) = Σ held / (s - pole).

        Parameters
        ----------
        weights : ndarray, shape (modes, loads)
            Modal force of each load.

        Returns
        -------
        poles : ndarray, shape (2 modes,)
            rad/s.
        held : ndarray, shape (loads, 2 modes, modes)

        Raises
        ------
        SolverError
            Two poles fall into one, so that there are no such fractions.
        """
        n = len(self.omega)
        if not self.coupled:
            poles = self.poles
            apart = poles[:n] - poles[n:]
            if (np.abs(apart) < 1e-9 * np.abs(poles[:n])).any():
                raise SolverError(
                    "a mode is damped critically, so that its two poles are one; change its damping a little"
                )
            held = np.zeros((weights.shape[1], 2 * n, n), dtype=complex)
            k = np.arange(n)
            held[:, k, k], held[:, n + k, k] = (weights / apart[:, None]).T, (-weights / apart[:, None]).T
            return poles, held
        values, shapes, inner, condition = self._state
        if condition >= _ILL:
            raise SolverError("two poles of the damped modes are one; change the damping a little")
        return values, np.einsum("kj,mk->jkm", inner @ weights, shapes)

    def solve(self, omega: Floats, weights: Floats, load: Complex) -> Complex:
        """Modal displacements of steady vibration, shape (frequencies, modes).

        Parameters
        ----------
        omega : ndarray, shape (frequencies,)
            rad/s.
        weights : ndarray, shape (modes, loads)
            Modal force of each load.
        load : ndarray, shape (frequencies, loads)
            Complex amplitudes.
        """
        if not self.coupled:
            result = np.empty((len(omega), len(self.omega)), dtype=complex)
            lost, c, stiff = np.diag(self.hysteretic), np.diag(self.viscous), self.omega**2
            left, right = load.real @ weights.T, load.imag @ weights.T
            for a in range(0, len(omega), _ROWS):  # so few that they stay in the processor's memory
                rows = slice(a, a + _ROWS)
                w = omega[rows, None]
                real, imaginary = stiff - w * w, lost + c * w
                size = real * real + imaginary * imaginary
                # a mode without damping, met exactly, answers nothing: callers see to it that nothing drives it
                size = np.divide(1.0, size, out=np.zeros_like(size), where=size > 0.0)
                real *= size
                imaginary *= size
                part = result[rows]
                part.real = left[rows] * real + right[rows] * imaginary
                part.imag = right[rows] * real - left[rows] * imaginary
            return result
        values, shapes, inner, condition = self._state
        if condition < _ILL:
            pushed = (inner @ weights).T
            back = np.ascontiguousarray(shapes.T)
            result = np.empty((len(omega), len(self.omega)), dtype=complex)
            for a in range(0, len(omega), _ROWS):
                state = load[a : a + _ROWS] @ pushed
                state /= 1j * omega[a : a + _ROWS, None] - values
                np.matmul(state, back, out=result[a : a + _ROWS])
            return result
        force = load @ weights.T
        result = np.empty(force.shape, dtype=complex)
        for row, w in enumerate(omega):
            matrix = self._stiffness - np.diag(np.full(len(self.omega), w**2)) + 1j * w * self.viscous
            result[row] = np.linalg.solve(matrix, force[row])
        return result


def _couples(matrix: Floats) -> bool:
    """Whether a matrix has entries beside its diagonal that matter."""
    own = np.sqrt(np.abs(np.diag(matrix)))
    size = np.outer(own, own)
    off = np.abs(matrix - np.diag(np.diag(matrix)))
    most = float(np.abs(matrix).max(initial=0.0))
    return bool((off > _DIAGONAL * np.maximum(size, 1e-6 * most)).any())


@dataclass(frozen=True)
class DampedModes:
    """Damped modes, by rising undamped frequency, and poles that do not vibrate.

    Attributes
    ----------
    poles : ndarray, shape (modes,), complex
        rad/s; of each pair the one with positive imaginary part.
    coordinates : ndarray, shape (modes, undamped modes), complex
        Shape of each in the undamped ones, of length 1 in kinetic energy, turned so that most of it is real.
    nearest : ndarray of int, shape (modes,)
        Undamped mode (row) that holds most of each shape.
    likeness : ndarray, shape (modes,)
        How much of the shape that is, 0 to 1.
    complexity : ndarray, shape (modes,)
        Imaginary share of the shape, 0 (all places in phase) to 1 (a wave that travels).
    real_poles : ndarray, shape (poles,)
        rad/s: overdamped motions, which die away without swinging.
    real_nearest : ndarray of int, shape (poles,)
    """

    poles: Complex
    coordinates: Complex
    nearest: Ints
    likeness: Floats
    complexity: Floats
    real_poles: Floats
    real_nearest: Ints

    @property
    def undamped_hz(self) -> Floats:
        """|λ| / 2π."""
        return np.abs(self.poles) / (2.0 * np.pi)

    @property
    def damped_hz(self) -> Floats:
        """Im λ / 2π."""
        return np.asarray(self.poles.imag / (2.0 * np.pi))

    @property
    def ratios(self) -> Floats:
        """Damping ratios, -Re λ / |λ|."""
        return np.asarray(-self.poles.real / np.abs(self.poles))

    @property
    def decay_times(self) -> Floats:
        """Time in s in which the motion falls to 1/e; infinite without damping."""
        rate = -self.poles.real
        return np.where(rate > 0, 1.0 / np.where(rate > 0, rate, 1.0), np.inf)

    @property
    def decrements(self) -> Floats:
        """Logarithmic decrement: of the amplitude from one cycle to the next."""
        return np.asarray(-2.0 * np.pi * self.poles.real / self.poles.imag)


def damped_modes(vibration: CoupledVibration, modes: int | None = None) -> DampedModes:
    """Damped modes of coupled modal equations.

    `modes`: how many coordinates are modes; poles beyond the highest of them that are mostly static shapes, which only
    stand for flexibility there, are left out.
    """
    poles, shapes = vibration.poles, vibration.pole_shapes()
    known = np.ones(len(poles), dtype=bool)
    if modes is not None and modes < len(vibration.omega):
        main = np.abs(shapes).argmax(axis=0)
        known = (main < modes) | (np.abs(poles) <= float(vibration.omega[:modes].max(initial=0.0)))
    swings = known & (poles.imag > 1e-9 * np.abs(poles))
    slow = known & (np.abs(poles.imag) <= 1e-9 * np.abs(poles))
    order = np.flatnonzero(swings)[np.argsort(np.abs(poles[swings]), kind="stable")]
    x = shapes[:, order].T
    x = x / np.linalg.norm(x, axis=1, keepdims=True)
    square = np.einsum("kn,kn->k", x, x)  # turned so that the real part is the larger one by most
    x = x * np.exp(-0.5j * np.angle(square))[:, None]
    main = np.abs(x).argmax(axis=1)
    x = x * np.where(x[np.arange(len(x)), main].real < 0, -1.0, 1.0)[:, None]
    likeness = np.abs(x[np.arange(len(x)), main]) ** 2
    complexity = np.linalg.norm(x.imag, axis=1) / np.maximum(np.linalg.norm(x.real, axis=1), 1e-300)
    still = np.flatnonzero(slow)[np.argsort(-poles[slow].real, kind="stable")]
    return DampedModes(
        poles[order], x, main, likeness, complexity, poles[still].real, np.abs(shapes[:, still]).argmax(axis=0)
    )
