"""Damping of modes, as the description and its events give it."""

from __future__ import annotations

from itertools import pairwise
from typing import Any, ClassVar

from pydantic import model_validator

from holokine.describe.fields import Frequency, Ratio, Strict, complaint, names_of

__all__ = ["Damping"]

_Damped = names_of("materials", "parts", "springs", "bushings", "joints", "groups", also=("default",))


class Damping(Strict):
    """Damping ratio: one value, a list mode by mode, a table by frequency, Rayleigh from two points, or composite.

    A list shorter than the modes holds its last value for those above. Composite: ratios of materials, members or
    groups, weighted by their strain energy in each mode; ``default`` is for all others.
    """

    shorthand: ClassVar[str | None] = "ratio"
    shorthand_lists: ClassVar[tuple[str, ...]] = ("modes",)
    ratio: Ratio | None = None
    modes: tuple[Ratio, ...] | None = None
    table: tuple[tuple[Frequency, Ratio], ...] | None = None
    rayleigh: tuple[tuple[Frequency, Ratio], tuple[Frequency, Ratio]] | None = None
    composite: dict[_Damped, Ratio] | None = None  # type: ignore[valid-type]

    @classmethod
    def bare(cls, value: Any) -> str | None:
        """A bare value is the ratio of all modes, a bare list those mode by mode."""
        return "modes" if isinstance(value, list | tuple) or hasattr(value, "tolist") else "ratio"

    @model_validator(mode="after")
    def _one(self) -> Damping:
        self.exactly_one(
            {n: getattr(self, n) for n in ("ratio", "modes", "table", "rayleigh", "composite")},
            "damping",
        )
        for ratio in (self.ratio, *(self.modes or ())):
            if ratio is not None and ratio >= 1.0:
                raise complaint(f"a damping ratio of {ratio:g} is critical or more; did you mean a percentage?")
        if self.modes is not None and not self.modes:
            raise complaint("the list of ratios is empty")
        if self.table is not None:
            frequencies = [row[0] for row in self.table]
            if not frequencies or any(b <= a for a, b in pairwise(frequencies)):
                raise complaint("the table's frequencies must rise from row to row")
        if self.rayleigh is not None and self.rayleigh[0][0] == self.rayleigh[1][0]:
            raise complaint("the two frequencies must differ")
        return self
