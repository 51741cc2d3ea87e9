"""Shock spectra of records against closed forms, known limits and the exact oscillators."""

from __future__ import annotations

import json
from itertools import pairwise

import numpy as np
import pytest

import holokine as hk
from holokine.errors import EventError
from holokine.respond.oscillators import Oscillators
from holokine.respond.shock import QUANTITIES, octave_frequencies, shock_spectrum
from test_cli import inside as holokine

G = 9.80665
T = 0.01


def record(shape, samples=20_000, rest=0.5):
    """A pulse of duration T and peak 1 with many samples, and rest after it."""
    t = np.linspace(0.0, T * (1 + rest), int(samples * (1 + rest)) + 1)
    return t, np.where(t <= T * (1 + 1e-12), shape(np.minimum(t / T, 1.0)), 0.0)


def undamped_maximum(shape, f, n=400_001):
    """Largest absolute acceleration of an undamped oscillator, by Duhamel's integral on a fine grid."""
    t = np.linspace(0.0, T, n)
    a, w, h = shape(t / T), 2 * np.pi * f, T / (n - 1)
    c, s = a * np.cos(w * t), a * np.sin(w * t)
    C = np.concatenate([[0.0], np.cumsum((c[1:] + c[:-1]) / 2)]) * h
    S = np.concatenate([[0.0], np.cumsum((s[1:] + s[:-1]) / 2)]) * h
    during = w * (np.sin(w * t) * C - np.cos(w * t) * S)
    return np.abs(during).max(), w * np.hypot(C[-1], S[-1])


SHAPES = {
    "half-sine": lambda x: np.sin(np.pi * x),
    "sawtooth": lambda x: x * (x < 1),
    "versed sine": lambda x: 0.5 * (1 - np.cos(2 * np.pi * x)),
}


@pytest.mark.parametrize("name", SHAPES)
def test_primary_and_residual_spectra_of_pulses(name):
    f = np.array([0.05, 0.3, 0.5, 0.77, 1.3, 2.2, 4.1]) / T
    t, a = record(SHAPES[name], rest=0.0 if name != "sawtooth" else 0.0001)
    found = shock_spectrum(t, a, f, [0.0])
    for j, frequency in enumerate(f):
        during, after = undamped_maximum(SHAPES[name], frequency)
        # the sawtooth's drop takes one sample here, 5e-5 of its duration
        tolerance = 2e-4 if name == "sawtooth" else 2e-6
        assert max(found.primary[0, j], found.residual[0, j]) == pytest.approx(max(during, after), rel=tolerance)
        assert found.residual[0, j] == pytest.approx(after, rel=tolerance, abs=tolerance)


def test_rectangle_and_known_limits():
    """Undamped rectangle: 2 sin(π f T) below f T = 1/2, then 2. Low frequencies: ω Δv. High: the peak."""
    t, a = record(lambda x: np.ones_like(x) * (x < 1), rest=0.2)
    f = np.array([0.02, 0.1, 0.25, 0.4, 0.5, 0.8, 1.7]) / T
    found = shock_spectrum(t, a, f, [0.0])
    exact = np.where(f * T < 0.5, 2 * np.sin(np.pi * f * T), 2.0)
    np.testing.assert_allclose(found.maximax[0], exact, rtol=2e-4)  # ramps of one sample in place of the jumps
    t, a = record(SHAPES["half-sine"])
    low = shock_spectrum(t, a, np.array([0.01, 0.02]), [0.0], quantity="pseudo-velocity")
    np.testing.assert_allclose(low.maximax[0], 2 * T / np.pi, rtol=1e-4)
    high = shock_spectrum(t, a, np.array([30.0, 60.0]) / T, [0.05])
    np.testing.assert_allclose(high.maximax[0], 1.0, rtol=2e-3)


def top(values):
    """Largest of a finely sampled curve, by the parabola through the three samples about it."""
    i = int(np.clip(values.argmax(), 1, len(values) - 2))
    before, at, after = values[i - 1 : i + 2]
    return at - (after - before) ** 2 / (8 * (after - 2 * at + before)) if at >= max(before, after) else values.max()


