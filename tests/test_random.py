"""Random vibration against closed forms, brute-force quadrature, hand calculation, and records made of the density."""

from __future__ import annotations

from itertools import pairwise
from math import erf, gamma, sqrt

import numpy as np
import pytest
from scipy.integrate import quad
from scipy.stats import chi2, norm

import holokine as hk
from conftest import chain, straight_beam
from holokine.errors import HolokineError
from holokine.excite.density import PowerPieces, crossed
from holokine.respond.moments import FeatureSpace, over_pole
from holokine.respond.random import RandomReader, dirlik, half_form, largest_expected, narrow_band, quadratic_percentile

G = 9.80665
WIDE = {"frequency": [1e-3, 1e6], "density": ["0.01 g^2/Hz"] * 2}
TABLE = {"frequency": [5, 20, 80, 300], "density": [f"{v} g^2/Hz" for v in (0.01, 0.04, 0.04, 0.002)]}


def one_mass(f: float = 40.0, ratio: float = 0.02) -> hk.Assembly:
    a = hk.Assembly("one mass").damping(ratio).point("p", [0, 0, 0]).mass("m", at="p", mass=2.0)
    a.spring("k", between=["ground", "p"], stiffness=2.0 * (2 * np.pi * f) ** 2, axis="x")
    a.support("guide", at="p", hold=["y", "z", "rx", "ry", "rz"]).gauge("a", acceleration="p", axis="x")
    a.gauge("u", displacement="p", axis="x").gauge("k", force="k").gauge("wall", reaction="guide")
    return a.gauge("v", velocity="p", axis="x", motion="relative")


def rms_of(answer) -> dict[str, float]:
    return {r.label: float(v) for r, v in zip(answer.result.reduced.readings, answer.result.rms, strict=True)}


def test_white_noise_on_one_mass_is_the_closed_form():
    answer = one_mass().modes(1).respond({"random": {"x": WIDE}, "duration": "10 min"})
    w, z, S = 2 * np.pi * 40.0, 0.02, 0.01 * G**2
    found = rms_of(answer)
    assert found["u x"] == pytest.approx(sqrt(S / (8 * z * w**3)), rel=1e-6)  # the band ends at 1 MHz
    assert found["k along"] == pytest.approx(2.0 * w**2 * sqrt(S / (8 * z * w**3)), rel=1e-6)
    assert found["a x"] == pytest.approx(sqrt(S * w * (1 + 4 * z**2) / (8 * z)), rel=1e-6)
    assert found["v x"] == pytest.approx(sqrt(S / (8 * z * w)), rel=1e-4)
    row = answer.table("peaks").set_index("gauge").loc["u"]
    assert row["crossings_hz"] == pytest.approx(40.0, rel=1e-4)
    assert row["peak"] == pytest.approx(3 * row["rms"])
    assert row["one_mode_rms"] == pytest.approx(row["rms"], rel=1e-5)  # there is but one
    assert row["expected_largest"] == pytest.approx(row["rms"] * float(largest_expected(40.0 * 600)), rel=1e-4)
    miles = sqrt(np.pi / 2 * 40.0 * (1 / (2 * z)) * 0.01)
    assert answer.table("peaks").set_index("gauge").loc["a", "one_mode_rms"] == pytest.approx(miles, rel=1e-9)


def brute(answer, label: str, power: float = 0.0) -> float:
    """∫ f^power S |H|² by adaptive quadrature of H as sweeps have it, piece by piece and about every mode."""
    result = answer.result
    reader, r = result.reader, result.reduced
    number = next(k for k, x in enumerate(r.readings) if x.label == label)
    reading = r.readings[number]
    half = half_form(reading)
    columns = np.array(reading.at(int(result.governing[number])))
    from holokine.respond.steady import SteadyMotion

    def size(f: float) -> float:
        omega = np.array([2 * np.pi * f])
        total = 0.0
        H = []
        for s in reader.sources:
            load = np.zeros((1, len(r.loads)), dtype=complex)
            load[0, r.column(s.column)] = 1.0
            q = reader.model.vibration.solve(omega, -r.participation, load)
            H.append(half @ reader.readout.read(SteadyMotion(q, load, omega, r), columns)[0])
        for j, one in enumerate(reader.sources):
            for k, other in enumerate(reader.sources):
                S = sqrt(one.density.at(np.array([f]))[0] * other.density.at(np.array([f]))[0])
                total += float((reader.together[j, k] * (H[j] @ H[k].conj())).real) * S
        return f**power * total

    edges = sorted({float(e) for s in reader.sources for e in (*s.density.start, s.density.end[-1])})
    centres, widths = reader.model.vibration.resonances()
    marks = [c + m * w for c, w in zip(centres, widths, strict=True) for m in (-30, -6, -1, 0, 1, 6, 30)]
    marks = sorted({*edges, *(m for m in marks if edges[0] < m < edges[-1])})
    return sum(quad(size, a, b, epsabs=0, epsrel=1e-11, limit=400)[0] for a, b in pairwise(marks))


