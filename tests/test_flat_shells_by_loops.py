"""Flat shells from their definition, one element, one point and one node at a time; any number of elements at once.

Nothing here is vectorised over elements or points, and no matrix is taken from the library but the laminate's.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

import holokine as hk
from conftest import STEEL
from holokine.elements.kinds import ElementKind

CORNERS = [(-1, -1), (1, -1), (1, 1), (-1, 1)]


def functions(n: int, r: float, s: float) -> list[tuple[float, float, float]]:
    """Value and slopes along r and s of the functions of each node."""
    if n == 3:
        return [(1 - r - s, -1.0, -1.0), (r, 1.0, 0.0), (s, 0.0, 1.0)]
    return [((1 + a * r) * (1 + b * s) / 4, a * (1 + b * s) / 4, b * (1 + a * r) / 4) for a, b in CORNERS]


def jacobian(xy: np.ndarray, r: float, s: float) -> np.ndarray:
    J = np.zeros((2, 2))
    for place, (_, along_r, along_s) in zip(xy, functions(len(xy), r, s), strict=True):
        J += np.outer([along_r, along_s], place)
    return J


def strain_rows(xy: np.ndarray, r: float, s: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Rows on (u v w θx θy θz by nodes, then incompatible u, v by modes) of membrane strain and drilling, of curvature,

    and of the displacement u, v of the middle.
    """
    n = len(xy)
    modes = 2 if n == 4 else 0
    J = jacobian(xy, r, s)
    plane, bend, moves = np.zeros((4, 6 * n + 2 * modes)), np.zeros((3, 6 * n)), np.zeros((2, 6 * n + 2 * modes))

    def stretch(u: int, v: int, g: np.ndarray) -> None:
        plane[0, u] += g[0]
        plane[1, v] += g[1]
        plane[2, u] += g[1]
        plane[2, v] += g[0]
        plane[3, u] += g[1] / 2  # θz - (v,x - u,y) / 2
        plane[3, v] -= g[0] / 2

    for k, (value, along_r, along_s) in enumerate(functions(n, r, s)):
        g = np.linalg.solve(J, [along_r, along_s])
        stretch(6 * k, 6 * k + 1, g)
        plane[3, 6 * k + 5] += value
        bend[0, 6 * k + 4] += g[0]
        bend[1, 6 * k + 3] -= g[1]
        bend[2, 6 * k + 4] += g[1]
        bend[2, 6 * k + 3] -= g[0]
        moves[0, 6 * k] = moves[1, 6 * k + 1] = value
    if modes:
        J0 = jacobian(xy, 0.0, 0.0)
        for k, slope in enumerate(([-2 * r, 0.0], [0.0, -2 * s])):
            g = np.linalg.solve(J0, slope) * np.linalg.det(J0) / np.linalg.det(J)
            stretch(6 * n + 2 * k, 6 * n + 2 * k + 1, g)
            moves[0, 6 * n + 2 * k] = moves[1, 6 * n + 2 * k + 1] = 1 - (r, s)[k] ** 2
    return plane, bend, moves


def covariant_shear(xy: np.ndarray, r: float, s: float, direction: int) -> np.ndarray:
    """w along r or s, and the turn of the normal towards it."""
    row = np.zeros(6 * len(xy))
    tangent = jacobian(xy, r, s)[direction]
    for k, (value, *slopes) in enumerate(functions(len(xy), r, s)):
        row[6 * k + 2] += slopes[direction]
        row[6 * k + 3] -= value * tangent[1]
        row[6 * k + 4] += value * tangent[0]
    return row


def assumed_shear(xy: np.ndarray, r: float, s: float) -> np.ndarray:
    if len(xy) == 4:
        first = (1 + s) / 2 * covariant_shear(xy, 0, 1, 0) + (1 - s) / 2 * covariant_shear(xy, 0, -1, 0)
        second = (1 + r) / 2 * covariant_shear(xy, 1, 0, 1) + (1 - r) / 2 * covariant_shear(xy, -1, 0, 1)
    else:
        one, two = covariant_shear(xy, 0.5, 0, 0), covariant_shear(xy, 0, 0.5, 1)
        slanted = [covariant_shear(xy, 0.5, 0.5, d) for d in (0, 1)]
        c = two - one - slanted[1] + slanted[0]
        first, second = one + c * s, two - c * r
    return np.linalg.solve(jacobian(xy, r, s), np.array([first, second]))


