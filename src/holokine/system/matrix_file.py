"""Square matrices of real numbers from files, believed only after a look: Matrix Market and NPZ.

The text of a Matrix Market file is read as a table, after its own header has been held against the size of the file and
of the assembly; of an NPZ file the sizes are looked at before anything is unpacked.
"""

from __future__ import annotations

import warnings
import zipfile
from io import BytesIO
from pathlib import Path
from typing import Any

import numpy as np
from scipy.sparse import coo_array, csr_array

from holokine.errors import MeshError
from holokine.sizes import afford

__all__ = ["read_matrix"]

_KINDS = {"general", "symmetric", "skew-symmetric", "hermitian"}


def read_matrix(path: Path, what: str) -> csr_array:
    """A square matrix of finite real numbers.

    Raises
    ------
    MeshError
        Missing, damaged or of another format; complex, not square, not finite; too large for the memory.
    """
    if not path.exists():
        raise MeshError(f"{path}: there is no such file (the {what} matrix)")
    try:
        A = _npz(path) if path.suffix.lower() == ".npz" else _matrix_market(path)
    except MeshError:
        raise
    except MemoryError:
        raise MeshError(f"{path}: there is not enough memory for this matrix") from None
    except Exception as err:  # damaged files fail in many ways
        first = str(err).strip().split("\n")[0][:200]
        raise MeshError(f"{path}: cannot be read as Matrix Market or NPZ ({first})") from None
    if A.shape[0] != A.shape[1]:
        raise MeshError(f"{path}: the {what} matrix is {A.shape[0]} by {A.shape[1]}, not square")
    if not np.isfinite(A.data).all():
        raise MeshError(f"{path}: the {what} matrix holds numbers that are not finite")
    return A


def _matrix_market(path: Path) -> csr_array:
    """NIST, *Matrix Market exchange formats* (Boisvert, Pozo and Remington 1996): coordinate and array, real."""
    content = path.read_bytes()
    head, _, rest = content.partition(b"\n")
    words = head.decode("ascii", "replace").lower().split()
    if len(words) != 5 or words[:2] != ["%%matrixmarket", "matrix"] or words[2] not in ("coordinate", "array"):
        raise MeshError(
            f'{path}, line 1: expected "%%MatrixMarket matrix coordinate real symmetric" or the like', told=True
        )
    if words[3] not in ("real", "integer", "double"):
        raise MeshError(f"{path}, line 1: the numbers are {words[3]}, and must be real", told=True)
    if words[4] not in _KINDS or words[4] == "skew-symmetric":
        raise MeshError(f"{path}, line 1: the matrix is {words[4]}, and must be symmetric or general", told=True)
    line = 1
    while True:
        sizes, _, rest = rest.partition(b"\n")
        line += 1
        if sizes.strip() and not sizes.lstrip().startswith(b"%"):
            break
        if not rest:
            raise MeshError(f"{path}: ends before its sizes")
    given = sizes.split()
    if len(given) != (3 if words[2] == "coordinate" else 2) or not all(g.isdigit() and len(g) < 16 for g in given):
        raise MeshError(f"{path}, line {line}: expected the numbers of rows, columns and entries", told=True)
    rows, columns, entries = (*map(int, given), 0)[:3] if words[2] == "coordinate" else (*map(int, given), -1)
    half = words[4] != "general"
    if words[2] == "array":
        entries = rows * (rows + 1) // 2 if half else rows * columns
    if half and rows != columns:
        raise MeshError(f"{path}, line {line}: {rows} by {columns}, which cannot be symmetric", told=True)
    if entries > len(rest) or max(rows, columns) > 4 * len(content):
        raise MeshError(
            f"{path}, line {line}: tells {rows:,} rows and {entries:,} entries, more than the file can hold", told=True
        )
    table = _numbers(rest, 3 if words[2] == "coordinate" else 1, path, line)
    if len(table) != entries:
        raise MeshError(f"{path}: tells {entries:,} entries and has {len(table):,}")
    if words[2] == "array":
        A = np.zeros((rows, columns))
        low = np.tril_indices(rows) if half else None
        if low is None:
            A = table[:, 0].reshape(columns, rows).T
        else:
            order = np.lexsort(low)  # column by column
            A[low[0][order], low[1][order]] = table[:, 0]
            A += np.tril(A, -1).T
        return csr_array(A)
    i, j, values = table[:, 0], table[:, 1], table[:, 2]
    for index, most in ((i, rows), (j, columns)):
        wrong = np.flatnonzero((index != np.floor(index)) | (index < 1) | (index > most))
        if len(wrong):
            raise MeshError(
                f"{path}: entry {wrong[0] + 1} is in row {i[wrong[0]]:g}, column {j[wrong[0]]:g}, not there"
            )
    i, j = i.astype(np.int64) - 1, j.astype(np.int64) - 1
    if half:
        off = i != j
        i, j, values = np.concatenate([i, j[off]]), np.concatenate([j, i[off]]), np.concatenate([values, values[off]])
    return csr_array(coo_array((values, (i, j)), shape=(rows, columns)))


def _numbers(text: bytes, width: int, path: Path, line: int) -> Any:
    import pandas as pd

    if not text.strip():
        return np.zeros((0, width))
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error")  # of values that have no column
            table = pd.read_csv(
                BytesIO(text), sep=r"\s+", header=None, comment="%", dtype=float, names=range(width + 1),
                index_col=False, engine="c", on_bad_lines="error",
            )  # fmt: skip
    except (ValueError, pd.errors.ParserError, pd.errors.ParserWarning) as err:
        first = str(err).strip().split("\n")[0]
        raise MeshError(
            f"{path}, after line {line}: expected {width} numbers in every line ({first})", told=True
        ) from None
    values, more = table.to_numpy()[:, :width], table.to_numpy()[:, width]
    for wrong, words in ((~np.isnan(more), f"more than {width} numbers"), (np.isnan(values).any(axis=1),
                                                                           f"no {width} finite numbers")):  # fmt: skip
        if wrong.any():
            raise MeshError(
                f"{path}, after line {line}: entry {int(np.flatnonzero(wrong)[0]) + 1} has {words}", told=True
            )
    return values


def _npz(path: Path) -> csr_array:
    with zipfile.ZipFile(path) as packed:
        afford(sum(item.file_size for item in packed.infolist()) / 8.0, 1.0, f"numbers of {path.name}",
               "bring a smaller matrix", MeshError)  # fmt: skip
    with np.load(path, allow_pickle=False) as data:
        names = set(data.files)
        if {"format", "shape", "data"} <= names:
            from scipy.sparse import load_npz

            A = load_npz(path)
        elif len(names) == 1:
            A = data[data.files[0]]
        else:
            raise MeshError(f"{path}: holds {len(names)} arrays ({', '.join(sorted(names)[:6])}), not one matrix")
    if A.ndim != 2 or A.dtype.kind not in "fiu":
        raise MeshError(f"{path}: holds {A.ndim}-dimensional data of the type {A.dtype}, and a real matrix is expected")
    made = csr_array(A).astype(float)
    made.check_format(full_check=True)
    return made
