"""Parts: what carries stiffness and mass by a mesh of elements."""

from __future__ import annotations

from itertools import pairwise
from typing import Annotated, Any, ClassVar, Literal

from pydantic import BeforeValidator, Field, WithJsonSchema, field_validator, model_validator

from holokine.describe.fields import (
    DIRECTIONS,
    ONE_OR_MORE,
    Angle,
    AreaMass,
    Direction,
    FileName,
    Force,
    ForcePerLength,
    Length,
    LengthVector,
    PositiveLength,
    Ratio,
    Strict,
    UnitVector,
    complaint,
    names_of,
    one_or_more,
)

__all__ = [
    "Axes",
    "Beam",
    "Box",
    "Cylinder",
    "Extrusion",
    "Hole",
    "MeshFile",
    "Part",
    "Plate",
    "Refinement",
    "Ring",
    "Shell",
    "Tube",
]


def _directions(value: Any) -> Any:
    if value == "all":
        return DIRECTIONS
    return one_or_more(value)


DirectionList = Annotated[tuple[Direction, ...], BeforeValidator(_directions), ONE_OR_MORE]
CellKind = Literal["bricks", "wedges", "tetrahedra"]
FaceKind = Literal["quads", "triangles"]


def _counts(value: Any) -> Any:
    return (value,) if isinstance(value, int) else value


Divisions = Annotated[
    tuple[int, ...],
    BeforeValidator(_counts),
    WithJsonSchema({"anyOf": [{"type": "integer"}, {"type": "array", "items": {"type": "integer"}}]}),
]


class Axes(Strict):
    """Own axes: x along `x`, y in the half plane of `y`."""

    x: UnitVector
    y: UnitVector

    @model_validator(mode="after")
    def _apart(self) -> Axes:
        if sum((a * d - b * c) ** 2 for a, b, c, d in self._pairs()) < 1e-12:
            raise complaint("x and y of the axes run along the same line")
        return self

    def _pairs(self) -> list[tuple[float, float, float, float]]:
        (a, b, c), (d, e, f) = self.x, self.y
        return [(a, b, d, e), (b, c, e, f), (c, a, f, d)]


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

    With an `end_section` it tapers from `section` to that; dimensions change evenly along the run. Local x runs along
    the beam, local z is the part of `up` normal to it, local y = z cross x. A section's height is along local z, its
    width along local y. A beam that `goes slack` is a cable: in a state it carries no compression, and is absent
    (its mass at its ends) where it would.
    """

    left_to_later: ClassVar[dict[str, frozenset[str]]] = {
        "mesh": frozenset(
            {"section", "end_section", "up", "eccentricity", "release", "theory", "preload", "goes_slack"}
        )
    }
    through: tuple[names_of("points"), ...] = Field(min_length=2)  # type: ignore[valid-type]
    section: names_of("sections")  # type: ignore[valid-type]
    end_section: names_of("sections") | None = None  # type: ignore[valid-type]
    up: UnitVector = (0.0, 0.0, 1.0)
    divisions: int | tuple[int, ...] | None = None
    size: PositiveLength | None = None
    offset: EndOffsets = EndOffsets()
    eccentricity: tuple[Length, Length] = (0.0, 0.0)
    release: EndReleases = EndReleases()
    theory: Literal["timoshenko", "rayleigh", "euler"] = "timoshenko"
    preload: Force = 0.0
    goes_slack: bool | None = None

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
        for a, b in pairwise(self.through):
            if a == b:
                raise complaint(f'the beam goes from the point "{a}" to itself')
        return self


class Ring(Strict):
    """A closed circle of beam elements; the section's height (local z) is along the axis."""

    left_to_later: ClassVar[dict[str, frozenset[str]]] = {"mesh": frozenset({"section", "theory"})}
    centre: LengthVector = (0.0, 0.0, 0.0)
    axis: UnitVector = (0.0, 0.0, 1.0)
    radius: PositiveLength
    section: names_of("sections")  # type: ignore[valid-type]
    divisions: int = Field(default=72, ge=3)
    theory: Literal["timoshenko", "rayleigh", "euler"] = "timoshenko"


class Refinement(Strict):
    """Smaller elements on a stretch of one side: fractions `from` and `to` of side 1, 2 or 3."""

    side: int = Field(ge=1, le=3)
    start: Ratio = 0.0
    end: Ratio = 1.0
    times: int = Field(default=2, ge=2)

    @model_validator(mode="after")
    def _inside(self) -> Refinement:
        if not 0.0 <= self.start < self.end <= 1.0:
            raise complaint("start and end must be fractions of the side with start below end")
        return self


class Hole(Strict):
    """A hole, at a place measured along the two sides from the corner: a circle or a rectangle."""

    at: tuple[Length, Length]
    diameter: PositiveLength | None = None
    size: tuple[PositiveLength, PositiveLength] | None = None

    @model_validator(mode="after")
    def _one(self) -> Hole:
        self.exactly_one({"diameter": self.diameter, "size": self.size}, "a hole")
        return self


class _Gridded(Strict):
    """Shared: element size or divisions, and refinement."""

    divisions: Divisions | None = None
    size: PositiveLength | None = None
    refine: tuple[Refinement, ...] = ()
    sides_meshed: ClassVar[int] = 2

    @model_validator(mode="after")
    def _grid(self) -> _Gridded:
        if (self.divisions is None) == (self.size is None):
            raise complaint("give divisions or size (of elements), one of them")
        if self.divisions is not None:
            if len(self.divisions) not in (1, self.sides_meshed):
                raise complaint(f"divisions needs {self.sides_meshed} numbers, got {len(self.divisions)}")
            if min(self.divisions) < 1:
                raise complaint(f"divisions must be 1 or more, got {list(self.divisions)}")
        if any(r.side > self.sides_meshed for r in self.refine):
            raise complaint(f"refine: the sides here are 1 to {self.sides_meshed}")
        return self


