"""Following in time what lets go, hits or slides: one-way supports, springs and cables, springs with a law.

In the few coordinates of `following` they are followed by `contacts`; where feet rub, by `stepped`.
"""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.errors import EventError
from holokine.findings import Finding
from holokine.modes.attached import attached_shapes
from holokine.respond.bench import relieved, taken
from holokine.respond.contacts import OPEN, Run
from holokine.respond.direct import RowStates, cubic
from holokine.respond.following import Following, Place
from holokine.respond.oscillators import Trajectory, quintic
from holokine.respond.readout import Readout
from holokine.respond.reduced import slight
from holokine.respond.resting import STATE, state_values, with_state
from holokine.respond.steady import at_rest_under, joined
from holokine.respond.stepped import Stepped
from holokine.respond.transient import Followed, History, TimeResult, answer_of_path

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe.events import TimeEvent
    from holokine.excite.pulse import BasePulse
    from holokine.respond.bench import Bench
    from holokine.system.loads import LoadField

__all__ = ["followed"]

MOST = 300
_UNBALANCED = 1e-3


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
    state_column = STATE in pulse.names
    resting = pulse.resting[:-1] if state_column else pulse.resting
    base = taken(bench, event)
    own = Following(bench, name, base, extra, MOST)
    if resting.any():
        raise EventError(
            f'event "{name}": follow starts from the state, not from a static event (start from, let go): put its '
            "loads into a state (states: ..., state: NAME)", path=("events", name),
        )  # fmt: skip
    places, feet = own.places, own.feet
    rubs = any(p.across for p in places)
    attached = attached_shapes(bench.modes, bench.modes.shapes[: base.count], base.omega, own.pushes)
    shapes = np.vstack([bench.modes.shapes[: base.count], attached.shapes])
    q = len(shapes)
    plain = np.maximum(base.damping - bench.dampers.ratios[: base.count], 0.0)
    # what answers at rest does not ring: static shapes are damped critically
    few = own.few(shapes, np.concatenate([base.omega, attached.omega]),
                  np.concatenate([plain, np.ones(q - base.count)]))  # fmt: skip
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
    moving = pulse.moving
    reduced = joined(own.reduced(), bench.system, bench.gauges, attached, own.fields, by_inertia=True)
    reduced = relieved(bench, reduced, lambda: at_rest_under(bench, shapes, bench.system.damping))
    names = [*pulse.names[:moving], *(f.name for f in feet), *pulse.names[moving : load.shape[1]],
             *(f.name for f in own.forces)]  # fmt: skip
    if event.with_state:
        reduced, names = with_state(reduced, state_values(bench, name)), [*names, STATE]
    wide = _widened(pulse, names, len(feet), load.shape[1])

    def read(run: Run) -> TimeResult:
        beside, rates = _beside(run, places, own.pushing)
        columns = [run.load[:, :moving], run.a[:, q:], run.load[:, moving:], beside, _dampers(run, places, own.damped)]
        if event.with_state:
            columns.append(np.ones((len(run.time), 1)))
        loads = np.hstack(columns)
        speed, place = pulse.base_motion(run.time, run.load)
        frame = np.hstack([speed, run.v[:, q:]]), np.hstack([place, run.x[:, q:]])
        path = Trajectory(run.time, loads, np.stack([run.x[:, :q], run.v[:, :q], run.a[:, :q]], axis=2))
        curved = np.flatnonzero([k == 0 and not rubs for _, k in own.pushing])
        at = len(feet) + load.shape[1] + curved
        oscillators = _Sampled(reduced.omega, reduced.damping, -reduced.participation, at, rates[:, curved], rubs)
        reader = _FollowedHistory(Readout(reduced, True), path, wide, oscillators, frame)
        return answer_of_path(reader, reduced, wide, name, ())

    result, again = read(run), read(march(2))
    told = Followed(tuple(few.members), run, linear.peaks, _differ(result, again))
    kept = tuple(f for f in linear.findings if f.kind != "lets go")
    return replace(result, acting=(*extra[: moving - 3], *feet, *extra[moving - 3 :], *own.forces),
                   findings=(*kept, *_findings(told)), followed=told, beside=attached.shapes)  # fmt: skip


def _beside(run: Run, places: list[Place], pushing: list[tuple[int, int]]) -> tuple[Floats, Floats]:
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


def _dampers(run: Run, places: list[Place], damped: list[int]) -> Floats:
    """Forces of dampers of one-way members beside those of dampers that act both ways, (rows, damped)."""
    off = run.status[:, damped] == OPEN
    return np.where(off, -run.speed[:, damped] * np.array([places[j].damping for j in damped]), 0.0)


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
