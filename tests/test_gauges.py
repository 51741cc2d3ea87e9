"""Gauges against statics by hand, tables of answers, and the options of events."""

from __future__ import annotations

import numpy as np
import pytest

import holokine as hk
from conftest import STEEL, chain, straight_beam
from holokine.describe.gauges import Gauge
from holokine.elements.beam import fibre_stress
from holokine.errors import DescriptionError, EventError, UnknownNameError
from holokine.gauges.build import build_gauges
from holokine.respond.reduced import reduce_model
from holokine.units import STANDARD_GRAVITY as G
from test_cli import inside as holokine

SECTION = {"tube": {"width": 0.06, "height": 0.08, "wall": 0.004}}
L, TIP = 1.2, 25.0


def cantilever(**beam) -> hk.Assembly:
    a = straight_beam(L, SECTION, STEEL, start="all", divisions=6, **beam)
    return a.mass("tip", at="b", mass=TIP, offset=[0, 0.1, 0.05])


def static(a: hk.Assembly, **gauges) -> dict[str, np.ndarray]:
    """Static readings under a unit base acceleration along x y z, by gauge and component."""
    modes = a.modes(count=3)
    built = build_gauges(a.system, {n: Gauge.model_validate(g) for n, g in gauges.items()})
    reduced = reduce_model(modes.set, built, modes.damping)
    return {r.label: reduced.static[:, list(r.channels)] for r in built.readings}


def test_beam_end_forces_moments_and_reactions_by_hand():
    a = cantilever()
    found = static(
        a, f={"beam force": "beam", "end": "start"}, m={"beam moment": "beam", "end": "start"}, r={"reaction": "left"},
        t={"reaction moment": "left"}, tip={"beam force": "beam", "end": "end"},
    )  # fmt: skip
    area = a.system.elements[0].section.area
    bar = STEEL["density"] * area * L
    total = bar + TIP
    # an upward acceleration presses the bar down: the root carries the weight, shear on the positive face downward
    assert found["r z"][2, 0] == pytest.approx(total, rel=1e-9)
    assert found["r x"][0, 0] == pytest.approx(total, rel=1e-9)
    assert found["f N"][0, 0] == pytest.approx(-total, rel=1e-9)  # pushed along x: the bar behind the mass is pressed
    assert found["f Vz"][2, 0] == pytest.approx(-total, rel=1e-9)
    assert found["tip Vz"][2, 0] == pytest.approx(-TIP, rel=1e-9)
    bending = bar * L / 2 + TIP * L
    assert found["m My"][2, 0] == pytest.approx(bending, rel=1e-9)
    assert found["t y"][2, 0] == pytest.approx(-bending, rel=1e-9)
    assert found["m T"][2, 0] == pytest.approx(-TIP * 0.1, rel=1e-9)  # the body hangs beside the axis
    for axis in "xyz":  # reaction and section force are one force seen from two sides
        pair = {"x": "f N", "y": "f Vy", "z": "f Vz"}[axis]
        np.testing.assert_allclose(found[pair], -found[f"r {axis}"], atol=1e-9 * total)


def test_extreme_fibre_stress_by_hand():
    a = cantilever()
    a.gauge("s", stress="beam", end="start").gauge("all", stress="beam")
    section = a.system.elements[0].section
    bar = STEEL["density"] * section.area * L
    modes = a.modes(count=2)
    reduced = modes.reduced
    bending = bar * L / 2 + TIP * L
    expected = bending * 0.04 / section.Iy
    assert np.abs(reduced.static[2, list(reduced.readings[0].channels)]).max() == pytest.approx(expected, rel=1e-9)
    answer = modes.respond({"pulse": {"z": {"half sine": {"peak": "1 g", "duration": "1 s"}}}})
    table = answer.table("peaks")
    # a pulse far slower than the bar's period is nearly static
    assert table["peak"].abs().iloc[0] == pytest.approx(expected * G / 1e6, rel=2e-2)
    assert table["peak"].iloc[0] == pytest.approx(table["peak"].iloc[1], rel=1e-9)  # the root governs
    assert "element 1, start" in table["place"].iloc[1]
    assert table["unit"].tolist() == ["MPa", "MPa"]


def test_round_sections_and_products_of_inertia_in_stress():
    rod = straight_beam(1.0, {"rod": {"diameter": 0.05}}, STEEL, start="all", divisions=4).mass("m", at="b", mass=50.0)
    rod.gauge("s", stress="beam", end="start")
    r = rod.modes(count=2).reduced
    own = STEEL["density"] * np.pi * 0.025**2
    moment = np.hypot(1.0, 0.7) * (50.0 + own / 2)
    both = r.static[2] + 0.7 * r.static[1]
    exact = moment * 0.025 / (np.pi * 0.05**4 / 64)
    assert exact * 0.996 <= np.abs(both).max() <= exact * (1 + 1e-9)  # 36 fibres: at most 0.4 % low
    angle = straight_beam(1.0, {"angle": {"height": 0.08, "width": 0.05, "thickness": 0.006}}, STEEL, start="all",
                          divisions=4)  # fmt: skip
    block = angle.system.elements[0]
    N, My, Mz = 100.0, 30.0, -20.0
    s, sigma = block.section, fibre_stress(block.section)[:, [0, 4, 5]] @ [N, My, Mz]
    # integrate back: stress is linear over the section, so its resultants follow from its plane
    plane, *_ = np.linalg.lstsq(np.column_stack([np.ones(len(s.fibres)), s.fibres]), sigma, rcond=None)
    assert plane[0] * s.area == pytest.approx(N)
    assert plane[2] * s.Iy + plane[1] * s.Iyz == pytest.approx(My)
    assert -(plane[2] * s.Iyz + plane[1] * s.Iz) == pytest.approx(Mz)


