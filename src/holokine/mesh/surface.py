"""The faces of parts: shells themselves, and the outside of solids."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from holokine.mesh.mesh import Mesh

__all__ = ["FACES", "outer_faces"]

Ints = NDArray[Any]  # int64
_HEX: list[tuple[int, ...]] = [(0, 3, 2, 1), (4, 5, 6, 7), (0, 1, 5, 4), (1, 2, 6, 5), (2, 3, 7, 6), (3, 0, 4, 7)]
_TET: list[tuple[int, ...]] = [(0, 2, 1), (0, 1, 3), (1, 2, 3), (2, 0, 3)]
FACES: dict[str, list[tuple[int, ...]]] = {
    "hex8": _HEX,
    "hex20": _HEX,
    "tet4": _TET,
    "tet10": _TET,
    "wedge6": [(0, 2, 1), (3, 4, 5), (0, 1, 4, 3), (1, 2, 5, 4), (2, 0, 3, 5)],
    "quad4": [(0, 1, 2, 3)],
    "tri3": [(0, 1, 2)],
}
"""Corner nodes of each face, turning so that the normal looks outward."""


def outer_faces(mesh: Mesh, part: str | None = None) -> list[tuple[Ints, str]]:
    """Corner nodes of the outer faces (faces, 3 or 4) and the part they belong to.

    Faces between two solids of one part are left out; shells are faces themselves.
    """
    result = []
    parts = [part] if part is not None else list(dict.fromkeys(b.part for b in mesh.blocks))
    for name in parts:
        by_size: dict[int, list[Ints]] = {}
        for block in mesh.blocks_of(name):
            for face in FACES.get(block.kind, []):
                by_size.setdefault(len(face), []).append(block.cells[:, list(face)])
        for faces in by_size.values():
            every = np.concatenate(faces)
            _, first, counts = np.unique(np.sort(every, axis=1), axis=0, return_index=True, return_counts=True)
            result.append((every[np.sort(first[counts == 1])], name))
    return result
