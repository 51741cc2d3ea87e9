"""Signals, direct integration, energy, and whole fields in time, against independent integration and closed forms."""

from __future__ import annotations

import json
import re
from itertools import pairwise

import numpy as np
import pytest
import scipy.linalg
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.integrate import solve_ivp

import holokine as hk
from conftest import chain, chain_matrices
from holokine.errors import EventError, HolokineError
from holokine.excite.pulse import build_pulse

M1, K1, Z1 = 2.0, 5e4, 0.04
W1 = np.sqrt(K1 / M1)


def single(damping: float = Z1) -> hk.Assembly:
    a = chain([M1], [K1], damping)
    a.gauge("u", displacement="p1", axis="x").gauge("a", acceleration="p1", axis="x").gauge("k", force="k1")
    return a.gauge("v", velocity="p1", axis="x", motion="absolute").gauge("w", displacement="p1", axis="x",
                                                                          motion="absolute")  # fmt: skip


def peaks(answer: hk.Answer) -> dict[str, float]:
    return {r.gauge: float(p) for r, p in zip(answer.result.reduced.readings, answer.result.peaks, strict=True)}


def integrated(base, edges: list[float]) -> tuple[float, float]:
    """Largest relative displacement and absolute acceleration of the single mass, by DOP853 between edges."""
    y, u, a = np.zeros(2), [], []
    for lo, hi in pairwise(edges):

        def slope(t, y, hi=hi):
            return [y[1], -base(min(t, hi - 1e-12)) - 2 * Z1 * W1 * y[1] - W1**2 * y[0]]

        run = solve_ivp(slope, (lo, hi), y, "DOP853", rtol=1e-12, atol=1e-16, t_eval=np.linspace(lo, hi, 40001))
        u.append(run.y[0])
        a.append(-2 * Z1 * W1 * run.y[1] - W1**2 * run.y[0])
        y = run.y[:, -1]
    return float(np.abs(np.concatenate(u)).max()), float(np.abs(np.concatenate(a)).max())


def hann(t, f, n, order):
    """sin(2πft) sin²(πft/n) and its derivatives, by the sum of three waves."""
    w, d = 2 * np.pi * f, 2 * np.pi * f / n
    waves = [(0.5, w), (-0.25, w + d), (-0.25, w - d)]
    return sum(c * k**order * np.sin(k * t + order * np.pi / 2) for c, k in waves)


IN_TIME = {
    "chirp": ({"chirp": {"peak": 4.0, "range": ["5 Hz", "60 Hz"], "duration": 0.4}},
              lambda t: 4 * np.sin(2 * np.pi * 5 * (np.exp(t * np.log(12) / 0.4) - 1) * 0.4 / np.log(12)) * (t < 0.4),
              [0, 0.4, 0.8]),
    "linear chirp, hann": (
        {"chirp": {"peak": 4.0, "range": [60, 5], "duration": 0.4, "sweep": "linear", "window": "hann", "start": 0.1}},
        lambda t: 4 * np.sin(2 * np.pi * (60 * (t - 0.1) - 55 / 0.8 * (t - 0.1) ** 2)) * (0.1 <= t < 0.5)
        * np.sin(np.pi * (t - 0.1) / 0.4) ** 2, [0, 0.1, 0.5, 0.9]),
    "step with a rise": ({"step": {"peak": 3.0, "rise": 0.05}},
                         lambda t: 3 * 0.5 * (1 - np.cos(np.pi * min(t / 0.05, 1))), [0, 0.05, 0.6]),
    "ramp, delayed": ({"ramp": {"peak": 3.0, "rise": 0.03}, "delay": "10 ms", "scale": -2},
                      lambda t: -6 * np.clip((t - 0.01) / 0.03, 0, 1), [0, 0.01, 0.04, 0.6]),
    "ramped sine": ({"sine": {"peak": 2.0, "frequency": 20, "cycles": 8, "window": "ramp", "ramp": 2}},
                    lambda t: 2 * np.sin(2 * np.pi * 20 * t) * np.interp(t, [0, 0.1, 0.3, 0.4], [0, 1, 1, 0]),
                    [0, 0.1, 0.3, 0.4, 0.8]),
    "velocity half-sine": ({"half sine": {"peak": "0.3 m/s", "duration": 0.02}},
                           lambda t: 0.3 * np.pi / 0.02 * np.cos(np.pi * t / 0.02) * (t < 0.02), [0, 0.02, 0.5]),
    "velocity trapezoid": ({"trapezoid": {"peak": "200 mm/s", "duration": 0.06, "rise": 0.01, "fall": 0.02}},
                           lambda t: 20.0 if t < 0.01 else 0.0 if t < 0.04 else -10.0 if t < 0.06 else 0.0,
                           [0, 0.01, 0.04, 0.06, 0.5]),
    "displacement versed sine": ({"versed sine": {"peak": "2 mm", "duration": 0.05}},
                                 lambda t: 1e-3 * (2 * np.pi / 0.05) ** 2 * np.cos(2 * np.pi * t / 0.05) * (t < 0.05),
                                 [0, 0.05, 0.5]),
    "displacement under a window": (
        {"sine": {"peak": "1 mm", "frequency": 30, "cycles": 6, "window": "hann"}},
        lambda t: 1e-3 * hann(t, 30, 6, 2) * (t < 0.2), [0, 0.2, 0.6]),
    "displacement step": ({"step": {"peak": "5 mm", "rise": 0.04}},
                          lambda t: 2.5e-3 * (np.pi / 0.04) ** 2 * np.cos(np.pi * t / 0.04) * (t < 0.04),
                          [0, 0.04, 0.5]),
}  # fmt: skip


@pytest.mark.parametrize("name", IN_TIME)
def test_signals_against_high_accuracy_integration(name):
    """1e-6 asked; a cycle is 2400 straight pieces, which leave (2π/2400)²/12 of it, 6e-7."""
    shape, base, edges = IN_TIME[name]
    pulse = build_pulse(chain([1.0], [1.0]).event("e", pulse={"x": shape}).description.events["e"].pulse)
    answer = single().modes().respond({"pulse": {"x": shape}, "ring down": edges[-1] - pulse.end})
    u, a = integrated(base, edges)
    found = peaks(answer)
    assert abs(found["u"]) == pytest.approx(u, rel=1e-6)
    assert abs(found["a"]) == pytest.approx(a, rel=1e-6)


