"""Tables as pandas DataFrames, with units in the column names (or in a column `unit` where rows differ)."""

from __future__ import annotations

import numpy as np
import pandas as pd

from holokine.excite.spectrum import ResponseSpectrum
from holokine.gauges.channels import GaugeSet
from holokine.mesh.quality import block_shapes
from holokine.modes.check import CheckReport
from holokine.modes.energy import Energies
from holokine.modes.extract import ModeSet
from holokine.respond.combine import SpectrumAnswer
from holokine.respond.limits import LimitCheck
from holokine.respond.motion import Envelope
from holokine.respond.reduced import ReducedModel
from holokine.respond.shock import ShockSpectrum
from holokine.respond.static import StaticAnswer
from holokine.respond.transient import PulseAnswer
from holokine.show.mode_tables import member_words
from holokine.show.numbers import display_unit
from holokine.system.build import System
from holokine.system.recovery import PartPeak
from holokine.units import STANDARD_GRAVITY

__all__ = [
    "connections_table",
    "elements_table",
    "conservatism_table",
    "history_table",
    "limits_table",
    "main_modes_table",
    "mass_table",
    "modes_table",
    "part_peaks_table",
    "participation_table",
    "peaks_table",
    "points_table",
    "shares_table",
    "shock_table",
    "spectral_table",
    "supports_table",
]

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
        {"support": s.name, "nodes": len(s.nodes), "holds": " ".join(s.hold)}
        for s in system.supports.values()  # type: ignore[attr-defined]
    ]
    return pd.DataFrame(rows, columns=["support", "nodes", "holds"])


def elements_table(system: System) -> pd.DataFrame:
    """Elements of each part and kind: number, smallest and largest edge, worst shape (1 perfect, 0 flat)."""
    rows = []
    for shape in block_shapes(system.mesh):
        rows.append(
            {
                "part": shape.block.part,
                "elements": len(shape.block.cells),
                "kind": shape.block.kind,
                "smallest_edge_mm": 1e3 * float(shape.shortest.min()),
                "largest_edge_mm": 1e3 * float(shape.longest.max()),
                "worst_shape": float(shape.quality.min()) if shape.block.kind != "beam" else np.nan,
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
                "holds": ", ".join(held) + (" and the frame" if len(nodes) == 1 else ""),
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


def _motion_word(reduced: ReducedModel | GaugeSet, number: int) -> str:
    channel = reduced.channels[reduced.readings[number].channels[0]]
    if channel.kind != "motion":
        return ""
    return "relative" if channel.relative else "absolute"


def peaks_table(answer: SpectrumAnswer | PulseAnswer | StaticAnswer) -> pd.DataFrame:
    """Peak (or value at rest) of every gauge in display units; with times, extremes and static ratio for pulses."""
    rows = []
    reduced = answer.reduced
    noise = answer.noise
    for number, reading in enumerate(reduced.readings):
        if abs(answer.peaks[number]) <= noise[number]:
            column = "value" if isinstance(answer, StaticAnswer) else "peak"
            rows.append({"gauge": reading.gauge, "component": reading.component,
                         "motion": _motion_word(reduced, number), column: 0.0,
                         "unit": display_unit(reading.dimension)[0]})  # fmt: skip
            continue
        unit, size = display_unit(reading.dimension)
        row: dict[str, object] = {
            "gauge": reading.gauge,
            "component": reading.component,
            "motion": _motion_word(reduced, number),
            "peak": answer.peaks[number] / size,
            "unit": unit,
        }
        if isinstance(answer, PulseAnswer):
            static = answer.static[number] / size
            if abs(static) < 1e-9 * abs(answer.peaks[number] / size):
                static = 0.0
            row |= {
                "time_ms": 1e3 * answer.peak_times[number],
                "lowest": answer.lowest[number] / size,
                "highest": answer.highest[number] / size,
                "rms": answer.rms[number] / size,
                "static": static,
                "ratio_to_static": abs(row["peak"] / static) if static > 0 else np.nan,  # type: ignore[operator]
                "correction_percent": 100.0 * answer.correction_share[number],
                "place": answer.places[number],
            }
        elif isinstance(answer, StaticAnswer):
            if not np.isfinite(answer.peaks[number]):
                continue  # at rest nothing has a velocity or an acceleration
            row["value"] = row.pop("peak")
            row["place"] = answer.places[number]
        else:
            for d, axis in enumerate(answer.directions):
                row[f"from_{axis.replace(' ', '_')}"] = answer.by_direction[d, number] / size
            if answer.settled.any():
                row["from_displacement"] = answer.settled[number] / size
            _, rest = answer.shares(number) if np.isfinite(answer.peaks[number]) else (None, [np.nan])
            row["missing_mass_percent"] = 100.0 * float(rest[0])
            row["place"] = answer.places[number]
        rows.append(row)
    return pd.DataFrame(rows)


def part_peaks_table(peaks: list[PartPeak]) -> pd.DataFrame:
    """Largest stress of every part in MPa, where, and when it is known."""
    rows = []
    for p in peaks:
        row: dict[str, object] = {"part": p.part, "stress_mpa": 1e-6 * p.stress}
        if p.time is not None:
            row["time_ms"] = 1e3 * p.time
        row |= dict(zip(("at_x_mm", "at_y_mm", "at_z_mm"), 1e3 * p.place, strict=True))
        rows.append({**row, "where": p.where})
    return pd.DataFrame(rows)


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


def limits_table(answer: SpectrumAnswer | PulseAnswer | StaticAnswer, checks: list[LimitCheck]) -> pd.DataFrame:
    """Peaks against limits: use in percent of the limit, met or not."""
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
                "use_percent": 100.0 * c.use,
                "met": "yes" if c.ok else "NO",
            }
        )
    return pd.DataFrame(rows, columns=["gauge", "component", "peak", "limit", "unit", "use_percent", "met"])


