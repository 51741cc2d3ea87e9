"""What `Assembly.check` returns."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from holokine.api.shown import Shown

if TYPE_CHECKING:
    from collections.abc import Sequence

    import pandas as pd

    from holokine.findings import Finding
    from holokine.modes.check import CheckReport
    from holokine.system.build import System

__all__ = ["Check"]


@dataclass(frozen=True, repr=False)
class Check(Shown):
    """Totals, connections and findings of an assembly.

    Attributes
    ----------
    report : CheckReport
        The numbers, in SI.
    key : str
        Of the system that was checked.
    """

    report: CheckReport
    system: System
    title: str = ""
    key: str = ""

    @property
    def ok(self) -> bool:
        """Whether no finding is an error."""
        return self.report.ok

    @property
    def findings(self) -> tuple[Finding, ...]:
        """Errors, warnings and notes."""
        return self.report.findings

    @property
    def mass(self) -> float:
        """Total mass in kg."""
        return self.report.totals.mass

    def masses(self) -> pd.DataFrame:
        """Mass and centre of mass of each part and point mass, and of the whole."""
        from holokine.show.tables import mass_table

        return mass_table(self.report)

    def supports(self) -> pd.DataFrame:
        """Supports and what they hold."""
        from holokine.show.tables import supports_table

        return supports_table(self.system)

    def plot(self) -> Any:
        """Parts, connections, supports, masses and gauges with Matplotlib; returns the Axes."""
        from holokine.show.solids import plot_assembly

        return plot_assembly(self.system)

    def picture(
        self,
        path: str | Path,
        *,
        view: str | Sequence[float] | None = None,
        only: str | Sequence[str] | None = None,
        sections: bool = False,
    ) -> Path:
        """The same, rendered with the `view` extra (drawn plainly without it).

        `view`: corner, front, back, left, right, top, bottom, or a direction from the assembly to the eye. `only`: a
        part, mass, group or several, drawn alone with what connects them. `sections`: beams with their sections and
        their axes y and z.

        Raises
        ------
        HolokineError, UnknownNameError
            An unknown view, or a name of nothing that can be drawn.
        """
        from holokine.show.geometry import Look
        from holokine.show.scene import picture_assembly

        picture_assembly(self.system, Path(path), Look.of(self.system, view, only, sections))
        return Path(path)

    def connections(self) -> pd.DataFrame:
        """Links, joints, ties, springs and bushings: what holds what."""
        from holokine.show.tables import connections_table

        return connections_table(self.system)

    def elements(self) -> pd.DataFrame:
        """Elements of each part: kind, number, smallest and largest edge, worst shape."""
        from holokine.show.tables import elements_table

        return elements_table(self.system)

    def loads(self) -> pd.DataFrame:
        """What every load comes to: force, moment about the mean place of its forces, that place, pressed area."""
        from holokine.show.tables import loads_table

        return loads_table(self.report.loads)

    @property
    def lines(self) -> list[str]:
        """Totals and counts, a line each."""
        from holokine.show.text import check_lines

        return check_lines(self.report, self.system)

    def tables(self) -> dict[str, pd.DataFrame]:
        """All tables by name."""
        loads = self.loads()
        return {"mass": self.masses(), "elements": self.elements(), "connections": self.connections(),
                "supports": self.supports(), **({"loads": loads} if len(loads) else {})}  # fmt: skip

    def screens(self) -> list[tuple[str, pd.DataFrame]]:
        """Tables as a reader wants them first, with their titles."""
        titles = {"mass": "Mass", "elements": "Elements (shape: 1 perfect, 0 flat)", "connections": "What holds what",
                  "supports": "Supports", "loads": "Loads: what each comes to"}  # fmt: skip
        return [(titles[name], table) for name, table in self.tables().items()]

    def __str__(self) -> str:
        from holokine.show.text import check_text

        return check_text(self.report, self.system)

    def _at_prompt(self) -> tuple[str, list[str], pd.DataFrame | None, str]:
        from holokine.show.short import check_facts

        return f"Check: {self.title or 'assembly'}", check_facts(self.report, self.system), None, ""
