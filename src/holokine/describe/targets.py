"""Targets: which nodes something applies to (a point, several points, or a selection)."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import BeforeValidator, model_validator

from holokine.describe.fields import LengthVector, Strict, complaint

__all__ = ["Selection", "Target"]


class Selection(Strict):
    """Nodes by point names, by part or group, and inside a box; several keys narrow the choice."""

    points: tuple[str, ...] | None = None
    part: str | None = None
    group: str | None = None
    box: tuple[LengthVector, LengthVector] | None = None

    @model_validator(mode="after")
    def _something(self) -> Selection:
        if all(getattr(self, n) is None for n in type(self).model_fields):
            raise complaint("a selection needs at least one of points, part, group, box")
        return self


def _target(value: Any) -> Any:
    if isinstance(value, str):
        return {"points": (value,)}
    if isinstance(value, list | tuple):
        if not value or not all(isinstance(v, str) for v in value):
            raise complaint(f"expected a point, a list of points or a selection, got {value!r}")
        return {"points": tuple(value)}
    return value


Target = Annotated[Selection, BeforeValidator(_target)]
