"""Gauges: the quantities that an analyst watches."""

from dataclasses import dataclass
from typing import Annotated, Any, Literal, Self

from pydantic import BeforeValidator, Field, WithJsonSchema, field_validator, model_validator

from holokine.describe.fields import Axis, Strict, complaint, names_of
from holokine.describe.targets import PlaneRegion, Selection

__all__ = ["GAUGE_KINDS", "Gauge", "GaugeKind"]


@dataclass(frozen=True)
class GaugeKind:
    """A kind of gauge: the dimension of what it reads, and the options that belong to it."""

    dimension: str
    options: frozenset[str]


def _point_or_selection(value: Any) -> Any:
    return {"points": tuple(value)} if isinstance(value, list | tuple) else value


_MOTION = frozenset({"axis", "relative_to", "motion"})
_FORCE = frozenset({"axis"})
GAUGE_KINDS: dict[str, GaugeKind] = {
    "displacement": GaugeKind("displacement", _MOTION),
    "rotation": GaugeKind("angle", _MOTION),
    "velocity": GaugeKind("velocity", _MOTION),
    "acceleration": GaugeKind("acceleration", _MOTION),
    "force": GaugeKind("force", _FORCE),
    "moment": GaugeKind("moment", _FORCE),
    "damper_force": GaugeKind("force", _FORCE),
    "total_force": GaugeKind("force", _FORCE),
    "reaction": GaugeKind("force", _FORCE | {"point", "by_point", "portion"}),
    "reaction_moment": GaugeKind("moment", _FORCE | {"point", "by_point", "portion"}),
    "beam_force": GaugeKind("force", frozenset({"axis", "end"})),
    "beam_moment": GaugeKind("moment", frozenset({"axis", "end"})),
    "stress": GaugeKind("stress", frozenset({"end", "surface", "at", "component", "layer"})),
    "cut_force": GaugeKind("force", frozenset({"axis", "plane"})),
    "cut_moment": GaugeKind("moment", frozenset({"axis", "plane"})),
}
"""By key; `gauges.maps.BUILDERS` says how each is read."""

_At: Any = Annotated[
    names_of("points") | Selection,  # type: ignore[valid-type]
    BeforeValidator(_point_or_selection),
    WithJsonSchema({"anyOf": [{"type": "string"}, {"type": "object"}]}),
]

_Connected = names_of("links", "joints", "ties", "springs", "bushings")
_Damped = names_of("springs", "bushings", "joints")


class Gauge(Strict):
    """One quantity: exactly one kind with what it is read from, and how.

    ``displacement``, ``rotation``, ``velocity``, ``acceleration``: motion of a point, or mean motion of the nodes
    that a selection catches (`relative_to` another: relative motion of the two). ``force``, ``moment``: across a
    link, joint, tie, spring or bushing. ``damper_force``: the damper's share, ``total_force``: elastic and damper
    together. ``reaction``, ``reaction_moment``: of a support; of one `point` of it, or of every node (`by_point`);
    the elastic or the damper `portion` of it. ``beam_force``, ``beam_moment``: at an end of a beam part, beam axes.
    ``stress``: of a part; beams: normal stress at the extreme fibres; shells: on a `surface`; solids; at
    element centres or extrapolated to nodes (`at`), the largest of the part, with its place; of one `layer` of a
    laminate (from the bottom, from 1) along its own axes. ``cut_force``,
    ``cut_moment``: what the part or group beyond a plane passes to the rest, about the plane's point.
    """

    displacement: _At | None = None  # type: ignore[valid-type]
    rotation: _At | None = None  # type: ignore[valid-type]
    velocity: _At | None = None  # type: ignore[valid-type]
    acceleration: _At | None = None  # type: ignore[valid-type]
    force: _Connected | None = None  # type: ignore[valid-type]
    moment: _Connected | None = None  # type: ignore[valid-type]
    damper_force: _Damped | None = None  # type: ignore[valid-type]
    total_force: _Damped | None = None  # type: ignore[valid-type]
    reaction: names_of("supports") | None = None  # type: ignore[valid-type]
    reaction_moment: names_of("supports") | None = None  # type: ignore[valid-type]
    beam_force: names_of("parts") | None = None  # type: ignore[valid-type]
    beam_moment: names_of("parts") | None = None  # type: ignore[valid-type]
    stress: names_of("parts") | None = None  # type: ignore[valid-type]
    cut_force: names_of("parts", "groups") | None = None  # type: ignore[valid-type]
    cut_moment: names_of("parts", "groups") | None = None  # type: ignore[valid-type]
    axis: Axis | Literal["magnitude"] | None = None
    relative_to: _At | None = None  # type: ignore[valid-type]
    motion: Literal["relative", "absolute"] | None = None
    point: names_of("points") | None = None  # type: ignore[valid-type]
    by_point: Literal[True] | None = None
    portion: Literal["elastic", "damper"] | None = None
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
        return found if isinstance(found, str) else "a selection"

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
        if self.point is not None and self.by_point:
            raise complaint("give one point, or by point for all of them")
        if self.relative_to and self.motion == "absolute":
            raise complaint("the relative motion of two points cannot be absolute as well")
        if (self.plane is None) != (self.kind not in ("cut_force", "cut_moment")):
            raise complaint("a cut force or moment needs a plane: {at: [x, y, z], normal: axis}, others have none")
        return self

    @field_validator("axis", mode="before")
    @classmethod
    def _axis(cls, value: Any) -> Any:
        if value is not None and value not in ("x", "y", "z", "magnitude"):
            raise complaint(f'axis must be x, y, z or magnitude, got "{value}"')
        return value
