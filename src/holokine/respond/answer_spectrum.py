"""Answering an event of response spectra."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

from holokine.excite.plausible import about_spectrum
from holokine.excite.spectrum import build_spectrum
from holokine.respond.bench import Bench, about_supports, damping_words, taken
from holokine.respond.combine import SpectrumResult, by_direction, respond_spectrum
from holokine.respond.reduced import at_supports
from holokine.system.loads import moved_supports

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe.events import SpectrumEvent

__all__ = ["answer_spectrum"]


def answer_spectrum(bench: Bench, name: str, event: SpectrumEvent) -> SpectrumResult:
    """Combine the modes under the spectra of the whole base, or of groups of supports.

    Raises
    ------
    EventError, DescriptionError
    """
    reduced = taken(bench, event)
    tables: dict[str, Any] = {str(d): t for d, t in (event.spectrum or {}).items()}
    groups: dict[str, tuple[str, ...]] = {}
    apart: dict[str, float] = {}
    imposed: dict[str, Floats] = {}
    for group, own in (event.support_spectra or {}).items():
        for axis, table in own.spectrum.items():
            column = f"{group} {axis}"
            where = f'event "{name}", supports "{group}"'
            imposed[column] = moved_supports(bench.system, own.supports, {axis: 1.0}, where)
            tables[column], groups[column] = table, own.supports
            apart[column] = own.displacement["xyz".index(axis)]
    if imposed:
        reduced = at_supports(reduced, bench.modes, bench.gauges, imposed)
    spectra = {
        d: build_spectrum(
            table, folder=bench.document.folder, interpolate=event.interpolate, outside=event.outside,
            source=f'event "{name}", spectrum {d}',
        )
        for d, table in tables.items()
    }  # fmt: skip
    zpa = event.zero_period_acceleration
    by_axis = zpa if isinstance(zpa, dict) else None if zpa is None else dict.fromkeys(("x", "y", "z"), zpa)
    answer = respond_spectrum(
        reduced,
        spectra,
        name=name,
        rule=event.combine,
        direction_rule=event.directions,
        missing_mass=event.missing_mass,
        zero_period=None if by_axis is None else {d: z for d in spectra for a, z in by_axis.items() if a == d[-1]},
        rigid_between=event.rigid_between,
        duration=event.duration,
        over_supports=event.over_supports,
        apart=apart,
        groups=groups,
        over_displacement=event.over_displacement,
        over_missing_mass=event.over_missing_mass,
    )
    size = by_direction([(d, "warning", text) for d, spectrum in spectra.items() for text in about_spectrum(spectrum)])
    more = [*size, *damping_words(bench, event, reduced)]
    more += about_supports(bench, event)
    return replace(answer, findings=(*answer.findings, *more)) if more else answer
