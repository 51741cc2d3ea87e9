"""How much of its resting force vibration takes off each one-way member: beyond 100 % it lets go."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from holokine.elements.stress import Places
from holokine.gauges.channels import ChannelBlock
from holokine.gauges.readings import Reading
from holokine.system.assemble import node_dofs

if TYPE_CHECKING:
    from holokine.gauges.maps import Maps
    from holokine.system.build import System

__all__ = ["LETS_GO", "add_resting"]

LETS_GO = "lets go"
"""Component of the readings."""


def add_resting(system: System, maps: Maps) -> None:
    """Readings for all one-way members that act in the system's state."""
    taken = set(system.description.gauges)
    for support in system.supports.values():
        resting = system.resting.get(support.name)
        feet = support.feet
        if resting is None or feet is None:
            continue
        row_of = {int(dof): support.rows.start + i for i, dof in enumerate(support.dofs)}
        touching = [(int(n), float(f)) for n, f in zip(feet.nodes, resting, strict=True) if f > 0.0]
        start = maps.count
        for node, force in touching:
            row = np.array([row_of[6 * node + feet.axis]])
            block = ChannelBlock(_named(support.name, taken), (LETS_GO,), "share", "balance")
            maps.add(block, multipliers=(row, np.array([-feet.sign / force])))
        if touching:
            nodes = np.array([n for n, _ in touching])
            places = Places.on("node", nodes + 1, system.mesh.nodes[nodes])
            how = "largest" if len(touching) > 1 else "single"
            channels = range(start, maps.count)
            maps.readings.append(
                Reading(_named(support.name, taken), LETS_GO, "share", how, channels, 1,
                        places if len(touching) > 1 else None, one_sided=True)
            )  # fmt: skip
    for c in system.connectors:
        resting = system.resting.get(c.name)
        if resting is not None and c.kind == "spring" and resting[0]:
            dofs = node_dofs(np.array(c.nodes))
            rows = (dofs, -float(c.stiffness[0]) / float(resting[0]) * c.stretch[0])
            _single(maps, _named(c.name, taken), rows)
    for part in system.description.parts:
        resting = system.resting.get(part)
        if resting is None or not resting[0] > 0.0:
            continue
        row = np.zeros(system.size)
        length = 0.0
        for e in system.element_blocks(part):
            for dofs, pull, own in e.free_forces():
                np.add.at(row, dofs.ravel(), pull.ravel())
                length += float(np.linalg.norm(own[:, 6:9], axis=1).sum())
        on = np.flatnonzero(row)
        _single(maps, _named(part, taken), (on, -row[on] / (length * float(resting[0]))))


def _named(name: str, taken: set[str]) -> str:
    return name if name not in taken else f"{name} (one way)"


def _single(maps: Maps, name: str, rows: tuple[np.ndarray, np.ndarray]) -> None:
    number = maps.add(ChannelBlock(name, (LETS_GO,), "share", "elastic"), displacement=rows)
    maps.readings.append(Reading(name, LETS_GO, "share", "single", range(number, number + 1), one_sided=True))
