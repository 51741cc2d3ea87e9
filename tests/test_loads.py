"""Loads at rest and in time, and supports that move by themselves, against statics by hand and dense calculations."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
import pytest
import scipy.linalg
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from scipy.integrate import solve_ivp

import holokine as hk
from conftest import STEEL, chain, chain_matrices, straight_beam
from holokine.errors import DescriptionError, EventError, HolokineError, MechanismError, UnknownNameError
from holokine.solvers import eigen, factor
from holokine.solvers.library import fast_available
from holokine.units import STANDARD_GRAVITY as G

FLAT = {"rectangle": {"width": 0.04, "height": 0.02}}
E, NU, RHO = STEEL["E"], STEEL["nu"], STEEL["density"]
AREA, INERTIA = 0.04 * 0.02, 0.04 * 0.02**3 / 12
SHEAR = 5 / 6 * E / (2 * (1 + NU)) * AREA


def value(answer: hk.Answer, gauge: str, component: str | None = None) -> float:
    readings = answer.result.reduced.readings
    row = next(
        i for i, r in enumerate(readings) if r.gauge == gauge and (component is None or r.component == component)
    )
    return float(answer.result.peaks[row])


def cantilever(**beam) -> hk.Assembly:
    a = straight_beam(1.2, FLAT, STEEL, start="all", divisions=24, **beam)
    a.gauge("tip", displacement="b", axis="z").gauge("wall", reaction="left").gauge("turn", reaction_moment="left")
    return a.gauge("root", beam_moment="beam", end="start").gauge("stress", stress="beam").gauge("a", acceleration="b")


def test_gravity_force_and_moment_on_a_cantilever():
    a = cantilever().load("weight", gravity="-z").load("half", gravity=[0, 0, -1], size="0.5 g")
    a.load("push", at="b", force={"z": "-30 N"}).load("twist", at="b", moment=[0, 12, 0])
    L, w = 1.2, RHO * AREA * G
    own = a.respond({"static": "weight"})
    # bending and shear of a uniform load (Timoshenko), lumped to nodes consistently: exact at the nodes
    assert value(own, "tip") == pytest.approx(-(w * L**4 / (8 * E * INERTIA) + w * L**2 / (2 * SHEAR)), rel=1e-3)
    assert value(own, "wall", "z") == pytest.approx(w * L, rel=1e-8)  # rounding of a fine mesh
    assert abs(value(own, "root", "My")) == pytest.approx(w * L**2 / 2, rel=1e-3)
    assert abs(value(own, "stress")) == pytest.approx(w * L**2 / 2 * 0.01 / INERTIA, rel=1e-3)
    push = a.respond({"static": ["push"]})
    assert value(push, "tip") == pytest.approx(-30 * (L**3 / (3 * E * INERTIA) + L / SHEAR), rel=1e-9)
    assert value(push, "turn", "y") == pytest.approx(-30 * L, rel=1e-9)
    twist = a.respond({"static": ["twist"]})
    assert value(twist, "tip") == pytest.approx(-12 * L**2 / (2 * E * INERTIA), rel=1e-9)
    both = a.respond({"static": {"half": 2.0, "push": -1, "twist": 0.5}})
    by_hand = value(own, "tip") - value(push, "tip") + 0.5 * value(twist, "tip")
    assert value(both, "tip") == pytest.approx(by_hand, rel=1e-12)
    assert "a" not in set(both.table("peaks")["gauge"])  # nothing accelerates at rest
    a.limit("tip", "2 mm").limit("a", "1 g")
    limited = a.respond({"static": "push"})
    assert list(limited.table("limits")["gauge"]) == ["tip"]
    assert limited.ok == (abs(value(push, "tip")) <= 2e-3)
    table = a.respond({"static": {"push": -1}}).deformed.table("members")
    assert table["Vz_n"].iloc[-1] == pytest.approx(30.0, rel=1e-2)
    assert both.deformed.table("points").set_index("point")["z_mm"]["b"] == pytest.approx(1e3 * by_hand, rel=1e-12)


def test_moved_supports_and_what_they_take():
    a = straight_beam(0.9, FLAT, STEEL, start="all", end="all", divisions=12)
    a.gauge("left", reaction="left").gauge("turn", reaction_moment="left").gauge("middle", stress="beam")
    a.load("sunk", supports="right", move={"z": "-3 mm"}).load("tilt", supports=["right"], move={"ry": "0.2 deg"})
    L, phi = 0.9, 12 * E * INERTIA / (SHEAR * 0.9**2)
    sunk = a.respond({"static": "sunk"})
    force = 12 * E * INERTIA * 3e-3 / (L**3 * (1 + phi))
    assert value(sunk, "left", "z") == pytest.approx(force, rel=1e-9)
    assert abs(value(sunk, "turn", "y")) == pytest.approx(force * L / 2, rel=1e-9)
    tilt = a.respond({"static": "tilt"})
    far = (2 - phi) / (1 + phi) * E * INERTIA / L * np.deg2rad(0.2)
    assert abs(value(tilt, "turn", "y")) == pytest.approx(far, rel=1e-9)
    # moved all together, nothing is strained
    a.load("lift", supports=["left", "right"], move={"z": "5 mm", "x": "1 mm"}).gauge("up", displacement="a", axis="z")
    lift = a.respond({"static": "lift"})
    assert value(lift, "up") == pytest.approx(5e-3, rel=1e-12)
    assert abs(value(lift, "left", "z")) < 1e-9 * 12 * E * INERTIA / L**3 * 5e-3


def test_pressure_on_shells_and_solids():
    a = hk.Assembly("plates").material("m", **STEEL)
    sheet = {"corner": [0, 0, 0], "sides": [[0.6, 0, 0], [0.1, 0.4, 0]], "divisions": [6, 5], "thickness": 2e-3}
    a.part("sheet", plate=sheet, material="m")
    a.part("block", box={"corner": [2, 0, 0], "sides": [[0.3, 0, 0], [0, 0.2, 0], [0, 0, 0.1]], "divisions": [3, 2, 2]},
           material="m")  # fmt: skip
    a.support("rim", at={"part": "sheet"}, hold=["x", "y", "z"]).support(
        "foot", at={"part": "block"}, hold=["x", "y", "z"]
    )
    a.gauge("rim", reaction="rim").gauge("foot", reaction="foot").gauge("about", reaction_moment="rim")
    a.load("wind", pressure="1.5 kPa", on={"part": "sheet"}, towards="z").load(
        "deep", pressure=2e5, on={"part": "block"}
    )
    top = {"part": "block", "plane": {"at": [0, 0, 0.1], "normal": "z"}}
    a.load("top", pressure="2 bar", on=top).load("side", pressure=2e5, on={"part": "block"}, towards="x")
    # every node is held: what supports answer is what acts
    from holokine.system.loads import load_field

    area = {n: load_field(a.system, n, load).force.reshape(-1, 6)[:, :3] for n, load in a.description.loads.items()}
    assert area["wind"].sum(axis=0) == pytest.approx([0, 0, 1500 * 0.24], abs=1e-9)
    first_moment = (a.system.mesh.nodes * area["wind"][:, [2]]).sum(axis=0) / (1500 * 0.24)
    assert first_moment[:2] == pytest.approx([0.35, 0.2], rel=1e-12)  # centre of the parallelogram
    assert area["deep"].sum(axis=0) == pytest.approx([0, 0, 0], abs=1e-8)  # from all sides
    assert area["top"].sum(axis=0) == pytest.approx([0, 0, -2e5 * 0.06], abs=1e-8)
    assert area["side"].sum(axis=0) == pytest.approx([2e5 * 0.02, 0, 0], abs=1e-8)


def test_loads_in_time_step_slow_ramp_and_release():
    a = chain([3.0], [4e4], damping=0.0)
    a.gauge("u", displacement="p1", axis="x").gauge("k", force="k1").gauge("acc", acceleration="p1", axis="x")
    a.load("push", at="p1", force=[50, 0, 0])
    a.event("pulled", static="push")
    modes = a.modes()
    period, still = 2 * np.pi * np.sqrt(3.0 / 4e4), 50 / 4e4
    sudden = modes.respond({"loads": {"push": {"step": {}}}, "ring down": 1.0})
    assert value(sudden, "u") == pytest.approx(2 * still, rel=1e-9)
    assert sudden.table("peaks").set_index("gauge")["ratio_to_static"]["k"] == pytest.approx(2.0, rel=1e-9)
    slow = modes.respond({"loads": {"push": {"ramp": {"rise": 40 * period}}}, "ring down": 1.0})
    assert value(slow, "u") == pytest.approx(still, rel=0.5 / (np.pi * 40) * 2 + 1e-9)
    rise = modes.respond({"loads": {"push": {"ramp": {"rise": 1.5 * period}}}, "ring down": 1.0})
    # linear rise over 1.5 periods: 1 + |sin(π 1.5)| / (π 1.5)
    assert value(rise, "u") == pytest.approx(still * (1 + 1 / (1.5 * np.pi)), rel=1e-9)
    let = modes.respond({"loads": {"push": {"step": {}, "scale": 0}}, "let go": "pulled", "ring down": 1.0})
    u = let.table("history", "u")
    t = u["time_s"].to_numpy()
    free = np.where(t < 0, still, still * np.cos(2 * np.pi * t / period))
    assert np.abs(1e-3 * u.iloc[:, -1] - free).max() < 1e-9 * still * 100
    assert value(let, "acc") == pytest.approx(-50 / 3.0, rel=1e-6)
    stays = modes.respond(
        {"loads": {"push": {"half sine": {"duration": period}}}, "start from": "pulled", "ring down": 1}
    )
    alone = modes.respond({"loads": {"push": {"half sine": {"duration": period}}}, "ring down": 1})
    assert value(stays, "u") == pytest.approx(still + value(alone, "u"), rel=1e-9)


def test_reactions_equal_inertia_and_loads_at_every_instant(crate):
    a = crate.changed({
        "loads": {"shove": {"at": "transformer", "force": ["300 N", "0 N", "-800 N"]}, "weight": {"gravity": "-z"}},
        "events": {"rest": {"static": "weight"}, "shoved": {
            "loads": {"shove": {"triangle": {"duration": "12 ms"}}}, "pulse": {"z": {"half sine": {"peak": "2 g",
            "duration": "8 ms"}}}, "start from": "rest", "ring down": "0.2 s"}},
        "gauges": {f"m{i}": {"reaction": f"mount {i}"} for i in (1, 2, 3, 4)},
    })  # fmt: skip
    modes = a.modes(upto=120)
    answer = modes.respond("shoved")
    result, system = answer.result, modes.set.system
    taken = sum(result.history(i) for i, r in enumerate(result.reduced.readings) if r.gauge in ("m1", "m2", "m3", "m4")
                and r.component == "z")  # fmt: skip
    path = result.reader.path
    _, _, acceleration = result.reader.oscillators.motion(path.state, path.load)
    R = system.rigid_motions(np.zeros(3))[2]
    inertia = acceleration @ (answer.modes.set.shapes @ (system.mass @ R)) + path.load[:, 2] * float(
        R @ system.mass @ R
    )
    # what the kept modes leave out accelerates with the base in z (missing mass): add it as the answer does
    left = float(R @ system.mass @ R) - (result.reduced.participation[:, 2] ** 2).sum()
    weight = a.check().report.totals.mass * G
    applied = -800 * path.load[:, result.reduced.column("shove")] - weight * path.load[:, -1]
    supported = inertia - applied
    # rows of the base pulse: the left-out mass is carried statically, and so is the left-out share of the loads
    scale = np.abs(taken).max()
    assert left >= -1e-9
    assert np.abs(taken - supported).max() < 1e-9 * scale


def two_ends() -> tuple[hk.Assembly, np.ndarray, np.ndarray, np.ndarray]:
    """Three masses between two supports, and the same by hand: K, M and the coupling of supports."""
    m, k = [2.0, 1.2, 0.7], [3e4, 5e4, 2e4, 4e4]
    a = hk.Assembly("between").damping(0.03)
    for i, x in enumerate([0.0, 0.1, 0.2, 0.3, 0.4]):
        a.point(f"p{i}", [x, 0, 0])
    for i in range(4):
        a.spring(f"k{i}", between=[f"p{i}", f"p{i + 1}"], stiffness=k[i], axis="x")
    for i in (1, 2, 3):
        a.mass(f"m{i}", at=f"p{i}", mass=m[i - 1], inertia=[1, 1, 1])
        a.support(f"guide {i}", at=f"p{i}", hold=["y", "z", "rx", "ry", "rz"])
    a.support("left", at="p0", hold="all").support("right", at="p4", hold="all")
    K = np.diag([k[0] + k[1], k[1] + k[2], k[2] + k[3]]) - np.diag([k[1], k[2]], 1) - np.diag([k[1], k[2]], -1)
    coupling = np.array([[-k[0], 0], [0, 0], [0, -k[3]]])
    return a, K, np.diag(m), coupling


@pytest.mark.parametrize("rule", ["absolute", "srss", "algebraic"])
def test_independent_support_motion_against_a_dense_calculation(rule):
    a, K, M, coupling = two_ends()
    a.gauge("u", displacement="p2", axis="x").gauge("f", force="k1").gauge("acc", acceleration="p3", axis="x")
    a.gauge("left", reaction="left")
    left = {"frequency": [1, 100], "acceleration": [3.0, 9.0]}
    right = {"frequency": [1, 100], "acceleration": [8.0, 5.0]}
    event = {
        "support spectra": {
            "one": {"supports": "left", "spectrum": {"x": left}, "displacement": ["2 mm", "0 mm", "0 mm"]},
            "two": {"supports": ["right"], "spectrum": {"x": right}},
        },
        "over supports": rule, "combine": "srss", "missing mass": False,
    }  # fmt: skip
    answer = a.modes().respond(event)
    values, X = scipy.linalg.eigh(K, M)
    omega = np.sqrt(values)
    influence = -np.linalg.solve(K, coupling)  # (masses, groups): at rest under unit motions
    assert influence.sum(axis=1) == pytest.approx(np.ones(3))
    gamma = X.T @ M @ influence
    f = omega / 2 / np.pi
    S = np.column_stack(
        [np.exp(np.interp(np.log(f), np.log([1, 100]), np.log(t["acceleration"]))) for t in (left, right)]
    )
    q = gamma * S / values[:, None]  # (modes, groups)
    reads = {
        "u": (X[1], influence[1]), "f": (5e4 * (X[1] - X[0]), 5e4 * (influence[1] - influence[0])),
        "left": (3e4 * X[0], 3e4 * (influence[0] - np.array([1.0, 0.0]))),
    }  # fmt: skip
    for gauge, (shape, rest) in reads.items():
        modal = shape[:, None] * q
        if rule == "algebraic":
            dynamic = np.sqrt((modal.sum(axis=1) ** 2).sum())
        else:
            each = np.sqrt((modal**2).sum(axis=0))
            dynamic = each.sum() if rule == "absolute" else np.sqrt((each**2).sum())
        still = abs(rest[0]) * 2e-3
        assert value(answer, gauge, "x" if gauge == "left" else None) == pytest.approx(dynamic + still, rel=1e-9), gauge
    by_srss = a.modes().respond({**event, "over displacement": "srss"})
    assert value(by_srss, "u") == pytest.approx(np.hypot(value(answer, "u") - abs(influence[1, 0]) * 2e-3,
                                                         abs(influence[1, 0]) * 2e-3), rel=1e-9)  # fmt: skip


def test_supports_that_move_alike_are_the_base_and_missing_mass_completes_them():
    a, _, M, _ = two_ends()
    a.gauge("f", force="k1").gauge("acc", acceleration="p3", axis="x").gauge("left", reaction="left", axis="x")
    table = {"frequency": [1, 100], "acceleration": [3.0, 9.0]}
    groups = {n: {"supports": n, "spectrum": {"x": table}} for n in ("left", "right")}
    for count in (1, 3):
        modes = a.modes(count)
        alike = modes.respond({"support spectra": groups, "over supports": "algebraic"})
        base = modes.respond({"spectrum": {"x": table}})
        assert alike.result.peaks == pytest.approx(base.result.peaks, rel=1e-9)
        assert alike.result.reduced.free_mass.sum() <= np.trace(M) + 1e-9
    texts = " ".join(f.text for f in modes.respond({"support spectra": {"one": groups["left"]}}).findings)
    assert "stay where they are: guide 1" in texts
    assert "right" in texts


@pytest.mark.parametrize("rule", ["absolute", "srss"])
def test_fields_of_groups_that_stand_apart_agree_with_gauges(crate, rule):
    """Whole displacement and stress, with what the supports strain by standing apart, against the gauges' own way."""
    a = crate.changed({"gauges": {"fan moves": {"displacement": "fan"}}})
    table = {"file": str(hk.demo_folder() / "works.csv")}
    lone = {"supports": "mount 1", "spectrum": {"z": table, "x": table}, "displacement": {"z": 3, "x": 1}}
    rest = {"supports": ["mount 2", "mount 3", "mount 4"], "spectrum": {"z": table}}
    answer = a.modes(upto=80).respond({"support spectra": {"lone": lone, "rest": rest}, "over displacement": rule})
    assert answer.result.settled.max() > 0
    field = answer._largest.reshape(-1, 6)[a.system.mesh.points["fan"]]
    own = answer.table("peaks").set_index(["gauge", "component"])["peak"]
    np.testing.assert_allclose(1e3 * field[:3], [own["fan moves", d] for d in "xyz"], rtol=1e-9)
    still = a.respond({"static": "sunken mount"}).table("stress").set_index("part")
    assert still.loc["deck", "stress_mpa"] > 1  # so that it counts below
    worst = answer.table("stress").set_index("part")
    for part, gauge in (("deck", "deck stress"), ("heat sink", "heat sink stress")):
        assert worst.loc[part, "stress_mpa"] == pytest.approx(own[gauge].iloc[0], rel=1e-9)


