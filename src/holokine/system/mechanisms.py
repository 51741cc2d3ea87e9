"""Motions without resistance inside a piece: hinges that line up, beams that spin about their own axis."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import scipy.linalg

from holokine.mesh.cells import CELLS
from holokine.system.assemble import node_dofs
from holokine.system.pieces import motion_words
from holokine.system.wide import magnitude

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.system.build import System

__all__ = ["Mechanism", "cause_of", "describe_motion", "stiffest_connection"]


@dataclass(frozen=True)
class Mechanism:
    """A free motion: the parts that take part, each with its motion in words."""

    parts: tuple[str, ...]
    words: str


def describe_motion(system: System, motion: Floats) -> Mechanism:
    """Say in words what a motion of the whole, shape (dofs,), does: per part, the nearest rigid motion."""
    whole = motion.reshape(-1, 6)
    biggest = float(_weighted(system, whole).max(initial=0.0))
    solids = _solids(system)
    still = whole.copy()
    still[:, 3:] = 0.0  # solids have no rotation: what turns at their nodes is something else
    size = {name: float(_weighted(system, (still if name in solids else whole)[nodes]).max(initial=0.0))
            for name, nodes in system.mesh.part_nodes.items()}  # fmt: skip
    size |= {b.name: float(_weighted(system, whole[[b.node]]).max()) for b in system.masses}
    uses = np.zeros(len(whole), dtype=int)
    for nodes in system.mesh.part_nodes.values():
        uses[nodes] += 1
    called = {point: node for point, node in system.mesh.points.items() if node < len(whole)}
    if max(size.values(), default=0.0) <= 1e-3 * biggest:  # nothing but nodes without mass
        size |= {point: float(_weighted(system, whole[[node]]).max()) for point, node in called.items()}
    moving = {n: a for n, a in size.items() if a > 1e-3 * biggest}
    texts = []
    for name in sorted(moving, key=lambda n: -moving[n])[:4]:
        field = still if name in solids else whole
        nodes = system.mesh.part_nodes.get(name, np.zeros(0, dtype=np.int64))
        if len(nodes) == 0:
            own = [b.node for b in system.masses if b.name == name] or [called[name]]
            nodes = np.array(own)
        elif (uses[nodes] == 1).any():  # a released end moves apart from the node that it shares
            nodes = nodes[uses[nodes] == 1]
        places = system.mesh.nodes[nodes]
        centre = places.mean(axis=0)
        radius = float(np.linalg.norm(places - centre, axis=1).max(initial=0.0)) or 1.0
        R = system.rigid_motions(centre).reshape(6, -1, 6)[:, nodes]
        weight = np.array([1, 1, 1, radius, radius, radius])
        A = (R * weight).reshape(6, -1).T
        fit, *_ = scipy.linalg.lstsq(A, (field[nodes] * weight).ravel())
        rest = np.linalg.norm(A @ fit - (field[nodes] * weight).ravel())
        total = np.linalg.norm((field[nodes] * weight).ravel())
        fit[np.abs(fit * weight) < 1e-6 * np.abs(fit * weight).max()] = 0.0
        word = motion_words(fit[None], centre)[0] if rest < 0.05 * total else "a deformation"
        texts.append(f'"{name}": {word}')
    if len(moving) > 4:
        texts.append(f"and {len(moving) - 4} more")
    return Mechanism(tuple(moving), "; ".join(texts))


def cause_of(system: System, motions: Floats) -> str:
    """Why motions of the whole, shape (dofs, dofs), meet no resistance, and the cure; empty where it is not seen.

    Nodes of solids hold no rotation: what is attached to one of them alone turns freely there.
    """
    weighted = _weighted(system, np.abs(motions).max(axis=0).reshape(-1, 6))
    solid, stiff = np.zeros(len(weighted), dtype=bool), np.zeros(len(weighted), dtype=bool)
    for block in system.mesh.blocks:
        family = CELLS[block.kind].family
        if family == "solid":
            solid[block.cells] = True
        elif family == "surface":
            stiff[block.cells] = True
    turns = weighted[:, 3:].max(axis=1) > 1e-2 * weighted.max(initial=0.0)
    turning = np.flatnonzero(solid & ~stiff & turns)
    if len(turning) == 0:
        return ""
    node = int(turning[0])
    solids = _solids(system)
    parts = [p for p, nodes in system.mesh.part_nodes.items() if node in nodes]
    names = [c.name for c in system.connectors if node in c.nodes]
    names += [b.name for b in system.bonds.values() if node in b.nodes]
    names += [m.name for m in system.masses if m.node == node]
    names += [p for p in parts if p not in solids]
    on = next((p for p in parts if p in solids), parts[0])
    x, y, z = 1e3 * system.mesh.nodes[node]
    more = f", and others on {len(turning) - 1} more" if len(turning) > 1 else ""
    what = " and ".join(f'"{n}"' for n in names[:2]) or "what is attached"
    return (
        f'nodes of solids hold no rotation, and {what} turns freely on the node of "{on}" at [{x:.4g}, {y:.4g}, '
        f"{z:.4g}] mm{more}: spread it over a patch of nodes with an averaging or a rigid link"
    )


def stiffest_connection(system: System, motion: Floats) -> tuple[str, float]:
    """The spring, bushing or joint of which most numbers cancel in a motion of the whole, (dofs,), and its share."""
    size = np.abs(motion)
    total = float(size @ magnitude(system.stiffness, size))
    if total < 1e-9 * float(np.abs(system.stiffness.diagonal()).max(initial=0.0)) * float(size @ size):
        return "", 0.0  # nothing stiff takes part
    most, name = 0.0, ""
    for c in system.connectors:
        if not c.stiffness.any():
            continue
        own = size[node_dofs(np.array(c.nodes))]
        held = float(own @ np.abs(c.matrices()[0]) @ own)
        if held > most:
            most, name = held, c.name
    return name, most / total if total > 0.0 else 0.0


def _solids(system: System) -> set[str]:
    """Parts that are made of solids only."""
    families: dict[str, set[str]] = {}
    for block in system.mesh.blocks:
        families.setdefault(block.part, set()).add(CELLS[block.kind].family)
    return {part for part, found in families.items() if found == {"solid"}}


def _weighted(system: System, field: Floats) -> Floats:
    """Sizes of dofs, rotations times a tenth of the assembly."""
    scale = max(float(np.linalg.norm(np.ptp(system.mesh.nodes, axis=0))), 1e-9) * 0.1
    return np.asarray(np.abs(field) * np.array([1, 1, 1, scale, scale, scale]))
