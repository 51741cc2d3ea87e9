"""Products of large matrices with blocks of vectors, by the library of the sparse solver where it is installed.

One pool of threads for solves and products: two pools, of the solver's library and of NumPy's, spin while they wait
and take the cores from one another. Vectors lie in rows throughout.
"""

from __future__ import annotations

import ctypes
from typing import TYPE_CHECKING, Any

import numpy as np
import scipy.linalg.blas
from numpy.typing import NDArray

from holokine.solvers.library import sparse_library
from holokine.system.wide import Following, Matrix

if TYPE_CHECKING:
    from holokine.arrays import Floats

__all__ = ["WIDE", "Symmetric", "inner", "inverse_form", "subtract"]

_SMALL = 200_000  # numbers up to which a product is left to NumPy
WIDE = 32  # vectors at once


class _Kind(ctypes.Structure):
    _fields_ = (("type", ctypes.c_int), ("mode", ctypes.c_int), ("diagonal", ctypes.c_int))


class Symmetric:
    """A symmetric sparse matrix that multiplies vectors in rows: (vectors, n) to (vectors, n)."""

    def __init__(self, matrix: Matrix) -> None:
        self.matrix, self.shape = matrix, matrix.shape
        self._wide: Following | None = None
        if isinstance(matrix, Following):
            self._wide, matrix = matrix, matrix.whole
        self._matrix = matrix
        self._handle: Any = None
        self._library: Any = sparse_library() if matrix.nnz > _SMALL and matrix.nnz < 2**31 else None
        if self._library is not None:
            self._starts = matrix.indptr.astype(np.int32)
            self._columns = matrix.indices.astype(np.int32, copy=False)
            self._data = np.ascontiguousarray(matrix.data, dtype=float)
            handle = ctypes.c_void_p()
            status = self._library.mkl_sparse_d_create_csr(
                ctypes.byref(handle), 0, *matrix.shape, _at(self._starts), _at(self._starts[1:]), _at(self._columns),
                _at(self._data),
            )  # fmt: skip
            if status == 0:
                self._handle = handle

    def __call__(self, X: Floats) -> Floats:
        result = np.empty((len(X), self.shape[0]))
        for a in range(0, len(X), WIDE):
            result[a : a + WIDE] = self.columns(np.ascontiguousarray(X[a : a + WIDE].T)).T
        return result

    def columns(self, block: Floats) -> Floats:
        """The product with columns, shape (n, columns), C order."""
        if self._wide is None:
            return self._times(block)
        return self._wide.folded(self._times(self._wide.lifted(block)))

    def _times(self, block: Floats) -> Floats:
        if self._handle is None:
            return np.asarray(self._matrix @ block)
        out = np.empty_like(block)
        width = block.shape[1]
        status = self._library.mkl_sparse_d_mm(
            10, ctypes.c_double(1.0), self._handle, _Kind(20, 0, 0), 101, _at(block), width, width,
            ctypes.c_double(0.0), _at(out), width,
        )  # fmt: skip
        return out if status == 0 else np.asarray(self._matrix @ block)

    def __del__(self) -> None:
        if getattr(self, "_handle", None) is not None and ctypes is not None:
            self._library.mkl_sparse_destroy(self._handle)


def inverse_form(
    A: Symmetric, B: Floats, diagonal: Floats, *, beside: Floats, tolerance: float = 1e-10, most: int = 250
) -> Floats | None:
    """bᵀ A⁻¹ b of every column of B, shape (n, columns); None where it takes too many steps.

    To `tolerance` of what they add up to with `beside`, shape (columns,). A is positive definite but for rows without
    numbers, in which b has none either; `diagonal` is its own.

    Conjugate gradients (Hestenes & Stiefel, J. Res. Natl. Bur. Stand. 49 (1952) 409-436) on the matrix of unit
    diagonal, whose steps add up to the form from below; the last ten added tell what was missing before them
    (Strakoš & Tichý, ETNA 13 (2002) 56-80).
    """
    by = np.divide(1.0, diagonal, out=np.zeros(len(diagonal)), where=diagonal > 0)[:, None]
    X, R = np.zeros(B.shape), np.array(B, order="C")
    P = by * R
    left = np.einsum("ij,ij->j", R, P)
    total, added = np.abs(beside), np.full((10, B.shape[1]), np.inf)
    early = np.zeros(0)
    if not B.any():
        return np.zeros(B.shape[1])
    with np.errstate(over="ignore", invalid="ignore"):  # of a singular matrix, seen below
        for turn in range(most):
            if ((added.sum(axis=0) <= tolerance * total) | (left == 0.0)).all():
                return 2.0 * np.einsum("ij,ij->j", B, X) - np.einsum("ij,ij->j", X, A.columns(X))
            if turn % 12 == 6 and turn > 6:
                short = added.sum(axis=0) / np.maximum(total, 1e-300)
                if len(early):  # as many steps more as these twelve promise
                    rate = np.log(np.maximum(short, 1e-300) / np.maximum(early, 1e-300)) / 12.0
                    more = np.log(tolerance / np.maximum(short, 1e-300)) / np.minimum(rate, -1e-9)
                    if float(more.max()) > 80.0:
                        return None
                early = short
            AP = A.columns(P)
            along = np.einsum("ij,ij->j", P, AP)
            if not (along[left > 0.0] > 0.0).all():
                return None
            step = left / np.where(along > 0.0, along, 1.0)
            added[turn % 10] = step * left
            total += step * left
            X += step * P
            R -= step * AP
            Z = by * R
            before, left = left, np.einsum("ij,ij->j", R, Z)
            if not np.isfinite(left).all():
                return None
            P *= left / np.where(before > 0.0, before, 1.0)
            P += Z
    return None


def _at(array: NDArray[Any]) -> Any:
    return ctypes.c_void_p(array.ctypes.data)


def inner(V: Floats, W: Floats) -> Floats:
    """V Wᵀ of vectors in rows, shape (vectors of V, vectors of W)."""
    library = sparse_library() if V.size > _SMALL else None
    if library is None or not (V.flags.c_contiguous and W.flags.c_contiguous):
        return V @ W.T
    n, m, b = V.shape[1], len(V), len(W)
    out = np.empty((m, b))
    library.cblas_dgemm(101, 111, 112, m, b, n, ctypes.c_double(1.0), _at(V), n, _at(W), n, ctypes.c_double(0.0),
                        _at(out), b)  # fmt: skip
    return out


def subtract(W: Floats, P: Floats, V: Floats) -> None:
    """W -= Pᵀ V in place; vectors in rows, P of shape (vectors of V, vectors of W)."""
    if W.size == 0 or V.size == 0:
        return
    n, m, b = V.shape[1], len(V), len(W)
    if not (V.flags.c_contiguous and W.flags.c_contiguous):
        W -= P.T @ V
        return
    P = np.ascontiguousarray(P)
    library = sparse_library() if V.size > _SMALL else None
    if library is None:
        scipy.linalg.blas.dgemm(-1.0, V.T, P, beta=1.0, c=W.T, overwrite_c=1)
        return
    library.cblas_dgemm(101, 112, 111, b, n, m, ctypes.c_double(-1.0), _at(P), b, _at(V), n, ctypes.c_double(1.0),
                        _at(W), n)  # fmt: skip
