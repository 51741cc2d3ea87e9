"""Shock spectra of records, as a Python user holds them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.api.shown import Shown, announced
from holokine.errors import EventError, UnitError, argument, first_few, headed, nearest_hint, shown
from holokine.excite.tables import read_columns
from holokine.findings import Finding
from holokine.respond.shock import (
    QUANTITIES,
    SIDES,
    ShockSpectrum,
    broadened_values,
    fine_enough,
    lost_between,
    octave_frequencies,
    shock_spectrum,
)
from holokine.units import argument_of, quantity

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Shock", "shock"]


@dataclass(frozen=True, repr=False)
class Shock(Shown):
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

        table = shock_table(self.result, {s: self.values(s) for s in sides}, self.broaden)
        if by == "period":
            table = table.iloc[::-1].reset_index(drop=True)
            table.insert(0, "period_s", table.pop("period_s"))
        elif by != "frequency":
            raise EventError(f'a shock spectrum goes by frequency or period, not by "{by}"')
        return table

    def peaks(self, sides: Sequence[str] = ("maximax",)) -> list[str]:
        """The largest value of each side and damping ratio, and where, in words.

        Raises
        ------
        EventError
            For another side than those of `values`.
        """
        from holokine.show.tables import shock_peak

        return [shock_peak(self.result, side, self.result.side(side)) for side in sides if self.values(side).size]  # type: ignore[arg-type]

    def plot(self, side: str = "maximax") -> Any:
        """The spectra on logarithmic axes; returns the Figure."""
        from holokine.show.figures import plot_shock

        return plot_shock(self.result, self.values(side), self.name, f"{side}{self.words}")

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What to know before trusting them."""
        return self.result.findings

    def _at_prompt(self) -> tuple[str, list[str], pd.DataFrame | None, str]:
        return f"Shock spectra: {self.name}", self.peaks(), self.table(), "frequencies"

    @property
    def words(self) -> str:
        """How it is broadened, for titles."""
        return f", broadened by {100 * self.broaden:g} %" if self.broaden else ""


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
    record: str | Path | tuple[Any, Any] | pd.Series[Any] | pd.DataFrame,
    *,
    low: float | str | None = None,
    high: float | str | None = None,
    per_octave: int | None = None,
    frequencies: Sequence[float | str] | None = None,
    damping: Sequence[float | str] | float | str | None = None,
    q: Sequence[float] | float = (),
    of: str = "absolute acceleration",
    remove_offset: bool = False,
    broaden: float | str = 0.0,
    name: str = "",
    resonances: Sequence[float] = (),
) -> Shock:
    """Shock response spectra of a base acceleration.

    Parameters
    ----------
    record : path, (time, acceleration), Series or DataFrame
        A CSV file with columns such as ``time_s,acceleration_g``; arrays in s and m/s²; a Series over time, or a
        DataFrame with two columns, in the same units.
    low, high : float or str
        Range of natural frequencies, in Hz, or of natural periods with their unit (``"0.2 s"``); 5 Hz to 2 kHz when
        left out.
    per_octave : int, optional
        How many frequencies an octave; by default as many as the smallest damping asks for, so that a peak between
        two of them is at most 5 % high (53 at 2 %, 22 at 5 %; 12 to 120).
    frequencies : list of float or str, optional
        The natural frequencies themselves in Hz, in place of low, high and per_octave.
    damping : float, str or list of them
        Damping ratios; 5 % when left out and no `q` is given.
    q : float or list of floats
        Quality factors, beside or in place of damping ratios: ζ = 1 / (2 Q).
    of : str
        absolute acceleration, pseudo-acceleration, pseudo-velocity or relative displacement.
    broaden : float or str
        Hold every value over this share of its frequency to both sides.
    resonances : list of float, optional
        Frequencies in Hz at which narrow peaks are to be expected (natural frequencies of what was recorded): those in
        the range join the list, or a finding tells that a list given has not got them.

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
    title = name or "record"
    table: Any = record
    if hasattr(table, "index") and hasattr(table, "to_numpy"):  # a column over its index, or two columns
        read = [table.index, table] if table.ndim == 1 else [table[c] for c in table]
        if len(read) != 2:
            raise EventError(f"record: a table has columns of time in s and acceleration in m/s², got {len(read)}")
        record = (np.asarray(read[0]), np.asarray(read[1]))
    if isinstance(record, tuple | list):
        with argument("record"):
            time, acceleration = (np.asarray(c, dtype=float) for c in record)
    elif not isinstance(record, str | Path):
        raise EventError(f"record: expected a file, (time, acceleration), a Series or a DataFrame, got {shown(record)}")
    else:
        columns = read_columns(record)
        if "time" not in columns or "acceleration" not in columns:
            raise EventError(
                f"{Path(record).name}: expected columns of time and acceleration, got {', '.join(columns)}"
            )
        time, acceleration = columns["time"], columns["acceleration"]
        title = name or Path(record).name
    if of not in QUANTITIES:
        raise EventError(f'of: there is no quantity "{of}". {nearest_hint(of, QUANTITIES, "quantities")}')
    factors = [float(q)] if isinstance(q, float | int) else [float(one) for one in q]
    if any(not one > 0.5 for one in factors):
        raise EventError("q: a quality factor must be greater than 0.5 (Q = 1 / (2 ζ), ζ below 1)")
    if damping is None:
        damping = () if factors else ("5 %",)
    levels = [damping] if isinstance(damping, float | int | str) else list(damping)
    ratios = [argument_of("damping", z, "number") for z in levels] + [0.5 / one for one in factors]
    f = _listed(frequencies, low, high, per_octave, ratios)
    peaks_at = tuple(x for x in resonances if f[0] < x < f[-1])
    if frequencies is None:
        f = np.unique(np.concatenate([f, peaks_at]))
    width = argument_of("broaden", broaden, "number")
    if not 0 <= width < 1:
        raise EventError("broaden: a spectrum is broadened by 0 to less than 100 %")
    with headed(title):
        found = shock_spectrum(time, acceleration, f, ratios, quantity=of, remove_offset=remove_offset)  # type: ignore[arg-type]
    more = _spacing_findings(f, found, float(time[-1] - time[0]), peaks_at, frequencies is not None)
    return announced(Shock(replace(found, findings=(*found.findings, *more)), title, width))


def _listed(
    frequencies: Sequence[float | str] | None,
    low: float | str | None,
    high: float | str | None,
    per_octave: int | None,
    ratios: Sequence[float],
) -> np.ndarray[Any, Any]:
    """The natural frequencies asked for, rising, in Hz."""
    if frequencies is not None:
        if any(x is not None for x in (low, high, per_octave)):
            raise EventError("frequencies: give a list of them, or low, high and per octave, not both")
        given = np.unique([_as_frequency(x)[0] for x in frequencies])
        if len(given) == 0 or not given[0] > 0:
            raise EventError("frequencies: the list needs one at least, all greater than 0 Hz")
        return given
    with argument("low"):
        first, is_period = _as_frequency(low or "5 Hz")
    with argument("high"):
        last, other = _as_frequency(high or "2 kHz")
    if is_period and other and first > last:  # from a short period to a long one
        first, last = last, first
    return octave_frequencies(first, last, per_octave or fine_enough(min(ratios, default=0.05)))


def _spacing_findings(
    f: np.ndarray[Any, Any], found: ShockSpectrum, duration: float, peaks_at: Sequence[float], given: bool
) -> list[Finding]:
    """What may fall between two frequencies, and whether natural frequencies of the run are among them."""
    said = []
    missing = [x for x in peaks_at if np.abs(f / x - 1.0).min() > 0.1 * found.damping.min() + 1e-9]
    if missing:
        names = first_few([f"{x:.4g} Hz" for x in missing], 5)
        said.append(Finding("warning", f"natural frequencies of the assembly are not in the list: {names}; the peak of "
                            "the spectrum stands at one of them"))  # fmt: skip
    elif peaks_at and not given:
        said.append(Finding("note", f"{len(peaks_at)} natural frequencies of the assembly are in the list"))
    lost = lost_between(f, float(found.damping.min()), duration)
    if lost > 0.08 and (not peaks_at or missing):
        need = fine_enough(float(found.damping.min()))
        said.append(Finding(
            "warning", f"up to {100 * lost:.0f} % of a narrow peak may fall between two frequencies of the list at "
            f"{100 * found.damping.min():g} % damping; {need} per octave hold that to 5 %",
        ))  # fmt: skip
    return said
