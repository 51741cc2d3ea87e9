"""Damped modes, as a Python user holds them."""

from __future__ import annotations

from functools import cached_property, partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.api.result import Entry, Result, Writer, figure, table, writes
from holokine.errors import UnknownNameError

if TYPE_CHECKING:
    from collections.abc import Sequence

    import pandas as pd

    from holokine.api.host import AssemblyLike, ModesLike
    from holokine.findings import Finding
    from holokine.modes.damped import DampedModes
    from holokine.respond.steady import Coupling

__all__ = ["Damped"]


class Damped(Result):
    """Complex modes of an assembly whose damping couples its modes.

    Attributes
    ----------
    modes : Modes
        The undamped modes that they are made from.
    set : DampedModes
        The numbers, in SI.
    """

    stage = "modes"
    rows = "modes"

    def __init__(self, modes: ModesLike, coupling: Coupling, found: DampedModes) -> None:
        self.modes, self._coupling, self.set = modes, coupling, found

    def __len__(self) -> int:
        return len(self.set.poles)

    @property
    def title(self) -> str:
        """Of which assembly."""
        return f"{self.modes.assembly.title}: damped modes"

    @property
    def of_assembly(self) -> AssemblyLike:
        """That of the modes."""
        return self.modes.assembly

    @property
    def key(self) -> str:
        """Of the undamped modes."""
        return self.modes.key

    @property
    def poles(self) -> NDArray[Any]:
        """Eigenvalues in rad/s, one of each pair, shape (modes,), complex."""
        return self.set.poles

    @property
    def frequencies_hz(self) -> NDArray[Any]:
        """Damped frequencies in Hz, shape (modes,)."""
        return self.set.damped_hz

    @cached_property
    def shapes(self) -> NDArray[Any]:
        """Complex shapes, (modes, dofs), of length 1 in kinetic energy."""
        return self.set.coordinates @ self._coupling.shapes

    @property
    def lines(self) -> list[str]:
        """What damps, and how strongly it couples the modes."""
        from holokine.show.damped import damped_lines

        return damped_lines(self.set, self._coupling)

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What to know before trusting them."""
        return (*self.modes.findings, *self._coupling.findings)

    @table("damped_modes", "Damped modes",
           hide=("uncoupled_damping_percent", "real_part_per_s", "imaginary_part_per_s"))  # fmt: skip
    def _damped_modes(self) -> pd.DataFrame:
        """One row per damped mode: frequencies, damping ratio, decay, how complex it is, the undamped mode next to it.

        Then one per overdamped motion (kind: real), which dies away without swinging.
        """
        import pandas as pd

        found, modes, count = self.set, self.modes.set, self._coupling.modes
        ratios = self.modes.damping

        def near(rows: NDArray[Any]) -> list[int]:
            return [int(modes.numbers[k]) if k < count else 0 for k in rows]

        own = [100.0 * ratios[k] if k < count else np.nan for k in found.nearest]
        swings = pd.DataFrame({
            "mode": np.arange(1, len(found.poles) + 1), "kind": "swings", "frequency_hz": found.damped_hz,
            "undamped_hz": found.undamped_hz, "damping_percent": 100.0 * found.ratios,
            "decay_time_s": found.decay_times, "log_decrement": found.decrements,
            "complexity_percent": 100.0 * found.complexity, "nearest_mode": near(found.nearest),
            "likeness_percent": 100.0 * found.likeness, "uncoupled_damping_percent": own,
            "real_part_per_s": found.poles.real, "imaginary_part_per_s": found.poles.imag,
        })  # fmt: skip
        real = found.real_poles
        if not len(real):
            return swings
        still = pd.DataFrame({
            "mode": 0, "kind": "real", "frequency_hz": 0.0, "damping_percent": np.nan,
            "decay_time_s": np.divide(-1.0, real, out=np.full(len(real), np.inf), where=real != 0.0),
            "nearest_mode": near(found.real_nearest), "real_part_per_s": real, "imaginary_part_per_s": 0.0,
        })  # fmt: skip
        return pd.concat([swings, still], ignore_index=True)

    def _screen(self, entry: Entry, whole: pd.DataFrame) -> tuple[str, pd.DataFrame]:
        title, short = super()._screen(entry, whole)
        return title, short.drop(columns="kind") if (short["kind"] == "swings").all() else short

    @figure("poles", "Poles of the damped modes")
    def _poles(self) -> Any:
        """Poles in the complex plane, with lines of equal damping ratio."""
        from holokine.show.damped import plot_poles

        return plot_poles(self.set, self._coupling.modes, self.modes.assembly.title)

    def _row(self, mode: int) -> int:
        if not 1 <= mode <= len(self):
            raise UnknownNameError(f"there is no damped mode {mode}; there are 1 to {len(self)}")
        return mode - 1

    @writes(".gif", ".mp4")
    def _film(
        self, path: Path, *, mode: int = 1, seconds: float = 3.0, rate: int = 24, share: float = 0.08,
        pixels: tuple[int, int] = (1280, 800),
    ) -> None:  # fmt: skip
        """One cycle of a damped mode (from 1), its decay left out, so that nodes that travel are seen.

        Raises
        ------
        UnknownNameError, HolokineError
            No such mode, or imageio is not installed.
        """
        from holokine.show.sweep_figures import animate_cycle

        row = self._row(mode)
        title = (
            f"damped mode {mode}, {self.set.damped_hz[row]:.5g} Hz, damping {100 * self.set.ratios[row]:.3g} %, "
            f"complexity {100 * self.set.complexity[row]:.2g} %"
        )
        shape = self.set.coordinates[row] @ self._coupling.shapes
        size = float(np.abs(shape.reshape(-1, 6)[:, :3]).max()) or 1.0
        animate_cycle(self.modes.set.system, 1e-3 * shape / size, title, path, seconds, rate, share, pixels)

    def files(self, animate: Sequence[int] = (), film: str = "gif", **draw: Any) -> dict[str, Writer]:
        """Films of damped modes."""
        for mode in animate:
            self._row(mode)
        return {f"damped_mode_{m:02d}.{film}": partial(self.save, mode=m, **draw) for m in animate}
