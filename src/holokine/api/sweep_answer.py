"""Answers to sine sweeps."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.api.answer import MovingAnswer
from holokine.api.deformed import Deformed
from holokine.api.result import Entry, Writer, figure, table, writes
from holokine.errors import EventError, UnknownNameError, nearest_hint, whole_number
from holokine.respond.curves import Extreme, ranges
from holokine.respond.sweep import SweepResult
from holokine.show.numbers import display_unit, gauge_column
from holokine.show.numbers import number_text as n
from holokine.show.tables import SECTION_COLUMNS, ends_table, peaks_table
from holokine.show.text import kept_lines, load_lines
from holokine.units import STANDARD_GRAVITY, argument_of

if TYPE_CHECKING:
    import pandas as pd

    from holokine.excite.harmonic import Swing
    from holokine.respond.meaning import Meaning
    from holokine.respond.sweep_field import FieldSweep

__all__ = ["SweepAnswer", "asked_frequency", "largest_instant", "sweep_words"]

MOST_ROWS = 20_000
"""Rows of the table of all curves."""
SMALL = 1e-3
"""Of the largest of a reading, below which a peak is not listed."""
_INSTANTS = 720  # of a cycle
_HIDDEN = ("bandwidth_hz", "static", "ratio_to_static", "correction_percent")


class SweepAnswer(MovingAnswer[SweepResult]):
    """Amplitude and phase of every gauge over frequency, peaks, transfer functions, whole fields and envelopes."""

    _when = ("frequency_hz", 1.0)

    @property
    def shown(self) -> Meaning:
        """As the event says: peaks, RMS, or peak to peak."""
        return self.result.shown

    @property
    def lines(self) -> list[str]:
        """What swings, modes kept and mass held: what to read before the peaks."""
        return _sweep_lines(self.result)

    # -- tables -----------------------------------------------------------------------------------------------------

    @table("peaks", "Largest over the sweep", hide=_HIDDEN)
    def _peaks(self) -> pd.DataFrame:
        """Largest amplitude of every gauge in display units: frequency, phase, how sharp, modes that make it, and
        against the static answer."""
        answer, by = self.result, self.shown.per_peak

        def more(number: int, size: float) -> dict[str, object]:
            top, static = answer.main[number], answer.static[number]
            row: dict[str, object] = {
                "frequency_hz": answer.peak_frequencies[number], "phase_deg": np.degrees(answer.phases[number]),
                "bandwidth_hz": top.bandwidth, "amplification": top.amplification,
                "mode_shares": _shares_in_words(answer, number), "static": by * static / size,
                "ratio_to_static": answer.swing[number] / static if static > 1e-9 * answer.swing[number] else np.nan,
                "correction_percent": 100.0 * answer.correction_share[number],
            }  # fmt: skip
            if answer.steady is not None:
                rest = answer.steady[number]
                rest = rest if abs(rest) > answer.noise[number] else 0.0
                row |= {"at_rest": rest / size, "largest_together": answer.together[number] / size}
            return {**row, "place": answer.places[number]}

        return peaks_table(answer, answer.shown.column, more, lambda _: False, by * answer.swing)

    def _screen(self, entry: Entry, whole: pd.DataFrame) -> tuple[str, pd.DataFrame]:
        title, short = super()._screen(entry, whole)
        if entry.name == "peaks":
            short = short.rename(columns={"amplification": "Q"})
            if "mode_shares" in short:
                first = short["mode_shares"].fillna("").str.split(", ").str[0]
                short = short.assign(mode_shares=first).rename(columns={"mode_shares": "most_by_mode"})
        return title, short

    @table("critical", "Modes in the sweep, and gauges that are largest there")
    def _critical(self) -> pd.DataFrame:
        """Modes in the sweep: frequency and damping as they are coupled, and which gauges are largest there."""
        import pandas as pd

        answer, columns = self.result, ["frequency_hz", "damping_percent", "bandwidth_hz", "largest_here"]
        poles = answer.reader.model.vibration.poles
        poles = poles[answer.covers(poles.imag / (2.0 * np.pi))]
        poles = poles[np.argsort(poles.imag, kind="stable")]
        if not len(poles):
            return pd.DataFrame(columns=columns)
        centre, here = poles.imag / (2.0 * np.pi), dict[int, list[str]]()
        for number, e in enumerate(answer.main):
            if answer.swing[number] > answer.noise[number] and e.inside:
                near = int(np.abs(centre - e.frequency).argmin())
                here.setdefault(near, []).append(answer.reduced.readings[number].gauge)
        rows = []
        for k, pole in enumerate(poles):
            names = list(dict.fromkeys(here.get(k, [])))
            told = ", ".join(names[:5]) + (f" and {len(names) - 5} more" if len(names) > 5 else "")
            rows.append((centre[k], 100.0 * float(-pole.real / abs(pole)), float(-pole.real / np.pi), told))
        return pd.DataFrame(rows, columns=columns)

    @property
    def _telling(self) -> list[int]:
        """Readings that are more than rounding."""
        return [k for k in range(len(self.result.swing)) if self.result.swing[k] > self.result.noise[k]]

    @table("resonances")
    def _resonances(self, gauge: str | None = None) -> pd.DataFrame:
        """Peaks of all gauges (or of one), from a thousandth of its largest on, and anti-resonances, by frequency.

        Raises
        ------
        UnknownNameError
        """
        import pandas as pd

        answer, rows = self.result, []
        by, column = self.shown.per_peak, self.shown.column
        for number in self._telling if gauge is None else [k for k in self.rows_of(gauge) if k in self._telling]:
            reading = answer.reduced.readings[number]
            unit, size = display_unit(reading.dimension)
            peaks, bottoms = answer.extremes(number)
            kept = [p for p in peaks if p.size >= SMALL * answer.swing[number]]
            own: list[tuple[str, Extreme]] = [("peak" if p.inside else "end of the sweep", p) for p in kept]
            own += [("anti-resonance", p) for p in bottoms]
            for kind, e in sorted(own, key=lambda pair: pair[1].frequency):
                sharp = (e.low, e.high, e.bandwidth, e.amplification) if kind == "peak" else (np.nan,) * 4
                share = 100.0 * e.size / answer.swing[number]
                own_row = (reading.gauge, reading.component, kind, e.frequency, by * e.size / size, unit)
                rows.append((*own_row, *sharp, share))
        return pd.DataFrame(rows, columns=[
            "gauge", "component", "kind", "frequency_hz", column, "unit", "half_power_low_hz", "half_power_high_hz",
            "bandwidth_hz", "amplification", "share_of_largest_percent",
        ])  # fmt: skip

    @table("shares")
    def _shares(self) -> pd.DataFrame:
        """Share of every mode in every reading at its peak, in percent (last row, mode 0: left-out modes and base);
        negative where it works against the whole."""
        import pandas as pd

        answer, count = self.result, self.result.reader.model.modes
        f = answer.reduced.frequencies_hz[:count]
        found: dict[str, object] = {"mode": [*range(1, count + 1), 0], "frequency_hz": [*f, np.nan]}
        for number in self._telling:
            found[gauge_column(answer.reduced.readings[number].label, "%")] = 100.0 * answer.shares(number)
        return pd.DataFrame(found)

    @table("curves")
    def _curves(self, *, most: int = MOST_ROWS) -> pd.DataFrame:
        """All gauges over frequency, every n-th point so that at most about `most` remain."""
        thin = max(1, len(self.result.frequency_hz) // whole_number("most", most))
        return self._over_frequency(list(range(len(self.result.reduced.readings))), thin)

    @table("curve", listed=False)
    def _curve(self, gauge: str, *, thin: int = 1) -> pd.DataFrame:
        """A gauge over frequency: largest over the cycle, phase, real and imaginary part, in display units.

        Raises
        ------
        UnknownNameError
        """
        return self._over_frequency(self.rows_of(gauge), whole_number("thin", thin))

    def _over_frequency(self, numbers: list[int], thin: int) -> pd.DataFrame:
        import pandas as pd

        answer, by, word = self.result, self.shown.per_peak, self.shown.column.replace("_", " ")
        found: dict[str, object] = {"frequency_hz": answer.frequency_hz[::thin]}
        for number in numbers:
            reading = answer.reduced.readings[number]
            unit, size = display_unit(reading.dimension)
            found[gauge_column(f"{reading.label} {word}", unit)] = by * answer.curve(number)[::thin] / size
            if reading.width == 1:
                y = answer.values(number)[::thin, 0] / size
                found |= _parts(reading.label, y, unit)
        return pd.DataFrame(found)

    @table("whole_model", "The whole model against its modes", when=lambda self: self.result.full is not None)
    def _whole_model(self) -> pd.DataFrame:
        """The whole model against its modes, at the frequencies of `full model at`, in display units."""
        import pandas as pd

        answer, check, rows = self.result, self.result.full, []
        assert check is not None
        for number in self._telling:
            reading = answer.reduced.readings[number]
            unit, size = display_unit(reading.dimension)
            for k, f in enumerate(check.frequency_hz):
                full, modal = check.full[k, number], check.modal[k, number]
                rows.append({
                    "gauge": reading.gauge, "component": reading.component, "frequency_hz": f,
                    "whole_model": full / size, "by_modes": modal / size, "unit": unit,
                    "difference_percent_of_peak": 100.0 * (modal - full) / answer.swing[number],
                })  # fmt: skip
        return pd.DataFrame(rows)

    @table("transfer", listed=False)
    def _transfer_table(self, gauge: str, *, to: str) -> pd.DataFrame:
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
        import pandas as pd

        frequencies, values, labels, unit = self._transfer(gauge, to)
        found: dict[str, object] = {"frequency_hz": frequencies}
        for label, y in zip(labels, values.T, strict=True):
            found[gauge_column(f"{label} amplitude", unit)] = np.abs(y)
            found |= _parts(label, y, unit)
        return pd.DataFrame(found)

    @table("transfers")
    def _transfers(self) -> pd.DataFrame:
        """Transfer functions of all dofs to each direction of the base and each force that swings, with `to`."""
        import pandas as pd

        r, loads, each = self.result, self.assembly.description.loads, []
        moving = dict.fromkeys(
            x.gauge for x in r.reduced.readings
            if x.dimension in ("displacement", "velocity", "acceleration") and x.width == 1
        )  # fmt: skip
        for source in dict.fromkeys(r.reader.excitation.columns):
            if source not in ("x", "y", "z") and r.reduced.column(source) not in r.reduced.apart:
                load = loads.get(source)
                if load is None or (load.force is None and load.moment is None):
                    continue
            own = [self._transfer_table(gauge, to=source).set_index("frequency_hz") for gauge in moving]
            if own:
                each.append(pd.concat(own, axis=1).reset_index().assign(to=source))
        return pd.concat(each, ignore_index=True) if each else pd.DataFrame()

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
        readings = [r.reduced.readings[k] for k in self.rows_of(gauge)]
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

    def _frequency(self, at: float | str | None) -> tuple[float, float | None]:
        return asked_frequency(at, self.result.peak_frequencies, self.result.frequency_hz)

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
        f, turn = self._frequency(at)
        if phase is not None:
            turn = argument_of("phase", phase, "angle")
        amplitude = self.motion.amplitude(f)
        if turn is None:
            turn = largest_instant(np.stack([np.zeros_like(amplitude), amplitude]))
        field = np.real(amplitude * np.exp(1j * turn))
        return Deformed(self.system, field, self.name, when=f"at {f:.5g} Hz, {np.degrees(turn):.0f} deg")

    @cached_property
    def motion(self) -> FieldSweep:
        """Whole fields: shapes at a frequency and phase, envelopes over the sweep."""
        from holokine.respond.sweep_field import FieldSweep

        return FieldSweep(self.result, self.modes.set)

    @table("points", "Named points", listed=False)
    def _points(self) -> pd.DataFrame:
        """Largest amplitudes of every named point by direction, with frequencies: displacement relative to the frame in
        mm, absolute acceleration in g."""
        import pandas as pd

        (points, moved, pushed), by = self._points_reach(), self.shown.per_peak
        return pd.DataFrame({
            "point": np.repeat(points, 3), "axis": np.tile(list("xyz"), len(points)),
            "displacement_mm": 1e3 * by * moved.amplitude, "displacement_at_hz": moved.frequency,
            "acceleration_g": by * pushed.amplitude / STANDARD_GRAVITY, "acceleration_at_hz": pushed.frequency,
        })  # fmt: skip

    @table("members", listed=False)
    def _members(self) -> pd.DataFrame:
        """Largest amplitudes of the section forces at both ends of every beam element, with frequencies; N and N m."""
        import pandas as pd

        (ends, reach), by = self.motion.members(), self.shown.per_peak
        found = ends_table(ends)
        for k, column in enumerate(SECTION_COLUMNS):
            found |= {column: by * reach.amplitude[k::6], f"{column.split('_')[0]}_at_hz": reach.frequency[k::6]}
        return pd.DataFrame(found)

    @cached_property
    def _largest(self) -> NDArray[Any]:
        return self.motion.envelope().amplitude

    # -- figures and files ------------------------------------------------------------------------------------------

    @figure("amplitudes", when=lambda self: bool(self.result.reduced.readings))
    def _amplitudes(
        self,
        gauge: str | None = None,
        *,
        others: Mapping[str, SweepAnswer] | None = None,
        logarithmic: tuple[bool, bool] = (True, True),
    ) -> Any:
        """Amplitude over phase on one frequency axis, of the main gauges or of one.

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
        chosen = None if gauge is None else self.rows_of(gauge)
        more = {label: other.result for label, other in (others or {}).items()}
        return plot_sweep(self.result, chosen, () if chosen else self._checks(), more, logarithmic)

    @figure("circle", when=lambda self: bool(self.result.reduced.readings))
    def _circle(self, *, gauge: str | None = None, near: float | str | None = None) -> Any:
        """Real against imaginary part of single components, on which a resonance is a circle.

        `near`: a frequency; only what lies within a few bandwidths of the peak next to it is drawn.
        """
        from holokine.show.sweep_figures import plot_circle

        numbers = None if gauge is None else self.rows_of(gauge)
        f = None if near is None else self._frequency(near)[0]
        return plot_circle(self.result, numbers, f)

    @writes(".gif", ".mp4")
    def _film(
        self,
        path: Path,
        *,
        gauge: str | None = None,
        at: float | str | None = None,
        window: Sequence[float | str] | None = None,
        seconds: float = 3.0,
        rate: int = 20,
        share: float = 0.08,
        pixels: tuple[int, int] = (1280, 800),
    ) -> None:
        """One cycle of steady vibration, so that phases are seen.

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
            A frequency outside the sweep, a time window, or imageio is not installed.
        """
        from holokine.show.sweep_figures import animate_cycle

        if window is not None:
            raise EventError("steady vibration has no time window: its film is one cycle")
        if gauge is not None and at is None:
            at = float(self.result.peak_frequencies[self.rows_of(gauge)[0]])
        f, _ = self._frequency(at)
        animate_cycle(self.system, self.motion.amplitude(f), f"{self.name} at {f:.5g} Hz", path, seconds, rate, share,
                      pixels)  # fmt: skip

    @writes(".html")
    def _page(self, path: Path) -> None:
        """One page with all curves: choose gauges, read amplitude and phase under the cursor, zoom."""
        from holokine.show.histories import write_sweep_page

        write_sweep_page(self.result, path, self.assembly.title, self.lines)

    def files(self, **draw: Any) -> dict[str, Writer]:
        """Envelopes as a mesh, pictures and tables, and the page of curves."""
        page: dict[str, Writer] = {"_curves.html": self.save} if self.result.reduced.readings else {}
        return {**super().files(**draw), **page}


