"""A space frame of about 10,000 beam elements: 40 modes, then a pulse answer of 10,000 steps and 50 gauges.

Prints where the time goes as shares of one run, and ratios against two plain routes measured beside it:
SciPy's `eigsh` as it comes for the modes, and `scipy.signal.lsim` per mode for the pulse.

    python benchmarks/frame.py [--small]
"""

from __future__ import annotations

import sys
import time

import numpy as np
from scipy.signal import lsim
from scipy.sparse import csc_array
from scipy.sparse.linalg import eigsh

import holokine as hk

SMALL = "--small" in sys.argv
BAYS, FLOORS, DIVISIONS = (3, 3, 2) if SMALL else (9, 12, 4)
MODES, STEPS = (10, 1_000) if SMALL else (40, 10_000)


def tower() -> hk.Assembly:
    """A tower of bays x bays x floors, every member four elements."""
    a = hk.Assembly("tower").material("steel", E="205 GPa", nu=0.29, density="7840 kg/m^3")
    a.section("tube", tube={"width": "60 mm", "height": "60 mm", "wall": "4 mm"})
    data = a._data  # one dictionary at a time: twelve thousand calls would each be checked by themselves
    points, parts = {}, {}
    for i in range(BAYS):
        for j in range(BAYS):
            for k in range(FLOORS):
                points[f"{i} {j} {k}"] = [1.0 * i, 1.1 * j, 0.9 * k]
                for d, (p, q, r) in enumerate(((i + 1, j, k), (i, j + 1, k), (i, j, k + 1))):
                    if p < BAYS and q < BAYS and r < FLOORS and (d == 2 or k > 0):
                        up = "x" if d == 2 else "z"
                        beam = {"through": [f"{i} {j} {k}", f"{p} {q} {r}"], "section": "tube", "up": up,
                                "divisions": DIVISIONS}  # fmt: skip
                        parts[f"m {i} {j} {k} {d}"] = {"beam": beam, "material": "steel"}
    data["points"], data["parts"] = points, parts
    a.support("feet", at=[f"{i} {j} 0" for i in range(BAYS) for j in range(BAYS)], hold="all")
    for n in range(min(25, BAYS * BAYS)):
        at = f"{n % BAYS} {n // BAYS} {FLOORS - 1}"
        a.gauge(f"a{n}", acceleration=at, axis="x").gauge(f"d{n}", displacement=at, axis="x")
    return a


def timed(label: str, call, into: dict[str, float]):
    start = time.perf_counter()
    result = call()
    into[label] = time.perf_counter() - start
    return result


def main() -> None:
    spent: dict[str, float] = {}
    a = timed("describe", tower, spent)
    timed("validate", lambda: a.document, spent)
    system = timed("mesh, elements, assembly", lambda: a.system, spent)
    modes = timed("checks and modes", lambda: a.modes(count=MODES), spent)
    timed("reduced model", lambda: modes.reduced, spent)
    period = 1.0 / modes.frequencies_hz[-1]
    event = {"pulse": {"x": {"half sine": {"peak": "3 g", "duration": "30 ms"}}}, "step": period / 16,
             "ring down": 0.8 * STEPS * period / 16}  # fmt: skip
    answer = timed("pulse", lambda: modes.respond(event), spent)
    total = sum(spent.values())
    elements = sum(len(e.nodes) for e in system.elements)
    print(f"{elements:,} beam elements, {system.free_size:,} motions, {len(answer.result.time) - 1:,} steps")
    for label, seconds in spent.items():
        print(f"  {label:34s} {seconds:7.2f} s  {100 * seconds / total:5.1f} %")
    K, M = csc_array(system.reduced_stiffness), csc_array(system.reduced_mass)
    plain: dict[str, float] = {}
    timed("eigsh", lambda: eigsh(K, MODES, M, sigma=0.0), plain)
    print(f"modes: {plain['eigsh'] / spent['checks and modes']:.1f} times as fast as plain eigsh")
    reduced, t = modes.reduced, answer.result.time
    uniform = np.linspace(t[0], t[-1], STEPS + 1)
    base = np.interp(uniform, t, answer.result.base[:, 0])

    def per_mode() -> np.ndarray:
        total = np.zeros((len(uniform), reduced.modal.shape[1]))
        for w, z, g, v in zip(reduced.omega, reduced.damping, reduced.participation[:, 0], reduced.modal, strict=True):
            _, q, _ = lsim(([-g], [1.0, 2 * z * w, w**2]), base, uniform - uniform[0])
            total += np.outer(q, v)
        return total

    timed("lsim", per_mode, plain)
    print(f"pulse: {plain['lsim'] / spent['pulse']:.1f} times as fast as lsim per mode")


if __name__ == "__main__":
    main()
