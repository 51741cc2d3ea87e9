"""Assembling element matrices into sparse ones."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

import numpy as np
from scipy.sparse import bsr_array, coo_array, csr_array

from holokine.sizes import narrow
from holokine.system.wide import row_strips

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints

__all__ = ["DIRECTION_NAMES", "Accumulator", "assemble", "node_dofs", "without_noise"]

_NOISE = 1e-15
_STRIP = 2_000_000  # numbers looked at together
DIRECTION_NAMES = ("x", "y", "z", "rx", "ry", "rz")


def node_dofs(nodes: Ints) -> Ints:
    """Degrees of freedom of nodes, six per node: shape (..., nodes) to (..., 6 * nodes)."""
    nodes = np.asarray(nodes, dtype=np.int64)
    return (nodes[..., None] * 6 + np.arange(6)).reshape(*nodes.shape[:-1], -1)


class Accumulator:
    """Sums dense blocks into sparse matrices in bounded pieces.

    Blocks are gathered up to some tens of millions of numbers, summed into one sparse piece, and pieces of
    like size are added pairwise, so that memory stays near that of the result and every number is touched a
    few times only. Several matrices of the same elements are summed together: where their blocks go is worked out once.

    Parameters
    ----------
    size : int
        Rows of the matrices.
    matrices : int
        How many there are.
    """

    limit = 30_000_000

    def __init__(self, size: int, matrices: int = 1) -> None:
        self.size = size
        self._kind = np.int32 if size < 2**31 else np.int64
        self._sums = [_Pieces(size, self._kind) for _ in range(matrices)]
        self._blocks: dict[tuple[int, int], list[tuple[Ints, Ints, tuple[Floats, ...]]]] = {}
        self._block_count = 0

    def add_elements(self, nodes: Ints, motions: int, index: Ints | None, *values: Floats) -> None:
        """Add matrices of elements by their nodes.

        Parameters
        ----------
        nodes : ndarray of int, shape (elements, nodes)
        motions : int
            How many dofs of each node the matrices have, from x on.
        index : ndarray of int, shape (elements,), optional
            Which of `values` belongs to each element; in order when left out.
        *values : ndarray, shape (matrices, nodes * motions, nodes * motions)
            Into each of the sums.
        """
        which = np.arange(len(nodes)) if index is None else index
        self._blocks.setdefault((nodes.shape[1], motions), []).append((nodes, which, values))
        self._block_count += len(values) * nodes.shape[0] * (nodes.shape[1] * motions) ** 2
        if self._block_count > self.limit:
            self._flush()

    def _flush(self) -> None:
        """Sum blocks of pairs of nodes: they are few against the numbers in them."""
        for (count, motions), entries in self._blocks.items():
            nodes = np.concatenate([e[0] for e in entries])
            shift = np.cumsum([0, *(len(e[2][0]) for e in entries[:-1])])
            which = np.concatenate([e[1] + s for e, s in zip(entries, shift, strict=True)])
            pairs = which[:, None] * count**2 + np.arange(count**2)
            keys = (nodes[:, :, None] * (self.size // 6) + nodes[:, None, :]).ravel()
            order = np.argsort(keys, kind="stable")
            keys = keys[order]
            starts = np.flatnonzero(np.concatenate([[True], keys[1:] != keys[:-1]]))
            rows, columns = np.divmod(keys[starts], self.size // 6)
            # a sparse matrix of ones gathers and sums in one pass, in the order of the elements
            gather = np.ones(len(keys)), pairs.ravel()[order], np.append(starts, len(keys))
            for k, total in enumerate(self._sums):
                shape = (-1, count, motions, count, motions)
                values = np.concatenate([e[2][k].reshape(shape).transpose(0, 1, 3, 2, 4) for e in entries])
                values = values.reshape(-1, motions * motions)
                data = csr_array(gather, shape=(len(starts), len(values))) @ values
                del values
                total.push(_expanded(rows, columns, data, motions, self.size, self._kind))
        self._blocks, self._block_count = {}, 0

    def add(self, dofs: Ints, values: Floats, matrix: int = 0) -> None:
        """Add blocks to one of the sums: `dofs` of shape (elements, m), `values` of shape (elements, m, m)."""
        self._sums[matrix].add(dofs, values, self.limit)

    def result(self, matrix: int = 0) -> csr_array:
        """One of the sums, taken from here."""
        self._flush()
        return self._sums[matrix].result()


class _Pieces:
    """One sum."""

    def __init__(self, size: int, kind: Any) -> None:
        self.size, self._kind = size, kind
        self._waiting: list[tuple[Ints, Ints, Floats]] = []
        self._count = 0
        self._pieces: list[csr_array] = []

    def add(self, dofs: Ints, values: Floats, limit: int) -> None:
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
        if self._count > limit:
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
        self.push(csr_array(piece))

    def push(self, piece: csr_array) -> None:
        self._pieces.append(piece)
        while len(self._pieces) > 1 and self._pieces[-2].nnz < 2 * self._pieces[-1].nnz:
            last = self._pieces.pop()
            self._pieces[-1] = csr_array(self._pieces[-1] + last)

    def result(self) -> csr_array:
        self._flush()
        while len(self._pieces) > 1:
            last = self._pieces.pop()
            self._pieces[-1] = csr_array(self._pieces[-1] + last)
        if not self._pieces:
            return csr_array((self.size, self.size))
        matrix = self._pieces.pop()
        matrix.sum_duplicates()
        return narrow(matrix)


def _expanded(rows: Ints, columns: Ints, data: Floats, motions: int, size: int, kind: Any) -> csr_array:
    """Rows of numbers from rows of blocks, sorted; numbers that are zero are not stored.

    Blocks of three motions lie in every other row of blocks of three, and of columns.
    """
    share = 6 // motions
    starts = np.searchsorted(rows, np.arange(size // 6 + 1))
    wide = np.concatenate([starts[:1], np.repeat(starts[1:], share)]).astype(kind)
    blocks = (data.reshape(-1, motions, motions), (share * columns).astype(kind), wide)
    matrix = csr_array(bsr_array(blocks, shape=(size, size)).tocsr())
    matrix.eliminate_zeros()
    return matrix


def without_noise(A: csr_array) -> csr_array:
    """A symmetric, positive semi-definite matrix without the numbers that rounding left where others cancel.

    These are the ones below 1e-15 of √(a_ii a_jj), the most that an entry can be: a few times the rounding of the sums
    themselves. In grids of rectangles they are a third to half of all that are stored.
    """
    root = np.sqrt(np.maximum(A.diagonal(), 0.0))
    counts = np.diff(A.indptr)
    kept = np.empty(A.nnz, dtype=bool)
    for a, b in row_strips(A.indptr, _STRIP):
        own = slice(A.indptr[a], A.indptr[b])
        least = np.repeat(_NOISE * root[a:b], counts[a:b]) * root[A.indices[own]]
        kept[own] = np.abs(A.data[own]) >= least
    if kept.all():
        return A
    starts = np.concatenate([[0], np.cumsum(kept)])[A.indptr].astype(A.indptr.dtype)
    return csr_array((A.data[kept], A.indices[kept], starts), shape=A.shape)


def assemble(size: int, blocks: Iterable[tuple[Ints, Floats]]) -> csr_array:
    """Sum dense blocks, (dofs, values) each, into a sparse matrix of shape (size, size)."""
    total = Accumulator(size)
    for dofs, values in blocks:
        total.add(dofs, values)
    return total.result()
