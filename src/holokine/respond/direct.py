"""Step-by-step integration, where discrete dampers couple the modes or the whole model is wanted.

The generalised-α method (Chung & Hulbert, J. Appl. Mech. 60 (1993) 371-375) in the form

    M [(1-αm) a₁ + αm a₀] + C [(1-αf) v₁ + αf v₀] + K [(1-αf) u₁ + αf u₀] = (1-αf) p₁ + αf p₀

with the spectral radius ρ at infinite frequency as its one parameter; αm = αf = 0 with γ = 1/2, β = 1/4 is the average
acceleration method (Newmark, J. Eng. Mech. Div. ASCE 85 (1959) 67-94). Both are of second order and stable whatever
the step.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import eye_array

from holokine.respond.oscillators import Oscillators, Trajectory
from holokine.respond.readout import passed_on, read_fields
from holokine.state.rest import rest_factor
from holokine.system.wide import explicit

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.gauges.channels import GaugeSet
    from holokine.respond.reduced import ReducedModel
    from holokine.system.build import System
    from holokine.system.loads import LoadField

__all__ = ["CoupledModes", "FullModel", "RowStates", "Scheme", "SteppedModes", "cubic", "full_histories", "march"]

_DEFECTIVE = 1e6


@dataclass(frozen=True)
class Scheme:
    """Parameters of the generalised-α family."""

    alpha_m: float
    alpha_f: float
    gamma: float
    beta: float

    @classmethod
    def average_acceleration(cls) -> Scheme:
        """No numerical damping."""
        return cls(0.0, 0.0, 0.5, 0.25)

    @classmethod
    def generalised_alpha(cls, radius: float) -> Scheme:
        """`radius`: what a step leaves of dofs of very high frequency, from 0 to 1."""
        am, af = (2.0 * radius - 1.0) / (radius + 1.0), radius / (radius + 1.0)
        return cls(am, af, 0.5 - am + af, 0.25 * (1.0 - am + af) ** 2)

    def weights(self, h: float) -> tuple[float, float, float]:
        """Factors on M, C and K of the matrix to be solved with in every step."""
        stay = 1.0 - self.alpha_f
        return (1.0 - self.alpha_m) / (self.beta * h**2), stay * self.gamma / (self.beta * h), stay


def march(
    scheme: Scheme,
    h: float,
    products: tuple[Callable[[Floats], Floats], Callable[[Floats], Floats], Callable[[Floats], Floats]],
    solve: Callable[[Floats], Floats],
    accelerate: Callable[[Floats], Floats],
    loads: Iterator[Floats],
    start: Floats,
) -> Iterator[tuple[Floats, Floats, Floats]]:
    """Displacement, velocity and acceleration at every instant, from rest at `start`.

    Parameters
    ----------
    products : of M, C and K with a vector.
    solve : with the matrix of `Scheme.weights`.
    accelerate : M⁻¹ times a vector, for the first instant.
    loads : force vectors at the instants.
    """
    M, C, K = products
    am, af, gamma, beta = scheme.alpha_m, scheme.alpha_f, scheme.gamma, scheme.beta
    p0 = next(loads)
    u, v = start, np.zeros_like(start)
    a = accelerate(p0 - K(u))
    yield u, v, a
    for p1 in loads:
        # u₁ is the unknown: a₁ = (u₁ - u)/(βh²) - v/(βh) - (1/2β - 1) a, v₁ = v + h (1-γ) a + h γ a₁
        back_a = u / (beta * h**2) + v / (beta * h) + (0.5 / beta - 1.0) * a
        back_v = gamma / (beta * h) * u + (gamma / beta - 1.0) * v + h * (0.5 * gamma / beta - 1.0) * a
        right = (1.0 - af) * p1 + af * p0 - af * K(u)
        right = right + M((1.0 - am) * back_a - am * a) + C((1.0 - af) * back_v - af * v)
        new = solve(right)
        a1 = new / (beta * h**2) - back_a
        v = gamma / (beta * h) * new - back_v
        u, a, p0 = new, a1, p1
        yield u, v, a


class RowStates(Oscillators):
    """Coordinates whose states hold q, q' and q'' themselves."""

    def motion(self, state: Any, load: Floats) -> tuple[Floats, Floats, Floats]:
        """q, q' and q''."""
        return state[..., 0], state[..., 1], state[..., 2]

    def balance(self, q: Floats, v: Floats, a: Floats, load: Floats) -> Floats:
        """What elastic and damping forces of the modes are together, as a coordinate."""
        return np.asarray((load @ self.weights.T - a) / self.omega**2)

    @staticmethod
    def step_at(path: Trajectory, row: NDArray[np.int64], tau: Floats) -> tuple[NDArray[np.int64], Floats, Floats]:
        """Row after each, the step between them in s and the share of it that `tau` is, (k, 1) each."""
        nxt = np.minimum(row + 1, len(path.time) - 1)
        h = (path.time[nxt] - path.time[row])[:, None]
        return nxt, h, np.where(h > 0, tau[:, None] / np.where(h > 0, h, 1.0), 0.0)

    def within(self, path: Trajectory, row: NDArray[np.int64], tau: Floats) -> tuple[Any, Floats]:
        """Between rows by the cubics through values and slopes; accelerations straight."""
        nxt, h, s = self.step_at(path, row, tau)
        x0, x1 = path.state[row], path.state[nxt]
        parts = [cubic(s, h, x0[..., k], x1[..., k], x0[..., k + 1], x1[..., k + 1]) for k in (0, 1)]
        parts.append(x0[..., 2] + s * (x1[..., 2] - x0[..., 2]))
        return np.stack(parts, axis=2), path.load[row] + s * (path.load[nxt] - path.load[row])


