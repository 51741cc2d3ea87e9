"""What lies of faces in a selection, and the mean rigid motion of that area.

Areas are cut exactly (`cut`), so that what is attached to one does not change with the mesh.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from holokine.elements.connectors import arm_matrix
from holokine.elements.shapes import face_rule, face_shape
from holokine.errors import SelectionError
from holokine.mesh.select import select_nodes
from holokine.mesh.surface import face_normals, outer_faces
from holokine.system.cut import bounds_of, caught_faces, face_pieces, joined

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.describe import Description
    from holokine.describe.targets import Selection
    from holokine.mesh.mesh import Mesh

__all__ = ["OuterFaces", "Pieces", "Spread", "pieces_of", "spread_over"]


@dataclass(frozen=True)
class Pieces:
    """Faces, or the parts of them that lie in a selection.

    Attributes
    ----------
    nodes : ndarray, shape (faces, 3 to 9)
        Corners first.
    points, weights : ndarray, shape (points, 2) and (points,)
        On the reference face: they integrate over what of the faces lies within.
    """

    nodes: Ints
    points: Floats
    weights: Floats

    def shape(self) -> tuple[Floats, Floats]:
        """N and its derivatives at the points."""
        return face_shape(self.nodes.shape[1], self.points)

    def vectors(self, places: Floats) -> Floats:
        """Normal times area of each point, shape (faces, points, 3)."""
        along = np.einsum("pik,fid->kpfd", self.shape()[1], places[self.nodes])
        return np.asarray(np.einsum("p,pfd->fpd", self.weights, np.cross(along[0], along[1])))

    def shares(self, places: Floats) -> Floats:
        """∫ N_i n dA, shape (faces, nodes, 3), shared as the shape functions say."""
        return np.asarray(np.einsum("pi,fpd->fid", self.shape()[0], self.vectors(places)))


class OuterFaces:
    """Outer faces of parts, made once for all selections of a mesh."""

    def __init__(self, mesh: Mesh) -> None:
        self.mesh = mesh
        self._kept: dict[str, list[tuple[Ints, Floats, Floats]]] = {}

    def of(self, part: str) -> list[tuple[Ints, Floats, Floats]]:
        """Faces, nodes of all, with their centres and the farthest node from each."""
        if part not in self._kept:
            self._kept[part] = found = []
            for faces, _ in outer_faces(self.mesh, part, "all"):
                places = self.mesh.nodes[faces]
                centre = places.mean(axis=1)
                found.append((faces, centre, np.linalg.norm(places - centre[:, None], axis=2).max(axis=1)))
        return self._kept[part]


def pieces_of(
    outer: OuterFaces, description: Description, selection: Selection, where: str
) -> Iterator[tuple[str, Pieces]]:
    """Outer faces that a selection holds, with their part; of those that its box or cylinder cuts, what lies within.

    Raises
    ------
    SelectionError
        A selection that catches no node but for its box or cylinder.
    """
    mesh = outer.mesh
    bounds, planes = bounds_of(selection)
    others = {"box": None, **({} if selection.cylinder is None or selection.cylinder.surface else {"cylinder": None})}
    chosen: NDArray[np.bool_] | None = None
    left = selection.model_copy(update=others)
    if any(getattr(left, n) is not None for n in type(left).model_fields if n not in ("count", "part")):
        chosen = np.zeros(len(mesh.nodes), dtype=bool)
        chosen[select_nodes(mesh, description, left, where)] = True
    tiny = max(mesh.merge_tolerance, 1e-9)
    parts = selection.part or tuple(dict.fromkeys(b.part for b in mesh.blocks))
    for faces, centre, reach, part in ((*known, name) for name in parts for known in outer.of(name)):
        corners = 3 if faces.shape[1] in (3, 6) else 4
        for bound in bounds:  # each changes by no more than the way
            near = np.flatnonzero(bound(centre) >= -reach - tiny)
            faces, centre, reach = faces[near], centre[near], reach[near]
        own = faces if chosen is None else faces[chosen[faces[:, :corners]].all(axis=1)]
        whole = np.ones(len(own), dtype=bool)
        if len(own) and bounds:
            whole, cut = caught_faces(mesh.nodes[own], bounds, tiny)
            near = np.flatnonzero(whole | cut)
            own, whole = own[near], whole[near]
            on = joined(own[:, :corners], face_normals(mesh.nodes[own[:, :corners]]), whole)
            own, whole = own[on], whole[on]
        if whole.any():
            yield part, Pieces(own[whole], *face_rule(own.shape[1]))
        for face in own[~whole]:
            points, weights = face_pieces(mesh.nodes[face], bounds, planes, tiny)
            if len(weights):
                yield part, Pieces(face[None], points, weights)


@dataclass(frozen=True)
class Spread:
    """An area and its mean rigid motion, exact for what its elements can do.

    Attributes
    ----------
    nodes : ndarray of int, shape (nodes,)
    shares : ndarray, shape (nodes,)
        ∫ N dA in m².
    arms : ndarray, shape (nodes, 3)
        ∫ (x - centre) N dA in m³.
    centre : ndarray, shape (3,)
    """

    nodes: Ints
    shares: Floats
    arms: Floats
    centre: Floats
    inertia: Floats
    """∫ (r² - r rᵀ) dA about the centre, shape (3, 3), in m⁴."""

    @property
    def area(self) -> float:
        """In m²."""
        return float(self.shares.sum())

    def mean_motion(self) -> Floats | None:
        """From translations of the nodes, (6, 3 nodes): ∫ u dA / A, and the turn by ∫ r × u dA; None for a line."""
        if np.linalg.matrix_rank(self.inertia / max(float(np.abs(self.inertia).max()), 1e-300), tol=1e-10) < 3:
            return None
        result = np.zeros((6, len(self.nodes), 3))
        result[:3] = np.eye(3)[:, None, :] * (self.shares / self.area)[None, :, None]
        cross = -arm_matrix(self.arms)  # (nodes, 3, 3): r × u
        result[3:] = np.einsum("ab,nbc->anc", np.linalg.inv(self.inertia), cross)
        return result.reshape(6, -1)


def spread_over(outer: OuterFaces, description: Description, selection: Selection, where: str) -> Spread:
    """The area that a selection holds.

    Raises
    ------
    SelectionError
        No face lies in it.
    """
    mesh = outer.mesh
    each: list[tuple[Ints, Floats, Floats]] = []
    second, first, area = np.zeros((3, 3)), np.zeros(3), 0.0
    for _, own in pieces_of(outer, description, selection, where):
        N = own.shape()[0]
        size = np.linalg.norm(own.vectors(mesh.nodes), axis=2)  # (faces, points)
        at = np.einsum("pi,fid->fpd", N, mesh.nodes[own.nodes])
        arms_ = np.einsum("fp,pi,fpd->fid", size, N, at).reshape(-1, 3)
        each.append((own.nodes.ravel(), np.einsum("fp,pi->fi", size, N).ravel(), arms_))
        second += np.einsum("fp,fpa,fpb->ab", size, at, at)
        first += np.einsum("fp,fpd->d", size, at)
        area += float(size.sum())
    if not area > 0.0:
        raise SelectionError(f"{where}: no face of shells or solids lies in the selection; name a part, or widen it")
    centre = first / area
    every, flat, moments = (np.concatenate([e[k] for e in each]) for k in range(3))
    nodes, place = np.unique(every, return_inverse=True)
    shares, arms = np.bincount(place, flat, len(nodes)), np.zeros((len(nodes), 3))
    np.add.at(arms, place, moments)
    about = second - area * np.outer(centre, centre)
    inertia = np.trace(about) * np.eye(3) - about
    return Spread(nodes, shares, arms - shares[:, None] * centre, centre, inertia)
