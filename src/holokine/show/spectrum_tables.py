"""Tables and words of answers to response spectra."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from holokine.show.numbers import display_unit
from holokine.show.numbers import number_text as n
from holokine.show.tables import peaks_table
from holokine.show.text import kept_lines
from holokine.units import STANDARD_GRAVITY

if TYPE_CHECKING:
    from holokine.respond.combine import SpectrumResult

__all__ = [
    "correlation_table", "main_modes_table", "missing_mass_table", "rules_table", "shares_in_words", "shares_table",
    "spectral_table", "spectrum_lines", "spectrum_peaks", "spectrum_points",
]  # fmt: skip

RULE_COLUMNS = {"srss": "SRSS", "cqc": "CQC"}


def spectrum_peaks(answer: SpectrumResult) -> pd.DataFrame:
    """Combined peak of every reading, what each source gives, and the share of the missing mass."""

    def more(number: int, size: float) -> dict[str, object]:
        row: dict[str, object] = {}
        for d, axis in enumerate(answer.directions):
            row[f"from_{axis.replace(' ', '_')}"] = answer.by_direction[d, number] / size
        if answer.settled.any():
            row["from_displacement"] = answer.settled[number] / size
        _, rest = answer.shares(number) if np.isfinite(answer.peaks[number]) else (None, [np.nan])
        return {**row, "missing_mass_percent": 100.0 * float(rest[0]), "place": answer.places[number]}

    return peaks_table(answer, "peak", more, lambda _: False)


def main_modes_table(answer: SpectrumResult, share: float) -> pd.DataFrame:
    """The fewest modes that make up a share of the square of each reading."""
    rows = []
    for number, reading in enumerate(answer.reduced.readings):
        if not answer.peaks[number] > answer.noise[number]:
            continue
        mode, rest = answer.shares(number)
        parts = np.concatenate([mode, rest])
        order = np.argsort(-parts, kind="stable")
        count = int(np.searchsorted(np.cumsum(parts[order]), share - 1e-12)) + 1
        names = ["missing mass" if i == len(mode) else str(i + 1) for i in order[:count]]
        rows.append(
            {
                "gauge": reading.gauge,
                "component": reading.component,
                "modes": ", ".join(names),
                "count": len(names),
                "share_percent": 100.0 * float(parts[order[:count]].sum()),
            }
        )
    return pd.DataFrame(rows)


def shares_table(answer: SpectrumResult, numbers: list[int]) -> pd.DataFrame:
    """Share of every mode, and of the missing mass (last row, mode 0), in chosen readings, in percent.

    Readings that are zero but for rounding are left out.
    """
    f = answer.reduced.frequencies_hz
    table: dict[str, object] = {
        "mode": [*range(1, len(f) + 1), 0],
        "frequency_hz": [*f, np.nan],
    }
    for number in numbers:
        if answer.peaks[number] <= answer.noise[number]:
            continue
        mode, rest = answer.shares(number)
        table[f"{answer.reduced.readings[number].label} percent"] = 100.0 * np.concatenate([mode, rest])
    return pd.DataFrame(table)


def spectrum_points(nodes: dict[str, int], largest: np.ndarray, pushed: np.ndarray) -> pd.DataFrame:
    """Largest displacement (mm), rotation (mrad) and absolute acceleration (g) of points."""
    at = list(nodes.values())
    moved, pushed = largest.reshape(-1, 6)[at], pushed.reshape(-1, 3)
    table: dict[str, object] = {"point": list(nodes)}
    for name, values, size in (
        ("{}_mm", moved[:, :3], 1e-3), ("r{}_mrad", moved[:, 3:], 1e-3),
        ("acceleration_{}_g", pushed, STANDARD_GRAVITY),
    ):  # fmt: skip
        table |= {name.format(axis): values[:, d] / size for d, axis in enumerate("xyz")}
    return pd.DataFrame(table)


def rules_table(answer: SpectrumResult) -> pd.DataFrame:
    """Peak of every reading by every rule of combination, in display units; the event's own rule is named first.

    `spread_percent`: by how much the largest lies above the smallest.
    """
    found = answer.by_rule()
    order = [answer.rule, *(rule for rule in found if rule != answer.rule)]
    rows = []
    for number, reading in enumerate(answer.reduced.readings):
        if not answer.peaks[number] > answer.noise[number]:
            continue
        unit, size = display_unit(reading.dimension)
        values = {rule: float(found[rule][number]) / size for rule in order}
        low, high = min(values.values()), max(values.values())
        row: dict[str, object] = {"gauge": reading.gauge, "component": reading.component}
        row |= {RULE_COLUMNS.get(rule, rule): value for rule, value in values.items()}
        rows.append({**row, "unit": unit, "spread_percent": 100.0 * (high / low - 1.0) if low > 0 else np.nan})
    return pd.DataFrame(rows)


def correlation_table(answer: SpectrumResult) -> pd.DataFrame:
    """Correlation of the modes under the event's rule, a row and a column per mode; the unit matrix under SRSS.

    Rules that are no quadratic form (absolute, largest plus SRSS) have none: an empty table.
    """
    if answer.rule in ("absolute", "largest plus srss"):
        return pd.DataFrame()
    matrix = answer.combination.matrix
    numbers = np.arange(1, answer.reduced.count + 1)
    table = pd.DataFrame(np.eye(len(numbers)) if matrix is None else matrix, columns=[f"mode_{m}" for m in numbers])
    table.insert(0, "mode", numbers)
    table.insert(1, "frequency_hz", answer.reduced.frequencies_hz)
    return table


def missing_mass_table(answer: SpectrumResult) -> pd.DataFrame:
    """By source: mass free to move, what the modes hold and what they leave out in kg, and with what it answers."""
    unit, size = display_unit("acceleration")
    rows = []
    for i, source in enumerate(answer.sources.names):
        column = answer.reduced.column(source)
        held = float((answer.reduced.participation[:, column] ** 2).sum())
        free = float(answer.reduced.free_mass[column])
        left = max(free - held, 0.0) if np.isfinite(free) else np.nan
        rows.append(
            {
                "source": source,
                "free_kg": free,
                "held_kg": held,
                "missing_kg": left,
                "missing_percent": 100.0 * left / free if free > 0 else np.nan,
                f"zero_period_{unit}": answer.zero_period[i] / size,
            }
        )
    return pd.DataFrame(rows)


def spectral_table(answer: SpectrumResult) -> pd.DataFrame:
    """What the spectrum gives each mode: pseudo-acceleration in g, and the effective mass it acts on."""
    unit, size = display_unit("acceleration")
    table: dict[str, object] = {
        "mode": np.arange(1, answer.reduced.count + 1),
        "frequency_hz": answer.reduced.frequencies_hz,
        "damping_percent": 100.0 * answer.reduced.damping,
    }
    for i, d in enumerate(answer.sources.names):
        name = d.replace(" ", "_")
        table[f"acceleration_{name}_{unit}"] = answer.spectral[:, i] / size
        table[f"effective_{name}_kg"] = answer.reduced.participation[:, answer.reduced.column(d)] ** 2
    return pd.DataFrame(table)


def shares_in_words(shares: pd.DataFrame) -> pd.DataFrame:
    """The modes of largest share per reading (up to four, from 1 %), in words."""
    rows = []
    for column in shares.columns[2:]:
        values = shares[column].to_numpy()
        if not np.isfinite(values).all() or not values.any():
            continue
        words = []
        for i in np.abs(values).argsort()[::-1][:4]:
            if abs(values[i]) >= 1.0:
                mode = int(shares["mode"].iloc[i])
                words.append(f"mode {mode} {values[i]:.0f} %" if mode else f"missing mass {values[i]:.0f} %")
        rows.append({"gauge": column.removesuffix(" percent"), "made_up_by": ", ".join(words)})
    return pd.DataFrame(rows)


def _spectrum_words(answer: SpectrumResult) -> str:
    """What the event is, in a line."""
    names = ", ".join(answer.sources.names)
    rule = {
        "srss": "SRSS",
        "cqc": "CQC",
        "absolute": "absolute sum",
        "grouped": "grouping of close modes",
        "largest plus srss": "largest plus SRSS of the rest",
    }.get(answer.rule, answer.rule)
    if answer.combination.rigid is not None:
        rule += ", rigid parts algebraically"
    both = "" if len(set(answer.sources.axes)) == 1 else f", directions by {answer.direction_rule}"
    if len(set(answer.sources.axes)) < len(answer.sources.axes):
        both = f", groups of supports by {answer.sources.supports}" + both
        return f"response spectra at groups of supports: {names}; modes by {rule}{both.replace('srss', 'SRSS')}"
    return f"response spectrum along {names}; modes by {rule}{both.replace('srss', 'SRSS')}"


def spectrum_lines(answer: SpectrumResult) -> list[str]:
    """Event, modes kept and mass held: what to read before the peaks."""
    missing = "missing mass left out"
    if answer.missing.any():
        zpa = zip(answer.sources.names, answer.zero_period, strict=True)
        missing = "missing mass answers with " + ", ".join(f"{d} {n(z / STANDARD_GRAVITY)} g" for d, z in zpa)
        default = "absolute" if answer.rule == "absolute" else "srss"
        if answer.combination.beside != default:
            missing += f", added to the modes by {answer.combination.beside.replace('srss', 'SRSS')}"
    return [_spectrum_words(answer), *kept_lines(answer.reduced), missing]
