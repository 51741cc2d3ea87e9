"""Symmetric matrices S + Dᵀ A D: sparse, and a few rows D that reach over many unknowns.

A mass on an averaging link to n nodes couples them all: n² numbers, and as much fill in every factor. Kept apart it
takes n. The factor of the sum is that of S with the update of Sherman, Morrison and Woodbury; its inertia is that of
S, corrected by the small matrix of the update (Haynsworth, Linear Algebra Appl. 1 (1968) 73-81).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_array, diags_array

__all__ = ["Matrix", "WideSum", "absolute", "explicit"]

Floats = NDArray[Any]  # float64


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
        return np.asarray(self.sparse @ X + self.rows.T @ (self.inner @ (self.rows @ X)))

    def diagonal(self) -> Floats:
        """Diagonal of the sum, shape (n,)."""
        more = csr_array(self.rows.T @ self.inner).multiply(self.rows.T).sum(axis=1)
        return np.asarray(self.sparse.diagonal() + np.asarray(more).ravel())

    def scaled(self, factors: Floats, kept: NDArray[np.int64]) -> WideSum:
        """Rows and columns that are kept, times factors."""
        by = diags_array(factors)
        inside = csr_array(self.sparse[kept])[:, kept]
        return WideSum(csr_array(by @ inside @ by), csr_array(self.rows[:, kept] @ by), self.inner)


Matrix: TypeAlias = csr_array | WideSum


def explicit(A: Matrix) -> csr_array:
    """As one sparse array."""
    if isinstance(A, WideSum):
        return csr_array(A.sparse + A.rows.T @ csr_array(A.inner) @ A.rows)
    return A


def absolute(A: Matrix) -> Matrix:
    """A matrix of numbers without sign, none smaller than that of the sum."""
    if isinstance(A, WideSum):
        return WideSum(_absolute(A.sparse), _absolute(A.rows), np.abs(A.inner))
    return _absolute(A)


def _absolute(A: csr_array) -> csr_array:
    return csr_array((np.abs(A.data), A.indices, A.indptr), shape=A.shape)
