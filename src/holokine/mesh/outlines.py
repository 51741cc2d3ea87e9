"""Plates and extrusions of any outline: edges, where they meet others, and the nodes along them.

Where two outlines meet, in an edge, at a corner or across one another, both get the nodes of the finer one there; where
an outline meets what has a mesh of its own already (grids, beams, points), it takes over those nodes.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from itertools import pairwise, product
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.describe.parts import Arc, Extrusion, Hole, Plate, Rounded
from holokine.errors import MeshError
from holokine.mesh.tree import nearest_tree
from holokine.mesh.triangulate import GROWTH, SizeField, even_odd, fill

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints

__all__ = ["Curve", "Outlined", "Sheet", "curves_of", "meet"]

PER_TURN = 16
"""Least number of edges of cells around a full circle; half as many where cells are quadratic."""
MOST_CELLS = 5e6
SLIGHT = np.radians(12.0)
"""Corners that turn by less stay sharp: rounding them moves them by less than 1/180 of its radius."""


@dataclass(frozen=True)
class Curve:
    """A straight edge, or an arc about a centre turning by an angle (counter-clockwise positive), in its plane."""

    start: Floats
    end: Floats
    centre: Floats | None = None
    turn: float = 0.0
    ring: bool = False
    """Whether it is a quarter of a full circle, which has no corners of its own."""

    @property
    def length(self) -> float:
        """In m."""
        if self.centre is None:
            return float(np.linalg.norm(self.end - self.start))
        return abs(self.turn) * float(np.linalg.norm(self.start - self.centre))

    def at(self, t: Floats) -> Floats:
        """Places at shares 0 to 1 of the length, shape (n, 2)."""
        t = np.asarray(t, dtype=float)[:, None]
        if self.centre is None:
            return np.asarray(self.start + t * (self.end - self.start))
        arm = self.start - self.centre
        angle = t * self.turn
        across = np.array([-arm[1], arm[0]])
        return np.asarray(self.centre + np.cos(angle) * arm + np.sin(angle) * across)

    def share(self, places: Floats) -> tuple[Floats, Floats]:
        """Of the nearest places of the curve: shares of the length, and how far away they are."""
        if self.centre is None:
            along = self.end - self.start
            t = np.clip((places - self.start) @ along / (along @ along), 0.0, 1.0)
        else:
            arm, own = self.start - self.centre, places - self.centre
            angle = np.arctan2(arm[0] * own[:, 1] - arm[1] * own[:, 0], own @ arm)
            angle = np.mod(angle * np.sign(self.turn) + 1e-9, 2 * np.pi) - 1e-9
            t = angle / abs(self.turn)
            t = np.where(t > 1.0, np.where(angle - abs(self.turn) < 2 * np.pi - angle, 1.0, 0.0), t)
        return t, np.linalg.norm(self.at(t) - places, axis=1)

    def part(self, a: float, b: float) -> Curve:
        """The stretch between two shares of the length."""
        start, end = self.at(np.array([a, b]))
        return Curve(start, end, self.centre, (b - a) * self.turn)


def _arc(start: Floats, through: Floats, end: Floats) -> Curve:
    """The arc from start through a place to end."""
    m = 2.0 * np.array([through - start, end - start])
    if abs(np.linalg.det(m)) < 1e-9 * float(np.linalg.norm(m[0]) * np.linalg.norm(m[1])):
        raise MeshError("an arc's three places lie on one line; give the end as a corner instead")
    centre = np.linalg.solve(m, np.array([through @ through - start @ start, end @ end - start @ start]))
    a, b, c = (np.arctan2(p[1] - centre[1], p[0] - centre[0]) for p in (start, through, end))
    left = np.mod(c - a, 2 * np.pi)
    turn = left if np.mod(b - a, 2 * np.pi) < left else left - 2 * np.pi
    return Curve(start, end, centre, float(turn))


def curves_of(outline: Sequence[Any]) -> list[Curve]:
    """Edges of a closed outline of corners, rounded corners and arcs.

    Raises
    ------
    MeshError
        Roundings that do not fit, arcs that are none.
    """
    corners = [np.array(i.to if isinstance(i, Arc) else i.corner if isinstance(i, Rounded) else i) for i in outline]
    items = list(outline)
    scale = max(float(np.ptp(np.array(corners), axis=0).max()), 1e-30)
    if len(items) > 1 and isinstance(items[-1], Arc) and np.linalg.norm(corners[-1] - corners[0]) < 1e-9 * scale:
        items[0], corners[-1] = items[-1], corners[0]  # the arc closes the outline at the first corner
        items, corners = items[:-1], corners[:-1]
    count = len(items)
    enter, leave = list(corners), list(corners)
    fillets: dict[int, Curve] = {}
    for i, item in enumerate(items):
        if not isinstance(item, Rounded):
            continue
        if isinstance(items[(i + 1) % count], Arc):
            c = corners[i]
            raise MeshError(f"the corner at [{c[0]:g}, {c[1]:g}] m cannot be rounded: an arc leads on from it")
        c, before, after = corners[i], corners[i - 1] - corners[i], corners[(i + 1) % count] - corners[i]
        u, v = before / np.linalg.norm(before), after / np.linalg.norm(after)
        half = np.arccos(np.clip(u @ v, -1.0, 1.0)) / 2.0
        if half < 1e-3:
            raise MeshError(f"the corner at [{c[0]:g}, {c[1]:g}] m cannot be rounded: its edges run along one line")
        if np.pi - 2.0 * half < SLIGHT:
            continue
        reach = item.radius / np.tan(half)
        enter[i], leave[i] = c + reach * u, c + reach * v
        middle = c + item.radius / np.sin(half) * (u + v) / np.linalg.norm(u + v)
        way = middle + item.radius * (c - middle) / np.linalg.norm(c - middle)
        fillets[i] = _arc(enter[i], way, leave[i])
    curves = []
    for i in range(count):
        start, end, item = leave[i - 1], enter[i], items[i]
        if isinstance(item, Arc):
            curves.append(_arc(start, np.array(item.through), end))
        else:
            way = corners[i] - corners[i - 1]
            if (end - start) @ way < -1e-9 * scale**2:
                raise MeshError(
                    f"the roundings between [{corners[i - 1][0]:g}, {corners[i - 1][1]:g}] and [{corners[i][0]:g}, "
                    f"{corners[i][1]:g}] m do not fit on the edge; make them smaller"
                )
            if np.linalg.norm(end - start) > 1e-9 * scale:
                curves.append(Curve(start, end))
        if i in fillets:
            curves.append(fillets[i])
    return curves


def _hole_curves(hole: Hole) -> list[Curve]:
    if hole.outline is not None:
        return curves_of(hole.outline)
    assert hole.at is not None
    at = np.array(hole.at)
    if hole.diameter is not None:
        r = hole.diameter / 2.0
        ways = r * np.array([[1, 0], [0, 1], [-1, 0], [0, -1]], dtype=float)
        return [Curve(at + ways[k], at + ways[(k + 1) % 4], at, np.pi / 2, True) for k in range(4)]
    assert hole.size is not None
    half = np.array(hole.size) / 2.0
    c = at + half * np.array([[-1, -1], [1, -1], [1, 1], [-1, 1]])
    return [Curve(c[k], c[(k + 1) % 4]) for k in range(4)]


def _refuse_crossing(loops: list[list[Curve]]) -> None:
    """Raise where an outline or a hole crosses itself or meets another, and for holes outside or in one another.

    Arcs as chords of a few degrees.
    """
    chords = [np.concatenate([_polygon(c, 96) for c in loop]) for loop in loops]
    boxes = np.array([[c.min(axis=(0, 1)), c.max(axis=(0, 1))] for c in chords])
    names = ["the outline", *(f"hole {k + 1}" for k in range(len(loops) - 1))]
    for i, one in enumerate(chords):
        near = (boxes[i, 0] <= boxes[:, 1]).all(axis=1) & (boxes[:, 0] <= boxes[i, 1]).all(axis=1)
        for j in np.flatnonzero(near).tolist():
            if j < i:
                continue
            place = _crossing(one, chords[j])
            if place is not None:
                what = f"{names[i]} crosses itself" if i == j else f"{names[i]} and {names[j]} cross"
                raise MeshError(f"{what} at [{place[0]:.6g}, {place[1]:.6g}] m in the plane")
            if i != j and (place := _touching(one, chords[j])) is not None:
                raise MeshError(f"{names[i]} and {names[j]} touch at [{place[0]:.6g}, {place[1]:.6g}] m in the plane: "
                                f"leave some material between them, or write them as one outline")  # fmt: skip
    for i in range(1, len(chords)):
        start = chords[i][0, 0]
        if not even_odd(start[None], chords[0])[0]:
            raise MeshError(f"{names[i]} at [{start[0]:.6g}, {start[1]:.6g}] m lies outside the outline")
        around = (boxes[:, 0] <= start).all(axis=1) & (start <= boxes[:, 1]).all(axis=1)
        for j in np.flatnonzero(around).tolist():
            if j not in (0, i) and even_odd(start[None], chords[j])[0]:
                raise MeshError(f"{names[i]} lies within {names[j]}")


def _crossing(one: Floats, two: Floats) -> Floats | None:
    """A place where a chord of one (n, 2, 2) crosses one of the other, ends apart."""
    d, e = one[:, 1] - one[:, 0], two[:, 1] - two[:, 0]
    gap = two[None, :, 0] - one[:, None, 0]
    turn = d[:, None, 0] * e[None, :, 1] - d[:, None, 1] * e[None, :, 0]
    with np.errstate(divide="ignore", invalid="ignore"):
        s = (gap[..., 0] * e[None, :, 1] - gap[..., 1] * e[None, :, 0]) / turn
        t = (gap[..., 0] * d[:, None, 1] - gap[..., 1] * d[:, None, 0]) / turn
        hit = np.argwhere((s > 1e-9) & (s < 1 - 1e-9) & (t > 1e-9) & (t < 1 - 1e-9))
    return None if not len(hit) else np.asarray(one[hit[0, 0], 0] + s[tuple(hit[0])] * d[hit[0, 0]])


def _touching(one: Floats, two: Floats) -> Floats | None:
    """A corner of either that lies on the other."""
    for ends, chords in ((one[:, 0], two), (two[:, 0], one)):
        along = chords[:, 1] - chords[:, 0]
        from_start = ends[:, None] - chords[None, :, 0]
        share = np.clip((from_start * along).sum(axis=2) / (along**2).sum(axis=1), 0.0, 1.0)
        gaps = np.linalg.norm(from_start - share[..., None] * along, axis=2).min(axis=1)
        if gaps.min() <= 1e-9 * np.abs(chords).max():
            return np.asarray(ends[int(gaps.argmin())])
    return None


@dataclass
class Sheet:
    """A flat area bounded by curves in a plane of space, and what must be nodes in it."""

    name: str
    origin: Floats
    frame: Floats  # rows x, y, normal
    curves: list[Curve]
    size: SizeField
    lines: list[Curve] = field(default_factory=list)
    points: list[Floats] = field(default_factory=list)
    kept: set[tuple[int, int]] = field(default_factory=set)  # pairs of places of others that no node comes between
    taken: Floats = field(default_factory=lambda: np.zeros((0, 2)))  # places of others' nodes

    @classmethod
    def of(cls, name: str, shape: Plate | Extrusion) -> Sheet:
        """Of a plate or an extrusion that has an outline.

        Raises
        ------
        MeshError
        """
        assert shape.outline is not None
        assert shape.size is not None
        x = np.array(shape.plane.x if shape.plane is not None else (1.0, 0.0, 0.0))
        y = np.array(shape.plane.y if shape.plane is not None else (0.0, 1.0, 0.0))
        y = y - (y @ x) * x
        y = y / np.linalg.norm(y)
        origin = np.array(shape.origin if shape.origin is not None else (0.0, 0.0, 0.0))
        loops = [curves_of(shape.outline), *(_hole_curves(hole) for hole in shape.holes)]
        _refuse_crossing(loops)
        curves = [c for loop in loops for c in loop]
        sheet = cls(
            name, origin, np.stack([x, y, np.cross(x, y)]), curves, SizeField(shape.size, shape.growth or GROWTH)
        )
        if isinstance(shape, Plate):
            sheet.points = [np.array(p) for p in shape.points]
            if sheet.points:
                sheet._refuse_outside(np.array(sheet.points), "the point")
            for line in shape.lines:
                for a, b in pairwise(np.array(line)):
                    sheet._refuse_outside(a + np.linspace(0, 1, 65)[:, None] * (b - a), "a line, at")
                sheet.lines += [Curve(np.array(a), np.array(b)) for a, b in pairwise(line)]
        for spot in shape.finer:
            sheet._refuse_outside(np.array([spot.at]), "finer, at")
            sheet._ask_around(np.array(spot.at), spot.size, spot.within)
        sheet._ask_of_shape(shape.around or (PER_TURN // 2 if shape.quadratic else PER_TURN))
        sheet._refuse_many()
        return sheet

    def _refuse_outside(self, places: Floats, what: str) -> None:
        out = np.flatnonzero(~self.holds(places, 1e-7 * self.extent()))
        if len(out):
            x, y = places[out[0]]
            raise MeshError(f"{what} [{x:.6g}, {y:.6g}] m lies outside the outline or in a hole")

    def _refuse_many(self) -> None:
        """Raise for more cells than there is any use for, before they are made."""
        ends = np.concatenate([_polygon(c) for c in self.curves]).reshape(-1, 2)
        low, span = ends.min(axis=0), np.ptp(ends, axis=0)
        at = (np.arange(64) + 0.5) / 64
        places = low + np.stack(np.meshgrid(at, at), axis=-1).reshape(-1, 2) * span
        cells = float((1.0 / self.size(places) ** 2).mean() * span.prod())
        if not cells <= MOST_CELLS:
            raise MeshError(
                f"at a size of {1e3 * self.size.least:.3g} to {1e3 * self.size.size:.3g} mm an outline of "
                f"{1e3 * span[0]:.4g} by {1e3 * span[1]:.4g} mm takes some {cells:.2g} cells, and {MOST_CELLS:.0e} are "
                "the most; give a larger size"
            )

    def _ask_around(self, at: Floats, size: float, within: float) -> None:
        if np.pi * (within / size) ** 2 > MOST_CELLS:
            raise MeshError(
                f"finer takes some {np.pi * (within / size) ** 2:.2g} cells within {1e3 * within:.4g} mm, and "
                f"{MOST_CELLS:.0e} are the most; give a larger size or reach"
            )
        steps = int(np.ceil(within / size)) if within else 0
        grid = size * np.arange(-steps, steps + 1)
        places = np.stack(np.meshgrid(grid, grid), axis=-1).reshape(-1, 2)
        places = at + places[np.linalg.norm(places, axis=1) <= within + 1e-12]
        self.size.ask(places, np.full(len(places), size))

    def _ask_of_shape(self, per_turn: int) -> None:
        """Smaller where arcs are tight, and where two edges that do not meet are close to each other."""
        samples, owner = [], []
        for i, c in enumerate(self.curves):
            n = max(8, int(np.ceil(2.0 * c.length / self.size.size)))
            samples.append(c.at((np.arange(n) + 0.5) / n))
            owner += [i] * n
            if c.length < self.size.size:
                self.size.ask(samples[-1], np.full(n, max(c.length, 0.1 * self.size.size)))
            if c.centre is not None:
                tight = 2 * np.pi * float(np.linalg.norm(c.start - c.centre)) / per_turn
                self.size.ask(samples[-1], np.full(n, tight))
        every, index = np.concatenate(samples), np.array(owner)
        tiny = 1e-9 * float(np.ptp(every, axis=0).max())
        ends = np.round(np.array([[c.start, c.end] for c in self.curves]) / (10.0 * tiny)).reshape(-1, 2)
        corner = np.unique(ends, axis=0, return_inverse=True)[1].reshape(-1, 2)
        away, near = nearest_tree(every).query(every, k=min(24, len(every)))
        mine, theirs = corner[index][:, None, :, None], corner[index[near]][:, :, None, :]
        apart = ~(mine == theirs).any(axis=(2, 3))  # of the nearest places those on edges that do not meet this one
        gap = np.where(apart, away, np.inf).min(axis=1)
        known = np.isfinite(gap)
        self.size.ask(every[known], np.maximum(gap[known], 0.1 * self.size.size))

    # -- places in space ------------------------------------------------------------------------------

    def flat(self, places: Floats) -> tuple[Floats, Floats]:
        """Places in the plane (n, 2) and heights over it, of places in space (n, 3)."""
        own = (places - self.origin) @ self.frame.T
        return own[:, :2], own[:, 2]

    def space(self, places: Floats) -> Floats:
        """Places in space of places in the plane."""
        return np.asarray(self.origin + places @ self.frame[:2])

    def extent(self) -> float:
        """Largest side of the box around it, in m."""
        ends = np.array([[c.start, c.end] for c in self.curves]).reshape(-1, 2)
        return float(np.ptp(ends, axis=0).max())

    def on_rim(self, places: Floats, tiny: float) -> NDArray[np.bool_]:
        """Which places in the plane lie on the outline or the rim of a hole."""
        result = np.zeros(len(places), dtype=bool)
        if not len(places):
            return result
        low, high = places.min(axis=0) - tiny, places.max(axis=0) + tiny
        for c in self.curves:
            arm = 0.0 if c.centre is None else 2.0 * float(np.linalg.norm(c.start - c.centre))
            ends = np.array([c.start, c.end])
            if (ends.min(axis=0) - arm <= high).all() and (low <= ends.max(axis=0) + arm).all():
                result |= c.share(places)[1] <= tiny
        return result

    def holds(self, places: Floats, tiny: float) -> NDArray[np.bool_]:
        """Which places in the plane lie inside or on the rim."""
        return even_odd(places, self._chords) | self.on_rim(places, tiny)

    @cached_property
    def _chords(self) -> Floats:
        return np.concatenate([_polygon(c) for c in self.curves])

    @cached_property
    def box(self) -> Floats:
        """Lowest and highest corner of the box around it in space, shape (2, 3)."""
        places = self.space(self._chords.reshape(-1, 2))
        return np.array([places.min(axis=0), places.max(axis=0)])

    # -- nodes ----------------------------------------------------------------------------------------

    def take(self, places: Floats, edges: Ints, tiny: float) -> None:
        """Take over nodes in space, and edges between them, where they lie in the sheet."""
        flat, height = self.flat(places)
        near = np.abs(height) <= tiny
        near[near] = self.holds(flat[near], tiny)
        used = np.flatnonzero(near)
        number = np.full(len(places), -1)
        number[used] = len(self.taken) + np.arange(len(used))
        self.taken = np.concatenate([self.taken, flat[used]])
        own = edges[near[edges].all(axis=1)]
        lengths = np.linalg.norm(places[own[:, 0]] - places[own[:, 1]], axis=1)
        self.size.ask((flat[own[:, 0]] + flat[own[:, 1]]) / 2.0, lengths)
        self.kept |= {(int(a), int(b)) for a, b in np.sort(number[own], axis=1)}


def _polygon(c: Curve, per_turn: int = 2 * PER_TURN) -> Floats:
    """Chords (n, 2, 2) of a curve."""
    n = 1 if c.centre is None else max(2, int(np.ceil(per_turn * abs(c.turn) / (2 * np.pi))))
    p = c.at(np.linspace(0.0, 1.0, n + 1))
    p[0], p[-1] = c.start, c.end  # to the last bit, or a ray through a corner would count both edges or none
    return np.stack([p[:-1], p[1:]], axis=1)


def meet(sheets: Sequence[Sheet], tiny: float) -> None:
    """Let sheets know of one another: lines across which they meet, corners on edges, the finer size of both."""
    boxes = np.array([s.box for s in sheets]).reshape(-1, 2, 3)
    for i, one in enumerate(sheets):
        near = (boxes[i, 0] <= boxes[:, 1] + tiny).all(axis=1) & (boxes[:, 0] <= boxes[i, 1] + tiny).all(axis=1)
        for two in (sheets[j] for j in np.flatnonzero(near).tolist() if j > i):
            if abs(abs(one.frame[2] @ two.frame[2]) - 1.0) < 1e-9:
                if abs(one.flat(two.origin[None])[1][0]) <= tiny:
                    for a, b in ((one, two), (two, one)):
                        _corners_on(a, b, tiny)
            else:
                _across(one, two, tiny)


def _corners_on(one: Sheet, two: Sheet, tiny: float) -> None:
    """Corners of one that lie on the rim of another in the same plane, and the sizes along its rim."""
    ends = one.space(np.array([c.start for c in one.curves]))
    flat, _ = two.flat(ends)
    on = two.on_rim(flat, tiny)
    two.points += list(flat[on])
    for c in one.curves:
        samples = c.at(np.linspace(0.0, 1.0, 9))
        there, _ = two.flat(one.space(samples))
        on = two.on_rim(there, tiny)
        two.size.ask(there[on], one.size(samples[on]))


def _across(one: Sheet, two: Sheet, tiny: float) -> None:
    """The stretches of a line in which two planes meet that both sheets hold."""
    way = np.cross(one.frame[2], two.frame[2])
    way = way / np.linalg.norm(way)
    rows = np.stack([one.frame[2], two.frame[2], way])
    at = np.linalg.solve(rows, np.array([one.frame[2] @ one.origin, two.frame[2] @ two.origin, way @ one.origin]))
    stops: list[float] = []
    for sheet in (one, two):
        foot, direction = sheet.flat(at[None])[0][0], sheet.frame[:2] @ way
        stops += _crossings(sheet, foot, direction, tiny)
    if len(stops) < 2:
        return
    cuts = np.unique(np.array(stops))
    cuts = cuts[np.concatenate([[True], np.diff(cuts) > tiny])]
    for a, b in pairwise(cuts):
        middle = at + (a + b) / 2.0 * way
        inside = [s.holds(s.flat(middle[None])[0], tiny)[0] for s in (one, two)]
        if not all(inside):
            continue
        ends = at + np.array([[a], [b]]) * way
        samples = at + (a + (b - a) * np.linspace(0.0, 1.0, 17))[:, None] * way
        sizes = np.minimum(*(s.size(s.flat(samples)[0]) for s in (one, two)))
        for sheet in (one, two):
            flat, _ = sheet.flat(ends)
            sheet.size.ask(sheet.flat(samples)[0], sizes)
            sheet.points += list(flat)
            if not sheet.on_rim(sheet.flat(middle[None])[0], tiny)[0]:
                sheet.lines.append(Curve(flat[0], flat[1]))


def _crossings(sheet: Sheet, foot: Floats, way: Floats, tiny: float) -> list[float]:
    """Where a line in the plane of a sheet meets its curves."""
    across = np.array([-way[1], way[0]])
    found: list[float] = []
    for c in sheet.curves:
        if c.centre is None:
            a, b = (c.start - foot) @ across, (c.end - foot) @ across
            if abs(a) <= tiny or abs(b) <= tiny:
                found += [float((p - foot) @ way) for p, h in ((c.start, a), (c.end, b)) if abs(h) <= tiny]
            elif a * b < 0:
                found.append(float((c.start + a / (a - b) * (c.end - c.start) - foot) @ way))
            continue
        radius = float(np.linalg.norm(c.start - c.centre))
        height, along = float((c.centre - foot) @ across), float((c.centre - foot) @ way)
        if abs(height) <= radius:
            root = np.sqrt(max(radius**2 - height**2, 0.0))
            for t in (along - root, along + root):
                if c.share((foot + t * way)[None])[1][0] <= tiny:
                    found.append(t)
    return found


def _parted(edges: set[tuple[int, int]], places: Floats, tiny: float) -> set[tuple[int, int]]:
    """Edges between nodes, parted at nodes of others that lie on them: along one line all take all nodes together."""
    if not edges:
        return edges
    pairs = np.array(sorted(edges))
    middle, half = places[pairs].mean(axis=1), np.linalg.norm(np.diff(places[pairs], axis=1)[:, 0], axis=1) / 2.0
    found = set()
    for (a, b), near in zip(pairs.tolist(), nearest_tree(places).query_ball_point(middle, half + tiny), strict=True):
        way = places[b] - places[a]
        length = float(np.linalg.norm(way))
        between = []
        for k in near:
            arm = places[k] - places[a]
            along = float(arm @ way) / max(length, 1e-300)
            if (
                k not in (a, b)
                and tiny < along < length - tiny
                and abs(arm[0] * way[1] - arm[1] * way[0]) <= tiny * length
            ):
                between.append((along, k))
        chain = [a, *(k for _, k in sorted(between)), b]
        found |= {(min(pair), max(pair)) for pair in pairwise(chain)}
    return found


class Outlined:
    """Meshes of sheets, one after the other, with the nodes that they share."""

    def __init__(self, tiny: float) -> None:
        self.tiny = tiny
        self._known: dict[tuple[int, ...], tuple[Floats, Floats]] = {}
        """By the middle of a stretch in space: its start, middle and end, and the nodes within."""

    def _key(self, *places: Floats) -> tuple[int, ...]:
        return tuple(int(v) for p in places for v in np.round(p / (20.0 * self.tiny)))

    def mesh(self, sheet: Sheet, quads: bool) -> tuple[Floats, list[Ints], dict[tuple[int, int], Floats]]:
        """Points in the plane, cells, and by pair of nodes the middle of the arc between them.

        Raises
        ------
        MeshError
        """
        places: list[Floats] = []
        at: dict[tuple[int, ...], int] = {}

        def node(p: Floats) -> int:
            for near in _around(self._key(p)):
                if near in at and np.linalg.norm(places[at[near]] - p) <= 10.0 * self.tiny:
                    return at[near]
            at[self._key(p)] = len(places)
            places.append(p)
            return len(places) - 1

        taken = [node(p) for p in sheet.taken]
        kept = {(min(taken[a], taken[b]), max(taken[a], taken[b])) for a, b in sheet.kept}
        kept = _parted(kept, np.array(places).reshape(-1, 2), 10.0 * self.tiny)
        crossed = [(c, False) for c in self._crossed(sheet)]  # which adds places where lines meet
        marks = np.concatenate([sheet.taken.reshape(-1, 2), *(p[None] for p in sheet.points)])
        segments: dict[tuple[int, int], bool] = {}
        rims: dict[tuple[int, int], int] = {}
        bent: dict[tuple[int, int], Floats] = {}
        rim = [c for c in sheet.curves if not c.ring]
        for k, first in enumerate(c for c in sheet.curves if c.ring):
            if k % 4 == 0:
                rim += self._circle(first, marks)
        curves = [(c, True) for c in rim] + crossed
        for curve, is_rim in curves:
            for piece in self._pieces(curve, marks):
                a, b = node(piece.start), node(piece.end)
                pair = (min(a, b), max(a, b))
                inner = np.zeros((0, 2)) if pair in kept or a == b else self._nodes(sheet, piece)
                if a == b:
                    continue
                chain = [a, *(node(p) for p in inner), b]
                for k, (i, j) in enumerate(pairwise(chain)):
                    edge = (min(i, j), max(i, j))
                    if is_rim:
                        rims[edge] = rims.get(edge, 0) + 1
                    segments[edge] = segments.get(edge, False) or is_rim
                    if piece.centre is not None:
                        bent[edge] = piece.at(np.array([(k + 0.5) / (len(chain) - 1)]))[0]
        for a, b in kept:
            segments.setdefault((a, b), False)
        for place in sheet.points:
            node(place)
        if not rims:
            raise MeshError("the outline is no larger than what is merged into one node: is its unit right?")
        meets = np.bincount(np.array(list(rims)).ravel(), minlength=len(places))
        bad = [*np.flatnonzero(meets > 2).tolist(), *(e[0] for e, n in rims.items() if n > 1)]
        if bad:
            x, y = places[bad[0]]
            raise MeshError(f"the outline or a hole crosses or touches another at [{x:.6g}, {y:.6g}] m in its plane")
        pairs = np.array(list(segments), dtype=np.int64).reshape(-1, 2)
        points, cells = fill(np.array(places), pairs, np.array(list(segments.values())), sheet.size, quads)
        return points, cells, bent

    def _circle(self, first: Curve, marks: Floats) -> list[Curve]:
        """A full circle as arcs from one place on it that must be a node to the next; else in quarters."""
        assert first.centre is not None
        arm, radius = first.start - first.centre, float(np.linalg.norm(first.start - first.centre))
        away = np.abs(np.linalg.norm(marks - first.centre, axis=1) - radius) if len(marks) else np.zeros(0)
        on = marks[away <= 10.0 * self.tiny] - first.centre if len(marks) else marks
        angles = np.sort(np.mod(np.arctan2(on[:, 1], on[:, 0]) - np.arctan2(arm[1], arm[0]), 2 * np.pi))
        angles = (
            angles[np.concatenate([[True], np.diff(angles) > 20.0 * self.tiny / radius])] if len(angles) else angles
        )
        if len(angles) > 1 and angles[-1] - angles[0] > 2 * np.pi - 20.0 * self.tiny / radius:
            angles = angles[:-1]
        if len(angles) < 2:
            angles = np.arange(4) * np.pi / 2 + (angles[0] if len(angles) else 0.0)
        whole = Curve(first.start, first.start, first.centre, 2 * np.pi)
        places = whole.at(angles / (2 * np.pi))
        turns = np.mod(np.roll(angles, -1) - angles, 2 * np.pi)
        return [
            Curve(a, b, first.centre, float(turn))
            for a, b, turn in zip(places, np.roll(places, -1, axis=0), turns, strict=True)
        ]

    def _crossed(self, sheet: Sheet) -> Iterable[Curve]:
        """Lines in the sheet, cut where they cross one another or the rim; what lies outside or on the rim left out."""
        lines = sheet.lines
        for i, line in enumerate(lines):
            stops = [0.0, 1.0]
            others = [*sheet.curves, *(other for j, other in enumerate(lines) if j != i)]
            way = (line.end - line.start) / line.length
            for other in others:
                one = Sheet("", sheet.origin, sheet.frame, [other], sheet.size)
                stops += [t / line.length for t in _crossings(one, line.start, way, self.tiny)]
            near = self.tiny / line.length
            cuts = np.unique(np.clip(np.array([t for t in stops if -near <= t <= 1 + near]), 0.0, 1.0))
            cuts = cuts[np.concatenate([[True], np.diff(cuts) > 2 * near])]
            for a, b in pairwise(cuts):
                piece = line.part(float(a), float(b))
                middle = piece.at(np.array([0.5]))
                if sheet.holds(middle, self.tiny)[0] and not sheet.on_rim(middle, self.tiny)[0]:
                    sheet.points += [piece.start, piece.end]
                    yield piece

    def _pieces(self, curve: Curve, marks: Floats) -> Iterable[Curve]:
        """Stretches of a curve between places on it that must be nodes."""
        t, away = curve.share(marks) if len(marks) else (np.zeros(0), np.zeros(0))
        near = 10.0 * self.tiny / curve.length
        inside = np.sort(t[(away <= 10.0 * self.tiny) & (t > near) & (t < 1 - near)])
        stops = [0.0]
        for value in inside:
            if value - stops[-1] > near:
                stops.append(float(value))
        stops.append(1.0)
        for a, b in pairwise(stops):
            yield curve if (a, b) == (0.0, 1.0) else curve.part(a, b)

    def _nodes(self, sheet: Sheet, piece: Curve) -> Floats:
        """Nodes within a stretch, (n, 2): as often as the size asks, and as another sheet has them."""
        start, middle, end = sheet.space(piece.at(np.array([0.0, 0.5, 1.0])))
        for key in _around(self._key(middle)):
            if key not in self._known:
                continue
            known, nodes = self._known[key]
            for ends, back in ((np.array([start, middle, end]), False), (np.array([end, middle, start]), True)):
                if np.abs(known - ends).max() <= 10.0 * self.tiny:
                    found = sheet.flat(nodes)[0]
                    return found[::-1] if back else found
        samples = max(16, int(np.ceil(4.0 * piece.length / sheet.size.least)))
        t = (np.arange(samples) + 0.5) / samples
        density = piece.length / samples / sheet.size(piece.at(t))
        total = float(density.sum())
        count = max(1, int(np.ceil(total - 1e-6)))
        reached = np.concatenate([[0.0], np.cumsum(density)]) / total
        shares = np.interp(np.arange(1, count) / count, reached, np.linspace(0.0, 1.0, samples + 1))
        found = piece.at(shares)
        self._known[self._key(middle)] = (np.array([start, middle, end]), sheet.space(found))
        return found


def _around(key: tuple[int, ...]) -> Iterable[tuple[int, ...]]:
    return product(*((k, k - 1, k + 1) for k in key))
