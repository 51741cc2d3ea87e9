"""Factorising symmetric sparse matrices, with the inertia as a by-product.

One small interface, three ways: LDLᵀ with Bunch-Kaufman pivoting by pypardiso where it is installed, SciPy's
SuperLU in symmetric mode otherwise, dense LDLᵀ by LAPACK for small matrices. By Sylvester's law the number
of negative pivots of K - σM is the number of eigenvalues of (K, M) below σ; SuperLU's pivots tell it only
when its row and column permutations agree, and otherwise the inertia is unknown.

Large frames have factors of a few numbers per row, with which SuperLU solves in half the time or less: where the matrix
is positive definite, so that no pivot needs to be looked for, it is taken for those although pypardiso is there.
"""

from __future__ import annotations

import ctypes
import os
import shutil
import tempfile
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Protocol

import numpy as np
import scipy.linalg
from scipy.sparse import csc_array, csr_array, diags_array, hstack, triu, vstack

from holokine import sizes
from holokine.errors import OutOfMemoryError, SolverError
from holokine.sizes import beyond_memory, refuse_beyond_memory
from holokine.solvers.library import fast_available, fast_solver
from holokine.solvers.products import subtract
from holokine.system.wide import Following, Matrix, explicit, magnitude, reached
from holokine.whole import temporary_folder

if TYPE_CHECKING:
    from holokine.arrays import Floats, Ints

__all__ = ["DENSE_LIMIT", "Factor", "Pencil", "factorise"]

DENSE_LIMIT = 400
LARGE = 20_000  # unknowns from which reading the factor weighs more than what is done with it
THIN = 25.0  # numbers per row of a factor up to which SuperLU solves faster
TINY = 1e-13  # of the largest number of the matrix: pivots below are not relied on


class Factor(Protocol):
    """A factorised symmetric matrix.

    Attributes
    ----------
    method : str
        Which way was taken.
    negative : int or None
        Number of negative eigenvalues; None where unknown.
    perturbed : int
        Pivots that had to be changed, so that solves and inertia are in doubt.
    entries : int
        Stored numbers of the factor.
    block : int
        Columns at a time that an iteration had best solve for: wide enough for blocks to pay, narrow enough not to
        need many more columns.
    """

    method: str
    negative: int | None
    perturbed: int
    entries: int
    block: int

    def solve(self, right: Floats) -> Floats:
        """Solve for one column, shape (n,), or several, shape (n, columns)."""
        ...


def factorise(matrix: csr_array, *, method: str = "auto") -> Factor:
    """Factorise a symmetric matrix.

    Parameters
    ----------
    matrix : sparse array, shape (n, n)
        Symmetric, all entries stored.
    method : {"auto", "ldl", "superlu", "dense"}
        ``auto``: dense up to 400 rows, then pypardiso if installed, else SuperLU.

    Raises
    ------
    SolverError
        When the matrix is singular to working precision or memory runs out.
    """
    method = _chosen(method, matrix.shape[0])
    if method == "dense":
        return _DenseFactor(matrix)
    if method == "ldl":
        empty = csr_array(matrix.shape)
        return Pencil(matrix, empty, method=method).at(0.0)
    if method == "superlu":
        return _SuperLUFactor(matrix)
    raise ValueError(f"method must be auto, ldl, superlu or dense, got {method!r}")


