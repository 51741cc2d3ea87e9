"""Parts: what carries stiffness and mass by a mesh of elements."""

from collections.abc import Mapping
from itertools import pairwise
from typing import Annotated, Any, ClassVar, Literal, Self

from pydantic import BeforeValidator, Discriminator, Field, Tag, WithJsonSchema, field_validator, model_validator

from holokine.describe.fields import (
    DIRECTIONS,
    ONE_OR_MORE,
    UNIT_VECTOR_SCHEMA,
    Angle,
    Area,
    AreaMass,
    Around,
    Direction,
    FileName,
    Force,
    ForcePerLength,
    Length,
    LengthVector,
    Number,
    PositiveLength,
    Ratio,
    Strict,
    UnitVector,
    complaint,
    names_of,
    one_or_more,
    quantity_field,
    unit_vector,
)
from holokine.errors import shown

__all__ = [
    "Arc",
    "Axes",
    "Beam",
    "Box",
    "Cable",
    "Cylinder",
    "Extrusion",
    "Finer",
    "Hole",
    "Layer",
    "MeshBeams",
    "MeshFile",
    "Part",
    "Plate",
    "Refinement",
    "Ring",
    "Rounded",
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


def unused_by_outlines(shape: Any, along: int | None = None) -> None:
    """Raise for keys of grids that a mesh of an outline does not use (`along`: the side that it still has)."""
    if shape.size is None:
        raise complaint("an outline needs the size of its elements: size, not divisions")
    if any(f.size >= shape.size for f in shape.finer):
        raise complaint(f"finer has no effect: its size is not below the size of {1e3 * shape.size:g} mm")
    if any(r.side != along for r in shape.refine):
        raise complaint("refine has no effect on an outline; give finer: [{at: [x, y], size: ..., within: ...}]")


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
    def _apart(self) -> Self:
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


def _counted(value: int | tuple[int, ...] | None) -> int | tuple[int, ...] | None:
    numbers = value if isinstance(value, tuple) else (value,)
    if any(n is not None and n < 1 for n in numbers):
        raise complaint(f"divisions must be 1 or more, got {shown(value)}")
    return value


def _refuse_spans(run: Any, words: str) -> None:
    """Raise where the divisions of a run do not fit its points."""
    if "divisions" in run.model_fields_set and run.divisions is not None and run.size is not None:
        raise complaint("give divisions or size, not both")
    if isinstance(run.divisions, tuple) and len(run.divisions) != len(run.through) - 1:
        raise complaint(f"divisions lists {len(run.divisions)} numbers for {len(run.through) - 1} spans")
    for a, b in pairwise(run.through):
        if a == b:
            raise complaint(f'{words} goes from the point "{a}" to itself')


class Beam(Strict):
    """A run of beam elements, straight from point to point.

    With an `end_section` it tapers from `section` to that; dimensions change evenly along the run. Local x runs along
    the beam, local z is the part of `up` normal to it, local y = z cross x. A section's height is along local z, its
    width along local y. A beam that `goes slack` is a strut that only pulls: in a state it carries no compression, and
    is absent (its mass at its ends) where it would; while it pulls it bends as a beam does, clamped at its ends unless
    they are released. A rope is a `cable`.
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

    _positive = field_validator("divisions")(_counted)

    @model_validator(mode="after")
    def _spans(self) -> Self:
        _refuse_spans(self, "the beam")
        return self


class Cable(Strict):
    """A rope, wire or chain, straight from point to point: it carries tension, and nothing else.

    No bending, no torsion, no compression: where it would be pressed it is slack (its mass at its ends). Across it is
    held by its tension, which a state gives it by loads, shortening or `tension`. With a section, or an `area` of metal
    alone; `stiffness` is its E A, where that is not E of the material times the area (a laid rope). Nodes within it
    (`divisions`, 1 unless given) let it sag and vibrate between its ends.
    """

    left_to_later: ClassVar[dict[str, frozenset[str]]] = {"mesh": frozenset({"section", "area", "stiffness"})}
    through: tuple[names_of("points"), ...] = Field(min_length=2)  # type: ignore[valid-type]
    section: names_of("sections") | None = None  # type: ignore[valid-type]
    area: Area | None = None  # type: ignore[valid-type]
    stiffness: quantity_field("force", above=0.0) | None = None  # type: ignore[valid-type]
    divisions: int | tuple[int, ...] = 1
    size: PositiveLength | None = None
    offset: ClassVar[EndOffsets] = EndOffsets()

    _positive = field_validator("divisions")(_counted)

    @model_validator(mode="after")
    def _spans(self) -> Self:
        _refuse_spans(self, "the cable")
        if (self.section is None) == (self.area is None):
            raise complaint("a cable has a section or an area")
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
    def _inside(self) -> Self:
        if not 0.0 <= self.start < self.end <= 1.0:
            raise complaint("start and end must be fractions of the side with start below end")
        return self


class Arc(Strict):
    """The next edge of an outline: an arc through a place to the next corner."""

    through: tuple[Length, Length]
    to: tuple[Length, Length]


class Rounded(Strict):
    """A corner of an outline, rounded."""

    corner: tuple[Length, Length]
    radius: PositiveLength


def _kind_of_item(value: Any) -> str:
    if isinstance(value, Rounded) or (isinstance(value, Mapping) and ("corner" in value or "radius" in value)):
        return "rounded corner"
    return "arc" if isinstance(value, Arc | Mapping) else "corner"


def _two_numbers(value: Any) -> Any:
    if not isinstance(value, list | tuple) or len(value) != 2:
        raise complaint(
            "expected a corner [x, y] in the plane of the outline, {corner: [x, y], radius: ...} or {through: [x, y], "
            f"to: [x, y]}}, got {shown(value)}"
        )
    return value


Outline = Annotated[
    tuple[
        Annotated[
            Annotated[tuple[Length, Length], BeforeValidator(_two_numbers), Tag("corner")]
            | Annotated[Arc, Tag("arc")]
            | Annotated[Rounded, Tag("rounded corner")],
            Discriminator(_kind_of_item),
        ],
        ...,
    ],
    Field(min_length=2),
]
"""Corners in order, each by its place; arcs and rounded corners among them; the last meets the first."""


class Finer(Strict):
    """Smaller elements around a place of an outline, as far as `within`."""

    at: tuple[Length, Length]
    size: PositiveLength
    within: quantity_field("length", least=0.0) = 0.0  # type: ignore[valid-type]


AroundCount = Annotated[int, Field(ge=4, le=360)]
Growth = Annotated[Number, Field(ge=0.05, le=3.0)]


class Hole(Strict):
    """A hole, at a place measured along the two sides from the corner: a circle, a rectangle, or any outline."""

    at: tuple[Length, Length] | None = None
    diameter: PositiveLength | None = None
    size: tuple[PositiveLength, PositiveLength] | None = None
    outline: Outline | None = None

    @model_validator(mode="after")
    def _one(self) -> Self:
        self.exactly_one({"diameter": self.diameter, "size": self.size, "outline": self.outline}, "a hole")
        if (self.at is None) != (self.outline is not None):
            raise complaint("a circle or rectangle needs its middle: at; an outline has its own places")
        check_outline(self.outline)
        return self


def check_outline(outline: Any) -> None:
    """Raise for an outline that cannot be closed, or that begins with an arc."""
    if outline is None:
        return
    arcs = sum(isinstance(item, Arc) for item in outline)
    if len(outline) < 3 and not arcs:
        raise complaint("an outline needs three corners, or two and an arc")
    if isinstance(outline[0], Arc):
        raise complaint("an outline begins with a corner; an arc leads on from there")


class _Gridded(Strict):
    """Shared: element size or divisions, and refinement."""

    divisions: Divisions | None = None
    size: PositiveLength | None = None
    refine: tuple[Refinement, ...] = ()
    sides_meshed: ClassVar[int] = 2

    @model_validator(mode="after")
    def _grid(self) -> Self:
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


class Layer(Strict):
    """One layer of a laminate; its own x lies at `angle` from the part's x towards its y.

    Without a material it has the part's. One that does not carry has mass and takes up thickness.
    """

    thickness: PositiveLength
    material: names_of("materials") | None = None  # type: ignore[valid-type]
    angle: Angle = 0.0
    carries: bool = True


def _side_or_vector(value: Any) -> Any:
    if isinstance(value, str) and value.startswith("side") and value not in ("side 1", "side 2"):
        raise complaint(f"the sides here are side 1 and side 2, got {shown(value)}; or give an axis or a direction")
    return value if value in ("side 1", "side 2") else unit_vector(value)


AlongSide = Annotated[
    tuple[float, float, float] | Literal["side 1", "side 2"],
    BeforeValidator(_side_or_vector),
    WithJsonSchema({"anyOf": [{"enum": ["side 1", "side 2"]}, UNIT_VECTOR_SCHEMA]}),
]


class Shell(Strict):
    """How a surface carries: thickness or layers (from the bottom up), and what comes with it.

    `tension` is a constant membrane force along x and y, and in shear where a third is given; x is along the part's
    axes, or along `tension_along`: a direction, of which the part in the surface counts, or one of the sides.
    """

    left_to_later: ClassVar[dict[str, frozenset[str]]] = {
        "mesh": frozenset(
            {"thickness", "layers", "symmetric", "offset", "area_mass", "shear_factor", "tension", "tension_along"}
        )
    }
    thickness: PositiveLength | None = None
    layers: tuple[Layer, ...] | None = Field(default=None, min_length=1)
    symmetric: bool | None = None
    offset: Length = 0.0
    area_mass: AreaMass = 0.0
    shear_factor: Ratio | None = None
    tension: tuple[ForcePerLength, ForcePerLength] | tuple[ForcePerLength, ForcePerLength, ForcePerLength] | None = None
    tension_along: AlongSide | None = None

    @field_validator("tension", mode="before")
    @classmethod
    def _two_or_three(cls, value: Any) -> Any:
        if isinstance(value, list | tuple) and len(value) not in (2, 3):
            raise complaint(f"tension is [x, y] or [x, y, shear], got {len(value)} numbers")
        return value

    @model_validator(mode="after")
    def _made_of(self) -> Self:
        self.exactly_one({"thickness": self.thickness, "layers": self.layers}, "a shell")
        if self.shear_factor is not None and not 0.0 < self.shear_factor <= 1.0:
            raise complaint(f"shear factor must be above 0 and at most 1, got {self.shear_factor:g}")
        if self.tension_along is not None and self.tension is None:
            raise complaint("tension along has no effect without tension")
        if self.layers is None:
            if self.symmetric is not None:
                raise complaint("symmetric has no effect without layers")
            return self
        if self.shear_factor is not None:
            raise complaint(
                "layers have their own shear stiffness, by the balance of their stresses: leave shear factor out"
            )
        carrying = [layer.carries for layer in self.stack]
        if not any(carrying):
            raise complaint("none of the layers carries")
        first, last = carrying.index(True), len(carrying) - 1 - carrying[::-1].index(True)
        if not all(carrying[first : last + 1]):
            raise complaint(
                "a layer that does not carry lies between two that do, which then nothing holds together: give it the "
                "stiffness that it has"
            )
        return self

    @property
    def stack(self) -> tuple[Layer, ...]:
        """All layers from the bottom up, the mirrored ones included; empty where there is only a thickness."""
        layers = self.layers or ()
        return (*layers, *layers[::-1]) if self.symmetric else layers


class Plate(_Gridded, Shell):
    """A plate of shells: a corner and two sides, four corners in order (it may be twisted), or any flat outline.

    An `outline` lies in the plane of `plane` (x, y) through `origin`; its size is that of elements, `finer` where
    asked, and nodes lie at `points` and along `lines`. `around`: elements around a full circle of arcs and round holes
    (16, quadratic ones 8). `growth`: how much larger elements become per length away from small ones (0.3). Where it
    meets other outlines, grids, beams or points, it has their nodes. `quadratic`: elements of nine or six nodes, curved
    where the surface is.
    """

    corner: LengthVector | None = None
    sides: tuple[LengthVector, LengthVector] | None = None
    corners: tuple[LengthVector, LengthVector, LengthVector, LengthVector] | None = None
    outline: Outline | None = None
    origin: LengthVector | None = None
    plane: Axes | None = None
    points: tuple[tuple[Length, Length], ...] = ()
    lines: tuple[tuple[tuple[Length, Length], ...], ...] = ()
    finer: tuple[Finer, ...] = ()
    around: AroundCount | None = None
    growth: Growth | None = None
    holes: tuple[Hole, ...] = ()
    cells: FaceKind = "quads"
    quadratic: bool = False

    @model_validator(mode="after")
    def _shape(self) -> Self:
        if [self.corners, self.corner, self.outline].count(None) != 2 or (self.corner is None) != (self.sides is None):
            raise complaint("give corner and sides, or corners, or an outline")
        own = {"origin", "plane", "points", "lines", "finer", "around", "growth"}
        if self.outline is None:
            self.has_no_effect(self.model_fields_set & own, tuple(sorted(own)), "without an outline")
            if any(h.outline is not None for h in self.holes):
                raise complaint("a hole of any outline needs a plate that has an outline itself")
        else:
            check_outline(self.outline)
            unused_by_outlines(self)
            if isinstance(self.tension_along, str):
                raise complaint("tension along: an outline has no sides 1 and 2; give a direction")
            if any(len(line) < 2 for line in self.lines):
                raise complaint("a line needs two places or more")
        return self


class Cylinder(_Gridded, Shell):
    """A cylindrical surface of shells: side 1 runs around, side 2 along the axis; `quadratic` as of plates."""

    base: LengthVector = (0.0, 0.0, 0.0)
    axis: UnitVector = (0.0, 0.0, 1.0)
    radius: PositiveLength
    end_radius: PositiveLength | None = None
    length: PositiveLength
    angle: Around = 6.283185307179586
    start: UnitVector | None = None
    cells: FaceKind = "quads"
    quadratic: bool = False


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
    angle: Around = 6.283185307179586
    start: UnitVector | None = None

    @model_validator(mode="after")
    def _hollow(self) -> Self:
        if self.inner >= self.outer:
            raise complaint("the inner radius must be smaller than the outer one")
        return self


class Extrusion(_Solid):
    """An outline pushed along the normal of its plane: solids. The outline lies in `plane` (x, y), from `origin`.

    Outlines with edges along the two axes, and those of four corners without holes, are meshed as grids; all others
    with cells of one `size`, `finer` where asked, `around` and `growth` as of plates.
    """

    origin: LengthVector = (0.0, 0.0, 0.0)
    plane: Axes = Axes(x="x", y="y")  # type: ignore[arg-type]
    outline: Outline
    holes: tuple[Hole, ...] = ()
    finer: tuple[Finer, ...] = ()
    around: AroundCount | None = None
    growth: Growth | None = None
    length: PositiveLength

    @model_validator(mode="after")
    def _any(self) -> Self:
        check_outline(self.outline)
        if not self.is_grid:
            unused_by_outlines(self, along=3)
        else:
            self.has_no_effect(self.model_fields_set, ("around", "growth"), "on an outline that is meshed as a grid")
        return self

    @property
    def is_grid(self) -> bool:
        """Whether the outline is meshed by lines across it."""
        if self.finer or any(not isinstance(c, tuple) for c in self.outline):
            return False
        if any(h.outline is not None for h in self.holes):
            return False
        corners = [c for c in self.outline if isinstance(c, tuple)]
        tiny = 1e-9 * max(max(abs(v) for v in c) for c in corners)
        edges = zip(corners, (*corners[1:], corners[0]), strict=True)
        square = all(min(abs(a[0] - b[0]), abs(a[1] - b[1])) <= tiny for a, b in edges)
        return square or (len(corners) == 4 and not self.holes)


class MeshBeams(Strict):
    """Lines of a mesh file that differ from the others of their part: those of one set.

    Releases act at the ends of its runs: where a line's first node (`start`) or second node (`end`) is on none or on
    several others of the set.
    """

    section: names_of("sections") | None = None  # type: ignore[valid-type]
    up: UnitVector | None = None
    eccentricity: tuple[Length, Length] = (0.0, 0.0)
    release: EndReleases = EndReleases()
    theory: Literal["timoshenko", "rayleigh", "euler"] = "timoshenko"
    preload: Force = 0.0


class MeshFile(Strict):
    """A mesh from a file; `only` takes cells of one set, or of one value of cell data (``name: value``).

    Its lines are beams of one section, or of several by set (`beams`).
    """

    shorthand: ClassVar[str | None] = "file"
    left_to_later: ClassVar[dict[str, frozenset[str]]] = {"mesh": frozenset({"shell", "section", "up"})}
    beams: dict[str, MeshBeams] = {}
    file: FileName
    unit: str = "m"
    only: dict[str, Any] | str | None = None
    shell: Shell | None = None
    section: names_of("sections") | None = None  # type: ignore[valid-type]
    up: UnitVector = (0.0, 0.0, 1.0)


_GEOMETRY = ("beam", "cable", "ring", "plate", "cylinder", "box", "tube", "extrusion", "mesh")


class Part(Strict):
    """A part: its geometry, its material, and whether it may share nodes with others at the same place.

    `axes` are the material's axes (and the axes in which shell stresses are given). Layers that all name a material
    of their own leave the part none.
    """

    left_to_later: ClassVar[dict[str, frozenset[str]]] = {"mesh": frozenset({"material", "axes"})}
    beam: Beam | None = None
    cable: Cable | None = None
    ring: Ring | None = None
    plate: Plate | None = None
    cylinder: Cylinder | None = None
    box: Box | None = None
    tube: Tube | None = None
    extrusion: Extrusion | None = None
    mesh: MeshFile | None = None
    material: names_of("materials") | None = None  # type: ignore[valid-type]
    axes: Axes | None = None
    merge: bool = True

    @model_validator(mode="after")
    def _one(self) -> Self:
        self.exactly_one({n: getattr(self, n) for n in _GEOMETRY}, "a part has one geometry")
        layered = self.shell.layers if self.shell is not None else None
        if self.material is None and (layered is None or any(layer.material is None for layer in layered)):
            raise complaint("give a material" + ("" if layered is None else ", or one in every layer"))
        if self.material is not None and layered is not None and all(layer.material for layer in layered):
            only_shells = self.mesh is None or not self.sections
            if only_shells:
                raise complaint("material has no effect: all layers have one of their own. Leave one of the two out")
        if self.mesh is not None and self.shell is not None and isinstance(self.shell.tension_along, str):
            raise complaint("tension along: a mesh from a file has no sides; give a direction")
        return self

    @property
    def materials(self) -> tuple[str, ...]:
        """Names of all its materials, its own first."""
        layers = () if self.shell is None else self.shell.layers or ()
        every = [self.material, *(layer.material for layer in layers)]
        return tuple(dict.fromkeys(m for m in every if m is not None))

    @property
    def section(self) -> str | None:
        """Name of the beam section, where the part has one."""
        for shape in (self.beam, self.cable, self.ring, self.mesh):
            if shape is not None:
                return shape.section
        return None

    @property
    def sections(self) -> tuple[str, ...]:
        """Names of all its beam sections."""
        end = None if self.beam is None else self.beam.end_section
        others = () if self.mesh is None else tuple(b.section for b in self.mesh.beams.values())
        return tuple(dict.fromkeys(s for s in (self.section, end, *others) if s is not None))

    @property
    def run(self) -> Beam | Cable | None:
        """The run from point to point, where the part is one."""
        return self.beam or self.cable

    @property
    def only_pulls(self) -> bool:
        """Whether it carries no compression in a state: a cable, or a beam that goes slack."""
        return self.cable is not None or bool(self.beam is not None and self.beam.goes_slack)

    @property
    def preloads(self) -> tuple[float, ...]:
        """Constant axial forces of its beams in N, where there are any."""
        own = () if self.beam is None else (self.beam.preload,)
        others = () if self.mesh is None else tuple(b.preload for b in self.mesh.beams.values())
        return tuple(p for p in (*own, *others) if p)

    @property
    def shell(self) -> Shell | None:
        """How its surface carries, where the part has shells."""
        if self.mesh is not None:
            return self.mesh.shell
        return self.plate or self.cylinder
