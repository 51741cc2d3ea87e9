"""Rules of combination against plain loops and closed forms; spectra, limits, composite damping, conservatism."""

from __future__ import annotations

import json
import math
import re
from itertools import product

import numpy as np
import pytest

import holokine as hk
from conftest import STEEL, chain, straight_beam
from holokine.describe.document import Places, validated
from holokine.elements.stress import equivalent_form
from holokine.errors import EventError
from holokine.excite.pulse import build_pulse
from holokine.excite.spectrum import build_spectrum
from holokine.respond.combine import respond_spectrum
from holokine.respond.conservatism import pulse_spectrum
from holokine.respond.rules import RULES, Combination, cqc_correlation, grouping, over_directions, rigid_share
from test_cli import inside as holokine

G = 9.80665


def described(**event):
    """A validated event."""
    return validated({"holokine": 1, "events": {"e": event}}, Places(), None).description.events["e"]


def spectrum(**table):
    return build_spectrum(described(spectrum={"z": table}).spectrum["z"])


def by_hand(rule, omega, zeta, values, duration=10.0):
    """Each rule written out as a double loop over modes, one column at a time."""
    n = len(omega)
    result = []
    for column in values.T:
        if rule == "absolute":
            result.append(sum(abs(v) for v in column))
        elif rule == "largest plus srss":
            k = int(np.argmax(np.abs(column)))
            result.append(abs(column[k]) + math.sqrt(sum(v**2 for i, v in enumerate(column) if i != k)))
        else:
            total = 0.0
            for i, j in product(range(n), range(n)):
                if rule == "srss":
                    c, term = float(i == j), column[i] * column[j]
                elif rule == "cqc":
                    r = omega[j] / omega[i]
                    top = 8 * math.sqrt(zeta[i] * zeta[j]) * (zeta[i] + r * zeta[j]) * r**1.5
                    low = (
                        (1 - r**2) ** 2
                        + 4 * zeta[i] * zeta[j] * r * (1 + r**2)
                        + 4 * (zeta[i] ** 2 + zeta[j] ** 2) * r**2
                    )
                    c, term = top / low, column[i] * column[j]
                elif rule == "double sum":
                    di, dj = (omega[k] * math.sqrt(1 - zeta[k] ** 2) for k in (i, j))
                    zi, zj = (zeta[k] + 2 / (duration * omega[k]) for k in (i, j))
                    c = 1 / (1 + ((di - dj) / (zi * omega[i] + zj * omega[j])) ** 2)
                    term = abs(column[i] * column[j])
                else:
                    groups, first = [], None
                    for w in omega:
                        if first is None or w > 1.1 * first:
                            first = w
                            groups.append(first)
                        else:
                            groups.append(first)
                    c, term = float(groups[i] == groups[j]), abs(column[i] * column[j])
                total += c * term
            result.append(math.sqrt(total))
    return np.array(result)


@pytest.mark.parametrize("rule", RULES)
def test_rules_against_loops(rule):
    """Unequal damping, close modes, and two modes of exactly the same frequency."""
    rng = np.random.default_rng(3)
    omega = 2 * np.pi * np.array([5.0, 5.3, 9.0, 9.0, 20.0, 21.5, 60.0])
    zeta = rng.uniform(0.01, 0.08, 7)
    values = rng.standard_normal((7, 11))
    c = Combination.make(rule, omega, zeta, duration=6.0)
    np.testing.assert_allclose(c.periodic(values), by_hand(rule, omega, zeta, values, 6.0), rtol=1e-12)
    missing = rng.standard_normal((1, 11))
    whole = c.combined(values[:, None], missing)[0]
    p = by_hand(rule, omega, zeta, values, 6.0)
    np.testing.assert_allclose(
        whole, p + abs(missing[0]) if rule == "absolute" else np.hypot(p, missing[0]), rtol=1e-12
    )
    # contributions add up to the square, with a rigid part too
    for rigid in (None, np.repeat(rigid_share(omega / 2 / np.pi, 6, 33)[:, None], 2, axis=1)):
        both = Combination.make(rule, omega, zeta, rigid=rigid)
        v, m = rng.standard_normal((7, 2, 1)), rng.standard_normal((2, 1))
        mode, rest = both.shares(v, m, np.eye(1))
        assert mode.sum() + rest == pytest.approx(float((both.combined(v, m) ** 2).sum()), rel=1e-10)


