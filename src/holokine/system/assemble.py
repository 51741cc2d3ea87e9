"""Assembling element matrices into sparse ones."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array, csr_array

__all__ = ["DIRECTION_NAMES", "assemble", "node_dofs"]

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
DIRECTION_NAMES = ("x", "y", "z", "rx", "ry", "rz")


def node_dofs(nodes: Ints) -> Ints:
    """Degrees of freedom of nodes, six per node: shape (..., nodes) to (..., 6 * nodes)."""
    nodes = np.asarray(nodes, dtype=np.int64)
    return (nodes[..., None] * 6 + np.arange(6)).reshape(*nodes.shape[:-1], -1)


def assemble(size: int, blocks: Iterable[tuple[Ints, Floats]]) -> csr_array:
    """Sum dense blocks into a sparse matrix of shape (size, size).

    Parameters
    ----------
    blocks : iterable of (dofs, values)
        `dofs` of shape (elements, m), `values` of shape (elements, m, m).
    """
    rows, cols, data = [], [], []
    for dofs, values in blocks:
        m = dofs.shape[1]
        r = np.repeat(dofs, m, axis=1).ravel()
        c = np.tile(dofs, (1, m)).ravel()
        v = np.ascontiguousarray(values).ravel()
        keep = v != 0.0
        rows.append(r[keep])
        cols.append(c[keep])
        data.append(v[keep])
    if not rows:
        return csr_array((size, size))
    kind = np.int32 if size < 2**31 else np.int64
    entries = (np.concatenate(rows).astype(kind), np.concatenate(cols).astype(kind))
    matrix = coo_array((np.concatenate(data), entries), shape=(size, size)).tocsr()
    matrix.sum_duplicates()
    return matrix