def test_base_displacement_and_the_acceleration_of_the_same_motion():
    modes = single().modes()
    T, D = 0.05, 2e-3
    t = np.linspace(0, T, 20001)
    by_acceleration = {"table": {"time": t, "acceleration": D / 2 * (2 * np.pi / T) ** 2 * np.cos(2 * np.pi * t / T)}}
    moved = modes.respond({"pulse": {"x": {"versed sine": {"peak": "2 mm", "duration": T}}}, "ring down": 0.4})
    pushed = modes.respond({"pulse": {"x": by_acceleration}, "ring down": 0.4})
    for gauge, value in peaks(moved).items():
        assert value == pytest.approx(peaks(pushed)[gauge], rel=2e-6), gauge
    # absolute displacement minus relative displacement is the base, which comes back
    w, u = moved.table("history", "w"), moved.table("history", "u")
    base = 1e-3 * (w.iloc[:, -1] - u.iloc[:, -1])
    time = w["time_s"].to_numpy()
    true = np.where((time > 0) & (time < T), D / 2 * (1 - np.cos(2 * np.pi * time / T)), 0.0)
    assert np.abs(base - true).max() < 2e-6 * D
    # tables: a spline through the displacement, straight lines through the velocity, with what is known of the error
    coarse = np.linspace(0, T, 101)
    spline = {"table": {"time": coarse, "displacement": D / 2 * (1 - np.cos(2 * np.pi * coarse / T))}}
    answer = modes.respond({"pulse": {"x": spline}, "ring down": 0.4})
    assert peaks(answer)["u"] == pytest.approx(peaks(moved)["u"], rel=1e-4)
    note = next(f.text for f in answer.findings if "cubic spline" in f.text)
    stated = float(re.search(r"the error is about ([\d.e-]+) %", note).group(1)) / 100
    true_a = D / 2 * (2 * np.pi / T) ** 2 * np.cos(2 * np.pi * coarse / T)
    got = answer.result.pulse.acceleration[1:102, 0]
    assert 0.2 * stated < np.abs(got - true_a).max() / true_a[0] < 5 * stated
    speed = {"table": {"time": t, "velocity": D / 2 * 2 * np.pi / T * np.sin(2 * np.pi * t / T)}}
    answer = modes.respond({"pulse": {"x": speed}, "ring down": 0.4})
    assert peaks(answer)["u"] == pytest.approx(peaks(moved)["u"], rel=1e-5)
    assert any("constant between them" in f.text for f in answer.findings)


def test_where_the_base_ends_is_said_and_drawn(tmp_path):
    modes = single().modes()
    answer = modes.respond({"pulse": {"x": {"rectangle": {"peak": 3.0, "duration": 0.02}}}, "ring down": 0.1})
    texts = " ".join(f.text for f in answer.findings)
    assert "moves on after the pulse: x 0.06 m/s" in texts
    assert "displaced at the end of the pulse: x 0.6 mm" in texts
    stepped = modes.respond({"pulse": {"x": {"step": {"peak": "5 mm", "rise": 0.04}}}, "ring down": "1 %"})
    assert stepped.result.pulse.end_displacement[0] == pytest.approx(5e-3, rel=1e-6)
    assert not any("moves on" in f.text for f in stepped.findings)
    left = stepped.table("history", "u").iloc[-20:, -1].abs().max() / abs(1e3 * peaks(stepped)["u"])
    assert left < 0.02  # decayed to what was asked for
    for endless in ({"step": {"peak": 1.0}}, {"ramp": {"peak": 1.0, "rise": 0.1}}):
        warned = modes.respond({"pulse": {"x": endless}, "ring down": 0.1})
        assert any("grows without bound" in f.text for f in warned.findings)
    figure = stepped.plot("excitation")
    assert [ax.get_ylabel() for ax in figure.axes] == ["acceleration (g)", "velocity (m/s)", "displacement (mm)"]


def test_signals_that_cannot_be(tmp_path):
    modes = single().load("push", at="p1", force=[1, 0, 0]).modes()

    def refused(words, kind=HolokineError, **event):
        with pytest.raises(kind, match=words):
            modes.respond(event)

    half = {"duration": 0.01}
    refused("cannot jump, it would need an infinite velocity", pulse={"x": {"rectangle": {"peak": "1 mm", **half}}})
    refused("give the step a rise", pulse={"x": {"step": {"peak": "2 mm"}}})
    kink = {"x": {"half sine": {"peak": "2 mm", **half}}}
    refused("which direct integration has no step for", pulse=kink, method="average acceleration")
    refused("give the peak", pulse={"x": {"half sine": half}})
    refused("its peak has no unit", loads={"push": {"half sine": {"peak": "2 g", **half}}})
    refused("two different frequencies", pulse={"x": {"chirp": {"peak": 1, "range": [5, 5], "duration": 1}}})
    refused("more than 5,000", pulse={"x": {"chirp": {"peak": 1, "range": [900, 1100], "duration": 9}}})
    refused(
        "need 6 cycles", pulse={"x": {"sine": {"peak": 1, "frequency": 9, "cycles": 5, "window": "ramp", "ramp": 3}}}
    )
    refused("exactly one of", pulse={"x": {"table": {"time": [0, 1], "velocity": [0, 1], "displacement": [0, 1]}}})
    refused("five rows", pulse={"x": {"table": {"time": [0, 1, 2], "displacement": [0, 1, 0]}}})
    refused("time and factor", loads={"push": {"table": {"time": [0, 1], "acceleration": [0, 1]}}})
    refused("belongs to events in time", spectrum={"x": {"frequency": [1, 9], "acceleration": [1, 1]}}, let_go="x")
    refused("needs a method of direct integration", pulse={"x": {"rectangle": {"peak": 1, **half}}}, model="full")
    refused("between 0 and 100 %", pulse={"x": {"rectangle": {"peak": 1, **half}}}, ring_down="120 %")
    still = chain([1.0], [100.0], 0.0).gauge("u", displacement="p1").modes()
    with pytest.raises(EventError, match="never decays"):
        still.respond({"pulse": {"x": {"rectangle": {"peak": 1, **half}}}, "ring down": "5 %"})
    file = tmp_path / "logger.csv"
    file.write_text("Time [ms];deck left (g);note;lever_mm\n0;0;a;0\n1;0.5;b;1\n3;0;c;0\n", encoding="utf-8")
    shape = {"file": str(file), "column": "deck left (g)"}
    answer = modes.respond({"pulse": {"x": shape}, "ring down": 0.1})
    assert answer.result.pulse.peak[0] == pytest.approx(0.5 * 9.80665)
    assert answer.result.pulse.end == pytest.approx(3e-3)
    refused("there is no column", pulse={"x": {**shape, "column": "deck right (g)"}})
    refused("ends in no unit", pulse={"x": {**shape, "column": "note"}})


