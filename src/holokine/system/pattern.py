"""What acts of members that act one way only: feet that touch, cables that pull, the slopes of springs."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from holokine.elements.laws import force_law

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.describe import Description

__all__ = ["Feet", "Pattern", "at_no_load", "fully_engaged"]

Flags = NDArray[np.bool_]


@dataclass(frozen=True)
class Feet:
    """Nodes of a one-way support.

    Attributes
    ----------
    name : str
    nodes : ndarray of int, shape (feet,)
    axis : int
        0, 1, 2 for x, y, z.
    sign : float
        The way in which it pushes, +1 or -1.
    gap : float
        m.
    friction : float
        Coulomb's coefficient; 0 where it slides freely.
    across : tuple of int
        Directions across that nothing else of the support holds.
    """

    name: str
    nodes: Ints
    axis: int
    sign: float
    gap: float
    friction: float
    across: tuple[int, ...]


@dataclass(frozen=True)
class Pattern:
    """What acts of one-way members.

    Attributes
    ----------
    open, sliding : dict of str to ndarray of bool
        By support: which of its feet do not touch; which are free across.
    slack : frozenset of str
        Parts that are absent.
    springs : dict of str to float
        Stiffness in N/m of springs that are one-way or have a law.
    friction : dict of str to ndarray
        By support: stiffness across of each foot in N/m, in place of holding it.
    """

    open: dict[str, Flags] = field(default_factory=dict)
    sliding: dict[str, Flags] = field(default_factory=dict)
    slack: frozenset[str] = frozenset()
    springs: dict[str, float] = field(default_factory=dict)
    friction: dict[str, Floats] = field(default_factory=dict)

    def is_open(self, feet: Feet) -> Flags:
        """Which feet do not touch."""
        return np.broadcast_to(self.open.get(feet.name, np.zeros(1, dtype=bool)), len(feet.nodes))

    def is_sliding(self, feet: Feet) -> Flags:
        """Which feet are free across."""
        free = np.full(len(feet.nodes), not feet.friction)
        return free | self.is_open(feet) | self.sliding.get(feet.name, np.zeros(1, dtype=bool))


def at_no_load(d: Description) -> Pattern:
    """Without a state: feet and springs with a gap are open, all others act both ways; springs by their slope at 0."""
    springs = {}
    for name, spring in d.springs.items():
        law = force_law(spring)
        if law is not None:
            springs[name] = law.slope(0.0)
        elif spring.one_way is not None:
            springs[name] = 0.0 if spring.gap else spring.stiffness
    apart = {n: np.ones(1, dtype=bool) for n, s in d.supports.items() if s.gap}
    return Pattern(open=apart, springs=springs)


def fully_engaged(d: Description) -> Pattern:
    """Everything acts, springs by a stiffness that none of their slopes exceeds."""
    springs = {}
    for name, spring in d.springs.items():
        law = force_law(spring)
        if law is not None:
            springs[name] = law.steepest
        elif spring.one_way is not None:
            springs[name] = spring.stiffness
    return Pattern(springs=springs)
