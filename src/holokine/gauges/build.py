"""Building the maps of the gauges that a description asks for."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array, csr_array

from holokine.describe.gauges import Gauge
from holokine.elements.beam import BeamElements
from holokine.elements.shell import ShellElements
from holokine.elements.solid import SolidElements
from holokine.errors import DescriptionError, SelectionError
from holokine.gauges.channels import Channel, Derived, GaugeSet
from holokine.system.assemble import assemble, node_dofs
from holokine.system.build import System

__all__ = ["build_gauges"]

Floats = NDArray[Any]  # float64
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
    blocks: list[tuple[int, csr_array]] = field(default_factory=list)
    wide: csr_array | None = None
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
        rows = list(self.entries[name])
        shape = (len(self.channels), columns)
        if name == "displacement":
            for first, A in self.blocks:
                entries = A.tocoo()
                wide = coo_array((entries.data, (entries.row + first, entries.col)), shape=shape).tocsr()
                self.wide = csr_array(wide) if self.wide is None else csr_array(self.wide + wide)
        if not rows:
            return self.wide if name == "displacement" and self.wide is not None else csr_array(shape)
        r = np.concatenate([np.full(len(c), n) for n, c, _ in rows])
        c = np.concatenate([c for _, c, _ in rows])
        v = np.concatenate([v for _, _, v in rows])
        result = coo_array((v, (r, c)), shape=shape).tocsr()
        if name == "displacement" and self.wide is not None:
            result = result + self.wide
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
    block = _beam_block(system, part)
    e = 0 if end == "start" else len(block.nodes) - 1
    side = slice(0, 6) if end == "start" else slice(6, 12)
    sign = -1.0 if end == "start" else 1.0
    stiff = sign * block.local_stiffness[e] @ block.to_local[e]
    mass = sign * block.local_mass[e] @ block.to_local[e]
    return node_dofs(block.nodes[e]), stiff[side], mass[side]


def _beam_block(system: System, part: str) -> BeamElements:
    block = system.element_blocks(part)[0]
    if not isinstance(block, BeamElements):
        raise DescriptionError(f'the part "{part}" is not made of beams')
    return block


def _stress(system: System, maps: _Maps, name: str, gauge: Gauge) -> None:
    blocks = system.element_blocks(gauge.source)
    if all(isinstance(b, BeamElements) for b in blocks):
        if gauge.component is not None or gauge.surface is not None or gauge.at is not None:
            raise DescriptionError(f'gauge "{name}": a beam stress is the normal stress at the extreme fibres only')
        _beam_stress(system, maps, name, gauge)
        return
    shells = [b for b in blocks if isinstance(b, ShellElements)]
    solids = [b for b in blocks if isinstance(b, SolidElements)]
    if gauge.end is not None:
        raise DescriptionError(f'gauge "{name}": end belongs to beams; "{gauge.source}" has none')
    if solids and gauge.surface is not None:
        raise DescriptionError(f'gauge "{name}": surface belongs to shells; "{gauge.source}" is solid')
    at = gauge.at or "centre"
    found: list[tuple[csr_array, list[str], int]] = []
    for solid in solids:
        A, places, labels = solid.stress_map(system.size, at)
        found.append((A, _labels(labels, places, ""), 6))
    sides = ("top", "bottom") if gauge.surface in (None, "both") else (str(gauge.surface),)
    for shell in shells:
        for side in sides:
            A, places, labels = shell.stress_map(system.size, at, side)
            found.append((A, _labels(labels, places, f", {side}"), 3))
    names = ("xx", "yy", "zz", "xy", "yz", "zx") if solids else ("xx", "yy", "xy")
    width = len(names)
    numbers, where = [], []
    for A, labels, own in found:
        if own != width:
            raise DescriptionError(f'gauge "{name}": the part "{gauge.source}" mixes shells and solids')
        first = len(maps.channels)
        for label in labels:
            for c in names:
                maps.channels.append(Channel(name, c, "stress", "elastic", place=label))
        maps.blocks.append((first, A))
        numbers += list(range(first, len(maps.channels)))
        where += labels
    component = gauge.component or "equivalent"
    if component in ("equivalent", "principal"):
        maps.readings.append(Derived(name, component, "stress", component, tuple(numbers), width, tuple(where)))
        return
    wanted = names if component == "components" else (component,)
    for c in wanted:
        if c not in names:
            raise DescriptionError(f'gauge "{name}": shells have the components {", ".join(names)}, not {c}')
        picked = tuple(numbers[names.index(c) :: width])
        maps.readings.append(Derived(name, c, "stress", "largest", picked, 1, tuple(where)))


def _labels(labels: list[str], places: Floats, more: str) -> list[str]:
    return [
        f"{label} at [{p[0]:.0f}, {p[1]:.0f}, {p[2]:.0f}] mm{more}"
        for label, p in zip(labels, 1e3 * places, strict=True)
    ]


def _cut(system: System, maps: _Maps, name: str, gauge: Gauge) -> None:
    """Force and moment that what lies beyond a plane passes to the rest, about the plane's point, global axes.

    The sum of nodal forces k u + m ü of the elements beyond on the nodes that they share with the rest.
    """
    assert gauge.plane is not None
    at, normal = np.array(gauge.plane.at), np.array(gauge.plane.normal)
    members = [gauge.source] if gauge.source in system.description.parts else system.members(gauge.source)
    nodes = np.arange(len(system.mesh.nodes))
    beyond_nodes, rest_nodes = np.zeros(len(nodes), dtype=bool), np.zeros(len(nodes), dtype=bool)
    parts: list[tuple[NDArray[np.int64], Floats, Floats]] = []
    for part in members:
        for block in system.element_blocks(part):
            beyond = (system.mesh.nodes[block.nodes].mean(axis=1) - at) @ normal > 0
            rest_nodes[block.nodes[~beyond].ravel()] = True
            beyond_nodes[block.nodes[beyond].ravel()] = True
            start = 0
            for dofs, k, m in block.chunks():
                chosen = beyond[start : start + len(dofs)]
                start += len(dofs)
                if chosen.any():
                    parts.append((dofs[chosen], k[chosen], m[chosen]))
    shared = beyond_nodes & rest_nodes
    if not shared.any():
        raise DescriptionError(
            f'gauge "{name}": the plane cuts nothing of "{gauge.source}": no node is shared by elements on both sides'
        )
    K, M = (assemble(system.size, [(d, (k, m)[i]) for d, k, m in parts]) for i in range(2))
    R: Any = system.rigid_motions(at).reshape(6, -1, 6).copy()
    R[:, ~shared] = 0.0
    R = R.reshape(6, -1)
    moment = gauge.kind == "cut_moment"
    dimension = "moment" if moment else "force"

    # nodal forces of the far elements act on their own nodes; the rest feels the opposite
    def add(d: int, axis: str) -> int:
        row = -R[d + (3 if moment else 0)]
        k, m = K.T @ row, M.T @ row
        on_k, on_m = np.flatnonzero(k), np.flatnonzero(m)
        channel = Channel(name, axis, dimension, "balance")
        return maps.add(channel, displacement=(on_k, k[on_k]), acceleration=(on_m, m[on_m]))

    _vector(maps, name, gauge, dimension, add)


def _beam_stress(system: System, maps: _Maps, name: str, gauge: Gauge) -> None:
    """Normal stress N/A + bending at the extreme fibres, both ends of every element (or one end of the run)."""
    block = _beam_block(system, gauge.source)
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
    "stress": _stress,
    "cut_force": _cut,
    "cut_moment": _cut,
}
