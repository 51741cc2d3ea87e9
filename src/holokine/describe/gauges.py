"""Gauges: the quantities that an analyst watches."""

from dataclasses import dataclass
from typing import Annotated, Any, Literal, Self

from pydantic import BeforeValidator, Field, WithJsonSchema, model_validator

from holokine.describe.fields import Strict, complaint, names_of, unit_vector, vector_schema
from holokine.describe.loads import Supports
from holokine.describe.targets import PlaneRegion, Selection

__all__ = ["GAUGE_KINDS", "Gauge", "GaugeKind"]


@dataclass(frozen=True)
class GaugeKind:
    """A kind of gauge: the dimension of what it reads, and the options that belong to it."""

    dimension: str
    options: frozenset[str]


def _point_or_selection(value: Any) -> Any:
    if not isinstance(value, list | tuple):
        return value
    if all(isinstance(v, str) for v in value):
        return {"points": tuple(value)}
    return tuple({"points": (v,)} if isinstance(v, str) else v for v in value)


_MOTION = frozenset({"axis", "relative_to", "motion"})
_FORCE = frozenset({"axis"})
_PASSED = frozenset({"axis", "portion"})
GAUGE_KINDS: dict[str, GaugeKind] = {
    "displacement": GaugeKind("displacement", _MOTION),
    "rotation": GaugeKind("angle", _MOTION),
    "velocity": GaugeKind("velocity", _MOTION),
    "acceleration": GaugeKind("acceleration", _MOTION),
    "force": GaugeKind("force", _PASSED),
    "moment": GaugeKind("moment", _PASSED),
    "damper_force": GaugeKind("force", _FORCE),
    "total_force": GaugeKind("force", _FORCE),
    "reaction": GaugeKind("force", _PASSED | {"point", "by_point"}),
    "reaction_moment": GaugeKind("moment", _PASSED | {"point", "by_point", "about"}),
    "beam_force": GaugeKind("force", _PASSED | {"end"}),
    "beam_moment": GaugeKind("moment", _PASSED | {"end"}),
    "stress": GaugeKind("stress", frozenset({"end", "surface", "at", "component", "layer", "portion"})),
    "cut_force": GaugeKind("force", _PASSED | {"plane"}),
    "cut_moment": GaugeKind("moment", _PASSED | {"plane"}),
}
"""By key; `gauges.maps.BUILDERS` says how each is read."""

_At: Any = Annotated[
    names_of("points") | Selection | tuple[Selection, ...],  # type: ignore[valid-type]
    BeforeValidator(_point_or_selection),
    WithJsonSchema({"anyOf": [{"type": "string"}, {"type": "object"}, {"type": "array"}]}),
]


def _direction(value: Any) -> Any:
    if value in ("x", "y", "z", "magnitude"):
        return value
    if isinstance(value, str):
        raise complaint(f'axis must be x, y, z, magnitude or a direction of three numbers, got "{value}"')
    return unit_vector(value)


_Connected = names_of("links", "joints", "ties", "springs", "bushings")
_Damped = names_of("springs", "bushings", "joints")


