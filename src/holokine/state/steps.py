"""A state by load steps with updated geometry: frames, cables, springs and point masses that move far.

Beams follow by axes that turn with their chord (co-rotational: Crisfield, *Non-linear Finite Element Analysis of
Solids and Structures* 2, ch. 17): small strains, displacements and turns of any size. Every step is brought to rest by
Newton's method, in smaller parts where it does not settle, and down the potential energy where a cable without tension
has to find its shape.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Literal

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_array, diags_array

from holokine.elements.beam import BeamElements
from holokine.elements.connectors import Connector, PointMass, arm_matrix, axes_from
from holokine.elements.laws import ForceLaw, force_law
from holokine.errors import DescriptionError, EquilibriumError, OutOfMemoryError, SolverError
from holokine.progress import tell
from holokine.solvers.factor import factorise
from holokine.state.equilibrium import Equilibrium, FootRow, SpringRow, growths
from holokine.state.stiffness import Loaded
from holokine.system.assemble import DIRECTION_NAMES, Accumulator, assemble, node_dofs
from holokine.system.loads import LoadField, load_sum
from holokine.system.pattern import Pattern, at_no_load

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.describe.states import State
    from holokine.system.build import System

__all__ = ["refuse_steps", "stepped"]

_MOST = 400  # damped iterations
_WHOLE = 3000  # iterations of a load step with all its parts
_REMNANT = 1e-9  # of the axial stiffness that a slack cable keeps, so that its nodes stay in place along it
_PROP = 1e-8  # of the diagonal, where nothing has tension yet
_REACH, _TURN = 0.05, 0.3  # of the size, and rad: largest motion of an iteration


def turn_of(vectors: Floats) -> Floats:
    """Rotation matrices (n, 3, 3) of rotation vectors (n, 3), by Rodrigues' formula."""
    angle = np.linalg.norm(vectors, axis=1)[:, None, None]
    cross = -arm_matrix(vectors)
    small = angle < 1e-8
    safe = np.where(small, 1.0, angle)
    a = np.where(small, 1.0 - angle**2 / 6.0, np.sin(safe) / safe)
    b = np.where(small, 0.5 - angle**2 / 24.0, (1.0 - np.cos(safe)) / safe**2)
    return np.asarray(np.eye(3) + a * cross + b * (cross @ cross))


def vector_of(turns: Floats) -> Floats:
    """Rotation vectors (n, 3) of rotation matrices."""
    from scipy.spatial.transform import Rotation

    return np.asarray(Rotation.from_matrix(turns).as_rotvec())


