"""Flat shell elements with four and three nodes: membrane, bending, transverse shear and drilling.

Bending: transverse shear assumed along the edges so that thin plates do not lock (Dvorkin & Bathe, Engineering
Computations 1 (1984) 77-88, for four nodes; Lee & Bathe, Computers & Structures 82 (2004) 945-962, for three).
Membrane of four nodes: two incompatible modes per direction with the gradient scaled as for the brick (Taylor,
Beresford & Wilson 1976). The rotation about the normal follows the rotation of the membrane, weakly
(Hughes & Brezzi, CMAME 72 (1989) 105-121), incompatible modes included, so that bending in plane stays exact.
Elements are flat: nodes off the mean plane are carried to it by rigid arms, as is a mid-surface offset.

Local axes: x is the part of a given direction in the element's plane, z its normal. Local motions per node:
u, v, w, θx, θy, θz.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import TYPE_CHECKING, Any, ClassVar, NamedTuple

import numpy as np

from holokine.elements.beam import arm_matrix
from holokine.elements.kinds import CHUNK, ElementKind, StrainMaps, averaged_field, by_shape, element_map, in_sorts
from holokine.elements.laminate import Laminate, turned_in_plane
from holokine.elements.shapes import gauss, triangle_rule
from holokine.elements.stress import Places, StressField
from holokine.errors import DescriptionError

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints

__all__ = ["ShellElements", "shell_axes"]

DRILLING = 0.1
"""Weight of the drilling term against the shear modulus; results hardly depend on it between 0.01 and 1."""

SHEAR_SOFTENING = 0.1
"""α in the softening of the triangle's transverse shear."""

_QUAD = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]], dtype=float)


def shell_axes(X: Floats, along: tuple[float, float, float] | None = None) -> Floats:
    """Axes as rows x, y, z of each element, shape (elements, 3, 3), from corner places (elements, nodes, 3).

    x is the part of `along` in the plane; global x when left out, or y where the normal is along x.
    """
    if X.shape[1] == 4:
        normal = np.cross(X[:, 2] - X[:, 0], X[:, 3] - X[:, 1])
    else:
        normal = np.cross(X[:, 1] - X[:, 0], X[:, 2] - X[:, 0])
    z = normal / np.linalg.norm(normal, axis=1, keepdims=True)
    choices = [np.array(along)] if along is not None else []
    choices += [np.array([1.0, 0, 0]), np.array([0, 1.0, 0])]
    x = np.zeros_like(z)
    unset = np.ones(len(z), dtype=bool)
    for choice in choices:
        part = choice - (z @ choice)[:, None] * z
        size = np.linalg.norm(part, axis=1)
        use = unset & (size > 0.2)
        x[use] = part[use] / size[use, None]
        unset &= ~use
    return np.stack([x, np.cross(z, x), z], axis=1)


def _functions(n: int, p: Floats) -> tuple[Floats, Floats]:
    """Shape functions of n nodes at points p, (points, nodes), and their slopes, (points, 2, nodes)."""
    if n == 3:
        slopes = np.array([[-1.0, 1.0, 0.0], [-1.0, 0.0, 1.0]])
        return np.column_stack([1 - p[:, 0] - p[:, 1], p]), np.repeat(slopes[None], len(p), axis=0)
    x, y = 1 + p[:, :1] * _QUAD[:, 0], 1 + p[:, 1:] * _QUAD[:, 1]
    return x * y / 4, np.stack([_QUAD[:, 0] * y / 4, _QUAD[:, 1] * x / 4], axis=1)


def _jacobians(xy: Floats, slopes: Floats) -> tuple[Floats, Floats]:
    """J (elements, points, 2, 2), reference direction first, and its determinant, from slopes (points, 2, nodes)."""
    J = (slopes.reshape(-1, slopes.shape[2]) @ xy).reshape(len(xy), -1, 2, 2)
    return J, J[..., 0, 0] * J[..., 1, 1] - J[..., 0, 1] * J[..., 1, 0]


def _along_axes(J: Floats, det: Floats, first: Floats, second: Floats) -> tuple[Floats, Floats]:
    """What is given along the reference directions, brought to x and y: J⁻¹ on (..., points, columns)."""
    J = J / det[..., None, None]
    x = J[..., 1, 1, None] * first - J[..., 0, 1, None] * second
    y = J[..., 0, 0, None] * second - J[..., 1, 0, None] * first
    return x, y