def test_equal_frequencies_and_limits_of_the_rules():
    omega, zeta = np.array([30.0, 30.0]), np.array([0.04, 0.04])
    values = np.array([[3.0, 3.0], [2.0, -2.0]])
    np.testing.assert_allclose(Combination.make("cqc", omega, zeta).periodic(values), [5.0, 1.0], rtol=1e-12)
    np.testing.assert_allclose(Combination.make("grouped", omega, zeta).periodic(values), [5.0, 5.0])
    far = np.array([1.0, 1e4])
    for rule in ("cqc", "double sum"):
        got = Combination.make(rule, far, zeta, duration=1e6).periodic(values)
        np.testing.assert_allclose(got, np.sqrt(13.0), rtol=1e-3)
    assert grouping(np.array([1.0, 1.05, 1.11, 1.16])).tolist() == [
        [1, 1, 0, 0],
        [1, 1, 0, 0],
        [0, 0, 1, 1],
        [0, 0, 1, 1],
    ]
    np.testing.assert_allclose(rigid_share(np.array([1.0, 10.0, np.sqrt(300), 30.0, 99.0]), 10, 30), [0, 0, 0.5, 1, 1])
    three = np.array([[3.0], [2.0], [1.0]])
    assert over_directions(three, "100-30-30")[0] == pytest.approx(3.9)
    assert over_directions(three, "100-40-40")[0] == pytest.approx(4.2)
    assert over_directions(three, "absolute")[0] == 6.0


@pytest.mark.parametrize("rule", RULES)
def test_equivalent_stress_by_the_form_not_from_combined_components(rule):
    """One place: the form against a loop over pairs of modes with the rule's own correlation."""
    rng = np.random.default_rng(7)
    omega, zeta = 2 * np.pi * np.array([5.0, 5.3, 9.0, 20.0]), np.full(4, 0.03)
    stress, missing, A = rng.standard_normal((4, 1, 3, 6)), rng.standard_normal((1, 3, 6)), equivalent_form(6)
    c = Combination.make(rule, omega, zeta)
    got = c.form(stress, missing, A)[0]
    for place in range(3):
        s = stress[:, 0, place]
        pairs = s @ A @ s.T
        if rule in ("absolute", "largest plus srss"):
            p = by_hand(rule, omega, zeta, np.sqrt(np.diag(pairs))[:, None])[0]
        else:
            C = np.eye(4) if c.matrix is None else c.matrix
            p = np.sqrt((C * (np.abs(pairs) if c.signless else pairs)).sum())
        rest = np.sqrt(missing[0, place] @ A @ missing[0, place])
        assert got[place] == pytest.approx(p + rest if rule == "absolute" else np.hypot(p, rest), rel=1e-12)


def cantilever() -> hk.Assembly:
    a = straight_beam(1.0, {"rectangle": {"width": 0.03, "height": 0.05}}, STEEL, start="all", divisions=16)
    return a.gauge("wall", reaction="left").gauge("tip", acceleration="b").gauge("sag", displacement="b")


def test_rigid_parts_add_up_to_the_static_answer():
    """All modes in phase with the base: the answer is the static one under the zero-period acceleration, whatever
    the number of modes kept, since modes and missing mass combine algebraically."""
    for count in (1, 3, 12):
        modes = cantilever().modes(count)
        flat = {"frequency": [0.1, 1e5], "acceleration": [2 * G, 2 * G]}
        event = {"spectrum": {"z": flat}, "rigid between": [0.001, 0.01], "outside": "hold"}
        for rule in ("srss", "absolute", "double sum"):
            answer = modes.respond({**event, "combine": rule}).result
            reduced = answer.reduced
            for number, reading in enumerate(reduced.readings):
                if reading.how != "single":
                    continue
                still = abs(reduced.static[2, reading.channels[0]]) * 2 * G
                assert answer.peaks[number] == pytest.approx(still, rel=1e-6, abs=1e-9 * answer.peaks.max())


def test_missing_mass_makes_up_the_reaction_of_a_stiff_assembly():
    modes = cantilever().modes(2)
    event = {"spectrum": {"x": {"frequency": [1, 1e5], "acceleration": ["1 g", "1 g"]}}, "combine": "srss"}
    answer = modes.respond(event)
    row = next(i for i, r in enumerate(answer.result.reduced.readings) if r.label == "wall x")
    # no kept mode stretches: all is missing mass, and what sits on the support goes with the base
    assert answer.result.peaks[row] == pytest.approx(modes.set.whole_mass[0] * G, rel=1e-9)