def test_moments_and_forces_of_bushings_and_links_by_hand():
    a = hk.Assembly().point("base", [0, 0, 0]).point("top", [0, 0, 0.2])
    a.mass("body", at="top", mass=10.0, inertia=[0.1, 0.1, 0.1], offset=[0, 0, 0.3])
    a.bushing("pad", between=["base", "top"], stiffness=[1e5, 1e5, 2e5, 500, 500, 500], damping={"z": 100})
    a.mass("foot", at="base", mass=1.0, inertia=[0.01, 0.01, 0.01]).support("floor", at="base", hold="all")
    found = static(a, f={"force": "pad"}, m={"moment": "pad"}, r={"reaction": "floor"}, t={"reaction moment": "floor"},
                   d={"damper force": "pad", "axis": "z"}, w={"total force": "pad", "axis": "z"})  # fmt: skip
    # positive pulls the ends together: the body above, pushed towards -x, is pulled towards the base
    assert found["f x"][0, 0] == pytest.approx(-10.0)
    assert found["f z"][2, 0] == pytest.approx(-10.0)
    assert abs(found["m y"][0, 0]) == pytest.approx(10.0 * 0.4)  # from half-way up to the centre of mass
    assert found["r x"][0, 0] == pytest.approx(11.0)
    assert found["t y"][0, 0] == pytest.approx(10.0 * 0.5)
    np.testing.assert_allclose(found["d z"], 0.0)
    np.testing.assert_allclose(found["w z"], found["f z"])


def test_rotation_velocity_and_axes_of_gauges():
    a = cantilever()
    a.gauge("turn", rotation="b", axis="y").gauge("v", velocity="b", axis="z").gauge("d", displacement="b")
    a.gauge("m", acceleration="b", axis="magnitude")
    answer = a.modes(count=12).respond(
        {"pulse": {"z": {"half sine": {"peak": 9.81, "duration": 0.02}}}, "ring down": 0.2}
    )
    table = answer.table("peaks").set_index(["gauge", "component"])
    assert table.loc[("turn", "y"), "unit"] == "mrad"
    assert table.loc[("v", "z"), "unit"] == "m/s"
    d = answer.table("history", "d")
    assert list(d.columns) == ["time_s", "base z (g)", "d x (mm)", "d y (mm)", "d z (mm)", "d magnitude (mm)"]
    # velocity is the slope of displacement, but for the static correction that only the latter has
    t, z = d["time_s"].to_numpy(), d["d z (mm)"].to_numpy() / 1e3
    slope = np.gradient(z, t)
    v = answer.table("history", "v")["v z (m/s)"].to_numpy()
    late = t > 0.03
    np.testing.assert_allclose(v[late], slope[late], atol=2e-2 * np.abs(v).max())
    assert (d["d magnitude (mm)"] >= np.abs(d["d z (mm)"]) - 1e-12).all()


def test_gauges_that_make_no_sense_are_refused():
    cases = [
        ({"moment": "k1"}, "passes no moment"),
        ({"force": "k1", "axis": "x"}, "a spring has one force"),
        ({"displacement": "nowhere"}, "nothing is attached to the point"),
    ]
    a = chain([1.0], [100.0]).point("nowhere", [9, 9, 9])
    for gauge, match in cases:
        with pytest.raises(DescriptionError, match=match):
            build_gauges(a.system, {"g": Gauge.model_validate(gauge)})
    for keys, match in (
        ({"displacement": "p1", "relative_to": "p1", "motion": "absolute"}, "cannot be absolute"),
        ({"force": "k1", "motion": "relative"}, "but to displacement"),
        ({"displacement": "p1", "axis": "q"}, "axis must be x, y, z, magnitude or a direction"),
        ({"stress": "k1", "axis": "x"}, "components, not an axis"),
        ({"cut_force": "k1"}, "needs a plane"),
        ({}, "exactly one of"),
    ):
        with pytest.raises(DescriptionError, match=match):
            chain([1.0], [100.0]).gauge("g", **keys)
    with pytest.raises(UnknownNameError, match=r'no gauge "k9". Did you mean'):
        chain([1.0], [100.0]).gauge("k1", force="k1").modes(count=1).respond(
            {"pulse": {"x": {"rectangle": {"peak": 1, "duration": 1}}}}
        ).table("history", "k9")


def three(damping=0.02) -> hk.Assembly:
    a = chain([1.0, 2.0, 1.5], [4e4, 3e4, 2e4], damping)
    return a.gauge("d", displacement="p3", axis="x").gauge("k", force="k1").gauge("a", acceleration="p3", axis="x")


