"""Building the maps of the gauges that a description asks for."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array, csr_array

from holokine.describe.gauges import Gauge
from holokine.errors import DescriptionError, SelectionError
from holokine.gauges.channels import Channel, Derived, GaugeSet
from holokine.system.assemble import node_dofs
from holokine.system.build import System

__all__ = ["build_gauges"]

Floats = NDArray[np.float64]
_AXES = ("x", "y", "z")
_MOTION = {
    "displacement": ("displacement", 0, 0),
    "rotation": ("angle", 0, 3),
    "velocity": ("velocity", 1, 0),
    "acceleration": ("acceleration", 2, 0),
}  # dimension, order, first direction


@dataclass
class _Maps:
    """Rows of the four maps while they are being collected, as (channel, column, value)."""

    channels: list[Channel] = field(default_factory=list)
    readings: list[Derived] = field(default_factory=list)
    entries: dict[str, list[tuple[int, NDArray[np.int64], Floats]]] = field(
        default_factory=lambda: {"displacement": [], "velocity": [], "acceleration": [], "multipliers": []}
    )

    def add(self, channel: Channel, **rows: tuple[NDArray[np.int64], Floats]) -> int:
        number = len(self.channels)
        self.channels.append(channel)
        for name, (columns, values) in rows.items():
            self.entries[name].append((number, np.asarray(columns), np.asarray(values, dtype=float)))
        return number

    def matrix(self, name: str, columns: int) -> csr_array:
        rows = self.entries[name]
        shape = (len(self.channels), columns)
        if not rows:
            return csr_array(shape)
        r = np.concatenate([np.full(len(c), n) for n, c, _ in rows])
        c = np.concatenate([c for _, c, _ in rows])
        v = np.concatenate([v for _, _, v in rows])
        result = coo_array((v, (r, c)), shape=shape).tocsr()
        result.eliminate_zeros()
        return csr_array(result)


def build_gauges(system: System, gauges: dict[str, Gauge] | None = None) -> GaugeSet:
    """Maps of the description's gauges (or of those given).

    Raises
    ------
    DescriptionError
        A gauge on a point that nothing is attached to, a moment of a spring, a stress without fibres.
    """
    maps = _Maps()
    for name, gauge in (system.description.gauges if gauges is None else gauges).items():
        _BUILDERS[gauge.kind](system, maps, name, gauge)
    n, m = system.size, system.constraints.rows.shape[0]
    return GaugeSet(
        system,
        tuple(maps.channels),
        tuple(maps.readings),
        maps.matrix("displacement", n),
        maps.matrix("velocity", n),
        maps.matrix("acceleration", n),
        maps.matrix("multipliers", m),
    )


def _vector(maps: _Maps, name: str, gauge: Gauge, dimension: str, add: Callable[[int, str], int]) -> None:
    """Three components and their magnitude, or what `axis` asks for."""
    numbers = [add(d, _AXES[d]) for d in range(3)]
    for d, axis in enumerate(_AXES):
        if gauge.axis in (None, axis):
            maps.readings.append(Derived(name, axis, dimension, "single", (numbers[d],)))
    if gauge.axis in (None, "magnitude"):
        maps.readings.append(Derived(name, "magnitude", dimension, "magnitude", tuple(numbers)))


def _motion(system: System, maps: _Maps, name: str, gauge: Gauge) -> None:
    dimension, order, first = _MOTION[gauge.kind]
    nodes = [system.mesh.points[gauge.source]]
    if gauge.relative_to is not None:
        nodes.append(system.mesh.points[gauge.relative_to])
    for node, point in zip(nodes, (gauge.source, gauge.relative_to), strict=False):
        if not system.active[6 * node : 6 * node + 3].any():
            raise DescriptionError(f'gauge "{name}": nothing is attached to the point "{point}"')

    def add(d: int, axis: str) -> int:
        columns = np.array([6 * n + first + d for n in nodes])
        values = np.array([1.0, -1.0])[: len(nodes)]
        channel = Channel(name, axis, dimension, "motion", order, gauge.is_relative)
        return maps.add(channel, displacement=(columns, values))

    _vector(maps, name, gauge, dimension, add)


def _across(system: System, maps: _Maps, name: str, gauge: Gauge) -> None:
    """Force or moment across a link, joint, tie, spring or bushing, far side on near side."""
    moment = gauge.kind == "moment"
    dimension = "moment" if moment else "force"
    elastic = gauge.kind in ("force", "moment", "total_force")
    damper = gauge.kind in ("damper_force", "total_force")
    c = next((c for c in system.connectors if c.name == gauge.source), None)
    bond = system.bonds.get(gauge.source)
    if c is not None and c.kind == "spring" and moment:
        raise DescriptionError(f'gauge "{name}": the spring "{c.name}" passes no moment')

    def add(d: int, axis: str) -> int:
        row = d + (3 if moment else 0)
        rows: dict[str, tuple[NDArray[np.int64], Floats]] = {}
        if bond is not None and elastic and bond.weights[row].any():
            columns = np.arange(bond.rows.start, bond.rows.stop)
            return maps.add(Channel(name, axis, dimension, "balance"), multipliers=(columns, bond.weights[row]))
        if c is not None:
            dofs = node_dofs(np.array(c.nodes))
            if elastic:
                rows["displacement"] = (dofs, c.stiffness[row] * c.stretch[row])
            if damper:
                rows["velocity"] = (dofs, c.damping[row] * c.stretch[row])
        return maps.add(Channel(name, axis, dimension, "elastic"), **rows)

    if c is not None and c.kind == "spring":
        if gauge.axis is not None:
            raise DescriptionError(f'gauge "{name}": a spring has one force, along its axis; leave out axis')
        number = add(0, "along")
        maps.readings.append(Derived(name, "along", dimension, "single", (number,)))
        return
    _vector(maps, name, gauge, dimension, add)


def _reaction(system: System, maps: _Maps, name: str, gauge: Gauge) -> None:
    """Force or moment of the support on the assembly; of several nodes: resultant about their mean place."""
    support = system.supports[gauge.source]
    rows = np.arange(support.rows.start, support.rows.stop)
    direction = support.dofs % 6
    moment = gauge.kind == "reaction_moment"
    places = system.mesh.nodes[support.dofs // 6]
    centre = system.mesh.nodes[support.nodes].mean(axis=0)

    def add(d: int, axis: str) -> int:
        if not moment:
            weight = (direction == d).astype(float)
        else:
            unit = np.zeros((len(rows), 3))
            translation = direction < 3
            unit[translation, direction[translation]] = 1.0
            weight = np.cross(places - centre, unit)[:, d] + (direction == 3 + d)
        channel = Channel(name, axis, "moment" if moment else "force", "balance")
        return maps.add(channel, multipliers=(rows, weight))

    _vector(maps, name, gauge, "moment" if moment else "force", add)


_END_FORCES = (("N", "force"), ("Vy", "force"), ("Vz", "force"))
_END_MOMENTS = (("T", "moment"), ("My", "moment"), ("Mz", "moment"))


def _beam_end(system: System, maps: _Maps, name: str, gauge: Gauge) -> None:
    """Section forces (N tension positive, Vy, Vz) or moments (T, My, Mz) at an end, beam axes."""
    wanted = _END_FORCES if gauge.kind == "beam_force" else _END_MOMENTS
    dimension = wanted[0][1]
    offset = 0 if gauge.kind == "beam_force" else 3
    ends = [gauge.end] if gauge.end else ["start", "end"]
    for end in ends:
        numbers = []
        for d, (component, _) in enumerate(wanted):
            columns, stiff, mass = _section_rows(system, gauge.source, end)
            label = component if gauge.end else f"{component} at {end}"
            channel = Channel(name, label, dimension, "balance")
            numbers.append(
                maps.add(
                    channel,
                    displacement=(columns, stiff[offset + d]),
                    acceleration=(columns, mass[offset + d]),
                )
            )
            if gauge.axis in (None, _AXES[d]):
                maps.readings.append(Derived(name, label, dimension, "single", (numbers[-1],)))
        if gauge.axis == "magnitude":
            label = "magnitude" if gauge.end else f"magnitude at {end}"
            maps.readings.append(Derived(name, label, dimension, "magnitude", tuple(numbers)))


def _section_rows(system: System, part: str, end: str) -> tuple[NDArray[np.int64], Floats, Floats]:
    block = system.element_blocks(part)[0]
    e = 0 if end == "start" else len(block.nodes) - 1
    side = slice(0, 6) if end == "start" else slice(6, 12)
    sign = -1.0 if end == "start" else 1.0
    stiff = sign * block.local_stiffness[e] @ block.to_local[e]
    mass = sign * block.local_mass[e] @ block.to_local[e]
    return node_dofs(block.nodes[e]), stiff[side], mass[side]


def _beam_stress(system: System, maps: _Maps, name: str, gauge: Gauge) -> None:
    """Normal stress N/A + bending at the extreme fibres, both ends of every element (or one end of the run)."""
    block = system.element_blocks(gauge.source)[0]
    fibres = block.fibre_stress()
    if len(fibres) == 0:
        raise DescriptionError(
            f'gauge "{name}": the section of "{gauge.source}" has no fibres; add fibres: [[y, z], ...] to it'
        )
    places = []
    for e in range(len(block.nodes)):
        if gauge.end in (None, "start") and (gauge.end is None or e == 0):
            places.append((e, 0))
        if gauge.end in (None, "end") and (gauge.end is None or e == len(block.nodes) - 1):
            places.append((e, 1))
    if not places:
        raise SelectionError(f'gauge "{name}": no element of "{gauge.source}" to read from')
    numbers: list[int] = []
    for e, side in places:
        sign = -1.0 if side == 0 else 1.0
        rows = 6 * side + np.array([0, 4, 5])
        columns = node_dofs(block.nodes[e])
        stiff = sign * fibres @ (block.local_stiffness[e][rows] @ block.to_local[e])
        mass = sign * fibres @ (block.local_mass[e][rows] @ block.to_local[e])
        at = f"element {e + 1}, {'start' if side == 0 else 'end'}"
        for k in range(len(fibres)):
            y, z = block.section.fibres[k]
            place = f"{at}, fibre y {1e3 * y:.4g} z {1e3 * z:.4g} mm"
            channel = Channel(name, f"fibre {len(numbers) + 1}", "stress", "balance", place=place)
            numbers.append(maps.add(channel, displacement=(columns, stiff[k]), acceleration=(columns, mass[k])))
    maps.readings.append(Derived(name, "extreme fibre", "stress", "largest", tuple(numbers)))


_BUILDERS: dict[str, Callable[[System, _Maps, str, Gauge], None]] = {
    "displacement": _motion,
    "rotation": _motion,
    "velocity": _motion,
    "acceleration": _motion,
    "force": _across,
    "moment": _across,
    "damper_force": _across,
    "total_force": _across,
    "reaction": _reaction,
    "reaction_moment": _reaction,
    "beam_force": _beam_end,
    "beam_moment": _beam_end,
    "stress": _beam_stress,
}
