"""Write docs/verification.md by running the verification cases, as `holokine verify` does."""

from __future__ import annotations

import sys
from pathlib import Path

from holokine.verification import verify

PAGE = Path(__file__).parents[1] / "docs" / "verification.md"
HEAD = """\
# Verification

Made by `python scripts/verification.py`, which runs every case as `holokine verify` does on your machine. Of each case
the figure that deviates most is shown; deviations and tolerances are shares of the expected figure.

| case | exact figures from | model | figures | expected | computed | deviation | tolerance |
|---|---|---|---|---|---|---|---|
"""


def main() -> int:
    found = verify()
    rows = []
    for o in found.outcomes:
        n = o.worst
        what = o.case.figures if len(o.expected) == 1 else f"{o.case.figures}, {n + 1} of {len(o.expected)}"
        figures = f"{o.expected[n]:.6g} | {o.computed[n]:.6g} | {o.deviations[n]:.0e} | {o.case.tolerance:.1e}"
        rows.append(f"| {o.case.name} | {o.case.source} | {o.case.model} | {what} | {figures} |\n")
    PAGE.write_text(HEAD + "".join(rows), encoding="utf-8")
    print(found.lines[0])
    return 0 if found.ok else 1


if __name__ == "__main__":
    sys.exit(main())
