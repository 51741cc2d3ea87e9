"""Quadratic shells: nine-node quadrilaterals and six-node triangles, curved in space.

The mid-surface is interpolated from all nodes; the normal from those at the nodes, each element its own, so that
folds need nothing. Stiffness and mass are integrated through the thickness over the curved body (the metric of
Naghdi's shell, exact); stress is read from the bending measure of Koiter and Sanders, which is zero under free growth.
In-plane, bending and transverse shear strains are interpolated from places where they do
not lock: nine nodes after Bucalem & Bathe (Int. J. Num. Meth. Eng. 36 (1993) 3729-3754), six nodes after Lee & Bathe
(Computers & Structures 82 (2004) 945-962) with the transverse shear of the rotated Raviart-Thomas space (Bathe,
Brezzi & Cho, Computers & Structures 32 (1989) 797-814). The rotation about the normal follows that of the surface,
weakly (Hughes & Brezzi 1989).

Motions stay in global axes: u and the rotation vector of each node.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from holokine.elements.beam import arm_matrix
from holokine.elements.kinds import CHUNK
from holokine.elements.shapes import QUAD9_PLACES, TRI6_PLACES, gauss, surface_shape, triangle_rule
from holokine.elements.shell import DRILLING, ShellElements

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints

__all__ = ["CurvedShellElements"]


_NEAR, _FAR = 0.5 - 0.5 / np.sqrt(3.0), 0.5 + 0.5 / np.sqrt(3.0)
_ROOT3, _ROOT35 = 1.0 / np.sqrt(3.0), np.sqrt(0.6)


@dataclass(frozen=True)
class _Ties:
    """Where a strain is taken, and along which reference directions."""

    places: Floats  # (ties, 2)
    one: Floats  # (ties, 2): first direction
    two: Floats  # (ties, 2): second direction


@lru_cache(maxsize=2)
def _membrane_ties(kind: str) -> _Ties:
    r, s, q = np.array([1.0, 0.0]), np.array([0.0, 1.0]), np.array([-1.0, 1.0])
    if kind == "quad9":
        rr = [[a, b] for b in (-_ROOT35, 0.0, _ROOT35) for a in (-_ROOT3, _ROOT3)]
        ss = [[b, a] for a, b in rr]
        rs = [[a, b] for b in (-_ROOT3, _ROOT3) for a in (-_ROOT3, _ROOT3)]
        return _Ties(
            np.array(rr + ss + rs), np.array([r] * 6 + [s] * 6 + [r] * 4), np.array([r] * 6 + [s] * 6 + [s] * 4)
        )
    rr = [[_NEAR, 0.0], [_FAR, 0.0], [_NEAR, _ROOT3]]
    ss = [[b, a] for a, b in rr]
    qq = [[_FAR, _NEAR], [_NEAR, _FAR], [_NEAR, _NEAR]]
    along = np.array([r] * 3 + [s] * 3 + [q] * 3)
    return _Ties(np.array(rr + ss + qq), along, along)


@lru_cache(maxsize=2)
def _shear_ties(kind: str) -> _Ties:
    r, s = np.array([1.0, 0.0]), np.array([0.0, 1.0])
    if kind == "quad9":
        first = _membrane_ties(kind)
        return _Ties(first.places[:12], first.one[:12], first.two[:12])
    inside = [[1 / 6, 1 / 6], [2 / 3, 1 / 6], [1 / 6, 2 / 3]]  # exact means of quadratic fields
    edges = [[_NEAR, 0.0], [_FAR, 0.0], [0.0, _NEAR], [0.0, _FAR], [_FAR, _NEAR], [_NEAR, _FAR]]
    along = np.array([r, r, s, s, s - r, s - r, r, r, r, s, s, s])
    return _Ties(np.array(edges + inside + inside), along, along)


def _products(p: Floats, a: int, b: int) -> Floats:
    """Monomials x^i y^j with i < a and j < b, shape (points, a * b)."""
    return np.stack([p[:, 0] ** i * p[:, 1] ** j for j in range(b) for i in range(a)], axis=1)


def _membrane_weights(kind: str, p: Floats) -> Floats:
    """Covariant rr, ss and twice rs at points from the ties, shape (points, 3, ties)."""
    t = _membrane_ties(kind).places
    W = np.zeros((len(p), 3, len(t)))
    if kind == "quad9":
        W[:, 0, :6] = _products(p, 2, 3) @ np.linalg.inv(_products(t[:6], 2, 3))
        W[:, 1, 6:12] = _products(p, 3, 2) @ np.linalg.inv(_products(t[6:12], 3, 2))
        W[:, 2, 12:] = 2.0 * _products(p, 2, 2) @ np.linalg.inv(_products(t[12:], 2, 2))
        return W
    linear = [np.column_stack([np.ones(len(x)), x]) for x in (p, t[:3], t[3:6], t[6:])]
    rr, ss, qq = (linear[0] @ np.linalg.inv(own) for own in linear[1:])
    W[:, 0, :3], W[:, 1, 3:6] = rr, ss
    W[:, 2, :3], W[:, 2, 3:6], W[:, 2, 6:] = rr, ss, -qq
    return W


def _shear_weights(kind: str, p: Floats) -> Floats:
    """Covariant shear strains along r and s at points from the ties, shape (points, 2, ties)."""
    ties = _shear_ties(kind)
    t = ties.places
    W = np.zeros((len(p), 2, len(t)))
    if kind == "quad9":
        W[:, 0, :6] = _products(p, 2, 3) @ np.linalg.inv(_products(t[:6], 2, 3))
        W[:, 1, 6:] = _products(p, 3, 2) @ np.linalg.inv(_products(t[6:], 3, 2))
        return W

    def fields(x: Floats) -> Floats:  # rotated Raviart-Thomas: linear, and (s, -r) times linear
        r, s = x[:, 0], x[:, 1]
        one, none = np.ones(len(x)), np.zeros(len(x))
        along_r = np.stack([one, r, s, none, none, none, r * s, s * s], axis=1)
        along_s = np.stack([none, none, none, one, r, s, -r * r, -r * s], axis=1)
        return np.stack([along_r, along_s], axis=1)

    means = np.zeros((8, len(t)))  # along the edges at their Gauss points, and the mean over the triangle
    means[range(6), range(6)] = 1.0
    means[6, 6:9] = means[7, 9:12] = 1 / 3
    taken = means @ np.einsum("tk,tkc->tc", ties.one, fields(t))
    return np.asarray(fields(p) @ np.linalg.inv(taken) @ means)


def _tensor_map(A: Floats) -> Floats:
    """Matrices (..., 3, 3) that take xx, yy, 2xy of a tensor e to those of A e Aᵀ, from A (..., 2, 2)."""
    a, b, c, d = A[..., 0, 0], A[..., 0, 1], A[..., 1, 0], A[..., 1, 1]
    T = np.empty((*a.shape, 3, 3))
    T[..., 0, 0], T[..., 0, 1], T[..., 0, 2] = a * a, b * b, a * b
    T[..., 1, 0], T[..., 1, 1], T[..., 1, 2] = c * c, d * d, c * d
    T[..., 2, 0], T[..., 2, 1], T[..., 2, 2] = 2 * a * c, 2 * b * d, a * d + b * c
    return T


def _from_own(place: _Place, edge: Floats) -> Floats:
    """Turn to the local axes from those along the first edge (elements, 3), in which an element is constant.

    Whatever the axes are, the element then turns with the model, and a flat one knows a constant strain.
    """
    z = place.axes[:, :, 2]
    along = edge[:, None] - np.einsum("ei,epi->ep", edge, z)[..., None] * z
    along = along / np.linalg.norm(along, axis=2, keepdims=True)
    c = np.einsum("epi,epi->ep", along, place.axes[:, :, 0])
    s = np.einsum("epi,epi->ep", along, place.axes[:, :, 1])
    return np.stack([np.stack([c, -s], axis=2), np.stack([s, c], axis=2)], axis=2)


def _turned(arm: Floats, g: Floats) -> Floats:
    """Vectors g (elements, ties, 3) on displacements per turn of the nodes: (elements, ties, nodes, 3)."""
    return np.einsum("enik,etk->etni", arm, g, optimize=True)


def _cross(a: Floats, b: Floats) -> Floats:
    """a × b along the last axis; faster than NumPy's on many short vectors."""
    a, b = np.broadcast_arrays(a, b)
    out = np.empty(a.shape)
    for i in range(3):
        j, k = (i + 1) % 3, (i + 2) % 3
        out[..., i] = a[..., j] * b[..., k] - a[..., k] * b[..., j]
    return out


