"""Sine sweeps against closed forms, dense solutions by hand, continuous beams, the time integration and the full model.

Tolerances: 1e-9 where both sides are exact up to rounding; others say which error they cover.
"""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import brentq, minimize_scalar

import holokine as hk
from conftest import chain, chain_matrices, straight_beam
from holokine.describe.events import Harmonic
from holokine.excite.harmonic import build_swing
from holokine.respond.curves import Sampled, half_power, refined
from holokine.respond.sweep import NEARLY, NEARLY_RATE, over_cycle, reached

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


def values(answer: hk.Answer, gauge: str, which: int = 0) -> np.ndarray:
    """Complex amplitude of a gauge over the sweep."""
    return answer.result.values(answer.rows_of(gauge)[which])[:, 0]


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
    peaks = answer.table("peaks").set_index("gauge")
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
    ratio = answer.table("transfer", "goes", to="x")
    transmissibility = (k * (1 + 1j * eta) + 1j * w * c) / (k * (1 + 1j * eta) + 1j * w * c - m * w**2)
    np.testing.assert_allclose(ratio["goes x amplitude"], np.abs(transmissibility), rtol=1e-9)
    np.testing.assert_allclose(ratio["goes x phase (deg)"], np.degrees(np.angle(transmissibility)), atol=1e-7)


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
            a.add(name, key, entry)
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
    there = answer.table("transfer", "second", to="low")["second x amplitude (m per N)"]
    back = answer.table("transfer", "first", to="high")["first x amplitude (m per N)"]
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
        np.testing.assert_allclose(y, expected, atol=1e-6 * np.abs(expected).max())


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
        assert answer.table("whole_model")["difference_percent_of_peak"].abs().max() < 2e-3


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


# -- readings of several components, whole fields ---------------------------------------------------------------


@pytest.fixture(scope="module")
def shaken() -> tuple[hk.Modes, hk.Answer]:
    """A crooked bracket of beams, a shell and a block, shaken along x and y out of phase, with a rotor and weight."""
    a = hk.Assembly("bracket").material("steel", E=205e9, nu=0.29, density=7840).section("bar", rod={"diameter": 0.02})
    a.point("root", [0, 0, 0]).point("knee", [0.4, 0, 0]).point("tip", [0.4, 0.3, 0.1])
    a.part(
        "arm", beam={"through": ["root", "knee", "tip"], "section": "bar", "up": "z", "size": 0.05}, material="steel"
    )
    a.part("flag", plate={"corner": [0.4, 0.3, 0.1], "sides": [[0.2, 0, 0], [0, 0.1, 0.1]], "divisions": [4, 3],
                          "thickness": 0.003}, material="steel")  # fmt: skip
    a.part("block", box={"corner": [0.6, 0.3, 0.1], "sides": [[0.05, 0, 0], [0, 0.05, 0], [0, 0, 0.05]],
                         "divisions": [2, 2, 2]}, material="steel")  # fmt: skip
    a.link("hold", rigid="tip", to={"part": "flag", "box": [[0.39, 0.29, 0.09], [0.46, 0.36, 0.16]]})
    a.joint("bolt", between=[{"part": "flag", "nearest": [0.6, 0.3, 0.1], "count": 3},
                             {"part": "block", "plane": {"at": [0.6, 0.3, 0.1], "normal": "x"}}],
            stiffness=[5e5, 5e5, 5e5, 500, 500, 500], damping=[90, 90, 90, 0, 0, 0], loss_factor="10 %")  # fmt: skip
    a.support("wall", at="root", hold="all").damping("1 %").load("weight", gravity="-z")
    a.event("rest", static="weight")
    a.gauge("tip", acceleration="tip").gauge("sway", displacement="tip", relative_to="knee")
    a.gauge("arm", stress="arm").gauge("flag", stress="flag").gauge("lines", stress="flag", component="principal")
    a.gauge("block", stress="block").gauge("lines of block", stress="block", component="principal").gauge(
        "wall", reaction="wall"
    ).gauge("turn", reaction_moment="wall")
    a.gauge("hold", force="hold").gauge("root", beam_moment="arm", end="start").gauge("loss", damper_force="bolt")
    a.gauge("cut", cut_force="arm", plane={"at": [0.2, 0, 0], "normal": "x"}).gauge("goes", displacement="tip",
                                                                                     motion="absolute")  # fmt: skip
    a.event("shaken", sweep=[5, 300], base={"x": "1 g", "y": {"amplitude": "0.7 g", "phase": "70 deg"}},
            unbalance={"rotor": {"at": "tip", "axis": [1, 1, 0], "amount": "300 g mm"}}, beside="rest")  # fmt: skip
    modes = a.modes(16)
    return modes, modes.respond("shaken")


