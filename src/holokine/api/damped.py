"""Damped modes, as a Python user holds them."""

from __future__ import annotations

from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.api.shown import Shown
from holokine.errors import UnknownNameError

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.modes import Modes
    from holokine.findings import Finding
    from holokine.modes.damped import DampedModes
    from holokine.respond.steady import Coupling

__all__ = ["Damped"]


class Damped(Shown):
    """Complex modes of an assembly whose damping couples its modes.

    Attributes
    ----------
    modes : Modes
        The undamped modes that they are made from.
    set : DampedModes
        The numbers, in SI.
    """

    def __init__(self, modes: Modes, coupling: Coupling, found: DampedModes) -> None:
        self.modes, self._coupling, self.set = modes, coupling, found

    def __len__(self) -> int:
        return len(self.set.poles)

    @property
    def poles(self) -> NDArray[Any]:
        """Eigenvalues in rad/s, one of each pair, shape (modes,), complex; see `real_poles`."""
        return self.set.poles

    def table(self) -> pd.DataFrame:
        """One row per damped mode: frequencies, damping ratio, decay, how complex it is, the undamped mode next to it.

        Then one per overdamped motion (kind: real), which dies away without swinging.
        """
        from holokine.show.damped import damped_table

        return damped_table(self.set, self._coupling.modes, self.modes.set, self.modes.damping)

    def screens(self) -> list[tuple[str, pd.DataFrame]]:
        """The columns that a reader wants first, with a title."""
        table = self.table()
        hidden = ["uncoupled_damping_percent", "real_part_per_s", "imaginary_part_per_s"]
        if (table["kind"] == "swings").all():
            hidden.append("kind")
        return [("Damped modes", table.drop(columns=hidden))]

    @property
    def lines(self) -> list[str]:
        """What damps, and how strongly it couples the modes."""
        from holokine.show.damped import damped_lines

        return damped_lines(self.set, self._coupling)

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What to know before trusting them."""
        return (*self.modes.findings, *self._coupling.findings)

    @cached_property
    def _shapes(self) -> NDArray[Any]:
        return self.set.coordinates @ self._coupling.shapes

    @property
    def shapes(self) -> NDArray[Any]:
        """Complex shapes, (modes, dofs), of length 1 in kinetic energy."""
        return self._shapes

    def _row(self, mode: int) -> int:
        if not 1 <= mode <= len(self):
            raise UnknownNameError(f"there is no damped mode {mode}; there are 1 to {len(self)}")
        return mode - 1

    def plot(self) -> Any:
        """Poles in the complex plane, with lines of equal damping ratio; returns the Figure."""
        from holokine.show.damped import plot_poles

        return plot_poles(self.set, self._coupling.modes, self.modes.assembly.title)

    def animate(
        self, mode: int, path: str | Path, *, seconds: float = 3.0, rate: int = 24, share: float = 0.08,
        pixels: tuple[int, int] = (1280, 800),
    ) -> Path:  # fmt: skip
        """Film of one cycle of a damped mode (from 1), its decay left out, so that nodes that travel are seen.

        Raises
        ------
        UnknownNameError, HolokineError
            No such mode, another ending, or imageio is not installed.
        """
        from holokine.show.sweep_figures import animate_cycle

        row = self._row(mode)
        title = (
            f"damped mode {mode}, {self.set.damped_hz[row]:.5g} Hz, damping {100 * self.set.ratios[row]:.3g} %, "
            f"complexity {100 * self.set.complexity[row]:.2g} %"
        )
        shape = self.set.coordinates[row] @ self._coupling.shapes
        size = float(np.abs(shape.reshape(-1, 6)[:, :3]).max()) or 1.0
        animate_cycle(self.modes.set.system, 1e-3 * shape / size, title, Path(path), seconds, rate, share, pixels)
        return Path(path)

    def _at_prompt(self) -> tuple[str, list[str], pd.DataFrame | None, str]:
        return f"Damped modes: {self.modes.assembly.title}", self.lines, self.table(), "modes"