@pytest.mark.parametrize("rule", ["srss", "cqc", "double sum"])
def test_turning_the_axes_changes_nothing_under_srss_of_directions(rule):
    """The same spectrum along all directions, the assembly turned by 30 degrees: magnitudes stay (signed rules)."""
    peaks = []
    c, s = math.cos(math.pi / 6), math.sin(math.pi / 6)
    for turn in (np.eye(3), np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, 1.0]])):
        a = hk.Assembly().material("m", **STEEL).section("s", rectangle={"width": 0.03, "height": 0.05})
        places = [turn @ p for p in ([0, 0, 0], [0.6, 0, 0.1], [0.9, 0.4, 0.3])]
        for i, p in enumerate(places):
            a.point(f"p{i}", p.tolist())
        a.part("bar", beam={"through": ["p0", "p1", "p2"], "section": "s", "up": turn[:, 2].tolist(), "divisions": 8},
               material="m")  # fmt: skip
        a.support("wall", at="p0", hold="all").gauge("tip", displacement="p2").gauge("wall", reaction="wall")
        table = {"frequency": [1, 20, 1000], "acceleration": ["1 g", "4 g", "2 g"]}
        event = {"spectrum": {"x": table, "y": table, "z": table}, "combine": rule, "outside": "hold"}
        answer = a.modes(8).respond(event).result
        peaks.append([p for p, r in zip(answer.peaks, answer.reduced.readings, strict=True) if r.how == "magnitude"])
    if rule == "double sum":  # sizes of products are not invariant
        np.testing.assert_allclose(peaks[0], peaks[1], rtol=0.2)
    else:
        np.testing.assert_allclose(peaks[0], peaks[1], rtol=1e-7)


def test_one_mode_closed_form_signs_and_main_modes(crate_modes):
    k, m = 4000.0, 10.0
    a = chain([m], [k]).gauge("force", force="k1").gauge("mass", acceleration="p1", axis="x")
    event = {"spectrum": {"x": {"frequency": [1, 100], "acceleration": ["2 g", "2 g"]}}}
    for rule in RULES:
        answer = a.modes(1).respond({**event, "combine": rule})
        assert answer.result.peaks[0] == pytest.approx(m * 2 * G, rel=1e-9)
        assert answer.result.peaks[1] == pytest.approx(2 * G, rel=1e-9)
    answer = crate_modes.respond("works shock")
    main = answer.table("main_modes", 0.95).set_index(["gauge", "component"])
    shares = answer.table("shares")
    for (gauge, component), row in main.iterrows():
        every = np.sort(shares[f"{gauge} {component} (%)".replace("  ", " ")].to_numpy())[::-1]
        assert row["share_percent"] >= 95.0 - 1e-9
        assert every[: row["count"] - 1].sum() < 95.0
    signed = answer.table("peaks", signed=True)
    np.testing.assert_allclose(signed["peak"].abs(), answer.table("peaks")["peak"])
    feet = signed[signed["gauge"] == "transformer feet"].set_index("component")["peak"]
    assert feet["magnitude"] > 0
    assert feet["z"] < 0  # mode 3 lifts the transformer while the base goes down