FLAT = {"frequency": [0.1, 1000], "acceleration": [10, 10]}


def test_event_cut_off_and_damping_equal_fewer_modes_and_other_damping():
    modes = three().modes(count=3)
    limit = float(modes.frequencies_hz[:2].mean())
    cut = modes.respond({"spectrum": {"x": FLAT}, "upto": limit, "damping": "5 %"}).result
    fewer = three(0.05).modes(count=1).respond({"spectrum": {"x": FLAT}}).result
    np.testing.assert_allclose(cut.peaks, fewer.peaks, rtol=1e-9)
    np.testing.assert_allclose(cut.missing, fewer.missing, rtol=1e-9)
    assert cut.reduced.captured[0] == pytest.approx(fewer.reduced.captured[0])
    with pytest.raises(EventError, match="no mode lies at or below"):
        modes.respond({"spectrum": {"x": FLAT}, "upto": 0.01})
    pulse = {"half sine": {"peak": 10.0, "duration": 0.01}}
    one = modes.respond({"pulse": {"x": pulse}, "upto": limit, "damping": "5 %", "ring down": 0.3}).result
    two = three(0.05).modes(count=1).respond({"pulse": {"x": pulse}, "ring down": 0.3}).result
    np.testing.assert_allclose(one.peaks, two.peaks, rtol=1e-8)


def test_direction_rules_and_zero_period_acceleration():
    a = cantilever().gauge("r", reaction="left")
    modes = a.modes(count=8)
    both = {"spectrum": {"z": FLAT, "y": {**FLAT, "scale": 0.4}}}
    single = [modes.respond({"spectrum": {d: s}}).result for d, s in both["spectrum"].items()]
    srss = modes.respond({**both, "directions": "srss"}).result
    absolute = modes.respond({**both, "directions": "absolute"}).result
    np.testing.assert_allclose(srss.peaks[:3], np.hypot(single[0].peaks[:3], single[1].peaks[:3]), rtol=1e-9)
    np.testing.assert_allclose(absolute.peaks[:3], single[0].peaks[:3] + single[1].peaks[:3], rtol=1e-9)
    given = modes.respond({"spectrum": {"z": FLAT}, "zero period acceleration": "3 m/s^2"}).result
    np.testing.assert_allclose(given.missing, 0.3 * single[0].missing, rtol=1e-9)
    assert not any("last value" in f.text for f in given.findings)
    without = modes.respond({"spectrum": {"z": FLAT}, "missing mass": False}).result
    assert (without.peaks <= single[0].peaks * (1 + 1e-12)).all()
    assert not without.missing.any()


def test_findings_of_spectra():
    pair = chain([1.0, 1.0], [1e4, 10.0], 0.02)
    pair.spring("own", between=["ground", "p2"], stiffness=9990, axis="x").gauge("k", force="k1")
    answer = pair.modes(count=2).respond({"spectrum": {"x": FLAT}, "combine": "srss"})
    close = [f for f in answer.findings if "of modes within 10 %" in f.text]
    assert [f.level for f in close] == ["warning"]
    assert "1 pair of modes" in close[0].text
    assert "1 and 2 (up to " in close[0].text
    # the pairs of a square bar lie across one another: under a spectrum along x no two of them act together
    bar = straight_beam(1.0, {"rectangle": {"width": 0.03, "height": 0.03}}, STEEL, divisions=8)
    bar.support("root", at="a", hold="all").gauge("root", reaction="root").damping(0.02)
    quiet = bar.modes(count=6).respond({"spectrum": {"z": FLAT}, "combine": "srss"})
    close = [f for f in quiet.findings if "of modes within 10 %" in f.text]
    assert [f.level for f in close] == ["note"]
    assert close[0].text.endswith("none of them changes a reading by 0.5 %")
    few = three().modes(count=1).respond({"spectrum": {"x": FLAT}})
    assert any("of the free mass, below 90 %" in f.text for f in few.findings)
    narrow = {"frequency": [25, 26], "acceleration": [1, 1]}
    held = three().modes(count=3).respond({"spectrum": {"x": narrow}, "outside": "hold"})
    assert any("lie outside the spectrum's table" in f.text for f in held.findings)
    a = three().gauge("u", displacement="p1", axis="x", motion="absolute")
    unknown = a.modes(count=3).respond({"spectrum": {"x": FLAT}})
    assert np.isnan(unknown.result.peaks[-1])
    assert any("cannot be had from a spectrum: u" in f.text for f in unknown.findings)
    coarse = three().modes(count=3).respond({"pulse": {"x": {"rectangle": {"peak": 1, "duration": 1}}}, "step": 0.02})
    assert any("coarse for the highest mode kept" in f.text for f in coarse.findings)
    with pytest.raises(UnknownNameError, match="belongs to answers to events in time"):
        few.table("history", "k")


