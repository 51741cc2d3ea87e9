"""Targets: which nodes something applies to (a point, several points, or a selection)."""

from typing import Annotated, Any, Self

from pydantic import BeforeValidator, Field, WithJsonSchema, model_validator

from holokine.describe.fields import (
    NAMES_OR_TABLE,
    ONE_OR_MORE,
    Angle,
    LengthVector,
    PositiveLength,
    Strict,
    UnitVector,
    complaint,
    names_of,
    one_or_more,
    quantity_field,
)
from holokine.errors import shown

__all__ = ["PointOrNode", "Selection", "Target"]

Tolerance = quantity_field("length", least=0.0)


class CylinderRegion(Strict):
    """Nodes within `radius` of an axis line (of `length` from `base`, endless when left out)."""

    base: LengthVector
    axis: UnitVector
    radius: PositiveLength
    length: PositiveLength | None = None
    surface: bool = False


class PlaneRegion(Strict):
    """Nodes on a plane, within a tolerance."""

    at: LengthVector
    normal: UnitVector
    within: Tolerance = 1e-6  # type: ignore[valid-type]


class NormalRegion(Strict):
    """Nodes of faces on the outside whose normal lies within an angle of a direction."""

    along: UnitVector
    within: Angle = 0.08726646259971647


class Selection(Strict):
    """Nodes by point names, part (or several), group or set, and by place; several keys narrow the choice."""

    points: tuple[names_of("points"), ...] | None = None  # type: ignore[valid-type]
    part: Annotated[tuple[names_of("parts"), ...], BeforeValidator(one_or_more), ONE_OR_MORE] | None = None  # type: ignore[valid-type]
    group: names_of("groups") | None = None  # type: ignore[valid-type]
    set: str | None = None
    box: tuple[LengthVector, LengthVector] | None = None
    plane: PlaneRegion | None = None
    cylinder: CylinderRegion | None = None
    normal: NormalRegion | None = None
    nearest: LengthVector | None = None
    count: int = Field(default=1, ge=1)

    @model_validator(mode="after")
    def _something(self) -> Self:
        keys = [n for n in type(self).model_fields if n != "count"]
        if all(getattr(self, n) is None for n in keys):
            raise complaint(f"a selection needs at least one of {', '.join(keys)}")
        if self.nearest is None:
            self.has_no_effect(self.model_fields_set, ("count",), "without nearest: [x, y, z]")
        return self


def _target(value: Any) -> Any:
    if isinstance(value, str):
        return {"points": (value,)}
    if isinstance(value, list | tuple):
        if not value or not all(isinstance(v, str) for v in value):
            raise complaint(f"expected a point, a list of points or a selection, got {shown(value)}")
        return {"points": tuple(value)}
    if isinstance(value, dict) and isinstance(value.get("points"), str):
        return {**value, "points": (value["points"],)}
    return value


Target = Annotated[
    Selection,
    BeforeValidator(_target),
    NAMES_OR_TABLE,
]

PointOrNode: Any = Annotated[
    names_of("points") | Selection,  # type: ignore[valid-type]
    WithJsonSchema({"anyOf": [{"type": "string"}, {"type": "object"}]}),
]
"""A named point, or a selection that catches one node."""
