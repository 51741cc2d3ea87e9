"""Figures and films of sine sweeps: amplitude over phase, circles, one cycle of steady vibration."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.respond.curves import ranges
from holokine.show.figures import COLOURS, GHOST, SIZE, main_readings, plain_log_ticks
from holokine.show.numbers import display_unit
from holokine.show.numbers import number_text as n
from holokine.show.plain import empty_figure
from holokine.show.plain import label as own_label
from holokine.show.scene import PIXELS, film_pixels, moving_pictures, write_film

if TYPE_CHECKING:
    from holokine.respond.limits import LimitCheck
    from holokine.respond.sweep import SweepResult
    from holokine.system.build import System

__all__ = ["animate_cycle", "plot_circle", "plot_sweep"]

_STYLES = ("-", "--", "-.", ":")
_MOST = 4
_LABELLED = 5  # peaks of a curve
_LEAST = 0.05  # of the largest, from which a peak is labelled
_ROUND = 0.15  # and on a circle
_APART = 0.12  # of two labels, as a logarithm of frequency


def plot_sweep(
    answer: SweepResult,
    numbers: list[int] | None = None,
    checks: Sequence[LimitCheck] = (),
    others: Mapping[str, SweepResult] | None = None,
    logarithmic: tuple[bool, bool] = (True, True),
) -> Any:
    """Amplitude of readings over their phase, on one frequency axis, peaks labelled, modes marked; the Figure.

    Parameters
    ----------
    numbers : list of int, optional
        Readings to draw; when left out of four gauges the largest component each, nearest to their limits first.
    others : mapping of str to SweepResult, optional
        More answers, drawn in other line styles.
    logarithmic : tuple of bool
        Of the frequency axis, and of amplitudes.
    """

    chosen = main_readings(answer, checks) if numbers is None else numbers
    numbers = chosen[:_MOST] if numbers is None else chosen[:6]
    left = f" ({len(numbers)} of {len(chosen)} gauges)" if len(chosen) > len(numbers) else ""
    units = list(dict.fromkeys(_unit(answer, k) for k in numbers))
    figure = empty_figure(SIZE)
    heights = [3.0] * len(units) + [1.4]
    axes = np.atleast_1d(figure.subplots(len(heights), 1, sharex=True, gridspec_kw={"height_ratios": heights}))
    by = answer.shown.per_peak
    several = {"": answer, **(others or {})}
    sides = {u: 0 if len([k for k in numbers if _unit(answer, k) == u]) == 1 else -1 for u in units}
    for number, colour in zip(numbers, COLOURS * 2, strict=False):
        reading = answer.reduced.readings[number]
        unit, size = display_unit(reading.dimension)
        ax = axes[units.index(unit)]
        for (label, one), style in zip(several.items(), _STYLES * 2, strict=False):
            row = number if one is answer else _same(one, reading.gauge, reading.component)
            if row is None:
                continue
            name = f"{reading.label}{', ' + label if label else ''}"
            y, phase = by * one.curve(row) / size, one.phase(row)
            for k, part in enumerate(ranges(one.starts, len(one.frequency_hz))):
                f = one.frequency_hz[part]
                ax.plot(f, y[part], color=colour, ls=style, lw=1.5, label=own_label(name) if k == 0 else None)
                if phase is not None:
                    turn = np.degrees(np.angle(np.exp(1j * phase[part])))
                    axes[-1].plot(f, _broken(turn), color=colour, ls=style, lw=1.1)
            if one is answer:
                _label_peaks(ax, answer, number, by / size, unit, colour, sides[unit])
                sides[unit] *= -1
    poles = answer.reader.model.vibration.poles
    f0, f1 = float(answer.frequency_hz.min()), float(answer.frequency_hz.max())
    natural = poles.imag / (2.0 * np.pi)
    natural = natural[(natural > f0) & (natural < f1)]
    word = {"peak": "amplitude"}.get(answer.shown.kind, answer.shown.words)
    for ax, unit in zip(axes, units, strict=False):
        if logarithmic[1]:
            ax.set_yscale("log")
        else:
            ax.set_ylim(bottom=0)
        ax.set_ylabel(f"{word} ({unit})")
        ax.margins(y=0.18)
        ax.legend(loc="best", fontsize=9)
        for x in natural:
            ax.axvline(x, color=GHOST, lw=0.6, alpha=0.35, zorder=0)
    for ax in axes:
        if logarithmic[0]:
            ax.set_xscale("log")
        ax.set_xlim(f0, f1)
        ax.grid(alpha=0.3)
    if logarithmic[0]:
        plain_log_ticks(axes[-1])
    axes[-1].set_yscale("linear")
    axes[-1].set(ylabel="phase (deg)", xlabel="frequency (Hz)", ylim=(-190, 190), yticks=[-180, -90, 0, 90, 180],
                 yticklabels=["-180", "-90", "0", "90", "180"])  # fmt: skip
    magnitudes = any(answer.reduced.readings[k].width > 1 for k in numbers)
    more = "; largest over the cycle, without a phase, where components make a reading" if magnitudes else ""
    axes[0].set_title(f"{answer.name}: steady vibration{left}; grey: modes{more}", fontsize=11)
    return figure


def _same(answer: SweepResult, gauge: str, component: str) -> int | None:
    return next(
        (k for k, r in enumerate(answer.reduced.readings) if (r.gauge, r.component) == (gauge, component)), None
    )


def _broken(turn: NDArray[Any]) -> NDArray[Any]:
    """A phase that does not draw a line where it wraps."""
    result = turn.astype(float)
    result[1:][np.abs(np.diff(turn)) > 180.0] = np.nan
    return result


def _unit(answer: SweepResult, number: int) -> str:
    return display_unit(answer.reduced.readings[number].dimension)[0]


def _label_peaks(ax: Any, answer: SweepResult, number: int, scale: float, unit: str, colour: str, side: int) -> None:
    """Value and frequency of the main peaks; `side`: above them (0), or to the left (-1) or right (1)."""
    peaks = [p for p in answer.extremes(number)[0] if p.inside and p.size >= _LEAST * answer.swing[number]]
    told: list[float] = []
    for peak in peaks[:_LABELLED]:
        ax.plot(peak.frequency, scale * peak.size, "o", color=colour, ms=5)
        if any(abs(np.log(peak.frequency / f)) < _APART for f in told):
            continue
        told.append(peak.frequency)
        ax.annotate(
            f"{n(scale * peak.size, 3)} {unit}, {n(peak.frequency)} Hz", (peak.frequency, scale * peak.size),
            textcoords="offset points", xytext=(8 * side, 4 if side else 7), fontsize=8, color=colour,
            ha={0: "center", -1: "right", 1: "left"}[side],
            bbox={"facecolor": "white", "alpha": 0.7, "edgecolor": "none", "pad": 0.5},
        )  # fmt: skip


def plot_circle(answer: SweepResult, numbers: list[int] | None = None, near: float | None = None) -> Any:
    """Real against imaginary part of single components over the sweep; each resonance draws a circle. The Figure.

    `near`: a frequency in Hz; what lies within five bandwidths of the peak next to it is drawn.
    """

    chosen = main_readings(answer, ()) if numbers is None else numbers
    readings = answer.reduced.readings
    single = []
    for k in chosen:  # of a magnitude the largest component
        if readings[k].width == 1:
            single.append(k)
            continue
        own = [i for i, r in enumerate(readings) if r.gauge == readings[k].gauge and r.width == 1]
        if own:
            single.append(max(own, key=lambda i: float(answer.swing[i])))
    numbers = list(dict.fromkeys(single))[:_MOST]
    columns = max(1, -(-len(numbers) // (2 if len(numbers) > 2 else 1)))
    rows = max(1, -(-len(numbers) // columns))
    figure = empty_figure(SIZE)
    axes = np.atleast_1d(figure.subplots(rows, columns)).ravel()
    for ax, number in zip(axes, numbers, strict=False):
        reading = readings[number]
        unit, size = display_unit(reading.dimension)
        y = answer.shown.per_peak * answer.values(number)[:, 0] / size
        f = answer.frequency_hz
        use = np.ones(len(f), dtype=bool)
        peaks = [p for p in answer.extremes(number)[0] if p.inside and p.size >= _ROUND * answer.swing[number]]
        if near is not None and peaks:
            peak = min(peaks, key=lambda p: abs(p.frequency - near))
            width = peak.bandwidth if np.isfinite(peak.bandwidth) else 0.05 * peak.frequency
            use = np.abs(f - peak.frequency) < 5.0 * width
            peaks = [peak]
        for part in ranges(answer.starts, len(answer.frequency_hz)):
            shown = y[part][use[part]]
            ax.plot(shown.real, shown.imag, "-", color=COLOURS[0], lw=1.3)
        for p in peaks[:_LABELLED]:
            value = answer.shown.per_peak * _at(answer, number, p.frequency) / size
            ax.plot(value.real, value.imag, "o", color=COLOURS[1], ms=6)
            ax.annotate(f"{n(p.frequency)} Hz", (value.real, value.imag), textcoords="offset points", xytext=(8, 0),
                        color=COLOURS[1], fontsize=9)  # fmt: skip
        ax.axhline(0, color=GHOST, lw=0.8)
        ax.axvline(0, color=GHOST, lw=0.8)
        ax.set(xlabel=f"real ({unit})", ylabel=f"imaginary ({unit})")
        ax.set_title(reading.label, fontsize=10)
        ax.set_aspect("equal", adjustable="datalim")
        ax.grid(alpha=0.3)
    for ax in axes[len(numbers) :]:
        ax.set_axis_off()
    figure.suptitle(f"{answer.name}: real against imaginary part, peaks marked")
    return figure


def _at(answer: SweepResult, number: int, frequency: float) -> complex:
    motion = answer.reader.motion(np.array([frequency]))
    return complex(answer.reader.rows(motion, answer.columns(number))[0, 0])


def animate_cycle(
    system: System, amplitude: NDArray[Any], title: str, path: Path, seconds: float, rate: int, share: float,
    pixels: tuple[int, int] = PIXELS,
) -> None:  # fmt: skip
    """One cycle of a complex displacement, shape (dofs,), as a film.

    Raises
    ------
    HolokineError
        Another ending, or imageio is not installed.
    """
    count = max(round(seconds * rate), 8)
    turns = np.exp(2j * np.pi * np.arange(count) / count)
    u = amplitude.reshape(-1, 6)[:, :3]
    frames = np.real(turns[:, None, None] * u)
    pictures = moving_pictures(system, frames, f"{title}, one cycle", share, film_pixels(pixels))
    write_film(path, (p[:, :, :3] for p in pictures), rate, count=count, repeat=4)
