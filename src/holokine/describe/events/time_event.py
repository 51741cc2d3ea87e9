"""What happens in time: base pulses, and loads with signals of their own."""

from typing import Annotated, Any, ClassVar, Literal, Self

from pydantic import BeforeValidator, ValidationInfo, WithJsonSchema, model_validator

from holokine.describe.events.kind import GROUPS_UNFOLLOWED, ModalEvent
from holokine.describe.events.signals import PulseShape
from holokine.describe.fields import Axis, Time, complaint, names_of, quantity_field, quantity_schema
from holokine.describe.loads import SupportGroup, each_moves_with_one_group
from holokine.errors import UnitError
from holokine.units import UnitSystem, quantity

__all__ = ["SupportPulses", "TimeEvent"]

DIRECT = ("average acceleration", "generalised alpha")


def _ring_down(value: Any, info: ValidationInfo) -> float | tuple[float]:
    """A time in s, or the share that is left of the motion as a 1-tuple."""
    units = (info.context or {}).get("units") or UnitSystem()
    if isinstance(value, tuple):
        return value
    if isinstance(value, str) and "%" in value:
        share = quantity(value, "number")
        if not 0.0 < share < 1.0:
            raise complaint(f"ring down to between 0 and 100 %, or give a time; got {value}")
        return (share,)
    try:
        time = quantity(value, "time", units)
    except UnitError as err:
        raise complaint(f"a time, or what is left of the motion in percent: {err}", "unit") from None
    if not time > 0:
        raise complaint(f"must be greater than 0, got {value}")
    return time


_AtRest = names_of("events", kind="static")


class SupportPulses(SupportGroup):
    """A group of supports that moves by signals of its own; supports in no group stay where they are."""

    moved_by: ClassVar[str] = "pulse"
    pulse: dict[Axis, PulseShape]


class TimeEvent(ModalEvent):
    """A base pulse in time by direction (`pulse`) or by groups of supports (`support pulses`), and loads in time.

    `with state`: readings are the total of the state and of what the event adds to it, not the latter alone.
    `follow`: one-way supports, springs and cables, and springs with a law, let go, hit and slide as they do, in place
    of acting as they do in the state.
    """

    kind: ClassVar[str] = "time"
    words: ClassVar[str] = "events in time (pulse, support pulses, loads, let go)"
    groups_by: ClassVar[str] = "support pulses"
    told_by: ClassVar[tuple[str, ...]] = ("pulse", "support_pulses")
    told_alone: ClassVar[tuple[str, ...]] = ("loads", "let_go")
    together: ClassVar[bool] = True

    pulse: dict[Axis, PulseShape] | None = None
    support_pulses: dict[str, SupportPulses] | None = None
    loads: dict[names_of("loads"), PulseShape] | None = None  # type: ignore[valid-type]
    static_correction: bool = True
    ring_down: Annotated[Any, BeforeValidator(_ring_down), WithJsonSchema(quantity_schema("time or percentage"))] = None
    step: Time | None = None
    start_from: _AtRest | None = None  # type: ignore[valid-type]
    let_go: _AtRest | None = None  # type: ignore[valid-type]
    method: Literal["automatic", "modes", "coupled modes", "average acceleration", "generalised alpha"] = "automatic"
    model: Literal["reduced", "full"] = "reduced"
    high_frequency_damping: quantity_field("number", least=0.0) = 0.2  # type: ignore[valid-type]
    with_state: bool | None = None
    follow: bool = False

    @model_validator(mode="after")
    def _sense(self) -> Self:
        given = self.model_fields_set
        if self.pulse is not None and self.support_pulses is not None:
            raise complaint("give pulse (the whole base) or support pulses (groups of supports), not both")
        groups = (self.support_pulses or {}).values()
        each_moves_with_one_group("support pulses", (group.supports for group in groups))
        if self.support_pulses is not None and self.model == "full":
            raise complaint("support pulses are answered by modes; take model: reduced")
        if not self.pulse and not self.support_pulses and not self.loads and self.let_go is None:
            raise complaint("the event acts in no direction; directions are x, y, z")
        if self.high_frequency_damping > 1.0:
            raise complaint("high frequency damping lies from 0 (none) to 100 % (gone in one step)")
        if self.start_from is not None and self.let_go is not None:
            raise complaint("give start from (the load stays) or let go (the load is taken off), not both")
        if self.model == "full" and self.method not in DIRECT:
            raise complaint(
                "model: full needs a method of direct integration (average acceleration, generalised alpha)"
            )
        if self.model == "full":
            self.has_no_effect(given, ("static_correction",), "with model: full, which leaves no mode out")
        if self.method != "generalised alpha":
            self.has_no_effect(given, ("high_frequency_damping",), "but with method: generalised alpha")
        return self

    def unfollowed(self) -> str:
        """Groups of supports, the full model and other methods than modes are not followed."""
        if self.method not in ("automatic", "modes", "coupled modes") or not self.static_correction:
            return "follow works on modes with their static correction; leave method, model and that out"
        return "" if self.support_pulses is None else GROUPS_UNFOLLOWED

    @property
    def axes(self) -> tuple[str, ...]:
        """Directions of the whole base."""
        return tuple(str(d) for d in self.pulse or ())

    @property
    def moving(self) -> dict[str, tuple[tuple[str, ...], tuple[str, ...]]]:
        """Supports and directions of every group that moves by itself."""
        return {g: (own.supports, tuple(map(str, own.pulse))) for g, own in (self.support_pulses or {}).items()}

    @property
    def load_names(self) -> tuple[str, ...]:
        """Loads that act, beside those at rest."""
        return tuple(self.loads or ())

    @property
    def at_rest(self) -> tuple[str, ...]:
        """Static events whose loads act as well."""
        return tuple(str(e) for e in (self.start_from, self.let_go) if e is not None)
