"""Beam elements against closed forms and exact dynamic stiffness (figures copied from the reference set)."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import holokine as hk
from conftest import ALUMINIUM, BENCH_STEEL, STEEL, elastic, straight_beam
from holokine.describe.schema import Section
from holokine.elements.sections import section_properties
from holokine.errors import DescriptionError

BAR = {"rectangle": {"width": 0.0415, "height": 0.0785}}
# Timoshenko theory, kappa 5/6, rotary inertia: exact roots for each plane, Hz
SPANS = {
    "pinned": ("z", "z", [202.810185, 784.759067, 1680.31431, 2812.54704, 4113.20156]),
    "clamped": (["z", "ry"], ["z", "ry"], [443.962, 1158.66, 2131.31, 3287.73, 4575.2]),
    "free": ((), (), [453.831, 1198.7, 2223.45, 3448.46, 4812.93]),
    "propped": (["z", "ry"], "z", [311.862, 967.167, 1905.41, 3052.62, 4347.99]),
}


@pytest.mark.parametrize("name", SPANS)
def test_timoshenko_beam_bending_in_z(name):
    start, end, expected = SPANS[name]
    beam = straight_beam(0.943, BAR, ALUMINIUM, start=start, end=end, suppress=["x", "y", "rx", "rz"], divisions=60)
    found = elastic(beam.modes(count=7))[:5]
    # error of 60 elements: shear strain constant in each, second order, 1e-3 in the fifth mode
    np.testing.assert_allclose(found, expected, rtol=1.2e-3)


def test_timoshenko_beam_bending_in_y_and_second_order_convergence():
    expected = np.array([108.126064, 428.288729, 948.572105, 1651.27689, 2515.37004])
    errors = []
    for divisions in (15, 30, 60):
        beam = straight_beam(0.943, BAR, ALUMINIUM, start="y", end="y", suppress=["x", "z", "rx", "ry"],
                             divisions=divisions)  # fmt: skip
        errors.append(beam.modes(count=5).frequencies_hz / expected - 1.0)
    errors = np.array(errors)
    assert (errors > 0).all()  # consistent mass and compatible shapes bound from above
    order = np.log2(errors[:-1] / errors[1:])
    assert (order > 1.9).all()
    assert errors[-1].max() < 5e-4


def test_bernoulli_beam_converges_with_fourth_order():
    k = np.array([4.730040745, 7.853204624, 10.995607838])
    E, rho, L, h = STEEL["E"], STEEL["density"], 2.31, 0.0313
    exact = k**2 / (2 * np.pi * L**2) * np.sqrt(E * h**2 / 12 / rho)
    errors = []
    for divisions in (6, 12):
        beam = straight_beam(L, {"rectangle": {"width": 0.0471, "height": h}}, STEEL, start=["z", "ry"],
                             end=["z", "ry"], suppress=["x", "y", "rx", "rz"], divisions=divisions,
                             theory="euler")  # fmt: skip
        errors.append(beam.modes(count=3).frequencies_hz / exact - 1)
    assert (np.log2(errors[0] / errors[1]) > 3.7).all()
    assert max(errors[1]) < 5e-4  # (kh)^4 / 1440 with kh = 0.92


def test_lumped_mass_lies_below_and_rotary_inertia_lowers():
    found = {}
    for kind in ("consistent", "lumped", "lumped without rotary"):
        beam = straight_beam(0.943, BAR, ALUMINIUM, start="z", end="z", suppress=["x", "y", "rx", "rz"])
        found[kind] = beam.mass_matrix(kind).modes(count=4).frequencies_hz
    assert (found["lumped"] < found["consistent"]).all()
    assert (found["lumped"] < found["lumped without rotary"]).all()
    # 40 lumped elements: second-order error, 1 % in the fourth mode
    np.testing.assert_allclose(found["lumped"], SPANS["pinned"][2][:4], rtol=1e-2)


def test_cantilever_with_offset_tip_body():
    beam = straight_beam(1.83, {"rectangle": {"width": 0.052, "height": 0.078}}, STEEL, start="all", divisions=30)
    beam.mass("tip", at="b", mass=23.7, inertia=[0.412, 0.173, 0.358], offset=[0, 0.187, 0])
    expected = [7.80413116, 11.6163089, 53.7179624, 55.2117605, 103.690638, 130.548192, 252.950492, 271.906529]
    np.testing.assert_allclose(beam.modes(count=8).frequencies_hz, expected, rtol=1e-4)  # 30 elements


def test_cantilever_with_two_off_centre_masses_on_rigid_links():
    beam = straight_beam(10.0, {"rod": {"diameter": 0.5}}, BENCH_STEEL, start="all", divisions=40, theory="rayleigh")
    beam.point("p", [10, 2, 0]).point("q", [10, -2, 0])
    beam.mass("heavy", at="p", mass=10000).mass("light", at="q", mass=1000)
    beam.link("arm p", rigid="b", to="p").link("arm q", rigid="b", to="q")
    expected = [1.72312, 1.72669, 7.41275, 9.97148, 18.1551, 26.9572, 52.736, 64.0385]
    # 40 elements; axial and torsional waves are linear in each, 5e-4 in the highest modes
    np.testing.assert_allclose(beam.modes(count=8).frequencies_hz, expected, rtol=6e-4)


def test_plane_portal_frame_with_sloping_beam():
    a = hk.Assembly("portal").material("m", **STEEL)
    a.section("column", rectangle={"width": 0.14, "height": 0.21})
    a.section("beam", rectangle={"width": 0.11, "height": 0.27})
    places = {"A": [0, 0, 0], "B": [0, 4.21, 0], "C": [6.37, 4.83, 0], "D": [6.37, 0, 0]}
    for name, at in places.items():
        a.point(name, at)
    for i, j, section in (("A", "B", "column"), ("B", "C", "beam"), ("D", "C", "column")):
        d = np.subtract(places[j], places[i])
        up = [-d[1], d[0], 0]  # the depth lies in the plane
        a.part(i + j, beam={"through": [i, j], "section": section, "up": up, "divisions": 16}, material="m")
        a.support(f"plane {i}{j}", at={"part": i + j}, hold=["z", "rx", "ry"])
    a.support("feet", at=["A", "D"], hold="all")
    modes = a.modes(count=8)
    expected = [7.0553, 20.9045, 42.8139, 53.6994, 74.8302, 116.838, 141.61, 161.81]
    np.testing.assert_allclose(modes.frequencies_hz, expected, rtol=2e-3)  # 16 elements per member


def test_preloaded_beam_and_buckling():
    section = {"rectangle": {"width": 0.0471, "height": 0.0313}}
    keys = {"start": "z", "end": "z", "suppress": ["x", "y", "rx", "rz"], "divisions": 40}
    half = straight_beam(2.31, section, STEEL, theory="euler", preload=-22929.03007921274, **keys)
    found = half.modes(count=4).frequencies_hz
    np.testing.assert_allclose(found, [9.64689081, 51.046548, 119.325449, 214.84646], rtol=2e-5)
    shear = straight_beam(2.31, section, STEEL, preload=-22929.03007921274, **keys).modes(count=4).frequencies_hz
    np.testing.assert_allclose(shear, [9.64165467, 50.9767381, 118.980324, 213.767316], rtol=2e-4)
    with pytest.raises(hk.HolokineError, match=r"buckling"):
        straight_beam(2.31, section, STEEL, preload=-60000, **keys).modes(count=2)


def test_free_ring_of_straight_beams():
    n, radius = 180, 0.613
    a = hk.Assembly("ring").material("m", **ALUMINIUM)
    a.section("s", rectangle={"width": 0.0207, "height": 0.0314})
    angle = 2 * np.pi * np.arange(n) / n
    for i, t in enumerate(angle):
        a.point(f"p{i}", [radius * np.cos(t), radius * np.sin(t), 0])
    names = [f"p{i}" for i in range(n)] + ["p0"]
    a.part("ring", beam={"through": names, "section": "s", "divisions": 1}, material="m")
    modes = a.modes(count=20)
    assert modes.set.rigid.sum() == 6
    pairs = [34.7865956, 45.9356223, 98.2924395, 138.197896, 188.205067, 271.889342, 303.827827]
    # polygon of 180 sides: shorter by (pi/180)^2 / 6, and second order in shear
    np.testing.assert_allclose(elastic(modes)[:14], np.repeat(pairs, 2), rtol=1e-3)


def test_double_cross_with_eight_arms():
    a = hk.Assembly("cross").material("m", **BENCH_STEEL).section("s", rectangle={"width": 0.125, "height": 0.125})
    a.point("c", [0, 0, 0])
    for i in range(8):
        t = np.pi * i / 4
        a.point(f"e{i}", [5 * np.cos(t), 5 * np.sin(t), 0])
        beam = {"through": ["c", f"e{i}"], "section": "s", "divisions": 12, "theory": "euler"}
        a.part(f"arm {i}", beam=beam, material="m")
        a.support(f"plane {i}", at={"part": f"arm {i}"}, hold=["z", "rx", "ry"])
        a.support(f"pin {i}", at=f"e{i}", hold=["x", "y"])
    expected = [11.3362, *[17.6808] * 2, *[17.7094] * 5, 45.345, *[57.0746] * 2, *[57.3897] * 5]
    np.testing.assert_allclose(a.modes(count=16).frequencies_hz, expected, rtol=3e-4)


def test_release_is_a_hinge():
    keys = {"suppress": ["x", "y", "rx", "rz"], "divisions": 60}
    hinged = straight_beam(0.943, BAR, ALUMINIUM, start=["z", "ry"], end=["z", "ry"], release={"end": ["ry"]}, **keys)
    np.testing.assert_allclose(hinged.modes(count=5).frequencies_hz, SPANS["propped"][2], rtol=1.2e-3)


def test_offset_ends_equal_a_beam_with_rigid_links():
    offset = straight_beam(1.0, BAR, STEEL, start="all", end="all",
                           offset={"start": [0.1, 0, 0.05], "end": [-0.1, 0, 0.05]}, divisions=12)  # fmt: skip
    linked = hk.Assembly().material("m", **STEEL).section("s", **BAR)
    for name, at in {"a": [0, 0, 0], "b": [1, 0, 0], "c": [0.1, 0, 0.05], "d": [0.9, 0, 0.05]}.items():
        linked.point(name, at)
    linked.part("beam", beam={"through": ["c", "d"], "section": "s", "divisions": 12}, material="m")
    linked.link("l", rigid="a", to="c").link("r", rigid="b", to="d")
    linked.support("sa", at="a", hold="all").support("sb", at="b", hold="all")
    found = offset.modes(count=6).frequencies_hz
    np.testing.assert_allclose(found, linked.modes(count=6).frequencies_hz, rtol=1e-9)
    eccentric = straight_beam(1.0, BAR, STEEL, start="all", end="all", eccentricity=[0.02, 0.05], divisions=12)
    assert eccentric.check().report.totals.centre == pytest.approx([0.5, 0.02, 0.05])


SHAPES = {
    "channel": {"channel": {"height": 0.1, "width": 0.05, "web": 0.006, "flange": 0.008}},
    "angle": {"angle": {"height": 0.08, "width": 0.05, "thickness": 0.006}},
    "T": {"T": {"height": 0.08, "width": 0.06, "web": 0.006, "flange": 0.008}},
    "I": {"I": {"height": 0.1, "width": 0.06, "web": 0.006, "flange": 0.008}},
    "tube": {"tube": {"height": 0.08, "width": 0.05, "wall": 0.004}},
    "pipe": {"pipe": {"diameter": 0.06, "wall": 0.004}},
}


def test_section_properties_against_integration_over_the_area():
    """Second moments by a fine grid over the outline; torsion and shear centre by thin-wall closed forms."""
    p = {name: section_properties(Section.model_validate(s)) for name, s in SHAPES.items()}
    step = 2.5e-4
    y, z = np.meshgrid(np.arange(-0.12, 0.12, step) + step / 2, np.arange(-0.12, 0.12, step) + step / 2)
    outlines = {
        "channel": ((y > 0) & (y < 0.05) & (abs(z) < 0.05) & ~((y > 0.006) & (abs(z) < 0.042))),
        "angle": ((y > 0) & (z > 0) & (y < 0.05) & (z < 0.08) & ~((y > 0.006) & (z > 0.006))),
        "T": ((abs(y) < 0.03) & (z > 0.072) & (z < 0.08)) | ((abs(y) < 0.003) & (z > 0) & (z < 0.072)),
        "tube": (abs(y) < 0.025) & (abs(z) < 0.04) & ~((abs(y) < 0.021) & (abs(z) < 0.036)),
    }
    for name, inside in outlines.items():
        area = inside.sum() * step**2
        yc, zc = y[inside].mean(), z[inside].mean()
        assert p[name].area == pytest.approx(area, rel=1e-9)
        assert p[name].Iy == pytest.approx(((z[inside] - zc) ** 2).sum() * step**2, rel=1e-4)
        assert p[name].Iz == pytest.approx(((y[inside] - yc) ** 2).sum() * step**2, rel=1e-4)
        product = ((y[inside] - yc) * (z[inside] - zc)).sum() * step**2
        assert p[name].Iyz == pytest.approx(product, rel=1e-4, abs=1e-12)
    assert p["channel"].shear_centre[0] < -0.02  # behind the web
    assert pytest.approx(np.pi * (0.06**4 - 0.052**4) / 32) == p["pipe"].J
    mean = (0.046 * 0.076) ** 2 * 4 * 0.004 / (2 * (0.046 + 0.076))  # Bredt
    assert pytest.approx(mean, rel=0.01) == p["tube"].J
    square = section_properties(Section.model_validate({"rectangle": {"width": 0.0415, "height": 0.0785}}))
    assert pytest.approx(1.2503321215478745e-06, rel=1e-9) == square.J  # full St-Venant series


@settings(max_examples=12, deadline=None)
@given(name=st.sampled_from(sorted(SHAPES)), seed=st.integers(0, 10**6))
def test_rotating_the_whole_changes_no_frequency(name, seed):
    rng = np.random.default_rng(seed)
    Q, _ = np.linalg.qr(rng.standard_normal((3, 3)))
    Q *= np.sign(np.linalg.det(Q))

    def build(turn: np.ndarray) -> np.ndarray:
        a = hk.Assembly().material("m", **STEEL).section("s", **SHAPES[name])
        a.point("a", turn @ [0, 0, 0]).point("b", turn @ [1.1, 0, 0]).point("c", turn @ [1.1, 0.7, 0.3])
        a.part("beam", beam={"through": ["a", "b", "c"], "section": "s", "up": (turn @ [0, 0.1, 1]).tolist(),
                             "divisions": 5}, material="m")  # fmt: skip
        inertia = turn @ np.diag([0.3, 0.4, 0.5]) @ turn.T
        a.mass("w", at="c", mass=12.0, inertia=inertia, offset=turn @ [0.1, 0.2, -0.1])
        return a.support("root", at="a", hold="all").modes(count=10).frequencies_hz

    np.testing.assert_allclose(build(Q), build(np.eye(3)), rtol=1e-9)


def test_shear_centre_couples_bending_and_torsion():
    """A channel loaded through its centroid twists; a force through the shear centre does not."""
    beam = straight_beam(1.0, SHAPES["channel"], STEEL, start="all", divisions=4)
    system = beam.system
    tip = 6 * system.mesh.points["b"]
    load = np.zeros(system.size)
    load[tip + 2] = 1.0
    T = system.constraints.reduce
    K = system.reduced_stiffness.toarray()
    plain = T @ np.linalg.solve(K, T.T @ load)
    ey = system.elements[0].section.shear_centre[0]
    load[tip + 3] = ey  # the same force moved to the shear centre
    moved = T @ np.linalg.solve(K, T.T @ load)
    assert abs(plain[tip + 3]) > 100 * abs(moved[tip + 3])
    s, G = system.elements[0].section, STEEL["E"] / 2.58
    bend = 1.0 / (3 * STEEL["E"] * s.Iy) + 1.0 / (G * s.area * s.shear_z)
    centre_line = moved[tip + 2]
    assert centre_line == pytest.approx(bend, rel=1e-9)


def tapered(divisions: int, ratio: float, theory: str = "euler", **more) -> hk.Assembly:
    """A cantilever along x whose height falls evenly to a share of it."""
    a = hk.Assembly("taper").material("m", **STEEL)
    a.section("root", rectangle={"width": 0.02, "height": 0.04})
    a.section("tip", rectangle={"width": 0.02, "height": 0.04 * ratio})
    a.point("a", [0, 0, 0]).point("b", [1, 0, 0])
    run = {"through": ["a", "b"], "section": "root", "end_section": "tip", "up": "z", "divisions": divisions}
    a.part("w", beam={**run, "theory": theory, **more}, material="m")
    return a.support("wall", at="a", hold="all").support("plane", at={"part": "w"}, hold=["y", "rx"])


def test_tapered_beams_against_published_roots_and_by_refinement():
    """Height halved: ω L² √(ρA₀/EI₀) = 3.8238, 18.3173, 47.2648 (Mabie & Rogers, J. Acoust. Soc. Am. 51 (1972))."""
    scale = 2 * np.pi / (np.sqrt(STEEL["E"] / STEEL["density"]) * 0.04 / np.sqrt(12))
    found = tapered(40, 0.5).modes(count=3).frequencies_hz * scale
    np.testing.assert_allclose(found, [3.8238, 18.3173, 47.2648], rtol=1e-5)
    errors = [abs(tapered(n, 0.5).modes(count=3).frequencies_hz * scale / found - 1)[1] for n in (4, 8, 16)]
    assert errors[0] > 10 * errors[1] > 100 * errors[2] / 2  # fourth order in the element's length
    half = tapered(7, 0.5)
    assert half.check().mass == pytest.approx(STEEL["density"] * 0.02 * 0.04 * 0.75, rel=1e-12)
    # a taper to the same section is the uniform beam; many uniform steps tend to the taper
    even = straight_beam(1.0, {"rectangle": {"width": 0.02, "height": 0.04}}, STEEL, start="all", divisions=10,
                         suppress=["y", "rx"])  # fmt: skip
    np.testing.assert_allclose(tapered(10, 1.0, "timoshenko").modes(count=4).frequencies_hz,
                               even.modes(count=4).frequencies_hz, rtol=1e-10)  # fmt: skip


def test_tapered_beams_at_rest_lumped_and_drawn():
    """Tip deflection by ∫ M²/EI dx, stress at both ends of elements by their own heights, mass lumped, preload."""
    a = tapered(5, 0.4).load("push", at="b", force={"z": 50.0})
    a.gauge("root", stress="w", end="start").gauge("tip", displacement="b", axis="z").gauge("all", stress="w")
    answer = a.respond({"static": "push"})
    x = (np.polynomial.legendre.leggauss(40)[0] + 1) / 2
    w = np.polynomial.legendre.leggauss(40)[1] / 2
    h = 0.04 * (1 - 0.6 * x)
    tip = float(np.sum(w * 50 * (1 - x) ** 2 / (STEEL["E"] * 0.02 * h**3 / 12)))
    values = answer.table("peaks").set_index("gauge")["value"]
    assert values["tip"] == pytest.approx(1e3 * tip, rel=1e-5)  # four Gauss points on each of five elements
    stations = np.linspace(0, 1, 6)
    fibre = 50 * (1 - stations) / (0.02 * (0.04 * (1 - 0.6 * stations)) ** 2 / 6) / 1e6
    assert abs(values["root"]) == pytest.approx(fibre[0], rel=1e-9)
    assert abs(values["all"]) == pytest.approx(fibre.max(), rel=1e-9)
    (worst,) = answer.table("stress").to_dict("records")
    assert worst["at_x_mm"] == pytest.approx(1e3 * stations[fibre.argmax()])
    kinds = ("consistent", "lumped")
    consistent, lumped = (tapered(40, 0.5).mass_matrix(k).modes(count=3).frequencies_hz for k in kinds)
    np.testing.assert_allclose(lumped, consistent, rtol=3e-3)
    pulled = tapered(40, 0.5, preload=2e4).modes(count=1).frequencies_hz
    assert pulled[0] > consistent[0]
    faces = next(b.bodies()[0] for b in a.system.element_blocks("w"))
    near = faces.reshape(-1, 3)[np.isclose(faces.reshape(-1, 3)[:, 0], 1.0)]
    assert np.ptp(near[:, 2]) == pytest.approx(0.016, rel=1e-9)
    with_torsion = {"rectangle": {"width": 0.02, "height": 0.02}, "torsion_constant": 1e-9}
    for tip_section, words in (({"rod": {"diameter": 0.02}}, "of one shape"), (with_torsion, "with both")):
        bad = tapered(4, 0.5)
        bad._data["sections"]["tip"] = tip_section
        with pytest.raises(DescriptionError, match=words):
            bad.modes(count=1)