class _DenseFactor:
    """LAPACK's Bunch-Kaufman factorisation (sytrf / sytrs)."""

    method = "dense LDLT (LAPACK)"
    block = 6

    def __init__(self, matrix: csr_array) -> None:
        full = matrix.toarray()
        self._ldu, self._pivots, info = scipy.linalg.lapack.dsytrf(full, lower=1)
        if info < 0:
            raise SolverError("the matrix holds numbers that are not finite")
        self.perturbed = 0
        blocks = self._eigenvalues()
        scale = float(np.abs(full).max()) if full.size else 1.0
        if full.size and float(np.abs(blocks).min()) <= 1e-15 * scale * 1e-3:
            self.perturbed = int((np.abs(blocks) <= 1e-18 * scale).sum())
        self.negative: int | None = int((blocks < 0).sum())
        self.entries = full.size

    def _eigenvalues(self) -> Floats:
        """Eigenvalues of the block-diagonal D."""
        d, piv = self._ldu, self._pivots
        values, i = [], 0
        while i < len(piv):
            if piv[i] < 0:
                values += list(np.linalg.eigvalsh([[d[i, i], d[i + 1, i]], [d[i + 1, i], d[i + 1, i + 1]]]))
                i += 2
            else:
                values.append(d[i, i])
                i += 1
        return np.array(values)

    def solve(self, right: Floats) -> Floats:
        columns = right if right.ndim == 2 else right[:, None]
        if not columns.size:  # all is held
            return np.zeros_like(right)
        result, info = scipy.linalg.lapack.dsytrs(self._ldu, self._pivots, columns, lower=1)
        if info or not np.isfinite(result).all():
            raise SolverError("the matrix is singular to working precision")
        return result if right.ndim == 2 else result[:, 0]


def _superlu_estimate(matrix: csr_array) -> float:
    """Bytes of SuperLU's factors, roughly.

    The fill of cubes of bricks between 2,700 and 45,000 unknowns was measured as 0.08 n^0.58 per entry of the
    matrix; a sheet (fewer entries per row) fills a quarter of that.
    """
    n = matrix.shape[0]
    solid = matrix.nnz > 45.0 * n
    return (12.0 if solid else 3.0) * 0.08 * matrix.nnz * float(max(n, 1)) ** 0.58


class _SuperLUFactor:
    """SuperLU in symmetric mode."""

    method = "LU in symmetric mode (SuperLU)"
    block = 4

    def __init__(self, matrix: csr_array) -> None:
        from scipy.sparse.linalg import splu

        refuse_beyond_memory(_superlu_estimate(matrix), matrix.shape[0])
        try:
            self._lu = splu(
                csc_array(matrix),
                permc_spec="MMD_AT_PLUS_A",
                diag_pivot_thresh=0.0,
                options={"SymmetricMode": True},
            )
        except RuntimeError as err:
            raise SolverError(f"the matrix is singular to working precision ({err})") from None
        except MemoryError:
            raise OutOfMemoryError(
                f"not enough memory to factorise {matrix.shape[0]} unknowns; "
                "install the `fast` extra, which needs about half, or coarsen the mesh"
            ) from None
        self.perturbed = 0
        symmetric = np.array_equal(self._lu.perm_r, self._lu.perm_c)
        pivots = self._lu.U.diagonal()
        self.negative: int | None = int((pivots < 0).sum()) if symmetric else None
        self.least = float(np.abs(pivots).min(initial=np.inf))
        self.entries = int(self._lu.nnz)

    def solve(self, right: Floats) -> Floats:
        return self._lu.solve(np.asfortranarray(right))


