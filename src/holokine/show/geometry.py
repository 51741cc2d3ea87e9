"""What there is to draw: faces and lines of parts, and where connections, supports, masses and gauges are."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from holokine.mesh.cells import CELLS
from holokine.mesh.surface import outer_faces
from holokine.system.build import System

__all__ = ["Drawing", "Mark", "drawing_of"]

Floats = NDArray[Any]  # float64
Ints = NDArray[Any]  # int64


@dataclass(frozen=True)
class Mark:
    """Something shown at a place: its label, node (-1 when it has none) and place in m."""

    label: str
    node: int
    place: Floats


@dataclass(frozen=True)
class Drawing:
    """Geometry of an assembly for pictures, node numbers into `nodes` (m).

    Attributes
    ----------
    faces : dict of str to ndarray of int, shape (faces, 4)
        By part; triangles repeat their last corner.
    lines : dict of str to ndarray of int, shape (lines, 2)
        By part.
    arms : dict of str to ndarray of int, shape (arms, 2)
        Links and joints, by kind: rigid, averaging, joint.
    springs : ndarray of int, shape (springs, 2)
    supports, masses, gauges : list of Mark
    """

    nodes: Floats
    used: NDArray[np.bool_]
    faces: dict[str, Ints]
    lines: dict[str, Ints]
    arms: dict[str, Ints]
    springs: Ints
    supports: list[Mark]
    masses: list[Mark]
    gauges: list[Mark]

    @property
    def parts(self) -> list[str]:
        """Parts with something to draw."""
        return list(dict.fromkeys([*self.lines, *self.faces]))

    @property
    def diagonal(self) -> float:
        """Diagonal of the box around all nodes in use, in m."""
        return float(np.linalg.norm(np.ptp(self.nodes[self.used], axis=0))) or 1.0


def drawing_of(system: System) -> Drawing:
    """Collect what there is to draw of a system."""
    mesh = system.mesh
    faces: dict[str, list[Ints]] = {}
    for corners, part in outer_faces(mesh):
        quads = corners if corners.shape[1] == 4 else corners[:, [0, 1, 2, 2]]
        faces.setdefault(part, []).append(quads)
    lines: dict[str, list[Ints]] = {}
    for block in mesh.blocks:
        if CELLS[block.kind].family == "line":
            lines.setdefault(block.part, []).append(block.cells)
    arms: dict[str, list[Ints]] = {}
    for bond in system.bonds.values():
        if bond.kind == "tie":
            continue
        hub = (
            bond.nodes[-1] if bond.kind != "joint" else bond.nodes[np.argmin(_gap(mesh.nodes, bond.nodes, bond.place))]
        )
        spokes = bond.nodes[bond.nodes != hub]
        arms.setdefault(bond.kind, []).append(np.column_stack([np.full(len(spokes), hub), spokes]))
    springs = [list(c.nodes) for c in system.connectors if len(c.nodes) == 2]
    supports = [Mark(s.name, int(n), mesh.nodes[n]) for s in system.supports.values() for n in s.nodes]
    masses = [Mark(f"{b.name} ({b.mass:.4g} kg)", b.node, mesh.nodes[b.node]) for b in system.masses]
    gauges = []
    for name, gauge in system.description.gauges.items():
        if gauge.source in mesh.points:
            node = mesh.points[gauge.source]
            gauges.append(Mark(name, node, mesh.nodes[node]))
        elif gauge.source in system.bonds:
            gauges.append(Mark(name, -1, system.bonds[gauge.source].place))
        elif gauge.source in system.supports:
            gauges.append(Mark(name, -1, mesh.nodes[system.supports[gauge.source].nodes].mean(axis=0)))
    return Drawing(
        mesh.nodes,
        np.asarray(system.active.reshape(-1, 6).any(axis=1)),
        {p: np.concatenate(f) for p, f in faces.items()},
        {p: np.concatenate(f) for p, f in lines.items()},
        {k: np.concatenate(a) for k, a in arms.items()},
        np.array(springs, dtype=np.int64).reshape(-1, 2),
        supports,
        masses,
        gauges,
    )


def _gap(nodes: Floats, chosen: Ints, place: Floats) -> Floats:
    return np.linalg.norm(nodes[chosen] - place, axis=1)
