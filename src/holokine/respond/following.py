"""One-way supports, springs and cables, and springs with a law, in few coordinates of the assembly about its state.

It is reduced once: modes, a static shape for every direction in which a member can push, and for every foot that the
state holds what follows a unit motion of it at rest (constraint modes: Craig and Bampton, AIAA Journal 6 (1968)
1313-1319). In these coordinates members are followed in time (`contacts`) and over frequency (`periodic`); an answer is
then read like any other, their forces standing beside the loads and opened feet beside the moving supports.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from holokine.elements.laws import force_law
from holokine.errors import EventError
from holokine.respond.contacts import Few, Member
from holokine.respond.reduced import solve_static, with_loads
from holokine.state.equilibrium import line_of
from holokine.state.hanging import lengthened
from holokine.system.loads import LoadField, base_field

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.respond.bench import Bench
    from holokine.respond.reduced import ReducedModel
    from holokine.system.build import System

__all__ = ["Following", "Place"]


@dataclass(eq=False)
class Place:
    """A member in the model: its rows on the motions, and what of it stands in the stiffness already."""

    member: Member
    row: Floats
    across: list[Floats]
    stiffness: float = 0.0
    damping: float = 0.0
    held: tuple[bool, ...] = ()  # the closing, then the directions across: whether the state holds it
    free: tuple[str, float] | None = None  # what a gauge knows its force by, per N

    @property
    def rows(self) -> list[Floats]:
        """Its row, and those across."""
        return [self.row, *self.across]


class Following:
    """Members of an assembly, and what they push.

    Parameters
    ----------
    bench : Bench
    name : str
        Of the event.
    base : ReducedModel
        Modes that are kept.
    extra : list of LoadField
        What acts beside the base.
    most : int
        Directions in which members can act, at most.

    Attributes
    ----------
    places : list of Place
    loads, feet : list of LoadField
        The base along x y z and `extra`; feet that the state holds and that can move.
    pushing : list of (int, int)
        Members whose forces act from outside: which, and 0 for its closing or 1, 2 across.
    damped : list of int
        Members with a damper.
    pushes : ndarray, shape (pushes, dofs)
        What static shapes beside the modes are made for.

    Raises
    ------
    EventError
        Nothing acts one way; too many directions; friction together with restitution.
    """

    def __init__(self, bench: Bench, name: str, base: ReducedModel, extra: list[LoadField], most: int) -> None:
        self._bench, self._base = bench, base
        system, where = bench.system, ("events", name)
        self.places = places = _places(bench)
        if not places:
            raise EventError(
                f'event "{name}": follow: no support, spring or cable acts one way or by a law', path=where
            )
        both = next((p.member.name for p in places if p.across and p.member.restitution), None)
        if both is not None:
            raise EventError(
                f'event "{name}": follow: "{both}" has friction and restitution; a rough foot has no mass of its own '
                "when followed, and rebounds by what yields above it: leave one of the two out", path=where,
            )  # fmt: skip
        none = np.zeros(system.size)
        moved = [(p, k, _imposed(system, p, k)) for p in places for k, held in enumerate(p.held) if held]
        self.pushing = [(j, k) for j, p in enumerate(places) for k in range(1 + len(p.across)) if not p.held[k]]
        self.damped = [j for j, p in enumerate(places) if p.damping and not p.held[0]]
        if len(self.pushing) + len(moved) > most:
            raise EventError(
                f'event "{name}": follow: {len(self.pushing) + len(moved)} directions in which members can act, and '
                f"{most} are the most; link their nodes to points", path=where,
            )  # fmt: skip
        self.rides = [solve_static(system, [LoadField("", none, none, m)])[0] for _, _, m in moved]
        self.feet = [LoadField(_column(p, k), none, r, none, True)
                     for (p, k, _), r in zip(moved, self.rides, strict=True)]  # fmt: skip
        self.loads = [base_field(system, a) for a in "xyz"] + extra
        self.acting = [f.force - system.mass @ f.ride - system.stiffness @ f.moved for f in self.loads]
        own = [places[j].rows[k] for j, k in self.pushing]
        self.pushes = np.array([*own, *self.acting, *(system.mass @ r for r in self.rides)])

    @cached_property
    def forces(self) -> list[LoadField]:
        """Of members, then of their dampers, as loads."""
        none = np.zeros(self._bench.system.size)
        each = [(self.places[j], k) for j, k in self.pushing]
        found = [LoadField(_column(p, k), (-1.0 if k == 0 else 1.0) * p.rows[k], none, none) for p, k in each]
        dampers = [self.places[j] for j in self.damped]
        return found + [LoadField(f"{p.member.name}, damper", -p.row, none, none) for p in dampers]

    @property
    def fields(self) -> list[LoadField]:
        """Columns that an answer is read by: base, feet, loads, forces of members."""
        return [*self.loads[:3], *self.feet, *self.loads[3:], *self.forces]

    def reduced(self) -> ReducedModel:
        """The modes with these columns, and what gauges of members read of their forces directly."""
        bench = self._bench
        reduced = with_loads(self._base, bench.modes, bench.gauges, self.fields[3:])
        direct = np.zeros((len(self.forces), len(bench.gauges.channels)))
        for i, (j, k) in enumerate(self.pushing):
            free = self.places[j].free
            if free is not None and k == 0:
                direct[i] = bench.gauges.of_free({free[0]: free[1]})
        for i, j in enumerate(self.damped, start=len(self.pushing)):
            direct[i] = _damper_reading(bench, self.places[j])
        first = len(reduced.loads) - len(direct)
        residual, static = reduced.residual.copy(), reduced.static.copy()
        residual[first:] += direct
        static[first:] += direct
        return replace(reduced, residual=residual, static=static)

    def few(self, shapes: Floats, omega: Floats, ratios: Floats) -> Few:
        """The assembly without its members, in modes and static shapes (`shapes`) and motions of feet."""
        system, q = self._bench.system, len(shapes)
        V = self.coordinates(shapes)
        MV, KV = (np.asarray(m @ V.T) for m in (system.mass, system.stiffness))
        M, K = V @ MV, V @ KV
        M[:q, :q], K[:q, :q] = np.eye(q), np.diag(omega**2)
        K[:q, q:], K[q:, :q] = 0.0, 0.0  # feet that move leave the rest without force
        C = V @ np.asarray(system.damping @ V.T)
        C[np.arange(q), np.arange(q)] += 2.0 * ratios * omega
        members = []
        for p in self.places:
            row, across = V @ p.row, np.array([V @ a for a in p.across]).reshape(-1, len(V))
            row[np.abs(row) < 1e-13 * np.abs(row).max(initial=0.0)] = 0.0
            K -= p.stiffness * np.outer(row, row)
            C -= p.damping * np.outer(row, row)
            members.append(replace(p.member, row=row, across=across))
        M, C, K = ((m + m.T) / 2.0 for m in (M, C, K))
        return Few(M, C, K, V @ np.array(self.acting).T, members)

    def coordinates(self, shapes: Floats) -> Floats:
        """Shapes of all coordinates, (coordinates, dofs)."""
        return np.vstack([shapes, *(r[None] for r in self.rides)])


def _column(p: Place, k: int) -> str:
    return p.member.name + (", across" * k if k < 2 else ", across too")


def _imposed(system: System, p: Place, k: int) -> Floats:
    dof = int(np.flatnonzero(p.rows[k])[0])
    values = np.zeros(system.constraints.rows.shape[0])
    for support in system.supports.values():
        here = np.flatnonzero(support.dofs == dof)
        if len(here):
            values[support.rows.start + here[0]] = 1.0
    return system.constraints.enforced(values)


def _places(bench: Bench) -> list[Place]:
    """Every member that acts one way or by a law, as it is in the state."""
    system, at_rest = bench.system, bench.at_rest
    d, size = system.description, system.size
    found: list[Place] = []
    rows = {} if at_rest is None else {(r.support, r.node): r for r in at_rest.equilibrium.feet}
    for feet in system.feet:
        held_dofs = set(system.supports[feet.name].dofs.tolist())
        e = d.supports[feet.name].restitution or 0.0
        for number, node in enumerate(feet.nodes.tolist()):
            dof = 6 * node + feet.axis
            if not system.active[dof]:
                continue
            row, r = np.zeros(size), rows.get((feet.name, node))
            row[dof] = -feet.sign
            across: list[Floats] = []
            for axis in feet.across if feet.friction else ():
                if system.active[6 * node + axis]:
                    across.append(np.zeros(size))
                    across[-1][6 * node + axis] = 1.0
            gap, force = (feet.gap, 0.0) if r is None else (r.gap, r.force)
            at = slice(6 * node, 6 * node + 3)
            rub = np.array([0.0 if r is None else r.across @ a[at] for a in across])
            label = feet.name if len(feet.nodes) == 1 else f"{feet.name}, {number + 1}"
            member = Member(label, row, gap=gap, force=force, restitution=e, friction=feet.friction,
                            across_force=rub)  # fmt: skip
            held = (dof in held_dofs, *(int(np.flatnonzero(a)[0]) in held_dofs for a in across))
            found.append(Place(member, row, across, held=held))
    springs = {} if at_rest is None else {r.name: r for r in at_rest.equilibrium.springs}
    for c in system.connectors:
        spring = d.springs.get(c.name) if c.kind == "spring" else None
        if spring is None or (spring.one_way is None and not spring.is_nonlinear):
            continue
        row = c.along(size)
        known = springs.get(c.name)
        start = 0.0 if known is None else known.elongation
        law, k0 = force_law(spring), float(c.stiffness[0])
        if law is not None:
            member = Member(c.name, row, k0, force=law.force(start), law=law, start=start)
            found.append(Place(member, row, [], k0, held=(False,), free=(c.name, 1.0)))
            continue
        sign = 1.0 if spring.one_way == "pull" else -1.0
        gap = (spring.gap or 0.0) - sign * start
        c0 = float(c.damping[0])
        member = Member(c.name, sign * row, spring.stiffness, c0, gap, max(-gap, 0.0) * spring.stiffness)
        found.append(Place(member, sign * row, [], k0, c0, (False,), (c.name, sign)))
    for part, described in d.parts.items():
        if not described.only_pulls:
            continue
        slack = part in system.pattern.slack
        source = bench.unloaded if slack else system
        length, own, pulled = line_of(source, part, "follow")
        if slack:
            assert at_rest is not None
            chain = np.concatenate([b.nodes for b in source.element_blocks(part)])
            ends = np.array([chain[0, 0], chain[-1, 1]])
            line = np.diff(source.mesh.nodes[ends], axis=0)[0]
            row = np.zeros(size)
            for end, way in zip(ends, (-1.0, 1.0), strict=True):
                row[6 * end : 6 * end + 3] = way * line / np.linalg.norm(line)
            loose = lengthened(bench.unloaded, part, at_rest.displacement, at_rest.equilibrium.loaded.growth)
            found.append(Place(Member(part, row, own, gap=max(-loose, 0.0)), row, [], held=(False,)))
            continue
        row = pulled / own
        pull = float(system.resting[part][0]) if part in system.resting else 0.0
        member = Member(part, row, own, gap=-pull / own, force=pull)
        found.append(Place(member, row, [], own, held=(False,), free=(part, -1.0 / (own * length))))
    return found


def _damper_reading(bench: Bench, p: Place) -> Floats:
    """What gauges of a member's damper, and of its whole force, read per N of the damper, (channels,)."""
    gauges, d = bench.gauges, bench.document.description
    unit = gauges.read_velocity((p.row / (p.row @ p.row))[None])[0] / p.damping
    own = np.zeros(len(unit), dtype=bool)
    for block, where in zip(gauges.channels.blocks, gauges.channels.slices, strict=True):
        gauge = d.gauges.get(block.gauge)
        own[where] = gauge is not None and gauge.source == p.member.name
    return np.where(own, unit, 0.0)
