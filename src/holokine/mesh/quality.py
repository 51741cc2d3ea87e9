"""Looking at elements on the way in: inverted, without volume, badly shaped, twice, and nodes in no cell."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from holokine.errors import MeshError
from holokine.mesh.cells import CELLS

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.mesh.mesh import Block, Mesh

__all__ = ["Shape", "block_shapes", "corner_shapes", "edge_lengths", "refuse_bad"]

BAD_SHAPE = 0.1


@dataclass(frozen=True)
class Shape:
    """Shape of the elements of a block: 1 is perfect, 0 has a flat corner, below 0 is inverted."""

    block: Block
    quality: Floats
    longest: Floats
    shortest: Floats


def edge_lengths(nodes: Floats, kind: str, cells: NDArray[np.int64]) -> Floats:
    """Lengths of all edges in m, shape (cells, edges)."""
    return np.stack(
        [np.linalg.norm(nodes[cells[:, b]] - nodes[cells[:, a]], axis=1) for a, b in CELLS[kind].edges], axis=1
    )


def block_shapes(mesh: Mesh) -> list[Shape]:
    """Shape of every element, block by block (beams have none: quality 1)."""
    result = []
    for block in mesh.blocks:
        lengths = edge_lengths(mesh.nodes, block.kind, block.cells)
        quality = corner_shapes(mesh.nodes, block.kind, block.cells)
        result.append(Shape(block, quality, lengths.max(axis=1), lengths.min(axis=1)))
    return result


def corner_shapes(nodes: Floats, name: str, cells: NDArray[np.int64]) -> Floats:
    """Smallest corner determinant of unit edges, over that of the perfect shape; beams have none: 1.

    Edges of quadratic cells by their direction at the corner, which their middle nodes bend.
    """
    kind = CELLS[name]
    if not kind.corners:
        return np.ones(len(cells))
    X = nodes[cells]
    if X.shape[2] == 2:
        X = np.concatenate([X, np.zeros((*X.shape[:2], 1))], axis=2)
    worst = np.full(len(X), np.inf)
    diagonal = kind.diagonal
    middle = {}
    if kind.order == 2:
        first = 1 + max(n for edge in kind.edges for n in edge)
        middle = {frozenset(edge): first + k for k, edge in enumerate(kind.edges)}

    def leaving(a: int, b: int) -> Floats:
        m = middle.get(frozenset((a, b)))
        return X[:, b] - X[:, a] if m is None else 4.0 * X[:, m] - 3.0 * X[:, a] - X[:, b]

    if diagonal:
        normal = np.cross(X[:, diagonal[0]] - X[:, diagonal[1]], X[:, diagonal[2]] - X[:, diagonal[3]])
        normal = normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    for corner in kind.corners:
        edges = [leaving(corner[0], n) for n in corner[1:]]
        edges = [e / np.maximum(np.linalg.norm(e, axis=1, keepdims=True), 1e-300) for e in edges]
        third = normal if diagonal else edges[2]
        worst = np.minimum(worst, np.einsum("ei,ei->e", np.cross(edges[0], edges[1]), third))
    return worst / kind.perfect


def refuse_bad(mesh: Mesh) -> list[str]:
    """Warnings about badly shaped elements.

    Raises
    ------
    MeshError
        Inverted or zero-volume elements and cells given twice; the worst are named with their place.
    """
    notes = []
    for shape in block_shapes(mesh):
        block = shape.block
        if not CELLS[block.kind].corners:
            continue
        keys = np.sort(block.cells, axis=1)
        _, first, counts = np.unique(keys, axis=0, return_index=True, return_counts=True)
        if (counts > 1).any():
            where = mesh.nodes[block.cells[first[counts > 1][0]]].mean(axis=0)
            raise MeshError(
                f'part "{block.part}": {int((counts - 1).sum())} cells are given twice, such as one at {_place(where)}',
                path=("parts", block.part),
            )
        bad = np.flatnonzero(shape.quality <= 1e-9)
        if len(bad):
            worst = bad[np.argsort(shape.quality[bad])][:3]
            listed = "; ".join(f"element {i + 1} at {_place(mesh.nodes[block.cells[i]].mean(axis=0))}" for i in worst)
            raise MeshError(
                f'part "{block.part}": {len(bad)} of {len(block.cells)} elements ({block.kind}) are inverted or '
                f"have no volume: {listed}. Check the order of their nodes"
                + (", and where those in the middle of edges lie" if CELLS[block.kind].order == 2 else ""),
                path=("parts", block.part),
            )
        poor = np.flatnonzero(shape.quality < BAD_SHAPE)
        if len(poor):
            i = poor[np.argmin(shape.quality[poor])]
            notes.append(
                f'part "{block.part}": {len(poor)} of {len(block.cells)} elements are badly shaped; the worst is '
                f"element {i + 1} at {_place(mesh.nodes[block.cells[i]].mean(axis=0))} (shape {shape.quality[i]:.2g})"
            )
        if CELLS[block.kind].warning:
            notes.append(f'part "{block.part}": {CELLS[block.kind].warning}')
    return notes


def _place(p: Floats) -> str:
    return "[" + ", ".join(f"{c:.4g}" for c in p) + "] m"
