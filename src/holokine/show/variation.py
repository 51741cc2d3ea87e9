"""Tables and figures of variations, of values that bring a mode somewhere, and of refined meshes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from holokine.errors import UnknownNameError, first_few, nearest_hint
from holokine.show.figures import COLOURS, GHOST, SIZE
from holokine.show.numbers import display_unit
from holokine.show.numbers import number_text as n
from holokine.show.plain import empty_figure
from holokine.show.plain import label as own_label
from holokine.vary.parameters import number_in

if TYPE_CHECKING:
    from holokine.units import UnitSystem
    from holokine.vary import Followed, Plan, Reached, Refined, VariantResult

__all__ = [
    "mode_column",
    "mode_columns",
    "parameter_columns",
    "parameter_names",
    "plot_refined",
    "plot_variation",
    "reached_lines",
    "reached_table",
    "reading_column",
    "refined_lines",
    "refined_table",
    "variation_lines",
    "variation_table",
]

Floats = NDArray[Any]  # float64
MOST_LINES = 12
MOST_PANELS = 3


def mode_column(mode: int) -> str:
    """Column of a followed mode's frequency."""
    return f"mode_{mode}_hz"


def mode_columns(table: pd.DataFrame) -> list[str]:
    """Columns of all followed modes."""
    names = [str(c) for c in table]
    return [c for c in names if c.startswith("mode_") and c.endswith("_hz")]


def reading_column(label: str, dimension: str) -> str:
    """Column of a reading, with the unit in which it is shown."""
    return f"{label} ({display_unit(dimension)[0]})"


def parameter_columns(plan: Plan) -> list[str]:
    """Columns of the parameters by their short names, with the unit in which their values are written."""
    names = parameter_names(plan.parameters)
    return [f"{name} ({p.unit})" if p.unit else name for name, p in zip(names, plan.parameters, strict=True)]


def parameter_names(parameters: Sequence[Any]) -> list[str]:
    """Short names of parameters; the whole path where two would be the same."""
    short = [p.name for p in parameters]
    return [p.name if short.count(p.name) == 1 else p.text for p in parameters]


def _parameter_values(plan: Plan, written: Sequence[Any], units: UnitSystem) -> dict[str, list[Any]]:
    found: dict[str, list[Any]] = {}
    for k, (column, parameter) in enumerate(zip(parameter_columns(plan), plan.parameters, strict=True)):
        values = [written[k], *(row[k] for row in plan.rows)]
        if parameter.unit or all(isinstance(v, int | float) for v in values[1:]):
            now = number_in(values[0], parameter.unit, units, str(parameter.path[-1]))
            found[column] = [now, *(parameter.number(v) for v in values[1:])]
        else:
            found[column] = ["" if v is None else str(v) for v in values]
    return found


def variation_table(
    plan: Plan, written: Sequence[Any], first: VariantResult, results: Sequence[VariantResult], way: Followed,
    units: UnitSystem,
) -> pd.DataFrame:  # fmt: skip
    """A row per variant, the description as written first (variant 0), its values in the unit of the others."""
    every = [first, *results]
    table: dict[str, Any] = {"variant": [r.number for r in every], **_parameter_values(plan, written, units)}
    table["mass_kg"] = [r.mass for r in every]
    for k, f in enumerate(first.frequencies_hz):
        table[mode_column(k + 1)] = [f, *way.frequencies_hz[:, k]]
    labels = {k: d for r in every for k, (_, d) in r.readings.items()}
    for label, dimension in labels.items():
        size = display_unit(dimension)[1]
        column = [r.readings.get(label, (np.nan, ""))[0] / size for r in every]
        table[reading_column(label, dimension)] = column
    table["lowest_mac"] = [1.0, *(_least(row) for row in way.assurance)]
    table["crossings"] = ["", *way.crossings]
    table["failed"] = [r.failed for r in every]
    return pd.DataFrame(table)


def _least(row: Floats) -> float:
    return float(np.nanmin(row)) if np.isfinite(row).any() else np.nan


