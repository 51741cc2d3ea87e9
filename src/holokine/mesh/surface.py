"""The faces of parts: shells themselves, and the outside of solids."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from holokine.mesh.cells import CELLS
from holokine.mesh.mesh import Mesh

__all__ = ["outer_faces"]

Ints = NDArray[Any]  # int64


def outer_faces(mesh: Mesh, part: str | None = None) -> list[tuple[Ints, str]]:
    """Corner nodes of the outer faces (faces, 3 or 4) and the part they belong to.

    Faces between two solids of one part are left out; shells are faces themselves.
    """
    result = []
    parts = [part] if part is not None else list(dict.fromkeys(b.part for b in mesh.blocks))
    for name in parts:
        by_size: dict[int, list[Ints]] = {}
        for block in mesh.blocks_of(name):
            for face in CELLS[block.kind].faces:
                by_size.setdefault(len(face), []).append(block.cells[:, list(face)])
        for faces in by_size.values():
            every = np.concatenate(faces)
            _, first, counts = np.unique(np.sort(every, axis=1), axis=0, return_index=True, return_counts=True)
            result.append((every[np.sort(first[counts == 1])], name))
    return result
