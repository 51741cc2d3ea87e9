"""What a number of an answer means: a value, a peak, an RMS. It travels with the number, which is converted to compare.

Inside, vibration is held by its peaks; how a table shows it is a factor on them.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

__all__ = ["COMBINED", "PEAK", "SHOWN", "VALUE", "Kind", "Meaning"]

Kind = Literal["value", "peak", "combined", "rms", "peak to peak", "times rms", "expected largest"]


@dataclass(frozen=True)
class Meaning:
    """What numbers of one answer are.

    Attributes
    ----------
    kind : str
        ``value``: at rest, with its sign. ``peak``: largest of a motion. ``combined``: peak combined from modes by a
        rule. ``rms``, ``peak to peak``: of a harmonic motion. ``times rms``: so many RMS of random motion, or what is
        exceeded as rarely. ``expected largest``: mean of the largest over a duration of random motion.
    per_peak : float
        Factor on the peak of a harmonic motion that gives it.
    amount : float
        How many RMS, or the duration in s.
    """

    kind: Kind
    per_peak: float = 1.0
    amount: float = 0.0

    @property
    def column(self) -> str:
        """Name of the column that holds such numbers."""
        return self.kind.replace(" ", "_")

    def of(self, what: str) -> str:
        """Heading of a whole field of such numbers."""
        return {"value": what, "rms": f"RMS of {what}"}.get(self.kind, f"largest {what}")

    @property
    def words(self) -> str:
        """In a table: ``peak``, ``3 RMS``, ``expected largest in 60 s``."""
        if self.kind == "times rms":
            return f"{self.amount:g} RMS"
        if self.kind == "expected largest":
            return f"expected largest in {self.amount:g} s"
        return {"rms": "RMS", "combined": "combined peak"}.get(self.kind, self.kind)


VALUE, PEAK, COMBINED = Meaning("value"), Meaning("peak"), Meaning("combined")
SHOWN: dict[str, Meaning] = {m.kind: m for m in (PEAK, Meaning("rms", 0.5**0.5), Meaning("peak to peak", 2.0))}
"""How sizes of harmonic motion can be shown."""
