"""Answering an event in time."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from holokine.describe.events import TimeEvent
from holokine.errors import EventError
from holokine.excite.pulse import BasePulse, build_pulse
from holokine.modes.damping import rayleigh_factors
from holokine.respond.bench import Bench, damping_words, taken
from holokine.respond.direct import FullModel
from holokine.respond.reduced import ReducedModel, with_loads
from holokine.respond.transient import TimeResult, respond_pulse
from holokine.system.loads import LoadField, base_field, load_field, load_sum

__all__ = ["COUPLED", "answer_time"]

COUPLED = 1e-6  # coupling of two modes by dampers from which all are solved together, which is exact


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
    findings = (*answer.findings, *damping_words(bench, event, reduced))
    return replace(answer, acting=tuple(extra), findings=findings)


def _excitation(bench: Bench, name: str, event: TimeEvent) -> tuple[BasePulse, list[LoadField]]:
    """Signals on common rows, and the loads that they (and the start) act with."""
    d = bench.document.description
    extra = []
    if event.load_names or event.at_rest:
        extra = [load_field(bench.system, load, d.loads[load]) for load in event.load_names]
    rest: dict[str, str | None] = {"start_from": None, "let_go": None}
    for key in rest:
        static = getattr(event, key)
        if static is not None:
            rest[key] = f"{static} (at rest)"
            rest_event: Any = d.events[static]
            extra.append(load_sum(bench.system, f"{static} (at rest)", rest_event.static))
    for f in extra:
        if f.moved.any():
            raise EventError(
                f'event "{name}": the load "{f.name}" moves supports, which works at rest only; in time the whole '
                "base moves (pulse)"
            )
    base = {str(a): s for a, s in (event.pulse or {}).items()}
    pulse = build_pulse(
        base, loads=event.loads, stays=rest["start_from"], goes=rest["let_go"],
        folder=bench.document.folder, source=f'event "{name}"',
    )  # fmt: skip
    return pulse, extra


def _full(bench: Bench, reduced: ReducedModel, extra: list[LoadField], event: TimeEvent) -> FullModel:
    system, kept = bench.system, reduced.count
    described = event.damping or bench.document.description.damping_used
    rayleigh = None if described.rayleigh is None else rayleigh_factors(*described.rayleigh)
    own = reduced.damping - bench.dampers.ratios[:kept]
    fields = [base_field(system, axis) for axis in "xyz"] + extra
    return FullModel(system, bench.gauges, fields, bench.modes.shapes[:kept], reduced.omega, own, rayleigh)
