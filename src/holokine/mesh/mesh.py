"""The mesh of an assembly: nodes, blocks of cells of one kind and one part, named points."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["Block", "Mesh"]

Floats = NDArray[Any]  # float64
Ints = NDArray[Any]  # int64


@dataclass(frozen=True)
class Block:
    """Cells of one kind that belong to one part.

    Attributes
    ----------
    part : str
        Name of the part.
    kind : str
        Kind of cell: beam, quad4, tri3, hex8, hex20, tet4, tet10, wedge6.
    cells : ndarray of int, shape (cells, nodes per cell)
        Node numbers.
    arms : ndarray, shape (cells, nodes per cell, 3), or None
        Rigid arms in metres from the nodes to the element's own ends, global axes.
    """

    part: str
    kind: str
    cells: Ints
    arms: Floats | None = None


@dataclass(frozen=True)
class Mesh:
    """A meshed assembly.

    Attributes
    ----------
    nodes : ndarray, shape (nodes, 3)
        Coordinates in metres, global axes.
    blocks : tuple of Block
        In the order of the parts.
    points : dict of str to int
        Node of each named point.
    merge_tolerance : float
        Distance in metres within which nodes were made one.
    merged : int
        How many nodes were given up in merging.
    coincident : tuple of (str, str)
        Named points at the same place, which are kept as two nodes.
    part_nodes : dict of str to ndarray of int
        Nodes of each part.
    sets : dict of str to ndarray of int
        Named node sets from mesh files (of named cell sets: their nodes).
    merged_pairs : dict of (str, str) to int
        How many nodes two parts share.
    notes : tuple of str
        What meshing noticed.
    """

    nodes: Floats
    blocks: tuple[Block, ...]
    points: dict[str, int]
    merge_tolerance: float = 0.0
    merged: int = 0
    coincident: tuple[tuple[str, str], ...] = ()
    part_nodes: dict[str, Ints] = field(default_factory=dict)
    sets: dict[str, Ints] = field(default_factory=dict)
    merged_pairs: dict[tuple[str, str], int] = field(default_factory=dict)
    notes: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        for block in self.blocks:
            own = [np.asarray(self.part_nodes.get(block.part, ()), dtype=np.int64), block.cells.ravel()]
            self.part_nodes[block.part] = np.unique(np.concatenate(own))
        self.nodes.setflags(write=False)

    @property
    def cell_count(self) -> int:
        """Number of cells of all blocks."""
        return sum(len(b.cells) for b in self.blocks)

    def blocks_of(self, part: str) -> list[Block]:
        """The blocks of one part."""
        return self._by_part.get(part, [])

    @cached_property
    def _by_part(self) -> dict[str, list[Block]]:
        result: dict[str, list[Block]] = {}
        for block in self.blocks:
            result.setdefault(block.part, []).append(block)
        return result
