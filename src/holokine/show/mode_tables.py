"""Tables about modes: energies, guidance, bands, comparisons, hand formulas."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

import numpy as np
import pandas as pd

from holokine.errors import UnknownNameError, nearest_hint
from holokine.show.numbers import number_text

if TYPE_CHECKING:
    from collections.abc import Sequence

    from holokine.describe.schema import Description
    from holokine.formulas import FormulaResult
    from holokine.modes.compare import Comparison
    from holokine.modes.energy import Energies
    from holokine.modes.kinds import ModeKind
    from holokine.modes.mode_set import ModeSet
    from holokine.modes.participation import Enough
    from holokine.modes.ritz import LoadShare

__all__ = [
    "ENERGY_TITLE",
    "bands_table",
    "comparison_table",
    "energy_in_words",
    "energy_table",
    "enough_table",
    "formula_table",
    "guidance_lines",
    "guidance_table",
    "mac_table",
    "mass_by_direction",
    "modes_in_words",
    "sorted_top",
]


def energy_table(modes: ModeSet, names: tuple[str, ...], strain: np.ndarray, kinetic: np.ndarray) -> pd.DataFrame:
    """One row per mode and member (or group): energies in J at unit modal amplitude, and shares in percent."""
    total = modes.omega**2 / 2.0
    safe = np.where(total > 0, total, 1.0)
    count = len(names)
    return pd.DataFrame(
        {
            "mode": np.repeat(modes.numbers, count),
            "frequency_hz": np.repeat(modes.frequencies_hz, count),
            "member": np.tile(np.array(names, dtype=object), modes.count),
            "strain_percent": (100.0 * strain / safe).T.ravel(),
            "kinetic_percent": (100.0 * kinetic / safe).T.ravel(),
            "strain_j": strain.T.ravel(),
            "kinetic_j": kinetic.T.ravel(),
        }
    )


def guidance_table(
    modes: ModeSet, names: tuple[str, ...], strain: np.ndarray, kinetic: np.ndarray, change: float = 0.1
) -> pd.DataFrame:
    """Change of each frequency, in percent, for `change` more stiffness or mass of each member, largest first.

    First order: df/f = s/2 · dk/k - t/2 · dm/m with the shares s of strain and t of kinetic energy.
    """
    table = energy_table(modes, names, strain, kinetic)
    percent = f"{100 * change:g}".replace(".", "_")
    stiff, heavy = f"by_{percent}_percent_stiffness_percent", f"by_{percent}_percent_mass_percent"
    table[stiff] = 0.5 * change * table["strain_percent"]
    table[heavy] = -0.5 * change * table["kinetic_percent"]
    size = np.maximum(table[stiff], -table[heavy])
    table = table.assign(_size=size).sort_values(["mode", "_size"], ascending=[True, False], kind="stable")
    return table[["mode", "frequency_hz", "member", stiff, heavy]].reset_index(drop=True)


def guidance_lines(
    modes: ModeSet, names: tuple[str, ...], strain: np.ndarray, kinetic: np.ndarray, change: float = 0.1, most: int = 2
) -> list[str]:
    """The strongest levers on each mode, in words."""
    lines = []
    total = modes.omega**2 / 2.0
    for row in range(modes.count):
        if modes.rigid[row]:
            continue
        number, f = modes.numbers[row], modes.frequencies_hz[row]
        levers = [
            (0.5 * change * strain[i, row] / total[row], "stiffness in", "raises", n) for i, n in enumerate(names)
        ]
        levers += [(0.5 * change * kinetic[i, row] / total[row], "mass in", "lowers", n) for i, n in enumerate(names)]
        levers.sort(key=lambda e: -e[0])
        for size, what, effect, name in levers[:most]:
            if size >= 0.05 * change and not name.startswith("("):
                at = f"mode {number} ({number_text(f)} Hz)"
                lines.append(f"{100 * change:g} % more {what} {name} {effect} {at} by {100 * size:.1f} %")
    return lines


def enough_table(found: list[Enough]) -> pd.DataFrame:
    """One row per direction."""
    return pd.DataFrame(
        {
            "direction": [e.direction for e in found],
            "wanted_percent": [100.0 * e.wanted for e in found],
            "reached_percent": [100.0 * e.reached for e in found],
            "with_mode": ["-" if e.mode is None else str(e.mode) for e in found],
            "frequency_hz": [e.frequency_hz for e in found],
            "probably_needed": ["" if e.probably is None else str(e.probably) for e in found],
        }
    )


def bands_table(modes: ModeSet, d: Description, near: float = 0.15) -> pd.DataFrame:
    """Modes in, or within `near` of, the bands of excitation of the description."""
    rows = []
    for name, band in d.bands.items():
        for words, low, high in band.ranges():
            for number, f in zip(modes.numbers, modes.frequencies_hz, strict=True):
                inside = low <= f <= high
                away = 0.0 if inside else (low / f - 1.0 if f < low else f / high - 1.0) if f > 0 else np.inf
                if inside or away <= near:
                    rows.append(
                        {
                            "band": f"{name} {words}".strip(),
                            "from_hz": low,
                            "to_hz": high,
                            "mode": int(number),
                            "frequency_hz": f,
                            "where": "in it" if inside else f"{100 * away:.0f} % {'below' if f < low else 'above'}",
                        }
                    )
    return pd.DataFrame(rows, columns=["band", "from_hz", "to_hz", "mode", "frequency_hz", "where"])


def comparison_lines(c: Comparison) -> list[str]:
    """Which frequency moves most."""
    shift = np.abs(c.shift)
    if not np.isfinite(shift).any():
        return []
    row = int(np.nanargmax(shift))
    f, g = (number_text(v) for v in (c.before.frequencies_hz[row], c.after.frequencies_hz[c.partner[row]]))
    return [f"mode {c.before.numbers[row]} moves most: {f} Hz becomes {g} Hz ({100 * c.shift[row]:+.3g} %)"]


def comparison_table(c: Comparison) -> pd.DataFrame:
    """One row per mode before, with its partner after; then modes after that have none."""
    rows = []
    f, g = c.before.frequencies_hz, c.after.frequencies_hz
    for row in range(c.before.count):
        mate = int(c.partner[row])
        rows.append(
            {
                "mode": str(c.before.numbers[row]),
                "frequency_hz": f[row],
                "becomes": str(c.after.numbers[mate]) if mate >= 0 else "-",
                "becomes_hz": g[mate] if mate >= 0 else np.nan,
                "shift_percent": 100.0 * c.shift[row],
                "mac": round(float(c.mac[row, mate] if mate >= 0 else c.mac[row].max(initial=0.0)), 4),
                "remark": c.remark(row),
            }
        )
    paired = g[c.partner[c.partner >= 0]]
    top = max(float(f.max(initial=0.0)), float(paired.max(initial=0.0)))
    for mate in c.new[g[c.new] <= top]:  # those above all that was asked for say nothing
        rows.append(
            {
                "mode": "-",
                "frequency_hz": np.nan,
                "becomes": str(c.after.numbers[mate]),
                "becomes_hz": g[mate],
                "shift_percent": np.nan,
                "mac": round(float(c.mac[:, mate].max(initial=0.0)), 4),
                "remark": "no partner before",
            }
        )
    return pd.DataFrame(rows)


def mac_table(c: Comparison) -> pd.DataFrame:
    """The modal assurance criterion, modes before down, modes after across."""
    table = pd.DataFrame(c.mac, columns=[f"after_{n}" for n in c.after.numbers])
    table.insert(0, "mode_before", c.before.numbers)
    return table


def formula_table(
    result: FormulaResult, modes: ModeSet | None = None, kinds: Sequence[ModeKind] | None = None
) -> pd.DataFrame:
    """Frequencies of a hand formula; beside them those modes of a run that are of its kind and order, plane by plane.

    Where the run has no mode of the kind at all, the nearest frequency stands there, and `paired_by` says so.
    """
    table = pd.DataFrame({"what": result.labels, "frequency_hz": result.frequencies_hz})
    if modes is None:
        return table
    f, rows = modes.frequencies_hz, []
    pairs = _of_a_kind(result, kinds or ())
    for label, x in zip(result.labels, result.frequencies_hz, strict=True):
        own: list[tuple[str, int | None]] = [(plane, mode) for plane, wanted, mode in pairs if wanted == label]
        by = "kind and order"
        if not pairs:
            own, by = [("", int(np.abs(f - x).argmin()))], "nearest frequency only"
        for plane, i in own or [("", None)]:
            row: dict[str, object] = {"what": f"{label} {plane}".strip(), "frequency_hz": x}
            if i is None:
                row |= {"run_mode": "-", "run_hz": np.nan, "run_over_formula_percent": np.nan,
                        "paired_by": "not in the run"}  # fmt: skip
            else:
                row |= {"run_mode": str(modes.numbers[i]), "run_hz": f[i],
                        "run_over_formula_percent": 100.0 * (f[i] / x - 1.0), "paired_by": by}  # fmt: skip
            if kinds is not None:
                row["run_mode_is"] = "" if i is None else kinds[i].words
            rows.append(row)
    return pd.DataFrame(rows)


def _of_a_kind(result: FormulaResult, kinds: Sequence[ModeKind]) -> list[tuple[str, str, int]]:
    """Plane (about y, of a part ...), label of the formula and row of the run, for modes of the formula's kind."""
    found = []
    for row, kind in enumerate(kinds):
        of = f"of {kind.member}" if kind.member else ""
        if kind.family in ("bending", "torsion", "stretching") and kind.family == result.family:
            plane = f"about {kind.about} {of}".strip() if result.family == "bending" else of
            found.append((plane, f"{result.family} {kind.order[0]}", row))
        elif result.family == "plate bending" and kind.family == "plate bending":
            m, n = kind.order
            label = next((w for w in result.labels if re.findall(r"\d+", w) == [str(m), str(n)]), "")
            found.append((of, label, row))
        elif result.family == "ring" and kind.family.startswith("ring"):
            where = "in its plane" if kind.family == "ring in plane" else "out of its plane"
            found.append(("", f"{where}, {kind.order[0]} waves around (twice)", row))
        elif result.family == "on springs" and kind.family == "on springs" and not found:
            found.append(("", result.labels[0], row))
    first: dict[tuple[str, str], int] = {}
    for plane, label, row in found:
        first.setdefault((plane, label), row)
    return [(plane, label, row) for (plane, label), row in first.items()]