@pytest.mark.parametrize("damped", ["modal", "coupled", "loss"])
def test_slopes_and_close_modes_against_quadrature(damped):
    a = chain([2.0, 1.0, 0.05], [2.0 * (2 * np.pi * 30) ** 2, 3e4, 0.05 * (2 * np.pi * 31) ** 2], 0.015)
    if damped == "coupled":
        a.spring("dash", between=["p1", "p3"], damping=6.0, axis="x")
    if damped == "loss":
        a = a.changed({"springs": {"k2": {"loss factor": 0.08}}})
    a.gauge("u3", displacement="p3", axis="x").gauge("a2", acceleration="p2", axis="x").gauge("f1", force="k1")
    a.gauge("v1", velocity="p1", axis="x", motion="absolute").gauge(
        "x1", displacement="p1", axis="x", motion="absolute"
    )
    a.gauge("held", reaction="guide 1")
    answer = a.modes(3).respond({"random": {"x": TABLE}})
    for k, reading in enumerate(answer.result.reduced.readings):
        if answer.result.rms[k] > answer.result.noise[k]:
            whole = brute(answer, reading.label)
            assert answer.result.rms[k] ** 2 == pytest.approx(whole, rel=1e-8), reading.label
            for n, power in enumerate((0, 1, 2, 4)):
                assert answer.result.moments[k, n] == pytest.approx(brute(answer, reading.label, power), rel=1e-7)


def over_by_force(pieces: PowerPieces, pole: complex, power: float) -> complex:
    def value(f: float, part) -> float:
        return float(part(f**power * pieces.at(np.array([f]))[0] / (f - pole)))

    exact = 0.0 + 0.0j
    for a, b in zip(pieces.start, pieces.end, strict=True):
        marks = [pole.real + m * abs(pole.imag) for m in (-300, -30, -3, 0, 3, 30, 300)]
        for low, high in pairwise([a, *(m for m in marks if a < m < b), b]):
            for part, unit in ((np.real, 1), (np.imag, 1j)):
                exact += unit * quad(value, low, high, args=(part,), epsabs=0, epsrel=1e-12, limit=300)[0]
    return exact


def test_integrals_over_pieces_are_exact():
    pieces = PowerPieces.through(np.array([5.0, 20.0, 80.0, 500.0]), np.array([0.01, 0.04, 0.04, 0.001]))
    z = np.array([30 + 0.3j, 20.0 + 0.05j, 0.02 + 3j, 900 - 5j, -40 + 1e-3j, 499.99 + 1e-2j])
    for power in (0.0, 1.0, 2.0):
        found = over_pole(pieces, z, power)
        exact = np.array([over_by_force(pieces, pole, power) for pole in z])
        np.testing.assert_allclose(found, exact, rtol=1e-9)
        f = np.geomspace(5, 500, 400_001)
        assert pieces.moment(power) == pytest.approx(np.trapezoid(f**power * pieces.at(f), f), rel=1e-8)
    gram = FeatureSpace(2j * np.pi * z[:3], (0, -1, -2)).gram(pieces)
    np.testing.assert_allclose(gram, gram.conj().T, rtol=1e-12)
    assert np.linalg.eigvalsh(gram).min() > -1e-12 * np.linalg.eigvalsh(gram).max()
    other = PowerPieces.through(np.array([10.0, 40.0, 900.0]), np.array([0.02, 0.01, 0.03]))
    both, f = crossed(pieces, other), np.geomspace(10, 500, 50)
    np.testing.assert_allclose(both.at(f), np.sqrt(pieces.at(f) * other.at(f)), rtol=1e-12)
    assert crossed(pieces, PowerPieces.through(np.array([600.0, 700.0]), np.ones(2))) is None


def bent() -> hk.Assembly:
    """A mast that bends in two planes and twists, with a body beside it at its top."""
    a = straight_beam(1.0, {"rectangle": {"width": 0.02, "height": 0.021}}, {"E": 200e9, "nu": 0.3, "density": 8000.0},
                      start="all", divisions=8)  # fmt: skip
    a.damping(0.02).mass("arm", at="b", mass=3.0, inertia=[0.02, 0.03, 0.03], offset=[0, 0.08, 0])
    return (
        a.gauge("tip", displacement="b").gauge("root", stress="beam").gauge("moment", beam_moment="beam", end="start")
    )