class Shell(Strict):
    """How a surface carries: thickness, and what comes with it."""

    left_to_later: ClassVar[dict[str, frozenset[str]]] = {
        "mesh": frozenset({"thickness", "offset", "area_mass", "shear_factor", "tension"})
    }
    thickness: PositiveLength
    offset: Length = 0.0
    area_mass: AreaMass = 0.0
    shear_factor: Ratio = 5.0 / 6.0
    tension: tuple[ForcePerLength, ForcePerLength] | None = None


class Plate(_Gridded, Shell):
    """A flat or twisted four-sided plate of shells: a corner and two sides, or four corners in order."""

    corner: LengthVector | None = None
    sides: tuple[LengthVector, LengthVector] | None = None
    corners: tuple[LengthVector, LengthVector, LengthVector, LengthVector] | None = None
    holes: tuple[Hole, ...] = ()
    cells: FaceKind = "quads"

    @model_validator(mode="after")
    def _shape(self) -> Plate:
        if (self.corners is None) == (self.corner is None) or (self.corner is None) != (self.sides is None):
            raise complaint("give corner and sides, or corners")
        return self


class Cylinder(_Gridded, Shell):
    """A cylindrical surface of shells: side 1 runs around, side 2 along the axis."""

    base: LengthVector = (0.0, 0.0, 0.0)
    axis: UnitVector = (0.0, 0.0, 1.0)
    radius: PositiveLength
    end_radius: PositiveLength | None = None
    length: PositiveLength
    angle: Angle = 6.283185307179586
    start: UnitVector | None = None
    cells: FaceKind = "quads"


class _Solid(_Gridded):
    sides_meshed: ClassVar[int] = 3
    cells: CellKind = "bricks"
    quadratic: bool = False


class Box(_Solid):
    """A block of solids: a corner and three sides."""

    corner: LengthVector
    sides: tuple[LengthVector, LengthVector, LengthVector]


class Tube(_Solid):
    """A thick ring or tube of solids: side 1 runs outward, side 2 around, side 3 along the axis."""

    base: LengthVector = (0.0, 0.0, 0.0)
    axis: UnitVector = (0.0, 0.0, 1.0)
    inner: PositiveLength
    outer: PositiveLength
    length: PositiveLength
    angle: Angle = 6.283185307179586
    start: UnitVector | None = None

    @model_validator(mode="after")
    def _hollow(self) -> Tube:
        if self.inner >= self.outer:
            raise complaint("the inner radius must be smaller than the outer one")
        return self


class Extrusion(_Solid):
    """An outline pushed along a vector: solids. Outline in the plane of `along` (x, y), from `origin`.

    The outline's corners go round in order; its edges are parallel to the two axes (or it has four corners).
    """

    origin: LengthVector = (0.0, 0.0, 0.0)
    plane: Axes = Axes(x="x", y="y")  # type: ignore[arg-type]
    outline: tuple[tuple[Length, Length], ...] = Field(min_length=3)
    holes: tuple[Hole, ...] = ()
    length: PositiveLength


class MeshFile(Strict):
    """A mesh from a file; `only` takes cells of one set, or of one value of cell data (``name: value``)."""

    shorthand: ClassVar[str | None] = "file"
    left_to_later: ClassVar[dict[str, frozenset[str]]] = {"mesh": frozenset({"shell", "section", "up"})}
    file: FileName
    unit: str = "m"
    only: dict[str, Any] | str | None = None
    shell: Shell | None = None
    section: names_of("sections") | None = None  # type: ignore[valid-type]
    up: UnitVector = (0.0, 0.0, 1.0)


_GEOMETRY = ("beam", "ring", "plate", "cylinder", "box", "tube", "extrusion", "mesh")


class Part(Strict):
    """A part: its geometry, its material, and whether it may share nodes with others at the same place.

    `axes` are the material's axes (and the axes in which shell stresses are given).
    """

    left_to_later: ClassVar[dict[str, frozenset[str]]] = {"mesh": frozenset({"material", "axes"})}
    beam: Beam | None = None
    ring: Ring | None = None
    plate: Plate | None = None
    cylinder: Cylinder | None = None
    box: Box | None = None
    tube: Tube | None = None
    extrusion: Extrusion | None = None
    mesh: MeshFile | None = None
    material: names_of("materials")  # type: ignore[valid-type]
    axes: Axes | None = None
    merge: bool = True

    @model_validator(mode="after")
    def _one(self) -> Part:
        self.exactly_one({n: getattr(self, n) for n in _GEOMETRY}, "a part has one geometry")
        return self

    @property
    def section(self) -> str | None:
        """Name of the beam section, where the part has one."""
        for shape in (self.beam, self.ring, self.mesh):
            if shape is not None:
                return shape.section
        return None

    @property
    def sections(self) -> tuple[str, ...]:
        """Names of all its beam sections."""
        end = None if self.beam is None else self.beam.end_section
        return tuple(s for s in (self.section, end) if s is not None)

    @property
    def shell(self) -> Shell | None:
        """How its surface carries, where the part has shells."""
        if self.mesh is not None:
            return self.mesh.shell
        return self.plate or self.cylinder
