"""Slips of the pen: sizes that another unit explains better than an assembly does."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

import numpy as np

from holokine.findings import Finding
from holokine.units import STANDARD_GRAVITY

if TYPE_CHECKING:
    from holokine.describe import Description
    from holokine.system.build import System
    from holokine.system.totals import MassTotals

__all__ = ["implausible"]

HEAVY, SLOW, FAST = 2000.0, 800.0, 2.0e4  # kg/m³ and m/s: lead carries waves at 1200, diamond at 18000
LIGHTEST, HEAVIEST = 10.0, 25000.0  # kg/m³
OUTWEIGHS = 50.0
FEATHER = 1e-7
RIGID = 1e8
THICK = 0.5  # of a shell's largest extent
HALF_TWICE = 0.05  # of all mass, from which a thing that is there twice matters
ROOMY, TIGHT = 3.0, 1e4  # radius of gyration times, and as a part of, the size of the assembly
MUCH = 0.25  # of critical damping
UPWARDS = 0.9


def implausible(system: System, totals: MassTotals, members: dict[str, MassTotals]) -> list[Finding]:
    """Sizes that a slip of units explains better than an assembly does."""
    d = system.description
    return [
        *_materials(d),
        *_heavy_or_light(system, totals, members),
        *_gravity(d),
        *_thick(system),
        *_twice(totals, members),
        *_spinning(system),
        *_damped(d),
        *_stiff_connections(system),
    ]


def _materials(d: Description) -> Iterator[Finding]:
    """Densities, and speeds of waves, that no material has."""
    for name, material in d.materials.items():
        if material.density == 0.0 and any(name in p.materials for p in d.parts.values()):
            yield Finding("warning", f'the material "{name}" has no density')
        elif material.density and not LIGHTEST < material.density < HEAVIEST:
            told = f"a density of {material.density:.4g} kg/m³: is its unit right?"
            yield Finding("warning", f'the material "{name}" has {told}')
        if not material.density:
            continue
        speed = float(np.sqrt(material.young / material.density))
        slow = material.density > HEAVY and speed < SLOW
        if not slow and speed < FAST:
            continue
        times = next((t for t in (1e3, 1e-3, 1e6, 1e-6, 1e9) if SLOW <= speed * np.sqrt(t) < FAST), None)
        gpa = material.young / 1e9
        meant = f"; was an E of {gpa * times:.4g} GPa meant?" if times else ": are E and density right?"
        yield Finding("warning", f'the material "{name}" has E = {gpa:.4g} GPa at {material.density:.4g} kg/m³: waves '
                      f"would run at {speed:.3g} m/s in it, in metals it is 1000 to 6000{meant}")  # fmt: skip


def _heavy_or_light(system: System, totals: MassTotals, members: dict[str, MassTotals]) -> Iterator[Finding]:
    """Point masses that are all of the mass, or nothing beside it."""
    for name, own in ((body.name, members[body.name].mass) for body in system.masses):
        rest = totals.mass - own
        if rest > 0.0 and own > OUTWEIGHS * rest:
            yield Finding("warning", f'"{name}" has {own:.4g} kg, {own / rest:.3g} times all the rest together '
                          f"({rest:.4g} kg): is its unit right (t, kg, g)?")  # fmt: skip
        elif 0.0 < own < FEATHER * rest:
            yield Finding("warning", f'"{name}" has {own:.3g} kg beside {rest:.4g} kg of the rest: is its unit '
                          "right (t, kg, g)?")  # fmt: skip


def _gravity(d: Description) -> Iterator[Finding]:
    """Gravity of another size, or upwards."""
    for name, load in d.loads.items():
        if load.gravity is None:
            continue
        pull = load.size / STANDARD_GRAVITY
        if not 0.01 < pull <= 100.0:
            yield Finding("warning", f'the load "{name}" pulls with {pull:.4g} g: is its unit right?')
        if max(load.pull) > UPWARDS:
            way = "xyz"[int(np.argmax(load.pull))]
            yield Finding("note", f'the load "{name}" pulls along +{way}: that is upwards where {way} points up')


def _thick(system: System) -> Iterator[Finding]:
    """Shells thicker than they are large."""
    for name, part in system.description.parts.items():
        thickness = None if part.shell is None else part.shell.thickness
        nodes = system.mesh.part_nodes.get(name)
        if thickness is None or nodes is None or not len(nodes):
            continue
        size = float(np.ptp(system.mesh.nodes[nodes], axis=0).max())
        if thickness > THICK * size > 0.0:
            yield Finding(
                "warning", f'"{name}" is {1e3 * thickness:.4g} mm thick and {1e3 * size:.4g} mm large: is its unit '
                f"right? Perhaps {thickness:.4g} mm was meant",
            )  # fmt: skip


def _twice(totals: MassTotals, members: dict[str, MassTotals]) -> Iterator[Finding]:
    """Heavy things of equal mass in one place."""
    heavy = [(n, m) for n, m in members.items() if m.mass > HALF_TWICE * totals.mass]
    for k, (one, a) in enumerate(heavy):
        for other, b in heavy[k + 1 :]:
            near = float(np.abs(np.asarray(a.centre) - np.asarray(b.centre)).max()) < 1e-3
            if near and abs(a.mass - b.mass) < 1e-6 * a.mass:
                yield Finding(
                    "warning", f'"{one}" and "{other}" have the same mass ({a.mass:.4g} kg, '
                    f"{100 * a.mass / totals.mass:.0f} % of all) in one place: is it there twice?",
                )  # fmt: skip


def _spinning(system: System) -> Iterator[Finding]:
    """Point masses whose inertia belongs to a far smaller or larger body than the assembly has room for."""
    places = system.mesh.nodes
    size = float(np.linalg.norm(np.ptp(places, axis=0))) if len(places) else 0.0
    for body in system.masses:
        inertia = np.abs(np.linalg.eigvalsh(body.inertia)) if body.inertia.ndim == 2 else np.abs(body.inertia)
        if not body.mass > 0.0 or not size > 0.0 or not inertia.any():
            continue
        radius = float(np.sqrt(inertia.max() / body.mass))
        if radius > ROOMY * size or radius < size / TIGHT:
            yield Finding(
                "warning", f'"{body.name}": its inertia is that of {body.mass:.4g} kg at {1e3 * radius:.3g} mm from '
                f"its centre, in an assembly of {1e3 * size:.4g} mm: is its unit right (kg m², kg mm²)?",
            )  # fmt: skip


def _damped(d: Description) -> Iterator[Finding]:
    """Damping that is rather a percentage."""
    ratio = getattr(d.damping, "ratio", None)
    if ratio is not None and ratio > MUCH:
        yield Finding("warning", f"damping of {100 * ratio:.4g} % of critical: was {ratio:g} % meant?")


def _stiff_connections(system: System) -> Iterator[Finding]:
    """Springs and bushings so stiff beside what they connect that digits of the rest are lost."""
    own = {c.name: float(np.abs(np.asarray(c.stiffness)).max(initial=0.0)) for c in system.connectors}
    diagonal = np.abs(system.stiffness.diagonal())
    usual = float(np.median(diagonal[diagonal > 0])) if (diagonal > 0).any() else 0.0
    for name, stiffness in own.items():
        if usual and stiffness > RIGID * usual:
            yield Finding(
                "warning", f'"{name}" has a stiffness of {stiffness:.3g} (SI), {stiffness / usual:.1g} times the usual '
                "entry of the stiffness matrix: digits of all else are lost to it; link what is rigid (links: rigid)",
            )  # fmt: skip
