"""Running the verification cases and telling what came of them."""

from __future__ import annotations

import platform
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from importlib import import_module
from importlib.metadata import PackageNotFoundError, version
from pathlib import Path
from time import monotonic
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.api.announce import unannounced
from holokine.api.result import Entry, Result, table, writes
from holokine.errors import HolokineError, UnknownNameError
from holokine.progress import tell
from holokine.verification.cases import CASES, Case

if TYPE_CHECKING:
    import pandas as pd

    from holokine.arrays import Floats

__all__ = ["Outcome", "Verification", "known_cases", "verify"]

ROOMS = ("beams", "shells", "solids", "responses", "states")
PACKAGES = ("numpy", "scipy", "pandas", "pypardiso", "mkl")


@dataclass(frozen=True)
class Outcome:
    """What came of a case.

    Attributes
    ----------
    case : Case
    expected, computed : ndarray, shape (figures,)
    seconds : float
    failed : str
        The error that ended it, if one did.
    """

    case: Case
    expected: Floats
    computed: Floats
    seconds: float
    failed: str = ""

    @property
    def deviations(self) -> Floats:
        """Computed over expected, less one, shape (figures,)."""
        return self.computed / self.expected - 1.0

    @property
    def worst(self) -> int:
        """Number of the figure that deviates most."""
        return int(np.argmax(np.abs(np.nan_to_num(self.deviations, nan=np.inf))))

    @property
    def ok(self) -> bool:
        """Whether every figure lies within the tolerance."""
        return not self.failed and bool(np.all(np.abs(self.deviations) <= self.case.tolerance))


class Verification(Result):
    """What came of all cases.

    Attributes
    ----------
    outcomes : list of Outcome
    date : str
    """

    title = "Verification on this machine"
    unmet = "a verification case is out of its tolerance"
    rows = "cases"
    lines_first = 0

    def __init__(self, outcomes: list[Outcome], cases_there_are: int) -> None:
        self.outcomes, self.known = outcomes, cases_there_are
        self.date = datetime.now(UTC).isoformat(timespec="seconds")

    @property
    def ok(self) -> bool:
        """Whether every case passed."""
        return all(o.ok for o in self.outcomes)

    @property
    def facts(self) -> dict[str, Any]:
        """Versions, date, and whether every case passed."""
        return {"versions": self.versions, "date": self.date, "passed": self.ok}

    @table("verification", "Of each case the figure that deviates most, as a share of what is expected",
           hide=("model", "figures"))  # fmt: skip
    def _cases(self) -> pd.DataFrame:
        """A row per case: the figure that deviates most, what was expected of it and what was computed.

        `deviation` and `tolerance` are shares of the expected figure.
        """
        import pandas as pd

        rows = []
        for o in self.outcomes:
            n = o.worst if len(o.expected) else None
            rows.append({
                "case": o.case.name, "model": o.case.model, "source": o.case.source, "figures": len(o.expected),
                "worst_figure": "" if n is None else f"{o.case.figures}, {n + 1}" if len(o.expected) > 1
                else o.case.figures,
                "expected": np.nan if n is None else float(o.expected[n]),
                "computed": np.nan if n is None else float(o.computed[n]),
                "deviation": np.nan if n is None else float(o.deviations[n]),
                "tolerance": o.case.tolerance, "result": "passed" if o.ok else o.failed or "FAILED",
            })  # fmt: skip
        return pd.DataFrame(rows)

    def _screen(self, entry: Entry, whole: pd.DataFrame) -> tuple[str, pd.DataFrame]:
        title, short = super()._screen(entry, whole)
        forms = {"expected": "{:.7g}", "computed": "{:.7g}", "deviation": "{:+.1e}", "tolerance": "{:.1e}"}
        told = {column: [form.format(v) for v in whole[column]] for column, form in forms.items()}
        return title, short.assign(case=whole["case"] + ": " + whole["model"], **told)

    @table("figures")
    def _figures(self) -> pd.DataFrame:
        """A row per figure of every case."""
        import pandas as pd

        return pd.DataFrame([
            {"case": o.case.name, "model": o.case.model, "figures": o.case.figures, "number": n + 1,
             "expected": float(e), "computed": float(c), "deviation": float(d), "tolerance": o.case.tolerance}
            for o in self.outcomes
            for n, (e, c, d) in enumerate(zip(o.expected, o.computed, o.deviations, strict=True))
        ])  # fmt: skip

    @property
    def versions(self) -> dict[str, str]:
        """Of this package, of what it computes with, of Python and of the machine."""
        import holokine

        found = {"holokine": holokine.__version__, "python": platform.python_version()}
        for name in PACKAGES:
            try:
                found[name] = version(name)
            except PackageNotFoundError:
                continue
        return {**found, "machine": f"{platform.system()} {platform.release()}, {platform.machine()}"}

    @property
    def lines(self) -> list[str]:
        """How many passed, which were left out, on what machine and when."""
        passed = sum(o.ok for o in self.outcomes)
        some = "" if len(self.outcomes) == self.known else f" (of {self.known} that there are)"
        figures = sum(len(o.expected) for o in self.outcomes)
        factor = "the fast factorisation" if _fast() else "SciPy's factorisation"
        return [
            f"{passed} of {len(self.outcomes)} cases passed{some}; {figures} figures, with {factor}",
            ", ".join(f"{name} {number}" for name, number in self.versions.items() if name != "holokine"),
            f"run on {self.date}, {sum(o.seconds for o in self.outcomes):.0f} s",
        ]

    @writes(".html")
    def _page(self, path: Path) -> None:
        """The table, every figure and the versions, for the files."""
        from holokine.show.report import Section, write_report

        sections = [
            Section("Cases", self.lines).with_table("The figure of each case that deviates most", self.table()),
            Section("Every figure").with_table("", self.table("figures"), most=None),
        ]
        write_report(path, "Verification of Holokine on this machine", sections, self.footer)


