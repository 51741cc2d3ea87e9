"""Meshes that refine themselves: what frequencies and peaks become as elements shrink, with error bars.

Richardson's extrapolation with the order that three sizes show, and the grid convergence index as error bar (Roache,
J. Fluids Eng. 116 (1994) 405-413; procedure for unequal ratios: Celik et al., J. Fluids Eng. 130 (2008) 078001).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.errors import DescriptionError
from holokine.mesh.cells import CELLS
from holokine.modes.check import HANGS
from holokine.progress import tell
from holokine.store.chain import Chain, Memory
from holokine.system.patches import energy_beside, extents, small_patches
from holokine.vary.follow import Followed, follow
from holokine.vary.run import ReadingAsked, VariantResult, _Base, _Job, _solved, key_of

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.describe.document import Document
    from holokine.describe.stages import Request
    from holokine.mesh.mesh import Mesh
    from holokine.store.chain import ModalChain

__all__ = ["Extrapolated", "Refined", "extrapolated", "refined"]

GEOMETRIES = ("beam", "cable", "ring", "plate", "cylinder", "box", "tube", "extrusion")
_DIMENSION = {"line": 1, "surface": 2, "solid": 3}
ASSUMED, SAFE, UNSAFE = 2.0, 1.25, 3.0
LOWEST = 0.5  # order, below which values move on
CHANGED = 0.02  # of its extent, by which what takes nodes by their place is another at another size
SETTLED = 1e-10  # relative change that is rounding


@dataclass(frozen=True)
class Extrapolated:
    """A figure as elements shrink to nothing.

    Attributes
    ----------
    value : float
        NaN where the sizes do not settle.
    error : float
        Half the width of its error bar.
    order : float
        Observed, or assumed (2) with two sizes; NaN where they oscillate or do not settle.
    remark : str
    """

    value: float
    error: float
    order: float
    remark: str


@dataclass(frozen=True)
class Refined:
    """An assembly at several sizes of its elements.

    Attributes
    ----------
    times : tuple of float
        How much finer was asked for, coarsest (the description as written, 1) first.
    realised : tuple of float
        How much finer the elements became, by their numbers; geometric mean over the parts.
    nodes, elements : tuple of int
    unlike : float
        Largest ratio between what parts became and what was realised on the whole.
    left : tuple of str
        Parts whose mesh comes from a file, and stay as they are.
    taken : dict of str to tuple of float
        Extent in m, at every size, of what takes nodes by their place and holds or reads something else at each.
    hanging : tuple of int
        Modes (from 1) that hang on these, by the strain energy beside them as written.
    results : list of VariantResult
    followed : Followed
    frequencies : list of Extrapolated
    readings : dict of Extrapolated
    """

    times: tuple[float, ...]
    realised: tuple[float, ...]
    nodes: tuple[int, ...]
    elements: tuple[int, ...]
    unlike: float
    left: tuple[str, ...]
    taken: dict[str, tuple[float, ...]]
    hanging: tuple[int, ...]
    results: list[VariantResult]
    followed: Followed
    frequencies: list[Extrapolated]
    readings: dict[str, Extrapolated]


def finer(document: Document, times: float) -> Document:
    """The description with built-in meshes so much finer; what comes from files stays as it is."""
    d = document.description
    parts = dict(d.parts)
    for name, part in parts.items():
        for kind in GEOMETRIES:
            shape = getattr(part, kind, None)
            if shape is None or (part.only_pulls and getattr(shape, "divisions", None) == 1):  # it stays in one piece
                continue
            update: dict[str, Any] = {}
            if getattr(shape, "size", None) is not None:
                update["size"] = shape.size / times
            elif getattr(shape, "divisions", None) is not None:
                n = shape.divisions
                update["divisions"] = _times(n, times) if isinstance(n, int) else tuple(_times(k, times) for k in n)
            else:
                continue
            if getattr(shape, "around", None):
                update["around"] = _times(shape.around, times)
            if getattr(shape, "finer", None):
                update["finer"] = tuple(f.model_copy(update={"size": f.size / times}) for f in shape.finer)
            parts[name] = part.model_copy(update={kind: shape.model_copy(update=update)})
    return replace(document, description=d.model_copy(update={"parts": parts}))


def _times(n: int, times: float) -> int:
    return max(n, round(n * times))


def _counts(mesh: Mesh) -> dict[str, tuple[int, int]]:
    """Elements and dimension of every part."""
    found: dict[str, tuple[int, int]] = {}
    for block in mesh.blocks:
        many, _ = found.get(block.part, (0, 0))
        found[block.part] = many + len(block.cells), _DIMENSION[CELLS[block.kind].family]
    return found


def refined(
    document: Document,
    asked: Request,
    readings: Sequence[ReadingAsked],
    times: Sequence[float],
    memory: Memory,
) -> Refined:
    """Run the description with its built-in meshes at several sizes.

    Raises
    ------
    DescriptionError
        No built-in mesh, or sizes that make no difference.
    """
    levels = sorted({1.0, *(float(t) for t in times)})
    if len(levels) < 2 or levels[0] < 1.0 or not all(math.isfinite(t) for t in levels):
        raise DescriptionError("meshes are refined by factors above 1, such as 1.5 and 2")
    d = document.description
    left = tuple(n for n, p in d.parts.items() if p.mesh is not None)
    if len(left) == len(d.parts):
        raise DescriptionError("every mesh comes from a file; it is refined where it was made")
    base = _Base(document.data, str(document.folder.path), document.places, document.origin, asked, tuple(readings))
    results: list[VariantResult] = []
    nodes, elements, counts, sizes_of = [], [], [], list[dict[str, float]]()
    for number, times_ in enumerate(levels):
        tell(f"elements {times_:g} times finer", number, len(levels), "sizes")
        own = document if times_ == 1.0 else finer(document, times_)
        held = memory if times_ == 1.0 else Memory()
        found = _solved(own, held, base, _Job(number, {}, key_of(own, asked, readings), "", ""))
        if base.sample is None:
            shapes, sample = found.shapes
            base, found = replace(base, sample=sample), replace(found, shapes=shapes)
        results.append(found)
        chain = Chain(own, held)
        mesh = chain.mesh
        counts.append(_counts(mesh))
        nodes.append(len(mesh.nodes))
        sizes_of.append(extents(chain.system))
        elements.append(sum(len(b.cells) for b in mesh.blocks))
    realised, unlike = _realised(counts)
    if any(b <= a * 1.01 for a, b in pairwise(realised)):
        raise DescriptionError("these factors make no difference to the meshes; ask for larger ones")
    axis = np.array(realised[1:])[:, None]
    way = follow(results[0], results[1:], axis, np.array([1.0]))
    table = np.vstack([results[0].frequencies_hz, way.frequencies_hz])
    taken = {n: e for n in sizes_of[0] if np.ptp(e := tuple(x.get(n, 0.0) for x in sizes_of)) > CHANGED * max(e)}
    hanging = _hanging(Chain(document, memory).modal(asked.again(d)), list(taken), table.shape[1])
    frequencies = [_of_mode(realised, table[:, k], k + 1 in hanging) for k in range(table.shape[1])]
    labels = [k for k in results[0].readings if all(k in r.readings for r in results)]
    peaks = {k: extrapolated(realised, [r.readings[k][0] for r in results]) for k in labels}
    sizes = tuple(nodes), tuple(elements)
    return Refined(tuple(levels), realised, *sizes, unlike, left, taken, hanging, results, way, frequencies, peaks)


def _hanging(chain: ModalChain, taken: list[str], count: int) -> tuple[int, ...]:
    """Modes with more than a little of their strain energy beside what takes other nodes at each size."""
    modes = chain.modes
    system = modes.system
    beside = {n: nodes for n, nodes in small_patches(system).items() if n in taken}
    share = energy_beside(system, beside, modes.shapes[:count]).sum(axis=0)
    return tuple(int(k) + 1 for k in np.flatnonzero(share > HANGS * 0.5 * modes.omega[:count] ** 2))


def _of_mode(finer_by: Sequence[float], values: Floats, hangs: bool) -> Extrapolated:
    found = extrapolated(finer_by, values)
    if not hangs or found.remark == "does not change":
        return found
    return Extrapolated(math.nan, math.nan, math.nan, "hangs on what takes other nodes at each size")


def _realised(counts: list[dict[str, tuple[int, int]]]) -> tuple[tuple[float, ...], float]:
    found, unlike = [], 1.0
    for own in counts:
        each = [(own[part][0] / n) ** (1.0 / dim) for part, (n, dim) in counts[0].items()]
        grown = [g for g in each if g > 1.0] or [1.0]
        mean = float(np.exp(np.mean(np.log(grown))))
        found.append(mean)
        unlike = max(unlike, max(grown) / mean, mean / min(grown))
    return tuple(found), unlike


def extrapolated(finer_by: Sequence[float], values: Sequence[float] | Floats) -> Extrapolated:
    """What values at sizes 1/finer_by (coarsest first) tend to; of more than three sizes the three finest count.

    Examples
    --------
    >>> e = extrapolated([1, 2, 4], [10 + 0.16, 10 + 0.04, 10 + 0.01])
    >>> round(e.value, 6), round(e.order, 6), round(e.error, 6)
    (10.0, 2.0, 0.0125)
    """
    h = 1.0 / np.asarray(finer_by, dtype=float)[-3:]
    v = np.asarray(values, dtype=float)[-3:]
    if not np.isfinite(v).all():
        return Extrapolated(math.nan, math.nan, math.nan, "not found again at every size")
    scale = max(float(np.abs(v).max()), 1e-300)
    last = v[-2] - v[-1]
    if abs(last) <= SETTLED * scale:
        return Extrapolated(float(v[-1]), abs(float(last)), math.nan, "does not change")
    ratio = h[-2] / h[-1]
    if len(v) < 3:
        return _to_zero(v, ratio, ASSUMED, UNSAFE, "order assumed: two sizes do not show it")
    before = v[0] - v[1]
    if before * last < 0:
        return Extrapolated(float(v[-1]), float(np.ptp(v)), math.nan, "oscillates: the finest, with the whole swing")
    order = _order(before / last, h[0] / h[1], ratio)
    if order is None:
        why = "does not settle: it moves on as elements shrink, as stress does at a sharp corner"
        return Extrapolated(math.nan, math.nan, math.nan, why)
    return _to_zero(v, ratio, order, SAFE if 1.0 <= order <= 6.0 else UNSAFE, "")


def _order(quotient: float, coarse: float, fine: float) -> float | None:
    """The order p of (coarse^p - 1) fine^p / (fine^p - 1) = quotient; None where there is none above 0.5."""
    from scipy.optimize import brentq

    def off(p: float) -> float:
        return (coarse**p - 1.0) * fine**p / (fine**p - 1.0) - quotient

    low, high = LOWEST, 12.0
    if off(low) > 0:
        return None
    return high if off(high) < 0 else float(brentq(off, low, high))


def _to_zero(v: Floats, ratio: float, order: float, safe: float, remark: str) -> Extrapolated:
    step = (v[-1] - v[-2]) / (ratio**order - 1.0)
    return Extrapolated(float(v[-1] + step), safe * abs(float(step)), order, remark)
