"""Shape functions and quadrature of the solid elements, in the node order of the VTK file formats."""

from __future__ import annotations

from collections.abc import Callable
from functools import lru_cache, partial
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.mesh.cells import CELLS

if TYPE_CHECKING:
    from holokine.arrays import Floats

__all__ = [
    "NODE_COUNT", "QUAD9_PLACES", "TRI6_PLACES", "face_rule", "face_shape", "gauss", "middle_place", "node_places",
    "shape", "solid_rule", "surface_shape", "triangle_rule",
]  # fmt: skip

NODE_COUNT = {kind.name: kind.count for kind in CELLS.values()}

_CORNERS = np.array(
    [[-1, -1, -1], [1, -1, -1], [1, 1, -1], [-1, 1, -1], [-1, -1, 1], [1, -1, 1], [1, 1, 1], [-1, 1, 1]], dtype=float
)
_EDGES = [(0, 1), (1, 2), (2, 3), (3, 0), (4, 5), (5, 6), (6, 7), (7, 4), (0, 4), (1, 5), (2, 6), (3, 7)]
HEX20_PLACES = np.concatenate([_CORNERS, [(_CORNERS[a] + _CORNERS[b]) / 2 for a, b in _EDGES]])
QUAD9_PLACES = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1], [0, -1], [1, 0], [0, 1], [-1, 0], [0, 0]], dtype=float)
TRI6_PLACES = np.array([[0, 0], [1, 0], [0, 1], [0.5, 0], [0.5, 0.5], [0, 0.5]], dtype=float)
_TET_EDGES = [(0, 1), (1, 2), (2, 0), (0, 3), (1, 3), (2, 3)]


def _fixed(*arrays: Floats) -> tuple[Floats, ...]:
    """Arrays that are handed out again and so may not be changed."""
    for a in arrays:
        a.setflags(write=False)
    return arrays


@lru_cache(maxsize=16)
def gauss(n: int) -> tuple[Floats, Floats]:
    """Gauss-Legendre points and weights on [-1, 1]."""
    x, w = _fixed(*np.polynomial.legendre.leggauss(n))
    return x, w


def shape(kind: str, p: Floats) -> tuple[Floats, Floats]:
    """Shape functions (nodes,) and their derivatives (nodes, 3) at a reference place."""
    return _shape(kind, *(float(x) for x in p))


@lru_cache(maxsize=2048)
def _shape(kind: str, *place: float) -> tuple[Floats, Floats]:
    N, dN = _fixed(*_SHAPES[kind](np.array(place)))
    return N, dN


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


def _wedge15(p: Floats) -> tuple[Floats, Floats]:
    t = np.array([1 - p[0] - p[1], p[0], p[1]])
    dt = np.array([[-1.0, -1.0], [1.0, 0.0], [0.0, 1.0]])
    z = p[2]
    pairs = [(0, 1), (1, 2), (2, 0)]
    N, flat, up = [], [], []
    for sign in (-1.0, 1.0):
        side = 1 + sign * z
        N += list(t * (2 * t - 1) * side / 2 - t * (1 - z * z) / 2)
        flat += list(((4 * t - 1) * side / 2 - (1 - z * z) / 2)[:, None] * dt)
        up += list(sign * t * (2 * t - 1) / 2 + t * z)
    for sign in (-1.0, 1.0):
        side = 1 + sign * z
        N += [2 * t[a] * t[b] * side for a, b in pairs]
        flat += [2 * (dt[a] * t[b] + t[a] * dt[b]) * side for a, b in pairs]
        up += [2 * sign * t[a] * t[b] for a, b in pairs]
    N += list(t * (1 - z * z))
    flat += list(dt * (1 - z * z))
    up += list(-2 * z * t)
    return np.array(N), np.column_stack([np.array(flat), np.array(up)])