def test_covariance_in_two_planes_by_hand_and_equivalent_stress():
    modes = bent().modes(6)
    answer = modes.respond({"random": {"z": TABLE, "y": {**TABLE, "scale": 0.5}}})
    found = rms_of(answer)
    alone = [rms_of(modes.respond({"random": r})) for r in ({"z": TABLE}, {"y": {**TABLE, "scale": 0.5}})]
    noise = dict(zip((r.label for r in answer.result.reduced.readings), answer.result.noise, strict=True))
    for label, value in found.items():
        if np.isfinite(value):  # independent sources; along the mast some 6e-7 m, 1e-4 of what is across it
            assert value == pytest.approx(np.hypot(*(x[label] for x in alone)), rel=1e-9, abs=noise[label] / 5)
            assert noise[label] < 2e-9 * max(v for k, v in found.items() if k.split()[0] == label.split()[0])
    assert found["tip magnitude"] == pytest.approx(sqrt(sum(found[f"tip {d}"] ** 2 for d in "xyz")), rel=1e-12)
    # fully coherent and in phase: one shaking along a slanted axis
    both = {"random": {"z": TABLE, "y": TABLE}}
    together = modes.respond({**both, "coherence": [{"between": ["z", "y"], "coherence": 1.0}]})
    result = together.result
    number = next(k for k, r in enumerate(result.reduced.readings) if r.label == "tip z")
    assert result.rms[number] ** 2 == pytest.approx(brute(together, "tip z"), rel=1e-8)
    out_of = modes.respond({**both, "coherence": [{"between": ["z", "y"], "coherence": 1.0, "phase": "180 deg"}]})
    half = modes.respond({**both, "coherence": [{"between": ["z", "y"], "coherence": 0.25, "phase": "90 deg"}]})
    plain = modes.respond(both)
    mean = 0.5 * (together.result.rms**2 + out_of.result.rms**2)
    alone = [k for k, r in enumerate(result.reduced.readings) if r.count == 1 and plain.result.rms[k] > 1e-6]
    np.testing.assert_allclose(mean[alone], plain.result.rms[alone] ** 2, rtol=1e-9)  # the cross terms cancel
    assert half.result.rms[number] ** 2 == pytest.approx(brute(half, "tip z"), rel=1e-8)


def test_equivalent_stress_of_a_beam_in_bending_and_torsion_by_hand():
    b, h, L = 0.02, 0.03, 0.6
    a = hk.Assembly().material("m", E=2e11, nu=0.3, density=1.0).section("s", rectangle={"width": b, "height": h})
    a.point("root", [0, 0, 0]).point("end", [L, 0, 0]).damping(0.03)
    a.part("arm", beam={"through": ["root", "end"], "section": "s", "up": "z", "divisions": 4}, material="m")
    a.support("wall", at="root", hold="all").mass(
        "body", at="end", mass=4.0, inertia=[0.03, 0.02, 0.02], offset=[0, 0.1, 0]
    )
    a.gauge("eq", stress="arm", component="equivalent", end="start").gauge("n", stress="arm", end="start")
    a.gauge("f", beam_force="arm", end="start").gauge("m", beam_moment="arm", end="start")
    a.load("pull", at="end", force=[50.0, 30.0, -80.0], moment=[25.0, 0, 0])
    at_rest = a.respond({"static": "pull"}).table("peaks").set_index(["gauge", "component"])["value"]
    N, Vy, Vz, T, My, Mz = (
        at_rest[k] for k in (("f", "N"), ("f", "Vy"), ("f", "Vz"), ("m", "T"), ("m", "My"), ("m", "Mz"))
    )
    sigma = abs(N) / (b * h) + abs(My) / (b * h**2 / 6) + abs(Mz) / (h * b**2 / 6)
    assert at_rest["n", "extreme fibre"] == pytest.approx(1e-6 * sigma, rel=1e-9)
    W = 0.2314 * h * b**2  # Timoshenko & Goodier § 109, table 7, for 1.5
    tau = 1.5 * max(abs(Vy), abs(Vz)) / (b * h) + abs(T) / W
    assert at_rest["eq", "equivalent"] == pytest.approx(1e-6 * sqrt(sigma**2 + 3 * tau**2), rel=2e-3)
    answer = a.modes(6).respond({"random": {"z": TABLE, "y": TABLE}})
    readings = answer.result.reduced.readings
    six = {r.label: r.channels[0] for r in readings if r.gauge in ("f", "m") and r.width == 1}
    order = ["f N", "f Vy", "f Vz", "m T", "m My", "m Mz"]
    C = answer.result.reader.covariance(np.array([six[k] for k in order]))  # of the section forces
    best = 0.0
    for y, z in ((-1, -1), (1, -1), (1, 1), (-1, 1)):
        row = np.array([1 / (b * h), 0, 0, 0, z / (b * h**2 / 6), -y / (h * b**2 / 6)])
        for axis in (1, 2):
            for sign in (1, -1):
                shear = np.zeros(6)
                shear[axis], shear[3] = 1.5 / (b * h), sign / W
                best = max(best, float(row @ C @ row + 3 * shear @ C @ shear))
    k = next(n for n, r in enumerate(readings) if r.label == "eq equivalent")
    assert answer.result.rms[k] == pytest.approx(sqrt(best), rel=2e-3)
    assert answer.result.rms[k] > next(v for r, v in zip(readings, answer.result.rms, strict=True) if r.gauge == "n")
    for wrong, words in (({"component": "xx"}, "extreme fibres, or equivalent"), ({"surface": "top"}, "not surface")):
        with pytest.raises(HolokineError, match=words):
            _ = a.changed({"gauges": {"bad": {"stress": "arm", **wrong}}}).gauges
    plain = {"properties": {"area": 1e-4, "Iy": 1e-8, "Iz": 1e-8, "J": 1e-8, "fibres": [[0.01, 0.01]]}}
    with pytest.raises(HolokineError, match="given by numbers"):
        _ = a.changed({"sections": {"s": plain}}).gauges


