"""Two runs, or two ways to one answer, side by side, as a Python user holds them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from holokine.api.shown import Shown

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.modes import Modes
    from holokine.findings import Finding
    from holokine.modes.compare import Comparison
    from holokine.respond.combine import SpectrumResult
    from holokine.respond.transient import TimeResult

__all__ = ["Compared", "RulesAgainstTime"]


@dataclass(frozen=True, repr=False)
class Compared(Shown):
    """Modes before and after a change, paired by the modal assurance criterion.

    Attributes
    ----------
    before, after : Modes
    result : Comparison
        The numbers.
    """

    before: Modes
    after: Modes
    result: Comparison

    def table(self) -> pd.DataFrame:
        """One row per mode: partner, frequency shift in percent, MAC, crossings and splits."""
        from holokine.show.mode_tables import comparison_table

        return comparison_table(self.result)

    @property
    def lines(self) -> list[str]:
        """Which frequency moves most."""
        from holokine.show.mode_tables import comparison_lines

        return comparison_lines(self.result)

    def mac(self) -> pd.DataFrame:
        """The whole matrix, modes before down, modes after across."""
        from holokine.show.mode_tables import mac_table

        return mac_table(self.result)

    def plot(self) -> Any:
        """The matrix as a figure; returns the Axes."""
        from holokine.show.mode_figures import plot_assurance

        return plot_assurance(self.result)

    def _at_prompt(self) -> tuple[str, list[str], pd.DataFrame | None, str]:
        return f"{self.before.assembly.title}: modes compared", self.lines, self.table(), "modes"


@dataclass(frozen=True, repr=False)
class RulesAgainstTime(Shown):
    """Peaks of a pulse in time against every rule of combination under the spectra of the same pulse.

    Attributes
    ----------
    time : TimeResult
    rules : dict of str to SpectrumResult
        The numbers, in SI.
    findings : tuple of Finding
        Of the modes and of the answer in time.
    """

    event: str
    time: TimeResult
    rules: dict[str, SpectrumResult]
    findings: tuple[Finding, ...] = ()

    def table(self) -> pd.DataFrame:
        """One row per reading that matters: peak in time, and each rule's peak over it (``cqc_over_time``)."""
        from holokine.show.tables import conservatism_table

        return conservatism_table(self.time, self.rules)

    @property
    def lines(self) -> list[str]:
        """Which rules lie above time for every reading that matters, by how much, and where others do not."""
        from holokine.respond.reduced import slight_of
        from holokine.show.tables import conservatism_lines

        return conservatism_lines(self.table(), self.rules, int(slight_of(self.time).sum()))

    def plot(self) -> Any:
        """Each rule's peak over the peak in time, reading by reading; returns the Figure."""
        from holokine.show.figures import plot_conservatism

        return plot_conservatism(self.table(), self.event)

    def _at_prompt(self) -> tuple[str, list[str], pd.DataFrame | None, str]:
        return f"Rules against time: {self.event}", self.lines, self.table(), "readings"
