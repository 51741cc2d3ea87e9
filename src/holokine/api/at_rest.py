"""A state and its buckling, as a Python user holds them."""

from __future__ import annotations

from collections.abc import Sequence
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.api.shown import Shown
from holokine.errors import DescriptionError, UnknownNameError

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.assembly import Assembly
    from holokine.api.deformed import Deformed
    from holokine.findings import Finding
    from holokine.state.about import AtRest
    from holokine.state.buckling import Buckling
    from holokine.state.changes import Changes
    from holokine.state.sequence import FrequencyPath

__all__ = ["BucklingAnswer", "Rest", "StateChanges"]


class Rest(Shown):
    """An assembly at rest in a state: displacement, forces, stress, and what touches, slides or is slack.

    Attributes
    ----------
    assembly : Assembly
        With the state switched on: its modes and answers are about it.
    state : AtRest
        The numbers, in SI.
    """

    def __init__(self, assembly: Assembly) -> None:
        self.assembly = assembly
        found = assembly._chain.at_rest
        assert found is not None
        self.state: AtRest = found

    @property
    def key(self) -> str:
        """Key of the state: equal for equal descriptions on every machine."""
        return self.assembly.document.keys.of("state")

    @property
    def lines(self) -> list[str]:
        """Loads, balance, and how well all conditions are met."""
        from holokine.show.state_tables import state_lines

        return state_lines(self.state)

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What to know before trusting it."""
        return self.state.findings

    def feet(self) -> pd.DataFrame:
        """Feet of one-way supports: touching, sliding or open, gap, force, friction against its limit, slip."""
        from holokine.show.state_tables import feet_table

        return feet_table(self.state)

    def springs(self) -> pd.DataFrame:
        """One-way springs and springs with a table or law: elongation, force, and stiffness about the state."""
        from holokine.show.state_tables import spring_table

        return spring_table(self.state)

    def axial(self) -> pd.DataFrame:
        """Axial force of every beam part, tension positive, largest first."""
        from holokine.show.state_tables import axial_table

        return axial_table(self.state)

    def supports(self) -> pd.DataFrame:
        """Force of every support on the assembly, friction included."""
        from holokine.show.state_tables import supports_at_rest

        return supports_at_rest(self.state)

    @cached_property
    def _gauges(self) -> Any:
        from holokine.respond.resting import resting_gauges

        return resting_gauges(self.state)

    def readings(self) -> pd.DataFrame:
        """Value of every gauge in the state itself, in display units."""
        from holokine.respond.resting import state_channels
        from holokine.show.state_tables import readings_table

        return readings_table(self._gauges, state_channels(self.state, self._gauges))

    @cached_property
    def _deformed(self) -> Deformed:
        from holokine.api.deformed import Deformed

        return Deformed.of_state(self.state)

    def deformed(self) -> Deformed:
        """The deformed assembly: shape, stress, member forces."""
        return self._deformed

    def points(self) -> pd.DataFrame:
        """Displacement of every named point in mm."""
        return self._deformed.points()

    def stress(self) -> pd.DataFrame:
        """Largest stress of every part in MPa, with the place."""
        return self._deformed.stress()

    def tables(self) -> dict[str, pd.DataFrame]:
        """All tables by name."""
        found = {
            "feet": self.feet(), "springs": self.springs(), "axial": self.axial(), "supports": self.supports(),
            "readings": self.readings(), "points": self.points(), "stress": self.stress(),
            "members": self._deformed.members(),
        }  # fmt: skip
        return {name: table for name, table in found.items() if len(table)}

    def screens(self, most: int = 12) -> list[tuple[str, pd.DataFrame]]:
        """Tables as a reader wants them first, with their titles; long ones with their largest rows."""
        titles = {
            "feet": "One-way supports", "springs": "One-way springs, and springs with a law",
            "axial": "Axial force of beams and cables, tension positive",
            "supports": "Forces of supports on the assembly",
            "readings": "Gauges at rest", "points": "Displacement of points", "stress": "Largest stress of parts",
        }  # fmt: skip
        tables, shown = self.tables(), []
        for key, title in titles.items():
            table = tables.get(key)
            if table is None:
                continue
            if key in ("axial", "points") and len(table) > most:
                title += f", the {most} largest of {len(table)}"
                table = (table if key == "axial" else table.sort_values("size_mm", ascending=False)).head(most)
            shown.append((title, table))
        return shown

    def buckling(self, count: int = 6) -> BucklingAnswer:
        """Load factors of buckling.

        Raises
        ------
        EquilibriumError, SolverError, DescriptionError
            What is constant is beyond buckling by itself; stress stiffness is switched off.
        """
        if not self.state.state.stress_stiffness:
            raise DescriptionError(
                f'state "{self.state.name}": buckling needs what stress adds to the stiffness, which is switched off'
            )
        return BucklingAnswer(self, self.state.buckling(count))

    def changes(self, high: float = 10.0) -> StateChanges:
        """Load factors up to `high` at which feet open, touch, slide or stick, springs let go, cables go slack.

        The factor is on all loads but those that the state names constant (where it names none, on its temperatures,
        tensions and shortenings too), as for buckling.

        Raises
        ------
        DescriptionError
            `high` below 1.
        """
        return StateChanges(self, self.state.changes(high))

    def _at_prompt(self) -> tuple[str, list[str], pd.DataFrame | None, str]:
        return f"{self.assembly.title}: at rest", self.lines, None, ""


class StateChanges(Shown):
    """Load factors at which members that act one way change.

    Attributes
    ----------
    rest : Rest
    result : Changes
        The numbers.
    """

    def __init__(self, rest: Rest, result: Changes) -> None:
        self.rest, self.result = rest, result

    @property
    def factors(self) -> NDArray[Any]:
        """Load factors, rising; members that change together have one each."""
        return np.array([c.factor for c in self.result.found])

    @property
    def lines(self) -> list[str]:
        """The nearest change on either side of the state, and where its equilibrium ends."""
        from holokine.show.state_tables import changes_lines

        return changes_lines(self.rest.state, self.result)

    def table(self) -> pd.DataFrame:
        """By rising load factor: the member, where it is, and what it does below and above."""
        from holokine.show.state_tables import changes_table

        return changes_table(self.rest.state, self.result)

    def _at_prompt(self) -> tuple[str, list[str], pd.DataFrame | None, str]:
        return f"{self.rest.assembly.title}: what changes with the load", self.lines, self.table(), "changes"


class BucklingAnswer(Shown):
    """Load factors of buckling with their shapes.

    Attributes
    ----------
    rest : Rest
    result : Buckling
        The numbers.
    """

    def __init__(self, rest: Rest, result: Buckling) -> None:
        self.rest, self.result = rest, result

    @cached_property
    def findings(self) -> tuple[Finding, ...]:
        """What to know before trusting it: of the state, and of what lets go before it buckles."""
        from holokine.state.changes import before_buckling

        top = float(self.factors[0]) if len(self.factors) else 10.0
        return (*self.rest.findings, *before_buckling(self.rest.state.changes(max(1.0, min(top, 10.0)), low=1.0)))

    @property
    def factors(self) -> NDArray[Any]:
        """Positive load factors, lowest first."""
        return self.result.positive

    @property
    def lines(self) -> list[str]:
        """The lowest factor as a margin."""
        from holokine.show.state_tables import buckling_lines

        return buckling_lines(self.rest.state, self.result)

    def table(self) -> pd.DataFrame:
        """Load factors, lowest first, negative ones after, with what moves most."""
        from holokine.show.state_tables import buckling_table, moves_most

        shapes = np.vstack([self.result.shapes, self.result.negative_shapes])
        return buckling_table(self.result, moves_most(self.rest.state.elastic, shapes))

    def path(self, factors: Sequence[float] | None = None, count: int = 6) -> FrequencyPath:
        """Natural frequencies at parts of the load, of the modes that are lowest under the highest.

        Parameters
        ----------
        factors : list of float, optional
            Load factors; by default 0, 0.25, 0.5, 0.75 and 1, and more up to 0.9 of the lowest load factor.

        Raises
        ------
        DescriptionError
            A factor at or beyond the lowest load factor.
        """
        from holokine.modes.extract import extract_modes
        from holokine.state.sequence import frequency_path

        state = self.rest.state
        if factors is None:
            factors = [1.0] if len(state.equilibrium.drifts) else [0.0, 0.25, 0.5, 0.75, 1.0]
            if len(self.factors) and self.factors[0] > 1.2:
                top = 0.9 * float(self.factors[0])
                factors = [*factors, *(np.array([0.3, 0.6, 0.85, 1.0]) * (top - 1.0) + 1.0)]
        low = float(self.factors[0]) if len(self.factors) else np.inf
        high = float(self.result.negative[0]) if len(self.result.negative) else -np.inf
        wrong = [f for f in factors if not high < f < low]
        if wrong:
            raise DescriptionError(f"load factor {wrong[0]:g}: beyond buckling, which lies at {low:.4g} and {high:.4g}")

        def modes(system: Any, wanted: int) -> Any:
            found = extract_modes(system, count=min(wanted, system.free_size))
            return found.frequencies_hz, found.shapes

        shape = self.result.shapes[0] if len(self.result.shapes) else None
        return frequency_path(state, np.array(sorted(factors), dtype=float), count, modes, shape)

    def path_table(self, path: FrequencyPath) -> pd.DataFrame:
        """Frequency of every mode at every load factor, and the factor at which its square would be zero."""
        from holokine.show.state_tables import path_table

        return path_table(path)

    def plot(self, path: FrequencyPath | None = None) -> Any:
        """Frequency squared against the load factor; returns the Figure."""
        from holokine.show.state_tables import plot_path

        lowest = float(self.factors[0]) if len(self.factors) else None
        return plot_path(path or self.path(), self.rest.assembly.title, lowest)

    def picture(self, number: int, path: str | Path, *, view: Any = None, only: Any = None) -> Path:
        """Picture of a buckling shape (from 1, as in the table).

        Raises
        ------
        UnknownNameError
            No such shape.
        """
        from holokine.show.geometry import Look
        from holokine.show.scene import picture_deformed

        shapes = np.vstack([self.result.shapes, self.result.negative_shapes])
        factors = np.concatenate([self.result.positive, self.result.negative])
        if not 1 <= number <= len(shapes):
            raise UnknownNameError(f"there is no buckling shape {number}; there are 1 to {len(shapes)}")
        shape = shapes[number - 1].reshape(-1, 6)[:, :3]
        title = f"{self.rest.state.name}: buckling {number}, load factor {factors[number - 1]:.4g}"
        system = self.rest.state.elastic
        picture_deformed(system, shape, np.linalg.norm(shape, axis=1), "motion (largest 1)", title, Path(path), 0.08,
                         Look.of(system, view, only))  # fmt: skip
        return Path(path)

    def _at_prompt(self) -> tuple[str, list[str], pd.DataFrame | None, str]:
        return f"{self.rest.assembly.title}: buckling", self.lines, self.table(), "factors"
