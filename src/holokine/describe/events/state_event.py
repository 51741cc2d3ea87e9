"""A state as an event: the assembly at rest in it, solved by itself."""

from typing import ClassVar

from holokine.describe.events.kind import EventKind
from holokine.describe.fields import names_of

__all__ = ["StateEvent"]


class StateEvent(EventKind):
    """The assembly at rest in a state of its own (`state`), whatever state is switched on.

    Readings are those of that state, in all: its loads once, one-way members as they act there, and tensions as they
    were made where it says so (`installed`).
    """

    kind: ClassVar[str] = "state"
    words: ClassVar[str] = "a state of its own (state)"
    told_by: ClassVar[tuple[str, ...]] = ("state",)

    state: names_of("states")  # type: ignore[valid-type]

    @property
    def in_state(self) -> str:
        """The state."""
        return str(self.state)
