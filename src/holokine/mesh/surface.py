"""The faces of parts: shells themselves, and the outside of solids."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Literal

import numpy as np

from holokine.mesh.cells import CELLS

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.mesh.mesh import Mesh

__all__ = ["face_normals", "outer_faces", "quad_faces", "rim"]


def outer_faces(
    mesh: Mesh, part: str | Sequence[str] | None = None, want: Literal["corners", "all", "pieces"] = "corners"
) -> list[tuple[Ints, str]]:
    """Nodes of the outer faces and the part they belong to.

    Faces between two solids of one part are left out; shells are faces themselves.

    Parameters
    ----------
    want : str
        Corners, (faces, 3 or 4); all nodes, corners first (faces, 3, 4, 6, 8 or 9); or corners with curved shells in
        flat pieces.
    """
    result = []
    every = list(dict.fromkeys(b.part for b in mesh.blocks)) if part is None else part
    parts = [every] if isinstance(every, str) else every
    for name in parts:
        by_size: dict[tuple[int, int], list[Ints]] = {}
        for block in mesh.blocks_of(name):
            kind = CELLS[block.kind]
            if want == "pieces" and kind.pieces:
                corners = len(kind.pieces[0])
                by_size.setdefault((corners, corners), []).extend(block.cells[:, list(p)] for p in kind.pieces)
                continue
            for face, full in zip(kind.faces, kind.full_faces, strict=True):
                wanted = full if want == "all" else face
                by_size.setdefault((len(face), len(wanted)), []).append(block.cells[:, list(wanted)])
        for (corners, _), faces in by_size.items():
            all_ = np.concatenate(faces)
            keys = np.sort(all_[:, :corners], axis=1)
            _, first, counts = np.unique(keys, axis=0, return_index=True, return_counts=True)
            result.append((all_[np.sort(first[counts == 1])], name))
    return result


def face_normals(places: Floats) -> Floats:
    """Unit normals of faces from their nodes, corners first, (faces, 3 to 9, 3); shape (faces, 3)."""
    last = places[:, 3] if places.shape[1] in (4, 8, 9) else places[:, 0]
    normal = np.cross(places[:, 2] - places[:, 0], last - places[:, 1])
    return np.asarray(normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300))


def quad_faces(mesh: Mesh, part: str) -> Ints:
    """Corner nodes of the outer faces of a part, (faces, 4); a triangle repeats its last corner."""
    faces = [c if c.shape[1] == 4 else c[:, [0, 1, 2, 2]] for c, _ in outer_faces(mesh, part, "pieces")]
    return np.concatenate(faces) if faces else np.zeros((0, 4), dtype=np.int64)


def rim(mesh: Mesh, part: str) -> Ints:
    """Nodes with which a part can meet another: on the free edges of shells and corners of outer faces of solids."""
    edges, found = [], []
    for block in mesh.blocks_of(part):
        kind = CELLS[block.kind]
        if kind.family == "surface":
            for a, b in kind.edges:
                middle = kind.middle(a, b)
                halves = [(a, b)] if middle is None else [(a, middle), (middle, b)]
                edges += [block.cells[:, list(half)] for half in halves]
    if edges:
        every, counts = np.unique(np.sort(np.concatenate(edges), axis=1), axis=0, return_counts=True)
        found.append(every[counts == 1].ravel())
    solid = any(CELLS[b.kind].family == "solid" for b in mesh.blocks_of(part))
    if solid:
        found += [faces.ravel() for faces, _ in outer_faces(mesh, part)]
    return np.unique(np.concatenate(found)) if found else np.zeros(0, dtype=np.int64)
