# ruff: noqa: E501
"""Whole assemblies against a small frame program of its own: dense matrices, loops, and no modes where modes are not needed.

Frames of random shape with bodies, springs, dampers and rigid arms: matrices, frequencies, participation, answers to loads
at rest, spectra, pulses, sweeps and random motion, each by another way than the library's (direct solution of the
equations of motion, matrix exponentials, quadrature, double sums).
"""

from __future__ import annotations

from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np
import pytest
import scipy.linalg
from scipy.integrate import quad
from scipy.signal import lsim

import holokine as hk

E_, G_, RHO = 2.0e11, 7.7e10, 7800.0
RATIO = 0.03


@dataclass
class Frame:
    """A frame: places of nodes, members (ends, area, I about local y and z, J), bodies, springs, an arm, and held nodes."""

    places: np.ndarray
    members: list[tuple[int, int, float, float, float, float]]
    bodies: list[tuple[int, float, np.ndarray, np.ndarray]] = field(default_factory=list)  # node, mass, inertia, offset
    springs: list[tuple[int, int, float, float]] = field(default_factory=list)  # ends (-1: ground), stiffness, damping
    arm: tuple[int, int] | None = None  # the second follows the first as one rigid body
    held: tuple[int, ...] = (0, 1)

    # -- the same for the library --------------------------------------------------------------------------

    def assembly(self) -> hk.Assembly:
        a = hk.Assembly("frame").material("m", E=E_, G=G_, density=RHO)
        for k, p in enumerate(self.places.tolist()):
            a.point(f"p{k}", p)
        for n, (i, j, area, iy, iz, torsion) in enumerate(self.members):
            a.section(f"s{n}", properties={"area": area, "Iy": iy, "Iz": iz, "J": torsion})
            a.part(f"b{n}", beam={"through": [f"p{i}", f"p{j}"], "section": f"s{n}", "up": self.up(i, j).tolist(),
                                  "divisions": 1, "theory": "euler"}, material="m")  # fmt: skip
        for n, (k, mass, inertia, offset) in enumerate(self.bodies):
            a.mass(f"m{n}", at=f"p{k}", mass=mass, inertia=inertia.tolist(), offset=offset.tolist())
        for n, (i, j, stiffness, damping) in enumerate(self.springs):
            ends = [f"p{i}", "ground" if j < 0 else f"p{j}"]
            axis = {"axis": "x"} if j < 0 else {}
            a.spring(f"k{n}", between=ends, stiffness=stiffness, **({"damping": damping} if damping else {}), **axis)
        if self.arm is not None:
            a.link("arm", rigid=f"p{self.arm[0]}", to={"points": [f"p{self.arm[1]}"]})
        for k in self.held:
            a.support(f"at {k}", at=f"p{k}", hold="all")
            a.gauge(f"r{k}", reaction=f"at {k}", portion="elastic")
        for k in self.free_points:
            a.gauge(f"u{k}", displacement=f"p{k}").gauge(f"a{k}", acceleration=f"p{k}").gauge(f"v{k}", velocity=f"p{k}",
                                                                                             motion="relative")  # fmt: skip
        return a.damping(RATIO)

    @property
    def free_points(self) -> list[int]:
        return [k for k in range(len(self.places)) if k not in self.held]

    # -- dense ---------------------------------------------------------------------------------------------

    def up(self, i: int, j: int) -> np.ndarray:
        """A direction square to the member: its local z."""
        x = (self.places[j] - self.places[i]) / np.linalg.norm(self.places[j] - self.places[i])
        z = np.cross(x, [0.3, 1.0, 0.2])
        return z / np.linalg.norm(z)

    def matrices(self) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """K, M and C of all motions."""
        n = 6 * len(self.places)
        K, M, C = np.zeros((3, n, n))
        for i, j, area, iy, iz, torsion in self.members:
            x = self.places[j] - self.places[i]
            length = float(np.linalg.norm(x))
            z = self.up(i, j)
            axes = np.array([x / length, np.cross(z, x / length), z])
            k, m = member(length, area, iy, iz, torsion)
            T = scipy.linalg.block_diag(*[axes] * 4)
            dofs = [*range(6 * i, 6 * i + 6), *range(6 * j, 6 * j + 6)]
            K[np.ix_(dofs, dofs)] += T.T @ k @ T
            M[np.ix_(dofs, dofs)] += T.T @ m @ T
        for k, mass, inertia, offset in self.bodies:
            S = cross(offset)
            own = np.zeros((6, 6))
            own[:3, :3] = mass * np.eye(3)
            own[:3, 3:], own[3:, :3] = -mass * S, mass * S
            own[3:, 3:] = np.diag(inertia) - mass * S @ S
            M[6 * k : 6 * k + 6, 6 * k : 6 * k + 6] += own
        for i, j, stiffness, damping in self.springs:
            d = np.array([1.0, 0, 0]) if j < 0 else self.places[j] - self.places[i]
            row = np.zeros(n)
            row[6 * i : 6 * i + 3] = d / np.linalg.norm(d)
            if j >= 0:
                row[6 * j : 6 * j + 3] = -d / np.linalg.norm(d)
            K += stiffness * np.outer(row, row)
            C += damping * np.outer(row, row)
        return K, M, C

    def reduction(self) -> np.ndarray:
        """All motions by the free ones."""
        n = 6 * len(self.places)
        T = np.eye(n)
        gone = [d for k in self.held for d in range(6 * k, 6 * k + 6)]
        if self.arm is not None:
            one, two = self.arm
            T[6 * two : 6 * two + 6, 6 * two : 6 * two + 6] = 0.0
            T[6 * two : 6 * two + 6, 6 * one : 6 * one + 6] = np.eye(6)
            T[6 * two : 6 * two + 3, 6 * one + 3 : 6 * one + 6] = -cross(self.places[two] - self.places[one])
            gone += range(6 * two, 6 * two + 6)
        return T[:, [d for d in range(n) if d not in gone]]

    def rigid(self, axis: int) -> np.ndarray:
        return np.tile(np.eye(6)[axis], len(self.places))


def cross(v: np.ndarray) -> np.ndarray:
    return np.array([[0, -v[2], v[1]], [v[2], 0, -v[0]], [-v[1], v[0], 0]])


