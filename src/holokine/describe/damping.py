"""Damping of modes, as the description and its events give it."""

from itertools import pairwise
from typing import Annotated, Any, ClassVar, Self

from pydantic import BeforeValidator, WithJsonSchema, model_validator

from holokine.describe.fields import Frequency, LossFactor, Ratio, Strict, complaint, names_of, quantity_schema

__all__ = ["Damping"]

_Damped = names_of("materials", "parts", "springs", "bushings", "joints", "groups", also=("default",))


_LOSS = WithJsonSchema({"anyOf": [quantity_schema("number"), {"type": "object"}]})


def _by_member(value: Any) -> Any:
    return value if value is None or isinstance(value, dict) else {"default": value}


class Damping(Strict):
    """Damping ratio: one value, a list mode by mode, a table by frequency, Rayleigh from two points, or composite.

    A list shorter than the modes holds its last value for those above. Composite: ratios of materials, members or
    groups, weighted by their strain energy in each mode; ``default`` is for all others.
    Beside any but the last, or alone: a loss factor (hysteretic damping, K (1 + iη)), one value for all or by material,
    member or group, in place of what these have of their own; ``default`` is for members that have none.
    """

    shorthand: ClassVar[str | None] = "ratio"
    shorthand_lists: ClassVar[tuple[str, ...]] = ("modes",)
    ratio: Ratio | None = None
    modes: tuple[Ratio, ...] | None = None
    table: tuple[tuple[Frequency, Ratio], ...] | None = None
    rayleigh: tuple[tuple[Frequency, Ratio], tuple[Frequency, Ratio]] | None = None
    composite: dict[_Damped, Ratio] | None = None  # type: ignore[valid-type]
    loss_factor: Annotated[dict[_Damped, LossFactor] | None, BeforeValidator(_by_member), _LOSS] = None  # type: ignore[valid-type]

    @classmethod
    def bare(cls, value: Any) -> str | None:
        """A bare value is the ratio of all modes, a bare list those mode by mode."""
        return "modes" if isinstance(value, list | tuple) or hasattr(value, "tolist") else "ratio"

    @model_validator(mode="after")
    def _one(self) -> Self:
        kinds = {n: getattr(self, n) for n in ("ratio", "modes", "table", "rayleigh", "composite")}
        if self.loss_factor is None or any(v is not None for v in kinds.values()):
            self.exactly_one(kinds, "damping")
        if self.loss_factor is not None and self.composite is not None:
            raise complaint("composite damping has ratios of members; give loss factors instead of it, not beside it")
        rows = [r for _, r in (*(self.table or ()), *(self.rayleigh or ()))]
        named = [(r, 1.0) for r in (self.ratio, *(self.modes or ())) if r is not None]
        named += [(r, 2.0) for r in (*rows, *(self.composite or {}).values())]  # critical in part of the range
        for ratio, most in named:
            if ratio >= most:
                raise complaint(f"a damping ratio of {ratio:g} is critical or more; did you mean a percentage?")
        if self.modes is not None and not self.modes:
            raise complaint("the list of ratios is empty")
        if self.table is not None:
            frequencies = [row[0] for row in self.table]
            if not frequencies:
                raise complaint("the table has no row; a row is a frequency and a ratio, such as [5 Hz, 2 %]")
            if any(b <= a for a, b in pairwise(frequencies)):
                raise complaint("the table's frequencies must rise from row to row")
        if self.rayleigh is not None and self.rayleigh[0][0] == self.rayleigh[1][0]:
            raise complaint("the two frequencies must differ")
        if self.rayleigh is not None:
            (f1, r1), (f2, r2) = sorted(self.rayleigh)
            mass, stiffness = r1 * f2 - r2 * f1, r2 * f2 - r1 * f1  # what C takes of M and K, but for a factor
            if mass < -1e-9 * r1 * f2 or stiffness < -1e-9 * r2 * f2:
                side = "below" if mass < 0 else "above"
                at = f1 * f2 * mass / stiffness
                raise complaint(
                    f"Rayleigh damping through {100 * r1:g} % at {f1:g} Hz and {100 * r2:g} % at {f2:g} Hz turns "
                    f"negative {side} {abs(at) ** 0.5:.4g} Hz: the ratios may differ by no more than the frequencies "
                    f"do ({f2 / f1:.3g} times); take points farther apart, or a table"
                )
        return self
