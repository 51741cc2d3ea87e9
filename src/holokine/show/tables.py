"""Tables as pandas DataFrames, with units in the column names (or in a column `unit` where rows differ)."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import TYPE_CHECKING, Protocol

import numpy as np
import pandas as pd

from holokine.mesh.cells import CELLS
from holokine.respond.reduced import slight
from holokine.show.mode_tables import member_words
from holokine.show.numbers import display_unit, number_text

if TYPE_CHECKING:
    from holokine.gauges.channels import Channels
    from holokine.gauges.readings import Reading
    from holokine.modes.check import CheckReport
    from holokine.modes.energy import Energies
    from holokine.modes.mode_set import ModeSet
    from holokine.respond.combine import SpectrumResult
    from holokine.respond.limits import LimitCheck
    from holokine.respond.meaning import Meaning
    from holokine.respond.shock import ShockSpectrum
    from holokine.respond.transient import TimeResult
    from holokine.system.build import System
    from holokine.system.links import SupportRows
    from holokine.system.loads import Resultant
    from holokine.system.recovery import PartPeak

__all__ = [
    "connections_table",
    "elements_table",
    "conservatism_lines",
    "conservatism_table",
    "largest_table",
    "limits_table",
    "loads_table",
    "mass_table",
    "modes_table",
    "part_peaks_table",
    "participation_table",
    "peaks_table",
    "shock_peak",
    "shock_table",
    "supports_table",
]

RATIOS: dict[str, object] = {
    "ratio_to_static": np.nan, "correction_percent": np.nan, "missing_mass_percent": np.nan, "amplification": np.nan,
    "mode_shares": "", "most_by_mode": "",
}  # fmt: skip
"""Columns that are ratios of a reading, and what stands there where it is too small for one."""
SIZES = ("peak", "rms", "expected_largest", "largest_together", "lowest", "highest")
"""Columns that are zero where a reading is."""
DIRECTIONS = ("x", "y", "z", "rx", "ry", "rz")


def mass_table(report: CheckReport) -> pd.DataFrame:
    """Mass and centre of mass of every part and point mass, and of the whole (last row)."""
    rows = []
    for name, m in [*report.members.items(), ("whole assembly", report.totals)]:
        rows.append(
            {
                "name": name,
                "mass_kg": m.mass,
                "share_percent": 100.0 * m.mass / report.totals.mass if report.totals.mass else np.nan,
                "centre_x_mm": 1e3 * m.centre[0],
                "centre_y_mm": 1e3 * m.centre[1],
                "centre_z_mm": 1e3 * m.centre[2],
            }
        )
    return pd.DataFrame(rows)


def supports_table(modes_or_system: object) -> pd.DataFrame:
    """Supports and what they hold."""
    system = getattr(modes_or_system, "system", modes_or_system)
    rows = [
        {"support": s.name, "nodes": len(s.nodes), "holds": _holds(s)}
        for s in system.supports.values()  # type: ignore[attr-defined]
    ]
    return pd.DataFrame(rows, columns=["support", "nodes", "holds"])


def _holds(s: SupportRows) -> str:
    """What a support holds both ways, and where it only pushes."""
    words = [" ".join(s.hold)] if s.hold else []
    if s.feet is not None:
        more = [f"after {number_text(1e3 * s.feet.gap)} mm"] if s.feet.gap else []
        more += [f"friction {s.feet.friction:g}"] if s.feet.friction else []
        way = "-" if s.feet.sign < 0 else ""
        words.append(f"pushes {way}{'xyz'[s.feet.axis]}" + (f" ({', '.join(more)})" if more else ""))
    return ", ".join(words)


def loads_table(loads: Mapping[str, Resultant]) -> pd.DataFrame:
    """What every load comes to: force, moment about the mean place of its forces, that place, area under a pressure."""
    rows = []
    for name, total in loads.items():
        row: dict[str, object] = {"load": name}
        size, arm = float(np.linalg.norm(total.force)), float(np.linalg.norm(total.moment))
        row |= {f"{a}_n": 0.0 if abs(f) < 1e-9 * size else f for a, f in zip("xyz", total.force, strict=True)}
        least = 1e-9 * max(arm, size * float(np.abs(total.place).max(initial=0.0)))
        row |= {f"moment_{a}_nm": 0.0 if abs(m) <= least else m for a, m in zip("xyz", total.moment, strict=True)}
        row |= {f"at_{a}_mm": 1e3 * x for a, x in zip("xyz", total.place, strict=True)}
        rows.append({**row, "area_mm2": 1e6 * total.area})
    table = pd.DataFrame(rows)
    return table.drop(columns="area_mm2") if len(table) and table["area_mm2"].isna().all() else table


def elements_table(system: System) -> pd.DataFrame:
    """Elements of each part and kind: number, smallest and largest edge, worst shape (1 perfect, 0 flat)."""
    from holokine.mesh.quality import block_shapes

    rows = []
    for shape in block_shapes(system.mesh):
        rows.append(
            {
                "part": shape.block.part,
                "elements": len(shape.block.cells),
                "kind": shape.block.kind,
                "smallest_edge_mm": 1e3 * float(shape.shortest.min()),
                "largest_edge_mm": 1e3 * float(shape.longest.max()),
                "worst_shape": float(shape.quality.min()) if CELLS[shape.block.kind].corners else np.nan,
            }
        )
    return pd.DataFrame(rows)


def connections_table(system: System) -> pd.DataFrame:
    """Links, joints, ties, springs and bushings: kind, place, nodes, and the parts that they hold together."""
    holders: dict[int, list[str]] = {}
    for part, nodes in system.mesh.part_nodes.items():
        for node in nodes:
            holders.setdefault(int(node), []).append(part)
    for body in system.masses:
        holders.setdefault(body.node, []).append(body.name)
    for point, node in system.mesh.points.items():
        holders.setdefault(node, [point])
    rows = []
    seen = set()
    things = [(b.name, b.kind, b.nodes, b.place) for b in system.bonds.values()]
    things += [(c.name, c.kind, np.array(c.nodes), c.place) for c in system.connectors]
    for name, kind, nodes, place in things:
        if name in seen:
            continue
        seen.add(name)
        held = dict.fromkeys(p for node in nodes for p in holders.get(int(node), []))
        rows.append(
            {
                "connection": name,
                "kind": kind,
                "nodes": len(nodes),
                "x_mm": 1e3 * place[0],
                "y_mm": 1e3 * place[1],
                "z_mm": 1e3 * place[2],
                "holds": ", ".join(held) + (" and ground" if len(nodes) == 1 else ""),
            }
        )
    shared: dict[str, dict[str, int]] = {}
    for (a, b), count in system.mesh.merged_pairs.items():
        shared.setdefault(a, {})[b] = count
    for part, others in shared.items():
        words = ", ".join(f"{other} ({count})" for other, count in others.items())
        rows.append({"connection": "shared nodes", "kind": "merged", "nodes": sum(others.values()), "x_mm": np.nan,
                     "y_mm": np.nan, "z_mm": np.nan, "holds": f"{part} on {words}"})  # fmt: skip
    return pd.DataFrame(rows, columns=["connection", "kind", "nodes", "x_mm", "y_mm", "z_mm", "holds"])


def modes_table(modes: ModeSet, damping: np.ndarray, energies: Energies, words: list[str]) -> pd.DataFrame:
    """One row per mode: frequency, angular frequency, period, damping, what it is, where its energy is, trust."""
    most = [[member_words(energies, row, which) for row in range(modes.count)] for which in ("strain", "kinetic")]
    f = modes.frequencies_hz
    effective = modes.effective_mass[:, :3] / np.where(modes.free_mass[:3] > 0, modes.free_mass[:3], 1.0)
    main = effective.argmax(axis=1)
    return pd.DataFrame(
        {
            "mode": modes.numbers,
            "frequency_hz": f,
            "frequency_error_hz": modes.errors_hz,
            "angular_frequency_rad_s": modes.omega,
            "period_s": np.where(f > 0, 1.0 / np.where(f > 0, f, 1.0), np.inf),
            "damping_percent": 100.0 * damping,
            "kind": np.where(modes.rigid, "rigid-body", "elastic"),
            "main_direction": [DIRECTIONS[d] if e[d] >= 0.01 else "-" for d, e in zip(main, effective, strict=True)],
            "main_direction_percent": 100.0 * effective.max(axis=1),
            "what": words,
            "most_strain": most[0],
            "most_kinetic": most[1],
            "mesh_error_percent": 100.0 * energies.mesh_error,
            "residual": modes.residuals,
        }
    )


def participation_table(modes: ModeSet) -> pd.DataFrame:
    """Participation factors, effective masses, ratios and cumulative ratios in x y z rx ry rz.

    Rotations are about the centre of mass. Ratios to the whole mass end in ``_of_whole``, to the mass that is
    free to move in ``_of_free``.
    """
    table: dict[str, object] = {
        "mode": modes.numbers,
        "frequency_hz": modes.frequencies_hz,
    }
    effective = modes.effective_mass
    for d, name in enumerate(DIRECTIONS):
        root, unit = ("sqrt_kg", "kg") if d < 3 else ("sqrt_kg_m", "kg_m2")
        table[f"factor_{name}_{root}"] = modes.participation[:, d]
        table[f"effective_{name}_{unit}"] = effective[:, d]
    for label, total in (("whole", modes.whole_mass), ("free", modes.free_mass)):
        for d, name in enumerate(DIRECTIONS):
            ratio = effective[:, d] / total[d] if total[d] > 0 else np.zeros(modes.count)
            table[f"ratio_{name}_of_{label}"] = ratio
            table[f"cumulative_{name}_of_{label}"] = np.cumsum(ratio)
    return pd.DataFrame(table)


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


def conservatism_table(pulse: TimeResult, answers: Mapping[str, SpectrumResult]) -> pd.DataFrame:
    """Peak in time of every reading that is not slight, and each rule's peak over it."""
    rows, small = [], slight(pulse.reduced.readings, pulse.peaks)
    for number, reading in enumerate(pulse.reduced.readings):
        peak = abs(pulse.peaks[number])
        if peak <= pulse.noise[number] or small[number]:
            continue
        unit, size = display_unit(reading.dimension)
        row: dict[str, object] = {
            "gauge": reading.gauge, "component": reading.component, "peak_in_time": peak / size, "unit": unit,
        }  # fmt: skip
        for rule, answer in answers.items():
            row[over_time(rule)] = answer.peaks[number] / peak
        rows.append(row)
    return pd.DataFrame(rows)


