"""What gauges read in the state itself, and totals of that and of what an event adds."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.errors import EventError, first_few
from holokine.findings import Finding
from holokine.gauges.force_gauges import friction_name
from holokine.gauges.resting_gauges import LETS_GO
from holokine.gauges.turning import turning
from holokine.ranking import first_largest, ranked

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.gauges.channels import GaugeSet
    from holokine.gauges.readings import Reading
    from holokine.respond.bench import Bench
    from holokine.respond.reduced import ReducedModel
    from holokine.state.about import AtRest

__all__ = [
    "STATE",
    "large_turns",
    "letting_go",
    "read_at_rest",
    "resting_gauges",
    "state_channels",
    "state_values",
    "totals",
    "with_state",
]

FAR = 0.2
"""Travel of a member's ends against each other across its length, over that: 11 deg, where a cosine is off by 2 %."""
STATE = "the state"
"""Name of the column of an event in time that the state stands in."""


def state_channels(state: AtRest, gauges: GaugeSet | None = None) -> Floats:
    """All channels in the state itself, SI, shape (channels,); what nothing at rest has is zero.

    `gauges`: of the assembly with what acts in the state and without what stress adds.
    """
    made = gauges or resting_gauges(state)
    loaded, source = state.equilibrium.loaded, state.reading
    held = state.elastic.constraints.forces(loaded.unbalanced(state.elastic))
    values = made.on_displacement @ source.displacement + made.on_acceleration @ source.ride
    values = values + made.on_multipliers @ held
    amounts = dict(loaded.growth)
    for c in state.elastic.connectors:
        if c.name in loaded.forces:
            amounts[c.name] = c.beside(source.displacement, loaded.forces[c.name])
    springs = {c.nodes[0]: c for c in state.elastic.connectors if c.kind == "friction"}
    for r in state.equilibrium.feet:
        spring = springs.get(r.node)
        for d in range(3):
            if r.status == "sliding":
                amounts[friction_name(r.support, r.node, d)] = float(r.across[d])
            elif spring is not None and spring.name == f"{r.support} friction":
                more = float(spring.stiffness[d]) * float(loaded.displacement[6 * r.node + d])
                amounts[friction_name(r.support, r.node, d)] = float(r.across[d]) + more
    values += made.of_free(amounts)
    shares = np.zeros(len(values), dtype=bool)
    for reading in made.readings:
        if reading.component == LETS_GO:
            shares[reading.columns] = True
    return np.where(made.channels.is_damper_portion | made.channels.is_rate | shares, 0.0, values)


def resting_gauges(state: AtRest) -> GaugeSet:
    """The gauges of the description on the assembly with what acts in the state, without what stress adds."""
    from holokine.gauges.build import build_gauges

    return build_gauges(replace(state.reading.system, resting=state.system.resting))


def state_values(bench: Bench, name: str) -> Floats:
    """All channels in the bench's state.

    Raises
    ------
    EventError
        No state is switched on.
    """
    state = bench.at_rest
    if state is None:
        raise EventError(
            f'event "{name}": with state: the assembly vibrates about no state; switch one on (state: NAME, --state)',
            path=("events", name),
        )
    return state_channels(state)


def read_at_rest(gauges: GaugeSet, values: Floats) -> tuple[Floats, tuple[str, ...]]:
    """Value of every reading with its place, from those of all channels; NaN for rates, which nothing at rest has."""
    peaks, places = np.full(len(gauges.readings), np.nan), [""] * len(gauges.readings)
    for number, reading in enumerate(gauges.readings):
        if not gauges.channels.is_rate[reading.channels[0]]:
            found = reading.form.value(reading.parts(values))
            best = first_largest(reading.size(found))
            peaks[number], places[number] = found[best], reading.place(best)
    return peaks, tuple(places)


