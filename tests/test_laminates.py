"""Laminates against closed forms, quadratic shells against references, curved shells, membrane preload by direction."""

from __future__ import annotations

import numpy as np
import pytest

import holokine as hk
from conftest import ALUMINIUM, STEEL, elastic
from holokine.elements.laminate import Laminate, Ply, turned_in_plane
from holokine.errors import DescriptionError
from holokine.mesh.files import write_mesh
from holokine.mesh.mesh import Mesh
from test_elements import C05A, SHELLS, distorted, plate, simply_supported

PLY = {"orthotropic": {"E": ["138 GPa", "9 GPa", "9 GPa"], "G": ["7.1 GPa", "2.8 GPa", "7.1 GPa"],
                       "nu": [0.3, 0.45, 0.0195652]}, "density": 1580.0}  # fmt: skip
Q = np.linalg.inv(np.array([[1 / 138e9, -0.3 / 138e9, 0], [-0.3 / 138e9, 1 / 9e9, 0], [0, 0, 1 / 7.1e9]]))


def layered(layers, sides=(1.0, 0.7), divisions=(12, 10), quadratic=True, axes=None, **keys) -> hk.Assembly:
    a = hk.Assembly().material("ply", **PLY).material("core", E=60e6, nu=0.3, density=75.0)
    a.material("steel", **STEEL)
    shape = {"corner": [0, 0, 0], "sides": [[sides[0], 0, 0], [0, sides[1], 0]], "divisions": list(divisions),
             "quadratic": quadratic, "layers": layers, **keys}  # fmt: skip
    return a.part("plate", plate=shape, **({} if axes is None else {"axes": axes}))


def plies(angles, t=0.002, material="ply"):
    return [{"thickness": t, "material": material, "angle": f"{a} deg"} for a in angles]


def hung(a: hk.Assembly, sides=(1.0, 0.7)) -> hk.Assembly:
    """All edges hinged, free to move along their normal: what closed forms of cross-ply laminates ask."""
    across, along = ["z", "rx", "y"], ["z", "ry", "x"]
    for name, at, normal, hold in (("x0", 0, "x", across), ("x1", sides[0], "x", across),
                                   ("y0", 0, "y", along), ("y1", sides[1], "y", along)):  # fmt: skip
        place = [at, 0, 0] if normal == "x" else [0, at, 0]
        a.support(name, at={"plane": {"at": place, "normal": normal}}, hold=hold)
    return a


def navier(A, B, D, S, inertia, sides, m, n) -> float:
    """Lowest frequency of one half-wave pair of a hinged cross-ply plate (Reddy, *Laminated Plates*, ch. 5)."""
    a, b = m * np.pi / sides[0], n * np.pi / sides[1]
    # u = cos sin, v = sin cos, w = sin sin, turns of the normal φx = cos sin, φy = sin cos
    grad = np.array([[-a, 0], [0, -b], [b, a]])  # strains of (u, v): xx, yy ~ sin sin, xy ~ cos cos
    K = np.zeros((5, 5))
    K[:2, :2], K[3:, 3:] = grad.T @ A @ grad, grad.T @ D @ grad
    K[:2, 3:] = grad.T @ B @ grad
    K[3:, :2] = K[:2, 3:].T
    shear = np.array([[a, 1, 0], [b, 0, 1]])  # (w, φx, φy)
    K[2:, 2:] += shear.T @ S @ shear
    areal, first, rotary = inertia
    M = np.diag([areal, areal, areal, rotary, rotary])
    M[0, 3] = M[3, 0] = M[1, 4] = M[4, 1] = first
    return float(np.sqrt(np.min(np.linalg.eigvals(np.linalg.solve(M, K)).real)) / 2 / np.pi)


