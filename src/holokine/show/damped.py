"""Words and figure of damped modes."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.show.figures import COLOURS, GHOST, SIZE
from holokine.show.numbers import number_text as n
from holokine.show.plain import empty_figure

if TYPE_CHECKING:
    from holokine.modes.damped import DampedModes
    from holokine.respond.steady import Coupling

__all__ = ["damped_lines", "plot_poles"]


def damped_lines(found: DampedModes, coupling: Coupling) -> list[str]:
    """What damps, and what follows."""
    words = []
    if coupling.own[: coupling.modes].any():
        own = 100.0 * coupling.own[: coupling.modes]
        span = f"{n(own.min(), 3)} %" if np.ptp(own) < 1e-9 else f"{n(own.min(), 3)} to {n(own.max(), 3)} %"
        words.append(f"modal ratios of {span}")
    if coupling.losses:
        words.append(f"loss factors of {len(coupling.losses)} members (hysteretic)")
    if coupling.attached is not None:
        words.append(f"{len(coupling.attached.pushes)} forces of dampers and springs that lose, with static shapes")
    by = ", ".join(words) or "nothing"
    lines = [f"{len(found.poles)} damped modes from {coupling.modes} undamped ones; damping by {by}"]
    if not coupling.vibration.coupled:
        lines.append("the damping does not couple the modes: each damped mode has the shape of an undamped one")
    else:
        most = int(found.complexity.argmax())
        lines.append(
            f"most complex: mode {most + 1} at {n(found.damped_hz[most])} Hz, "
            f"{n(100 * found.complexity[most], 3)} % out of phase"
        )
    if len(found.real_poles):
        lines.append(f"{len(found.real_poles)} overdamped motions (kind: real) die away without swinging")
    if coupling.loss is not None:
        lines.append("loss factors are of steady vibration; a free decay takes them as at each mode's frequency")
    return lines


def plot_poles(found: DampedModes, count: int, title: str) -> Any:
    """Poles in the upper half of the complex plane, with lines of equal damping ratio; returns the Figure."""
    figure = empty_figure(SIZE)
    ax = figure.subplots()
    real, imaginary = found.poles.real, found.poles.imag / (2.0 * np.pi)
    shown = found.nearest < count
    top = 1.08 * float(imaginary[shown].max(initial=1.0))
    left = 1.15 * float(real[shown & (imaginary <= top)].min(initial=-1e-6))
    for ratio in (0.01, 0.02, 0.05, 0.1, 0.2, 0.3, 0.5, 0.7):
        slope = ratio / np.sqrt(1.0 - ratio**2) * 2.0 * np.pi
        x, y = (-slope * top, top) if slope * top < -left else (left, -left / slope)
        if y < 0.02 * top:
            continue
        ax.plot([0.0, x], [0.0, y], color=GHOST, lw=0.8, ls="--")
        ax.annotate(f"{100 * ratio:g} %", (x, y), color="#5F6368", fontsize=9, ha="left", va="bottom")
    size = 25 + 250 * np.minimum(found.complexity, 1.0)
    ax.scatter(real, imaginary, s=size, color=COLOURS[0], alpha=0.75, edgecolor="white", zorder=3)
    spaced: list[tuple[float, float]] = []
    for k in np.argsort(found.ratios)[::-1]:
        x, y = float(real[k]), float(imaginary[k])
        if y > top or x < left or any(abs(y - b) < 0.022 * top and abs(x - a) < -0.05 * left for a, b in spaced):
            continue
        spaced.append((x, y))
        ax.annotate(f"{k + 1}", (x, y), textcoords="offset points", xytext=(7, 0), fontsize=9, va="center")
    inside = found.real_poles[found.real_poles > left]
    if len(inside):
        ax.plot(inside, np.zeros(len(inside)), "x", color=COLOURS[1], ms=8, label="overdamped (real)")
        ax.legend(loc="lower left")
    beyond = len(found.real_poles) - len(inside) + int(((imaginary > top) | (real < left)).sum())
    more = f"; {beyond} farther out are not drawn" if beyond else ""
    ax.set(xlim=(left, -0.03 * left), ylim=(-0.02 * top, top * 1.02), xlabel="real part: decay (1/s)")
    ax.set_ylabel("imaginary part / 2π: damped frequency (Hz)")
    ax.set_title(f"{title}: damped modes (area: how complex; dashed: equal damping ratio{more})")
    ax.grid(alpha=0.25)
    return figure