def test_percentile_of_a_magnitude_and_of_equivalent_stress():
    for times in (1.0, 3.0, 5.0):
        p = erf(times / sqrt(2))
        for n in (2, 3, 6):
            assert quadratic_percentile(4.0 * np.eye(n), times) == pytest.approx(sqrt(4.0 * chi2.ppf(p, n)), rel=1e-9)
        assert quadratic_percentile(np.diag([9.0, 0, 0]), times) == pytest.approx(3.0 * times, rel=1e-9)
    rng = np.random.default_rng(4)
    C = np.array([[4.0, 1.0, 0.3], [1.0, 2.0, -0.5], [0.3, -0.5, 0.4]])
    x = rng.multivariate_normal(np.zeros(3), C, size=1_000_000)
    drawn = np.quantile(np.sqrt((x**2).sum(axis=1)), 0.99)
    assert quadratic_percentile(C, float(norm.ppf(0.995))) == pytest.approx(drawn, rel=3e-3)
    answer = bent().modes(6).respond({"random": {"z": TABLE, "y": TABLE}})
    row = answer.table("peaks").set_index(["gauge", "component"]).loc[("tip", "magnitude")]
    assert row["peak"] < 3.0 * row["rms"] * 1.2
    assert row["peak"] > 2.0 * row["rms"]
    assert np.isnan(row["crossings_hz"])


def simulated(answer, label: str, seconds: float, rate: float, seed: int) -> np.ndarray:
    """A record of a reading made from its sources by random phases through the answer's own transfer functions."""
    reader, r = answer.result.reader, answer.result.reduced
    reading = next(x for x in r.readings if x.label == label)
    count = int(seconds * rate)
    f = np.fft.rfftfreq(count, 1 / rate)
    rng, spectrum = np.random.default_rng(seed), np.zeros(len(f), dtype=complex)
    inside = f > 0
    values = np.zeros((int(inside.sum()), reader.space.count), dtype=complex)
    values[:] = reader.space.at(f[inside])
    R = reader.features(np.array(reading.at(0))).reshape(len(reader.sources), reader.space.count)
    for j, s in enumerate(reader.sources):
        size = np.sqrt(s.density.at(f[inside]) / (2 * seconds)) * count
        noise = (rng.normal(size=len(size)) + 1j * rng.normal(size=len(size))) / sqrt(2) * size
        spectrum[inside] += (values @ R[j]) * noise
    return np.fft.irfft(spectrum, count)


def rainflow(x: np.ndarray) -> np.ndarray:
    """Amplitudes of closed cycles, counted by four points (the residue as half cycles is left out)."""
    turning = x[np.concatenate([[True], np.diff(np.sign(np.diff(x))) != 0, [True]])]
    stack, found = [], []
    for value in turning:
        stack.append(value)
        while len(stack) >= 4:
            a, b, c, d = stack[-4:]
            inner = abs(c - b)
            if inner <= abs(b - a) and inner <= abs(d - c):
                found.append(inner / 2)
                del stack[-3:-1]
            else:
                break
    return np.array(found)


