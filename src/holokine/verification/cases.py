"""What a verification case is, and the models and materials that several use."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

import holokine as hk
from holokine.arrays import Floats

__all__ = ["CASES", "Case", "Figures", "case"]

Figures = tuple[Sequence[Any] | Floats, Sequence[Any] | Floats]
"""What was computed, and what is expected."""


@dataclass(frozen=True)
class Case:
    """One problem with an answer that is known by other means.

    Attributes
    ----------
    name, source, model : str
        The problem, where its answer comes from, and how it is modelled.
    tolerance : float
        Largest deviation, as a share of the expected figure, that passes.
    figures : str
        What the figures are, with their unit.
    run : callable
        Gives the computed and the expected figures.
    """

    name: str
    source: str
    model: str
    tolerance: float
    figures: str
    run: Callable[[], Figures]


CASES: list[Case] = []
FREQUENCY = "natural frequency (Hz)"


def case(
    name: str, source: str, model: str, tolerance: float, figures: str = FREQUENCY
) -> Callable[[Callable[[], Figures]], Callable[[], Figures]]:
    """Enter a function among the cases."""

    def enter(run: Callable[[], Figures]) -> Callable[[], Figures]:
        CASES.append(Case(name, source, model, tolerance, figures, run))
        return run

    return enter


ALUMINIUM: dict[str, Any] = {"E": 71.3e9, "nu": 0.33, "density": 2713.0}
STEEL: dict[str, Any] = {"E": 206e9, "nu": 0.29, "density": 7830.0}
BENCH: dict[str, Any] = {"E": 200e9, "nu": 0.3, "density": 8000.0}
BAR: dict[str, Any] = {"rectangle": {"width": 0.0415, "height": 0.0785}}
PLANE = ["x", "y", "rx", "rz"]
EXACT_TIMOSHENKO = "Timoshenko theory, exact roots"


def beam(
    length: float,
    section: dict[str, Any],
    material: dict[str, Any],
    *,
    start: Any = (),
    end: Any = (),
    suppress: Any = (),
    divisions: int = 40,
    **keys: Any,
) -> hk.Assembly:
    """A straight beam along x between the points a and b, with what its ends and all of it are held in."""
    a = hk.Assembly().material("m", **material).section("s", **section).point("a", [0, 0, 0]).point("b", [length, 0, 0])
    a.part("beam", beam={"through": ["a", "b"], "section": "s", "divisions": divisions, **keys}, material="m")
    for name, at, hold in (("plane", {"part": "beam"}, suppress), ("left", "a", start), ("right", "b", end)):
        if hold:
            a.support(name, at=at, hold=hold)
    return a


def elastic(a: hk.Assembly, count: int) -> Floats:
    """The frequencies of the lowest modes without those of the rigid body."""
    modes = a.modes(count=count)
    return np.asarray(modes.frequencies_hz[~modes.set.rigid])


def edge(at: list[float], normal: str) -> dict[str, Any]:
    """What lies in a plane."""
    return {"plane": {"at": at, "normal": normal}}
