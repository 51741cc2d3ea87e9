"""Where a state ends to mean anything: turns beyond what the given geometry tells, and what gives way in buckling."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.elements.beam import BeamElements
from holokine.errors import DescriptionError, SolverError
from holokine.state.rest import factor_at_rest
from holokine.system.mechanisms import describe_motion
from holokine.system.wide import explicit, magnitude

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe.states import State
    from holokine.state.about import AtRest
    from holokine.state.equilibrium import Equilibrium
    from holokine.system.build import System

__all__ = [
    "Turned", "gives_way", "largest_turn", "negative_motion", "pressed_springs", "steps_follow", "without_stiffness",
]  # fmt: skip

ROUNDING = 1e-11  # of |Z| |K| |Z|
LISTED = 600  # unknowns up to which the motion of negative stiffness is found dense


@dataclass(frozen=True)
class Turned:
    """The largest turn of a state: angle in rad, and what turns."""

    angle: float
    what: str


def largest_turn(found: Equilibrium, springs: bool = True) -> Turned:
    """Of nodes, and of the lines between the ends of beams and cables, and of `springs` (a shift over a length)."""
    system, u = found.system, found.loaded.displacement.reshape(-1, 6)
    turns = np.abs(u[:, 3:]).max(axis=1, initial=0.0)
    node = int(turns.argmax()) if len(turns) else 0
    best = Turned(float(turns.max(initial=0.0)), "")
    if best.angle > 0.0:
        called = {n: point for point, n in system.mesh.points.items()}
        x, y, z = 1e3 * system.mesh.nodes[node]
        best = Turned(best.angle, called.get(node, f"the node at [{x:.4g}, {y:.4g}, {z:.4g}] mm"))
    for e in system.elements:
        if isinstance(e, BeamElements) and e.part not in found.slack:
            own = (e.to_local @ u.ravel()[e.dofs][:, :, None])[:, :, 0]
            across = np.linalg.norm(own[:, 7:9] - own[:, 1:3], axis=1) / e.length
            if across.max() > best.angle:
                best = Turned(float(across.max()), e.part)
    for c in system.connectors if springs else ():
        line = _line(system, c)
        if line is not None:
            a, b = c.nodes
            apart = u[b, :3] - u[a, :3]
            length = float(np.linalg.norm(line))
            angle = float(np.linalg.norm(np.cross(apart, line))) / length**2
            if angle > best.angle:
                best = Turned(angle, c.name)
    return best


def _line(system: System, c: Any) -> Floats | None:
    """From the first node of a spring that acts along its own line to the second; None of all others."""
    if c.kind != "spring" or len(c.nodes) != 2:
        return None
    line = np.asarray(system.mesh.nodes[c.nodes[1]] - system.mesh.nodes[c.nodes[0]])
    length = float(np.linalg.norm(line))
    return line if length > 0.0 and abs(c.axes[0] @ line) > (1 - 1e-9) * length else None


def pressed_springs(found: Equilibrium) -> list[tuple[str, float, float]]:
    """Springs along their own line that are pressed: name, force in N (below 0), length in m; most pressed first."""
    system, loaded = found.system, found.loaded
    rows = []
    for c in system.connectors:
        line = _line(system, c)
        if line is not None:
            force = loaded.forces.get(c.name, float(c.stiffness[0]) * float(c.stretches(loaded.displacement)[0]))
            if force < 0.0:
                rows.append((c.name, force, float(np.linalg.norm(line))))
    return sorted(rows, key=lambda r: r[1])


def gives_way(state: AtRest, shape: Floats) -> str:
    """What buckles in a shape of the whole, (dofs,): the member whose load takes most, and how it moves, in words."""
    taken: dict[str, float] = {}
    for e in state.system.elements:
        for nodes, added in e.stress_blocks():
            dofs = (nodes[:, :, None] * 6 + np.arange(e.motions)).reshape(len(nodes), -1)
            own = shape[dofs]
            taken[e.part] = taken.get(e.part, 0.0) + float(np.einsum("ei,eij,ej->", own, added, own))
    for block in state.system.stressed:
        own = shape[block.dofs]
        taken[block.name] = taken.get(block.name, 0.0) + float(np.einsum("ei,eij,ej->", own, block.matrices, own))
    motion = describe_motion(state.elastic, shape).words or "of a point"
    name = min(taken, key=lambda n: taken[n], default="")
    if not name or taken[name] >= 0.0:
        return f"what moves: {motion}"
    for spring, force, length in pressed_springs(state.equilibrium):
        if spring == name:
            return (
                f'the spring "{name}" is pressed along its line with {-force:.4g} N over {1e3 * length:.4g} mm, which '
                f"pushes its ends sideways with {-force / length:.4g} N/m: give it an axis if it is guided (axis: "
                f"x, y, z or a vector), or hold its ends across. What moves: {motion}"
            )
    return f'the load in "{name}" takes most of it; what moves: {motion}'


def without_stiffness(state: AtRest) -> int:
    """How many free motions of the state have no more stiffness than rounding makes: neither held nor pushed away."""
    free = state.equilibrium.drifts
    if not len(free):
        return 0
    K = state.system.stiffness
    scale = np.sqrt(np.einsum("kd,kd->k", free, free))
    Z = free / np.where(scale > 0.0, scale, 1.0)[:, None]
    own = Z @ np.asarray(K @ Z.T)
    noise = ROUNDING * float(np.einsum("kd,kd->k", np.abs(Z), magnitude(K, Z.T).T).max())
    return int((np.abs(np.linalg.eigvalsh(0.5 * (own + own.T))) <= noise).sum())


def _nearest_zero(system: System, K: Any) -> Floats | None:
    """Of the motions that the stiffness resists least or pushes on, the first that it pushes on; None if none."""
    factor = factor_at_rest(system)
    X = np.random.default_rng(5).standard_normal((K.shape[0], min(8, K.shape[0])))
    for _ in range(6):
        X = np.linalg.qr(np.asarray(factor.solve(X)))[0]
    values, turn = np.linalg.eigh(X.T @ (K @ X))
    return np.asarray(X @ turn[:, 0]) if values[0] < 0.0 else None


def negative_motion(system: System) -> Floats | None:
    """The motion of the whole, (dofs,), that the stiffness resists least, below zero; None where it is not found."""
    K = explicit(system.reduced_stiffness)
    try:
        if K.shape[0] <= LISTED:
            values, vectors = np.linalg.eigh(K.toarray())
        elif (near := _nearest_zero(system, K)) is not None:
            return np.asarray(system.constraints.reduce @ near)
        else:
            from scipy.sparse.linalg import eigsh

            values, vectors = eigsh(K, k=1, which="SA", tol=1e-4, v0=np.ones(K.shape[0]), maxiter=2000)
    except (ArithmeticError, ValueError, RuntimeError, SolverError):
        return None
    return np.asarray(system.constraints.reduce @ vectors[:, 0]) if values[0] < 0.0 else None


def steps_follow(system: System, state: State, name: str) -> bool:
    """Whether load steps with updated geometry can follow a state of this assembly."""
    from holokine.state.steps import refuse_steps

    try:
        refuse_steps(system, state, name)
    except DescriptionError:
        return False
    return True