def _pyramid(quadratic: bool, p: Floats) -> tuple[Floats, Floats]:
    """Rational functions over the base [-1, 1]² with the top at z = 1 (Bedrosian, IJNME 35 (1992) 95-108).

    Derivatives by a complex step, which is exact to rounding.
    """

    def values(q: Any) -> Any:
        x, y, z = q
        m = 1 - z
        corner = [(m + a * x) * (m + b * y) / (4 * m) for a, b in _BASE]
        if not quadratic:
            return np.array([*corner, z])
        base = [
            (m * m - x * x) * (m - y),
            (m * m - y * y) * (m + x),
            (m * m - x * x) * (m + y),
            (m * m - y * y) * (m - x),
        ]
        return np.array(
            [c * (a * x + b * y - 1) for c, (a, b) in zip(corner, _BASE, strict=True)]
            + [z * (2 * z - 1)]
            + [f / (2 * m) for f in base]
            + [4 * z * c for c in corner]
        )

    step = 1e-30
    rows = [values(p + 1j * step * np.eye(3)[k]).imag / step for k in range(3)]
    return np.real(values(p.astype(complex))), np.stack(rows, axis=1)


_BASE = ((-1, -1), (1, -1), (1, 1), (-1, 1))
_SHAPES: dict[str, Callable[[Floats], tuple[Floats, Floats]]] = {
    "hex8": _hex8,
    "hex20": _hex20,
    "tet4": _tet4,
    "tet10": _tet10,
    "wedge6": _wedge6,
    "wedge15": _wedge15,
    "pyramid5": partial(_pyramid, False),
    "pyramid13": partial(_pyramid, True),
}


@lru_cache(maxsize=16)
def node_places(kind: str) -> Floats:
    """Reference places of the nodes of a solid, shape (nodes, 3)."""
    corners = {
        "hex": _CORNERS,
        "tet": np.eye(4, 3, -1),
        "wedge": np.array([[0, 0, -1], [1, 0, -1], [0, 1, -1], [0, 0, 1], [1, 0, 1], [0, 1, 1]], dtype=float),
        "pyramid": np.array([*([a, b, 0] for a, b in _BASE), [0, 0, 1]], dtype=float),
    }[kind.rstrip("0123456789")]
    if CELLS[kind].order == 1:
        return corners
    return np.concatenate([corners, [(corners[a] + corners[b]) / 2 for a, b in CELLS[kind].edges]])


def middle_place(kind: str) -> Floats:
    """Reference place of a solid's middle."""
    found = {"hex": [0, 0, 0], "tet": [0.25] * 3, "wedge": [1 / 3, 1 / 3, 0], "pyramid": [0, 0, 0.25]}
    return np.array(found[kind.rstrip("0123456789")], dtype=float)


def _pyramid_rule(n: int) -> tuple[Floats, Floats]:
    """Conical product: Gauss over the base, Gauss-Jacobi along the height."""
    from scipy.special import roots_jacobi

    g, w = gauss(n)
    t, v = roots_jacobi(n, 2.0, 0.0)
    z, v = (1 + t) / 2, v / 8
    points = [[x * (1 - h), y * (1 - h), h] for h in z for y in g for x in g]
    return np.array(points), np.array([a * b * c for c in v for b in w for a in w])


def surface_shape(kind: str, p: Floats) -> tuple[Floats, Floats]:
    """Shape functions (points, nodes) and their derivatives (points, nodes, 2) at reference places (points, 2)."""
    return _surface_shape(kind, tuple(np.asarray(p, dtype=float).ravel().tolist()))


@lru_cache(maxsize=256)
def _surface_shape(kind: str, places: tuple[float, ...]) -> tuple[Floats, Floats]:
    p = np.array(places).reshape(-1, 2)
    N, dN = _fixed(*_surface_shape_at(kind, p[:, :1], p[:, 1:]))
    return N, dN


