"""What the present load of members adds to the stiffness: of elements, rigid bodies, springs and following pressure.

Elements add the second-order work of their stress. A rigid arm r from a node to where a force g acts (the force with
which the rest resists there) adds the second-order part of the displacement at its end, θ × (θ × r) / 2:
H = (g rᵀ + r gᵀ) / 2 - (g · r) 1 on the rotations of the node. All rotations are rotation vectors, so that what is in
balance adds up to nothing when the whole is turned.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from scipy.sparse import csr_array

from holokine.elements.connectors import Connector, arm_matrix
from holokine.system.acting import following_stiffness
from holokine.system.assemble import Accumulator
from holokine.system.build import Elements, StressBlock, System

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.system.loads import LoadField

__all__ = ["Loaded", "arm_stiffness", "stress_stiffness"]


@dataclass(frozen=True)
class Loaded:
    """Everything that an equilibrium tells of a system's inside.

    Attributes
    ----------
    displacement : ndarray, shape (dofs,)
    field : LoadField
        The loads from outside.
    growth : dict of str to float
        Free strain of parts (thermal, shortening with a minus sign).
    inner : ndarray, shape (dofs,)
        Forces in N that stand for free strain and for springs whose force is not their stiffness times elongation.
    forces : dict of str to float
        Forces of springs in N, tension positive, where not stiffness times elongation.
    local : tuple of ndarray, or None
        With updated geometry: local end forces of every set of elements.
    moved : ndarray, shape (dofs,), or None
        With updated geometry: how the system has come to where it is now, in m and rad.
    """

    displacement: Floats
    field: LoadField
    growth: dict[str, float]
    inner: Floats
    forces: dict[str, float]
    local: tuple[Floats, ...] | None = None
    moved: Floats | None = None

    def resultants(self, number: int, e: Elements) -> Floats:
        """Stress of a set of elements (by its number in the system) as far as it adds to the stiffness."""
        if self.local is not None:
            return self.local[number]
        return e.resultants(self.displacement, self.growth.get(e.part, 0.0))

    def unbalanced(self, system: System) -> Floats:
        """K u + M a - f: what constraints take, shape (dofs,)."""
        f = self.field
        return np.asarray(system.stiffness @ self.displacement + system.mass @ f.ride - f.force - self.inner)


def arm_stiffness(force: Floats, arm: Floats) -> Floats:
    """Stiffness on the rotations of a node, (..., 3, 3), of forces that resist at the ends of rigid arms."""
    outer = force[..., :, None] * arm[..., None, :]
    along = (force * arm).sum(axis=-1)[..., None, None]
    return np.asarray((outer + np.swapaxes(outer, -1, -2)) / 2.0 - along * np.eye(3))


def stress_stiffness(system: System, loaded: Loaded) -> tuple[csr_array, tuple[Elements, ...], tuple[StressBlock, ...]]:
    """What the loads of a state add to the stiffness, before constraints.

    Returns
    -------
    matrix : sparse array, shape (dofs, dofs)
    elements : tuple of Elements
        Those of the system, with their stress.
    blocks : tuple of StressBlock
        What is in no element.
    """
    u, ride = loaded.displacement, loaded.field.ride
    total = Accumulator(system.size)
    elements, blocks = [], []
    for number, e in enumerate(system.elements):
        strain = loaded.growth.get(e.part, 0.0)
        own = e.stressed(loaded.resultants(number, e))
        elements.append(own)
        for nodes, added in own.stress_blocks():
            total.add_elements(nodes, e.motions, None, added)
        given = None if loaded.local is None else loaded.local[number]
        for nodes, force, arm in e.arm_forces(u, ride, strain, given):
            turns = 6 * nodes[:, None] + np.arange(3, 6)
            blocks.append(StressBlock(e.part, turns, arm_stiffness(force, arm)))
    blocks += _bodies(system, ride) + _links(system, loaded) + _springs(system, loaded)
    blocks = [b for b in blocks if np.abs(b.matrices).max(initial=0.0) > 0.0]
    for b in blocks:
        total.add(b.dofs, b.matrices)
    return total.result(), tuple(elements), tuple(blocks)


def pressure_blocks(system: System, factors: dict[str, float]) -> list[StressBlock]:
    """What following pressures take from the stiffness."""
    found = []
    for name, factor in factors.items():
        load = system.description.loads[name]
        if load.following:
            for nodes, added in following_stiffness(system, f'load "{name}"', load):
                dofs = (6 * nodes[:, :, None] + np.arange(3)).reshape(len(nodes), -1)
                found.append(StressBlock(name, dofs, factor * added))
    return found


def _bodies(system: System, ride: Floats) -> list[StressBlock]:
    """Weights of point masses off their nodes."""
    found = []
    for body in system.masses:
        own = ride[6 * body.node : 6 * body.node + 6]
        resisted = body.mass * (own[:3] + np.cross(own[3:], body.offset))
        turns = 6 * np.array([[body.node]]) + np.arange(3, 6)
        found.append(StressBlock(body.name, turns, arm_stiffness(resisted, body.offset)[None]))
    return found


def _links(system: System, loaded: Loaded) -> list[StressBlock]:
    """Forces that rigid links and rigid joints carry."""
    if not system.carriers and not system.frames:
        return []
    multipliers = system.constraints.forces(loaded.unbalanced(system))
    found = []
    for c in system.carriers:
        push = c.dofs % 6 < 3
        force = np.zeros((len(c.dofs), 3))
        force[push, c.dofs[push] % 6] = multipliers[c.rows][push]
        arms = system.mesh.nodes[c.dofs // 6] - system.mesh.nodes[c.node]
        added = arm_stiffness(force, arms).sum(axis=0)
        found.append(StressBlock(c.name, 6 * np.array([[c.node]]) + np.arange(3, 6), added[None]))
    for name, frame in system.frames.items():
        bond = system.bonds[name]
        held = bond.weights @ multipliers[bond.rows]
        elastic = next((c for c in system.connectors if c.name == name), None)
        if elastic is not None:
            held = held + elastic.stiffness * elastic.stretches(loaded.displacement)
        found.append(_guided(system, frame, held))
    return found


def _springs(system: System, loaded: Loaded) -> list[StressBlock]:
    """Springs of finite length, and the arms of those that act elsewhere than on their line."""
    found = []
    for c in system.connectors:
        if c.name in system.frames or c.kind == "friction":
            continue
        own = c.stiffness * c.stretches(loaded.displacement)
        own[0] = loaded.forces.get(c.name, own[0])
        places = system.mesh.nodes[list(c.nodes)]
        line = places[-1] - places[0]
        length = float(np.linalg.norm(line))
        if c.kind == "spring" and len(c.nodes) == 2 and length > 0 and abs(c.axes[0] @ line) > (1 - 1e-9) * length:
            across = own[0] / length * (np.eye(3) - np.outer(line, line) / length**2)
            dofs = np.concatenate([6 * n + np.arange(3) for n in c.nodes])
            found.append(StressBlock(c.name, dofs[None], np.kron([[1.0, -1.0], [-1.0, 1.0]], across)[None]))
        else:
            found.append(_guided(system, c, own))
    return found


def _guided(system: System, c: Connector, forces: Floats) -> StressBlock:
    """A connection of six forces in axes of its own, on rigid arms from its nodes."""
    force, moment = c.axes.T @ forces[:3], c.axes.T @ forces[3:]
    n = len(c.nodes)
    K = np.zeros((3 * n, 3 * n))
    for number, node in enumerate(c.nodes):
        # the stretch takes the motion of a second end with plus, of a first with minus
        sign = float(np.sign((c.stretch[:, 6 * number : 6 * number + 3] * c.axes[[0, 1, 2, 0, 1, 2]])[:3].sum()))
        arm = c.place - system.mesh.nodes[node]
        K[3 * number : 3 * number + 3, 3 * number : 3 * number + 3] = sign * arm_stiffness(force, arm)
    if n == 2:  # moments work on the relative rotation θb - θa - θa × θb / 2
        cross = -arm_matrix(moment) / 2.0
        K[:3, 3:], K[3:, :3] = cross, cross.T
    turns = np.concatenate([6 * node + np.arange(3, 6) for node in c.nodes])
    return StressBlock(c.name, turns[None], K[None])