def variation_lines(
    plan: Plan, first: VariantResult, results: Sequence[VariantResult], way: Followed, made: int
) -> list[str]:
    """How many there are, what failed, what was there already, what crosses."""
    failed = [r for r in results if r.failed]
    kept = sum(r.kept for r in results)
    kind = "samples of a Latin hypercube" if plan.drawn else "variants, a grid of all values"
    text = f"{len(results)} {kind}: {len(results) - len(failed)} done"
    text += f" ({kept} kept from an earlier run)" if kept else ""
    text += f", {len(failed)} failed" if failed else ""
    lines = [f"{text}; modes extracted {made} times"]
    crossed = [r.number for r, told in zip(results, way.crossings, strict=True) if told]
    if crossed:
        shown = ", ".join(str(k) for k in crossed[:12]) + (
            f" and {len(crossed) - 12} more" if len(crossed) > 12 else ""
        )
        lines.append(f"modes change their order in variants {shown}; numbers are those of the description as written")
    lost = [
        k + 1
        for k in range(len(first.frequencies_hz))
        if any(not r.failed and not np.isfinite(f) for r, f in zip(results, way.frequencies_hz[:, k], strict=True))
    ]
    if lost:
        shown = ", ".join(str(k) for k in lost[:12]) + (f" and {len(lost) - 12} more" if len(lost) > 12 else "")
        lines.append(f"not found again in every variant (too unlike, or beyond the modes asked for): modes {shown}")
    done = [r for r in results if not r.failed]
    if done:
        lows = [r.frequencies_hz[0] for r in done]
        lines.append(f"lowest frequency {n(min(lows))} to {n(max(lows))} Hz, mass {n(min(r.mass for r in done))} to "
                     f"{n(max(r.mass for r in done))} kg")  # fmt: skip
    return lines


def plot_variation(
    table: pd.DataFrame,
    plan: Plan,
    bands: Sequence[tuple[str, float, float]],
    title: str,
    reading: str | None = None,
) -> Any:
    """Frequencies of the followed modes (or a reading) against every parameter; returns the Figure.

    Lines join variants that differ in one parameter only; bands of excitation lie across.
    """
    modes = mode_columns(table)
    shown = modes[:MOST_LINES] if reading is None else [_column(table, reading)]
    columns = parameter_columns(plan)
    numeric = [k for k, c in enumerate(columns) if table[c].iloc[1:].nunique() > 1]
    panels = numeric[:MOST_PANELS] or [0]
    figure = empty_figure(SIZE)
    axes = np.atleast_1d(figure.subplots(1, len(panels), sharey=True))
    rows = table.iloc[1:]
    for ax, k in zip(axes, panels, strict=True):
        _panel(ax, rows, columns, k, shown, plan.drawn)
        ax.set_xlabel(own_label(columns[k]))
        ax.grid(alpha=0.3)
    axes[0].set_ylabel("natural frequency (Hz)" if reading is None else own_label(shown[0]))
    low, high = float(np.nanmin(rows[shown].to_numpy(float))), float(np.nanmax(rows[shown].to_numpy(float)))
    margin = 0.06 * (high - low) or 0.05 * abs(high) or 1.0
    bottom, top = max(0.0, low - margin) if low >= 0 else low - margin, high + margin
    axes[0].set_ylim(bottom, top)
    for ax in axes if reading is None else ():
        _bands(
            ax, [(b, max(at, bottom), min(to, top)) for b, at, to in bands if at < top and to > bottom], ax is axes[-1]
        )
    left = f" (the lowest {len(shown)} of {len(modes)} modes)" if reading is None and len(shown) < len(modes) else ""
    more = f"; {len(numeric) - len(panels)} more parameters not drawn" if len(numeric) > len(panels) else ""
    figure.suptitle(f"{title}{left}{more}")
    return figure


def _column(table: pd.DataFrame, reading: str) -> str:
    names = [str(c) for c in table]
    found = [c for c in names if c == reading or c.rsplit(" (", 1)[0] == reading]
    if not found:
        names = [c.rsplit(" (", 1)[0] for c in names if ": " in c]
        raise UnknownNameError(f'no reading "{reading}" was asked for. {nearest_hint(reading, names, "readings")}')
    return found[0]


