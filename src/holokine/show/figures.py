"""Figures with Matplotlib. A figure takes a result and returns Axes or Figure; it never computes or shows."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.show.numbers import display_unit
from holokine.show.numbers import number_text as n
from holokine.show.plain import empty_figure, flat_axes
from holokine.show.plain import label as own_label
from holokine.units import STANDARD_GRAVITY
from holokine.whole import whole_file

if TYPE_CHECKING:
    from holokine.modes.mode_set import ModeSet
    from holokine.respond.answer_periodic import PeriodicResult
    from holokine.respond.combine import SpectrumResult
    from holokine.respond.limits import LimitCheck
    from holokine.respond.match import MatchedRecord
    from holokine.respond.shock import ShockSpectrum
    from holokine.respond.sweep import SweepResult
    from holokine.respond.transient import TimeResult

__all__ = [
    "draw_acting",
    "new_figure",
    "plot_conservatism",
    "plot_histories",
    "plot_match",
    "plot_participation",
    "plot_shares",
    "plot_shock",
    "plot_spectrum",
    "plot_tripartite",
    "plain_log_ticks",
    "save",
]

SIZE = (12.8, 8.0)
# a palette that stays apart for colour-blind readers (Okabe & Ito 2008)
COLOURS = ("#0072B2", "#D55E00", "#009E73", "#CC79A7", "#E69F00", "#56B4E9")
GHOST = "#8A9097"
_BARS = 30
MARKS = ("o", "s", "^", "D", "v", "P")


def new_figure(rows: int = 1, **keys: Any) -> Any:
    figure = empty_figure(SIZE)
    return figure, figure.subplots(rows, 1, **keys)


def save(target: Any, path: Path) -> None:
    """Write a figure (or the figure of Axes) as PNG, PDF or SVG by the ending, without a display; whole or not."""
    figure = target if hasattr(target, "savefig") else target.figure
    from matplotlib.backends.backend_agg import FigureCanvasAgg

    FigureCanvasAgg(figure)
    with whole_file(path) as part:
        figure.savefig(part, dpi=100, format=path.suffix.lstrip(".").lower() or "png")


def plot_participation(modes: ModeSet, ax: Any = None) -> Any:
    """Cumulative effective mass, as a share of the free mass, against frequency, by direction."""
    ax = flat_axes(ax)
    f = modes.frequencies_hz
    top = float(f[-1]) * 1.05 if f[-1] > 0 else 1.0
    for d, axis in enumerate("xyz"):
        free = modes.free_mass[d]
        share = 100.0 * modes.effective_mass[:, d] / free if free > 0 else np.zeros(modes.count)
        total = np.cumsum(share)
        x, y = np.concatenate([[0.0], f, [top]]), np.concatenate([[0.0], total, total[-1:]])
        ax.step(
            x,
            y,
            where="post",
            color=COLOURS[d],
            lw=2,
            label=f"{axis}: {total[-1]:.1f} % by {modes.count} modes",
        )
        large = share >= 5.0
        ax.plot(f[large], total[large], MARKS[d], color=COLOURS[d], ms=7)
    ax.axhline(90.0, color=GHOST, ls="--", lw=1)
    ax.text(0.01 * top, 90.6, "90 %", color="#5F6368", ha="left", va="bottom")
    ax.set(xlim=(0, top), ylim=(0, 104), xlabel="natural frequency (Hz)")
    ax.set_ylabel("cumulative effective mass (% of the free mass)")
    ax.set_title("Effective mass held by the modes (marked: modes of 5 % and more)")
    ax.legend(loc="lower right")
    ax.grid(alpha=0.3)
    return ax


def plot_spectrum(answer: SpectrumResult) -> Any:
    """The spectra with the modes marked on them; marks grow with effective mass. Returns the Figure."""
    figure, ax = new_figure()
    f = answer.reduced.frequencies_hz
    for i, d in enumerate(answer.sources.names):
        spectrum = answer.spectra[d]
        low, high = min(spectrum.frequency_hz[0], f[0]), max(spectrum.frequency_hz[-1], f[-1])
        grid = np.geomspace(spectrum.frequency_hz[0], spectrum.frequency_hz[-1], 400)
        ax.loglog(grid, spectrum.at(grid) / STANDARD_GRAVITY, color=COLOURS[i % 6], lw=1.8, label=f"spectrum along {d}")
        column = answer.reduced.column(d)
        mass = answer.reduced.participation[:, column] ** 2
        share = mass / max(float(answer.reduced.free_mass[column]), 1e-300)
        ax.scatter(
            f, answer.spectral[:, i] / STANDARD_GRAVITY, s=12 + 500 * share, color=COLOURS[i % 6], alpha=0.55,
            marker=MARKS[i % 6], edgecolor="white", label=f"modes along {d} (area: effective mass)",
        )  # fmt: skip
        for m in np.argsort(-share)[:4]:
            if share[m] > 0.02:
                ax.annotate(
                    f"{m + 1}", (f[m], answer.spectral[m, i] / STANDARD_GRAVITY), textcoords="offset points",
                    xytext=(0, 13), ha="center", color=COLOURS[i % 6], weight="bold",
                )  # fmt: skip
        ax.set_xlim(low / 1.15, high * 1.15)
    ax.set(xlabel="frequency (Hz)", ylabel="pseudo-acceleration (g)")
    ax.set_title(f"{answer.name}: response spectrum and the modes on it (numbers: largest effective mass)")
    plain_log_ticks(ax)
    ax.legend(loc="best")
    ax.grid(alpha=0.3, which="both")
    return figure


def plot_tripartite(answer: SpectrumResult) -> Any:
    """The spectra on four-way paper: pseudo-velocity up, acceleration and displacement along the diagonals."""
    figure, ax = new_figure()
    f = answer.reduced.frequencies_hz
    speeds: list[float] = []
    for i, d in enumerate(answer.sources.names):
        spectrum = answer.spectra[d]
        grid = np.geomspace(spectrum.frequency_hz[0], spectrum.frequency_hz[-1], 400)
        velocity = spectrum.at(grid) / (2.0 * np.pi * grid)
        ax.loglog(grid, velocity, color=COLOURS[i % 6], lw=2, label=f"spectrum along {d}", zorder=3)
        own = answer.spectral[:, i] / (2.0 * np.pi * f)
        ax.loglog(f, own, MARKS[i % 6], color=COLOURS[i % 6], ms=4, alpha=0.6, zorder=3)
        speeds += [float(velocity.min()), float(velocity.max())]
    (left, right), (low, high) = (ax.get_xlim(), (min(speeds) / 2.0, max(speeds) * 2.0))
    x = np.array([left, right])
    for power in range(-6, 5):
        for lead in (1, 2, 5):
            thick = {"color": GHOST, "lw": 0.9 if lead == 1 else 0.35, "alpha": 0.7, "zorder": 1}
            g, mm = lead * 10.0**power, lead * 10.0**power
            ax.plot(x, g * STANDARD_GRAVITY / (2.0 * np.pi * x), **thick)
            ax.plot(x, 1e-3 * mm * 2.0 * np.pi * x, **thick)
            if lead == 1:
                v = 1.15 * low
                at = g * STANDARD_GRAVITY / (2.0 * np.pi * v)
                if left < at < right:
                    ax.text(at, v, f"{g:g} g", fontsize=8, color="#5F6368", rotation=-40, va="bottom")
                at = v / (1e-3 * mm * 2.0 * np.pi)
                if left < at < right:
                    ax.text(at, v, f"{mm:g} mm", fontsize=8, color="#5F6368", rotation=40, va="bottom", ha="right")
    ax.set(xlim=(left, right), ylim=(low, high), xlabel="frequency (Hz)", ylabel="pseudo-velocity (m/s)")
    ax.set_title(f"{answer.name}: four-way plot (diagonals: acceleration in g, displacement in mm)")
    plain_log_ticks(ax)
    ax.legend(loc="best")
    ax.grid(alpha=0.35, which="both")
    return figure


def plot_shock(result: ShockSpectrum, values: Any, name: str, side: str) -> Any:
    """Shock spectra at each damping ratio on logarithmic axes; returns the Figure."""
    dimension = {"pseudo-velocity": "velocity", "relative displacement": "displacement"}
    unit, size = display_unit(dimension.get(result.quantity, "acceleration"))
    figure, ax = new_figure()
    for level, zeta in enumerate(result.damping):
        curve = values[level] / size
        ax.loglog(result.frequency_hz, curve, color=COLOURS[level % 6], lw=2, label=f"{100 * zeta:g} % damping")
        if np.isfinite(curve).any():
            best = int(np.nanargmax(curve))
            where = float(result.frequency_hz[best]), float(curve[best])
            ax.plot(*where, "o", color=COLOURS[level % 6], ms=6)
            ax.annotate(f"{n(where[1])} {unit} at {n(where[0])} Hz", where, xytext=(0, 7), textcoords="offset points",
                        ha="center", va="bottom", fontsize=9, color=COLOURS[level % 6],
                        bbox={"facecolor": "white", "alpha": 0.75, "edgecolor": "none", "pad": 1})  # fmt: skip
    ax.set(xlabel="natural frequency (Hz)", ylabel=f"{result.quantity} ({unit})")
    ax.margins(y=0.12)
    ax.set_title(f"{name}: shock response spectrum, {side}")
    plain_log_ticks(ax)
    ax.legend(loc="best")
    ax.grid(alpha=0.3, which="both")
    return figure


def plot_match(result: MatchedRecord, name: str) -> Any:
    """A record made for a shock spectrum above, the wanted and the reached spectrum below; returns the Figure."""
    figure, (above, below) = new_figure(2)
    above.plot(1e3 * result.time, result.acceleration / STANDARD_GRAVITY, color=COLOURS[0], lw=0.9)
    above.set(xlabel="time (ms)", ylabel="base (g)", xlim=(0, 1e3 * result.time[-1]))
    above.set_title(f"{name}: record of {len(result.amplitude)} windowed sines")
    wanted = result.wanted / STANDARD_GRAVITY
    below.fill_between(result.frequency_hz, wanted / 10**0.15, wanted * 10**0.15, color=GHOST, alpha=0.25, lw=0,
                       label="3 dB to both sides")  # fmt: skip
    below.loglog(result.frequency_hz, wanted, color="black", lw=1.6, label="wanted")
    below.loglog(result.frequency_hz, result.reached / STANDARD_GRAVITY, color=COLOURS[1], lw=1.6, label="reached")
    below.set(xlabel="natural frequency (Hz)", ylabel="absolute acceleration (g)")
    below.set_title(f"shock spectra, {100 * result.damping:g} % damping, off by at most "
                    f"{n(abs(result.error_db).max(), 2)} dB")  # fmt: skip
    below.legend(loc="best")
    plain_log_ticks(below)
    for ax in (above, below):
        ax.grid(alpha=0.3, which="both")
    return figure


def plot_conservatism(table: Any, name: str) -> Any:
    """Each rule's peak over the peak in time, reading by reading; returns the Figure."""
    figure, ax = new_figure()
    rules = [c for c in table.columns if c.endswith("_over_time")]
    far = np.abs(np.log(np.maximum(table[rules].to_numpy(float), 1e-12))).max(axis=1)
    shown = table.iloc[np.sort(np.argsort(-far, kind="stable")[:40])]
    y = np.arange(len(shown))
    for k, rule in enumerate(rules):
        ax.plot(shown[rule], y, MARKS[k % 6], color=COLOURS[k % 6], ms=6, alpha=0.8,
                label=rule.removesuffix("_over_time").replace("_", " "))  # fmt: skip
    ax.axvline(1.0, color="black", lw=1)
    ax.set_yticks(
        y, [own_label(f"{g} {c}") for g, c in zip(shown["gauge"], shown["component"], strict=True)], fontsize=8
    )
    ax.invert_yaxis()
    ax.set_xscale("log")
    plain_ticks(ax.xaxis)
    ax.set(xlabel="combined peak / peak in time (right of 1: conservative)", ylabel="reading")
    left = f" ({len(shown)} of {len(table)} readings, those farthest from 1)" if len(table) > len(shown) else ""
    ax.set_title(f"{name}: rules of combination against the pulse in time{left}")
    ax.legend(loc="best")
    ax.grid(alpha=0.3)
    return figure


