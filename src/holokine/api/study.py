"""Studies of many variants, as a Python user holds them; the other studies stand beside."""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import cached_property, partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.api.result import Entry, Result, figure, table, writes
from holokine.describe.walk import located
from holokine.errors import DescriptionError, UnknownNameError
from holokine.show.numbers import display_unit, gauge_column
from holokine.show.numbers import number_text as n
from holokine.show.study_figures import mode_column, mode_columns, parameter_columns
from holokine.vary import Followed, Plan, ReadingAsked, VariantResult, Wish, follow, read_wish
from holokine.vary.parameters import number_in, number_of
from holokine.vary.wish import mode_number, ranked

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.host import AssemblyLike

__all__ = ["Study", "VariantStudy", "reading_column", "readings_of"]

MOST_MODES = 6
"""Modes of variants that a screen shows."""


class Study(Result):
    """Many runs of one assembly.

    Attributes
    ----------
    assembly : Assembly
        As it is written.
    """

    stage = "modes"
    assembly: AssemblyLike

    def found(self) -> Any:
        """The assembly that the study ends with.

        Raises
        ------
        DescriptionError
            It ends with none.
        """
        raise DescriptionError("this study ends with no assembly of its own")

    @writes(".yaml", ".yml")
    def _assembly_file(self, path: Path) -> None:
        """The assembly that the study ends with: the best variant, or the value that reaches a target."""
        self.found().save(path)


