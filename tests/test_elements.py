"""Shells and solids: patch tests on distorted meshes, no spurious modes, exact figures, order of convergence."""

from __future__ import annotations

import numpy as np
import pytest
import scipy.linalg

import holokine as hk
from conftest import ALUMINIUM, BENCH_STEEL, STEEL, elastic, pyramids
from holokine.mesh.cells import CELLS
from holokine.mesh.files import write_mesh
from holokine.mesh.mesh import Mesh

SOLIDS = [("bricks", False), ("bricks", True), ("tetrahedra", False), ("tetrahedra", True), ("wedges", False),
          ("wedges", True), ("pyramids", False), ("pyramids", True)]  # fmt: skip
SHELLS = [("quads", False), ("triangles", False), ("quads", True), ("triangles", True)]


def box(material, sides, divisions, *, cells="bricks", quadratic=False, **keys) -> hk.Assembly:
    a = hk.Assembly("box").material("m", **material)
    shape = {"corner": [0, 0, 0], "sides": np.diag(sides).tolist(), "divisions": divisions, "cells": cells,
             "quadratic": quadratic}  # fmt: skip
    return a.part("box", box=shape, material="m", **keys)


def block_of(sides, divisions, cells, quadratic, folder) -> hk.Assembly:
    if cells == "pyramids":
        return pyramids(STEEL, sides, divisions, folder, quadratic)
    return box(STEEL, sides, divisions, cells=cells, quadratic=quadratic)


def plate(material, a, b, h, divisions, **keys) -> hk.Assembly:
    part = {"corner": [0, 0, 0], "sides": [[a, 0, 0], [0, b, 0]], "divisions": divisions, "thickness": h, **keys}
    return hk.Assembly("plate").material("m", **material).part("plate", plate=part, material="m")


def simply_supported(p: hk.Assembly, a: float, b: float) -> hk.Assembly:
    for name, at, normal, hold in (("x0", [0, 0, 0], "x", "rx"), ("x1", [a, 0, 0], "x", "rx"),
                                   ("y0", [0, 0, 0], "y", "ry"), ("y1", [0, b, 0], "y", "ry")):  # fmt: skip
        p.support(name, at={"plane": {"at": at, "normal": normal}}, hold=["z", hold])
    return p.support("membrane", at={"part": "plate"}, hold=["x", "y", "rz"])


def distorted(
    assembly: hk.Assembly, folder, *, flat: bool, seed: int = 3, part: dict | None = None, amount: float = 0.06
) -> hk.Assembly:
    """The same mesh with its inner nodes moved at random, through a mesh file."""
    mesh = assembly.system.mesh
    rng = np.random.default_rng(seed)
    nodes = mesh.nodes.copy()
    low, high = nodes.min(axis=0), nodes.max(axis=0)
    span = np.where(high > low, high - low, 1.0)
    axes = 2 if flat else 3
    inner = ((nodes - low)[:, :axes] > 1e-9).all(axis=1) & ((high - nodes)[:, :axes] > 1e-9).all(axis=1)
    corners = np.unique(np.concatenate([b.cells[:, : CELLS[b.kind].corner_count].ravel() for b in mesh.blocks]))
    moved = np.zeros(len(nodes), dtype=bool)
    moved[corners] = True
    nodes[inner & moved, :axes] += amount * span[:axes] * rng.uniform(-1, 1, (int((inner & moved).sum()), axes))
    for block in mesh.blocks:  # middles of straight edges, and of faces
        kind = CELLS[block.kind]
        for k, (i, j) in enumerate(kind.edges if kind.order == 2 else ()):
            nodes[block.cells[:, kind.corner_count + k]] = (nodes[block.cells[:, i]] + nodes[block.cells[:, j]]) / 2
        if block.kind == "quad9":
            nodes[block.cells[:, 8]] = nodes[block.cells[:, :4]].mean(axis=1)
    path = folder / "distorted.vtu"
    write_mesh(path, Mesh(nodes, mesh.blocks, {}))
    result = hk.Assembly("distorted").material("m", **assembly._data["materials"]["m"])
    return result.part("body", mesh={"file": str(path), **(part or {})}, material="m")