def plain_log_ticks(ax: Any) -> None:
    """Plain numbers at 1, 2 and 5 on both axes."""
    for axis in (ax.xaxis, ax.yaxis):
        plain_ticks(axis)


def plain_ticks(axis: Any) -> None:
    """Plain numbers at 1, 2 and 5 on a logarithmic axis."""
    from matplotlib.ticker import FuncFormatter, LogLocator, NullFormatter

    axis.set_major_locator(LogLocator(subs=(1.0, 2.0, 5.0)))
    axis.set_major_formatter(FuncFormatter(lambda v, _: f"{v:g}"))
    axis.set_minor_formatter(NullFormatter())


def main_readings(
    answer: TimeResult | SpectrumResult | SweepResult | PeriodicResult, checks: Sequence[LimitCheck] = ()
) -> list[int]:
    """The largest component of every gauge (of one unit), those nearest to their limits first."""
    use = {c.reading: c.use for c in checks}
    largest: dict[tuple[str, str], int] = {}
    for i, r in enumerate(answer.reduced.readings):
        key = (r.gauge, r.dimension)
        best = largest.get(key)
        rank = (use.get(i, 0.0), r.how != "magnitude", abs(answer.peaks[i]))
        other = (0.0, False, -1.0)
        if best is not None:
            other = (use.get(best, 0.0), answer.reduced.readings[best].how != "magnitude", abs(answer.peaks[best]))
        if best is None or rank > other:
            largest[key] = i
    return sorted(largest.values(), key=lambda i: (-use.get(i, 0.0), i))


