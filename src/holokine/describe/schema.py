"""The words of an assembly description, as validated, immutable models in SI units.

The same models serve the assembly file and the Python calls. Names of things (parts, points ...) are the
user's own; keys may be written with spaces or underscores.
"""

from itertools import pairwise
from typing import Annotated, Any, ClassVar, Literal, Self

from pydantic import BeforeValidator, Field, ValidationInfo, WithJsonSchema, field_validator, model_validator

from holokine.describe.damping import Damping
from holokine.describe.events import Event
from holokine.describe.fields import (
    DIRECTIONS,
    NAMES_OR_TABLE,
    Area,
    Density,
    Expansion,
    Frequency,
    Gap,
    Length,
    LengthVector,
    LossFactor,
    Names,
    Number,
    PositiveLength,
    ProductMoment,
    SecondMoment,
    Stress,
    Strict,
    UnitVector,
    by_direction,
    complaint,
    names_of,
    quantity_field,
    quantity_schema,
)
from holokine.describe.gauges import GAUGE_KINDS, Gauge
from holokine.describe.joints import AveragingOrRigid, DampingSet, Joint, Side, StiffnessSet, Tie, connector_end
from holokine.describe.loads import Load
from holokine.describe.matrices import Matrices
from holokine.describe.parts import Axes, DirectionList, Part
from holokine.describe.states import State
from holokine.describe.targets import PointOrNode, Target
from holokine.describe.walk import walk
from holokine.errors import UnitError, shown
from holokine.units import UnitSystem, quantity

__all__ = [
    "Adjust",
    "Band",
    "Bushing",
    "Damping",
    "Description",
    "Mass",
    "Material",
    "ModesRequest",
    "Point",
    "Section",
    "Spring",
    "Support",
    "Units",
]

GROUND = "ground"
_Point = names_of("points", also=(GROUND,))
_End = Annotated[
    _Point | Side,  # type: ignore[valid-type]
    BeforeValidator(connector_end),
    NAMES_OR_TABLE,
]
_Members = ("parts", "masses", "springs", "bushings", "links", "joints", "ties", "groups")
MassMatrix = Literal["consistent", "lumped", "lumped without rotary"]


class Units(Strict):
    """Declared unit system of bare numbers."""

    length: str | None = None
    mass: str | None = None
    time: str | None = None
    force: str | None = None

    @field_validator("length", "mass", "time", "force")
    @classmethod
    def _a_unit(cls, value: str | None, info: ValidationInfo) -> str | None:
        try:
            UnitSystem.declare(**{str(info.field_name): value})
        except UnitError as err:
            raise complaint(str(err), "unit") from None
        return value

    def system(self) -> UnitSystem:
        return UnitSystem.declare(length=self.length, mass=self.mass, time=self.time, force=self.force)


class Orthotropic(Strict):
    """Three moduli along x y z, shear moduli xy yz zx, and Poisson ratios xy yz zx (contraction along the second)."""

    E: tuple[Stress, Stress, Stress]
    G: tuple[Stress, Stress, Stress]
    nu: tuple[Number, Number, Number]


class Material(Strict):
    """Linear elastic material: E with nu or G, or orthotropic constants; density."""

    E: Stress | None = None
    nu: Number | None = None
    G: Stress | None = None
    orthotropic: Orthotropic | None = None
    density: Density
    loss_factor: LossFactor | None = None
    expansion: Expansion | None = None
    left_to_later: ClassVar[dict[str, frozenset[str]]] = {"system": frozenset({"loss_factor", "expansion"})}

    @model_validator(mode="after")
    def _elastic(self) -> Self:
        self.exactly_one({"E": self.E, "orthotropic": self.orthotropic}, "a material")
        if self.orthotropic is not None:
            if self.nu is not None or self.G is not None:
                raise complaint("nu and G belong inside orthotropic")
            return self
        if self.nu is None and self.G is None:
            raise complaint("give nu (Poisson ratio) or G (shear modulus)")
        if self.nu is not None and not -1.0 < self.nu < 0.5:
            raise complaint(f"nu (Poisson ratio) must lie between -1 and 0.5, got {self.nu:g}")
        return self

    @property
    def young(self) -> float:
        """E in Pa; along x for an orthotropic material."""
        return float(self.orthotropic.E[0] if self.orthotropic is not None else self.E)  # type: ignore[arg-type]

    @property
    def shear_modulus(self) -> float:
        """G in Pa: as given, else E / (2 (1 + nu)); in the plane xy for an orthotropic material."""
        if self.orthotropic is not None:
            return float(self.orthotropic.G[0])
        if self.G is not None:
            return float(self.G)
        assert self.nu is not None
        return self.young / (2.0 * (1.0 + self.nu))

    @property
    def poisson_ratio(self) -> float:
        """nu as given, else E / (2 G) - 1."""
        if self.orthotropic is not None:
            return float(self.orthotropic.nu[0])
        return self.nu if self.nu is not None else self.young / (2.0 * self.shear_modulus) - 1.0