# -- dampers, direct integration ---------------------------------------------------------------------

MASSES, SPRINGS = [2.0, 1.5, 1.0], [6e4, 5e4, 3e4]


def damped(ratio: float = 0.01) -> tuple[hk.Assembly, np.ndarray, np.ndarray, np.ndarray]:
    """A chain with one strong damper between neighbours, and its matrices by hand."""
    a = chain(MASSES, SPRINGS, ratio)
    a.spring("damper", between=["p2", "p3"], damping=160.0, axis="x")
    a.gauge("u", displacement="p3", axis="x").gauge("k", force="k1").gauge("acc", acceleration="p2", axis="x")
    a.gauge("d", damper_force="damper").gauge("whole", total_force="damper")
    K, M = chain_matrices(MASSES, SPRINGS)
    values, X = scipy.linalg.eigh(K, M)
    C = M @ X @ np.diag(2 * ratio * np.sqrt(values)) @ X.T @ M
    C[1:, 1:] += 160.0 * np.array([[1, -1], [-1, 1]])
    return a, K, M, C


def test_dampers_that_couple_modes_are_solved_together():
    a, K, M, C = damped()
    shape = {"versed sine": {"peak": 8.0, "duration": 0.03}}
    answer = a.modes().respond({"pulse": {"x": shape}, "ring down": 0.6})
    assert any("dampers couple the modes: solved together" in f.text for f in answer.findings)

    def slope(t, y):
        base = 4.0 * (1 - np.cos(2 * np.pi * t / 0.03)) if t < 0.03 else 0.0
        return np.concatenate([y[3:], np.linalg.solve(M, -C @ y[3:] - K @ y[:3]) - base])

    runs = [solve_ivp(slope, span, np.zeros(6), "DOP853", rtol=1e-11, atol=1e-15, t_eval=np.linspace(*span, 6001))
            for span in [(0, 0.03)]]  # fmt: skip
    runs.append(solve_ivp(slope, (0.03, 0.63), runs[0].y[:, -1], "DOP853", rtol=1e-11, atol=1e-15,
                          t_eval=np.linspace(0.03, 0.63, 20001)))  # fmt: skip
    y = np.hstack([r.y for r in runs])
    force = 160.0 * (y[5] - y[4])
    expected = {"u": y[2], "k": 6e4 * y[0], "d": force}
    for gauge, history in expected.items():
        assert abs(peaks(answer)[gauge]) == pytest.approx(np.abs(history).max(), rel=3e-6), gauge
    # without the coupling it is another answer, which is why the choice is said
    apart = a.modes().respond({"pulse": {"x": shape}, "ring down": 0.6, "method": "modes"})
    assert abs(peaks(apart)["d"] / peaks(answer)["d"] - 1) > 0.02


def test_a_critical_damper_and_a_step_over_the_rise():
    """One mode at exactly critical damping has one pole twice; the exact answer, with and without dampers' coupling."""
    a = chain([1.0], [100.0], 0.0).spring("pot", between=["ground", "p1"], damping=20.0, axis="x")
    modes = a.gauge("u", displacement="p1", axis="x").modes()
    event = {"pulse": {"x": {"triangle": {"peak": 3.0, "duration": 0.2}}}, "ring down": 1.0}
    t = np.linspace(0, 1.2, 24001)
    base = np.interp(t, [0, 0.1, 0.2], [0, 3, 0], right=0)
    kernel = t * np.exp(-10 * t)  # impulse response
    u = -np.convolve(base, kernel)[: len(t)] * t[1]
    for method in ("modes", "coupled modes"):
        answer = modes.respond({**event, "method": method})
        assert peaks(answer)["u"] == pytest.approx(u[np.abs(u).argmax()], rel=2e-5), method
    rough = modes.respond({"pulse": {"x": {"rectangle": {"peak": 3.0, "duration": 0.2}}}, "step": 0.5, "ring down": 1.0,
                           "method": "average acceleration"})  # fmt: skip
    assert any("coarse for the highest mode" in f.text for f in rough.findings)
    quick = {"trapezoid": {"peak": 3.0, "duration": 0.2, "rise": 1e-3, "fall": 0.1}}
    over = modes.respond({"pulse": {"x": quick}, "step": 5e-3, "ring down": 0.3, "method": "average acceleration"})
    assert any("may pass over" in f.text and f.level == "warning" for f in over.findings)
    kept = modes.respond({"pulse": {"x": quick}, "step": 5e-3, "ring down": 0.3})
    assert any("rows of the pulse are kept" in f.text for f in kept.findings)


def test_answers_that_would_not_fit_are_refused(monkeypatch):
    import holokine.respond.transient as transient

    monkeypatch.setattr(transient, "available_memory", lambda: 50_000.0)
    with pytest.raises(EventError, match=r"rows take 0\.0 GB and 0\.0 GB are free; give a longer step"):
        single().modes().respond({"pulse": {"x": {"half sine": {"peak": 1, "duration": 0.01}}}, "ring down": 3})
    monkeypatch.undo()
    with pytest.raises(EventError, match="rows would be needed"):
        single().modes().respond({"pulse": {"x": {"half sine": {"peak": 1, "duration": 0.01}}}, "step": 1e-9})