def deflection(xy: np.ndarray, r: float, s: float) -> np.ndarray:
    """w, with the parabola along each edge that the difference of the turns at its ends asks for."""
    n = len(xy)
    row = np.zeros(6 * n)
    N = [f[0] for f in functions(n, r, s)]
    edges = [(1 - r * r) * (1 - s) / 2, (1 - s * s) * (1 + r) / 2, (1 - r * r) * (1 + s) / 2, (1 - s * s) * (1 - r) / 2]
    for a in range(n):
        b = (a + 1) % n
        bubble = edges[a] if n == 4 else 4 * N[a] * N[b]
        dx, dy = xy[b] - xy[a]
        row[6 * a + 2] += N[a]
        for node, sign in ((a, 1.0), (b, -1.0)):  # the slope along the edge is -(θy dx - θx dy) / length
            row[6 * node + 3] += sign * bubble / 8 * dy
            row[6 * node + 4] -= sign * bubble / 8 * dx
    return row


def rule(n: int, fine: bool) -> list[tuple[float, float, float]]:
    if n == 4:
        x, w = np.polynomial.legendre.leggauss(3 if fine else 2)
        return [(a, b, u * v) for a, u in zip(x, w, strict=True) for b, v in zip(x, w, strict=True)]
    if not fine:
        return [(1 / 6, 1 / 6, 1 / 6), (2 / 3, 1 / 6, 1 / 6), (1 / 6, 2 / 3, 1 / 6)]
    x, w = np.polynomial.legendre.leggauss(6)  # collapsed: far beyond the fourth degree
    u, v = (x + 1) / 2, w / 2
    return [(a, b * (1 - a), p * q * (1 - a)) for a, p in zip(u, v, strict=True) for b, q in zip(u, v, strict=True)]


def one_shell(X: np.ndarray, block) -> tuple[np.ndarray, np.ndarray]:
    """Stiffness and mass on the global motions of the nodes."""
    n, laminate = len(X), block.laminate
    z = np.cross(X[2] - X[0], X[3] - X[1]) if n == 4 else np.cross(X[1] - X[0], X[2] - X[0])
    z /= np.linalg.norm(z)
    x = np.eye(3)[0] - z[0] * z
    x /= np.linalg.norm(x)
    axes = np.array([x, np.cross(z, x), z])
    local = (X - X.mean(axis=0)) @ axes.T
    xy = local[:, :2]
    T = np.zeros((6 * n, 6 * n))
    for k in range(n):
        arm = (block.offset - local[k, 2]) * z
        cross = np.array([np.cross(e, arm) for e in np.eye(3)]).T  # θ × arm
        T[6 * k : 6 * k + 3, 6 * k : 6 * k + 3] = T[6 * k + 3 : 6 * k + 6, 6 * k + 3 : 6 * k + 6] = axes
        T[6 * k : 6 * k + 3, 6 * k + 3 : 6 * k + 6] = axes @ cross
    soft = 1.0
    if n == 3:
        longest = max(np.linalg.norm(xy[a] - xy[(a + 1) % 3]) for a in range(3))
        soft = laminate.thickness**2 / (laminate.thickness**2 + 0.1 * longest**2)
    m = 6 * n
    size = m + (4 if n == 4 else 0)
    plane_law = np.zeros((4, 4))
    plane_law[:3, :3], plane_law[3, 3] = laminate.stretching, 0.1 * laminate.stretching[2, 2]
    membrane, rest, coupled = np.zeros((size, size)), np.zeros((m, m)), np.zeros((size, m))
    for r, s, w in rule(n, fine=False):
        det = w * np.linalg.det(jacobian(xy, r, s))
        plane, bend, _ = strain_rows(xy, r, s)
        shear = assumed_shear(xy, r, s)
        membrane += det * plane.T @ plane_law @ plane
        rest += det * (bend.T @ laminate.bending @ bend + soft * shear.T @ laminate.transverse @ shear)
        coupled += det * plane[:3].T @ laminate.coupling @ bend
    whole = np.eye(m)  # motions with the incompatible modes that follow from the membrane alone
    if n == 4:
        whole = np.vstack([whole, -np.linalg.solve(membrane[m:, m:], membrane[m:, :m])])
    K = whole.T @ membrane @ whole + rest + whole.T @ coupled + coupled.T @ whole
    areal, first, rotary = laminate.inertia
    M = np.zeros((m, m))
    for r, s, w in rule(n, fine=True):
        det = w * np.linalg.det(jacobian(xy, r, s))
        moves = strain_rows(xy, r, s)[2] @ whole
        turns = np.zeros((2, m))
        for k, (value, _, _) in enumerate(functions(n, r, s)):
            turns[0, 6 * k + 3] = turns[1, 6 * k + 4] = value
        up = np.array([turns[1], -turns[0]])  # u and v per height
        M += det * areal * (moves.T @ moves + np.outer(deflection(xy, r, s), deflection(xy, r, s)))
        M += det * (first * (moves.T @ up + up.T @ moves) + rotary * up.T @ up)
    return T.T @ K @ T, T.T @ M @ T