class VariantStudy(Study):
    """Many variants of an assembly: their modes followed from the assembly as it is written, and readings.

    Attributes
    ----------
    plan : Plan
    first : VariantResult
        The assembly as it is written.
    results : list of VariantResult
        In SI; a failed one says why.
    followed : Followed
    """

    unmet = "no variant meets the bounds wished for"
    rows = "variants"

    def __init__(
        self, assembly: AssemblyLike, plan: Plan, first: VariantResult, results: list[VariantResult],
        wishes: Sequence[str] = (),
    ) -> None:  # fmt: skip
        self.assembly, self.plan, self.first, self.results, self._wishes = assembly, plan, first, results, tuple(wishes)
        units = assembly.description.units.system()
        own = [
            np.nan if v is None else p.number(v) if number_of(v) is None
            else number_in(v, p.unit, units, str(p.path[-1]))
            for p, v in zip(plan.parameters, self._written, strict=True)
        ]  # fmt: skip
        self.followed: Followed = follow(first, results, plan.numbers(), np.array(own, dtype=float))

    def __len__(self) -> int:
        return len(self.results)

    @property
    def title(self) -> str:
        """Of which assembly."""
        return f"{self.assembly.title}: variants"

    @property
    def key(self) -> str:
        """Of the modes as written."""
        return self.first.key

    @cached_property
    def _written(self) -> list[Any]:
        """What the description writes in place of each parameter; None where it writes nothing."""
        data, found = self.assembly.document.data, []
        for parameter in self.plan.parameters:
            at = located(data, parameter.path)
            found.append(None if at is None else at[0][at[1]])
        return found

    @property
    def failed(self) -> dict[int, str]:
        """Why variants have no results, by their number."""
        return {r.number: r.failed for r in self.results if r.failed}

    @property
    def facts(self) -> dict[str, Any]:
        """What failed."""
        return {"failed": self.failed}

    @property
    def lines(self) -> list[str]:
        """How many there are, what failed, what crosses, which is best."""
        lines = _variant_lines(self.plan, self.first, self.results, self.followed, sum(r.made for r in self.results))
        failed = [f"variant {k} failed: {why}" for k, why in self.failed.items()]
        lines += failed[:10] + ([f"and {len(failed) - 10} more failed (in the table)"] if len(failed) > 10 else [])
        return lines + (self._best_words() if self._wishes else [])

    @table("variants", "Variants (0: as written)")
    def _variants(self) -> pd.DataFrame:
        """A row per variant, the assembly as written first (variant 0): parameters, mass, modes, readings.

        Modes have the numbers that they have in the assembly as written. `lowest_mac`: of the shape that was followed
        least surely.
        """
        import pandas as pd

        every, way = [self.first, *self.results], self.followed
        found: dict[str, Any] = {"variant": [r.number for r in every], **self._parameter_values()}
        found["mass_kg"] = [r.mass for r in every]
        for k, f in enumerate(self.first.frequencies_hz):
            found[mode_column(k + 1)] = [f, *way.frequencies_hz[:, k]]
        labels = {k: d for r in every for k, (_, d) in r.readings.items()}
        for label, dimension in labels.items():
            size = display_unit(dimension)[1]
            found[reading_column(label, dimension)] = [r.readings.get(label, (np.nan, ""))[0] / size for r in every]
        found["lowest_mac"] = [1.0, *(_least(row) for row in way.assurance)]
        return pd.DataFrame({**found, "crossings": ["", *way.crossings], "failed": [r.failed for r in every]})

    def _parameter_values(self) -> dict[str, list[Any]]:
        found: dict[str, list[Any]] = {}
        plan, units = self.plan, self.assembly.description.units.system()
        for k, (column, parameter) in enumerate(zip(parameter_columns(plan), plan.parameters, strict=True)):
            values = [self._written[k], *(row[k] for row in plan.rows)]
            if parameter.unit or all(isinstance(v, int | float) for v in values[1:]):
                now = number_in(values[0], parameter.unit, units, str(parameter.path[-1]))
                found[column] = [now, *(parameter.number(v) for v in values[1:])]
            else:
                found[column] = ["" if v is None else str(v) for v in values]
        return found

    @table("best", "From the best", most=10, when=lambda self: bool(self._wishes))
    def _best(self) -> pd.DataFrame:
        """Variants from the best by the wishes, with the share by which bounds are missed (0: all are met)."""
        return self.best(*self._wishes)

    def _screen(self, entry: Entry, whole: pd.DataFrame) -> tuple[str, pd.DataFrame]:
        title, short = super()._screen(entry, whole)
        modes = mode_columns(short)
        idle = [c for c in ("failed", "crossings") if c in short and not short[c].astype(bool).any()]
        short = short.drop(columns=[*modes[MOST_MODES:], *idle])
        if "failed" in short:
            short = short.assign(failed=["" if not f else "failed" for f in short["failed"]])
        left = f"; modes {MOST_MODES + 1} to {len(modes)} are in --csv, --json and --out"
        return title + (left if len(modes) > MOST_MODES and entry.name == "variants" else ""), short

    def best(self, *wishes: str) -> pd.DataFrame:
        """Variants from the best by wishes in plain terms, with the share by which bounds are missed.

        0: all are met; NaN: one is about something that the variant does not have.

        For instance ``best("lowest mode above 25 Hz", "least mass")``. Bounds are ``above``, ``below`` and ``outside``
        on ``mass``, ``lowest mode``, ``mode 3`` or a reading; ``least`` and ``most`` order what meets them.

        Raises
        ------
        DescriptionError, UnknownNameError, UnitError
            A wish that cannot be read, or is about something that was not asked for.
        """
        asked = [read_wish(text) for text in wishes]
        if not asked:
            raise DescriptionError('nothing is wished for; say for instance "lowest mode above 25 Hz", "least mass"')
        return self._ranked(asked)

    def _ranked(self, asked: Sequence[Wish]) -> pd.DataFrame:
        for wish in asked:
            wish.values(self._value(wish.what, 0)[1])
        every = [self.first, *self.results]
        rows = [k for k, r in enumerate(every) if not r.failed]
        order = ranked(asked, rows, self._value)
        found = self.table("variants").iloc[[k for k, _ in order]].reset_index(drop=True)
        found.insert(1, "missed_percent", [100.0 * share if math.isfinite(share) else math.nan for _, share in order])
        return found.drop(columns=["failed"])

    @property
    def ok(self) -> bool:
        """Whether a variant meets all bounds wished for."""
        return not self._wishes or bool((self.table("best")["missed_percent"] == 0.0).any())

    def _best_words(self) -> list[str]:
        best, asked = self.table("best"), "; ".join(read_wish(w).text for w in self._wishes)
        met, number = int((best["missed_percent"] == 0.0).sum()), int(best["variant"].iloc[0])
        values = ", ".join(f"{c} {v:.4g}" if isinstance(v, float) else f"{c} {v}"
                           for c, v in best.iloc[0, 2 : 2 + len(self.plan.parameters)].items())  # fmt: skip
        if met:
            return [f"best for {asked}: variant {number} ({values}); {met} of {len(best)} meet all bounds"]
        missed = f"which misses by {best['missed_percent'].iloc[0]:.3g} % of the bounds in all"
        return [f"no variant meets {asked}; the nearest is variant {number} ({values}), {missed}"]

    def variant(self, number: int) -> Any:
        """The assembly of a variant, by its number in the table.

        Raises
        ------
        UnknownNameError, DescriptionError
        """
        if not 0 <= number <= len(self.plan.rows):
            raise UnknownNameError(f"there is no variant {number}; there are 0 (as written) to {len(self.plan.rows)}")
        if number == 0:
            return self.assembly
        return self.assembly.changed(self.plan.change(self.assembly.document.data, self.plan.rows[number - 1]))

    def found(self) -> Any:
        """The best variant by the wishes.

        Raises
        ------
        DescriptionError
            Nothing was wished for.
        """
        if not self._wishes:
            raise DescriptionError("which variant is best is not known: ask for it by wishes")
        return self.variant(int(self.table("best")["variant"].iloc[0]))

    def _value(self, what: str, row: int) -> tuple[float, str]:
        result = self.first if row == 0 else self.results[row - 1]
        if what == "mass":
            return result.mass, "mass"
        if what == "lowest mode":
            return next((f for f in result.frequencies_hz if f > 0), float("nan")), "frequency"
        number = mode_number(what)
        if number is not None:
            modes = self.first.frequencies_hz
            if not 1 <= number <= len(modes):
                raise UnknownNameError(f"there is no mode {number}; there are 1 to {len(modes)}")
            f = modes[number - 1] if row == 0 else float(self.followed.frequencies_hz[row - 1, number - 1])
            return f, "frequency"
        if what in self.first.readings:
            return result.readings.get(what, (float("nan"), ""))[0], self.first.readings[what][1]
        known = ["mass", "lowest mode", f"mode 1 to mode {len(self.first.frequencies_hz)}", *self.first.readings]
        raise UnknownNameError(f'a wish about "{what}": there are {", ".join(known)}')

    @figure("variants")
    def _drawn(self, reading: str | None = None) -> Any:
        """Frequencies, or a reading such as ``"kerb strike: fan z"``, against the parameters.

        Raises
        ------
        UnknownNameError
            A reading that was not asked for.
        """
        from holokine.show.study_figures import plot_variants

        bands = self.assembly.description.band_ranges()
        return plot_variants(self.table("variants"), self.plan, bands, self.assembly.title, reading)

    @property
    def figures(self) -> dict[str, Any]:
        """Of frequencies, and of every reading."""
        return {**super().figures, **{f"variants {label}": partial(self.plot, label) for label in self.first.readings}}

    @property
    def _first_rows(self) -> None:
        return None


