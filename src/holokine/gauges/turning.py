"""How far members turn: motion of their far ends against each other across their length, over that length.

Linear answers take the geometry as given, which is good while members turn by little. No table shows these channels;
answers look at them.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from holokine.gauges.channels import ChannelBlock, Channels
from holokine.gauges.readings import Reading

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.gauges.maps import Maps
    from holokine.system.build import System

__all__ = ["add_turning", "turning"]


def add_turning(system: System, maps: Maps) -> None:
    """Three channels, in rad, for every part."""
    for part, nodes in system.mesh.part_nodes.items():
        ends = _far_apart(system.mesh.nodes, nodes[system.active[6 * nodes]])
        if ends is None:
            continue
        a, b = ends
        along = system.mesh.nodes[b] - system.mesh.nodes[a]
        length = float(np.linalg.norm(along))
        across = (np.eye(3) - np.outer(along, along) / length**2) / length
        columns = np.concatenate([6 * b + np.arange(3), 6 * a + np.arange(3)])
        for d, axis in enumerate("xyz"):
            block = ChannelBlock(part, (axis,), "angle", "motion", aside=True)
            maps.add(block, displacement=(columns, np.concatenate([across[d], -across[d]])))


def _far_apart(places: Floats, nodes: NDArray[np.int64]) -> tuple[int, int] | None:
    """Two nodes about as far apart as any of these; None where all are in one place."""
    if len(nodes) < 2:
        return None
    own = places[nodes]
    first = int(np.linalg.norm(own - own.mean(axis=0), axis=1).argmax())
    away = np.linalg.norm(own - own[first], axis=1)
    return (int(nodes[first]), int(nodes[int(away.argmax())])) if away.max() > 0.0 else None


def turning(channels: Channels) -> tuple[list[str], Reading | None]:
    """Members in the order of their channels, and a reading whose places they are; None without any."""
    own = [(block.gauge, at.start) for block, at in zip(channels.blocks, channels.slices, strict=True) if block.aside]
    if not own:
        return [], None
    first, names = own[0][1], [name for name, _ in own[::3]]
    return names, Reading("members", "turn", "angle", "magnitude", range(first, first + len(own)), 3)
