"""Tables of things that are loaded when they are asked for, so that a command loads what it uses."""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Mapping
from importlib import import_module
from typing import Any, TypeVar

__all__ = ["Later"]

K = TypeVar("K", bound=Hashable)


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
