"""Tables that several kinds of result have, as DataFrames with units in the names of columns or in a column `unit`."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Protocol

import numpy as np
import pandas as pd

from holokine.respond.reduced import slight
from holokine.show.numbers import display_unit

if TYPE_CHECKING:
    from holokine.gauges.channels import Channels
    from holokine.gauges.readings import Reading
    from holokine.respond.limits import LimitCheck
    from holokine.respond.meaning import Meaning
    from holokine.system.recovery import BeamEnds, PartPeak

__all__ = [
    "SECTION_COLUMNS", "ends_table", "largest_table", "limits_table", "part_peaks_table", "peaks_table",
    "section_table",
]  # fmt: skip

RATIOS: dict[str, object] = {
    "ratio_to_static": np.nan, "correction_percent": np.nan, "missing_mass_percent": np.nan, "amplification": np.nan,
    "mode_shares": "", "most_by_mode": "",
}  # fmt: skip
"""Columns that are ratios of a reading, and what stands there where it is too small for one."""
SIZES = ("peak", "rms", "expected_largest", "largest_together", "lowest", "highest")
"""Columns that are zero where a reading is."""


def part_peaks_table(
    peaks: list[PartPeak], when: tuple[str, float] = ("time_ms", 1e3), shown: Meaning | None = None
) -> pd.DataFrame:
    """Largest stress of every part in MPa, where, and when it is known (`when`: column and factor).

    `shown`: what the stress is, where it is not a value at rest.
    """
    rows, (column, factor) = [], when
    by = 1.0 if shown is None else shown.per_peak
    for p in peaks:
        row: dict[str, object] = {"part": p.part, "stress_mpa": 1e-6 * by * p.stress}
        if shown is not None:
            row["meaning"] = shown.words
        if p.time is not None:
            row[column] = factor * p.time
        row |= dict(zip(("at_x_mm", "at_y_mm", "at_z_mm"), 1e3 * p.place, strict=True))
        rows.append({**row, "where": p.where})
    known = [column] if any(p.time is not None for p in peaks) else []
    word = [] if shown is None else ["meaning"]
    return pd.DataFrame(rows, columns=["part", "stress_mpa", *word, *known, "at_x_mm", "at_y_mm", "at_z_mm", "where"])


class Result(Protocol):
    """What every answer's result has: readings and their peaks."""

    @property
    def reduced(self) -> HasReadings: ...

    @property
    def peaks(self) -> np.ndarray: ...

    @property
    def noise(self) -> np.ndarray: ...

    @property
    def meaning(self) -> Meaning: ...


class HasReadings(Protocol):
    """A reduced model, or a set of gauges."""

    @property
    def channels(self) -> Channels: ...

    @property
    def readings(self) -> tuple[Reading, ...]: ...


def peaks_table(
    answer: Result, column: str, more: Callable[[int, float], dict[str, object]], skip: Callable[[int], bool],
    values: np.ndarray | None = None,
) -> pd.DataFrame:  # fmt: skip
    """Peak (or value at rest, by the name of the column) of every reading in display units.

    `more`: further columns of a reading, given the size of its unit. What is rounding only shows as zero, without them;
    what is slight has no ratios. `values`: in place of the peaks.
    """
    rows, noise = [], answer.noise
    values = answer.peaks if values is None else values
    small, silent = slight(answer.reduced.readings, values), list[bool]()
    for number, reading in enumerate(answer.reduced.readings):
        if skip(number):
            continue
        unit, size = display_unit(reading.dimension)
        frame = answer.reduced.channels.block(reading.channels[0]).frame
        row: dict[str, object] = {"gauge": reading.gauge, "component": reading.component, "motion": frame}
        quiet = abs(values[number]) <= noise[number]
        row |= {column: 0.0 if quiet else values[number] / size, "unit": unit}
        if not quiet:
            row |= more(number, size)
        if small[number]:
            row |= {name: none for name, none in RATIOS.items() if name in row}
        rows.append(row)
        silent.append(quiet)
    table = pd.DataFrame(rows)
    sizes = [c for c in SIZES if c in table]
    if sizes and any(silent):
        table.loc[silent, sizes] = 0.0
    return table


def limits_table(answer: Result, checks: list[LimitCheck]) -> pd.DataFrame:
    """Peaks against limits: what the peak is and of what, use in percent of the limit, met or not."""
    rows = []
    for c in checks:
        reading = answer.reduced.readings[c.reading]
        unit, size = display_unit(reading.dimension)
        rows.append(
            {
                "gauge": reading.gauge,
                "component": reading.component,
                "peak": abs(c.peak) / size,
                "limit": c.limit / size,
                "unit": unit,
                "meaning": c.meaning.words,
                "of": ("total, at most" if c.bound else "total") if c.total else "event",
                "use_percent": 100.0 * c.use,
                "met": "yes" if c.ok else "NO",
            }
        )
    return pd.DataFrame(
        rows, columns=["gauge", "component", "peak", "limit", "unit", "meaning", "of", "use_percent", "met"]
    )


def largest_table(answer: Result, names: Mapping[str, str]) -> pd.DataFrame:
    """Size of every reading that the answer can tell, with what the size is, so that answers can be compared.

    `names`: further columns, the same in every row.
    """
    known = answer.peaks[np.isfinite(answer.peaks)]
    table = peaks_table(answer, "peak", lambda *_: {}, lambda k: not np.isfinite(answer.peaks[k])) if len(known) else (
        pd.DataFrame()
    )  # fmt: skip
    return table.assign(meaning=answer.meaning.words, **names) if len(table) else table


SECTION_COLUMNS = ("N_n", "Vy_n", "Vz_n", "T_nm", "My_nm", "Mz_nm")


def ends_table(ends: BeamEnds) -> dict[str, object]:
    """Columns that say which end of which element a row is of, and where."""
    count = ends.counts
    number = np.arange(1, len(ends.places) + 1) - np.repeat(ends.starts, count).astype(np.int64)
    table: dict[str, object] = {
        "part": np.repeat(np.array(ends.parts, dtype=object), 2 * count),
        "element": np.repeat(number, 2),
        "end": np.tile(np.array(["start", "end"], dtype=object), len(number)),
    }
    return table | dict(zip(("x_mm", "y_mm", "z_mm"), 1e3 * ends.places.reshape(-1, 3).T, strict=True))


def section_table(ends: BeamEnds, forces: np.ndarray) -> pd.DataFrame:
    """Section forces (elements, 2, 6), a row per end of an element."""
    return pd.DataFrame(ends_table(ends) | dict(zip(SECTION_COLUMNS, forces.reshape(-1, 6).T, strict=True)))
