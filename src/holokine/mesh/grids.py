"""Structured grids in parameter space: lines, quads with holes, bricks, and conversion between cell kinds."""

from __future__ import annotations

from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from holokine.errors import MeshError
from holokine.mesh.cells import CELLS

__all__ = ["Grid", "brick_layers", "convert", "grid_lines", "planar_grid"]

Floats = NDArray[Any]  # float64
Ints = NDArray[Any]  # int64
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
    X, Y = np.meshgrid(xs, ys, indexing="ij")
    points = np.column_stack([X.ravel(), Y.ravel()])
    number = np.arange(nx * ny).reshape(nx, ny)
    cells = np.stack([number[:-1, :-1], number[1:, :-1], number[1:, 1:], number[:-1, 1:]], axis=-1).reshape(-1, 4)
    centre = points[cells].mean(axis=1)
    keep = np.ones(len(cells), dtype=bool)
    for x0, x1, y0, y1 in boxes:
        keep &= ~((centre[:, 0] > x0) & (centre[:, 0] < x1) & (centre[:, 1] > y0) & (centre[:, 1] < y1))
    if outline is not None:
        keep &= _inside(centre, outline)
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


def _inside(places: Floats, polygon: Floats) -> NDArray[np.bool_]:
    """Even-odd rule."""
    x, y = places[:, 0], places[:, 1]
    inside = np.zeros(len(places), dtype=bool)
    for (x0, y0), (x1, y1) in zip(polygon, np.roll(polygon, -1, axis=0), strict=True):
        crosses = (y0 > y) != (y1 > y)
        with np.errstate(divide="ignore", invalid="ignore"):
            inside ^= crosses & (x < (x1 - x0) * (y - y0) / (y1 - y0) + x0)
    return inside


def brick_layers(plane: Grid, zs: Floats) -> Grid:
    """Bricks from quads of a plane and layers along a third parameter."""
    flat, quads = plane
    n = len(flat)
    points = np.concatenate([np.column_stack([flat, np.full(n, z)]) for z in zs])
    cells = [np.column_stack([quads + k * n, quads + (k + 1) * n]) for k in range(len(zs) - 1)]
    return points, np.concatenate(cells)


# six tetrahedra around the diagonal 0-6, the same in every brick, so that neighbours match
_TETS = ((0, 1, 2, 6), (0, 2, 3, 6), (0, 3, 7, 6), (0, 7, 4, 6), (0, 4, 5, 6), (0, 5, 1, 6))


def convert(points: Floats, cells: Ints, kind: str, quadratic: bool) -> tuple[Floats, Ints, str]:
    """Turn quads or bricks into triangles, wedges, tetrahedra or their quadratic forms, in parameter space."""
    if kind == "quads":
        return points, cells, "quad4"
    if kind == "triangles":
        return points, np.concatenate([cells[:, [0, 1, 2]], cells[:, [0, 2, 3]]]), "tri3"
    if kind == "bricks":
        return (*_with_middles(points, cells, CELLS["hex8"].edges), "hex20") if quadratic else (points, cells, "hex8")
    if kind == "wedges":
        if quadratic:
            raise MeshError("wedges have six nodes here; leave out quadratic, or use bricks or tetrahedra")
        return points, np.concatenate([cells[:, [0, 1, 2, 4, 5, 6]], cells[:, [0, 2, 3, 4, 6, 7]]]), "wedge6"
    tets = np.concatenate([cells[:, list(t)] for t in _TETS])
    return (*_with_middles(points, tets, CELLS["tet4"].edges), "tet10") if quadratic else (points, tets, "tet4")


def _with_middles(points: Floats, cells: Ints, edges: tuple[tuple[int, int], ...]) -> Grid:
    pairs = np.concatenate([np.sort(cells[:, list(e)], axis=1) for e in edges])
    unique, inverse = np.unique(pairs, axis=0, return_inverse=True)
    middles = points[unique].mean(axis=1)
    added = (len(points) + inverse.reshape(-1)).reshape(len(edges), len(cells)).T
    return np.concatenate([points, middles]), np.concatenate([cells, added], axis=1)
