"""Random vibration against its bare products, in one run: ratios of CPU time.

python benchmarks/random_motion.py [MODES] [DIVISIONS]

A plate with 200 readings and a table of 30 rows: the answer against one product of the size of its quadratic forms;
whole-field RMS of equivalent stress against the bare products of shapes, stress maps and the root of the covariance.
"""

from __future__ import annotations

import sys
from time import process_time

import numpy as np

import holokine as hk
from holokine.elements.stress import mapped
from holokine.system.recovery import stress_fields


def plate(divisions: int) -> hk.Assembly:
    shape = {
        "corner": [0, 0, 0],
        "sides": [[1.5, 0, 0], [0, 1.0, 0]],
        "divisions": [divisions, divisions],
        "thickness": 4e-3,
    }
    a = hk.Assembly("plate").material("m", E=2e11, nu=0.3, density=7800.0).part("p", plate=shape, material="m")
    a.support("edge", at={"plane": {"at": [0, 0, 0], "normal": "x"}}, hold="all").damping(0.02)
    for k, x in enumerate(np.linspace(0.2, 1.4, 67)):
        a.point(f"q{k}", [1.5 * round(x / 1.5 * divisions) / divisions, 0.5, 0.0])
        a.gauge(f"g{k}", acceleration=f"q{k}")
    f = np.geomspace(5, 2000, 30)
    density = (0.02 * np.exp(np.sin(3 * np.log(f)))).tolist()
    return a.event("noise", random={"z": {"frequency": f.tolist(), "density": [f"{d} g^2/Hz" for d in density]}})


def timed(job) -> tuple[float, object]:
    begin = process_time()
    made = job()
    return process_time() - begin, made


def main() -> None:
    count, divisions = int((sys.argv[1:2] or ["200"])[0]), int((sys.argv[2:3] or ["120"])[0])
    modes = plate(divisions).modes(count)
    _ = modes.reduced
    readings = len(modes.reduced.readings)
    took, answer = timed(lambda: modes.respond("noise"))
    reader = answer.result.reader
    features = reader.features(slice(0, len(modes.reduced.channels)))
    gram = reader.gram()
    bare, _ = timed(lambda: [(features * (gram @ features.conj())).sum(axis=0) for _ in range(4)])
    print(
        f"{count} modes, {readings} readings, 30 rows: {took:.2f} s of CPU, {took / bare:.1f} times four bare products"
    )
    field = answer.field
    took, _ = timed(field.stress)
    root, shapes = field._root, field._fields

    def products() -> None:
        for m in stress_fields(modes.set.system):
            for a in range(0, m.matrix.shape[0], 3 * 6000):
                part = root @ mapped(m.matrix[a : a + 3 * 6000], shapes).T
                np.einsum("ij,ij->j", part, part)

    bare, _ = timed(products)
    motions = modes.set.system.size
    print(
        f"RMS of equivalent stress, {motions:,} motions: {took:.2f} s of CPU, {took / bare:.1f} times the bare products"
    )


if __name__ == "__main__":
    main()