def member(length: float, area: float, iy: float, iz: float, torsion: float) -> tuple[np.ndarray, np.ndarray]:
    """Bernoulli's beam: stiffness and consistent mass, motions u v w rx ry rz of both ends (Przemieniecki 1968)."""
    k, m = np.zeros((12, 12)), np.zeros((12, 12))
    bar, hat = np.array([[1, -1], [-1, 1.0]]), np.array([[2, 1], [1, 2.0]]) / 6
    k[np.ix_([0, 6], [0, 6])] = E_ * area / length * bar
    m[np.ix_([0, 6], [0, 6])] = RHO * area * length * hat
    k[np.ix_([3, 9], [3, 9])] = G_ * torsion / length * bar
    m[np.ix_([3, 9], [3, 9])] = RHO * (iy + iz) * length * hat
    a = length
    bend = np.array([[12, 6 * a, -12, 6 * a], [6 * a, 4 * a * a, -6 * a, 2 * a * a], [-12, -6 * a, 12, -6 * a],
                     [6 * a, 2 * a * a, -6 * a, 4 * a * a]])  # fmt: skip
    mass = np.array([[156, 22 * a, 54, -13 * a], [22 * a, 4 * a * a, 13 * a, -3 * a * a], [54, 13 * a, 156, -22 * a],
                     [-13 * a, -3 * a * a, -22 * a, 4 * a * a]])  # fmt: skip
    for inertia, dofs, sign in ((iz, [1, 5, 7, 11], 1.0), (iy, [2, 4, 8, 10], -1.0)):
        turn = np.diag([1, sign, 1, sign])
        k[np.ix_(dofs, dofs)] += E_ * inertia / a**3 * turn @ bend @ turn
        m[np.ix_(dofs, dofs)] += RHO * area * a / 420 * turn @ mass @ turn
    return k, m


def frame(seed: int, *, damper: bool = False) -> Frame:
    rng = np.random.default_rng(seed)
    places = np.array([[0, 0, 0], [1, 0, 0], [0.1, 0.2, 0.8], [1.1, -0.1, 0.9], [0.5, 0.9, 1.1], [0.7, 1.2, 1.3]])
    places += rng.uniform(-0.08, 0.08, places.shape)
    ends = [(0, 2), (1, 3), (2, 3), (2, 4), (3, 4)]
    members = []
    for i, j in ends:
        iy, iz = rng.uniform(2, 9, 2) * 1e-8
        members.append((i, j, rng.uniform(3, 9) * 1e-4, iy, iz, 0.6 * (iy + iz)))
    bodies = [
        (5, 6.0, rng.uniform(0.08, 0.12, 3), rng.uniform(-0.05, 0.05, 3)),
        (3, 2.0, np.full(3, 0.02), np.zeros(3)),
    ]
    springs = [(2, 5, 4e4, 0.0), (4, -1, 2e4, 0.0)]
    if damper:
        springs.append((3, 5, 1e3, 90.0))
    return Frame(places, members, bodies, springs, (4, 5))


class Dense:
    """A frame's equations of motion relative to its base, with every mode damped alike and dampers of their own."""

    def __init__(self, frame: Frame) -> None:
        self.frame, self.T = frame, frame.reduction()
        self.K_all, self.M_all, C = frame.matrices()
        self.K, self.M = (self.T.T @ A @ self.T for A in (self.K_all, self.M_all))
        lam, self.shapes = scipy.linalg.eigh(self.K, self.M)
        self.omega = np.sqrt(lam)
        self.damping = self.M @ self.shapes @ np.diag(2 * RATIO * self.omega) @ self.shapes.T @ self.M
        self.damping = self.damping + self.T.T @ C @ self.T

    def push(self, axis: int) -> np.ndarray:
        return -self.T.T @ (self.M_all @ self.frame.rigid(axis))

    def response(self, f: float, axis: int) -> np.ndarray:
        """Complex motion of all nodes under 1 m/s² of the base at a frequency, by one solve."""
        w = 2 * np.pi * f
        return self.T @ np.linalg.solve(self.K - w**2 * self.M + 1j * w * self.damping, self.push(axis).astype(complex))

    def read(self, u: np.ndarray, v: np.ndarray, a: np.ndarray, base: np.ndarray) -> dict[str, np.ndarray]:
        """Readings of motions of all nodes (dofs, ...) over a base acceleration (3, ...)."""
        told = {}
        for k in self.frame.free_points:
            for d, axis in enumerate("xyz"):
                told[f"u{k} {axis}"], told[f"v{k} {axis}"] = u[6 * k + d], v[6 * k + d]
                told[f"a{k} {axis}"] = a[6 * k + d] + base[d]
        return told

    def reactions(self, u: np.ndarray, force: np.ndarray) -> dict[str, float]:
        """Forces of the supports at rest; what acts on a held node goes straight to its support."""
        told = self.K_all @ u - force
        return {f"r{k} {axis}": float(told[6 * k + d]) for k in self.frame.held for d, axis in enumerate("xyz")}


def peaks(answer, column: str = "peaks") -> dict[str, float]:
    result = answer.result
    return {r.label: float(v) for r, v in zip(result.reduced.readings, getattr(result, column), strict=True)}


def close(found: dict[str, float], expected: dict[str, float], rel: float) -> None:
    largest: dict[str, float] = {}
    for label, value in expected.items():
        largest[label[0]] = max(largest.get(label[0], 0.0), abs(value))
    assert set(expected) <= set(found)
    for label, value in expected.items():
        assert abs(found[label]) == pytest.approx(abs(value), rel=rel, abs=rel * largest[label[0]] * 1e-2), label


@pytest.fixture(scope="module", params=[1, 2, 3])
def pair(request) -> tuple[Frame, Dense, hk.Modes]:
    one = frame(request.param)
    dense = Dense(one)
    return one, dense, one.assembly().modes(count=len(dense.omega))


def test_matrices_are_those_of_the_textbook(pair):
    _, dense, modes = pair
    system = modes.assembly.system
    np.testing.assert_allclose(system.stiffness.toarray(), dense.K_all, rtol=1e-9, atol=1e-9 * dense.K_all.max())
    np.testing.assert_allclose(system.mass.toarray(), dense.M_all, rtol=1e-9, atol=1e-12)
    assert system.free_size == len(dense.K)


def test_frequencies_shapes_and_participation(pair):
    one, dense, modes = pair
    np.testing.assert_allclose(modes.frequencies_hz, dense.omega / (2 * np.pi), rtol=1e-9)
    full = dense.T @ dense.shapes
    alike = (modes.set.shapes @ dense.M_all @ full) ** 2
    np.testing.assert_allclose(np.diag(alike), 1.0, rtol=1e-8)
    for axis in range(3):
        gamma = full.T @ dense.M_all @ one.rigid(axis)
        np.testing.assert_allclose(modes.set.effective_mass[:, axis], gamma**2, rtol=1e-7, atol=1e-9)
    free = [dense.push(d) @ np.linalg.solve(dense.M, dense.push(d)) for d in range(3)]
    np.testing.assert_allclose(modes.set.effective_mass[:, :3].sum(axis=0), free, rtol=1e-9)


def test_loads_at_rest(pair):
    one, dense, modes = pair
    a = modes.assembly.changed({"loads": {"own": {"gravity": "-z"}, "pull": {"at": "p4", "force": [300, -200, 50],
                                "moment": [10, 20, -5]}}, "events": {"rest": {"static": {"own": 1.0, "pull": 2.0}}}})  # fmt: skip
    force = -9.80665 * dense.M_all @ one.rigid(2)
    force[24:30] += 2.0 * np.array([300, -200, 50, 10, 20, -5])
    u = dense.T @ np.linalg.solve(dense.K, dense.T.T @ force)
    still = np.zeros_like(u)
    expected = {k: v for k, v in dense.read(u, still, still, np.zeros(3)).items() if k[0] == "u"}
    expected |= dense.reactions(u, force)
    close(peaks(a.respond("rest")), {k: float(v) for k, v in expected.items()}, 1e-8)