def test_spectra_of_every_make():
    corners = spectrum(
        corners={"displacement": "10 mm", "velocity": "0.5 m/s", "acceleration": "5 g", "range": [1, 500]}
    )
    for f in (1.0, 3.0, 30.0, 400.0):
        w = 2 * np.pi * f
        assert corners.at([f])[0] == pytest.approx(min(w**2 * 0.01, w * 0.5, 5 * G), rel=1e-9)
    levels = spectrum(levels={"2 %": {"frequency": [1, 100], "acceleration": [4.0, 8.0]},
                              "8 %": {"frequency": [1, 100], "acceleration": [2.0, 4.0]}})  # fmt: skip
    np.testing.assert_allclose(levels.at(np.array([1.0, 1, 1, 1]), np.array([0.02, 0.04, 0.08, 0.3])),
                               [4.0, np.sqrt(8.0), 2.0, 2.0])  # fmt: skip
    one = {"frequency": [1, 10, 100], "acceleration": [1.0, 10.0, 1.0]}
    two = {"frequency": [1, 100], "acceleration": [3.0, 3.0]}
    both = spectrum(envelope=[one, two])
    f = np.geomspace(1, 100, 333)
    np.testing.assert_allclose(both.at(f), np.maximum(spectrum(**one).at(f), 3.0), rtol=1e-9)
    wide = spectrum(**one, broaden="15 %")
    assert wide.at([8.6])[0] == pytest.approx(10.0, rel=1e-2)
    assert wide.at([11.4])[0] == pytest.approx(10.0, rel=1e-2)
    assert (wide.at(f) >= spectrum(**one).at(f) * (1 - 2e-2)).all()
    assert spectrum(**one, scale=2, floor=5.0).at([1.0, 10.0]).tolist() == pytest.approx([5.0, 20.0])
    semi = build_spectrum(described(spectrum={"z": one}).spectrum["z"], interpolate="semi-log", outside="zero")
    assert semi.at([np.sqrt(10.0), 200.0]).tolist() == pytest.approx([5.5, 0.0])
    pasted = spectrum(text="frequency_hz; acceleration_g\n# bench\n5; 1\n100; 4\n")
    np.testing.assert_allclose(pasted.at([5.0, 100.0]), [G, 4 * G])
    with pytest.raises(EventError, match=r"line 3: .* is not a number"):
        spectrum(text="frequency_hz, acceleration_g\n5, 1\n100, four")
    for table, words in (
        ({"text": "", "file": "a.csv"}, "only one of them"),
        ({"levels": {"2 %": one}}, "two damping ratios"),
        ({"levels": {"2 %": one, "0.02": two}}, "stands twice"),
        ({"levels": {"two": one, "3 %": two}}, "damping level"),
        ({"corners": {"range": [1, 10]}}, "give displacement"),
        ({"corners": {"range": [10, 1], "velocity": "1 m/s"}}, "rise"),
        ({**one, "envelope": [one]}, "give one of"),
        ({**one, "broaden": 1.5}, "less than 100 %"),
    ):
        with pytest.raises(hk.HolokineError, match=words):
            spectrum(**table)
    with pytest.raises(hk.HolokineError, match="rigid between"):
        described(spectrum={"z": one}, rigid_between=[30, 10])


def test_findings_about_damping_steep_edges_and_modes_outside():
    a = chain([10.0], [4000.0], 0.05).gauge("force", force="k1")  # 3.18 Hz
    modes = a.modes(1)
    steep = {"frequency": [1, 3.0, 3.4, 50], "acceleration": [1.0, 1.0, 9.0, 9.0], "damping": "2 %"}
    found = " ".join(f.text for f in modes.respond({"spectrum": {"x": steep}, "combine": "srss"}).result.findings)
    assert "for 2 % damping, 1 modes have 5 %" in found
    assert "changes what the spectrum gives by more than 20 %: mode 1 at 3.183 Hz" in found
    late = {"frequency": [10, 50], "acceleration": [1.0, 1.0]}
    nothing = modes.respond({"spectrum": {"x": late}, "outside": "zero", "missing mass": False})
    assert nothing.result.peaks[0] == 0.0
    assert any("count as zero" in f.text for f in nothing.result.findings)
    with pytest.raises(EventError, match="CQC needs damping"):
        chain([10.0], [4000.0], 0.0).gauge("f", force="k1").modes(1).respond({"spectrum": {"x": steep}})


def test_limits(crate, crate_modes, tmp_path):
    limited = crate.changed({"limits": {"fan": "20 g", "bolt 1": {"z": "100 N"}, "transformer": "6 g"}})
    answer = limited.modes().respond("works shock")
    table = answer.table("limits").set_index(["gauge", "component"])
    peaks = answer.table("peaks").set_index(["gauge", "component"])["peak"]
    assert table.loc[("fan", "z"), "use_percent"] == pytest.approx(100 * peaks["fan", "z"] / 20)
    assert table.loc[("bolt 1", "z"), "met"] == "NO"
    assert next(iter(table.index)) == ("bolt 1", "z")  # most used first
    assert ("transformer", "magnitude") in table.index
    assert not answer.ok
    assert crate_modes.respond("works shock").ok
    for limits, words in (
        ({"fann": "2 g"}, 'Did you mean "fan"'), ({"fan": "2 kN"}, "limits: fan: expected an acceleration"),
        ({"fan": "-2 g"}, "greater than 0"), ({"fan": {"x": "2 g"}}, 'no component "x"'),
    ):  # fmt: skip
        with pytest.raises(hk.HolokineError, match=words):
            _ = crate.changed({"limits": limits}).modes(1).respond("works shock").table("limits")
    text = (hk.demo_folder() / "crate.yaml").read_text() + "\nlimits: {fan: 9 g}\n"
    (tmp_path / "crate.yaml").write_text(text)
    got = holokine("respond", str(tmp_path / "crate.yaml"), "kerb strike", "--json")
    assert got.returncode == 0, got.stderr
    assert json.loads(got.stdout)["tables"]["kerb_strike_limits"][0]["met"] == "yes"
    (tmp_path / "crate.yaml").write_text(text.replace("fan: 9 g", "fan: 4 g"))
    got = holokine("respond", str(tmp_path / "crate.yaml"), "kerb strike")
    assert got.returncode == 1
    assert "a limit is not met" in got.stderr