def _panel(ax: Any, rows: pd.DataFrame, columns: list[str], k: int, shown: list[str], drawn: bool) -> None:
    words = rows[columns[k]].dtype.kind not in "if"
    x = pd.Series(pd.factorize(rows[columns[k]])[0], index=rows.index) if words else rows[columns[k]]
    others = [c for m, c in enumerate(columns) if m != k]
    groups = (
        [rows.index]
        if not others
        else rows.groupby(others[0] if len(others) == 1 else others, sort=False, dropna=False).groups.values()
    )
    lines = [] if drawn else [g for g in groups if len(g) > 1]
    for number, column in enumerate(shown):
        colour = COLOURS[number % len(COLOURS)]
        style = "-" if number < len(COLOURS) else "--"
        values = rows[column].astype(float)
        many = len(rows) > 60
        ax.plot(x, values, "o", color=colour, ms=2.5 if many else 4, alpha=0.6 if many else 1.0)
        for group in lines:
            order = x.loc[group].sort_values(kind="stable").index
            ax.plot(x.loc[order], values.loc[order], style, color=colour, lw=1.3 if len(lines) == 1 else 0.8)
        there = values.notna()
        if there.any() and len(shown) > 1:
            last = int(np.argmax(np.where(there, x, -np.inf)))
            ax.annotate(column.removesuffix("_hz").removeprefix("mode_"), (x.iloc[last], values.iloc[last]),
                        xytext=(6, 0), textcoords="offset points", va="center", fontsize=8, color=colour)  # fmt: skip
    if words:
        ax.set_xticks(range(int(x.max()) + 1), [own_label(str(v)) for v in pd.unique(rows[columns[k]])], rotation=20)
    ax.margins(x=0.07)


def _bands(ax: Any, bands: Sequence[tuple[str, float, float]], named: bool) -> None:
    for name, low, high in bands:
        ax.axhspan(low, high, color=GHOST, alpha=0.18, lw=0)
        if named:
            ax.annotate(own_label(name), (1.0, (low + high) / 2.0), xycoords=("axes fraction", "data"), xytext=(-6, 0),
                        textcoords="offset points", ha="right", va="center", fontsize=8, color="black")  # fmt: skip


def reached_table(found: Reached) -> pd.DataFrame:
    """A row per run on the way; `predicted` by the derivative of the run before."""
    unit = f" ({found.unit})" if found.unit else ""
    return pd.DataFrame({
        "run": range(1, len(found.steps) + 1), f"{found.text}{unit}": [s.value for s in found.steps],
        "frequency_hz": [s.frequency_hz for s in found.steps], "predicted_hz": [s.predicted_hz for s in found.steps],
        "off_percent": [100.0 * (s.frequency_hz / found.target_hz - 1.0) for s in found.steps],
        "change_percent": [10.0 * s.slope for s in found.steps], "mode": [s.mode for s in found.steps],
        "mac_to_run_before": [s.assurance for s in found.steps],
    })  # fmt: skip


def reached_lines(found: Reached) -> list[str]:
    """The answer, and what proves it."""
    first, last = found.steps[0], found.steps[-1]
    renamed = "" if last.mode == found.mode else f" (mode {last.mode} there)"
    unsure = "" if last.assurance >= 0.8 else (
        f"; there the shape is shared with another mode close by (likeness {last.assurance:.2f})"
    )  # fmt: skip
    return [
        f"{found.text} = {found.written} brings mode {found.mode} to {n(last.frequency_hz, 6)} Hz{renamed}{unsure}; "
        f"as written they are {n(first.value)}{f' {found.unit}' if found.unit else ''} and {n(first.frequency_hz)} Hz",
        f"proven by a run with that value: off the wish by {1e6 * abs(last.frequency_hz / found.target_hz - 1):.2g} "
        f"parts in a million; {len(found.steps)} runs. change: of the frequency, for 10 % more of the value "
        "(by the derivative)",
    ]


def refined_table(found: Refined) -> pd.DataFrame:
    """A row per mode and reading: values by size, what they tend to, error bar, and what the mesh as written is off."""
    rows = []
    labels: Mapping[str, str] = {k: d for k, (_, d) in found.results[0].readings.items()}
    names = [_size_column(t) for t in found.realised]
    for k, e in enumerate(found.frequencies):
        values = [found.results[0].frequencies_hz[k], *found.followed.frequencies_hz[:, k]]
        rows.append(
            {"what": f"mode {k + 1}", "unit": "Hz", **dict(zip(names, values, strict=True)), **_told(e, 1.0, values)}
        )
    for label, e in found.readings.items():
        unit, size = display_unit(labels[label])
        values = [r.readings[label][0] / size for r in found.results]
        rows.append({"what": label, "unit": unit, **dict(zip(names, values, strict=True)), **_told(e, size, values)})
    return pd.DataFrame(rows)