class SteppedModes(RowStates):
    """Coupled modal equations q'' + C q' + ω² q = weights · load, integrated in equal steps."""

    def __init__(self, omega: Floats, damping: Floats, weights: Floats, coupling: Floats, scheme: Scheme) -> None:
        super().__init__(omega, damping, weights)
        self.coupling, self.scheme = coupling, scheme

    def run(self, time: Floats, load: Floats, *, settled: bool = False, jumps: Floats | None = None) -> Trajectory:
        """March over equal steps from rest, or settled under the first load; a state holds q, q' and q''. No jumps."""
        assert jumps is None
        h = float(time[1] - time[0])
        m, c, k = self.scheme.weights(h)
        stiff = self.omega**2
        inverse = np.linalg.inv(np.diag(m + k * stiff) + c * self.coupling)
        p = load @ self.weights.T
        steps = march(
            self.scheme, h, (lambda x: x, lambda x: self.coupling @ x, lambda x: stiff * x), lambda r: inverse @ r,
            lambda r: r, iter(p), p[0] / stiff if settled else np.zeros(len(stiff)),
        )  # fmt: skip
        state = np.empty((len(time), len(stiff), 3))
        for row, values in enumerate(steps):
            state[row] = np.stack(values, axis=1)
        return Trajectory(time, load, state)


def cubic(s: Floats, h: Floats, y0: Floats, y1: Floats, d0: Floats, d1: Floats) -> Floats:
    """Values at shares `s` of steps `h`, by the cubics through values and slopes at both ends."""
    a, b = 2.0 * (y0 - y1) + h * (d0 + d1), 3.0 * (y1 - y0) - h * (2.0 * d0 + d1)
    return ((a * s + b) * s + h * d0) * s + y0


class CoupledModes(Oscillators):
    """Coupled modal equations, solved exactly by the complex eigenvectors of their state matrix.

    (Foss, J. Appl. Mech. 25 (1958) 361-364.)
    """

    def __init__(self, omega: Floats, damping: Floats, weights: Floats, coupling: Floats) -> None:
        super().__init__(omega, damping, weights)
        self.coupling, self.real_weights = coupling, self.weights
        n = len(self.omega)
        A = np.zeros((2 * n, 2 * n))
        A[:n, n:] = np.eye(n)
        scale = np.concatenate([self.omega, np.ones(n)])  # ω q and q' are alike in size
        for _ in range(4):
            A[n:, :n], A[n:, n:] = -np.diag(self.omega**2), -self.coupling
            values, V = np.linalg.eig(A * scale[:, None] / scale)
            if np.linalg.cond(V) < _DEFECTIVE:
                break
            self.coupling = self.coupling * (1.0 - 1e-6)  # exactly critical: two poles in one, moved a little apart
        V = V / scale[:, None]
        B = np.linalg.solve(V, np.vstack([np.zeros((n, self.weights.shape[1])), self.weights]).astype(complex))
        keep = values.imag >= 0.0  # of each pair one, counted twice
        twice = np.where(values[keep].imag > 0.0, 2.0, 1.0)
        self.poles = values[keep][:, None]
        self.weights = B[keep]
        self._shape, self._speed = V[:n, keep] * twice, V[n:, keep] * twice

    def motion(self, state: Any, load: Floats) -> tuple[Floats, Floats, Floats]:
        """q, q' and q''."""
        y = state[..., 0]
        q, v = (y @ self._shape.T).real, (y @ self._speed.T).real
        a = load @ self.real_weights.T - v @ self.coupling.T - self.omega**2 * q
        return q, v, a

    def balance(self, q: Floats, v: Floats, a: Floats, load: Floats) -> Floats:
        """What elastic and damping forces of the modes are together, as a coordinate."""
        return np.asarray(q + (v @ self.coupling.T) / self.omega**2)

    def left(self, state: Any, load: Floats, later: float) -> tuple[Floats, ...]:
        """Most that each coordinate can be away from rest ever after."""
        y = np.abs(state[:, 0] + self.weights @ load / self.poles[:, 0]) * np.exp(self.poles[:, 0].real * later)
        q, v = np.abs(self._shape) @ y, np.abs(self._speed) @ y
        damped = np.abs(self.coupling) @ v
        return q, v, damped + self.omega**2 * q, q + damped / self.omega**2, damped / self.omega**2


