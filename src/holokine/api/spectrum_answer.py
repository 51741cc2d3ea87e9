"""Answers to response spectra."""

from __future__ import annotations

from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.api.answer import Answer
from holokine.api.result import Entry, figure, table
from holokine.respond.combine import SpectrumResult
from holokine.show.numbers import display_unit
from holokine.show.numbers import number_text as n
from holokine.show.tables import peaks_table, section_table
from holokine.show.text import kept_lines
from holokine.units import STANDARD_GRAVITY

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["SpectrumAnswer"]

RULE_WORDS = {
    "srss": "SRSS", "cqc": "CQC", "absolute": "absolute sum", "grouped": "grouping of close modes",
    "largest plus srss": "largest plus SRSS of the rest",
}  # fmt: skip


class SpectrumAnswer(Answer[SpectrumResult]):
    """Combined peaks of every gauge, what each mode has in them, and combined whole fields."""

    @property
    def lines(self) -> list[str]:
        """Event, modes kept and mass held: what to read before the peaks."""
        answer = self.result
        missing = "missing mass left out"
        if answer.missing.any():
            zpa = zip(answer.sources.names, answer.zero_period, strict=True)
            missing = "missing mass answers with " + ", ".join(f"{d} {n(z / STANDARD_GRAVITY)} g" for d, z in zpa)
            default = "absolute" if answer.rule == "absolute" else "srss"
            if answer.combination.beside != default:
                missing += f", added to the modes by {answer.combination.beside.replace('srss', 'SRSS')}"
        return [_event_words(answer), *kept_lines(answer.reduced), missing]

    @table("peaks", "Peaks")
    def _peaks(self, *, signed: bool = False) -> pd.DataFrame:
        """Combined peak of every gauge in display units, what each source gives, and the share of the missing mass.

        `signed`: with the sign of the mode that dominates each, for values that could act together.
        """
        answer = self.result

        def more(number: int, size: float) -> dict[str, object]:
            row: dict[str, object] = {
                f"from_{axis.replace(' ', '_')}": answer.by_direction[d, number] / size
                for d, axis in enumerate(answer.directions)
            }
            if answer.settled.any():
                row["from_displacement"] = answer.settled[number] / size
            _, rest = answer.shares(number) if np.isfinite(answer.peaks[number]) else (None, [np.nan])
            return {**row, "missing_mass_percent": 100.0 * float(rest[0]), "place": answer.places[number]}

        found = peaks_table(answer, "peak", more, lambda _: False)
        if signed:
            found["peak"] = found["peak"] * answer.signs()
        return found

    def _telling(self, gauge: str | None = None) -> list[int]:
        """Readings that are more than rounding."""
        numbers = range(len(self.result.peaks)) if gauge is None else self.rows_of(gauge)
        return [k for k in numbers if self.result.peaks[k] > self.result.noise[k]]

    @table("rules", "Peaks by every rule, this event's first", listed=False)
    def _rules(self) -> pd.DataFrame:
        """Peak of every reading by every rule of combination side by side, the event's own first, in display units.

        `spread_percent` says by how much the largest lies above the smallest.
        """
        import pandas as pd

        answer, rows = self.result, []
        found = answer.by_rule()
        order = [answer.rule, *(rule for rule in found if rule != answer.rule)]
        for number in self._telling():
            reading = answer.reduced.readings[number]
            unit, size = display_unit(reading.dimension)
            values = {RULE_WORDS[r] if r in ("srss", "cqc") else r: float(found[r][number]) / size for r in order}
            low, high = min(values.values()), max(values.values())
            spread = 100.0 * (high / low - 1.0) if low > 0 else np.nan
            rows.append({"gauge": reading.gauge, "component": reading.component, **values, "unit": unit,
                         "spread_percent": spread})  # fmt: skip
        return pd.DataFrame(rows)

    @table("shares", "Modes that matter most: share in the square of each peak")
    def _shares(self, gauge: str | None = None) -> pd.DataFrame:
        """Share of every mode, and of the missing mass (last row, mode 0), in the square of each gauge, in percent."""
        import pandas as pd

        answer, f = self.result, self.result.reduced.frequencies_hz
        found: dict[str, object] = {"mode": [*range(1, len(f) + 1), 0], "frequency_hz": [*f, np.nan]}
        for number in self._telling(gauge):
            found[f"{answer.reduced.readings[number].label} (%)"] = 100.0 * np.concatenate(answer.shares(number))
        return pd.DataFrame(found)

    def _screen(self, entry: Entry, whole: pd.DataFrame) -> tuple[str, pd.DataFrame]:
        title, short = super()._screen(entry, whole)
        return title, _shares_in_words(short) if entry.name == "shares" else short

    @table("modes")
    def _modes_table(self) -> pd.DataFrame:
        """What the spectrum gives each mode: pseudo-acceleration in g, and the effective mass it acts on."""
        import pandas as pd

        answer, reduced = self.result, self.result.reduced
        unit, size = display_unit("acceleration")
        found: dict[str, object] = {
            "mode": np.arange(1, reduced.count + 1), "frequency_hz": reduced.frequencies_hz,
            "damping_percent": 100.0 * reduced.damping,
        }  # fmt: skip
        for i, d in enumerate(answer.sources.names):
            name = d.replace(" ", "_")
            found[f"acceleration_{name}_{unit}"] = answer.spectral[:, i] / size
            found[f"effective_{name}_kg"] = reduced.participation[:, reduced.column(d)] ** 2
        return pd.DataFrame(found)

    @table("main_modes")
    def _main_modes(self, share: float = 0.95) -> pd.DataFrame:
        """The fewest modes that make up a share of the square of each reading, largest first."""
        import pandas as pd

        rows = []
        for number in self._telling():
            reading, parts = self.result.reduced.readings[number], np.concatenate(self.result.shares(number))
            order = np.argsort(-parts, kind="stable")
            order = order[: int(np.searchsorted(np.cumsum(parts[order]), share - 1e-12)) + 1]
            names = ["missing mass" if i == len(parts) - 1 else str(i + 1) for i in order]
            rows.append({"gauge": reading.gauge, "component": reading.component, "modes": ", ".join(names),
                         "count": len(names), "share_percent": 100.0 * float(parts[order].sum())})  # fmt: skip
        return pd.DataFrame(rows)

    @table("missing_mass")
    def _missing_mass(self) -> pd.DataFrame:
        """By direction (or group of supports): free mass, what the modes hold and leave out in kg, and with what
        acceleration that answers."""
        import pandas as pd

        answer, rows = self.result, []
        unit, size = display_unit("acceleration")
        for i, source in enumerate(answer.sources.names):
            column = answer.reduced.column(source)
            held = float((answer.reduced.participation[:, column] ** 2).sum())
            free = float(answer.reduced.free_mass[column])
            left = max(free - held, 0.0) if np.isfinite(free) else np.nan
            rows.append({"source": source, "free_kg": free, "held_kg": held, "missing_kg": left,
                         "missing_percent": 100.0 * left / free if free > 0 else np.nan,
                         f"zero_period_{unit}": answer.zero_period[i] / size})  # fmt: skip
        return pd.DataFrame(rows)

    @table("correlation", listed=False)
    def _correlation(self) -> pd.DataFrame:
        """Correlation of every two modes under the event's rule, a row and a column each; the unit matrix under SRSS.

        Empty under rules that are no quadratic form (absolute, largest plus SRSS).
        """
        import pandas as pd

        answer = self.result
        if answer.rule in ("absolute", "largest plus srss"):
            return pd.DataFrame()
        matrix, numbers = answer.combination.matrix, np.arange(1, answer.reduced.count + 1)
        found = pd.DataFrame(np.eye(len(numbers)) if matrix is None else matrix, columns=[f"mode_{m}" for m in numbers])
        found.insert(0, "mode", numbers)
        found.insert(1, "frequency_hz", answer.reduced.frequencies_hz)
        return found

    @table("points", "Named points", listed=False)
    def _points(self) -> pd.DataFrame:
        """Combined largest motion of every named point: displacement relative to the frame in mm, rotation in mrad,
        absolute acceleration in g, by direction."""
        import pandas as pd

        from holokine.respond.whole import spectrum_acceleration

        nodes, dofs = self._main_points
        moved = self._largest.reshape(-1, 6)[list(nodes.values())]
        pushed = spectrum_acceleration(self.result, self.modes.set, dofs).reshape(-1, 3)
        found: dict[str, object] = {"point": list(nodes)}
        for name, values, size in (("{}_mm", moved[:, :3], 1e-3), ("r{}_mrad", moved[:, 3:], 1e-3),
                                   ("acceleration_{}_g", pushed, STANDARD_GRAVITY)):  # fmt: skip
            found |= {name.format(axis): values[:, d] / size for d, axis in enumerate("xyz")}
        return pd.DataFrame(found)

    @table("members", listed=False)
    def _members(self) -> pd.DataFrame:
        """Combined largest section forces at both ends of every beam element, in its axes, without sign; N and N m.

        Each is combined for itself: they need not occur together.
        """
        from holokine.respond.whole import spectrum_members

        return section_table(*spectrum_members(self.result, self.modes.set))

    @cached_property
    def _stress(self) -> Any:
        from holokine.respond.whole import spectrum_stress

        return spectrum_stress(self.result, self.modes.set)

    @cached_property
    def _largest(self) -> NDArray[Any]:
        from holokine.respond.whole import spectrum_displacement

        return np.asarray(spectrum_displacement(self.result, self.modes.set))

    @figure("spectrum")
    def _spectrum(self, gauge: str | None = None) -> Any:
        """The spectra with the modes on them, or with a gauge the share of each mode in it."""
        from holokine.show.figures import plot_shares, plot_spectrum

        return plot_spectrum(self.result) if gauge is None else plot_shares(self.result, self.rows_of(gauge))

    @figure("shares", when=lambda self: bool(self.result.reduced.readings))
    def _shares_drawn(self) -> Any:
        """Share of each mode in every gauge as stacked bars."""
        from holokine.show.figures import plot_shares

        return plot_shares(self.result, checks=self._checks())

    @figure("four_way")
    def _four_way(self) -> Any:
        """The spectra on four-way paper."""
        from holokine.show.figures import plot_tripartite

        return plot_tripartite(self.result)