@dataclass
class _Run:
    """Elements of one part with what does not change."""

    e: BeamElements
    strain: float
    cable: bool
    soft: float = 1.0

    def __post_init__(self) -> None:
        self.elastic = self.e.local_stiffness if self.e.local_elastic is None else self.e.local_elastic
        if self.soft != 1.0:
            self.elastic = self.elastic.copy()
            for i in (0, 6):
                for j in (0, 6):
                    self.elastic[:, i, j] *= self.soft

    def at(self, x: Floats, R: Floats) -> _Moved:
        """In a shape: node places (nodes, 3) and turns (nodes, 3, 3)."""
        e = self.e
        a, b = e.nodes.T
        arms = np.stack([np.einsum("eij,ej->ei", R[n], e.arms[:, k]) for k, n in enumerate((a, b))], axis=1)
        ends = np.stack([x[a] + arms[:, 0], x[b] + arms[:, 1]], axis=1)
        chord = ends[:, 1] - ends[:, 0]
        length = np.linalg.norm(chord, axis=1)
        first = chord / length[:, None]
        old = np.swapaxes(e.axes, 1, 2)  # columns are the axes
        triads = [R[n] @ old for n in (a, b)]
        side = triads[0][:, :, 1] + triads[1][:, :, 1]
        third = np.cross(first, side)
        third /= np.linalg.norm(third, axis=1)[:, None]
        frame = np.stack([first, np.cross(third, first), third], axis=2)
        back = np.swapaxes(frame, 1, 2)
        psi = [vector_of(back @ t) for t in triads]
        d = np.zeros((len(length), 12))
        d[:, 3:6], d[:, 9:12] = psi
        bow = np.einsum("ei,eij,ej->e", d, e.local_tension, d) / 2.0
        d[:, 6] = length - e.length + bow - self.strain * e.length
        forces = np.einsum("eij,ej->ei", self.elastic, d)
        energy = np.einsum("ei,ei->e", d, forces) / 2.0
        slack = np.zeros(len(length), dtype=bool)
        if self.cable:
            slack = forces[:, 6] <= 0.0
            own = self.elastic[:, 6, 6]
            energy = energy - np.where(slack, (1.0 - _REMNANT) * own * d[:, 6] ** 2 / 2.0, 0.0)
            forces[slack, 6] = _REMNANT * own[slack] * d[slack, 6]
            forces[slack, 0] = -forces[slack, 6]
        tension = forces[:, 6]
        still = d.copy()
        still[:, 6] = 0.0
        forces = forces + tension[:, None] * np.einsum("eij,ej->ei", e.local_tension, still)
        forces[:, 6], forces[:, 0] = tension, -tension
        moments = []
        for k, o in enumerate((3, 9)):
            m = forces[:, o : o + 3]
            moments.append(m + np.cross(psi[k], m) / 2.0)
        roll = (moments[0][:, 0] + moments[1][:, 0]) / 2.0
        moments[0][:, 0] -= roll
        moments[1][:, 0] -= roll
        local = np.zeros_like(d)
        local[:, 3:6], local[:, 9:12] = moments
        total = moments[0] + moments[1]
        local[:, 6:9] = np.column_stack([tension, -total[:, 2] / length, total[:, 1] / length])
        local[:, :3] = -local[:, 6:9]
        return _Moved(self, frame, ends, arms, length, d, local, slack, float(energy.sum()))


@dataclass
class _Moved:
    run: _Run
    frame: Floats
    ends: Floats
    arms: Floats
    length: Floats
    d: Floats
    local: Floats
    slack: NDArray[np.bool_]
    energy: float

    def elements(self) -> BeamElements:
        """The elements where they are now, without what stress adds."""
        e = self.run.e
        axes = np.swapaxes(self.frame, 1, 2)
        T = np.zeros((len(e.nodes), 12, 12))
        for k in range(2):
            o = 6 * k
            T[:, o : o + 3, o : o + 3] = T[:, o + 3 : o + 6, o + 3 : o + 6] = axes
            T[:, o : o + 3, o + 3 : o + 6] = axes @ arm_matrix(self.arms[:, k])
        elastic = self.run.elastic.copy()
        for i in (0, 6):
            for j in (0, 6):
                elastic[self.slack, i, j] *= _REMNANT
        still = self.d.copy()
        still[:, 6] = 0.0
        bow = np.einsum("eij,ej->ei", e.local_tension, still)  # a bent element lengthens along its arc
        along = np.zeros_like(bow)
        along[:, 0], along[:, 6] = -1.0, 1.0
        both = (along + bow)[:, :, None] * (along + bow)[:, None, :] - along[:, :, None] * along[:, None, :]
        elastic += elastic[:, 6, 6][:, None, None] * both
        return replace(
            e, axes=axes, ends=self.ends, arms=self.arms, to_local=T, local_stiffness=elastic, local_elastic=None
        )

    def global_forces(self) -> Floats:
        """Forces and moments on the nodes, (elements, 12)."""
        result = np.zeros_like(self.local)
        for k in range(2):
            o = 6 * k
            push = np.einsum("eij,ej->ei", self.frame, self.local[:, o : o + 3])
            turn = np.einsum("eij,ej->ei", self.frame, self.local[:, o + 3 : o + 6])
            result[:, o : o + 3] = push
            result[:, o + 3 : o + 6] = turn + np.cross(self.arms[:, k], push)
        return result