@dataclass(frozen=True)
class FullModel:
    """The whole model for direct integration.

    Attributes
    ----------
    fields : list of LoadField
        One for each column of the excitation.
    shapes, ratios : ndarray
        Modes that carry the described damping, shape (modes, dofs), and their ratios (without discrete dampers).
    rayleigh : tuple of float, optional
        Factors on M and K, in place of the ratios.
    """

    system: System
    gauges: GaugeSet
    fields: list[LoadField]
    shapes: Floats
    omega: Floats
    ratios: Floats
    rayleigh: tuple[float, float] | None = None


def full_histories(model: FullModel, reduced: ReducedModel, scheme: Scheme, time: Floats, load: Floats,
                   base: tuple[Floats, Floats]) -> Floats:  # fmt: skip
    """Histories of all channels, shape (rows, channels), on equal steps.

    `base`: velocity and displacement of the base, (rows, 3) each.
    """
    from holokine.solvers.factor import factorise

    system, gauges = model.system, model.gauges
    T = system.constraints.reduce
    K, M = explicit(system.reduced_stiffness), explicit(system.reduced_mass)
    C = T.T @ system.damping @ T
    h = float(time[1] - time[0])
    m, c, k = scheme.weights(h)
    spread = np.zeros((K.shape[0], 0))
    size = np.zeros(0)
    if model.rayleigh is not None:
        C = C + model.rayleigh[0] * M + model.rayleigh[1] * K
    else:  # Σ 2ζω (Mφ)(Mφ)ᵀ, of low rank
        free = model.shapes[:, system.constraints.independent]
        spread, size = np.asarray(M @ free.T), 2.0 * model.ratios * model.omega
    factor = factorise((m * M + c * C + k * K).tocsr())
    inner = np.asarray(factor.solve(np.ascontiguousarray(spread))) if spread.shape[1] else spread
    kernel = np.diag(1.0 / np.maximum(c * size, 1e-300)) + spread.T @ inner

    def solve(r: Floats) -> Floats:
        x = np.asarray(factor.solve(np.ascontiguousarray(r[:, None])))[:, 0]
        return np.asarray(x - inner @ np.linalg.solve(kernel, spread.T @ x)) if spread.shape[1] else x

    def damp(x: Floats) -> Floats:
        return np.asarray(C @ x + (spread @ (size * (spread.T @ x)) if spread.shape[1] else 0.0))

    push = np.array([T.T @ (f.force - system.mass @ f.ride) for f in model.fields])
    p = load @ push
    start = np.zeros(K.shape[0])
    if p[0].any():
        start = np.asarray(rest_factor(system).solve(np.ascontiguousarray(p[0][:, None])))[:, 0]
    begin = p[0] - K @ start
    first = np.zeros(len(start))
    if np.abs(begin).max(initial=0.0) > 1e-9 * max(np.abs(p[0]).max(initial=0.0), 1e-300):
        whiff = M + 1e-12 * float(M.diagonal().max()) * eye_array(M.shape[0], format="csr")
        first = np.asarray(factorise(whiff.tocsr()).solve(np.ascontiguousarray(begin[:, None])))[:, 0]
    steps = march(scheme, h, (lambda x: M @ x, damp, lambda x: K @ x), solve, lambda r: first, iter(p), start)
    weighed = np.asarray(system.mass @ model.shapes.T)
    ratios = 2.0 * model.ratios * model.omega
    inner_damping = ratios if model.rayleigh is None else np.full(len(ratios), model.rayleigh[0])
    ride = np.array([f.ride for f in model.fields])
    outside = np.array([f.force for f in model.fields])
    carried = np.asarray(system.mass @ (T @ np.asarray(free.T))).T if spread.shape[1] else None
    result = np.empty((len(time), len(reduced.channels)))
    block: list[tuple[Floats, Floats, Floats]] = []
    first_row = 0

    def read() -> None:
        rows = slice(first_row, first_row + len(block))
        u, v, a = (np.asarray(T @ np.array([b[i] for b in block]).T).T for i in range(3))
        own = load[rows]
        taken = np.asarray(system.damping @ v.T).T
        if carried is not None:
            taken = taken + ((v @ carried.T) * size) @ carried
        elif model.rayleigh is not None:
            taken = taken + np.asarray(model.rayleigh[0] * (system.mass @ v.T) + model.rayleigh[1]
                                       * (system.stiffness @ v.T)).T  # fmt: skip
        absolute = a + own @ ride
        frame = (base[0][rows], base[1][rows])
        values = read_fields(gauges, reduced, (u, v, a, absolute), own @ outside - taken, frame)
        result[rows] = values + passed_on(reduced, v @ weighed, inner_damping)

    for values in steps:
        block.append(values)
        if len(block) == 64:
            read()
            first_row += len(block)
            block = []
    if block:
        read()
    return result
