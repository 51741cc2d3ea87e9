"""The library of the sparse solver, where pypardiso is installed: loaded once, set to give the same digits."""

from __future__ import annotations

import glob
import os
import sys
from functools import lru_cache
from typing import Any

__all__ = ["fast_available", "fast_solver", "sparse_library"]


@lru_cache(maxsize=1)
def fast_solver() -> Any:
    """The solver's entry point, loaded once; None where pypardiso is not installed.

    pypardiso searches its whole environment for the library with every solver it makes; the usual place is
    tried first here, which saves half a second.
    """
    usual = sorted(glob.glob(f"{sys.prefix}/lib/libmkl_rt*") + glob.glob(f"{sys.prefix}/Library/bin/mkl_rt*"))
    named = "PYPARDISO_MKL_RT" in os.environ
    os.environ.setdefault("KMP_BLOCKTIME", "0")  # its threads do not spin after their work is done
    os.environ.setdefault("MKL_CBWR", "AVX2,STRICT")  # the same digits whatever the number of threads
    if usual and not named:
        os.environ["PYPARDISO_MKL_RT"] = usual[0]
    try:
        from pypardiso import PyPardisoSolver

        return PyPardisoSolver(mtype=-2)
    except (ImportError, OSError):
        return None
    finally:
        if usual and not named:
            del os.environ["PYPARDISO_MKL_RT"]


def sparse_library() -> Any:
    """The library of the sparse solver, which also multiplies; None where it is not installed."""
    solver = fast_solver()
    return None if solver is None else getattr(solver, "libmkl", None)


def fast_available() -> bool:
    """Whether pypardiso can be used here."""
    return fast_solver() is not None
