"""Triangles and quadrilaterals inside outlines: Delaunay of nodes on the outlines and of a lattice within.

Nodes on outlines and lines stay where they are, so that neighbours match. The Delaunay triangulation (SciPy) of them
and of a lattice of the wanted size is freed of what lies outside; edges of outlines that it lacks are recovered by
swaps (Sloan, Computers & Structures 47 (1993) 441-450); free nodes are smoothed; triangles are paired to
quadrilaterals, best first.
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from holokine.errors import MeshError
from holokine.mesh.tree import nearest_tree

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints

__all__ = ["GROWTH", "SizeField", "even_odd", "fill"]

GROWTH = 0.3
"""How much larger elements may become per length away from smaller ones."""
_ROUNDS = 8
_LEAST_QUAD = 0.45


class SizeField:
    """Wanted size of elements over the plane: the least of all that is asked, growing away from where it is small."""

    def __init__(self, size: float, growth: float = GROWTH) -> None:
        self.size, self.growth = size, growth
        self.least = size
        self._asked: dict[int, list[Floats]] = {}
        self._trees: dict[int, Any] = {}

    def ask(self, places: Floats, sizes: Floats) -> None:
        """Add sizes in m wanted at places (n, 2); what is asked is rounded down to steps of a tenth."""
        use = sizes < 0.999 * self.size
        if not use.any():
            return
        steps = np.floor(np.log(sizes[use] / self.size) / np.log(1.1)).astype(np.int64)
        self.least = min(self.least, float(self.size * 1.1 ** int(steps.min())))
        for step in np.unique(steps):
            self._asked.setdefault(int(step), []).append(places[use][steps == step])
            self._trees.pop(int(step), None)

    def __call__(self, places: Floats) -> Floats:
        """Sizes at places (n, 2)."""
        result = np.full(len(places), self.size)
        for step, asked in self._asked.items():
            if step not in self._trees:
                self._trees[step] = nearest_tree(np.concatenate(asked))
            away = self._trees[step].query(places)[0]
            result = np.minimum(result, self.size * 1.1**step + self.growth * away)
        return result


def fill(
    nodes: Floats, segments: Ints, rim: NDArray[np.bool_], size: SizeField, quads: bool
) -> tuple[Floats, list[Ints]]:
    """Cells inside closed outlines.

    Parameters
    ----------
    nodes : ndarray, shape (nodes, 2)
        m; all stay nodes.
    segments : ndarray of int, shape (segments, 2)
        Edges that must be edges of cells.
    rim : ndarray of bool, shape (segments,)
        Which of them bound the area (an odd number of them lies between inside and outside).
    quads : bool
        Whether triangles are paired.

    Returns
    -------
    points, cells : ndarray, shape (points, 2); list of ndarray of int
        Nodes first, in their order; quadrilaterals and triangles, each turning counter-clockwise.

    Raises
    ------
    MeshError
        Outlines that cross or touch, or nothing inside.
    """
    scale = float(np.ptp(nodes, axis=0).max())
    fixed = len(nodes)
    points = np.concatenate([nodes, _lattice(nodes, size, quads)])
    keep = _away_from(points[fixed:], nodes, segments, size)
    points = np.concatenate([nodes, points[fixed:][keep]])
    triangles = _inside(points, _recovered(points, segments, scale), segments, rim, scale)
    points, triangles = _used(points, triangles, fixed)
    for turn in range(_ROUNDS):
        moved = _smoothed(points, triangles, fixed, quads and turn < _ROUNDS // 2)
        still = np.abs(moved - points).max(initial=0.0) < 0.02 * size.least
        points = moved
        if still:
            break
        triangles = _inside(points, _recovered(points, segments, scale), segments, rim, scale)
        points, triangles = _used(points, triangles, fixed)
    triangles = _reshaped(points, triangles, segments)
    if not quads:
        return _settled(points, np.zeros((0, 4), dtype=np.int64), triangles, fixed, 0.75), [triangles]
    paired, rest = _paired(points, triangles, segments)
    points = _settled(points, paired, rest, fixed)
    return points, [c for c in (paired, rest) if len(c)]


def _lattice(nodes: Floats, size: SizeField, quads: bool) -> Floats:
    """Places in the box around the nodes, as far apart as wanted: squares halved where they are too large, or rows."""
    low, high = nodes.min(axis=0), nodes.max(axis=0)
    span = high - low
    uniform = size.least == size.size
    if quads or not uniform:
        n = np.maximum(np.ceil(span / size.size - 1e-6), 1).astype(int)
        step = span / n
        if uniform:
            x, y = (low[k] + step[k] * np.arange(1, n[k]) for k in range(2))
            return np.stack(np.meshgrid(x, y, indexing="ij"), axis=-1).reshape(-1, 2)
        finest = 2 ** max(int(np.ceil(np.log2(step.max() / size.least))) + 1, 1)
        corners = np.array([[0, 0], [1, 0], [1, 1], [0, 1]])
        cells = np.stack(np.meshgrid(np.arange(n[0]), np.arange(n[1]), indexing="ij"), axis=-1).reshape(-1, 2) * finest
        side, found = finest, []
        while len(cells):
            middle = low + (cells + side / 2.0) * step / finest
            large = (size(middle) < 0.75 * side / finest * step.max()) & (side > 1)
            found.append((cells[~large][:, None] + side * corners).reshape(-1, 2))
            side //= 2
            cells = (cells[large][:, None] + side * corners).reshape(-1, 2)
        return low + np.unique(np.concatenate(found), axis=0) * step / finest
    rise = size.size * np.sqrt(0.75)
    rows = max(int(np.round(span[1] / rise)), 1)
    columns = max(int(np.ceil(span[0] / size.size)), 1)
    i, j = np.meshgrid(np.arange(columns + 1), np.arange(1, rows), indexing="ij")
    x = low[0] + (i + 0.5 * (j % 2)) * span[0] / columns
    return np.column_stack([x.ravel(), (low[1] + j * span[1] / rows).ravel()])


def _away_from(places: Floats, nodes: Floats, segments: Ints, size: SizeField) -> NDArray[np.bool_]:
    """Which places are far enough from all fixed nodes and edges."""
    if len(places) == 0:
        return np.zeros(0, dtype=bool)
    a, b = nodes[segments[:, 0]], nodes[segments[:, 1]]
    samples = np.concatenate([nodes, *(a + t * (b - a) for t in (0.25, 0.5, 0.75))])
    return np.asarray(nearest_tree(samples).query(places)[0] > 0.62 * size(places))


def _delaunay(points: Floats) -> Ints:
    from scipy.spatial import Delaunay, QhullError

    try:
        found = np.asarray(Delaunay(points).simplices, dtype=np.int64)
    except (QhullError, ValueError) as err:
        raise MeshError("the outline spans no area") from err
    return _turning_left(points, found)


def _turning_left(points: Floats, triangles: Ints) -> Ints:
    wrong = _areas(points, triangles) < 0
    triangles[wrong] = triangles[wrong][:, [0, 2, 1]]
    return triangles


def _areas(points: Floats, triangles: Ints) -> Floats:
    a, b, c = (points[triangles[:, k]] for k in range(3))
    u, v = b - a, c - a
    return np.asarray((u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]) / 2.0)


def _keys(pairs: Ints, count: int) -> Ints:
    ordered = np.sort(pairs, axis=-1)
    return np.asarray(ordered[..., 0] * count + ordered[..., 1])


def _edges(triangles: Ints) -> Ints:
    """Edges (3 * triangles, 2): opposite to corner 0 of all, then 1, then 2."""
    return np.concatenate([triangles[:, [1, 2]], triangles[:, [2, 0]], triangles[:, [0, 1]]])


def _recovered(points: Floats, segments: Ints, scale: float) -> Ints:
    """Delaunay triangles that have all segments as edges."""
    triangles = _delaunay(points)
    count = len(points)
    present = np.isin(_keys(segments, count), _keys(_edges(triangles), count))
    missing = segments[~present]
    if len(missing) == 0:
        return triangles
    return _swapped(points, triangles, missing, scale)


def _swapped(points: Floats, triangles: Ints, missing: Ints, scale: float) -> Ints:
    """Swap diagonals that cross a missing edge until it is there."""
    cells = [list(map(int, t)) for t in triangles]
    of: dict[tuple[int, int], int] = {}
    for i, (a, b, c) in enumerate(cells):
        of[a, b] = of[b, c] = of[c, a] = i

    def side(a: int, b: int, c: int) -> float:
        u, v = points[b] - points[a], points[c] - points[a]
        return float(u[0] * v[1] - u[1] * v[0])

    tiny = 1e-12 * scale**2
    around: dict[int, set[int]] = {}
    for i, t in enumerate(cells):
        for n in t:
            around.setdefault(n, set()).add(i)
    for start, end in missing.tolist():
        crossing = []
        # walk from the start through the triangles that the edge passes
        here = next(
            (
                i
                for i in around[start]
                for k in range(3)
                if cells[i][k] == start
                and side(start, end, cells[i][(k + 1) % 3]) < -tiny
                and side(start, end, cells[i][(k + 2) % 3]) > tiny
                and _towards(points, start, end, cells[i])
            ),
            None,
        )
        if here is None:
            raise _touching(points[start], points[end])
        k = cells[here].index(start)
        right, left = cells[here][(k + 1) % 3], cells[here][(k + 2) % 3]
        while True:
            crossing.append((right, left))
            other = of.get((left, right))
            if other is None:
                raise _touching(points[start], points[end])
            tip = next(n for n in cells[other] if n not in (left, right))
            if tip == end:
                break
            height = side(start, end, tip)
            if abs(height) <= tiny:
                raise _touching(points[start], points[end])
            if height > 0:
                left = tip
            else:
                right = tip
        tries = 0
        while crossing:
            tries += 1
            if tries > 50 * (len(crossing) + 10):
                raise _touching(points[start], points[end])
            a, b = crossing.pop(0)
            one, two = of[a, b], of[b, a]
            c = next(n for n in cells[one] if n not in (a, b))
            d = next(n for n in cells[two] if n not in (a, b))
            if side(c, d, a) * side(c, d, b) >= -(tiny**2) or side(a, d, c) <= tiny or side(b, c, d) <= tiny:
                crossing.append((a, b))
                continue
            for x, y in ((a, b), (b, c), (c, a), (b, a), (a, d), (d, b)):
                of.pop((x, y), None)
            for n in (a, b):
                around[n] -= {one, two}
            cells[one], cells[two] = [a, d, c], [b, c, d]
            for i, t in ((one, cells[one]), (two, cells[two])):
                for k in range(3):
                    of[t[k], t[(k + 1) % 3]] = i
                    around[t[k]].add(i)
            if not {c, d} & {start, end} and side(start, end, c) * side(start, end, d) < 0:
                crossing.append((d, c) if side(start, end, d) < 0 else (c, d))
    return np.array(cells, dtype=np.int64)


def _towards(points: Floats, start: int, end: int, cell: list[int]) -> bool:
    middle = points[[n for n in cell if n != start]].mean(axis=0) - points[start]
    return bool(middle @ (points[end] - points[start]) > 0)


def _touching(a: Floats, b: Floats) -> MeshError:
    return MeshError(
        f"the outline or a line in it crosses or touches another between [{a[0]:.6g}, {a[1]:.6g}] and "
        f"[{b[0]:.6g}, {b[1]:.6g}] m (in its own plane)"
    )


def _inside(points: Floats, triangles: Ints, segments: Ints, rim: NDArray[np.bool_], scale: float) -> Ints:
    """Triangles within the rim: whole areas between segments are in or out."""
    triangles = triangles[_areas(points, triangles) > 1e-12 * scale**2]
    count = len(points)
    keys = _keys(_edges(triangles), count)
    owner = np.tile(np.arange(len(triangles)), 3)
    order = np.argsort(keys, kind="stable")
    same = keys[order[1:]] == keys[order[:-1]]
    open_ = ~np.isin(keys[order[1:]], _keys(segments, count))
    a, b = owner[order[:-1][same & open_]], owner[order[1:][same & open_]]
    graph = coo_array((np.ones(len(a)), (a, b)), shape=(len(triangles),) * 2)
    _, label = connected_components(graph, directed=False)
    # one triangle stands for its area: the largest, whose middle is farthest from any edge
    by_size = np.lexsort((-_areas(points, triangles), label))
    first = by_size[np.unique(label[by_size], return_index=True)[1]]
    ends = points[segments[rim]]
    kept = even_odd(points[triangles[first]].mean(axis=1), ends)
    if not kept.any():
        raise MeshError("nothing is left of the outline: its holes take it all")
    return triangles[kept[label]]


def even_odd(places: Floats, ends: Floats) -> NDArray[np.bool_]:
    """Which places (n, 2) have an odd number of edges (edges, 2, 2) to their right: those within."""
    x0, x1, y0, y1 = ends[:, 0, 0], ends[:, 1, 0], ends[:, 0, 1], ends[:, 1, 1]
    inside = np.zeros(len(places), dtype=bool)
    step = max(1, 4_000_000 // len(ends))
    for a in range(0, len(places), step):
        x, y = places[a : a + step, :1], places[a : a + step, 1:]
        crosses = (y0 > y) != (y1 > y)
        with np.errstate(divide="ignore", invalid="ignore"):
            at = (x1 - x0) * (y - y0) / (y1 - y0) + x0
        inside[a : a + step] = np.count_nonzero(crosses & (x < at), axis=1) % 2 == 1
    return inside


def _used(points: Floats, triangles: Ints, fixed: int) -> tuple[Floats, Ints]:
    """Points without free ones in no triangle."""
    marked = np.zeros(len(points), dtype=bool)
    marked[:fixed] = True
    marked[triangles.ravel()] = True
    return points[marked], (np.cumsum(marked) - 1)[triangles]


def _smoothed(points: Floats, triangles: Ints, fixed: int, gently: bool) -> Floats:
    """Free nodes towards the middles of the triangles around them, weighed by area.

    `gently`: only nodes with a poorly shaped triangle, so that what is regular stays so.
    """
    area = _areas(points, triangles)
    middle = points[triangles].mean(axis=1)
    count = len(points)
    weight, place = np.zeros(count), np.zeros((count, 2))
    for k in range(3):
        weight += np.bincount(triangles[:, k], area, count)
        for d in range(2):
            place[:, d] += np.bincount(triangles[:, k], area * middle[:, d], count)
    moves = np.arange(count) >= fixed
    shape = _triangle_shapes(points, triangles)
    worst = np.full(count, np.inf)
    for k in range(3):
        np.minimum.at(worst, triangles[:, k], shape)
    moves &= worst < (0.6 if gently else 0.75)
    if not moves.any():
        return points
    result = points.copy()
    result[moves] = place[moves] / weight[moves, None]
    return result


def _neighbours(points: Floats, triangles: Ints, segments: Ints) -> tuple[Ints, Ints, Ints, Ints]:
    """Pairs of triangles with a common edge that is no segment: both, and which corner of each is off the edge."""
    keys = _keys(_edges(triangles), len(points))
    order = np.argsort(keys, kind="stable")
    same = keys[order[1:]] == keys[order[:-1]]
    open_ = ~np.isin(keys[order[1:]], _keys(segments, len(points)))
    one, two = order[:-1][same & open_], order[1:][same & open_]
    total = len(triangles)
    return one % total, two % total, one // total, two // total


def _reshaped(points: Floats, triangles: Ints, segments: Ints) -> Ints:
    """Common edges of two triangles swapped where the worse of the two gains by it: flat ones on the rim go."""
    triangles = triangles.copy()
    for _ in range(_ROUNDS):
        a, b, ka, kb = _neighbours(points, triangles, segments)
        shape = _triangle_shapes(points, triangles)
        now = np.minimum(shape[a], shape[b])
        use = now < 0.5
        a, b, ka, kb, now = a[use], b[use], ka[use], kb[use], now[use]
        tip, right, left, other = (
            triangles[a, ka],
            triangles[a, (ka + 1) % 3],
            triangles[a, (ka + 2) % 3],
            triangles[b, kb],
        )
        first, second = np.stack([tip, right, other], axis=1), np.stack([tip, other, left], axis=1)
        then = np.minimum(_triangle_shapes(points, first), _triangle_shapes(points, second))
        touched = np.zeros(len(triangles), dtype=bool)
        done = 0
        for i in np.argsort(now - then, kind="stable").tolist():
            if then[i] < now[i] + 0.02:
                break
            if not touched[a[i]] and not touched[b[i]]:
                touched[a[i]] = touched[b[i]] = True
                triangles[a[i]], triangles[b[i]] = first[i], second[i]
                done += 1
        if not done:
            break
    return triangles


def _triangle_shapes(points: Floats, triangles: Ints) -> Floats:
    """4 √3 area / sum of squared edges: 1 is equilateral."""
    X = points[triangles]
    squares = ((X - np.roll(X, 1, axis=1)) ** 2).sum(axis=(1, 2))
    return np.asarray(4.0 * np.sqrt(3.0) * _areas(points, triangles) / squares)


def _quad_shapes(points: Floats, quads: Ints) -> Floats:
    """Least over the corners of the sine of its angle, negative where it bends in, times the evenness of its edges."""
    X = points[quads]
    worst = np.full(len(quads), np.inf)
    sizes = np.linalg.norm(np.roll(X, -1, axis=1) - X, axis=2)
    for k in range(4):
        u, v = X[:, (k + 1) % 4] - X[:, k], X[:, k - 1] - X[:, k]
        cross = u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]
        worst = np.minimum(worst, cross / (sizes[:, k] * sizes[:, k - 1]))
    return np.asarray(worst * np.sqrt(sizes.min(axis=1) / sizes.max(axis=1)))


def _paired(points: Floats, triangles: Ints, segments: Ints) -> tuple[Ints, Ints]:
    """Quadrilaterals of two triangles each, best shapes first, and the triangles left over."""
    a, b, ka, kb = _neighbours(points, triangles, segments)
    t, every, total = triangles, np.arange(len(a)), len(triangles)
    quads = (
        np.stack([t[a, ka], t[a, (ka + 1) % 3], t[b, kb], t[a, (ka + 2) % 3]], axis=1)
        if len(every)
        else np.zeros((0, 4), dtype=np.int64)
    )
    shape = _quad_shapes(points, quads)
    taken = np.zeros(total, dtype=bool)
    chosen = []
    for i in np.argsort(-shape.round(6), kind="stable").tolist():
        if shape[i] < _LEAST_QUAD:
            break
        if not taken[a[i]] and not taken[b[i]]:
            taken[a[i]] = taken[b[i]] = True
            chosen.append(i)
    return quads[chosen], triangles[~taken]


def _settled(points: Floats, quads: Ints, triangles: Ints, fixed: int, poor: float = 2.0) -> Floats:
    """Free nodes towards the mean of their neighbours, as long as no cell gets worse.

    Only nodes of cells whose shape is below `poor` move.
    """
    count = len(points)
    edges = [quads[:, [k, (k + 1) % 4]] for k in range(4)] + [triangles[:, [k, (k + 1) % 3]] for k in range(3)]
    pairs = np.concatenate(edges)
    pairs = np.unique(np.sort(pairs, axis=1), axis=0)
    both = np.concatenate([pairs, pairs[:, ::-1]])
    degree = np.bincount(both[:, 0], minlength=count)
    for _ in range(_ROUNDS):
        mean = np.stack([np.bincount(both[:, 0], points[both[:, 1], d], count) for d in range(2)], axis=1)
        moves = (np.arange(count) >= fixed) & (degree > 0)
        if poor < 1.0:
            near = np.zeros(count, dtype=bool)
            near[triangles[_triangle_shapes(points, triangles) < poor].ravel()] = True
            moves &= near
        trial = points.copy()
        trial[moves] = 0.5 * points[moves] + 0.5 * mean[moves] / degree[moves, None]
        for _ in range(4):  # nodes of cells that got worse go back
            worse = np.zeros(count, dtype=bool)
            for cells, shapes in ((quads, _quad_shapes), (triangles, _triangle_shapes)):
                before, after = shapes(points, cells), shapes(trial, cells)
                bad = cells[after < np.minimum(before, 0.85) - 1e-12]
                worse[bad.ravel()] = True
            worse &= (trial != points).any(axis=1)
            if not worse.any():
                break
            trial[worse] = points[worse]
        else:
            return points
        if np.abs(trial - points).max() < 1e-6 * float(np.ptp(points, axis=0).max()):
            return trial
        points = trial
    return points
