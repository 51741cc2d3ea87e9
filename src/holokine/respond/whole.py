"""Displacement of the whole assembly: combined under a spectrum, or at an instant of a pulse answer."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from holokine.modes.extract import ModeSet
from holokine.respond.combine import SpectrumAnswer
from holokine.respond.rules import over_directions
from holokine.respond.transient import PulseAnswer

__all__ = ["spectrum_displacement", "transient_displacement"]

Floats = NDArray[Any]  # float64
_BLOCK = 20_000


def _kept(answer: SpectrumAnswer | PulseAnswer, modes: ModeSet) -> Floats:
    """Shapes of the modes that the answer used (an event may have its own cut-off)."""
    return modes.shapes[: answer.reduced.count]


def spectrum_displacement(answer: SpectrumAnswer, modes: ModeSet) -> Floats:
    """Combined largest displacement of every motion relative to the frame, shape (dofs,), in m and rad.

    In blocks of motions, by the answer's rules; without the missing mass, whose displacement is small.
    """
    shapes = _kept(answer, modes)
    columns = ["xyz".index(d) for d in answer.directions]
    reduced = answer.reduced
    coordinate = reduced.participation[:, columns] * answer.spectral / (reduced.omega**2)[:, None]
    result = np.empty(shapes.shape[1])
    for a in range(0, shapes.shape[1], _BLOCK):
        part = shapes[:, a : a + _BLOCK]
        values = coordinate[:, :, None] * part[:, None, :]
        each = answer.combination.combined(values, np.zeros(values.shape[1:]))
        result[a : a + _BLOCK] = over_directions(each, answer.direction_rule)
    return result


def transient_displacement(answer: PulseAnswer, modes: ModeSet) -> Callable[[float], tuple[float, Floats]]:
    """A function of time in s that gives the nearest row's time and the displacement there, shape (dofs,), in m."""
    shapes = _kept(answer, modes)

    def at(time: float) -> tuple[float, Floats]:
        row = int(np.abs(answer.time - time).argmin())
        path = answer.reader.path
        q, _, _ = answer.reader.oscillators.motion(path.state[[row]], path.load[[row]])
        return float(answer.time[row]), (q @ shapes)[0]

    return at
