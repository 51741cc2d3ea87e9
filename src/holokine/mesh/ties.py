"""Projecting nodes on the faces of a part, for ties between unlike meshes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from holokine.errors import MeshError
from holokine.mesh.surface import quad_faces
from holokine.mesh.tree import nearest_tree

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.mesh.mesh import Mesh

__all__ = ["Projection", "nearest_faces", "project"]

_CANDIDATES = 12


@dataclass(frozen=True)
class Projection:
    """Nodes with the faces that they lie on.

    Attributes
    ----------
    nodes : ndarray of int, shape (nodes,)
    corners : ndarray of int, shape (nodes, 4)
        Corner nodes of the face; a triangle repeats its last corner with weight zero.
    weights : ndarray, shape (nodes, 4)
        Interpolation weights, summing to one.
    arms : ndarray, shape (nodes, 3)
        From the face to the node, in m.
    largest_gap : float
        m.
    """

    nodes: Ints
    corners: Ints
    weights: Floats
    arms: Floats
    largest_gap: float


def project(mesh: Mesh, nodes: Ints, part: str, within: float | None, where: str) -> Projection:
    """Nearest face of `part` for each node that is not itself one of its nodes.

    Nodes farther than `within` are left out (a tenth of the part's typical face when it is not given); nodes
    that the part already has are merged ones and need no tie.

    Raises
    ------
    MeshError
        When no node lies on a face; says how far the nearest is.
    """
    quads = quad_faces(mesh, part)
    if len(quads) == 0:
        raise MeshError(f'{where}: the part "{part}" has no faces to tie to')
    nodes = nodes[~np.isin(nodes, mesh.part_nodes[part])]
    if len(nodes) == 0:
        raise MeshError(f'{where}: all of its nodes belong to "{part}" already: the meshes are merged there')
    X, P = mesh.nodes[quads], mesh.nodes[nodes]
    extent = float(np.median(np.linalg.norm(X[:, 2] - X[:, 0], axis=1)))
    reach = within if within is not None else 0.1 * extent
    best, weights, chosen = nearest_faces(X, P)
    good = best <= reach
    if not good.any():
        raise MeshError(
            f"{where}: the faces do not meet: the nearest of its {len(nodes)} nodes is {1e3 * best.min():.4g} mm away "
            f'from "{part}" ({1e3 * reach:.3g} mm are allowed; set within to allow more)'
        )
    arms = P[good] - np.einsum("nk,nki->ni", weights[good], X[chosen[good]])
    return Projection(nodes[good], quads[chosen[good]], weights[good], arms, float(best[good].max()))


def nearest_faces(X: Floats, P: Floats) -> tuple[Floats, Floats, Ints]:
    """Of faces X (faces, 4, 3) the nearest to each point P (points, 3): distance, weights there, number."""
    _, near = nearest_tree(X.mean(axis=1)).query(P, k=min(_CANDIDATES, len(X)))
    near = near.reshape(len(P), -1)
    best = np.full(len(P), np.inf)
    weights, chosen = np.zeros((len(P), 4)), np.zeros(len(P), dtype=np.int64)
    for column in range(near.shape[1]):
        w = _place_on(X[near[:, column]], P)
        gap = np.linalg.norm(np.einsum("nk,nki->ni", w, X[near[:, column]]) - P, axis=1)
        closer = gap < best - 1e-12
        best[closer], weights[closer], chosen[closer] = gap[closer], w[closer], near[closer, column]
    return best, weights, chosen


def _place_on(X: Floats, P: Floats) -> Floats:
    """Weights of the nearest place on quads X (n, 4, 3) for points P (n, 3); Newton in the face's parameters."""
    corners = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]], dtype=float)
    p = np.zeros((len(P), 2))
    for _ in range(8):
        f, g = 1 + corners[:, 0] * p[:, :1], 1 + corners[:, 1] * p[:, 1:]
        N = f * g / 4
        d = np.stack([corners[:, 0] * g / 4, corners[:, 1] * f / 4], axis=1)
        r = np.einsum("nk,nki->ni", N, X) - P
        J = np.einsum("nak,nki->nai", d, X)
        H = np.einsum("nai,nbi->nab", J, J)
        H[:, range(2), range(2)] += 1e-14 * np.einsum("naa->n", H)[:, None]
        step = np.linalg.solve(H, np.einsum("nai,ni->na", J, r)[..., None])[..., 0]
        p = np.clip(p - step, -1.0, 1.0)
    return (1 + corners[:, 0] * p[:, :1]) * (1 + corners[:, 1] * p[:, 1:]) / 4
