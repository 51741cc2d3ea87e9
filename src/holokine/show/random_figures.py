"""Figure of answers to random vibration, and the curves in it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.respond.curves import gathered_points
from holokine.show.figures import COLOURS, SIZE, main_readings, plain_ticks
from holokine.show.numbers import display_unit
from holokine.show.numbers import number_text as n
from holokine.show.plain import empty_figure
from holokine.show.plain import label as own_label
from holokine.units import STANDARD_GRAVITY

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.respond.random import RandomResult

__all__ = ["frequencies_of", "plot_random", "running_rms"]


def frequencies_of(answer: RandomResult) -> Floats:
    """Frequencies for curves: gathered about every mode, with the rows of the densities."""
    densities = [s.density for s in answer.reader.sources]
    low, high = min(d.start[0] for d in densities), max(d.end[-1] for d in densities)
    corners = np.unique(np.concatenate([np.append(d.start, d.end[-1]) for d in densities]))
    centres, widths = answer.reader.model.vibration.resonances()
    return gathered_points(float(low), float(high), centres, widths, corners)


def running_rms(answer: RandomResult, number: int, f: Floats) -> Floats:
    """RMS up to each frequency; between two by Gauss's rule, the end being the exact whole."""
    reading, place = answer.reduced.readings[number], int(answer.governing[number])
    x, w = np.polynomial.legendre.leggauss(4)
    half = 0.5 * np.diff(f)
    at = (0.5 * (f[1:] + f[:-1]))[:, None] + half[:, None] * x
    values = answer.reader.density(reading, place, at.ravel()).reshape(at.shape)
    total = np.concatenate([[0.0], np.cumsum((values * w).sum(axis=1) * half)])
    return np.asarray(answer.rms[number] * np.sqrt(total / max(float(total[-1]), 1e-300)))


def plot_random(answer: RandomResult, numbers: list[int] | None = None, checks: Any = ()) -> Any:
    """Densities of what acts and of readings by unit, running RMS (in percent of the whole) below; the Figure."""
    chosen = main_readings(answer, checks) if numbers is None else numbers  # type: ignore[arg-type]
    chosen = [k for k in chosen if answer.rms[k] > answer.noise[k]]
    shown = chosen[:4] if numbers is None else chosen[:6]
    f = frequencies_of(answer)
    groups: dict[str, list[int]] = {}
    for number in shown:
        groups.setdefault(display_unit(answer.reduced.readings[number].dimension)[0], []).append(number)
    acting = {"factor" if s.acts == "load" else "g" for s in answer.reader.sources}
    units = [*sorted(acting), *(u for u in groups if u not in acting)]
    figure = empty_figure(SIZE)
    axes = np.atleast_1d(figure.subplots(len(units) + 1, 1, sharex=True))
    for ax, unit in zip(axes[:-1], units, strict=True):
        _densities(ax, answer, unit, groups.get(unit, []), shown, f)
    for k, number in enumerate(shown):
        running = 100.0 * running_rms(answer, number, f) / answer.rms[number]
        axes[-1].semilogx(f, running, color=COLOURS[k % len(COLOURS)], lw=1.5)
    axes[-1].set(xlabel="frequency (Hz)", ylabel="running RMS (%)", ylim=(0, 105), xlim=(f[0], f[-1]))
    left = f" ({len(shown)} of {len(chosen)} gauges)" if len(shown) < len(chosen) else ""
    axes[0].set_title(f"{answer.name}: densities, and where the RMS comes from{left}")
    plain_ticks(axes[-1].xaxis)
    for ax in axes:
        ax.grid(alpha=0.3, which="major")
    figure.align_ylabels(axes)
    return figure


def _densities(ax: Any, answer: RandomResult, unit: str, numbers: list[int], shown: list[int], f: Floats) -> None:
    """Densities of one unit: of what acts in it, and of readings."""
    top = 0.0
    for k, s in enumerate(answer.reader.sources):
        if (unit == "factor") != (s.acts == "load"):
            continue
        values = s.density.at(f) / (1.0 if s.acts == "load" else STANDARD_GRAVITY**2)
        top = max(top, float(values.max()))
        ax.loglog(f, np.where(values > 0, values, np.nan), "--" if k == 0 else ":", color="black", lw=1.3,
                  label=own_label(s.words))  # fmt: skip
    for number in numbers:
        reading = answer.reduced.readings[number]
        size = display_unit(reading.dimension)[1]
        values = answer.reader.density(reading, int(answer.governing[number]), f) / size**2
        top = max(top, float(values.max()))
        ax.loglog(f, np.where(values > 0, values, np.nan), color=COLOURS[shown.index(number) % len(COLOURS)], lw=1.5,
                  label=own_label(f"{reading.label}, {n(answer.rms[number] / size)} {unit} RMS"))  # fmt: skip
    if top > 0:
        ax.set_ylim(top * 1e-6, top * 4.0)
    ax.set_ylabel("1/Hz" if unit == "factor" else f"{unit}²/Hz")
    ax.legend(loc="best", fontsize=9)
