"""Symmetric matrices over dofs v, and over a few more that follow many of them: w = D v.

A mass on an averaging link to n nodes, or a node whose motion the mean of n others decides, couples them all when it is
summed into their rows: n² numbers, as much fill in every factor, and digits lost to sums of n² large numbers. Kept
apart it takes n, and nothing is summed before it is multiplied.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import TYPE_CHECKING, TypeAlias

import numpy as np
from scipy.sparse import csr_array

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints

__all__ = ["Following", "Matrix", "explicit", "magnitude", "reached", "row_strips"]

_STRIP = 500_000  # numbers whose signs are taken off at once


@dataclass(frozen=True, eq=False)
class Following:
    """[1 Dᵀ] A [1; D].

    Attributes
    ----------
    whole : sparse array, shape (n + wide, n + wide)
        A, over the motions and behind them those that follow.
    rows : sparse array, shape (wide, n)
        D.
    """

    whole: csr_array
    rows: csr_array

    @property
    def shape(self) -> tuple[int, int]:
        """(n, n)."""
        return self.rows.shape[1], self.rows.shape[1]

    @property
    def nnz(self) -> int:
        """Stored numbers."""
        return int(self.whole.nnz + self.rows.nnz)

    @cached_property
    def _narrow(self) -> tuple[Ints, csr_array]:
        return reached(self.rows)

    def lifted(self, X: Floats) -> Floats:
        """[X; D X], shape (n + wide,) or (n + wide, columns)."""
        places, rows = self._narrow
        return np.concatenate([X, np.asarray(rows @ X[places])])

    def folded(self, Y: Floats) -> Floats:
        """[1 Dᵀ] Y, shape (n,) or (n, columns): a view of Y, which is used up."""
        places, rows = self._narrow
        result = Y[: self.shape[0]]
        result[places] += rows.T @ Y[self.shape[0] :]
        return result

    def __matmul__(self, X: Floats) -> Floats:
        return self.folded(np.asarray(self.whole @ self.lifted(X)))

    def diagonal(self) -> Floats:
        """Diagonal of the sum, shape (n,)."""
        n = self.shape[0]
        across, inner = csr_array(self.whole[:n, n:]), csr_array(self.whole[n:, n:])
        more = csr_array(2.0 * across + self.rows.T @ inner).multiply(self.rows.T).sum(axis=1)
        return np.asarray(self.whole.diagonal()[:n] + np.asarray(more).ravel())


Matrix: TypeAlias = csr_array | Following


def explicit(A: Matrix) -> csr_array:
    """As one sparse array."""
    if not isinstance(A, Following):
        return A
    n, D = A.shape[0], A.rows
    across = csr_array(D.T @ A.whole[n:, :n])
    among = csr_array(D.T @ A.whole[n:, n:] @ D)
    return csr_array(A.whole[:n, :n] + (across + across.T + (among + among.T) * 0.5))


def reached(rows: csr_array) -> tuple[Ints, csr_array]:
    """The columns in which rows have numbers, and the rows there alone, shape (rows, columns reached)."""
    places, own = np.unique(rows.indices, return_inverse=True)
    return places, csr_array((rows.data, own.ravel(), rows.indptr), shape=(rows.shape[0], len(places)))


def row_strips(starts: Ints, most: int) -> Iterator[tuple[int, int]]:
    """First row and the one after the last of strips that hold about `most` numbers each, by where rows start."""
    cuts = np.searchsorted(starts, np.arange(0, int(starts[-1]) + 1, most))
    return pairwise(np.unique(np.append(cuts, len(starts) - 1)).tolist())


def magnitude(A: Matrix, X: Floats) -> Floats:
    """|A| |X|, shape (n,) or (n, columns), what rounding in A X is measured by.

    Of motions that follow: |A| of their own size, [1 |D|ᵀ] |A| [|X|; |D X|]. By strips of rows, so that there is no
    second matrix.
    """
    if isinstance(A, Following):
        return Following(A.whole, abs(A.rows)).folded(magnitude(A.whole, A.lifted(X)))
    X = np.abs(X)
    result = np.zeros((A.shape[0], *X.shape[1:]))
    starts = A.indptr
    for a, b in row_strips(starts, _STRIP):
        own = slice(starts[a], starts[b])
        strip = csr_array(
            (np.abs(A.data[own]), A.indices[own], starts[a : b + 1] - starts[a]), shape=(b - a, A.shape[1])
        )
        result[a:b] = strip @ X
    return result