def solve_patch(system, boundary, prescribed):
    """Solve for the inner motions with all motions of boundary nodes given."""
    fixed = np.zeros(system.size, dtype=bool)
    fixed.reshape(-1, 6)[boundary] = True
    free = system.active & ~fixed
    K = system.stiffness.tocsr()
    u = np.where(fixed & system.active, prescribed, 0.0)
    u[free] = np.linalg.solve(
        K[free][:, free].toarray(), -(K[free][:, fixed & system.active] @ u[fixed & system.active])
    )
    return u


@pytest.mark.parametrize(("cells", "quadratic"), SOLIDS)
def test_solid_patch_test_on_a_distorted_mesh(tmp_path, cells, quadratic):
    a = distorted(block_of([1.0, 0.8, 0.6], [3, 3, 3], cells, quadratic, tmp_path), tmp_path, flat=False)
    system = a.system
    X = system.mesh.nodes
    gradient = np.random.default_rng(1).standard_normal((3, 3)) * 1e-3
    exact = np.zeros((len(X), 6))
    exact[:, :3] = X @ gradient.T
    low, high = X.min(axis=0), X.max(axis=0)
    boundary = (np.isclose(X, low) | np.isclose(X, high)).any(axis=1)
    u = solve_patch(system, boundary, exact.ravel())
    scale = np.abs(exact).max()
    np.testing.assert_allclose(u.reshape(-1, 6)[:, :3], exact[:, :3], atol=1e-9 * scale)
    D = system.elements[0].elasticity
    e = (gradient + gradient.T) / 2
    strain = np.array([e[0, 0], e[1, 1], e[2, 2], 2 * e[0, 1], 2 * e[1, 2], 2 * e[2, 0]])
    for at in ("centre", "nodes"):
        A = system.elements[0].stress_field(system.size, at).matrix
        stress = (A @ u).reshape(-1, 6)
        np.testing.assert_allclose(
            stress, np.broadcast_to(D @ strain, stress.shape), atol=1e-7 * np.abs(D @ strain).max()
        )


@pytest.mark.parametrize(("cells", "quadratic"), SHELLS)
@pytest.mark.parametrize("field", ["membrane", "bending"])
def test_shell_patch_test_on_a_distorted_mesh(tmp_path, cells, quadratic, field):
    start = plate(STEEL, 1.0, 0.8, 0.02, [4, 4], cells=cells, quadratic=quadratic)
    a = distorted(start, tmp_path, flat=True, part={"shell": {"thickness": 0.02}})
    system = a.system
    X = system.mesh.nodes
    exact = np.zeros((len(X), 6))
    x, y = X[:, 0], X[:, 1]
    if field == "membrane":
        g = np.array([[1.1, 0.4], [-0.7, 0.5]]) * 1e-3
        exact[:, :2] = X[:, :2] @ g.T
        exact[:, 5] = (g[1, 0] - g[0, 1]) / 2
    else:  # constant curvatures and twist
        a1, a2, a3 = 0.3, -0.2, 0.15
        exact[:, 2] = a1 * x**2 + a2 * y**2 + a3 * x * y
        exact[:, 3] = 2 * a2 * y + a3 * x  # θx = w,y
        exact[:, 4] = -(2 * a1 * x + a3 * y)  # θy = -w,x
    low, high = X.min(axis=0), X.max(axis=0)
    boundary = (np.isclose(X, low) | np.isclose(X, high))[:, :2].any(axis=1)
    u = solve_patch(system, boundary, exact.ravel()).reshape(-1, 6)
    inner = [0, 1, 5] if field == "membrane" else [3, 4]
    np.testing.assert_allclose(u[:, inner], exact[:, inner], atol=1e-8 * np.abs(exact).max())
    if field == "bending":
        kappa = np.array([-2 * a1, -2 * a2, -2 * a3])
        exact = 0.01 * system.elements[0].laminate.plies[0].stiffness @ kappa
        for at in ("centre", "nodes"):
            stress = (system.elements[0].stress_field(system.size, at).matrix @ u.ravel()).reshape(-1, 3)
            np.testing.assert_allclose(stress, np.broadcast_to(exact, stress.shape), rtol=1e-6, atol=1.0)