def test_damping_tables_and_rayleigh():
    a = three({"table": [["1 Hz", "1 %"], ["100 Hz", "5 %"]]}).modes(count=3)
    np.testing.assert_allclose(a.damping, np.interp(a.frequencies_hz, [1, 100], [0.01, 0.05]))
    r = three({"rayleigh": [[10, 0.02], [40, 0.02]]}).modes(count=3)
    w, w1, w2 = 2 * np.pi * r.frequencies_hz, 2 * np.pi * 10, 2 * np.pi * 40
    alpha, beta = 2 * 0.02 * w1 * w2 / (w1 + w2), 2 * 0.02 / (w1 + w2)
    np.testing.assert_allclose(r.damping, alpha / (2 * w) + beta * w / 2, rtol=1e-12)
    for bad, match in (
        ({"table": [[5, 0.1], [1, 0.2]]}, "must rise"),
        ({"rayleigh": [[5, 0.1], [5, 0.2]]}, "must differ"),
        ({"ratio": 0.1, "table": [[1, 0.1]]}, "exactly one"),
    ):
        with pytest.raises(DescriptionError, match=match):
            three(bad)


def test_csv_of_every_kind(tmp_path):
    modes = three().modes(count=3)
    reference = modes.respond({"spectrum": {"x": {"frequency": [1, 10, 500], "acceleration": [1, 20, 5]}}}).result.peaks
    w = 2 * np.pi * np.array([1, 10, 500])
    files = {
        "a.csv": "# a comment\nfrequency [Hz]; acceleration (m/s^2)\n1;1\n10;20\n500;5\n",
        "b.csv": "freq_hz\tacc_g\n" + "\n".join(f"{f}\t{v / G!r}" for f, v in ((1, 1), (10, 20), (500, 5))),
        "c.csv": "period_ms,velocity_mm_s\n" + "\n".join(
            f"{1e3 / f!r},{1e3 * v / u!r}" for f, v, u in zip((500, 10, 1), (5, 20, 1), w[::-1].tolist(), strict=True)),
    }  # fmt: skip
    for name, text in files.items():
        (tmp_path / name).write_text(text)
        found = modes.respond({"spectrum": {"x": str(tmp_path / name)}}).result.peaks
        np.testing.assert_allclose(found, reference, rtol=1e-9)
    (tmp_path / "p.csv").write_text("time [ms],acceleration_g\n0,0\n5,1\n10,0\n")
    table = {"time": [0, 0.005, 0.01], "acceleration": [0, G, 0]}
    one = modes.respond({"pulse": {"x": str(tmp_path / "p.csv")}, "ring down": 0.2}).result
    two = modes.respond({"pulse": {"x": {"table": table}}, "ring down": 0.2}).result
    np.testing.assert_allclose(one.peaks, two.peaks, rtol=1e-12)
    assert one.pulse.velocity_change[0] == pytest.approx(G * 0.005)


def test_beam_stress_is_where_it_says():
    """The largest stress of a cantilever is at its root: the place told is the end named, eccentricity included."""
    a = hk.Assembly().material("m", **STEEL).section("s", rectangle={"width": 0.04, "height": 0.02})
    a.point("a", [0, 0, 0]).point("b", [1.2, 0, 0])
    a.part("arm", beam={"through": ["a", "b"], "section": "s", "up": "z", "divisions": 4,
                        "eccentricity": [0, 0.05]},
           material="m")  # fmt: skip
    a.support("root", at="a", hold="all").load("push", at="b", force={"z": 100.0})
    (row,) = a.respond({"static": "push"}).table("stress").to_dict("records")
    assert row["where"].startswith("element 1, start")
    np.testing.assert_allclose([row["at_x_mm"], row["at_y_mm"], row["at_z_mm"]], [0, 0, 50], atol=1e-9)
    members = a.respond({"static": "push"}).deformed.table("members")
    np.testing.assert_allclose(members["x_mm"], [0, 300, 300, 600, 600, 900, 900, 1200], atol=1e-9)
    np.testing.assert_allclose(members["z_mm"], 50.0)


def shown(answer: hk.Answer, gauge: str, component: str) -> float:
    """A peak as the table shows it."""
    table = answer.table("peaks").set_index(["gauge", "component"])
    return float(table.loc[(gauge, component), "peak"])


def frame_without_gauges() -> hk.Assembly:
    a = hk.Assembly("bare frame").material("m", **STEEL).section("s", rectangle={"width": 0.04, "height": 0.02})
    a.point("a", [0, 0, 0]).point("b", [0, 0, 1.2]).point("c", [0.8, 0, 1.2])
    for name, ends in (("post", ["a", "b"]), ("arm", ["b", "c"])):
        a.part(name, beam={"through": ends, "section": "s", "up": "y", "divisions": 6}, material="m")
    a.support("root", at="a", hold="all").damping(0.02).mass("lamp", at="c", mass=4.0)
    a.load("weight", gravity="-z").event("lift", spectrum={"x": FLAT, "z": FLAT}, combine="cqc")
    a.event("jolt", pulse={"x": {"half sine": {"peak": 20.0, "duration": 0.02}}})
    return a.event("rest", static="weight")


