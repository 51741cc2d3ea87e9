"""Tuned dampers, as a Python user holds them."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import TYPE_CHECKING, Any

from holokine.api.shown import Shown

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.assembly import Assembly
    from holokine.api.modes import Modes
    from holokine.findings import Finding
    from holokine.respond.tuned import Tuned

__all__ = ["TunedDamper"]


STIFF = 1e4
"""Stiffness across a damper on solids, over that along it."""


class TunedDamper(Shown):
    """A tuned damper for a mode of an assembly: by the classic optimum, and by the least of the largest.

    Attributes
    ----------
    modes : Modes
        Of the assembly without it.
    result : Tuned
        The numbers, in SI.
    """

    def __init__(
        self, modes: Modes, result: Tuned, at: str, axis: tuple[float, float, float], words: str,
        again: Callable[[TunedDamper], float | None],
    ) -> None:  # fmt: skip
        self.modes, self.result, self.at, self.axis, self._words, self._again = modes, result, at, axis, words, again

    def table(self) -> pd.DataFrame:
        """Without, by the classic optimum, by the least of the largest, and with its tuning off by 10 %."""
        from holokine.show.tuned import tuned_table

        return tuned_table(self.result)

    @property
    def lines(self) -> list[str]:
        """What it is for, what to build, and what it brings."""
        from holokine.show.tuned import tuned_lines

        return tuned_lines(self.result, self.at, self.axis, self._words)

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What to know before trusting it."""
        from holokine.show.tuned import tuned_findings

        return tuned_findings(self.result)

    def values(self, name: str = "tuned damper", *, which: str = "best") -> dict[str, Any]:
        """The damper as entries of a description: a point, a mass, and a joint (a bushing on solids) along its axis.

        Parameters
        ----------
        name : str
            Of the mass; the joint or bushing is called so with ``spring`` after it.
        which : str
            best or classic.
        """
        setting = self.result.classic if which == "classic" else self.result.best
        system = self.modes.set.system
        node = system.node(self.at, "tuned damper")
        stiffness = {"x": f"{setting.stiffness:.10g} N/m"}
        slides = {
            "between": [self.at, name], "stiffness": stiffness, "damping": {"x": f"{setting.damping:.10g} N s/m"},
            "axes": {"x": list(self.axis), "y": _across(self.axis)},
        }  # fmt: skip
        turns = bool(system.active[6 * node + 3 : 6 * node + 6].all())
        if not turns:  # a node of solids: no joint holds the mass there; across it stands on stiff springs
            stiffness |= dict.fromkeys("yz", f"{STIFF * setting.stiffness:.10g} N/m")
        return {
            "points": {name: {"at": [f"{1e3 * x:.10g} mm" for x in system.mesh.nodes[node]], "apart": True}},
            "masses": {name: {"at": name, "mass": f"{setting.mass:.10g} kg"}},
            "joints" if turns else "bushings": {f"{name} spring": slides},
        }

    def assembly(self, name: str = "tuned damper", *, which: str = "best") -> Assembly:
        """The assembly with the damper in it, to be solved, compared and written like any other."""
        return self.modes.assembly.changed(self.values(name, which=which))

    @cached_property
    def solved_anew(self) -> float | None:
        """Largest reading over the band with the damper among the members and modes extracted anew, SI.

        None where the damper's axis is not a global one and no event is given, for which there is no gauge.
        """
        return self._again(self)

    def plot(self) -> Any:
        """Amplitude over frequency without the damper and with each setting; returns the Figure."""
        from holokine.show.tuned import plot_tuned

        return plot_tuned(self.result, f"{self.modes.assembly.title}: {self._words}")

    def _at_prompt(self) -> tuple[str, list[str], pd.DataFrame | None, str]:
        return "Tuned damper", self.lines, self.table(), "cases"


def _across(axis: tuple[float, float, float]) -> list[float]:
    """A direction across an axis."""
    least = min(range(3), key=lambda k: abs(axis[k]))
    return [1.0 if k == least else 0.0 for k in range(3)]