def over_time(rule: str) -> str:
    """Column of a rule's peaks over those in time."""
    return f"{rule.replace(' ', '_')}_over_time"


def conservatism_lines(table: pd.DataFrame, rules: Iterable[str], left: int) -> list[str]:
    """Which rules lie above time for every reading, and by how much; which do not, and where they miss most."""
    lines = ["spectra of the pulse itself, at every mode's frequency and damping: a rule's peak over the peak in time"]
    above, below = [], []
    for rule in rules:
        ratios = table[over_time(rule)].to_numpy(dtype=float) if len(table) else np.zeros(0)
        if not np.isfinite(ratios).any():
            continue
        low, middle, high = np.nanmin(ratios), np.nanmedian(ratios), np.nanmax(ratios)
        told = f"{rule} {low:.2f} to {high:.2f} times (median {middle:.2f})"
        if low >= 1.0:
            above.append(told)
            continue
        least = table.iloc[int(np.nanargmin(ratios))]
        where = f"{least['gauge']} {least['component']}".strip()
        below.append(f"{told}, below time for {int((ratios < 1.0).sum())}, most at {where}")
    count = len(table)
    readings = f"all {count} readings that matter" if count != 1 else "the one reading that matters"
    lines.append(f"above the peak in time for {readings}: {'; '.join(above) or 'none'}")
    if below:
        lines.append(f"not above it for all: {'; '.join(below)}")
    if left:
        which = "readings that are" if left != 1 else "reading that is"
        lines.append(f"left out: {left} {which} nothing beside others of the gauge or kind")
    return lines