def _parts(label: str, y: NDArray[Any], unit: str) -> dict[str, Any]:
    """Phase, real and imaginary part of one component."""
    return {gauge_column(f"{label} phase", "deg"): np.degrees(np.angle(y)),
            gauge_column(f"{label} real", unit): y.real, gauge_column(f"{label} imaginary", unit): y.imag}  # fmt: skip


def _shares_in_words(answer: SweepResult, number: int, most: int = 2) -> str:
    """Modes that make most of a reading at its peak: ``7 (94 %), 8 (5 %)``."""
    shares = answer.shares(number)
    order = [k for k in np.argsort(-np.abs(shares), kind="stable")[:most] if abs(shares[k]) >= 0.01]
    names = ["left-out modes and base" if k == len(shares) - 1 else str(k + 1) for k in order]
    return ", ".join(f"{name} ({100 * shares[k]:.0f} %)" for name, k in zip(names, order, strict=True))


def _swing_words(column: str, swing: Swing) -> str:
    """A source in a line: ``base z 1 g``."""
    base = swing.acts in ("base", "supports")
    if swing.acts == "rotor":
        rotor, _, axis = column.rpartition(" ")
        if axis == "2":  # the other half of the same turning force
            return ""
        turn = np.degrees(swing.phase[0])
        return f"{rotor} out of balance by {1e6 * swing.amplitude[0]:.4g} g mm" + (
            f" at {turn:.4g} deg" if turn else ""
        )
    unit, size = {0: ("g", STANDARD_GRAVITY), 1: ("m/s", 1.0), 2: ("mm", 1e-3)}[swing.power] if base else ("times", 1.0)
    low, high = float(swing.amplitude.min()) / size, float(swing.amplitude.max()) / size
    words = f"{high:.4g}" if high - low <= 1e-12 * high else f"{low:.4g} to {high:.4g}"
    turn = np.degrees(swing.phase)
    lag = (
        f" at {turn[0]:.4g} deg"
        if np.ptp(turn) == 0 and turn[0]
        else " with a phase of its own"
        if np.ptp(turn)
        else ""
    )
    return f"{swing.acts} {column} {words} {unit}{lag}"


