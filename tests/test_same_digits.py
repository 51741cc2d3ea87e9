# ruff: noqa: E501 - data in rows
"""Equal input gives equal printed digits: with one thread and two, in another process, in another order of hashes."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys

import numpy as np
import pytest

import holokine as hk
from holokine.solvers import factor

COMMANDS = [
    ["modes", "crate.yaml", "--count", "20", "--save", "crate.run", "--json"], ["modes", "crate.run", "--table", "energy", "--table", "sensitivities"],
    ["respond", "crate.run", "kerb strike", "--json"], ["respond", "crate.yaml", "works shock", "--json"],
    ["respond", "crate.run", "shaker", "--csv"], ["modes", "crate.run", "--damped", "--json"],
    ["respond", "crate.yaml", "winter standstill", "--json"], ["modes", "block.yaml", "--count", "12", "--json"],
    ["check", "block.yaml", "--json"],
]  # fmt: skip
BLOCK = """holokine: 1
materials: {m: {E: 70 GPa, nu: 0.33, density: 2700 kg/m^3}}
parts: {b: {box: {corner: [0, 0, 0], sides: [[1, 0, 0], [0, 0.8, 0], [0, 0, 0.6]], divisions: [16, 14, 10]}, material: m}}
supports: {w: {at: {part: b, plane: {at: [0, 0, 0], normal: x}}, hold: [x, y, z]}}
"""


ONE_BY_ONE = """
import json, sys
from holokine.cli.main import run
for command in json.loads(sys.argv[1]):
    print("== ", command)
    run(command)
"""


def test_printed_digits_are_the_same(tmp_path):
    """All that these commands print, of the demo and of a block of 8,000 motions, character by character."""
    printed = []
    for threads, seed in ((1, 0), (2, 4711)):
        folder = tmp_path / f"{threads}"
        folder.mkdir()
        for name in ("crate.yaml", "works.csv"):
            shutil.copy(hk.demo_folder() / name, folder)
        (folder / "block.yaml").write_text(BLOCK)
        own = dict.fromkeys(("OMP_NUM_THREADS", "MKL_NUM_THREADS", "OPENBLAS_NUM_THREADS"), str(threads))
        got = subprocess.run([sys.executable, "-c", ONE_BY_ONE, json.dumps(COMMANDS)], cwd=folder, capture_output=True,
                             text=True, timeout=300, check=True,
                             env={**os.environ, **own, "PYTHONHASHSEED": str(seed)})  # fmt: skip
        printed.append(got.stdout.split("== ")[1:])
    assert len(printed[0]) == len(printed[1]) == len(COMMANDS)
    for first, second in zip(*printed, strict=True):
        assert len(first) > 500
        assert first == second, first[:200]


@pytest.mark.skipif(not factor.fast_available(), reason="only one factorisation is installed")
def test_nine_digits_hold_between_the_two_factorisations(tmp_path, crate_file, monkeypatch):
    """Frequencies and peaks by the fast library and by SciPy's."""
    for name in ("crate.yaml", "works.csv"):
        shutil.copy(crate_file.with_name(name), tmp_path)
    fast = hk.Assembly.read(tmp_path / "crate.yaml").modes(count=20)
    peaks = {e: fast.respond(e).table("peaks")["peak"] for e in ("kerb strike", "works shock")}
    monkeypatch.setattr(factor, "fast_available", lambda: False)
    slow = hk.Assembly.read(tmp_path / "crate.yaml").modes(count=20)
    assert slow.set.method != fast.set.method
    np.testing.assert_allclose(slow.frequencies_hz, fast.frequencies_hz, rtol=1e-10)
    for event, peak in peaks.items():
        np.testing.assert_allclose(slow.respond(event).table("peaks")["peak"], peak, rtol=1e-9, atol=1e-9 * peak.max())


def test_the_command_line_keeps_numpy_to_one_thread():
    """Sums of its threads would differ in the last digits; the sparse solver's do not (MKL_CBWR)."""
    code = (
        "import sys\nfrom holokine.cli import main\nmain.cli.main = lambda *_, **__: None\nmain.run([])\n"
        "import os, threadpoolctl, numpy\nprint([p['num_threads'] for p in threadpoolctl.threadpool_info()])\n"
        "from holokine.solvers.library import fast_solver\nfast_solver()\nprint(os.environ['MKL_CBWR'])"
    )
    env = {**os.environ, "OPENBLAS_NUM_THREADS": "2"}
    out = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True, env=env).stdout
    assert out.split("\n")[:2] == ["[1]", "AVX2,STRICT"]