@pytest.mark.parametrize("scheme", ["average acceleration", "generalised alpha"])
@pytest.mark.parametrize("model", ["reduced", "full"])
def test_direct_integration_converges_to_the_exact_answer_with_second_order(scheme, model):
    a, *_ = damped()
    a.gauge("left", reaction="guide 1").gauge("w", displacement="p3", axis="x", motion="absolute")
    modes = a.modes()
    event = {"pulse": {"x": {"versed sine": {"peak": 8.0, "duration": 0.03}}}, "ring down": 0.3}
    exact = peaks(modes.respond(event))
    errors = []
    for step in (8e-4, 4e-4, 2e-4):
        answer = modes.respond({**event, "method": scheme, "model": model, "step": step})
        found = peaks(answer)
        errors.append([abs(found[g] / exact[g] - 1) for g in ("u", "k", "d", "w")])
    errors = np.array(errors)
    order = np.log2(errors[0].max() / errors[2].max()) / 2
    assert 1.7 < order < 2.3
    assert errors[2].max() < 2e-3
    assert any(f"by {'average' if scheme[0] == 'a' else 'the generalised'}" in f.text for f in answer.findings)


def test_full_and_reduced_integration_are_the_same_steps(crate):
    """The whole crate against its modes: the kept modes move alike, the left-out ones answer besides."""
    event = {"pulse": {"z": {"half sine": {"peak": "3 g", "duration": "30 ms"}}}, "ring down": 0.05, "step": 5e-4,
             "method": "average acceleration"}  # fmt: skip
    modes = crate.modes(count=25)
    whole, kept = modes.respond({**event, "model": "full"}), modes.respond(event)
    exact = modes.respond({**event, "method": "modes"})
    rows = {(r.gauge, r.component): i for i, r in enumerate(whole.result.reduced.readings)}
    for key in (("transformer", "z"), ("fan", "z"), ("transformer feet", "z"), ("fan bushing", "z"), ("bolt 1", "z")):
        full, part, true = (answer.result.peaks[rows[key]] for answer in (whole, kept, exact))
        assert full == pytest.approx(true, rel=0.02), key
        assert part == pytest.approx(true, rel=0.02), key
    with pytest.raises(EventError, match="keeps the gauges only"):
        whole.table("stress")


@pytest.mark.parametrize("damping", [0.0, 0.05, {"rayleigh": [["5 Hz", "4 %"], ["30 Hz", "4 %"]]}])
def test_reactions_under_dampers_and_ratios_by_modes_and_by_the_whole_model(damping):
    """A damper to the ground relieves the support beside it; ratios pass on as elastic forces do: histories agree."""
    a = hk.Assembly("beside").damping(damping).point("foot", [0, 0, 0]).support("base", at="foot", hold="all")
    before = "foot"
    for i, m in enumerate((3.0, 2.0), start=1):
        a.point(f"p{i}", [0.1 * i, 0, 0]).mass(f"m{i}", at=f"p{i}", mass=m, inertia=[1, 1, 1])
        a.spring(f"k{i}", between=[before, f"p{i}"], stiffness=12e3, axis="x")
        a.support(f"guide {i}", at=f"p{i}", hold=["y", "z", "rx", "ry", "rz"])
        before = f"p{i}"
    a.spring("c", between=["p1", "ground"], damping=90.0, axis="x").gauge("base", reaction="base", axis="x")
    a.gauge("k1", force="k1").gauge("passed", reaction="base", axis="x", portion="damper")
    event = {"pulse": {"x": {"versed sine": {"peak": 8.0, "duration": 0.03}}}, "ring down": 0.2, "step": 1e-4}
    b = a.changed({"gauges": {"passed": None}})
    exact, whole = (
        a.modes().respond(event),
        b.modes().respond({**event, "method": "average acceleration", "model": "full"}),
    )
    same = [np.interp(whole.result.time, exact.result.time, exact.result.history(row)) for row in (0, 1)]
    for row, history in enumerate(same):
        size = np.abs(history).max()
        np.testing.assert_allclose(whole.result.history(row), history, atol=2e-3 * size)  # (2π f h)²/12 of 1e-4 s
    if damping == 0.0:  # the support feels the spring alone
        np.testing.assert_allclose(np.abs(same[0]), np.abs(same[1]), atol=1e-9 * np.abs(same[1]).max())
        assert np.abs(exact.result.history(2)).max() < 1e-9 * np.abs(same[0]).max()


def test_rayleigh_damping_in_the_full_model_is_that_of_the_modes():
    a = chain(MASSES, SPRINGS, {"rayleigh": [["10 Hz", "2 %"], ["60 Hz", "5 %"]]})
    a.gauge("u", displacement="p3", axis="x").gauge("k", force="k1")
    modes = a.modes()
    event = {"pulse": {"x": {"versed sine": {"peak": 8.0, "duration": 0.03}}}, "ring down": 0.2, "step": 1e-4}
    exact = peaks(modes.respond({**event, "method": "modes"}))
    found = peaks(modes.respond({**event, "method": "average acceleration", "model": "full"}))
    assert found["u"] == pytest.approx(exact["u"], rel=1e-4)
    assert found["k"] == pytest.approx(exact["k"], rel=1e-4)


# -- energy ------------------------------------------------------------------------------------------

shapes = st.sampled_from([
    {"half sine": {"peak": 9.0, "duration": 0.02}}, {"rectangle": {"peak": -4.0, "duration": 0.05}},
    {"sine": {"peak": 3.0, "frequency": 23.0, "cycles": 4}}, {"versed sine": {"peak": "3 mm", "duration": 0.07}},
])  # fmt: skip


@settings(max_examples=25, deadline=None)
@given(st.lists(st.floats(0.3, 5.0), min_size=2, max_size=4), st.floats(0.0, 0.4), shapes, st.booleans())
def test_input_work_is_kinetic_and_strain_and_dissipated_energy(masses, damping, shape, released):
    a = chain(masses, [2e4 + 1e4 * i for i in range(len(masses))], damping).gauge("u", displacement="p1")
    a.load("push", at="p1", force=[120, 0, 0]).event("rest", static="push")
    event = {"pulse": {"x": shape}, "ring down": 0.3, **({"let go": "rest"} if released else {})}
    e = a.modes().respond(event).table("energies")
    held = e["kinetic_j"] + e["strain_j"] - e["strain_j"].iloc[0] + e["dissipated_j"]
    scale = max(e["work_j"].abs().max(), e["strain_j"].max())
    assert (e["work_j"] - held).abs().max() < 1e-6 * scale
    assert (np.diff(e["dissipated_j"]) >= -1e-12 * scale).all()


# -- whole fields ------------------------------------------------------------------------------------