@pytest.mark.parametrize("angles", [(0, 90, 90, 0), (0, 90), (90, 0, 0)])
def test_cross_ply_plates_against_navier(angles):
    """Symmetric and not: coupling of membrane and bending, first moment of mass where the layers differ."""
    a = hung(layered(plies(angles)))
    laminate = a.system.elements[0].laminate
    z = 0.002 * (np.arange(len(angles) + 1) - len(angles) / 2)
    turned = [Q if angle == 0 else Q[np.ix_([1, 0, 2], [1, 0, 2])] for angle in angles]
    A, B, D = (sum((z[k + 1] ** p - z[k] ** p) / p * T for k, T in enumerate(turned)) for p in (1, 2, 3))
    np.testing.assert_allclose(laminate.stretching, A, rtol=1e-12, atol=1e-6)
    np.testing.assert_allclose(laminate.coupling, B, rtol=1e-9, atol=1e-9 * np.abs(A).max() * 0.002)
    np.testing.assert_allclose(laminate.bending, D, rtol=1e-12, atol=1e-12)
    h = 0.002 * len(angles)
    inertia = (1580 * h, 0.0, 1580 * h**3 / 12)
    expected = sorted(navier(A, B, D, laminate.transverse, inertia, (1.0, 0.7), m, n)
                      for m in range(1, 6) for n in range(1, 6))[:4]  # fmt: skip
    np.testing.assert_allclose(a.modes(4).frequencies_hz, expected, rtol=2e-3)
    coarse = hung(layered(plies(angles), divisions=(30, 24), quadratic=False))  # four nodes, 15 a wave
    np.testing.assert_allclose(coarse.modes(4).frequencies_hz, expected, rtol=1.2e-2)


def test_unlike_layers_move_the_middle_of_mass_and_bend_together():
    """Steel on a light core: the first moment of mass and the coupling, against Navier and against bricks."""
    layers = [{"thickness": 0.004, "material": "steel"}, {"thickness": 0.012, "material": "core"}]
    a = hung(layered(layers))
    laminate = a.system.elements[0].laminate
    assert laminate.inertia[1] == pytest.approx(7830 * 0.004 * -0.006 + 75 * 0.012 * 0.002)
    L = laminate
    expected = sorted(
        navier(L.stretching, L.coupling, L.bending, L.transverse, L.inertia, (1.0, 0.7), m, n)
        for m in range(1, 5)
        for n in range(1, 5)
    )[:4]
    np.testing.assert_allclose(a.modes(4).frequencies_hz, expected, rtol=1e-3)
    assert a.check().report.totals.centre[2] == pytest.approx(L.inertia[1] / L.inertia[0])


