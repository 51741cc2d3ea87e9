"""What hangs: cables with nodes within them, taut or slack by their length, and what their stress holds."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from scipy.sparse import csr_array

from holokine.elements.beam import BeamElements
from holokine.elements.cable import CableElements
from holokine.state.stiffness import stress_stiffness
from holokine.system.assemble import Accumulator

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe.states import State
    from holokine.state.equilibrium import Equilibrium
    from holokine.system.build import System

__all__ = ["barely", "first_pulls", "lengthened", "mean_pulls", "same_pulls", "same_stress", "stress_of", "strung"]

BARELY = 1e-6  # of the largest motion: what a cable is longer or shorter by decides nothing
AGREED = 1e-10  # of what went in: tensions, and the stiffness that they make


def stress_of(found: Equilibrium) -> csr_array:
    """What the stress found adds to the stiffness."""
    return stress_stiffness(found.system, found.loaded)[0]


def mean_pulls(found: Equilibrium) -> dict[str, float]:
    """Mean axial force in N of every beam part along it, tension positive."""
    force: dict[str, float] = {}
    length: dict[str, float] = {}
    for number, e in enumerate(found.system.elements):
        if isinstance(e, BeamElements):
            pull = float(e.tensions(found.loaded.resultants(number, e)) @ e.length)
            force[e.part] = force.get(e.part, 0.0) + pull
            length[e.part] = length.get(e.part, 0.0) + float(e.length.sum())
    return {part: f / length[part] for part, f in force.items()}


def same_stress(before: csr_array, now: csr_array) -> bool:
    """Whether what stress adds has come to rest."""
    off, size = (float(np.abs(m.data).max(initial=0.0)) for m in (csr_array(now - before), now))
    return off <= AGREED * size


def barely(found: Equilibrium, parts: frozenset[str]) -> bool:
    """Whether cables are neither lengthened nor loose by more than rounding may decide."""
    u, d = found.loaded.displacement, found.loaded.growth
    moved = float(np.abs(u.reshape(-1, 6)[:, :3]).max(initial=0.0))
    return all(abs(lengthened(found.engaged, p, u, d)) <= BARELY * moved for p in parts)


def first_pulls(base: System, state: State) -> dict[int, Floats]:
    """By number of element set: tensions in N to begin with, of cables with nodes within them."""
    found = {}
    for number, e in enumerate(base.elements):
        if isinstance(e, CableElements) and len(e.nodes) > 1:
            pull = state.tension.get(e.part, 0.0) or 1e-3 * e.E * e.section.area
            found[number] = np.full(len(e.nodes), pull)
    return found


def same_pulls(found: Equilibrium, pulls: dict[int, Floats]) -> bool:
    """Whether the tensions found are those that went in, which are replaced; those of slack cables do not count."""
    same = True
    for number, e in enumerate(found.engaged.elements):
        if number in pulls and e.part not in found.slack and e.part not in found.engaged.pattern.slack:
            now = e.tensions(found.loaded.resultants(number, e))  # type: ignore[attr-defined]
            now = np.maximum(now, 1e-9 * max(float(np.abs(now).max()), 1e-300))
            same &= bool(np.abs(now - pulls[number]).max() <= AGREED * now.max())
            pulls[number] = now
    return same


def strung(engaged: System, pulls: dict[int, Floats]) -> csr_array | None:
    """What tensions hold of the nodes within cables, before constraints; None without such nodes."""
    total, some = Accumulator(engaged.size), False
    for number, pull in pulls.items():
        e = engaged.elements[number]
        if e.part not in engaged.pattern.slack:
            some = True
            for dofs, matrices in e.strung(pull):  # type: ignore[attr-defined]
                total.add(dofs, matrices)
    return total.result() if some else None


def lengthened(system: System, part: str, u: Floats, growth: dict[str, float]) -> float:
    """By how much more than its free length a run has become between those of its nodes that are held, in m."""
    blocks = [b for b in system.element_blocks(part) if isinstance(b, BeamElements)]
    chain = np.concatenate([*(b.nodes[:, 0] for b in blocks), blocks[-1].nodes[-1:, 1]])
    held = np.array(system.active[6 * chain[:, None] + np.arange(3)].any(axis=1))
    held[[0, -1]] = True
    chain = chain[held]
    lines = np.diff(system.mesh.nodes[chain], axis=0)
    lengths = np.linalg.norm(lines, axis=1)
    apart = np.einsum("ei,ei->e", np.diff(u.reshape(-1, 6)[chain, :3], axis=0), lines) / lengths
    return float(apart.sum() - growth.get(part, 0.0) * lengths.sum())