def test_a_sweep_is_the_direct_solution_at_every_frequency(pair):
    _, dense, modes = pair
    at = [7.0, 19.0, 33.3, 61.0, 240.0]
    result = modes.respond({"sweep": {"at": at}, "base": {"x": 1.0, "z": {"amplitude": 2.0, "phase": 0.7}}}).result
    np.testing.assert_allclose(result.frequency_hz, at, rtol=1e-12)
    drive = np.array([1.0, 0, 2.0 * np.exp(0.7j)])
    told = []
    for f in at:
        w, u = 2 * np.pi * f, dense.response(f, 0) + 2.0 * np.exp(0.7j) * dense.response(f, 2)
        told.append(dense.read(u, 1j * w * u, -(w**2) * u, drive))
    for number, reading in enumerate(result.reduced.readings):
        if reading.label in told[0]:
            expected = np.array([row[reading.label] for row in told])
            size = max(np.abs(list(row.values())).max() for row in told)
            np.testing.assert_allclose(result.values(number).ravel(), expected, rtol=1e-7, atol=1e-10 * size)


@pytest.mark.parametrize("damper", [False, True])
def test_a_pulse_is_the_matrix_exponential_of_the_whole(damper):
    """Histories on rows: x' = A x + B p(t) with p straight between rows, from step to step by one exponential."""
    one = frame(4, damper=damper)
    dense = Dense(one)
    modes = one.assembly().modes(count=len(dense.omega))
    table = {"time": [0.0, 0.004, 0.011, 0.02], "acceleration": [0.0, 30.0, -12.0, 0.0]}
    answer = modes.respond({"pulse": {"x": {"table": table}, "y": {"table": {**table, "acceleration": [0, 5, 5, 0]}}},
                            "ring down": 0.03})  # fmt: skip
    result = answer.result
    time, load = result.time, result.base[:, :3]
    n = len(dense.K)
    inverse = np.linalg.inv(dense.M)
    A = np.block([[np.zeros((n, n)), np.eye(n)], [-inverse @ dense.K, -inverse @ dense.damping]])
    B = np.vstack([np.zeros((n, 3)), inverse @ np.column_stack([dense.push(d) for d in range(3)])])
    known: dict[float, np.ndarray] = {}
    x, states = np.zeros(2 * n), [np.zeros(2 * n)]
    for k in range(len(time) - 1):
        h = round(float(time[k + 1] - time[k]), 12)
        if h > 0:
            if h not in known:
                whole = np.zeros((2 * n + 6, 2 * n + 6))
                whole[: 2 * n, : 2 * n], whole[: 2 * n, 2 * n : 2 * n + 3] = A, B
                whole[2 * n : 2 * n + 3, 2 * n + 3 :] = np.eye(3) / h
                known[h] = scipy.linalg.expm(whole * h)
            x = (known[h] @ np.concatenate([x, load[k], load[k + 1] - load[k]]))[: 2 * n]
        states.append(x)
    X = np.array(states).T
    u, v = dense.T @ X[:n], dense.T @ X[n:]
    a = dense.T @ (A @ X + B @ load.T)[n:]
    expected = dense.read(u, v, a, load.T)
    top: dict[str, float] = {}
    for label, history in expected.items():
        top[label[0]] = max(top.get(label[0], 0.0), float(np.abs(history).max()))
    for number, reading in enumerate(result.reduced.readings):
        if reading.label in expected:
            np.testing.assert_allclose(result.history(number), expected[reading.label], rtol=1e-6,
                                       atol=1e-6 * top[reading.label[0]], err_msg=reading.label)  # fmt: skip
            assert abs(result.peaks[number]) >= np.abs(expected[reading.label]).max() * (1 - 1e-6)


@pytest.mark.parametrize("rule", ["srss", "cqc", "absolute", "double sum"])
def test_spectra_combined_by_plain_sums(pair, rule):
    one, dense, modes = pair
    f, g = [1.0, 20.0, 5000.0], [2.0, 30.0, 6.0]
    event = {
        "spectrum": {"x": {"frequency": f, "acceleration": g}},
        "combine": rule,
        **({"duration": 5.0} if rule == "double sum" else {}),
    }
    answer = modes.respond(event)
    sa = np.exp(np.interp(np.log(dense.omega / (2 * np.pi)), np.log(f), np.log(g)))
    full = dense.T @ dense.shapes
    gamma = dense.shapes.T @ (-dense.push(0))
    z, n = RATIO, len(dense.omega)
    rho = np.eye(n)
    if rule == "absolute":
        rho = np.ones((n, n))
    if rule == "cqc":  # Der Kiureghian 1981, equal damping
        r = dense.omega[None] / dense.omega[:, None]
        rho = 8 * z * z * (1 + r) * r**1.5 / ((1 - r**2) ** 2 + 4 * z * z * r * (1 + r) ** 2)
    if rule == "double sum":  # Rosenblueth & Elorduy 1969, with the widening of a strong motion that ends
        wide = z + 2.0 / (5.0 * dense.omega)
        damped = dense.omega * np.sqrt(1 - z**2)
        rho = 1.0 / (
            1.0
            + (
                (damped[:, None] - damped[None])
                / (wide[:, None] * dense.omega[:, None] + wide[None] * dense.omega[None])
            )
            ** 2
        )
    expected = {}
    modal = full * (gamma * sa / dense.omega**2)
    for k in one.free_points:
        for d, axis in enumerate("xyz"):
            parts = modal[6 * k + d]
            parts = np.abs(parts) if rule in ("absolute", "double sum") else parts
            expected[f"u{k} {axis}"] = float(np.sqrt(max(parts @ rho @ parts, 0.0)))
    close(peaks(answer), expected, 1e-6)


