"""The answer to an event, as a Python user holds it."""

from __future__ import annotations

from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from holokine.errors import EventError, UnknownNameError, nearest_hint
from holokine.modes import Finding
from holokine.respond import PulseAnswer, SpectrumAnswer

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.modes import Modes
    from holokine.api.shock import Shock
    from holokine.respond.limits import LimitCheck

__all__ = ["Answer"]


class Answer:
    """Peaks, histories and shares of every gauge for one event.

    Attributes
    ----------
    modes : Modes
    result : SpectrumAnswer or PulseAnswer
        The numbers, in SI.
    """

    def __init__(self, modes: Modes, result: SpectrumAnswer | PulseAnswer) -> None:
        self.modes, self.result = modes, result

    @property
    def name(self) -> str:
        """Name of the event."""
        return self.result.name

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What to know before trusting the answer: modes, then event."""
        return (*self.modes.findings, *self.result.findings)

    def peaks(self) -> pd.DataFrame:
        """Peak of every gauge in display units."""
        from holokine.show.tables import peaks_table

        return peaks_table(self.result)

    def limits(self) -> pd.DataFrame:
        """Peaks against the limits of the description, most used first; empty without limits."""
        from holokine.show.tables import limits_table

        return limits_table(self.result, self._limits())

    def _limits(self) -> list[LimitCheck]:
        from holokine.respond.limits import check_limits

        return check_limits(self.modes.limits, self.result.peaks)

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

        if not isinstance(self.result, PulseAnswer):
            raise EventError("a response spectrum has peaks but no history")
        return history_table(self.result, self._numbers(gauge), thin)

    def shock(self, gauge: str, **keys: Any) -> Shock:
        """Shock spectra of an acceleration gauge's history: what equipment standing there would feel.

        `keys`: as for `holokine.shock` (low, high, per_octave, damping, of, broaden).

        Raises
        ------
        EventError
            For a spectrum answer, a gauge that is not one acceleration, or one relative to another point.
        """
        import numpy as np

        from holokine.api.shock import shock

        if not isinstance(self.result, PulseAnswer):
            raise EventError("a response spectrum has peaks but no history")
        rows = [n for n in self._numbers(gauge) if self.result.reduced.readings[n].how == "single"]
        readings = self.result.reduced.readings
        if len(rows) != 1 or readings[rows[0]].dimension != "acceleration":
            names = ", ".join(readings[n].label for n in rows)
            raise EventError(
                f'"{gauge}": name one component of an acceleration gauge' + (f": {names}" if len(rows) > 1 else "")
            )
        channel = self.result.reduced.channels[readings[rows[0]].channels[0]]
        if channel.relative:
            raise EventError(f'"{gauge}" reads relative motion; equipment feels the absolute acceleration')
        time, once = np.unique(self.result.time, return_index=True)
        return shock((time, self.result.history(rows[0], 1)[once]), name=f"{self.name}, {gauge}", **keys)

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
        """Largest combined stress of every part under a spectrum, with the place.

        Raises
        ------
        EventError
            For a pulse.
        """
        import pandas as pd

        if not isinstance(self.result, SpectrumAnswer):
            raise EventError("stress of all parts is there for spectrum answers; give a pulse stress gauges")
        return pd.DataFrame(
            {"part": p.part, "stress_mpa": 1e-6 * p.stress, "at_x_mm": 1e3 * p.place[0], "at_y_mm": 1e3 * p.place[1],
             "at_z_mm": 1e3 * p.place[2], "where": p.where}
            for p in self._stress[0]
        )  # fmt: skip

    @cached_property
    def _stress(self) -> Any:
        from holokine.respond.whole import spectrum_stress

        return spectrum_stress(self.result, self.modes.set)  # type: ignore[arg-type]

    def picture(self, path: str | Path, *, colour: str = "stress") -> Path:
        """Picture of the assembly coloured by the combined stress (MPa) or displacement (mm) under a spectrum.

        Raises
        ------
        EventError
            For a pulse, or another word than stress or displacement.
        """
        import numpy as np

        from holokine.respond.whole import spectrum_displacement
        from holokine.show.scene import picture_field

        if not isinstance(self.result, SpectrumAnswer):
            raise EventError("pictures of whole fields are there for spectrum answers")
        modes = self.modes.set
        if colour == "stress":
            values, label = 1e-6 * self._stress[1], "stress (MPa)"
        elif colour == "displacement":
            field = spectrum_displacement(self.result, modes).reshape(-1, 6)[:, :3]
            values, label = 1e3 * np.linalg.norm(field, axis=1), "displacement (mm)"
        else:
            raise EventError(f'colour: expected stress or displacement, got "{colour}"')
        picture_field(modes.system, values, label, f"{self.name}: largest combined {label}", Path(path))
        return Path(path)

    def write_vtu(self, path: str | Path, *, at: float | None = None) -> Path:
        """Write displacements relative to the frame, in m, as point data on the mesh, for a 3D viewer.

        A spectrum: the combined largest displacement of every node (components without sign) and, in Pa, the largest
        combined stress around it. A pulse: the displacement at the instant `at` in s (nearest row), or when the first
        gauge peaks.
        """
        from holokine.mesh.files import write_mesh
        from holokine.respond.whole import spectrum_displacement, transient_displacement

        modes = self.modes.set
        if isinstance(self.result, PulseAnswer):
            when = at if at is not None else float(self.result.peak_times[0])
            time, field = transient_displacement(self.result, modes)(when)
            name = f"displacement at {time:.6g} s (m)"
        else:
            field, name = spectrum_displacement(self.result, modes), "largest displacement (m)"
        data = {name: field.reshape(-1, 6)[:, :3]}
        if not isinstance(self.result, PulseAnswer):
            data["largest stress (Pa)"] = self._stress[1]
        write_mesh(Path(path), modes.system.mesh, data)
        return Path(path)

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
        return plot_spectrum(self.result)