def _size_column(times: float) -> str:
    return "as_written" if times == 1.0 else f"{times:.3g}x"


def _told(e: Any, size: float, values: Sequence[float]) -> dict[str, Any]:
    off = 100.0 * (values[0] / (e.value / size) - 1.0) if e.value == e.value and e.value else np.nan
    return {"extrapolated": e.value / size, "error_bar": e.error / size, "as_written_off_percent": off,
            "order": e.order, "remark": e.remark}  # fmt: skip


def refined_lines(found: Refined) -> list[str]:
    """Sizes of the models, and what stayed as it is."""
    sizes = "; ".join(
        f"{'as written' if t == 1 else f'{t:.3g} times finer'}: {nodes:,} nodes, {elements:,} elements"
        for t, nodes, elements in zip(found.realised, found.nodes, found.elements, strict=True)
    )
    lines = [sizes]
    if found.left:
        lines.append(f"meshes from files stay as they are, and so does their error: {', '.join(found.left)}")
    if found.unlike > 1.15:
        lines.append(
            f"parts did not refine alike (by up to {100 * (found.unlike - 1):.0f} %), so that orders are blurred"
        )
    if found.taken:
        told = [f"{name} {' '.join(f'{1e3 * e:.3g}' for e in many)} mm" for name, many in found.taken.items()]
        lines.append(
            f"what takes nodes by their place takes others at each size (extent of {first_few(told, 6)}): what is held "
            "or read there changes with the mesh. Take the area (link: area)"
        )
    if found.hanging:
        lines.append(f"modes that hang on it have no limit: {first_few(map(str, found.hanging), 12)}")
    worst = [(k + 1, 100.0 * abs(found.results[0].frequencies_hz[k] / e.value - 1.0))
             for k, e in enumerate(found.frequencies) if e.value == e.value and e.value > 0]  # fmt: skip
    if worst:
        mode, off = max(worst, key=lambda w: w[1])
        lines.append(f"the mesh as written is off by {off:.2g} % at most (mode {mode}), by these sizes")
    moved = [k for k, e in {**{f"mode {i + 1}": e for i, e in enumerate(found.frequencies)}, **found.readings}.items()
             if e.value != e.value]  # fmt: skip
    if moved:
        lines.append(f"no figure is given for {len(moved)} that do not settle or are not found again: "
                     + ", ".join(moved[:8]) + (f" and {len(moved) - 8} more" if len(moved) > 8 else ""))  # fmt: skip
    return lines


def plot_refined(found: Refined, title: str) -> Any:
    """What every mode and reading is off by what it tends to, against the size of elements; returns the Figure."""
    figure = empty_figure(SIZE)
    ax = figure.subplots()
    x = 1.0 / np.array(found.realised)
    everything: list[tuple[str, Sequence[float], Any]] = [
        (f"mode {k + 1}", [found.results[0].frequencies_hz[k], *found.followed.frequencies_hz[:, k]], e)
        for k, e in enumerate(found.frequencies)
    ]
    everything += [(k, [r.readings[k][0] for r in found.results], e) for k, e in found.readings.items()]
    settled = [(name, np.array(v), e) for name, v, e in everything if e.value == e.value and e.value]
    settled.sort(key=lambda s: -abs(float(s[1][0] / s[2].value) - 1.0))
    for number, (name, values, e) in enumerate(settled[:MOST_LINES]):
        colour = COLOURS[number % len(COLOURS)]
        off = 100.0 * (values / e.value - 1.0)
        bar = 100.0 * e.error / abs(e.value)
        style = "-" if number < len(COLOURS) else "--"
        ax.plot([*x, 0.0], [*off, 0.0], style, marker="o", ms=4, color=colour, lw=1.3, label=own_label(name))
        ax.errorbar([0.0], [0.0], yerr=[[bar], [bar]], color=colour, capsize=3 + number, lw=1)
    ax.axhline(0.0, color=GHOST, lw=0.8)
    ax.set(xlabel="size of elements (1: as written)", ylabel="off what it tends to (%)")
    ax.set_xlim(left=-0.03)
    ax.grid(alpha=0.3)
    left = f" (the {min(MOST_LINES, len(settled))} that move most, of {len(everything)})" if len(everything) > 1 else ""
    ax.set_title(f"{title}: refined meshes{left}")
    if settled:
        ax.legend(loc="upper left", ncols=2)
    return figure