def test_events_are_answered_without_gauges(tmp_path):
    """Whole fields need no gauge: points, members and stress are there, in tables, on the screen and in files."""
    a = frame_without_gauges()
    path = a.save(tmp_path / "frame.yaml")
    for event in ("lift", "jolt", "rest"):
        answer = a.respond(event) if event == "rest" else a.modes(count=6).respond(event)
        assert any("no gauges" in f.text for f in answer.findings)
        assert set(answer.table("points")["point"]) == {"a", "b", "c"}
        assert answer.table("stress")["stress_mpa"].max() > 0
        told = holokine("respond", str(path), event, *(() if event == "rest" else ("--count", "6")), "--out",
                        str(tmp_path / event))  # fmt: skip
        assert told.returncode == 0, told.stderr
        assert "Largest stress of parts" in told.stdout
        assert "Named points" in told.stdout
        assert any("members" in p.name for p in (tmp_path / event).iterdir())
    with pytest.raises(EventError, match="no gauge tells which instant"):
        a.modes(count=6).respond("jolt").deformed()


def test_points_and_members_are_gauges_sisters():
    """Accelerations of all points and forces of all members against gauges of their own, in spectra and in time."""
    a = frame_without_gauges()
    a.gauge("u", displacement="c").gauge("a", acceleration="c").gauge("t", rotation="c", axis="y")
    for end in ("start", "end"):
        a.gauge(f"n {end}", beam_force="post", end=end).gauge(f"m {end}", beam_moment="post", end=end)
    modes = a.modes(count=6)
    lift = modes.respond("lift")
    point = lift.table("points").set_index("point").loc["c"]
    for d in "xyz":
        assert point[f"{d}_mm"] == pytest.approx(shown(lift, "u", d), rel=1e-9, abs=1e-9)
        assert point[f"acceleration_{d}_g"] == pytest.approx(shown(lift, "a", d), rel=1e-9, abs=1e-9)
    assert point["ry_mrad"] == pytest.approx(shown(lift, "t", "y"), rel=1e-9)
    jolt = modes.respond("jolt")
    peaks = jolt.table("peaks").set_index(["gauge", "component"])
    points = jolt.table("points").set_index(["point", "axis"]).loc[("c", "x")]
    own = peaks.loc[("a", "x")]
    for side in ("lowest", "highest"):
        assert points[f"{side}_acceleration_g"] == pytest.approx(own[side], rel=1e-3)
        assert points[f"{side}_acceleration_at_ms"] == pytest.approx(own[f"{side}_at_ms"], abs=0.2)
        history = jolt.table("history", "a")
        assert own[side] == pytest.approx(getattr(history.iloc[:, 2], "min" if side == "lowest" else "max")(), rel=0.01)
    members = jolt.table("members")
    assert len(members) == 2 * 12
    tip = members[(members["part"] == "post") & (members["element"] == 6) & (members["end"] == "end")].iloc[0]
    # in time the elastic force differs from the gauge's balance by damping and the inertia of one element only
    bends = "My" if abs(tip["highest_My_nm"]) > abs(tip["highest_Mz_nm"]) else "Mz"
    gauge = peaks.loc[("m end", bends)]
    assert tip[f"highest_{bends}_nm"] == pytest.approx(gauge["highest"], rel=0.03)
    assert tip[f"lowest_{bends}_nm"] == pytest.approx(gauge["lowest"], rel=0.03)
    combined = lift.table("members")
    root = combined[(combined["part"] == "post") & (combined["element"] == 1) & (combined["end"] == "start")].iloc[0]
    for d in ("My", "Mz", "T"):
        assert root[f"{d}_nm"] == pytest.approx(shown(lift, "m start", d), rel=0.02, abs=1e-6)