@pytest.mark.parametrize(("cells", "quadratic"), SOLIDS)
def test_single_solid_has_six_rigid_motions_and_no_others(tmp_path, cells, quadratic):
    a = block_of([1.0, 0.7, 0.5], [1, 1, 1], cells, quadratic, tmp_path)
    for dofs, K, M in a.system.elements[0].chunks():
        values = scipy.linalg.eigvalsh(K[0] / np.abs(K[0]).max())
        assert (np.abs(values[:6]) < 1e-10).all()
        assert values[6] > 1e-6
        assert (scipy.linalg.eigvalsh(M[0]) > 0).all()
        assert len(dofs[0]) == len(K[0])


@pytest.mark.parametrize(("cells", "quadratic"), SHELLS)
@pytest.mark.parametrize("curved", [False, True])
def test_single_shell_has_six_rigid_motions_and_no_others(cells, quadratic, curved):
    a = plate(STEEL, 1.0, 0.8, 0.05, [1, 1], cells=cells, quadratic=quadratic)
    if curved:
        roof = {"radius": 1.0, "length": 0.8, "angle": "50 deg", "thickness": 0.05, "divisions": [1, 1]}
        a = hk.Assembly().material("m", **STEEL)
        a.part("roof", cylinder={**roof, "cells": cells, "quadratic": quadratic}, material="m")
    for _, K, _ in a.system.elements[0].chunks():
        d = np.sqrt(np.diag(K[0]))
        values = scipy.linalg.eigvalsh(K[0] / np.outer(d, d))
        assert (np.abs(values[:6]) < 1e-10).all()
        assert values[6] > 1e-5


@pytest.mark.parametrize("matrix", ["consistent", "lumped", "lumped without rotary"])
@pytest.mark.parametrize(("cells", "quadratic"), SOLIDS)
def test_mass_and_inertia_of_a_block(tmp_path, matrix, cells, quadratic):
    sides = np.array([0.4, 0.3, 0.2])
    a = block_of(sides, [4, 4, 4], cells, quadratic, tmp_path).mass_matrix(matrix)
    totals = a.check().report.totals
    mass = STEEL["density"] * sides.prod()
    assert totals.mass == pytest.approx(mass, rel=1e-12)
    np.testing.assert_allclose(totals.centre, sides / 2, rtol=1e-9)
    if matrix == "consistent":
        exact = mass / 12 * (np.sum(sides**2) - sides**2)
        np.testing.assert_allclose(np.diag(totals.inertia), exact, rtol=1e-9)


C05A = [17.842, 44.5988, 44.5988, 71.3481, 89.1769, 89.1769, 115.914, 115.914, 151.551, 151.551]


def test_thin_and_thick_simply_supported_plates():
    thin = simply_supported(plate(ALUMINIUM, 1.37, 1.37, 0.0068, [32, 32]), 1.37, 1.37)
    # bilinear elements: (kh)²/24 of the tenth mode is 6e-3
    np.testing.assert_allclose(thin.modes(count=10).frequencies_hz, C05A, rtol=5e-3)
    thick = simply_supported(plate(ALUMINIUM, 1.71, 1.13, 0.137, [32, 32]), 1.71, 1.13)
    expected = [365.497, 677.109, 1053.77, 1159.05, 1329.08, 1760.73, 1771.55, 2041.55, 2275.92, 2317.97]
    np.testing.assert_allclose(thick.modes(count=10).frequencies_hz, expected, rtol=5e-3)
    factor = simply_supported(plate(BENCH_STEEL, 10, 10, 1.0, [32, 32], shear_factor=np.pi**2 / 12), 10, 10)
    expected = [45.8951, 109.444, 109.444, 167.886, 204.513, 204.513, 256.502, 256.502, 321.173, 321.173]
    np.testing.assert_allclose(factor.modes(count=10).frequencies_hz, expected, rtol=6e-3)


