"""Figure of steady motions over frequency: stable and not, jumps, the linear answer beside."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.respond.curves import ranges
from holokine.show.figures import COLOURS, GHOST, SIZE, main_readings, plain_log_ticks
from holokine.show.numbers import display_unit
from holokine.show.numbers import number_text as n
from holokine.show.plain import empty_figure
from holokine.show.plain import label as own_label

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from holokine.respond.answer_periodic import PeriodicResult
    from holokine.respond.limits import LimitCheck

__all__ = ["plot_branches"]

_MOST = 3
_TALL = 1.6  # of an arrow from which it has a word
_ARROW = {"arrowstyle": "-|>", "lw": 1.4, "shrinkA": 0, "shrinkB": 0}


def plot_branches(
    answer: PeriodicResult,
    numbers: list[int] | None = None,
    checks: Sequence[LimitCheck] = (),
    others: Mapping[str, PeriodicResult] | None = None,
    logarithmic: tuple[bool, bool] = (False, True),
) -> Any:
    """Largest of readings over the cycle over frequency, an axis each; the Figure.

    Parameters
    ----------
    numbers : list of int, optional
        Readings to draw; when left out of the three gauges that differ most from the linear answer.
    others : mapping of str to PeriodicResult, optional
        More answers, in other colours.
    logarithmic : tuple of bool
        Of the frequency axis, and of sizes.
    """
    chosen = numbers or sorted(main_readings(answer, checks), key=lambda k: -answer.changed[k])
    drawn = chosen[:_MOST]
    left = f" ({len(drawn)} of {len(chosen)} readings)" if len(chosen) > len(drawn) else ""
    figure = empty_figure(SIZE)
    axes = np.atleast_1d(figure.subplots(len(drawn), 1, sharex=True))
    for number, ax in zip(drawn, axes, strict=True):
        reading = answer.reduced.readings[number]
        unit, size = display_unit(reading.dimension)
        linear = answer.linear
        for k, own in enumerate(ranges(linear.starts, len(linear.frequency_hz))):
            ax.plot(linear.frequency_hz[own], linear.curve(number)[own] / size, color=GHOST, lw=1.0,
                    label="linear" if k == 0 else None)  # fmt: skip
        for colour, (label, one) in zip(COLOURS * 3, {"": answer, **(others or {})}.items(), strict=False):
            row = next((k for k, r in enumerate(one.reduced.readings) if r.label == reading.label), None)
            if row is not None:
                _draw(ax, one, row, size, (colour, label), logarithmic[1])
        ax.set_ylabel(f"{reading.label}\n({unit})")
        ax.margins(y=0.14)
        if logarithmic[1]:
            ax.set_yscale("log")
        else:
            ax.set_ylim(bottom=0)
        if logarithmic[0]:
            ax.set_xscale("log")
        ax.set_xlim(float(answer.linear.frequency_hz.min()), float(answer.linear.frequency_hz.max()))
        ax.grid(alpha=0.3)
    if len(axes):
        axes[0].legend(loc="best", fontsize=9)
        axes[-1].set_xlabel("frequency (Hz)")
        if logarithmic[0]:
            plain_log_ticks(axes[-1])
        axes[0].set_title(f"{answer.name}: steady motions, largest over the cycle{left}", fontsize=11)
    return figure


def _draw(
    ax: Any, answer: PeriodicResult, number: int, size: float, look: tuple[str, str], logarithmic: bool
) -> None:  # fmt: skip
    """Branches of one reading, jumps as arrows (a cross where nothing stable is reached), the peak with its value."""
    f, y, (colour, label) = answer.frequency_hz, answer.size_curve(number) / size, look
    told: set[bool] = set()
    for part, stable in _stretches(answer):
        words = ("stable" if stable else "not stable") if not label else label if stable else None
        ax.plot(f[part], y[part], color=colour, ls="-" if stable else (0, (2, 2)), lw=1.7 if stable else 1.0,
                label=own_label(words) if words and stable not in told else None)  # fmt: skip
        told.add(stable)
    for j in answer.jumps:
        if j.reaches >= 0:
            ax.annotate("", (j.frequency_hz, y[j.reaches]), (j.frequency_hz, y[j.leaves]),
                        arrowprops={**_ARROW, "color": colour})  # fmt: skip
            if max(y[j.leaves], y[j.reaches]) > _TALL * min(y[j.leaves], y[j.reaches]):
                ends = y[[j.leaves, j.reaches]]
                middle = ends.prod() ** 0.5 if logarithmic else ends.mean()
                ax.annotate("up" if j.upward else "down", (j.frequency_hz, middle),
                            textcoords="offset points", xytext=(4, 0), fontsize=8, color=colour)  # fmt: skip
        else:
            ax.plot(f[j.leaves], y[j.leaves], "x", color=colour, ms=6)
    k = answer.peak_point(number)
    ax.plot(f[k], y[k], "o", color=colour, ms=4)
    ax.annotate(f"{n(y[k], 3)}, {n(f[k])} Hz", (f[k], y[k]), textcoords="offset points", xytext=(6, 2), fontsize=8,
                color=colour)  # fmt: skip


def _stretches(answer: PeriodicResult) -> Iterator[tuple[NDArray[np.int64], bool]]:
    """Points of every stretch of a branch that is stable or not, each with the next so that lines meet."""
    stable = np.array([not why for why in answer.lost])
    ends = np.flatnonzero((np.diff(answer.branch) != 0) | (np.diff(stable) != 0)) + 1
    for a, b in zip([0, *ends.tolist()], [*ends.tolist(), len(stable)], strict=True):
        more = b < len(stable) and answer.branch[b] == answer.branch[a]
        yield np.arange(a, b + 1 if more else b), bool(stable[a])
