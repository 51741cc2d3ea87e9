"""Forces on selections and pressures on faces, as forces at nodes; the stiffness of pressures that follow."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.elements.connectors import arm_matrix
from holokine.elements.shapes import face_rule, face_shape
from holokine.errors import DescriptionError, SelectionError
from holokine.mesh.cells import CELLS
from holokine.mesh.select import select_nodes
from holokine.mesh.surface import face_normals, outer_faces
from holokine.system.assemble import DIRECTION_NAMES
from holokine.system.cut import bounds_of, caught_faces, face_pieces, joined

if TYPE_CHECKING:
    from holokine.describe.loads import Load
    from holokine.system.build import System

__all__ = ["Pressed", "following_stiffness", "force", "pressed_faces", "pressure"]

Floats = NDArray[Any]  # float64
Ints = NDArray[Any]  # int64


def force(system: System, where: str, load: Load) -> Floats:
    """Forces and moments on the nodes of a selection, in equal shares, shape (dofs,)."""
    assert load.at is not None
    nodes = select_nodes(system.mesh, system.description, load.at, where)
    result = np.zeros((system.size // 6, 6))
    for first, vector, word in ((0, load.force, "force"), (3, load.moment, "moment")):
        for d, value in enumerate(vector or ()):
            if value == 0.0:
                continue
            loose = ~system.active[6 * nodes + first + d]
            if loose.any():
                raise DescriptionError(
                    f"{where}: nothing takes a {word} along {DIRECTION_NAMES[first + d]} at {int(loose.sum())} of its "
                    f"{len(nodes)} nodes: nothing is attached there"
                    + ("" if first == 0 else ", or what is has no turn (solids: push with forces, or link the nodes)")
                )
            result[nodes, first + d] += value / len(nodes)
    return result.ravel()


@dataclass(frozen=True)
class Pressed:
    """Faces under a pressure.

    Attributes
    ----------
    nodes : ndarray, shape (faces, 3 to 9)
        Corners first.
    points, weights : ndarray, shape (points, 2) and (points,)
        On the reference face: they integrate over what of the faces is pressed.
    sign : ndarray, shape (faces,)
        Of the push on the normal.
    """

    nodes: Ints
    points: Floats
    weights: Floats
    sign: Floats

    def shares(self, places: Floats) -> Floats:
        """∫ N_i n dA, shape (faces, nodes, 3), shared as the shape functions say."""
        N, dN = face_shape(self.nodes.shape[1], self.points)
        along = np.einsum("pik,fid->kpfd", dN, places[self.nodes])
        return np.asarray(np.einsum("p,pi,pfd->fid", self.weights, N, np.cross(along[0], along[1])))


def pressed_faces(system: System, where: str, load: Load) -> Iterator[Pressed]:
    """Faces that a selection holds; of faces that its box or cylinder cuts, the part within.

    Raises
    ------
    DescriptionError, SelectionError
        A shell without the side to which it is pushed, no face at all.
    """
    assert load.on is not None
    found = 0
    mesh = system.mesh
    bounds, planes = bounds_of(load.on)
    others = {"box": None, **({} if load.on.cylinder is None or load.on.cylinder.surface else {"cylinder": None})}
    chosen = np.zeros(len(mesh.nodes), dtype=bool)
    chosen[select_nodes(mesh, system.description, load.on.model_copy(update=others), where)] = True
    shells = {b.part for b in mesh.blocks if CELLS[b.kind].family == "surface"}
    tiny = max(mesh.merge_tolerance, 1e-9)
    for faces, part in outer_faces(mesh, load.on.part, "all"):
        corners = 3 if faces.shape[1] in (3, 6) else 4
        own = faces[chosen[faces[:, :corners]].all(axis=1)]
        whole = np.ones(len(own), dtype=bool)
        cut = ~whole
        if len(own) and bounds:
            whole, cut = caught_faces(mesh.nodes[own], bounds, tiny)
            near = np.flatnonzero(whole | cut)
            own, whole = own[near], whole[near]
            on = joined(own[:, :corners], face_normals(mesh.nodes[own[:, :corners]]), whole)
            own, whole = own[on], whole[on]
        pieces = [Pressed(own[whole], *face_rule(own.shape[1]), np.zeros(0))] if whole.any() else []
        for face in own[~whole]:
            points, weights = face_pieces(mesh.nodes[face], bounds, planes, tiny)
            if len(weights):
                pieces.append(Pressed(face[None], points, weights, np.zeros(0)))
        if pieces and part in shells and load.towards is None:
            raise DescriptionError(f'{where}: the shell "{part}" has two sides; say towards which side it pushes')
        for piece in pieces:
            area = piece.shares(mesh.nodes).sum(axis=1)
            sign = np.full(len(area), 1.0 if load.towards == "normal" else -1.0)  # against the outward normal
            if load.towards is not None and not isinstance(load.towards, str):
                along = area @ np.array(load.towards)
                sign = np.where(along >= 0, 1.0, -1.0)
                if part not in shells:  # faces that look against the push
                    piece, sign = replace(piece, nodes=piece.nodes[along < 0]), -np.ones(int((along < 0).sum()))
            found += len(sign)
            yield replace(piece, sign=sign)
    if not found:
        raise SelectionError(f"{where}: no face lies in the selection; name a part of shells or solids")


def pressure(system: System, where: str, load: Load) -> tuple[Floats, float]:
    """Forces of a uniform pressure, shared as the elements' shape functions, and the area in m² under it."""
    assert load.pressure is not None
    total, area = np.zeros((len(system.mesh.nodes), 3)), 0.0
    for own in pressed_faces(system, where, load):
        shares = own.shares(system.mesh.nodes)
        area += float(np.linalg.norm(shares.sum(axis=1), axis=1).sum())
        np.add.at(total, own.nodes.ravel(), (load.pressure * own.sign[:, None, None] * shares).reshape(-1, 3))
    result = np.zeros((len(total), 6))
    result[:, :3] = total
    return result.ravel(), area


def following_stiffness(system: System, where: str, load: Load) -> Iterator[tuple[Ints, Floats]]:
    """What a pressure that stays normal to its faces takes from the stiffness: corners, and matrices on their motions.

    -∂f/∂u of f = p ∫ N n dA, made symmetric: between neighbours, and on a rim that is held, nothing is lost by it
    (Schweizerhof & Ramm, Computers & Structures 18 (1984) 1099-1114). Shapes (faces, corners),
    (faces, 3 corners, 3 corners).
    """
    assert load.pressure is not None
    for own in pressed_faces(system, where, load):
        X = system.mesh.nodes[own.nodes]
        count = X.shape[1]
        N, dN = face_shape(count, own.points)
        cross = arm_matrix(np.einsum("pik,fid->pfkd", dN, X))  # arm_matrix(r) t = t × r
        push = own.weights[:, None] * load.pressure * own.sign
        turn = (np.einsum("pj,pfab->pjfab", dN[..., 0], cross[:, :, 1])
                - np.einsum("pj,pfab->pjfab", dN[..., 1], cross[:, :, 0]))  # fmt: skip
        K = -np.einsum("pi,pf,pjfab->fiajb", N, push, turn).reshape(len(X), 3 * count, -1)
        yield own.nodes, (K + np.swapaxes(K, 1, 2)) / 2.0