class Rectangle(Strict):
    """Solid rectangle: width along local y, height along local z."""

    width: PositiveLength
    height: PositiveLength


class TubeSection(Strict):
    """Hollow rectangle of one wall thickness."""

    width: PositiveLength
    height: PositiveLength
    wall: PositiveLength

    @model_validator(mode="after")
    def _hollow(self) -> Self:
        if 2 * self.wall >= min(self.width, self.height):
            raise complaint("the wall is half of the width or height or more: use a rectangle instead")
        return self


class Rod(Strict):
    """Solid circle."""

    diameter: PositiveLength


class Pipe(Strict):
    """Hollow circle: outer diameter and wall."""

    diameter: PositiveLength
    wall: PositiveLength

    @model_validator(mode="after")
    def _hollow(self) -> Self:
        if 2 * self.wall >= self.diameter:
            raise complaint("the wall is half of the diameter or more: use a rod instead")
        return self


class Flanged(Strict):
    """I, channel or T: height along z, width along y, web and flange thicknesses."""

    height: PositiveLength
    width: PositiveLength
    web: PositiveLength
    flange: PositiveLength

    @model_validator(mode="after")
    def _fits(self) -> Self:
        if self.web >= self.width or 2 * self.flange >= self.height:
            raise complaint("web must be thinner than the width, and two flanges thinner than the height")
        return self


class AngleShape(Strict):
    """Angle with two legs: height along z, width along y, one thickness."""

    height: PositiveLength
    width: PositiveLength
    thickness: PositiveLength

    @model_validator(mode="after")
    def _fits(self) -> Self:
        if self.thickness >= min(self.width, self.height):
            raise complaint("the thickness must be less than both legs")
        return self


class GivenProperties(Strict):
    """Section properties given directly, about the centroid in local axes y and z."""

    area: Area
    Iy: SecondMoment
    Iz: SecondMoment
    Iyz: ProductMoment = 0.0
    J: SecondMoment
    shear_centre: tuple[Length, Length] = (0.0, 0.0)
    fibres: tuple[tuple[Length, Length], ...] = ()

    @model_validator(mode="after")
    def _real(self) -> Self:
        if self.Iyz**2 >= self.Iy * self.Iz:
            raise complaint("Iyz is larger than any real section allows (Iyz² must be below Iy·Iz)")
        return self


def _shear_factor(value: Any, info: ValidationInfo) -> float:
    units = (info.context or {}).get("units") or UnitSystem()
    try:
        number = quantity(value, "number", units)
    except UnitError as err:
        raise complaint(str(err), "unit") from None
    if not 0.01 <= number <= 1.2:
        raise complaint(
            f"a shear factor (shear area over area) of {number:g} is none of a real section: it lies between 0.01 and "
            "1.2; for beams without shear deformation write theory: euler at the part"
        )
    return number


_ShearFactor = Annotated[float, BeforeValidator(_shear_factor), WithJsonSchema(quantity_schema("number"))]


class Section(Strict):
    """A beam section: one shape, or its properties; shear factors and J may be overridden."""

    rectangle: Rectangle | None = None
    tube: TubeSection | None = None
    rod: Rod | None = None
    pipe: Pipe | None = None
    I: Flanged | None = None  # noqa: E741 - the trade's name of the shape
    channel: Flanged | None = None
    angle: AngleShape | None = None
    T: Flanged | None = None
    properties: GivenProperties | None = None
    shear_factors: tuple[_ShearFactor, _ShearFactor] | None = None
    torsion_constant: SecondMoment | None = None

    @model_validator(mode="after")
    def _one_shape(self) -> Self:
        names = ("rectangle", "tube", "rod", "pipe", "I", "channel", "angle", "T", "properties")
        self.exactly_one({n: getattr(self, n) for n in names}, "a section has one shape")
        return self


