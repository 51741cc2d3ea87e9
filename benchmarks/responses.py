"""Whole-field combination against bare matrix products, and shock spectra of a long record against a loop of filters.

python benchmarks/responses.py
"""

from __future__ import annotations

import sys
import time

import numpy as np
from scipy.signal import lfilter

from holokine.respond.rules import Combination, over_directions
from holokine.respond.shock import shock_spectrum


def fields(dofs: int = 100_000, modes: int = 200) -> None:
    """CQC of displacement and of equivalent stress (6 components), three directions."""
    rng = np.random.default_rng(0)
    omega = np.sort(rng.uniform(50.0, 5000.0, modes))
    combination = Combination.make("cqc", omega, np.full(modes, 0.02))
    shapes = rng.standard_normal((modes, dofs))
    coordinate = rng.standard_normal((modes, 3))
    block = 20_000

    def ours() -> float:
        start = time.perf_counter()
        for a in range(0, dofs, block):
            values = coordinate[:, :, None] * shapes[:, None, a : a + block]
            over_directions(combination.combined(values, np.zeros(values.shape[1:])), "srss")
        return time.perf_counter() - start

    def products() -> float:
        start = time.perf_counter()
        for a in range(0, dofs, block):
            for d in range(3):
                combination.matrix @ (coordinate[:, d, None] * shapes[:, a : a + block])
        return time.perf_counter() - start

    def plain() -> float:
        start = time.perf_counter()
        for d in range(3):
            values = coordinate[:, d, None] * shapes
            np.sqrt(np.maximum((values * (combination.matrix @ values)).sum(axis=0), 0.0))
        return time.perf_counter() - start

    bare = products()
    print(f"displacement, {dofs:,} motions, {modes} modes, 3 directions, CQC in blocks: {ours() / bare:.2f} of bare "
          f"products ({bare:.2f} s); written plainly, all at once: {plain() / bare:.2f}")  # fmt: skip
    places = dofs // 6
    A = np.eye(6)
    start = time.perf_counter()
    step = 2_000
    for a in range(0, places, step):
        part = shapes[:, None, 6 * a : 6 * min(a + step, places)]
        values = (coordinate[:, :, None] * part).reshape(modes, 3, -1, 6)
        combination.form(values, np.zeros(values.shape[1:]), A)
    print(f"equivalent stress of {places:,} places by the quadratic form: {(time.perf_counter() - start) / bare:.2f}")


def record(samples: int = 1_000_000, frequencies: int = 200) -> None:
    rng = np.random.default_rng(1)
    t = np.arange(samples) * 1e-5
    a = rng.standard_normal(samples)
    f = np.geomspace(5.0, 2000.0, frequencies)
    start = time.perf_counter()
    shock_spectrum(t, a, f, [0.05])
    ours = time.perf_counter() - start
    start = time.perf_counter()
    for x in f:  # the usual filter of second order, largest sample only
        w, z, h = 2 * np.pi * x, 0.05, 1e-5
        E, K = np.exp(-z * w * h), h * w * np.sqrt(1 - z**2)
        s = E * np.sin(K) / K
        np.abs(lfilter([1 - s, 2 * (s - E * np.cos(K)), E**2 - s], [1, -2 * E * np.cos(K), E**2], a)).max()
    loop = time.perf_counter() - start
    print(f"shock spectrum of {samples:,} samples at {frequencies} frequencies: {ours:.1f} s; a loop of filters takes "
          f"{loop / ours:.2f} of that (largest samples only, no extremes between them, no residual)")  # fmt: skip


if __name__ == "__main__":
    small = "--small" in sys.argv
    fields(*((6_000, 20) if small else ()))
    record(*((20_000, 20) if small else ()))
