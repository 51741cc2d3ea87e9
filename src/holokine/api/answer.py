"""The answer to an event, as a Python user holds it."""

from __future__ import annotations

from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.errors import EventError, UnknownNameError, nearest_hint
from holokine.modes import Finding
from holokine.respond import PulseAnswer, SpectrumAnswer, StaticAnswer

if TYPE_CHECKING:
    from collections.abc import Sequence

    import pandas as pd

    from holokine.api.assembly import Assembly
    from holokine.api.deformed import Deformed
    from holokine.api.modes import Modes
    from holokine.api.shock import Shock
    from holokine.respond.limits import LimitCheck
    from holokine.respond.motion import FieldMotion
    from holokine.system.loads import LoadField

__all__ = ["Answer"]


class Answer:
    """Peaks, histories and shares of every gauge for one event.

    Attributes
    ----------
    assembly : Assembly
    result : SpectrumAnswer, PulseAnswer or StaticAnswer
        The numbers, in SI.
    """

    def __init__(
        self,
        assembly: Assembly,
        result: SpectrumAnswer | PulseAnswer | StaticAnswer,
        modes: Modes | None = None,
        loads: Sequence[LoadField] = (),
    ) -> None:
        self.assembly, self.result, self._modes, self._loads = assembly, result, modes, list(loads)

    @property
    def modes(self) -> Modes:
        """The modes that the answer was combined from.

        Raises
        ------
        EventError
            For loads at rest, which need none.
        """
        if self._modes is None:
            raise EventError("an answer to loads at rest has no modes")
        return self._modes

    @property
    def name(self) -> str:
        """Name of the event."""
        return self.result.name

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What to know before trusting the answer: modes, then event."""
        return (*(() if self._modes is None else self._modes.findings), *self.result.findings)

    def peaks(self) -> pd.DataFrame:
        """Peak of every gauge in display units."""
        from holokine.show.tables import peaks_table

        return peaks_table(self.result)

    def limits(self) -> pd.DataFrame:
        """Peaks against the limits of the description, most used first; empty without limits."""
        from holokine.show.tables import limits_table

        return limits_table(self.result, self._limits())

    def _limits(self) -> list[LimitCheck]:
        from holokine.respond.limits import check_limits, read_limits

        d = self.assembly.description
        limits = read_limits(d.limits, self.result.reduced.readings, d.units.system())
        if isinstance(self.result, StaticAnswer):  # at rest nothing has a velocity or an acceleration
            limits = {row: limit for row, limit in limits.items() if np.isfinite(self.result.peaks[row])}
        return check_limits(limits, self.result.peaks)

    @property
    def ok(self) -> bool:
        """Whether every limit is met (true without limits)."""
        return all(c.ok for c in self._limits())

    def signed_peaks(self) -> pd.DataFrame:
        """Peaks of a spectrum with the sign of the mode that dominates each, for values that could act together.

        Raises
        ------
        EventError
            For a pulse, whose peaks have their own signs.
        """
        if not isinstance(self.result, SpectrumAnswer):
            raise EventError("peaks of a pulse have their own signs")
        table = self.peaks()
        table["peak"] = table["peak"] * self.result.signs()
        return table

    def main_modes(self, share: float = 0.95) -> pd.DataFrame:
        """The fewest modes that make up a share of the square of each reading, largest first."""
        from holokine.show.tables import main_modes_table

        if not isinstance(self.result, SpectrumAnswer):
            raise EventError("shares of modes belong to spectrum answers")
        return main_modes_table(self.result, share)

    def _numbers(self, gauge: str) -> list[int]:
        readings = self.result.reduced.readings
        found = [n for n, r in enumerate(readings) if gauge in (r.gauge, r.label)]
        if not found:
            names = list(dict.fromkeys(r.gauge for r in readings))
            raise UnknownNameError(f'there is no gauge "{gauge}". {nearest_hint(gauge, names, "gauges")}')
        return found

    def history(self, gauge: str, *, thin: int = 1) -> pd.DataFrame:
        """Histories of a gauge (all its components) in display units, every `thin`-th row.

        Raises
        ------
        EventError
            For a spectrum, which has no history.
        """
        from holokine.show.tables import history_table

        return history_table(self._in_time, self._numbers(gauge), thin)

    @property
    def _in_time(self) -> PulseAnswer:
        if not isinstance(self.result, PulseAnswer):
            word = "loads at rest have" if isinstance(self.result, StaticAnswer) else "a response spectrum has"
            raise EventError(f"{word} peaks but no history")
        return self.result

    @cached_property
    def motion(self) -> FieldMotion:
        """Whole fields in time: instants, envelopes, histories.

        Raises
        ------
        EventError
            But for an answer in time by modes.
        """
        from holokine.respond.motion import FieldMotion

        return FieldMotion(self._in_time, self.modes.set, self._loads)

    def deformed(self, at: float | str | None = None, *, nearest: bool = False) -> Deformed:
        """The assembly at rest, or at an instant in s (exactly, or at the nearest row): shape, stress, member forces.

        Without an instant: when the first gauge peaks.

        Raises
        ------
        EventError, UnitError
            A spectrum, which has no instant; an instant outside the history.
        """
        from holokine.api.deformed import Deformed
        from holokine.units import quantity

        if isinstance(self.result, StaticAnswer):
            if at is not None:
                raise EventError("loads at rest have no instants")
            return Deformed(self.assembly.system, self.result.displacement, self.name)
        when = float(self._in_time.peak_times[0]) if at is None else quantity(at, "time")
        time, field = self.motion.at(when, nearest=nearest)
        return Deformed(self.modes.set.system, field, self.name, time)

    def points(self) -> pd.DataFrame:
        """Extremes of every named point, with times: displacement in mm, absolute acceleration in g.

        Raises
        ------
        EventError
            For a spectrum; loads at rest have `deformed().points()`.
        """
        from holokine.show.tables import points_table

        system = self.modes.set.system
        nodes = {p: n for p, n in system.mesh.points.items() if system.active[6 * n : 6 * n + 3].any()}
        dofs = (6 * np.array(list(nodes.values()))[:, None] + np.arange(3)).ravel()
        moved, pushed = (self.motion.envelope(what, dofs) for what in ("displacement", "acceleration"))
        return points_table(list(nodes), moved, pushed)

    def energies(self) -> pd.DataFrame:
        """Energies relative to the frame in J at every row: input work, kinetic, strain, dissipated.

        Raises
        ------
        EventError
            For anything but an answer in time by uncoupled modes.
        """
        import pandas as pd

        from holokine.respond.energy import energy_balance

        return pd.DataFrame(energy_balance(self._in_time))

    def write_history(self, path: str | Path, *, every: int = 1) -> Path:
        """Write the displacement of all nodes at every row (or every n-th) to an HDF5 file, in blocks."""
        self.motion.write(Path(path), every=every)
        return Path(path)

    def shock(self, gauge: str, **keys: Any) -> Shock:
        """Shock spectra of an acceleration's history: what equipment standing there would feel.

        `gauge`: one component of an acceleration gauge (``"fan z"``), or a named point and its direction
        (``"bed a1 z"``). `keys`: as for `holokine.shock` (low, high, per_octave, damping, q, of, broaden).

        Raises
        ------
        EventError, UnknownNameError
            For a spectrum answer, a gauge that is not one absolute acceleration, or no such gauge or point.
        """
        from holokine.api.shock import shock

        result = self._in_time
        readings = result.reduced.readings
        point, _, axis = gauge.rpartition(" ")
        if gauge not in {name for r in readings for name in (r.gauge, r.label)} and axis in ("x", "y", "z"):
            system = self.modes.set.system
            if point not in system.mesh.points:
                hint = nearest_hint(point, system.mesh.points, "points")
                raise UnknownNameError(f'there is no gauge "{gauge}" and no point "{point}". {hint}')
            values = self.motion.acceleration(6 * system.mesh.points[point] + "xyz".index(axis))
        else:
            rows = [n for n in self._numbers(gauge) if readings[n].how == "single"]
            if len(rows) != 1 or readings[rows[0]].dimension != "acceleration":
                names = ", ".join(readings[n].label for n in rows)
                raise EventError(
                    f'"{gauge}": name one component of an acceleration gauge' + (f": {names}" if len(rows) > 1 else "")
                )
            if result.reduced.channels[readings[rows[0]].channels[0]].relative:
                raise EventError(f'"{gauge}" reads relative motion; equipment feels the absolute acceleration')
            values = result.history(rows[0], 1)
        time, once = np.unique(result.time, return_index=True)
        return shock((time, values[once]), name=f"{self.name}, {gauge}", **keys)

    def shares(self, gauge: str | None = None) -> pd.DataFrame:
        """Share of every mode in each gauge (or one), in percent.

        Raises
        ------
        EventError
            For a pulse, whose modes do not add up to a peak.
        """
        from holokine.show.tables import shares_table

        if not isinstance(self.result, SpectrumAnswer):
            raise EventError("shares of modes belong to spectrum answers")
        readings = range(len(self.result.reduced.readings))
        return shares_table(self.result, list(readings) if gauge is None else self._numbers(gauge))

    def worst(self) -> pd.DataFrame:
        """Largest stress of every part with its place: combined, at rest, or in time with the instant."""
        from holokine.show.tables import part_peaks_table

        return part_peaks_table(self._stress[0])

    @cached_property
    def _stress(self) -> Any:
        from holokine.respond.whole import spectrum_stress

        if isinstance(self.result, PulseAnswer):
            return self.motion.stress()
        if isinstance(self.result, StaticAnswer):
            return self.deformed()._stress
        return spectrum_stress(self.result, self.modes.set)

    @cached_property
    def _largest(self) -> Any:
        """Largest displacement of every motion in m and rad, shape (dofs,)."""
        from holokine.respond.whole import spectrum_displacement

        if isinstance(self.result, PulseAnswer):
            e = self.motion.envelope()
            return np.maximum(np.abs(e.lowest), np.abs(e.highest))
        if isinstance(self.result, StaticAnswer):
            return np.abs(self.result.displacement)
        return spectrum_displacement(self.result, self.modes.set)

    def picture(self, path: str | Path, *, colour: str = "stress") -> Path:
        """Picture of the assembly coloured by the largest stress (MPa) or displacement (mm), whenever it happens.

        Raises
        ------
        EventError
            For another word than stress or displacement.
        """
        from holokine.show.scene import picture_field

        if colour == "stress":
            values, label = 1e-6 * self._stress[1], "stress (MPa)"
        elif colour == "displacement":
            field = self._largest.reshape(-1, 6)[:, :3]
            values, label = 1e3 * np.linalg.norm(field, axis=1), "displacement (mm)"
        else:
            raise EventError(f'colour: expected stress or displacement, got "{colour}"')
        title = f"{self.name}: {'' if isinstance(self.result, StaticAnswer) else 'largest '}{label}"
        picture_field(self.assembly.system if self._modes is None else self._modes.set.system, values, label, title,
                      Path(path))  # fmt: skip
        return Path(path)

    def write_vtu(self, path: str | Path, *, at: float | None = None) -> Path:
        """Write displacements relative to the frame (m) and stress (Pa) as point data on the mesh, for a 3D viewer.

        The largest of every node (components without sign); with `at` (s), and at rest, the shape itself.
        """
        from holokine.mesh.files import write_mesh

        if at is not None or isinstance(self.result, StaticAnswer):
            return self.deformed(at).write_vtu(path)
        data = {"largest displacement (m)": self._largest.reshape(-1, 6)[:, :3], "largest stress (Pa)": self._stress[1]}
        write_mesh(Path(path), self.modes.set.system.mesh, data)
        return Path(path)

    def animate(
        self,
        path: str | Path,
        gauge: str | None = None,
        *,
        window: tuple[float | str, float | str] | None = None,
        seconds: float = 6.0,
        rate: int = 20,
        share: float = 0.08,
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

        Raises
        ------
        EventError, UnitError, HolokineError
            No such window, another ending, or imageio is not installed.
        """
        from holokine.show.histories import animate_answer
        from holokine.units import quantity

        result = self._in_time
        number = 0 if gauge is None else self._numbers(gauge)[0]
        if window is None:
            slow = 2.0 * np.pi / float(result.reduced.omega.min())
            window = (float(result.time[0]), min(result.pulse.end + 5.0 * slow, float(result.time[-1])))
        start, end = (quantity(w, "time") for w in window)
        animate_answer(self.motion, number, (start, end), Path(path), seconds, rate, share)
        return Path(path)

    def page(self, path: str | Path) -> Path:
        """One HTML file with all histories: choose gauges, read values under the cursor, zoom.

        Raises
        ------
        EventError, HolokineError
        """
        from holokine.show.histories import write_histories_page

        write_histories_page(self._in_time, Path(path), self.assembly.title)
        return Path(path)

    def plot_excitation(self) -> Any:
        """What the base does (acceleration, velocity, displacement) and factors of loads in time; the Figure."""
        from holokine.show.histories import plot_excitation

        return plot_excitation(self._in_time.pulse, self.name)

    def plot_tripartite(self) -> Any:
        """The spectra on four-way paper; returns the Figure.

        Raises
        ------
        EventError
            For a pulse.
        """
        from holokine.show.figures import plot_tripartite

        if not isinstance(self.result, SpectrumAnswer):
            raise EventError("a four-way plot belongs to spectrum answers")
        return plot_tripartite(self.result)

    def plot(self, gauge: str | None = None) -> Any:
        """Histories under the base pulse, or the spectrum with the modes on it; returns the Figure."""
        from holokine.show.figures import plot_histories, plot_spectrum

        if isinstance(self.result, PulseAnswer):
            numbers = self._numbers(gauge) if gauge is not None else None
            return plot_histories(self.result, numbers)
        if isinstance(self.result, StaticAnswer):
            raise EventError("loads at rest have no figure; draw the deformed assembly: deformed().picture(...)")
        return plot_spectrum(self.result)