def sorted_top(table: pd.DataFrame, by: str | None, top: int | None) -> pd.DataFrame:
    """Rows sorted by a column, largest size first (``mode`` and frequencies rising), and the first `top` of them.

    Raises
    ------
    UnknownNameError
        With the nearest column and all there are.
    """
    if by is not None:
        name = next((c for c in table.columns if c == by), None)
        if name is None:
            raise UnknownNameError(f'there is no column "{by}". {nearest_hint(by, list(table.columns), "columns")}')
        rising = name == "mode" or name.endswith("_hz") or table[name].dtype == object
        key = table[name] if rising else -table[name].abs()
        table = table.loc[key.sort_values(kind="stable").index].reset_index(drop=True)
    return table if top is None else table.head(top)


def member_words(energies: Energies, row: int, which: str) -> str:
    """The member with the largest share in a mode, with it."""
    found = energies.together(energies.shares(which)[:, row])
    return f"{found[0][0]} {100 * found[0][1]:.0f} %" if found else "-"


def points_table(modes: ModeSet, points: dict[str, int], shapes: np.ndarray, metric: bool) -> pd.DataFrame:
    """Shapes, (modes, dofs), at points: a row per mode and point; `metric`: in mm and mrad."""
    at = shapes.reshape(modes.count, -1, 6)[:, list(points.values())].reshape(-1, 6) * (1e3 if metric else 1.0)
    biggest = np.abs(at).max(axis=0, initial=0.0)
    at = np.where(np.abs(at) < 1e-12 * max(biggest.max(initial=0.0), 1e-300), 0.0, at)
    table: dict[str, object] = {
        "mode": np.repeat(modes.numbers, len(points)),
        "frequency_hz": np.repeat(modes.frequencies_hz, len(points)),
        "point": [*points] * modes.count,
    }
    for d, axis in enumerate(("x", "y", "z", "rx", "ry", "rz")):
        table[f"{axis}_{'mm' if d < 3 else 'mrad'}" if metric else axis] = at[:, d]
    return pd.DataFrame(table)