def known_cases() -> list[Case]:
    """All cases there are."""
    for room in ROOMS:
        import_module(f"holokine.verification.{room}")
    return list(CASES)


def verify(only: str | Sequence[str] | None = None) -> Verification:
    """Run the verification cases on this machine.

    Parameters
    ----------
    only : str or list of str, optional
        Words that the name, model or source of a case must hold, one of them at least; all cases when left out.

    Raises
    ------
    UnknownNameError
        When no case holds any of the words.
    """
    cases = known_cases()
    wanted = [only] if isinstance(only, str) else list(only or [])
    chosen = [
        c for c in cases if not wanted or any(w.lower() in f"{c.name} {c.model} {c.source}".lower() for w in wanted)
    ]
    if not chosen:
        raise UnknownNameError(f'no verification case speaks of "{", ".join(wanted)}"; they are: '
                               + "; ".join(dict.fromkeys(c.name for c in cases)))  # fmt: skip
    outcomes = []
    with unannounced():
        for n, case in enumerate(chosen):
            tell(f"verification: {case.name}", n, len(chosen), "cases")
            outcomes.append(_outcome(case))
    return Verification(outcomes, len(cases))


def _outcome(case: Case) -> Outcome:
    begin, failed = monotonic(), ""
    computed, expected = np.empty(0), np.empty(0)
    try:
        computed, expected = (np.asarray(x, dtype=np.float64) for x in case.run())
    except HolokineError as err:
        failed = f"FAILED: {err}"
    if computed.shape != expected.shape:
        failed = f"FAILED: {len(computed)} figures in place of {len(expected)}"
        computed, expected = np.empty(0), np.empty(0)
    return Outcome(case, expected, computed, monotonic() - begin, failed)


def _fast() -> bool:
    from holokine.solvers.pool import fast_installed

    return fast_installed()
