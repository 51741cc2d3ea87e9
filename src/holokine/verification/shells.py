"""Plates, membranes, laminates, cylindrical shells."""

from __future__ import annotations

from typing import Any

import numpy as np

import holokine as hk
from holokine.verification.cases import ALUMINIUM, BENCH, Figures, case, edge, elastic


def plate(material: dict[str, Any], a: float, b: float, h: float, divisions: list[int], **keys: Any) -> hk.Assembly:
    shape = {"corner": [0, 0, 0], "sides": [[a, 0, 0], [0, b, 0]], "divisions": divisions, "thickness": h, **keys}
    return hk.Assembly().material("m", **material).part("p", plate=shape, material="m")


def simply_supported(p: hk.Assembly, a: float, b: float) -> hk.Assembly:
    p.support("x0", at=edge([0, 0, 0], "x"), hold=["z", "rx"]).support("x1", at=edge([a, 0, 0], "x"), hold=["z", "rx"])
    p.support("y0", at=edge([0, 0, 0], "y"), hold=["z", "ry"]).support("y1", at=edge([0, b, 0], "y"), hold=["z", "ry"])
    return p.support("membrane", at={"part": "p"}, hold=["x", "y", "rz"])


THIN = [17.842, 44.5988, 44.5988, 71.3481, 89.1769, 89.1769, 115.914, 115.914, 151.551, 151.551]


@case("thin plate, hard simple support", "Mindlin theory, closed form", "32 x 32 quads", 5e-3)
def _() -> Figures:
    return elastic(simply_supported(plate(ALUMINIUM, 1.37, 1.37, 0.0068, [32, 32]), 1.37, 1.37), 10), THIN


@case("thin plate, hard simple support", "Mindlin theory, closed form", "2 x 32 x 32 triangles", 5e-3)
def _() -> Figures:
    p = plate(ALUMINIUM, 1.37, 1.37, 0.0068, [32, 32], cells="triangles")
    return elastic(simply_supported(p, 1.37, 1.37), 10), THIN


@case("thick plate, hard simple support", "Mindlin theory, closed form", "32 x 32 quads", 5e-3)
def _() -> Figures:
    exact = [365.497, 677.109, 1053.77, 1159.05, 1329.08, 1760.73, 1771.55, 2041.55, 2275.92, 2317.97]
    return elastic(simply_supported(plate(ALUMINIUM, 1.71, 1.13, 0.137, [32, 32]), 1.71, 1.13), 10), exact


@case("thick square plate, shear factor pi²/12", "Mindlin theory, closed form", "32 x 32 quads", 5e-3)
def _() -> Figures:
    exact = [45.8951, 109.444, 109.444, 167.886, 204.513, 204.513, 256.502, 256.502, 321.173, 321.173]
    p = plate(BENCH, 10, 10, 1.0, [32, 32], shear_factor=np.pi**2 / 12)
    return elastic(simply_supported(p, 10, 10), 10), exact


@case("cantilever plate", "thin plate theory, converged Ritz", "40 x 30 quads", 5e-3)
def _() -> Figures:
    p = plate({"E": 206e9, "nu": 0.3, "density": 7830}, 1.43, 0.97, 0.0051, [40, 30])
    p.support("root", at=edge([0, 0, 0], "x"), hold="all")
    return elastic(p, 8), [2.12817, 7.08154, 13.2254, 23.9523, 32.068, 37.847, 49.0548, 51.4567]


@case("free square plate", "thin plate theory, converged Ritz", "32 x 32 quads", 5e-3)
def _() -> Figures:
    p = plate(BENCH, 10, 10, 0.05, [32, 32]).support("membrane", at={"part": "p"}, hold=["x", "y", "rz"])
    return elastic(p, 10), [1.62165, 2.3595, 2.92228, 4.19024, 4.19024, 7.356, 7.356]


