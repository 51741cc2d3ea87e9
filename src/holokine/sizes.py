"""How large things get, estimated before they are made, and a refusal of what cannot be held."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from holokine.errors import HolokineError, MeshError, OutOfMemoryError

if TYPE_CHECKING:
    from scipy.sparse import csr_array

__all__ = [
    "MOST_NUMBERS",
    "afford",
    "afford_nodes",
    "available_memory",
    "beyond_memory",
    "enough_memory",
    "narrow",
    "refuse_beyond_memory",
]

MOST_NUMBERS = 2e9
"""Numbers that a table may hold whatever memory there is (16 GB)."""
_PER_NODE = 400  # numbers of stiffness and mass of a shell or solid, by node


def narrow(matrix: csr_array) -> csr_array:
    """A sparse array with indices of 32 bits where these reach, without room that a sum has left behind its numbers.

    A quarter less memory, or half, and no copies for the solver.
    """
    slack = getattr(matrix.data.base, "nbytes", 0) > 1.1 * matrix.data.nbytes
    wide = max(matrix.nnz, *matrix.shape) >= 2**31
    if not slack and (wide or {matrix.indices.dtype.itemsize, matrix.indptr.dtype.itemsize} == {4}):
        return matrix
    data, indices, starts = matrix.data, matrix.indices, matrix.indptr
    if not wide:
        indices, starts = (a.astype("int32", copy=slack) for a in (indices, starts))
    return type(matrix)((data.copy() if slack else data, indices, starts), shape=matrix.shape)


def available_memory() -> int | None:
    """Bytes that this process can still take: of the machine, its control group and its own limit; None: unknown."""
    limits = []
    try:
        for line in Path("/proc/meminfo").read_text(encoding="ascii").splitlines():
            if line.startswith("MemAvailable:"):
                limits.append(1024 * int(line.split()[1]))
    except OSError:
        try:
            limits.append(os.sysconf("SC_AVPHYS_PAGES") * os.sysconf("SC_PAGE_SIZE"))
        except (AttributeError, ValueError, OSError):
            return None
    group = Path("/sys/fs/cgroup")
    try:
        most = (group / "memory.max").read_text(encoding="ascii").strip()
        if most.isdigit():
            limits.append(int(most) - int((group / "memory.current").read_text(encoding="ascii")))
    except (OSError, ValueError):
        pass
    with contextlib.suppress(ImportError, OSError, ValueError):
        import resource

        own = resource.getrlimit(resource.RLIMIT_AS)[0]
        if own != resource.RLIM_INFINITY:
            mapped = int(Path("/proc/self/statm").read_text(encoding="ascii").split()[0]) * resource.getpagesize()
            limits.append(own - mapped)
    return max(min(limits), 0) if limits else None


def beyond_memory(needed: float) -> bool:
    """Whether `needed` bytes are more than there are (False where that is not known)."""
    free = available_memory()
    return free is not None and needed > free


def refuse_beyond_memory(needed: float, unknowns: int, what: str = "the factorisation") -> None:
    """Raise when `needed` bytes are more than there are.

    Raises
    ------
    OutOfMemoryError
        With the estimate, what is free, and what helps.
    """
    free = available_memory()
    if free is not None and needed > free:
        raise OutOfMemoryError(
            f"{what} of {unknowns:,} unknowns needs about {needed / 1e9:.3g} GB and {free / 1e9:.3g} GB are free; "
            "coarsen the mesh, or run it where there is more memory"
        )


def afford(
    rows: float, columns: float, what: str, remedy: str, error: type[HolokineError] = OutOfMemoryError,
    most: float = MOST_NUMBERS,
) -> None:  # fmt: skip
    """Raise before a table of `rows` by `columns` numbers is made that cannot be held.

    Parameters
    ----------
    what : str
        What the rows are, as "steps of the answer in time".
    remedy : str
        What makes them fewer.
    error : type of HolokineError
    most : float
        Numbers that it may have whatever memory there is.

    Raises
    ------
    HolokineError
        Of the kind given, with the estimate and the remedy.
    """
    numbers = rows * max(columns, 1.0)
    if numbers < 1e6:
        return
    free = available_memory()
    if numbers > most or not numbers < float("inf") or (free is not None and 8.0 * numbers > free):
        there = "" if free is None else f", {free / 1e9:.3g} GB are free"
        raise error(f"{rows:,.4g} {what} need about {8e-9 * numbers:.3g} GB{there}: {remedy}")


def afford_nodes(count: float) -> None:
    """Raise before a mesh is made whose matrices alone cannot be held.

    Raises
    ------
    MeshError
    """
    afford(count, _PER_NODE, "nodes", "take larger elements, or fewer divisions", MeshError)


@contextmanager
def enough_memory(what: str) -> Iterator[None]:
    """Within it, running out of memory is one of our errors, which says what was being made.

    Raises
    ------
    OutOfMemoryError
    """
    try:
        yield
    except MemoryError:
        raise OutOfMemoryError(
            f"there is not enough memory for {what}; coarsen the mesh, ask for less, or run it where there is more"
        ) from None
