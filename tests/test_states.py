"""States: equilibrium with one-way members and friction, stiffness from stress, buckling, load steps.

Tolerances cover the error of the mesh unless a line says otherwise.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy.optimize import brentq, lsq_linear
from scipy.special import jn_zeros

import holokine as hk
from holokine.errors import DescriptionError, EquilibriumError, EventError, UnknownNameError
from holokine.state.buckling import buckling_factors
from holokine.state.contact import RayError, Touch, complementary, with_friction
from holokine.state.steps import _Model, _Run, _Shape, turn_of

E, RHO, G0 = 200e9, 7850.0, 9.80665
B = H = 0.02
AREA, INERTIA = B * H, B * H**3 / 12.0


def steel() -> hk.Assembly:
    return hk.Assembly("states").material("steel", E=E, nu=0.3, density=RHO, expansion="12e-6 1/K")


def column(length: float, start: list[str], end: list[str] | None, n: int = 16, size: float = B) -> hk.Assembly:
    """A bar along x with supports at its ends."""
    a = steel().section("bar", rectangle={"width": size, "height": size})
    a.point("a", [0, 0, 0]).point("b", [length, 0, 0])
    a.part("bar", beam={"through": ["a", "b"], "section": "bar", "divisions": n, "theory": "euler"}, material="steel")
    a.support("start", at="a", hold=start)
    return a if end is None else a.support("end", at="b", hold=end)


def in_state(a: hk.Assembly, **keys: object) -> hk.Assembly:
    return a.changed({"states": {"loaded": {k.replace("_", " "): v for k, v in keys.items()}}, "state": "loaded"})


def first_gap(a: np.ndarray, b: np.ndarray) -> float:
    return float(np.abs(a / b - 1.0).max())


# -- members under tension and compression ------------------------------------------------------------------


def test_taut_string_with_bending_stiffness():
    """Five modes of a pinned wire in closed form (Timoshenko, Young & Weaver 1974, ch. 5), tension by three ways."""
    d, length, pull = 4e-3, 2.0, 1000.0
    area, inertia = np.pi * d**2 / 4, np.pi * d**4 / 64
    a = steel().section("wire", rod={"diameter": d}).point("a", [0, 0, 0]).point("b", [length, 0, 0])
    a.part("w", beam={"through": ["a", "b"], "section": "wire", "divisions": 40, "theory": "euler"}, material="steel")
    a.support("ends", at=["a", "b"], hold=["x", "y", "z", "rx"])
    n = np.arange(1, 6)
    exact = n / 2 / length * np.sqrt(pull / (RHO * area) * (1 + (n * np.pi / length) ** 2 * E * inertia / pull))
    strain = pull / (E * area)
    for keys in ({"tension": {"w": pull}}, {"shortening": {"w": strain * length}},
                 {"temperature": {"w": -strain / 12e-6}}):  # fmt: skip
        taut = in_state(a, **keys)
        assert first_gap(taut.modes(10).frequencies_hz[::2], exact) < 3e-6  # of 40 elements
        assert taut.state().table("axial")["lowest_n"].iloc[0] == pytest.approx(pull, rel=1e-9)
    assert in_state(a, tension={"w": pull}).modes(2).frequencies_hz[0] > 5 * a.modes(2).frequencies_hz[0]


@pytest.mark.parametrize(("start", "end", "factor"), [
    (["x", "y", "z", "rx", "ry", "rz"], None, 0.25), (["x", "y", "z", "rx"], ["y", "z"], 1.0),
    (["x", "y", "z", "rx", "ry", "rz"], ["y", "z"], 2.045748), (["x", "y", "z", "rx", "ry", "rz"],
                                                                 ["y", "z", "rx", "ry", "rz"], 4.0),
])  # fmt: skip
def test_euler_columns_and_frequencies_at_parts_of_the_load(start, end, factor):
    length, push = 1.0, 1000.0
    a = in_state(column(length, start, end).load("push", at="b", force=[-push, 0, 0]), loads="push")
    euler = factor * np.pi**2 * E * INERTIA / length**2
    found = a.state().buckling(4, factors=[0.0, 1.0, 5.0], modes=2)
    assert first_gap(found.factors[:2] * push, np.array([euler, euler])) < 5e-5
    assert found.result.exist == 4
    assert not len(found.result.negative)  # a column under tension does not buckle: "none" in words
    assert "none down to" in " ".join(found.lines)
    path = found.path
    whole = found.factors[0]
    drop = path.frequencies_hz[:, 0] ** 2 / path.frequencies_hz[0, 0] ** 2
    if factor in (1.0,):  # for pinned ends the square falls along a straight line
        np.testing.assert_allclose(drop, 1 - path.factors / whole, rtol=1e-6)
        np.testing.assert_allclose(path.zeros[0], whole, rtol=1e-5)
    else:
        assert (np.diff(drop) < 0).all()
        assert path.zeros[0] == pytest.approx(whole, rel=0.1)
    assert a.modes(1).frequencies_hz[0] == pytest.approx(path.frequencies_hz[1, 0], rel=1e-9)
    with pytest.raises(DescriptionError, match="beyond buckling"):
        a.state().buckling(4, factors=[whole * 1.01])
    heavy = in_state(a.changed({"loads": {"push": {"force": [-2 * euler, 0, 0]}}}), loads="push")
    with pytest.raises(EquilibriumError, match=r"beyond buckling.*lowest load factor is 0\.5"):
        heavy.modes(1)


def test_own_weight_standing_hanging_and_constant_loads():
    """Greenhill's column, q L³ / EI = 7.8373; one that hangs is stiffer; constant loads leave the rest."""
    length, size = 0.8, 2e-3
    a = (
        steel()
        .section("bar", rectangle={"width": size, "height": size})
        .point("a", [0, 0, 0])
        .point("b", [0, 0, length])
    )
    a.part("bar", beam={"through": ["a", "b"], "section": "bar", "up": "x", "divisions": 24, "theory": "euler"},
           material="steel").support("foot", at="a", hold="all")  # fmt: skip
    a.load("down", gravity="-z").load("up", gravity="z").load("tip", at="b", force=[0, 0, -0.1])
    stiff, q = E * size**4 / 12, RHO * size**2 * G0
    exact = 7.837347 * stiff / length**3 / q
    found = in_state(a, loads="down").state().buckling(1)
    assert found.factors[0] == pytest.approx(exact, rel=1e-3)
    standing, plain, hanging = (
        b.modes(1).frequencies_hz[0] for b in (in_state(a, loads="down"), a, in_state(a, loads="up"))
    )
    assert standing < plain < hanging
    whole = in_state(a, loads=["down", "tip"]).state().buckling(1).factors[0]
    rest = in_state(a, loads=["down", "tip"], constant="down").state().buckling(1).factors[0]
    load = in_state(a, loads={"down": 1.0, "tip": rest}).state().buckling(1).factors[0]
    assert whole < rest
    assert load == pytest.approx(1.0, rel=1e-6)  # with the tip load times its factor it buckles
    mass = a.changed({"masses": {"head": {"at": "b", "mass": 0.02}}})
    f = [in_state(mass, loads={"down": k}).modes(1).frequencies_hz[0] ** 2 for k in (0.01, 1.0, 2.0)]
    assert f[0] > f[1] > f[2]


@pytest.mark.parametrize("vertical", [True, False])
def test_bodies_that_hang(vertical):
    """Compound pendulum by a point mass off its node, by a rigid link and by a hinge: √(m g d / I)."""
    m, d, inertia = 3.0, 0.4, 0.03
    exact = np.sqrt(m * G0 * d / (inertia + m * d**2)) / (2 * np.pi)
    body = {"mass": m, "inertia": [0.02, inertia, 0.01]}
    off = hk.Assembly("p").point("p", [0, 0, 0]).mass("body", at="p", offset=[0, 0, -d], **body)
    link = hk.Assembly("p").point("p", [0, 0, 0]).point("c", [0, 0, -d]).mass("body", at="c", **body)
    link.link("arm", rigid="p", to=["c"])
    held = ["x", "y", "z", "rx", "rz"]
    both = [a.support("hinge", at="p", hold=held) for a in (off, link)]
    hinge = hk.Assembly("p").point("p", [0, 0, 0], apart=True).point("q", [0, 0, 0], apart=True)
    hinge.mass("body", at="q", offset=[0, 0, -d], **body)
    hinge.joint("pin", between=["p", "q"], kind="hinge", axes={"x": "y", "y": "x"}).support("wall", at="p", hold="all")
    for a in (*both, hinge):
        a.load("weight", gravity="-z" if vertical else "z")
        if not vertical:  # standing on its head
            with pytest.raises(EquilibriumError, match="not stable: 1 direction"):
                in_state(a, loads="weight").modes(1)
            continue
        assert in_state(a, loads="weight").modes(1).frequencies_hz[0] == pytest.approx(exact, rel=1e-9)
        swings = in_state(a, loads="weight").modes(1)
        np.testing.assert_allclose(swings.energies.strain.sum(axis=0), swings.set.omega**2 / 2, rtol=1e-9)
        a.load("side", at="p" if a is off else "c" if a is link else "q", force=[0.1, 0, 0])
    if not vertical:
        return
    with pytest.raises(EquilibriumError, match=r"drive a motion that nothing resists.*rotation about y"):
        in_state(link, loads=["weight", "side"]).modes(1)


