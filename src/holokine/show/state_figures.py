"""Figure of a state's buckling."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.show.figures import COLOURS, GHOST, SIZE
from holokine.show.numbers import number_text as n
from holokine.show.plain import empty_figure

if TYPE_CHECKING:
    from holokine.state.sequence import FrequencyPath

__all__ = ["plot_path"]


def plot_path(path: FrequencyPath, title: str, lowest: float | None) -> Any:
    """Frequency squared against the load factor, straight lines on to zero; returns the Figure."""
    figure = empty_figure(SIZE)
    ax = figure.subplots()
    squares = path.frequencies_hz**2
    for k in range(squares.shape[1]):
        colour = COLOURS[k % len(COLOURS)]
        ax.plot(path.factors, squares[:, k], "o-", color=colour, ms=5, label=f"mode {k + 1}")
        zero = path.zeros[k]
        if np.isfinite(zero) and path.factors[-1] < zero < 3.0 * max(path.factors[-1], 1.0):
            ax.plot([path.factors[-1], zero], [squares[-1, k], 0.0], "--", color=colour, lw=1)
    if lowest is not None:
        ax.axvline(lowest, color=GHOST, lw=1.2)
        ax.annotate(f"buckling at {n(lowest)}", (lowest, 0.97), xycoords=("data", "axes fraction"), rotation=90,
                    ha="right", va="top", fontsize=9, color="#5F6368")  # fmt: skip
    ax.set(xlabel="load factor", ylabel="frequency squared (Hz²)", title=f"{title}: frequency squared against load")
    ax.set_ylim(bottom=0.0)
    ax.grid(alpha=0.25)
    ax.legend(fontsize=9)
    return figure