@dataclass(frozen=True)
class ShellElements(ElementKind):
    """Shell elements of one kind and one part.

    Attributes
    ----------
    part, kind : str
        Kinds: quad4, tri3.
    nodes : ndarray of int, shape (elements, nodes)
    places : ndarray, shape (nodes of the mesh, 3)
        m.
    laminate : Laminate
        Layers, their stiffness and mass; element axes.
    offset : float
        Of the mid-surface from the nodes along the normal, in m.
    along : tuple of float or None
        Direction of the element axes' x.
    tension : ndarray, shape (2, 2), or None
        Membrane preload in N/m, constant.
    tension_along : tuple of float or None
        Direction whose part in the plane is x of the preload; None: the element axes.
    forces : ndarray, shape (elements, points, 3), or None
        Present membrane forces x, y, xy in N/m at the integration points, where they add to the stiffness.
    """

    part: str
    kind: str
    nodes: Ints
    places: Floats
    laminate: Laminate
    offset: float = 0.0
    along: tuple[float, float, float] | None = None
    mass: str = "consistent"
    tension: Floats | None = None
    tension_along: tuple[float, float, float] | None = None
    forces: Floats | None = None
    words = "shells"
    at_once = 80_000
    recovery_worth: ClassVar[dict[str, tuple[float, float]]] = {
        "quad4": (1.0, 1.2), "tri3": (1.2, 0.9), "quad9": (1.5, 5.0), "tri6": (2.4, 4.5),
    }  # fmt: skip
    stress_names = ("xx", "yy", "xy")
    stress_options = frozenset({"surface", "at", "component", "layer"})

    @property
    def thickness(self) -> float:
        """Of all layers, in m."""
        return self.laminate.thickness

    @property
    def dofs(self) -> Ints:
        """Degrees of freedom, shape (elements, 6 * nodes)."""
        return (self.nodes[:, :, None] * 6 + np.arange(6)).reshape(len(self.nodes), -1)

    def _flat(self, X: Floats) -> tuple[Floats, Floats, Floats]:
        """Axes, in-plane corner places (elements, nodes, 2), and the map from global to local dofs."""
        axes = shell_axes(X, self.along)
        local = (X - X.mean(axis=1, keepdims=True)) @ np.swapaxes(axes, 1, 2)
        height = local[:, :, 2]
        height[np.abs(height) < 1e-9 * np.abs(local).max(axis=(1, 2), initial=0.0)[:, None]] = 0.0  # rounding
        lift = self.offset - height  # from the node to the flat mid-surface, along the normal
        n = X.shape[1]
        T = np.zeros((len(X), n, 6, n, 6))
        for k in range(n):
            T[:, k, :3, k, :3] = T[:, k, 3:, k, 3:] = axes
            T[:, k, :3, k, 3:] = axes @ arm_matrix(lift[:, k, None] * axes[:, 2])
        return axes, np.ascontiguousarray(local[:, :, :2]), T.reshape(len(X), 6 * n, 6 * n)

    def _matrices(self, X: Floats) -> tuple[Floats, Floats]:
        """Stiffness and mass, global axes."""
        axes, xy, T = self._flat(X)
        K, M = self._local(xy)
        if self.tension is not None:
            self._add_stress(K, xy, self._preload(X, axes))
        back = np.swapaxes(T, 1, 2)
        return back @ (K @ T), back @ (M @ T)

    def lumped_chunks(self) -> Iterator[tuple[Ints, Floats]]:
        """Degrees of freedom and mass (global axes) alone, for elements whose mass is lumped."""
        for a in range(0, len(self.nodes), CHUNK):
            nodes = self.nodes[a : a + CHUNK]
            _, xy, T = self._flat(self.places[nodes])
            dofs = (nodes[:, :, None] * 6 + np.arange(6)).reshape(len(nodes), -1)
            yield dofs, np.swapaxes(T, 1, 2) @ replace(self, mass="lumped")._mass(xy, None) @ T

    def _preload(self, X: Floats, axes: Floats) -> Floats:
        """Membrane preload in the axes of each element, shape (elements or 1, 1, 2, 2)."""
        assert self.tension is not None
        if self.tension_along is None:
            return np.asarray(self.tension[None, None])
        turn = shell_axes(X, self.tension_along)[:, :2] @ np.swapaxes(axes[:, :2], 1, 2)
        return np.asarray((np.swapaxes(turn, 1, 2) @ self.tension @ turn)[:, None])

    # -- about a state --------------------------------------------------------------------------------

    def free_stress(self) -> Floats:
        """Of the same strain along both axes, in either surface."""
        return np.asarray(self.laminate.plies[-1].stiffness @ np.array([1.0, 1.0, 0.0]))

    def resultants(self, u: Floats, strain: float) -> Floats:
        """Membrane forces x, y, xy in N/m (element axes) at the integration points, shape (elements, points, 3)."""
        points = self._rule("full")[0]
        expansion = self.expansion()
        result = np.empty((len(self.nodes), len(points), 3))
        for a in range(0, len(self.nodes), CHUNK):
            some = slice(a, a + CHUNK)
            own = u[self.dofs[some]] - strain * expansion[some]
            maps = self._strains_at(self.places[self.nodes[some]], points)
            strains = (maps.reshape(len(maps), -1, maps.shape[3]) @ own[:, :, None]).reshape(len(maps), -1, 6)
            result[some] = strains[:, :, :3] @ self.laminate.stretching.T
            if self.laminate.coupling.any():
                result[some] += strains[:, :, 3:] @ self.laminate.coupling.T
        return result

    def stressed(self, resultants: Floats) -> ShellElements:
        """The elements with the membrane forces at their integration points."""
        return replace(self, forces=resultants)

    def stress_blocks(self) -> Iterator[tuple[Ints, Floats]]:
        """Nodes, and what membrane forces add to the stiffness (global axes)."""
        if self.forces is None:
            return
        tensor = self.forces[:, :, [0, 2, 2, 1]].reshape(*self.forces.shape[:2], 2, 2)
        for a in range(0, len(self.nodes), CHUNK):
            nodes = self.nodes[a : a + CHUNK]
            _, xy, T = self._flat(self.places[nodes])
            K = np.zeros((len(nodes), T.shape[1], T.shape[1]))
            self._add_stress(K, xy, tensor[a : a + CHUNK])
            K = np.swapaxes(T, 1, 2) @ K @ T
            yield nodes, (K + np.swapaxes(K, 1, 2)) / 2.0

    def _add_stress(self, K: Floats, xy: Floats, forces: Floats) -> None:
        """Add what membrane forces, (elements or 1, points or 1, 2, 2) in N/m, do on the slopes of all dofs.

        On displacements along x, y, z, and by t²/12 on the rotations (the same stress through the thickness).
        """
        n = xy.shape[1]
        points, weights = self._rule("full")
        _, slopes, det = self._at(xy, points)
        gradient = np.stack(slopes, axis=3)
        scalar = ((gradient @ forces) @ np.swapaxes(gradient, 2, 3) * (weights * det)[:, :, None, None]).sum(axis=1)
        by_node = K.reshape(len(xy), n, 6, n, 6)
        for d, share in ((0, 1.0), (1, 1.0), (2, 1.0), (3, self.thickness**2 / 12), (4, self.thickness**2 / 12)):
            by_node[:, :, d, :, d] += share * scalar

    def arm_forces(
        self, u: Floats, ride: Floats, strain: float, forces: Floats | None = None
    ) -> list[tuple[Ints, Floats, Floats]]:
        """Nodal forces on the mid-surface, where it lies off the nodes, and the arms to it."""
        if not self.offset:
            return []
        found = []
        expansion, start = self.expansion(), 0
        for dofs, K, M in replace(self, forces=None).chunks():
            some = slice(start, start + len(dofs))
            start += len(dofs)
            arms = self.offset * self._node_normals(self.places[self.nodes[some]])
            f = np.einsum("eij,ej->ei", K, u[dofs] - strain * expansion[some])
            f += np.einsum("eij,ej->ei", M, ride[dofs])
            for k in range(self.nodes.shape[1]):
                found.append((self.nodes[some, k], f[:, 6 * k : 6 * k + 3], arms[:, k]))
        return found

    def _node_normals(self, X: Floats) -> Floats:
        """Unit normals at the nodes of each element, shape (elements, nodes, 3)."""
        return np.repeat(shell_axes(X, self.along)[:, None, 2], X.shape[1], axis=1)

    # -- geometry at a place --------------------------------------------------------------------------

    def _at(self, xy: Floats, p: Floats) -> tuple[Floats, tuple[Floats, Floats], Floats]:
        """Shape functions (points, nodes), slopes along x and y, (elements, points, nodes), and det J at points p."""
        N, dN = _functions(xy.shape[1], p)
        J, det = _jacobians(xy, dN)
        return N, _along_axes(J, det, dN[:, 0], dN[:, 1]), det

    def _rule(self, use: str) -> tuple[Floats, Floats]:
        if self.kind == "quad4":
            g, w = gauss(2)
            return np.array([[x, y] for y in g for x in g]), np.array([a * b for b in w for a in w])
        if use == "one":
            return np.array([[1 / 3, 1 / 3]]), np.array([0.5])
        return np.array([[1 / 6, 1 / 6], [2 / 3, 1 / 6], [1 / 6, 2 / 3]]), np.full(3, 1 / 6)

    # -- matrices in local axes -----------------------------------------------------------------------

    def _local(self, xy: Floats) -> tuple[Floats, Floats]:
        """Stiffness and mass on the mid-surface, local axes."""
        count, n, _ = xy.shape
        laminate = self.laminate
        p, w = self._rule("full")
        N, slopes, det = self._at(xy, p)
        weight = w * det
        rows = self._plane_strain(xy, p, N, slopes, det)
        full = self._membrane(rows, weight)
        inner = _condensed(full, n)
        m = 3 * n
        in_plane = full if inner is None else full[:, :m, :m] + full[:, :m, m:] @ inner
        bent = np.zeros((count, len(p), 5, m))
        bent[:, :, :3], bent[:, :, 3:] = _curvature(slopes), self._shear_strain(xy, p)
        forces = np.empty_like(bent)
        np.matmul(laminate.bending, bent[:, :, :3], out=forces[:, :, :3])
        np.matmul(laminate.transverse * self._shear_share(xy), bent[:, :, 3:], out=forces[:, :, 3:])
        cross = None
        if laminate.coupling.any():
            # what unsymmetric layers couple: membrane strain, incompatible modes included, with curvature. The modes
            # stay those of the membrane alone, so that they only enrich it; curvature then sees their strain
            plane = _with_modes(rows[:, :, :3], inner, m)
            cross = _product(plane, laminate.coupling @ bent[:, :, :3], weight).reshape(count, n, 3, n, 3)
        by_node = (count, n, 3, n, 3)
        K = _joined(in_plane.reshape(by_node), _product(bent, forces, weight).reshape(by_node), cross)
        return K, self._mass(xy, inner)

    def _shear_share(self, xy: Floats) -> Any:
        """Factor on the transverse shear stiffness of triangles, t² / (t² + α L²) with L the longest edge.

        The edge constraints alone are as many as a triangle mesh has dofs, and thin plates would lock
        (Lyly, Stenberg & Vihinen, CMAME 110 (1993) 343-357); the factor tends to one with the element size.
        """
        if self.kind == "quad4":
            return 1.0
        longest = np.zeros(len(xy))
        for a, b in ((0, 1), (1, 2), (2, 0)):
            longest = np.maximum(longest, np.sum((xy[:, a] - xy[:, b]) ** 2, axis=1))
        return (self.thickness**2 / (self.thickness**2 + SHEAR_SOFTENING * longest))[:, None, None, None]

    def _membrane(self, rows: Floats, weight: Floats) -> Floats:
        """Membrane and drilling stiffness on (u, v, θz) and the incompatible modes, from `_plane_strain`."""
        law = np.zeros((4, 4))
        law[:3, :3], law[3, 3] = self.laminate.stretching, DRILLING * self.laminate.stretching[2, 2]
        return _product(rows, law @ rows, weight)

    def _plane_strain(self, xy: Floats, p: Floats, N: Floats, slopes: tuple[Floats, Floats], det: Floats) -> Floats:
        """Membrane strain and drilling strain θz - (v,x - u,y)/2 on (u, v, θz) and the incompatible modes.

        Shape (elements, points, 4, motions and modes); the last four from `_at`.
        """
        count, n, _ = xy.shape
        quad = n == 4
        rows = np.zeros((count, len(p), 4, 3 * n + (4 if quad else 0)))

        def fill(first: int, step: int, x: Floats, y: Floats) -> None:
            end = first + step * (x.shape[2] - 1) + 1
            u, v = slice(first, end, step), slice(first + 1, end + 1, step)
            rows[:, :, 0, u] = rows[:, :, 2, v] = x
            rows[:, :, 1, v] = rows[:, :, 2, u] = y
            rows[:, :, 3, u], rows[:, :, 3, v] = y / 2, -x / 2

        fill(0, 3, *slopes)
        rows[:, :, 3, 2 : 3 * n : 3] = N
        if quad:  # gradients at the centre, scaled
            J0, _ = _jacobians(xy, _functions(4, np.zeros((1, 2)))[1])
            local = np.stack([np.diag(-2.0 * at) for at in p], axis=1)  # (direction, points, modes)
            fill(12, 2, *_along_axes(J0, det, local[0], local[1]))  # scaled by det J₀ / det J
        return rows

    def _shear_strain(self, xy: Floats, p: Floats) -> Floats:
        """Assumed transverse shear strains γzx, γyz on (w, θx, θy), shape (elements, points, 2, 3 * nodes).

        From covariant ones γξ, γη of the displacements in the middles of the edges.
        """
        count, n, _ = xy.shape
        ties = np.array(
            [[0.0, 1.0], [0.0, -1.0], [1.0, 0.0], [-1.0, 0.0]] if n == 4 else [[0.5, 0.0], [0.0, 0.5], [0.5, 0.5]]
        )
        N, dN = _functions(n, ties)
        J = _jacobians(xy, dN)[0]
        by_node = np.empty((count, len(ties), 2, n, 3))
        by_node[..., 0] = dN
        by_node[..., 1] = -J[..., 1, None] * N[:, None]
        by_node[..., 2] = J[..., 0, None] * N[:, None]
        S = by_node.reshape(count, len(ties), 2, 3 * n)
        x, y = p[:, :1], p[:, 1:]
        if n == 4:
            first = np.hstack([(1 + y) / 2, (1 - y) / 2]) @ S[:, :2, 0]
            second = np.hstack([(1 + x) / 2, (1 - x) / 2]) @ S[:, 2:, 1]
        else:
            c = (S[:, 1, 1] - S[:, 0, 0] - S[:, 2, 1] + S[:, 2, 0])[:, None]
            first, second = S[:, :1, 0] + c * y, S[:, 1:2, 1] - c * x
        return np.stack(_along_axes(*_jacobians(xy, _functions(n, p)[1]), first, second), axis=2)

    def _mass(self, xy: Floats, inner: Floats | None) -> Floats:
        n = xy.shape[1]
        areal, first, rotary = self.laminate.inertia
        if self.mass != "consistent":
            M = np.zeros((len(xy), 6 * n, 6 * n))
            p, w = self._rule("full")
            N, _, det = self._at(xy, p)
            own = (w * det) @ N
            for d, value in ((0, areal), (1, areal), (2, areal), (3, rotary), (4, rotary)):
                if d < 3 or self.mass == "lumped":
                    M[:, range(d, 6 * n, 6), range(d, 6 * n, 6)] = value * own
            return M
        count, field = len(xy), _mass_field(n)
        N, points = field.N, len(field.N)
        weight = field.weights * _jacobians(xy, field.slopes)[1]
        # motions in the plane u, v on (u, v, θz), and across it w on (w, θx, θy), do not mix
        flat = np.zeros((count, 2, points, 3 * n))
        if inner is not None:  # the incompatible modes' displacements move mass too
            flat[:] = field.bubbles @ inner.reshape(count, 2, 2, 3 * n).transpose(0, 2, 1, 3)
        for d in range(2):
            flat[:, d, :, d::3] += N
        # w is curved along the edges as the nodes' rotations ask (linked interpolation): without it a bending wave has
        # the inertia of its chord, and three times the error
        by_node = np.empty((count, points, n, 3))
        by_node[..., 0] = N
        turn = (field.linked @ (np.roll(xy, -1, axis=1) - xy)).reshape(count, points, n, 2)
        by_node[..., 1], by_node[..., 2] = turn[..., 1], -turn[..., 0]
        across = by_node.reshape(count, points, 3 * n)
        both = flat.reshape(count, -1, 3 * n)
        plane = _product(both, both, areal * np.tile(weight, 2)).reshape(count, n, 3, n, 3)
        bend = _product(across, across, areal * weight).reshape(count, n, 3, n, 3)
        turning = (weight @ (N[:, :, None] * N[:, None]).reshape(points, -1)).reshape(count, n, n)
        for d in (1, 2):
            bend[:, :, d, :, d] += rotary * turning
        cross = None
        if first:
            cross = np.zeros((count, n, 3, n, 3))
            for d, axis, sign in ((0, 2, first), (1, 1, -first)):  # u + z θy, v - z θx
                mixed = np.swapaxes(flat[:, d], 1, 2) @ (weight[:, :, None] * N)
                cross[..., axis] += sign * mixed.reshape(count, n, 3, n)
        return _joined(plane, bend, cross)

    def normals(self) -> Floats:
        """Unit normal in the middle of each element, shape (elements, 3)."""
        return self.strain_axes()[:, 1]

    def volumes(self) -> Floats:
        """Volume of each element in m³."""
        _, xy, _ = self._flat(self.places[self.nodes])
        p, w = self._rule("full")
        return np.asarray(self.thickness * (self._at(xy, p)[2] @ w))

    def wave(self, omega: float) -> float:
        """Bending, (D / ρh ω²)^¼."""
        areal = self.laminate.inertia[0]
        if areal <= 0:
            return float(np.inf)
        stiff = float(min(self.laminate.bending[0, 0], self.laminate.bending[1, 1]))
        return float((stiff / (areal * omega**2)) ** 0.25)

    def for_recovery(self) -> ShellElements:
        """The same with axes along the global axis that lies best in the surface; as they are where stiffness minds."""
        if self.along is not None:
            return self
        for matrix in (self.laminate.stretching, self.laminate.bending):
            if np.abs(turned_in_plane(matrix, 0.3) - matrix).max() > 1e-9 * np.abs(matrix).max():
                return self
        across = np.abs(self.normals()).max(axis=0)
        return replace(self, along=tuple(np.eye(3)[int(np.argmin(across))]))

    def strain_maps(self) -> Iterator[StrainMaps]:
        """Membrane strain and curvature, xx yy 2xy each in element axes, at the points of the stiffness."""
        points, N, to_nodes = self._compared()
        stretch, bend = self.recovery_worth[self.kind]
        stiffness = self.laminate.matrix
        worth = np.zeros((6, 6))
        worth[:3, :3], worth[3:, 3:] = stretch * self.laminate.stretching, bend * self.laminate.bending
        step = max(1, 8_000_000 // (len(points) * 36 * len(N[0])))
        for a in range(0, len(self.nodes), step):
            X = self.places[self.nodes[a : a + step]]
            first, sort = in_sorts(X)
            maps, area = self._strains_at(X[first], points), self._areas(X[first])
            weights = area if sort is None else area[sort]
            yield StrainMaps(self.dofs[a : a + step], maps, sort, weights, to_nodes, N, stiffness, worth)

    def _compared(self) -> tuple[Floats, Floats, Floats]:
        """Points, shape functions there (points, nodes), and weights with which nodes take a field from there."""
        if self.kind == "tri3":
            return np.full((1, 2), 1 / 3), np.full((1, 3), 1 / 3), np.ones((3, 1))
        points = self._rule("full")[0]
        bilinear = [np.column_stack([np.ones(len(p)), p, p.prod(axis=1)]) for p in (points, _QUAD)]
        N = np.array([(1 + _QUAD[:, 0] * x) * (1 + _QUAD[:, 1] * y) / 4 for x, y in points])
        return points, N, bilinear[1] @ np.linalg.inv(bilinear[0])

    def _strains_at(self, X: Floats, points: Floats) -> Floats:
        """Strain and curvature (elements, points, 6, motions) of global dofs."""
        _, xy, T = self._flat(X)
        count, n, _ = xy.shape
        full, weights = self._rule("full")
        N, slopes, det = self._at(xy, full)
        inner = _condensed(self._membrane(self._plane_strain(xy, full, N, slopes, det), weights * det), n)
        N, slopes, det = self._at(xy, points)
        maps = np.zeros((count, len(points), 6, n, 6))
        rows = _with_modes(self._plane_strain(xy, points, N, slopes, det)[:, :, :3], inner, 3 * n)
        rows = rows.reshape(count, len(points), 3, n, 3)
        maps[:, :, :3, :, :2], maps[:, :, :3, :, 5] = rows[..., :2], rows[..., 2]
        maps[:, :, 3:, :, 2:5] = _curvature(slopes).reshape(count, len(points), 3, n, 3)
        found = maps.reshape(count, -1, 6 * n) @ T
        return found.reshape(count, len(points), 6, 6 * n)

    def _areas(self, X: Floats) -> Floats:
        """Area of each compared point, shape (elements, points)."""
        p, w = self._rule("full" if self.kind == "quad4" else "one")
        return np.asarray(w * self._at(self._flat(X)[1], p)[2])

    def strain_axes(self) -> Floats:
        """x and normal of each element, shape (elements, 2, 3)."""
        return np.asarray(self._flat(self.places[self.nodes])[0][:, [0, 2]])

    # -- recovery -------------------------------------------------------------------------------------

    def stress_fields(self, size: int) -> list[StressField]:
        """In-plane stresses at the centres of elements, on the top and on the bottom surface."""
        return [self.stress_field(size, surface=surface) for surface in ("top", "bottom")]

    def gauge_fields(self, size: int, **options: str | None) -> list[StressField]:
        """On one surface, or on top and bottom; at centres or at nodes; of one layer in its own axes."""
        asked = options.get("surface")
        sides = ("top", "bottom") if asked in (None, "both") else (str(asked),)
        layer = options.get("layer")
        number = None if layer is None else int(layer)
        return [self.stress_field(size, options.get("at") or "centre", side, number) for side in sides]

    def stress_field(
        self, size: int, at: str = "centre", surface: str = "top", layer: int | None = None
    ) -> StressField:
        """Linear map from displacements to in-plane stresses xx, yy, xy on one surface, in Pa.

        Parameters
        ----------
        at : {"centre", "nodes"}
            At element centres, or extrapolated to nodes and averaged there.
        surface : {"top", "middle", "bottom"}
            Top is on the side of the normal.
        layer : int or None
            Of a laminate, counted from the bottom, from 1: surfaces are those of this layer, and stresses in its own
            axes. None: of the whole shell, element axes.

        Raises
        ------
        DescriptionError
            A layer that is not there, or that only weighs.
        """
        share = {"top": 1.0, "middle": 0.5, "bottom": 0.0}[surface]
        bottom, top, where = -self.thickness / 2, self.thickness / 2, f", {surface}"
        turn = np.eye(3)
        if layer is None:
            ply = self.laminate.at(bottom + share * self.thickness)
        else:
            plies = self.laminate.plies
            if not 1 <= layer <= len(plies):
                raise DescriptionError(
                    f'part "{self.part}": layer {layer} is not there; it has {len(plies)}', path=("parts", self.part)
                )
            ply = plies[layer - 1]
            if not ply.own.any():
                raise DescriptionError(
                    f'part "{self.part}": layer {layer} carries nothing and has no stress', path=("parts", self.part)
                )
            bottom, top, turn, where = ply.bottom, ply.top, ply.to_own, f", {surface} of layer {layer}"
        Q = turn @ ply.stiffness
        free = Q @ np.array([1.0, 1.0, 0.0])
        height = bottom + share * (top - bottom)
        if at == "centre":
            S = self._stress_maps(Q, height, self._middle())[0]
            A = element_map(S, self.dofs, size)
            places = Places.on("element", np.arange(1, len(S) + 1), self._centres(), where)
            return StressField((self.part,), A, 3, places, self.nodes, self.nodes, free=free)
        points, weights = self._extrapolation()
        at_points = self._stress_maps(Q, height, points)
        corner = (sum(w * A for w, A in zip(row, at_points, strict=True)) for row in weights)
        return replace(averaged_field(self, self.places, corner, size, where), free=free)  # type: ignore[arg-type]

    def _middle(self) -> Floats:
        return np.zeros((1, 2)) if self.kind == "quad4" else np.full((1, 2), 1 / 3)

    def _centres(self) -> Floats:
        return np.asarray(self.places[self.nodes].mean(axis=1))

    def _extrapolation(self) -> tuple[Floats, Floats]:
        """Points where stress is best, and the weights (nodes, points) with which nodes take it from there."""
        if self.kind != "quad4":
            return np.full((1, 2), 1 / 3), np.ones((3, 1))
        points = _QUAD / np.sqrt(3.0)
        fit = np.linalg.inv(np.column_stack([np.ones(4), points, points.prod(axis=1)]))
        return points, np.column_stack([np.ones(4), _QUAD, _QUAD.prod(axis=1)]) @ fit

    def _stress_maps(self, Q: Floats, height: float, points: Floats) -> list[Floats]:
        """Stress at a height over the mid-surface, maps (elements, 3, motions) of global dofs, point by point."""

        def made(X: Floats) -> Floats:
            maps = self._strains_at(X, points)
            return Q @ (maps[:, :, :3] + height * maps[:, :, 3:])

        return list(np.moveaxis(by_shape(self.places[self.nodes], made), 1, 0))


def _condensed(full: Floats, n: int) -> Floats | None:
    """The map from (u, v, θz) to the incompatible modes, from membrane stiffness on both; None of triangles."""
    m = 3 * n
    return None if full.shape[1] == m else -np.linalg.solve(full[:, m:, m:], full[:, m:, :m])


def _curvature(slopes: tuple[Floats, Floats]) -> Floats:
    """Curvatures κx, κy, κxy on (w, θx, θy), (elements, points, 3, 3 * nodes), from slopes of the functions."""
    x, y = slopes
    B = np.zeros((*x.shape[:2], 3, 3 * x.shape[2]))
    B[:, :, 0, 2::3] = x
    B[:, :, 1, 1::3] = -y
    B[:, :, 2, 1::3] = -x
    B[:, :, 2, 2::3] = y
    return B


def _with_modes(rows: Floats, inner: Floats | None, motions: int) -> Floats:
    """Rows (elements, points, rows, motions and modes) on the motions alone."""
    if inner is None:
        return rows
    own = rows[..., motions:].reshape(len(rows), -1, inner.shape[1]) @ inner
    return np.asarray(rows[..., :motions] + own.reshape(*rows.shape[:3], motions))


def _product(one: Floats, two: Floats, weight: Floats) -> Floats:
    """Σ w aᵀ b over points, rows (elements, points, ..., motions), weights (elements, points)."""
    count = len(one)
    two = two * weight.reshape(*weight.shape, *[1] * (two.ndim - 2))
    return np.asarray(np.swapaxes(one.reshape(count, -1, one.shape[-1]), 1, 2) @ two.reshape(count, -1, two.shape[-1]))


def _joined(plane: Floats, bend: Floats, cross: Floats | None = None) -> Floats:
    """Matrices on u v w θx θy θz by nodes, from parts on (u, v, θz), (w, θx, θy), and of the first on the second.

    Each of shape (elements, nodes, 3, nodes, 3).
    """
    count, n = plane.shape[:2]
    A = np.zeros((count, n, 6, n, 6))
    A[:, :, :2, :, :2], A[:, :, :2, :, 5] = plane[:, :, :2, :, :2], plane[:, :, :2, :, 2]
    A[:, :, 5, :, :2], A[:, :, 5, :, 5] = plane[:, :, 2, :, :2], plane[:, :, 2, :, 2]
    A[:, :, 2:5, :, 2:5] = bend
    if cross is not None:
        A[:, :, :2, :, 2:5], A[:, :, 5, :, 2:5] = cross[:, :, :2], cross[:, :, 2]
        back = cross.transpose(0, 3, 4, 1, 2)
        A[:, :, 2:5, :, :2], A[:, :, 2:5, :, 5] = back[..., :2], back[..., 2]
    return A.reshape(count, 6 * n, 6 * n)


class _MassField(NamedTuple):
    """What inertia is integrated by: points of a rule for fields of fourth degree, and functions there."""

    weights: Floats
    N: Floats
    slopes: Floats
    bubbles: Floats
    """Of the incompatible modes, (points, 2)."""
    linked: Floats
    """Deflection per slope times length along each edge, (points * nodes, edges)."""


@lru_cache(maxsize=2)
def _mass_field(n: int) -> _MassField:
    if n == 4:
        g, w = gauss(3)
        points, weights = np.array([[x, y] for x in g for y in g]), np.outer(w, w).ravel()
    else:
        points, weights = triangle_rule()
    N, slopes = _functions(n, points)
    linked = np.zeros((len(points), n, n))
    for a in range(n):
        b = (a + 1) % n
        if n == 4:
            middle = (_QUAD[a] + _QUAD[b]) / 2.0
            along = 0 if middle[0] == 0.0 else 1
            bubble = (1 - points[:, along] ** 2) * (1 + middle[1 - along] * points[:, 1 - along]) / 2.0
        else:
            bubble = 4.0 * N[:, a] * N[:, b]
        linked[:, a, a], linked[:, b, a] = bubble / 8.0, -bubble / 8.0  # of -(θy dx - θx dy), edge (dx, dy)
    return _MassField(weights, N, slopes, 1.0 - points**2, linked.reshape(-1, n))
