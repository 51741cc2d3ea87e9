"""Energy balance of a motion relative to the frame, mode by mode."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from holokine.errors import EventError
from holokine.respond.oscillators import Oscillators

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.respond.transient import TimeResult

__all__ = ["energy_balance"]

_POINTS, _WEIGHTS = np.polynomial.legendre.leggauss(4)


def energy_balance(answer: TimeResult) -> dict[str, Floats]:
    """Energies in J at every row of the answer, summed over the modes.

    Input work ∫ p q' dt and dissipation ∫ 2ζω q'² dt are integrated by Gauss' rule with four points between rows on
    the exact motion, each by itself, so that work = kinetic + strain + dissipated - (strain at the start) is a check.

    Returns
    -------
    dict of ndarray, shape (rows,)
        time_s, work_j, kinetic_j, strain_j, dissipated_j.

    Raises
    ------
    EventError
        Unless the modes were taken as uncoupled.
    """
    system = getattr(answer.reader, "oscillators", None)
    if type(system) is not Oscillators:
        raise EventError("the energy balance is there for answers by uncoupled modes (method: modes)")
    if answer.reduced.settled is not None:
        raise EventError("the energy balance is there where the whole base moves, not groups of supports by themselves")
    path = answer.reader.path
    q, v, _ = system.motion(path.state, path.load)
    h = np.diff(path.time)
    work, lost = np.zeros(len(h)), np.zeros(len(h))
    rows = np.arange(len(h))
    rate = 2.0 * system.damping * system.omega
    for point, weight in zip(_POINTS, _WEIGHTS, strict=True):
        for a in range(0, len(rows), 20_000):
            part = rows[a : a + 20_000]
            state, load = system.within(path, part, h[part] * (point + 1.0) / 2.0)
            _, speed, _ = system.motion(state, load)
            work[part] += weight * h[part] / 2.0 * ((load @ system.weights.T) * speed).sum(axis=1)
            lost[part] += weight * h[part] / 2.0 * (speed**2 @ rate)
    begin = np.zeros(1)
    return {
        "time_s": path.time,
        "work_j": np.concatenate([begin, np.cumsum(work)]),
        "kinetic_j": 0.5 * (v**2).sum(axis=1),
        "strain_j": 0.5 * (q**2) @ system.omega**2,
        "dissipated_j": np.concatenate([begin, np.cumsum(lost)]),
    }
