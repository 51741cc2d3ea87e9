"""Nearest neighbours."""

from __future__ import annotations

from typing import Any

__all__ = ["nearest_tree"]


def nearest_tree(places: Any) -> Any:
    """A tree of places for nearest neighbours; its library is loaded when one is made, which costs half a second."""
    from scipy.spatial import cKDTree

    return cKDTree(places)