def peak_at_energy_table(modes: ModeSet, energy: float) -> pd.DataFrame:
    """Largest displacement of each mode, in mm, where it holds so many J."""
    nodes = modes.at_energy(energy).reshape(modes.count, -1, 6)[:, :, :3]
    peak = np.linalg.norm(nodes, axis=2).max(axis=1)
    return pd.DataFrame(
        {"mode": modes.numbers, "frequency_hz": modes.frequencies_hz, "peak_displacement_mm": 1e3 * peak}
    )


def load_shares_table(modes: ModeSet, shares: list[LoadShare]) -> pd.DataFrame:
    """Running shares of every load in percent, static and dynamic."""
    table: dict[str, object] = {"vectors": range(1, modes.count + 1), "frequency_hz": modes.frequencies_hz}
    for share in shares:
        table[f"{share.load}_static_percent"] = 100.0 * share.static
        table[f"{share.load}_dynamic_percent"] = 100.0 * share.dynamic
    return pd.DataFrame(table)


def modes_in_words(table: pd.DataFrame) -> pd.DataFrame:
    """Frequency and what each mode is: the main columns of the table of modes."""
    result = table[["mode", "frequency_hz", "period_s", "what", "most_strain", "most_kinetic"]].copy()
    result["period_s"] = 1e3 * result["period_s"]
    result = result.rename(columns={"period_s": "period_ms"})
    result["mesh_error_percent"] = table["mesh_error_percent"]
    result["residual"] = [f"{r:.0e}" for r in table["residual"]]
    return result


