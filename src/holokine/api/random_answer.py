"""Answers to random vibration."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.api.answer import Answer, Writer
from holokine.respond.meaning import Meaning
from holokine.respond.random import RandomResult
from holokine.whole import whole_csv

if TYPE_CHECKING:
    import pandas as pd

    from holokine.respond.random_field import RandomField

__all__ = ["RandomAnswer"]

MOST_DENSITIES = 24


class RandomAnswer(Answer[RandomResult]):
    """RMS of every gauge, rates, densities, shares of modes, fatigue, and whole fields of RMS."""

    peak_word = "RMS"

    @property
    def shown(self) -> Meaning:
        """Whole fields are RMS."""
        return Meaning("rms")

    def peaks(self) -> pd.DataFrame:
        """RMS of every gauge in display units, the peak told (a number of RMS, or as rarely exceeded), mean rate of
        zero crossings, expected largest over the duration, and the estimate by the main mode alone."""
        from holokine.show.random_tables import random_peaks

        return random_peaks(self.result)

    def lines(self) -> list[str]:
        """What acts with its overall RMS, what the peak is, modes kept: what to read before the table."""
        from holokine.show.random_tables import random_lines

        lines = random_lines(self.result)
        main = self._main
        if len(main) > MOST_DENSITIES:
            lines.append(f"the table of densities has {MOST_DENSITIES} of {len(main)} gauges; density(...) tells any")
        return lines

    @property
    def _main(self) -> list[int]:
        from holokine.show.figures import main_readings

        return [k for k in main_readings(self.result) if np.isfinite(self.result.rms[k])]  # type: ignore[arg-type]

    def sources(self) -> pd.DataFrame:
        """What acts: range of each density, its overall RMS, and the one stated."""
        from holokine.show.random_tables import sources_table

        return sources_table(self.result)

    def density(self, gauge: str, *, at: float | str | Iterable[float | str] | None = None) -> pd.DataFrame:
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
        from holokine.show.random_tables import densities_table
        from holokine.units import argument_of

        known = [k for k in self._numbers(gauge) if np.isfinite(self.result.rms[k])]
        if at is None:
            return densities_table(self.result, known)
        wanted = [at] if isinstance(at, str | float | int) else at
        return densities_table(self.result, known, np.array([argument_of("at", f, "frequency") for f in wanted]))

    def covariance(self, *gauges: str) -> pd.DataFrame:
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
        from holokine.show.random_tables import covariance_table

        return covariance_table(self.result, [k for gauge in gauges for k in self._numbers(gauge)])

    def shares(self) -> pd.DataFrame:
        """Share of every mode in the mean square of every reading in percent, cross terms halved between two.

        Mode 0: what acts besides (base and left-out modes). Negative where a mode takes away.
        """
        from holokine.show.random_tables import random_shares

        return random_shares(self.result)

    def fatigue(self) -> pd.DataFrame:
        """Cycles and damage-equivalent amplitudes by the narrow band and by Dirlik, and damage; empty where the event
        has no line of fatigue."""
        from holokine.show.random_tables import fatigue_table

        return fatigue_table(self.result)

    @cached_property
    def field(self) -> RandomField:
        """Whole fields of RMS."""
        from holokine.respond.random_field import RandomField

        return RandomField(self.result, self.modes.set)

    def points(self) -> pd.DataFrame:
        """RMS of every named point: displacement relative to the frame in mm, absolute acceleration in g."""
        from holokine.show.random_tables import random_points

        nodes = self.system.moving_points()
        dofs = (6 * np.array(list(nodes.values()), dtype=np.int64)[:, None] + np.arange(3)).ravel()
        return random_points(nodes, self._largest, self.field.acceleration(dofs))

    def _can_tell(self, reading: int) -> bool:
        return bool(np.isfinite(self.result.peaks[reading]))

    @cached_property
    def _stress(self) -> Any:
        return self.field.stress()

    @cached_property
    def _largest(self) -> NDArray[Any]:
        return self.field.displacement()

    def plot(self, gauge: str | None = None) -> Any:
        """Densities of what acts and of gauges, with the running RMS below; returns the Figure."""
        from holokine.show.random_tables import plot_random

        numbers = None if gauge is None else self._numbers(gauge)
        return plot_random(self.result, numbers, self._checks())

    def tables(self) -> dict[str, pd.DataFrame]:
        """RMS, limits, what acts, shares of modes, fatigue, densities of the main readings (24 at most; `lines`
        says so, and `density` has any)."""
        from holokine.show.random_tables import densities_table

        main = self._main
        more = {"sources": self.sources(), "shares": self.shares(), "fatigue": self.fatigue(),
                "densities": densities_table(self.result, main[:MOST_DENSITIES])}  # fmt: skip
        return {**super().tables(), **{k: t for k, t in more.items() if len(t)}}

    def screens(self) -> list[tuple[str, pd.DataFrame]]:
        """RMS and peaks, limits, fatigue."""
        fatigue = self.fatigue()
        return [*super().screens(), *([("Fatigue", fatigue)] if len(fatigue) else [])]

    def files(self, look: Mapping[str, Any] | None = None) -> dict[str, Writer]:
        """RMS fields as a mesh and pictures, and a table of points."""
        more: dict[str, Writer] = {"_points.csv": lambda path: whole_csv(self.points(), path)}
        return {**super().files(look), **more}

    def figures(self) -> dict[str, Callable[[], Any]]:
        """Densities with the running RMS; none without gauges."""
        return {"": self.plot} if self.result.reduced.readings else {}
