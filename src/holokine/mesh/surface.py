"""The faces of parts: shells themselves, and the outside of solids."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from holokine.mesh.cells import CELLS
from holokine.mesh.mesh import Mesh

__all__ = ["outer_faces", "quad_faces", "rim"]

Ints = NDArray[Any]  # int64


def outer_faces(mesh: Mesh, part: str | Sequence[str] | None = None) -> list[tuple[Ints, str]]:
    """Corner nodes of the outer faces (faces, 3 or 4) and the part they belong to.

    Faces between two solids of one part are left out; shells are faces themselves.
    """
    result = []
    every = list(dict.fromkeys(b.part for b in mesh.blocks)) if part is None else part
    parts = [every] if isinstance(every, str) else every
    for name in parts:
        by_size: dict[int, list[Ints]] = {}
        for block in mesh.blocks_of(name):
            for face in CELLS[block.kind].faces:
                by_size.setdefault(len(face), []).append(block.cells[:, list(face)])
        for faces in by_size.values():
            all_ = np.concatenate(faces)
            _, first, counts = np.unique(np.sort(all_, axis=1), axis=0, return_index=True, return_counts=True)
            result.append((all_[np.sort(first[counts == 1])], name))
    return result


def quad_faces(mesh: Mesh, part: str) -> Ints:
    """Corner nodes of the outer faces of a part, (faces, 4); a triangle repeats its last corner."""
    faces = [c if c.shape[1] == 4 else c[:, [0, 1, 2, 2]] for c, _ in outer_faces(mesh, part)]
    return np.concatenate(faces) if faces else np.zeros((0, 4), dtype=np.int64)


def rim(mesh: Mesh, part: str) -> Ints:
    """Corner nodes with which a part can meet another: on the free edges of shells and the outer faces of solids."""
    edges, found = [], []
    for block in mesh.blocks_of(part):
        kind = CELLS[block.kind]
        if kind.family == "surface":
            edges += [block.cells[:, list(edge)] for edge in kind.edges]
    if edges:
        every, counts = np.unique(np.sort(np.concatenate(edges), axis=1), axis=0, return_counts=True)
        found.append(every[counts == 1].ravel())
    solid = any(CELLS[b.kind].family == "solid" for b in mesh.blocks_of(part))
    if solid:
        found += [faces.ravel() for faces, _ in outer_faces(mesh, part)]
    return np.unique(np.concatenate(found)) if found else np.zeros(0, dtype=np.int64)
