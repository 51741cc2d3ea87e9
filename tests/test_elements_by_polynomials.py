# ruff: noqa: E501
"""Matrices of solids from nothing but their nodes: shape functions by inverting monomials, integrals by brute force.

On elements with straight, parallel sides every integrand is a polynomial, so that the library's rules have to be exact to
rounding; on distorted ones stiffness still has to know rigid motions and constant strain.
"""

from __future__ import annotations

from itertools import product

import numpy as np
import pytest

import holokine as hk
from conftest import STEEL
from holokine.elements.constitutive import rotate, solid_matrix
from holokine.elements.shapes import node_places

MONOMIALS = {
    "tet4": [(0, 0, 0), (1, 0, 0), (0, 1, 0), (0, 0, 1)],
    "tet10": [e for e in product(range(3), repeat=3) if sum(e) <= 2],
    "wedge6": [(i, j, k) for i, j in ((0, 0), (1, 0), (0, 1)) for k in (0, 1)],
    "wedge15": [e for e in product(range(3), repeat=3) if e[0] + e[1] <= 2 and (e[2] < 2 and (e[0] + e[1] < 2 or e[2] <= 1))]
    + [(0, 0, 2), (1, 0, 2), (0, 1, 2)],
    "hex20": [e for e in product(range(3), repeat=3) if sum(x == 2 for x in e) <= 1 and sum(x for x in e if x == 2) + sum(
        x for x in e if x == 1) <= 4 and not (sum(x == 2 for x in e) == 0 and sum(e) > 3)],
}  # fmt: skip


def rule(kind: str, n: int = 6) -> tuple[np.ndarray, np.ndarray]:
    """Gauss's rule on the reference element, far beyond what is needed; collapsed for triangles and tetrahedra."""
    x, w = np.polynomial.legendre.leggauss(n)
    u, v = (x + 1) / 2, w / 2
    if kind.startswith("hex"):
        grid = list(product(range(n), repeat=3))
        return np.array([[x[a], x[b], x[c]] for a, b, c in grid]), np.array([w[a] * w[b] * w[c] for a, b, c in grid])
    points, weights = [], []
    for a, b, c in product(range(n), repeat=3):
        r, s = u[a], u[b] * (1 - u[a])
        if kind.startswith("wedge"):
            points.append([r, s, x[c]])
            weights.append(v[a] * v[b] * (1 - u[a]) * w[c])
        else:
            t = u[c] * (1 - r - s)
            points.append([r, s, t])
            weights.append(v[a] * v[b] * v[c] * (1 - u[a]) * (1 - r - s))
    return np.array(points), np.array(weights)


class Polynomial:
    """An element with the shape functions that its monomials and nodes leave no choice about."""

    def __init__(self, kind: str, nodes: np.ndarray) -> None:
        self.nodes, self.powers = nodes, np.array(MONOMIALS[kind])
        places = node_places(kind)
        assert len(self.powers) == len(places), (kind, len(self.powers), len(places))
        self.inverse = np.linalg.inv(self._values(places))
        self.points, self.weights = rule(kind)

    def _values(self, p: np.ndarray) -> np.ndarray:
        return np.prod(p[:, None] ** self.powers[None], axis=2)

    def _slopes(self, p: np.ndarray) -> np.ndarray:
        found = np.empty((len(p), len(self.powers), 3))
        for d in range(3):
            lower = self.powers.copy()
            lower[:, d] = np.maximum(lower[:, d] - 1, 0)
            found[:, :, d] = self.powers[:, d] * np.prod(p[:, None] ** lower[None], axis=2)
        return found

    def matrices(self, D: np.ndarray, density: float) -> tuple[np.ndarray, np.ndarray, float]:
        """Stiffness and consistent mass on x y z of every node, and the volume."""
        n = len(self.nodes)
        K, M, volume = np.zeros((3 * n, 3 * n)), np.zeros((3 * n, 3 * n)), 0.0
        N, dN = (
            self._values(self.points) @ self.inverse,
            np.einsum("pmd,mn->pnd", self._slopes(self.points), self.inverse),
        )
        for p, w in enumerate(self.weights):
            J = dN[p].T @ self.nodes  # rows: along the reference axes
            size = w * np.linalg.det(J)
            g = dN[p] @ np.linalg.inv(J).T
            B = np.zeros((6, 3 * n))
            for k in range(n):
                x, y, z = g[k]
                B[:, 3 * k : 3 * k + 3] = [[x, 0, 0], [0, y, 0], [0, 0, z], [y, x, 0], [0, z, y], [z, 0, x]]
            K += size * B.T @ D @ B
            M += size * density * np.kron(np.outer(N[p], N[p]), np.eye(3))
            volume += size
        return K, M, volume


def one_part(cells: str, quadratic: bool, sides: np.ndarray, ply: bool) -> hk.Assembly:
    material = {"orthotropic": {"E": ["40 GPa", "10 GPa", "12 GPa"], "G": ["4 GPa", "3 GPa", "5 GPa"], "nu": [0.3, 0.2, 0.1]},
                "density": 1800.0} if ply else STEEL  # fmt: skip
    a = hk.Assembly().material("m", **material)
    axes = {"axes": {"x": [1, 1, 0.2], "y": [-1, 1, 0]}} if ply else {}
    return a.part("p", box={"corner": [0.1, 0, 0], "sides": sides.tolist(), "divisions": 1, "cells": cells,
                            "quadratic": quadratic}, material="m", **axes)  # fmt: skip


