"""Matrices from elsewhere in place of a mesh."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array, csr_array

from holokine.errors import DescriptionError, MeshError, headed, nearest_hint
from holokine.mesh.mesh import Mesh
from holokine.system.assemble import DIRECTION_NAMES
from holokine.system.matrix_file import read_matrix
from holokine.units import POSSIBLE

if TYPE_CHECKING:
    from holokine.describe import Description
    from holokine.describe.files import Folder

__all__ = ["Given", "read_given"]

SYMMETRY = 1e-9
LARGEST = 1e24
FARTHEST = POSSIBLE["length"][1]


@dataclass(frozen=True)
class Given:
    """Matrices on six dofs per node, with the nodes they belong to."""

    mesh: Mesh
    stiffness: csr_array
    mass: csr_array
    damping: csr_array
    active: NDArray[np.bool_]


def read_given(d: Description, folder: Folder) -> Given:
    """Read what ``matrices:`` names; named nodes become points.

    Raises
    ------
    DescriptionError, MeshError
        Missing files, sizes that differ, matrices that are not symmetric, a table that does not fit.
    """
    m = d.matrices
    assert m is not None
    if d.parts:
        raise DescriptionError("matrices take the place of a mesh: leave out parts, or bring the mesh instead")
    with headed(path=("matrices", "dofs"), file=m.dofs):
        table = _table(folder / m.dofs)
    matrices = {}
    for name in ("stiffness", "mass", "damping"):
        if (file := getattr(m, name)) is not None:
            with headed(path=("matrices", name), file=file):
                matrices[name] = read_matrix(folder / file, name)
    n = len(table)
    for name, A in matrices.items():
        if A.shape != (n, n):
            raise MeshError(f"the {name} matrix is {A.shape[0]} by {A.shape[1]}, but {m.dofs} has {n} rows")
        scale = float(abs(A.data).max(initial=0.0))
        if scale > LARGEST:
            raise MeshError(f"the {name} matrix has an entry of {scale:.3g}: beyond {LARGEST:.0e} none makes sense")
        worst = float(abs((A - A.T).data).max(initial=0.0))
        if worst > SYMMETRY * scale:
            raise MeshError(
                f"the {name} matrix is not symmetric: entries differ by {worst:.3g}, {worst / scale:.1e} of the largest"
            )
    names = list(dict.fromkeys(row[0] for row in table))
    places = np.zeros((len(names), 3))
    index = {name: i for i, name in enumerate(names)}
    for name, _, at in table:
        places[index[name]] = at
    extra = [p for p in d.structural_points if p not in index]
    for p in extra:
        index[p] = len(index)
    nodes = np.concatenate([places, np.array([d.points[p].at for p in extra]).reshape(-1, 3)])
    dofs = np.array([6 * index[name] + direction for name, direction, _ in table])
    if len(np.unique(dofs)) < n:
        raise MeshError(f"{m.dofs}: a node has one direction in two rows")
    size = 6 * len(nodes)

    def spread(A: csr_array | None) -> csr_array:
        if A is None:
            return csr_array((size, size))
        entries = A.tocoo()
        return csr_array(coo_array((entries.data, (dofs[entries.row], dofs[entries.col])), shape=(size, size)).tocsr())

    active = np.zeros(size, dtype=bool)
    active[dofs] = True
    mesh = Mesh(nodes, (), index)
    return Given(mesh, spread(matrices["stiffness"]), spread(matrices["mass"]), spread(matrices.get("damping")), active)


def _table(path: Path) -> list[tuple[str, int, tuple[float, float, float]]]:
    """Rows (node, direction, place) of the table of dofs."""
    if not path.exists():
        raise MeshError(f"{path}: there is no such file (the table of nodes and directions)")
    try:
        lines = [x.strip() for x in path.read_text(encoding="utf-8").splitlines()]
    except (OSError, UnicodeDecodeError) as err:
        raise MeshError(f"{path}: cannot be read as text ({err})") from None
    rows = []
    head = [c.strip() for c in lines[0].split(",")] if lines else []
    if head[:2] != ["node", "direction"] or (len(head) > 2 and head[2:5] != ["x_m", "y_m", "z_m"]):
        raise MeshError(
            f"{path.name}, line 1: expected the columns node,direction,x_m,y_m,z_m, got {','.join(head)}", told=True
        )
    for number, line in enumerate(lines[1:], start=2):
        if not line:
            continue
        cells = [c.strip() for c in line.split(",")]
        if len(cells) != len(head):
            raise MeshError(f"{path.name}, line {number}: {len(cells)} values for {len(head)} columns", told=True)
        if cells[1] not in DIRECTION_NAMES:
            hint = nearest_hint(cells[1], DIRECTION_NAMES, "directions")
            raise MeshError(f'{path.name}, line {number}: there is no direction "{cells[1]}". {hint}', told=True)
        try:
            at = tuple(float(c) for c in cells[2:5]) if len(head) >= 5 else (0.0, 0.0, 0.0)
        except ValueError:
            raise MeshError(f"{path.name}, line {number}: a place is not a number", told=True) from None
        if not all(abs(x) <= FARTHEST for x in at):
            raise MeshError(f"{path.name}, line {number}: a place is not within {FARTHEST:.0e} m", told=True)
        rows.append((cells[0], DIRECTION_NAMES.index(cells[1]), at))
    return rows  # type: ignore[return-value]
