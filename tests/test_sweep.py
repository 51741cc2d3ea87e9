"""Sine sweeps against closed forms, dense solutions by hand, continuous beams, the time integration and the full model.

Tolerances: 1e-9 where both sides are exact up to rounding; others say which error they cover.
"""

from __future__ import annotations

import numpy as np
import pytest
from scipy.optimize import brentq, minimize_scalar

import holokine as hk
from conftest import chain, chain_matrices, straight_beam
from holokine.respond.sweep import NEARLY, NEARLY_RATE, reached

G = 9.80665


def one_mass(m: float = 3.0, f: float = 10.0, **spring) -> tuple[hk.Assembly, float]:
    """A mass on a spring to the frame along x, with gauges of its motion and of the spring."""
    k = m * (2 * np.pi * f) ** 2
    a = chain([m], [k], 0.0)
    a = hk.Assembly("one mass").damping(0.0).point("p1", [0.1, 0, 0]).mass("m1", at="p1", mass=m, inertia=[1, 1, 1])
    a.spring("k1", between=["ground", "p1"], stiffness=k, axis="x", **spring)
    a.support("guide", at="p1", hold=["y", "z", "rx", "ry", "rz"])
    a.gauge("moves", displacement="p1", axis="x").gauge("feels", acceleration="p1", axis="x")
    a.gauge("goes", displacement="p1", axis="x", motion="absolute").gauge("runs", velocity="p1", axis="x")
    a.gauge("spring", force="k1").gauge("damper", damper_force="k1").gauge("both", total_force="k1")
    return a, k


def values(answer: hk.SweepAnswer, gauge: str, which: int = 0) -> np.ndarray:
    """Complex amplitude of a gauge over the sweep."""
    return answer.result.values(answer._numbers(gauge)[which])[:, 0]


@pytest.mark.parametrize("kind", ["damper", "loss factor"])
def test_one_mass_against_closed_form(kind: str) -> None:
    """Relative motion, acceleration, spring and damper force, peak and half-power points of one mass."""
    m, f0, zeta = 3.0, 10.0, 0.04
    w0 = 2 * np.pi * f0
    c, eta = (2 * zeta * m * w0, 0.0) if kind == "damper" else (0.0, 0.08)
    a, k = one_mass(m, f0, damping=c, **({"loss_factor": eta} if eta else {}))
    a.event("test", sweep=["2 Hz", "50 Hz"], base={"x": {"amplitude": "0.5 g", "phase": "30 deg"}})
    answer = a.modes().respond("test")
    w = 2 * np.pi * answer.result.frequency_hz
    base = 0.5 * G * np.exp(1j * np.radians(30))

    def moves(w):
        return -m * base / (k * (1 + 1j * eta) + 1j * w * c - m * w**2)

    u = moves(w)
    for gauge, expected in {
        "moves": u, "feels": base - w**2 * u, "goes": u - base / w**2, "runs": 1j * w * u, "spring": -k * u,
        "damper": -1j * (w * c + eta * k) * u, "both": -(k + 1j * (w * c + eta * k)) * u,
    }.items():  # fmt: skip
        found = values(answer, gauge)
        sign = np.sign(np.real(np.vdot(expected, found)))  # of which end pulls which
        assert sign == 1 or gauge in ("spring", "damper", "both")
        np.testing.assert_allclose(found, sign * expected, rtol=1e-9, atol=1e-12 * np.abs(expected).max())
    peaks = answer.peaks().set_index("gauge")
    best = minimize_scalar(lambda x: -abs(moves(x)), bounds=(0.9 * w0, 1.1 * w0), method="bounded",
                           options={"xatol": 1e-12}).x  # fmt: skip
    top = abs(moves(best))
    assert peaks.loc["moves", "peak"] == pytest.approx(1e3 * top, rel=1e-10)
    assert peaks.loc["moves", "frequency_hz"] == pytest.approx(best / 2 / np.pi, rel=1e-6)
    low, high = (brentq(lambda x: abs(moves(x)) - top / np.sqrt(2), *r) for r in ((0.5 * w0, best), (best, 2 * w0)))
    assert peaks.loc["moves", "bandwidth_hz"] == pytest.approx((high - low) / 2 / np.pi, rel=1e-6)
    # the half-power bandwidth is 2ζ of the frequency, to the square of ζ
    assert peaks.loc["moves", "amplification"] == pytest.approx(1 / (2 * zeta), rel=3 * zeta**2)
    assert peaks.loc["moves", "static"] == pytest.approx(1e3 * m * 0.5 * G / k, rel=1e-10)
    ratio = answer.transfer("goes", to="x")
    transmissibility = (k * (1 + 1j * eta) + 1j * w * c) / (k * (1 + 1j * eta) + 1j * w * c - m * w**2)
    np.testing.assert_allclose(ratio["goes_x_amplitude"], np.abs(transmissibility), rtol=1e-9)
    np.testing.assert_allclose(ratio["goes_x_phase_deg"], np.degrees(np.angle(transmissibility)), atol=1e-7)


