"""Motion of a point, or of one point relative to another."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.errors import DescriptionError
from holokine.gauges.channels import ChannelBlock
from holokine.gauges.maps import Maps, Row, builds, vector
from holokine.mesh.select import select_nodes

if TYPE_CHECKING:
    from holokine.describe.gauges import Gauge
    from holokine.system.build import System

_MOTION = {
    "displacement": ("displacement", 0, 0),
    "rotation": ("angle", 0, 3),
    "velocity": ("velocity", 1, 0),
    "acceleration": ("acceleration", 2, 0),
}  # dimension, order, first direction


@builds("displacement", "rotation", "velocity", "acceleration")
def motion(system: System, maps: Maps, name: str, gauge: Gauge) -> None:
    dimension, order, first = _MOTION[gauge.kind]
    where = f'gauge "{name}"'
    sets = [_nodes(system, where, getattr(gauge, gauge.kind), first)]
    if gauge.relative_to is not None:
        sets.append(_nodes(system, where, gauge.relative_to, first))

    def row(d: int) -> Row:
        columns = np.concatenate([6 * nodes + first + d for nodes in sets])
        values = np.concatenate([np.full(len(n), s / len(n)) for n, s in zip(sets, (1.0, -1.0), strict=False)])
        return Row({"displacement": (columns, values)})

    vector(maps, gauge.axis, ChannelBlock(name, ("",), dimension, "motion", order, gauge.is_relative), row)


def _nodes(system: System, where: str, at: Any, first: int) -> NDArray[np.int64]:
    """Node of a point, or nodes of a selection (or of several) that something moves in these directions."""
    if isinstance(at, str):
        return np.array([system.node(at, where)])
    each = at if isinstance(at, tuple) else (at,)
    nodes = np.unique(np.concatenate([select_nodes(system.mesh, system.description, one, where) for one in each]))
    if first and not system.active.reshape(-1, 6)[nodes, 3:].all():
        raise DescriptionError(f"{where}: some of the nodes have no rotation (nodes of solids have none)")
    return nodes