def main_modes_table(answer: SpectrumAnswer, share: float) -> pd.DataFrame:
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


def conservatism_table(
    pulse: PulseAnswer, spectra: dict[str, ResponseSpectrum], answers: dict[str, SpectrumAnswer]
) -> pd.DataFrame:
    """Peak in time of every reading, and each rule's peak over it."""
    rows = []
    for number, reading in enumerate(pulse.reduced.readings):
        peak = abs(pulse.peaks[number])
        if peak <= pulse.noise[number]:
            continue
        unit, size = display_unit(reading.dimension)
        row: dict[str, object] = {
            "gauge": reading.gauge, "component": reading.component, "peak_in_time": peak / size, "unit": unit,
        }  # fmt: skip
        for rule, answer in answers.items():
            row[f"{rule.replace(' ', '_')}_over_time"] = answer.peaks[number] / peak
        rows.append(row)
    return pd.DataFrame(rows)


def shock_table(result: ShockSpectrum, sides: dict[str, np.ndarray]) -> pd.DataFrame:
    """One row per frequency, a column per side and damping ratio, in display units."""
    dimension = {"pseudo-velocity": "velocity", "relative displacement": "displacement"}
    unit, size = display_unit(dimension.get(result.quantity, "acceleration"))
    word = result.quantity.replace(" ", "_").replace("-", "_")
    table: dict[str, object] = {"frequency_hz": result.frequency_hz, "period_s": 1.0 / result.frequency_hz}
    for side, values in sides.items():
        for level, zeta in enumerate(result.damping):
            ratio = f"{100 * zeta:g}".replace(".", "_")
            table[f"{side}_{word}_at_{ratio}_percent_{unit.replace('/', '_per_')}"] = values[level] / size
    return pd.DataFrame(table)


def shares_table(answer: SpectrumAnswer, numbers: list[int]) -> pd.DataFrame:
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


def spectral_table(answer: SpectrumAnswer) -> pd.DataFrame:
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


def history_table(answer: PulseAnswer, numbers: list[int], thin: int = 1) -> pd.DataFrame:
    """Histories in display units, one column per reading, beside the base acceleration in g."""
    table: dict[str, object] = {"time_s": answer.time[::thin]}
    unit, size = display_unit("acceleration")
    for d, axis in enumerate("xyz"):
        if answer.pulse.peak[d] > 0:
            table[f"base_{axis}_{unit}"] = answer.base[::thin, d] / size
    for k, name in enumerate(answer.pulse.names[3:], start=3):
        table[f"{name} factor".replace(" ", "_")] = answer.base[::thin, k]
    for number in numbers:
        reading = answer.reduced.readings[number]
        unit, size = display_unit(reading.dimension)
        name = f"{reading.label}_{unit}".replace(" ", "_").replace("/", "_per_")
        table[name] = answer.history(number, thin) / size
    return pd.DataFrame(table)
