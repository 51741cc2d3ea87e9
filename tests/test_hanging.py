"""Cables, what hangs on them and what acts twice; rigid feet, feet that oppose one another, and where states end."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.optimize import brentq

import holokine as hk
from conftest import STEEL
from holokine.errors import DescriptionError, EquilibriumError, MechanismError
from test_cli import inside

G = 9.80665
EA, AREA, DENSITY = 105e9 * 4.5e-4, 4.5e-4, 7800.0


def wire(divisions: int, *, span: float = 10.0, mass: str = "consistent", **state: object) -> hk.Assembly:
    a = hk.Assembly("wire").material("m", E=105e9, nu=0.3, density=DENSITY).mass_matrix(mass)
    a.point("a", [0, 0, 0]).point("b", [span, 0, 0])
    a.part("rope", cable={"through": ["a", "b"], "area": AREA, "divisions": divisions}, material="m")
    a.support("ends", at=["a", "b"], hold="all").load("weight", gravity="-z").gauge("sag", stress="rope")
    a.gauge("pull", beam_force="rope", end="start", axis="x")
    return a.add_state("s", loads="weight", **state).about("s")


@pytest.mark.parametrize("mass", ["consistent", "lumped"])
@pytest.mark.parametrize("divisions", [2, 9, 30])
def test_a_taut_wire_sags_and_vibrates_as_a_string(divisions, mass):
    """Frequencies of linear elements, exactly; sag w L² / 8 T at the middle; stress N / A; tension as asked for."""
    T, m = 2e4, DENSITY * AREA
    a = wire(divisions, mass=mass, tension={"rope": T})
    count = min(3, divisions - 1)
    modes = a.modes(2 * count)
    c = np.cos(np.arange(1, count + 1) * np.pi / divisions)
    h = 10.0 / divisions
    square = (6.0 if mass == "consistent" else 2.0) * T / (m * h**2) * (1 - c) / (2 + c if mass == "consistent" else 1)
    np.testing.assert_allclose(modes.frequencies_hz, np.repeat(np.sqrt(square) / (2 * np.pi), 2), rtol=1e-9)
    rest = a.state()
    places = rest.result.elastic.mesh.nodes[:, 0]
    sag = m * G * places * (10.0 - places) / (2 * T)
    np.testing.assert_allclose(-rest.result.displacement.reshape(-1, 6)[:, 2], sag, atol=1e-12)
    axial = rest.table("axial").iloc[0]
    assert axial["highest_n"] == pytest.approx(T, rel=1e-9)
    assert axial["shortening_mm"] == pytest.approx(1e3 * T * 10.0 / EA, rel=1e-9)
    readings = rest.table("readings").set_index("gauge")["value"]
    assert readings["sag"] == pytest.approx(1e-6 * T / AREA, rel=1e-9)
    assert readings["pull"] == pytest.approx(T, rel=1e-9)
    if divisions == 30:  # against the string itself: (kh)² / 24 of linear elements, told by the error of the mesh
        exact = np.sqrt(T / m) / 20.0
        told = modes.table()["mesh_error_percent"].iloc[0]
        assert 100 * abs(modes.frequencies_hz[0] / exact - 1) == pytest.approx(told, rel=0.1)


def test_a_slack_wire_is_a_catenary_by_load_steps():
    """5 % longer than its span: horizontal force and sag of the catenary; 20 straight pieces, 0.5 %."""
    a = wire(20, shortening={"rope": -0.5}, load_steps=4)
    length, w = 10.5, DENSITY * AREA * G * 10.0 / 10.5
    c = brentq(lambda c: 2 * c * np.sinh(5.0 / c) - length, 1.0, 100.0)
    rest = a.state()
    assert -rest.result.displacement.reshape(-1, 6)[:, 2].min() == pytest.approx(c * (np.cosh(5.0 / c) - 1), rel=5e-3)
    assert rest.table("axial")["lowest_n"].iloc[0] == pytest.approx(w * c, rel=2e-2)


def boat(**more: object) -> hk.Assembly:
    """A body on two falls, and loads that heel it."""
    a = hk.Assembly("boat").material("wire", E=105e9, nu=0.3, density=1.0)
    for end, y in (("a", -1.5), ("f", 1.5)):
        a.point(f"t{end}", [0, y, 1.9]).point(f"h{end}", [0, y, 0.6])
        a.part(f"fall {end}", cable={"through": [f"t{end}", f"h{end}"], "area": AREA, **more}, material="wire")
    a.point("boat", [0, 0, 0]).mass("body", at="boat", mass=4200, inertia=[17e3, 3e3, 18e3])
    a.link("hull", rigid="boat", to=["ha", "hf"]).support("top", at=["ta", "tf"], hold="all")
    a.load("weight", gravity="-z").load("heeled weight", gravity=[0.1, 0, -np.sqrt(0.99)])
    a.load("wind", at="boat", force=[0, 500.0, 0])
    a.gauge("fall", beam_force="fall a", end="start", axis="x").gauge("top", reaction="top")
    a.gauge("falls", stress="fall a").gauge("side", displacement="boat", axis="x")
    a.add_state("hung", loads="weight").add_state("heeled", loads="heeled weight").about("hung")
    a.event("once more", static="heeled weight").event("in place", static={"heeled weight": 1, "weight": -1})
    a.event("total", static={"heeled weight": 1, "weight": -1}, with_state=True).event("by itself", state="heeled")
    return a.about("hung")


def test_a_boat_on_falls_swings_as_a_pendulum():
    """Closed forms of the sway along y, of yaw, and of the double pendulum across; no release, N / A."""
    f = boat().modes(4).frequencies_hz
    W, m, L = 4200 * G, 4200.0, 1.3
    sway = np.sqrt(G / L) / (2 * np.pi)
    yaw = np.sqrt(W * 1.5**2 / (L * 18e3)) / (2 * np.pi)
    # x of the hooks and the turn of the body, whose centre hangs 0.6 m below them
    K, M = np.diag([W / L, W * 0.6]), np.array([[m, -m * 0.6], [-m * 0.6, 3e3 + m * 0.36]])
    double = np.sqrt(np.linalg.eigvals(np.linalg.solve(M, K)).real) / (2 * np.pi)
    # 5e-5: falls lengthen, so that sway along y rolls the body a little
    np.testing.assert_allclose(f, np.sort([sway, yaw, *double]), rtol=5e-5)
    rest = boat().state()
    assert boat().check().ok  # about the state: without it the boat hangs on nothing that holds it across
    assert not boat().about(None).check().ok
    assert rest.table("axial")["highest_n"].max() == pytest.approx(W / 2, rel=1e-6)
    assert rest.table("stress")["stress_mpa"].max() == pytest.approx(1e-6 * W / 2 / AREA, rel=1e-6)
    # by its E A, and with nodes within: the same, and modes of the falls between their ends
    stiff = boat(stiffness=3e7, divisions=4)
    low = stiff.modes(4).frequencies_hz
    np.testing.assert_allclose(low, f, rtol=5e-5)
    drop = stiff.state().table("points").set_index("point").loc["boat", "z_mm"]
    assert drop == pytest.approx(-1e3 * W / 2 * L / 3e7, rel=1e-4)


def test_what_hangs_is_held_across_by_its_tension():
    """Wind on the hung boat: sway F L / W by the stress of cables, links and bodies."""
    a = boat().changed({"states": {"hung": {"loads": ["weight", "wind"]}}}).about("hung")
    rest = a.state()
    u = rest.table("points").set_index("point").loc["boat", "y_mm"]
    assert u == pytest.approx(1e3 * 500.0 * 1.3 / (4200 * G), rel=1e-4)
    assert rest.table("supports").iloc[0]["y_n"] == pytest.approx(-500.0, rel=1e-9)
    assert rest.result.equilibrium.violation < 1e-10
    free = a.changed({"supports": {"top": {"at": ["ta", "tf"], "hold": ["x", "z"]}}})
    with pytest.raises(hk.HolokineError, match="along y"):
        free.state()


def test_weight_acts_once():
    """A tilted weight about a state with weight: twice is said; in its place, with the state and by itself the same."""
    a = boat()
    twice = a.respond("once more")
    warned = [f.text for f in twice.findings if f.level == "warning"]
    assert any("weight acts twice" in t and "in all 1.99" in t for t in warned)
    assert not any("twice" in f.text for f in a.respond("in place").findings)
    assert any("in all 1 g" in f.text for f in a.respond("in place").findings)
    total, alone = (
        a.respond(e).table("peaks").set_index(["gauge", "component"])["value"] for e in ("total", "by itself")
    )
    for reading in ("fall", "top", "falls"):
        np.testing.assert_allclose(total.loc[reading], alone.loc[reading], rtol=1e-6, atol=1e-6)
    # about the state with all of its weight along the falls, and about the other with the cosine of it
    np.testing.assert_allclose(total.loc["side"], alone.loc["side"] * np.sqrt(0.99), rtol=1e-6)
    assert alone.loc["fall"].iloc[0] == pytest.approx(4200 * G * np.sqrt(0.99) / 2, rel=1e-6)
    other = a.changed({"loads": {"wind": {"force": [0, 90.0, 0]}},
                       "states": {"hung": {"loads": {"weight": 1, "wind": 1}}},
                       "events": {"gust": {"static": {"wind": 2}}}}).about("hung")  # fmt: skip
    assert any('"wind" acts 1 times in the state and 2 times in this event, 3 times' in f.text
               for f in other.respond("gust").findings)  # fmt: skip


def test_a_state_as_an_event_goes_everywhere(tmp_path):
    """Limits, JSON, tables and files of an event that is a state, whatever state is on, none included."""
    a = boat()
    a.limit("fall", 2.2e4)
    path = tmp_path / "boat.yaml"
    a.save(path)
    for state in ("hung", "none"):
        got = inside("respond", str(path), "by itself", "--state", state, "--out", str(tmp_path / state), "--json")
        assert got.returncode == 0, got.stderr
        assert '"fall"' in got.stdout
    assert any(p.suffix == ".csv" for p in (tmp_path / "none").iterdir())
    table = a.respond("by itself").table("limits")
    assert table["peak"].iloc[0] == pytest.approx(4200 * G * np.sqrt(0.99) / 2, rel=1e-6)
    assert a.respond("by itself").deformed.table("stress")["stress_mpa"].max() == pytest.approx(45.5, rel=1e-2)


def test_what_was_made_tight_stays_as_long_as_it_was_made():
    """Two stays tightened upright, then a pull: forces by hand with the length kept, not with the force kept."""
    a = hk.Assembly().material("m", E=105e9, nu=0.3, density=1e-3).point("m", [0, 0, 0])
    for k, x in (("left", -2.0), ("right", 2.0)):
        a.point(k, [x, 0, 0]).support(k, at=k, hold="all")
        a.part(f"stay {k}", cable={"through": ["m", k], "area": AREA}, material="m")
    a.mass("m", at="m", mass=5.0).support("rail", at="m", hold=["y", "z"])
    a.spring("soft", between=["m", "ground"], axis="x", stiffness=1e5).load("pull", at="m", force=[3e3, 0, 0])
    a.add_state("upright", tension={"stay left": 8e3}).add_state("pulled", loads="pull", installed="upright")
    a.add_state("again", loads="pull", installed="pulled").add_state("loop", loads="pull", installed="loop")
    tight = a.about("upright").state()
    k = EA / 2.0
    made = tight.result.equilibrium.shortened["stay left"]
    u = -8e3 / (1e5 + k)  # against the spring and the other stay
    assert made == pytest.approx(8e3 / k - u, rel=1e-9)
    assert f"stay left: {1e3 * made:.6g} mm" in " ".join(tight.lines)
    for state in ("pulled", "again"):
        rest = a.about(state).state()
        moved = (3e3 - k * made) / (2 * k + 1e5)
        force = k * (moved + made)
        assert rest.table("axial").set_index("part").loc["stay left", "highest_n"] == pytest.approx(force, rel=1e-8)
    with pytest.raises(DescriptionError, match="comes back to"):
        a.about("loop").state()
    with pytest.raises(DescriptionError, match="carries no compression"):
        a.changed({"states": {"upright": {"tension": {"stay left": -100}}}}).about("upright").state()


@pytest.mark.parametrize("kind", ["strut", "cable"])
def test_a_rope_too_long_is_slack_whatever_its_length(kind):
    """On a mass pulled 1 mm: taut where it is less than that too long, slack from there on; one of a pair, and both."""
    for excess in (0.3, 0.999, 1.0, 1.0 + 1e-9, 1.001, 1.2, 2, 3.7, 11, 50, 400):
        a = hk.Assembly().material("s", E=2e11, nu=0.3, density=7800).section("r", rod={"diameter": 0.01})
        a.point("a", [0, 0, 0]).point("b", [1, 0, 0]).point("g", [1, 0, 0], apart=True).point("c", [3, 0, 0])
        for name, ends in (("rope", ["a", "b"]), ("idle", ["b", "c"])):
            shape = {"cable": {"through": ends, "section": "r"}} if kind == "cable" else {
                "beam": {"through": ends, "section": "r", "divisions": 1, "up": "y", "goes slack": True}}  # fmt: skip
            a.part(name, **shape, material="s")
        a.mass("m", at="b", mass=5, inertia=[0.1, 0.1, 0.1]).support("f", at=["a", "g", "c"], hold="all")
        a.bushing("k", between=["g", "b"], stiffness=[1e5, 1e5, 1e5, 1e3, 1e3, 1e3])
        a.load("p", at="b", force=[100, 0, 0])
        a.add_state("s", loads="p", shortening={"rope": -1e-3 * excess}).about("s")
        rest, top = a.about("s").state(), a.about("s").modes(6).frequencies_hz[5]
        assert rest.result.equilibrium.slack == (("idle", "rope") if excess >= 1.0 else ("idle",)), excess
        assert (top < 30.0) == (excess >= 1.0)
        assert rest.result.equilibrium.violation < 1e-9


@pytest.mark.parametrize("kind", ["strut", "cable"])
def test_two_long_stays_of_a_portal(kind):
    """The stay that the sway would lengthen pulls as soon as it is not too long for that, the other one never."""
    a = hk.Assembly("portal").material("s", E=2e11, nu=0.3, density=7800.0).section("r", rod={"diameter": 0.008})
    a.section("c", tube={"width": 0.08, "height": 0.08, "wall": 0.004})
    for name, at in {"a": [0, 0, 0], "b": [0, 0, 3], "c": [4, 0, 3], "d": [4, 0, 0]}.items():
        a.point(name, at)
    for name, ends in {"left": ["a", "b"], "top": ["b", "c"], "right": ["d", "c"]}.items():
        a.part(name, beam={"through": ends, "section": "c", "up": "y", "divisions": 6}, material="s")
    for name, ends in {"up": ["a", "c"], "down": ["d", "b"]}.items():
        shape = {"cable": {"through": ends, "section": "r"}} if kind == "cable" else {
            "beam": {"through": ends, "section": "r", "up": "y", "divisions": 1, "goes slack": True}}  # fmt: skip
        a.part(name, **shape, material="s")
    a.support("f", at=["a", "d"], hold="all").load("w", gravity="-z").load("p", at="b", force=[1500, 0, 0])
    a.add_state("s", loads=["w", "p"], shortening={"up": -1.0, "down": -1.0})
    free = a.about("s").state().table("points").set_index("point").loc["c"]
    need = 1e-3 * (0.8 * free["x_mm"] + 0.6 * free["z_mm"])
    for excess in (0.2, 0.6, 0.95, 1.0001, 1.05, 2.0, 4.0):
        own = {"up": -need * excess, "down": -need * excess}
        found = a.changed({"states": {"s": {"shortening": own}}}).about("s").state().result.equilibrium
        assert found.slack == (("down",) if excess < 1.0 else ("down", "up")), excess
        assert found.violation < 1e-9


def test_a_strut_is_told_from_a_cable_and_a_cable_without_tension_is_named():
    a = hk.Assembly().material("s", **STEEL).section("r", rod={"diameter": 0.01}).point("a", [0, 0, 0])
    a.point("b", [1, 0, 0]).mass("m", at="b", mass=2.0).support("f", at="a", hold="all")
    a.part("strut", beam={"through": ["a", "b"], "section": "r", "goes slack": True}, material="s")
    assert any(
        "struts that only pull: strut" in f.text and "clamped at their ends" in f.text for f in a.check().findings
    )
    plain = wire(6, tension={"rope": 1e3}).changed({"state": None})
    with pytest.raises(MechanismError, match="cables without tension: rope"):
        plain.modes(2)
    with pytest.raises(DescriptionError, match="a section or an area"):
        hk.Assembly().material("s", **STEEL).point("a", [0, 0, 0]).point("b", [1, 0, 0]).part(
            "c", cable={"through": ["a", "b"]}, material="s"
        ).support("f", at="a", hold="all").check()


# -- feet ----------------------------------------------------------------------------------------------------

FEET = [(0.4, 0.3), (0.4, -0.3), (-0.4, 0.3), (-0.4, -0.3)]


def block(push: float, *, friction: float = 0.3, moment: float = 0.0, sprung: bool = True, across: float = 0.0):
    """A rigid block of 300 kg on four feet that are rigid across, pushed half a metre up; and its equilibrium."""
    b = hk.Assembly("block").point("com", [0, 0, 0.5]).mass("block", at="com", mass=300.0, inertia=[20, 20, 20])
    for k, (x, y) in enumerate(FEET, 1):
        b.point(f"foot {k}", [x, y, 0])
        if sprung:
            b.point(f"pad {k}", [x, y, 0], apart=True)
            b.joint(f"j{k}", between=[f"foot {k}", f"pad {k}"], stiffness={"z": 1e7})
        b.support(f"pad {k}", at=f"{'pad' if sprung else 'foot'} {k}", pushes="z", friction=friction)
    b.link("body", rigid="com", to=[f"foot {k}" for k in range(1, 5)]).load("weight", gravity="-z")
    b.load("push", at="com", force=[push, across, 0], moment=[0, moment, 0])
    return b.add_state("s", loads=["weight", "push"], stress_stiffness=False).about("s")


W = 300.0 * G


@pytest.mark.parametrize("sprung", [True, False])
@pytest.mark.parametrize("friction", [0.2, 0.3, 0.55])
def test_a_block_on_rigid_feet_slides_when_all_of_it_does(sprung, friction):
    """Equilibrium up to μ W, whatever foot slips first; every condition of contact and friction, by hand."""
    first = friction * W / 4 / (0.25 + friction * 0.3125)  # the feet behind, which carry least
    pushes = [0.0, 0.5 * first, 0.99 * friction * W, friction * W * (1 - 1e-9)]
    pushes += [first * (1 + e) for e in (-1e-9, 1e-12, 1e-9, 1e-8, 1e-7, 1e-6, 1e-5, 1e-3)]
    for push in pushes:
        rest = block(push, friction=friction, sprung=sprung).state()
        found = rest.result.equilibrium
        N, T = np.array([f.force for f in found.feet]), np.array([f.across for f in found.feet])
        np.testing.assert_allclose(N, W / 4 + np.array([1, 1, -1, -1]) * push * 0.3125, rtol=1e-7)
        np.testing.assert_allclose(T.sum(axis=0), [-push, 0, 0], atol=1e-7 * W)
        assert (np.linalg.norm(T, axis=1) <= friction * N * (1 + 1e-9) + 1e-9 * W).all()
        assert found.violation < 1e-9
        if 0.0 < push < 0.9 * first:  # nothing slides: of all ways to share, that of least squares
            np.testing.assert_allclose(T[:, 0], -push / 4, rtol=1e-6)
        if push == pytest.approx(first * 1.001, rel=1e-9):
            np.testing.assert_allclose(T[2:, 0], -friction * N[2:], rtol=1e-6)
    assert any("share" in f.text for f in rest.findings)
    with pytest.raises(EquilibriumError, match=r"nothing stops this motion.*translation along x"):
        block(friction * W * (1 + 1e-6), friction=friction, sprung=sprung).state()


def test_the_figures_of_a_pushed_block():
    """650 N on 882.6: 165.3 N under either foot in front, 159.7 N at the limit of those behind."""
    T = sorted(-f.across[0] for f in block(650.0).state().result.equilibrium.feet)
    np.testing.assert_allclose(T, [159.71, 159.71, 165.29, 165.29], atol=0.01)


@pytest.mark.parametrize("sprung", [True, False])
def test_a_block_tips_over_its_edge_and_not_before(sprung):
    for moment in (0.5 * 0.4 * W, 0.999999 * 0.4 * W):
        N = [f.force for f in block(0.0, moment=moment, sprung=sprung).state().result.equilibrium.feet]
        assert sum(N) == pytest.approx(W, rel=1e-9)
        assert 0.8 * (N[0] - N[2]) == pytest.approx(moment, rel=1e-6)
    with pytest.raises(EquilibriumError, match="rotation about y through"):
        block(0.0, moment=1.000001 * 0.4 * W, sprung=sprung).state()


@pytest.mark.parametrize("gaps", [(1e-4, 1e-4), (0.0, 0.0), (0.0, 2e-4), (1e-3, 0.0)])
@pytest.mark.parametrize("friction", [None, 0.0, 0.2])
def test_opposed_supports_at_one_place_are_a_bearing_with_play(gaps, friction):
    """It rests on the lower one under its weight, on the upper one where it is lifted; modes are about that."""
    own = {} if friction is None else {"friction": friction}
    for lift in (0.0, 100.0):
        a = hk.Assembly().material("s", E=2e11, nu=0.3, density=7800.0)
        a.section("t", tube={"width": 0.04, "height": 0.04, "wall": 0.003}).point("a", [0, 0, 0]).point("b", [1, 0, 0])
        a.part("bar", beam={"through": ["a", "b"], "section": "t", "divisions": 4}, material="s")
        a.support("left", at="a", hold=["x", "y", "z", "rx"])
        a.support("below", at="b", hold=["y"], pushes="z", gap=gaps[0], **own)
        a.support("above", at="b", pushes="-z", gap=gaps[1], **own)
        a.load("w", gravity="-z").load("up", at="b", force=[0, 0, lift]).add_state(
            "s", loads=["w", "up"] if lift else "w"
        )
        rest = a.about("s").state()
        below, above = rest.result.equilibrium.feet
        weight = a.check().mass * G / 2
        assert (below.status, above.status) == (("touching", "open") if not lift else ("open", "touching"))
        assert below.force - above.force == pytest.approx(weight - lift, rel=1e-6)
        place = rest.table("points").set_index("point").loc["b", "z_mm"]
        assert place == pytest.approx(1e3 * (gaps[1] if lift else -gaps[0]), abs=1e-4)
        assert rest.result.equilibrium.violation < 1e-8
        assert len(a.about("s").modes(2).frequencies_hz) == 2


# -- where states end ----------------------------------------------------------------------------------------


def test_what_buckles_is_named():
    """A spring pressed along its line, said where it is made; a column by its part and motion."""
    a = hk.Assembly("s").point("a", [0, 0, 0]).point("b", [0, 0, 1]).mass("m", at="b", mass=100, inertia=[1, 1, 1])
    a.support("f", at="a", hold="all").support("turn", at="b", hold=["rx", "ry", "rz"])
    a.spring("leg", between=["a", "b"], stiffness=1e5).spring("sx", between=["ground", "b"], stiffness=5e3, axis="x")
    a.spring("sy", between=["ground", "b"], stiffness=5e3, axis="y").load("w", gravity="-z").add_state("s", loads="w")
    told = [f.text for f in a.about("s").state().findings]
    assert any('"leg" is pressed along its line' in t and "980.7 N/m" in t for t in told)
    soft = a.changed({"springs": {"sx": {"stiffness": 500.0}}})
    with pytest.raises(
        EquilibriumError, match=r'the spring "leg" is pressed.*980.7 N over 1000 mm.*translation along x'
    ):
        soft.about("s").state()
    c = hk.Assembly("c").material("m", **STEEL).section("s", rod={"diameter": 0.01}).point("a", [0, 0, 0])
    c.point("b", [0, 0, 2]).part("column", beam={"through": ["a", "b"], "section": "s", "up": "x"}, material="m")
    c.support("f", at="a", hold="all").load("p", at="b", force=[0, 0, -500.0]).add_state("s", loads="p")
    with pytest.raises(EquilibriumError, match='the load in "column" takes most'):
        c.about("s").state()


def test_turns_beyond_sense_are_refused_and_load_steps_advised_where_they_can():
    c = hk.Assembly("c").material("m", **STEEL).section("s", rod={"diameter": 0.01}).point("a", [0, 0, 0])
    c.point("b", [0, 0, 2]).part("pole", beam={"through": ["a", "b"], "section": "s", "up": "x"}, material="m")
    c.support("f", at="a", hold="all").load("p", at="b", force=[8.0, 0, 0]).add_state("s", loads="p")
    warned = [f.text for f in c.about("s").state().findings if f.level == "warning"]
    assert any("turns up to 9.1° of b" in t and "load steps: 10" in t for t in warned)
    far = c.changed({"loads": {"p": {"force": [100.0, 0, 0]}}})
    with pytest.raises(EquilibriumError, match=r"b would turn by 11[34]°.*load steps"):
        far.about("s").state()
    flat = far.part("flag", plate={"corner": [0, 0, 2], "sides": [[0.1, 0, 0], [0, 0.1, 0]], "divisions": 2,
                                   "thickness": 1e-3}, material="m")  # fmt: skip
    with pytest.raises(EquilibriumError, match="would turn") as error:
        flat.about("s").state()
    assert "load steps" not in str(error.value)
