"""The part of faces that lies in a box or cylinder, as triangles on their reference face.

A face is parted into triangles on which the region's bounding functions are taken as straight: exact for planes on flat
faces, and of second order in a sixteenth of the face otherwise.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from holokine.arrays import Floats, Ints
from holokine.elements.shapes import face_shape, triangle_rule

if TYPE_CHECKING:
    from holokine.describe.targets import Selection

__all__ = ["bounds_of", "caught_faces", "face_pieces", "joined"]

Bound = Callable[[Floats], Floats]
FINE = 16
"""Parts of an edge of a face where faces or bounds are curved."""
_SLIVER = 1e-9  # of a face, below which a piece of it is rounding
_BENT = np.cos(np.radians(45.0))


def bounds_of(selection: Selection) -> tuple[list[Bound], bool]:
    """Functions of places, (..., 3), that are at least 0 within the selection's regions; and whether all are planes."""
    found: list[Bound] = []
    if selection.box is not None:
        low, high = np.sort(np.array(selection.box), axis=0)
        for d in range(3):
            found.append(lambda p, d=d: p[..., d] - low[d])  # type: ignore[misc]
            found.append(lambda p, d=d: high[d] - p[..., d])  # type: ignore[misc]
    c = selection.cylinder
    if c is None or c.surface:
        return found, True
    base, axis, radius = np.array(c.base), np.array(c.axis), c.radius

    def within(p: Floats) -> Floats:
        arm = p - base
        return np.asarray(radius - np.linalg.norm(arm - (arm @ axis)[..., None] * axis, axis=-1))

    found.append(within)
    if c.length is not None:
        length = c.length
        found += [lambda p: (p - base) @ axis, lambda p: length - (p - base) @ axis]
    return found, False


def caught_faces(places: Floats, bounds: list[Bound], tiny: float) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """Which faces, (faces, nodes, 3), lie wholly in a region, and which perhaps in part.

    A face that lies in a bounding plane is within it.
    """
    each: Floats = np.array([_slack(bound(places), tiny) for bound in bounds])  # (bounds, faces, nodes)
    whole = np.asarray((each >= 0.0).all(axis=(0, 2)))
    return whole, np.asarray(~whole & ~(each <= 0.0).all(axis=2).any(axis=0))


def _slack(values: Floats, tiny: float) -> Floats:
    """Values of a bound; of faces that lie in it but for rounding, within."""
    flat = (np.abs(values) <= tiny).all(axis=-1, keepdims=True)
    return np.where(flat, tiny, np.where(np.abs(values) <= 1e-9 * tiny, 0.0, values))


def face_pieces(places: Floats, bounds: list[Bound], planes: bool, tiny: float) -> tuple[Floats, Floats]:
    """Points on a reference face and weights that integrate over what of one face, (nodes, 3), lies in a region.

    Returns
    -------
    points : ndarray, shape (points, 2)
    weights : ndarray, shape (points,)
    """
    triangle = len(places) in (3, 6)
    corners = np.array([[0.0, 0.0], [1.0, 0.0], [0.0, 1.0]])
    parts = corners[None] if triangle else np.array([[[-1.0, -1], [1, -1], [1, 1]], [[-1.0, -1], [1, 1], [-1, 1]]])
    if not (planes and _is_even(places)):
        parts = _parted(parts, FINE)
    flat = [bound for bound in bounds if not (np.abs(bound(places)) <= tiny).all()]
    for bound in flat:
        if not len(parts):
            break
        N = face_shape(len(places), parts.reshape(-1, 2))[0]
        parts = _clipped(parts, bound(N @ places).reshape(-1, 3))
    if not len(parts):
        return np.zeros((0, 2)), np.zeros(0)
    rule, weight = triangle_rule()
    first, sides = parts[:, 0], parts[:, 1:] - parts[:, :1]
    area = np.abs(sides[:, 0, 0] * sides[:, 1, 1] - sides[:, 0, 1] * sides[:, 1, 0])
    points = first[:, None] + rule @ sides
    weights = area[:, None] * weight
    if weights.sum() <= _SLIVER * (0.5 if triangle else 4.0):
        return np.zeros((0, 2)), np.zeros(0)
    return points.reshape(-1, 2), weights.ravel()