def test_largest_over_the_cycle_by_brute_force(shaken) -> None:
    """Magnitudes, equivalent and principal stress: the largest of 720 instants of the cycle, at the peak."""
    _, answer = shaken
    r = answer.result
    turns = np.exp(2j * np.pi * np.arange(720) / 720)
    for row, reading in enumerate(r.reduced.readings):
        motion = r.reader.motion(r.peak_frequencies[[row]])
        parts = r.reader.rows(motion, r.columns(row))[0]
        seen = np.abs(reading.form.value(np.real(parts * turns[:, None]))).max()
        assert r.swing[row] == pytest.approx(seen, rel=2e-5)  # 720 instants miss a top by (π/720)²/2
        assert r.swing[row] >= seen * (1 - 1e-6)
        assert r.swing[row] == pytest.approx(r.curve(row).max(), rel=2e-3)


def test_fields_are_largest_where_they_are(shaken) -> None:
    """The governing place of every field, principal stress of a shell and of a solid too, by working out all of it."""
    r = shaken[1].result
    for row, reading in enumerate(r.reduced.readings):
        if reading.count > 1:
            values_there = r.reader.rows(r.motion, reading.columns)
            size = over_cycle(reading, values_there.reshape(-1, reading.count, reading.width)).max(axis=0)
            assert size[r.governing[row]] == pytest.approx(size.max(), rel=1e-12)


def test_the_whole_model_agrees(shaken) -> None:
    """Every kind of reading, the damper's part of a bolt that loses too, from the whole model at six frequencies."""
    modes, answer = shaken
    more = modes.assembly.modes(60)
    f = [8.0, 21.0, 47.0, 90.0, 170.0, 260.0]
    event = answer.event.model_copy(update={"full_model_at": tuple(f)})
    check = more.respond(event).table("whole_model")
    # percent: 60 of some 380 modes; at 260 Hz what is left out of reactions is (260/4000)² of a left-out mode's share
    assert check["difference_percent_of_peak"].abs().max() < 0.05
    few = modes.respond(event).table("whole_model")["difference_percent_of_peak"].abs().max()
    assert few > check["difference_percent_of_peak"].abs().max()


def test_rest_and_vibration_together(shaken) -> None:
    """With the weight beside: the largest of both over the cycle, by many instants over all points of the sweep."""
    modes, answer = shaken
    r = answer.result
    rest = modes.assembly.respond("rest").result
    turns = np.exp(2j * np.pi * np.arange(360) / 360)
    for row, reading in enumerate(r.reduced.readings):
        seen = 0.0
        for place in range(reading.count):  # wherever both together are largest
            columns = np.array(reading.at(place))
            values_there = r.reader.rows(r.motion, columns)
            moved = r.steady_channels[columns] + np.real(values_there[:, None] * turns[:, None])
            seen = max(seen, float(np.abs(reading.form.value(moved)).max()))
        assert r.peaks[row] == pytest.approx(seen, rel=3e-3 if reading.count == 1 else 2e-4)
        if reading.count == 1 and np.isfinite(rest.peaks[row]):
            assert r.steady[row] == pytest.approx(rest.peaks[row], rel=1e-9, abs=1e-12)
    table = answer.table("peaks").dropna(subset=["largest_together"])
    assert (table["largest_together"] >= table["peak"] * (1 - 1e-9)).all()


def test_whole_fields_read_as_gauges_do(shaken) -> None:
    """Envelopes of points, section forces and stress against gauges; shapes at instants against complex amplitudes."""
    modes, answer = shaken
    r, system = answer.result, modes.set.system
    points = answer.table("points").set_index(["point", "axis"])
    label = [x.label for x in r.reduced.readings]
    for axis in "xyz":
        row = label.index(f"tip {axis}")
        assert points.loc[("tip", axis), "acceleration_g"] == pytest.approx(r.curve(row).max() / G, rel=1e-9)
        k = int(r.curve(row).argmax())
        assert points.loc[("tip", axis), "acceleration_at_hz"] == pytest.approx(r.frequency_hz[k], rel=1e-12)
    worst = answer.table("stress").set_index("part")
    for part in ("arm", "flag", "block"):
        row = next(i for i, x in enumerate(r.reduced.readings) if x.gauge == part)
        # of beams the gauge reads from balance, the field from elastic forces
        close = 5e-3 if part == "arm" else 1e-9
        assert worst.loc[part, "stress_mpa"] == pytest.approx(1e-6 * r.curve(row).max(), rel=close)
    nodal = answer.motion.stress()[1]
    assert nodal.max() == pytest.approx(1e6 * worst["stress_mpa"].max(), rel=1e-9)
    members = answer.table("members")
    root = next(i for i, x in enumerate(r.reduced.readings) if x.label == "root My")
    assert members["My_nm"].iloc[0] == pytest.approx(r.curve(root).max(), rel=0.02)  # elastic, not from balance
    shape = answer.deformed("47 Hz, 90 deg")
    u = answer.motion.amplitude(47.0)
    np.testing.assert_allclose(shape.displacement, -u.imag, atol=1e-12 * np.abs(u).max())
    sway = u.reshape(-1, 6)[system.node("tip", "")][:3] - u.reshape(-1, 6)[system.node("knee", "")][:3]
    read = r.reader.rows(r.reader.motion(np.array([47.0])), r.columns(label.index("sway x")))[0, 0]
    assert sway[0] == pytest.approx(read, rel=1e-9)
    far = answer.deformed("47 Hz")  # when the node that moves most is farthest out
    size = np.linalg.norm(far.nodes, axis=1).max()
    turns = [np.linalg.norm(answer.deformed("47 Hz", phase=p).nodes, axis=1).max() for p in np.linspace(0, np.pi, 90)]
    assert size == pytest.approx(max(turns), rel=1e-3)


