"""Assembling element matrices into sparse ones."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array, csr_array

__all__ = ["DIRECTION_NAMES", "Accumulator", "assemble", "node_dofs"]

Floats = NDArray[Any]  # float64
Ints = NDArray[Any]  # int64
DIRECTION_NAMES = ("x", "y", "z", "rx", "ry", "rz")


def node_dofs(nodes: Ints) -> Ints:
    """Degrees of freedom of nodes, six per node: shape (..., nodes) to (..., 6 * nodes)."""
    nodes = np.asarray(nodes, dtype=np.int64)
    return (nodes[..., None] * 6 + np.arange(6)).reshape(*nodes.shape[:-1], -1)


class Accumulator:
    """Sums dense blocks into a sparse matrix in bounded pieces.

    Blocks are gathered up to some tens of millions of numbers, summed into one sparse piece, and pieces of
    like size are added pairwise, so that memory stays near that of the result and every number is touched a
    few times only.
    """

    limit = 30_000_000

    def __init__(self, size: int) -> None:
        self.size = size
        self._kind = np.int32 if size < 2**31 else np.int64
        self._waiting: list[tuple[Ints, Ints, Floats]] = []
        self._count = 0
        self._pieces: list[csr_array] = []

    def add(self, dofs: Ints, values: Floats) -> None:
        """Add blocks: `dofs` of shape (elements, m), `values` of shape (elements, m, m)."""
        m = dofs.shape[1]
        small = dofs.astype(self._kind)
        # structural zeros (directions that do not couple) are not stored
        nonzero = (values != 0.0).any(axis=0)
        if not nonzero.all():
            r, c = np.nonzero(nonzero)
            entry = (small[:, r].ravel(), small[:, c].ravel(), values[:, r, c].ravel())
        else:
            entry = (np.repeat(small, m, axis=1).ravel(), np.tile(small, (1, m)).ravel(), values.reshape(-1))
        self._waiting.append(entry)
        self._count += len(entry[2])
        if self._count > self.limit:
            self._flush()

    def _flush(self) -> None:
        if not self._waiting:
            return
        if len(self._waiting) == 1:
            rows, cols, data = self._waiting[0]
        else:
            rows, cols, data = (np.concatenate(part) for part in zip(*self._waiting, strict=True))
        self._waiting, self._count = [], 0
        piece = coo_array((data, (rows, cols)), shape=(self.size, self.size)).tocsr()
        del rows, cols, data
        self._pieces.append(csr_array(piece))
        while len(self._pieces) > 1 and self._pieces[-2].nnz < 2 * self._pieces[-1].nnz:
            last = self._pieces.pop()
            self._pieces[-1] = csr_array(self._pieces[-1] + last)

    def result(self) -> csr_array:
        """The sum."""
        self._flush()
        while len(self._pieces) > 1:
            last = self._pieces.pop()
            self._pieces[-1] = csr_array(self._pieces[-1] + last)
        if not self._pieces:
            return csr_array((self.size, self.size))
        matrix = self._pieces.pop()
        matrix.sum_duplicates()
        return matrix


def assemble(size: int, blocks: Iterable[tuple[Ints, Floats]]) -> csr_array:
    """Sum dense blocks, (dofs, values) each, into a sparse matrix of shape (size, size)."""
    total = Accumulator(size)
    for dofs, values in blocks:
        total.add(dofs, values)
    return total.result()
