"""What `holokine verify` prints."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import holokine as hk
from holokine.cli.reports import _View
from holokine.verification import Verification, verify

__all__ = ["VerificationView"]


@dataclass
class VerificationView(_View):
    """`holokine verify`."""

    found: Verification = None  # type: ignore[assignment]

    @classmethod
    def of(cls, only: tuple[str, ...]) -> VerificationView:
        found = verify(only or None)
        table, figures = found.table(), found.figures()
        short = table[
            ["case", "source", "worst_figure", "expected", "computed", "deviation", "tolerance", "result"]
        ].copy()
        short["case"] = table["case"] + ": " + table["model"]
        for column in ("expected", "computed"):
            short[column] = [f"{v:.7g}" for v in table[column]]
        short["deviation"] = [f"{d:+.1e}" for d in table["deviation"]]
        short["tolerance"] = [f"{t:.1e}" for t in table["tolerance"]]
        return cls(
            hk.Assembly("verification"), "Verification on this machine", "", "",
            screens=[("Of each case the figure that deviates most, as a share of what is expected", short)],
            tables={"verification": table, "verification_figures": figures}, details=found.lines, found=found,
            facts={"versions": found.versions, "date": found.date, "passed": found.ok},
        )  # fmt: skip

    def footer(self) -> str:
        return f"holokine {hk.__version__}"

    def as_data(self) -> dict[str, Any]:
        data = super().as_data()
        return {k: v for k, v in data.items() if k not in ("assembly", "state", "stage", "key", "findings")}