def test_bifilar_suspension_and_transverse_stiffness_of_a_spring():
    """A bar on two wires: sways at √(g / L), turns at √(g b² / (L k²)); a spring across carries F / L."""
    m, b, length, inertia = 4.0, 0.3, 1.2, 0.05
    a = hk.Assembly("bifilar").point("c", [0, 0, 0])
    for k, x in (("1", -b), ("2", b)):
        a.point(f"low {k}", [x, 0, 0]).point(f"top {k}", [x, 0, length])
        a.spring(f"wire {k}", between=[f"low {k}", f"top {k}"], stiffness=1e7)
        a.support(f"hook {k}", at=f"top {k}", hold=["x", "y", "z"])
    a.mass("bar", at="c", mass=m, inertia=[1e-6, inertia, inertia]).link("yoke", rigid="c", to=["low 1", "low 2"])
    a.support("guide", at="c", hold=["rx"]).load("weight", gravity="-z")
    f = in_state(a, loads="weight").modes(3).frequencies_hz
    sway = np.sqrt(G0 / length) / (2 * np.pi)
    turn = np.sqrt(G0 * b**2 * m / (length * inertia)) / (2 * np.pi)
    np.testing.assert_allclose(f, sorted([sway, sway, turn]), rtol=1e-6)  # the wires stretch a little
    K = in_state(a, loads="weight").state().result.added
    node = a.system.mesh.points["top 1"]
    assert K[6 * node, 6 * node] == pytest.approx(m * G0 / 2 / length, rel=1e-9)


# -- plates, solids, moments, pressure -------------------------------------------------------------------------


def plate(n: int, cells: str = "quads", t: float = 0.003, side: float = 0.5) -> hk.Assembly:
    a = steel().part("p", plate={"corner": [0, 0, 0], "sides": [[side, 0, 0], [0, side, 0]], "divisions": [n, n],
                                 "thickness": t, "cells": cells}, material="steel")  # fmt: skip
    return a


def edge(k: str, side: float = 0.5) -> dict[str, object]:
    low, high = [-1e-6] * 3, [side + 1e-6, side + 1e-6, 1e-6]
    axis, place = "xy".index(k[0]), side if k[1] == "1" else 0.0
    low[axis], high[axis] = place - 1e-6, place + 1e-6
    return {"box": [low, high]}


def test_plates_buckle_under_heat_and_shear():
    """Square, simply supported: biaxial 2 and 5, shear 9.325 of π² D / a² (Timoshenko & Gere 1961, ch. 9)."""
    t, side = 0.003, 0.5
    D = E * t**3 / 12 / (1 - 0.09)
    a = plate(24)
    for k in ("x0", "x1", "y0", "y1"):
        a.support(k, at=edge(k), hold=["z", k[0]])
    heat = in_state(a, temperature={"p": 3.0})
    force = E * t * 12e-6 * 3.0 / (1 - 0.3)
    k = heat.state().buckling(2).factors * force * side**2 / (np.pi**2 * D)
    np.testing.assert_allclose(k, [2.0, 5.0], rtol=0.012)
    falls = (heat.modes(1).frequencies_hz[0] / a.modes(1).frequencies_hz[0]) ** 2
    assert falls == pytest.approx(1 - 1 / heat.state().buckling(1).factors[0], rel=1e-6)  # the same shape throughout
    stress = heat.state().table("stress")["stress_mpa"].iloc[0]
    assert stress == pytest.approx(1e-6 * force / t, rel=1e-9)  # biaxial: the equivalent is the stress itself
    sheared = plate(24).support("corner", at={"box": [[-1e-6] * 3, [1e-6] * 3]}, hold=["x", "y"])
    sheared.support("next", at={"box": [[side - 1e-6, -1e-6, -1e-6], [side + 1e-6, 1e-6, 1e-6]]}, hold=["y"])
    for k, force in (("x0", [0, -500, 0]), ("x1", [0, 500, 0]), ("y0", [-500, 0, 0]), ("y1", [500, 0, 0])):
        sheared.support(k, at=edge(k), hold=["z"]).load(k, at=edge(k), force=force)
    shear = in_state(sheared, loads=["x0", "x1", "y0", "y1"]).state()
    k = shear.buckling(1)
    assert k.factors[0] * 1000.0 * side**2 / (np.pi**2 * D) == pytest.approx(9.325, rel=0.03)  # corners take too much
    np.testing.assert_allclose(k.result.negative[0], -k.factors[0], rtol=1e-6)  # shear either way is the same


def test_solids_agree_with_beams_and_strips_tip_over_sideways():
    """A solid column as Euler's; a strip under end moments at π √(E Iz G J) / L, a cantilever at 4.0126 / L of that."""
    a = steel().part("p", box={"corner": [0, 0, 0], "sides": [[0.5, 0, 0], [0, 0.02, 0], [0, 0, 0.03]],
                               "divisions": [24, 1, 1], "quadratic": True}, material="steel")  # fmt: skip
    a.support("foot", at={"box": [[-1e-6, -1, -1], [1e-6, 1, 1]]}, hold=["x"])
    a.support("line", at={"box": [[-1e-6, 0.0099, -1], [1e-6, 0.0101, 1]]}, hold=["y"])
    a.support("row", at={"box": [[-1e-6, -1, 0.0149], [1e-6, 1, 0.0151]]}, hold=["z"])
    a.load("push", at={"box": [[0.4999, -1, -1], [0.5001, 1, 1]]}, force=[-1000.0, 0, 0])
    k = in_state(a, loads="push").state().buckling(2).factors
    exact = np.pi**2 * E / 4 / 0.25 * np.array([0.03 * 0.02**3, 0.02 * 0.03**3]) / 12 / 1000.0
    np.testing.assert_allclose(k, exact, rtol=6e-3)  # shear softens the thicker way by half a percent
    length = 1.0
    for cantilever in (False, True):
        s = steel().section("strip", rectangle={"width": "4 mm", "height": "60 mm"})
        s.point("a", [0, 0, 0]).point("b", [length, 0, 0])
        s.part(
            "s", beam={"through": ["a", "b"], "section": "strip", "divisions": 32, "theory": "euler"}, material="steel"
        )
        if cantilever:
            s.support("a", at="a", hold="all").load("tip", at="b", force=[0, 0, -10.0])
        else:
            s.support("a", at="a", hold=["x", "y", "z", "rx"]).support("b", at="b", hold=["y", "z", "rx"])
            s.load("tip", at="a", moment=[0, 10.0, 0]).load("other", at="b", moment=[0, -10.0, 0])
        loaded = in_state(s, loads=["tip"] if cantilever else ["tip", "other"])
        section = loaded.system.elements[0].section
        root = np.sqrt(E * section.Iz * E / 2.6 * section.J)
        want = 4.0126 * root / length**2 if cantilever else np.pi * root / length
        found = loaded.state().buckling(1)
        assert found.factors[0] * 10.0 == pytest.approx(want, rel=3e-3)
        assert found.result.negative[0] == pytest.approx(-found.factors[0], rel=1e-6)


def test_ring_under_following_and_dead_pressure():
    """p = 3 E I / R³ where the pressure follows, 4 E I / R³ where it does not (Bodner 1958), and the next pair."""
    R, t = 0.5, 0.01
    stiff = E * t**3 / 12 / R**3
    found = {}
    for following in (True, False):
        a = steel().part("r", cylinder={"radius": R, "length": 0.02, "divisions": [72, 1], "thickness": t},
                         material="steel")  # fmt: skip
        a.load("p", pressure=1e4, on={"part": "r"}, towards="-normal", following=following)
        a.support("flat", at={"part": "r"}, hold=["z"])
        for name, x, hold in (("r", R, ["x", "y"]), ("l", -R, ["y"])):
            box = [[x - 1e-4, -1e-4, -1], [x + 1e-4, 1e-4, 1]]
            a.support(name, at={"part": "r", "box": box}, hold=hold)
        found[following] = in_state(a, loads="p").state().buckling(4).factors * 1e4 / stiff
    np.testing.assert_allclose(found[True], [3.0, 3.0, 8.0, 8.0], rtol=0.013)  # 72 flat elements around
    np.testing.assert_allclose(found[False][[1, 2]], [4.0, 9.0], rtol=0.013)


