"""The assembly at rest: tension, buckling, one-way supports, large rotations."""

from __future__ import annotations

from typing import Any

import numpy as np

import holokine as hk
from holokine.verification.cases import BENCH, Figures, beam, case


def stated(a: hk.Assembly, **keys: Any) -> hk.Assembly:
    own = {k.replace("_", " "): v for k, v in keys.items()}
    return a.changed({"states": {"held": own}, "state": "held"})


SQUARE: dict[str, Any] = {"rectangle": {"width": 0.018, "height": 0.018}}


SQUARE_EI = BENCH["E"] * 0.018**4 / 12


@case("taut wire with bending stiffness, tension given", "Timoshenko, Young & Weaver 1974, ch. 5", "40 beams", 1e-5)
def _() -> Figures:
    length, d, pull = 1.7, 3e-3, 800.0
    a = beam(length, {"rod": {"diameter": d}}, BENCH, theory="euler")
    a.support("ends", at=["a", "b"], hold=["x", "y", "z", "rx"])
    n, area, stiff = np.arange(1, 6), np.pi * d**2 / 4, BENCH["E"] * np.pi * d**4 / 64
    exact = n / 2 / length * np.sqrt(pull / (BENCH["density"] * area) * (1 + (n * np.pi / length) ** 2 * stiff / pull))
    return stated(a, tension={"beam": pull}).modes(10).frequencies_hz[::2], exact


@case("body on two cables: sway, yaw, double pendulum", "small oscillations", "1 cable element each", 1e-4)
def _() -> Figures:
    g, L, half, low, m, Iy, Iz = 9.80665, 1.3, 1.5, 0.6, 4200.0, 3e3, 18e3
    a = hk.Assembly().material("m", E=105e9, nu=0.3, density=1.0).point("body", [0, 0, 0])
    for k, y in (("a", -half), ("f", half)):
        a.point(f"t{k}", [0, y, low + L]).point(f"h{k}", [0, y, low])
        a.part(f"fall {k}", cable={"through": [f"t{k}", f"h{k}"], "area": 4.5e-4}, material="m")
    a.mass("body m", at="body", mass=m, inertia=[17e3, Iy, Iz]).link("hull", rigid="body", to=["ha", "hf"])
    a.support("top", at=["ta", "tf"], hold="all").load("weight", gravity="-z")
    K, M = np.diag([m * g / L, m * g * low]), np.array([[m, -m * low], [-m * low, Iy + m * low**2]])
    double = np.sqrt(np.linalg.eigvals(np.linalg.solve(M, K)).real)
    exact = np.sort([np.sqrt(g / L), np.sqrt(m * g * half**2 / (L * Iz)), *double]) / (2 * np.pi)
    return stated(a, loads="weight").modes(4).frequencies_hz, exact


@case("ring held by the mean of its nodes, pressed", "n² EI / R³, dead pressure", "48 x 2 quadratic shells", 1.5e-3,
      "pressure of buckling (Pa)")  # fmt: skip
def _() -> Figures:
    R, width, t, E, p = 0.3173, 0.0137, 0.0061, 203e9, 2e5
    a = hk.Assembly().material("m", E=E, nu=0.0, density=7860.0)
    a.part("ring", cylinder={"base": [0, 0, -width / 2], "axis": "z", "radius": R, "length": width,
                             "divisions": [48, 2], "thickness": t, "quadratic": True}, material="m")  # fmt: skip
    a.support("plane", at={"part": "ring"}, hold=["z", "rx", "ry"])
    a.point("centre", [0, 0, 0]).link("mean", averaging="centre", to={"part": "ring"})
    a.support("centre", at="centre", hold=["x", "y", "rz"])
    a.load("press", pressure=p, on={"part": "ring"}, towards="-normal")
    factors = stated(a, loads="press").state().buckling(4).factors
    return p * factors, np.repeat([4.0, 9.0], 2) * E * t**3 / 12 / R**3


@case("columns: free, pinned, propped, guided", "Euler", "20 beams", 5e-5, "load of buckling (N)")
def _() -> Figures:
    found, exact = [], []
    full, rest = ["x", "y", "z", "rx", "ry", "rz"], ["y", "z", "rx", "ry", "rz"]
    for start, end, factor in (
        (full, (), 0.25), (["x", "y", "z", "rx"], ["y", "z"], 1.0), (full, ["y", "z"], 2.0457483), (full, rest, 4.0),
    ):  # fmt: skip
        a = beam(0.9, SQUARE, BENCH, start=start, end=end, divisions=20, theory="euler")
        a.load("push", at="b", force=[-1000.0, 0, 0])
        found.append(1000.0 * stated(a, loads="push").state().buckling(1).factors[0])
        exact.append(factor * np.pi**2 * SQUARE_EI / 0.9**2)
    return found, exact


@case(
    "square plate held all round and heated",
    "Timoshenko & Gere 1961, ch. 9",
    "28 x 28 shells",
    1e-2,
    "force per length of buckling over π² D / a² (1)",
)
def _() -> Figures:
    side, t, warm = 0.6, 0.003, 2.0
    a = hk.Assembly().material("m", expansion="12e-6 1/K", **BENCH)
    a.part("p", plate={"corner": [0, 0, 0], "sides": [[side, 0, 0], [0, side, 0]], "divisions": [28, 28],
                       "thickness": t}, material="m")  # fmt: skip
    for axis in (0, 1):
        for place in (0.0, side):
            low, high = [-1e-6] * 3, [side + 1e-6, side + 1e-6, 1e-6]
            low[axis], high[axis] = place - 1e-6, place + 1e-6
            a.support(f"{'xy'[axis]}{place:g}", at={"box": [low, high]}, hold=["z", "xy"[axis]])
    stiff = BENCH["E"] * t**3 / 12 / (1 - 0.09)
    force = BENCH["E"] * t * 12e-6 * warm / 0.7
    return stated(a, temperature={"p": warm}).state().buckling(2).factors * force * side**2 / (np.pi**2 * stiff), [
        2.0,
        5.0,
    ]


