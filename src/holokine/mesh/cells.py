"""Kinds of cells: what each is made of. To add one, add it here, and its elements in `elements/`."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import Literal

import numpy as np

__all__ = ["CELLS", "CellKind"]

Pairs = tuple[tuple[int, int], ...]


@dataclass(frozen=True)
class CellKind:
    """One kind of cell.

    Attributes
    ----------
    name : str
    family : {"line", "surface", "solid"}
        Which elements are made of it.
    count : int
        Nodes.
    in_files : str
        Its name in mesh files.
    edges : tuple of pairs
        Corner nodes of each edge.
    faces : tuple of tuples
        Corner nodes of each face, turning so that the normal looks outward.
    corners : tuple of tuples
        For the shape: each corner with its neighbours, in right-handed order.
    order : int
        1 linear, 2 quadratic: how many linear elements one is worth per wavelength.
    perfect : float
        Raw shape measure of the ideal cell.
    warning : str
        What to say of every part that is made of it.
    """

    name: str
    family: Literal["line", "surface", "solid"]
    count: int
    in_files: str
    edges: Pairs
    faces: tuple[tuple[int, ...], ...] = ()
    corners: tuple[tuple[int, ...], ...] = ()
    order: int = 1
    perfect: float = 1.0
    warning: str = ""
    diagonal: tuple[int, ...] = field(default=())
    """For surfaces: of each corner, the node that with it tells the normal."""
    pieces: tuple[tuple[int, ...], ...] = ()
    """For curved surfaces: flat pieces between neighbouring nodes, for ties and pictures."""

    @property
    def corner_count(self) -> int:
        """Nodes at corners; those in the middle of edges follow, in the order of the edges."""
        return max(n for edge in self.edges for n in edge) + 1

    def middle(self, a: int, b: int) -> int | None:
        """Node in the middle of the edge between two corners; None in linear cells."""
        if self.order == 1:
            return None
        return self.corner_count + next(i for i, e in enumerate(self.edges) if set(e) == {a, b})

    @cached_property
    def full_faces(self) -> tuple[tuple[int, ...], ...]:
        """All nodes of each face: corners, middles of its edges in order, and its middle where there is one."""
        if self.order == 1:
            return self.faces
        found = []
        for face in self.faces:
            middles = [self.middle(a, b) for a, b in zip(face, (*face[1:], face[0]), strict=True)]
            extra = [self.count - 1] if self.family == "surface" and self.count == 9 else []
            found.append((*face, *(m for m in middles if m is not None), *extra))
        return tuple(found)


_HEX_EDGES: Pairs = ((0, 1), (1, 2), (2, 3), (3, 0), (4, 5), (5, 6), (6, 7), (7, 4), (0, 4), (1, 5), (2, 6), (3, 7))
_HEX_FACES = ((0, 3, 2, 1), (4, 5, 6, 7), (0, 1, 5, 4), (1, 2, 6, 5), (2, 3, 7, 6), (3, 0, 4, 7))
_HEX_CORNERS = ((0, 1, 3, 4), (1, 2, 0, 5), (2, 3, 1, 6), (3, 0, 2, 7),
                (4, 7, 5, 0), (5, 4, 6, 1), (6, 5, 7, 2), (7, 6, 4, 3))  # fmt: skip
_TET_EDGES: Pairs = ((0, 1), (1, 2), (2, 0), (0, 3), (1, 3), (2, 3))
_TET_FACES = ((0, 2, 1), (0, 1, 3), (1, 2, 3), (2, 0, 3))
_TET_CORNERS = ((0, 1, 2, 3), (1, 2, 0, 3), (2, 0, 1, 3), (3, 0, 2, 1))
_WEDGE_EDGES: Pairs = ((0, 1), (1, 2), (2, 0), (3, 4), (4, 5), (5, 3), (0, 3), (1, 4), (2, 5))
_WEDGE_FACES = ((0, 2, 1), (3, 4, 5), (0, 1, 4, 3), (1, 2, 5, 4), (2, 0, 3, 5))
_WEDGE_CORNERS = ((0, 1, 2, 3), (1, 2, 0, 4), (2, 0, 1, 5), (3, 5, 4, 0), (4, 3, 5, 1), (5, 4, 3, 2))
# the top of a pyramid has four neighbours, and is no corner of its own: those of the base judge the shape
_PYRAMID_EDGES: Pairs = ((0, 1), (1, 2), (2, 3), (3, 0), (0, 4), (1, 4), (2, 4), (3, 4))
_PYRAMID_FACES = ((0, 3, 2, 1), (0, 1, 4), (1, 2, 4), (2, 3, 4), (3, 0, 4))
_PYRAMID_CORNERS = ((0, 1, 3, 4), (1, 2, 0, 4), (2, 3, 1, 4), (3, 0, 2, 4))
_TET4_WARNING = "tetrahedra of 4 nodes are far too stiff in bending; frequencies come out high. Use 10 nodes, or bricks"
_PYRAMID5_WARNING = "pyramids of 5 nodes are too stiff in bending; keep them few, between bricks and tetrahedra"

CELLS: dict[str, CellKind] = {
    c.name: c
    for c in (
        CellKind("beam", "line", 2, "line", ((0, 1),)),
        CellKind("quad4", "surface", 4, "quad", ((0, 1), (1, 2), (2, 3), (3, 0)), ((0, 1, 2, 3),),
                 ((0, 1, 3), (1, 2, 0), (2, 3, 1), (3, 0, 2)), diagonal=(2, 0, 3, 1)),
        CellKind("tri3", "surface", 3, "triangle", ((0, 1), (1, 2), (2, 0)), ((0, 1, 2),),
                 ((0, 1, 2), (1, 2, 0), (2, 0, 1)), perfect=float(np.sqrt(0.75)), diagonal=(1, 0, 2, 0)),
        CellKind("quad9", "surface", 9, "quad9", ((0, 1), (1, 2), (2, 3), (3, 0)), ((0, 1, 2, 3),),
                 ((0, 1, 3), (1, 2, 0), (2, 3, 1), (3, 0, 2)), diagonal=(2, 0, 3, 1), order=2,
                 pieces=((0, 4, 8, 7), (4, 1, 5, 8), (8, 5, 2, 6), (7, 8, 6, 3))),
        CellKind("tri6", "surface", 6, "triangle6", ((0, 1), (1, 2), (2, 0)), ((0, 1, 2),),
                 ((0, 1, 2), (1, 2, 0), (2, 0, 1)), perfect=float(np.sqrt(0.75)), diagonal=(1, 0, 2, 0), order=2,
                 pieces=((0, 3, 5), (3, 1, 4), (5, 4, 2), (3, 4, 5))),
        CellKind("hex8", "solid", 8, "hexahedron", _HEX_EDGES, _HEX_FACES, _HEX_CORNERS),
        CellKind("hex20", "solid", 20, "hexahedron20", _HEX_EDGES, _HEX_FACES, _HEX_CORNERS, order=2),
        CellKind("tet4", "solid", 4, "tetra", _TET_EDGES, _TET_FACES, _TET_CORNERS, perfect=float(np.sqrt(0.5)),
                 warning=_TET4_WARNING),
        CellKind("tet10", "solid", 10, "tetra10", _TET_EDGES, _TET_FACES, _TET_CORNERS, order=2,
                 perfect=float(np.sqrt(0.5))),
        CellKind("wedge6", "solid", 6, "wedge", _WEDGE_EDGES, _WEDGE_FACES, _WEDGE_CORNERS,
                 perfect=float(np.sqrt(0.75))),
        CellKind("wedge15", "solid", 15, "wedge15", _WEDGE_EDGES, _WEDGE_FACES, _WEDGE_CORNERS, order=2,
                 perfect=float(np.sqrt(0.75))),
        CellKind("pyramid5", "solid", 5, "pyramid", _PYRAMID_EDGES, _PYRAMID_FACES, _PYRAMID_CORNERS,
                 perfect=float(np.sqrt(0.5)), warning=_PYRAMID5_WARNING),
        CellKind("pyramid13", "solid", 13, "pyramid13", _PYRAMID_EDGES, _PYRAMID_FACES, _PYRAMID_CORNERS, order=2,
                 perfect=float(np.sqrt(0.5))),
    )
}  # fmt: skip
