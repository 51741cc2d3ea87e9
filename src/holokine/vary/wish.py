"""Wishes in plain terms, and the variant that fulfils them best."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Literal

from holokine.errors import DescriptionError
from holokine.units import quantity

__all__ = ["Wish", "read_wish", "ranked"]

_BOUND = re.compile(r"\s*(?P<what>.+?)\s+(?P<how>above|below)\s+(?P<value>\S.*?)\s*")
_OUTSIDE = re.compile(r"\s*(?P<what>.+?)\s+outside\s+(?P<low>\S.*?)\s+to\s+(?P<high>\S.*?)\s*")
_GOAL = re.compile(r"\s*(?:at\s+)?(?P<how>least|most)\s+(?P<what>\S.*?)\s*")
_MODE = re.compile(r"mode\s+(\d+)")


@dataclass(frozen=True)
class Wish:
    """A bound on a quantity, or what should be least or most.

    Attributes
    ----------
    what : str
        ``mass``, ``lowest mode``, ``mode 3`` (followed), or a reading (``kerb strike: fan z``).
    how : str
    bounds : tuple of str
        As written: one value, or two of ``outside``.
    """

    what: str
    how: Literal["above", "below", "outside", "least", "most"]
    bounds: tuple[str, ...] = ()

    @property
    def is_goal(self) -> bool:
        """Whether it orders variants, in place of keeping some."""
        return self.how in ("least", "most")

    @property
    def text(self) -> str:
        """In words."""
        return f"{self.how} {self.what}" if self.is_goal else f"{self.what} {self.how} {' to '.join(self.bounds)}"

    def values(self, dimension: str) -> tuple[float, ...]:
        """The bounds in SI.

        Raises
        ------
        UnitError
        """
        unit = {"mass": "kg", "frequency": "Hz"}.get(dimension)
        return tuple(quantity(f"{b} {unit}" if unit and re.fullmatch(r"[-+.\deE]+", b) else b, dimension)
                     for b in self.bounds)  # fmt: skip

    def missed(self, value: float, dimension: str) -> float:
        """By what share of the bound a value misses it; 0 where it is met; infinite where there is no value."""
        if value != value:
            return float("inf")
        bounds = self.values(dimension)
        scale = max(max(abs(b) for b in bounds), 1e-300)
        if self.how == "above":
            return max(0.0, bounds[0] - value) / scale
        if self.how == "below":
            return max(0.0, value - bounds[0]) / scale
        return max(0.0, min(value - bounds[0], bounds[1] - value)) / scale


def read_wish(text: str) -> Wish:
    """A wish: ``lowest mode above 25 Hz``, ``mode 2 outside 40 Hz to 50 Hz``, ``mass below 450 kg``, ``least mass``.

    Raises
    ------
    DescriptionError
    """
    for pattern, hows in ((_OUTSIDE, None), (_BOUND, "how"), (_GOAL, "how")):
        found = pattern.fullmatch(text)
        if found is None:
            continue
        if pattern is _OUTSIDE:
            return Wish(found["what"], "outside", (found["low"], found["high"]))
        how = found[hows or ""]
        return Wish(found["what"], how, () if how in ("least", "most") else (found["value"],))  # type: ignore[arg-type]
    raise DescriptionError(
        f'wish "{text}": expected such as "lowest mode above 25 Hz", "mode 2 outside 40 Hz to 50 Hz", "kerb strike: '
        'fan z below 2 g", "least mass" or "most lowest mode"'
    )


def mode_number(what: str) -> int | None:
    """The number of a mode that is meant."""
    found = _MODE.fullmatch(what)
    return int(found[1]) if found else None


Value = Callable[[str, int], tuple[float, str]]
"""Of a quantity by its words and a variant's row: the value in SI and its dimension."""


def ranked(wishes: Sequence[Wish], rows: Sequence[int], value: Value) -> list[tuple[int, float]]:
    """Variants from the best: those that miss no bound, by the goals; then the others by how far they miss.

    Returns
    -------
    list of (row, share by which bounds are missed)
    """

    def missed(row: int) -> float:
        return sum(w.missed(*value(w.what, row)) for w in wishes if not w.is_goal)

    def goals(row: int) -> tuple[float, ...]:
        found = []
        for wish in wishes:
            if wish.is_goal:
                v = value(wish.what, row)[0]
                found.append(float("inf") if v != v else v if wish.how == "least" else -v)
        return tuple(found)

    told = [(row, missed(row)) for row in rows]
    return sorted(told, key=lambda t: (t[1], goals(t[0])))
