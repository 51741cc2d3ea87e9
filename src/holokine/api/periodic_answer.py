"""Answers to sine sweeps in which one-way members let go, hit and slide."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.api.answer import Answer
from holokine.api.deformed import Deformed
from holokine.api.result import figure, table
from holokine.api.sweep_answer import asked_frequency, largest_instant, sweep_words
from holokine.errors import EventError
from holokine.gauges.resting_gauges import LETS_GO
from holokine.respond.answer_periodic import PeriodicResult
from holokine.respond.contacts import OPEN
from holokine.respond.curves import ranges
from holokine.respond.periodic_reading import PeriodicPoints
from holokine.show.numbers import display_unit, gauge_column
from holokine.show.tables import peaks_table
from holokine.show.text import kept_lines, load_lines
from holokine.units import argument_of

if TYPE_CHECKING:
    import pandas as pd
    from numpy.typing import NDArray

__all__ = ["PeriodicAnswer"]

_SHARE = 1e-3  # of the largest, from which a harmonic is told


class PeriodicAnswer(Answer[PeriodicResult]):
    """Steady motions over frequency: what a slow sweep up and a slow sweep down see, jumps, harmonics, members."""

    has_fields = False

    @property
    def lines(self) -> list[str]:
        """What swings, modes kept, and how it was followed: what to read before the peaks."""
        r = self.result
        linear = r.linear
        f = linear.frequency_hz
        spans = [f"{f[own][0]:.5g} to {f[own][-1]:.5g}" for own in ranges(linear.starts, len(f))]
        first = (
            f"sine sweep, {sweep_words(linear)}; {', '.join(spans)} Hz, with what lets go, hits and slides; "
            f"{len(r.points.omega):,} steady motions of {r.harmonics} harmonics"
        )
        told = "largest over the cycle, of what slow sweeps up and down see; phases those of e^(+iωt)"
        own = linear.reader.model.plain or linear.reduced
        return [first, *load_lines(linear.acting), *kept_lines(own), told]

    # -- tables -----------------------------------------------------------------------------------------------------

    @table("peaks", "Largest over sweeps up and down", hide=("lowest", "highest", "mean"))
    def _peaks(self) -> pd.DataFrame:
        """Largest of every gauge over the cycle in display units: frequency, of sweeps up and down, against the linear
        answer, extremes, mean, and harmonics that make it."""
        answer = self.result

        def more(number: int, size: float) -> dict[str, object]:
            reading = answer.reduced.readings[number]
            linear = answer.linear.peaks[number]
            signed = reading.form.signed and not reading.one_sided
            own = answer.series(number, answer.peak_point(number))
            return {
                "frequency_hz": answer.peak_frequencies[number],
                "sweep_up": answer.upward[number] / size, "sweep_down": answer.downward[number] / size,
                "linear": linear / size,
                "ratio_to_linear": abs(answer.peaks[number] / linear) if linear else np.nan,
                "lowest": answer.lowest[number] / size if signed else np.nan,
                "highest": answer.highest[number] / size if signed else np.nan,
                "mean": own[0, 0].real / size if reading.width == 1 else np.nan,
                "harmonic_shares": _in_words(own), "place": answer.places[number],
            }  # fmt: skip

        return peaks_table(answer, "peak", more, lambda number: answer.reduced.readings[number].component == LETS_GO)

    @table("jumps", "Where sweeps jump", when=lambda self: bool(self.result.jumps))
    def _jumps(self) -> pd.DataFrame:
        """Every jump of a slow sweep: which way it runs, the frequency, why the motion before ends, and the main gauge
        that differs most from the linear answer before and after (empty where nothing stable is known)."""
        import pandas as pd

        r = self.result
        gauge = max(self._main, key=lambda k: r.changed[k], default=None)
        rows = []
        for j in r.jumps:
            row: dict[str, object] = {"sweep": "up" if j.upward else "down", "frequency_hz": j.frequency_hz,
                                      "why": j.why}  # fmt: skip
            if gauge is not None:
                reading = r.reduced.readings[gauge]
                unit, size = display_unit(reading.dimension)
                y = r.size_curve(gauge) / size
                row |= {"gauge": reading.label, "before": y[j.leaves],
                        "after": y[j.reaches] if j.reaches >= 0 else np.nan, "unit": unit}  # fmt: skip
            rows.append(row)
        return pd.DataFrame(rows)

    @property
    def _main(self) -> list[int]:
        from holokine.show.figures import main_readings

        return main_readings(self.result, self._checks())

    @table("one_way", "What acts one way or by a law")
    def _one_way(self) -> pd.DataFrame:
        """Every one-way member over all that sweeps see: force at the start, the largest with its frequency, the lowest
        and highest frequency at which it opens or touches within the cycle, for what share of the cycle it is open at
        most, the widest opening, and how far rough feet slide to and fro at most."""
        import pandas as pd

        r, rows = self.result, []
        for j, m in enumerate(r.followed):
            row: dict[str, object] = {"member": m.name, "force_at_start_n": m.force}
            if isinstance(r.points, PeriodicPoints):
                row |= _over_points(r.points, r.seen, j)
            rows.append(row)
        return pd.DataFrame(rows)

    @table("harmonics")
    def _harmonics(self, gauge: str | None = None) -> pd.DataFrame:
        """Mean (order 0) and harmonics of every gauge's channels at its peak (or of one), in display units: amplitude,
        phase, and share of the largest harmonic; from a thousandth of that on.

        Raises
        ------
        UnknownNameError
        """
        import pandas as pd

        r, rows = self.result, []
        for number in range(len(r.peaks)) if gauge is None else self.rows_of(gauge):
            reading = r.reduced.readings[number]
            if reading.width > 1 or r.size_curve(number)[r.seen].max(initial=0.0) <= r.noise[number]:
                continue
            unit, size = display_unit(reading.dimension)
            point = r.peak_point(number)
            own = r.series(number, point)[:, 0]
            largest = float(np.abs(own[1:]).max(initial=0.0)) or 1.0
            for h, value in enumerate(own):
                if abs(value) >= _SHARE * largest:
                    turn = np.degrees(np.angle(value)) if h else np.nan
                    amplitude = abs(value) if h else value.real
                    rows.append((reading.gauge, reading.component, r.frequency_hz[point], h, amplitude / size, unit,
                                 turn, 100.0 * abs(value) / largest))  # fmt: skip
        return pd.DataFrame(rows, columns=[
            "gauge", "component", "frequency_hz", "order", "amplitude", "unit", "phase_deg", "share_percent",
        ])  # fmt: skip

    @table("curves")
    def _curves(self) -> pd.DataFrame:
        """The largest of all gauges over the cycle at every steady motion, in display units: branch, frequency, why it
        is not stable (empty where it is), whether a sweep up and a sweep down see it."""
        return self._rows(list(range(len(self.result.peaks))), whole=False)

    @table("curve", listed=False)
    def _curve(self, gauge: str) -> pd.DataFrame:
        """The same of one gauge (all its components): lowest, highest, mean, amplitude and phase of every harmonic from
        the first on that reaches a hundredth of the largest somewhere.

        Raises
        ------
        UnknownNameError
        """
        return self._rows(self.rows_of(gauge), whole=True)

    def _rows(self, numbers: list[int], *, whole: bool) -> pd.DataFrame:
        import pandas as pd

        r = self.result
        found: dict[str, Any] = {"branch": r.branch + 1, "frequency_hz": r.frequency_hz, "not_stable": list(r.lost),
                                 "sweep_up": r.up, "sweep_down": r.down}  # fmt: skip
        every = r.points.at(np.arange(len(r.branch)))
        for number in numbers:
            reading = r.reduced.readings[number]
            unit, size = display_unit(reading.dimension)
            label = reading.label
            found[gauge_column(f"{label} largest", unit)] = r.size_curve(number) / size
            if not whole or reading.width > 1:
                continue
            found[gauge_column(f"{label} lowest", unit)] = r.lows[:, number] / size
            found[gauge_column(f"{label} highest", unit)] = r.highs[:, number] / size
            own = r.points.series(every, r.columns(number))[:, :, 0]
            found[gauge_column(f"{label} mean", unit)] = own[:, 0].real / size
            reach = np.abs(own[:, 1:]).max(axis=0)
            for h in np.flatnonzero(reach >= 0.01 * reach.max(initial=0.0)) + 1:
                found[gauge_column(f"{label} harmonic {h}", unit)] = np.abs(own[:, h]) / size
                found[gauge_column(f"{label} harmonic {h} phase", "deg")] = np.degrees(np.angle(own[:, h]))
        return pd.DataFrame(found)

    # -- shapes and figures ------------------------------------------------------------------------------------------

    def deformed(
        self, at: float | str | None = None, *, phase: float | str | None = None, sweep: str = "up"
    ) -> Deformed:
        """The assembly at an instant of steady motion: shape, stress, member forces.

        Parameters
        ----------
        at : float or str, optional
            Frequency, with a phase where wanted (``"45 Hz, 90 deg"``): the motion next to it that the sweep sees.
            Without: the first gauge's peak.
        phase : float or str, optional
            Of what acts at that instant. Without: when the largest displacement of all is reached.
        sweep : str
            ``up`` or ``down``.

        Raises
        ------
        EventError, UnitError
            A frequency outside the sweep, another word.
        """
        r = self.result
        if sweep not in ("up", "down"):
            raise EventError(f'sweep: expected up or down, got "{sweep}"')
        f, turn = asked_frequency(at, r.peak_frequencies, r.linear.frequency_hz)
        if at is None:
            point = r.peak_point(0)
        else:
            saw = np.flatnonzero(r.up if sweep == "up" else r.down)
            point = int(saw[np.abs(r.frequency_hz[saw] - f).argmin()])
        each = r.points.fields(point)
        if phase is not None:
            turn = argument_of("phase", phase, "angle")
        if turn is None:
            turn = largest_instant(each)
        field = np.real(np.exp(1j * turn * np.arange(len(each))) @ each)
        told = f"at {r.frequency_hz[point]:.5g} Hz, {np.degrees(turn):.0f} deg"
        return Deformed(self.system, field, self.name, when=told)

    @figure("amplitudes", when=lambda self: bool(self.result.reduced.readings))
    def _amplitudes(
        self,
        gauge: str | None = None,
        *,
        others: Mapping[str, PeriodicAnswer] | None = None,
        logarithmic: tuple[bool, bool] = (False, True),
    ) -> Any:
        """Largest over the cycle over frequency, of the main gauges or of one: stable and not, jumps, linear beside.

        Parameters
        ----------
        others : mapping of str to PeriodicAnswer, optional
            More of them in the same figure, with what to call them (other levels, variants).
        logarithmic : tuple of bool
            Of the frequency axis, and of amplitudes.

        Raises
        ------
        EventError
            Another kind of answer among `others`.
        """
        from holokine.show.periodic_figures import plot_branches

        for label, other in (others or {}).items():
            if not isinstance(other, PeriodicAnswer):
                raise EventError(f'"{label}" is no sweep that is followed; follow all or none in one figure')
        chosen = None if gauge is None else self.rows_of(gauge)
        more = {label: other.result for label, other in (others or {}).items()}
        return plot_branches(self.result, chosen, () if chosen else self._checks(), more, logarithmic)


def _in_words(own: NDArray[Any], most: int = 2) -> str:
    """Harmonics that make most of a reading, ``1 (91 %), 3 (22 %)`` of all together; empty where it is a sine."""
    size = np.sqrt((np.abs(own[1:]) ** 2).sum(axis=1))
    whole = float(np.sqrt((size**2).sum())) or 1.0
    order = [h for h in np.argsort(-size, kind="stable")[:most] if size[h] >= 0.02 * whole]
    return "" if order == [0] else ", ".join(f"{h + 1} ({100.0 * size[h] / whole:.0f} %)" for h in order)


def _over_points(points: PeriodicPoints, seen: NDArray[np.int64], j: int) -> dict[str, object]:
    """What one member does over all steady motions that sweeps see."""
    balance, m = points.balance, points.balance.few.members[j]
    d, V = balance.normal[j], balance.cycle.V
    closing = np.array([points.points[k].place[d] @ V.T for k in seen])
    if m.rigid:
        force = np.array([m.force + balance.forces(points.points[k])[d] @ V.T for k in seen])
    else:
        speed = np.array([points.omega[k] * (balance.cycle.D @ points.points[k].place[d]) @ V.T for k in seen])
        force = np.sum(m.acting(closing, speed), axis=0)
    row, column = np.unravel_index(int(np.abs(force).argmax()), force.shape)
    f = points.omega[seen] / (2.0 * np.pi)
    found: dict[str, object] = {"largest_force_n": force[row, column], "largest_force_at_hz": f[row]}
    if m.law is None:
        slack = 1e-9 * float(np.abs(force).max(initial=0.0))
        acts = force > slack
        changes = acts.any(axis=1) & ~acts.all(axis=1)
        open_ = 1.0 - acts.mean(axis=1)
        found |= {
            "changes_from_hz": f[changes].min() if changes.any() else np.nan,
            "changes_to_hz": f[changes].max() if changes.any() else np.nan,
            "open_at_most_percent": 100.0 * float(open_.max()) if m.at_start != OPEN or changes.any() else 100.0,
            "widest_mm": 1e3 * max(0.0, float((m.gap - closing).max())),
        }
    if m.rough:
        own = [np.array([points.points[k].place[a] @ V.T for k in seen]) for a in balance.across[j]]
        reach = np.sqrt(sum(np.ptp(x, axis=1) ** 2 for x in own))
        found |= {"slides_mm": 1e3 * float(reach.max()), "slides_most_at_hz": f[int(reach.argmax())]}
    return found
