"""What hangs on what, and which rigid-body motions each connected piece is free to make."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import scipy.linalg
from scipy.sparse import coo_array, csr_array
from scipy.sparse.csgraph import connected_components

from holokine.system.assemble import node_dofs

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.system.build import System

__all__ = ["Piece", "connected_pieces", "free_motions", "motion_words", "piece_motions"]


@dataclass(frozen=True)
class Piece:
    """Nodes that hold on to one another.

    Attributes
    ----------
    nodes : ndarray of int
    members : tuple of str
        Parts, point masses, springs, bushings and links in it.
    supports : tuple of str
        Supports that hold it, and connectors to the support frame.
    centre : ndarray, shape (3,)
        Mean of its nodes in m.
    free : ndarray, shape (dofs, 6)
        Rigid-body motions (x y z rx ry rz about `centre`) that nothing resists.
    """

    nodes: Ints
    members: tuple[str, ...]
    supports: tuple[str, ...]
    centre: Floats
    free: Floats

    @property
    def words(self) -> list[str]:
        """The free motions in words."""
        return motion_words(self.free, self.centre)


def piece_motions(system: System, piece: Piece) -> Floats:
    """The free rigid-body motions of a piece on all nodes, zero outside it, shape (dofs, dofs)."""
    inside = np.zeros((system.size // 6, 6), dtype=bool)
    inside[piece.nodes] = True
    return np.where(inside.ravel(), piece.free @ system.rigid_motions(piece.centre), 0.0)


def _edges(system: System) -> tuple[Ints, Ints]:
    a, b = [np.zeros(0, dtype=np.int64)], [np.zeros(0, dtype=np.int64)]
    for block in system.elements:
        for column in range(1, block.nodes.shape[1]):
            a.append(block.nodes[:, 0])
            b.append(block.nodes[:, column])
    for c in system.connectors:
        if len(c.nodes) == 2 and c.stiffness.any():
            a.append(np.array([c.nodes[0]]))
            b.append(np.array([c.nodes[1]]))
    for bond in system.bonds.values():
        a.append(np.full(len(bond.nodes) - 1, bond.nodes[0]))
        b.append(bond.nodes[1:])
    if system.description.matrices is not None:
        pattern = system.stiffness.tocoo()
        a.append(pattern.row // 6)
        b.append(pattern.col // 6)
    return np.concatenate(a), np.concatenate(b)


def connected_pieces(system: System) -> list[Piece]:
    """Connected pieces, largest first; nodes that belong to nothing are left out."""
    count = len(system.mesh.nodes)
    a, b = _edges(system)
    graph = coo_array((np.ones(len(a)), (a, b)), shape=(count, count))
    _, label = connected_components(graph, directed=False)
    in_use = system.active.reshape(-1, 6).any(axis=1)
    owners: dict[int, list[str]] = {}

    def add(node: int, name: str) -> None:
        owners.setdefault(int(label[node]), []).append(name)

    for part in system.description.parts:
        for piece in np.unique(label[system.mesh.part_nodes[part]]):
            owners.setdefault(int(piece), []).append(part)
    for body in system.masses:
        add(body.node, body.name)
    names = {c.name for c in system.connectors}
    for c in system.connectors:
        for piece in {int(label[n]) for n in c.nodes}:
            owners.setdefault(piece, []).append(c.name)
    for bond in system.bonds.values():
        if bond.name not in names:
            add(int(bond.nodes[0]), bond.name)
    pieces = []
    grounded = [c for c in system.connectors if len(c.nodes) == 1 and c.stiffness.any()]
    for number in np.unique(label[in_use]):
        nodes = np.flatnonzero((label == number) & in_use)
        supports = [s.name for s in system.supports.values() if np.isin(s.nodes, nodes).any()]
        supports += [c.name for c in grounded if label[c.nodes[0]] == number]
        centre = system.mesh.nodes[nodes].mean(axis=0)
        free = free_motions(system, nodes, centre)
        pieces.append(Piece(nodes, tuple(owners.get(int(number), ())), tuple(supports), centre, free))
    return sorted(pieces, key=lambda p: -len(p.nodes))


def free_motions(system: System, nodes: Ints, centre: Floats) -> Floats:
    """Rigid-body motions of a piece that no support and no spring to the frame resists; shape (dofs, 6)."""
    inside = np.zeros(len(system.mesh.nodes), dtype=bool)
    inside[nodes] = True
    R = system.rigid_motions(centre)
    radius = float(np.linalg.norm(system.mesh.nodes[nodes] - centre, axis=1).max(initial=0.0)) or 1.0
    R[3:] /= radius
    rows = [R[:, s.dofs[inside[s.dofs // 6]]].T for s in system.supports.values()]
    for c in system.connectors:
        if len(c.nodes) == 1 and inside[c.nodes[0]]:
            strained = c.stretch[c.stiffness > 0]
            scaled = strained * np.array([1, 1, 1, radius, radius, radius])
            local = scaled @ (R[:, node_dofs(np.array(c.nodes))] / np.array([1, 1, 1, radius, radius, radius])).T
            rows.append(local)
    resist = np.concatenate(rows) if rows else np.zeros((0, 6))
    # motions that the piece's nodes cannot express (a single point without inertia) do not count
    own = R[:, node_dofs(nodes)]
    null = scipy.linalg.null_space(resist, rcond=1e-8) if len(resist) else np.eye(6)
    null = null[:, np.linalg.norm(own.T @ null, axis=0) > 1e-12]
    if system.description.matrices is not None and null.shape[1]:
        null = null @ _unresisted(system.stiffness, null.T @ np.where(np.repeat(inside, 6), R, 0.0))
    if system.added is not None and null.shape[1]:
        null = null @ _unresisted(system.added, null.T @ np.where(np.repeat(inside, 6), R, 0.0))
    return _canonical(null.T / np.array([1, 1, 1, radius, radius, radius]), radius)


def _unresisted(K: csr_array, motions: Floats) -> Floats:
    """Combinations of rigid-body motions that a stiffness from elsewhere, or from stress, lets go."""
    energy = motions @ (K @ motions.T)
    size = np.abs(motions) @ (abs(K) @ np.abs(motions).T)
    values, vectors = np.linalg.eigh((energy + energy.T) / 2.0)
    return np.asarray(vectors[:, values <= 1e-9 * float(np.diag(size).max(initial=0.0))])


def _canonical(motions: Floats, radius: float) -> Floats:
    """Combine motions so that pure translations stand first and everything lies along axes where it can."""
    if len(motions) == 0:
        return motions
    scaled = motions * np.array([1, 1, 1, radius, radius, radius])
    turn = scaled[:, 3:]
    u, s, _ = np.linalg.svd(turn, full_matrices=True)
    rank = int((s > 1e-8).sum())
    still = u[:, rank:].T @ scaled
    turning = _reduced_rows(u[:, :rank].T @ scaled, range(3, 6))
    shift = _reduced_rows(still, range(3))
    if len(shift) and len(turning):  # turns need no share of the free translations
        basis = scipy.linalg.orth(shift[:, :3].T)
        turning[:, :3] -= turning[:, :3] @ basis @ basis.T
    result = np.concatenate([shift, turning]) / np.array([1, 1, 1, radius, radius, radius])
    return result / np.abs(result * np.array([1, 1, 1, radius, radius, radius])).max(axis=1, keepdims=True)


def _reduced_rows(rows: Floats, columns: range) -> Floats:
    """Gauss-Jordan with the largest pivot of each row, over some columns."""
    rows = rows.copy()
    done: list[int] = []
    for i in range(len(rows)):
        open_columns = [c for c in columns if c not in done]
        block = np.abs(rows[i:][:, open_columns])
        if block.size == 0 or block.max() < 1e-9:
            break
        r, c = divmod(int(block.argmax()), block.shape[1])
        rows[[i, i + r]] = rows[[i + r, i]]
        column = open_columns[c]
        done.append(column)
        rows[i] /= rows[i, column]
        for k in range(len(rows)):
            if k != i:
                rows[k] -= rows[k, column] * rows[i]
    rows[np.abs(rows) < 1e-9] = 0.0
    return rows


def _direction(v: Floats) -> str:
    v = v / np.linalg.norm(v)
    main = int(np.abs(v).argmax())
    if abs(v[main]) > 0.9998:
        return "xyz"[main]
    if v[main] < 0:
        v = -v
    return "[" + ", ".join(f"{c:.3g}" for c in v + 0.0) + "]"


def motion_words(motions: Floats, centre: Floats) -> list[str]:
    """Words for rigid-body motions (x y z rx ry rz about `centre`): translation along ..., rotation about ..."""
    words = []
    for m in motions:
        shift, turn = m[:3], m[3:]
        if np.linalg.norm(turn) < 1e-9 * max(float(np.linalg.norm(shift)), 1e-30):
            words.append(f"translation along {_direction(shift)}")
            continue
        place = centre + np.cross(turn, shift) / (turn @ turn)
        pitch = abs(float(shift @ turn)) / float(turn @ turn)
        through = ", ".join(f"{c:.4g}" for c in np.round(place, 9) + 0.0)
        text = f"rotation about {_direction(turn)} through [{through}] m"
        if pitch > 1e-6:
            text += f" with {pitch:.3g} m per rad along it"
        words.append(text)
    return words
