"""The verification cases: each gives found and exact figures."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

import holokine as hk

ALUMINIUM = {"E": 71.3e9, "nu": 0.33, "density": 2713.0}
STEEL = {"E": 206e9, "nu": 0.29, "density": 7830.0}
BENCH = {"E": 200e9, "nu": 0.3, "density": 8000.0}


@dataclass
class Case:
    name: str
    source: str
    model: str
    bound: float
    run: Callable[[], tuple[Sequence[float], Sequence[float]]]


def beam(length, section, material, *, start=(), end=(), suppress=(), divisions=40, **keys) -> hk.Assembly:
    a = hk.Assembly().material("m", **material).section("s", **section).point("a", [0, 0, 0]).point("b", [length, 0, 0])
    a.part("beam", beam={"through": ["a", "b"], "section": "s", "divisions": divisions, **keys}, material="m")
    for name, at, hold in (("plane", {"part": "beam"}, suppress), ("left", "a", start), ("right", "b", end)):
        if hold:
            a.support(name, at=at, hold=hold)
    return a


def elastic(a: hk.Assembly, count: int) -> np.ndarray:
    modes = a.modes(count=count)
    return modes.frequencies_hz[~modes.set.rigid]


BAR = {"rectangle": {"width": 0.0415, "height": 0.0785}}
PLANE = ["x", "y", "rx", "rz"]
CASES: list[Case] = []


def case(name: str, source: str, model: str, bound: float):
    def add(run):
        CASES.append(Case(name, source, model, bound, run))
        return run

    return add


EXACT_T = "Timoshenko theory, exact roots"


@case("beam, pinned-pinned", EXACT_T, "60 beams", 1.2e-3)
def _():
    a = beam(0.943, BAR, ALUMINIUM, start="z", end="z", suppress=PLANE, divisions=60)
    return elastic(a, 5), [202.810185, 784.759067, 1680.31431, 2812.54704, 4113.20156]


@case("beam, clamped-clamped", EXACT_T, "60 beams", 1.2e-3)
def _():
    a = beam(0.943, BAR, ALUMINIUM, start=["z", "ry"], end=["z", "ry"], suppress=PLANE, divisions=60)
    return elastic(a, 5), [443.962, 1158.66, 2131.31, 3287.73, 4575.2]


@case("beam, free-free", EXACT_T, "60 beams", 1.2e-3)
def _():
    return elastic(beam(0.943, BAR, ALUMINIUM, suppress=PLANE, divisions=60), 7), [
        453.831, 1198.7, 2223.45, 3448.46, 4812.93]  # fmt: skip


@case("beam, clamped-pinned", EXACT_T, "60 beams", 1.2e-3)
def _():
    a = beam(0.943, BAR, ALUMINIUM, start=["z", "ry"], end="z", suppress=PLANE, divisions=60)
    return elastic(a, 5), [311.862, 967.167, 1905.41, 3052.62, 4347.99]


@case("cantilever with offset tip body", "exact dynamic stiffness", "30 beams, point mass", 2e-4)
def _():
    a = beam(1.83, {"rectangle": {"width": 0.052, "height": 0.078}}, STEEL, start="all", divisions=30)
    a.mass("tip", at="b", mass=23.7, inertia=[0.412, 0.173, 0.358], offset=[0, 0.187, 0])
    exact = [7.80413116, 11.6163089, 53.7179624, 55.2117605, 103.690638, 130.548192, 252.950492, 271.906529]
    return elastic(a, 8), exact


@case("cantilever with two masses on rigid arms", "exact dynamic stiffness, Rayleigh beam", "40 beams", 6e-4)
def _():
    a = beam(10.0, {"rod": {"diameter": 0.5}}, BENCH, start="all", theory="rayleigh")
    a.point("p", [10, 2, 0]).point("q", [10, -2, 0]).mass("heavy", at="p", mass=10000).mass("light", at="q", mass=1000)
    a.link("arm p", rigid="b", to="p").link("arm q", rigid="b", to="q")
    return elastic(a, 8), [1.72312, 1.72669, 7.41275, 9.97148, 18.1551, 26.9572, 52.736, 64.0385]


@case("beam under half its buckling load", "closed form, Bernoulli", "40 beams", 2e-5)
def _():
    a = beam(2.31, {"rectangle": {"width": 0.0471, "height": 0.0313}}, STEEL, start="z", end="z", suppress=PLANE,
             theory="euler", preload=-22929.03007921274)  # fmt: skip
    return elastic(a, 4), [9.64689081, 51.046548, 119.325449, 214.84646]


@case("free ring, in plane and out of plane", "Fourier closed form", "180 straight beams", 1e-3)
def _():
    a = hk.Assembly().material("m", **ALUMINIUM).section("s", rectangle={"width": 0.0207, "height": 0.0314})
    for i in range(180):
        t = 2 * np.pi * i / 180
        a.point(f"p{i}", [0.613 * np.cos(t), 0.613 * np.sin(t), 0])
    names = [f"p{i}" for i in range(180)] + ["p0"]
    a.part("ring", beam={"through": names, "section": "s", "divisions": 1}, material="m")
    pairs = [34.7865956, 45.9356223, 98.2924395, 138.197896, 188.205067, 271.889342, 303.827827]
    return elastic(a, 20)[:14], list(np.repeat(pairs, 2))


@case("double cross with eight arms", "exact dynamic stiffness, Bernoulli", "8 x 12 beams", 3e-4)
def _():
    a = hk.Assembly().material("m", **BENCH).section("s", rectangle={"width": 0.125, "height": 0.125})
    a.point("c", [0, 0, 0])
    for i in range(8):
        a.point(f"e{i}", [5 * np.cos(np.pi * i / 4), 5 * np.sin(np.pi * i / 4), 0])
        run = {"through": ["c", f"e{i}"], "section": "s", "divisions": 12, "theory": "euler"}
        a.part(f"arm {i}", beam=run, material="m").support(f"pin {i}", at=f"e{i}", hold=["x", "y"])
        a.support(f"plane {i}", at={"part": f"arm {i}"}, hold=["z", "rx", "ry"])
    return elastic(a, 16), [11.3362, *[17.6808] * 2, *[17.7094] * 5, 45.345, *[57.0746] * 2, *[57.3897] * 5]


@case("single mass, half-sine base pulse", "closed form", "one mode", 1e-6)
def _():
    omega, duration = 2 * np.pi * 30.0, 0.02
    a = hk.Assembly().damping(0.0).point("p", [0, 0, 0]).mass("m", at="p", mass=1.0)
    a.spring("k", between=["ground", "p"], stiffness=omega**2, axis="x").support(
        "g", at="p", hold=["y", "z", "rx", "ry", "rz"]
    )
    a.gauge("a", acceleration="p", axis="x")
    answer = a.modes(count=1).respond({"pulse": {"x": {"half sine": {"peak": 1.0, "duration": duration}}}})
    r = np.pi / duration / omega
    t = np.linspace(0, duration, 2_000_001)
    return [abs(answer.result.peaks[0])], [
        np.abs((np.sin(np.pi * t / duration) - r * np.sin(omega * t)) / (1 - r**2)).max()
    ]


def plate(material, a, b, h, divisions, **keys) -> hk.Assembly:
    shape = {"corner": [0, 0, 0], "sides": [[a, 0, 0], [0, b, 0]], "divisions": divisions, "thickness": h, **keys}
    return hk.Assembly().material("m", **material).part("p", plate=shape, material="m")


def edge(at: list[float], normal: str) -> dict:
    return {"plane": {"at": at, "normal": normal}}


def simply_supported(p: hk.Assembly, a: float, b: float) -> hk.Assembly:
    p.support("x0", at=edge([0, 0, 0], "x"), hold=["z", "rx"]).support("x1", at=edge([a, 0, 0], "x"), hold=["z", "rx"])
    p.support("y0", at=edge([0, 0, 0], "y"), hold=["z", "ry"]).support("y1", at=edge([0, b, 0], "y"), hold=["z", "ry"])
    return p.support("membrane", at={"part": "p"}, hold=["x", "y", "rz"])


THIN = [17.842, 44.5988, 44.5988, 71.3481, 89.1769, 89.1769, 115.914, 115.914, 151.551, 151.551]


@case("thin plate, hard simple support", "Mindlin theory, closed form", "32 x 32 quads", 5e-3)
def _():
    return elastic(simply_supported(plate(ALUMINIUM, 1.37, 1.37, 0.0068, [32, 32]), 1.37, 1.37), 10), THIN


@case("the same, triangles", "Mindlin theory, closed form", "2 x 32 x 32 triangles", 5e-3)
def _():
    p = plate(ALUMINIUM, 1.37, 1.37, 0.0068, [32, 32], cells="triangles")
    return elastic(simply_supported(p, 1.37, 1.37), 10), THIN


@case("thick plate, hard simple support", "Mindlin theory, closed form", "32 x 32 quads", 5e-3)
def _():
    exact = [365.497, 677.109, 1053.77, 1159.05, 1329.08, 1760.73, 1771.55, 2041.55, 2275.92, 2317.97]
    return elastic(simply_supported(plate(ALUMINIUM, 1.71, 1.13, 0.137, [32, 32]), 1.71, 1.13), 10), exact


@case("thick square plate, shear factor pi²/12", "Mindlin theory, closed form", "32 x 32 quads", 5e-3)
def _():
    exact = [45.8951, 109.444, 109.444, 167.886, 204.513, 204.513, 256.502, 256.502, 321.173, 321.173]
    p = plate(BENCH, 10, 10, 1.0, [32, 32], shear_factor=np.pi**2 / 12)
    return elastic(simply_supported(p, 10, 10), 10), exact


@case("cantilever plate", "thin plate theory, converged Ritz", "40 x 30 quads", 5e-3)
def _():
    p = plate({"E": 206e9, "nu": 0.3, "density": 7830}, 1.43, 0.97, 0.0051, [40, 30])
    p.support("root", at=edge([0, 0, 0], "x"), hold="all")
    return elastic(p, 8), [2.12817, 7.08154, 13.2254, 23.9523, 32.068, 37.847, 49.0548, 51.4567]


@case("free square plate", "thin plate theory, converged Ritz", "32 x 32 quads", 5e-3)
def _():
    p = plate(BENCH, 10, 10, 0.05, [32, 32]).support("membrane", at={"part": "p"}, hold=["x", "y", "rz"])
    return elastic(p, 10), [1.62165, 2.3595, 2.92228, 4.19024, 4.19024, 7.356, 7.356]


@case("plate under biaxial tension", "thin plate theory, closed form", "36 x 24 quads", 5e-3)
def _():
    p = plate(ALUMINIUM, 1.71, 1.13, 0.0073, [36, 24], tension=[21700, 21700])
    return elastic(simply_supported(p, 1.71, 1.13), 6), [26.7823, 45.6569, 69.6646, 76.6493, 88.1948, 119.018]


@case("tapered membrane in its plane", "plane stress, converged Ritz", "64 x 32 quads", 2e-3)
def _():
    corners = [[0, -2.5, 0], [10, -0.5, 0], [10, 0.5, 0], [0, 2.5, 0]]
    shape = {"corners": corners, "divisions": [64, 32], "thickness": 0.05}
    a = hk.Assembly().material("m", **BENCH).part("p", plate=shape, material="m")
    a.support("root", at=edge([0, 0, 0], "x"), hold="all").support("plane", at={"part": "p"}, hold=["z", "rx", "ry"])
    return elastic(a, 6), [44.617, 130.009, 162.689, 245.986, 379.717, 391.404]


@case("thin plate, hard simple support", "Mindlin theory, closed form", "16 x 16 quads of 9 nodes", 1e-3)
def _():
    return elastic(
        simply_supported(plate(ALUMINIUM, 1.37, 1.37, 0.0068, [16, 16], quadratic=True), 1.37, 1.37), 10
    ), THIN


@case("thin plate, hard simple support", "Mindlin theory, closed form", "512 triangles of 6 nodes", 1e-3)
def _():
    p = plate(ALUMINIUM, 1.37, 1.37, 0.0068, [16, 16], cells="triangles", quadratic=True)
    return elastic(simply_supported(p, 1.37, 1.37), 10), THIN


@case("cantilever plate", "thin plate theory, converged Ritz", "20 x 15 quads of 9 nodes", 1e-3)
def _():
    p = plate({"E": 206e9, "nu": 0.3, "density": 7830}, 1.43, 0.97, 0.0051, [20, 15], quadratic=True)
    p.support("root", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
    return elastic(p, 8), [2.12817, 7.08154, 13.2254, 23.9523, 32.068, 37.847, 49.0548, 51.4567]


@case("cylindrical shell between diaphragms", "3-D elasticity, exact Fourier", "48 x 12 quads of 9 nodes", 2.1e-3)
def _():
    shape = {"radius": 0.254, "length": 0.613, "thickness": 0.0213, "divisions": [48, 12], "quadratic": True}
    a = hk.Assembly().material("m", **ALUMINIUM).part("c", cylinder=shape, material="m")
    for name, z in (("low", 0), ("high", 0.613)):
        a.support(name, at={"plane": {"at": [0, 0, z], "normal": "z"}}, hold=["x", "y"])
    return elastic(a, 17)[:16], np.repeat([877.097, 911.483, 1329.95, 1604.41, 1732.64, 1915.17, 1970.12, 2013.71], 2)


@case("circular plate by its outline, simply supported", "thin plate theory, Bessel roots", "quads and triangles", 3e-3)
def _():
    R, h = 0.5, 0.004
    ring = [[R, 0], {"through": [0, R], "to": [-R, 0]}, {"through": [0, -R], "to": [R, 0]}]
    a = hk.Assembly().material("m", E=206e9, nu=0.3, density=7830)
    a.part("p", plate={"outline": ring, "size": 0.09, "thickness": h, "quadratic": True}, material="m")
    rim = {"part": "p", "cylinder": {"base": [0, 0, -1], "axis": "z", "radius": R, "surface": True}}
    a.support("rim", at=rim, hold=["z"]).support("flat", at={"part": "p"}, hold=["x", "y", "rz"])
    stiff = 206e9 * h**3 / 12 / (1 - 0.09)
    roots = np.array(
        [2.22152, 3.72802, 3.72802, 5.06096, 5.06096, 5.45165]
    )  # of x J_{n+1}/J_n + x I_{n+1}/I_n = 2x²/(1-nu)
    return elastic(a, 6), (roots / R) ** 2 * np.sqrt(stiff / (7830 * h)) / 2 / np.pi


@case("cross-ply laminate, hinged, 0/90", "first-order theory, Navier (Reddy, ch. 5)", "12 x 10 quads of 9 nodes", 1e-3)
def _():
    ply = {"orthotropic": {"E": ["138 GPa", "9 GPa", "9 GPa"], "G": ["7.1 GPa", "2.8 GPa", "7.1 GPa"],
                           "nu": [0.3, 0.45, 0.0195652]}, "density": 1580.0}  # fmt: skip
    t, sides = 0.002, (1.0, 0.7)
    layers = [{"thickness": t, "material": "ply", "angle": f"{angle} deg"} for angle in (0, 90)]
    a = hk.Assembly().material("ply", **ply)
    a.part("p", plate={"corner": [0, 0, 0], "sides": [[sides[0], 0, 0], [0, sides[1], 0]], "divisions": [12, 10],
                       "quadratic": True, "layers": layers})  # fmt: skip
    over_x, over_y = ["z", "rx", "y"], ["z", "ry", "x"]
    for name, at, normal, hold in (("a", [0, 0, 0], "x", over_x), ("b", [1, 0, 0], "x", over_x),
                                   ("c", [0, 0, 0], "y", over_y), ("d", [0, 0.7, 0], "y", over_y)):  # fmt: skip
        a.support(name, at={"plane": {"at": at, "normal": normal}}, hold=hold)
    along = np.linalg.inv(np.array([[1 / 138e9, -0.3 / 138e9, 0], [-0.3 / 138e9, 1 / 9e9, 0], [0, 0, 1 / 7.1e9]]))
    across = along[np.ix_([1, 0, 2], [1, 0, 2])]
    A, D, B = t * (along + across), t**3 / 3 * (along + across), t**2 / 2 * (across - along)
    shear = a.system.elements[0].laminate.transverse
    found = []
    for m in range(1, 6):
        for n in range(1, 6):
            p, q = m * np.pi / sides[0], n * np.pi / sides[1]
            g, s = np.array([[-p, 0], [0, -q], [q, p]]), np.array([[p, 1, 0], [q, 0, 1]])
            K = np.zeros((5, 5))
            K[:2, :2], K[3:, 3:], K[:2, 3:] = g.T @ A @ g, g.T @ D @ g, g.T @ B @ g
            K[3:, :2] = K[:2, 3:].T
            K[2:, 2:] += s.T @ shear @ s
            mass = 1580 * np.array([2 * t, 2 * t, 2 * t, (2 * t) ** 3 / 12, (2 * t) ** 3 / 12])
            found.append(np.sqrt(np.linalg.eigvals(K / mass[:, None]).real.min()) / 2 / np.pi)
    return elastic(a, 4), sorted(found)[:4]


@case("cylindrical shell between diaphragms", "3-D elasticity, exact Fourier", "72 x 36 quads", 1e-2)
def _():
    shape = {"radius": 0.254, "length": 0.613, "thickness": 0.0213, "divisions": [72, 36]}
    a = hk.Assembly().material("m", **ALUMINIUM).part("c", cylinder=shape, material="m")
    a.support("low", at=edge([0, 0, 0], "z"), hold=["x", "y"]).support(
        "high", at=edge([0, 0, 0.613], "z"), hold=["x", "y"]
    )
    return elastic(a, 11)[:10], list(np.repeat([877.097, 911.483, 1329.95, 1604.41, 1732.64], 2))


def prism(divisions, **keys) -> hk.Assembly:
    shape = {"corner": [0, 0, 0], "sides": np.diag([1.193, 0.113, 0.081]).tolist(), "divisions": divisions, **keys}
    a = hk.Assembly().material("m", **ALUMINIUM).part("b", box=shape, material="m")
    return a.support("root", at=edge([0, 0, 0], "x"), hold=["x", "y", "z"])


SLENDER = [47.1863, 65.544, 289.462, 394.525, 576.356, 785.122, 1043.5, 1077.28, 1474.89, 1729.43]


@case("slender cantilever prism", "3-D elasticity, converged Ritz", "24 x 4 x 4 bricks of 20 nodes", 4e-3)
def _():
    return elastic(prism([24, 4, 4], quadratic=True), 10), SLENDER


@case("slender cantilever prism", "3-D elasticity, converged Ritz", "48 x 8 x 8 bricks of 8 nodes", 1e-2)
def _():
    return elastic(prism([48, 8, 8]), 10), SLENDER


@case("slender cantilever prism", "3-D elasticity, converged Ritz", "30 x 3 x 3 x 6 tetrahedra of 10 nodes", 7e-3)
def _():
    return elastic(prism([30, 3, 3], cells="tetrahedra", quadratic=True), 10), SLENDER


FREE = [9814.23, 12271.8, 14796, 17779.2, 18736.3, 18776.9, 19481.3, 20791.3, 22536.4, 22747.1]


@case("free block", "3-D elasticity, converged Ritz", "8 x 6 x 4 bricks of 20 nodes", 1e-3)
def _():
    sides = np.diag([0.1313, 0.0973, 0.0617]).tolist()
    shape = {"corner": [0, 0, 0], "sides": sides, "divisions": [8, 6, 4], "quadratic": True}
    return elastic(hk.Assembly().material("m", **STEEL).part("b", box=shape, material="m"), 16)[:10], FREE


@case("residual shock spectrum of a half-sine", "4x cos(πx) / (1 - 4x²), x = f T", "20,000 samples", 1e-6)
def _():
    t = np.linspace(0.0, 0.01, 20_001)
    x = np.array([0.1, 0.3, 0.8, 1.2, 1.9])
    found = [hk.shock((t, np.sin(np.pi * t / 0.01)), low=f, high=1.01 * f, per_octave=1, damping=0.0) for f in x / 0.01]
    return [float(s.values("residual")[0, 0]) for s in found], np.abs(
        4 * x * np.cos(np.pi * x) / (1 - 4 * x**2)
    ).tolist()


@case("peak of a pulse by CQC over the peak in time", "one mode: 1", "mass on a spring", 2e-5)
def _():
    a = hk.Assembly().point("p", [0, 0, 0]).mass("m", at="p", mass=10.0)
    a.spring("k", between=["ground", "p"], stiffness=4000.0, axis="x").support("guide", at="p", hold=["y", "z"])
    a.gauge("force", force="k").damping(0.03)
    a.event("jolt", pulse={"x": {"triangle": {"peak": "4 g", "duration": "60 ms"}}})
    return [float(a.modes(1).conservatism("jolt")["cqc_over_time"].iloc[0])], [1.0]


def sprung() -> hk.Assembly:
    """A mass of 10 kg on a spring of 4000 N/m, without damping, and a push on it."""
    a = hk.Assembly().point("p", [0, 0, 0]).mass("m", at="p", mass=10.0).damping(0.0)
    a.spring("k", between=["ground", "p"], stiffness=4000.0, axis="x").support("guide", at="p", hold=["y", "z"])
    return a.gauge("force", force="k").load("push", at="p", force=[40, 0, 0])


@case("load that is put on suddenly, or over 0.5 to 2.5 periods", "1 + abs(sin πr) / πr", "mass on a spring", 1e-8)
def _():
    modes, period = sprung().modes(1), 2.0 * np.pi * np.sqrt(10.0 / 4000.0)
    ratios = [0.5, 1.5, 2.5]
    shapes = [{"step": {}}, *({"ramp": {"rise": r * period}} for r in ratios)]
    found = [modes.respond({"loads": {"push": s}, "ring down": 2.0}).result.peaks[0] / 40.0 for s in shapes]
    return found, [2.0, *(1 + abs(np.sin(np.pi * r)) / (np.pi * r) for r in ratios)]


@case("clamped beam: one end moved and tilted, and its weight", "slope deflection with shear", "24 beams", 1e-6)
def _():
    a = beam(0.943, BAR, ALUMINIUM, start="all", end="all", divisions=24)
    a.gauge("f", reaction="left", axis="z").gauge("m", reaction_moment="left", axis="y")
    a.load("moved", supports="right", move={"z": -2e-3}).load("tilted", supports="right", move={"ry": 1e-3})
    a.load("weight", gravity="-z")
    E, G, A, I, L = 71.3e9, 71.3e9 / 2.66, 0.0415 * 0.0785, 0.0415 * 0.0785**3 / 12, 0.943  # noqa: E741
    phi = 12 * E * I / (5 / 6 * G * A * L**2)
    found = [a.static({"static": n}).result.peaks for n in ("moved", "tilted", "weight")]
    shear = 12 * E * I * 2e-3 / (L**3 * (1 + phi))
    far = (2 - phi) / (1 + phi) * E * I / L * 1e-3
    return [float(found[0][0]), abs(float(found[0][1])), abs(float(found[1][1])), float(found[2][0])], [
        shear, shear * L / 2, far, 2713.0 * A * L * 9.80665 / 2
    ]  # fmt: skip


@case("groups of supports: two ends of a mass on two springs", "Γ of each group by hand", "one mass", 1e-9)
def _():
    a = hk.Assembly().damping(0.02)
    for name, x in (("a", 0.0), ("p", 0.1), ("b", 0.2)):
        a.point(name, [x, 0, 0])
    a.mass("m", at="p", mass=3.0).support("guide", at="p", hold=["y", "z"]).support("one", at="a", hold="all")
    a.spring("ka", between=["a", "p"], stiffness=2e4, axis="x").spring(
        "kb", between=["p", "b"], stiffness=1e4, axis="x"
    )
    a.support("two", at="b", hold="all").gauge("u", displacement="p", axis="x")
    flat = {n: {"frequency": [1, 100], "acceleration": [s, s]} for n, s in (("one", 6.0), ("two", 9.0))}
    groups = {n: {"supports": n, "spectrum": {"x": flat[n]}} for n in flat}
    modes, found = a.modes(1), []
    for rule in ("absolute", "srss", "algebraic"):
        found.append(modes.respond({"support spectra": groups, "over supports": rule}).result.peaks[0])
    w2 = 3e4 / 3.0
    one, two = 2 / 3 * 6.0 / w2, 1 / 3 * 9.0 / w2
    return [float(v) for v in found], [one + two, float(np.hypot(one, two)), one + two]


def swept_beam(eta: float, c: float) -> hk.SweepAnswer:
    """A pinned beam shaken at 0.3 of its span, read at 0.6, with a loss factor and a damper to the ground at 0.3."""
    a = beam(2.0, {"rectangle": {"width": 0.03, "height": 0.008}}, {"E": 70e9, "nu": 0.3, "density": 2700.0},
             start=["x", "z"], end="z", suppress=["y", "rx", "rz"], theory="euler")  # fmt: skip
    a.point("at", [0.6, 0, 0]).point("read", [1.2, 0, 0]).damping({"loss factor": eta})
    a = a.changed({"parts": {"beam": {"beam": {"through": ["a", "at", "read", "b"]}}}})
    if c:
        a.spring("damper", between=["at", "ground"], damping=c, axis="z")
    a.load("push", at="at", force=[0, 0, 1]).gauge("moves", displacement="read", axis="z")
    return a.event("sweep", sweep=[3, 60], loads={"push": 1.0}).modes(12).respond("sweep")


def receptance(x: float, y: float, s, eta: float):
    """Of the same beam as a continuum between two shares x ≤ y of its span, at s = iω (any complex s)."""
    mass, stiff = 2700 * 0.03 * 0.008, 70e9 * 0.03 * 0.008**3 / 12 * (1 + 1j * eta)
    b = (-mass * s**2 / stiff + 0j) ** 0.25 * 2.0
    y, x = 1 - y, x
    return (
        2.0**3
        / (2 * stiff * b**3)
        * (np.sin(b * y) * np.sin(b * x) / np.sin(b) - np.sinh(b * y) * np.sinh(b * x) / np.sinh(b))
    )


def swept_exactly(eta: float, c: float, f: np.ndarray) -> np.ndarray:
    s = 2j * np.pi * f
    return receptance(0.3, 0.6, s, eta) / (1 + c * s * receptance(0.3, 0.3, s, eta))


@case(
    "sweep: continuous beam, E (1 + iη)", "closed form (receptance)", "40 beams, 12 modes; amplitudes at 3 peaks", 1e-4
)
def _():
    answer = swept_beam(0.02, 0.0)
    table = answer.resonances().query("kind == 'peak'")
    f = table["frequency_hz"].to_numpy()
    return 1e-3 * table["peak"].to_numpy(), np.abs(swept_exactly(0.02, 0.0, f))


@case("sweep: the same with a damper along the span", "closed form (receptances coupled)",
      "40 beams, 12 modes and a static shape; amplitudes at the peaks", 1e-4)  # fmt: skip
def _():
    answer = swept_beam(0.02, 20.0)
    table = answer.resonances().query("kind == 'peak'")
    f = table["frequency_hz"].to_numpy()
    return 1e-3 * table["peak"].to_numpy(), np.abs(swept_exactly(0.02, 20.0, f))


@case("damped modes of that beam", "roots of 1 + c s α(s)", "40 beams, 12 modes and a static shape; 3 poles", 2e-6)
def _():
    damped = swept_beam(0.0, 20.0).modes.damped()
    exact = []
    for start in damped.poles[:3]:
        s, d = complex(start) * (1 + 1e-3j), 1e-6  # Newton's method from beside it, on the continuum's own equation
        for _ in range(60):
            g = [1 + 20.0 * z * receptance(0.3, 0.3, z, 0.0) for z in (s * (1 - d), s, s * (1 + d))]
            s -= g[1] * 2 * d * s / (g[2] - g[0])
        exact.append(s)
    found, roots = damped.poles[:3], np.array(exact)
    return [*np.abs(found), *(-found.real / np.abs(found))], [*np.abs(roots), *(-roots.real / np.abs(roots))]


@case("half-power bandwidth and peak of one mass", "closed form", "a mass on a spring, 1 % of critical", 1e-6)
def _():
    k, zeta = 3.0 * (2 * np.pi * 10) ** 2, 0.01
    a = hk.Assembly().damping(zeta).point("p", [0, 0, 0]).mass("m", at="p", mass=3.0)
    a.spring("k", between=["p", "ground"], stiffness=k, axis="x").support("guide", at="p", hold=["y", "z"])
    a.gauge("moves", displacement="p", axis="x").load("push", at="p", force=[1, 0, 0])
    row = a.event("sweep", sweep=[5, 20], loads={"push": 1.0}).modes().respond("sweep").peaks().iloc[0]
    top = 1 / (2 * zeta * np.sqrt(1 - zeta**2))
    low, high = (np.sqrt(1 - 2 * zeta**2 + sign * 2 * zeta * np.sqrt(1 - zeta**2)) for sign in (-1, 1))
    return ([1e-3 * row["peak"] * k, row["frequency_hz"], row["bandwidth_hz"]],
            [top, 10 * np.sqrt(1 - 2 * zeta**2), 10 * (high - low)])  # fmt: skip


@case("tuned damper on an undamped mass, least of the largest", "Nishihara & Asami 2002 (exact optimum)",
      "mass ratio 10 %: tuning, damping ratio", 2e-3)  # fmt: skip
def _():
    mu = 0.1
    a = hk.Assembly().damping(0.0).point("p", [0, 0, 0]).mass("m", at="p", mass=100.0)
    a.spring("k", between=["p", "ground"], stiffness=100.0 * (2 * np.pi * 5) ** 2, axis="x")
    a.support("guide", at="p", hold=["y", "z"])
    best = a.modes().tune("p", "x", ratio=mu).result.best
    root = np.sqrt(4 + 3 * mu)
    tuning = (
        2 / (1 + mu) * np.sqrt(2 * (16 + 23 * mu + 9 * mu**2 + 2 * (2 + mu) * root) / (3 * (64 + 80 * mu + 27 * mu**2)))
    )
    return [best.frequency_hz / 5, best.ratio], [tuning, np.sqrt((8 + 9 * mu - 4 * root) / (1 + mu)) / 4]


# -- states ----------------------------------------------------------------------------------------------------


def stated(a: hk.Assembly, **keys) -> hk.Assembly:
    own = {k.replace("_", " "): v for k, v in keys.items()}
    return a.changed({"states": {"held": own}, "state": "held"})


SQUARE = {"rectangle": {"width": 0.018, "height": 0.018}}
SQUARE_EI = BENCH["E"] * 0.018**4 / 12


@case("taut wire with bending stiffness, tension given", "Timoshenko, Young & Weaver 1974, ch. 5", "40 beams", 1e-5)
def _():
    length, d, pull = 1.7, 3e-3, 800.0
    a = beam(length, {"rod": {"diameter": d}}, BENCH, theory="euler")
    a.support("ends", at=["a", "b"], hold=["x", "y", "z", "rx"])
    n, area, stiff = np.arange(1, 6), np.pi * d**2 / 4, BENCH["E"] * np.pi * d**4 / 64
    exact = n / 2 / length * np.sqrt(pull / (BENCH["density"] * area) * (1 + (n * np.pi / length) ** 2 * stiff / pull))
    return stated(a, tension={"beam": pull}).modes(10).frequencies_hz[::2], exact


@case("columns: free, pinned, propped, guided; load of buckling in N", "Euler", "20 beams", 5e-5)
def _():
    found, exact = [], []
    full, rest = ["x", "y", "z", "rx", "ry", "rz"], ["y", "z", "rx", "ry", "rz"]
    for start, end, factor in (
        (full, (), 0.25), (["x", "y", "z", "rx"], ["y", "z"], 1.0), (full, ["y", "z"], 2.0457483), (full, rest, 4.0),
    ):  # fmt: skip
        a = beam(0.9, SQUARE, BENCH, start=start, end=end, divisions=20, theory="euler")
        a.load("push", at="b", force=[-1000.0, 0, 0])
        found.append(1000.0 * stated(a, loads="push").rest().buckling(1).factors[0])
        exact.append(factor * np.pi**2 * SQUARE_EI / 0.9**2)
    return found, exact


@case(
    "square plate held all round and heated; factor of π² D / a² per length",
    "Timoshenko & Gere 1961, ch. 9",
    "28 x 28 shells",
    1e-2,
)
def _():
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
    return stated(a, temperature={"p": warm}).rest().buckling(2).factors * force * side**2 / (np.pi**2 * stiff), [
        2.0,
        5.0,
    ]


@case(
    "ring under pressure that follows; factor of E I / R³",
    "Levy 1884; Timoshenko & Gere 1961, ch. 7",
    "96 shells around",
    8e-3,
)
def _():
    R, t = 0.4, 0.008
    a = hk.Assembly().material("m", **BENCH)
    a.part("r", cylinder={"radius": R, "length": 0.02, "divisions": [96, 1], "thickness": t}, material="m")
    a.load("p", pressure=1e4, on={"part": "r"}, towards="-normal", following=True)
    a.support("flat", at={"part": "r"}, hold=["z"])
    for name, x, hold in (("r", R, ["x", "y"]), ("l", -R, ["y"])):
        a.support(name, at={"part": "r", "box": [[x - 1e-4, -1e-4, -1], [x + 1e-4, 1e-4, 1]]}, hold=hold)
    found = stated(a, loads="p").rest().buckling(4).factors * 1e4 * R**3 / (BENCH["E"] * t**3 / 12)
    return found, [3.0, 3.0, 8.0, 8.0]


@case(
    "strip under end moments, tipping over sideways; moment in N m", "Timoshenko & Gere 1961, ch. 6", "32 beams", 3e-3
)
def _():
    a = beam(1.1, {"rectangle": {"width": 0.004, "height": 0.05}}, BENCH, start=["x", "y", "z", "rx"],
             end=["y", "z", "rx"], divisions=32, theory="euler")  # fmt: skip
    a.load("m", at="a", moment=[0, 10.0, 0]).load("n", at="b", moment=[0, -10.0, 0])
    s = a.system.elements[0].section
    exact = np.pi / 1.1 * np.sqrt(BENCH["E"] * s.Iz * BENCH["E"] / 2.6 * s.J)
    return [10.0 * stated(a, loads=["m", "n"]).rest().buckling(1).factors[0]], [exact]


@case("compound pendulum, by a rigid link", "√(m g d / I)", "a point mass", 1e-9)
def _():
    a = hk.Assembly().point("p", [0, 0, 0]).point("c", [0, 0, -0.35])
    a.mass("body", at="c", mass=2.6, inertia=[0.02, 0.024, 0.01]).link("arm", rigid="p", to=["c"])
    a.support("hinge", at="p", hold=["x", "y", "z", "rx", "rz"]).load("weight", gravity="-z")
    exact = np.sqrt(2.6 * 9.80665 * 0.35 / (0.024 + 2.6 * 0.35**2)) / (2 * np.pi)
    return stated(a, loads="weight").modes(1).frequencies_hz, [exact]


@case("overhanging beam on one-way props: forces in N, gap in mm", "beam formulas", "24 beams", 1e-8)
def _():
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
    feet = stated(a, loads="tip").rest().feet().set_index("support")
    lift = push * over * (length / 2) * (length**2 - length**2 / 4) / (6 * SQUARE_EI * length)
    found = [feet.loc["prop c", "force_n"], feet.loc["prop b", "gap_mm"]]
    return found, [push * (length + over) / length, 1e3 * lift]


@case(
    "cantilever bent far, P L² / E I = 10: tip in mm",
    "Mattiasson, IJNME 17 (1981) 145-153",
    "20 beams, 5 load steps",
    1e-4,
)
def _():
    a = beam(1.0, {"rectangle": {"width": 0.02, "height": 0.01}}, BENCH, start="all", divisions=20, theory="euler")
    stiff = BENCH["E"] * 0.02 * 0.01**3 / 12
    a.load("bend", at="b", force=[0, 0, 10 * stiff])
    tip = stated(a, loads="bend", load_steps=5).rest().points().set_index("point").loc["b"]
    return [-tip["x_mm"], tip["z_mm"]], [555.00, 810.61]


@case("cable 5 % longer than its span: sag in mm", "catenary", "40 beams, by load steps", 5e-4)
def _():
    from scipy.optimize import brentq

    span, length = 2.4, 2.52
    a = beam(span, {"rod": {"diameter": 6e-5}}, BENCH, start=["x", "y", "z", "rx"], end=["x", "y", "z", "rx"],
             theory="euler")  # fmt: skip
    a = a.changed({"parts": {"beam": {"beam": {"goes slack": True}}}}).load("weight", gravity="-z")
    rest = stated(a, loads="weight", shortening={"beam": span - length}, load_steps=1).rest()
    c = brentq(lambda c: 2 * c * np.sinh(span / 2 / c) - length, 0.1, 50)
    return [-1e3 * rest.state.displacement.reshape(-1, 6)[:, 2].min()], [1e3 * c * (np.cosh(span / 2 / c) - 1)]