def test_unbalance_is_two_forces_a_quarter_apart(shaken) -> None:
    """m r ω² turning about an axis, by forces of its own with phases; backwards it reads otherwise."""
    modes, _ = shaken
    a = modes.assembly.changed({"events": {
        "rotor": {"sweep": [20, 80],
                  "unbalance": {"r": {"at": "tip", "axis": "z", "amount": "2 g m", "phase": "20 deg"}}},
    }, "loads": {"one": {"at": "tip", "force": [1, 0, 0]}, "two": {"at": "tip", "force": [0, 1, 0]}}})  # fmt: skip
    first = a.modes(16).respond("rotor")
    f = first.result.frequency_hz
    size = 2e-3 * (2 * np.pi * f) ** 2
    loads = {n: {"table": {"frequency": f, "factor": size}, "phase": p, "interpolate": "linear"}
             for n, p in (("one", "20 deg"), ("two", "-70 deg"))}  # fmt: skip
    second = a.modes(16).respond({"sweep": {"at": f}, "loads": loads})
    for row in range(4):
        np.testing.assert_allclose(first.result.values(row), second.result.values(row), rtol=1e-8)
    back = {"r": {"at": "tip", "axis": "z", "amount": "2 g m", "phase": "20 deg", "turning": "backward"}}
    other = a.modes(16).respond({"sweep": {"at": f}, "unbalance": back})
    assert not np.allclose(np.abs(other.result.values(0)), np.abs(first.result.values(0)), rtol=1e-3)


def test_shares_of_modes_make_the_whole(shaken) -> None:
    _, answer = shaken
    table = answer.table("shares")
    np.testing.assert_allclose(table.iloc[:, 2:].sum().to_numpy(), 100.0, rtol=1e-9)
    top = answer.table("peaks").set_index(["gauge", "component"])
    words = top.loc[("tip", "x"), "mode_shares"]
    assert words.split(" ")[0].isdigit()


# -- what comes in and out ---------------------------------------------------------------------------------------


def test_points_follow_bands_lists_and_spacings() -> None:
    a, _ = one_mass(damping=9.0)
    a.band("fan", speed="540 rpm", harmonics=[1, 2, 6], margin="5 %")
    r = a.modes().respond({"sweep": {"band": "fan"}, "base": {"x": "1 g"}}).result
    assert len(r.starts) == 3
    assert not r.covers(np.array([12.0, 30.0])).any()
    assert r.covers(np.array([9.0, 18.5, 54.0])).all()
    assert r.sampled_error < 2e-3
    for sweep, count in (
        ({"range": [5, 20], "spacing": "linear", "points": 31}, 31),
        ({"range": [5, 20], "spacing": "logarithmic", "per octave": 10}, 21), ({"at": [9, 9.7, 11]}, 3),
    ):  # fmt: skip
        r = a.modes().respond({"sweep": sweep, "base": {"x": "1 g"}}).result
        assert len(r.frequency_hz) == count
        assert r.swing[0] >= r.curve(0).max()
    assert any("miss a peak" in f.text for f in r.findings)


