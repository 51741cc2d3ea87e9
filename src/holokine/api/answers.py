"""Which class holds the answer to which kind of event."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from holokine.api.random_answer import RandomAnswer
from holokine.api.spectrum_answer import SpectrumAnswer
from holokine.api.static_answer import StaticAnswer
from holokine.api.sweep_answer import SweepAnswer
from holokine.api.time_answer import TimeAnswer
from holokine.describe.events import EventKind, RandomEvent, SpectrumEvent, StaticEvent, SweepEvent, TimeEvent

if TYPE_CHECKING:
    from holokine.api.answer import Answer
    from holokine.api.assembly import Assembly
    from holokine.api.modes import Modes
    from holokine.store.chain import Chain, ModalChain

__all__ = ["ANSWER_CLASSES", "answer_of"]

ANSWER_CLASSES: dict[type[EventKind], type[Answer[Any]]] = {
    SpectrumEvent: SpectrumAnswer,
    TimeEvent: TimeAnswer,
    StaticEvent: StaticAnswer,
    SweepEvent: SweepAnswer,
    RandomEvent: RandomAnswer,
}


def answer_of(
    assembly: Assembly, chain: Chain | ModalChain, event: EventKind, result: Any, modes: Modes | None = None
) -> Answer[Any]:
    """The answer with this result, by the kind of its event."""
    return ANSWER_CLASSES[type(event)](assembly, chain, event, result, modes)