@pytest.mark.parametrize("damper", [False, True])
def test_random_motion_is_the_quadrature_of_the_direct_solution(damper):
    one = frame(5, damper=damper)
    dense = Dense(one)
    modes = one.assembly().modes(count=len(dense.omega))
    rows, density = [5.0, 30.0, 300.0], [0.2, 2.0, 0.05]
    answer = modes.respond({"random": {"z": {"frequency": rows, "density": density}}})

    def square(f: float) -> np.ndarray:
        w = 2 * np.pi * f
        s = np.exp(np.interp(np.log(f), np.log(rows), np.log(density)))
        u = dense.response(f, 2)
        told = dense.read(u, 1j * w * u, -(w**2) * u, np.array([0, 0, 1.0]))
        return s * np.abs(np.array(list(told.values()))) ** 2

    # Gauss's rule between the rows and about every resonance, on the logarithm of the frequency
    own = dense.omega / (2 * np.pi)
    cuts = np.unique(
        np.concatenate([rows, *(own * (1 + k * RATIO) for k in (-8, -4, -2, -1, -0.5, 0, 0.5, 1, 2, 4, 8))])
    )
    cuts = cuts[(cuts >= rows[0]) & (cuts <= rows[-1])]
    x, w = np.polynomial.legendre.leggauss(12)
    total = 0.0
    for low, high in pairwise(cuts):
        half = 0.5 * np.log(high / low)
        for place, weight in zip(x, w, strict=True):
            f = np.sqrt(low * high) * np.exp(half * place)
            total = total + half * weight * f * square(float(f))
    labels = list(dense.read(*np.zeros((3, 36)), np.zeros(3)))
    close(peaks(answer, "rms"), dict(zip(labels, np.sqrt(total), strict=True)), 1e-6)
    # one reading by adaptive quadrature, which knows nothing of the resonances' places
    number = labels.index("a5 z")
    area = sum(
        quad(lambda f: square(f)[number], a, b, limit=400, epsrel=1e-7)[0]
        for a, b in zip(cuts[:-1:6], [*cuts[6::6], cuts[-1]], strict=False)
    )
    assert peaks(answer, "rms")["a5 z"] == pytest.approx(np.sqrt(area), rel=1e-5)


def test_energies_are_those_of_each_member_alone(pair):
    one, dense, modes = pair
    energies = modes.energies
    full = (dense.T @ dense.shapes).T
    rows = {name: k for k, name in enumerate(energies.members)}
    for n, (i, j, area, iy, iz, torsion) in enumerate(one.members):
        alone = Dense.__new__(Dense)
        alone.frame = Frame(one.places, [(i, j, area, iy, iz, torsion)])
        K, M, _ = alone.frame.matrices()
        strain = np.einsum("mi,ij,mj->m", full, K, full) / 2
        kinetic = dense.omega**2 * np.einsum("mi,ij,mj->m", full, M, full) / 2
        np.testing.assert_allclose(energies.strain[rows[f"b{n}"]], strain, rtol=1e-6, atol=1e-9 * dense.omega[-1] ** 2)
        np.testing.assert_allclose(
            energies.kinetic[rows[f"b{n}"]], kinetic, rtol=1e-6, atol=1e-9 * dense.omega[-1] ** 2
        )
    for n, (k, mass, inertia, offset) in enumerate(one.bodies):
        _, M, _ = Frame(one.places, [], [(k, mass, inertia, offset)]).matrices()
        kinetic = dense.omega**2 * np.einsum("mi,ij,mj->m", full, M, full) / 2
        np.testing.assert_allclose(
            energies.kinetic[rows[f"m{n}"]], kinetic, rtol=1e-6, atol=1e-9 * dense.omega[-1] ** 2
        )
    for n, spring in enumerate(one.springs):
        K, _, _ = Frame(one.places, [], [], [spring]).matrices()
        strain = np.einsum("mi,ij,mj->m", full, K, full) / 2
        np.testing.assert_allclose(energies.strain[rows[f"k{n}"]], strain, rtol=1e-6, atol=1e-9 * dense.omega[-1] ** 2)
    np.testing.assert_allclose(energies.strain.sum(axis=0), dense.omega**2 / 2, rtol=1e-8)
    # the levers: frequencies with every member a little stiffer, by the dense problem
    guidance = modes.table("sensitivities", change=0.001).set_index(["mode", "member"])
    for n, (i, j, *_) in enumerate(one.members[:2]):
        K, _, _ = Frame(one.places, [one.members[n]]).matrices()
        stiffer = np.sqrt(scipy.linalg.eigvalsh(dense.K + 0.001 * dense.T.T @ K @ dense.T, dense.M))
        for mode in (1, 2, 5):
            by_hand = 100 * (stiffer[mode - 1] / dense.omega[mode - 1] - 1)
            told = guidance.loc[(mode, f"b{n}")]
            assert float(told.filter(like="stiffness").iloc[0]) == pytest.approx(by_hand, rel=2e-3, abs=1e-6), (i, j)


def test_damped_modes_are_those_of_the_quadratic_problem():
    one = frame(6, damper=True)
    dense = Dense(one)
    modes = one.assembly().modes(count=len(dense.omega))
    n = len(dense.K)
    inverse = np.linalg.inv(dense.M)
    poles = scipy.linalg.eigvals(np.block([[np.zeros((n, n)), np.eye(n)],
                                           [-inverse @ dense.K, -inverse @ dense.damping]]))  # fmt: skip
    poles = poles[poles.imag > 1e-6 * np.abs(poles)]
    poles = poles[np.argsort(np.abs(poles))]
    found = modes.damped().poles
    found = found[np.argsort(np.abs(found))]
    np.testing.assert_allclose(np.abs(found), np.abs(poles), rtol=1e-8)
    np.testing.assert_allclose(-found.real / np.abs(found), -poles.real / np.abs(poles), rtol=1e-5)
    assert (-found.real / np.abs(found)).max() > 1.3 * RATIO  # the damper is felt


def test_assurance_of_two_frames_by_plain_sums():
    one, two = frame(7), frame(7)
    two.bodies = [(5, 7.5, one.bodies[0][2], one.bodies[0][3]), one.bodies[1]]
    first, second = one.assembly().modes(count=8), two.assembly().modes(count=8)
    compared = first.compare(second)
    mac = compared.result.mac
    a, b = first.set.shapes, second.set.shapes
    # each weighed with the mass that both have: near to one on the diagonal, and the pairs are the largest of rows
    M = one.assembly().system.mass.toarray()
    by_hand = (a @ M @ b.T) ** 2 / np.outer(np.einsum("mi,ij,mj->m", a, M, a), np.einsum("mi,ij,mj->m", b, M, b))
    np.testing.assert_allclose(np.argmax(mac, axis=1), np.argmax(by_hand, axis=1))
    np.testing.assert_allclose(mac, by_hand, atol=0.05)
    moved = second.frequencies_hz / first.frequencies_hz - 1
    assert (moved < 1e-9).all()  # more mass lowers every frequency (Rayleigh)
    table = compared.table()
    shift = next(c for c in table if "percent" in c and ("shift" in c or "change" in c))
    np.testing.assert_allclose(table[shift].to_numpy(float)[:5], 100 * moved[:5], rtol=1e-6)


# -- a few of the modes, and what they leave out ---------------------------------------------------------------


def few(seed: int, count: int) -> tuple[Frame, Dense, hk.Modes, np.ndarray]:
    """A frame with its lowest modes, and what these leave out of K⁻¹."""
    one = frame(seed)
    dense = Dense(one)
    kept = dense.shapes[:, :count]
    left = np.linalg.inv(dense.K) - kept @ np.diag(1 / dense.omega[:count] ** 2) @ kept.T
    return one, dense, one.assembly().modes(count=count), left