@case(
    "ring under pressure that follows",
    "Levy 1884; Timoshenko & Gere 1961, ch. 7",
    "96 shells around",
    8e-3,
    "pressure of buckling over E I / R³ (1)",
)
def _() -> Figures:
    R, t = 0.4, 0.008
    a = hk.Assembly().material("m", **BENCH)
    a.part("r", cylinder={"radius": R, "length": 0.02, "divisions": [96, 1], "thickness": t}, material="m")
    a.load("p", pressure=1e4, on={"part": "r"}, towards="-normal", following=True)
    a.support("flat", at={"part": "r"}, hold=["z"])
    for name, x, hold in (("r", R, ["x", "y"]), ("l", -R, ["y"])):
        a.support(name, at={"part": "r", "box": [[x - 1e-4, -1e-4, -1], [x + 1e-4, 1e-4, 1]]}, hold=hold)
    found = stated(a, loads="p").state().buckling(4).factors * 1e4 * R**3 / (BENCH["E"] * t**3 / 12)
    return found, [3.0, 3.0, 8.0, 8.0]


@case(
    "strip under end moments, tipping over sideways",
    "Timoshenko & Gere 1961, ch. 6",
    "32 beams",
    3e-3,
    "moment of buckling (N m)",
)
def _() -> Figures:
    a = beam(1.1, {"rectangle": {"width": 0.004, "height": 0.05}}, BENCH, start=["x", "y", "z", "rx"],
             end=["y", "z", "rx"], divisions=32, theory="euler")  # fmt: skip
    a.load("m", at="a", moment=[0, 10.0, 0]).load("n", at="b", moment=[0, -10.0, 0])
    s: Any = a.system.elements[0]
    s = s.section
    exact = np.pi / 1.1 * np.sqrt(BENCH["E"] * s.Iz * BENCH["E"] / 2.6 * s.J)
    return [10.0 * stated(a, loads=["m", "n"]).state().buckling(1).factors[0]], [exact]


@case("compound pendulum, by a rigid link", "√(m g d / I)", "a point mass", 1e-9)
def _() -> Figures:
    a = hk.Assembly().point("p", [0, 0, 0]).point("c", [0, 0, -0.35])
    a.mass("body", at="c", mass=2.6, inertia=[0.02, 0.024, 0.01]).link("arm", rigid="p", to=["c"])
    a.support("hinge", at="p", hold=["x", "y", "z", "rx", "rz"]).load("weight", gravity="-z")
    exact = np.sqrt(2.6 * 9.80665 * 0.35 / (0.024 + 2.6 * 0.35**2)) / (2 * np.pi)
    return stated(a, loads="weight").modes(1).frequencies_hz, [exact]


@case("overhanging beam on one-way props", "beam formulas", "24 beams", 1e-8, "force (N), gap (mm)")
def _() -> Figures:
    length, over, push = 1.2, 0.5, 350.0
    a = hk.Assembly().material("m", **BENCH).section("s", **SQUARE)
    for name, x in zip("abcd", (0.0, length / 2, length, length + over), strict=True):
        a.point(name, [x, 0, 0])
    a.part(
        "beam", beam={"through": list("abcd"), "section": "s", "divisions": [8, 8, 8], "theory": "euler"}, material="m"
    )
    a.support("end", at="a", hold=["x", "y", "z", "rx", "rz"]).load("tip", at="d", force=[0, 0, -push])
    for k in "bc":
        a.support(f"prop {k}", at=k, pushes="z")
    feet = stated(a, loads="tip").state().table("feet").set_index("support")
    lift = push * over * (length / 2) * (length**2 - length**2 / 4) / (6 * SQUARE_EI * length)
    found = [feet.loc["prop c", "force_n"], feet.loc["prop b", "gap_mm"]]
    return found, [push * (length + over) / length, 1e3 * lift]


@case(
    "cantilever bent far, P L² / E I = 10",
    "Mattiasson, IJNME 17 (1981) 145-153",
    "20 beams, 5 load steps",
    1e-4,
    "displacement of the tip (mm)",
)
def _() -> Figures:
    a = beam(1.0, {"rectangle": {"width": 0.02, "height": 0.01}}, BENCH, start="all", divisions=20, theory="euler")
    stiff = BENCH["E"] * 0.02 * 0.01**3 / 12
    a.load("bend", at="b", force=[0, 0, 10 * stiff])
    tip = stated(a, loads="bend", load_steps=5).state().table("points").set_index("point").loc["b"]
    return [-tip["x_mm"], tip["z_mm"]], [555.00, 810.61]


@case("cable 5 % longer than its span", "catenary", "40 beams, by load steps", 5e-4, "sag (mm)")
def _() -> Figures:
    from scipy.optimize import brentq

    span, length = 2.4, 2.52
    a = beam(span, {"rod": {"diameter": 6e-5}}, BENCH, start=["x", "y", "z", "rx"], end=["x", "y", "z", "rx"],
             theory="euler")  # fmt: skip
    a = a.changed({"parts": {"beam": {"beam": {"goes slack": True}}}}).load("weight", gravity="-z")
    rest = stated(a, loads="weight", shortening={"beam": span - length}, load_steps=1).state()
    c = brentq(lambda c: 2 * c * np.sinh(span / 2 / c) - length, 0.1, 50)
    return [-1e3 * rest.result.displacement.reshape(-1, 6)[:, 2].min()], [1e3 * c * (np.cosh(span / 2 / c) - 1)]