@pytest.mark.parametrize("quantity", QUANTITIES)
def test_filters_against_the_exact_oscillators(quantity):
    """Ramp-invariant filters and the exact recurrence agree on every quantity and damping, at any instant."""
    rng = np.random.default_rng(2)
    t = np.arange(600) * 1e-4
    a = np.cumsum(rng.standard_normal(600))
    a -= np.linspace(a[0], a[-1], 600)
    # 250 to 3 samples per period: peaks fall between samples
    f, zeta = np.array([40.0, 170.0, 420.0, 1300.0, 3100.0]), [0.0, 0.03, 0.2, 0.7]
    found = shock_spectrum(t, a, f, zeta, quantity=quantity)
    for i, z in enumerate(zeta):
        for j, frequency in enumerate(f):
            w = 2 * np.pi * frequency
            one = Oscillators(np.array([w]), np.array([z]), -np.ones((1, 1)))
            fine = np.linspace(0, t[-1], 599 * 400 + 1)  # the same input, looked at four hundred times as often
            after = t[-1] + np.arange(40001) / (20000 * frequency)
            still = np.concatenate([np.interp(fine, t, a), np.zeros(40001)])
            path = one.run(np.concatenate([fine, after]), still[:, None])
            q, v, _ = (m[:, 0] for m in one.motion(path.state, path.load))
            value = {"absolute acceleration": -2 * z * w * v - w**2 * q, "pseudo-acceleration": w**2 * q,
                     "pseudo-velocity": w * q, "relative displacement": q}[quantity]  # fmt: skip
            assert found.positive[i, j] == pytest.approx(max(top(value), 0), rel=2e-8)
            assert found.negative[i, j] == pytest.approx(max(top(-value), 0), rel=2e-8)


def test_uneven_records_and_invariants():
    t, a = record(SHAPES["half-sine"], samples=400, rest=1.0)
    f = octave_frequencies(10, 400, 6)
    even = hk.shock((t, a), low=10, high=400, per_octave=6, damping=["2 %", "10 %"])
    keep = np.sort(np.random.default_rng(0).choice(np.arange(1, len(t) - 1), 500, replace=False))
    keep = np.concatenate([[0], keep, [len(t) - 1]])
    uneven = shock_spectrum(t[keep], np.interp(t[keep], t, a), f, [0.02, 0.1])
    np.testing.assert_allclose(uneven.maximax, even.values(), rtol=2e-3)
    assert any("uneven" in n.text for n in uneven.findings)
    twice = shock_spectrum(t, -2 * a, f, [0.02, 0.1])
    np.testing.assert_allclose(twice.negative, 2 * even.result.positive, rtol=1e-12)
    assert (even.values()[1] <= even.values()[0] * (1 + 1e-9)).all()  # more damping, less
    wide = hk.shock((t, a), low=10, high=400, per_octave=6, damping=["2 %", "10 %"], broaden="20 %")
    assert (wide.values() >= even.values()).all()
    table = even.table(sides=("maximax", "residual"))
    assert "maximax at 2 % (g)" in table
    assert table["maximax at 2 % (g)"].iloc[3] == pytest.approx(even.values()[0, 3] / G)


def test_records_that_cannot_be_used_or_should_not_be_trusted():
    t = np.linspace(0, 1, 200)
    found = shock_spectrum(t, np.sin(20 * t) + 0.3, [5.0, 90.0], [0.05])
    text = " ".join(f.text for f in found.findings)
    assert "samples per second are few for 90 Hz" in text
    assert "does not end at rest" in text
    for time, values, f, z, words in (
        ([0.0], [1.0], [5.0], [0.05], "two samples"),
        ([0.0, 1.0, 0.5], [0, 1, 0], [5.0], [0.05], r"from sample 2 \(1 s\) to 3"),
        ([0.0, 1.0], [0, np.nan], [5.0], [0.05], "not a finite number in sample 2"),
        ([0.0, 1.0], [0, 1.0], [0.0], [0.05], "greater than 0 Hz"),
        ([0.0, 1.0], [0, 1.0], [5.0], [1.0], "below 1"),
    ):
        with pytest.raises(EventError, match=words):
            shock_spectrum(time, values, f, z)
    with pytest.raises(EventError, match='Did you mean "pseudo-velocity"'):
        hk.shock((t, t), of="pseudo velocity")
    with pytest.raises(EventError, match="frequencies must rise"):
        hk.shock((t, t), low=100, high=10)


