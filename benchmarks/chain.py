"""The whole chain from file to answers on the three big models, stage by stage.

    python benchmarks/chain.py model.yaml [more.yaml ...] [--modes 30] [--runs 3]

Per stage: CPU seconds, numeric factorisations and solved columns (counted at the solver's door), and the peak memory of
the process so far. The floor is measured in the same run, in a process of its own: matrices read and assembled, two
factorisations (one to iterate from, one as the proof), two columns per mode solved in blocks. The assemblies are made
by any script that writes files; those of the table in README.md are a block with a lid, a sheet cabinet and a tower.
With several runs, chain and floor by turns, the least time of every stage counts: on a machine with other work the same
stage takes up to twice as long from one minute to the next.
"""

from __future__ import annotations

import argparse
import json
import resource
import subprocess
import sys
import time
from collections.abc import Callable
from typing import Any

import numpy as np


class Counter:
    """Counts factorisations and solved columns of both sparse solvers."""

    def __init__(self) -> None:
        from holokine.solvers import factor

        self.factorisations = self.columns = 0
        plain = factor._PardisoFactor._call

        def counted(this: Any, phase: int, right: Any, *rest: Any, **keys: Any) -> Any:
            if phase == 22:
                self.factorisations += 1
            elif phase == 33:
                self.columns += len(right)
            return plain(this, phase, right, *rest, **keys)

        factor._PardisoFactor._call = counted
        made, solved = factor._SuperLUFactor.__init__, factor._SuperLUFactor.solve

        def made_and_counted(this: Any, matrix: Any) -> None:
            self.factorisations += 1
            made(this, matrix)

        def solved_and_counted(this: Any, right: Any) -> Any:
            self.columns += 1 if right.ndim == 1 else right.shape[1]
            return solved(this, right)

        factor._SuperLUFactor.__init__, factor._SuperLUFactor.solve = made_and_counted, solved_and_counted


def peak_mb() -> float:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024.0


def chain(path: str, modes: int) -> dict[str, Any]:
    import holokine as hk

    counter = Counter()
    stages: list[dict[str, float | str]] = []

    def stage(name: str, do: Callable[[], Any]) -> Any:
        begin, wall = time.process_time(), time.perf_counter()
        before = counter.factorisations, counter.columns
        result = do()
        stages.append({
            "stage": name, "cpu": time.process_time() - begin, "wall": time.perf_counter() - wall,
            "factorisations": counter.factorisations - before[0], "columns": counter.columns - before[1],
            "peak_mb": peak_mb(),
        })  # fmt: skip
        return result

    a = stage("read", lambda: read(hk, path))
    system = stage("system", lambda: a.system)
    stage("check", lambda: a.check())
    found = stage("modes", lambda: a.modes(count=modes))
    stage("energies", lambda: found.energies)
    stage("words", lambda: found.words)
    stage("reduced model", lambda: found.reduced)
    kinds = {"static": "static", "time": "pulse", "spectrum": "spectrum"}
    firsts = {event.kind: name for name, event in reversed(a.description.events.items())}
    for kind, word in kinds.items():  # the first event of each
        if kind in firsts:
            stage(word, lambda name=firsts[kind]: answered(found, name))
    return {"motions": system.free_size, "stages": stages}


def answered(found: Any, name: str) -> Any:
    """Peaks of all gauges (stress of whole parts among them), limits, and the largest stress of every part."""
    answer = found.respond(name)
    for table in answer.tables.values():
        assert table is not None
    answer.table("stress")
    return answer


def read(hk: Any, path: str) -> Any:
    a = hk.Assembly.read(path)
    a.description  # noqa: B018 - reads and validates
    return a


def floor(path: str, modes: int) -> dict[str, Any]:
    import holokine as hk
    from holokine.solvers.factor import Pencil

    begin = time.process_time()
    a = read(hk, path)
    system = a.system
    K, M = system.reduced_stiffness, system.reduced_mass
    built = time.process_time() - begin
    begin = time.process_time()
    pencil = Pencil(K, M)
    factor = pencil.at(0.0)
    first = time.process_time() - begin
    begin = time.process_time()
    for _ in range(0, 2 * modes, 16):
        factor.solve(np.random.default_rng(0).standard_normal((16, K.shape[0])).T)
    solved = time.process_time() - begin
    begin = time.process_time()
    del factor
    pencil.at(1.0)
    second = time.process_time() - begin
    return {"cpu": built + first + solved + second, "built": built, "factorisations": first + second, "solved": solved}


def child(way: str, path: str, modes: int) -> dict[str, Any]:
    command = [sys.executable, __file__, "--child", way, path, str(modes)]
    result = subprocess.run(command, stdout=subprocess.PIPE, text=True, check=True)
    return json.loads(result.stdout.strip().splitlines()[-1])


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("models", nargs="+")
    parser.add_argument("--modes", type=int, default=30)
    parser.add_argument("--runs", type=int, default=1, help="of which the least counts")
    parser.add_argument("--no-floor", action="store_true", help="the chain only")
    given = parser.parse_args()
    for path in given.models:
        wholes, floors = [], []
        for _ in range(given.runs):
            wholes.append(child("chain", path, given.modes))
            if not given.no_floor:
                floors.append(child("floor", path, given.modes))
        whole = wholes[0]
        for stages in zip(*(w["stages"] for w in wholes), strict=True):
            stages[0].update({key: min(s[key] for s in stages) for key in ("cpu", "wall", "peak_mb")})
        print(f"{path}: {whole['motions']:,} independent motions, {given.modes} modes")
        print(f"  {'stage':14s} {'CPU s':>8s} {'s':>8s} {'factorised':>10s} {'columns':>8s} {'peak MB':>8s}")
        for s in whole["stages"]:
            print(f"  {s['stage']:14s} {s['cpu']:8.2f} {s['wall']:8.2f} {s['factorisations']:10d} {s['columns']:8d} "
                  f"{s['peak_mb']:8.0f}")  # fmt: skip
        total = sum(s["cpu"] for s in whole["stages"])
        times = sum(s["factorisations"] for s in whole["stages"])
        print(f"  {'in all':14s} {total:8.2f} {sum(s['wall'] for s in whole['stages']):8.2f} {times:10d}", flush=True)
        if floors:
            least = {key: min(f[key] for f in floors) for key in ("built", "factorisations", "solved")}
            least["cpu"] = sum(least.values())
            print(f"  floor {least['cpu']:.2f} CPU s (file and matrices {least['built']:.2f}, two factorisations "
                  f"{least['factorisations']:.2f}, columns {least['solved']:.2f}): the chain takes "
                  f"{total / least['cpu']:.2f} times that", flush=True)  # fmt: skip


if __name__ == "__main__":
    if len(sys.argv) > 1 and sys.argv[1] == "--child":
        ways = {"chain": chain, "floor": floor}
        print(json.dumps(ways[sys.argv[2]](sys.argv[3], int(sys.argv[4]))))
    else:
        main()
