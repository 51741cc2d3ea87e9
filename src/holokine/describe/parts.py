"""Parts: what carries stiffness and mass by a mesh of elements."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, field_validator, model_validator

from holokine.describe.fields import (
    DIRECTIONS,
    Direction,
    Force,
    Length,
    LengthVector,
    PositiveLength,
    Strict,
    UnitVector,
    complaint,
)

__all__ = ["Beam", "Part"]


def _directions(value: Any) -> Any:
    if value == "all":
        return DIRECTIONS
    return (value,) if isinstance(value, str) else value


DirectionList = Annotated[tuple[Direction, ...], BeforeValidator(_directions)]


class EndOffsets(Strict):
    """Rigid arms from the end points to the beam's ends, global axes."""

    start: LengthVector = (0.0, 0.0, 0.0)
    end: LengthVector = (0.0, 0.0, 0.0)


class EndReleases(Strict):
    """Directions (beam axes) in which an end passes no force or moment."""

    start: DirectionList = ()
    end: DirectionList = ()


class Beam(Strict):
    """A run of beam elements, straight from point to point.

    Local x runs along the beam, local z is the part of `up` normal to it, local y = z cross x. A section's
    height is along local z, its width along local y.
    """

    through: tuple[str, ...] = Field(min_length=2)
    section: str
    up: UnitVector = (0.0, 0.0, 1.0)
    divisions: int | tuple[int, ...] | None = None
    size: PositiveLength | None = None
    offset: EndOffsets = EndOffsets()
    eccentricity: tuple[Length, Length] = (0.0, 0.0)
    release: EndReleases = EndReleases()
    theory: Literal["timoshenko", "rayleigh", "euler"] = "timoshenko"
    preload: Force = 0.0

    @field_validator("divisions")
    @classmethod
    def _positive(cls, value: int | tuple[int, ...] | None) -> int | tuple[int, ...] | None:
        numbers = value if isinstance(value, tuple) else (value,)
        if any(n is not None and n < 1 for n in numbers):
            raise complaint(f"divisions must be 1 or more, got {value}")
        return value

    @model_validator(mode="after")
    def _spans(self) -> Beam:
        if self.divisions is not None and self.size is not None:
            raise complaint("give divisions or size, not both")
        if isinstance(self.divisions, tuple) and len(self.divisions) != len(self.through) - 1:
            raise complaint(f"divisions lists {len(self.divisions)} numbers for {len(self.through) - 1} spans")
        for a, b in zip(self.through, self.through[1:], strict=False):
            if a == b:
                raise complaint(f'the beam goes from the point "{a}" to itself')
        return self


class Part(Strict):
    """A part: its geometry, its material, and whether it may share nodes with others at the same place."""

    beam: Beam
    material: str
    merge: bool = True