@dataclass
class _Spring:
    """A spring that keeps to the line between its nodes, or (axis given) to its axis."""

    c: Connector
    turns: bool
    law: ForceLaw | None
    one_way: float
    gap: float
    stiffness: float

    def force(self, e: float) -> tuple[float, float, float]:
        """Force, stiffness and energy at an elongation."""
        if self.law is not None:
            steps = np.linspace(0.0, e, 201)
            return self.law.force(e), self.law.slope(e), float(np.trapezoid([self.law.force(s) for s in steps], steps))
        if self.one_way:
            past = self.one_way * e - self.gap
            if past <= 0.0:
                return 0.0, 0.0, 0.0
            return self.one_way * self.stiffness * past, self.stiffness, self.stiffness * past**2 / 2.0
        return self.stiffness * e, self.stiffness, self.stiffness * e**2 / 2.0

    def elongation(self, x: Floats, X: Floats, u: Floats) -> tuple[float, Floats]:
        """Elongation and, where it turns, the unit vector from the first node to the second."""
        if not self.turns:
            return float(self.c.stretches(u)[0]), self.c.axes[0]
        a, b = self.c.nodes
        line, before = x[b] - x[a], X[b] - X[a]
        length = float(np.linalg.norm(line))
        return length - float(np.linalg.norm(before)), line / length


class _Shape:
    """Everything in one shape: energy, forces, and on request the stiffness."""

    def __init__(self, model: _Model, x: Floats, R: Floats, share: float) -> None:
        self.model, self.x, self.R, self.share = model, x, R, share
        self.runs = [run.at(x, R) for run in model.runs(share)]
        size = model.base.size
        self.u = np.zeros(size)
        u = self.u.reshape(-1, 6)
        u[:, :3] = x - model.X
        u[:, 3:] = vector_of(R)
        f = np.zeros(size)
        energy = sum(r.energy for r in self.runs)
        for r in self.runs:
            np.add.at(f, r.run.e.dofs.ravel(), r.global_forces().ravel())
        self.springs = []
        for s in model.springs:
            e, line = s.elongation(x, model.X, self.u)
            force, stiffness, own = s.force(e)
            energy += own
            if s.turns:
                a, b = s.c.nodes
                f[6 * b : 6 * b + 3] += force * line
                f[6 * a : 6 * a + 3] -= force * line
            else:
                np.add.at(f, node_dofs(np.array(s.c.nodes)), force * s.c.stretch[0])
            self.springs.append((e, force, stiffness, line))
        for c in model.others:
            dofs = node_dofs(np.array(c.nodes))
            own_f = c.matrices()[0] @ self.u[dofs]
            energy += float(own_f @ self.u[dofs]) / 2.0
            np.add.at(f, dofs, own_f)
        self.inner = f
        outside = share * model.field.force
        pulled = -share * model.field.ride
        g = pulled.reshape(-1, 6)[:, :3]
        outside = outside - share * model.mass_forces(self)
        energy -= share * float(model.field.force @ self.u) + model.lifted(self, g)
        self.outside, self.energy = outside, energy

    def stiffness(self) -> csr_array:
        """Tangent."""
        model, total = self.model, Accumulator(self.model.base.size)
        for r in self.runs:
            e = r.elements().stressed(r.local)
            T, ratio = e.to_local.copy(), e.length / r.length  # turns of the chord by its length now
            T[:, [1, 2, 7, 8]] *= ratio[:, None, None]
            K = np.swapaxes(T, 1, 2) @ e.local_stiffness @ T
            more = r.local[:, 6] / r.length * (1.0 - ratio)
            for d in (1, 2):
                row = e.to_local[:, 6 + d] - e.to_local[:, d]
                K += more[:, None, None] * row[:, :, None] * row[:, None, :]
            total.add(e.dofs, (K + np.swapaxes(K, 1, 2)) / 2.0)
        for s, (_, force, k, line) in zip(model.springs, self.springs, strict=True):
            if s.turns:
                a, b = s.c.nodes
                length = float(np.linalg.norm(self.x[b] - self.x[a]))
                block = k * np.outer(line, line) + force / length * (np.eye(3) - np.outer(line, line))
                dofs = np.concatenate([6 * a + np.arange(3), 6 * b + np.arange(3)])
                total.add(dofs[None], np.kron([[1.0, -1.0], [-1.0, 1.0]], block)[None])
            else:
                total.add(node_dofs(np.array(s.c.nodes))[None], k * np.outer(s.c.stretch[0], s.c.stretch[0])[None])
        for c in model.others:
            total.add(node_dofs(np.array(c.nodes))[None], c.matrices()[0][None])
        return total.result()


