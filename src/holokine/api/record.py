"""Records: their shock response spectra, and records made to match one, as a Python user holds them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.api.announce import announced
from holokine.api.result import Result, Writer, figure, table, writes
from holokine.errors import EventError, UnitError, argument, first_few, headed, nearest_hint, shown
from holokine.excite.tables import read_columns
from holokine.findings import Finding
from holokine.respond.match import MatchedRecord, match_record
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
from holokine.show.numbers import display_unit, gauge_column, number_text
from holokine.units import STANDARD_GRAVITY, argument_of, quantity

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["MatchedTo", "Record", "match", "shock"]

_DIMENSION = {"pseudo-velocity": "velocity", "relative displacement": "displacement"}


@dataclass(frozen=True, repr=False)
class Record(Result):
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
    rows = "frequencies"

    @property
    def title(self) -> str:
        """Record and quantity."""
        return f"{self.name}: shock response spectrum, {self.result.quantity}{self._broadened}"

    @property
    def _broadened(self) -> str:
        return f", broadened by {100 * self.broaden:g} %" if self.broaden else ""

    @property
    def facts(self) -> dict[str, Any]:
        """Record and quantity."""
        return {"record": self.name, "quantity": self.result.quantity}

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What to know before trusting them."""
        return self.result.findings

    @property
    def lines(self) -> list[str]:
        """The largest value at each damping ratio, and where."""
        unit, size = display_unit(_DIMENSION.get(self.result.quantity, "acceleration"))
        tops = [
            f"{number_text(row.max() / size)} {unit} at {number_text(self.result.frequency_hz[row.argmax()])} Hz"
            f" ({100 * zeta:g} % damping)"
            for zeta, row in zip(self.result.damping, self.result.side("maximax"), strict=True)
        ]
        return [f"largest, maximax: {'; '.join(tops)}"]

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

    @table("spectrum", "Spectrum")
    def _spectrum(self, *, sides: str | Sequence[str] = ("maximax",), by: str = "frequency") -> pd.DataFrame:
        """One row per frequency (or period), one column per side and damping ratio, in display units.

        `sides`: of maximax, positive, negative, primary, residual; `by`: frequency or period.

        Raises
        ------
        EventError
            For another `by`, or another side.
        """
        import pandas as pd

        if by not in ("frequency", "period"):
            raise EventError(f'a shock spectrum goes by frequency or period, not by "{by}"')
        unit, size = display_unit(_DIMENSION.get(self.result.quantity, "acceleration"))
        f = self.result.frequency_hz
        found: dict[str, object] = {"frequency_hz": f, "period_s": 1.0 / f}
        for side in [sides] if isinstance(sides, str) else sides:
            for zeta, values in zip(self.result.damping, self.values(side), strict=True):
                found[gauge_column(f"{side} at {100 * zeta:g} %", unit)] = values / size
        made = pd.DataFrame(found)
        if by == "period":
            made = made.iloc[::-1].reset_index(drop=True)
            made.insert(0, "period_s", made.pop("period_s"))
        return made

    @figure("spectrum")
    def _drawn(self, side: str = "maximax") -> Any:
        """The spectra on logarithmic axes."""
        from holokine.show.figures import plot_shock

        return plot_shock(self.result, self.values(side), self.name, f"{side}{self._broadened}")


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
) -> Record:
    """Shock response spectra of a base acceleration.

    Parameters
    ----------
    record : path, (time, acceleration), Series or DataFrame
        A CSV file with columns such as ``time_s,acceleration_g``; arrays in s and m/s²; a Series over time, or a
        DataFrame with two columns, in the same units.
    low : float or str
        Lowest natural frequency in Hz, or longest period with its unit, such as 0.5s; 5 Hz when left out.
    high : float or str
        Highest natural frequency, or shortest period; 2 kHz when left out.
    per_octave : int, optional
        How many frequencies an octave; by default as many as the smallest damping asks for, so that a peak between
        two of them is at most 5 % high (53 at 2 %, 22 at 5 %; 12 to 120).
    frequencies : list of float or str, optional
        The natural frequencies themselves in Hz, in place of low, high and per_octave.
    damping : float, str or list of them
        Damping ratio (several on request); 5 % without one, and without `q`.
    q : float or list of floats
        Quality factor, 1/(2 ratio), beside or in place of damping ratios.
    of : str
        absolute acceleration, pseudo-acceleration, pseudo-velocity or relative displacement.
    remove_offset : bool
        Take the mean of the record off first.
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
    return announced(Record(replace(found, findings=(*found.findings, *more)), title, width))


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


@dataclass(frozen=True, repr=False)
class MatchedTo(Result):
    """A record in time and the shock spectrum it was made for.

    Attributes
    ----------
    result : MatchedRecord
        The numbers, in SI.
    name : str
    """

    result: MatchedRecord
    name: str
    rows = "frequencies"

    @property
    def title(self) -> str:
        """Of which spectrum."""
        return f"{self.name}: a record made to match it"

    @property
    def facts(self) -> dict[str, Any]:
        """The spectrum and how well it is met."""
        return {"spectrum": self.name, "lines": self.lines}

    @property
    def lines(self) -> list[str]:
        """How long the record is and how well it matches."""
        r = self.result
        worst = abs(r.error_db).argmax()
        on, between = abs(r.error_db[::2]).max(), abs(r.error_db[1::2]).max()
        return [
            f"record of {r.time[-1]:.4g} s with {len(r.time):,} samples: {len(r.amplitude)} windowed sines, peak "
            f"{abs(r.acceleration).max() / STANDARD_GRAVITY:.4g} g, without velocity change or displacement at the end",
            f"its shock spectrum ({100 * r.damping:g} % damping) is off by at most {on:.2g} dB at the frequencies of "
            f"the terms and {between:.2g} dB between them, worst at {r.frequency_hz[worst]:.4g} Hz ({r.rounds} rounds)",
        ]

    @table("match", "Wanted and reached")
    def _match(self) -> pd.DataFrame:
        """Wanted and reached shock spectrum in g, and how far apart they are in dB."""
        import pandas as pd

        r = self.result
        return pd.DataFrame(
            {"frequency_hz": r.frequency_hz, "wanted_g": r.wanted / STANDARD_GRAVITY,
             "reached_g": r.reached / STANDARD_GRAVITY, "off_db": r.error_db}
        )  # fmt: skip

    @table("record")
    def _record(self) -> pd.DataFrame:
        """The record: time in s, acceleration in g."""
        import pandas as pd

        return pd.DataFrame({"time_s": self.result.time, "acceleration_g": self.result.acceleration / STANDARD_GRAVITY})

    @figure("match")
    def _drawn(self) -> Any:
        """The record above, both spectra below."""
        from holokine.show.figures import plot_match

        return plot_match(self.result, self.name)

    @writes(".csv")
    def _as_pulse(self, path: Path, *, table: str = "record") -> None:
        """The record, as a pulse's file takes it; or another table."""
        from holokine.whole import whole_csv

        whole_csv(self.table(table), path, float_format="%.9g")

    def files(self, **draw: Any) -> dict[str, Writer]:
        """The record."""
        return {"_record.csv": self.save}