def test_portal_frame_against_stability_functions():
    """A portal with pinned feet that sways: u tan u = 6 (I_b / s) / (I_c / h) (Timoshenko & Gere 1961, art. 2.4)."""
    h, span = 2.0, 3.0
    a = steel().section("bar", rectangle={"width": B, "height": B})
    for name, at in {"a": [0, 0, 0], "b": [0, 0, h], "c": [span, 0, h], "d": [span, 0, 0]}.items():
        a.point(name, at)
    for name, ends, up in (("left", ["a", "b"], "y"), ("beam", ["b", "c"], "y"), ("right", ["d", "c"], "y")):
        a.part(name, beam={"through": ends, "section": "bar", "up": up, "divisions": 12, "theory": "euler"},
               material="steel")  # fmt: skip
    a.support("feet", at=["a", "d"], hold=["x", "y", "z", "rx", "rz"])
    a.support("plane", at={"part": ["left", "right", "beam"]}, hold=["y", "rx", "rz"])
    for k in "bc":
        a.load(f"on {k}", at=k, force=[0, 0, -100.0])
    # k h tan(k h) = 6 I_b h / (I_c span)
    u = brentq(lambda u: u * np.tan(u) - 6 * h / span, 1e-6, np.pi / 2 - 1e-9)
    exact = u**2 * E * INERTIA / h**2
    k = in_state(a, loads=["on b", "on c"]).state().buckling(1).factors[0]
    assert k * 100.0 == pytest.approx(exact, rel=1e-4)


def test_added_stiffness_is_symmetric_turns_with_the_assembly_and_is_the_slope_of_the_inner_force():
    """Against finite differences of the energy of a co-rotational model; a turned assembly has the same modes."""
    a = steel().section("bar", rectangle={"width": 0.02, "height": 0.03})
    for name, at in {"a": [0, 0, 0], "b": [0.7, 0.1, 0.2], "c": [1.0, 0.6, 0.1]}.items():
        a.point(name, at)
    a.part("bar", beam={"through": ["a", "b", "c"], "section": "bar", "divisions": [10, 10], "theory": "euler",
                        "offset": {"start": [0, 0, 0.01], "end": [0.0, 0.02, 0]}}, material="steel")  # fmt: skip
    a.mass("head", at="c", mass=20.0, offset=[0.02, -0.03, 0.05]).support("foot", at="a", hold="all")
    a.load("push", at="c", force=[300.0, -200.0, 150.0]).load("weight", gravity="-z")
    rest = in_state(a, loads=["push", "weight"]).state().result
    added = rest.added
    assert abs(added - added.T).max() <= 1e-12 * abs(added).max()
    (beam,) = a.system.elements
    n, h = 4, 1e-5
    local = np.random.default_rng(2).standard_normal((1, 12))
    one = replace(
        beam, nodes=np.array([[0, 1]]), length=beam.length[:1], axes=np.eye(3)[None], arms=np.zeros((1, 2, 3)),
        to_local=np.eye(12)[None], local_stiffness=beam.local_stiffness[:1], local_tension=beam.local_tension[:1],
        follow={},
    )  # fmt: skip
    X = np.array([[0.0, 0, 0], [beam.length[0], 0, 0]])
    run = _Run(one, 0.0, False)

    def work(d: np.ndarray) -> float:
        """Of end moments on the turns of the ends in axes that move with the chord, and of tension on its length."""
        moves = d.reshape(2, 6)
        at = run.at(X + moves[:, :3], turn_of(moves[:, 3:]))
        turns = float(local[0, 3:6] @ at.d[0, 3:6] + local[0, 9:12] @ at.d[0, 9:12])
        return turns + float(local[0, 6] * (at.length[0] - beam.length[0]))

    local[0, 9] = -local[0, 3]  # torques in balance
    local[0, 0] = -local[0, 6]
    unit = np.eye(12) * h
    differences = np.array([[work(p + q) - work(p - q) - work(q - p) + work(-p - q) for p in unit] for q in unit])
    differences /= 4 * h**2
    chord = np.zeros((12, 12))
    for d in (1, 2):
        chord[np.ix_([d, 6 + d], [d, 6 + d])] = local[0, 6] / beam.length[0] * np.array([[1, -1], [-1, 1]])
    moments = one.stressed(local).local_stiffness[0] - one.local_stiffness[0] - local[0, 6] * one.local_tension[0]
    np.testing.assert_allclose(moments + chord, differences, atol=2e-4 * np.abs(moments).max())
    assert n
    held = in_state(column(1.0, ["x", "y", "z", "rx", "ry", "rz"], ["x", "y", "z", "rx", "ry", "rz"], n=3),
                    shortening={"bar": 1e-3}, load_steps=1)  # fmt: skip
    model = _Model(held._chain.unloaded, held.description.states["loaded"], "loaded")
    size = 6 * len(model.X)

    def inner(d: np.ndarray) -> np.ndarray:
        moves = d.reshape(-1, 6)
        return _Shape(model, model.X + moves[:, :3], turn_of(moves[:, 3:]), 1.0).inner

    slope = np.array([(inner(h * e) - inner(-h * e)) / (2 * h) for e in np.eye(size)])
    tight = in_state(held, shortening={"bar": 1e-3}).state().result
    want = (tight.elastic.stiffness + tight.added).toarray()
    np.testing.assert_allclose(slope, want, atol=1e-6 * np.abs(want).max())
    turn = turn_of(np.array([[0.3, -0.8, 0.5]]))[0]
    b = steel().section("bar", rectangle={"width": 0.02, "height": 0.03})
    for name, at in {"a": [0, 0, 0], "b": [0.7, 0.1, 0.2], "c": [1.0, 0.6, 0.1]}.items():
        b.point(name, (turn @ np.array(at)).tolist())
    b.part("bar", beam={"through": ["a", "b", "c"], "section": "bar", "divisions": [10, 10], "theory": "euler",
                        "up": (turn @ [0, 0, 1.0]).tolist(), "offset": {"start": (turn @ [0, 0, 0.01]).tolist(),
                        "end": (turn @ [0, 0.02, 0]).tolist()}}, material="steel")  # fmt: skip
    b.mass("head", at="c", mass=20.0, offset=(turn @ [0.02, -0.03, 0.05]).tolist()).support("foot", at="a", hold="all")
    b.load("push", at="c", force=(turn @ [300.0, -200.0, 150.0]).tolist())
    b.load("weight", gravity=(turn @ [0, 0, -1.0]).tolist())
    f, g = (in_state(x, loads=["push", "weight"]).modes(6).frequencies_hz for x in (a, b))
    np.testing.assert_allclose(f, g, rtol=1e-9)


# -- one-way members and friction ----------------------------------------------------------------------------------


def test_the_contact_solver_against_an_independent_one():
    """Random problems: the bounded least squares of SciPy on the same energy; rays where there is no equilibrium."""
    rng = np.random.default_rng(5)
    for n in (1, 3, 8, 20):
        for _ in range(20):
            A = rng.standard_normal((n + 2, n))
            F0 = rng.standard_normal(n)
            H = A.T @ A
            s = complementary(H, F0)
            other = lsq_linear(np.linalg.cholesky(H).T, -np.linalg.solve(np.linalg.cholesky(H), F0), (0, np.inf),
                               tol=1e-14).x  # fmt: skip
            F = F0 + H @ s
            assert s.min() >= 0
            assert F.min() > -1e-9 * np.abs(F0).max()
            assert abs(F @ s) < 1e-9 * np.abs(F0).max() * max(s.max(), 1e-9)
            np.testing.assert_allclose(s, other, atol=1e-6 * max(s.max(), 1.0))
    flat = np.array([[1.0, -1.0], [-1.0, 1.0]])
    with pytest.raises(RayError) as ray:
        complementary(flat, np.array([-1.0, -0.5]))
    assert flat @ ray.value.motion == pytest.approx(0, abs=1e-12)
    np.testing.assert_allclose(complementary(flat, np.array([1.0, -0.5])), [0.0, 0.5], atol=1e-12)
    # one foot on a slope of friction 0.3: sticks below, slides above with the limit against the slip
    H = np.diag([1.0, 2.0, 2.0])
    touch = Touch(np.array([0]), np.array([[1, 2]]), np.array([0.3]))
    y, status = with_friction(H, np.array([1.0, 0.1, 0.2]), touch)
    assert status[0] == 0
    assert not y.any()
    y, status = with_friction(H, np.array([1.0, 0.3, 0.4]), touch)
    F = np.array([1.0, 0.3, 0.4]) + H @ y
    assert status[0] == 2
    assert np.hypot(*F[1:]) == pytest.approx(0.3, rel=1e-12)
    np.testing.assert_allclose(F[1:], -0.3 * y[1:] / np.hypot(*y[1:]), rtol=1e-9)


