"""Structured grids in parameter space: lines, quads with holes, bricks, and conversion between cell kinds."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array
from scipy.sparse.csgraph import breadth_first_order, connected_components

from holokine.arrays import Floats, Ints
from holokine.errors import MeshError
from holokine.mesh.cells import CELLS
from holokine.mesh.quality import corner_shapes
from holokine.mesh.triangulate import even_odd
from holokine.sizes import afford_nodes

__all__ = [
    "Grid", "brick_layers", "chequered", "convert", "grid_lines", "on_circles", "planar_grid", "pushed",
    "surface_cells", "with_centres", "with_middles",
]  # fmt: skip

Grid = tuple[Floats, Ints]


def grid_lines(
    length: float, divisions: int | None, size: float | None, refine: list[tuple[float, float, int]], fixed: list[float]
) -> Floats:
    """Places of grid lines from 0 to `length`.

    Parameters
    ----------
    refine : list of (from, to, times)
        Stretches, as fractions, in which elements are so many times smaller.
    fixed : list of float
        Places that must be lines (edges of holes).
    """
    step = size if size is not None else length / (divisions or 1)
    stops = sorted({0.0, length, *fixed, *(f * length for a, b, _ in refine for f in (a, b))})
    tiny = 1e-9 * length
    stops = [s for i, s in enumerate(stops) if i == 0 or s - stops[i - 1] > tiny]
    lines = [0.0]
    for a, b in pairwise(stops):
        middle = (a + b) / 2.0 / length
        times = max([t for lo, hi, t in refine if lo <= middle <= hi], default=1)
        afford_nodes(len(lines) + (b - a) / step * times)
        n = max(1, int(np.ceil((b - a) / step * times - 1e-6)))
        lines += list(a + (b - a) * np.arange(1, n + 1) / n)
    return np.array(lines)


def _unique(points: Floats, cells: Ints) -> Grid:
    """Merge equal nodes and drop those in no cell."""
    scale = max(float(np.ptp(points, axis=0).max()), 1e-30)
    keys = np.round(points / (scale * 1e-9)).astype(np.int64)
    _, first, inverse = np.unique(keys, axis=0, return_index=True, return_inverse=True)
    cells = inverse.reshape(-1)[cells]
    used, renumbered = np.unique(cells, return_inverse=True)
    return points[first][used], renumbered.reshape(cells.shape)


def planar_grid(
    xs: Floats,
    ys: Floats,
    circles: list[tuple[float, float, float]],
    boxes: list[tuple[float, float, float, float]],
    outline: Floats | None = None,
    layers: int = 2,
) -> Grid:
    """Quads on grid lines, less holes and what lies outside an outline.

    Parameters
    ----------
    circles : list of (x, y, radius)
        Each must lie in a square of grid lines; it is meshed as a ring from the square to the circle.
    boxes : list of (x0, x1, y0, y1)
        Rectangular holes on grid lines.
    outline : ndarray, shape (corners, 2), optional
        Polygon on grid lines.
    """
    nx, ny = len(xs), len(ys)
    afford_nodes(float(nx) * ny)
    X, Y = np.meshgrid(xs, ys, indexing="ij")
    points = np.column_stack([X.ravel(), Y.ravel()])
    number = np.arange(nx * ny).reshape(nx, ny)
    cells = np.stack([number[:-1, :-1], number[1:, :-1], number[1:, 1:], number[:-1, 1:]], axis=-1).reshape(-1, 4)
    centre = points[cells].mean(axis=1)
    keep = np.ones(len(cells), dtype=bool)
    for x0, x1, y0, y1 in boxes:
        keep &= ~((centre[:, 0] > x0) & (centre[:, 0] < x1) & (centre[:, 1] > y0) & (centre[:, 1] < y1))
    if outline is not None:
        keep &= even_odd(centre, np.stack([outline, np.roll(outline, -1, axis=0)], axis=1))
    extra_points, extra_cells = [points], []
    count = len(points)
    for x, y, r, half in _squares(circles, xs, ys):
        inside = (abs(centre[:, 0] - x) < half) & (abs(centre[:, 1] - y) < half)
        if not (inside & keep).sum() == inside.sum():
            raise MeshError(f"the hole at [{x:g}, {y:g}] m overlaps another hole or the edge; leave more room")
        keep &= ~inside
        edge = _square_edge(xs, ys, x, y, half)
        way = edge - [x, y]
        angle = np.arctan2(way[:, 1], way[:, 0])
        rim = np.array([x, y]) + r * np.column_stack([np.cos(angle), np.sin(angle)])
        n = len(edge)
        share = np.linspace(0.0, 1.0, layers + 1)[:, None, None]
        ring = (rim + share * (edge - rim)).reshape(-1, 2)
        k = np.arange(n)
        for layer in range(layers):
            a, b = count + layer * n, count + (layer + 1) * n
            extra_cells.append(np.column_stack([a + k, b + k, b + (k + 1) % n, a + (k + 1) % n]))
        extra_points.append(ring)
        count += len(ring)
    if not keep.any():
        raise MeshError("nothing is left of the outline: its holes take it all")
    return _unique(np.concatenate(extra_points), np.concatenate([cells[keep], *extra_cells]))


def _squares(
    circles: list[tuple[float, float, float]], xs: Floats, ys: Floats
) -> list[tuple[float, float, float, float]]:
    result = []
    for x, y, r in circles:
        half = hole_square(r)
        for lines, c in ((xs, x), (ys, y)):
            if c - half < lines[0] - 1e-12 or c + half > lines[-1] + 1e-12:
                raise MeshError(
                    f"the hole at [{x:g}, {y:g}] m lies too near to the edge: {half:g} m around it is needed"
                )
        result.append((x, y, r, half))
    return result


def hole_square(radius: float) -> float:
    """Half side of the square around a circular hole that is meshed as a ring."""
    return 1.6 * radius


def _square_edge(xs: Floats, ys: Floats, x: float, y: float, half: float) -> Floats:
    """Grid nodes on the rim of the square, counter-clockwise."""
    tiny = 1e-9 * half
    px = xs[(xs > x - half - tiny) & (xs < x + half + tiny)]
    py = ys[(ys > y - half - tiny) & (ys < y + half + tiny)]
    sides = [
        np.column_stack([px[:-1], np.full(len(px) - 1, py[0])]),
        np.column_stack([np.full(len(py) - 1, px[-1]), py[:-1]]),
        np.column_stack([px[:0:-1], np.full(len(px) - 1, py[-1])]),
        np.column_stack([np.full(len(py) - 1, px[0]), py[:0:-1]]),
    ]
    return np.concatenate(sides)


def brick_layers(plane: Grid, zs: Floats) -> Grid:
    """Bricks from quads of a plane and layers along a third parameter."""
    flat, quads = plane
    n = len(flat)
    afford_nodes(float(n) * len(zs))
    points = np.concatenate([np.column_stack([flat, np.full(n, z)]) for z in zs])
    cells = [np.column_stack([quads + k * n, quads + (k + 1) * n]) for k in range(len(zs) - 1)]
    return points, np.concatenate(cells)


# six tetrahedra around the diagonal 0-6, the same in every brick, so that neighbours match
_FOLDED = 0.1  # shape of a corner below which an arc is not worth what it costs

_TETS = ((0, 1, 2, 6), (0, 2, 3, 6), (0, 3, 7, 6), (0, 7, 4, 6), (0, 4, 5, 6), (0, 5, 1, 6))


def chequered(quads: Ints) -> NDArray[np.bool_]:
    """Which quads are the dark squares: neighbours differ where a board of them can be coloured so."""
    edges = np.sort(np.concatenate([quads[:, [a, (a + 1) % 4]] for a in range(4)]), axis=1)
    owner = np.tile(np.arange(len(quads)), 4)
    order = np.lexsort((edges[:, 1], edges[:, 0]))
    same = (edges[order[1:]] == edges[order[:-1]]).all(axis=1)
    a, b = owner[order[:-1][same]], owner[order[1:][same]]
    graph = coo_array((np.ones(len(a)), (a, b)), shape=(len(quads),) * 2).tocsr()
    _, label = connected_components(graph, directed=False)
    depth = np.zeros(len(quads), dtype=np.int64)
    for start in np.unique(label, return_index=True)[1]:
        reached, before = breadth_first_order(graph, start, directed=False)
        for cell in reached[1:]:
            depth[cell] = depth[before[cell]] + 1
    return depth % 2 == 1


def _halves(cells: Ints, layers: int) -> Ints:
    """Triangles, or wedges of two `layers`, from quads or bricks; the cut changes its way from one to the next."""
    dark = chequered(cells[:, :4])
    ways = [[(0, 1, 2), (0, 2, 3)], [(0, 1, 3), (1, 2, 3)]]
    cuts = [np.array([[c + 4 * k for k in range(layers) for c in t] for t in way]) for way in ways]
    return np.concatenate([np.where(dark[:, None], cells[:, cuts[1][t]], cells[:, cuts[0][t]]) for t in range(2)])


def convert(points: Floats, cells: Ints, kind: str, quadratic: bool) -> tuple[Floats, Ints, str]:
    """Turn quads or bricks into triangles, wedges, tetrahedra or their quadratic forms, in parameter space."""
    if kind in ("quads", "triangles"):
        if kind == "triangles":
            cells = _halves(cells, 1)
        points, ((cells, found),) = surface_cells(points, [cells], quadratic, {})
        return points, cells, found
    if kind == "bricks":
        return (*with_middles(points, cells, CELLS["hex8"].edges), "hex20") if quadratic else (points, cells, "hex8")
    if kind == "wedges":
        cells = _halves(cells, 2)
        return (
            (*with_middles(points, cells, CELLS["wedge6"].edges), "wedge15") if quadratic else (points, cells, "wedge6")
        )
    tets = np.concatenate([cells[:, list(t)] for t in _TETS])
    return (*with_middles(points, tets, CELLS["tet4"].edges), "tet10") if quadratic else (points, tets, "tet4")


def surface_cells(
    points: Floats, cells: list[Ints], quadratic: bool, bent: dict[tuple[int, int], Floats]
) -> tuple[Floats, list[tuple[Ints, str]]]:
    """Flat cells of three and four nodes with their kind; quadratic ones with middles on arcs, by pair of ends."""
    if not quadratic:
        return points, [(c, "quad4" if c.shape[1] == 4 else "tri3") for c in cells]
    kinds = ["quad4" if c.shape[1] == 4 else "tri3" for c in cells]
    points, cells = _all_middles(points, cells, [CELLS[k].edges for k in kinds], bent, kinds)
    blocks: list[tuple[Ints, str]] = []
    for c, kind in zip(cells, kinds, strict=True):
        if kind == "tri3":
            blocks.append((c, "tri6"))
        else:
            points, c, _ = with_centres(points, c)
            blocks.append((c, "quad9"))
    return points, blocks


def pushed(
    points: Floats, cells: list[Ints], zs: Floats, kind: str, quadratic: bool, bent: dict[tuple[int, int], Floats]
) -> tuple[Floats, list[tuple[Ints, str]]]:
    """Solids from flat cells and layers: bricks with wedges among them, wedges, or tetrahedra."""
    n = len(points)
    afford_nodes(float(n) * len(zs))
    space = np.concatenate([np.column_stack([points, np.full(n, z)]) for z in zs])
    stacked = [
        np.concatenate([np.column_stack([c + k * n, c + (k + 1) * n]) for k in range(len(zs) - 1)]) for c in cells
    ]
    kinds = ["hex8" if c.shape[1] == 8 else "wedge6" for c in stacked]
    if kind == "tetrahedra":
        stacked, kinds = [_wedges_to_tets(c) for c in stacked], ["tet4"] * len(stacked)
    if quadratic:
        arcs = {(a + k * n, b + k * n): np.append(place, z) for (a, b), place in bent.items() for k, z in enumerate(zs)}
        space, stacked = _all_middles(space, stacked, [CELLS[k].edges for k in kinds], arcs, kinds)
        kinds = [{"hex8": "hex20", "wedge6": "wedge15", "tet4": "tet10"}[k] for k in kinds]
    return space, list(zip(stacked, kinds, strict=True))


def _wedges_to_tets(wedges: Ints) -> Ints:
    """Three tetrahedra of each wedge; diagonals start at the lowest node of a side, so that neighbours match.

    Dompierre et al., *How to subdivide pyramids, prisms and hexahedra into tetrahedra* (1999).
    """
    turns = np.array([[0, 1, 2, 3, 4, 5], [1, 2, 0, 4, 5, 3], [2, 0, 1, 5, 3, 4],
                      [3, 5, 4, 0, 2, 1], [4, 3, 5, 1, 0, 2], [5, 4, 3, 2, 1, 0]])  # fmt: skip
    v = np.take_along_axis(wedges, turns[np.argmin(wedges, axis=1)], axis=1)
    first = np.minimum(v[:, 1], v[:, 5]) < np.minimum(v[:, 2], v[:, 4])
    one = v[:, [0, 1, 2, 5, 0, 1, 5, 4, 0, 4, 5, 3]]
    two = v[:, [0, 1, 2, 4, 0, 4, 2, 5, 0, 4, 5, 3]]
    return np.where(first[:, None], one, two).reshape(-1, 4)


def _all_middles(
    points: Floats, blocks: list[Ints], edges: list[tuple[tuple[int, int], ...]], bent: dict[tuple[int, int], Floats],
    kinds: Sequence[str] = (),
) -> tuple[Floats, list[Ints]]:  # fmt: skip
    """Cells with a node in the middle of every edge, shared among all; on its arc where one is given for its ends.

    An arc that would fold a cell (of a hole next to a line) is left straight there.
    """
    pairs = [
        np.sort(np.stack([c[:, list(e)] for e in own], axis=1), axis=2) for c, own in zip(blocks, edges, strict=True)
    ]
    every = np.concatenate([p.reshape(-1, 2) for p in pairs])
    unique, inverse = np.unique(every, axis=0, return_inverse=True)
    chords = points[unique].mean(axis=1)
    middles, on_arc = chords.copy(), np.zeros(len(unique), dtype=bool)
    if bent:
        number = {(int(a), int(b)): i for i, (a, b) in enumerate(unique)}
        for pair, place in bent.items():
            if pair in number:
                middles[number[pair]], on_arc[number[pair]] = place, True
    added = len(points) + inverse.reshape(-1)
    result, start = [], 0
    for c, p in zip(blocks, pairs, strict=True):
        stop = start + p.shape[0] * p.shape[1]
        result.append(np.concatenate([c, added[start:stop].reshape(len(c), -1)], axis=1))
        start = stop
    curved = {"quad4": "quad9", "tri3": "tri6", "hex8": "hex20", "wedge6": "wedge15", "tet4": "tet10"}
    for c, kind in zip(result, kinds, strict=True) if on_arc.any() else ():
        numbers = c[:, len(CELLS[kind].corners) :] - len(points)
        some = np.flatnonzero(on_arc[numbers].any(axis=1))
        bent_ones, straight = (
            corner_shapes(np.concatenate([points, m]), curved[kind], c[some]) for m in (middles, chords)
        )
        folded = numbers[some[bent_ones < np.minimum(_FOLDED, straight / 2.0)]].ravel()
        middles[folded] = chords[folded]
    return np.concatenate([points, middles]), result


def with_centres(points: Floats, cells: Ints) -> tuple[Floats, Ints, str]:
    """A node in the middle of quads of eight nodes, where their edges say that it is."""
    X = points[cells]
    middle = X[:, 4:8].sum(axis=1) / 2.0 - X[:, :4].sum(axis=1) / 4.0
    number = len(points) + np.arange(len(cells))
    return np.concatenate([points, middle]), np.column_stack([cells, number]), "quad9"


def on_circles(points: Floats, cells: Ints, kind: str, circles: list[tuple[float, float, float]]) -> Floats:
    """Points of a quadratic mesh with those in the middle of a chord of a circle moved out to it."""
    if CELLS[kind].order == 1 or not circles:
        return points
    points = points.copy()
    edges = CELLS[kind].edges
    first = CELLS[kind].corner_count
    for x, y, r in circles:
        away = np.hypot(points[:, 0] - x, points[:, 1] - y)
        on = np.abs(away - r) <= 1e-9 * r
        for i, (a, b) in enumerate(edges):
            middle = np.unique(cells[on[cells[:, a]] & on[cells[:, b]], first + i])
            middle = middle[away[middle] > 0.5 * r]
            points[middle, :2] = [x, y] + (points[middle, :2] - [x, y]) * (r / away[middle])[:, None]
    if kind == "quad9":
        X = points[cells]
        points[cells[:, 8]] = X[:, 4:8].sum(axis=1) / 2.0 - X[:, :4].sum(axis=1) / 4.0
    return points


def with_middles(points: Floats, cells: Ints, edges: tuple[tuple[int, int], ...]) -> Grid:
    points, (cells,) = _all_middles(points, [cells], [edges], {})
    return points, cells