class Point(Strict):
    """A named place. `apart` keeps it a node of its own where other nodes are at the same place."""

    shorthand: ClassVar[str | None] = "at"
    at: LengthVector
    apart: bool = False


def _inertia_tensor(value: Any, info: ValidationInfo) -> tuple[tuple[float, ...], ...]:
    """Three principal entries, a mapping of tensor entries, or a full 3 by 3 tensor, in kg m²."""
    units = (info.context or {}).get("units") or UnitSystem()

    def read(entry: Any) -> float:
        try:
            return quantity(entry, "inertia", units)
        except UnitError as err:
            raise complaint(str(err), "unit") from None

    if hasattr(value, "tolist"):
        value = value.tolist()
    if isinstance(value, dict):
        unknown = set(value) - {"xx", "yy", "zz", "xy", "yz", "xz"}
        if unknown:
            raise complaint(f"unknown inertia entry {sorted(unknown)}; entries are xx yy zz xy yz xz", "key")
        t = {k: read(value.get(k, 0.0)) for k in ("xx", "yy", "zz", "xy", "yz", "xz")}
        rows: Any = [[t["xx"], t["xy"], t["xz"]], [t["xy"], t["yy"], t["yz"]], [t["xz"], t["yz"], t["zz"]]]
    elif (
        isinstance(value, list | tuple)
        and len(value) == 3
        and all(isinstance(r, list | tuple) and len(r) == 3 for r in value)
    ):
        rows = [[read(v) for v in r] for r in value]
    elif isinstance(value, list | tuple) and len(value) == 3:
        a, b, c = (read(v) for v in value)
        rows = [[a, 0.0, 0.0], [0.0, b, 0.0], [0.0, 0.0, c]]
    else:
        raise complaint("expected [Ixx, Iyy, Izz], a 3 by 3 tensor, or entries xx yy zz xy yz xz")
    if any(abs(rows[i][j] - rows[j][i]) > 1e-9 * (abs(rows[i][j]) + 1e-30) for i in range(3) for j in range(i)):
        raise complaint("the inertia tensor is not symmetric")
    return tuple(tuple(r) for r in rows)


class Mass(Strict):
    """A point mass at a point or at one node, or off it by a rigid arm; inertia about its centre of mass, global axes.

    Tensor entries with the minus sign in the products: I_xy = -∫ x y dm.
    """

    at: PointOrNode  # type: ignore[valid-type]
    mass: quantity_field("mass", least=0.0)  # type: ignore[valid-type]
    inertia: Annotated[tuple[tuple[float, ...], ...], BeforeValidator(_inertia_tensor), by_direction("inertia")] = (
        (0.0, 0.0, 0.0),
        (0.0, 0.0, 0.0),
        (0.0, 0.0, 0.0),
    )
    offset: LengthVector = (0.0, 0.0, 0.0)


class SpringLaw(Strict):
    """Force F = linear e + quadratic e² + cubic e³ of a spring over its elongation e, tension positive.

    A negative linear term is a bias that softens (electrical, magnetic).
    """

    linear: quantity_field("stiffness") = 0.0  # type: ignore[valid-type]
    quadratic: quantity_field("quadratic stiffness") = 0.0  # type: ignore[valid-type]
    cubic: quantity_field("cubic stiffness") = 0.0  # type: ignore[valid-type]

    @model_validator(mode="after")
    def _some(self) -> Self:
        if not (self.linear or self.quadratic or self.cubic):
            raise complaint("a law needs a term that is not zero: linear, quadratic or cubic")
        return self