def test_composite_damping_by_hand(crate):
    a = chain([1.0, 2.0], [300.0, 500.0]).damping({"composite": {"k1": "4 %", "default": "1 %"}})
    modes = a.modes(2)
    share = modes.energies.shares("strain")
    np.testing.assert_allclose(modes.damping, 0.04 * share[modes.energies.members.index("k1")] + 0.01
                               * (1 - share[modes.energies.members.index("k1")]))  # fmt: skip
    soft = crate.changed({"damping": {"composite": {"fan set": "10 %", "steel": "1 %", "aluminium": "0.5 %"}}}).modes(5)
    assert soft.damping[4] == pytest.approx(0.0994, abs=0.001)  # mode 5: 99 % of the strain in the bushings
    assert soft.damping[2] < 0.03
    with pytest.raises(hk.HolokineError, match='Did you mean "steel"'):
        crate.changed({"damping": {"composite": {"steal": 0.01}}})


def test_spectrum_of_a_pulse_and_conservatism(crate_modes):
    """Half-sine without damping in closed form; one mode: every rule gives the peak in time exactly."""
    T, peak = 0.02, 30.0
    shape = described(pulse={"z": {"half sine": {"peak": peak, "duration": T}}}).pulse
    pulse = build_pulse(shape)
    for ratio in (0.2, 0.37, 0.45, 0.8, 1.5, 2.6, 5.5):  # f T
        f = ratio / T
        w, p = 2 * np.pi * f, np.pi / T
        t = np.linspace(0, T, 400_001)
        forced = w**2 / (w**2 - p**2) * (np.sin(p * t) - p / w * np.sin(w * t))
        q, v = forced[-1], w**2 / (w**2 - p**2) * p * (np.cos(p * T) - np.cos(w * T))
        exact = peak * max(np.abs(forced).max(), np.hypot(q, v / w))
        got = pulse_spectrum(pulse, 2, np.array([f]), np.array([0.0]))[0]
        assert got == pytest.approx(exact, rel=1e-6)
    a = chain([10.0], [4000.0], 0.03).gauge("force", force="k1")
    a.event("jolt", pulse={"x": {"triangle": {"peak": "4 g", "duration": "60 ms"}}})
    table = a.modes(1).respond("jolt").against_rules().table()
    ratios = table[[c for c in table if c.endswith("_over_time")]].to_numpy()
    assert ratios.shape == (1, len(RULES))
    np.testing.assert_allclose(ratios, 1.0, rtol=2e-5)
    found = crate_modes.respond("kerb strike").against_rules()
    crate = found.table()
    largest = {u: rows["peak_in_time"].max() for u, rows in crate.groupby("unit")}
    assert all(p > 1e-3 * largest[u] for p, u in zip(crate["peak_in_time"], crate["unit"], strict=True))
    above = next(line for line in found.lines if line.startswith("above the peak in time for all"))
    for rule in RULES:
        assert (f" {rule} " in above) == bool((crate[f"{rule.replace(' ', '_')}_over_time"] >= 1.0).all())
    assert "absolute" in above
    low, high = crate["srss_over_time"], crate["absolute_over_time"]
    assert (high >= low - 1e-12).all()
    assert (high >= 0.99).all()  # the absolute sum bounds the peak (damper parts and corrections aside)
    with pytest.raises(EventError, match="not a base pulse alone"):
        crate_modes.respond("fan start").against_rules()
    figure = crate_modes.respond("works shock").plot("four_way")
    assert figure.axes[0].get_ylabel() == "pseudo-velocity (m/s)"