class Gauge(Strict):
    """One quantity: exactly one kind with what it is read from, and how.

    ``displacement``, ``rotation``, ``velocity``, ``acceleration``: motion of a point, or mean motion of the nodes
    that a selection (or a list of points and selections) catches (`relative_to` another: relative motion of the two).
    ``force``, ``moment``: across a link, joint, tie, spring or bushing. ``damper_force``: the damper's share,
    ``total_force``: elastic and damper together. ``reaction``, ``reaction_moment``: of a support, or of several
    together (moments `about` a point); of one `point`, or of every node (`by_point`). ``beam_force``,
    ``beam_moment``: at an end of a beam part, beam axes.
    ``stress``: of a part; beams: normal stress at the extreme fibres; shells: on a `surface`; solids; at
    element centres or extrapolated to nodes (`at`), the largest of the part, with its place; of one `layer` of a
    laminate (from the bottom, from 1) along its own axes. ``cut_force``,
    ``cut_moment``: what the part or group beyond a plane passes to the rest, about the plane's point.

    ``axis``: x, y, z, magnitude, or a direction of three numbers. ``portion``: forces from balance (reactions, links,
    ties, beams, cuts) are whole, what damping passes on included, and stress is elastic (of strain); elastic, damper
    or whole asks for the other.
    """

    displacement: _At | None = None  # type: ignore[valid-type]
    rotation: _At | None = None  # type: ignore[valid-type]
    velocity: _At | None = None  # type: ignore[valid-type]
    acceleration: _At | None = None  # type: ignore[valid-type]
    force: _Connected | None = None  # type: ignore[valid-type]
    moment: _Connected | None = None  # type: ignore[valid-type]
    damper_force: _Damped | None = None  # type: ignore[valid-type]
    total_force: _Damped | None = None  # type: ignore[valid-type]
    reaction: Supports | None = None
    reaction_moment: Supports | None = None
    beam_force: names_of("parts") | None = None  # type: ignore[valid-type]
    beam_moment: names_of("parts") | None = None  # type: ignore[valid-type]
    stress: names_of("parts") | None = None  # type: ignore[valid-type]
    cut_force: names_of("parts", "groups") | None = None  # type: ignore[valid-type]
    cut_moment: names_of("parts", "groups") | None = None  # type: ignore[valid-type]
    axis: Annotated[
        Literal["x", "y", "z", "magnitude"] | tuple[float, float, float] | None, BeforeValidator(_direction),
        WithJsonSchema({"anyOf": [{"enum": ["x", "y", "z", "magnitude"]}, vector_schema("direction cosines")]}),
    ] = None  # fmt: skip
    relative_to: _At | None = None  # type: ignore[valid-type]
    motion: Literal["relative", "absolute"] | None = None
    point: names_of("points") | None = None  # type: ignore[valid-type]
    by_point: Literal[True] | None = None
    about: names_of("points") | None = None  # type: ignore[valid-type]
    portion: Literal["elastic", "damper", "whole"] | None = None
    end: Literal["start", "end"] | None = None
    surface: Literal["top", "middle", "bottom", "both"] | None = None
    at: Literal["centre", "nodes"] | None = None
    layer: int | None = Field(default=None, ge=1)
    component: Literal["equivalent", "xx", "yy", "zz", "xy", "yz", "zx", "components", "principal"] | None = None
    plane: PlaneRegion | None = None

    @property
    def kind(self) -> str:
        return next(k for k in GAUGE_KINDS if getattr(self, k) is not None)

    @property
    def source(self) -> str:
        """Name of the point, link, spring, support or part that the gauge reads from."""
        found = getattr(self, self.kind)
        if self.kind.startswith("reaction"):
            return ", ".join(found)
        return found if isinstance(found, str) else "a selection"

    @property
    def passed(self) -> Literal["", "elastic", "damper"]:
        """Portion of a force from balance; nothing: the whole."""
        return self.portion if self.portion in ("elastic", "damper") else ""

    @property
    def is_relative(self) -> bool:
        """Motion relative to the support frame: the default, but for accelerations."""
        if self.relative_to is not None:
            return True
        if self.motion is None:
            return self.kind != "acceleration"
        return self.motion == "relative"

    @model_validator(mode="after")
    def _sense(self) -> Self:
        self.exactly_one({k: getattr(self, k) for k in GAUGE_KINDS}, "a gauge has one kind")
        options = {n for n in type(self).model_fields if n not in GAUGE_KINDS and getattr(self, n) is not None}
        for name in sorted(options - GAUGE_KINDS[self.kind].options):
            homes = [k.replace("_", " ") for k, g in GAUGE_KINDS.items() if name in g.options]
            more = "; a stress has components, not an axis" if (name, self.kind) == ("axis", "stress") else ""
            raise complaint(
                f"{name.replace('_', ' ')} does not belong to a gauge of {self.kind.replace('_', ' ')}, but to "
                f"{', '.join(homes)}{more}"
            )
        if self.kind.startswith("reaction") and not getattr(self, self.kind):
            raise complaint("give one support at least")
        if self.point is not None and self.by_point:
            raise complaint("give one point, or by point for all of them")
        if isinstance(self.axis, tuple) and self.kind.startswith("beam"):
            raise complaint("forces of beams are along the beam's own axes: x (N, T), y, z or magnitude")
        if self.relative_to and self.motion == "absolute":
            raise complaint("the relative motion of two points cannot be absolute as well")
        if (self.plane is None) != (self.kind not in ("cut_force", "cut_moment")):
            raise complaint("a cut force or moment needs a plane: {at: [x, y, z], normal: axis}, others have none")
        return self
