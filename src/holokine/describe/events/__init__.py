"""Events: what happens to the assembly. One file per kind; `EVENT_KINDS` is the registry.

A kind has options of its own only: one that belongs to another kind is refused by name.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping
from functools import reduce
from operator import or_
from typing import TYPE_CHECKING, Annotated, Any

from pydantic import BeforeValidator, Discriminator, Tag

from holokine.describe.events.kind import EventKind, ModalEvent
from holokine.describe.events.random_event import RandomEvent
from holokine.describe.events.signals import Amplitude, PulseShape, SignalTable
from holokine.describe.events.spectrum_event import SpectrumEvent, SpectrumTable, SupportSpectra
from holokine.describe.events.state_event import StateEvent
from holokine.describe.events.static_event import StaticEvent
from holokine.describe.events.sweep_event import Harmonic, SweepEvent, SweepRange, Unbalance
from holokine.describe.events.time_event import TimeEvent
from holokine.describe.fields import complaint
from holokine.errors import nearest_hint, shown

__all__ = [
    "EVENT_KINDS",
    "Amplitude",
    "Event",
    "EventKind",
    "Harmonic",
    "ModalEvent",
    "PulseShape",
    "RandomEvent",
    "SignalTable",
    "SpectrumEvent",
    "SpectrumTable",
    "StateEvent",
    "StaticEvent",
    "SupportSpectra",
    "SweepEvent",
    "SweepRange",
    "TimeEvent",
    "Unbalance",
]

EVENT_KINDS: tuple[type[EventKind], ...] = (
    SpectrumEvent, TimeEvent, StaticEvent, StateEvent, SweepEvent, RandomEvent,
)  # fmt: skip
"""All kinds of event. A new one is added here, in `respond.registry` and in `api.answers`."""


def _key(written: Any) -> str:
    return str(written).strip().replace(" ", "_").replace("-", "_")


def _spoken(name: str) -> str:
    return name.replace("_", " ")


def _told(given: Collection[str]) -> dict[type[EventKind], list[str]]:
    """By kind: the keys given by which an event is of it."""
    found = {kind: [k for k in kind.told_by if k in given] for kind in EVENT_KINDS}
    if not any(found.values()):
        found = {kind: [k for k in kind.told_alone if k in given] for kind in EVENT_KINDS}
    return found


def _one_kind(value: Any) -> Any:
    """Refuse an event of no kind or of two, and options of another kind than its own."""
    if isinstance(value, EventKind):
        return value
    if not isinstance(value, Mapping):
        keys = ", ".join(_spoken(k) for kind in EVENT_KINDS for k in kind.told_by)
        raise complaint(f"expected keys and values (one of {keys}, with options), got {shown(value)}")
    given = {_key(k): k for k, v in value.items() if v is not None}
    found = _told(given)
    told = [kind for kind, keys in found.items() if keys]
    every = [_spoken(k) for kind in EVENT_KINDS for k in (*kind.told_by, *kind.told_alone)]
    if len(told) != 1 or (len(found[told[0]]) > 1 and not told[0].together):
        got = " and ".join(_spoken(k) for keys in found.values() for k in keys) or "none"
        unknown = [k for n, k in given.items() if not any(n in kind.model_fields for kind in EVENT_KINDS)]
        hint = f". {nearest_hint(str(unknown[0]), every, 'kinds')}" if unknown and got == "none" else ""
        raise complaint(f"an event: give exactly one of {', '.join(every)} (got {got}){hint}")
    own = told[0]
    for name, written in given.items():
        if name in own.model_fields:
            continue
        homes = [kind.words for kind in EVENT_KINDS if name in kind.model_fields]
        if homes:
            raise complaint(f'"{written}" belongs to {" and ".join(homes)}; this event is one of {own.words}')
    return value


def _tag(value: Any) -> str:
    if isinstance(value, EventKind):
        return f"kind:{value.kind}"
    given = {_key(k) for k, v in value.items() if v is not None}
    return next(f"kind:{kind.kind}" for kind, keys in _told(given).items() if keys)


if TYPE_CHECKING:
    Event = EventKind
else:
    Event = Annotated[
        reduce(or_, (Annotated[kind, Tag(f"kind:{kind.kind}")] for kind in EVENT_KINDS)),
        Discriminator(_tag),
        BeforeValidator(_one_kind),
    ]
    """An event of any kind, told by its keys."""