def test_a_beam_on_one_way_props_by_hand():
    """An overhang lifts the middle prop: force and lift-off by beam formulas; the pattern goes into the modes."""
    L, over, P = 1.0, 0.4, 500.0
    a = steel().section("bar", rectangle={"width": B, "height": B})
    for name, x in zip("abcd", (0.0, L / 2, L, L + over), strict=True):
        a.point(name, [x, 0, 0])
    a.part("bar", beam={"through": list("abcd"), "section": "bar", "divisions": [8, 8, 8], "theory": "euler"},
           material="steel").support("end", at="a", hold=["x", "y", "z", "rx", "rz"])  # fmt: skip
    for k in "bc":
        a.support(f"prop {k}", at=k, pushes="z")
    a.load("tip", at="d", force=[0, 0, -P]).gauge("c up", reaction="prop c", axis="z").gauge("b up", reaction="prop b")
    rest = in_state(a, loads="tip").state()
    feet = rest.table("feet").set_index("support")
    assert list(feet["state"]) == ["open", "touching"]
    assert feet.loc["prop c", "force_n"] == pytest.approx(P * (L + over) / L, rel=1e-9)
    lift = P * over * (L / 2) * (L**2 - (L / 2) ** 2) / (6 * E * INERTIA * L)
    assert feet.loc["prop b", "gap_mm"] == pytest.approx(1e3 * lift, rel=1e-9)
    read = rest.table("readings").set_index(["gauge", "component"])["value"]
    assert read["c up", "z"] == pytest.approx(P * (L + over) / L, rel=1e-9)
    assert read["b up", "z"] == 0.0
    assert rest.result.equilibrium.violation < 1e-10
    without = in_state(a.changed({"supports": {"prop b": None}, "gauges": {"b up": None}}), loads="tip")
    np.testing.assert_allclose(
        in_state(a, loads="tip").modes(4).frequencies_hz, without.modes(4).frequencies_hz, rtol=1e-9
    )
    both = a.modes(1).frequencies_hz[0]  # without a state it acts both ways
    assert both > without.modes(1).frequencies_hz[0]
    closed = in_state(a, loads="tip", one_way=False, stress_stiffness=False)
    assert closed.modes(1).frequencies_hz[0] == pytest.approx(both, rel=1e-9)
    gap = a.changed({"supports": {"prop c": {"gap": 2e-3}}})  # it has to come down by 2 mm first
    by_gap = in_state(gap, loads="tip").state()
    row = by_gap.table("feet").set_index("support").loc["prop c"]
    flexibility = L**3 / (48 * E * INERTIA)
    assert row["state"] == "touching"
    assert by_gap.table("points").set_index("point").loc["c", "z_mm"] == pytest.approx(-2.0, rel=1e-9)
    assert flexibility > 0
    tips = a.changed({"supports": {"end": {"hold": ["x", "y", "rx", "rz"]}, "prop a": {"at": "a", "pushes": "z"}}})
    with pytest.raises(EquilibriumError, match=r"prop [ab].*let go.*nothing stops this motion.*rotation about y"):
        in_state(tips, loads="tip").state()


def block(push: float, friction: float = 0.3, **keys: object) -> hk.Assembly:
    """A heavy body on four legs with one-way feet."""
    a = steel().section("leg", rectangle={"width": 0.02, "height": 0.03}).point("c", [0.4, 0.3, 0.3])
    for k, (x, y) in enumerate(((0, 0), (1, 0), (0, 0.6), (1, 0.6)), start=1):
        a.point(f"foot {k}", [x, y, 0]).point(f"hip {k}", [x, y, 0.1])
        a.part(f"leg {k}", beam={"through": [f"foot {k}", f"hip {k}"], "section": "leg", "up": "x", "divisions": 2},
               material="steel")  # fmt: skip
        a.support(f"pad {k}", at=f"foot {k}", pushes="z", friction=friction)
    a.mass("body", at="c", mass=100.0, inertia=[4, 8, 8]).link("hips", rigid="c", to=[f"hip {k}" for k in range(1, 5)])
    a.load("weight", gravity="-z").load("push", at="c", force=[push, 0, 0])
    return in_state(a, loads=["weight", "push"], **keys)


def test_a_block_on_four_feet_with_friction():
    """Forces by statics, sticking to the limit, sliding away beyond it, tipping with much friction."""
    weight = block(0.0).check().mass * G0
    for push in (0.0, 100.0, 280.0):
        rest = block(push).state()
        feet = rest.table("feet")
        assert (feet["state"] == "touching").all()
        assert feet["force_n"].sum() == pytest.approx(weight, rel=1e-9)
        total = rest.table("supports")[["x_n", "y_n", "z_n"]].sum().to_numpy()
        np.testing.assert_allclose(total, [-push, 0, weight], atol=1e-8 * weight)
        tip = (feet["force_n"].iloc[[1, 3]].sum() - feet["force_n"].iloc[[0, 2]].sum()) / 2
        assert 1.0 * tip == pytest.approx(push * 0.3 - 100 * G0 * 0.1, abs=1e-6 * weight)  # moments about the middle
    with pytest.raises(EquilibriumError, match=r"pad 1.*nothing stops this motion.*along x"):
        block(310.0).state()
    with pytest.raises(EquilibriumError, match=r"rotation about y"):
        block(2000.0, friction=3.0).state()
    soft = block(100.0, friction_stiffness=2000.0)
    share = soft.state().table("feet")["force_n"].to_numpy() * 0.3 * 2000.0
    f = soft.modes(2).frequencies_hz
    assert f[0] == pytest.approx(np.sqrt(share.sum() / soft.check().mass) / (2 * np.pi), rel=0.03)  # legs bend a little
    assert f[0] < 0.2 * block(100.0).modes(1).frequencies_hz[0]
    total = soft.state().table("supports")[["x_n", "y_n", "z_n"]].sum().to_numpy()
    np.testing.assert_allclose(total, [-100.0, 0, weight], atol=1e-8 * weight)


def test_feet_that_slide_against_a_spring():
    """A body pressed on a rough foot and pushed against a spring: what friction does not take the spring does."""
    k, mu, N, P = 5000.0, 0.25, 400.0, 180.0
    a = hk.Assembly("slider").point("m", [0, 0, 0]).mass("m", at="m", mass=2.0)
    a.support("rough", at="m", pushes="z", friction=mu)
    a.spring("back", between=["m", "ground"], axis="x", stiffness=k).spring("side", between=["m", "ground"], axis="y",
                                                                            stiffness=2 * k)  # fmt: skip
    a.load("press", at="m", force=[0, 0, -N]).load("push", at="m", force=[P, 0, 0])
    a.gauge("back", force="back").gauge("rough", reaction="rough")
    rest = in_state(a, loads=["press", "push"]).state()
    row = rest.table("feet").iloc[0]
    assert row["state"] == "sliding"
    assert row["friction_n"] == pytest.approx(mu * N, rel=1e-9)
    assert row["slip_mm"] == pytest.approx(1e3 * (P - mu * N) / k, rel=1e-9)
    read = rest.table("readings").set_index(["gauge", "component"])["value"]
    assert abs(read["back", "along"]) == pytest.approx(P - mu * N, rel=1e-9)
    np.testing.assert_allclose([read["rough", c] for c in "xyz"], [-mu * N, 0, N], atol=1e-7)
    f = in_state(a, loads=["press", "push"]).modes(2).frequencies_hz  # it slides: the springs alone hold it across
    np.testing.assert_allclose(f, np.sqrt(np.array([k, 2 * k]) / 2.0) / (2 * np.pi), rtol=1e-9)


