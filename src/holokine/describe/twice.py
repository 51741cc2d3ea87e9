"""Loads at rest of an event beside those of the state that it is added to: what acts in all, and what acts twice."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import TYPE_CHECKING

from holokine.findings import Finding
from holokine.units import STANDARD_GRAVITY

if TYPE_CHECKING:
    from holokine.describe.schema import Description

__all__ = ["acting_twice"]

HALF = 0.5  # of the gravity of the state: an event that adds as much along it holds the weight once more
SMALL = 1e-6


def acting_twice(d: Description, state: str, factors: Mapping[str, float]) -> list[Finding]:
    """What an event's loads at rest, by load and factor, come to with those of a state.

    Gravity is judged by its sum, whatever the loads are called: a tilted pull beside the weight counts twice, with the
    weight taken off (factor -1) it does not. Other loads are told by name.
    """
    own = d.states[state].loads
    found = []
    held, added = (_gravity(d, loads) for loads in (own, factors))
    size, more = math.hypot(*held), math.hypot(*added)
    if size > 0.0 and more > 0.0:
        total = [a + b for a, b in zip(held, added, strict=True)]
        words = f"gravity in the state {_vector(held)}, in this event {_vector(added)}, in all {_vector(total)}"
        if sum(a * b for a, b in zip(held, added, strict=True)) > HALF * size**2:
            found.append(Finding(
                "warning", f"weight acts twice: {words}. Take the state's off (its load with factor -1), or answer it "
                "as a state of its own: events: {NAME: {state: ...}}",
            ))  # fmt: skip
        else:
            found.append(Finding("note", words))
    for name, factor in factors.items():
        if name in own and d.loads[name].gravity is None and factor:
            text = f'"{name}" acts {own[name]:g} times in the state and {factor:g} times in this event, '
            text += f"{own[name] + factor:g} times in all"
            found.append(Finding("warning" if own[name] * factor > 0.0 else "note", text))
    return found


def _gravity(d: Description, factors: Mapping[str, float]) -> list[float]:
    """Sum of the pulls in m/s², global axes."""
    total = [0.0, 0.0, 0.0]
    for name, factor in factors.items():
        load = d.loads[name]
        if load.gravity is not None:
            total = [t + factor * load.size * g for t, g in zip(total, load.pull, strict=True)]
    return total


def _vector(pull: list[float]) -> str:
    """In g, with its direction."""
    size = math.hypot(*pull)
    if size < SMALL * STANDARD_GRAVITY:
        return "none"
    way = [p / size for p in pull]
    main = max(range(3), key=lambda i: abs(way[i]))
    if abs(way[main]) > 1.0 - 1e-9:
        where = ("-" if way[main] < 0 else "") + "xyz"[main]
    else:
        where = "[" + ", ".join(f"{w + 0.0:.3g}" for w in way) + "]"
    return f"{size / STANDARD_GRAVITY:.4g} g along {where}"
