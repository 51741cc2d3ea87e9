"""A model of 30,000 motions through the whole chain, within a memory that nothing quadratic fits into."""

from __future__ import annotations

import subprocess
import sys

CHAIN = """
import resource

resource.setrlimit(resource.RLIMIT_AS, (6 * 2**30, 6 * 2**30))
import numpy as np

import holokine as hk

G = 9.80665
a = hk.Assembly("sheet box").material("m", E=205e9, nu=0.29, density=7840).damping(0.02)
a.part("floor", plate={"corner": [0, 0, 0], "sides": [[1, 0, 0], [0, 0.8, 0]], "divisions": [56, 44],
                       "thickness": 0.002}, material="m")
a.part("wall", plate={"corner": [0, 0, 0], "sides": [[1, 0, 0], [0, 0, 0.6]], "divisions": [56, 34],
                      "thickness": 0.002}, material="m")
a.part("block", box={"corner": [0.3, 0.2, 0.1], "sides": np.diag([0.3, 0.3, 0.2]).tolist(), "divisions": [10, 10, 6]},
       material="m")
a.joint("foot", between=[{"part": "block", "plane": {"at": [0, 0, 0.1], "normal": "z"}},
                         {"part": "floor", "nearest": [0.45, 0.35, 0], "count": 40, "link": "averaging"}])
a.support("rim", at={"part": "floor", "plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all")
a.group("sheets", ["floor", "wall"]).load("weight", gravity="-z")
for part in ("floor", "wall", "block"):
    a.gauge(part, stress=part)
a.gauge("rim", reaction="rim").gauge("top", acceleration={"part": "wall", "nearest": [0.5, 0, 0.6]})
a.event("shock", spectrum={"z": {"frequency": [1, 20, 5000], "acceleration": [G, 4 * G, G]}}, outside="hold")
a.event("jolt", pulse={"z": {"half sine": {"peak": 3 * G, "duration": 0.01}}}, ring_down=0.1)
a.event("rest", static="weight")
report = a.check()
assert report.report.counts["independent degrees of freedom"] > 27_000, report.report.counts
modes = a.modes(count=12)
assert len(modes.words) == 12 and len(modes.table("energy")) == 12 * 4
assert abs(modes.energies.shares("strain").sum(axis=0) - 1).max() < 1e-9
for event in ("shock", "jolt", "rest"):
    answer = a.respond(event) if event == "rest" else modes.respond(event)
    assert np.isfinite(answer.result.peaks[:3]).all()  # accelerations have no value at rest
    worst = answer.table("stress").set_index("part")["stress_mpa"]
    assert set(worst.index) == {"floor", "wall", "block"}
    gauges = answer.table("peaks").set_index("gauge")
    column = "value" if event == "rest" else "peak"
    assert abs(gauges.loc["floor", column]) > 0
    assert worst["floor"] <= abs(gauges.loc["floor", column]) * (1 + 1e-3)  # the gauge looks at the same places
mac = modes.compare(modes).table("mac")
assert abs(np.diag(mac.iloc[:, 1:].to_numpy(float)) - 1).max() < 1e-9
from pathlib import Path

# of this process alone: getrusage also counts what its parent had when it was forked
print(next(line.split()[1] for line in Path("/proc/self/status").read_text().splitlines() if line[:5] == "VmHWM"))
"""


def test_thirty_thousand_motions_in_bounded_memory():
    """Check, modes, words, energies, comparison and every kind of event with the stress of whole parts.

    A square of the nodes takes 0.2 GB, of the stress channels 10 GB: neither fits beside what the chain itself holds.
    """
    quietly = ["-W", "error", "-W", "ignore::UserWarning"]
    run = subprocess.run([sys.executable, *quietly, "-c", CHAIN], capture_output=True, text=True, timeout=600,
                         check=False)  # fmt: skip
    assert run.returncode == 0, run.stderr[-2000:]
    peak = int(run.stdout.split()[-1]) / 1024
    assert peak < 640, f"{peak:.0f} MB"
