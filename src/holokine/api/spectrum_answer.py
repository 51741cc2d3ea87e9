"""Answers to response spectra."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.api.answer import Answer, Writer, short_peaks
from holokine.respond.combine import SpectrumResult
from holokine.whole import whole_csv

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["SpectrumAnswer"]


class SpectrumAnswer(Answer[SpectrumResult]):
    """Combined peaks of every gauge, what each mode has in them, and combined whole fields."""

    extras = frozenset({"signed", "rules"})

    def peaks(self, *, signed: bool = False) -> pd.DataFrame:
        """Combined peak of every gauge in display units.

        `signed`: with the sign of the mode that dominates each, for values that could act together.
        """
        from holokine.show.spectrum_tables import spectrum_peaks

        table = spectrum_peaks(self.result)
        if signed:
            table["peak"] = table["peak"] * self.result.signs()
        return table

    def signed_peaks(self) -> pd.DataFrame:
        """Peaks with the sign of the mode that dominates each, for values that could act together."""
        return self.peaks(signed=True)

    def lines(self) -> list[str]:
        """Event, modes kept and mass held: what to read before the peaks."""
        from holokine.show.spectrum_tables import spectrum_lines

        return spectrum_lines(self.result)

    def shares(self, gauge: str | None = None) -> pd.DataFrame:
        """Share of every mode in the square of each gauge (or of one), in percent."""
        from holokine.show.spectrum_tables import shares_table

        readings = range(len(self.result.reduced.readings))
        return shares_table(self.result, list(readings) if gauge is None else self._numbers(gauge))

    def rules(self) -> pd.DataFrame:
        """Peak of every reading by every rule of combination side by side, the event's own first, in display units.

        `spread_percent` says by how much the largest lies above the smallest.
        """
        from holokine.show.spectrum_tables import rules_table

        return rules_table(self.result)

    def rule_tables(self) -> dict[str, pd.DataFrame]:
        """All rules side by side, and the correlation of the modes where the event's rule has one."""
        return {"rules": self.rules(), **({} if (table := self.correlation()).empty else {"correlation": table})}

    def correlation(self) -> pd.DataFrame:
        """Correlation of every two modes under the event's rule (a row and a column each); empty where it has none."""
        from holokine.show.spectrum_tables import correlation_table

        return correlation_table(self.result)

    def missing_mass(self) -> pd.DataFrame:
        """By direction (or group of supports): free mass, what the modes hold and leave out in kg, and with what
        acceleration that answers."""
        from holokine.show.spectrum_tables import missing_mass_table

        return missing_mass_table(self.result)

    def main_modes(self, share: float = 0.95) -> pd.DataFrame:
        """The fewest modes that make up a share of the square of each reading, largest first."""
        from holokine.show.spectrum_tables import main_modes_table

        return main_modes_table(self.result, share)

    def points(self) -> pd.DataFrame:
        """Combined largest motion of every named point: displacement relative to the frame in mm, rotation in mrad,
        absolute acceleration in g, by direction."""
        from holokine.respond.whole import spectrum_acceleration
        from holokine.show.spectrum_tables import spectrum_points

        nodes = self.system.moving_points()
        dofs = (6 * np.array(list(nodes.values()), dtype=np.int64)[:, None] + np.arange(3)).ravel()
        pushed = spectrum_acceleration(self.result, self.modes.set, dofs)
        return spectrum_points(nodes, self._largest, pushed)

    def members(self) -> pd.DataFrame:
        """Combined largest section forces at both ends of every beam element, in its axes, without sign; N and N m.

        Each is combined for itself: they need not occur together.
        """
        from holokine.respond.whole import spectrum_members
        from holokine.show.static_tables import section_table

        return section_table(*spectrum_members(self.result, self.modes.set))

    @cached_property
    def _stress(self) -> Any:
        from holokine.respond.whole import spectrum_stress

        return spectrum_stress(self.result, self.modes.set)

    @cached_property
    def _largest(self) -> NDArray[Any]:
        from holokine.respond.whole import spectrum_displacement

        return np.asarray(spectrum_displacement(self.result, self.modes.set))

    def plot(self, gauge: str | None = None) -> Any:
        """The spectra with the modes on them, or with a gauge the share of each mode in it; returns the Figure."""
        from holokine.show.figures import plot_shares, plot_spectrum

        return plot_spectrum(self.result) if gauge is None else plot_shares(self.result, self._numbers(gauge))

    def plot_shares(self) -> Any:
        """Share of each mode in every gauge as stacked bars; returns the Figure."""
        from holokine.show.figures import plot_shares

        return plot_shares(self.result, checks=self._checks())

    def plot_tripartite(self) -> Any:
        """The spectra on four-way paper; returns the Figure."""
        from holokine.show.figures import plot_tripartite

        return plot_tripartite(self.result)

    def tables(self) -> dict[str, pd.DataFrame]:
        """Peaks, limits, modes, shares, the modes that matter most, and the missing mass."""
        from holokine.show.spectrum_tables import spectral_table

        more = {"modes": spectral_table(self.result), "shares": self.shares(), "main_modes": self.main_modes(),
                "missing_mass": self.missing_mass()}  # fmt: skip
        return {**super().tables(), **more}

    def screens(self, *, signed: bool = False, rules: bool = False) -> list[tuple[str, pd.DataFrame]]:
        """Peaks, the modes that matter most in each, and limits; on request the peaks by all rules."""
        from holokine.show.spectrum_tables import shares_in_words

        words = ("Modes that matter most: share in the square of each peak", shares_in_words(self.shares()))
        first, *limits = super().screens()
        peaks = (first[0], short_peaks(self.peaks(signed=True))) if signed else first
        own: list[tuple[str, pd.DataFrame]] = []
        if rules:
            own = [("Peaks by every rule, this event's first", self.rules()), ("Missing mass", self.missing_mass())]
        return [peaks, *own, words, *limits]

    def files(self, look: Mapping[str, Any] | None = None) -> dict[str, Writer]:
        """Largest fields as a mesh and pictures, and tables of points and members."""
        more: dict[str, Writer] = {"_points.csv": lambda path: whole_csv(self.points(), path)}
        more["_members.csv"] = lambda path: whole_csv(self.members(), path)
        return {**super().files(look), **more}

    def figures(self) -> dict[str, Callable[[], Any]]:
        """The spectra, the shares of the modes, and four-way paper."""
        shares = {"_shares": self.plot_shares} if self.result.reduced.readings else {}
        return {**super().figures(), **shares, "_four_way": self.plot_tripartite}