def test_reactions_point_by_point_and_their_portions():
    """Every node of a support sums to the whole; elastic and damper portions add up, and are k u and c v."""
    a = frame_without_gauges()
    a.point("d", [0.8, 0, 0]).part("leg", beam={"through": ["d", "c"], "section": "s", "up": "y", "divisions": 6},
                                   material="m")  # fmt: skip
    a.support("feet", at={"points": ["a", "d"]}, hold=["x", "y", "z", "rx"])
    a._data["supports"].pop("root")
    a.gauge("whole", reaction="feet").gauge("each", reaction="feet", by_point=True)
    a.gauge("one", reaction="feet", point="d", axis="x")
    a.gauge("moment", reaction_moment="feet", axis="y")
    for portion in ("elastic", "damper"):
        a.gauge(portion, reaction="feet", axis="x", portion=portion)
    modes = a.modes(count=6)
    rest = a.respond("rest")
    values = rest.table("peaks").set_index(["gauge", "component"])["value"]
    assert values["each", "a z"] + values["each", "d z"] == pytest.approx(values["whole", "z"], rel=1e-9)
    assert values["one", "x"] == pytest.approx(values["each", "d x"], rel=1e-9)
    # about the mean place of the two feet, 0.4 m to either side
    arm = 0.4 * (values["each", "a z"] - values["each", "d z"])
    assert values["moment", "y"] == pytest.approx(arm, rel=1e-9)
    jolt = modes.respond("jolt")
    total = jolt.table("history", "whole").iloc[:, 2]
    elastic, damper, each = (jolt.table("history", g) for g in ("elastic", "damper", "each"))
    np.testing.assert_allclose(elastic.iloc[:, -1] + damper.iloc[:, -1], total, atol=1e-9 * total.abs().max())
    np.testing.assert_allclose(each["each a x (N)"] + each["each d x (N)"], total, atol=1e-9 * total.abs().max())
    assert 0.01 < abs(jolt.result.peaks[-1]) / total.abs().max() < 0.2
    # one mass on a spring from a held point: k u, and c v with c = 2 ζ √(k m)
    one = hk.Assembly().damping(0.05).point("base", [0, 0, 0]).point("p", [0.1, 0, 0]).mass("m", at="p", mass=3.0)
    one.spring("k", between=["base", "p"], stiffness=4800.0).support("foot", at="base", hold="all")
    one.support("guide", at="p", hold=["y", "z"])
    one.gauge("u", displacement="p", axis="x").gauge("v", velocity="p", axis="x")
    for portion in ("elastic", "damper"):
        one.gauge(portion, reaction="foot", axis="x", portion=portion)
    single = one.modes().respond({"pulse": {"x": {"half sine": {"peak": 5.0, "duration": 0.05}}}})
    u, v, elastic, damper = (single.result.history(n) for n in range(4))
    np.testing.assert_allclose(elastic, -4800.0 * u, atol=1e-9 * np.abs(4800 * u).max())
    np.testing.assert_allclose(damper, -2 * 0.05 * np.sqrt(4800.0 * 3.0) * v, atol=1e-8 * np.abs(elastic).max())
    steady = one.modes().respond({"spectrum": {"x": FLAT}, "combine": "srss"})
    peaks = steady.result.peaks
    assert peaks[3] == pytest.approx(2 * 0.05 * peaks[2], rel=1e-9)  # c ω u of the spring's k u
    for bad, words in (({"point": "b"}, r'"b" is not held by the support "feet"'),):
        with pytest.raises(DescriptionError, match=words):
            frame_without_gauges().support("feet", at="a", hold="all").gauge("g", reaction="feet", **bad).modes(
                count=2
            ).respond("jolt")
    with pytest.raises(DescriptionError, match="by point for all of them"):
        a.gauge("g", reaction="feet", point="a", by_point=True)


DAMPINGS = {
    "ratio": "3 %",
    "modes": ["1 %", 0.03, "5 %"],
    "table": {"table": [[5, "1 %"], [40, "6 %"]]},
    "rayleigh": {"rayleigh": [[5, "2 %"], [30, "4 %"]]},
    "composite": {"composite": {"default": "2 %", "k1": "5 %"}},
}


@pytest.mark.parametrize("form", DAMPINGS)
def test_an_event_takes_every_form_of_damping(form):
    """An event's own damping equals the assembly's of the same form, in spectra and in time, dampers included."""
    given = DAMPINGS[form]
    events = {"lift": {"spectrum": {"x": FLAT}, "combine": "cqc"},
              "jolt": {"pulse": {"x": {"half sine": {"peak": 9.0, "duration": 0.02}}}, "ring down": 0.3}}  # fmt: skip

    def built(damping):
        a = chain([1.0, 2.0, 1.5], [4e4, 3e4, 2e4], damping)
        a._data["springs"]["k2"]["damping"] = 4.0
        return a.gauge("d", displacement="p3", axis="x").gauge("k", force="k1")

    whole, plain = built(given).modes(), built("7 %").modes()
    for name, event in events.items():
        wanted, own = whole.respond(event), plain.respond({**event, "damping": given})
        np.testing.assert_allclose(own.result.reduced.damping, wanted.result.reduced.damping, rtol=1e-12)
        np.testing.assert_allclose(own.result.peaks, wanted.result.peaks, rtol=1e-9, err_msg=name)
    assert not np.allclose(plain.respond(events["jolt"]).result.peaks, own.result.peaks, rtol=1e-3)


def test_a_list_of_ratios_mode_by_mode():
    modes = chain([1.0, 2.0, 1.5], [4e4, 3e4, 2e4], [0.01, 0.04]).modes()
    np.testing.assert_allclose(modes.damping, [0.01, 0.04, 0.04])
    assert any("damping lists 2 ratios for 3 modes: the last, 4 %, holds" in f.text for f in modes.findings)
    np.testing.assert_allclose(chain([1.0], [1e4], np.array([0.03])).modes().damping, [0.03])
    for bad, words in (([], "empty"), ([0.02, 2.0], "did you mean a percentage")):
        with pytest.raises(DescriptionError, match=words):
            chain([1.0], [1e4], bad).modes()


def test_let_go_alone():
    """A mass held by a load that is taken off at the start swings from k u = F: a cosine with that amplitude."""
    a = chain([2.0], [8e3], 0.0).gauge("d", displacement="p1", axis="x")
    a.load("pull", at="p1", force={"x": 40.0}).event("held", static="pull")
    answer = a.modes().respond({"let go": "held", "ring down": 1.0})
    t, u = answer.result.time, answer.result.history(0)
    after = t >= 0
    np.testing.assert_allclose(u[after], 40 / 8e3 * np.cos(np.sqrt(8e3 / 2.0) * t[after]), atol=1e-9)
    assert u[0] == pytest.approx(40 / 8e3)
    with pytest.raises(DescriptionError, match="give exactly one of"):
        a.modes().respond({"ring down": 1.0})