@pytest.mark.parametrize(
    ("event", "words"),
    [
        ({"sweep": [20, 5], "base": {"x": "1 g"}}, "must rise"),
        ({"sweep": [0, 5], "base": {"x": "1 g"}}, "greater than 0"),
        ({"sweep": {"at": [5, 5]}, "base": {"x": "1 g"}}, "must rise"),
        ({"sweep": {"at": [-5, 5]}, "base": {"x": "1 mm"}}, "greater than 0"),
        ({"sweep": [5, 20]}, "nothing shakes"),
        ({"sweep": {"range": [5, 20], "points": 9}, "base": {"x": "1 g"}}, "no effect"),
        ({"sweep": {"range": [5, 20], "spacing": "linear"}, "base": {"x": "1 g"}}, "needs points"),
        ({"sweep": {"range": [5, 20], "spacing": "logarithmic"}, "base": {"x": "1 g"}}, "exactly one"),
        ({"sweep": {"band": "nix"}, "base": {"x": "1 g"}}, "nix"),
        ({"sweep": [5, 20], "base": {"x": {"phase": "9 deg"}}}, "exactly one"),
        ({"sweep": [5, 20], "base": {"x": "-1 g"}}, "180 deg"),
        ({"sweep": [5, 20], "base": {"q": "1 g"}}, "x"),
        ({"sweep": [5, 20], "base": {"x": "3 N"}}, "acceleration"),
        ({"sweep": [5, 20], "loads": {"push": "1 g"}}, "factor"),
        ({"sweep": [5, 20], "loads": {"shove": 1}}, "shove"),
        ({"sweep": [5, 20], "loads": {"moved": 1}}, "moves supports"),
        (
            {"sweep": [5, 20], "base": {"x": {"table": {"frequency": [6, 30], "acceleration": [1, 2]}}}},
            "does not cover",
        ),
        ({"sweep": [5, 20], "base": {"x": {"table": {"frequency": [6, 4], "acceleration": [1, 2]}}}}, "does not rise"),
        ({"sweep": [5, 20], "base": {"x": {"table": {"frequency": [4, 30], "acceleration": [0, 2]}}}}, "interpolate"),
        (
            {"sweep": [5, 20], "base": {"x": {"table": {"frequency": [4, 30], "factor": [1, 2]}}}},
            "factor is for loads",
        ),
        ({"sweep": [5, 20], "base": {"x": {"file": "none.csv"}}}, "none.csv"),
        ({"sweep": [5, 20], "base": {"x": "1 g"}, "pulse": {"x": {}}}, "exactly one"),
        ({"sweep": [5, 20], "base": {"x": "1 g"}, "combine": "srss"}, "belongs to"),
        ({"sweep": [5, 20], "base": {"x": "1 g"}, "beside": "shaken"}, "shaken"),
        ({"sweep": [5, 20], "unbalance": {"r": {"at": "p1", "axis": "z", "amount": "2 g m"}}}, None),
    ],
)
def test_bad_sweeps_are_refused_with_what_to_do(event, words) -> None:
    a, _ = one_mass(damping=9.0)
    a.load("push", at="p1", force=[1, 0, 0]).load("moved", supports="guide", move={"z": 1})
    a.event("shaken", sweep=[5, 20], base={"x": "1 g"})
    if words is None:
        assert a.modes().respond(event).result.swing.max() > 0
        return
    with pytest.raises(hk.HolokineError, match=words):
        a.modes().respond(event)


def test_a_mode_without_damping_is_refused_where_it_is_driven() -> None:
    a, _ = one_mass()
    a.load("push", at="p1", force=[1, 0, 0])
    for event in ({"sweep": [5, 20], "base": {"x": "1 g"}}, {"sweep": [5, 20], "loads": {"push": 1}}):
        with pytest.raises(hk.HolokineError, match="infinite"):
            a.modes().respond(event)
    assert np.isfinite(a.modes().respond({"sweep": [12, 20], "base": {"x": "1 g"}}).result.swing).all()
    assert a.modes().respond({"sweep": [5, 20], "base": {"y": "1 g"}}).result.swing[0] == 0.0


def test_amplitudes_by_choice_and_what_a_real_sweep_misses() -> None:
    a, _ = one_mass(damping=9.0)
    tables = {}
    for shown in ("peak", "rms", "peak to peak"):
        event = {"sweep": [5, 20], "base": {"x": "1 g"}, "amplitudes": shown, "octaves per minute": 40.0}
        answer = a.modes().respond(event)
        tables[shown] = answer.table("peaks")[shown.replace(" ", "_")].to_numpy()
        assert shown.replace(" ", "_") in answer.table("resonances").columns
    np.testing.assert_allclose(tables["rms"], tables["peak"] / np.sqrt(2), rtol=1e-12)
    np.testing.assert_allclose(tables["peak to peak"], 2 * tables["peak"], rtol=1e-12)
    shown = a.limit("moves", "1 m").modes().respond({"sweep": [5, 20], "base": {"x": "1 g"}, "amplitudes": "rms"})
    assert shown.table("limits")["peak"].iloc[0] == pytest.approx(
        tables["peak"][0], rel=1e-12
    )  # however they are shown
    assert "rms" in shown.screens()[0][1]
    fast = [f for f in answer.findings if "octaves per minute" in f.text]
    assert fast[0].level == "warning"
    width = answer.table("peaks")["bandwidth_hz"].iloc[0]
    rate = 40.0 * np.log(2) / 60 * 10 / width**2
    assert f"reaches {100 * reached(rate):.0f} %" in fast[0].text


