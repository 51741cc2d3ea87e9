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
from typing import Any, ClassVar

import numpy as np
from numpy.typing import NDArray

from holokine.elements.beam import arm_matrix
from holokine.elements.kinds import CHUNK, ElementKind, StrainMaps, averaged_field, by_shape, element_map, in_sorts
from holokine.elements.laminate import Laminate, turned_in_plane
from holokine.elements.shapes import gauss, triangle_rule
from holokine.elements.stress import Places, StressField
from holokine.errors import DescriptionError

__all__ = ["ShellElements", "shell_axes"]

Floats = NDArray[Any]  # float64
Ints = NDArray[Any]  # int64
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


def _times_inverse(dN: Floats, J: Floats, det: Floats) -> Floats:
    """Gradients dN J⁻ᵀ of functions, shape (elements, functions, 2)."""
    x = (J[:, 1, 1, None] * dN[:, 0] - J[:, 0, 1, None] * dN[:, 1]) / det[:, None]
    y = (J[:, 0, 0, None] * dN[:, 1] - J[:, 1, 0, None] * dN[:, 0]) / det[:, None]
    return np.stack([x, y], axis=2)


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
        """Axes, in-plane corner places (elements, nodes, 2), and the map from global to local motions."""
        axes = shell_axes(X, self.along)
        centre = X.mean(axis=1, keepdims=True)
        local = np.einsum("eij,enj->eni", axes, X - centre)
        height = local[:, :, 2]
        height[np.abs(height) < 1e-9 * np.abs(local).max(axis=(1, 2), initial=0.0)[:, None]] = 0.0  # rounding
        lift = self.offset - height  # from the node to the flat mid-surface, along the normal
        n = X.shape[1]
        T = np.zeros((len(X), 6 * n, 6 * n))
        for k in range(n):
            a = 6 * k
            arm = lift[:, k, None] * axes[:, 2]
            T[:, a : a + 3, a : a + 3] = axes
            T[:, a + 3 : a + 6, a + 3 : a + 6] = axes
            T[:, a : a + 3, a + 3 : a + 6] = axes @ arm_matrix(arm)
        return axes, local[:, :, :2], T

    def _matrices(self, X: Floats) -> tuple[Floats, Floats]:
        """Stiffness and mass, global axes."""
        axes, xy, T = self._flat(X)
        K, M = self._local(xy)
        if self.tension is not None:
            self._add_stress(K, xy, self._preload(X, axes))
        back = np.swapaxes(T, 1, 2)
        return back @ K @ T, back @ M @ T

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
        n = self.nodes.shape[1]
        plane, bend = _plane_and_bend(n)
        result = np.empty((len(self.nodes), len(points), 3))
        for a in range(0, len(self.nodes), CHUNK):
            some = slice(a, a + CHUNK)
            _, xy, T = self._flat(self.places[self.nodes[some]])
            own = np.einsum("eij,ej->ei", T, u[self.dofs[some]] - strain * expansion[some])
            inner = self._membrane(xy, self.laminate.stretching)[1]
            for k, p in enumerate(points):
                B, _ = self._plane_strain(xy, p)
                whole = B[:, :, : 3 * n] if inner is None else B[:, :, : 3 * n] + B[:, :, 3 * n :] @ inner
                result[some, k] = np.einsum("eij,ej->ei", whole, own[:, plane]) @ self.laminate.stretching.T
                if self.laminate.coupling.any():
                    curving = self._curvature(self._at(xy, p)[1])
                    result[some, k] += np.einsum("eij,ej->ei", curving, own[:, bend]) @ self.laminate.coupling.T
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
        """Add what membrane forces, (elements or 1, points or 1, 2, 2) in N/m, do on the slopes of all motions.

        On displacements along x, y, z, and by t²/12 on the rotations (the same stress through the thickness).
        """
        n = xy.shape[1]
        for k, (p, w) in enumerate(zip(*self._rule("full"), strict=True)):
            _, gradient, det = self._at(xy, p)
            own = forces[:, min(k, forces.shape[1] - 1)]
            scalar = gradient @ own @ np.swapaxes(gradient, 1, 2) * (w * det)[:, None, None]
            for d, share in ((0, 1.0), (1, 1.0), (2, 1.0), (3, self.thickness**2 / 12), (4, self.thickness**2 / 12)):
                index = 6 * np.arange(n) + d
                K[np.ix_(np.arange(len(xy)), index, index)] += share * scalar

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

    def _at(self, xy: Floats, p: Floats) -> tuple[Floats, Floats, Floats]:
        """Shape functions (nodes,), gradients (elements, nodes, 2) and det J."""
        if self.kind == "quad4":
            N = (1 + _QUAD[:, 0] * p[0]) * (1 + _QUAD[:, 1] * p[1]) / 4
            dN = np.column_stack(
                [_QUAD[:, 0] * (1 + _QUAD[:, 1] * p[1]) / 4, _QUAD[:, 1] * (1 + _QUAD[:, 0] * p[0]) / 4]
            )
        else:
            N = np.array([1 - p[0] - p[1], p[0], p[1]])
            dN = np.array([[-1.0, -1.0], [1.0, 0.0], [0.0, 1.0]])
        J = np.einsum("nk,eni->eki", dN, xy)
        det = J[:, 0, 0] * J[:, 1, 1] - J[:, 0, 1] * J[:, 1, 0]
        return N, _times_inverse(dN, J, det), det

    def _rule(self, use: str) -> tuple[Floats, Floats]:
        if self.kind == "quad4":
            g, w = gauss(2)
            return np.array([[x, y] for y in g for x in g]), np.array([a * b for b in w for a in w])
        if use == "one":
            return np.array([[1 / 3, 1 / 3]]), np.array([0.5])
        return np.array([[1 / 6, 1 / 6], [2 / 3, 1 / 6], [1 / 6, 2 / 3]]), np.full(3, 1 / 6)

    # -- matrices in local axes -----------------------------------------------------------------------

    def _local(self, xy: Floats) -> tuple[Floats, Floats]:
        n = xy.shape[1]
        K = np.zeros((len(xy), 6 * n, 6 * n))
        Db, Ds, coupling = self.laminate.bending, self.laminate.transverse, self.laminate.coupling
        plane, bend = _plane_and_bend(n)
        in_plane, inner = self._membrane(xy, self.laminate.stretching)
        K[np.ix_(np.arange(len(xy)), plane, plane)] = in_plane
        soft = self._shear_share(xy)
        strains, forces = [], []
        for p, w in zip(*self._rule("full"), strict=True):
            _, gradient, det = self._at(xy, p)
            weight = (w * det)[:, None, None]
            B, S = self._curvature(gradient), self._shear_strain(xy, p)
            strains += [B, S]
            forces += [weight * (Db @ B), weight * soft * (Ds @ S)]
        part = np.swapaxes(np.concatenate(strains, axis=1), 1, 2) @ np.concatenate(forces, axis=1)
        K[np.ix_(np.arange(len(xy)), bend, bend)] = part
        if coupling.any():
            self._add_coupling(K, xy, inner, coupling)
        return (K + np.swapaxes(K, 1, 2)) / 2.0, self._mass(xy, inner)

    def _add_coupling(self, K: Floats, xy: Floats, inner: Floats | None, coupling: Floats) -> None:
        """Add what unsymmetric layers couple: membrane strain, incompatible modes included, with curvature.

        The modes stay those of the membrane alone, so that they only enrich it; curvature then sees their strain.
        """
        n = xy.shape[1]
        plane, bend = _plane_and_bend(n)
        cross = np.zeros((len(xy), 3 * n, 3 * n))
        for p, w in zip(*self._rule("full"), strict=True):
            B, _ = self._plane_strain(xy, p)
            whole = B[:, :, : 3 * n] if inner is None else B[:, :, : 3 * n] + B[:, :, 3 * n :] @ inner
            _, gradient, det = self._at(xy, p)
            cross += (w * det)[:, None, None] * (np.swapaxes(whole, 1, 2) @ (coupling @ self._curvature(gradient)))
        every = np.arange(len(xy))
        K[np.ix_(every, plane, bend)] += cross
        K[np.ix_(every, bend, plane)] += np.swapaxes(cross, 1, 2)

    def _shear_share(self, xy: Floats) -> Any:
        """Factor on the transverse shear stiffness of triangles, t² / (t² + α L²) with L the longest edge.

        The edge constraints alone are as many as a triangle mesh has motions, and thin plates would lock
        (Lyly, Stenberg & Vihinen, CMAME 110 (1993) 343-357); the factor tends to one with the element size.
        """
        if self.kind == "quad4":
            return 1.0
        longest = np.zeros(len(xy))
        for a, b in ((0, 1), (1, 2), (2, 0)):
            longest = np.maximum(longest, np.sum((xy[:, a] - xy[:, b]) ** 2, axis=1))
        return (self.thickness**2 / (self.thickness**2 + SHEAR_SOFTENING * longest))[:, None, None]

    def _membrane(self, xy: Floats, Dm: Floats) -> tuple[Floats, Floats | None]:
        """Membrane and drilling stiffness on (u, v, θz) per node, and the map to the incompatible modes."""
        n = xy.shape[1]
        quad = self.kind == "quad4"
        drill = DRILLING * Dm[2, 2]
        strains, forces = [], []
        for p, w in zip(*self._rule("full"), strict=True):
            B, R = self._plane_strain(xy, p)
            weight = (w * self._at(xy, p)[2])[:, None, None]
            strains += [B, R]
            forces += [weight * (Dm @ B), weight * drill * R]
        full = np.swapaxes(np.concatenate(strains, axis=1), 1, 2) @ np.concatenate(forces, axis=1)
        if not quad:
            return full, None
        m = 3 * n
        inner = -np.linalg.solve(full[:, m:, m:], full[:, m:, :m])
        return full[:, :m, :m] + full[:, :m, m:] @ inner, inner

    def _plane_strain(self, xy: Floats, p: Floats) -> tuple[Floats, Floats]:
        """Membrane strain and drilling strain θz - (v,x - u,y)/2 on (u, v, θz) and the incompatible modes."""
        N, g, det = self._at(xy, p)
        n = xy.shape[1]
        extra = 4 if self.kind == "quad4" else 0
        B = np.zeros((len(xy), 3, 3 * n + extra))
        R = np.zeros((len(xy), 1, 3 * n + extra))
        B[:, 0, 0 : 3 * n : 3] = B[:, 2, 1 : 3 * n : 3] = g[:, :, 0]
        B[:, 1, 1 : 3 * n : 3] = B[:, 2, 0 : 3 * n : 3] = g[:, :, 1]
        R[:, 0, 0 : 3 * n : 3], R[:, 0, 1 : 3 * n : 3] = g[:, :, 1] / 2, -g[:, :, 0] / 2
        R[:, 0, 2 : 3 * n : 3] = N
        if extra:
            centre = np.zeros(2)
            dN = np.column_stack([_QUAD[:, 0] / 4, _QUAD[:, 1] / 4])
            J0 = np.einsum("nk,eni->eki", dN, xy)
            det0 = self._at(xy, centre)[2]
            local = np.diag(-2.0 * p)  # (modes, 2)
            h = _times_inverse(local, J0, det0) * (det0 / det)[:, None, None]
            for k in range(2):
                u, v = 3 * n + 2 * k, 3 * n + 2 * k + 1
                B[:, 0, u] = B[:, 2, v] = h[:, k, 0]
                B[:, 1, v] = B[:, 2, u] = h[:, k, 1]
                R[:, 0, u], R[:, 0, v] = h[:, k, 1] / 2, -h[:, k, 0] / 2
        return B, R

    def _curvature(self, g: Floats) -> Floats:
        """Curvatures κx, κy, κxy on (w, θx, θy) per node."""
        count, n, _ = g.shape
        B = np.zeros((count, 3, 3 * n))
        B[:, 0, 2::3] = g[:, :, 0]
        B[:, 1, 1::3] = -g[:, :, 1]
        B[:, 2, 1::3] = -g[:, :, 0]
        B[:, 2, 2::3] = g[:, :, 1]
        return B

    def _covariant(self, xy: Floats, p: Floats) -> tuple[Floats, Floats]:
        """Covariant shear strains γξ, γη on (w, θx, θy) from the displacements at a place, and J."""
        if self.kind == "quad4":
            N = (1 + _QUAD[:, 0] * p[0]) * (1 + _QUAD[:, 1] * p[1]) / 4
            dN = np.column_stack(
                [_QUAD[:, 0] * (1 + _QUAD[:, 1] * p[1]) / 4, _QUAD[:, 1] * (1 + _QUAD[:, 0] * p[0]) / 4]
            )
        else:
            N, dN = np.array([1 - p[0] - p[1], p[0], p[1]]), np.array([[-1.0, -1.0], [1.0, 0.0], [0.0, 1.0]])
        J = np.einsum("nk,eni->eki", dN, xy)
        S = np.zeros((len(xy), 2, 3 * len(N)))
        for k in range(2):
            S[:, k, 0::3] = dN[:, k]
            S[:, k, 1::3] = -J[:, k, 1, None] * N
            S[:, k, 2::3] = J[:, k, 0, None] * N
        return S, J

    def _shear_strain(self, xy: Floats, p: Floats) -> Floats:
        """Assumed transverse shear strains γzx, γyz on (w, θx, θy), shape (elements, 2, 3 * nodes)."""
        J = self._covariant(xy, p)[1]
        if self.kind == "quad4":
            up, down = (self._covariant(xy, np.array([0.0, e]))[0][:, 0] for e in (1.0, -1.0))
            right, left = (self._covariant(xy, np.array([e, 0.0]))[0][:, 1] for e in (1.0, -1.0))
            first = (1 + p[1]) / 2 * up + (1 - p[1]) / 2 * down
            second = (1 + p[0]) / 2 * right + (1 - p[0]) / 2 * left
        else:
            one = self._covariant(xy, np.array([0.5, 0.0]))[0]
            two = self._covariant(xy, np.array([0.0, 0.5]))[0]
            three = self._covariant(xy, np.array([0.5, 0.5]))[0]
            c = two[:, 1] - one[:, 0] - three[:, 1] + three[:, 0]
            first, second = one[:, 0] + c * p[1], two[:, 1] - c * p[0]
        det = (J[:, 0, 0] * J[:, 1, 1] - J[:, 0, 1] * J[:, 1, 0])[:, None]
        along = (J[:, 1, 1, None] * first - J[:, 0, 1, None] * second) / det
        across = (J[:, 0, 0, None] * second - J[:, 1, 0, None] * first) / det
        return np.stack([along, across], axis=1)

    def _mass(self, xy: Floats, inner: Floats | None) -> Floats:
        n = xy.shape[1]
        areal, first, rotary = self.laminate.inertia
        if self.mass != "consistent":
            M = np.zeros((len(xy), 6 * n, 6 * n))
            rows = sum((w * det)[:, None] * N for w, (N, _, det) in ((w, self._at(xy, p)) for p, w in self._pairs()))
            for k in range(n):
                for d, value in ((0, areal), (1, areal), (2, areal), (3, rotary), (4, rotary)):
                    if d < 3 or self.mass == "lumped":
                        M[:, 6 * k + d, 6 * k + d] = value * np.asarray(rows)[:, k]
            return M
        count, places = len(xy), self._pairs(fine=True)
        N = np.array([self._at(xy[:0], p)[0] for p, _ in places])
        weight = np.stack([w * self._at(xy, p)[2] for p, w in places], axis=1)  # (elements, points)
        # motions in the plane u, v on (u, v, θz), and across it w on (w, θx, θy), do not mix
        flat = np.zeros((count, 2, len(places), 3 * n))
        for d in range(2):
            flat[:, d, :, d::3] = N
            if inner is not None:  # the incompatible modes' displacements move mass too
                flat[:, d] += np.array([1.0 - p**2 for p, _ in places]) @ inner[:, d::2]
        across = np.stack([self._deflection(xy, p, own) for (p, _), own in zip(places, N, strict=True)], axis=1)
        both = flat.reshape(count, -1, 3 * n)
        parts = np.zeros((count, 2, n, 3, 2, n, 3))  # plane or bend, node, motion
        parts[:, 0, :, :, 0] = _form(both, areal * np.tile(weight, 2)).reshape(count, n, 3, n, 3)
        parts[:, 1, :, :, 1] = _form(across, areal * weight).reshape(count, n, 3, n, 3)
        turning = (weight @ (N[:, :, None] * N[:, None]).reshape(len(places), -1)).reshape(count, n, n)
        for d in (1, 2):
            parts[:, 1, :, d, 1, :, d] += rotary * turning
        if first:
            for d, axis, sign in ((0, 2, first), (1, 1, -first)):  # u + z θy, v - z θx
                mixed = sign * (np.swapaxes(flat[:, d], 1, 2) @ (weight[:, :, None] * N)).reshape(count, n, 3, n)
                parts[:, 0, :, :, 1, :, axis] += mixed
                parts[:, 1, :, axis, 0] += np.moveaxis(mixed, 3, 1)
        order = np.argsort(np.concatenate(_plane_and_bend(n)))
        return parts.reshape(count, 6 * n, 6 * n)[:, order][:, :, order]

    def _pairs(self, fine: bool = False) -> list[tuple[Floats, float]]:
        """Quadrature points with weights; `fine`: for fourth-degree fields."""
        if not fine:
            return list(zip(*self._rule("full"), strict=True))
        if self.kind == "quad4":
            g, w = gauss(3)
            return [
                (np.array([x, y]), float(a * b)) for x, a in zip(g, w, strict=True) for y, b in zip(g, w, strict=True)
            ]
        points, weights = triangle_rule()
        return list(zip(points, weights, strict=True))

    def _deflection(self, xy: Floats, p: Floats, N: Floats) -> Floats:
        """Deflection w on (w, θx, θy), curved along the edges as the nodes' rotations ask (linked interpolation).

        Without it a bending wave has the inertia of its chord, and three times the error.
        """
        n = xy.shape[1]
        W = np.zeros((len(xy), 3 * n))
        W[:, 0::3] = N
        for a in range(n):
            b = (a + 1) % n
            if self.kind == "quad4":
                middle = (_QUAD[a] + _QUAD[b]) / 2.0
                along = 0 if middle[0] == 0.0 else 1
                bubble = (1 - p[along] ** 2) * (1 + middle[1 - along] * p[1 - along]) / 2.0
            else:
                bubble = 4.0 * N[a] * N[b]
            edge = xy[:, b] - xy[:, a]  # slope along the edge times its length: -(θy dx - θx dy)
            for node, sign in ((a, 1.0), (b, -1.0)):
                W[:, 3 * node + 1] += sign * bubble / 8.0 * edge[:, 1]
                W[:, 3 * node + 2] -= sign * bubble / 8.0 * edge[:, 0]
        return W

    def normals(self) -> Floats:
        """Unit normal in the middle of each element, shape (elements, 3)."""
        return self.strain_axes()[:, 1]

    def volumes(self) -> Floats:
        """Volume of each element in m³."""
        _, xy, _ = self._flat(self.places[self.nodes])
        return self.thickness * sum(w * self._at(xy, p)[2] for p, w in zip(*self._rule("full"), strict=True))

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
        """Strain and curvature (elements, points, 6, motions) of global motions."""
        _, xy, T = self._flat(X)
        n = xy.shape[1]
        plane, bend = _plane_and_bend(n)
        inner = self._membrane(xy, self.laminate.stretching)[1]
        maps = np.zeros((len(X), len(points), 6, 6 * n))
        for k, p in enumerate(points):
            B, _ = self._plane_strain(xy, p)
            maps[:, k, :3, plane] = np.moveaxis(
                B[:, :, : 3 * n] if inner is None else B[:, :, : 3 * n] + B[:, :, 3 * n :] @ inner, 2, 0
            )
            maps[:, k, 3:, bend] = np.moveaxis(self._curvature(self._at(xy, p)[1]), 2, 0)
        return maps @ T[:, None]

    def _areas(self, X: Floats) -> Floats:
        """Area of each compared point, shape (elements, points)."""
        _, xy, _ = self._flat(X)
        rule = self._rule("full" if self.kind == "quad4" else "one")
        return np.stack([w * self._at(xy, p)[2] for p, w in zip(*rule, strict=True)], axis=1)

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
                raise DescriptionError(f'part "{self.part}": layer {layer} is not there; it has {len(plies)}')
            ply = plies[layer - 1]
            if not ply.own.any():
                raise DescriptionError(f'part "{self.part}": layer {layer} carries nothing and has no stress')
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
        """Stress at a height over the mid-surface, maps (elements, 3, motions) of global motions, point by point."""

        def made(X: Floats) -> Floats:
            maps = self._strains_at(X, points)
            return Q @ (maps[:, :, :3] + height * maps[:, :, 3:])

        return list(np.moveaxis(by_shape(self.places[self.nodes], made), 1, 0))


def _form(fields: Floats, weight: Floats) -> Floats:
    """Σ w fᵀ f over points, fields (elements, points, motions), weights (elements, points)."""
    return np.asarray(np.swapaxes(fields, 1, 2) @ (weight[:, :, None] * fields))


def _plane_and_bend(n: int) -> tuple[Ints, Ints]:
    """Local motions u v θz and w θx θy of n nodes."""
    start = 6 * np.arange(n)[:, None]
    return (start + np.array([0, 1, 5])).ravel(), (start + np.array([2, 3, 4])).ravel()
