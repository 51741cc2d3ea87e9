"""Gauges: the quantities that an analyst watches."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import field_validator, model_validator

from holokine.describe.fields import Axis, Strict, complaint
from holokine.describe.targets import PlaneRegion

__all__ = ["GAUGE_KINDS", "Gauge"]

GAUGE_KINDS = (
    "displacement",
    "rotation",
    "velocity",
    "acceleration",
    "force",
    "moment",
    "damper_force",
    "total_force",
    "reaction",
    "reaction_moment",
    "beam_force",
    "beam_moment",
    "stress",
    "cut_force",
    "cut_moment",
)
MOTION_KINDS = ("displacement", "rotation", "velocity", "acceleration")


class Gauge(Strict):
    """One quantity: exactly one kind with what it is read from, and how.

    ``displacement``, ``rotation``, ``velocity``, ``acceleration``: motion of a point (`relative_to` another
    point: relative motion of the two). ``force``, ``moment``: across a link, joint, tie, spring or bushing.
    ``damper_force``: the damper's share, ``total_force``: elastic and damper together. ``reaction``,
    ``reaction_moment``: of a support. ``beam_force``, ``beam_moment``: at an end of a beam part, beam axes.
    ``stress``: of a part; beams: normal stress at the extreme fibres; shells: on a `surface`; solids; at
    element centres or extrapolated to nodes (`at`), the largest of the part, with its place. ``cut_force``,
    ``cut_moment``: what the part or group beyond a plane passes to the rest, about the plane's point.
    """

    displacement: str | None = None
    rotation: str | None = None
    velocity: str | None = None
    acceleration: str | None = None
    force: str | None = None
    moment: str | None = None
    damper_force: str | None = None
    total_force: str | None = None
    reaction: str | None = None
    reaction_moment: str | None = None
    beam_force: str | None = None
    beam_moment: str | None = None
    stress: str | None = None
    cut_force: str | None = None
    cut_moment: str | None = None
    axis: Axis | Literal["magnitude"] | None = None
    relative_to: str | None = None
    motion: Literal["relative", "absolute"] | None = None
    end: Literal["start", "end"] | None = None
    surface: Literal["top", "middle", "bottom", "both"] | None = None
    at: Literal["centre", "nodes"] | None = None
    component: Literal["equivalent", "xx", "yy", "zz", "xy", "yz", "zx", "components", "principal"] | None = None
    plane: PlaneRegion | None = None

    @property
    def kind(self) -> str:
        return next(k for k in GAUGE_KINDS if getattr(self, k) is not None)

    @property
    def source(self) -> str:
        """Name of the point, link, spring, support or part that the gauge reads from."""
        return str(getattr(self, self.kind))

    @property
    def is_relative(self) -> bool:
        """Motion relative to the support frame: the default, but for accelerations."""
        if self.relative_to is not None:
            return True
        if self.motion is None:
            return self.kind != "acceleration"
        return self.motion == "relative"

    @model_validator(mode="after")
    def _sense(self) -> Gauge:
        self.exactly_one({k: getattr(self, k) for k in GAUGE_KINDS}, "a gauge has one kind")
        moving = self.kind in MOTION_KINDS
        if not moving and (self.relative_to or self.motion):
            raise complaint("relative to and motion belong to displacement, velocity, acceleration only")
        if self.relative_to and self.motion == "absolute":
            raise complaint("the relative motion of two points cannot be absolute as well")
        if self.end and self.kind not in ("beam_force", "beam_moment", "stress"):
            raise complaint("end belongs to beam force, beam moment and stress only")
        if self.axis and self.kind == "stress":
            raise complaint("a stress has no axis; choose a component: equivalent, xx, yy, xy ..., or principal")
        if self.kind != "stress" and (self.surface or self.at or self.component):
            raise complaint("surface, at and component belong to stress only")
        if (self.plane is None) != (self.kind not in ("cut_force", "cut_moment")):
            raise complaint("a cut force or moment needs a plane: {at: [x, y, z], normal: axis}, others have none")
        return self

    @field_validator("axis", mode="before")
    @classmethod
    def _axis(cls, value: Any) -> Any:
        if value is not None and value not in ("x", "y", "z", "magnitude"):
            raise complaint(f'axis must be x, y, z or magnitude, got "{value}"')
        return value
