"""The mesh of an assembly: nodes, blocks of cells of one kind and one part, named points."""

from __future__ import annotations

from copy import copy
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from holokine.errors import MeshError
from holokine.mesh.tree import nearest_tree

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.describe import Description

__all__ = ["Block", "Mesh"]


@dataclass(frozen=True)
class Block:
    """Cells of one kind that belong to one part.

    Attributes
    ----------
    part : str
        Name of the part.
    kind : str
        Kind of cell: a key of `mesh.cells.CELLS`.
    cells : ndarray of int, shape (cells, nodes per cell)
        Node numbers.
    arms : ndarray, shape (cells, nodes per cell, 3), or None
        Rigid arms in metres from the nodes to the element's own ends, global axes.
    set : str
        Of the lines of a mesh file: the set that tells what they are made of; empty of all others.
    """

    part: str
    kind: str
    cells: Ints
    arms: Floats | None = None
    set: str = ""


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

    def with_names(self, description: Description) -> Mesh:
        """The mesh under a description whose other points are names of places where a node lies.

        Raises
        ------
        MeshError
            Where two nodes lie at such a place, and which is meant cannot be told.
        """
        nodes_by_name = description.structural_points
        others = {n: p for n, p in description.points.items() if n not in nodes_by_name}
        own = {n: k for n, k in self.points.items() if n not in description.points or n not in others}
        found: dict[str, int] = {}
        if others and len(self.nodes):
            tree = nearest_tree(self.nodes)
            in_parts = np.zeros(len(self.nodes), dtype=bool)
            for nodes in self.part_nodes.values():
                in_parts[nodes] = True
            for name, point in others.items():
                near = tree.query_ball_point(point.at, max(self.merge_tolerance, 1e-12))
                near = [n for n in near if in_parts[n]] or near
                if len(near) > 1:
                    here = sorted(n for n, k in own.items() if k in near)
                    raise MeshError(
                        f'point "{name}": {len(near)} nodes lie at its place; name the one that is meant'
                        + (f": {', '.join(here)}" if here else ""),
                        path=("points", name),
                    )
                if near and not point.apart:
                    found[name] = int(near[0])
        result = copy(self)
        object.__setattr__(result, "points", {**own, **found})
        result.__dict__.pop("_names", None)
        return result

    @cached_property
    def _names(self) -> dict[int, str]:
        return {node: name for name, node in self.points.items()}

    def place_words(self, node: int) -> str:
        """A node in a message or a table: the name of its point, or where it is in mm."""
        return self._names.get(node) or "[" + ", ".join(f"{1e3 * x:.4g}" for x in self.nodes[node]) + "] mm"

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
