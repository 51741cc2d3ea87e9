"""Stress of elements as linear maps with their places, and equivalent and principal stress from components."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from typing import TYPE_CHECKING

import numpy as np
from scipy.sparse import csr_array

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints

__all__ = [
    "Places", "StressField", "equivalent_form", "equivalent_root", "equivalent_stress", "mapped", "principal_stress",
    "rows_of",
]  # fmt: skip


@dataclass(frozen=True)
class Places:
    """Where the values of a field are, as arrays; words are made when asked for.

    Attributes
    ----------
    word : str
        What is numbered: element or node.
    numbers : ndarray of int, shape (places,)
        From 1.
    at : ndarray, shape (places, 3), or None
        m, where the words tell it.
    sides : tuple of str
        Endings of the words (surface, end and fibre).
    side : ndarray of int, shape (places,)
        Which ending each place has.
    """

    word: str
    numbers: Ints
    at: Floats | None
    sides: tuple[str, ...]
    side: Ints

    def __len__(self) -> int:
        return len(self.numbers)

    def text(self, place: int) -> str:
        """A place in words, such as ``element 3 at [100, 0, 20] mm, top``."""
        where = ""
        if self.at is not None:
            p = 1e3 * self.at[place]
            where = f" at [{p[0]:.0f}, {p[1]:.0f}, {p[2]:.0f}] mm"
        return f"{self.word} {self.numbers[place]}{where}{self.sides[self.side[place]]}"

    @classmethod
    def on(cls, word: str, numbers: Ints, at: Floats | None, side: str = "") -> Places:
        """Places that all have one ending."""
        return cls(word, np.asarray(numbers), at, (side,), np.zeros(len(numbers), dtype=np.int64))

    @classmethod
    def joined(cls, several: list[Places]) -> Places:
        """Places of several maps one after the other."""
        if len(several) == 1:
            return several[0]
        shift = np.cumsum([0, *(len(p.sides) for p in several)])
        return cls(
            several[0].word,
            np.concatenate([p.numbers for p in several]),
            None if several[0].at is None else np.concatenate([p.at for p in several if p.at is not None]),
            tuple(s for p in several for s in p.sides),
            np.concatenate([p.side + k for p, k in zip(several, shift, strict=False)]),
        )


@dataclass(frozen=True)
class StressField:
    """Stress components of the elements of a part, or of several parts one after the other, as a linear map of motion.

    Attributes
    ----------
    parts : tuple of str
    matrix : sparse array, shape (places * width, dofs)
        Pa per m and rad, place by place; with `spread` of what stress comes from.
    width : int
        Components of a place: 1 (fibres of beams), 3 (shells: xx yy xy) or 6 (solids).
    places : Places
    cells, nodes : ndarray of int, shape (elements, ...)
        Nodes of each element, and those at which its value is shown; empty for fields at nodes.
    inertia : sparse array, shape as `matrix`, or None
        What absolute acceleration adds, for stress from balance.
    spots : ndarray, shape (elements, 3), or None
        Where the value of each element is, in m; None: in its middle.
    free : ndarray, shape (width,), or None
        Stress that a unit free strain takes off where nothing moves, in Pa; None: as the elements say.
    starts : tuple of int
        First element of each part.
    spread : ndarray, shape (elements, places of each * width, forces), or None
        Stress of each element from what the matrix gives: few forces stand for many fibres.
    """

    parts: tuple[str, ...]
    matrix: csr_array
    width: int
    places: Places
    cells: Ints
    nodes: Ints
    inertia: csr_array | None = None
    spots: Floats | None = None
    free: Floats | None = None
    starts: tuple[int, ...] = (0,)
    spread: Floats | None = None

    def forces(self, fields: Floats, elements: slice = slice(None)) -> Floats:
        """What the matrix gives of fields (fields, dofs) in some elements, shape (elements, rows of each, fields)."""
        start, stop, _ = elements.indices(len(self.cells))
        each = self.matrix.shape[0] // max(len(self.cells), 1)
        return mapped(rows_of(self.matrix, start * each, stop * each), fields).reshape(stop - start, each, len(fields))

    def of(self, fields: Floats, elements: slice = slice(None)) -> Floats:
        """Stress components under fields (fields, dofs) in some elements, shape (elements, components, fields)."""
        forces = self.forces(fields, elements)
        return forces if self.spread is None else self.spread[elements] @ forces

    @property
    def owner(self) -> Ints:
        """Which of the parts each element belongs to, shape (elements,)."""
        return np.repeat(np.arange(len(self.parts)), np.diff([*self.starts, len(self.cells)]))

    @property
    def per_element(self) -> int:
        """Components of each element."""
        return int(self.matrix.shape[0]) // len(self.cells) if self.spread is None else int(self.spread.shape[1])

    def side(self, element: int) -> str:
        """Surface or end that the field is of, in words."""
        return self.places.sides[self.places.side[element * (len(self.places) // len(self.cells))]]

    def size(self, components: Floats) -> Floats:
        """Largest size in each element from components of all elements, or of some: (..., rows) to (..., elements)."""
        shape = components.shape[:-1]
        if self.width == 1:
            return np.abs(components).reshape(*shape, -1, self.per_element).max(axis=-1)
        return equivalent_stress(components.reshape(*shape, -1, self.width))


def rows_of(matrix: csr_array, start: int, stop: int) -> csr_array:
    """Rows from `start` to `stop` (or the end) of a sparse map, by what lies there together."""
    starts = matrix.indptr[start : stop + 1]
    held = slice(starts[0], starts[-1])
    return csr_array(
        (matrix.data[held], matrix.indices[held], starts - starts[0]), shape=(len(starts) - 1, matrix.shape[1])
    )


def mapped(matrix: csr_array, fields: Floats) -> Floats:
    """A sparse map of several fields, shape (fields, dofs), as (rows, fields); only dofs in use are gathered."""
    marked = np.zeros(matrix.shape[1], dtype=bool)
    marked[matrix.indices] = True
    used = np.flatnonzero(marked)
    index = np.cumsum(marked)[matrix.indices] - 1
    small = csr_array((matrix.data, index, matrix.indptr), shape=(matrix.shape[0], len(used)))
    return np.asarray(small @ np.ascontiguousarray(fields[:, used].T))


@cache
def equivalent_root(width: int) -> Floats:
    """Matrix L, shape (independent, width), with LᵀL the form of `equivalent_form`: σ_eq is the length of L σ."""
    values, vectors = np.linalg.eigh(equivalent_form(width))
    kept = values > 1e-12
    return np.asarray(np.sqrt(values[kept])[:, None] * vectors[:, kept].T)


def equivalent_form(width: int) -> Floats:
    """Matrix A with σ_eq² = σᵀ A σ (von Mises), for xx yy zz xy yz zx, in a plane xx yy xy, or normal and shear."""
    if width == 2:
        return np.diag([1.0, 3.0])
    if width == 3:
        return np.array([[1.0, -0.5, 0.0], [-0.5, 1.0, 0.0], [0.0, 0.0, 3.0]])
    A = np.zeros((6, 6))
    A[:3, :3] = -0.5
    A[range(3), range(3)] = 1.0
    A[range(3, 6), range(3, 6)] = 3.0
    return A


def equivalent_stress(stress: Floats) -> Floats:
    """Equivalent stress of components in the last axis, shape (..., 2, 3 or 6) to (...)."""
    x, y = stress[..., 0], stress[..., 1]
    if stress.shape[-1] == 2:
        return np.sqrt(x * x + 3.0 * y * y)
    if stress.shape[-1] == 3:
        return np.sqrt(np.maximum(x * x - x * y + y * y + 3.0 * stress[..., 2] ** 2, 0.0))
    z = stress[..., 2]
    shear = stress[..., 3] ** 2 + stress[..., 4] ** 2 + stress[..., 5] ** 2
    return np.sqrt(0.5 * ((x - y) ** 2 + (y - z) ** 2 + (z - x) ** 2) + 3.0 * shear)


def principal_stress(stress: Floats) -> Floats:
    """Principal stress of largest magnitude, with its sign, shape (..., 3 or 6) to (...)."""
    if stress.shape[-1] == 3:
        middle = (stress[..., 0] + stress[..., 1]) / 2.0
        radius = np.hypot((stress[..., 0] - stress[..., 1]) / 2.0, stress[..., 2])
        return np.where(middle >= 0, middle + radius, middle - radius)
    T = np.zeros((*stress.shape[:-1], 3, 3))
    for k, (i, j) in enumerate([(0, 0), (1, 1), (2, 2), (0, 1), (1, 2), (2, 0)]):
        T[..., i, j] = T[..., j, i] = stress[..., k]
    values = np.linalg.eigvalsh(T)
    return np.where(np.abs(values[..., 0]) > np.abs(values[..., 2]), values[..., 0], values[..., 2])