def sheet(cells: str, quadratic: bool = False, material: str | None = None, **more) -> ElementKind:
    a = hk.Assembly().material("m", **STEEL)
    a.material("ply", orthotropic={"E": ["130 GPa", "9 GPa", "9 GPa"], "G": ["5 GPa", "3 GPa", "5 GPa"],
                                   "nu": [0.3, 0.2, 0.02]}, density=1600.0)  # fmt: skip
    own = {} if material is None else {"material": material}
    a.part("p", plate={"corner": [0, 0, 0], "sides": [[0.5, 0, 0.1], [0.1, 0.4, 0]], "divisions": [6, 5],
                       "cells": cells, "quadratic": quadratic, **more}, **own)  # fmt: skip
    return a.system.elements[0]


LAYERS = {"layers": [{"material": "m", "thickness": 0.002}, {"material": "ply", "thickness": 0.004, "angle": "30 deg"}]}


@pytest.mark.parametrize(
    "more", [{"thickness": 0.006, "material": "m"}, {**LAYERS, "offset": 0.005}], ids=["one", "layers"]
)
@pytest.mark.parametrize("cells", ["quads", "triangles"])
def test_flat_shells_point_by_point(cells, more):
    """Warped, distorted, offset, of unlike layers; strain and membrane forces from the same motions."""
    block = sheet(cells, **more)
    rng = np.random.default_rng(4)
    block = replace(block, places=block.places + 0.015 * rng.standard_normal(block.places.shape))
    for nodes, dofs, K, M in zip(block.nodes, *_whole(block), strict=True):
        k, m = one_shell(block.places[nodes], block)
        np.testing.assert_allclose(K, k, atol=1e-12 * np.abs(k).max())
        np.testing.assert_allclose(M, m, atol=1e-12 * np.abs(m).max())
        assert dofs.tolist() == [6 * node + d for node in nodes for d in range(6)]
    assert bool(block.laminate.coupling.any()) is ("layers" in more)


def _whole(block: ElementKind) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    parts = list(block.chunks())
    return tuple(np.concatenate([p[k] for p in parts]) for k in range(3))


def solid(cells: str, quadratic: bool) -> ElementKind:
    a = hk.Assembly().material("m", **STEEL)
    a.part("p", box={"corner": [0, 0, 0], "sides": [[0.3, 0, 0], [0.1, 0.4, 0], [0, 0.1, 0.2]], "divisions": [4, 2, 2],
                     "cells": cells, "quadratic": quadratic}, material="m")  # fmt: skip
    return a.system.elements[0]


@pytest.mark.parametrize("quadratic", [False, True])
@pytest.mark.parametrize("cells", ["quads", "triangles", "bricks", "wedges", "tetrahedra"])
def test_elements_by_as_many_as_there_may_be(monkeypatch, cells, quadratic):
    """However many are worked out together, unequal elements come out as they do alone; what is equal comes once."""
    shell = cells in ("quads", "triangles")
    block = sheet(cells, quadratic, thickness=0.004, material="m") if shell else solid(cells, quadratic)
    uneven = replace(block, places=block.places + 0.004 * np.random.default_rng(5).standard_normal(block.places.shape))
    together = _whole(uneven)
    motion = np.random.default_rng(6).standard_normal(6 * len(block.places))
    stress = uneven.resultants(motion, 0.0)
    monkeypatch.setattr(ElementKind, "at_once", 1)  # eight, which is the least
    monkeypatch.setattr(type(block), "at_once", 1)
    for few, many in zip(_whole(uneven), together, strict=True):
        np.testing.assert_allclose(few, many, atol=1e-13 * np.abs(many).max())
    np.testing.assert_allclose(uneven.resultants(motion, 0.0), stress, rtol=1e-12, atol=1e-12 * np.abs(stress).max())
    for k in (0, len(block.nodes) - 1):
        alone = _whole(replace(uneven, nodes=uneven.nodes[k : k + 1]))
        for one, many in zip(alone, together, strict=True):
            np.testing.assert_allclose(one[0], many[k], atol=1e-13 * np.abs(many).max())
    assert len(together[0]) == len(block.nodes) > 8
    kept = [len(K) for _, index, K, _ in block.blocks() if index is not None]
    assert 1 <= sum(kept) <= 8