def test_a_long_record_has_the_rms_crossings_and_damage_told():
    a = chain([2.0, 0.4], [2.0 * (2 * np.pi * 25) ** 2, 0.4 * (2 * np.pi * 70) ** 2], 0.03)
    a.gauge("f", force="k2").gauge("u", displacement="p1", axis="x")
    event = {"random": {"x": TABLE}, "duration": "400 s", "fatigue": {"slope": 4}}
    answer = a.modes(2).respond(event)
    for label in ("f along", "u x"):
        x = simulated(answer, label, 400.0, 4096.0, 7)
        k = next(n for n, r in enumerate(answer.result.reduced.readings) if r.label == label)
        assert x.std() == pytest.approx(answer.result.rms[k], rel=0.02)
        ups = np.count_nonzero((x[:-1] < 0) & (x[1:] >= 0)) / 400.0
        assert ups == pytest.approx(answer.result.crossings_hz[k], rel=0.02)
        assert np.abs(x).max() == pytest.approx(answer.result.expected_largest[k], rel=0.15)
        row = answer.table("fatigue").iloc[k]
        size = x.std() / (answer.result.rms[k])  # counts are of this record
        damage = (rainflow(x) ** 4).sum()
        unit = {"N": 1.0, "mm": 1e-3}[row["unit"]]
        told = row["cycles"] * (row["wide_band_amplitude"] * unit) ** 4
        assert told * size**4 == pytest.approx(damage, rel=0.12)
        assert row["narrow_band_amplitude"] >= 0.97 * row["wide_band_amplitude"]


def test_damage_of_a_narrow_band_is_that_of_rayleigh():
    m0, f = 4.0, 30.0
    moments = np.array([m0 * f**n for n in (0, 1, 2, 4)])
    mean, rate = dirlik(moments, 5.0)
    assert rate == pytest.approx(f)
    assert mean == pytest.approx((2 * m0) ** 2.5 * gamma(3.5))
    almost = moments * np.array([1, 0.9999, 1.0002, 1.0014])
    assert dirlik(almost, 5.0)[0] == pytest.approx(narrow_band(m0, 5.0), rel=0.05)


def test_a_continuous_cantilever_under_white_noise():
    section, material = {"rectangle": {"width": 0.03, "height": 0.008}}, {"E": 70e9, "nu": 0.3, "density": 2700.0}
    a = straight_beam(0.6, section, material, start="all", suppress=["y", "rx", "rz"], divisions=24, theory="euler")
    a.damping(0.01).gauge("tip", displacement="b", axis="z")
    band = {"frequency": [1, 2000], "density": ["0.001 g^2/Hz"] * 2}
    answer = a.modes(8).respond({"random": {"z": band}})
    stiff, mass = 70e9 * 0.03 * 0.008**3 / 12, 2700 * 0.03 * 0.008
    total = 0.0
    for root in (1.8751040687, 4.6940911330, 7.8547574382):  # modes far apart, each alone
        w = (root / 0.6) ** 2 * sqrt(stiff / mass)
        s = (np.sinh(root) - np.sin(root)) / (np.cosh(root) + np.cos(root))
        push = 2 * s / root  # ∫φ / ∫φ² over the length, φ at the tip being 2
        total += (2 * push) ** 2 * 0.001 * G**2 / (8 * 0.01 * w**3)
    assert rms_of(answer)["tip z"] == pytest.approx(sqrt(total), rel=2e-3)


def test_sources_by_rows_slopes_pasted_and_files(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "psd.csv").write_text("frequency_hz,density_g2_hz\n10,0.01\n40,0.04\n200,0.04\n")
    a = one_mass()
    rows = {"frequency": [10, 40, 200], "density": ["0.01 g^2/Hz", "0.04 g^2/Hz", "0.04 g²/Hz"]}
    slopes = {"frequency": [10, 40, 200], "level": "0.04 g^2/Hz", "at": 40, "slopes": [10 * np.log10(2), 0]}
    pasted = {"pasted": "frequency (Hz)  density (g^2/Hz)\n10  0.01\n40  0.04\n200  0.04"}
    ways = [rows, slopes, pasted, {"file": "psd.csv"}, {**rows, "density": [v * G**2 for v in (0.01, 0.04, 0.04)]}]
    modes = a.modes(1)
    found = [rms_of(modes.respond({"random": {"x": way}}))["a x"] for way in ways]
    np.testing.assert_allclose(found, found[0], rtol=1e-9)
    answer = modes.respond({"random": {"x": {**rows, "rms": "2.65 g"}}})
    table = answer.table("sources")
    overall = sqrt(0.001 / 2 * (40**2 - 10**2) + 0.04 * 160)  # the first slope is S = 0.001 f
    assert table["rms"].iloc[0] == pytest.approx(overall, rel=1e-12)
    assert not any("off the one stated" in f.text for f in answer.findings)
    wrong = modes.respond({"random": {"x": {**rows, "rms": "3 g"}}})
    assert any("-10.9 % off the one stated" in f.text for f in wrong.findings)
    held = modes.respond({"random": {"x": {**rows, "outside": "hold"}}})
    assert rms_of(held)["a x"] > found[0]
    push = a.load("push", at="p", force=[10, 0, 0]).modes(1).respond({
        "random": {}, "loads": {"push": {"frequency": [1e-3, 1e5], "density": ["0.1 1/Hz"] * 2}}})  # fmt: skip
    w, z = 2 * np.pi * 40.0, 0.02
    assert rms_of(push)["u x"] == pytest.approx(sqrt((10 / 2.0) ** 2 * 0.1 / (8 * z * w**3)), rel=1e-4)