def test_limits_figures_page_and_film(tmp_path, capsys) -> None:
    """As commands: limits decide the exit code, against vibration and rest together; pictures, page, film, tables."""
    from holokine.cli.main import run

    a, _ = one_mass(damping=9.0)
    a.load("lean", at="p1", force=[20, 0, 0]).event("rest", static="lean")
    a.event("test", sweep=[5, 20], base={"x": "1 g"}, beside="rest").limit("moves", "70 mm")
    path = a.save(tmp_path / "a.yaml")
    run(["respond", str(path), "test", "--json"])
    import json

    data = json.loads(capsys.readouterr().out)
    row = next(r for r in data["tables"]["test_limits"] if r["gauge"] == "moves")
    peak = next(r for r in data["tables"]["test_peaks"] if r["gauge"] == "moves")
    assert row["peak"] == pytest.approx(peak["peak"] + abs(peak["at_rest"]), rel=1e-9)
    a.changed({"limits": {"moves": "0.9 mm"}}).save(path)
    with pytest.raises(SystemExit) as stop:
        run(["respond", str(path), "test", "--out", str(tmp_path / "out"), "--at", "10 Hz, 30 deg", "--animate",
             "moves", "--draw", "size=320x200", "--draw", "seconds=0.5"])  # fmt: skip
    assert stop.value.code == 1
    made = {p.name for p in (tmp_path / "out").iterdir()}
    assert {"test_amplitudes.png", "test_circle.png", "test_curves.html", "test.gif", "test_curves.csv",
        "test_resonances.csv",
            "test_critical.csv", "test_shares.csv", "test.vtu", "test_at_10_hz__30_deg_points.csv"} <= made  # fmt: skip
    before = (tmp_path / "out" / "test_amplitudes.png").read_bytes()
    b = hk.Assembly.read(path).event("other", sweep=[4, 30], base={"x": "2 g"}).changed({"limits": {"moves": "9 m"}})
    b.event("drop", pulse={"x": {"half sine": {"peak": "1 g", "duration": 0.01}}}).save(path)
    run(["respond", str(path), "test", "--out", str(tmp_path / "out"), "--with", "other", "--linear", "both"])
    assert (tmp_path / "out" / "test_amplitudes.png").read_bytes() != before
    for wrong, words in ((["test", "--linear", "both"], "--out"), (["drop", "--linear", "both"], "--out"),
                         (["drop", "--with", "other", "--out", "x"], "belong to sine sweeps")):  # fmt: skip
        with pytest.raises(SystemExit):
            run(["respond", str(path), *wrong])
        assert words in capsys.readouterr().err
    page = (tmp_path / "out" / "test_curves.html").read_text(encoding="utf-8")
    assert '"sweep": true' in page
    assert '"phase"' in page
    with pytest.raises(SystemExit) as stop:
        run(["respond", str(path), "test", "--at", "99 Hz"])
    assert stop.value.code == 2
    assert "lies outside" in capsys.readouterr().err


def test_answer_helpers_refuse_by_name() -> None:
    a, _ = one_mass(damping=9.0)
    a.load("push", at="p1", force=[3, 0, 0]).load("weight", gravity="-z").gauge("all", displacement="p1")
    answer = a.modes().respond({"sweep": [5, 20], "base": {"x": "1 g"}, "loads": {"push": 1, "weight": 1}})
    f = answer.result.frequency_hz
    push = answer.table("transfer", "moves", to="push")
    assert push["moves x amplitude (m per N)"].iloc[0] == pytest.approx(
        abs(1 / (a.description.springs["k1"].stiffness + 9j * 2 * np.pi * f[0] - 3.0 * (2 * np.pi * f[0]) ** 2)),
        rel=1e-9,
    )
    for call, words in (
        (lambda: answer.table("transfer", "moves", to="q"), "no source"),
        (lambda: answer.table("transfer", "moves", to="weight"), "gravity"),
        (lambda: answer.table("curve", "nothing"), "no gauge"), (lambda: answer.table("whole_model"), "no table"),
        (lambda: answer.save("x.gif", window=("0 s", "1 s")), "no time window"),
        (lambda: answer.deformed("300 Hz"), "outside"),
    ):  # fmt: skip
        with pytest.raises(hk.HolokineError, match=words):
            call()
    assert answer.table("resonances", "moves")["kind"].tolist().count("peak") == 1
    assert answer.plot(others={"again": answer}, logarithmic=(False, False)).axes
    assert answer.plot("circle", gauge="moves", near="10 Hz").axes


def test_a_damper_to_the_ground_relieves_the_support() -> None:
    """Reactions by hand: the spring's force at its support alone, whatever a damper to the ground beside it takes."""
    m, k, c, eta = 3.0, 12e3, 150.0, 0.3
    a = hk.Assembly("beside").damping(0.0).point("p", [0.1, 0, 0]).mass("m", at="p", mass=m, inertia=[1, 1, 1])
    a.point("foot", [0, 0, 0]).spring("k", between=["foot", "p"], stiffness=k, axis="x", loss_factor=eta)
    a.spring("c", between=["p", "ground"], damping=c, axis="x").support("base", at="foot", hold="all")
    a.support("guide", at="p", hold=["y", "z", "rx", "ry", "rz"])
    a.gauge("base", reaction="base", axis="x").gauge("moves", displacement="p", axis="x")
    a.event("sweep", sweep=[3, 40], base={"x": "1 g"}, full_model_at=[5.0, 11.0, 33.0])
    answer = a.modes().respond("sweep")
    w = 2 * np.pi * answer.result.frequency_hz
    u = -m * G / (k * (1 + 1j * eta) + 1j * w * c - m * w**2)
    np.testing.assert_allclose(values(answer, "base"), -k * (1 + 1j * eta) * u, rtol=1e-9)
    assert answer.table("whole_model")["difference_percent_of_peak"].abs().max() < 1e-8