@pytest.mark.parametrize("ply", [False, True])
@pytest.mark.parametrize(("cells", "quadratic"), [("tetrahedra", False), ("tetrahedra", True), ("wedges", False),
                                                  ("wedges", True), ("bricks", True)])  # fmt: skip
def test_straight_solids_are_integrated_exactly(cells, quadratic, ply):
    sides = np.array([[0.3, 0.02, 0.0], [0.05, 0.2, 0.01], [0.0, -0.03, 0.25]])
    a = one_part(cells, quadratic, sides, ply)
    (block,) = a.system.elements
    material = a.description.materials["m"]
    D = solid_matrix(material)
    if ply:
        x = np.array([1, 1, 0.2]) / np.linalg.norm([1, 1, 0.2])
        y = np.array([-1.0, 1, 0]) - x * (np.array([-1.0, 1, 0]) @ x)
        y /= np.linalg.norm(y)
        D = rotate(D, np.array([x, y, np.cross(x, y)]))
    total, volume = 0.0, 0.0
    for nodes, (_, k, m) in zip(block.nodes, _alone(block), strict=True):
        own = Polynomial(block.kind, block.places[nodes])
        K, M, v = own.matrices(D, material.density)
        ones = np.kron(np.ones(len(nodes)), np.eye(3))
        total, volume = total + (ones @ m @ ones.T)[0, 0], volume + v
        if block.kind == "wedge6":  # has further modes of its own, condensed out of both matrices: never stiffer
            assert np.linalg.eigvalsh(K - k).min() > -1e-9 * K.max()
            np.testing.assert_allclose(ones @ m @ ones.T, ones @ M @ ones.T, atol=1e-9)
            continue
        np.testing.assert_allclose(m, M, atol=1e-10 * M.max())
        np.testing.assert_allclose(k, K, atol=1e-9 * K.max())
    box = abs(np.linalg.det(sides))
    assert volume == pytest.approx(box, rel=1e-12)
    assert total == pytest.approx(material.density * box, rel=1e-12)


def _alone(block):
    """Translations of each element: their degrees of freedom, stiffness and mass."""
    for dofs, K, M in block.chunks():
        for row, k, m in zip(dofs, K, M, strict=True):
            keep = np.flatnonzero(row % 6 < 3)
            yield row[keep], k[np.ix_(keep, keep)], m[np.ix_(keep, keep)]


@pytest.mark.parametrize("seed", [1, 2])
@pytest.mark.parametrize(("cells", "quadratic"), [("bricks", False), ("bricks", True), ("tetrahedra", True), ("wedges", False),
                                                  ("wedges", True)])  # fmt: skip
def test_distorted_solids_know_rigid_motions_and_constant_strain(cells, quadratic, seed):
    from dataclasses import replace

    a = one_part(cells, quadratic, np.diag([0.3, 0.2, 0.25]), ply=False)
    (block,) = a.system.elements
    rng = np.random.default_rng(seed)
    places = block.places + 0.01 * rng.standard_normal(block.places.shape)
    if quadratic:  # corners only; middles stay in the middle, so that a linear field is in the element
        twice = block.places.copy()
        corners = {"hex20": 8, "tet10": 4, "wedge15": 6}[block.kind]
        edges = np.unique(block.nodes[:, :corners])
        places = twice.copy()
        places[edges] += 0.01 * rng.standard_normal((len(edges), 3))
        reference = node_places(block.kind)
        for cell in block.nodes:
            for m in range(corners, len(cell)):
                i, j = next((i, j) for i, j in product(range(corners), repeat=2)
                            if i < j and np.allclose((reference[i] + reference[j]) / 2, reference[m]))  # fmt: skip
                places[cell[m]] = (places[cell[i]] + places[cell[j]]) / 2
    block = replace(block, places=places)
    D = solid_matrix(a.description.materials["m"])
    for nodes, (_, k, m) in zip(block.nodes, _alone(block), strict=True):
        X = places[nodes]
        for field in [*np.eye(3)[:, None] * np.ones((3, len(X), 1)), *(np.cross(w, X) for w in np.eye(3))]:
            push = k @ field.ravel()
            assert np.abs(push).max() < 1e-9 * np.abs(k).max() * np.abs(field).max()
        strain = rng.standard_normal((3, 3))
        strain = 1e-4 * (strain + strain.T)
        u = (X @ strain).ravel()
        e = np.array([strain[0, 0], strain[1, 1], strain[2, 2], 2 * strain[0, 1], 2 * strain[1, 2], 2 * strain[2, 0]])
        volume = float(m.sum() / 3 / a.description.materials["m"].density)
        assert u @ k @ u == pytest.approx(volume * (e @ D @ e), rel=1e-9)
        values = np.linalg.eigvalsh(k)
        assert (values > -1e-9 * values[-1]).all()
        assert (values < 1e-9 * values[-1]).sum() == 6  # nothing else is without energy
        assert (np.linalg.eigvalsh(m) > 0).all()