def test_groups_of_supports_that_cannot_be(crate_modes):
    table = {"frequency": [1, 500], "acceleration": ["1 g", "1 g"]}

    def refused(words, groups, **keys):
        with pytest.raises(HolokineError, match=words):
            crate_modes.respond({"support spectra": groups, **keys})

    one = {"supports": "mount 1", "spectrum": {"z": table}}
    refused("needs a spectrum along x too", {"a": {**one, "displacement": {"x": 1}}})
    refused('"mount 1" is named twice', {"a": one, "b": one})
    refused('there is no support "mount 9"', {"a": {**one, "supports": "mount 9"}})
    refused('"mount 4" does not hold x', {"a": {"supports": "mount 4", "spectrum": {"x": table}}})
    refused("needs supports and spectrum", {"a": {"supports": [], "spectrum": {"z": table}}})
    refused("acts in no direction", {})
    refused("exactly one of", {"a": one}, spectrum={"z": table})
    refused("three values|directions of a length", {"a": {**one, "displacement": [1, 2]}})


def test_release_of_a_moving_chain_against_integration():
    """Two loads with their own signals and a base motion at once, from rest under a third load that is let go."""
    m, k = [2.0, 1.0], [3e4, 2e4]
    a = chain(m, k, damping=0.05)
    a.load("one", at="p1", force=[20, 0, 0]).load("two", at="p2", force=[-35, 0, 0]).load(
        "pull", at="p2", force=[90, 0, 0]
    )
    a.event("pulled", static={"pull": 1.5}).gauge("u", displacement="p2", axis="x").gauge("f", force="k1")
    a.event("all", pulse={"x": {"versed sine": {"peak": 6.0, "duration": 0.05}}},
            loads={"one": {"chirp": {"range": ["2 Hz", "40 Hz"], "duration": 0.3, "sweep": "linear"}},
                   "two": {"trapezoid": {"duration": 0.2, "rise": 0.05, "fall": 0.1, "start": 0.02}, "scale": 2}},
            let_go="pulled", ring_down=0.5)  # fmt: skip
    answer = a.modes().respond("all")
    K, M = chain_matrices(m, k)
    values, X = scipy.linalg.eigh(K, M)
    C = M @ X @ np.diag(2 * 0.05 * np.sqrt(values)) @ X.T @ M

    def force(t: float) -> np.ndarray:
        base = 3.0 * (1 - np.cos(2 * np.pi * t / 0.05)) if t < 0.05 else 0.0
        one = 20 * np.sin(2 * np.pi * (2 * t + 38 / 0.3 * t**2 / 2)) if t < 0.3 else 0.0
        two = -70 * np.interp(t, [0.02, 0.07, 0.12, 0.22], [0, 1, 1, 0])
        return np.array([one, two]) - M @ np.ones(2) * base

    start = np.linalg.solve(K, [0, 135.0])
    edges = [0, 0.02, 0.05, 0.07, 0.12, 0.22, 0.3, 0.8]
    y, times, rows = np.concatenate([start, np.zeros(2)]), [], []

    def slope(t: float, y: np.ndarray, end: float) -> np.ndarray:
        push = force(min(t, end - 1e-12))  # a jump belongs to the stretch after it
        return np.concatenate([y[2:], np.linalg.solve(M, push - C @ y[2:] - K @ y[:2])])

    for lo, hi in pairwise(edges):
        looks = np.linspace(lo, hi, 4001)
        run = solve_ivp(slope, (lo, hi), y, "DOP853", rtol=1e-11, atol=1e-14, t_eval=looks, args=(hi,))
        times.append(run.t)
        rows.append(run.y)
        y = run.y[:, -1]
    u, f = np.concatenate([r[1] for r in rows]), np.concatenate([3e4 * r[0] for r in rows])
    assert value(answer, "u") == pytest.approx(u[np.abs(u).argmax()], rel=2e-6)
    assert abs(value(answer, "f")) == pytest.approx(np.abs(f).max(), rel=2e-6)