def test_cut_and_end_forces_under_loss_factors_of_their_own() -> None:
    """A lossy beam on a spring without loss: end and cut forces from the whole model, with i η K of each member."""
    steel = {"E": 206e9, "nu": 0.29, "density": 7830.0, "loss_factor": "8 %"}
    a = straight_beam(1.0, {"rectangle": {"width": 0.02, "height": 0.03}}, steel, start="all", divisions=12)
    a.spring("s", between=["b", "ground"], stiffness=2e4, axis="z").gauge("root", beam_moment="beam", end="start")
    a.gauge("cut", cut_force="beam", plane={"at": [0.55, 0, 0], "normal": "x"}).gauge("wall", reaction_moment="left")
    a.event("sweep", sweep=[5, 200], base={"z": "1 g"}, full_model_at=[20.0, 60.0, 150.0]).damping({"loss factor": 0.0})
    modes = a.modes(12)
    top = float(modes.respond("sweep").result.peak_frequencies[0])
    event = a.event_named("sweep").model_copy(update={"full_model_at": (20.0, top, 150.0)})
    answer = modes.respond(event)
    assert answer.result.reader.model.losses == {"beam": 0.08}
    # 12 of 66 modes: what is left out moves as at rest, (150/2900)² of its share
    assert answer.table("whole_model")["difference_percent_of_peak"].abs().max() < 0.05


# -- what must hold whatever the assembly ------------------------------------------------------------------------

several = st.lists(st.floats(0.5, 6.0), min_size=2, max_size=4)


def lossy_chain(masses: list[float], damper: float, losses: list[float]) -> hk.Assembly:
    """Masses on springs with loss factors, a damper across all of them, a load on the first and on the last."""
    a = hk.Assembly("chain").damping(0.01)
    before = "ground"
    for i, (m, eta) in enumerate(zip(masses, losses, strict=False), start=1):
        a.point(f"p{i}", [0.1 * i, 0, 0]).mass(f"m{i}", at=f"p{i}", mass=m, inertia=[1, 1, 1])
        a.spring(f"k{i}", between=[before, f"p{i}"], stiffness=9e3 + 3e3 * i, axis="x", loss_factor=eta)
        a.support(f"guide {i}", at=f"p{i}", hold=["y", "z", "rx", "ry", "rz"])
        a.gauge(f"u{i}", displacement=f"p{i}", axis="x").gauge(f"k{i}", total_force=f"k{i}")
        before = f"p{i}"
    a.spring("c", between=["p1", before], damping=damper, axis="x")
    return a.load("first", at="p1", force=[1, 0, 0]).load("last", at=before, force=[1, 0, 0])


@settings(max_examples=20, deadline=None)
@given(several, st.floats(0.0, 400.0), st.lists(st.floats(0.0, 0.4), min_size=4, max_size=4))
def test_reciprocity_balance_and_energy(masses: list[float], damper: float, losses: list[float]) -> None:
    """u_last by a force at the first equals u_first by one at the last; power put in is dissipated; scale is linear."""
    a = lossy_chain(masses, max(damper, 1e-3), losses)
    n, modes = len(masses), a.modes()
    sweep = {"at": [3.0, 7.5, 11.0, 19.0]}
    one = modes.respond({"sweep": sweep, "loads": {"first": 1}})
    other = modes.respond({"sweep": sweep, "loads": {"last": 1}})
    np.testing.assert_allclose(values(one, f"u{n}"), values(other, "u1"), rtol=1e-8)
    w = 2 * np.pi * one.result.frequency_hz
    put_in = np.real(np.conj(1j * w * values(one, "u1"))) / 2  # of a unit force, over a cycle
    assert (put_in > 0).all()
    phi = np.array([modes.shapes[:, 6 * modes.set.system.node(f"p{i + 1}", "")] for i in range(n)])
    u = np.array([values(one, f"u{i + 1}") for i in range(n)])
    q = phi.T @ np.diag(masses) @ u
    stretch = np.diff(np.vstack([np.zeros(len(w)), u]), axis=0)
    k = np.array([9e3 + 3e3 * (i + 1) for i in range(n)])[:, None]
    lost = (np.array(losses[:n])[:, None] * k * np.abs(stretch) ** 2).sum(axis=0) * w / 2
    lost += max(damper, 1e-3) * w**2 * np.abs(u[-1] - u[0]) ** 2 / 2
    lost += (0.02 * modes.set.omega[:, None] * w**2 * np.abs(q) ** 2).sum(axis=0) / 2
    np.testing.assert_allclose(put_in, lost, rtol=1e-7)
    five = modes.respond({"sweep": sweep, "loads": {"first": {"amplitude": 5, "phase": "40 deg"}}})
    np.testing.assert_allclose(values(five, "u1"), 5 * np.exp(1j * np.radians(40)) * values(one, "u1"), rtol=1e-10)


