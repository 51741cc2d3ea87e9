"""Which class holds the answer to which kind of event."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from holokine.describe.events import (
    EventKind,
    RandomEvent,
    SpectrumEvent,
    StateEvent,
    StaticEvent,
    SweepEvent,
    TimeEvent,
)
from holokine.later import Later

if TYPE_CHECKING:
    from collections.abc import Callable, Mapping

    from holokine.api.answer import Answer
    from holokine.api.host import AssemblyLike, ModesLike
    from holokine.store.chain import Chain, ModalChain

__all__ = ["ANSWER_CLASSES", "answer_class", "answer_of", "homes"]

ANSWER_CLASSES: Mapping[type[EventKind], type[Answer[Any]]] = Later(
    {
        SpectrumEvent: "holokine.api.spectrum_answer:SpectrumAnswer",
        TimeEvent: "holokine.api.time_answer:TimeAnswer",
        StaticEvent: "holokine.api.static_answer:StaticAnswer",
        StateEvent: "holokine.api.static_answer:StaticAnswer",
        SweepEvent: "holokine.api.sweep_answer:SweepAnswer",
        RandomEvent: "holokine.api.random_answer:RandomAnswer",
    }
)


_FOLLOWED: Mapping[type[EventKind], type[Answer[Any]]] = Later(
    {SweepEvent: "holokine.api.periodic_answer:PeriodicAnswer"}
)
"""Of events that follow what lets go and hits, where that makes another kind of answer."""


def answer_class(event: EventKind) -> type[Answer[Any]]:
    """Of an event as it is described."""
    kind = type(event)
    return _FOLLOWED[kind] if kind in _FOLLOWED and getattr(event, "follow", False) else ANSWER_CLASSES[kind]


def homes(has: Callable[[type[Answer[Any]]], bool]) -> list[str]:
    """Which kinds of events have answers of which this is true."""
    found = [kind.words for kind, c in ANSWER_CLASSES.items() if has(c)]
    return found + [f"{kind.words} that follow" for kind, c in _FOLLOWED.items() if kind.words not in found and has(c)]


def answer_of(
    assembly: AssemblyLike, chain: Chain | ModalChain, event: EventKind, result: Any, modes: ModesLike | None = None
) -> Answer[Any]:
    """The answer with this result, by the kind of its event."""
    return answer_class(event)(assembly, chain, event, result, modes)
