"""Is the mesh fine enough for a frequency, and was the model cut at a plane of symmetry?"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from holokine.mesh.cells import CELLS
from holokine.mesh.quality import edge_lengths

if TYPE_CHECKING:
    from holokine.system.build import System

__all__ = ["Coarse", "coarse_parts", "elements_per_wave", "single_cables", "symmetry_planes"]

ENOUGH = 6.0


@dataclass(frozen=True)
class Coarse:
    """A part whose mesh is too coarse: elements per wavelength at a frequency in Hz."""

    part: str
    per_wave: float
    frequency: float


def elements_per_wave(system: System, frequency: float) -> dict[str, float]:
    """Elements per wavelength of each part at a frequency in Hz, the worst of its elements.

    Bending waves of beams (softer plane), (EI / ρA ω²)^¼, and plates, (D / ρh ω²)^¼; shear waves of solids.
    Quadratic elements count twice.
    """
    omega = 2.0 * np.pi * frequency
    result: dict[str, float] = {}
    for part in system.description.parts:
        for block in system.element_blocks(part):
            longest = float(edge_lengths(system.mesh.nodes, block.kind, block.nodes).max()) / CELLS[block.kind].order
            wave = block.wave(omega)
            count = float(2.0 * np.pi * wave / longest)
            result[part] = min(count, result.get(part, np.inf))
    return result


def coarse_parts(system: System, frequency: float) -> list[Coarse]:
    """Parts with fewer than six elements per wavelength at a frequency in Hz, worst first.

    Cables of one element have no motion of their own between their ends, and are told apart (`single_cables`).
    """
    single = set(single_cables(system))
    waves = elements_per_wave(system, frequency)
    found = [Coarse(p, c, frequency) for p, c in waves.items() if c < ENOUGH and p not in single]
    return sorted(found, key=lambda c: c.per_wave)


def single_cables(system: System) -> list[str]:
    """Cables and struts that only pull of one element: the ones that cannot vibrate between their ends."""
    return [
        n
        for n, p in system.description.parts.items()
        if p.only_pulls and sum(len(b.nodes) for b in system.element_blocks(n)) == 1
    ]


def symmetry_planes(system: System) -> list[str]:
    """Supports that look like a plane of symmetry: the cut edge of the model held as a mirror holds it."""
    result: list[str] = []
    in_use = system.active.reshape(-1, 6).any(axis=1)
    places = system.mesh.nodes[in_use]
    if len(places) == 0:
        return result
    low, high = places.min(axis=0), places.max(axis=0)
    for support in system.supports.values():
        for d, axis in enumerate("xyz"):
            mirror = {axis, *(f"r{a}" for a in "xyz" if a != axis)}
            solid = not system.active.reshape(-1, 6)[support.nodes, 3:].any()
            held = set(support.hold)
            if held != mirror and not (solid and held in ({axis}, mirror)):
                continue
            at = system.mesh.nodes[support.nodes, d]
            span = high[d] - low[d]
            flat = np.ptp(at) <= 1e-6 * max(span, 1e-9)
            if len(support.nodes) > 2 and flat and span > 0 and min(at[0] - low[d], high[d] - at[0]) < 1e-6 * span:
                result.append(
                    f'support "{support.name}" looks like a plane of symmetry (normal {axis}): only modes symmetric '
                    "about it are found, the antisymmetric ones are lost; model the whole, or run again with the "
                    "opposite directions held and join the two lists"
                )
    return result
