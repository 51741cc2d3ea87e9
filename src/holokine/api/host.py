"""What results need of the assembly and of the modes that they come from, without knowing those classes."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, Protocol

if TYPE_CHECKING:
    from holokine.describe.document import Document
    from holokine.describe.events import EventKind
    from holokine.describe.schema import Description
    from holokine.findings import Finding
    from holokine.modes.mode_set import ModeSet

__all__ = ["AssemblyLike", "ModesLike"]


class AssemblyLike(Protocol):
    """An assembly, as its results see it."""

    @property
    def title(self) -> str:
        """For tables and figures."""

    @property
    def key(self) -> str:
        """Of the system."""

    @property
    def document(self) -> Document:
        """The description with its source."""

    @property
    def description(self) -> Description:
        """The description, in SI."""

    def event_of(self, event: Any) -> tuple[str, EventKind]:
        """Name and description of an event."""

    def event_named(self, name: str) -> EventKind:
        """An event of the description."""

    def respond(self, event: Any) -> Any:
        """The answer to an event."""

    def check(self) -> Any:
        """What a check finds."""

    def state(self, name: str | None = None) -> Any:
        """At rest in a state."""

    def modes(self, count: int | None = None) -> Any:
        """Natural modes."""

    def ritz(self, event: Any, count: int = 20) -> Any:
        """Load-dependent Ritz vectors."""

    def changed(self, values: dict[str, Any]) -> Any:
        """The assembly with other values."""

    def adjusted(self, factors: dict[str, dict[str, float]]) -> Any:
        """The assembly with members stiffer or lighter."""

    def loads_of(self, event: Any) -> Any:
        """Everything that an event acts with."""


class ModesLike(Protocol):
    """Modes, as what is made of them sees them."""

    @property
    def assembly(self) -> AssemblyLike:
        """Of which they are."""

    @property
    def set(self) -> ModeSet:
        """The numbers, in SI."""

    @property
    def key(self) -> str:
        """Equal for equal descriptions and requests."""

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What to know before trusting them."""

    @property
    def damping(self) -> Any:
        """Damping ratios."""

    @property
    def statement(self) -> str:
        """The proof of their number, in words."""

    def respond(self, event: Any, *, follow: bool = False) -> Any:
        """The answer to an event."""

    def __len__(self) -> int: ...