def test_command_and_gauges(tmp_path, crate_modes):
    t, a = record(SHAPES["half-sine"], samples=1000, rest=2.0)
    path = tmp_path / "jolt.csv"
    path.write_text(
        "time_ms,acceleration_g\n" + "\n".join(f"{1e3 * x:.6f},{10 * y:.8f}" for x, y in zip(t, a, strict=True))
    )
    got = holokine(
        "shock", str(path), "--low", "10Hz", "--high", "1kHz", "--damping", "0", "--out", str(tmp_path / "o")
    )
    assert got.returncode == 0, got.stderr
    assert (tmp_path / "o" / "jolt_csv_spectrum.png").stat().st_size > 10_000
    data = json.loads(holokine("shock", str(path), "--high", "500", "--damping", "0", "--json").stdout)
    peak = max(row["maximax at 0 % (g)"] for row in data["tables"]["jolt_csv_spectrum"])
    assert peak == pytest.approx(17.7, abs=0.1)  # 1.77 times the peak, the known largest of a half-sine
    for arguments, words in (
        (["shock", str(tmp_path / "none.csv")], "no such file"),
        (["shock", str(path), "--table", "spectrum sides=top"], "there is no side"),
        (["shock", str(path), "--event", "x"], "go together"),
    ):
        bad = holokine(*arguments)
        assert bad.returncode == 2
        assert words in bad.stderr
    answer = crate_modes.respond("kerb strike")
    felt = answer.shock("fan z", low=5, high=200, damping="5 %")
    f, s = felt.result.frequency_hz, felt.values()[0]
    assert s.max() > 3 * abs(answer.table("peaks").set_index(["gauge", "component"]).loc[("fan", "z"), "peak"]) * G
    assert 14 < f[s.argmax()] < 26  # equipment resonates with the fan on its bushings
    with pytest.raises(EventError, match="name one component"):
        answer.shock("transformer")
    with pytest.raises(AttributeError, match="belongs to answers to events in time"):
        crate_modes.respond("works shock").shock("fan z")


# -- pulse shapes ------------------------------------------------------------------------------------------

