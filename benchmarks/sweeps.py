"""Sine sweeps: readings and whole-field envelopes against bare complex products and a solve per frequency.

python benchmarks/sweeps.py [--repeat 3]
"""

from __future__ import annotations

import argparse
import sys
import time
import tracemalloc
from types import SimpleNamespace
from typing import Any

import numpy as np

from holokine.excite.harmonic import Excitation, Swing
from holokine.gauges.channels import ChannelBlock, Channels
from holokine.modes.damped import CoupledVibration
from holokine.respond.reduced import ReducedModel
from holokine.respond.steady import SteadyModel
from holokine.respond.sweep import SweepReader
from holokine.respond.sweep_field import FieldSweep

MODES, POINTS, READINGS, MOTIONS = (40, 400, 40, 5_000) if "--small" in sys.argv else (200, 5000, 200, 100_000)


def best(run: Any, repeat: int) -> float:
    times = []
    for _ in range(repeat):
        start = time.perf_counter()
        run()
        times.append(time.perf_counter() - start)
    return min(times)


def model(coupled: bool) -> SweepReader:
    rng = np.random.default_rng(0)
    omega = np.sort(rng.uniform(50.0, 5000.0, MODES))
    block = ChannelBlock("g", tuple(f"c{i}" for i in range(READINGS)), "force", "elastic")
    channels = Channels((block,))
    none = np.zeros((3, READINGS))
    reduced = ReducedModel(
        omega, np.full(MODES, 0.02), rng.standard_normal((MODES, 3)), channels, (),
        rng.standard_normal((MODES, READINGS)), np.zeros((MODES, READINGS)), none, none, none, np.ones(3), np.ones(3),
        np.ones(3),
    )  # fmt: skip
    viscous = np.diag(0.04 * omega)
    if coupled:
        push = rng.standard_normal((MODES, 12))
        viscous = viscous + 0.05 * push @ push.T
    vibration = CoupledVibration(omega, viscous)
    steady = SteadyModel(reduced, vibration, reduced.damping, {}, None, None, MODES, None, np.zeros((MODES, 1)))
    swings = tuple(Swing(np.ones(1), np.ones(1), np.zeros(1)) for _ in range(3))
    return SweepReader(steady, Excitation(("x", "y", "z"), swings))


def readings(coupled: bool, repeat: int) -> None:
    reader = model(coupled)
    f = np.linspace(8.0, 800.0, POINTS)
    weights = reader.reduced.modal.astype(complex)
    state = np.ones((POINTS, MODES), dtype=complex)
    eigenvectors = np.ones((2 * MODES, MODES), dtype=complex)
    wide = np.ones((POINTS, 2 * MODES), dtype=complex)

    def ours() -> None:
        reader.model.vibration.__dict__.pop("_state", None)  # the diagonalisation counts
        reader.rows(reader.motion(f), slice(None))

    def products() -> None:
        q = wide @ eigenvectors if coupled else state
        q @ weights

    few = f[:: POINTS // 100]

    def each() -> None:
        v, load = reader.model.vibration, reader.excitation.at(few, reader.reduced.loads)
        force = -load @ reader.reduced.participation.T
        for row, w in enumerate(2 * np.pi * few):
            q = np.linalg.solve(np.diag(v.omega**2 - w**2) + 1j * w * v.viscous, force[row])
            q @ reader.reduced.modal

    mine, bare, solves = best(ours, repeat), best(products, repeat), best(each, 1) * POINTS / len(few)
    word = "coupled" if coupled else "uncoupled"
    size = f"{MODES} modes x {POINTS:,} frequencies x {READINGS} readings"
    print(f"{size}, {word}: {mine:.3f} s, {mine / bare:.2f} times bare complex products; a solve per frequency takes "
          f"{solves / mine:.0f} times as long")  # fmt: skip


def envelope(repeat: int) -> None:
    reader = model(False)
    f = np.linspace(8.0, 800.0, POINTS)
    rng = np.random.default_rng(1)
    shapes = rng.standard_normal((MODES, MOTIONS))
    field: Any = FieldSweep.__new__(FieldSweep)
    motion = reader.motion(f)
    field.answer = SimpleNamespace(frequency_hz=f, motion=motion, reader=reader)
    field.shapes, field.loads = shapes, []
    field.fields = lambda what="displacement": shapes
    field.coordinates = lambda what="displacement", frequencies=None: motion.q
    real = np.ascontiguousarray(motion.q.real[:1024].T)

    def products() -> None:  # the same multiplications, nothing else
        for _ in range(0, 2 * POINTS, 1024):
            for b in range(0, MOTIONS, 4000):
                shapes[:, b : b + 4000].T @ real

    mine, bare = best(field.envelope, repeat), best(products, repeat)
    tracemalloc.start()
    field.envelope()
    _, peak = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    rate, beside = 100 * bare / mine, peak / 1e6
    print(f"envelope of {MOTIONS:,} motions over {POINTS:,} frequencies: {mine:.2f} s, {rate:.0f} % of the rate of its "
          f"products, {beside:.0f} MB beside the shapes ({shapes.nbytes / 1e6:.0f} MB)")  # fmt: skip


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--repeat", type=int, default=3)
    parser.add_argument("--small", action="store_true", help="to see that it runs")
    repeat = parser.parse_args().repeat
    readings(False, repeat)
    readings(True, repeat)
    envelope(repeat)