def test_cables_go_slack_and_springs_with_gaps_act_when_closed():
    """Two guys hold a mast head: under wind one is absent; a stop beside acts after its gap."""
    a = steel().section("rope", rod={"diameter": "5 mm"}).section("mast", pipe={"diameter": "60 mm", "wall": "3 mm"})
    for name, at in {"foot": [0, 0, 0], "head": [0, 0, 6], "left": [-3, 0, 0], "right": [3, 0, 0]}.items():
        a.point(name, at)
    a.part("mast", beam={"through": ["foot", "head"], "section": "mast", "up": "x", "divisions": 8}, material="steel")
    for k in ("left", "right"):
        a.part(f"guy {k}", beam={"through": ["head", k], "section": "rope", "up": "y", "divisions": 1,
                                 "goes slack": True}, material="steel").support(k, at=k, hold="all")  # fmt: skip
    a.support("foot", at="foot", hold=["x", "y", "z", "rx", "rz"]).support("plane", at="head", hold=["y"])
    a.load("wind", at="head", force=[400, 0, 0]).gauge("left pull", beam_force="guy left", end="start", axis="x")
    rest = in_state(a, loads="wind").state()
    axial = rest.table("axial").set_index("part")
    pull = 400 * np.hypot(3, 6) / 3
    assert axial.loc["guy left", "highest_n"] == pytest.approx(pull, rel=2e-3)  # the mast bends a little
    assert axial.loc["guy right", "state"] == "slack"
    assert rest.result.equilibrium.slack == ("guy right",)
    assert rest.result.equilibrium.violation < 1e-11  # nothing of the absent rope is left in it, bending neither
    swap = in_state(a.changed({"loads": {"wind": {"force": [-400, 0, 0]}}}), loads="wind").state()
    assert swap.result.equilibrium.slack == ("guy left",)
    assert rest.table("readings")["value"].iloc[0] == pytest.approx(axial.loc["guy left", "highest_n"], rel=1e-9)
    windy = in_state(a, loads="wind")
    assert windy.check().mass == pytest.approx(a.check().mass, rel=1e-12)
    assert rest.result.system.mass.diagonal()[0::6].sum() > 0
    tight = in_state(a, loads="wind", shortening={"guy left": 2e-3, "guy right": 2e-3})
    assert tight.state().result.equilibrium.slack == ()
    assert tight.modes(1).frequencies_hz[0] != pytest.approx(windy.modes(1).frequencies_hz[0], rel=1e-3)
    stop = a.changed({"springs": {"stop": {"between": ["head", "ground"], "axis": "x", "one way": "pull" if False else
                                           "push", "gap": 1e-3, "stiffness": 1e6}}, "state": "loaded",
                      "states": {"loaded": {"loads": "wind"}}})  # fmt: skip
    free = rest.table("points").set_index("point").loc["head", "x_mm"]
    row = stop.state().table("springs").iloc[0]
    assert free > 1.0
    assert row["state"] == "acting"
    flexibility = 1e-3 * free / 400
    force = (1e-3 * free - 1e-3) / (flexibility + 1e-6)
    assert abs(row["force_n"]) == pytest.approx(force, rel=1e-6)
    assert stop.modes(1).frequencies_hz[0] > windy.modes(1).frequencies_hz[0]


def test_springs_by_table_and_law():
    """Elongation by the law itself, stiffness by its slope there, a bias that softens, tables that end."""
    a = hk.Assembly("s").point("m", [0, 0, 0]).mass("m", at="m", mass=2.0).support("g", at="m", hold=["y", "z"])
    pull = a.load("pull", at="m", force=[120.0, 0, 0])

    def one(**keys: object) -> hk.Assembly:
        return in_state(
            pull.changed({"springs": {"k": {"between": ["ground", "m"], "axis": "x", **keys}}}), loads="pull"
        )

    law = one(law={"linear": 1e4, "cubic": 5e8})
    e = brentq(lambda e: 1e4 * e + 5e8 * e**3 - 120.0, 0, 1)
    row = law.state().table("springs").iloc[0]
    assert row["elongation_mm"] == pytest.approx(1e3 * e, rel=1e-9)
    assert row["stiffness_n_per_mm"] == pytest.approx(1e-3 * (1e4 + 1.5e9 * e**2), rel=1e-9)
    f = np.sqrt((1e4 + 1.5e9 * e**2) / 2.0) / (2 * np.pi)
    assert law.modes(1).frequencies_hz[0] == pytest.approx(f, rel=1e-9)
    assert law.about(None).modes(1).frequencies_hz[0] == pytest.approx(np.sqrt(1e4 / 2.0) / (2 * np.pi), rel=1e-9)
    table = one(force=[[0, 0], [0.01, 100.0], [0.02, 400.0]], mirrored=True)
    row = table.state().table("springs").iloc[0]
    assert (row["elongation_mm"], row["stiffness_n_per_mm"]) == pytest.approx((10 + 20 / 30.0, 30.0), rel=1e-9)
    with pytest.raises(EquilibriumError, match=r"beyond its table \(-10 to 10 mm\)"):
        one(force=[[0, 0], [0.01, 100.0]], mirrored=True).state()
    soft = pull.changed({"springs": {"k": {"between": ["ground", "m"], "axis": "x", "stiffness": 2e4}, "bias": {
        "between": ["ground", "m"], "axis": "x", "law": {"linear": -8e3}}}})  # fmt: skip
    f = np.sqrt(1.2e4 / 2.0) / (2 * np.pi)
    assert in_state(soft, loads="pull").modes(1).frequencies_hz[0] == pytest.approx(f, rel=1e-9)
    snaps = soft.changed({"springs": {"bias": {"law": {"linear": -2.1e4}}}})
    with pytest.raises(EquilibriumError, match="not stable"):
        in_state(snaps, loads="pull").modes(1)
    for keys, words in (
        ({"force": [[0, 0], [0.01, 10], [0.01, 20]]}, "given twice"), ({"force": [[0, 0], [-0.01, 10]]}, "must rise"),
        ({"force": [[0, 0], [0.01, 10]]}, "say whether the other is mirrored"),
        ({"force": [[0.01, 0], [0.02, 1]]}, "hold the elongation 0"),
        ({"stiffness": 1.0, "gap": 0.01}, "no effect without one way"), ({"law": {"linear": 0}}, "not zero"),
        ({"stiffness": 1.0, "force": [[-1, -1], [1, 1]]}, "exactly one"), ({"one way": "push"}, "with a stiffness"),
    ):  # fmt: skip
        with pytest.raises(DescriptionError, match=words):
            one(**keys)


# -- events about a state, totals, what lets go ------------------------------------------------------------------


def pressed(push: float = 0.0) -> hk.Assembly:
    """A mass on a one-way support and a spring, pressed down by its weight."""
    a = hk.Assembly("pressed").point("m", [0, 0, 0.2]).point("t", [0, 0, 0]).mass("m", at="m", mass=10.0)
    a.spring("leg", between=["t", "m"], stiffness=4e5).support("pad", at="t", pushes="z", hold=["x", "y"])
    a.support("guide", at="m", hold=["x", "y", "rx", "ry", "rz"])
    a.gauge("leg", force="leg").gauge("pad", reaction="pad", axis="z").gauge("m", displacement="m", axis="z")
    a.load("weight", gravity="-z").load("up", at="m", force=[0, 0, 30.0])
    a.event("bump", pulse={"z": {"half sine": {"peak": f"{1.0 + push} g", "duration": "10 ms"}}}, ring_down="0.2 s")
    a.event("whole", pulse={"z": {"half sine": {"peak": f"{1.0 + push} g", "duration": "10 ms"}}}, ring_down="0.2 s",
            with_state=True)  # fmt: skip
    a.event("still", static="up").event("both", static="up", with_state=True)
    a.event("shake", sweep=["5 Hz", "60 Hz"], base={"z": "0.02 g"})
    a.event("shake all", sweep=["5 Hz", "60 Hz"], base={"z": "0.02 g"}, with_state=True)
    a.event("shock", spectrum={"z": {"frequency": [1, 1000], "acceleration": ["0.5 g", "0.5 g"]}})
    return in_state(a, loads="weight").damping("2 %")