# -- one convention for portions, directions, several things read together -------------------------------------------

EVENTS = {
    "sweep": {"sweep": {"at": [11.0, 24.3, 36.5]}, "base": {"z": 2.0}},
    "pulse": {"pulse": {"z": {"half sine": {"peak": 20.0, "duration": 0.03}}}, "ring down": 0.2},
    "random": {"random": {"z": {"frequency": [2, 60], "density": [1.0, 1.0]}}},
    "spectrum": {
        "spectrum": {"z": {"frequency": [1, 100], "acceleration": [3.0, 3.0]}},
        "combine": "srss",
        "outside": "hold",
    },
    "pull": {"static": "pull"},
}


def strips() -> hk.Assembly:
    """The same clamped strip as beam, as shells and as solids, side by side; and a link at the beam's end."""
    a = hk.Assembly().material("m", E=70e9, nu=0.0, density=2700.0).damping(0.08)
    a.section("s", rectangle={"width": 0.02, "height": 0.004})
    a.point("a", [0, 0, 0]).point("b", [0.3, 0, 0]).point("tip", [0.3, 0, 0.01])
    a.part("beam", beam={"through": ["a", "b"], "section": "s", "divisions": 8, "theory": "euler"}, material="m")
    a.part("shell", plate={"corner": [0, 0.1, 0], "sides": [[0.3, 0, 0], [0, 0.02, 0]],
                           "thickness": 0.004, "divisions": [8, 2], "quadratic": True}, material="m")  # fmt: skip
    a.part("solid", box={"corner": [0, 0.2, -0.002], "sides": [[0.3, 0, 0], [0, 0.02, 0], [0, 0, 0.004]],
                         "divisions": [8, 1, 1], "quadratic": True}, material="m")  # fmt: skip
    a.mass("m", at="tip", mass=0.02).link("arm", rigid="b", to="tip")
    a.support("root", at="a", hold="all").support("edge", at={"part": "shell", "plane": {"at": [0, 0, 0],
              "normal": "x"}}, hold="all")  # fmt: skip
    a.support("face", at={"part": "solid", "plane": {"at": [0, 0, 0], "normal": "x"}}, hold=["x", "y", "z"])
    a.load("pull", at="tip", force=[0, 1.0, -3.0])
    for part in ("beam", "shell", "solid"):
        for portion in (None, "elastic", "damper", "whole"):
            more = {} if portion is None else {"portion": portion}
            at = {"at": "nodes"} if part != "beam" else {}
            component = {} if part == "beam" else {"component": "xx"}
            a.gauge(f"{part} {portion}", stress=part, **at, **component, **more)
    for portion in (None, "elastic", "damper", "whole"):
        more = {} if portion is None else {"portion": portion}
        a.gauge(f"link {portion}", force="arm", axis="z", **more)
        a.gauge(f"moment {portion}", beam_moment="beam", end="start", axis="y", **more)
        a.gauge(f"cut {portion}", cut_moment="shell", plane={"at": [0.15, 0, 0], "normal": "x"}, axis="y", **more)
        a.gauge(f"foot {portion}", reaction_moment="root", axis="y", **more)
    return a.changed({"events": EVENTS})


@pytest.mark.parametrize("event", EVENTS)
def test_stress_is_elastic_and_forces_are_whole_whatever_the_elements(event):
    """By default; the other on request, everywhere; what damping passes is 2 ζ ω/ω_n of it, a quarter turn ahead."""
    modes = strips().modes(12)
    answer = modes.respond(event)
    r = answer.result
    value = {reading.gauge: p for reading, p in zip(r.reduced.readings, r.peaks, strict=True)}
    names = {reading.gauge: n for n, reading in enumerate(r.reduced.readings)}
    for part in ("beam", "shell", "solid"):
        assert value[f"{part} None"] == value[f"{part} elastic"]
    for force in ("link", "moment", "cut", "foot"):
        assert value[f"{force} None"] == value[f"{force} whole"]
    for what in ("beam", "shell", "solid", "link", "moment", "cut", "foot"):
        if event == "pull":
            assert (value[f"{what} whole"], value[f"{what} damper"]) == (value[f"{what} elastic"], 0.0)
        elif event == "sweep":
            elastic, damper, whole = (r.values(names[f"{what} {p}"])[:, 0] for p in ("elastic", "damper", "whole"))
            if r.reduced.readings[names[f"{what} whole"]].count == 1:
                np.testing.assert_allclose(elastic + damper, whole, atol=1e-9 * np.abs(whole).max())
            else:  # a field has one governing place for each
                assert abs(whole[0]) > abs(elastic[0])
        else:
            assert 0.0 < abs(value[f"{what} damper"]) < 0.4 * abs(value[f"{what} whole"])
    if event == "sweep":  # each in its own first mode
        for what in ("beam", "shell", "solid", "moment", "cut", "foot"):
            row = 2 if what in ("shell", "solid", "cut") else 1
            elastic, whole = (r.values(names[f"{what} {p}"])[row, 0] for p in ("elastic", "whole"))
            assert np.angle(whole / elastic) % np.pi == pytest.approx(np.arctan(2 * 0.08), rel=0.02), what
    if event == "spectrum":
        assert value["beam elastic"] == pytest.approx(value["beam whole"], rel=1e-12)  # which tells no phase