@pytest.mark.parametrize(
    ("event", "words"),
    [
        ({"random": {}}, "nothing shakes"),
        ({"random": {"x": {"frequency": [5, 4], "density": [1, 1]}}}, "does not rise"),
        ({"random": {"x": {"frequency": [4, 5], "density": [1, 0]}}}, "between all of its rows"),
        ({"random": {"x": {"frequency": [4, 5, 6], "level": 1.0, "slopes": [3]}}}, "slopes in dB per octave"),
        ({"random": {"x": {"frequency": [4, 5], "level": 1.0, "slopes": [3], "at": 7}}}, "none of the frequencies"),
        ({"random": {"x": {"frequency": [4, 5], "density": ["1 g/Hz", "1 g/Hz"]}}}, "expected"),
        ({"random": {"x": TABLE}, "coherence": [{"between": ["x", "q"], "coherence": 1}]}, "no source"),
        ({"random": {"x": TABLE, "y": TABLE}, "coherence": [{"between": ["x", "y"], "coherence": 1.2}]}, "1"),
        ({"random": {"x": TABLE, "y": TABLE, "z": TABLE}, "coherence": [
            {"between": ["x", "y"], "coherence": 1}, {"between": ["y", "z"], "coherence": 1}]}, "cannot all be so"),
        ({"random": {"x": TABLE}, "fatigue": {"slope": 4}}, "needs a duration"),
        ({"random": {"x": TABLE}, "times": 9}, "at most 5.5"),
        ({"random": {"x": {"pasted": "q z\n1 2"}}}, "cannot be understood"),
        ({"random": {"x": "none.csv"}}, "no such file"),
        ({"random": {"x": TABLE}, "damping": 0.0}, "has no damping"),
        ({"random": {"x": TABLE}, "damping": {"table": [["1 Hz", 1.0], ["99 Hz", 1.0]]}}, "critically"),
        ({"random": {"x": TABLE}, "combine": "cqc"}, "belongs to"),
    ],
)  # fmt: skip
def test_what_makes_no_sense_is_refused(event, words):
    with pytest.raises(HolokineError, match=words):
        one_mass().modes(1).respond(event)


@pytest.mark.parametrize("stiffness", [4e4, 4e8, 4e9, 4e11])
def test_stiff_modes_keep_their_digits_beside_large_accelerations(stiffness):
    """Displacements of 1e-7 m beside 1e3 m/s²: the transmissibility of one mass by adaptive quadrature."""
    a = hk.Assembly().point("g", [0, 0, 0]).support("s", at="g", hold="all").damping(0.03)
    a.point("p", [0.1, 0, 0]).mass("m", at="p", mass=2.0, inertia=[1.0, 1.0, 1.0])
    a.support("guide", at="p", hold=["y", "z", "rx", "ry", "rz"])
    a.spring("k", between=["g", "p"], stiffness=stiffness, axis="x").gauge("u", displacement="p", axis="x")
    answer = a.modes().respond({"random": {"x": {"frequency": [5, 2000], "density": ["1 g^2/Hz"] * 2}}})
    f0 = sqrt(stiffness / 2.0) / (2 * np.pi)
    edges = sorted({5.0, 2000.0, *(x for x in (0.8 * f0, 0.95 * f0, f0, 1.05 * f0, 1.3 * f0) if 5 < x < 2000)})
    square = sum(
        quad(lambda f: 1.0 / ((f0**2 - f**2) ** 2 + (0.06 * f0 * f) ** 2), lo, hi, epsabs=0, epsrel=1e-12)[0]
        for lo, hi in pairwise(edges)
    )
    wanted = 9.80665 / (2 * np.pi) ** 2 * sqrt(square)
    assert answer.result.rms[0] == pytest.approx(wanted, rel=1e-8)
    assert answer.field.displacement().max() == pytest.approx(wanted, rel=1e-8)