def test_totals_limits_and_what_lets_go():
    W = 10.0 * G0
    a = pressed()
    modes = a.modes()
    still, both = (modes.assembly.respond(e).table("peaks").set_index("gauge")["value"] for e in ("still", "both"))
    assert still["leg"] == pytest.approx(30.0, rel=1e-6)  # tension that the load adds
    assert both["leg"] == pytest.approx(30.0 - W, rel=1e-9)
    assert both["pad"] == pytest.approx(W - 30.0, rel=1e-9)
    bump, whole = modes.respond("bump"), modes.respond("whole")
    own, total = (x.table("peaks").set_index("gauge") for x in (bump, whole))
    assert total.loc["leg", "lowest"] == pytest.approx(own.loc["leg", "lowest"] - W, rel=1e-9)
    assert total.loc["leg", "highest"] == pytest.approx(own.loc["leg", "highest"] - W, rel=1e-9)
    assert any("the total of the state" in f.text for f in whole.findings)
    lets = own.loc["pad", :]
    rows = bump.table("peaks")
    row = rows[rows["component"] == "lets go"].iloc[0]
    assert row["highest"] == pytest.approx(100 * -rows[(rows["gauge"] == "pad") & (rows["component"] == "z")][
        "lowest"].iloc[0] / W, rel=1e-9)  # fmt: skip
    assert len(lets)
    text = " ".join(f.text for f in bump.findings)
    apart = row["highest"] > 100.0
    assert ("pulls apart what only pushes" in text) == apart
    strong = pressed(3.0).modes().respond("bump")
    assert "pulls apart what only pushes or pulls: pad" in " ".join(f.text for f in strong.findings)
    limit = a.changed({"limits": {"leg": abs(own.loc["leg", "lowest"]) + 0.5 * W}}).modes().respond("bump")
    assert limit.table("limits")["peak"].iloc[0] == pytest.approx(abs(own.loc["leg", "lowest"] - W), rel=1e-9)
    assert not limit.ok  # the event alone would meet it
    sweep, held = modes.respond("shake").table("peaks"), modes.respond("shake all").table("peaks")
    assert held["largest_together"].iloc[0] == pytest.approx(sweep["peak"].iloc[0] + W, rel=1e-9)
    shock = a.changed({"limits": {"leg": 1e5}}).modes().respond("shock")
    peak = shock.table("peaks").set_index("gauge").loc["leg", "peak"]
    assert shock.table("limits")["peak"].iloc[0] == pytest.approx(peak + W, rel=1e-9)
    twice = in_state(a, loads="weight").changed({"events": {"again": {"static": "weight"}}})
    assert any("weight acts twice" in f.text for f in twice.respond("again").findings)
    with pytest.raises(EventError, match="vibrates about no state"):
        a.about(None).respond("both")


def test_check_says_whether_the_state_has_an_equilibrium():
    a = in_state(column(1.0, ["x", "y", "z", "rx"], ["y", "z"]).load("push", at="b", force=[-1e5, 0, 0]), loads="push")
    assert any("beyond buckling" in f.text and f.level == "error" for f in a.check().findings)
    assert a.about(None).check().ok
    lossy = in_state(
        column(1.0, ["x", "y", "z", "rx"], ["y", "z"]).load("push", at="b", force=[3e3, 0, 0]), loads="push"
    )
    lossy = lossy.changed({"materials": {"steel": {"loss factor": "4 %"}}})
    damped, stiff = lossy.modes(1).damped().set.ratios[0], lossy.about(None).modes(1).damped().set.ratios[0]
    share = (lossy.about(None).modes(1).frequencies_hz[0] / lossy.modes(1).frequencies_hz[0]) ** 2
    assert damped / stiff == pytest.approx(share, rel=1e-3)  # tension stores energy and loses none


def test_states_keep_apart(tmp_path):
    """One line switches a state on; keys, run files, headings and comparisons tell states apart."""
    a = column(1.0, ["x", "y", "z", "rx"], ["y", "z"]).load("push", at="b", force=[-3000.0, 0, 0])
    a.load("pull", at="b", force=[3000.0, 0, 0]).add_state("pushed", loads="push").add_state("pulled", loads="pull")
    a.event("bump", pulse={"z": {"half sine": {"peak": "1 g", "duration": "10 ms"}}}).gauge("b", rotation="b", axis="y")
    assert a.states == ("pushed", "pulled")
    plain, pushed_, pulled = (a.about(s).modes(4) for s in (None, "pushed", "pulled"))
    assert pushed_.frequencies_hz[0] < plain.frequencies_hz[0] < pulled.frequencies_hz[0]
    assert len({m.key for m in (plain, pushed_, pulled)}) == 3
    assert a.about("pushed").about(None).modes(4).key == plain.key
    assert 'about the state "pushed"' in pushed_.assembly.title
    run = pushed_.save(tmp_path / "pushed.run")
    opened = hk.open_run(run)
    assert opened.assembly.description.state == "pushed"
    assert opened.respond("bump").table("peaks").equals(pushed_.respond("bump").table("peaks"))
    compared = plain.compare(pushed_)
    np.testing.assert_allclose(compared.result.shift[0], pushed_.frequencies_hz[0] / plain.frequencies_hz[0] - 1)
    assert "moves most" in compared.lines[-1]
    damped = pushed_.damped()
    np.testing.assert_allclose(damped.set.undamped_hz, pushed_.frequencies_hz, rtol=1e-9)
    energies = pushed_.energies
    np.testing.assert_allclose(energies.strain.sum(axis=0), pushed_.set.omega**2 / 2, rtol=1e-6)
    warm = a.changed({"states": {"warm": {"temperature": {"set": 5.0}}}, "state": "warm", "groups": {"set": ["bar"]}})
    other = warm.changed({"parts": {"more": {"beam": {"through": ["a", "c"], "section": "bar"}, "material": "steel"}},
                          "points": {"c": [0, 1, 0]}})  # fmt: skip
    both = other.changed({"groups": {"set": ["bar", "more"]}})
    assert len({x.document.keys.of("state") for x in (warm, other, both)}) == 3
    nested = both.changed({"groups": {"set": ["inner"], "inner": ["bar"]}})
    wider = nested.changed({"groups": {"inner": ["bar", "more"]}})
    assert nested.document.keys.of("state") != wider.document.keys.of("state")
    pressed_on = both.changed({"loads": {"push": {"at": {"group": "set", "box": [[0.9, -1, -1], [2, 1, 1]]}}},
                               "states": {"warm": {"loads": "push"}}})  # fmt: skip
    fewer = pressed_on.changed({"groups": {"set": ["more"]}})
    assert pressed_on.document.keys.of("state") != fewer.document.keys.of("state")
    with pytest.raises(UnknownNameError, match='Did you mean "pushed"'):
        a.about("pushd")
    with pytest.raises(UnknownNameError, match="name one of pushed, pulled"):
        a.state()
    assert a.state("pulled").name == "pulled"


def test_moved_supports_strain_the_state_and_stay_held():
    """Both ends clamped, one sunk by δ: 12 E I δ / L³ at the supports, 6 E I δ / L² in the beam; the same modes."""
    every, sunk = ["x", "y", "z", "rx", "ry", "rz"], 1e-3
    a = column(1.0, every, every).load("sink", supports="end", move={"z": -sunk}).gauge("end", reaction="end", axis="z")
    a.gauge("root", beam_moment="bar", end="start", axis="y").gauge("b", displacement="b", axis="z")
    rest = in_state(a, loads="sink").state()
    read = rest.table("readings").set_index("gauge")["value"]
    assert read["end"] == pytest.approx(-12 * E * INERTIA * sunk, rel=1e-8)
    assert abs(read["root"]) == pytest.approx(6 * E * INERTIA * sunk, rel=1e-8)
    assert read["b"] == pytest.approx(-1.0, rel=1e-12)
    f, plain = in_state(a, loads="sink").modes(4).frequencies_hz, a.modes(4).frequencies_hz
    np.testing.assert_allclose(f, plain, rtol=2e-4)  # bending moments alone hardly change them


def test_bad_states_are_refused():
    a = column(1.0, ["x", "y", "z", "rx"], ["y", "z"]).load("push", at="b", force=[-30.0, 0, 0])
    for keys, words in (
        ({}, "needs something that loads it"), ({"loads": "psh"}, 'Did you mean "push"'),
        ({"tension": {"bar": 5}, "shortening": {"bar": 1e-3}}, "has a tension and a shortening"),
        ({"loads": "push", "constant": "weight"}, "none of the loads"),
        ({"temperature": {"bar": "5 kg"}}, "expected a change of temperature"),
    ):  # fmt: skip
        with pytest.raises(hk.HolokineError, match=words):
            in_state(a, **keys)
    preloaded = a.changed({"parts": {"bar": {"beam": {"preload": 5.0}}}})
    with pytest.raises(DescriptionError, match="has a preload of its own"):
        in_state(preloaded, loads="push").modes(1)
    cold = a.changed({"materials": {"steel": {"expansion": None}}})
    with pytest.raises(DescriptionError, match="has no expansion"):
        in_state(cold, temperature={"bar": 5}).modes(1)
    for keys, words in (({"hold": "x", "gap": 0.1}, "without pushes"), ({"hold": ["z"], "pushes": "-z"}, "no effect"),
                        ({"hold": ["x", "y"], "pushes": "z", "friction": 0.2}, "friction has no effect"),
                        ({}, "holds no direction")):  # fmt: skip
        with pytest.raises(DescriptionError, match=words):
            a.changed({"supports": {"more": {"at": "b", **keys}}})
    loose = hk.Assembly("l").point("m", [0, 0, 0]).mass("m", at="m", mass=1.0, inertia=[1, 1, 1])
    loose.support("pad", at="m", pushes="z").support("g", at="m", hold=["x", "y", "rx", "ry", "rz"])
    loose.load("up", at="m", force=[0, 0, 5.0])
    with pytest.raises(EquilibriumError, match=r"pad let go.*translation along z"):
        in_state(loose, loads="up").modes(1)
    with pytest.raises(EquilibriumError, match="constant is beyond buckling"):
        buckling_factors(-np_csr(2), np_csr(2), np_csr(2), 1)
    large = in_state(column(1.0, ["x", "y", "z", "rx", "ry", "rz"], None).load("side", at="b", force=[0, 0, 900.0]),
                     loads="side").state()  # fmt: skip
    assert any("large against its size" in f.text for f in large.findings)
    shell = in_state(plate(2).support("e", at=edge("x0"), hold="all").load("g", gravity="-z"), loads="g", load_steps=2)
    with pytest.raises(DescriptionError, match='the part "p" is made of shells'):
        shell.modes(1)