def mass_by_direction(shares: pd.DataFrame) -> pd.DataFrame:
    """Effective mass by direction with its running sum, in percent of the free mass."""
    result = shares[["mode", "frequency_hz"]].copy()
    for d in "xyz":
        result[f"{d}_kg"] = shares[f"effective_{d}_kg"]
        result[f"{d}_percent"] = 100.0 * shares[f"ratio_{d}_of_free"]
        result[f"{d}_sum_percent"] = 100.0 * shares[f"cumulative_{d}_of_free"]
    return result


ENERGY_TITLE = "Share of the energy (percent; those above 5 % or the three largest, at most six)"


def energy_in_words(energy: pd.DataFrame) -> pd.DataFrame:
    """Members that matter in each mode, strain and kinetic side by side, in words."""
    rows = []
    for mode, own in energy.groupby("mode", sort=False):
        row: dict[str, object] = {"mode": mode, "frequency_hz": float(own["frequency_hz"].iloc[0])}
        for which in ("strain", "kinetic"):
            ranked = own.sort_values(f"{which}_percent", ascending=False, kind="stable")
            share = ranked[f"{which}_percent"]
            large = ranked[share >= min(5.0, float(share.iloc[:3].min()))].iloc[:6]
            words = [f"{m} {p:.0f}" for m, p in zip(large["member"], large[f"{which}_percent"], strict=True)]
            rest = float(share.iloc[len(large) :].sum())
            more = f"{int((share.iloc[len(large) :] > 0).sum()):,} others {rest:.0f}" if rest >= 0.5 else ""
            row[which] = ", ".join([*words, *([more] if more else [])])
        rows.append(row)
    return pd.DataFrame(rows)