def reading_column(label: str, dimension: str) -> str:
    return gauge_column(label, display_unit(dimension)[0])


def readings_of(assembly: AssemblyLike, read: Sequence[str | tuple[str, str]]) -> list[ReadingAsked]:
    """Readings as asked for: ``"EVENT: GAUGE"``, or event and gauge.

    Raises
    ------
    DescriptionError, UnknownNameError
    """
    found = []
    for one in read:
        if isinstance(one, str):
            events = sorted((e for e in assembly.description.events if one.startswith(f"{e}:")), key=len)
            event, colon, gauge = (events[-1], ":", one[len(events[-1]) + 1 :]) if events else one.partition(":")
            if not colon or not gauge.strip():
                raise DescriptionError(
                    f'reading "{one}": expected an event, a colon and a gauge, such as "kerb strike: fan"'
                )
            one = event.strip(), gauge.strip()
        assembly.event_named(one[0])
        found.append(ReadingAsked(*one))
    return found


def _least(row: NDArray[Any]) -> float:
    return float(np.nanmin(row)) if np.isfinite(row).any() else np.nan


def _variant_lines(
    plan: Plan, first: VariantResult, results: Sequence[VariantResult], way: Followed, made: int
) -> list[str]:
    """How many there are, what failed, what was there already, what crosses."""
    failed = [r for r in results if r.failed]
    kept = sum(r.kept for r in results)
    kind = "samples of a Latin hypercube" if plan.drawn else "variants, a grid of all values"
    text = f"{len(results)} {kind}: {len(results) - len(failed)} done"
    text += f" ({kept} kept from an earlier run)" if kept else ""
    text += f", {len(failed)} failed" if failed else ""
    lines = [f"{text}; modes extracted {made} times"]
    crossed = [r.number for r, told in zip(results, way.crossings, strict=True) if told]
    if crossed:
        shown = ", ".join(str(k) for k in crossed[:12]) + (
            f" and {len(crossed) - 12} more" if len(crossed) > 12 else ""
        )
        lines.append(f"modes change their order in variants {shown}; numbers are those of the description as written")
    lost = [
        k + 1
        for k in range(len(first.frequencies_hz))
        if any(not r.failed and not np.isfinite(f) for r, f in zip(results, way.frequencies_hz[:, k], strict=True))
    ]
    if lost:
        shown = ", ".join(str(k) for k in lost[:12]) + (f" and {len(lost) - 12} more" if len(lost) > 12 else "")
        lines.append(f"not found again in every variant (too unlike, or beyond the modes asked for): modes {shown}")
    done = [r for r in results if not r.failed]
    if done:
        lows = [r.frequencies_hz[0] for r in done]
        lines.append(f"lowest frequency {n(min(lows))} to {n(max(lows))} Hz, mass {n(min(r.mass for r in done))} to "
                     f"{n(max(r.mass for r in done))} kg")  # fmt: skip
    return lines