def test_base_motion_by_any_quantity() -> None:
    """The same motion of the base as acceleration, velocity, displacement and tables gives the same answer."""
    a, _ = one_mass(damping=20.0)
    f = np.geomspace(4.0, 40.0, 60)
    w = 2 * np.pi * f
    tables = {
        "acceleration": (np.full(60, 3.0), 0.0), "velocity": (3.0 / w, -np.pi / 2), "displacement": (3.0 / w**2, -np.pi)
    }  # fmt: skip
    found = []
    for quantity, (size, turn) in tables.items():
        table = {"frequency": f, quantity: size}
        a.event(quantity, sweep={"at": f}, base={"x": {"table": table, "phase": turn}})
        found.append(values(a.modes().respond(quantity), "feels"))
    np.testing.assert_allclose(found[1], found[0], rtol=1e-10)
    np.testing.assert_allclose(found[2], found[0], rtol=1e-10)
    a.event("steady travel", sweep=[5, 8], base={"x": "2 mm"})
    answer = a.modes().respond("steady travel")
    w = 2 * np.pi * answer.result.frequency_hz
    a.event("its acceleration", sweep={"at": answer.result.frequency_hz},
            base={"x": {"table": {"frequency": answer.result.frequency_hz, "acceleration": 2e-3 * w**2},
                        "phase": "180 deg"}})  # fmt: skip
    np.testing.assert_allclose(values(a.modes().respond("its acceleration"), "moves"), values(answer, "moves"),
                               rtol=1e-9)  # fmt: skip


def test_two_masses_with_dampers_losses_and_loads_against_elimination() -> None:
    """Springs with loss factors of their own, a damper across the upper one, two loads with phases: K(1+iη) by hand."""
    masses, stiff = [4.0, 1.5], [9e4, 2.5e4]
    eta, c2 = [0.03, 0.25], 40.0
    a = hk.Assembly("two masses").damping({"ratio": 0.01, "loss factor": {"k1": eta[0]}})
    b = chain(masses, stiff)
    for name in ("points", "masses", "supports"):
        for key, entry in getattr(b.description, name).items():
            a._add(name, key, entry)
    a.spring("k1", between=["ground", "p1"], stiffness=stiff[0], axis="x")
    a.spring("k2", between=["p1", "p2"], stiffness=stiff[1], axis="x", damping=c2, loss_factor=eta[1])
    a.load("low", at="p1", force=[1, 0, 0]).load("high", at="p2", force=[1, 0, 0])
    a.gauge("first", displacement="p1", axis="x").gauge("second", displacement="p2", axis="x")
    a.gauge("lost", damper_force="k2").gauge("held", reaction="guide 2")
    a.event("shake", sweep=[2, 60], loads={"low": {"amplitude": 30}, "high": {"amplitude": 20, "phase": "70 deg"}})
    modes = a.modes()
    answer = modes.respond("shake")
    f = answer.result.frequency_hz
    K, M = chain_matrices(masses, stiff)
    own = [np.array([[1.0, 0], [0, 0]]) * stiff[0], np.array([[1.0, -1], [-1, 1]]) * stiff[1]]
    phi = np.array([modes.shapes[:, 6 * modes.set.system.node(p, "")] for p in ("p1", "p2")])
    C = own[1] / stiff[1] * c2 + M @ phi @ np.diag(2 * 0.01 * modes.set.omega) @ phi.T @ M
    p = np.array([30.0, 20.0 * np.exp(1j * np.radians(70))])
    for k, w in enumerate(2 * np.pi * f):
        u = np.linalg.solve(K + 1j * (eta[0] * own[0] + eta[1] * own[1]) + 1j * w * C - w**2 * M, p)
        assert values(answer, "first")[k] == pytest.approx(u[0], rel=1e-9)
        assert values(answer, "second")[k] == pytest.approx(u[1], rel=1e-9)
        assert abs(values(answer, "lost")[k]) == pytest.approx(
            abs((w * c2 + eta[1] * stiff[1]) * (u[1] - u[0])), rel=1e-8
        )
    # reciprocity: what one place does at the other
    there = answer.transfer("second", to="low")["second_x_amplitude_m_per_N"]
    back = answer.transfer("first", to="high")["first_x_amplitude_m_per_N"]
    np.testing.assert_allclose(there, back, rtol=1e-10)


