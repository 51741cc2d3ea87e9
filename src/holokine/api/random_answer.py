"""Answers to random vibration."""

from __future__ import annotations

from collections.abc import Iterable
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.api.answer import Answer
from holokine.api.result import figure, table
from holokine.errors import EventError
from holokine.respond.meaning import Meaning
from holokine.respond.random import RandomResult, dirlik, exceeded, narrow_band
from holokine.show.numbers import display_unit, gauge_column
from holokine.show.numbers import number_text as n
from holokine.show.tables import peaks_table
from holokine.show.text import kept_lines, load_lines
from holokine.units import STANDARD_GRAVITY, argument_of

if TYPE_CHECKING:
    import pandas as pd

    from holokine.respond.random_field import RandomField

__all__ = ["RandomAnswer"]

MOST_DENSITIES = 24


class RandomAnswer(Answer[RandomResult]):
    """RMS of every gauge, rates, densities, shares of modes, fatigue, and whole fields of RMS."""

    @property
    def shown(self) -> Meaning:
        """Whole fields are RMS."""
        return Meaning("rms")

    @property
    def lines(self) -> list[str]:
        """What acts with its overall RMS, what the peak is, modes kept: what to read before the table."""
        lines, main = _random_lines(self.result), self._main
        if len(main) > MOST_DENSITIES:
            told = 'table("density", ...) tells any'
            lines.append(f"the table of densities has {MOST_DENSITIES} of {len(main)} gauges; {told}")
        return lines

    @property
    def _main(self) -> list[int]:
        from holokine.show.figures import main_readings

        return [k for k in main_readings(self.result) if np.isfinite(self.result.rms[k])]  # type: ignore[arg-type]

    def _can_tell(self, reading: int) -> bool:
        return bool(np.isfinite(self.result.peaks[reading]))

    @property
    def _telling(self) -> list[int]:
        """Readings that are more than rounding."""
        return [k for k in range(len(self.result.rms)) if self.result.rms[k] > self.result.noise[k]]

    @table("peaks", "RMS")
    def _peaks(self) -> pd.DataFrame:
        """RMS of every gauge in display units, the peak told (a number of RMS, or as rarely exceeded), mean rate of
        zero crossings, expected largest over the duration, and the estimate by the main mode alone."""
        answer = self.result
        largest = answer.expected_largest

        def more(number: int, size: float) -> dict[str, object]:
            row: dict[str, object] = {
                "peak": answer.peaks[number] / size, "crossings_hz": answer.crossings_hz[number],
            }  # fmt: skip
            if answer.duration is not None and answer.meaning.kind != "expected largest":
                row["expected_largest"] = largest[number] / size
            most = f"{answer.main_mode[number] + 1} ({100 * answer.main_share[number]:.0f} %)"
            return row | {"one_mode_rms": answer.one_mode[number] / size, "most_by_mode": most,
                          "place": answer.places[number]}  # fmt: skip

        return peaks_table(answer, "rms", more, lambda k: not np.isfinite(answer.rms[k]), answer.rms)

    @table("sources")
    def _sources_table(self) -> pd.DataFrame:
        """What acts: range of each density, its overall RMS, and the one stated."""
        return _sources(self.result)

    @table("shares")
    def _shares(self) -> pd.DataFrame:
        """Share of every mode in the mean square of every reading in percent, cross terms halved between two.

        Mode 0: what acts besides (base and left-out modes). Negative where a mode takes away.
        """
        import pandas as pd

        answer, rows = self.result, []
        modes, readings = answer.reader.model.modes, answer.reduced.readings
        told = [(readings[k], int(answer.governing[k])) for k in self._telling]
        for (reading, _), look in zip(told, answer.reader.looks(told), strict=True):
            own = [(k + 1, answer.reduced.frequencies_hz[k], look.shares[k]) for k in range(modes)]
            own.append((0, np.nan, look.rest + float(look.shares[modes:].sum())))
            rows += [(reading.gauge, reading.component, mode, f, 100.0 * share) for mode, f, share in own
                     if abs(share) >= 0.005]  # fmt: skip
        return pd.DataFrame(rows, columns=["gauge", "component", "mode", "frequency_hz", "share_percent"])

    @table("fatigue", "Fatigue", when=lambda self: self.result.fatigue is not None and self.result.duration is not None)
    def _fatigue(self) -> pd.DataFrame:
        """Cycles, the amplitude of as many equal cycles that damages as much, and damage where the line is known.

        By the narrow band and by Dirlik's ranges; of equivalent stress by the density of its quadratic form (Preumont &
        Piefort, J. Vib. Acoust. 116 (1994) 245-248).
        """
        import pandas as pd

        answer, rows = self.result, []
        line, duration = answer.fatigue, answer.duration
        assert line is not None
        assert duration is not None
        for k in self._telling:
            reading, m = answer.reduced.readings[k], answer.moments[k]
            unit, size = display_unit(reading.dimension)
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

    @table("densities")
    def _densities(self) -> pd.DataFrame:
        """Densities of the main readings over frequency (24 at most; `density` has any), with their running RMS."""
        return self._over_frequency(self._main[:MOST_DENSITIES])

    @table("density", listed=False)
    def _density(self, gauge: str, *, at: float | str | Iterable[float | str] | None = None) -> pd.DataFrame:
        """Density of a gauge over frequency (all its components), and its running RMS, in display units.

        Parameters
        ----------
        at : float, str or several of them, optional
            Frequencies in Hz; by default gathered about every mode.

        Raises
        ------
        UnknownNameError
            No such gauge.
        EventError
            A frequency outside the range of what acts.
        """
        known = [k for k in self.rows_of(gauge) if np.isfinite(self.result.rms[k])]
        if at is None:
            return self._over_frequency(known)
        wanted = [at] if isinstance(at, str | float | int) else at
        return self._over_frequency(known, np.array([argument_of("at", f, "frequency") for f in wanted]))

    def _over_frequency(self, numbers: list[int], at: NDArray[Any] | None = None) -> pd.DataFrame:
        import pandas as pd

        from holokine.show.random_figures import frequencies_of, running_rms

        answer = self.result
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
        found: dict[str, Any] = {"frequency_hz": f[rows]}
        for number in numbers:
            reading = answer.reduced.readings[number]
            unit, size = display_unit(reading.dimension)
            values = answer.reader.density(reading, int(answer.governing[number]), f)
            found[gauge_column(f"{reading.label} density", f"{unit}²/Hz")] = values[rows] / size**2
            found[gauge_column(f"{reading.label} running RMS", unit)] = running_rms(answer, number, f)[rows] / size
        return pd.DataFrame(found)

    @table("covariance", listed=False)
    def _covariance(self, *gauges: str) -> pd.DataFrame:
        """Covariance of components of gauges in display units, a square table with a row and a column for each.

        Magnitudes, stresses combined of components and largest ones of many places are left out. With weights ``w`` the
        RMS of a sum of the rest is ``(w @ table @ w) ** 0.5``; the diagonal holds the mean squares.

        Parameters
        ----------
        *gauges : str
            Gauges or single components of them (``"fan z"``).

        Raises
        ------
        UnknownNameError
            No such gauge.
        EventError
            None of them has a component that is one channel.
        """
        import pandas as pd

        numbers, readings = [k for gauge in gauges for k in self.rows_of(gauge)], self.result.reduced.readings
        own = [readings[k] for k in dict.fromkeys(numbers) if readings[k].form.signed and not readings[k].form.field]
        if not own:
            raise EventError("covariance: name gauges with a component that is one channel (x, y, z, along); "
                             "magnitudes and largest stresses have none")  # fmt: skip
        units = [display_unit(r.dimension) for r in own]
        sizes = np.array([size for _, size in units])
        names = [gauge_column(r.label, unit) for r, (unit, _) in zip(own, units, strict=True)]
        found = self.result.reader.covariance(np.array([r.channels[0] for r in own])) / np.outer(sizes, sizes)
        return pd.DataFrame(0.5 * (found + found.T), index=names, columns=names)

    @cached_property
    def field(self) -> RandomField:
        """Whole fields of RMS."""
        from holokine.respond.random_field import RandomField

        return RandomField(self.result, self.modes.set)

    @table("points", "Named points", listed=False)
    def _points(self) -> pd.DataFrame:
        """RMS of every named point by direction: displacement relative to the frame in mm, absolute acceleration in
        g."""
        import pandas as pd

        nodes, dofs = self._main_points
        moved = 1e3 * self._largest.reshape(-1, 6)[list(nodes.values()), :3]
        pushed = self.field.acceleration(dofs).reshape(-1, 3) / STANDARD_GRAVITY
        found: dict[str, object] = {"point": list(nodes)}
        found |= {f"{a}_rms_mm": moved[:, d] for d, a in enumerate("xyz")}
        return pd.DataFrame(found | {f"acceleration_{a}_rms_g": pushed[:, d] for d, a in enumerate("xyz")})

    @cached_property
    def _stress(self) -> Any:
        return self.field.stress()

    @cached_property
    def _largest(self) -> NDArray[Any]:
        return self.field.displacement()

    @figure("densities", when=lambda self: bool(self.result.reduced.readings))
    def _densities_drawn(self, gauge: str | None = None) -> Any:
        """Densities of what acts and of gauges, with the running RMS below."""
        from holokine.show.random_figures import plot_random

        return plot_random(self.result, None if gauge is None else self.rows_of(gauge), self._checks())


def _sources(answer: RandomResult) -> pd.DataFrame:
    import pandas as pd

    rows = []
    for s in answer.reader.sources:
        size, unit = (1.0, "factor") if s.acts == "load" else (STANDARD_GRAVITY, "g")
        rows.append({
            "source": s.words, "from_hz": s.density.start[0], "to_hz": s.density.end[-1], "rms": s.density.rms / size,
            "unit": unit, "stated_rms": np.nan if s.stated is None else s.stated / size,
            "rows": len(s.density.start) + 1,
        })  # fmt: skip
    return pd.DataFrame(rows)


def _random_lines(answer: RandomResult) -> list[str]:
    """What acts, what the peak is, and what it is answered with."""
    parts = []
    for row in _sources(answer).to_dict("records"):
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
