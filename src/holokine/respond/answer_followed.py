"""Following in time what lets go, hits or slides: one-way supports, springs and cables, springs with a law.

The assembly about its state is reduced once: modes, a static shape for every direction in which a member can push, and
for every foot that the state holds what follows a unit motion of it at rest (constraint modes: Craig and Bampton, AIAA
Journal 6 (1968) 1313-1319). In these coordinates the members are followed (`contacts`); the answer is then read like
any other, the members' forces standing beside the loads and opened feet beside the moving supports.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.elements.laws import force_law
from holokine.errors import EventError
from holokine.findings import Finding
from holokine.modes.attached import attached_shapes
from holokine.respond.bench import relieved, taken
from holokine.respond.contacts import OPEN, Few, Member, Run
from holokine.respond.direct import RowStates, cubic
from holokine.respond.oscillators import Trajectory, quintic
from holokine.respond.readout import Readout
from holokine.respond.reduced import slight, solve_static, with_loads
from holokine.respond.resting import STATE, state_values, with_state
from holokine.respond.steady import at_rest_under, joined
from holokine.respond.stepped import Stepped
from holokine.respond.transient import Followed, History, TimeResult, answer_of_path
from holokine.state.equilibrium import line_of
from holokine.state.hanging import lengthened
from holokine.system.loads import LoadField, base_field

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe.events import TimeEvent
    from holokine.excite.pulse import BasePulse
    from holokine.respond.bench import Bench
    from holokine.system.build import System

__all__ = ["followed"]

MOST = 300
_UNBALANCED = 1e-3


@dataclass(eq=False)
class _Place:
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


class _Sampled(RowStates):
    """Coordinates on rows, between them by the curves through values, slopes and accelerations.

    `straight`: accelerations straight between rows, where a part has no mass.
    """

    def __init__(
        self, omega: Floats, damping: Floats, weights: Floats, columns: NDArray[np.int64], slopes: Floats,
        straight: bool,
    ) -> None:  # fmt: skip
        super().__init__(omega, damping, weights)
        self.columns, self.slopes = columns, slopes  # of loads that are curves, by their slopes at rows
        self.straight = straight

    def within(self, path: Trajectory, row: NDArray[np.int64], tau: Floats) -> tuple[Any, Floats]:
        if self.straight:
            return super().within(path, row, tau)
        nxt, h, s = self.step_at(path, row, tau)
        ends = [[path.state[r][..., k] for k in range(3)] for r in (row, nxt)]
        load = path.load[row] + s * (path.load[nxt] - path.load[row])
        first, last = (path.load[r][:, self.columns] for r in (row, nxt))
        load[:, self.columns] = cubic(s, h, first, last, self.slopes[row], self.slopes[nxt])
        return np.stack(quintic(s, h, *ends), axis=2), load


class _FollowedHistory(History):
    """A history in which feet move too."""

    def __init__(self, readout: Readout, path: Trajectory, pulse: BasePulse, oscillators: _Sampled,
                 frame: tuple[Floats, Floats]) -> None:  # fmt: skip
        super().__init__(readout, path, pulse, oscillators)
        self._frame = frame if readout.needs_frame else None


def followed(
    bench: Bench, name: str, event: TimeEvent, linear: TimeResult, pulse: BasePulse, extra: list[LoadField]
) -> TimeResult:
    """The answer with what lets go, hits or slides; `linear`: the answer that holds it both ways.

    Raises
    ------
    EventError
        Nothing acts one way; a start from loads at rest; too many directions; friction together with restitution.
    """
    where = ("events", name)
    system = bench.system
    places = _places(bench)
    if not places:
        raise EventError(f'event "{name}": follow: no support, spring or cable acts one way or by a law', path=where)
    both = next((p.member.name for p in places if p.across and p.member.restitution), None)
    if both is not None:
        raise EventError(
            f'event "{name}": follow: "{both}" has friction and restitution; a rough foot has no mass of its own when '
            "followed, and rebounds by what yields above it: leave one of the two out", path=where,
        )  # fmt: skip
    state_column = STATE in pulse.names
    resting = pulse.resting[:-1] if state_column else pulse.resting
    if resting.any():
        raise EventError(
            f'event "{name}": follow starts from the state, not from a static event (start from, let go): put its '
            "loads into a state (states: ..., state: NAME)", path=where,
        )  # fmt: skip
    base = taken(bench, event)
    shapes = bench.modes.shapes[: base.count]
    none = np.zeros(system.size)
    moved = [(p, k, _imposed(system, p, k)) for p in places for k, held in enumerate(p.held) if held]
    rides = [solve_static(system, [LoadField("", none, none, m)])[0] for _, _, m in moved]
    feet = [LoadField(_column(p, k), none, r, none, True)
            for (p, k, _), r in zip(moved, rides, strict=True)]  # fmt: skip
    pushing = [(j, k) for j, p in enumerate(places) for k in range(1 + len(p.across)) if not p.held[k]]
    damped = [j for j, p in enumerate(places) if p.damping and not p.held[0]]
    rubs = any(p.across for p in places)
    if len(pushing) + len(feet) > MOST:
        raise EventError(
            f'event "{name}": follow: {len(pushing) + len(feet)} directions in which members can act, and {MOST} are '
            "the most; link their nodes to points", path=where,
        )  # fmt: skip
    own_loads = [base_field(system, a) for a in "xyz"] + extra
    acting = [f.force - system.mass @ f.ride - system.stiffness @ f.moved for f in own_loads]
    pushes = np.array([*(places[j].rows[k] for j, k in pushing), *acting, *(system.mass @ r for r in rides)])
    attached = attached_shapes(bench.modes, shapes, base.omega, pushes)
    q = base.count + len(attached.omega)
    V = np.vstack([shapes, attached.shapes, *(r[None] for r in rides)])
    few = _few(bench, base.damping, V, q, np.concatenate([base.omega, attached.omega]), acting, places)
    load = linear.base[:, :-1] if state_column else linear.base
    jumps = pulse.jumps_on(linear.time)
    if jumps is not None:
        jumps = jumps[:, : load.shape[1]]
    keep = float(base.omega[-1]) * (1.0 + 1e-9)

    def march(finer: int) -> Run:
        if rubs:
            return Stepped(few, linear.time, load, jumps, finer, keep).run()
        return few.run(linear.time, load, jumps=jumps, finer=finer)

    run = march(1)
    if not run.changes and not any(m.smooth for m in few.members):
        return replace(linear, followed=Followed(tuple(few.members), run, linear.peaks, 0.0))
    # the answer's own columns: base and groups, feet, loads, members
    moving = pulse.moving
    order = [*own_loads[:moving], *feet, *own_loads[moving:]]
    forces = [LoadField(_column(places[j], k), (-1.0 if k == 0 else 1.0) * places[j].rows[k], none, none)
              for j, k in pushing]  # fmt: skip
    forces += [LoadField(f"{places[j].member.name}, damper", -places[j].row, none, none) for j in damped]
    reduced = with_loads(base, bench.modes, bench.gauges, [*order[3:], *forces])
    direct = np.zeros((len(forces), len(bench.gauges.channels)))
    for i, (j, k) in enumerate(pushing):
        free = places[j].free
        if free is not None and k == 0:
            direct[i] = bench.gauges.of_free({free[0]: free[1]})
    for i, j in enumerate(damped, start=len(pushing)):
        direct[i] = _damper_reading(bench, places[j])
    first = len(reduced.loads) - len(forces)
    residual, static = reduced.residual.copy(), reduced.static.copy()
    residual[first:] += direct
    static[first:] += direct
    reduced = joined(replace(reduced, residual=residual, static=static), system, bench.gauges, attached,
                     [*order, *forces], by_inertia=True)  # fmt: skip
    reduced = relieved(bench, reduced, lambda: at_rest_under(bench, V[:q], system.damping))
    names = [*pulse.names[:moving], *(f.name for f in feet), *pulse.names[moving : load.shape[1]],
             *(f.name for f in forces)]  # fmt: skip
    if event.with_state:
        reduced, names = with_state(reduced, state_values(bench, name)), [*names, STATE]
    wide = _widened(pulse, names, len(feet), load.shape[1])

    def read(run: Run) -> TimeResult:
        beside, rates = _beside(run, places, pushing)
        columns = [run.load[:, :moving], run.a[:, q:], run.load[:, moving:], beside, _dampers(run, places, damped)]
        if event.with_state:
            columns.append(np.ones((len(run.time), 1)))
        loads = np.hstack(columns)
        speed, place = pulse.base_motion(run.time, run.load)
        frame = np.hstack([speed, run.v[:, q:]]), np.hstack([place, run.x[:, q:]])
        path = Trajectory(run.time, loads, np.stack([run.x[:, :q], run.v[:, :q], run.a[:, :q]], axis=2))
        curved = np.flatnonzero([k == 0 and not rubs for _, k in pushing])
        at = len(feet) + load.shape[1] + curved
        oscillators = _Sampled(reduced.omega, reduced.damping, -reduced.participation, at, rates[:, curved], rubs)
        reader = _FollowedHistory(Readout(reduced, True), path, wide, oscillators, frame)
        return answer_of_path(reader, reduced, wide, name, ())

    result, again = read(run), read(march(2))
    told = Followed(tuple(few.members), run, linear.peaks, _differ(result, again))
    kept = tuple(f for f in linear.findings if f.kind != "lets go")
    return replace(result, acting=(*extra[: moving - 3], *feet, *extra[moving - 3 :], *forces),
                   findings=(*kept, *_findings(told)), followed=told, beside=attached.shapes)  # fmt: skip


def _column(p: _Place, k: int) -> str:
    return p.member.name + (", across" * k if k < 2 else ", across too")


def _imposed(system: System, p: _Place, k: int) -> Floats:
    dof = int(np.flatnonzero(p.rows[k])[0])
    values = np.zeros(system.constraints.rows.shape[0])
    for support in system.supports.values():
        here = np.flatnonzero(support.dofs == dof)
        if len(here):
            values[support.rows.start + here[0]] = 1.0
    return system.constraints.enforced(values)


def _places(bench: Bench) -> list[_Place]:
    """Every member that acts one way or by a law, as it is in the state."""
    system, at_rest = bench.system, bench.at_rest
    d, size = system.description, system.size
    found: list[_Place] = []
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
            found.append(_Place(member, row, across, held=held))
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
            found.append(_Place(member, row, [], k0, held=(False,), free=(c.name, 1.0)))
            continue
        sign = 1.0 if spring.one_way == "pull" else -1.0
        gap = (spring.gap or 0.0) - sign * start
        c0 = float(c.damping[0])
        member = Member(c.name, sign * row, spring.stiffness, c0, gap, max(-gap, 0.0) * spring.stiffness)
        found.append(_Place(member, sign * row, [], k0, c0, (False,), (c.name, sign)))
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
            found.append(_Place(Member(part, row, own, gap=max(-loose, 0.0)), row, [], held=(False,)))
            continue
        row = pulled / own
        pull = float(system.resting[part][0]) if part in system.resting else 0.0
        member = Member(part, row, own, gap=-pull / own, force=pull)
        found.append(_Place(member, row, [], own, held=(False,), free=(part, -1.0 / (own * length))))
    return found


def _few(
    bench: Bench, ratios: Floats, V: Floats, q: int, omega: Floats, acting: list[Floats], places: list[_Place]
) -> Few:
    """The assembly in modes, static shapes and motions of feet, without its members."""
    system, count = bench.system, len(ratios)
    MV, KV = (np.asarray(m @ V.T) for m in (system.mass, system.stiffness))
    M, K = V @ MV, V @ KV
    M[:q, :q], K[:q, :q] = np.eye(q), np.diag(omega**2)
    K[:q, q:], K[q:, :q] = 0.0, 0.0  # feet that move leave the rest without force
    C = V @ np.asarray(system.damping @ V.T)
    plain = np.maximum(ratios - bench.dampers.ratios[:count], 0.0)
    # what answers at rest does not ring: static shapes are damped critically
    C[np.arange(q), np.arange(q)] += 2.0 * np.concatenate([plain, np.ones(q - count)]) * omega
    members = []
    for p in places:
        row, across = V @ p.row, np.array([V @ a for a in p.across]).reshape(-1, len(V))
        row[np.abs(row) < 1e-13 * np.abs(row).max(initial=0.0)] = 0.0
        K -= p.stiffness * np.outer(row, row)
        C -= p.damping * np.outer(row, row)
        members.append(replace(p.member, row=row, across=across))
    M, C, K = ((m + m.T) / 2.0 for m in (M, C, K))
    return Few(M, C, K, V @ np.array(acting).T, members)


def _beside(run: Run, places: list[_Place], pushing: list[tuple[int, int]]) -> tuple[Floats, Floats]:
    """Forces of members beside what the stiffness about the state says of them, and how fast they change.

    Shape (rows, pushing) each; of friction the second is zero.
    """
    force, rate = np.zeros((2, len(run.time), len(pushing)))
    for i, (j, k) in enumerate(pushing):
        p, m = places[j], places[j].member
        if k:
            force[:, i] = run.rub[:, j, k - 1] - m.across_force[k - 1]
            continue
        force[:, i], rate[:, i] = run.force[:, j] - m.force, run.force_rate[:, j]
        if not m.rigid:
            damper = m.damping * (run.status[:, j] != OPEN)
            force[:, i] -= p.stiffness * run.closing[:, j] + damper * run.speed[:, j]
            rate[:, i] -= p.stiffness * run.speed[:, j] + damper * run.closing_acceleration[:, j]
    return force, rate


def _dampers(run: Run, places: list[_Place], damped: list[int]) -> Floats:
    """Forces of dampers of one-way members beside those of dampers that act both ways, (rows, damped)."""
    off = run.status[:, damped] == OPEN
    return np.where(off, -run.speed[:, damped] * np.array([places[j].damping for j in damped]), 0.0)


def _damper_reading(bench: Bench, p: _Place) -> Floats:
    """What gauges of a member's damper, and of its whole force, read per N of the damper, (channels,)."""
    gauges, d = bench.gauges, bench.document.description
    unit = gauges.read_velocity((p.row / (p.row @ p.row))[None])[0] / p.damping
    own = np.zeros(len(unit), dtype=bool)
    for block, where in zip(gauges.channels.blocks, gauges.channels.slices, strict=True):
        gauge = d.gauges.get(block.gauge)
        own[where] = gauge is not None and gauge.source == p.member.name
    return np.where(own, unit, 0.0)


