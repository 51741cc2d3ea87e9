"""Records made to match a shock spectrum, as a Python user holds them."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from pydantic import ValidationError

from holokine.api.shown import Shown
from holokine.describe.document import Places, translated
from holokine.describe.events import SpectrumTable
from holokine.excite.spectrum import build_spectrum
from holokine.respond.match import MatchedRecord, match_record
from holokine.units import STANDARD_GRAVITY, argument_of
from holokine.whole import whole_csv

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Matched", "match"]


@dataclass(frozen=True, repr=False)
class Matched(Shown):
    """A record in time and the shock spectrum it was made for.

    Attributes
    ----------
    result : MatchedRecord
        The numbers, in SI.
    name : str
    """

    result: MatchedRecord
    name: str

    def table(self) -> pd.DataFrame:
        """Wanted and reached shock spectrum in g, and how far apart they are in dB."""
        import pandas as pd

        r = self.result
        return pd.DataFrame(
            {"frequency_hz": r.frequency_hz, "wanted_g": r.wanted / STANDARD_GRAVITY,
             "reached_g": r.reached / STANDARD_GRAVITY, "off_db": r.error_db}
        )  # fmt: skip

    def _at_prompt(self) -> tuple[str, list[str], pd.DataFrame | None, str]:
        return f"Matched record: {self.name}", self.words, self.table(), "frequencies"

    def record(self) -> pd.DataFrame:
        """The record: time in s, acceleration in g."""
        import pandas as pd

        return pd.DataFrame({"time_s": self.result.time, "acceleration_g": self.result.acceleration / STANDARD_GRAVITY})

    def write(self, path: str | Path) -> Path:
        """Write the record as CSV, as a pulse's file takes it.

        Raises
        ------
        OutputError
            When it cannot be written.
        """
        whole_csv(self.record(), Path(path), float_format="%.9g")
        return Path(path)

    def plot(self) -> Any:
        """The record above, both spectra below; returns the Figure."""
        from holokine.show.figures import plot_match

        return plot_match(self.result, self.name)

    @property
    def words(self) -> list[str]:
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


def match(
    spectrum: str | Path | dict[str, Any],
    *,
    damping: float | str = "5 %",
    per_octave: int = 6,
    duration: float | str | None = None,
    within_db: float = 0.5,
    seed: int = 1,
    name: str = "",
) -> Matched:
    """A base acceleration in time whose shock spectrum (maximax absolute acceleration) is the one given.

    Parameters
    ----------
    spectrum : path or dict
        A CSV file such as ``frequency_hz,acceleration_g``, or what stands under ``spectrum`` in an assembly file.
    per_octave : int
        Windowed sines per octave.
    duration : float or str, optional
        Longest length; seven half-cycles of the lowest frequency when left out.

    Raises
    ------
    EventError, UnitError
    """
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
    return Matched(found, title)
