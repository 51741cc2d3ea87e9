"""Meshing a description: part by part, then merging nodes that lie at the same place."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from holokine.describe.files import Folder
from holokine.errors import MeshError, entry, headed
from holokine.mesh.builders import mesh_geometry, normal_axes, outlined
from holokine.mesh.cells import CELLS
from holokine.mesh.files import FileMesh, pick, read_mesh
from holokine.mesh.mesh import Block, Mesh
from holokine.mesh.outlines import Sheet
from holokine.mesh.quality import refuse_bad
from holokine.mesh.tree import nearest_tree
from holokine.sizes import afford_nodes
from holokine.units import unit_factor

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.describe import Description
    from holokine.describe.parts import Beam, Cable, MeshFile, Ring

__all__ = ["build_mesh"]

DEFAULT_DIVISIONS = 8
RELATIVE_MERGE_TOLERANCE = 1e-6


def build_mesh(description: Description, folder: Folder | None = None) -> Mesh:
    """Mesh all parts of a description and merge coincident nodes.

    Named points that carry something keep a node each. Nodes of parts that lie within the merge tolerance of one
    another (1e-6 of the diagonal of the whole, unless the description says otherwise) become one; a named point that
    lies on them joins them unless it is kept `apart`.

    Raises
    ------
    MeshError
        A beam of zero length, a node that two named points claim, mesh files and elements that cannot be used.
    """
    folder = folder or Folder()
    named = description.structural_points
    points = {name: i for i, name in enumerate(named)}
    pieces: list[Floats] = [np.array([p.at for p in named.values()], dtype=float).reshape(-1, 3)]
    count = len(named)
    blocks: list[Block] = []
    frozen = [np.array([p.apart for p in named.values()], dtype=bool)]
    sets: dict[str, Ints] = {}
    notes: list[str] = []
    files: dict[tuple[str, float], FileMesh] = {}
    later: list[tuple[int, str]] = []
    for name, part in description.parts.items():
        if part.run is not None:
            with entry("part", name):
                nodes, block = _straight_run(name, part.run, pieces[0], points, count)
            own = [block]
        elif part.ring is not None:
            with entry("part", name):
                nodes, block = _ring(name, part.ring, count)
            own = [block]
        elif part.mesh is not None:
            with entry("part", name):
                nodes, own, named_sets = _from_file(name, part.mesh, folder, files, count, notes)
            for key, members in named_sets.items():
                sets[key] = np.union1d(sets[key], members) if key in sets else members
        elif part.plate is not None and part.plate.outline is not None:
            later.append((len(blocks), name))
            continue
        else:
            nodes, found = mesh_geometry(name, part)
            own = [Block(name, kind, cells + count) for cells, kind in found]
        blocks += own
        pieces.append(nodes)
        frozen.append(np.full(len(nodes), not part.merge))
        count += len(nodes)
    if later:
        _add_outlined(description, later, pieces, blocks, frozen)
    mesh = _merge(
        np.concatenate(pieces), blocks, points, np.concatenate(frozen), description.merge_tolerance, sets, tuple(notes)
    )
    notes += refuse_bad(mesh)
    return replace(mesh, notes=tuple(notes), merged_pairs=_shared(mesh), part_nodes={})


def _add_outlined(
    description: Description,
    later: list[tuple[int, str]],
    pieces: list[Floats],
    blocks: list[Block],
    frozen: list[NDArray[np.bool_]],
) -> None:
    """Mesh plates of any outline, with the nodes of all that has a mesh already, and put them at their place."""
    places = np.concatenate(pieces)
    merges = ~np.concatenate(frozen)
    plates = {name: description.parts[name].plate for _, name in later}
    sheets = []
    for name, plate in plates.items():
        assert plate is not None
        with entry("part", name):
            sheets.append(Sheet.of(name, plate))
    ends = [s.space(np.array([c.start for c in s.curves])) for s in sheets]
    diagonal = float(np.linalg.norm(np.ptp(np.concatenate([places, *ends]), axis=0)))
    reach = description.merge_tolerance
    tiny = reach if reach is not None else RELATIVE_MERGE_TOLERANCE * max(diagonal, 1e-9)
    apart = {n for n, p in description.parts.items() if not p.merge}
    for sheet in sheets:
        if sheet.name not in apart:
            for nodes, edges in _meeting(blocks, pieces[0], apart, sheet, places, tiny):
                good = merges[nodes]
                number = np.cumsum(good) - 1
                sheet.take(places[nodes[good]], number[edges[good[edges].all(axis=1)]], tiny)
    found = outlined([s for s in sheets if s.name not in apart], description.parts, tiny)
    for sheet in sheets:
        if sheet.name in apart:
            found |= outlined([sheet], description.parts, tiny)
    count = len(places)
    for shift, (block_at, name) in enumerate(later):
        nodes, cells = found[name]
        extra = sum(len(found[n][1]) for _, n in later[:shift])
        blocks[block_at + extra : block_at + extra] = [Block(name, kind, c + count) for c, kind in cells]
        pieces.append(nodes)
        frozen.append(np.full(len(nodes), name in apart))
        count += len(nodes)


def _meeting(
    blocks: list[Block], points: Floats, apart: set[str], sheet: Sheet, places: Floats, tiny: float
) -> Iterator[tuple[Ints, Ints]]:
    """Nodes, and edges between them by their place in the list, of what a sheet may take nodes from."""
    yield np.arange(len(points)), np.zeros((0, 2), dtype=np.int64)
    for block in blocks:
        kind = CELLS[block.kind]
        if block.part in apart or kind.family == "solid":
            continue
        _, height = sheet.flat(places[block.cells.ravel()])
        level = (np.abs(height) <= tiny).reshape(block.cells.shape)
        if not level.any():
            continue
        flat = level.all(axis=1) & (kind.family == "surface")
        edges = [block.cells[:, list(e)] for e in kind.edges]
        every = np.concatenate(edges)
        within = np.tile(flat, len(edges))
        if flat.any():  # of what lies in the plane itself, only the rim can be met
            _, first, counts = np.unique(np.sort(every, axis=1), axis=0, return_index=True, return_counts=True)
            alone = np.zeros(len(every), dtype=bool)
            alone[first[counts == 1]] = True
            every = every[~within | alone]
        nodes, index = np.unique(every, return_inverse=True)
        yield nodes, index.reshape(-1, 2)


def _shared(mesh: Mesh) -> dict[tuple[str, str], int]:
    """How many nodes any two parts share."""
    holders: list[list[str]] = [[] for _ in range(len(mesh.nodes))]
    for part, nodes in mesh.part_nodes.items():
        for n in nodes:
            holders[n].append(part)
    result: dict[tuple[str, str], int] = {}
    for parts in holders:
        for i, a in enumerate(parts):
            for b in parts[i + 1 :]:
                result[a, b] = result.get((a, b), 0) + 1
    return result


def _ring(name: str, ring: Ring, first_new: int) -> tuple[Floats, Block]:
    afford_nodes(ring.divisions)
    frame = normal_axes(ring.axis, None)
    angle = 2.0 * np.pi * np.arange(ring.divisions) / ring.divisions
    local = ring.radius * np.column_stack([np.cos(angle), np.sin(angle), np.zeros(ring.divisions)])
    number = first_new + np.arange(ring.divisions)
    cells = np.column_stack([number, np.roll(number, -1)])
    return np.array(ring.centre) + local @ frame, Block(name, "beam", cells, np.zeros((len(cells), 2, 3)))


def _from_file(
    name: str,
    shape: MeshFile,
    folder: Folder,
    files: dict[tuple[str, float], FileMesh],
    first_new: int,
    notes: list[str],
) -> tuple[Floats, list[Block], dict[str, Ints]]:
    where = f'part "{name}"'
    path = folder / shape.file
    factor = unit_factor(shape.unit, "length")
    if (str(path), factor) not in files:
        with headed(path=("parts", name, "mesh", "file"), file=path):
            files[str(path), factor] = read_mesh(path, factor)
    file = files[str(path), factor]
    chosen = pick(file, shape.only, where)
    families = {CELLS[kind].family for kind, _, _ in chosen}
    if "surface" in families and shape.shell is None:
        raise MeshError(f"{where}: the file has shells; give shell: {{thickness: ...}} beside it")
    groups = _line_groups(file, shape, where)
    if "line" not in families and (shape.section is not None or groups):
        key = "section" if shape.section is not None else "beams"
        raise MeshError(f"{where}: {key} has no effect: what is taken of the file has no lines")
    used = np.unique(np.concatenate([cells.ravel() for _, cells, _ in chosen]))
    renumber = np.full(len(file.nodes), -1)
    renumber[used] = first_new + np.arange(len(used))
    blocks = []
    for kind, cells, numbers in chosen:
        own = renumber[cells]
        if CELLS[kind].family == "line":
            blocks += _lines(name, shape, own, numbers, groups, where)
            continue
        if kind in ("wedge6", "wedge15"):
            own = _wedges_upright(file.nodes, cells, own)
        blocks.append(Block(name, kind, own))
    if shape.only is None and len(used) < len(file.nodes):
        notes.append(f"{where}: {len(file.nodes) - len(used)} nodes of the file are used by nothing and left out")
    named: dict[str, Ints] = {}
    for key, members in file.node_sets.items():
        inside = renumber[members]
        named[key] = inside[inside >= 0]
    for key, per_block in file.cell_sets.items():
        touched = [renumber[cells[c]].ravel() for (_, cells), c in zip(file.blocks, per_block, strict=True) if len(c)]
        inside = np.unique(np.concatenate(touched)) if touched else np.zeros(0, dtype=np.int64)
        named[key] = np.union1d(named.get(key, np.zeros(0, dtype=np.int64)), inside[inside >= 0])
    return file.nodes[used], blocks, {k: v for k, v in named.items() if len(v)}


def _line_groups(file: FileMesh, shape: MeshFile, where: str) -> dict[str, Ints]:
    """Numbers of the lines of each set that `beams` names, over all cells of the file."""
    found: dict[str, Ints] = {}
    for name, beams in shape.beams.items():
        if beams.section is None and shape.section is None:
            raise MeshError(f'{where}: the beams "{name}" have no section; give them one, or section: beside the file')
        chosen = [c for kind, _, c in pick(file, name, where) if CELLS[kind].family == "line"]
        if not chosen:
            raise MeshError(f'{where}: the set "{name}" has no lines')
        found[name] = np.concatenate(chosen)
    return found


def _lines(name: str, shape: MeshFile, own: Ints, numbers: Ints, groups: dict[str, Ints], where: str) -> list[Block]:
    """Blocks of lines, those of each set by themselves."""
    left = np.ones(len(own), dtype=bool)
    blocks = []
    for key, members in groups.items():
        mine = np.isin(numbers, members)
        twice = mine & ~left
        if twice.any():
            raise MeshError(f'{where}: {int(twice.sum())} lines of the set "{key}" are in another set of beams as well')
        left &= ~mine
        if mine.any():
            blocks.append(Block(name, "beam", own[mine], np.zeros((int(mine.sum()), 2, 3)), key))
    if left.any():
        if shape.section is None:
            raise MeshError(
                f"{where}: {int(left.sum())} lines of the file are beams without a section; give section: for them (or "
                "beams: by set), or only: a set without them"
            )
        blocks.append(Block(name, "beam", own[left], np.zeros((int(left.sum()), 2, 3))))
    return blocks


def _wedges_upright(nodes: Floats, cells: Ints, own: Ints) -> Ints:
    """Formats differ in which way a wedge's first triangle turns: all one way or the other is fine."""
    X = nodes[cells]
    turn = np.einsum("ei,ei->e", np.cross(X[:, 1] - X[:, 0], X[:, 2] - X[:, 0]), X[:, 3] - X[:, 0])
    mirrored = [0, 2, 1, 3, 5, 4, 8, 7, 6, 11, 10, 9, 12, 14, 13][: own.shape[1]]
    return own[:, mirrored] if (turn < 0).all() else own


