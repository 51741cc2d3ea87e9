"""One pool of threads: whether the sparse solver's library is there, and NumPy's own threads at rest beside it."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from functools import lru_cache
from importlib.util import find_spec
from typing import Any

__all__ = ["fast_installed", "one_pool"]


@lru_cache(maxsize=1)
def fast_installed() -> bool:
    """Whether pypardiso is installed; it is not loaded for that."""
    return find_spec("pypardiso") is not None


@contextmanager
def one_pool() -> Iterator[None]:
    """Within it NumPy's own threads rest, where the sparse solver brings a pool that also does large products.

    Whether it does is told without loading it: many an answer needs no solver.
    """
    if not fast_installed():
        yield
        return
    with _numpys_own().limit(limits=1):
        yield


@lru_cache(maxsize=1)
def _numpys_own() -> Any:
    from threadpoolctl import ThreadpoolController  # type: ignore[import-untyped]

    return ThreadpoolController().select(internal_api="openblas")
