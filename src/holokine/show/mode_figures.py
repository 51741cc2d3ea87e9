"""Figures about modes: energy bars, bands of excitation, assurance between runs."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.show.figures import COLOURS, GHOST, new_figure
from holokine.show.numbers import number_text as n
from holokine.show.plain import label as own_label

if TYPE_CHECKING:
    from holokine.describe.schema import Description
    from holokine.modes.compare import Comparison
    from holokine.modes.mode_set import ModeSet

__all__ = ["plot_assurance", "plot_bands", "plot_energy"]


MOST_BARS = 9


def plot_energy(modes: ModeSet, names: tuple[str, ...], strain: np.ndarray, kinetic: np.ndarray, by: str) -> Any:
    """Stacked bars of strain (above) and kinetic (below) energy by mode; returns the Figure."""
    shown = min(modes.count, 24)
    total = np.maximum(modes.omega[:shown] ** 2 / 2.0, 1e-300)
    figure, axes = new_figure(2, sharex=True)
    importance = (strain[:, :shown] / total).sum(axis=1) + (kinetic[:, :shown] / total).sum(axis=1)
    order = np.argsort(-importance, kind="stable")
    kept, rest = order[:MOST_BARS], order[MOST_BARS:]
    hatches = ("", "//", "..")
    for ax, values, title in zip(axes, (strain, kinetic), ("strain energy", "kinetic energy"), strict=True):
        share = 100.0 * values[:, :shown] / total
        bottom = np.zeros(shown)
        for number, i in enumerate(kept):
            colour, hatch = COLOURS[number % len(COLOURS)], hatches[number // len(COLOURS)]
            ax.bar(np.arange(shown), share[i], bottom=bottom, color=colour, hatch=hatch, edgecolor="white", lw=0.4,
                   label=own_label(names[i]))  # fmt: skip
            bottom += share[i]
        if len(rest):
            ax.bar(np.arange(shown), share[rest].sum(axis=0), bottom=bottom, color=GHOST, edgecolor="white", lw=0.4,
                   label=f"the other {len(rest):,}")  # fmt: skip
        ax.set_ylabel(f"{title} (%)")
        ax.grid(axis="y", alpha=0.3)
    labels = [f"{m}\n{n(f)}" for m, f in zip(modes.numbers[:shown], modes.frequencies_hz[:shown], strict=True)]
    axes[1].set_xticks(np.arange(shown), labels, fontsize=8)
    axes[1].set_xlabel("mode and natural frequency (Hz)")
    first = f" (first {shown} of {modes.count} modes)" if shown < modes.count else ""
    axes[0].set_title(f"Where the energy of each mode is, by {by}{first}")
    handles, words = axes[0].get_legend_handles_labels()
    figure.legend(handles, words, loc="outside right upper")
    return figure


def plot_bands(modes: ModeSet, d: Description) -> Any:
    """Bands of excitation across, natural frequencies down through them; returns the Axes."""
    _, ax = new_figure()
    bands = d.band_ranges()
    inside = {
        int(k) for k, f in zip(modes.numbers, modes.frequencies_hz, strict=True)
        if any(low <= f <= high for _, low, high in bands)
    }  # fmt: skip
    for row, (_name, low, high) in enumerate(bands):
        ax.barh(row, high - low, left=low, height=0.6, color=COLOURS[row % len(COLOURS)], alpha=0.45)
    for number, f in zip(modes.numbers, modes.frequencies_hz, strict=True):
        bad = int(number) in inside
        ax.axvline(f, color=COLOURS[1] if bad else GHOST, lw=1.8 if bad else 0.8)
        if bad:
            ax.text(f, len(bands) - 0.45, str(number), ha="center", va="bottom", fontsize=9, color=COLOURS[1])
    ax.set_yticks(range(len(bands)), [own_label(name) for name, _, _ in bands])
    ax.set_ylim(-0.6, len(bands) - 0.2)
    top = max([high for _, _, high in bands] + [1.0]) * 1.25
    ax.set_xlim(0, min(top, max(float(modes.frequencies_hz.max()) * 1.05, top * 0.5)))
    ax.set(xlabel="frequency (Hz)", ylabel="band of excitation")
    ax.set_title("Natural frequencies against bands of excitation (marked: modes inside a band)", pad=24)
    ax.grid(axis="x", alpha=0.3)
    return ax


def plot_assurance(c: Comparison) -> Any:
    """The modal assurance criterion as a matrix, pairs framed; returns the Axes."""
    _, ax = new_figure()
    image = ax.imshow(c.mac, vmin=0.0, vmax=1.0, cmap="viridis", origin="lower", aspect="auto")
    for row in range(c.before.count):
        for column in range(c.after.count):
            if c.mac[row, column] >= 0.1 and c.mac.size <= 900:
                ax.text(column, row, f"{c.mac[row, column]:.2f}", ha="center", va="center", fontsize=7,
                        color="white" if c.mac[row, column] < 0.6 else "black")  # fmt: skip
    for row, mate in enumerate(c.partner):
        if mate >= 0:
            ax.add_patch(_frame(mate, row))
    for axis, modes, words in ((ax.xaxis, c.after, "after"), (ax.yaxis, c.before, "before")):
        step = max(1, modes.count // 25)
        labels = [f"{m}  {n(f)}" for m, f in zip(modes.numbers, modes.frequencies_hz, strict=True)]
        axis.set_ticks(range(0, modes.count, step), labels[::step], fontsize=8)
        axis.set_label_text(f"mode and frequency (Hz) {words}")
    for label in ax.get_xticklabels():
        label.set_rotation(90)
    ax.set_title("Modal assurance criterion (framed: pairs)")
    ax.figure.colorbar(image, ax=ax, label="MAC")
    return ax


def _frame(column: int, row: int) -> Any:
    from matplotlib.patches import Rectangle

    return Rectangle((column - 0.5, row - 0.5), 1, 1, fill=False, edgecolor=COLOURS[1], lw=1.5)
