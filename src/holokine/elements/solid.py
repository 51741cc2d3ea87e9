"""Solid elements: 8-node brick with incompatible modes, 20-node brick, tetrahedra, wedges, pyramids.

The 8-node brick carries three quadratic displacement modes of its own (Taylor, Beresford & Wilson, Int. J. Num.
Meth. Eng. 10 (1976) 1211-1219): their gradients are taken with the Jacobian at the centre and scaled by
det J₀ / det J, so that constant-stress patch tests hold on distorted meshes, and they are condensed out. The
wedge carries the one along its height. The 4-node tetrahedron is the plain constant-strain one and far too
stiff in bending.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import TYPE_CHECKING, Any, ClassVar

import numpy as np

from holokine.elements.kinds import CHUNK, ElementKind, StrainMaps, averaged_field, by_shape, element_map, in_sorts
from holokine.elements.shapes import NODE_COUNT, gauss, middle_place, node_places, shape, solid_rule, triangle_rule
from holokine.elements.stress import Places, StressField
from holokine.mesh.cells import CELLS

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints

__all__ = ["SolidElements"]


def _b_matrix(gradient: Floats) -> Floats:
    """Strain matrix (elements, 6, 3 * nodes) from gradients (elements, nodes, 3)."""
    count, nodes, _ = gradient.shape
    B = np.zeros((count, 6, nodes, 3))
    x, y, z = gradient[..., 0], gradient[..., 1], gradient[..., 2]
    B[:, 0, :, 0] = x
    B[:, 1, :, 1] = y
    B[:, 2, :, 2] = z
    B[:, 3, :, 0], B[:, 3, :, 1] = y, x
    B[:, 4, :, 1], B[:, 4, :, 2] = z, y
    B[:, 5, :, 2], B[:, 5, :, 0] = x, z
    return B.reshape(count, 6, 3 * nodes)


def _det3(J: Floats) -> Floats:
    return np.asarray(
        J[:, 0, 0] * (J[:, 1, 1] * J[:, 2, 2] - J[:, 1, 2] * J[:, 2, 1])
        - J[:, 0, 1] * (J[:, 1, 0] * J[:, 2, 2] - J[:, 1, 2] * J[:, 2, 0])
        + J[:, 0, 2] * (J[:, 1, 0] * J[:, 2, 1] - J[:, 1, 1] * J[:, 2, 0])
    )


def _times_inverse(dN: Floats, J: Floats, det: Floats) -> Floats:
    """Gradients dN J⁻ᵀ, shape (elements, functions, 3), by cofactors: far faster than a solve per element."""
    C = np.empty_like(J)
    for a in range(3):
        b, c = (a + 1) % 3, (a + 2) % 3
        for k in range(3):
            m, n = (k + 1) % 3, (k + 2) % 3
            C[:, a, k] = (J[:, b, m] * J[:, c, n] - J[:, b, n] * J[:, c, m]) / det
    return np.tensordot(C, dN, axes=(1, 1)).transpose(0, 2, 1)


def _inverse3(J: Floats) -> tuple[Floats, Floats]:
    """Inverses of matrices (n, 3, 3) by cofactors, and their determinants."""
    det = _det3(J)
    C = np.empty_like(J)
    for a in range(3):
        b, c = (a + 1) % 3, (a + 2) % 3
        for k in range(3):
            m, n = (k + 1) % 3, (k + 2) % 3
            C[:, k, a] = (J[:, b, m] * J[:, c, n] - J[:, b, n] * J[:, c, m]) / det
    return C, det


def _by_gradients(D: Floats) -> Floats:
    """Elasticity on products of gradients, (9, 9): rows kl of ∂φ_a/∂x_k ∂φ_b/∂x_l, columns ij of the forces."""
    voigt = np.array([[0, 3, 5], [3, 1, 4], [5, 4, 2]])
    C = D[voigt[:, :, None, None], voigt[None, None]]  # C_ikjl
    return np.asarray(C.transpose(1, 3, 0, 2).reshape(9, 9))


def _bubbles(kind: str, p: Floats) -> Floats:
    """Values of the incompatible modes."""
    return 1.0 - p**2 if kind == "hex8" else np.array([1.0 - p[2] ** 2])


def _fine_rule(kind: str) -> tuple[Floats, Floats]:
    """Quadrature for products of incompatible modes."""
    g, w = gauss(3)
    if kind == "hex8":
        places = [[x, y, z] for z in g for y in g for x in g]
        return np.array(places), np.array([a * b * c for c in w for b in w for a in w])
    flat, v = triangle_rule()
    return np.array([[x, y, z] for z in g for x, y in flat]), np.concatenate([v * c for c in w])


def _extra_modes(kind: str, p: Floats) -> Floats | None:
    """Derivatives of the incompatible modes at a reference place, shape (modes, 3)."""
    if kind == "hex8":
        return np.diag(-2.0 * p)
    if kind == "wedge6":
        return np.array([[0.0, 0.0, -2.0 * p[2]]])
    return None


@lru_cache(maxsize=16)
def _stiffness_field(kind: str) -> tuple[Floats, Floats, Floats | None, Floats]:
    """Weights, slopes of functions and of incompatible modes, each (points, functions, 3), and slopes at the middle."""
    points, weights = solid_rule(kind, "stiffness")
    own = [_extra_modes(kind, p) for p in points]
    slopes = np.array([shape(kind, p)[1] for p in points])
    return weights, slopes, None if own[0] is None else np.array(own), shape(kind, middle_place(kind))[1]


@lru_cache(maxsize=16)
def _mass_field(kind: str, modes: bool) -> tuple[Floats, Floats]:
    """Slopes (points, nodes, 3), and products of functions, with those of incompatible modes, times weights."""
    points, weights = _fine_rule(kind) if modes else solid_rule(kind, "mass")
    found = [shape(kind, p) for p in points]
    N = np.array(
        [np.concatenate([N, _bubbles(kind, p)]) if modes else N for p, (N, _) in zip(points, found, strict=True)]
    )
    return np.array([dN for _, dN in found]), weights[:, None, None] * N[:, :, None] * N[:, None]


@dataclass(frozen=True)
class SolidElements(ElementKind):
    """Solid elements of one kind and one part.

    Attributes
    ----------
    part, kind : str
        Kinds: hex8, hex20, tet4, tet10, wedge6, wedge15, pyramid5, pyramid13.
    nodes : ndarray of int, shape (elements, nodes)
    places : ndarray, shape (nodes of the mesh, 3)
        m.
    elasticity : ndarray, shape (6, 6)
        Pa, global axes.
    density : float
        kg/m³.
    mass : str
        consistent, lumped or lumped without rotary (the same as lumped here).
    stress : ndarray, shape (elements, points, 6), or None
        Present stress in Pa at the integration points, where it adds to the stiffness.
    """

    part: str
    kind: str
    nodes: Ints
    places: Floats
    elasticity: Floats
    density: float
    mass: str = "consistent"
    stress: Floats | None = None
    words = "solids"
    stress_names = ("xx", "yy", "zz", "xy", "yz", "zx")
    stress_options = frozenset({"at", "component"})
    motions = 3
    recovery_worth: ClassVar[dict[str, tuple[float, float]]] = {
        "hex8": (1.5, 0.0), "hex20": (2.2, 0.0), "tet4": (1.5, 0.0), "tet10": (2.6, 0.0), "wedge6": (1.2, 0.0),
        "wedge15": (2.3, 0.0), "pyramid5": (1.5, 0.0), "pyramid13": (2.5, 0.0),
    }  # fmt: skip

    @property
    def dofs(self) -> Ints:
        """Degrees of freedom, shape (elements, 3 * nodes)."""
        return (self.nodes[:, :, None] * 6 + np.arange(3)).reshape(len(self.nodes), -1)

    def _matrices(self, X: Floats) -> tuple[Floats, Floats]:
        """Stiffness and mass."""
        K, inner = self._stiffness(X)
        return K, self._mass(X, inner)

    def lumped_chunks(self) -> Iterator[tuple[Ints, Floats]]:
        """Degrees of freedom and mass alone, for elements whose mass is lumped."""
        for a in range(0, len(self.nodes), CHUNK):
            nodes = self.nodes[a : a + CHUNK]
            dofs = (nodes[:, :, None] * 6 + np.arange(3)).reshape(len(nodes), -1)
            yield dofs, by_shape(self.places[nodes], lambda X: self._mass(X, None, "lumped"))

    def _jacobian(self, X: Floats, dN: Floats) -> tuple[Floats, Floats]:
        J = np.swapaxes(np.tensordot(X, dN, axes=(1, 0)), 1, 2)
        return J, _det3(J)

    def _gradient(self, X: Floats, p: Floats) -> tuple[Floats, Floats]:
        """Gradients (elements, nodes, 3) of the shape functions and det J at a reference place."""
        _, dN = shape(self.kind, p)
        J, det = self._jacobian(X, dN)
        return _times_inverse(dN, J, det), det

    def _stiffness(self, X: Floats) -> tuple[Floats, Floats | None]:
        """Stiffness, and the map from displacements to the incompatible modes.

        With H = ∫ ∂φ_a/∂x_k ∂φ_b/∂x_l dV of all pairs of functions, one product per element, the stiffness is
        K_ai,bj = C_ikjl H_ak,bl: a third to a fifth of the work of strain matrices.
        """
        n = 3 * NODE_COUNT[self.kind]
        full = self._full_stiffness(X)
        own = full[:, :n, :n]
        if full.shape[1] == n:
            return own, None
        inner = -np.linalg.solve(full[:, n:, n:], full[:, n:, :n])
        return own + full[:, :n, n:] @ inner, inner

    def _modes(self, X: Floats) -> Floats | None:
        """The map from displacements to the incompatible modes, of any number of elements."""
        own = _stiffness_field(self.kind)[2]
        if own is None:
            return None
        inner = np.empty((len(X), 3 * own.shape[1], 3 * X.shape[1]))
        for some in self._few(len(X)):
            inner[some] = self._stiffness(X[some])[1]
        return inner

    def _jacobians(self, X: Floats, slopes: Floats) -> Floats:
        """By element and point: reference direction, then axis, from derivatives (points, nodes, 3)."""
        J = np.swapaxes(X, 1, 2) @ slopes.transpose(1, 0, 2).reshape(X.shape[1], -1)
        return np.ascontiguousarray(J.reshape(len(X), 3, len(slopes), 3).transpose(0, 2, 3, 1))

    def _full_stiffness(self, X: Floats) -> Floats:
        """Stiffness of nodes and incompatible modes together."""
        weights, slopes, own, middle = _stiffness_field(self.kind)
        J = self._jacobians(X, slopes)
        inverse, det = _inverse3(J.reshape(-1, 3, 3))
        inverse, det = inverse.reshape(J.shape), det.reshape(len(X), -1)
        g = slopes @ np.swapaxes(inverse, 2, 3)
        if own is not None:
            J0, det0 = self._jacobian(X, middle)
            extra = own @ np.swapaxes(_inverse3(J0)[0], 1, 2)[:, None]
            g = np.concatenate([g, extra * (det0[:, None] / det)[:, :, None, None]], axis=2)
        g = g * np.sqrt(np.abs(weights * det))[:, :, None, None]
        flat = g.reshape(len(X), len(weights), -1)
        signed = flat * np.sign(weights * det)[:, :, None]
        count = g.shape[2]
        H = (np.swapaxes(flat, 1, 2) @ signed).reshape(len(X), count, 3, count, 3)
        K = H.transpose(0, 1, 3, 2, 4).reshape(-1, 9) @ _by_gradients(self.elasticity)
        return np.ascontiguousarray(K.reshape(len(X), count, count, 3, 3).transpose(0, 1, 3, 2, 4)).reshape(
            len(X), 3 * count, 3 * count
        )

    # -- about a state --------------------------------------------------------------------------------

    def free_stress(self) -> Floats:
        """Of the same strain along all axes."""
        return np.asarray(self.elasticity @ np.array([1.0, 1.0, 1.0, 0.0, 0.0, 0.0]))

    def resultants(self, u: Floats, strain: float) -> Floats:
        """Stress xx yy zz xy yz zx in Pa at the integration points, shape (elements, points, 6)."""
        points = solid_rule(self.kind, "stiffness")[0]
        expansion = self.expansion()
        result = np.empty((len(self.nodes), len(points), 6))
        for a in range(0, len(self.nodes), CHUNK):
            some = slice(a, a + CHUNK)
            X = self.places[self.nodes[some]]
            inner = self._modes(X)
            own = u[self.dofs[some]] - strain * expansion[some]
            for k, p in enumerate(points):
                strains = np.einsum("eij,ej->ei", self._strain_map(X, p, inner), own)
                result[some, k] = strains @ self.elasticity.T
        return result

    def stressed(self, resultants: Floats) -> SolidElements:
        """The elements with the stress at their integration points."""
        return replace(self, stress=resultants)

    def stress_blocks(self) -> Iterator[tuple[Ints, Floats]]:
        """Nodes, and ∫ ∇Nᵀ σ ∇N on each direction (Cook et al., *Concepts and Applications*, ch. 18)."""
        if self.stress is None:
            return
        points, weights = solid_rule(self.kind, "stiffness")
        tensor = self.stress[:, :, [0, 3, 5, 3, 1, 4, 5, 4, 2]].reshape(*self.stress.shape[:2], 3, 3)
        for a in range(0, len(self.nodes), CHUNK):
            nodes = self.nodes[a : a + CHUNK]
            X = self.places[nodes]
            scalar = np.zeros((len(nodes), nodes.shape[1], nodes.shape[1]))
            for k, (p, w) in enumerate(zip(points, weights, strict=True)):
                gradient, det = self._gradient(X, p)
                weight = (w * det)[:, None, None]
                scalar += weight * (gradient @ tensor[a : a + CHUNK, k] @ np.swapaxes(gradient, 1, 2))
            K = np.zeros((len(nodes), nodes.shape[1], 3, nodes.shape[1], 3))
            for d in range(3):
                K[:, :, d, :, d] = (scalar + np.swapaxes(scalar, 1, 2)) / 2.0
            yield nodes, K.reshape(len(nodes), 3 * nodes.shape[1], -1)

    def _mass(self, X: Floats, inner: Floats | None, kind: str | None = None) -> Floats:
        """Mass; the consistent one is of the whole displacement field, condensed incompatible modes included.

        Bending then has the inertia of its curved, not of its straight shape: the error of a bending wave falls
        to a third. Rigid-body motions have no such modes, so mass and inertia stay exact.
        """
        count = NODE_COUNT[self.kind]
        mass = kind or self.mass
        modes = inner is not None and mass == "consistent"
        slopes, outer = _mass_field(self.kind, modes)
        dets = _det3(self._jacobians(X, slopes).reshape(-1, 3, 3)).reshape(len(X), -1)
        size = outer.shape[1]
        scalar = self.density * (dets @ outer.reshape(len(outer), -1)).reshape(-1, size, size)
        if mass != "consistent":
            total = scalar.sum(axis=(1, 2))
            diagonal = np.einsum("eii->ei", scalar)
            # scaled diagonal (Hinton, Rock & Zienkiewicz 1976); for linear shapes the same as row sums
            lumped = diagonal * (total / diagonal.sum(axis=1))[:, None]
            scalar = np.zeros_like(scalar)
            scalar[:, range(count), range(count)] = lumped
        n = 3 * count
        if modes:
            assert inner is not None
            A = inner.reshape(len(X), size - count, 3 * n)
            cross = (scalar[:, :count, count:] @ A).reshape(len(X), n, n)
            M: Any = cross + np.swapaxes(cross, 1, 2)
            M += np.swapaxes(inner, 1, 2) @ (scalar[:, count:, count:] @ A).reshape(len(X), -1, n)
        else:
            M = np.zeros((len(X), n, n))
        for d in range(3):
            M[:, d::3, d::3] += scalar[:, :count, :count]
        return M

    def volumes(self) -> Floats:
        """Volume of each element in m³; negative where it is inverted."""
        points, weights = solid_rule(self.kind, "stiffness")
        total = np.zeros(len(self.nodes))
        for p, w in zip(points, weights, strict=True):
            total += w * self._jacobian(self.places[self.nodes], shape(self.kind, p)[1])[1]
        return total

    def wave(self, omega: float) -> float:
        """Shear waves, √(G / ρ) / ω."""
        if self.density <= 0:
            return float(np.inf)
        return float(np.sqrt(float(np.diag(self.elasticity)[3:].min()) / self.density)) / omega

    def strain_maps(self) -> Iterator[StrainMaps]:
        """Strain xx yy zz xy yz zx at the points of the stiffness."""
        points, rule = solid_rule(self.kind, "mass" if self.kind == "tet10" else "stiffness")
        to_nodes = self._fitted(points)
        N = np.array([shape(self.kind, p)[0] for p in points])
        worth = self.recovery_worth[self.kind][0] * self.elasticity
        step = max(1, 8_000_000 // (len(points) * 6 * 3 * len(N[0])))
        for a in range(0, len(self.nodes), step):
            X = self.places[self.nodes[a : a + step]]
            first, sort = in_sorts(X)
            own = X[first]
            inner = self._modes(own)
            maps = np.stack([self._strain_map(own, p, inner) for p in points], axis=1)
            det = np.stack([self._jacobian(own, shape(self.kind, p)[1])[1] for p in points], axis=1) * rule
            weights = det if sort is None else det[sort]
            yield StrainMaps(self.dofs[a : a + step], maps, sort, weights, to_nodes, N, self.elasticity, worth)

    def _fitted(self, points: Floats) -> Floats:
        """Weights (nodes, points) with which nodes take a field from points, by a polynomial of lower order."""
        if self.kind in ("hex8", "hex20"):
            basis = _trilinear
        elif self.kind == "wedge15":
            basis = _linear_by_height
        elif CELLS[self.kind].order == 2:
            basis = _linear
        else:
            return np.full((NODE_COUNT[self.kind], len(points)), 1.0 / len(points))
        return np.asarray(basis(node_places(self.kind)) @ np.linalg.pinv(basis(points)))

    def stress_fields(self, size: int) -> list[StressField]:
        """Stresses at the centres of elements."""
        return [self.stress_field(size)]

    def gauge_fields(self, size: int, **options: str | None) -> list[StressField]:
        """At centres or at nodes."""
        return [self.stress_field(size, options.get("at") or "centre")]

    def stress_field(self, size: int, at: str = "centre") -> StressField:
        """Linear map from displacements to stresses xx yy zz xy yz zx in Pa, global axes.

        Parameters
        ----------
        at : {"centre", "nodes"}
            At element centres, or extrapolated to nodes and averaged there.
        """
        X = self.places[self.nodes]
        if at == "nodes":
            return averaged_field(self, self.places, self._nodal_stress(X), size)
        S = by_shape(X, lambda X: self.elasticity @ _b_matrix(self._gradient(X, middle_place(self.kind))[0]))
        A = element_map(S, self.dofs, size)
        places = Places.on("element", np.arange(1, len(X) + 1), X.mean(axis=1))
        return StressField((self.part,), A, 6, places, self.nodes, self.nodes)

    def _nodal_stress(self, X: Floats) -> Iterator[Floats]:
        """Stress map (elements, 6, dofs) at each corner or edge node, from the integration points."""
        if CELLS[self.kind].order == 1 and self.kind != "hex8":
            S = self.elasticity @ _b_matrix(self._gradient(X, middle_place(self.kind))[0])
            for _ in range(NODE_COUNT[self.kind]):
                yield S
            return
        inner = self._modes(X)
        g = 1.0 / np.sqrt(3.0)
        if self.kind in ("hex8", "hex20"):
            points = g * np.array([[a, b, c] for c in (-1, 1) for b in (-1, 1) for a in (-1, 1)], dtype=float)
        elif self.kind == "wedge15":
            places = [[1 / 6, 1 / 6], [2 / 3, 1 / 6], [1 / 6, 2 / 3]]
            points = np.array([[x, y, z] for z in (-g, g) for x, y in places])
        else:
            points = solid_rule("pyramid5" if self.kind == "pyramid13" else self.kind, "stiffness")[0]
        weights = self._fitted(points)  # (nodes, points)
        at_points = [self._strain_map(X, p, inner) for p in points]
        for row in weights:
            yield self.elasticity @ sum(w * B for w, B in zip(row, at_points, strict=True))

    def _strain_map(self, X: Floats, p: Floats, inner: Floats | None) -> Floats:
        gradient, det = self._gradient(X, p)
        B = _b_matrix(gradient)
        if inner is not None:
            J0, det0 = self._jacobian(X, shape(self.kind, middle_place(self.kind))[1])
            local = _extra_modes(self.kind, p)
            assert local is not None
            B = B + _b_matrix(_times_inverse(local, J0, det0) * (det0 / det)[:, None, None]) @ inner
        return B


def _trilinear(p: Floats) -> Floats:
    x, y, z = p[:, 0], p[:, 1], p[:, 2]
    return np.column_stack([np.ones(len(p)), x, y, z, x * y, y * z, z * x, x * y * z])


def _linear(p: Floats) -> Floats:
    return np.column_stack([np.ones(len(p)), p])


def _linear_by_height(p: Floats) -> Floats:
    return np.column_stack([_linear(p), p[:, 0] * p[:, 2], p[:, 1] * p[:, 2]])