def np_csr(n: int):
    from scipy.sparse import csr_array, eye_array

    return csr_array(eye_array(n))


# -- load steps ----------------------------------------------------------------------------------------------------


def test_cantilever_rolled_up_and_bent_far():
    """An end moment of π E I / L bends it into half a circle; P L² / E I = 10 by Mattiasson (IJNME 17 (1981) 145)."""
    stiff = E * 0.02 * 0.01**3 / 12
    a = steel().section("flat", rectangle={"width": 0.02, "height": 0.01})
    a.point("a", [0, 0, 0]).point("b", [1.0, 0, 0])
    a.part("bar", beam={"through": ["a", "b"], "section": "flat", "divisions": 20, "theory": "euler"}, material="steel")
    a.support("wall", at="a", hold="all").gauge("root", beam_moment="bar", end="start").gauge("b", displacement="b")
    a.load("roll", at="b", moment=[0, -np.pi * stiff, 0]).load("bend", at="b", force=[0, 0, 10 * stiff])
    rolled = in_state(a, loads="roll", load_steps=5).state()
    tip = rolled.table("points").set_index("point").loc["b"]
    assert (tip["x_mm"], tip["z_mm"]) == pytest.approx((-1000.0, 2000.0 / np.pi), rel=1e-4)
    read = rolled.table("readings").set_index(["gauge", "component"])["value"]
    assert abs(read["root", "My"]) == pytest.approx(np.pi * stiff, rel=1e-6)
    assert read["b", "x"] == pytest.approx(-1000.0, rel=1e-4)
    bent = in_state(a, loads="bend", load_steps=5)
    tip = bent.state().table("points").set_index("point").loc["b"]
    assert (-tip["x_mm"], tip["z_mm"]) == pytest.approx((555.00, 810.61), rel=1e-4)
    assert bent.state().table("supports")["z_n"].iloc[0] == pytest.approx(-10 * stiff, rel=1e-8)
    assert bent.modes(3).frequencies_hz[0] > 0
    with pytest.raises(EquilibriumError, match="of the given geometry"):
        bent.state().buckling()


def test_catenary_and_hanging_chain():
    """A cable longer than its span hangs as cosh; a chain swings at the roots of J₀, by both ways of solving."""
    span, length, d = 2.0, 2.1, 5e-5
    a = steel().section("wire", rod={"diameter": d}).point("a", [0, 0, 0]).point("b", [span, 0, 0])
    run = {"through": ["a", "b"], "section": "wire", "divisions": 40, "theory": "euler", "goes slack": True}
    a.part("w", beam=run, material="steel").support("ends", at=["a", "b"], hold=["x", "y", "z", "rx"])
    a.load("g", gravity="-z")
    rest = in_state(a, loads="g", shortening={"w": span - length}, load_steps=1).state()
    c = brentq(lambda c: 2 * c * np.sinh(span / 2 / c) - length, 0.1, 50)
    sag = -rest.result.displacement.reshape(-1, 6)[:, 2].min()
    assert sag == pytest.approx(c * (np.cosh(span / 2 / c) - 1), rel=3e-4)  # bending at the ends
    low = rest.table("axial")["lowest_n"].iloc[0]
    weight = RHO * np.pi * d**2 / 4 * G0 * span / length  # the mass of the span, on the longer cable
    assert low == pytest.approx(weight * c, rel=2e-3)
    chain_ = steel().section("wire", rod={"diameter": 2e-5}).point("a", [0, 0, 0]).point("b", [0, 0, -3])
    chain_.part("w", beam={"through": ["a", "b"], "section": "wire", "up": "x", "divisions": 80, "theory": "euler"},
                material="steel")  # fmt: skip
    chain_.support("top", at="a", hold=["x", "y", "z", "rz"]).load("g", gravity="-z")
    exact = jn_zeros(0, 3) / (4 * np.pi) * np.sqrt(G0 / 3)
    plain, stepped = (in_state(chain_, loads="g", **k).modes(6).frequencies_hz[::2] for k in ({}, {"load_steps": 1}))
    np.testing.assert_allclose(plain, exact, rtol=7e-3)
    np.testing.assert_allclose(stepped, plain, rtol=1e-6)


def test_load_steps_agree_with_the_given_geometry_where_displacements_are_small():
    """Feet, gaps, springs with laws and offset masses: load steps and one linear step to first order."""
    a = steel().section("bar", rectangle={"width": B, "height": B})
    for name, x in zip("abc", (0.0, 0.5, 1.0), strict=True):
        a.point(name, [x, 0, 0])
    a.part("bar", beam={"through": list("abc"), "section": "bar", "divisions": [6, 6], "theory": "euler"},
           material="steel")  # fmt: skip
    a.support("wall", at="a", hold="all").support("pad", at="b", pushes="z", gap=1e-6)
    a.support("lift", at="c", pushes="-z").mass("head", at="c", mass=0.5, offset=[0.05, 0, 0.02])
    a.spring("law", between=["c", "ground"], axis="z", law={"linear": 1e4, "cubic": 1e12})
    a.load("w", gravity="-z").gauge("pad", reaction="pad", axis="z").gauge("stress", stress="bar")
    near, far = (in_state(a, loads="w", **k) for k in ({}, {"load_steps": 3}))
    one, many = near.state(), far.state()
    assert list(one.table("feet")["state"]) == list(many.table("feet")["state"]) == ["touching", "open"]
    np.testing.assert_allclose(one.table("feet")["force_n"], many.table("feet")["force_n"], rtol=1e-3)
    np.testing.assert_allclose(
        np.abs(one.table("readings")["value"]), np.abs(many.table("readings")["value"]), rtol=1e-3
    )
    np.testing.assert_allclose(one.table("springs")["force_n"], many.table("springs")["force_n"], rtol=1e-3)
    np.testing.assert_allclose(near.modes(4).frequencies_hz, far.modes(4).frequencies_hz, rtol=1e-4)


# -- load factors at which something changes ---------------------------------------------------------------------


def test_feet_touch_open_slide_and_tip_at_factors_by_hand():
    """Props with a gap by beam formulas, friction and tipping by statics; the state solved on either side agrees."""
    L, over, P, gap = 1.0, 0.4, 500.0, 2e-3
    a = steel().section("bar", rectangle={"width": B, "height": B})
    for name, x in zip("abcd", (0.0, L / 2, L, L + over), strict=True):
        a.point(name, [x, 0, 0])
    a.part("bar", beam={"through": list("abcd"), "section": "bar", "divisions": [4, 4, 4], "theory": "euler"},
           material="steel").support("end", at="a", hold=["x", "y", "z", "rx", "rz"])  # fmt: skip
    a.support("prop b", at="b", pushes="z").support("prop c", at="c", pushes="z", gap=gap)
    a.load("tip", at="d", force=[0, 0, -P])
    over_b, s = L / 2 + over, L / 2  # up to the gap it stands on a and b, and c goes down
    down = P * over_b * s / (3 * E * INERTIA) * s + P * s**2 * (3 * over_b - s) / (6 * E * INERTIA)
    lift = P * over * s * (L**2 - s**2) / (6 * E * INERTIA * L)  # then on a and c, b going down by half the gap
    answer = in_state(a, loads="tip").state().changes(10)
    np.testing.assert_allclose(answer.factors, [gap / down, gap / 2 / lift], rtol=1e-10)
    assert [c.words for c in answer.result.found] == ["prop c touches", "prop b opens"]
    assert list(answer.table()["above"]) == ["touching", "open"]
    for factor, change in zip(answer.factors, answer.result.found, strict=True):
        for side, word in ((1 - 1e-5, change.below), (1 + 1e-5, change.above)):
            feet = in_state(a, loads={"tip": float(factor * side)}).state().table("feet").set_index("support")
            assert feet.loc[change.name, "state"] == word

    push = block(10.0)
    slides = in_state(push, loads=["weight", "push"], constant="weight").state().changes(50)
    tall, width, weight = 0.3, 1.0, push.check().mass * G0
    foot = 100 * G0 * 0.6 / 2 + (weight - 100 * G0) / 4  # of the two behind, less what the push takes off them
    assert slides.result.ends == pytest.approx(0.3 * weight / 10.0, rel=2e-6)
    assert slides.result.found[0].above == "sliding"
    assert 0.0 < slides.factors[0] < slides.result.ends < foot / (10 * tall / width / 2)
    np.testing.assert_allclose(  # the slides of either state on its own
        [slides.factors[0]], [_first_slide(push, slides.factors[0])], rtol=1e-7
    )
    tips = in_state(block(10.0, friction=9.0), loads=["weight", "push"], constant="weight").state().changes(500)
    assert tips.result.ends == pytest.approx((2 * foot) * width / (10.0 * tall), rel=1e-5)
    assert "ends at" in " ".join(tips.lines)


