"""Tables and words of answers to sine sweeps."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from holokine.respond.curves import Extreme, ranges
from holokine.show.numbers import display_unit
from holokine.show.numbers import number_text as n
from holokine.show.static_tables import SECTION_COLUMNS, ends_table
from holokine.show.tables import peaks_table
from holokine.show.text import kept_lines, load_lines
from holokine.units import STANDARD_GRAVITY

if TYPE_CHECKING:
    from holokine.excite.harmonic import Swing
    from holokine.respond.sweep import FullCheck, SweepResult
    from holokine.respond.sweep_field import Reach
    from holokine.system.recovery import BeamEnds

__all__ = [
    "critical_table", "curves_table", "full_table", "members_reach_table", "points_reach_table",
    "resonances_table", "shares_at_peaks_table", "sweep_lines", "sweep_peaks", "transfer_table",
]  # fmt: skip

_SMALL = 1e-3  # of the largest of a reading, below which a peak is not listed


def sweep_peaks(answer: SweepResult) -> pd.DataFrame:
    """Largest amplitude of every reading: at which frequency and phase, how sharp, and against the static answer."""
    by = answer.shown.per_peak

    def more(number: int, size: float) -> dict[str, object]:
        top, static = answer.main[number], answer.static[number]
        row: dict[str, object] = {
            "frequency_hz": answer.peak_frequencies[number],
            "phase_deg": np.degrees(answer.phases[number]),
            "bandwidth_hz": top.bandwidth,
            "amplification": top.amplification,
            "mode_shares": _shares_in_words(answer, number),
            "static": by * static / size,
            "ratio_to_static": answer.swing[number] / static if static > 1e-9 * answer.swing[number] else np.nan,
            "correction_percent": 100.0 * answer.correction_share[number],
        }
        if answer.steady is not None:
            rest = answer.steady[number]
            rest = rest if abs(rest) > answer.noise[number] else 0.0
            row |= {"at_rest": rest / size, "largest_together": answer.together[number] / size}
        return {**row, "place": answer.places[number]}

    return peaks_table(answer, answer.shown.column, more, lambda _: False, by * answer.swing)


def _shares_in_words(answer: SweepResult, number: int, most: int = 2) -> str:
    """Modes that make most of a reading at its peak: ``7 (94 %), 8 (5 %)``."""
    shares = answer.shares(number)
    order = [k for k in np.argsort(-np.abs(shares), kind="stable")[:most] if abs(shares[k]) >= 0.01]
    names = ["left-out modes and base" if k == len(shares) - 1 else str(k + 1) for k in order]
    return ", ".join(f"{name} ({100 * shares[k]:.0f} %)" for name, k in zip(names, order, strict=True))


def shares_at_peaks_table(answer: SweepResult) -> pd.DataFrame:
    """Share of every mode in every reading at its largest, in percent (last row, mode 0: left-out modes and base)."""
    count = answer.reader.model.modes
    f = answer.reduced.frequencies_hz[:count]
    table: dict[str, object] = {"mode": [*range(1, count + 1), 0], "frequency_hz": [*f, np.nan]}
    for number, reading in enumerate(answer.reduced.readings):
        if answer.swing[number] > answer.noise[number]:
            name = f"{reading.label} at {answer.peak_frequencies[number]:.5g} Hz, percent".replace(" ", "_")
            table[name] = 100.0 * answer.shares(number)
    return pd.DataFrame(table)


def resonances_table(answer: SweepResult) -> pd.DataFrame:
    """Peaks of every reading, from a thousandth of its largest on, and anti-resonances, by frequency."""
    rows = []
    by, column = answer.shown.per_peak, answer.shown.column
    for number, reading in enumerate(answer.reduced.readings):
        if answer.swing[number] <= answer.noise[number]:
            continue
        unit, size = display_unit(reading.dimension)
        peaks, bottoms = answer.extremes(number)
        kept = [p for p in peaks if p.size >= _SMALL * answer.swing[number]]
        own: list[tuple[str, Extreme]] = [("peak" if p.inside else "end of the sweep", p) for p in kept]
        own += [("anti-resonance", p) for p in bottoms]
        for kind, e in sorted(own, key=lambda pair: pair[1].frequency):
            peak = kind == "peak"
            rows.append({
                "gauge": reading.gauge, "component": reading.component, "kind": kind, "frequency_hz": e.frequency,
                column: by * e.size / size, "unit": unit, "half_power_low_hz": e.low if peak else np.nan,
                "half_power_high_hz": e.high if peak else np.nan, "bandwidth_hz": e.bandwidth if peak else np.nan,
                "amplification": e.amplification if peak else np.nan,
                "share_of_largest_percent": 100.0 * e.size / answer.swing[number],
            })  # fmt: skip
    columns = ["gauge", "component", "kind", "frequency_hz", column, "unit", "half_power_low_hz",
               "half_power_high_hz", "bandwidth_hz", "amplification", "share_of_largest_percent"]  # fmt: skip
    return pd.DataFrame(rows, columns=columns)


def critical_table(answer: SweepResult) -> pd.DataFrame:
    """Modes in the sweep: frequency and damping as they are coupled, and which readings are largest there."""
    poles = answer.reader.model.vibration.poles
    poles = poles[answer.covers(poles.imag / (2.0 * np.pi))]
    poles = poles[np.argsort(poles.imag, kind="stable")]
    if not len(poles):
        return pd.DataFrame(columns=["frequency_hz", "damping_percent", "bandwidth_hz", "largest_here"])
    centre = poles.imag / (2.0 * np.pi)
    here: dict[int, list[int]] = {}
    for number, e in enumerate(answer.main):
        if answer.swing[number] > answer.noise[number] and e.inside:
            here.setdefault(int(np.abs(centre - e.frequency).argmin()), []).append(number)
    rows = []
    for k, pole in enumerate(poles):
        names = list(dict.fromkeys(answer.reduced.readings[i].gauge for i in here.get(k, [])))
        shown = ", ".join(names[:5]) + (f" and {len(names) - 5} more" if len(names) > 5 else "")
        rows.append({
            "frequency_hz": centre[k], "damping_percent": 100.0 * float(-pole.real / abs(pole)),
            "bandwidth_hz": float(-pole.real / np.pi), "largest_here": shown,
        })  # fmt: skip
    return pd.DataFrame(rows)


def curves_table(answer: SweepResult, numbers: list[int], thin: int = 1) -> pd.DataFrame:
    """Readings over frequency: largest over the cycle, and of single components phase, real and imaginary part."""
    by, word = answer.shown.per_peak, answer.shown.column
    table: dict[str, object] = {"frequency_hz": answer.frequency_hz[::thin]}
    for number in numbers:
        reading = answer.reduced.readings[number]
        unit, size = display_unit(reading.dimension)
        ending = unit.replace(" ", "_").replace("/", "_per_")
        name = reading.label.replace(" ", "_")
        values = answer.values(number)
        table[f"{name}_{word}_{ending}"] = by * answer.curve(number)[::thin] / size
        if reading.width == 1:
            y = values[::thin, 0] / size
            table[f"{name}_phase_deg"] = np.degrees(np.angle(y))
            table[f"{name}_real_{ending}"], table[f"{name}_imaginary_{ending}"] = y.real, y.imag
    return pd.DataFrame(table)


def transfer_table(frequencies: np.ndarray, values: np.ndarray, labels: list[str], unit: str) -> pd.DataFrame:
    """Transfer functions, shape (frequencies, components): amplitude, phase, real and imaginary part."""
    table: dict[str, object] = {"frequency_hz": frequencies}
    ending = unit.replace(" ", "_").replace("/", "_per_")
    for label, y in zip(labels, values.T, strict=True):
        name = label.replace(" ", "_")
        table |= {
            f"{name}_amplitude{ending and '_' + ending}": np.abs(y), f"{name}_phase_deg": np.degrees(np.angle(y)),
            f"{name}_real": y.real, f"{name}_imaginary": y.imag,
        }  # fmt: skip
    return pd.DataFrame(table)


def full_table(answer: SweepResult, check: FullCheck) -> pd.DataFrame:
    """The whole model against its modes at the frequencies asked for, in display units."""
    rows = []
    for number, reading in enumerate(answer.reduced.readings):
        if answer.swing[number] <= answer.noise[number]:
            continue
        unit, size = display_unit(reading.dimension)
        for k, f in enumerate(check.frequency_hz):
            full, modal = check.full[k, number], check.modal[k, number]
            rows.append({
                "gauge": reading.gauge, "component": reading.component, "frequency_hz": f, "whole_model": full / size,
                "by_modes": modal / size, "unit": unit,
                "difference_percent_of_peak": 100.0 * (modal - full) / answer.swing[number],
            })  # fmt: skip
    return pd.DataFrame(rows)


def points_reach_table(points: list[str], moved: Reach, pushed: Reach, by: float) -> pd.DataFrame:
    """Largest amplitudes of points by direction: displacement relative to the frame (mm), absolute acceleration (g)."""
    rows = []
    for i, point in enumerate(points):
        for d, axis in enumerate("xyz"):
            k = 3 * i + d
            rows.append({
                "point": point, "axis": axis, "displacement_mm": 1e3 * by * moved.amplitude[k],
                "at_hz_displacement": moved.frequency[k], "acceleration_g": by * pushed.amplitude[k] / STANDARD_GRAVITY,
                "at_hz_acceleration": pushed.frequency[k],
            })  # fmt: skip
    return pd.DataFrame(rows)


def members_reach_table(ends: BeamEnds, reach: Reach, by: float) -> pd.DataFrame:
    """Largest amplitudes of the section forces at both ends of every beam element, N and N m, with frequencies."""
    table = ends_table(ends)
    for k, column in enumerate(SECTION_COLUMNS):
        table |= {column: by * reach.amplitude[k::6], f"at_hz_{column.split('_')[0]}": reach.frequency[k::6]}
    return pd.DataFrame(table)


def _swing_words(column: str, swing: Swing) -> str:
    """A source in a line: ``base z 1 g``."""
    base = swing.acts in ("base", "supports")
    if swing.acts == "rotor":
        rotor, _, axis = column.rpartition(" ")
        if axis == "2":  # the other half of the same turning force
            return ""
        turn = np.degrees(swing.phase[0])
        return f"{rotor} out of balance by {1e6 * swing.amplitude[0]:.4g} g mm" + (
            f" at {turn:.4g} deg" if turn else ""
        )
    unit, size = {0: ("g", STANDARD_GRAVITY), 1: ("m/s", 1.0), 2: ("mm", 1e-3)}[swing.power] if base else ("times", 1.0)
    low, high = float(swing.amplitude.min()) / size, float(swing.amplitude.max()) / size
    words = f"{high:.4g}" if high - low <= 1e-12 * high else f"{low:.4g} to {high:.4g}"
    turn = np.degrees(swing.phase)
    lag = (
        f" at {turn[0]:.4g} deg"
        if np.ptp(turn) == 0 and turn[0]
        else " with a phase of its own"
        if np.ptp(turn)
        else ""
    )
    return f"{swing.acts} {column} {words} {unit}{lag}"


def sweep_lines(answer: SweepResult) -> list[str]:
    """What swings, over which frequencies; then modes kept and what the amplitudes are."""
    excitation, f = answer.reader.excitation, answer.frequency_hz
    each = [_swing_words(c, s) for c, s in zip(excitation.columns, excitation.swings, strict=True)]
    told = [words for words in each if words]
    each_range = [f"{f[own][0]:.5g} to {f[own][-1]:.5g}" for own in ranges(answer.starts, len(f))]
    shown = ", ".join(each_range[:4]) + (f" and {len(each_range) - 4} more ranges" if len(each_range) > 4 else "")
    first = f"sine sweep, {'; '.join(told)}; {shown} Hz in {len(f):,} points"
    if answer.sampled_error > 0:
        first += f", which miss a peak by {n(100 * answer.sampled_error, 2)} % at most"
    word = {"peak": "amplitudes are peaks", "rms": "amplitudes are RMS values", "peak to peak": "from peak to peak"}
    model = answer.reader.model
    if model.vibration.coupled:
        how = "modes coupled by their damping, solved together"
        if model.attached is not None:
            how += f" with {len(model.attached.omega)} static shapes for what dampers push"
    else:
        how = "modes uncoupled"
    correction = "left-out modes answer statically" if answer.reader.correct else "no static correction"
    own = model.plain or answer.reduced
    return [
        first,
        *load_lines(answer.acting),
        *kept_lines(own),
        f"{how}; {correction}; {word[answer.amplitudes]}, phases those of e^(+iωt)",
    ]
