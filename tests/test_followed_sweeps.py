"""Sine sweeps in which members let go, hit and slide, the whole way of a user."""

from __future__ import annotations

import json

import numpy as np
import pytest

import holokine as hk
from holokine.errors import HolokineError
from test_cli import inside
from test_followed import BALL, CROSSED, LAWFUL, SKID

STOPPED = (
    BALL[: BALL.index("  wall: {reaction")].replace("20000", "2400").replace("damping: 0", "damping: 2 %")
    + """
limits: {buffer: 1 N}
loads: {push: {at: b, force: [3, 0, 0]}}
events:
  sweep: {sweep: [1.5 Hz, 8 Hz], loads: {push: 0.5}, follow: true}
  plain: {sweep: [1.5 Hz, 8 Hz], loads: {push: 0.5}}
  shaken: {sweep: [1.5 Hz, 8 Hz], base: {x: 0.06 g}, follow: true}
"""
)


def written(folder, text: str):
    file = folder / "model.yaml"
    file.write_text(text)
    return hk.Assembly.read(file)


def held(modes, frequency: float, acts: dict, cycles: int, folder, rows: int = 64, ramp: int = 8, **more):
    """Lowest and highest of all readings over a late cycle of an answer in time to a sine that comes in slowly."""
    t = np.arange(cycles * rows + 1) / (rows * frequency)
    (key, (name, amplitude)), head = next(iter(acts.items())), "factor"
    if key == "pulse":
        head = "acceleration (m/s^2)"
    values = amplitude * np.minimum(t * frequency / ramp, 1.0) * np.cos(2 * np.pi * frequency * t)
    np.savetxt(folder / "sine.csv", np.column_stack([t, values]), delimiter=",", header=f"time (s),{head}", comments="")
    answer = modes.respond(
        {key: {name: {"file": str(folder / "sine.csv")}}, "ring down": "1 ms", "follow": True, **more}
    )
    late = (answer.result.time > t[-1] - 2.5 / frequency) & (answer.result.time <= t[-1] - 0.5 / frequency)
    each = np.array([answer.result.history(n)[late] for n in range(len(answer.result.peaks))])
    return each.min(axis=1), each.max(axis=1)


@pytest.fixture(scope="module")
def stopped(tmp_path_factory):
    return written(tmp_path_factory.mktemp("stopped"), STOPPED.replace("GAP", "0.01")).modes(count=1)


def test_a_mass_before_a_stop_jumps_and_agrees_with_runs_in_time(stopped, tmp_path):
    answer = stopped.respond("sweep")
    r = answer.result
    told = next(f for f in answer.findings if f.kind == "followed")
    assert told.numbers["harmonics"] == r.harmonics
    assert told.numbers["error"] == r.error < 6e-3
    jumps = answer.table("jumps")
    assert jumps["sweep"].tolist() == ["up", "down"]
    assert jumps["why"].tolist() == ["runs back"] * 2
    # down: where the free motion just reaches the stop: |x| = (p / m) / |w0² - w² + 2 i z w0 w| = gap
    w = 2 * np.pi * jumps["frequency_hz"].iloc[1]
    assert 0.75 / abs(400 - w**2 + 2j * 0.02 * 20 * w) == pytest.approx(0.01, rel=2e-3)
    assert jumps["frequency_hz"].iloc[0] > 1.1 * jumps["frequency_hz"].iloc[1]
    peaks = answer.table("peaks").set_index("gauge")
    assert peaks.loc["buffer", "sweep_up"] > 1.3 * peaks.loc["buffer", "sweep_down"] > 0.0
    assert (peaks["ratio_to_linear"] < 1.0).loc["ball"]
    np.testing.assert_allclose(r.highs[:, 2], 2400 * np.maximum(r.highs[:, 0] - 0.01, 0.0), atol=5e-3)
    assert r.lows[:, 2].min() == pytest.approx(0.0, abs=1e-9)  # it never pulls
    for f in (2.6, 3.1):
        k = int(np.flatnonzero(r.up)[np.abs(r.frequency_hz[r.up] - f).argmin()])
        assert not r.lost[k]
        least, most = held(stopped, float(r.frequency_hz[k]), {"loads": ("push", 0.5)}, 80, tmp_path, rows=128)
        size = 5e-3 * np.maximum(np.abs(most), np.abs(least)) * [1, 1, 0] + 5e-3 * 2400 * most[0] * np.array([0, 0, 1])
        assert (np.abs(r.highs[k] - most) < size).all()  # the stop's force is a small difference of places
        assert (np.abs(r.lows[k] - least) < size).all()
        shape = answer.deformed(float(r.frequency_hz[k])).displacement.reshape(-1, 6)
        tip = answer.system.mesh.points["b"]
        assert abs(shape[tip, 0]) == pytest.approx(r.size_curve(0)[k], rel=1e-4)
    one = answer.table("one_way").iloc[0]
    assert one["largest_force_n"] == pytest.approx(peaks.loc["buffer", "peak"], rel=1e-3)
    assert 0.0 < one["open_at_most_percent"] == 100.0
    harmonics = answer.table("harmonics", "ball")
    assert harmonics["order"].tolist()[:3] == [0, 1, 2]
    assert harmonics["share_percent"].max() == 100.0


