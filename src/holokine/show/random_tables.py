"""Tables, words and figures of answers to random vibration."""

from __future__ import annotations

from typing import Any

import numpy as np
import pandas as pd
from numpy.typing import NDArray

from holokine.errors import EventError
from holokine.respond.curves import gathered_points
from holokine.respond.random import RandomResult, dirlik, exceeded, narrow_band
from holokine.show.figures import COLOURS, SIZE, main_readings, plain_ticks
from holokine.show.numbers import display_unit
from holokine.show.numbers import number_text as n
from holokine.show.plain import empty_figure
from holokine.show.plain import label as own_label
from holokine.show.tables import peaks_table
from holokine.show.text import kept_lines, load_lines
from holokine.units import STANDARD_GRAVITY

__all__ = [
    "covariance_table",
    "densities_table",
    "fatigue_table",
    "frequencies_of",
    "plot_random",
    "random_lines",
    "random_peaks",
    "random_points",
    "random_shares",
    "sources_table",
]

Floats = NDArray[Any]  # float64


def random_peaks(answer: RandomResult) -> pd.DataFrame:
    """RMS of every reading, the peak told, rate of zero crossings, the expected largest, and the one-mode estimate."""
    largest = answer.expected_largest

    def more(number: int, size: float) -> dict[str, object]:
        row: dict[str, object] = {
            "peak": answer.peaks[number] / size, "crossings_hz": answer.crossings_hz[number],
        }  # fmt: skip
        if answer.duration is not None and answer.meaning.kind != "expected largest":
            row["expected_largest"] = largest[number] / size
        row |= {
            "one_mode_rms": answer.one_mode[number] / size,
            "most_by_mode": f"{answer.main_mode[number] + 1} ({100 * answer.main_share[number]:.0f} %)",
            "place": answer.places[number],
        }
        return row

    return peaks_table(answer, "rms", more, lambda k: not np.isfinite(answer.rms[k]), answer.rms)


def sources_table(answer: RandomResult) -> pd.DataFrame:
    """What acts: range of each density, its overall RMS, and the one stated."""
    rows = []
    for s in answer.reader.sources:
        size, unit = (1.0, "factor") if s.acts == "load" else (STANDARD_GRAVITY, "g")
        rows.append({
            "source": s.words, "from_hz": s.density.start[0],
            "to_hz": s.density.end[-1], "rms": s.density.rms / size, "unit": unit,
            "stated_rms": np.nan if s.stated is None else s.stated / size, "rows": len(s.density.start) + 1,
        })  # fmt: skip
    return pd.DataFrame(rows)


def random_lines(answer: RandomResult) -> list[str]:
    """What acts, what the peak is, and what it is answered with."""
    parts = []
    for row in sources_table(answer).to_dict("records"):
        parts.append(
            f"{row['source']} {n(row['rms'])} {row['unit']} RMS from {n(row['from_hz'])} to {n(row['to_hz'])} Hz"
        )
    names = [s.column for s in answer.reader.sources]
    together = [
        f"{names[i]} and {names[k]} with a coherence of {abs(answer.reader.together[i, k]) ** 2:.3g}"
        for i in range(len(names)) for k in range(i + 1, len(names)) if answer.reader.together[i, k] != 0
    ]  # fmt: skip
    if len(names) > 1:
        parts.append("; ".join(together) if together else "independent of each other")
    m = answer.meaning
    rare = f", exceeded {100 * exceeded(m.amount):.2g} % of the time" if m.kind == "times rms" else " (Davenport)"
    told = (
        f"peak: {m.words}{rare}; of magnitudes and equivalent stress, which are no Gaussians, the value that is "
        "exceeded as rarely"
    )
    beside = answer.duration is not None and m.kind != "expected largest"
    duration = [f"expected largest over {n(answer.duration)} s (Davenport)"] if beside else []  # type: ignore[arg-type]
    return [
        f"random vibration, {'; '.join(parts)}",
        told,
        *duration,
        *load_lines(answer.acting),
        *kept_lines(answer.reader.model.plain or answer.reduced),
    ]


def random_shares(answer: RandomResult) -> pd.DataFrame:
    """Share of every mode in the mean square of every reading, half of each cross term to either, in percent."""
    rows = []
    modes = answer.reader.model.modes
    told = [
        (r, int(answer.governing[k])) for k, r in enumerate(answer.reduced.readings) if answer.rms[k] > answer.noise[k]
    ]
    for (reading, _), look in zip(told, answer.reader.looks(told), strict=True):
        shares, rest = look.shares, look.rest
        for k in np.flatnonzero(np.abs(shares[:modes]) >= 0.005):
            f = answer.reduced.frequencies_hz[k]
            rows.append({"gauge": reading.gauge, "component": reading.component, "mode": k + 1, "frequency_hz": f,
                         "share_percent": 100.0 * shares[k]})  # fmt: skip
        rest += float(shares[modes:].sum())
        if abs(rest) >= 0.005:
            rows.append({"gauge": reading.gauge, "component": reading.component, "mode": 0, "frequency_hz": np.nan,
                         "share_percent": 100.0 * rest})  # fmt: skip
    return pd.DataFrame(rows, columns=["gauge", "component", "mode", "frequency_hz", "share_percent"])


