"""Answers in time and over frequency: the excitation, a page of curves to be read with the cursor, moving pictures."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.errors import EventError
from holokine.show.figures import COLOURS, main_readings
from holokine.show.numbers import column_words, display_unit
from holokine.show.numbers import number_text as n
from holokine.show.plain import empty_figure, filled_page
from holokine.show.plain import label as own_label
from holokine.show.scene import PIXELS, film_pixels, moving_pictures, write_film
from holokine.units import STANDARD_GRAVITY
from holokine.whole import whole_file

if TYPE_CHECKING:
    import pandas as pd

    from holokine.arrays import Floats
    from holokine.excite.pulse import BasePulse
    from holokine.findings import Finding
    from holokine.respond.motion import FieldMotion
    from holokine.respond.sweep import SweepResult
    from holokine.respond.transient import TimeResult

__all__ = ["animate_answer", "plot_excitation", "write_histories_page", "write_sweep_page"]

MOST_ROWS = 8000


def plot_excitation(pulse: BasePulse, name: str) -> Any:
    """Acceleration, velocity and displacement of the base, and factors of loads, against time; returns the Figure."""
    moves, loads = pulse.moves_base, [k for k in pulse.loads if pulse.resting[k] == 0]
    rows = 3 * moves + bool(loads)
    figure = empty_figure((12.8, 8.0))
    axes = np.atleast_1d(figure.subplots(max(rows, 1), 1, sharex=True))
    span = max(pulse.end - pulse.start, 1e-9)
    t = np.concatenate([[pulse.start - 0.1 * span], pulse.time, [pulse.end, pulse.end + 0.15 * span]])
    values = np.vstack([pulse.resting, pulse.acceleration, pulse.acceleration[-1:], pulse.acceleration[-1:]])
    at = 0
    if moves:
        velocity, displacement = pulse.base_motion(t, values)
        for ax, data, word in zip(
            axes, (values[:, : pulse.moving] / STANDARD_GRAVITY, velocity, 1e3 * displacement),
            ("acceleration (g)", "velocity (m/s)", "displacement (mm)"), strict=False,
        ):  # fmt: skip
            for d, axis in enumerate(pulse.names[: pulse.moving]):
                if pulse.moves[d]:
                    end = data[-2, d]
                    ax.plot(
                        1e3 * t, data[:, d], color=COLOURS[d % 6], lw=1.6, label=f"{axis}: {n(end)} at the end (dot)"
                    )
                    ax.plot(1e3 * pulse.end, end, "o", color=COLOURS[d % 6], ms=6)
            ax.set_ylabel(word)
            ax.margins(y=0.12)
            ax.legend(loc="best")
        at = 3
    if loads:
        for k in loads:
            axes[at].plot(
                1e3 * t, values[:, k], color=COLOURS[(k - pulse.moving) % 6], lw=1.6, label=own_label(pulse.names[k])
            )
        axes[at].set_ylabel("factor of the load")
        axes[at].legend(loc="upper right")
    axes[-1].set_xlabel("time (ms)")
    for ax in axes:
        ax.grid(alpha=0.3)
    figure.suptitle(f"{name}: what acts")
    return figure


def write_histories_page(answer: TimeResult, acting: pd.DataFrame, path: Path, title: str, lines: list[str]) -> None:
    """Write the page; histories are thinned to some eight thousand rows, peaks stand beside them as they are.

    `acting`: what acts, a column each after the time, with its unit in brackets.

    Raises
    ------
    OutputError
        When the file cannot be written.
    """
    thin = len(answer.time) // MOST_ROWS or 1
    rows = slice(None, None, thin)
    series = []
    for column in acting.columns[1:]:
        word, unit = column_words(str(column))
        values = acting[column].to_numpy()
        best = int(np.abs(values).argmax())
        series.append({"name": word, "unit": unit, "kind": "what acts", "peak": float(values[best]),
                       "at": 1e3 * float(answer.time[rows][best]), "y": _short(values)})  # fmt: skip
    main = main_readings(answer)[:3]
    for number, reading in enumerate(answer.reduced.readings):
        if abs(answer.peaks[number]) <= answer.noise[number]:
            continue
        unit, size = display_unit(reading.dimension)
        frame = answer.reduced.channels.block(reading.channels[0]).frame
        frame = f", {frame}" if frame else ""
        series.append(
            {
                "name": reading.label,
                "unit": unit,
                "kind": reading.dimension + frame,
                "peak": answer.peaks[number] / size,
                "at": 1e3 * answer.peak_times[number],
                "main": number in main,
                "y": _short(answer.history(number, thin) / size),
            }
        )
    data = {"t": _short(1e3 * answer.time[rows]), "unit": "ms", "sweep": False, "series": series}
    _write_page(data, f"{title}: {answer.name}", lines, answer.findings, path)


def write_sweep_page(answer: SweepResult, path: Path, title: str, lines: list[str]) -> None:
    """Write the same page for a sweep: amplitudes and phases over frequency.

    Raises
    ------
    OutputError
        When the file cannot be written.
    """
    thin = max(1, len(answer.frequency_hz) // MOST_ROWS)
    f = answer.frequency_hz[::thin]
    by = answer.shown.per_peak
    main = main_readings(answer)[:3]
    series = []
    for number, reading in enumerate(answer.reduced.readings):
        if answer.swing[number] <= answer.noise[number]:
            continue
        unit, size = display_unit(reading.dimension)
        frame = answer.reduced.channels.block(reading.channels[0]).frame
        top, phase = answer.main[number], answer.phase(number)
        one: dict[str, Any] = {
            "name": reading.label, "unit": unit, "kind": reading.dimension + (f", {frame}" if frame else ""),
            "peak": by * answer.swing[number] / size, "at": float(answer.peak_frequencies[number]),
            "main": number in main, "y": _short(by * answer.curve(number)[::thin] / size),
            "more": f", bandwidth {n(top.bandwidth, 3)} Hz" if top.bandwidth > 0 else "",
        }  # fmt: skip
        if phase is not None:
            one["phase"] = [round(float(v), 1) for v in np.degrees(np.angle(np.exp(1j * phase[::thin])))]
        series.append(one)
    breaks = [int(-(-s // thin)) for s in answer.starts[1:]]
    data = {"t": _short(f), "unit": "Hz", "sweep": True, "breaks": breaks, "series": series}
    _write_page(data, f"{title}: {answer.name}", lines, answer.findings, path)


def _write_page(
    data: dict[str, Any], heading: str, lines: list[str], findings: tuple[Finding, ...], path: Path
) -> None:
    text = filled_page("histories.html", heading, lines, findings, data)
    with whole_file(path) as part:
        part.write_text(text, encoding="utf-8")


def _short(values: Floats) -> list[float]:
    """Numbers with six digits, which a page shows."""
    return [float(f"{v:.6g}") for v in values]


def animate_answer(
    motion: FieldMotion, number: int, window: tuple[float, float], path: Path, seconds: float, rate: int, share: float,
    pixels: tuple[int, int] = PIXELS,
) -> None:  # fmt: skip
    """The moving assembly above, the history of a reading with a marker below.

    Raises
    ------
    EventError
        A window outside the history, or fewer than two pictures.
    """
    answer = motion.answer
    start, end = window
    if not answer.time[0] <= start < end <= answer.time[-1] * (1 + 1e-12):
        raise EventError(
            f"the window from {start:g} to {end:g} s does not lie in the history, {answer.time[0]:.4g} to "
            f"{answer.time[-1]:.4g} s"
        )
    count = round(seconds * rate)
    if count < 2 or count > 2000:
        raise EventError(f"{seconds:g} s at {rate} pictures per second are {count} pictures; 2 to 2000 can be made")
    times = np.linspace(start, min(end, float(answer.time[-1])), count)
    system = motion.modes.system
    frames = [motion.frames(times[a : a + 50]) for a in range(0, count, 50)]
    moved = np.concatenate(frames).reshape(count, -1, 6)[:, :, :3]
    slower = seconds / (end - start)
    title = (
        f"{answer.name}: {1e3 * start:.4g} to {1e3 * end:.4g} ms in {seconds:g} s at {rate} pictures per second, "
        f"{n(slower, 3)} times slower than life"
    )
    width, height = film_pixels(pixels)
    low = max(2 * round(0.15 * height), 100)  # of the history
    strips = _strips(answer, number, times, (width, low))
    pictures = (
        np.concatenate([above[:, :, :3], below], axis=0)
        for above, below in zip(
            moving_pictures(system, moved, title, share, (width, height - low)), strips, strict=True
        )
    )
    write_film(path, pictures, rate, count=count)


def _strips(answer: TimeResult, number: int, times: Floats, pixels: tuple[int, int]) -> Any:
    """The history with a marker at each instant, so many pixels wide and high."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg

    reading = answer.reduced.readings[number]
    unit, size = display_unit(reading.dimension)
    keep = (answer.time >= times[0]) & (answer.time <= times[-1])
    t, y = 1e3 * answer.time[keep], answer.history(number)[keep] / size
    figure = empty_figure((pixels[0] / 100, pixels[1] / 100), dpi=100)
    canvas = FigureCanvasAgg(figure)
    ax = figure.subplots()
    ax.plot(t, y, color=COLOURS[0], lw=1.2)
    ax.set(xlabel="time (ms)", ylabel=f"{reading.label} ({unit})", xlim=(1e3 * times[0], 1e3 * times[-1]))
    ax.grid(alpha=0.3)
    line = ax.axvline(1e3 * times[0], color=COLOURS[1], lw=1.2)
    (mark,) = ax.plot([], [], "o", color=COLOURS[1], ms=7)
    for instant in times:
        line.set_xdata([1e3 * instant] * 2)
        mark.set_data([1e3 * instant], [np.interp(1e3 * instant, t, y)])
        canvas.draw()
        yield np.asarray(canvas.buffer_rgba())[:, :, :3].copy()