@case("plate under biaxial tension", "thin plate theory, closed form", "36 x 24 quads", 5e-3)
def _() -> Figures:
    p = plate(ALUMINIUM, 1.71, 1.13, 0.0073, [36, 24], tension=[21700, 21700])
    return elastic(simply_supported(p, 1.71, 1.13), 6), [26.7823, 45.6569, 69.6646, 76.6493, 88.1948, 119.018]


@case("tapered membrane in its plane", "plane stress, converged Ritz", "64 x 32 quads", 2e-3)
def _() -> Figures:
    corners = [[0, -2.5, 0], [10, -0.5, 0], [10, 0.5, 0], [0, 2.5, 0]]
    shape = {"corners": corners, "divisions": [64, 32], "thickness": 0.05}
    a = hk.Assembly().material("m", **BENCH).part("p", plate=shape, material="m")
    a.support("root", at=edge([0, 0, 0], "x"), hold="all").support("plane", at={"part": "p"}, hold=["z", "rx", "ry"])
    return elastic(a, 6), [44.617, 130.009, 162.689, 245.986, 379.717, 391.404]


@case("thin plate, hard simple support", "Mindlin theory, closed form", "16 x 16 quads of 9 nodes", 1e-3)
def _() -> Figures:
    return elastic(
        simply_supported(plate(ALUMINIUM, 1.37, 1.37, 0.0068, [16, 16], quadratic=True), 1.37, 1.37), 10
    ), THIN


@case("thin plate, hard simple support", "Mindlin theory, closed form", "512 triangles of 6 nodes", 1e-3)
def _() -> Figures:
    p = plate(ALUMINIUM, 1.37, 1.37, 0.0068, [16, 16], cells="triangles", quadratic=True)
    return elastic(simply_supported(p, 1.37, 1.37), 10), THIN


@case("cantilever plate", "thin plate theory, converged Ritz", "20 x 15 quads of 9 nodes", 1e-3)
def _() -> Figures:
    p = plate({"E": 206e9, "nu": 0.3, "density": 7830}, 1.43, 0.97, 0.0051, [20, 15], quadratic=True)
    p.support("root", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
    return elastic(p, 8), [2.12817, 7.08154, 13.2254, 23.9523, 32.068, 37.847, 49.0548, 51.4567]


@case("cylindrical shell between diaphragms", "3-D elasticity, exact Fourier", "48 x 12 quads of 9 nodes", 2.1e-3)
def _() -> Figures:
    shape = {"radius": 0.254, "length": 0.613, "thickness": 0.0213, "divisions": [48, 12], "quadratic": True}
    a = hk.Assembly().material("m", **ALUMINIUM).part("c", cylinder=shape, material="m")
    for name, z in (("low", 0), ("high", 0.613)):
        a.support(name, at={"plane": {"at": [0, 0, z], "normal": "z"}}, hold=["x", "y"])
    return elastic(a, 17)[:16], np.repeat([877.097, 911.483, 1329.95, 1604.41, 1732.64, 1915.17, 1970.12, 2013.71], 2)


@case("circular plate by its outline, simply supported", "thin plate theory, Bessel roots", "quads and triangles", 3e-3)
def _() -> Figures:
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
def _() -> Figures:
    ply: dict[str, Any] = {"orthotropic": {"E": ["138 GPa", "9 GPa", "9 GPa"], "G": ["7.1 GPa", "2.8 GPa", "7.1 GPa"],
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
    plies: Any = a.system.elements[0]
    shear = plies.laminate.transverse
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
def _() -> Figures:
    shape = {"radius": 0.254, "length": 0.613, "thickness": 0.0213, "divisions": [72, 36]}
    a = hk.Assembly().material("m", **ALUMINIUM).part("c", cylinder=shape, material="m")
    a.support("low", at=edge([0, 0, 0], "z"), hold=["x", "y"]).support(
        "high", at=edge([0, 0, 0.613], "z"), hold=["x", "y"]
    )
    return elastic(a, 11)[:10], list(np.repeat([877.097, 911.483, 1329.95, 1604.41, 1732.64], 2))