def test_sandwich_beam_against_bricks():
    """Face, soft core, face: shear of the core carries; one brick a layer through the thickness, quadratic."""
    f, c, length, width = 0.001, 0.02, 0.6, 0.06
    layers = [{"thickness": f, "material": "steel"}, {"thickness": c, "material": "core"}]
    a = layered([*layers, layers[0]], sides=(length, width), divisions=(16, 2))
    a.support("root", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
    half = layered([layers[0], {"thickness": c / 2, "material": "core"}], sides=(length, width), divisions=(16, 2),
                   symmetric=True)  # fmt: skip
    half.support("root", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
    np.testing.assert_allclose(half.modes(4).frequencies_hz, a.modes(4).frequencies_hz, rtol=1e-9)
    solid = hk.Assembly().material("core", E=60e6, nu=0.3, density=75.0).material("steel", **STEEL)
    for name, low, t, n, material in (("lower", -c / 2 - f, f, 1, "steel"), ("middle", -c / 2, c, 4, "core"),
                                      ("upper", c / 2, f, 1, "steel")):  # fmt: skip
        box = {"corner": [0, 0, low], "sides": [[length, 0, 0], [0, width, 0], [0, 0, t]], "divisions": [40, 4, n],
               "quadratic": True}  # fmt: skip
        solid.part(name, box=box, material=material)
    solid.support("root", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold=["x", "y", "z"])
    np.testing.assert_allclose(a.modes(2).frequencies_hz, solid.modes(2).frequencies_hz, rtol=1.5e-2)
    shear = a.system.elements[0].laminate.transverse
    np.testing.assert_allclose(shear, 60e6 / 2.6 * (c + f) ** 2 / c * np.eye(2), rtol=3e-3)  # of the core alone


def test_one_layer_is_a_plate_and_many_equal_ones_too():
    whole = simply_supported(plate(ALUMINIUM, 1.0, 0.7, 0.02, [10, 8], quadratic=True), 1.0, 0.7).modes(4)
    for count in (1, 4):
        a = hk.Assembly().material("m", **ALUMINIUM)
        shape = {"corner": [0, 0, 0], "sides": [[1.0, 0, 0], [0, 0.7, 0]], "divisions": [10, 8], "quadratic": True}
        a.part("plate", plate={**shape, "layers": [{"thickness": 0.02 / count}] * count}, material="m")
        np.testing.assert_allclose(
            simply_supported(a, 1.0, 0.7).modes(4).frequencies_hz, whole.frequencies_hz, rtol=1e-9
        )
    weighed = hk.Assembly().material("m", **ALUMINIUM).material("tar", E=1e9, nu=0.3, density=1300.0)
    layers = [{"thickness": 0.01, "material": "m"}, {"thickness": 0.01, "material": "tar", "carries": False}]
    weighed.part("plate", plate={**shape, "layers": layers})
    assert weighed.check().mass == pytest.approx(0.7 * (27.13 + 13.0))
    stiff = weighed.system.elements[0].laminate
    single = Laminate.single(0.01, stiff.plies[0].own, stiff.plies[0].shear, 2713.0)
    np.testing.assert_allclose(stiff.stretching, single.stretching, rtol=1e-12)
    shift = 0.005  # parallel axes: the layer that carries lies below the middle
    np.testing.assert_allclose(stiff.bending, single.bending + shift**2 * single.stretching, rtol=1e-12)
    np.testing.assert_allclose(stiff.transverse, single.transverse, rtol=1e-9)


def test_angle_plies_turn_and_their_stress_is_along_their_own_axes():
    """Stress of a layer is that of the shell turned by its angle; angles of the layer and of the part's axes add up."""
    a = layered(plies([30]), sides=(0.5, 0.1), divisions=(8, 4))
    block = a.system.elements[0]
    own = block.stress_field(a.system.size, surface="middle", layer=1).matrix
    whole = block.stress_field(a.system.size, surface="middle").matrix
    field = np.random.default_rng(3).standard_normal(a.system.size)
    c, s = np.cos(np.pi / 6), np.sin(np.pi / 6)
    x, y, xy = (whole @ field).reshape(-1, 3).T
    turned = np.stack([c * c * x + s * s * y + 2 * c * s * xy, s * s * x + c * c * y - 2 * c * s * xy,
                       c * s * (y - x) + (c * c - s * s) * xy], axis=1)  # fmt: skip
    np.testing.assert_allclose((own @ field).reshape(-1, 3), turned, rtol=1e-9, atol=1e-6 * np.abs(turned).max())
    both = turned_in_plane(turned_in_plane(Q, 0.4), -0.4)
    np.testing.assert_allclose(both, Q, rtol=1e-12, atol=1e-3)
    ply = Ply(0.0, 0.001, Q, np.diag([7.1e9, 2.8e9]), 1580.0, np.pi / 2)
    np.testing.assert_allclose(ply.transverse, np.diag([2.8e9, 7.1e9]), rtol=1e-12, atol=1e-3)
    turned_axes = {"x": [np.cos(np.radians(20)), np.sin(np.radians(20)), 0],
                   "y": [-np.sin(np.radians(20)), np.cos(np.radians(20)), 0]}  # fmt: skip
    np.testing.assert_allclose(layered(plies([30]), axes=turned_axes).modes(10).frequencies_hz[6:],
                               layered(plies([50])).modes(10).frequencies_hz[6:], rtol=1e-9)  # fmt: skip


@pytest.mark.parametrize(("keys", "match"), [
    ({"layers": [], }, "layers"),
    ({"layers": plies([0]), "thickness": 0.01}, "exactly one of thickness, layers"),
    ({"layers": plies([0]), "shear_factor": 0.8}, "leave shear factor out"),
    ({"layers": [{"thickness": 0.001, "carries": False, "material": "steel"}]}, "none of the layers carries"),
    ({"layers": [*plies([0]), {"thickness": 0.001, "carries": False, "material": "core"}, *plies([0])]},
     "lies between two that do"),
    ({"layers": [{"thickness": 0.001}]}, "give a material"),
    ({"layers": [{"thickness": 0.001, "material": "stel"}]}, "steel"),
    ({"layers": [{"thickness": -0.001, "material": "steel"}]}, "thickness"),
])  # fmt: skip
def test_layers_that_cannot_be_are_refused(keys, match):
    with pytest.raises(hk.HolokineError, match=match):
        layered(**keys).check()


def test_what_layers_cannot_answer_is_refused_by_name():
    a = layered([*plies([0]), {"thickness": 0.001, "material": "core", "carries": False}])
    for layer, match in ((3, "layer 3 is not there; it has 2"), (2, "layer 2 carries nothing")):
        b = layered([*plies([0]), {"thickness": 0.001, "material": "core", "carries": False}])
        b.gauge("g", stress="plate", layer=layer)
        with pytest.raises(DescriptionError, match=match):
            _ = b.gauges
    with pytest.raises(DescriptionError, match="material has no effect"):
        hk.Assembly().material("m", **STEEL).part(
            "p", plate={"corner": [0, 0, 0], "sides": [[1, 0, 0], [0, 1, 0]], "size": 0.5,
                        "layers": [{"thickness": 0.001, "material": "m"}]}, material="m").check()  # fmt: skip
    hot = layered(plies([0, 0], material="steel") + plies([0], material="core"))
    hot._data["materials"]["steel"]["expansion"] = 12e-6
    hot._data["materials"]["core"]["expansion"] = 60e-6
    hot.support("s", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
    hot.add_state("warm", temperature={"plate": "30 K"})
    with pytest.raises(DescriptionError, match="expand differently"):
        hot.about("warm").modes(2)
    lossy = layered([*plies([0], material="steel"), *plies([0], material="core")])
    lossy._data["materials"]["core"]["loss factor"] = 0.3
    lossy.support("s", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
    with pytest.raises(DescriptionError, match="layers have different loss factors"):
        lossy.modes(2).damping()
    assert len(a.check().report.pieces) == 1


# -- quadratic shells ----------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("cells", "divisions"), [("quads", 16), ("triangles", 16)])
def test_quadratic_plates_at_half_the_elements(cells, divisions):
    """Every plate of the references within 2e-3, with at most half of the elements that four nodes take."""
    n, keys = divisions, {"cells": cells, "quadratic": True}
    thin = simply_supported(plate(ALUMINIUM, 1.37, 1.37, 0.0068, [n, n], **keys), 1.37, 1.37)
    np.testing.assert_allclose(thin.modes(count=10).frequencies_hz, C05A, rtol=1e-3)
    thick = simply_supported(plate(ALUMINIUM, 1.71, 1.13, 0.137, [n, n], **keys), 1.71, 1.13)
    expected = [365.497, 677.109, 1053.77, 1159.05, 1329.08, 1760.73, 1771.55, 2041.55, 2275.92, 2317.97]
    np.testing.assert_allclose(thick.modes(count=10).frequencies_hz, expected, rtol=1.1e-3)
    cantilever = plate({"E": 206e9, "nu": 0.3, "density": 7830}, 1.43, 0.97, 0.0051, [20, 15], **keys)
    cantilever.support("root", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
    expected = [2.12817, 7.08154, 13.2254, 23.9523, 32.068, 37.847, 49.0548, 51.4567]
    np.testing.assert_allclose(cantilever.modes(count=8).frequencies_hz, expected, rtol=1e-3)
    free = plate({"E": 200e9, "nu": 0.3, "density": 8000}, 10, 10, 0.05, [n, n], **keys)
    free.support("membrane", at={"part": "plate"}, hold=["x", "y", "rz"])
    expected = [1.62165, 2.3595, 2.92228, 4.19024, 4.19024, 7.356, 7.356]
    np.testing.assert_allclose(elastic(free.modes(count=10)), expected, rtol=2e-3)  # shear: 1e-3 below thin theory
    tight = plate(ALUMINIUM, 1.71, 1.13, 0.0073, [16, 12], tension=[21700, 21700], **keys)
    expected = [26.7823, 45.6569, 69.6646, 76.6493, 88.1948, 119.018]
    np.testing.assert_allclose(simply_supported(tight, 1.71, 1.13).modes(count=6).frequencies_hz, expected, rtol=2e-3)
    tapered = hk.Assembly().material("m", E=200e9, nu=0.3, density=8000)
    corners = [[0, -2.5, 0], [10, -0.5, 0], [10, 0.5, 0], [0, 2.5, 0]]
    tapered.part("p", plate={"corners": corners, "divisions": [16, 8], "thickness": 0.05, **keys}, material="m")
    tapered.support("root", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
    tapered.support("plane", at={"part": "p"}, hold=["z", "rx", "ry"])
    expected = [44.617, 130.009, 162.689, 245.986, 379.717, 391.404]
    np.testing.assert_allclose(tapered.modes(count=6).frequencies_hz, expected, rtol=1.1e-3)


@pytest.mark.parametrize("cells", ["quads", "triangles"])
@pytest.mark.parametrize("matrix", ["consistent", "lumped"])
def test_quadratic_plates_converge_with_the_fourth_power(cells, matrix):
    errors = []
    for n in (6, 12):
        p = plate(ALUMINIUM, 1.37, 1.37, 0.0068, [n, n], cells=cells, quadratic=True).mass_matrix(matrix)
        errors.append(np.abs(simply_supported(p, 1.37, 1.37).modes(6).frequencies_hz / C05A[:6] - 1).max())
    order = np.log2(errors[0] / errors[1])
    if matrix == "consistent" or cells == "quads":
        assert order > 3.3  # lumped by the nodes' own quadrature it is kept
    else:
        assert order > 1.7  # six nodes have none
    assert errors[1] < (3e-3 if order > 3.3 else 2e-2)


@pytest.mark.parametrize(("cells", "bound"), [("quads", 2.1e-3), ("triangles", 2.1e-3)])
def test_quadratic_cylinder_between_diaphragms(cells, bound):
    """h/R = 0.08: against three-dimensional elasticity, and the shear-flexible shell of exact metric."""
    a = hk.Assembly().material("m", **ALUMINIUM)
    shape = {"radius": 0.254, "length": 0.613, "thickness": 0.0213, "divisions": [48, 12], "quadratic": True}
    a.part("c", cylinder={**shape, "cells": cells}, material="m")
    for name, z in (("low", 0), ("high", 0.613)):
        a.support(name, at={"plane": {"at": [0, 0, z], "normal": "z"}}, hold=["x", "y"])
    found = elastic(a.modes(count=17))[:16]
    elasticity = np.repeat([877.097, 911.483, 1329.95, 1604.41, 1732.64, 1915.17, 1970.12, 2013.71], 2)
    np.testing.assert_allclose(found, elasticity, rtol=bound)
    shell = np.repeat([879.517, 913.284, 1330.66, 1604.52, 1736.55, 1918.16, 1969.54, 2011.96], 2)
    np.testing.assert_allclose(found, shell, rtol=3.5e-3)


def mapped(folder, f, divisions, t, material, **keys) -> hk.Assembly:
    """A plate's grid over the unit square brought to a surface, through a mesh file."""
    start = plate({**STEEL}, 1, 1, 0.1, list(divisions), **keys).system.mesh
    path = folder / "surface.vtu"
    write_mesh(path, Mesh(f(start.nodes[:, 0], start.nodes[:, 1]), start.blocks, {}))
    a = hk.Assembly().material("m", **material)
    return a.part("p", mesh={"file": str(path), "shell": {"thickness": t}}, material="m")


def moved(a: hk.Assembly, at, axis: str, loads: dict) -> float:
    a.gauge("w", displacement={"nearest": list(at)}, axis=axis)
    return float(a.respond({"static": loads}).table("peaks")["value"].iloc[0])


@pytest.mark.parametrize(
    ("cells", "quadratic", "n"), [("quads", False, 16), ("quads", True, 8), ("triangles", True, 10)]
)
def test_curved_shells_at_rest(tmp_path, cells, quadratic, n):
    """Cylindrical roof, hemisphere and twisted strip of MacNeal & Harder (Finite Elements in Analysis and Design 1
    (1985) 3-20); deep-shell values where their targets were of shallow theory."""
    keys = {"cells": cells, "quadratic": quadratic}
    R, phi = 25.0, np.radians(40)
    a = mapped(tmp_path, lambda u, v: np.column_stack([R * np.sin(phi * u), 25 * v, R * np.cos(phi * u)]), (n, n), 0.25,
               {"E": 4.32e8, "nu": 0.0, "density": 360.0}, **keys)  # fmt: skip
    a.support("end", at={"plane": {"at": [0, 0, 0], "normal": "y"}}, hold=["x", "z"])
    a.support("half", at={"plane": {"at": [0, 25, 0], "normal": "y"}}, hold=["y", "rx", "rz"])
    a.support("crown", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold=["x", "ry", "rz"])
    a.load("weight", gravity="-z", size=1.0)
    edge = moved(a, [R * np.sin(phi), 25, R * np.cos(phi)], "z", {"weight": 1.0})
    assert edge == pytest.approx(-300.6, rel=3e-3)

    def dome(u, v):
        up, around = (np.pi / 2 - np.radians(18)) * u, np.pi / 2 * v
        return 10.0 * np.column_stack([np.cos(up) * np.cos(around), np.cos(up) * np.sin(around), np.sin(up)])

    b = mapped(tmp_path, dome, (n, n), 0.04, {"E": 6.825e7, "nu": 0.3, "density": 1.0}, **keys)
    b.support("y", at={"plane": {"at": [0, 0, 0], "normal": "y"}}, hold=["y", "rx", "rz"])
    b.support("x", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold=["x", "ry", "rz"])
    b.support("z", at={"nearest": [7.07, 7.07, 0]}, hold=["z"])
    b.load("out", at={"nearest": [10, 0, 0]}, force=[1, 0, 0]).load("in", at={"nearest": [0, 10, 0]}, force=[0, -1, 0])
    pinched = moved(b, [10, 0, 0], "x", {"out": 1.0, "in": 1.0})
    assert pinched == pytest.approx(93.5, rel=4e-2 if cells == "triangles" else 1.2e-2)  # mm

    def strip(u, v):
        turn, y = np.pi / 2 * u, (v - 0.5) * 1.1
        return np.column_stack([12.0 * u, y * np.cos(turn), y * np.sin(turn)])

    for axis, force, expected in (("y", [0, 1, 0], 1.754), ("z", [0, 0, 1], 5.424)):
        c = mapped(tmp_path, strip, (3 * n // 2, n // 2), 0.32, {"E": 29e6, "nu": 0.22, "density": 1.0}, **keys)
        c.support("root", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
        c.load("tip", at={"plane": {"at": [12, 0, 0], "normal": "x"}}, force=force)
        assert moved(c, [12, 0, 0], axis, {"tip": 1.0}) == pytest.approx(expected, rel=4e-3)


@pytest.mark.parametrize(("cells", "quadratic"), SHELLS)
def test_offset_shells_are_as_if_on_arms(cells, quadratic):
    keys = {"cells": cells, "quadratic": quadratic}
    found = []
    for offset in (0.0, 0.03):
        a = hk.Assembly().material("m", **STEEL)
        shape = {"radius": 0.5 - offset, "length": 0.4, "angle": "90 deg", "thickness": 0.01, "divisions": [10, 6]}
        a.part("c", cylinder={**shape, "offset": offset, **keys}, material="m")
        found.append(a.check().report.totals)
        a.support("s", at={"plane": {"at": [0, 0, 0], "normal": "z"}}, hold="all")
        found.append(a.modes(4).frequencies_hz)
    # facets of linear elements are raised without growing: their width is that of the nodes
    np.testing.assert_allclose(found[3], found[1], rtol=1e-4 if quadratic else 0.12)
    assert found[2].mass == pytest.approx(found[0].mass, rel=2e-4 if quadratic else 0.07)


@pytest.mark.parametrize(("cells", "quadratic"), SHELLS)
def test_tension_along_a_side_or_a_direction(cells, quadratic):
    """A strip askew: tension along its side is what tension along x is of the strip that lies straight."""
    c, s = np.cos(0.5), np.sin(0.5)
    found = []
    for turn, along in ((np.eye(2), None), (np.array([[c, -s], [s, c]]), "side 1"),
                        (np.array([[c, -s], [s, c]]), [c, s, 0])):  # fmt: skip
        sides = [[*(turn @ [1.2, 0]), 0], [*(turn @ [0, 0.3]), 0]]
        shape = {"corner": [0, 0, 0], "sides": sides, "divisions": [16, 4], "thickness": 0.002, "cells": cells,
                 "quadratic": quadratic, "tension": [9000, 2000, 1500]}  # fmt: skip
        if along is not None:
            shape["tension_along"] = along
        a = hk.Assembly().material("m", **STEEL).part("p", plate=shape, material="m")
        for name, at in (("a", [0, 0, 0]), ("b", [*(turn @ [1.2, 0]), 0])):
            a.support(name, at={"plane": {"at": at, "normal": [*turn[:, 0], 0]}}, hold="all")
        found.append(a.modes(4).frequencies_hz)
    np.testing.assert_allclose(found[1], found[0], rtol=1e-8)
    np.testing.assert_allclose(found[2], found[0], rtol=1e-8)


@pytest.mark.parametrize(("cells", "quadratic"), SHELLS)
def test_tension_around_and_along_a_cylinder(cells, quadratic):
    """Given around (side 1) or along (side 2, the axis) it is the same; hoop tension N adds n² N / ρ h R² to ω²."""
    found = {}
    for along, tension in (("side 1", [2e5, 5e4, 1e4]), ("side 2", [5e4, 2e5, -1e4]), ("z", [5e4, 2e5, -1e4])):
        a = hk.Assembly().material("m", **STEEL)
        shape = {"radius": 0.3, "length": 0.5, "thickness": 0.002, "divisions": [24, 5], "cells": cells,
                 "quadratic": quadratic, "tension": tension, "tension_along": along}  # fmt: skip
        a.part("c", cylinder=shape, material="m")
        for name, z in (("low", 0), ("high", 0.5)):
            a.support(name, at={"plane": {"at": [0, 0, z], "normal": "z"}}, hold=["x", "y"])
        found[along] = elastic(a.modes(8))[:6]
    np.testing.assert_allclose(found["side 2"], found["side 1"], rtol=1e-8)
    np.testing.assert_allclose(found["z"], found["side 1"], rtol=1e-8)
    shape = {"corner": [0, 0, 0], "sides": [[1, 0, 0], [0, 1, 0]], "size": 0.5, "thickness": 0.01, "tension": [1, 1]}
    b = hk.Assembly().material("m", **STEEL).part("p", plate={**shape, "tension_along": "z"}, material="m")
    with pytest.raises(DescriptionError, match="nearly along the normal of element 1"):
        b.check()
    for wrong, match in (({**shape, "tension": [1, 2, 3, 4]}, "got 4 numbers"),
                         ({**shape, "tension": None, "tension_along": "x"}, "no effect without tension")):  # fmt: skip
        keys = {k: v for k, v in wrong.items() if v is not None}
        with pytest.raises(DescriptionError, match=match):
            hk.Assembly().material("m", **STEEL).part("p", plate=keys, material="m").check()


def test_turning_quadratic_shells_changes_no_frequency():
    """A vault with a laminated plate across it, offset and under tension, turned at random: 1e-9."""
    Q3, _ = np.linalg.qr(np.random.default_rng(8).standard_normal((3, 3)))
    Q3 *= np.sign(np.linalg.det(Q3))
    found = []
    for turn in (np.eye(3), Q3):
        x, y, z = turn.T
        a = hk.Assembly().material("m", **STEEL).material("ply", **PLY)
        vault = {"axis": z, "start": x, "radius": 0.4, "length": 0.5, "angle": "90 deg", "divisions": [6, 5]}
        a.part("vault", cylinder={**vault, "thickness": 0.03, "quadratic": True, "offset": 0.01}, material="m")
        floor = {"corner": 0.4 * x, "sides": [0.4 * (y - x), 0.5 * z], "divisions": [5, 5], "cells": "triangles"}
        floor |= {"tension": [5e4, 2e4, 1e4], "tension_along": "side 2", "layers": plies([20, 70], 0.015)}
        a.part("floor", plate={**floor, "quadratic": True}, axes={"x": y - x, "y": z})
        a.support("end", at={"plane": {"at": [0, 0, 0], "normal": z}}, hold="all")
        assert len(a.check().report.pieces) == 1
        found.append(a.modes(6).frequencies_hz)
    np.testing.assert_allclose(found[1], found[0], rtol=1e-9)


@pytest.mark.parametrize("cells", ["quads", "triangles"])
def test_distorted_quadratic_meshes_stay_within_twice_the_error(tmp_path, cells):
    keys = {"cells": cells, "quadratic": True}
    regular = simply_supported(plate(ALUMINIUM, 1.37, 1.37, 0.0068, [12, 12], **keys), 1.37, 1.37)
    skew = distorted(plate(ALUMINIUM, 1.37, 1.37, 0.0068, [12, 12], **keys), tmp_path, flat=True, amount=0.015,
                     part={"shell": {"thickness": 0.0068}})  # fmt: skip
    skew._data["parts"]["plate"] = skew._data["parts"].pop("body")
    errors = [np.abs(a.modes(6).frequencies_hz / C05A[:6] - 1).max()
              for a in (regular, simply_supported(skew, 1.37, 1.37))]  # fmt: skip
    assert errors[1] < max(2 * errors[0], 2e-3)


@pytest.mark.parametrize("cells", ["quads", "triangles"])
def test_buckling_of_a_compressed_plate_of_quadratic_shells(cells):
    """Hinged square plate pressed along one side: 4 π² D / a² per length (Timoshenko & Gere 1961, ch. 9)."""
    side, h = 1.0, 0.005
    a = simply_supported(plate(STEEL, side, side, h, [8, 8], cells=cells, quadratic=True), side, side)
    a._data["supports"].pop("membrane")
    for name, at, hold in (("left", [0, 0, 0], ["x"]), ("corner", [0, 0, 0], ["y"])):
        where = {"part": "plate", "nearest": at} if name == "corner" else {"plane": {"at": at, "normal": "x"}}
        a.support(name, at=where, hold=hold)
    mesh = a.system.mesh
    edge = np.flatnonzero(np.isclose(mesh.nodes[:, 0], side))
    edge = edge[np.argsort(mesh.nodes[edge, 1])]
    share = np.tile([2.0, 4.0], len(edge) // 2 + 1)[: len(edge)]  # Simpson's rule along the edge
    share[[0, -1]] = 1.0
    for number, (node, part) in enumerate(zip(edge, share / share.sum(), strict=True)):
        a.load(f"push {number}", at={"nearest": mesh.nodes[node]}, force=[-part * 1e3, 0, 0])
    a.add_state("pressed", loads={f"push {k}": 1.0 for k in range(len(edge))})
    factor = a.state("pressed").buckling(2).table()["load_factor"].iloc[0]
    stiff = STEEL["E"] * h**3 / 12 / (1 - STEEL["nu"] ** 2)
    assert factor * 1e3 / side == pytest.approx(4 * np.pi**2 * stiff / side**2, rel=4e-3)


def test_tension_along_a_direction_on_read_meshes(tmp_path):
    start = plate(STEEL, 1.0, 0.4, 0.002, [10, 4])
    start.save(tmp_path / "strip.vtu")
    found = []
    for shell in ({"tension": [9e3, 1e3, 5e2]}, {"tension": [1e3, 9e3, -5e2], "tension_along": "y"}):
        a = hk.Assembly().material("m", **STEEL)
        a.part("plate", mesh={"file": tmp_path / "strip.vtu", "shell": {"thickness": 0.002, **shell}}, material="m")
        found.append(simply_supported(a, 1.0, 0.4).modes(4).frequencies_hz)
    np.testing.assert_allclose(found[1], found[0], rtol=1e-9)
    with pytest.raises(DescriptionError, match="a mesh from a file has no sides"):
        hk.Assembly().material("m", **STEEL).part(
            "p", mesh={"file": "x.vtu", "shell": {"thickness": 1, "tension": [1, 1], "tension_along": "side 1"}},
            material="m").check()  # fmt: skip


@pytest.mark.parametrize("surface", ["roof", "dome", "strip"])
def test_curved_shells_vibrate_alike_in_both_kinds_and_converge(tmp_path, surface):
    """Six frequencies of quadrilaterals and triangles of two finenesses: to one another and to the finest."""

    def f(u, v):
        if surface == "roof":
            return np.column_stack([np.sin(0.7 * u), v, np.cos(0.7 * u)])
        if surface == "dome":
            up, around = 1.2 * u, np.pi / 2 * v
            return np.column_stack([np.cos(up) * np.cos(around), np.cos(up) * np.sin(around), np.sin(up)])
        turn, y = np.pi / 2 * u, (v - 0.5) * 0.4
        return np.column_stack([2.0 * u, y * np.cos(turn), y * np.sin(turn)])

    def frequencies(cells, n):
        a = mapped(tmp_path, f, (2 * n, n), 0.01, STEEL, cells=cells, quadratic=True)
        foot = {"plane": {"at": [0, 0, 0], "normal": "z" if surface == "dome" else "x"}}
        return a.support("foot", at=foot, hold="all").modes(6).frequencies_hz

    exact = frequencies("quads", 14)
    errors = {c: [np.abs(frequencies(c, n) / exact - 1).max() for n in (4, 8)] for c in ("quads", "triangles")}
    # the dome's free edges have layers √(R t) = 0.1 m wide, which the finer mesh has one element for
    assert errors["quads"][1] < (6e-3 if surface == "dome" else 2.1e-3)
    assert errors["triangles"][1] < (1.6e-2 if surface == "dome" else 6e-3)
    assert all(second < 0.3 * first for first, second in errors.values())
