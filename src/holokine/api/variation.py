"""Variations of an assembly, values that bring a mode somewhere, and refined meshes, as a Python user holds them."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

from holokine.api.shown import Shown
from holokine.describe.walk import located
from holokine.errors import DescriptionError, UnknownNameError, whole_number
from holokine.vary import (
    Followed,
    Plan,
    Reached,
    ReadingAsked,
    Refined,
    VariantResult,
    Wish,
    follow,
    plan_of,
    reach,
    read_wish,
    refined,
    run_plan,
)
from holokine.vary.parameters import number_in, number_of
from holokine.vary.wish import mode_number, ranked

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.assembly import Assembly
    from holokine.describe.stages import Request
    from holokine.units import UnitSystem

__all__ = ["BroughtMode", "Refinement", "Variation"]


class Variation(Shown):
    """Many variants of an assembly: their modes followed from the assembly as it is written, and readings.

    Attributes
    ----------
    assembly : Assembly
    plan : Plan
    first : VariantResult
        The assembly as it is written.
    results : list of VariantResult
        In SI; a failed one says why.
    followed : Followed
    """

    def __init__(
        self, assembly: Assembly, plan: Plan, first: VariantResult, results: list[VariantResult], basis: Request
    ) -> None:
        import numpy as np

        self.assembly, self.plan, self.first, self.results, self._basis = assembly, plan, first, results, basis
        own = [
            np.nan if v is None else p.number(v) if number_of(v) is None
            else number_in(v, p.unit, self._units, str(p.path[-1]))
            for p, v in zip(plan.parameters, self._written, strict=True)
        ]  # fmt: skip
        self.followed: Followed = follow(first, results, plan.numbers(), np.array(own, dtype=float))

    def __len__(self) -> int:
        return len(self.results)

    @property
    def _units(self) -> UnitSystem:
        return self.assembly.description.units.system()

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
    def lines(self) -> list[str]:
        """How many there are, what failed, what was there already, what crosses."""
        from holokine.show.variation import variation_lines

        made = sum(r.made for r in self.results)
        return variation_lines(self.plan, self.first, self.results, self.followed, made)

    def table(self) -> pd.DataFrame:
        """A row per variant, the assembly as written first (variant 0): parameters, mass, modes, readings.

        Modes have the numbers that they have in the assembly as written. `lowest_mac`: of the shape that was followed
        least surely.
        """
        from holokine.show.variation import variation_table

        return variation_table(self.plan, self._written, self.first, self.results, self.followed, self._units)

    def plot(self, reading: str | None = None) -> Any:
        """Frequencies, or a reading such as ``"kerb strike: fan z"``, against the parameters; returns the Figure.

        Raises
        ------
        UnknownNameError
            A reading that was not asked for.
        """
        from holokine.show.variation import plot_variation

        bands = self.assembly.description.band_ranges()
        return plot_variation(self.table(), self.plan, bands, self.assembly.title, reading)

    def variant(self, number: int) -> Assembly:
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
        asked = self.wishes(wishes)
        every = [self.first, *self.results]
        rows = [k for k, r in enumerate(every) if not r.failed]
        order = ranked(asked, rows, self._value)
        table = self.table().iloc[[k for k, _ in order]].reset_index(drop=True)
        table.insert(1, "missed_percent", [100.0 * share if math.isfinite(share) else math.nan for _, share in order])
        return table.drop(columns=["failed"])

    def wishes(self, texts: Sequence[str]) -> list[Wish]:
        """Wishes read, each about something that every variant has.

        Raises
        ------
        DescriptionError, UnknownNameError, UnitError
        """
        asked = [read_wish(text) for text in texts]
        if not asked:
            raise DescriptionError('nothing is wished for; say for instance "lowest mode above 25 Hz", "least mass"')
        for wish in asked:
            wish.values(self._value(wish.what, 0)[1])
        return asked

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

    def _at_prompt(self) -> tuple[str, list[str], pd.DataFrame | None, str]:
        return f"{self.assembly.title}: varied", self.lines, None, ""


class BroughtMode(Shown):
    """Which value of a parameter brings a mode to a frequency, with the runs that prove it.

    Attributes
    ----------
    assembly : Assembly
        As it is written.
    result : Reached
    """

    def __init__(self, assembly: Assembly, result: Reached) -> None:
        self.assembly, self.result = assembly, result

    @property
    def value(self) -> Any:
        """The value as it stands in a description."""
        return self.result.written

    @property
    def lines(self) -> list[str]:
        """The answer, and what proves it."""
        from holokine.show.variation import reached_lines

        return reached_lines(self.result)

    def table(self) -> pd.DataFrame:
        """A row per run: value, frequency, what the derivative had predicted, the mode's number and likeness."""
        from holokine.show.variation import reached_table

        return reached_table(self.result)

    def changed(self) -> Assembly:
        """The assembly with that value."""
        return self.assembly.changed(self.result.change)

    def _at_prompt(self) -> tuple[str, list[str], pd.DataFrame | None, str]:
        return f"{self.assembly.title}: target frequency", self.lines, self.table(), "runs"


class Refinement(Shown):
    """An assembly with its meshes at several sizes: what frequencies and peaks tend to, with error bars.

    Attributes
    ----------
    assembly : Assembly
    result : Refined
    """

    def __init__(self, assembly: Assembly, result: Refined) -> None:
        self.assembly, self.result = assembly, result

    @property
    def lines(self) -> list[str]:
        """Sizes of the models, what stayed as it is, how far off the mesh as written is."""
        from holokine.show.variation import refined_lines

        return refined_lines(self.result)

    def table(self) -> pd.DataFrame:
        """A row per mode and reading: values by size, what they tend to, error bar, observed order."""
        from holokine.show.variation import refined_table

        return refined_table(self.result)

    def plot(self) -> Any:
        """What is off what it tends to, against the size of elements; returns the Figure."""
        from holokine.show.variation import plot_refined

        return plot_refined(self.result, self.assembly.title)

    def _at_prompt(self) -> tuple[str, list[str], pd.DataFrame | None, str]:
        return f"{self.assembly.title}: refined", self.lines, self.table(), "modes and readings"


def varied(
    assembly: Assembly,
    parameters: Mapping[str | tuple[str | int, ...], Any],
    basis: Request,
    read: Sequence[str | tuple[str, str]],
    samples: int | None,
    seed: int,
    jobs: int | None,
    scheduler: str | None,
    folder: str | Path | None,
) -> Variation:
    """See `Assembly.vary`."""
    jobs = None if jobs is None else whole_number("jobs", jobs)
    plan = plan_of(assembly.document, parameters, samples, seed)
    keep = None if folder is None else Path(folder)
    first, results = run_plan(
        assembly.document, plan, basis, readings_of(assembly, read), jobs=jobs, scheduler=scheduler, keep=keep,
        memory=assembly._memory,
    )  # fmt: skip
    return Variation(assembly, plan, first, results, basis)


def readings_of(assembly: Assembly, read: Sequence[str | tuple[str, str]]) -> list[ReadingAsked]:
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


def brought(
    assembly: Assembly, parameter: str | tuple[str | int, ...], mode: int, to: float, basis: Request
) -> BroughtMode:
    """See `Assembly.reach`."""
    return BroughtMode(assembly, reach(assembly.document, parameter, mode, to, basis, assembly._memory))


def refined_meshes(
    assembly: Assembly, times: Sequence[float], read: Sequence[str | tuple[str, str]], basis: Request
) -> Refinement:
    """See `Assembly.refine`."""
    return Refinement(assembly, refined(assembly.document, basis, readings_of(assembly, read), times, assembly._memory))