def test_envelopes_instants_and_histories_agree_with_gauges(crate, tmp_path):
    a = crate.changed({"gauges": {"fan moves": {"displacement": "fan"}, "bed end": {"displacement": "bed a1"}}})
    answer = a.modes().respond("kerb strike")
    table = answer.table("peaks").set_index(["gauge", "component"])
    points = answer.table("points").set_index(["point", "axis"])
    for gauge, point in (("fan moves", "fan"), ("bed end", "bed a1")):
        for axis in "xyz":
            lowest, highest = table.loc[(gauge, axis), ["lowest", "highest"]]
            span = max(highest, -lowest)
            assert points.loc[(point, axis), "highest_displacement_mm"] == pytest.approx(highest, abs=1e-4 * span)
            assert points.loc[(point, axis), "lowest_displacement_mm"] == pytest.approx(lowest, abs=1e-4 * span)
    for point, gauge in (("transformer", "transformer"), ("fan", "fan")):
        best = max(points.loc[(point, "z"), ["highest_acceleration_g", "lowest_acceleration_g"]].abs())
        assert best == pytest.approx(abs(table.loc[(gauge, "z"), "peak"]), rel=1e-4)
    when = table.loc[("fan moves", "z"), "time_ms"]
    shape = answer.deformed(f"{when} ms")
    moved = shape.table("points").set_index("point")
    assert moved.loc["fan", "z_mm"] == pytest.approx(table.loc[("fan moves", "z"), "peak"], rel=1e-6)
    near = answer.deformed(f"{when} ms", nearest=True)
    assert near.time in answer.result.time
    assert near.table("points").set_index("point").loc["fan", "z_mm"] == pytest.approx(
        moved.loc["fan", "z_mm"], rel=1e-2
    )
    worst = answer.table("stress").set_index("part")
    for part, gauge in (("deck", "deck stress"), ("heat sink", "heat sink stress")):
        assert worst.loc[part, "stress_mpa"] == pytest.approx(table.xs(gauge)["peak"].iloc[0], rel=2e-3)
    deck = answer.deformed(f"{worst.loc['deck', 'time_ms']} ms").table("stress").set_index("part")
    assert deck.loc["deck", "stress_mpa"] == pytest.approx(worst.loc["deck", "stress_mpa"], rel=1e-6)
    # the histories of all nodes: kept, refused, or written in blocks
    path = answer.save(tmp_path / "all.h5", every=40)
    import h5py

    with h5py.File(path) as file:
        node = a.system.mesh.points["fan"]
        own = 1e3 * file["displacement"][:, node, 2]
        gauge = answer.table("history", "fan moves", thin=40)["fan moves z (mm)"]
        np.testing.assert_allclose(own, gauge, atol=1e-9)
    with pytest.raises(EventError, match=r"takes \d+\.\d GB, more than 0\.0 GB: save it in blocks"):
        answer.motion.history(largest=1000)
    with pytest.raises(EventError, match="lies outside"):
        answer.deformed("9 s")
    assert answer.deformed("20 ms").picture(tmp_path / "d.png", colour="stress").stat().st_size > 20_000
    assert b"stress at 0.02 s (Pa)" in answer.save(tmp_path / "d.vtu", at=0.02).read_bytes()


def test_root_mean_square_and_static_ratio():
    modes = single(0.0).modes()
    # left at rest in the frame after a rectangle of one period: during it 1 - cos, mean square 3/2 of the static one
    period = 2 * np.pi / W1
    answer = modes.respond({"pulse": {"x": {"rectangle": {"peak": 5.0, "duration": period}}}, "ring down": period})
    row = answer.table("peaks").set_index("gauge").loc["u"]
    assert row["static"] == pytest.approx(1e3 * 5.0 / W1**2, rel=1e-9)
    assert row["ratio_to_static"] == pytest.approx(2.0, rel=1e-9)
    assert row["rms"] == pytest.approx(1e3 * 5.0 / W1**2 * np.sqrt(1.5 / 2), rel=1e-3)


def test_page_and_animation_of_an_answer(crate_modes, tmp_path):
    answer = crate_modes.respond("kerb strike")
    text = answer.save(tmp_path / "h.html").read_text(encoding="utf-8")
    data = json.loads(re.search(r"const D = (.*?), T = D\.t", text, re.DOTALL).group(1))
    series = {s["name"]: s for s in data["series"]}
    table = answer.table("peaks").set_index(["gauge", "component"])
    assert series["fan z"]["peak"] == pytest.approx(table.loc[("fan", "z"), "peak"])
    assert max(map(abs, series["base z"]["y"])) == pytest.approx(3.0)
    assert len(data["t"]) == len(series["fan z"]["y"]) < 20_000
    import imageio.v2 as imageio

    film = answer.save(tmp_path / "k.gif", gauge="fan", window=("0 s", "90 ms"), seconds=1.0, rate=6)
    frames = imageio.mimread(film)
    assert len(frames) == 6
    assert frames[0].shape[:2] == (800, 1280)
    strips = [f[560:].astype(float) for f in frames]
    assert np.abs(strips[0] - strips[-1]).max() > 50  # the marker has moved
    with pytest.raises(EventError, match="does not lie in the history"):
        answer.save(tmp_path / "no.gif", window=(0, 99))
    with pytest.raises(HolokineError, match="is saved as"):
        answer.save(tmp_path / "no.avi", seconds=0.5, rate=4)
    assert not (tmp_path / "no.avi").exists()


# -- load-dependent vectors --------------------------------------------------------------------------


