"""Energy balance of a motion relative to the frame: mode by mode, or of few coordinates with one-way members."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from holokine.errors import EventError
from holokine.respond.contacts import OPEN
from holokine.respond.oscillators import Oscillators, quintic

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.respond.contacts import Few
    from holokine.respond.transient import TimeResult

__all__ = ["energy_balance", "few_energies"]

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


def few_energies(
    few: Few, time: Floats, load: Floats, x: Floats, v: Floats, a: Floats, closing: Floats, slip: Floats,
    status: Floats, rub: Floats, *, heavy: list[Floats] | None = None,
) -> dict[str, Floats]:  # fmt: skip
    """Energies from the start on; what is summed over time by three points of Gauss on the curves between rows.

    `heavy`: x, v and a of what has mass and is damped, where a part answers at rest.
    """
    h = np.diff(time)[:, None]

    def speed_at(share: float, of: list[Floats]) -> Floats:
        return quintic(np.full_like(h, share), h, [m[:-1] for m in of], [m[1:] for m in of])[1]

    input_, damped, rubbed = np.zeros((3, len(h)))
    strain = 0.5 * np.einsum("ti,ij,tj->t", x, few.stiffness, x)
    acts = status[:-1] != OPEN  # over a step, both its ends have the pattern of the first
    for place, weight in ((-(0.6**0.5), 5.0), (0.0, 8.0), (0.6**0.5, 5.0)):
        s = 0.5 + 0.5 * place
        speed = speed_at(s, [x, v, a])
        fast = speed_at(s, heavy) if heavy else speed
        w, f = ((1.0 - s) * m[:-1] + s * m[1:] for m in (load, rub))
        w_h = weight / 18.0 * h[:, 0]
        input_ += w_h * np.einsum("ti,ti->t", speed, w @ few.weights.T)
        damped += w_h * np.einsum("ti,ij,tj->t", fast, few.damping, fast)
        for j, own in enumerate(few.members):
            if own.damping and not own.rigid:
                damped += w_h * np.where(acts[:, j], own.damping * (speed @ own.row) ** 2, 0.0)
            if own.rough:
                rubbed -= w_h * (f[:, j, : len(own.across)] * (speed @ own.across.T)).sum(axis=1)
    for j, own in enumerate(few.members):
        strain -= own.force * closing[:, j]
        if own.law is not None:
            strain += np.array([own.law.energy(own.start + c) for c in closing[:, j]]) - own.law.energy(own.start)
        elif not own.rigid:
            past = closing[:, j] - own.gap
            strain += np.where(status[:, j] != OPEN, 0.5 * own.stiffness * past**2, 0.0)
            strain -= 0.5 * own.stiffness * min(own.gap, 0.0) ** 2
        if own.rough:
            strain += slip[:, j, : len(own.across)] @ own.across_force
    moving = heavy[1] if heavy else v
    summed = {k: np.concatenate([[0.0], np.cumsum(v)]) for k, v in
              (("input", input_), ("damped", damped), ("rubbed", rubbed))}  # fmt: skip
    return {"kinetic": 0.5 * np.einsum("ti,ij,tj->t", moving, few.mass, moving), "strain": strain, **summed}