class _Tied(NamedTuple):
    """Covariant strain, its slope and its curve over the height, and shear, where they are taken.

    Each of shape (elements, ties, dofs). `means`: what strain and bending lack, (elements, 3, motions), in axes
    along the first edge, and that edge.
    """

    stretch: Floats
    bend: Floats
    twist: Floats
    shear: Floats
    means: tuple[Floats, Floats, Floats] | None = None


def _covariant(surface: tuple[Floats, Floats], kind: str, ties: _Ties, orders: int = 3) -> tuple[Floats, ...]:
    """Covariant strain, its slope and its curve over the height at places, (elements, places, motions)."""
    X, V = surface
    count, n, _ = X.shape
    arm = np.swapaxes(arm_matrix(V), 2, 3)
    _, dN = surface_shape(kind, ties.places)
    one, two = (np.einsum("tna,ta->tn", dN, d) for d in (ties.one, ties.two))
    g1, g2, n1, n2 = one @ X, two @ X, one @ V, two @ V
    stretch, bend, twist = np.zeros((3, count, len(ties.places), n, 6))
    half1, half2 = 0.5 * one[None, :, :, None], 0.5 * two[None, :, :, None]
    stretch[..., :3] = half2 * g1[:, :, None] + half1 * g2[:, :, None]
    bend[..., :3] = half2 * n1[:, :, None] + half1 * n2[:, :, None]
    bend[..., 3:] = half2 * _turned(arm, g1) + half1 * _turned(arm, g2)
    if orders > 2 and np.abs(n1).max(initial=0.0) + np.abs(n2).max(initial=0.0) > 0.0:
        twist[..., 3:] = half2 * _turned(arm, n1) + half1 * _turned(arm, n2)
    return tuple(a.reshape(count, -1, 6 * n) for a in (stretch, bend, twist))


