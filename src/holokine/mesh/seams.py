"""Seams that are closed at some nodes only: two meshes meet there, but their nodes do not."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.mesh.cells import CELLS
from holokine.mesh.surface import quad_faces, rim
from holokine.mesh.ties import nearest_faces

if TYPE_CHECKING:
    from holokine.mesh.mesh import Mesh

__all__ = ["Seam", "half_open_seams"]

Ints = NDArray[Any]  # int64
_ON = 0.02  # of a face's diagonal: nearer than this a node lies on it


@dataclass(frozen=True)
class Seam:
    """Nodes of one part that lie on faces of another without being its own, beside some that are.

    Attributes
    ----------
    part, other : str
    shared : int
        Nodes on the seam that both parts have.
    apart : ndarray of int
        Nodes of `part` that lie on `other` and are not held to it.
    """

    part: str
    other: str
    shared: int
    apart: Ints


def half_open_seams(mesh: Mesh, held: Ints) -> list[Seam]:
    """Seams at which two parts share some of their nodes and not all, the most open first.

    Of the two sides the one with more nodes left over is told. `held`: nodes that a tie, link or joint holds.
    """
    bodies = [p for p, nodes in mesh.part_nodes.items()
              if len(nodes) and any(CELLS[b.kind].family != "line" for b in mesh.blocks_of(p))]  # fmt: skip
    if len(bodies) < 2:
        return []
    rims = {p: np.setdiff1d(rim(mesh, p), held) for p in bodies}
    faces: dict[str, Ints] = {}
    found: dict[frozenset[str], Seam] = {}
    for a, b in _neighbours(mesh, bodies):
        for part, other in ((a, b), (b, a)):
            if other not in faces:
                faces[other] = quad_faces(mesh, other)
            seam = _seam(mesh, part, other, rims[part], faces[other])
            pair = frozenset((a, b))
            if seam is not None and (pair not in found or len(seam.apart) > len(found[pair].apart)):
                found[pair] = seam
    return sorted(found.values(), key=lambda s: (-len(s.apart), s.part))


def _neighbours(mesh: Mesh, bodies: list[str]) -> list[tuple[str, str]]:
    """Pairs of parts that share a node."""
    nodes = np.concatenate([mesh.part_nodes[p] for p in bodies])
    owner = np.repeat(np.arange(len(bodies)), [len(mesh.part_nodes[p]) for p in bodies])
    order = np.argsort(nodes, kind="stable")
    nodes, owner = nodes[order], owner[order]
    pairs: set[tuple[int, int]] = set()
    for apart in range(1, len(bodies)):  # k-th next owner of the same node: ends with the busiest node
        same = np.flatnonzero(nodes[apart:] == nodes[:-apart])
        if len(same) == 0:
            break
        pairs.update(map(tuple, np.unique(np.stack([owner[same], owner[same + apart]], axis=1), axis=0).tolist()))
    return [(bodies[i], bodies[j]) for i, j in sorted(pairs)]


def _seam(mesh: Mesh, part: str, other: str, own: Ints, faces: Ints) -> Seam | None:
    theirs = mesh.part_nodes[other]
    common = np.isin(own, theirs, assume_unique=True)
    left = own[~common]
    if len(left) == 0 or len(faces) == 0:
        return None
    X = mesh.nodes[faces]
    diagonal = np.linalg.norm(X[:, 2] - X[:, 0], axis=1)
    low, high = X.min(axis=(0, 1)), X.max(axis=(0, 1))
    P = mesh.nodes[left]
    reach = _ON * float(diagonal.max())
    left = left[((low - reach <= P) & (high + reach >= P)).all(axis=1)]
    if len(left) == 0:
        return None
    gap, _, face = nearest_faces(X, mesh.nodes[left])
    apart = left[gap <= _ON * diagonal[face]]
    return Seam(part, other, int(common.sum()), apart) if len(apart) and common.any() else None
