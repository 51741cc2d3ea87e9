"""Answering random vibration."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.errors import EventError
from holokine.excite.density import build_density
from holokine.excite.plausible import about_density
from holokine.findings import Finding
from holokine.respond.bench import Bench, about_supports, damping_words, refuse_moved, taken
from holokine.respond.meaning import Meaning
from holokine.respond.moving_groups import moving_groups
from holokine.respond.random import FatigueLine, RandomReader, RandomResult, Source, respond_random
from holokine.respond.reduced import ReducedModel, with_loads
from holokine.respond.steady import loss_of, steady_model
from holokine.system.loads import LoadField, base_field, load_field

if TYPE_CHECKING:
    from holokine.arrays import Complex
    from holokine.describe.events import RandomEvent
    from holokine.excite.harmonic import Felt

__all__ = ["answer_random"]

_HELD_DOWN = 0.1  # Hz, from where a density that is held begins
_STATED = 0.02


def answer_random(bench: Bench, name: str, event: RandomEvent) -> RandomResult:
    """Mean squares of all readings under stationary random vibration.

    Raises
    ------
    EventError
        Tables that cannot be used, a load that moves supports, a mode without damping.
    SolverError
        Two poles in one.
    """
    reduced = taken(bench, event)
    folder, d = bench.document.folder, bench.document.description
    reach = _HELD_DOWN, 10.0 * float(reduced.frequencies_hz[-1])
    sources, extra, findings = [], list[LoadField](), list[Finding]()
    for axis, given in event.random.items():
        density = build_density(given, folder, f'event "{name}", random {axis}', reach)
        sources.append(Source(str(axis), density, given.rms, "base"))
    felt: tuple[Felt, ...] = ()
    if event.support_densities:
        moving = moving_groups(bench.system, f'event "{name}"', event.moving, loss_of(bench, event.damping))
        extra, felt = moving.fields, moving.felt
        for group, own in event.support_densities.items():
            for axis, given in own.random.items():
                density = build_density(given, folder, f'event "{name}", supports "{group}", {axis}', reach)
                sources.append(Source(f"{group} {axis}", density, given.rms, "supports"))
    for load, one in (event.loads or {}).items():
        extra.append(load_field(bench.system, load, d.loads[load]))
        sources.append(Source(load, build_density(one, folder, f'event "{name}", load {load}', reach), one.rms))
    refuse_moved(extra, name, event)
    if extra:
        reduced = with_loads(reduced, bench.modes, bench.gauges, extra)

    def fields() -> list[LoadField]:
        return [base_field(bench.system, axis) for axis in "xyz"] + extra

    model = steady_model(bench, reduced, fields, event.damping)
    low = min(float(s.density.start[0]) for s in sources)
    high = max(float(s.density.end[-1]) for s in sources)
    _refuse_undamped(name, model.vibration.poles, low, high)
    reader = RandomReader(model, tuple(sources), event.coherence_matrix(), event.static_correction, felt)
    given_line = event.fatigue
    line = None if given_line is None else FatigueLine(given_line.slope, given_line.amplitude, given_line.cycles)
    meaning = Meaning("times rms", amount=event.times)
    if event.peak == "expected largest":
        meaning = Meaning("expected largest", amount=float(event.duration or 0.0))
    result = respond_random(reader, name, meaning, event.duration, line)
    findings += [f for s in sources if s.acts != "load" for f in about_density(s.column, s.density)]
    findings += about_supports(bench, event)
    findings += [*_stated(sources), *_about_modes(reduced, high), *damping_words(bench, event, reduced)]
    untold = [r.label for r, v in zip(model.reduced.readings, result.rms, strict=True) if v != v]
    if untold:
        names = ", ".join(untold[:4]) + (f" and {len(untold) - 4} more" if len(untold) > 4 else "")
        findings.append(Finding("note", f"no RMS is told of principal stress, which is no quadratic form: {names}"))
    return replace(result, acting=tuple(extra), findings=(*model.findings, *findings))


def _refuse_undamped(name: str, poles: Complex, low: float, high: float) -> None:
    f = np.abs(poles.imag) / (2.0 * np.pi)
    bare = (np.abs(poles.real) < 1e-9 * np.abs(poles)) & (f >= low) & (f <= high)
    if bare.any():
        raise EventError(
            f'event "{name}": the mode at {f[bare].min():.4g} Hz has no damping, under which random vibration grows '
            "without bound; give damping",
            path=("events", name),
        )


def _stated(sources: list[Source]) -> list[Finding]:
    """Whether overall RMS values stated elsewhere are those of the densities."""
    found = []
    for s in sources:
        if s.stated is not None and abs(s.density.rms / s.stated - 1.0) > _STATED:
            off = 100.0 * (s.density.rms / s.stated - 1.0)
            found.append(
                Finding(
                    "warning", f"{s.column}: the density has an overall RMS that is {off:+.1f} % off the one stated"
                )
            )
    return found


def _about_modes(reduced: ReducedModel, high: float) -> list[Finding]:
    """Whether the modes reach beyond the densities."""
    last = float(reduced.frequencies_hz[-1])
    if last >= 1.5 * high:
        return []
    level: Any = "warning" if last < high else "note"
    text = f"the densities reach to {high:.4g} Hz, the modes to {last:.4g} Hz: modes above are taken at rest"
    return [Finding(level, f"{text}; extract up to {1.5 * high:.3g} Hz")]
