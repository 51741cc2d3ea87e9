"""Meshing the geometries of parts: plates, cylinders, boxes, tubes, extrusions."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from holokine.arrays import Floats, Ints
from holokine.errors import MeshError, entry
from holokine.mesh.grids import (
    brick_layers,
    convert,
    grid_lines,
    hole_square,
    on_circles,
    planar_grid,
    pushed,
    surface_cells,
)
from holokine.mesh.outlines import Outlined, Sheet, meet

if TYPE_CHECKING:
    from holokine.describe.parts import Box, Cylinder, Extrusion, Part, Plate, Tube

__all__ = ["mesh_geometry", "normal_axes", "outlined"]

Meshed = tuple[Floats, Ints, str]


def mesh_geometry(name: str, part: Part) -> tuple[Floats, list[tuple[Ints, str]]]:
    """Nodes (n, 3) in m, and cells with their kind, of a part that is a grid or extruded."""
    with entry("part", name):
        if part.extrusion is not None and not part.extrusion.is_grid:
            return _pushed_outline(name, part.extrusion)
        points, cells, kind = _grid(part)
    return points, [(cells, kind)]


def outlined(
    sheets: list[Sheet], parts: dict[str, Part], tiny: float
) -> dict[str, tuple[Floats, list[tuple[Ints, str]]]]:
    """Nodes (n, 3) in m, and cells with their kind, of plates of any outline, by part."""
    meet(sheets, tiny)
    meshes = Outlined(tiny)
    result = {}
    for sheet in sheets:
        shape = parts[sheet.name].plate
        assert shape is not None
        with entry("part", sheet.name):
            points, cells, bent = meshes.mesh(sheet, shape.cells == "quads")
            points, blocks = surface_cells(points, cells, shape.quadratic, bent)
        result[sheet.name] = sheet.space(points), blocks
    return result


def _pushed_outline(name: str, s: Extrusion) -> tuple[Floats, list[tuple[Ints, str]]]:
    sheet = Sheet.of(name, s)
    tiny = 1e-7 * sheet.extent()
    points, cells, bent = Outlined(tiny).mesh(sheet, s.cells == "bricks")
    zs = grid_lines(s.length, None, s.size, _refined(s, 3), [])
    flat, blocks = pushed(points, cells, zs, s.cells, s.quadratic, bent)
    return sheet.origin + flat @ sheet.frame, blocks


def _grid(part: Part) -> Meshed:
    if part.plate is not None:
        return _plate(part.plate)
    if part.cylinder is not None:
        return _cylinder(part.cylinder)
    if part.box is not None:
        return _box(part.box)
    if part.tube is not None:
        return _tube(part.tube)
    assert part.extrusion is not None
    return _extrusion(part.extrusion)


def normal_axes(axis: tuple[float, ...], start: tuple[float, ...] | None) -> Floats:
    """Rows: radial start direction, tangent, axis."""
    z = np.array(axis) / np.linalg.norm(axis)
    guess = np.array(start) if start is not None else np.eye(3)[np.argmin(np.abs(z).round(9))]
    x = guess - (guess @ z) * z
    if np.linalg.norm(x) < 1e-6:
        raise MeshError("start runs along the axis; choose another direction for it")
    x = x / np.linalg.norm(x)
    return np.stack([x, np.cross(z, x), z])


def _counts(divisions: tuple[int, ...] | None, sides: int) -> list[int | None]:
    if divisions is None:
        return [None] * sides
    return list(divisions) if len(divisions) == sides else [divisions[0]] * sides


def _refined(shape: object, side: int) -> list[tuple[float, float, int]]:
    return [(r.start, r.end, r.times) for r in shape.refine if r.side == side]  # type: ignore[attr-defined]


def _hole_lines(holes: tuple, side: int) -> list[float]:
    lines = []
    for h in holes:
        half = hole_square(h.diameter / 2.0) if h.diameter is not None else h.size[side] / 2.0
        lines += [h.at[side] - half, h.at[side] + half]
        if h.diameter is not None:
            lines.append(h.at[side])
    return lines


def _hole_lists(
    holes: tuple,
) -> tuple[list[tuple[float, float, float]], list[tuple[float, float, float, float]]]:
    circles = [(h.at[0], h.at[1], h.diameter / 2.0) for h in holes if h.diameter is not None]
    boxes = [
        (h.at[0] - h.size[0] / 2, h.at[0] + h.size[0] / 2, h.at[1] - h.size[1] / 2, h.at[1] + h.size[1] / 2)
        for h in holes
        if h.size is not None
    ]
    return circles, boxes


def _check_inside(holes: tuple, lengths: tuple[float, float]) -> None:
    for h in holes:
        for side in range(2):
            half = h.diameter / 2.0 if h.diameter is not None else h.size[side] / 2.0
            if h.at[side] - half < -1e-12 or h.at[side] + half > lengths[side] + 1e-12:
                raise MeshError(f"the hole at [{h.at[0]:g}, {h.at[1]:g}] m reaches beyond the edge")


def _plate(s: Plate) -> Meshed:
    if s.corners is not None:
        c = np.array(s.corners)
    else:
        assert s.corner is not None
        assert s.sides is not None
        a, u, v = np.array(s.corner), np.array(s.sides[0]), np.array(s.sides[1])
        c = np.array([a, a + u, a + u + v, a + v])
    lengths = (float(np.linalg.norm(c[1] - c[0])), float(np.linalg.norm(c[3] - c[0])))
    if min(lengths) <= 0 or np.linalg.norm(np.cross(c[2] - c[0], c[3] - c[1])) < 1e-12 * lengths[0] * lengths[1]:
        raise MeshError("the corners span no area")
    _check_inside(s.holes, lengths)
    n = _counts(s.divisions, 2)
    lines = [grid_lines(lengths[k], n[k], s.size, _refined(s, k + 1), _hole_lines(s.holes, k)) for k in range(2)]
    points, cells = planar_grid(lines[0], lines[1], *_hole_lists(s.holes))
    points, cells, kind = convert(points, cells, s.cells, s.quadratic)
    points = on_circles(points, cells, kind, _hole_lists(s.holes)[0])
    p, q = points[:, :1] / lengths[0], points[:, 1:] / lengths[1]
    return (1 - p) * (1 - q) * c[0] + p * (1 - q) * c[1] + p * q * c[2] + (1 - p) * q * c[3], cells, kind


def _cylinder(s: Cylinder) -> Meshed:
    frame = normal_axes(s.axis, s.start)
    end = s.end_radius if s.end_radius is not None else s.radius
    around = abs(s.angle) * max(s.radius, end)
    n = _counts(s.divisions, 2)
    a = grid_lines(around, n[0], s.size, _refined(s, 1), [])
    b = grid_lines(s.length, n[1], s.size, _refined(s, 2), [])
    points, cells = planar_grid(a, b, [], [])
    points, cells, kind = convert(points, cells, s.cells, s.quadratic)
    angle, height = s.angle * points[:, 0] / around, points[:, 1]
    radius = s.radius + (end - s.radius) * height / s.length
    local = np.column_stack([radius * np.cos(angle), radius * np.sin(angle), height])
    return _seam(np.array(s.base) + local @ frame, cells, kind)


def _solid_lines(s: Box | Tube | Extrusion, lengths: tuple[float, float, float], holes: tuple = ()) -> list[Floats]:
    n = _counts(s.divisions, 3)
    fixed = [_hole_lines(holes, 0), _hole_lines(holes, 1), []]
    return [grid_lines(lengths[k], n[k], s.size, _refined(s, k + 1), fixed[k]) for k in range(3)]


def _box(s: Box) -> Meshed:
    sides = np.array(s.sides)
    if np.linalg.det(sides) == 0.0:
        raise MeshError("the three sides span no volume")
    if np.linalg.det(sides) < 0:
        raise MeshError("the three sides are left-handed: swap two of them")
    lengths = tuple(np.linalg.norm(sides, axis=1))
    lines = _solid_lines(s, lengths)  # type: ignore[arg-type]
    points, cells = brick_layers(planar_grid(lines[0], lines[1], [], []), lines[2])
    points, cells, kind = convert(points, cells, s.cells, s.quadratic)
    return np.array(s.corner) + (points / lengths) @ sides, cells, kind


def _tube(s: Tube) -> Meshed:
    frame = normal_axes(s.axis, s.start)
    middle = (s.inner + s.outer) / 2.0
    lengths = (s.outer - s.inner, abs(s.angle) * middle, s.length)
    lines = _solid_lines(s, lengths)
    points, cells = brick_layers(planar_grid(lines[0], lines[1], [], []), lines[2])
    points, cells, kind = convert(points, cells, s.cells, s.quadratic)
    radius, angle = s.inner + points[:, 0], s.angle * points[:, 1] / lengths[1]
    local = np.column_stack([radius * np.cos(angle), radius * np.sin(angle), points[:, 2]])
    return _seam(np.array(s.base) + local @ frame, cells, kind)


def _extrusion(s: Extrusion) -> Meshed:
    x = np.array(s.plane.x)
    y = np.array(s.plane.y) - (np.array(s.plane.y) @ x) * x
    y = y / np.linalg.norm(y)
    frame = np.stack([x, y, np.cross(x, y)])
    outline = np.array([c for c in s.outline if isinstance(c, tuple)])
    low, high = outline.min(axis=0), outline.max(axis=0)
    lengths = (*(high - low), s.length)
    if min(lengths) <= 0:
        raise MeshError("the outline spans no area")
    edges = np.roll(outline, -1, axis=0) - outline
    square = (np.abs(edges).min(axis=1) < 1e-9 * max(lengths)).all()
    n = _counts(s.divisions, 3)
    zs = grid_lines(s.length, n[2], s.size, _refined(s, 3), [])
    if square:
        corner_lines = [sorted(set((outline[:, k] - low[k]).round(12))) for k in range(2)]
        places = [np.array(h.at) - low for h in s.holes]
        shifted = tuple(h.model_copy(update={"at": tuple(p)}) for h, p in zip(s.holes, places, strict=True))
        lines = [
            grid_lines(lengths[k], n[k], s.size, _refined(s, k + 1), _hole_lines(shifted, k) + corner_lines[k])
            for k in range(2)
        ]
        plane = planar_grid(lines[0], lines[1], *_hole_lists(shifted), outline=outline - low)
    else:
        c = outline
        lines = [
            grid_lines(float(np.linalg.norm(c[j] - c[0])), n[k], s.size, _refined(s, k + 1), [])
            for k, j in ((0, 1), (1, 3))
        ]
        plane = planar_grid(lines[0], lines[1], [], [])
    points, cells = brick_layers(plane, zs)
    points, cells, kind = convert(points, cells, s.cells, s.quadratic)
    if square:
        points = on_circles(points, cells, kind, _hole_lists(shifted)[0])
        flat = points[:, :2] + low
    else:
        p, q = points[:, :1] / lines[0][-1], points[:, 1:2] / lines[1][-1]
        flat = (1 - p) * (1 - q) * c[0] + p * (1 - q) * c[1] + p * q * c[2] + (1 - p) * q * c[3]
    return np.array(s.origin) + np.column_stack([flat, points[:, 2]]) @ frame, cells, kind


def _seam(points: Floats, cells: Ints, kind: str) -> Meshed:
    """Close a full turn: nodes of a part at one place are one."""
    scale = float(np.ptp(points, axis=0).max())
    keys = np.round(points / (scale * 1e-8)).astype(np.int64)
    _, first, inverse = np.unique(keys, axis=0, return_index=True, return_inverse=True)
    return points[first], inverse.reshape(-1)[cells], kind