def test_load_dependent_vectors_span_the_modes_and_hold_the_static_answer():
    a = chain([2.0, 1.5, 1.0, 0.7, 0.4], [6e4, 5e4, 3e4, 3e4, 2e4]).gauge("k", force="k1")
    a.gauge("u", displacement="p5", axis="x").load("push", at="p4", force=[10, 0, 0])
    event = {"pulse": {"x": {"half sine": {"peak": 5.0, "duration": 0.01}}}}
    modes, whole = a.modes(5), a.ritz(event, 5)
    np.testing.assert_allclose(whole.frequencies_hz, modes.frequencies_hz, rtol=1e-9)  # all of the space: the modes
    assert whole.respond(event).result.peaks == pytest.approx(modes.respond(event).result.peaks, rel=1e-7)
    few = a.ritz(event, 2)
    assert few.statement.startswith("2 load-dependent vectors")
    M = a.system.reduced_mass
    free = few.shapes[:, a.system.constraints.independent]
    np.testing.assert_allclose(free @ (M @ free.T), np.eye(2), atol=1e-12)
    shares = few.table("load_shares", event)
    assert shares["x_static_percent"].iloc[-1] == pytest.approx(100.0, rel=1e-9)  # by construction
    by_modes = modes.table("load_shares", event)
    assert by_modes["x_static_percent"].iloc[1] < 100.0 - 1e-6
    assert by_modes["x_dynamic_percent"].iloc[-1] == pytest.approx(100.0, rel=1e-9)
    effective = np.cumsum(modes.set.effective_mass[:, 0]) / modes.set.free_mass[0]
    np.testing.assert_allclose(by_modes["x_dynamic_percent"], 100 * effective, rtol=1e-9)
    # of a force: shares by hand
    K, M = chain_matrices([2.0, 1.5, 1.0, 0.7, 0.4], [6e4, 5e4, 3e4, 3e4, 2e4])
    values, X = scipy.linalg.eigh(K, M)
    f = np.array([0, 0, 0, 10.0, 0])
    pushed = modes.table("load_shares", {"loads": {"push": {"step": {}}}})
    np.testing.assert_allclose(pushed["push_static_percent"], 100 * np.cumsum((X.T @ f) ** 2 / values)
                               / (f @ np.linalg.solve(K, f)), rtol=1e-9)  # fmt: skip
    whole_load = (f**2 / np.diag(M)).sum()
    np.testing.assert_allclose(pushed["push_dynamic_percent"], 100 * np.cumsum((X.T @ f) ** 2) / whole_load, rtol=1e-9)
    with pytest.raises(EventError, match="2 loads need 2 vectors"):
        a.ritz({"pulse": {"x": {"rectangle": {"peak": 1, "duration": 1}}}, "loads": {"push": {"step": {}}}}, 1)


def test_few_load_dependent_vectors_do_what_many_modes_do(crate):
    """Peaks of the rail joint: 50 such vectors tell what 150 modes do, to 1 %."""
    peaks = crate.ritz("rail joint", 50).respond("rail joint").table("peaks").set_index(["gauge", "component"])["peak"]
    many = crate.modes(count=150).respond("rail joint").table("peaks").set_index(["gauge", "component"])["peak"]
    for key in (
        ("mount 1 pull", "magnitude"),
        ("fan", "z"),
        ("transformer feet", "magnitude"),
        ("bolt 1", "magnitude"),
    ):
        assert peaks[key] == pytest.approx(many[key], rel=0.01), key


# -- records that match ------------------------------------------------------------------------------


def test_a_record_made_for_a_shock_spectrum(tmp_path):
    source = tmp_path / "wanted.csv"
    source.write_text("frequency_hz,acceleration_g\n10,1\n80,8\n400,8\n", encoding="utf-8")
    made = hk.match(source, damping="5 %")
    r = made.result
    assert np.abs(made.table()["off_db"]).max() < 3.0
    assert np.sqrt((r.error_db**2).mean()) < 1.0
    # at rest where it was: velocity and displacement by the trapezoidal rule, against what each half-wave moves
    h = r.time[1]
    velocity = np.cumsum(r.acceleration) * h
    assert abs(velocity[-1]) < 1e-3 * np.abs(velocity).max()
    displacement = np.cumsum(velocity) * h
    assert abs(displacement[-1]) < 2e-2 * np.abs(displacement).max()
    # an independent oscillator under the record answers as the table says
    f = float(made.table()["frequency_hz"].iloc[12])
    w = 2 * np.pi * f
    run = solve_ivp(lambda t, y: [y[1], -np.interp(t, r.time, r.acceleration) - 0.1 * w * y[1] - w**2 * y[0]],
                    (0, r.time[-1]), [0, 0], "DOP853", rtol=1e-9, atol=1e-12, max_step=2 * h)  # fmt: skip
    felt = np.abs(0.1 * w * run.y[1] + w**2 * run.y[0]).max()
    assert felt == pytest.approx(r.reached[12], rel=5e-3)
    # written, read again as a pulse, and measured again
    file = made.save(tmp_path / "record.csv")
    again = hk.shock(file, low=f, high=2 * f, per_octave=1, damping="5 %")
    assert again.values()[0, 0] == pytest.approx(r.reached[12], rel=1e-6)
    answer = single().modes().respond({"pulse": {"x": str(file)}, "ring down": 0.2})
    assert answer.result.pulse.peak[0] == pytest.approx(np.abs(r.acceleration).max(), rel=1e-6)
    with pytest.raises(EventError, match="too short"):
        hk.match(source, duration="0.1 s")
    same = hk.match({"frequency": [10, 80, 400], "acceleration": ["1 g", "8 g", "8 g"]}, damping=0.05)
    np.testing.assert_allclose(same.result.acceleration, r.acceleration)  # equal input, equal output
    with pytest.raises(HolokineError, match="no such file"):
        hk.match(tmp_path / "none.csv")


def test_a_damper_couples_modes_that_lie_far_apart():
    """Two masses with a dashpot on the second, modes at 3.5 and 15 Hz, against an independent integration."""
    from scipy.integrate import solve_ivp

    m, k, c = np.diag([20.0, 10.0]), np.array([[75e3, -60e3], [-60e3, 60e3]]), np.diag([0.0, 300.0])
    a = chain([20.0, 10.0], [15_000.0, 60_000.0], damping=0.0).spring(
        "pot", between=["p2", "ground"], damping=300, axis="x"
    )
    a.gauge("end", displacement="p2", axis="x").gauge("first", displacement="p1", axis="x")
    a.event("hit", pulse={"x": {"rectangle": {"peak": 10.0, "duration": 0.03}}}, ring_down=1.0)
    modes = a.modes(count=2)
    np.testing.assert_allclose(modes.frequencies_hz, [3.51, 15.3], rtol=0.01)
    answer = modes.respond("hit")

    def rate(t, y):
        base = 10.0 * (t < 0.03)
        return np.concatenate([y[2:], -np.linalg.solve(m, k @ y[:2] + c @ y[2:]) - base])

    on = solve_ivp(rate, (0, 0.03), np.zeros(4), rtol=1e-11, atol=1e-14, max_step=1e-3)
    off = solve_ivp(lambda t, y: rate(1.0, y), (0, 1), on.y[:, -1], rtol=1e-11, atol=1e-14, max_step=1e-3)
    peaks = [np.abs(np.concatenate([on.y[i], off.y[i]])).max() for i in (1, 0)]
    np.testing.assert_allclose(np.abs(answer.result.peaks), peaks, rtol=2e-5)
    assert any("solved together" in f.text for f in answer.findings)
    loose = a.changed({"springs": {"pot": {"damping": 5000}}}).modes(count=2)
    assert any("critical or more" in f.text and f.level == "warning" for f in loose.findings)