def _force_table(value: Any, info: ValidationInfo) -> tuple[tuple[float, float], ...]:
    """Rows of elongation and force, rising in elongation."""
    units = (info.context or {}).get("units") or UnitSystem()
    if hasattr(value, "tolist"):
        value = value.tolist()
    if not isinstance(value, list | tuple) or len(value) < 2:
        raise complaint("expected two or more rows [elongation, force], such as [[0, 0], [3 mm, 200 N], [5 mm, 600 N]]")
    rows = []
    for number, row in enumerate(value, start=1):
        if not isinstance(row, list | tuple) or len(row) != 2:
            raise complaint(f"row {number}: expected [elongation, force], got {shown(row)}")
        try:
            rows.append((quantity(row[0], "length", units), quantity(row[1], "force", units)))
        except UnitError as err:
            raise complaint(f"row {number}: {err}", "unit") from None
    for number, (before, after) in enumerate(pairwise(rows), start=2):
        if after[0] == before[0]:
            raise complaint(
                f"row {number}: the elongation {1e3 * after[0]:g} mm is given twice, so that the force there is not "
                "single-valued"
            )
        if after[0] < before[0]:
            raise complaint(
                f"row {number}: elongations must rise, {1e3 * after[0]:g} mm follows {1e3 * before[0]:g} mm"
            )
    return tuple(rows)


ForceTable = Annotated[
    tuple[tuple[float, float], ...],
    BeforeValidator(_force_table),
    WithJsonSchema({"type": "array", "items": {"type": "array", "minItems": 2, "maxItems": 2}, "minItems": 2}),
]


class Spring(Strict):
    """A spring (and damper) along the line between two points, or along `axis`; to `ground` if named so.

    An end may also be a selection of nodes, carried by a link of its own (rigid, averaging or area). `one way` lets
    it only push or only pull, with a `gap` only after it is shortened (lengthened) by so much. In place of a
    `stiffness` it may have a `force` table (elongation, force; tension positive; straight between rows) or a `law`:
    its slope in the state (without a state: in the unloaded shape) is its stiffness. A table of one side says whether
    it is `mirrored`; beyond its ends is an error unless the last force is `held`.
    """

    between: tuple[_End, _End]  # type: ignore[valid-type]
    stiffness: quantity_field("stiffness", least=0.0) = 0.0  # type: ignore[valid-type]
    damping: quantity_field("damping constant", least=0.0) = 0.0  # type: ignore[valid-type]
    loss_factor: LossFactor | None = None
    left_to_later: ClassVar[dict[str, frozenset[str]]] = {"system": frozenset({"damping", "loss_factor"})}
    whether: ClassVar[frozenset[str]] = frozenset({"damping"})
    axis: UnitVector | None = None
    one_way: Literal["push", "pull"] | None = None
    gap: Gap | None = None  # type: ignore[valid-type]
    force: ForceTable | None = None
    mirrored: bool | None = None
    beyond: Literal["refused", "held"] | None = None
    law: SpringLaw | None = None

    @model_validator(mode="after")
    def _sense(self) -> Self:
        given = self.model_fields_set
        if self.stiffness or (self.force is not None and self.law is not None):
            self.exactly_one(
                {"stiffness": self.stiffness or None, "force": self.force, "law": self.law}, "how a spring pulls"
            )
        if self.force is None:
            self.has_no_effect(given, ("mirrored", "beyond"), "without a force table")
        else:
            self._table()
        if self.one_way is None:
            self.has_no_effect(given, ("gap",), "without one way: push or pull (both ways: give a force table)")
        elif not self.stiffness:
            raise complaint("one way belongs to a spring with a stiffness; a force table or law says it all by itself")
        return self

    def _table(self) -> None:
        assert self.force is not None
        first, last = self.force[0][0], self.force[-1][0]
        if first < 0.0 < last:
            self.has_no_effect(self.model_fields_set, ("mirrored",), "on a table of both sides")
        elif first > 0.0 or last < 0.0:
            raise complaint("force: the table must hold the elongation 0 (the unloaded shape)")
        elif self.mirrored is None:
            raise complaint("force: a table of one side; say whether the other is mirrored (true), or free of force")
        elif self.mirrored and self.force[0 if first == 0.0 else -1][1] != 0.0:
            raise complaint("force: mirrored, so that the force at 0 must be 0 to be single-valued")

    @property
    def is_nonlinear(self) -> bool:
        """Whether its force is a table or a law."""
        return self.force is not None or self.law is not None