class _Model:
    """What a state's load steps follow."""

    def __init__(self, base: System, state: State, name: str) -> None:
        self.base, self.state, self.name = base, state, name
        self.soft = self.grown = 1.0  # of the stiffness and growth of cables while their shape is looked for
        self.X = np.array(base.mesh.nodes)
        refuse_steps(base, state, name)
        d = base.description
        self.growth = growths(base, state)
        self.field = load_sum(base, name, state.loads)
        self.beams = [e for e in base.elements if isinstance(e, BeamElements)]
        names = {c.name: c for c in base.connectors}
        self.springs = []
        for spring_name, spring in d.springs.items():
            c = names[spring_name]
            line = self.X[list(c.nodes)][-1] - self.X[list(c.nodes)][0]
            turns = len(c.nodes) == 2 and spring.axis is None and float(np.linalg.norm(line)) > 0.0
            way = {"push": -1.0, "pull": 1.0, None: 0.0}[spring.one_way if state.one_way else None]
            self.springs.append(_Spring(c, turns, force_law(spring), way, spring.gap or 0.0, spring.stiffness))
        self.others = [c for c in base.connectors if c.name not in d.springs]
        used = base.active.reshape(-1, 6).any(axis=1)
        self.size = float(np.linalg.norm(np.ptp(self.X[used], axis=0))) or 1.0

    def runs(self, share: float) -> list[_Run]:
        """Element sets with the strain of this share of the load."""
        parts = self.base.description.parts
        found = []
        for e in self.beams:
            cable = self.state.one_way and parts[e.part].only_pulls
            strain = share * self.growth.get(e.part, 0.0) * (self.grown if cable else 1.0)
            found.append(_Run(e, strain, cable, self.soft if cable else 1.0))
        return found

    def mass_forces(self, shape: _Shape) -> Floats:
        """M a of the field that mass resists, in the present shape."""
        ride = self.field.ride
        result = np.zeros(self.base.size)
        if not ride.any():
            return result
        for r in shape.runs:
            e = r.elements()
            local = np.einsum("eij,ej->ei", e.to_local, ride[e.dofs])
            own = np.einsum("eji,ej->ei", e.to_local, np.einsum("eij,ej->ei", e.local_mass, local))
            np.add.at(result, e.dofs.ravel(), own.ravel())
        for body in self.bodies(shape.R):
            dofs = node_dofs(np.array([body.node]))
            result[dofs] += body.matrix() @ ride[dofs]
        return result

    def lifted(self, shape: _Shape, pull: Floats) -> float:
        """Work of the field on the mass, from the first shape to the present one."""
        if not pull.any():
            return 0.0
        work = 0.0
        for r in shape.runs:
            e = r.run.e
            share = np.einsum("eii->e", e.local_mass[:, :3, :3] + 2.0 * e.local_mass[:, :3, 6:9]) / 3.0
            other = np.einsum("eii->e", e.local_mass[:, 6:9, 6:9]) / 3.0
            total = share + other
            for k, n in enumerate(e.nodes.T):
                moved = shape.u[6 * n[:, None] + np.arange(3)] + r.arms[:, k] - e.arms[:, k]
                work += float((total / 2.0) @ np.einsum("ei,ei->e", moved, pull[n]))
        for body, now in zip(self.base.masses, self.bodies(shape.R), strict=True):
            moved = shape.u[6 * body.node : 6 * body.node + 3] + now.offset - body.offset
            work += body.mass * float(moved @ pull[body.node])
        return work

    def bodies(self, R: Floats) -> list[PointMass]:
        """Point masses as they have turned."""
        return [
            replace(m, offset=R[m.node] @ m.offset, inertia=R[m.node] @ m.inertia @ R[m.node].T)
            for m in self.base.masses
        ]


