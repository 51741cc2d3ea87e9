"""Shape functions and quadrature of the solid elements, in the node order of the VTK file formats."""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from holokine.mesh.cells import CELLS

__all__ = ["NODE_COUNT", "gauss", "shape", "solid_rule", "triangle_rule"]

Floats = NDArray[Any]  # float64
NODE_COUNT = {kind.name: kind.count for kind in CELLS.values()}

_CORNERS = np.array(
    [[-1, -1, -1], [1, -1, -1], [1, 1, -1], [-1, 1, -1], [-1, -1, 1], [1, -1, 1], [1, 1, 1], [-1, 1, 1]], dtype=float
)
_EDGES = [(0, 1), (1, 2), (2, 3), (3, 0), (4, 5), (5, 6), (6, 7), (7, 4), (0, 4), (1, 5), (2, 6), (3, 7)]
HEX20_PLACES = np.concatenate([_CORNERS, [(_CORNERS[a] + _CORNERS[b]) / 2 for a, b in _EDGES]])
_TET_EDGES = [(0, 1), (1, 2), (2, 0), (0, 3), (1, 3), (2, 3)]


def gauss(n: int) -> tuple[Floats, Floats]:
    """Gauss-Legendre points and weights on [-1, 1]."""
    return np.polynomial.legendre.leggauss(n)


def shape(kind: str, p: Floats) -> tuple[Floats, Floats]:
    """Shape functions (nodes,) and their derivatives (nodes, 3) at a reference place."""
    return _SHAPES[kind](np.asarray(p, dtype=float))


def _hex8(p: Floats) -> tuple[Floats, Floats]:
    f = 1.0 + _CORNERS * p
    N = f.prod(axis=1) / 8.0
    dN = np.stack([_CORNERS[:, k] * np.delete(f, k, axis=1).prod(axis=1) for k in range(3)], axis=1) / 8.0
    return N, dN


def _hex20(p: Floats) -> tuple[Floats, Floats]:
    N, dN = np.zeros(20), np.zeros((20, 3))
    c = _CORNERS
    f = 1.0 + c * p
    total = (c * p).sum(axis=1) - 2.0
    product = f.prod(axis=1)
    N[:8] = product * total / 8.0
    for k in range(3):
        others = np.delete(f, k, axis=1).prod(axis=1)
        dN[:8, k] = (c[:, k] * others * total + product * c[:, k]) / 8.0
    for i in range(8, 20):
        q = HEX20_PLACES[i]
        g = np.where(q == 0, 1.0 - p**2, 1.0 + q * p)
        dg = np.where(q == 0, -2.0 * p, q)
        N[i] = g.prod() / 4.0
        for k in range(3):
            dN[i, k] = dg[k] * np.delete(g, k).prod() / 4.0
    return N, dN


def _tet4(p: Floats) -> tuple[Floats, Floats]:
    return np.array([1.0 - p.sum(), *p]), np.array([[-1.0, -1, -1], [1, 0, 0], [0, 1, 0], [0, 0, 1]])


def _tet10(p: Floats) -> tuple[Floats, Floats]:
    L, dL = _tet4(p)
    N = np.concatenate([L * (2 * L - 1), [4 * L[a] * L[b] for a, b in _TET_EDGES]])
    dN = np.concatenate(
        [(4 * L - 1)[:, None] * dL, np.array([4 * (dL[a] * L[b] + L[a] * dL[b]) for a, b in _TET_EDGES])]
    )
    return N, dN


def _wedge6(p: Floats) -> tuple[Floats, Floats]:
    t = np.array([1 - p[0] - p[1], p[0], p[1]])
    dt = np.array([[-1.0, -1.0], [1.0, 0.0], [0.0, 1.0]])
    low, high = (1 - p[2]) / 2, (1 + p[2]) / 2
    N = np.concatenate([t * low, t * high])
    dN = np.concatenate([np.column_stack([dt * low, -t / 2]), np.column_stack([dt * high, t / 2])])
    return N, dN


_SHAPES = {"hex8": _hex8, "hex20": _hex20, "tet4": _tet4, "tet10": _tet10, "wedge6": _wedge6}


def _tet_rule(degree: int) -> tuple[Floats, Floats]:
    """Rules on the tetrahedron; degree 2 with 4 points, degree 5 with 15 (Keast, CMAME 55 (1986) 339-348)."""
    if degree <= 2:
        a, b = 0.5854101966249685, 0.1381966011250105
        return np.array([[b, b, b], [a, b, b], [b, a, b], [b, b, a]]), np.full(4, 1 / 24)
    points, weights = [[0.25, 0.25, 0.25]], [0.030283678097089]
    for a, w in ((1 / 3, 0.006026785714286), (1 / 11, 0.011645249086029)):
        rest = 1.0 - 3.0 * a
        for place in ([a, a, a], [rest, a, a], [a, rest, a], [a, a, rest]):
            points.append(place)
            weights.append(w)
    a, w = 0.066550153573664, 0.010949141561386
    b = 0.5 - a
    for place in ([a, a, b], [a, b, a], [b, a, a], [a, b, b], [b, a, b], [b, b, a]):
        points.append(place)
        weights.append(w)
    return np.array(points), np.array(weights)


def triangle_rule() -> tuple[Floats, Floats]:
    """Six points of degree 4 in the triangle (Dunavant, Int. J. Num. Meth. Eng. 21 (1985) 1129-1148)."""
    a, b = 0.445948490915965, 0.091576213509771
    points = [[a, a], [1 - 2 * a, a], [a, 1 - 2 * a], [b, b], [1 - 2 * b, b], [b, 1 - 2 * b]]
    return np.array(points), np.array([0.223381589678011 / 2] * 3 + [0.109951743655322 / 2] * 3)


def _wedge_rule() -> tuple[Floats, Floats]:
    """The triangle's rule times two points along the height."""
    tri, w = triangle_rule()
    g, gw = gauss(2)
    points = [[x, y, z] for z in g for x, y in tri]
    return np.array(points), np.concatenate([w * v for v in gw])


@lru_cache(maxsize=16)
def solid_rule(kind: str, use: str) -> tuple[Floats, Floats]:
    """Quadrature points (points, 3) and weights for `use` stiffness or mass."""
    if kind in ("hex8", "hex20"):
        n = 2 if kind == "hex8" else 3
        g, w = gauss(n)
        points = np.array([[x, y, z] for z in g for y in g for x in g])
        return points, np.array([a * b * c for c in w for b in w for a in w])
    if kind == "wedge6":
        return _wedge_rule()
    if kind == "tet4":
        return _tet_rule(2)
    return _tet_rule(2 if use == "stiffness" else 5)
