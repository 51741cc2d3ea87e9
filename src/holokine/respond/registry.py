"""Which function answers which kind of event."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from holokine.describe.events import EventKind, SpectrumEvent, StaticEvent, SweepEvent, TimeEvent
from holokine.respond.answer_spectrum import answer_spectrum
from holokine.respond.answer_sweep import answer_sweep
from holokine.respond.answer_time import answer_time
from holokine.respond.bench import Bench
from holokine.respond.static import answer_static

__all__ = ["ANSWERS", "answer_event"]

ANSWERS: dict[type[EventKind], Callable[[Bench, str, Any], Any]] = {
    SpectrumEvent: answer_spectrum,
    TimeEvent: answer_time,
    StaticEvent: answer_static,
    SweepEvent: answer_sweep,
}


def answer_event(bench: Bench, name: str, event: EventKind) -> Any:
    """The result of an event, by its kind."""
    return ANSWERS[type(event)](bench, name, event)
