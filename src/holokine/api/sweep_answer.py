"""Answers to sine sweeps."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.api.answer import MovingAnswer, Writer
from holokine.errors import EventError, UnknownNameError, nearest_hint, whole_number
from holokine.respond.sweep import SweepResult
from holokine.whole import whole_csv

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.deformed import Deformed
    from holokine.respond.meaning import Meaning
    from holokine.respond.sweep_field import FieldSweep

__all__ = ["SweepAnswer"]


class SweepAnswer(MovingAnswer[SweepResult]):
    """Amplitude and phase of every gauge over frequency, peaks, transfer functions, whole fields and envelopes."""

    extras = frozenset({"film", "instant", "axes"})
    peak_word = "Largest over the sweep"

    @property
    def shown(self) -> Meaning:
        """As the event says: peaks, RMS, or peak to peak."""
        return self.result.shown

    def peaks(self) -> pd.DataFrame:
        """Largest amplitude of every gauge in display units: frequency, phase, bandwidth, modes that make it."""
        from holokine.show.sweep_tables import sweep_peaks

        return sweep_peaks(self.result)

    def lines(self) -> list[str]:
        """What swings, modes kept and mass held: what to read before the peaks."""
        from holokine.show.sweep_tables import sweep_lines

        return sweep_lines(self.result)

    def critical(self) -> pd.DataFrame:
        """Modes in the sweep with their damping as it couples them, and which gauges are largest there."""
        from holokine.show.sweep_tables import critical_table

        return critical_table(self.result)

    def resonances(self, gauge: str | None = None) -> pd.DataFrame:
        """Peaks and anti-resonances of all gauges (or of one), half-power frequencies, bandwidth, amplification.

        Raises
        ------
        UnknownNameError
        """
        from holokine.show.sweep_tables import resonances_table

        table = resonances_table(self.result)
        if gauge is None:
            return table
        labels = {self.result.reduced.readings[k].label for k in self._numbers(gauge)}
        own = (table["gauge"] + " " + table["component"]).str.strip().isin(labels)
        return table[own].reset_index(drop=True)

    def curve(self, gauge: str, *, thin: int = 1) -> pd.DataFrame:
        """A gauge over frequency: largest over the cycle, phase, real and imaginary part, in display units.

        Raises
        ------
        UnknownNameError
        """
        from holokine.show.sweep_tables import curves_table

        return curves_table(self.result, self._numbers(gauge), whole_number("thin", thin))

    def curves(self, *, most: int = 20_000) -> pd.DataFrame:
        """All gauges over frequency, every n-th point so that at most about `most` remain."""
        from holokine.show.sweep_tables import curves_table

        thin = max(1, len(self.result.frequency_hz) // whole_number("most", most))
        return curves_table(self.result, list(range(len(self.result.reduced.readings))), thin)

    def transfer(self, gauge: str, *, to: str) -> pd.DataFrame:
        """A gauge per unit of one source, over the sweep's frequencies: amplitude, phase, real and imaginary part.

        Parameters
        ----------
        to : str
            x, y or z: the base, or a group of supports with its direction, such as `left z` (transmissibility: of a
            motion per the same motion of it; of a force per m/s²); or a load of the event by force or moment:
            receptance (displacement), mobility (velocity) or inertance (acceleration) per N or N m, a plain ratio of
            forces.

        Raises
        ------
        UnknownNameError, EventError
            No such gauge, no such source, or a load that is neither force nor moment.
        """
        from holokine.show.sweep_tables import transfer_table

        frequencies, values, labels, unit = self._transfer(gauge, to)
        return transfer_table(frequencies, values, labels, unit)

    def _transfer(self, gauge: str, to: str) -> tuple[NDArray[Any], NDArray[Any], list[str], str]:
        r = self.result
        moving = ("x", "y", "z", *(r.reduced.loads[k] for k in r.reduced.apart))
        sources = [s for s in r.reduced.loads if s in moving or s in self.assembly.description.loads]
        if to not in sources:
            raise UnknownNameError(f'there is no source "{to}". {nearest_hint(to, sources, "sources of this sweep")}')
        f = r.frequency_hz
        load = np.zeros((len(f), len(r.reduced.loads)), dtype=complex)
        load[:, r.reduced.column(to)] = 1.0
        motion = r.reader.motion(f, load)
        readings = [r.reduced.readings[k] for k in self._numbers(gauge)]
        singles = [x for x in readings if x.width == 1 and x.count == 1]
        if not singles:
            raise EventError(f'"{gauge}": a transfer function is of a component, not of a magnitude or a stress field')
        values = np.column_stack([r.reader.rows(motion, np.array([x.channels[0]]))[:, 0] for x in singles])
        unit = {"displacement": "m", "angle": "rad", "velocity": "m/s", "acceleration": "m/s2", "force": "N",
                "moment": "Nm", "stress": "Pa"}[singles[0].dimension]  # fmt: skip
        if to in moving:
            order = {"displacement": 2, "velocity": 1, "acceleration": 0}.get(singles[0].dimension)
            if order is None:
                return f, values, [x.label for x in singles], f"{unit} per m/s2"
            return f, values * (2j * np.pi * f[:, None]) ** order, [x.label for x in singles], ""
        source = self.assembly.description.loads[to]
        vector = source.force if source.force is not None else source.moment
        if vector is None:
            raise EventError(
                f'"{to}" is a load by {source.kind}: transfer functions are to a force or moment, or the base'
            )
        per = "N" if source.force is not None else "Nm"
        return f, values / float(np.linalg.norm(vector)), [x.label for x in singles], f"{unit} per {per}"

    def shares(self) -> pd.DataFrame:
        """Share of every mode in every reading at its peak, in percent; negative where it works against the whole."""
        from holokine.show.sweep_tables import shares_at_peaks_table

        return shares_at_peaks_table(self.result)

    def full(self) -> pd.DataFrame:
        """The whole model against its modes, at the frequencies of `full model at`.

        Raises
        ------
        EventError
            When the event asks for none.
        """
        from holokine.show.sweep_tables import full_table

        if self.result.full is None:
            raise EventError("the event does not ask for the whole model: give full model at, a list of frequencies")
        return full_table(self.result, self.result.full)

    @cached_property
    def motion(self) -> FieldSweep:
        """Whole fields: shapes at a frequency and phase, envelopes over the sweep."""
        from holokine.respond.sweep_field import FieldSweep

        return FieldSweep(self.result, self.modes.set)

    def _frequency(self, at: float | str | None) -> tuple[float, float | None]:
        """A frequency in Hz and a phase in rad from ``45 Hz``, ``45 Hz, 90 deg`` or a number."""
        from holokine.units import argument_of, quantity

        if at is None:
            if not len(self.result.peak_frequencies):
                raise EventError("no gauge tells which frequency is meant: give one, such as at='45 Hz'")
            return float(self.result.peak_frequencies[0]), None
        words = str(at).replace(",", " ").split()
        turn: float | None = None
        if isinstance(at, str) and words[-1].rstrip("0123456789.+-") in ("deg", "°", "rad") and len(words) > 2:
            turn = quantity(" ".join(words[-2:]), "angle")
            at = " ".join(words[:-2])
        f = argument_of("at", at, "frequency")
        low, high = float(self.result.frequency_hz.min()), float(self.result.frequency_hz.max())
        if not low * (1 - 1e-9) <= f <= high * (1 + 1e-9):
            raise EventError(f"the sweep runs from {low:.6g} to {high:.6g} Hz; {f:g} Hz lies outside")
        return f, turn

    def deformed(self, at: float | str | None = None, *, phase: float | str | None = None) -> Deformed:
        """The assembly at an instant of steady vibration: shape, stress, member forces.

        Parameters
        ----------
        at : float or str, optional
            Frequency, with a phase where wanted: ``"45 Hz"``, ``"45 Hz, 90 deg"``. Without: the first gauge's peak.
        phase : float or str, optional
            Of what acts at that instant. Without: when the largest displacement of all is reached.

        Raises
        ------
        EventError, UnitError
            A frequency outside the sweep.
        """
        from holokine.api.deformed import Deformed
        from holokine.units import argument_of

        f, turn = self._frequency(at)
        if phase is not None:
            turn = argument_of("phase", phase, "angle")
        amplitude = self.motion.amplitude(f)
        if turn is None:
            turn = _largest_instant(amplitude)
        field = np.real(amplitude * np.exp(1j * turn))
        return Deformed(self.system, field, self.name, when=f"at {f:.5g} Hz, {np.degrees(turn):.0f} deg")

    def points(self) -> pd.DataFrame:
        """Largest amplitudes of every named point, with frequencies: displacement in mm, absolute acceleration in g."""
        from holokine.show.sweep_tables import points_reach_table

        return points_reach_table(*self._points_reach(), self.result.shown.per_peak)

    def members(self) -> pd.DataFrame:
        """Largest amplitudes of the section forces at both ends of every beam element, with frequencies; N and N m."""
        from holokine.show.sweep_tables import members_reach_table

        return members_reach_table(*self.motion.members(), self.result.shown.per_peak)

    _when = ("frequency_hz", 1.0)

    @cached_property
    def _largest(self) -> NDArray[Any]:
        return self.motion.envelope().amplitude

    def animate(
        self,
        path: str | Path,
        gauge: str | None = None,
        *,
        at: float | str | None = None,
        window: Any = None,
        seconds: float = 3.0,
        rate: int = 20,
        share: float = 0.08,
        pixels: tuple[int, int] = (1280, 800),
    ) -> Path:
        """Film of one cycle of steady vibration, so that phases are seen (GIF or MP4).

        Parameters
        ----------
        gauge : str, optional
            At whose peak; the first gauge when neither this nor `at` is given.
        at : float or str, optional
            Frequency, in place of a gauge's peak.
        seconds, rate : float, int
            How long the cycle plays, and pictures per second.
        share : float
            Largest displacement drawn, as a share of the assembly's diagonal.
        pixels : tuple of int
            Width and height; both even.

        Raises
        ------
        EventError, HolokineError
            A frequency outside the sweep, a time window, another ending, or imageio is not installed.
        """
        from holokine.show.sweep_figures import animate_cycle

        if window is not None:
            raise EventError("steady vibration has no time window: its film is one cycle")
        if gauge is not None and at is None:
            at = float(self.result.peak_frequencies[self._numbers(gauge)[0]])
        f, _ = self._frequency(at)
        animate_cycle(self.system, self.motion.amplitude(f), f"{self.name} at {f:.5g} Hz", Path(path), seconds, rate,
                      share, pixels)  # fmt: skip
        return Path(path)

    def page(self, path: str | Path) -> Path:
        """One HTML file with all curves: choose gauges, read amplitude and phase under the cursor, zoom.

        Raises
        ------
        HolokineError
        """
        from holokine.show.histories import write_sweep_page

        write_sweep_page(self.result, Path(path), self.assembly.title)
        return Path(path)

    def plot(
        self,
        gauge: str | None = None,
        *,
        others: Mapping[str, SweepAnswer] | None = None,
        logarithmic: tuple[bool, bool] = (True, True),
    ) -> Any:
        """Amplitude over phase on one frequency axis, of the main gauges or of one; returns the Figure.

        Parameters
        ----------
        others : mapping of str to SweepAnswer, optional
            More sweeps in the same figure, with what to call them (variants, other damping).
        logarithmic : tuple of bool
            Of the frequency axis, and of amplitudes.

        Raises
        ------
        EventError
            Another kind of answer among `others`.
        """
        from holokine.show.sweep_figures import plot_sweep

        for label, other in (others or {}).items():
            if not isinstance(other, SweepAnswer):
                raise EventError(f'"{label}" is one of {other.event.words}; a figure of sweeps takes sweeps')
        chosen = None if gauge is None else self._numbers(gauge)
        more = {label: other.result for label, other in (others or {}).items()}
        return plot_sweep(self.result, chosen, () if chosen else self._checks(), more, logarithmic)

    def plot_circle(self, gauge: str | None = None, *, near: float | str | None = None) -> Any:
        """Real against imaginary part of single components, on which a resonance is a circle; returns the Figure.

        Parameters
        ----------
        near : float or str, optional
            A frequency; only what lies within a few bandwidths of the peak next to it is drawn.
        """
        from holokine.show.sweep_figures import plot_circle

        numbers = None if gauge is None else self._numbers(gauge)
        f = None if near is None else self._frequency(near)[0]
        return plot_circle(self.result, numbers, f)

    def tables(self) -> dict[str, pd.DataFrame]:
        """Peaks, limits, critical frequencies, resonances, shares of modes, curves."""
        more = {"critical": self.critical(), "resonances": self.resonances(), "shares": self.shares(),
                "curves": self.curves()}  # fmt: skip
        if self.result.full is not None:
            more["whole_model"] = self.full()
        return {**super().tables(), **more, **self.transfers()}

    def transfers(self) -> dict[str, pd.DataFrame]:
        """Transfer functions of all motions to each direction of the base and each force that swings, by name."""
        r = self.result
        loads = self.assembly.description.loads
        found = {}
        for source in dict.fromkeys(r.reader.excitation.columns):
            if source not in ("x", "y", "z") and r.reduced.column(source) not in r.reduced.apart:
                load = loads.get(source)
                if load is None or (load.force is None and load.moment is None):
                    continue
            moving = [x.gauge for x in r.reduced.readings
                      if x.dimension in ("displacement", "velocity", "acceleration") and x.width == 1]  # fmt: skip
            each = [self.transfer(gauge, to=source) for gauge in dict.fromkeys(moving)]
            if each:
                table = each[0]
                for other in each[1:]:
                    table = table.join(other.drop(columns="frequency_hz"))
                found[f"transfer_to_{source}".replace(" ", "_")] = table
        return found

    def screens(self) -> list[tuple[str, pd.DataFrame]]:
        """Peaks, then the modes in the sweep."""
        found = super().screens()
        hidden = ("bandwidth_hz", "static", "ratio_to_static", "correction_percent")
        title, peaks = found[0]
        peaks = peaks.drop(columns=[c for c in hidden if c in peaks]).rename(columns={"amplification": "Q"})
        if "mode_shares" in peaks:
            peaks["mode_shares"] = peaks["mode_shares"].fillna("").str.split(", ").str[0]
            peaks = peaks.rename(columns={"mode_shares": "most_by_mode"})
        own = [(title, peaks), *found[1:]]
        critical = self.critical()
        if len(critical):
            own.append(("Modes in the sweep, and gauges that are largest there", critical))
        if self.result.full is not None:
            own.append(("The whole model against its modes", self.full()))
        return own

    def figures(self) -> dict[str, Callable[[], Any]]:
        """Amplitude and phase, and circles."""
        if not self.result.reduced.readings:
            return {}
        return {**super().figures(), "_circle": self.plot_circle}

    def files(self, look: Mapping[str, Any] | None = None) -> dict[str, Writer]:
        """Envelopes as a mesh, pictures and tables, and the page of curves."""
        page: dict[str, Writer] = {"_curves.html": self.page} if self.result.reduced.readings else {}
        return {**super().files(look), "_points.csv": lambda path: whole_csv(self.points(), path),
                "_members.csv": lambda path: whole_csv(self.members(), path), **page}  # fmt: skip


def _largest_instant(amplitude: NDArray[Any]) -> float:
    """Phase in rad at which the node that moves most is farthest out."""
    u = amplitude.reshape(-1, 6)[:, :3]
    square = (u**2).sum(axis=1)
    reach = ((np.abs(u) ** 2).sum(axis=1) + np.abs(square)) / 2.0
    return float(-0.5 * np.angle(square[int(reach.argmax())]))
