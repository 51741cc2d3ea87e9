"""What scatter of inputs does to frequencies and peaks, as a Python user holds it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from holokine.api.shown import Shown
from holokine.api.variation import Variation, readings_of, varied
from holokine.vary.scatter import FirstOrder, first_order, scattered_parameters

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.assembly import Assembly
    from holokine.describe.stages import Request

__all__ = ["Scatter"]


class Scatter(Shown):
    """Frequencies and peaks under scattering inputs: to first order, and by samples where they were asked for.

    Attributes
    ----------
    assembly : Assembly
    first_order : FirstOrder
    variation : Variation or None
        The samples.
    """

    def __init__(self, assembly: Assembly, effects: FirstOrder, variation: Variation | None) -> None:
        self.assembly, self.first_order, self.variation = assembly, effects, variation

    def table(self, percentiles: Sequence[float] = (5.0, 50.0, 95.0)) -> pd.DataFrame:
        """A row per mode and reading: as written, at the means, standard deviation by derivatives, and of the samples
        mean, standard deviation and percentiles; which input matters most and its share of the variance.
        """
        from holokine.show.scatter import scatter_table

        return scatter_table(self.first_order, self._sampled, percentiles)

    def inputs(self) -> pd.DataFrame:
        """Share of every input in the variance of every mode and reading (first order), in percent; with samples their
        rank correlation."""
        from holokine.show.scatter import inputs_table

        return inputs_table(self.first_order, self._sampled, self._drawn)

    @property
    def _sampled(self) -> pd.DataFrame | None:
        return None if self.variation is None else self.variation.table().iloc[1:]

    @property
    def _drawn(self) -> Any:
        return None if self.variation is None else self.variation.plan.numbers()

    @property
    def lines(self) -> list[str]:
        """Inputs with their means and deviations, and what became of the samples."""
        from holokine.show.scatter import scatter_lines

        return [*scatter_lines(self.first_order), *(() if self.variation is None else self.variation.lines)]

    def plot(self) -> Any:
        """Bands of every frequency with bands of excitation across, and of every reading; returns the Figure."""
        from holokine.show.scatter import plot_scatter

        bands = self.assembly.description.band_ranges()
        return plot_scatter(self.table((5.0, 50.0, 95.0)), bands, self.assembly.title)

    def _at_prompt(self) -> tuple[str, list[str], pd.DataFrame | None, str]:
        return f"{self.assembly.title}: scatter", self.lines, self.table(), "modes and readings"


def scattered(
    assembly: Assembly,
    parameters: Mapping[str | tuple[str | int, ...], Any],
    basis: Request,
    read: Sequence[str | tuple[str, str]],
    samples: int | None,
    seed: int,
    jobs: int | None,
    scheduler: str | None,
    folder: str | Path | None,
) -> Scatter:
    """See `Assembly.scatter`."""
    inputs = scattered_parameters(assembly.document, parameters)
    effects = first_order(assembly.document, inputs, basis, readings_of(assembly, read), assembly._memory)
    drawn = None
    if samples is not None:
        drawn = varied(assembly, parameters, basis, read, samples, seed, jobs, scheduler, folder)
    return Scatter(assembly, effects, drawn)