def draw_acting(ax: Any, answer: TimeResult) -> None:
    """What the base does and factors of loads, in ms."""
    pulse, t = answer.pulse, 1e3 * answer.time
    for d, axis in enumerate(pulse.names[: pulse.moving]):
        if pulse.moves[d]:
            label = f"base along {axis}" if d < 3 else axis
            ax.plot(t, answer.base[:, d] / STANDARD_GRAVITY, color=COLOURS[d % 6], label=label)
    loads = [k for k in pulse.loads if pulse.resting[k] == 0]
    above: Any = ax if not pulse.moves_base else ax.twinx() if loads else None
    for k in loads:
        above.plot(t, answer.base[:, k], color=COLOURS[k % 6], ls="--", label=own_label(pulse.names[k]))
    if loads:
        above.set_ylabel("factor of loads")
        above.legend(loc="center right")
    if pulse.moves_base:
        ax.set_ylabel("base (g)")
        ax.legend(loc="upper right")


def plot_histories(answer: TimeResult, numbers: list[int] | None = None, checks: Sequence[LimitCheck] = ()) -> Any:
    """Histories with their peaks marked, the base pulse above, on one time axis. Returns the Figure.

    `numbers`: readings to draw; when left out of four gauges the largest component each, those nearest to their limits
    (`checks`) first, then in the order of the description.
    """
    readings = answer.reduced.readings
    chosen = main_readings(answer, checks) if numbers is None else numbers
    numbers = chosen[:4] if numbers is None else chosen[:6]
    left = f" ({len(numbers)} of {len(chosen)})" if len(chosen) > len(numbers) else ""
    figure, axes = new_figure(
        len(numbers) + 1, sharex=True, gridspec_kw={"height_ratios": [0.8, *[1.0] * len(numbers)]}
    )
    thin = max(1, len(answer.time) // 20000)
    t = 1e3 * answer.time[::thin]
    draw_acting(axes[0], answer)
    axes[0].set_title(f"{answer.name}: what acts above, gauges below with their peaks{left}")
    for ax, number in zip(axes[1:], numbers, strict=True):
        reading = readings[number]
        unit, size = display_unit(reading.dimension)
        ax.plot(t, answer.history(number, thin) / size, color=COLOURS[0], lw=1.1)
        peak, when = answer.peaks[number] / size, 1e3 * answer.peak_times[number]
        ax.plot(when, peak, "o", color=COLOURS[1], ms=6)
        side = -1 if when > 0.7 * t[-1] else 1
        ax.annotate(
            f"{n(peak)} {unit} at {n(when)} ms", (when, peak), textcoords="offset points", xytext=(10 * side, 0),
            va="center", ha="left" if side > 0 else "right", color=COLOURS[1],
            bbox={"facecolor": "white", "alpha": 0.75, "edgecolor": "none", "pad": 1},
        )  # fmt: skip
        ax.set_ylabel(f"{reading.dimension} ({unit})")
        frame = answer.reduced.channels.block(reading.channels[0]).frame
        ax.set_title(
            f"{reading.label} ({', '.join(w for w in (reading.dimension, frame) if w)})", loc="left", fontsize=10
        )
        ax.margins(y=0.15)
    axes[-1].set_xlabel("time (ms)")
    for ax in axes:
        ax.grid(alpha=0.3)
        ax.set_xlim(t[0], t[-1])
    figure.align_ylabels(axes)
    return figure


def plot_shares(answer: SpectrumResult, numbers: list[int] | None = None, checks: Sequence[LimitCheck] = ()) -> Any:
    """Share of each mode in the square of chosen readings, as stacked bars. Returns the Figure.

    When `numbers` are left out: of every gauge the largest component, those nearest to their limits (`checks`) first.
    """
    readings = answer.reduced.readings
    noise = answer.noise
    asked = numbers if numbers is not None else main_readings(answer, checks)
    every = [i for i in asked if answer.peaks[i] > noise[i]]
    chosen = every[:_BARS]
    figure, ax = new_figure()
    parts = np.array([np.concatenate(answer.shares(i)) for i in chosen]) * 100.0
    order = np.argsort(-np.abs(parts).max(axis=0))
    named = [m for m in order if np.abs(parts[:, m]).max() >= 5.0][:8]
    left_up, left_down = np.zeros(len(chosen)), np.zeros(len(chosen))
    from matplotlib import colormaps

    palette = [colormaps["tab10"](i) for i in range(10) if i != 7]  # grey stands for all others
    y = np.arange(len(chosen))[::-1]
    rest = parts.sum(axis=1) - parts[:, named].sum(axis=1)
    for k, m in enumerate([*named, -1]):
        value = rest if m == -1 else parts[:, m]
        last = m == len(answer.reduced.omega)
        name = (
            f"the other {parts.shape[1] - len(named)}"
            if m == -1
            else "missing mass"
            if last
            else (f"mode {m + 1} ({n(answer.reduced.frequencies_hz[m])} Hz)")
        )
        left = np.where(value >= 0, left_up, left_down)
        ax.barh(y, value, left=left, color=GHOST if m == -1 else palette[k], label=own_label(name), edgecolor="white")
        left_up += np.maximum(value, 0)
        left_down += np.minimum(value, 0)
    ax.set_yticks(y, [own_label(readings[i].label) for i in chosen])
    ax.set_ylabel("reading")
    ax.set_xlabel("share in the square of the peak (%); below zero: the mode takes away")
    ax.set_title(f"{answer.name}: which modes make up each gauge" + (
        f" ({len(chosen)} of {len(every)})" if len(every) > len(chosen) else ""))  # fmt: skip
    ax.legend(loc="center left", bbox_to_anchor=(1.0, 0.5))
    ax.grid(alpha=0.3, axis="x")
    return figure