def _straight_run(
    name: str, beam: Beam | Cable, places: Floats, points: dict[str, int], first_new: int
) -> tuple[Floats, Block]:
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
                f'part "{name}": the run from "{beam.through[span]}" to "{beam.through[span + 1]}" '
                "has no length: the two points are at the same place"
            )
        steps = _divisions(beam, span, length)
        afford_nodes(len(nodes) + steps)
        inner = a + np.arange(1, steps)[:, None] / steps * (b - a)
        chain += list(range(first_new + len(nodes), first_new + len(nodes) + steps - 1))
        nodes += list(inner)
        chain.append(ids[span + 1])
    cells = np.column_stack([chain[:-1], chain[1:]]).astype(np.int64)
    arms = np.zeros((len(cells), 2, 3))
    arms[0, 0] = beam.offset.start
    arms[-1, 1] = beam.offset.end
    return np.array(nodes, dtype=float).reshape(-1, 3), Block(name, "beam", cells, arms)


def _divisions(beam: Beam | Cable, span: int, length: float) -> int:
    if beam.size is not None:
        afford_nodes(length / beam.size)
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
    sets: dict[str, Ints],
    notes: tuple[str, ...],
) -> Mesh:
    if len(nodes) == 0:
        return Mesh(nodes, tuple(blocks), points)
    afford_nodes(len(nodes))
    if not np.isfinite(nodes).all():
        raise MeshError("a node has a coordinate that is not a finite number")
    diagonal = float(np.linalg.norm(np.ptp(nodes, axis=0)))
    reach = tolerance if tolerance is not None else RELATIVE_MERGE_TOLERANCE * max(diagonal, 1e-9)
    free = np.flatnonzero(~frozen)
    pairs = free[nearest_tree(nodes[free]).query_pairs(reach, output_type="ndarray")]
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
        ordered = np.sort(cells, axis=1)
        if (ordered[:, 1:] == ordered[:, :-1]).any():
            raise MeshError(
                f'part "{block.part}": an element is shorter than the merge tolerance of {reach:.3g} m',
                path=("parts", block.part),
            )
        renumbered.append(replace(block, cells=cells))
    return Mesh(
        nodes[keep],
        tuple(renumbered),
        {name: int(number[i]) for name, i in points.items()},
        merge_tolerance=reach,
        merged=len(nodes) - len(keep),
        coincident=coincident,
        sets={name: np.unique(number[members]) for name, members in sets.items()},
        notes=notes,
    )
