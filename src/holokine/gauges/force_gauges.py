"""Forces and moments across connections, and of supports."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.errors import DescriptionError, nearest_hint
from holokine.gauges.channels import ChannelBlock
from holokine.gauges.maps import Maps, builds, vector
from holokine.gauges.readings import Reading
from holokine.system.assemble import node_dofs

if TYPE_CHECKING:
    from holokine.describe.gauges import Gauge
    from holokine.system.build import System

Floats = NDArray[Any]  # float64
Ints = NDArray[Any]  # int64
MOST_POINTS = 500


def friction_name(support: str, node: int, axis: int) -> str:
    """Of what friction on a foot has beside rows and springs, for `GaugeSet.of_free`."""
    return f"{support} friction {node} {'xyz'[axis]}"


@builds("force", "moment", "damper_force", "total_force")
def across(system: System, maps: Maps, name: str, gauge: Gauge) -> None:
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
            return maps.add(ChannelBlock(name, (axis,), dimension, "balance"), multipliers=(columns, bond.weights[row]))
        if c is not None:
            dofs = node_dofs(np.array(c.nodes))
            if elastic:
                rows["displacement"] = (dofs, c.stiffness[row] * c.stretch[row])
            if damper:
                rows["velocity"] = (dofs, c.damping[row] * c.stretch[row])
        free = {gauge.source: 1.0} if c is not None and row == 0 and elastic else None
        return maps.add(ChannelBlock(name, (axis,), dimension, "elastic"), free=free, **rows)

    if c is not None and c.kind == "spring":
        if gauge.axis is not None:
            raise DescriptionError(f'gauge "{name}": a spring has one force, along its axis; leave out axis')
        number = add(0, "along")
        maps.readings.append(Reading(name, "along", dimension, "single", range(number, number + 1)))
        return
    vector(maps, name, gauge, dimension, add)


@builds("reaction", "reaction_moment")
def reaction(system: System, maps: Maps, name: str, gauge: Gauge) -> None:
    """Force or moment of the support on the assembly; of several nodes: resultant about their mean place, or each."""
    support = system.supports[gauge.source]
    moment = gauge.kind == "reaction_moment"
    dimension = "moment" if moment else "force"

    def read(nodes: Ints, prefix: str) -> None:
        own = np.isin(support.dofs // 6, nodes)
        rows = np.arange(support.rows.start, support.rows.stop)[own]
        direction, places = support.dofs[own] % 6, system.mesh.nodes[support.dofs[own] // 6]
        centre = system.mesh.nodes[nodes].mean(axis=0)

        def add(d: int, axis: str) -> int:
            if not moment:
                weight = (direction == d).astype(float)
            else:
                unit = np.zeros((len(rows), 3))
                translation = direction < 3
                unit[translation, direction[translation]] = 1.0
                weight = np.cross(places - centre, unit)[:, d] + (direction == 3 + d)
            channel = ChannelBlock(name, (prefix + axis,), dimension, "balance", portion=gauge.portion or "")
            held = [c for c in system.connectors if c.name == f"{support.name} friction" and c.nodes[0] in nodes]
            feet = support.feet
            if feet is None or not feet.friction or moment:
                return maps.add(channel, multipliers=(rows, weight))
            dofs = np.array([6 * c.nodes[0] + d for c in held], dtype=np.int64)
            friction = -np.array([c.stiffness[d] for c in held])
            free = {friction_name(support.name, node, d): 1.0 for node in feet.nodes.tolist() if node in nodes}
            return maps.add(channel, free=free, multipliers=(rows, weight), displacement=(dofs, friction))

        vector(maps, name, gauge, dimension, add, prefix)

    called = {node: point for point, node in system.mesh.points.items()}
    if gauge.point is not None:
        node = system.node(gauge.point, f'gauge "{name}"')
        if node not in support.nodes:
            known = [called[n] for n in support.nodes.tolist() if n in called]
            hint = nearest_hint(gauge.point, known, f"named points of that support ({len(support.nodes)} nodes)")
            raise DescriptionError(
                f'gauge "{name}": the point "{gauge.point}" is not held by the support "{support.name}". {hint}'
            )
        read(np.array([node]), "")
    elif gauge.by_point:
        if len(support.nodes) > MOST_POINTS:
            raise DescriptionError(
                f'gauge "{name}": the support "{support.name}" has {len(support.nodes):,} nodes, more than '
                f"{MOST_POINTS} to read one by one; name a point, or split the support"
            )
        for node in support.nodes.tolist():
            x, y, z = 1e3 * system.mesh.nodes[node]
            read(np.array([node]), called.get(node, f"[{x:.4g}, {y:.4g}, {z:.4g}] mm") + " ")
    else:
        read(support.nodes, "")
