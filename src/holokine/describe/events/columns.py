"""Columns of tables: lists of quantities."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import BeforeValidator, ValidationInfo, WithJsonSchema

from holokine.describe.fields import complaint, quantity_schema
from holokine.errors import UnitError, shown
from holokine.units import UnitSystem, quantity

__all__ = ["list_of"]


def list_of(dimension: str, *, positive: bool = False) -> Any:
    def read(value: Any, info: ValidationInfo) -> tuple[float, ...]:
        units = (info.context or {}).get("units") or UnitSystem()
        if hasattr(value, "tolist"):
            value = value.tolist()
        if not isinstance(value, list | tuple) or len(value) < 1:
            raise complaint(f"expected a list of values, got {shown(value)}")
        result = []
        for number, entry in enumerate(value, start=1):
            try:
                result.append(quantity(entry, dimension, units))
            except UnitError as err:
                raise complaint(f"value {number}: {err}", "unit") from None
            if positive and result[-1] <= 0:
                raise complaint(f"value {number}: must be greater than 0, got {entry}")
        return tuple(result)

    schema = {"type": "array", "items": quantity_schema(dimension)}
    return Annotated[tuple[float, ...], BeforeValidator(read), WithJsonSchema(schema)]
