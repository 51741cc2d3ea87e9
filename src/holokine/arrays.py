"""Names for kinds of arrays; shapes and units stand in the docs of what takes and gives them."""

from __future__ import annotations

from typing import Any, TypeAlias

from numpy.typing import NDArray

__all__ = ["Bools", "Complex", "Floats", "Ints"]

Floats: TypeAlias = NDArray[Any]
"""float64, or complex128 where the docs say so."""
Ints: TypeAlias = NDArray[Any]
"""int64."""
Bools: TypeAlias = NDArray[Any]
"""bool."""
Complex: TypeAlias = NDArray[Any]
"""complex128."""