def refuse_steps(base: System, state: State, name: str) -> None:
    """Raise for what load steps do not follow."""
    where = f'state "{name}", load steps'
    for e in base.elements:
        if not isinstance(e, BeamElements):
            raise DescriptionError(
                f'{where}: they follow beams, cables, springs and point masses; the part "{e.part}" is made of '
                f"{e.words}. Leave load steps out, or model it by beams"
            )
    if base.bonds:
        first = next(iter(base.bonds.values()))
        raise DescriptionError(
            f'{where}: they follow no links, joints and ties yet, and "{first.name}" is one; connect by shared points'
        )
    if base.description.matrices is not None:
        raise DescriptionError(f"{where}: they follow no given matrices")
    if state.tension:
        raise DescriptionError(
            f"{where}: give shortening in place of tension; the force follows from the shape reached"
        )
    for feet in base.feet:
        if feet.friction:
            raise DescriptionError(f'{where}: friction is not followed; take it off "{feet.name}", or hold it')
    if any(base.description.loads[n].following for n in state.loads):
        raise DescriptionError(f"{where}: following pressures act on shells and solids, which are not followed")


def stepped(base: System, state: State, name: str) -> Equilibrium:
    """Follow a state by load steps.

    Raises
    ------
    EquilibriumError
        No equilibrium is found for a part of the load.
    DescriptionError
        Something that load steps do not follow.
    """
    model = _Model(base, state, name)
    steps = state.load_steps or 1
    touching = {f.name: np.full(len(f.nodes), f.gap == 0.0) for f in base.feet}
    x, R = model.X.copy(), np.tile(np.eye(3), (len(model.X), 1, 1))
    shape = _Shape(model, x, R, 0.0)
    count = 0
    for step in range(1, steps + 1):
        tell("load steps", step, steps, "steps")
        share = step / steps
        for _ in range(40):
            shape, used = _settled(model, shape, share, touching)
            count += used
            now = _feet_now(model, shape, touching)
            if all((now[f] == touching[f]).all() for f in touching):
                break
            touching = now
        else:
            raise EquilibriumError(
                f'state "{name}": no pattern of touching and open feet settles at {100 * share:.3g} % of the load',
                path=("states", name),
            )
    return _ended(model, shape, touching, count)


def _held(model: _Model, share: float, touching: dict[str, NDArray[np.bool_]]) -> tuple[Ints, Floats]:
    """Motions that supports hold, and where."""
    dofs, places = [], []
    for name, support in model.base.supports.items():
        feet = support.feet
        plain = support.dofs
        if feet is not None:
            plain = np.array(
                [k for k in support.dofs if "xyz"[k % 6] in support.hold] if len(support.dofs) else [], int
            )
            on = feet.nodes[touching[name]]
            dofs.append(6 * on + feet.axis)
            places.append(np.full(len(on), -feet.sign * feet.gap))
        dofs.append(plain)
        places.append(share * model.field.moved[plain])
    every = np.concatenate(dofs) if dofs else np.zeros(0, dtype=np.int64)
    return every.astype(np.int64), np.concatenate(places) if places else np.zeros(0)


def _settled(model: _Model, shape: _Shape, share: float, touching: dict[str, NDArray[np.bool_]]) -> tuple[_Shape, int]:
    """The shape at rest under a share of the load: by plain Newton steps, smaller parts of it, or damped steps."""
    count, done, aim, last = 0, shape.share, share, 1.0
    cables = any(run.cable for run in model.runs(share))
    while True:
        found, used = _newton(model, shape, aim, touching)
        count += used
        if count > _WHOLE:
            raise EquilibriumError(
                f'state "{model.name}": no equilibrium is found at {100 * share:.3g} % of the load within {_WHOLE} '
                f"iterations; it comes to rest up to {100 * done:.3g} %",
                path=("states", model.name),
            )
        if found is not None:
            shape, done = found, aim
            if done == share:
                return shape, count
            aim = min(share, done + 2.0 * last) if share > done else share
            last = aim - done
            continue
        if cables:  # these find their shape best under the whole load
            cables = False
            found, used = _softened(model, shape, aim, touching)
            count += used
            if found is not None:
                return found, count
            continue
        last = (aim - done) / 2.0
        if abs(last) < 1e-4:  # (also where the load stays and only feet change)
            found, used = _damped(model, shape, aim, touching)
            count += used
            shape, done = found, aim
            if done == share:
                return shape, count
            aim, last = share, share - done
            continue
        aim = done + last


