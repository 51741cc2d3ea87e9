"""What there is to draw: faces and lines of parts, and where connections, supports, masses and gauges are."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from holokine.describe.references import group_members
from holokine.errors import HolokineError, UnknownNameError, nearest_hint
from holokine.mesh.cells import CELLS
from holokine.mesh.surface import outer_faces

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.system.build import System

__all__ = ["VIEWS", "Drawing", "Look", "Mark", "bodies_of", "drawing_of"]

VIEWS = {"corner": (0.55, -1.0, 0.6), "front": (0.0, -1.0, 0.0), "back": (0.0, 1.0, 0.0), "left": (-1.0, 0.0, 0.0),
         "right": (1.0, 0.0, 0.0), "top": (0.0, 0.0, 1.0), "bottom": (0.0, 0.0, -1.0)}  # fmt: skip
"""From the assembly to the eye: front looks along y, left along x."""


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
        Links and joints, by kind: rigid, averaging, area, joint.
    springs : ndarray of int, shape (springs, 2)
    grounded : ndarray, shape (springs, 2, 3)
        Springs and bushings to ground: from the node in m towards ground.
    supports, masses, gauges : list of Mark
    """

    nodes: Floats
    used: NDArray[np.bool_]
    faces: dict[str, Ints]
    lines: dict[str, Ints]
    arms: dict[str, Ints]
    springs: Ints
    grounded: Floats
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


@dataclass(frozen=True)
class Look:
    """From where, and what of, an assembly is drawn.

    Attributes
    ----------
    view : tuple of float
        From the assembly to the eye.
    only : frozenset of str, or None
        Parts, masses, springs and links to draw; None for all.
    sections : bool
        Beams with their sections and axes.
    """

    view: tuple[float, float, float] = VIEWS["corner"]
    only: frozenset[str] | None = None
    sections: bool = False

    @classmethod
    def of(
        cls, system: System, view: str | Sequence[float] | None = None, only: str | Sequence[str] | None = None,
        sections: bool = False,
    ) -> Look:  # fmt: skip
        """From words: a view by name or direction, and names of members and groups.

        Raises
        ------
        HolokineError, UnknownNameError
            An unknown view, part or group; a direction of no length.
        """
        names: frozenset[str] | None = None
        d = system.description
        if only is not None:
            asked = [only] if isinstance(only, str) else list(only)
            tables = (d.parts, d.masses, d.springs, d.bushings, d.links, d.joints)
            found: list[str] = []
            for name in asked:
                if name in d.groups:
                    found += group_members(d, name)
                elif any(name in table for table in tables):
                    found.append(name)
                else:
                    known = [n for table in (*tables, d.groups) for n in table]
                    hint = nearest_hint(name, known, "members and groups")
                    raise UnknownNameError(f'there is nothing called "{name}" to draw. {hint}')
            names = frozenset(found)
        if view is None:
            return cls(only=names, sections=sections)
        if isinstance(view, str):
            if view not in VIEWS:
                raise HolokineError(f'there is no view "{view}". {nearest_hint(view, VIEWS, "views")}')
            return cls(VIEWS[view], names, sections)
        x, y, z = (float(v) for v in view)
        if not np.isfinite([x, y, z]).all() or not any((x, y, z)):
            raise HolokineError(f"a view is a direction of three numbers, not all zero, got {list(view)}")
        return cls((x, y, z), names, sections)

    @property
    def up(self) -> tuple[float, float, float]:
        """What points upwards on the picture: z, but y from straight above or below."""
        x, y, z = self.view
        return (0.0, 1.0, 0.0) if abs(z) > 20.0 * float(np.hypot(x, y)) else (0.0, 0.0, 1.0)


def drawing_of(system: System, look: Look | None = None) -> Drawing:
    """Collect what there is to draw of a system."""
    whole = _drawing_of(system)
    return whole if look is None or look.only is None else _only(system, whole, look.only)


def _only(system: System, d: Drawing, names: frozenset[str]) -> Drawing:
    """Members by name, and what connects or holds their nodes."""
    kept = np.zeros(len(d.nodes), dtype=bool)
    for part in names:
        kept[system.mesh.part_nodes.get(part, np.zeros(0, dtype=np.int64))] = True
    for body in system.masses:
        kept[body.node] |= body.name in names
    for c in system.connectors:
        if c.name in names:
            kept[list(c.nodes)] = True
    arms = {k: a[kept[a].all(axis=1)] for k, a in d.arms.items()}
    places = d.nodes[kept]
    near = [bool(len(places)) and bool((np.abs(places - g[0]).max(axis=1) < 1e-12).any()) for g in d.grounded]
    return replace(
        d, used=d.used & kept if kept.any() else d.used,
        faces={p: f for p, f in d.faces.items() if p in names}, lines={p: f for p, f in d.lines.items() if p in names},
        arms={k: a for k, a in arms.items() if len(a)}, springs=d.springs[kept[d.springs].all(axis=1)],
        grounded=d.grounded[np.array(near, dtype=bool)] if len(d.grounded) else d.grounded,
        supports=[m for m in d.supports if kept[m.node]], masses=[m for m in d.masses if kept[m.node]],
        gauges=[m for m in d.gauges if m.node >= 0 and kept[m.node]],
    )  # fmt: skip


def bodies_of(system: System, parts: Iterable[str]) -> Iterator[tuple[str, Floats, Floats, Floats]]:
    """By beam part: its sections as quadrilaterals (faces, 4, 3), a place on it and its axes y and z there."""
    for part in parts:
        for block in system.element_blocks(part):
            found = block.bodies()
            if found is not None:
                yield (part, *found)


def _drawing_of(system: System) -> Drawing:
    mesh = system.mesh
    faces: dict[str, list[Ints]] = {}
    for corners, part in outer_faces(mesh, want="pieces"):
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
    used = np.asarray(system.active.reshape(-1, 6).any(axis=1))
    reach = 0.05 * (float(np.linalg.norm(np.ptp(mesh.nodes[used], axis=0))) if used.any() else 1.0) or 0.05
    grounded = []
    for c in system.connectors:
        if len(c.nodes) == 1:
            single = np.count_nonzero(c.stiffness[:3]) == 1 and c.kind == "spring"
            away = c.axes[0] if single else np.array([0.0, 0.0, -1.0])
            away = -away if away[2] > 0.5 else away  # down where it stands upright
            grounded.append([mesh.nodes[c.nodes[0]], mesh.nodes[c.nodes[0]] + reach * away])
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
        used,
        {p: np.concatenate(f) for p, f in faces.items()},
        {p: np.concatenate(f) for p, f in lines.items()},
        {k: np.concatenate(a) for k, a in arms.items()},
        np.array(springs, dtype=np.int64).reshape(-1, 2),
        np.array(grounded, dtype=float).reshape(-1, 2, 3),
        supports,
        masses,
        gauges,
    )


def _gap(nodes: Floats, chosen: Ints, place: Floats) -> Floats:
    return np.linalg.norm(nodes[chosen] - place, axis=1)
