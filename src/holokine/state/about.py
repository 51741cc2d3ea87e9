"""The system about a state: what acts there, and the stiffness with what the present stress adds."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_array

from holokine.elements.beam import BeamElements
from holokine.errors import DescriptionError, EquilibriumError, SolverError
from holokine.findings import Finding
from holokine.progress import tell
from holokine.state.buckling import Buckling, buckling_factors
from holokine.state.changes import LOWEST, Changes, changes
from holokine.state.equilibrium import BALANCED, Equilibrium, as_installed, equilibrium, solve_about
from holokine.state.hanging import mean_pulls
from holokine.state.limits import (
    gives_way,
    largest_turn,
    negative_motion,
    pressed_springs,
    steps_follow,
    without_stiffness,
)
from holokine.state.rest import factor_at_rest
from holokine.state.steps import stepped
from holokine.state.stiffness import Loaded, pressure_blocks, stress_stiffness
from holokine.system.assemble import Accumulator
from holokine.system.loads import LoadField, load_sum
from holokine.system.mechanisms import stiffest_connection

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe.states import State
    from holokine.system.build import StressBlock, System

__all__ = ["AtRest", "Reading", "at_rest"]

LARGE_TURN, LARGE_SHIFT = 0.05, 0.02
NO_MEANING = np.pi / 3.0  # rad


@dataclass(frozen=True)
class AtRest:
    """An assembly at rest, and what it vibrates about.

    Attributes
    ----------
    name : str
    state : State
    base : System
        Without the state.
    equilibrium : Equilibrium
    added : sparse array, shape (dofs, dofs)
        What stress adds to the stiffness of the pattern found (zero where it is switched off).
    system : System
        About the state.
    findings : tuple of Finding
    """

    name: str
    state: State
    base: System
    equilibrium: Equilibrium
    added: csr_array
    system: System
    findings: tuple[Finding, ...]

    @property
    def displacement(self) -> Floats:
        """m and rad, shape (dofs,)."""
        loaded = self.equilibrium.loaded
        return loaded.displacement if loaded.moved is None else loaded.moved

    @property
    def elastic(self) -> System:
        """With what acts in the state, stiffness from elasticity alone."""
        return self.equilibrium.system

    @cached_property
    def reading(self) -> Reading:
        """What readings of the state are taken from."""
        system, loaded = self.elastic, self.equilibrium.loaded
        if loaded.local is None:
            return Reading(system, loaded.displacement, loaded.field.ride, None)
        return _apart(system, self.equilibrium.engaged, loaded)

    @cached_property
    def reactions(self) -> dict[str, Floats]:
        """Force of every support on the assembly in N, friction included, shape (3,)."""
        system = self.elastic
        multipliers = system.constraints.forces(self.equilibrium.loaded.unbalanced(system))
        found = {}
        for name, support in system.supports.items():
            own = multipliers[support.rows]
            found[name] = np.array([own[support.dofs % 6 == d].sum() for d in range(3)])
        for r in self.equilibrium.feet:
            held = any(c.kind == "friction" and c.nodes == (r.node,) for c in system.connectors)
            if r.status == "sliding" or held:
                found[r.support] = found[r.support] + r.across
        return found

    @cached_property
    def balance(self) -> tuple[Floats, Floats, Floats]:
        """Resultants in N, shape (3,) each: of the loads, of supports, of springs to the frame; rounding is zero."""
        system, loaded = self.elastic, self.equilibrium.loaded
        f = loaded.field
        outside = (f.force - system.mass @ f.ride).reshape(-1, 6)[:, :3].sum(axis=0)
        reactions = np.sum(list(self.reactions.values()), axis=0) if self.reactions else np.zeros(3)
        ground = -(outside + reactions)
        every = [outside, reactions, *self.reactions.values()]
        size = max(float(np.abs(v).max(initial=0.0)) for v in every)
        outside, reactions, ground = (np.where(np.abs(v) < 1e-7 * size, 0.0, v) for v in (outside, reactions, ground))
        return outside, reactions, ground

    @cached_property
    def tensions(self) -> dict[str, tuple[float, float]]:
        """Least and largest axial force in N of every beam part, tension positive."""
        loaded = self.equilibrium.loaded
        found: dict[str, tuple[float, float]] = {}
        for number, e in enumerate(self.elastic.elements):
            if isinstance(e, BeamElements):
                own = e.tensions(loaded.resultants(number, e))
                a, b = found.get(e.part, (np.inf, -np.inf))
                found[e.part] = min(a, float(own.min())), max(b, float(own.max()))
        return found

    def buckling(self, count: int = 6) -> Buckling:
        """Load factors of buckling, lowest first, of all loads but those named constant.

        Raises
        ------
        EquilibriumError
            What is constant is beyond buckling by itself.
        """
        if self.equilibrium.loaded.moved is not None:
            raise EquilibriumError(
                f'state "{self.name}": load factors are of the given geometry; with load steps follow the load itself '
                "(factors on the loads) to where no stable shape is found",
                path=("states", self.name),
            )
        elastic = self.elastic
        reduced, T = elastic.constraints.reduced, elastic.constraints.reduce
        if self.state.constant:
            constant = self._constant_stiffness()
            K, G = reduced(csr_array(elastic.stiffness + constant)), reduced(csr_array(self.added - constant))
            return buckling_factors(K, G, T, count)
        G = reduced(self.added)
        if len(self.equilibrium.drifts) or self.equilibrium.by_stress:  # only stress holds something: from the state
            return buckling_factors(self.system.reduced_stiffness, G, T, count, base=1.0)
        return buckling_factors(elastic.reduced_stiffness, G, T, count)

    def changes(self, high: float = 10.0, low: float = LOWEST) -> Changes:
        """Load factors from `low` to `high` at which something lets go, touches, slides, goes slack (`state.changes`).

        Raises
        ------
        DescriptionError
            The range does not hold 1, or begins at or below 0.
        """
        if not 0.0 < low <= 1.0 <= high:
            raise DescriptionError(f"load factors are looked through from {low:g} to {high:g}: give a range around 1")
        return changes(self.base, self.name, self.equilibrium, low, high)

    def _constant_stiffness(self) -> csr_array:
        """What the loads named constant (and free strain, gaps, tensions) add."""
        varying = {n: k for n, k in self.state.loads.items() if n not in self.state.constant}
        loaded = self.equilibrium.loaded
        part = load_sum(self.elastic, self.name, varying)
        u = solve_about(self.elastic, part)
        rest = Loaded(
            loaded.displacement - u,
            LoadField(self.name, *(getattr(loaded.field, n) - getattr(part, n) for n in ("force", "ride", "moved"))),
            loaded.growth, loaded.inner, _less(self.elastic, loaded.forces, u),
        )  # fmt: skip
        constant = {n: k for n, k in self.state.loads.items() if n in self.state.constant}
        return _added(self.elastic, rest, constant)[0]


@dataclass(frozen=True)
class Reading:
    """A system, and motions of it that mean what is inside the assembly in the state.

    Attributes
    ----------
    system : System
        With updated geometry every element has nodes of its own, behind those of the assembly.
    displacement, ride : ndarray, shape (dofs,)
    real : ndarray of int, shape (nodes,), or None
        With updated geometry: node of the assembly that each node stands for.
    """

    system: System
    displacement: Floats
    ride: Floats
    real: NDArray[np.int64] | None


def _apart(system: System, base: System, loaded: Loaded) -> Reading:
    """Elements with nodes of their own, moved so that their elastic forces are those found with updated geometry."""
    assert loaded.local is not None
    assert loaded.moved is not None
    count = len(base.mesh.nodes)
    real, motions, elements = [np.arange(count)], [loaded.moved.reshape(-1, 6)], []
    for e, before, local in zip(system.elements, base.elements, loaded.local, strict=True):
        assert isinstance(e, BeamElements)
        assert isinstance(before, BeamElements)
        elastic = before.local_stiffness if before.local_elastic is None else before.local_elastic
        d = np.einsum("eij,ej->ei", np.linalg.pinv(elastic, rcond=1e-11, hermitian=True), local)
        own = np.linalg.solve(e.to_local, d[:, :, None])[:, :, 0]
        number = sum(len(r) for r in real)
        real.append(e.nodes.ravel())
        motions.append(own.reshape(-1, 6))
        apart = number + np.arange(e.nodes.size).reshape(e.nodes.shape)
        elements.append(replace(e, nodes=apart, local_stiffness=elastic, local_elastic=None))
    stands_for = np.concatenate(real)
    mesh = replace(base.mesh, nodes=base.mesh.nodes[stands_for], part_nodes={})
    size = 6 * len(stands_for)
    wide = replace(
        system, mesh=mesh, elements=tuple(elements), stiffness=csr_array((size, size)),
        active=system.active.reshape(-1, 6)[stands_for].ravel(), kept={},
    )  # fmt: skip
    ride = loaded.field.ride.reshape(-1, 6)[stands_for].ravel()
    return Reading(wide, np.concatenate(motions).ravel(), ride, stands_for)


def _less(system: System, forces: Mapping[str, float], u: Floats) -> dict[str, float]:
    """Forces of springs without what motions u make of them."""
    return {c.name: c.beside(u, forces[c.name]) for c in system.connectors if c.name in forces}


def _added(system: System, loaded: Loaded, factors: dict[str, float]) -> tuple[csr_array, Any, list[StressBlock]]:
    added, elements, blocks = stress_stiffness(system, loaded)
    following = pressure_blocks(system, factors)
    if following:
        total = Accumulator(system.size)
        for b in following:
            total.add(b.dofs, b.matrices)
        added = csr_array(added + total.result())
    return added, elements, [*blocks, *following]


def at_rest(base: System, state: State, name: str) -> AtRest:
    """Solve a state and make the system about it.

    Raises
    ------
    EquilibriumError
        No equilibrium, or beyond buckling.
    DescriptionError
    """
    state = as_installed(base, state, name)
    found = (equilibrium if state.load_steps is None else stepped)(base, state, name)
    tell("stiffness from stress")
    if state.stress_stiffness:
        added, elements, blocks = _added(found.system, found.loaded, state.loads)
    else:
        added, elements, blocks = csr_array((base.size, base.size)), found.system.elements, []
    system = replace(
        found.system, stiffness=csr_array(found.system.stiffness + added), elements=elements, stressed=tuple(blocks),
        added=added, about=name, resting=_resting(found), kept={},
    )  # fmt: skip
    result = AtRest(name, state, base, found, added, system, ())
    _refuse_turned(result)
    _refuse_beyond(result)
    return replace(result, findings=tuple(_findings(result)))


def _resting(found: Equilibrium) -> dict[str, Floats]:
    """What every one-way member carries."""
    d, result, pulls = found.system.description, {}, mean_pulls(found)
    for support in found.system.supports.values():
        own = [r.force for r in found.feet if r.support == support.name]
        if own:
            result[support.name] = np.array(own)
    for s in found.springs:
        if d.springs[s.name].one_way is not None:
            result[s.name] = np.array([s.force])
    for part, described in d.parts.items():
        if described.only_pulls and part not in found.slack:
            result[part] = np.array([pulls[part]])
    return result


def _refuse_beyond(state: AtRest) -> None:
    """Raise where the stiffness about the state is not positive."""
    if state.system.free_size == 0:
        return
    negative = factor_at_rest(state.system).negative
    if not negative or negative <= without_stiffness(state):
        return
    where = f'state "{state.name}"'
    more = (
        f"{negative} {'direction of its stiffness is' if negative == 1 else 'directions of its stiffness are'} negative"
    )
    found = None
    if not (len(state.equilibrium.drifts) or state.equilibrium.by_stress):
        with suppress(EquilibriumError, SolverError):
            found = state.buckling(1)
    if found is not None and len(found.positive) and found.positive[0] < 1.0:
        lowest = float(found.positive[0])
        if lowest < 1e-6:
            raise EquilibriumError(
                f"{where}: not stable: {more}, under the least of its loads: {gives_way(state, found.shapes[0])}. Is "
                "the direction of its loads (gravity) right, and is what hangs or leans held?"
            )
        raise EquilibriumError(
            f"{where}: beyond buckling: {more}, and the lowest load factor is {lowest:.4g}, below 1: "
            f"{gives_way(state, found.shapes[0])}. Lower its loads to less than {100 * lowest:.3g} % of what they are, "
            "or stiffen that"
        )
    shape = negative_motion(state.system)
    what = "" if shape is None else f": {gives_way(state, shape)}"
    raise EquilibriumError(
        f"{where}: not stable: {more}, so that what is at rest there falls over or snaps through{what}. A spring that "
        "softens, or a load above what carries it, does so; hold it, or lower the load"
    )


def _refuse_turned(state: AtRest) -> None:
    """Raise where the given geometry, taken as the loaded one, has lost its meaning."""
    turned = largest_turn(state.equilibrium, springs=False)
    if state.equilibrium.loaded.moved is None and turned.angle > NO_MEANING:
        follow = "; follow it by load steps (load steps: 10)" if _can_step(state) else ""
        raise EquilibriumError(
            f'state "{state.name}": {turned.what} would turn by {np.degrees(turned.angle):,.3g}°, which the given '
            f"geometry, taken as the loaded one, cannot mean: something soft, or a load of the wrong size{follow}",
            path=("states", state.name),
        )


def _can_step(state: AtRest) -> bool:
    return steps_follow(state.equilibrium.engaged, state.state, state.name)


def _findings(state: AtRest) -> list[Finding]:
    found: list[Finding] = []
    eq, system = state.equilibrium, state.elastic
    u = eq.loaded.displacement.reshape(-1, 6)
    used = system.active.reshape(-1, 6).any(axis=1)
    size = float(np.linalg.norm(np.ptp(system.mesh.nodes[used], axis=0))) if used.any() else 1.0
    turned, shift = largest_turn(eq), float(np.linalg.norm(u[used, :3], axis=1).max(initial=0.0))
    turn = turned.angle
    if eq.loaded.moved is None and (turn > LARGE_TURN or shift > LARGE_SHIFT * size):
        text = (
            f"displacements of the state are large against its size ({1e3 * shift:.3g} mm on {1e3 * size:.3g} mm, "
            f"turns up to {np.degrees(turn):.2g}°{f' of {turned.what}' if turned.what else ''}), while the given "
            "geometry is taken as the loaded one"
        )
        found.append(
            Finding("warning", text + ("; follow it by load steps (load steps: 10)" if _can_step(state) else ""))
        )
    pressed = pressed_springs(eq)
    if pressed and state.state.stress_stiffness:
        name, force, length = pressed[0]
        others = f", and {len(pressed) - 1} more" if len(pressed) > 1 else ""
        found.append(Finding(
            "note", f'the spring "{name}" is pressed along its line, {force:.4g} N over {1e3 * length:.4g} mm{others}: '
            f"sideways it pushes its ends with {-force / length:.4g} N/m. If it is guided, give it an axis",
        ))  # fmt: skip
    if not state.state.stress_stiffness:
        found.append(Finding("note", "what stress adds to the stiffness is switched off in this state"))
    if eq.press:
        found.append(Finding(
            "note", f"rigid feet could share their forces in many ways; they are shared as by equal springs of "
            f"{eq.press:.1g} N/m under each (of least squares)",
        ))  # fmt: skip
    if not state.state.one_way:
        found.append(
            Finding("note", "one-way supports, springs and cables act both ways in this state (one way: false)")
        )
    if eq.violation > BALANCED:
        name, share = stiffest_connection(system, eq.loaded.displacement)
        cause = (
            f': make "{name}" less stiff, or link what is rigid' if share > 0.5 else ": something is needlessly stiff"
        )
        found.append(Finding(
            "warning", f"forces balance to {eq.violation:.2g} of the largest only, and are known no better; rounding "
            f"takes the rest{cause}",
        ))  # fmt: skip
    loose = [b.name for b in system.bonds.values() if b.kind in ("averaging", "area", "tie")]
    if loose and state.state.stress_stiffness:
        multipliers = system.constraints.forces(eq.loaded.unbalanced(system))
        carry = {b.name: float(np.linalg.norm((b.weights @ multipliers[b.rows])[:3])) for b in system.bonds.values()
                 if b.name in loose}  # fmt: skip
        most = max(carry, key=lambda n: carry[n])
        if carry[most] > 0.0:
            found.append(Finding(
                "note", f"averaging links and ties add no stiffness from what they carry (up to {carry[most]:.3g} N, "
                f"in {most})",
            ))  # fmt: skip
    return found