class Pencil:
    """K - σM for any shift σ: one pattern, ordered and analysed once.

    Parameters
    ----------
    K, M : sparse array or Following, shape (n, n)
        Symmetric, all entries stored.
    method : str
        As for `factorise`.
    """

    def __init__(self, K: Matrix, M: Matrix, *, method: str = "auto") -> None:
        self.method = _chosen(method, K.shape[0])
        self._apart = None if self.method == "dense" else _Apart.of(K, M)
        if self._apart is None:
            self._K, self._M = explicit(K), explicit(M)
        else:
            self._K, self._M = self._apart.inner(0), self._apart.inner(1)
        self._shared: _PardisoFactor | None = None
        self._parts: tuple[Floats, Floats] | None = None
        self._kept: tuple[float, Factor] | None = None
        self._quick = False
        self._summed: Pencil | None = None

    def method_words(self) -> str:
        """The way of factorising, in words."""
        if self._shared is not None:
            return self._shared.method + (", SuperLU where a thin factor lets it solve faster" if self._quick else "")
        kinds: dict[str, Any] = {"dense": _DenseFactor, "ldl": _PardisoFactor, "superlu": _SuperLUFactor}
        return str(kinds[self.method].method)

    def at(self, shift: float, *, keep: bool = False) -> Factor:
        """Factorise K - shift M, unless the factor that is kept is the one.

        With pypardiso a factor gives up its place to that of the next shift, and says so. One that is kept stays
        beside it as long as memory lets it (`held`).

        Raises
        ------
        SolverError
            When the matrix is singular to working precision or memory is too small.
        """
        if self.held(shift):
            assert self._kept is not None
            return self._kept[1]
        factor = self._made(shift, 0 if keep else 1)
        if keep:
            self._kept = shift, factor
        return factor

    def of_mass(self, ridge: float) -> Factor:
        """Factorise M alone, its diagonal larger by a share `ridge`, in the place of a factor that is not kept."""
        if self.method != "ldl" or self._shared is None or self._parts is None:
            more = diags_array(ridge * self._M.diagonal())
            base: Factor = factorise(csr_array(self._M + more), method=self.method)
        else:
            m = self._parts[1].copy()
            m[self._shared.diagonal] *= 1.0 + ridge
            base = _Held(self._shared, self._shared.renew(m, 1))
        return base if self._apart is None else _Bordered(base, self._apart, 0.0, 1.0, ridge)

    def held(self, shift: float) -> bool:
        """Whether a factor at this shift is kept and still there."""
        if self._kept is None or self._kept[0] != shift:
            return False
        return bool(getattr(self._kept[1], "there", True))

    def release(self) -> None:
        """Give back the memory of the factor that is not kept."""
        if self._summed is not None:
            self._summed.release()
        if self._shared is not None:
            self._shared.release(1)

    def _made(self, shift: float, slot: int) -> Factor:
        if self._apart is None:
            return self._plain(shift, slot)
        try:
            base = self._plain(shift, slot)
            if base.perturbed == 0 and base.negative is not None:
                bordered = _Bordered(base, self._apart, 1.0, -shift)
                if bordered.sound and self._answers(bordered, shift):
                    return bordered
        except OutOfMemoryError:
            raise
        except SolverError:
            pass
        # next to an eigenvalue of what is held where rows are kept apart, or where more hangs on them: all in one
        if self._summed is None:
            assert self._apart is not None
            self._summed = Pencil(*(explicit(A) for A in self._apart.matrices), method=self.method)
        return self._summed.at(shift)

    def _answers(self, factor: Factor, shift: float) -> bool:
        """Whether a solve with rows kept apart holds."""
        assert self._apart is not None
        K, M = self._apart.matrices
        b = np.random.default_rng(3).standard_normal((K.shape[0], 1))
        x = factor.solve(b)
        off = K @ x - b - (shift * (M @ x) if shift else 0.0)
        size = magnitude(K, x) + (abs(shift) * magnitude(M, x) if shift else 0.0)
        return bool(np.linalg.norm(off) < 1e-12 * np.linalg.norm(size))

    def _sparse(self, shift: float) -> csr_array:
        """The sparse part of K - shift M, whole."""
        return csr_array(self._K - shift * self._M if shift else self._K)

    def _plain(self, shift: float, slot: int) -> Factor:
        if self.method != "ldl":
            return factorise(self._sparse(shift), method=self.method)
        if self._shared is None or self._parts is None:
            pattern, k, m = _aligned(self._K, self._M)
            self._parts = k, m
            self._shared = _PardisoFactor(pattern)
        k, m = self._parts
        n = self._K.shape[0]
        if shift <= 0.0 and n >= LARGE and self._shared.analysed(k) <= THIN * n:
            found = _definite(self._sparse(shift))
            if found is not None:
                self._quick = True
                return found
        slot = self._shared.renew(k - shift * m if shift else k, slot)
        return _Held(self._shared, slot)


