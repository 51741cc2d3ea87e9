"""Answers in time."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.api.answer import MovingAnswer, Writer
from holokine.errors import EventError, UnknownNameError, nearest_hint, whole_number
from holokine.respond.transient import TimeResult
from holokine.whole import whole_csv

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.deformed import Deformed
    from holokine.api.shock import Shock
    from holokine.respond.motion import FieldMotion

__all__ = ["TimeAnswer"]


class TimeAnswer(MovingAnswer[TimeResult]):
    """Peaks and histories of every gauge, and whole fields at any instant and as envelopes."""

    extras = frozenset({"film", "instant"})

    def peaks(self) -> pd.DataFrame:
        """Peak of every gauge in display units, when, extremes, RMS, and ratio to static."""
        from holokine.show.time_tables import time_peaks

        return time_peaks(self.result)

    def lines(self) -> list[str]:
        """Event, modes kept and mass held: what to read before the peaks."""
        from holokine.show.time_tables import time_lines

        return time_lines(self.result)

    def history(self, gauge: str, *, thin: int = 1) -> pd.DataFrame:
        """Histories of a gauge (all its components) in display units, every `thin`-th row.

        Raises
        ------
        UnknownNameError
        """
        from holokine.show.time_tables import history_table

        return history_table(self.result, self._numbers(gauge), whole_number("thin", thin))

    @cached_property
    def motion(self) -> FieldMotion:
        """Whole fields in time: instants, envelopes, histories.

        Raises
        ------
        EventError
            For a direct integration of the full model, which keeps gauges only.
        """
        from holokine.respond.motion import FieldMotion

        return FieldMotion(self.result, self.modes.set)

    @property
    def has_fields(self) -> bool:  # type: ignore[override]
        """Whether whole fields are there (a direct integration of the full model keeps gauges only)."""
        return hasattr(self.result.reader, "oscillators")

    def deformed(self, at: float | str | None = None, *, nearest: bool = False) -> Deformed:
        """The assembly at an instant in s (exactly, or at the nearest row): shape, stress, member forces.

        Without an instant: when the first gauge peaks.

        Raises
        ------
        EventError, UnitError
            An instant outside the history, or no whole fields.
        """
        from holokine.api.deformed import Deformed
        from holokine.units import argument_of

        if at is None and not len(self.result.peak_times):
            raise EventError("no gauge tells which instant is meant: give one, such as at=0.012 or at='12 ms'")
        when = float(self.result.peak_times[0]) if at is None else argument_of("at", at, "time")
        time, field = self.motion.at(when, nearest=nearest)
        return Deformed(self.system, field, self.name, time)

    def points(self) -> pd.DataFrame:
        """Extremes of every named point, with times: displacement in mm, absolute acceleration in g.

        Raises
        ------
        EventError
            For a direct integration of the full model.
        """
        from holokine.show.time_tables import points_table

        return points_table(*self._points_reach())

    def members(self) -> pd.DataFrame:
        """Extremes of the section forces at both ends of every beam element, in its axes, with their times; N and N m.

        Raises
        ------
        EventError
            For a direct integration of the full model.
        """
        from holokine.show.time_tables import members_envelope_table

        return members_envelope_table(*self.motion.members())

    def energies(self) -> pd.DataFrame:
        """Energies relative to the frame in J at every row: input work, kinetic, strain, dissipated.

        Raises
        ------
        EventError
            For anything but uncoupled modes.
        """
        import pandas as pd

        from holokine.respond.energy import energy_balance

        return pd.DataFrame(energy_balance(self.result))

    def write_history(self, path: str | Path, *, every: int = 1) -> Path:
        """Write the displacement of all nodes at every row (or every n-th) to an HDF5 file, in blocks."""
        self.motion.write(Path(path), every=every)
        return Path(path)

    def shock(
        self,
        gauge: str,
        *,
        low: float | str | None = None,
        high: float | str | None = None,
        per_octave: int | None = None,
        frequencies: Sequence[float | str] | None = None,
        damping: float | str | Sequence[float | str] | None = None,
        q: float | Sequence[float] = (),
        of: str = "absolute acceleration",
        remove_offset: bool = False,
        broaden: float | str = 0.0,
    ) -> Shock:
        """Shock spectra of an acceleration's history: what equipment standing there would feel.

        `gauge`: one component of an acceleration gauge (``"fan z"``), or a named point and its direction
        (``"bed a1 z"``); the rest as for `holokine.shock`. The natural frequencies of the run join the list.

        Raises
        ------
        EventError, UnknownNameError
            A gauge that is not one absolute acceleration, or no such gauge or point.
        """
        from holokine.api.shock import shock

        result = self.result
        readings = result.reduced.readings
        point, _, axis = gauge.rpartition(" ")
        if gauge not in {name for r in readings for name in (r.gauge, r.label)} and axis in ("x", "y", "z"):
            system = self.modes.set.system
            if point not in system.mesh.points:
                hint = nearest_hint(point, system.mesh.points, "points")
                raise UnknownNameError(f'there is no gauge "{gauge}" and no point "{point}". {hint}')
            values = self.motion.acceleration(6 * system.node(point, "shock spectrum") + "xyz".index(axis))
        else:
            rows = [n for n in self._numbers(gauge) if readings[n].how == "single"]
            if len(rows) != 1 or readings[rows[0]].dimension != "acceleration":
                names = ", ".join(readings[n].label for n in rows)
                raise EventError(
                    f'"{gauge}": name one component of an acceleration gauge' + (f": {names}" if len(rows) > 1 else "")
                )
            if result.reduced.channels.block(readings[rows[0]].channels[0]).relative:
                raise EventError(f'"{gauge}" reads relative motion; equipment feels the absolute acceleration')
            values = result.history(rows[0], 1)
        time, once = np.unique(result.time, return_index=True)
        return shock(
            (time, values[once]), low=low, high=high, per_octave=per_octave, frequencies=frequencies, damping=damping,
            q=q, of=of, remove_offset=remove_offset, broaden=broaden, name=f"{self.name}, {gauge}",
            resonances=result.reduced.frequencies_hz.tolist(),
        )  # fmt: skip

    @cached_property
    def _largest(self) -> NDArray[Any]:
        e = self.motion.envelope()
        return np.maximum(np.abs(e.lowest), np.abs(e.highest))

    def write_vtu(self, path: str | Path, *, at: float | str | None = None) -> Path:
        """Write displacements relative to the frame (m) and stress (Pa) as point data on the mesh, for a 3D viewer.

        The largest of every node, components without sign; with `at`, the shape at that instant.
        """
        return super().write_vtu(path) if at is None else self.deformed(at).write_vtu(path)

    def animate(
        self,
        path: str | Path,
        gauge: str | None = None,
        *,
        window: tuple[float | str, float | str] | None = None,
        seconds: float = 6.0,
        rate: int = 20,
        share: float = 0.08,
        pixels: tuple[int, int] = (1280, 800),
    ) -> Path:
        """Animation of the motion over a time window above the history of a gauge with a moving marker (GIF or MP4).

        Parameters
        ----------
        gauge : str, optional
            A gauge or one of its components; the first when left out.
        window : tuple, optional
            From and to in s; by default from the start to five periods of the lowest mode after the pulse.
        seconds, rate : float, int
            How long it plays, and pictures per second; both are written on it, with how much slower than life it is.
        share : float
            Largest displacement drawn, as a share of the assembly's diagonal.
        pixels : tuple of int
            Width and height; both even.

        Raises
        ------
        EventError, UnitError, HolokineError
            No such window, another ending, or imageio is not installed.
        """
        from holokine.show.histories import animate_answer
        from holokine.units import argument_of

        result = self.result
        number = 0 if gauge is None else self._numbers(gauge)[0]
        if window is None:
            slow = 2.0 * np.pi / float(result.reduced.omega.min())
            window = (float(result.time[0]), min(result.pulse.end + 5.0 * slow, float(result.time[-1])))
        start, end = (argument_of("window", w, "time") for w in window)
        animate_answer(self.motion, number, (start, end), Path(path), seconds, rate, share, pixels)
        return Path(path)

    def page(self, path: str | Path) -> Path:
        """One HTML file with all histories: choose gauges, read values under the cursor, zoom.

        Raises
        ------
        EventError, HolokineError
        """
        from holokine.show.histories import write_histories_page

        write_histories_page(self.result, Path(path), self.assembly.title)
        return Path(path)

    def plot_excitation(self) -> Any:
        """What the base does (acceleration, velocity, displacement) and factors of loads in time; the Figure."""
        from holokine.show.histories import plot_excitation

        return plot_excitation(self.result.pulse, self.name)

    def plot(self, gauge: str | None = None) -> Any:
        """Histories under what acts, of the main gauges or of one; returns the Figure."""
        from holokine.show.figures import plot_histories

        chosen = None if gauge is None else self._numbers(gauge)
        return plot_histories(self.result, chosen, () if chosen else self._checks())

    def histories(self, *, most: int = 20_000) -> pd.DataFrame:
        """Histories of all gauges, every n-th row so that at most about `most` remain."""
        from holokine.show.time_tables import history_table

        thin = max(1, len(self.result.time) // whole_number("most", most))
        return history_table(self.result, list(range(len(self.result.reduced.readings))), thin)

    def tables(self) -> dict[str, pd.DataFrame]:
        """Peaks, limits and histories."""
        return {**super().tables(), "histories": self.histories()}

    def figures(self) -> dict[str, Callable[[], Any]]:
        """Histories, and what acts."""
        own = super().figures() if self.result.reduced.readings else {}
        return {**own, "_excitation": self.plot_excitation}

    def files(self, look: Mapping[str, Any] | None = None) -> dict[str, Writer]:
        """Page of histories; envelopes as a mesh, pictures and tables where there are whole fields."""
        page: dict[str, Writer] = {"_histories.html": self.page} if self.result.reduced.readings else {}
        if not self.has_fields:
            return page
        return {**super().files(look), "_points.csv": lambda path: whole_csv(self.points(), path),
                "_members.csv": lambda path: whole_csv(self.members(), path), **page}  # fmt: skip
