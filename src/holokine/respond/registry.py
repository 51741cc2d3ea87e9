"""Which function answers which kind of event."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

import numpy as np

from holokine.describe.events import (
    EventKind,
    RandomEvent,
    SpectrumEvent,
    StateEvent,
    StaticEvent,
    SweepEvent,
    TimeEvent,
)
from holokine.errors import EventError, first_few, headed
from holokine.later import Later

if TYPE_CHECKING:
    from holokine.respond.bench import Bench

__all__ = ["ANSWERS", "answer_event"]

ANSWERS: Mapping[type[EventKind], Callable[[Bench, str, Any], Any]] = Later(
    {
        SpectrumEvent: "holokine.respond.answer_spectrum:answer_spectrum",
        TimeEvent: "holokine.respond.answer_time:answer_time",
        StaticEvent: "holokine.respond.static:answer_static",
        StateEvent: "holokine.respond.static:answer_state",
        SweepEvent: "holokine.respond.answer_sweep:answer_sweep",
        RandomEvent: "holokine.respond.answer_random:answer_random",
    }
)


def answer_event(bench: Bench, name: str, event: EventKind) -> Any:
    """The result of an event, by its kind.

    Raises
    ------
    HolokineError
        It cannot be answered, or not in finite numbers.
    """
    # what overflows is looked at in the result
    with headed(path=("events", name)), np.errstate(over="ignore", invalid="ignore"):
        result = ANSWERS[type(event)](bench, name, event)
    refuse_infinite(name, result)
    return result


def refuse_infinite(name: str, result: Any) -> None:
    """Raise where a reading has no finite value.

    Raises
    ------
    EventError
        Naming the readings, and what such numbers come from.
    """
    sizes = np.asarray(result.peaks)
    # readings that an event of this kind cannot have are not numbers; of finite parts no others are
    wrong = np.flatnonzero(~np.isfinite(sizes))
    if not len(wrong):
        return
    from holokine.respond.combine import SpectrumResult
    from holokine.respond.static import StaticResult

    if isinstance(result, StaticResult | SpectrumResult):
        parts = result.displacement if isinstance(result, StaticResult) else result.modal
        if not np.isinf(parts).any():
            wrong = np.flatnonzero(np.isinf(sizes))
    if len(wrong):
        labels = first_few((result.reduced.readings[i].label for i in wrong), 4)
        raise EventError(
            f'event "{name}": {len(wrong)} of {len(sizes)} readings have no finite value ({labels}): numbers of the '
            "assembly or of the event are out of all proportion; look at their units",
            path=("events", name),
        )