def test_whole_fields_agree_with_gauges(crate, crate_modes, tmp_path):
    """Stress of all parts and displacement of all nodes, missing mass included, against the gauges' own way."""
    for change in ({"combine": "cqc"}, {"combine": "largest plus srss", "directions": "100-30-30"}):
        event = {"spectrum": {d: {"file": str(hk.demo_folder() / "works.csv")} for d in "xz"}, **change, "upto": 60}
        answer = crate_modes.respond(event)
        worst = answer.table("stress").set_index("part")
        gauges = answer.table("peaks").set_index("gauge")["peak"]
        for part, gauge in (("deck", "deck stress"), ("heat sink", "heat sink stress")):
            assert worst.loc[part, "stress_mpa"] == pytest.approx(gauges[gauge], rel=1e-9)
        # gauges of beams take the inertia of the end elements in, which is little
        for part, gauge in (("bed a", "bed a stress"), ("rail left", "rail stress")):
            assert worst.loc[part, "stress_mpa"] == pytest.approx(gauges[gauge], rel=5e-3)
        assert worst.loc["cover", "where"].split(", ")[1] in ("top", "bottom")
    moved = crate.changed({"gauges": {"fan moves": {"displacement": "fan"}}}).modes().respond("works shock")
    from holokine.respond.whole import spectrum_displacement

    field = spectrum_displacement(moved.result, moved.modes.set).reshape(-1, 6)
    node = crate_modes.set.system.mesh.points["fan"]
    own = moved.table("peaks").set_index(["gauge", "component"])["peak"]
    np.testing.assert_allclose(1e3 * field[node, :3], [own["fan moves", d] for d in "xyz"], rtol=1e-9)
    text = moved.save(tmp_path / "w.vtu").read_bytes()
    assert b"largest stress (Pa)" in text
    with pytest.raises(AttributeError, match=r"have no \"deformed\"; it belongs to answers to events in time"):
        getattr(moved, "deformed")  # noqa: B009
    from matplotlib.image import imread

    drawn = [imread(moved.picture(tmp_path / f"{c}.png", colour=c))[..., :3] for c in ("stress", "displacement")]
    assert all(p.std() > 0.02 for p in drawn)
    assert np.abs(drawn[0] - drawn[1]).mean() > 1e-3
    with pytest.raises(EventError, match="stress or displacement"):
        moved.picture(tmp_path / "no.png", colour="heat")


def test_percentage_rules_on_an_assembly(crate_modes):
    f = {"frequency": [1, 1000], "acceleration": ["1 g", "1 g"]}
    event = {"spectrum": {"x": f, "y": f, "z": f}}
    reduced = crate_modes.reduced
    spectra = {d: build_spectrum(t) for d, t in described(**event).spectrum.items()}
    plain = respond_spectrum(reduced, spectra, direction_rule="absolute")
    part = respond_spectrum(reduced, spectra, direction_rule="100-40-40")
    for number, reading in enumerate(reduced.readings):
        if reading.how == "single":
            r = np.sort(plain.by_direction[:, number])[::-1]
            assert part.peaks[number] == pytest.approx(r[0] + 0.4 * r[1] + 0.4 * r[2])


def test_published_worked_examples():
    """Cross-correlation of five modes (Wilson, Three-Dimensional Static and Dynamic Analysis of Structures, ch. 15).

    Five-storey frame at 5 % damping (Chopra, Dynamics of Structures, example 13.11): modal base shears in kips, and
    what SRSS, CQC and the absolute sum make of them and of the roof displacement in inches.
    """
    from holokine.respond.rules import cqc_correlation

    rho = cqc_correlation(np.array([13.87, 13.93, 43.99, 44.19, 54.42]), np.full(5, 0.05))
    published = {(0, 1): 0.998, (0, 2): 0.006, (0, 4): 0.004, (2, 3): 0.998, (2, 4): 0.180, (3, 4): 0.186}
    for pair, value in published.items():
        assert rho[pair] == pytest.approx(value, abs=1e-3)

    shears = np.array([60.469, 24.533, 9.867, 2.943, 0.595])
    mass = 100 / 386.0  # and the stiffness for which the first period is the 2 s that the book states
    stiffness = mass * np.pi**2 / (4 * np.sin(np.pi / 22) ** 2)
    assert stiffness == pytest.approx(31.54, rel=1e-3)
    a = chain([mass] * 5, [stiffness] * 5, 0.05)
    a.gauge("base shear", force="k1").gauge("roof", displacement="p5", axis="x")
    modes = a.modes()
    ordinates = shears / modes.set.effective_mass[:, 0]  # pseudo-accelerations in in/s²
    table = {"frequency": modes.frequencies_hz.tolist(), "acceleration": ordinates.tolist()}
    expected = {"srss": (66.066, 6.800), "cqc": (66.507, 6.793), "absolute": (98.407, 7.971)}
    for rule, (shear, roof) in expected.items():
        answer = modes.respond({"spectrum": {"x": table}, "combine": rule, "missing mass": False})
        assert answer.result.peaks[0] == pytest.approx(shear, abs=1e-3)
        assert answer.result.peaks[1] == pytest.approx(roof, abs=1.5e-3)


