"""Extraction of 30 and 100 modes: against SciPy's eigsh as it comes, against eigsh given our factorisation, and
against a floor of one factorisation and two block solves per mode.

    python benchmarks/extraction.py                          # all problems, 30 and 100 modes, without the slowest
    python benchmarks/extraction.py cube --modes 30 --plain  # one problem, eigsh as it comes too (minutes)
    python benchmarks/extraction.py sheet --modes 30 --fallback  # our way without pypardiso, beside plain eigsh

Each way runs in a process of its own, so that its peak memory is its own.
"""

from __future__ import annotations

import argparse
import json
import resource
import subprocess
import sys
import time

import numpy as np

import holokine as hk

STEEL = {"E": "205 GPa", "nu": 0.29, "density": "7840 kg/m^3"}


def brick_block(divisions: list[int], size: list[float]) -> hk.Assembly:
    a = hk.Assembly().material("steel", **STEEL)
    shape = {"corner": [0, 0, 0], "sides": np.diag(size).tolist(), "divisions": divisions}
    a.part("block", box=shape, material="steel")
    wall = {"part": "block", "plane": {"at": [0, 0, 0], "normal": "x"}}
    return a.support("wall", at=wall, hold=["x", "y", "z"])


def shell_box(n: int) -> hk.Assembly:
    """Six plates of n by n quads that share their edges, one edge line held."""
    a = hk.Assembly().material("steel", **STEEL)
    e = np.eye(3)
    number = 0
    for d in range(3):
        for level in (0.0, 1.0):
            number += 1
            sides = [e[(d + 1) % 3].tolist(), e[(d + 2) % 3].tolist()]
            shape = {"corner": (level * e[d]).tolist(), "sides": sides, "divisions": n, "thickness": 0.008}
            a.part(f"wall {number}", plate=shape, material="steel")
    foot = {"part": "wall 1", "plane": {"at": [0, 0, 0], "normal": "y"}}
    return a.support("foot", at=foot, hold="all")


def space_frame(bays: int, storeys: int, divisions: int) -> hk.Assembly:
    a = hk.Assembly().material("steel", **STEEL)
    a.section("post", tube={"width": 0.12, "height": 0.12, "wall": 0.006})
    width, height = 2.0, 2.5
    for k in range(storeys + 1):
        for i in range(bays + 1):
            for j in range(bays + 1):
                a.point(f"{i} {j} {k}", [width * i, width * j, height * k])
    for k in range(storeys + 1):
        for i in range(bays + 1):
            for j in range(bays + 1):
                runs = []
                if k < storeys:
                    runs.append(((i, j, k + 1), "x"))
                if k and i < bays:
                    runs.append(((i + 1, j, k), "z"))
                if k and j < bays:
                    runs.append(((i, j + 1, k), "z"))
                for end, up in runs:
                    through = [f"{i} {j} {k}", " ".join(map(str, end))]
                    run = {"through": through, "section": "post", "up": up, "divisions": divisions}
                    a.part(f"{through[0]} to {through[1]}", beam=run, material="steel")
                if k == 0:
                    a.support(f"foot {i} {j}", at=f"{i} {j} 0", hold="all")
    return a


PROBLEMS = {
    "small": lambda: brick_block([12, 9, 8], [1.0, 0.8, 0.7]),
    "cube": lambda: brick_block([40, 30, 30], [1.0, 0.8, 0.7]),
    "slender": lambda: brick_block([200, 20, 6], [2.0, 0.2, 0.06]),
    "sheet": lambda: shell_box(53),
    "frame": lambda: space_frame(8, 10, 6),
    "large": lambda: brick_block([60, 42, 38], [1.0, 0.8, 0.7]),
}


def peak() -> float:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024.0


def child(problem: str, modes: int, way: str) -> dict[str, float]:
    import scipy.sparse.linalg as spla
    from scipy.sparse import csc_matrix

    from holokine.solvers import factor
    from holokine.solvers.eigen import Wish, find_pairs
    from holokine.solvers.factor import Pencil

    system = PROBLEMS[problem]().system
    K, M = system.reduced_stiffness, system.reduced_mass
    del system
    before = peak()
    start = time.perf_counter()
    extra: dict[str, float] = {}
    values = np.zeros(0)
    if way == "ours":
        values = find_pairs(K, M, Wish(count=modes)).values
    elif way == "fallback":
        factor.fast_available = lambda: False
        values = find_pairs(K, M, Wish(count=modes)).values
    elif way == "floor":
        f = Pencil(K, M).at(0.0)
        for _ in range(0, 2 * modes, 16):
            f.solve(np.asfortranarray(np.random.default_rng(0).standard_normal((K.shape[0], 16))))
        extra = {"factor_mb": 8.0 * f.entries / 2**20}
    elif way == "eigsh with our factor":
        f = Pencil(K, M).at(0.0)
        inverse = spla.LinearOperator(K.shape, matvec=f.solve, dtype=float)
        values = spla.eigsh(K, modes, M, sigma=0.0, OPinv=inverse, return_eigenvectors=True)[0]
    elif way == "plain eigsh":
        values = spla.eigsh(csc_matrix(K), modes, csc_matrix(M), sigma=0.0)[0]
    took = time.perf_counter() - start
    f_hz = np.sqrt(np.sort(values)) / (2 * np.pi) if len(values) else np.zeros(1)
    return {"seconds": took, "size": K.shape[0], "peak_mb": peak(), "before_mb": before, "last_hz": float(f_hz[-1]),
            "vectors_mb": 8.0 * modes * K.shape[0] / 2**20, **extra}  # fmt: skip


def run(problem: str, modes: int, way: str) -> dict[str, float]:
    command = [sys.executable, __file__, "--child", problem, str(modes), way]
    result = subprocess.run(command, capture_output=True, text=True, check=True)
    return json.loads(result.stdout.strip().splitlines()[-1])


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("problems", nargs="*", default=["cube", "slender", "sheet", "frame"])
    parser.add_argument("--modes", type=int, nargs="+", default=[30, 100])
    parser.add_argument("--plain", action="store_true", help="eigsh as it comes too")
    parser.add_argument("--fallback", action="store_true", help="our way without pypardiso, and eigsh as it comes")
    parser.add_argument("--only-ours", action="store_true")
    given = parser.parse_args()
    for problem in given.problems:
        for modes in given.modes:
            ours = run(problem, modes, "ours")
            print(f"{problem}: {ours['size']:,} motions, {modes} modes up to {ours['last_hz']:.1f} Hz", flush=True)
            print(f"  {'ours, with proof':28s} {ours['seconds']:7.1f} s, peak {ours['peak_mb']:.0f} MB", flush=True)
            if given.only_ours:
                continue
            ways = ["floor", "eigsh with our factor"]
            ways += ["plain eigsh"] if given.plain or given.fallback else []
            ways += ["fallback"] if given.fallback else []
            for way in ways:
                other = run(problem, modes, way)
                ratio = other["seconds"] / ours["seconds"]
                print(f"  {way:28s} {other['seconds']:7.1f} s = {ratio:.2f} of ours", flush=True)
                if "factor_mb" in other:
                    least = other["factor_mb"] + ours["vectors_mb"]
                    print(f"  memory: peak is {ours['peak_mb'] / least:.2f} of factor and kept vectors "
                          f"({least:.0f} MB); {ours['before_mb']:.0f} MB were in use before", flush=True)  # fmt: skip


if __name__ == "__main__":
    if len(sys.argv) > 1 and sys.argv[1] == "--child":
        print(json.dumps(child(sys.argv[2], int(sys.argv[3]), sys.argv[4])))
    else:
        main()
