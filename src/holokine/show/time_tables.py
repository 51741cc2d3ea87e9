"""Tables and words of answers in time."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from holokine.show.numbers import display_unit
from holokine.show.numbers import number_text as n
from holokine.show.static_tables import SECTION_COLUMNS, ends_table
from holokine.show.tables import peaks_table
from holokine.show.text import kept_lines, load_lines
from holokine.units import STANDARD_GRAVITY

if TYPE_CHECKING:
    from holokine.respond.motion import Envelope
    from holokine.respond.transient import TimeResult
    from holokine.system.recovery import BeamEnds

__all__ = ["history_table", "members_envelope_table", "points_table", "time_lines", "time_peaks"]


def time_peaks(answer: TimeResult) -> pd.DataFrame:
    """Peak of every reading with its time, extremes, RMS, ratio to static and the share of the static correction."""

    def more(number: int, size: float) -> dict[str, object]:
        peak, static = answer.peaks[number] / size, answer.static[number] / size
        if abs(static) < 1e-9 * abs(peak):
            static = 0.0
        return {
            "time_ms": 1e3 * answer.peak_times[number],
            "lowest": answer.lowest[number] / size,
            "lowest_at_ms": 1e3 * answer.extreme_times[0, number],
            "highest": answer.highest[number] / size,
            "highest_at_ms": 1e3 * answer.extreme_times[1, number],
            "rms": answer.rms[number] / size,
            "static": static,
            "ratio_to_static": abs(peak / static) if static > 0 else np.nan,
            "correction_percent": 100.0 * answer.correction_share[number],
            "place": answer.places[number],
        }

    return peaks_table(answer, "peak", more, lambda _: False)


def points_table(points: list[str], moved: Envelope, pushed: Envelope) -> pd.DataFrame:
    """Extremes of points by direction: displacement relative to the frame (mm), absolute acceleration (g)."""
    rows = []
    for i, point in enumerate(points):
        for d, axis in enumerate("xyz"):
            k = 3 * i + d
            row: dict[str, object] = {"point": point, "axis": axis}
            for name, envelope, size in (
                ("displacement_mm", moved, 1e-3),
                ("acceleration_g", pushed, STANDARD_GRAVITY),
            ):
                row[f"lowest_{name}"] = envelope.lowest[k] / size
                row[f"at_ms_lowest_{name.split('_')[0]}"] = 1e3 * envelope.lowest_time[k]
                row[f"highest_{name}"] = envelope.highest[k] / size
                row[f"at_ms_highest_{name.split('_')[0]}"] = 1e3 * envelope.highest_time[k]
            rows.append(row)
    return pd.DataFrame(rows)


def members_envelope_table(ends: BeamEnds, envelope: Envelope) -> pd.DataFrame:
    """Extremes in time of the section forces at both ends of every beam element, N and N m, with their times."""
    table = ends_table(ends)
    for k, column in enumerate(SECTION_COLUMNS):
        name, unit = column.split("_")
        for side in ("lowest", "highest"):
            value, when = getattr(envelope, side)[k::6], getattr(envelope, f"{side}_time")[k::6]
            table |= {f"{side}_{name}_{unit}": value, f"at_ms_{side}_{name}": 1e3 * when}
    return pd.DataFrame(table)


def history_table(answer: TimeResult, numbers: list[int], thin: int = 1) -> pd.DataFrame:
    """Histories in display units, one column per reading, beside the base acceleration in g."""
    table: dict[str, object] = {"time_s": answer.time[::thin]}
    unit, size = display_unit("acceleration")
    moving = answer.pulse.moving
    for d, axis in enumerate(answer.pulse.names[:moving]):
        if answer.pulse.moves[d]:
            table[f"base_{axis.replace(' ', '_')}_{unit}"] = answer.base[::thin, d] / size
    for k in answer.pulse.loads:
        name = answer.pulse.names[k]
        table[f"{name} factor".replace(" ", "_")] = answer.base[::thin, k]
    for number in numbers:
        reading = answer.reduced.readings[number]
        unit, size = display_unit(reading.dimension)
        name = f"{reading.label}_{unit}".replace(" ", "_").replace("/", "_per_")
        table[name] = answer.history(number, thin) / size
    return pd.DataFrame(table)


def _time_words(answer: TimeResult) -> str:
    """What the event is, in a line."""
    pulse = answer.pulse
    words = []
    if pulse.moves_base:
        peak, change, end = pulse.peak / STANDARD_GRAVITY, pulse.velocity_change, pulse.end_displacement
        moved = [d for d in range(pulse.moving) if pulse.moves[d]]
        shown = ", ".join(
            f"{pulse.names[d]} {n(peak[d])} g with a velocity change of {n(change[d])} m/s and a displacement of "
            f"{n(1e3 * end[d])} mm at its end" for d in moved
        )  # fmt: skip
        what = "base pulse along" if pulse.moving == 3 else "groups of supports move:"
        words.append(f"{what} {', '.join(pulse.names[d] for d in moved)}: peak {shown}")
    signals = [
        f"{name} (peak {n(pulse.peak[k])} times)" for k, name in enumerate(pulse.names)
        if k in pulse.loads and pulse.resting[k] == 0
    ]  # fmt: skip
    if signals:
        words.append("loads in time: " + ", ".join(signals))
    for k, name in enumerate(pulse.names):
        if pulse.resting[k]:
            words.append(
                f"{name} stays on all the time" if pulse.acceleration[-1, k] else f"{name} is let go at the start"
            )
    return "; ".join(words) + (
        f"; from {n(1e3 * pulse.start)} to {n(1e3 * pulse.end)} ms, followed until {n(1e3 * answer.time[-1])} ms in "
        f"{len(answer.time) - 1:,} steps"
    )


def time_lines(answer: TimeResult) -> list[str]:
    """Event, modes kept and mass held: what to read before the peaks."""
    correction = (
        "left-out modes answer statically (correction column)"
        if answer.reader.correct
        else "no static correction for left-out modes"
    )
    return [_time_words(answer), *load_lines(answer.acting), *kept_lines(answer.reduced), correction]