@pytest.mark.parametrize("rule", RULES)
@pytest.mark.parametrize("beside", ["absolute", "srss", None])
def test_missing_mass_joins_by_either_convention(rule, beside):
    """Both conventions for every rule against plain sums, and shares that add up to the square of the whole."""
    rng = np.random.default_rng(5)
    omega, zeta = np.sort(rng.uniform(20, 60, 7)), rng.uniform(0.01, 0.08, 7)
    values, missing = rng.standard_normal((7, 2, 3)), rng.standard_normal((2, 3))
    c = Combination.make(rule, omega, zeta, beside=beside)
    modes_only = c.combined(values, np.zeros((2, 3)))
    adds = (beside or ("absolute" if rule == "absolute" else "srss")) == "absolute"
    wanted = modes_only + np.abs(missing) if adds else np.hypot(modes_only, missing)
    np.testing.assert_allclose(c.combined(values, missing), wanted, rtol=1e-12)
    one = np.eye(1)
    mode, rest = c.shares(values[:, :, :1], missing[:, :1], one)
    assert mode.sum() + rest == pytest.approx(float((c.combined(values, missing)[:, 0] ** 2).sum()), rel=1e-12)


def test_all_rules_side_by_side(crate_modes):
    """One answer's table of rules against an answer by each rule of its own; correlation and missing mass by hand."""
    crate = crate_modes.assembly
    event = {"spectrum": {"z": {"frequency": [1, 20, 200], "acceleration": ["1 g", "6 g", "2 g"]}}, "outside": "hold"}
    answer = crate_modes.respond({**event, "combine": "double sum", "duration": 8.0})
    table = answer.table("rules")
    assert list(table.columns[2:-2]) == ["double sum", "SRSS", "CQC", "grouped", "largest plus srss", "absolute"]
    for rule in RULES:
        own = crate_modes.respond({**event, "combine": rule, **({"duration": 8.0} if rule == "double sum" else {})})
        peaks = own.table("peaks").set_index(["gauge", "component"])["peak"]
        column = table.set_index(["gauge", "component"])[{"srss": "SRSS", "cqc": "CQC"}.get(rule, rule)]
        np.testing.assert_allclose(column, peaks[column.index], rtol=1e-12)
    values = table.iloc[:, 2:-2].to_numpy(float)
    np.testing.assert_allclose(table["spread_percent"], 100 * (values.max(axis=1) / values.min(axis=1) - 1))
    added = crate_modes.respond({**event, "combine": "srss", "over missing mass": "absolute"})
    alone = crate_modes.respond({**event, "combine": "srss", "missing mass": False})
    both = crate_modes.respond({**event, "combine": "srss"})
    name = ("transformer feet", "z")
    p, r, q = (x.table("peaks").set_index(["gauge", "component"])["peak"][name] for x in (alone, added, both))
    assert q == pytest.approx(np.hypot(p, r - p), rel=1e-9)
    cqc = crate_modes.respond({**event, "combine": "cqc"})
    matrix = cqc.table("correlation").iloc[:, 2:].to_numpy()
    np.testing.assert_allclose(matrix, cqc_correlation(cqc.result.reduced.omega, cqc.result.reduced.damping))
    assert crate_modes.respond({**event, "combine": "absolute"}).table("correlation").empty
    (row,) = cqc.table("missing_mass").to_dict("records")
    shares = crate_modes.table("participation")
    assert row["held_kg"] == pytest.approx(shares["effective_z_kg"].sum(), rel=1e-12)
    assert row["free_kg"] == pytest.approx(crate_modes.set.free_mass[2], rel=1e-12)
    assert row["missing_kg"] == pytest.approx(row["free_kg"] - row["held_kg"])
    assert row["zero_period_g"] == pytest.approx(2.0)
    with pytest.raises(hk.HolokineError, match="over missing mass"):
        crate.respond({**event, "missing mass": False, "over missing mass": "srss"})


