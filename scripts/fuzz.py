"""Thousands of wrong inputs (tests/fuzzing.py), told by the way in which they end.

python scripts/fuzz.py 10000
python scripts/fuzz.py 500 --first 20000
python scripts/fuzz.py 300 --commands      # through the real command line, a process each
python scripts/fuzz.py --case 4711
"""

from __future__ import annotations

import argparse
import sys
import tempfile
from collections import Counter
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

import fuzzing

SOURCE: fuzzing.Source | None = None


def _begin(folder: str) -> None:
    global SOURCE
    import os

    SOURCE = fuzzing.Source(Path(folder) / f"good-{os.getpid()}")


def _try(number: int, folder: str) -> tuple[int, str, fuzzing.Outcome, float]:
    assert SOURCE is not None
    return (number, *fuzzing.tried(SOURCE, number, Path(folder) / f"case-{number}"))


def _command(number: int, folder: str) -> tuple[int, str, fuzzing.Outcome, float]:
    assert SOURCE is not None
    return (number, *fuzzing.tried_command(SOURCE, number, Path(folder) / f"case-{number}"))


def main() -> int:
    """Try them and tell; the exit code is 1 where one fell short."""
    ask = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    ask.add_argument("count", type=int, nargs="?", default=1000)
    ask.add_argument("--first", type=int, default=0)
    ask.add_argument("--case", type=int)
    ask.add_argument("--commands", action="store_true")
    ask.add_argument("--jobs", type=int, default=2)
    asked = ask.parse_args()
    with tempfile.TemporaryDirectory() as folder:
        if asked.case is not None:
            _begin(folder)
            tried = fuzzing.tried_command if asked.commands else fuzzing.tried
            words, outcome, seconds = tried(SOURCE, asked.case, Path(folder) / "case")
            print(f"{words}\n{outcome.kind}: {outcome.words}\n{seconds:.1f} s")
            return int(outcome.fault)
        numbers = range(asked.first, asked.first + asked.count)
        ways: Counter[str] = Counter()
        kinds: Counter[str] = Counter()
        first: dict[str, tuple[int, str, str]] = {}
        slowest: list[tuple[float, int, str]] = []
        with ProcessPoolExecutor(asked.jobs, initializer=_begin, initargs=(folder,)) as pool:
            for number, words, outcome, seconds in pool.map(
                _command if asked.commands else _try, numbers, [folder] * len(numbers), chunksize=4
            ):
                kinds[outcome.kind] += 1
                slowest = sorted([*slowest, (seconds, number, words)], reverse=True)[:5]
                if outcome.fault:
                    if outcome.way not in ways:
                        print(f"case {number} ({words[:110]}): {outcome.kind}: {outcome.words[:300]}", flush=True)
                    ways[outcome.way] += 1
                    first.setdefault(outcome.way, (number, words, outcome.words))
        for way, many in ways.most_common():
            number, words, told = first[way]
            print(f"{many:4d} x {way.split(':')[0]}, first case {number} ({words[:110]})\n       {told[:300]}")
        faults = sum(ways.values())
        print(f"\n{faults} of {len(numbers)} fell short, in {len(ways)} ways; " +
              ", ".join(f"{many} {kind}" for kind, many in kinds.most_common()))  # fmt: skip
        print("slowest: " + "; ".join(f"{s:.1f} s case {n} ({w[:60]})" for s, n, w in slowest))
    return int(bool(faults))


if __name__ == "__main__":
    sys.exit(main())
