"""Extract modes of thousands of hard problems with known eigenvalues, and name every wrong answer.

python scripts/hard_problems.py [--each 50] [--seed 0] [--method ldl|superlu|both] [--family NAME]
"""

from __future__ import annotations

import sys
import time
from collections import Counter
from pathlib import Path
from unittest import mock

import click

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

import hard_problems as hp


@click.command()
@click.option("--each", default=20, help="Problems of each family.")
@click.option("--seed", default=0, help="First seed.")
@click.option("--method", type=click.Choice(["ldl", "superlu", "both"]), default="both")
@click.option("--family", "families", multiple=True, type=click.Choice(list(hp.FAMILIES)))
def main(each: int, seed: int, method: str, families: tuple[str, ...]) -> None:
    """Run, and end with exit code 1 when an answer is wrong."""
    wrong: Counter[str] = Counter()
    for way in ("ldl", "superlu") if method == "both" else (method,):
        with mock.patch("holokine.solvers.factor.fast_available", return_value=way == "ldl"):
            for family in families or hp.FAMILIES:
                begin = time.perf_counter()
                for number in range(seed, seed + each):
                    said = hp.verdict(hp.instance(family, number))
                    if said:
                        wrong[family] += 1
                        print(f"  {way} {family} {number}: {said}")
                took = time.perf_counter() - begin
                print(f"{way:8} {family:24} {each} problems, {wrong[family]} wrong so far, {took:.1f} s", flush=True)
    print(f"{sum(wrong.values())} wrong answers")
    sys.exit(bool(wrong))


if __name__ == "__main__":
    main()