def test_what_it_tells_reaches_tables_limits_files_and_the_command_line(stopped, tmp_path):
    answer = stopped.respond("plain", follow=True)
    assert np.array_equal(answer.result.peaks, stopped.respond("sweep").result.peaks)  # equal input, equal digits
    assert not answer.ok
    assert answer.table("limits").loc[0, "peak"] == pytest.approx(answer.table("peaks").loc[2, "peak"])
    curve = answer.table("curve", "ball")
    assert {"ball x largest (mm)", "ball x lowest (mm)", "ball x harmonic 1 phase (deg)"} <= set(curve)
    assert set(curve["not_stable"]) == {"", "runs back"}
    both = stopped.respond("shaken")
    figure = answer.plot("amplitudes", others={"shaken": both}, logarithmic=(True, False))
    assert len(figure.axes) == 3
    with pytest.raises(HolokineError, match="no sweep that is followed"):
        answer.plot("amplitudes", others={"plain": stopped.respond("plain")})
    answer.save(tmp_path / "a.xlsx")
    stopped.save(tmp_path / "a.run")
    again = hk.open_run(tmp_path / "a.run").respond("sweep")
    np.testing.assert_allclose(again.result.peaks, answer.result.peaks, rtol=1e-9)
    done = inside("respond", str(tmp_path / "a.run"), "plain", "--follow", "--json", "--at", "3 Hz, 90 deg")
    assert done.returncode == 1, done.stderr  # a limit is not met
    printed = json.loads(done.stdout)
    assert [row["sweep"] for row in printed["tables"]["plain_jumps"]] == ["up", "down"]
    assert {"followed", "jumps up", "jumps down"} <= {f["kind"] for f in printed["findings"]}
    with pytest.raises(HolokineError, match="belongs to answers to sine sweeps"):
        answer.table("resonances")
    with pytest.raises(HolokineError, match="sine sweeps \\(sweep\\) that follow"):
        stopped.respond("plain").table("jumps")
    done = inside("respond", str(tmp_path / "a.run"), "plain", "--follow", "--animate", "ball", "--out", str(tmp_path))
    assert done.returncode == 2


def test_what_never_acts_is_the_linear_answer_to_the_digit(tmp_path):
    modes = written(tmp_path, STOPPED.replace("GAP", "0.5")).modes(count=1)
    answer, linear = modes.respond("sweep"), modes.respond("plain")
    assert np.array_equal(answer.result.peaks, linear.result.peaks)
    assert np.array_equal(answer.result.peak_frequencies, linear.result.peak_frequencies)
    np.testing.assert_allclose(answer.result.highs[:, 0], linear.result.curve(0), rtol=1e-7)
    assert answer.result.jumps == ()
    assert "jumps" not in answer.tables
    assert next(f for f in answer.findings if f.kind == "followed").numbers["harmonics"] == 1
    assert np.abs(answer.deformed("3 Hz").displacement).max() > 0.0
    skid = written(tmp_path, SKID).modes(count=8)
    event = {"sweep": ["4 Hz", "30 Hz"], "base": {"x": "0.1 g"}}
    assert np.array_equal(skid.respond(event, follow=True).result.peaks, skid.respond(event).result.peaks)