def sweep_words(answer: SweepResult) -> str:
    """What swings."""
    excitation = answer.reader.excitation
    each = [_swing_words(c, s) for c, s in zip(excitation.columns, excitation.swings, strict=True)]
    return "; ".join(words for words in each if words)


def _sweep_lines(answer: SweepResult) -> list[str]:
    """What swings, over which frequencies; then modes kept and what the amplitudes are."""
    f = answer.frequency_hz
    each_range = [f"{f[own][0]:.5g} to {f[own][-1]:.5g}" for own in ranges(answer.starts, len(f))]
    shown = ", ".join(each_range[:4]) + (f" and {len(each_range) - 4} more ranges" if len(each_range) > 4 else "")
    first = f"sine sweep, {sweep_words(answer)}; {shown} Hz in {len(f):,} points"
    if answer.sampled_error > 0:
        first += f", which miss a peak by {n(100 * answer.sampled_error, 2)} % at most"
    word = {"peak": "amplitudes are peaks", "rms": "amplitudes are RMS values", "peak to peak": "from peak to peak"}
    model = answer.reader.model
    if model.vibration.coupled:
        how = "modes coupled by their damping, solved together"
        if model.attached is not None:
            how += f" with {len(model.attached.omega)} static shapes for what dampers push"
    else:
        how = "modes uncoupled"
    correction = "left-out modes answer statically" if answer.reader.correct else "no static correction"
    own = model.plain or answer.reduced
    return [
        first,
        *load_lines(answer.acting),
        *kept_lines(own),
        f"{how}; {correction}; {word[answer.amplitudes]}, phases those of e^(+iωt)",
    ]