def match(
    spectrum: str | Path | dict[str, Any],
    *,
    damping: float | str = "5 %",
    per_octave: int = 6,
    duration: float | str | None = None,
    within_db: float = 0.5,
    seed: int = 1,
    name: str = "",
) -> MatchedTo:
    """A base acceleration in time whose shock spectrum (maximax absolute acceleration) is the one given.

    Parameters
    ----------
    spectrum : path or dict
        A CSV file such as ``frequency_hz,acceleration_g``, or what stands under ``spectrum`` in an assembly file.
    damping : float or str
        Damping ratio of the spectrum.
    per_octave : int
        Windowed sines per octave.
    duration : float or str, optional
        Longest length, such as 0.8s; seven half-cycles of the lowest frequency when left out.
    within_db : float
        How near the spectrum is to come.
    seed : int
        Another start gives another record.

    Raises
    ------
    EventError, UnitError
    """
    from pydantic import ValidationError

    from holokine.describe.document import Places, translated
    from holokine.describe.events import SpectrumTable
    from holokine.excite.spectrum import build_spectrum

    keys = spectrum if isinstance(spectrum, dict) else {"file": str(spectrum)}
    title = name or ("spectrum" if isinstance(spectrum, dict) else Path(spectrum).name)
    try:
        table = build_spectrum(SpectrumTable.model_validate(keys), source=title)
    except ValidationError as err:
        raise translated(err, Places(), ("spectrum",)) from None
    ratio = argument_of("damping", damping, "number")
    longest = None if duration is None else argument_of("duration", duration, "time")
    found = match_record(
        table.frequency_hz, table.acceleration, damping=ratio, per_octave=per_octave, duration=longest,
        within_db=within_db, seed=seed,
    )  # fmt: skip
    return MatchedTo(found, title)
