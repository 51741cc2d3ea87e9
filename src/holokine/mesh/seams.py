"""Seams that are closed at some nodes only: two meshes meet there, but their nodes do not."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.mesh.cells import CELLS
from holokine.mesh.surface import quad_faces, rim
from holokine.mesh.ties import nearest_faces
from holokine.mesh.tree import nearest_tree

if TYPE_CHECKING:
    from holokine.arrays import Ints
    from holokine.mesh.mesh import Mesh

__all__ = ["Gap", "Seam", "half_open_seams", "near_gaps"]

_NEAR = 0.1  # of a face's diagonal: parts nearer than this were probably meant to touch
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
    bodies = [p for p, nodes in mesh.part_nodes.items() if len(nodes) and _has_faces(mesh, p)]
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


@dataclass(frozen=True)
class Gap:
    """Two parts that hang on nothing of one another and nearly touch.

    Attributes
    ----------
    part, other : str
    distance : float
        Smallest found, in m.
    place : ndarray, shape (3,)
        Of the node of `part` that is nearest.
    """

    part: str
    other: str
    distance: float
    place: NDArray[Any]


def near_gaps(mesh: Mesh, pieces: Sequence[Sequence[str]]) -> list[Gap]:
    """Parts of different pieces nearer than a tenth of a face of the finer of them, nearest first.

    `pieces`: names of the parts of each.
    """
    owner = {part: k for k, parts in enumerate(pieces) for part in parts if len(mesh.part_nodes.get(part, ()))}
    if len(set(owner.values())) < 2:
        return []
    names = list(owner)
    nodes = {p: rim(mesh, p) if _has_faces(mesh, p) else mesh.part_nodes[p] for p in names}
    faces = {p: quad_faces(mesh, p) if _has_faces(mesh, p) else np.zeros((0, 4), dtype=np.int64) for p in names}
    reach = {p: _NEAR * _usual(mesh, p, faces[p]) for p in names}
    boxes = np.array([[mesh.nodes[mesh.part_nodes[p]].min(axis=0), mesh.nodes[mesh.part_nodes[p]].max(axis=0)]
                      for p in names])  # fmt: skip
    found = []
    for i, j in _box_pairs(boxes, np.array([reach[p] for p in names])):
        a, b = names[i], names[j]
        if owner[a] == owner[b]:
            continue
        most = min(reach[a], reach[b])
        each = [_nearest(mesh, nodes[one], faces[two], mesh.part_nodes[two], one, two) for one, two in ((a, b), (b, a))]
        best = min(each, key=lambda gap: gap.distance)
        if best.distance <= most:
            found.append(best)
    return sorted(found, key=lambda gap: (gap.distance, gap.part))


def _has_faces(mesh: Mesh, part: str) -> bool:
    return any(CELLS[b.kind].family != "line" for b in mesh.blocks_of(part))


def _usual(mesh: Mesh, part: str, faces: Ints) -> float:
    """Typical diagonal of a face, or length of a line's element, in m."""
    if len(faces):
        X = mesh.nodes[faces]
        return float(np.median(np.linalg.norm(X[:, 2] - X[:, 0], axis=1)))
    lengths = [np.linalg.norm(mesh.nodes[b.cells[:, 0]] - mesh.nodes[b.cells[:, 1]], axis=1)
               for b in mesh.blocks_of(part) if b.cells.shape[1] > 1]  # fmt: skip
    return float(np.median(np.concatenate(lengths))) if lengths else 0.0


def _box_pairs(boxes: NDArray[Any], reach: NDArray[Any]) -> Iterator[tuple[int, int]]:
    """Pairs of boxes, (parts, 2, 3), nearer than they reach, by a sweep along x."""
    low, high = boxes[:, 0] - reach[:, None], boxes[:, 1] + reach[:, None]
    order = np.argsort(low[:, 0], kind="stable")
    for at, i in enumerate(order.tolist()):
        end = int(np.searchsorted(low[order, 0], high[i, 0], side="right"))
        rest = order[at + 1 : end]
        meets = (low[rest] <= high[i]).all(axis=1) & (low[i] <= high[rest]).all(axis=1)
        for j in rest[meets].tolist():
            yield (i, j) if i < j else (j, i)


def _nearest(mesh: Mesh, own: Ints, faces: Ints, theirs: Ints, part: str, other: str) -> Gap:
    """The node of a part nearest to the faces, or where it has none to the nodes, of another."""
    P = mesh.nodes[own]
    if not len(P):
        return Gap(part, other, float("inf"), np.zeros(3))
    gap = nearest_faces(mesh.nodes[faces], P)[0] if len(faces) else nearest_tree(mesh.nodes[theirs]).query(P)[0]
    best = int(np.argmin(gap))
    return Gap(part, other, float(gap[best]), P[best])


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