def _surface_shape_at(kind: str, r: Floats, s: Floats) -> tuple[Floats, Floats]:
    if kind == "quad9":

        def line(x: Floats, at: Floats) -> tuple[Floats, Floats]:
            value = np.where(at == 0, 1 - x**2, x * (x + at) / 2)
            return value, np.where(at == 0, -2 * x, x + at / 2)

        a, da = line(r, QUAD9_PLACES[:, 0])
        b, db = line(s, QUAD9_PLACES[:, 1])
        return a * b, np.stack([da * b, a * db], axis=2)
    L = np.concatenate([1 - r - s, r, s], axis=1)
    dL = np.array([[-1.0, -1.0], [1.0, 0.0], [0.0, 1.0]])
    pairs = [(0, 1), (1, 2), (2, 0)]
    N = np.concatenate([L * (2 * L - 1), *(4 * L[:, [a]] * L[:, [b]] for a, b in pairs)], axis=1)
    corner = (4 * L - 1)[:, :, None] * dL
    middle = np.stack([4 * (L[:, [a]] * dL[b] + L[:, [b]] * dL[a]) for a, b in pairs], axis=1)
    return N, np.concatenate([corner, middle], axis=1)


def face_shape(nodes: int, points: Floats) -> tuple[Floats, Floats]:
    """Shape functions of a face of 3, 4, 6, 8 or 9 nodes, (points, nodes), and derivatives, (points, nodes, 2)."""
    r, s = points[:, :1], points[:, 1:]
    if nodes == 3:
        flat = np.array([[-1.0, -1.0], [1.0, 0.0], [0.0, 1.0]])
        return np.concatenate([1.0 - r - s, r, s], axis=1), np.tile(flat, (len(points), 1, 1))
    if nodes in (6, 9):
        return _surface_shape_at("tri6" if nodes == 6 else "quad9", r, s)
    x, y = np.array(_BASE, dtype=float).T
    a, b = 1.0 + x * r, 1.0 + y * s
    N, dN = a * b / 4.0, np.stack([x * b, y * a], axis=2) / 4.0
    if nodes == 4:
        return N, dN
    total = x * r + y * s - 1.0  # the face of a brick: corners, then middles from the first corner on
    corner = np.stack([dN[..., 0] * total + N * x, dN[..., 1] * total + N * y], axis=2)
    flat_r, flat_s = 1.0 - r**2, 1.0 - s**2
    middles = [flat_r * (1 - s), flat_s * (1 + r), flat_r * (1 + s), flat_s * (1 - r)]
    rates = [(-2 * r * (1 - s), -flat_r), (flat_s, -2 * s * (1 + r)), (-2 * r * (1 + s), flat_r),
             (-flat_s, -2 * s * (1 - r))]  # fmt: skip
    rate = np.stack([np.concatenate(pair, axis=1) for pair in rates], axis=1) / 2.0
    return np.concatenate([N * total, np.concatenate(middles, axis=1) / 2.0], axis=1), np.concatenate([corner, rate], 1)


@lru_cache(maxsize=8)
def face_rule(nodes: int) -> tuple[Floats, Floats]:
    """Points, (points, 2), and weights of a face of 3, 4, 6, 8 or 9 nodes."""
    if nodes == 3:
        return np.array([[1 / 6, 1 / 6], [2 / 3, 1 / 6], [1 / 6, 2 / 3]]), np.full(3, 1 / 6)
    if nodes == 6:
        return triangle_rule()
    g, w = gauss(2 if nodes == 4 else 3)
    return np.array([[x, y] for y in g for x in g]), np.array([a * b for b in w for a in w])


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
    if kind == "wedge15":
        tri, w = triangle_rule()
        g, gw = gauss(3)
        return np.array([[x, y, z] for z in g for x, y in tri]), np.concatenate([w * v for v in gw])
    if kind in ("pyramid5", "pyramid13"):
        return _pyramid_rule(2 if kind == "pyramid5" and use == "stiffness" else 3)
    if kind == "tet4":
        return _tet_rule(2)
    return _tet_rule(2 if use == "stiffness" else 5)