def test_covariances_give_what_a_gauge_of_the_difference_reads():
    """By the RMS of gauges between two points, and of a spring between them."""
    a = hk.Assembly().point("g", [0, 0, 0]).support("s", at="g", hold="all").damping(0.03)
    for n, (mass, k) in enumerate(((2.0, 4e4), (1.0, 3e4)), 1):
        a.point(f"p{n}", [0.1 * n, 0, 0]).mass(f"m{n}", at=f"p{n}", mass=mass, inertia=[1.0, 1.0, 1.0])
        a.support(f"guide {n}", at=f"p{n}", hold=["y", "z", "rx", "ry", "rz"])
        a.spring(f"k{n}", between=["g" if n == 1 else f"p{n - 1}", f"p{n}"], stiffness=k, axis="x")
        a.gauge(f"u{n}", displacement=f"p{n}").gauge(f"a{n}", acceleration=f"p{n}", axis="x").gauge(
            f"f{n}", force=f"k{n}"
        )
    a.gauge("gap", displacement="p2", relative_to="p1", axis="x").gauge(
        "da", acceleration="p2", relative_to="p1", axis="x"
    )
    answer = a.modes().respond({"random": {"x": TABLE}})
    rms = answer.table("peaks").set_index(["gauge", "component"])["rms"]
    table = answer.table("covariance", "u1", "u2 x", "f2", "a1", "a2", "u1")
    names = ["u1 x (mm)", "u1 y (mm)", "u1 z (mm)", "u2 x (mm)", "f2 along (N)", "a1 x (g)", "a2 x (g)"]
    assert table.index.tolist() == table.columns.tolist() == names
    for name, column in (("u1 x (mm)", ("u1", "x")), ("f2 along (N)", ("f2", "along")), ("a2 x (g)", ("a2", "x"))):
        assert table.loc[name, name] == pytest.approx(rms[column] ** 2, rel=1e-12)
    for weights, gauge in (({"u2 x (mm)": 1.0, "u1 x (mm)": -1.0}, "gap"), ({"a2 x (g)": 1.0, "a1 x (g)": -1.0}, "da"),
                           ({"u2 x (mm)": 30.0, "u1 x (mm)": -30.0}, "f2")):  # fmt: skip
        w = table.columns.map(weights).fillna(0.0).to_numpy()
        assert (w @ table.to_numpy() @ w) ** 0.5 == pytest.approx(rms[gauge].iloc[0], rel=1e-8)
    assert table.loc["f2 along (N)", "u2 x (mm)"] == pytest.approx(
        30.0 * (table.loc["u2 x (mm)", "u2 x (mm)"] - table.loc["u1 x (mm)", "u2 x (mm)"]), rel=1e-8)  # fmt: skip
    for words, wrong in (("no gauge", ["nobody"]), ("name gauges with a component", ["u1 magnitude"])):
        with pytest.raises(HolokineError, match=words):
            answer.table("covariance", *wrong)


def test_fields_shares_curves_and_limits_go_with_the_table(tmp_path):
    a = bent().limit("tip", {"z": "1 mm"}).event("road", random={"z": TABLE, "y": TABLE}, duration="1 h", times=4)
    a.band("fan", range=["20 Hz", "30 Hz"])
    modes = a.modes(6)
    answer = modes.respond("road")
    assert answer.event.kind == "random"
    table = answer.table("peaks").set_index(["gauge", "component"])
    points = answer.table("points").set_index("point")
    for d in "xyz":
        assert points.loc["b", f"{d}_rms_mm"] == pytest.approx(table.loc[("tip", d), "rms"], rel=1e-9, abs=1e-12)
    assert answer.table("stress").set_index("part").loc["beam"].iloc[0] == pytest.approx(
        table.loc[("root", "extreme fibre"), "rms"], rel=2e-3)  # fmt: skip
    curve = answer.table("density", "tip")
    for d in "yz":
        f, s = curve["frequency_hz"], curve[f"tip {d} density (mm²/Hz)"]
        assert np.sqrt(np.trapezoid(s, f)) == pytest.approx(table.loc[("tip", d), "rms"], rel=5e-3)
        running = curve[f"tip {d} running RMS (mm)"]
        assert running.iloc[-1] == pytest.approx(table.loc[("tip", d), "rms"], rel=1e-9)
        assert running.is_monotonic_increasing
    own = answer.table("density", "tip", at=["0.0421 kHz", float(curve["frequency_hz"].iloc[7])])
    assert own["frequency_hz"].tolist() == [42.1, curve["frequency_hz"].iloc[7]]
    np.testing.assert_allclose(own.iloc[1], curve.iloc[7], rtol=1e-6)
    fine = answer.table("density", "tip", at=np.linspace(42.1, 55.0, 2001))
    for d in "yz":  # what the density gives between two frequencies is what the mean square gains
        run = fine[f"tip {d} running RMS (mm)"]
        gained = np.trapezoid(fine[f"tip {d} density (mm²/Hz)"], fine["frequency_hz"])
        assert run.iloc[-1] ** 2 - run.iloc[0] ** 2 == pytest.approx(gained, rel=2e-3)
        assert own[f"tip {d} running RMS (mm)"].iloc[0] == pytest.approx(run.iloc[0], rel=1e-3)
    with pytest.raises(hk.errors.EventError, match=r"at: what acts reaches from .* Hz; 1e\+06 Hz lies outside"):
        answer.table("density", "tip", at=1e6)
    shares = answer.table("shares")
    sums = shares.groupby(["gauge", "component"])["share_percent"].sum()
    assert ((sums - 100.0).abs() < 6.0).all()
    limits = answer.table("limits")
    assert limits["peak"].iloc[0] == pytest.approx(4 * table.loc[("tip", "z"), "rms"])
    assert answer.ok == bool((limits["met"] == "yes").all())
    answer.save(tmp_path / "road.vtu")
    import meshio

    data = meshio.read(tmp_path / "road.vtu").point_data
    assert np.abs(data["RMS of displacement (m)"]).max() == pytest.approx(
        max(points[[f"{d}_rms_mm" for d in "xyz"]].max()) / 1e3, rel=1e-9)  # fmt: skip
    figure = answer.plot()
    assert [ax.get_ylabel() for ax in figure.axes] == ["g²/Hz", "mm²/Hz", "MPa²/Hz", "N m²/Hz", "running RMS (%)"]
    saved = hk.open_run(modes.save(tmp_path / "bent.run")).respond("road")
    np.testing.assert_allclose(saved.result.rms, answer.result.rms, rtol=1e-12)


