"""Section forces at beam ends, and across a plane through parts."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.errors import DescriptionError
from holokine.gauges.channels import ChannelBlock
from holokine.gauges.maps import AXES, Maps, builds, vector
from holokine.gauges.readings import Reading
from holokine.system.assemble import assemble, node_dofs

if TYPE_CHECKING:
    from holokine.describe.gauges import Gauge
    from holokine.system.build import System

Floats = NDArray[Any]  # float64
_END_FORCES = (("N", "force"), ("Vy", "force"), ("Vz", "force"))
_END_MOMENTS = (("T", "moment"), ("My", "moment"), ("Mz", "moment"))


@builds("beam_force", "beam_moment")
def beam_end(system: System, maps: Maps, name: str, gauge: Gauge) -> None:
    """Section forces (N tension positive, Vy, Vz) or moments (T, My, Mz) at an end, beam axes."""
    wanted = _END_FORCES if gauge.kind == "beam_force" else _END_MOMENTS
    dimension = wanted[0][1]
    offset = 0 if gauge.kind == "beam_force" else 3
    ends = [gauge.end] if gauge.end else ["start", "end"]
    for end in ends:
        numbers = []
        for d, (component, _) in enumerate(wanted):
            columns, stiff, mass, grown = _section_rows(system, gauge.source, end)
            label = component if gauge.end else f"{component} at {end}"
            channel = ChannelBlock(name, (label,), dimension, "balance")
            numbers.append(
                maps.add(
                    channel,
                    free={gauge.source: -float(stiff[offset + d] @ grown)},
                    displacement=(columns, stiff[offset + d]),
                    acceleration=(columns, mass[offset + d]),
                )
            )
            if gauge.axis in (None, AXES[d]):
                channels = range(numbers[-1], numbers[-1] + 1)
                maps.readings.append(Reading(name, label, dimension, "single", channels))
        if gauge.axis == "magnitude":
            label = "magnitude" if gauge.end else f"magnitude at {end}"
            maps.readings.append(Reading(name, label, dimension, "magnitude", range(numbers[0], numbers[0] + 3), 3))


def _section_rows(system: System, part: str, end: str) -> tuple[NDArray[np.int64], Floats, Floats, Floats]:
    """Motions of the element at an end, section forces from displacement and acceleration, and its free growth."""
    blocks = system.element_blocks(part)
    block, e = (blocks[0], 0) if end == "start" else (blocks[-1], -1)
    rows = block.end_rows(end)
    if rows is None:
        raise DescriptionError(f'the part "{part}" is not made of beams')
    nodes, stiff, mass = rows
    return node_dofs(nodes), stiff, mass, block.expansion()[e]


@builds("cut_force", "cut_moment")
def cut(system: System, maps: Maps, name: str, gauge: Gauge) -> None:
    """Force and moment that what lies beyond a plane passes to the rest, about the plane's point, global axes.

    The sum of nodal forces k u + m ü of the elements beyond on the nodes that they share with the rest.
    """
    assert gauge.plane is not None
    at, normal = np.array(gauge.plane.at), np.array(gauge.plane.normal)
    members = [gauge.source] if gauge.source in system.description.parts else system.members(gauge.source)
    nodes = np.arange(len(system.mesh.nodes))
    beyond_nodes, rest_nodes = np.zeros(len(nodes), dtype=bool), np.zeros(len(nodes), dtype=bool)
    parts: list[tuple[NDArray[np.int64], Floats, Floats]] = []
    grown: list[tuple[str, NDArray[np.int64], Floats]] = []
    for part in members:
        for block in system.element_blocks(part):
            beyond = (system.mesh.nodes[block.nodes].mean(axis=1) - at) @ normal > 0
            rest_nodes[block.nodes[~beyond].ravel()] = True
            beyond_nodes[block.nodes[beyond].ravel()] = True
            start, expansion = 0, block.expansion()
            for dofs, k, m in block.chunks():
                chosen = beyond[start : start + len(dofs)]
                start += len(dofs)
                if chosen.any():
                    parts.append((dofs[chosen], k[chosen], m[chosen]))
                    own = np.einsum("eij,ej->ei", k[chosen], expansion[start - len(dofs) : start][chosen])
                    grown.append((part, dofs[chosen], own))
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
        channel = ChannelBlock(name, (axis,), dimension, "balance")
        free: dict[str, float] = {}
        for part, dofs, forces in grown:
            free[part] = free.get(part, 0.0) - float(np.vdot(row[dofs], forces))
        return maps.add(channel, free=free, displacement=(on_k, k[on_k]), acceleration=(on_m, m[on_m]))

    vector(maps, name, gauge, dimension, add)
