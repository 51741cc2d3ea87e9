"""Beams, rings and frames."""

from __future__ import annotations

import numpy as np

import holokine as hk
from holokine.verification.cases import (
    ALUMINIUM,
    BAR,
    BENCH,
    EXACT_TIMOSHENKO,
    PLANE,
    STEEL,
    Figures,
    beam,
    case,
    elastic,
)


@case("beam, pinned-pinned", EXACT_TIMOSHENKO, "60 beams", 1.2e-3)
def _() -> Figures:
    a = beam(0.943, BAR, ALUMINIUM, start="z", end="z", suppress=PLANE, divisions=60)
    return elastic(a, 5), [202.810185, 784.759067, 1680.31431, 2812.54704, 4113.20156]


@case("beam, clamped-clamped", EXACT_TIMOSHENKO, "60 beams", 1.2e-3)
def _() -> Figures:
    a = beam(0.943, BAR, ALUMINIUM, start=["z", "ry"], end=["z", "ry"], suppress=PLANE, divisions=60)
    return elastic(a, 5), [443.962, 1158.66, 2131.31, 3287.73, 4575.2]


@case("beam, free-free", EXACT_TIMOSHENKO, "60 beams", 1.2e-3)
def _() -> Figures:
    return elastic(beam(0.943, BAR, ALUMINIUM, suppress=PLANE, divisions=60), 7), [
        453.831, 1198.7, 2223.45, 3448.46, 4812.93]  # fmt: skip


@case("beam, clamped-pinned", EXACT_TIMOSHENKO, "60 beams", 1.2e-3)
def _() -> Figures:
    a = beam(0.943, BAR, ALUMINIUM, start=["z", "ry"], end="z", suppress=PLANE, divisions=60)
    return elastic(a, 5), [311.862, 967.167, 1905.41, 3052.62, 4347.99]


@case("cantilever with offset tip body", "exact dynamic stiffness", "30 beams, point mass", 2e-4)
def _() -> Figures:
    a = beam(1.83, {"rectangle": {"width": 0.052, "height": 0.078}}, STEEL, start="all", divisions=30)
    a.mass("tip", at="b", mass=23.7, inertia=[0.412, 0.173, 0.358], offset=[0, 0.187, 0])
    exact = [7.80413116, 11.6163089, 53.7179624, 55.2117605, 103.690638, 130.548192, 252.950492, 271.906529]
    return elastic(a, 8), exact


@case("cantilever with two masses on rigid arms", "exact dynamic stiffness, Rayleigh beam", "40 beams", 6e-4)
def _() -> Figures:
    a = beam(10.0, {"rod": {"diameter": 0.5}}, BENCH, start="all", theory="rayleigh")
    a.point("p", [10, 2, 0]).point("q", [10, -2, 0]).mass("heavy", at="p", mass=10000).mass("light", at="q", mass=1000)
    a.link("arm p", rigid="b", to="p").link("arm q", rigid="b", to="q")
    return elastic(a, 8), [1.72312, 1.72669, 7.41275, 9.97148, 18.1551, 26.9572, 52.736, 64.0385]


@case("beam under half its buckling load", "closed form, Bernoulli", "40 beams", 2e-5)
def _() -> Figures:
    a = beam(2.31, {"rectangle": {"width": 0.0471, "height": 0.0313}}, STEEL, start="z", end="z", suppress=PLANE,
             theory="euler", preload=-22929.03007921274)  # fmt: skip
    return elastic(a, 4), [9.64689081, 51.046548, 119.325449, 214.84646]


@case("free ring, in plane and out of plane", "Fourier closed form", "180 straight beams", 1e-3)
def _() -> Figures:
    a = hk.Assembly().material("m", **ALUMINIUM).section("s", rectangle={"width": 0.0207, "height": 0.0314})
    for i in range(180):
        t = 2 * np.pi * i / 180
        a.point(f"p{i}", [0.613 * np.cos(t), 0.613 * np.sin(t), 0])
    names = [f"p{i}" for i in range(180)] + ["p0"]
    a.part("ring", beam={"through": names, "section": "s", "divisions": 1}, material="m")
    pairs = [34.7865956, 45.9356223, 98.2924395, 138.197896, 188.205067, 271.889342, 303.827827]
    return elastic(a, 20)[:14], list(np.repeat(pairs, 2))


@case("double cross with eight arms", "exact dynamic stiffness, Bernoulli", "8 x 12 beams", 3e-4)
def _() -> Figures:
    a = hk.Assembly().material("m", **BENCH).section("s", rectangle={"width": 0.125, "height": 0.125})
    a.point("c", [0, 0, 0])
    for i in range(8):
        a.point(f"e{i}", [5 * np.cos(np.pi * i / 4), 5 * np.sin(np.pi * i / 4), 0])
        run = {"through": ["c", f"e{i}"], "section": "s", "divisions": 12, "theory": "euler"}
        a.part(f"arm {i}", beam=run, material="m").support(f"pin {i}", at=f"e{i}", hold=["x", "y"])
        a.support(f"plane {i}", at={"part": f"arm {i}"}, hold=["z", "rx", "ry"])
    return elastic(a, 16), [11.3362, *[17.6808] * 2, *[17.7094] * 5, 45.345, *[57.0746] * 2, *[57.3897] * 5]
