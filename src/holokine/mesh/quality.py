"""Looking at elements on the way in: inverted, without volume, badly shaped, twice, and nodes in no cell."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from holokine.errors import MeshError
from holokine.mesh.mesh import Block, Mesh

__all__ = ["Shape", "block_shapes", "edge_lengths", "refuse_bad"]

Floats = NDArray[Any]  # float64
# per corner: the three neighbours in right-handed order
_CORNERS: dict[str, list[tuple[int, ...]]] = {
    "hex8": [(0, 1, 3, 4), (1, 2, 0, 5), (2, 3, 1, 6), (3, 0, 2, 7),
             (4, 7, 5, 0), (5, 4, 6, 1), (6, 5, 7, 2), (7, 6, 4, 3)],
    "tet4": [(0, 1, 2, 3), (1, 2, 0, 3), (2, 0, 1, 3), (3, 0, 2, 1)],
    "wedge6": [(0, 1, 2, 3), (1, 2, 0, 4), (2, 0, 1, 5), (3, 5, 4, 0), (4, 3, 5, 1), (5, 4, 3, 2)],
    "quad4": [(0, 1, 3), (1, 2, 0), (2, 3, 1), (3, 0, 2)],
    "tri3": [(0, 1, 2), (1, 2, 0), (2, 0, 1)],
}  # fmt: skip
_CORNERS["hex20"], _CORNERS["tet10"] = _CORNERS["hex8"], _CORNERS["tet4"]
_EDGES = {
    "beam": [(0, 1)],
    "tri3": [(0, 1), (1, 2), (2, 0)],
    "quad4": [(0, 1), (1, 2), (2, 3), (3, 0)],
    "tet4": [(0, 1), (1, 2), (2, 0), (0, 3), (1, 3), (2, 3)],
    "wedge6": [(0, 1), (1, 2), (2, 0), (3, 4), (4, 5), (5, 3), (0, 3), (1, 4), (2, 5)],
    "hex8": [(0, 1), (1, 2), (2, 3), (3, 0), (4, 5), (5, 6), (6, 7), (7, 4), (0, 4), (1, 5), (2, 6), (3, 7)],
}
_EDGES["hex20"], _EDGES["tet10"] = _EDGES["hex8"], _EDGES["tet4"]
_PERFECT = {"tet4": np.sqrt(0.5), "tet10": np.sqrt(0.5), "wedge6": np.sqrt(0.75), "tri3": np.sqrt(0.75)}
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
    return np.stack([np.linalg.norm(nodes[cells[:, b]] - nodes[cells[:, a]], axis=1) for a, b in _EDGES[kind]], axis=1)


def block_shapes(mesh: Mesh) -> list[Shape]:
    """Shape of every element, block by block (beams have none: quality 1)."""
    result = []
    for block in mesh.blocks:
        lengths = edge_lengths(mesh.nodes, block.kind, block.cells)
        quality = np.ones(len(block.cells)) if block.kind == "beam" else _quality(mesh.nodes, block)
        result.append(Shape(block, quality, lengths.max(axis=1), lengths.min(axis=1)))
    return result


def _quality(nodes: Floats, block: Block) -> Floats:
    """Smallest corner determinant of unit edges, over that of the perfect shape."""
    X = nodes[block.cells]
    worst = np.full(len(X), np.inf)
    flat = block.kind in ("quad4", "tri3")
    if flat:
        diagonal = (2, 0, 3, 1) if block.kind == "quad4" else (1, 0, 2, 0)
        normal = np.cross(X[:, diagonal[0]] - X[:, diagonal[1]], X[:, diagonal[2]] - X[:, diagonal[3]])
        normal = normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    for corner in _CORNERS[block.kind]:
        edges = [X[:, n] - X[:, corner[0]] for n in corner[1:]]
        edges = [e / np.maximum(np.linalg.norm(e, axis=1, keepdims=True), 1e-300) for e in edges]
        third = normal if flat else edges[2]
        worst = np.minimum(worst, np.einsum("ei,ei->e", np.cross(edges[0], edges[1]), third))
    return worst / _PERFECT.get(block.kind, 1.0)


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
        if block.kind == "beam":
            continue
        keys = np.sort(block.cells, axis=1)
        _, first, counts = np.unique(keys, axis=0, return_index=True, return_counts=True)
        if (counts > 1).any():
            where = mesh.nodes[block.cells[first[counts > 1][0]]].mean(axis=0)
            raise MeshError(
                f'part "{block.part}": {int((counts - 1).sum())} cells are given twice, for instance at {_place(where)}'
            )
        bad = np.flatnonzero(shape.quality <= 1e-9)
        if len(bad):
            worst = bad[np.argsort(shape.quality[bad])][:3]
            listed = "; ".join(f"element {i + 1} at {_place(mesh.nodes[block.cells[i]].mean(axis=0))}" for i in worst)
            raise MeshError(
                f'part "{block.part}": {len(bad)} of {len(block.cells)} elements ({block.kind}) are inverted or '
                f"have no volume: {listed}. Check the order of their nodes"
            )
        poor = np.flatnonzero(shape.quality < BAD_SHAPE)
        if len(poor):
            i = poor[np.argmin(shape.quality[poor])]
            notes.append(
                f'part "{block.part}": {len(poor)} of {len(block.cells)} elements are badly shaped; the worst is '
                f"element {i + 1} at {_place(mesh.nodes[block.cells[i]].mean(axis=0))} (shape {shape.quality[i]:.2g})"
            )
        if block.kind == "tet4":
            notes.append(
                f'part "{block.part}": tetrahedra of 4 nodes are far too stiff in bending; frequencies come out high. '
                "Use 10 nodes, or bricks"
            )
    return notes


def _place(p: Floats) -> str:
    return "[" + ", ".join(f"{c:.4g}" for c in p) + "] m"