def with_state(reduced: ReducedModel, values: Floats) -> ReducedModel:
    """The model with a column for the state itself, which drives no mode."""
    none, nothing = np.zeros((1, reduced.modal.shape[1])), np.full(1, np.nan)
    settled = None if reduced.settled is None else np.vstack([reduced.settled, none])
    damper = None if reduced.settled_damper is None else np.vstack([reduced.settled_damper, none])
    return replace(
        reduced, participation=np.hstack([reduced.participation, np.zeros((reduced.count, 1))]),
        residual=np.vstack([reduced.residual, values]), static=np.vstack([reduced.static, values]),
        rigid=np.vstack([reduced.rigid, none]), captured=np.concatenate([reduced.captured, nothing]),
        free_mass=np.concatenate([reduced.free_mass, nothing]),
        whole_mass=np.concatenate([reduced.whole_mass, nothing]), loads=(*reduced.loads, STATE),
        settled=settled, settled_damper=damper,
    )  # fmt: skip


def totals(
    readings: tuple[Reading, ...], values: Floats, peaks: Floats, lowest: Floats | None = None,
    highest: Floats | None = None,
) -> tuple[Floats, NDArray[np.bool_]]:  # fmt: skip
    """Peaks of the state and an answer together, with the sign of the answer that is worse, and which are bounds.

    Exact for one channel; for magnitudes and fields the largest of the state and that of the answer added, which is
    at least the peak of their sum (both are norms). Shape (readings,) each.
    """
    result, bound = np.array(peaks, dtype=float), np.zeros(len(peaks), dtype=bool)
    for number, reading in enumerate(readings):
        if not np.isfinite(peaks[number]):
            continue
        own = reading.form.value(reading.parts(values))
        if reading.form.signed and reading.count == 1:
            ends = np.array([-abs(peaks[number]), abs(peaks[number])])
            if lowest is not None and highest is not None:
                ends = np.array([lowest[number], highest[number]])
            both = own[0] + ends
            result[number] = both[int(np.abs(both).argmax())]
        else:
            result[number] = float(np.abs(own).max()) + abs(peaks[number])
            bound[number] = bool(own.any())
    return result, bound


def large_turns(result: Any) -> list[Finding]:
    """Members that turn so far that the geometry as given cannot bear it."""
    names, reading = turning(result.reduced.channels)
    if reading is None:
        return []
    sizes = result.sizes(reading)
    far = [k for k in ranked(sizes) if sizes[k] > FAR]
    if not far:
        return []
    worst = first_few([f'"{names[k]}" by {np.degrees(np.arctan(sizes[k])):.3g} deg' for k in far], 6)
    return [Finding(
        "warning", f"members turn far: {worst}. Answers take the geometry as given, which is good to some percent up "
        f"to {np.degrees(FAR):.0f} deg: hold what travels, or take a smaller event; at rest follow it by load steps",
    )]  # fmt: skip


def letting_go(result: Any) -> list[Finding]:
    """Whether vibration pulls one-way members apart, with the margin."""
    found, held = [], []
    for number, reading in enumerate(result.reduced.readings):
        if reading.component != LETS_GO:
            continue
        most = max(float(result.peaks[number]), 0.0)
        if most > 1.0:
            found.append((most, reading.gauge))
        else:
            held.append((most, reading.gauge))
    findings: list[Finding] = []
    if getattr(result, "followed", None) is not None:
        return findings
    if found:
        most_first = sorted(found)[::-1]
        worst = first_few([f"{name} ({share:.2f} times what it carries at rest)" for share, name in most_first], 6)
        worst += f" by {result.meaning.words}" if result.meaning.amount else ""
        findings.append(Finding(
            "warning", f"the vibration pulls apart what only pushes or pulls: {worst}. This answer holds it both "
            "ways; there it is wrong from the moment it lets go; an event in time, or a sine sweep, can follow it "
            "(follow: true, --follow)",
            "lets go", numbers={name: share for share, name in most_first},
        ))  # fmt: skip
    if held and max(held)[0] > 0.0:
        share, name = max(held)
        findings.append(Finding(
            "note", "of the resting force of one-way members that hold, vibration takes off at most "
            f"{100 * share:.3g} % ({name})",
        ))  # fmt: skip
    return findings