@pytest.mark.parametrize("over", ["srss", "absolute"])
@pytest.mark.parametrize("count", [3, 9])
def test_missing_mass_is_what_the_modes_leave_of_the_static_answer(over, count):
    one, dense, modes, left = few(8, count)
    f, g = [1.0, 20.0, 2000.0], [2.0, 30.0, 6.0]
    answer = modes.respond({"spectrum": {"y": {"frequency": f, "acceleration": g}}, "combine": "srss", "outside": "hold",
                            "over missing mass": over})  # fmt: skip
    own = dense.omega[:count] / (2 * np.pi)
    sa = np.exp(np.interp(np.log(own), np.log(f), np.log(g)))
    gamma = dense.shapes[:, :count].T @ dense.push(1)
    modal = dense.T @ dense.shapes[:, :count] * (gamma * sa / dense.omega[:count] ** 2)
    rest = dense.T @ left @ dense.push(1) * g[-1]
    expected = {}
    for k in one.free_points:
        for d, axis in enumerate("xyz"):
            parts, missing = np.sqrt((modal[6 * k + d] ** 2).sum()), abs(rest[6 * k + d])
            expected[f"u{k} {axis}"] = float(np.hypot(parts, missing) if over == "srss" else parts + missing)
    close(peaks(answer), expected, 1e-7)


@pytest.mark.parametrize("correct", [True, False])
def test_left_out_modes_answer_statically_in_time(correct):
    """Modal histories by SciPy's linear simulation, plus what the left-out modes answer to the load of the moment."""
    _, dense, modes, left = few(9, 6)
    table = {"time": [0.0, 0.006, 0.02, 0.03], "acceleration": [0.0, 25.0, -10.0, 0.0]}
    result = modes.respond({"pulse": {"z": {"table": table}}, "ring down": 0.05, "static correction": correct}).result
    time, load = result.time, result.base[:, 2]
    keep = np.concatenate([[True], np.diff(time) > 0])
    even = np.arange(time[0], time[-1], 1e-4)
    drive = np.interp(even, time[keep], load[keep])
    u = np.zeros((len(dense.T), len(even)))
    for k in range(6):
        w = dense.omega[k]
        gain = float(dense.shapes[:, k] @ dense.push(2))
        q = lsim(([gain], [1, 2 * RATIO * w, w * w]), drive, even - even[0])[1]
        u += np.outer(dense.T @ dense.shapes[:, k], q)
    if correct:
        u += np.outer(dense.T @ left @ dense.push(2), drive)
    for number, reading in enumerate(result.reduced.readings):
        if reading.label[0] == "u" and reading.component in "xyz":
            k = int(reading.label[1])
            mine = u[6 * k + "xyz".index(reading.component)]
            told = np.interp(even, time[keep], result.history(number)[keep])
            np.testing.assert_allclose(told, mine, atol=2e-3 * np.abs(u).max())


def test_the_whole_model_in_steps_is_newmarks_loop():
    one = frame(10, damper=True)
    dense = Dense(one)
    gauges = {f"r{k}": {"reaction": f"at {k}", "portion": None} for k in one.held}  # told as a whole here
    modes = one.assembly().changed({"gauges": gauges}).modes(count=len(dense.omega))
    step = 2e-4
    result = modes.respond({"pulse": {"x": {"half sine": {"peak": 40.0, "duration": 0.012}}}, "model": "full",
                            "method": "average acceleration", "step": step, "ring down": 0.01}).result  # fmt: skip
    time, load = result.time, result.base[:, 0]
    h = float(time[1] - time[0])
    K, M, C = dense.K, dense.M, dense.damping
    u, v = np.zeros(len(K)), np.zeros(len(K))
    a = np.linalg.solve(M, dense.push(0) * load[0])
    left = M + h / 2 * C + h * h / 4 * K
    rows = [u]
    for p in load[1:]:
        guess_u, guess_v = u + h * v + h * h / 4 * a, v + h / 2 * a
        a = np.linalg.solve(left, dense.push(0) * p - C @ guess_v - K @ guess_u)
        u, v = guess_u + h * h / 4 * a, guess_v + h / 2 * a
        rows.append(u)
    moved = dense.T @ np.array(rows).T
    for number, reading in enumerate(result.reduced.readings):
        if reading.label[0] == "u" and reading.component in "xyz":
            mine = moved[6 * int(reading.label[1]) + "xyz".index(reading.component)]
            np.testing.assert_allclose(result.history(number), mine, atol=1e-6 * np.abs(moved).max())


# -- forces within ---------------------------------------------------------------------------------------------


def test_forces_at_ends_of_members_and_in_springs(pair):
    """Cut off at its end a member is held by k u in its own axes; the signs are those of the part beyond the cut."""
    one, dense, modes = pair
    gauges = {}
    for n in range(len(one.members)):
        gauges |= {f"N{n}": {"beam force": f"b{n}", "end": "start"}, f"M{n}": {"beam moment": f"b{n}", "end": "end"}}
    gauges["s0"], gauges["s1"] = {"force": "k0"}, {"force": "k1"}
    a = modes.assembly.changed({"gauges": gauges, "loads": {"pull": {"at": "p3", "force": [80, 120, -200]}},
                                "events": {"rest": {"static": "pull"}}})  # fmt: skip
    force = np.zeros(len(dense.T))
    force[18:21] = [80, 120, -200]
    u = dense.T @ np.linalg.solve(dense.K, dense.T.T @ force)
    told = peaks(a.respond("rest"))
    for n, (i, j, area, iy, iz, torsion) in enumerate(one.members):
        x = one.places[j] - one.places[i]
        length = float(np.linalg.norm(x))
        z = one.up(i, j)
        axes = np.array([x / length, np.cross(z, x / length), z])
        k, _ = member(length, area, iy, iz, torsion)
        dofs = [*range(6 * i, 6 * i + 6), *range(6 * j, 6 * j + 6)]
        ends = k @ scipy.linalg.block_diag(*[axes] * 4) @ u[dofs]
        for component, value in zip(("N", "Vy", "Vz"), ends[:3], strict=True):
            assert abs(told[f"N{n} {component}"]) == pytest.approx(
                abs(value), rel=1e-7, abs=1e-7 * np.abs(ends[:3]).max()
            )
        for component, value in zip(("T", "My", "Mz"), ends[9:], strict=True):
            assert abs(told[f"M{n} {component}"]) == pytest.approx(
                abs(value), rel=1e-7, abs=1e-7 * np.abs(ends[9:]).max()
            )
    i, j, stiffness, _ = one.springs[0]
    d = (one.places[j] - one.places[i]) / np.linalg.norm(one.places[j] - one.places[i])
    stretch = d @ (u[6 * j : 6 * j + 3] - u[6 * i : 6 * i + 3])
    labels = [label for label in told if label.startswith("s0")]
    assert max(abs(told[label]) for label in labels) == pytest.approx(abs(stiffness * stretch), rel=1e-7)
    labels = [label for label in told if label.startswith("s1")]
    assert max(abs(told[label]) for label in labels) == pytest.approx(abs(one.springs[1][2] * u[24]), rel=1e-7)