def _is_even(places: Floats) -> bool:
    """Whether the map to the face is straight: a flat triangle, or a parallelogram, with its middles halfway."""
    corners = 3 if len(places) in (3, 6) else 4
    x = places[:corners]
    size = float(np.ptp(x, axis=0).max())
    even = corners == 3 or float(np.abs(x[0] - x[1] + x[2] - x[3]).max()) < 1e-9 * size
    halfway = 0.5 * (x + np.roll(x, -1, axis=0))
    middles = places[corners : 2 * corners]
    straight = not len(middles) or float(np.abs(middles - halfway).max()) < 1e-9 * size
    return even and straight and (len(places) != 9 or float(np.abs(places[8] - x.mean(axis=0)).max()) < 1e-9 * size)


def _parted(parts: Floats, count: int) -> Floats:
    """Each triangle as count² like it."""
    i, j = (x.ravel() for x in np.meshgrid(np.arange(count), np.arange(count), indexing="ij"))
    low = i + j < count
    up = np.stack([np.stack([i, j], 1), np.stack([i + 1, j], 1), np.stack([i, j + 1], 1)], 1)[low]
    other = i + j < count - 1
    down = np.stack([np.stack([i + 1, j], 1), np.stack([i + 1, j + 1], 1), np.stack([i, j + 1], 1)], 1)[other]
    share = np.concatenate([up, down]) / count  # (parts, 3, 2)
    sides = parts[:, 1:] - parts[:, :1]
    return np.asarray((parts[:, None, :1] + np.einsum("pvk,tkd->tpvd", share, sides)).reshape(-1, 3, 2))


def _clipped(parts: Floats, values: Floats) -> Floats:
    """What of triangles lies where a function that is straight on each is at least 0."""
    inside = values >= 0.0
    count = inside.sum(axis=1)
    found = [parts[count == 3]]
    for kept in (1, 2):
        own = count == kept
        if not own.any():
            continue
        p, v, single = parts[own], values[own], inside[own]
        alone = (single if kept == 1 else ~single).argmax(axis=1)  # the corner that is not as the others
        rows = np.arange(len(p))
        a, b, c = (p[rows, (alone + k) % 3] for k in range(3))
        va, vb, vc = (v[rows, (alone + k) % 3] for k in range(3))
        ab = a + (va / (va - vb))[:, None] * (b - a)
        ac = a + (va / (va - vc))[:, None] * (c - a)
        found += [np.stack([a, ab, ac], axis=1)] if kept == 1 else [
            np.stack([ab, b, c], axis=1), np.stack([ab, c, ac], axis=1)
        ]  # fmt: skip
    return np.concatenate(found)


def joined(corners: Ints, normals: Floats, whole: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Which faces, (faces, 3 or 4) of corners, go on from faces that lie wholly within, without an edge between them.

    The sides of a body, of which a region that holds its top cuts off a strip, do not.
    """
    if not whole.any():
        return np.ones(len(corners), dtype=bool)
    size = corners.shape[1]
    a, b = corners.ravel(), np.roll(corners, -1, axis=1).ravel()
    edge = np.stack([np.minimum(a, b), np.maximum(a, b)], axis=1)
    number = np.unique(edge, axis=0, return_inverse=True)[1].ravel()
    order = np.argsort(number, kind="stable")
    same = number[order][1:] == number[order][:-1]
    first, second = order[:-1][same] // size, order[1:][same] // size
    smooth = np.einsum("fd,fd->f", normals[first], normals[second]) > _BENT
    links = coo_array((np.ones(int(smooth.sum())), (first[smooth], second[smooth])), shape=(len(corners),) * 2)
    label = connected_components(links, directed=False)[1]
    return np.isin(label, np.unique(label[whole]))
