"""Forces on selections and pressures on faces, as forces at nodes; the stiffness of pressures that follow."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.elements.connectors import arm_matrix
from holokine.elements.shapes import face_rule
from holokine.errors import DescriptionError, SelectionError
from holokine.mesh.cells import CELLS
from holokine.mesh.select import select_nodes
from holokine.mesh.surface import outer_faces
from holokine.system.assemble import DIRECTION_NAMES

if TYPE_CHECKING:
    from holokine.describe.loads import Load
    from holokine.system.build import System

__all__ = ["following_stiffness", "force", "pressed_faces", "pressure"]

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


def pressed_faces(system: System, where: str, load: Load) -> Iterator[tuple[Ints, Floats, Floats]]:
    """Faces whose corners are all selected: their nodes (faces, 3 to 9), ∫ N n dA, and the sign of the push on n.

    Raises
    ------
    DescriptionError, SelectionError
        A shell without the side to which it is pushed, no face at all.
    """
    assert load.on is not None
    chosen = np.zeros(len(system.mesh.nodes), dtype=bool)
    chosen[select_nodes(system.mesh, system.description, load.on, where)] = True
    found = 0
    shells = {b.part for b in system.mesh.blocks if CELLS[b.kind].family == "surface"}
    for faces, part in outer_faces(system.mesh, load.on.part, "all"):
        corners = 3 if faces.shape[1] in (3, 6) else 4
        own = faces[chosen[faces[:, :corners]].all(axis=1)]
        if len(own) == 0:
            continue
        if part in shells and load.towards is None:
            raise DescriptionError(f'{where}: the shell "{part}" has two sides; say towards which side it pushes')
        shares = _face_areas(system.mesh.nodes[own])  # (faces, nodes, 3): ∫ N n dA
        sign = np.full(len(own), -1.0)  # against the outward normal
        if isinstance(load.towards, str):
            sign = np.full(len(own), 1.0 if load.towards == "normal" else -1.0)
        elif load.towards is not None:
            along = shares.sum(axis=1) @ np.array(load.towards)
            if part in shells:
                sign = np.where(along >= 0, 1.0, -1.0)
            else:
                keep = along < 0  # faces that look against the push
                own, shares, sign = own[keep], shares[keep], sign[keep]
        found += len(own)
        yield own, shares, sign
    if not found:
        raise SelectionError(f"{where}: no face has all its corners in the selection; name a part of shells or solids")


def pressure(system: System, where: str, load: Load) -> Floats:
    """Forces of a uniform pressure, shared as the elements' shape functions."""
    assert load.pressure is not None
    total = np.zeros((len(system.mesh.nodes), 3))
    for own, shares, sign in pressed_faces(system, where, load):
        np.add.at(total, own.ravel(), (load.pressure * sign[:, None, None] * shares).reshape(-1, 3))
    result = np.zeros((len(total), 6))
    result[:, :3] = total
    return result.ravel()


def _face_areas(places: Floats) -> Floats:
    """∫ N_i n dA of faces, shape (faces, nodes, 3), shared as the shape functions say."""
    result = np.zeros(places.shape)
    for N, dN, weight in face_rule(places.shape[1]):
        along_r, along_s = (np.einsum("i,fid->fd", dN[:, k], places) for k in range(2))
        result += weight * N[:, None] * np.cross(along_r, along_s)[:, None]
    return result


def following_stiffness(system: System, where: str, load: Load) -> Iterator[tuple[Ints, Floats]]:
    """What a pressure that stays normal to its faces takes from the stiffness: corners, and matrices on their motions.

    -∂f/∂u of f = p ∫ N n dA, made symmetric: between neighbours, and on a rim that is held, nothing is lost by it
    (Schweizerhof & Ramm, Computers & Structures 18 (1984) 1099-1114). Shapes (faces, corners),
    (faces, 3 corners, 3 corners).
    """
    assert load.pressure is not None
    for own, _, sign in pressed_faces(system, where, load):
        X = system.mesh.nodes[own]
        corners = X.shape[1]
        K: Any = np.zeros((len(own), corners, 3, corners, 3))
        for N, dN, weight in face_rule(corners):
            along = np.einsum("ik,fid->fkd", dN, X)
            cross = arm_matrix(along)  # arm_matrix(r) t = t × r
            for i in range(corners):
                for j in range(corners):
                    turn = dN[j, 0] * cross[:, 1] - dN[j, 1] * cross[:, 0]
                    K[:, i, :, j, :] -= (weight * N[i] * load.pressure * sign)[:, None, None] * turn
        K = K.reshape(len(own), 3 * corners, -1)
        yield own, (K + np.swapaxes(K, 1, 2)) / 2.0
