"""Tables of things that are loaded when they are asked for, so that a command loads what it uses."""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Mapping
from importlib import import_module
from typing import Any, TypeVar

__all__ = ["Later", "same"]

K = TypeVar("K", bound=Hashable)
T = TypeVar("T")


def same(value: T) -> T:
    """The value itself: what is at hand, for those who ask by a call (`functools.partial` of it can be pickled)."""
    return value


class Later(Mapping[K, Any]):
    """A mapping whose values are written as ``module:name`` and loaded when looked up.

    Parameters
    ----------
    homes : mapping
        From keys to ``module:name``.
    """

    def __init__(self, homes: Mapping[K, str]) -> None:
        self._homes = dict(homes)

    def __getitem__(self, key: K) -> Any:
        module, _, name = self._homes[key].partition(":")
        return getattr(import_module(module), name)

    def __iter__(self) -> Iterator[K]:
        return iter(self._homes)

    def __len__(self) -> int:
        return len(self._homes)