class Bushing(Strict):
    """Up to six springs and dampers between two points (or to `ground`), in own axes.

    A side may also be a selection of nodes, carried by a link of its own (rigid, averaging or area).

    They act at the middle between the points (at the point itself for ground), each side carried by a
    rigid arm, so that a rigid motion of both sides together stretches nothing.
    """

    between: tuple[_End, _End]  # type: ignore[valid-type]
    stiffness: StiffnessSet = (0.0,) * 6
    damping: DampingSet = (0.0,) * 6
    loss_factor: LossFactor | None = None
    left_to_later: ClassVar[dict[str, frozenset[str]]] = {"system": frozenset({"damping", "loss_factor"})}
    whether: ClassVar[frozenset[str]] = frozenset({"damping"})
    axes: Axes | None = None


Pushing = Literal["x", "y", "z", "-x", "-y", "-z"]


class Support(Strict):
    """Holds directions (global axes) of a point or of all nodes that a target selects.

    `hold` holds both ways. `pushes` is one-way: the support can only push the assembly into that direction, and lets
    go of it otherwise; with a `gap` it does so only after the assembly has come so far against it. `friction` is
    Coulomb's coefficient in the two directions across. What touches, slides or is open is found in a state.
    `restitution`: share of the closing speed with which what hits it rebounds, in answers in time that follow it.
    """

    at: Target
    hold: DirectionList = ()
    pushes: Pushing | None = None
    gap: Gap | None = None  # type: ignore[valid-type]
    friction: quantity_field("number", least=0.0) | None = None  # type: ignore[valid-type]
    restitution: quantity_field("number", least=0.0, most=1.0) | None = None  # type: ignore[valid-type]

    @field_validator("hold")
    @classmethod
    def _some(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(d for d in DIRECTIONS if d in value)

    @model_validator(mode="after")
    def _sense(self) -> Self:
        if not self.hold and self.pushes is None:
            raise complaint("holds no direction; directions are x y z rx ry rz, or all; one-way: pushes")
        if self.pushes is None:
            self.has_no_effect(
                self.model_fields_set, ("gap", "friction", "restitution"), "without pushes (a one-way support)"
            )
        elif self.pushes[-1] in self.hold:
            raise complaint(f"holds {self.pushes[-1]} both ways, so that pushes: {self.pushes} has no effect")
        elif self.friction is not None and not set(self.across) - set(self.hold):
            raise complaint(f"holds {' and '.join(self.across)} both ways, so that friction has no effect")
        return self

    @property
    def across(self) -> tuple[str, ...]:
        """The two directions across a one-way support's."""
        return tuple(a for a in "xyz" if self.pushes is not None and a != self.pushes[-1])


_Harmonic = quantity_field("number", above=0.0, most=1e4)


class Band(Strict):
    """A band of excitation: a range of frequencies, or a running speed with harmonics and a margin to each side."""

    range: tuple[Frequency, Frequency] | None = None
    speed: Frequency | None = None
    harmonics: tuple[_Harmonic, ...] = (1.0,)  # type: ignore[valid-type]
    margin: quantity_field("number", least=0.0) = 0.1  # type: ignore[valid-type]

    @model_validator(mode="after")
    def _one(self) -> Self:
        self.exactly_one({"range": self.range, "speed": self.speed}, "a band")
        if self.range is not None and self.range[0] >= self.range[1]:
            raise complaint("the range must rise")
        if self.margin >= 1.0:
            raise complaint("the margin must be below 100 %")
        return self

    def ranges(self) -> list[tuple[str, float, float]]:
        """Each band proper: what it is, and its bounds in Hz."""
        if self.range is not None:
            return [("", *self.range)]
        assert self.speed is not None
        return [(f"harmonic {h:g}", h * self.speed * (1 - self.margin), h * self.speed * (1 + self.margin))
                for h in self.harmonics]  # fmt: skip


class ModesRequest(Strict):
    """How many modes to extract by default: a count, an upper frequency, or both (whichever comes first)."""

    count: int | None = Field(default=None, ge=1)
    upto: Frequency | None = None


class Adjust(Strict):
    """Factors on the stiffness and mass of a member or group."""

    stiffness: quantity_field("number", above=0.0) = 1.0  # type: ignore[valid-type]
    mass: quantity_field("number", least=0.0) = 1.0  # type: ignore[valid-type]


class Description(Strict):
    """A whole assembly."""

    holokine: Literal[1] = 1
    title: str = ""
    units: Units = Units()
    materials: dict[str, Material] = {}
    sections: dict[str, Section] = {}
    points: dict[str, Point] = {}
    parts: dict[str, Part] = {}
    masses: dict[str, Mass] = {}
    springs: dict[str, Spring] = {}
    bushings: dict[str, Bushing] = {}
    links: dict[str, AveragingOrRigid] = {}
    joints: dict[str, Joint] = {}
    ties: dict[str, Tie] = {}
    supports: dict[str, Support] = {}
    groups: dict[str, tuple[names_of(*_Members), ...]] = {}  # type: ignore[valid-type]
    gauges: dict[str, Gauge] = {}
    limits: dict[names_of("gauges"), Any] = {}  # type: ignore[valid-type]
    loads: dict[str, Load] = {}
    states: dict[str, State] = {}
    state: names_of("states") | None = None  # type: ignore[valid-type]
    damping: Damping = Damping(ratio=0.02)
    events: dict[str, Event] = {}
    modes: ModesRequest = ModesRequest()
    bands: dict[str, Band] = {}
    matrices: Matrices | None = None
    mass_matrix: MassMatrix = "consistent"
    massless: DirectionList = ()
    merge_tolerance: PositiveLength | None = None
    adjust: dict[names_of(*_Members), Adjust] = {}  # type: ignore[valid-type]
    variants: dict[str, dict[str, Any]] = {}

    @property
    def damping_used(self) -> Damping:
        """The damping as given; where none is given, that of members with a loss factor alone, or 2 % assumed."""
        return self.damping if self.damping_given or not self.has_losses else Damping(ratio=0.0)

    @property
    def has_losses(self) -> bool:
        """Whether materials of parts, springs, bushings or joints have a loss factor of their own."""
        tables: tuple[dict[str, Any], ...] = (self.springs, self.bushings, self.joints)
        return any(self.materials[m].loss_factor for p in self.parts.values() for m in p.materials) or any(
            c.loss_factor for table in tables for c in table.values()
        )

    @property
    def damping_given(self) -> bool:
        """Whether the description says anything of damping."""
        return "damping" in self.model_fields_set

    def band_ranges(self) -> list[tuple[str, float, float]]:
        """All bands of excitation proper: name with the harmonic, and bounds in Hz."""
        return [(f"{k} {words}".strip(), low, high) for k, b in self.bands.items() for words, low, high in b.ranges()]

    @property
    def structural_points(self) -> dict[str, Point]:
        """Points that carry something, which are nodes; others are names of places on them."""
        used = {
            name
            for table in ("parts", "masses", "springs", "bushings", "links", "joints", "ties", "supports")
            for model in getattr(self, table).values()
            for _, name, mark in walk(model)
            if isinstance(mark, Names) and "points" in mark.tables
        }
        return {name: p for name, p in self.points.items() if name in used}

    @field_validator("limits")
    @classmethod
    def _in_si(cls, value: dict[str, Any], info: ValidationInfo) -> dict[str, Any]:
        """Limits in SI, one number or by component, by what the gauge reads."""
        units = (info.context or {}).get("units") or UnitSystem()
        gauges = info.data.get("gauges") or {}
        result: dict[str, Any] = {}
        for name, limit in value.items():
            gauge = gauges.get(name)
            if gauge is None:
                result[name] = limit  # refused with the nearest name when references are checked
                continue

            def read(one: Any, gauge: Gauge = gauge, name: str = name) -> float:
                try:
                    size = quantity(one, GAUGE_KINDS[gauge.kind].dimension, units)
                except UnitError as err:
                    raise complaint(f"{name}: {err}", "unit") from None
                if not size > 0:
                    raise complaint(f"{name}: must be greater than 0, got {one}")
                return size

            result[name] = {str(k): read(v) for k, v in limit.items()} if isinstance(limit, dict) else read(limit)
        return result

    @field_validator("groups", mode="before")
    @classmethod
    def _lists(cls, value: Any) -> Any:
        if isinstance(value, dict):
            return {k: ((v,) if isinstance(v, str) else v) for k, v in value.items()}
        return value