def test_steady_state_of_the_time_integration() -> None:
    """Long after the start a sine in time reads what the sweep says, to 1e-6, modes coupled by a damper."""
    a = chain([4.0, 1.5], [9e4, 2.5e4], 0.05)
    a.spring("damper", between=["p1", "p2"], damping=60.0, axis="x")
    a.gauge("second", displacement="p2", axis="x").gauge("feels", acceleration="p2", axis="x")
    f, cycles = 17.0, 120
    a.event("steady", sweep={"at": [f]}, base={"x": "1 g"})
    a.event("in time", pulse={"x": {"sine": {"peak": "1 g", "frequency": f, "cycles": cycles}}}, step=1 / f / 400)
    modes = a.modes()
    steady, time = modes.respond("steady"), modes.respond("in time")
    t = time.result.time
    last = (t > (cycles - 2) / f) & (t < cycles / f)
    for row, gauge in enumerate(("second", "feels")):
        y = time.result.history(row)[last]
        expected = np.imag(values(steady, gauge)[0] * np.exp(2j * np.pi * f * t[last]))  # a sine starts at zero
        # a base linear between 400 rows per cycle is low by (2π/400)²/12 = 2e-5 of it, the same at every instant
        fit = np.vdot(expected, y) / np.vdot(expected, expected)
        assert fit == pytest.approx(1.0, abs=3e-5)
        np.testing.assert_allclose(y / fit, expected, atol=1e-6 * np.abs(expected).max())


def _receptance(x: float, y: float, w: complex, length: float, EI: complex, mass: float) -> complex:
    """Receptance of a pinned-pinned Euler beam between x ≤ y, closed form (Bishop & Johnson)."""
    b = (mass * w**2 / EI) ** 0.25 * length
    x, y = sorted((x / length, y / length))
    scale = length**3 / (2 * EI * b**3)
    return scale * (
        np.sin(b * (1 - y)) * np.sin(b * x) / np.sin(b) - np.sinh(b * (1 - y)) * np.sinh(b * x) / np.sinh(b)
    )


def test_beam_with_complex_modulus_and_damper_along_the_span() -> None:
    """Transfer functions of a continuous pinned beam: E (1 + iη), and a damper to the ground at 0.3 L by receptances.

    Tolerance 2e-5 of the largest: forty Hermite elements ((kh)⁴/720 = 4e-7 of a frequency at the third mode, times the
    steepness 2/η of a resonance). Twelve modes are kept, with static shapes for the damper's push.
    """
    L, eta, c = 2.0, 0.02, 300.0
    section, material = {"rectangle": {"width": 0.03, "height": 0.008}}, {"E": 70e9, "nu": 0.3, "density": 2700.0}
    area, inertia = 0.03 * 0.008, 0.03 * 0.008**3 / 12
    for damper in (False, True):
        a = straight_beam(L, section, material, start=["x", "z"], end=["z"], suppress=["y", "rx", "rz"], divisions=40,
                          theory="euler")  # fmt: skip
        a = a.changed({"damping": {"loss factor": eta}})
        a.point("at", [0.3 * L, 0, 0]).point("read", [0.6 * L, 0, 0])
        a = _through(a, ["a", "at", "read", "b"])
        if damper:
            a.spring("d", between=["at", "ground"], damping=c, axis="z")
        a.load("push", at="at", force=[0, 0, 1]).gauge("moves", displacement="read", axis="z")
        a.event("sweep", sweep=[3, 60], loads={"push": 1.0}, full_model_at=[11.0, 37.0])
        answer = a.modes(12).respond("sweep")
        w = 2 * np.pi * answer.result.frequency_hz
        EI, mass = 70e9 * inertia * (1 + 1j * eta), 2700 * area
        H = _receptance(0.3 * L, 0.6 * L, w, L, EI, mass)
        if damper:
            H = H / (1 + 1j * w * c * _receptance(0.3 * L, 0.3 * L, w, L, EI, mass))
        found = values(answer, "moves")
        assert np.abs(found - H).max() < 2e-5 * np.abs(H).max()
        assert answer.full()["difference_percent_of_peak"].abs().max() < 2e-3


def _through(a: hk.Assembly, points: list[str]) -> hk.Assembly:
    return a.changed({"parts": {"beam": {"beam": {"through": points}}}})


def test_swept_resonance_by_integration() -> None:
    """How much of its peak a swept resonance reaches, from following an oscillator in time."""
    assert reached(NEARLY_RATE) == pytest.approx(NEARLY, abs=1e-9)
    f0, zeta = 20.0, 0.02
    width = 2 * zeta * f0
    for speed in (0.3, 3.0):  # bandwidths² per second
        rate = speed * width**2
        span = 60 * width if speed < 1 else 30 * width
        t = np.arange(0.0, span / rate, 1 / f0 / 200)
        phase = 2 * np.pi * ((f0 - span / 2) * t + rate * t**2 / 2)
        w = 2 * np.pi * f0
        step = t[1] - t[0]
        pole = -zeta * w + 1j * w * np.sqrt(1 - zeta**2)
        from scipy.signal import lfilter

        z = lfilter([step], [1.0, -np.exp(pole * step)], np.sin(phase))
        steady = 1 / (2 * zeta * w**2)
        top = np.abs(z.imag).max() / pole.imag
        # 1 %: one peak per cycle is caught only, the filter is of first order, and two lobes of the sweep are cut off
        assert top / steady == pytest.approx(reached(speed), rel=0.01)