# -- supports that move by themselves --------------------------------------------------------------------------


def test_groups_of_supports_that_move_by_themselves():
    """Support 1 alone is pushed along z: the frame follows it at rest, and swings about that, by one exponential."""
    one = frame(11)
    dense = Dense(one)
    modes = one.assembly().modes(count=len(dense.omega))
    pulse = {"z": {"table": {"time": [0.0, 0.005, 0.015, 0.02], "acceleration": [0.0, 40.0, -40.0, 0.0]}}}
    result = modes.respond(
        {"support pulses": {"right": {"supports": ["at 1"], "pulse": pulse}}, "ring down": 0.03}
    ).result
    moved = np.zeros(len(dense.T))
    moved[6 + 2] = 1.0
    follow = moved - dense.T @ np.linalg.solve(dense.K, dense.T.T @ (dense.K_all @ moved))
    push = -dense.T.T @ (dense.M_all @ follow)
    time = result.time
    column = result.pulse.names.index(next(n for n in result.pulse.names if n.startswith("right")))
    load = result.base[:, column]
    n = len(dense.K)
    inverse = np.linalg.inv(dense.M)
    A = np.block([[np.zeros((n, n)), np.eye(n)], [-inverse @ dense.K, -inverse @ dense.damping]])
    whole = np.zeros((2 * n + 2, 2 * n + 2))
    whole[: 2 * n, : 2 * n], whole[n : 2 * n, 2 * n] = A, inverse @ push
    x, place, speed, rows, known = np.zeros(2 * n), 0.0, 0.0, [np.zeros(len(dense.T))], {}
    for k in range(len(time) - 1):
        h = round(float(time[k + 1] - time[k]), 12)
        if h > 0:
            if h not in known:
                step = whole.copy()
                step[2 * n, 2 * n + 1] = 1 / h
                known[h] = scipy.linalg.expm(step * h)
            x = (known[h] @ np.concatenate([x, [load[k], load[k + 1] - load[k]]]))[: 2 * n]
            place += h * speed + h * h * (2 * load[k] + load[k + 1]) / 6
            speed += h * (load[k] + load[k + 1]) / 2
        rows.append(dense.T @ x[:n] + follow * place)
    u = np.array(rows).T
    for number, reading in enumerate(result.reduced.readings):
        if reading.label[0] == "u" and reading.component in "xyz":
            mine = u[6 * int(reading.label[1]) + "xyz".index(reading.component)]
            np.testing.assert_allclose(result.history(number), mine, atol=1e-6 * np.abs(u).max(), err_msg=reading.label)


# -- forces over frequency and in time -------------------------------------------------------------------------

PULL = np.zeros(36)
PULL[18:24] = [300, -200, 50, 10, 20, -5]


def pulled(one: Frame, dense: Dense, **events) -> hk.Modes:
    change = {"loads": {"pull": {"at": "p3", "force": PULL[18:21].tolist(), "moment": PULL[21:24].tolist()}},
              "events": {"rest": {"static": "pull"}, **events}}  # fmt: skip
    return one.assembly().changed(change).modes(count=len(dense.omega))


@pytest.mark.parametrize("damper", [False, True])
def test_forces_and_rotors_over_frequency_are_the_direct_solution(damper):
    """A force with amplitude and phase; a mass out of balance that turns about y: its force is two at right angles."""
    one = frame(13, damper=damper)
    dense = Dense(one)
    at = [9.0, 24.0, 80.0, 150.0]
    modes = pulled(one, dense, shaken={"sweep": {"at": at}, "loads": {"pull": {"amplitude": 0.7, "phase": 0.4}}},
                   turned={"sweep": {"at": at}, "unbalance": {"rotor": {"at": "p3", "axis": "y", "amount": 0.02}}})  # fmt: skip
    turning = np.zeros(36, dtype=complex)
    turning[18 + 2], turning[18] = 1.0, -1j  # z first, x a quarter turn later: z to x about y
    for event, force in (("shaken", lambda w: 0.7 * np.exp(0.4j) * PULL), ("turned", lambda w: 0.02 * w**2 * turning)):
        result = modes.respond(event).result
        told = []
        for f in at:
            w = 2 * np.pi * f
            left = dense.K - w**2 * dense.M + 1j * w * dense.damping
            u = dense.T @ np.linalg.solve(left, dense.T.T @ force(w))
            told.append(dense.read(u, 1j * w * u, -(w**2) * u, np.zeros(3)))
        for number, reading in enumerate(result.reduced.readings):
            if reading.label in told[0] and reading.label[0] == "u":
                mine = np.array([row[reading.label] for row in told])
                size = max(abs(v) for row in told for k, v in row.items() if k[0] == "u")
                np.testing.assert_allclose(
                    np.abs(result.values(number).ravel()), np.abs(mine), rtol=1e-7, atol=1e-9 * size
                )
                turned = np.angle(result.values(number).ravel() / mine)
                if event == "shaken":
                    np.testing.assert_allclose(turned, 0.0, atol=1e-6)


def test_resonances_are_the_maxima_of_the_direct_solution():
    """Peak frequencies, peaks and half-power bandwidths by a fine search over direct solutions."""
    one = frame(14)
    dense = Dense(one)
    modes = one.assembly().modes(count=len(dense.omega))
    low, high = 0.7 * dense.omega[0] / (2 * np.pi), 1.3 * dense.omega[0] / (2 * np.pi)
    answer = modes.respond({"sweep": [low, high], "base": {"x": 1.0}})
    label = "u5 x"
    number = [r.label for r in answer.result.reduced.readings].index(label)

    def size(f: float) -> float:
        return abs(dense.response(f, 0)[30])

    grid = np.linspace(low, high, 4001)
    values = np.array([size(f) for f in grid])
    best = grid[values.argmax()]
    fine = np.linspace(best - 2 * (grid[1] - grid[0]), best + 2 * (grid[1] - grid[0]), 401)
    sizes = np.array([size(f) for f in fine])
    assert answer.result.peaks[number] == pytest.approx(sizes.max(), rel=1e-6)
    assert answer.result.peak_frequencies[number] == pytest.approx(fine[sizes.argmax()], abs=2 * (fine[1] - fine[0]))
    table = answer.table("resonances", "u5")
    row = table[(table["component"] == "y") & (table["kind"] == "peak")].iloc[0]
    values = np.array([abs(dense.response(f, 0)[31]) for f in grid])
    assert row["frequency_hz"] == pytest.approx(grid[values.argmax()], abs=grid[1] - grid[0])
    assert row["peak"] == pytest.approx(1e3 * values.max(), rel=1e-5)
    above = grid[values >= values.max() / np.sqrt(2)]
    assert low < above[0]
    assert above[-1] < high
    assert row["bandwidth_hz"] == pytest.approx(above[-1] - above[0], rel=1e-2)
    step = grid[1] - grid[0]
    assert list(row[["half_power_low_hz", "half_power_high_hz"]]) == pytest.approx([above[0], above[-1]], abs=step)
    assert row["amplification"] == pytest.approx(row["frequency_hz"] / row["bandwidth_hz"], rel=1e-6)
    along = np.array([size(f) for f in grid])
    dip = table[(table["component"] == "x") & (table["kind"] == "anti-resonance")].iloc[0]
    window = np.abs(grid - dip["frequency_hz"]) < 0.2
    assert dip["peak"] == pytest.approx(1e3 * along[window].min(), rel=1e-4)
    end = table[(table["component"] == "x") & (table["kind"] == "end of the sweep")].iloc[0]
    assert end["peak"] == pytest.approx(1e3 * along[-1], rel=1e-6)


