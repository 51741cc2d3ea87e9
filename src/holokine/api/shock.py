"""Shock spectra of records, as a Python user holds them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.errors import EventError, UnitError, nearest_hint
from holokine.excite.tables import read_columns
from holokine.respond.shock import (
    QUANTITIES,
    SIDES,
    ShockSpectrum,
    broadened_values,
    octave_frequencies,
    shock_spectrum,
)
from holokine.units import quantity

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Shock", "shock"]


@dataclass(frozen=True)
class Shock:
    """Shock spectra of one record, at one or more damping ratios.

    Attributes
    ----------
    result : ShockSpectrum
        The numbers, in SI.
    name : str
    broaden : float
    """

    result: ShockSpectrum
    name: str
    broaden: float = 0.0

    def values(self, side: str = "maximax") -> np.ndarray[Any, Any]:
        """Spectra of a side, (levels, frequencies) in SI: maximax, positive, negative, primary or residual.

        Raises
        ------
        EventError
            For another side.
        """
        if side not in SIDES:
            raise EventError(f'there is no side "{side}". {nearest_hint(side, SIDES, "sides")}')
        values = self.result.side(side)  # type: ignore[arg-type]
        return broadened_values(self.result.frequency_hz, values, self.broaden) if self.broaden else values

    def table(self, *, sides: Sequence[str] = ("maximax",), by: str = "frequency") -> pd.DataFrame:
        """One row per frequency (or period), one column per damping ratio and side, in display units.

        Raises
        ------
        EventError
            For another `by` than frequency or period.
        """
        from holokine.show.tables import shock_table

        table = shock_table(self.result, {s: self.values(s) for s in sides})
        if by == "period":
            table = table.iloc[::-1].reset_index(drop=True)
            table.insert(0, "period_s", table.pop("period_s"))
        elif by != "frequency":
            raise EventError(f'a shock spectrum goes by frequency or period, not by "{by}"')
        return table

    def plot(self, side: str = "maximax") -> Any:
        """The spectra on logarithmic axes; returns the Figure."""
        from holokine.show.figures import plot_shock

        return plot_shock(self.result, self.values(side), self.name, side)


def _as_frequency(value: float | str) -> tuple[float, bool]:
    """A frequency in Hz, and whether it was given as a period with its unit."""
    try:
        return quantity(value, "frequency"), False
    except UnitError:
        try:
            period = quantity(value, "time")
        except UnitError:
            period = 0.0
        if not period > 0:
            raise
        return 1.0 / period, True


def shock(
    record: str | Path | tuple[Any, Any],
    *,
    low: float | str = "5 Hz",
    high: float | str = "2 kHz",
    per_octave: int = 12,
    damping: Sequence[float | str] | float | str | None = None,
    q: Sequence[float] | float = (),
    of: str = "absolute acceleration",
    remove_offset: bool = False,
    broaden: float | str = 0.0,
    name: str = "",
) -> Shock:
    """Shock response spectra of a base acceleration.

    Parameters
    ----------
    record : path or (time, acceleration)
        A CSV file with columns such as ``time_s,acceleration_g``, or arrays in s and m/s².
    low, high : float or str
        Range of natural frequencies, in Hz, or of natural periods with their unit (``"0.2 s"``).
    damping : float, str or list of them
        Damping ratios; 5 % when left out and no `q` is given.
    q : float or list of floats
        Quality factors, beside or in place of damping ratios: ζ = 1 / (2 Q).
    of : str
        absolute acceleration, pseudo-acceleration, pseudo-velocity or relative displacement.
    broaden : float or str
        Hold every value over this share of its frequency to both sides.

    Raises
    ------
    EventError, UnitError

    Examples
    --------
    >>> import numpy as np, holokine as hk
    >>> t = np.linspace(0, 0.1, 10001)
    >>> pulse = np.where(t < 0.01, np.sin(np.pi * t / 0.01), 0.0)
    >>> s = hk.shock((t, pulse), low=10, high=1000, damping=0.0)
    >>> round(float(s.values().max()), 2)
    1.77
    """
    if isinstance(record, tuple):
        time, acceleration = (np.asarray(c, dtype=float) for c in record)
        title = name or "record"
    else:
        columns = read_columns(record)
        if "time" not in columns or "acceleration" not in columns:
            raise EventError(
                f"{Path(record).name}: expected columns of time and acceleration, got {', '.join(columns)}"
            )
        time, acceleration = columns["time"], columns["acceleration"]
        title = name or Path(record).name
    if of not in QUANTITIES:
        raise EventError(f'there is no quantity "{of}". {nearest_hint(of, QUANTITIES, "quantities")}')
    factors = [float(q)] if isinstance(q, float | int) else [float(one) for one in q]
    if any(not one > 0.5 for one in factors):
        raise EventError("a quality factor must be greater than 0.5 (Q = 1 / (2 ζ), ζ below 1)")
    if damping is None:
        damping = () if factors else ("5 %",)
    levels = [damping] if isinstance(damping, float | int | str) else list(damping)
    ratios = [quantity(z, "number") for z in levels] + [0.5 / one for one in factors]
    (first, is_period), (last, other) = _as_frequency(low), _as_frequency(high)
    if is_period and other and first > last:  # from a short period to a long one
        first, last = last, first
    f = octave_frequencies(first, last, per_octave)
    width = quantity(broaden, "number")
    if not 0 <= width < 1:
        raise EventError("a spectrum is broadened by 0 to less than 100 %")
    found = shock_spectrum(time, acceleration, f, ratios, quantity=of, remove_offset=remove_offset)  # type: ignore[arg-type]
    return Shock(found, title, width)
