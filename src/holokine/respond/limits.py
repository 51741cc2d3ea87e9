"""Allowables: limits on gauges, and how much of them an answer uses."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.errors import DescriptionError

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.gauges.readings import Reading
    from holokine.respond.meaning import Meaning

__all__ = ["LimitCheck", "check_limits", "read_limits"]


@dataclass(frozen=True)
class LimitCheck:
    """One reading against its limit, SI.

    Attributes
    ----------
    reading : int
        Row of the reading.
    peak, limit : float
    meaning : Meaning
        Of the peak.
    total : bool
        Whether the peak holds the state beside what the event adds.
    """

    reading: int
    peak: float
    limit: float
    meaning: Meaning
    total: bool = False
    bound: bool = False
    """Whether the total is at most that: the largest of state and event added."""

    @property
    def use(self) -> float:
        """Share of the limit that is used."""
        return abs(self.peak) / self.limit

    @property
    def ok(self) -> bool:
        """Whether it is met; a peak that cannot be told does not meet it."""
        return bool(self.use <= 1.0)


def read_limits(limits: dict[str, Any], readings: tuple[Reading, ...]) -> dict[int, float]:
    """Limits by row of the reading: one value for a gauge, or values by component, in SI.

    One value holds for the magnitude where the gauge has one, else for each of its components.

    Raises
    ------
    DescriptionError
        A component that the gauge does not have.
    """
    result: dict[int, float] = {}
    for gauge, value in limits.items():
        rows = {r.component: i for i, r in enumerate(readings) if r.gauge == gauge}
        if isinstance(value, dict):
            given = value
        else:
            given = {"magnitude": value} if "magnitude" in rows else dict.fromkeys(rows, value)
        for component, limit in given.items():
            if component not in rows:
                raise DescriptionError(
                    f'limit "{gauge}": the gauge has no component "{component}"; it has {", ".join(rows)}',
                    path=("limits", gauge),
                )
            result[rows[component]] = limit
    return result


def check_limits(
    limits: dict[int, float], peaks: Floats, meaning: Meaning, total: bool, bounds: NDArray[np.bool_]
) -> list[LimitCheck]:
    """Peaks against limits, most used first."""
    found = [
        LimitCheck(row, float(peaks[row]), limit, meaning, total, bool(bounds[row])) for row, limit in limits.items()
    ]
    return sorted(found, key=lambda c: -c.use if np.isfinite(c.use) else -np.inf)