def test_plate_error_falls_with_the_square_of_the_mesh_and_survives_distortion(tmp_path):
    errors = []
    for n in (8, 16, 32):
        found = simply_supported(plate(ALUMINIUM, 1.37, 1.37, 0.0068, [n, n]), 1.37, 1.37).modes(count=3).frequencies_hz
        errors.append(abs(found[0] / C05A[0] - 1))
    order = np.log2(np.array(errors[:-1]) / np.array(errors[1:]))
    assert (order > 1.8).all()
    skew = distorted(plate(ALUMINIUM, 1.37, 1.37, 0.0068, [20, 20]), tmp_path, flat=True, seed=5, amount=0.012,
                     part={"shell": {"thickness": 0.0068}})  # fmt: skip
    skew._data["parts"]["plate"] = skew._data["parts"].pop("body")
    found = simply_supported(skew, 1.37, 1.37).modes(count=4).frequencies_hz
    np.testing.assert_allclose(found, C05A[:4], rtol=2e-2)  # inner nodes moved by up to a quarter of an element


@pytest.mark.parametrize(("cells", "quadratic"), SHELLS)
def test_thin_limit_does_not_lock(cells, quadratic):
    """Thickness over length 1e-4: frequencies stay in proportion to the thickness."""
    found = []
    n = 8 if quadratic else 16
    for h in (1e-2, 1e-4):
        p = simply_supported(plate(STEEL, 1.0, 1.0, h, [n, n], cells=cells, quadratic=quadratic), 1.0, 1.0)
        found.append(p.modes(count=4).frequencies_hz / h)
    np.testing.assert_allclose(found[1], found[0], rtol=5e-3)  # the thicker one has shear flexibility, 1e-3


