"""Mesh files of the VTK family and others in open formats, in and out."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.errors import MeshError, nearest_hint
from holokine.mesh.cells import CELLS
from holokine.mesh.grids import with_centres
from holokine.whole import whole_file

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.mesh.mesh import Mesh

__all__ = ["KINDS", "FileMesh", "read_mesh", "write_mesh"]

KINDS = {kind.in_files: kind.name for kind in CELLS.values()} | {"quad8": "quad9"}
_PASSED_OVER = {"vertex"}


@dataclass(frozen=True)
class FileMesh:
    """What a file holds: nodes in m, cells by kind, and named sets of cells and nodes."""

    nodes: Floats
    blocks: list[tuple[str, Ints]]
    cell_sets: dict[str, list[Ints]]
    node_sets: dict[str, Ints]


def _meshio() -> Any:
    """The library of mesh files, which names two quadratic solids in its formats but not in its table of sizes."""
    import meshio
    from meshio._mesh import topological_dimension

    for kind in ("wedge15", "pyramid13"):
        topological_dimension.setdefault(kind, 3)
    return meshio


def read_mesh(path: Path, factor: float) -> FileMesh:
    """Read a mesh file, lengths times `factor` to metres.

    Quadrilaterals of eight nodes get a ninth in their middle. Cell data of whole numbers become sets called
    ``name=value``; named sets keep their names.

    Raises
    ------
    MeshError
        Missing or damaged file, or kinds of cells that are not supported, by name and number.
    """
    import contextlib
    import io

    meshio = _meshio()
    if not path.exists():
        raise MeshError(f"{path}: there is no such file")
    try:
        with contextlib.redirect_stdout(io.StringIO()), contextlib.redirect_stderr(io.StringIO()):
            raw = meshio.read(path)
    except SystemExit:
        raise MeshError(f"{path}: is not a mesh file of a known format") from None
    except Exception as err:  # damaged files fail in as many ways as there are formats
        raise MeshError(f"{path}: cannot be read as a mesh, damaged or of another format ({err})") from None
    unknown: dict[str, int] = {}
    for block in raw.cells:
        if block.type not in KINDS and block.type not in _PASSED_OVER:
            unknown[block.type] = unknown.get(block.type, 0) + len(block.data)
    if unknown:
        named = ", ".join(f"{n} cells of kind {k}" for k, n in unknown.items())
        raise MeshError(f"{path}: {named} are not supported; supported are {', '.join(KINDS)}")
    points = np.zeros((len(raw.points), 3))
    points[:, : raw.points.shape[1]] = raw.points
    if not np.isfinite(points).all():
        raise MeshError(f"{path}: a node has a coordinate that is not a finite number")
    kept = [i for i, b in enumerate(raw.cells) if b.type in KINDS]
    if not kept:
        raise MeshError(f"{path}: holds no cells")
    for i in kept:
        cells = raw.cells[i].data
        if cells.size and (cells.min() < 0 or cells.max() >= len(points)):
            raise MeshError(
                f"{path}: a cell of kind {raw.cells[i].type} refers to node {cells.max()}, which is not there"
            )
    sets: dict[str, list[Ints]] = {}
    for name, per_block in raw.cell_data.items():
        values = [np.asarray(per_block[i]) for i in kept]
        if all(v.ndim == 1 and v.dtype.kind in "iu" for v in values):
            present = np.unique(np.concatenate(values))
            if len(present) <= 1000:
                for value in present:
                    sets[f"{name}={value}"] = [np.flatnonzero(v == value) for v in values]
    for name, per_block in raw.cell_sets.items():
        sets[str(name)] = [np.asarray(per_block[i] if per_block[i] is not None else [], dtype=np.int64) for i in kept]
    node_sets = {str(n): np.asarray(v, dtype=np.int64) for n, v in raw.point_sets.items()}
    blocks = []
    for i in kept:
        cells = np.asarray(raw.cells[i].data, dtype=np.int64)
        if raw.cells[i].type == "quad8":
            points, cells, _ = with_centres(points, cells)
        blocks.append((KINDS[raw.cells[i].type], cells))
    return FileMesh(points * factor, blocks, sets, node_sets)


def pick(file: FileMesh, only: dict[str, Any] | str | None, where: str) -> list[tuple[str, Ints, Ints]]:
    """Blocks (kind, cells, numbers over all cells of the file) that `only` asks for."""
    starts = np.cumsum([0, *(len(cells) for _, cells in file.blocks)])
    if only is None:
        return [(kind, cells, a + np.arange(len(cells))) for (kind, cells), a in zip(file.blocks, starts, strict=False)]
    name = only if isinstance(only, str) else "=".join(str(v) for v in next(iter(only.items())))
    if name not in file.cell_sets:
        raise MeshError(f'{where}: the file has no set of cells "{name}". {nearest_hint(name, file.cell_sets, "sets")}')
    chosen = file.cell_sets[name]
    result = [
        (kind, cells[c], a + c) for (kind, cells), c, a in zip(file.blocks, chosen, starts, strict=False) if len(c)
    ]
    if not result:
        raise MeshError(f'{where}: the set "{name}" is empty')
    return result


def write_mesh(
    path: Path, mesh: Mesh, point_data: dict[str, Floats] | None = None, cell_data: dict[str, list[Any]] | None = None
) -> None:
    """Write a mesh with data as VTU (or another format by its ending), whole or not at all.

    Parameters
    ----------
    point_data : dict of str to ndarray, shape (nodes, ...)
    cell_data : dict of str to list of ndarray
        One array per block of the mesh.
    """
    meshio = _meshio()
    if path.suffix.lower() not in meshio.extension_to_filetypes:
        raise MeshError(f"{path}: cannot be written in this format; a mesh is saved as .vtu, .vtk, .xdmf and the like")
    blocks = [(CELLS[b.kind].in_files, b.cells) for b in mesh.blocks]
    parts = list(dict.fromkeys(b.part for b in mesh.blocks))
    data = {"part": [np.full(len(b.cells), parts.index(b.part), dtype=np.int32) for b in mesh.blocks]}
    if not blocks:  # matrices from elsewhere have nodes only
        blocks, data = [("vertex", np.arange(len(mesh.nodes))[:, None])], {}
    out = meshio.Mesh(mesh.nodes, blocks, point_data=point_data or {}, cell_data={**data, **(cell_data or {})})
    with whole_file(path, MeshError) as part:
        try:
            meshio.write(part, out)
        except (KeyError, meshio.WriteError, meshio.ReadError) as err:
            raise MeshError(f"{path}: cannot be written in this format ({err})") from None
