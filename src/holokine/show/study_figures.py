"""Figures of studies: variants, scatter, refined meshes; and the columns that they are drawn from."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from holokine.errors import UnknownNameError, nearest_hint
from holokine.show.figures import COLOURS, GHOST, SIZE
from holokine.show.numbers import gauge_column
from holokine.show.plain import empty_figure
from holokine.show.plain import label as own_label

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.vary import Plan, Refined

__all__ = [
    "mode_column", "mode_columns", "parameter_columns", "parameter_names", "plot_refined", "plot_scatter",
    "plot_variants",
]  # fmt: skip

MOST_LINES = 12
MOST_PANELS = 3


def mode_column(mode: int) -> str:
    """Column of a followed mode's frequency."""
    return f"mode_{mode}_hz"


def mode_columns(table: pd.DataFrame) -> list[str]:
    """Columns of all followed modes."""
    names = [str(c) for c in table]
    return [c for c in names if c.startswith("mode_") and c.endswith("_hz")]


def parameter_columns(plan: Plan) -> list[str]:
    """Columns of the parameters by their short names, with the unit in which their values are written."""
    names = parameter_names(plan.parameters)
    return [gauge_column(name, p.unit) for name, p in zip(names, plan.parameters, strict=True)]


def parameter_names(parameters: Sequence[Any]) -> list[str]:
    """Short names of parameters; the whole path where two would be the same."""
    short = [p.name for p in parameters]
    return [p.name if short.count(p.name) == 1 else p.text for p in parameters]


def plot_variants(
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


def plot_scatter(table: pd.DataFrame, bands: Sequence[tuple[str, float, float]], title: str) -> Any:
    """Two deviations to either side (thin), 5 to 95 % of the samples (thick) of modes, and of readings in percent."""
    modes = table[table["unit"] == "Hz"]
    readings = table[table["unit"] != "Hz"].iloc[:24]
    figure = empty_figure(SIZE)
    axes = np.atleast_1d(figure.subplots(1, 2 if len(readings) else 1, width_ratios=[2, 1] if len(readings) else [1]))
    _bars(axes[0], modes, np.arange(1, len(modes) + 1), np.ones(len(modes)), upright=True)
    low, high = axes[0].get_ylim()
    for name, at, to in bands:
        if at < high and to > low:
            axes[0].axhspan(max(at, low), min(to, high), color=GHOST, alpha=0.18, lw=0)
            axes[0].annotate(own_label(name), (0.99, 0.5 * (max(at, low) + min(to, high))), fontsize=8, ha="right",
                             va="center", xycoords=("axes fraction", "data"))  # fmt: skip
    axes[0].set_ylim(low, high)
    axes[0].set(xlabel="mode", ylabel="natural frequency (Hz)")
    if len(readings):
        size = 100.0 / readings["at_means"].to_numpy(float)
        _bars(axes[1], readings, np.arange(len(readings)), size, upright=False)
        axes[1].set_yticks(range(len(readings)), [own_label(w) for w in readings["what"]], fontsize=8)
        axes[1].invert_yaxis()
        axes[1].set(xlabel="of the value at the means (%)", ylabel="reading")
    for ax in axes:
        ax.grid(alpha=0.3)
    left = "" if len(table) == len(modes) + len(readings) else f" ({len(readings)} readings drawn)"
    axes[0].legend(loc="upper left")
    figure.suptitle(f"{title}: scatter{left}")
    return figure


def _bars(ax: Any, table: pd.DataFrame, at: Floats, size: Floats, *, upright: bool) -> None:
    lines = ax.vlines if upright else ax.hlines
    mean, sigma = table["at_means"].to_numpy(float) * size, table["deviation"].to_numpy(float) * size
    lines(at, mean - 2 * sigma, mean + 2 * sigma, color=COLOURS[0], lw=1.4, label="2 deviations (derivatives)")
    if "p5" in table:
        lines(at, table["p5"].to_numpy(float) * size, table["p95"].to_numpy(float) * size, color=COLOURS[1], lw=6,
              alpha=0.5, label="5 to 95 % of samples")  # fmt: skip
    points = (at, mean) if upright else (mean, at)
    ax.plot(*points, "o", color=COLOURS[0], ms=4, label="at the means")