def _widened(pulse: BasePulse, names: list[str], feet: int, loads: int) -> BasePulse:
    """The excitation with columns for feet that move and for members, which are found, not given."""
    moving, rows = pulse.moving, len(pulse.time)
    own = pulse.acceleration
    more = np.zeros((rows, len(names) - feet - loads))
    if names[-1] == STATE:
        more[:, -1] = 1.0
    wide = np.hstack([own[:, :moving], np.zeros((rows, feet)), own[:, moving:loads], more])
    before = np.zeros(len(names))
    before[-1] = 1.0 if names[-1] == STATE else 0.0
    felt = tuple((column + feet, of) for column, of in pulse.felt)
    found = tuple(k for k in range(loads + feet, len(names)) if names[k] != STATE)
    return replace(
        pulse, found=found, acceleration=wide, names=tuple(names), before=before, moving=moving + feet, felt=felt
    )


def _differ(one: TimeResult, other: TimeResult) -> float:
    """Largest difference of the peaks of readings that matter, relative to them."""
    matters = ~slight(one.reduced.readings, one.peaks) & np.isfinite(one.peaks)
    if not matters.any():
        return 0.0
    off = np.abs(np.abs(one.peaks) - np.abs(other.peaks))[matters] / np.abs(one.peaks)[matters]
    return float(off.max())


