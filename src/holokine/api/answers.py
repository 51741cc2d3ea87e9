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
    from collections.abc import Mapping

    from holokine.api.answer import Answer
    from holokine.api.host import AssemblyLike, ModesLike
    from holokine.store.chain import Chain, ModalChain

__all__ = ["ANSWER_CLASSES", "answer_of"]

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


def answer_of(
    assembly: AssemblyLike, chain: Chain | ModalChain, event: EventKind, result: Any, modes: ModesLike | None = None
) -> Answer[Any]:
    """The answer with this result, by the kind of its event."""
    return ANSWER_CLASSES[type(event)](assembly, chain, event, result, modes)