@pytest.mark.parametrize("kind", ["signal", "let go", "start from"])
def test_forces_in_time_from_rest_that_stays_or_is_let_go(kind):
    one = frame(15, damper=True)
    dense = Dense(one)
    shape = {"triangle": {"peak": 0.6, "duration": "12 ms"}}
    written = {"signal": {"loads": {"pull": shape}}, "let go": {"let go": "rest"},
               "start from": {"start from": "rest", "pulse": {"z": {"triangle": {"peak": 20.0, "duration": 0.012}}}}}[kind]  # fmt: skip
    result = pulled(one, dense, hit={**written, "ring down": 0.04}).respond("hit").result
    time, load, n = result.time, result.base, len(dense.K)
    columns = [c for c, name in enumerate(result.pulse.names) if c < load.shape[1]]
    push = np.zeros((n, len(columns)))
    for c, name in enumerate(result.pulse.names[: len(columns)]):
        push[:, c] = dense.push("xyz".index(name)) if name in "xyz" else dense.T.T @ PULL
    inverse = np.linalg.inv(dense.M)
    A = np.block([[np.zeros((n, n)), np.eye(n)], [-inverse @ dense.K, -inverse @ dense.damping]])
    whole = np.zeros((2 * n + 2 * len(columns),) * 2)
    whole[: 2 * n, : 2 * n] = A
    whole[n : 2 * n, 2 * n : 2 * n + len(columns)] = inverse @ push
    x = np.concatenate([np.linalg.solve(dense.K, push @ load[0]), np.zeros(n)])  # at rest under the loads before
    rows, known = [x[:n]], {}
    for k in range(len(time) - 1):
        h = round(float(time[k + 1] - time[k]), 12)
        if h > 0:
            if h not in known:
                step = whole.copy()
                step[2 * n : 2 * n + len(columns), 2 * n + len(columns) :] = np.eye(len(columns)) / h
                known[h] = scipy.linalg.expm(step * h)
            x = (known[h] @ np.concatenate([x, load[k], load[k + 1] - load[k]]))[: 2 * n]
        rows.append(x[:n])
    u = dense.T @ np.array(rows).T
    assert (np.abs(u[:, 0]).max() > 1e-6) == (kind != "signal")
    for number, reading in enumerate(result.reduced.readings):
        if reading.label[0] == "u" and reading.component in "xyz":
            mine = u[6 * int(reading.label[1]) + "xyz".index(reading.component)]
            np.testing.assert_allclose(result.history(number), mine, atol=1e-6 * np.abs(u).max(), err_msg=reading.label)


@pytest.mark.parametrize("seed", [16, 17])
def test_peaks_in_time_are_those_of_the_curve_between_all_rows(seed):
    """Every cell of every history looked at in sixteen places: nothing higher than what was told, nor told too high."""
    one = frame(seed)
    modes = one.assembly().modes(count=5)
    rng = np.random.default_rng(seed)
    time = np.cumsum(rng.uniform(0.0005, 0.004, 12))
    table = {"time": time.tolist(), "acceleration": [0.0, *rng.uniform(-40, 40, 10).tolist(), 0.0]}
    result = modes.respond({"pulse": {"x": {"table": table}, "z": {"half sine": {"peak": 9.0, "duration": 0.004}}},
                            "ring down": 0.02}).result  # fmt: skip
    rows = np.flatnonzero(np.diff(result.time) > 0)
    share = np.linspace(0.0, 1.0, 16)
    cells = np.repeat(rows, len(share))
    tau = (np.diff(result.time)[rows][:, None] * share).ravel()
    for number, reading in list(enumerate(result.reduced.readings))[::3]:
        columns = np.broadcast_to(np.array(reading.at(0)), (len(cells), reading.width))
        values = reading.form.value(result.reader.between(cells, tau, columns))
        top, low = float(values.max()), float(values.min())
        size = max(abs(top), abs(low), 1e-300)
        assert result.highest[number] >= top - 1e-9 * size, reading.label
        assert result.highest[number] <= top + 1e-3 * size, reading.label
        if reading.form.signed:
            assert result.lowest[number] <= low + 1e-9 * size, reading.label
            assert result.lowest[number] >= low - 1e-3 * size, reading.label
        assert abs(result.peaks[number]) == pytest.approx(max(abs(result.lowest[number]), abs(result.highest[number])))


def test_scatter_to_first_order_is_the_derivative_of_the_dense_problem():
    """df/dE and df/dm by φᵀ dK φ and φᵀ dM φ; deviations add by their squares, since the inputs know nothing of each other."""
    one = frame(19)
    dense = Dense(one)
    a = one.assembly()
    scatter = a.scatter({"materials/m/E": "normal 200 GPa +- 4 %", "masses/m0/mass": "normal 6 kg +- 10 %"}, count=6)
    table = scatter.table().iloc[:6]
    body, (k, mass, _, offset) = np.zeros((6, 6)), one.bodies[0]
    S = cross(offset)
    body[:3, :3], body[:3, 3:], body[3:, :3], body[3:, 3:] = np.eye(3), -S, S, -S @ S
    dM = np.zeros_like(dense.M_all)
    dM[6 * k : 6 * k + 6, 6 * k : 6 * k + 6] = body
    stiff = Frame(one.places, one.members)
    springless = stiff.matrices()[0]
    torsion = Frame(one.places, [(i, j, 0.0, 0.0, 0.0, t) for i, j, *_, t in one.members]).matrices()[0]
    full = (dense.T @ dense.shapes)[:, :6]
    by_modulus = np.einsum("im,ij,jm->m", full, springless - torsion, full) / E_  # G is given by itself
    by_mass = -(dense.omega[:6] ** 2) * np.einsum("im,ij,jm->m", full, dM, full)
    effects = np.array([by_modulus * 0.04 * E_, by_mass * 0.1 * mass]) / (8 * np.pi**2 * dense.omega[:6] / (2 * np.pi))
    np.testing.assert_allclose(table["deviation"], np.sqrt((effects**2).sum(axis=0)), rtol=2e-3)
    np.testing.assert_allclose(table["as_written"], dense.omega[:6] / (2 * np.pi), rtol=1e-9)


# -- groups of supports over frequency ---------------------------------------------------------------------------

LEVELS = {"west": (30.0, 0.0), "east": (20.0, 0.9)}  # m/s², rad