@settings(max_examples=15, deadline=None)
@given(st.floats(-180, 180), st.floats(-90, 90), st.floats(0, 360))
def test_rotation_of_axes_changes_nothing(yaw: float, pitch: float, phase: float) -> None:
    """A mass on three unlike springs askew, shaken along two axes: magnitudes are those of the assembly not turned."""
    cy, sy, cp, sp = *(f(np.radians(yaw)) for f in (np.cos, np.sin)), *(f(np.radians(pitch)) for f in (np.cos, np.sin))
    R = np.array([[cy, -sy, 0], [sy, cy, 0], [0, 0, 1]]) @ np.array([[cp, 0, sp], [0, 1, 0], [-sp, 0, cp]])
    found = []
    for turn in (np.eye(3), R):
        a = hk.Assembly("turned").damping(0.02).point("p", [0, 0, 0]).mass("m", at="p", mass=2.0, inertia=[1, 1, 1])
        a.support("guide", at="p", hold=["rx", "ry", "rz"])
        for i, k in enumerate((4e3, 9e3, 2e4)):
            a.spring(f"k{i}", between=["p", "ground"], stiffness=k, damping=3.0 * i, axis=turn[:, i].tolist())
        a.gauge("moves", displacement="p", axis="magnitude")
        drive = {f"f{i}": {"at": "p", "force": (turn @ v).tolist()} for i, v in enumerate(([1, 2, 0.5], [0, 1, -1.0]))}
        for name, load in drive.items():
            a.load(name, **load)
        loads = {"f0": 1, "f1": {"amplitude": 1, "phase": f"{phase} deg"}}
        found.append(a.modes().respond({"sweep": {"at": [6.0, 11.0, 17.0, 30.0]}, "loads": loads}).result.curve(0))
    np.testing.assert_allclose(found[1], found[0], rtol=1e-8)


def test_curves_between_their_points() -> None:
    """Peaks, bottoms and half-power points of a curve known in closed form, from points that lie wide apart."""
    poles = np.array([[10.0, 0.02], [14.0, 0.01], [31.0, 0.05]])
    weights = np.array([1.0, -0.6, 0.8])

    def size(f, which=None):
        terms = [g / (p**2 - f**2 + 2j * z * p * f) for g, (p, z) in zip(weights, poles, strict=True)]
        return np.abs(sum(terms)) ** 2

    f = np.unique(np.concatenate([np.geomspace(5, 50, 60), 10 + 0.3 * np.arange(-3, 4), 14 + 0.2 * np.arange(-3, 4)]))
    sampled = Sampled(f, size, np.zeros(1, dtype=np.int64))
    tops, bottoms = sampled.turns(size(f), 1.0), sampled.turns(size(f), -1.0)
    fine = np.linspace(5, 50, 2_000_001)
    exact = size(fine)
    inner = (exact[1:-1] > exact[:-2]) & (exact[1:-1] > exact[2:])
    lows = (exact[1:-1] < exact[:-2]) & (exact[1:-1] < exact[2:])
    none = np.zeros(len(tops), dtype=np.int64)
    place, top = refined(sampled, tops, none, 1.0)
    inside = ~sampled.edges()[tops]
    np.testing.assert_allclose(place[inside], fine[1:-1][inner], rtol=1e-5)
    np.testing.assert_allclose(top[inside], exact[1:-1][inner], rtol=2e-8)  # the fine grid misses (δ/ζf)²
    bottom, least = refined(sampled, bottoms, np.zeros(len(bottoms), dtype=np.int64), -1.0)
    np.testing.assert_allclose(bottom, fine[1:-1][lows], rtol=1e-5)
    np.testing.assert_allclose(least, exact[1:-1][lows], rtol=1e-6)
    low, high = half_power(sampled, size(f)[:, None], place, top, tops, none)
    for a, b, t in zip(low[inside], high[inside], top[inside], strict=True):
        for end in (a, b):
            assert np.isnan(end) or size(end) == pytest.approx(t / 2, rel=1e-9)
    assert np.isfinite(low[inside]).sum() >= 2


