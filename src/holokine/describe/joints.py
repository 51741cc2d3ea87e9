"""How parts are held together: rigid and averaging links, joints, ties."""

from typing import Annotated, Any, ClassVar, Literal, Self

from pydantic import BeforeValidator, ValidationInfo, model_validator

from holokine.describe.fields import (
    DIRECTIONS,
    NAMES_OR_TABLE,
    ONE_OR_MORE,
    Direction,
    LossFactor,
    PositiveLength,
    Strict,
    by_direction,
    complaint,
    names_of,
    one_or_more,
)
from holokine.describe.parts import Axes
from holokine.describe.targets import PointOrNode, Target
from holokine.errors import UnitError, shown
from holokine.units import UnitSystem, quantity

__all__ = ["AveragingOrRigid", "DampingSet", "Joint", "Side", "StiffnessSet", "Tie", "connector_end"]


class AveragingOrRigid(Strict):
    """A link. Rigid: the point carries all targets as one rigid body. Averaging: the point moves as the mean
    rigid motion of the targets, which are not stiffened by it. Area: as that of the faces within the selection, cut
    exactly where its box or cylinder ends, so that it does not change with the mesh."""

    rigid: PointOrNode | None = None  # type: ignore[valid-type]
    averaging: PointOrNode | None = None  # type: ignore[valid-type]
    area: PointOrNode | None = None  # type: ignore[valid-type]
    to: Target

    @model_validator(mode="after")
    def _one(self) -> Self:
        self.exactly_one({k: getattr(self, k) for k in ("rigid", "averaging", "area")}, "a link")
        return self

    @property
    def kind(self) -> Literal["rigid", "averaging", "area"]:
        """Which of them."""
        return next(k for k in ("rigid", "averaging", "area") if getattr(self, k) is not None)

    @property
    def point(self) -> Any:
        """The point (its name), or the selection of one node, that carries, or is carried."""
        return getattr(self, self.kind)


def _directed_set(kind: str) -> Any:
    linear, turning = (
        ("stiffness", "rotational stiffness")
        if kind == "stiffness"
        else ("damping constant", "rotational damping constant")
    )

    def read(value: Any, info: ValidationInfo) -> tuple[float, ...]:
        units = (info.context or {}).get("units") or UnitSystem()
        if hasattr(value, "tolist"):
            value = value.tolist()
        if isinstance(value, dict):
            unknown = [k for k in value if k not in DIRECTIONS]
            if unknown:
                raise complaint(f'unknown direction "{unknown[0]}"; directions are x y z rx ry rz', "key")
            entries = [value.get(d, 0.0) for d in DIRECTIONS]
        elif isinstance(value, list | tuple) and len(value) in (3, 6):
            entries = list(value) + [0.0] * (6 - len(value))
        else:
            raise complaint(
                f"expected 3 or 6 values of {kind} (x y z rx ry rz) or direction: value pairs, got {shown(value)}"
            )
        result = []
        for name, entry in zip(DIRECTIONS, entries, strict=True):
            try:
                number = quantity(entry, linear if len(name) == 1 else turning, units)
            except UnitError as err:
                raise complaint(f"{name}: {err}", "unit") from None
            if number < 0:
                raise complaint(f"{name}: must be at least 0, got {entry}")
            result.append(number)
        return tuple(result)

    return Annotated[tuple[float, ...], BeforeValidator(read), by_direction(kind)]


StiffnessSet: Any = _directed_set("stiffness")
DampingSet: Any = _directed_set("damping")


class Side(Strict):
    """A side of a joint, spring or bushing: a point, or a selection held by a link of its own."""

    to: Target
    link: Literal["rigid", "averaging", "area"] = "rigid"


def _side(value: Any) -> Any:
    if isinstance(value, str | list | tuple):
        return {"to": value}
    if isinstance(value, dict) and "to" not in value:
        value = dict(value)
        link = {"link": value.pop("link")} if "link" in value else {}
        return {"to": value, **link}
    return value


def connector_end(value: Any) -> Any:
    """A point by its name (or ground), or a side that selects nodes."""
    return value if isinstance(value, str | Side) else _side(value)


_Side = Annotated[Side, BeforeValidator(_side), NAMES_OR_TABLE]


class Joint(Strict):
    """A joint between two sides: rigid in all six directions but those released or given a stiffness.

    It acts in own `axes`, at the middle between its sides' centres. A released direction passes nothing; one
    with stiffness or damping is elastic.
    """

    between: tuple[_Side, _Side]
    kind: Literal["rigid", "hinge", "slider", "ball"] = "rigid"
    release: Annotated[tuple[Direction, ...], BeforeValidator(one_or_more), ONE_OR_MORE] = ()
    stiffness: StiffnessSet = (0.0,) * 6
    damping: DampingSet = (0.0,) * 6
    loss_factor: LossFactor | None = None
    left_to_later: ClassVar[dict[str, frozenset[str]]] = {"system": frozenset({"damping", "loss_factor"})}
    whether: ClassVar[frozenset[str]] = frozenset({"damping"})
    axes: Axes | None = None

    @property
    def free(self) -> tuple[str, ...]:
        """Released directions: a hinge turns about x, a slider slides along x, a ball turns about all."""
        own = {"rigid": (), "hinge": ("rx",), "slider": ("x",), "ball": ("rx", "ry", "rz")}[self.kind]
        return tuple(d for d in DIRECTIONS if d in own or d in self.release)

    @property
    def held(self) -> tuple[int, ...]:
        """Numbers of the rigid directions."""
        return tuple(
            i
            for i, d in enumerate(DIRECTIONS)
            if d not in self.free and self.stiffness[i] == 0.0 and self.damping[i] == 0.0
        )

    @model_validator(mode="after")
    def _sense(self) -> Self:
        both = [d for i, d in enumerate(DIRECTIONS) if d in self.free and self.stiffness[i] > 0]
        if both:
            raise complaint(f"{both[0]} is released and has stiffness too")
        if self.loss_factor is not None and not any(self.stiffness):
            raise complaint("a loss factor needs a stiffness: a rigid joint loses nothing")
        return self


class Tie(Strict):
    """A tie: the nodes of `nodes` follow the faces of the part `faces` where they lie on them."""

    nodes: Target
    faces: names_of("parts")  # type: ignore[valid-type]
    within: PositiveLength | None = None
