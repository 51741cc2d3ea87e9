"""Motions without resistance inside a piece: hinges that line up, beams that spin about their own axis."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
import scipy.linalg
from numpy.typing import NDArray

from holokine.system.build import System
from holokine.system.pieces import motion_words

__all__ = ["Mechanism", "describe_motion"]

Floats = NDArray[Any]  # float64


@dataclass(frozen=True)
class Mechanism:
    """A free motion: the parts that take part, each with its motion in words."""

    parts: tuple[str, ...]
    words: str


def describe_motion(system: System, motion: Floats) -> Mechanism:
    """Say in words what a motion of the whole, shape (dofs,), does: per part, the nearest rigid motion."""
    field = motion.reshape(-1, 6)
    size = _amplitude(system, field)
    uses = np.zeros(len(field), dtype=int)
    for nodes in system.mesh.part_nodes.values():
        uses[nodes] += 1
    biggest = max(size.values(), default=0.0)
    moving = {n: a for n, a in size.items() if a > 1e-3 * biggest}
    texts = []
    for name in sorted(moving, key=lambda n: -moving[n])[:4]:
        nodes = system.mesh.part_nodes.get(name, np.zeros(0, dtype=np.int64))
        if len(nodes) == 0:
            nodes = np.array([b.node for b in system.masses if b.name == name])
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


def _amplitude(system: System, field: Floats) -> dict[str, float]:
    scale = max(float(np.linalg.norm(np.ptp(system.mesh.nodes, axis=0))), 1e-9) * 0.1
    weighted = np.abs(field) * np.array([1, 1, 1, scale, scale, scale])
    result = {part: float(weighted[nodes].max(initial=0.0)) for part, nodes in system.mesh.part_nodes.items()}
    result.update({b.name: float(weighted[b.node].max()) for b in system.masses})
    return result