PASTED = {
    "units alone, spaces": "Hz  g\n5  1.5\n20   6\n100 2",
    "spaces and brackets": "frequency [Hz]   acceleration [g]\n5 1.5\n20 6\n100 2",
    "one space": "frequency [Hz] acceleration [g]\n5 1.5\n20 6\n100 2",
    "semicolons, decimal commas": "f [Hz]; a [g]\n5; 1,5\n20; 6,0\n100; 2",
    "tabs, decimal commas": "Hz\tm/s²\n5\t14,709975\n20\t58,8399\n100\t19,6133",
    "falling frequencies": "Hz g\n100 2\n20 6\n5 1,5",
    "rising periods": "s g\n0.01 2\n0.05 6\n0.2 1.5",
    "falling periods": "period_s, acceleration_g\n0.2, 1.5\n0.05, 6\n0.01, 2",
}


@pytest.mark.parametrize("name", PASTED)
def test_pasted_tables_are_read_as_they_come(name, tmp_path):
    for given in ({"text": PASTED[name]}, str(tmp_path / "s.csv")):
        (tmp_path / "s.csv").write_text(PASTED[name], encoding="utf-8")
        table = described(spectrum={"z": given}).spectrum["z"]
        found = build_spectrum(table, folder=None, source="s")
        np.testing.assert_allclose(found.frequency_hz, [5, 20, 100], rtol=1e-12)
        np.testing.assert_allclose(found.acceleration / G, [1.5, 6, 2], rtol=1e-12)


def test_tables_that_cannot_be_read_name_the_place(tmp_path):
    for text, words in (
        ("Hz g\n5 1,5\n20 six", 'line 3: "six" is not a number'),
        ("Hz g\n5 1 2", "line 2: 3 values for 2 columns"),
        ("Hz Hz\n5 1", "a quantity stands in two columns"),
        ("Hz kg\n5 1\n6 2", r'the column "kg" cannot be understood'),
        ("Hz g\n5 1\n9 2\n7 3", "frequencies must rise"),
    ):
        (tmp_path / "s.csv").write_text(text, encoding="utf-8")
        table = described(spectrum={"z": str(tmp_path / "s.csv")}).spectrum["z"]
        with pytest.raises(EventError, match=words):
            build_spectrum(table, folder=None, source="s")


def test_words_of_options_may_be_capitals():
    event = described(spectrum={"z": {"text": "Hz g\n5 1\n9 2"}}, combine="CQC", directions="SRSS", outside="Hold")
    assert (event.combine, event.directions, event.outside) == ("cqc", "srss", "hold")
    with pytest.raises(hk.HolokineError, match="cqcc"):
        described(spectrum={"z": {"text": "Hz g\n5 1\n9 2"}}, combine="cqcc")


def test_close_modes_are_ranked_by_what_they_change():
    """Two masses on one base, nearly alike: their relative motion suffers, a third pair far from any gauge does not."""
    a = hk.Assembly().damping(0.02)
    for k, (m, f) in enumerate(((10.0, 5.0), (10.0, 5.1), (0.5, 20.0), (0.5, 21.0))):
        a.point(f"p{k}", [0.1 * k, 0, 0]).mass(f"m{k}", at=f"p{k}", mass=m)
        a.support(f"g{k}", at=f"p{k}", hold=["y", "z", "rx", "ry", "rz"])
        a.spring(f"k{k}", between=["ground", f"p{k}"], stiffness=m * (2 * math.pi * f) ** 2, axis="x")
    a.gauge("apart", displacement="p0", relative_to="p1", axis="x").gauge("far", displacement="p3", axis="x")
    event = {"spectrum": {"x": {"text": "Hz g\n1 1\n100 1"}}, "combine": "srss", "missing mass": False}
    answer = a.modes().respond(event)
    (text,) = [f.text for f in answer.findings if "within 10 %" in f.text]
    told = re.findall(r"(\d+) and (\d+) \(up to (\d+) %\)", text)
    assert [pair[:2] for pair in told] == [("1", "2")]
    assert int(told[0][2]) > 20
    assert "; the other changes none by 0.5 %" in text
    cqc = a.modes().respond({**event, "combine": "cqc"})
    change = abs(cqc.result.peaks[0] / answer.result.peaks[0])
    # the cross term adds or takes away the same amount of the square
    assert (1 + int(told[0][2]) / 100) ** 2 - 1 == pytest.approx(1 - change**2, abs=0.02)