def _definite(matrix: csr_array) -> _SuperLUFactor | None:
    """The factor by SuperLU, which looks for no pivots, of a matrix that is safely positive definite and needs none."""
    try:
        factor = _SuperLUFactor(matrix)
    except SolverError:
        return None
    safe = factor.negative == 0 and factor.least > TINY * float(np.abs(matrix.data).max())
    return factor if safe else None


class _Held:
    """A factor in a place of the shared one; refuses to answer when a later shift has taken that place."""

    def __init__(self, shared: _PardisoFactor, slot: int) -> None:
        self._shared, self._slot, self._turn = shared, slot, shared.turns[slot]
        self.method, self.negative = shared.method, shared.negative
        self.perturbed, self.entries = shared.perturbed, shared.entries
        # each thread reads the whole factor for its share: twelve columns of a large one cost little more than six
        self.block = 12 if len(shared.diagonal) >= LARGE else 6

    @property
    def there(self) -> bool:
        """Whether it still has its place."""
        return self._turn == self._shared.turns[self._slot]

    def solve(self, right: Floats) -> Floats:
        if not self.there:
            raise RuntimeError("this factor has given up its place to that of a later shift")
        return self._shared.solve(right, self._slot)


@dataclass(frozen=True)
class _Apart:
    """Two matrices over the same motions, of which those that follow many others are left out of the sparse factor.

    Attributes
    ----------
    matrices : tuple
        K and M as they were given.
    whole : tuple of sparse array, shape (n + wide, n + wide)
    rows : sparse array, shape (wide, n)
    inside, outside : ndarray of int
        Of the n + wide: what the sparse factor is of; what follows, and one more for each that has stiffness, without
        which the rest could hang on what follows alone.
    """

    matrices: tuple[Matrix, Matrix]
    whole: tuple[csr_array, csr_array]
    rows: csr_array
    inside: Ints
    outside: Ints

    @classmethod
    def of(cls, K: Matrix, M: Matrix) -> _Apart | None:
        """None where nothing is kept apart."""
        rows = next((A.rows for A in (K, M) if isinstance(A, Following)), None)
        if rows is None:
            return None
        wide, n = rows.shape
        whole = []
        for A in (K, M):
            if not isinstance(A, Following):
                ends = np.concatenate([A.indptr, np.full(wide, A.indptr[-1], dtype=A.indptr.dtype)])
                A = Following(csr_array((A.data, A.indices, ends), shape=(n + wide, n + wide)), rows)
            whole.append(A.whole)
        stiff = np.flatnonzero(np.diff(whole[0].indptr)[n:])
        pins = np.zeros(0, dtype=np.int64)
        if len(stiff):
            places = np.unique(csr_array(rows[stiff]).indices)
            dense = csr_array(rows[stiff])[:, places].toarray()
            pins = places[scipy.linalg.qr(dense, mode="r", pivoting=True)[1][: len(stiff)]]
        outside = np.concatenate([np.sort(pins), n + np.arange(wide)])
        inside = np.setdiff1d(np.arange(n), pins)
        return cls((K, M), (whole[0], whole[1]), rows, inside, outside)

    def inner(self, which: int) -> csr_array:
        """What the sparse factor is of, of K (0) or M (1)."""
        given = self.matrices[which]
        if len(self.inside) == self.rows.shape[1] and not isinstance(given, Following):
            return given
        return csr_array(csr_array(self.whole[which][self.inside])[:, self.inside])


