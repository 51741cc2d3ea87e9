"""Forces and moments across connections, and of supports."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from holokine.errors import DescriptionError, first_few, nearest_hint
from holokine.gauges.channels import ChannelBlock
from holokine.gauges.maps import Maps, Row, builds, vector
from holokine.system.assemble import node_dofs

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.describe.gauges import Gauge
    from holokine.system.build import System
    from holokine.system.links import SupportRows

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

    def row(d: int) -> Row:
        k = d + (3 if moment else 0)
        found = Row()
        if bond is not None and elastic and bond.weights[k].any():
            columns = np.arange(bond.rows.start, bond.rows.stop)
            found.entries["multipliers"] = (columns, bond.weights[k])
        elif c is not None:
            dofs = node_dofs(np.array(c.nodes))
            if elastic:
                found.entries["displacement"] = (dofs, c.stiffness[k] * c.stretch[k])
                if k == 0:
                    found.free[gauge.source] = 1.0
            if damper:
                found.entries["velocity"] = (dofs, c.damping[k] * c.stretch[k])
        return found

    if bond is None and gauge.portion is not None:
        raise DescriptionError(
            f'gauge "{name}": "{gauge.source}" has a force (elastic), damper force and total force; leave out portion'
        )
    block = ChannelBlock(name, ("",), dimension, "elastic" if bond is None else "balance", portion=gauge.passed)
    if c is not None and c.kind == "spring":
        if gauge.axis is not None:
            raise DescriptionError(f'gauge "{name}": a spring has one force, along its axis; leave out axis')
        vector(maps, (1.0, 0.0, 0.0), block, row)
        return
    vector(maps, gauge.axis, block, row)


@builds("reaction", "reaction_moment")
def reaction(system: System, maps: Maps, name: str, gauge: Gauge) -> None:
    """Force or moment of supports on the assembly: resultant about the mean place of their nodes, or of each."""
    supports = [system.supports[s] for s in getattr(gauge, gauge.kind)]
    every = np.unique(np.concatenate([s.nodes for s in supports]))
    about = None if gauge.about is None else system.mesh.nodes[system.node(gauge.about, f'gauge "{name}"')]
    moment = gauge.kind == "reaction_moment"
    dimension = "moment" if moment else "force"

    def read(nodes: Ints, prefix: str) -> None:
        centre = system.mesh.nodes[nodes].mean(axis=0) if about is None else about
        each = [_of_support(system, support, nodes, centre, moment) for support in supports]
        block = ChannelBlock(name, ("",), dimension, "balance", portion=gauge.passed)
        vector(maps, gauge.axis, block, lambda d: Row.along((1.0,) * len(each), [r[d] for r in each]), prefix=prefix)

    called = {node: point for point, node in system.mesh.points.items()}
    if gauge.point is not None:
        node = system.node(gauge.point, f'gauge "{name}"')
        if node not in every:
            known = [called[n] for n in every.tolist() if n in called]
            hint = nearest_hint(gauge.point, known, f"named points of that support ({len(every)} nodes)")
            raise DescriptionError(
                f'gauge "{name}": the point "{gauge.point}" is not held by {_named(supports)}. {hint}'
            )
        read(np.array([node]), "")
    elif gauge.by_point:
        if len(every) > MOST_POINTS:
            raise DescriptionError(
                f'gauge "{name}": {_named(supports)} has {len(every):,} nodes, more than '
                f"{MOST_POINTS} to read one by one; name a point, or split the support"
            )
        for node in every.tolist():
            x, y, z = 1e3 * system.mesh.nodes[node]
            read(np.array([node]), called.get(node, f"[{x:.4g}, {y:.4g}, {z:.4g}] mm") + " ")
    else:
        read(every, "")


def _named(supports: list[SupportRows]) -> str:
    """In words."""
    names = first_few([s.name for s in supports], 6)
    return f'the support "{names}"' if len(supports) == 1 else f"the group of supports {names}"


def _of_support(system: System, support: SupportRows, nodes: Ints, centre: Floats, moment: bool) -> list[Row]:
    """Force, or moment about a place, of some nodes of a support, along x y z, friction included."""
    own = np.isin(support.dofs // 6, nodes)
    rows = np.arange(support.rows.start, support.rows.stop)[own]
    direction, places = support.dofs[own] % 6, system.mesh.nodes[support.dofs[own] // 6]
    unit = np.zeros((len(rows), 3))
    translation = direction < 3
    unit[translation, direction[translation]] = 1.0
    found = []
    for d in range(3):
        weight = unit[:, d]
        if moment:
            weight = np.cross(places - centre, unit)[:, d] + (direction == 3 + d)
        found.append(Row({"multipliers": (rows, weight)}))
    feet = support.feet
    if feet is None or not feet.friction:
        return found
    held = {c.nodes[0]: c for c in system.connectors if c.name == f"{support.name} friction"}
    each = [[row] for row in found]
    for node in feet.nodes[np.isin(feet.nodes, nodes)].tolist():
        arm = np.cross(system.mesh.nodes[node] - centre, np.eye(3)) if moment else np.eye(3)  # of unit forces
        for d in range(3):
            on = np.flatnonzero(arm[:, d])
            row = Row(free={friction_name(support.name, node, axis): float(arm[axis, d]) for axis in on.tolist()})
            if node in held:
                stiff = -held[node].stiffness[:3] * arm[:, d]
                on = np.flatnonzero(stiff)
                row.entries["displacement"] = 6 * node + on, stiff[on]
            each[d].append(row)
    return [Row.along((1.0,) * len(rows), rows) for rows in each]
