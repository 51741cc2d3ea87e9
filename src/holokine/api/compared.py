"""Two runs side by side, as a Python user holds them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.modes import Modes
    from holokine.modes.compare import Comparison

__all__ = ["Compared"]


@dataclass(frozen=True)
class Compared:
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