class _Bordered:
    """The factor of [1 Dᵀ] A [1; D], A = k K + m M, from that of A inside and a small dense one.

    With u for all dofs and λ for what makes some of them follow, [A Cᵀ; C 0] [u; λ] = [f; 0] with C = [D, -1]. What
    lies outside and λ make the small matrix; the inertia of the whole is the sum of both, less one negative for each
    row of C (Haynsworth, Linear Algebra Appl. 1 (1968) 73-81; Gould, Math. Program. 32 (1985) 90-99).

    Attributes
    ----------
    sound : bool
        Whether the small matrix is far from singular.
    """

    def __init__(self, base: Factor, apart: _Apart, k: float, m: float, ridge: float = 0.0) -> None:
        self._base, self._apart = base, apart
        self.method, self.perturbed, self.entries = base.method, base.perturbed, base.entries
        self.block = base.block
        n, wide, inside, outside = apart.rows.shape[1], apart.rows.shape[0], apart.inside, apart.outside
        K, M = apart.whole
        diagonal = k * K.diagonal() + m * M.diagonal()
        C = csr_array(hstack([apart.rows, diags_array(np.full(wide, -1.0))]))
        C = csr_array(max(float(np.abs(diagonal[:n]).max(initial=0.0)), 1e-300) * C)  # rows of the size of the rest
        edge = csr_array(vstack([k * K[outside] + m * M[outside], C]))
        self._reached, self._edge = reached(csr_array(edge[:, inside]))
        own = np.zeros((edge.shape[0],) * 2)
        own[:, : len(outside)] = edge[:, outside].toarray()
        own[range(len(outside)), range(len(outside))] += ridge * diagonal[outside]
        own[: len(outside), len(outside) :] = own[len(outside) :, : len(outside)].T
        self._acting = acting = np.flatnonzero(np.diff(self._edge.indptr))
        right = np.zeros((len(inside), len(acting)))
        right[self._reached] = self._edge[acting].T.toarray()
        self._spread = np.ascontiguousarray(base.solve(right).T) if len(acting) else right.T
        small = own
        small[:, acting] -= self._edge @ self._spread[:, self._reached].T
        small = (small + small.T) / 2.0
        scale = 1.0 / np.sqrt(np.maximum(np.abs(small).max(axis=1), 1e-300))
        small = scale[:, None] * small * scale
        self.sound = bool(np.isfinite(small).all())
        values = np.linalg.eigvalsh(small) if self.sound else np.ones(1)
        self.sound &= bool(np.abs(values).min() > 1e-12 * np.abs(values).max())
        self.negative = None if base.negative is None else base.negative + int((values < 0).sum()) - wide
        self._scale = scale[:, None]
        self._small = scipy.linalg.lu_factor(small) if self.sound else None

    @property
    def there(self) -> bool:
        """Whether it still has its place."""
        return bool(getattr(self._base, "there", True))

    def solve(self, right: Floats) -> Floats:
        apart, columns = self._apart, right.reshape(len(right), -1)
        pins = apart.outside[: len(apart.outside) - apart.rows.shape[0]]
        x = self._base.solve(columns if not len(pins) else np.ascontiguousarray(columns[apart.inside]))
        edge = -(self._edge @ x[self._reached])
        edge[: len(pins)] += columns[pins]
        assert self._small is not None
        edge = self._scale * scipy.linalg.lu_solve(self._small, self._scale * edge)
        subtract(x.T, edge[self._acting], self._spread)
        if not len(pins):
            return x.reshape(right.shape)
        result = np.empty(columns.shape)
        result[pins], result[apart.inside] = edge[: len(pins)], x
        return result.reshape(right.shape)


def _aligned(K: csr_array, M: csr_array) -> tuple[csr_array, Floats, Floats]:
    """The joint pattern of the upper triangles, diagonal complete, and the data of K and M on it."""
    # as real and imaginary part of one matrix, the two come to lie on one pattern
    both = csr_array(csr_array(triu(K, format="csr")) + 1j * csr_array(triu(M, format="csr")))
    both.sort_indices()
    diagonal = both.diagonal()
    k, m = both.data.real.copy(), both.data.imag.copy()
    empty = np.flatnonzero(diagonal == 0.0)
    if len(empty) == 0:
        return csr_array((np.ones(len(k), dtype=np.int8), both.indices, both.indptr), shape=both.shape), k, m
    before = both.indptr[empty]  # the diagonal comes first in the row of an upper triangle
    indices = np.insert(both.indices, before, empty.astype(both.indices.dtype))
    starts = both.indptr + np.concatenate([[0], np.cumsum(diagonal == 0.0)]).astype(both.indptr.dtype)
    k, m = np.insert(k, before, 0.0), np.insert(m, before, 0.0)
    return csr_array((np.ones(len(k), dtype=np.int8), indices, starts), shape=both.shape), k, m