@dataclass(frozen=True)
class _Place:
    """Geometry of the elements at reference places: functions (points, nodes), vectors (elements, points, 3)."""

    N: Floats
    slopes: Floats  # (points, nodes, 2): of the functions along r and s
    base: Floats  # (elements, points, 2, 3): g_r, g_s
    normal: Floats  # interpolated normals
    bent: Floats  # (elements, points, 2, 3): their derivatives
    axes: Floats  # (elements, points, 3, 3): local axes as rows
    area: Floats  # (elements, points)
    back: Floats  # (elements, points, 2, 2): inverse of g_α · e_i
    curved: Floats  # (elements, points, 2, 2): n,α · e_i brought to local axes


@dataclass(frozen=True)
class CurvedShellElements(ShellElements):
    """Shell elements of nine or six nodes of one part; attributes as `ShellElements`, kinds quad9 and tri6."""

    at_once = 300_000

    # -- geometry -------------------------------------------------------------------------------------

    def _surface(self, X: Floats) -> tuple[Floats, Floats]:
        """Nodes of the mid-surface and normals there, both (elements, nodes, 3)."""
        places = QUAD9_PLACES if self.kind == "quad9" else TRI6_PLACES
        _, dN = surface_shape(self.kind, places)
        g = np.einsum("pna,enk->epak", dN, X)
        normal = _cross(g[:, :, 0], g[:, :, 1])
        normal = normal / np.linalg.norm(normal, axis=2, keepdims=True)
        return (X + self.offset * normal if self.offset else X), normal

    def _at_places(self, surface: tuple[Floats, Floats], p: Floats) -> _Place:
        X, V = surface
        N, dN = surface_shape(self.kind, p)
        flat = dN.transpose(0, 2, 1).reshape(2 * len(p), -1)
        count = len(X)
        g = (flat @ X).reshape(count, len(p), 2, 3)
        bent = (flat @ V).reshape(count, len(p), 2, 3)
        normal = N @ V
        z = _cross(g[:, :, 0], g[:, :, 1])
        area = np.linalg.norm(z, axis=2)
        z = z / area[:, :, None]
        x = self._along(z)
        axes = np.stack([x, _cross(z, x), z], axis=2)
        J = g @ np.swapaxes(axes[:, :, :2], 2, 3)
        det = J[..., 0, 0] * J[..., 1, 1] - J[..., 0, 1] * J[..., 1, 0]
        back = np.empty_like(J)
        back[..., 0, 0], back[..., 1, 1] = J[..., 1, 1] / det, J[..., 0, 0] / det
        back[..., 0, 1], back[..., 1, 0] = -J[..., 0, 1] / det, -J[..., 1, 0] / det
        curved = back @ (bent @ np.swapaxes(axes[:, :, :2], 2, 3))
        return _Place(N, dN, g, normal, bent, axes, area, back, curved)

    def _along(self, z: Floats, along: tuple[float, float, float] | None = None) -> Floats:
        """The part of the direction of the axes in the plane normal to z, of unit length; shape as z."""
        wanted = along if along is not None else self.along
        choices = [] if wanted is None else [np.array(wanted)]
        choices += [np.array([1.0, 0, 0]), np.array([0, 1.0, 0])]
        # one choice for the whole element, by its middle, so that axes do not jump within it
        middle = z.mean(axis=1)
        middle = middle / np.linalg.norm(middle, axis=1, keepdims=True)
        x = np.zeros_like(z)
        unset = np.ones(len(z), dtype=bool)
        for choice in choices:
            use = unset & (np.linalg.norm(choice - (middle @ choice)[:, None] * middle, axis=1) > 0.2)
            part = choice - (z[use] @ choice)[..., None] * z[use]
            x[use] = part / np.linalg.norm(part, axis=2, keepdims=True)
            unset &= ~use
        return x

    # -- strains --------------------------------------------------------------------------------------

    def _tied(self, surface: tuple[Floats, Floats]) -> _Tied:
        """What strain is interpolated from."""
        X, V = surface
        count, n, _ = X.shape
        ties = _membrane_ties(self.kind)
        stretch, bend, twist = _covariant(surface, self.kind, ties)
        shears = _shear_ties(self.kind)
        N, dN = surface_shape(self.kind, shears.places)
        one = np.einsum("tna,ta->tn", dN, shears.one)
        arm = np.swapaxes(arm_matrix(V), 2, 3)
        shear = np.zeros((count, len(N), n, 6))
        shear[..., :3] = one[None, :, :, None] * (N @ V)[:, :, None]
        shear[..., 3:] = N[None, :, :, None] * _turned(arm, one @ X)
        found = _Tied(stretch, bend, twist, shear.reshape(count, -1, 6 * n))
        p, w = self._rule("full")
        place = self._at_places(surface, p)
        if np.ptp(place.base, axis=1).max() <= 1e-9 * np.abs(place.base).max():
            return found
        # the mean of interpolated strain is made that of the motion itself, so that constant stress passes on any mesh
        r, s = np.tile([1.0, 0.0], (len(p), 1)), np.tile([0.0, 1.0], (len(p), 1))
        parts = [_covariant(surface, self.kind, _Ties(p, a, b), 2) for a, b in ((r, r), (s, s), (r, s))]
        share = (w * place.area) / ((w * place.area).sum(axis=1))[:, None]
        T, edge = _tensor_map(place.back), X[:, 1] - X[:, 0]
        to_own = _tensor_map(np.swapaxes(_from_own(place, edge), 2, 3)) * share[:, :, None, None]
        means: list[Floats] = []
        for k, tied in enumerate(self._strains(place, p, found)[:2]):
            own = np.stack([parts[0][k], parts[1][k], 2.0 * parts[2][k]], axis=2)
            means.append((to_own @ (T @ own - tied)).sum(axis=1))
        return found._replace(means=(means[0], means[1], edge))

    def _strains(self, place: _Place, p: Floats, tied: _Tied) -> tuple[Floats, Floats, Floats]:
        """Membrane strain and its slope and curve over the height, xx yy 2xy, in the local axes of the mid-surface.

        Each of shape (elements, points, 3, motions); what of them is strain at a height, the metric there says.
        """
        W = _membrane_weights(self.kind, p)
        flat = W.reshape(-1, W.shape[2])
        T = _tensor_map(place.back)
        stretch, bend, twist = (T @ (flat @ rows).reshape(len(rows), len(p), 3, -1) for rows in tied[:3])
        if tied.means is not None:
            turn = _tensor_map(_from_own(place, tied.means[2]))
            stretch, bend = stretch + turn @ tied.means[0][:, None], bend + turn @ tied.means[1][:, None]
        return stretch, bend, twist

    def _shears(self, place: _Place, p: Floats, tied: _Tied) -> Floats:
        """Transverse shear strains zx, yz in local axes, (elements, points, 2, motions)."""
        S = _shear_weights(self.kind, p)
        rows = S.reshape(-1, S.shape[2]) @ tied.shear
        return np.asarray(place.back @ rows.reshape(len(rows), len(p), 2, -1))

    def _measured(self, place: _Place, p: Floats, tied: _Tied) -> tuple[Floats, Floats]:
        """Membrane strain, and bending by the measure of Koiter and Sanders."""
        stretch, bend, _ = self._strains(place, p, tied)
        H = place.curved
        if np.abs(H).max(initial=0.0) == 0.0:
            return stretch, bend
        h, k, m, q = H[..., 0, 0], H[..., 0, 1], H[..., 1, 0], H[..., 1, 1]
        C = np.zeros((*h.shape, 3, 3))  # half of H ε + ε Hᵀ on xx, yy, twice xy
        C[..., 0, 0], C[..., 0, 2] = h, k / 2
        C[..., 1, 1], C[..., 1, 2] = q, m / 2
        C[..., 2, 0], C[..., 2, 1], C[..., 2, 2] = m, k, (h + q) / 2
        return stretch, bend - C @ stretch

    def _through(self, H: Floats) -> tuple[Floats, Floats]:
        """Stiffness on strain, its slope and its curve over the height, and share of mass moments.

        H is n,α · e_i in local axes, (elements, points, 2, 2): lengths at a height are 1 + height H times those of the
        mid-surface. Shapes (elements, points, 9, 9), and (elements, points, 3): mass, first and second moment.
        """
        total = np.zeros((*H.shape[:2], 9, 9))
        inertia = np.zeros((*H.shape[:2], 3))
        nodes, weights = gauss(2)
        for ply in self.laminate.plies:
            half = (ply.top - ply.bottom) / 2.0
            for x, w in zip(nodes, weights, strict=True):
                z = ply.bottom + half * (1 + x)
                F = np.eye(2) + z * H
                det = F[..., 0, 0] * F[..., 1, 1] - F[..., 0, 1] * F[..., 1, 0]
                G = np.empty_like(F)
                G[..., 0, 0], G[..., 1, 1] = F[..., 1, 1] / det, F[..., 0, 0] / det
                G[..., 0, 1], G[..., 1, 0] = -F[..., 0, 1] / det, -F[..., 1, 0] / det
                T = _tensor_map(G)
                B = np.concatenate([T, z * T, z * z * T], axis=3)
                size = (w * half * det)[..., None, None]
                total += size * (np.swapaxes(B, 2, 3) @ (ply.stiffness @ B))
                inertia += ply.density * size[..., 0] * np.array([1.0, z, z * z])
        inertia[..., 0] += self.laminate.area_mass
        return total, inertia

    def _drilling(self, place: _Place) -> Floats:
        """θ about the normal less the rotation of the surface, shape (elements, points, 1, motions)."""
        count, points = place.area.shape
        slopes = np.einsum("epia,pna->epin", place.back, place.slopes)
        R = np.zeros((count, points, place.N.shape[1], 6))
        x, y, z = (place.axes[:, :, i, None] for i in range(3))
        R[..., :3] = 0.5 * (slopes[:, :, 1, :, None] * x - slopes[:, :, 0, :, None] * y)
        R[..., 3:] = place.N[None, :, :, None] * z
        return R.reshape(count, points, 1, -1)

    # -- matrices -------------------------------------------------------------------------------------

    def _rule(self, use: str) -> tuple[Floats, Floats]:
        if self.kind == "quad9":
            g, w = gauss(3)
            return np.array([[x, y] for y in g for x in g]), np.array([a * b for b in w for a in w])
        return triangle_rule()

    def _matrices(self, X: Floats) -> tuple[Floats, Floats]:
        """Stiffness and mass, global axes."""
        surface = self._surface(X)
        p, w = self._rule("full")
        place = self._at_places(surface, p)
        weight = w * place.area
        tied = self._tied(surface)
        laminate = self.laminate
        through, inertia = self._through(place.curved)
        bent = self._is_curved(place)
        strains = self._strains(place, p, tied)[: 3 if bent else 2]
        rows = np.concatenate([*strains, self._shears(place, p, tied), self._drilling(place)], axis=2)
        n = 3 * len(strains)
        D = np.zeros((*through.shape[:2], n + 3, n + 3))
        D[..., :n, :n] = through[..., :n, :n]
        D[..., n : n + 2, n : n + 2] = laminate.transverse
        D[..., n + 2, n + 2] = DRILLING * laminate.stretching[2, 2]
        count, motions = len(X), rows.shape[-1]
        # one small product per point, then one large one per element
        weighted = (D @ rows) * weight[:, :, None, None]
        K = np.swapaxes(rows.reshape(count, -1, motions), 1, 2) @ weighted.reshape(count, -1, motions)
        if self.tension is not None:
            self._add_slopes(K, surface[1], place, weight, self._preload_at(place))
        M = self._whole_mass(surface, self.mass, place if self.mass == "consistent" else None, inertia)
        return self._carried(K, surface[1]), self._carried(M, surface[1])

    def _is_curved(self, place: _Place) -> bool:
        return bool(self.thickness * np.abs(place.curved).max(initial=0.0) > 1e-9)

    def _preload_at(self, place: _Place) -> Floats:
        assert self.tension is not None
        z = place.axes[:, :, 2]
        x = self._along(z, self.tension_along) if self.tension_along is not None else place.axes[:, :, 0]
        turn = np.stack([x, _cross(z, x)], axis=2) @ np.swapaxes(place.axes[:, :, :2], 2, 3)
        return np.asarray(np.swapaxes(turn, 2, 3) @ self.tension @ turn)

    def _carried(self, matrix: Floats, normals: Floats) -> Floats:
        """A matrix on dofs of the mid-surface brought to the nodes, from which it may be offset."""
        if not self.offset:
            return matrix
        n = normals.shape[1]
        T = np.zeros((len(matrix), 6 * n, 6 * n))
        T[:, range(6 * n), range(6 * n)] = 1.0
        arms = arm_matrix(self.offset * normals)
        for k in range(n):
            T[:, 6 * k : 6 * k + 3, 6 * k + 3 : 6 * k + 6] = arms[:, k]
        return np.asarray(np.swapaxes(T, 1, 2) @ matrix @ T)

    def _whole_mass(
        self, surface: tuple[Floats, Floats], kind: str, place: _Place | None = None, inertia: Floats | None = None
    ) -> Floats:
        """Mass on dofs of the mid-surface; lumped at nodes by their own quadrature (nine), or scaled (six).

        `place`, `inertia`: at the points of the rule, where they are known already.
        """
        X, V = surface
        count, n, _ = X.shape
        arms = arm_matrix(V)  # displacement per height of a turn
        M: Any = np.zeros((count, n, 6, n, 6))
        if kind == "consistent":
            p, w = self._rule("full")
            if place is None or inertia is None:
                place = self._at_places(surface, p)
                inertia = self._through(place.curved)[1]
            inertia = inertia * (w * place.area)[..., None]
            outer = np.einsum("pi,pj->pij", place.N, place.N).reshape(len(p), -1)
            areal, first, rotary = (np.swapaxes(inertia, 1, 2) @ outer).reshape(count, 3, n, n).transpose(1, 0, 2, 3)
            for d in range(3):
                M[:, :, d, :, d] = areal
            cross = np.einsum("eij,ejab->eiajb", first, arms)
            M[:, :, :3, :, 3:] = cross
            M[:, :, 3:, :, :3] = cross.transpose(0, 3, 4, 1, 2)
            M[:, :, 3:, :, 3:] = rotary[:, :, None, :, None] * np.einsum("eika,ejkb->eiajb", arms, arms)
            return M.reshape(count, 6 * n, 6 * n)
        if self.kind == "quad9":
            place = self._at_places(surface, QUAD9_PLACES)
            share = place.area * np.array([1.0] * 4 + [4.0] * 4 + [16.0]) / 9.0
        else:
            p, w = self._rule("full")
            place = self._at_places(surface, p)
            share = (w * place.area) @ place.N**2
            share *= ((w * place.area).sum(axis=1) / share.sum(axis=1))[:, None]
        areal, _, rotary = self.laminate.inertia
        for k in range(n):
            M[:, k, range(3), k, range(3)] = areal * share[:, k, None]
            if kind == "lumped":
                M[:, k, 3:, k, 3:] = rotary * share[:, k, None, None] * (np.swapaxes(arms[:, k], 1, 2) @ arms[:, k])
        return M.reshape(count, 6 * n, 6 * n)

    def lumped_chunks(self) -> Iterator[tuple[Ints, Floats]]:
        """Degrees of freedom and mass (global axes) alone, for elements whose mass is lumped."""
        for a in range(0, len(self.nodes), CHUNK):
            nodes = self.nodes[a : a + CHUNK]
            surface = self._surface(self.places[nodes])
            dofs = (nodes[:, :, None] * 6 + np.arange(6)).reshape(len(nodes), -1)
            yield dofs, self._carried(self._whole_mass(surface, "lumped"), surface[1])

    # -- about a state --------------------------------------------------------------------------------

    def stress_blocks(self) -> Iterator[tuple[Ints, Floats]]:
        """Nodes, and what membrane forces add to the stiffness (global axes)."""
        if self.forces is None:
            return
        tensor = self.forces[:, :, [0, 2, 2, 1]].reshape(*self.forces.shape[:2], 2, 2)
        p, w = self._rule("full")
        for a in range(0, len(self.nodes), CHUNK):
            nodes = self.nodes[a : a + CHUNK]
            surface = self._surface(self.places[nodes])
            place = self._at_places(surface, p)
            K = np.zeros((len(nodes), 6 * nodes.shape[1], 6 * nodes.shape[1]))
            self._add_slopes(K, surface[1], place, w * place.area, tensor[a : a + CHUNK])
            K = self._carried(K, surface[1])
            yield nodes, (K + np.swapaxes(K, 1, 2)) / 2.0

    def _add_slopes(self, K: Floats, normals: Floats, place: _Place, weight: Floats, forces: Floats) -> None:
        """Add what membrane forces (elements, points, 2, 2) do on the slopes of all dofs, through the thickness."""
        count, n, _ = normals.shape
        slopes = np.einsum("epia,pna->epin", place.back, place.slopes)
        scalar = np.einsum("epin,epij,epjm->enm", slopes, forces * weight[:, :, None, None], slopes, optimize=True)
        blocks = K.reshape(count, n, 6, n, 6)
        for d in range(3):
            blocks[:, :, d, :, d] += scalar
        arms = arm_matrix(normals)
        turned = np.einsum("eika,ejkb->eiajb", arms, arms)
        blocks[:, :, 3:, :, 3:] += self.thickness**2 / 12.0 * scalar[:, :, None, :, None] * turned

    def _node_normals(self, X: Floats) -> Floats:
        return self._surface(X)[1]

    # -- recovered strain -----------------------------------------------------------------------------

    def _compared(self) -> tuple[Floats, Floats, Floats]:
        points = self._rule("full")[0]
        places = QUAD9_PLACES if self.kind == "quad9" else TRI6_PLACES
        if self.kind == "quad9":
            fit = _products(places, 2, 2) @ np.linalg.pinv(_products(points, 2, 2))
        else:
            fit = np.column_stack([np.ones(6), places]) @ np.linalg.pinv(
                np.column_stack([np.ones(len(points)), points])
            )
        return points, surface_shape(self.kind, points)[0], fit

    def _strains_at(self, X: Floats, points: Floats) -> Floats:
        surface = self._surface(X)
        place = self._at_places(surface, points)
        stretch, bend = self._measured(place, points, self._tied(surface))
        maps = np.concatenate([stretch, bend], axis=2)
        if self.offset:
            own = maps.reshape(*maps.shape[:3], -1, 6)
            own[..., 3:] += np.einsum("epcnk,enkj->epcnj", own[..., :3].copy(), arm_matrix(self.offset * surface[1]))
        return maps

    def _areas(self, X: Floats) -> Floats:
        p, w = self._rule("full")
        return self._at_places(self._surface(X), p).area * w

    def strain_axes(self) -> Floats:
        """x and normal in the middle of each element, shape (elements, 2, 3)."""
        middle = self._at_places(self._surface(self.places[self.nodes]), self._middle())
        return np.asarray(middle.axes[:, 0, [0, 2]])

    # -- size and recovery ----------------------------------------------------------------------------

    def volumes(self) -> Floats:
        """Volume of each element in m³."""
        return np.asarray(self.thickness * self._areas(self.places[self.nodes]).sum(axis=1))

    def _middle(self) -> Floats:
        return np.zeros((1, 2)) if self.kind == "quad9" else np.full((1, 2), 1 / 3)

    def _centres(self) -> Floats:
        N, _ = surface_shape(self.kind, self._middle())
        return np.asarray((N @ self.places[self.nodes])[:, 0])

    def _extrapolation(self) -> tuple[Floats, Floats]:
        """Two by two points (Barlow) or three, from which nodes take their stress linearly."""
        if self.kind == "quad9":
            points = _ROOT3 * QUAD9_PLACES[:4]
            return points, _products(QUAD9_PLACES, 2, 2) @ np.linalg.inv(_products(points, 2, 2))
        points = np.array([[1 / 6, 1 / 6], [2 / 3, 1 / 6], [1 / 6, 2 / 3]])
        basis = [np.column_stack([np.ones(len(x)), x]) for x in (TRI6_PLACES, points)]
        return points, basis[0] @ np.linalg.inv(basis[1])
