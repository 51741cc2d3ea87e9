"""Connections that hold nodes by their place: another mesh has other nodes there, and holds something else."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.mesh.cells import CELLS
from holokine.mesh.select import select_nodes

if TYPE_CHECKING:
    from holokine.describe import Description
    from holokine.describe.targets import Selection
    from holokine.mesh.mesh import Mesh
    from holokine.system.build import System

__all__ = ["energy_beside", "extent", "patches", "small_patches"]

Floats = NDArray[Any]  # float64
Ints = NDArray[Any]  # int64
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


def extent(mesh: Mesh, nodes: Ints) -> float:
    """Root of the mean square of distances from the middle, in m."""
    places = mesh.nodes[nodes]
    return float(np.sqrt(((places - places.mean(axis=0)) ** 2).sum(axis=1).mean()))


def small_patches(system: System) -> dict[str, Ints]:
    """Those on shells and solids that are hardly larger than an element."""
    mesh = system.mesh
    found = patches(system.description, mesh)
    if not found:
        return {}
    size = np.zeros(len(mesh.nodes))
    for block in mesh.blocks:
        if CELLS[block.kind].family != "line":
            places = mesh.nodes[block.cells]
            reach = np.linalg.norm(places - places.mean(axis=1, keepdims=True), axis=2).max(axis=1)
            np.maximum.at(size, block.cells, np.sqrt(2.0) * reach[:, None])  # a side of a square
    return {n: nodes for n, nodes in found.items() if 0.0 <= extent(mesh, nodes) < SMALL * float(size[nodes].max())}


def energy_beside(system: System, beside: dict[str, Ints], shapes: Floats) -> Floats:
    """Strain energy in J of the elements that touch each of some sets of nodes, shape (sets, modes).

    An element that touches several counts for one of them.
    """
    label = np.full(len(system.mesh.nodes), -1)
    for number, nodes in enumerate(beside.values()):
        label[nodes] = number
    result = np.zeros((len(beside), len(shapes)))
    for block in system.elements:
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
