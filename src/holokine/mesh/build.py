"""Meshing a description: part by part, then merging nodes that lie at the same place."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from holokine.describe import Description
from holokine.describe.parts import Beam
from holokine.errors import MeshError
from holokine.mesh.mesh import Block, Mesh

__all__ = ["build_mesh"]

Floats = NDArray[np.float64]
DEFAULT_DIVISIONS = 8
RELATIVE_MERGE_TOLERANCE = 1e-6


def build_mesh(description: Description) -> Mesh:
    """Mesh all parts of a description and merge coincident nodes.

    Named points keep a node each. Nodes of parts that lie within the merge tolerance of one another (1e-6 of
    the diagonal of the whole, unless the description says otherwise) become one; a named point that lies on
    them joins them unless it is kept `apart`.

    Raises
    ------
    MeshError
        A beam of zero length, or a node that two named points claim.
    """
    names = list(description.points)
    points = {name: i for i, name in enumerate(names)}
    pieces: list[Floats] = [np.array([p.at for p in description.points.values()], dtype=float).reshape(-1, 3)]
    count = len(names)
    blocks: list[Block] = []
    fixed = np.zeros(len(names), dtype=bool)
    fixed[:] = [p.apart for p in description.points.values()]
    frozen = [fixed]
    for name, part in description.parts.items():
        if part.beam is not None:
            nodes, block = _beam_run(name, part.beam, pieces[0], points, count)
        blocks.append(block)
        pieces.append(nodes)
        frozen.append(np.full(len(nodes), not part.merge))
        count += len(nodes)
    nodes = np.concatenate(pieces) if count else np.zeros((0, 3))
    return _merge(nodes, blocks, points, np.concatenate(frozen), description.merge_tolerance)


def _beam_run(name: str, beam: Beam, places: Floats, points: dict[str, int], first_new: int) -> tuple[Floats, Block]:
    ids = [points[p] for p in beam.through]
    ends = places[ids].copy()
    ends[0] += beam.offset.start
    ends[-1] += beam.offset.end
    chain = [ids[0]]
    nodes: list[Floats] = []
    for span in range(len(ids) - 1):
        a, b = ends[span], ends[span + 1]
        length = float(np.linalg.norm(b - a))
        if length == 0.0:
            raise MeshError(
                f'part "{name}": the beam from "{beam.through[span]}" to "{beam.through[span + 1]}" '
                "has no length: the two points are at the same place"
            )
        steps = _divisions(beam, span, length)
        inner = a + np.arange(1, steps)[:, None] / steps * (b - a)
        chain += list(range(first_new + len(nodes), first_new + len(nodes) + steps - 1))
        nodes += list(inner)
        chain.append(ids[span + 1])
    cells = np.column_stack([chain[:-1], chain[1:]]).astype(np.int64)
    arms = np.zeros((len(cells), 2, 3))
    arms[0, 0] = beam.offset.start
    arms[-1, 1] = beam.offset.end
    return np.array(nodes, dtype=float).reshape(-1, 3), Block(name, "beam", cells, arms)


def _divisions(beam: Beam, span: int, length: float) -> int:
    if beam.size is not None:
        return max(1, int(np.ceil(length / beam.size - 1e-9)))
    if beam.divisions is None:
        return DEFAULT_DIVISIONS
    return beam.divisions if isinstance(beam.divisions, int) else beam.divisions[span]


def _merge(
    nodes: Floats,
    blocks: list[Block],
    points: dict[str, int],
    frozen: NDArray[np.bool_],
    tolerance: float | None,
) -> Mesh:
    if len(nodes) == 0:
        return Mesh(nodes, tuple(blocks), points)
    if not np.isfinite(nodes).all():
        raise MeshError("a node has a coordinate that is not a finite number")
    diagonal = float(np.linalg.norm(np.ptp(nodes, axis=0)))
    reach = tolerance if tolerance is not None else RELATIVE_MERGE_TOLERANCE * max(diagonal, 1e-9)
    free = np.flatnonzero(~frozen)
    pairs = free[cKDTree(nodes[free]).query_pairs(reach, output_type="ndarray")]
    point_count = len(points)
    named = list(points)
    both_points = (pairs < point_count).all(axis=1) if len(pairs) else np.zeros(0, dtype=bool)
    coincident = tuple((named[i], named[j]) for i, j in pairs[both_points])
    joined = pairs[~both_points]
    graph = coo_array((np.ones(len(joined)), (joined[:, 0], joined[:, 1])), shape=(len(nodes),) * 2)
    _, cluster = connected_components(graph, directed=False)
    if coincident:
        for a, b in coincident:
            if cluster[points[a]] == cluster[points[b]]:
                raise MeshError(
                    f'the points "{a}" and "{b}" are at the same place as a node of a part, and both claim it: '
                    'write "apart: true" at the point that is to stay a node of its own'
                )
    _, first = np.unique(cluster, return_index=True)
    keep = np.sort(first)
    number = np.empty(len(nodes), dtype=np.int64)
    rank = np.empty(cluster.max() + 1, dtype=np.int64)
    rank[cluster[keep]] = np.arange(len(keep))
    number[:] = rank[cluster]
    renumbered = []
    for block in blocks:
        cells = number[block.cells]
        if block.kind == "beam" and (cells[:, 0] == cells[:, 1]).any():
            raise MeshError(f'part "{block.part}": an element is shorter than the merge tolerance of {reach:.3g} m')
        renumbered.append(Block(block.part, block.kind, cells, block.arms))
    return Mesh(
        nodes[keep],
        tuple(renumbered),
        {name: int(number[i]) for name, i in points.items()},
        merge_tolerance=reach,
        merged=len(nodes) - len(keep),
        coincident=coincident,
    )