PULSES = {
    "versed sine": (
        {"peak": 20, "duration": T}, lambda t: 10 * (1 - np.cos(2 * np.pi * t / T)) * (t < T), 20 * T / 2, T,
    ),
    "terminal peak sawtooth": ({"peak": 20, "duration": T}, lambda t: 20 * t / T * (t < T), 20 * T / 2, T),
    "initial peak sawtooth": ({"peak": 20, "duration": T}, lambda t: 20 * (1 - t / T) * (t < T), 20 * T / 2, T),
    "trapezoid": (
        {"peak": 20, "duration": T, "rise": 0.2 * T, "fall": 0.3 * T},
        lambda t: 20 * np.clip(np.minimum(t / (0.2 * T), (T - t) / (0.3 * T)), 0, 1), 20 * T * 0.75, T,
    ),
    "sine": (
        {"peak": 20, "frequency": 2 / T, "cycles": 3, "window": "hann"},
        lambda t: 20 * np.sin(4 * np.pi * t / T) * np.sin(np.pi * t / (1.5 * T)) ** 2 * (t < 1.5 * T), 0.0, 1.5 * T,
    ),
    "decaying sine": (
        {"peak": 20, "frequency": 2 / T, "damping": 0.3},
        lambda t: 20 * np.exp(-0.3 * 4 * np.pi * t / T) * np.sin(4 * np.pi * t / T), 20 / (4 * np.pi / T) / 1.09, 2 * T,
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", PULSES)
def test_pulse_shapes_against_formulas_and_independent_integration(name):
    """Values and velocity change against the formula, the peak of an oscillator against DOP853."""
    from scipy.integrate import solve_ivp

    from holokine.describe.document import Places, validated
    from holokine.excite.pulse import build_pulse
    from holokine.respond.conservatism import pulse_spectrum

    keys, formula, change, length = PULSES[name]
    described = validated({"holokine": 1, "events": {"e": {"pulse": {"y": {name: keys}}}}}, Places(), None)
    pulse = build_pulse(described.description.events["e"].pulse)
    assert pulse.velocity_change[1] == pytest.approx(change, rel=2e-3 if "decay" in name else 1e-6, abs=1e-9)
    inner = np.linspace(0.001, 0.999, 97) * length
    np.testing.assert_allclose(np.interp(inner, pulse.time, pulse.acceleration[:, 1]), formula(inner), atol=20 * 3e-6)
    f, zeta = 0.8 / T, 0.03
    w = 2 * np.pi * f
    kinks = [0.0, 0.2 * T, 0.7 * T, T, 1.5 * T, 4 * T] if "decay" not in name else [0.0, 6 * T]
    state, peak = np.zeros(2), 0.0
    for a, b in pairwise(kinks):
        held = formula if "decay" in name else (lambda t, a=a, b=b: formula(np.clip(t, a + 1e-15, b - 1e-15)))
        got = solve_ivp(lambda t, y, g=held: [y[1], -float(g(t)) - 2 * zeta * w * y[1] - w**2 * y[0]], (a, b), state,
                        method="DOP853", rtol=1e-11, atol=1e-16, dense_output=True, max_step=T / 50)  # fmt: skip
        fine = got.sol(np.linspace(a, b, 40_001))[0]
        state, peak = got.y[:, -1], max(peak, np.abs(fine).max())
    assert pulse_spectrum(pulse, 1, np.array([f]), np.array([zeta]))[0] == pytest.approx(w**2 * peak, rel=1e-6)


def test_sums_of_pulses_and_shapes_that_cannot_be():
    from holokine.describe.document import Places, validated
    from holokine.excite.pulse import build_pulse

    def built(shape):
        d = validated({"holokine": 1, "events": {"e": {"pulse": {"z": shape}}}}, Places(), None).description
        return build_pulse(d.events["e"].pulse)

    one = {"rectangle": {"peak": 2.0, "duration": 0.01}}
    two = {"triangle": {"peak": 3.0, "duration": 0.02, "start": 0.005}, "scale": -1}
    both = built({"sum": [one, two]})
    t = np.array([0.002, 0.0099, 0.012, 0.02])
    np.testing.assert_allclose(np.interp(t, both.time, both.acceleration[:, 2]), [2.0, 2 - 1.47, -2.1, -1.5], rtol=1e-6)
    assert both.velocity_change[2] == pytest.approx(0.02 - 0.03)
    for shape, words in (
        ({"trapezoid": {"peak": 1, "duration": 0.01, "rise": 0.008, "fall": 0.004}}, "longer than the duration"),
        ({"sine": {"peak": 1, "frequency": 10, "cycles": 0}}, "cycles"),
        ({"decaying sine": {"peak": 1, "frequency": 10, "damping": 1.5}}, "damping"),
        ({"sum": []}, "one pulse at least"),
        ({"versed sine": {"peak": 1, "duration": 0}}, "greater than 0"),
    ):
        with pytest.raises(hk.HolokineError, match=words):
            built(shape)


def test_quality_factors_periods_and_points(crate_modes, tmp_path):
    t = np.linspace(0, 0.05, 5001)
    a = np.where(t < 0.02, np.sin(np.pi * t / 0.02), 0.0)
    by_q = hk.shock((t, a), low="0.1 s", high="10 ms", per_octave=3, q=[10, 25])
    by_ratio = hk.shock((t, a), low=10, high=100, per_octave=3, damping=[0.05, "2 %"])
    np.testing.assert_allclose(by_q.values(), by_ratio.values(), rtol=1e-12)
    np.testing.assert_allclose(hk.shock((t, a), low=10, high=100).result.damping, [0.05])
    table = by_q.table(by="period")
    assert table["period_s"].is_monotonic_increasing
    np.testing.assert_allclose(table.iloc[::-1, -1], by_ratio.table().iloc[:, -1])
    for keys, words in (
        ({"q": 0.4}, "greater than 0.5"),
        ({"low": "3 kg"}, "frequency"),
        ({"low": "0 s"}, "frequency"),
    ):
        with pytest.raises(hk.HolokineError, match=words):
            hk.shock((t, a), **keys)
    with pytest.raises(EventError, match="frequency or period"):
        by_q.table(by="octave")
    answer = crate_modes.respond("kerb strike")
    keys = {"low": 5, "high": 150, "per_octave": 2}
    bare = crate_modes.assembly.changed({"gauges": {"fan": None}}).modes(upto=200).respond("kerb strike")
    np.testing.assert_allclose(bare.shock("fan z", **keys).values(), answer.shock("fan z", **keys).values(), rtol=1e-6)
    with pytest.raises(hk.HolokineError, match='no point "fann"'):
        answer.shock("fann z")


def test_sampled_waves_keep_their_area():
    """Straight pieces of half-sines, versed sines and sine cycles carry the velocity change of the curve itself."""
    from holokine.describe.events import PulseShape
    from holokine.excite.pulse import build_pulse

    half = build_pulse({"z": PulseShape.model_validate({"half sine": {"peak": "3 g", "duration": "11 ms"}})})
    assert half.velocity_change[2] == pytest.approx(3 * G * 2 * 0.011 / np.pi, rel=1e-12)
    versed = build_pulse({"x": PulseShape.model_validate({"versed sine": {"peak": "3 g", "duration": "11 ms"}})})
    assert versed.velocity_change[0] == pytest.approx(3 * G * 0.011 / 2, rel=1e-9)
    # a sine of one cycle: its part at its own frequency, ∫ sin² = T / 2
    wave = build_pulse({"y": PulseShape.model_validate({"sine": {"peak": "1 g", "frequency": 20, "cycles": 1}})})
    t, a, h = wave.time, wave.acceleration[:, 1] / G, np.diff(wave.time)
    gauss, total = np.sqrt(3 / 5), 0.0
    for at, weight in ((-gauss, 5 / 9), (0.0, 8 / 9), (gauss, 5 / 9)):
        share = (1 + at) / 2
        total += float(np.sum(weight * h / 2 * ((1 - share) * a[:-1] + share * a[1:])
                              * np.sin(2 * np.pi * 20 * (t[:-1] + share * h))))  # fmt: skip
    assert total == pytest.approx(0.05 / 2, rel=1e-11)


def test_lists_of_frequencies_hold_the_peaks(crate_modes):
    """Spacing by damping; the run's natural frequencies are in the list; a coarse list is told."""
    from holokine.respond.shock import fine_enough, lost_between

    t = np.arange(40_001) / 2000.0  # 20 s of a steady sine at 31 Hz: a peak of 1/(2ζ) as narrow as can be
    for zeta in (0.02, 0.05):
        found = hk.shock((t, np.sin(2 * np.pi * 31.0 * t)), low=20.3, high=47, damping=zeta)
        peak = np.sqrt(1 + 4 * zeta**2) / (2 * zeta)
        assert 0.95 <= found.values().max() / peak <= 1.0 + 1e-3
        assert not found.result.findings[-1:] or "narrow peak" not in found.result.findings[-1].text
        f = found.result.frequency_hz
        assert len(f) == pytest.approx(fine_enough(zeta) * np.log2(47 / 20.3), abs=2)
        assert lost_between(f, zeta, 20.0) <= 0.0501
    coarse = hk.shock((t, np.sin(2 * np.pi * 31.0 * t)), low=20.3, high=47, per_octave=12, damping=0.02)
    assert "up to 42 % of a narrow peak" in coarse.result.findings[-1].text
    answer = crate_modes.respond("kerb strike")
    natural = answer.result.reduced.frequencies_hz
    inside_ = natural[(natural > 15) & (natural < 60)]
    of_fan = answer.shock("fan z", low=15, high=60, damping="2 %")
    assert np.isin(inside_, of_fan.result.frequency_hz).all()
    fine = answer.shock("fan z", frequencies=np.linspace(15, 60, 3000).tolist(), damping="2 %")
    # the peak lies between two modes of the fan, at 20.9 and 21.4 Hz; the spacing promises no more than 5 %
    assert 1.0 - 6e-3 < of_fan.values().max() / fine.values().max() < 1.0 + 1e-4
    listed = answer.shock("fan z", frequencies=["20 Hz", 30], damping="2 %", broaden="10 %")
    assert listed.result.frequency_hz.tolist() == [20, 30]
    assert any("not in the list" in f.text for f in listed.result.findings)
    assert listed.table().columns[-1] == "maximax at 2 % (g)"
    assert "broadened by 10 %" in listed.plot().axes[0].get_title()
    with pytest.raises(EventError, match="not both"):
        answer.shock("fan z", frequencies=[20], low=3)


def test_long_records_are_read_at_once_and_faults_named(tmp_path):
    """Thousands of rows by one call: the same numbers to the last digit, and the line of what is wrong."""
    from holokine.excite.tables import read_columns

    rng = np.random.default_rng(3)
    t, a = np.arange(5000) * 1e-4, rng.standard_normal(5000)
    rows = [f"{x!r};{y!r};note {k}" for k, (x, y) in enumerate(zip(t.tolist(), a.tolist(), strict=True))]
    path = tmp_path / "long.csv"
    for lines, decimal in ((rows, "."), ([r.replace(".", ",") for r in rows], ",")):
        path.write_text("# made here\ntime [s];acc left [g];remark\n" + "\n".join(lines), encoding="utf-8")
        found = read_columns(path, only="acc left [g]")
        assert (found["time"] == t).all(), decimal
        assert (found["acceleration"] == a * G).all()
    for change, words in ((("4711", "1;x;y"), 'line 4711: "x" is not a number'), (("4000", "1;2"), "2 values for 3"),
                          (("3000", "1;nan;y"), "line 3000: a value is not a finite")):  # fmt: skip
        line, text = change
        bad = ["time [s];acc left [g];remark", *rows]
        bad[int(line) - 1] = text
        path.write_text("\n".join(bad), encoding="utf-8")
        with pytest.raises(EventError, match=words):
            read_columns(path, only="acc left [g]")
