"""Selecting nodes by point, part, group, set and place."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from holokine.describe.references import group_members
from holokine.errors import SelectionError, nearest_hint
from holokine.mesh.surface import face_normals, outer_faces

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints
    from holokine.describe import Description
    from holokine.describe.targets import Selection
    from holokine.mesh.mesh import Mesh

__all__ = ["one_node", "select_nodes"]


def select_nodes(mesh: Mesh, description: Description, selection: Selection, where: str) -> Ints:
    """Node numbers that a selection catches, in the order of the points or rising.

    Parameters
    ----------
    where : str
        What asks, for the message (``support "mount 1"``).

    Raises
    ------
    SelectionError
        When nothing is caught; says how far the nearest node is where that makes sense.
    """
    if selection.points is not None:
        loose = [p for p in selection.points if p not in mesh.points]
        if loose:
            raise SelectionError(f'{where}: nothing is attached to the point "{loose[0]}"')
        nodes = np.array([mesh.points[p] for p in selection.points], dtype=np.int64)
        nodes = nodes[np.sort(np.unique(nodes, return_index=True)[1])]
    elif selection.part is None and selection.group is None and selection.set is None:
        every = list(mesh.part_nodes.values())
        nodes = np.unique(np.concatenate(every)) if every else np.arange(len(mesh.nodes))
    else:
        nodes = np.arange(len(mesh.nodes))
    if selection.part is not None:
        nodes = nodes[np.isin(nodes, np.concatenate([mesh.part_nodes[p] for p in selection.part]))]
    if selection.group is not None:
        members = group_members(description, selection.group)
        own = [mesh.part_nodes[m] for m in members if m in mesh.part_nodes]
        nodes = nodes[np.isin(nodes, np.concatenate(own))] if own else nodes[:0]
    if selection.set is not None:
        if selection.set not in mesh.sets:
            hint = nearest_hint(selection.set, mesh.sets, "sets of the mesh files")
            raise SelectionError(f'{where}: there is no set "{selection.set}". {hint}')
        nodes = nodes[np.isin(nodes, mesh.sets[selection.set])]
    if len(nodes) == 0:
        raise SelectionError(f"{where}: the selection catches no node")
    for region, distance, slack in _regions(mesh, selection, nodes):
        gap = distance(mesh.nodes[nodes])
        caught = gap <= slack
        if not caught.any():
            near = mesh.nodes[nodes[np.argmin(gap)]]
            raise SelectionError(
                f"{where}: the {region} catches no node; the nearest one, at "
                f"[{near[0]:.6g}, {near[1]:.6g}, {near[2]:.6g}] m, is {gap.min():.4g} m away from it"
            )
        nodes = nodes[caught]
    if selection.normal is not None:
        nodes = _facing(mesh, selection, nodes)
        if len(nodes) == 0:
            raise SelectionError(f"{where}: no outer face looks that way within the angle; widen `within`")
    if selection.nearest is not None:
        order = np.argsort(np.linalg.norm(mesh.nodes[nodes] - selection.nearest, axis=1), kind="stable")
        nodes = np.sort(nodes[order[: selection.count]])
    return nodes


def one_node(mesh: Mesh, description: Description, target: str | Selection, where: str) -> int:
    """Node of a named point, or the one that a selection catches.

    Raises
    ------
    SelectionError
        When several are caught.
    """
    if isinstance(target, str):
        return mesh.points[target]
    nodes = select_nodes(mesh, description, target, where)
    if len(nodes) > 1:
        raise SelectionError(
            f"{where}: the selection catches {len(nodes)} nodes where one is needed: say nearest: [x, y, z], or give a "
            "point and link it to them: links: {name: {averaging: point, to: {...}}}"
        )
    return int(nodes[0])


def _regions(mesh: Mesh, selection: Selection, nodes: Ints):  # type: ignore[no-untyped-def]
    """Name, distance function and slack in m of each region that the selection names."""
    tiny = max(mesh.merge_tolerance, 1e-9)
    if selection.box is not None:
        low, high = np.sort(np.array(selection.box), axis=0)
        yield "box", lambda p: np.linalg.norm(p - np.clip(p, low, high), axis=1), tiny
    if selection.plane is not None:
        at, normal = np.array(selection.plane.at), np.array(selection.plane.normal)
        yield "plane", lambda p: np.abs((p - at) @ normal), max(selection.plane.within, tiny)
    if selection.cylinder is not None:
        c = selection.cylinder
        base, axis = np.array(c.base), np.array(c.axis)

        def outside(p: Floats) -> Floats:
            along = (p - base) @ axis
            away = np.linalg.norm(p - base - along[:, None] * axis, axis=1) - c.radius
            away = np.abs(away) if c.surface else np.maximum(away, 0.0)
            beyond = 0.0 if c.length is None else np.maximum(np.maximum(-along, along - c.length), 0.0)
            return np.hypot(away, beyond)

        yield "cylinder", outside, max(tiny, 1e-6 * c.radius)


def _facing(mesh: Mesh, selection: Selection, nodes: Ints) -> Ints:
    assert selection.normal is not None
    caught = []
    for corners, _ in outer_faces(mesh, selection.part, "all"):
        good = face_normals(mesh.nodes[corners]) @ np.array(selection.normal.along) >= np.cos(selection.normal.within)
        caught.append(corners[good].ravel())
    inside = np.unique(np.concatenate(caught)) if caught else np.zeros(0, dtype=np.int64)
    return nodes[np.isin(nodes, inside)]
