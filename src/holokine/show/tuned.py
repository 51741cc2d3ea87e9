"""Words and figure of tuned dampers."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.findings import Finding
from holokine.show.figures import COLOURS, GHOST, SIZE, plain_log_ticks
from holokine.show.numbers import display_unit
from holokine.show.numbers import number_text as n
from holokine.show.plain import empty_figure
from holokine.show.plain import label as own_label

if TYPE_CHECKING:
    from holokine.respond.tuned import Setting, Tuned

__all__ = ["plot_tuned", "reading_unit", "reduction", "tuned_findings", "tuned_lines"]


def reading_unit(result: Tuned) -> tuple[str, float]:
    """Of the reading: in its display unit; of the point per N, or per m/s² of the base."""
    if result.host.reading is not None:
        return display_unit(result.host.reading.dimension)
    return ("mm per N", 1e-3) if result.acts == "force" else ("mm per m/s2", 1e-3)


def reduction(result: Tuned, setting: Setting) -> float:
    return result.without / setting.peak if np.isfinite(result.without) else np.inf


def tuned_lines(result: Tuned, at: str, axis: tuple[float, float, float], words: str) -> list[str]:
    """What it is for, what to build, and what it brings."""
    b, (unit, size) = result.best, reading_unit(result)
    along = f"[{axis[0]:.3g}, {axis[1]:.3g}, {axis[2]:.3g}]"
    if max(map(abs, axis)) > 1 - 1e-12:
        along = "xyz"[int(np.abs(axis).argmax())]
    finite = np.isfinite(result.without)
    before = f"{n(result.without / size)} {unit}" if finite else "infinite (a mode without damping)"
    by = f", {n(reduction(result, b), 3)} times less" if finite else ""
    off = max(s.peak for _, s in result.scattered)
    return [
        f"tuned damper at {at} along {along}, for {words}; {n(result.band[0])} to {n(result.band[1])} Hz",
        f"effective mass of the mode there {n(result.effective_mass)} kg, mass ratio {100 * result.mass_ratio:.3g} %",
        f"take {n(b.mass)} kg on {n(1e-3 * b.stiffness)} N/mm and {n(b.damping)} N s/m ({n(b.frequency_hz)} Hz, "
        f"{100 * b.ratio:.3g} % of critical)",
        f"largest reading {n(b.peak / size)} {unit}; without it {before}{by}; with its tuning off by 10 % up to "
        f"{n(off / size)} {unit}; travel of the mass {n(1e3 * b.stroke)} mm",
    ]


def tuned_findings(result: Tuned) -> tuple[Finding, ...]:
    """What to know before trusting it."""
    found = []
    b, low, high = result.best, *result.band
    unit = " per N or m/s2" if result.host.reading is None else ""
    if min(b.at / low, high / b.at) < 1.005:
        found.append(Finding(
            "warning", f"the largest reading lies at the end of the band ({n(b.at)} Hz): another mode may govern; "
            "widen the band",
        ))  # fmt: skip
    if result.mass_ratio > 0.25:
        found.append(Finding("note", f"a mass ratio of {100 * result.mass_ratio:.0f} % is large for a damper"))
    if b.peak > 0.999 * result.without:
        found.append(Finding("warning", "the damper brings nothing for this reading in this band"))
    found.append(Finding(
        "note", "the damper's mass slides along its axis and is carried along across it, which shifts other modes; its "
        f"travel is that of the amplitudes given{unit}",
    ))  # fmt: skip
    return tuple(found)


def plot_tuned(result: Tuned, title: str) -> Any:
    """Amplitude of the reading over frequency without the damper and with each setting; returns the Figure."""
    figure = empty_figure(SIZE)
    ax = figure.subplots()
    unit, size = reading_unit(result)
    f = result.host.frequency_hz
    curves: list[tuple[str, Setting | None, str, str]] = [
        ("without", None, GHOST, "-"), ("classic optimum", result.classic, COLOURS[1], "--"),
        ("least of the largest", result.best, COLOURS[0], "-"),
    ]  # fmt: skip
    styles = (":", "-.")
    curves += [(f"tuning {100 * by:+.0f} %", s, COLOURS[2], style)
               for (by, s), style in zip(result.scattered, styles, strict=True)]  # fmt: skip
    for name, setting, colour, style in curves:
        y = result.host.with_damper(setting)[0] / size
        peak = (result.without if setting is None else setting.peak) / size
        label = f"{name}: largest {n(peak)} {unit}" if np.isfinite(peak) else f"{name}: infinite"
        ax.plot(f, y, color=colour, ls=style, lw=2.2 if setting is result.best else 1.5, label=own_label(label))
    ax.set_yscale("log")
    ax.set_xscale("log")
    top = result.best.peak / size
    ax.set_ylim(top / 60, min(1.3 * max(result.without / size, 1.2 * top), 60 * top))
    ax.set(xlim=(f[0], f[-1]), xlabel="frequency (Hz)", ylabel=f"amplitude ({unit})")
    plain_log_ticks(ax)
    ax.set_title(title)
    ax.legend(loc="lower left")
    ax.grid(alpha=0.3, which="both")
    return figure