def test_loads_that_cannot_be(crate):
    def made(**keys):
        return cantilever().load("l", **keys)

    for keys, kind, words in (
        ({"gravity": "up"}, DescriptionError, "axis x, y, z"),
        ({"force": [1, 0, 0]}, DescriptionError, "needs at"),
        ({"at": "b", "force": [1, 0]}, DescriptionError, "three values"),
        ({"at": "b", "force": ["1 mm", 0, 0]}, HolokineError, "force"),
        ({"gravity": "z", "pressure": 1.0}, DescriptionError, "exactly one"),
        ({"pressure": 5.0}, DescriptionError, "needs on"),
        ({"supports": "left", "move": {"w": 1}}, HolokineError, "directions are x y z rx ry rz"),
        ({"supports": "left", "move": {"z": "1 kg"}}, HolokineError, "length"),
        ({"gravity": "z", "supports": "left"}, DescriptionError, "does not belong"),
    ):
        with pytest.raises(kind, match=words):
            made(**keys)
    held = cantilever().load("l", supports="left", move={"z": 1e-3}).load("p", pressure=1.0, on={"part": "beam"})
    with pytest.raises(HolokineError, match="no face lies in the selection"):
        held.respond({"static": "p"})
    found = held.check().findings
    assert [f.level for f in found if "no face lies in the selection" in f.text] == ["error"]
    with pytest.raises(EventError, match="moves supports, which works at rest only"):
        held.modes(2).respond({"loads": {"l": {"step": {}}}})
    with pytest.raises(UnknownNameError, match='there is no load "q"'):
        held.respond({"static": "q"})
    loose = chain([1.0], [1e3]).load("l", at="p1", moment=[0, 0, 1]).gauge("u", displacement="p1")
    loose.load("v", supports="guide 1", move={"x": 1e-3})
    with pytest.raises(DescriptionError, match="does not hold x"):
        loose.respond({"static": "v"})
    free = hk.Assembly("free").material("m", **STEEL).section("s", **FLAT).point("a", [0, 0, 0]).point("b", [1, 0, 0])
    free.part("bar", beam={"through": ["a", "b"], "section": "s"}, material="m").gauge("u", displacement="b")
    free.load("l", gravity="-z")
    with pytest.raises(MechanismError, match="every rigid-body motion held"):
        free.respond({"static": "l"})
    plate = hk.Assembly("p").material("m", **STEEL)
    sheet = {"corner": [0, 0, 0], "sides": [[1, 0, 0], [0, 1, 0]], "divisions": [2, 2], "thickness": 0.01}
    plate.part("s", plate=sheet, material="m").support("rim", at={"part": "s"}, hold="all")
    plate.gauge("r", reaction="rim")
    with pytest.raises(DescriptionError, match="two sides"):
        plate.load("l", pressure=1.0, on={"part": "s"}).respond({"static": "l"})


