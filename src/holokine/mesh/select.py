"""Selecting nodes by point, part, group and box."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from holokine.describe import Description
from holokine.describe.references import group_members
from holokine.describe.targets import Selection
from holokine.errors import SelectionError
from holokine.mesh.mesh import Mesh

__all__ = ["select_nodes"]


def select_nodes(mesh: Mesh, description: Description, selection: Selection, where: str) -> NDArray[np.int64]:
    """Node numbers that a selection catches, in the order of the points or rising.

    Parameters
    ----------
    where : str
        What asks, for the message (``support "mount 1"``).

    Raises
    ------
    SelectionError
        When nothing is caught.
    """
    if selection.points is not None:
        nodes = np.array([mesh.points[p] for p in selection.points], dtype=np.int64)
        nodes = nodes[np.sort(np.unique(nodes, return_index=True)[1])]
    elif selection.part is not None or selection.group is None:
        nodes = np.arange(len(mesh.nodes))
        if selection.part is not None:
            nodes = mesh.part_nodes[selection.part]
    else:
        nodes = np.arange(len(mesh.nodes))
    if selection.part is not None and selection.points is not None:
        nodes = nodes[np.isin(nodes, mesh.part_nodes[selection.part])]
    if selection.group is not None:
        members = group_members(description, selection.group)
        own = [mesh.part_nodes[m] for m in members if m in mesh.part_nodes]
        inside = np.unique(np.concatenate(own)) if own else np.zeros(0, dtype=np.int64)
        nodes = nodes[np.isin(nodes, inside)]
    if selection.box is not None and len(nodes):
        low, high = np.sort(np.array(selection.box), axis=0)
        slack = max(mesh.merge_tolerance, 1e-9)
        place = mesh.nodes[nodes]
        caught = ((place >= low - slack) & (place <= high + slack)).all(axis=1)
        if not caught.any():
            centre = np.clip(place, low, high)
            gap = np.linalg.norm(place - centre, axis=1)
            near = place[np.argmin(gap)]
            raise SelectionError(
                f"{where}: the box catches no node; the nearest one, at "
                f"[{near[0]:.6g}, {near[1]:.6g}, {near[2]:.6g}] m, is {gap.min():.4g} m outside"
            )
        nodes = nodes[caught]
    if len(nodes) == 0:
        raise SelectionError(f"{where}: the selection catches no node")
    return nodes
