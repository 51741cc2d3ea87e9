"""Two runs, two bases or two ways to one answer, side by side, as a Python user holds them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.api.result import Entry, Result, figure, table
from holokine.errors import SelectionError
from holokine.show.numbers import display_unit
from holokine.show.numbers import number_text as n
from holokine.units import argument_of

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.host import AssemblyLike, ModesLike
    from holokine.findings import Finding
    from holokine.modes.compare import Comparison as Pairs
    from holokine.respond.combine import SpectrumResult
    from holokine.respond.transient import TimeResult

__all__ = ["BasesCompared", "Comparison", "ModesCompared", "RulesAgainstTime"]


class Comparison(Result):
    """Two of a kind, set side by side."""


@dataclass(frozen=True, repr=False)
class ModesCompared(Comparison):
    """Modes before and after a change, paired by the modal assurance criterion.

    Attributes
    ----------
    before, after : Modes
    result : Comparison
        The numbers.
    predicted : ndarray or None
        Shift of each frequency in percent that the energies foretell, of a change of stiffness or mass.
    """

    before: ModesLike
    after: ModesLike
    result: Pairs
    what: str = "modes compared"
    predicted: np.ndarray[Any, Any] | None = None
    stage = "modes before"
    rows = "modes"

    @classmethod
    def of(cls, before: Any, after: Any) -> ModesCompared:
        """Paired."""
        from holokine.modes.compare import compare_modes

        return cls(before, after, compare_modes(before.set, after.set))

    @classmethod
    def adjusted(cls, before: Any, factors: Mapping[str, Mapping[str, float | str]]) -> ModesCompared:
        """With members stiffer or lighter: run again, and foretold to first order from the shares of energy."""
        from holokine.modes.compare import compare_modes

        if not before.set.from_the_bottom:
            raise SelectionError("a change is followed from the lowest mode up: take modes that start there")
        plain = {m: {k: argument_of(k, v, "number") for k, v in f.items()} for m, f in factors.items()}
        changed = before.assembly.adjusted(plain)
        groups, predicted = before.assembly.description.groups, np.zeros(len(before))
        total = np.where(before.set.omega > 0, before.set.omega**2 / 2.0, 1.0)
        for member, own in plain.items():
            names, strain, kinetic = before.shares_by(member if member in groups else "member")
            row = names.index(member)
            dk, dm = own.get("stiffness", 1.0) - 1.0, own.get("mass", 1.0) - 1.0
            predicted += 50.0 * (dk * strain[row] - dm * kinetic[row]) / total
        after = changed.modes(len(before) + 2)
        words = "; ".join(f"{m}, {', '.join(f'{k} x {v:g}' for k, v in own.items())}" for m, own in plain.items())
        return cls(before, after, compare_modes(before.set, after.set), words, predicted)

    def named(self, what: str) -> ModesCompared:
        """The same, with what the modes after are called."""
        return replace(self, what=f"before against {what}")

    @property
    def title(self) -> str:
        """Of which assembly, and what was changed."""
        return f"{self.before.assembly.title}: {self.what}"

    @property
    def of_assembly(self) -> AssemblyLike:
        """That before the change."""
        return self.before.assembly

    @property
    def key(self) -> str:
        """Of the modes before."""
        return self.before.key

    @property
    def findings(self) -> tuple[Finding, ...]:
        """Of the modes after."""
        return self.after.findings

    @property
    def lines(self) -> list[str]:
        """Both proofs, at how many points shapes are compared, which frequency moves most."""
        c, lines = self.result, [f"before: {self.before.statement}", f"after: {self.after.statement}"]
        lines.append(f"shapes compared at {c.points} points")
        if self.predicted is not None:
            lines.append("predicted: first order, from the shares of energy; shift: run again")
        shift = np.abs(c.shift)
        if np.isfinite(shift).any():
            row = int(np.nanargmax(shift))
            f, g = n(c.before.frequencies_hz[row]), n(c.after.frequencies_hz[c.partner[row]])
            number = c.before.numbers[row]
            lines.append(f"mode {number} moves most: {f} Hz becomes {g} Hz ({100 * c.shift[row]:+.3g} %)")
        return lines

    def _screen(self, entry: Entry, whole: pd.DataFrame) -> tuple[str, pd.DataFrame]:
        title, short = super()._screen(entry, whole)
        return (f"{title}: {self.what}" if entry.name == "modes" else title), short

    @table("modes", "Frequencies before and after")
    def _modes(self) -> pd.DataFrame:
        """One row per mode: partner, frequency shift in percent, MAC, crossings and splits; then modes after that have
        none before."""
        import pandas as pd

        c, rows = self.result, []
        f, g = c.before.frequencies_hz, c.after.frequencies_hz
        for row in range(c.before.count):
            mate = int(c.partner[row])
            there = mate >= 0
            rows.append((
                str(c.before.numbers[row]), f[row], str(c.after.numbers[mate]) if there else "-",
                g[mate] if there else np.nan, 100.0 * c.shift[row],
                round(float(c.mac[row, mate] if there else c.mac[row].max(initial=0.0)), 4), c.remark(row),
            ))  # fmt: skip
        paired = g[c.partner[c.partner >= 0]]
        top = max(float(f.max(initial=0.0)), float(paired.max(initial=0.0)))
        for mate in c.new[g[c.new] <= top] if self.predicted is None else ():  # those above all say nothing
            likeness = round(float(c.mac[:, mate].max(initial=0.0)), 4)
            rows.append(("-", np.nan, str(c.after.numbers[mate]), g[mate], np.nan, likeness, "no partner before"))
        columns = ["mode", "frequency_hz", "becomes", "becomes_hz", "shift_percent", "mac", "remark"]
        found = pd.DataFrame(rows, columns=columns)
        if self.predicted is not None:
            found.insert(4, "predicted_percent", self.predicted)
        return found

    @table("mac")
    def _mac(self) -> pd.DataFrame:
        """The modal assurance criterion, modes before down, modes after across."""
        import pandas as pd

        found = pd.DataFrame(self.result.mac, columns=[f"after_{k}" for k in self.result.after.numbers])
        found.insert(0, "mode_before", self.result.before.numbers)
        return found

    @figure("mac")
    def _drawn(self) -> Any:
        """The matrix."""
        from holokine.show.mode_figures import plot_assurance

        return plot_assurance(self.result)


@dataclass(frozen=True, repr=False)
class BasesCompared(Comparison):
    """The lowest natural modes against load-dependent Ritz vectors for one event."""

    modes: ModesLike
    vectors: ModesLike
    event: str
    count: int
    stage = "vectors"

    @classmethod
    def of(cls, modes: Any, event: str, count: int) -> BasesCompared:
        """With so many vectors, or as many as there are modes."""
        made = modes.assembly.ritz(event, count)
        return cls(modes, made, event, min(len(made), len(modes)))

    @property
    def title(self) -> str:
        """Assembly and event."""
        return f"{self.modes.assembly.title}: load-dependent vectors for {self.event}"

    @property
    def of_assembly(self) -> AssemblyLike:
        """That of the modes."""
        return self.modes.assembly

    @property
    def key(self) -> str:
        """Of the vectors."""
        return self.vectors.key

    @property
    def findings(self) -> tuple[Finding, ...]:
        """Of the vectors."""
        return self.vectors.findings

    @property
    def lines(self) -> list[str]:
        """What the shares are."""
        return [
            f"{self.event}: {self.count} natural modes against {self.count} load-dependent vectors",
            "static: of the deformation energy at rest under the load; dynamic: of the load (effective mass)",
        ]

    @table("load_shares", "Share of the loads held by the first n vectors")
    def _shares(self) -> pd.DataFrame:
        """Running share of every load in percent, static and dynamic, by modes and by vectors."""
        runs: tuple[Any, ...] = (self.modes, self.vectors)
        eigen, own = (m.table("load_shares", self.event).iloc[: self.count] for m in runs)
        found = eigen[["vectors"]].rename(columns={"vectors": "n"})
        for column in eigen.columns[2:]:
            name = column.removesuffix("_percent")
            found[f"{name}_modes_percent"] = eigen[column]
            found[f"{name}_vectors_percent"] = own[column]
        return found

    @table("peaks", "Peaks by the first shapes without correction, beside all modes with it",
           when=lambda self: self.modes.assembly.event_named(self.event).needs_modes)  # fmt: skip
    def _peaks(self) -> pd.DataFrame:
        """Largest reading of every gauge by the first natural modes, by the vectors, and by all modes corrected."""
        described = self.modes.assembly.event_named(self.event)
        own = type(described).model_fields
        off: dict[str, Any] = {k: False for k in ("static_correction", "missing_mass") if k in own}
        if "amplitudes" in own:  # of sweeps, compared as peaks
            described = described.model_copy(update={"amplitudes": "peak"})
        plain = described.model_copy(update=off)
        top = float(self.modes.set.frequencies_hz[self.count - 1]) * (1 + 1e-9)
        answers = [(self.modes, plain.model_copy(update={"upto": top})), (self.vectors, plain), (self.modes, described)]
        best, few, full = (m.respond(e).table("largest").set_index(["gauge", "component"]) for m, e in answers)
        full = full.reset_index()
        full["size"] = full["peak"].abs()
        rows = full.loc[full.groupby("gauge", sort=False)["size"].idxmax()]
        keys = list(zip(rows["gauge"], rows["component"], strict=True))
        found = rows[["gauge", "component", "unit"]].reset_index(drop=True)
        by_basis = {name: run["peak"].loc[keys].to_numpy()
                    for name, run in (("natural_modes", best), ("load_dependent", few))}  # fmt: skip
        return found.assign(all_modes_corrected=rows["peak"].to_numpy(), **by_basis)


@dataclass(frozen=True, repr=False)
class RulesAgainstTime(Comparison):
    """Peaks of a pulse in time against every rule of combination under the spectra of the same pulse.

    Attributes
    ----------
    time : TimeResult
    rules : dict of str to SpectrumResult
        The numbers, in SI.
    """

    name: str
    time: TimeResult
    rules: dict[str, SpectrumResult]
    told: tuple[Finding, ...]
    modes_key: str
    stage = "modes"
    rows = "readings"
    lines_first = 1

    @classmethod
    def of(cls, answer: Any) -> RulesAgainstTime:
        """Of an answer in time."""
        from holokine.respond.conservatism import rules_under

        rules = rules_under(answer.result, answer.event, answer.name)
        return cls(answer.title, answer.result, rules, answer.findings, answer.modes.key)

    @property
    def title(self) -> str:
        """Assembly and event."""
        return f"{self.name}, how conservative the rules are"

    @property
    def key(self) -> str:
        """Of the modes."""
        return self.modes_key

    @property
    def findings(self) -> tuple[Finding, ...]:
        """Of the modes and of the answer in time."""
        return self.told

    @table("ratios", "Peak in time, and rules over it")
    def _ratios(self) -> pd.DataFrame:
        """One row per reading that matters: peak in time, and each rule's peak over it (``cqc_over_time``)."""
        import pandas as pd

        from holokine.respond.reduced import slight

        pulse, rows = self.time, list[dict[str, Any]]()
        small = slight(pulse.reduced.readings, pulse.peaks)
        for number, reading in enumerate(pulse.reduced.readings):
            peak = abs(pulse.peaks[number])
            if peak <= pulse.noise[number] or small[number]:
                continue
            unit, size = display_unit(reading.dimension)
            over = {over_time(rule): answer.peaks[number] / peak for rule, answer in self.rules.items()}
            rows.append({"gauge": reading.gauge, "component": reading.component, "peak_in_time": peak / size,
                         "unit": unit, **over})  # fmt: skip
        return pd.DataFrame(rows)

    @property
    def lines(self) -> list[str]:
        """Which rules lie above time for every reading that matters, by how much, and where others do not."""
        from holokine.respond.reduced import slight_of

        ratios_of, above, below = self.table("ratios"), [], []
        for rule in self.rules:
            ratios = ratios_of[over_time(rule)].to_numpy(dtype=float) if len(ratios_of) else np.zeros(0)
            if not np.isfinite(ratios).any():
                continue
            low, middle, high = np.nanmin(ratios), np.nanmedian(ratios), np.nanmax(ratios)
            told = f"{rule} {low:.2f} to {high:.2f} times (median {middle:.2f})"
            if low >= 1.0:
                above.append(told)
                continue
            least = ratios_of.iloc[int(np.nanargmin(ratios))]
            where = f"{least['gauge']} {least['component']}".strip()
            below.append(f"{told}, below time for {int((ratios < 1.0).sum())}, most at {where}")
        count, left = len(ratios_of), int(slight_of(self.time).sum())
        readings = f"all {count} readings that matter" if count != 1 else "the one reading that matters"
        lines = [
            "spectra of the pulse itself, at every mode's frequency and damping: a rule's peak over the peak in time",
            f"above the peak in time for {readings}: {'; '.join(above) or 'none'}",
        ]
        lines += [f"not above it for all: {'; '.join(below)}"] if below else []
        which = "readings that are" if left != 1 else "reading that is"
        return lines + ([f"left out: {left} {which} nothing beside others of the gauge or kind"] if left else [])

    @figure("conservatism")
    def _drawn(self) -> Any:
        """Each rule's peak over the peak in time, reading by reading."""
        from holokine.show.figures import plot_conservatism

        return plot_conservatism(self.table("ratios"), self.name)


def over_time(rule: str) -> str:
    """Column of a rule's peaks over those in time."""
    return f"{rule.replace(' ', '_')}_over_time"
