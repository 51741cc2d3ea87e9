"""Hand formulas from Python."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.api.result import Result, table
from holokine.formulas import FORMULAS, FormulaResult, evaluate
from holokine.show.numbers import number_text

if TYPE_CHECKING:
    import pandas as pd

    from holokine.api.modes import Modes
    from holokine.modes.kinds import ModeKind

__all__ = ["ByFormula", "formula"]


@dataclass(frozen=True, repr=False)
class ByFormula(Result):
    """Natural frequencies by a hand formula, beside those of a run where one is given.

    Attributes
    ----------
    result : FormulaResult
    inputs : dict
    """

    result: FormulaResult
    inputs: dict[str, Any]
    beside: Modes | None = None
    rows = "frequencies"

    @property
    def title(self) -> str:
        """What it gives."""
        return f"{self.result.name}: {self.result.words}"

    @property
    def frequencies_hz(self) -> np.ndarray[Any, Any]:
        """By the formula, in Hz."""
        return self.result.frequencies_hz

    @property
    def lines(self) -> list[str]:
        """Source, inputs and other results."""
        given = ", ".join(f"{k} = {v}" for k, v in self.inputs.items())
        more = [f"{k}: {number_text(v)} {u}".rstrip() for k, (v, u) in self.result.facts.items()]
        return [f"source: {self.result.source}", f"inputs: {given}", *more]

    @property
    def facts(self) -> dict[str, Any]:
        """The formula, its source, inputs and other results."""
        r = self.result
        return {"formula": r.name, "gives": r.words, "source": r.source, "inputs": self.inputs,
                "facts": {k: {"value": v, "unit": u} for k, (v, u) in r.facts.items()}}  # fmt: skip

    @table("formula", "Frequencies")
    def _frequencies(self) -> pd.DataFrame:
        """Frequencies of the formula; beside them modes of the run of its kind and order, plane by plane.

        Where the run has no mode of the kind at all, the nearest frequency stands there, and `paired_by` says so.
        """
        import pandas as pd

        result = self.result
        if self.beside is None:
            return pd.DataFrame({"what": list(result.labels), "frequency_hz": result.frequencies_hz})
        modes, kinds = self.beside.set, self.beside.kinds
        f, rows = modes.frequencies_hz, []
        pairs = _of_a_kind(result, kinds)
        for label, x in zip(result.labels, result.frequencies_hz, strict=True):
            own: list[tuple[str, int | None]] = [(plane, mode) for plane, wanted, mode in pairs if wanted == label]
            by = "kind and order"
            if not pairs:
                own, by = [("", int(np.abs(f - x).argmin()))], "nearest frequency only"
            for plane, i in own or [("", None)]:
                row: dict[str, object] = {"what": f"{label} {plane}".strip(), "frequency_hz": x}
                if i is None:
                    row |= {"run_mode": "-", "run_hz": np.nan, "run_over_formula_percent": np.nan,
                            "paired_by": "not in the run", "run_mode_is": ""}  # fmt: skip
                else:
                    row |= {"run_mode": str(modes.numbers[i]), "run_hz": f[i], "paired_by": by,
                            "run_over_formula_percent": 100.0 * (f[i] / x - 1.0),
                            "run_mode_is": kinds[i].words}  # fmt: skip
                rows.append(row)
        return pd.DataFrame(rows)


@dataclass(frozen=True, repr=False)
class KnownFormulas(Result):
    """The hand formulas that there are."""

    title = "Hand formulas"
    rows = "formulas"

    @property
    def lines(self) -> list[str]:
        """How inputs are written."""
        return ["inputs are written name=value with a unit"]

    @table("formulas", "What each gives and needs")
    def _formulas(self) -> pd.DataFrame:
        """Name, what it gives, what it needs and may have, and an example."""
        import pandas as pd

        return pd.DataFrame([
            {"formula": name, "gives": f.words, "needs": ", ".join(f.needs), "may have": ", ".join(f.options),
             "example": f.example}
            for name, f in FORMULAS.items()
        ])  # fmt: skip


def formula(name: str = "", *, modes: int = 5, beside: Modes | None = None, **inputs: Any) -> ByFormula | KnownFormulas:
    """Natural frequencies by a hand formula: beam, tip mass, rod, shaft, ring, plate, mass on a spring, tuned damper.

    Parameters
    ----------
    name : str
        Without one: which formulas there are, and what each needs.
    modes : int
        How many frequencies, where there are several.
    beside : Modes, optional
        A run to set beside it: the mode of the same kind, and the difference in percent.
    inputs
        Quantities with units as text, or bare in SI.

    Raises
    ------
    UnknownNameError, UnitError, DescriptionError

    Examples
    --------
    >>> import holokine as hk
    >>> f = hk.formula("mass on a spring", mass="24 kg", stiffness="560 N/mm")
    >>> round(float(f.frequencies_hz[0]), 3)
    24.311
    """
    if not name:
        return KnownFormulas()
    return ByFormula(evaluate(name, modes=modes, **inputs), inputs, beside)


def _of_a_kind(result: FormulaResult, kinds: Sequence[ModeKind]) -> list[tuple[str, str, int]]:
    """Plane (about y, of a part ...), label of the formula and row of the run, for modes of the formula's kind."""
    found = []
    for row, kind in enumerate(kinds):
        of = f"of {kind.member}" if kind.member else ""
        if kind.family in ("bending", "torsion", "stretching") and kind.family == result.family:
            plane = f"about {kind.about} {of}".strip() if result.family == "bending" else of
            found.append((plane, f"{result.family} {kind.order[0]}", row))
        elif result.family == "plate bending" and kind.family == "plate bending":
            label = next((w for w in result.labels if getattr(w, "order", ()) == tuple(kind.order)), "")
            found.append((of, label, row))
        elif result.family == "ring" and kind.family.startswith("ring"):
            where = "in its plane" if kind.family == "ring in plane" else "out of its plane"
            found.append(("", f"{where}, {kind.order[0]} waves around (twice)", row))
        elif result.family == "on springs" and kind.family == "on springs" and not found:
            found.append(("", result.labels[0], row))
    first: dict[tuple[str, str], int] = {}
    for plane, label, row in found:
        first.setdefault((plane, label), row)
    return [(plane, label, row) for (plane, label), row in first.items()]
