"""Loads at rest: displacement, gauges, and the balance of loads and reactions."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from holokine.errors import MechanismError
from holokine.findings import Finding
from holokine.respond.meaning import VALUE, Meaning
from holokine.respond.reduced import read_static, reading_noise, solve_static
from holokine.respond.resting import read_at_rest, resting_gauges, state_channels, state_values
from holokine.system.loads import Resultant, load_sum
from holokine.system.pieces import connected_pieces

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe.events import StateEvent, StaticEvent
    from holokine.gauges.channels import GaugeSet
    from holokine.gauges.readings import Reading
    from holokine.respond.bench import Bench
    from holokine.state.about import AtRest

__all__ = ["StaticResult", "answer_static", "respond_static"]


@dataclass(frozen=True)
class StaticResult:
    """Answer to loads at rest.

    Attributes
    ----------
    reduced : GaugeSet
        Channels and readings.
    loads : dict of str to float
        Factors by load.
    displacement : ndarray, shape (dofs,)
        m and rad, relative to the frame.
    peaks : ndarray, shape (readings,)
        SI, with sign; NaN for velocities and accelerations.
    places : tuple of str
        For readings of a field: where the largest value is.
    applied, reactions, ground : ndarray, shape (3,)
        Resultants in N of the loads, of the supports, and of springs to the frame, along x y z; zero where it is
        rounding only.
    findings : tuple of Finding
    state : AtRest, optional
        Where it is a state of its own.
    total : Resultant, optional
        Of all loads.
    """

    reduced: GaugeSet
    name: str
    loads: dict[str, float]
    displacement: Floats
    peaks: Floats
    places: tuple[str, ...]
    applied: Floats
    reactions: Floats
    ground: Floats
    findings: tuple[Finding, ...]
    state: AtRest | None = None
    total: Resultant | None = None

    @property
    def meaning(self) -> Meaning:
        """Of `peaks`."""
        return VALUE

    def sizes(self, reading: Reading) -> Floats:
        """Of a reading of displacements at each of its places, shape (places,)."""
        maps = self.reduced.on_displacement[reading.columns]
        return np.abs(reading.form.value((maps @ self.displacement).reshape(reading.count, reading.width)))

    @cached_property
    def noise(self) -> Floats:
        """What is rounding only in each reading, shape (readings,)."""
        return reading_noise(self.reduced.readings, self.peaks)


def respond_static(
    gauges: GaugeSet, factors: dict[str, float], *, name: str = "loads at rest", state: Floats | None = None
) -> StaticResult:
    """Readings of all gauges under loads of the description at rest, added with factors.

    `state`: channels in the state itself, to be added.

    Raises
    ------
    MechanismError
        When something can move freely.
    """
    system = gauges.system
    free = [w for piece in connected_pieces(system) for w in piece.words]
    if free:
        raise MechanismError("loads at rest need every rigid-body motion held by supports; free: " + "; ".join(free))
    total = load_sum(system, name, factors)
    moved = solve_static(system, [total])[0]
    values = read_static(gauges, total, moved)
    if state is not None:
        values = values + state
    peaks, places = read_at_rest(gauges, values)
    inertia = system.mass @ total.ride
    outside = (total.force - inertia).reshape(-1, 6)[:, :3].sum(axis=0)
    unbalanced = system.stiffness @ moved + inertia - total.force
    taken = system.constraints.forces(unbalanced)
    reactions = np.zeros(3)
    for support in system.supports.values():
        for d in range(3):
            reactions[d] += taken[support.rows][support.dofs % 6 == d].sum()
    ground = -(system.stiffness @ moved).reshape(-1, 6)[:, :3].sum(axis=0)
    off = float(np.abs(outside + reactions + ground).max())
    size = max(float(np.abs(np.stack([outside, reactions, ground])).max()), float(np.abs(taken).max(initial=0.0)))
    findings = []
    if off > 1e-6 * size:
        findings.append(Finding(
            "warning", f"loads and reactions are out of balance by {off:.3g} N: the stiffness is badly conditioned"
        ))  # fmt: skip
    outside, reactions, ground = (
        np.where(np.abs(v) < 1e-9 * size, 0.0, v) for v in (outside, reactions, ground)
    )  # fmt: skip
    return StaticResult(
        gauges, name, dict(factors), moved, peaks, places, outside, reactions, ground, tuple(findings),
        total=Resultant.of(system, total),
    )  # fmt: skip


def answer_static(bench: Bench, name: str, event: StaticEvent) -> StaticResult:
    """Answer an event of loads at rest.

    Raises
    ------
    EventError, MechanismError
        Something that can move freely.
    """
    state = state_values(bench, name) if event.with_state else None
    return respond_static(bench.gauges, event.static, name=name, state=state)


def answer_state(bench: Bench, name: str, event: StateEvent) -> StaticResult:
    """Answer an event that is a state of its own, whatever state is switched on.

    Raises
    ------
    EquilibriumError
        It has none, or is beyond buckling.
    """
    from holokine.state.about import at_rest

    d = bench.document.description
    described = d.states[event.state]
    state = bench.at_rest if d.state == event.state else at_rest(bench.unloaded, described, event.state)
    assert state is not None
    gauges = resting_gauges(state)
    peaks, places = read_at_rest(gauges, state_channels(state, gauges))
    return StaticResult(
        gauges, name, dict(described.loads), state.displacement, peaks, places, *state.balance, state.findings, state
    )  # fmt: skip