def _softened(
    model: _Model, shape: _Shape, share: float, touching: dict[str, NDArray[np.bool_]]
) -> tuple[_Shape | None, int]:
    """A shape found with cables that stretch easily and are not made longer yet, so that all of them pull.

    It is followed as they get their length, and become as stiff as they are.
    """
    pull = float(np.abs(_Shape(model, shape.x, shape.R, share).outside).sum())
    stiffest = max(float((run.elastic[:, 6, 6] * run.e.length).max()) for run in model.runs(share) if run.cable)
    soft, count = min(max(10.0 * pull / max(stiffest, 1e-300), 1e-9), 1.0), 0
    stages = [(soft, grown) for grown in (0.0, 0.25, 0.5, 0.75)]
    while soft < 1.0:
        stages.append((soft, 1.0))
        soft = min(5.0 * soft, 1.0)
    try:
        for model.soft, model.grown in [*stages, (1.0, 1.0)]:
            found, used = _newton(model, shape, share, touching)
            count += used
            if found is None:
                found, used = _damped(model, shape, share, touching)
                count += used
            shape = found
        return shape, count
    except EquilibriumError:
        return None, count + _MOST
    finally:
        model.soft = model.grown = 1.0


def _started(model: _Model, shape: _Shape, share: float, touching: dict[str, NDArray[np.bool_]]) -> tuple[_Shape, Ints]:
    """The shape with supports where they are at this share, and the motions that are free."""
    held, places = _held(model, share, touching)
    free = model.base.active.copy()
    free[held] = False
    x = shape.x.copy()
    for dof, place in zip(held, places, strict=True):
        if dof % 6 < 3:
            x[dof // 6, dof % 6] = model.X[dof // 6, dof % 6] + place
    return _Shape(model, x, shape.R.copy(), share), np.flatnonzero(free)


def _off(shape: _Shape, index: Ints) -> tuple[Floats, float]:
    """What is out of balance, and its largest relative to the largest force."""
    rest = (shape.outside - shape.inner)[index]
    scale = float((np.abs(shape.outside) + np.abs(shape.inner)).max(initial=0.0))
    return rest, float(np.abs(rest).max(initial=0.0)) / max(scale, 1e-300)


def _floor(model: _Model, shape: _Shape) -> float:
    """What rounding of node places leaves out of balance, relative to the largest force.

    Of every element that meets at a node by itself, so that the squares add up.
    """
    squares = np.zeros(len(model.X))
    for r in shape.runs:
        for end in r.run.e.nodes.T:
            np.add.at(squares, end, r.run.elastic[:, 6, 6] ** 2)
    stiffest = float(np.sqrt(squares.max(initial=0.0)))
    scale = float((np.abs(shape.outside) + np.abs(shape.inner)).max(initial=0.0))
    return 20.0 * float(np.finfo(float).eps) * stiffest * model.size / max(scale, 1e-300)


def _advanced(model: _Model, shape: _Shape, index: Ints, step: Floats, size: float = 1.0) -> tuple[_Shape, float]:
    """The shape after a step, held to a largest motion; and by how much it was held."""
    change = np.zeros(model.base.size)
    change[index] = step
    moves = change.reshape(-1, 6)
    far = max(float(np.abs(moves[:, :3]).max()) / (_REACH * model.size), float(np.abs(moves[:, 3:]).max()) / _TURN)
    moves = moves * size / max(far, 1.0)
    return _Shape(model, shape.x + moves[:, :3], turn_of(moves[:, 3:]) @ shape.R, shape.share), far


def _newton(
    model: _Model, shape: _Shape, share: float, touching: dict[str, NDArray[np.bool_]]
) -> tuple[_Shape | None, int]:
    """Plain Newton steps; None where they do not come to rest at a stable shape."""
    shape, index = _started(model, shape, share, touching)
    best, tired, propped = np.inf, 0, 0
    for iteration in range(60):
        rest, off = _off(shape, index)
        if off < 1e-10 or len(index) == 0:
            return shape, iteration
        if off < 0.5 * best:
            best, tired = off, 0
        else:
            tired += 1
        if tired >= 2 and off < max(1e-8, _floor(model, shape)):
            return shape, iteration
        if tired >= 12 or not np.isfinite(off):
            return None, iteration
        step = _step(csr_array(shape.stiffness()[index][:, index]), rest, 0.0)
        if step is None and propped < 6:  # what has no tension yet is propped a little
            propped += 1
            step = _step(csr_array(shape.stiffness()[index][:, index]), rest, _PROP)
        if step is None:
            return None, iteration
        shape, _ = _advanced(model, shape, index, step)
    return None, 60


def _step(K: csr_array, rest: Floats, damp: float) -> Floats | None:
    """The solution of K with so much of its diagonal added; None where that is not positive definite."""
    if damp:
        diagonal = np.abs(K.diagonal())
        K = csr_array(K + diags_array(damp * np.maximum(diagonal, 1e-6 * float(diagonal.max(initial=1e-300)))))
    try:
        factor = factorise(K)
        if factor.negative or factor.perturbed:
            return None
        step = np.asarray(factor.solve(rest[:, None]))[:, 0]
    except OutOfMemoryError:
        raise
    except SolverError:
        return None
    return step if bool(np.isfinite(step).all()) else None


def _damped(model: _Model, shape: _Shape, share: float, touching: dict[str, NDArray[np.bool_]]) -> tuple[_Shape, int]:
    """Steps towards less energy, for what has hardly any stiffness until it has found its shape.

    Raises
    ------
    EquilibriumError
    """
    shape, index = _started(model, shape, share, touching)
    damp = 1e-6
    for iteration in range(_MOST):
        rest, off = _off(shape, index)
        if off < max(1e-9, _floor(model, shape)):
            return shape, iteration
        K = csr_array(shape.stiffness()[index][:, index])
        tried, far = shape, 0.0
        while damp < 1e8:
            step = _step(K, rest, damp)
            if step is not None:
                tried, far = _advanced(model, shape, index, step)
                noise = 1e-12 * (abs(shape.energy) + abs(tried.energy))
                if np.isfinite(tried.energy) and tried.energy <= shape.energy + noise:
                    break
            damp *= 4.0
        else:
            break
        shape = tried
        if damp < 1e-4 and far <= 1.0:  # near enough for plain steps
            found, used = _newton(model, shape, share, touching)
            if found is not None:
                return found, iteration + used
        damp /= 8.0
    rest, off = _off(shape, index)
    worst = int(index[int(np.abs(rest).argmax())])
    place = 1e3 * shape.x[worst // 6]
    raise EquilibriumError(
        f'state "{model.name}": no equilibrium is found at {100 * share:.3g} % of the load; most out of balance '
        f"(by {float(np.abs(rest).max()):.3g} N or N m) is the node at [{', '.join(f'{v:.4g}' for v in place)}] "
        "mm. Hold what moves away or snaps through, or take more load steps",
        path=("states", model.name),
    )


def _feet_now(model: _Model, shape: _Shape, touching: dict[str, NDArray[np.bool_]]) -> dict[str, NDArray[np.bool_]]:
    """Which feet touch, by their force or their place."""
    if not model.state.one_way:
        return touching
    push = shape.inner - shape.outside
    size = float(np.abs(push).max(initial=0.0))
    found = {}
    for feet in model.base.feet:
        dofs = 6 * feet.nodes + feet.axis
        gap = feet.sign * shape.u[dofs] + feet.gap
        found[feet.name] = np.where(
            touching[feet.name], feet.sign * push[dofs] > 1e-10 * size, gap < -1e-10 * model.size
        )
    return found


def _ended(model: _Model, shape: _Shape, touching: dict[str, NDArray[np.bool_]], count: int) -> Equilibrium:
    """The system in the shape reached."""
    base, d = model.base, model.base.description
    size = base.size
    mesh = replace(base.mesh, nodes=shape.x.copy(), part_nodes=dict(base.mesh.part_nodes))
    elements, local = [], []
    runs = iter(shape.runs)
    for _ in base.elements:
        r = next(runs)
        elements.append(r.elements())
        local.append(r.local)
    connectors, forces, rows = [], {}, []
    found = {s.c.name: (s, v) for s, v in zip(model.springs, shape.springs, strict=True)}
    for c in base.connectors:
        if c.name not in found:
            connectors.append(c)
            continue
        s, (e, force, k, line) = found[c.name]
        if s.law is not None and s.law.beyond(e):
            raise EquilibriumError(
                f'state "{model.name}": the spring "{c.name}" is lengthened by {1e3 * e:.4g} mm, beyond its table',
                path=("states", model.name),
            )
        stiffness = c.stiffness.copy()
        stiffness[0] = k
        if s.turns:
            places = shape.x[list(c.nodes)]
            axes = axes_from(tuple(line))
            now = Connector.build(c.name, c.kind, c.nodes, places, places.mean(axis=0), axes, stiffness, c.damping)
        else:
            now = replace(c, stiffness=stiffness)
        connectors.append(now)
        forces[c.name] = force
        if s.law is not None or s.one_way:
            acts: Literal["acting", "open"] = "open" if s.law is None and force == 0.0 else "acting"
            rows.append(SpringRow(c.name, e, force, k, acts))
    masses = tuple(model.bodies(shape.R))
    K, M = Accumulator(size), Accumulator(size)
    for block in elements:
        for dofs, k_e, m_e in block.chunks():
            K.add(dofs, k_e)
            M.add(dofs, m_e)
    for body in masses:
        M.add(node_dofs(np.array([body.node]))[None], body.matrix()[None])
    damping = []
    for c in connectors:
        dofs = node_dofs(np.array(c.nodes))[None]
        K.add(dofs, c.matrices()[0][None])
        damping.append((dofs, c.matrices()[1][None]))
    mass = M.result()
    pattern = at_no_load(d)
    if model.state.one_way:
        pattern = Pattern(open={n: ~on for n, on in touching.items()}, springs=base.pattern.springs)
    held = base.with_pattern(replace(pattern, springs=base.pattern.springs))
    stays = diags_array((~np.isin(np.tile(np.array(DIRECTION_NAMES), size // 6), d.massless)).astype(float))
    plain = mass if not d.massless else csr_array(stays @ mass @ stays)
    system = replace(
        held, mesh=mesh, elements=tuple(elements), connectors=tuple(connectors), masses=masses, stiffness=K.result(),
        mass=plain, weighed=mass, damping=assemble(size, damping), kept={},
    )  # fmt: skip
    push = shape.inner - shape.outside
    feet = []
    for f in base.feet:
        for number, node in enumerate(f.nodes.tolist()):
            on = bool(touching[f.name][number])
            gap = f.sign * float(shape.u[6 * node + f.axis]) + f.gap
            force = f.sign * float(push[6 * node + f.axis]) if on else 0.0
            status: Literal["touching", "open"] = "touching" if on else "open"
            feet.append(FootRow(f.name, node, status, 0.0 if on else gap, force, np.zeros(3), np.zeros(3), 0.0))
    free = base.active.copy()
    free[_held(model, 1.0, touching)[0]] = False
    scale = float((np.abs(shape.outside) + np.abs(shape.inner)).max(initial=0.0)) or 1.0
    violation = float(np.abs(push[free]).max(initial=0.0)) / scale
    field_ = LoadField(model.field.name, model.field.force, model.field.ride, np.zeros(size))
    loaded = Loaded(np.zeros(size), field_, {}, -shape.inner, forces, tuple(local), shape.u)
    slack = tuple(sorted({r.run.e.part for r in shape.runs if r.run.cable and r.slack.all()}))
    return Equilibrium(base, system, loaded, tuple(feet), tuple(rows), slack, violation, count)