def _findings(told: Followed) -> list[Finding]:
    run = told.run
    found = [Finding(
        "note", f"followed through {len(run.changes):,} changes of what touches, pulls and slides; with steps half as "
        f"long peaks differ by at most {100 * told.error:.2g} %, and energies are in balance within "
        f"{100 * max(run.balance, 1e-12):.1g} %",
        "followed", numbers={"changes": len(run.changes), "error": told.error, "energy": run.balance},
    )]  # fmt: skip
    if run.balance > _UNBALANCED or told.error > 0.02:
        found.append(Finding(
            "warning", f"what was followed is not settled: peaks differ by {100 * told.error:.2g} % with steps half as "
            f"long, and energies are out of balance by {100 * run.balance:.2g} %; give a shorter step (step: ...)",
            "unsettled", numbers={"error": told.error, "energy": run.balance},
        ))  # fmt: skip
    left = run.work["kinetic"] + np.abs(run.work["strain"] - run.work["strain"].min())
    share = float(left[-1] / max(float(left.max()), 1e-300))
    if share > 0.05:
        found.append(Finding(
            "note", f"at the end {100 * share:.0f} % of the largest energy is still there: more may let go or hit "
            "later; give a longer ring down", "still moving", numbers={"share": share},
        ))  # fmt: skip
    return found
