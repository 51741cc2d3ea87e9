"""Answers in time."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.api.announce import announced
from holokine.api.answer import MovingAnswer
from holokine.api.deformed import Deformed
from holokine.api.followed import FollowedTables
from holokine.api.result import Writer, figure, table, writes
from holokine.errors import EventError, UnknownNameError, nearest_hint, whole_number
from holokine.respond.transient import TimeResult
from holokine.show.numbers import display_unit, gauge_column
from holokine.show.numbers import number_text as n
from holokine.show.tables import SECTION_COLUMNS, ends_table, peaks_table
from holokine.show.text import kept_lines, load_lines
from holokine.units import STANDARD_GRAVITY, argument_of

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.comparison import Comparison
    from holokine.api.record import Record
    from holokine.respond.motion import FieldMotion

__all__ = ["TimeAnswer"]

MOST_ROWS = 20_000
"""Rows of the table of all histories."""


class TimeAnswer(FollowedTables, MovingAnswer[TimeResult]):
    """Peaks and histories of every gauge, and whole fields at any instant and as envelopes."""

    @property
    def lines(self) -> list[str]:
        """Event, modes kept and mass held: what to read before the peaks."""
        correction = (
            "left-out modes answer statically (correction column)"
            if self.result.reader.correct
            else "no static correction for left-out modes"
        )
        acting = load_lines(self.result.acting)
        return [_event_words(self.result), *acting, *kept_lines(self.result.reduced), correction]

    @table("peaks", "Peaks", hide=("lowest", "lowest_at_ms", "highest", "highest_at_ms", "rms"))
    def _peaks(self) -> pd.DataFrame:
        """Peak of every gauge in display units, when, extremes with their times, RMS, ratio to static, and the share of
        the static correction."""
        answer = self.result

        def more(number: int, size: float) -> dict[str, object]:
            peak, static = answer.peaks[number] / size, answer.static[number] / size
            if abs(static) < 1e-9 * abs(peak):
                static = 0.0
            return {
                "time_ms": 1e3 * answer.peak_times[number], "lowest": answer.lowest[number] / size,
                "lowest_at_ms": 1e3 * answer.extreme_times[0, number], "highest": answer.highest[number] / size,
                "highest_at_ms": 1e3 * answer.extreme_times[1, number], "rms": answer.rms[number] / size,
                "static": static, "ratio_to_static": abs(peak / static) if static > 0 else np.nan,
                "correction_percent": 100.0 * answer.correction_share[number], "place": answer.places[number],
            }  # fmt: skip

        return peaks_table(answer, "peak", more, lambda _: False)

    @table("histories")
    def _histories(self, *, most: int = MOST_ROWS) -> pd.DataFrame:
        """Histories of all gauges in display units, every n-th row so that at most about `most` remain."""
        thin = max(1, len(self.result.time) // whole_number("most", most))
        return self._rows_in_time(list(range(len(self.result.reduced.readings))), thin)

    @table("history", listed=False)
    def _history(self, gauge: str, *, thin: int = 1) -> pd.DataFrame:
        """Histories of a gauge (all its components) in display units, every `thin`-th row.

        Raises
        ------
        UnknownNameError
        """
        return self._rows_in_time(self.rows_of(gauge), whole_number("thin", thin))

    def _rows_in_time(self, numbers: list[int], thin: int) -> pd.DataFrame:
        import pandas as pd

        answer, pulse = self.result, self.result.pulse
        found: dict[str, object] = {"time_s": answer.time[::thin]}
        unit, size = display_unit("acceleration")
        for d, axis in enumerate(pulse.names[: pulse.moving]):
            if pulse.moves[d]:
                found[gauge_column(f"base {axis}", unit)] = answer.base[::thin, d] / size
        for k in pulse.loads:
            found[gauge_column(f"{pulse.names[k]} factor")] = answer.base[::thin, k]
        for number in numbers:
            reading = answer.reduced.readings[number]
            unit, size = display_unit(reading.dimension)
            found[gauge_column(reading.label, unit)] = answer.history(number, thin) / size
        return pd.DataFrame(found)

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
        if at is None and not len(self.result.peak_times):
            raise EventError("no gauge tells which instant is meant: give one, such as at=0.012 or at='12 ms'")
        when = float(self.result.peak_times[0]) if at is None else argument_of("at", at, "time")
        time, field = self.motion.at(when, nearest=nearest)
        return Deformed(self.system, field, self.name, time)

    @table("points", "Named points", listed=False)
    def _points(self) -> pd.DataFrame:
        """Extremes of every named point by direction, with times: displacement relative to the frame in mm, absolute
        acceleration in g.

        Raises
        ------
        EventError
            For a direct integration of the full model.
        """
        import pandas as pd

        points, moved, pushed = self._points_reach()
        found: dict[str, Any] = {"point": np.repeat(points, 3), "axis": np.tile(list("xyz"), len(points))}
        for name, unit, envelope, size in (("displacement", "mm", moved, 1e-3),
                                           ("acceleration", "g", pushed, STANDARD_GRAVITY)):  # fmt: skip
            for side in ("lowest", "highest"):
                found[f"{side}_{name}_{unit}"] = getattr(envelope, side) / size
                found[f"{side}_{name}_at_ms"] = 1e3 * getattr(envelope, f"{side}_time")
        return pd.DataFrame(found)

    @table("members", listed=False)
    def _members(self) -> pd.DataFrame:
        """Extremes of the section forces at both ends of every beam element, in its axes, with their times; N and N m.

        Raises
        ------
        EventError
            For a direct integration of the full model.
        """
        import pandas as pd

        ends, envelope = self.motion.members()
        found = ends_table(ends)
        for k, column in enumerate(SECTION_COLUMNS):
            for side in ("lowest", "highest"):
                found[f"{side}_{column}"] = getattr(envelope, side)[k::6]
                found[f"{side}_{column.split('_')[0]}_at_ms"] = 1e3 * getattr(envelope, f"{side}_time")[k::6]
        return pd.DataFrame(found)

    @table("energies", listed=False)
    def _energies(self) -> pd.DataFrame:
        """Energies relative to the frame in J at every row: input work, kinetic, strain, dissipated.

        Raises
        ------
        EventError
            For anything but uncoupled modes.
        """
        import pandas as pd

        from holokine.respond.energy import energy_balance

        return pd.DataFrame(energy_balance(self.result))

    @cached_property
    def _largest(self) -> NDArray[Any]:
        e = self.motion.envelope()
        return np.maximum(np.abs(e.lowest), np.abs(e.highest))

    def against_rules(self) -> Comparison:
        """These peaks against those of every rule of combination under the spectra of the same pulse.

        Raises
        ------
        EventError
            An event that is not a pulse of the base.
        """
        from holokine.api.comparison import RulesAgainstTime

        return announced(RulesAgainstTime.of(self))

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
    ) -> Record:
        """Shock spectra of an acceleration's history: what equipment standing there would feel.

        `gauge`: one component of an acceleration gauge (``"fan z"``), or a named point and its direction
        (``"bed a1 z"``); the rest as for `holokine.shock`. The natural frequencies of the run join the list.

        Raises
        ------
        EventError, UnknownNameError
            A gauge that is not one absolute acceleration, or no such gauge or point.
        """
        from holokine.api.record import shock

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
            rows = [n for n in self.rows_of(gauge) if readings[n].how == "single"]
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

    # -- figures and files ------------------------------------------------------------------------------------------

    @figure("histories", when=lambda self: bool(self.result.reduced.readings))
    def _histories_drawn(self, gauge: str | None = None) -> Any:
        """Histories under what acts, of the main gauges or of one."""
        from holokine.show.figures import plot_histories

        chosen = None if gauge is None else self.rows_of(gauge)
        return plot_histories(self.result, chosen, () if chosen else self._checks())

    @figure("excitation")
    def _excitation(self) -> Any:
        """What the base does (acceleration, velocity, displacement) and factors of loads in time."""
        from holokine.show.histories import plot_excitation

        return plot_excitation(self.result.pulse, self.name)

    @writes(".vtu", when=lambda self: self.has_fields)
    def _mesh(self, path: Path, *, at: float | str | None = None) -> None:
        """Displacements relative to the frame (m) and stress (Pa) as point data on the mesh, for a 3D viewer.

        The largest of every node, components without sign; with `at`, the shape at that instant.
        """
        if at is not None:
            self.deformed(at).save(path)
        else:
            super()._mesh(path)

    @writes(".h5", when=lambda self: self.has_fields)
    def _whole_history(self, path: Path, *, every: int = 1) -> None:
        """The displacement of all nodes at every row (or every n-th), in blocks."""
        self.motion.write(path, every=every)

    @writes(".gif", ".mp4", when=lambda self: self.has_fields)
    def _film(
        self,
        path: Path,
        *,
        gauge: str | None = None,
        window: Sequence[float | str] | None = None,
        seconds: float = 6.0,
        rate: int = 20,
        share: float = 0.08,
        pixels: tuple[int, int] = (1280, 800),
    ) -> None:
        """The motion over a time window above the history of a gauge with a moving marker.

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
            No such window, or imageio is not installed.
        """
        from holokine.show.histories import animate_answer

        result = self.result
        number = 0 if gauge is None else self.rows_of(gauge)[0]
        if window is None:
            slow = 2.0 * np.pi / float(result.reduced.omega.min())
            window = (float(result.time[0]), min(result.pulse.end + 5.0 * slow, float(result.time[-1])))
        start, end = (argument_of("window", w, "time") for w in window)
        animate_answer(self.motion, number, (start, end), path, seconds, rate, share, pixels)

    @writes(".html")
    def _page(self, path: Path) -> None:
        """One page with all histories: choose gauges, read values under the cursor, zoom."""
        from holokine.show.histories import MOST_ROWS, write_histories_page

        thin = len(self.result.time) // MOST_ROWS or 1
        write_histories_page(self.result, self._rows_in_time([], thin), path, self.assembly.title, self.lines)

    def files(self, **draw: Any) -> dict[str, Writer]:
        """Page of histories; envelopes as a mesh, pictures and tables where there are whole fields."""
        page: dict[str, Writer] = {"_histories.html": self.save} if self.result.reduced.readings else {}
        return {**super().files(**draw), **page}


def _event_words(answer: TimeResult) -> str:
    """What the event is, in a line."""
    pulse = answer.pulse
    words = []
    if pulse.moves_base:
        peak, change, end = pulse.peak / STANDARD_GRAVITY, pulse.velocity_change, pulse.end_displacement
        moved = [d for d in range(pulse.moving) if pulse.moves[d]]
        shown = ", ".join(
            f"{pulse.names[d]} {n(peak[d])} g with a velocity change of {n(change[d])} m/s and a displacement of "
            f"{n(1e3 * end[d])} mm at its end" for d in moved
        )  # fmt: skip
        what = "base pulse along" if pulse.moving == 3 else "groups of supports move:"
        words.append(f"{what} {', '.join(pulse.names[d] for d in moved)}: peak {shown}")
    signals = [
        f"{name} (peak {n(pulse.peak[k])} times)" for k, name in enumerate(pulse.names)
        if k in pulse.loads and pulse.resting[k] == 0
    ]  # fmt: skip
    if signals:
        words.append("loads in time: " + ", ".join(signals))
    for k, name in enumerate(pulse.names):
        if pulse.resting[k]:
            words.append(
                f"{name} stays on all the time" if pulse.acceleration[-1, k] else f"{name} is let go at the start"
            )
    return "; ".join(words) + (
        f"; from {n(1e3 * pulse.start)} to {n(1e3 * pulse.end)} ms, followed until {n(1e3 * answer.time[-1])} ms in "
        f"{len(answer.time) - 1:,} steps"
    )