# -- what must hold for any load -----------------------------------------------------------------------

vectors = st.tuples(*[st.floats(-900.0, 900.0)] * 3).filter(lambda v: np.linalg.norm(v) > 1.0)


@settings(max_examples=12, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(vectors, vectors, st.sampled_from([("fan", "transformer"), ("top 1", "bed a2"), ("hanger b1", "left a")]))
def test_what_a_push_here_does_there_a_push_there_does_here(crate, here, there, points):
    """Maxwell and Betti, through bushings, rigid links, averaging joints, shells and solids."""
    from holokine.describe.loads import Load
    from holokine.respond.reduced import solve_static
    from holokine.system.loads import load_field

    system = crate.system
    pushes = [Load.model_validate({"at": p, "force": f}) for p, f in zip(points, (here, there), strict=True)]
    one, two = solve_static(system, [load_field(system, p, load) for p, load in zip(points, pushes, strict=True)])
    work_there = float(one[6 * system.mesh.points[points[1]] + np.arange(3)] @ there)
    work_here = float(two[6 * system.mesh.points[points[0]] + np.arange(3)] @ here)
    size = max(abs(work_there), abs(work_here), 1e-9)
    assert work_there == pytest.approx(work_here, rel=1e-6, abs=1e-9 * size)


@settings(max_examples=20, deadline=None)
@given(st.floats(0.1, 4.0), st.floats(-3.0, 3.0).filter(lambda k: abs(k) > 0.05), st.integers(0, 3))
def test_answers_in_time_add_up_scale_and_move(scale, other, ms):
    """Two loads at once are the sum of each; scaled loads scale; delayed ones answer later."""
    a = chain([2.0, 1.0, 0.6], [3e4, 2e4, 2e4], 0.03).gauge("u", displacement="p3", axis="x").gauge("k", force="k1")
    a.load("one", at="p1", force=[10, 0, 0]).load("two", at="p3", force=[4, 0, 0])
    modes = a.modes()
    shape, table = {"half sine": {"duration": 0.02}}, {"table": {"time": [0, 0.01, 0.03], "factor": [0, 1, 0]}}
    first = modes.respond({"loads": {"one": shape}, "ring down": 0.2, "step": 1e-3})
    second = modes.respond({"loads": {"two": table}, "ring down": 0.19, "step": 1e-3})
    both = modes.respond({"loads": {"one": {**shape, "scale": scale, "delay": f"{ms} ms"},
                                    "two": {**table, "scale": other, "delay": f"{ms} ms"}},
                          "ring down": 0.19, "step": 1e-3})  # fmt: skip
    t = np.linspace(0.0, 0.15, 400)

    def at(answer, number, times):
        return np.interp(times, answer.result.time, answer.result.history(number))

    for number in range(2):
        sum_of_each = scale * at(first, number, t) + other * at(second, number, t)
        whole = at(both, number, t + 1e-3 * ms)
        assert np.abs(whole - sum_of_each).max() < 2e-3 * np.abs(sum_of_each).max() + 1e-12  # straight between rows


def test_bare_numbers_take_the_declared_units_and_gravity_follows_the_axes():
    def bracket(units, **numbers):
        a = hk.Assembly("b", units=units).material("m", E="206 GPa", nu=0.29, density="7830 kg/m^3")
        a.section("s", rectangle={"width": "40 mm", "height": "20 mm"}).point("a", [0, 0, 0])
        a.point("b", ["0.7 m", 0, "0.2 m"]).support("wall", at="a", hold="all").gauge("u", displacement="b")
        a.part("arm", beam={"through": ["a", "b"], "section": "s", "divisions": 8}, material="m")
        a.gauge("m", reaction_moment="wall").load("push", at="b", force=numbers["force"], moment=numbers["moment"])
        return a.load("all", gravity=numbers.get("gravity", "-z"))

    si = bracket({}, force=[10, 20, -30], moment=[1, 2, 3])
    mm = bracket({"length": "mm", "force": "kN"}, force=[0.01, 0.02, -0.03], moment=[1, 2, 3])  # kN and kN mm
    for load in ("push", "all"):
        one, other = (a.respond({"static": load}).result.peaks for a in (si, mm))
        assert one == pytest.approx(other, rel=1e-9)
    # weight along a slanted direction is the sum of its parts along the axes
    slanted = bracket({}, force=[0, 0, 1], moment=[0, 0, 0], gravity=[3, 0, -4]).respond({"static": "all"}).result.peaks
    along = [bracket({}, force=[0, 0, 1], moment=[0, 0, 0], gravity=g).respond({"static": "all"}).result.peaks
             for g in ("x", "-z")]  # fmt: skip
    single = [i for i, r in enumerate(si.gauges.readings) if r.how == "single"]
    assert slanted[single] == pytest.approx((0.6 * along[0] + 0.8 * along[1])[single], rel=1e-9, abs=1e-12)


def test_groups_of_supports_turn_with_the_axes_and_shrink_with_the_rule(crate_modes):
    """Absolute is never below SRSS over groups; one group that is all of them is the base, whatever the rule."""
    names = list(crate_modes.assembly.description.supports)
    table = {"file": str(hk.demo_folder() / "works.csv")}
    halves = {"front": names[1::2], "rear": names[0::2]}

    def answer(groups, **keys):
        spectra = {n: {"supports": s, "spectrum": {"z": table}} for n, s in groups.items()}
        return crate_modes.respond({"support spectra": spectra, **keys}).result.peaks

    absolute, srss = answer(halves), answer(halves, **{"over supports": "srss"})
    assert (absolute >= srss * (1 - 1e-12)).all()
    assert (absolute <= np.sqrt(2) * srss * (1 + 1e-9)).all()
    base = crate_modes.respond({"spectrum": {"z": table}}).result.peaks
    for rule in ("absolute", "srss", "algebraic"):
        whole = answer({"all": names}, **{"over supports": rule})
        floor = 1e-7 * np.abs(base).max()
        np.testing.assert_allclose(whole, base, rtol=1e-6, atol=floor)


def test_beyond_buckling_nothing_is_at_rest():
    """A strut pressed beyond Euler's load: an error that says so, not a deflection of the wrong sign."""
    strut = straight_beam(1.0, {"rod": {"diameter": 0.02}}, STEEL, start="all", preload=-30e3)
    strut.load("push", at="b", force=[0, 0, 1]).event("rest", static="push").gauge("tip", displacement="b")
    with pytest.raises(hk.HolokineError, match="beyond buckling"):
        strut.respond("rest")
    held = straight_beam(1.0, {"rod": {"diameter": 0.02}}, STEEL, start="all", preload=-3e3, theory="euler")
    held.load("push", at="b", force=[0, 0, 1]).event("rest", static="push").gauge("tip", displacement="b", axis="z")
    moved = held.respond("rest").result.peaks[0]
    w = np.sqrt(3e3 / (206e9 * np.pi * 0.01**4 / 4))
    assert moved == pytest.approx((np.tan(w) / w - 1) / 3e3, rel=1e-4)  # beam-column by hand


@pytest.mark.parametrize("method", ["superlu", *(["ldl"] if fast_available() else [])])
@pytest.mark.parametrize(
    ("shape", "held", "count"), [("box", True, 2), ("box", False, 3), ("plate", True, 3), ("beam", True, 2)]
)
def test_two_factorisations_do_for_a_whole_chain(monkeypatch, method, shape, held, count):
    """Check, modes with their proof, every kind of answer: the stiffness at rest once, the proof once.

    With rigid-body modes a third: the search for mechanisms and the shift below them are not at rest. With shells
    one of the mass matrix, which is too badly conditioned for conjugate gradients. Of a frame, whose factor is thin,
    the one at rest is by SuperLU.
    """
    monkeypatch.setattr(factor, "_chosen", lambda asked, size: method if asked == "auto" else asked)
    monkeypatch.setattr(eigen, "DENSE_SIZE", 10)
    made = []
    for owner, name in ((factor._PardisoFactor, "renew"), (factor._SuperLUFactor, "__init__")):
        real = getattr(owner, name)

        def counted(*values, real=real, name=name, **keys):
            made.append(name)
            return real(*values, **keys)

        monkeypatch.setattr(owner, name, counted)
    a = hk.Assembly().material("m", **STEEL).damping(0.02)
    if shape == "beam":
        monkeypatch.setattr(factor, "LARGE", 10)
        form = {"through": ["a", "b"], "section": "bar", "up": "z", "divisions": 60}
        a.section("bar", rectangle={"width": 0.02, "height": 0.03}).point("a", [0, 0, 0]).point("b", [1, 0, 0])
    elif shape == "plate":
        form = {"corner": [0, 0, 0], "sides": [[1, 0, 0], [0, 0.6, 0]], "divisions": [20, 12], "thickness": 0.01}
    else:
        form = {"corner": [0, 0, 0], "sides": np.diag([1, 0.6, 0.1]).tolist(), "divisions": [10, 6, 2]}
    a.part("p", material="m", **{shape: form}).gauge("stress", stress="p")
    if held:
        a.support("root", at={"part": "p", "plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
        a.load("push", at={"part": "p", "nearest": [1, 0, 0]}, force=[0, 0, 9]).event("rest", static="push")
        pulse = {"z": {"half sine": {"peak": 9, "duration": 0.01}}}
        a.event("hit", pulse=pulse, loads={"push": {"step": {}}}, ring_down=0.1)
        a.event("shock", spectrum={"z": {"frequency": [1, 1e4], "acceleration": [9, 9]}}, outside="hold")
    assert a.check().ok
    modes = a.modes(count=9)
    assert modes.set.exists == 9 or modes.set.exists is None
    if held:
        for event in ("rest", "hit", "shock"):
            answer = modes.respond(event)
            assert len(answer.table("peaks"))
            answer.table("stress")
        a.ritz("hit", count=4)
    assert len(made) == count, made
    if shape == "beam" and method == "ldl":
        assert made == ["__init__", "renew"]
    a.modes(count=12)  # other modes of the same system: the proof alone is new, and with rigid-body modes the shift
    assert len(made) == count + (1 if held else 2), made


# -- groups of supports that move by themselves, in time ------------------------------------------------------


def portal() -> hk.Assembly:
    """A beam on two posts of different height, whose feet are two groups."""
    a = hk.Assembly("portal").material("m", **STEEL).section("s", rectangle={"width": 0.04, "height": 0.03})
    for name, at in {"a": [0, 0, 0], "b": [0, 0, 0.8], "c": [1.0, 0, 0.8], "d": [1.0, 0, 0.3]}.items():
        a.point(name, at)
    for name, ends in {"left": "ab", "top": "bc", "right": "cd"}.items():
        a.part(name, beam={"through": list(ends), "section": "s", "up": "y", "divisions": 6}, material="m")
    a.support("foot left", at="a", hold="all").support("foot right", at="d", hold="all").mass("box", at="b", mass=3.0)
    a.gauge("u", displacement="b").gauge("v", velocity="b", motion="absolute").gauge("acc", acceleration="b")
    a.gauge("rel", displacement="b", relative_to="c", axis="x").gauge("arel", acceleration="b", motion="relative")
    a.gauge("pull", reaction="foot left").gauge("root", beam_moment="left", end="start").gauge("s", stress="top")
    return a.damping(0.03)


HIT = {"half sine": {"peak": 12.0, "duration": 0.03}}


def histories(answer: hk.Answer) -> dict[str, np.ndarray]:
    result = answer.result
    return {r.label: result.history(n) for n, r in enumerate(result.reduced.readings)}


@pytest.mark.parametrize("correction", [True, False])
def test_groups_that_move_alike_are_the_whole_base_in_time(correction):
    """Both feet by one signal: forces, stress and absolute accelerations of the base pulse; motion adds the base's."""
    modes = portal().modes(count=8)
    keys = {"static correction": correction, "ring down": 0.3}
    whole = modes.respond({"pulse": {"x": HIT}, **keys})
    both = modes.respond({"support pulses": {"feet": {"supports": ["foot left", "foot right"], "pulse": {"x": HIT}}},
                          **keys})  # fmt: skip
    each = modes.respond({"support pulses": {
        "l": {"supports": ["foot left"], "pulse": {"x": HIT}}, "r": {"supports": ["foot right"], "pulse": {"x": HIT}},
    }, **keys})  # fmt: skip
    displacement = whole.result.pulse.base_motion(whole.result.time, whole.result.base)[1][:, 0]
    reference = histories(whole)
    reference["u x"] = reference["u x"] + displacement
    reference["arel x"] = reference["arel x"] + whole.result.base[:, 0]
    for answer in (both, each):
        for label, history in histories(answer).items():
            if "magnitude" in label or "stress" in label:
                continue
            size = np.abs(reference[label]).max()
            np.testing.assert_allclose(history, reference[label], atol=1e-8 * size + 1e-12, err_msg=label)
        assert answer.result.peaks[-1] == pytest.approx(whole.result.peaks[-1], rel=1e-8)
        assert answer.table("peaks").set_index(["gauge", "component"]).loc[("pull", "x"), "peak"] == pytest.approx(
            whole.table("peaks").set_index(["gauge", "component"]).loc[("pull", "x"), "peak"], rel=1e-8)  # fmt: skip
    assert "groups of supports move: l x, r x" in each.lines[0]


@pytest.mark.parametrize("dashpot", [0.0, 12.0])
def test_groups_of_supports_in_time_against_integration(dashpot):
    """Two masses between two moved points: M u'' + C u' + K u by DOP853 with both motions, modal damping."""
    a = hk.Assembly().damping(0.04)
    for k, x in enumerate((0.0, 0.1, 0.2, 0.3)):
        a.point(f"p{k}", [x, 0, 0])
    a.mass("m1", at="p1", mass=2.0).mass("m2", at="p2", mass=1.0)
    for k, stiffness in enumerate((3e3, 2e3, 5e3)):
        a.spring(f"k{k}", between=[f"p{k}", f"p{k + 1}"], stiffness=stiffness, damping=dashpot if k == 0 else 0.0)
    a.support("g1", at=["p1", "p2"], hold=["y", "z"]).support("west", at="p0", hold="all")
    a.support("east", at="p3", hold="all")
    for n in (1, 2):
        a.gauge(f"u{n}", displacement=f"p{n}", axis="x").gauge(f"a{n}", acceleration=f"p{n}", axis="x")
    a.gauge("f", force="k0").gauge("c", damper_force="k0").gauge("r", reaction="west", axis="x")
    event = {"support pulses": {
        "west": {"supports": ["west"], "pulse": {"x": {"half sine": {"peak": 30.0, "duration": 0.08}}}},
        "east": {"supports": ["east"], "pulse": {"x": {"sine": {"peak": 20.0, "frequency": 8, "cycles": 2,
                                                             "window": "none"}}}},
    }, "ring down": 0.5}  # fmt: skip
    modes = a.modes()
    found = histories(modes.respond(event))
    t = modes.respond(event).result.time
    K, M = np.array([[5e3, -2e3], [-2e3, 7e3]]), np.diag([2.0, 1.0])
    B = np.array([[3e3, 0.0], [0.0, 5e3]])  # pulls of the moved points
    w2, phi = scipy.linalg.eigh(K, M)
    C = M @ phi @ np.diag(2 * 0.04 * np.sqrt(w2)) @ phi.T @ M
    R = np.linalg.solve(K, B)

    def ground(s):
        push = np.array([30 * np.sin(np.pi * s / 0.08) * (s < 0.08), 20 * np.sin(16 * np.pi * s) * (s < 0.25)])
        return push * (s >= 0)

    def slope(s, y):  # relative to what follows at rest; then the grounds' own velocity and place
        x, v, gv = y[:2], y[2:4], y[4:6]
        speed = v + R @ gv  # of the masses in space
        pull = np.array([dashpot * (gv[0] - speed[0]), 0.0])
        return np.concatenate([v, np.linalg.solve(M, pull - C @ v - K @ x) - R @ ground(s), ground(s), gv])

    y, rows = np.zeros(8), []
    edges = [0.0, 0.08, 0.25, float(t[-1])]
    for lo, hi in pairwise(edges):
        inside = t[(t >= lo) & (t <= hi)]
        run = solve_ivp(lambda s, y, hi=hi: slope(min(s, hi - 1e-13), y), (lo, hi), y, "DOP853", rtol=1e-12, atol=1e-15,
                        t_eval=np.unique(np.concatenate([[lo], inside, [hi]])))  # fmt: skip
        rows.append((run.t, run.y))
        y = run.y[:, -1]
    when, every = (np.concatenate([r[k] for r in rows], axis=-1) for k in (0, 1))
    when, first = np.unique(when, return_index=True)
    every = every[:, first]
    own = np.isin(t, when)
    at = np.searchsorted(when, t[own])
    total = every[:2] + R @ every[6:8]
    for n in (1, 2):
        np.testing.assert_allclose(found[f"u{n} x"][own], total[n - 1][at], atol=1e-6 * np.abs(total).max())
    stretch = total[0][at] - every[6][at]
    np.testing.assert_allclose(found["f along"][own], 3e3 * stretch, atol=3e-6 * np.abs(3e3 * stretch).max())
    if dashpot:
        speeds = every[2:4] + R @ every[4:6]
        taken = dashpot * (speeds[0][at] - every[4][at])
        np.testing.assert_allclose(found["c along"][own], taken, atol=1e-5 * np.abs(taken).max())


def test_fields_and_refusals_of_groups_of_supports_in_time(tmp_path):
    a = portal()
    event = {"support pulses": {"left": {"supports": "foot left", "pulse": {"x": HIT, "z": HIT}}}, "ring down": 0.2}
    modes = a.modes(count=8)
    answer = modes.respond(event)
    assert any("stay where they are: foot right" in f.text for f in answer.findings)
    points = answer.table("points").set_index(["point", "axis"])
    peaks = answer.table("peaks").set_index(["gauge", "component"])
    assert points.loc[("b", "x"), "highest_displacement_mm"] == pytest.approx(
        peaks.loc[("u", "x"), "highest"], rel=1e-3
    )
    assert points.loc[("a", "x"), "highest_displacement_mm"] == pytest.approx(
        1e3 * answer.result.pulse.end_displacement[3] + 1e3 * answer.result.pulse.velocity_change[3] * 0.2, rel=1e-6
    )
    shape = answer.deformed(0.02).table("points").set_index("point")
    history = answer.table("history", "u")
    row = int(np.abs(history["time_s"] - 0.02).argmin())
    assert shape.loc["b", "x_mm"] == pytest.approx(history["u x (mm)"].iloc[row], rel=0.05)
    members = answer.table("members")
    root = members[(members["part"] == "left") & (members["element"] == 1) & (members["end"] == "start")].iloc[0]
    assert max(abs(root["highest_Mz_nm"]), abs(root["highest_My_nm"])) > 0
    assert answer.plot().axes[0].get_legend().get_texts()[0].get_text() == "left x"
    assert answer.plot("excitation").axes
    run = modes.save(tmp_path / "p.run")
    np.testing.assert_allclose(hk.open_run(run).respond(event).result.peaks, answer.result.peaks, rtol=1e-9)
    for bad, words in (
        ({**event, "pulse": {"x": HIT}}, "not both"),
        ({**event, "model": "full", "method": "average acceleration"}, "by modes"),
        ({"support pulses": {"l": {"supports": ["foot left"], "pulse": {}}}}, "needs supports and pulse"),
        ({"support pulses": {"l": {"supports": ["foot left"], "pulse": {"x": HIT}},
                             "m": {"supports": ["foot left"], "pulse": {"z": HIT}}}}, "named twice"),
        ({"support pulses": {"l": {"supports": ["foot lfet"], "pulse": {"x": HIT}}}}, 'Did you mean "foot left"'),
    ):  # fmt: skip
        with pytest.raises(HolokineError, match=words):
            modes.respond(bad)
    with pytest.raises(EventError, match="energy balance"):
        answer.table("energies")
    level = {"frequency": [2, 50], "density": ["1 g^2/Hz", "1 g^2/Hz"]}
    swings = {"left": {"supports": "foot left", "base": {"x": 1}}}
    for bad, words in (
        ({"sweep": [2, 50], "base": {"z": 1}, "support swings": swings}, "not both"),
        ({"sweep": [2, 50], "support swings": {"left": {"supports": "foot left", "base": {}}}}, "supports and base"),
        ({"sweep": [2, 50], "support swings": {**swings, "more": swings["left"]}}, "named twice"),
        ({"sweep": [2, 50], "support swings": {"left": {"supports": "foot left", "base": {"x": "3 %"}}}},
         "expected an acceleration"),
        ({"random": {"z": level}, "support densities": {"left": {"supports": "foot left", "random": {"x": level}}}},
         "got random and support densities"),
        ({"support densities": {"left": {"supports": "foot left", "random": {"x": level}}},
          "coherence": [{"between": ["left x", "z"], "coherence": 1}]}, '"z" is no source here; they are left x'),
    ):  # fmt: skip
        with pytest.raises(HolokineError, match=words):
            modes.respond(bad)
    named = modes.assembly.changed({"loads": {"left x": {"gravity": "-z"}}})
    with pytest.raises(HolokineError, match="rename one of them"):
        named.modes(2).respond({"sweep": [2, 50], "support swings": swings, "loads": {"left x": 1}})
    with pytest.raises(HolokineError, match="load-dependent vectors"):
        modes.assembly.ritz({"sweep": [2, 50], "support swings": swings})


PRESSED = {
    "quads": {"plate": {"corner": [0, 0, 0], "sides": [[1, 0, 0], [0, 0.8, 0]], "divisions": [7, 5],
                        "thickness": 0.01}},
    "quadratic": {"plate": {"corner": [0, 0, 0], "sides": [[1, 0, 0], [0, 0.8, 0]], "divisions": [4, 3],
                            "thickness": 0.01, "quadratic": True}},
    "triangles": {"plate": {"origin": [0, 0, 0], "plane": {"x": "x", "y": "y"}, "outline": [[0, 0], [1, 0], [1, 0.8],
                            [0, 0.8]], "size": 0.13, "thickness": 0.01}},
    "bricks": {"box": {"corner": [0, 0, -0.3], "sides": [[1, 0, 0], [0, 0.8, 0], [0, 0, 0.3]], "divisions": [7, 5, 2]}},
    "quadratic bricks": {"box": {"corner": [0, 0, -0.3], "sides": [[1, 0, 0], [0, 0.8, 0], [0, 0, 0.3]],
                                 "divisions": [4, 3, 2], "quadratic": True}},
}  # fmt: skip


def pressed(kind: str, on: dict):
    """What a pressure of 2000 Pa on a selection of the part comes to."""
    a = hk.Assembly().material("m", E=7e10, nu=0.3, density=2700).part("p", **PRESSED[kind], material="m")
    a.support("s", at={"part": "p", "plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all" if "plate" in PRESSED[kind]
              else ["x", "y", "z"])  # fmt: skip
    a.load("push", pressure=2000.0, on={"part": "p", **on}, towards="-z")
    return a.check().report.loads["push"]


@pytest.mark.parametrize("kind", PRESSED)
@pytest.mark.parametrize("slack", [0.0, 0.004])
def test_pressure_on_a_box_that_cuts_faces_acts_on_what_lies_in_it(kind, slack):
    """Force, its place and the area are those of the rectangle, whatever the mesh; strips of sides are not pressed."""
    low, high = np.array([0.13, 0.11]), np.array([1.2, 0.53])
    total = pressed(kind, {"box": [[*low, -slack], [*high, slack]]})
    area = (1.0 - low[0]) * (high[1] - low[1])
    assert total.area == pytest.approx(area, rel=1e-9)
    np.testing.assert_allclose(total.force, [0, 0, -2000 * area], atol=1e-9 * 2000 * area)
    about = np.cross([(1.0 + low[0]) / 2, (low[1] + high[1]) / 2, 0.0], total.force)
    np.testing.assert_allclose(total.moment + np.cross(total.place, total.force), about, atol=1e-8 * 2000 * area)
    small = pressed(kind, {"box": [[0.31, 0.2, -slack], [0.33, 0.21, slack]]})  # within one face
    assert small.area == pytest.approx(2e-4, rel=1e-9)


@pytest.mark.parametrize("kind", PRESSED)
def test_pressure_within_a_cylinder_acts_on_its_circle(kind):
    total = pressed(kind, {"cylinder": {"base": [0.47, 0.41, -0.01], "axis": "z", "radius": 0.21, "length": 0.02}})
    assert total.area == pytest.approx(np.pi * 0.21**2, rel=2e-3)
    both = [pressed(kind, {"box": [[x, -1, -0.01], [x + 0.37, 2, 0.01]]}) for x in (-0.1, 0.27, 0.64)]
    assert sum(b.force[2] for b in both) == pytest.approx(-2000 * 0.8, rel=1e-9)  # parts make the whole


def test_what_loads_come_to_is_told_by_check_and_by_events(tmp_path):
    a = cantilever().load("w", gravity="-z").load("two", at=["a", "b"], force=[0, 30.0, 0], moment=[0, 0, 4.0])
    a.load("s", supports="left", move={"z": 1e-3})
    check = a.check()
    table = check.tables["loads"].set_index("load")
    assert set(table.index) == {"w", "two"}
    assert table.loc["w", "z_n"] == pytest.approx(-9.80665 * check.mass, rel=1e-9)
    ends = a.system.mesh.nodes[[a.system.mesh.points[p] for p in "ab"]]
    np.testing.assert_allclose(table.loc["two", ["at_x_mm", "at_y_mm", "at_z_mm"]].astype(float),
                               1e3 * ends.mean(axis=0), atol=1e-9)  # fmt: skip
    assert (table.loc["two", "y_n"], table.loc["two", "moment_z_nm"]) == (pytest.approx(30.0), pytest.approx(4.0))
    assert any(title.startswith("Loads") for title, _ in check.screens())
    modes = a.modes(4)
    said = modes.respond({"loads": {"two": {"half sine": {"duration": 0.01}}}, "ring down": 0.1}).lines
    assert [
        line
        for line in said
        if line.startswith("load two: y 30.00 N, at [") and line.endswith("with a moment of z 4.000 N m about it")
    ]
    said = a.respond({"static": {"two": 2.0}}).lines
    assert [
        line
        for line in said
        if line.startswith("total applied load: y 60.00 N, at [") and "moment of z 8.000 N m" in line
    ]
