"""Answering an event in time."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.errors import EventError
from holokine.excite.pulse import BasePulse, build_pulse
from holokine.modes.damping import COUPLED, rayleigh_factors
from holokine.respond.bench import Bench, about_supports, damping_words, taken
from holokine.respond.reduced import ReducedModel, solve_static, with_loads
from holokine.respond.resting import STATE, state_values, with_state
from holokine.respond.transient import TimeResult, respond_pulse
from holokine.system.loads import LoadField, base_field, load_field, load_sum, moved_supports

if TYPE_CHECKING:
    from holokine.describe.events import PulseShape, TimeEvent
    from holokine.findings import Finding
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
    findings: tuple[Finding, ...] = ()
    if event.support_pulses is not None:
        findings = tuple(about_supports(bench, [s for g in event.support_pulses.values() for s in g.supports]))
    if extra:
        reduced = with_loads(reduced, bench.modes, bench.gauges, extra)
    if event.with_state:
        if not event.static_correction or event.model == "full":
            raise EventError(f'event "{name}": with state needs the reduced model and its static correction')
        reduced = with_state(reduced, state_values(bench, name))
    reduced = _relieved(bench, reduced)
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
    findings = (*answer.findings, *findings, *damping_words(bench, event, reduced))
    return replace(answer, acting=tuple(extra), findings=findings)


def _relieved(bench: Bench, reduced: ReducedModel) -> ReducedModel:
    """Forces from balance less what the assembly at rest passes under the forces of dampers, per modal velocity.

    A damper to the ground relieves the supports beside it.
    """
    channels = reduced.channels
    whole = channels.is_balance & ~channels.is_elastic_portion
    if not (bench.dampers.ratios.any() and whole.any()):
        return reduced
    from holokine.respond.steady import at_rest_under

    passed = at_rest_under(bench, bench.modes.shapes[: reduced.count], bench.system.damping)
    return replace(reduced, modal_damper=reduced.modal_damper - np.where(whole, passed, 0.0))


def _excitation(bench: Bench, name: str, event: TimeEvent) -> tuple[BasePulse, list[LoadField]]:
    """Signals on common rows, and the loads that they (and the start) act with."""
    d = bench.document.description
    groups = _groups(bench, name, event)
    extra = [field for field, _ in groups.values()]
    # what dampers take from the motion of the supports itself, C r s'
    pushed = {column: -(bench.system.damping @ field.ride) for column, (field, _) in groups.items()}
    pushed = {column: force for column, force in pushed.items() if force.any()}
    extra += [
        LoadField(f"{column}, dampers", force, np.zeros_like(force), np.zeros_like(force))
        for column, force in pushed.items()
    ]
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
    for f in extra:
        if f.moved.any():
            raise EventError(
                f'event "{name}": the load "{f.name}" moves supports, which works at rest only; in time the whole '
                "base moves (pulse)"
            )
    base = {str(a): s for a, s in (event.pulse or {}).items()}
    pulse = build_pulse(
        base, groups={c: shape for c, (_, shape) in groups.items()}, felt=list(pushed), loads=event.loads,
        stays=[*stays, *([STATE] if event.with_state else [])], goes=goes, folder=bench.document.folder,
        source=f'event "{name}"',
    )  # fmt: skip
    return pulse, extra


def _groups(bench: Bench, name: str, event: TimeEvent) -> dict[str, tuple[LoadField, PulseShape]]:
    """By column: the assembly that follows a unit motion of a group of supports at rest, and the group's signal.

    Its motion relative to that answers to the inertia -M r s'' (Clough & Penzien, section 26-7).
    """
    found: dict[str, tuple[LoadField, PulseShape]] = {}
    if not event.support_pulses:
        return found  # a run file answers without its system being built
    system, none = bench.system, np.zeros(bench.system.size)
    for group, own in event.support_pulses.items():
        for axis, shape in own.pulse.items():
            column = f"{group} {axis}"
            where = f'event "{name}", supports "{group}"'
            imposed = moved_supports(system, own.supports, {str(axis): 1.0}, where)
            ride = solve_static(system, [LoadField(column, none, none, imposed)])[0]
            found[column] = (LoadField(column, none, ride, none, True), shape)
    return found


def _full(bench: Bench, reduced: ReducedModel, extra: list[LoadField], event: TimeEvent) -> FullModel:
    system, kept = bench.system, reduced.count
    described = event.damping or bench.document.description.damping_used
    rayleigh = None if described.rayleigh is None else rayleigh_factors(*described.rayleigh)
    own = reduced.damping - bench.dampers.ratios[:kept]
    fields = [base_field(system, axis) for axis in "xyz"] + extra
    from holokine.respond.direct import FullModel

    return FullModel(system, bench.gauges, fields, bench.modes.shapes[:kept], reduced.omega, own, rayleigh)
