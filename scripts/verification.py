"""Run the verification cases and write docs/verification.md (`--check`: fail when a case is out of its bound).

Each case states where its exact figure comes from. The table is made by running the cases, never by hand.
"""

from __future__ import annotations

import sys
from dataclasses import dataclass
from pathlib import Path

import numpy as np

sys.path.insert(0, str(Path(__file__).parent))
from verification_cases import CASES

PAGE = Path(__file__).parents[1] / "docs" / "verification.md"
HEAD = """\
# Verification

Made by `python scripts/verification.py`, which runs every case below. Errors are relative; "worst" is over all listed
figures of the case.

| case | exact figures from | model | figures | worst error | bound |
|---|---|---|---|---|---|
"""


@dataclass
class Row:
    name: str
    source: str
    model: str
    count: int
    worst: float
    bound: float


def main() -> int:
    rows, failed = [], []
    for case in CASES:
        found, exact = case.run()
        error = float(np.max(np.abs(np.asarray(found) / np.asarray(exact) - 1.0)))
        rows.append(Row(case.name, case.source, case.model, len(exact), error, case.bound))
        if not error <= case.bound:
            failed.append(f"{case.name}: {error:.2e} is above {case.bound:.0e}")
    table = "".join(
        f"| {r.name} | {r.source} | {r.model} | {r.count} | {r.worst:.1e} | {r.bound:.0e} |\n" for r in rows
    )
    if "--check" not in sys.argv:
        PAGE.write_text(HEAD + table, encoding="utf-8")
    print(HEAD + table if "--check" not in sys.argv else f"{len(rows)} verification cases run")
    for line in failed:
        print(f"out of bound: {line}")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