def fatigue_table(answer: RandomResult) -> pd.DataFrame:
    """Cycles, the amplitude of as many equal cycles that damages as much, and damage where the line is known.

    By the narrow band and by Dirlik's ranges; of equivalent stress by the density of its quadratic form (Preumont &
    Piefort, J. Vib. Acoust. 116 (1994) 245-248).
    """
    line, duration = answer.fatigue, answer.duration
    if line is None or duration is None:
        return pd.DataFrame()
    rows = []
    for k, reading in enumerate(answer.reduced.readings):
        if not answer.rms[k] > answer.noise[k]:
            continue
        m, (unit, size) = answer.moments[k], display_unit(reading.dimension)
        cycles = float(np.sqrt(m[2] / m[0])) * duration
        narrow = narrow_band(float(m[0]), line.slope)
        wide, rate = dirlik(m, line.slope)
        wide *= rate * duration / cycles  # per cycle of the crossings
        row = {"gauge": reading.gauge, "component": reading.component, "unit": unit, "cycles": cycles,
               "narrow_band_amplitude": narrow ** (1 / line.slope) / size,
               "wide_band_amplitude": wide ** (1 / line.slope) / size}  # fmt: skip
        if line.amplitude is not None and line.cycles is not None and reading.dimension == "stress":
            whole = line.cycles * line.amplitude**line.slope
            row |= {"narrow_band_damage": cycles * narrow / whole, "wide_band_damage": cycles * wide / whole}
        rows.append({**row, "place": answer.places[k]})
    return pd.DataFrame(rows)


def frequencies_of(answer: RandomResult) -> Floats:
    """Frequencies for curves: gathered about every mode, with the rows of the densities."""
    densities = [s.density for s in answer.reader.sources]
    low, high = min(d.start[0] for d in densities), max(d.end[-1] for d in densities)
    corners = np.unique(np.concatenate([np.append(d.start, d.end[-1]) for d in densities]))
    centres, widths = answer.reader.model.vibration.resonances()
    return gathered_points(float(low), float(high), centres, widths, corners)


def _running(answer: RandomResult, number: int, f: Floats) -> Floats:
    """RMS up to each frequency; between two by Gauss's rule, the end being the exact whole."""
    reading, place = answer.reduced.readings[number], int(answer.governing[number])
    x, w = np.polynomial.legendre.leggauss(4)
    half = 0.5 * np.diff(f)
    at = (0.5 * (f[1:] + f[:-1]))[:, None] + half[:, None] * x
    values = answer.reader.density(reading, place, at.ravel()).reshape(at.shape)
    total = np.concatenate([[0.0], np.cumsum((values * w).sum(axis=1) * half)])
    return np.asarray(answer.rms[number] * np.sqrt(total / max(float(total[-1]), 1e-300)))


def densities_table(answer: RandomResult, numbers: list[int], at: Floats | None = None) -> pd.DataFrame:
    """Density of readings over frequency in display units squared per Hz, and their running RMS.

    Raises
    ------
    EventError
        A frequency of `at` outside the range of what acts.
    """
    f = frequencies_of(answer)
    rows: Any = slice(None)
    if at is not None:
        outside = (at < f[0] * (1 - 1e-9)) | (at > f[-1] * (1 + 1e-9))
        if outside.any():
            raise EventError(f"at: what acts reaches from {f[0]:.6g} to {f[-1]:.6g} Hz; "
                             f"{at[outside][0]:.6g} Hz lies outside")  # fmt: skip
        at = np.clip(at, f[0], f[-1])
        f = np.union1d(f, at)  # the running RMS needs those between as well
        rows = np.searchsorted(f, at)
    table: dict[str, Any] = {"frequency_hz": f[rows]}
    for number in numbers:
        reading = answer.reduced.readings[number]
        unit, size = display_unit(reading.dimension)
        values = answer.reader.density(reading, int(answer.governing[number]), f)
        table[f"{reading.label} ({unit}²/Hz)"] = values[rows] / size**2
        table[f"{reading.label}, running RMS ({unit})"] = _running(answer, number, f)[rows] / size
    return pd.DataFrame(table)


def covariance_table(answer: RandomResult, numbers: list[int]) -> pd.DataFrame:
    """Covariance of readings of one channel each, in display units.

    Raises
    ------
    EventError
        There is none among them.
    """
    readings = answer.reduced.readings
    own = [readings[k] for k in dict.fromkeys(numbers) if readings[k].form.signed and not readings[k].form.field]
    if not own:
        raise EventError("covariance: name gauges with a component that is one channel (x, y, z, along); magnitudes "
                         "and largest stresses have none")  # fmt: skip
    units = [display_unit(r.dimension) for r in own]
    sizes = np.array([size for _, size in units])
    names = [f"{r.label} ({unit})" for r, (unit, _) in zip(own, units, strict=True)]
    found = answer.reader.covariance(np.array([r.channels[0] for r in own])) / np.outer(sizes, sizes)
    return pd.DataFrame(0.5 * (found + found.T), index=names, columns=names)


def random_points(nodes: dict[str, int], displacement: Floats, acceleration: Floats) -> pd.DataFrame:
    """RMS of every named point: displacement relative to the frame in mm, absolute acceleration in g, by direction."""
    rows = []
    for k, (point, node) in enumerate(nodes.items()):
        u = 1e3 * displacement.reshape(-1, 6)[node, :3]
        a = acceleration[3 * k : 3 * k + 3] / STANDARD_GRAVITY
        rows.append({"point": point, **{f"{d}_rms_mm": u[i] for i, d in enumerate("xyz")},
                     **{f"acceleration_{d}_rms_g": a[i] for i, d in enumerate("xyz")}})  # fmt: skip
    return pd.DataFrame(rows)


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
        running = 100.0 * _running(answer, number, f) / answer.rms[number]
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
