"""Loads: gravity, forces and moments, pressures, and supports that are moved."""

from collections import Counter
from collections.abc import Iterable
from itertools import chain
from math import cos, sin
from typing import TYPE_CHECKING, Annotated, Any, ClassVar, Literal, Self

from pydantic import BeforeValidator, ValidationInfo, model_validator

from holokine.describe.fields import (
    ONE_OR_MORE,
    Angle,
    Axis,
    Direction,
    Strict,
    UnitVector,
    by_direction,
    complaint,
    names_of,
    quantity_field,
)
from holokine.describe.targets import Selection, Target
from holokine.errors import UnitError, shown
from holokine.units import UnitSystem, quantity

__all__ = ["Load", "SupportGroup", "Supports", "each_moves_with_one_group", "length_vector"]


def each_moves_with_one_group(key: str, groups: Iterable[tuple[str, ...]]) -> None:
    """Refuse a support that two groups under ``key`` name, or one group names twice."""
    twice = [name for name, count in Counter(chain.from_iterable(groups)).items() if count > 1]
    if twice:
        raise complaint(f'{key}: the support "{twice[0]}" is named twice; a support moves with one group')


def _vector(dimension: str) -> Any:
    def read(value: Any, info: ValidationInfo) -> tuple[float, ...]:
        units = (info.context or {}).get("units") or UnitSystem()
        if hasattr(value, "tolist"):
            value = value.tolist()
        if isinstance(value, dict):
            wrong = [k for k in value if k not in ("x", "y", "z")]
            if wrong:
                raise complaint(f'unknown direction "{wrong[0]}"; directions of a {dimension} are x y z')
            value = [value.get(axis, 0.0) for axis in "xyz"]
        if not isinstance(value, list | tuple) or len(value) != 3:
            raise complaint(f"expected three values of {dimension} [x, y, z] or {{z: ...}}, got {shown(value)}")
        try:
            return tuple(quantity(v, dimension, units) for v in value)
        except UnitError as err:
            raise complaint(str(err), "unit") from None

    return Annotated[tuple[float, float, float], BeforeValidator(read), by_direction(dimension)]


length_vector = _vector("length")


def _movement(value: Any, info: ValidationInfo) -> dict[str, float]:
    units = (info.context or {}).get("units") or UnitSystem()
    if not isinstance(value, dict) or not value:
        raise complaint(f"expected directions and how far, such as {{z: -2 mm}}, got {shown(value)}")
    result = {}
    for axis, size in value.items():
        if axis not in ("x", "y", "z", "rx", "ry", "rz"):
            raise complaint(f'unknown direction "{axis}"; directions are x y z rx ry rz')
        try:
            result[axis] = quantity(size, "length" if len(axis) == 1 else "angle", units)
        except UnitError as err:
            raise complaint(f"{axis}: {err}", "unit") from None
    return result


def _names(value: Any) -> Any:
    return (value,) if isinstance(value, str) else value


if TYPE_CHECKING:
    Supports = tuple[str, ...]
else:
    Supports = Annotated[tuple[names_of("supports"), ...], BeforeValidator(_names), ONE_OR_MORE]
    """One support or several."""


class SupportGroup(Strict):
    """A group of supports that moves by itself; supports in no group stay where they are."""

    moved_by: ClassVar[str]
    supports: Supports

    @model_validator(mode="after")
    def _some(self) -> Self:
        if not self.supports or not getattr(self, self.moved_by):
            raise complaint(f"a group of supports needs supports and {self.moved_by} by direction")
        return self


class Load(Strict):
    """One load: gravity, a force and moment, a pressure, or supports that are moved.

    ``gravity``: the direction into which weight pulls, with `size` of the acceleration (1 g), and `tilted` by angles
    about axes (by the right-hand rule, one after the other as written). ``force``, ``moment``:
    on a point or selection (`at`), the whole of it, shared evenly over the nodes. ``pressure``: on the faces whose
    nodes a selection holds (`on`); it pushes against the outside of solids; shells need `towards`, the side to which
    it pushes (a direction, or their `normal` or `-normal`). In a state it keeps its direction unless it is `following`,
    normal to the face as it moves. ``move``: how far `supports` are moved, relative to the frame.
    """

    gravity: UnitVector | None = None
    tilted: dict[Axis, Angle] | None = None
    size: quantity_field("acceleration", above=0.0) = 9.80665  # type: ignore[valid-type]
    at: Target | None = None
    force: _vector("force") | None = None  # type: ignore[valid-type]
    moment: _vector("moment") | None = None  # type: ignore[valid-type]
    pressure: quantity_field("stress") | None = None  # type: ignore[valid-type]
    on: Selection | None = None
    towards: UnitVector | Literal["normal", "-normal"] | None = None
    following: bool | None = None
    supports: Supports | None = None
    move: Annotated[dict[Direction, float], BeforeValidator(_movement), by_direction("length or angle")] | None = None

    @property
    def pull(self) -> tuple[float, float, float]:
        """Direction of gravity, tilted, of length one."""
        x = self.gravity or (0.0, 0.0, 0.0)
        for axis, angle in (self.tilted or {}).items():
            one, other = (("xyz".index(axis) + k) % 3 for k in (1, 2))
            turned = list(x)
            turned[one] = x[one] * cos(angle) - x[other] * sin(angle)
            turned[other] = x[one] * sin(angle) + x[other] * cos(angle)
            x = (turned[0], turned[1], turned[2])
        return x

    @property
    def kind(self) -> str:
        """gravity, force, pressure or move."""
        if self.gravity is not None:
            return "gravity"
        if self.pressure is not None:
            return "pressure"
        return "move" if self.move is not None else "force"

    @model_validator(mode="after")
    def _one(self) -> Self:
        pushes = self.force if self.force is not None else self.moment
        self.exactly_one(
            {"gravity": self.gravity, "force or moment": pushes, "pressure": self.pressure, "move": self.move}, "a load"
        )
        needs = {"gravity": (), "force": ("at",), "pressure": ("on", "towards"), "move": ("supports",)}[self.kind]
        for name in ("at", "on", "towards", "supports"):
            given = getattr(self, name) is not None
            if given and name not in needs:
                raise complaint(f"{name} does not belong to a load by {self.kind}")
            if not given and name in needs and name != "towards":
                raise complaint(f"a load by {self.kind} needs {name}")
        if self.kind != "pressure":
            self.has_no_effect(self.model_fields_set, ("following",), "but on a pressure")
        if self.kind != "gravity":
            for name in ("size", "tilted"):
                if name in self.model_fields_set:
                    raise complaint(f"{name} belongs to gravity only")
        return self