def asked_frequency(
    at: float | str | None, peaks: NDArray[Any], frequencies: NDArray[Any]
) -> tuple[float, float | None]:  # fmt: skip
    """A frequency in Hz and a phase in rad from ``45 Hz``, ``45 Hz, 90 deg`` or a number; else that of the first peak.

    Raises
    ------
    EventError, UnitError
        Outside of the frequencies of a sweep, or none is given and there is no peak.
    """
    from holokine.units import quantity

    if at is None:
        if not len(peaks):
            raise EventError("no gauge tells which frequency is meant: give one, such as at='45 Hz'")
        return float(peaks[0]), None
    words = str(at).replace(",", " ").split()
    turn: float | None = None
    if isinstance(at, str) and words[-1].rstrip("0123456789.+-") in ("deg", "°", "rad") and len(words) > 2:
        turn = quantity(" ".join(words[-2:]), "angle")
        at = " ".join(words[:-2])
    f = argument_of("at", at, "frequency")
    low, high = float(frequencies.min()), float(frequencies.max())
    if not low * (1 - 1e-9) <= f <= high * (1 + 1e-9):
        raise EventError(f"the sweep runs from {low:.6g} to {high:.6g} Hz; {f:g} Hz lies outside")
    return f, turn


def largest_instant(harmonics: NDArray[Any]) -> float:
    """Phase in rad at which the node that moves most is farthest out, of (mean and harmonics, dofs)."""
    u = harmonics.reshape(len(harmonics), -1, 6)[:, :, :3]
    turns = np.exp(2j * np.pi * np.outer(np.arange(_INSTANTS), np.arange(len(u))) / _INSTANTS)
    far = np.sqrt((np.abs(u) ** 2).sum(axis=2)).sum(axis=0)  # what no node exceeds
    best, phase = -1.0, 0.0
    for node in np.argsort(-far, kind="stable"):
        if far[node] <= best:
            break
        reach = np.linalg.norm(np.real(turns @ u[:, node]), axis=1)
        if reach.max() > best:
            best, phase = float(reach.max()), 2.0 * np.pi * int(reach.argmax()) / _INSTANTS
    return phase
