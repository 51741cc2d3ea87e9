"""Forces on selections and pressures on faces, as forces at nodes; the stiffness of pressures that follow."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from holokine.elements.connectors import arm_matrix
from holokine.errors import DescriptionError, SelectionError
from holokine.mesh.cells import CELLS
from holokine.mesh.select import select_nodes
from holokine.system.assemble import DIRECTION_NAMES
from holokine.system.spread import OuterFaces, Pieces, pieces_of

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.describe.loads import Load
    from holokine.system.build import System

__all__ = ["Pressed", "following_stiffness", "force", "pressed_faces", "pressure"]


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
    """Faces under a pressure, and the sign of the push on the normal of each, shape (faces,)."""

    pieces: Pieces
    sign: Floats


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
    shells = {b.part for b in mesh.blocks if CELLS[b.kind].family == "surface"}
    for part, pieces in pieces_of(OuterFaces(mesh), system.description, load.on, where):
        if part in shells and load.towards is None:
            raise DescriptionError(f'{where}: the shell "{part}" has two sides; say towards which side it pushes')
        area = pieces.shares(mesh.nodes).sum(axis=1)
        sign = np.full(len(area), 1.0 if load.towards == "normal" else -1.0)  # against the outward normal
        if load.towards is not None and not isinstance(load.towards, str):
            along = area @ np.array(load.towards)
            sign = np.where(along >= 0, 1.0, -1.0)
            if part not in shells:  # faces that look against the push
                pieces, sign = replace(pieces, nodes=pieces.nodes[along < 0]), -np.ones(int((along < 0).sum()))
        found += len(sign)
        yield Pressed(pieces, sign)
    if not found:
        raise SelectionError(f"{where}: no face lies in the selection; name a part of shells or solids")


def pressure(system: System, where: str, load: Load) -> tuple[Floats, float]:
    """Forces of a uniform pressure, shared as the elements' shape functions, and the area in m² under it."""
    assert load.pressure is not None
    total, area = np.zeros((len(system.mesh.nodes), 3)), 0.0
    for own in pressed_faces(system, where, load):
        shares = own.pieces.shares(system.mesh.nodes)
        area += float(np.linalg.norm(shares.sum(axis=1), axis=1).sum())
        np.add.at(total, own.pieces.nodes.ravel(), (load.pressure * own.sign[:, None, None] * shares).reshape(-1, 3))
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
        X = system.mesh.nodes[own.pieces.nodes]
        count = X.shape[1]
        N, dN = own.pieces.shape()
        cross = arm_matrix(np.einsum("pik,fid->pfkd", dN, X))  # arm_matrix(r) t = t × r
        push = own.pieces.weights[:, None] * load.pressure * own.sign
        turn = (np.einsum("pj,pfab->pjfab", dN[..., 0], cross[:, :, 1])
                - np.einsum("pj,pfab->pjfab", dN[..., 1], cross[:, :, 0]))  # fmt: skip
        K = -np.einsum("pi,pf,pjfab->fiajb", N, push, turn).reshape(len(X), 3 * count, -1)
        yield own.pieces.nodes, (K + np.swapaxes(K, 1, 2)) / 2.0