def test_a_spring_with_a_law_jumps_where_the_published_curve_turns(tmp_path):
    law = LAWFUL.replace("quadratic: 3000, ", "").replace("damping: 0", "damping: 2 %")
    modes = written(tmp_path, law).modes(count=1)
    answer = modes.respond({"sweep": ["2 Hz", "8 Hz"], "loads": {"pull": 0.25}, "follow": True})
    force, k, m, b = 1.5, 1200.0, 2.0, 9e5
    c = 2 * 0.02 * np.sqrt(k * m)
    # with one harmonic: ((k + 3/4 b a²) - m w²)² a² + (c w a)² = force² (Nayfeh and Mook 1979): its turns
    a = np.linspace(1e-3, 0.2, 400_001)
    s = (k + 0.75 * b * a**2) / m - (c / m) ** 2 / 2
    inside_root = s**2 - ((k + 0.75 * b * a**2) / m) ** 2 + (force / (m * a)) ** 2
    real = inside_root >= 0
    highest = np.sqrt(s[real] + np.sqrt(inside_root[real]))[a[real] > 0.9 * a[real].max()]
    right = np.sqrt(s[real] + np.sqrt(inside_root[real]))
    jumps = answer.table("jumps").set_index("sweep")["frequency_hz"]
    assert jumps["down"] == pytest.approx(right.min() / (2 * np.pi), rel=3e-3)
    assert jumps["up"] == pytest.approx(highest.max() / (2 * np.pi), rel=3e-3)
    biased = written(tmp_path, LAWFUL.replace("damping: 0", "damping: 2 %") + "state: pulled\n").modes(count=1)
    r = biased.respond({"sweep": ["2 Hz", "5 Hz"], "loads": {"pull": 0.1}, "follow": True}).result
    k = int(np.flatnonzero(r.up)[np.abs(r.frequency_hz[r.up] - 3.9).argmin()])
    least, most = held(biased, float(r.frequency_hz[k]), {"loads": ("pull", 0.1)}, 45, tmp_path, rows=32)
    np.testing.assert_allclose(r.highs[k], most, rtol=1e-2)
    np.testing.assert_allclose(r.lows[k], least, rtol=1e-2)


@pytest.mark.parametrize("whole", [True, pytest.param(False, marks=pytest.mark.long)])
def test_a_damped_stop_about_a_state_in_every_gauge(tmp_path, whole):
    modes = written(tmp_path, CROSSED).modes(count=6)
    event = {"sweep": ["20 Hz", "34 Hz"], "base": {"z": "0.28 g"}, "follow": True, "with state": whole}
    answer = modes.respond(event)
    r = answer.result
    first = r.followed[0].force
    beside = 0.0 if whole else first
    assert first > 1.0
    assert answer.table("one_way").loc[0, "open_at_most_percent"] > 5.0
    both = r.highs[:, 3] - beside  # of the whole force, which only presses
    assert both.max() <= 2e-3
    assert answer.table("limits").loc[0, "peak"] >= np.abs(r.lows[r.seen, 3] - beside).max() * (1 - 1e-6)
    k = int(np.flatnonzero(r.up & ~np.array([bool(x) for x in r.lost]))[-1])
    more = {"with state": True} if whole else {}
    acts = {"pulse": ("z", 0.28 * 9.80665)}
    least, most = held(modes, float(r.frequency_hz[k]), acts, 20, tmp_path, ramp=5, **more)
    for n in (0, 1, 3, 4):  # the damper's force alone jumps where it touches, by a speed of high modes
        size = max(abs(least[n]), abs(most[n]))
        assert [r.lows[k, n], r.highs[k, n]] == pytest.approx([least[n], most[n]], abs=0.02 * size)


@pytest.mark.parametrize(("change", "words"), [
    ({"sweep": {"at": ["3 Hz"]}}, "at least two frequencies"),
    ({"amplitudes": "rms"}, "amplitudes: rms"),
    ({"static correction": False}, "static correction: false"),
    ({"octaves per minute": 1}, "octaves per minute"),
    ({"full model at": ["3 Hz"]}, "full model at"),
])  # fmt: skip
def test_what_only_a_linear_sweep_has_is_refused(stopped, change, words):
    event = {"sweep": ["1.5 Hz", "8 Hz"], "loads": {"push": 0.5}, **change}
    with pytest.raises(HolokineError, match=words):
        stopped.respond({**event, "follow": True})
    with pytest.raises(HolokineError, match=words):
        stopped.respond(event, follow=True)


def test_rebounds_and_spectra_are_refused_by_name(tmp_path):
    text = STOPPED.replace("GAP", "0.01").replace(
        "rails:", "floor: {at: b, pushes: -x, gap: 0.02, restitution: 0.5}\n  rails:"
    )
    modes = written(tmp_path, text).modes(count=1)
    with pytest.raises(HolokineError, match='"floor" rebounds by a restitution'):
        modes.respond("sweep")
    with pytest.raises(HolokineError, match="follow is for events in time and for sine sweeps"):
        modes.respond({"spectrum": {"x": {"frequency": [1, 100], "acceleration": ["1 g", "1 g"]}}}, follow=True)
