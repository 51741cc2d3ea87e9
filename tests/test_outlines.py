"""Plates and extrusions of any outline: shapes of cells, nodes that neighbours share, areas, and what is refused."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import holokine as hk
from conftest import STEEL
from holokine.errors import DescriptionError, HolokineError, MeshError
from holokine.mesh.mesh import Mesh
from holokine.mesh.quality import block_shapes
from holokine.mesh.seams import half_open_seams
from holokine.mesh.surface import outer_faces
from holokine.vary.refine import finer


def sheet(name="p", assembly=None, **keys) -> hk.Assembly:
    a = assembly or hk.Assembly().material("m", **STEEL)
    return a.part(name, plate={"size": 0.05, "thickness": 0.01, **keys}, material="m")


def area(mesh: Mesh, part: str = "p") -> float:
    total = 0.0
    for corners, _ in outer_faces(mesh, part, "pieces"):
        X = mesh.nodes[corners]
        last = X[:, 3] if X.shape[1] == 4 else X[:, 0]
        total += 0.5 * np.linalg.norm(np.cross(X[:, 2] - X[:, 0], last - X[:, 1]), axis=1).sum()
    return float(total)


def smallest_angle(mesh: Mesh) -> float:
    """In degrees, over the corners of all cells."""
    least = np.inf
    for block in mesh.blocks:
        n = 4 if block.kind in ("quad4", "quad9") else 3
        X = mesh.nodes[block.cells[:, :n]]
        u, v = np.roll(X, -1, axis=1) - X, np.roll(X, 1, axis=1) - X
        cos = (u * v).sum(axis=2) / np.linalg.norm(u, axis=2) / np.linalg.norm(v, axis=2)
        least = min(least, float(np.degrees(np.arccos(np.clip(cos, -1, 1))).min()))
    return least


def open_edges(mesh: Mesh, parts: list[str]) -> int:
    """Edges of one cell only, over all parts together."""
    pairs = []
    for part in parts:
        for block in mesh.blocks_of(part):
            n = 4 if block.kind in ("quad4", "quad9") else 3
            pairs += [block.cells[:, [k, (k + 1) % n]] for k in range(n)]
    _, counts = np.unique(np.sort(np.concatenate(pairs), axis=1), axis=0, return_counts=True)
    return int((counts == 1).sum())


def made_up(seed: int) -> tuple[list, list]:
    """A star-shaped outline with straight edges, arcs and rounded corners of 50° or more, and a hole that fits."""
    rng = np.random.default_rng(seed)
    while True:
        count = int(rng.integers(3, 9))
        angles = np.sort(rng.uniform(0, 2 * np.pi, count))
        if np.diff(np.append(angles, angles[0] + 2 * np.pi)).max() > 2.4:
            continue
        corners = rng.uniform(0.5, 1.0, count)[:, None] * np.column_stack([np.cos(angles), np.sin(angles)])
        before, after = np.roll(corners, 1, axis=0) - corners, np.roll(corners, -1, axis=0) - corners
        lengths = np.linalg.norm(after, axis=1)
        cos = (before * after).sum(axis=1) / np.linalg.norm(before, axis=1) / lengths
        if np.degrees(np.arccos(cos)).min() > 50 and lengths.min() > 0.2:
            break
    outline: list = [corners[0].tolist()]
    for k in range(1, count):
        kind = rng.integers(3)
        a, b = corners[k - 1], corners[k]
        if kind == 0 and not isinstance(outline[-1], dict):
            out = np.array([b[1] - a[1], a[0] - b[0]])
            outline.append({"through": ((a + b) / 2 + 0.08 * out).tolist(), "to": b.tolist()})
        elif kind == 1:
            outline.append({"corner": b.tolist(), "radius": 0.04})
        else:
            outline.append(b.tolist())
    holes = [{"at": [0.0, 0.0], "diameter": float(rng.uniform(0.1, 0.25))}] if rng.random() < 0.5 else []
    return outline, holes


@pytest.mark.parametrize("start", range(0, 100, 25))
def test_a_hundred_made_up_outlines_give_well_shaped_cells(start):
    """None inverted, no angle below 15°, most cells quadrilaterals, the area that the outline has."""
    for seed in range(start, start + 25):
        outline, holes = made_up(seed)
        areas = {}
        for cells in ("quads", "triangles"):
            a = sheet(outline=outline, holes=holes, cells=cells, size=0.07)
            mesh = a.system.mesh
            assert min(s.quality.min() for s in block_shapes(mesh)) > 0.25, (seed, cells)
            assert smallest_angle(mesh) > 15.0, (seed, cells)
            areas[cells] = area(mesh)
            if cells == "quads":
                counts = {b.kind: len(b.cells) for b in mesh.blocks}
                assert counts["quad4"] > 2 * counts.get("tri3", 0), seed
        assert areas["quads"] == pytest.approx(areas["triangles"], rel=1e-12), seed  # the same nodes on the rim


def test_areas_of_arcs_roundings_and_holes_in_closed_form():
    r = 0.1
    outline = [[0, 0], {"corner": [1, 0], "radius": r}, [1, 0.6], {"through": [0.5, 1.1], "to": [0, 0.6]}]
    whole = 0.6 - (1 - np.pi / 4) * r**2 + np.pi * 0.25 / 2
    errors = [whole - area(sheet(outline=outline, size=size).system.mesh) for size in (0.06, 0.03, 0.015)]
    assert 0 < errors[0] < 0.01 * whole
    assert (np.array(errors[1:]) < 0.35 * np.array(errors[:-1])).all()  # chords of arcs: second order
    exact = whole - np.pi * 0.15**2 - 0.1 * 0.2
    holes = [{"at": [0.4, 0.4], "diameter": 0.3}, {"at": [0.8, 0.4], "size": [0.1, 0.2]}]
    curved = sheet(outline=outline, holes=holes, size=0.06, quadratic=True)
    volume = sum(b.volumes().sum() for b in curved.system.elements)
    assert volume == pytest.approx(0.01 * exact, rel=2e-5)  # curved edges
    assert {b.kind for b in curved.system.mesh.blocks} == {"quad9", "tri6"}


def test_a_rectangle_is_the_grid_that_a_plate_of_its_size_is():
    grid = hk.Assembly().material("m", **STEEL)
    grid.part("p", plate={"corner": [0, 0, 0], "sides": [[0.6, 0, 0], [0, 0.4, 0]], "size": 0.05, "thickness": 0.01},
              material="m")  # fmt: skip
    own = sheet(outline=[[0, 0], [0.6, 0], [0.6, 0.4], [0, 0.4]])
    assert [b.kind for b in own.system.mesh.blocks] == ["quad4"]
    for a in (grid, own):
        a.support("s", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
    np.testing.assert_allclose(own.modes(4).frequencies_hz, grid.modes(4).frequencies_hz, rtol=1e-9)


@pytest.mark.parametrize("quadratic", [False, True])
def test_ribs_crossing_a_deck_and_one_another_share_their_nodes(quadratic):
    """T, L and X joints of plates of different size: one piece, no seam open, edges shared all along."""
    deck = [[0, 0], [0.6, 0], {"through": [0.7, 0.2], "to": [0.6, 0.4]}, [0, 0.4]]
    a = sheet("deck", outline=deck, size=0.05, quadratic=quadratic, holes=[{"at": [0.5, 0.3], "diameter": 0.06}])
    along = {"x": "x", "y": "z"}
    sheet("rib", a, outline=[[0.05, -0.05], [0.55, -0.05], [0.55, 0.1], [0.05, 0.1]], origin=[0, 0.17, 0], plane=along,
          size=0.03, quadratic=quadratic)  # fmt: skip
    across = {"x": "y", "y": "z"}
    sheet("web", a, outline=[[0.02, 0], [0.31, 0], [0.31, 0.08], [0.02, 0.08]], origin=[0.213, 0, 0], plane=across,
          size=0.04, quadratic=quadratic)  # fmt: skip
    sheet("wall", a, outline=[[0, 0], [0.4, 0], [0.4, -0.1], [0, -0.1]], plane=across, size=0.037, quadratic=quadratic)
    system = a.system
    mesh = system.mesh
    assert not half_open_seams(mesh, np.zeros(0, dtype=np.int64))
    assert len(a.check().report.pieces) == 1
    for one, two, lies in (("deck", "rib", lambda X: abs(X[:, 2]) < 1e-9),
                           ("deck", "web", lambda X: abs(X[:, 2]) < 1e-9),
                           ("rib", "web", lambda X: abs(X[:, 0] - 0.213) < 1e-9),
                           ("deck", "wall", lambda X: abs(X[:, 2]) < 1e-9)):  # fmt: skip
        shared = np.intersect1d(mesh.part_nodes[one], mesh.part_nodes[two])
        theirs = mesh.part_nodes[two] if one != "rib" else mesh.part_nodes[one]
        meets = theirs[lies(mesh.nodes[theirs])]
        if one == "rib":  # only where the web reaches
            meets = meets[(mesh.nodes[meets, 2] > -1e-9) & (mesh.nodes[meets, 2] < 0.08 + 1e-9)]
        np.testing.assert_array_equal(np.sort(shared), np.sort(meets))


def test_nodes_of_grids_beams_points_and_lines_are_taken_over():
    a = hk.Assembly().material("m", **STEEL).section("s", rectangle={"width": 0.01, "height": 0.02})
    a.point("one", [0.05, 0.1, 0]).point("two", [0.55, 0.3, 0]).point("foot", [0.123, 0.321, 0])
    a.part("bar", beam={"through": ["one", "two"], "section": "s", "divisions": 7}, material="m")
    grid = {"corner": [0.6, 0.05, 0], "sides": [[0.3, 0, 0], [0, 0.25, 0]], "divisions": [3, 4], "thickness": 0.01}
    a.part("grid", plate=grid, material="m")
    a.mass("unit", at="foot", mass=3)
    sheet("p", a, outline=[[0, 0], [0.6, 0], [0.6, 0.4], [0, 0.4]], lines=[[[0.3, 0.05], [0.45, 0.05], [0.45, 0.15]]],
          points=[[0.2, 0.05]])  # fmt: skip
    mesh = a.system.mesh
    own = mesh.part_nodes["p"]
    assert np.isin(mesh.part_nodes["bar"], own).all()
    edge = mesh.part_nodes["grid"][np.isclose(mesh.nodes[mesh.part_nodes["grid"], 0], 0.6)]
    assert len(edge) == 5
    assert np.isin(edge, own).all()
    assert mesh.points["foot"] in own
    assert len(a.check().report.pieces) == 1
    X = mesh.nodes[own]
    assert np.isclose(np.linalg.norm(X - [0.2, 0.05, 0], axis=1), 0, atol=1e-9).any()
    on = X[np.isclose(X[:, 1], 0.05) & (X[:, 0] > 0.3 - 1e-9) & (X[:, 0] < 0.45 + 1e-9)]
    assert len(on) == 4  # three elements of 50 mm along the line
    loose = {"outline": [[0, 0], [0.6, 0], [0.6, -0.2], [0, -0.2]], "size": 0.04, "thickness": 0.01}
    apart = a.part("loose", plate=loose, material="m", merge=False)
    assert not np.isin(apart.system.mesh.part_nodes["loose"], apart.system.mesh.part_nodes["p"]).any()


def test_finer_cells_where_asked_grow_away_evenly():
    coarse = sheet(outline=[[0, 0], [1, 0], [1, 1], [0, 1]], size=0.1)
    fine = sheet(outline=[[0, 0], [1, 0], [1, 1], [0, 1]], size=0.1,
                 finer=[{"at": [0.3, 0.4], "size": 0.01, "within": 0.03}])  # fmt: skip
    X = fine.system.mesh.nodes
    near = np.linalg.norm(X[:, :2] - [0.3, 0.4], axis=1)
    assert (near < 0.03).sum() > 20
    assert len(X) < 12 * len(coarse.system.mesh.nodes)
    assert min(s.quality.min() for s in block_shapes(fine.system.mesh)) > 0.3
    assert smallest_angle(fine.system.mesh) > 25.0
    assert 40 <= open_edges(fine.system.mesh, ["p"]) <= 44  # the outline, nearly as coarse as asked


@pytest.mark.parametrize(("cells", "quadratic", "kinds"), [
    ("bricks", False, {"hex8", "wedge6"}), ("bricks", True, {"hex20", "wedge15"}), ("wedges", False, {"wedge6"}),
    ("tetrahedra", False, {"tet4"}), ("tetrahedra", True, {"tet10"}),
])  # fmt: skip
def test_extrusions_of_any_outline(cells, quadratic, kinds):
    outline = [[0, 0], [0.4, 0], {"through": [0.5, 0.1], "to": [0.4, 0.2]}, [0.1, 0.3]]
    holes = [{"at": [0.25, 0.1], "diameter": 0.08}]
    a = hk.Assembly().material("m", **STEEL)
    a.part("lump", extrusion={"outline": outline, "holes": holes, "length": 0.1, "size": 0.05, "cells": cells,
                              "quadratic": quadratic}, material="m")  # fmt: skip
    assert {b.kind for b in a.system.mesh.blocks} == kinds
    polygon = 0.5 * abs(sum(x0 * y1 - x1 * y0 for (x0, y0), (x1, y1) in (
        ((0, 0), (0.4, 0)), ((0.4, 0), (0.4, 0.2)), ((0.4, 0.2), (0.1, 0.3)), ((0.1, 0.3), (0, 0)))))  # fmt: skip
    exact = 0.1 * (polygon + np.pi * 0.01 / 2 - np.pi * 0.04**2)
    volume = sum(b.volumes().sum() for b in a.system.elements)
    assert volume == pytest.approx(exact, rel=1e-4 if quadratic else 2e-2)
    # every inner face belongs to two cells: the outside is closed
    faces = outer_faces(a.system.mesh, "lump")
    total = np.zeros(3)
    for corners, _ in faces:
        X = a.system.mesh.nodes[corners]
        last = X[:, 3] if X.shape[1] == 4 else X[:, 0]
        total += 0.5 * np.cross(X[:, 2] - X[:, 0], last - X[:, 1]).sum(axis=0)
    assert np.abs(total).max() < 1e-12
    free = a.modes(8)
    assert free.set.rigid.sum() == 6


def test_a_quarter_ring_by_outline_has_the_frequencies_of_the_tube():
    """Bricks and wedges of an outline against the grid of the same body, both converged."""
    arcs = [[0.1, 0], [0.2, 0], {"through": (0.2 * np.array([np.sqrt(0.5), np.sqrt(0.5)])).tolist(), "to": [0, 0.2]},
            [0, 0.1], {"through": (0.1 * np.array([np.sqrt(0.5), np.sqrt(0.5)])).tolist(), "to": [0.1, 0]}]  # fmt: skip
    found = []
    for shape in ({"extrusion": {"outline": arcs, "length": 0.05, "size": 0.025, "quadratic": True}},
                  {"tube": {"inner": 0.1, "outer": 0.2, "length": 0.05, "angle": "90 deg", "divisions": [4, 8, 2],
                            "quadratic": True}}):  # fmt: skip
        a = hk.Assembly().material("m", **STEEL).part("r", **shape, material="m")
        a.support("s", at={"plane": {"at": [0, 0, 0], "normal": "y"}}, hold=["x", "y", "z"])
        found.append(a.modes(5).frequencies_hz)
    np.testing.assert_allclose(found[0], found[1], rtol=2e-3)


@settings(max_examples=12, deadline=None)
@given(st.floats(0.02, 0.2), st.floats(-3.0, 3.0), st.integers(0, 99))
def test_where_an_outline_lies_changes_nothing(size, angle, seed):
    outline, holes = made_up(seed)
    c, s = np.cos(angle), np.sin(angle)
    size = max(size, 0.05)
    here = sheet(outline=outline, holes=holes, size=size).system.mesh
    there = sheet(outline=outline, holes=holes, size=size, origin=[3.0, -2.0, 5.0],
                  plane={"x": [c, s, 0.3], "y": [-s, c, 0.1]}).system.mesh  # fmt: skip
    assert area(here) == pytest.approx(area(there), rel=1e-9)
    assert [len(b.cells) for b in here.blocks] == [len(b.cells) for b in there.blocks]


def test_triangles_of_grids_change_their_way():
    """Bending and torsion of a strip do not depend on which way it is turned."""
    found = []
    for sides in ([[0.6, 0, 0], [0, 0.2, 0]], [[0, 0.2, 0], [0.6, 0, 0]]):
        a = hk.Assembly().material("m", **STEEL)
        n = [12, 4] if sides[0][0] else [4, 12]
        strip = {"corner": [0, 0, 0], "sides": sides, "divisions": n, "thickness": 0.005, "cells": "triangles"}
        a.part("p", plate=strip, material="m")
        a.support("s", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
        found.append(a.modes(4).frequencies_hz)
    np.testing.assert_allclose(found[0], found[1], rtol=3e-3)


SQUARE = [[0, 0], [1, 0], [1, 1], [0, 1]]


@pytest.mark.parametrize(("keys", "error", "match"), [
    ({"outline": [[0, 0], [1, 1], [1, 0], [0, 1]]}, MeshError, r"the outline crosses itself at \[0.5, 0.5\]"),
    ({"outline": SQUARE, "holes": [{"outline": [[0.5, 0.5], [1.5, 0.5], [0.5, 0.7]]}]}, MeshError, "hole 1 cross at"),
    ({"outline": SQUARE, "holes": [{"at": [2, 0.5], "diameter": 0.1}]}, MeshError, "hole 1 at .* lies outside"),
    ({"outline": SQUARE, "holes": [{"at": [0.5, 0.5], "diameter": d} for d in (0.4, 0.2)]}, MeshError, "within hole"),
    ({"outline": SQUARE, "holes": [{"at": [x, 0.5], "diameter": 0.3} for x in (0.4, 0.6)]}, MeshError, "hole 2 cross"),
    ({"outline": [[0, 0], [1, 0]]}, DescriptionError, "three corners"),
    ({"outline": [[0, 0], [1, 0], [2, 0]]}, MeshError, "crosses or touches another"),
    ({"outline": [[0, 0, 0], [1, 0, 0], [1, 1, 0]]}, DescriptionError, r"expected a corner \[x, y\].* got \[0, 0, 0\]"),
    ({"outline": [{"through": [0, 1], "to": [1, 1]}, [1, 0], [0, 0]]}, DescriptionError, "begins with a corner"),
    ({"outline": [[0, 0], {"through": [0.5, 0], "to": [1, 0]}, [1, 1]]}, MeshError, "lie on one line"),
    ({"outline": [[0, 0], {"corner": [1, 0], "radius": 0.8}, {"corner": [1, 1], "radius": 0.8}, [0, 1]]}, MeshError,
     "do not fit on the edge"),
    ({"outline": [[0, 0], {"corner": [1, 0], "radius": 0.1}, {"through": [0.9, 0.5], "to": [1, 1]}, [0, 1]]}, MeshError,
     "cannot be rounded: an arc leads on"),
    ({"outline": SQUARE, "holes": [{"at": [0.5, 0.5], "size": [1, 1]}]}, MeshError, "outline and hole 1 touch at"),
    ({"outline": SQUARE, "holes": [{"at": [0.1, 0.5], "diameter": 0.2}]}, MeshError, r"hole 1 touch at \[0, 0.5\]"),
    ({"outline": SQUARE, "holes": [{"at": [x, 0.5], "diameter": 0.2} for x in (0.4, 0.6)]}, MeshError,
     r"hole 1 and hole 2 touch at \[0.5, 0.5\] m"),
    ({"outline": SQUARE, "holes": [{"at": [x, 0.5], "size": [0.2, s]} for x, s in ((0.4, 0.2), (0.6, 0.1))]}, MeshError,
     "hole 1 and hole 2 touch"),
    ({"outline": SQUARE, "size": 1e-4}, MeshError, "takes some 1e.08 cells, and 5e.06 are the most"),
    ({"outline": SQUARE, "points": [[1.5, 0.5]]}, MeshError, r"the point \[1.5, 0.5\] m lies outside"),
    ({"outline": SQUARE, "lines": [[[0.5, 0.5], [1.2, 0.5]]]}, MeshError, "a line, at .* lies outside"),
    ({"outline": SQUARE, "finer": [{"at": [3, 3], "size": 0.01}]}, MeshError, "finer, at .* lies outside"),
    ({"outline": SQUARE, "finer": [{"at": [0.5, 0.5], "size": 1e-5, "within": 1}]}, MeshError, "finer takes some"),
    ({"outline": SQUARE, "finer": [{"at": [0.5, 0.5], "size": 0.01, "within": -1}]}, DescriptionError, "within"),
    ({"outline": SQUARE, "finer": [{"at": [0.5, 0.5], "size": 0.2}]}, DescriptionError, "finer has no effect"),
    ({"outline": SQUARE, "refine": [{"side": 1}]}, DescriptionError, "refine has no effect on an outline"),
    ({"outline": SQUARE, "corner": [0, 0, 0], "sides": [[1, 0, 0], [0, 1, 0]]}, DescriptionError, "or an outline"),
    ({"corner": [0, 0, 0], "sides": [[1, 0, 0], [0, 1, 0]], "points": [[0.5, 0.5]]}, DescriptionError, "without an"),
    ({"outline": SQUARE, "lines": [[[0, 0]]]}, DescriptionError, "two places or more"),
    ({"outline": SQUARE, "holes": [{"at": [0, 0], "outline": SQUARE}]}, DescriptionError, "has its own places"),
])  # fmt: skip
def test_outlines_that_cannot_be_are_refused_by_name(keys, error, match):
    with pytest.raises(error, match=match):
        sheet(**{"size": 0.1, **keys}).check()


def test_an_outline_by_divisions_is_refused():
    a = hk.Assembly().material("m", **STEEL)
    with pytest.raises(DescriptionError, match="size, not divisions"):
        a.part("p", plate={"outline": SQUARE, "divisions": 4, "thickness": 0.01}, material="m")


def test_a_line_that_ends_on_the_rim_has_a_node_there():
    a = sheet(outline=SQUARE, size=0.11, lines=[[[0.4, 0.37], [1.0, 0.37]], [[0.7, 0.1], [0.7, 0.9]]])
    X = a.system.mesh.nodes
    for place in ([1.0, 0.37, 0], [0.7, 0.37, 0], [0.4, 0.37, 0]):
        assert np.linalg.norm(X - place, axis=1).min() < 1e-9


def test_places_level_with_corners_and_ends_of_arcs_are_inside():
    """A ray to the side of a place passes exactly through where a rounding begins, at many sizes."""
    for scale in np.linspace(0.3, 3.0, 40):
        outline = [[0, 0], {"corner": [0.9 * scale, 0], "radius": 0.06 * scale},
                   {"corner": [0.9 * scale, 0.52 * scale], "radius": 0.06 * scale}, [0, 0.52 * scale]]  # fmt: skip
        points = [[0.85 * scale, 0.06 * scale], [0.3 * scale, 0.06 * scale], [0.5 * scale, 0.46 * scale]]
        mesh = sheet(outline=outline, points=points, size=0.3 * scale).system.mesh
        assert area(mesh) == pytest.approx(scale**2 * (0.9 * 0.52 - (2 - np.pi / 2) * 0.06**2), rel=2e-3)


def test_fewer_elements_around_holes_and_faster_growth():
    """28 small holes: a quarter of the elements, the same mass, frequencies within 0.2 %; refined they are more."""
    holes = [{"at": [0.06 + 0.08 * i, 0.06 + 0.08 * j], "diameter": 0.009} for i in range(7) for j in range(4)]

    def plate(**more: object) -> hk.Assembly:
        a = hk.Assembly().material("s", E=2e11, nu=0.3, density=7800)
        shape = {"outline": [[0, 0], [0.6, 0], [0.6, 0.36], [0, 0.36]], "size": 0.03, "thickness": 0.004,
                 "quadratic": True, "holes": holes, **more}  # fmt: skip
        a.part("p", plate=shape, material="s")
        return a.support("e", at={"part": "p", "plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")

    def count(a: hk.Assembly) -> int:
        return sum(len(b.cells) for b in a.system.mesh.blocks)

    usual, coarse = plate(), plate(around=6, growth=1.0)
    assert count(coarse) < 0.3 * count(usual)
    assert count(plate(around=6)) < 0.75 * count(usual)
    assert coarse.check().mass == pytest.approx(usual.check().mass, rel=1e-5)
    np.testing.assert_allclose(coarse.modes(4).frequencies_hz, usual.modes(4).frequencies_hz, rtol=2e-3)
    fine = finer(coarse.document, 2.0).description.parts["p"].plate
    assert (fine.around, fine.size) == (12, 0.015)
    for shape, words in (
        ({"corner": [0, 0, 0], "sides": [[1, 0, 0], [0, 1, 0]], "size": 0.1, "thickness": 1e-3, "around": 8},
         "around has no effect without an outline"),
        ({"outline": [[0, 0], [1, 0], [0, 1]], "size": 0.1, "thickness": 1e-3, "growth": 9}, "at most 3|less than"),
    ):  # fmt: skip
        with pytest.raises(HolokineError, match=words):
            hk.Assembly().material("s", E=2e11, nu=0.3, density=7800).part("p", plate=shape, material="s")
    with pytest.raises(HolokineError, match="around has no effect on an outline that is meshed as a grid"):
        hk.Assembly().material("s", E=2e11, nu=0.3, density=7800).part("p", material="s", extrusion={
            "outline": [[0, 0], [1, 0], [1, 1], [0, 1]], "length": 1, "size": 0.5, "around": 8})  # fmt: skip
