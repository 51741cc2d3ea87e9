"""Loads at rest."""

from typing import Annotated, ClassVar, Self

from pydantic import BeforeValidator, WithJsonSchema, model_validator

from holokine.describe.events.kind import EventKind
from holokine.describe.fields import Number, complaint, names_of
from holokine.describe.states import FACTORS_SCHEMA, with_factors

__all__ = ["StaticEvent"]


class StaticEvent(EventKind):
    """Loads at rest: one, a list of them, or loads with factors (`static`).

    `with state`: the total of the state and of what the loads add to it, not the latter alone.
    """

    kind: ClassVar[str] = "static"
    words: ClassVar[str] = "loads at rest (static)"
    told_by: ClassVar[tuple[str, ...]] = ("static",)

    static: Annotated[
        dict[names_of("loads"), Number], BeforeValidator(with_factors), WithJsonSchema(FACTORS_SCHEMA)  # type: ignore[valid-type]
    ]

    with_state: bool | None = None

    @model_validator(mode="after")
    def _some(self) -> Self:
        if not self.static:
            raise complaint("the event has no load; name some of loads:")
        return self

    @property
    def load_names(self) -> tuple[str, ...]:
        """Loads that act."""
        return tuple(self.static)
