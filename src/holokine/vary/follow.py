"""Modes followed through a variation by the modal assurance criterion.

Every variant is compared with the one next to it that was followed before, beginning with the description as it is
written, so that a shape that changes slowly keeps its number, and a crossing is seen where it happens.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.vary.run import VariantResult

__all__ = ["Followed", "follow"]

ALIKE = 0.5


@dataclass(frozen=True)
class Followed:
    """Modes by the numbers that they have in the description as it is written.

    Attributes
    ----------
    frequencies_hz : ndarray, shape (variants, modes)
        NaN where a mode is not found again.
    place : ndarray of int, shape (variants, modes)
        Row of the mode in its variant; -1 where it is not found again.
    assurance : ndarray, shape (variants, modes)
        Criterion against the shape that it was followed from.
    crossings : list of str, one per variant
        Which modes have changed their order since the variant that it was followed from.
    parent : ndarray of int
        Variant that each was followed from; -1: the description as it is written.
    """

    frequencies_hz: Floats
    place: NDArray[Any]
    assurance: Floats
    crossings: list[str]
    parent: NDArray[Any]


def follow(first: VariantResult, results: Sequence[VariantResult], numbers: Floats, own: Floats) -> Followed:
    """Follow the modes of `first` through all results.

    Parameters
    ----------
    numbers : ndarray, shape (variants, parameters)
        Values as numbers.
    own : ndarray, shape (parameters,)
        Those of the description as it is written; NaN where it has none.
    """
    count, modes = len(results), len(first.frequencies_hz)
    found, place = np.full((count, modes), np.nan), np.full((count, modes), -1)
    assurance, crossings = np.full((count, modes), np.nan), [""] * count
    parent = np.full(count, -1)
    size = np.nanmax(numbers, axis=0, initial=0.0) - np.nanmin(numbers, axis=0, initial=np.inf) if count else own
    size = np.where(np.isfinite(size) & (size > 0), size, 1.0)
    at = np.nan_to_num(numbers / size)
    start = np.where(np.isnan(own), np.nanmedian(numbers, axis=0) if count else own, own) / size
    order = list(range(modes))
    shapes: dict[int, Any] = {-1: first.shapes}
    ranks: dict[int, list[int]] = {-1: order}
    left = [n for n, r in enumerate(results) if not r.failed and r.shapes is not None and r.shapes.size]
    nearest = {n: (float(np.linalg.norm(at[n] - start)), -1) for n in left}
    while nearest:
        n = min(nearest, key=lambda k: nearest[k][0])
        _, came_from = nearest.pop(n)
        parent[n] = came_from
        before, now = shapes[came_from], results[n].shapes
        mac = np.square(before.astype(np.float64) @ now.astype(np.float64).T)
        mine, theirs, kept = *_pairs(mac), before.copy()
        for mode, row in zip(mine, theirs, strict=True):
            found[n, mode], place[n, mode] = results[n].frequencies_hz[row], row
            assurance[n, mode] = min(1.0, float(mac[mode, row]))
            kept[mode] = now[row]
        shapes[n] = kept
        ranks[n] = [int(m) for m in np.argsort(np.where(place[n] >= 0, place[n], modes + 1), kind="stable")]
        crossings[n] = _crossed(ranks[came_from], ranks[n], place[n])
        for other, (distance, _) in nearest.items():
            far = float(np.linalg.norm(at[other] - at[n]))
            if far < distance:
                nearest[other] = far, n
    return Followed(found, place, assurance, crossings, parent)


def _pairs(mac: Floats) -> tuple[list[int], list[int]]:
    from scipy.optimize import linear_sum_assignment

    rows, columns = linear_sum_assignment(-mac)
    good = mac[rows, columns] >= ALIKE
    return rows[good].tolist(), columns[good].tolist()


def _crossed(before: list[int], now: list[int], place: NDArray[Any]) -> str:
    """Pairs of neighbours that changed their order."""
    rank = {m: k for k, m in enumerate(now) if place[m] >= 0}
    there = [m for m in before if m in rank]
    told = []
    for k, low in enumerate(there):
        passed = [high for high in there[k + 1 :] if rank[high] < rank[low]]
        if passed:
            told.append(f"{low + 1} with {', '.join(str(m + 1) for m in passed)}")
    return "; ".join(told)