def test_cantilever_free_and_tensioned_plates():
    cantilever = plate({"E": 206e9, "nu": 0.3, "density": 7830}, 1.43, 0.97, 0.0051, [40, 30])
    cantilever.support("root", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
    expected = [2.12817, 7.08154, 13.2254, 23.9523, 32.068, 37.847, 49.0548, 51.4567]
    np.testing.assert_allclose(cantilever.modes(count=8).frequencies_hz, expected, rtol=5e-3)
    free = plate(BENCH_STEEL, 10, 10, 0.05, [32, 32]).support("membrane", at={"part": "plate"}, hold=["x", "y", "rz"])
    expected = [1.62165, 2.3595, 2.92228, 4.19024, 4.19024, 7.356, 7.356]
    np.testing.assert_allclose(elastic(free.modes(count=10)), expected, rtol=5e-3)
    tight = simply_supported(plate(ALUMINIUM, 1.71, 1.13, 0.0073, [36, 24], tension=[21700, 21700]), 1.71, 1.13)
    expected = [26.7823, 45.6569, 69.6646, 76.6493, 88.1948, 119.018]
    np.testing.assert_allclose(tight.modes(count=6).frequencies_hz, expected, rtol=5e-3)


def test_tapered_membrane_in_its_plane():
    a = hk.Assembly().material("m", **BENCH_STEEL)
    corners = [[0, -2.5, 0], [10, -0.5, 0], [10, 0.5, 0], [0, 2.5, 0]]
    a.part("p", plate={"corners": corners, "divisions": [64, 32], "thickness": 0.05}, material="m")
    a.support("root", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
    a.support("plane", at={"part": "p"}, hold=["z", "rx", "ry"])
    expected = [44.617, 130.009, 162.689, 245.986, 379.717, 391.404]
    np.testing.assert_allclose(a.modes(count=6).frequencies_hz, expected, rtol=2e-3)  # 64 by 32, second order


def test_cylindrical_shell_between_diaphragms():
    a = hk.Assembly().material("m", **ALUMINIUM)
    a.part("c", cylinder={"radius": 0.254, "length": 0.613, "thickness": 0.0213, "divisions": [72, 36]}, material="m")
    for name, z in (("low", 0), ("high", 0.613)):
        a.support(name, at={"plane": {"at": [0, 0, z], "normal": "z"}}, hold=["x", "y"])
    modes = a.modes(count=12)
    assert modes.set.rigid.sum() == 1
    assert any("translation along z" in f.text for f in modes.findings)
    expected = np.repeat([877.097, 911.483, 1329.95, 1604.41, 1732.64], 2)
    # flat facets, and shell theory itself, which scatters by h/R = 0.08 times small factors: 1 %
    np.testing.assert_allclose(elastic(modes)[:10], expected, rtol=1e-2)


SLENDER = [47.1863, 65.544, 289.462, 394.525, 576.356, 785.122, 1043.5, 1077.28, 1474.89, 1729.43]


@pytest.mark.parametrize(("cells", "quadratic", "divisions", "bound"), [
    ("bricks", True, [24, 4, 4], 4e-3), ("bricks", False, [48, 8, 8], 1e-2), ("tetrahedra", True, [30, 3, 3], 7e-3),
])  # fmt: skip
def test_slender_cantilever_prism(cells, quadratic, divisions, bound):
    a = box(ALUMINIUM, [1.193, 0.113, 0.081], divisions, cells=cells, quadratic=quadratic)
    a.support("root", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold=["x", "y", "z"])
    np.testing.assert_allclose(a.modes(count=10).frequencies_hz, SLENDER, rtol=bound)


def test_free_block_converges_with_the_expected_order():
    expected = np.array([9814.23, 12271.8, 14796, 17779.2, 18736.3, 18776.9, 19481.3, 20791.3, 22536.4, 22747.1])
    sides = [0.1313, 0.0973, 0.0617]
    errors = {}
    for quadratic, meshes in ((True, ([4, 3, 2], [8, 6, 4])), (False, ([12, 9, 6], [18, 14, 9]))):
        found = [elastic(box(STEEL, sides, n, quadratic=quadratic).modes(count=16))[:10] for n in meshes]
        errors[quadratic] = [np.abs(f / expected - 1)[:8].max() for f in found]  # the last two cross on coarse meshes
    assert errors[True][1] < 3e-3
    assert np.log2(errors[True][0] / errors[True][1]) > 3.0  # fourth order
    assert np.log(errors[False][0] / errors[False][1]) / np.log(1.5) > 1.8  # second order
    tets = elastic(box(STEEL, sides, [6, 4, 3], cells="tetrahedra", quadratic=True).modes(count=16))[:10]
    assert np.abs(tets / expected - 1).max() < 1.1e-2


def test_bending_of_a_thin_brick_layer_does_not_lock():
    """One layer of 8-node bricks against the plate's own theory."""
    a = box(STEEL, [1.0, 0.1, 0.01], [40, 4, 1])
    a.support("root", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold=["x", "y", "z"])
    bernoulli = 1.8751**2 / (2 * np.pi) * np.sqrt(STEEL["E"] * 0.01**2 / 12 / STEEL["density"])
    found = a.modes(count=1).frequencies_hz[0]
    # between the bar (free to contract) and the plate (1 / (1 - nu²)) in stiffness
    assert bernoulli * 0.995 < found < bernoulli / np.sqrt(1 - STEEL["nu"] ** 2)


def test_orthotropic_material_with_axes():
    ply = {"orthotropic": {"E": [40e9, 10e9, 10e9], "G": [4e9, 3e9, 4e9], "nu": [0.25, 0.3, 0.0625]}, "density": 1900}
    along = box(ply, [0.5, 0.02, 0.02], [20, 2, 2], quadratic=True)
    across = box(ply, [0.5, 0.02, 0.02], [20, 2, 2], quadratic=True, axes={"x": "y", "y": "-x"})
    found = []
    for a in (along, across):
        a.support("root", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold=["x", "y", "z"])
        found.append(a.modes(count=1).frequencies_hz[0])
    assert found[0] / found[1] == pytest.approx(2.0, rel=3e-2)  # root of the ratio of moduli, less shear
    shells = []
    for axis in ("x", "y"):
        p = {"corner": [0, 0, 0], "sides": [[0.5, 0, 0], [0, 0.02, 0]], "divisions": [30, 2], "thickness": 0.02}
        s = hk.Assembly().material("m", **ply).part("p", plate=p, material="m", axes={"x": axis, "y": "z"})
        s.support("root", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
        shells.append(s.modes(count=1).frequencies_hz[0])
    np.testing.assert_allclose(shells, found, rtol=2e-2)  # plates and blocks of one size
    bad = {"orthotropic": {**ply["orthotropic"], "nu": [2.5, 0.3, 0.0625]}, "density": 1900}
    with pytest.raises(hk.HolokineError, match="belong to no real material"):
        box(bad, [1, 1, 1], [1, 1, 1]).check()


def test_shell_offset_and_area_mass():
    """A plate with its nodes on its lower face: as if on rigid arms; added mass lowers by its root."""
    plain = plate(STEEL, 1.0, 0.1, 0.01, [30, 3]).support(
        "r", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all"
    )
    raised = plate(STEEL, 1.0, 0.1, 0.01, [30, 3], offset=0.05)
    raised.support("r", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
    np.testing.assert_allclose(raised.modes(count=4).frequencies_hz, plain.modes(count=4).frequencies_hz, rtol=1e-6)
    assert raised.check().report.totals.centre[2] == pytest.approx(0.05)
    heavy = plate(STEEL, 1.0, 0.1, 0.01, [30, 3], area_mass=78.3)
    heavy.support("r", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
    ratio = plain.modes(count=1).frequencies_hz[0] / heavy.modes(count=1).frequencies_hz[0]
    assert ratio == pytest.approx(np.sqrt(2.0), rel=1e-3)


def test_rotating_shells_and_solids_changes_no_frequency(tmp_path):
    rng = np.random.default_rng(4)  # a plate so thick that rounding, ε λ_max / λ_1, stays below 1e-9
    Q, _ = np.linalg.qr(rng.standard_normal((3, 3)))
    Q *= np.sign(np.linalg.det(Q))

    def build(turn):
        a = hk.Assembly().material("m", **STEEL)
        a.part("p", plate={"corner": [0, 0, 0], "sides": [(turn @ [1, 0, 0]).tolist(), (turn @ [0, 0.6, 0]).tolist()],
                           "divisions": [6, 4], "thickness": 0.08}, material="m")  # fmt: skip
        sides = [(turn @ v).tolist() for v in np.diag([0.25, 0.3, 0.2])]
        a.part("b", box={"corner": (turn @ [0.5, 0.15, 0.05]).tolist(), "sides": sides, "divisions": 2}, material="m")
        a.joint("bolt", between=[{"part": "b", "nearest": (turn @ [0.6, 0.3, 0.05]).tolist(), "count": 6},
                                 {"part": "p", "nearest": (turn @ [0.6, 0.3, 0]).tolist(), "count": 6,
                                  "link": "averaging"}])  # fmt: skip
        a.support(
            "root", at={"part": "p", "plane": {"at": [0, 0, 0], "normal": (turn @ [1, 0, 0]).tolist()}}, hold="all"
        )
        return a.modes(count=10).frequencies_hz

    np.testing.assert_allclose(build(Q), build(np.eye(3)), rtol=1e-9)
