"""Tables and figure of scatter."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from holokine.show.figures import COLOURS, GHOST, SIZE
from holokine.show.numbers import display_unit
from holokine.show.numbers import number_text as n
from holokine.show.plain import empty_figure
from holokine.show.plain import label as own_label
from holokine.show.variation import mode_column, parameter_names, reading_column

if TYPE_CHECKING:
    from holokine.vary.scatter import FirstOrder

__all__ = ["inputs_table", "plot_scatter", "scatter_lines", "scatter_table"]

Floats = NDArray[Any]  # float64


def _quantities(found: FirstOrder) -> list[tuple[str, str, str, float, float, Floats]]:
    """Name, column of samples, unit, as written, at the means, and effects of one deviation of every input."""
    rows: list[tuple[str, str, str, float, float, Floats]] = []
    for k, f in enumerate(found.first.frequencies_hz):
        rows.append((f"mode {k + 1}", mode_column(k + 1), "Hz", f, float(found.frequencies_hz[k]),
                     found.frequency_effects[:, k]))  # fmt: skip
    for label, effects in found.reading_effects.items():
        (value, dimension), mean = found.first.readings[label], found.at_mean.readings[label][0]
        unit, size = display_unit(dimension)
        rows.append((label, reading_column(label, dimension), unit, value / size, mean / size, effects / size))
    return rows


def scatter_table(found: FirstOrder, samples: pd.DataFrame | None, percentiles: Sequence[float]) -> pd.DataFrame:
    """A row per mode and reading."""
    names, rows = parameter_names(found.parameters), []
    for what, column, unit, written, mean, effects in _quantities(found):
        whole = float(np.sqrt((effects**2).sum()))
        row: dict[str, Any] = {"what": what, "unit": unit, "as_written": written, "at_means": mean, "deviation": whole,
                               "deviation_percent": 100.0 * whole / mean if mean else np.nan}  # fmt: skip
        if samples is not None:
            values = samples[column].dropna().to_numpy(float)
            row |= {"sample_mean": values.mean() if len(values) else np.nan,
                    "sample_deviation": values.std(ddof=1) if len(values) > 1 else np.nan}  # fmt: skip
            row |= {f"p{p:g}": np.percentile(values, p) if len(values) else np.nan for p in percentiles}
            row["samples"] = len(values)
        if whole > 0.0:
            best = int(np.nanargmax(effects**2))
            row["most_by"] = f"{names[best]} ({100 * effects[best] ** 2 / whole**2:.0f} %)"
        else:
            row["most_by"] = ""
        rows.append(row)
    return pd.DataFrame(rows)


def inputs_table(found: FirstOrder, samples: pd.DataFrame | None, drawn: Floats | None) -> pd.DataFrame:
    """A row per mode or reading and input: effect of one deviation, share of the variance, rank correlation."""
    from scipy.stats import spearmanr

    names, rows = parameter_names(found.parameters), []
    for what, column, unit, _, _, effects in _quantities(found):
        whole = float((effects**2).sum())
        for i, name in enumerate(names):
            row: dict[str, Any] = {
                "what": what, "input": name, "effect_of_one_deviation": effects[i], "unit": unit,
                "share_percent": 100.0 * effects[i] ** 2 / whole if whole > 0.0 else np.nan,
            }  # fmt: skip
            if samples is not None and drawn is not None:
                values = samples[column].to_numpy(float)
                there = np.isfinite(values)
                varies = there.sum() > 2 and np.ptp(values[there]) > 0.0
                row["rank_correlation"] = (
                    float(spearmanr(drawn[there, i], values[there]).statistic) if varies else np.nan
                )
            rows.append(row)
    return pd.DataFrame(rows)


def scatter_lines(found: FirstOrder) -> list[str]:
    """Inputs with their means and deviations."""
    names = parameter_names(found.parameters)
    told = [
        f"{name}: {p.spread.kind}, mean {n(m)} {p.unit}".rstrip() + f", deviation {n(s)} {p.unit}".rstrip()
        for name, p, m, s in zip(names, found.parameters, found.mean, found.deviation, strict=True)
    ]
    return [*told, "deviation: one standard deviation to first order (derivatives at the means), inputs independent"]


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
