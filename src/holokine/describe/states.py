"""States: the assembly at rest under named loads, about which it vibrates."""

from typing import Annotated, Any, Self

from pydantic import BeforeValidator, Field, WithJsonSchema, model_validator

from holokine.describe.fields import (
    ONE_OR_MORE,
    Force,
    Length,
    Number,
    Strict,
    TemperatureChange,
    complaint,
    names_of,
    one_or_more,
    quantity_field,
)

__all__ = ["FACTORS_SCHEMA", "State", "with_factors"]


def with_factors(value: Any) -> Any:
    """A load, a list of loads, or loads with factors."""
    if isinstance(value, str):
        return {value: 1.0}
    if isinstance(value, list | tuple):
        odd = [name for name in value if not isinstance(name, str)]
        if odd:
            raise complaint(f"a list of loads holds their names; loads with factors are a table, got {odd[0]!r}")
        return dict.fromkeys(value, 1.0)
    return value


FACTORS_SCHEMA = {"anyOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}}, {"type": "object"}]}

_MEMBERS = ("parts", "groups")


class State(Strict):
    """The assembly at rest, about which it vibrates.

    ``loads``: one, a list, or loads with factors. ``tension``: force of a beam part in the state reached (the mean
    along it). ``shortening``: how much shorter a beam part or cable is made than its place.
    ``installed``: another state, in which what has a tension there was made tight: here it is as long as it was made
    there, and its force follows. ``temperature``: change of parts or
    groups, by the `expansion` of their material. ``stress stiffness`` and ``one way`` switch off what stress adds to
    the stiffness, and that one-way supports, springs and cables let go. ``friction stiffness`` (per length) holds
    touching feet with friction by factor × coefficient × force in place of rigidly. ``load steps`` follows the
    displacements with updated geometry (beams, cables, springs, point masses). ``constant``: loads that a load factor
    of buckling leaves as they are.
    """

    loads: Annotated[
        dict[names_of("loads"), Number], BeforeValidator(with_factors), WithJsonSchema(FACTORS_SCHEMA)  # type: ignore[valid-type]
    ] = {}
    tension: dict[names_of("parts"), Force] = {}  # type: ignore[valid-type]
    shortening: dict[names_of("parts"), Length] = {}  # type: ignore[valid-type]
    temperature: dict[names_of(*_MEMBERS), TemperatureChange] = {}  # type: ignore[valid-type]
    stress_stiffness: bool = True
    one_way: bool = True
    friction_stiffness: quantity_field("per length", above=0.0) | None = None  # type: ignore[valid-type]
    installed: names_of("states") | None = None  # type: ignore[valid-type]
    load_steps: int | None = Field(default=None, ge=1, le=1000)
    constant: Annotated[
        tuple[names_of("loads"), ...], BeforeValidator(one_or_more), ONE_OR_MORE  # type: ignore[valid-type]
    ] = ()

    @model_validator(mode="after")
    def _sense(self) -> Self:
        if not (self.installed or self.loads or self.tension or self.shortening or self.temperature):
            raise complaint("a state needs something that loads it: loads, tension, shortening, temperature, installed")
        both = sorted(set(self.tension) & set(self.shortening))
        if both:
            raise complaint(f'"{both[0]}" has a tension and a shortening; the force, or the length, follows')
        idle = [name for name in self.constant if name not in self.loads]
        if idle:
            raise complaint(f'constant: "{idle[0]}" is none of the loads of this state')
        return self
