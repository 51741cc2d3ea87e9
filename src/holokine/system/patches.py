"""Connections that hold nodes by their place: another mesh has other nodes there, and holds something else."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.mesh.cells import CELLS
from holokine.mesh.select import select_nodes

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.describe import Description
    from holokine.describe.targets import Selection
    from holokine.mesh.mesh import Mesh
    from holokine.system.build import System

__all__ = ["beams_across", "energy_beside", "extents", "node_spacing", "patches", "small_patches"]

SMALL = 1.5  # element sizes, within which a patch has only as many nodes as the mesh happens to have there


def patches(d: Description, mesh: Mesh, reads: bool = False) -> dict[str, Ints]:
    """Nodes of everything that selects them by place, by its name in words; with `reads` also of loads and gauges."""
    chosen: dict[str, Any] = {f'link "{n}"': link.to for n, link in d.links.items() if link.kind != "area"}
    sided: dict[str, dict[str, Any]] = {"joint": d.joints, "spring": d.springs, "bushing": d.bushings}
    for kind, table in sided.items():
        for name, model in table.items():
            for number, side in enumerate(model.between, start=1):
                if not isinstance(side, str) and side.link != "area":
                    chosen[f'{kind} "{name}", side {number}'] = side.to
    chosen |= {f'support "{n}"': s.at for n, s in d.supports.items()}
    if reads:
        chosen |= {f'load "{n}"': load.at for n, load in d.loads.items() if load.at is not None}
        for name, gauge in d.gauges.items():
            at = getattr(gauge, gauge.kind)
            if gauge.kind in ("displacement", "rotation", "velocity", "acceleration") and not isinstance(
                at, str | tuple
            ):
                chosen[f'gauge "{name}"'] = at
    return {name: select_nodes(mesh, d, s, name) for name, s in chosen.items() if _by_place(s)}


def _by_place(selection: Selection) -> bool:
    return selection.points is None and any(getattr(selection, n) is not None for n in ("nearest", "box", "cylinder"))


def beams_across(mesh: Mesh) -> dict[str, dict[int, Floats]]:
    """Single nodes of shells and solids at which beams end that come from outside: by part, with the way they go.

    Not those at which a beam lies in the shell or solid.
    """
    inside = np.zeros(len(mesh.nodes), dtype=bool)
    for block in mesh.blocks:
        if CELLS[block.kind].family != "line":
            inside[block.cells] = True
    taken = inside.copy()
    for block in mesh.blocks:
        if CELLS[block.kind].family == "line":
            inside[block.cells[taken[block.cells].all(axis=1)]] = False
    found: dict[str, dict[int, Floats]] = {}
    if not taken.any():
        return found
    for part in dict.fromkeys(b.part for b in mesh.blocks if CELLS[b.kind].family == "line"):
        cells = np.concatenate([b.cells[:, :2] for b in mesh.blocks_of(part)])
        _, which, often = np.unique(cells, return_inverse=True, return_counts=True)
        ends = often[which].reshape(cells.shape) == 1
        from_outside = ends & inside[cells] & ~taken[cells[:, ::-1]]
        away = mesh.nodes[cells[:, ::-1][from_outside]] - mesh.nodes[cells[from_outside]]
        if len(away):
            found[part] = dict(zip(cells[from_outside].tolist(), away, strict=True))
    return found


def _ends(system: System) -> dict[str, Ints]:
    """Those of them that do not turn with the area under their section, by name in words."""
    found = {}
    for part, nodes in beams_across(system.mesh).items():
        single = [n for n in nodes if n not in system.spread_ends]
        if single:
            found[f'the end of the beam "{part}"'] = np.array(single)
    return found


def node_spacing(mesh: Mesh) -> Floats:
    """Side in m of the largest element of shells or solids at every node, half of it where elements have middles.

    0 where there is none, shape (nodes,).
    """
    size = np.zeros(len(mesh.nodes))
    for block in mesh.blocks:
        kind = CELLS[block.kind]
        if kind.family != "line":
            places = mesh.nodes[block.cells]
            reach = np.linalg.norm(places - places.mean(axis=1, keepdims=True), axis=2).max(axis=1)
            side = np.sqrt(2.0) * reach / kind.order  # of a square
            np.maximum.at(size, block.cells, side[:, None])
    return size


def extents(system: System) -> dict[str, float]:
    """How far apart what takes nodes by their place takes them, in m, with half an element about: by its name."""
    d, mesh = system.description, system.mesh
    size = node_spacing(mesh)
    every = {**patches(d, mesh, reads=True), **_ends(system)}
    return {n: float(np.hypot(_radius(mesh, nodes), 0.5 * size[nodes].max())) for n, nodes in every.items()}


def _radius(mesh: Mesh, nodes: Ints) -> float:
    """Largest distance from the middle, in m."""
    places = mesh.nodes[nodes]
    middle = 0.5 * (places.min(axis=0) + places.max(axis=0))
    return float(np.linalg.norm(places - middle, axis=1).max())


def small_patches(system: System) -> dict[str, Ints]:
    """Those on shells and solids that are hardly larger than an element."""
    mesh = system.mesh
    across = _ends(system)
    found = {**patches(system.description, mesh), **across}
    if not found:
        return {}
    size = node_spacing(mesh)
    return {n: k for n, k in found.items() if n in across or _radius(mesh, k) < SMALL * float(size[k].max())}


def energy_beside(system: System, beside: dict[str, Ints], shapes: Floats) -> Floats:
    """Strain energy in J of the shells and solids that touch each of some sets of nodes, shape (sets, modes).

    An element that touches several counts for one of them.
    """
    label = np.full(len(system.mesh.nodes), -1)
    for number, nodes in enumerate(beside.values()):
        label[nodes] = number
    result = np.zeros((len(beside), len(shapes)))
    for block in system.elements:
        if block.nodes.shape[1] < 3:
            continue
        start, own = 0, label[block.nodes].max(axis=1)
        if not (own >= 0).any():
            continue
        for dofs, K, _ in block.chunks():
            here = own[start : start + len(dofs)]
            start += len(dofs)
            near = np.flatnonzero(here >= 0)
            for k in range(len(shapes)) if len(near) else ():
                u = shapes[k][dofs[near]]
                each = 0.5 * np.einsum("ei,eij,ej->e", u, K[near], u, optimize=True)
                np.add.at(result[:, k], here[near], each)
    return result