def test_rounding_is_not_told_as_motion_of_the_base():
    """A base that is moved to and fro ends where it was: nothing is said; a half-sine's push is."""
    a = chain([2.0], [5e3])
    wave = {"pulse": {"x": {"sine": {"peak": "3 mm", "frequency": 20, "cycles": 5, "window": "hann"}}}, "ring down": 1}
    text = " ".join(f.text for f in a.modes().respond(wave).findings)
    assert "moves on" not in text
    assert "displaced" not in text.replace("displacement", "")
    push = a.modes().respond({"pulse": {"x": {"half sine": {"peak": "1 g", "duration": "10 ms"}}}, "ring down": 1})
    text = " ".join(f.text for f in push.findings)
    assert "the base moves on after the pulse: x 0.06243 m/s" in text  # 2 g T / π
    assert " y " not in text


def test_recurrences_by_blocks_are_the_plain_loop():
    """Many poles at once, blocks that end anywhere, against one step after the other."""
    from holokine.respond.oscillators import recurrence

    rng = np.random.default_rng(4)
    for rows, poles in ((1, 2), (23, 3), (24, 1), (25, 4), (500, 5)):
        E = np.exp(-rng.uniform(0, 3, poles) * rng.integers(0, 2, poles) + 1j * rng.uniform(0, 3, poles))
        drive, y = rng.standard_normal((rows, poles)) + 1j, rng.standard_normal(poles) + 0j
        found, plain = recurrence(E, drive, y), []
        for d in drive:
            y = E * y + d
            plain.append(y)
        np.testing.assert_allclose(found, plain, rtol=1e-11, atol=1e-12)


def test_stress_in_time_skips_only_what_cannot_govern():
    """Shells, solids and beams of two sections, one tapered: as when every element is looked at on every row."""
    a = hk.Assembly().material("m", E=205e9, nu=0.29, density=7840.0).damping(0.015)
    a.section("s", rectangle={"width": 0.02, "height": 0.01}).section("t", pipe={"diameter": 0.03, "wall": 0.003})
    a.section("u", pipe={"diameter": 0.02, "wall": 0.003})
    a.part("p", plate={"corner": [0, 0, 0], "sides": [[0.5, 0, 0], [0, 0.3, 0]], "divisions": [10, 6],
                       "thickness": 0.004}, material="m")  # fmt: skip
    a.part("b", box={"corner": [0.2, 0.1, 0.02], "sides": np.diag([0.1, 0.1, 0.08]).tolist(), "divisions": 3},
           material="m")  # fmt: skip
    for name, at in {"q": [0, 0, 0], "r": [0, 0.3, 0], "v": [0.5, 0, 0], "w": [0.5, 0, 0.4]}.items():
        a.point(name, at)
    a.part("bar", beam={"through": ["q", "r"], "section": "s", "divisions": 6}, material="m")
    mast = {"through": ["v", "w"], "section": "t", "end section": "u", "up": "x", "divisions": 5}
    a.part("mast", beam=mast, material="m")
    a.joint("bolt", between=[{"part": "p", "nearest": [0.25, 0.15, 0], "count": 6, "link": "averaging"},
                             {"part": "b", "plane": {"at": [0, 0, 0.02], "normal": "z"}}])  # fmt: skip
    a.support("s", at=["q", "r"], hold="all").mass("top", at="w", mass=0.4)
    a.event("hit", pulse={"z": {"half sine": {"peak": 90, "duration": 0.004}},
                          "x": {"step": {"peak": 20, "rise": 0.03}}}, ring_down=0.2)  # fmt: skip
    motion = a.modes(count=14).respond("hit").motion
    system, time = motion.modes.system, motion.answer.time
    fields = motion._fields("displacement")
    rows = motion._coordinates("displacement", slice(None)) @ fields
    nodal, worst = np.zeros(len(system.mesh.nodes)), {}
    for block in system.elements:
        for field in block.stress_fields(system.size):
            size = field.size(field.of(rows).reshape(-1, len(rows)).T)
            for column in field.nodes.T:
                np.maximum.at(nodal, column, size.max(axis=0))
            row, element = np.unravel_index(int(size.argmax()), size.shape)
            if size[row, element] > worst.get(block.part, (0.0,))[0]:
                worst[block.part] = float(size[row, element]), float(time[row]), int(element) + 1
    whole, at_nodes = motion.stress()
    quick, _ = motion.stress(nodal=False)
    np.testing.assert_allclose(at_nodes, nodal, rtol=1e-11, atol=1e-12 * nodal.max())
    assert [p.part for p in whole] == ["p", "b", "bar", "mast"]
    for peaks in (whole, quick):
        for found in peaks:
            size, when, element = worst[found.part]
            assert found.stress == pytest.approx(size, rel=1e-10)
            assert found.time == when
            assert found.where.startswith(f"element {element}")


JUMPING = {
    "cycle of displacement": ({"sine": {"peak": "3 mm", "frequency": 12, "cycles": 1}}, 1 / 12,
                              lambda t: 3e-3 * np.sin(24 * np.pi * t) * (t < 1 / 12)),
    "half sine of displacement": ({"half sine": {"peak": "2 mm", "duration": 0.03}}, 0.03,
                                  lambda t: 2e-3 * np.sin(np.pi * t / 0.03) * (t < 0.03)),
    "ramp to a new place": ({"ramp": {"peak": "2 mm", "rise": 0.02}}, 0.02, lambda t: 2e-3 * min(t / 0.02, 1.0)),
    "rectangle of velocity": ({"rectangle": {"peak": "0.3 m/s", "duration": 0.04}}, 0.04,
                              lambda t: 0.3 * min(t, 0.04)),
    "table that starts with a velocity": ({"table": {"time": [0, 0.02], "velocity": ["0.2 m/s", "0 m/s"]}}, 0.02,
                                          lambda t: 0.2 * (min(t, 0.02) - min(t, 0.02) ** 2 / 0.04)),
}  # fmt: skip


