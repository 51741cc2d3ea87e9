"""Answering an event in time."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from typing import TYPE_CHECKING, Any

from holokine.errors import EventError
from holokine.excite.pulse import BasePulse, build_pulse
from holokine.modes.damping import COUPLED, rayleigh_factors
from holokine.respond.bench import Bench, about_supports, damping_words, refuse_moved, relieved, taken
from holokine.respond.moving_groups import moving_groups
from holokine.respond.reduced import ReducedModel, with_loads
from holokine.respond.resting import STATE, state_values, with_state
from holokine.respond.transient import TimeResult, respond_pulse
from holokine.system.loads import LoadField, base_field, load_field, load_sum

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe.events import PulseShape, TimeEvent
    from holokine.respond.direct import FullModel

__all__ = ["answer_time"]


def answer_time(bench: Bench, name: str, event: TimeEvent) -> TimeResult:
    """Follow the modes (or the whole model) in time, from rest under the loads before.

    Raises
    ------
    EventError, DescriptionError
    """
    reduced = taken(bench, event)
    pulse, extra = _excitation(bench, name, event)
    if extra:
        reduced = with_loads(reduced, bench.modes, bench.gauges, extra)
    if event.with_state:
        if not event.static_correction or event.model == "full":
            raise EventError(
                f'event "{name}": with state needs the reduced model and its static correction', path=("events", name)
            )
        reduced = with_state(reduced, state_values(bench, name))
    reduced = relieved(bench, reduced, partial(_under_dampers, bench, reduced.count))
    method: str = event.method
    if method == "automatic":
        method = "coupled modes" if bench.dampers.coupling > COUPLED else "modes"
    coupling = None
    if method != "modes":
        shapes = bench.modes.shapes[: reduced.count]
        coupling = shapes @ (bench.system.damping @ shapes.T)
    answer = respond_pulse(
        reduced,
        pulse,
        name=name,
        ring_down=event.ring_down,
        step=event.step,
        static_correction=event.static_correction,
        method=method,
        coupling=coupling,
        high_frequency_damping=event.high_frequency_damping,
        full=_full(bench, reduced, extra, event) if event.model == "full" else None,
    )
    findings = (*answer.findings, *about_supports(bench, event), *damping_words(bench, event, reduced))
    answer = replace(answer, acting=tuple(extra), findings=findings)
    if event.follow:
        from holokine.respond.answer_followed import followed

        return followed(bench, name, event, answer, pulse, extra)
    return answer


def _under_dampers(bench: Bench, count: int) -> Floats:
    """All channels of the assembly at rest under the forces of dampers per modal velocity, (modes, channels)."""
    from holokine.respond.steady import at_rest_under

    return bench.held(
        "under dampers in time", str(count),
        lambda: at_rest_under(bench, bench.modes.shapes[:count], bench.system.damping),
    )  # fmt: skip


def _excitation(bench: Bench, name: str, event: TimeEvent) -> tuple[BasePulse, list[LoadField]]:
    """Signals on common rows, and the loads that they (and the start) act with."""
    d = bench.document.description
    signals: dict[str, PulseShape] = {}
    extra: list[LoadField] = []
    felt: list[str] = []
    if event.support_pulses:  # a run file answers without its system being built
        groups = moving_groups(bench.system, f'event "{name}"', event.moving)
        extra, felt = groups.fields, [f.of for f in groups.felt]
        signals = {f"{g} {axis}": s for g, own in event.support_pulses.items() for axis, s in own.pulse.items()}
    if event.load_names or event.at_rest:
        extra += [load_field(bench.system, load, d.loads[load]) for load in event.load_names]
    stays: list[str] = []
    goes: str | None = None
    for key in ("start_from", "let_go"):
        static = getattr(event, key)
        if static is not None:
            column = f"{static} (at rest)"
            if key == "start_from":
                stays.append(column)
            else:
                goes = column
            rest_event: Any = d.events[static]
            extra.append(load_sum(bench.system, column, rest_event.static))
    refuse_moved(extra, name, event)
    base = {str(a): s for a, s in (event.pulse or {}).items()}
    pulse = build_pulse(
        base, groups=signals, felt=felt, loads=event.loads,
        stays=[*stays, *([STATE] if event.with_state else [])], goes=goes, folder=bench.document.folder,
        source=f'event "{name}"',
    )  # fmt: skip
    return pulse, extra


def _full(bench: Bench, reduced: ReducedModel, extra: list[LoadField], event: TimeEvent) -> FullModel:
    system, kept = bench.system, reduced.count
    described = event.damping or bench.document.description.damping_used
    rayleigh = None if described.rayleigh is None else rayleigh_factors(*described.rayleigh)
    own = reduced.damping - bench.dampers.ratios[:kept]
    fields = [base_field(system, axis) for axis in "xyz"] + extra
    from holokine.respond.direct import FullModel

    return FullModel(system, bench.gauges, fields, bench.modes.shapes[:kept], reduced.omega, own, rayleigh)