def test_full_model_reads_elastic_stress_of_beams():
    """In steps and at frequencies, without modes; portions that need them are refused by name."""
    a = strips()
    keep = {g: None for g in a.description.gauges if not g.startswith(("beam elastic", "beam whole", "shell elastic"))}
    modes = a.changed({"gauges": keep}).modes(60)
    full = modes.respond({**EVENTS["sweep"], "full model at": [11.0, 24.3]}).result.full
    np.testing.assert_allclose(full.full, full.modal, rtol=2e-3)
    with pytest.raises(EventError, match="need its modes"):
        a.modes(6).respond({**EVENTS["sweep"], "full model at": [11.0]})


def test_several_supports_directions_and_several_selections():
    """Sums of reactions and moments about a point, friction's with them; any direction; means over selections."""
    a = frame_without_gauges()
    a.point("d", [0.8, 0, 0]).part("leg", beam={"through": ["d", "c"], "section": "s", "up": "y", "divisions": 6},
                                   material="m")  # fmt: skip
    a.support("right", at="d", hold=["x", "y", "z", "rx"])
    one = np.array([0.6, 0.0, -0.8])
    for k in ("root", "right"):
        a.gauge(k, reaction=k).gauge(f"{k} m", reaction_moment=k)
    a.gauge("all", reaction=["root", "right"]).gauge("all m", reaction_moment=["root", "right"], about="c")
    a.gauge("all along", reaction=["root", "right"], axis=[3, 0, -4]).gauge("c along", displacement="c", axis=list(one))
    a.gauge("c", displacement="c").gauge("d", displacement="b")
    a.gauge("mean", displacement=["c", "b"]).gauge("union", displacement=["c", {"points": ["b"]}])
    modes = a.modes(count=6)
    values = a.respond("rest").table("peaks").set_index(["gauge", "component"])["value"]
    vec = {g: np.array([values[g, c] for c in "xyz"]) for g in ("root", "right", "root m", "right m", "all", "all m",
                                                               "c", "d", "mean", "union")}  # fmt: skip
    np.testing.assert_allclose(vec["all"], vec["root"] + vec["right"], atol=1e-9 * np.abs(vec["all"]).max())
    places = {p: a.coordinates(p)[0] for p in ("a", "c", "d")}
    moment = sum(vec[f"{s} m"] + np.cross(places[p] - places["c"], vec[s]) for s, p in (("root", "a"), ("right", "d")))
    np.testing.assert_allclose(vec["all m"], moment, atol=1e-9 * np.abs(moment).max())
    assert values["all along", "along"] == pytest.approx(one @ vec["all"], rel=1e-9)
    assert values["c along", "along"] == pytest.approx(one @ vec["c"], rel=1e-9)
    np.testing.assert_allclose(vec["mean"], (vec["c"] + vec["d"]) / 2, rtol=1e-9)
    np.testing.assert_allclose(vec["union"], vec["mean"], rtol=1e-12)
    history = modes.respond("jolt").table("history", "c along").iloc[:, -1], modes.respond("jolt").table("history", "c")
    mine = history[1][[f"c {k} (mm)" for k in "xyz"]].to_numpy() @ one
    np.testing.assert_allclose(history[0], mine, atol=1e-9 * np.abs(mine).max())
    limited = a.changed({"limits": {"c along": {"along": 1e-9}}}).respond("rest")
    assert not limited.ok

    rough = hk.Assembly().point("m", [0, 0, 0.2]).mass("m", at="m", mass=2.0, inertia=[1, 1, 1])
    rough.point("f", [0, 0, 0]).link("leg", rigid="m", to="f").support("rough", at="f", pushes="z", friction=0.5)
    rough.support("guide", at="m", hold=["rx", "ry", "rz"]).load("w", gravity="-z").load("p", at="m", force=[4.0, 0, 0])
    rough.gauge("t", reaction_moment="rough").gauge("about m", reaction_moment=["rough"], about="m")
    told = (
        rough.add_state("s", loads=["w", "p"])
        .about("s")
        .state("s")
        .table("readings")
        .set_index(["gauge", "component"])["value"]
    )
    assert told["about m", "y"] == pytest.approx(4.0 * 0.2, rel=1e-9)  # friction of -4 N, 0.2 m below
    for bad, words in (
        ({"displacement": "m", "axis": [0, 0, 0]}, "not all zero"),
        ({"reaction": ["rough"], "about": "m"}, "about does not belong to a gauge of reaction"),
        ({"beam force": "bar", "axis": [1, 1, 0]}, "the beam's own axes"),
        ({"force": "leg", "portion": "some"}, "'elastic', 'damper' or 'whole'"),
        ({"reaction": []}, "one support at least"),
    ):
        with pytest.raises(DescriptionError, match=words):
            rough.gauge("bad", **{k.replace(" ", "_"): v for k, v in bad.items()})
    with pytest.raises(DescriptionError, match="leave out portion"):
        build_gauges(chain([1.0], [100.0]).system, {"g": Gauge.model_validate({"force": "k1", "portion": "whole"})})