def _event_words(answer: SpectrumResult) -> str:
    """What the event is, in a line."""
    names = ", ".join(answer.sources.names)
    rule = RULE_WORDS.get(answer.rule, answer.rule)
    if answer.combination.rigid is not None:
        rule += ", rigid parts algebraically"
    both = "" if len(set(answer.sources.axes)) == 1 else f", directions by {answer.direction_rule}"
    if len(set(answer.sources.axes)) < len(answer.sources.axes):
        both = f", groups of supports by {answer.sources.supports}" + both
        return f"response spectra at groups of supports: {names}; modes by {rule}{both.replace('srss', 'SRSS')}"
    return f"response spectrum along {names}; modes by {rule}{both.replace('srss', 'SRSS')}"


def _shares_in_words(shares: pd.DataFrame) -> pd.DataFrame:
    """The modes of largest share per reading (up to four, from 1 %), in words."""
    import pandas as pd

    rows = []
    for column in shares.columns[2:]:
        values = shares[column].to_numpy()
        if not np.isfinite(values).all() or not values.any():
            continue
        words = []
        for i in np.abs(values).argsort()[::-1][:4]:
            if abs(values[i]) >= 1.0:
                mode = int(shares["mode"].iloc[i])
                words.append(f"mode {mode} {values[i]:.0f} %" if mode else f"missing mass {values[i]:.0f} %")
        rows.append({"gauge": column.removesuffix(" (%)"), "made_up_by": ", ".join(words)})
    return pd.DataFrame(rows)
