"""Responses in time: 200 modes, 100,000 steps, 100 gauges, and envelopes of a whole field.

python benchmarks/histories.py

Beside the library: scipy.signal.lsim mode by mode, scipy.integrate.solve_ivp at like accuracy (both on a part of the
work, scaled up by what is left out), and the bare matrix product for envelopes.
"""

from __future__ import annotations

import resource
import sys
import time
from types import SimpleNamespace

import numpy as np
from scipy.integrate import solve_ivp
from scipy.signal import lsim

from holokine.excite.pulse import BasePulse
from holokine.gauges.channels import ChannelBlock, Channels
from holokine.gauges.readings import Reading
from holokine.respond.motion import FieldMotion
from holokine.respond.oscillators import Oscillators
from holokine.respond.reduced import ReducedModel
from holokine.respond.transient import respond_pulse


def model(modes: int, gauges: int) -> ReducedModel:
    """Made-up modes from 10 to 400 Hz and elastic gauges."""
    rng = np.random.default_rng(0)
    omega = 2.0 * np.pi * np.sort(rng.uniform(10.0, 400.0, modes))
    channels = Channels(tuple(ChannelBlock(f"g{i}", ("",), "force", "elastic") for i in range(gauges)))
    readings = tuple(Reading(f"g{i}", "", "force", "single", range(i, i + 1)) for i in range(gauges))
    none = np.zeros((3, gauges))
    return ReducedModel(
        omega, np.full(modes, 0.02), rng.standard_normal((modes, 3)), channels, readings,
        rng.standard_normal((modes, gauges)) * omega[:, None] ** 2, np.zeros((modes, gauges)), none, none, none,
        np.ones(3), np.ones(3), np.ones(3),
    )  # fmt: skip


def transient(modes: int = 200, steps: int = 100_000, gauges: int = 100) -> None:
    reduced = model(modes, gauges)
    t = np.arange(steps) * 1e-4
    a = np.zeros((steps, 3))
    a[:, 2] = np.random.default_rng(1).standard_normal(steps)
    pulse = BasePulse(t, a)
    start = time.perf_counter()
    answer = respond_pulse(reduced, pulse, ring_down=0.01, step=1e-4)
    ours = time.perf_counter() - start

    few = range(0, modes, modes // 4)
    start = time.perf_counter()
    for i in few:
        w, z = reduced.omega[i], reduced.damping[i]
        lsim(([[0, 1], [-(w**2), -2 * z * w]], [[0], [1]], [[1, 0]], [[0]]), -reduced.participation[i, 2] * a[:, 2], t)
    by_lsim = (time.perf_counter() - start) * modes / len(few)

    part = steps // 500
    i = modes // 2
    w, z, gamma = reduced.omega[i], reduced.damping[i], reduced.participation[i, 2]
    start = time.perf_counter()
    run = solve_ivp(
        lambda x, y: [y[1], -gamma * np.interp(x, t, a[:, 2]) - 2 * z * w * y[1] - w**2 * y[0]], (0, t[part]),
        [0.0, 0.0], "DOP853", rtol=1e-9, atol=1e-14, t_eval=t[: part + 1], max_step=1e-4,
    )  # fmt: skip
    by_ivp = (time.perf_counter() - start) * modes * steps / part
    path = Oscillators(reduced.omega[[i]], reduced.damping[[i]], -reduced.participation[[i]]).run(t, a)
    q, _, _ = Oscillators(reduced.omega[[i]], reduced.damping[[i]], -reduced.participation[[i]]).motion(path.state, a)
    off = np.abs(q[: part + 1, 0] - run.y[0]).max() / np.abs(run.y[0]).max()
    print(
        f"{modes} modes, {steps:,} steps, {gauges} gauges with peaks between steps: {ours:.2f} s; lsim per mode takes "
        f"{by_lsim / ours:.1f} times as long, solve_ivp {by_ivp / ours:.0f} times (agreeing to {off:.0e})"
    )
    assert np.isfinite(answer.peaks).all()


def envelope(dofs: int = 100_000, modes: int = 100, rows: int = 20_000) -> None:
    rng = np.random.default_rng(2)
    reduced = model(modes, 1)
    t = np.arange(rows) * 1e-4
    load = np.zeros((rows, 3))
    load[:, 2] = rng.standard_normal(rows)
    oscillators = Oscillators(reduced.omega, reduced.damping, -reduced.participation)
    path = oscillators.run(t, load)
    shapes = rng.standard_normal((modes, dofs))
    answer = SimpleNamespace(
        reader=SimpleNamespace(oscillators=oscillators, path=path, correct=False, base=lambda rows: None),
        reduced=reduced, time=t, pulse=BasePulse(t, load),
    )  # fmt: skip
    motion = FieldMotion.__new__(FieldMotion)
    motion.answer, motion.shapes, motion.loads = answer, shapes, [SimpleNamespace()] * 3  # type: ignore[assignment]
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    start = time.perf_counter()
    found = motion.envelope()
    ours = time.perf_counter() - start
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    q, _, _ = oscillators.motion(path.state, load)
    start = time.perf_counter()
    step = 4000
    for b in range(0, dofs, step):
        q @ shapes[:, b : b + step]
    bare = time.perf_counter() - start
    single = q @ shapes[:, 7]
    assert found.highest[7] >= single.max() - 1e-12 * abs(single).max()
    print(
        f"envelope with times of {dofs:,} motions, {modes} modes, {rows:,} rows: {ours:.1f} s, "
        f"{100 * bare / ours:.0f} % of the rate of the bare product; memory {peak / 1e6:.2f} GB in all, "
        f"{(peak - before) / 1e6:.2f} GB for it"
    )


if __name__ == "__main__":
    if "--small" in sys.argv:
        envelope(2_000, 20, 1_000)
        transient(20, 2_000, 10)
    else:
        envelope()
        transient()