def shock_table(result: ShockSpectrum, sides: dict[str, np.ndarray], broaden: float = 0.0) -> pd.DataFrame:
    """One row per frequency, a column per side and damping ratio, in display units; how broadened in the names."""
    dimension = {"pseudo-velocity": "velocity", "relative displacement": "displacement"}
    unit, size = display_unit(dimension.get(result.quantity, "acceleration"))
    word = result.quantity.replace(" ", "_").replace("-", "_")
    wide = f"_broadened_{100 * broaden:g}_percent".replace(".", "_") if broaden else ""
    table: dict[str, object] = {"frequency_hz": result.frequency_hz, "period_s": 1.0 / result.frequency_hz}
    for side, values in sides.items():
        for level, zeta in enumerate(result.damping):
            ratio = f"{100 * zeta:g}".replace(".", "_")
            table[f"{side}_{word}{wide}_at_{ratio}_percent_{unit.replace('/', '_per_')}"] = values[level] / size
    return pd.DataFrame(table)


def shock_peak(result: ShockSpectrum, side: str, values: np.ndarray) -> str:
    """Where a side of a shock spectrum is largest, at every damping ratio."""
    dimension = {"pseudo-velocity": "velocity", "relative displacement": "displacement"}
    unit, size = display_unit(dimension.get(result.quantity, "acceleration"))
    tops = [
        f"{number_text(row.max() / size)} {unit} at {number_text(result.frequency_hz[row.argmax()])} Hz"
        f" ({100 * zeta:g} % damping)"
        for zeta, row in zip(result.damping, values, strict=True)
    ]
    return f"largest, {side}: {'; '.join(tops)}"