def test_nothing_grows_with_the_square_of_places():
    shape = {"corner": [0, 0, 0], "sides": [[1, 0, 0], [0, 1, 0]], "divisions": [40, 40], "thickness": 0.004}
    a = hk.Assembly().material("m", E=2e11, nu=0.3, density=7800.0).part("p", plate=shape, material="m").damping(0.02)
    a.support("edge", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all").gauge("s", stress="p")
    answer = a.modes(12).respond({"random": {"z": TABLE}})
    whole = answer.table("stress").set_index("part").loc["p"].iloc[0]
    assert whole == pytest.approx(answer.table("peaks")["rms"].iloc[0], rel=1e-6)
    result = answer.result
    reading = result.reduced.readings[0]
    place = int(result.governing[0])  # the slow way: covariance of the components of one place
    half = half_form(reading)
    C = result.reader.covariance(np.array(reading.at(place)))
    assert np.trace(half @ C @ half.T) == pytest.approx(result.rms[0] ** 2, rel=1e-9)
    assert result.peaks[0] == pytest.approx(quadratic_percentile(half @ C @ half.T, 3.0), rel=1e-9)


def test_all_readings_are_read_and_multiplied_together(monkeypatch):
    """As many as fit a block at once, whatever their kind; one by one they are the same, by half forms too."""
    a = bent().point("in", [0.5, 0, 0]).point("at", [0.25, 0, 0])
    for k in range(12):
        a.gauge(f"a{k}", acceleration="in").gauge(f"v{k}", velocity="at").gauge(f"d{k}", displacement="in")
    event = {"random": {"z": TABLE, "y": {**TABLE, "scale": 0.5}}, "damping": 0.03}
    calls = []
    features = RandomReader.features
    monkeypatch.setattr(RandomReader, "features", lambda self, c: calls.append(np.size(c)) or features(self, c))
    modes = a.modes(6)
    result = modes.respond(event).result
    many = len(result.reduced.readings)
    assert many > 140
    assert len(calls) <= 3  # places of fields, and all that is told at once
    monkeypatch.setattr("holokine.respond.random._PLACES", 5)
    calls.clear()
    apart = modes.respond(event).result
    assert len(calls) > 25
    for name in ("rms", "peaks", "moments", "one_mode", "main_share", "crossings_hz"):
        np.testing.assert_allclose(getattr(apart, name), getattr(result, name), rtol=1e-9, equal_nan=True)
    reader = result.reader
    for n, reading in enumerate(result.reduced.readings):
        half = half_form(reading)
        if half is None or not result.rms[n] > result.noise[n]:
            continue
        look = next(reader.looks([(reading, int(result.governing[n]))]))
        R = features(reader, np.array(reading.at(int(result.governing[n])))) @ half.T
        for power, moment in zip((0, 1, 2, 4), look.moments, strict=True):
            assert (R * (reader.gram(power) @ R.conj())).sum().real == pytest.approx(moment, rel=1e-7)
        assert look.shares.sum() + look.rest == pytest.approx(1.0, abs=1e-12)
        assert np.trace(half @ look.covariance @ half.T) == pytest.approx(result.rms[n] ** 2, rel=1e-9)