@pytest.mark.parametrize("dashpot", [0.0, 40.0])
@pytest.mark.parametrize("shape", JUMPING)
def test_a_base_whose_velocity_jumps_is_that_of_absolute_motion(shape, dashpot):
    """In absolute coordinates, in which nothing jumps: M x'' + C (x' - u') + K (x - u) = 0 with x, x' = 0 at first.

    A dashpot between the masses couples the modes; damping by its own matrix, the base moved through springs alone.
    """
    m, k = [2.0, 1.2], [5e4, 3e4]
    signal, end, place = JUMPING[shape]
    a = chain(m, k, 1e-9)
    if dashpot:
        a.spring("d", between=["p1", "p2"], axis="x", damping=dashpot)
    a.gauge("k1", force="k1").gauge("u", displacement="p2", axis="x").gauge("a", acceleration="p2", axis="x")
    a.gauge("w", displacement="p2", axis="x", motion="absolute").gauge("v", velocity="p1", axis="x", motion="absolute")
    answer = a.modes().respond({"pulse": {"x": signal}, "ring down": 0.15})
    K, M = chain_matrices(m, k)
    C = dashpot * np.array([[1.0, -1.0], [-1.0, 1.0]])
    top = np.array([k[0], 0.0])

    def slope(t, y, until=np.inf):
        x, v = y[:2], y[2:]
        return np.concatenate([v, np.linalg.solve(M, top * place(min(t, until - 1e-13)) - C @ v - K @ x)])

    found, y = [], np.zeros(4)
    for lo, hi in ((0.0, end), (end, end + 0.15)):
        until = hi if hi == end and "cycle" not in shape and "half" not in shape else np.inf
        t = np.linspace(lo, hi, 30001)
        run = solve_ivp(lambda t, y, u=until: slope(t, y, u), (lo, hi), y, "DOP853", rtol=1e-11, atol=1e-15, t_eval=t)
        u = np.array([place(x) for x in t])
        x, v = run.y[:2], run.y[2:]
        acc = np.linalg.solve(M, top[:, None] * u - C @ v - K @ x)
        found.append([k[0] * (x[0] - u), x[1] - u, acc[1], x[1], v[0]])
        y = run.y[:, -1]
    wanted = np.abs(np.concatenate(found, axis=1)).max(axis=1)
    own = [abs(peaks(answer)[g]) for g in ("k1", "u", "a", "w", "v")]
    np.testing.assert_allclose(own, wanted, rtol=2e-6)
    told = " ".join(f.text for f in answer.findings)
    assert "take an impulse of 0 N s" in told  # nothing rests on the base itself
    assert answer.table("peaks")["static"].isna().all()


def test_impulses_at_jumps_are_what_supports_take():
    """A mass on the frame starts with it: its impulse is mass times the jump, and no force of a spring is infinite."""
    a = chain([2.0], [5e4], 0.02).point("seat", [1.0, 0, 0]).mass("on the frame", at="seat", mass=7.0)
    a.support("bolt", at="seat", hold="all").gauge("bolt", reaction="bolt")
    answer = a.modes().respond({"pulse": {"x": {"sine": {"peak": "3 mm", "frequency": 12, "cycles": 1}}}})
    jump = 3e-3 * 24 * np.pi
    told = " ".join(f.text for f in answer.findings)
    assert f"take an impulse of {7.0 * jump:.4g} N s" in told
    assert f"bolt x {7.0 * jump:.4g} N s" in told
    with pytest.raises(EventError, match="grows with frequency without end"):
        a.event("e", pulse={"x": {"sine": {"peak": "3 mm", "frequency": 12, "cycles": 1}}}).modes().respond(
            "e"
        ).against_rules()


@pytest.mark.parametrize("dashpot", [0.0, 150.0])
def test_free_motion_is_followed_until_no_peak_can_be_exceeded(dashpot):
    """A swing at 0.2 Hz under a short shock: seconds, not its whole decay; and nothing is missed that comes later."""
    a = chain([30.0, 1.5, 1.4], [47.4, 6e5, 5.5e5], 0.01)
    if dashpot:
        a.spring("d", between=["p2", "p3"], axis="x", damping=dashpot)
    for n in (1, 2, 3):
        a.gauge(f"u{n}", displacement=f"p{n}", axis="x").gauge(f"a{n}", acceleration=f"p{n}", axis="x")
        a.gauge(f"f{n}", force=f"k{n}")
    event = {"pulse": {"x": {"half sine": {"peak": "20 g", "duration": "11 ms"}}}}
    modes = a.modes()
    found, whole = modes.respond(event).result, modes.respond({**event, "ring down": 60.0}).result
    assert found.time[-1] < 6.0  # 5 % of the lowest mode would take 240 s
    np.testing.assert_allclose(found.peaks, whole.peaks, rtol=1e-9)
    assert [f for f in found.findings if "no gauge can exceed its peak after that" in f.text]
    short = modes.respond({**event, "ring down": 0.02})
    (told,) = [f for f in short.findings if "may still exceed its peak" in f.text]
    assert told.level == "warning"
    late = abs(whole.peaks[0]) / abs(short.result.peaks[0]) - 1.0  # the swing's own travel had hardly begun
    assert float(told.text.split("by up to ")[1].split(" %")[0]) >= 100 * late * 0.999


def test_what_beats_is_followed_until_it_has():
    """Two masses that pass their motion to and fro: the second peaks only after many periods, and the bound knows."""
    a = chain([1.0], [4e4], 0.001)
    a.point("q", [0.2, 0, 0]).mass("small", at="q", mass=0.002, inertia=[1.0, 1.0, 1.0])
    a.spring("soft", between=["p1", "q"], stiffness=80.0, axis="x").support(
        "guide q", at="q", hold=["y", "z", "rx", "ry", "rz"]
    )
    a.gauge("u", displacement="q", axis="x")
    event = {"pulse": {"x": {"half sine": {"peak": 10.0, "duration": "4 ms"}}}}
    modes = a.modes()
    found, whole = modes.respond(event).result, modes.respond({**event, "ring down": 5.0}).result
    assert found.peak_times[0] > 8 * 2 * np.pi / 200.0
    np.testing.assert_allclose(found.peaks, whole.peaks, rtol=1e-9)
