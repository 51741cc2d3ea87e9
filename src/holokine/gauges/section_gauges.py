"""Section forces at beam ends, and across a plane through parts."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.errors import DescriptionError
from holokine.gauges.channels import ChannelBlock
from holokine.gauges.maps import Maps, Row, builds, vector
from holokine.system.assemble import assemble, node_dofs

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe.gauges import Gauge
    from holokine.system.build import System


@builds("beam_force", "beam_moment")
def beam_end(system: System, maps: Maps, name: str, gauge: Gauge) -> None:
    """Section forces (N tension positive, Vy, Vz) or moments (T, My, Mz) at an end, beam axes."""
    dimension, names, offset = ("force", ("N", "Vy", "Vz"), 0)
    if gauge.kind == "beam_moment":
        dimension, names, offset = ("moment", ("T", "My", "Mz"), 3)
    block = ChannelBlock(name, ("",), dimension, "balance", portion=gauge.passed)
    for end in [gauge.end] if gauge.end else ["start", "end"]:
        columns, stiff, mass, grown = _section_rows(system, gauge.source, end)

        def row(d: int, rows: tuple[Any, ...] = (columns, stiff, mass, grown)) -> Row:
            columns, stiff, mass, grown = rows
            maps_ = {"displacement": (columns, stiff[offset + d]), "acceleration": (columns, mass[offset + d])}
            return Row(maps_, {gauge.source: -float(stiff[offset + d] @ grown)})

        vector(maps, gauge.axis, block, row, names=names, after="" if gauge.end else f" at {end}")


def _section_rows(system: System, part: str, end: str) -> tuple[NDArray[np.int64], Floats, Floats, Floats]:
    """Motions of the element at an end, section forces from displacement and acceleration, and its free growth."""
    blocks = system.element_blocks(part)
    block, e = (blocks[0], 0) if end == "start" else (blocks[-1], -1)
    rows = block.end_rows(end)
    if rows is None:
        raise DescriptionError(f'the part "{part}" is not made of beams', path=("parts", part))
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
    def along(d: int) -> Row:
        row = -R[d + (3 if moment else 0)]
        k, m = K.T @ row, M.T @ row
        on_k, on_m = np.flatnonzero(k), np.flatnonzero(m)
        found = Row({"displacement": (on_k, k[on_k]), "acceleration": (on_m, m[on_m])})
        for part, dofs, forces in grown:
            found.free[part] = found.free.get(part, 0.0) - float(np.vdot(row[dofs], forces))
        return found

    vector(maps, gauge.axis, ChannelBlock(name, ("",), dimension, "balance", portion=gauge.passed), along)
