"""What every kind of event has. A kind is a model of its own options, entered in `events.EVENT_KINDS`."""

from typing import ClassVar, Self

from pydantic import model_validator

from holokine.describe.damping import Damping
from holokine.describe.fields import Frequency, Strict, complaint
from holokine.errors import EventError

__all__ = ["GROUPS_UNFOLLOWED", "EventKind", "ModalEvent"]

GROUPS_UNFOLLOWED = "follow is for the whole base and for loads; groups of supports are not followed yet"


class EventKind(Strict):
    """One kind of event.

    Attributes
    ----------
    kind : str
        Name of the kind.
    words : str
        What events of the kind are, for messages.
    told_by : tuple of str
        Keys by which an event is of this kind.
    told_alone : tuple of str
        Keys by which it is of this kind where no other tells.
    together : bool
        Whether several of them may stand together.
    groups_by : str
        The key under which groups of supports move.
    """

    kind: ClassVar[str]
    words: ClassVar[str]
    told_by: ClassVar[tuple[str, ...]]
    told_alone: ClassVar[tuple[str, ...]] = ()
    together: ClassVar[bool] = False
    needs_modes: ClassVar[bool] = False
    groups_by: ClassVar[str] = ""

    @property
    def axes(self) -> tuple[str, ...]:
        """Directions in which the whole base moves."""
        return ()

    @property
    def moving(self) -> dict[str, tuple[tuple[str, ...], tuple[str, ...]]]:
        """Supports and directions of every group of supports that moves by itself."""
        return {}

    @property
    def group_columns(self) -> tuple[str, ...]:
        """Every group with each of its directions: `left z`."""
        return tuple(f"{group} {axis}" for group, (_, axes) in self.moving.items() for axis in axes)

    @property
    def load_names(self) -> tuple[str, ...]:
        """Loads of the description that act."""
        return ()

    @property
    def at_rest(self) -> tuple[str, ...]:
        """Static events whose loads act as well."""
        return ()

    def unfollowed(self) -> str:
        """Why one-way members cannot be followed where they let go, hit and slide; empty where they can."""
        return f"follow is for events in time and for sine sweeps; this is one of {self.words}"

    def following(self) -> Self:
        """The same, with these members followed.

        Raises
        ------
        EventError
            They cannot be.
        """
        why = self.unfollowed()
        if why:
            raise EventError(why)
        return self.model_copy(update={"follow": True})

    @property
    def in_state(self) -> str | None:
        """State that it is answered in whatever state is switched on; None: in that one."""
        return None


class ModalEvent(EventKind):
    """An event answered by modes: with a damping of its own, and a highest frequency of the modes taken.

    Its damping stands in place of the description's; what discrete dampers and loss factors of members add stays.
    """

    needs_modes: ClassVar[bool] = True

    damping: Damping | None = None
    upto: Frequency | None = None

    @model_validator(mode="after")
    def _tells_groups_from_loads(self) -> Self:
        both = [name for name in self.group_columns if name in self.load_names]
        if both:
            raise complaint(f'"{both[0]}" is a load, and a group of supports with its direction; rename one of them')
        return self

    @model_validator(mode="after")
    def _can_be_followed(self) -> Self:
        if getattr(self, "follow", False) and (why := self.unfollowed()):
            raise complaint(why)
        return self