@pytest.mark.parametrize("interpolate", ["log-log", "linear"])
def test_tables_over_frequency(tmp_path, interpolate: str) -> None:
    """Between rows, beyond the ends, from files, scaled and turned."""
    (tmp_path / "swing.csv").write_text("frequency_hz,velocity_mm_s\n5,10\n20,40\n80,20\n")
    folder = hk.Assembly("x").document.folder.__class__(tmp_path)
    rows = Harmonic(file="swing.csv", scale=2.0, phase=0.3, interpolate=interpolate, outside="hold")
    swing = build_swing(rows, "base", folder=folder)
    f = np.array([2.0, 5.0, 10.0, 20.0, 40.0, 90.0])
    middle = {"log-log": (20.0, np.sqrt(800.0)), "linear": (20.0, 40 - 20 / 3)}[interpolate]
    speed = 2e-3 * np.array([10.0, 10.0, middle[0], 40.0, middle[1], 20.0])
    np.testing.assert_allclose(swing.at(f), speed * np.exp(0.3j) * 2j * np.pi * f, rtol=1e-12)
    zero = build_swing(rows.model_copy(update={"outside": "zero"}), "base", folder=folder)
    assert (zero.at(f)[[0, -1]] == 0).all()
    with pytest.raises(hk.HolokineError, match="does not cover"):
        build_swing(rows.model_copy(update={"outside": "error"}), "base", folder=folder).at(f)
    with pytest.raises(hk.HolokineError, match="expected a column of factor"):
        build_swing(rows, "load", folder=folder)
    for text, words in (("time_s,velocity_mm_s\n1,2\n2,3\n", "a column of frequency"),
                        ("frequency_hz,velocity_mm_s\n5,10\n4,9\n", "rise"),
                        ("frequency_hz,factor\n5,1\n9,0\n", "column"),
                        ("frequency_hz,velocity_mm_s\n5,10\n8,-9\n", "at least 0")):  # fmt: skip
        (tmp_path / "swing.csv").write_text(text)
        with pytest.raises(hk.HolokineError, match=words):
            build_swing(rows, "base", folder=folder)


@pytest.mark.parametrize("damping", ["modes", "table", "composite"])
def test_every_kind_of_damping_is_taken(damping: str) -> None:
    """Ratios by mode, by table and composite: amplification of three masses against the modal sum by hand."""
    given = {"modes": [0.01, 0.03, 0.05], "table": {"table": [["5 Hz", "1 %"], ["60 Hz", "8 %"]]},
             "composite": {"composite": {"k2": "9 %", "default": "2 %"}}}[damping]  # fmt: skip
    a = chain([4.0, 1.5, 2.5], [9e4, 2.5e4, 4e4], given)
    a.gauge("last", displacement="p3", axis="x").load("push", at="p1", force=[1, 0, 0])
    modes = a.modes()
    answer = modes.respond({"sweep": [4, 80], "loads": {"push": 1}})
    w = 2 * np.pi * answer.result.frequency_hz[:, None]
    first, last = (modes.shapes[:, 6 * modes.set.system.node(p, "")] for p in ("p1", "p3"))
    terms = first * last / (modes.set.omega**2 - w**2 + 2j * modes.damping * modes.set.omega * w)
    np.testing.assert_allclose(values(answer, "last"), terms.sum(axis=1), rtol=1e-9)
    assert len(set(np.round(modes.damping, 6))) == 3


def test_events_share_what_dampers_relieve_and_another_damping_makes_it_again(monkeypatch) -> None:
    from holokine.respond import steady

    made: list[int] = []
    whole = steady.at_rest_under

    def counted(bench, shapes, matrix):
        made.append(len(shapes))
        return whole(bench, shapes, matrix)

    def described() -> hk.Assembly:
        section, metal = {"rectangle": {"width": 0.03, "height": 0.01}}, {"E": 7e10, "nu": 0.3, "density": 2700}
        a = straight_beam(1.0, section, metal, start="all").gauge("root", reaction="left")
        a.spring("damper", between=["b", "ground"], damping=8.0, axis="z")
        a.event("up", base={"z": "1 g"}, sweep=[5, 80]).event("side", base={"y": "1 g"}, sweep=[5, 80])
        for name, axis in (("hit", "z"), ("push", "y")):
            a.event(name, pulse={axis: {"half sine": {"peak": "2 g", "duration": "8 ms"}}})
        return a

    monkeypatch.setattr(steady, "at_rest_under", counted)
    a = described()
    modes = a.modes(4)
    first = {name: modes.respond(name).table("peaks") for name in ("up", "side", "hit", "push")}
    assert len(made) == 2  # once for all sweeps (with static shapes), once for all pulses
    assert len(modes.damped().table())
    assert len(made) == 2
    a.damping({"loss factor": 0.03})
    changed = {name: modes.respond(name).table("peaks") for name in ("up", "hit")}
    assert len(made) > 3
    assert changed["up"]["peak"].iloc[2] != pytest.approx(first["up"]["peak"].iloc[2], rel=1e-3)
    for before, damping in ((first, None), (changed, {"loss factor": 0.03})):
        fresh = described()
        if damping:
            fresh.damping(damping)
        for name, table in before.items():
            again = fresh.modes(4).respond(name).table("peaks")
            np.testing.assert_allclose(again["peak"], table["peak"], rtol=1e-12)
