"""Largest stress of whole parts over many rows (instants, or frequencies), without working out what cannot govern."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from holokine.elements.stress import StressField, equivalent_root
from holokine.progress import counted
from holokine.system.recovery import PartPeak, keep_worst, stress_fields

if TYPE_CHECKING:
    from holokine.arrays import Floats
    from holokine.system.build import System

__all__ = ["largest_stress"]

Numbers = NDArray[Any]  # float64 or complex128
_NUMBERS = 4_000_000  # held at once in a block
_SPAN = 64  # rows judged together by a bound
_CACHED = 250_000  # numbers that stay in the processor's memory


def largest_stress(
    system: System, C: Numbers, F: Floats, rows: Floats, words: str, *, nodal: bool = True
) -> tuple[list[PartPeak], Floats]:
    """Largest stress of every part with its place and row, and at every node, in Pa.

    Parameters
    ----------
    C : ndarray, shape (rows, coordinates)
        Real: a motion in time. Complex: amplitudes, of which the largest over the cycle counts.
    F : ndarray, shape (coordinates, dofs)
        Fields of the coordinates.
    rows : ndarray, shape (rows,)
        What stands for a row in the answer: instants in s, or frequencies in Hz.
    nodal : bool
        Whether the values at nodes are wanted.

    By the triangle inequality the stress of an element on a span of rows is at most Σ max |c_k| σ_k over the
    coordinates: what cannot exceed what is found already (its own largest so far; without `nodal`, that of its part) is
    not worked out.
    """
    largest = np.abs(C).max(axis=0)
    acting = np.flatnonzero(largest)
    # principal coordinates: most of the motion lies in the first few, which makes the bound a close one
    scaled = C[:, acting] / largest[acting]
    both = np.concatenate([scaled.real, scaled.imag]) if np.iscomplexobj(C) else scaled
    _, s, turn = np.linalg.svd(both, full_matrices=False)
    H, F = scaled @ turn.T, F[acting] * largest[acting, None]
    spans = [slice(a, a + _SPAN) for a in range(0, len(rows), _SPAN)]
    tops = np.array([np.abs(H[span]).max(axis=0, initial=0.0) for span in spans])
    order = np.argsort(-np.linalg.norm(tops, axis=1), kind="stable")
    found: list[tuple[StressField, Floats, Floats | None]] = []
    floors: dict[str, float] = {}
    for m in stress_fields(system):
        highest, when = np.zeros(len(m.cells)), np.zeros(len(m.cells))
        owner, floor = m.owner, np.array([floors.get(part, 0.0) for part in m.parts])
        step = max(1, _NUMBERS // (m.per_element * max(len(spans), len(acting), 1)))
        for a in counted(range(0, len(m.cells), step), f"{words}, {m.parts[0]}", "blocks"):
            own = slice(a, a + step)
            forces = m.forces(F, own)
            Y = (forces.reshape(-1, len(F)) @ turn.T).reshape(*forces.shape[:2], len(s))
            spread = None if m.spread is None else m.spread[own]
            if m.width > 1:
                Y = equivalent_root(m.width) @ Y
                bound = np.sqrt(np.einsum("ewk,ewk->ek", Y, Y)) @ tops.T
            else:
                fibres = Y if spread is None else spread @ Y
                bound = (np.abs(fibres.reshape(-1, len(s))) @ tops.T).reshape(len(Y), m.per_element, -1).max(axis=1)
            look = _Look(m.width, Y, spread, bound, highest[own], when[own], owner[own], floor, nodal)
            leaders = np.zeros(0, dtype=np.int64) if nodal else look.leaders()
            span = bound[leaders].argmax(axis=1)
            for b in np.unique(span):
                look.at(leaders[span == b], H[spans[b]], rows[spans[b]])
            for b in order:
                look.over(b, H[spans[b]], rows[spans[b]])
        floors.update(zip(m.parts, floor.tolist(), strict=True))
        found.append((m, highest, when))
    return keep_worst(system, found)


@dataclass(frozen=True)
class _Look:
    """A block of elements: what they reach is entered in `best` and `late`, and for their parts in `floor`.

    Y: (elements, rows of each, coordinates). spread: fibres from these rows. bound: what an element cannot exceed on a
    span, (elements, spans).
    """

    width: int
    Y: Floats
    spread: Floats | None
    bound: Floats
    best: Floats
    late: Floats
    part: NDArray[Any]
    floor: Floats
    nodal: bool

    def leaders(self) -> NDArray[Any]:
        """Of every part the element that may reach most: where it is worked out first, most others need not be."""
        most = self.bound.max(axis=1)
        order = np.lexsort((-most, self.part))
        return order[np.unique(self.part[order], return_index=True)[1]]

    def over(self, b: int, H: Numbers, rows: Floats) -> None:
        """Work out the elements that may govern on a span of rows."""
        bound = self.bound[:, b]
        index = np.flatnonzero(bound > np.maximum(self.best, self.floor[self.part]))
        if not self.nodal:
            index = index[np.argsort(-bound[index], kind="stable")]
        each = self.Y.shape[1] if self.spread is None else self.spread.shape[1]
        step = max(1, _CACHED // (each * _SPAN))
        for c in range(0, len(index), step):
            own = index[c : c + step]
            self.at(own[bound[own] > self.floor[self.part[own]]], H, rows)

    def at(self, own: NDArray[Any], H: Numbers, rows: Floats) -> None:
        """Work out some elements on a span of rows."""
        if len(own) == 0:
            return
        count, many, size = len(own), self.Y.shape[1], self.Y.shape[2]
        values = (self.Y[own].reshape(-1, size) @ H.T).reshape(count, many, -1)
        if self.spread is not None:
            values = self.spread[own] @ values
        reached = _sizes(values, self.width)
        row = reached.argmax(axis=1)
        top = reached[np.arange(count), row]
        top = top if self.width == 1 else np.sqrt(top)
        better = top > self.best[own]
        self.best[own[better]] = top[better]
        self.late[own[better]] = rows[row[better]]
        if not self.nodal:
            np.maximum.at(self.floor, self.part[own], top)


def _sizes(values: Numbers, width: int) -> Floats:
    """Largest of fibres, or squared length of components (complex: the largest over the cycle), (elements, rows)."""
    if width == 1:
        return np.asarray(np.abs(values).max(axis=1))
    if not np.iscomplexobj(values):
        return np.asarray(np.einsum("ewt,ewt->et", values, values))
    own = np.einsum("ewt,ewt->et", values.real, values.real) + np.einsum("ewt,ewt->et", values.imag, values.imag)
    return np.asarray((own + np.abs(np.einsum("ewt,ewt->et", values, values))) / 2.0)