def _first_slide(a: hk.Assembly, near: float) -> float:
    """Where a foot's friction reaches its limit, from two full solutions below."""
    margins = []
    for k in (0.8 * near, 0.9 * near):
        feet = in_state(a, loads={"weight": 1.0, "push": float(k)}).state().table("feet")
        margins.append((feet["limit_n"] - feet["friction_n"]).to_numpy())
    first, second = margins
    return float((0.9 * near + 0.1 * near * second / (first - second)).min())


def test_cables_and_springs_change_at_factors_that_constant_loads_decide():
    """A guy tightened before the wind goes slack where superposition says; without constant loads only gaps do."""
    a = steel().section("mast", pipe={"diameter": "60 mm", "wall": "3 mm"})
    for name, at in {"foot": [0, 0, 0], "head": [0, 0, 6], "left": [-3, 0, 0], "right": [3, 0, 0]}.items():
        a.point(name, at)
    a.part("mast", beam={"through": ["foot", "head"], "section": "mast", "up": "x", "divisions": 8}, material="steel")
    for k in ("left", "right"):
        a.part(f"guy {k}", cable={"through": ["head", k], "area": "20 mm^2"}, material="steel")
        a.support(k, at=k, hold="all")
    a.support("foot", at="foot", hold=["x", "y", "z", "rx", "rz"]).support("plane", at="head", hold=["y"])
    a.load("wind", at="head", force=[400, 0, 0])
    a.spring("stop", between=["head", "ground"], axis="x", one_way="push", gap=6e-3, stiffness=1e6)
    a.add_state("tight", shortening={"guy left": 2e-3, "guy right": 2e-3})
    a.add_state("windy", loads="wind", installed="tight")
    upright, windy = (a.state(k).table("axial").set_index("part")["lowest_n"] for k in ("tight", "windy"))
    slack = upright["guy right"] / (upright["guy right"] - windy["guy right"])
    answer = a.state("windy").changes(100)
    first, second = answer.result.found
    assert (first.words, second.words) == ("guy right goes slack", "stop acts")
    assert first.factor == pytest.approx(slack, rel=1e-9)
    for side, word in ((1 - 1e-5, "open"), (1 + 1e-5, "acting")):
        own = a.changed({"states": {"windy": {"loads": {"wind": float(second.factor * side)}}}}).state("windy")
        assert own.table("springs").set_index("spring").loc["stop", "state"] == word
    alone = a.add_state("gust", loads="wind", shortening={"guy left": 2e-3, "guy right": 2e-3}).state("gust").changes(5)
    assert [c.name for c in alone.result.found] == ["stop"]  # all of it times the factor: only the gap stays
    both = a.add_state("both", loads="wind", one_way=False).state("both").changes()
    assert (len(both.factors), both.result.members) == (0, 0)
    assert "nothing can change" in " ".join(both.lines)
    with pytest.raises(DescriptionError, match="a range around 1"):
        a.state("windy").changes(0.5)


@pytest.mark.parametrize("pinned", [["x", "y", "z"], ["x", "y", "z", "rx"], ["z"], []])
def test_what_is_free_and_not_loaded_is_no_collapse(pinned):
    """A bar that may turn, under no load: at rest, and it vibrates beside its free motions; under a push it is not."""
    a = (
        column(1.0, pinned or ["x"], None, n=8)
        .load("none", at="b", force=[0, 0, 0])
        .load("push", at="b", force=[-9, 0, 0])
    )
    if not pinned:
        a = a.changed({"supports": {"start": None}})
    free = 6 - len(pinned)
    still = in_state(a, loads="none")
    assert np.abs(still.state().result.displacement).max() == 0.0
    np.testing.assert_allclose(still.modes(free + 3).frequencies_hz, a.modes(free + 3).frequencies_hz, atol=1e-3)
    if len(pinned) >= 3:  # it stands on its pin like a pencil on its point
        with pytest.raises(EquilibriumError, match=r"not stable|no equilibrium"):
            in_state(a, loads="push").state()


@pytest.mark.parametrize("divisions", [4, 160])
def test_a_shaft_that_may_spin_is_named_in_a_state_too(divisions):
    """In bearings without a stiffness about its axis, under its weight: at rest, and no modes until it is held."""
    a = steel().section("journal", rod={"diameter": 0.03})
    for name, x in (("a", 0.0), ("m", 0.5), ("b", 1.0)):
        a.point(name, [x, 0, 0])
    a.part("shaft", beam={"through": ["a", "m", "b"], "section": "journal", "divisions": [divisions] * 2},
           material="steel").mass("drum", at="m", mass=40.0, inertia=[1, 0.8, 0.8])  # fmt: skip
    a.point("f", [0.5, 0, -0.3]).mass("frame", at="f", mass=200.0, inertia=[9, 20, 20]).support(
        "floor", at="f", hold="all"
    )
    for k, x in (("a", 0.0), ("b", 1.0)):
        a.point(f"seat {k}", [x, 0, 0], apart=True)
        a.bushing(f"bearing {k}", between=[k, f"seat {k}"], stiffness={"x": 1e7, "y": 1e7, "z": 1e7})
    a.link("seats", rigid="f", to=["seat a", "seat b"])
    a.load("weight", gravity="-z").load("side", at="m", force=[0, 900, 0])
    about = in_state(a, loads=["weight", "side"])
    assert about.state().table("points").set_index("point").loc["m", "z_mm"] < 0
    for one in (a, about):
        with pytest.raises(hk.HolokineError, match=r'a mechanism: .*"(shaft|drum)": rotation about x'):
            one.modes(3)
    held = about.changed({"bushings": {"bearing a": {"stiffness": {"x": 1e7, "y": 1e7, "z": 1e7, "rx": 1e3}}}})
    spin = 1.0 / (1e-3 + 0.5 / (E / 2.6 * np.pi / 32 * 0.03**4))  # in series with the shaft up to the drum
    assert held.modes(1).frequencies_hz[0] == pytest.approx(np.sqrt(spin / 1.0) / 2 / np.pi, rel=3e-3)


def test_buckling_says_what_lets_go_before():
    """A prop that the load lifts off before the column buckles: the factor of buckling is of the prop's own state."""
    a = column(1.0, ["x", "y", "z", "rx"], ["y", "z"], n=8).point("m", [0.5, 0, 0])
    a = a.changed({"parts": {"bar": {"beam": {"through": ["a", "m", "b"], "divisions": [4, 4]}}}})
    a.support("prop", at="m", pushes="z").load("press", at="m", force=[0, 0, -100.0])
    a.load("push", at="b", force=[-1000.0, 0, 0]).load("lift", at="m", force=[0, 0, 10.0])
    a = in_state(a, loads=["press", "push", "lift"], constant="press")
    rest = a.state()
    assert rest.changes(50).factors == pytest.approx([10.0], rel=1e-9)
    answer = rest.buckling(1)
    assert answer.factors[0] > 10.0
    found = [f for f in answer.findings if "before it buckles" in f.text]
    assert [f.level for f in found] == ["warning"]
    assert "prop opens at a load factor of 10" in found[0].text
    calm = in_state(a, loads=["press", "push"], constant="press").state().buckling(1)
    assert not any("before it buckles" in f.text for f in calm.findings)
