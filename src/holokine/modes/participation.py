"""How much mass the modes hold, how many are needed for a share, and what more would bring."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.modes.mode_set import ModeSet

__all__ = ["Enough", "enough_mass"]

DIRECTIONS = ("x", "y", "z", "rx", "ry", "rz")


@dataclass(frozen=True)
class Enough:
    """Whether the modes hold a share of the free mass along a direction.

    Attributes
    ----------
    direction : str
    wanted, reached : float
        Shares of the mass that is free to move.
    mode : int or None
        Number of the mode at which the share is reached; None if not.
    frequency_hz : float
        Of that mode; NaN if not reached.
    probably : int or None
        How many modes in all are probably needed, where it is not reached; None where that cannot be told.
    """

    direction: str
    wanted: float
    reached: float
    mode: int | None
    frequency_hz: float
    probably: int | None

    @property
    def ok(self) -> bool:
        """Whether the share is reached."""
        return self.mode is not None

    @property
    def words(self) -> str:
        """One sentence."""
        share = f"{100 * self.wanted:g} %"
        if self.mode is not None:
            at = f"mode {self.mode} at {self.frequency_hz:.4g} Hz"
            return f"{self.direction}: {share} of the free mass is reached with {at}"
        more = "how many more is hard to tell from these" if self.probably is None else (
            f"probably about {self.probably} modes in all are needed"
        )  # fmt: skip
        digits = next(d for d in range(1, 8) if d == 7 or round(100 * self.reached, d) < 100 * self.wanted)
        reached = f"{100 * self.reached:.{digits}f} %"
        return (
            f"{self.direction}: the modes hold {reached} of the free mass, not {share}; {more}; the residual term of a "
            f"response carries the other {100 * (1 - self.reached):.{digits}f} % as if it were rigid"
        )


def enough_mass(modes: ModeSet, share: float = 0.9, directions: tuple[str, ...] = ("x", "y", "z")) -> list[Enough]:
    """For each direction: the smallest number of lowest modes that holds a share of the free mass.

    Where it is not reached, the number is projected: the mass that is not yet held is taken to fall with the
    number of modes as a power of it, fitted to the upper half of the modes.
    """
    result = []
    effective = modes.effective_mass
    for name in directions:
        d = DIRECTIONS.index(name)
        free = modes.free_mass[d]
        if free <= 0:
            continue
        held = np.cumsum(effective[:, d]) / free
        reached = float(held[-1]) if len(held) else 0.0
        at = np.flatnonzero(held >= share - 1e-9)
        if len(at):
            row = int(at[0])
            result.append(
                Enough(name, share, reached, int(modes.numbers[row]), float(modes.frequencies_hz[row]), None)
            )  # fmt: skip
            continue
        result.append(Enough(name, share, reached, None, np.nan, _projected(held, share)))
    return result


def _projected(held: Floats, share: float) -> int | None:
    count = len(held)
    if count < 6:
        return None
    n = np.arange(1, count + 1)[count // 3 :]
    rest = np.maximum(1.0 - held[count // 3 :], 1e-12)
    slope, level = np.polyfit(np.log(n), np.log(rest), 1)
    if slope > -0.05:
        return None
    needed = np.exp((np.log(1.0 - min(share, 1.0 - 1e-6)) - level) / slope)
    if not np.isfinite(needed) or needed > 50 * count:
        return None
    size = 10 ** max(int(np.floor(np.log10(max(needed, count + 1)))) - 1, 0)
    return int(np.ceil(max(needed, count + 1) / size) * size)
