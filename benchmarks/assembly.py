"""Building and assembling element matrices: elements per second by kind, and a large model of 8-node bricks.

Prints, for each kind, elements per second and how the time compares with that of streaming the finished element
matrices once through memory; then, for a block of bricks, time and memory of K and M beside one factorisation of
a block small enough to factorise, scaled by the number of elements.

    python benchmarks/assembly.py            # 100,000 bricks
    python benchmarks/assembly.py 100        # 100 x 100 x 100: a million
"""

from __future__ import annotations

import resource
import sys
import time
from dataclasses import replace

import numpy as np

import holokine as hk
from holokine.solvers.factor import factorise
from holokine.system.assemble import Accumulator

STEEL = {"E": "205 GPa", "nu": 0.29, "density": "7840 kg/m^3"}


SMALL = "--small" in sys.argv


def at(n: int) -> int:
    """Cells along a side; few where only to see that it runs."""
    return max(4, n // 5) if SMALL else n


def block(n: int, cells: str = "bricks", quadratic: bool = False) -> hk.Assembly:
    a = hk.Assembly().material("steel", **STEEL)
    shape = {"corner": [0, 0, 0], "sides": np.eye(3).tolist(), "divisions": n, "cells": cells, "quadratic": quadratic}
    return a.part("block", box=shape, material="steel")


def sheet(n: int, cells: str, quadratic: bool = False) -> hk.Assembly:
    a = hk.Assembly().material("steel", **STEEL)
    shape = {"corner": [0, 0, 0], "sides": [[1, 0, 0], [0, 1, 0]], "divisions": n, "thickness": 0.01, "cells": cells}
    return a.part("sheet", plate={**shape, "quadratic": quadratic}, material="steel")


def vault(n: int, cells: str) -> hk.Assembly:
    """A cone, whose elements are equal around only: row by row another sort."""
    a = hk.Assembly().material("steel", **STEEL)
    shape = {"radius": 1, "end radius": 0.5, "length": 1, "divisions": n, "thickness": 0.01, "cells": cells}
    return a.part("sheet", cylinder={**shape, "quadratic": True}, material="steel")


def outlined(cells: str) -> tuple[float, int]:
    """Seconds and cells of a plate with a slanted edge, an arc and a hole, of some 100,000 cells."""
    shape = {"outline": [[0, 0], [1, 0], [1.2, 0.6], {"through": [0.6, 0.8], "to": [0, 0.6]}], "cells": cells,
             "holes": [{"at": [0.4, 0.3], "diameter": 0.2}], "thickness": 0.01,
             "size": 0.03 if SMALL else 0.0026}  # fmt: skip
    a = hk.Assembly().material("steel", **STEEL).part("sheet", plate=shape, material="steel")
    from holokine.mesh.build import build_mesh

    start = time.perf_counter()
    mesh = build_mesh(a.description)
    return time.perf_counter() - start, mesh.cell_count


def bandwidth() -> float:
    """Bytes per second of copying a large array."""
    x = np.ones(20_000_000)
    start = time.perf_counter()
    for _ in range(3):
        x.copy()
    return 3 * 2 * x.nbytes / (time.perf_counter() - start)


def assembled(a: hk.Assembly, unlike: bool = False) -> tuple[float, object, object]:
    """Seconds, and both matrices; `unlike`: with every node moved a little, so that no element equals another."""
    from holokine.mesh.build import build_mesh
    from holokine.system.build import _elements

    mesh = build_mesh(a.description)
    start = time.perf_counter()
    sets = _elements(a.description, mesh)
    if unlike:
        r = np.random.default_rng(0)
        sets = [
            replace(e, places=e.places + 1e-6 * np.ptp(e.places, axis=0).max() * r.standard_normal(e.places.shape))
            for e in sets
        ]
        start = time.perf_counter()
    total = Accumulator(6 * len(mesh.nodes), matrices=2)
    for e in sets:
        for nodes, index, k, m in e.blocks():
            total.add_elements(nodes, e.motions, index, k, m)
    matrices = total.result(0), total.result(1)
    return time.perf_counter() - start, *matrices


def peak_gb() -> float:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6


def main() -> None:
    speed = bandwidth()
    print(f"memory: {speed / 1e9:.1f} GB/s copied")
    kinds = [
        ("hex8", block(at(22)), 24), ("hex20", block(at(9), quadratic=True), 60),
        ("tet10", block(at(9), "tetrahedra", True), 30), ("tet4", block(at(14), "tetrahedra"), 12),
        ("wedge6", block(at(16), "wedges"), 18), ("quad4", sheet(at(90), "quads"), 24),
        ("tri3", sheet(at(70), "triangles"), 18), ("quad9", sheet(at(60), "quads", True), 54),
        ("tri6", sheet(at(50), "triangles", True), 36), ("wedge15", block(at(9), "wedges", True), 45),
    ]  # fmt: skip
    print("  elements per second (times streaming K and M once), summed: equal ones, and where none equals another")
    for name, a, m in kinds:
        count = a.system.mesh.cell_count
        stream = count * 2 * m * m * 8 / speed
        found = [min(assembled(a, unlike)[0] for _ in range(2)) for unlike in (False, True)]
        print(f"  {name:8s} " + "".join(f"{count / t:12,.0f} ({t / stream:4.1f})" for t in found), flush=True)
    for name, a, m in (("quad9", vault(at(60), "quads"), 54), ("tri6", vault(at(50), "triangles"), 36)):
        count, seconds = a.system.mesh.cell_count, min(assembled(a)[0] for _ in range(2))
        rate = f"{count / seconds:12,.0f} ({seconds * speed / (count * 2 * m * m * 8):4.1f})"
        print(f"  {name:8s} {'on a cone':>19s} {rate}", flush=True)
    for cells in ("quads", "triangles"):
        seconds, count = outlined(cells)
        print(f"  outline of {count:,} cells, {cells}: {seconds:.1f} s")
    n = at(46) if SMALL else int(sys.argv[1]) if len(sys.argv) > 1 else 46
    start = time.perf_counter()
    seconds, K, M = assembled(block(n))
    held = (K.nnz + M.nnz) * 12 / 1e9
    print(f"{n**3:,} bricks: assembled in {seconds:.1f} s ({time.perf_counter() - start:.1f} s with meshing), "
          f"K and M hold {held:.2f} GB, peak of the process {peak_gb():.2f} GB")  # fmt: skip
    small = block(at(28))
    small.support("root", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold=["x", "y", "z"])
    start = time.perf_counter()
    factorise(small.system.reduced_stiffness)
    one = time.perf_counter() - start
    # nested dissection: work grows with the square of the unknowns in three dimensions
    ratio = one / assembled(block(at(28)))[0]
    print(f"{at(28)**3:,} bricks: one factorisation {one:.1f} s = {ratio:.1f} times their assembly; "
          f"by the square of the size, {one * (n**3 / at(28) ** 3) ** 2:.0f} s for the large block")  # fmt: skip


if __name__ == "__main__":
    main()
