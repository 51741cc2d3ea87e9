"""Symmetric matrices S + Dᵀ A D: sparse, and a few rows D that reach over many unknowns.

A mass on an averaging link to n nodes couples them all: n² numbers, and as much fill in every factor. Kept apart it
takes n. The factor of the sum is that of S with the update of Sherman, Morrison and Woodbury; its inertia is that of
S, corrected by the small matrix of the update (Haynsworth, Linear Algebra Appl. 1 (1968) 73-81).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_array

__all__ = ["Matrix", "WideSum", "explicit", "magnitude", "reached", "row_strips"]

Floats = NDArray[Any]  # float64
Ints = NDArray[Any]  # int64
_STRIP = 500_000  # numbers whose signs are taken off at once


@dataclass(frozen=True, eq=False)
class WideSum:
    """S + Dᵀ A D.

    Attributes
    ----------
    sparse : sparse array, shape (n, n)
    rows : sparse array, shape (wide, n)
    inner : ndarray, shape (wide, wide)
    """

    sparse: csr_array
    rows: csr_array
    inner: Floats

    @property
    def shape(self) -> tuple[int, int]:
        """(n, n)."""
        return self.sparse.shape  # type: ignore[no-any-return]

    @property
    def nnz(self) -> int:
        """Stored numbers."""
        return int(self.sparse.nnz + self.rows.nnz)

    def __matmul__(self, X: Floats) -> Floats:
        result = np.asarray(self.sparse @ X)
        self.add_wide(result, X)
        return result

    @cached_property
    def _narrow(self) -> tuple[Ints, csr_array]:
        return reached(self.rows)

    def add_wide(self, result: Floats, X: Floats) -> None:
        """Add Dᵀ A D X, shape (n,) or (n, columns), in place: only where D has numbers."""
        places, rows = self._narrow
        result[places] += rows.T @ (self.inner @ (rows @ X[places]))

    def diagonal(self) -> Floats:
        """Diagonal of the sum, shape (n,)."""
        more = csr_array(self.rows.T @ self.inner).multiply(self.rows.T).sum(axis=1)
        return np.asarray(self.sparse.diagonal() + np.asarray(more).ravel())


Matrix: TypeAlias = csr_array | WideSum


def explicit(A: Matrix) -> csr_array:
    """As one sparse array."""
    if isinstance(A, WideSum):
        return csr_array(A.sparse + A.rows.T @ csr_array(A.inner) @ A.rows)
    return A


def reached(rows: csr_array) -> tuple[Ints, csr_array]:
    """The columns in which rows have numbers, and the rows there alone, shape (rows, columns reached)."""
    places, own = np.unique(rows.indices, return_inverse=True)
    return places, csr_array((rows.data, own.ravel(), rows.indptr), shape=(rows.shape[0], len(places)))


def row_strips(starts: Ints, most: int) -> Iterator[tuple[int, int]]:
    """First row and the one after the last of strips that hold about `most` numbers each, by where rows start."""
    cuts = np.searchsorted(starts, np.arange(0, int(starts[-1]) + 1, most))
    return pairwise(np.unique(np.append(cuts, len(starts) - 1)).tolist())


def magnitude(A: Matrix, X: Floats) -> Floats:
    """|A| |X|, shape (n,) or (n, columns), what rounding in A X is measured by; of a wide sum no less than that.

    By strips of rows, so that there is no second matrix.
    """
    X = np.abs(X)
    if isinstance(A, WideSum):
        result = magnitude(A.sparse, X)
        WideSum(A.sparse, abs(A.rows), np.abs(A.inner)).add_wide(result, X)
        return result
    result = np.zeros((A.shape[0], *X.shape[1:]))
    starts = A.indptr
    for a, b in row_strips(starts, _STRIP):
        own = slice(starts[a], starts[b])
        strip = csr_array(
            (np.abs(A.data[own]), A.indices[own], starts[a : b + 1] - starts[a]), shape=(b - a, A.shape[1])
        )
        result[a:b] = strip @ X
    return result