def _chosen(method: str, size: int) -> str:
    if method != "auto":
        return method
    return "dense" if size <= DENSE_LIMIT else "ldl" if fast_available() else "superlu"


class _PardisoFactor:
    """LDLᵀ of an upper triangle by pypardiso's library, called without copies of the matrix.

    The pattern is ordered and analysed once; `renew` factorises other numbers on it. There are places for two
    factors. Where memory is too small for two there is one; where it is too small for that, the factor lies on disk.
    """

    method = "sparse LDLT (pypardiso)"

    def __init__(self, pattern: csr_array) -> None:
        self._data: list[Floats] = [np.zeros(0), np.zeros(0)]
        self._ia = pattern.indptr.astype(np.int32)
        self._ja = pattern.indices.astype(np.int32)
        self.diagonal = pattern.indptr[:-1].copy()  # of an upper triangle: it comes first in its row
        self._n = int(pattern.shape[0])
        self._handle = fast_solver()
        self._pt = np.zeros(64, dtype=np.int64)
        self._iparm = iparm = np.zeros(64, dtype=np.int32)
        self._perm = np.zeros(0, dtype=np.int32)
        iparm[0] = 1  # own settings
        iparm[1] = 3  # nested dissection, both cores
        iparm[9] = 13  # pivots below TINY of the matrix are perturbed, and counted
        iparm[17] = -1  # count the factor's entries
        iparm[20] = 1  # 1 by 1 and 2 by 2 pivots: an exact inertia
        iparm[34] = 1  # indices from zero
        self._analysed = False
        self._disk: tempfile.TemporaryDirectory[str] | None = None
        self.negative: int | None = None
        self.perturbed = self.entries = 0
        self.turns = [0, 0]
        self._filled = [False, False]

    def renew(self, data: Floats, slot: int) -> int:
        """Factorise the matrix with these numbers on the pattern, in a place of which the number is returned."""
        self.negative, self.perturbed = None, 1  # until it is done
        self.analysed(data, slot)
        slot = self._roomy(slot)
        self._data[slot] = data
        for place in (0, 1) if self._disk is not None else (slot,):
            self.turns[place] += 1
        self._call(22, np.zeros((1, 0)), slot)
        self._filled[slot] = True
        self.negative = int(self._iparm[22])
        self.perturbed = int(self._iparm[13])
        self.entries = int(self._iparm[17])
        return slot

    def analysed(self, data: Floats, slot: int = 0) -> int:
        """Stored numbers that a factor of this pattern has, as its order tells."""
        if not self._analysed:
            self._data[slot] = data
            self._call(11, np.zeros((1, 0)), slot)
            self._analysed, self.entries = True, int(self._iparm[17])
        return self.entries

    def _roomy(self, slot: int) -> int:
        """The place for the next factor, after what has to give way for it has.

        Raises
        ------
        SolverError
            When memory is too small even with the factor on disk.
        """
        if self._disk is not None:
            return 0
        needed = 1024.0 * float(self._iparm[16])  # kilobytes, beside what the analysis has taken already
        if self._filled[slot] or not beyond_memory(needed):
            return slot
        if self._filled[1 - slot]:
            self.release(1 - slot)
            if not beyond_memory(needed):
                return slot
        least = 1024.0 * (float(self._iparm[15]) + float(self._iparm[62]))
        free = sizes.available_memory() or 0
        if least > 0.9 * free or 1.1 * needed > shutil.disk_usage(tempfile.gettempdir()).free:
            refuse_beyond_memory(needed, self._n)
        self._call(-1, np.zeros((1, 0)), slot)
        self._disk = temporary_folder()
        os.environ["MKL_PARDISO_OOC_PATH"] = self._disk.name
        most = max(0.7 * free, 1.15 * least) + 4e6  # its reproducible mode takes somewhat more than it tells beforehand
        os.environ["MKL_PARDISO_OOC_MAX_CORE_SIZE"] = str(int(most / 2**20) + 1)
        self._pt[:] = 0
        self._iparm[59] = 2
        self.method = "sparse LDLT, factor on disk (pypardiso)"
        self._call(11, np.zeros((1, 0)), slot)
        return 0

    def release(self, slot: int) -> None:
        """Give back the memory of one place."""
        if self._filled[slot] and self._disk is None:
            self._call(0, np.zeros((1, 0)), slot)
            self._filled[slot], self._data[slot] = False, np.zeros(0)
            self.turns[slot] += 1

    def _call(self, phase: int, right: Floats, slot: int) -> Floats:
        """`right` of shape (columns, n), C order: each row is one right-hand side."""
        h = self._handle
        ints = ctypes.POINTER(ctypes.c_int32)
        result = np.empty_like(right) if phase == 33 else right
        error = ctypes.c_int32(0)
        places = 2 if self._disk is None else 1
        h._mkl_pardiso(
            self._pt.ctypes.data_as(ctypes.POINTER(h._pt_type[0])),
            ctypes.byref(ctypes.c_int32(places)),
            ctypes.byref(ctypes.c_int32(min(slot + 1, places))),
            ctypes.byref(ctypes.c_int32(-2)),
            ctypes.byref(ctypes.c_int32(phase)),
            ctypes.byref(ctypes.c_int32(self._n)),
            self._data[slot].ctypes.data_as(ctypes.POINTER(ctypes.c_double)),
            self._ia.ctypes.data_as(ints),
            self._ja.ctypes.data_as(ints),
            self._perm.ctypes.data_as(ints),
            ctypes.byref(ctypes.c_int32(max(len(right), 1))),
            self._iparm.ctypes.data_as(ints),
            ctypes.byref(ctypes.c_int32(0)),
            right.ctypes.data_as(ctypes.POINTER(ctypes.c_double)),
            result.ctypes.data_as(ctypes.POINTER(ctypes.c_double)),
            ctypes.byref(error),
        )
        if error.value == -2:
            raise OutOfMemoryError(f"not enough memory to factorise {self._n} unknowns; coarsen the mesh")
        if error.value == -4:
            raise SolverError("the matrix is singular to working precision")
        if error.value in (-9, -10, -11):
            raise OutOfMemoryError(
                f"not enough memory, or no room for files in {tempfile.gettempdir()}, to factorise {self._n} unknowns"
            )
        if error.value:
            raise SolverError(f"the sparse factorisation failed (code {error.value})")
        return result

    def solve(self, right: Floats, slot: int) -> Floats:
        if right.dtype.kind not in "fiu" or right.shape[0] != self._n:  # the library would read past the end
            raise ValueError(f"a right side is real, of {self._n} rows; got {right.dtype} of shape {right.shape}")
        if right.size == 0:
            return np.zeros(right.shape)
        if right.ndim == 1:
            return self._call(33, np.ascontiguousarray(right, dtype=np.float64)[None], slot).ravel()
        return self._call(33, np.ascontiguousarray(right.T, dtype=np.float64), slot).T

    def __del__(self) -> None:
        handle: Any = getattr(self, "_handle", None)
        if handle is not None and ctypes is not None:
            try:
                self._call(-1, np.zeros((1, 0)), 0)
                if self._disk is not None:
                    self._disk.cleanup()
            except Exception:  # at interpreter shutdown the library may be gone
                return