def chain(loss: float, dashpot: float, ratio: float) -> hk.Assembly:
    """Two masses between two walls, a dashpot and a loss in the first spring."""
    a = hk.Assembly("chain")
    for k in range(4):
        a.point(f"p{k}", [k, 0, 0])
    a.mass("m1", at="p1", mass=2.0).mass("m2", at="p2", mass=1.0)
    for k, stiffness in enumerate((3e3, 2e3, 5e3)):
        a.spring(f"k{k}", between=[f"p{k}", f"p{k + 1}"], stiffness=stiffness, damping=dashpot if k == 0 else 0.0)
    a.support("rails", at=["p1", "p2"], hold=["y", "z"])
    a.support("west", at="p0", hold="all").support("east", at="p3", hold="all")
    for n in (1, 2):
        a.gauge(f"u{n}", displacement=f"p{n}", axis="x").gauge(f"a{n}", acceleration=f"p{n}", axis="x")
    a.gauge("v1", velocity="p1", axis="x").gauge("f", force="k0").gauge("c", damper_force="k0")
    a.gauge("t", total_force="k0").gauge("r", reaction="west", axis="x").gauge("e", reaction="east", axis="x")
    a.gauge("between", displacement="p2", relative_to="p1", axis="x")
    a.damping({"loss factor": {"k0": loss}} if loss else ratio)
    return a


def chain_by_hand(f: np.ndarray, loss: float, dashpot: float, ratio: float) -> dict[str, np.ndarray]:
    """Complex amplitudes of all gauges per m/s² of the two walls, (frequencies, walls), from the equations in space."""
    K = np.array([[3e3, -3e3, 0, 0], [-3e3, 5e3, -2e3, 0], [0, -2e3, 7e3, -5e3], [0, 0, -5e3, 5e3]])
    one = np.array([[1.0, -1], [-1, 1]])
    M = np.diag([2.0, 1.0])
    w2, phi = scipy.linalg.eigh(K[1:3, 1:3], M)
    modal = M @ phi @ np.diag(2 * (0.0 if loss else ratio) * np.sqrt(w2)) @ phi.T @ M
    follow = -np.linalg.solve(K[1:3, 1:3], K[1:3][:, [0, 3]])
    found: dict[str, list[np.ndarray]] = {}
    for w in 2 * np.pi * f:
        whole = K.astype(complex)
        whole[:2, :2] += (1j * loss * 3e3 + 1j * w * dashpot) * one
        walls = -np.eye(2) / w**2
        inner = whole[1:3, 1:3] + 1j * w * modal - w**2 * M
        u = np.linalg.solve(inner, (1j * w * modal @ follow - whole[1:3][:, [0, 3]]) @ walls)
        every = np.vstack([walls[0], u, walls[1]])
        stretch = every[1] - every[0]
        force = whole @ every
        passed = 1j * w * modal @ (u - follow @ walls)
        row = {"u1": u[0], "u2": u[1], "a1": -(w**2) * u[0], "a2": -(w**2) * u[1], "v1": 1j * w * u[0],
               "f": 3e3 * stretch, "c": (1j * loss * 3e3 + 1j * w * dashpot) * stretch, "between": u[1] - u[0],
               "t": (3e3 * (1 + 1j * loss) + 1j * w * dashpot) * stretch,
               "r": force[0] - follow[:, 0] @ passed, "e": force[3] - follow[:, 1] @ passed}  # fmt: skip
        for name, value in row.items():
            found.setdefault(name, []).append(value)
    return {name: np.array(rows) for name, rows in found.items()}


@pytest.mark.parametrize(("loss", "dashpot", "ratio"), [(0.0, 0.0, 0.04), (0.0, 12.0, 0.03), (0.2, 0.0, 0.0),
                                                        (0.1, 9.0, 0.0)])  # fmt: skip
def test_groups_of_supports_swing_and_shake_at_random(loss, dashpot, ratio):
    """Walls that move differently: every gauge is the solution of the equations in space, its mean square their
    quadrature; the whole model agrees."""
    modes = chain(loss, dashpot, ratio).modes()
    at = np.array([1.5, 4.0, 6.2, 11.0, 16.0])
    groups = {w: {"supports": [w], "base": {"x": {"amplitude": f"{size} m/s^2", "phase": turn}}}
              for w, (size, turn) in LEVELS.items()}  # fmt: skip
    answer = modes.respond({"sweep": {"at": at.tolist()}, "support swings": groups, "full model at": at.tolist()})
    result = answer.result
    swing = np.array([size * np.exp(1j * turn) for size, turn in LEVELS.values()])
    exact = chain_by_hand(at, loss, dashpot, ratio)
    for number, reading in enumerate(result.reduced.readings):
        mine = exact[reading.gauge] @ swing
        told = result.values(number)[:, 0]
        sign = np.sign(np.real(told[0] * np.conj(mine[0])))  # of reactions and forces by their convention
        np.testing.assert_allclose(sign * told, mine, atol=1e-9 * np.abs(mine).max(), err_msg=reading.label)
        np.testing.assert_allclose(result.full.full[:, number], np.abs(mine), rtol=1e-8, err_msg=reading.label)
    one = answer.table("transfer", "a1", to="west x")
    np.testing.assert_allclose(one["a1 x amplitude"], np.abs(exact["a1"][:, 0]), rtol=1e-9)
    assert "supports west x" in answer.lines[0]

    level = {"west": 4.0, "east": 9.0}
    groups = {w: {"supports": [w], "random": {"x": {"frequency": [2, 30], "density": [f"{s} (m/s^2)^2/Hz"] * 2}}}
              for w, s in level.items()}  # fmt: skip
    together = {"between": ["west x", "east x"], "coherence": 0.5, "phase": 0.6}
    told = modes.respond({"support densities": groups, "coherence": [together]})
    x, weight = np.polynomial.legendre.leggauss(120)
    spans = list(pairwise([2, 5, 6.5, 7, 7.6, 8.5, 11, 13, 13.5, 13.65, 13.75, 13.9, 14.5, 17, 30]))
    f = np.concatenate([lo + (hi - lo) * (x + 1) / 2 for lo, hi in spans])
    df = np.concatenate([(hi - lo) / 2 * weight for lo, hi in spans])
    cross = np.sqrt(0.5) * 6.0 * np.exp(0.6j)
    S = np.array([[4.0, cross], [np.conj(cross), 9.0]])
    exact = chain_by_hand(f, loss, dashpot, ratio)
    for number, reading in enumerate(told.result.reduced.readings):
        H = exact[reading.gauge]
        square = np.einsum("fi,ij,fj->f", H, S, H.conj()).real @ df
        assert told.result.rms[number] == pytest.approx(np.sqrt(square), rel=1e-9), reading.label
    by_point = told.table("points").set_index("point")
    names = [r.gauge for r in told.result.reduced.readings]
    assert by_point.loc["p1", "x_rms_mm"] == pytest.approx(1e3 * told.result.rms[names.index("u1")], rel=1e-9)
    assert "supports west x" in told.lines[0]
